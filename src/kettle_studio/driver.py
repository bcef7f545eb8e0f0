"""The studio as a driver: which devices are plugged in, with clocks drawn from a seed."""

from collections.abc import Mapping, Sequence
from fractions import Fraction

import numpy as np

from kettle_core.devices import Device, DeviceInfo, Mode
from kettle_core.errors import DeviceError
from kettle_core.rig import Rig, rig_of_devices
from kettle_studio.clock import DeviceClock
from kettle_studio.devices import (
    Plug,
    SimulatedDevice,
    SimulatedDisplay,
    SimulatedHeadset,
    SimulatedSystemAudio,
    SimulatedWebcam,
)

# What the sounds' drivers report is what converters of this kind report; the system-audio
# feed reports 4 ms too little and the webcam nothing, as such devices do.
_DEVICES: tuple[tuple[type[SimulatedDevice], DeviceInfo, float, float], ...] = (
    (
        SimulatedDisplay,
        DeviceInfo("display-1", "Main display", "display", (Mode(1920, 1080, Fraction(30)),), 8.0),
        8.0,
        1.5,
    ),
    (
        SimulatedWebcam,
        DeviceInfo("webcam-1", "Desk webcam", "webcam", (Mode(1280, 720, Fraction(30)),)),
        62.0,
        4.0,
    ),
    (
        SimulatedHeadset,
        DeviceInfo(
            "headset", "Headset", "microphone", (Mode(sample_rate_hz=48_000, channels=1),), 11.3
        ),
        11.3,
        1.2,
    ),
    (
        SimulatedSystemAudio,
        DeviceInfo(
            "system",
            "System audio",
            "system-audio",
            (Mode(sample_rate_hz=48_000, channels=2),),
            20.0,
        ),
        24.0,
        1.2,
    ),
)
DEFAULT_SEED = 1


class Studio:
    """The simulated room. `rates_ppm` sets clock rates by device id; others come from the seed."""

    def __init__(
        self, seed: int = DEFAULT_SEED, rates_ppm: Mapping[str, float] | None = None
    ) -> None:
        self.seed = seed
        rng = np.random.default_rng(seed)
        self._plugs: dict[str, tuple[type[SimulatedDevice], Plug]] = {}
        for number, (kind, info, latency_ms, jitter_ms) in enumerate(_DEVICES):
            drawn_ppm = float(np.round(rng.uniform(-150, 150), 1))
            clock = DeviceClock(
                rate_ppm=(rates_ppm or {}).get(info.id, drawn_ppm),
                epoch_ns=int(rng.integers(1_000_000_000, 900_000_000_000)),
                latency_ns=round(latency_ms * 1e6),
                jitter_ns=round(jitter_ms * 1e6),
                seed=1000 * seed + number,
            )
            self._plugs[info.id] = (kind, Plug(info, clock))

    def list_devices(self) -> Sequence[DeviceInfo]:
        """Every device that is plugged in."""
        return [plug.info for _, plug in self._plugs.values()]

    def open_device(self, device_id: str, mode: Mode, from_ns: int) -> Device:
        """Open a device from a master time on. Raises DeviceError."""
        if device_id not in self._plugs:
            known = ", ".join(self._plugs)
            raise DeviceError(f"No device “{device_id}” is plugged in; there are {known}.")
        kind, plug = self._plugs[device_id]
        if mode not in plug.info.modes:
            offered = ", ".join(m.in_words() for m in plug.info.modes)
            raise DeviceError(f"{plug.info.name} has no mode {mode.in_words()}; it has {offered}.")
        return kind(plug, mode, from_ns)  # type: ignore[return-value]


def demo_rig() -> Rig:
    """The rig of the demo scenario."""
    return rig_of_devices("Bench rig", Studio().list_devices())
