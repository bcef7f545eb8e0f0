"""The plan of a program: what is seen and heard at every program time, as one value.

Pictures lie in *stretches* of whole frames, sounds in *lines* of samples at 48 kHz. Equal plans
give equal frames and samples; where two plans differ can be told (`differing`).
"""

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from math import ceil
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray

from kettle_core.program.gain_lines import SoundLine, line_of_file, lines_of_piece
from kettle_core.program.replay import CUT, Moment, Replay, Resolved, State
from kettle_core.program.stretch import Frames, Stretch, joined, sample_of
from kettle_core.rig.changes import with_format
from kettle_core.rig.format import Format
from kettle_core.rig.rig import Rig
from kettle_core.scene.layout import Box
from kettle_core.scene.scene import Layer, SceneSound
from kettle_core.sound.background import Ducking
from kettle_core.sound.stage import RATE_HZ
from kettle_core.sound.tone import LIMITER_DBTP
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import Piece, Source, TimeMap

# What was worked out of states so far, by their ids.
Looks = dict[int, tuple[State, Resolved]]
# Longer than any take.
_NO_END_NS = 10**6 * NS_PER_S


@dataclass(frozen=True)
class StemPlan:
    """A stem: cleaned sounds at levels of their own, in step with the program."""

    id: str
    channels: int
    lines: tuple[SoundLine, ...]


@dataclass(frozen=True)
class Dip:
    """Frames [first, end) that come out of black and go into it, in so many frames each."""

    first: int
    end: int
    fade_in: int = 0
    fade_out: int = 0

    def share_at(self, frame: Fraction | int) -> Fraction:
        """How much of a frame is out of the black: 0 to 1; all of one that lies outside."""
        if not self.first <= frame < self.end:
            return Fraction(1)
        into = Fraction(frame - self.first) / self.fade_in if self.fade_in else Fraction(1)
        out = Fraction(self.end - 1 - frame) / self.fade_out if self.fade_out else Fraction(1)
        return max(Fraction(0), min(Fraction(1), into, out))

    def is_within(self, first: int, end: int) -> bool:
        """Whether any of frames [first, end) is not wholly out of the black."""
        first, end = max(first, self.first), min(end, self.end)
        if first >= end:
            return False
        goes_out = self.fade_out > 0 and end >= self.end - self.fade_out
        return first < self.first + self.fade_in or goes_out


@dataclass(frozen=True)
class Plan:
    """What is seen and heard: stretches without a gap from frame 0 to the end, sound lines.

    The whole comes out of black and goes back into it, with its sound, in so many frames.
    """

    frame_size: tuple[int, int]
    fps: Fraction
    stretches: tuple[Stretch, ...]
    lines: tuple[SoundLine, ...]
    ducking: Ducking = field(default=Ducking())
    stems: tuple[StemPlan, ...] = ()
    scaling: str = "area"
    fade_in: int = 0
    fade_out: int = 0
    # Of all that is heard, before peaks are limited.
    gain_db: float = 0.0
    # What true peaks are limited to.
    ceiling_dbtp: float = LIMITER_DBTP
    # Pieces that fade by themselves; their sounds say so in their lines.
    dips: tuple[Dip, ...] = ()

    @property
    def frames(self) -> int:
        """How many frames it has."""
        return self.stretches[-1].end_frame if self.stretches else 0

    @property
    def samples(self) -> int:
        """How many samples at 48 kHz it has."""
        return sample_of(self.frames, self.fps)

    def share_at(self, frame: Fraction | int) -> Fraction:
        """How much of a frame is out of the black: 0 to 1."""
        return min(dip.share_at(frame) for dip in (self._whole, *self.dips))

    @property
    def _whole(self) -> Dip:
        return Dip(0, self.frames, self.fade_in, self.fade_out)

    def fades_within(self, first: int, end: int) -> bool:
        """Whether any of frames [first, end) is not wholly out of the black."""
        return any(dip.is_within(first, end) for dip in (self._whole, *self.dips))

    def gains(self, first: int, count: int) -> NDArray[np.float32]:
        """By what all that is heard is multiplied, for samples [first, first + count), (count,)."""
        gain = 10 ** (self.gain_db / 20)
        bounds = (int(s * self.fps / RATE_HZ) for s in (first, first + count))
        if not self._whole.is_within(*bounds):
            return np.full(count, gain, np.float32)
        marks = (0, self.fade_in, self.frames - 1 - self.fade_out, self.frames - 1)
        at = [sample_of(max(0, frame), self.fps) for frame in marks]
        shares = [float(self._whole.share_at(max(0, frame))) for frame in marks]
        places = np.arange(first, first + count)
        return np.asarray(gain * np.interp(places, at, shares), np.float32)

    def stretch_of(self, frame: int) -> Stretch:
        """The stretch of a frame; the last one after the end."""
        place = bisect_right(self.stretches, frame, key=lambda s: s.first_frame)
        return self.stretches[max(0, place - 1)]


