"""Action values in a table: what Q-learning, Sarsa and expected Sarsa share.

The observation falls into a cell, the table holds one value for each cell and action. Every formula is written once,
with the actions unrolled, over numbers that are either plain Python numbers (a plain lane, `scalar_agent.py`) or arrays
with one entry a copy (compiled); `Ops` holds the few functions that differ. Reading and writing the table differ too:
in place for NumPy, by slices for JAX.

Within a compiled turn the table is read twice and then written once, and nothing reads it after the write: so it is
never copied (measured: 12 million decisions per second with one copy, against 0.4 where a row was read after the
write).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Annotated, Any, ClassVar, NamedTuple

import numpy as np
from pydantic import BeforeValidator

from jokulmist.agents.action_values import by_label, explored_index, refuse_combinations
from jokulmist.agents.configs import Config, Hyperparameters, TableConfig
from jokulmist.agents.contract import Agent, DiscountPer, Experience, FixedShare, Share, bootstrap_discount
from jokulmist.agents.tables.cells import FORBIDDEN, Ops, array_ops, grid_for
from jokulmist.agents.tables.greedy import action_probabilities, draw_index
from jokulmist.agents.tables.scalar_agent import ScalarTable
from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.spaces.actions import Choice
from jokulmist.environments.spaces.channels import ObservationBatch, Spec
from jokulmist.errors import SettingError
from jokulmist.learning.action_distributions import joint_over, refuse_ranges
from jokulmist.learning.novelty_setting import NoveltySetting
from jokulmist.learning.schedules import linear
from jokulmist.trees import replaced

MOST_TRACED, LEAST_TRACE = 512, 1e-3
# Rows are written out action by action.
MOST_COMBINATIONS = 64


def _bins(value: Any) -> Any:
    sizes = list(value.values()) if isinstance(value, dict) else [value]
    if any(isinstance(n, bool) or not isinstance(n, int) or n < 1 for n in sizes) or not sizes:
        raise ValueError("must be a whole number above 0, or one a channel, e.g. bins={'level': 20}")
    return value


class Table(NamedTuple):
    """What was learned: ``values`` of shape ``(cells, actions)``, float32; and where the method plans, what it
    remembers."""

    values: Any
    model: Any = ()


class Carried(NamedTuple):
    """What belongs to each copy.

    Attributes
    ----------
    pending : int32, shape ``(copies,)``
        The action already drawn for its next decision, -1 where none is (Sarsa).
    places, weights : int32 and float32, shape ``(traced,)``; empty without traces
        The newest entries of the table that were left, the newest last, and how much of an error each gets.
    before : float32; empty without traces
        What the last target took what followed to be worth (Sarsa).
    """

    pending: Any
    places: Any = ()
    weights: Any = ()
    before: Any = ()


class TableAgent(Agent):
    """Settings and functions of the methods that keep a table. Not used by itself.

    Parameters
    ----------
    learning_rate : float or schedule, in [0, 1]
        Step towards the target.
    discount : float, in [0, 1]
        Weight of the reward one decision later.
    discount_per : {"decision", "advance"}
        Where a decision lasts for several advances: whether the discount counts once a decision, or once an advance,
        also within it.
    exploration : float or schedule, in [0, 1]
        Chance of a random action.
    bins : int, or dict of channel to int
        Equal bins of each number between its declared bounds; whole-number channels have one bin a value.
    initial_value : float
        What the table holds at first; a high one makes the agent try everything.
    trace_decay : float, in [0, 1]
        How much of each error also reaches the entries that were left before, for each decision further back: rewards
        are known far back after one episode. 0 for none. For one copy alone.
    novelty : Novelty, optional
        Also seek what was seldom met: ``jm.Novelty(0.5)``.
    """

    learning_rate: Share = linear(0.5, 0.0, over=1.0)
    discount: FixedShare = 0.99
    discount_per: DiscountPer = "decision"
    exploration: Share = linear(1.0, 0.02, over=0.5)
    bins: Annotated[int | dict[str, int], BeforeValidator(_bins)] = 10
    initial_value: float = 0.0
    trace_decay: FixedShare = 0.0
    novelty: NoveltySetting | None = None

    config_type: ClassVar[type[Config]] = TableConfig
    reading_names: ClassVar[tuple[str, ...]] = ("error", "outside")
    draws_needed: ClassVar[bool] = False
    # How errors reach further back: "watkins" or "true online"; none where a method has no traces.
    traces: ClassVar[str] = ""

    def schedules(self) -> dict[str, Any]:
        values = super().schedules()
        if not self.trace_decay:
            del values["trace_decay"]
        return values

    def refuse(self, spec: Spec) -> None:
        refuse_ranges(spec.action, type(self).__name__)
        refuse_combinations(type(self).__name__, joint_over(spec.action).count, MOST_COMBINATIONS)

    def config(self, spec: Spec, copies: int) -> TableConfig:
        config: TableConfig = super().config(spec, copies)
        config.bins = tuple(sorted(self.bins.items())) if isinstance(self.bins, dict) else self.bins
        config.grid = grid_for(spec, config.bins, type(self).__name__)
        config.joint = joint_over(spec.action)
        config.actions = config.joint.count
        config.method = type(self)
        config.traced = 0
        if self.trace_decay:
            if not self.traces:
                raise SettingError(
                    f"`{type(self).__name__}` has no traces. Leave out `trace_decay`, or use `QLearning` or `Sarsa`."
                )
            decay = self.trace_decay * self.discount
            config.traced = (
                MOST_TRACED if decay >= 1.0 else min(MOST_TRACED, math.ceil(math.log(LEAST_TRACE) / math.log(decay)))
            )
        return config

    def refuse_copies(self, config: TableConfig) -> None:
        if config.traced and config.copies > 1:
            raise SettingError(
                f"traces follow one player of one copy, and `{type(self).__name__}` has {config.copies}. Use "
                "`copies=1`, and an agent of its own for each player, with `trace_decay`."
            )

    @classmethod
    def next_value(cls, row: Sequence[Any], exploration: Any, upcoming: Any, closed: Any, ops: Ops) -> Any:
        """The value of what follows, from the row of the true next observation."""
        raise NotImplementedError

    @staticmethod
    def fresh_learner(config: TableConfig, hyperparameters: Hyperparameters, noise: Draw) -> Table:
        return Table(np.full((config.grid.cells, config.actions), hyperparameters.initial_value, np.float32))

    @staticmethod
    def fresh_memory(config: TableConfig, hyperparameters: Hyperparameters) -> Carried:
        pending = np.full(config.copies, -1, np.int32)
        if not config.traced:
            return Carried(pending)
        return Carried(pending, np.zeros(config.traced, np.int32), np.zeros(config.traced, np.float32), np.float32(0.0))

    @staticmethod
    def restarted(memory: Carried, new: Carried, mask: Any) -> Carried:
        """The lost copy's episode has no traces; with traces there is one copy."""
        if isinstance(memory.weights, tuple):
            return replaced(mask, new, memory)  # type: ignore[no-any-return]
        return new

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
        row = rows_of(learner.values, cell, noise, allowed)
        probabilities = action_probabilities(row, hyperparameters.exploration if explore else 0.0, ops)
        explorer = config.explorer if explore else None
        if explorer is None:
            action = draw_index(probabilities, noise.uniform(shape=(config.copies,)))
        else:
            xp = noise.xp
            best = xp.stack(row, axis=1).argmax(axis=1).astype("int32")
            action = explored_index(config, observed, best, xp.stack(probabilities, axis=1), allowed, noise)
        if config.method.draws_needed and explore:
            action = ops.select(memory.pending >= 0, memory.pending, action)
        return config.joint.native(noise.settle(action)), memory, ()

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

        ops = array_ops(config.spec.masked)
        transition = jax.tree.map(lambda part: part[0], experience)
        observed, actions, reward, ended, closed, last = transition[:6]
        action = config.joint.index(actions)
        cell = noise.settle(config.grid.place(list(observed.numbers.T), ops)[0])
        row = rows_of(learner.values, cell, noise)
        cell_after, outside = config.grid.place(list(last.numbers.T), ops)
        row_after = rows_of(learner.values, cell_after, noise, config.joint.legal(last.legal))
        upcoming = None
        if config.method.draws_needed:
            next_probabilities = action_probabilities(row_after, hyperparameters.exploration, ops)
            upcoming = draw_index(next_probabilities, noise.uniform(shape=(config.copies,)))
            memory = memory._replace(pending=jnp.where(closed, -1, upcoming))
        next_value = config.method.next_value(row_after, hyperparameters.exploration, upcoming, closed, ops)
        action_value = of_action(row, action)
        if config.traced:
            return _traced(
                config,
                hyperparameters,
                learner,
                memory,
                transition,
                cell,
                row,
                action,
                next_value,
                action_value,
                outside,
            )
        td_error = noise.settle(
            reward
            + bootstrap_discount(hyperparameters, transition.advances) * jnp.where(ended, 0.0, next_value)
            - action_value
        )
        table_step = hyperparameters.learning_rate * meeting(
            td_error, cell * config.actions + action, config.grid.cells * config.actions
        )
        values = written(learner.values, cell, action, action_value + table_step)
        readings = (jnp.mean(jnp.abs(td_error)), jnp.mean(1.0 * outside))
        return Table(values), memory, readings

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
        has_explorer = config.explorer is not None
        if has_explorer or config.spec.masked or config.traced or not isinstance(config.spec.action, Choice):
            return None
        return ScalarTable(config, hyperparameters, learner.values, explore, learn, exploring)

    @staticmethod
    def policy_outputs(config: TableConfig, learner: Table, observed: ObservationBatch) -> dict[str, Any]:
        cell = config.grid.place(list(observed.numbers.T), array_ops())[0]
        return {"values": learner.values[cell]}

    @staticmethod
    def values(config: TableConfig, learner: Table, observed: ObservationBatch) -> dict[str, Any]:
        """The value of each action by label, one a row."""
        cells = config.grid.place(list(observed.numbers.T), array_ops(xp=np))[0]
        return by_label(config.spec, np.asarray(learner.values)[cells])


