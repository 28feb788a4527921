// Which answers are shown, and which changes are sent.
import assert from "node:assert/strict";
import { test } from "node:test";
import { Few, Order, Waiting, slotOf } from "../../pondel/web/static/js/order.js";

test("a late answer never takes the place of a newer one", () => {
  const order = new Order();
  const [first, second] = [order.ask("stage"), order.ask("stage")];
  assert.ok(order.show("stage", second));
  assert.equal(order.show("stage", first), false);
  assert.equal(order.isNewest("stage", first), false);
  assert.ok(order.isNewest("stage", second));
});

test("places do not wait for each other", () => {
  const order = new Order();
  const stage = order.ask("stage");
  const fights = order.ask("fights");
  assert.ok(order.show("fights", fights));
  assert.ok(order.show("stage", stage), "an older answer of another place is shown");
});

test("only the newest value of a control waits, in the order in which controls came up", () => {
  const waiting = new Waiting();
  assert.equal(waiting.put("a", 1), undefined);
  waiting.put("b", 2);
  assert.equal(waiting.put("a", 3), 1, "the older value is handed back");
  assert.ok(waiting.has("a"));
  assert.equal(waiting.size, 2);
  assert.deepEqual(waiting.take(), ["b", 2]);
  assert.deepEqual(waiting.take(), ["a", 3]);
  assert.throws(() => waiting.take(), /nothing waits/);
});

test("what is given up is handed back", () => {
  const waiting = new Waiting();
  waiting.put("a", 1);
  waiting.put("b", 2);
  assert.deepEqual(waiting.clear(), [1, 2]);
  assert.equal(waiting.size, 0);
});

test("two fields of one move have slots of their own, two values of one field share one", () => {
  const set = (field, value) => slotOf({ op: "set move", part: "tuba", move: "m1", field, value });
  assert.notEqual(set("ratio", 2), set("knee_db", 2));
  assert.equal(set("ratio", 2), set("ratio", 4));
  assert.notEqual(slotOf({ op: "set send", part: "tuba", to: "hall" }), slotOf({ op: "set send", part: "tuba", to: "room" }));
});

test("what does rather than sets never takes the place of another", () => {
  const hit = (at_s) => slotOf({ op: "toggle hit", part: "drum", at_s });
  assert.notEqual(hit(1), hit(2));
  assert.notEqual(hit(1), hit(1));
  const send = (more) => slotOf({ op: "set send", part: "tuba", to: "hall", ...more });
  assert.notEqual(send({ level_db: -6 }), send({ tap: "source" }));
  assert.equal(send({ level_db: -6 }), send({ level_db: -9 }));
  const zone = (id, high_hz) => slotOf({ op: "set zone", zone: id, low_hz: 40, high_hz });
  assert.notEqual(zone("z1", 90), zone("z2", 90));
  assert.equal(zone("z1", 90), zone("z1", 120));
});

test("of few things at once the next begins when one ends, in the order in which they came", async () => {
  const few = new Few(2);
  const begun = [];
  const ends = {};
  const ask = (name, signal) =>
    few.within(() => {
      begun.push(name);
      return new Promise((end, fail) => (ends[name] = { end, fail }));
    }, signal);
  const [a, b, c] = ["a", "b", "c"].map((name) => ask(name));
  const gone = new AbortController();
  const given = ask("given up", gone.signal);
  const d = ask("d");
  assert.deepEqual(begun, ["a", "b"]);
  gone.abort();
  ends.b.fail(new Error("broken"));
  await assert.rejects(b, /broken/);
  await Promise.resolve();
  assert.deepEqual(begun, ["a", "b", "c"]);
  ends.a.end(1);
  assert.equal(await a, 1);
  await assert.rejects(given, { name: "AbortError" });
  assert.deepEqual(begun, ["a", "b", "c", "d"]);
  ends.c.end(3);
  ends.d.end(4);
  assert.deepEqual(await Promise.all([c, d]), [3, 4]);
});
