"""A cut list as a JSON document (schemas/cuts.schema.json)."""

from pathlib import Path
from typing import Any

from kettle_core.assembly.cut_list import CutList
from kettle_core.errors import CutError
from kettle_media.documents import Document

CUTS: Document[CutList] = Document(CutList, "The cut list", CutError)
MOST_BYTES = 8_000_000


def cuts_from_dict(data: Any) -> CutList:
    """A cut list of plain data. Raises CutError."""
    return CUTS.read_plain(data)


def cuts_to_dict(cuts: CutList) -> Any:
    """Plain data that `cuts_from_dict` reads back."""
    return CUTS.plain(cuts)


def read_cuts(path: Path) -> CutList:
    """A cut list's file. Raises CutError."""
    try:
        with path.open("rb") as file:
            return CUTS.read(file.read(MOST_BYTES))
    except (OSError, UnicodeDecodeError) as error:
        raise CutError(f"{path} cannot be read: {error}.", "cuts") from error
