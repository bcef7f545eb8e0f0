"""The real application in real Chromium: web, engine and worker as ./kettle demo starts them."""

import atexit
import json
import os
import re
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
import unittest
from functools import cache
from pathlib import Path
from typing import ClassVar
from urllib.parse import urlsplit

from playwright.sync_api import Error, expect, sync_playwright

from kettle_cli.browser import launch
from kettle_cli.children import pid_of
from tests.fixtures import begin_library

LAST_LINES = 12
WAIT_S = int(os.environ.get("KETTLE_TEST_WAIT_S", "90"))
TOP = Path(__file__).parents[2]
RUN = (sys.executable, "-m", "kettle_cli")
AXE = TOP / "node_modules/axe-core/axe.min.js"
CHECK = """axe.run({
  runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"],
  resultTypes: ["violations"],
  preload: false,
})"""
# What is another thing in another width; all else of a page is the same.
CHECK_WIDTH = """axe.run({
  runOnly: {type: "rule", values: ["target-size", "scrollable-region-focusable", "list"]},
  resultTypes: ["violations"],
  preload: false,
})"""
WIDTHS = (1280, 900, 320)
# Who had the focus when a page was exchanged, and nobody has it after that.
FOCUS = """
window.lostFocus = [];
let had = null;
setInterval(() => { had = document.activeElement; }, 40);
document.addEventListener("parts:swapped", () => {
  const before = had;
  setTimeout(() => {
    if (before && before !== document.body && document.activeElement === document.body)
      window.lostFocus.push(before.outerHTML.slice(0, 200));
  });
});
"""
NOTICED = """() => {
  window.noticed = "";
  const place = document.querySelector("[data-live-notice]");
  const look = () => { window.noticed += place.checkVisibility() ? place.textContent : ""; };
  new MutationObserver(look).observe(place, {attributes: true, childList: true, subtree: true});
}"""
# Every press is seen, and nothing comes of it.
PRESSED = """() => {
  window.pressed = null;
  window.press ??= (event) => {
    window.pressed = event.target.closest("a, button, summary, input");
    event.preventDefault();
    event.stopImmediatePropagation();
  };
  window.addEventListener("click", window.press, true);
}"""
RELEASED = "window.removeEventListener('click', window.press, true)"
# A radio button that is chosen already does nothing.
TICKS = "input:is([type=checkbox], [type=radio]:not(:checked))"
CONTROLS = f"main :is(a[href], button:enabled, summary, {TICKS})"
MOST_CONTROLS = 120


def free_port():
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


@cache
def chromium():
    """The browser of all classes; each page of it begins with nothing kept."""
    playwright = sync_playwright().start()
    atexit.register(playwright.stop)
    browser = launch(playwright)
    atexit.register(browser.close)
    return browser


