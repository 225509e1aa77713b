"""Episodes without learning: a policy, random play, or a reference, measured on the same episodes.

Which episode a copy plays is fixed before (never the first to finish: those are the short ones), and episode i has the
same draws for everyone. The draws are those of evaluation: a training with the same seed number never meets them.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, get_args

import numpy as np

from jokulmist import cells
from jokulmist.arrays import NumpyArray
from jokulmist.environments.chance.draws import PlainDraw
from jokulmist.environments.chance.noise import SEED_LIMIT, Domain, Noise, Stream, checked_seed
from jokulmist.environments.declaration.description import Description
from jokulmist.environments.declaration.instance import describe, with_varying
from jokulmist.environments.declaration.reads import watched
from jokulmist.environments.environment import Environment
from jokulmist.environments.modifiers.base import idle_of
from jokulmist.environments.simulator import Simulator
from jokulmist.environments.spaces.actions import plain_form
from jokulmist.environments.spaces.player_actions import name_in, own_name, owner_of
from jokulmist.environments.varying import Vary, Varying
from jokulmist.errors import LookupFailed, SettingError, listed, nearest
from jokulmist.judging.solving.solution import OPTIMUM, known_optimum
from jokulmist.lanes.plain import PlainLane
from jokulmist.lanes.protocol import Finished, Observed, joined_moments
from jokulmist.loops.acting import Act, ActingCopies
from jokulmist.loops.contract import MOST_ADVANCES, SIDE_BY_SIDE, never_closed
from jokulmist.loops.partners import joined_policy
from jokulmist.loops.plain import batch_of
from jokulmist.loops.policy import Policy
from jokulmist.loops.rollout_recorder import Follower
from jokulmist.loops.rollouts import Draws, policy_outputs_of, save_recorded
from jokulmist.records.episodes import CONSTANT, Episodes, columns_of, player_returns_in, telling_return

if TYPE_CHECKING:
    import pandas as pd

RANDOM = "random"
FEW_SIDE_BY_SIDE = 8  # of simulators, each of which may hold much
JUDGED_AT_ONCE = 1_024
# Advances from which episodes are compiled, which takes a second or two; plain copies make some 20,000 a second.
WORTH_COMPILING = 50_000
# Standard errors by which two means differ by more than luck.
SURELY = 2.5
Lane = Literal["auto", "plain", "compiled"]
LANES: tuple[str, ...] = get_args(Lane)
Choose = Callable[[PlainLane, Observed], list[Any]]


def interval_of(mean: float, sd: float, count: int) -> tuple[float, float]:
    """The 95 % interval of a mean of so many, over episodes or seeds, by Student's t; not numbers with fewer than
    two."""
    from scipy.special import stdtrit  # SciPy's statistics would take a second to import

    if count < 2:
        return math.nan, math.nan
    half = float(stdtrit(count - 1, 0.975)) * sd / math.sqrt(count)
    return mean - half, mean + half


def _sd(returns: NumpyArray) -> float:
    return float(returns.std(ddof=1)) if len(returns) > 1 else math.nan


@dataclass(frozen=True)
class Evaluation:
    """What evaluation episodes came to.

    Attributes
    ----------
    policy_name : str
        ``"policy"``, ``"random"`` or the name of a reference.
    act : str
        How the policy acted: ``"greedy"``, ``"sampled"``, or empty for others.
    seed : int
    columns : dict of str to array
        One row an episode, as in evaluated.csv.
    recorded : list of (int, Taped)
        The episodes that were recorded, with their numbers.
    weights : dict of str to float
        Of each reward term; the columns hold the unweighted amounts.
    measured : tuple of str
        The measures.
    exact : float, optional
        Of the optimum: its mean return as it was computed, without the luck of these episodes.
    """

    policy_name: str
    act: str
    seed: int
    columns: dict[str, Any] = field(repr=False)
    recorded: list[Any] = field(default_factory=list, repr=False)
    weights: dict[str, float] = field(default_factory=dict, repr=False)
    measured: tuple[str, ...] = ()
    exact: float | None = None

    @property
    def terms(self) -> dict[str, float]:
        """What each reward term brings in the mean, weighted: together they are the mean return; of several players,
        what it brings to each who gets it."""
        return {name: weight * float(np.mean(self.columns[name])) for name, weight in self.weights.items()}

    @property
    def players(self) -> dict[str, float]:
        """The mean return of each of several players, by column: ``{"north.return": 12.5}``; empty without players."""
        return {name: float(np.mean(self.columns[name])) for name in player_returns_in(self.columns)}

    @property
    def telling(self) -> str:
        """Whose returns tell something: the first player's where what one gets the other loses, so that the mean over
        players never changes; else empty, for everybody's."""
        return owner_of(telling_return(self.columns))

    def returns_of(self, player: str) -> NumpyArray:
        """The returns of a player; of an empty name the mean over players."""
        returns: NumpyArray = np.asarray(self.columns[own_name(player, "return") if player else "return"], np.float64)
        return returns

    def told_of(self, player: str) -> tuple[float, float, float, float]:
        """Mean, its 95 % interval, and the spread of the returns of a player, as `returns_of` takes it."""
        returns = self.returns_of(player)
        mean, sd = float(returns.mean()), _sd(returns)
        return mean, *interval_of(mean, sd, len(returns)), sd

    @property
    def outcomes(self) -> dict[str, float]:
        """Of two players the shares of the episodes in which the first got more than the second, the same, and less;
        empty where both always got the same."""
        returns = [np.asarray(self.columns[name], np.float64) for name in self.players]
        if len(returns) != 2 or np.allclose(returns[0], returns[1]):
            return {}
        more = returns[0] - returns[1]
        return {
            "win": float(np.mean(more > CONSTANT)),
            "draw": float(np.mean(np.abs(more) <= CONSTANT)),
            "loss": float(np.mean(more < -CONSTANT)),
        }

    @property
    def all_the_same(self) -> bool:
        """Whether there are several episodes, and each is the first again: nothing in them is left to chance."""
        columns = [
            column
            for name, column in self.columns.items()
            if name not in ("episode", "policy", "act", "seed", "learned")
        ]
        return len(self.returns) > 1 and all(bool((np.asarray(column) == column[0]).all()) for column in columns)

    @property
    def measures(self) -> dict[str, float]:
        """The mean of each measure."""
        return {name: float(np.mean(self.columns[name])) for name in self.measured}

    def differs(self, other: Evaluation) -> bool:
        """Whether the mean returns of the same episodes differ by more than luck: by 2.5 standard errors of the
        differences."""
        differences = self.returns - other.returns
        return bool(
            abs(differences.mean()) > SURELY * differences.std() / math.sqrt(len(differences)) + 1e-9 * abs(self.mean)
        )

    @property
    def returns(self) -> NumpyArray:
        return self.returns_of("")

    @property
    def mean(self) -> float:
        return float(self.returns.mean())

    @property
    def level(self) -> float:
        """Where it is drawn: the mean, or what was computed exactly."""
        return self.mean if self.exact is None else self.exact

    @property
    def sd(self) -> float:
        """Spread of the episodes' returns (n - 1)."""
        return _sd(self.returns)

    @property
    def interval(self) -> tuple[float, float]:
        """95 % interval of the mean, by Student's t over the episodes."""
        return interval_of(self.mean, self.sd, len(self.returns))

    @property
    def closings(self) -> str:
        """How the episodes closed, the most frequent first."""
        names, counts = np.unique(np.asarray(self.columns["closed_by"], str), return_counts=True)
        order = np.argsort(-counts, kind="stable")
        return ", ".join(f"{names[k]} {counts[k] / counts.sum():.0%}" for k in order)

    @property
    def episodes(self) -> pd.DataFrame:
        """One row an episode."""
        import pandas as pd

        return pd.DataFrame(self.columns)

    def save_rollouts(self, path: str | Path, environment: Environment, run: str = "") -> Path:
        """Keep the recorded episodes as one Parquet file."""
        if not self.recorded:
            raise SettingError("no episode was recorded. Evaluate with `record=5`, for instance.")
        draws = [Draws(self.seed, 1, "EVALUATION")] * len(self.recorded)
        return save_recorded(Path(path), environment, self.recorded, run or self.policy_name, draws)

    @cells.safely
    def _repr_html_(self) -> str:
        low, high = self.interval
        facts = {
            "mean return": f"{self.mean:.4g}, 95 % [{low:.4g}, {high:.4g}]",
            "sd of an episode": self.sd,
            "episodes": len(self.returns),
            "closed by": self.closings,
        }
        means = [{"reward term": name, "brings": value} for name, value in self.terms.items()]
        means += [{"reward term": f"measure {name}", "brings": value} for name, value in self.measures.items()]
        return cells.html_card(f"{self.policy_name}{f', {self.act}' if self.act else ''}", facts, cells.table(means))

    def __repr__(self) -> str:
        whose = self.telling
        mean, low, high, sd = self.told_of(whose)
        suffix = f", {self.act}" if self.act else ""
        player_suffix = f" of {whose}" if whose else ""
        won = "".join(f", {name} {share:.0%}" for name, share in self.outcomes.items())
        same = ", all the same" if self.all_the_same else ""
        return (
            f"<{self.policy_name}{suffix}: mean return{player_suffix} {mean:.4g} [{low:.4g}, {high:.4g}], sd "
            f"{sd:.3g}{won}, "
            f"{len(self.returns)} episodes{same}>"
        )


