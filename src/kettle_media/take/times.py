"""The sidecar of a track: exact times of every frame or block, one line each."""

import io
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import BinaryIO

import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import TakeError

# Noted for its stamps only; in the track; silence put in for what never came.
NOTED, KEPT, FILLED = 0, 1, 2
TIMES = np.dtype(
    [
        ("no", "<i8"),
        ("device_ns", "<i8"),
        ("master_ns", "<i8"),
        ("pts_ns", "<i8"),
        ("dropped", "<i4"),
        ("kept", "<i1"),
        ("samples", "<i4"),
        ("segment", "<i4"),
    ]
)
HEADER = ",".join(TIMES.names or ())
# Takes from before blocks had a length of their own.
OLD_HEADER = HEADER.removesuffix(",samples,segment")
OLD_BLOCK_SAMPLES = 480
PIECE_BYTES = 1 << 20
Times = NDArray[np.void]


class TimesWriter:
    """Writes the sidecar: one line a frame or block, on disk as soon as it is known."""

    def __init__(self, path: Path) -> None:
        self._file = path.open("w", buffering=1)
        self._file.write(HEADER + "\n")

    def write(self, *row: int) -> None:
        """Times of one frame or block, in the order of HEADER (docs/take-format.md)."""
        self._file.write(",".join(map(str, row)) + "\n")

    def close(self) -> None:
        """Close the file."""
        self._file.close()


def write_times(path: Path, times: Times) -> None:
    """Replace a sidecar as a whole."""
    fresh = path.with_suffix(".csv.new")
    with fresh.open("w") as file:
        file.write(HEADER + "\n")
        np.savetxt(file, times, fmt="%d", delimiter=",")
    fresh.replace(path)


def read_times(path: Path, names: Sequence[str] = TIMES.names or ()) -> Times:
    """Rows of a sidecar; a last line cut off by a kill is left out.

    Parameters
    ----------
    path : the sidecar
    names : fields of TIMES that are wanted; of hours the others need not be kept

    Returns
    -------
    (N,) structured ndarray with these fields of TIMES

    Raises
    ------
    TakeError
        If the file is missing, has another header, or a line in the middle is damaged.
    """
    try:
        with path.open("rb") as file:
            header = file.readline().decode(errors="replace").rstrip("\n")
            if header not in (HEADER, OLD_HEADER):
                raise TakeError(f"The times {path.name} do not begin with {HEADER}.")
            count = sum(block.count(b"\n") for block in iter(lambda: file.read(PIECE_BYTES), b""))
            file.seek(len(header) + 1)
            return _read_rows(file, count, header == OLD_HEADER, names)
    except OSError as error:
        raise TakeError(f"The times {path.name} cannot be read: {error}.") from error
    except ValueError as error:
        raise TakeError(f"The times {path.name} have a damaged line: {error}.") from error


def _read_rows(file: BinaryIO, count: int, old: bool, names: Sequence[str]) -> Times:
    times = np.zeros(count, [(n, TIMES[n]) for n in names])
    kind = np.dtype([(n, TIMES[n]) for n in OLD_HEADER.split(",")]) if old else TIMES
    done = 0
    for piece in _whole_lines(file):
        rows = np.loadtxt(io.BytesIO(piece), kind, delimiter=",", ndmin=1)
        for name in set(names).intersection(kind.names or ()):
            times[name][done : done + rows.size] = rows[name]
        done += rows.size
    if old and "samples" in names:
        times["samples"] = OLD_BLOCK_SAMPLES
    return times[:done]


def _whole_lines(file: BinaryIO) -> Iterator[bytes]:
    """A file in pieces that end at the end of a line; what comes after the last one is left out."""
    rest = b""
    while block := file.read(PIECE_BYTES):
        lines, newline, rest = (rest + block).rpartition(b"\n")
        if newline:
            yield lines + newline


def written_ms(rows: Times) -> NDArray[np.int64]:
    """Times in the file, ms, of a part's rows: rounded, and each later than the one before."""
    rounded = np.rint(rows["pts_ns"] / 1e6).astype(np.int64)
    kept = rows["kept"] == KEPT
    count = np.cumsum(kept)
    rising = np.where(kept, rounded - count, np.iinfo(np.int64).min // 2)
    return np.asarray(np.maximum.accumulate(rising) + count)


def first_pts_ns(path: Path) -> int:
    """The time of the first row, without reading the others. Raises TakeError."""
    try:
        with path.open("rb") as file:
            names = file.readline(200).decode(errors="replace").rstrip("\n").split(",")
            return int(file.readline(400).split(b",")[names.index("pts_ns")])
    except (OSError, ValueError, IndexError) as error:
        raise TakeError(f"The times {path.name} cannot be read: {error}.") from error


def last_times(path: Path) -> Times:
    """The last whole row of a sidecar, (0,) or (1,), without reading it all. Raises TakeError."""
    try:
        with path.open("rb") as file:
            size = file.seek(0, io.SEEK_END)
            file.seek(max(0, size - 4096))
            lines = file.read().rpartition(b"\n")[0].split(b"\n")
    except OSError as error:
        raise TakeError(f"The times {path.name} cannot be read: {error}.") from error
    last = lines[-1] if lines and not lines[-1].startswith(b"no,") else b""
    if not last:
        return np.zeros(0, TIMES)
    return np.atleast_1d(np.loadtxt(io.BytesIO(last), TIMES, delimiter=",", ndmin=1))
