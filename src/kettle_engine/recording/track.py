"""One track of a take: places captures on the take's time and writes them."""

import time
from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from kettle_core.errors import KettleError, TakeError
from kettle_core.picture.picture import Plane
from kettle_core.rig.devices import Mode
from kettle_core.rig.encoder_settings import EncoderSettings
from kettle_core.rig.format import WEBCAM_TRACKS, TrackFormat
from kettle_core.rig.frame_choice import FrameChoice
from kettle_core.rig.rig import Input
from kettle_core.timing.pauses import Pauses
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.stamps import Arrival
from kettle_media.durable import sync_file
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TrackInfo
from kettle_media.take.times import FILLED, KEPT, NOTED, TimesWriter
from kettle_media.take.tracks import PictureWriter, SoundWriter

# A device that was opened again goes on by its own clock if that is no further off than this.
SAME_CLOCK_NS = 50_000_000
# That a pause ends is heard so late at most; captures are kept so long before they are let go. So
# long a sound's are kept too when its device is back: its samples are its time, so that they can't
# be laid elsewhere afterwards.
# Where all is done in one thread it is heard before the next capture comes.
HELD_NS, HELD_AT_ONCE_NS = 400_000_000, 1
# No device's clock goes faster or slower by more than this; what comes later comes late.
MOST_APART_PPM = 500
# Of a pause one stamp in this time keeps the clock known.
STAMP_EVERY_NS = NS_PER_S


@dataclass(frozen=True)
class TrackWriting:
    """How a track is written.

    `mode` is what is written, `source` what comes of a picture; where they differ in size it is
    scaled by a method of the format. `picture` is the format of a picture's track.
    """

    mode: Mode
    settings: EncoderSettings | None = None
    source: Mode = field(default=Mode())
    scaling: str = "area"
    picture: TrackFormat = WEBCAM_TRACKS
    sound_codec: str = "flac"