def evaluate(
    policy: Policy | str,
    environment: Environment,
    *,
    episodes: int = 100,
    seed: int = 0,
    act: Act = "greedy",
    discount: float | None = None,
    vary: Vary | None = None,
    record: int = 0,
    with_policy_outputs: bool = True,
    lane: Lane = "auto",
) -> Evaluation:
    """Play episodes without learning.

    Parameters
    ----------
    policy : Policy, Run or str, or dict of them
        A policy, a run whose policy is meant, ``"random"``, or the name of one of the environment's references. Of
        several players also a dict with one a player: ``{"north": run_a, "south": run_b}``.
    environment : Environment
        With the parameters and weights to measure at.
    episodes : int
    seed : int
        Episode i of a seed has the same draws for everyone.
    act : {"greedy", "sampled"}
        Whether a policy takes its best action or samples as in training.
    discount : float, in [0, 1], optional
        Adds the column ``discounted_return``: the sum of the rewards, each weighted by the discount to the number of
        decisions before it.
    vary : dict of str to Between, or function of draw, optional
        Parameters that are drawn again for each episode; by default the environment's own hold.
    record : int
        So many episodes are recorded step by step, from the first; ``save_rollouts`` of the result keeps them.
    with_policy_outputs : bool
        Whether what the policy says (values, probabilities) is recorded with them; asking it at each step takes time.
    lane : {"auto", "plain", "compiled"}
        ``auto`` compiles the class where it can be compiled and so many episodes are worth it; the same episodes, up to
        the rounding of single precision. Recorded or discounted ones, random play and references are plain.

    Returns
    -------
    Evaluation
        Mean, spread, 95 % interval and one row an episode.

    Raises
    ------
    SettingError
        When the policy learned on other channels, or a number is out of range.

    Examples
    --------
    >>> import jokulmist as jm
    >>> found = jm.evaluate("sell_high", jm.gallery.Tarn(), episodes=20)
    >>> len(found.returns)
    20
    >>> found.mean > jm.evaluate("random", jm.gallery.Tarn(), episodes=20).mean
    True
    """
    if isinstance(policy, Environment) or not isinstance(environment, Environment):
        swapped = isinstance(policy, Environment)
        raise SettingError(
            "`evaluate` takes a policy first and the environment second"
            + ("; they are swapped. " if swapped else f"; the second is {environment!r}. ")
            + "Write `jm.evaluate(run.policy, run.environment)`."
        )
    if isinstance(policy, Mapping):
        policy = joined_policy(policy, environment, act)
    policy = getattr(policy, "policy", policy)  # a run means its policy
    if not isinstance(policy, (Policy, str)):
        raise SettingError(
            f'`evaluate` takes a policy, a run, "random" or the name of a reference; got {policy!r}. Write '
            "`jm.evaluate(run.policy, run.environment)`."
        )
    if isinstance(episodes, bool) or not isinstance(episodes, int) or episodes < 1:
        raise SettingError(f"`episodes` must be a whole number above 0; got {episodes!r}.")
    if discount is not None and not 0.0 <= discount <= 1.0:
        raise SettingError(f"`discount` must lie in [0, 1]; got {discount!r}. Use for instance `discount=0.99`.")
    seed = checked_seed(seed)
    environment = with_varying(environment, Varying(vary))
    if isinstance(policy, Policy):
        policy.fits(environment)
    if _is_compiled(lane, policy, environment, episodes, record > 0 or discount is not None):
        assert isinstance(policy, Policy)
        return evaluate_compiled(policy, environment, episodes, seed, act)
    beside = FEW_SIDE_BY_SIDE if isinstance(environment, Simulator) else SIDE_BY_SIDE
    finished: list[tuple[int, Finished]] = []
    discounted, recorded = [], []
    for first in range(0, episodes, beside):
        owners = tuple(range(first, min(first + beside, episodes)))
        copies = PlainLane(environment, Noise(seed, len(owners), Domain.EVALUATION, owners), once=True)
        choose = _chooser(policy, environment, len(owners), seed, act, first, beside)
        followers = [Follower(copies, i) for i in range(min(len(owners), max(record - first, 0)))]
        closed, sums, moments = _play(copies, choose, followers, discount)
        finished.extend((first + f.copy, f) for f in closed)
        discounted.append(sums)
        for i, follower in enumerate(followers):
            for episode_recorded in follower.recorded[:1]:
                policy_outputs = _policy_outputs(policy, moments[i]) if with_policy_outputs else {}
                recorded.append((first + i, replace(episode_recorded.recorded_episode, policy_outputs=policy_outputs)))
    finished.sort(key=lambda item: item[0])
    batch = batch_of(finished, describe(environment))
    more = {} if discount is None else {"discounted_return": np.concatenate(discounted)}
    return _evaluation(batch, environment, policy, act, seed, more, recorded)


