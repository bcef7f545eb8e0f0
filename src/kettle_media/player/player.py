"""Gives pictures and sound of a plan a little ahead of the time at which they are wanted."""

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from math import floor

import numpy as np

from kettle_core.picture.picture import picture_from_i420
from kettle_core.sound.levels import Sound
from kettle_media.picture.jpeg import picture_to_page_jpeg
from kettle_media.player.messages import Message
from kettle_media.player.tempo import Tempo
from kettle_media.program.mix import SETTLED_SAMPLES, ProgramMix
from kettle_media.program.renderer import Renderer
from kettle_media.program.show import Show
from kettle_media.take.sound_track import MASTER_HZ

PICTURES_PER_S = 24
QUALITY = 80
# So much is made ahead of what is heard, in s of the listener's time; sound first.
SOUND_AHEAD_S, PICTURES_AHEAD_S = 0.9, 0.5
# Where pictures came too late the next ones are made for later; with each order a little less so.
LESS_LEAD = 0.97
PIECE_SAMPLES = MASTER_HZ // 10
# A loop's join fades out and in for so long, that it does not click. Shorter loops are none.
JOIN_SAMPLES, LEAST_LOOP_S = MASTER_HZ // 200, 0.2


@dataclass(frozen=True)
class Order:
    """Where to be: at a program time in s, playing or not. A new `turn` begins anew there;
    the same one only tells how far the listener is.

    With `loop`, from and until in s, what comes after its end is its beginning again; times of
    messages run on over it. A picture has come `late_s` too late, of the listener's time, since
    it was last told.
    """

    turn: int
    at_s: float
    playing: bool = False
    rate: float = 1.0
    loop: tuple[float, float] | None = None
    late_s: float = 0.0

    @property
    def looped(self) -> tuple[float, float] | None:
        """The loop, if it is long enough to be one."""
        if self.loop is None or self.loop[1] - self.loop[0] < LEAST_LOOP_S:
            return None
        return self.loop

    def folded(self, at_s: float) -> float:
        """The program time of a time that runs on."""
        loop = self.looped
        if loop is None or at_s < loop[1]:
            return at_s
        return loop[0] + (at_s - loop[0]) % (loop[1] - loop[0])


class Player:
    """Answers orders for one show; for one thread.

    Parameters
    ----------
    show : what is played
    now : a clock in s
    """

    def __init__(self, show: Show, now: Callable[[], float] = time.monotonic) -> None:
        self._now = now
        self._show, self._renderer = show, Renderer(show.plan, show.sources, show.masks)
        self._order = Order(-1, 0.0)
        self._told_at = now()
        self._sound: _SoundFrom | None = None
        self._left: Sound | None = None  # what would have come of another show's sound
        self._picture = 0  # the number of the next one, PICTURES_PER_S a second of the listener
        self._begins = 0.0
        self._stands = -1
        self._lead_s = 0.0
        self._end_told = False

    def warm_up(self) -> None:
        """Open and load what is needed first, so that the first order is not the slow one."""
        if self._show.plan.frames:
            self._picture_of(0, 0.0)
            _SoundFrom(self._show, Order(0, 0.0, True)).piece()

    def order(self, order: Order) -> None:
        """Begin anew, or learn how far the listener is."""
        fresh = order.turn != self._order.turn
        if order.loop:
            order = replace(order, loop=(order.loop[0], min(order.loop[1], self._length_s())))
        self._order, self._told_at = order, self._now()
        self._lead_s = min(self._lead_s * LESS_LEAD + order.late_s, PICTURES_AHEAD_S)
        if fresh:
            self._begins, self._picture, self._stands = order.at_s, 0, -1
            self._end_told = False
            self._sound = _SoundFrom(self._show, order) if order.playing else None
            self._left = None

    def go_over(self, show: Show) -> None:
        """Go on from here with another show of the same: what was made ahead stays."""
        self._show, self._renderer = show, Renderer(show.plan, show.sources, show.masks)
        self._stands = -1
        if self._sound and not self._sound.ended:
            order = replace(self._order, at_s=self._sound.at_s)
            self._left = self._sound.piece()
            self._sound = _SoundFrom(show, order)

    @property
    def is_playing(self) -> bool:
        """Whether it was ordered to play."""
        return self._sound is not None

    def make(self) -> Message | None:
        """The next message, None while nothing is wanted. Raises KettleError."""
        turn, plan = self._order.turn, self._show.plan
        if turn < 0 or not plan.frames:
            return None
        if self._sound is None:
            return self._standing()
        heard_s = self._heard_s()
        if not self._picture:
            # What is seen at once comes first: decoding up to it takes longest.
            return self._moving(heard_s)
        ahead_s = SOUND_AHEAD_S * self._order.rate
        if not self._sound.ended and self._sound.at_s < heard_s + ahead_s:
            at_s = self._sound.at_s
            sound = self._sound.piece()
            if self._left is not None:
                sound, self._left = _crossed(self._left, sound), None
            if sound.shape[1]:
                return Message(Message.SOUND, turn, at_s, _as_int16(sound))
        if self._sound.ended and not self._end_told:
            self._end_told = True
            return Message(Message.END, turn, self._sound.at_s)
        return self._moving(heard_s)

    def _heard_s(self) -> float:
        """Where the listener is by now."""
        since_s = (self._now() - self._told_at) * self._order.rate
        # Who has said nothing yet has heard nothing yet.
        begun = self._order.at_s > self._begins
        return self._order.at_s + (min(since_s, 1.0) if begun else 0.0)

    def _standing(self) -> Message | None:
        number = self._frame_at(self._order.folded(self._order.at_s))
        if number == self._stands:
            return None
        self._stands = number
        return self._picture_of(number, self._order.at_s)

    def _moving(self, heard_s: float) -> Message | None:
        step_s = self._order.rate / PICTURES_PER_S
        # What would come too late is left out.
        # The first one is that of the place itself: nothing is heard yet.
        lead_s = self._lead_s if self._picture else 0.0
        soonest_s = heard_s + lead_s * self._order.rate
        self._picture = max(self._picture, floor((soonest_s - self._begins) / step_s))
        at_s = self._begins + self._picture * step_s
        seen_s = self._order.folded(at_s)
        if at_s > heard_s + PICTURES_AHEAD_S * self._order.rate or seen_s >= self._length_s():
            return None
        self._picture += 1
        return self._picture_of(self._frame_at(seen_s), at_s)

    def _picture_of(self, number: int, at_s: float) -> Message:
        frame = picture_from_i420(self._renderer.frame(number))
        jpeg = picture_to_page_jpeg(frame, QUALITY)
        return Message(Message.PICTURE, self._order.turn, at_s, jpeg)

    def _length_s(self) -> float:
        return float(self._show.plan.frames / self._show.plan.fps)

    def _frame_at(self, at_s: float) -> int:
        """The frame that is seen at a time; times are rounded on their way."""
        plan = self._show.plan
        return min(plan.frames - 1, max(0, floor(at_s * float(plan.fps) + 1e-3)))


