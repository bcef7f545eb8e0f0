"""Scenes as values: layers with their masks and keys, spots, sounds, change-overs."""

from dataclasses import dataclass, field

from kettle_core.scene.layout import Box

MASK_SHAPES = ("rectangle", "circle", "ellipse", "picture")
CHANGE_OVERS = ("cut", "crossfade", "glide")
MAX_SCENES = 32
MAX_LAYERS = 64
MAX_SPOTS = 64


@dataclass(frozen=True)
class Mask:
    """What of a layer's box is seen, and its edge; lengths in px of the frame.

    A circle is the largest one in the middle of the box. A picture of the rig's library
    (`still`) is fitted into the box, and where it is white the layer is seen. The edge falls
    off over `soft_px`; a border lies inside the edge; a shadow spreads `shadow_px` around it,
    half as far down, and darkens by `shadow_percent`.
    """

    shape: str = "rectangle"
    radius_px: int = 0
    still: str = ""
    soft_px: int = 0
    border_px: int = 0
    border_colour: str = "#ffffff"
    shadow_px: int = 0
    shadow_percent: int = 45

    @property
    def is_plain(self) -> bool:
        """Whether all of the box is seen, up to a sharp edge."""
        return self.shape == "rectangle" and self.radius_px == self.soft_px == 0


@dataclass(frozen=True)
class ColourKey:
    """A plain backdrop taken out: its colour as #rrggbb; tolerance, softness, spill in %."""

    colour: str
    tolerance: int = 8
    softness: int = 6
    spill: int = 100


@dataclass(frozen=True)
class Layer:
    """An input placed in a scene.

    `box` is where it lies before it is turned by `turn` degrees clockwise about its middle,
    in frame px; it may lie outside the frame. `crop` is what is used of the input's picture,
    in that picture's px. `spot` is the id of the spot it sits on, "" for none.
    """

    id: str
    input_id: str
    box: Box
    crop: Box
    turn: float = 0.0
    mirrored: bool = False
    opacity: int = 100
    mask: Mask = field(default=Mask())
    colour_key: ColourKey | None = None
    shown: bool = True
    locked: bool = False
    spot: str = ""


@dataclass(frozen=True)
class Spot:
    """A named placement: the room that a layer is fitted into, and its turn."""

    id: str
    name: str
    box: Box
    turn: float = 0.0


@dataclass(frozen=True)
class SceneSound:
    """An input in the mix of a scene; one that is not heard keeps its gain."""

    input_id: str
    gain_db: float = 0.0
    heard: bool = True


@dataclass(frozen=True)
class ChangeOver:
    """How a scene comes in: cut, crossfade, or glide (what is in both moves, the rest fades)."""

    kind: str = "cut"
    length_ms: int = 400


@dataclass(frozen=True)
class Scene:
    """A named composition; layers lie in order, the first at the back.

    `key` is the digit that calls it. `layout` is the starting layout that its layers
    still follow, "" once one was placed by hand. Without its own `change_over` it comes in as
    the rig says.
    """

    id: str
    name: str
    layers: tuple[Layer, ...]
    sounds: tuple[SceneSound, ...]
    key: str = ""
    layout: str = ""
    change_over: ChangeOver | None = None
