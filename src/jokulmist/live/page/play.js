// An environment in one's own hands, alone or beside a policy; keys, buttons, sliders.
import { ask, button, environmentOptions, make, number, say, showDrawn } from "./tools.js";

const DIRECTIONS = { ArrowLeft: ["left", "west", "port"], ArrowRight: ["right", "east", "starboard"], ArrowUp: ["up", "north"], ArrowDown: ["down", "south"] };
const IDLE = ["0", "stay", "wait", "idle", "none", "nothing", "hold", "rest"];
const LOOK_EVERY = 400;

// Which label of a choice a key means: a digit its place, an arrow a direction that only one label names.
function labelOf(part, key) {
  if (part.kind !== "choice") return -1;
  if (/^[1-9]$/.test(key)) return Number(key) <= part.labels.length ? Number(key) - 1 : -1;
  const places = part.labels.map((label, k) => (DIRECTIONS[key] || []).some(word => label.toLowerCase().split(/[^a-z]+/).includes(word)) ? k : -1).filter(k => k >= 0);
  return places.length === 1 ? places[0] : -1;
}

export async function playView(main, known, { query }) {
  const asked = {};
  for (const key of ["run", "environment", "episode", "kept", "player"]) if (query.get(key)) asked[key] = query.get(key);
  if (query.get("moment")) asked.moment = Number(query.get("moment"));
  const shared = query.get("game");
  if (!asked.run && !asked.environment && !asked.kept && !shared) return chooseView(main, known);
  asked.shared = query.get("shared") === "1";
  asked.policy = Boolean(asked.run) && asked.moment === undefined;
  asked.seed = Number(query.get("seed") || 1);
  let told = shared ? await seated(shared, query.get("player")) : await ask("/api/games", asked), picture = 0, timer = null, drawing = false, due = false, running = false;
  if (asked.shared) { location.replace(`#/play?game=${told.game}&player=${encodeURIComponent(told.players[0])}`); return {}; }
  const game = `/api/games/${told.game}`, held = new Set(), seat = told.seat;
  const stage = make("div", {}), title = make("p", { class: "note", role: "status" }), controls = make("div", {}), seen = make("div", {}), terms = make("div", {});

  // What another person may have changed.
  const standing = () => JSON.stringify([told.decision, told.over, told.waits_for, told.occupants]);
  async function to(verb, body = {}) {
    const before = standing();
    told = { ...told, ...await ask(`${game}/${verb}`, seat ? { ...body, seat } : body) };
    if (verb !== "look" || before !== standing()) draw();
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

  // At the pace of frames: what is held down is decided, else what means nothing, else what was chosen last.
  function run(on) {
    running = on && !told.over && !told.agent;
    clearTimeout(timer);
    if (running) frame();
    draw();
  }
  async function frame() {
    const began = performance.now();
    for (const part of told.parts) {
      const keyed = [...held].map(key => labelOf(part, key)).find(k => k >= 0), idle = part.kind === "choice" ? part.labels.findIndex(label => IDLE.includes(label.toLowerCase())) : -1;
      if (keyed !== undefined) part.chosen = [keyed];
      else if (idle >= 0) part.chosen = [idle];
    }
    try { await decide({}); }
    catch (wrong) { say(wrong.message); running = false; }
    if (!running) return;
    if (told.over || told.agent) run(false);
    else timer = setTimeout(frame, Math.max(0, 1000 / told.frame_rate - (performance.now() - began)));
  }

  function controlsOf() {
    if (told.over) return [make("p", { class: "status done" }, `closed by ${told.closed_by.join(", ")}; return ${number(told.total)}`)];
    if (told.agent) return [make("div", { class: "choices" }, button("One decision", () => to("watch"), { class: "main" }), button(timer ? "Pause" : "Watch", () => watch(!timer)))];
    const waits = told.shared && !told.waits_for.includes(told.player);
    const decides = told.parts.length === 1 && !running;
    return told.parts.map(part => {
      if (part.kind === "choice") {
        return make("div", {}, part.name ? make("h3", {}, part.name) : "", make("div", { class: "choices" }, part.labels.map((label, k) => button(`${label}`, () => decides ? decide({ [part.name]: k }) : pick(part, [k]), {
          "aria-pressed": decides ? null : String(part.chosen[0] === k), disabled: waits || (part.legal && !part.legal.includes(label)), "aria-keyshortcuts": told.parts.length === 1 && k < 9 ? String(k + 1) : null,
        }))));
      }
      return make("div", {}, part.name ? make("h3", {}, part.name) : "", part.chosen.map((value, k) => {
        const shown = make("output", {}, number(value));
        const slider = make("input", { type: "range", min: part.low[k], max: part.high[k], step: (part.high[k] - part.low[k]) / 200, value, "aria-label": `${part.name || "action"} ${k + 1}`, oninput: () => { part.chosen[k] = Number(slider.value); shown.textContent = number(part.chosen[k]); } });
        return make("div", {}, slider, shown);
      }));
    }).concat(told.parts.length > 1 || told.parts.some(part => part.kind === "range") ? [button("Decide", () => decide({}), { class: "main", disabled: waits, "aria-keyshortcuts": "Enter" })] : []);
  }
  function pick(part, value) { part.chosen = value; controls.replaceChildren(...controlsOf()); return Promise.resolve(); }

  async function paint() {
    if (drawing) { due = true; return; }
    drawing = true;
    do {
      due = false;
      picture += 1;
      await showDrawn(stage.firstChild, `${game}/picture?${picture}`);
    } while (due);
    drawing = false;
  }
  const turn = () => told.shared ? (told.waits_for.includes(told.player) ? `you are ${told.player} and decide` : `you are ${told.player}; waiting for ${told.waits_for.join(", ")}`) : told.player ? `you are ${told.player}` : "you decide";

  function draw() {
    title.textContent = `${told.environment}, seed ${told.seed}, decision ${told.decision}: ${told.over ? "closed" : told.agent ? "the policy decides" : turn()}`;
    // A button that is replaced at every frame could not be clicked.
    if (!running || told.over) controls.replaceChildren(...controlsOf());
    pace.hidden = !told.frame_rate || told.shared || told.over || told.agent;
    pace.textContent = running ? "Pause" : `Play at ${told.frame_rate} decisions a second`;
    seats.replaceChildren(...seatsOf());
    seen.replaceChildren(make("table", {}, make("tbody", {}, Object.entries(told.seen).map(([name, value]) => make("tr", {}, make("td", {}, name), make("td", { class: "number" }, Array.isArray(value) ? value.flat(3).slice(0, 12).map(number).join(" ") : typeof value === "number" ? number(value) : String(value)))))));
    terms.replaceChildren(make("table", {}, make("thead", {}, make("tr", {}, ["reward", "step", "total"].map(name => make("th", {}, name)))), make("tbody", {}, told.terms.map(term => make("tr", {}, make("td", {}, term.name), make("td", { class: "number" }, number(term.now)), make("td", { class: "number" }, number(term.total)))), make("tr", {}, make("td", {}, "together"), make("td", { class: "number" }, number(told.reward)), make("td", { class: "number" }, number(told.total))))));
    if (!told.picture) stage.replaceChildren(make("div", { class: "stage none" }, "the class has no picture"));
    else {
      if (!stage.firstChild) stage.append(make("img", { class: "stage", alt: "the environment now" }));
      paint();
    }
  }

  function keys(event) {
    if (event.target.closest("input, select, textarea") || event.ctrlKey || event.metaKey || event.altKey) return;
    const part = told.agent || told.over ? undefined : told.parts.find(one => labelOf(one, event.key) >= 0), label = part ? labelOf(part, event.key) : -1;
    if (part && running) held.add(event.key);
    else if (part && told.parts.length === 1) guarded(() => decide({ [part.name]: label }));
    else if (part) pick(part, [label]);
    else if (event.key === " " && told.frame_rate && !told.shared && event.target === document.body) run(!running);
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
  const released = event => held.delete(event.key);
  const pace = button("", () => { run(!running); return Promise.resolve(); }), seats = make("p", { class: "note" });
  const link = player => { const place = new URLSearchParams(query); place.delete("player"); if (player) place.set("player", player); return make("a", { href: `#/play?${place}`, "aria-current": (told.player || "") === player ? "true" : null }, player || "all"); };
  function seatsOf() {
    if (!told.players.length) return [];
    if (told.shared) return ["seats: ", ...told.players.flatMap((player, k) => [k ? ", " : "", told.occupants.includes(player) ? `${player}${player === told.player ? ", yours" : ", taken"}`
      : make("a", { href: `#/play?game=${told.game}&player=${encodeURIComponent(player)}`, target: "_blank" }, `${player}, free: open this address elsewhere`)])];
    const place = new URLSearchParams(query);
    place.set("shared", "1");
    return ["seat: ", ...["", ...told.players].flatMap((player, k) => [k ? ", " : "", link(player)]), asked.run && told.player ? "; the others are played by the run's policy" : "", "; ", make("a", { href: `#/play?${place}` }, "a person at each seat")];
  }
  main.append(make("h1", {}, "Play"), title, seats,
    make("div", { class: "two" }, make("section", {}, stage, controls, pace),
      make("div", {}, make("section", {}, make("h2", {}, "Seen"), seen), make("section", {}, make("h2", {}, "Reward"), terms),
        make("section", {}, make("div", { class: "choices" }, button("Back", () => to("back")), button("Again", () => to("again")), button("Another", () => to("another")), told.policy ? button("Hand over", () => to("swap")) : "", button("Keep", keep)), more,
          make("p", { class: "note" }, make("kbd", {}, "1"), " to ", make("kbd", {}, "9"), " and arrows that a label names decide, ", told.frame_rate ? [make("kbd", {}, "space"), " plays at the pace of frames, "] : "", make("kbd", {}, "b"), " back, ", make("kbd", {}, "n"), " another, ", told.policy ? [make("kbd", {}, "h"), " hand over, "] : "", make("kbd", {}, "k"), " keep")))));
  draw();
  document.addEventListener("keydown", keys);
  document.addEventListener("keyup", released);
  const looking = told.shared ? setInterval(() => to("look").catch(() => {}), LOOK_EVERY) : null;
  return { leave: () => { running = false; document.removeEventListener("keydown", keys); document.removeEventListener("keyup", released); clearInterval(timer); clearInterval(looking); } };
}

// A seat of a shared game: the one that this tab has, or a free one.
async function seated(game, player) {
  const key = `${game} ${player}`, seat = sessionStorage.getItem(key), path = `/api/games/${encodeURIComponent(game)}`;
  const told = seat ? { ...await ask(`${path}/look`, { seat }), seat } : await ask(`${path}/sit`, { player });
  sessionStorage.setItem(key, told.seat);
  return { ...told, game };
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
