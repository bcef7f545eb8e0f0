"""assemble and cuts: a tutorial's takes cut and put in order, without pages."""

import os
from argparse import Namespace
from typing import TYPE_CHECKING

from kettle_cli.composing import check_new, check_program, giving_way
from kettle_cli.paths import DATA
from kettle_cli.progress import Progress
from kettle_core.assembly.cut_list import CutList
from kettle_core.assembly.laid import time_map, too_short
from kettle_core.errors import CutError

if TYPE_CHECKING:
    from kettle_web.assembly.material import Material


def assemble(options: Namespace) -> int:
    """Compose a tutorial's program by a cut list, or by the one that it has."""
    check_program(options.out, options.replace)
    need_library()
    from kettle_engine.process import work_frame_by_frame
    from kettle_media.assembly.assemble import assemble as compose

    work_frame_by_frame()
    material, cuts = wanted_cuts(options.tutorial, options)
    format_ = material.format
    progress = Progress("Composing", "frames")
    way = giving_way()
    frames = compose(material.folders, cuts, format_, options.out, progress, way, material.files)
    seconds = frames / float(format_.fps)
    print(f"{options.out}: {frames} frames, {seconds:.1f} s, of {len(cuts.shown)} pieces")
    return 0


def wanted_cuts(called: str, options: Namespace) -> "tuple[Material, CutList]":
    """A tutorial's takes, and the cut list of the file that is named or of a version."""
    from kettle_web.assembly import services
    from kettle_web.assembly.material import Material

    tutorial = services.tutorial_called(called)
    material = Material(tutorial)
    if options.cuts:
        return material, services.read_cut_file(material, options.cuts)
    return material, services.version_of(tutorial, material, options.version).values


def export_cuts(options: Namespace) -> int:
    """Write a tutorial's cut list as JSON, OpenTimelineIO or an edit decision list."""
    need_library()
    from kettle_web.assembly import services
    from kettle_web.assembly.material import Material

    check_new(options.file, options.replace)
    tutorial = services.tutorial_called(options.tutorial)
    material = Material(tutorial)
    version = services.version_of(tutorial, material, options.version)
    services.write_cut_file(version, material, options.file)
    print(f"{options.file}: {len(version.values.pieces)} pieces")
    return 0


def import_cuts(options: Namespace) -> int:
    """Read a tutorial's cut list from JSON or OpenTimelineIO; undo brings the old one back."""
    need_library()
    from kettle_web.assembly import services
    from kettle_web.assembly.material import Material

    tutorial = services.tutorial_called(options.tutorial)
    material = Material(tutorial)
    cuts = services.read_cut_file(material, options.file)
    version = services.version_of(tutorial, material, options.version)
    services.take_over(
        version=version, material=material, cuts=cuts, words=f"cut list of {options.file.name}"
    )
    length_s = float(time_map(cuts, material.fps).length_ns) / 1e9
    print(f"{tutorial.name}, {version.name}: {len(cuts.pieces)} pieces, {length_s:.1f} s")
    short = too_short(CutList(), cuts, material.fps)
    if short:
        print(f"{short}.")
    return 0


def need_library() -> None:
    """Open the database. Raises CutError where there is none."""
    if not (DATA / "db.sqlite3").exists():
        raise CutError("There are no tutorials here yet. Start ./kettle demo or serve once.")
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "kettle_web.settings")
    import django

    django.setup()
