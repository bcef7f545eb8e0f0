"""Takes brought up to what their folders say; their programs ordered."""

import os
from contextlib import suppress
from dataclasses import replace
from datetime import datetime
from functools import partial

from django.conf import settings
from django.db import transaction
from django.http import QueryDict
from django.utils import timezone

from kettle_core.errors import EngineError, RigError, TakeError
from kettle_core.program.afterwards import changes_program
from kettle_core.program.running_order import RunningOrder, read_outline
from kettle_core.timing.ticks import NS_PER_S
from kettle_core.timing.time_map import Source
from kettle_engine.protocol import COUNTDOWN, FINISHING
from kettle_media.roots import root_paths
from kettle_media.running_order import order_to_dict
from kettle_media.take.afterwards import follow_cues, read_afterwards, write_afterwards
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import RECORDING, TakeInfo
from kettle_media.take.pointers import pointer_way
from kettle_media.take.rig_now import rig_now
from kettle_studio.lesson import DESCRIPTION, OUTLINE, SCENES, TITLE
from kettle_web.frame.editing import edit, undo
from kettle_web.frame.engine import engine
from kettle_web.jobs.services import LONG, SOON, order
from kettle_web.library.services import index_words
from kettle_web.models import Job, Rig, Take, Tutorial
from kettle_web.takes.changes import Asked, change
from kettle_web.takes.overview import TakeNow, take_now

# Takes from before there were surveys are looked at a few at a time.
MOST_SURVEYS = 4


def read_take_from_disk(*, take: Take) -> None:
    """Bring a take's row up to what its folder says; compose it if it has just ended."""
    take.looked_at = timezone.now()
    folder = TakeFolder(take.path)
    try:
        info = folder.read_info()
        if info.state == RECORDING:
            return
        _fill(take, folder, info)
    except (TakeError, OSError, ValueError) as error:
        take.state, take.notes = Take.State.FAILED, [f"This take cannot be read: {error}"]
        take.save()
        return
    if take.survey_job is None:
        order_survey(take=take)
    if take.program_job is None:
        order_program(take=take)


def _fill(take: Take, folder: TakeFolder, info: TakeInfo) -> None:
    take.state = info.state
    left_out, length_ns = _followed(folder, info)
    take.duration_s = length_ns / NS_PER_S
    take.notes = [*info.notes, *left_out]
    take.tracks = [{"name": t.name, "title": t.title, "kind": t.kind} for t in info.tracks]
    take.recorded_at = datetime.fromisoformat(info.started_at)
    if take.revision == 1:
        # What was changed of a folder from elsewhere, or before this row was.
        take.document = take.write(read_afterwards(folder)[0])
    paths = (folder.track_path(track) for track in info.tracks)
    take.size_bytes = sum(path.stat().st_size for path in paths if path.exists())
    take.save()
    index_words(take)


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


def tutorial_for(*, rig: Rig | None) -> Tutorial:
    """What a new take belongs to: what is worked on with the rig, else that of its newest take,
    else one without a name.
    """
    if rig and rig.tutorial:
        return rig.tutorial
    last = Take.objects.filter(rig=rig).select_related("tutorial").first() if rig else None
    if last:
        return last.tutorial
    untitled = Tutorial.objects.filter(name=Tutorial.UNTITLED).first()
    return untitled or Tutorial.objects.create()


def order_demo_takes() -> None:
    """Have one tutorial with two takes, so that nothing begins empty; once for a data folder."""
    if not Tutorial.objects.exists() and not Take.with_deleted.exists():
        steps = zip(read_outline(OUTLINE), SCENES, strict=True)
        order_ = RunningOrder(tuple(replace(step, scene=scene) for step, scene in steps))
        tutorial = Tutorial.objects.create(
            name=TITLE, description=DESCRIPTION, document=order_to_dict(order_)
        )
        Rig.objects.filter(tutorial=None).update(tutorial=tutorial)
        subject = f"tutorial:{tutorial.pk}"
        order(kind="demo-takes", queue=LONG, subject=subject, title="Takes of the demo")
        if "KETTLE_DEMO_TAKES" not in os.environ:
            order(kind="demo-cut", queue=LONG, subject=subject, title="The demo's tutorial, cut")


@transaction.atomic
def order_program(*, take: Take, afresh: bool = False) -> None:
    """Have the program composed in the background; `afresh` what is being composed ends."""
    title, subject = f"{take.name}: program", f"take:{take.pk}"
    take.program_job = order(
        kind="program", queue=LONG, subject=subject, title=title, afresh=afresh
    )
    take.save(update_fields=["program_job"])


