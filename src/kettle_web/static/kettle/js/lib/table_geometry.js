/**
 * Layers while they are dragged on the drawing table, in px of the frame; the server's answer is
 * what counts. A box lies upright before it is turned clockwise about its middle.
 *
 * @typedef {{left: number, top: number, width: number, height: number}} Box
 * @typedef {{box: Box, crop: Box, turn: number, mirrored: boolean, source: number[]}} Placement
 * @typedef {{left: number, top: number, right: number, bottom: number}} Bounds
 * @typedef {{axis: string, at: number, words: string, of: string}} SnapLine
 */

export const LEAST_PX = 8;
const TURN_STEP = 15;
const TURN_REACH = 2;

/** @param {number} x @param {number} y @param {number} degrees clockwise @returns {number[]} */
export function turned(x, y, degrees) {
  const angle = (degrees * Math.PI) / 180;
  const [c, s] = [Math.cos(angle), Math.sin(angle)];
  return [c * x - s * y, s * x + c * y];
}

/** @param {Box} box @returns {number[]} */
export const middleOf = (box) => [box.left + box.width / 2, box.top + box.height / 2];

/**
 * Points of a turned box: -1 to 1 across and down its own axes.
 * @param {Box} box @param {number} turn @param {number} across @param {number} down
 * @returns {number[]}
 */
export function pointOf(box, turn, across, down) {
  const [cx, cy] = middleOf(box);
  const [x, y] = turned((across * box.width) / 2, (down * box.height) / 2, turn);
  return [cx + x, cy + y];
}

/** @param {Box} box @param {number} turn @returns {Bounds} */
export function boundsOf(box, turn) {
  const points = [-1, 1].flatMap((a) => [-1, 1].map((d) => pointOf(box, turn, a, d)));
  const [xs, ys] = [points.map((p) => p[0]), points.map((p) => p[1])];
  return {
    left: Math.min(...xs),
    top: Math.min(...ys),
    right: Math.max(...xs),
    bottom: Math.max(...ys),
  };
}

/** @param {Bounds[]} all @returns {Bounds} */
export function around(all) {
  return {
    left: Math.min(...all.map((b) => b.left)),
    top: Math.min(...all.map((b) => b.top)),
    right: Math.max(...all.map((b) => b.right)),
    bottom: Math.max(...all.map((b) => b.bottom)),
  };
}

/**
 * How far to move so that an edge or centre lies on the nearest line each way.
 * @param {Bounds} bounds @param {SnapLine[]} lines @param {number} reach
 * @returns {{dx: number, dy: number, lines: SnapLine[]}}
 */
export function snapBy(bounds, lines, reach) {
  const places = {
    x: [bounds.left, (bounds.left + bounds.right) / 2, bounds.right],
    y: [bounds.top, (bounds.top + bounds.bottom) / 2, bounds.bottom],
  };
  const x = nearest(places.x, "x", lines, reach);
  const y = nearest(places.y, "y", lines, reach);
  return { dx: x.by, dy: y.by, lines: [...x.lines, ...y.lines] };
}

/** @param {number[]} places @param {string} axis @param {SnapLine[]} lines @param {number} reach */
function nearest(places, axis, lines, reach) {
  let by = 0;
  /** @type {SnapLine[]} */
  let found = [];
  let least = reach;
  for (const line of lines) {
    if (line.axis !== axis) continue;
    for (const place of places) {
      const way = line.at - place;
      if (Math.abs(way) > least) continue;
      least = Math.abs(way);
      by = way;
      found = [line];
    }
  }
  return { by, lines: found };
}

/**
 * A box of a size whose point (across, down) stays where the old box has it.
 * @param {Box} box @param {number} turn @param {number} width @param {number} height
 * @param {number} across @param {number} down @returns {Box}
 */
export function sizedFrom(box, turn, width, height, across, down) {
  const [fixedX, fixedY] = pointOf(box, turn, across, down);
  const [x, y] = turned((across * width) / 2, (down * height) / 2, turn);
  return { left: fixedX - x - width / 2, top: fixedY - y - height / 2, width, height };
}

/**
 * A box with a side or corner pulled by a way in the frame.
 * @param {Box} box @param {number} turn @param {number} hx -1, 0 or 1 @param {number} hy
 * @param {number} dx @param {number} dy @param {boolean} keepAspect @returns {Box}
 */
