"""Some seconds of every picture input, from the rings into files."""

import contextlib
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO

import numpy as np

from kettle_core.errors import DeviceError, TakeError
from kettle_core.rig.devices import Mode
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.rings.ring import RingReader
from kettle_media.picture.trial import Sample
from kettle_media.take.folder import free_bytes
from kettle_media.told import Told

LOOK_EVERY_S = 0.004
# So long a picture is waited for: a machine may stand still for some seconds.
PATIENCE_S = 10.0
# Left on the disk beside the frames, as for a take.
SPARE_BYTES = 300_000_000


@dataclass
class _Taking:
    """One input while it is sampled."""

    mode: Mode
    reader: RingReader
    file: BinaryIO
    written: int = 0
    of: list[int] = field(default_factory=list)
    changed: list[bool] = field(default_factory=list)
    at_ns: list[int] = field(default_factory=list)


def sample(
    rings: Mapping[str, str],
    modes: Mapping[str, Mode],
    folder: Path,
    seconds: float,
    tell: Callable[[], None] = lambda: None,
) -> dict[str, Sample]:
    """Take what comes for some seconds; the frames lie in files of the folder.

    Parameters
    ----------
    rings : files of the rings by input
    modes : size and rate of what comes out of them
    folder : for the frames, for as long as the samples are used
    seconds : how long
    tell : called often; what it raises ends it

    Raises
    ------
    TakeError
        If the disk has no room for that.
    DeviceError
        If nothing comes from an input.
    """
    most = sum(m.width * m.height * 3 // 2 * float(m.fps) for m in modes.values()) * seconds
    if free_bytes(folder) < most + SPARE_BYTES:
        raise TakeError(
            f"The disk has no room for a trial: it needs {(most + SPARE_BYTES) / 1e6:.0f} MB for "
            "a moment. Make room and try again."
        )
    takings: dict[str, _Taking] = {}
    try:
        for name, ring in rings.items():
            path = folder / f"{name}.i420"
            with Told(path, writing=True):
                file = path.open("wb")
            takings[name] = _Taking(modes[name], RingReader(Path(ring)), file)
        _wait_for_all(takings, tell)
        began_s = time.monotonic()
        while time.monotonic() - began_s < seconds:
            tell()
            for name, taking in takings.items():
                with Told(folder / name, writing=True):
                    _take(taking)
            time.sleep(LOOK_EVERY_S)
    finally:
        for taking in takings.values():
            # All is written that could be; on a full disk closing fails once more.
            with contextlib.suppress(OSError):
                taking.file.close()
    _need_none([name for name, taking in takings.items() if not taking.at_ns])
    return {name: _sample_of(folder / f"{name}.i420", t) for name, t in takings.items()}


def _wait_for_all(takings: Mapping[str, _Taking], tell: Callable[[], None]) -> None:
    """Wait until something has come of each."""
    silent, until_s = list(takings), time.monotonic() + PATIENCE_S
    while silent:
        tell()
        if time.monotonic() > until_s:
            _need_none(silent)
        time.sleep(LOOK_EVERY_S)
        silent = [name for name in silent if takings[name].reader.read() is None]


def _need_none(silent: list[str]) -> None:
    if silent:
        raise DeviceError(f"Nothing came from {', '.join(silent)}. Plug it in and try again.")


def _take(taking: _Taking) -> None:
    while (got := taking.reader.read()) is not None:
        if got.changed or not taking.written:
            data = got.fetch()
            if data is None or data.shape != (taking.mode.height * 3 // 2, taking.mode.width):
                continue  # overwritten meanwhile, or of a mode that another program has set
            taking.file.write(np.ascontiguousarray(data).tobytes())
            taking.file.flush()
            taking.written += 1
        taking.of.append(taking.written - 1)
        taking.changed.append(got.changed)
        # Not the device's own time, which may jump.
        taking.at_ns.append(got.master_ns)


def _sample_of(path: Path, taking: _Taking) -> Sample:
    mode = taking.mode
    shape = (taking.written, mode.height * 3 // 2, mode.width)
    frames = np.memmap(path, np.uint8, "r", shape=shape)
    at_ns = np.array(taking.at_ns, np.int64) - taking.at_ns[0]
    length_ns = int(at_ns[-1]) + round(NS_PER_S / mode.fps)
    changed = np.array(taking.changed, bool)
    changed[0] = True
    return Sample(mode, frames, np.array(taking.of, np.int64), changed, at_ns, length_ns)
