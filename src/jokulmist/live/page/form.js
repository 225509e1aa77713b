// A new run: fields made from what an environment and a method declare, what another run was asked for, or a plan that
// is pasted.
import { ask, button, environmentOptions, make, mayRun, say } from "./tools.js";

function read(field, input) {
  if (field.kind === "flag") return input.checked;
  const text = input.value.trim();
  if (text === "") return undefined;
  if (field.kind === "pair") return { between: text.split(/,|\bto\b/).map(part => part.trim()).filter(Boolean).map(part => Number.isNaN(Number(part)) ? part : Number(part)) };
  if (field.kind === "lines") return text;
  if (field.kind === "list") return text.split(",").map(part => part.trim()).filter(Boolean).map(part => /^-?\d+$/.test(part) ? Number(part) : part);
  if (["whole", "number", "schedule"].includes(field.kind) && /^[-+]?(\d[\d_]*\.?\d*|\.\d+)(e[-+]?\d+)?$/i.test(text)) return Number(text.replaceAll("_", ""));
  return text;
}

// The values of the fields in what a run was asked for; what is a table there stays as it is unless a field is filled.
function shownOf(sections) {
  const shown = {};
  for (const [section, part] of Object.entries(sections)) for (const [name, value] of Object.entries(part)) {
    if (section === "vary") shown[`environment.vary.${name}`] = Array.isArray(value?.between) && !value.scale ? value.between.join(" to ") : null;
    else if (section === "environment" && name === "weights") for (const [term, weight] of Object.entries(value)) shown[`environment.weights.${term}`] = weight;
    else if (Array.isArray(value)) shown[`${section}.${name}`] = value.join(", ");
    else shown[`${section}.${name}`] = value !== null && typeof value === "object" ? null : value;
  }
  return shown;
}

