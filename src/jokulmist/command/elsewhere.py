"""Commands that take a policy to other programs."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from jokulmist.command.application import DONE, FAILED, app
from jokulmist.command.options import AsJson, RunFolder, Trust


@app.command()
def export(
    run: RunFolder,
    form: Annotated[str, typer.Option(help="What it is written as: python (NumPy only), c, javascript or onnx.")],
    to: Annotated[Path, typer.Option(metavar="FOLDER", help="The folder to write it into.")],
    player: Annotated[str | None, typer.Option(help="Of several players the one whose policy it is.")] = None,
    checkpoint: Annotated[
        str, typer.Option(metavar="WHICH", help="Which policy: last, best, or the decisions of a checkpoint.")
    ] = "last",
    says: Annotated[bool, typer.Option("--says", help="Also what it says: probabilities, spreads, values.")] = False,
    json: AsJson = False,
    trust: Trust = False,
) -> None:
    """Write a policy to run without this library. It is held against the policy where that can be done here; status 1
    where it differs.

    Example:  jokulmist export runs/ferry-ppo-001 --form c --to ferry-policy
    """
    from jokulmist.command.exporting import export as work

    raise typer.Exit(DONE if work(run, form, to, player, checkpoint, says, json) else FAILED)


@app.command()
def serve(
    runs: Annotated[list[Path], typer.Argument(metavar="RUN...", help="Folders of the runs whose policies are asked.")],
    host: Annotated[str, typer.Option(help="The address to listen at; other machines reach 0.0.0.0.")] = "127.0.0.1",
    port: Annotated[int, typer.Option(min=0, max=65535, help="The port; 0 takes a free one.")] = 8311,
    token: Annotated[
        str | None, typer.Option(help="Asked of everybody; made where other machines can reach it.")
    ] = None,
    player: Annotated[str | None, typer.Option(help="Of several players the one whose policies they are.")] = None,
    trust: Trust = False,
) -> None:
    """Put policies behind a port. POST /decide takes an observation, or many, as JSON.

    Example:  jokulmist serve runs/ferry-ppo-001
    """
    from jokulmist.command.serving import serve as work

    work(runs, host, port, token, player)
