"""bench export: sizes that are kept, speed beside ffmpeg, how soon a cut is answered."""

import random
import tempfile
import time
from argparse import Namespace
from contextlib import redirect_stderr
from io import StringIO
from pathlib import Path

import numpy as np

from kettle_cli.bench_program import SECONDS, in_turns_with_ffmpeg, need_ffmpeg
from kettle_cli.bench_takes import HOURS, open_library, recorded_take, stretch
from kettle_core.assembly.cut_changes import take_out
from kettle_core.assembly.cut_list import CutList, Known, Piece, Place
from kettle_core.assembly.export import LEAST_USED, Export
from kettle_core.errors import CutError, EngineError
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.process import work_frame_by_frame
from kettle_media.assembly.export_file import export
from kettle_media.survey.survey import survey_take
from kettle_media.take.folder import TakeFolder

PIECES, PRESSES, ANSWERED_MS, MOST_RATIO = 200, 30, 150.0, 1.0
LENGTHS_S, SIZES_MB = (5.0, 1200.0), (2.0, 200.0)


def bench_export(options: Namespace) -> int:
    """Measure exports, the sizes of random tutorials as long as `--minutes` lasts.

    Raises EngineError where a limit is not kept.
    """
    need_ffmpeg()
    work_frame_by_frame()
    with tempfile.TemporaryDirectory() as name:
        data = Path(name)
        folder = recorded_take(data / "takes" / "long", SECONDS)
        wrong = [*_speed(folder), *_sizes(folder, options.minutes * 60), *_answers(folder, data)]
    if wrong:
        raise EngineError(f"Beyond its limit: {', '.join(wrong)}.")
    return 0


def _speed(folder: TakeFolder) -> list[str]:
    info = folder.read_info()
    cuts = CutList((Piece("p1", info.id, 0, SECONDS * NS_PER_S),))
    order, target = Export(crf=19, lufs=None), folder.path / "bench.mp4"

    def make() -> None:
        export({info.id: folder}, cuts, info.rig_values.format, order, target)

    make()  # sounds are cleaned, which is counted apart
    ratio = in_turns_with_ffmpeg(folder, f"export of {SECONDS} s, looked at", make)
    return ["export beside ffmpeg"] if ratio > MOST_RATIO else []


def _sizes(folder: TakeFolder, for_s: float) -> list[str]:
    """Tutorials of random lengths, no larger than random sizes; quality may end first."""
    info, rng = folder.read_info(), random.Random(4)  # noqa: S311
    until, target = time.monotonic() + for_s, folder.path / "sized.mp4"
    used, over, ended, refused, tries = [], 0, 0, 0, []
    while time.monotonic() < until:
        length_s = LENGTHS_S[0] * (LENGTHS_S[1] / LENGTHS_S[0]) ** rng.random()
        mb = SIZES_MB[0] * (SIZES_MB[1] / SIZES_MB[0]) ** rng.random() * rng.choice((0.02, 0.2, 1))
        cuts: list[Piece] = []
        left_s = length_s
        while left_s > 0.2:
            part_s = min(left_s, rng.uniform(2, SECONDS))
            begins = round(rng.uniform(0, SECONDS - part_s) * NS_PER_S)
            ends = begins + round(part_s * NS_PER_S)
            cuts.append(Piece(f"p{len(cuts)}", info.id, begins, ends))
            left_s -= part_s
        order = Export(lines=rng.choice((480, 720)), speed="ultrafast", max_mb=mb, lufs=None)
        try:
            made = export(
                {info.id: folder}, CutList(tuple(cuts)), info.rig_values.format, order, target
            )
        except CutError:
            refused += 1
            continue
        share = made.size_bytes / (mb * 1e6)
        over += share > 1
        tries.append(made.tries)
        if share >= LEAST_USED:
            used.append(share)
        else:
            ended += 1
    print(
        f"{len(used) + ended} sizes of {LENGTHS_S[0]:g} to {LENGTHS_S[1]:g} s: {over} above, "
        f"{len(used)} used up (least {min(used, default=1):.1%}), of {ended} quality ended first, "
        f"{refused} refused; {np.mean(tries or [0]):.1f} tries each"
    )
    return ["sizes"] if over else []


def _answers(folder: TakeFolder, data: Path) -> list[str]:
    """How soon the server answers a cut of many pieces over three hours."""
    survey = survey_take(folder)
    stretch(folder, survey)
    open_library(data)
    from django.test import Client

    from kettle_web.assembly.material import Material
    from kettle_web.assembly.services import take_over, version_of
    from kettle_web.models import Tutorial
    from kettle_web.takes.services import look_after_takes

    look_after_takes()
    tutorial = Tutorial.objects.get()
    version = version_of(tutorial, Material(tutorial))
    cuts, known = version.values, Material(tutorial).known()
    length_ns = known.takes[cuts.pieces[0].take]
    take_over(version=version, cuts=_cut(cuts, known, length_ns), words="cut")
    client, rng, found = Client(headers={"host": "127.0.0.1"}), random.Random(2), []  # noqa: S311
    for _ in range(PRESSES):
        version.refresh_from_db()
        piece = rng.choice([p for p in version.values.shown if p.until_ns - p.from_ns > NS_PER_S])
        from_s = piece.from_ns / NS_PER_S
        asked = {"part": "out", "from_piece": piece.id, "from_s": from_s + 0.2,
                 "until_piece": piece.id, "until_s": from_s + 0.7}  # fmt: skip
        began = time.perf_counter()
        with redirect_stderr(StringIO()):
            answer = client.post(f"/assembly/{version.pk}/change/", asked, follow=True)
        found.append((time.perf_counter() - began) * 1000)
        if answer.status_code != 200:
            raise EngineError(f"The server answered {answer.status_code}.")
    worst, median = max(found), float(np.median(found))
    print(
        f"a cut of {PIECES} pieces over {HOURS} h and the page then: {median:.0f} ms, worst of "
        f"{PRESSES} {worst:.0f} ms (limit {ANSWERED_MS:g})"
    )
    return ["a cut answered"] if median > ANSWERED_MS else []


def _cut(cuts: CutList, known: Known, length_ns: int) -> CutList:
    """As many pieces as are measured, every second one taken out."""
    first = cuts.pieces[0].id
    step_ns = length_ns // (PIECES // 2)
    for number in range(PIECES // 2):
        at_ns = number * step_ns + step_ns // 3
        places = Place(first, at_ns), Place(first, at_ns + step_ns // 5)
        cuts = take_out(cuts, known, *places)
    return cuts
