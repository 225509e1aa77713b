"""Double Q-learning on two tables."""

from __future__ import annotations

from typing import Any

import numpy as np

from jokulmist.agents.action_values import by_label
from jokulmist.agents.configs import Hyperparameters, TableConfig
from jokulmist.agents.contract import Experience, Share, bootstrap_discount
from jokulmist.agents.tables.cells import array_ops
from jokulmist.agents.tables.greedy import action_probabilities, draw_index
from jokulmist.agents.tables.table import Carried, Table, TableAgent, meeting, of_action, rows_of, written
from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Draw, PlainDraw
from jokulmist.environments.spaces.channels import ObservationBatch
from jokulmist.learning.schedules import linear


class DoubleQLearning(TableAgent):
    """Double Q-learning: one table says which action is best, the other one what it is worth, in turns by chance.

    Q_i(s, a) += learning_rate (r + discount Q_j(s', argmax_b Q_i(s', b)) - Q_i(s, a)),  i drawn, j the other

    Van Hasselt (2010), "Double Q-learning", algorithm 1; Sutton and Barto (2018), section 6.7.

    Where rewards are noisy, the largest of several values is too large by chance, and Q-learning believes it. Actions
    are chosen by the mean of both tables, which are kept as ``values`` of shape ``(2, cells, actions)``.
    Differs from the book as `QLearning` does; exploration falls over four fifths of
    the run instead of half of it. Fails when there are few decisions: each of them moves one table alone.

    Examples
    --------
    >>> DoubleQLearning(bins=20)
    DoubleQLearning(bins=20)
    """

    exploration: Share = linear(1.0, 0.02, over=0.8)

    @staticmethod
    def fresh_learner(config: TableConfig, hyperparameters: Hyperparameters, noise: Draw) -> Table:
        return Table(np.full((2, config.grid.cells, config.actions), hyperparameters.initial_value, np.float32))

    @staticmethod
    def choose(
        config: TableConfig,
        hyperparameters: Hyperparameters,
        learner: Table,
        memory: Carried,
        observed: ObservationBatch,
        noise: Draw,
        explore: bool,
    ) -> tuple[Any, Carried, tuple[()]]:
        ops = array_ops(config.spec.masked)
        cell, allowed = config.grid.place(list(observed.numbers.T), ops)[0], config.joint.legal(observed.legal)
        first, second = (rows_of(_flat(learner.values), cell + k * config.grid.cells, noise, allowed) for k in range(2))
        row = [0.5 * (left + right) for left, right in zip(first, second, strict=True)]
        likely = action_probabilities(row, hyperparameters.exploration if explore else 0.0, ops)
        index = noise.settle(draw_index(likely, noise.uniform(shape=(config.copies,))))
        return config.joint.native(index), memory, ()

    @staticmethod
    def learn(
        config: TableConfig,
        hyperparameters: Hyperparameters,
        learner: Table,
        memory: Carried,
        experience: Experience,
        noise: Draw,
    ) -> tuple[Table, Carried, tuple[Any, ...]]:
        import jax
        import jax.numpy as jnp

        ops, cells = array_ops(config.spec.masked), config.grid.cells
        observed, actions, reward, ended, _, last = jax.tree.map(lambda part: part[0], experience)[:6]
        table, action = _flat(learner.values), config.joint.index(actions)
        table_index = (noise.uniform(shape=(config.copies,)) < 0.5).astype(jnp.int32)
        cell = noise.settle(config.grid.place(list(observed.numbers.T), ops)[0] + table_index * cells)
        after, outside = config.grid.place(list(last.numbers.T), ops)
        action_value = of_action(rows_of(table, cell, noise), action)
        judging = rows_of(table, after + table_index * cells, noise, config.joint.legal(last.legal))
        worth = rows_of(table, after + (1 - table_index) * cells, noise)
        best, value = judging[0], worth[0]
        for judge_row, value_row in zip(judging[1:], worth[1:], strict=True):
            value = jnp.where(judge_row > best, value_row, value)
            best = jnp.maximum(best, judge_row)
        advances = experience.advances if isinstance(experience.advances, tuple) else experience.advances[0]
        error = noise.settle(
            reward + bootstrap_discount(hyperparameters, advances) * jnp.where(ended, 0.0, value) - action_value
        )
        step = hyperparameters.learning_rate * meeting(
            error, cell * config.actions + action, 2 * cells * config.actions
        )
        table = written(table, cell, action, action_value + step)
        return Table(table.reshape(learner.values.shape)), memory, (jnp.mean(jnp.abs(error)), jnp.mean(1.0 * outside))

    @classmethod
    def scalar(
        cls,
        config: TableConfig,
        hyperparameters: Hyperparameters,
        learner: Any,
        explore: PlainDraw,
        learn: Any,
        exploring: bool = True,
    ) -> None:  # it has no twin in plain numbers
        return None

    @staticmethod
    def policy_outputs(config: TableConfig, learner: Table, observed: ObservationBatch) -> dict[str, Any]:
        cell = config.grid.place(list(observed.numbers.T), array_ops())[0]
        return {"values": learner.values[:, cell].mean(axis=0)}

    @staticmethod
    def values(config: TableConfig, learner: Table, observed: ObservationBatch) -> dict[str, Any]:
        """The mean of both values of each action by label, one a row."""
        cells = config.grid.place(list(observed.numbers.T), array_ops(xp=np))[0]
        return by_label(config.spec, np.asarray(learner.values)[:, cells].mean(axis=0))


def _flat(values: Array) -> Array:
    """Both tables as one, the second below the first."""
    return values.reshape(-1, values.shape[-1])
