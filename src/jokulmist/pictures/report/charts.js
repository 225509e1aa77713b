"use strict";
// Charts as SVG: lines and stacks over decisions, with zooming by dragging and reading by pointing.
const NS = "http://www.w3.org/2000/svg";
const MARGIN = { left: 52, right: 10, top: 20, bottom: 24 };

function element(parent, name, attributes) {
  const made = document.createElementNS(NS, name);
  for (const key in attributes) made.setAttribute(key, attributes[key]);
  parent.appendChild(made);
  return made;
}

function short(value) {
  const size = Math.abs(value);
  for (const [unit, letter] of [[1e9, "G"], [1e6, "M"], [1e3, "k"]]) {
    if (size >= unit) return +(value / unit).toPrecision(4) + letter;
  }
  return String(+value.toPrecision(4));
}

function ticks(low, high, count) {
  const rough = (high - low) / Math.max(count, 1);
  if (!(rough > 0)) return [low];
  const power = Math.pow(10, Math.floor(Math.log10(rough)));
  const step = [1, 2, 5, 10].map(k => k * power).find(k => k >= rough);
  const found = [];
  for (let at = Math.ceil(low / step) * step; at <= high + step * 1e-9; at += step) found.push(+at.toPrecision(12));
  return found;
}

const color = index => `var(--c${index % 8})`;

class Chart {
  constructor(figure, data) {
    this.figure = figure;
    this.data = data;
    this.over = data.over || "decisions";
    this.stacked = data.kind === "stack";
    if (this.stacked) this.stack();
    this.whole = this.reach();
    this.seen = this.whole.slice();
    this.svg = element(figure, "svg", { role: "img", "aria-label": data.unit + " over " + this.over });
    this.box = document.createElement("div");
    this.box.className = "reading";
    figure.appendChild(this.box);
    this.entries = document.createElement("div");
    this.entries.className = "legend";
    figure.after(this.entries);
    this.legend();
    this.listen();
    new ResizeObserver(() => this.draw()).observe(figure);
  }

  // Other data in the same place; what is zoomed in on stays.
  renew(data) {
    const zoomed = this.seen[0] !== this.whole[0] || this.seen[1] !== this.whole[1];
    const names = this.data.series.map(one => one.name).join();
    this.data = data;
    if (this.stacked) this.stack();
    this.whole = this.reach();
    if (!zoomed) this.seen = this.whole.slice();
    if (names !== data.series.map(one => one.name).join()) this.legend();
    this.draw();
  }

  legend() {
    const entries = this.data.series.map(one => {
      const entry = document.createElement("span");
      const mark = document.createElement("i");
      mark.style.background = color(one.color);
      entry.append(mark, document.createTextNode(one.name + (one.kind === "level" ? " " + short(one.level) : "")));
      return entry;
    });
    this.entries.replaceChildren(...(this.data.series.length > 1 || this.stacked ? entries : []));
  }

  stack() {
    // Gains pile up from 0, costs down from it.
    const up = [], down = [];
    this.layers = this.data.series.map(one => one.y.map((y, k) => {
      const pile = y >= 0 ? up : down;
      const from = pile[k] || 0;
      pile[k] = from + y;
      return [from, from + y];
    }));
  }

  reach() {
    if (this.stacked) return this.data.edges.length ? [this.data.edges[0], this.data.edges[this.data.edges.length - 1]] : [0, 1];
    let low = Infinity, high = -Infinity;
    for (const one of this.data.series) for (const x of one.x || []) { low = Math.min(low, x); high = Math.max(high, x); }
    if (!(high > low)) { high = (isFinite(high) ? high : 1) + 1e-9; low = 0; }
    return [this.over === "decisions" ? 0 : low, high];
  }

