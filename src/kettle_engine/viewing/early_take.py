"""Looks at the take that is recorded: what was seen and heard of it is there at its end."""

import logging
import threading
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import KettleError
from kettle_core.rig.rig import Input
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.cueing import TakeCues
from kettle_engine.rings.ring import RingReader
from kettle_media.survey.early import EVERY_NS, EarlyLook
from kettle_media.take.folder import TakeFolder

MASTER_HZ = 48_000
log = logging.getLogger("kettle.viewer")


class EarlyTake:
    """One take, from its first cues to its end; all that it needs is what the viewer reads anyway.

    `latency_ns` says what a device reports of how late it is.
    """

    def __init__(self, cues: TakeCues, latency_ns: Callable[[str], int]) -> None:
        self.cues = cues
        self._latency_ns = latency_ns
        self._look = EarlyLook()

    def hear(self, item: Input, block: NDArray[np.float32], came_ns: int) -> None:
        """A block of a sound that came at a master time."""
        if item.has_track and item.mode.sample_rate_hz == MASTER_HZ:
            lasts_ns = block.shape[1] * NS_PER_S // MASTER_HZ
            self._look.hear(item.id, block, self._at_ns(item.id, came_ns - lasts_ns))

    def see(self, item: Input, reader: RingReader, now_ns: int) -> None:
        """A picture of an input, once a second."""
        at_ns = self._at_ns(item.id, now_ns)
        if not item.has_track or not self._look.wants(item.id, at_ns):
            return
        got = reader.newest()
        if got is None or now_ns - got.master_ns > EVERY_NS:
            return
        got.use(lambda data: self._look.see(item.id, data, at_ns))

    def end(self) -> None:
        """The take is over: have it written beside what goes on."""
        threading.Thread(target=self._write, name="early look", daemon=True).start()

    def _at_ns(self, name: str, master_ns: int) -> int:
        return master_ns - self.cues.start_ns - self._latency_ns(name)

    def _write(self) -> None:
        folder = TakeFolder(self.cues.folder)
        # One that was given up has no folder any more.
        try:
            self._look.write(folder, folder.read_info())
        except (KettleError, OSError) as error:
            log.info("What was seen of %s is not kept: %s", folder.path.name, error)
