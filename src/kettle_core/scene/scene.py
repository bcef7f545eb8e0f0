"""Scenes as values: layers with their masks and keys, spots, sounds, change-overs."""

from dataclasses import dataclass, field
from typing import Annotated

from annotated_types import Interval, MaxLen

from kettle_core.fields import (
    Colour,
    Degrees,
    Id,
    Matching,
    Name,
    OneOf,
    OptionalDigest,
    OptionalId,
    Percent,
    within,
)
from kettle_core.scene.layout import Box

MASK_SHAPES = ("rectangle", "circle", "ellipse", "picture")
CHANGE_OVERS = ("cut", "crossfade", "glide")
MAX_SCENES = 32
MAX_LAYERS = 64
MAX_SPOTS = 64
MAX_SOUNDS = 64
SCENE_GAIN_LIMITS_DB = (-60.0, 30.0)
MOST_EDGE_PX = 400
LONGEST_CHANGE_MS = 5000
EdgePx = Annotated[int, Interval(ge=0, le=MOST_EDGE_PX)]


@dataclass(frozen=True)
class Mask:
    """What of a layer's box is seen, and its edge; lengths in px of the frame.

    A circle is the largest one in the middle of the box. A picture of the rig's library
    (`still`) is fitted into the box, and where it is white the layer is seen. The edge falls
    off over `soft_px`; a border lies inside the edge; a shadow spreads `shadow_px` around it,
    half as far down, and darkens by `shadow_percent`.
    """

    shape: Annotated[str, OneOf(MASK_SHAPES)] = "rectangle"
    radius_px: Annotated[int, Interval(ge=0, le=4000)] = 0
    still: OptionalDigest = ""
    soft_px: EdgePx = 0
    border_px: EdgePx = 0
    border_colour: Colour = "#ffffff"
    shadow_px: EdgePx = 0
    shadow_percent: Percent = 45

    @property
    def is_plain(self) -> bool:
        """Whether all of the box is seen, up to a sharp edge."""
        return self.shape == "rectangle" and self.radius_px == self.soft_px == 0


@dataclass(frozen=True)
class ColourKey:
    """A plain backdrop taken out: its colour as #rrggbb; tolerance, softness, spill in %."""

    colour: Colour
    tolerance: Percent = 8
    softness: Percent = 6
    spill: Percent = 100


@dataclass(frozen=True)
class Layer:
    """An input placed in a scene.

    `box` is where it lies before it is turned by `turn` degrees clockwise about its middle,
    in frame px; it may lie outside the frame. `crop` is what is used of the input's picture,
    in that picture's px. `spot` is the id of the spot it sits on, "" for none.
    """

    id: Id
    input_id: Id
    box: Box
    crop: Box
    turn: Degrees = 0.0
    mirrored: bool = False
    opacity: Percent = 100
    mask: Mask = field(default=Mask())
    colour_key: ColourKey | None = None
    shown: bool = True
    locked: bool = False
    spot: OptionalId = ""


@dataclass(frozen=True)
class Spot:
    """A named placement: the room that a layer is fitted into, and its turn."""

    id: Id
    name: Name
    box: Box
    turn: Degrees = 0.0


@dataclass(frozen=True)
class SceneSound:
    """An input in the mix of a scene; one that is not heard keeps its gain."""

    input_id: Id
    gain_db: Annotated[float, within(*SCENE_GAIN_LIMITS_DB)] = 0.0
    heard: bool = True


@dataclass(frozen=True)
class ChangeOver:
    """How a scene comes in: cut, crossfade, or glide (what is in both moves, the rest fades)."""

    kind: Annotated[str, OneOf(CHANGE_OVERS)] = "cut"
    length_ms: Annotated[int, Interval(ge=0, le=LONGEST_CHANGE_MS)] = 400


@dataclass(frozen=True)
class Scene:
    """A named composition; layers lie in order, the first at the back.

    `key` is the digit that calls it. `layout` is the starting layout that its layers
    still follow, "" once one was placed by hand. Without its own `change_over` it comes in as
    the rig says.
    """

    id: Id
    name: Name
    layers: Annotated[tuple[Layer, ...], MaxLen(MAX_LAYERS)]
    sounds: Annotated[tuple[SceneSound, ...], MaxLen(MAX_SOUNDS)]
    key: Annotated[str, Matching("[0-9]?", "a digit or nothing")] = ""
    layout: OptionalId = ""
    change_over: ChangeOver | None = None
