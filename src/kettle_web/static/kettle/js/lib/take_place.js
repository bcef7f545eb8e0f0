/**
 * Where one is in a take, kept from page to page of this tab.
 * @param {string} take its number
 */
export function placeIn(take) {
  const key = `take-place-${take}`;
  return {
    /** Take time in s. */
    get at() {
      return Number(sessionStorage.getItem(key)) || 0;
    },
    set at(at) {
      sessionStorage.setItem(key, at.toFixed(4));
    },
  };
}
