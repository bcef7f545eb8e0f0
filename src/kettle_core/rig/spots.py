"""Spots: named placements of the rig; layers of any scene that sit on one move with it."""

from collections.abc import Sequence
from dataclasses import replace

from kettle_core.errors import RigError
from kettle_core.rig.rig import Rig, unused_id
from kettle_core.scene.layout import Box, fit_inside
from kettle_core.scene.scene import MAX_SPOTS, Layer, Spot


def spot_of(rig: Rig, spot_id: str) -> Spot:
    """The spot of an id. Raises RigError."""
    for spot in rig.spots:
        if spot.id == spot_id:
            return spot
    raise RigError("The rig has no such spot any more. Reload the page.", "spot")


def sat(layer: Layer, spot: Spot) -> Layer:
    """A layer on a spot: as large as fits into it, in its middle, turned with it."""
    box, crop = spot.box, layer.crop
    across, down = box.width * crop.height, box.height * crop.width
    if abs(across - down) > max(crop.width, crop.height):
        box = fit_inside(crop.width, crop.height, spot.box)
    return replace(layer, box=box, turn=spot.turn, spot=spot.id)


def with_spot_saved(rig: Rig, layer: Layer, name: str) -> tuple[Rig, Spot]:
    """The rig with a layer's placement as a new spot.

    Raises
    ------
    RigError
        If another spot has the name or the rig is full.
    """
    if len(rig.spots) >= MAX_SPOTS:
        raise RigError(f"A rig has at most {MAX_SPOTS} spots; delete one first.", "name")
    _need_free(rig.spots, name)
    spot = Spot(unused_id("spot", [s.id for s in rig.spots]), name, layer.box, layer.turn)
    return replace(rig, spots=(*rig.spots, spot)), spot


def _need_free(others: Sequence[Spot], name: str) -> None:
    if any(s.name == name for s in others):
        raise RigError(f"Another spot is called “{name}”. Choose another name.", "name")


def with_spot_named(rig: Rig, spot: Spot, name: str) -> Rig:
    """The rig with a spot renamed. Raises RigError if another one has the name."""
    _need_free([s for s in rig.spots if s.id != spot.id], name)
    return with_spot(rig, replace(spot, name=name))


def with_spot(rig: Rig, changed: Spot) -> Rig:
    """The rig with a spot changed, and with it every layer on it. Raises RigError."""
    spot_of(rig, changed.id)
    spots = tuple(changed if s.id == changed.id else s for s in rig.spots)
    scenes = []
    for scene in rig.scenes:
        layers = tuple(sat(x, changed) if x.spot == changed.id else x for x in scene.layers)
        layout = scene.layout if layers == scene.layers else ""
        scenes.append(replace(scene, layers=layers, layout=layout))
    return replace(rig, spots=spots, scenes=tuple(scenes))


def without_spot(rig: Rig, spot_id: str) -> Rig:
    """The rig without a spot; layers that sat on it stay where they are. Raises RigError."""
    spot = spot_of(rig, spot_id)
    scenes = tuple(
        replace(
            scene,
            layers=tuple(replace(x, spot="") if x.spot == spot.id else x for x in scene.layers),
        )
        for scene in rig.scenes
    )
    return replace(rig, spots=tuple(s for s in rig.spots if s is not spot), scenes=scenes)


def with_spots_moved(rig: Rig, changes: Sequence[tuple[Layer, Layer]]) -> Rig:
    """The rig with the spots of layers that were placed anew, each given before and after.

    Where several layers of one spot were moved together, the first decides.
    """
    moved: set[str] = set()
    for before, after in changes:
        if not after.spot or after.spot != before.spot or after.spot in moved:
            continue
        if (before.box, before.turn) != (after.box, after.turn):
            spot = spot_of(rig, after.spot)
            box = _moved(spot.box, before.box, after.box)
            rig = with_spot(rig, replace(spot, box=box, turn=after.turn))
            moved.add(spot.id)
    return rig


def _moved(box: Box, before: Box, after: Box) -> Box:
    """A spot's box after what sits on it was moved and resized."""
    across, down = after.width / before.width, after.height / before.height
    width, height = round(box.width * across), round(box.height * down)
    left = after.left + round((box.left - before.left) * across)
    top = after.top + round((box.top - before.top) * down)
    return Box(left, top, max(1, width), max(1, height))


def seated(layer: Layer, spots: Sequence[Spot]) -> Layer:
    """A layer fitted to the spot that it sits on, if it sits on one."""
    spot = next((s for s in spots if s.id == layer.spot), None)
    return sat(layer, spot) if spot else layer


def seats(rig: Rig, spot_id: str) -> list[tuple[str, str]]:
    """Scene and layer ids of what sits on a spot."""
    return [(s.id, x.id) for s in rig.scenes for x in s.layers if x.spot == spot_id]
