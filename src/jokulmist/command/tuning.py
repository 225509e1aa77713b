"""The command that searches for settings, and what it tells of a search."""

from __future__ import annotations

import sys
import time
from pathlib import Path
from typing import Any

import typer

from jokulmist.command.printing import print_json, print_table
from jokulmist.command.queueing import print_waiting
from jokulmist.errors import SettingError

MOST_ROWS = 10
SAMPLED = 2


def tune(
    plan_file: Path,
    changes: list[str],
    folder: Path,
    name: str | None,
    workers: int | None,
    cluster: str | None,
    dry: bool,
    json: bool,
    later: bool = False,
) -> bool:
    """Search as a plan says, now or by a worker of the queue; returns whether it was stopped before its end."""
    from jokulmist.plans.plan import TUNING, plan_content, plan_of
    from jokulmist.studies.search.progress import LiveSearchDisplay
    from jokulmist.studies.search.settings import settings_of
    from jokulmist.studies.search.tune import make_search

    content = plan_content(plan_file, changes)
    if TUNING not in content:
        raise SettingError(
            f"{plan_file} has no section `[tuning]`, which says how to search. Write `[tuning]` with `method` and "
            "`candidates`, and "
            '`[tuning.over]` with, for instance, `"agent.learning_rate" = '
            f'{{ between = [1e-4, 1e-2], scale = "log" }}`.'
        )
    tuning = content.pop(TUNING)
    question = settings_of(tuning, plan_of(content, plan_file.parent), plan_file.parent)
    if dry:
        _forecast(question, folder, workers, json)
        return False
    search = make_search(question, folder, name, workers)
    if later:
        print_waiting(folder, [search.path], json)
        return False
    command = ["jokulmist", *sys.argv[1:]]
    return print_search(search.work(workers, cluster, LiveSearchDisplay(), command), json)


def resume(path: Path, workers: int | None, cluster: str | None, json: bool) -> bool:
    """Go on with a search; one that is done is told again."""
    from jokulmist.studies.search.progress import LiveSearchDisplay
    from jokulmist.studies.search.search import Search

    search = Search.open(path)
    if search.status != "done":
        search.resume(
            workers=workers, cluster=cluster, display=LiveSearchDisplay(), command=["jokulmist", *sys.argv[1:]]
        )
    return print_search(search, json)


def print_search(search: Any, json: bool) -> bool:
    """What a search found; returns whether it was stopped."""
    from jokulmist.command.waiting import telling

    stopped: bool = search.status != "done"
    pictures: list[Path] = []
    if not stopped:  # whoever stopped it does not want to wait for pictures
        with telling() as on_message:
            on_message("asking which settings mattered, and drawing")
            pictures = search.save_pictures()
    if json:
        mean, low, high = search.score_again
        print_json(
            {
                "search": str(search.path),
                "status": search.status,
                "candidates": search.rows(),
                "winner": None
                if search.winner is None
                else {
                    "candidate": search.winner.number,
                    "settings": search.settings,
                    "score": search.score,
                    "score_on_new_seeds": mean,
                    "low": low,
                    "high": high,
                    "new_seeds": len(search.board.again),
                },
                **(
                    {}
                    if stopped
                    else {
                        "importance": search.importance.table.to_dict("records"),
                        "explained": search.importance.explained,
                        "note": search.importance.note,
                    }
                ),
                "pictures": [str(path) for path in pictures],
            }
        )
        return stopped
    rows = search.rows()
    if rows:
        _table(rows, search.question.space.names)
    failed = [row for row in rows if row["status"] == "failed"]
    for row in failed[:3]:
        typer.echo(f"* candidate {row['candidate']} failed: {row['message']}")
    if len(failed) > 3:
        typer.echo(f"* and {len(failed) - 3} more failed; candidates.csv has their messages")
    if search.winner is None:
        typer.echo("No candidate has a score yet.")
    else:
        _winner(search, stopped)
    if stopped:
        typer.echo(f"The search is not at its end: jokulmist resume {search.path}", err=True)
    if pictures:
        plan = f"; the winner's plan is {search.path}/winner.toml" if search.board.winner is not None else ""
        other_pictures = ", ".join(path.name for path in pictures[1:])
        typer.echo(f"{pictures[0]} and {other_pictures} show the search{plan}", err=True)
    return stopped


def _table(rows: list[dict[str, Any]], names: list[str]) -> None:
    from jokulmist.plans.setting_differences import short_names

    short = short_names(names)
    rows_shown = []
    for row in rows[:MOST_ROWS]:
        cells = {short[name]: row[name] for name in names}
        rows_shown.append(
            {
                "candidate": row["candidate"],
                **cells,
                "score": row["score"],
                "ci95_low": row["low"],
                "ci95_high": row["high"],
                "decisions": row["decisions"],
                "status": row["status"],
            }
        )
    print_table(rows_shown)
    if len(rows) > MOST_ROWS:
        typer.echo(f"... and {len(rows) - MOST_ROWS} more, in candidates.csv")


