"""Everything that changes something: verbs with keyword arguments, plain values in."""

import time
from contextlib import suppress
from datetime import datetime, timedelta
from typing import Any

from django.conf import settings
from django.db import transaction
from django.utils import timezone
from django.utils.text import slugify

from kettle_core.errors import EngineError, RigError, TakeError
from kettle_core.rig.devices import DeviceInfo
from kettle_core.rig.rig import Rig as RigValues
from kettle_core.rig.sound_changes import following_preset
from kettle_engine.client import EngineClient
from kettle_engine.protocol import COUNTDOWN, FINISHING, IDLE, WATCHING, device_from_dict
from kettle_media.rig_document import rig_to_dict
from kettle_media.take.cues import follow_cues
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import RECORDING, TakeInfo
from kettle_studio.demo import demo_rig
from kettle_web.models import Rig, Take

STOP_TIMEOUT_S = 20.0
# All changes of a day can be undone, and these beyond it.
CHANGES_KEPT = 60
CHANGES_KEPT_FOR = timedelta(days=1)
# Addresses of pages beside those of rigs.
RESERVED = ("new", "import")


def engine() -> EngineClient:
    """The engine of this data folder."""
    return EngineClient(settings.DATA)


@transaction.atomic
def make_demo_rig() -> Rig:
    """The rig of the demo scenario, once; changes made to it are kept."""
    values = demo_rig()
    rig, _ = Rig.objects.get_or_create(
        slug="demo", defaults={"name": values.name, "document": rig_to_dict(values)}
    )
    return rig


def create_rig(*, name: str) -> Rig:
    """A rig of everything that is plugged in. Raises EngineError."""
    return keep_rig(document=engine().ask("propose_rig", name=name))


@transaction.atomic
def keep_rig(*, document: dict[str, Any]) -> Rig:
    """A new rig under an address that is free."""
    name = document["name"]
    base = slugify(name)[:50] or "rig"
    slug, number = base, 2
    while slug in RESERVED or Rig.objects.filter(slug=slug).exists():
        slug, number = f"{base}-{number}", number + 1
    return Rig.objects.create(slug=slug, name=name, document=document)


@transaction.atomic
def change_rig(*, rig: Rig, values: RigValues, words: str) -> None:
    """Keep a changed rig, and how it was before; `words` say what was done."""
    document = rig_to_dict(following_preset(rig.values, values))
    if document == rig.document:
        return
    rig.changes.filter(undone=True).delete()
    rig.changes.create(words=words[:200], before=rig.document, after=document)
    old = rig.changes.values_list("pk", flat=True)[CHANGES_KEPT:]
    before = timezone.now() - CHANGES_KEPT_FOR
    rig.changes.filter(pk__in=list(old), made_at__lt=before).delete()
    _put_document(rig, document)


def _put_document(rig: Rig, document: dict[str, Any]) -> None:
    rig.document, rig.name = document, document["name"]
    rig.save()


@transaction.atomic
def undo_change(*, rig: Rig, again: bool = False) -> str:
    """Take the last change back, or do `again` what was; gives its words, "" for none."""
    changes = rig.changes.filter(undone=again)
    change = changes.last() if again else changes.first()
    if change is None:
        return ""
    change.undone = not again
    change.save()
    _put_document(rig, change.after if again else change.before)
    return change.words


def show_rig(*, rig: Rig) -> None:
    """Have the engine show a changed rig at once, but leave a take's rig alone.

    Without an engine the page says so anyway.
    """
    with suppress(EngineError):
        if engine().ask("status")["state"] in (IDLE, WATCHING):
            engine().ask("open_rig", rig=rig.document, owner=rig.slug)


def devices() -> list[DeviceInfo]:
    """Everything that is plugged in. Raises EngineError."""
    return [device_from_dict(row) for row in engine().ask("devices")]


def start_take(*, rig: Rig, countdown_s: int) -> Take:
    """Have the engine record into a new folder. Raises EngineError or TakeError."""
    now = timezone.now()
    day = timezone.localtime(now).date().isoformat()
    number = Take.objects.filter(folder__startswith=f"{rig.slug}-{day}-").count() + 1
    while _is_taken(folder := f"{rig.slug}-{day}-take-{number:02d}"):
        number += 1
    # The row comes second: without a folder it would look like a take that was lost.
    engine().ask("record", rig=rig.document, folder=folder, countdown_s=countdown_s)
    return Take.objects.create(
        rig=rig, folder=folder, name=f"{rig.name}, take {number}", recorded_at=now
    )


