"""Pictures as YUV 4:2:0 planes (BT.709, limited range): conversion, scaling, blending."""

import weakref
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import PictureError
from kettle_core.picture.resample import Line, doubled, resample
from kettle_core.scene.layout import Box

Plane = NDArray[np.uint8]
Alpha = NDArray[np.uint16]
OPAQUE = 256

# ITU-R BT.709-6, items 3.2 to 3.5: Y'CbCr from R'G'B', scaled to 8-bit limited range.
_KR, _KB = 0.2126, 0.0722
_KG = 1.0 - _KR - _KB
_RGB_TO_YUV = np.array(
    [
        [219 / 255 * _KR, 219 / 255 * _KG, 219 / 255 * _KB, 16],
        [
            -224 / 255 * _KR / (2 * (1 - _KB)),
            -224 / 255 * _KG / (2 * (1 - _KB)),
            224 / 255 * 0.5,
            128,
        ],
        [
            224 / 255 * 0.5,
            -224 / 255 * _KG / (2 * (1 - _KR)),
            -224 / 255 * _KB / (2 * (1 - _KR)),
            128,
        ],
    ],
    dtype=np.float32,
)
_inverse = np.linalg.inv(_RGB_TO_YUV[:, :3].astype(np.float64))
_YUV_TO_RGB = np.c_[_inverse, -_inverse @ _RGB_TO_YUV[:, 3]].astype(np.float32)


@dataclass(frozen=True)
class Picture:
    """Planes of one frame: `y` (rows, columns), `u` and `v` (rows / 2, columns / 2), uint8.

    `cover` (rows, columns) uint8 says how opaque each pixel is, 255 for wholly; None: all are.
    """

    y: Plane
    u: Plane
    v: Plane
    cover: Plane | None = None

    @property
    def width(self) -> int:
        """Columns of luma."""
        return int(self.y.shape[1])

    @property
    def height(self) -> int:
        """Rows of luma."""
        return int(self.y.shape[0])


class Seen:
    """Which picture was seen last, by identity; it is not kept for that."""

    def __init__(self) -> None:
        self._last: weakref.ref[Picture] | None = None

    def is_new(self, picture: Picture | None) -> bool:
        """Whether this is another one than the last; it is the last one from now on.

        >>> seen = Seen()
        >>> first = picture_from_i420(blank_i420(2, 2, (0, 0, 0)))
        >>> seen.is_new(None), seen.is_new(first), seen.is_new(first), seen.is_new(None)
        (False, True, False, True)
        """
        last = self._last
        if picture is None:
            self._last = None
            return last is not None
        if last is not None and last() is picture:
            return False
        self._last = weakref.ref(picture)
        return True


