"""All words after ./kettle with their options; what a command does is imported when it is run."""

import argparse
from importlib import import_module
from pathlib import Path
from typing import Any

from kettle_engine.pace import MOST_PER_S


def _does(command: Any, where: str) -> None:
    """Have a command run "module:function" of this package, or of another one that is named."""
    module, _, name = where.partition(":")
    module = module if "." in module else f"kettle_cli.{module}"

    def run(options: argparse.Namespace) -> int:
        return int(getattr(import_module(module), name)(options))

    command.set_defaults(run=run)


def parser() -> argparse.ArgumentParser:
    """All commands with their options."""
    top = argparse.ArgumentParser(prog="./kettle")
    words = top.add_subparsers(required=True, metavar="COMMAND")
    _add_running(words)
    _add_takes(words)
    _add_assembly(words)
    _add_format(words)
    _add_sounds(words)
    _add_rigs(words)
    _add_developers(words)
    return top


def _add_running(words: Any) -> None:
    demo = words.add_parser("demo", help="Make demo data and start everything.")
    serve = words.add_parser("serve", help="Start everything with your own data.")
    for command, run in ((demo, "demo"), (serve, "serve")):
        command.add_argument("--port", type=int, help="port on 127.0.0.1 (default: 8470 or next)")
        command.add_argument(
            "--refresh",
            type=int,
            default=MOST_PER_S,
            metavar="N",
            help="refresh live pictures and levels at most so many times a second",
        )
        _does(command, f"run_commands:{run}")
    demo.add_argument("--fresh", action="store_true", help="delete all data first")
    demo.add_argument("--yes", action="store_true", help="with --fresh: takes too")
    say = words.add_parser("say", help="Tell a running engine what to do.", add_help=False)
    say.add_argument("words", nargs="*")
    _does(say, "say:say")
    logs = words.add_parser("logs", help="Print what engine, web and workers said last.")
    logs.add_argument(
        "process", nargs="?", default="", help="engine, web, worker-soon, worker-long"
    )
    logs.add_argument("--lines", type=int, default=60, help="how many (default: 60)")
    _does(logs, "log_commands:logs")


def _add_takes(words: Any) -> None:
    take = words.add_parser("take", help="Record for some seconds into a folder.")
    take.add_argument("--rig", required=True, help="a rig's name, or a rig file (.json)")
    take.add_argument("--seconds", type=float, required=True)
    take.add_argument(
        "--out", type=Path, required=True, help="new folder for the take, or with --name-pattern "
        "the folder that it is made in",
    )  # fmt: skip
    take.add_argument("--fast", action="store_true", help="virtual clock: as fast as it goes")
    take.add_argument("--seed", type=int, default=1, help="seed of the studio's clocks")
    take.add_argument("--format", type=Path, metavar="FILE", help="a format (.json) for this take")
    take.add_argument("--name-pattern", metavar="PATTERN", help="such as {rig}-{date}-take-{take}")
    take.add_argument("--scene", default="", help="the scene it begins with (or the default)")
    take.add_argument("--cues", type=Path, metavar="FILE", help="what is changed when: JSON lines")
    take.add_argument(
        "--faults", type=Path, metavar="FILE", help="faults of studio devices: JSON lines"
    )
    _does(take, "media_commands:take")

    compose = words.add_parser(
        "compose", help="Compose a take's program to MP4, or one frame of it to PNG."
    )
    compose.add_argument("take", type=Path, help="folder of a take")
    compose.add_argument("--out", type=Path, required=True, help="the .mp4, or the .png, to write")
    compose.add_argument("--scene", default="", help="with --at: the scene's name (or the default)")
    compose.add_argument("--at", type=float, help="only the frame at so many seconds, as .png")
    compose.add_argument("--without", action="append", metavar="TRACK", help="leave a track out")
    compose.add_argument("--replace", action="store_true", help="replace an existing file")
    _does(compose, "media_commands:compose")

    inspect = words.add_parser("inspect", help="Print a take's figures as JSON or as a table.")
    inspect.add_argument("take", type=Path, help="folder of a take")
    inspect.add_argument("--json", action="store_true")
    _does(inspect, "media_commands:inspect")

    sync = words.add_parser(
        "sync", help="Print what was measured of a take's clocks, and how sure it is."
    )
    sync.add_argument("take", type=Path, help="folder of a take")
    sync.add_argument("--again", action="store_true", help="measure anew what is known already")
    sync.add_argument("--json", action="store_true")
    _does(sync, "media_commands:sync")

    takes = words.add_parser("takes", help="List the takes of the library.")
    takes.add_argument("--search", default="", metavar="WORDS", help="in names, marks, steps …")
    takes.add_argument("--json", action="store_true")
    _does(takes, "take_commands:takes")

    quiet = words.add_parser("quiet", help="List where a take is quiet, in take time.")
    quiet.add_argument("take", type=Path, help="folder of a take")
    quiet.add_argument("--below", type=float, metavar="DBFS", help="what is quiet (default: -46)")
    quiet.add_argument(
        "--for", type=float, metavar="S", dest="for_s", help="for how long (default: 0.8)"
    )
    quiet.add_argument("--json", action="store_true")
    _does(quiet, "take_commands:quiet")

    repair = words.add_parser("repair", help="Mend what is damaged of a take, as far as it goes.")
    repair.add_argument("take", type=Path, help="folder of a take")
    repair.add_argument("--json", action="store_true")
    _does(repair, "take_commands:repair")


