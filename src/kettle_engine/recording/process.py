"""The recorder's process: one take, from rings into tracks. Nothing else lives here."""

import os
import shutil
import threading
import time
from collections import deque
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from kettle_core.errors import KettleError
from kettle_core.rig.trial import head_room
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.clock import WallClock
from kettle_engine.devices.report import DeviceFacts
from kettle_engine.line import Line
from kettle_engine.recording.drops import BUSY, DEVICE, ENCODER
from kettle_engine.recording.order import TAIL_NS, Ended, Order
from kettle_engine.recording.recorder import UNFINISHED, Recorder
from kettle_engine.recording.track import Track
from kettle_engine.rings.ring import RingReader
from kettle_media.account.reading import known_until
from kettle_media.priority import RECORDS, rank
from kettle_media.take.folder import TakeFolder
from kettle_media.take.times import last_times, read_times

# How often a track looks for more: a sound's blocks are taken some at a time, a picture when it
# is due.
SOUND_EVERY_S, PICTURE_AT_LEAST_S, PICTURE_AT_MOST_S = 0.04, 0.005, 0.04
HEAR_EVERY_S = 0.02
TELL_EVERY_S, SYNC_EVERY_S, HEALTH_EVERY_NS = 0.2, 1.0, NS_PER_S
# Loads are those of so many tells.
LOAD_TELLS = 15
# What was captured before the end is waited for so long.
DRAIN_NS = 10 * NS_PER_S
# What devices' processes write down of it is waited for so long.
ACCOUNT_LIMIT_S = 1.5
# A disk may take its time for the end; what takes longer hangs.
FINISH_LIMIT_S = 300.0
# A track whose newest capture has waited so long is told as late.
LATE_NS = NS_PER_S
# Written again after a recorder died: what its muxer had not given away yet.
OVERLAP_NS = 700_000_000


class Feed:
    """Brings captures from a ring to a track, in a thread of its own."""

    def __init__(self, recorder: Recorder, name: str, ring: str, clock: WallClock) -> None:
        self.done = threading.Event()
        self.late_ns = 0
        self._recorder, self._name, self._clock = recorder, name, clock
        self._ring = Path(ring)
        self._thread = threading.Thread(target=self._run, name=f"track {name}", daemon=True)

    def start(self, from_master_ns: int) -> None:
        """Begin with what came at a master time."""
        self._from_ns = from_master_ns
        self._thread.start()

    def _run(self) -> None:
        try:
            reader = RingReader(self._ring, self._from_ns)
            self._place(reader)
            while self._step(reader):
                pass
        except Exception as error:  # told as the end of this track
            self._recorder.end_track(self._name, error, self._clock.now_ns())
        finally:
            self.done.set()

    def _place(self, reader: RingReader) -> None:
        """After a recorder that died: go on where its part of the track says."""
        track = self._recorder.tracks[self._name]
        before = _part_before(self._recorder, track)
        if before:
            rows = read_times(before)
            known = reader.find(int(rows[-1]["no"]))
            track.go_on_after(rows[0], rows[-1], known.device_ns if known else None)

    def _step(self, reader: RingReader) -> bool:
        now_ns = self._clock.now_ns()
        # Asked before reading: what a device that was late lays in meanwhile is the take's too.
        is_drained = self._is_drained(reader, now_ns)
        got = reader.read()
        track = self._recorder.tracks[self._name]
        if got is None:
            self.late_ns = 0
            if track.ended or is_drained:
                return False
            time.sleep(self._until_next_s(track, reader, now_ns))
            return True
        self.late_ns = self._clock.now_ns() - got.master_ns
        arrival = replace(got, lost=got.lost + got.missed) if got.missed else got
        why = ENCODER if got.missed else BUSY if got.busy else DEVICE
        return self._recorder.take(self._name, arrival, why, got.events)

    @staticmethod
    def _until_next_s(track: Track, reader: RingReader, now_ns: int) -> float:
        if not track.input.is_picture:
            return SOUND_EVERY_S
        due_s = (reader.due_ns - now_ns) / NS_PER_S
        return min(max(due_s, PICTURE_AT_LEAST_S), PICTURE_AT_MOST_S)

    def _is_drained(self, reader: RingReader, now_ns: int) -> bool:
        """Whether nothing that was captured before the take's end is still to come."""
        stop_ns = self._recorder.stop_master_ns
        if stop_ns is None or now_ns < stop_ns + TAIL_NS:
            return False
        return not reader.is_live or reader.due_ns > stop_ns + TAIL_NS


