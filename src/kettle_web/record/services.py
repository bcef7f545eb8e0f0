"""A take begun and stopped."""

import time
import uuid
from collections.abc import Mapping
from typing import Any

from django.conf import settings
from django.utils import timezone

from kettle_core.errors import KettleError
from kettle_core.rig.changes import with_format
from kettle_core.rig.rig import Rig as RigValues
from kettle_engine.protocol import COUNTDOWN, FINISHING
from kettle_media.roots import root_path
from kettle_media.take.folder import TakeFolder
from kettle_web.frame.editing import Made, edit
from kettle_web.frame.engine import engine
from kettle_web.library.numbers import next_number
from kettle_web.models import Rig, Take, Tutorial
from kettle_web.rigs.tutorials import kept, tutorial_for
from kettle_web.takes.names import free_folder
from kettle_web.takes.reading import look_after_takes, read_take_from_disk
from kettle_web.tutorials.live import planned_steps

STOP_TIMEOUT_S = 20.0


def start_take(*, rig: Rig, countdown_s: int, scene: str = "", step: str = "") -> Take:
    """Have the engine record into a new folder, from a step on. Raises EngineError or TakeError."""
    now, tutorial, files = timezone.now(), kept(tutorial_for(rig=rig)), rig.values.format.files
    root_path(settings.TAKES, files.root)
    number = next_number(tutorial)
    folder = free_folder(
        pattern=files.pattern,
        tutorial=tutorial,
        rig=rig.name,
        number=number,
        when=now,
        takes=settings.TAKES,
    )
    # The row comes second: without a folder it would look like a take that was lost.
    begins = {"countdown_s": countdown_s, "scene": scene, "first_step": step}
    begins |= {"steps": planned_steps(tutorial.values, rig.values)}
    engine().ask("record", rig=rig.document, folder=folder, root=files.root, **begins)
    values = {
        "rig": rig,
        "root": files.root,
        "tutorial": tutorial,
        "name": f"{_called(tutorial, rig)}, take {number}",
        "number": number,
        "recorded_at": now,
    }
    # A worker that looks after takes may have found the folder already.
    take, _ = Take.objects.update_or_create(folder=folder, defaults=values)
    return take


def _called(tutorial: Tutorial, rig: Rig) -> str:
    """What a take is called by: its tutorial, once that has a name."""
    return rig.name if tutorial.name == Tutorial.UNTITLED else tutorial.name


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
        _forget(take)
        return None
    if take is None:
        # It was begun without a page: its row is made now.
        look_after_takes()
        return Take.objects.first()
    read_take_from_disk(take=take)
    return take


def _forget(take: Take | None) -> None:
    """A take that never was."""
    if take and not take.path.exists():
        take.delete()


def give_up_take() -> None:
    """End what is being recorded and throw it away."""
    take = Take.objects.filter(state=Take.State.RECORDING).first()
    engine().ask("give_up", id=str(uuid.uuid4()))
    _forget(take)


def start_over() -> None:
    """Throw away what was recorded of this take and begin it again, as it began."""
    engine().ask("start_over", id=str(uuid.uuid4()))
    Take.objects.filter(state=Take.State.RECORDING).update(recorded_at=timezone.now())


def send_cue(*, cue_id: str, what: str, fields: Mapping[str, Any]) -> dict[str, Any]:
    """Have something changed in the take that is recorded. Raises EngineError, RigError.

    `cue_id` is another one for each press: what is sent twice counts once.
    """
    if what == "step":
        return dict(engine().ask("step", id=cue_id, **fields))
    return dict(engine().ask("cue", id=cue_id, what=what, **fields))


def choose_tutorial(*, rig: Rig, tutorial: Tutorial | None) -> None:
    """Work on a tutorial with a rig from now on, or on none that was chosen."""
    Rig.objects.filter(pk=rig.pk).update(tutorial=tutorial)


def format_of_take(*, rig: Rig, take: Take) -> bool:
    """Have a rig's format as it was in a take; whether it was another one."""
    try:
        wanted = TakeFolder(take.path).read_info().rig_values.format
    except KettleError:
        return False

    def changed(values: RigValues) -> Made[RigValues]:
        return with_format(values, wanted), f"format as in {take.name}"

    return bool(edit(rig, changed))
