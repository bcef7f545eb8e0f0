"""soak --web: many pages edit one rig while web and workers are killed; nothing is lost.

Then the web is flooded while a take is recorded.
"""

import contextlib
import http.client
import json
import os
import random
import re
import signal
import tempfile
import threading
import time
import urllib.parse
from dataclasses import dataclass, field
from pathlib import Path

from kettle_bench.running_demo import application
from kettle_bench.soaking.door import flood
from kettle_cli.children import pid_of
from kettle_core.errors import KettleError

PAGES = 10
EVERY_S = 2.0
LONGEST_ANSWER_S, AWAY_S = 1.0, 60.0
KILL_EVERY_S = 3.0
VICTIMS = ("web", "worker soon", "worker long")
# What is ordered while processes are killed, and how often.
ORDERS: tuple[tuple[str, dict[str, str]], ...] = (
    ("/rigs/demo/format/trial/", {}),
    ("/assembly/1/export/new/", {"purpose": "message"}),
    ("/takes/1/compose/", {}),
)
ORDER_EVERY_S = 8.0
# After the last kill each look at the jobs shows others before so long.
STANDS_S = 180.0
RIG = "demo"
# The page that renames the rig itself.
ITSELF = ""


@dataclass
class Told:
    """What the pages saw."""

    kept: dict[str, str] = field(default_factory=dict)
    sent: int = 0
    unanswered: int = 0
    refused: list[str] = field(default_factory=list)
    slowest_s: float = 0.0


class Page:
    """One page of the rig: it renames its own input again and again."""

    def __init__(self, port: int, input_id: str) -> None:
        self._port, self.input_id, self._cookie, self._form = port, input_id, "", ""

    def ask(
        self, method: str, path: str, fields: dict[str, str] | None = None, accept: str = "*/*"
    ) -> tuple[int, str]:
        """Status and text of an answer. Raises OSError where the web does not answer."""
        connection = http.client.HTTPConnection("127.0.0.1", self._port, timeout=20)
        headers = {"Cookie": self._cookie, "Kettle-In-Place": "1", "Accept": accept}
        body = None
        if fields is not None:
            body = urllib.parse.urlencode({**fields, "csrfmiddlewaretoken": self._form})
            headers["Content-Type"] = "application/x-www-form-urlencoded"
        try:
            connection.request(method, path, body, headers)
            answer = connection.getresponse()
            text = answer.read().decode(errors="replace")
            for value in answer.headers.get_all("Set-Cookie") or ():
                if value.startswith("vast_kettle_form="):
                    self._cookie = value.partition(";")[0]
            return answer.status, text
        except http.client.HTTPException as error:
            raise OSError(str(error)) from error
        finally:
            connection.close()

    def open(self) -> None:
        """Get the page with its form's secret."""
        _, text = self.ask("GET", f"/rigs/{RIG}/")
        found = re.search(r'name="csrfmiddlewaretoken" value="(\w+)"', text)
        if not found:
            raise OSError("the patch sheet has no form")
        self._form = found[1]

    def sheet(self) -> str:
        """The patch sheet, as soon as the web answers; one that was killed often rests a while."""
        until = time.monotonic() + AWAY_S
        while True:
            try:
                return self.ask("GET", f"/rigs/{RIG}/")[1]
            except OSError:
                if time.monotonic() > until:
                    raise
                time.sleep(0.2)

    @property
    def _address(self) -> str:
        at = f"inputs/{self.input_id}/save" if self.input_id != ITSELF else "rename"
        return f"/rigs/{RIG}/{at}/"

    def order(self, path: str, fields: dict[str, str]) -> int:
        """Have work done in the background; the answer's status."""
        if not self._form:
            self.open()
        return self.ask("POST", path, fields)[0]

    def edit(self, told: Told, name: str) -> None:
        """Rename the input, until that is answered."""
        told.sent += 1
        while True:
            try:
                if not self._form:
                    self.open()
                began = time.monotonic()
                status, text = self.ask("POST", self._address, {"part": "name", "name": name})
            except OSError:
                told.unanswered += 1
                time.sleep(0.2)
                continue
            told.slowest_s = max(told.slowest_s, time.monotonic() - began)
            if status == 302:
                told.kept[self.input_id] = name
            else:
                told.refused.append(f"{status}: {text[:120]}")
            return


