"""Captured pictures as frames of a track: scaled, with times in ms that rise, keyframes marked."""

from fractions import Fraction

import av

from kettle_core.picture.picture import Plane
from kettle_core.rig.encoder_settings import EncoderSettings
from kettle_media.encoding import Keyframes
from kettle_media.picture.scaling import Scaler

MS_TIME_BASE = Fraction(1, 1000)


class TrackFrames:
    """For one track and one thread.

    Parameters
    ----------
    settings : of its encoder
    size : width and height in px as it is written
    source : as pictures come; where it is another size they are scaled by a method of the format
    """

    def __init__(
        self,
        settings: EncoderSettings,
        size: tuple[int, int],
        source: tuple[int, int],
        scaling: str = "area",
    ) -> None:
        self._keyframes = Keyframes(settings)
        self._scaler = Scaler(*size, scaling) if size != source else None
        self._last_ms = -1

    def frame(self, buffer: Plane, pts_ns: int) -> av.VideoFrame:
        """The frame of an I420 buffer at a time of the track's axis."""
        frame = av.VideoFrame.from_numpy_buffer(buffer, format="yuv420p")
        if self._scaler:
            frame = self._scaler.scaled(frame)
        self._last_ms = max(self._last_ms + 1, round(pts_ns / 1e6))
        frame.pts, frame.time_base = self._last_ms, MS_TIME_BASE
        self._keyframes.mark(frame, self._last_ms * MS_TIME_BASE)
        return frame

    def begin_anew(self) -> None:
        """Have the next frame be a keyframe."""
        self._keyframes.begin_anew()
