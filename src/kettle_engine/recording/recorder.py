"""One take from its countdown to its end: tracks, journal, events, take.json."""

import contextlib
import os
import threading
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from kettle_core.errors import KettleError, NoRoomError, TakeError
from kettle_core.program.cues import Cue
from kettle_core.rig.devices import Event
from kettle_core.rig.encoder_settings import track_settings
from kettle_core.rig.rig import Input, Rig
from kettle_core.timing.pauses import Pauses
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.devices.report import DeviceFacts
from kettle_engine.recording.drops import ENCODER
from kettle_engine.recording.losses import Losses
from kettle_engine.recording.order import DISK_RESERVE_BYTES, TAIL_NS, Ended
from kettle_engine.recording.rig_stills import RigStills
from kettle_engine.recording.room import Room, left_in_words
from kettle_engine.recording.take_lines import TakeLines
from kettle_engine.recording.track import HELD_AT_ONCE_NS, HELD_NS, Track, TrackWriting
from kettle_engine.stamps import Arrival
from kettle_media.durable import PATIENCE_S, sync_file, sync_folder, within
from kettle_media.fault_points import fault_point
from kettle_media.rig_document import rig_to_dict
from kettle_media.take.accounting import account_of
from kettle_media.take.cues import note_pause, read_cues
from kettle_media.take.folder import TakeFolder, check_room, free_bytes
from kettle_media.take.info import (
    COMPLETE,
    INCOMPLETE,
    TakeInfo,
    TrackInfo,
    with_damage,
    with_notes,
)
from kettle_media.take.json_lines import read_json_lines
from kettle_media.take.mending import mend_track
from kettle_media.told import NO_ROOM

CHECK_EVERY_NS = NS_PER_S // 2
# A device from which nothing came for so long before the end is away.
AWAY_NS = NS_PER_S // 2
UNFINISHED = "unfinished"


