"""bench seen: what a browser shows of long lines, beside a hung engine, and out of sight."""

import os
import signal
import statistics
import tempfile
import time
from argparse import Namespace
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from urllib.request import urlopen

from kettle_bench.running_demo import application
from kettle_bench.takes import open_library, recorded_take, stretch
from kettle_cli.browser import launch
from kettle_cli.usage import rss_bytes
from kettle_core.errors import EngineError
from kettle_engine.client import EngineClient
from kettle_media.survey.survey import survey_take

SECONDS, HOURS = 30, 1
PAGES, TRIES, CUTS = 8, 30, 20
PLAYED_S = 10.0
WAIT_S = 60
FILE_MS, DRAWN_MS, LEAST_PER_S, MOST_MB = 300.0, 100.0, 50.0, 60.0
# Runs in the page: how long from what came of a change until it stands drawn.
DRAWN = """() => {
  window.drawnMs = [];
  let came = 0;
  document.addEventListener("parts:swapped", () => { came = performance.now(); }, true);
  new MutationObserver(() => {
    const since = came;
    requestAnimationFrame(() => setTimeout(() => window.drawnMs.push(performance.now() - since)));
  }).observe(document.body, {attributeFilter: ["data-drawn"]});
}"""
# Runs in the page: how often the play head is drawn at another place.
MOVED = """seconds => new Promise(done => {
  const lines = document.querySelector("[data-lines]");
  let moved = 0;
  new MutationObserver(() => { moved += 1; }).observe(lines, {attributeFilter: ["aria-valuenow"]});
  setTimeout(() => done(moved / seconds), seconds * 1000);
})"""


def bench_seen(options: Namespace) -> int:
    """Lines of an hour played and cut, a file beside a hung engine, a page out of sight.

    Raises EngineError where a limit is not kept.
    """
    from playwright.sync_api import sync_playwright

    with tempfile.TemporaryDirectory() as name:
        data = Path(name)
        with application(data) as (base, _, client):
            version, file = _long_take(data)
            with sync_playwright() as playwright:
                browser = launch(playwright)
                wrong = _lines(browser, f"{base}{version}")
                wrong += _unseen(browser, f"{base}/rigs/demo/record/", options.minutes)
                wrong += _beside_hung(browser, base, f"{base}{file}", client)
                browser.close()
    if wrong:
        raise EngineError(f"Beyond its limit: {', '.join(wrong)}.")
    return 0


def _long_take(data: Path) -> tuple[str, str]:
    """Addresses of the assembly of a take that looks an hour long, and of a file of it."""
    folder = recorded_take(data / "takes" / "long", SECONDS)
    stretch(folder, survey_take(folder), HOURS)
    open_library(data)
    from kettle_web.models import Take, Tutorial
    from kettle_web.rigs.services import make_demo_rig
    from kettle_web.takes.reading import read_take_from_disk

    tutorial = Tutorial.objects.create(name="An hour at the bench")
    about = {"tutorial": tutorial, "rig": make_demo_rig(), "recorded_at": datetime.now(UTC)}
    # The application may have found the folder already.
    take, _ = Take.objects.update_or_create(folder="long", defaults={**about, "number": 1})
    read_take_from_disk(take=take)
    name = folder.read_info().tracks[0].name
    return tutorial.versions.get().get_absolute_url(), f"/takes/{take.pk}/track/{name}/"


def _lines(browser: Any, address: str) -> list[str]:
    """The play head over an hour of lines, and a cut of them."""
    with _page(browser, address) as page:
        _until(page, "document.body.dataset.ready === 'assembly'")
        page.locator("[data-lines]").press("Home")
        page.keyboard.press("Space")
        _until(page, "document.querySelector('[data-take-at]').textContent > '0:01'")
        per_s = float(page.evaluate(MOVED, PLAYED_S))
        page.keyboard.press("Space")
        page.evaluate(DRAWN)
        for number in range(CUTS):
            page.locator("[data-lines]").press("ArrowRight")
            page.keyboard.press("Shift+ArrowRight")
            page.keyboard.press("o")
            _until(page, f"window.drawnMs.length > {number}")
        found = page.evaluate("window.drawnMs")
    print(f"play head over {HOURS} h of lines: {per_s:.0f} pictures/s (at least {LEAST_PER_S:g})")
    drawn = statistics.median(found)
    print(f"a cut drawn: {drawn:.0f} ms, worst {max(found):.0f} ms (limit {DRAWN_MS:g} ms)")
    return [
        *(["the play head"] if per_s < LEAST_PER_S else []),
        *(["a cut drawn"] if drawn > DRAWN_MS else []),
    ]


def _unseen(browser: Any, address: str, minutes: float) -> list[str]:
    """What a page takes of the memory while another is in front of it."""
    with _page(browser, address) as page:
        session = page.context.new_cdp_session(page)
        time.sleep(20)
        before = _renderers_mb(browser)
        session.send("Emulation.setFocusEmulationEnabled", {"enabled": False})
        session.send("Page.enable")
        page.evaluate(
            "Object.defineProperty(document, 'hidden', {get: () => true, configurable: true});"
            "document.dispatchEvent(new Event('visibilitychange'))"
        )
        time.sleep(minutes * 60)
        more = _renderers_mb(browser) - before
    print(f"out of sight for {minutes:g} min: {more:+.0f} MB (limit {MOST_MB:g} MB)")
    return ["memory out of sight"] if more > MOST_MB else []


def _renderers_mb(browser: Any) -> float:
    """The memory of all of a browser's processes that show pages."""
    found = browser.new_browser_cdp_session().send("SystemInfo.getProcessInfo")["processInfo"]
    return sum(rss_bytes(one["id"]) for one in found if one["type"] == "renderer") / 1e6


def _beside_hung(browser: Any, base: str, file: str, client: EngineClient) -> list[str]:
    """How soon a file begins while pages are open and the engine stands still."""
    pages = [browser.new_page() for _ in range(PAGES)]
    for page in pages:
        page.goto(f"{base}/rigs/demo/record/")
    engine = int(client.ask("hello")["pid"])
    os.kill(engine, signal.SIGSTOP)
    try:
        time.sleep(3)
        found = []
        for _ in range(TRIES):
            began = time.monotonic()
            with urlopen(file, timeout=30) as answer:  # noqa: S310  its own address
                answer.read(1)
            found.append((time.monotonic() - began) * 1000)
            time.sleep(0.1)
    finally:
        os.kill(engine, signal.SIGCONT)
    worst = max(found)
    told = f"worst of {TRIES} {worst:.0f} ms (limit {FILE_MS:g} ms)"
    print(
        f"a file beside {PAGES} pages and a hung engine: {statistics.median(found):.0f} ms, {told}"
    )
    return ["a file beside a hung engine"] if worst > FILE_MS else []


@contextmanager
def _page(browser: Any, address: str) -> Iterator[Any]:
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    page.goto(address)
    yield page
    page.close()


def _until(page: Any, holds: str) -> None:
    """Wait for what a page shows; its own policy refuses what is evaluated within it."""
    end = time.monotonic() + WAIT_S
    while not page.evaluate(holds):
        if time.monotonic() > end:
            raise EngineError(f"Not so within {WAIT_S} s: {holds}")
        time.sleep(0.02)
