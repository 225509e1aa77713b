"""The command that shows episodes."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

import typer

from jokulmist.command.waiting import telling
from jokulmist.errors import SettingError

TERMINAL, STRIP = "terminal", "png"
WIDTH, LINES = 72, 18


def replay(
    path: Path, recorded: list[str], checkpoints: list[str], seed: int, to: str, speed: float, current: bool = False
) -> None:
    from jokulmist.pictures.replay import save_replay
    from jokulmist.running.runs.run import Run
    from jokulmist.running.runs.scenes import fresh_scene, recorded_scene, usual_name

    if not 0.1 <= speed <= 100.0:
        raise SettingError(f"`--speed` lies from 0.1 to 100 decisions a second; got {speed:g}.")
    run = Run.open(path, current)
    scenes = [recorded_scene(run, name) for name in recorded]
    scenes += [fresh_scene(run, name, seed) for name in checkpoints or ([] if recorded else ["last"])]
    if to == TERMINAL:
        for scene in scenes:
            _in_terminal(scene, run.environment, speed)
        return
    target = Path(to) if "." in Path(to).name else usual_name(run, scenes, to)
    with telling() as on_message:
        written = save_replay(scenes, run.environment, target, per_second=speed, on_message=on_message)
    typer.echo(written)
    for scene in scenes:
        rollout, total = scene.rollout, float(scene.rewards(run.environment).sum())
        closed = f", closed by {rollout.closed_by}" if rollout.closed_by else ""
        typer.echo(
            f"{scene.title}: {rollout.steps} decisions, return{scene.suffix} {total:.4g}{closed}{_mean(scene)}",
            err=True,
        )


def _mean(scene: Any) -> str:
    return f"; {scene.mean_text}" if scene.mean_text else ""


def report(paths: list[Path], to: Path | None, replays: bool) -> None:
    from jokulmist.pictures.report.page import save_report
    from jokulmist.running.runs.run import Run

    runs = [Run.open(path) for path in paths]
    typer.echo(save_report(runs, to, replays=replays, on_message=lambda text: typer.echo(text, err=True)))


def _in_terminal(scene: Any, environment: Any, speed: float) -> None:
    """Blocks of colour, drawn over each other; where standard output is no terminal the last moment alone."""
    from rich.console import Console
    from rich.live import Live
    from rich.text import Text

    from jokulmist.pictures.blocks import blocks, shrunk
    from jokulmist.pictures.replay import Still, picture_of

    console = Console(highlight=False)
    width = min(console.width - 1, WIDTH)
    fine = console.color_system == "truecolor"

    rewards = scene.rewards(environment)

    def frame_at(moment: int) -> Any:
        table = scene.rollout.table
        image = picture_of(Still(None, scene, environment), moment, width, LINES)
        text = Text(f"{scene.title}: decision {moment} of {scene.rollout.steps}{_mean(scene)}\n", style="bold")
        text.append_text(blocks(shrunk(image, width, LINES), fine))
        total = float(rewards[:moment].sum())
        action = (
            "" if moment == scene.rollout.steps else f"   next {table.filter(like='action').iloc[moment].to_list()}"
        )
        text.append(f"return so far{scene.suffix} {total:.4g}{action}", style="not bold")
        return text

    moments = range(scene.rollout.steps + 1)
    if not console.is_terminal:
        console.print(frame_at(moments[-1]))
        return
    with Live(console=console, auto_refresh=False) as live:
        for moment in moments:
            live.update(frame_at(moment), refresh=True)
            time.sleep(1.0 / speed)