def _play(
    lane: PlainLane, choose: Choose, followers: list[Follower], discount: float | None
) -> tuple[list[Finished], NumpyArray, list[list[Observed]]]:
    """One episode of each copy: those that closed, their discounted returns, and what the followed copies observed."""
    observed = lane.begin()
    for i, follower in enumerate(followers):
        follower.begin(observed.rows[i], observed.images[i] if observed.images else {})
    moments: list[list[Observed]] = [[] for _ in followers]
    finished: list[Finished] = []
    sums, weight = np.zeros(lane.copies), 1.0
    while not all(lane.still):
        chosen = choose(lane, observed)
        for i in range(len(followers)):
            if not lane.still[i]:
                moments[i].append(observed.for_copy(i))
        outcome = lane.advance(chosen)
        for i, follower in enumerate(followers):
            follower.turned(chosen[i], outcome, lane.turn)
        observed = outcome.observed
        if discount is not None:
            sums += weight * np.array([np.mean(reward) for reward in outcome.rewards])
            weight *= discount
        finished.extend(outcome.finished)
        if max(copy.advances for copy in lane.each) > MOST_ADVANCES:
            raise SettingError(never_closed(lane.description.name))
    lane.close()
    return finished, sums, moments


def most_advances(environment: Environment, episodes: int) -> int:
    """How many advances episodes may take together."""
    return episodes * (describe(environment).limit or MOST_ADVANCES)


