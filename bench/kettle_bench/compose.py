"""bench compose: CPU a frame of the composer, beside the same picture by a libavfilter graph."""

import time
from argparse import Namespace
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from kettle_core.picture.compose import Composer
from kettle_core.picture.picture import Picture, picture_from_i420
from kettle_core.rig.format import Format
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import Layer, Mask, Scene
from kettle_core.scene.scene_plan import plan_scene
from kettle_engine.process import work_frame_by_frame
from kettle_media.picture.scaling import Shrinker
from kettle_media.program.overlay_graph import overlay_graph

FRAMES = 150
LOGO_ALPHA = 140
TURN = 15
WEBCAM_BOX = Box(1380, 540, 480, 480)
LOGO_BOX = Box(40, 40, 200, 200)


@dataclass
class Material:
    """Pictures of changing content: two of the display, three of the webcam, one logo."""

    display: list[np.ndarray[Any, Any]]
    webcam: list[np.ndarray[Any, Any]]
    logo: np.ndarray[Any, Any]


def material() -> Material:
    """Noise over smooth slopes, the same every time."""
    rng = np.random.default_rng(3)

    def buffer(width: int, height: int) -> np.ndarray[Any, Any]:
        slope = np.linspace(40, 200, width)[None, :] + np.zeros((height * 3 // 2, 1))
        noisy = slope + rng.normal(0, 6, slope.shape)
        return np.clip(noisy, 16, 235).astype(np.uint8)

    return Material(
        [buffer(1920, 1080) for _ in range(2)],
        [buffer(1280, 720) for _ in range(3)],
        buffer(200, 200),
    )


def scene(turn: float) -> Scene:
    """A display at 1:1, a round webcam of 480 px, a translucent logo."""
    frame = Box(0, 0, 1920, 1080)
    return Scene(
        "bench",
        "Bench",
        (
            Layer("display", "display", frame, frame),
            Layer("webcam", "webcam", WEBCAM_BOX, Box(280, 0, 720, 720), turn, mask=Mask("circle")),
            Layer("logo", "logo", LOGO_BOX, Box(0, 0, 200, 200)),
        ),
        (),
    )


def six_layers() -> Scene:
    """Two webcams, a shrunk second display, a card and a logo over a display."""
    frame = Box(0, 0, 1920, 1080)
    return Scene(
        "six",
        "Six",
        (
            *scene(180).layers,
            Layer("aside", "aside", Box(40, 640, 640, 360), frame, mask=Mask(border_px=4)),
            Layer("second", "webcam", Box(760, 700, 480, 270), Box(0, 0, 1280, 720)),
            Layer("card", "logo", Box(1500, 60, 160, 160), Box(0, 0, 200, 200), opacity=80),
        ),
        (),
    )


def bench_compose(_: Namespace) -> int:
    """Measure the composer: CPU a frame and the ratio to a libavfilter graph."""
    work_frame_by_frame()
    made = material()
    rows = [
        (f"display 1:1, webcam turned by {TURN}°, logo", scene(TURN)),
        ("the same, webcam turned by 180°", scene(180)),
        ("six layers", six_layers()),
    ]
    ours_ms = []
    for words, found in rows:
        cost_ms = _cpu_ms(_ours(found, made))
        ours_ms.append(cost_ms)
        print(f"{words}: {cost_ms:.2f} ms CPU a frame")
    print(f"an unchanged frame: {_cpu_ms(_ours(scene(TURN), made, still=True)):.3f} ms")
    theirs_ms = _cpu_ms(
        overlay_graph(made.display, made.webcam, made.logo, LOGO_ALPHA, TURN, WEBCAM_BOX, LOGO_BOX)
    )
    again_ms = _cpu_ms(_ours(scene(TURN), made))
    ratio = min(ours_ms[0], again_ms) / theirs_ms
    print(f"the first by a libavfilter graph: {theirs_ms:.2f} ms; ratio {ratio:.2f}")
    return 0


def _cpu_ms(step: Callable[[int], object]) -> float:
    """CPU of a step in ms: the median of five runs, as other loads come and go."""
    step(0)
    found = []
    for _ in range(5):
        began = time.process_time()
        for n in range(FRAMES // 5):
            step(n)
        found.append((time.process_time() - began) / (FRAMES // 5) * 1e3)
    return float(np.median(found))


def _ours(found: Scene, made: Material, still: bool = False) -> Callable[[int], object]:
    displays = [picture_from_i420(b) for b in made.display]
    webcams = [picture_from_i420(b) for b in made.webcam]
    flat = picture_from_i420(made.logo)
    logo = Picture(flat.y, flat.u, flat.v, np.full((200, 200), LOGO_ALPHA, np.uint8))
    composer = Composer(plan_scene(found, Format().frame_size), None, Shrinker())

    def step(n: int) -> object:
        n = 0 if still else n
        display = displays[n % 2]
        pictures = {"display": display, "webcam": webcams[n % 3], "logo": logo, "aside": display}
        return composer.compose(pictures)

    return step
