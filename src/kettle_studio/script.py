"""What happens in the studio, second by second, over and over: one lesson of 64 s.

Odile Fernhollow lays out a sheet in Quirefold. A `Step` puts one page on the sheet with a
click that is seen (the page lights up) and heard (a snap in system audio). A knock is the
bone folder on the desk, seen by the webcam and heard by the microphone.
"""

from dataclasses import dataclass

LOOP_S = 64

SPOKEN: tuple[tuple[float, str], ...] = (
    (0.5, "Hello, I am Odile, and today we plan a sheet that folds into a signature."),
    (6.0, "Look at the pages: they are not in order, and half of them stand on their heads."),
    (12.4, "Page five goes here, turned round."),
    (16.1, "Twelve comes next to it."),
    (19.2, "Then nine, and then eight."),
    (22.6, "Why is eight beside nine? Because they share the middle fold."),
    (27.3, "On the lower half, four and thirteen."),
    (31.2, "Then sixteen and one, the outside of the signature."),
    (35.6, "Now set the gutter to four and a half millimetres."),
    (40.1, "The paper is thick, so the inner pages creep outwards a little."),
    (44.9, "I allow three tenths of a millimetre."),
    (48.6, "Check the fold lines. First the long one, then the short one."),
    (53.5, "That is the whole sheet. Print it, fold it, and count the pages."),
    (58.9, "If they run from one to sixteen, sew it."),
)


@dataclass(frozen=True)
class Step:
    """A page put on the sheet: when, which place (column, row), which page, turned or not."""

    second: float
    column: int
    row: int
    page: int
    turned: bool


STEPS: tuple[Step, ...] = (
    Step(4.35, 0, 0, 5, True),
    Step(13.62, 1, 0, 12, True),
    Step(17.27, 2, 0, 9, True),
    Step(21.14, 3, 0, 8, True),
    Step(29.41, 0, 1, 4, False),
    Step(32.83, 1, 1, 13, False),
    Step(34.90, 2, 1, 16, False),
    Step(39.07, 3, 1, 1, False),
)

# Clicks on a field of the side bar: seen as its highlight, heard as a snap.
FIELD_CLICKS: tuple[tuple[float, int], ...] = (
    (8.71, 0),
    (25.58, 1),
    (36.42, 2),
    (43.74, 3),
    (47.93, 3),
    (51.36, 0),
    (57.18, 1),
    (62.05, 2),
)

KNOCKS_S: tuple[float, ...] = (
    2.913, 6.207, 9.871, 14.344, 18.538, 23.119, 26.677, 30.252,
    33.481, 37.826, 42.009, 45.563, 50.148, 54.302, 58.431, 61.274,
)  # fmt: skip

TYPED: tuple[tuple[float, str, int], ...] = (
    (36.9, "4.5 mm", 2),
    (44.3, "0.3 mm", 3),
)
TYPING_STEP_S = 0.17


def snaps_s() -> tuple[float, ...]:
    """Every second of the lesson at which system audio snaps, rising."""
    clicks = [step.second for step in STEPS] + [second for second, _ in FIELD_CLICKS]
    return tuple(sorted(clicks))


# Messages that pop up on the second display: second, program, sender, text.
MESSAGES: tuple[tuple[float, str, str, str], ...] = (
    (7.5, "Mail", "Tamsin Quillby", "The linen thread has come, three colours"),
    (23.8, "Messages", "Corvin Astley", "Are we still on for the marbling day?"),
    (41.3, "Mail", "Harrow Paper Mill", "Your order 2217 leaves us on Tuesday"),
    (55.6, "Messages", "Tamsin Quillby", "Which awl did you mean, the short one?"),
)
MESSAGE_SHOWN_S = 5.0

# Touches on the tablet: each moves the sewing plan on by one station.
TOUCHES_S: tuple[float, ...] = (
    3.4, 8.1, 12.9, 17.6, 22.2, 27.5, 31.8, 36.9, 41.6, 46.4, 51.1, 56.3, 60.7,
)  # fmt: skip
STATIONS = 13
