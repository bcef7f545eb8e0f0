"""A few of a track's small pictures beside each other: what moves on a take's card."""

import numpy as np
import simplejpeg

from kettle_core.errors import TakeError
from kettle_media.survey.paths import SurveyPaths
from kettle_media.survey.pictures import Sheets
from kettle_media.take.folder import TakeFolder
from kettle_media.told import Told

PICTURES, MOST_BYTES = 10, 30_000
# The first one that is small enough is taken; the last one always is.
QUALITIES = (70, 50, 30, 15)


def card_strip(folder: TakeFolder, track: str, sheets: Sheets) -> bytes:
    """`PICTURES` small pictures, spread over a take, as one JPEG of at most `MOST_BYTES`.

    Raises
    ------
    TakeError
        If the survey's sheets can't be read.
    """
    per_sheet, paths = sheets.columns * sheets.rows, SurveyPaths(folder)
    numbers = [n * sheets.count // PICTURES for n in range(PICTURES)]
    found = {}
    for number in sorted({n // per_sheet for n in numbers}):
        path = paths.sheet(track, number)
        with Told(path):
            data = path.read_bytes()
        try:
            found[number] = simplejpeg.decode_jpeg(data)
        except ValueError as error:
            raise TakeError(f"{path.name} is damaged: {error}.") from error
    pictures = []
    for number in numbers:
        down, across = divmod(number % per_sheet, sheets.columns)
        top, left = down * sheets.height, across * sheets.width
        picture = found[number // per_sheet][top : top + sheets.height, left : left + sheets.width]
        if picture.shape[:2] != (sheets.height, sheets.width):
            raise TakeError(f"The small pictures of {track} are not as the survey says.")
        pictures.append(picture)
    strip = np.ascontiguousarray(np.hstack(pictures))
    made = b""
    for quality in QUALITIES:
        made = simplejpeg.encode_jpeg(strip, quality)
        if len(made) <= MOST_BYTES:
            break
    return made
