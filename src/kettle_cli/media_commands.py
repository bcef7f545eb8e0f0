"""take, compose and inspect: the main job without pages."""

import json
import os
import sys
from argparse import Namespace
from datetime import datetime
from functools import partial
from pathlib import Path

from kettle_cli.composing import check_new, check_program, giving_way
from kettle_cli.find_rig import find_rig
from kettle_cli.paths import DATA
from kettle_cli.progress import Progress
from kettle_core.errors import KettleError
from kettle_core.rig.changes import with_format
from kettle_core.rig.file_names import check_pattern, file_name
from kettle_core.rig.format import Format
from kettle_core.rig.rig import Rig
from kettle_engine.devices.drivers import Drivers
from kettle_engine.live_take import record_live_take
from kettle_engine.process import work_frame_by_frame
from kettle_engine.recording.take import Happening, record_take
from kettle_engine.timed_faults import TimedFault, read_faults
from kettle_media.naming import name_fields
from kettle_media.program.take_program import compose_one_frame, compose_take
from kettle_media.rig.file_driver import FileDriver
from kettle_media.rig.stills import write_png
from kettle_media.rig_document import format_from_json
from kettle_media.take.afterwards import follow_cues
from kettle_media.take.align import align_take
from kettle_media.take.cue_orders import first_cue, read_cue_file
from kettle_media.take.folder import TakeFolder
from kettle_media.take.inspect import inspect_take
from kettle_media.take.rig_now import rig_now
from kettle_media.take.sync_report import TrackSync
from kettle_studio.driver import Studio

MAX_SECONDS = 24 * 3600


def take(options: Namespace) -> int:
    """Record for some seconds into a folder."""
    if not 0.5 <= options.seconds <= MAX_SECONDS:
        raise KettleError(f"--seconds takes 0.5 to {MAX_SECONDS}, got {options.seconds:g}.")
    rig = find_rig(options.rig)
    if options.format:
        rig = with_format(rig, _format_of(options.format))
    if options.name_pattern is not None:
        options.out = _named(options.out, options.name_pattern, rig)
    cues = read_cue_file(options.cues, rig, options.scene) if options.cues else ()
    cues = cues or (first_cue(rig, options.scene),)
    faults = read_faults(options.faults) if options.faults else ()
    progress = Progress("Recording", "s")
    length_ns = round(options.seconds * 1e9)

    def tell(seconds: float) -> None:
        progress(seconds, options.seconds)

    if options.fast:
        work_frame_by_frame()
        studio = Studio(options.seed)
        drivers = Drivers(studio, FileDriver(DATA / "material"))
        happenings = [Happening(f.at_ns, partial(_fail, studio, f)) for f in faults]
        info = record_take(
            drivers,
            rig,
            options.out,
            length_ns,
            tell,
            library=DATA / "pictures",
            cues=cues,
            happenings=happenings,
        )
    else:
        os.environ["KETTLE_STUDIO_SEED"] = str(options.seed)
        info = record_live_take(DATA, rig, options.out, length_ns, tell, cues=cues, faults=faults)
    print(f"{options.out}: {(info.duration_ns or 0) / 1e9:.3f} s, {len(info.tracks)} tracks")
    for note in info.notes:
        print(note)
    return 0 if info.ended_because == "stopped" else 1


def _fail(studio: Studio, fault: TimedFault) -> None:
    name, values = fault.call()
    getattr(studio, name)(**values)


def _format_of(path: Path) -> Format:
    """A format from a file."""
    try:
        return format_from_json(path.read_text())
    except (OSError, UnicodeDecodeError) as error:
        raise KettleError(f"The format {path} cannot be read: {error}.") from error


def _named(folder: Path, pattern: str, rig: Rig) -> Path:
    """A new folder in another one, called by a pattern."""
    check_pattern(pattern)
    now = datetime.now()
    number = 1
    while True:
        fields = name_fields(now, rig.name, number)
        found = folder / file_name(pattern, fields, lambda _: False)
        if not found.exists():
            return found
        if "{take}" not in pattern:
            return folder / file_name(pattern, fields, lambda name: (folder / name).exists())
        number += 1


