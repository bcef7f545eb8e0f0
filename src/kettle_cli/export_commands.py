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
from kettle_core.assembly.export import MOVING, SOUND_ONLY, VIDEO, Export, checked_length
from kettle_core.assembly.laid import check_is_seen, time_map
from kettle_core.errors import CutError
from kettle_core.rig.format import Format
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.tags import Tags
from kettle_media.take.folder import TakeFolder

# For which kinds of files an option does something.
MEANT = {
    **dict.fromkeys(("lines", "portrait", "aside"), (*VIDEO, *MOVING, "png")),
    "crf": ("mp4", "webm"),
    "max_mb": (*VIDEO, *MOVING),
    "fps": MOVING,
    "av1": ("webm",),
    "lufs": (*VIDEO, *SOUND_ONLY),
}
Material = tuple[dict[str, TakeFolder], CutList, Format, Path, Tags]


def export(options: Namespace) -> int:
    """Make a file of a tutorial's cut list, or of a whole take."""
    from kettle_engine.process import work_frame_by_frame
    from kettle_media.assembly.export_file import chapters_beside
    from kettle_media.assembly.export_file import export as make

    for path in (options.out, chapters_beside(options.out)):
        check_new(path, options.replace)
    order = _order(options)
    folder = TakeFolder(Path(options.what))
    takes, cuts, format_, files, tags = (
        _whole_take(folder, options) if folder.info_path.is_file() else _of_tutorial(options)
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
    kind = {"zip": "png"}.get(suffix, suffix)
    _refuse_idle(options, kind)
    given = {name: getattr(options, name) for name in MEANT if name not in ("av1", "lufs")}
    values: dict[str, Any] = {
        "kind": "av1" if options.av1 else kind,
        "from_ms": round(options.from_s * 1000),
        "until_ms": round(options.until_s * 1000),
        "lufs": None,
        **{name: value for name, value in given.items() if value is not None},
    }
    wanted = "-16" if options.lufs is None else options.lufs
    if wanted != "asis":
        try:
            values["lufs"] = float(wanted)
        except ValueError as error:
            raise CutError(f"--lufs is a number or asis, got {wanted}.", "lufs") from error
    return export_from_dict(values)


def _refuse_idle(options: Namespace, kind: str) -> None:
    """Raise CutError for an option that would do nothing for a kind of file."""
    for name, kinds in MEANT.items():
        if getattr(options, name) is not None and kind not in kinds:
            raise CutError(
                f"{_word(name)} does nothing for {options.out.name}. Leave it out.", name
            )
    for name, other, needed in (("aside", "portrait", True), ("crf", "max_mb", False)):
        if getattr(options, name) is not None and (getattr(options, other) is not None) != needed:
            how = "goes with" if needed else "does nothing beside"
            raise CutError(f"{_word(name)} {how} {_word(other)}.", name)


def _word(name: str) -> str:
    return f"--{name.replace('_', '-')}"


def _whole_take(folder: TakeFolder, options: Namespace) -> Material:
    for name in ("cuts", "version"):
        if getattr(options, name):
            raise CutError(
                f"--{name} is for a tutorial, and {folder.path} is a take. Name the tutorial.", name
            )
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
