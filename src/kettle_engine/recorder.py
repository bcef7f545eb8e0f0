"""Records the deliveries of a rack into a take folder, one thread a track."""

import contextlib
import json
import os
import queue
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kettle_core.compose import as_used
from kettle_core.devices import BLOCK_SAMPLES, Event
from kettle_core.errors import TakeError
from kettle_core.picture import picture_from_i420, picture_to_i420
from kettle_core.rig import Input, Looks, Rig
from kettle_core.rig_data import mode_to_dict, rig_to_dict
from kettle_core.timing import NS_PER_S
from kettle_engine.priority import lower_priority
from kettle_engine.rack import Delivery, Rack
from kettle_media.stills import copy_masks, write_stills
from kettle_media.take_folder import (
    COMPLETE,
    TakeFolder,
    TakeInfo,
    append_line,
    free_bytes,
)
from kettle_media.tracks import PictureWriter, SoundWriter, TimesWriter

# Room for what a device has queued while the machine stood still.
PICTURE_QUEUE = 40
# A still display is written again this often, so that a kill does not cost more.
STILL_REPEAT_NS = NS_PER_S // 5
# Devices deliver late; a little more is recorded so that every track reaches the take's end.
TAIL_NS = 150_000_000
DISK_RESERVE_BYTES = 200_000_000
# A device that was opened again goes on by its own clock if that is no further off than this.
SAME_CLOCK_NS = 50_000_000


@dataclass(frozen=True)
class Item:
    """What a track thread writes; without data only the times."""

    no: int
    device_ns: int
    master_ns: int
    pts_ns: int
    dropped: int
    data: NDArray[Any] | None


class Track:
    """One track of a take: its files, its thread, its counts."""

    def __init__(self, folder: TakeFolder, item: Input, info: dict[str, Any], wait: bool) -> None:
        self.input = item
        self.info = info
        self.written = self.dropped = 0
        self.error: TakeError | None = None
        self._wait = wait
        self._dropped_before = 0
        self._first: tuple[int, int] | None = None
        # What is added to device times so that they go on after the device's clock jumped.
        self._shift_ns = 0
        self._last: tuple[int, int, int] | None = None
        self._last_written_ns = -STILL_REPEAT_NS
        self._path, self._times_path = folder.track_path(info), folder.times_path(info)
        bounded = item.is_picture or wait
        self._queue: queue.Queue[Item | None] = queue.Queue(PICTURE_QUEUE if bounded else 0)
        self._thread = threading.Thread(target=self._run, name=f"track {item.id}", daemon=True)
        self._thread.start()

    @property
    def waiting(self) -> int:
        """How many frames or blocks are not written yet."""
        return self._queue.qsize()

    def take(self, delivery: Delivery, start_master_ns: int) -> None:
        """Queue a delivery; a picture that finds the queue full is dropped and counted."""
        capture = delivery.capture
        block_ns = 0 if self.input.is_picture else capture.duration_ns
        if self._first is None:
            begun_ns = delivery.master_ns - block_ns - start_master_ns
            if begun_ns < 0:
                return
            self._first = (capture.device_ns, begun_ns)
        elif delivery.restarted:
            self._go_on(capture.device_ns, delivery.master_ns)
        device_ns = capture.device_ns + self._shift_ns
        if not self.input.is_picture:
            self._fill_gap(device_ns, delivery.master_ns)
        self.dropped += delivery.lost
        self._dropped_before += delivery.lost
        self._last = (device_ns + capture.duration_ns, delivery.master_ns, capture.no)
        pts_ns = self._first[1] + device_ns - self._first[0]
        kept = capture.changed or pts_ns - self._last_written_ns >= STILL_REPEAT_NS
        self._put(
            Item(
                capture.no,
                device_ns,
                delivery.master_ns,
                pts_ns,
                self._dropped_before,
                capture.data if kept else None,
            )
        )

    def _put(self, item: Item) -> None:
        kept = item.data is not None
        try:
            self._queue.put(item, block=self._wait)
        except queue.Full:
            self.dropped += kept
            self._dropped_before += kept
            return
        self._dropped_before = 0
        if kept:
            self._last_written_ns = item.pts_ns

    def _go_on(self, device_ns: int, master_ns: int) -> None:
        """After a restart: lay the device's times on where the master says they should be."""
        if self._last is None:
            return
        end_ns, last_master_ns, _ = self._last
        duration_ns = 0
        if not self.input.is_picture:
            duration_ns = BLOCK_SAMPLES * NS_PER_S // self.input.mode.sample_rate_hz
        expected_ns = end_ns + (master_ns - last_master_ns) - duration_ns
        if abs(device_ns + self._shift_ns - expected_ns) > SAME_CLOCK_NS:
            self._shift_ns = max(expected_ns, end_ns) - device_ns

    def _fill_gap(self, device_ns: int, master_ns: int) -> None:
        """Write silence for blocks that never came: a sound's samples are its time."""
        if self._last is None or self._first is None:
            return
        at_ns, last_master_ns, no = self._last
        rate_hz = self.input.mode.sample_rate_hz
        missing = max(0, round((device_ns - at_ns) * rate_hz / NS_PER_S))
        if missing < 2:
            return
        # One for all: a device may have been away for hours.
        silence = np.zeros((self.input.mode.channels, BLOCK_SAMPLES), np.float32)
        for start in range(0, missing, BLOCK_SAMPLES):
            samples = min(BLOCK_SAMPLES, missing - start)
            silent_ns = at_ns + start * NS_PER_S // rate_hz
            share = (start + samples) / (missing + BLOCK_SAMPLES)
            stamp_ns = last_master_ns + round((master_ns - last_master_ns) * share)
            pts_ns = self._first[1] + silent_ns - self._first[0]
            self._put(Item(no, silent_ns, stamp_ns, pts_ns, 1, silence[:, :samples]))

    def close(self) -> None:
        """Write what is queued and end the files."""
        self._queue.put(None)
        self._thread.join()

    def _run(self) -> None:
        lower_priority(1)
        try:
            self._write_all()
        except (TakeError, OSError) as error:
            self.error = TakeError(str(error))
            while self._queue.get() is not None:
                pass

    def _write_all(self) -> None:
        # Encoders are opened here: in the capture thread that would hold up all devices.
        times = TimesWriter(self._times_path)
        writer: PictureWriter | SoundWriter
        if self.input.is_picture:
            writer = PictureWriter(self._path, self.input.is_screen, self.input.track_mode)
        else:
            writer = SoundWriter(self._path, self.input.mode)
        try:
            while (item := self._queue.get()) is not None:
                self._write(writer, times, item)
        except (TakeError, OSError):
            # What is there already gets its end if it can; the first error is the one told.
            with contextlib.suppress(TakeError, OSError):
                writer.close()
            raise
        writer.close()
        times.close()

    def _write(self, writer: PictureWriter | SoundWriter, times: TimesWriter, item: Item) -> None:
        if item.data is not None:
            data = _as_used(item.data, self.input.looks) if self.input.is_picture else item.data
            writer.write(data, item.pts_ns)
            self.written += 1
        stamps = (item.no, item.device_ns, item.master_ns, item.pts_ns)
        times.write(*stamps, item.dropped, int(item.data is not None))


