"""bench live: pages watching all nine devices, measured from the studio to the page."""

import json
import statistics
import subprocess
import tempfile
import time
from argparse import Namespace
from dataclasses import replace
from pathlib import Path
from typing import Any

from kettle_bench.running_demo import KETTLE, application, environment_of
from kettle_cli.browser import launch
from kettle_cli.children import pid_of
from kettle_cli.paths import ROOT
from kettle_cli.usage import cpu_s, rss_bytes
from kettle_core.rig.rig import Rig, input_of_device
from kettle_engine.client import EngineClient
from kettle_media.rig.rig_file import FILE_VERSION, FORMAT_NAME
from kettle_media.rig_document import rig_to_dict
from kettle_studio.catalogue import DEVICES
from kettle_studio.demo import demo_rig
from kettle_studio.driver import Studio

NINE = ("display-1", "display-2", "tablet", "webcam-1", "webcam-2", "headset", "laptop",
        "webcam-1/sound", "system")  # fmt: skip
TRIALS = 15
NAME, SLUG = "All nine", "all-nine"
MEASURED_S = 20.0
# The studio draws and synthesises for some seconds after its start.
WARM_S = 10.0
# Runs in the page: remembers the first frame drawn after a strip sounds again or a picture is
# dark. It looks only when something has changed: a loop over every frame would cost more than
# the page itself where Chromium draws without a graphics card.
WATCH = """() => {
  const seen = {strip: [], dark: []};
  const before = {strip: true, dark: false};
  const note = (what, now) => {
    if (now && !before[what]) {
      requestAnimationFrame(() => seen[what].push(performance.timeOrigin + performance.now()));
    }
    before[what] = now;
  };
  const strip = document.querySelector("[data-strip=system]");
  new MutationObserver(() => {
    note("strip", Number(strip.style.getPropertyValue("--level")) > 0.02);
  }).observe(strip, {attributes: true, attributeFilter: ["style"]});
  const canvas = document.querySelector("canvas[data-picture=display-1]");
  new MutationObserver(() => {
    const pixel = canvas.getContext("2d").getImageData(60, 60, 1, 1).data;
    note("dark", pixel[0] + pixel[1] + pixel[2] < 90);
  }).observe(canvas, {attributes: true, attributeFilter: ["data-drawn"]});
  document.addEventListener("told", () => { document.body.dataset.seen = JSON.stringify(seen); });
}"""


def bench_live(options: Namespace) -> int:
    """CPU, latency and memory while pages watch every device."""
    from playwright.sync_api import sync_playwright

    with tempfile.TemporaryDirectory() as name, application(Path(name)) as (base, demo, client):
        _leave_nine_rig(Path(name))
        engine, web = client.ask("hello")["pid"], pid_of("web", demo)
        address = f"{base}/rigs/{SLUG}/"
        with sync_playwright() as playwright:
            browser = launch(playwright)
            page = _open(browser, address)
            time.sleep(WARM_S)
            one = _cores((engine, web), MEASURED_S)
            print(f"one page: engine with studio {one[0]:.2f} cores, web {one[1]:.2f} cores")
            page.evaluate(WATCH)
            _print_latency(page, client, "strip", "system", "silent", off_counts=True)
            _print_latency(page, client, "dark", "display-1", "dark", off_counts=False)
            page.close()
            page = _open(browser, address)
            one = _cores((engine, web), MEASURED_S)
            second = _open(browser, address)
            two = _cores((engine, web), MEASURED_S)
            print(
                f"two pages: engine {two[0]:.2f}, web {two[1]:.2f} cores; together "
                f"{sum(two) / sum(one):.2f} times one page, engine alone {two[0] / one[0]:.2f}"
            )
            second.close()
            _print_memory(engine, options.minutes)
            browser.close()
    return 0


def _nine_rig() -> Rig:
    """All nine devices, on, at their largest modes."""
    devices = {d.id: d for d in Studio().list_devices()}
    base = demo_rig()
    items = tuple(input_of_device(devices[n], n.replace("/", "-")) for n in NINE)
    kept = {i.id: i for i in items}
    scene = replace(base.scenes[0], layers=(), sounds=())
    return replace(base, name=NAME, inputs=tuple(kept.values()), scenes=(scene,))


def _leave_nine_rig(data: Path) -> None:
    file = data / "nine.rig.json"
    rig = {"format": FORMAT_NAME, "version": FILE_VERSION, "pictures": {}}
    file.write_text(json.dumps({**rig, "rig": rig_to_dict(_nine_rig())}))
    subprocess.run(
        [*KETTLE, "rig", "import", str(file)], cwd=ROOT, env=environment_of(data), check=True
    )


def _open(browser: Any, address: str) -> Any:
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    began = time.monotonic()
    page.goto(address)
    drawn = "document.querySelectorAll('canvas[data-drawn]').length"
    while page.evaluate(drawn) < 5:
        time.sleep(0.02)
    print(f"all five pictures shown {time.monotonic() - began:.2f} s after the page was asked for")
    time.sleep(4)
    return page


def _cores(pids: tuple[int, ...], seconds: float) -> list[float]:
    """Cores used by each process over some seconds."""
    before, began = [cpu_s(pid) for pid in pids], time.monotonic()
    time.sleep(seconds)
    elapsed = time.monotonic() - began
    return [(cpu_s(pid) - b) / elapsed for pid, b in zip(pids, before, strict=True)]


def _print_latency(
    page: Any, client: EngineClient, what: str, device: str, fault: str, off_counts: bool
) -> None:
    """Set a fault on and off; the change that counts is looked for in the page."""
    begun = []
    for _ in range(TRIALS):
        client.ask("fault", device=device, fault=fault, on=off_counts)
        time.sleep(0.5)
        begun.append(time.time() * 1000)
        client.ask("fault", device=device, fault=fault, on=not off_counts)
        time.sleep(0.7)
    client.ask("fault", device=device, fault=fault, on=False)
    page.evaluate("document.dispatchEvent(new Event('told'))")
    seen = json.loads(page.evaluate("document.body.dataset.seen"))[what]
    found = []
    for at in begun:
        after = [t - at for t in seen if 0 < t - at < 1000]
        if after:
            found.append(after[0])
    # A fault acts where the device delivers; what it delivers happened its latency before.
    own_ms = next(e.latency_ms for e in DEVICES if e.info.id == device)
    found = [ms + own_ms for ms in found]
    name = {"strip": "level", "dark": "picture"}[what]
    if len(found) < TRIALS // 2:
        print(f"{name} latency: only {len(found)} of {TRIALS} changes were seen")
        return
    print(
        f"{name} latency, studio to page: median {statistics.median(found):.0f} ms, "
        f"worst {max(found):.0f} ms of {len(found)} ({own_ms:g} ms of it in the device)"
    )


def _print_memory(pid: int, minutes: float) -> None:
    first = rss_bytes(pid) / 1e6
    readings = []
    for _ in range(max(1, round(minutes * 6))):
        time.sleep(10)
        readings.append(rss_bytes(pid) / 1e6)
    print(
        f"engine memory: {first:.0f} MB, after {minutes:g} min {readings[-1]:.0f} MB "
        f"(between {min(readings):.0f} and {max(readings):.0f} MB)"
    )
