"""Cells of a program that is being written, kept until it is whole: who is interrupted goes on.

A spool is one file of records, each with a head that says what follows and its CRC-32; what was
not written to its end, or is damaged, counts as not there. The first record has the stream's
headers: packets of another encoder's settings can't follow each other. It also says how large the
file came out at tries before this one, which need not be made again.
"""

import contextlib
import json
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import IO, Any
from zlib import crc32

import av

from kettle_media.program.cells import Cell

HEAD_BYTES = 4
MOST_HEAD_BYTES = 1 << 20
# A packet: its data, the number of its frame in the program, whether it is a keyframe.
Spooled = tuple[bytes, int, bool]


class Spool:
    """Packets of cells in a file; a disk that won't have them only means that none are kept."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._file: IO[bytes] | None = None
        # Where each cell's packets begin, and what its head says of them.
        self._known: dict[str, tuple[int, dict[str, Any]]] = {}
        # The sizes of tries by their names; also of those before the process was killed.
        self._tried: dict[str, int] | None = None

    def tried(self, name: str) -> int | None:
        """How many bytes came out of a try that was noted."""
        if self._tried is None:
            self._tried = {}
            with contextlib.suppress(OSError), self._path.open("rb") as file:
                first = next(self._records(file), None)
                self._tried = first[1].get("tried", {}) if first else {}
        return self._tried.get(name)

    def note(self, name: str, size_bytes: int) -> None:
        """What came out of a try after which there is another; its packets are let go."""
        self.tried(name)
        self._tried = {**(self._tried or {}), name: size_bytes}
        self.close()
        with contextlib.suppress(OSError):
            self._file = self._path.open("wb")
            self._begin([])
        self.close()

    def _begin(self, headers: list[str]) -> None:
        self._known = {}
        self._write({"headers": headers, "tried": self._tried, "bytes": 0, "crc": 0}, b"")

    def open(self, headers: Sequence[bytes]) -> None:
        """Read what is there, if it goes with a stream's headers; begin anew otherwise."""
        wanted = [unit.hex() for unit in headers]
        self.tried("")
        with contextlib.suppress(OSError):
            self._file = self._path.open("r+b" if self._path.exists() else "w+b")
            records = self._records(self._file)
            first = next(records, None)
            end = 0
            if first and first[1].get("headers") == wanted:
                end = first[2]
                for at, head, after in records:
                    self._known[head["key"]], end = (at, head), after
            self._file.truncate(end)
            self._file.seek(end)
            if not end:
                self._begin(wanted)

    @staticmethod
    def _records(file: IO[bytes]) -> Iterator[tuple[int, dict[str, Any], int]]:
        """(where its data begin, its head, where it ends) of each record that is whole."""
        while True:
            length = int.from_bytes(file.read(HEAD_BYTES), "big")
            if not 0 < length < MOST_HEAD_BYTES:
                return
            try:
                head = json.loads(file.read(length))
                at = file.tell()
                data = file.read(head["bytes"])
                if len(data) != head["bytes"] or crc32(data) != head["crc"]:
                    return
            except (ValueError, KeyError, TypeError):
                return
            yield at, head, file.tell()

    def _write(self, head: dict[str, Any], data: bytes) -> None:
        if self._file is None:
            return
        try:
            text = json.dumps(head).encode()
            self._file.write(len(text).to_bytes(HEAD_BYTES, "big") + text + data)
            self._file.flush()
        except OSError:
            # The program itself says what is wrong with the disk.
            self.close()

    def keep(self, cell: Cell, packets: Sequence[Spooled]) -> None:
        """Keep all packets of a cell."""
        rows = [(len(data), number - cell.first, key) for data, number, key in packets]
        data = b"".join(packet[0] for packet in packets)
        self._write(
            {"key": cell.key, "packets": rows, "bytes": len(data), "crc": crc32(data)}, data
        )

    def packets(self, cell: Cell) -> list[tuple[Any, int]] | None:
        """A cell's packets with the numbers of their frames; None where they were not kept."""
        found = self._known.get(cell.key)
        if found is None:
            return None
        at, head = found
        packets = []
        with contextlib.suppress(OSError), self._path.open("rb") as file:
            file.seek(at)
            for size, number, key in head["packets"]:
                packet = av.Packet(file.read(size))
                packet.is_keyframe = key
                packets.append((packet, number + cell.first))
        return packets if len(packets) == cell.end - cell.first else None

    def remove(self) -> None:
        """It is not needed any more."""
        self.close()
        with contextlib.suppress(OSError):
            self._path.unlink(missing_ok=True)

    def close(self) -> None:
        """Leave it for who goes on."""
        if self._file:
            with contextlib.suppress(OSError):
                self._file.close()
        self._file = None
