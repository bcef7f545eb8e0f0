"""When a capture was taken and when it came: what rack, rings and tracks tell of it."""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from numpy.typing import NDArray


@dataclass(frozen=True)
class Stamps:
    """Times in ns: by the device's clock as in `Capture`, by the master clock when it came.

    `lost` is how many frames or blocks are missing before it, `changed` whether it looks different
    from the one before, `restarted` whether its device times do not go on from those before.
    """

    no: int
    device_ns: int
    duration_ns: int
    master_ns: int
    lost: int = 0
    changed: bool = True
    restarted: bool = False


@dataclass(frozen=True)
class Arrival(Stamps):
    """A capture as it can be fetched: the picture as the input uses it, or the block of sound.

    `fetch` gives None where it was lost meanwhile; it is asked only if it is needed.
    """

    fetch: Callable[[], NDArray[Any] | None] = field(kw_only=True)

    def use(self, do: Callable[[NDArray[Any]], None]) -> bool:
        """Have something done with the data, which it must not keep.

        False where they were lost: before, so that nothing was done, or while it was.
        """
        data = self.fetch()
        if data is not None:
            do(data)
        return data is not None
