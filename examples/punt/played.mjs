// The game played in Node by the policy in policy/, which a training wrote by `jokulmist export RUN --form js`: the returns of some episodes.
import { Punt, described } from "./punt.js";
import { decided } from "./policy/policy.js";

export function played(seed, punt = new Punt(), advance = null) {
  let { observation } = punt.begin(seed, {}), total = 0;
  for (let step = 0; step < described.time_limit; step++) {
    const told = punt.advance(decided(observation)[""]);
    for (const term in told.terms) total += described.terms[term] * told.terms[term];
    advance?.(punt);
    if (told.closed_by) break;
    observation = told.observation;
  }
  return total;
}

if (typeof process !== "undefined" && process.argv[1]?.endsWith("played.mjs")) {
  for (let seed = 1; seed <= Number(process.argv[2] ?? 10); seed++) console.log(played(seed).toFixed(3));
}