def run_recorder(line: Line, order: Order) -> None:
    """Record a take; says "ended" with how, whatever happens."""
    rank(RECORDS)
    folder = TakeFolder(order.folder)
    try:
        with folder.held():
            ended = RecorderProcess(line, order, folder).run()
    except (KettleError, OSError) as error:
        ended = Ended(str(order.folder), "failed", (str(error),))
        if order.goes_on and folder.info_path.exists():
            note = f"It could not go on after its recorder had ended: {error}. What was recorded is"
            told = f"{note} there, and is brought into order once its folder can be written to."
            ended = Ended(str(order.folder), UNFINISHED, (told,))
    line.send("ended", ended)


class RecorderProcess:
    """The main thread: hears the engine, looks after the disk, tells how it goes."""

    def __init__(self, line: Line, order: Order, folder: TakeFolder) -> None:
        self._line, self._order = line, order
        self._clock = WallClock(order.base_ns)
        self._recorder = Recorder(
            folder,
            order.rig,
            order.library,
            reserve_bytes=order.reserve_bytes,
            lighter=order.lighter,
        )
        self._feeds: dict[str, Feed] = {}
        self._tell_at = 0.0
        self._health_at_ns = 0
        # By the engine, which sees to its folder, or because that is gone.
        self._given_up = self._is_left = False
        self._started_ns = self._clock.now_ns()
        self._loads = Loads()

    def run(self) -> Ended:
        """Record until the engine says stop or is gone."""
        recorder = self._recorder
        if self._order.goes_on:
            self._go_on()
        else:
            recorder.open_tracks(self._order.start_ns)
            self._line.send("ready")
        threading.Thread(target=self._sync, name="sync", daemon=True).start()
        while not self._is_over():
            self._line.beat()
            self._hear()
            if self._given_up:
                for track in recorder.tracks.values():
                    track.close()
                if self._is_left and not recorder.folder.info_path.exists():
                    # It never was a take, and nobody else takes it away.
                    shutil.rmtree(recorder.folder.path, ignore_errors=True)
                return Ended(str(recorder.folder.path), "given up", ())
            now_ns = self._clock.now_ns()
            if self._feeds:
                recorder.check(now_ns)
            if time.monotonic() >= self._tell_at:
                self._tell_at = time.monotonic() + TELL_EVERY_S
                status = self._status()
                self._line.send_newest("take", status)
                self._keep_health(now_ns - recorder.start_master_ns, status)
            time.sleep(HEAR_EVERY_S)
        self._line.send("finishing")
        with self._line.beating(FINISH_LIMIT_S):
            self._await_account()
            return recorder.finish(self._short())

    def _await_account(self) -> None:
        """Wait until the devices' processes have written down what came; one may be gone."""
        until_s = time.monotonic() + ACCOUNT_LIMIT_S
        stop_ns = self._recorder.stop_master_ns or 0
        while time.monotonic() < until_s:
            if min(known_until(self._recorder.folder.path).values(), default=stop_ns) >= stop_ns:
                return
            time.sleep(HEAR_EVERY_S)

    def _keep_health(self, at_ns: int, status: Mapping[str, Any]) -> None:
        """Each second, for who wants to know afterwards how it was."""
        if not self._feeds or at_ns < self._health_at_ns:
            return
        self._health_at_ns = at_ns + HEALTH_EVERY_NS
        tracks = status["tracks"]
        known = {name: status[name] for name in ("head_room", "encoder_loads", "size_bytes")}
        late = {name: track["late_ms"] for name, track in tracks.items()}
        dropped = {name: track["dropped"] for name, track in tracks.items() if track["dropped"]}
        left = {"left_s": round(self._recorder.left_s)} if self._recorder.left_s else {}
        self._recorder.keep_health(at_ns, **known, late_ms=late, dropped=dropped, **left)

    def _hear(self) -> None:
        try:
            while message := self._line.receive():
                word, values = message[0], message[1:]
                if word == "begin":
                    self._begin(*values)
                elif word == "stop":
                    self._recorder.stop(*values)
                elif word == "give up":
                    self._given_up = True
                elif word == "cue":
                    self._recorder.cue(*values)
                elif word == "heard":
                    self._recorder.hear_until(*values)
                elif word == "note":
                    what, at_ns, more = values
                    self._recorder.note(what, at_ns - self._recorder.start_master_ns, **more)
        except EOFError:
            if not self._feeds:
                self._given_up = self._is_left = True
            self._recorder.stop(self._clock.now_ns(), "the engine ended")

    def _begin(
        self, start_ns: int, facts: Mapping[str, DeviceFacts], rings: Mapping[str, str]
    ) -> None:
        recorder = self._recorder
        recorder.move_start(start_ns)
        # First, as the disk may take its time for what tells of the take.
        self._start_feeds(rings, dict.fromkeys(rings, start_ns))
        recorder.begin(facts)
        self._keep_cues()

    def _keep_cues(self) -> None:
        for cue in self._order.cues:
            self._recorder.cue(cue)

    def _start_feeds(self, rings: Mapping[str, str], from_ns: Mapping[str, int]) -> None:
        self._recorder.hear_until(self._order.told_ns)
        for name in self._recorder.tracks:
            self._feeds[name] = Feed(self._recorder, name, rings[name], self._clock)
        for name, feed in self._feeds.items():
            feed.start(from_ns[name])

    def _go_on(self) -> None:
        """Take the place of a recorder that died."""
        recorder, order = self._recorder, self._order
        if order.stop:
            recorder.stop(*order.stop)
        folder = recorder.folder
        if not folder.info_path.exists():
            # It had not come to tell of the take; the rings have what it had.
            recorder.open_tracks(order.start_ns)
            self._begin(order.start_ns, order.facts, order.rings)
            return
        info = folder.read_info()
        parts = [max(folder.parts(t), default=1) for t in info.tracks]
        recorder.go_on(info, max(parts) + 1)
        self._keep_cues()
        from_ns, gone_ns = {}, 0
        for name, track in recorder.tracks.items():
            before = _part_before(recorder, track)
            last_ns = int(last_times(before)[-1]["master_ns"]) if before else order.start_ns
            from_ns[name] = last_ns - OVERLAP_NS
            gone_ns = max(gone_ns, last_ns)
        at_ns = self._clock.now_ns() - recorder.start_master_ns
        written_ns = gone_ns - recorder.start_master_ns
        recorder.note("recorder started again", at_ns, True, written_until_ns=written_ns)
        self._start_feeds(order.rings, from_ns)
        recorder.losses.tell("The recorder ended by itself and goes on where it was.", at_ns)

    def _is_over(self) -> bool:
        recorder = self._recorder
        stop_ns = recorder.stop_master_ns
        if stop_ns is None:
            return False
        if all(feed.done.is_set() for feed in self._feeds.values()):
            return True
        return self._clock.now_ns() > max(stop_ns, self._started_ns) + DRAIN_NS

    def _short(self) -> dict[str, int]:
        """By how much tracks that were too late miss the take's end."""
        stop_ns = self._recorder.stop_master_ns or 0
        found = {}
        for name, feed in self._feeds.items():
            if not feed.done.is_set():
                missing_ns = stop_ns - self._recorder.tracks[name].written_master_ns
                found[name] = max(0, missing_ns)
        return found

    def _sync(self) -> None:
        while True:
            time.sleep(SYNC_EVERY_S)
            self._recorder.sync()

    def _status(self) -> dict[str, Any]:
        recorder = self._recorder
        late = {name: feed.late_ns for name, feed in self._feeds.items()}
        trouble = recorder.trouble()
        for item in recorder.recorded:
            if late.get(item.id, 0) > LATE_NS:
                seconds = late[item.id] / NS_PER_S
                trouble.append(f"{item.name} is written {seconds:.1f} s late.")
        now_ns = self._clock.now_ns()
        elapsed_ns = now_ns - recorder.start_master_ns
        pictures = {n: t.encoding_ns for n, t in recorder.tracks.items() if t.input.is_picture}
        loads = self._loads.of(pictures, now_ns)
        room = head_room(list(loads.values()), os.cpu_count() or 1)
        return {
            "encoder_loads": loads,
            "head_room": round(room, 2),
            "folder": str(recorder.folder.path),
            "elapsed_s": max(0.0, elapsed_ns / NS_PER_S) if self._feeds else 0.0,
            "size_bytes": recorder.size_bytes(),
            "worst_late_ms": max(late.values(), default=0) / 1e6,
            "trouble": trouble,
            "ended": sorted(recorder.errors),
            "left_s": recorder.left_s,
            "pointers": recorder.pointers,
            "tracks": {
                name: _track_status(track, late.get(name, 0))
                for name, track in recorder.tracks.items()
            },
        }


class Loads:
    """What encoders spend on frames against the time that passes, over the last seconds."""

    def __init__(self) -> None:
        self._before: deque[tuple[int, dict[str, int]]] = deque(maxlen=LOAD_TELLS)

    def of(self, encoding_ns: Mapping[str, int], now_ns: int) -> dict[str, float]:
        """A share of 1 for each track."""
        self._before.append((now_ns, dict(encoding_ns)))
        then_ns, then = self._before[0]
        passed_ns = max(now_ns - then_ns, 1)
        return {
            name: round((spent - then.get(name, 0)) / passed_ns, 3) if passed_ns > 1 else 0.0
            for name, spent in encoding_ns.items()
        }


def _track_status(track: Track, late_ns: int) -> dict[str, Any]:
    return {"written": track.written, "dropped": track.dropped, "late_ms": round(late_ns / 1e6)}


def _part_before(recorder: Recorder, track: Track) -> Path | None:
    """The times of the newest part of a track in which a recorder before has written anything."""
    folder = recorder.folder
    for part in reversed(folder.parts(track.info)):
        path = folder.times_path(track.info, part)
        if part < recorder.part and path.exists() and last_times(path).size:
            return path
    return None