def _is_compiled(
    lane: Lane, policy: Policy | str, environment: Environment, episodes: int, is_plain_only: bool
) -> bool:
    """Whether episodes are played on compiled copies; an error where they are to be and cannot."""
    if lane not in LANES:
        raise SettingError(f"`lane` must be one of {listed(LANES)}; got {lane!r}.{nearest(str(lane), LANES)}")
    possible = isinstance(policy, Policy) and policy.agent.traced and not is_plain_only
    if lane == "compiled" and not possible:
        raise SettingError(
            "random play, references, methods that are not traced, and episodes that are recorded or discounted are "
            'played on plain lanes. Use `lane="plain"`.'
        )
    long = most_advances(environment, episodes) >= WORTH_COMPILING
    if lane == "plain" or not possible or not (long or lane == "compiled"):
        return False
    from jokulmist.lanes.compiled.compilability import find

    finding = find(environment)
    if lane == "compiled" and not finding.compiles:
        raise SettingError(f"the environment cannot be compiled: {finding.why}")
    return finding.compiles


def evaluate_compiled(policy: Policy, environment: Environment, episodes: int, seed: int, act: Act) -> Evaluation:
    """Episodes of a policy on compiled copies: those of `evaluate`, up to the rounding of single precision."""
    from jokulmist.loops.compiled import CompiledEvaluation

    parts = []
    for first in range(0, episodes, SIDE_BY_SIDE):
        copies = CompiledEvaluation(environment, policy, first, seed, act == "sampled")
        played = copies.play(min(SIDE_BY_SIDE, episodes - first))
        parts.append(replace(played, copy=played.copy + first))
    return _evaluation(Episodes.joined(parts), environment, policy, act, seed, {}, [])


