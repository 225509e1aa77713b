"""The best policy of an environment, exactly; kept, so that whatever is drawn or measured later shows how far from it a
policy is."""

from __future__ import annotations

import io
import json
import time
import zipfile
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.declaration.state import State
from jokulmist.environments.environment import Environment
from jokulmist.environments.spaces.channels import Spec
from jokulmist.environments.spaces.players import view_of
from jokulmist.environments.transition.stepping import Stepper
from jokulmist.errors import SettingError
from jokulmist.judging.solving.induction import Best, best_of
from jokulmist.judging.solving.transitions import Deciding, Transitions, key_of, refuse_unsolvable, transitions_of
from jokulmist.loops.policy import Policy
from jokulmist.plans.fingerprint import cache_place, fingerprint
from jokulmist.records.files import replace_file

if TYPE_CHECKING:
    import pandas as pd

OPTIMUM = "optimum"
MOST_STATES = 2_000_000
CACHE_KIND = "solved"
_SOLUTIONS: dict[Any, Solution | None] = {}


@dataclass(frozen=True)
class Solution:
    """What `jm.solve` found.

    Attributes
    ----------
    name : str
        Of the environment.
    value : float
        The mean return of the best policy, discounted where that was asked for; of several players the mean over them.
    of_players : dict of str to float
        What each of several players gets.
    discount : float
    horizon : int or None
        Decisions after which an episode is over, where that was looked at.
    states, transitions : int
        How many there are.
    seconds : float
        That solving took.
    """

    name: str
    value: float
    of_players: dict[str, float]
    discount: float
    horizon: int | None
    states: int
    transitions: int
    seconds: float
    environment: Environment = field(repr=False)
    _met: list[Any] = field(repr=False)
    _place_of: dict[Any, int] = field(repr=False)
    _best: Best = field(repr=False)
    _index: Any = field(repr=False)
    _mover: Any = field(repr=False)
    # State, action and who decides, of each of the decisions whose worth was kept; empty in what was read from a file.
    _rows: tuple[Any, Any, Any] = field(repr=False)

    def _pair(self, state: State, decisions: int) -> int:
        """Where a state stands at a moment; -1 where it is never met then."""
        place, starts = self._place_of.get(key_of(state), -1), self._best.starts
        moment = 0 if len(starts) == 2 else decisions
        if place < 0 or moment >= len(starts) - 1:
            return -1
        begin, end = starts[moment], starts[moment + 1]
        pair = int(begin + np.searchsorted(self._best.state[begin:end], place))
        return pair if pair < end and self._best.state[pair] == place else -1

    def choose(self, state: State, decisions: int = 0) -> Any:
        """The best action in a state, in own form.

        Parameters
        ----------
        state : State
        decisions : int
            How many were made before in the episode; does not matter where there is no limit.

        Raises
        ------
        SettingError
            When the state is never met at that moment.
        """
        pair = self._pair(state, decisions)
        if pair < 0:
            raise SettingError(
                f"`{self.name}` never comes to {state} after {decisions:,} decisions, so nothing is known of it."
            )
        return self._choosing.native(int(self._mover[pair]), int(self._index[pair]))

    @cached_property
    def _choosing(self) -> Deciding:
        return Deciding(describe(self.environment))

    @property
    def table(self) -> pd.DataFrame:
        """One row a moment and state: the fields of the state, the best action by label, and what is still to come by
        it."""
        import pandas as pd

        best, names = self._best, [f.name for f in describe(self.environment).fields if f.role != "flow"]
        moments = np.repeat(np.arange(len(best.starts) - 1), np.diff(best.starts))
        columns: dict[str, Any] = {} if self.horizon is None else {"decision": moments}
        for name in names:
            columns[name] = [self._met[k].__dict__[name] for k in best.state]
        labels = {mover: self._choosing.labels(int(mover)) for mover in np.unique(self._mover)}
        columns["action"] = [labels[m][k] for m, k in zip(self._mover, self._index, strict=True)]
        if best.value.ndim == 1:
            columns["value"] = best.value
        else:
            columns.update({f"{p}.value": best.value[:, k] for k, p in enumerate(self.of_players)})
        return pd.DataFrame(columns)

    @cached_property
    def policy(self) -> Policy:
        """The same as a policy that is played, drawn, saved and exported like one that was learned: a table of values
        by what is seen, of several players one each.

        Raises
        ------
        SettingError
            When what is seen does not tell what is best: two states look the same, or it depends on how many decisions
            are left.
        """
        return _as_policy(self)

    def __repr__(self) -> str:
        suffix = f", discounted by {self.discount:g}" if self.discount < 1.0 else ""
        return (
            f"<optimum of {self.name}: mean return {self.value:.6g}{suffix}; {self.states:,} states, "
            f"{self.transitions:,} transitions>"
        )


