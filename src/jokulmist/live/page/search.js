// A search: its candidates side by side, and which settings mattered.
import { ask, make, number, table } from "./tools.js";

const NS = "http://www.w3.org/2000/svg";

function parallel(told) {
  const names = [...told.names, "score"], rows = told.rows.filter(row => row.score !== null);
  const svg = document.createElementNS(NS, "svg");
  svg.setAttribute("class", "parallel");
  svg.setAttribute("viewBox", "0 0 1000 320");
  svg.setAttribute("role", "img");
  svg.setAttribute("aria-label", "candidates side by side: a line each, an axis a setting");
  if (rows.length < 2) return svg;
  const axes = names.map(name => {
    const values = rows.map(row => row[name]), numbers = values.every(value => typeof value === "number");
    const kinds = numbers ? null : [...new Set(values.map(String))], low = numbers ? Math.min(...values) : 0, high = numbers ? Math.max(...values) : Math.max(kinds.length - 1, 1);
    const log = numbers && low > 0 && high / low > 50;
    const share = value => numbers ? (log ? Math.log(value / low) / Math.log(high / low || 1.001) : (value - low) / (high - low || 1)) : kinds.indexOf(String(value)) / high;
    return { share, ends: numbers ? [number(low), number(high)] : [kinds[0], kinds.at(-1)] };
  });
  const x = k => 60 + k / (names.length - 1) * 880, y = share => 285 - share * 245;
  const text = (at, down, told, anchor) => { const made = document.createElementNS(NS, "text"); made.setAttribute("x", at); made.setAttribute("y", down); made.setAttribute("text-anchor", anchor); made.textContent = told; svg.append(made); };
  const scores = axes.at(-1);
  for (const row of [...rows].sort((a, b) => a.score - b.score)) {
    const path = document.createElementNS(NS, "path");
    path.setAttribute("d", names.map((name, k) => `${k ? "L" : "M"}${x(k).toFixed(1)} ${y(axes[k].share(row[name])).toFixed(1)}`).join(""));
    path.setAttribute("stroke", scores.share(row.score) > 0.8 ? "var(--c1)" : "var(--c5)");
    svg.append(path);
  }
  names.forEach((name, k) => {
    const line = document.createElementNS(NS, "path");
    line.setAttribute("d", `M${x(k)} 40V285`);
    line.setAttribute("stroke", "var(--soft)");
    svg.append(line);
    text(x(k), 18, name.split(".").at(-1), "middle");
    text(x(k), 34, axes[k].ends[1], "middle");
    text(x(k), 302, axes[k].ends[0], "middle");
  });
  return svg;
}

export async function searchView(main, known, { rest }) {
  const name = rest[0] || "";
  let told = await ask(`/api/search/${encodeURIComponent(name)}`, {});
  const place = make("div");
  function draw() {
    place.replaceChildren(make("p", { class: "note" }, make("span", { class: `status ${told.status}` }, told.status), `, ${told.rows.length} candidates`),
      make("section", {}, make("h2", {}, "Candidates side by side"), parallel(told)),
      told.importance.some(row => row.matters !== null) ? make("section", {}, make("h2", {}, "What mattered"), table(told.importance, Object.keys(told.importance[0]))) : "",
      make("section", {}, make("h2", {}, "Candidates"), told.rows.length ? table(told.rows, Object.keys(told.rows[0])) : make("p", { class: "empty" }, "None yet.")));
  }
  main.append(make("h1", {}, name), place);
  draw();
  const timer = told.status === "running" ? setInterval(async () => { told = await ask(`/api/search/${encodeURIComponent(name)}`, {}).catch(() => told); draw(); }, 3000) : null;
  return { leave: () => clearInterval(timer) };
}