def _add_assembly(words: Any) -> None:
    assemble = words.add_parser("assemble", help="Compose a tutorial's program by a cut list.")
    assemble.add_argument("tutorial", help="its name, or the number in its address")
    assemble.add_argument("--cuts", type=Path, metavar="FILE", help="a cut list (.json, .otio)")
    assemble.add_argument("--version", default="", help="one that it has (default: the first)")
    assemble.add_argument("--out", type=Path, required=True, help="the .mp4 to write")
    assemble.add_argument("--replace", action="store_true", help="replace an existing file")
    _does(assemble, "cut_commands:assemble")
    export = words.add_parser("export", help="Hand a tutorial or a take over as a file.")
    export.add_argument("what", help="a tutorial's name or number, or the folder of a take")
    export.add_argument(
        "--out", type=Path, required=True, help="the file; its ending says its kind"
    )
    export.add_argument("--lines", type=int, help="height of the picture, px (default: 1080)")
    export.add_argument("--crf", type=int, help="quality, 1 is best (default: 20)")
    export.add_argument("--max-mb", type=float, help="no larger than so many MB")
    export.add_argument("--from", dest="from_s", type=float, default=0.0, help="s of the program")
    export.add_argument("--until", dest="until_s", type=float, default=0.0, help="0: its end")
    export.add_argument(
        "--portrait", action="store_true", default=None, help="9:16; --lines is the width then"
    )
    export.add_argument("--aside", type=int, help="with --portrait: 0 shows left, 100 right")
    export.add_argument("--fps", type=int, help="of .gif and .webp (default: 12)")
    export.add_argument(
        "--av1", action="store_true", default=None, help="AV1 instead of VP9 in .webm"
    )
    export.add_argument("--lufs", help="loudness of the whole, or asis (default: -16)")
    export.add_argument("--cuts", type=Path, metavar="FILE", help="a cut list (.json, .otio)")
    export.add_argument("--version", default="", help="one that it has (default: the first)")
    export.add_argument("--replace", action="store_true", help="replace an existing file")
    export.add_argument("--json", action="store_true")
    _does(export, "export_commands:export")
    cuts = words.add_parser("cuts", help="Cut lists of a tutorial as files.")
    cut_words = cuts.add_subparsers(required=True, metavar="WORD")
    for word, does in (("export", "export_cuts"), ("import", "import_cuts")):
        command = cut_words.add_parser(word, help=f"{word} a cut list")
        command.add_argument("tutorial", help="its name, or the number in its address")
        command.add_argument("file", type=Path, help=".json, .otio, and for export .edl")
        command.add_argument("--version", default="", help="one of several (default: the first)")
        if word == "export":
            command.add_argument("--replace", action="store_true", help="replace an existing file")
        _does(command, f"cut_commands:{does}")


def _add_format(words: Any) -> None:
    estimate = words.add_parser("estimate", help="Say what recording a rig costs, track by track.")
    estimate.add_argument("rig", help="a rig's name, or a rig file (.json)")
    estimate.add_argument("--minutes", type=float, default=60.0, help="length (default: 60)")
    estimate.add_argument("--json", action="store_true")
    _does(estimate, "format_commands:estimate")

    trial = words.add_parser("trial", help="Encode what is on a rig's inputs now, and measure it.")
    trial.add_argument("rig", help="a rig's name, or a rig file (.json)")
    trial.add_argument("--json", action="store_true")
    _does(trial, "format_commands:trial")

    rewrap = words.add_parser(
        "rewrap", help="Put recorded files into MP4 without encoding again; originals stay."
    )
    rewrap.add_argument("files", type=Path, nargs="+", metavar="FILE", help="tracks, or a take")
    rewrap.add_argument("--out", type=Path, help="folder for them (default: beside each)")
    _does(rewrap, "format_commands:rewrap")