def solve(
    environment: Environment,
    *,
    discount: float = 1.0,
    limit: bool = True,
    most_states: int = MOST_STATES,
    on_message: Callable[[str], None] | None = None,
) -> Solution:
    """The best policy of an environment whose states can be counted, by dynamic programming.

    `begin` and `advance` are called with every outcome of what they draw: `integers`, `bernoulli`, `pick`, `binomial`,
    short permutations, and Poisson counts, of which less than 1e-9 is left out. With a deadline or a time limit it goes
    backwards from the last decision (Bellman, 1957), else by value iteration. A game in which players take turns is
    solved backwards, each doing what is best for itself.

    Curves, evaluations, comparisons and reports of the environment show the optimum from then on, also in other
    processes of this user.

    Parameters
    ----------
    environment : Environment
        With the parameters and weights to solve it at.
    discount : float, in [0, 1]
        What a reward one decision later counts. The line "optimum" is about returns, so it is shown where nothing is
        discounted.
    limit : bool
        Whether a time limit is the end of what counts, as in the return of an episode. False: what is best if episodes
        go on; then `discount` must be below 1 unless they end by themselves.
    most_states : int
    on_message : function of str, optional
        Is told how far it is.

    Returns
    -------
    Solution

    Raises
    ------
    SettingError
        When states or outcomes cannot be counted: which draw, in which line, and how to fix it.

    Examples
    --------
    >>> import jokulmist as jm
    >>> found = jm.solve(jm.gallery.WholeTarn(hours=24))
    >>> round(found.value, 2), found.states
    (41.14, 635)
    """
    if not isinstance(environment, Environment):
        raise SettingError(f"`solve` takes an environment, e.g. `jm.gallery.WholeTarn()`; got {environment!r:.80}.")
    if isinstance(discount, bool) or not isinstance(discount, (int, float)) or not 0.0 <= discount <= 1.0:
        raise SettingError(f"`discount` must lie in [0, 1]; got {discount!r}.")
    if isinstance(most_states, bool) or not isinstance(most_states, int) or most_states < 1:
        raise SettingError(f"`most_states` must be a whole number above 0; got {most_states!r}.")
    began, description = time.perf_counter(), describe(environment)
    horizon = description.limit if limit else description.deadline
    transitions = transitions_of(environment, most_states, horizon, on_message)
    best = best_of(transitions, horizon, float(discount))
    solution = _solution(environment, transitions, best, float(discount), horizon, time.perf_counter() - began)
    if discount == 1.0 and limit:
        _store(solution)
    return solution


def _solution(
    environment: Environment, t: Transitions, best: Best, discount: float, horizon: int | None, seconds: float
) -> Solution:
    begin, end = best.starts[0], best.starts[1]
    worth = t.first[best.state[begin:end]] @ best.value[begin:end]
    players = describe(environment).players
    return Solution(
        describe(environment).name,
        float(np.mean(worth)),
        dict(zip(players, np.atleast_1d(worth).tolist(), strict=True)) if players else {},
        discount,
        horizon,
        len(t.states),
        t.count,
        seconds,
        environment,
        t.states,
        t.keys(),
        best,
        t.action[best.decision],
        t.mover[best.decision],
        (t.state[best.rows], t.action[best.rows], t.mover[best.rows]),
    )


def _as_policy(solution: Solution) -> Policy:
    from jokulmist.agents.players import agents_of
    from jokulmist.agents.tables.q_learning import QLearning

    environment, best = solution.environment, solution._best
    description = describe(environment)
    if not len(best.rows):
        raise SettingError(
            "so many states and moments, or what was solved in another process, make no table. Use "
            "`solution.choose(state, decisions)`, or solve it again."
        )
    stepper = Stepper(environment)
    if stepper.noisy or description.observation_pipeline.modifiers:
        raise SettingError(
            "what is seen is noisy or modified, so it does not tell the state. Use `solution.choose(state, decisions)`."
        )
    agent = QLearning(discount=solution.discount)
    observations = [stepper.observe(state, None) for state in solution._met]
    states, actions, movers = solution._rows
    if not description.players:
        return Policy(
            agent, description.spec, _table(agent, description.spec, observations, states, actions, best.row_values), 0
        )
    learner = {}
    for k, player in enumerate(description.players):
        view, rows = view_of(description.spec, player), np.flatnonzero(movers == k)
        player_rows = [[row[column] for column in view.columns] for row in observations]
        learner[player] = _table(agent, view.spec, player_rows, states[rows], actions[rows], best.row_values[rows, k])
    return Policy(
        agents_of(dict.fromkeys(description.players, agent), description.spec.action), description.spec, learner, 0
    )


