"""The studio as a driver: which devices are plugged in, with clocks drawn from a seed."""

import os
import threading
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np

from kettle_core.errors import DeviceError
from kettle_core.rig.devices import Device, DeviceInfo, Mode, Surrounding
from kettle_studio import computer
from kettle_studio.catalogue import DEVICES, LISTED
from kettle_studio.clock import DeviceClock
from kettle_studio.computer import Switches
from kettle_studio.devices import FAULTS, PICTURE_FAULTS, SOUND_FAULTS, Plug
from kettle_studio.kept import keep_in

DEFAULT_SEED = 1


class Studio:
    """The simulated room. `rates_ppm` sets clock rates by device id; others come from the seed.

    All clocks swing by `wander_ppm` once in `wander_s`, each other one the other way.
    """

    def __init__(
        self,
        seed: int = DEFAULT_SEED,
        rates_ppm: Mapping[str, float] | None = None,
        wander_ppm: float = 0.0,
        wander_s: float = 600.0,
    ) -> None:
        self.seed = seed
        self.switches = Switches()
        # What is drawn once for all is drawn by one thread, the others wait for it.
        self._drawing = threading.Lock()
        rng = np.random.default_rng(seed)
        self._plugs: dict[str, Plug] = {}
        self._opens = {entry.info.id: entry.opens for entry in DEVICES}
        for number, entry in enumerate(DEVICES):
            info = entry.info
            drawn_ppm = float(np.round(rng.uniform(-150, 150), 1))
            clock = DeviceClock(
                rate_ppm=(rates_ppm or {}).get(info.id, drawn_ppm),
                epoch_ns=int(rng.integers(1_000_000_000, 900_000_000_000)),
                latency_ns=round(entry.latency_ms * 1e6),
                jitter_ns=round(entry.jitter_ms * 1e6),
                seed=1000 * seed + number,
                wander_ppm=wander_ppm * (-1) ** number,
                wander_s=wander_s,
            )
            parent = self._plugs.get(info.part_of)
            self._plugs[info.id] = Plug(info, clock, self.switches, parent)

    def list_devices(self) -> Sequence[DeviceInfo]:
        """Every device that is plugged in."""
        plugs = (self._plugs[name] for name in LISTED)
        return [replace(p.info, busy=p.busy) for p in plugs if not p.unplugged]

    def owns(self, device_id: str) -> bool:
        """Whether an id is of the studio."""
        return device_id in self._plugs

    def open_device(self, device_id: str, mode: Mode, from_ns: int) -> Device:
        """Open a device from a master time on. Raises DeviceError."""
        plug = self._plug(device_id)
        plug.need()
        if mode not in plug.info.modes:
            offered = ", ".join(m.in_words() for m in plug.info.modes)
            raise DeviceError(f"{plug.info.name} has no mode {mode.in_words()}; it has {offered}.")
        with self._drawing:
            return self._opens[device_id](plug, mode, from_ns)  # type: ignore[return-value]

    def surroundings(self, device_id: str) -> Sequence[Surrounding]:
        """What of the simulated computer is seen or heard besides."""
        return computer.surroundings(device_id, self.switches)

    def switch_surrounding(self, device_id: str, key: str, on: bool) -> None:
        """Turn a switch of the simulated computer. Raises DeviceError."""
        for found in self.surroundings(device_id):
            if found.key == key and found.switchable:
                setattr(self.switches, key, on)
                return
        raise DeviceError(f"The studio's computer has no switch “{key}” for {device_id}.")

    # what goes wrong, set off from the studio page and by tests

    def faults(self) -> list[tuple[DeviceInfo, dict[str, bool]]]:
        """Every device, plugged in or not, with its possible faults and whether they are on."""
        found = []
        for name in LISTED:
            plug = self._plugs[name]
            kinds = PICTURE_FAULTS if plug.info.is_picture else SOUND_FAULTS
            found.append((plug.info, {fault: fault in plug.faults for fault in kinds}))
        return found

    def state(self) -> tuple[list[tuple[DeviceInfo, dict[str, bool]]], dict[str, bool]]:
        """Faults of all devices, and the switches of the simulated computer."""
        return self.faults(), dict(vars(self.switches))

    def set_fault(self, device_id: str, fault: str, on: bool) -> None:
        """Set a fault off or end it. Raises DeviceError for one that there is not."""
        plug = self._plug(device_id)
        kinds = PICTURE_FAULTS if plug.info.is_picture else SOUND_FAULTS
        if fault not in kinds:
            known = ", ".join(FAULTS[k] for k in kinds)
            raise DeviceError(f"{plug.info.name} has no fault “{fault}”; it has: {known}.")
        plug.faults.add(fault) if on else plug.faults.discard(fault)

    def clock_of(self, device_id: str) -> DeviceClock:
        """The true clock that a device runs by."""
        return self._plug(device_id).clock

    def jump_clock(self, device_id: str) -> None:
        """Have a device's clock jump."""
        self._plug(device_id).jump_clock()

    def _plug(self, device_id: str) -> Plug:
        if device_id not in self._plugs:
            known = ", ".join(self._plugs)
            raise DeviceError(
                f"No device “{device_id}” is plugged in; there are {known}.", "unplugged"
            )
        return self._plugs[device_id]


def studio_driver(data_dir: Path) -> Studio:
    """The studio for a data folder, where it keeps what it has drawn, as it may be started again.

    KETTLE_STUDIO_SEED draws its clocks, KETTLE_STUDIO_KEEP is another folder for what it keeps.
    """
    keep_in(Path(os.environ.get("KETTLE_STUDIO_KEEP", data_dir / "studio")))
    return Studio(int(os.environ.get("KETTLE_STUDIO_SEED", DEFAULT_SEED)))
