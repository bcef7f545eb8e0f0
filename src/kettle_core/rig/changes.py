"""Changes of a rig: each takes a rig and gives a new one that holds together."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from fractions import Fraction

from kettle_core.errors import RigError
from kettle_core.rig.devices import DeviceInfo, Mode
from kettle_core.rig.format import Format
from kettle_core.rig.rig import MAX_INPUTS, Input, Rig, unused_id
from kettle_core.rig.spots import seated
from kettle_core.rig.starting_layouts import corner_box, laid_out_again, scene_sound, whole_layer
from kettle_core.scene.layout import Box, crop_to_aspect, fit_inside
from kettle_core.scene.region import place_region
from kettle_core.scene.scene import Layer, Scene


def with_crosspoint(rig: Rig, input_id: str, what: str, scene_id: str, on: bool) -> Rig:
    """The rig with one crosspoint of the patch sheet on or off.

    An input that has no place in a scene yet is given one.

    Parameters
    ----------
    rig : Rig
    input_id : str
    what : "recorded", or "seen" / "heard" in a scene
    scene_id : str, for "seen" and "heard"
    on : bool, how it will be, whatever it is now

    Raises
    ------
    RigError
        If there is no such crosspoint.
    """
    item = rig.input(input_id)
    if what == "recorded" and not item.is_still:
        return _with_inputs(rig, replace(item, recorded=on))
    scene = next((s for s in rig.scenes if s.id == scene_id), None)
    if scene is None or what != ("seen" if item.is_picture else "heard"):
        raise RigError(f"The patch sheet has no crosspoint “{what}” for “{item.name}”.", "scenes")
    if what == "seen":
        changed = _seen(rig, item, scene, on)
    elif any(x.input_id == input_id for x in scene.sounds):
        sounds = (replace(x, heard=on) if x.input_id == input_id else x for x in scene.sounds)
        changed = replace(scene, sounds=tuple(sounds))
    elif on:
        changed = replace(scene, sounds=(*scene.sounds, scene_sound(item)))
    else:
        changed = scene
    return replace(rig, scenes=tuple(changed if s is scene else s for s in rig.scenes))


def _seen(rig: Rig, item: Input, scene: Scene, on: bool) -> Scene:
    if on and not any(x.input_id == item.id for x in scene.layers):
        return with_first_place(rig, item, scene)
    layers = (replace(x, shown=on) if x.input_id == item.id else x for x in scene.layers)
    return replace(scene, layers=tuple(layers))


def with_first_place(rig: Rig, item: Input, scene: Scene) -> Scene:
    """A scene with one more layer: alone it fills the frame, a screen goes behind what is there."""
    frame = rig.format.frame
    layer = replace(_first_layer(item, frame, scene), id=_unused_layer_id(item, scene))
    screens = any(rig.input(x.input_id).is_screen for x in scene.layers if x.shown)
    behind = item.is_screen and not screens
    layers = (layer, *scene.layers) if behind else (*scene.layers, layer)
    return replace(scene, layers=layers, layout="")


def _unused_layer_id(item: Input, scene: Scene) -> str:
    return unused_id(item.id, [x.id for x in scene.layers])


def _first_layer(item: Input, frame: Box, scene: Scene) -> Layer:
    others = [x for x in scene.layers if x.shown]
    if not others or item.kind == "text":
        return whole_layer(item, frame)
    if item.is_screen and not any(x.input_id == item.id for x in scene.layers):
        return whole_layer(item, frame)
    if item.kind == "webcam":
        return whole_layer(item, corner_box(frame), "circle")
    size = 0.16 if item.kind == "picture" else 0.42
    width, height = round(frame.width * size), round(frame.height * size)
    margin = round(frame.height * 0.04)
    room = place_region(Box(margin, margin, width, height), frame.width, frame.height)
    return whole_layer(item, room)


def with_input(rig: Rig, changed: Input) -> Rig:
    """The rig with an input set up otherwise; layers follow a picture of another size.

    A device runs in one mode, so other inputs of the same device change theirs with it.

    Raises
    ------
    RigError
        If the rig has no such input.
    """
    before = rig.input(changed.id)
    inputs = [changed]
    if changed.mode != before.mode and changed.device:
        for other in rig.inputs:
            if other.device == changed.device and other.id != changed.id:
                inputs.append(in_mode(other, changed.mode))
    return _with_inputs(rig, *inputs)


def in_mode(item: Input, mode: Mode) -> Input:
    """An input in another mode; its crop is kept where it fits."""
    crop = item.looks.crop
    if crop and mode.width:
        crop = place_region(crop, mode.width, mode.height)
    return replace(item, mode=mode, looks=replace(item.looks, crop=crop))


def _with_inputs(rig: Rig, *changed: Input) -> Rig:
    by_id = {i.id: i for i in changed}
    resized = {i.id for i in changed if i.is_picture and i.size != rig.input(i.id).size}
    inputs = tuple(by_id.get(i.id, i) for i in rig.inputs)
    changed_rig = replace(rig, inputs=inputs)
    scenes = []
    for scene in rig.scenes:
        if not any(x.input_id in resized for x in scene.layers):
            scenes.append(scene)
            continue
        layers = tuple(
            seated(refitted(x, rig.input(x.input_id), by_id[x.input_id]), rig.spots)
            if x.input_id in resized
            else x
            for x in scene.layers
        )
        scenes.append(laid_out_again(changed_rig, replace(scene, layers=layers)))
    return replace(changed_rig, scenes=tuple(scenes))


def refitted(layer: Layer, before: Input, after: Input) -> Layer:
    """A layer that shows an input of another size: a whole picture stays whole, in the same room.

    What is cropped or masked keeps its box and takes the middle of the new picture.
    """
    width, height = after.size
    if layer.crop == Box(0, 0, *before.size) and layer.mask.shape == "rectangle":
        box = fit_inside(width, height, layer.box)
        return replace(layer, box=box, crop=Box(0, 0, width, height))
    crop = crop_to_aspect(width, height, layer.box.width, layer.box.height)
    return replace(layer, crop=crop)


def with_new_input(rig: Rig, item: Input) -> Rig:
    """The rig with one more input at the end, seen and heard nowhere yet. Raises RigError."""
    if len(rig.inputs) >= MAX_INPUTS:
        raise RigError(f"A rig has at most {MAX_INPUTS} inputs; delete one first.", "inputs")
    new_id = unused_id(item.id, [i.id for i in rig.inputs])
    added = replace(item, id=new_id)
    for other in rig.inputs:
        if other.device and other.device == item.device:
            added = in_mode(added, other.mode)
    return replace(rig, inputs=(*rig.inputs, added))


def without_input(rig: Rig, input_id: str) -> Rig:
    """The rig without an input and its places. Raises RigError if it is the last one."""
    item = rig.input(input_id)
    if len(rig.inputs) == 1:
        raise RigError(f"“{item.name}” is the rig's only input; add another one first.", "inputs")
    scenes = tuple(
        replace(
            s,
            layers=tuple(x for x in s.layers if x.input_id != input_id),
            sounds=tuple(x for x in s.sounds if x.input_id != input_id),
        )
        for s in rig.scenes
    )
    tracks = tuple(
        replace(t, sends=tuple(x for x in t.sends if x.input_id != input_id)) for t in rig.stems
    )
    inputs = tuple(i for i in rig.inputs if i.id != input_id)
    return replace(rig, inputs=inputs, scenes=scenes, stems=tracks)


def with_input_at(rig: Rig, input_id: str, place: int) -> Rig:
    """The rig with an input moved to a row of the patch sheet, counted from 0."""
    item = rig.input(input_id)
    others = [i for i in rig.inputs if i.id != input_id]
    place = min(max(place, 0), len(others))
    return replace(rig, inputs=(*others[:place], item, *others[place:]))


def with_format(rig: Rig, format_: Format) -> Rig:
    """The rig with another format; where the frame has another size layers follow in proportion."""
    if format_.frame_size == rig.format.frame_size:
        return replace(rig, format=format_)
    scale = frame_scale(rig.format, format_)
    spots = tuple(replace(s, box=_scaled_box(s.box, *scale)) for s in rig.spots)
    rig = replace(rig, format=format_, spots=spots)
    scenes = (
        replace(s, layers=tuple(seated(scaled_layer(x, *scale), spots) for x in s.layers))
        for s in rig.scenes
    )
    return replace(rig, scenes=tuple(laid_out_again(rig, s) for s in scenes))


def frame_scale(before: Format, after: Format) -> tuple[Fraction, Fraction]:
    """How many times as wide and as high the frame of another format is."""
    (width, height), (wide, high) = before.frame_size, after.frame_size
    return Fraction(wide, width), Fraction(high, height)


def scaled_layer(layer: Layer, across: Fraction, down: Fraction) -> Layer:
    """A layer on a frame that is so many times as wide and as high; it keeps its shape."""
    mask, smaller = layer.mask, min(across, down)
    lengths = {
        name: round(getattr(mask, name) * smaller)
        for name in ("radius_px", "soft_px", "border_px", "shadow_px")
    }
    return replace(layer, box=_scaled_box(layer.box, across, down), mask=replace(mask, **lengths))


def _scaled_box(box: Box, across: Fraction, down: Fraction) -> Box:
    left, top = round(box.left * across / 2) * 2, round(box.top * down / 2) * 2
    right, bottom = round(box.right * across / 2) * 2, round(box.bottom * down / 2) * 2
    room = Box(left, top, max(2, right - left), max(2, bottom - top))
    return fit_inside(box.width, box.height, room)


@dataclass(frozen=True)
class Substitution:
    """What was put in place of a device or mode that is not there; `sentence` for people."""

    input_id: str
    sentence: str


def fit_to_devices(rig: Rig, devices: Sequence[DeviceInfo]) -> tuple[Rig, list[Substitution]]:
    """A rig from elsewhere on the devices that are plugged in here.

    An input whose device is missing gets a free one of the same kind at the nearest mode;
    where there is none it stays as it is, off, until its device is plugged in.

    Returns
    -------
    Rig
    list of Substitution, in the order of the inputs
    """
    there = {d.id: d for d in devices}
    used = {i.device for i in rig.inputs if i.device in there}
    told = []
    for item in rig.inputs:
        if item.is_still:
            continue
        device = there.get(item.device)
        if device is None or device.kind != item.kind:
            free = (d for d in devices if d.kind == item.kind and d.id not in used)
            device = next(free, None)
            if device is None:
                rig = _with_inputs(rig, replace(item, on=False))
                sentence = (
                    f"“{item.name}” is not plugged in and nothing of its kind is free. "
                    "It is kept, but off."
                )
                told.append(Substitution(item.id, sentence))
                continue
            used.add(device.id)
            mode = nearest_mode(device.modes, item.mode)
            rig = with_input(rig, replace(in_mode(item, mode), device=device.id))
            sentence = (
                f"“{item.name}” is not plugged in; {device.name} was put in its place "
                f"at {mode.in_words()}."
            )
            told.append(Substitution(item.id, sentence))
        elif item.mode not in device.modes:
            mode = nearest_mode(device.modes, item.mode)
            rig = with_input(rig, in_mode(rig.input(item.id), mode))
            sentence = (
                f"“{item.name}” has no mode {item.mode.in_words()} here; "
                f"it is used at {mode.in_words()}."
            )
            told.append(Substitution(item.id, sentence))
    return rig, told


def nearest_mode(modes: Sequence[Mode], wanted: Mode) -> Mode:
    """The mode that differs least from the wanted one, in pixels first, then in rate."""
    return min(
        modes,
        key=lambda m: (
            abs(m.width * m.height - wanted.width * wanted.height),
            abs(m.sample_rate_hz - wanted.sample_rate_hz),
            abs(m.fps - wanted.fps),
            abs(m.channels - wanted.channels),
        ),
    )
