// What the page's views share, without a browser.
import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import test from "node:test";

const source = readFileSync(new URL("../../src/jokulmist/live/page/tools.js", import.meta.url));
const { duration, grouped, matching, number, sorted, untilEmpty, whole } = await import(`data:text/javascript;base64,${source.toString("base64")}`);
const rows = [
  { run: "ferry-2", environment: "ferry", agent: "PPO", status: "done", seed: 1, score: 3 },
  { run: "ferry-10", environment: "ferry", agent: "DQN", status: "running", seed: 2, score: null },
  { run: "tarn-1", environment: "tarn", agent: "PPO", status: "done", seed: 1, score: -4.5 },
];
const names = found => found.map(row => row.run);

test("rows are sorted by number and by name, what is empty last, whichever way", () => {
  assert.deepEqual(names(sorted(rows, "score", true)), ["ferry-2", "tarn-1", "ferry-10"]);
  assert.deepEqual(names(sorted(rows, "score", false)), ["tarn-1", "ferry-2", "ferry-10"]);
  assert.deepEqual(names(sorted(rows, "run", false)), ["ferry-2", "ferry-10", "tarn-1"]);
});

test("every word of a filter must be somewhere in a row", () => {
  assert.deepEqual(names(matching(rows, "FERRY ppo", "")), ["ferry-2"]);
  assert.deepEqual(names(matching(rows, "seed 1", "done")), ["ferry-2", "tarn-1"]);
  assert.deepEqual(names(matching(rows, "", "running")), ["ferry-10"]);
});

test("groups keep the order of their rows", () => {
  assert.deepEqual([...grouped(rows, "agent")].map(([name, own]) => [name, own.length]), [["PPO", 2], ["DQN", 1]]);
  assert.equal(grouped(rows, "").get("").length, 3);
});

test("numbers and times are short", () => {
  assert.deepEqual([number(1234.5678), number(null), number(NaN), whole(1234567)], ["1235", "-", "-", "1,234,567"]);
  assert.deepEqual([duration(12), duration(600), duration(7200), duration(null)], ["12 s", "10 min", "2.0 h", ""]);
});

test("when nothing waits any more is known from runs of the same kind", () => {
  const known = new Map(["a", "b", "c"].map(run => [run, { run, environment: "ferry", agent: "PPO", decisions: 0, steps: 6_000 }]));
  Object.assign(known.get("a"), { rate: 100, decisions: 6_000 });
  Object.assign(known.get("b"), { rate: 200, decisions: 4_000, left: 10 });
  const jobs = [{ run: "b", status: "working" }, { run: "c", status: "waiting" }, { run: "a", status: "done" }];
  assert.equal(untilEmpty(jobs, known), 10 + 6_000 / 200);
  assert.equal(untilEmpty([...jobs, { run: "d", status: "waiting" }], known), null);
  assert.equal(untilEmpty([], known), 0);
});
