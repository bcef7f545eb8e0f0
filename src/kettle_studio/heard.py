"""What the studio's devices hear and play: blocks of a table at each device's own clock."""

from collections.abc import Callable

import numpy as np

from kettle_core.rig.devices import BLOCK_SAMPLES, Capture, Mode
from kettle_core.timing.ticks import NS_PER_S
from kettle_studio import sounds
from kettle_studio.devices import Plug, SimulatedDevice

UNEVEN_SAMPLES = 97
# So many blocks of a sound are read on end.
BLOCKS_AHEAD = 10
Times = tuple[int, int]


class SimulatedSound(SimulatedDevice):
    """Shared by all that is heard: blocks of 480 samples of a table, with noise."""

    def __init__(
        self,
        plug: Plug,
        mode: Mode,
        from_ns: int,
        table: Callable[[], sounds.Table],
        noise: Callable[[], sounds.Sound] | None = None,
    ) -> None:
        super().__init__(plug, mode, from_ns)
        self._table = table
        self._noise = noise() if noise else None
        self._ahead: dict[int, tuple[Times, sounds.Sound]] = {}
        self._ahead_of: sounds.Table | None = None
        table()

    def _number_at(self, elapsed_ns: float) -> int:
        return int(elapsed_ns * self._mode.sample_rate_hz // (BLOCK_SAMPLES * NS_PER_S))

    def _first_sample(self, no: int) -> int:
        uneven = no * 37 % UNEVEN_SAMPLES if "uneven" in self._plug.faults else 0
        return no * BLOCK_SAMPLES + uneven

    def _start_ns(self, no: int) -> int:
        first = self._first_sample(no)
        return self._clock.epoch_ns + first * NS_PER_S // self._mode.sample_rate_hz

    def _ready_ns(self, no: int) -> int:
        return self._start_ns(no + 1)

    def _capture(self, no: int) -> Capture:
        device_ns = self._start_ns(no)
        sound = self._sound(no)
        if "silent" in self._plug.faults:
            sound = np.zeros_like(sound)
        elif "clipping" in self._plug.faults:
            sound = np.clip(sound * 24, -1, 1)
        return Capture(no, device_ns, self._ready_ns(no) - device_ns, sound)

    def _sound(self, no: int) -> sounds.Sound:
        """A block; some are read on end, as single ones take longer to ask for than to read."""
        table = self._table()
        # Its clock may have been set since, its blocks be of other lengths, another sound play.
        ahead = self._ahead.get(no)
        if ahead is None or ahead[0] != self._times(no) or self._ahead_of is not table:
            self._ahead, self._ahead_of = self._read_ahead(no, table), table
            ahead = self._ahead[no]
        return ahead[1]

    def _times(self, no: int) -> Times:
        return self._start_ns(no), self._ready_ns(no)

    def _read_ahead(self, no: int, table: sounds.Table) -> dict[int, tuple[Times, sounds.Sound]]:
        """Blocks from one on by their numbers, with the device times of begin and end."""
        places: list[np.ndarray] = []
        for number in range(no, no + BLOCKS_AHEAD):
            block = self._places(number)
            if places and block[0] < places[-1][-1]:
                # Here the table goes round.
                break
            places.append(block)
        heard = sounds.read_at(table, np.concatenate(places))
        if self._noise is not None:
            count = heard.shape[-1]
            at = (self._first_sample(no) + np.arange(count)) % self._noise.shape[1]
            heard = heard + self._noise[:, at]
        if heard.shape[0] < self._mode.channels:
            heard = np.repeat(heard, self._mode.channels, axis=0)
        ends = np.cumsum([block.size for block in places])
        blocks = np.split(np.asarray(heard, dtype=np.float32), ends[:-1], axis=1)
        return {
            number: (self._times(number), np.ascontiguousarray(block))
            for number, block in enumerate(blocks, no)
        }

    def _places(self, no: int) -> np.ndarray:
        """Where a block's samples lie in the table."""
        world_s = self._world_s(self._start_ns(no))
        rate_ppm = self._clock.rate_at_ppm(world_s * NS_PER_S)
        step = sounds.RATE_HZ / self._mode.sample_rate_hz / (1 + rate_ppm * 1e-6)
        samples = self._first_sample(no + 1) - self._first_sample(no)
        first = world_s % (sounds.LOOP_SAMPLES / sounds.RATE_HZ) * sounds.RATE_HZ
        return first + np.arange(samples, dtype=np.float64) * step
