/** Where the focus goes when what had it is exchanged or taken away: to what is nearest, not to nothing. */

const CAN =
  "a[href], button:not(:disabled), input:not(:disabled, [type=hidden]), select:not(:disabled), textarea:not(:disabled), summary, [tabindex='0']";

/** What a letter is typed into: nobody who pressed a button means to. */
const TYPED = "input:not([type=checkbox], [type=radio]), select, textarea";

const seen = (/** @type {Element} */ place) =>
  [...place.querySelectorAll(CAN)].filter((one) =>
    /** @type {HTMLElement} */ (one).checkVisibility(),
  );

/**
 * @param {Document} page
 * @returns {() => void} gives the focus back, once the page has been exchanged
 */
export function keepFocus(page) {
  const had = page.activeElement;
  if (!had || had === page.body) return () => {};
  const part = /** @type {HTMLElement | null} */ (had.closest("[data-part]"));
  const name = part?.dataset.part ?? "";
  const before = part ? seen(part) : [];
  const at =
    before
      .slice(0, before.indexOf(had) + 1)
      .filter((one) => had.matches(TYPED) || !one.matches(TYPED)).length - 1;
  const { id } = had;
  return () => {
    const now = page.activeElement;
    if (now && now !== page.body && now.isConnected && !now.matches(":disabled")) return;
    const same = id ? page.getElementById(id) : null;
    const place =
      page.querySelector(`[data-part="${CSS.escape(name)}"]`) ?? page.querySelector("main");
    const all = place ? seen(place).filter((one) => had.matches(TYPED) || !one.matches(TYPED)) : [];
    const next = same?.matches(CAN) ? same : all[Math.min(Math.max(0, at), all.length - 1)];
    const found = next ?? page.querySelector("main");
    if (found && !found.matches(CAN)) found.setAttribute("tabindex", "-1");
    /** @type {HTMLElement | null | undefined} */ (found)?.focus({ preventScroll: true });
  };
}