class Recorder:
    """Raises TakeError if the folder or the disk won't do.

    Tracks are open, encoders and all, once it is made; `begin` sets their time 0. A track may be
    fed from a thread of its own. With `at_once` everything is done in the caller's thread.
    `lighter` are modes in words that are less work for an input.
    """

    def __init__(
        self,
        folder: TakeFolder,
        rig: Rig,
        library: Path,
        *,
        reserve_bytes: int = DISK_RESERVE_BYTES,
        at_once: bool = False,
        lighter: Mapping[str, str] | None = None,
    ) -> None:
        self.rig = rig
        self.recorded = [i for i in rig.inputs if i.has_track]
        if not self.recorded:
            raise TakeError("Nothing would be recorded; give at least one input a track.")
        check_room(folder, reserve_bytes)
        self.folder = folder
        self._reserve_bytes = reserve_bytes
        self._at_once = at_once
        self.losses = Losses(self.recorded, self.note, lighter or {})
        self.start_master_ns = 0
        self.stop_master_ns: int | None = None
        self.reason = ""
        self.errors: dict[str, str] = {}
        self.part = 1
        # Of tracks that were brought together of several parts: what was written and dropped.
        self._mended: dict[str, tuple[int, int]] = {}
        # What of them is in the originals alone, in sentences.
        self._kept_back: list[str] = []
        self._pauses = Pauses()
        # By their hashes: a layer that is dragged makes ten a second, and the take has them.
        self._kept_cues: set[int] = set()
        self._lock = threading.Lock()
        self._next_check_ns = 0
        self._infos = {i.id: track_info(rig, i) for i in self.recorded}
        self.tracks: dict[str, Track] = {}
        self._lines = TakeLines(folder, at_once)
        self._stills = RigStills(rig, library, folder)
        self._room = Room(rig, reserve_bytes)
        self.left_s: float | None = None
        # Where each pointer was last, in px of its input's picture.
        self.pointers: dict[str, tuple[float, float]] = {}

    def open_tracks(self, start_master_ns: int) -> None:
        """Open every track's files and encoder; places are counted from a master time on."""
        self.start_master_ns = start_master_ns
        held_ns = HELD_AT_ONCE_NS if self._at_once else HELD_NS
        for item in self.recorded:
            written = track_writing(self.rig, item, self._at_once)
            self.tracks[item.id] = Track(
                self.folder, item, self._infos[item.id], written, start_master_ns, self.part,
                self._pauses, held_ns,
            )  # fmt: skip
            fault_point("recorder opens")

    def move_start(self, start_master_ns: int) -> None:
        """Have time 0 at another master time than was thought, before anything was written."""
        self.start_master_ns = start_master_ns
        for track in self.tracks.values():
            track.start_master_ns = start_master_ns

    def begin(self, facts: Mapping[str, DeviceFacts]) -> None:
        """Write take.json: from now on the take is one."""
        for name, known in facts.items():
            if name in self._infos:
                self._infos[name] = replace(self._infos[name], **vars(known))
        self.info = TakeInfo(
            name=self.folder.path.name,
            rig=rig_to_dict(self.rig),
            started_at=datetime.now(UTC).isoformat(timespec="milliseconds"),
            start_master_ns=self.start_master_ns,
            tracks=tuple(self._infos[i.id] for i in self.recorded),
            engine_pid=os.getpid(),
        )
        self.folder.keep_room()
        try:
            # `sync` brings it to the disk: nothing was there before that could be lost.
            self.folder.write_info(self.info, patience_s=0.0)
        except OSError as error:
            raise TakeError(
                f"The take cannot be written to {self.folder.path}: {error}."
            ) from error
        self._stills.write(self._at_once)
        self.note("started", 0, inputs=[i.id for i in self.recorded])

    def go_on(self, info: TakeInfo, part: int) -> None:
        """Be the recorder of a take whose recorder before has died, with a new part a track."""
        self.info, self.part = info, part
        self._infos = {t.name: t for t in info.tracks}
        self.losses.take_up(read_json_lines(self.folder.journal_path))
        for cue in read_cues(self.folder)[0]:
            self._follow(cue)
        self.open_tracks(info.start_master_ns)

    def cue(self, cue: Cue) -> None:
        """Keep a cue, once."""
        if hash(cue) not in self._kept_cues:
            self._lines.cue(cue)
            self._follow(cue)

    def _follow(self, cue: Cue) -> None:
        self._kept_cues.add(hash(cue))
        note_pause(self._pauses, cue)

    def note(self, what: str, at_ns: int, before_it: bool = False, **values: Any) -> None:
        """Write a line into the take's journal, `at_ns` in record time, see `TakeLines.note`."""
        self._lines.note(what, at_ns, before_it, **values)

    def hear_until(self, master_ns: int) -> None:
        """All ends of pauses until a master time have been heard."""
        self._pauses.known_until_ns = master_ns - self.start_master_ns

    def take(self, name: str, arrival: Arrival, why: str, events: Sequence[Event] = ()) -> bool:
        """Write a capture into its track; False once nothing more is to come for it.

        A track that can't be written ends with what it has and is told; the others go on. Where
        the disk is full the take ends. What was captured after the take's end is left out.
        """
        track = self.tracks[name]
        if track.ended:
            return False
        if self._is_beyond(arrival, track):
            self._lose_before_end(name, arrival, why)
            return False
        dropped, unfetched, before_ns = track.dropped, track.unfetched, track.written_master_ns
        try:
            track.take(arrival)
        except Exception as error:  # a track must never die unseen
            self.end_track(name, error, arrival.master_ns)
            return False
        at_ns = arrival.master_ns - self.start_master_ns
        if track.dropped > dropped:
            why = ENCODER if track.unfetched > unfetched else why
            self.losses.dropped(name, track.dropped - dropped, why, at_ns, track.written)
        if arrival.restarted:
            self.note("clock set right", at_ns, input=name, device_ns=arrival.device_ns)
            away = (before_ns - self.start_master_ns, at_ns - arrival.duration_ns)
            self.losses.gap(name, self._pauses.outside_ns(*away), at_ns)
        for event in events:
            event_ns = track.record_ns(event.device_ns)
            if self._pauses.leave_out(event_ns, event_ns):
                continue
            place = self._lines.event(track.input, event, event_ns)
            if place:
                self.pointers[name] = place
        return True

    def _is_beyond(self, arrival: Arrival, track: Track) -> bool:
        """Whether a capture was taken after the take's end, however late it came."""
        if self.stop_master_ns is None or track.is_settling:
            return False
        end_ns = self.stop_master_ns - self.start_master_ns + TAIL_NS
        return track.record_ns(arrival.device_ns) > end_ns

    def _lose_before_end(self, name: str, arrival: Arrival, why: str) -> None:
        """Count what was lost before a capture beyond the end, as far as it would be the take's."""
        track = self.tracks[name]
        end_ns = (self.stop_master_ns or 0) - self.start_master_ns
        after_ns = track.record_ns(arrival.device_ns) - end_ns
        lost = track.lost_before(arrival) - after_ns // arrival.duration_ns
        if lost > 0:
            track.drop(lost)
            self.losses.dropped(name, lost, why, end_ns, track.written)

    def end_track(self, name: str, error: Exception, master_ns: int) -> None:
        """End a track that can't go on, and say why."""
        reason = str(error) if isinstance(error, KettleError | OSError) else repr(error)
        self.errors[name] = reason
        self.note("track ended", master_ns - self.start_master_ns, input=name, reason=reason)
        try:
            self.tracks[name].close()
        except Exception as closing:  # the first error is the one told
            self.note("track has no end", 0, input=name, reason=repr(closing))
        full = isinstance(error, NoRoomError) or getattr(error, "errno", None) in NO_ROOM
        if full or len(self.errors) == len(self.tracks):
            self.stop(master_ns, f"writing failed: {reason}")

    def check(self, master_ns: int) -> None:
        """Twice a second: tell of drops that are over, end the take on a nearly full disk."""
        if master_ns < self._next_check_ns:
            return
        self._next_check_ns = master_ns + CHECK_EVERY_NS
        at_ns = master_ns - self.start_master_ns
        self.losses.look(at_ns)
        if self.stop_master_ns is not None:
            return
        try:
            free = free_bytes(self.folder.path)
        except OSError as error:
            self.note("the disk does not answer", at_ns, reason=str(error))
            return
        self.left_s = self._room.left_s(free, self.size_bytes(), at_ns)
        if free < self._reserve_bytes:
            self.stop(master_ns, "the disk is nearly full")

    def trouble(self) -> list[str]:
        """What goes wrong at the moment, in sentences."""
        found = self.losses.now(self.tracks)
        for item in self.recorded:
            if item.id in self.errors:
                found.append(f"{item.name} is not recorded any more: {self.errors[item.id]}")
        left = left_in_words(self.left_s) if self.left_s is not None else ""
        return [*found, *([left] if left else []), *self._lines.trouble()]

    def keep_health(self, at_ns: int, **values: Any) -> None:
        """Write down how the machine keeps up."""
        self._lines.health({"at_ns": at_ns, **values})

    def sync(self) -> None:
        """Bring what is written to the disk; faults show where it is written."""
        folder = self.folder
        for track in self.tracks.values():
            with contextlib.suppress(OSError):
                track.sync()
        for path in (folder.info_path, *self._lines.paths):
            with contextlib.suppress(OSError):
                sync_file(path)
        for path in (folder.path / "tracks", folder.path, folder.path.parent):
            with contextlib.suppress(OSError):
                sync_folder(path)

    def stop(self, master_ns: int, reason: str = "stopped") -> None:
        """End the take at a master time; deliveries go on being taken for the tail."""
        with self._lock:
            if self.stop_master_ns is not None:
                return
            self.stop_master_ns = max(master_ns, self.start_master_ns + 1)
            self.reason = reason
        at_ns = self.stop_master_ns - self.start_master_ns
        self.note("stopped", at_ns, before_it=True, reason=reason)

    def is_over(self, master_ns: int) -> bool:
        """Whether the tail has passed too."""
        return self.stop_master_ns is not None and master_ns > self.stop_master_ns + TAIL_NS

    def finish(self, short: Mapping[str, int] | None = None) -> Ended:
        """Close all tracks and say in take.json how it ended; never raises.

        `short` says of how many ns each track that did not reach the end in time is short.
        """
        stop_ns = self.stop_master_ns or self.start_master_ns
        duration_ns = stop_ns - self.start_master_ns
        damaged: dict[str, str] = {}
        for name in self.tracks.keys() - (short or {}).keys():
            # Of the others a thread hangs in a write; who closes their files would hang as well.
            damaged |= self._close_track(name)
        # A full disk has room for the rest now.
        self.folder.give_room()
        for name in self.errors.keys() & self.tracks.keys() - (short or {}).keys():
            self._tell_cut_off(self.tracks[name])
        counts = {name: (t.written, t.dropped) for name, t in self.tracks.items()} | self._mended
        for name, missing_ns in (short or {}).items():
            self.note("track cut off", duration_ns - missing_ns, input=name)
        notes = self._notes(short or {}, counts)
        more: dict[str, Any] = {"written_and_dropped": counts}
        if not self._at_once:
            more["encoding_s"] = {n: t.encoding_ns / NS_PER_S for n, t in self.tracks.items()}
        self.note("finished", duration_ns, **more)
        notes += self._lines.close()
        found = account_of(self.folder, duration_ns)
        self.info = replace(
            self.info,
            duration_ns=duration_ns,
            state=INCOMPLETE if found else COMPLETE,
            ended_because=self.reason,
        )
        self.info = with_notes(with_damage(self.info, damaged), *notes, *found)
        return self._put_end()

    def _close_track(self, name: str) -> dict[str, str]:
        """End a track; gives what is damaged of it."""
        track = self.tracks[name]
        self.losses.end(name)
        try:
            track.close()
            self._tell_away(track)
            if self.part > 1:
                mended = mend_track(self.folder, track.info, self.start_master_ns)
                self._mended[name] = mended.frames, mended.lost_frames + track.dropped_at_end
                self._kept_back += [mended.kept_back] if mended.kept_back else []
        except Exception as error:
            self.errors.setdefault(name, str(error))
            if self.part > 1 and not isinstance(error, NoRoomError):
                return {name: str(error)}
        return {}

    def _tell_cut_off(self, track: Track) -> None:
        """Of a track that could not be written any more tell where it really ends."""
        try:
            mended = mend_track(self.folder, track.info, self.start_master_ns)
        except (KettleError, OSError):
            return
        self._mended[track.input.id] = mended.frames, mended.lost_frames
        self.note("track cut off", mended.ends_ns, input=track.input.id)

    def _tell_away(self, track: Track) -> None:
        """Tell of a device that is away as the take ends."""
        end_ns = (self.stop_master_ns or self.start_master_ns) - self.start_master_ns
        written_ns = track.written_master_ns - self.start_master_ns
        missing_ns = self._pauses.outside_ns(written_ns, end_ns)
        if missing_ns > AWAY_NS and track.input.id not in self.errors:
            self.losses.gap(track.input.id, missing_ns, end_ns)

    def _notes(self, short: Mapping[str, int], counts: Mapping[str, tuple[int, int]]) -> list[str]:
        """What is to be said of a take that has ended."""
        notes = []
        if self.reason != "stopped":
            notes.append(f"This take ended by itself: {self.reason}.")
        notes += self.losses.of(counts)
        for item in self.recorded:
            if item.id in self.errors:
                notes.append(f"{item.name}: {self.errors[item.id]}")
            if item.id in short:
                seconds = short[item.id] / NS_PER_S
                notes.append(f"{item.name}: the last {seconds:.1f} s are missing, it was too late.")
        return notes + self._kept_back + self._stills.notes()

    def _put_end(self) -> Ended:
        """Write how it ended; on a full disk there is room kept for that."""
        # What is captured is safe in the system's hands; a slow disk must not keep the end.
        patience_s = None if self._at_once else PATIENCE_S
        within(patience_s, self.sync)
        path = str(self.folder.path)
        try:
            self.folder.write_info(self.info, patience_s)
        except OSError as error:
            note = (
                f"The take is whole, but its end cannot be written: {error}. Make room on the "
                "disk; it is brought into order at the next start."
            )
            return Ended(path, UNFINISHED, (*self.info.notes, note))
        return Ended(path, self.info.state, self.info.notes)

    def size_bytes(self) -> int:
        """Bytes of all tracks so far."""
        return sum(track.size_bytes() for track in self.tracks.values())


def track_info(rig: Rig, item: Input) -> TrackInfo:
    """How take.json tells of an input's track."""
    return TrackInfo(
        name=item.id,
        title=item.name,
        kind=item.kind,
        file=f"tracks/{item.id}.mkv",
        codec="h264" if item.is_picture else rig.format.files.sound_codec,
        mode=rig.track_mode(item),
    )


def track_writing(rig: Rig, item: Input, repeatable: bool) -> TrackWriting:
    """How an input's track is written; `repeatable` as of `track_settings`."""
    if not item.is_picture:
        return TrackWriting(item.mode, sound_codec=rig.format.files.sound_codec)
    track, mode = rig.track_of(item), rig.track_mode(item)
    settings = track_settings(mode, track, repeatable)
    return TrackWriting(mode, settings, item.used_mode, rig.format.scaling, track)
