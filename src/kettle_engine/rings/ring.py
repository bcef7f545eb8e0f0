"""A ring in shared memory: one process lays captures into it, any number read them.

The file is a header, a table of entries and a data area, both used round and round. The writer
never waits. A reader that comes too late is told how many entries are gone; an entry whose data
has been overwritten since still gives its times. A capture that equals the one before points at
the same data, so that a still screen takes no room.

Layout, all integers little-endian int64 unless said otherwise:

======== =====================================================================
header   magic, version, entries, entry bytes, data bytes, head, claimed,
         state, due_ns, writer
entry    number + 1 (0 while it is written), data from, data bytes, then what
         `_FIELDS` names, then the length of its events and the events as JSON
data     planes or samples, each capture in one piece
======== =====================================================================

Numbers and places only rise; `head` is the number of the next entry, `claimed` the place up to
which data is written or about to be. Aligned stores of 8 bytes are whole on every machine that
Python runs on, and stores keep their order on x86-64 and, with the copies between them, in
practice on ARM.
"""

import json
import mmap
import os
import struct
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from copy import copy
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import EngineError
from kettle_core.rig.devices import Event, Mode
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.stamps import Arrival, Stamps

MAGIC, VERSION = 0x6B65_7474_6C65, 2
# Of a sound ten to twelve seconds are looked back at, and never more than lie in its ring.
PICTURE_S, SOUND_S, ENTRIES_S = 0.75, 15.0, 20.0
# A picture's ring holds no more than this, but always some frames; fewer are only looked at.
MOST_DATA_BYTES, LEAST_FRAMES, SHALLOW_FRAMES = 128 << 20, 8, 3
SHALLOW_ENTRIES = 64
EVENT_BYTES = 4096
# Of a pointer that moves faster than there is room for every other move is left out.
MOST_UNSENT = 512
# Data are looked at where they lie while the writer has at least that part of the ring before it.
LASTING = 0.25
# Devices may deliver blocks as short as this.
SHORTEST_BLOCK_S = 0.0025
LIVE, AWAY = 1, 0

_HEADER = 10
_HEADER_BYTES = 4096
_HEAD, _CLAIMED, _STATE, _DUE, _WRITER = 5, 6, 7, 8, 9
_FIELDS = ("no", "device_ns", "duration_ns", "master_ns", "lost", "flags", "shape_0", "shape_1")
_ENTRY = struct.Struct(f"<{3 + len(_FIELDS) + 1}q")
_CHANGED, _RESTARTED, _FLOAT, _BUSY = 1, 2, 4, 8