class Track:
    """Writes one input's captures into its files. For one thread; `close` is the last call.

    A later `part` goes on where a recorder that died left the part before.
    """

    def __init__(
        self,
        folder: TakeFolder,
        item: Input,
        info: TrackInfo,
        written: TrackWriting,
        start_master_ns: int,
        part: int = 1,
        pauses: Pauses | None = None,
        held_ns: int = HELD_NS,
    ) -> None:
        self.input, self.info = item, info
        self._held_ns = held_ns
        self._pauses = pauses or Pauses()
        self._held: deque[Arrival] = deque()
        # A device is back: what it brings is held until then, as its first captures may be late.
        self._settled_ns: int | None = None
        # The newest capture that a pause has left out, and where the last one that it has not is.
        self._resting: Arrival | None = None
        self._stamped_ns = 0
        # Of the dropped, those that waited so long that they were written over.
        self.written = self.dropped = self.unfetched = 0
        self.ended = False
        # Where the track ends on its own axis, and when its newest capture came.
        self.end_ns = 0
        self.written_master_ns = start_master_ns
        self.start_master_ns = start_master_ns
        self._paths = (folder.track_path(info, part), folder.times_path(info, part))
        self._first: tuple[int, int] | None = None
        # What is added to device times so that they go on after the device's clock jumped.
        self._shift_ns = 0
        # By how much record time is ahead of the track's axis, which goes by the device's clock.
        self._ahead_ns: int | None = None
        # The same by the newest capture alone.
        self._newest_ahead_ns = 0
        self._last: Arrival | None = None
        # The last one that was written of a sound, and where it ended by its device's clock.
        self._before: Arrival | None = None
        self._before_ends_ns = 0
        self._segment = 0
        # The last capture of the part before, until one of this part is noted.
        self._no_before: int | None = None
        self._samples = 0
        self._dropped_before = 0
        self._choice = FrameChoice(written.picture, written.source)
        # How long frames took to be encoded, in ns of the clock on the wall.
        self.encoding_ns = 0
        self._times = TimesWriter(self._paths[1])
        self._writer: PictureWriter | SoundWriter
        if written.settings:
            size = (written.source.width, written.source.height)
            self._writer = PictureWriter(
                self._paths[0], written.mode, written.settings, size, written.scaling
            )
        else:
            self._writer = SoundWriter(self._paths[0], item.mode, written.sound_codec)

    def go_on_after(self, first: np.void, last: np.void, device_ns: int | None) -> None:
        """Place what comes as the part before did.

        `first` and `last` are lines of that part's times, and `device_ns` the device's own time
        of the last one; None where that is not known any more: the master's time tells then.
        """
        self._first = (int(first["device_ns"]), int(first["pts_ns"]))
        self.written_master_ns = int(last["master_ns"])
        self._segment = int(last["segment"])
        self._no_before = int(last["no"])
        if device_ns is not None:
            self._shift_ns = int(last["device_ns"]) - device_ns
            return
        rate = self.input.mode.sample_rate_hz or 1
        length_ns = int(last["samples"]) * NS_PER_S // rate
        master_ns = int(last["master_ns"])
        no, last_ns = int(last["no"]), int(last["device_ns"])
        self._last = Arrival(no, last_ns, length_ns, master_ns, fetch=lambda: None)

    def take(self, arrival: Arrival) -> None:
        """Write a capture. Raises TakeError or OSError when it can't."""
        if self._first is None:
            begun_ns = self._begun_master_ns(arrival) - self.start_master_ns
            if begun_ns < 0:
                return
            self._first = (arrival.device_ns, begun_ns)
        elif arrival.restarted:
            self._settle()
            self._let_go(self._last.master_ns + self._held_ns if self._last else 0)
            self._settled_ns = arrival.master_ns + (0 if self.input.is_picture else self._held_ns)
        if self._settled_ns is None:
            self._follow(arrival)
            return
        self._held.append(arrival)
        if arrival.master_ns >= self._settled_ns:
            self._settle()

    def _follow(self, arrival: Arrival) -> None:
        self._follow_clock(arrival)
        self._last = arrival
        self._held.append(arrival)
        self._let_go(arrival.master_ns)

    @property
    def is_settling(self) -> bool:
        """Whether it is not known yet where what comes lies, as its device is just back."""
        return self._settled_ns is not None

    def _settle(self) -> None:
        """Place what a device that is back has brought, and take it."""
        if self._settled_ns is None:
            return
        back, self._settled_ns = tuple(self._held), None
        self._held.clear()
        self._go_on(back)
        for arrival in back:
            self._follow(arrival)

    def _let_go(self, now_ns: int) -> None:
        """Write what is held, or leave it out once no end of a pause can change that any more."""
        while self._held:
            oldest = self._held[0]
            at_ns = self.record_ns(oldest.device_ns)
            left_out = self._pauses.leave_out(at_ns, at_ns + oldest.duration_ns)
            may_end = now_ns - oldest.master_ns < self._held_ns
            may_end |= at_ns >= self._pauses.known_until_ns
            if left_out and self._pauses.is_open and may_end:
                return
            self._held.popleft()
            if left_out:
                self._rest(oldest)
            else:
                self._write(oldest)

    def _write(self, arrival: Arrival) -> None:
        self.drop(arrival.lost)
        if self.input.is_picture:
            if self._resting:
                self._wake(self._resting)
            self._take_picture(arrival)
        else:
            self._take_sound(arrival)
        self._resting = None
        self.written_master_ns = arrival.master_ns

    def _rest(self, arrival: Arrival) -> None:
        """Leave a capture out, but for a stamp now and then; of a sound that is silence."""
        self._resting = arrival
        self.written_master_ns = arrival.master_ns
        at_ns = self._place(arrival)
        if at_ns - self._stamped_ns < STAMP_EVERY_NS:
            return
        self._stamped_ns = at_ns
        if self.input.is_picture:
            pts_ns = max(at_ns, self.end_ns)
            self._note(arrival, pts_ns, NOTED, 0)
            self.end_ns = pts_ns + 1
        else:
            self._take_sound(arrival, silent=True)

    def _wake(self, resting: Arrival) -> None:
        """Write what is seen as a pause ends, as something new."""
        if isinstance(self._writer, PictureWriter):
            self._writer.begin_anew()
        self._write_picture(resting, max(self._place(resting), self.end_ns))
        self._choice.begin_anew()

    def drop(self, frames: int) -> None:
        """Count frames or blocks that never came, or could not be written."""
        self.dropped += frames
        self._dropped_before += frames

    @property
    def dropped_at_end(self) -> int:
        """How many were dropped after the last capture that is noted."""
        return self._dropped_before

    def lost_before(self, arrival: Arrival) -> int:
        """How many were lost right before a capture; also since the part before, which died."""
        if self._no_before is None or arrival.restarted:
            return arrival.lost
        return max(arrival.lost, arrival.no - self._no_before - 1)

    def _take_picture(self, arrival: Arrival) -> None:
        pts_ns = max(self._place(arrival), self.end_ns)
        if not self._choice.wants(arrival.changed, pts_ns, arrival.duration_ns):
            self._note(arrival, pts_ns, NOTED, 0)
            self.end_ns = pts_ns + 1
            return
        if not self._write_picture(arrival, pts_ns):
            self.unfetched += 1
            self.drop(1)

    def _write_picture(self, arrival: Arrival, pts_ns: int) -> bool:
        """Write a capture's picture; whether it was there and stayed so while it was encoded."""

        def write(data: Plane) -> None:
            if isinstance(self._writer, PictureWriter):
                began_ns = time.monotonic_ns()
                self._writer.write(data, pts_ns)
                self.encoding_ns += time.monotonic_ns() - began_ns
            self.written += 1
            self._choice.written(pts_ns)
            self._note(arrival, pts_ns, KEPT, 0)
            # Stamps may stand still or go back; places only rise.
            self.end_ns = pts_ns + 1

        return arrival.use(write)

    def _take_sound(self, arrival: Arrival, silent: bool = False) -> None:
        data = arrival.fetch()
        if data is None:
            self.unfetched += 1
            self.drop(1)
            return
        rate_hz = self.input.mode.sample_rate_hz
        if self._samples == 0:
            self._first_ns = self._place(arrival)
            self.end_ns = self._first_ns
        elif self._dropped_before or arrival.restarted or self._resting:
            self._fill_gap(arrival, rate_hz)
        if isinstance(self._writer, SoundWriter):
            self._writer.write(np.zeros_like(data) if silent else data, self.end_ns)
        self.written += 1
        self._note(arrival, self.end_ns, KEPT, data.shape[1])
        self._before, self._before_ends_ns = arrival, self._place(arrival) + arrival.duration_ns
        self._add_samples(data.shape[1], rate_hz)

    def _place(self, arrival: Arrival) -> int:
        """Where a capture lies on the track's axis."""
        return self._axis_ns(arrival.device_ns)

    def _axis_ns(self, device_ns: int) -> int:
        first_device_ns, first_ns = self._first or (0, 0)
        return first_ns + device_ns + self._shift_ns - first_device_ns

    def _begun_master_ns(self, arrival: Arrival) -> int:
        """Master time of a capture's beginning, which is later by how late it came."""
        return arrival.master_ns - (0 if self.input.is_picture else arrival.duration_ns)

    def _follow_clock(self, arrival: Arrival) -> None:
        """Learn how far the device's clock has gone from the master's.

        What came least late tells it, if the capture before says so too: a single stamp may lie.
        As time goes on a little more of lateness is believed.
        """
        before_ns = self._newest_ahead_ns
        ahead_ns = self._begun_master_ns(arrival) - self.start_master_ns - self._place(arrival)
        self._newest_ahead_ns = ahead_ns
        if self._ahead_ns is not None and self._last:
            ahead_ns = max(ahead_ns, before_ns)
            passed_ns = max(0, arrival.master_ns - self._last.master_ns)
            believed_ns = self._ahead_ns + passed_ns * MOST_APART_PPM // 1_000_000
            ahead_ns = min(ahead_ns, believed_ns)
        self._ahead_ns = ahead_ns

    def _add_samples(self, samples: int, rate_hz: int) -> None:
        self._samples += samples
        self.end_ns = self._first_ns + self._samples * NS_PER_S // rate_hz

    def _go_on(self, back: Sequence[Arrival]) -> None:
        """After a restart: lay the device's times on where the master says they should be.

        Of what came back the capture that came least late tells it.
        """
        self._segment += 1
        last = self._last
        if last is None:
            return
        least = min(back, key=lambda x: self._begun_master_ns(x) - x.device_ns)
        end_ns = last.device_ns + self._shift_ns + last.duration_ns
        expected_ns = end_ns + (self._begun_master_ns(least) - last.master_ns)
        if abs(least.device_ns + self._shift_ns - expected_ns) > SAME_CLOCK_NS:
            self._shift_ns = max(expected_ns - least.device_ns, end_ns - back[0].device_ns)

    def _fill_gap(self, arrival: Arrival, rate_hz: int) -> None:
        """Write silence for blocks that never came: a sound's samples are its time.

        By how long none came, not by how far its clock has run from its samples by then.
        """
        missing_ns = self._place(arrival) - self._before_ends_ns
        missing = round(missing_ns * rate_hz / NS_PER_S)
        if missing < 2 or not isinstance(self._writer, SoundWriter):
            return
        self._writer.write_silence(missing, self.end_ns)
        self._note(self._before or arrival, self.end_ns, FILLED, missing)
        self._add_samples(missing, rate_hz)

    def _note(self, arrival: Arrival, pts_ns: int, kept: int, samples: int) -> None:
        device_ns = arrival.device_ns + self._shift_ns
        stamps = (arrival.no, device_ns, arrival.master_ns, pts_ns)
        self._times.write(*stamps, self._dropped_before, kept, samples, self._segment)
        self._dropped_before = 0
        self._no_before = None

    def record_ns(self, device_ns: int) -> int:
        """Record time of something that happened at a time of the device's clock, as far as that
        is known by now; later by the least that captures come late.
        """
        if self._first is None:
            return 0
        return self._axis_ns(device_ns) + (self._ahead_ns or 0)

    def sync(self) -> None:
        """Bring what is written to the disk. Raises OSError."""
        for path in self._paths:
            sync_file(path)

    def size_bytes(self) -> int:
        """Bytes of the track so far."""
        return self._paths[0].stat().st_size if self._paths[0].exists() else 0

    def close(self) -> None:
        """Write the ends of the files, as far as they can be. Raises TakeError."""
        if self.ended:
            return
        self.ended = True
        try:
            try:
                self._settle()
            finally:
                self._writer.close()
        except KettleError:
            raise
        except Exception as error:
            raise TakeError(f"{self._paths[0].name} has no proper end: {error!r}.") from error
        finally:
            self._times.close()