def _traced(
    config: TableConfig,
    hyperparameters: Hyperparameters,
    learner: Table,
    memory: Carried,
    transition: Experience,
    cell: Array,
    row: Any,
    actions: Array,
    next_value: Array,
    action_value: Array,
    outside: Array,
) -> tuple[Table, Carried, tuple[Any, ...]]:
    """An update that also reaches the entries that were left before.

    Watkins (1989): traces end where an action was taken that was not the best, and at the border of an episode. Or true
    online Sarsa (van Seijen, Mahmood, Pilarski, Machado and Sutton, 2016, algorithm 2), whose values after each
    decision are those of the forward view so far. What counts less than a thousandth is left out.
    """
    import jax.numpy as jnp

    action, bootstrap_weight = actions[0], bootstrap_discount(hyperparameters, transition.advances)
    decay = jnp.reshape(bootstrap_weight, (-1,))[0] * hyperparameters.trace_decay
    begins = transition.observed.age[0] == 0
    if config.method.traces == "watkins":
        legal = config.joint.legal(transition.observed.legal)
        allowed = row if legal is None else [jnp.where(legal[:, k], entry, FORBIDDEN) for k, entry in enumerate(row)]
        begins = begins | (action_value[0] < array_ops().best(allowed)[0])
    weights = jnp.where(begins, 0.0, decay * memory.weights)
    entry = (cell[0] * config.actions + action).astype(jnp.int32)
    td_error = (transition.rewards + bootstrap_weight * jnp.where(transition.ended, 0.0, next_value) - action_value)[0]
    rate, more, new = hyperparameters.learning_rate, jnp.float32(0.0), jnp.float32(1.0)
    if config.method.traces == "true online":
        before = jnp.where(transition.observed.age[0] == 0, action_value[0], memory.before)
        more = action_value[0] - before
        new = 1.0 - rate * jnp.sum(jnp.where(memory.places == entry, weights, 0.0))
    places = jnp.concatenate([memory.places[1:], entry[None]])
    weights = jnp.concatenate([weights[1:], new[None]])
    table = learner.values.reshape(-1).at[places].add(rate * (td_error + more) * weights).at[entry].add(-rate * more)
    memory = memory._replace(places=places, weights=weights, before=jnp.where(transition.ended, 0.0, next_value)[0])
    return Table(table.reshape(learner.values.shape)), memory, (jnp.abs(td_error), jnp.mean(1.0 * outside))


