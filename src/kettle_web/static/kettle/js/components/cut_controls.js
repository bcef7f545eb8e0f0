import { inTake, rowAt, toProgram } from "../lib/cut_pieces.js";
import { ruleTime } from "../lib/take_lanes.js";
import { placeIn } from "../lib/take_place.js";
import { fill, say } from "../lib/told.js";

const SETTLE_MS = 300;

/**
 * The fields that say at what places something is cut, what is told of the piece at the play head,
 * and what counts as quiet.
 * @param {import("./cut_data.js").CutData} data @param {import("./cut_views.js").CutViews} views
 * @param {{toggle: () => void, open: boolean}} lanes
 */
export function mount(data, views, lanes) {
  const stop = new AbortController();
  const on = { signal: stop.signal };
  const { lines } = views;
  let timer = 0;

  /** @type {Record<string, () => void>} */
  const does = {
    begin: () => lines.mark(lines.at, lines.stretch?.[1] ?? lines.total),
    end: () => lines.mark(lines.stretch?.[0] ?? 0, lines.at),
    lanes: () => lanes.toggle(),
    fold: () => {
      data.fold(!data.folded);
      views.relaid();
    },
  };

  /** The piece and the time of its take at a place; an end belongs to the piece before. @param {number} paper @param {boolean} [isEnd] */
  const placeAt = (paper, isEnd = false) => {
    const row = rowAt(data.rows, isEnd ? Math.max(0, paper - 1e-6) : paper);
    return row ? { row, piece: row.id, at: inTake(row, paper).toFixed(6) } : null;
  };

  const tell = () => {
    const [from, until] = lines.stretch ?? [lines.at, null];
    const begins = placeAt(from);
    const ends = until === null ? null : placeAt(until, true);
    fill("input[data-cut=from_piece]", begins?.piece ?? "");
    fill("input[data-cut=from_s]", begins?.at ?? "");
    fill("input[data-cut=until_piece]", ends?.piece ?? "");
    fill("input[data-cut=until_s]", ends?.at ?? "");
    const program = (/** @type {number} */ at) => ruleTime(toProgram(data.rows, at), 0.1);
    say(
      "[data-cut-place]",
      until === null
        ? `at ${program(from)}`
        : `${(until - from).toFixed(1)} s marked, from ${program(from)}`,
    );
    offerExport(until === null ? null : [toProgram(data.rows, from), toProgram(data.rows, until)]);
    const here = placeAt(lines.at)?.row;
    here?.fades_ms.forEach((ms, end) => {
      const field = document.querySelector(`#piece-fades-fade_${end ? "out" : "in"}`);
      if (!(field instanceof HTMLInputElement) || field.ariaInvalid === "true") return;
      if (field === document.activeElement && field.value !== field.defaultValue) return;
      if (field.value === String(ms) && field.defaultValue === field.value) return;
      field.defaultValue = String(ms);
      field.value = field.defaultValue;
    });
    const take = here && data.now?.takes[here.take];
    const card = here?.card ?? "";
    const change = document.querySelector("[data-card-form] [value=card-as]");
    if (change instanceof HTMLButtonElement) change.disabled = !card || here?.file === true;
    say("[data-cut-at]", here ? ruleTime(inTake(here, lines.at), 0.1) : "–");
    const length = here ? `${(here.until_s - here.from_s).toFixed(1)} s` : "–";
    const words = here?.out
      ? `${length}, taken out`
      : `${length}${here?.words ? `, ${here.words}` : ""}`;
    say("[data-cut-piece]", words);
    const link = /** @type {HTMLAnchorElement | null} */ (
      document.querySelector("[data-cut-take]")
    );
    if (link && (take || card)) {
      link.textContent = take ? take.name : `${here?.file ? "File" : "Card"} “${card}”`;
      link.href = take ? take.page : here?.file ? "#added-file" : "#card-text";
    }
    for (const button of document.querySelectorAll("[data-cut-do=lanes]"))
      button.setAttribute("aria-pressed", String(lanes.open));
    for (const button of document.querySelectorAll("[data-cut-do=fold]"))
      button.setAttribute("aria-pressed", String(data.folded));
  };

  const askQuiet = async () => {
    const form = /** @type {HTMLFormElement | null} */ (document.querySelector("[data-quiet]"));
    if (!form || !data.now?.pieces.length) return;
    const wanted = new FormData(form);
    wanted.delete("csrfmiddlewaretoken");
    const query = new URLSearchParams(/** @type {any} */ (wanted));
    const headers = { Accept: "application/json" };
    const answer = await fetch(`${form.dataset.quiet}?${query}`, { headers, ...on });
    const found = await answer.json();
    if (answer.ok) data.setQuiet(found.spans);
    say("[data-quiet-words]", answer.ok ? found.words : (found.error ?? ""));
  };
  const askSoon = () => {
    window.clearTimeout(timer);
    timer = window.setTimeout(() => askQuiet().catch(gone), SETTLE_MS);
  };
  const gone = (/** @type {Error} */ error) => {
    if (!stop.signal.aborted) say("[data-quiet-words]", error.message);
  };

  document.addEventListener(
    "click",
    (event) => {
      const target = /** @type {HTMLElement} */ (event.target);
      const button = /** @type {HTMLElement | null} */ (target.closest?.("[data-cut-do]"));
      if (!button) return;
      does[button.dataset.cutDo ?? ""]?.();
      tell();
    },
    on,
  );
  // The take opens where it is looked at here.
  document.addEventListener(
    "click",
    (event) => {
      const link = /** @type {Element} */ (event.target).closest?.("[data-cut-take]");
      const row = rowAt(data.rows, lines.at);
      const take = link instanceof HTMLAnchorElement && /takes\/(\d+)\//.exec(link.pathname);
      if (take && row) placeIn(take[1]).at = inTake(row, lines.at);
    },
    on,
  );
  document.addEventListener(
    "input",
    (event) => {
      if (/** @type {HTMLElement} */ (event.target).closest("[data-quiet]")) askSoon();
    },
    on,
  );
  for (const what of ["at", "stretch"]) lines.addEventListener(what, tell, on);
  return {
    tell,
    /** The pieces are others by now. */
    refresh() {
      tell();
      askSoon();
    },
    destroy() {
      stop.abort();
      window.clearTimeout(timer);
    },
  };
}

/** The way to an export of a stretch of the program only. @param {[number, number] | null} stretch */
function offerExport(stretch) {
  const link = document.querySelector("[data-cut-export]");
  if (!(link instanceof HTMLAnchorElement)) return;
  link.hidden = !stretch || stretch[1] <= stretch[0];
  if (!stretch) return;
  const [from_s, until_s] = stretch.map((at) => at.toFixed(3));
  link.search = String(new URLSearchParams({ from_s, until_s }));
}
