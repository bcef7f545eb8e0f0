"""What the drawing table shows, read and put into words; nothing is changed here."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from django import forms
from django.http import QueryDict

from kettle_core.errors import EngineError
from kettle_core.picture.colour_key import is_greyish
from kettle_core.picture.reading import ReadingSize, reading_sizes
from kettle_core.rig.rig import Input
from kettle_core.rig.rig import Rig as RigValues
from kettle_core.rig.spots import seats
from kettle_core.rig.starting_layouts import STARTING_LAYOUTS, lay_out, pick_inputs, starting_layout
from kettle_core.scene.layout import Box
from kettle_core.scene.placing import (
    bounds_of,
    outside_in_words,
    scale_in_words,
    scale_of,
    snap_lines,
)
from kettle_core.scene.scene import ChangeOver, ColourKey, Layer, Scene
from kettle_web.frame.asking import given
from kettle_web.frame.history import history
from kettle_web.models import Rig
from kettle_web.rigs.addresses import scene_address
from kettle_web.rigs.engines import shown_now, state_of
from kettle_web.scenes.forms import (
    ChangeOverForm,
    ColourKeyForm,
    CutForm,
    MaskForm,
    NewSceneForm,
    PlaceForm,
    SceneForm,
)

LAYER_FORMS = ("place", "cut", "mask", "colour_key")

SCENE_FORMS = ("scene", "change_over", "rigs_change_over")

GREEN_SCREEN = ColourKey("#3fa34d")


def table_data(values: RigValues, scene: Scene, selected: Sequence[str]) -> dict[str, Any]:
    """What the page draws over the picture: the frame, layers and lines to snap to."""
    frame = values.format.frame
    layers = []
    for layer in scene.layers:
        item = values.input(layer.input_id)
        layers.append(
            {
                "id": layer.id,
                "name": item.name,
                "scale": scale_in_words(layer)[0],
                "box": vars(layer.box),
                "crop": vars(layer.crop),
                "source": list(item.size),
                "turn": layer.turn,
                "mirrored": layer.mirrored,
                "shown": layer.shown and item.on,
                "locked": layer.locked,
                "spot": spot_name(values, layer),
                "selected": layer.id in selected,
            }
        )
    lines = [{**vars(line), "of": ""} for line in snap_lines(frame, ())]
    own = len(lines)
    for layer in scene.layers:
        if layer.shown:
            name = values.input(layer.input_id).name
            found = snap_lines(frame, [(name, bounds_of(layer.box, layer.turn))])[own:]
            lines += [{**vars(line), "of": layer.id} for line in found]
    return {"frame": [frame.width, frame.height], "layers": layers, "lines": lines}


def spot_name(values: RigValues, layer: Layer) -> str:
    """The name of the spot that a layer sits on, "" for none."""
    return next((s.name for s in values.spots if s.id == layer.spot), "")


def change_in_words(way: ChangeOver) -> str:
    """A change-over in words."""
    return "cut" if way.kind == "cut" else f"{way.kind}, {way.length_ms} ms"


def scene_forms(
    values: RigValues, scene: Scene, layer: Layer | None, stills: Sequence[Any]
) -> dict[str, forms.Form]:
    """The forms of the fact column with what is set now."""
    parts = LAYER_FORMS if layer else SCENE_FORMS
    return {part: make_form(part, values, scene, layer, stills) for part in parts}


def make_form(
    part: str,
    values: RigValues,
    scene: Scene,
    layer: Layer | None,
    stills: Sequence[Any],
    data: QueryDict | None = None,
) -> forms.Form:
    """One form, with what is set now, or with what was sent of it."""
    if data is not None:
        data = given(data, make_form(part, values, scene, layer, stills))
    if part == "scene":
        return SceneForm(data, initial={"name": scene.name, "key": scene.key})
    if part in ("change_over", "rigs_change_over"):
        rigs = part == "rigs_change_over"
        own = values.change_over if rigs else scene.change_over
        way = own or values.change_over
        words = "" if rigs else change_in_words(values.change_over)
        initial = {"kind": own.kind if own else "", "length_ms": way.length_ms}
        return ChangeOverForm(data, initial=initial, rigs_way=words, auto_id=f"id_{part}_%s")
    if layer is None:
        raise LookupError(part)
    box, crop = layer.box, layer.crop
    if part == "place":
        initial = {**vars(box), "turn": f"{layer.turn:g}", "opacity": layer.opacity}
        return PlaceForm(data, initial={**initial, "keep_aspect": True}, auto_id="id_place_%s")
    if part == "cut":
        width, height = values.input(layer.input_id).size
        cut = {
            "left": crop.left,
            "top": crop.top,
            "right": width - crop.right,
            "bottom": height - crop.bottom,
        }
        return CutForm(data, initial=cut, auto_id="id_cut_%s")
    if part == "mask":
        choices = [(s.digest, s.name) for s in stills]
        return MaskForm(data, initial=vars(layer.mask), stills=choices, auto_id="id_mask_%s")
    key = layer.colour_key
    initial = {**vars(key or GREEN_SCREEN), "on": key is not None}
    return ColourKeyForm(data, initial=initial, auto_id="id_key_%s")


def new_scene_form(values: RigValues, data: Mapping[str, Any] | None = None) -> NewSceneForm:
    """The form of starting layouts, with the inputs that they would begin with."""
    pictures = [(i.id, i.name) for i in values.inputs if i.is_picture]
    picked = [i.id for i in pick_inputs(starting_layout("corner-bottom-right"), values.inputs)]
    initial = dict(zip(("screen", "camera"), picked, strict=False))
    layouts = [(x.name, x.words) for x in STARTING_LAYOUTS]
    return NewSceneForm(data, initial=initial, layouts=layouts, inputs=pictures)


@dataclass(frozen=True)
class LayoutIcon:
    """A starting layout as a small drawing: boxes in a frame of 320 × 180."""

    name: str
    words: str
    boxes: tuple[tuple[Box, bool], ...]


def layout_icons() -> list[LayoutIcon]:
    """Every starting layout drawn by the layouts themselves; a circle is marked as round."""
    frame = Box(0, 0, 320, 180)
    found = []
    for layout in STARTING_LAYOUTS:
        count = 4 if layout.takes_more else len(layout.slots)
        kinds = ["webcam" if s == "camera" else "display" for s in layout.slots] + ["display"] * 2
        places = lay_out(layout.name, [(320, 180)] * count, kinds[:count], frame)
        boxes = tuple((p.box, p.shape == "circle") for p in places)
        found.append(LayoutIcon(layout.name, layout.words, boxes))
    return found


@dataclass(frozen=True)
class LayerFacts:
    """What follows from a layer's set-up, in words."""

    layer: Layer
    item: Input
    scale: str
    scale_words: str
    spot: str
    notes: tuple[str, ...]


