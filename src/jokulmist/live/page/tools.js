// What all views use: making elements, asking the server, saying numbers and times.

export function make(name, attributes = {}, ...children) {
  const made = document.createElement(name);
  for (const [key, value] of Object.entries(attributes)) {
    if (value === null || value === undefined || value === false) continue;
    if (key.startsWith("on")) made.addEventListener(key.slice(2), value);
    else if (key === "class") made.className = value;
    else if (key === "value" || key === "checked") made[key] = value;
    else made.setAttribute(key, value === true ? "" : value);
  }
  made.append(...children.flat().filter(child => child !== null && child !== undefined && child !== false));
  return made;
}

export class Wrong extends Error {}

export async function ask(path, body) {
  const options = body === undefined ? {} : { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body) };
  let answer;
  try { answer = await fetch(path, options); }
  catch { throw new Wrong("the server does not answer; is `jokulmist live` still running?"); }
  const told = await answer.json().catch(() => ({ error: `the server answered ${answer.status}` }));
  if (!answer.ok) throw new Wrong(told.error || `the server answered ${answer.status}`);
  return told;
}

// An image that the server draws, as an address for an <img>.
export async function drawn(path) {
  const answer = await fetch(path, { method: "POST" });
  if (!answer.ok) throw new Wrong((await answer.json().catch(() => ({}))).error || "no picture");
  return URL.createObjectURL(await answer.blob());
}

// Shows it once it is there; what is asked for meanwhile replaces it.
export async function showDrawn(image, path) {
  image.dataset.path = path;
  const address = await drawn(path).catch(() => null);
  if (image.dataset.path !== path) { if (address) URL.revokeObjectURL(address); return; }
  if (image.src) URL.revokeObjectURL(image.src);
  if (address) image.src = address; else image.dispatchEvent(new Event("error"));
}

let hiding;
export function say(text) {
  const box = document.getElementById("said");
  box.textContent = text;
  box.hidden = !text;
  clearTimeout(hiding);
  if (text) hiding = setTimeout(() => { box.hidden = true; }, 9000);
}

// A button whose work may fail: then the words are shown.
export function button(text, work, attributes = {}) {
  const made = make("button", { type: "button", ...attributes }, text);
  made.addEventListener("click", async () => {
    made.disabled = true;
    try { await work(); }
    catch (wrong) { say(wrong.message); }
    finally { made.disabled = false; }
  });
  return made;
}

export const whole = value => value === null || value === undefined ? "" : Math.round(value).toLocaleString("en-US");
export const number = value => value === null || value === undefined || Number.isNaN(value) ? "-" : String(+Number(value).toPrecision(4));

export function duration(seconds) {
  if (seconds === null || seconds === undefined) return "";
  if (seconds < 90) return `${Math.round(seconds)} s`;
  if (seconds < 5400) return `${Math.round(seconds / 60)} min`;
  return `${(seconds / 3600).toFixed(1)} h`;
}

export function moment(text) {
  const date = typeof text === "number" ? new Date(text * 1000) : new Date(text);
  if (Number.isNaN(date.getTime())) return String(text);
  const two = value => String(value).padStart(2, "0");
  return `${date.getFullYear()}-${two(date.getMonth() + 1)}-${two(date.getDate())} ${two(date.getHours())}:${two(date.getMinutes())}`;
}

export function spark(values) {
  const NS = "http://www.w3.org/2000/svg";
  const svg = document.createElementNS(NS, "svg");
  svg.setAttribute("class", "spark");
  svg.setAttribute("viewBox", "0 0 96 22");
  svg.setAttribute("aria-hidden", "true");
  if (values.length > 1) {
    const low = Math.min(...values), high = Math.max(...values), room = high - low || 1;
    const path = document.createElementNS(NS, "path");
    path.setAttribute("d", values.map((y, k) => `${k ? "L" : "M"}${(k / (values.length - 1) * 94 + 1).toFixed(1)} ${(20 - (y - low) / room * 18).toFixed(1)}`).join(""));
    svg.append(path);
  }
  return svg;
}

// Rows that are sorted: what is no number or is empty comes last.
export function sorted(rows, key, down) {
  const value = row => row[key];
  const empty = v => v === null || v === undefined || v === "" || Number.isNaN(v);
  return [...rows].sort((a, b) => {
    const [x, y] = [value(a), value(b)];
    if (empty(x) || empty(y)) return empty(x) - empty(y);
    const order = typeof x === "number" && typeof y === "number" ? x - y : String(x).localeCompare(String(y), "en", { numeric: true });
    return down ? -order : order;
  });
}

export function matching(rows, text, status) {
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  return rows.filter(row => (!status || row.status === status) && words.every(word => `${row.run} ${row.environment} ${row.agent} ${row.status} seed ${row.seed} ${(row.tags || []).join(" ")} ${row.note || ""}`.toLowerCase().includes(word)));
}

export function grouped(rows, key) {
  const found = new Map();
  for (const row of rows) {
    const name = key ? String(row[key]) : "";
    if (!found.has(name)) found.set(name, []);
    found.get(name).push(row);
  }
  return found;
}

export function table(rows, names, titles = {}) {
  const counted = new Set(names.filter(name => rows.some(row => typeof row[name] === "number")));
  const told = value => typeof value !== "number" ? String(value ?? "") : Number.isInteger(value) ? whole(value) : number(value);
  const kind = name => counted.has(name) ? { class: "number" } : {};
  return make("div", { class: "scroll" }, make("table", {},
    make("thead", {}, make("tr", {}, names.map(name => make("th", { scope: "col", ...kind(name) }, titles[name] || (name.includes(".") ? name : name.replaceAll("_", " ")))))),
    make("tbody", {}, rows.map(row => make("tr", {}, names.map(name => make("td", kind(name), told(row[name]))))))));
}

// Environments in groups: one's own files first, then what runs keep, then the gallery.
const ORIGINS = { file: "files of this folder", run: "kept by runs", gallery: "gallery" };

export function environmentOptions(choices) {
  return Object.entries(ORIGINS).map(([origin, label]) => {
    const some = choices.environments.filter(one => one.origin === origin);
    return some.length ? make("optgroup", { label }, some.map(one => make("option", { value: one.name }, one.label || one.name))) : null;
  });
}

// A file of one's own runs as soon as it is read for what can be set, so that is asked once a file.
const ran = new Set();

export function mayRun(choice, then, place) {
  const file = choice?.origin === "file" ? choice.name.replace(/:.*/, "") : "";
  if (!file || ran.has(file)) return true;
  place.replaceChildren(make("p", { class: "whole" }, `To read what can be set, ${file} is run. `, button(`Run ${file}`, () => { ran.add(file); return then(); }, { class: "main" })));
  return false;
}

// Seconds until nothing waits any more, by what runs of the same environment and method took; null where that is not known.
export function untilEmpty(jobs, rows) {
  const known = [...rows.values()], working = jobs.filter(job => job.status === "working");
  const each = jobs.filter(job => job.status === "working" || job.status === "waiting").map(job => {
    const row = rows.get(job.run);
    if (row?.left) return row.left;
    const alike = known.filter(one => one.rate && one.environment === row?.environment && one.agent === row?.agent);
    return row?.steps && alike.length ? Math.max(row.steps - row.decisions, 0) / alike[alike.length - 1].rate : null;
  });
  return each.includes(null) ? null : each.reduce((sum, seconds) => sum + seconds, 0) / Math.max(working.length, 1);
}