export function resized(box, turn, hx, hy, dx, dy, keepAspect) {
  const [ownX, ownY] = turned(dx, dy, -turn);
  let width = Math.max(LEAST_PX, box.width + hx * ownX);
  let height = Math.max(LEAST_PX, box.height + hy * ownY);
  if (keepAspect) {
    const factors = [];
    if (hx) factors.push(width / box.width);
    if (hy) factors.push(height / box.height);
    const factor = factors.sort((a, b) => Math.abs(b - 1) - Math.abs(a - 1))[0] ?? 1;
    const least = LEAST_PX / Math.min(box.width, box.height);
    width = box.width * Math.max(factor, least);
    height = box.height * Math.max(factor, least);
  }
  return sizedFrom(box, turn, width, height, -hx, -hy);
}

/**
 * The same, with the pulled edges on the nearest line; for boxes that are not turned.
 * @param {Box} start @param {number} hx @param {number} hy @param {number} dx @param {number} dy
 * @param {boolean} keepAspect @param {SnapLine[]} lines @param {number} reach
 * @returns {{box: Box, lines: SnapLine[]}}
 */
export function resizedSnapped(start, hx, hy, dx, dy, keepAspect, lines, reach) {
  const box = resized(start, 0, hx, hy, dx, dy, keepAspect);
  const edgeX = hx > 0 ? box.left + box.width : box.left;
  const edgeY = hy > 0 ? box.top + box.height : box.top;
  const x = hx ? nearest([edgeX], "x", lines, reach) : { by: 0, lines: [] };
  const y = hy ? nearest([edgeY], "y", lines, reach) : { by: 0, lines: [] };
  if (!x.lines.length && !y.lines.length) return { box, lines: [] };
  if (!keepAspect) {
    const free = resized(start, 0, hx, hy, dx + x.by, dy + y.by, false);
    return { box: free, lines: [...x.lines, ...y.lines] };
  }
  const useX = x.lines.length && (!y.lines.length || Math.abs(x.by) <= Math.abs(y.by));
  const size = useX ? box.width + hx * x.by : box.height + hy * y.by;
  const factor = size / (useX ? start.width : start.height);
  const kept = sizedFrom(start, 0, start.width * factor, start.height * factor, -hx, -hy);
  return { box: kept, lines: useX ? x.lines : y.lines };
}

/**
 * A layer whose picture is cropped by pulling a side; what stays keeps its place and scale.
 * @param {Placement} start @param {number} hx @param {number} hy @param {number} dx
 * @param {number} dy @returns {{box: Box, crop: Box}}
 */
export function cropped(start, hx, hy, dx, dy) {
  const { box, crop, turn, mirrored, source } = start;
  const [ownX, ownY] = turned(dx, dy, -turn);
  const [sx, sy] = [box.width / crop.width, box.height / crop.height];
  const x = cutSide(
    crop.left,
    crop.width,
    mirrored ? -hx : hx,
    ((mirrored ? -1 : 1) * ownX) / sx,
    source[0],
  );
  const y = cutSide(crop.top, crop.height, hy, ownY / sy, source[1]);
  const next = { left: x.from, top: y.from, width: x.length, height: y.length };
  const sized = sizedFrom(box, turn, next.width * sx, next.height * sy, -hx, -hy);
  return { box: sized, crop: next };
}

/** @param {number} from @param {number} length @param {number} side @param {number} by @param {number} most */
function cutSide(from, length, side, by, most) {
  const end = from + length;
  if (side > 0) {
    const to = Math.round(Math.min(most, Math.max(from + LEAST_PX, end + by)));
    return { from, length: to - from };
  }
  if (side < 0) {
    const start = Math.round(Math.min(end - LEAST_PX, Math.max(0, from + by)));
    return { from: start, length: end - start };
  }
  return { from, length };
}

/**
 * A turn in tenths of a degree, drawn to whole fifteens nearby.
 * @param {number} degrees @param {boolean} free @returns {number} 0 up to 360
 */
export function niceTurn(degrees, free) {
  const near = Math.round(degrees / TURN_STEP) * TURN_STEP;
  const turn = !free && Math.abs(degrees - near) <= TURN_REACH ? near : degrees;
  return Math.round((((turn % 360) + 360) % 360) * 10) / 10;
}

/** @param {Box} box @returns {Box} on whole px */
export function wholeBox(box) {
  const [width, height] = [Math.max(1, Math.round(box.width)), Math.max(1, Math.round(box.height))];
  const [cx, cy] = middleOf(box);
  return { left: Math.round(cx - width / 2), top: Math.round(cy - height / 2), width, height };
}

/**
 * Steps of a ruler that are round and at least so many screen px apart.
 * @param {number} scale screen px for each frame px @param {number} least
 * @returns {number} frame px
 */
export function rulerStep(scale, least) {
  for (let ten = 10; ; ten *= 10) {
    for (const step of [ten, 2 * ten, 4 * ten, 5 * ten]) if (step * scale >= least) return step;
  }
}
