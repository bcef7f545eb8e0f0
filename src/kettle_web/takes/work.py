"""What is made of a take in the background."""

import os
import shutil

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from kettle_core.errors import TakeError
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.devices.drivers import Drivers
from kettle_engine.recording.take import record_take
from kettle_media.program.playable import write_playable, write_poster
from kettle_media.program.take_program import compose_take
from kettle_media.rig.file_driver import FileDriver
from kettle_media.survey.survey import survey_take
from kettle_media.take.folder import TakeFolder
from kettle_media.take.recovery import recover_take
from kettle_studio.driver import Studio
from kettle_studio.lesson import lesson_cues
from kettle_web.jobs.doing import Doing
from kettle_web.models import Take, Tutorial
from kettle_web.rigs.services import make_demo_rig
from kettle_web.takes.services import order_program, order_survey, read_take_from_disk

DEMO_TAKES_S = (24, 40)


def demo_takes_s() -> tuple[int, ...]:
    """Lengths of the demo's takes in s; KETTLE_DEMO_TAKES may name others ("2 3"), or "0"."""
    named = os.environ.get("KETTLE_DEMO_TAKES", "").split()
    return tuple(int(s) for s in named if int(s)) if named else DEMO_TAKES_S


def make_demo_takes(doing: Doing) -> None:
    """Record two takes of the demo rig by the virtual clock."""
    tutorial = Tutorial.objects.get(pk=doing.subject.partition(":")[2])
    rig = make_demo_rig()
    lengths = demo_takes_s()
    total = sum(lengths)
    for number, seconds in enumerate(lengths, 1):
        folder = f"demo-take-{number:02d}"
        target, part = settings.TAKES / folder, settings.TAKES / f".{folder}.part"
        if target.exists():
            continue
        before = sum(lengths[: number - 1])
        shutil.rmtree(part, ignore_errors=True)

        def tell(done_s: float, before: int = before) -> None:
            doing.give_way()
            doing.tell(round(before + done_s), total, "s")

        drivers = Drivers(Studio(number), FileDriver(settings.DATA / "material"))
        library = settings.DATA / "pictures"
        # The last one is a lesson as its teacher would hold it.
        cues = lesson_cues() if number == len(lengths) else ()
        record_take(drivers, rig.values, part, seconds * NS_PER_S, tell, library=library, cues=cues)
        with transaction.atomic():
            take = Take.objects.create(
                rig=rig,
                tutorial=tutorial,
                folder=folder,
                name=f"{tutorial.name}, take {number}",
                recorded_at=timezone.now(),
            )
            part.rename(target)
        read_take_from_disk(take=take)


def compose_program(doing: Doing) -> None:
    """Align a take, make playable copies of its tracks and compose its program."""
    take = _take_of(doing)
    folder, revision = TakeFolder(take.path), take.revision
    write_playable(folder, folder.read_info(), doing.give_way)
    compose_take(
        folder,
        folder.program_path,
        lambda done, total: doing.tell(done, total, "frames"),
        give_way=doing.give_way,
    )
    write_poster(folder.program_path, folder.path / "poster.jpg")
    Take.with_deleted.filter(pk=take.pk).update(composed_revision=revision)


def repair(doing: Doing) -> None:
    """Mend what is damaged of a take; what is made of it is made anew."""
    take = _take_of(doing)
    recover_take(TakeFolder(take.path), lambda done, total: doing.tell(done, total, "tracks"))
    read_take_from_disk(take=take)
    order_survey(take=take)
    order_program(take=take, afresh=True)


def _take_of(doing: Doing) -> Take:
    take = Take.with_deleted.filter(pk=doing.subject.partition(":")[2]).first()
    if take is None:
        raise TakeError("This take is not there any more.")
    return take


def survey(doing: Doing) -> None:
    """Look at the tracks of a take once, for lines, lanes and plots."""
    take = _take_of(doing)
    survey_take(
        TakeFolder(take.path),
        lambda done, total: doing.tell(done, total, "tracks"),
        give_way=doing.give_way,
    )
