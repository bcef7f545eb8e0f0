"""Simulated devices: each plays the one world at its own clock's moments."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from kettle_core.errors import DeviceError
from kettle_core.picture.picture import (
    Plane,
    blank_i420,
    crop_picture,
    picture_from_i420,
    picture_to_i420,
)
from kettle_core.rig.devices import Capture, DeviceInfo, Event, Mode
from kettle_core.scene.layout import Box
from kettle_core.timing.ticks import NS_PER_S, frame_to_ns
from kettle_studio import bench, computer, presenter, quirefold, world
from kettle_studio.canvas import ScreenPainter
from kettle_studio.clock import DeviceClock
from kettle_studio.computer import Switches

FAULTS = {
    "unplugged": "unplugged",
    "busy": "busy in another program",
    "losing": "frames or blocks lost",
    "frozen": "picture frozen",
    "dark": "picture dark",
    "changed": "mode changed by itself",
    "silent": "sound silent",
    "clipping": "sound clipping",
    "stamps": "stamps that stand still or step back",
    "stalling": "comes in bursts",
    "uneven": "blocks of uneven length",
}
_TIMES = ("stamps", "stalling")
PICTURE_FAULTS = ("unplugged", "busy", "losing", "frozen", "dark", "changed", *_TIMES)
SOUND_FAULTS = ("unplugged", "busy", "losing", "changed", "silent", "clipping", *_TIMES, "uneven")
# A stamp in so many repeats the one before, another one lies some ms too early.
REPEATED_EACH, EARLY_EACH, EARLY_NS = 97, 211, 4_000_000
# Bursts: what falls due within a third of a second comes at its end.
BURST_NS = 333_000_000
CLOCK_JUMP_NS = 3_700_000_000
NIGHT_RGB = (3, 3, 4)


@dataclass
class Plug:
    """A device with the truth about its clock and what is wrong with it now.

    A window, tab or single sound runs by the clock of what it is a part of.
    """

    info: DeviceInfo
    own_clock: DeviceClock
    switches: Switches
    parent: "Plug | None" = None
    faults: set[str] = field(default_factory=set)

    @property
    def clock(self) -> DeviceClock:
        """The clock it runs by."""
        if self.parent and self.parent.info.kind != "webcam":
            return self.parent.clock
        return self.own_clock

    @property
    def unplugged(self) -> bool:
        """Whether it, or what it is a part of, is not plugged in."""
        return "unplugged" in self.faults or bool(self.parent and self.parent.unplugged)

    @property
    def busy(self) -> bool:
        """Whether another program has it."""
        return "busy" in self.faults

    def need(self) -> None:
        """Raise DeviceError where it can't be had."""
        if self.unplugged:
            raise DeviceError(f"{self.info.name} is not plugged in.", "unplugged")
        if self.busy:
            raise DeviceError(f"{self.info.name} is used by another program.", "busy")

    def jump_clock(self) -> None:
        """Set the device's clock forward, as a driver does that starts counting anew."""
        later_ns = self.own_clock.epoch_ns + CLOCK_JUMP_NS
        self.own_clock = replace(self.own_clock, epoch_ns=later_ns)


