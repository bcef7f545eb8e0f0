"""Composing written down as its definition says, in floats, slowly; for tests to compare with."""

from math import ceil, cos, floor, hypot, radians, sin

import numpy as np


def lanczos(x):
    return np.sinc(x) * np.sinc(x / 4) if abs(x) < 4 else 0.0


def line_weights(low, width, first, last):
    """Sample number to weight for an output that covers low to low + width of a line."""
    found = {}

    def add(k, weight):
        k = min(max(k, first), last - 1)
        found[k] = found.get(k, 0.0) + weight

    if width >= 1:
        for k in range(floor(low), ceil(low + width)):
            add(k, max(0.0, min(low + width, k + 1) - max(low, k)))
    else:
        middle = low + width / 2 - 0.5
        for k in range(floor(middle) - 3, floor(middle) + 5):
            add(k, lanczos(middle - k))
    total = sum(found.values())
    return {k: w / total for k, w in found.items()}


class Reference:
    """One layer over a float frame of planes y (rows, columns) and u, v at half size."""

    def __init__(self, layer, crop):
        self.layer, self.crop = layer, crop
        box = layer.box
        self.middle = [box.left + box.width / 2, box.top + box.height / 2]
        if layer.turn % 180 == 90 and (box.width - box.height) % 2:
            self.middle = [self.middle[0] - 0.5, self.middle[1] - 0.5]
        self.straight = layer.turn % 90 == 0
        self.scale = (crop.width / box.width, crop.height / box.height)

    def own(self, x, y):
        """A point of the frame in the layer's own axes, from its middle."""
        angle = radians(self.layer.turn)
        dx, dy = x - self.middle[0], y - self.middle[1]
        return cos(angle) * dx + sin(angle) * dy, cos(angle) * dy - sin(angle) * dx

    def source(self, x, y):
        """A point of the frame in px of the picture."""
        u, v = self.own(x, y)
        u = -u if self.layer.mirrored else u
        crop = self.crop
        return (
            crop.left + crop.width / 2 + u * self.scale[0],
            crop.top + crop.height / 2 + v * self.scale[1],
        )

    def coverage(self, x, y):
        """Outer coverage, and the share of the picture inside the border, at a point."""
        mask, box = self.layer.mask, self.layer.box
        u, v = self.own(x, y)
        across, down = box.width / 2, box.height / 2
        if mask.shape == "circle":
            distance = hypot(u, v) - min(across, down)
        elif mask.shape == "ellipse":
            k = hypot(u / across, v / down)
            slope = max(hypot(u / across**2, v / down**2), 1e-6)
            distance = k * (k - 1) / slope
        else:
            radius = min(mask.radius_px, across, down)
            px, py = abs(u) - across + radius, abs(v) - down + radius
            distance = hypot(max(px, 0), max(py, 0)) + min(max(px, py), 0) - radius
        outer = min(max((0.5 - distance) / max(1, mask.soft_px), 0), 1)
        inner = min(max(0.5 - mask.border_px - distance, 0), 1) if mask.border_px else 1.0
        return outer, inner

    def value(self, plane, x, y, chroma):
        """The picture's value at a sample of the frame whose middle is (x, y)."""
        grid = _half(self.crop) if chroma else self.crop
        if self.straight:
            return self._straight_value(plane, x, y, chroma, grid)
        return self._between_value(plane, x, y, chroma, grid)

    def _straight_value(self, plane, x, y, chroma, grid):
        reach = 1.0 if chroma else 0.5
        ends = [self.source(x - reach, y - reach), self.source(x + reach, y + reach)]
        (u1, v1), (u2, v2) = ends
        if chroma:
            u1, u2, v1, v2 = (u1 + 0.5) / 2, (u2 + 0.5) / 2, v1 / 2, v2 / 2
        left, right = sorted((round(u1, 9), round(u2, 9)))
        top, bottom = sorted((round(v1, 9), round(v2, 9)))
        columns = line_weights(left, round(right - left, 9), grid.left, grid.right)
        rows = line_weights(top, round(bottom - top, 9), grid.top, grid.bottom)
        return sum(
            wy * wx * plane[row, column]
            for row, wy in rows.items()
            for column, wx in columns.items()
        )

    def _between_value(self, plane, x, y, chroma, grid):
        u, v = self.source(x, y)
        if chroma:
            u, v = (u + 0.5) / 2, v / 2
        by_x = max(1, min(floor(self.scale[0] + 1e-6), grid.width))
        by_y = max(1, min(floor(self.scale[1] + 1e-6), grid.height))
        columns, rows = grid.width // by_x, grid.height // by_y

        def sample(row, column):
            row, column = min(max(row, 0), rows - 1), min(max(column, 0), columns - 1)
            top, left = grid.top + row * by_y, grid.left + column * by_x
            return plane[top : top + by_y, left : left + by_x].mean()

        at_x, at_y = (u - grid.left) / by_x - 0.5, (v - grid.top) / by_y - 0.5
        column, row = floor(at_x), floor(at_y)
        fx, fy = at_x - column, at_y - row
        if max(self.scale) <= 1 + 1e-9:
            kernel, near = _cubic, range(-1, 3)
        else:
            kernel, near = (lambda t: 1 - abs(t)), range(2)
        return sum(
            kernel(fy - j) * kernel(fx - i) * sample(row + j, column + i)
            for j in near for i in near
        )  # fmt: skip


def _cubic(t, a=-0.75):
    t = abs(t)
    if t <= 1:
        return (a + 2) * t**3 - (a + 3) * t**2 + 1
    return a * t**3 - 5 * a * t**2 + 8 * a * t - 4 * a if t < 2 else 0.0


def _half(box):
    left, top = box.left // 2, box.top // 2
    return type(box)(left, top, (box.right + 1) // 2 - left, (box.bottom + 1) // 2 - top)


def compose(layers, pictures, width, height, backdrop, border):
    """Float planes y, u, v of a frame; `backdrop` and `border` are (y, u, v) values."""
    y = np.full((height, width), float(backdrop[0]))
    u = np.full((height // 2, width // 2), float(backdrop[1]))
    v = np.full((height // 2, width // 2), float(backdrop[2]))
    for layer in layers:
        if not layer.shown:
            continue
        source = pictures[layer.input_id]
        drawn = Reference(layer, layer.crop)
        share = np.zeros((height, width))
        inside = np.ones((height, width))
        for row in range(height):
            for column in range(width):
                outer, inner = drawn.coverage(column + 0.5, row + 0.5)
                share[row, column] = outer * layer.opacity / 100
                inside[row, column] = inner
                if outer:
                    value = clip(drawn.value(source.y, column + 0.5, row + 0.5, False))
                    value = value * inner + border[0] * (1 - inner)
                    y[row, column] += (value - y[row, column]) * share[row, column]
        half = share.reshape(height // 2, 2, width // 2, 2).mean(axis=(1, 3))
        covered = share > 0
        blocks = (inside * covered).reshape(height // 2, 2, width // 2, 2).mean(axis=(1, 3))
        for row in range(height // 2):
            for column in range(width // 2):
                if half[row, column]:
                    at = (2 * column + 0.5, 2 * row + 1)
                    inner = blocks[row, column]
                    for plane, origin, colour in (
                        (u, source.u, border[1]),
                        (v, source.v, border[2]),
                    ):
                        value = clip(drawn.value(origin, *at, True))
                        value = (
                            value * inner + colour * (1 - inner) if layer.mask.border_px else value
                        )
                        plane[row, column] += (value - plane[row, column]) * half[row, column]
    return y, u, v


def clip(value):
    return min(max(value, 0.0), 255.0)