def edit_from_pages(port: int, minutes: float) -> Told:
    """Pages that change one rig at the same time, a change every 2 s each."""
    first = Page(port, "")
    text = first.sheet()
    inputs = [ITSELF, *re.findall(r'data-row="([a-z0-9-]+)"', text)]
    if len(inputs) < PAGES:
        raise KettleError(f"The rig has something to rename for {len(inputs)} pages only.")
    told, end_at = Told(), time.monotonic() + minutes * 60

    def work(number: int) -> None:
        page, count = Page(port, inputs[number]), 0
        while time.monotonic() < end_at:
            count += 1
            page.edit(told, f"Page {number}, change {count}")
            time.sleep(EVERY_S * random.uniform(0.5, 1.5))  # noqa: S311

    # Of two pages that rename one input the last wins, so each has its own.
    threads = [threading.Thread(target=work, args=(n,)) for n in range(PAGES)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    text = first.sheet()
    now = dict(re.findall(r'id="name-([a-z0-9-]+)" name="name" value="([^"]*)"', text))
    now[ITSELF] = (re.findall(r"<title>\s*Patch sheet · ([^<·]*?)\s*[<·]", text) or [""])[0]
    lost = {i: (n, now.get(i)) for i, n in told.kept.items() if now.get(i) != n}
    if lost:
        raise KettleError(f"Changes were lost: {lost}")
    return told


def kill_at_random(demo: int, kills: int, every_s: float) -> dict[str, int]:
    """Kill web and workers of a demo at random moments; how often each was."""
    counts: dict[str, int] = {}
    while sum(counts.values()) < kills:
        time.sleep(random.uniform(0.5, 2 * every_s - 0.5))  # noqa: S311
        name = random.choice(VICTIMS)  # noqa: S311
        # It may be on its way back from the last time.
        with contextlib.suppress(KettleError):
            os.kill(pid_of(name, demo), signal.SIGKILL)
            counts[name] = counts.get(name, 0) + 1
    return counts


def order_at_times(port: int, over: threading.Event) -> dict[str, int]:
    """Order work of each queue until it is over; how often each was answered so."""
    page, answers, count = Page(port, ""), dict[str, int](), 0
    while not over.wait(ORDER_EVERY_S):
        path, fields = ORDERS[count % len(ORDERS)]
        count += 1
        try:
            status = str(page.order(path, fields))
        except OSError:
            status = "none"
        answers[f"{path} {status}"] = answers.get(f"{path} {status}", 0) + 1
    return answers


def jobs_end(port: int) -> list[str]:
    """Wait until no job waits or runs, as long as they get on; gives how each ended."""
    deadline, page, before = time.monotonic() + STANDS_S, Page(port, ""), None
    while time.monotonic() < deadline:
        with contextlib.suppress(OSError, ValueError):
            _, text = page.ask("GET", "/jobs/", accept="application/json")
            jobs = json.loads(text)["jobs"]
            if all(job["is_over"] for job in jobs):
                return [f"{job['title']}: {job['state']} {job['sentence']}" for job in jobs]
            if jobs != before:
                deadline, before = time.monotonic() + STANDS_S, jobs
        time.sleep(1)
    raise KettleError(f"Jobs have stood still for {STANDS_S:.0f} s: {before}")


def soak_web(minutes: float, kills: int) -> int:
    """Edit from ten pages, then again while web and workers are killed."""
    with tempfile.TemporaryDirectory() as name, application(Path(name)) as (base, demo, client):
        port = urllib.parse.urlsplit(base).port or 0
        calm = edit_from_pages(port, minutes)
        print(_line("10 pages", calm), flush=True)
        counts: dict[str, int] = {}
        killer = threading.Thread(
            target=lambda: counts.update(kill_at_random(demo, kills, KILL_EVERY_S)), daemon=True
        )
        ordered: dict[str, int] = {}
        over = threading.Event()
        orders = threading.Thread(
            target=lambda: ordered.update(order_at_times(port, over)), daemon=True
        )
        orders.start()
        killer.start()
        refused = list(calm.refused)
        while killer.is_alive():
            stormy = edit_from_pages(port, 0.5)
            refused += stormy.refused
            print(_line("killed meanwhile", stormy), flush=True)
        killer.join()
        over.set()
        orders.join()
        print(f"killed: {json.dumps(counts)}, ordered: {json.dumps(ordered)}")
        for line in jobs_end(port):
            print(line)
        stood = flood(Path(name), port, pid_of("web", demo), client)
    return 1 if refused or calm.slowest_s > LONGEST_ANSWER_S or not stood else 0


def _line(words: str, told: Told) -> str:
    return (
        f"{words}: {told.sent} changes, none lost, {len(told.refused)} refused {told.refused[:2]}, "
        f"{told.unanswered} asked again, slowest answer {told.slowest_s:.2f} s"
    )
