/**
 * What was typed and not saved is there again after the page was left, reloaded or died.
 *
 * A draft is what a field held when it was shown, and what was typed into it then. It is shown
 * again where the field is as it was; where it is not, it was saved, or somebody else was newer.
 *
 * @typedef {{base: string, text: string, at: number}} Draft
 * @typedef {Record<string, Draft>} Drafts of a page, by their fields
 * @typedef {{getItem: (key: string) => string | null, setItem: (key: string, value: string) => void,
 *   removeItem: (key: string) => void}} Kept
 */

const KEPT_FOR_MS = 7 * 24 * 3600 * 1000;
const LONGEST = 100_000;

/**
 * @param {Kept} kept where they are kept, as localStorage is
 * @param {string} page whose they are
 * @param {() => number} now in ms
 */
export function drafts(kept, page, now = Date.now) {
  const key = `typed ${page}`;

  /** @returns {Drafts} */
  const read = () => {
    try {
      const all = JSON.parse(kept.getItem(key) ?? "{}");
      const young = Object.entries(all).filter(([, one]) => now() - one.at < KEPT_FOR_MS);
      return Object.fromEntries(young);
    } catch {
      return {};
    }
  };

  /** @param {Drafts} all */
  const write = (all) => {
    const text = JSON.stringify(all);
    try {
      if (text === "{}" || text.length > LONGEST) kept.removeItem(key);
      else kept.setItem(key, text);
    } catch {
      // A browser that keeps nothing loses it, as it would without this.
    }
  };

  return {
    /** Keeps what stands in a field; nothing where that is what it was shown with. @param {string} field @param {string} base @param {string} text */
    keep(field, base, text) {
      const all = read();
      // One that was refused is shown with what was typed; it began with what is saved.
      const began = all[field]?.base ?? base;
      if (text === began) delete all[field];
      else all[field] = { base: began, text, at: now() };
      write(all);
    },

    /** It was saved. @param {string[]} fields */
    forget(fields) {
      const all = read();
      const before = Object.keys(all).length;
      for (const field of fields) delete all[field];
      if (Object.keys(all).length !== before) write(all);
    },

    /**
     * What is to be shown again; what was saved meanwhile is forgotten.
     * @param {Map<string, string>} shown what stands in the page's fields
     */
    again(shown) {
      const all = Object.entries(read());
      const gone = all.filter(([field, one]) => shown.has(field) && shown.get(field) !== one.base);
      this.forget(gone.map(([field]) => field));
      const there = all.filter(([field, one]) => shown.get(field) === one.base);
      return new Map(there.map(([field, one]) => [field, one.text]));
    },
  };
}
