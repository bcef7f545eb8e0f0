"""Takes brought up to what their folders say; their programs ordered."""

from datetime import datetime

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from kettle_core.errors import EngineError, RigError, TakeError
from kettle_engine.protocol import COUNTDOWN, FINISHING
from kettle_media.take.cues import follow_cues
from kettle_media.take.folder import TakeFolder
from kettle_media.take.info import RECORDING, TakeInfo
from kettle_web.frame.engine import engine
from kettle_web.models import Take


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


def delete_take(*, take: Take) -> None:
    """Take a take out of sight, unless it is being recorded. Raises TakeError."""
    if take.state == Take.State.RECORDING:
        raise TakeError("This take is being recorded, so it was not deleted. Stop it first.")
    Take.objects.filter(pk=take.pk).update(deleted_at=timezone.now())


def bring_back_take(*, take: Take) -> None:
    """A deleted take as it was."""
    Take.with_deleted.filter(pk=take.pk).update(deleted_at=None)


@transaction.atomic
def order_program(*, take: Take) -> None:
    """Have the program composed in the background."""
    from kettle_web.takes.tasks import compose_program

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
    known = set(Take.with_deleted.values_list("folder", flat=True))
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
