"""The demo's tutorial, cut and handed over once, so that its pages do not begin empty."""

from kettle_core.assembly.cut_changes import (
    at_speed,
    take_out,
    with_card,
    with_fades,
    with_music,
    with_retold,
)
from kettle_core.assembly.cut_list import CutList, Known, Music, Place
from kettle_core.assembly.export import Export
from kettle_core.assembly.retold import Retold
from kettle_core.program.cues import CloseUp, Step
from kettle_core.rig.rig import Card
from kettle_core.timing.ticks import NS_PER_S
from kettle_studio.lesson import PART, TITLE
from kettle_web.assembly.material import Material
from kettle_web.assembly.services import take_over, version_of
from kettle_web.export.services import order_export
from kettle_web.jobs.doing import Doing
from kettle_web.jobs.kinds import job_kind
from kettle_web.models import Tutorial

TITLE_CARD = Card(f"{TITLE}\nwith Odile Fernhollow", size_px=88)
END_CARD = Card("Next time\nSewing the first station", size_px=72, backdrop="#1c6b60")
# Of the first take a slip of the tongue; of the second one a page that loads.
SLIP_S, LOADS_S = (6.0, 7.8), (17.6, 21.2)
# Only here the first take goes nearer to the sheet, and has a chapter.
NEAR_S, CHAPTER = (9.0, 13.0), "What we make today"
CARDS_S = 3


@job_kind("demo-cut")
def cut_demo(doing: Doing) -> None:
    """Cut the tutorial that the demo's takes belong to, and have it exported."""
    tutorial = Tutorial.objects.get(pk=doing.subject.partition(":")[2])
    material = Material(tutorial)
    version = version_of(tutorial, material)
    if version.revision > 1 or len(material.takes) < 2:
        return
    take_over(
        version=version,
        material=material,
        cuts=demo_cuts(version.values, material.known()),
        words="cut",
    )
    order_export(version=version, wanted=Export(lines=720, crf=22))


def demo_cuts(cuts: CutList, known: Known) -> CutList:
    """Both takes between two cards, a stretch taken out, one at four times its speed."""
    first, second = cuts.pieces[:2]
    begins, ends = (Place(first.id, round(s * NS_PER_S)) for s in SLIP_S)
    cuts = take_out(cuts, known, begins, ends)
    begins, ends = (Place(second.id, round(s * NS_PER_S)) for s in LOADS_S)
    cuts = at_speed(cuts, known, begins, ends, 400, stretched=False)
    cuts = with_card(cuts, known, TITLE_CARD, CARDS_S * NS_PER_S, first.id)
    cuts = with_card(cuts, known, END_CARD, CARDS_S * NS_PER_S, "")
    near, far = (round(s * NS_PER_S) for s in NEAR_S)
    told = (
        Step(0, CHAPTER),
        CloseUp(near, "display-1", PART, 600),
        CloseUp(far, "display-1", None, 600),
    )
    cuts = with_retold(cuts, Retold(first.take, cues=told))
    return with_music(with_fades(cuts, 500, 1000), Music("strings", -10))
