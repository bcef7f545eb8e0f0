"""A file made of a version, in the background."""

from dataclasses import asdict
from pathlib import Path

from django.utils import timezone

from kettle_core.assembly.cut_list import checked
from kettle_core.errors import CutError
from kettle_media.assembly.export_document import export_from_dict
from kettle_media.assembly.export_file import chapters_beside, spool_beside
from kettle_media.assembly.export_file import export as make
from kettle_web.assembly.material import Material
from kettle_web.jobs.doing import Doing
from kettle_web.jobs.kinds import job_kind
from kettle_web.models import Export


@job_kind("export")
def export(doing: Doing) -> None:
    """Make the file of an export, of the cut list that it was ordered of."""
    row = Export.objects.select_related("version__tutorial").filter(
        pk=doing.subject.partition(":")[2]
    )
    found = row.first()
    if found is None:
        raise CutError("This export was deleted.")
    material = Material(found.version.tutorial)
    cuts = checked(found.version.read(found.document), material.known())
    found.path.parent.mkdir(exist_ok=True)
    _remove_left_over(found.path.parent)
    began = timezone.now()
    made = make(
        material.folders,
        cuts,
        material.format,
        export_from_dict(found.order),
        found.path,
        lambda done, total: doing.tell(done, total, "frames"),
        doing.give_way,
        material.tags,
        material.files,
        found.picture_path,
    )
    took_s = (timezone.now() - began).total_seconds()
    if not row.update(result={**asdict(made), "took_s": took_s}):
        # It was deleted meanwhile.
        for path in (found.path, chapters_beside(found.path)):
            path.unlink(missing_ok=True)


def _remove_left_over(folder: Path) -> None:
    """Remove what a worker that was killed left, but what an export goes on from.

    Only one exports at a time.
    """
    wanted = {spool_beside(export.path) for export in Export.objects.all()}
    for pattern in (".*.part.*", ".*.new", ".*.spool", ".*.at.jpg"):
        for left in folder.glob(pattern):
            if left not in wanted:
                left.unlink(missing_ok=True)
