/** Which of several answers about one page is the newest: kept apart from the page itself. */

/**
 * @typedef {{
 *   revision: number,
 *   begin: (background?: boolean) => (revision: number, ok?: boolean) => boolean,
 *   saved: (revision: number) => void,
 *   takeOver: (revision: number, background?: boolean) => void,
 * }} Asking
 */

/**
 * Orders answers. One that comes after something newer was asked for, or that shows an older
 * revision than the page does, tells of what the page was: it is not taken over.
 * @param {number} revision what the page shows at first
 * @returns {Asking}
 */
export function asking(revision) {
  let turn = 0;
  let looks = 0;
  let shown = 0;
  return {
    revision,
    /**
     * @param {boolean} background whether it is only looked for what may have changed: who saves
     *   or chooses something meanwhile is newer, and nothing asked for before is older
     * @returns whether an answer may be taken over, as is then done; one that was refused always,
     *   as it says why
     */
    begin(background = false) {
      if (!background) turn += 1;
      const mine = turn;
      const look = background ? ++looks : Number.POSITIVE_INFINITY;
      return (found, ok = true) => {
        if (!ok) return true;
        if (mine !== turn || found < this.revision || look < shown) return false;
        if (background) shown = look;
        return true;
      };
    },
    /**
     * Our own change was saved, and what is saved next was decided in its knowledge; if others
     * changed something as well, it was not.
     */
    saved(found) {
      if (found === this.revision + 1) this.revision = found;
    },
    /** What is looked for before something saved or chosen was shown is older than that. */
    takeOver(found, background = false) {
      if (!background) turn += 1;
      if (found > this.revision) this.revision = found;
    },
  };
}

/**
 * Names of a form's fields that are as they were shown, so that what another page set meanwhile
 * is kept. A field that is wrong counts as touched: it is not saved yet.
 * @param {Iterable<{name: string, type: string, value: string, defaultValue?: string,
 *   checked?: boolean, defaultChecked?: boolean, invalid?: boolean,
 *   options?: Iterable<{selected: boolean, defaultSelected: boolean}>}>} fields
 */
export function untouched(fields) {
  const names = new Set();
  const touched = new Set();
  for (const field of fields) {
    if (!field.name || ["hidden", "submit", "button", "file"].includes(field.type)) continue;
    let same = field.value === field.defaultValue;
    if (field.type === "checkbox" || field.type === "radio")
      same = field.checked === field.defaultChecked;
    else if (field.options)
      same = [...field.options].every((o) => o.selected === o.defaultSelected);
    if (same && !field.invalid) names.add(field.name);
    else touched.add(field.name);
  }
  return [...names].filter((name) => !touched.has(name));
}
