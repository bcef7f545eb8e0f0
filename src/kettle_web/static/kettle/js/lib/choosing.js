/**
 * Calls when something was chosen of a list: at once by the pointer; by keys when Enter is
 * pressed or the list is left, as each arrow key only goes on to the next one.
 * @param {HTMLSelectElement} list @param {() => void} chosen @param {AbortSignal} signal
 */
export function whenChosen(list, chosen, signal) {
  let byKeys = false;
  let before = list.value;
  const tell = () => {
    if (list.value === before) return;
    before = list.value;
    chosen();
  };
  const on = { signal };
  list.addEventListener(
    "keydown",
    (event) => {
      byKeys = true;
      if (event.key === "Enter") tell();
    },
    on,
  );
  list.addEventListener(
    "pointerdown",
    () => {
      byKeys = false;
    },
    on,
  );
  list.addEventListener("change", () => (byKeys ? undefined : tell()), on);
  list.addEventListener("blur", tell, on);
}
