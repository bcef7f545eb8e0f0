"""Colour key: a plain backdrop taken out by its place in the colour-difference plane."""

import numpy as np
from numpy.typing import NDArray

from kettle_core.picture.picture import Plane, rgb_to_picture
from kettle_core.scene.scene import ColourKey

# Of the largest distance between two colours in the plane, in steps of 8 bits.
FULL_SCALE = 224.0
LEAST_SOFTNESS = 2.0
GREY_CHROMA = 12.0


def key_chroma(colour: str) -> tuple[float, float]:
    """Cb and Cr of a colour #rrggbb, from the grey axis, in 8-bit steps."""
    rgb = np.array([int(colour[n : n + 2], 16) for n in (1, 3, 5)], np.uint8)
    pixel = rgb_to_picture(np.broadcast_to(rgb, (2, 2, 3)).copy())
    return float(pixel.u[0, 0]) - 128.0, float(pixel.v[0, 0]) - 128.0


def is_greyish(colour: str) -> bool:
    """Whether a colour is too grey to be told apart from others by its colour difference."""
    return float(np.hypot(*key_chroma(colour))) < GREY_CHROMA


def key_matte(key: ColourKey, u: Plane, v: Plane) -> NDArray[np.float32]:
    """How much of each chroma sample is kept: 0 for the backdrop, 1 for what stands before it.

    The distance from the key colour in the Cb-Cr plane decides: up to the tolerance nothing is
    kept, from the tolerance plus the softness on everything.

    Parameters
    ----------
    key : ColourKey; its tolerance and softness in % of the plane's range
    u, v : (rows, columns) uint8 ndarrays, Cb and Cr

    Returns
    -------
    (rows, columns) float32 ndarray, 0 to 1
    """
    cb, cr = key_chroma(key.colour)
    away = np.hypot(u.astype(np.float32) - (128 + cb), v.astype(np.float32) - (128 + cr))
    inner = key.tolerance / 100 * FULL_SCALE
    soft = max(LEAST_SOFTNESS, key.softness / 100 * FULL_SCALE)
    return np.asarray(np.clip((away - inner) / soft, 0, 1), np.float32)


def without_spill(key: ColourKey, u: Plane, v: Plane) -> tuple[Plane, Plane]:
    """Chroma without the backdrop's colour that falls on what stands before it.

    What of a colour points along the key's direction, beyond what it has across it, is taken
    away by the given share; colours more than 45° off the key stay as they are.

    Parameters
    ----------
    key : ColourKey; `spill` in %
    u, v : (rows, columns) uint8 ndarrays, Cb and Cr

    Returns
    -------
    u, v : (rows, columns) uint8 ndarrays
    """
    cb, cr = key_chroma(key.colour)
    length = float(np.hypot(cb, cr))
    if key.spill == 0 or length == 0:
        return u, v
    along_u, along_v = np.float32(cb / length), np.float32(cr / length)
    x, y = u.astype(np.float32) - 128, v.astype(np.float32) - 128
    along = x * along_u + y * along_v
    across = np.abs(y * along_u - x * along_v)
    excess = np.maximum(along - across, 0) * np.float32(key.spill / 100)
    cleaned = (x - excess * along_u + 128, y - excess * along_v + 128)
    left, right = (np.clip(np.rint(p), 0, 255).astype(np.uint8) for p in cleaned)
    return left, right
