"""A program's pictures without its sound: as a moving picture (GIF, WebP), or as single frames.

Notes
-----
A GIF has one palette for all of it, made of all its frames, and is dithered in a steady pattern,
so that what does not move takes no room (libavfilter's palettegen and paletteuse).
"""

import io
import zipfile
from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from fractions import Fraction
from itertools import chain, pairwise
from pathlib import Path
from typing import Any

import av
import av.error
from av.filter import Graph
from PIL import Image

from kettle_core.assembly.export import Export
from kettle_core.errors import CutError
from kettle_core.program.plan import Plan
from kettle_media.encoding import BT709, LIMITED_RANGE
from kettle_media.program.program_file import Progress
from kettle_media.program.renderer import Renderer
from kettle_media.program.show import Show
from kettle_media.told import Told


@dataclass(frozen=True)
class Look:
    """How a moving picture is made: frames a second, size, colours of a GIF, quality of a WebP."""

    fps: int
    size: tuple[int, int]
    colours: int = 256
    quality: int = 80


# What is given up first is what is missed least: (share of fps, of size), colours, quality.
LADDER = (
    (1.0, 1.0, 256, 80),
    (1.0, 1.0, 128, 65),
    (0.8, 1.0, 64, 50),
    (0.8, 0.8, 64, 50),
    (0.6, 0.65, 64, 40),
    (0.5, 0.5, 48, 30),
    (0.4, 0.4, 32, 25),
    (0.35, 0.3, 32, 20),
)
LEAST_LINES = 90


def looks(order: Export, size: tuple[int, int]) -> Iterator[Look]:
    """How it is tried to be made, from the best on."""
    for share, scale, colours, quality in LADDER:
        wide, high = (max(2, round(side * scale / 2) * 2) for side in size)
        if high >= LEAST_LINES or scale == 1.0:
            yield Look(max(2, round(order.fps * share)), (wide, high), colours, quality)


def numbers_of(plan: Plan, fps: int) -> list[int]:
    """The frames of a plan that are seen at a lower rate."""
    count = max(1, round(plan.frames / plan.fps * fps))
    return [min(plan.frames - 1, int(n * plan.fps / fps)) for n in range(count)]


def write_moving(show: Show, target: Path, order: Export, on_progress: Progress) -> tuple[int, int]:
    """Write a show as GIF or WebP, no larger than its order allows.

    Returns
    -------
    tuple of int
        How many frames it has, how often it was made.

    Raises
    ------
    CutError
        If even the smallest is too large; it says how large that is.
    TakeError
        If something can't be read or written.
    """
    most, size = order.max_mb * 1e6, 0
    for tries, look in enumerate(looks(order, show.plan.frame_size), 1):
        numbers = numbers_of(show.plan, look.fps)
        _write(show, target, order.kind, look, numbers, on_progress)
        size = target.stat().st_size
        if not most or size <= most:
            return len(numbers), tries
    raise CutError(
        f"The smallest that it can be is {size / 1e6:.1f} MB. Allow more, or make it shorter.",
        "max_mb",
    )


def _write(
    show: Show, target: Path, kind: str, look: Look, numbers: list[int], tell: Progress
) -> None:
    renderer = Renderer(show.plan, show.sources, show.masks)
    passes = 2 if kind == "gif" else 1
    palette = None
    if kind == "gif":
        drawn = _counted(_frames(renderer, numbers, look), tell, 0, len(numbers) * passes)
        palette = _palette(drawn, look)
    drawn = _counted(
        _frames(renderer, numbers, look), tell, len(numbers) * (passes - 1), len(numbers) * passes
    )
    options = {"loop": "0"}
    told = Told(target, True, "{} cannot be written")
    with told, av.open(str(target), "w", format=kind, options=options) as container:
        if palette is None:
            stream: Any = container.add_stream("libwebp_anim", rate=look.fps)
            stream.options = {"quality": str(look.quality), "compression_level": "4"}
            stream.pix_fmt = "bgra"
            ready: Iterable[av.VideoFrame] = (f.reformat(format="bgra") for f in drawn)
        else:
            stream = container.add_stream("gif", rate=look.fps)
            stream.pix_fmt = "pal8"
            ready = _with_palette(drawn, palette, look)
        stream.width, stream.height = look.size
        for frame in ready:
            frame.time_base = Fraction(1, look.fps)
            container.mux(stream.encode(frame))
        container.mux(stream.encode(None))