@dataclass(frozen=True)
class Script:
    """What a plan needs to know of a take: its rig, and what its cues say."""

    rig: Rig
    replay: Replay


def make_plan(
    scripts: Mapping[Source, Script],
    time_map: TimeMap,
    format_: Format,
    moved: Mapping[int, int] = MappingProxyType({}),
) -> Plan:
    """What is seen and heard of takes, cards and files along a time map.

    Parameters
    ----------
    scripts : of every take in the map
    time_map : from program time to record time (`TimeMap.through` closes pauses)
    format_ : the program's frame size and rate; scenes laid for another size are laid anew
    moved : by how many samples sound crosses over later than the pictures after a piece, by the
        piece's number in the map

    Returns
    -------
    Plan
        A cue holds from the first frame at or after it; a piece begins in the state that its
        take's cues leave there, and ends on a frame. Change-overs do not lengthen it: one that
        the next change or the piece's end comes upon is done by then.
    """
    fps = format_.fps
    stretches: list[Stretch] = []
    lines: list[SoundLine] = []
    pieces = time_map.pieces
    stems: dict[str, StemPlan] = {}
    ducking = Ducking()
    # Pieces of one take are in the same few states.
    seen: Looks = {}
    for number, piece in enumerate(pieces):
        first, end = ceil(piece.start_ns * fps / NS_PER_S), ceil(piece.end_ns * fps / NS_PER_S)
        if end <= first:
            continue
        script = scripts.get(piece.source)
        if script is None:
            stretches.append(_card_stretch(piece, first, end, format_))
            if piece.source.kind == "file" and (piece.speed == 1 or piece.stretched):
                lines.append(line_of_file(stretches[-1], fps, _joined(number, pieces)))
            continue
        ducking = script.rig.ducking if script.rig.ducking.on else ducking
        of_piece = list(_stretches_of(piece, first, end, script.replay, format_, seen))
        stretches += of_piece
        if piece.speed != 1 and not piece.stretched:
            continue
        by = moved.get(number - 1, 0), moved.get(number, 0)
        lines += lines_of_piece(of_piece, script.rig, fps, _joined(number, pieces), by)
        for track in script.rig.stems:
            sends = (SceneSound(s.input_id, s.gain_db) for s in track.sends)
            on = tuple(s for s in sends if script.rig.input(s.input_id).on)
            whole = Resolved("", (), on)
            one = replace(of_piece[0], end_frame=end, scene=whole, before=None, change_over=CUT)
            known = stems.get(track.id, StemPlan(track.id, track.channels, ()))
            more = lines_of_piece([one], script.rig, fps, _joined(number, pieces), by)
            stems[track.id] = replace(known, lines=(*known.lines, *more))
    used = tuple(stem for stem in stems.values() if stem.lines)
    picture = (format_.frame_size, fps, tuple(stretches))
    return Plan(*picture, tuple(lines), ducking, used, format_.scaling)


def _joined(number: int, pieces: Sequence[Piece]) -> tuple[bool, bool]:
    """Whether other pieces come before and after one."""
    return number > 0, number + 1 < len(pieces)


def stretches_from_now(moments: Sequence[Moment], format_: Format) -> tuple[Stretch, ...]:
    """What a take that goes on shows in record time, as its plan will have it.

    Parameters
    ----------
    moments : those that still count, rising; the first one holds from frame 0 on
    format_ : the program's frame size and rate
    """
    piece = Piece(Fraction(0), Fraction(_NO_END_NS), Source("take", ""), Fraction(0))
    end = ceil(_NO_END_NS * format_.fps / NS_PER_S)
    return tuple(_stretches_of(piece, 0, end, Replay(tuple(moments)), format_, {}))


def _card_stretch(piece: Piece, first: int, end: int, format_: Format) -> Stretch:
    """A card or file fills the frame."""
    layer = Layer(piece.source.id, piece.source.id, format_.frame, format_.frame)
    from_ns = piece.source_ns(Fraction(first * NS_PER_S) / format_.fps)
    scene = Resolved("", (layer,))
    return Stretch(first, end, piece.source, from_ns, piece.speed, scene)


