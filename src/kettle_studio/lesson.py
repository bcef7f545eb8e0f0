"""The demo's lesson: its running order, and what its teacher changes while recording."""

from kettle_core.program.cues import CloseUp, Cue, GoOn, Mark, Pause, Step, ToScene
from kettle_core.scene.layout import Box
from kettle_core.timing.ticks import NS_PER_S

TITLE = "Planning a signature"
DESCRIPTION = (
    "How the pages of a booklet lie on one large sheet, why half of them stand on their heads, and "
    "how the sheet becomes a sewn signature. For people who fold their first one."
)
OUTLINE = """\
- Title and greeting [0:20]
    Say who you are, and what will be on the table at the end.
- Why pages are out of order [2:10]
    Half of them stand on their heads. Fold a sheet in the air.
- Lay out sheet 2 [3:00]
    Show the turned pages first. Say why 8 is beside 9. Slow on the fold lines.
- Fold it at the bench [4:00]
    Bone folder, long fold first.
- Sew two stations [3:30]
    Wax the thread. Kettle stitch at both ends.
- End card [0:20]
"""
SCENES = ("Title", "Sheet and me", "Sheet and me", "At the bench", "At the bench", "Title")
PART = Box(560, 240, 960, 540)


def lesson_cues() -> tuple[Cue, ...]:
    """What is changed in the demo's longer take: scenes, a close-up, a pause, steps, marks."""

    def at(seconds: float) -> int:
        return round(seconds * NS_PER_S)

    return (
        ToScene(0, "scene-3"),
        Step(0, "Title and greeting"),
        ToScene(at(2.5), "scene-1"),
        Step(at(6), "Why pages are out of order"),
        Mark(at(10.5), "good"),
        CloseUp(at(13), "display-1", PART, 600),
        CloseUp(at(19), "display-1", None, 600),
        Mark(at(21), "again: fold line"),
        Pause(at(22)),
        GoOn(at(29)),
        Step(at(29.5), "Lay out sheet 2"),
        ToScene(at(35), "scene-3"),
        ToScene(at(37), "scene-1"),
    )
