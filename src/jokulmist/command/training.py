"""Commands that train and measure: train, evaluate."""

from __future__ import annotations

import sys
import time
from dataclasses import replace
from pathlib import Path
from typing import Any

import typer

from jokulmist.command.drawing import Drawing
from jokulmist.command.printing import print_json, print_table
from jokulmist.errors import SettingError, listed

TRIAL_DECISIONS = 20_000


def train(
    plan_file: Path, changes: list[str], folder: Path, name: str | None, workers: int | None, dry: bool, json: bool
) -> bool:
    """Train a plan; returns whether it was stopped before its end."""
    drawing = None if dry else Drawing(plan_file, changes)  # before all else is loaded
    try:
        from jokulmist.plans.plan import read_plan
        from jokulmist.plans.progress import LiveLine
        from jokulmist.running.runs.run import summary
        from jokulmist.running.train import train_plan

        plan = read_plan(plan_file, changes)
        if drawing is None:
            _forecast(plan, folder, workers, json)
            return False
        runs = train_plan(
            plan, folder=folder, name=name, display=LiveLine(), command=["jokulmist", *sys.argv[1:]], workers=workers
        )
        stopped = any(run.status == "stopped" for run in runs)
        if not stopped:  # whoever stopped it does not want to wait for pictures
            drawing.draw(runs, plan)
    finally:
        if drawing is not None:
            drawing.drop()
    rows = [{**summary(run), "folder": str(run.path)} for run in runs]
    if json:
        print_json(rows)
    else:
        print_table([{k: v for k, v in row.items() if k not in ("began", "folder")} for row in rows])
        if stopped:
            typer.echo(f"Stopped; to go on: jokulmist resume {runs[-1].path}", err=True)
            return True
        for run in runs:
            pictures = folder / run.name / "pictures"
            typer.echo(f"{pictures}/learning-curve.png and ledger.png show how it learned.", err=True)
        typer.echo(f"Next: jokulmist evaluate {folder / runs[0].name}", err=True)
    return stopped


def forecast_of(plan: Any, folder: Path, workers: int | None) -> dict[str, Any]:
    """What one run would take, from a short trial in memory."""
    from jokulmist.running.session.choices import chosen_lane
    from jokulmist.running.train import train_plan
    from jokulmist.running.workers.pool import usual_workers

    training = plan.training
    lane, why = chosen_lane(plan)
    trial = short_trial(plan, TRIAL_DECISIONS if training.steps is None else min(training.steps, TRIAL_DECISIONS))
    train_plan(trial, folder=None)  # compiles, and warms what is kept
    began = time.perf_counter()
    run = train_plan(trial, folder=None)[0]
    seconds = time.perf_counter() - began
    decisions, frame = run.origin["decisions"], run.episodes
    if training.steps is not None:
        wanted = float(training.steps)
    else:
        wanted = training.episodes * decisions / max(len(frame), 1)
    row_bytes = 12.0 * max(len(frame.columns), 8)
    disk = wanted / decisions * len(frame) * row_bytes
    return {
        "environment": repr(plan.environment),
        "agent": repr(plan.agent),
        "runs": len(training.seeds),
        "side_by_side": min(len(training.seeds), workers or usual_workers()),
        "folder": str(folder),
        "lane": f"{lane}{f' ({why})' if why else ''}",
        "decisions_a_run": round(wanted),
        "seconds_a_run": round(seconds * wanted / decisions, 1),
        "megabytes_a_run": round(disk / 1e6 + 0.3, 1),
    }


def short_trial(plan: Any, steps: int) -> Any:
    """The plan with one seed and so many decisions, and nothing that takes time beside the training."""
    training = plan.training.changed(
        seeds=plan.training.seeds[:1],
        steps=steps,
        episodes=None,
        evaluate_every=None,
        best_by="return",
        stop_when=None,
    )
    return replace(plan, training=training, observers=())


