"""What the page's charts are made of: thinned series and stacks, as JSON; `report.js` draws them."""

from __future__ import annotations

from typing import Any

import numpy as np

from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.spaces.player_actions import own_name
from jokulmist.judging.evaluate import RANDOM, Evaluation, interval_of, weights_of
from jokulmist.records.episodes import PAIRING_SEPARATOR, pairing_name
from jokulmist.records.run_index import LAST
from jokulmist.running.runs.course import Stretches, course_of, greedy_rows, panel_rows, window_of
from jokulmist.running.runs.run import Run

STRETCHES = 80
MOST_POINTS = 700
MOST_DOTS = 2500
PERCENTAGES = ("processor_percent", "machine_processor_percent", "machine_memory_percent")
Chart = dict[str, Any]
SHARE, MEAN_RETURN = "share of episodes", "mean return of an episode"
EMPTY: Chart = {"kind": "stack", "unit": "", "edges": [], "series": []}
# The charts beside a run's curve, and what a page calls them.
SECTIONS = {
    "players": "What each player got",
    "panel": "Against its panel",
    "ledger": "Where the return came from",
    "evaluated_ledger": "The same without exploration",
    "closings": "How episodes closed",
    "wins": "Who won: got the most, alone",
}
NO_SECTIONS = dict.fromkeys(SECTIONS, EMPTY)


def thinned(x: Any, y: Any, most: int = MOST_POINTS) -> tuple[list[float], list[float | None]]:
    """So many points at most, evenly; what is no number becomes None."""
    x, y = np.asarray(x, float), np.asarray(y, float)
    indices: Any = np.unique(np.linspace(0, len(x) - 1, min(len(x), most)).round().astype(int)) if len(x) else []
    return [float(v) for v in x[indices]], [float(f"{v:.5g}") if np.isfinite(v) else None for v in y[indices]]


def series(name: str, x: Any, y: Any, color: int, kind: str = "line", most: int = MOST_POINTS) -> dict[str, Any]:
    xs, ys = thinned(x, y, most)
    return {"name": name, "x": xs, "y": ys, "color": color, "kind": kind}


def curve(runs: list[Run], references: dict[str, Evaluation]) -> Chart:
    """The learning curves: episodes as dots of a single run, means as lines, evaluations, levels."""
    lines = []
    for k, run in enumerate(runs):
        course = course_of(run)
        taught = run.origin.get("recorded")
        if not course.count and taught is None:
            continue
        if taught is not None:  # no episode was stepped: its evaluations are its curve
            places, means = _evaluated(run)
            lines.append(series(run.name if len(runs) > 1 else "evaluated", places, means, k, "marked"))
            if k == 0:
                lines.append({"name": "recorded", "level": taught["mean_return"], "color": 5, "kind": "level"})
            continue
        x = course.decisions
        if len(runs) == 1:
            lines.append(series("one episode", x, course.returns, 5, "dots", MOST_DOTS))
        lines.append(series(f"mean of {course.window}" if len(runs) == 1 else run.name, x, course.means, k))
        places, means = _evaluated(run)
        if len(runs) == 1 and places:
            lines.append(series("evaluated", places, means, 3, "marked"))
    for name, level in references.items():
        color = 6 if name == RANDOM else 1 if level.exact is None else 4
        lines.append({"name": name, "level": round(level.level, 5), "color": color, "kind": "level"})
    return _lines(lines)


def _lines(lines: list[dict[str, Any]]) -> Chart:
    return {"kind": "lines", "unit": "return", "series": lines}


def recorded_curve(runs: list[Run]) -> Chart:
    """The learning curves from the episodes that were recorded alone: no environment is made."""
    lines = []
    for k, run in enumerate(runs):
        frame = run.episodes
        if len(frame):
            window = window_of(len(frame))
            means = frame["return"].rolling(window, min_periods=1).mean()
            lines.append(series(f"mean of {window}" if len(runs) == 1 else run.name, frame["decisions"], means, k))
    return _lines(lines)


def _evaluated(run: Run) -> tuple[list[int], list[float]]:
    """After how many decisions the policy was evaluated without exploration, and its mean returns."""
    groups = greedy_rows(run.evaluated)
    means = groups["return"].mean().to_dict() if len(groups) else {}
    return list(means), list(means.values())


