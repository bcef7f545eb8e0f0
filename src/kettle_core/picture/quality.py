"""How much of a picture is left after encoding: PSNR and SSIM of luma, and SSIM where print is."""

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from kettle_core.errors import PictureError

Plane = NDArray[np.uint8]
Floats = NDArray[np.float32]
WINDOW, SIGMA = 11, 1.5
C1, C2 = (0.01 * 255) ** 2, (0.03 * 255) ** 2
BLOCK = 16
FINEST = 0.1
# Of equal pictures the PSNR has no bound.
MOST_DB = 100.0


def ssim_map(reference: Plane, other: Plane) -> Floats:
    """Structural similarity of two pictures at every pixel, 1 where they are equal.

    Parameters
    ----------
    reference, other : (rows, columns) uint8, of one shape, at least 11 px a side

    Returns
    -------
    (rows, columns) float32 ndarray
        Near the edges the picture is mirrored.

    Raises
    ------
    PictureError
        If the shapes differ or are too small.

    References
    ----------
    Wang, Bovik, Sheikh, Simoncelli, Image quality assessment: from error visibility to structural
    similarity, IEEE Transactions on Image Processing 13 (2004), eq. 13; window of 11 × 11 with
    σ = 1.5, K1 = 0.01, K2 = 0.03.
    """
    if reference.shape != other.shape or min(reference.shape) < WINDOW:
        raise PictureError(
            f"Two planes of one shape from {WINDOW} px a side are compared, got "
            f"{reference.shape} and {other.shape}."
        )
    # Around 0 single precision is exact enough for the variances.
    x, y = (plane.astype(np.float32) - 128 for plane in (reference, other))
    mean_x, mean_y = _blurred(x), _blurred(y)
    var_x = _blurred(x * x) - mean_x * mean_x
    var_y = _blurred(y * y) - mean_y * mean_y
    cov = _blurred(x * y) - mean_x * mean_y
    mean_x, mean_y = mean_x + 128, mean_y + 128
    xx, yy, xy = mean_x * mean_x, mean_y * mean_y, mean_x * mean_y
    top = (2 * xy + C1) * (2 * cov + C2)
    return np.asarray(top / ((xx + yy + C1) * (var_x + var_y + C2)), np.float32)


def _blurred(values: Floats) -> Floats:
    window = (WINDOW, WINDOW)
    return np.asarray(
        cv2.GaussianBlur(values, window, SIGMA, borderType=cv2.BORDER_REFLECT), np.float32
    )


def psnr_db(reference: Plane, other: Plane) -> float:
    """Peak signal to noise ratio in dB; 100 at most, as of equal pictures.

    >>> flat = np.full((16, 16), 100, np.uint8)
    >>> round(psnr_db(flat, flat + 5), 2)
    34.15
    """
    error = float(np.mean((reference.astype(np.float32) - other.astype(np.float32)) ** 2))
    return min(MOST_DB, 10 * float(np.log10(255**2 / error))) if error else MOST_DB


def finest_blocks(luma: Plane) -> NDArray[np.bool_]:
    """The tenth of a picture's blocks of 16 × 16 px with the finest detail: where print is.

    Parameters
    ----------
    luma : (rows, columns) uint8

    Returns
    -------
    (rows // 16, columns // 16) bool ndarray
        By the mean size of the second derivative; a rest at the right and below is left out.
    """
    detail = np.abs(cv2.Laplacian(luma, cv2.CV_32F))
    blocks = _block_means(np.asarray(detail, np.float32))
    count = max(1, round(blocks.size * FINEST))
    least = np.partition(blocks.ravel(), -count)[-count]
    return np.asarray(blocks >= least)


def _block_means(values: Floats) -> Floats:
    rows, columns = values.shape[0] // BLOCK, values.shape[1] // BLOCK
    if not rows or not columns:
        raise PictureError(f"A picture from {BLOCK} px a side has blocks, got {values.shape}.")
    part = values[: rows * BLOCK, : columns * BLOCK]
    return np.asarray(cv2.resize(part, (columns, rows), interpolation=cv2.INTER_AREA), np.float32)


@dataclass(frozen=True)
class Quality:
    """Of several frames: SSIM in the mean and of the worst frame, of the finest blocks; PSNR."""

    ssim: float
    ssim_worst: float
    ssim_fine: float
    psnr_db: float
    psnr_worst_db: float


class QualityMeter:
    """Takes frames beside their references, one after the other."""

    def __init__(self) -> None:
        self._rows: list[tuple[float, float, float]] = []

    def take(self, reference: Plane, other: Plane) -> None:
        """Compare a frame. Raises PictureError."""
        similar = ssim_map(reference, other)
        fine = float(_block_means(similar)[finest_blocks(reference)].mean())
        self._rows.append((float(similar.mean()), fine, psnr_db(reference, other)))

    def read(self) -> Quality:
        """What was found. Raises PictureError where no frame was taken."""
        if not self._rows:
            raise PictureError("No frame was compared.")
        ssim, fine, psnr = (np.array(column) for column in zip(*self._rows, strict=True))
        return Quality(
            float(ssim.mean()),
            float(ssim.min()),
            float(fine.mean()),
            float(psnr.mean()),
            float(psnr.min()),
        )
