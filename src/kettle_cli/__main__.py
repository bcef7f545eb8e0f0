"""Reads the words after ./kettle and runs one command; bad input ends with status 2."""

import argparse
import os
import sys
from pathlib import Path
from typing import Any

from kettle_cli import (
    bench,
    bench_compose,
    bench_live,
    bench_program,
    bench_record,
    bench_sound,
    develop,
    log_commands,
    media_commands,
    rig_commands,
    run_commands,
    soak,
    sound_commands,
)
from kettle_core.errors import KettleError


def parser() -> argparse.ArgumentParser:
    """All commands with their options."""
    top = argparse.ArgumentParser(prog="./kettle")
    words = top.add_subparsers(required=True, metavar="COMMAND")
    for name, run in (("demo", run_commands.demo), ("serve", run_commands.serve)):
        command = words.add_parser(name, help=run.__doc__)
        command.add_argument("--port", type=int, help="port on 127.0.0.1 (default: 8470 or next)")
        if name == "demo":
            command.add_argument("--fresh", action="store_true", help="delete all data first")
        command.set_defaults(run=run)

    take = words.add_parser("take", help=media_commands.take.__doc__)
    take.add_argument("--rig", required=True, help="a rig's name, or a rig file (.json)")
    take.add_argument("--seconds", type=float, required=True)
    take.add_argument("--out", type=Path, required=True, help="new folder for the take")
    take.add_argument("--fast", action="store_true", help="virtual clock: as fast as it goes")
    take.add_argument("--seed", type=int, default=1, help="seed of the studio's clocks")
    take.set_defaults(run=media_commands.take)

    compose = words.add_parser("compose", help=media_commands.compose.__doc__)
    compose.add_argument("take", type=Path, help="folder of a take")
    compose.add_argument("--out", type=Path, required=True, help="the .mp4, or the .png, to write")
    compose.add_argument("--scene", default="", help="with --at: the scene's name (or the default)")
    compose.add_argument("--at", type=float, help="only the frame at so many seconds, as .png")
    compose.add_argument("--without", action="append", metavar="TRACK", help="leave a track out")
    compose.add_argument("--replace", action="store_true", help="replace an existing file")
    compose.set_defaults(run=media_commands.compose)

    logs = words.add_parser("logs", help=log_commands.logs.__doc__)
    logs.add_argument(
        "process", nargs="?", default="", help="engine, web, worker-soon, worker-long"
    )
    logs.add_argument("--lines", type=int, default=60, help="how many (default: 60)")
    logs.set_defaults(run=log_commands.logs)

    inspect = words.add_parser("inspect", help=media_commands.inspect.__doc__)
    inspect.add_argument("take", type=Path, help="folder of a take")
    inspect.add_argument("--json", action="store_true")
    inspect.set_defaults(run=media_commands.inspect)

    sync = words.add_parser("sync", help=media_commands.sync.__doc__)
    sync.add_argument("take", type=Path, help="folder of a take")
    sync.add_argument("--again", action="store_true", help="measure anew what is known already")
    sync.add_argument("--json", action="store_true")
    sync.set_defaults(run=media_commands.sync)

    sound_commands.add_words(words)
    _add_rig_words(words)
    _add_developers_words(words)
    return top


def _add_rig_words(words: Any) -> None:
    """What is plugged in, and rigs."""
    inputs = words.add_parser("inputs", help=rig_commands.inputs.__doc__)
    inputs.add_argument("--json", action="store_true")
    inputs.set_defaults(run=rig_commands.inputs)

    rig = words.add_parser("rig", help="Export, import and show rigs.")
    rig_words = rig.add_subparsers(required=True, metavar="WHAT")
    export = rig_words.add_parser("export", help=rig_commands.export_rig.__doc__)
    export.add_argument("name", help="the rig's name, or its name in the address")
    export.add_argument("file", type=Path, help="the .rig.json to write")
    export.add_argument("--replace", action="store_true", help="replace an existing file")
    export.set_defaults(run=rig_commands.export_rig)
    imported = rig_words.add_parser("import", help=rig_commands.import_rig.__doc__)
    imported.add_argument("file", type=Path, help="a rig file that was exported")
    imported.set_defaults(run=rig_commands.import_rig)

    show = rig_words.add_parser("show", help=rig_commands.show_rig.__doc__)
    show.add_argument("name", help="the rig's name, a rig file (.json), or demo")
    show.add_argument("--scene", default="", help="one scene, by its name")
    show.add_argument("--json", action="store_true")
    show.set_defaults(run=rig_commands.show_rig)


def _add_developers_words(words: Any) -> None:
    """Tests, checks, measures."""
    test = words.add_parser("test", help=develop.test.__doc__)
    test.add_argument("part", nargs="?", choices=("core", "web", "browser"))
    test.set_defaults(run=develop.test)
    words.add_parser("check", help=develop.check.__doc__).set_defaults(run=develop.check)
    measure = words.add_parser("bench", help=bench.bench.__doc__)
    measure.add_argument(
        "what",
        nargs="?",
        choices=("live", "compose", "program", "sound", "record"),
        help="live: pages watching all devices; record: recording beside a page and burners; "
        "compose: the composer; program: a take's program and long ones; sound: the sound room",
    )
    measure.add_argument("--minutes", type=float, default=1.0, help="how long memory is watched")
    loads = [load.name for load in bench_record.LOADS]
    measure.add_argument("--load", default="", choices=loads, help="record: beside this one only")
    benches = {
        "live": bench_live.bench_live,
        "compose": bench_compose.bench_compose,
        "program": bench_program.bench_program,
        "sound": bench_sound.bench_sound,
        "record": bench_record.bench_record,
    }
    measure.set_defaults(run=lambda o: benches.get(o.what, bench.bench)(o))
    soaked = words.add_parser("soak", help=soak.soak.__doc__)
    soaked.add_argument("--kills", type=int, default=20, help="how many processes are killed")
    soaked.add_argument("--minutes", type=float, default=60.0, help="length of the long take")
    soaked.add_argument("--web", action="store_true", help="pages, web and workers only")
    soaked.set_defaults(run=soak.soak)


def main() -> int:
    """Run the command; an error of ours is a sentence, not a trace."""
    # What is written below the data folder is the user's alone.
    os.umask(0o077)
    options = parser().parse_args()
    try:
        status = int(options.run(options))
        sys.stdout.flush()
        return status
    except BrokenPipeError:
        # Who reads has enough, as head has.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except KettleError as error:
        print(error, file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        print("Interrupted.", file=sys.stderr)
        return 130


if __name__ == "__main__":
    sys.exit(main())
