"""Long work of the Format page."""

import os
import shutil
import time
from contextlib import suppress

from django.conf import settings
from django.utils import timezone

from kettle_core.errors import RigError
from kettle_engine.trial.kept import keep_trial, trial_folder
from kettle_engine.trial.running import run_trial
from kettle_media.roots import measure_speed, root_path
from kettle_web.frame.engine import engine
from kettle_web.jobs.doing import Doing
from kettle_web.jobs.kinds import job_kind
from kettle_web.models import FolderSpeed, Rig

# Frames of a trial lie in a folder of such a name while it lasts.
FRAMES = ".frames-"
LONGEST_TRIAL_S = 600.0


@job_kind("folder-speed")
def folder_speed(doing: Doing) -> None:
    """Measure how fast the disk of an allowed folder is."""
    doing.give_way()
    root = doing.subject.partition(":")[2]
    path = root_path(settings.TAKES, root)
    path.mkdir(parents=True, exist_ok=True)
    found = {"bytes_per_s": measure_speed(path), "measured_at": timezone.now()}
    FolderSpeed.objects.update_or_create(root=root, defaults=found)


@job_kind("trial")
def trial(doing: Doing) -> None:
    """Try settings on what is on a rig's inputs now, and keep what was found."""
    rig = Rig.objects.filter(pk=doing.subject.partition(":")[2]).first()
    if rig is None:
        raise RigError("This rig is not there any more.")
    values = rig.values
    doing.tell(0, 1, "steps")
    rings = engine().ask("rings", rig=rig.document)

    def tell(done: int, total: int) -> None:
        doing.check()
        doing.tell(done, total, "steps")

    frames = settings.DATA / "trials" / f"{FRAMES}{rig.pk}-{os.getpid()}"
    found = run_trial(values, rings, frames, tell)
    keep_trial(trial_folder(settings.DATA, rig.slug), values, found, timezone.now())


def forget_frames() -> None:
    """Remove what a trial left behind that was ended by a power failure."""
    for folder in (settings.DATA / "trials").glob(f"{FRAMES}*"):
        with suppress(OSError):
            if time.time() - folder.stat().st_mtime > LONGEST_TRIAL_S:
                shutil.rmtree(folder)