def _forecast(plan: Any, folder: Path, workers: int | None, json: bool) -> None:
    """What would be run, from a short trial in memory."""
    from jokulmist.plans.progress import duration

    forecast = forecast_of(plan, folder, workers)
    if json:
        print_json(forecast)
        return
    for key, value in forecast.items():
        typer.echo(f"{key.replace('_', ' '):<16} {f'{value:,}' if isinstance(value, int) else value}")
    rounds = -(-forecast["runs"] // forecast["side_by_side"])
    typer.echo(f"altogether       about {duration(forecast['seconds_a_run'] * rounds)}; nothing was trained")


def evaluate(
    path: Path,
    episodes: int,
    seed: int,
    act: str,
    checkpoint: str,
    record: int,
    json: bool,
    current: bool,
    partners: list[str],
) -> None:
    from jokulmist.judging.cached_references import known_references
    from jokulmist.judging.evaluate import evaluate as measure
    from jokulmist.records.rollouts import ROLLOUTS
    from jokulmist.records.run_folder import EVALUATED
    from jokulmist.records.tables import append_rows
    from jokulmist.running.runs.run import Run

    if record and current:
        raise SettingError(
            "`--record` keeps episodes with the run, and `--current` plays other code than the run's own; use one of "
            "them."
        )
    run = Run.open(path, current)
    environment = run.environment
    if run.level_note:
        typer.echo(f"note: {run.level_note}", err=True)
    learned = run.checkpoint(checkpoint)
    if partners:
        learned = _with_others(learned, environment, partners)
    results = [measure(learned, environment, episodes=episodes, seed=seed, act=act, record=record)]  # type: ignore[arg-type]
    other_result = measure(
        learned, environment, episodes=episodes, seed=seed, act="sampled" if act == "greedy" else "greedy"
    )
    differs = results[0].differs(other_result)
    if differs:
        results.append(other_result)
    results += known_references(environment, episodes, seed).values()
    rows = _evaluation_rows(results, environment, json)
    if json:
        print_json({"run": run.name, "episodes": episodes, "seed": seed, "results": rows})
    else:
        _print_evaluation(run, learned, episodes, seed, rows, results, differs)
    # What was measured is told before it is kept: a folder that cannot be written takes nothing away.
    if record:
        rollout_file = path / ROLLOUTS / f"evaluated-{learned.decisions:012d}-seed{seed}.parquet"
        typer.echo(
            f"{results[0].save_rollouts(rollout_file, environment, run.name)} holds {record} episodes step by step",
            err=True,
        )
    why = "other code than the run's own" if current else "with other partners than the run's own" if partners else ""
    for result in results if not why else []:  # the run's record is about what the run trained
        append_rows(path / EVALUATED, result.columns)
    typer.echo(f"not recorded: this was {why}" if why else f"each episode is in {path}/evaluated.csv", err=True)


def _evaluation_rows(results: list[Any], environment: Any, with_all: bool) -> list[dict[str, Any]]:
    """A row an evaluation; `with_all` with the means by player, by term and of the measures."""
    from jokulmist.judging.evaluate import sees_more

    rows = []
    whose = next((result.telling for result in results if result.telling), "")
    won = any(result.outcomes for result in results)
    for result in results:
        mean, low, high, sd = result.told_of(whose)
        returns = result.returns_of(whose)
        note = ""
        if result.exact is not None:
            note = f"solved exactly: {result.exact:.6g}"
        elif result.policy_name not in ("policy", "random"):
            note = "reads more than the agent sees" if sees_more(environment, result.policy_name) else "by hand"
        row = {"policy": result.policy_name, "actions": result.act or note or "any action"}
        row |= {"return_of": whose} if whose else {}
        row |= {"mean_return": mean, "ci95_low": low, "ci95_high": high, "sd": sd}
        row |= {"least": float(returns.min()), "most": float(returns.max())}
        row |= (result.outcomes or {"win": 0.0, "draw": 1.0, "loss": 0.0}) if won else {}
        row |= {"closed_by": result.closings}
        if with_all:
            row |= {"players": result.players, "terms": result.terms, "measures": result.measures}
        rows.append(row)
    return rows


def _with_others(learned: Any, environment: Any, partners: list[str]) -> Any:
    """A policy of all players, some of whom others play."""
    from jokulmist.command.looking import others_of
    from jokulmist.environments.declaration.instance import describe
    from jokulmist.loops.partners import joined_policy

    players = describe(environment).players
    if not players:
        raise SettingError(f"`{describe(environment).name}` has no players; leave `--with` out.")
    return joined_policy({**{name: learned.player(name) for name in players}, **others_of(partners)}, environment)


def _print_evaluation(
    run: Any, learned: Any, episodes: int, seed: int, rows: list[dict[str, Any]], results: list[Any], differs: bool
) -> None:
    """The results as tables."""
    typer.echo(f"{run.name}: {learned.agent!r} after {learned.decisions:,} decisions")
    typer.echo(f"{episodes} episodes, seed {seed}\n")
    print_table(rows)
    typer.echo("\nWhat each reward term brings (together the return), and the measures:\n")
    print_table(
        [
            {"policy": row["policy"], "actions": row["actions"], **r.players, **r.terms, **r.measures}
            for row, r in zip(rows, results, strict=True)
        ]
    )
    if any(result.all_the_same for result in results):
        typer.echo(
            f"\nsd 0: all {episodes} episodes of {listed([r.policy_name for r in results if r.all_the_same])} are "
            "the same, "
            "so one tells as much. Nothing in them is left to chance: sample by "
            "`--act sampled`, or let `begin` draw the first state.",
            err=True,
        )
    if differs:
        better = max(results[:2], key=lambda result: result.mean)
        typer.echo(f"\ngreedy and sampled differ by more than luck: {better.act} play is the better one", err=True)


def evaluate_grid(
    path: Path, over: list[str], episodes: int, seed: int, act: str, json: bool, current: bool = False
) -> None:
    from jokulmist.judging.grid import evaluate_grid as measure
    from jokulmist.pictures import style
    from jokulmist.pictures.figures.grid import plot_grid
    from jokulmist.running.runs.run import Run

    run = Run.open(path, current)
    grid = measure(run.policy, run.environment, _places(over), episodes=episodes, seed=seed, act=act)  # type: ignore[arg-type]
    if json:
        print_json({"run": run.name, "episodes": episodes, "seed": seed, "results": grid.rows})
        return
    typer.echo(f"{run.name}: {run.policy.agent!r}, {episodes} episodes at each place, seed {seed}\n")
    print_table(grid.rows)
    if len(grid.parameters) <= 2:
        with style.styled():
            figure = style.fitted_figure()
            plot_grid(grid, figure.add_subplot())
            picture = style.save(figure, path / "pictures" / f"over-{'-'.join(grid.parameters)}.png")
        typer.echo(f"the picture is {picture}", err=True)


def policy_map(path: Path, over: str, checkpoint: str, current: bool = False) -> None:
    from jokulmist.pictures import style
    from jokulmist.pictures.figures.behaviour import plot_policy
    from jokulmist.running.runs.run import Run

    names = tuple(name.strip() for name in over.split(","))
    if len(names) != 2:
        raise SettingError(f"`--map` takes two channels, e.g. `--map position,speed`; got {over!r}.")
    run = Run.open(path, current)
    figure = plot_policy(run.checkpoint(checkpoint), run.environment, (names[0], names[1]))
    typer.echo(style.save(figure, path / "pictures" / f"policy-over-{names[0]}-{names[1]}.png"))


def _places(over: list[str]) -> dict[str, list[float]]:
    """What ``--over`` says, as values by parameter."""
    places: dict[str, list[float]] = {}
    for text in over:
        name, equals, values = text.partition("=")
        try:
            places[name] = [_number(value) for value in values.split(",")]
        except ValueError:
            equals = ""
        if not equals:
            raise SettingError(f"`--over` takes a parameter and its values, e.g. `--over melt=0.5,1,2`; got {text!r}.")
    return places


def _number(text: str) -> float:
    return int(text) if text.strip().lstrip("+-").isdigit() else float(text)
