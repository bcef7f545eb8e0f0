"""What pieces are of, as other programs find it."""

from collections.abc import Mapping
from dataclasses import dataclass

from kettle_core.assembly.cut_list import MOST_CARD_NS, CutList
from kettle_media.assembly.added_file import kept_name


@dataclass(frozen=True)
class TakeMedia:
    """A take as another program finds it: its name, its program's file, its length in ns."""

    name: str
    path: str
    length_ns: int


def with_besides(cuts: CutList, takes: Mapping[str, TakeMedia]) -> dict[str, TakeMedia]:
    """Takes, and cards and files as if they were some, by their ids."""
    cards = {c.id: TakeMedia(c.card.text.partition("\n")[0], "", MOST_CARD_NS) for c in cuts.cards}
    files = {f.id: TakeMedia(f.name, f"files/{kept_name(f)}", f.length_ns) for f in cuts.files}
    return {**takes, **cards, **files}