class _SoundFrom:
    """The mix of a show from a time on, faster or slower, over and over where it is looped."""

    def __init__(self, show: Show, order: Order) -> None:
        self._show, self._rate = show, order.rate
        total, loop = show.plan.samples, order.looped
        self._from = min(total, round(loop[0] * MASTER_HZ)) if loop else None
        self._end = min(total, round(loop[1] * MASTER_HZ)) if loop else total
        wanted = min(self._end, max(0, round(order.folded(order.at_s) * MASTER_HZ)))
        self._begins_s = order.at_s if loop else wanted / MASTER_HZ
        self._given = 0
        self._fades_in = self.ended = False
        self._begin(wanted)

    def _begin(self, wanted: int) -> None:
        """At a sample of the program."""
        self._done, self._length = 0, self._end - wanted
        self._at = max(0, wanted - SETTLED_SAMPLES)
        self._mix = ProgramMix(self._show.plan, self._show.sounds.read, self._at)
        self._settles = wanted - self._at
        self._tempo = Tempo(self._rate)

    @property
    def at_s(self) -> float:
        """The program time of what comes next."""
        return self._begins_s + self._given * self._rate / MASTER_HZ

    def piece(self) -> Sound:
        """The next piece, (2, N); nothing when it has ended."""
        while not self.ended:
            if self._at >= self._end:
                rest = self._tempo.process(self._settled(self._mix.flush()))
                made = np.concatenate([rest, self._tempo.flush()], axis=1)
                if self._from is None:
                    self.ended = True
                else:
                    self._begin(self._from)
                    self._fades_in = True
            else:
                count = min(PIECE_SAMPLES + self._settles, self._end - self._at)
                self._at += count
                made = self._tempo.process(self._settled(self._mix.read(count)))
            if made.shape[1]:
                self._given += made.shape[1]
                return made
        return np.zeros((2, 0), np.float32)

    def _settled(self, sound: Sound) -> Sound:
        """Without what was only made so that ducking and limiter have settled."""
        before = min(self._settles, sound.shape[1])
        self._settles -= before
        sound = sound[:, before:]
        return sound if self._from is None else self._joined(sound)

    def _joined(self, sound: Sound) -> Sound:
        """With the end of a loop faded out, and its beginning in where it came from the end."""
        at = np.arange(self._done, self._done + sound.shape[1])
        self._done += sound.shape[1]
        nearest = np.minimum(at, self._length - at) if self._fades_in else self._length - at
        return sound * np.clip(nearest / JOIN_SAMPLES, 0, 1).astype(np.float32)


def _crossed(before: Sound, after: Sound) -> Sound:
    """A sound (2, N) that begins as another one and is itself after 5 ms."""
    count = min(before.shape[1], after.shape[1], JOIN_SAMPLES)
    share = np.linspace(0, 1, count, dtype=np.float32)
    begins = before[:, :count] * (1 - share) + after[:, :count] * share
    return np.concatenate([begins, after[:, count:]], axis=1)


def _as_int16(sound: Sound) -> bytes:
    return np.rint(np.clip(sound.T, -1, 1) * 32767).astype("<i2").tobytes()
