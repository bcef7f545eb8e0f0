"""Scenes and spots as plain data: written, and read back with every field checked."""

import re
from typing import Any

from kettle_core.rig.reader import COLOUR_PATTERN, STILL_PATTERN, Reader
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import (
    CHANGE_OVERS,
    MASK_SHAPES,
    MAX_LAYERS,
    ChangeOver,
    ColourKey,
    Layer,
    Mask,
    Scene,
    SceneSound,
    Spot,
)

SCENE_GAIN_LIMITS_DB = (-60.0, 30.0)
SCENE_KEY_PATTERN = re.compile(r"[0-9]?")
MOST_EDGE_PX = 400
LONGEST_CHANGE_MS = 5000
MAX_SOUNDS = 64


def box_to_list(box: Box) -> list[int]:
    """[left, top, width, height]."""
    return [box.left, box.top, box.width, box.height]


def scene_to_dict(scene: Scene) -> dict[str, Any]:
    """Plain data that `read_scene` reads back to an equal scene."""
    own = scene.change_over
    return {
        "id": scene.id,
        "name": scene.name,
        "key": scene.key,
        "layout": scene.layout,
        "change_over": vars(own).copy() if own else None,
        "layers": [layer_to_dict(layer) for layer in scene.layers],
        "sounds": [
            {"input": s.input_id, "gain_db": s.gain_db, "heard": s.heard} for s in scene.sounds
        ],
    }


def layer_to_dict(layer: Layer) -> dict[str, Any]:
    """One layer of a scene."""
    return {
        "id": layer.id,
        "input": layer.input_id,
        "box": box_to_list(layer.box),
        "crop": box_to_list(layer.crop),
        "turn": layer.turn,
        "mirrored": layer.mirrored,
        "opacity": layer.opacity,
        "mask": vars(layer.mask).copy(),
        "colour_key": vars(layer.colour_key).copy() if layer.colour_key else None,
        "shown": layer.shown,
        "locked": layer.locked,
        "spot": layer.spot,
    }


def spot_to_dict(spot: Spot) -> dict[str, Any]:
    """A spot as plain data."""
    return {"id": spot.id, "name": spot.name, "box": box_to_list(spot.box), "turn": spot.turn}


def read_scene(reader: Reader, version: int) -> Scene:
    """Read a scene as a version of the rig wrote it. Raises RigError."""
    rows = reader.rows("layers", MAX_LAYERS)
    if version < 3:
        layers = tuple(_read_old_layer(r, n) for n, r in enumerate(rows))
    else:
        layers = tuple(_read_layer(r) for r in rows)
    sounds = tuple(
        SceneSound(r.key("input"), r.decimal("gain_db", *SCENE_GAIN_LIMITS_DB), r.truth("heard"))
        for r in reader.rows("sounds", MAX_SOUNDS)
    )
    scene = Scene(reader.key("id"), reader.text("name"), layers, sounds)
    if version < 3:
        return scene
    own = reader.value("change_over") is not None
    return Scene(
        scene.id,
        scene.name,
        layers,
        sounds,
        reader.matching("key", SCENE_KEY_PATTERN, "a digit or nothing"),
        reader.value("layout") and reader.key("layout"),
        read_change_over(reader.part("change_over")) if own else None,
    )


def _read_old_layer(reader: Reader, number: int) -> Layer:
    """A layer had no id, and its shape was a rectangle or a circle."""
    shape = reader.choice("shape", ("rectangle", "circle"))
    return Layer(
        f"layer-{number + 1}",
        reader.key("input"),
        reader.place("box"),
        reader.place("crop"),
        mask=Mask("ellipse" if shape == "circle" else shape),
        shown=reader.truth("shown"),
    )


def _read_layer(reader: Reader) -> Layer:
    keyed = reader.value("colour_key") is not None
    return Layer(
        reader.key("id"),
        reader.key("input"),
        reader.place("box"),
        reader.place("crop"),
        reader.decimal("turn", 0, 359.99),
        reader.truth("mirrored"),
        reader.number("opacity", 0, 100),
        _read_mask(reader.part("mask")),
        _read_colour_key(reader.part("colour_key")) if keyed else None,
        reader.truth("shown"),
        reader.truth("locked"),
        reader.value("spot") and reader.key("spot"),
    )


def _read_mask(reader: Reader) -> Mask:
    still = reader.value("still")
    return Mask(
        reader.choice("shape", MASK_SHAPES),
        reader.number("radius_px", 0, 4000),
        still and reader.matching("still", STILL_PATTERN, "64 digits 0-9 a-f"),
        reader.number("soft_px", 0, MOST_EDGE_PX),
        reader.number("border_px", 0, MOST_EDGE_PX),
        reader.matching("border_colour", COLOUR_PATTERN, "a colour such as #1d2b33"),
        reader.number("shadow_px", 0, MOST_EDGE_PX),
        reader.number("shadow_percent", 0, 100),
    )


def _read_colour_key(reader: Reader) -> ColourKey:
    return ColourKey(
        reader.matching("colour", COLOUR_PATTERN, "a colour such as #1d2b33"),
        reader.number("tolerance", 0, 100),
        reader.number("softness", 0, 100),
        reader.number("spill", 0, 100),
    )


def read_change_over(reader: Reader) -> ChangeOver:
    """A change-over. Raises RigError."""
    return ChangeOver(
        reader.choice("kind", CHANGE_OVERS), reader.number("length_ms", 0, LONGEST_CHANGE_MS)
    )


def read_spot(reader: Reader) -> Spot:
    """A spot. Raises RigError."""
    return Spot(
        reader.key("id"),
        reader.text("name"),
        reader.place("box"),
        reader.decimal("turn", 0, 359.99),
    )
