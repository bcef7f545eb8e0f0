"""export: a tutorial or a take handed over as a file, without pages."""

import json
from argparse import Namespace
from dataclasses import asdict
from pathlib import Path
from typing import Any

from kettle_cli.composing import check_new, giving_way
from kettle_cli.cut_commands import need_library, wanted_cuts
from kettle_cli.progress import Progress
from kettle_core.assembly.cut_list import CutList
from kettle_core.assembly.export import Export, checked_length
from kettle_core.assembly.laid import check_is_seen, time_map
from kettle_core.errors import CutError
from kettle_core.rig.format import Format
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.tags import Tags
from kettle_media.take.folder import TakeFolder

Material = tuple[dict[str, TakeFolder], CutList, Format, Path, Tags]


def export(options: Namespace) -> int:
    """Make a file of a tutorial's cut list, or of a whole take."""
    from kettle_engine.process import work_frame_by_frame
    from kettle_media.assembly.export_file import export as make

    check_new(options.out, options.replace)
    order = _order(options)
    folder = TakeFolder(Path(options.what))
    takes, cuts, format_, files, tags = (
        _whole_take(folder) if folder.info_path.is_file() else _of_tutorial(options)
    )
    check_is_seen(cuts, format_.fps)
    length_ns = time_map(cuts, format_.fps).length_ns
    checked_length(order, float(length_ns) / NS_PER_S, format_.fps)
    work_frame_by_frame()
    progress = Progress("Exporting", "frames")
    way = giving_way()
    made = make(takes, cuts, format_, order, options.out, progress, way, tags, files)
    if options.json:
        print(json.dumps({**asdict(made), "file": str(options.out)}, indent=1))
        return 0
    print(f"{options.out}: {made.size_bytes / 1e6:.2f} MB, {made.length_s:.1f} s")
    for found in made.findings:
        print(f"  {found.name}: {found.words}")
    return 0


def _order(options: Namespace) -> Export:
    """What is to be made, by the file's ending and the options. Raises CutError."""
    from kettle_media.assembly.export_document import export_from_dict

    suffix = options.out.suffix.lower().removeprefix(".")
    kinds = {"zip": "png", "webm": "av1" if options.av1 else "webm"}
    values: dict[str, Any] = {
        "kind": kinds.get(suffix, suffix),
        "from_ms": round(options.from_s * 1000),
        "until_ms": round(options.until_s * 1000),
        "portrait": options.portrait,
        "aside": options.aside,
        "fps": options.fps,
        "lines": options.lines,
        "crf": options.crf,
        "max_mb": options.max_mb,
        "lufs": None,
    }
    if options.lufs != "asis":
        try:
            values["lufs"] = float(options.lufs)
        except ValueError as error:
            raise CutError(f"--lufs is a number or asis, got {options.lufs}.", "lufs") from error
    return export_from_dict(values)


def _whole_take(folder: TakeFolder) -> Material:
    from kettle_core.assembly.cut_list import Piece
    from kettle_core.timing.time_map import Source
    from kettle_media.assembly.show import NO_FILES
    from kettle_media.take.afterwards import follow_cues
    from kettle_media.take.rig_now import rig_now

    info = folder.read_info()
    said = follow_cues(folder, rig_now(folder, info)[0])
    length_ns = said.take_time(Source("take", info.id), info.duration_ns or 0).length_ns
    cuts = CutList((Piece("p1", info.id, 0, int(length_ns)),))
    return {info.id: folder}, cuts, info.rig_values.format, NO_FILES, Tags(info.name)


def _of_tutorial(options: Namespace) -> Material:
    need_library()
    material, cuts = wanted_cuts(options.what, options)
    return material.folders, cuts, material.format, material.files, material.tags
