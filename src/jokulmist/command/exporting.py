"""The command that writes a policy to run elsewhere."""

from __future__ import annotations

from pathlib import Path

import typer

from jokulmist.command.printing import print_json


def export(path: Path, form: str, to: Path, player: str | None, checkpoint_name: str, says: bool, json: bool) -> bool:
    """Write it; returns whether it decides as the policy does, or could not be run here."""
    from jokulmist.exporting.save import export as write
    from jokulmist.exporting.save import of_run
    from jokulmist.running.runs.run import Run

    run = Run.open(path)
    policy = of_run(run, run.checkpoint(checkpoint_name))
    description = f"{run.name}, seed {run.seed}, after {policy.decisions:,} decisions"
    if player is not None:
        policy, description = policy.player(player), f"{player} of {description}"
    exported = write(policy, form, to, about=description, says=says)
    if json:
        print_json(
            {
                "files": [str(file) for file in exported.files],
                "checked": exported.checked,
                "wrong": exported.wrong,
                "worst": exported.worst,
                "microseconds": exported.microseconds,
                "why": exported.why,
            }
        )
    else:
        for file in exported.files:
            typer.echo(f"{file}  {file.stat().st_size:,} bytes")
        typer.echo(str(exported))
    return exported.ok
