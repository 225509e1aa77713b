// Several runs over each other; the address holds which.
import { Chart } from "/page/charts.js";
import { ask, button, make, number, table } from "./tools.js";

function matrix(told) {
  const means = told.cells.flat().map(cell => cell.mean), low = Math.min(...means), high = Math.max(...means);
  const cell = ({ mean, half }) => {
    const made = make("td", { class: "number" }, `${number(mean)} \u00b1 ${number(half)}`);
    made.style.background = `color-mix(in srgb, var(--c1) ${Math.round(10 + 40 * (mean - low) / (high - low || 1))}%, transparent)`;
    return made;
  };
  return make("section", {}, make("h2", {}, "Played together"), make("p", { class: "note" }, `mean return and half of its 95 % interval; a row plays ${told.first}, a column ${told.second}`),
    make("div", { class: "scroll" }, make("table", {}, make("thead", {}, make("tr", {}, make("th", {}, ""), told.names.map(name => make("th", { scope: "col" }, name)))),
      make("tbody", {}, told.names.map((name, k) => make("tr", {}, make("th", { scope: "row" }, name), told.cells[k].map(cell)))))),
    told.ratings.length ? [make("h3", {}, "How strong each is"), table(told.ratings, ["run", "rating", "ci95_low", "ci95_high", "wins_against_average"], { rating: "rating, log odds", ci95_low: "95 % from", ci95_high: "to", wins_against_average: "wins against an average one" })] : "");
}

const CONTROLS = ["by", "score", "over", "weights"];

export async function compareView(main, known, { query }) {
  const runs = (query.get("runs") || "").split(",").filter(Boolean), asked = Object.fromEntries(CONTROLS.map(name => [name, query.get(name) || ""]));
  main.append(make("h1", {}, "Compare"), make("p", { class: "note", role: "status" }, "comparing ..."));
  const told = await ask("/api/compare", { ...asked, runs, by: asked.by.split(",").filter(Boolean) });
  main.lastChild.remove();
  const figure = make("figure", { class: "chart tall" }), bands = make("figure", { class: "chart tall" });
  const differ = told.differ.length ? Object.keys(told.differ[0]).filter(name => name !== "run") : [];
  // Each control is a part of the address.
  const choose = (name, label, options) => {
    const select = make("select", { "aria-label": label, onchange: () => {
      const place = Object.entries({ ...asked, [name]: select.value }).filter(([, value]) => value).map(([key, value]) => `&${key}=${encodeURIComponent(value)}`);
      location.hash = `#/compare?runs=${runs.map(encodeURIComponent).join(",")}${place.join("")}`;
    } }, options.map(([value, text]) => make("option", { value }, text)));
    select.value = asked[name];
    return select;
  };
  const scores = { return: "", evaluation: "by evaluations without exploration", area: "by the mean height of the curve", decisions: "by decisions to a level" };
  const ledgers = told.ledgers.filter(one => one.chart.edges.length).map(one => ({ ...one, figure: make("figure", { class: "chart" }) }));
  main.append(
    make("div", { class: "tools" }, choose("by", "group by", [["", "grouped by what differs"], ...differ.map(name => [name, `grouped by ${name}`])]),
      told.scores.length ? [choose("score", "score", [["", "by the last 100 episodes"], ...told.scores.filter(name => name !== "return").map(name => [name, scores[name] || `by ${name}`])]),
        choose("over", "over", [["", "over decisions"], ["episodes", "over episodes"], ["seconds", "over seconds"]]),
        choose("weights", "weights", [["", "each by its own weights"], ["declared", "all by the declared weights"], ...runs.map(name => [name, `all by the weights of ${name}`])])] : "",
      make("span", { class: "note" }, `${told.rows.length} runs; this address shows the same again`),
      told.players && !known.look ? button("let them play together", async () => { const [run, ...partners] = runs; await ask(`/api/run/${encodeURIComponent(run)}/evaluate`, { partners }); location.hash = "#/queue"; }) : ""),
    told.notes.length ? make("section", {}, make("h2", {}, "Notes"), told.notes.map(note => make("p", {}, note))) : "",
    make("section", {}, make("h2", {}, "Curves"), asked.weights ? make("p", { class: "note" }, "each by its own weights; what is below is judged by the weights that were chosen") : "", figure),
    told.crossplay ? matrix(told.crossplay) : "",
    told.bands ? make("section", {}, make("h2", {}, `Groups${told.by.length ? ` by ${told.by.join(", ")}` : ""}, middle and 95 %`), bands) : "",
    told.groups.length ? make("section", {}, make("h2", {}, `Final ${told.value} of each seed`), table(told.groups, ["group", "seeds", "score", "low", "high", "median", "sd"], { score: "interquartile mean", low: "95 % from", high: "to" })) : "",
    told.pairs.length ? make("section", {}, make("h2", {}, "Pairs"), table(told.pairs, ["first", "second", "difference", "chance", "p_adjusted", "verdict"], { p_adjusted: "p, adjusted" })) : "",
    ledgers.length ? make("section", {}, make("h2", {}, "Where the returns came from"), make("div", { class: "pair" }, ledgers.map(one => make("section", {}, make("h3", {}, one.run), one.figure)))) : "",
    told.differ.length ? make("section", {}, make("h2", {}, "Where they differ"), table(told.differ, Object.keys(told.differ[0]))) : "",
    make("section", {}, make("h2", {}, "Runs"), table(told.rows, Object.keys(told.rows[0]))));
  if (told.curve.series.length) new Chart(figure, told.curve);
  if (told.bands) new Chart(bands, told.bands);
  for (const one of ledgers) new Chart(one.figure, one.chart);
}
