"""What the library has done in the background."""

from kettle_web.jobs.doing import Doing
from kettle_web.jobs.kinds import job_kind
from kettle_web.library.bin import remove_gone


@job_kind("empty-bin")
def remove_deleted(doing: Doing) -> None:
    """Remove the folders of takes that were deleted for good."""
    doing.give_way()
    remove_gone()
