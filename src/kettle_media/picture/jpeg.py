"""Pictures for pages as JPEG, from planes to planes: no detour by RGB."""

import cv2
import numpy as np
import simplejpeg

from kettle_core.picture.picture import Picture

# Luma weights of red and blue: ITU-R BT.709, and BT.601 as JFIF has it.
_OURS, _JFIF = (0.2126, 0.0722), (0.299, 0.114)


def _to_rgb(weights: tuple[float, float]) -> np.ndarray:
    """Y in 0 … 1, Pb and Pr in ±0.5, to RGB."""
    red, blue = weights
    green = 1 - red - blue
    return np.array(
        [
            [1, 0, 2 * (1 - red)],
            [1, -2 * blue * (1 - blue) / green, -2 * red * (1 - red) / green],
            [1, 2 * (1 - blue), 0],
        ]
    )


# Grey stays grey, so that only luma mixes with chroma, not chroma with luma.
_MIX = np.linalg.inv(_to_rgb(_JFIF)) @ _to_rgb(_OURS)
_LUMA, _CHROMA = 255 / 219, 255 / 224


def picture_to_page_jpeg(picture: Picture, quality: int) -> bytes:
    """A picture, BT.709 limited range, as a JFIF JPEG with 4:2:0 chroma.

    Chroma stays where it is; the quarter of a sample that JFIF sets it apart is not seen.

    References
    ----------
    ITU-R BT.709-6, items 3 and 4; ITU-T T.871 (JFIF), clause 7.
    """
    u, v = (np.ascontiguousarray(plane) for plane in (picture.u, picture.v))
    across, down = _CHROMA * _MIX[1, 1:], _CHROMA * _MIX[2, 1:]
    on_luma = _CHROMA * _MIX[0, 1:]
    cb = cv2.addWeighted(u, across[0], v, across[1], 128 * (1 - across.sum()))
    cr = cv2.addWeighted(u, down[0], v, down[1], 128 * (1 - down.sum()))
    # What chroma adds to luma is small either way: as bytes, 128 for nothing.
    mixed = cv2.addWeighted(u, on_luma[0], v, on_luma[1], 128 * (1 - on_luma.sum()))
    rows, columns = picture.y.shape
    mixed = cv2.resize(mixed, (columns, rows), interpolation=cv2.INTER_NEAREST)
    luma = cv2.addWeighted(picture.y, _LUMA, mixed, 1, -16 * _LUMA - 128)
    return bytes(simplejpeg.encode_jpeg_yuv_planes(luma, cb, cr, quality, fastdct=True))
