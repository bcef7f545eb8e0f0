"""What the library has done in the background."""

from kettle_web.jobs.doing import Doing
from kettle_web.library.services import remove_gone


def remove_deleted(doing: Doing) -> None:
    """Remove the folders of takes that were deleted for good."""
    doing.give_way()
    remove_gone()
