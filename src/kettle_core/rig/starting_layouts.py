"""Scenes to begin with: starting layouts that fit themselves to the inputs picked for them."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from math import ceil

from kettle_core.errors import RigError
from kettle_core.rig.format import Format
from kettle_core.rig.rig import Input, Rig
from kettle_core.scene.layout import Box, crop_to_aspect, even, fit_inside
from kettle_core.scene.scene import Layer, Mask, Scene, SceneSound

SCREEN, CAMERA, ANY = "screen", "camera", "any"
CAMERA_KINDS = ("webcam", "video-file")
MARGIN = 0.04
GAP = 0.015
BESIDE = 0.8


@dataclass(frozen=True)
class StartingLayout:
    """`slots` are the pictures it needs, in order, the first at the back; a grid takes more."""

    name: str
    words: str
    slots: tuple[str, ...]
    takes_more: bool = False


_BOTH = (SCREEN, CAMERA)
STARTING_LAYOUTS = (
    StartingLayout("camera", "Camera only", (CAMERA,)),
    StartingLayout("screen", "Screen only", (SCREEN,)),
    StartingLayout("corner-top-left", "Screen, camera top left", _BOTH),
    StartingLayout("corner-top-right", "Screen, camera top right", _BOTH),
    StartingLayout("corner-bottom-left", "Screen, camera bottom left", _BOTH),
    StartingLayout("corner-bottom-right", "Screen, camera bottom right", _BOTH),
    StartingLayout("beside", "Screen at 80 %, camera beside it", _BOTH),
    StartingLayout("halves", "Half and half", (ANY, ANY)),
    StartingLayout("grid", "Several in a grid", (ANY, ANY), takes_more=True),
)


def starting_layout(name: str) -> StartingLayout:
    """The starting layout of a name. Raises RigError."""
    for layout in STARTING_LAYOUTS:
        if layout.name == name:
            return layout
    raise RigError(f"There is no starting layout “{name:.40}”. Choose one of the list.", "layout")


@dataclass(frozen=True)
class Place:
    """Where a layout puts a picture: box in frame px, crop in its own px, shape of its mask."""

    box: Box
    crop: Box
    shape: str = "rectangle"


def lay_out(name: str, sizes: Sequence[tuple[int, int]], kinds: Sequence[str], frame: Box) -> (
    tuple[Place, ...]
):  # fmt: skip
    """Places of pictures in a starting layout; no picture is distorted.

    Parameters
    ----------
    name : a starting layout
    sizes : (width, height) of each picture in px, in the layout's order
    kinds : kind of each, as of an input
    frame : Box

    Returns
    -------
    tuple of Place, one a picture, inside the frame

    Raises
    ------
    RigError
        If there is no such layout or it needs another number of pictures.
    """
    layout = starting_layout(name)
    wanted = len(layout.slots)
    if len(sizes) < wanted or (len(sizes) > wanted and not layout.takes_more):
        least = "at least " if layout.takes_more else ""
        plural = "" if wanted == 1 else "s"
        raise RigError(
            f"“{layout.words}” needs {least}{wanted} picture{plural}, got {len(sizes)}. "
            "Pick the inputs for it.",
            "inputs",
        )
    if name in ("camera", "screen"):
        return (_whole(sizes[0], frame),)
    if name == "beside":
        return _beside(sizes, frame)
    if name == "halves":
        half = even(frame.width / 2)
        rooms = (
            Box(0, 0, half, frame.height),
            Box(half, 0, frame.width - half, frame.height),
        )
        return tuple(_in_half(s, k, r) for s, k, r in zip(sizes, kinds, rooms, strict=True))
    if name == "grid":
        return _grid(sizes, frame)
    place = _whole(sizes[0], frame)
    _, down, across = name.split("-")
    box = corner_box(frame, left=across == "left", top=down == "top")
    return (place, Place(box, crop_to_aspect(*sizes[1], 1, 1), "circle"))


def corner_box(frame: Box, left: bool = False, top: bool = False) -> Box:
    """Place for a round webcam: two fifths of the frame's shorter side, in one of its corners."""
    size = even(min(frame.width, frame.height) * 0.4)
    margin = even(min(frame.width, frame.height) * MARGIN)
    return Box(
        margin if left else frame.width - size - margin,
        margin if top else frame.height - size - margin,
        size,
        size,
    )


def _whole(size: tuple[int, int], room: Box) -> Place:
    return Place(fit_inside(*size, room), Box(0, 0, *size))


def _beside(sizes: Sequence[tuple[int, int]], frame: Box) -> tuple[Place, ...]:
    gap = even(frame.width * GAP)
    room = Box(gap, gap, even(frame.width * BESIDE), frame.height - 2 * gap)
    screen = fit_inside(*sizes[0], room)
    screen = replace(screen, left=gap)
    rest = Box(screen.right + gap, gap, frame.width - screen.right - 2 * gap, room.height)
    crop = Box(0, 0, *sizes[1])
    if rest.width < rest.height:
        crop = crop_to_aspect(*sizes[1], 3, 4)
    camera = fit_inside(crop.width, crop.height, rest)
    return (Place(screen, Box(0, 0, *sizes[0])), Place(camera, crop))


