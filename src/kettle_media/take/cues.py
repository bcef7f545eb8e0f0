"""cues.jsonl: a take's cues, a line each (docs/take-format.md)."""

from collections.abc import Iterable
from contextlib import suppress
from typing import Annotated

from pydantic import Field

from kettle_core.errors import TakeError, TimingError
from kettle_core.program.cues import Cue, GoOn, Pause
from kettle_core.timing.pauses import Pauses
from kettle_media.documents import Document
from kettle_media.durable import replace_file
from kettle_media.take.folder import TakeFolder

CUE: Document[Cue] = Document(Annotated[Cue, Field(discriminator="do")])
# Lines of a hostile file are not kept; a take of hours has some hundreds.
MOST_CUES = 20_000
LONGEST_LINE = 4096


def read_cues(folder: TakeFolder) -> tuple[list[Cue], list[str]]:
    """A take's cues in the order of their times, and what was left out of the file.

    A take without the file has none. A last line that a kill cut off is left out like any other
    line that can't be read; each is told in a sentence.
    """
    try:
        with folder.cues_path.open("rb") as file:
            lines = file.read(MOST_CUES * LONGEST_LINE).split(b"\n")
    except FileNotFoundError:
        return [], []
    except OSError as error:
        return [], [f"The cues of {folder.path.name} cannot be read: {error.strerror}."]
    cues: list[Cue] = []
    told = []
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        if len(cues) == MOST_CUES:
            told.append(
                f"A take has at most {MOST_CUES} cues; all from line {number} on is left out."
            )
            break
        try:
            cues.append(CUE.read(_upgraded(line[: LONGEST_LINE + 1])))
        except TakeError as error:
            told.append(f"Line {number} of {folder.cues_path.name} is left out: {error}")
    return sorted(cues, key=lambda cue: cue.at_ns), told


def note_pause(pauses: Pauses, cue: Cue) -> None:
    """Have a cue begin or end a pause, if it is one that can; `replay` tells of others."""
    with suppress(TimingError):
        if isinstance(cue, Pause):
            pauses.begin(cue.at_ns)
        elif isinstance(cue, GoOn):
            pauses.end(cue.at_ns)


def read_pauses(folder: TakeFolder) -> Pauses:
    """A take's pauses, by its cues."""
    pauses = Pauses()
    for cue in read_cues(folder)[0]:
        note_pause(pauses, cue)
    return pauses


def _upgraded(line: bytes) -> bytes:
    """A line as it is written today; the first takes called `do` `what`."""
    if b'"what"' not in line or b'"do"' in line:
        return line
    return line.replace(b'"what"', b'"do"', 1)


def write_cues(folder: TakeFolder, cues: Iterable[Cue]) -> None:
    """Replace a take's cues as a whole. Raises TakeError if the disk won't have them."""
    text = "".join(CUE.write(cue) + "\n" for cue in cues)
    try:
        replace_file(folder.cues_path, text.encode())
    except OSError as error:
        name = folder.path.name
        raise TakeError(f"The cues of {name} cannot be written: {error.strerror}.") from error
