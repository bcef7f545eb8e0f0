import assert from "node:assert/strict";
import test from "node:test";
import {
  dbfs,
  decibels,
  elapsed,
  inOwnZone,
  lufs,
  megabytes,
  percent,
  timeLeft,
} from "../../src/kettle_web/static/kettle/js/lib/format.js";
import { pictureOf, waitBefore } from "../../src/kettle_web/static/kettle/js/lib/live_message.js";

test("elapsed time has hours, minutes, seconds and tenths", () => {
  assert.equal(elapsed(0), "0:00:00.0");
  assert.equal(elapsed(59.99), "0:00:59.9");
  assert.equal(elapsed(3725.6), "1:02:05.6");
  assert.equal(elapsed(-1), "0:00:00.0");
});

test("sizes and levels carry their units", () => {
  assert.equal(megabytes(12_340_000), "12.3 MB");
  assert.equal(megabytes(496_000_000), "496 MB");
  assert.equal(megabytes(83_300_000_000), "83.3 GB");
  assert.equal(dbfs(-18.25), "−18.3 dBFS");
  assert.equal(dbfs(-120), "−∞ dBFS");
  assert.equal(decibels(-7.5), "−7.5 dB");
  assert.equal(decibels(12), "+12.0 dB");
  assert.equal(lufs(-23.04), "−23.0 LUFS");
  assert.equal(lufs(-120), "−∞ LUFS");
  assert.equal(percent(0.784), "78 %");
  assert.equal(percent(-0.1), "−10 %");
});

test("time left is in words and may be unknown", () => {
  assert.equal(timeLeft(null), "");
  assert.equal(timeLeft(12.2), "13 s left");
  assert.equal(timeLeft(125), "2 min 05 s left");
});

test("a picture comes with its name", () => {
  const bytes = new Uint8Array([112, 49, 0, 255, 216]);
  const { name, data } = pictureOf(bytes.buffer);
  assert.equal(name, "p1");
  assert.deepEqual([...data], [255, 216]);
  assert.throws(() => pictureOf(new Uint8Array([0, 1]).buffer), /without a name/);
});

test("connecting again takes longer each time, up to 4 s", () => {
  assert.deepEqual([0, 1, 2, 9].map(waitBefore), [250, 500, 1000, 4000]);
});

test("a time stands in the user's own zone", () => {
  const moment = "2026-11-26T23:37:00+00:00";
  assert.equal(inOwnZone(moment, "UTC"), "26 November 2026, 23:37");
  assert.equal(inOwnZone(moment, "Europe/Helsinki"), "27 November 2026, 01:37");
  assert.equal(inOwnZone("soon"), "");
});