class BrowserCase(unittest.TestCase):
    """Starts the demo once for all tests of a class."""

    # Tests that need no takes save the time.
    DEMO_TAKES = "0"
    # Where it matters how large they are it is "1"; smaller ones save more.
    DEMO_PART = "3"
    # Live pictures and levels a second: a few show the same, and cost much less.
    REFRESH = 2
    # Pages that were looked at in all widths, of all classes.
    checked: ClassVar[set[str]] = set()

    @classmethod
    def setUpClass(cls):
        cls.data = Path(tempfile.mkdtemp(prefix="kettle-browser-"))
        cls.addClassCleanup(shutil.rmtree, cls.data, ignore_errors=True)
        begin_library(cls.data)
        port = free_port()
        cls.base = f"http://127.0.0.1:{port}"
        environment = {
            **os.environ,
            "KETTLE_DATA": str(cls.data),
            "KETTLE_DEMO_TAKES": cls.DEMO_TAKES,
            "KETTLE_DEMO_PART": cls.DEMO_PART,
            "DJANGO_SETTINGS_MODULE": "kettle_web.settings",
        }
        cls.demo = subprocess.Popen(
            [*RUN, "demo", "--port", str(port), "--refresh", str(cls.REFRESH)],
            cwd=TOP,
            env=environment,
            stdout=subprocess.PIPE,
            text=True,
        )
        cls.addClassCleanup(cls.end_demo)
        for line in cls.demo.stdout:
            if cls.base in line:
                break
        else:
            raise AssertionError("The demo did not start.")
        cls.browser = chromium()

    @classmethod
    def end_demo(cls):
        cls.demo.send_signal(signal.SIGINT)
        cls.demo.wait(40)
        cls.demo.stdout.close()

    def setUp(self):
        self.page = self.browser.new_page(viewport={"width": 1280, "height": 800})
        self.addCleanup(self.page.close)
        self.page.set_default_timeout(WAIT_S * 1000)
        expect.set_options(timeout=WAIT_S * 1000)
        self.problems = []
        self.page.on("pageerror", lambda error: self.problems.append(str(error)))
        self.page.add_init_script(FOCUS)

    def what_was_seen(self):
        """What the page says, and what the application wrote last; for who reads of a failure."""
        said = [f"{self.page.url}\n{self.page.inner_text('body', timeout=5000)}"]
        for log in sorted((self.data / "logs").iterdir()):
            lines = log.read_text(errors="replace").splitlines()[-LAST_LINES:]
            said.append("\n".join([f"── {log.name}", *lines]))
        return "\n".join(said)

    def check_page(self):
        """No axe-core violation (WCAG 2.2 AA, best practices) and no script error; it fits into
        three widths; each control does by its own keys what it does, and the focus is never lost.
        A page that was looked at before is looked at in one width.
        """
        path = re.sub(r"\d+", "", urlsplit(self.page.url).path)
        is_new = path not in self.checked
        self.checked.add(path)
        for width in WIDTHS if is_new else WIDTHS[:1]:
            self.page.set_viewport_size({"width": width, "height": 800})
            self.assertLessEqual(self.page.evaluate("document.body.scrollWidth"), width)
            if not self.page.evaluate("'axe' in window"):
                self.page.evaluate(AXE.read_text())
            found = self.page.evaluate(CHECK if width == WIDTHS[0] else CHECK_WIDTH)
            told = [(v["id"], [n["html"] for n in v["nodes"]][:2]) for v in found["violations"]]
            self.assertEqual(told, [], f"{width} px: {json.dumps(told, indent=1)}")
        self.page.set_viewport_size({"width": 1280, "height": 800})
        if is_new:
            self.press_all()
        self.assertEqual(self.page.evaluate("window.lostFocus"), [])
        self.assertEqual(self.problems, [])

    def press_all(self):
        """Space and Enter do what a control does, whatever keys the page has."""
        page = self.page
        before = page.evaluate_handle("document.activeElement")
        page.evaluate(PRESSED)
        controls = page.locator(CONTROLS).filter(visible=True).element_handles()[:MOST_CONTROLS]
        for control in controls:
            kind = control.evaluate("one => one.localName")
            # It may have been exchanged since: then what is there now was not meant.
            control.evaluate("one => one.focus()")
            for key in {"a": ("Enter",), "input": ("Space",)}.get(kind, ("Space", "Enter")):
                page.keyboard.press(key)
                does = control.evaluate("one => !one.isConnected || window.pressed === one")
                self.assertTrue(does, (key, control.evaluate("one => one.outerHTML")))
                page.evaluate("window.pressed = null")
        page.evaluate(RELEASED)
        before.evaluate("one => one.focus()")
        page.evaluate("window.scrollTo(0, 0)")

    def until(self, expression):
        """Wait for a JavaScript expression; the page's policy forbids Playwright's own way."""
        deadline = time.monotonic() + WAIT_S
        while not self._holds(expression):
            self.assertLess(time.monotonic(), deadline, expression)
            time.sleep(0.1)

    def _holds(self, expression):
        """Whether it is so; a page that is just being opened has no body yet, or goes away."""
        try:
            return self.page.evaluate(f"document.body !== null && ({expression})")
        except Error as error:
            if "context was destroyed" not in str(error):
                raise
            return False

    def kill_web(self):
        """Kill the web's process; what watches it starts another one, and the page says so.

        It may say so for a moment only: it is the page that looks, which misses nothing.
        """
        self.page.evaluate(NOTICED)
        os.kill(pid_of("web", self.demo.pid), signal.SIGKILL)
        self.until("window.noticed.includes('connects again by itself')")
