"""Work in the background; every task takes ids and can run twice."""

import time

from django.conf import settings
from django.utils import timezone
from django_tasks import task

from kettle_core.errors import KettleError
from kettle_engine.process import work_frame_by_frame
from kettle_engine.taking import GivingWay
from kettle_media.program.playable import write_playable, write_poster
from kettle_media.program.take_program import compose_take
from kettle_media.take.folder import TakeFolder
from kettle_web.models import Take

TELL_EVERY_S = 0.4

WAITS = "waits for the take"


@task()
def compose_program(take_id: int) -> None:
    """Align a take, make playable copies of its tracks and compose its program."""
    work_frame_by_frame()
    take = Take.objects.filter(pk=take_id).first()
    if take is None or take.program == Take.Program.DONE:
        return
    rows = Take.objects.filter(pk=take_id)
    rows.update(program=Take.Program.COMPOSING, program_began_at=timezone.now(), program_message="")
    told_at = 0.0

    def tell(done: int, total: int) -> None:
        nonlocal told_at
        if time.monotonic() - told_at >= TELL_EVERY_S or done == total:
            told_at = time.monotonic()
            rows.update(program_done=done, program_total=total)

    def say_waiting(waiting: bool) -> None:
        rows.update(program_message=WAITS if waiting else "")

    give_way = GivingWay(settings.DATA, say_waiting)
    folder = TakeFolder(take.path)
    try:
        write_playable(folder, folder.read_info(), give_way)
        compose_take(folder, folder.program_path, tell, give_way=give_way)
        write_poster(folder.program_path, folder.path / "poster.jpg")
    except KettleError as error:
        rows.update(program=Take.Program.FAILED, program_message=str(error)[:400])
        return
    finally:
        give_way.close()
    rows.update(program=Take.Program.DONE, program_message="")
