"""takes, quiet and repair: which takes there are, what is found in one, what is damaged mended."""

import json
import math
import os
from argparse import Namespace
from typing import Any

from kettle_cli.paths import DATA
from kettle_core.errors import KettleError
from kettle_core.sound.quiet import BELOW_DBFS, FOR_S
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import Source
from kettle_media.survey.survey import find_quiet, survey_take
from kettle_media.take.afterwards import follow_cues
from kettle_media.take.folder import TakeFolder
from kettle_media.take.recovery import LOST, recover_take
from kettle_media.take.rig_now import rig_now

LOUDEST_DBFS, SOFTEST_DBFS = 0.0, -90.0
SHORTEST_S, LONGEST_S = 0.1, 600.0


def quiet(options: Namespace) -> int:
    """List the stretches of a take in which no voice is heard."""
    below_dbfs = BELOW_DBFS if options.below is None else options.below
    for_s = FOR_S if options.for_s is None else options.for_s
    if not SOFTEST_DBFS <= below_dbfs <= LOUDEST_DBFS:
        raise KettleError(
            f"--below takes {SOFTEST_DBFS:g} to {LOUDEST_DBFS:g} dBFS, got {below_dbfs:g}."
        )
    if not SHORTEST_S <= for_s <= LONGEST_S:
        raise KettleError(f"--for takes {SHORTEST_S:g} to {LONGEST_S:g} s, got {for_s:g}.")
    folder = TakeFolder(options.take)
    info = folder.read_info()
    survey = survey_take(folder)
    take = Source("take", info.id)
    time_map = follow_cues(folder, rig_now(folder, info)[0]).take_time(take, survey.length_ns)
    found = [
        (float(a) / NS_PER_S, float(b) / NS_PER_S)
        for stretch in find_quiet(folder, info, survey, below_dbfs, for_s)
        for a, b in time_map.program_stretches(take, *stretch)
    ]
    if options.json:
        rows = [{"from_s": round(a, 3), "until_s": round(b, 3)} for a, b in found]
        print(json.dumps(rows, indent=1))
        return 0
    for a, b in found:
        print(f"{_clock(a)} to {_clock(b)}  {b - a:6.2f} s")
    total = sum(b - a for a, b in found)
    print(f"{len(found)} quiet stretches, {total:.1f} s in all")
    return 0


def repair(options: Namespace) -> int:
    """Mend what is damaged of a take's files; the originals are kept."""
    found = recover_take(TakeFolder(options.take))
    if options.json:
        print(json.dumps([vars(verdict) for verdict in found], indent=1))
    else:
        for verdict in found:
            print(verdict.words)
    return 1 if any(verdict.state == LOST for verdict in found) else 0


def _clock(seconds: float) -> str:
    minutes, rest = divmod(math.floor(seconds * 1000 + 0.5), 60_000)
    hours, minutes = divmod(minutes, 60)
    return f"{hours}:{minutes:02d}:{rest // 1000:02d}.{rest % 1000:03d}"


def takes(options: Namespace) -> int:
    """List the takes of the library, the newest first."""
    rows = _kept_takes(options.search)
    if options.json:
        print(json.dumps(rows, indent=1, ensure_ascii=False))
        return 0
    for row in rows:
        length = _clock(row["duration_s"] or 0.0)
        print(f"{row['name']}  {length}  {row['size_bytes'] / 1e6:.1f} MB  {row['path']}")
        for note in row["notes"]:
            print(f"  {note}")
    print(f"{len(rows)} take{'s' * (len(rows) != 1)}")
    return 0


def _kept_takes(words: str) -> list[dict[str, Any]]:
    """Takes of the database as plain rows; none where there is no database yet."""
    if not (DATA / "db.sqlite3").exists():
        return []
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "kettle_web.settings")
    import django

    django.setup()
    from kettle_web.library.search import found_by
    from kettle_web.models import Take

    found = found_by(Take.objects.select_related("tutorial", "rig"), words)
    return [
        {
            "name": take.name,
            "tutorial": take.tutorial.name,
            "rig": take.rig.name if take.rig else None,
            "recorded_at": take.recorded_at.isoformat(),
            "duration_s": take.duration_s,
            "size_bytes": take.size_bytes,
            "state": take.state,
            "notes": take.notes,
            "tags": take.tag_list,
            "path": str(take.path),
        }
        for take in found
    ]
