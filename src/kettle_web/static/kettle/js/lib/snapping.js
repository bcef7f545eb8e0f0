/** Nearer than this a place is drawn to what stands there, px. */
export const SNAP_PX = 5;

/**
 * The place that is meant: the nearest of some that are near enough, or where it is.
 * @param {number} at @param {number[]} places in any order @param {number} near how near is near enough
 */
export function snapped(at, places, near) {
  let found = at;
  let best = near;
  for (const place of places) {
    const away = Math.abs(place - at);
    if (away <= best) {
      best = away;
      found = place;
    }
  }
  return found;
}

/**
 * What whoever marks a stretch may mean: steps, scenes, marks, edges of quiet stretches and of pieces.
 * @param {import("./take_paper.js").Paper} paper
 */
export function snapsOf(paper) {
  return [
    ...[...paper.steps, ...paper.scenes, ...paper.marks].map((one) => one.at_s),
    ...paper.quiet.flat(),
    ...paper.seams,
    ...paper.folds,
    ...paper.changed.flatMap((one) => [one.from, one.until]),
  ];
}