def _in_half(size: tuple[int, int], kind: str, room: Box) -> Place:
    """A camera fills its half, a screen is whole in it."""
    if kind in CAMERA_KINDS:
        return Place(room, crop_to_aspect(*size, room.width, room.height))
    return _whole(size, room)


def _grid(sizes: Sequence[tuple[int, int]], frame: Box) -> tuple[Place, ...]:
    """Rows and columns that leave the least of the frame empty."""
    gap = even(frame.width * GAP / 2)

    def places(columns: int) -> tuple[Place, ...]:
        rows = ceil(len(sizes) / columns)
        across = (frame.width - gap * (columns + 1)) // columns
        down = (frame.height - gap * (rows + 1)) // rows
        found = []
        for n, size in enumerate(sizes):
            row, column = divmod(n, columns)
            short = columns * rows - len(sizes) if row == rows - 1 else 0
            left = gap + column * (across + gap) + short * (across + gap) // 2
            room = Box(even(left), even(gap + row * (down + gap)), across // 2 * 2, down // 2 * 2)
            found.append(_whole(size, room))
        return tuple(found)

    tried = [places(columns) for columns in range(1, len(sizes) + 1)]
    return max(tried, key=lambda found: sum(p.box.width * p.box.height for p in found))


def whole_layer(item: Input, room: Box, shape: str = "rectangle") -> Layer:
    """All of an input's picture, as large as fits; a circle takes the middle square."""
    width, height = item.size
    if shape == "circle":
        crop = crop_to_aspect(width, height, 1, 1)
        return Layer(item.id, item.id, fit_inside(1, 1, room), crop, mask=Mask(shape))
    return Layer(item.id, item.id, fit_inside(width, height, room), Box(0, 0, width, height))


def scene_sound(item: Input) -> SceneSound:
    """A sound heard in a scene; system audio lies 12 dB lower, under the voice."""
    return SceneSound(item.id, -12.0 if item.kind == "system-audio" else 0.0)


def scene_of_layout(
    scene_id: str, name: str, layout: str, items: Sequence[Input], format_: Format
) -> Scene:
    """A scene with inputs in a starting layout, without sounds. Raises RigError."""
    sizes, kinds = [i.size for i in items], [i.kind for i in items]
    places = lay_out(layout, sizes, kinds, format_.frame)
    layers = tuple(
        Layer(item.id, item.id, place.box, place.crop, mask=Mask(place.shape))
        for item, place in zip(items, places, strict=True)
    )
    if len({i.id for i in items}) < len(items):
        raise RigError("An input was picked twice; pick each once.", "inputs")
    return Scene(scene_id, name, layers, (), layout=layout)


def laid_out_again(rig: Rig, scene: Scene) -> Scene:
    """A scene that follows a starting layout, fitted to what its inputs are now."""
    if not scene.layout:
        return scene
    items = [rig.input(x.input_id) for x in scene.layers]
    sizes, kinds = [i.size for i in items], [i.kind for i in items]
    try:
        places = lay_out(scene.layout, sizes, kinds, rig.format.frame)
    except RigError:
        return replace(scene, layout="")
    layers = tuple(
        replace(layer, box=place.box, crop=place.crop)
        for layer, place in zip(scene.layers, places, strict=True)
    )
    return replace(scene, layers=layers)


def pick_inputs(layout: StartingLayout, inputs: Sequence[Input]) -> list[Input]:
    """The inputs that a layout begins with: the first of each kind that is on."""
    free = [i for i in inputs if i.on and i.is_picture and not i.is_still]
    picked: list[Input] = []
    for slot in layout.slots:
        fits = (i for i in free if i not in picked and _fits(slot, i))
        found = next(fits, next((i for i in free if i not in picked), None))
        if found:
            picked.append(found)
    if layout.takes_more:
        picked += [i for i in free if i not in picked and i.is_screen][:2]
    return picked


def _fits(slot: str, item: Input) -> bool:
    return slot == ANY or (item.is_screen if slot == SCREEN else item.kind in CAMERA_KINDS)


def first_scene(
    name: str, inputs: Sequence[Input], format_: Format, scene_id: str = "scene-1"
) -> Scene:
    """A scene to begin with: the first display whole, the first webcam as a circle in a corner.

    Every sound that is on is heard.
    """
    used = [i for i in inputs if i.on]
    screen = next((i for i in used if i.is_screen), None)
    webcam = next((i for i in used if i.kind in CAMERA_KINDS), None)
    seen = [i for i in (screen, webcam) if i]
    sounds = tuple(scene_sound(i) for i in used if not i.is_picture)
    if not seen:
        return Scene(scene_id, name, (), sounds, key="1")
    layout = "corner-bottom-right" if len(seen) > 1 else ("screen" if screen else "camera")
    scene = scene_of_layout(scene_id, name, layout, seen, format_)
    return replace(scene, sounds=sounds, key="1")