@transaction.atomic
def order_survey(*, take: Take) -> None:
    """Have its tracks looked at in the background."""
    title = f"{take.name}: waveforms and pictures"
    take.survey_job = order(kind="survey", queue=SOON, subject=f"take:{take.pk}", title=title)
    take.save(update_fields=["survey_job"])


def order_repair(*, take: Take) -> None:
    """Have what is damaged of its files mended, as far as they go."""
    subject, title = f"take:{take.pk}", f"{take.name}: repair"
    order(kind="repair", queue=SOON, subject=subject, title=title)


def make_again(*, take: Take) -> None:
    """Order what failed or was cancelled once more."""
    over = (Job.State.FAILED, Job.State.CANCELLED)
    if take.program_job is None or take.program_job.state in over:
        order_program(take=take)
    if take.survey_job is None or take.survey_job.state in over:
        order_survey(take=take)


def change_take(*, take: Take, post: QueryDict, seen: int | None) -> None:
    """Change a take afterwards; its program is composed again where it looks different.

    Raises
    ------
    KettleError
        If the change can't be made or the take's folder won't have it; nothing is changed then.
    """
    now = take_now(take)
    asked = Asked(post, now.was, now.take_time, partial(pointer_way, now.folder))
    with transaction.atomic():
        edit(take, lambda values: change(values, asked), seen)
        _keep_changed(take, now)


def undo_change(*, take: Take, seen: int | None, again: bool) -> str:
    """Take the newest change back, or do it again; gives its words. Raises KettleError."""
    now = take_now(take)
    with transaction.atomic():
        words = undo(take, seen, again)
        _keep_changed(take, now)
    return words


def _keep_changed(take: Take, before: TakeNow) -> None:
    """Have the folder and the program follow what was changed."""
    index_words(take)
    if changes_program(before.changed, take.values, before.was):
        order_program(take=take, afresh=True)
    # The folder last: what goes wrong before leaves both as they were.
    write_afterwards(before.folder, take.values)


def look_after_takes() -> None:
    """Find takes that ended, were repaired or were put into the folder without a page.

    A worker does it now and then; no page waits for it.
    """
    busy = _recording_folder()
    for take in Take.objects.filter(state=Take.State.RECORDING).exclude(folder=busy):
        read_take_from_disk(take=take)
    known = set(Take.with_deleted.values_list("folder", flat=True))
    for root, path in root_paths(settings.TAKES).items():
        try:
            entries = [e.name for e in os.scandir(path) if e.name not in known]
        except OSError:
            continue
        for name in sorted(n for n in entries if n[0] != "."):
            if (path / name / "take.json").exists():
                _add_found_take(TakeFolder(path / name), root, recording=name == busy)
    ended = (Take.State.COMPLETE, Take.State.INCOMPLETE, Take.State.REPAIRED)
    for take in Take.objects.filter(survey_job=None, state__in=ended)[:MOST_SURVEYS]:
        order_survey(take=take)
    for take in Take.objects.filter(state=Take.State.FAILED).exclude(looked_at=None):
        if _has_changed(take):
            read_take_from_disk(take=take)


def _has_changed(take: Take) -> bool:
    """Whether the folder of a take that could not be read was mended meanwhile."""
    try:
        changed_s = (take.path / "take.json").stat().st_mtime
    except OSError:
        return False
    return bool(take.looked_at and changed_s > take.looked_at.timestamp())


def _recording_folder() -> str:
    """The name of the folder that is being recorded into, "" for none."""
    try:
        status = engine().ask("status")
    except EngineError:
        return ""
    if status["state"] in (COUNTDOWN, FINISHING):
        # The folder is about to be made or ended; its row is looked after by the next call.
        take = Take.objects.filter(state=Take.State.RECORDING).first()
        return take.folder if take else ""
    return str(status.get("take", {}).get("folder", "")).rpartition("/")[2]


def _add_found_take(folder: TakeFolder, root: str, recording: bool) -> None:
    """A row for a folder that has none: a take, one being recorded, or one that can't be read."""
    name, title = folder.path.name, folder.path.name
    with suppress(TakeError):
        title = folder.read_info().name
    fresh = {"name": title[:200], "recorded_at": timezone.now(), "root": root}
    tutorial = tutorial_for(rig=None)
    take, is_new = Take.with_deleted.get_or_create(
        folder=name, defaults={**fresh, "tutorial": tutorial}
    )
    if not is_new:
        return  # a page or a worker was quicker
    if not recording:
        read_take_from_disk(take=take)
