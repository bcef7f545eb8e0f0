"""Take docs/screenshots anew: every main view at 1280 × 800, from the demo's data alone.

PYTHONPATH=src python scripts/screenshots.py [names]; it needs what ./kettle test installs.
"""

import os
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from playwright.sync_api import sync_playwright

from kettle_cli.browser import launch

TOP = Path(__file__).parents[1]
TARGET = TOP / "docs" / "screenshots"
SIZE = {"width": 1280, "height": 800}
PORT = 8476
BASE = f"http://127.0.0.1:{PORT}"
# What is live has come by then.
SETTLE_MS = 5000
DONE = """fetch("/jobs/", {headers: {Accept: "application/json"}})
  .then((answer) => answer.json()).then((told) => told.active === 0)"""
RIG = "/rigs/demo/"
PLAIN = {
    "start": "/",
    "patch_sheet": RIG,
    "webcam": f"{RIG}inputs/webcam-1/",
    "microphone": f"{RIG}inputs/headset/",
    "scenes": f"{RIG}scenes/",
    "layer": f"{RIG}scenes/at/scene-1/?layer=webcam-1",
    "sound": f"{RIG}sound/",
    "stems": f"{RIG}sound/stems/",
    "format": f"{RIG}format/",
    "record_before": f"{RIG}record/",
    "tutorial": "/tutorials/1/",
    "take": "/takes/2/",
    "assembly": "/tutorials/1/assembly/",
    "export": "/tutorials/1/export/",
    "studio": "/studio/",
}


def main() -> int:
    """Start the demo, wait until all of it is made, and take the pictures."""
    with tempfile.TemporaryDirectory(prefix="kettle-pictures-") as data:
        settings = {"DJANGO_SETTINGS_MODULE": "kettle_web.settings", "PYTHONPATH": str(TOP / "src")}
        environment = {**os.environ, **settings, "KETTLE_DATA": data}
        command = [sys.executable, "-m", "kettle_cli", "demo", "--port", str(PORT)]
        demo = subprocess.Popen(
            command, cwd=TOP, env=environment, stdout=subprocess.PIPE, text=True
        )
        try:
            assert demo.stdout
            next(line for line in demo.stdout if BASE in line)
            with sync_playwright() as playwright:
                browser = launch(playwright)
                _take_all(browser.new_page(viewport=SIZE), set(sys.argv[1:]))
                browser.close()
        finally:
            demo.send_signal(signal.SIGINT)
            demo.wait(60)
    return 0


def _take_all(page: Any, names: set[str]) -> None:
    page.goto(BASE)
    while not page.evaluate(DONE):
        time.sleep(1)
    for name, address in PLAIN.items():
        _shoot(page, name, names, lambda address=address: page.goto(f"{BASE}{address}"))
    _shoot(page, "take_scenes", names, lambda: _scenes_of_take(page))
    _shoot(page, "bin", names, lambda: _bin(page))
    _shoot(page, "record", names, lambda: _record(page))
    _shoot(page, "jobs", names, lambda: page.goto(f"{BASE}/jobs/"))


def _shoot(page: Any, name: str, names: set[str], prepare: Callable[[], Any]) -> None:
    if names and name not in names:
        return
    prepare()
    page.wait_for_timeout(SETTLE_MS)
    page.screenshot(path=str(TARGET / f"{name}.png"))
    print(name, flush=True)


def _scenes_of_take(page: Any) -> None:
    page.goto(f"{BASE}/takes/2/")
    page.get_by_role("button", name="Scenes").first.click()
    page.wait_for_url("**/scenes/**")


def _bin(page: Any) -> None:
    """Two things in it; Undo has them back afterwards."""
    page.goto(BASE)
    page.get_by_label("Name of a new folder").fill("Last spring")
    page.get_by_role("button", name="Add a folder").click()
    page.wait_for_url("**/?in=*")
    page.goto(BASE)
    page.get_by_role("button", name="Take the folder Last spring away").click()
    page.get_by_role("checkbox", name="Choose Planning a signature, take 1").check()
    page.locator(".shelf-bar").get_by_role("button", name="Delete").click()
    page.get_by_text("lies in the bin until").wait_for()
    page.goto(f"{BASE}/library/bin/")


def _record(page: Any) -> None:
    """In the middle of a take, at its third step; it goes on until its page is left."""
    page.goto(f"{BASE}{RIG}record/")
    page.get_by_label("Countdown").fill("0")
    page.get_by_role("button", name="Record take").click()
    page.get_by_role("button", name="Stop").wait_for()
    for _ in range(3):
        page.get_by_role("button", name="Next step").click()
        page.wait_for_timeout(SETTLE_MS)
    page.get_by_role("button", name="Sheet and me").click()
    page.get_by_role("button", name="Good").click()


if __name__ == "__main__":
    sys.exit(main())
