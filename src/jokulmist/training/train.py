"""Training: an environment, an agent, how long; what comes out is a run, or one a seed."""

from __future__ import annotations

import sys
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, Literal, overload

from jokulmist.agents.contract import Agent
from jokulmist.agents.players import agents_of
from jokulmist.environments.declaration.environment import Environment, describe
from jokulmist.environments.varying import Levels, Vary
from jokulmist.errors import SettingError
from jokulmist.records.files import path_of
from jokulmist.sources.reading import refuse_while_reading
from jokulmist.training.plans.budget import budget_words
from jokulmist.training.plans.observers import Observer
from jokulmist.training.plans.plan import Plan, Training
from jokulmist.training.progress import ProgressDisplay, SilentDisplay, record_or_warn, usual_display
from jokulmist.training.runs.run import Run, Runs
from jokulmist.training.session.choices import chosen_lane, run_folder
from jokulmist.training.session.readiness import free_names, ready
from jokulmist.training.session.session import Session
from jokulmist.training.workers import pool
from jokulmist.training.workers import seeds as seeds_side_by_side


@overload
def train(
    environment: Environment,
    agent: Agent | Mapping[Any, Agent],
    *,
    steps: int | None = ...,
    episodes: int | None = ...,
    seed: int = ...,
    seeds: None = ...,
    copies: int | None = ...,
    vary: Vary | None = ...,
    curriculum: Levels | None = ...,
    lane: Literal["auto", "plain", "compiled"] = ...,
    evaluate_every: int | None = ...,
    evaluate_episodes: int = ...,
    processes: bool = ...,
    checkpoint_every: int | None = ...,
    checkpoint_minutes: float = ...,
    keep_checkpoints: int = ...,
    keep_diff: bool = ...,
    best_by: str = ...,
    record_every: int | None = ...,
    stop_when: Any = ...,
    start: Run | str | Path | None = ...,
    records: str | Path | Sequence[str | Path] | None = ...,
    columns: Mapping[str, str] | None = ...,
    observers: Sequence[Observer] = ...,
    workers: int | None = ...,
    folder: str | Path | None = ...,
    name: str | None = ...,
    show: ProgressDisplay | None = ...,
) -> Run: ...


@overload
def train(
    environment: Environment,
    agent: Agent | Mapping[Any, Agent],
    *,
    steps: int | None = ...,
    episodes: int | None = ...,
    seed: int = ...,
    seeds: Sequence[int],
    copies: int | None = ...,
    vary: Vary | None = ...,
    curriculum: Levels | None = ...,
    lane: Literal["auto", "plain", "compiled"] = ...,
    evaluate_every: int | None = ...,
    evaluate_episodes: int = ...,
    processes: bool = ...,
    checkpoint_every: int | None = ...,
    checkpoint_minutes: float = ...,
    keep_checkpoints: int = ...,
    keep_diff: bool = ...,
    best_by: str = ...,
    record_every: int | None = ...,
    stop_when: Any = ...,
    start: Run | str | Path | None = ...,
    records: str | Path | Sequence[str | Path] | None = ...,
    columns: Mapping[str, str] | None = ...,
    observers: Sequence[Observer] = ...,
    workers: int | None = ...,
    folder: str | Path | None = ...,
    name: str | None = ...,
    show: ProgressDisplay | None = ...,
) -> Runs: ...


