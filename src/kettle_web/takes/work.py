"""What is made of a take in the background."""

from kettle_core.errors import TakeError
from kettle_media.program.playable import write_playable, write_poster
from kettle_media.program.take_program import compose_take
from kettle_media.survey.survey import survey_take
from kettle_media.take.folder import TakeFolder
from kettle_media.take.recovery import recover_take
from kettle_web.jobs.doing import Doing
from kettle_web.jobs.kinds import job_kind
from kettle_web.models import Take
from kettle_web.takes.orders import order_program, order_survey
from kettle_web.takes.reading import read_take_from_disk


@job_kind("program")
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


@job_kind("repair")
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


@job_kind("survey")
def survey(doing: Doing) -> None:
    """Look at the tracks of a take once, for lines, lanes and plots."""
    take = _take_of(doing)
    survey_take(
        TakeFolder(take.path),
        lambda done, total: doing.tell(done, total, "tracks"),
        give_way=doing.give_way,
    )
