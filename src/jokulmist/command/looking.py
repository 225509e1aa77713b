"""Commands that look: gallery, check, runs."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import typer

from jokulmist.command.printing import console, print_json, print_table, print_wide
from jokulmist.errors import LookupFailed


def gallery(json: bool) -> None:
    from jokulmist.environments.declaration.instance import describe
    from jokulmist.gallery import SHIPPED
    from jokulmist.plans.sources import environment_class

    rows: list[dict[str, Any]] = []
    for name in SHIPPED:
        cls = environment_class(name)
        described = describe(cls())
        rows.append(
            {
                "name": name,
                "problem": (cls.__doc__ or "").strip().split("\n")[0],
                "observed": ", ".join(c.name for c in described.spec.channels),
                "action": repr(described.action),
            }
        )
    if json:
        print_json(rows)
        return
    print_table(rows)
    typer.echo("\nLook closer with `jokulmist check tarn`.", err=True)


def environment_named(use: str, changes: list[str]) -> Any:
    """An environment by its name, or as a plan has it with its parameters and modifiers; with changes as `--set` takes
    them."""
    from jokulmist.plans.plan import TUNING, changed, plan_content, plan_of

    path = Path(use)
    content = plan_content(path) if path.suffix == ".toml" else {"environment": {"use": use}}
    content = {"agent": {"use": "RandomPlay"}, "training": {"steps": 1}, **content}
    content.pop(TUNING, None)
    changed(content, changes)
    return plan_of(content, path.parent if path.suffix == ".toml" else None).measured


def solve(use: str, changes: list[str], discount: float, limit: bool, to: Path | None, json: bool) -> None:
    from jokulmist.judging.solving.solution import OPTIMUM
    from jokulmist.judging.solving.solution import solve as work
    from jokulmist.records.files import replace_file
    from jokulmist.records.tables import csv_lines

    solution = work(
        environment_named(use, changes),
        discount=discount,
        limit=limit,
        on_message=lambda message: typer.echo(message, err=True),
    )
    if to is not None:
        table = solution.table
        replace_file(to, csv_lines({str(name): table[name].to_numpy() for name in table}, header=True))
    if json:
        print_json(
            {
                "environment": solution.name,
                "mean_return": solution.value,
                "players": solution.of_players,
                "discount": solution.discount,
                "decisions": solution.horizon,
                "states": solution.states,
                "transitions": solution.transitions,
                "seconds": solution.seconds,
            }
        )
        return
    typer.echo(
        f"{solution.name}: the best policy returns {solution.value:.6g} in the mean{_discounted(solution.discount)}"
    )
    for player, value in solution.of_players.items():
        typer.echo(f"  {player} gets {value:.6g}")
    typer.echo(f"{solution.states:,} states, {solution.transitions:,} transitions, {solution.seconds:.1f} s")
    if to is not None:
        typer.echo(f"{to} has every state with its best action")
    if discount == 1.0 and limit:
        typer.echo(f"curves, evaluations and comparisons of it show the {OPTIMUM} from now on", err=True)


def _discounted(discount: float) -> str:
    return f", discounted by {discount:g} a decision" if discount < 1.0 else ""


def check(use: str, steps: int, json: bool, changes: list[str]) -> bool:
    from jokulmist.workshop.check.check import check as look
    from jokulmist.workshop.check.text import show

    report = look(environment_named(use, changes), steps=steps)
    if json:
        print_json(report.as_json())
    else:
        show(report, console())
    return report.ok


def show_steps(use: str, steps: int, player: str, seed: int, json: bool, changes: list[str]) -> None:
    from jokulmist.running.runs.run import Run
    from jokulmist.workshop.step_table import tabulate_steps

    environment, policy = environment_named(use, changes), player
    if Path(player).is_dir():
        run = Run.open(Path(player))
        environment, policy = run.environment, run.policy  # type: ignore[assignment]
    frame = tabulate_steps(environment, steps, policy=policy, seed=seed)
    rows: list[Any] = frame.astype(object).where(frame.notna(), None).to_dict("records")
    if json:
        print_json(rows)
    else:
        print_wide(rows, ("episode", "moment"))


def play(
    use: str | None,
    run: Path | None,
    seed: int,
    folder: Path,
    current: bool,
    changes: list[str],
    player: str | None,
    partners: list[str],
) -> None:
    import sys

    from jokulmist.environments.chance.noise import checked_seed
    from jokulmist.errors import SettingError
    from jokulmist.running.runs.run import Run
    from jokulmist.workshop.play import Controls

    if use is None and run is None:
        raise SettingError("say what to play, e.g. `jokulmist play ferry`, or watch a run by `--policy runs/NAME`.")
    opened = None if run is None else Run.open(run, current)
    environment = environment_named(use, changes) if use is not None else opened.environment  # type: ignore[union-attr]
    policy = None if opened is None else opened.policy
    other_policies = None
    if player is not None or partners:
        other_policies = _partner_policies(environment, policy, player, partners)
        policy = None
    hand = Controls(environment, policy, checked_seed(seed), player, other_policies)
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise SettingError("`play` needs a terminal. To look at steps elsewhere use `jokulmist check ENV --show 20`.")
    from jokulmist.command.play import PlayApp, end_with_terminal

    end_with_terminal()
    PlayApp(hand, folder).run()


def _partner_policies(environment: Any, policy: Any, player: str | None, partners: list[str]) -> Any:
    """Who plays the players that a person does not: as `--with` says, else the run's policy, else random play."""
    from jokulmist.environments.declaration.instance import describe
    from jokulmist.errors import SettingError
    from jokulmist.loops.partners import joined_policy

    players = describe(environment).players
    if not players:
        raise SettingError(f"`{describe(environment).name}` has no players; leave `--player` and `--with` out.")
    if player is None:
        raise SettingError(f"say whom you play: `--player {players[0]}`.")
    usual = {name: "random" if policy is None else policy.player(name) for name in players}
    return joined_policy({**usual, **others_of(partners)}, environment)


