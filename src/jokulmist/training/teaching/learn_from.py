"""A policy from records alone."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.agents.contract import Agent, numbers_at
from jokulmist.environments.chance.draws import PlainDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream, checked_seed
from jokulmist.environments.declaration.environment import Environment
from jokulmist.errors import BrokenEnvironment, SettingError
from jokulmist.learning.schedules import Progress
from jokulmist.training.policies.agent_calls import TracedCalls, as_numpy
from jokulmist.training.policies.policy import Policy
from jokulmist.training.teaching.records import Records

if TYPE_CHECKING:
    import pandas as pd

REPORTS = 100


@dataclass(frozen=True)
class Taught:
    """What was learned from records.

    Attributes
    ----------
    policy : Policy
        Played, measured, saved and exported like any other.
    readings : DataFrame
        One row a hundredth of the updates: means of what each update tells.
    records : Records
    """

    policy: Policy
    readings: pd.DataFrame
    records: Records

    def __repr__(self) -> str:
        return f"<taught by {len(self.records):,} decisions: {self.policy!r}>"


def learn_from(
    records: Any,
    agent: Agent,
    environment: Environment | None = None,
    *,
    steps: int,
    seed: int = 0,
    columns: dict[str, str] | None = None,
) -> Taught:
    """Learn a policy from recorded decisions, without stepping anything.

    Parameters
    ----------
    records : Records, path, rollouts or DataFrame
        See `Records.read`.
    agent : Cloning, ImplicitQ, DQN or QLearning
        What does it: behaviour cloning; implicit Q-learning; `DQN(conservative=1.0)`, conservative Q-learning; a table by fitted Q.
    environment : Environment
        Needed unless `records` are `Records`.
    steps : int
        Updates: minibatches, of a table sweeps over all records.
    seed : int
    columns : dict of str to str, optional
        What a column is called there.

    Returns
    -------
    Taught

    Raises
    ------
    SettingError
        When the method does not learn from records, or the records do not fit.

    Examples
    --------
    >>> import jokulmist as jm
    >>> ferry = jm.gallery.Ferry()
    >>> known = jm.evaluate("brake_in_time", ferry, episodes=10, record=10)
    >>> import tempfile, pathlib
    >>> log = known.save_rollouts(pathlib.Path(tempfile.mkdtemp()) / "log.parquet", ferry)
    >>> jm.learn_from(log, jm.Cloning(), ferry, steps=20).policy
    <policy of Cloning() after 20 decisions>
    """
    if not isinstance(records, Records):
        if environment is None:
            raise SettingError("say what the records are of: `jm.learn_from(records, agent, environment, steps=...)`.")
        records = Records.read(records, environment, columns)
    kind = type(agent)
    if not hasattr(kind, "learn_rows"):
        raise SettingError(
            f"`{kind.__name__}` does not learn from records. Use `jm.Cloning()`, `jm.ImplicitQ()`, `jm.DQN(conservative=1.0)` or `jm.QLearning()`."
        )
    if isinstance(steps, bool) or not isinstance(steps, int) or steps < 1:
        raise SettingError(f"`steps` must be a whole number above 0; got {steps!r}.")
    return _taught(records, agent, steps, checked_seed(seed))


def _taught(records: Records, agent: Agent, steps: int, seed: int) -> Taught:
    import jax
    import jax.numpy as jnp
    import pandas as pd

    kind: Any = type(agent)
    shapes = agent.shapes(records.spec, 1)
    noise, coefficients = Noise(seed, 1, Domain.TRAINING), agent.numbers()
    numbers = numbers_at(coefficients, Progress(0, 0, 0.0))
    calls = TracedCalls(agent, shapes)
    learner = kind.fresh_learner(shapes, numbers, PlainDraw(noise, Stream.FRESH).at(0, 0))
    learner = jax.tree.map(jnp.asarray, kind.taught(shapes, numbers, learner, records.rows))
    rows = jax.tree.map(jnp.asarray, records.rows)
    draw, told, reports = PlainDraw(noise, Stream.LEARN), [], []
    every = max(1, steps // REPORTS)
    for k in range(steps):
        numbers = numbers_at(coefficients, Progress(k, 0, k / steps))
        learner, _, readings = calls._call("learn_rows", numbers, draw.at(k, 0), (learner,), rows)
        told.append(readings)
        if (k + 1) % every == 0 or k + 1 == steps:
            means = np.mean([[float(one) for one in row] for row in jax.device_get(told)], axis=0)
            if not np.isfinite(means).all():
                raise BrokenEnvironment(
                    f"a reading of `{kind.__name__}` became infinite or not a number after {k + 1:,} updates. Use a smaller `learning_rate`."
                )
            reports.append({"updates": k + 1, **dict(zip(kind.record_readings, means.tolist(), strict=True))})
            told = []
    policy = Policy(agent, records.spec, as_numpy(kind.kept(learner)), steps)
    return Taught(policy, pd.DataFrame(reports), records)
