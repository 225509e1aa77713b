// What waits and what is worked on.
import { ask, button, duration, make, moment } from "./tools.js";

const VERBS = { waiting: ["pause", "first", "stop", "drop"], working: ["pause", "stop"], paused: ["resume", "stop", "drop"], stopped: ["resume", "drop"], failed: ["resume", "drop"], done: ["drop"], damaged: ["drop"] };

export function queueView(main, known) {
  const body = make("tbody"), note = make("p", { class: "note" });
  function draw() {
    const now = Date.now() / 1000;
    body.replaceChildren(...known.jobs.map(job => make("tr", {},
      make("td", { class: "number" }, String(job.id)),
      make("td", {}, make("span", { class: `status ${job.status}` }, job.status), job.asked ? ` (asked to ${job.asked})` : ""),
      make("td", { class: "name" }, make("a", { href: `#/run/${encodeURIComponent(job.run)}` }, job.command)),
      make("td", { class: "wide" }, job.added ? moment(job.added) : ""), make("td", {}, job.began ? duration((job.ended || now) - job.began) : ""),
      make("td", {}, known.look ? "" : (job.accepted ? VERBS[job.status] : ["accept", "drop"]).map(verb => button(verb.replace("-", " "), () => ask(`/api/job/${job.id}/${verb}`, {}), { "aria-label": `${verb.replace("-", " ")} job ${job.id}` }))),
      make("td", { class: "name wrong" }, job.told))));
    const count = status => known.jobs.filter(job => job.status === status).length;
    note.textContent = known.jobs.length ? `${count("working")} at work, ${count("waiting")} waiting` : "Nothing waits. A new run, or `jokulmist train PLAN.toml --queue`, puts something here.";
  }
  main.append(make("h1", {}, "Queue"), note, make("section", { class: "scroll" }, make("table", { class: "runs" }, make("thead", {}, make("tr", {}, ["job", "status", "command", "added", "took", "", ""].map((told, k) => make("th", { scope: "col", class: k === 3 ? "wide" : null }, told)))), body)));
  draw();
  return { changed: change => { if (change.jobs) draw(); } };
}