class Recorder:
    """One take from start to stop. Raises TakeError if the folder or the disk won't do."""

    def __init__(
        self,
        folder: TakeFolder,
        rig: Rig,
        rack: Rack,
        start_master_ns: int,
        realtime: bool,
        library: Path,
        reserve_bytes: int = DISK_RESERVE_BYTES,
    ) -> None:
        recorded = [i for i in rig.inputs if i.has_track]
        if not recorded:
            raise TakeError("Nothing would be recorded; give at least one input a track.")
        check_room(folder, reserve_bytes)
        self.folder = folder
        self._reserve_bytes = reserve_bytes
        self.start_master_ns = start_master_ns
        self.stop_master_ns: int | None = None
        self.reason = ""
        self._rack = rack
        self._next_check_ns = start_master_ns
        self.info = TakeInfo(
            name=folder.path.name,
            rig=rig_to_dict(rig),
            started_at=datetime.now(UTC).isoformat(timespec="milliseconds"),
            start_master_ns=start_master_ns,
            tracks=[_track_info(i, rack) for i in recorded],
            engine_pid=os.getpid(),
        )
        folder.write_info(self.info)
        # Drawing and writing pictures would hold up the devices.
        self._stills = threading.Thread(target=self._write_stills, args=(rig, library))
        self._stills.start()
        self.tracks = {
            i.id: Track(folder, i, t, wait=not realtime)
            for i, t in zip(recorded, self.info.tracks, strict=True)
        }
        first = {"at_ns": 0, "what": "scene", "scene": rig.default_scene.id}
        append_line(folder.path / "cues.jsonl", first)
        self.note("started", inputs=[i.id for i in recorded])
        self._events = (folder.path / "events.jsonl").open("a", buffering=1)

    def _write_stills(self, rig: Rig, library: Path) -> None:
        stills = {i.id: i for i in rig.inputs if i.is_still and i.on}
        for name in write_stills(stills, library, self.folder.stills_path) if stills else ():
            self.info.notes.append(f"{stills[name].name}: its picture was not in the library.")
        copy_masks(rig.scenes, library, self.folder.stills_path)

    def note(self, what: str, **values: Any) -> None:
        """Write a line into the take's journal."""
        append_line(self.folder.path / "journal.jsonl", {"what": what, **values})

    def take(self, delivery: Delivery) -> None:
        """Take a delivery of the rack for every track it belongs to."""
        stop_ns = self.stop_master_ns
        if stop_ns is not None and delivery.master_ns > stop_ns + TAIL_NS:
            return
        for item in delivery.inputs:
            track = self.tracks.get(item.id)
            if track is None:
                continue
            if delivery.lost:
                self.note("frames lost", input=item.id, frames=delivery.lost)
            if delivery.restarted:
                self.note("clock set right", input=item.id)
            track.take(delivery, self.start_master_ns)
            self._write_events(item, delivery.events)

    def _write_events(self, item: Input, events: Sequence[Event]) -> None:
        """In the pixels of the input's picture; what lies outside a region is left out."""
        crop = item.looks.crop
        for event in events:
            if not (item.looks.keys if event.kind == "key" else item.looks.pointer):
                continue
            values = dict(event.values)
            if crop and "x" in values:
                values["x"], values["y"] = values["x"] - crop.left, values["y"] - crop.top
                if not (0 <= values["x"] < crop.width and 0 <= values["y"] < crop.height):
                    continue
            row = {"device_ns": event.device_ns, "input": item.id, "what": event.kind}
            self._events.write(json.dumps({**row, **values}) + "\n")

    def check(self, master_ns: int) -> None:
        """Twice a second: stop where the disk or a track fails."""
        if master_ns < self._next_check_ns or self.stop_master_ns is not None:
            return
        self._next_check_ns = master_ns + NS_PER_S // 2
        broken = next((t for t in self.tracks.values() if t.error), None)
        if broken:
            self.stop(master_ns, f"writing failed: {broken.error}")
        elif free_bytes(self.folder.path) < self._reserve_bytes:
            self.stop(master_ns, "the disk is nearly full")

    def stop(self, master_ns: int, reason: str = "stopped") -> None:
        """End the take at a master time; deliveries go on being taken for the tail."""
        if self.stop_master_ns is None:
            self.stop_master_ns = max(master_ns, self.start_master_ns + 1)
            self.reason = reason
            self.note("stopped", reason=reason)

    def is_over(self, master_ns: int) -> bool:
        """Whether the tail has passed too."""
        return self.stop_master_ns is not None and master_ns > self.stop_master_ns + TAIL_NS

    def finish(self) -> TakeInfo:
        """Close all tracks and say in take.json how it ended."""
        for track in self.tracks.values():
            track.close()
        self._events.close()
        self._stills.join()
        for track in self.tracks.values():
            if track.error:
                self.info.notes.append(f"{track.input.name}: {track.error}")
        stop_ns = self.stop_master_ns or self.start_master_ns
        self.info.duration_ns = stop_ns - self.start_master_ns
        self.info.state, self.info.ended_because = COMPLETE, self.reason
        if self.reason != "stopped":
            self.info.notes.insert(0, f"This take ended by itself: {self.reason}.")
        counts = {name: [t.written, t.dropped] for name, t in self.tracks.items()}
        self.note("finished", written_and_dropped=counts)
        self.folder.write_info(self.info)
        return self.info

    def size_bytes(self) -> int:
        """Bytes of all tracks so far."""
        paths = (self.folder.track_path(t) for t in self.info.tracks)
        return sum(p.stat().st_size for p in paths if p.exists())


def check_room(folder: TakeFolder, reserve_bytes: int) -> None:
    """Raise TakeError where the disk has no room for a take."""
    free = free_bytes(folder.path)
    if free < reserve_bytes:
        raise TakeError(
            f"The disk has only {free / 1e6:.0f} MB left and a take needs at least "
            f"{reserve_bytes / 1e6:.0f} MB; nothing was recorded. "
            "Make room or choose another folder."
        )


def _as_used(data: NDArray[Any], looks: Looks) -> NDArray[Any]:
    """A device's I420 buffer as its input uses it, as another one if anything differs."""
    if looks.crop is None and not looks.turn and not looks.mirrored:
        return data
    return picture_to_i420(as_used(picture_from_i420(data), looks))


def _track_info(item: Input, rack: Rack) -> dict[str, Any]:
    device = rack.info_of(item)
    return {
        "name": item.id,
        "title": item.name,
        "kind": item.kind,
        "file": f"tracks/{item.id}.mkv",
        "codec": "h264" if item.is_picture else "flac",
        "mode": mode_to_dict(item.track_mode),
        "reported_latency_ms": device.reported_latency_ms if device else None,
        "truth": rack.truth_of(item),
    }
