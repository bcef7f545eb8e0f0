"""Laying planes over planes: by how much, and only where there is something to mix."""

import cv2
import numpy as np
from numpy.typing import NDArray

Plane = NDArray[np.uint8]
Floats = NDArray[np.float32]
# With fewer samples between nothing and all than this share, they are mixed one by one.
FEW = 0.06


class Share:
    """How much of each sample of a source covers the target: 0 nothing, 1 all.

    A mask is mostly one or the other: then whole samples are copied and only its edge is mixed.

    Parameters
    ----------
    alpha : (rows, columns) float32 ndarray, 0 to 1
    """

    def __init__(self, alpha: Floats) -> None:
        self.alpha = np.ascontiguousarray(alpha, np.float32)
        between = (alpha > 0) & (alpha < 1)
        self._rest: Floats | None = None
        self._is_all = bool(alpha.min() >= 1) if alpha.size else True
        if not self._is_all and between.mean() > FEW:
            self._rest = np.float32(1) - self.alpha
            return
        self._whole = (alpha >= 1).astype(np.uint8)
        self._edge = np.nonzero(between)
        self._edge_alpha = self.alpha[self._edge]

    def lay(self, target: Plane, source: Plane) -> None:
        """Lay a source over a target of the same shape, in place."""
        if self._is_all:
            target[:] = source
        elif self._rest is not None:
            cv2.blendLinear(source, target, self.alpha, self._rest, dst=target)
        else:
            before = target[self._edge].astype(np.float32)
            mixed = before + (source[self._edge] - before) * self._edge_alpha
            cv2.copyTo(source, self._whole, target)
            target[self._edge] = np.rint(mixed).astype(np.uint8)
