"""What a take loses: told while it goes on, and kept with it. Times are record time, ns."""

import threading
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from kettle_core.rig.rig import Input
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.recording.drops import (
    Drops,
    DropWatch,
    Gap,
    dropped_in_words,
    gaps_in_words,
    in_words,
)
from kettle_engine.recording.track import Track

# Deliveries come so much later now and then; a device that was away is away for longer.
LEAST_GAP_NS = NS_PER_S // 20
# So long a sentence about something that is over stands on the page; so many stay with the take.
TOLD_FOR_NS, MOST_KEPT = 10 * NS_PER_S, 12
# How the journal calls a gap.
MISSING = "missing"


class Losses:
    """Counts the losses of all tracks; for their threads and another one that looks.

    `note` writes a line into the take's journal: what, when, and values. `lighter` are modes in
    words that are less work for an input.
    """

    def __init__(
        self, inputs: Sequence[Input], note: Callable[..., None], lighter: Mapping[str, str]
    ) -> None:
        self._inputs = {i.id: i for i in inputs}
        self._note, self._lighter = note, lighter
        self._lock = threading.Lock()
        self._drops = {name: DropWatch() for name in self._inputs}
        self._lately: list[tuple[int, str]] = []
        self._gaps: list[Gap] = []
        self._looked_ns = 0

    def dropped(self, name: str, frames: int, why: str, at_ns: int, written: int) -> None:
        """Frames or blocks of an input were lost, beside so many that were written."""
        with self._lock:
            first = self._drops[name].dropped(frames, why, at_ns, written)
        if first:
            self._note("frames are dropped", at_ns, input=name, why=why)

    def gap(self, name: str, missing_ns: int, at_ns: int) -> None:
        """An input's device is back, or its clock was set; so much is missing before it."""
        if missing_ns < LEAST_GAP_NS:
            return
        self._note(MISSING, at_ns, input=name, missing_ns=missing_ns)
        self._gaps.append(Gap(self._inputs[name].name, at_ns, missing_ns))

    def take_up(self, journal: Iterable[dict[str, Any]]) -> None:
        """Keep the gaps that the recorder before has noted."""
        for line in journal:
            item = self._inputs.get(line.get("input", ""))
            if line.get("what") == MISSING and item:
                self._gaps.append(Gap(item.name, line["at_ns"], line["missing_ns"]))

    def tell(self, sentence: str, at_ns: int) -> None:
        """Have something told for a while."""
        self._lately.append((at_ns + TOLD_FOR_NS, sentence))

    def look(self, at_ns: int) -> None:
        """Note which drops are over, and forget what was told for long enough."""
        self._looked_ns = at_ns
        self._lately = [told for told in self._lately if told[0] > at_ns]
        for name, watch in self._drops.items():
            with self._lock:
                over = watch.over(at_ns)
            self._note_drops(name, over)

    def end(self, name: str) -> None:
        """Note what goes on when a track ends."""
        with self._lock:
            drops = self._drops[name].end()
        self._note_drops(name, drops)

    def _note_drops(self, name: str, drops: Drops | None) -> None:
        if drops:
            self._note("frames were dropped", drops.until_ns, input=name, **vars(drops))

    def now(self, tracks: Mapping[str, Track]) -> list[str]:
        """What is to be told at the moment, in sentences."""
        lately_ns = self._looked_ns - TOLD_FOR_NS
        found = gaps_in_words([gap for gap in self._gaps if gap.at_ns > lately_ns])
        found += [sentence for _, sentence in self._lately]
        whole = not any(t.dropped for t in tracks.values() if not t.input.is_picture)
        for name, item in self._inputs.items():
            drops = self._drops[name].now
            if drops:
                lighter = self._lighter.get(name, "")
                found.append(in_words(item.name, drops, item.is_picture, whole, lighter))
        return found

    def of(self, counts: Mapping[str, tuple[int, int]]) -> list[str]:
        """What the take has lost on the whole, in sentences.

        `counts` are how many frames or blocks of each track were written, and dropped.
        """
        gaps = gaps_in_words(self._gaps)
        found = gaps[:MOST_KEPT]
        if len(gaps) > MOST_KEPT:
            found.append(f"{len(gaps) - MOST_KEPT} more such gaps are in the journal.")
        for name, (written, dropped) in counts.items():
            if dropped:
                item, of = self._inputs[name], dropped + written
                found.append(dropped_in_words(item.name, dropped, of, item.is_picture))
        return found