def _winner(search: Any, stopped: bool) -> None:
    """The winner, its score in the search and on new seeds, and once it is done what mattered."""
    from jokulmist.plans.setting_differences import short_names
    from jokulmist.studies.search.progress import format_settings

    typer.echo(f"\nThe winner is candidate {search.winner.number}: {format_settings(search.settings)}")
    seeds = len(search.board.seeds)
    choice_text = "chosen by its model, of" if search.question.tuning.method == "gaussian-process" else "the best of"
    typer.echo(
        f"  in the search      {search.score:.4g}, {choice_text} {len(search.board.candidates)} ({seeds} "
        f"seed{'s' if seeds > 1 else ''}), optimistic: it is the best of many"
    )
    mean, low, high = search.score_again
    count = len(search.board.again)
    if count:
        interval = f" [{low:.4g}, {high:.4g}]" if count > 1 else ""
        typer.echo(f"  on {count} new seed{'s' if count > 1 else ' '}     {mean:.4g}{interval}: what to expect of it")
    if search.question.alone:
        typer.echo(
            "  (new seeds train with its last settings from the begin on; in the search they changed on the way)"
        )
    if stopped:
        return
    importance = search.importance
    known_rows = importance.table.dropna()
    if len(known_rows):
        short = short_names(list(known_rows["setting"]))
        typer.echo(
            f"\nWhat mattered, of {importance.candidates} candidates (the model predicts "
            f"{max(importance.explained, 0.0):.0%} of the variance)\n"
        )
        print_table(
            [
                {"setting": short[r["setting"]], "matters": r["matters"], "ci95_low": r["low"], "ci95_high": r["high"]}
                for r in known_rows.to_dict("records")
            ]
        )
    if importance.note:
        typer.echo(f"* {importance.note}.")


def _compiling_seconds(question: Any) -> float:
    """How much longer a candidate takes than a run whose program is there already: settings that are shapes, such as
    widths of layers, are compiled again."""
    import numpy as np

    from jokulmist.command.training import short_trial
    from jokulmist.running.train import train_plan
    from jokulmist.studies.search.space import with_settings

    draw, seconds = np.random.default_rng(0), []
    for _ in range(SAMPLED):
        plan = with_settings(question.plan, question.space.sample(draw))
        trial = short_trial(plan, plan.copies * plan.agent.decisions_per_update(plan.copies))
        for _ in range(2):
            began = time.perf_counter()
            train_plan(trial, folder=None)
            seconds.append(time.perf_counter() - began)
    return max(0.0, float(np.mean(seconds[::2]) - np.mean(seconds[1::2])))


def _forecast(question: Any, folder: Path, workers: int | None, json: bool) -> None:
    """What would be searched, with a forecast of time and disk from a short trial."""
    from jokulmist.command.training import forecast_of
    from jokulmist.plans.progress import duration
    from jokulmist.running.workers.pool import usual_workers

    plan, tuning = question.plan, question.tuning
    forecast = forecast_of(plan, folder, workers)
    compiling = _compiling_seconds(question)
    planned = float(plan.training.steps or forecast["decisions_a_run"])
    seeds = question.seeds_each
    runs = (question.method.decisions or tuning.candidates * planned) / planned * seeds + tuning.again
    count = workers or usual_workers()
    content = {
        "environment": forecast["environment"],
        "agent": forecast["agent"],
        "method": tuning.method,
        "searched_over": ", ".join(question.space.names),
        "candidates": len(question.method.combinations) if tuning.method == "grid" else tuning.candidates,
        "seeds_each": seeds,
        "new_seeds": tuning.again,
        "side_by_side": count,
        "lane": forecast["lane"],
        "whole_runs_worth": round(runs, 1),
        "seconds_a_run": forecast["seconds_a_run"],
        "megabytes": round(forecast["megabytes_a_run"] * tuning.candidates * seeds, 1),
        "compiling_seconds": round(compiling, 1),
        "seconds": round((forecast["seconds_a_run"] * runs + compiling * tuning.candidates) / count, 1),
    }
    if json:
        print_json(content)
        return
    for key, value in content.items():
        if key != "seconds":
            typer.echo(f"{key.replace('_', ' '):<17} {f'{value:,}' if isinstance(value, int) else value}")
    typer.echo(f"altogether        about {duration(content['seconds'])}; nothing was trained")
