"""What a policy would return, judged by the decisions of another."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from typing import Any, Literal

import numpy as np

from jokulmist.agents.recorded.cloning import Cloning
from jokulmist.environments.spaces.actions import parts_of
from jokulmist.environments.spaces.channels import refuse_mismatch
from jokulmist.environments.spaces.legal import choices_of
from jokulmist.errors import SettingError
from jokulmist.judging.fitted_values import bounds_of, fitted_returns
from jokulmist.learning.action_distributions import joint_over
from jokulmist.loops.acting import Act
from jokulmist.loops.learn_from import learn_from
from jokulmist.loops.policy import Policy
from jokulmist.loops.records import Records

RESAMPLES = 2_000
CLONE_STEPS = 2_000
LEAST_CHANCE = 1e-3
FEW_WEIGHTS = 10.0
RARE = 0.05
# The share of values beyond all that can be returned from which on a regression has not held.
DIVERGED = 0.05
NORMAL = 1.959964
Estimator = Literal["weights", "fitted"]


@dataclass(frozen=True)
class Estimate:
    """The mean return that a policy would have, with what is known of how sure that is.

    Attributes
    ----------
    mean : float
    interval : (float, float)
        95 %, by drawing the episodes again (Efron, 1979).
    episodes : int
    effective : float
        As how many episodes of the policy itself they count (Kong, 1992): far below `episodes`, it is unlike what was
        recorded, and the interval of weights is too narrow.
    outside : float
        The share of the recorded observations on which the policy would do, without exploration, what was hardly ever
        done there: with a chance below 5 % by behaviour cloning of the records.
    by : {"weights", "fitted"}
    unrecorded : float
        The share of the policy's probability, over the recorded observations, on actions that were never recorded at
        all.
    beyond : float
        By fitted values, the share of the decisions after which the values lay beyond all that can be returned. Above 5
        % the regression has not held, and there is no estimate: mean and interval are not-a-number.
    """

    mean: float
    interval: tuple[float, float]
    episodes: int
    effective: float
    outside: float
    by: Estimator = "weights"
    unrecorded: float = 0.0
    beyond: float = 0.0

    def __repr__(self) -> str:
        low, high = self.interval
        never = (
            f"; {self.unrecorded:.0%} of its probability is on actions that were never recorded"
            if self.unrecorded
            else ""
        )
        if self.by == "fitted" and self.beyond > DIVERGED:
            return (
                f"<no estimate by fitted values: after {self.beyond:.0%} of the decisions they lie beyond all that can "
                f'be returned{never}. Use by="weights", or more records>'
            )
        few = "; too unlike what was recorded to say" if self.effective < FEW_WEIGHTS and self.by == "weights" else ""
        method = "by fitted values, " if self.by == "fitted" else ""
        return (
            f"<{method}estimated mean return {self.mean:.4g} [{low:.4g}, {high:.4g}] from {self.episodes:,} episodes "
            f"that count as {self.effective:.0f}{few}; outside of them at {self.outside:.0%}{never}>"
        )


def estimate(
    policy: Policy,
    records: Records,
    *,
    act: Act = "greedy",
    discount: float = 1.0,
    seed: int = 0,
    by: Estimator = "weights",
) -> Estimate:
    """What a policy would return, by weighted importance sampling of recorded episodes, decision by decision; or by
    values that are fitted to them.

    By weights: at each decision an episode weighs by how much likelier the policy would have done all that was done in
    it so far than whoever was recorded (Precup, Sutton and Singh, 2000; Thomas, 2015, section 3.5). The probabilities
    of whoever was recorded are taken from the records (columns ``probability.*``), else from behaviour cloning of them.
    It is right for any environment, and knows little where the policy is unlike them.

    By fitted values: the policy's values of so many decisions as the longest episode has are fitted to what was
    recorded, one decision after another (Le, Voloshin and Yue, 2019, algorithm 3), by random features of what is seen;
    the interval by fitting resampled episodes (Hao et al., 2021). It uses each decision, whoever took it,
    and is as right as the values can be told by what is seen at the moment.

    Parameters
    ----------
    policy : Policy or run
        Of choices.
    records : Records
    act : {"greedy", "sampled"}
    discount : float, in [0, 1]
    seed : int
        Of the episodes that are resampled for the interval, and of the features.
    by : {"weights", "fitted"}

    Returns
    -------
    Estimate

    Raises
    ------
    SettingError
        When the policy decides numbers, or learned on other channels; by fitted values, where images are seen.

    Examples
    --------
    >>> import tempfile
    >>> import jokulmist as jm
    >>> ferry = jm.gallery.Ferry()
    >>> run = jm.train(ferry, jm.PPO(network=jm.Dense(8)), steps=2048, copies=8, lane="plain", folder=None)
    >>> played = jm.evaluate(run.policy, ferry, episodes=20, record=20, act="sampled")
    >>> import pathlib, tempfile
    >>> log = played.save_rollouts(pathlib.Path(tempfile.mkdtemp()) / "log.parquet", ferry)
    >>> found = jm.estimate(run.policy, jm.Records.read(log, ferry), act="sampled")
    >>> found.episodes, found.interval[0] <= found.mean <= found.interval[1]
    (20, True)
    """
    policy = getattr(policy, "policy", policy)
    if not isinstance(policy, Policy):
        raise SettingError(f"`estimate` takes a policy or a run; got {policy!r:.80}.")
    if not isinstance(records, Records):
        raise SettingError(
            f"`estimate` takes records second, as `jm.Records.read(path, environment)` gives them; got {records!r:.80}."
        )
    refuse_mismatch(policy.spec, records.spec, "the policy", "the environment of the records")
    if by not in ("weights", "fitted"):
        raise SettingError(f'`by` is {by!r}; it must be "weights" or "fitted".')
    if by == "fitted" and records.spec.images:
        raise SettingError('values are fitted to numbers, and the records have images. Use `by="weights"`.')
    rows, actions = records.rows, records.rows.actions
    behaviour = records.chance
    if behaviour is None:
        behaviour = probabilities_of(cloned(records), rows.observed, actions, "sampled")
    judge, joint = _judging(policy, rows.observed, act), joint_over(records.spec.action)
    length = np.bincount(records.episode)
    place = np.arange(len(records)) - np.concatenate([[0], np.cumsum(length)])[records.episode]
    ratios, rewards = np.ones((len(length), length.max())), np.zeros((len(length), length.max()))
    ratios[records.episode, place] = judge(actions) / np.maximum(behaviour, LEAST_CHANCE)
    rewards[records.episode, place] = rows.rewards * discount**place
    weights = np.cumprod(ratios, axis=1)  # an episode that is over keeps the weight that it had
    last, beyond = weights[:, -1], 0.0
    effective = float(last.sum() ** 2 / max(np.square(last).sum(), 1e-300))
    index = np.asarray(joint.index(actions))
    if by == "fitted":
        judges = (judge, _judging(policy, rows.last, act))
        every = [all_probabilities_of(judge_, len(rows.rewards), joint, range(joint.count)) for judge_ in judges]
        begins = np.flatnonzero(place == 0)
        mean, refitted, beyond = fitted_returns(records, begins, np.stack(every), index, discount, seed)
        # They are normal about the mean.
        spread = NORMAL * float(np.std(refitted, ddof=1)) if len(refitted) > 1 else math.nan
        low, high = np.clip([mean - spread, mean + spread], *bounds_of(rows.rewards, discount, int(length.max())))
        if beyond > DIVERGED:
            mean = low = high = math.nan
    else:
        mean, low, high = _by_weights(weights, rewards, seed)
    missing, never = np.setdiff1d(np.arange(joint.count), index), 0.0
    if len(missing):  # the share of its probability on combinations of choices that stand nowhere in the records
        never = float(all_probabilities_of(judge, len(rows.rewards), joint, missing).sum(axis=1).mean())
    interval = (float(low), float(high))
    return Estimate(mean, interval, len(length), effective, outside_of(policy, records), by, never, beyond)


def _by_weights(weights: Any, rewards: Any, seed: int) -> tuple[float, float, float]:
    """The weighted mean of discounted rewards, one row an episode, and the ends of its bootstrap interval."""

    def mean_of(sample: Any) -> Any:
        total = weights[sample].sum(axis=-2)
        return ((weights * rewards)[sample].sum(axis=-2) / np.maximum(total, 1e-300)).sum(axis=-1)

    count, chance = len(weights), np.random.default_rng(seed)
    means = [math.nan]
    if count > 1:
        means = [float(mean_of(chance.integers(0, count, count))) for _ in range(RESAMPLES)]
    low, high = np.quantile(means, [0.025, 0.975])
    return float(mean_of(np.arange(count))), float(low), float(high)


def outside_of(policy: Policy, records: Records) -> float:
    """The share of the recorded observations on which a policy would do, without exploration, what was hardly ever done
    there."""
    chosen = probabilities_of(policy, records.rows.observed, None, "greedy")
    return float(np.mean(probabilities_of(cloned(records), records.rows.observed, chosen, "sampled") < RARE))


def where_it_leaves(policy: Policy, records: Records) -> str:
    """One line about that; empty where the action has numbers."""
    if len(choices_of(records.spec.action)) != len(parts_of(records.spec.action)):
        return ""
    share = outside_of(policy, records)
    return (
        f"without exploration the policy does what was hardly ever recorded there on {share:.1%} of the "
        f"{len(records):,} recorded decisions: what it expects of those is a guess."
        if share
        else f"without exploration the policy does only what was recorded there, on all of the {len(records):,} "
        "recorded decisions."
    )


def probabilities_of(policy: Policy, observed: Any, actions: Any, act: Act) -> Any:
    """The chance with which a policy takes each recorded action; without actions, what it would do greedily."""
    return _judging(policy, observed, act)(actions)


def all_probabilities_of(judge: Callable[[Any], Any], rows: int, joint: Any, combinations: Any) -> Any:
    """The probabilities of combinations of choices, by a policy that was asked (`_judging`), shape ``(rows,
    combinations)``."""
    return np.stack([judge(joint.native(np.full(rows, index, np.int32))) for index in combinations], axis=1)


def _judging(policy: Policy, observed: Any, act: Act) -> Callable[[Any], Any]:
    """`probabilities_of` as a function of the actions: the policy is asked once."""
    from jokulmist.loops.agent_calls import TracedCalls

    spec, agent = policy.spec, policy.agent
    if len(choices_of(spec.action)) != len(parts_of(spec.action)):
        raise SettingError("only choices are judged by how likely they were, and the action has numbers.")
    config = agent.config(spec, len(observed.age))
    kind: Any = type(agent)
    if act == "sampled" and hasattr(kind, "probabilities"):
        from jokulmist.agents.policies.policy_method import first_outputs

        outputs, _ = first_outputs(config, policy.learner, observed)
        probabilities = [
            np.exp(np.asarray(log, np.float64)) for log in config.acting.log_probabilities(outputs, observed.legal)
        ]

        def sampled(actions: Any) -> Any:
            probability = np.ones(len(observed.age))
            for part, index in zip(probabilities, config.acting.indices(actions), strict=True):
                probability *= part[np.arange(len(probability)), np.asarray(index)]
            return probability

        return sampled
    if act == "sampled":
        raise SettingError(f'`{kind.__name__}` explores by chance alone; it is judged with `act="greedy"`.')
    chosen = _greedy(policy, observed, config, TracedCalls)
    return lambda actions: chosen if actions is None else 1.0 * _same(chosen, actions)


def _greedy(policy: Policy, observed: Any, config: Any, calls_kind: Any) -> Any:
    from jokulmist.agents.contract import hyperparameters_at
    from jokulmist.environments.chance.draws import PlainDraw
    from jokulmist.environments.chance.noise import Domain, Noise, Stream
    from jokulmist.learning.schedules import Progress

    agent = policy.agent
    hyperparameters = hyperparameters_at(agent.schedules(), Progress(policy.decisions, 0, 1.0))
    calls = calls_kind(agent, config)
    memory = agent.fresh_memory(config, hyperparameters) if agent.remembers() else ()
    draw = PlainDraw(Noise(0, 1, Domain.EVALUATION), Stream.EXPLORE).for_step(0, 0)
    return calls.choose(hyperparameters, policy.learner, memory, observed, draw, False)[0]


def _same(left: Any, right: Any) -> Any:
    parts = vars(left) if hasattr(left, "__dict__") and not hasattr(left, "shape") else {"": left}
    is_same: Any = True
    for name, part in parts.items():
        is_same = is_same & (np.asarray(part) == np.asarray(getattr(right, name) if name else right))
    return is_same


@lru_cache(maxsize=4)
def _cloned(key: int, holder: Any) -> Policy:
    return learn_from(holder.records, Cloning(), steps=CLONE_STEPS).policy


class _ByIdentity:
    """Records as a key of what was made of them."""

    def __init__(self, records: Records) -> None:
        self.records = records

    def __hash__(self) -> int:
        return id(self.records)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _ByIdentity) and other.records is self.records


def cloned(records: Records) -> Policy:
    """Behaviour cloning of some records, once for the same ones."""
    return _cloned(id(records), _ByIdentity(records))
