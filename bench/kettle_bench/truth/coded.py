"""A driver whose pictures carry their number and whose microphone clicks each second."""

from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import DeviceError
from kettle_core.rig.devices import Capture, DeviceInfo, Event, Mode, Surrounding
from kettle_core.rig.format import Format
from kettle_core.rig.rig import Rig, input_of_device
from kettle_core.rig.starting_layouts import whole_layer
from kettle_core.scene.scene import Scene, SceneSound
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.recording.take import record_take
from kettle_media.take.align import align_take
from kettle_media.take.folder import TakeFolder

WIDE, HIGH, BITS = 160, 96, 16
HZ, BLOCK, FPS = 48_000, 480, Fraction(30)
PICTURE, VOICE = Mode(WIDE, HIGH, FPS), Mode(sample_rate_hz=HZ, channels=1)
MODES = {"coded:picture": PICTURE, "coded:clicks": VOICE}
BLOCK_NS = 10**7
# A click: 2 ms of 2 kHz under a Hann window, which has its middle at a whole second.
CLICK = (0.5 * np.hanning(97) * np.sin(np.arange(97) * 2 * np.pi * 2000 / HZ)).astype(np.float32)


class _Coded:
    """A picture that shows its number in bars, or clicks."""

    def __init__(self, info: DeviceInfo, from_ns: int) -> None:
        self.info, self.mode = info, info.modes[0]
        self._is_voice = self.mode == VOICE
        self._no = -(-from_ns // BLOCK_NS) if self._is_voice else -(-from_ns * 30 // NS_PER_S)

    def _at_ns(self, no: int) -> int:
        return no * BLOCK_NS if self._is_voice else round(no * NS_PER_S / FPS)

    def due_ns(self) -> int:
        """When the next one is there: a picture at once, a block when it has ended."""
        return self._at_ns(self._no + self._is_voice)

    def skip_to(self, master_ns: int) -> int:
        """Leave out what was due before a time."""
        before = self._no
        while self.due_ns() < master_ns:
            self._no += 1
        return self._no - before

    def read(self) -> Capture:
        """The next one."""
        no, self._no = self._no, self._no + 1
        at_ns, length_ns = self._at_ns(no), self._at_ns(no + 1) - self._at_ns(no)
        return Capture(no, at_ns, length_ns, _clicks(no) if self._is_voice else coded_picture(no))

    def events(self) -> Sequence[Event]:
        """None happen."""
        return ()

    def truth(self) -> dict[str, float] | None:
        """Its clock is the master's."""
        return None

    def close(self) -> None:
        """Nothing is open."""


def coded_picture(number: int) -> NDArray[np.uint8]:
    """An I420 buffer (HIGH * 3 / 2, WIDE) with a number in bars, the lowest bit on the left."""
    bits = [235 if number >> bit & 1 else 16 for bit in range(BITS)]
    luma = np.repeat(np.array(bits, np.uint8), WIDE // BITS)
    grey = np.full((HIGH // 2, WIDE), 128, np.uint8)
    return np.concatenate([np.broadcast_to(luma, (HIGH, WIDE)), grey])


def _clicks(block: int) -> NDArray[np.float32]:
    found = np.zeros((1, BLOCK), np.float32)
    first = block * BLOCK
    for second in range(first // HZ, (first + BLOCK) // HZ + 2):
        begin = second * HZ - CLICK.size // 2 - first
        low, high = max(0, begin), min(BLOCK, begin + CLICK.size)
        if low < high:
            found[0, low:high] = CLICK[low - begin : high - begin]
    return found


class CodedDriver:
    """Both devices."""

    def list_devices(self) -> Sequence[DeviceInfo]:
        """The display and the microphone."""
        kinds = {"coded:picture": "display", "coded:clicks": "microphone"}
        return [DeviceInfo(i, i[6:], kinds[i], (mode,), 0.0) for i, mode in MODES.items()]

    def owns(self, device_id: str) -> bool:
        """Whether an id is of this driver."""
        return device_id in MODES

    def open_device(self, device_id: str, mode: Mode, from_ns: int) -> _Coded:
        """Open one from a time on."""
        return _Coded(next(i for i in self.list_devices() if i.id == device_id), from_ns)

    def surroundings(self, device_id: str) -> Sequence[Surrounding]:
        """None."""
        return ()

    def switch_surrounding(self, device_id: str, key: str, on: bool) -> None:
        """There is nothing to switch."""
        raise DeviceError("There is no switch.")


def coded_take(path: Path, seconds: int) -> TakeFolder:
    """A take of numbers and clicks in a new folder."""
    picture, clicks = (input_of_device(info, info.id[6:]) for info in CodedDriver().list_devices())
    format_ = Format(WIDE, HIGH, FPS)
    layers, sounds = (whole_layer(picture, format_.frame),), (SceneSound("clicks"),)
    rig = Rig("Coded", (picture, clicks), (Scene("scene-1", "All", layers, sounds),), format_)
    record_take(CodedDriver(), rig, path, seconds * NS_PER_S)
    folder = TakeFolder(path)
    align_take(folder, folder.read_info())
    return folder
