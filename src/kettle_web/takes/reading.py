"""Rows of takes brought up to what their folders say."""

import os
from contextlib import suppress
from datetime import datetime
from typing import Any

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from kettle_core.errors import EngineError, RigError, TakeError
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import Source
from kettle_engine.protocol import COUNTDOWN, FINISHING
from kettle_engine.protocol import RECORDING as RECORDS
from kettle_media.roots import root_paths
from kettle_media.take.afterwards import follow_cues, read_afterwards
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import RECORDING, TakeInfo
from kettle_media.take.rig_now import rig_now
from kettle_web.frame.engine import engine
from kettle_web.library.numbers import next_number
from kettle_web.library.services import index_words
from kettle_web.models import Take
from kettle_web.rigs.tutorials import kept, tutorial_for
from kettle_web.takes.orders import order_program, order_survey

# Takes from before there were surveys are looked at a few at a time.
MOST_SURVEYS = 4
# Those from before rows had their ids are read a few at a time too.
MOST_READ = 50


def read_take_from_disk(*, take: Take) -> None:
    """Bring a take's row up to what its folder says; compose it if it has just ended.

    Only what the folder decides is written, whatever was done with the row meanwhile.
    """
    folder = TakeFolder(take.path)
    found: dict[str, Any] = {"looked_at": timezone.now()}
    try:
        info = folder.read_info()
        if info.state == RECORDING:
            return
        found |= _told(folder, info)
        changed = take.write(read_afterwards(folder)[0])
    except (TakeError, OSError, ValueError) as error:
        found |= {"state": Take.State.FAILED, "notes": [f"This take cannot be read: {error}"]}
    row = Take.with_deleted.filter(pk=take.pk)
    with transaction.atomic():
        if not row.update(**found):
            return  # it is gone for good
        if found["state"] != Take.State.FAILED:
            # What was changed of a folder from elsewhere, or before this row was.
            row.filter(revision=1).update(document=changed)
        take.refresh_from_db()
    if take.state == Take.State.FAILED:
        return
    index_words(take)
    if take.survey_job is None:
        order_survey(take=take)
    if take.program_job is None:
        order_program(take=take)


def _told(folder: TakeFolder, info: TakeInfo) -> dict[str, Any]:
    """Fields of a row that a folder decides."""
    left_out, length_ns = _followed(folder, info)
    paths = (folder.track_path(track) for track in info.tracks)
    return {
        "uuid": info.id,
        "state": info.state,
        "duration_s": length_ns / NS_PER_S,
        "notes": [*info.notes, *left_out],
        "tracks": [{"name": t.name, "title": t.title, "kind": t.kind} for t in info.tracks],
        "recorded_at": datetime.fromisoformat(info.started_at),
        "size_bytes": sum(path.stat().st_size for path in paths if path.exists()),
    }


def _followed(folder: TakeFolder, info: TakeInfo) -> tuple[tuple[str, ...], int]:
    """What is left out of what its files say, and its length in ns, pauses closed."""
    recorded_ns = info.duration_ns or 0
    try:
        rig, told = rig_now(folder, info)
        said = follow_cues(folder, rig)
    except RigError:
        return (), recorded_ns  # composing says what is wrong with the rig
    take_time = said.take_time(Source("take", info.id), recorded_ns)
    return (*told, *said.left_out), int(take_time.length_ns)


def look_after_takes() -> None:
    """Find takes that ended, were repaired or were put into the folder without a page.

    A worker does it now and then; no page waits for it.
    """
    recording = list(Take.with_deleted.filter(state=Take.State.RECORDING))
    # Asked after the rows: each of them was begun before.
    busy = _recording_folder()
    for take in recording:
        if take.folder == busy:
            continue
        if not _never_was(take):
            read_take_from_disk(take=take)
        elif busy is not None:
            take.delete()
    for take in Take.objects.filter(state=Take.State.FAILED).exclude(looked_at=None):
        if _never_was(take):
            take.delete()
        elif _has_changed(take):
            read_take_from_disk(take=take)
    _find_new(busy)
    _catch_up()


def _find_new(busy: str | None) -> None:
    """Rows for folders that have none."""
    known = set(Take.with_deleted.values_list("folder", flat=True))
    for root, path in root_paths(settings.TAKES).items():
        try:
            entries = [e.name for e in os.scandir(path) if e.name not in known]
        except OSError:
            continue
        for name in sorted(n for n in entries if n[0] != "."):
            if (path / name / "take.json").exists():
                _add_found_take(TakeFolder(path / name), root, recording=name == busy)


def _catch_up() -> None:
    """What takes from before there was such a thing still lack, a few at a time."""
    for take in Take.with_deleted.filter(uuid="").exclude(looked_at=None)[:MOST_READ]:
        with suppress(TakeError):
            Take.with_deleted.filter(pk=take.pk).update(uuid=TakeFolder(take.path).read_info().id)
    ended = (Take.State.COMPLETE, Take.State.INCOMPLETE, Take.State.REPAIRED)
    for take in Take.objects.filter(survey_job=None, state__in=ended)[:MOST_SURVEYS]:
        order_survey(take=take)


def _has_changed(take: Take) -> bool:
    """Whether the folder of a take that could not be read was mended meanwhile."""
    try:
        changed_s = (take.path / "take.json").stat().st_mtime
    except OSError:
        return False
    return bool(take.looked_at and changed_s > take.looked_at.timestamp())


def _recording_folder() -> str | None:
    """The name of the folder that is being recorded into, "" for none; None if it is not known."""
    try:
        status = engine().ask("status")
    except EngineError:
        return None
    if folder := str(status.get("take", {}).get("folder", "")).rpartition("/")[2]:
        return folder
    if status["state"] in (COUNTDOWN, RECORDS, FINISHING):
        # The folder is about to be made or ended; its row is looked after by the next call.
        take = Take.objects.filter(state=Take.State.RECORDING).first()
        return take.folder if take else ""
    return ""


def _never_was(take: Take) -> bool:
    """Whether a take ended before anything was recorded, or was thrown away, without a page."""
    if take.duration_s is not None:
        return False
    if take.path.exists():
        return False
    # The place of a disk that is away is there, and empty.
    with suppress(OSError), os.scandir(take.path.parent) as entries:
        return not take.root or any(entries)
    return False


def _add_found_take(folder: TakeFolder, root: str, recording: bool) -> None:
    """A row for a folder that has none: a take, one being recorded, or one that can't be read."""
    name, title = folder.path.name, folder.path.name
    with suppress(TakeError):
        title = folder.read_info().name
    fresh = {"name": title[:200], "recorded_at": timezone.now(), "root": root}
    tutorial = kept(tutorial_for(rig=None))
    take, is_new = Take.with_deleted.get_or_create(
        folder=name, defaults={**fresh, "tutorial": tutorial, "number": next_number(tutorial)}
    )
    if not is_new:
        return  # a page or a worker was quicker
    if not recording:
        read_take_from_disk(take=take)
