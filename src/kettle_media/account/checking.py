"""Goes through a take's account: each capture that came is kept, told as lost, or in a pause."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kettle_media.account.reading import (
    Came,
    Numbers,
    lines,
    read_came,
    read_file,
    read_rows,
    read_unwritten,
)

NS_PER_S = 1_000_000_000
# Captures come late by so much now and then; nearer to an edge nothing can be said for sure.
LATE_NS = 60_000_000
# A device from which nothing has come for so long was away, which must be told.
AWAY_NS = 300_000_000
TOLD_NEAR_NS = 2 * NS_PER_S
FILLED, KEPT = 2, 1
# Samples lie in a file's packets, whose times are rounded to ms.
ROUNDED_MS = 6


@dataclass(frozen=True)
class Finding:
    """What does not add up of a track, with where in record time, ns; in words for its owner."""

    track: str
    at_ns: int
    captures: int
    words: str


@dataclass(frozen=True)
class Account:
    """What was found, and stretches of record time in ns of which it is not known what came."""

    findings: tuple[Finding, ...]
    unknown: tuple[tuple[int, int], ...] = ()


@dataclass(frozen=True)
class _Take:
    start_ns: int
    end_ns: int
    unwritten: Sequence[tuple[int, int]]
    journal: Sequence[dict[str, Any]]
    written_and_dropped: Mapping[str, tuple[int, int]]


def check_account(folder: Path, duration_ns: int) -> Account:
    """Hold a take's tracks against what came. Of a take without an account nothing is said.

    Parameters
    ----------
    folder : the take, with all of its tracks ended
    duration_ns : int, its length in record time
    """
    came, known = read_came(folder)
    if not known:
        return Account((), ((0, duration_ns),))
    info = json.loads((folder / "take.json").read_text())
    journal = list(lines(folder / "journal.jsonl"))
    finished: dict[str, Any] = next(
        (x for x in reversed(journal) if x.get("what") == "finished"), {}
    )
    take = _Take(
        info["start_master_ns"],
        duration_ns,
        read_unwritten(folder),
        journal,
        finished.get("written_and_dropped", {}),
    )
    found: list[Finding] = []
    for track in info["tracks"]:
        if track.get("damaged"):
            continue
        path = folder / track["file"]
        found += _check_track(take, track, path, came.get(track["name"], []))
    return Account(tuple(found), tuple(_unknown(take, known)))


def _check_track(
    take: _Take, track: Mapping[str, Any], path: Path, runs: Sequence[Came]
) -> list[Finding]:
    try:
        rows = read_rows(path.with_suffix(".times.csv"))
    except (OSError, ValueError) as error:
        told = f"{track['title']}: its times cannot be read, so nothing is known of it: {error}."
        return [Finding(track["name"], 0, 0, told)]
    each_ns = _each_ns(track, rows)
    found = _check_file(take, track, path, rows)
    ended_ns = _ended_ns(take, track["name"])
    before_ns: int | None = None
    left = _told_at_end(take, track["name"], rows)
    for number, run in enumerate(sorted(runs, key=lambda run: int(run.master_ns[0]))):
        shift_ns = take.start_ns + (0 if _is_picture(track) else each_ns)
        begun = run.master_ns - shift_ns
        if before_ns is not None:
            before_ns = max(before_ns, _kept_before(rows, run) - shift_ns)
        found += _check_away(take, track, before_ns, int(begun[0]), ended_ns)
        before_ns = int(begun[-1])
        is_last = number == len(runs) - 1
        found += _check_run(take, track, rows, run, begun, each_ns, ended_ns, left * is_last)
    return found


def _kept_before(rows: Mapping[str, Numbers], run: Came) -> int:
    """When the last capture before a run came that is in the take: it was there until then.

    Of the last second of devices that died the account tells nothing.
    """
    at_ns = rows["master_ns"][(rows["kept"] == KEPT) & (rows["master_ns"] < run.master_ns[0])]
    return int(at_ns[-1]) if at_ns.size else 0


def _is_picture(track: Mapping[str, Any]) -> bool:
    return bool(track["mode"].get("width"))


def _each_ns(track: Mapping[str, Any], rows: Mapping[str, Numbers]) -> int:
    """How long a capture lasts."""
    mode = track["mode"]
    if _is_picture(track):
        up, _, down = str(mode["fps"]).partition("/")
        return round(NS_PER_S * int(down or 1) / int(up))
    blocks = rows["samples"][rows["kept"] == KEPT] if "samples" in rows else np.zeros(0)
    samples = int(np.median(blocks)) if blocks.size else 480
    return int(max(1, samples * NS_PER_S // mode["sample_rate_hz"]))


def _check_run(
    take: _Take,
    track: Mapping[str, Any],
    rows: Mapping[str, Numbers],
    run: Came,
    begun: Numbers,
    each_ns: int,
    ended_ns: int,
    left: int,
) -> list[Finding]:
    """What came in one go: each number has a row, or is told of by those round it."""
    stamped = np.flatnonzero(rows["kept"] != FILLED)
    at_ns = rows["master_ns"][stamped]
    near = (at_ns >= run.master_ns[0]) & (at_ns <= run.master_ns[-1])
    mine = stamped[near & np.isin(rows["no"][stamped], run.numbers)]
    missing = ~np.isin(run.numbers, rows["no"][mine])
    edge_ns = LATE_NS + 2 * each_ns
    # What came before the take is not its own, and nor is what was taken after its end.
    missing &= (begun > edge_ns) & (begun < min(take.end_ns, ended_ns) - each_ns)
    for start, end in take.unwritten:
        missing &= (begun < start - edge_ns) | (begun > end + edge_ns)
    told = np.r_[0, np.cumsum(rows["dropped"])]
    edges = np.r_[_round(rows, stamped, run, -1), mine, _round(rows, stamped, run, 1)]
    gap_of = np.searchsorted(rows["no"][mine], run.numbers[missing])
    found = []
    for gap in np.unique(gap_of):
        gone = np.flatnonzero(missing)[gap_of == gap]
        last = gap == mine.size
        is_told = told[edges[gap + 1] + 1] - told[edges[gap] + 1] + (left if last else 0)
        never = _never_came(run.numbers, rows["no"][mine], int(gap))
        lost = gone.size + never - int(is_told)
        if lost > 0 and gone.size:
            found.append(_lost(track, begun[gone], min(lost, int(gone.size))))
    return found


def _round(rows: Mapping[str, Numbers], stamped: Numbers, run: Came, way: int) -> int:
    """The last row before a run (-1), or the first one after it."""
    at_ns = rows["master_ns"][stamped]
    if way < 0:
        before = stamped[at_ns < run.master_ns[0]]
        return int(before[-1]) if before.size else -1
    after = stamped[at_ns > run.master_ns[-1]]
    return int(after[0]) if after.size else int(rows["no"].size - 1)


def _never_came(numbers: Numbers, there: Numbers, gap: int) -> int:
    """How many numbers between two rows no capture came with."""
    if gap in (0, there.size):
        return 0
    first, last = there[gap - 1], there[gap]
    between = np.count_nonzero((numbers > first) & (numbers < last))
    return int(last - first - 1 - between)


def _lost(track: Mapping[str, Any], begun: NDArray[np.int64], count: int) -> Finding:
    what = "frames" if _is_picture(track) else "blocks of sound"
    start, end = (f"{int(at) / NS_PER_S:.2f} s" for at in (begun[0], begun[-1]))
    words = (
        f"{track['title']}: {count} {what} that came from {start} to {end} are not in the take, "
        "and nothing says why."
    )
    return Finding(track["name"], int(begun[0]), count, words)


def _told_at_end(take: _Take, name: str, rows: Mapping[str, Numbers]) -> int:
    """How many were told as dropped after the last row."""
    counts = take.written_and_dropped.get(name)
    return max(0, counts[1] - int(rows["dropped"].sum())) if counts else 0


def _ended_ns(take: _Take, name: str) -> int:
    """When a track ended that could not be written any more, or was cut off, as was told."""
    ends = ("track ended", "track cut off")
    mine = (x for x in take.journal if x.get("what") in ends and x.get("input") == name)
    return min((int(x["at_ns"]) for x in mine), default=1 << 62)


def _check_away(
    take: _Take, track: Mapping[str, Any], before_ns: int | None, back_ns: int, ended_ns: int
) -> list[Finding]:
    """That a device was away must be told."""
    start = max(0, before_ns or 0)
    if before_ns is None or back_ns > min(take.end_ns, ended_ns):
        return []
    away_ns = back_ns - start
    for first, until in take.unwritten:
        away_ns -= max(0, min(back_ns, until) - max(start, first))
    told = any(
        x.get("what") == "missing"
        and x.get("input") == track["name"]
        and abs(x["at_ns"] - back_ns) < TOLD_NEAR_NS
        for x in take.journal
    )
    if away_ns < AWAY_NS or told:
        return []
    at = f"{start / NS_PER_S:.2f} s to {back_ns / NS_PER_S:.2f} s"
    words = f"{track['title']}: nothing came from {at}, and nothing says so."
    return [Finding(track["name"], start, 0, words)]


def _check_file(
    take: _Take, track: Mapping[str, Any], path: Path, rows: Mapping[str, Numbers]
) -> list[Finding]:
    """What its times tell as kept is in the file."""
    begins, ends = read_file(path)
    kept = rows["kept"] == KEPT
    if _is_picture(track):
        ms = _file_ms(rows["pts_ns"][kept])
        gone = ~np.isin(ms, begins)
        if not gone.any():
            return []
        at_ns, count = int(rows["pts_ns"][kept][gone][0]), int(np.count_nonzero(gone))
        words = f"{track['title']}: {count} frames that were kept are not in its file."
        return [Finding(track["name"], at_ns, count, words)]
    if not rows["no"].size:
        return []
    rate_hz = track["mode"]["sample_rate_hz"]
    told_ms = int(rows["samples"].sum()) * 1000 / rate_hz if "samples" in rows else 0.0
    there_ms = int((ends - begins).sum()) if begins.size else 0
    span_ms = int(ends[-1] - begins[0]) if begins.size else 0
    short_ms = told_ms - min(span_ms, there_ms + begins.size)
    if short_ms <= ROUNDED_MS:
        return []
    at_ns = int(rows["pts_ns"][-1])
    words = f"{track['title']}: {short_ms / 1000:.2f} s that were kept are not in its file."
    return [Finding(track["name"], at_ns, 0, words)]


def _file_ms(pts_ns: Numbers) -> Numbers:
    """Times of kept frames as they stand in a file: in ms, each later than the one before."""
    number = np.arange(pts_ns.size)
    rounded = np.rint(pts_ns / 1e6).astype(np.int64)
    return np.asarray(np.maximum.accumulate(rounded - number) + number)


def _unknown(take: _Take, known: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    found, at = [], 0
    for since, until in sorted((a - take.start_ns, b - take.start_ns) for a, b in known):
        if since > at and at < take.end_ns:
            found.append((at, min(since, take.end_ns)))
        at = max(at, until)
    if at < take.end_ns:
        found.append((at, take.end_ns))
    return [(start, end) for start, end in found if end - start > NS_PER_S // 10]