def of_action(row: Sequence[Any], action: Any) -> Any:
    """The values of the actions that were taken."""
    import jax.numpy as jnp

    action_value = row[0]
    for k, value in enumerate(row[1:], start=1):
        action_value = jnp.where(action == k, value, action_value)
    return action_value


def rows_of(table: Array, cell: Array, noise: Draw, allowed: Array | None = None) -> list[Any]:
    """The rows of the given cells, as one array over copies for each action; `allowed` has the shape ``(copies,
    actions)``.

    They are settled: else the compiler reads the table again wherever a row is used, after the write too, and copies
    the whole table for that.
    """
    from jax import lax

    if cell.shape[0] == 1:
        rows = lax.dynamic_slice(table, (cell[0], 0), (1, table.shape[1]))
    else:
        rows = table.at[cell].get(mode="promise_in_bounds")
    rows = noise.settle(rows)
    if allowed is not None:
        rows = noise.xp.where(allowed, rows, FORBIDDEN)
    return [rows[:, k] for k in range(table.shape[1])]


def meeting(error: Array, key: Array, entries: int) -> Array:
    """The errors, where copies meet in one of the table's entries the mean of theirs."""
    import jax.numpy as jnp

    copies = error.shape[0]
    if copies == 1:
        return error
    both = jnp.stack([error, jnp.ones_like(error)], axis=1)
    # Each copy against each is the quickest for a few; many are added up in a row for each entry of the table, which
    # has to be made empty first.
    if copies * copies < 2 * entries:
        summed = jnp.asarray(key[:, None] == key[None, :], dtype=jnp.float32) @ both
    else:
        summed = jnp.zeros((entries, 2), jnp.float32).at[key].add(both, mode="promise_in_bounds")[key]
    return summed[:, 0] / summed[:, 1]


def written(table: Array, cell: Array, action: Any, value: Array) -> Array:
    from jax import lax

    if cell.shape[0] == 1:
        return lax.dynamic_update_slice(table, value[:, None], (cell[0], action[0]))
    # Copies that meet in an entry carry the same value, so the order of writing does not matter.
    return table.at[cell, action].set(value, mode="promise_in_bounds")
