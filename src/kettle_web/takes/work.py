"""What is made of a take in the background."""

from kettle_core.errors import TakeError
from kettle_media.program.playable import write_playable, write_poster
from kettle_media.program.take_program import compose_take
from kettle_media.take.folder import TakeFolder
from kettle_web.jobs.worker import Doing
from kettle_web.models import Take


def compose_program(doing: Doing) -> None:
    """Align a take, make playable copies of its tracks and compose its program."""
    take = Take.with_deleted.filter(pk=doing.subject.partition(":")[2]).first()
    if take is None:
        raise TakeError("This take is not there any more.")
    folder = TakeFolder(take.path)
    write_playable(folder, folder.read_info(), doing.give_way)
    compose_take(
        folder,
        folder.program_path,
        lambda done, total: doing.tell(done, total, "frames"),
        give_way=doing.give_way,
    )
    write_poster(folder.program_path, folder.path / "poster.jpg")
