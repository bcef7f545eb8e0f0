"""bench takes: how fast takes are looked at, found and opened."""

import logging
import os
import tempfile
import time
from argparse import Namespace
from collections.abc import Callable
from contextlib import redirect_stderr
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from io import StringIO
from pathlib import Path
from typing import Any

import numpy as np

from kettle_bench.library import library_pages
from kettle_core.errors import EngineError
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.process import work_frame_by_frame
from kettle_engine.recording.take import record_take
from kettle_media.survey.paths import SurveyPaths
from kettle_media.survey.pictures import sheets_of, survey_pictures
from kettle_media.survey.sounds import survey_sound
from kettle_media.survey.survey import SURVEY, Level, Survey, survey_take
from kettle_media.take.align import align_take, go_on
from kettle_media.take.folder import TakeFolder
from kettle_studio.demo import demo_rig
from kettle_studio.driver import Studio

SECONDS, HOURS, TAKES = 60, 5, 5000
TRIES = 40
SHORT_S = 4
LEAST_TIMES_REAL = 60.0
# Limits of a page's server time, ms.
PAGE_MS, SEARCH_MS, OPEN_MS, LINES_MS = 300.0, 150.0, 1000.0, 300.0


def bench_takes(_: Namespace) -> int:
    """Look at a take; then 5,000 takes and one of five hours as pages see them.

    Raises EngineError where a limit is not kept.
    """
    work_frame_by_frame()
    with tempfile.TemporaryDirectory() as name:
        data = Path(name)
        short = recorded_take(data / "short", SHORT_S)
        survey_take(short)
        folder = recorded_take(data / "takes" / "long", SECONDS)
        speed = 3600 / _hour_s(folder)
        print(f"survey of an hour: {speed:.0f} × real time (at least {LEAST_TIMES_REAL:g})")
        survey = survey_take(folder)
        stretch(folder, survey)
        wrong = [] if speed >= LEAST_TIMES_REAL else ["survey"]
        wrong += _pages(data)
        wrong += library_pages(data, short, _times_ms)
    if wrong:
        raise EngineError(f"Beyond its limit: {', '.join(wrong)}.")
    return 0


def recorded_take(path: Path, seconds: int) -> TakeFolder:
    """A take of the demo rig in a new folder, its clocks aligned."""
    folder = TakeFolder(path)
    path.parent.mkdir(exist_ok=True)
    record_take(Studio(), demo_rig(), path, seconds * NS_PER_S)
    align_take(folder, folder.read_info())
    return folder


def _hour_s(folder: TakeFolder) -> float:
    """How long the survey of an hour takes: sounds by their length, pictures by their number."""
    info = folder.read_info()
    sync = align_take(folder, info)
    SurveyPaths(folder).folder.mkdir()
    # Libraries are loaded, files are known.
    survey_take(folder)
    total = 0.0
    for track in info.tracks:
        began = time.monotonic()
        if track.is_picture:
            sheets = survey_pictures(folder, track, sync, SECONDS * NS_PER_S, go_on)
            hour = sheets_of(3600 * NS_PER_S, track)
            total += (time.monotonic() - began) * hour.count / sheets.count
        else:
            survey_sound(folder, track, sync, SECONDS * NS_PER_S, go_on)
            total += (time.monotonic() - began) * 3600 / SECONDS
    return total


def stretch(folder: TakeFolder, survey: Survey, hours: int = HOURS) -> None:
    """Have a take and its survey look as if it lasted some hours."""
    times = hours * 3600 * NS_PER_S // survey.length_ns
    info = folder.read_info()
    folder.write_info(replace(info, duration_ns=hours * 3600 * NS_PER_S))

    def all_along(stretches: tuple[tuple[int, int], ...]) -> tuple[tuple[int, int], ...]:
        shifts = (n * survey.length_ns for n in range(times))
        return tuple((a + by, b + by) for by in shifts for a, b in stretches)

    tracks = []
    for track in survey.tracks:
        if track.levels:
            path = SurveyPaths(folder).levels(track.name)
            whole, parts, levels, offset = path.read_bytes(), [], [], 0
            for level in track.levels:
                part = whole[level.offset : level.offset + 6 * level.count] * times
                parts.append(part)
                levels.append(Level(level.step_ns, offset, level.count * times))
                offset += len(part)
            path.write_bytes(b"".join(parts))
            track = replace(track, levels=tuple(levels), voice=all_along(track.voice))  # noqa: PLW2901
        tracks.append(track)
    long = replace(survey, length_ns=hours * 3600 * NS_PER_S, tracks=tuple(tracks))
    SurveyPaths(folder).report.write_text(SURVEY.write(long))


def open_library(data: Path) -> None:
    """Have Django use a new library in a folder."""
    os.environ |= {"KETTLE_DATA": str(data), "DJANGO_SETTINGS_MODULE": "kettle_web.settings"}
    import django
    from django.core.management import call_command

    django.setup()
    from kettle_web.frame.static_files import collect_static

    logging.disable(logging.WARNING)
    call_command("migrate", verbosity=0, interactive=False)
    collect_static()


def _pages(data: Path) -> list[str]:
    """What is beyond its limit of the pages' times; each is printed."""
    open_library(data)
    from django.test import Client

    from kettle_web.library.search import index_take
    from kettle_web.models import Take, Tutorial
    from kettle_web.takes.reading import read_take_from_disk

    tutorial = Tutorial.objects.create(name="Planning a signature")
    now = datetime.now(UTC)
    for n in range(TAKES):
        take = Take(tutorial=tutorial, folder=f"t{n}", name=f"Sheet {n}, fold {n % 97}",
                    state="complete", recorded_at=now - timedelta(minutes=n), size_bytes=n,
                    duration_s=n % 900, composed_revision=1)  # fmt: skip
        take.save(force_insert=True)
        index_take(take)
    long = Take.objects.create(tutorial=tutorial, folder="long", name="long", recorded_at=now)
    read_take_from_disk(take=long)
    client = Client(headers={"host": "127.0.0.1"})
    level = client.get(f"/takes/{long.pk}/overview/").json()["tracks"][2]
    rng = np.random.default_rng(1)

    def near() -> Any:
        first = 6 * int(rng.integers(0, level["levels"][0]["count"] - 8192))
        asked = {"range": f"bytes={first}-{first + 6 * 8192 - 1}"}
        return client.get(level["levels_at"], headers=asked)

    wrong = []
    for words, limit_ms, ask in (
        (f"start page, {TAKES} takes", PAGE_MS, lambda: client.get("/")),
        (f"search in {TAKES} takes", SEARCH_MS, lambda: client.get("/?q=sheet+fold+42")),
        (f"page of a take of {HOURS} h", OPEN_MS, lambda: client.get(f"/takes/{long.pk}/")),
        ("its lines", LINES_MS, lambda: client.get(f"/takes/{long.pk}/overview/")),
        ("its lanes after a jump", LINES_MS, near),
    ):
        worst, median = _times_ms(ask)
        print(f"{words}: {median:.0f} ms, worst of {TRIES} {worst:.0f} ms (limit {limit_ms:g})")
        if worst > limit_ms:
            wrong.append(words)
    return wrong


def _times_ms(ask: Callable[[], Any]) -> tuple[float, float]:
    """The longest and the middle one of some answers."""
    found = []
    for _ in range(TRIES):
        began = time.perf_counter()
        with redirect_stderr(StringIO()):
            answer = ask()
        found.append((time.perf_counter() - began) * 1000)
        if answer.status_code not in (200, 206):
            raise EngineError(f"The server answered {answer.status_code}.")
    return max(found), float(np.median(found))
