/** A WebSocket in a test's hands, and all that were made. */

/** @type {FakeSocket[]} */
export const sockets = [];

export class FakeSocket extends EventTarget {
  static OPEN = 1;
  readyState = 0;
  /** @type {any[]} */
  sent = [];
  constructor(address = "") {
    super();
    this.address = address;
    sockets.push(this);
  }
  open() {
    this.readyState = 1;
    this.dispatchEvent(new Event("open"));
  }
  send(/** @type {string} */ text) {
    this.sent.push(JSON.parse(text));
  }
  /** The server, or the net, has ended it. */
  end(code = 1000) {
    this.readyState = 3;
    this.dispatchEvent(Object.assign(new Event("close"), { code }));
  }
  close() {
    this.end();
  }
}
