"""test and check: everything that has to hold before a change lands."""

import sys
from argparse import Namespace
from tempfile import TemporaryDirectory

from kettle_cli.browser import need_for_pages
from kettle_cli.installing import BIN, environment, need_node_packages, node
from kettle_cli.paths import ROOT
from kettle_cli.steps import Step, run_lanes

PYTHON_FILES = ["src", "bench", "tests", "scripts", "kettle"]


def check(_: Namespace) -> int:
    """Run lint, types, import contracts and the JavaScript checks."""
    need_node_packages()
    return 1 if run_lanes([_checks()], environment()) else 0


def test(options: Namespace) -> int:
    """Install what tests need, check, run all tests (or one part of them)."""
    if options.part == "browser":
        need_for_pages()
    lanes = [list(filter(None, lane)) for lane in _lanes(options.part)]
    with TemporaryDirectory(prefix="kettle-shared-") as shared:
        # What takes, and what the studio draws, are made once for all steps.
        kept = {"KETTLE_TEST_SHARED": shared, "KETTLE_STUDIO_KEEP": f"{shared}/studio"}
        return 1 if run_lanes(lanes, environment() | kept) else 0


def _lanes(wanted: str | None) -> list[list[Step | None]]:
    """What runs beside each other; of parts not wanted nothing.

    In the first lane is what must be in time: what records, then what drives a browser while it
    does. Before it, while the browser is installed, which keeps the disk busy, stands what only
    computes. In the others what does not mind neighbours gives way to it; that of the engine
    mostly waits, and is followed by what drives a browser and records nothing. That keeps two
    cores busy to the end: every lane takes as long. Engines of tests rank before all, also where
    they should give way: they come after pages that wait for programs.
    """

    def timely(part: str, step: Step) -> Step | None:
        return step if wanted in (None, part) else None

    def beside(part: str, step: Step) -> Step | None:
        step.gives_way = True
        return timely(part, step)

    takes = [
        f"tests.browser.test_{name}"
        for name in ("record", "takes", "library", "whole_way", "ground")
    ]
    checks = _checks() if wanted is None else []
    installing = Step("installing", [sys.executable, "-m", "kettle_cli.browser"])
    return [
        [
            timely("core", _tests("core", "tests.core")),
            timely("core", _tests("real time", "tests.engine", "tests.cli", how="--tag")),
            timely("web", _tests("real time, pages", "tests.web", how="--tag")),
            timely("browser", _tests("browser, takes", *takes)),
        ],
        [
            installing if wanted is None else None,
            beside("core", _tests("media", "tests.media")),
            beside("web", _tests("web", "tests.web")),
            beside("core", _tests("results", "tests.results")),
            beside("core", _tests("commands and studio", "tests.cli", "tests.studio")),
            *(beside("core", step) for step in checks),
            beside("web", Step("javascript", [node(), "--test", "tests/js/"])),
        ],
        [
            beside("core", _tests("engine", "tests.engine")),
            timely("browser", _tests("browser, rigs", *_others_in_browser(takes))),
        ],
    ]


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
    npx = [node(), "node_modules/.bin/biome"]
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
        ("colours", [sys.executable, "scripts/colours.py"]),
        ("third parties", [sys.executable, "scripts/third_party.py", "--check"]),
        ("biome", [*npx, "check", "src/kettle_web/static", "tests/js"]),
        ("tsc", [node(), "node_modules/.bin/tsc", "--project", "tsconfig.json"]),
    ]
    return [Step(name, command) for name, command in found]
