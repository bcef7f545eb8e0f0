"""soak: what holds over hours and faults: kills, a long take, many pages."""

from argparse import Namespace

from kettle_bench.soaking.kills import soak_kills
from kettle_bench.soaking.long import soak_long
from kettle_bench.soaking.table import soak_table
from kettle_bench.soaking.web import soak_web


def soak(options: Namespace) -> int:
    """Kill processes at random moments of takes, then record a long take on the virtual clock."""
    if options.table:
        return soak_table(options.beside)
    if options.web:
        return soak_web(options.minutes, options.kills)
    code = soak_kills(options.kills) if options.kills else 0
    if options.minutes:
        soak_long(options.minutes)
    return code
