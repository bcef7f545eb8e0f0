"""Changes of a rig's scenes: each takes a rig and gives a new one that holds together."""

from collections.abc import Sequence
from dataclasses import replace

from kettle_core.errors import RigError
from kettle_core.rig.changes import refitted, with_first_place
from kettle_core.rig.rig import Rig, unused_id
from kettle_core.rig.spots import seated, with_spots_moved
from kettle_core.rig.starting_layouts import laid_out_again, scene_of_layout, scene_sound
from kettle_core.scene.scene import MAX_LAYERS, MAX_SCENES, Layer, Scene, SceneSound

SCENE_KEYS = "1234567890"


def with_scene(rig: Rig, changed: Scene) -> Rig:
    """The rig with a scene changed. Raises RigError if it has no such scene."""
    rig.scene(changed.id)
    return replace(rig, scenes=tuple(changed if s.id == changed.id else s for s in rig.scenes))


def with_new_scene(rig: Rig, name: str, layout: str = "", inputs: Sequence[str] = ()) -> Rig:
    """The rig with one more scene at the end; it sounds as the default scene does.

    Parameters
    ----------
    name : str, "" for one made from the layout
    layout : a starting layout, "" for an empty scene
    inputs : ids of the inputs for it, the first at the back

    Raises
    ------
    RigError
        If the rig is full, or the layout does not go with the inputs.
    """
    scene_id = unused_id("scene", [s.id for s in rig.scenes])
    items = [rig.input(i) for i in inputs]
    for item in items:
        if not item.is_picture:
            raise RigError(f"“{item.name}” is a sound and cannot be seen.", "inputs")
    scene = Scene(scene_id, "Scene", (), ())
    if layout:
        scene = scene_of_layout(scene_id, "Scene", layout, items, rig.format)
    name = name or (" and ".join(i.name for i in items)[:70] if items else "Scene")
    return _with_scene_after(rig, replace(scene, sounds=_first_sounds(rig)), name, len(rig.scenes))


def _first_sounds(rig: Rig) -> tuple[SceneSound, ...]:
    sounds = rig.default_scene.sounds
    if any(s.heard for s in sounds):
        return sounds
    return tuple(scene_sound(i) for i in rig.inputs if i.on and not i.is_picture)


def with_scene_copied(rig: Rig, scene_id: str) -> Rig:
    """The rig with a copy of a scene right after it. Raises RigError."""
    scene = rig.scene(scene_id)
    copy = replace(scene, id=unused_id("scene", [s.id for s in rig.scenes]))
    return _with_scene_after(rig, copy, f"{scene.name[:60]} (copy)", rig.scenes.index(scene) + 1)


def _with_scene_after(rig: Rig, scene: Scene, name: str, place: int) -> Rig:
    if len(rig.scenes) >= MAX_SCENES:
        raise RigError(f"A rig has at most {MAX_SCENES} scenes; delete one first.", "scenes")
    taken, number, free = {s.name for s in rig.scenes}, 2, name
    while free in taken:
        free, number = f"{name} {number}", number + 1
    keys = {s.key for s in rig.scenes}
    key = next((k for k in SCENE_KEYS if k not in keys), "")
    made = replace(scene, name=free, key=key)
    return replace(rig, scenes=(*rig.scenes[:place], made, *rig.scenes[place:]))


def without_scene(rig: Rig, scene_id: str) -> Rig:
    """The rig without a scene. Raises RigError if it is the last one."""
    scene = rig.scene(scene_id)
    if len(rig.scenes) == 1:
        raise RigError(f"“{scene.name}” is the rig's only scene; make another one first.", "scene")
    return replace(rig, scenes=tuple(s for s in rig.scenes if s is not scene))


def with_scene_at(rig: Rig, scene_id: str, place: int) -> Rig:
    """The rig with a scene moved to a place among the scenes, counted from 0."""
    scene = rig.scene(scene_id)
    others = [s for s in rig.scenes if s is not scene]
    place = min(max(place, 0), len(others))
    return replace(rig, scenes=(*others[:place], scene, *others[place:]))


def with_scene_named(rig: Rig, scene_id: str, name: str, key: str) -> Rig:
    """The rig with a scene's name and key changed.

    Raises
    ------
    RigError
        If another scene has the name or the key; its field says which.
    """
    scene = rig.scene(scene_id)
    for other in rig.scenes:
        if other is not scene and other.name == name:
            raise RigError(f"Another scene is called “{name}”. Choose another name.", "name")
        if other is not scene and key and other.key == key:
            raise RigError(
                f"The key {key} calls “{other.name}” already. Choose another one.", "key"
            )
    return with_scene(rig, replace(scene, name=name, key=key))


