"""Commands that take up a run: resume, redo."""

from __future__ import annotations

import sys
from pathlib import Path

import typer

from jokulmist.command.printing import print_json, print_table


def resume(path: Path, steps: int, episodes: int, take_over: bool, start_over: bool, json: bool) -> bool:
    """Go on; returns whether it was stopped before its end."""
    from jokulmist.command.drawing import draw_run
    from jokulmist.judging.cached_references import known_references
    from jokulmist.plans.progress import LiveLine
    from jokulmist.running.runs.run import summary
    from jokulmist.running.session.resume import resume as resume_run

    run = resume_run(
        path,
        steps=steps,
        episodes=episodes,
        take_over=take_over,
        start_over=start_over,
        display=LiveLine(),
        command=["jokulmist", *sys.argv[1:]],
    )
    if run.status != "stopped":  # whoever stopped it does not want to wait for pictures
        draw_run(run, known_references(run.plan.measured))
    row = summary(run)
    if json:
        print_json({**row, "folder": str(run.path)})
    else:
        print_table([{k: v for k, v in row.items() if k != "began"}])
    return run.status == "stopped"


def redo(path: Path, folder: Path | None, json: bool) -> tuple[bool, bool]:
    """Do it again; returns whether the episodes are the same, and whether it was stopped."""
    from jokulmist.plans.progress import LiveLine
    from jokulmist.running.redo import redo as again
    from jokulmist.running.runs.run import Run

    redone = again(Run.open(path), folder=folder, display=LiveLine(), command=["jokulmist", *sys.argv[1:]])
    if json:
        print_json(redone.as_json())
    else:
        typer.echo(str(redone))
    return redone.same, redone.stopped