  heights() {
    let low = Infinity, high = -Infinity;
    const take = y => { if (y !== null) { low = Math.min(low, y); high = Math.max(high, y); } };
    const [from, to] = this.seen;
    if (this.stacked) {
      this.layers.forEach(layer => layer.forEach((ends, k) => {
        if (this.data.edges[k + 1] > from && this.data.edges[k] < to) ends.forEach(take);
      }));
    }
    for (const one of this.stacked ? [] : this.data.series) {
      if (one.kind === "level") take(one.level);
      else one.x.forEach((x, k) => { if (x >= from && x <= to) take(one.y[k]); });
    }
    if (!isFinite(low)) return [0, 1];
    const room = (high - low || Math.abs(high) || 1) * 0.05;
    return this.stacked ? [low < 0 ? low - room : 0, high + room] : [low - room, high + room];
  }

  draw() {
    const width = this.figure.clientWidth, height = this.figure.clientHeight;
    if (!width || !height) return;
    this.svg.setAttribute("viewBox", `0 0 ${width} ${height}`);
    this.svg.replaceChildren();
    const [left, right] = this.seen, [low, high] = this.heights();
    const w = width - MARGIN.left - MARGIN.right, h = height - MARGIN.top - MARGIN.bottom;
    const px = x => MARGIN.left + (x - left) / (right - left) * w;
    const py = y => MARGIN.top + (high - y) / (high - low) * h;
    this.px = px; this.w = w;
    for (const y of ticks(low, high, h / 45)) {
      element(this.svg, "line", { class: "grid", x1: MARGIN.left, x2: width - MARGIN.right, y1: py(y), y2: py(y) });
      element(this.svg, "text", { x: MARGIN.left - 6, y: py(y) + 4, "text-anchor": "end" }).textContent = short(y);
    }
    for (const x of ticks(left, right, w / 90)) {
      element(this.svg, "text", { x: px(x), y: height - 8, "text-anchor": px(x) > width - 2 * MARGIN.right ? "end" : "middle" }).textContent = short(x);
    }
    element(this.svg, "text", { x: 4, y: 11 }).textContent = this.data.unit;
    const clip = "clip" + Math.random().toString(36).slice(2);
    const clipping = element(element(this.svg, "defs", {}), "clipPath", { id: clip });
    element(clipping, "rect", { x: MARGIN.left, y: MARGIN.top, width: w, height: h });
    const inside = element(this.svg, "g", { "clip-path": `url(#${clip})` });
    if (this.stacked) this.drawStack(inside, px, py);
    else for (const one of this.data.series) this.drawSeries(inside, one, px, py);
    this.cursor = element(this.svg, "line", { y1: MARGIN.top, y2: MARGIN.top + h, stroke: "var(--ink)", "stroke-dasharray": "3 3", visibility: "hidden" });
    this.drag = element(this.svg, "rect", { y: MARGIN.top, height: h, fill: "var(--c0)", opacity: 0.18, visibility: "hidden" });
  }

  drawStack(inside, px, py) {
    this.layers.forEach((layer, s) => layer.forEach(([from, to], k) => {
      const x = px(this.data.edges[k]), wide = px(this.data.edges[k + 1]) - x;
      element(inside, "rect", { x, width: wide + 0.4, y: py(Math.max(from, to)), height: Math.abs(py(from) - py(to)), fill: color(this.data.series[s].color), opacity: 0.9 });
    }));
  }

