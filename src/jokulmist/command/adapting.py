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
    from jokulmist.command.drawing import draw_run
    from jokulmist.errors import SettingError
    from jokulmist.plans.progress import LiveLine
    from jokulmist.running.adapt import adapt as resume_run

    by_player = partners_of(partners)
    if not steps and not episodes:
        raise SettingError("say how long by `--steps` or `--episodes`, e.g. `--steps 50_000`.")
    members = {
        player: [RandomPlay() if place == "random" else Fixed(place) for place in places]
        for player, places in by_player.items()
    }
    agents = {player: policies[0] if len(policies) == 1 else Roster(*policies) for player, policies in members.items()}
    result = resume_run(
        path,
        agents,
        steps=steps or None,
        episodes=episodes or None,
        name=name,
        display=LiveLine(),
        command=["jokulmist", *sys.argv[1:]],
    )
    stopped = result.run.status == "stopped"
    if not stopped:
        draw_run(result.run)
    if json:
        print_json(result.as_json())
        return stopped
    typer.echo(
        f"{result.run.path} goes on from {path.name}, with {', '.join(partners)}; {len(result.after.returns)} episodes "
        "with these partners\n"
    )
    print_table(
        [
            {
                "learned": label,
                "mean_return": e.mean,
                "ci95_low": e.interval[0],
                "ci95_high": e.interval[1],
                **e.players,
            }
            for label, e in ((f"before, in {path.name}", result.before), (f"after, in {result.run.name}", result.after))
        ]
    )
    return stopped
