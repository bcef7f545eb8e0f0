"""What each form and button of the drawing table changes in the rig."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from kettle_core.errors import RigError
from kettle_core.rig import scene_changes, spots
from kettle_core.rig.rig import Rig
from kettle_core.rig.starting_layouts import scene_of_layout, starting_layout
from kettle_core.scene import placing
from kettle_core.scene.layout import Box, fit_inside
from kettle_core.scene.region import SIDES
from kettle_core.scene.scene import ChangeOver, ColourKey, Layer, Mask, Scene
from kettle_web.scenes.forms import PLACEMENTS, Placement

Values = dict[str, Any]

PICK_FIRST = "Pick a layer first: nothing was changed."


@dataclass(frozen=True)
class Table:
    """What a change is made to: the scene, and the layers that are selected in it."""

    rig: Rig
    scene: Scene
    layers: tuple[Layer, ...]

    @property
    def layer(self) -> Layer:
        """The first selected layer. Raises RigError."""
        if not self.layers:
            raise RigError(PICK_FIRST, "layer")
        return self.layers[0]

    def free(self) -> tuple[Layer, ...]:
        """The selected layers that may be moved. Raises RigError if there are none."""
        found = tuple(x for x in self.layers if not x.locked)
        if not found:
            names = " and ".join(self.rig.input(x.input_id).name for x in self.layers)
            raise RigError(
                f"{names} is locked, so nothing moved. Unlock it first." if names else PICK_FIRST,
                "layer",
            )
        return found

    def with_layers(self, changed: Sequence[Layer]) -> Rig:
        """The rig with layers of the scene changed."""
        return scene_changes.with_layers(self.rig, self.scene.id, changed)


def scene(table: Table, data: Values) -> Rig:
    """Name and key."""
    name, key = data["name"].strip(), data["key"]
    return scene_changes.with_scene_named(table.rig, table.scene.id, name, key)


def default(table: Table, _: Values) -> Rig:
    """The scene that a take begins with."""
    return replace(table.rig, default_scene_id=table.scene.id)


def change_over(table: Table, data: Values) -> Rig:
    """How the scene comes in: its own way, or the rig's."""
    own = ChangeOver(data["kind"], data["length_ms"]) if data["kind"] else None
    return scene_changes.with_scene(table.rig, replace(table.scene, change_over=own))


def rigs_change_over(table: Table, data: Values) -> Rig:
    """How scenes come in that have no way of their own."""
    return replace(table.rig, change_over=ChangeOver(data["kind"] or "cut", data["length_ms"]))


def heard(table: Table, data: Values) -> Rig:
    """A sound heard in the scene, or not."""
    on = data["on"] == "1"
    return scene_changes.with_sound_heard(table.rig, table.scene.id, data["input"], on)


def place(table: Table, data: Values) -> Rig:
    """Exact place; with the aspect ratio kept the side that was not typed follows."""
    layer = table.free()[0]
    before = layer.box
    width, height = data["width"], data["height"]
    if data["keep_aspect"] and width != before.width:
        height = max(1, round(width * before.height / before.width))
    elif data["keep_aspect"] and height != before.height:
        width = max(1, round(height * before.width / before.height))
    box = Box(data["left"], data["top"], width, height)
    turn = round(data["turn"] % 360, 2)
    changed = replace(layer, box=box, turn=turn, opacity=data["opacity"])
    return table.with_layers([changed])


def placements(table: Table, data: Values) -> Rig:
    """Layers dragged, resized, turned or cropped on the sheet."""
    return table.with_layers(_placed(table.rig, table.scene, PLACEMENTS.read(data["placements"])))


def tried_scene(rig: Rig, scene_id: str, rows: Any) -> Scene:
    """A scene as it would be with layers placed otherwise. Raises RigError."""
    found = rig.scene(scene_id)
    by_id = {x.id: x for x in _placed(rig, found, PLACEMENTS.read_plain(rows))}
    return replace(found, layers=tuple(by_id.get(x.id, x) for x in found.layers))


def _placed(rig: Rig, found: Scene, wanted: Sequence[Placement]) -> list[Layer]:
    changed = []
    for place in wanted:
        layer = scene_changes.layer_of(found, place.id)
        if not Box(0, 0, *rig.input(layer.input_id).size).holds(place.crop):
            raise RigError("The crop lies outside the picture, so nothing was changed.", "layer")
        if not layer.locked:
            turn = round(place.turn, 2) % 360
            changed.append(replace(layer, box=place.box, crop=place.crop, turn=turn))
    return changed


