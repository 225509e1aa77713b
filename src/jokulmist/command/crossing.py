"""The command that lets policies of several runs play with each other."""

from __future__ import annotations

import math
from pathlib import Path

import typer

from jokulmist.command.printing import print_json, print_table


def crossplay_later(paths: list[Path], episodes: int, seed: int, json: bool) -> None:
    """Let it wait for a worker, about the first run, with the others of its folder."""
    from jokulmist.errors import SettingError
    from jokulmist.running.runs.run import Run
    from jokulmist.work.queue import Queue

    folder = paths[0].absolute().parent
    if elsewhere := [str(path) for path in paths if path.absolute().parent != folder]:
        raise SettingError(f"a job is about runs of one folder, and {elsewhere[0]} is not in {folder}.")
    names = [Run.open(path).name for path in paths]
    number = Queue(folder).add("evaluate", names[0], partners=names[1:], episodes=episodes, seed=seed)
    if json:
        print_json({"job": number, "runs": names})
    else:
        typer.echo(f"job {number} waits: {', '.join(names)}. A worker takes it: jokulmist queue work --folder {folder}")


def crossplay(paths: list[Path], episodes: int, seed: int, act: str, to: Path | None, rate: bool, json: bool) -> None:
    from jokulmist.command.waiting import telling
    from jokulmist.running.runs.run import Run
    from jokulmist.studies.cross_play import ALL, FILE, cross_play

    runs = [Run.open(path) for path in paths]
    with telling() as on_message:
        matrix = cross_play(runs, episodes=episodes, seed=seed, act=act, on_message=on_message)  # type: ignore[arg-type]
        is_won = matrix.subject != ALL and len(matrix.players) == 2  # what one gets the other loses
        ratings = matrix.ratings() if rate or is_won else None
        target = to or paths[0].parent / FILE
        saved = matrix.save(target)
        if ratings is not None:
            saved += ratings.save(target.with_name(f"{target.stem}-ratings{target.suffix}"))
    if json:
        rated = {} if ratings is None else {"rated": ratings.as_json()}
        print_json({**matrix.as_json(), **rated, "files": [str(path) for path in saved]})
        return
    first, other_players = matrix.players[0], " and ".join(matrix.players[1:])
    typer.echo(
        f"{matrix.environment}: mean return of {matrix.subject} in {episodes} episodes, seed {seed}; rows play "
        f"{first}, "
        f"columns play {other_players}\n"
    )
    print_table(
        [
            {"": name, **{column: float(matrix.means[i, j]) for j, column in enumerate(matrix.names)}}
            for i, name in enumerate(matrix.names)
        ]
    )
    if matrix.subject == ALL:
        p = "" if math.isnan(matrix.p) else f" (p = {matrix.p:.3f})"
        typer.echo(f"\ntrained together {matrix.own_mean:.4g}, exchanged {matrix.swapped:.4g}: {matrix.verdict}{p}")
        if 1 < len(matrix.groups) < len(matrix.names):
            typer.echo("these play together: " + "; ".join(", ".join(group) for group in matrix.groups))
    else:
        typer.echo(f"\n{matrix.verdict}")
    if matrix.all_the_same:
        typer.echo(
            f"\nin each pairing all {episodes} episodes are the same: nothing is left to chance, and intervals have "
            "no width",
            err=True,
        )
    if ratings is not None:
        typer.echo(
            "\nwho got more than the other has won; ratings are log odds, 0 is the average of these "
            f"{len(matrix.names)}\n"
        )
        print_table([dict(row) for row in ratings.as_json()["ratings"]])
        typer.echo(
            f"\n{matrix.players[0]} has an advantage of {ratings.advantage[0]:.2f}, 95 % [{ratings.advantage[1]:.2f}, "
            f"{ratings.advantage[2]:.2f}]; "
            f"{ratings.verdict}" + ("" if math.isnan(ratings.p) else f" (p = {ratings.p:.3f})")
        )
    more = f" {saved[2].name} shows the ratings." if ratings is not None else ""
    typer.echo(f"{saved[0]} shows it; {saved[1].name} has the intervals and each player's return.{more}", err=True)