  drawSeries(inside, one, px, py) {
    if (one.kind === "level") {
      const y = py(one.level);
      element(inside, "line", { x1: 0, x2: 1e5, y1: y, y2: y, stroke: color(one.color), "stroke-width": 1.5, "stroke-dasharray": "7 4" });
      return;
    }
    if (one.kind === "dots") {
      const path = one.x.map((x, k) => one.y[k] === null ? "" : `M${px(x).toFixed(1)} ${py(one.y[k]).toFixed(1)}h0`).join("");
      element(inside, "path", { d: path, stroke: color(one.color), "stroke-width": 3, "stroke-linecap": "round", opacity: 0.6 });
      return;
    }
    if (one.low) {
      const known = one.x.map((_, k) => k).filter(k => one.low[k] !== null && one.high[k] !== null);
      const edge = (values, some) => some.map(k => `${px(one.x[k]).toFixed(1)} ${py(values[k]).toFixed(1)}`).join("L");
      if (known.length > 1) element(inside, "path", { d: `M${edge(one.high, known)}L${edge(one.low, known.reverse())}Z`, fill: color(one.color), opacity: 0.18 });
    }
    let path = "", pen = "M";
    one.x.forEach((x, k) => {
      if (one.y[k] === null) { pen = "M"; return; }
      path += `${pen}${px(x).toFixed(1)} ${py(one.y[k]).toFixed(1)}`;
      pen = "L";
    });
    element(inside, "path", { d: path, fill: "none", stroke: color(one.color), "stroke-width": one.kind === "marked" ? 1.2 : 2, "stroke-linejoin": "round" });
    if (one.kind === "marked") one.x.forEach((x, k) => element(inside, "circle", { cx: px(x), cy: py(one.y[k]), r: 3.5, fill: color(one.color) }));
  }

  at(event) {
    const box = this.svg.getBoundingClientRect();
    const [left, right] = this.seen;
    const share = (event.clientX - box.left - MARGIN.left) / this.w;
    return left + Math.min(Math.max(share, 0), 1) * (right - left);
  }

  listen() {
    let begin = null;
    this.svg.addEventListener("pointerdown", event => { begin = this.at(event); });
    this.svg.addEventListener("pointermove", event => {
      const x = this.at(event);
      this.read(x, event);
      if (begin !== null && event.pointerType === "mouse") {
        this.drag.setAttribute("visibility", "visible");
        this.drag.setAttribute("x", this.px(Math.min(begin, x)));
        this.drag.setAttribute("width", Math.abs(this.px(x) - this.px(begin)));
      }
    });
    this.svg.addEventListener("pointerup", event => {
      const x = this.at(event);
      if (begin !== null && Math.abs(this.px(x) - this.px(begin)) > 8) { this.seen = [Math.min(begin, x), Math.max(begin, x)]; this.draw(); }
      begin = null;
    });
    this.svg.addEventListener("pointerleave", () => { begin = null; this.box.style.display = "none"; this.cursor.setAttribute("visibility", "hidden"); this.drag.setAttribute("visibility", "hidden"); });
    this.svg.addEventListener("dblclick", () => { this.seen = this.whole.slice(); this.draw(); });
  }

  read(x, event) {
    const lines = [];
    if (this.stacked) {
      const k = this.data.edges.findIndex((edge, i) => edge <= x && this.data.edges[i + 1] >= x);
      if (k < 0) return;
      lines.push(`${short(this.data.edges[k])} to ${short(this.data.edges[k + 1])} ${this.over}`);
      for (const one of this.data.series) lines.push(`${one.name}: ${short(one.y[k])}`);
    } else {
      lines.push(`${short(x)} ${this.over}`);
      for (const one of this.data.series) {
        if (!one.x || !one.x.length || one.kind === "dots") continue;
        let best = 0;
        one.x.forEach((at, k) => { if (Math.abs(at - x) < Math.abs(one.x[best] - x)) best = k; });
        if (one.y[best] !== null) lines.push(`${one.name}: ${short(one.y[best])}`);
      }
    }
    this.box.replaceChildren(...lines.map(line => { const row = document.createElement("div"); row.textContent = line; return row; }));
    this.box.style.display = "block";
    const box = this.figure.getBoundingClientRect();
    const place = event.clientX - box.left;
    this.box.style.left = (place > box.width / 2 ? place - this.box.offsetWidth - 12 : place + 12) + "px";
    this.box.style.top = "14px";
    this.cursor.setAttribute("visibility", "visible");
    this.cursor.setAttribute("x1", this.px(x));
    this.cursor.setAttribute("x2", this.px(x));
  }
}
