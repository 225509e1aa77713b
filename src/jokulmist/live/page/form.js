// A new run: fields made from what an environment and a method declare, or a plan that is pasted.
import { ask, button, make, say } from "./tools.js";

function read(field, input) {
  if (field.kind === "flag") return input.checked;
  const text = input.value.trim();
  if (text === "") return undefined;
  if (field.kind === "list") return text.split(",").map(part => part.trim()).filter(Boolean).map(part => /^-?\d+$/.test(part) ? Number(part) : part);
  if (["whole", "number"].includes(field.kind) && /^[-+]?(\d[\d_]*\.?\d*|\.\d+)(e[-+]?\d+)?$/i.test(text)) return Number(text.replaceAll("_", ""));
  return text;
}

export async function formView(main, known) {
  const choices = await ask("/api/choices");
  const sections = {}, words = make("p", { class: "note wrong", role: "alert" });
  const grid = { environment: make("div", { class: "fields" }), agent: make("div", { class: "fields" }), training: make("div", { class: "fields" }) };
  const pick = (label, list) => make("select", { "aria-label": label }, list.map(one => make("option", { value: one.name }, one.name)));
  const environment = pick("environment", choices.environments), method = pick("method", choices.methods), about = { environment: make("p", { class: "note" }), agent: make("p", { class: "note" }) };
  const name = make("input", { id: "run-name", placeholder: "the next free one" }), pasted = make("textarea", { "aria-label": "plan", spellcheck: "false", placeholder: '[environment]\nuse = "tarn"\n\n[agent]\nuse = "QLearning"\n\n[training]\nsteps = 200_000' });

  function fill(section, fields) {
    sections[section] = fields.map(field => {
      const id = `${section}-${field.name}`, usual = field.default;
      let input;
      if (field.kind === "choice") { input = make("select", { id }, field.choices.map(one => make("option", { value: one }, one))); input.value = usual; }
      else if (field.kind === "flag") input = make("input", { id, type: "checkbox", checked: usual === true });
      else input = make("input", { id, value: String(usual), inputmode: ["whole", "number"].includes(field.kind) ? "decimal" : null, spellcheck: "false" });
      const bounds = field.low === undefined ? "" : [field.low === null ? "" : `from ${field.low}`, field.high === null ? "" : `to ${field.high}`, field.unit].filter(Boolean).join(" ");
      const wrong = make("p", { class: "note wrong", id: `${id}-wrong` });
      input.setAttribute("aria-describedby", `${id}-wrong`);
      const box = make("div", { class: "field" }, make("label", { for: id }, field.name), input, make("p", { class: "note" }, [bounds, field.help].filter(Boolean).join("; ")), wrong);
      return { field, input, box, wrong, first: field.kind === "flag" ? usual === true : String(usual) };
    });
    grid[section].replaceChildren(...sections[section].map(one => one.box));
  }

  async function fields(which) {
    about.environment.textContent = choices.environments.find(one => one.name === environment.value)?.about || "";
    about.agent.textContent = choices.methods.find(one => one.name === method.value)?.about || "";
    const told = await ask("/api/fields", which === "environment" ? { environment: environment.value } : { method: method.value });
    for (const [section, some] of Object.entries(told)) fill(section, some);
  }

  function content() {
    const found = { name: name.value.trim() || null };
    if (pasted.value.trim()) return { ...found, text: pasted.value };
    for (const [section, use] of [["environment", environment.value], ["agent", method.value], ["training", null]]) {
      found[section] = use === null ? {} : { use };
      for (const one of sections[section]) {
        const now = one.field.kind === "flag" ? one.input.checked : one.input.value;
        if (section !== "training" && now === one.first) continue; // what was not changed stays the method's own
        const value = read(one.field, one.input);
        if (value !== undefined) found[section][one.field.name] = value;
      }
    }
    return found;
  }

  function mark(message) {
    let placed = false;
    for (const one of Object.values(sections).flat()) {
      const own = !pasted.value.trim() && (message.includes(`\`${one.field.name}\``) || message.includes(`.${one.field.name}\``));
      one.box.classList.toggle("bad", own);
      one.wrong.textContent = own ? message : "";
      one.input.setAttribute("aria-invalid", own ? "true" : "false");
      if (own && !placed) { one.input.focus(); placed = true; }
    }
    words.textContent = placed ? "" : message;
  }

  async function begin(anyway) {
    mark("");
    let told;
    try { told = await ask("/api/begin", { ...content(), anyway }); }
    catch (wrong) { mark(wrong.message); return; }
    if (told.refused) { mark(told.refused); return; }
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
  environment.value = "ferry";
  method.value = "PPO";
  await Promise.all([fields("environment"), fields("agent")]);
  main.append(make("h1", {}, "New run"), words,
    make("section", {}, make("h2", {}, "Environment"), environment, about.environment, grid.environment),
    make("section", {}, make("h2", {}, "Training"), make("div", { class: "fields" }, make("div", { class: "field" }, make("label", { for: "run-name" }, "name"), name)), grid.training),
    make("section", {}, make("h2", {}, "Method"), method, about.agent, grid.agent),
    make("section", {}, make("details", {}, make("summary", {}, "Or paste a plan: it is taken instead of the fields"), pasted)),
    make("div", { class: "tools" }, button("Check and queue", () => begin(false), { class: "main" }), make("span", { class: "note" }, "the code is kept as it is now; a worker takes the run when its turn comes")));
}
