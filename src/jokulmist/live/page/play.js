// An environment in one's own hands, alone or beside a policy; keys, buttons, sliders.
import { ask, button, environmentOptions, make, number, say, showDrawn } from "./tools.js";

export async function playView(main, known, { query }) {
  const asked = {};
  for (const key of ["run", "environment", "episode", "kept", "player"]) if (query.get(key)) asked[key] = query.get(key);
  if (query.get("moment")) asked.moment = Number(query.get("moment"));
  if (!asked.run && !asked.environment && !asked.kept) return chooseView(main, known);
  asked.policy = Boolean(asked.run) && asked.moment === undefined;
  asked.seed = Number(query.get("seed") || 1);
  let told = await ask("/api/games", asked), picture = 0, timer = null;
  const game = `/api/games/${told.game}`;
  const stage = make("div", {}), title = make("p", { class: "note", role: "status" }), controls = make("div", {}), seen = make("div", {}), terms = make("div", {});

  async function to(verb, body = {}) {
    told = { ...told, ...await ask(`${game}/${verb}`, body) };
    draw();
  }
  const chosen = () => Object.fromEntries(told.parts.map(part => [part.name, part.kind === "choice" ? part.chosen[0] : part.chosen]));
  const decide = changes => to("act", { chosen: told.agent ? {} : { ...chosen(), ...changes } });
  const guarded = work => work().catch(wrong => say(wrong.message));

  function watch(on) {
    clearInterval(timer);
    timer = null;
    if (on) timer = setInterval(() => { if (told.over || !told.agent) { watch(false); draw(); } else guarded(() => to("watch")); }, 180);
    draw();
  }

  function controlsOf() {
    if (told.over) return [make("p", { class: "status done" }, `closed by ${told.closed_by.join(", ")}; return ${number(told.total)}`)];
    if (told.agent) return [make("div", { class: "choices" }, button("One decision", () => to("watch"), { class: "main" }), button(timer ? "Pause" : "Watch", () => watch(!timer)))];
    return told.parts.map(part => {
      if (part.kind === "choice") {
        return make("div", {}, part.name ? make("h3", {}, part.name) : "", make("div", { class: "choices" }, part.labels.map((label, k) => button(`${label}`, () => told.parts.length === 1 ? decide({ [part.name]: k }) : pick(part, [k]), {
          "aria-pressed": told.parts.length > 1 ? String(part.chosen[0] === k) : null, disabled: part.legal && !part.legal.includes(label), "aria-keyshortcuts": told.parts.length === 1 && k < 9 ? String(k + 1) : null,
        }))));
      }
      return make("div", {}, part.name ? make("h3", {}, part.name) : "", part.chosen.map((value, k) => {
        const shown = make("output", {}, number(value));
        const slider = make("input", { type: "range", min: part.low[k], max: part.high[k], step: (part.high[k] - part.low[k]) / 200, value, "aria-label": `${part.name || "action"} ${k + 1}`, oninput: () => { part.chosen[k] = Number(slider.value); shown.textContent = number(part.chosen[k]); } });
        return make("div", {}, slider, shown);
      }));
    }).concat(told.parts.length > 1 || told.parts.some(part => part.kind === "range") ? [button("Decide", () => decide({}), { class: "main", "aria-keyshortcuts": "Enter" })] : []);
  }
  function pick(part, value) { part.chosen = value; draw(); return Promise.resolve(); }

  function draw() {
    title.textContent = `${told.environment}, seed ${told.seed}, decision ${told.decision}: ${told.over ? "closed" : told.agent ? "the policy decides" : told.player ? `you are ${told.player}` : "you decide"}`;
    controls.replaceChildren(...controlsOf());
    seen.replaceChildren(make("table", {}, make("tbody", {}, Object.entries(told.seen).map(([name, value]) => make("tr", {}, make("td", {}, name), make("td", { class: "number" }, Array.isArray(value) ? value.flat(3).slice(0, 12).map(number).join(" ") : typeof value === "number" ? number(value) : String(value)))))));
    terms.replaceChildren(make("table", {}, make("thead", {}, make("tr", {}, ["reward", "step", "total"].map(name => make("th", {}, name)))), make("tbody", {}, told.terms.map(term => make("tr", {}, make("td", {}, term.name), make("td", { class: "number" }, number(term.now)), make("td", { class: "number" }, number(term.total)))), make("tr", {}, make("td", {}, "together"), make("td", { class: "number" }, number(told.reward)), make("td", { class: "number" }, number(told.total))))));
    if (!told.picture) stage.replaceChildren(make("div", { class: "stage none" }, "the class has no picture"));
    else {
      if (!stage.firstChild) stage.append(make("img", { class: "stage", alt: "the environment now" }));
      picture += 1;
      showDrawn(stage.firstChild, `${game}/picture?${picture}`);
    }
  }

  function keys(event) {
    if (event.target.closest("input, select, textarea") || event.ctrlKey || event.metaKey || event.altKey) return;
    const only = told.parts.length === 1 && told.parts[0].kind === "choice" ? told.parts[0] : null;
    const digit = /^[1-9]$/.test(event.key) ? Number(event.key) - 1 : -1;
    if (only && digit >= 0 && digit < only.labels.length && !told.agent && !told.over) guarded(() => decide({ [only.name]: digit }));
    else if (event.key === "Enter" && event.target === document.body) guarded(() => told.agent ? to("watch") : decide({}));
    else if (event.key === "b") guarded(() => to("back"));
    else if (event.key === "n") guarded(() => to("another"));
    else if (event.key === "h" && told.policy) guarded(() => to("swap"));
    else if (event.key === "k") guarded(keep);
    else return;
    event.preventDefault();
  }
  async function keep() {
    const { kept } = await ask(`${game}/keep`, {});
    known.kept = [kept, ...known.kept];
    say(`kept as ${kept}`);
    more.replaceChildren(make("a", { href: `#/steps/kept/${encodeURIComponent(kept)}/0` }, `step through ${kept}`));
  }
  const more = make("p", {});
  const seat = player => { const place = new URLSearchParams(query); place.delete("player"); if (player) place.set("player", player); return make("a", { href: `#/play?${place}`, "aria-current": (told.player || "") === player ? "true" : null }, player || "all"); };
  main.append(make("h1", {}, "Play"), title,
    told.players.length ? make("p", { class: "note" }, "seat: ", ["", ...told.players].flatMap((player, k) => [k ? ", " : "", seat(player)]), asked.run && told.player ? "; the others are played by the run's policy" : "") : "",
    make("div", { class: "two" }, make("section", {}, stage, controls),
      make("div", {}, make("section", {}, make("h2", {}, "Seen"), seen), make("section", {}, make("h2", {}, "Reward"), terms),
        make("section", {}, make("div", { class: "choices" }, button("Back", () => to("back")), button("Again", () => to("again")), button("Another", () => to("another")), told.policy ? button("Hand over", () => to("swap")) : "", button("Keep", keep)), more,
          make("p", { class: "note" }, make("kbd", {}, "1"), " to ", make("kbd", {}, "9"), " decide, ", make("kbd", {}, "b"), " back, ", make("kbd", {}, "n"), " another, ", told.policy ? [make("kbd", {}, "h"), " hand over, "] : "", make("kbd", {}, "k"), " keep")))));
  draw();
  document.addEventListener("keydown", keys);
  return { leave: () => { document.removeEventListener("keydown", keys); clearInterval(timer); } };
}