def _table(agent: Any, spec: Spec, observations: list[list[float]], states: Any, actions: Any, values: Any) -> Any:
    """What a table has learned that holds the value of each action in each state, by what is seen."""
    from jokulmist.agents.contract import hyperparameters_at
    from jokulmist.agents.tables.cells import SCALARS

    config = agent.config(spec, 1)
    learner = agent.fresh_learner(config, hyperparameters_at(agent.schedules()), None)
    table = np.full_like(learner.values, np.nan)
    cells = {state: config.grid.place(observations[state], SCALARS)[0] for state in np.unique(states)}
    for state, action, worth in zip(states, actions, values, strict=True):
        cell = cells[state]
        if not np.isnan(table[cell, action]) and abs(table[cell, action] - worth) > 1e-6 * max(1.0, abs(worth)):
            raise SettingError(
                "what is seen does not tell what is best: two states look the same, or it depends on how many "
                "decisions are left. Show more (e.g. `jm.modifiers.TimeLeft`), or use `solution.choose(state, "
                "decisions)`."
            )
        table[cell, action] = worth
    learner.values[...] = np.where(np.isnan(table), agent.initial_value, table)
    return learner


def known_optimum(environment: Environment) -> Solution | None:
    """What `solve` found of an environment before, in this process or another; None where it was not solved.

    It is found by the class's code, parameters and weights: where one of them was changed since, it is not the same
    environment.
    """
    try:
        refuse_unsolvable(environment)
    except SettingError:
        return None
    key = fingerprint(environment)
    if key not in _SOLUTIONS:
        _SOLUTIONS[key] = _read(environment, key)
    return _SOLUTIONS[key]


def _store(solution: Solution) -> None:
    key = fingerprint(solution.environment)
    _SOLUTIONS[key] = solution
    if isinstance(key, tuple):
        return
    best = solution._best
    names = [f.name for f in describe(solution.environment).fields if f.role != "flow"]
    metadata = {
        "name": solution.name,
        "value": solution.value,
        "of_players": solution.of_players,
        "horizon": solution.horizon,
        "transitions": solution.transitions,
        "seconds": solution.seconds,
    }
    arrays = {f"field {name}": np.array([state.__dict__[name] for state in solution._met]) for name in names}
    arrays.update(
        about=np.frombuffer(json.dumps(metadata).encode(), np.uint8),
        starts=best.starts,
        state=best.state.astype(np.int32),
        index=solution._index.astype(np.int32),
        mover=solution._mover.astype(np.int8),
        value=best.value,
    )
    sink = io.BytesIO()
    with zipfile.ZipFile(
        sink, "w", zipfile.ZIP_DEFLATED, compresslevel=1
    ) as stored:  # at its usual level NumPy takes longer over it than solving took
        for name, array in arrays.items():
            with stored.open(f"{name}.npy", "w") as entry:
                np.lib.format.write_array(entry, array, allow_pickle=False)
    place = cache_place(CACHE_KIND)
    try:
        place.mkdir(parents=True, exist_ok=True)
        replace_file(place / f"{key}.npz", sink.getvalue())
    except OSError:  # a home that cannot be written: it is known in this process alone
        return


def _read(environment: Environment, key: Any) -> Solution | None:
    """A solution from its file; one that is damaged is as good as none."""
    if isinstance(key, tuple):
        return None
    try:
        with np.load(cache_place(CACHE_KIND) / f"{key}.npz", allow_pickle=False) as stored:
            arrays = {name: stored[name] for name in stored.files}
        metadata = json.loads(arrays["about"].tobytes())
        cls = type(environment).State
        fields = {name.removeprefix("field "): array for name, array in arrays.items() if name.startswith("field ")}
        met = []
        for values in zip(*(array if array.ndim > 1 else array.tolist() for array in fields.values()), strict=True):
            state = object.__new__(cls)
            state.__dict__.update(zip(fields, values, strict=True))
            met.append(state)
        nothing = np.zeros(0, int)
        best = Best(arrays["starts"], arrays["state"], nothing, arrays["value"], nothing, nothing)
        places = {key_of(state): k for k, state in enumerate(met)}
        return Solution(
            metadata["name"],
            metadata["value"],
            metadata["of_players"],
            1.0,
            metadata["horizon"],
            len(met),
            metadata["transitions"],
            metadata["seconds"],
            environment,
            met,
            places,
            best,
            arrays["index"],
            arrays["mover"],
            (nothing, nothing, nothing),
        )
    except (OSError, ValueError, KeyError, TypeError, zipfile.BadZipFile):
        return None