def cut(table: Table, data: Values) -> Rig:
    """What is cut off at each side."""
    layer = table.free()[0]
    width, height = table.rig.input(layer.input_id).size
    left, top, right, bottom = (data[side] for side in SIDES)
    if width - left - right < placing.LEAST_PX or height - top - bottom < placing.LEAST_PX:
        raise RigError(
            f"The picture has {width} × {height} px, and at least {placing.LEAST_PX} px each way "
            "must be left. Cut off less.",
            "left" if width - left - right < placing.LEAST_PX else "top",
        )
    crop = Box(left, top, width - left - right, height - top - bottom)
    return table.with_layers([placing.recropped(layer, crop)])


def mask(table: Table, data: Values) -> Rig:
    """Shape, edge, border, shadow, of every selected layer."""
    made = Mask(**{name: data[name] for name in Mask.__dataclass_fields__})
    return table.with_layers([replace(x, mask=made) for x in table.layers])


def mask_file(table: Table, data: Values) -> Rig:
    """A picture that was just put into the library as the mask."""
    changed = []
    for layer in table.layers:
        made = replace(layer.mask, shape="picture", still=data["still"])
        changed.append(replace(layer, mask=made))
    return table.with_layers(changed)


def colour_key(table: Table, data: Values) -> Rig:
    """A plain backdrop taken out, or not."""
    key = None
    if data["on"]:
        key = ColourKey(data["colour"], data["tolerance"], data["softness"], data["spill"])
    return table.with_layers([replace(x, colour_key=key) for x in table.layers])


def shown(table: Table, data: Values) -> Rig:
    """All shown or hidden."""
    return _switched(table, "shown", data)


def locked(table: Table, data: Values) -> Rig:
    """Locked in place or free."""
    return _switched(table, "locked", data)


def mirrored(table: Table, data: Values) -> Rig:
    """Left and right exchanged, or not."""
    return _switched(table, "mirrored", data)


def _switched(table: Table, name: str, data: Values) -> Rig:
    """A switch of all layers as it is wanted, whatever it is now. Raises RigError."""
    if not table.layers:
        raise RigError(PICK_FIRST, "layer")
    on: Any = {name: data["how"] == "on"}
    return table.with_layers([replace(x, **on) for x in table.layers])


def quarter(table: Table, _: Values) -> Rig:
    """Turned clockwise by a quarter."""
    return table.with_layers([replace(x, turn=(x.turn + 90) % 360) for x in table.free()])


def one_to_one(table: Table, _: Values) -> Rig:
    """A px of the frame for each px of the picture."""
    return table.with_layers([placing.at_one_to_one(x) for x in table.free()])


def whole(table: Table, _: Values) -> Rig:
    """All of the picture, as large as fits into the frame."""
    changed = []
    for layer in table.free():
        size = table.rig.input(layer.input_id).size
        box = fit_inside(*size, table.rig.format.frame)
        changed.append(replace(layer, box=box, crop=Box(0, 0, *size), turn=0.0))
    return table.with_layers(changed)


def align(table: Table, data: Values) -> Rig:
    """Moved to a common edge or centre."""
    frame = table.rig.format.frame
    return table.with_layers(placing.aligned(table.free(), data["how"], frame))


def distribute(table: Table, data: Values) -> Rig:
    """Equal gaps."""
    return table.with_layers(placing.distributed(table.free(), data["how"] == "across"))


def same_size(table: Table, data: Values) -> Rig:
    """As wide or as high as the first."""
    return table.with_layers(placing.same_size(table.free(), data["how"]))


def stack(table: Table, data: Values) -> Rig:
    """Another place in the order: a number, or one to the front or the back."""
    here = table.scene.layers.index(table.layer)
    by = {"front": here + 1, "back": here - 1}
    at = by[data["to"]] if data["to"] in by else _number(data["to"])
    return scene_changes.with_layer_at(table.rig, table.scene.id, table.layer.id, at)


def _number(text: str) -> int:
    try:
        return int(text)
    except ValueError as error:
        raise RigError("This layer can't be moved there. Reload the page.", "layer") from error


