// One run, as it happens.
import { Chart } from "/page/charts.js";
import { cells } from "./table.js";
import { ask, button, drawn, make, say, table, whole } from "./tools.js";

const EVERY = 1500;

export async function runView(main, known, { rest }) {
  const name = rest[0] || "", path = `/api/run/${encodeURIComponent(name)}`;
  const charts = new Map(), parts = {};
  let told = await ask(path, {}), busy = false, due = false, gone = false;
  const act = (text, verb, body, note) => button(text, async () => { const found = await ask(`${path}/${verb}`, body || {}); say(found.told || `job ${found.id} waits: ${found.command}${note || ""}`); });

  function chart(key, figure, data, section) {
    const empty = !data || !data.series.length || (data.edges && !data.edges.length);
    if (section) section.hidden = empty;
    if (empty) return;
    if (charts.has(key)) charts.get(key).renew(data);
    else charts.set(key, new Chart(figure, data));
  }

  const form = make("select", { "aria-label": "form of the export" }, ["python", "c", "javascript", "onnx"].map(value => make("option", { value }, value)));

  // What is written to a run afterwards; it is saved as soon as a field is left.
  function labelled() {
    const row = told.labels;
    const note = make("textarea", { "aria-label": "note", rows: "1", placeholder: "a note to yourself", value: row.note });
    const tags = make("input", { "aria-label": "tags", placeholder: "tags: calm, baseline", value: row.tags.join(", ") });
    const save = () => ask(`${path}/label`, { note: note.value, tags: tags.value.split(",").map(tag => tag.trim()).filter(Boolean) }).then(() => say("saved")).catch(wrong => say(wrong.message));
    note.addEventListener("change", save);
    tags.addEventListener("change", save);
    const other = make("input", { "aria-label": "another name", value: name });
    return make("details", { open: Boolean(row.note || row.tags.length) }, make("summary", {}, "Note, tags, name"), make("div", { class: "fields labels" }, note, tags,
      make("div", {}, other, button("Rename", async () => { const { run } = await ask(`${path}/rename`, { name: other.value.trim() }); location.hash = `#/run/${encodeURIComponent(run)}`; })),
      make("div", {}, button("Move to the bin", async () => { const { told } = await ask(`${path}/bin`, {}); location.hash = "#/runs"; say(told); }), make("span", { class: "note" }, " the folder .bin, which you empty by hand"))));
  }

  function built() {
    const figure = className => make("figure", { class: `chart ${className}` });
    for (const key of ["curve", "machine", ...Object.keys(told.sections)]) parts[key] = figure(key === "curve" ? "tall" : "");
    parts.status = make("p", { class: "note" });
    parts.readings = make("div", { class: "small" });
    parts.evaluations = make("div");
    parts.log = make("pre");
    parts.replays = make("div", { class: "replays" });
    const sections = {};
    for (const [key, title] of [...Object.entries(told.sections), ["machine", "Machine"]]) sections[key] = make("section", {}, make("h2", {}, title), parts[key]);
    parts.sections = sections;
    const look = which => button(`Draw an episode, ${which}`, async () => {
      const image = make("img", { src: await drawn(`${path}/replay/${which}`), alt: `an episode, ${which}` });
      parts.replays.append(make("div", {}, image, make("h3", {}, which === "early" ? "before any training" : "as it is now")));
    });
    main.append(
      make("h1", {}, name), parts.status,
      known.look ? "" : make("div", { class: "tools" }, parts.stop = act("Stop", "stop"), parts.onward = act("Go on", "resume"), parts.again = act("Do it again", "redo"), parts.measure = act("Evaluate", "evaluate"), parts.report = act("Make the report", "report"),
        parts.export = make("span", {}, form, " ", button("Export", async () => { const job = await ask(`${path}/export`, { form: form.value }); say(`job ${job.id} waits: ${job.command}`); })),
        make("a", { href: `#/new?run=${encodeURIComponent(name)}` }, "Again with changes"), " ",
        make("a", { href: `#/play?run=${encodeURIComponent(name)}` }, "Play beside it")),
      known.look ? "" : labelled(),
      make("section", {}, make("h2", {}, "What was learned"), make("p", { class: "note" }, "Drag across to look closer, double-click to see all, point to read."), parts.curve),
      make("div", { class: "pair" }, Object.keys(told.sections).map(key => sections[key])),
      known.look || !told.picture ? "" : make("section", {}, make("h2", {}, "The agent, early and late"), make("div", { class: "tools" }, look("early"), look("late")), parts.replays),
      parts.recorded = make("section", {}, make("h2", {}, "Recorded episodes"), make("p", {})),
      make("section", {}, make("h2", {}, "Evaluations"), parts.evaluations),
      make("section", {}, make("h2", {}, "Readings"), parts.readings), sections.machine,
      make("section", {}, make("h2", {}, "What was asked"), make("div", { class: "asked" }, told.plan.map(([section, settings]) => make("div", {}, make("h3", {}, section), make("table", {}, make("tbody", {}, settings.map(([key, value]) => make("tr", {}, make("td", {}, key), make("td", {}, value))))))))),
      make("section", {}, make("h2", {}, "Where it comes from"), make("p", {}, "To do it again: ", make("code", {}, told.again)), told.command ? make("p", {}, "It was made by ", make("code", {}, told.command)) : "",
        make("details", {}, make("summary", {}, "Versions, machine, times"), make("table", {}, make("tbody", {}, told.origin.map(([key, value]) => make("tr", {}, make("td", {}, key), make("td", {}, value))))))),
      make("section", {}, make("details", {}, make("summary", {}, "Log"), parts.log)));
  }

  function filled() {
    const row = known.rows.get(name) || { ...told.row, status: told.status };
    const shown = cells({ spark: [], ...row });
    parts.status.replaceChildren(shown.status, `, ${whole(told.row.decisions)} decisions, ${whole(told.row.episodes)} episodes, ${row.status === "running" ? `began ${shown.began}` : `took ${told.took}`}${row.left ? `, about ${shown.left} left` : ""}`,
      told.ended_by ? make("span", { class: told.status === "failed" ? "wrong" : "" }, `. ${told.ended_by}`) : "", told.curriculum ? `. ${told.curriculum}` : "",
      told.report ? make("span", {}, ". ", make("a", { href: `${path}/report`, target: "_blank" }, "its report")) : "");
    if (parts.stop) {
      const going = ["running", "waiting"].includes(row.status);
      parts.stop.hidden = !going;
      parts.onward.hidden = going || row.status === "done";
      parts.again.hidden = going;
      for (const key of ["measure", "report", "export"]) parts[key].hidden = !told.checkpoints.length;
    }
    chart("curve", parts.curve, told.curve);
    for (const key of ["machine", ...Object.keys(told.sections)]) chart(key, parts[key], told[key], parts.sections[key]);
    told.readings.forEach((data, k) => {
      if (!parts.readings.children[k]) parts.readings.append(make("div", {}, make("figure", { class: "chart low" })));
      chart(`reading ${data.unit}`, parts.readings.children[k].firstChild, data);
    });
    parts.evaluations.replaceChildren(told.evaluations.length ? table(told.evaluations, ["policy", "act", "after", "episodes", "seed", "mean", "low", "high", "closed"], { act: "actions", after: "after decisions", low: "95 % from", high: "to", closed: "closed by" }) : make("p", { class: "empty" }, "None yet."));
    parts.recorded.hidden = !told.recorded.length;
    parts.recorded.lastChild.replaceChildren(...told.recorded.slice(0, 60).flatMap((which, k) => [k ? " " : "", make("a", { href: `#/steps/run/${encodeURIComponent(name)}/${which}` }, /^\d+$/.test(which) ? `episode ${which}` : which)]));
    parts.log.textContent = told.log;
    if (told.measuring) setTimeout(() => { if (!gone) renew(); }, EVERY);  // what random play and the references reach comes later
  }

  async function renew() {
    if (busy) { due = true; return; }
    busy = true;
    try { told = await ask(path, {}); if (!gone) filled(); }
    catch (wrong) { say(wrong.message); }
    setTimeout(() => { busy = false; if (due && !gone) { due = false; renew(); } }, EVERY);
  }

  built();
  filled();
  return { changed: change => { if ((change.rows || []).some(row => row.run === name)) renew(); }, leave: () => { gone = true; } };
}