def sections(run: Run) -> dict[str, Chart]:
    """What each player got, and from each member of a panel; by stretches of training how episodes closed, what each
    reward term brought, and who won; what each term brings without exploration, by the evaluations."""
    course = course_of(run)
    met = {pairing_name(*pairing): returns.mean() for pairing, returns in panel_rows(run).items()}
    panel = [series(name, means.index, means, k, "marked") for k, (name, means) in enumerate(met.items())]
    charts = {**NO_SECTIONS, "evaluated_ledger": _evaluated_ledger(run), "panel": _lines(panel)}
    if not course.count:
        return charts
    if course.players_differ:
        means_of = dict(zip(course.players, course.player_means, strict=True))
        charts["players"] = _lines(
            [
                series(f"{player}, mean of {course.window}", course.decisions, means, k)
                for k, (player, means) in enumerate(means_of.items())
            ]
        )
    stretches = course.stretches(most=STRETCHES)
    closings = dict(zip(course.closings, stretches.closings.T / stretches.counts, strict=True))
    charts["closings"] = _stack({k: v for k, v in closings.items() if v.any()}, stretches.edges, SHARE)
    charts["ledger"] = _ledger(run, stretches)
    if stretches.wins.any():
        wins = stretches.wins.T / stretches.counts
        layers = dict(zip(course.players, wins, strict=True))
        charts["wins"] = _stack({**layers, "draw": 1.0 - wins.sum(axis=0)}, stretches.edges, SHARE)
    return charts


def ledger(run: Run) -> Chart:
    """What each reward term brought, by stretches of training."""
    course = course_of(run)
    return _ledger(run, course.stretches(most=STRETCHES)) if course.count else EMPTY


def _ledger(run: Run, stretches: Stretches) -> Chart:
    layers = {
        f"{name} x {weight:g}": weight * sums / stretches.counts
        for (name, weight), sums in zip(weights_of(describe(run.environment)).items(), stretches.terms.T, strict=True)
    }
    return _stack(layers, stretches.edges, MEAN_RETURN)


def _evaluated_ledger(run: Run) -> Chart:
    """What each reward term brings without exploration; each step ends where the policy was evaluated."""
    groups = greedy_rows(run.evaluated)
    if not len(groups):
        return EMPTY
    weights = weights_of(describe(run.environment))
    means = groups[list(weights)].mean()
    layers = {f"{name} x {weight:g}": weight * means[name].to_numpy() for name, weight in weights.items()}
    return _stack(layers, [0.0, *means.index], MEAN_RETURN)


def _stack(layers: dict[str, Any], edges: Any, unit: str) -> Chart:
    series = [
        {"name": name, "y": [float(f"{v:.4g}") for v in amounts], "color": k}
        for k, (name, amounts) in enumerate(layers.items())
    ]
    return {"kind": "stack", "unit": unit, "edges": [float(e) for e in edges], "series": series}


def readings(run: Run) -> list[Chart]:
    """A small chart for each reading that moves."""
    frame = run.readings
    if not len(frame):
        return []
    left_out = {"decisions", "episodes", f"return_last_{LAST}", "seconds"}
    charts = []
    for name in frame.columns:
        values = frame[name].to_numpy(float) if name not in left_out else np.zeros(1)
        if name not in left_out and np.isfinite(values).any() and np.nanmax(values) != np.nanmin(values):
            chart = {
                "kind": "lines",
                "unit": name.replace("_", " "),
                "series": [series(name, frame["decisions"], values, 0)],
            }
            charts.append(chart)
    return charts


def machine(run: Run) -> Chart | None:
    """Processor and memory over the run's seconds."""
    from jokulmist.records.run_folder import MACHINE
    from jokulmist.records.tables import read_frame

    frame = read_frame(run.path / MACHINE, ("seconds", *PERCENTAGES)) if run.path is not None else None
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
    rows = []
    for key, part in frame.groupby(["policy", "act", "seed", "learned"], sort=False, dropna=False):
        player, act, seed, learned = map(str, key)
        column = own_name(player.partition(PAIRING_SEPARATOR)[0], "return") if PAIRING_SEPARATOR in player else "return"
        returns = part[column].to_numpy(float)
        spread = returns.std(ddof=1) if len(returns) > 1 else float("nan")
        half = interval_of(returns.mean(), spread, len(returns))[1] - returns.mean()
        closings = part["closed_by"].value_counts(normalize=True)
        rows.append(
            {
                "policy": player,
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
    return rows