def compose(options: Namespace) -> int:
    """Compose a take's program to MP4, or one frame of it to PNG."""
    work_frame_by_frame()
    if options.at is not None:
        return _compose_one(options)
    if options.scene:
        raise KettleError("--scene goes with --at: say at which second the frame is wanted.")
    check_program(options.out, options.replace)
    print("Measuring sync …", file=sys.stderr)
    progress = Progress("Composing", "frames")
    without = frozenset(options.without or ())
    give_way = giving_way()
    folder = TakeFolder(options.take)
    sync = compose_take(folder, options.out, progress, without, give_way=give_way)
    rig, told = rig_now(folder, folder.read_info())
    for sentence in (*told, *follow_cues(folder, rig).left_out):
        print(sentence, file=sys.stderr)
    print(f"{options.out}: {len(sync.tracks)} tracks, {options.out.stat().st_size / 1e6:.1f} MB")
    return 0


def _compose_one(options: Namespace) -> int:
    if options.out.suffix != ".png":
        raise KettleError(f"One frame is written as .png; {options.out} has another ending.")
    check_new(options.out, options.replace)
    frame = compose_one_frame(TakeFolder(options.take), options.scene, options.at)
    write_png(frame, options.out)
    print(f"{options.out}: {frame.width} × {frame.height} px at {options.at:g} s")
    return 0


def inspect(options: Namespace) -> int:
    """Print a take's figures as JSON or as a table."""
    if sys.stderr.isatty():
        print("Reading the tracks …", file=sys.stderr)
    found = inspect_take(TakeFolder(options.take))
    if options.json:
        print(json.dumps(found, indent=1, ensure_ascii=False))
    else:
        print(f"{found['name']}: {found['state']}, {found['duration_s']} s")
        for note in found["notes"]:
            print(f"  {note}")
        for row in found["tracks"]:
            print("  " + _line(row))
        for entry in found["pauses"]:
            print(f"  paused at {entry['at_s']:.3f} s for {entry['length_s']:.3f} s")
        for row in (*found["cues"], *found["troubles"]):
            values = {n: v for n, v in row.items() if n not in ("at_s", "what")}
            told = ", ".join(f"{name} {value}" for name, value in values.items())
            print(f"  {row['at_s']:>10.3f} s  {row['what']}{': ' + told if told else ''}")
    return 1 if any("error" in row for row in found["tracks"]) else 0


def sync(options: Namespace) -> int:
    """Print what was measured of a take's clocks, and how sure it is."""
    folder = TakeFolder(options.take)
    info = folder.read_info()
    give_way = giving_way()
    found = align_take(folder, info, info.damaged, again=options.again, give_way=give_way)
    if options.json:
        rows = [
            {**vars(t), "clock": [vars(p) for p in t.clock.pieces],
             "evidence": [vars(e) for e in t.evidence]}
            for t in found.tracks
        ]  # fmt: skip
        print(json.dumps({"name": info.name, "tracks": rows}, indent=1, ensure_ascii=False))
        return 0
    for track in found.tracks:
        print(_sync_line(track))
        for entry in track.evidence:
            word = "sure" if entry.sure else "not sure"
            print(
                f"    at {entry.at_s:.0f} s: contents {entry.lag_ms:+.2f} ms, "
                f"agreement {entry.agreement:.2f}, {word}"
            )
    return 0


def _sync_line(track: TrackSync) -> str:
    bound = "not known how sure" if track.bound_ms is None else f"± {track.bound_ms:.2f} ms"
    count = len(track.clock.pieces)
    pieces = "one piece" if count == 1 else f"{count} pieces"
    line = (
        f"{track.name:<12} offset {track.offset_ms:+.2f} ms ({bound})  "
        f"drift {track.drift_ppm:+.2f} ppm ({track.least_ppm:+.2f} to {track.most_ppm:+.2f}, "
        f"{pieces})  {track.source}"
    )
    if track.true_offset_ms is not None and track.true_drift_ppm is not None:
        truth = f"{track.true_offset_ms:+.2f} ms, {track.true_drift_ppm:+.2f} ppm"
        line += f"  [studio's truth: {truth}]"
    return line


def _line(row: dict[str, object]) -> str:
    if "error" in row:
        return f"{row['name']:<12} {row['error']}"
    size = row["size"] or f"{row['sample_rate_hz']} Hz x {row['channels']}"
    return (
        f"{row['name']:<12} {row['codec']:<5} {size:<14} {row['frames']:>7} frames "
        f"{row['dropped']:>4} dropped {row['duration_s']:>9} s  "
        f"offset {row['offset_ms']:+.2f} ms  drift {row['drift_ppm']:+.2f} ppm  {row['measured']}"
    )
