"""The command that writes a first environment."""

from __future__ import annotations

import re
from pathlib import Path

import typer

from jokulmist.errors import RecordError, SettingError

ENVIRONMENT = '''"""A small environment to start from: keep a frog pond from drying out or running over."""

import jokulmist as jm


class {name}(jm.Environment):
    """Open a sluice for a pond that rain fills and the sun empties."""

    rain: float = jm.parameter(0.5, low=0.0, high=3.0, unit="cm/h", help="Mean rain in an hour.")
    time_limit = 100  # a cut: the pond would have gone on

    class State(jm.State):  # all that changes, and nothing else
        level: float = jm.seen(low=0.0, high=20.0, unit="cm")  # the agent sees it
        let_in: float = jm.flow(unit="cm")  # what happened in this advance

    action = jm.Choice("closed", "open")

    def begin(self, draw):  # the first state of an episode
        return self.State(level=draw.uniform(6.0, 14.0))

    def advance(self, state, action, draw):  # an hour later; all chance comes from draw
        let_in = 1.5 * action
        level = state.level + let_in + draw.exponential(self.rain) - 1.2
        return state.replace(level=self.xp.clip(level, 0.0, 20.0), let_in=let_in)

    @jm.reward
    def comfort(self, after):  # the frogs like ten centimetres
        return 1.0 - abs(after.level - 10.0) / 10.0

    @jm.reward(weight=-0.1)
    def water_used(self, after):
        return after.let_in

    @jm.ending
    def dried_out(self, after):  # a true end: nothing comes after it
        return after.level <= 0.0

    @jm.reference
    def by_hand(self, state):  # a rule to compare with
        return 1 if state.level < 10.0 else 0
'''
PLAN = """[environment]
use = "{file}:{name}"

[agent]
use = "QLearning"
bins = 20

[training]
steps = 100_000
seeds = [0]

[tuning]  # what `jokulmist tune` searches; `train` leaves it aside
method = "random"
candidates = 16

[tuning.over]
"agent.learning_rate" = {{ between = [0.01, 1.0], scale = "log" }}
"agent.exploration" = {{ between = [0.0, 0.5] }}
"""


def new(file: Path) -> None:
    """Write the environment and a plan beside it; nothing is written over."""
    if file.suffix != ".py" or not re.fullmatch(r"[A-Za-z_]\w*", file.stem):
        raise SettingError(
            f"`new` writes a Python file with a plain name; got {file}. Use for instance `jokulmist new pond.py`."
        )
    plan = file.with_suffix(".toml")
    for path in (file, plan):
        if path.exists():
            raise SettingError(f"{path} is there already and stays as it is. Choose another name.")
    name = "".join(part.capitalize() for part in file.stem.split("_"))
    try:
        file.write_text(ENVIRONMENT.format(name=name), encoding="utf-8")
        plan.write_text(PLAN.format(file=file.name, name=name), encoding="utf-8")
    except OSError as failure:
        file.unlink(missing_ok=True)
        raise RecordError(f"cannot write {file}: {failure.strerror}. Choose a folder that you may write to.") from None
    typer.echo(f"wrote {file} and {plan}. Next:")
    typer.echo(f"  jokulmist check {file}:{name}")
    typer.echo(f"  jokulmist train {plan}")
