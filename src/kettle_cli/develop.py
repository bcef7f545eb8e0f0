"""test and check: everything that has to hold before a change lands."""

import os
import shutil
import subprocess
import sys
from argparse import Namespace
from pathlib import Path
from tempfile import TemporaryDirectory

from kettle_cli.paths import ROOT
from kettle_cli.steps import Step, run_lanes
from kettle_core.errors import KettleError

BIN = Path(sys.executable).parent
CHROMIUM = "/usr/bin/chromium"
GIVES_WAY = ["nice", "-n", "10"]
PYTHON_FILES = ["src", "tests", "scripts", "kettle"]


def check(_: Namespace) -> int:
    """Run lint, types, import contracts and the JavaScript checks."""
    return 1 if run_lanes([[_checks()]], _environment()) else 0


def test(options: Namespace) -> int:
    """Install what tests need, check, run all tests (or one part of them)."""
    if options.part in (None, "browser"):
        need_chromium()
        _need_packages()
    rounds = [[list(filter(None, lane)) for lane in lanes] for lanes in _rounds(options.part)]
    with TemporaryDirectory(prefix="kettle-shared-") as shared:
        environment = {**_environment(), "KETTLE_TEST_SHARED": shared}
        return 1 if run_lanes(rounds, environment) else 0


def _rounds(wanted: str | None) -> list[list[list[Step | None]]]:
    """What runs beside each other, and after it; of parts that are not wanted nothing.

    What records in real time waits most of its time: beside it runs, giving way, what does not
    mind neighbours. Two lanes fill two cores; three made what is timed late, and two browsers at
    once took longer than one after the other. Beside them runs what only computes.
    """

    def timely(part: str, step: Step) -> Step | None:
        return step if wanted in (None, part) else None

    def beside(part: str, step: Step) -> Step | None:
        step.command[:0] = GIVES_WAY
        return timely(part, step)

    takes = [f"tests.browser.test_{name}" for name in ("record", "takes", "library", "whole_way")]
    checks = _checks() if wanted is None else []
    first: list[list[Step | None]] = [
        [
            timely("core", _tests("real time", "tests.engine", "tests.cli", how="--tag")),
            timely("web", _tests("real time, pages", "tests.web", how="--tag")),
            beside("core", _tests("media and studio", "tests.media", "tests.studio")),
        ],
        [
            beside("core", _tests("engine", "tests.engine")),
            beside("core", _tests("commands", "tests.cli")),
            beside("web", _tests("web", "tests.web")),
        ],
    ]
    pages: list[list[Step | None]] = [
        [
            timely("browser", _tests("browser, takes", *takes)),
            timely("browser", _tests("browser, rigs", *_others_in_browser(takes))),
        ],
        [
            *(beside("core", step) for step in checks),
            beside("web", Step("javascript", [_node(), "--test", "tests/js/"])),
            beside("core", _tests("core", "tests.core")),
        ],
    ]
    return [first, pages]


def _others_in_browser(labels: list[str]) -> list[str]:
    """All browser tests but some: a step has a limit, and all of them together come near it."""
    found = sorted((ROOT / "tests" / "browser").glob("test_*.py"))
    return [label for path in found if (label := f"tests.browser.{path.stem}") not in labels]


def _tests(name: str, *labels: str, how: str = "--exclude-tag") -> Step:
    """Tests by Django's runner, without those in real time, or those alone."""
    manage = [sys.executable, "-Wd", "-m", "django", "test", "-v", "2"]
    settings = ["--settings", "kettle_web.settings_test"]
    return Step(name, [*manage, *settings, *labels, how, "realtime"])


def _checks() -> list[Step]:
    _need_packages()
    npx = [_node(), "node_modules/.bin/biome"]
    templates = "src/kettle_web"
    pages = [str(p) for p in sorted((ROOT / templates).rglob("*.html"))]
    found = [
        ("ruff", [str(BIN / "ruff"), "check", *PYTHON_FILES]),
        ("ruff format", [str(BIN / "ruff"), "format", "--check", *PYTHON_FILES]),
        ("mypy", [str(BIN / "mypy")]),
        ("import contracts", [str(BIN / "lint-imports"), "--no-cache"]),
        ("migrations", [sys.executable, "-m", "django", "makemigrations", "--check", "--dry-run"]),
        ("djlint", [str(BIN / "djlint"), "--lint", "--quiet", templates]),
        ("djhtml", [str(BIN / "djhtml"), "--check", "--tabwidth", "2", *pages]),
        ("biome", [*npx, "check", "src/kettle_web/static", "tests/js"]),
        ("tsc", [_node(), "node_modules/.bin/tsc", "--project", "tsconfig.json"]),
    ]
    return [Step(name, command) for name, command in found]


def _environment() -> dict[str, str]:
    return {**os.environ, "PATH": f"{BIN}{os.pathsep}{os.environ['PATH']}"}


def _node() -> str:
    """Node's program: the machine's, or the one from PyPI."""
    found = shutil.which("node") or shutil.which("node", path=str(BIN))
    if found:
        return found
    lock = ROOT / "requirements" / "node.lock"
    _run("Installing Node from PyPI", [sys.executable, "-m", "pip", "install", "--quiet",
                                       "--require-hashes", "-r", str(lock)])  # fmt: skip
    return str(BIN / "node")


def _need_packages() -> None:
    """Install the JavaScript checks at the versions of package-lock.json."""
    lock, stamp = ROOT / "package-lock.json", ROOT / "node_modules" / ".installed"
    if stamp.exists() and stamp.read_text() == lock.read_text():
        return
    npm = shutil.which("npm", path=f"{Path(_node()).parent}{os.pathsep}{os.environ['PATH']}")
    if npm is None:
        raise KettleError("npm is not on this machine; install Debian's package npm.")
    # Not `npm ci`: it wants every platform's optional package, and not all registries have them.
    words = ["install", "--no-save", "--ignore-scripts", "--silent", "--no-audit", "--no-fund"]
    _run("Installing the JavaScript checks", [npm, *words])
    stamp.write_text(lock.read_text())


def need_chromium() -> None:
    """Install Debian's Chromium as root; otherwise say what to install."""
    need_debian("chromium", Path(CHROMIUM))


def need_debian(package: str, brings: Path) -> None:
    """Install a package of Debian's as root if a file of it is missing; else say what to do."""
    if brings.exists():
        return
    if os.geteuid() or not shutil.which("apt-get"):
        raise KettleError(f"This needs {brings}; install Debian's package {package}.")
    _run("Updating Debian's package lists", ["apt-get", "update", "-qq"])
    _run(f"Installing {package}", ["apt-get", "install", "-y", "-qq", package])


def _run(what: str, command: list[str]) -> None:
    print(f"{what} …", flush=True)
    environment = {**_environment(), "DEBIAN_FRONTEND": "noninteractive"}
    done = subprocess.run(
        command, cwd=ROOT, env=environment, stdout=subprocess.DEVNULL, check=False
    )
    if done.returncode:
        raise KettleError(f"{what} failed with status {done.returncode}: {' '.join(command)}")