def picture_from_i420(buffer: Plane) -> Picture:
    """View an I420 buffer (rows * 3 / 2, columns) as planes, without copying.

    Raises
    ------
    PictureError
        If the buffer is not contiguous or its rows are not a multiple of 3.
    """
    rows, columns = buffer.shape
    if rows % 3 or columns % 2 or not buffer.flags.c_contiguous:
        raise PictureError(
            f"An I420 buffer has rows × 3/2 by even columns, got {rows} × {columns}."
        )
    height = rows * 2 // 3
    flat = buffer.reshape(-1)
    luma, quarter = height * columns, height * columns // 4
    shape = (height // 2, columns // 2)
    return Picture(
        flat[:luma].reshape(height, columns),
        flat[luma : luma + quarter].reshape(shape),
        flat[luma + quarter :].reshape(shape),
    )


def blank_i420(width: int, height: int, rgb: tuple[int, int, int]) -> Plane:
    """A new I420 buffer (height * 3 / 2, width) of one colour."""
    buffer = np.empty((height * 3 // 2, width), np.uint8)
    picture = picture_from_i420(buffer)
    pixel = rgb_to_picture(np.full((2, 2, 3), rgb, np.uint8))
    picture.y[:], picture.u[:], picture.v[:] = pixel.y[0, 0], pixel.u[0, 0], pixel.v[0, 0]
    return buffer


def picture_to_i420(picture: Picture) -> Plane:
    """Copy planes into a new I420 buffer (rows * 3 / 2, columns)."""
    planes = (picture.y, picture.u, picture.v)
    flat = np.concatenate([np.ascontiguousarray(p).reshape(-1) for p in planes])
    return flat.reshape(picture.height * 3 // 2, picture.width)


def rgb_to_picture(rgb: NDArray[np.uint8]) -> Picture:
    """(rows, columns, 3) uint8 R'G'B' to planes; rows and columns even.

    References
    ----------
    ITU-R BT.709-6, items 3.2 to 3.5; ITU-T H.264, chroma_sample_loc_type 0: chroma lies on
    the even columns, so it is a mean of three columns (1 2 1) and two rows.
    """
    height, width = rgb.shape[:2]
    if height % 2 or width % 2:
        raise PictureError(f"4:2:0 needs even rows and columns, got {height} × {width}.")
    luma = cv2.transform(rgb, _RGB_TO_YUV[:1]).astype(np.uint8, copy=False)
    beside = np.array([0.25, 0.5, 0.25])
    smooth = cv2.sepFilter2D(rgb, -1, beside, np.ones(1), borderType=cv2.BORDER_REPLICATE)
    columns = np.ascontiguousarray(smooth[:, ::2])
    half = cv2.resize(columns, (width // 2, height // 2), interpolation=cv2.INTER_AREA)
    chroma = cv2.transform(half, _RGB_TO_YUV[1:]).astype(np.uint8, copy=False)
    u, v = np.ascontiguousarray(chroma[..., 0]), np.ascontiguousarray(chroma[..., 1])
    return Picture(luma.reshape(height, width), u, v)


def picture_to_rgb(picture: Picture) -> NDArray[np.uint8]:
    """Planes to (rows, columns, 3) uint8 R'G'B'."""
    planes: list[Plane] = [picture.y, doubled(picture.u), doubled(picture.v)]
    return cv2.transform(cv2.merge(planes), _YUV_TO_RGB).astype(np.uint8)


def paste(target: Picture, source: Picture, left: int, top: int) -> None:
    """Write a picture into the planes of another at an even place."""
    x, y = left // 2, top // 2
    target.y[top : top + source.height, left : left + source.width] = source.y
    target.u[y : y + source.height // 2, x : x + source.width // 2] = source.u
    target.v[y : y + source.height // 2, x : x + source.width // 2] = source.v


def scale_picture(picture: Picture, crop: Box, width: int, height: int) -> Picture:
    """Part of a picture at another size: area when shrinking, Lanczos when growing, nothing at 1:1.

    Parameters
    ----------
    picture : Picture
    crop : Box, even, in pixels of `picture`
    width, height : int, even

    Returns
    -------
    Picture
        At 1:1 its planes are views of the source.
    """
    half = Box(crop.left // 2, crop.top // 2, crop.width // 2, crop.height // 2)
    cover = picture.cover
    return Picture(
        _scale_plane(_part(picture.y, crop), width, height),
        _scale_plane(_part(picture.u, half), width // 2, height // 2),
        _scale_plane(_part(picture.v, half), width // 2, height // 2),
        None if cover is None else _scale_plane(_part(cover, crop), width, height),
    )


def crop_picture(picture: Picture, crop: Box) -> Picture:
    """A view of a part of a picture; `crop` even, in its pixels."""
    return scale_picture(picture, crop, crop.width, crop.height)


def turn_picture(picture: Picture, turn: int, mirrored: bool) -> Picture:
    """A picture turned clockwise by 0, 90, 180 or 270 degrees, then mirrored left to right.

    Chroma is set to its place beside the turned luma, by halves and quarters of a sample.

    Raises
    ------
    PictureError
        If it is another angle.
    """
    if turn not in (0, 90, 180, 270):
        raise PictureError(f"A picture is turned by 0, 90, 180 or 270°, got {turn}°.")
    if not turn and not mirrored:
        return picture
    swapped = turn in (90, 270)
    # Which source axes run backwards along the new columns and rows.
    back_across = (turn in (90, 180)) != mirrored
    back_down = turn in (180, 270)

    def turned(plane: Plane, chroma: bool) -> Plane:
        source = plane.T if swapped else plane
        rows, columns = source.shape
        return resample(
            source,
            _turned_line(rows, back_down, (0.25 if swapped else 0.0) if chroma else 0.0, 0.0),
            _turned_line(
                columns,
                back_across,
                (0.0 if swapped else 0.25) if chroma else 0.0,
                0.25 if chroma else 0.0,
            ),
        )

    cover = picture.cover
    return Picture(
        turned(picture.y, False),
        turned(picture.u, True),
        turned(picture.v, True),
        None if cover is None else turned(cover, False),
    )


def _turned_line(count: int, backwards: bool, source_shift: float, shift: float) -> Line:
    """Samples in a row of which each lies `shift` before its middle, there and in the source."""
    if backwards:
        return Line(count, count + shift + source_shift, -1.0, 0, count)
    return Line(count, source_shift - shift, 1.0, 0, count)


def _part(plane: Plane, box: Box) -> Plane:
    return plane[box.top : box.bottom, box.left : box.right]


def _scale_plane(plane: Plane, width: int, height: int) -> Plane:
    rows, columns = plane.shape
    if (columns, rows) == (width, height):
        return plane
    shrinking = width <= columns and height <= rows
    method = cv2.INTER_AREA if shrinking else cv2.INTER_LANCZOS4
    return cv2.resize(plane, (width, height), interpolation=method).astype(np.uint8, copy=False)


def blend_plane(target: Plane, source: Plane, alpha: Alpha) -> None:
    """Lay `source` over `target` in place: target + (source - target) * alpha / 256, rounded."""
    mixed = source * alpha + target * (OPAQUE - alpha) + OPAQUE // 2
    np.right_shift(mixed, 8, out=mixed)
    target[:] = mixed


def picture_to_jpeg(picture: Picture, quality: int) -> bytes:
    """A picture as JPEG, quality 1 to 100. Raises PictureError."""
    bgr = picture_to_rgb(picture)[..., ::-1]
    done, data = cv2.imencode(".jpg", bgr, [cv2.IMWRITE_JPEG_QUALITY, quality])
    if not done:
        raise PictureError(f"A picture of {picture.width} × {picture.height} px gave no JPEG.")
    return bytes(data)
