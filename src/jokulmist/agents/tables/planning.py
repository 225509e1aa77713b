"""Planning with a table: what was met is remembered, and values are learned from it again between two decisions.

Sutton (1990), "Integrated architectures for learning, planning, and reacting": Dyna. Moore and Atkeson (1993),
"Prioritized sweeping"; Sutton and Barto (2018), sections 8.2 and 8.4.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from jokulmist.agents.configs import Hyperparameters, TableConfig
from jokulmist.agents.tables.cells import FORBIDDEN
from jokulmist.environments.chance.draws import Draw
from jokulmist.errors import SettingError

OUTCOMES = 16
LEADING = 16
MOST_ENTRIES = 1_000_000
WORTH_SWEEPING = 1e-4  # an entry that is nearer to what is remembered is left alone


class Model(NamedTuple):
    """What was met.

    An entry is a cell and an action.

    Attributes
    ----------
    after : int32, shape ``(entries, OUTCOMES)``
        The cells that the newest decisions led to, the oldest of them overwritten.
    reward, discount : float32, shape ``(entries, OUTCOMES)``
        What they brought, and what the value of that cell counts: 0 where the episode ended.
    times : int32, shape ``(entries,)``
    met : int32, shape ``(entries,)``
        The entries that were met, in the order of their first time.
    count_met : int32
        How many those are.
    able : bool, shape ``(cells, actions)``
        What was allowed; empty where everything is.
    urgent : float32, shape ``(entries,)``; empty where entries are drawn evenly
        How far each is from what is remembered.
    leading : int32, shape ``(cells, LEADING)``; empty likewise
        The newest entries that led to a cell; -1 where there are fewer.
    led : int32, shape ``(cells,)``; empty likewise
    """

    after: Any
    reward: Any
    discount: Any
    times: Any
    met: Any
    count_met: Any
    able: Any
    urgent: Any
    leading: Any
    led: Any


def fresh_model(config: TableConfig) -> Model:
    cells, entries = config.grid.cells, config.grid.cells * config.actions
    if entries > MOST_ENTRIES:
        raise SettingError(
            f"`planning` would remember what followed {entries:,} cells and actions; at most {MOST_ENTRIES:,} can be "
            "remembered. Use fewer `bins`, or leave out `planning`."
        )
    wide = (entries, OUTCOMES)
    sorted_by_need = config.sweeping == "prioritised"
    return Model(
        np.zeros(wide, np.int32),
        np.zeros(wide, np.float32),
        np.zeros(wide, np.float32),
        np.zeros(entries, np.int32),
        np.zeros(entries, np.int32),
        np.int32(0),
        np.ones((cells, config.actions), bool) if config.spec.masked else (),
        np.zeros(entries, np.float32) if sorted_by_need else (),
        np.full((cells, LEADING), -1, np.int32) if sorted_by_need else (),
        np.zeros(cells, np.int32) if sorted_by_need else (),
    )


def remembered(model: Model, entry: Any, after: Any, reward: Any, discount: Any, legal: Any) -> Model:
    """The model with one decision more."""
    import jax.numpy as jnp

    slot = model.times[entry] % OUTCOMES
    new = model.times[entry] == 0
    met = model.met.at[jnp.where(new, model.count_met, 0)].set(jnp.where(new, entry, model.met[0]))
    model = model._replace(
        after=model.after.at[entry, slot].set(after),
        reward=model.reward.at[entry, slot].set(reward),
        discount=model.discount.at[entry, slot].set(discount),
        times=model.times.at[entry].add(1),
        met=met,
        count_met=model.count_met + new,
    )
    if legal is not None:
        model = model._replace(able=model.able.at[after].set(legal[0]))
    if not isinstance(model.leading, tuple):
        leads = (model.leading[after] == entry).any() | (discount == 0.0)
        place = model.led[after] % LEADING
        model = model._replace(
            leading=model.leading.at[after, place].set(jnp.where(leads, model.leading[after, place], entry)),
            led=model.led.at[after].add(1 - leads),
        )
    return model


def wanted(model: Model, values: Any, entry: Any) -> Any:
    """What an entry should be, by all that is remembered of it: the mean over its outcomes."""
    import jax.numpy as jnp

    after = model.after[entry]
    rows = values[after]
    if not isinstance(model.able, tuple):
        rows = jnp.where(model.able[after], rows, FORBIDDEN)
    next_value = jnp.where(model.discount[entry] > 0.0, model.discount[entry] * jnp.max(rows, axis=-1), 0.0)
    counts = jnp.arange(OUTCOMES) < jnp.minimum(model.times[entry], OUTCOMES)[..., None]
    return jnp.sum(jnp.where(counts, model.reward[entry] + next_value, 0.0), axis=-1) / jnp.maximum(
        jnp.sum(counts, axis=-1), 1
    )


def planned(
    config: TableConfig, hyperparameters: Hyperparameters, values: Any, model: Model, entry: Any, noise: Draw
) -> tuple[Any, Model]:
    """The table after so many updates from what is remembered.

    Evenly: of entries that were met. Prioritised: of the entry that is furthest from what is remembered, after which
    those that lead to it are looked at.
    """
    import jax.numpy as jnp
    from jax import lax

    actions = config.actions

    def error_of(values: Any, entries: Any) -> Any:
        return wanted(model, values, entries) - values.reshape(-1)[entries]

    if config.sweeping == "even":
        uniforms = noise.uniform(shape=(config.planning,))
        picked = model.met[jnp.minimum((uniforms * model.count_met).astype(jnp.int32), model.count_met - 1)]

        def update(k: Any, values: Any) -> Any:
            position = picked[k]
            error = error_of(values, position)
            return values.at[position // actions, position % actions].add(hyperparameters.learning_rate * error)

        return lax.fori_loop(0, config.planning, update, values), model

    def looked_at(values: Any, urgent: Any, cell: Any) -> Any:
        """The need of the entries that lead to a cell, once its values have changed."""
        entries = model.leading[cell]
        need = jnp.abs(error_of(values, jnp.maximum(entries, 0)))
        return urgent.at[jnp.where(entries >= 0, entries, urgent.shape[0])].set(need, mode="drop")

    def sweep(_: Any, state: Any) -> Any:
        values, urgent = state
        position = jnp.argmax(urgent)
        error = jnp.where(urgent[position] > 0.0, error_of(values, position), 0.0)
        moved = hyperparameters.learning_rate * error
        values = values.at[position // actions, position % actions].add(moved)
        left = jnp.abs(error - moved)
        urgent = urgent.at[position].set(jnp.where(left > WORTH_SWEEPING, left, 0.0))
        return values, looked_at(values, urgent, position // actions)

    urgent = model.urgent.at[entry].set(jnp.abs(error_of(values, entry)))
    urgent = looked_at(values, urgent, entry // actions)
    values, urgent = lax.fori_loop(0, config.planning, sweep, (values, urgent))
    return values, model._replace(urgent=urgent)
