"""demo and serve: start web, engine and worker, watch them, end them."""

import os
import shutil
import signal
import socket
import subprocess
import sys
import time
import urllib.error
import urllib.request
from argparse import Namespace
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from kettle_cli.children import end_with_parent
from kettle_cli.paths import DATA, ROOT
from kettle_core.errors import EngineError, KettleError
from kettle_engine.client import EngineClient
from kettle_engine.priority import ANSWERS, SHOWS, WORKS, rank_process

FIRST_PORT, PORTS_TRIED = 8470, 30
START_TIMEOUT_S = 60
# What ends more often rests before it is started again: it must not take the rest with it.
RESTARTS_A_MINUTE, REST_S = 5, 10


# A message of a page has some KB; a request that hangs holds up the end for 5 s at most.
WEB = (
    *("--http", "httptools", "--ws", "websockets-sansio", "--ws-max-size", "65536"),
    *("--lifespan", "off", "--no-server-header", "--no-access-log", "--no-use-colors"),
    *("--timeout-graceful-shutdown", "5"),
)


@dataclass
class Child:
    """A process that is kept running."""

    name: str
    command: list[str]
    nice: int
    process: subprocess.Popen[bytes] | None = None
    restarted_at: list[float] = field(default_factory=list)

    def start(self) -> None:
        """Start it in a session of its own, so that Ctrl-C reaches only us.

        Web and worker end with us whatever happens; the engine may be in a take and stays.
        """
        logs = DATA / "logs"
        logs.mkdir(parents=True, exist_ok=True)
        file = _file_name(self.name)
        # What a library prints by itself; our own lines go into the log, which is rotated.
        with (logs / f"{file}.out").open("wb") as log:
            self.process = subprocess.Popen(
                self.command,
                cwd=ROOT,
                env={**os.environ, "KETTLE_LOG": file},
                stdout=log,
                stderr=log,
                start_new_session=True,
                preexec_fn=None if self.name == "engine" else end_with_parent,  # noqa: PLW1509
            )
        rank_process(self.process.pid, self.nice)


def _file_name(name: str) -> str:
    return name.replace(" ", "-")


def demo(options: Namespace) -> int:
    """Make demo data and start everything."""
    if options.fresh and DATA.exists():
        _refuse_while_running("deleted")
        shutil.rmtree(DATA)
    return _run(options.port, with_demo=True)


def serve(options: Namespace) -> int:
    """Start everything with your own data."""
    return _run(options.port, with_demo=False)


def _refuse_while_running(what: str) -> None:
    try:
        EngineClient(DATA, timeout_ms=500).ask("hello")
    except EngineError:
        return
    raise KettleError(f"Vast Kettle runs with this data, so it was not {what}. End it first.")


def _run(port: int | None, with_demo: bool) -> int:
    port = _free_port(port)
    began = time.monotonic()
    os.environ["KETTLE_DATA"] = str(DATA)
    DATA.mkdir(parents=True, exist_ok=True)
    DATA.chmod(0o700)
    _prepare(with_demo)
    children = _children(port)
    if _engine_answers():
        children.pop(0)
        print("A recording engine runs already and is used.", flush=True)
    ended: list[int] = []
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda got, _frame: ended.append(got))
    for child in children:
        child.start()
    try:
        address = f"http://127.0.0.1:{port}/"
        _wait_for("engine", _engine_answers, children, ended)
        _wait_for("web", lambda: _page_answers(address), children, ended)
        if not ended:
            print(f"Vast Kettle is ready after {time.monotonic() - began:.1f} s: {address}")
            print("Ctrl-C ends it.", flush=True)
        _watch(children, ended)
    finally:
        _end(children)
    return 0