def others_of(partners: list[str]) -> dict[str, str]:
    """What ``--with south=runs/haul-001`` says, by player: one each."""
    from jokulmist.errors import SettingError

    members = partners_of(partners)
    for player, places in members.items():
        if len(places) > 1:
            raise SettingError(f"`--with` names `{player}` {len(places)} times; one policy plays it. Keep one.")
    return {player: places[0] for player, places in members.items()}


def partners_of(partners: list[str]) -> dict[str, list[str]]:
    """What ``--with south=runs/haul-001`` says, by player: one or several."""
    from jokulmist.errors import SettingError

    by_player: dict[str, list[str]] = {}
    for text in partners:
        name, equals, place = text.partition("=")
        if not (name and equals and place):
            raise SettingError(
                f"`--with` takes a player and a run, e.g. `--with south=runs/haul-ppo-001`; got {text!r}."
            )
        by_player.setdefault(name, []).append(place)
    return by_player


def runs(folder: Path, json: bool, most: int, **filters: Any) -> None:
    from jokulmist.records.run_index import chosen, readable, rows_in

    if not folder.is_dir() and folder != Path("runs"):
        raise LookupFailed(
            f"there is no folder {folder}. The runs are where `--folder` said when they were trained; by default in "
            "`runs`."
        )
    every, words = rows_in(folder)
    rows = chosen(folder, every, **filters)
    for word in words:
        typer.echo(word, err=True)
    if json:
        print_json(rows)
    elif rows:
        rows_shown = rows[-most:] if filters["sort"] == "began" else rows[:most]
        print_table([readable(row) for row in rows_shown])
        if len(rows_shown) < len(rows):
            typer.echo(f"{len(rows) - len(rows_shown):,} more; `--most {len(rows)}` shows them, too", err=True)
    elif every:
        typer.echo(f"None of the {len(every):,} runs in {folder} is what was asked for.")
    else:
        typer.echo(
            f"There are no runs in {folder}. `jokulmist train PLAN.toml` makes one; `jokulmist tour` makes some."
        )
