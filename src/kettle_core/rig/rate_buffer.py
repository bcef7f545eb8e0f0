"""The buffer by which a bitrate is kept at every moment: what a decoder holds when it is fed so."""

from dataclasses import dataclass
from fractions import Fraction

from kettle_core.rig.encoder_settings import EncoderSettings

# As full as an encoder takes it to be at first.
AT_FIRST = 0.9


@dataclass
class RateBuffer:
    """The hypothetical reference decoder of H.264 (Annex C.1), as an encoder reckons with it.

    It is filled at a bitrate; each frame takes its bits out at once. An encoder that goes on after
    another one begins with it as it was left.

    >>> buffer = RateBuffer(kbps=1000, most_kbit=1000, fps=Fraction(25))
    >>> buffer.take(80_000)
    >>> round(buffer.filled, 3)
    0.3
    """

    kbps: int
    most_kbit: int
    fps: Fraction

    def __post_init__(self) -> None:
        self._bits = AT_FIRST * 1000 * self.most_kbit

    @classmethod
    def of(cls, settings: EncoderSettings, fps: Fraction) -> "RateBuffer | None":
        """Of settings that keep a bitrate at every moment; None for others.

        VP9's and AV1's encoders keep it on the whole, which each part does by itself.
        """
        kept = settings.rate.kept if settings.codec == "h264" else None
        return cls(*kept, fps) if kept else None

    @property
    def filled(self) -> float:
        """How much of it is filled, 0 to 1."""
        return self._bits / (1000 * self.most_kbit)

    def take(self, size_bytes: int) -> None:
        """A frame, in the order of decoding; the buffer fills up until the next one."""
        left = max(0.0, self._bits - 8 * size_bytes)
        self._bits = min(1000.0 * self.most_kbit, left + float(1000 * self.kbps / self.fps))
