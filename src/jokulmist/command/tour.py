"""A full example on the shipped data, told as it goes."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

import typer

from jokulmist.command.printing import console, print_table

SEEDS = (0, 1, 2, 3)
STEPS = 1_500_000


def tour(folder: Path) -> None:
    """Check, train, evaluate, compare, draw; leaves runs, pictures and a summary table."""
    from jokulmist.agents.tables.q_learning import QLearning
    from jokulmist.agents.tables.sarsa import Sarsa
    from jokulmist.learning.schedules import linear
    from jokulmist.pictures.saved import save_pictures
    from jokulmist.records.files import append_rows, csv_lines, replace_file
    from jokulmist.records.run_folder import EVALUATED
    from jokulmist.studies.comparison.compare import compare
    from jokulmist.training.evaluation.evaluate import evaluate, evaluate_references
    from jokulmist.training.plans.sources import environment_class
    from jokulmist.training.progress import LiveLine, duration
    from jokulmist.training.train import train
    from jokulmist.workshop.check.check import check
    from jokulmist.workshop.check.text import show

    began = time.perf_counter()
    environment = environment_class("tarn")()
    say = typer.echo
    say("A tarn lies above the settlement. Every hour its gate is held, opened half or opened fully: water through the")
    say("turbine earns the price of the hour, water over the brim floods the path. Can an agent learn when to sell?\n")

    say("1. Check the environment before training anything: are the bounds right, can an episode end, what does")
    say("   random play earn, and does the class compile?\n")
    show(check(environment), console())

    say(
        f"\n2. Train two methods on the same problem, {len(SEEDS)} seeds each, {STEPS:,} decisions a run. Levels fall into"
    )
    say(
        "   20 bins, so that action values fit in a table. Q-learning explores from 1 to 0.02 over the first half. Sarsa learns"
    )
    say(
        "   the value of what it does, exploring included: it begins with high values, which make it try everything, and"
    )
    say("   explores from 0.3 only. At its defaults it ends near 133.\n")
    rate = linear(0.5, 0.02, over=1.0)
    agents = {
        "QLearning": QLearning(bins=20, discount=1.0, learning_rate=rate),
        "Sarsa": Sarsa(
            bins=20, discount=1.0, learning_rate=rate, initial_value=100.0, exploration=linear(0.3, 0.02, over=0.5)
        ),
    }
    runs: dict[str, Any] = {}
    for name, agent in agents.items():
        runs[name] = train(environment, agent, steps=STEPS, seeds=SEEDS, folder=folder, show=LiveLine())
        if any(run.status == "stopped" for run in runs[name]):
            say("stopped; what was trained so far is kept.")
            raise typer.Exit(130)

    say(
        "\n3. Evaluate what was learned, without exploration, on 100 episodes that no training has met; beside it random"
    )
    say("   play and a rule written by hand.\n")
    known = evaluate_references(environment)
    rows: list[dict[str, Any]] = []
    for name, several in runs.items():
        for run in several:
            result = evaluate(run.policy, environment)
            append_rows(run.path / EVALUATED, result.columns)
            low, high = result.interval
            rows.append(_row(name, str(run.seed), result.mean, low, high, result.sd, run.path.name))
    for name, level in known.items():
        low, high = level.interval
        rows.append(
            _row("random play" if name == "random" else f"{name} (by hand)", "-", level.mean, low, high, level.sd, "-")
        )
    print_table(rows)

    say(
        "\n4. Compare the methods: is one better, or was it luck? Intervals are to be looked at; one test over seeds decides.\n"
    )
    compared = compare(runs)
    print_table(
        [
            {
                "agent": row["group"],
                "seeds": row["seeds"],
                "interquartile_mean": row["score"],
                "ci95_low": row["low"],
                "ci95_high": row["high"],
            }
            for row in compared.table.to_dict("records")
        ]
    )
    pair = compared.pairs.iloc[0]
    say(f"\n   {pair['first']} and {pair['second']}: {pair['verdict']} (p {pair['p_adjusted']:.2f})")
    for note in compared.notes:
        say(f"   {note}")

    say(
        "\n5. Draw the learning curve (did it learn, and how fast?), the ledger (which reward term did it come from?) and the comparison.\n"
    )
    pictures = [path for several in runs.values() for run in several for path in save_pictures(run, known)]
    summary = folder / "tour-summary.csv"
    replace_file(summary, csv_lines({name: [row[name] for row in rows] for name in rows[0]}, header=True))
    say(f"   {pictures[0]}")
    say(f"   {pictures[1]}")
    say(f"   {compared.save(folder / 'tour-comparison.png')[0]}")
    say(f"   {summary}")

    by_hand = next(level.mean for name, level in known.items() if name != "random")
    best = max(rows, key=lambda row: row["mean_return"])
    beaten = sum(row["mean_return"] > by_hand for row in rows if row["seed"] != "-")
    total = sum(row["seed"] != "-" for row in rows)
    say(
        f"\nThe best policy earns {best['mean_return']:.1f} an episode ({best['agent']}); {beaten} of {total} runs earn more than the rule"
    )
    say(
        f"by hand ({by_hand:.1f}). All of it took {duration(time.perf_counter() - began)}. Look around with `jokulmist runs`, and start your"
    )
    say("own environment with `jokulmist new pond.py`.")


def _row(agent: str, seed: str, mean: float, low: float, high: float, sd: float, run: str) -> dict[str, Any]:
    return {"agent": agent, "seed": seed, "mean_return": mean, "ci95_low": low, "ci95_high": high, "sd": sd, "run": run}
