"""A device's pictures as its inputs use them: cropped and turned once for all who look."""

from typing import Any

from numpy.typing import NDArray

from kettle_core.picture.picture import picture_from_i420, picture_to_i420
from kettle_core.rig.devices import Capture
from kettle_core.rig.rig import Input
from kettle_core.rig.used_picture import as_used
from kettle_engine.rings.places import ring_name


class UsedPictures:
    """Keeps what was made of the newest picture of each ring."""

    def __init__(self) -> None:
        self._made: dict[str, tuple[Any, int, NDArray[Any]]] = {}

    def of(self, capture: Capture, item: Input) -> NDArray[Any]:
        """A capture's I420 buffer as an input uses it; the same object if nothing differs."""
        looks = item.looks
        if looks.crop is None and not looks.turn and not looks.mirrored:
            return capture.data
        name = ring_name(item)
        known = self._made.get(name)
        same = (
            known and known[0] is capture.data and (known[1] == capture.no or not capture.changed)
        )
        if known is None or not same:
            picture = as_used(picture_from_i420(capture.data), looks)  # type: ignore[arg-type]
            known = (capture.data, capture.no, picture_to_i420(picture))
            self._made[name] = known
        return known[2]

    def forget(self, names: set[str]) -> None:
        """Keep only what some rings need."""
        self._made = {n: made for n, made in self._made.items() if n in names}
