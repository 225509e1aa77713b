"""A policy from records alone."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.agents.contract import Agent
from jokulmist.environments.chance.noise import checked_seed
from jokulmist.environments.environment import Environment
from jokulmist.errors import BrokenEnvironment, SettingError
from jokulmist.loops.policy import Policy
from jokulmist.loops.records import Records
from jokulmist.loops.records_loop import RecordsLoop, refuse_untaught

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
        One row a hundredth of the updates: means of what each update tells, and the settings that move.
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
    """Learn a policy from recorded decisions, without stepping anything and without a run's folder;
    `train(records=...)` makes a run of it.

    Parameters
    ----------
    records : Records, path, rollouts or DataFrame
        See `Records.read`.
    agent : Cloning, ImplicitQ, DQN, QLearning or LinearQ
        What does it: behaviour cloning; implicit Q-learning; `DQN(conservative=1.0)`, conservative Q-learning; a table
        by fitted Q; Q-learning with linear features.
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
    refuse_untaught(agent)
    if isinstance(steps, bool) or not isinstance(steps, int) or steps < 1:
        raise SettingError(f"`steps` must be a whole number above 0; got {steps!r}.")
    return _taught(records, agent, steps, checked_seed(seed))


def _taught(records: Records, agent: Agent, steps: int, seed: int) -> Taught:
    import pandas as pd

    loop, reports = RecordsLoop(records, agent, seed, steps), []
    every = max(1, steps // REPORTS)
    while loop.turn < steps:
        loop.advance(min(every, steps - loop.turn))
        readings = loop.readings()
        if not np.isfinite(list(readings.values())).all():
            raise BrokenEnvironment(
                f"a reading of `{type(agent).__name__}` became infinite or not a number after {loop.turn:,} updates. "
                "Use a smaller `learning_rate`."
            )
        reports.append({"updates": loop.turn, **readings})
    return Taught(Policy(agent, records.spec, loop.learner(), steps), pd.DataFrame(reports), records)
