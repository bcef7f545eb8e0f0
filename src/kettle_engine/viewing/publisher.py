"""Publishes what pages show, and only what somebody has subscribed to."""

import time
import traceback
from collections.abc import Callable
from pathlib import Path

from kettle_core.errors import KettleError
from kettle_engine.clock import Clock
from kettle_engine.pace import every_s
from kettle_engine.protocol import (
    AFTER,
    HEAR,
    LEVELS,
    PROGRAM,
    RECORDING,
    STATUS,
)
from kettle_engine.viewing.after_meter import AfterMeter
from kettle_engine.viewing.live import Live
from kettle_engine.viewing.outbox import Outbox
from kettle_engine.viewing.picture_feed import PictureFeed, Shows

LEVELS_EVERY_S, STATUS_EVERY_S = every_s(20), 0.25
# With the level after a chain goes what is heard of it, in which nobody bears a gap.
AFTER_EVERY_S = 0.05
PROGRAM_EVERY_S = every_s(15)
# While a take is recorded both are shown less often: what shows gives way.
IN_TAKE_EVERY_S = {PROGRAM: every_s(8), LEVELS: every_s(10)}
TICK_S = 0.02
LIVELY_TICK_S = 0.003
CLOSE_AFTER_S = 20.0


class Publisher:
    """Owns the PUB socket and knows from it which topics are watched. For one thread."""

    def __init__(self, shows: Shows, address: str, library: Path, clock: Clock) -> None:
        self._shows = shows
        self._outbox = Outbox(address)
        self.feed = PictureFeed(shows, self._outbox, library, clock, self._do_due)
        self._afters: dict[str, AfterMeter] = {}
        self.watched_at_s = time.monotonic()
        self._jobs = {
            LEVELS: (LEVELS_EVERY_S, self._levels),
            PROGRAM: (PROGRAM_EVERY_S, self.feed.program),
            STATUS: (STATUS_EVERY_S, self._status),
            AFTER: (AFTER_EVERY_S, self._after),
        }
        self._due_s = dict.fromkeys(self._jobs, 0.0)

    def show_program_now(self) -> None:
        """The program has changed: it is due."""
        self._due_s[PROGRAM] = 0.0

    def close(self) -> None:
        """Let the socket go."""
        self._outbox.close()

    def step(self) -> float:
        """Publish what is due; gives how long to wait for the next step, s."""
        self._outbox.read_subscriptions()
        if any(self._outbox.watched.values()):
            self.watched_at_s = time.monotonic()
        self._do_due()
        self._do(self.feed.pictures)
        live = self._shows.live
        return LIVELY_TICK_S if live and (live.tried or live.played) else TICK_S

    def _do_due(self) -> None:
        """Levels, program and status at their times; also between two pictures."""
        now = time.monotonic()
        for topic, (at_best_s, work) in self._jobs.items():
            if now >= self._due_s[topic]:
                in_take = self._shows.status()["state"] == RECORDING
                step_s = IN_TAKE_EVERY_S.get(topic, at_best_s) if in_take else at_best_s
                # In step with the times before, unless it is later than a whole step.
                next_s = self._due_s[topic] + step_s
                self._due_s[topic] = next_s if next_s > now else now + step_s
                if self._outbox.watched.get(topic) or topic == AFTER:
                    self._do(work)

    def _do(self, work: Callable[[Live], None]) -> None:
        live = self._shows.live
        try:
            if live or work == self._status:
                work(live)  # type: ignore[arg-type]
        except KettleError as error:
            self._outbox.send(STATUS, {"state": "failed", "message": str(error)})
        except Exception:  # one picture's mistake must not end the pages' pictures for good
            traceback.print_exc()

    def _status(self, _: Live | None) -> None:
        self._outbox.send(STATUS, self._shows.status())

    def _levels(self, live: Live) -> None:
        self._outbox.send(LEVELS, {name: meter.read() for name, meter in list(live.meters.items())})

    def _after(self, live: Live) -> None:
        """Levels after the chain, of what a page looks at; a take needs the time for itself."""
        names = {t[len(AFTER) :].decode() for t in self._outbox.watched if t.startswith(AFTER)}
        for name in self._afters.keys() - names:
            del self._afters[name]
            if name in live.meters:
                live.meters[name].after = None
        for name in names & live.meters.keys():
            meter, after = live.meters[name], self._afters.get(name)
            if after is None or after.input != meter.input or meter.after != after.take:
                after = self._afters[name] = AfterMeter(meter.input)
                meter.after = after.take
            if self._shows.status()["state"] != RECORDING:
                self._outbox.send(AFTER + name.encode(), after.read())
                if HEAR + name.encode() in self._outbox.watched:
                    header = {"input": f"hear:{name}"}
                    self._outbox.send(HEAR + name.encode(), header, after.heard())