@dataclass(frozen=True)
class RingSize:
    """How large a ring is: entries, and bytes of data."""

    entries: int
    event_bytes: int
    data_bytes: int

    @property
    def entry_bytes(self) -> int:
        """Of one entry, with room for its events."""
        return -(-(_ENTRY.size + self.event_bytes) // 64) * 64

    @property
    def total_bytes(self) -> int:
        """Of the whole file: what a ring costs in memory."""
        return _HEADER_BYTES + self.entries * self.entry_bytes + self.data_bytes


def ring_size(mode: Mode, deep: bool = True) -> RingSize:
    """The ring for a device in a mode: bounded by seconds and by bytes.

    One that is only looked at, not recorded, need not be `deep`.

    >>> from fractions import Fraction
    >>> ring_size(Mode(1920, 1080, Fraction(30))).data_bytes // 3_110_400
    22
    """
    if mode.width:
        frame_bytes = mode.width * mode.height * 3 // 2
        if not deep:
            return RingSize(SHALLOW_ENTRIES, EVENT_BYTES, SHALLOW_FRAMES * frame_bytes)
        wanted = int(frame_bytes * PICTURE_S * float(mode.fps))
        data_bytes = max(min(wanted, MOST_DATA_BYTES), LEAST_FRAMES * frame_bytes)
        return RingSize(max(64, int(ENTRIES_S * float(mode.fps))), EVENT_BYTES, data_bytes)
    data_bytes = int(SOUND_S * mode.sample_rate_hz) * mode.channels * 4
    return RingSize(int(SOUND_S / SHORTEST_BLOCK_S), 0, data_bytes)


@dataclass(frozen=True)
class RingCapture(Arrival):
    """What a reader gets; its `fetch` copies the data, its `use` looks at them where they lie.

    `missed` is how many entries before it were overwritten before they could be read, `busy`
    whether what is lost was lost because the machine was.
    """

    missed: int = field(kw_only=True)
    busy: bool = field(kw_only=True)
    events: tuple[Event, ...] = field(kw_only=True, default=())
    look: Callable[[], tuple[NDArray[Any], Callable[[], bool]] | None] = field(kw_only=True)

    def use(self, do: Callable[[NDArray[Any]], None]) -> bool:
        """As of `Arrival`. What will soon be written over is copied before."""
        found = self.look()
        if found is None:
            return super().use(do)
        data, is_there = found
        do(data)
        return is_there()


class _Ring:
    """A ring's file, mapped."""

    def __init__(self, path: Path, size: int) -> None:
        descriptor = os.open(path, os.O_RDWR)
        try:
            if os.fstat(descriptor).st_size < max(size, _HEADER_BYTES):
                raise EngineError(f"The ring {path.name} is shorter than it says.")
            self._map = mmap.mmap(descriptor, os.fstat(descriptor).st_size)
        finally:
            os.close(descriptor)
        self.header = np.frombuffer(self._map, np.int64, _HEADER)
        if (self.header[0], self.header[1]) != (MAGIC, VERSION):
            raise EngineError(f"{path.name} is no ring of this version.")
        self.entries, self.entry_bytes = int(self.header[2]), int(self.header[3])
        self.data_bytes = int(self.header[4])
        self._data_from = _HEADER_BYTES + self.entries * self.entry_bytes
        self.data = np.frombuffer(self._map, np.uint8, self.data_bytes, self._data_from)

    def entry_at(self, number: int) -> int:
        """Where an entry lies in the file."""
        return _HEADER_BYTES + number % self.entries * self.entry_bytes


def make_ring(path: Path, mode: Mode, deep: bool = True) -> None:
    """Make a ring's file, with all its memory, unless a fitting one is there.

    Raises
    ------
    EngineError
        If there is no room for it.
    """
    size = ring_size(mode, deep)
    wanted = (MAGIC, VERSION, size.entries, size.entry_bytes, size.data_bytes)
    if path.exists():
        with path.open("rb") as file:
            if file.read(40) == struct.pack("<5q", *wanted):
                return
    fresh = path.with_suffix(".new")
    descriptor = os.open(fresh, os.O_RDWR | os.O_CREAT | os.O_TRUNC, 0o600)
    try:
        # Reserved now: a page that can't be had later would end the process that touches it.
        os.posix_fallocate(descriptor, 0, size.total_bytes)
        os.pwrite(descriptor, struct.pack("<5q", *wanted), 0)
    except OSError as error:
        fresh.unlink(missing_ok=True)
        needed_mb = size.total_bytes / 1e6
        raise EngineError(
            f"There is no memory for the pictures or sound of a device: {needed_mb:.0f} MB are "
            f"needed in {path.parent}. Close something, or use a smaller mode."
        ) from error
    finally:
        os.close(descriptor)
    fresh.replace(path)


class RingWriter:
    """The one writer. After its process died another one goes on where it was."""

    def __init__(self, path: Path, mode: Mode, deep: bool = True) -> None:
        make_ring(path, mode, deep)
        self.path = path
        self._ring = _Ring(path, ring_size(mode, deep).total_bytes)
        self._ring.header[_WRITER] = os.getpid()
        self._at = int(self._ring.header[_CLAIMED])
        # Device times need not go on from what another process wrote.
        self._takes_over = int(self._ring.header[_HEAD]) > 0
        self._last: tuple[int, int, tuple[int, int], bool] | None = None
        # Events that no entry has yet, each as JSON: done once, however long it waits.
        self._unsent: deque[tuple[bool, bytes]] = deque()

    def tell(self, live: bool, due_ns: int) -> None:
        """Say whether the device is there and when (master ns) its next capture is due."""
        header = self._ring.header
        header[_DUE], header[_STATE] = due_ns, live

    def write(
        self,
        data: NDArray[Any],
        stamps: Stamps,
        *,
        busy: bool = False,
        events: Sequence[Event] = (),
    ) -> None:
        """Lay one capture into the ring."""
        ring = self._ring
        if stamps.changed or self._last is None:
            shape = (int(data.shape[0]), int(data.shape[1]))
            self._last = (*self._put(data), shape, data.dtype == np.float32)
        start, count, shape, is_float = self._last
        restarted, self._takes_over = stamps.restarted or self._takes_over, False
        flags = (
            _CHANGED * stamps.changed | _RESTARTED * restarted | _FLOAT * is_float | _BUSY * busy
        )
        packed = self._pack_events(events)
        number = int(ring.header[_HEAD])
        at = ring.entry_at(number)
        times = (stamps.no, stamps.device_ns, stamps.duration_ns, stamps.master_ns, stamps.lost)
        _ENTRY.pack_into(ring._map, at, 0, start, count, *times, flags, *shape, len(packed))
        ring._map[at + _ENTRY.size : at + _ENTRY.size + len(packed)] = packed
        struct.pack_into("<q", ring._map, at, number + 1)
        ring.header[_HEAD] = number + 1

    def _put(self, data: NDArray[Any]) -> tuple[int, int]:
        """Copy data to the next free place; gives where it lies and its length."""
        ring, count = self._ring, int(data.nbytes)
        if count > ring.data_bytes:
            raise EngineError(f"A capture of {count} bytes is larger than its ring.")
        left = ring.data_bytes - self._at % ring.data_bytes
        start = self._at if count <= left else self._at + left
        self._at = start + count
        ring.header[_CLAIMED] = self._at
        place = start % ring.data_bytes
        flat = np.ascontiguousarray(data).view(np.uint8).reshape(-1)
        ring.data[place : place + count] = flat
        return start, count

    def _pack_events(self, events: Sequence[Event]) -> bytes:
        """As many events as there is room for; the rest goes with the next entry."""
        room = self._ring.entry_bytes - _ENTRY.size - len("[]")
        for event in events:
            row = json.dumps([event.device_ns, event.kind, event.values]).encode()
            # One alone that does not fit is left out.
            if len(row) <= room:
                self._unsent.append((event.kind == "pointer", row))
        if len(self._unsent) > MOST_UNSENT:
            self._unsent = deque(_thinned(self._unsent))
        sent: list[bytes] = []
        while self._unsent and len(self._unsent[0][1]) + len(",") * bool(sent) <= room:
            row = self._unsent.popleft()[1]
            room -= len(row) + len(",") * bool(sent)
            sent.append(row)
        return b"[" + b",".join(sent) + b"]" if sent else b""


def _thinned(events: Iterable[tuple[bool, bytes]]) -> Iterator[tuple[bool, bytes]]:
    moves = 0
    for is_move, row in events:
        moves += is_move
        if not is_move or moves % 2:
            yield is_move, row


class RingReader:
    """Reads a ring from its end, or from a master time on, at its own pace."""

    def __init__(self, path: Path, from_master_ns: int | None = None) -> None:
        self._ring = _Ring(path, _HEADER_BYTES)
        self.path = path
        self._next = self.head
        if from_master_ns is not None:
            self._go_back_to(from_master_ns)

    @property
    def head(self) -> int:
        """The number of the next entry."""
        return int(self._ring.header[_HEAD])

    @property
    def waiting(self) -> int:
        """How many entries have not been read."""
        return max(0, self.head - self._next)

    @property
    def is_live(self) -> bool:
        """Whether the device is there."""
        return bool(self._ring.header[_STATE] == LIVE)

    @property
    def due_ns(self) -> int:
        """Master time at which the next capture is due, as the writer said last."""
        return int(self._ring.header[_DUE])

    def read(self) -> RingCapture | None:
        """The next capture, or None if there is none yet."""
        head = self.head
        missed = 0
        # The oldest entry may be written over at any moment.
        oldest = head - self._ring.entries + 1
        if self._next < oldest:
            missed, self._next = oldest - self._next, oldest
        while self._next < head:
            found = self._entry(self._next, missed)
            self._next += 1
            if found:
                return found
            missed += 1
        return None

    def newest(self) -> RingCapture | None:
        """The newest capture."""
        number = self.head - 1
        return self._entry(number, 0) if number >= 0 else None

    def at(self, master_ns: int) -> tuple[RingCapture, int] | None:
        """The newest capture that had come by a master time, and its place as of `newest_place`.

        None where it is not there any more.
        """
        number = self.head - 1
        oldest = max(0, self.head - self._ring.entries + 1)
        while number >= oldest:
            stamp = self._stamp(number)
            if stamp is None:
                return None
            if stamp <= master_ns:
                found = self._entry(number, 0)
                return (found, int(self._header_of(number)[1])) if found else None
            number -= 1
        return None

    def newest_place(self) -> int:
        """Another number whenever the newest picture may look different; -1 if there is none."""
        number = self.head - 1
        return int(self._header_of(number)[1]) if number >= 0 else -1

    def _header_of(self, number: int) -> tuple[int, ...]:
        return _ENTRY.unpack_from(self._ring._map, self._ring.entry_at(number))

    def _stamp(self, number: int) -> int | None:
        values = self._header_of(number)
        return values[6] if values[0] == number + 1 else None

    def _go_back_to(self, from_master_ns: int) -> None:
        oldest = max(0, self.head - self._ring.entries + 1)
        while self._next > oldest:
            stamp = self._stamp(self._next - 1)
            if stamp is None or stamp < from_master_ns:
                return
            self._next -= 1

    def recent(self, seconds: float) -> list[NDArray[Any]]:
        """Data of the last seconds, the oldest first, as far as they are still there.

        For any thread, whatever else is read.
        """
        newest = self.newest()
        if newest is None:
            return []
        reader = copy(self)
        reader._next = reader.head
        reader._go_back_to(newest.master_ns - round(seconds * NS_PER_S))
        found = (got.fetch() for got in iter(reader.read, None))
        return [data for data in found if data is not None]

    def find(self, no: int) -> RingCapture | None:
        """The capture with the device's number `no`, if it is still there."""
        for number in range(self.head - 1, max(0, self.head - self._ring.entries + 1) - 1, -1):
            found = self._entry(number, 0)
            if found and found.no == no:
                return found
        return None

    def _entry(self, number: int, missed: int) -> RingCapture | None:
        ring, at = self._ring, self._ring.entry_at(number)
        values = self._header_of(number)
        if values[0] != number + 1:
            return None
        _, start, count, no, device_ns, duration_ns, master_ns, lost, flags, *shape, length = values
        events: tuple[Event, ...] = ()
        packed = bytes(ring._map[at + _ENTRY.size : at + _ENTRY.size + length])
        if self._header_of(number)[0] != number + 1:
            return None
        if packed:
            events = tuple(Event(*row) for row in json.loads(packed))
        return RingCapture(
            no=no,
            device_ns=device_ns,
            duration_ns=duration_ns,
            master_ns=master_ns,
            lost=lost,
            changed=bool(flags & _CHANGED),
            restarted=bool(flags & _RESTARTED),
            missed=missed,
            busy=bool(flags & _BUSY),
            fetch=lambda: self._data(start, count, flags, shape),
            look=lambda: self._look(start, count, flags, shape),
            events=events,
        )

    def _data(self, start: int, count: int, flags: int, shape: list[int]) -> NDArray[Any] | None:
        if self._ahead(start) < 0:
            return None
        copied = self._view(start, count, flags, shape).copy()
        # What the writer has claimed meanwhile may have been written over while it was copied.
        return copied if self._ahead(start) >= 0 else None

    def _look(
        self, start: int, count: int, flags: int, shape: list[int]
    ) -> tuple[NDArray[Any], Callable[[], bool]] | None:
        """The data where they lie, and whether they still do; None where that is not for long."""
        if self._ahead(start) < self._ring.data_bytes * LASTING:
            return None
        return self._view(start, count, flags, shape), lambda: self._ahead(start) >= 0

    def _ahead(self, start: int) -> int:
        """How many bytes the writer may lay in before it comes to a place; less than 0 after."""
        return start + self._ring.data_bytes - int(self._ring.header[_CLAIMED])

    def _view(self, start: int, count: int, flags: int, shape: list[int]) -> NDArray[Any]:
        ring = self._ring
        place = start % ring.data_bytes
        kind = np.float32 if flags & _FLOAT else np.uint8
        return ring.data[place : place + count].view(kind).reshape(shape)
