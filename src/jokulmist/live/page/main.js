// The page: what is known of the folder, which view is shown, and events from the server.
import { ask, make, number, say, whole } from "./tools.js";

// A view is loaded when it is first shown; the first rows are asked for by index.html, before this file is there.
const VIEWS = {
  runs: () => import("./table.js").then(file => file.runsView), run: () => import("./run.js").then(file => file.runView), compare: () => import("./compare.js").then(file => file.compareView),
  new: () => import("./form.js").then(file => file.formView), play: () => import("./play.js").then(file => file.playView), steps: () => import("./steps.js").then(file => file.stepsView),
  search: () => import("./search.js").then(file => file.searchView), queue: () => import("./queue.js").then(file => file.queueView),
};
export const known = { rows: new Map(), count: 0, jobs: [], searches: [], kept: [], look: false, folder: "", chosen: new Set() };
const FIRST = 30;  // as in index.html
let shown = null, opened = 0;

function where() {
  const [path, query = ""] = location.hash.replace(/^#\/?/, "").split("?");
  const [view = "runs", ...rest] = path.split("/").map(decodeURIComponent);
  return { view: VIEWS[view] ? view : "runs", rest, query: new URLSearchParams(query) };
}

// What is known of a view while it opens: what it is of, and of a run its row.
const TITLES = { runs: "Runs", compare: "Compare", new: "New run", play: "Play", queue: "Queue" };
function opening({ view, rest }) {
  const row = view === "run" ? known.rows.get(rest[0]) : null;
  return make("p", { class: "note opening", role: "status" }, make("strong", {}, TITLES[view] || rest.join(" ")), row
    ? ` ${row.status}, ${whole(row.decisions)} decisions, ${whole(row.episodes)} episodes, mean of the last 100: ${number(row.score)}. Its curves are read ...`
    : " opening ...");
}

async function show() {
  if (location.hash === "#main") return;
  // A view that is slow to open writes into a part of its own, which is gone once another was opened.
  const main = document.getElementById("main"), place = where(), part = make("div"), mine = ++opened, sign = opening(place);
  if (shown && shown.leave) shown.leave();
  shown = null;
  main.replaceChildren(sign, part);
  say("");
  for (const link of document.querySelectorAll("nav a")) {
    if (link.dataset.view === place.view) link.setAttribute("aria-current", "page");
    else link.removeAttribute("aria-current");
  }
  let view = {};
  try { view = await (await VIEWS[place.view]())(part, known, place) || {}; }
  catch (wrong) { part.replaceChildren(make("p", { class: "note wrong" }, wrong.message)); }
  sign.remove();
  if (mine !== opened) { view.leave?.(); return; }
  shown = view;
  document.title = document.querySelector("main h1")?.textContent || "runs";
}

function counted() {
  const some = known.jobs.filter(job => job.status === "working" || job.status === "waiting").length;
  const failed = known.jobs.filter(job => job.status === "failed").length;
  document.getElementById("waiting").textContent = [some ? `(${some})` : "", failed ? `${failed} failed` : ""].filter(Boolean).join(" ");
}

// With a number the newest runs alone: a view opens with them, and fills.
async function everything(newest = 0) {
  const told = await ask(newest ? `/api/all?newest=${newest}` : "/api/all");
  Object.assign(known, { count: told.count, jobs: told.jobs, searches: told.searches, kept: told.kept, look: told.look, folder: told.folder });
  known.rows = new Map(told.rows.map(row => [row.run, row]));
  for (const link of document.querySelectorAll(".acts")) link.hidden = known.look;
  counted();
}

function listen() {
  const link = document.getElementById("link");
  const source = new EventSource("/api/events");
  let lost = false;
  source.onopen = async () => {
    link.textContent = "live";
    if (lost) { await everything(); shown?.changed?.({ rows: [...known.rows.values()], jobs: known.jobs }); }
    lost = false;
  };
  source.onerror = () => { link.textContent = "not connected"; lost = true; };
  source.onmessage = async event => {
    const change = JSON.parse(event.data);
    if (change.again) { await everything(); change.rows = [...known.rows.values()]; }
    for (const row of change.rows || []) known.rows.set(row.run, row);
    for (const name of change.gone || []) { known.rows.delete(name); known.chosen.delete(name); }
    known.count = known.rows.size;
    if (change.jobs) known.jobs = change.jobs;
    counted();
    shown?.changed?.(change);
  };
}

function looks(dark) {
  document.documentElement.classList.toggle("dark", dark);
  document.getElementById("look").textContent = dark ? "light" : "dark";
}

let dark = localStorage.getItem("look") ? localStorage.getItem("look") === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
looks(dark);
document.getElementById("look").addEventListener("click", () => { dark = !dark; localStorage.setItem("look", dark ? "dark" : "light"); looks(dark); });
window.addEventListener("hashchange", show);
async function begin() {
  document.getElementById("main").replaceChildren(opening(where()));
  await everything(FIRST);
  await show();
  if (known.rows.size < known.count) { await everything(); shown?.changed?.({ rows: [...known.rows.values()], jobs: known.jobs }); }
  listen();
}

try { await begin(); }
catch (wrong) { document.getElementById("main").replaceChildren(make("p", { class: "note wrong" }, wrong.message)); }