def _children(port: int) -> list[Child]:
    python = [sys.executable, "-m"]
    web = ["uvicorn", "--host", "127.0.0.1", "--port", str(port), *WEB]
    return [
        Child("engine", [*python, "kettle_engine.server", str(DATA)], ANSWERS),
        # What somebody waits for on a page goes before what can wait; recording before both.
        Child("worker soon", [*python, "kettle_web.jobs.worker", "soon"], SHOWS),
        Child("worker long", [*python, "kettle_web.jobs.worker", "long"], WORKS),
        Child("web", [*python, *web, "kettle_web.asgi:application"], ANSWERS),
    ]


def _prepare(with_demo: bool) -> None:
    """Migrate, collect static files, make demo data, bring takes into order."""
    import django

    django.setup()
    from django.core.management import call_command

    call_command("migrate", verbosity=0, interactive=False)
    call_command("collectstatic", verbosity=0, interactive=False, clear=True)
    from kettle_web.rigs.services import make_demo_rig
    from kettle_web.takes.services import order_demo_takes

    if with_demo:
        make_demo_rig()
        # Tests that need none save the time.
        if os.environ.get("KETTLE_DEMO_TAKES") != "0":
            order_demo_takes()


def _free_port(wanted: int | None) -> int:
    if wanted is not None:
        if not 1 <= wanted <= 65535:
            raise KettleError(f"A port is a number from 1 to 65535, got {wanted}.")
        if not _is_free(wanted):
            raise KettleError(f"Port {wanted} is in use; choose another one with --port.")
        return wanted
    for port in range(FIRST_PORT, FIRST_PORT + PORTS_TRIED):
        if _is_free(port):
            return port
    raise KettleError(
        f"The ports {FIRST_PORT} to {FIRST_PORT + PORTS_TRIED - 1} are all in use; "
        "name a free one with --port."
    )


def _is_free(port: int) -> bool:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
    return True


def _engine_answers() -> bool:
    try:
        EngineClient(DATA, timeout_ms=300).ask("hello")
    except EngineError:
        return False
    return True


def _page_answers(address: str) -> bool:
    try:
        with urllib.request.urlopen(address, timeout=5) as answer:  # noqa: S310
            return bool(answer.status == 200)
    except (urllib.error.URLError, OSError):
        return False


def _wait_for(
    name: str, answers: Callable[[], bool], children: list[Child], ended: list[int]
) -> None:
    deadline = time.monotonic() + START_TIMEOUT_S
    while not ended and not answers():
        child = next((c for c in children if c.name == name), None)
        gone = child and child.process and child.process.poll() is not None
        if gone or time.monotonic() > deadline:
            raise KettleError(f"The {name} did not start; {_log_end(name)}")
        time.sleep(0.1)


def _log_end(name: str) -> str:
    path: Path = DATA / "logs" / f"{_file_name(name)}.out"
    lines = path.read_text(errors="replace").strip().splitlines() if path.exists() else []
    return f"{path} ends with: {lines[-1] if lines else 'nothing'}"


def _watch(children: list[Child], ended: list[int]) -> None:
    """Start again what ends by itself; what does so again and again waits between its starts."""
    while not ended:
        time.sleep(0.3)
        for child in children:
            if child.process and child.process.poll() is not None and not ended:
                now = time.monotonic()
                child.restarted_at = [t for t in child.restarted_at if t > now - 60]
                often = len(child.restarted_at) > RESTARTS_A_MINUTE
                if often and now - child.restarted_at[-1] < REST_S:
                    continue
                child.restarted_at.append(now)
                print(f"The {child.name} ended by itself and is started again.", flush=True)
                if often:
                    print(f"It does so again and again; {_log_end(child.name)}", flush=True)
                child.start()


def _end(children: list[Child]) -> None:
    """End web and worker, then the engine, which finishes a running take first."""
    for child in reversed(children):
        if child.process and child.process.poll() is None:
            child.process.terminate()
    for child in reversed(children):
        if child.process:
            try:
                child.process.wait(15)
            except subprocess.TimeoutExpired:
                child.process.kill()
                child.process.wait()
