"""The order of work: its steps, where each leads, and how it stands."""

from django.urls import reverse

from kettle_core.rig.format_findings import format_findings
from kettle_core.rig.rig import Rig as RigValues
from kettle_core.rig.sound_changes import sounds_of
from kettle_web.models import Export, Rig, Take, Tutorial, Version
from kettle_web.rigs.sheet import patch_sheet_findings
from kettle_web.rigs.tutorials import tutorial_for


def path_steps(rig: Rig, tutorial: Tutorial | None = None) -> list[dict[str, str]]:
    """The order of work with each step's state: "ready", "look" or "new".

    What is made of takes is that of `tutorial`, which a page is about, else what is worked on.
    """
    if rig.of_take:
        return _steps_of_take(rig, rig.of_take)
    ready = not patch_sheet_findings(rig.values)
    inputs = ("ready", "ready") if ready else ("look", "look at this")
    record = ("ready", "ready") if ready else ("look", "something would be missing")
    silent = [s.name for s in rig.values.scenes if rig.values.voice_in(s) is None]
    scenes = ("look", f"no voice in {' and '.join(silent)}") if silent else ("ready", "ready")
    takes = ("ready", "recorded") if rig.takes.exists() else ("new", "nothing recorded yet")
    steps = (
        ("Inputs", "patch-sheet", inputs),
        ("Scenes", "scenes", scenes),
        ("Sound", "sound", _sound_step(rig.values)),
        ("Format", "format", _format_step(rig.values)),
        ("Record", "record", record),
        ("Takes", "takes", takes),
    )
    found = [
        {"name": name, "address": reverse(url, args=[rig.slug]), "state": state, "words": words}
        for name, url, (state, words) in steps
    ]
    return [*found, *_steps_after(tutorial or tutorial_for(rig=rig))]


def _steps_after(tutorial: Tutorial) -> list[dict[str, str]]:
    """What is made of a tutorial's takes; nothing of one that is not begun yet."""
    if tutorial.pk is None:
        return []
    cut = Version.objects.filter(tutorial=tutorial, revision__gt=1).exists()
    words = ("ready", "cut") if cut else ("new", "not cut yet")
    made = Export.objects.filter(version__tutorial=tutorial).exclude(result={}).exists()
    done = ("ready", "made") if made else ("new", "nothing made yet")
    return [
        {"name": name, "address": reverse(url, args=[tutorial.pk]), "state": state, "words": words}
        for name, url, (state, words) in (
            ("Assembly", "tutorial-assembly", words),
            ("Export", "tutorial-export", done),
        )
    ]


def _steps_of_take(rig: Rig, take: Take) -> list[dict[str, str]]:
    """What of a take's own rig can be changed after it was recorded, and the take itself."""
    ready = {"state": "ready", "words": "changed for this take only"}
    pages = (("Scenes", "scenes"), ("Sound", "sound"))
    steps = [{"name": n, "address": reverse(url, args=[rig.slug]), **ready} for n, url in pages]
    return [*steps, {"name": "Take", "address": take.get_absolute_url(), **ready}]


def _sound_step(values: RigValues) -> tuple[str, str]:
    """Whether every recorded sound goes somewhere, and a voice was looked after."""
    sent = {s.input_id for t in values.stems for s in t.sends}
    sounds = [i for i in sounds_of(values) if i.recorded]
    nowhere = [i.name for i in sounds if i.id not in sent]
    if nowhere:
        return "look", f"{' and '.join(nowhere)} on no stem"
    return ("ready", "ready") if sounds else ("new", "no sound yet")


def _format_step(values: RigValues) -> tuple[str, str]:
    """Whether sizes and rates fit each other."""
    found = format_findings(values)
    return ("look", found[0].sentence) if found else ("ready", "ready")
