"""A library as it is after years: how soon every page of it answers, and by how many questions."""

import os
import shutil
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from typing import Any
from uuid import uuid4

from kettle_media.take.folder import TakeFolder

RIGS, TUTORIALS, TOGETHER = 200, 300, 100
# A page's limits: until it is there, ms, and how often it asks the data base.
READY_MS, QUERIES, CUT_MS = 1000.0, 15, 150.0

Times = Callable[[Callable[[], Any]], tuple[float, float]]


def library_pages(data: Path, folder: TakeFolder, times_ms: Times) -> list[str]:
    """What is beyond its limit of the pages of a large library; each is printed.

    Parameters
    ----------
    data : a library of Django's, with many takes
    folder : a short take, which is laid there a hundred times
    times_ms : gives the longest and the middle one of some answers
    """
    from django.db import connection
    from django.test import Client

    tutorial = _fill(data, folder)
    client = Client(headers={"host": "127.0.0.1"})
    version = tutorial.versions.get()
    rig = f"/rigs/{_rig_slug()}/"
    wrong = []
    for words, address in (
        ("start", "/"),
        ("the bin", "/library/bin/"),
        ("patch sheet", rig),
        ("Record", f"{rig}record/"),
        ("takes of a rig", f"{rig}takes/"),
        (f"tutorial of {TOGETHER} takes", tutorial.get_absolute_url()),
        ("its assembly", version.get_absolute_url()),
        ("its export", f"/assembly/{version.pk}/export/"),
        ("jobs", "/jobs/"),
    ):
        asked = _Asked()
        with ExitStack() as stack:
            stack.enter_context(connection.execute_wrapper(asked))
            client.get(address)
        worst, median = times_ms(lambda: client.get(address))  # noqa: B023
        print(
            f"{words}: {median:.0f} ms, worst {worst:.0f} ms (limit {READY_MS:g}), "
            f"{asked.count} queries (limit {QUERIES})"
        )
        if worst > READY_MS or asked.count > QUERIES:
            wrong.append(words)
    pieces = iter(range(1, TOGETHER))

    def cut() -> Any:
        piece = f"p{next(pieces)}"
        places = {"from_piece": piece, "until_piece": piece, "from_s": 1.0, "until_s": 1.5}
        address = f"/assembly/{version.pk}/change/"
        return client.post(address, {"part": "out", **places}, follow=True)

    worst, median = times_ms(cut)
    print(f"a cut in it: {median:.0f} ms, worst {worst:.0f} ms (limit {CUT_MS:g} in the middle)")
    return [*wrong, *(["a cut"] if median > CUT_MS else [])]


class _Asked:
    """Counts questions to the data base."""

    def __init__(self) -> None:
        self.count = 0

    def __call__(self, execute: Callable[..., Any], *asked: Any) -> Any:
        self.count += 1
        return execute(*asked)


def _rig_slug() -> str:
    from kettle_web.models import Rig

    return str(Rig.objects.values_list("slug", flat=True)[0])


def _fill(data: Path, folder: TakeFolder) -> Any:
    """Rigs, tutorials, and one of them with many takes; gives that."""
    from django.utils import timezone

    from kettle_media.rig_document import rig_to_dict
    from kettle_studio.demo import demo_rig
    from kettle_web.models import Take, Tutorial
    from kettle_web.rigs.services import keep_rig, make_demo_rig
    from kettle_web.takes.reading import read_take_from_disk

    rig = make_demo_rig()
    for number in range(RIGS):
        keep_rig(document=rig_to_dict(replace(demo_rig(), name=f"Rig {number}")))
    for number in range(TUTORIALS):
        Tutorial.objects.create(name=f"Lesson {number}")
    tutorial = Tutorial.objects.create(name="A hundred takes")
    for number in range(1, TOGETHER + 1):
        target = data / "takes" / f"together-{number}"
        shutil.copytree(folder.path, target, copy_function=_linked)
        one = TakeFolder(target)
        one.write_info(replace(one.read_info(), id=str(uuid4())))
        take = Take.objects.create(
            tutorial=tutorial, rig=rig, folder=target.name, name=f"Take {number}", number=number,
            recorded_at=timezone.now(),
        )  # fmt: skip
        read_take_from_disk(take=take)
    return tutorial


def _linked(source: str, target: str) -> None:
    if source.endswith("take.json"):
        shutil.copy2(source, target)
    else:
        os.link(source, target)
