import assert from "node:assert/strict";
import test from "node:test";

/** What a page has of forms and fields, as far as it is asked. */
class Field {
  constructor(form, name, value, type = "text") {
    Object.assign(this, { form, name, value, defaultValue: value, type, isConnected: true });
    form?.elements.push(this);
  }
  matches(selector) {
    return selector.split(", ").some((one) => one === "input" || one.includes(`=${this.type}`));
  }
  getAttribute() {
    return null;
  }
}
class Form {
  elements = [];
  isConnected = true;
  constructor(saves) {
    this.saves = saves;
  }
  matches() {
    return this.saves === "itself";
  }
}
class Page extends EventTarget {
  activeElement = null;
  typed(field, text) {
    field.value = text;
    const event = new Event("input");
    Object.defineProperty(event, "target", { value: field });
    this.dispatchEvent(event);
  }
}
globalThis.HTMLInputElement = Field;
globalThis.FormData = class extends Map {
  constructor(form) {
    super(form.elements.map((one) => [one.name, one.value]));
  }
};
const { typedFields } = await import("../../src/kettle_web/static/kettle/js/lib/typed_fields.js");

function opened(saves) {
  const page = new Page();
  const form = new Form(saves);
  return { page, form, name: new Field(form, "name", "Take 1"), fields: typedFields(page) };
}

test("what is being typed is newer than the page, until it was saved", () => {
  const { page, form, name, fields } = opened("itself");
  assert.ok(!fields.isNewer(name));
  page.activeElement = name;
  page.typed(name, "Take one");
  assert.ok(fields.isNewer(name));
  assert.equal(fields.typedNow(), form);
  const data = fields.dataOf(form);
  assert.equal(data.get("name"), "Take one");
  // To look at what it would be is not to save it.
  assert.ok(fields.isNewer(name));
  fields.begin(data);
  page.activeElement = null;
  assert.ok(fields.isNewer(name));
  fields.end(data, true);
  assert.ok(!fields.isNewer(name));
});

test("what could not be sent stays, and its form is known until it was", () => {
  const { page, form, name, fields } = opened("itself");
  page.typed(name, "Take one");
  const data = fields.dataOf(form);
  fields.begin(data);
  fields.end(data, false);
  assert.deepEqual(fields.unsent(), [form]);
  assert.ok(fields.isNewer(name));
  const again = fields.dataOf(form);
  fields.begin(again);
  fields.end(again, true);
  assert.deepEqual(fields.unsent(), []);
  assert.ok(!fields.isNewer(name));
});

test("what was typed on while it was sent is newer than what was saved", () => {
  const { page, form, name, fields } = opened("by a button");
  page.typed(name, "Take o");
  const data = fields.dataOf(form);
  fields.begin(data);
  page.typed(name, "Take one");
  fields.end(data, true);
  assert.ok(fields.isNewer(name));
});

test("what the server will not have stays to be mended; a form that is gone is sent no more", () => {
  const { page, form, name, fields } = opened("itself");
  page.typed(name, "x".repeat(300));
  const data = fields.dataOf(form);
  fields.begin(data);
  fields.refuse(data);
  assert.ok(fields.isNewer(name));
  assert.deepEqual(fields.unsent(), []);
  const lost = fields.dataOf(form);
  fields.begin(lost);
  fields.end(lost, false);
  form.isConnected = false;
  assert.deepEqual(fields.unsent(), []);
});
