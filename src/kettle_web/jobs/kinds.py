"""Kinds of jobs: each subject registers what it does in its `work` and `demo` modules."""

from collections.abc import Callable
from importlib import import_module
from importlib.util import find_spec
from pkgutil import iter_modules
from typing import TYPE_CHECKING, Any

import kettle_web

if TYPE_CHECKING:
    from kettle_web.jobs.doing import Doing

# What a kind of job does; its `Doing` says what it is about and hears how far it is.
Work = Callable[["Doing"], Any]
MODULES = ("work", "demo")
_KINDS: dict[str, Work] = {}


def job_kind(name: str) -> Callable[[Work], Work]:
    """Register a function as what jobs of a kind do."""

    def register(work: Work) -> Work:
        _KINDS[name] = work
        return work

    return register


def work_of(kind: str) -> Work:
    """What a job of a kind does. Raises KeyError for one that nobody registered."""
    if kind not in _KINDS:
        load_kinds()
    return _KINDS[kind]


def load_kinds() -> None:
    """Load what all kinds of jobs need, once for all workers that are forked afterwards."""
    for subject in iter_modules(kettle_web.__path__, "kettle_web."):
        for name in MODULES:
            if subject.ispkg and find_spec(f"{subject.name}.{name}"):
                import_module(f"{subject.name}.{name}")
