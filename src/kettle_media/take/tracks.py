"""Track files: one picture or sound in Matroska, written so that a kill costs little."""

from pathlib import Path
from typing import Any

import av
import numpy as np
from numpy.typing import NDArray

from kettle_core.picture.picture import Plane
from kettle_core.rig.devices import Mode
from kettle_core.rig.encoder_settings import EncoderSettings
from kettle_core.sound.mixing import to_integers
from kettle_media.encoding import open_encoder
from kettle_media.picture.track_frames import MS_TIME_BASE, TrackFrames
from kettle_media.sound.sound_frames import frame_of
from kettle_media.told import Told

# Small clusters, each written when it is full, and no seeking back: what has been written
# is readable without a proper end.
CRASH_SAFE = {"cluster_time_limit": "150", "flush_packets": "1", "live": "1"}
LONGEST_WRITE_SAMPLES = 48_000
# Blocks are put together for an encoder without a frame size of its own: each call costs as much
# as its samples.
TOGETHER_S = 0.04
SOUND_CODECS: dict[str, tuple[str, dict[str, str]]] = {
    "flac": ("flac", {"bits_per_raw_sample": "24", "compression_level": "3"}),
    "pcm24": ("pcm_s24le", {}),
}


class PictureWriter:
    """Writes I420 frames with exact times to one track. Raises TakeError when it can't.

    `size` and `scaling` as of `TrackFrames`; without a size frames come as the track is written.
    """

    def __init__(
        self,
        path: Path,
        mode: Mode,
        settings: EncoderSettings,
        size: tuple[int, int] | None = None,
        scaling: str = "area",
    ) -> None:
        self._path = path
        own = (mode.width, mode.height)
        self._frames = TrackFrames(settings, own, size or own, scaling)
        with Told(path, writing=True):
            self._container = av.open(str(path), "w", format="matroska", options=CRASH_SAFE)
            self._stream = open_encoder(self._container, settings, own, mode.fps, MS_TIME_BASE)
            self._container.start_encoding()  # the header is on disk before the first frame

    def write(self, buffer: Plane, pts_ns: int) -> None:
        """Encode one frame at a time since the take's start."""
        frame = self._frames.frame(buffer, pts_ns)
        with Told(self._path, writing=True):
            for packet in self._stream.encode(frame):
                self._container.mux(packet)

    def begin_anew(self) -> None:
        """Have the next frame be a keyframe."""
        self._frames.begin_anew()

    def close(self) -> None:
        """Write what is left and the end of the file."""
        _finish(self._path, self._container, self._stream)


class SoundWriter:
    """Writes float32 blocks to one track of 24 bits, FLAC or PCM. Raises TakeError if it can't."""

    def __init__(self, path: Path, mode: Mode, codec: str = "flac") -> None:
        self._path = path
        self._layout = "mono" if mode.channels == 1 else "stereo"
        self._rate_hz = mode.sample_rate_hz
        self._next = 0
        self._waiting: list[NDArray[np.float32]] = []
        with Told(path, writing=True):
            self._container = av.open(str(path), "w", format="matroska", options=CRASH_SAFE)
            name, options = SOUND_CODECS[codec]
            self._stream: Any = self._container.add_stream(
                name, rate=mode.sample_rate_hz, layout=self._layout, format="s32", options=options
            )
            self._container.start_encoding()
        context: Any = self._stream.codec_context
        self._together: int = context.frame_size or round(TOGETHER_S * mode.sample_rate_hz)

    def write_silence(self, samples: int, pts_ns: int) -> None:
        """Encode silence of any length."""
        channels = 1 if self._layout == "mono" else 2
        silence = np.zeros((channels, min(samples, LONGEST_WRITE_SAMPLES)), np.float32)
        for start in range(0, samples, LONGEST_WRITE_SAMPLES):
            self.write(silence[:, : samples - start], pts_ns)

    def write(self, block: NDArray[np.float32], pts_ns: int) -> None:
        """Write one block; the first one's time since the take's start sets the track's.

        It is encoded once there are as many samples as the encoder takes at once.
        """
        if self._next == 0 and not self._waiting:
            self._next = round(pts_ns * self._rate_hz / 1e9)
        self._waiting.append(block)
        if sum(b.shape[1] for b in self._waiting) >= self._together:
            self._encode()

    def _encode(self) -> None:
        samples = np.concatenate(self._waiting, axis=1)
        self._waiting = []
        frame = frame_of(to_integers(samples, 24), self._rate_hz, self._layout, self._next)
        self._next += samples.shape[1]
        with Told(self._path, writing=True):
            for packet in self._stream.encode(frame):
                self._container.mux(packet)

    def close(self) -> None:
        """Write what is left and the end of the file."""
        try:
            if self._waiting:
                self._encode()
        finally:
            _finish(self._path, self._container, self._stream)


def _finish(path: Path, container: Any, stream: Any) -> None:
    with Told(path, writing=True):
        try:
            for packet in stream.encode(None):
                container.mux(packet)
        finally:
            container.close()
