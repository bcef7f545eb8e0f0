"""What a driver gives the engine: devices, their modes, and captured frames and blocks."""

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Annotated, Any, Protocol

import numpy as np
from annotated_types import Interval, MultipleOf
from numpy.typing import NDArray

from kettle_core.fields import FrameRate

# A window or a tab is a device of its own: it is captured without what lies over it.
SCREEN_KINDS = ("display", "window", "tab", "tablet")
STILL_KINDS = ("picture", "text")
PICTURE_KINDS = (*SCREEN_KINDS, "webcam", "video-file", *STILL_KINDS)
SOUND_KINDS = ("microphone", "system-audio", "sound-file")
VOICE_KINDS = ("microphone", "sound-file")
BLOCK_SAMPLES = 480
SAMPLE_RATE_HZ = 48_000
SidePx = Annotated[int, Interval(ge=0, le=7680), MultipleOf(2)]


@dataclass(frozen=True)
class Mode:
    """How a device delivers: frame size and rate, or sample rate and channels."""

    width: SidePx = 0
    height: SidePx = 0
    fps: FrameRate = Fraction(0)
    sample_rate_hz: Annotated[int, Interval(ge=0, le=192_000)] = 0
    channels: Annotated[int, Interval(ge=0, le=2)] = 0

    @property
    def pixels_per_s(self) -> Fraction:
        """How much there is to draw, turn and encode; 0 for a sound."""
        return self.width * self.height * self.fps

    def in_words(self) -> str:
        """A mode as people read it, with units."""
        if self.width:
            size = f"{self.width} × {self.height} px"
            rate = f"{float(self.fps):.2f}".rstrip("0").rstrip(".")
            return f"{size} · {rate} fps" if self.fps else size
        layout = {1: "mono", 2: "stereo"}.get(self.channels, f"{self.channels} channels")
        return f"{self.sample_rate_hz / 1000:g} kHz {layout}"


@dataclass(frozen=True)
class DeviceInfo:
    """One device that is plugged in.

    `reported_latency_ms` is what the driver says about the time from capture to delivery;
    None where it does not know. `part_of` is the id of the device this one is a part of: the
    display of a window or tab, the webcam of its own microphone, all system audio of one
    window's sound. `busy` says that another program has it.
    """

    id: str
    name: str
    kind: str
    modes: tuple[Mode, ...]
    reported_latency_ms: float | None = None
    part_of: str = ""
    busy: bool = False

    @property
    def largest_mode(self) -> Mode:
        """The mode with the most pixels, then the highest rate; a sound's first mode."""
        return max(self.modes, key=lambda m: (m.width * m.height, m.fps))

    def lighter_than(self, mode: Mode) -> Mode | None:
        """The most that it offers with fewer pixels a second than a mode, if there is such.

        None that is faster: more pictures a second are more work for all that comes after.

        >>> modes = tuple(Mode(*m) for m in ((1280, 720, 30), (640, 360, 60), (640, 480, 30)))
        >>> DeviceInfo("w", "Webcam", "webcam", modes).lighter_than(modes[0]).in_words()
        '640 × 480 px · 30 fps'
        """
        lighter = [
            m for m in self.modes if m.pixels_per_s < mode.pixels_per_s and m.fps <= mode.fps
        ]
        return max(lighter, key=lambda m: m.pixels_per_s, default=None)

    @property
    def is_picture(self) -> bool:
        """Whether the device is seen rather than heard."""
        return self.kind in PICTURE_KINDS


@dataclass(frozen=True)
class Capture:
    """One frame or block with the device's own time of capture.

    `data` is an I420 buffer (rows * 3 / 2, columns) uint8, or a block (channels, samples)
    float32. `changed` is False for a picture that equals the one before.
    """

    no: int
    device_ns: int
    duration_ns: int
    data: NDArray[np.uint8] | NDArray[np.float32]
    changed: bool = True


@dataclass(frozen=True)
class Event:
    """Something done on a display or tablet: pointer, click, wheel, key or touch, in its pixels."""

    device_ns: int
    kind: str
    values: dict[str, Any]


@dataclass(frozen=True)
class Surrounding:
    """Something besides the work that a display shows or system audio plays.

    `on` says whether it will be in the recording, `switchable` whether the driver can change
    that; otherwise `advice` says what the user can do.
    """

    key: str
    name: str
    sentence: str
    on: bool
    switchable: bool
    advice: str = ""


class Device(Protocol):
    """An open device. The engine calls `read` once `due_ns` has passed.

    `mode` is what the device delivers now; it may differ from what was asked for when
    another program has changed it. `due_ns`, `skip_to` and `read` raise DeviceError once
    the device is lost.
    """

    info: DeviceInfo
    mode: Mode

    def due_ns(self) -> int:
        """Master time at which the next frame or block can be read."""

    def skip_to(self, master_ns: int) -> int:
        """Give up what was due before a master time; returns how many were lost."""

    def read(self) -> Capture:
        """The next frame or block."""

    def events(self) -> Sequence[Event]:
        """Events since the last call."""

    def truth(self) -> dict[str, float] | None:
        """Where the device is simulated: its true rate_ppm and latency_ms."""

    def close(self) -> None:
        """Let the device go."""


class Driver(Protocol):
    """A kind of device that can be listed and opened."""

    def list_devices(self) -> Sequence[DeviceInfo]:
        """Every device that is plugged in."""

    def owns(self, device_id: str) -> bool:
        """Whether an id is of this driver, plugged in or not."""

    def open_device(self, device_id: str, mode: Mode, from_ns: int) -> Device:
        """Open a device from a master time on. Raises DeviceError."""

    def surroundings(self, device_id: str) -> Sequence[Surrounding]:
        """What of the computer will be seen or heard besides, as far as can be told."""

    def switch_surrounding(self, device_id: str, key: str, on: bool) -> None:
        """Have something shown or heard, or not. Raises DeviceError where that can't be done."""
