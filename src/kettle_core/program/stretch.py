"""Stretches of a program: whole frames that show one scene, or a change-over."""

from collections.abc import Iterable
from dataclasses import dataclass
from fractions import Fraction

from kettle_core.program.replay import CUT, Resolved
from kettle_core.scene.scene import ChangeOver
from kettle_core.sound.stage import RATE_HZ
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import Source

Frames = tuple[int, int]


@dataclass(frozen=True)
class Stretch:
    """Frames [first, end) that show one scene of one source, or a change-over to it.

    At `first_frame` lies `from_ns` of the source (record time of a take), which runs at `speed`.
    With a change-over `before` is what gives way; both are seen at the same time of the source.
    """

    first_frame: int
    end_frame: int
    source: Source
    from_ns: Fraction
    speed: Fraction
    scene: Resolved
    before: Resolved | None = None
    change_over: ChangeOver = CUT

    def share_at(self, frame: int) -> float:
        """How much of the change-over is done: 0 at its first frame, 1 outside of one."""
        if self.before is None:
            return 1.0
        return (frame - self.first_frame) / (self.end_frame - self.first_frame)

    def source_ns(self, frame: int, fps: Fraction) -> Fraction:
        """What of the source a frame shows."""
        return self.from_ns + (frame - self.first_frame) * NS_PER_S * self.speed / fps

    def seen_from(self, frame: int, fps: Fraction) -> tuple[object, ...]:
        """What is seen from a frame on, to be compared: equal where the pictures are."""
        way = None
        if self.before is not None:
            ends = (self.first_frame - frame, self.end_frame - frame)
            way = (self.before.layers, self.change_over, ends)
        from_ns = self.source_ns(frame, fps)
        return self.source, from_ns, self.speed, self.scene.layers, way


def sample_of(frame: int, fps: Fraction) -> int:
    """The sample at 48 kHz at which a frame begins, half to even."""
    return round(frame * RATE_HZ / fps)


def joined(ranges: Iterable[Frames]) -> tuple[Frames, ...]:
    """Half-open ranges in rising order, with those that touch put together."""
    found: list[Frames] = []
    for first, end in ranges:
        if found and found[-1][1] == first:
            found[-1] = (found[-1][0], end)
        else:
            found.append((first, end))
    return tuple(found)
