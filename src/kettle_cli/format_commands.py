"""estimate, trial and rewrap: what a format costs, what it looks like, and files handed on."""

import json
import sys
from argparse import Namespace
from dataclasses import asdict
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from kettle_cli.find_rig import find_rig
from kettle_cli.paths import DATA
from kettle_cli.progress import Progress
from kettle_core.errors import KettleError, RigError, TakeError
from kettle_core.rig.estimate import Cost, program_cost, together, track_costs
from kettle_core.rig.file_names import plain_text
from kettle_core.rig.trial import in_words
from kettle_engine.trial.alone import run_alone
from kettle_engine.trial.kept import as_kept, keep_trial, known_bitrates, read_trial, trial_folder
from kettle_media.take.packets import rewrap as rewrap_file

LONGEST_MIN = 100 * 24 * 60


def estimate(options: Namespace) -> int:
    """Say what recording a rig costs, track by track."""
    if not 0 < options.minutes <= LONGEST_MIN:
        raise RigError(f"--minutes goes from above 0 to {LONGEST_MIN}, got {options.minutes:g}.")
    rig = find_rig(options.rig)
    seconds = options.minutes * 60
    trials = known_bitrates(rig, read_trial(_folder_of(options.rig)))
    tracks = track_costs(rig, trials)
    rows = {"tracks": tracks, "all": [together(tracks)], "program": [program_cost(rig, trials)]}
    if options.json:
        plain = {name: [_plain(c, seconds) for c in costs] for name, costs in rows.items()}
        found = {"minutes": options.minutes, **plain, "all": plain["all"][0]}
        print(json.dumps({**found, "program": plain["program"][0]}, indent=1, ensure_ascii=False))
        return 0
    for cost in (*tracks, *rows["all"], *rows["program"]):
        usual, low, high = cost.bytes_in(seconds)
        print(
            f"{cost.name:<24} {cost.mbit_per_s:8.2f} Mbit/s {usual / 1e6:10.0f} MB "
            f"({low / 1e6:.0f} to {high / 1e6:.0f}; {cost.basis})"
        )
    return 0


def _plain(cost: Cost, seconds: float) -> dict[str, Any]:
    usual, low, high = cost.bytes_in(seconds)
    return {
        "id": cost.id,
        "name": cost.name,
        "bytes": round(usual),
        "mbit_per_s": round(cost.mbit_per_s, 4),
        "range": {"least_bytes": round(low), "most_bytes": round(high)},
        "basis": cost.basis,
        "bits_per_pixel": cost.bits_per_pixel,
    }


def trial(options: Namespace) -> int:
    """Encode what is on a rig's inputs now at several settings, and measure it."""
    rig = find_rig(options.rig)
    progress = Progress("Trying", "steps")
    found = run_alone(DATA, rig, progress)
    kept = as_kept(rig, found, datetime.now(UTC))
    if DATA.is_dir():
        keep_trial(_folder_of(options.rig), rig, found, datetime.now(UTC))
    if options.json:
        inputs = [
            {
                "id": item.input_id,
                "name": rig.input(item.input_id).name,
                "points": [
                    {
                        "settings": in_words(p.track.rate),
                        "speed": p.track.speed,
                        "mbit_per_s": round(p.kbps / 1000, 4),
                        "ssim": round(p.quality.ssim, 5),
                        "ssim_worst": round(p.quality.ssim_worst, 5),
                        "ssim_fine": round(p.quality.ssim_fine, 5),
                        "psnr": round(p.quality.psnr_db, 2),
                        "psnr_worst": round(p.quality.psnr_worst_db, 2),
                        "fps": round(p.fps, 1),
                        "head_room": round(p.head_room, 3),
                    }
                    for p in item.points
                ],
                "present": item.present,
                "proposal": asdict(item.proposal),
            }
            for item in kept.inputs
        ]
        told = {"machine": kept.machine, "head_room": round(kept.head_room, 3), "inputs": inputs}
        print(json.dumps(told, indent=1, ensure_ascii=False))
        return 0
    for item in kept.inputs:
        print(rig.input(item.input_id).name)
        for number, p in enumerate(item.points):
            mark = "*" if number == item.present else " "
            print(
                f" {mark} {in_words(p.track.rate):<28} {p.kbps / 1000:7.2f} Mbit/s  SSIM "
                f"{p.quality.ssim:.4f}, fine {p.quality.ssim_fine:.4f}  PSNR "
                f"{p.quality.psnr_db:5.1f} dB  {p.fps:6.0f} fps  {100 * p.head_room:5.0f} %"
            )
        print(f"   {item.proposal.sentence}")
    print(f"Head-room of all tracks together: {100 * kept.head_room:.0f} %")
    return 0


def _folder_of(name: str) -> Path:
    """Where the last trial of a rig lies: a kept rig's is that of its page."""
    key = f".file-{plain_text(Path(name).stem)}" if name.endswith(".json") else name
    return trial_folder(DATA, key)


def rewrap(options: Namespace) -> int:
    """Put recorded files into MP4 without encoding again; the originals stay."""
    files = [track for file in options.files for track in _tracks_of(file)]
    if options.out:
        options.out.mkdir(parents=True, exist_ok=True)
    failed = 0
    for source in files:
        target = (options.out or source.parent) / f"{source.stem}.mp4"
        try:
            if target.exists():
                raise TakeError(f"{target} exists and was left alone. Move it away first.")
            count = rewrap_file(source, target)
        except KettleError as error:
            print(error, file=sys.stderr)
            failed += 1
            continue
        print(f"{target}: {count} packets, {target.stat().st_size / 1e6:.1f} MB")
    return 1 if failed else 0


def _tracks_of(file: Path) -> list[Path]:
    """A file, or the picture tracks of a take's folder."""
    if not file.is_dir():
        if not file.exists():
            raise TakeError(f"{file} is not there.")
        return [file]
    found = sorted((file / "tracks").glob("*.mkv"))
    if not found:
        raise TakeError(f"{file} is not a take: it has no tracks. Name a take's folder, or files.")
    return found
