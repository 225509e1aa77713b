// All runs: a table that filters, sorts and groups, and changes in place.
import { button, duration, grouped, make, matching, moment, number, sorted, spark, whole } from "./tools.js";

const COLUMNS = [["run", "run"], ["environment", "environment"], ["agent", "agent"], ["seed", "seed"], ["status", "status"], ["decisions", "decisions"], ["score", "last 100"], ["spark", ""], ["left", "left"], ["began", "began"]];
const NUMBERS = ["seed", "decisions", "score"], WIDE = ["began", "agent", "seed", "spark", "environment", "left"];
const MOST = 100;
const kinds = key => [NUMBERS.includes(key) && "number", key === "run" && "name", WIDE.includes(key) && "wide"].filter(Boolean).join(" ") || null;

export function cells(row) {
  const share = row.progress === null || row.progress === undefined ? null : Math.round(row.progress * 100);
  const bar = make("i");
  bar.style.width = `${share}%`;
  return {
    run: make("a", { href: `#/run/${encodeURIComponent(row.run)}` }, row.run, (row.tags || []).map(tag => make("span", { class: "tag" }, tag))), environment: row.environment, agent: row.agent, seed: String(row.seed),
    status: make("span", {}, share === null || row.status === "done" ? "" : make("span", { class: "progress", "aria-hidden": "true" }, bar), make("span", { class: `status ${row.status}` }, row.status), share === null ? "" : ` ${share}%`),
    decisions: whole(row.decisions), score: number(row.score), spark: spark(row.spark || []), left: duration(row.left), began: moment(row.began),
  };
}

export function runsView(main, known) {
  const state = JSON.parse(sessionStorage.getItem("runs") || "null") || { text: "", status: "", sort: "began", down: true, group: "" };
  let all = false, most = 30;
  const body = make("tbody"), count = make("span", { class: "note" }), lines = new Map(), heads = new Map();
  const text = make("input", { type: "search", placeholder: "filter: ferry ppo", "aria-label": "filter", value: state.text, oninput: () => { state.text = text.value; draw(); } });
  const choose = (label, key, options) => {
    const made = make("select", { "aria-label": label, onchange: () => { state[key] = made.value; draw(); } }, options.map(([value, told]) => make("option", { value }, told)));
    made.value = state[key];
    return made;
  };
  const compare = button("Compare", () => { location.hash = `#/compare?runs=${[...known.chosen].map(encodeURIComponent).join(",")}`; });
  const more = button("Show all", () => { all = true; draw(); });

  function line(row) {
    let found = lines.get(row.run);
    if (found && found.row === row) return found.tr;
    const told = cells(row);
    const box = make("input", { type: "checkbox", "aria-label": `choose ${row.run}`, checked: known.chosen.has(row.run), onchange: () => { box.checked ? known.chosen.add(row.run) : known.chosen.delete(row.run); chosen(); } });
    const columns = COLUMNS.map(([key]) => make("td", { class: kinds(key) }, told[key]));
    if (found) { found.tr.replaceChildren(found.tr.firstChild, ...columns); found.row = row; return found.tr; }
    found = { row, tr: make("tr", {}, make("td", {}, box), columns) };
    lines.set(row.run, found);
    return found.tr;
  }

  function chosen() {
    compare.disabled = known.chosen.size < 2;
    compare.textContent = known.chosen.size < 2 ? "Choose two or more to compare" : `Compare ${known.chosen.size}`;
  }

  function draw() {
    sessionStorage.setItem("runs", JSON.stringify(state));
    const rows = sorted(matching([...known.rows.values()], state.text, state.status), state.sort, state.down);
    // What a screen shows comes first, the rest once it is painted.
    const some = all ? rows : rows.slice(0, most), wanted = [];
    for (const [name, own] of grouped(some, state.group)) {
      if (state.group) wanted.push(make("tr", { class: "group" }, make("td", { colspan: COLUMNS.length + 1 }, `${name}: ${own.length}`)));
      wanted.push(...own.map(line));
    }
    // Rows that stay where they are are not touched, so that nothing jumps and the focus stays.
    if (wanted.length !== body.children.length || wanted.some((tr, k) => body.children[k] !== tr)) body.replaceChildren(...wanted);
    count.textContent = rows.length === known.count ? `${whole(rows.length)} runs` : `${whole(rows.length)} of ${whole(known.count)} runs${known.rows.size < known.count ? ", the others are being read" : ""}`;
    more.hidden = all || rows.length <= MOST;
    for (const [key, th] of heads) th.setAttribute("aria-sort", key !== state.sort ? "none" : state.down ? "descending" : "ascending");
    empty.hidden = rows.length > 0;
  }

  const head = make("tr", {}, make("th", {}, ""), COLUMNS.map(([key, told]) => {
    const th = make("th", { scope: "col", class: kinds(key) }, told && make("button", { type: "button", onclick: () => { state.down = state.sort === key ? !state.down : key !== "run"; state.sort = key; draw(); } }, told));
    if (told) heads.set(key, th);
    return th;
  }));
  const empty = make("p", { class: "empty" }, known.rows.size ? "No run matches." : "No runs here yet.", known.look ? "" : make("span", {}, " ", make("a", { href: "#/new" }, "Start one"), "."));
  main.append(
    make("h1", {}, known.folder),
    make("div", { class: "tools" }, text, choose("status", "status", [["", "any status"], ...["waiting", "running", "done", "stopped", "killed", "failed"].map(name => [name, name])]),
      choose("group", "group", [["", "not grouped"], ["environment", "by environment"], ["agent", "by agent"], ["status", "by status"]]), compare, count),
    known.searches.length ? make("p", { class: "note" }, "Searches: ", known.searches.flatMap((name, k) => [k ? ", " : "", make("a", { href: `#/search/${encodeURIComponent(name)}` }, name)])) : "",
    make("section", { class: "scroll" }, make("table", { class: "runs" }, make("thead", {}, head), body), empty, more));
  chosen();
  draw();
  if (known.count > most) setTimeout(() => { most = MOST; draw(); }, 50);
  else most = MOST;
  return { changed: change => { if (change.rows || change.gone) { for (const name of change.gone || []) lines.delete(name); draw(); } } };
}
