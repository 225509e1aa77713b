"""The command that goes on with players of a run beside other partners."""

from __future__ import annotations

import sys
from pathlib import Path

import typer

from jokulmist.command.looking import partners_of
from jokulmist.command.printing import print_json, print_table


def adapt(path: Path, partners: list[str], steps: int, episodes: int, name: str | None, json: bool) -> bool:
    """Go on; returns whether it was stopped before its end."""
    from jokulmist.agents.fixed import Fixed
    from jokulmist.agents.random_play import RandomPlay
    from jokulmist.agents.roster import Roster
    from jokulmist.errors import SettingError
    from jokulmist.pictures.saved import save_pictures
    from jokulmist.training.adapt import adapt as go_on
    from jokulmist.training.progress import LiveLine

    given = partners_of(partners)
    if not given:
        raise SettingError(
            "say with whom, e.g. `--with south=runs/haul-ppo-002`. `jokulmist resume` goes on with the same partners."
        )
    if not steps and not episodes:
        raise SettingError("say how long by `--steps` or `--episodes`, e.g. `--steps 50_000`.")
    members = {
        player: [RandomPlay() if place == "random" else Fixed(place) for place in places]
        for player, places in given.items()
    }
    agents = {player: own[0] if len(own) == 1 else Roster(*own) for player, own in members.items()}
    found = go_on(
        path, agents, steps=steps or None, episodes=episodes or None, name=name, show=LiveLine(),
        command=["jokulmist", *sys.argv[1:]],
    )  # fmt: skip
    stopped = found.run.status == "stopped"
    if not stopped:
        save_pictures(found.run)
    if json:
        print_json(found.as_json())
        return stopped
    typer.echo(
        f"{found.run.path} goes on from {path.name}, with {', '.join(partners)}; {len(found.after.returns)} episodes "
        "with these partners\n"
    )
    print_table(
        [
            {"learned": what, "mean_return": e.mean, "ci95_low": e.interval[0], "ci95_high": e.interval[1], **e.players}
            for what, e in ((f"before, in {path.name}", found.before), (f"after, in {found.run.name}", found.after))
        ]
    )
    return stopped