def _evaluation(
    batch: Episodes,
    environment: Environment,
    policy: Policy | str,
    act: Act,
    seed: int,
    more: dict[str, Any],
    recorded: list[Any],
) -> Evaluation:
    description = describe(environment)
    columns = {**columns_of(batch, description, 0), **more}
    for unused in ("decisions", "copy"):
        del columns[unused]
    is_policy = isinstance(policy, Policy)
    player = "policy" if isinstance(policy, Policy) else policy
    act_column = act if is_policy else ""
    head = {
        "policy": np.array([player] * len(batch), object),
        "act": np.array([act_column] * len(batch), object),
        "seed": np.full(len(batch), seed),
        "learned": np.full(len(batch), policy.decisions if isinstance(policy, Policy) else 0),
    }
    # Of several players those of each by itself: a return of all is their mean, in which each term counts less.
    weights = {term.name: float(w) for term, w in zip(description.terms, description.own_weights, strict=True)}
    measured = tuple(m.name for m in description.measures)
    return Evaluation(player, act_column, seed, {**head, **columns}, recorded, weights, measured)


def weights_of(description: Description) -> dict[str, float]:
    """The weight of each reward term."""
    return {term.name: float(w) for term, w in zip(description.terms, description.weights, strict=True)}


def _policy_outputs(policy: Policy | str, moments: list[Observed]) -> dict[str, Any]:
    """What a policy says at each decision of an episode, for its rollout."""
    if not isinstance(policy, Policy):
        return {}
    parts = []
    for first in range(0, len(moments), JUDGED_AT_ONCE):
        batch = moments[first : first + JUDGED_AT_ONCE]
        # Filled up to whole batches, so that episodes of all lengths are judged by what was compiled once.
        size = min(JUDGED_AT_ONCE, 2 ** math.ceil(math.log2(len(batch))))
        rows = policy_outputs_of(policy, joined_moments([*batch, *batch[-1:] * (size - len(batch))]))
        parts.append({name: column[: len(batch)] for name, column in rows.items()})
    return {name: np.concatenate([part[name] for part in parts]) for name in parts[0]}