export async function formView(main, known, { query }) {
  const again = query.get("run"), [choices, asked] = await Promise.all([ask("/api/choices"), again ? ask(`/api/run/${encodeURIComponent(again)}/plan`) : null]);
  const fitting = asked !== null && choices.methods.some(one => one.name === asked.sections.agent?.use);
  const shown = fitting ? shownOf(asked.sections) : {};
  const sections = {}, words = make("p", { class: "note wrong", role: "alert" });
  const grid = { environment: make("div", { class: "fields" }), agent: make("div", { class: "fields" }), training: make("div", { class: "fields" }) };
  const pick = (label, list) => make("select", { "aria-label": label }, list.map(one => make("option", { value: one.name }, one.name)));
  const environment = make("select", { "aria-label": "environment" }, environmentOptions(choices)), method = pick("method", choices.methods), about = { environment: make("p", { class: "note" }), agent: make("p", { class: "note" }) };
  const name = make("input", { id: "run-name", placeholder: "the next free one" }), pasted = make("textarea", { "aria-label": "plan", spellcheck: "false", placeholder: '[environment]\nuse = "tarn"\n\n[agent]\nuse = "QLearning"\n\n[training]\nsteps = 200_000' });

  function fill(section, fields) {
    sections[section] = fields.map(field => {
      const id = `${section}-${field.name}`, usual = field.default;
      let input;
      if (field.kind === "lines") input = make("textarea", { id, rows: "2", spellcheck: "false", value: String(usual) });
      else if (field.kind === "choice") { input = make("select", { id }, field.choices.map(one => make("option", { value: one }, one))); input.value = usual; }
      else if (field.kind === "flag") input = make("input", { id, type: "checkbox", checked: usual === true });
      else input = make("input", { id, value: String(usual), inputmode: ["whole", "number"].includes(field.kind) ? "decimal" : null, spellcheck: "false" });
      const bounds = field.low === undefined ? "" : [field.low === null ? "" : `from ${field.low}`, field.high === null ? "" : `to ${field.high}`, field.unit].filter(Boolean).join(" ");
      const wrong = make("p", { class: "note wrong", id: `${id}-wrong` });
      input.setAttribute("aria-describedby", `${id}-wrong`);
      const box = make("div", { class: field.kind === "lines" ? "field whole" : "field" }, make("label", { for: id }, field.group && field.kind !== "lines" ? field.name.split(".").pop() : field.name), input, make("p", { class: "note" }, [bounds, field.help].filter(Boolean).join("; ")), wrong);
      const begun = shown[`${section}.${field.name}`];
      if (begun === undefined && fitting && section === "training") input.value = ""; // what that run did not ask for
      if (begun === null) input.placeholder = "as the run has it";
      else if (begun !== undefined && field.kind === "flag") input.checked = begun === true;
      else if (begun !== undefined) input.value = String(begun);
      return { field, input, box, wrong, first: field.kind === "flag" ? usual === true : String(usual) };
    });
    let group;
    grid[section].replaceChildren(...sections[section].flatMap(one => {
      const head = one.field.group && one.field.group !== group ? [make("h3", { class: "whole" }, one.field.group)] : [];
      group = one.field.group;
      return [...head, one.box];
    }));
  }

  const environmentChoice = () => choices.environments[environment.selectedIndex];
  const codeOf = () => environmentChoice()?.run || "";

  async function fields(which) {
    about.environment.textContent = environmentChoice()?.about || "";
    about.agent.textContent = choices.methods.find(one => one.name === method.value)?.about || "";
    if (which === "environment" && !mayRun(environmentChoice(), () => fields("environment").catch(wrong => { words.textContent = wrong.message; }), grid.environment)) { sections.environment = []; return; }
    const told = await ask("/api/fields", which === "environment" ? { environment: environment.value, code_of: codeOf() } : { method: method.value });
    for (const [section, some] of Object.entries(told)) fill(section, some);
  }

  function content() {
    const found = { name: name.value.trim() || null, code_of: codeOf() };
    if (pasted.value.trim()) return { ...found, text: pasted.value };
    Object.assign(found, { origin: fitting ? again : null, fields: [] });
    for (const [section, use] of [["environment", environment.value], ["agent", method.value], ["training", null]]) {
      found[section] = use === null ? {} : { use };
      for (const one of sections[section]) {
        const now = one.field.kind === "flag" ? one.input.checked : one.input.value, place = `${section}.${one.field.name}`.replace("environment.vary.", "vary.").split(".");
        if (shown[`${section}.${one.field.name}`] === null && now === "") continue; // a table that stays
        found.fields.push(place.join("."));
        const value = section !== "training" && now === one.first ? undefined : read(one.field, one.input); // what was not changed stays the method's own
        if (value === undefined) continue;
        const last = place.pop();
        let part = found;
        for (const step of place) part = part[step] = part[step] || {};
        part[last] = value;
      }
    }
    return found;
  }

  // Each field has what is wrong with it; what belongs to none stands above.
  function mark(problems) {
    const own = one => problems.filter(problem => `${problem.section}.${problem.name}` === one.place || (problem.section === "vary" && one.place === `environment.vary.${problem.name}`));
    let first = null;
    for (const section of ["environment", "training", "agent"]) for (const one of sections[section]) {
      one.place = `${section}.${one.field.name}`;
      const mine = own(one);
      one.box.classList.toggle("bad", mine.length > 0);
      one.wrong.textContent = mine.map(problem => problem.text).join(" ");
      one.input.setAttribute("aria-invalid", String(mine.length > 0));
      if (mine.length && !first) first = one.input;
    }
    const placed = Object.values(sections).flat();
    words.textContent = problems.filter(problem => !placed.some(one => own(one).includes(problem))).map(problem => problem.text).join(" ");
    first?.focus();
  }

  async function begin(anyway) {
    mark([]);
    let told;
    try { told = await ask("/api/begin", { ...content(), anyway }); }
    catch (wrong) { words.textContent = wrong.message; return; }
    if (told.problems) { mark(told.problems); return; }
    if (!told.jobs.length) {
      words.replaceChildren("check finds something wrong: ", ...told.findings.map(one => make("span", {}, `${one.problem}. ${one.fix} `)), button("Train it all the same", () => begin(true)));
      return;
    }
    say(`${told.jobs.map(job => job.run).join(", ")} ${told.jobs.length > 1 ? "wait" : "waits"}`);
    location.hash = told.jobs.length > 1 ? "#/queue" : `#/run/${encodeURIComponent(told.jobs[0].run)}`;
  }

  environment.addEventListener("change", () => fields("environment").catch(wrong => say(wrong.message)));
  method.addEventListener("change", () => fields("agent").catch(wrong => say(wrong.message)));
  fill("training", choices.training);
  const wanted = asked ? choices.environments.findIndex(one => one.name === asked.sections.environment?.use) : choices.environments.findIndex(one => one.name === "ferry");
  if (wanted >= 0) environment.selectedIndex = wanted;
  method.value = fitting ? asked.sections.agent.use : "PPO";
  const begun = asked && !fitting ? "This run's agents fit no form, so its plan stands below: change it there." : again ? `As ${again} was asked; change what you want to.` : "";
  if (asked && !fitting) pasted.value = asked.text;
  await Promise.all([fields("environment"), fields("agent")]);
  main.append(make("h1", {}, "New run"), begun ? make("p", { class: "note" }, begun) : "", words,
    make("section", {}, make("h2", {}, "Environment"), environment, about.environment, grid.environment),
    make("section", {}, make("h2", {}, "Training"), make("div", { class: "fields" }, make("div", { class: "field" }, make("label", { for: "run-name" }, "name"), name)), grid.training),
    make("section", {}, make("h2", {}, "Method"), method, about.agent, grid.agent),
    make("section", {}, make("details", { open: Boolean(pasted.value) }, make("summary", {}, "Or paste a plan: it is taken instead of the fields"), pasted)),
    make("div", { class: "tools" }, button("Check and queue", () => begin(false), { class: "main" }), make("span", { class: "note" }, "the code is kept as it is now; a worker takes the run when its turn comes")));
}
