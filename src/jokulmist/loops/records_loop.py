"""A run in progress that learns from records: an update in the place of each decision, and nothing that is stepped."""

from __future__ import annotations

from typing import Any

import numpy as np

from jokulmist.agents.contract import Agent, hyperparameters_at
from jokulmist.environments.chance.draws import PlainDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.declaration.description import Description
from jokulmist.errors import SettingError
from jokulmist.learning.schedules import Progress
from jokulmist.loops.agent_calls import TracedCalls, as_numpy
from jokulmist.loops.records import Records
from jokulmist.records.episodes import Episodes
from jokulmist.trees import flattened

# What an agent keeps of the records; it is read from them again.
FROM_RECORDS = "learner/replay/rows", "learner/replay/frames"
MOST_TOLD = 256


def refuse_untaught(agent: Agent) -> None:
    """Raise `SettingError` where a method does not learn from records."""
    if not hasattr(type(agent), "learn_rows"):
        raise SettingError(
            f"`{type(agent).__name__}` does not learn from records. Use `Cloning`, `ImplicitQ`, "
            "`DQN(conservative=1.0)`, `QLearning` or `LinearQ`."
        )


class RecordsLoop:
    """A run in progress on records; a loop like those that step an environment, with updates as its decisions."""

    most_turns = 1 << 20
    turns_per_update = 1

    def __init__(
        self, records: Records, agent: Agent, seed: int, steps: int, description: Description | None = None
    ) -> None:
        import jax
        import jax.numpy as jnp

        refuse_untaught(agent)
        kind: Any = type(agent)
        self._kind, self._steps, self._description = kind, steps, description
        config = agent.config(records.spec, 1)
        noise = Noise(seed, 1, Domain.TRAINING)
        self._draw, self._coefficients = PlainDraw(noise, Stream.LEARN), agent.schedules()
        self._numbers = hyperparameters_at(self._coefficients, Progress(0, 0, 0.0))
        self._calls = TracedCalls(agent, config)
        learner = kind.fresh_learner(config, self._numbers, PlainDraw(noise, Stream.FRESH).for_step(0, 0))
        self._learner = jax.tree.map(jnp.asarray, kind.taught(config, self._numbers, learner, records.rows))
        self._rows = jax.tree.map(jnp.asarray, records.rows)
        self.decisions = self.episodes = self.turn = 0
        self._sums, self._updates = np.zeros(len(kind.record_readings)), 0
        self._readings_due: list[Any] = []

    def advance(self, turns: int) -> Episodes:
        """Make so many updates; no episode closes."""
        for _ in range(turns):
            k = self.turn
            self._numbers = hyperparameters_at(self._coefficients, Progress(k, 0, min(k / self._steps, 1.0)))
            self._learner, _, readings = self._calls._call(
                "learn_rows", self._numbers, self._draw.for_step(k, 0), (self._learner,), self._rows
            )
            self._readings_due.append(readings)
            self._updates += 1
            self.turn = self.decisions = k + 1
            if len(self._readings_due) >= MOST_TOLD:
                self._sum_up()
        return self._none()

    def _none(self) -> Episodes:
        empty, description = np.zeros(0, np.int64), self._description
        terms, measures, varied = (
            (len(description.terms), len(description.measures), len(description.varied)) if description else (0, 0, 0)
        )
        totals, measured, varied_values = (np.zeros((0, count), np.float32) for count in (terms, measures, varied))
        return Episodes(empty, empty, empty, empty, totals, measured, varied_values, np.zeros(0, np.float32), empty)

    def _sum_up(self) -> None:
        import jax

        if self._readings_due:
            self._sums += np.array(jax.device_get(self._readings_due), np.float64).sum(axis=0)
        self._readings_due = []

    def readings(self) -> dict[str, float]:
        """Means of what updates told since the last call, and the settings that move."""
        self._sum_up()
        means = self._sums / max(self._updates, 1)
        self._sums, self._updates = np.zeros_like(means), 0
        readings = dict(zip(self._kind.record_readings, means.tolist(), strict=True))
        moving = {n: float(getattr(self._numbers, n)) for n, c in self._coefficients.items() if c.moves}
        return {**readings, **moving}

    def learner(self) -> Any:
        """What a policy needs of what was learned so far, as NumPy arrays; a copy."""
        return as_numpy(self._kind.policy_state(self._learner))

    def saved(self) -> dict[str, Any]:
        """All that the loop is between two updates, as NumPy arrays by path; without what is in the records."""
        self._sum_up()
        tree = {
            "counters": np.array([self.turn, self._updates], np.int64),
            "sums": self._sums,
            "learner": self._learner,
        }
        return {name: array for name, array in flattened(tree).items() if not name.startswith(FROM_RECORDS)}

    def restore(self, arrays: dict[str, Any]) -> None:
        """Be the loop that `saved` told of."""
        import jax
        import jax.numpy as jnp

        complete = {**flattened(self._learner, "learner"), **arrays}
        self.turn, self._updates = map(int, arrays["counters"])
        self.decisions, self._sums = self.turn, arrays["sums"].copy()
        self._learner = jax.tree.map(jnp.asarray, self._calls.restored(as_numpy(self._learner), complete, "learner"))

    def start_from(self, arrays: dict[str, Any]) -> None:
        raise SettingError("a run that learns from records begins without a policy. Leave out `start`.")

    def follow_first(self, every: int) -> None:
        """Nothing: there is no copy to follow."""

    def followed(self) -> Any:
        return []

    def count_episodes(self, episodes: int) -> None:
        """Nothing: no episode closes."""

    def set_level(self, value: float) -> None:
        """Nothing: nothing begins."""