def train(
    environment: Environment,
    agent: Agent | Mapping[Any, Agent],
    *,
    steps: int | None = None,
    episodes: int | None = None,
    seed: int = 0,
    seeds: Sequence[int] | None = None,
    copies: int | None = None,
    vary: Vary | None = None,
    curriculum: Levels | None = None,
    lane: Literal["auto", "plain", "compiled"] = "auto",
    evaluate_every: int | None = None,
    evaluate_episodes: int = 100,
    processes: bool = False,
    checkpoint_every: int | None = None,
    checkpoint_minutes: float = 5.0,
    keep_checkpoints: int = 3,
    keep_diff: bool = False,
    best_by: str = "return",
    record_every: int | None = None,
    stop_when: Any = None,
    start: Run | str | Path | None = None,
    records: str | Path | Sequence[str | Path] | None = None,
    columns: Mapping[str, str] | None = None,
    observers: Sequence[Observer] = (),
    workers: int | None = None,
    folder: str | Path | None = "runs",
    name: str | None = None,
    show: ProgressDisplay | None = None,
) -> Run | Runs:
    """Train an agent on an environment.

    Parameters
    ----------
    environment : Environment
    agent : Agent
    steps, episodes : int
        How long, one of the two. Steps are decisions, summed over copies; the last turn of all copies is run whole.
    seed : int
    seeds : sequence of int, optional
        One run a seed; the result is `Runs`.
    copies : int, optional
        Copies of the environment that step side by side; by default what suits the method.
    vary : dict of str to Between, or function of draw, optional
        Parameters that are drawn again for each episode, e.g. ``{"melt": jm.between(1.0, 5.0)}``, or a function that
        gives a dict of values that go together. What was drawn is a column of episodes.csv.
    curriculum : Levels, optional
        A parameter, or several together, that move through levels as the agent learns.
    lane : {"auto", "plain", "compiled"}
        ``auto`` compiles the class where it can be compiled and says why where not; ``plain`` runs it in Python, so
        that breakpoints and prints work; ``compiled`` makes it an error if it cannot be.
    evaluate_every : int, optional
        Decisions between evaluations of the greedy policy, recorded in evaluated.csv.
    evaluate_episodes : int
        Episodes of each evaluation.
    processes : bool
        Each copy of a `jm.Simulator` in a process of its own: for simulators that are slow, or that crash. A process
        that dies or hangs is replaced, its episode is closed by ``lost``, and training goes on.
    checkpoint_every : int, optional
        Decisions between checkpoints, beside those by the clock.
    checkpoint_minutes : float
        Minutes between checkpoints.
    keep_checkpoints : int
        How many of the newest checkpoints are kept; the best policy is kept beside them.
    keep_diff : bool
        Keep the uncommitted change of your repository with the run, in ``uncommitted.diff``: whoever gets the run's
        folder gets it, too.
    best_by : str
        What the best policy is judged by: ``"return"`` (mean of the last 100 episodes, at each report),
        ``"evaluation"``, a measure (likewise a mean), or of a player who alone learns ``"PLAYER.return"``.
    record_every : int, optional
        Record about one episode in so many, step by step, in the run's ``rollouts``, and the best, the worst and the
        last. The episodes are those of the first copy.
    stop_when : dict or function, optional
        Ends the run before its planned length: ``{"mean_return": 120.0}``, ``{"plateau": 50_000}`` (decisions without a
        new height), ``{"minutes": 10}``, several of them, or a function that is given how far the run is
        (``decisions``, ``episodes``, ``mean_return``, ``seconds``). Asked at each report, so that it stops at the same
        decision again.
    start : Run or path, optional
        Agents that learn in this run and learned in that one, by the same method and network, begin with what they have
        learned there. The new run keeps a copy of it and names that run as its parent. Or the file of a policy
        (``policy.save``), e.g. one that records have taught: of the same method; a policy of `Cloning` or `ImplicitQ`
        begins `PPO`, `ActorCritic` or `Reinforce`.
    records : path or sequence of paths, optional
        Learn from what was recorded, and step nothing; `steps` are updates then. Evaluations are stepped as ever, and
        the best policy is judged by them. The run keeps the digest of each file: `resume` and `redo` refuse one that
        has changed.
    columns : dict of str to str, optional
        What a column is called in the records; see `Records.read`.
    observers : sequence of Observer
        Code of your own that looks at the run while it trains; see `Observer`.
    workers : int, optional
        Processes among which several seeds are shared out; by default one a core. Each seed gives the same numbers as
        by itself. Runs in memory, and classes that no file holds, are trained here, one after another.
    folder : str, Path or None
        Where the run's folder is made; None keeps the run in memory.
    name : str, optional
        The folder's name; else environment, method and the next free number.
    show : Show, optional
        Who shows progress. By default a live line in a terminal and in a notebook, and nothing elsewhere.

    Returns
    -------
    Run, or Runs where `seeds` was given.

    Raises
    ------
    SettingError
        When a setting is out of range, or the method cannot work with the environment.
    BrokenEnvironment
        When the environment's own code fails; what was recorded until then is kept.

    Notes
    -----
    Ctrl-C ends training cleanly, with everything saved and the run's status ``stopped``; a second Ctrl-C ends it at
    once. The same plan and seed give the same episodes.csv on the same machine, byte for byte.

    Examples
    --------
    >>> import jokulmist as jm
    >>> run = jm.train(jm.gallery.Tarn(), jm.QLearning(bins=20), steps=2000, folder=None, lane="plain")
    >>> len(run.episodes)
    20
    """
    agent = _checked_agent(environment, agent)
    if seeds is not None and seed != 0:
        raise SettingError(
            f"`seed` is {seed!r} and `seeds` are {list(seeds)!r:.60}: give one of them, e.g. `seeds=[{seed!r}]`."
        )
    training = Training(
        steps=steps,
        episodes=episodes,
        seeds=tuple(seeds) if seeds is not None else (seed,),
        copies=copies,
        lane=lane,
        evaluate_every=evaluate_every,
        evaluate_episodes=evaluate_episodes,
        processes=processes,
        checkpoint_every=checkpoint_every,
        checkpoint_minutes=checkpoint_minutes,
        keep_checkpoints=keep_checkpoints,
        keep_diff=keep_diff,
        best_by=best_by,
        record_every=record_every,
        stop_when=stop_when,
        start=None if start is None else _folder_of(start),
        records=None if records is None else _files_of(records),
        columns=None if columns is None else dict(columns),
    )
    if show is None:
        show = usual_display()
    place = None if folder is None else path_of(folder, "`folder`")
    if curriculum is not None and not isinstance(curriculum, Levels):
        raise SettingError(
            f"`curriculum` is one `jm.Levels(...)`; got {curriculum!r:.80}. Let several parameters move together, e.g. "
            '`jm.Levels("tide", [1.0, 2.0], above=30.0, together={"wind": [0.0, 3.0]})`.'
        )
    plan = Plan(environment, agent, training, vary, curriculum, tuple(observers))
    runs = train_plan(plan, folder=place, name=name, show=show, command=sys.argv, workers=workers)
    return runs if seeds is not None else runs[0]