def layer_of(scene: Scene, layer_id: str) -> Layer:
    """The layer of an id. Raises RigError."""
    for layer in scene.layers:
        if layer.id == layer_id:
            return layer
    raise RigError(
        f"“{scene.name}” has no such layer any more, so nothing was changed. Reload the page.",
        "layer",
    )


def with_layers(rig: Rig, scene_id: str, changed: Sequence[Layer]) -> Rig:
    """The rig with layers of a scene changed; a spot that one sits on moves with it.

    Raises
    ------
    RigError
        If the scene has no such layer.
    """
    scene = rig.scene(scene_id)
    by_id = {x.id: x for x in changed}
    before = {x.id: layer_of(scene, x.id) for x in changed}
    placed = any(
        (x.box, x.turn, x.crop, x.spot) != (b.box, b.turn, b.crop, b.spot)
        for x, b in ((x, before[x.id]) for x in changed)
    )
    layers = tuple(by_id.get(x.id, x) for x in scene.layers)
    layout = "" if placed else scene.layout
    rig = with_scene(rig, replace(scene, layers=layers, layout=layout))
    return with_spots_moved(rig, [(before[x.id], x) for x in changed])


def with_layer_added(rig: Rig, scene_id: str, input_id: str) -> Rig:
    """The rig with an input as one more layer of a scene. Raises RigError."""
    item = rig.input(input_id)
    scene = rig.scene(scene_id)
    if not item.is_picture:
        raise RigError(f"“{item.name}” is a sound and cannot be a layer.", "input")
    if len(scene.layers) >= MAX_LAYERS:
        raise RigError(
            f"“{scene.name}” has {MAX_LAYERS} layers, and a scene holds no more. "
            "Delete one first; nothing was changed.",
            "input",
        )
    return with_scene(rig, with_first_place(rig, item, scene))


def without_layers(rig: Rig, scene_id: str, ids: Sequence[str]) -> Rig:
    """The rig with layers of a scene deleted. Raises RigError."""
    scene = rig.scene(scene_id)
    for layer_id in ids:
        layer_of(scene, layer_id)
    layers = tuple(x for x in scene.layers if x.id not in ids)
    return with_scene(rig, replace(scene, layers=layers, layout=""))


def with_layer_at(rig: Rig, scene_id: str, layer_id: str, place: int) -> Rig:
    """The rig with a layer moved to a place in the order, 0 at the back. Raises RigError."""
    scene = rig.scene(scene_id)
    layer = layer_of(scene, layer_id)
    others = [x for x in scene.layers if x is not layer]
    place = min(max(place, 0), len(others))
    layers = (*others[:place], layer, *others[place:])
    return with_scene(rig, replace(scene, layers=layers, layout=""))


def with_input_exchanged(rig: Rig, scene_id: str, layer_id: str, input_id: str) -> Rig:
    """The rig with another input in a layer, fitted to the new picture's shape.

    A scene that still follows its starting layout is laid out again.

    Raises
    ------
    RigError
        If there is no such layer or input, or it is a sound.
    """
    scene = rig.scene(scene_id)
    layer = layer_of(scene, layer_id)
    before, after = rig.input(layer.input_id), rig.input(input_id)
    if not after.is_picture:
        raise RigError(f"“{after.name}” is a sound and cannot be a layer.", "input")
    fitted = replace(refitted(layer, before, after), input_id=after.id)
    fitted = seated(fitted, rig.spots)
    layers = tuple(fitted if x is layer else x for x in scene.layers)
    return with_scene(rig, laid_out_again(rig, replace(scene, layers=layers)))


def with_sound_heard(rig: Rig, scene_id: str, input_id: str, heard: bool) -> Rig:
    """The rig with an input heard in a scene, or not. Raises RigError."""
    item = rig.input(input_id)
    scene = rig.scene(scene_id)
    if item.is_picture:
        raise RigError(f"“{item.name}” is a picture and cannot be heard.", "input")
    known = any(s.input_id == input_id for s in scene.sounds)
    sounds = tuple(replace(s, heard=heard) if s.input_id == input_id else s for s in scene.sounds)
    if not known:
        sounds = (*sounds, replace(scene_sound(item), heard=heard))
    return with_scene(rig, replace(scene, sounds=sounds))
