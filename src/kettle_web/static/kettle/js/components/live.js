import { pictureOf, waitBefore } from "../lib/live_message.js";

const LOST =
  "The connection to Vast Kettle is lost; a take that is being recorded goes on. The page connects again by itself.";

/** What a page that is not seen looks at, and one that shows no pictures. */
const UNSEEN = JSON.stringify({ look: {}, hidden: true });
const SEEN = JSON.stringify({ look: {} });

/**
 * Keeps one WebSocket open while the page is seen and passes on what comes as events on `root`:
 * `live:status`, `live:levels`, `live:changed`, `live:after`, `live:sound` and `live:picture`; it is told `live:look`, `live:try` and `live:head`.
 * @param {HTMLElement} root carries data-live (the rig) and data-want, the end of the query
 */
export function mount(root) {
  /** @type {WebSocket | null} */
  let socket = null;
  let tries = 0;
  let timer = 0;
  let ended = false;
  let look = "";
  let wasHidden = false;
  const stop = new AbortController();

  const tell = (/** @type {string} */ name, /** @type {unknown} */ detail) =>
    root.dispatchEvent(new CustomEvent(name, { detail }));

  const tellLook = () => {
    if (document.hidden) socket?.send(UNSEEN);
    else if (look) socket?.send(look);
    else if (wasHidden) socket?.send(SEEN);
    wasHidden = document.hidden;
  };

  const connect = () => {
    window.clearTimeout(timer);
    if (ended || (document.hidden && !stays()) || socket) return;
    const scheme = location.protocol === "https:" ? "wss" : "ws";
    socket = new WebSocket(
      `${scheme}://${location.host}/live/${root.dataset.live}/?want=${root.dataset.want}`,
    );
    socket.binaryType = "arraybuffer";
    socket.addEventListener("open", () => {
      tries = 0;
      tellLook();
    });
    socket.addEventListener("message", (event) => {
      if (typeof event.data !== "string") {
        const found = pictureOf(event.data);
        tell(found.name.startsWith("hear:") ? "live:sound" : "live:picture", found);
        return;
      }
      const message = JSON.parse(event.data);
      tell(`live:${message.kind}`, message.values);
    });
    socket.addEventListener("close", () => {
      socket = null;
      if (ended || (document.hidden && !stays())) return;
      tell("live:status", { state: "lost", message: LOST });
      timer = window.setTimeout(connect, waitBefore(tries++));
    });
  };

  // A hidden page gets nothing and costs nothing; one that says in its title how a take stands
  // (data-stays) hears of that alone.
  const stays = () => root.dataset.stays !== undefined;
  document.addEventListener(
    "visibilitychange",
    () => {
      if (document.hidden && !stays()) socket?.close();
      else if (socket?.readyState === WebSocket.OPEN) tellLook();
      else connect();
    },
    { signal: stop.signal },
  );
  // Which pictures are in view: told now, and again after every new connection.
  root.addEventListener(
    "live:look",
    (event) => {
      look = /** @type {CustomEvent} */ (event).detail;
      if (socket?.readyState === WebSocket.OPEN) tellLook();
    },
    { signal: stop.signal },
  );
  // What is tried for a moment, and where one is, is not worth keeping.
  for (const what of ["try", "head"]) {
    root.addEventListener(
      `live:${what}`,
      (event) => {
        if (socket?.readyState !== WebSocket.OPEN) return;
        socket.send(JSON.stringify({ [what]: /** @type {CustomEvent} */ (event).detail }));
      },
      { signal: stop.signal },
    );
  }
  connect();
  return {
    destroy() {
      ended = true;
      stop.abort();
      window.clearTimeout(timer);
      socket?.close();
    },
  };
}