def _add_sounds(words: Any) -> None:
    clean = words.add_parser(
        "clean", help="Clean a sound file: hum, noise, echo; each sample stays where it was."
    )
    clean.add_argument("source", type=Path, metavar="IN", help="any sound file")
    clean.add_argument("out", type=Path, metavar="OUT", help="the .wav or .flac to write")
    clean.add_argument("--suppress", type=int, default=0, metavar="0..100", help="noise, in %%")
    clean.add_argument("--engine", choices=("thorough", "light"), default="thorough")
    clean.add_argument("--hum", choices=("auto", "50", "60", "off"), default="off")
    clean.add_argument("--echo", type=int, default=0, metavar="0..100", help="in %%")
    clean.add_argument("--json", action="store_true")
    _does(clean, "sound_commands:clean")
    for name, files, told in (
        ("loudness", ("file",), "Measure a sound file: loudness, its range, peaks, clips."),
        ("align", ("reference", "other"), "Find how much later and faster OTHER is than REF."),
        ("balance", ("voice", "background"), "Measure how far a voice stands above a background."),
    ):
        command = words.add_parser(name, help=told)
        for file in files:
            command.add_argument(file, type=Path, metavar=file.upper())
        command.add_argument("--json", action="store_true")
        _does(command, f"sound_commands:{name}")


def _add_rigs(words: Any) -> None:
    """What is plugged in, and rigs."""
    inputs = words.add_parser("inputs", help="List what is plugged in, with modes and state.")
    inputs.add_argument("--json", action="store_true")
    _does(inputs, "rig_commands:inputs")

    rig = words.add_parser("rig", help="Export, import and show rigs.")
    rig_words = rig.add_subparsers(required=True, metavar="WHAT")
    export = rig_words.add_parser("export", help="Write a rig with its pictures into one file.")
    export.add_argument("name", help="the rig's name, or its name in the address")
    export.add_argument("file", type=Path, help="the .rig.json to write")
    export.add_argument("--replace", action="store_true", help="replace an existing file")
    _does(export, "rig_commands:export_rig")
    imported = rig_words.add_parser("import", help="Make a rig from such a file.")
    imported.add_argument("file", type=Path, help="a rig file that was exported")
    _does(imported, "rig_commands:import_rig")
    show = rig_words.add_parser("show", help="Print what a rig's scenes show, and where.")
    show.add_argument("name", help="the rig's name, a rig file (.json), or demo")
    show.add_argument("--scene", default="", help="one scene, by its name")
    show.add_argument("--json", action="store_true")
    _does(show, "rig_commands:show_rig")


BENCHES = (
    "live",
    "compose",
    "program",
    "sound",
    "record",
    "format",
    "takes",
    "player",
    "sync",
    "export",
    "seen",
    "truth",
)


# Those that are as long as one wants.
TIMED = ("live", "program", "record", "sync", "export", "seen")


def _add_developers(words: Any) -> None:
    """Tests, checks, measures."""
    test = words.add_parser("test", help="Install what tests need, check, run all tests.")
    test.add_argument("part", nargs="?", choices=("core", "web", "browser"))
    _does(test, "develop:test")
    check = words.add_parser("check", help="Run lint, types, contracts, JavaScript checks.")
    _does(check, "develop:check")
    bench = words.add_parser("bench", help="Measure speed, as ratios in one run.")
    kinds = bench.add_subparsers(metavar="WHAT")
    _does(bench, "kettle_bench.overall:bench")
    for name, told in zip(
        BENCHES,
        (
            "pages watching all devices",
            "the composer",
            "a take's program and long ones",
            "the sound room",
            "recording beside a page and burners",
            "bitrates, estimates, trials, rewrapping",
            "looking at takes, finding them, opening long ones",
            "playing from any place, composing what was changed",
            "random takes against the studio's truth, as long as --minutes says",
            "sizes that are kept, speed beside ffmpeg, how soon a cut is answered",
            "long lines, a file beside a hung engine, a page out of sight",
            "results judged by ffmpeg: 300 cut lists, 60 exports, 40 odd files",
        ),
        strict=True,
    ):
        command = kinds.add_parser(name, help=told)
        if name in TIMED:
            command.add_argument("--minutes", type=float, default=1.0, help="how long, in minutes")
        if name == "record":
            command.add_argument("--load", default="", help="beside this one only")
        where = "truth.run" if name == "truth" else name
        _does(command, f"kettle_bench.{where}:bench_{name}")
    soaked = words.add_parser("soak", help="Kill processes at random moments; long takes.")
    soaked.add_argument("--kills", type=int, help="how many processes are killed (default: 20)")
    soaked.add_argument("--minutes", type=float, help="length of the long take (default: 60)")
    soaked.add_argument("--web", action="store_true", help="pages, web and workers only")
    soaked.add_argument("--table", action="store_true", help="each process in each state, instead")
    soaked.add_argument("--beside", type=int, help="table: so many cells at once (default: 2)")
    _does(soaked, "kettle_bench.soaking.soak:soak")