def _chooser(
    policy: Policy | str, environment: Environment, copies: int, seed: int, act: Act, first: int, beside: int
) -> Choose:
    if isinstance(policy, Policy):
        # Always as many side by side, so that the draws of an episode do not depend on how many are asked for.
        acting = ActingCopies(policy, beside, (seed + first) % SEED_LIMIT, act)
        return lambda lane, observed: acting.choose(observed.filled_up(beside))[:copies]
    action = describe(environment).action
    if policy == RANDOM:
        draw = PlainDraw(Noise(seed, copies, Domain.EVALUATION, tuple(range(first, first + copies))), Stream.PLAY)
        return lambda lane, observed: [
            action.random(draw.for_step(lane.turn, i), observed.masks[i] if observed.masks else None)
            for i in range(copies)
        ]
    references = describe(environment).outline.references
    optimum = known_optimum(environment) if policy == OPTIMUM and policy not in references else None
    if optimum is not None:
        # A copy whose episode has closed stands still; what it is given is not looked at.
        idle = plain_form(idle_of(np, action))
        return lambda lane, observed: [
            idle if lane.still[i] else optimum.choose(c.step.cleared(c.state), c.advances)
            for i, c in enumerate(lane.each)
        ]
    if policy not in references:
        options = [RANDOM, *references]
        more = " It was not solved yet: `jm.solve(environment)`." if policy == OPTIMUM else nearest(policy, options)
        raise LookupFailed(
            f"`{describe(environment).name}` has no reference `{policy}`; there are {listed(options)}.{more}"
        )
    name = policy

    # Each copy's own instance: its parameters may differ.
    def decide(lane: PlainLane, observed: Any) -> list[Any]:
        decided = []
        for copy in lane.each:
            try:
                decided.append(action.native(getattr(copy.step.environment, name)(copy.state)))
            except Exception as failure:
                copy.step.failed(name, failure)
        return decided

    return decide


def sees_more(environment: Environment, reference: str) -> bool:
    """Whether a reference reads fields of the state that the agent does not observe; what it asks of sensors is
    seen."""
    plain = environment.episode(seed=0).state
    state, read = watched(plain)
    twin = object.__new__(type(environment))
    twin.__dict__.update(environment.__dict__)
    for sensor in describe(environment).outline.sensors:
        # Of several players a sensor has one name a player, and is asked by the method's own.
        name = name_in(sensor.name)
        method = getattr(environment, name)
        twin.__dict__[name] = lambda state, *draw, method=method: method(plain, *draw)
    try:
        getattr(twin, reference)(state)
    except Exception:  # it is told where it plays
        return False
    return any(f.role != "seen" for f in describe(environment).fields if f.name in read)


def evaluate_references(environment: Environment, episodes: int = 100, seed: int = 0) -> dict[str, Evaluation]:
    """Evaluate random play and every reference of an environment, on the same episodes: what a policy is compared with.

    Where `solve` was asked of the environment before, the optimum is the last.

    Parameters
    ----------
    environment : Environment
    episodes : int
    seed : int
        Of the episodes, as in `evaluate`.

    Returns
    -------
    dict of str to Evaluation
        By name; ``"random"`` is the first.

    Examples
    --------
    >>> import jokulmist as jm
    >>> list(jm.evaluate_references(jm.gallery.Tarn(), episodes=5))
    ['random', 'sell_high']
    """
    names = [RANDOM, *describe(environment).outline.references]
    evaluations = {name: evaluate(name, environment, episodes=episodes, seed=seed) for name in names}
    return with_optimum(evaluations, environment, episodes, seed)


def with_optimum(
    evaluations: dict[str, Evaluation], environment: Environment, episodes: int, seed: int
) -> dict[str, Evaluation]:
    """With the optimum as the last, where this process has solved the environment."""
    optimum = known_optimum(environment)
    if optimum is not None and OPTIMUM not in evaluations:
        measured = evaluate(OPTIMUM, environment, episodes=episodes, seed=seed)
        evaluations[OPTIMUM] = replace(measured, exact=optimum.value)
    return evaluations