def layer_facts(values: RigValues, layer: Layer, stills: Sequence[Any]) -> LayerFacts:
    """Scale, spot and what is worth a look about a layer."""
    item = values.input(layer.input_id)
    number, words = scale_in_words(layer)
    notes = [outside_in_words(layer, values.format.frame)]
    if not item.on:
        notes.append(f"{item.name} is off, so it is not seen. It is turned on on its page.")
    if layer.mask.shape == "picture":
        notes.append(_mask_note(layer, stills))
    if layer.colour_key and is_greyish(layer.colour_key.colour):
        notes.append(
            "The key colour is nearly grey, so much else goes with it. Pick it from the backdrop."
        )
    if layer.spot:
        others = len(seats(values, layer.spot)) - 1
        scenes = {scene_id for scene_id, _ in seats(values, layer.spot)}
        if others:
            notes.append(
                f"{others} more layer{'s' if others > 1 else ''} in {len(scenes)} "
                f"scene{'s' if len(scenes) > 1 else ''} move with it."
            )
    return LayerFacts(
        layer, item, number, words, spot_name(values, layer), tuple(n for n in notes if n)
    )


def _mask_note(layer: Layer, stills: Sequence[Any]) -> str:
    still = next((s for s in stills if s.digest == layer.mask.still), None)
    if still is None:
        return "The mask's picture is not in the library any more, so the whole layer is seen."
    box = layer.box
    if abs(still.width / still.height / (box.width / box.height) - 1) > 0.01:
        return (
            f"The mask has {still.width} × {still.height} px and the layer another shape: it was "
            "fitted inside, and nothing is seen beside it."
        )
    return ""


