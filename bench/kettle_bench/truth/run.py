"""bench truth: programs, time lines, exports, added files, hum; judged by others, at length."""

from argparse import Namespace
from collections.abc import Iterator
from itertools import chain
from pathlib import Path
from tempfile import TemporaryDirectory

from playwright.sync_api import sync_playwright

from kettle_bench.truth.adding import added_faults, odd_files
from kettle_bench.truth.coded import coded_take
from kettle_bench.truth.cutting import CutJudge
from kettle_bench.truth.exporting import export_faults, orders
from kettle_bench.truth.humming import hum_faults
from kettle_bench.truth.judges import need_judges
from kettle_cli.browser import launch
from kettle_core.assembly.cut_list import CutList, Piece
from kettle_core.errors import CutError, EngineError
from kettle_core.program.cues import Step, ToScene
from kettle_core.rig.format import Format
from kettle_core.timing.ticks import NS_PER_S
from kettle_engine.process import work_frame_by_frame
from kettle_engine.recording.take import record_take
from kettle_media.take.align import align_take
from kettle_media.take.cues import write_cues
from kettle_media.take.folder import TakeFolder
from kettle_studio.demo import demo_rig, shrunk
from kettle_studio.driver import Studio

LISTS, SECONDS, PART = 300, 12, 3


def bench_truth(_: Namespace) -> int:
    """Judge 300 cut lists, 58 exports, 40 odd files, 11 sounds. Raises EngineError for a fault."""
    need_judges()
    work_frame_by_frame()
    wrong = done = 0
    with TemporaryDirectory() as name:
        room = Path(name)
        for what, faults in chain(hum_faults(room), _lists(room), _exports(room)):
            done += 1
            wrong += bool(faults)
            if faults:
                print(f"{what}: {'; '.join(faults)}", flush=True)
    print(f"{wrong} of {done} with a fault")
    if wrong:
        raise EngineError(f"{wrong} results are not as they should be.")
    return 0


def _lists(room: Path) -> Iterator[tuple[str, list[str]]]:
    judge = CutJudge(coded_take(room / "coded", SECONDS), room)
    base = (room / "program.mp4").rename(room / "base.mp4")
    for seed in range(LISTS):
        cuts, format_ = judge.random(seed)
        yield f"list {seed} at {float(format_.fps):.3f} fps", judge.faults(cuts, format_)
    for name, path in odd_files(base, room):
        yield f"a file, {name}", added_faults(name, path, room / "files")


def _exports(room: Path) -> Iterator[tuple[str, list[str]]]:
    folder = TakeFolder(room / "spoken")
    record_take(Studio(), shrunk(demo_rig(), PART), folder.path, 6 * NS_PER_S)
    align_take(folder, folder.read_info())
    steps = (Step(NS_PER_S, "Fold <2> & more"), Step(3 * NS_PER_S, "Sew"))
    write_cues(folder, (ToScene(0, "scene-1"), *steps))
    take = folder.read_info().id
    cuts = CutList(
        (Piece("a", take, 0, 3 * NS_PER_S), Piece("b", take, 4 * NS_PER_S, 6 * NS_PER_S))
    )
    with sync_playwright() as playwright:
        browser = launch(playwright)
        for number, order in enumerate(orders()):
            try:
                faults = export_faults(folder, cuts, Format(854, 480), order, room, browser)
            except CutError as error:
                faults = [str(error)]
            yield f"export {number}, {order.kind} at {order.sound_kbps} kbit/s", faults
        browser.close()
