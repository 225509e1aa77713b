"""Q-learning on a table."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, ClassVar, Literal

import numpy as np

from jokulmist.agents.action_values import Explorer
from jokulmist.agents.configs import Hyperparameters, TableConfig
from jokulmist.agents.contract import Experience, WholeNumber, bootstrap_discount
from jokulmist.agents.tables.cells import Ops, array_ops
from jokulmist.agents.tables.planning import fresh_model, planned, remembered
from jokulmist.agents.tables.scalar_agent import ScalarTable
from jokulmist.agents.tables.table import Carried, Table, TableAgent
from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.spaces.channels import Spec
from jokulmist.errors import SettingError

NOT_RECORDED = -1e9


class QLearning(TableAgent):
    """Q-learning: the target is the best value of what follows, whatever is done next.

    Q(s, a) += learning_rate (r + discount max_b Q(s', b) - Q(s, a))

    Watkins (1989), "Learning from delayed rewards"; Sutton and Barto (2018), equation 6.8.

    Parameters
    ----------
    planning : int
        Updates between two decisions from what is remembered, 0 for none: decisions are dear, and time is not (Dyna;
        Sutton, 1990). Of each cell and action the newest 16 outcomes are remembered, and an update goes a step towards
        their mean. For one copy alone.
    sweeping : {"even", "prioritised"}
        Of which cells and actions: any that were met; or the one whose value is furthest from what is remembered, and
        then those that lead to it (Moore and Atkeson, 1993).
    explorer : callable, optional
        A function of your own that chooses while the method trains: it is called with (observed, best, probabilities,
        draw) and gives the index of an action for each copy. `probabilities` are those by which it would be drawn
        without it, one row a copy; what is not allowed becomes the best action. In a plan ``"file.py:name"``.
    learning_rate, discount, discount_per, exploration, bins, initial_value, trace_decay, novelty
        See `TableAgent`.

    Notes
    -----
    Differs from the book: ties are broken at random; where several copies meet in
    one entry in one turn, the mean of their errors is applied. Fails when the channels have many bins together, and
    overestimates where rewards are noisy.

    Examples
    --------
    >>> QLearning(bins=20, exploration=0.1)
    QLearning(exploration=0.1, bins=20)
    """

    planning: WholeNumber = 0
    sweeping: Literal["even", "prioritised"] = "even"
    explorer: Explorer = None

    traces: ClassVar[str] = "watkins"
    record_readings: ClassVar[tuple[str, ...]] = ("moved", "recorded")

    def config(self, spec: Spec, copies: int) -> TableConfig:
        config: TableConfig = super().config(spec, copies)
        if self.planning and self.trace_decay:
            raise SettingError("`planning` and `trace_decay` of `QLearning` do not go together. Leave one of them out.")
        if self.sweeping != "even" and not self.planning:
            raise SettingError(
                "`sweeping` of `QLearning` says which updates are planned, and there are none. Add `planning=20`, or "
                "leave it out."
            )
        return config

    def refuse_copies(self, config: TableConfig) -> None:
        super().refuse_copies(config)
        if config.planning and config.copies > 1:
            raise SettingError(
                f"planning follows one player of one copy, and `QLearning` has {config.copies}. Use `copies=1`, and an "
                "agent of its own for each player, with `planning`."
            )

    @staticmethod
    def fresh_learner(config: TableConfig, hyperparameters: Hyperparameters, noise: Draw) -> Table:
        learner = TableAgent.fresh_learner(config, hyperparameters, noise)
        return learner._replace(model=fresh_model(config)) if config.planning else learner

    @staticmethod
    def learn(
        config: TableConfig,
        hyperparameters: Hyperparameters,
        learner: Table,
        memory: Carried,
        experience: Experience,
        noise: Draw,
    ) -> tuple[Table, Carried, tuple[Any, ...]]:
        after, memory, readings = TableAgent.learn(config, hyperparameters, learner, memory, experience, noise)
        if not config.planning:
            return after, memory, readings
        import jax
        import jax.numpy as jnp

        transition, ops = jax.tree.map(lambda part: part[0], experience), array_ops()
        cell, led = (
            config.grid.place(list(seen.numbers.T), ops)[0][0] for seen in (transition.observed, transition.last)
        )
        entry = cell * config.actions + config.joint.index(transition.actions)[0]
        bootstrap_weight = jnp.where(
            transition.ended[0], 0.0, jnp.reshape(bootstrap_discount(hyperparameters, transition.advances), (-1,))[0]
        )
        legal = config.joint.legal(transition.last.legal)
        model = remembered(learner.model, entry, led, transition.rewards[0], bootstrap_weight, legal)
        values, model = planned(config, hyperparameters, after.values, model, entry, noise)
        return Table(values, model), memory, readings

    @staticmethod
    def policy_state(learner: Table) -> Table:
        return learner._replace(model=())

    @classmethod
    def scalar(
        cls,
        config: TableConfig,
        hyperparameters: Hyperparameters,
        learner: Table,
        explore: Any,
        learn: Any,
        exploring: bool = True,
    ) -> ScalarTable | None:
        return (
            None
            if config.planning and learn is not None
            else super().scalar(config, hyperparameters, learner, explore, learn, exploring)
        )

    @staticmethod
    def taught(config: TableConfig, hyperparameters: Hyperparameters, learner: Table, rows: Experience) -> Table:
        """The learner before its first sweep over records: the value of what was not recorded is so low that nothing
        chooses it."""
        return Table(np.full_like(learner.values, NOT_RECORDED))

    @staticmethod
    def learn_rows(
        config: TableConfig, hyperparameters: Hyperparameters, learner: Table, rows: Experience, noise: Draw
    ) -> tuple[Table, tuple[()], tuple[Any, ...]]:
        """One sweep of fitted Q over all records (Ernst, Geurts and Wehenkel, 2005): each entry becomes the mean of its
        targets.

        Of what follows the best action is taken that was recorded there; where none was, what follows counts nothing.
        """
        import jax.numpy as jnp

        ops = array_ops()
        cell = config.grid.place(list(rows.observed.numbers.T), ops)[0]
        after = config.grid.place(list(rows.last.numbers.T), ops)[0]
        next_values = jnp.max(learner.values[after], axis=1)
        next_values = jnp.where(rows.ended | (next_values <= NOT_RECORDED / 2), 0.0, next_values)
        target_q = rows.rewards + hyperparameters.discount * next_values
        entry = cell * config.actions + config.joint.index(rows.actions)
        sums = (
            jnp.zeros((2, learner.values.size), jnp.float32)
            .at[:, entry]
            .add(jnp.stack([target_q, jnp.ones_like(target_q)]))
        )
        values = jnp.where(sums[1] > 0.0, sums[0] / jnp.maximum(sums[1], 1.0), NOT_RECORDED).reshape(
            learner.values.shape
        )
        seen = values > NOT_RECORDED / 2
        was = jnp.where(learner.values > NOT_RECORDED / 2, learner.values, 0.0)
        moved = jnp.sum(jnp.where(seen, jnp.abs(values - was), 0.0)) / jnp.maximum(jnp.sum(seen), 1)
        return Table(values), (), (moved, jnp.mean(1.0 * seen))

    @classmethod
    def next_value(cls, row: Sequence[Any], exploration: Any, upcoming: Any, closed: Any, ops: Ops) -> Any:
        return ops.best(row)
