"""A file made of a version, in the background."""

from dataclasses import asdict

from django.utils import timezone

from kettle_core.assembly.cut_list import checked
from kettle_core.errors import CutError
from kettle_media.assembly.export_document import export_from_dict
from kettle_media.assembly.export_file import chapters_beside
from kettle_media.assembly.export_file import export as make
from kettle_web.assembly.material import Material
from kettle_web.jobs.doing import Doing
from kettle_web.models import Export


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
    for left in found.path.parent.glob(".*.part.*"):
        # Of a worker that was killed: only one exports at a time.
        left.unlink(missing_ok=True)
    began = timezone.now()
    made = make(
        material.folders,
        cuts,
        material.format,
        export_from_dict(found.order),
        found.path,
        lambda done, total: doing.tell(done, total, "frames"),
        doing.give_way,
        found.version.tutorial.name,
        material.files,
    )
    took_s = (timezone.now() - began).total_seconds()
    if not row.update(result={**asdict(made), "took_s": took_s}):
        # It was deleted meanwhile.
        for path in (found.path, chapters_beside(found.path)):
            path.unlink(missing_ok=True)
