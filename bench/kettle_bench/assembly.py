"""How soon an assembly of many pieces answers a cut, draws it and plays it."""

import gc
import os
import random
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager, redirect_stderr
from io import StringIO
from pathlib import Path
from typing import Any

import numpy as np

from kettle_bench.listener import listener
from kettle_bench.player import beyond
from kettle_bench.program import repeated
from kettle_bench.takes import HOURS, open_library, stretch
from kettle_cli.browser import launch
from kettle_cli.paths import ROOT
from kettle_core.assembly.cut_changes import take_out
from kettle_core.assembly.cut_list import CutList, Known, Place
from kettle_core.errors import EngineError
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.player.show import Named, named_cuts
from kettle_media.survey.paths import SurveyPaths
from kettle_media.survey.survey import survey_take
from kettle_media.take.align import align_take
from kettle_media.take.folder import TakeFolder

PIECES, PRESSES, ANSWERED_MS, DRAWN_MS = 200, 30, 150.0, 100.0
# Who cuts looks at what came of it before the next press.
RESTS_S, DRAWN_LIMIT_S = 1.5, 10.0
LISTENS_S, PLAYED_MS = 0.5, 300.0
SERVE = (
    "import django; django.setup(); from kettle_cli.run_commands import answer_pages; "
    "answer_pages({port})"
)
# From the key to what is drawn then, and how long the server was waited for in between.
LISTEN = """() => {
  window.found = [];
  addEventListener("keydown", () => { window.begun = performance.now(); }, true);
  new MutationObserver(() => {
    const asked = performance.getEntriesByType("resource").filter(
      (one) => one.startTime >= window.begun && /change|overview|assembly\\/\\d+\\/$/.test(one.name)
    );
    const waited = asked.reduce((sum, one) => sum + one.responseEnd - one.startTime, 0);
    window.found.push([performance.now() - window.begun, waited]);
  }).observe(document.body, { attributes: true, attributeFilter: ["data-drawn"] });
}"""


def assembly_times(folder: TakeFolder, data: Path) -> list[str]:
    """What is beyond its limit of an assembly's times; each is printed."""
    _hours_of(folder, folder.path.with_name("hours"))
    open_library(data)
    from kettle_web.assembly.material import Material
    from kettle_web.assembly.services import take_over, version_of
    from kettle_web.models import Tutorial
    from kettle_web.takes.reading import look_after_takes

    look_after_takes()
    tutorial = Tutorial.objects.get()
    material = Material(tutorial)
    version = version_of(tutorial, material)
    cuts, known = version.values, material.known()
    cut = _cut(cuts, known, known.takes[cuts.pieces[0].take])
    take_over(version=version, material=material, cuts=cut, words="cut")
    played = _played(material, version.values)
    return [*played, *_answered(version), *_drawn(version.pk, data)]


def _hours_of(folder: TakeFolder, target: Path) -> None:
    """Have hours of a take in its place: every packet that many times, its survey so often."""
    survey = survey_take(folder)
    long = repeated(folder, target, HOURS * 3600 * NS_PER_S // survey.length_ns)
    paths = SurveyPaths(folder).folder, SurveyPaths(long).folder
    shutil.copytree(*paths)
    stretch(long, survey)
    align_take(long, long.read_info(), at_once=True)
    shutil.rmtree(folder.path)


def _cut(cuts: CutList, known: Known, length_ns: int) -> CutList:
    """As many pieces as are measured, every second one taken out."""
    first = cuts.pieces[0].id
    step_ns = length_ns // (PIECES // 2)
    for number in range(PIECES // 2):
        at_ns = number * step_ns + step_ns // 3
        places = Place(first, at_ns), Place(first, at_ns + step_ns // 5)
        cuts = take_out(cuts, known, *places)
    return cuts


def _played(material: Any, cuts: CutList) -> list[str]:
    """How soon a list that was just cut plays from the cut on."""
    rng, found, known = random.Random(5), [], material.known()  # noqa: S311
    with listener() as player:
        player.open(_named(material, cuts))
        for _ in range(PRESSES):
            begins, wide = 0, []
            for piece in cuts.shown:
                if piece.until_ns - piece.from_ns > 3 * NS_PER_S:
                    wide.append((begins, piece))
                begins += piece.until_ns - piece.from_ns
            begins, piece = rng.choice(wide)
            at_ns = piece.from_ns + NS_PER_S
            places = Place(piece.id, at_ns), Place(piece.id, at_ns + NS_PER_S // 2)
            cuts = take_out(cuts, known, *places)
            at_s = begins / NS_PER_S + 0.5
            found.append(player.played_ms(at_s, _named(material, cuts)))
            time.sleep(LISTENS_S)
    return beyond(found, f"a cut of {PIECES} pieces over {HOURS} h", PLAYED_MS)


def _named(material: Any, cuts: CutList) -> Named:
    return named_cuts(material.folders, cuts, material.format, material.files)


def _answered(version: Any) -> list[str]:
    from django.test import Client

    client, rng, found = Client(headers={"host": "127.0.0.1"}), random.Random(2), []  # noqa: S311
    # Who presses has the page open, of a server that has put aside what it was loaded with.
    client.get(f"/assembly/{version.pk}/")
    gc.collect()
    gc.freeze()
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
    median = float(np.median(found))
    print(
        f"a cut of {PIECES} pieces over {HOURS} h and the page then: {median:.0f} ms, worst of "
        f"{PRESSES} {max(found):.0f} ms (limit {ANSWERED_MS:g})"
    )
    return ["a cut answered"] if max(found) > ANSWERED_MS else []


def _drawn(pk: int, data: Path) -> list[str]:
    from playwright.sync_api import sync_playwright

    with _served(data) as base, sync_playwright() as playwright:
        browser = launch(playwright)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(f"{base}/assembly/{pk}/")
        while not page.evaluate("document.body && document.body.dataset.drawn"):
            time.sleep(0.1)
        page.evaluate(LISTEN)
        page.locator("[data-lines]").focus()
        for number in range(PRESSES // 2):
            page.keyboard.press("Shift+ArrowRight")
            page.keyboard.press("o")
            deadline = time.monotonic() + DRAWN_LIMIT_S
            while len(page.evaluate("window.found")) <= number and time.monotonic() < deadline:
                time.sleep(0.05)
            page.keyboard.press("ArrowRight")
            time.sleep(RESTS_S)
        found = np.array(page.evaluate("window.found"))
        browser.close()
    own = found[:, 0] - found[:, 1]
    print(
        f"drawn {np.median(found[:, 0]):.0f} ms after the key, {np.median(own):.0f} ms of it the "
        f"page's (limit {DRAWN_MS:g}), worst {own.max():.0f} ms"
    )
    return ["a cut drawn"] if np.median(own) > DRAWN_MS else []


@contextmanager
def _served(data: Path) -> Iterator[str]:
    """The pages of a library, without engine and workers."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    environment = {**os.environ, "KETTLE_DATA": str(data)}
    command = [sys.executable, "-c", SERVE.format(port=port)]
    quiet = subprocess.DEVNULL
    serving = subprocess.Popen(
        command, cwd=ROOT / "src", env=environment, stdout=quiet, stderr=quiet
    )
    try:
        deadline = time.monotonic() + 30
        while True:
            try:
                socket.create_connection(("127.0.0.1", port), 1).close()
                break
            except OSError as error:
                if time.monotonic() > deadline:
                    raise EngineError("The pages did not start.") from error
                time.sleep(0.1)
        yield f"http://127.0.0.1:{port}"
    finally:
        serving.send_signal(signal.SIGTERM)
        serving.wait(20)