def exchange(table: Table, data: Values) -> Rig:
    """Another input in the layer."""
    rig, layer = table.rig, table.layer
    return scene_changes.with_input_exchanged(rig, table.scene.id, layer.id, data["input"])


def add(table: Table, data: Values) -> Rig:
    """One more layer."""
    return scene_changes.with_layer_added(table.rig, table.scene.id, data["input"])


def delete(table: Table, _: Values) -> Rig:
    """Layers taken out of the scene."""
    if not table.layers:
        raise RigError(PICK_FIRST, "layer")
    ids = [x.id for x in table.layers]
    return scene_changes.without_layers(table.rig, table.scene.id, ids)


def layout(table: Table, data: Values) -> Rig:
    """The scene's pictures in a starting layout; its sounds stay."""
    items = [table.rig.input(i) for i in layout_inputs(data)]
    old = table.scene
    made = scene_of_layout(old.id, old.name, data["layout"], items, table.rig.format)
    return scene_changes.with_scene(table.rig, replace(old, layers=made.layers, layout=made.layout))


def layout_inputs(data: Values) -> list[str]:
    """Ids of the inputs picked for a starting layout, in its order."""
    if not data["layout"]:
        return []
    wanted = starting_layout(data["layout"])
    if wanted.slots == ("camera",):
        return [data["camera"]] if data["camera"] else []
    picked = [i for i in (data["screen"], data["camera"], data["third"], data["fourth"]) if i]
    return picked if wanted.takes_more else picked[: len(wanted.slots)]


def spot_save(table: Table, data: Values) -> Rig:
    """The layer's placement as a new spot, with the layer on it."""
    rig, spot = spots.with_spot_saved(table.rig, table.layer, _spot_name(data))
    return scene_changes.with_layers(rig, table.scene.id, [spots.sat(table.layer, spot)])


def spot_sit(table: Table, data: Values) -> Rig:
    """The layers put on a spot."""
    spot = spots.spot_of(table.rig, data["spot"])
    return table.with_layers([spots.sat(x, spot) for x in table.layers])


def spot_leave(table: Table, _: Values) -> Rig:
    """The layers left where they are, on no spot."""
    return table.with_layers([replace(x, spot="") for x in table.layers])


def spot_name(table: Table, data: Values) -> Rig:
    """Another name for the spot that the layer sits on."""
    spot = spots.spot_of(table.rig, table.layer.spot)
    return spots.with_spot_named(table.rig, spot, _spot_name(data))


def _spot_name(data: Values) -> str:
    name = str(data["name"]).strip()
    if not 0 < len(name) <= 80:
        raise RigError("A spot needs a name of 1 to 80 characters. Type one.", "name")
    return name


def spot_delete(table: Table, data: Values) -> Rig:
    """A spot taken out of the rig; its layers stay where they are."""
    return spots.without_spot(table.rig, data["spot"])


Change = Callable[[Table, Values], Rig]

CHANGES: dict[str, tuple[Change, str]] = {
    "scene": (scene, "name or key changed"),
    "default": (default, "made the default scene"),
    "change_over": (change_over, "change-over changed"),
    "rigs_change_over": (rigs_change_over, "the rig's change-over changed"),
    "heard": (heard, "sounds changed"),
    "place": (place, "placed"),
    "placements": (placements, "moved"),
    "cut": (cut, "cropped"),
    "mask": (mask, "mask changed"),
    "mask_file": (mask_file, "mask changed"),
    "colour_key": (colour_key, "colour key changed"),
    "shown": (shown, "shown or hidden"),
    "locked": (locked, "locked or unlocked"),
    "mirrored": (mirrored, "mirrored"),
    "quarter": (quarter, "turned by 90°"),
    "one_to_one": (one_to_one, "set to 1:1"),
    "whole": (whole, "fitted to the frame"),
    "align": (align, "aligned"),
    "distribute": (distribute, "distributed"),
    "same_size": (same_size, "made the same size"),
    "stack": (stack, "moved in the order"),
    "exchange": (exchange, "input exchanged"),
    "add": (add, "layer added"),
    "delete": (delete, "layer deleted"),
    "layout": (layout, "laid out"),
    "spot_save": (spot_save, "spot saved"),
    "spot_name": (spot_name, "spot renamed"),
    "spot_sit": (spot_sit, "put on a spot"),
    "spot_leave": (spot_leave, "taken off its spot"),
    "spot_delete": (spot_delete, "spot deleted"),
}
