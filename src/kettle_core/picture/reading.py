"""Reading size: how high the smallest text on a display is, found in the picture itself.

Glyph-like shapes are connected runs of ink; those that stand beside each other on one base line
make a line of text, and the height of its tall letters (capitals, digits, ascenders) is its
size. No text is recognised.
"""

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

Plane = NDArray[np.uint8]
Boxes = NDArray[np.int32]
SEEN_AT_LINES = (2160, 1080, 720, 480)
CONTRAST = 34
LEAST_PX, MOST_PX = 4, 120
LEAST_GLYPHS = 4
TALL = 85
READS_WELL_PX, READS_PX = 10.0, 7.0


@dataclass(frozen=True)
class TextLine:
    """A line of text: `height_px` of its tall letters, how many glyphs, where it stands, in px."""

    height_px: float
    glyphs: int
    left: int
    right: int
    base: int


def text_lines(luma: Plane) -> list[TextLine]:
    """Lines of text in a picture, light on dark and dark on light.

    Parameters
    ----------
    luma : (rows, columns) uint8

    Returns
    -------
    list of TextLine, in no order
    """
    ground = cv2.medianBlur(luma, 31) if min(luma.shape) > 31 else np.full_like(luma, 128)
    found: list[TextLine] = []
    for ink in (cv2.subtract(ground, luma), cv2.subtract(luma, ground)):
        found += _lines_of(_glyphs(np.asarray(ink, np.uint8)))
    return found


def _glyphs(ink: Plane) -> Boxes:
    """Boxes (left, top, width, height) of shapes that could be letters."""
    shapes = (ink > CONTRAST).astype(np.uint8)
    _, _, stats, _ = cv2.connectedComponentsWithStats(shapes, connectivity=8)
    boxes = stats[1:, :4].astype(np.int32)
    area = stats[1:, 4]
    width, height = boxes[:, 2], boxes[:, 3]
    fits = (height >= LEAST_PX) & (height <= MOST_PX) & (width <= 2.2 * height)
    # Rules and frames fill little of their box or all of a long one; letters neither.
    fits &= (area >= 0.12 * width * height) & ~((width < 0.16 * height) & (height > 30))
    return boxes[fits]


def _lines_of(boxes: Boxes) -> list[TextLine]:
    """Lines of upright and of upside-down text; each shape counts in the longer of its lines."""
    foot = int((boxes[:, 1] + boxes[:, 3]).max(initial=0))
    over = boxes.copy()
    over[:, 1] = foot - boxes[:, 1] - boxes[:, 3]
    lines = _chained(boxes) + _chained(over)
    lines = [x for x in lines if len(x) >= LEAST_GLYPHS]
    claimed: set[int] = set()
    found = []
    for line in sorted(lines, key=len, reverse=True):
        if len(claimed.intersection(line)) * 2 > len(line):
            continue
        claimed.update(line)
        rows = boxes[line]
        if _looks_like_text(rows):
            tall = float(np.percentile(rows[:, 3], TALL))
            right = int((rows[:, 0] + rows[:, 2]).max())
            base = int(np.median(rows[:, 1] + rows[:, 3]))
            found.append(TextLine(tall, len(line), int(rows[0, 0]), right, base))
    return [x for x in found if not any(_is_part_of(x, y) for y in found)]


def _is_part_of(part: TextLine, line: TextLine) -> bool:
    """Whether a word without tall letters stands beside the rest of its line."""
    gap = max(part.left - line.right, line.left - part.right)
    beside = gap <= 2 * line.height_px and abs(part.base - line.base) <= 0.3 * line.height_px
    return beside and 0.6 * line.height_px <= part.height_px < 0.9 * line.height_px


def _chained(boxes: Boxes) -> list[list[int]]:
    """Shapes that follow each other on one base line, at distances that letters have."""
    rows = boxes.tolist()
    lines: list[list[int]] = []
    near: list[list[int]] = []
    for n in np.argsort(boxes[:, 0], kind="stable").tolist():
        farthest = rows[n][0] - 1.1 * MOST_PX
        near = [x for x in near if rows[x[-1]][0] + rows[x[-1]][2] >= farthest]
        line = next((x for x in reversed(near) if _follows(rows, x, rows[n])), None)
        if line is None:
            lines.append([n])
            near.append(lines[-1])
        else:
            line.append(n)
    return lines


def _follows(rows: list[list[int]], line: list[int], box: list[int]) -> bool:
    """Whether a shape goes on a line of others."""
    left, top, _, height = box
    before = [rows[n] for n in line[-4:]]
    high = max(height, *(b[3] for b in before))
    gap = left - before[-1][0] - before[-1][2]
    if not -0.3 * high <= gap <= 1.1 * high:
        return False
    # Of the last four one at least stands on the base line; g, p and y hang below it.
    foot = top + height
    return min(abs(foot - b[1] - b[3]) for b in before) <= max(1, 0.14 * high)


def _looks_like_text(line: Boxes) -> bool:
    """Letters differ in width; a row of equal bars or dashes does not."""
    heights = line[:, 3]
    return len(set(line[:, 2].tolist())) > 1 and heights.min() >= 0.3 * heights.max()


def smallest_text_px(luma: Plane) -> float | None:
    """Height in px of the smallest text's tall letters; None where no text is found.

    A size counts when at least two lines or eight letters have it, so that one odd shape does
    not decide.
    """
    lines = sorted(text_lines(luma), key=lambda line: line.height_px)
    for line in lines:
        near = [x for x in lines if abs(x.height_px - line.height_px) <= 1]
        if len(near) > 1 or line.glyphs >= 8:
            return line.height_px
    return None


@dataclass(frozen=True)
class ReadingSize:
    """Text of a height as it is seen on so many lines, with a verdict: well, small, too small."""

    lines: int
    height_px: float
    verdict: str


def reading_sizes(height_px: float, scale: float, frame_height: int) -> tuple[ReadingSize, ...]:
    """How high text is when the program is seen at usual heights.

    Parameters
    ----------
    height_px : float, height of the text in the input's picture
    scale : float, frame px for each px of the picture
    frame_height : int, in px
    """
    found = []
    for lines in SEEN_AT_LINES:
        seen_px = height_px * scale * lines / frame_height
        verdict = "too small"
        if seen_px >= READS_PX:
            verdict = "reads well" if seen_px >= READS_WELL_PX else "small"
        found.append(ReadingSize(lines, seen_px, verdict))
    return tuple(found)
