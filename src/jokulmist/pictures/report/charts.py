"""What the page's charts are made of: thinned series and stacks, as JSON; `report.js` draws them."""

from __future__ import annotations

from typing import Any

import numpy as np

from jokulmist.environments.declaration.environment import describe
from jokulmist.pictures import style
from jokulmist.records.run_index import LAST
from jokulmist.training.evaluation.evaluate import Evaluation, interval_of
from jokulmist.training.runs.run import Run

MOST_POINTS = 700
MOST_DOTS = 2500
Chart = dict[str, Any]


def thinned(x: Any, y: Any, most: int = MOST_POINTS) -> tuple[list[float], list[float | None]]:
    """So many points at most, evenly; what is no number becomes None."""
    x, y = np.asarray(x, float), np.asarray(y, float)
    keep: Any = np.unique(np.linspace(0, len(x) - 1, min(len(x), most)).round().astype(int)) if len(x) else []
    return [float(v) for v in x[keep]], [float(f"{v:.5g}") if np.isfinite(v) else None for v in y[keep]]


def series(name: str, x: Any, y: Any, color: int, kind: str = "line", most: int = MOST_POINTS) -> dict[str, Any]:
    xs, ys = thinned(x, y, most)
    return {"name": name, "x": xs, "y": ys, "color": color, "kind": kind}


def curve(runs: list[Run], known: dict[str, Evaluation]) -> Chart:
    """The learning curves: episodes as dots of a single run, means as lines, evaluations, levels."""
    found = []
    for k, run in enumerate(runs):
        frame = run.episodes
        if not len(frame):
            continue
        x = frame["decisions"].to_numpy()
        if len(runs) == 1:
            found.append(series("one episode", x, frame["return"], 5, "dots", MOST_DOTS))
        mean = frame["return"].rolling(LAST, min_periods=min(10, len(frame))).mean()
        found.append(series(f"mean of {LAST}" if len(runs) == 1 else run.name, x, mean, k))
        evaluated = evaluations(run)
        if len(runs) == 1 and evaluated:
            at = [row["after"] for row in evaluated]
            found.append(series("evaluated", at, [row["mean"] for row in evaluated], 3, "marked"))
    for name, level in known.items():
        found.append(
            {"name": name, "level": round(level.mean, 5), "color": 1 if name != "random" else 6, "kind": "level"}
        )
    return {"kind": "lines", "unit": "return", "series": found}


def stack(run: Run, what: str) -> Chart:
    """Shares of how episodes closed, or what each reward term brought, by stretches of training."""
    frame, description = run.episodes, describe(run.environment)
    if not len(frame):
        return {"kind": "stack", "unit": "", "edges": [], "series": []}
    edges, where = style.bins_of(frame["decisions"].to_numpy(), most=80)
    count = np.bincount(where, minlength=len(edges) - 1)
    found = []
    if what == "closings":
        names = [name for name in description.closings if (frame["closed_by"] == name).any()]
        amounts: list[tuple[str, Any]] = [(name, (frame["closed_by"] == name).to_numpy(float)) for name in names]
    else:
        amounts = [
            (f"{term.name} x {weight:g}", weight * frame[term.name].to_numpy(float))
            for term, weight in zip(description.terms, description.weights, strict=True)
        ]
    for k, (name, values) in enumerate(amounts):
        mean = np.bincount(where, weights=values, minlength=len(count)) / np.maximum(count, 1)
        found.append({"name": name, "y": [float(f"{v:.4g}") for v in mean], "color": k})
    unit = "share of episodes" if what == "closings" else "mean return of an episode"
    return {"kind": "stack", "unit": unit, "edges": [float(e) for e in edges], "series": found}


def readings(run: Run) -> list[Chart]:
    """A small chart for each reading that moves."""
    frame = run.readings
    if not len(frame):
        return []
    left_out = {"decisions", "episodes", f"return_last_{LAST}", "seconds"}
    found = []
    for name in frame.columns:
        values = frame[name].to_numpy(float) if name not in left_out else np.zeros(1)
        if name not in left_out and np.isfinite(values).any() and np.nanmax(values) != np.nanmin(values):
            chart = {
                "kind": "lines",
                "unit": name.replace("_", " "),
                "series": [series(name, frame["decisions"], values, 0)],
            }
            found.append(chart)
    return found


def machine(run: Run) -> Chart | None:
    """Processor and memory over the run's seconds."""
    from jokulmist.records.files import read_csv
    from jokulmist.records.run_folder import MACHINE

    frame = read_csv(run.path / MACHINE, ("seconds",)) if run.path is not None else None
    if frame is None or not len(frame):
        return None
    x = frame["seconds"]
    return {
        "kind": "lines",
        "unit": "percent",
        "over": "seconds",
        "series": [
            series("this run's processor", x, frame["processor_percent"], 0),
            series("the machine's processor", x, frame["machine_processor_percent"], 4),
            series("the machine's memory", x, frame["machine_memory_percent"], 2),
        ],
    }


def evaluations(run: Run) -> list[dict[str, Any]]:
    """The evaluations that a run's folder tells of, one row each."""
    frame = run.evaluated
    if not len(frame):
        return []
    found = []
    for key, part in frame.groupby(["who", "act", "seed", "learned"], sort=False, dropna=False):
        who, act, seed, learned = map(str, key)
        returns = part["return"].to_numpy(float)
        spread = returns.std(ddof=1) if len(returns) > 1 else float("nan")
        half = interval_of(returns.mean(), spread, len(returns))[1] - returns.mean()
        closings = part["closed_by"].value_counts(normalize=True)
        found.append(
            {
                "who": who,
                "act": "" if act == "nan" else act,
                "seed": int(seed),
                "after": int(learned),
                "episodes": len(part),
                "mean": float(returns.mean()),
                "low": float(returns.mean() - half),
                "high": float(returns.mean() + half),
                "closed": ", ".join(f"{name} {share:.0%}" for name, share in closings.items()),
            }
        )
    return found