def _counted(
    frames: Iterable[av.VideoFrame], tell: Progress, done: int, total: int
) -> Iterator[av.VideoFrame]:
    for number, frame in enumerate(frames, 1):
        yield frame
        tell(done + number, total)


def _frames(renderer: Renderer, numbers: list[int], look: Look) -> Iterator[av.VideoFrame]:
    """Frames as RGB at the size of a look, numbered."""
    drawn = renderer.frames(numbers)
    try:
        for number, buffer in enumerate(drawn):
            frame = _as_rgb(av.VideoFrame.from_numpy_buffer(buffer, format="yuv420p"), look.size)
            frame.pts, frame.time_base = number, Fraction(1, look.fps)
            yield frame
    finally:
        drawn.close()


def _as_rgb(frame: av.VideoFrame, size: tuple[int, int]) -> av.VideoFrame:
    frame.colorspace, frame.color_range = BT709, LIMITED_RANGE
    return frame.reformat(
        *size, "rgb24", src_colorspace="ITU709", dst_color_range="JPEG", interpolation="AREA"
    )


def _source(graph: Graph, look: Look) -> Any:
    return graph.add_buffer(
        width=look.size[0],
        height=look.size[1],
        format=av.VideoFormat("rgb24"),
        time_base=Fraction(1, look.fps),
    )


def _palette(frames: Iterable[av.VideoFrame], look: Look) -> Any:
    """The colours of all frames, as a picture of 16 × 16 px."""
    graph = Graph()
    begin, sink = _source(graph, look), graph.add("buffersink")
    # Those that change count more: what stands still is much of a lesson.
    make = graph.add("palettegen", f"max_colors={look.colours}:reserve_transparent=0")
    for one, other in pairwise((begin, make, sink)):
        one.link_to(other)
    graph.configure()
    for frame in frames:
        begin.push(frame)
    begin.push(None)
    found: Any = sink.pull()
    return found


def _with_palette(
    frames: Iterable[av.VideoFrame], palette: Any, look: Look
) -> Iterator[av.VideoFrame]:
    graph = Graph()
    begin, sink = _source(graph, look), graph.add("buffersink")
    colours = graph.add_buffer(
        width=palette.width,
        height=palette.height,
        format=palette.format,
        time_base=Fraction(1, look.fps),
    )
    use = graph.add("paletteuse", "dither=bayer:bayer_scale=4:diff_mode=rectangle")
    begin.link_to(use, 0, 0)
    colours.link_to(use, 0, 1)
    use.link_to(sink)
    graph.configure()
    palette.pts = 0
    colours.push(palette)
    colours.push(None)
    number = 0
    for frame in chain(frames, [None]):
        begin.push(frame)
        for found in _pulled(sink):
            found.pts, number = number, number + 1
            yield found


def _pulled(sink: Any) -> Iterator[Any]:
    """What is ready to be taken out of a graph."""
    with suppress(av.error.BlockingIOError, av.error.EOFError):
        while True:
            yield sink.pull()


def write_frames(show: Show, target: Path, on_progress: Progress) -> int:
    """Write each frame of a show as PNG, all in a ZIP archive; gives how many there are.

    Raises TakeError if something can't be read or written.
    """
    plan = show.plan
    drawn = Renderer(plan, show.sources, show.masks).frames(range(plan.frames))
    # PNG is packed already.
    told = Told(target, True, "{} cannot be written")
    with told, zipfile.ZipFile(target, "w", zipfile.ZIP_STORED) as archive:
        try:
            for number, buffer in enumerate(drawn, 1):
                frame = av.VideoFrame.from_numpy_buffer(buffer, format="yuv420p")
                data = io.BytesIO()
                rgb = _as_rgb(frame, plan.frame_size)
                Image.fromarray(rgb.to_ndarray()).save(data, "PNG", compress_level=3)
                archive.writestr(f"frame-{number:05d}.png", data.getvalue())
                on_progress(number, plan.frames)
        finally:
            drawn.close()
    return plan.frames