@dataclass(frozen=True)
class Reading:
    """The smallest text of a display and how it is seen; `height_px` is None without text."""

    item: Input
    scale: str
    height_px: float | None
    measured: bool
    sizes: tuple[ReadingSize, ...]


def readings(rig: Rig, scene: Scene) -> list[Reading]:
    """Reading sizes of the displays seen in a scene."""
    values = rig.values
    seen = [x for x in values.seen_in(scene).layers if values.input(x.input_id).is_screen]
    if not seen:
        return []
    try:
        measured = shown_now(rig).ask("reading", inputs=[x.input_id for x in seen])
    except EngineError:
        measured = {}
    found = []
    for layer in seen:
        height_px = measured.get(layer.input_id)
        sizes: tuple[ReadingSize, ...] = ()
        if height_px:
            sizes = reading_sizes(height_px, min(scale_of(layer)), values.format.frame_height)
        words = scale_in_words(layer)[0]
        item = values.input(layer.input_id)
        found.append(Reading(item, words, height_px, layer.input_id in measured, sizes))
    return found


def scene_page(
    rig: Rig, scene: Scene, selected: Sequence[str], forms_given: dict[str, forms.Form] | None
) -> dict[str, Any]:
    """Everything that the page of a scene shows."""
    values = rig.values
    layers = [x for x in scene.layers if x.id in selected]
    layer = layers[0] if layers else None
    stills = list(rig.stills.all())
    heard = {s.input_id: s.heard for s in scene.sounds}
    shown_forms = scene_forms(values, scene, layer if len(layers) == 1 else None, stills)
    if len(layers) > 1:
        shown_forms = {"mask": make_form("mask", values, scene, layer, stills)}
    shown_forms |= forms_given or {}
    following = _next_scene(values, scene)
    read = readings(rig, scene)
    return {
        "rig": rig,
        "values": values,
        "page": "scenes",
        "scene": scene,
        "scenes": values.scenes,
        "is_default": scene.id == values.default_scene.id,
        "selected": layers,
        "layer": layer,
        "facts": layer_facts(values, layer, stills) if layer else None,
        "forms": shown_forms,
        "table": table_data(values, scene, [x.id for x in layers]),
        "stack": [
            (x, values.input(x.input_id), x.id in selected, spot_name(values, x))
            for x in scene.layers
        ],
        "pictures": [i for i in values.inputs if i.is_picture],
        "sounds": [(i, heard.get(i.id, False)) for i in values.inputs if not i.is_picture],
        "voice": values.voice_in(scene),
        "readings": read,
        "unmeasured": any(not r.measured for r in read),
        "spots": values.spots,
        "next": following,
        "next_change": change_in_words(values.change_over_to(following)) if following else "",
        "icons": layout_icons(),
        "new": new_scene_form(values),
        "history": history(rig),
        "here": scene_address(rig.slug, scene.id, [x.id for x in layers]),
        "engine": state_of(rig),
        "frame": values.format,
    }


def _next_scene(values: RigValues, scene: Scene) -> Scene | None:
    """The scene that is played to: the following one, from the last one the first."""
    if len(values.scenes) < 2:
        return None
    here = values.scenes.index(scene)
    return values.scenes[(here + 1) % len(values.scenes)]
