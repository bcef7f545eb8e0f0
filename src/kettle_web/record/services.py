"""A take begun and stopped."""

import time

from django.conf import settings
from django.utils import timezone

from kettle_engine.protocol import COUNTDOWN, FINISHING
from kettle_media.roots import root_path
from kettle_web.frame.engine import engine
from kettle_web.models import Rig, Take
from kettle_web.takes.names import free_folder, next_number
from kettle_web.takes.services import look_after_takes, read_take_from_disk, tutorial_for

STOP_TIMEOUT_S = 20.0


def start_take(*, rig: Rig, countdown_s: int) -> Take:
    """Have the engine record into a new folder. Raises EngineError or TakeError."""
    now, tutorial, files = timezone.now(), tutorial_for(rig=rig), rig.values.format.files
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
    where = {"folder": folder, "root": files.root}
    engine().ask("record", rig=rig.document, **where, countdown_s=countdown_s)
    values = {
        "rig": rig,
        "root": files.root,
        "tutorial": tutorial,
        "name": f"{rig.name}, take {number}",
        "recorded_at": now,
    }
    # A worker that looks after takes may have found the folder already.
    take, _ = Take.objects.update_or_create(folder=folder, defaults=values)
    return take


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
    if take is None:
        # It was begun without a page: its row is made now.
        look_after_takes()
        return Take.objects.first()
    read_take_from_disk(take=take)
    return take
