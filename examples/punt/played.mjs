// The game played in Node by the policy in policy/, which a training wrote by `jokulmist export RUN --form javascript`: the returns of some episodes.
import { Punt, described } from "./punt.js";
import { decided } from "./policy/policy.js";

export function played(seed, decisions = []) {
  const punt = new Punt();
  let { observation } = punt.begin(seed, {}), total = 0;
  for (let step = 0; step < described.time_limit; step++) {
    decisions.push(decided(observation)[""]);
    const told = punt.advance(decisions.at(-1));
    for (const term in told.terms) total += described.terms[term] * told.terms[term];
    if (told.closed_by) break;
    observation = told.observation;
  }
  return total;
}

if (typeof process !== "undefined" && process.argv[1]?.endsWith("played.mjs")) {
  for (let seed = 1; seed <= Number(process.argv[2] ?? 10); seed++) {
    const decisions = [];
    console.log(played(seed, decisions).toFixed(3), decisions.join(""));
  }
}
