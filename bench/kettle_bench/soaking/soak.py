"""soak: what holds over hours and faults: kills, a long take, many pages."""

from argparse import Namespace

from kettle_bench.soaking.kills import soak_kills
from kettle_bench.soaking.long import soak_long
from kettle_bench.soaking.table import soak_table
from kettle_bench.soaking.web import soak_web
from kettle_core.errors import KettleError

KILLS, MINUTES, BESIDE = 20, 60.0, 2


def soak(options: Namespace) -> int:
    """Kill processes at random moments of takes, then record a long take on the virtual clock."""
    if options.table:
        if options.kills is not None or options.minutes is not None or options.web:
            raise KettleError("--table goes through its own cells: leave the other options out.")
        return soak_table(BESIDE if options.beside is None else options.beside)
    if options.beside is not None:
        raise KettleError("--beside goes with --table.")
    options.kills = KILLS if options.kills is None else options.kills
    options.minutes = MINUTES if options.minutes is None else options.minutes
    if options.web:
        return soak_web(options.minutes, options.kills)
    code = soak_kills(options.kills) if options.kills else 0
    if options.minutes:
        soak_long(options.minutes)
    return code
