"""demo and serve: start web, engine and worker, watch them, end them."""

import os
import shutil
import signal
import socket
import sys
import time
import urllib.error
import urllib.request
from argparse import Namespace
from collections.abc import Callable
from pathlib import Path

from kettle_cli.children import Child, end, fork, log_end, program, watch
from kettle_cli.paths import DATA
from kettle_core.errors import EngineError, KettleError
from kettle_engine.client import EngineClient
from kettle_engine.code import code_digest
from kettle_engine.pace import LEAST_PER_S, MOST_PER_S, REFRESH
from kettle_engine.protocol import IDLE, WATCHING
from kettle_media.priority import ANSWERS, SHOWS, WORKS

# What lies in a data folder, and the file that says that it is one (docs/architecture.md).
MARK = ".vast-kettle"
OURS = (
    *("db.sqlite3", "db.sqlite3-wal", "db.sqlite3-shm", "takes", "pictures", "studio", "material"),
    *("heard", "logs", "static", "rings", "files", "exports", "trials", "viewers", "secret.txt"),
    MARK,
)
FIRST_PORT, PORTS_TRIED = 8470, 30
START_TIMEOUT_S = 60
# A message of a page has some KB; a request that hangs holds up the end for 5 s at most.
MESSAGE_BYTES, END_S = 65536, 5


def demo(options: Namespace) -> int:
    """Make demo data and start everything."""
    if options.yes and not options.fresh:
        raise KettleError("--yes goes with --fresh.")
    if options.fresh and DATA.exists():
        _refuse_while_running("deleted")
        delete_data(DATA, options.yes)
    return _run(options, with_demo=True)


def serve(options: Namespace) -> int:
    """Start everything with your own data."""
    return _run(options, with_demo=False)


def delete_data(data: Path, is_sure: bool) -> None:
    """Delete what Vast Kettle has put into its data folder, and nothing else.

    Raises KettleError where the folder is not marked as ours, or takes are in it and nobody has
    said that they may go.
    """
    if not (data / MARK).is_file():
        if not any(data.iterdir()):
            return
        raise KettleError(
            f"{data} was not made by Vast Kettle, so nothing was deleted. Name another folder with "
            "KETTLE_DATA, or empty this one yourself."
        )
    takes = len(list((data / "takes").glob("*/take.json")))
    if takes and not is_sure:
        raise KettleError(
            f"{takes} takes lie in {data}, so nothing was deleted. Add --yes to delete them too."
        )
    for name in OURS:
        path = data / name
        if path.is_dir() and not path.is_symlink():
            shutil.rmtree(path)
        else:
            path.unlink(missing_ok=True)
    left = sorted(path.name for path in data.iterdir())
    if left:
        print(f"Left as it was, as it is not ours: {', '.join(left[:9])}.", flush=True)


def _refuse_while_running(what: str) -> None:
    if _engine_listens():
        raise KettleError(f"Vast Kettle runs with this data, so it was not {what}. End it first.")


def _run(options: Namespace, with_demo: bool) -> int:
    port = _free_port(options.port)
    began = time.monotonic()
    os.environ["KETTLE_DATA"] = str(DATA)
    if not LEAST_PER_S <= options.refresh <= MOST_PER_S:
        raise KettleError(f"--refresh takes a number from {LEAST_PER_S} to {MOST_PER_S}.")
    os.environ[REFRESH] = str(options.refresh)
    DATA.mkdir(parents=True, exist_ok=True)
    DATA.chmod(0o700)
    # Who finds it knows whose data this is.
    (DATA / MARK).touch()
    engine = Child(
        "engine", program(sys.executable, "-m", "kettle_engine.server", str(DATA)), ANSWERS
    )
    children = [
        # What somebody waits for on a page goes before what can wait; recording before both.
        Child("worker soon", fork(_work, "soon"), SHOWS),
        Child("worker long", fork(_work, "long"), WORKS),
        Child("web", fork(answer_pages, port), ANSWERS),
    ]
    ended: list[int] = []
    # A terminal that is closed ends it as Ctrl-C does: the engine finishes a running take.
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, lambda got, _frame: ended.append(got))
    try:
        if not _uses_running_engine():
            # It takes as long to start as the rest.
            engine.start()
            children.insert(0, engine)
        _prepare(with_demo)
        for child in children[-3:]:
            child.start()
        address = f"http://127.0.0.1:{port}/"
        _wait_for("engine", _engine_listens, children, ended)
        _wait_for("web", lambda: _page_answers(address), children, ended)
        if not ended:
            print(f"Vast Kettle is ready after {time.monotonic() - began:.1f} s: {address}")
            print("Ctrl-C ends it.", flush=True)
        watch(children, ended)
    finally:
        end(children)
    return 0


def _work(queue: str) -> None:
    from kettle_web.jobs.worker import work

    work(queue)


def answer_pages(port: int) -> None:
    """Answer pages and sockets until the process is ended."""
    import uvicorn

    from kettle_web.asgi import application

    uvicorn.run(
        application,
        port=port,
        http="httptools",
        ws="websockets-sansio",
        ws_max_size=MESSAGE_BYTES,
        lifespan="off",
        server_header=False,
        access_log=False,
        use_colors=False,
        timeout_graceful_shutdown=END_S,
    )


def _uses_running_engine() -> bool:
    """Whether an engine is there that goes on; one of older code is ended unless it records."""
    if not _engine_listens():
        return False
    try:
        client = EngineClient(DATA, timeout_ms=4000)
        found, state = client.ask("hello"), client.ask("status")["state"]
    except EngineError:
        # It does not answer, and its lock keeps others out.
        return True
    if found.get("code") == code_digest():
        print("A recording engine runs already and is used.", flush=True)
        return True
    if state not in (IDLE, WATCHING):
        print("A recording engine of older code records and is used; start anew after the take.")
        return True
    print("A recording engine of older code runs and is started again.", flush=True)
    os.kill(int(found["pid"]), signal.SIGTERM)
    deadline = time.monotonic() + START_TIMEOUT_S
    while _engine_listens() and time.monotonic() < deadline:
        time.sleep(0.1)
    return False


def _prepare(with_demo: bool) -> None:
    """Load what web and workers need, migrate, collect static files, make demo data.

    What is forked afterwards goes on with it: no threads and no connections are left here.
    """
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    import django
    import uvicorn  # noqa: F401

    django.setup()
    from django.db import OperationalError, connections

    from kettle_web.jobs.kinds import load_kinds

    load_kinds()
    try:
        _begin_library(with_demo)
    except (OSError, OperationalError) as error:
        raise KettleError(
            f"Vast Kettle can't begin with the data in {DATA}: {error}. "
            "See that there is room and that it may be written to, and start it again."
        ) from error
    import kettle_web.asgi
    import kettle_web.urls  # noqa: F401

    connections.close_all()


def _begin_library(with_demo: bool) -> None:
    from django.core.management import call_command

    from kettle_web.frame.static_files import collect_static
    from kettle_web.rigs.services import make_demo_rig
    from kettle_web.takes.demo import order_demo_takes

    call_command("migrate", verbosity=0, interactive=False)
    collect_static()
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


def _engine_listens() -> bool:
    return EngineClient(DATA).is_listening()


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
        if (child and child.is_over) or time.monotonic() > deadline:
            raise KettleError(f"The {name} did not start; {log_end(name)}")
        time.sleep(0.1)
