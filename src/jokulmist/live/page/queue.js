// What waits and what is worked on.
import { ask, button, duration, make, moment, say, untilEmpty } from "./tools.js";

const VERBS = { waiting: ["pause", "first", "move_up", "move_down", "stop", "drop"], working: ["pause", "stop"], paused: ["resume", "move_up", "move_down", "stop", "drop"], stopped: ["resume", "drop"], failed: ["resume", "drop"], done: ["drop"], damaged: ["drop"] };
const TITLES = { move_up: "up", move_down: "down" };

export function queueView(main, known) {
  const body = make("tbody"), note = make("p", { class: "note" }), failed = make("div", { role: "alert" }), chosen = new Set();
  const bulk = make("div", { class: "tools" }, "chosen jobs: ", ["pause", "resume", "stop", "drop"].map(verb => button(verb, () => all(verb))));

  async function all(verb) {
    const refused = [];
    for (const id of [...chosen]) await ask(`/api/job/${id}/${verb}`, {}).catch(wrong => refused.push(wrong.message));
    chosen.clear();
    draw();
    say(refused.join(" "));
  }

  const place = job => `#/${known.searches.includes(job.run) ? "search" : "run"}/${encodeURIComponent(job.run)}`;

  function actions(job) {
    if (known.look) return "";
    const again = ["failed", "stopped", "done"].includes(job.status) && !known.searches.includes(job.run) ? make("a", { href: `#/new?run=${encodeURIComponent(job.run)}`, "aria-label": `again with changes, job ${job.id}` }, "again with changes") : "";
    return [...(job.accepted ? VERBS[job.status] : ["accept", "drop"]).map(verb => button(TITLES[verb] || verb, () => ask(`/api/job/${job.id}/${verb}`, {}), { "aria-label": `${verb.replace("_", " ")} job ${job.id}` })), " ", again];
  }

  function pick(job) {
    const box = make("input", { type: "checkbox", "aria-label": `choose job ${job.id}`, checked: chosen.has(job.id), onchange: () => { chosen[box.checked ? "add" : "delete"](job.id); bulk.hidden = !chosen.size; } });
    return box;
  }

  function draw() {
    const now = Date.now() / 1000;
    for (const id of chosen) if (!known.jobs.some(job => job.id === id)) chosen.delete(id);
    bulk.hidden = !chosen.size;
    body.replaceChildren(...known.jobs.map(job => make("tr", {},
      make("td", {}, known.look ? "" : pick(job)),
      make("td", { class: "number" }, String(job.id)),
      make("td", {}, make("span", { class: `status ${job.status}` }, job.status), job.asked ? ` (asked to ${job.asked})` : ""),
      make("td", { class: "name" }, make("a", { href: place(job) }, job.command)),
      make("td", { class: "wide" }, job.added ? moment(job.added) : ""), make("td", {}, job.began ? duration((job.ended || now) - job.began) : ""),
      make("td", {}, actions(job)),
      make("td", { class: job.status === "done" ? "name" : "name wrong" }, job.told))));
    failed.replaceChildren(...known.jobs.filter(job => job.status === "failed").map(job => make("p", { class: "wrong banner" }, `Job ${job.id} failed, ${job.command}: ${job.told || "no reason is known"} `, make("a", { href: place(job) }, "its log"))));
    count();
  }

  // What is left follows the runs at work, too; the table does not, so that the focus stays.
  function count() {
    const some = status => known.jobs.filter(job => job.status === status).length, left = untilEmpty(known.jobs, known.rows);
    note.textContent = known.jobs.length ? `${some("working")} at work, ${some("waiting")} waiting${left ? (some("working") ? `; empty in about ${duration(left)}` : `; about ${duration(left)} of work`) : ""}` : "Nothing waits. A new run, or `jokulmist train PLAN.toml --queue`, puts something here.";
  }
  main.append(make("h1", {}, "Queue"), failed, note, bulk, make("section", { class: "scroll" }, make("table", { class: "runs" }, make("thead", {}, make("tr", {}, ["", "job", "status", "command", "added", "took", "", ""].map((told, k) => make("th", { scope: "col", class: k === 4 ? "wide" : null }, told)))), body)));
  draw();
  return { changed: change => { if (change.jobs) draw(); else count(); } };
}
