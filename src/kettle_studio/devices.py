"""Simulated devices: each plays the one world at its own clock's moments."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kettle_core.devices import BLOCK_SAMPLES, Capture, DeviceInfo, Event, Mode
from kettle_core.timing import NS_PER_S, frame_to_ns
from kettle_studio import presenter, quirefold, sounds, world
from kettle_studio.clock import DeviceClock

BLEED_DB = -34.0
BLEED_DELAY_S = 0.0003


@dataclass(frozen=True)
class Plug:
    """A device with the truth about its clock."""

    info: DeviceInfo
    clock: DeviceClock


class SimulatedDevice:
    """What all simulated devices share: numbering, times, and the truth."""

    def __init__(self, plug: Plug, mode: Mode, from_ns: int) -> None:
        self.info = plug.info
        self.mode = mode
        self._clock = plug.clock
        start = self._clock.master_to_device_ns(from_ns) - self._clock.epoch_ns
        self._no = max(0, self._number_at(start) + 1)

    def _number_at(self, elapsed_ns: float) -> int:
        raise NotImplementedError

    def _start_ns(self, no: int) -> int:
        """Device time at which a frame is taken or a block begins."""
        raise NotImplementedError

    def _ready_ns(self, no: int) -> int:
        """Device time at which a frame or block is complete."""
        raise NotImplementedError

    def due_ns(self) -> int:
        """Master time at which the next frame or block can be read."""
        complete = self._clock.device_to_master_ns(self._ready_ns(self._no))
        return int(complete) + self._clock.latency_ns + self._clock.jitter_of(self._no)

    def skip_to(self, master_ns: int) -> int:
        """Give up what was due before a master time; returns how many were lost."""
        before = self._no
        while self.due_ns() < master_ns:
            self._no += 1
        return self._no - before

    def events(self) -> Sequence[Event]:
        """A device without pointer or keys has no events."""
        return ()

    def truth(self) -> dict[str, float] | None:
        """The clock's true figures."""
        return {
            "rate_ppm": self._clock.rate_ppm,
            "epoch_ns": self._clock.epoch_ns,
            "latency_ms": self._clock.latency_ns / 1e6,
        }

    def close(self) -> None:
        """Nothing is held."""

    def _world_s(self, device_ns: float) -> float:
        return self._clock.device_to_master_ns(device_ns) / NS_PER_S


class SimulatedCamera(SimulatedDevice):
    """Shared by display and webcam: one frame each frame duration."""

    def _number_at(self, elapsed_ns: float) -> int:
        return int(elapsed_ns * self.mode.fps // NS_PER_S)

    def _start_ns(self, no: int) -> int:
        return self._clock.epoch_ns + frame_to_ns(no, self.mode.fps)

    def _ready_ns(self, no: int) -> int:
        return self._start_ns(no)

    def _next(self) -> tuple[int, int, int]:
        no = self._no
        self._no += 1
        return no, self._start_ns(no), frame_to_ns(1, self.mode.fps)


class SimulatedDisplay(SimulatedCamera):
    """Quirefold in use; a frame is drawn only when something changed."""

    def __init__(self, plug: Plug, mode: Mode, from_ns: int) -> None:
        super().__init__(plug, mode, from_ns)
        self._shown: world.Desktop | None = None
        self._picture = np.empty((0, 0), np.uint8)
        self._told_s = self._world_s(self._start_ns(self._no))
        # Fonts and pages are drawn before the first frame is due.
        quirefold.draw_desktop(world.desktop_at(self._told_s))

    def read(self) -> Capture:
        """The next frame; `changed` is False while the desktop stands still."""
        no, device_ns, duration_ns = self._next()
        state = world.desktop_at(self._world_s(device_ns))
        changed = state != self._shown
        if changed:
            self._picture = quirefold.draw_desktop(state)
            self._shown = state
        return Capture(no, device_ns, duration_ns, self._picture, changed)

    def events(self) -> Sequence[Event]:
        """Pointer, clicks and keys since the last call, stamped by the device's clock."""
        until_s = self._world_s(self._start_ns(self._no))
        found = [
            Event(round(self._clock.master_to_device_ns(at * NS_PER_S)), kind, values)
            for at, kind, values in world.desktop_events(self._told_s, until_s)
        ]
        self._told_s = until_s
        return found


class SimulatedWebcam(SimulatedCamera):
    """Odile at her bench."""

    def __init__(self, plug: Plug, mode: Mode, from_ns: int) -> None:
        super().__init__(plug, mode, from_ns)
        presenter.draw_presenter(self._world_s(self._start_ns(self._no)), self._no)

    def read(self) -> Capture:
        """The next frame."""
        no, device_ns, duration_ns = self._next()
        picture = presenter.draw_presenter(self._world_s(device_ns), no)
        return Capture(no, device_ns, duration_ns, picture)


class SimulatedSound(SimulatedDevice):
    """Shared by microphone and system audio: blocks of 480 samples."""

    def __init__(self, plug: Plug, mode: Mode, from_ns: int) -> None:
        super().__init__(plug, mode, from_ns)
        sounds.lesson_sounds()

    def _number_at(self, elapsed_ns: float) -> int:
        return int(elapsed_ns * self.mode.sample_rate_hz // (BLOCK_SAMPLES * NS_PER_S))

    def _start_ns(self, no: int) -> int:
        return self._clock.epoch_ns + no * BLOCK_SAMPLES * NS_PER_S // self.mode.sample_rate_hz

    def _ready_ns(self, no: int) -> int:
        return self._start_ns(no + 1)

    def read(self) -> Capture:
        """The next block."""
        no = self._no
        self._no += 1
        device_ns = self._start_ns(no)
        step = sounds.RATE_HZ / self.mode.sample_rate_hz / (1 + self._clock.rate_ppm * 1e-6)
        first = self._world_s(device_ns) % (sounds.LOOP_SAMPLES / sounds.RATE_HZ) * sounds.RATE_HZ
        places = first + np.arange(BLOCK_SAMPLES) * step
        duration_ns = self._ready_ns(no) - device_ns
        return Capture(no, device_ns, duration_ns, self._sound(places, no))

    def _sound(self, places: np.ndarray, no: int) -> np.ndarray:
        raise NotImplementedError


class SimulatedHeadset(SimulatedSound):
    """The voice, the knocks, the room, and a little of what the headphones play."""

    def __init__(self, plug: Plug, mode: Mode, from_ns: int) -> None:
        super().__init__(plug, mode, from_ns)
        self._noise = sounds.noise_table(plug.clock.seed, -62.0)

    def _sound(self, places: np.ndarray, no: int) -> np.ndarray:
        lesson = sounds.lesson_sounds()
        heard = 0.45 * sounds.read_at(lesson.voice, places)
        heard = heard + 0.5 * sounds.read_at(lesson.knocks, places)
        late = places - BLEED_DELAY_S * sounds.RATE_HZ
        bleed = sounds.read_at(lesson.system, late).mean(axis=0)
        heard = heard + np.float32(10 ** (BLEED_DB / 20)) * bleed
        start = no * BLOCK_SAMPLES % (self._noise.shape[1] - BLOCK_SAMPLES)
        noise = self._noise[:, start : start + BLOCK_SAMPLES]
        return np.asarray(heard[None, :] + noise, dtype=np.float32)


class SimulatedSystemAudio(SimulatedSound):
    """Music bed and Quirefold's snaps, in stereo."""

    def _sound(self, places: np.ndarray, no: int) -> np.ndarray:
        return sounds.read_at(sounds.lesson_sounds().system, places)