def _stretches_of(
    piece: Piece, first: int, end: int, said: Replay, format_: Format, seen: Looks
) -> Iterator[Stretch]:
    fps = format_.fps
    changes = _changes_in(piece, first, end, said, fps)
    scene = _resolved(changes[0][1].state, format_, seen)
    ready = [(first, scene, scene, CUT)]
    for frame, moment in changes[1:]:
        following = _resolved(moment.state, format_, seen)
        if following != scene:
            ready.append((frame, following, scene, moment.change_over))
            scene = following
    for (frame, now, before, way), until in zip(
        ready, [*(r[0] for r in ready[1:]), end], strict=True
    ):
        settled = frame
        if before is not now and way.kind != "cut":
            settled = min(until, frame + round(way.length_ms * fps / 1000))
        for start, stop, old in ((frame, settled, before), (settled, until, None)):
            if stop > start:
                from_ns = piece.source_ns(Fraction(start * NS_PER_S) / fps)
                taken = way if old is not None else CUT
                yield Stretch(start, stop, piece.source, from_ns, piece.speed, now, old, taken)


def _changes_in(
    piece: Piece, first: int, end: int, said: Replay, fps: Fraction
) -> list[tuple[int, Moment]]:
    """Frames at which moments hold within a piece; the first is the one it begins in.

    Of several that fall upon one frame the last holds; it comes in by the longest of their ways.
    """
    found: list[tuple[int, Moment]] = []
    for moment in said.moments:
        way = moment.change_over
        if found and moment.at_ns >= piece.until_ns:
            break
        at_ns = piece.start_ns + (moment.at_ns - piece.from_ns) / piece.speed
        frame = max(first, ceil(at_ns * fps / NS_PER_S))
        if found and frame >= end:
            break
        if found and found[-1][0] == frame:
            before = found.pop()[1].change_over
            way = before if frame > first and before.length_ms > way.length_ms else way
        found.append((frame, replace(moment, change_over=way)))
    return found


def _resolved(state: State, format_: Format, seen: Looks) -> Resolved:
    """What is seen in a state, laid for a format; worked out once for each state."""
    found = seen.get(id(state))
    if found is None:
        rig = state.rig
        laid = state
        if rig.format.frame_size != format_.frame_size:
            laid = replace(state, rig=with_format(rig, format_))
        # The state is kept with it, so that its id stays its own.
        found = seen[id(state)] = state, laid.resolved()
    return found[1]


def cropped(plan: Plan, part: Box) -> Plan:
    """A plan that shows a part of its frame, in px of it; what fills the frame by itself, as cards
    do, fills the part.
    """

    def moved(layer: Layer, fills: bool) -> Layer:
        if fills:
            frame = Box(0, 0, part.width, part.height)
            return replace(layer, box=frame, crop=frame)
        box = replace(layer.box, left=layer.box.left - part.left, top=layer.box.top - part.top)
        return replace(layer, box=box)

    def shown(scene: Resolved, fills: bool) -> Resolved:
        return replace(scene, layers=tuple(moved(layer, fills) for layer in scene.layers))

    stretches = []
    for one in plan.stretches:
        fills = one.source.kind != "take"
        before = one.before and shown(one.before, fills)
        stretches.append(replace(one, scene=shown(one.scene, fills), before=before))
    return replace(plan, frame_size=(part.width, part.height), stretches=tuple(stretches))


def dipped(plan: Plan, dips: Iterable[Dip]) -> Plan:
    """A plan of which pieces fade by themselves, pictures and sounds alike; music goes on."""
    kept = tuple(dip for dip in dips if dip.fade_in or dip.fade_out)
    lines = plan.lines
    for dip in kept:
        begins, ends = (sample_of(frame, plan.fps) for frame in (dip.first, dip.end))
        into, out = (sample_of(frames, plan.fps) for frames in (dip.fade_in, dip.fade_out))
        lines = tuple(line.fading(begins, ends, into, out) for line in lines)
    return replace(plan, dips=kept, lines=lines)


def differing(ours: Plan, theirs: Plan) -> tuple[Frames, ...]:
    """Frames [first, end) whose pictures differ between two plans, joined where they touch.

    Frames that only one of them has count as differing. A change-over is the same only where it
    begins and ends at the same frames.
    """
    if (ours.frame_size, ours.fps) != (theirs.frame_size, theirs.fps):
        longest = max(ours.frames, theirs.frames)
        return ((0, longest),) if longest else ()
    found: list[Frames] = []
    if not ours.stretches and not theirs.stretches:
        return ()
    marks = sorted({s.first_frame for p in (ours, theirs) for s in p.stretches})
    ends = [*marks[1:], max(ours.frames, theirs.frames)]
    places = [0, 0]
    for first, end in zip(marks, ends, strict=True):
        seen = []
        for n, plan in enumerate((ours, theirs)):
            while (
                places[n] + 1 < len(plan.stretches)
                and plan.stretches[places[n] + 1].first_frame <= first
            ):
                places[n] += 1
            ended = first >= plan.frames
            seen.append(None if ended else plan.stretches[places[n]].seen_from(first, plan.fps))
        shorter = min(ours.frames, theirs.frames)
        if seen[0] != seen[1] or first >= shorter:
            found.append((first, end))
        elif end > shorter:
            found.append((shorter, end))
    return joined(found)