class SimulatedDevice:
    """What all simulated devices share: numbering, times, faults, and the truth."""

    def __init__(self, plug: Plug, mode: Mode, from_ns: int) -> None:
        self.info = plug.info
        self._plug = plug
        self._mode = mode
        start = self._clock.master_to_device_ns(from_ns) - self._clock.epoch_ns
        self._no = max(0, self._number_at(start) + 1)

    @property
    def _clock(self) -> DeviceClock:
        return self._plug.clock

    @property
    def mode(self) -> Mode:
        """What it delivers now."""
        if "changed" in self._plug.faults:
            others = [m for m in self.info.modes if m != self._mode]
            return others[-1] if others else replace(self._mode, fps=self._mode.fps / 2)
        return self._mode

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
        due_ns = int(complete) + self._clock.latency_ns + self._clock.jitter_of(self._no)
        if "stalling" in self._plug.faults:
            due_ns = -(-due_ns // BURST_NS) * BURST_NS
        return due_ns

    def skip_to(self, master_ns: int) -> int:
        """Give up what was due before a master time; returns how many were lost."""
        before = self._no
        step_ns = self._start_ns(1) - self._start_ns(0)
        self._no += max(0, (master_ns - self.due_ns()) // step_ns - 1)
        while self.due_ns() < master_ns:
            self._no += 1
        return self._no - before

    def read(self) -> Capture:
        """The next frame or block. Raises DeviceError once the device is lost."""
        self._plug.need()
        no = self._no
        self._no += 1
        if "losing" in self._plug.faults:
            # What comes after a lost one comes at its own time, not earlier.
            self._no += self._no * 7919 % 5 < 2
        capture = self._capture(no)
        if "stamps" in self._plug.faults:
            return replace(capture, device_ns=self._told_ns(no))
        return capture

    def _told_ns(self, no: int) -> int:
        """What a driver with bad stamps says of a frame's or block's time."""
        told = no - 1 if no % REPEATED_EACH == 0 else no
        return self._start_ns(told) - EARLY_NS * (no % EARLY_EACH == 0)

    def _capture(self, no: int) -> Capture:
        raise NotImplementedError

    def events(self) -> Sequence[Event]:
        """A device without pointer, keys or touch has no events."""
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
    """Shared by all that is seen: one frame each frame duration."""

    def __init__(self, plug: Plug, mode: Mode, from_ns: int) -> None:
        super().__init__(plug, mode, from_ns)
        self._last: Plane | None = None

    def _number_at(self, elapsed_ns: float) -> int:
        return int(elapsed_ns * self._mode.fps // NS_PER_S)

    def _start_ns(self, no: int) -> int:
        return self._clock.epoch_ns + frame_to_ns(no, self._mode.fps)

    def _ready_ns(self, no: int) -> int:
        return self._start_ns(no)

    def _capture(self, no: int) -> Capture:
        device_ns, duration_ns = self._start_ns(no), frame_to_ns(1, self._mode.fps)
        if "dark" in self._plug.faults:
            night = blank_i420(self._mode.width, self._mode.height, NIGHT_RGB)
            changed = self._last is None or not np.array_equal(self._last, night)
            self._last = night
        elif "frozen" in self._plug.faults and self._last is not None:
            changed = self.info.kind == "webcam"
        else:
            picture = self._draw(self._world_s(device_ns), no)
            changed = picture is not self._last
            self._last = picture
        return Capture(no, device_ns, duration_ns, self._last, changed)

    def _draw(self, world_s: float, no: int) -> Plane:
        """A new frame, or the last one where nothing has changed."""
        raise NotImplementedError


class SimulatedScreen(SimulatedCamera):
    """Shared by displays, their windows and tabs, and the tablet: drawn only when it changes."""

    def __init__(self, plug: Plug, mode: Mode, from_ns: int) -> None:
        super().__init__(plug, mode, from_ns)
        self._told_s = self._world_s(self._start_ns(self._no))
        self._shown: Any = None
        self._painted: Plane | None = None
        # Fonts and pages are drawn before the first frame is due.
        self._draw(self._told_s, self._no)

    def _state(self, world_s: float) -> Any:
        """What it shows; equal states look the same."""
        raise NotImplementedError

    def _paint(self, state: Any) -> Plane:
        raise NotImplementedError

    def _draw(self, world_s: float, no: int) -> Plane:
        state = self._state(world_s)
        if state != self._shown or self._painted is None:
            self._shown = state
            self._painted = self._paint(state)
        return self._painted

    def _happenings(
        self, from_s: float, to_s: float
    ) -> Iterator[tuple[float, str, dict[str, Any]]]:
        return iter(())

    def events(self) -> Sequence[Event]:
        """What was done since the last call, stamped by the device's clock."""
        until_s = self._world_s(self._start_ns(self._no))
        found = [
            Event(round(self._clock.master_to_device_ns(at * NS_PER_S)), kind, values)
            for at, kind, values in self._happenings(self._told_s, until_s)
        ]
        self._told_s = until_s
        return found


class SimulatedDisplay(SimulatedScreen):
    """Quirefold in use."""

    def __init__(self, plug: Plug, mode: Mode, from_ns: int) -> None:
        self._painter = ScreenPainter(_draw_first)
        super().__init__(plug, mode, from_ns)

    def _state(self, world_s: float) -> Any:
        desktop = world.desktop_at(world_s)
        still = replace(desktop, pointer=(0, 0))
        return (still, self._plug.switches.bar), desktop.pointer

    def _paint(self, state: Any) -> Plane:
        return self._painter.draw(*state)

    def _happenings(
        self, from_s: float, to_s: float
    ) -> Iterator[tuple[float, str, dict[str, Any]]]:
        return world.desktop_events(from_s, to_s)


def _draw_first(key: tuple[world.Desktop, bool]) -> Plane:
    state, bar = key
    buffer = quirefold.draw_document(state)
    if bar:
        computer.lay_bar(buffer)
    return buffer


class SimulatedSecondDisplay(SimulatedScreen):
    """Mail, messages and pages; busy."""

    def __init__(self, plug: Plug, mode: Mode, from_ns: int) -> None:
        self._painter = ScreenPainter(computer.draw_second)
        super().__init__(plug, mode, from_ns)

    def _state(self, world_s: float) -> Any:
        switches = self._plug.switches
        message = world.message_at(world_s) if switches.messages else None
        return (message, switches.icons, switches.bar), world.busy_pointer_at(world_s)

    def _paint(self, state: Any) -> Plane:
        return self._painter.draw(*state)


class SimulatedTablet(SimulatedScreen):
    """The sewing-station counter, touched now and then."""

    def __init__(self, plug: Plug, mode: Mode, from_ns: int) -> None:
        self._painter = ScreenPainter(computer.draw_tablet, touch=True)
        super().__init__(plug, mode, from_ns)

    def _state(self, world_s: float) -> Any:
        station, touch = world.station_at(world_s)
        return (station, touch is not None), touch

    def _paint(self, state: Any) -> Plane:
        return self._painter.draw(*state)

    def _happenings(
        self, from_s: float, to_s: float
    ) -> Iterator[tuple[float, str, dict[str, Any]]]:
        return world.touch_events(from_s, to_s)


class SimulatedWindow(SimulatedScreen):
    """A window or tab alone: without what lies over it, without the pointer."""

    def __init__(
        self,
        plug: Plug,
        mode: Mode,
        from_ns: int,
        state: Callable[[float], Any],
        paint: Callable[[Any], Plane],
        box: Box,
    ) -> None:
        self._state_at, self._paint_state, self._box = state, paint, box
        super().__init__(plug, mode, from_ns)

    def _state(self, world_s: float) -> Any:
        return self._state_at(world_s)

    def _paint(self, state: Any) -> Plane:
        picture = picture_from_i420(self._paint_state(state))
        return picture_to_i420(crop_picture(picture, self._box))


class SimulatedWebcam(SimulatedCamera):
    """Odile at her bench, by a webcam that is mounted upside down."""

    def __init__(self, plug: Plug, mode: Mode, from_ns: int) -> None:
        super().__init__(plug, mode, from_ns)
        self._painter = presenter.PresenterPainter(
            mode.height, upside_down=True, cloth=lambda: plug.switches.cloth
        )
        self._painter.draw(self._world_s(self._start_ns(self._no)), self._no)

    def _draw(self, world_s: float, no: int) -> Plane:
        return self._painter.draw(world_s, no)


class SimulatedOverhead(SimulatedCamera):
    """The bench from above."""

    def __init__(self, plug: Plug, mode: Mode, from_ns: int) -> None:
        super().__init__(plug, mode, from_ns)
        self._painter = bench.BenchPainter(mode.height)
        self._painter.draw(self._world_s(self._start_ns(self._no)), self._no)

    def _draw(self, world_s: float, no: int) -> Plane:
        return self._painter.draw(world_s, no)
