"""Debian's Chromium, as tests and measurements drive it."""

from pathlib import Path
from typing import TYPE_CHECKING

from kettle_cli.installing import need_debian, need_node_packages
from kettle_core.errors import KettleError

if TYPE_CHECKING:
    from playwright.sync_api import Browser, Playwright

SHELL, WHOLE = Path("/usr/bin/chromium-headless-shell"), Path("/usr/bin/chromium")
FLAGS = (
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
)


def need_chromium() -> Path:
    """The program, which is installed where there is none yet.

    The one without windows of its own draws a page with a sixth less time than the whole one.
    """
    try:
        need_debian(SHELL.name, SHELL)
    except KettleError:
        need_debian(WHOLE.name, WHOLE)
    return SHELL if SHELL.exists() else WHOLE


def need_for_pages() -> None:
    """Install what pages are driven and checked with."""
    need_chromium()
    need_node_packages()


def launch(playwright: "Playwright") -> "Browser":
    """A browser with a profile of its own."""
    return playwright.chromium.launch(executable_path=str(need_chromium()), args=list(FLAGS))


if __name__ == "__main__":
    need_for_pages()
