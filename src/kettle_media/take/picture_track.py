"""A picture track at any time: forward as fast as it is decoded, elsewhere from a keyframe."""

import contextlib

import av
import numpy as np
from av.error import FFmpegError
from numpy.typing import NDArray

from kettle_core.errors import TakeError
from kettle_core.picture.picture import Picture
from kettle_core.timing.ticks import NS_PER_S, frame_at
from kettle_media.picture.frame_planes import frame_to_picture
from kettle_media.picture.scaling import Scaler
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import TrackInfo
from kettle_media.take.sync_report import TakeSync
from kettle_media.take.times import NOTED, read_times, written_ms
from kettle_media.take.track_index import PacketReader, track_index


class PictureTrack:
    """Gives the picture at a record time; times may go any way.

    The same picture is the same object as long as nothing else was asked for in between. A packet
    that can't be decoded, or is missing from the file, leaves the picture before it standing and
    shifts nothing. A track that was written smaller is given at the input's `size` in px, scaled
    by a method of the format. For one thread at a time.

    Raises
    ------
    TakeError
        If the track's file or its times can't be read, or nothing of it can be decoded.
    """

    def __init__(
        self,
        folder: TakeFolder,
        track: TrackInfo,
        sync: TakeSync,
        size: tuple[int, int] | None = None,
        scaling: str = "area",
    ) -> None:
        path = folder.track_path(track)
        rows = read_times(folder.times_path(track), ("pts_ns", "kept"))
        rows = rows[rows["kept"] != NOTED]
        self._name = path.name
        self._captured_ns: NDArray[np.float64] = sync.captured_ns[track.name]
        self._half_frame_ns = round(NS_PER_S / track.mode.fps / 2)
        written = (track.mode.width, track.mode.height)
        self._scaler = Scaler(*size, scaling) if size and size != written else None
        index = track_index(path)
        packets = index.packets
        # Of each row the packet that holds its frame, or the one before where that is missing;
        # None where each has its own.
        places = np.maximum(np.searchsorted(packets["ms"], written_ms(rows), side="right") - 1, 0)
        self._rows = rows.size
        own = np.array_equal(places, np.arange(rows.size))
        self._packet_of = None if own else places.astype(np.int32)
        keys = np.flatnonzero(packets["key"])
        self._keys = keys if keys.size and keys[0] == 0 else np.r_[0, keys]
        self._reader = PacketReader(path, index)
        self._decoder = index.decoder()
        self._at = -1  # the last packet that was given to the decoder
        self._shown = -1  # the packet that was asked for last
        self._frame: av.VideoFrame | None = None
        self._picture: Picture | None = None
        self._held: av.VideoFrame | None = None

    def at(self, record_ns: float) -> Picture:
        """The picture that is shown at a record time; the first one before there is any."""
        wanted = np.array([record_ns])
        row = int(frame_at(self._captured_ns, wanted, self._half_frame_ns)[0])
        row = min(row, self._rows - 1)
        number = row if self._packet_of is None else int(self._packet_of[row])
        if number != self._shown or self._picture is None:
            self._go_to(number)
            self._shown = number
            if self._frame is None:
                raise TakeError(f"The track {self._name} holds no frame that can be read.")
            if self._frame is not self._held or self._picture is None:
                whole = self._scaler.scaled(self._frame) if self._scaler else self._frame
                self._picture = frame_to_picture(whole)
                self._held = self._frame
        return self._picture

    def close(self) -> None:
        """Close the track's files."""
        self._reader.close()

    def _go_to(self, number: int) -> None:
        """Decode until a packet has been; the picture is then that of the last one that could."""
        key = self._key_before(number)
        if number < self._at or key > self._at:
            # As reading on would have it: what could be decoded last, however far before.
            self._frame = None
            while True:
                self._at = key - 1
                self._read_until(number)
                if self._frame is not None or key == 0:
                    break
                key, number = self._key_before(key - 1), key - 1
        self._read_until(number)
        # Where nothing up to here can be decoded, what comes first that can.
        while self._frame is None and self._at + 1 < self._reader.count:
            self._read_until(self._at + 1)

    def _key_before(self, number: int) -> int:
        return int(self._keys[np.searchsorted(self._keys, number, side="right") - 1])

    def _read_until(self, number: int) -> None:
        while self._at < number:
            self._at += 1
            if self._key_before(self._at) == self._at:
                # Nothing after a keyframe hangs on what was before, damaged or not.
                self._decoder.flush_buffers()
            # What can't be decoded is skipped.
            with contextlib.suppress(FFmpegError, OSError, ValueError):
                for frame in self._decoder.decode(self._reader.read(self._at)):
                    self._frame = frame
