"""What lines and player of an assembly are drawn from: plain data, in seconds."""

from typing import Any

from django.urls import reverse

from kettle_core.assembly.cut_list import CutList, Piece
from kettle_core.assembly.laid import laid
from kettle_core.assembly.quiet import shortened
from kettle_core.timing.ticks import NS_PER_S
from kettle_web.assembly.changes import Asked, shortening, speed_words
from kettle_web.assembly.forms import QuietForm
from kettle_web.assembly.material import Material, TakeOf
from kettle_web.models import Rig, Version
from kettle_web.takes.overview import scene_rows, step_rows
from kettle_web.templatetags.kettle import clock


def overview(version: Version, material: Material) -> dict[str, Any]:
    """The pieces of a version where they lie, and where its takes are told of."""
    cuts: CutList = version.values
    rows = laid(cuts, material.fps)
    used = {piece.take for piece in cuts.pieces}
    return {
        "revision": version.revision,
        "fps": float(material.fps),
        "length_s": float(rows[-1].end_ns) / NS_PER_S if rows else 0.0,
        "frame": material.format.frame_size if material.takes else None,
        "plan": plan_address(version, material),
        "pieces": [
            {
                "id": one.piece.id,
                "take": one.piece.take,
                "card": _first_line(cuts, one.piece),
                "file": cuts.file(one.piece.take) is not None,
                "from_s": one.piece.from_ns / NS_PER_S,
                "until_s": one.piece.until_ns / NS_PER_S,
                "out": one.piece.out,
                "speed": float(one.speed),
                "laid_s": float(one.from_ns) / NS_PER_S,
                "fades_ms": (one.piece.fade_in_ms, one.piece.fade_out_ms),
                "words": words_of(one.piece.percent, one.piece.sound),
                "at_s": float(one.start_ns) / NS_PER_S,
                "end_s": float(one.end_ns) / NS_PER_S,
            }
            for one in rows
        ],
        "takes": {
            take: {
                "name": found.row.name,
                "overview": reverse("take-overview", args=[found.row.pk]),
                "page": found.row.get_absolute_url(),
                **_retold(found, cuts),
            }
            for take, found in material.takes.items()
            if take in used
        },
    }


def _retold(found: TakeOf, cuts: CutList) -> dict[str, Any]:
    """Scenes and steps of a take that a version tells otherwise; nothing of others."""
    told = found.told(cuts)
    return {} if told is found.now else {"scenes": scene_rows(told), "steps": step_rows(told)}


def _first_line(cuts: CutList, piece: Piece) -> str:
    """What a card says first, or what a file is called; "" for a piece of a take."""
    card, file = cuts.card(piece.take), cuts.file(piece.take)
    if file:
        return file.name
    return card.text.partition("\n")[0] if card else ""


def words_of(percent: int, sound: str) -> str:
    """How a piece runs, "" where it runs as it was recorded."""
    return "" if percent == 100 else speed_words(percent, sound == "stretched")


def plan_address(version: Version, material: Material) -> str:
    """Where it is played; another address when it, its takes or their rigs are changed."""
    if not version.values.shown or gone_pieces(version, material):
        return ""
    takes = [found.row for found in material.takes.values()]
    rigs = Rig.with_takes.filter(of_take__in=takes).values_list("revision", flat=True)
    changed = f"{version.revision}.{sum(t.revision for t in takes)}.{sum(rigs)}"
    return f"/live/assembly/{version.pk}/?revision={changed}"


def gone_pieces(version: Version, material: Material) -> int:
    """How many pieces are of takes that are not there any more."""
    cuts, known = version.values, material.known()
    return sum(known.length_ns(cuts, piece.take) is None for piece in cuts.pieces)


def quiet_overview(cuts: CutList, asked: Asked, form: QuietForm) -> dict[str, Any]:
    """Quiet stretches by their takes, and how long the program would be without them."""
    spans = {
        take: [(a / NS_PER_S, b / NS_PER_S) for a, b in found]
        for take, found in asked.quiet.items()
    }
    return {"spans": spans, "words": _quiet_words(cuts, asked, form)}


def _quiet_words(cuts: CutList, asked: Asked, form: QuietForm) -> str:
    kinds = asked.quiet, asked.kept
    made = [
        shortened(cuts, asked.known, *kinds, shortening(form, faster)) for faster in (False, True)
    ]
    without, faster, now = (clock(float(one.length_ns) / NS_PER_S) for one in (*made, cuts))
    number = (len(made[0].pieces) - len(cuts.pieces) + 1) // 2
    if made[0] == cuts:
        return "Nothing more is quiet by these values."
    how = f"× {shortening(form, True).percent / 100:g}"
    return f"{number} found. Taken out they make it {without}, {how} {faster}, instead of {now}."
