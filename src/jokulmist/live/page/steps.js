// A recorded episode, moment by moment, with a slider; from any moment one can go on by hand.
import { ask, button, make, number, say, showDrawn } from "./tools.js";

export async function stepsView(main, known, { rest }) {
  const [of, name, which = "0"] = rest;
  const path = `/api/episode/${of}/${encodeURIComponent(name)}/${encodeURIComponent(which)}`;
  const told = await ask(path, {});
  let at = 0, timer = null, asked = 0;
  const image = make("img", { class: "stage", alt: "the environment at this moment" }), facts = make("div"), says = make("div"), where = make("output", { class: "note" });
  const slider = make("input", { type: "range", min: 0, max: told.steps, step: 1, value: 0, "aria-label": "moment", oninput: () => go(Number(slider.value)) });
  const cell = (column, k) => { const value = told.columns[column]?.[k]; return value === null || value === undefined ? "" : typeof value === "number" ? number(value) : Array.isArray(value) ? value.map(number).join(" ") : String(value); };
  image.addEventListener("error", () => image.replaceWith(make("div", { class: "stage none" }, "no picture")), { once: true });

  async function go(k) {
    at = Math.max(0, Math.min(told.steps, k));
    slider.value = at;
    where.textContent = `moment ${at} of ${told.steps}`;
    const total = told.columns.reward.slice(0, at).reduce((sum, value) => sum + (value || 0), 0);
    const names = Object.keys(told.columns);
    const actions = names.filter(column => column === "action" || column.startsWith("action."));
    const rows = [...told.seen.map(column => [column, cell(column, at)]), ...actions.map(column => [column, cell(column, at) || "-"]), ["reward", cell("reward", at) || "-"], ...told.terms.map((column, j) => [`${column} x ${number(told.weights[j])}`, cell(column, at)]), ["return so far", number(total)]];
    facts.replaceChildren(make("table", {}, make("tbody", {}, rows.map(([key, value]) => make("tr", {}, make("td", {}, key), make("td", { class: "number" }, value))))));
    showDrawn(image, `${path}/${at}/picture`);
    const own = ++asked;
    if (of !== "run") return;
    const said = await ask(`${path}/${at}/says`, {}).catch(() => ({}));
    if (own !== asked) return;
    says.replaceChildren();
    if (!said.of) return;
    const values = Object.values(said.of), low = said.kind === "chance" ? 0 : Math.min(...values), high = said.kind === "chance" ? 1 : Math.max(...values);
    says.append(make("h3", {}, said.kind === "chance" ? "Chances, by the newest policy" : "Values, by the newest policy"), make("div", { class: "bars" }, Object.entries(said.of).flatMap(([label, value]) => {
      const bar = make("i");
      bar.style.width = `${Math.max(0, (value - low) / (high - low || 1) * 100)}%`;
      return [make("span", {}, label), make("span", {}, bar), make("span", { class: "number" }, number(value))];
    })));
  }
  function run(on) {
    clearInterval(timer);
    timer = on ? setInterval(() => { if (at >= told.steps) run(false); else go(at + 1); }, 250) : null;
    playing.textContent = timer ? "Pause" : "Run";
  }
  function keys(event) {
    if (event.target.closest("input, select, textarea")) return;
    const step = { ArrowLeft: -1, ArrowRight: 1, PageUp: -10, PageDown: 10, Home: -told.steps, End: told.steps }[event.key];
    if (step === undefined) return;
    event.preventDefault();
    go(at + step);
  }
  const playing = button("Run", async () => run(!timer));
  const source = of === "run" ? `run=${encodeURIComponent(name)}&episode=${encodeURIComponent(which)}` : `kept=${encodeURIComponent(name)}`;
  main.append(make("h1", {}, of === "run" ? `${name}, ${/^\d+$/.test(which) ? `episode ${which}` : `${which} recorded`}` : name),
    make("p", { class: "note" }, `${told.environment}: ${told.steps} decisions, return ${number(told.return)}${told.closed_by ? `, closed by ${told.closed_by}` : ""}`),
    make("div", { class: "two" }, make("section", {}, image, slider, make("div", { class: "choices" }, button("Before", () => go(at - 1)), button("Next", () => go(at + 1)), playing, where,
      known.look ? "" : button("Go on by hand from here", async () => { if (at >= told.steps) { say("the episode is over here; choose an earlier moment"); return; } location.hash = `#/play?${source}&moment=${at}`; }))),
      make("div", {}, make("section", {}, make("h2", {}, "At this moment"), facts), make("section", {}, says))));
  document.addEventListener("keydown", keys);
  await go(0);
  return { leave: () => { document.removeEventListener("keydown", keys); clearInterval(timer); } };
}