def _checked_agent(environment: Any, agent: Any) -> Agent:
    """The agent, or those of players as one; refused where the two first arguments are something else."""

    def written(value: Any) -> str:
        kind = isinstance(value, type)
        return f"the class `{value.__name__}`; write `{value.__name__}()`" if kind else repr(value)

    if not isinstance(environment, Environment):
        raise SettingError(f"`train` takes an environment first; got {written(environment)}.")
    if isinstance(agent, Mapping):
        agent = agents_of(agent, describe(environment).action)
    if not isinstance(agent, Agent):
        raise SettingError(f"`train` takes an agent second; got {written(agent)}.")
    return agent


def _files_of(records: str | Path | Sequence[str | Path]) -> tuple[str, ...]:
    each = [records] if isinstance(records, (str, Path)) else records
    if not isinstance(each, Sequence):
        raise SettingError(
            f"`records` of `train` are files; got {type(records).__name__}. What is in memory teaches by "
            "`jm.learn_from`."
        )
    return tuple(str(path_of(file, "`records`").resolve()) for file in each)


def _folder_of(start: Run | str | Path) -> str:
    path = start.path if isinstance(start, Run) else path_of(start, "`start`")
    if path is None:
        raise SettingError("`start` is a run in memory, which keeps no checkpoint. Train it with `folder=`.")
    return str(path)


def train_plan(
    plan: Plan,
    *,
    folder: Path | None,
    name: str | None = None,
    show: ProgressDisplay | None = None,
    command: list[str] | None = None,
    workers: int | None = None,
) -> Runs:
    """Train a plan, one run a seed; see `train`."""
    refuse_while_reading("training")
    show = show or SilentDisplay()
    if pool.READING:
        raise SettingError(
            "a worker process that reads this file would train, too. Put the training under "
            '`if __name__ == "__main__":`, and several seeds go side by side.'
        )
    # What does not fit is told before anything is made.
    written = plan
    plan = ready(plan)
    for word in budget_words(plan):
        record_or_warn(show, word)
    seeds = plan.training.seeds
    names = free_names(plan, folder, name)
    count = min(len(seeds), pool.usual_workers() if workers is None else checked_workers(workers))
    if folder is not None and count > 1 and pool.can_travel(written):
        try:
            return seeds_side_by_side.train_seeds(plan, folder, names, show, command or [], count)
        except pool.CannotTravel as reason:
            show.message(f"one seed after another, because {reason}")
    runs: list[Run] = []
    lane, why = chosen_lane(plan)
    if why:
        record_or_warn(show, why)
    for seed in seeds:
        path = None if folder is None else run_folder(plan, folder, names[seed])
        session = Session(plan.for_seed(seed), seed, lane, why, path, show, command or [])
        runs.append(session.run())
        if runs[-1].status == "stopped":
            break
    return Runs(runs)


def checked_workers(workers: int) -> int:
    """How many processes, or an error that says what is allowed."""
    if isinstance(workers, bool) or not isinstance(workers, int) or workers < 1:
        raise SettingError(f"`workers` must be a whole number above 0; got {workers!r}. Use `workers=1` for none.")
    return workers
