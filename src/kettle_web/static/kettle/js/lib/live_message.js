/** What comes over the live WebSocket: JSON, or a name, a zero byte and its bytes: a JPEG, or sound. */

/**
 * @param {ArrayBuffer} buffer
 * @returns {{name: string, data: Uint8Array<ArrayBuffer>}}
 */
export function pictureOf(buffer) {
  const bytes = new Uint8Array(buffer);
  const end = bytes.indexOf(0);
  if (end < 1) throw new Error("A live picture came without a name.");
  return { name: new TextDecoder().decode(bytes.subarray(0, end)), data: bytes.subarray(end + 1) };
}

/**
 * How long to wait before connecting again: longer each time, 4 s at the most.
 * @param {number} tries @returns {number} ms
 */
export function waitBefore(tries) {
  return Math.min(4000, 250 * 2 ** tries);
}
