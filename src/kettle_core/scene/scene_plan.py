"""What is drawn where: a scene planned once, before any frame of it is drawn."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kettle_core.scene.layout import Box, Part
from kettle_core.scene.placing import Bounds, Point, middle_of, turned
from kettle_core.scene.scene import ColourKey, Layer, Mask, Scene

Plane = NDArray[np.uint8]


@dataclass(frozen=True)
class PlacedLayer:
    """A layer where it is drawn: its middle and its size before the turn, in frame px."""

    id: str
    input_id: str
    middle: Point
    width: float
    height: float
    turn: float
    mirrored: bool
    crop: Box | Part
    opacity: float
    mask: Mask
    colour_key: ColourKey | None = None

    @property
    def bounds(self) -> Bounds:
        """The upright rectangle around its turned box."""
        x, y = turned((self.width / 2, self.height / 2), (0, 0), self.turn)
        x2, y2 = turned((self.width / 2, -self.height / 2), (0, 0), self.turn)
        across, down = max(abs(x), abs(x2)), max(abs(y), abs(y2))
        cx, cy = self.middle
        return Bounds(cx - across, cy - down, cx + across, cy + down)

    @property
    def seen(self) -> Bounds:
        """The upright rectangle around what its mask leaves."""
        if self.mask.shape == "ellipse":
            # Its distance is a first-order one: beside a narrow tip it is covered a little.
            b = self.bounds
            return Bounds(b.left - 1, b.top - 1, b.right + 1, b.bottom + 1)
        if self.mask.shape != "circle":
            return self.bounds
        # Beyond it the middle of every pixel is half a px away at least: nothing is covered.
        (cx, cy), radius = self.middle, min(self.width, self.height) / 2
        return Bounds(cx - radius, cy - radius, cx + radius, cy + radius)

    @property
    def is_exact(self) -> bool:
        """Whether it lies on whole pixels, turned by right angles at most."""
        b = self.bounds
        return self.turn % 90 == 0 and all(v == int(v) for v in (b.left, b.top, b.right, b.bottom))


@dataclass(frozen=True)
class ScenePlan:
    """What is drawn where, from back to front; `stills` are the pictures of masks by name."""

    width: int
    height: int
    layers: tuple[PlacedLayer, ...]
    stills: Mapping[str, Plane] = field(default_factory=dict, hash=False)


def place_layer(layer: Layer) -> PlacedLayer:
    """A layer where it is drawn. Turned by a right angle it stays on whole pixels."""
    box = layer.box
    middle = middle_of(box)
    if layer.turn % 180 == 90 and (box.width - box.height) % 2:
        middle = (middle[0] - 0.5, middle[1] - 0.5)
    return PlacedLayer(
        layer.id,
        layer.input_id,
        middle,
        box.width,
        box.height,
        layer.turn % 360,
        layer.mirrored,
        layer.crop,
        layer.opacity / 100,
        layer.mask,
        layer.colour_key,
    )


def plan_scene(
    scene: Scene, frame_size: tuple[int, int], stills: Mapping[str, Plane] | None = None
) -> ScenePlan:
    """Work out what does not change from frame to frame; hidden layers are left out.

    Parameters
    ----------
    scene : Scene
    frame_size : width and height of the program's frame in px
    stills : name to (rows, columns) uint8, the pictures that masks use; 255 is seen
    """
    return plan_layers([x for x in scene.layers if x.shown], frame_size, stills)


def plan_layers(
    layers: Iterable[Layer], frame_size: tuple[int, int], stills: Mapping[str, Plane] | None = None
) -> ScenePlan:
    """The same for layers that are all seen, from back to front."""
    return ScenePlan(*frame_size, tuple(place_layer(x) for x in layers), stills or {})
