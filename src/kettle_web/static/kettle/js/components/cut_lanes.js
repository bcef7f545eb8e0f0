import { inTake, rowAt } from "../lib/cut_pieces.js";
import { mount as mountLanes } from "./take_lanes.js";
import { TakeView } from "./take_view.js";

/**
 * The lanes of the take that the play head is in, opened and closed; both play heads are one as
 * long as the piece reaches.
 * @param {HTMLElement} root @param {HTMLElement} head
 * @param {import("./cut_data.js").CutData} data @param {import("./cut_views.js").CutViews} views
 */
export function mount(root, head, data, views) {
  const { lines } = views;
  const stop = new AbortController();
  let take = "";
  /** @type {ReturnType<typeof mountLanes> | null} */
  let shown = null;
  let view = new TakeView();
  let following = false;

  /** @param {() => void} what */
  const alone = (what) => {
    if (following) return;
    following = true;
    what();
    following = false;
  };

  /** Where on paper a time of the take lies that the lanes show: in the piece here, or nowhere. @param {number} at */
  const paperOf = (at) => {
    const row = rowAt(data.rows, lines.at);
    return row && at >= row.from_s - 1e-6 && at <= row.until_s + 1e-6
      ? row.paper + at - row.from_s
      : null;
  };

  const follow = () => {
    const row = root.hidden ? undefined : rowAt(data.rows, lines.at);
    const found = row && data.take(row.take);
    if (!row || !found?.now) return;
    if (row.take !== take) {
      take = row.take;
      shown?.destroy();
      const fresh = new TakeView();
      view = fresh;
      fresh.setTotal(found.now.length_s);
      shown = mountLanes(root, found, fresh);
      fresh.addEventListener("at", () =>
        alone(() => {
          const paper = paperOf(fresh.at);
          if (paper !== null) lines.go(paper);
        }),
      );
      fresh.addEventListener("stretch", () =>
        alone(() => {
          const ends = fresh.stretch?.map(paperOf);
          const [a, b] = ends ?? [null, null];
          if (a !== null && b !== null) lines.mark(a, b);
        }),
      );
      fresh.addEventListener("near", near);
    }
    alone(() => view.go(inTake(row, lines.at), false));
    shown?.draw();
    near();
  };
  const near = () => {
    // The lines show what the lanes do.
    const from = paperOf(Math.max(view.near.from, rowAt(data.rows, lines.at)?.from_s ?? 0));
    if (from !== null) lines.show({ from, length: view.near.length });
    views.program.dispatchEvent(new Event("near"));
  };

  lines.hasLanes = false;
  lines.addEventListener("at", follow, { signal: stop.signal });
  return {
    get open() {
      return !root.hidden;
    },
    get view() {
      return view;
    },
    toggle() {
      lines.hasLanes = Boolean(root.hidden);
      root.hidden = head.hidden = !lines.hasLanes;
      if (!root.hidden) root.scrollIntoView({ block: "nearest" });
      follow();
    },
    draw: () => shown?.draw(),
    destroy() {
      stop.abort();
      shown?.destroy();
    },
  };
}
