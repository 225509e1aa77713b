"""The command that lays runs side by side."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import typer

from jokulmist.command.printing import print_json, print_table
from jokulmist.errors import LookupFailed, SettingError

MOST_PAIRS = 15


def compare(
    paths: list[Path],
    by: list[str],
    score: str,
    over: Any,
    level: float | None,
    against: str | None,
    weights: list[str],
    episodes: int,
    seed: int,
    to: Path | None,
    json: bool,
    within: Path | None = None,
) -> None:
    from jokulmist.command.waiting import telling
    from jokulmist.records.run_folder import is_run
    from jokulmist.running.runs.run import Run
    from jokulmist.studies.comparison.compare import compare as work

    runs = runs_at(paths)
    with telling() as on_message:
        comparison = work(
            runs,
            by=by or None,
            score=score,
            over=over,
            level=level,
            against=against,
            weights=_weights(weights),
            episodes=episodes,
            seed=seed,
            on_message=on_message,
            within=None if within is None else Run.open(within),
        )
        on_message("drawing")
        target = to or (paths[0].parent if is_run(paths[0]) else paths[0]) / "comparison.png"
        saved = comparison.save(target)
    if json:
        print_json({**comparison.as_json(), "files": [str(path) for path in saved]})
        return
    show(comparison)
    typer.echo(f"\n{saved[0]} shows the curves; the numbers are beside it, in {len(saved) - 1} CSV files.", err=True)


def show(comparison: Any) -> None:
    """The groups, the pairs, and what there is to say of them."""
    from jokulmist.plans.setting_differences import WORDS
    from jokulmist.studies.statistics import ALPHA

    columns = {
        "group": "group",
        "seeds": "seeds",
        "score": "interquartile_mean",
        "low": "ci95_low",
        "high": "ci95_high",
        "median": "median",
        "sd": "sd",
        "learned": "learned",
        "area": "area",
    }
    rows = []
    for row in comparison.table.to_dict("records"):
        row_shown = {title: row[name] for name, title in columns.items()}
        row_shown["learned"] = "-" if math.isnan(row["learned"]) else f"{row['learned']:.0%}"
        rows.append(row_shown)
    by = f" by {', '.join(WORDS.get(name, name) for name in comparison.by)}" if comparison.by else ""
    typer.echo(f"Final {comparison.value} of each seed, {len(rows)} groups{by}\n")
    print_table(rows)
    if comparison.level is not None:
        typer.echo(f"learned: share of seeds at {comparison.level:.4g} or above. area: mean height of the curve.")
    pairs = comparison.pairs.sort_values("p_adjusted", kind="stable").to_dict("records")
    typer.echo(
        f"\nPermutation test over seeds, {ALPHA:.0%} for {len(pairs)} pair{'s' if len(pairs) > 1 else ''} together\n"
    )
    shown_pairs = [
        {
            "first": row["first"],
            "second": row["second"],
            "difference": row["difference"],
            "first_beats_second": f"{row['chance']:.0%}",
            "95 %": "-" if math.isnan(row["low"]) else f"{row['low']:.0%} to {row['high']:.0%}",
            "p": "-" if math.isnan(row["p_adjusted"]) else f"{row['p_adjusted']:.3f}",
            "verdict": row["verdict"],
            "more_seeds": "" if row["verdict"] == "different" else _more(row["more_seeds"]),
        }
        for row in pairs[:MOST_PAIRS]
    ]
    print_table(shown_pairs)
    if len(pairs) > MOST_PAIRS:
        typer.echo(f"... and {len(pairs) - MOST_PAIRS} more pairs, in the CSV file")
    for note in comparison.notes:
        typer.echo(f"* {note}.")


def _more(seeds: float) -> str:
    return "over 1000" if math.isnan(seeds) else f"about {seeds:.0f}"


def runs_at(paths: list[Path]) -> Any:
    """The runs in some folders: a run's own, or one that holds runs."""
    from jokulmist.records.run_folder import is_run
    from jokulmist.running.runs.run import Run, Runs, runs_in

    runs = []
    for path in paths:
        if path.is_dir() and not is_run(path):
            inside = list(runs_in(path))
            if not inside:
                raise LookupFailed(f"{path} is no run, and holds none. `jokulmist runs` lists the runs here.")
            runs.extend(inside)
        else:
            runs.append(Run.open(path))
    return Runs(runs)


def _weights(words: list[str]) -> dict[str, float] | None:
    """What ``--weights`` says."""
    weights = {}
    for word in words:
        if word == "declared":
            continue
        name, _, value = word.partition("=")
        try:
            weights[name] = float(value)
        except ValueError:
            raise SettingError(
                f"`--weights` takes a reward term and its weight, e.g. `--weights flooding=-5`; got {word!r}."
            ) from None
    return weights if words else None
