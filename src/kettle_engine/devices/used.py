"""A device's pictures as its inputs use them: cropped and turned once for all who look."""

from collections.abc import Hashable, Iterable
from typing import Any

from numpy.typing import NDArray

from kettle_core.picture.picture import picture_from_i420, picture_to_i420
from kettle_core.rig.devices import Capture
from kettle_core.rig.rig import Input
from kettle_core.rig.used_picture import as_used


class UsedPictures:
    """Keeps what was made of the newest picture, for each way in which a device is used."""

    def __init__(self) -> None:
        self._made: dict[Hashable, tuple[Any, int, NDArray[Any]]] = {}

    def of(self, capture: Capture, item: Input) -> NDArray[Any]:
        """A capture's I420 buffer as an input uses it; the same object if nothing differs."""
        looks = item.looks
        if looks.crop is None and not looks.turn and not looks.mirrored:
            return capture.data
        way = _way(item)
        known = self._made.get(way)
        same = (
            known and known[0] is capture.data and (known[1] == capture.no or not capture.changed)
        )
        if known is None or not same:
            picture = as_used(picture_from_i420(capture.data), looks)  # type: ignore[arg-type]
            known = (capture.data, capture.no, picture_to_i420(picture))
            self._made[way] = known
        return known[2]

    def keep(self, inputs: Iterable[Input]) -> None:
        """Keep only what some inputs need."""
        ways = {_way(i) for i in inputs}
        self._made = {way: made for way, made in self._made.items() if way in ways}


def _way(item: Input) -> Hashable:
    return item.device, item.mode, item.looks.crop, item.looks.turn, item.looks.mirrored
