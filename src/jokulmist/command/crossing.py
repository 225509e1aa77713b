"""The command that lets policies of several runs play with each other."""

from __future__ import annotations

import math
from pathlib import Path

import typer

from jokulmist.command.printing import print_json, print_table


def crossplay(paths: list[Path], episodes: int, seed: int, act: str, to: Path | None, rate: bool, json: bool) -> None:
    from jokulmist.command.waiting import telling
    from jokulmist.studies.cross_play import ALL, cross_play
    from jokulmist.training.runs.run import Run

    runs = [Run.open(path) for path in paths]
    with telling() as say:
        found = cross_play(runs, episodes=episodes, seed=seed, act=act, say=say)  # type: ignore[arg-type]
        ratings = found.ratings() if rate else None
        target = to or paths[0].parent / "cross-play.png"
        saved = found.save(target)
        if ratings is not None:
            saved.append(ratings.save(target.with_name(f"{target.stem}-ratings{target.suffix}")))
    if json:
        rated = {} if ratings is None else {"rated": ratings.as_json()}
        print_json({**found.as_json(), **rated, "files": [str(path) for path in saved]})
        return
    first, others = found.players[0], " and ".join(found.players[1:])
    typer.echo(
        f"{found.environment}: mean return of {found.of} in {episodes} episodes, seed {seed}; rows play {first}, "
        f"columns play {others}\n"
    )
    print_table(
        [
            {"": name, **{other: float(found.means[i, j]) for j, other in enumerate(found.names)}}
            for i, name in enumerate(found.names)
        ]
    )
    if found.of == ALL:
        p = "" if math.isnan(found.p) else f" (p = {found.p:.3f})"
        typer.echo(f"\ntrained together {found.own:.4g}, exchanged {found.swapped:.4g}: {found.verdict}{p}")
        if 1 < len(found.groups) < len(found.names):
            typer.echo("these play together: " + "; ".join(", ".join(group) for group in found.groups))
    else:
        typer.echo(f"\n{found.verdict}{'' if rate else '; `--rate` tells who is strong'}")
    if found.all_the_same:
        typer.echo(
            f"\nin each pairing all {episodes} episodes are the same: nothing is left to chance, and intervals have "
            "no width",
            err=True,
        )
    if ratings is not None:
        typer.echo(
            "\nwho got more than the other has won; ratings are log odds, 0 is the average of these "
            f"{len(found.names)}\n"
        )
        print_table([dict(row) for row in ratings.as_json()["ratings"]])
        typer.echo(
            f"\n{found.players[0]} has an advantage of {ratings.advantage[0]:.2f}, 95 % [{ratings.advantage[1]:.2f}, "
            f"{ratings.advantage[2]:.2f}]; "
            f"{ratings.verdict}" + ("" if math.isnan(ratings.p) else f" (p = {ratings.p:.3f})")
        )
    more = f" {saved[2].name} shows the ratings." if rate else ""
    typer.echo(f"{saved[0]} shows it; {saved[1].name} has the intervals and each player's return.{more}", err=True)
