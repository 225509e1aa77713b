function looks(dark) {
  document.documentElement.classList.toggle("dark", dark);
  document.getElementById("look").textContent = dark ? "light" : "dark";
}

let dark = location.hash === "#dark" || (location.hash !== "#light" && matchMedia("(prefers-color-scheme: dark)").matches);
looks(dark);
document.getElementById("look").addEventListener("click", () => { dark = !dark; looks(dark); });
for (const figure of document.querySelectorAll("[data-chart]")) {
  const keys = figure.dataset.chart.split(".");
  const data = keys[0] === "curve" ? CHARTS.curve : keys.slice(1).reduce((part, key) => part[key], CHARTS.runs[keys[0]]);
  if (data && data.series.length) new Chart(figure, data);
}
