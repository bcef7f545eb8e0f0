"""The demo's takes: ordered when there is nothing yet, recorded by the virtual clock."""

import os
import shutil
from dataclasses import replace

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from kettle_core.program.running_order import RunningOrder, read_outline
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.devices.drivers import Drivers
from kettle_engine.recording.take import record_take
from kettle_media.rig.file_driver import FileDriver
from kettle_media.running_order import order_to_dict
from kettle_studio.driver import Studio
from kettle_studio.lesson import DESCRIPTION, OUTLINE, SCENES, TITLE, lesson_cues
from kettle_web.jobs.doing import Doing
from kettle_web.jobs.kinds import job_kind
from kettle_web.jobs.services import LONG, order
from kettle_web.models import Rig, Take, Tutorial
from kettle_web.rigs.services import make_demo_rig
from kettle_web.takes.reading import read_take_from_disk

DEMO_TAKES_S = (24, 40)


def demo_takes_s() -> tuple[int, ...]:
    """Lengths of the demo's takes in s; KETTLE_DEMO_TAKES may name others ("2 3"), or "0"."""
    named = os.environ.get("KETTLE_DEMO_TAKES", "").split()
    return tuple(int(s) for s in named if int(s)) if named else DEMO_TAKES_S


@job_kind("demo-takes")
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
                number=number,
                recorded_at=timezone.now(),
            )
            part.rename(target)
        read_take_from_disk(take=take)


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
