"""A full example on the shipped data, told as it goes."""

from __future__ import annotations

import time
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from jokulmist.command.printing import console, print_table

if TYPE_CHECKING:
    from jokulmist.environments.environment import Environment
    from jokulmist.judging.evaluate import Evaluation
    from jokulmist.running.runs.run import Runs

SEEDS = (0, 1, 2, 3)
STEPS = 1_500_000
INTRODUCTION = """\
A tarn lies above the settlement. Every hour its gate is held, opened half or opened fully: water through the
turbine earns the price of the hour, water over the brim floods the path. Can an agent learn when to sell?
"""
CHECKING = """\
1. Check the environment before training anything: are the bounds right, can an episode end, what does
   random play earn, and does the class compile?
"""
TRAINING = f"""
2. Train two methods on the same problem, {len(SEEDS)} seeds each, {STEPS:,} decisions a run. Levels fall into
   20 bins, so that action values fit in a table. Q-learning explores from 1 to 0.02 over the first half. Sarsa learns
   the value of what it does, exploring included: it begins with high values, which make it try everything, and
   explores from 0.3 only. At its defaults it ends near 133.
"""
EVALUATING = """
3. Evaluate what was learned, without exploration, on 100 episodes that no training has met; beside it random
   play and a rule written by hand.
"""
COMPARING = """
4. Compare the methods: is one better, or was it luck? Intervals are to be looked at; one test over seeds decides.
"""
DRAWING = """
5. Draw the learning curve (did it learn, and how fast?), the ledger (which reward term did it come from?) and the
comparison.
"""


def tour(folder: Path) -> None:
    """Check, train, evaluate, compare, draw; leaves runs, pictures and a summary table."""
    from jokulmist.command.drawing import draw_run
    from jokulmist.judging.evaluate import evaluate_references
    from jokulmist.plans.progress import duration
    from jokulmist.plans.sources import environment_class
    from jokulmist.records.files import replace_file
    from jokulmist.records.tables import csv_lines
    from jokulmist.workshop.check.check import check
    from jokulmist.workshop.check.text import show

    began = time.perf_counter()
    environment = environment_class("tarn")()
    typer.echo(INTRODUCTION)
    typer.echo(CHECKING)
    show(check(environment), console())
    typer.echo(TRAINING)
    runs = _train(environment, folder)
    typer.echo(EVALUATING)
    references = evaluate_references(environment)
    rows = _evaluate(runs, environment, references)
    print_table(rows)
    typer.echo(COMPARING)
    comparison = _compare(runs)
    typer.echo(DRAWING)
    pictures = [path for several in runs.values() for run in several for path in draw_run(run, references)]
    summary = folder / "tour-summary.csv"
    replace_file(summary, csv_lines({name: [row[name] for row in rows] for name in rows[0]}, header=True))
    for path in (*pictures[:2], comparison.save(folder / "tour-comparison.png")[0], summary):
        typer.echo(f"   {path}")
    typer.echo(_conclusion(rows, references, duration(time.perf_counter() - began)))


def _train(environment: Environment, folder: Path) -> dict[str, Runs]:
    from jokulmist.agents.tables.q_learning import QLearning
    from jokulmist.agents.tables.sarsa import Sarsa
    from jokulmist.learning.schedules import linear
    from jokulmist.plans.progress import LiveLine
    from jokulmist.running.train import train_seeds

    rate = linear(0.5, 0.02, over=1.0)
    exploration = linear(0.3, 0.02, over=0.5)
    agents = {
        "QLearning": QLearning(bins=20, discount=1.0, learning_rate=rate),
        "Sarsa": Sarsa(bins=20, discount=1.0, learning_rate=rate, initial_value=100.0, exploration=exploration),
    }
    runs = {}
    for name, agent in agents.items():
        runs[name] = train_seeds(environment, agent, steps=STEPS, seeds=SEEDS, folder=folder, display=LiveLine())
        if any(run.status == "stopped" for run in runs[name]):
            typer.echo("stopped; what was trained so far is kept.")
            raise typer.Exit(130)
    return runs


def _evaluate(
    runs: Mapping[str, Runs], environment: Environment, references: Mapping[str, Evaluation]
) -> list[dict[str, Any]]:
    """A row a run and a reference; the evaluations are recorded with their runs."""
    from jokulmist.judging.evaluate import evaluate
    from jokulmist.records.run_folder import EVALUATED
    from jokulmist.records.tables import append_rows

    rows = []
    for name, several in runs.items():
        for run in several:
            result = evaluate(run.policy, environment)
            assert run.path is not None
            append_rows(run.path / EVALUATED, result.columns)
            rows.append(_row(name, str(run.seed), result, run.path.name))
    for name, result in references.items():
        rows.append(_row("random play" if name == "random" else f"{name} (by hand)", "-", result, "-"))
    return rows


def _compare(runs: Mapping[str, Runs]) -> Any:
    from jokulmist.studies.comparison.compare import compare

    comparison = compare(dict(runs))
    columns = {
        "group": "agent",
        "seeds": "seeds",
        "score": "interquartile_mean",
        "low": "ci95_low",
        "high": "ci95_high",
    }
    rows: list[Any] = comparison.table[list(columns)].rename(columns=columns).to_dict("records")
    print_table(rows)
    pair = comparison.pairs.iloc[0]
    typer.echo(f"\n   {pair['first']} and {pair['second']}: {pair['verdict']} (p {pair['p_adjusted']:.2f})")
    for note in comparison.notes:
        typer.echo(f"   {note}")
    return comparison


def _conclusion(rows: list[dict[str, Any]], references: Mapping[str, Evaluation], duration: str) -> str:
    by_hand = next(result.mean for name, result in references.items() if name != "random")
    best = max(rows, key=lambda row: row["mean_return"])
    better = sum(row["mean_return"] > by_hand for row in rows if row["seed"] != "-")
    total = sum(row["seed"] != "-" for row in rows)
    return f"""
The best policy earns {best["mean_return"]:.1f} an episode ({best["agent"]}); {better} of {total} runs earn more than
the rule by hand ({by_hand:.1f}). All of it took {duration}. Look around with `jokulmist runs`, and start your
own environment with `jokulmist new pond.py`."""


def _row(agent: str, seed: str, result: Evaluation, run: str) -> dict[str, Any]:
    low, high = result.interval
    return {
        "agent": agent,
        "seed": seed,
        "mean_return": result.mean,
        "ci95_low": low,
        "ci95_high": high,
        "sd": result.sd,
        "run": run,
    }