def _is_taken(folder: str) -> bool:
    return Take.objects.filter(folder=folder).exists() or (settings.TAKES / folder).exists()


def stop_take() -> Take | None:
    """Stop what is being recorded and have its program composed.

    None where it was stopped in the countdown, before anything was recorded.
    """
    client = engine()
    stopped = client.ask("stop")
    deadline = time.monotonic() + STOP_TIMEOUT_S
    status = client.ask("status")
    while status["state"] in ("recording", FINISHING) and time.monotonic() < deadline:
        time.sleep(0.05)
        status = client.ask("status")
    take = Take.objects.filter(state=Take.State.RECORDING).first()
    if stopped == COUNTDOWN:
        if take:
            take.delete()
        return None
    if take:
        read_take_from_disk(take=take)
    return take


def read_take_from_disk(*, take: Take) -> None:
    """Bring a take's row up to what its folder says; compose it if it has just ended."""
    folder = TakeFolder(take.path)
    try:
        info = folder.read_info()
    except TakeError as error:
        if take.state == Take.State.RECORDING:
            take.state, take.notes = Take.State.FAILED, [str(error)]
            take.save()
        return
    if info.state == RECORDING:
        return
    _fill(take, folder, info)
    if take.program == Take.Program.NONE:
        order_program(take=take)


def _fill(take: Take, folder: TakeFolder, info: TakeInfo) -> None:
    take.state = info.state
    take.duration_s = (info.duration_ns or 0) / 1e9
    take.notes = [*info.notes, *_left_out(folder, info)]
    take.tracks = [{"name": t.name, "title": t.title, "kind": t.kind} for t in info.tracks]
    take.recorded_at = datetime.fromisoformat(info.started_at)
    paths = (folder.track_path(track) for track in info.tracks)
    take.size_bytes = sum(path.stat().st_size for path in paths if path.exists())
    take.save()


def _left_out(folder: TakeFolder, info: TakeInfo) -> tuple[str, ...]:
    try:
        return follow_cues(folder, info.rig_values).left_out
    except RigError:
        return ()  # composing says what is wrong with the rig


@transaction.atomic
def order_program(*, take: Take) -> None:
    """Have the program composed in the background."""
    from kettle_web.tasks import compose_program

    take.program, take.program_done, take.program_total = Take.Program.WAITING, 0, 0
    take.program_message = ""
    take.save()
    transaction.on_commit(lambda: compose_program.enqueue(take.pk))


def look_after_takes() -> None:
    """Find takes that ended, were repaired or were put into the folder without a page."""
    busy = _recording_folder()
    for take in Take.objects.filter(state=Take.State.RECORDING):
        if take.folder != busy:
            read_take_from_disk(take=take)
    known = set(Take.objects.values_list("folder", flat=True))
    for path in sorted(settings.TAKES.glob("*/take.json")):
        if path.parent.name not in known and path.parent.name != busy:
            _add_found_take(TakeFolder(path.parent))


def _recording_folder() -> str:
    try:
        status = engine().ask("status")
    except EngineError:
        return ""
    if status["state"] in (COUNTDOWN, FINISHING):
        # The folder is about to be made or ended; its row is looked after by the next call.
        take = Take.objects.filter(state=Take.State.RECORDING).first()
        return take.folder if take else ""
    return str(status.get("take", {}).get("folder", "")).rpartition("/")[2]


def _add_found_take(folder: TakeFolder) -> None:
    try:
        info = folder.read_info()
    except TakeError:
        return
    if info.state != RECORDING:
        take = Take(folder=folder.path.name, name=info.name, recorded_at=timezone.now())
        _fill(take, folder, info)
        order_program(take=take)


def resume_work() -> None:
    """After a start: order again what a worker that is gone had not finished."""
    unfinished = (Take.Program.WAITING, Take.Program.COMPOSING)
    for take in Take.objects.filter(program__in=unfinished):
        order_program(take=take)


def status_or_message() -> dict[str, Any]:
    """The engine's status, or the sentence that says why there is none."""
    try:
        return dict(engine().ask("status"))
    except EngineError as error:
        return {"state": "absent", "message": str(error)}