async function chooseView(main, known) {
  const choices = await ask("/api/choices");
  const environment = make("select", { "aria-label": "environment" }, environmentOptions({ environments: choices.environments.filter(one => one.origin !== "run") }));
  const run = make("select", { "aria-label": "run" }, [...known.rows.values()].map(row => make("option", { value: row.run }, `${row.run} (${row.environment})`)));
  const seed = make("input", { value: "1", inputmode: "numeric", size: "4", "aria-label": "seed" });
  main.append(make("h1", {}, "Play"),
    make("section", {}, make("h2", {}, "An environment by yourself"), make("div", { class: "tools" }, environment, make("label", {}, "seed ", seed), button("Play", async () => { location.hash = `#/play?environment=${encodeURIComponent(environment.value)}&seed=${Number(seed.value) || 0}`; }, { class: "main" }))),
    known.rows.size ? make("section", {}, make("h2", {}, "Beside what a run has learned"), make("div", { class: "tools" }, run, button("Play beside it", async () => { location.hash = `#/play?run=${encodeURIComponent(run.value)}&seed=${Number(seed.value) || 0}`; }))) : "",
    known.kept.length ? make("section", {}, make("h2", {}, "Kept episodes"), known.kept.map(name => make("p", {}, make("a", { href: `#/steps/kept/${encodeURIComponent(name)}/0` }, name)))) : "");
}
