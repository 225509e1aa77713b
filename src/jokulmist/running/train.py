"""Training: an environment, an agent, how long; what comes out is a run, or one a seed."""

from __future__ import annotations

import inspect
import sys
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any, Literal, TypedDict, TypeVar, Unpack

from jokulmist.agents.contract import Agent
from jokulmist.agents.players import agents_of
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.environments.varying import Levels, Vary
from jokulmist.errors import SettingError, listed, nearest
from jokulmist.judging.evaluate import RANDOM
from jokulmist.plans.budget import budget_words
from jokulmist.plans.observers import Observer
from jokulmist.plans.plan import Plan, Training
from jokulmist.plans.progress import ProgressDisplay, SilentDisplay, record_or_warn, usual_display
from jokulmist.records.files import path_of
from jokulmist.running.runs.run import Run, Runs
from jokulmist.running.session.choices import chosen_lane, run_folder
from jokulmist.running.session.readiness import free_names, ready
from jokulmist.running.session.session import Session
from jokulmist.running.workers import pool
from jokulmist.running.workers import seeds as seeds_side_by_side
from jokulmist.sources.reading import refuse_while_reading


class TrainOptions(TypedDict, total=False):
    """What `train` takes by name, beside the seed; the docstring of `train` says what each means."""

    steps: int | None
    episodes: int | None
    copies: int | None
    vary: Vary | None
    curriculum: Levels | None
    lane: Literal["auto", "plain", "compiled"]
    evaluate_every: int | None
    evaluate_episodes: int
    panel: Sequence[Run | str | Path] | None
    processes: bool
    checkpoint_every: int | None
    checkpoint_minutes: float
    keep_checkpoints: int
    keep_diff: bool
    best_by: str
    record_every: int | None
    stop_when: Any
    start: Run | str | Path | None
    records: str | Path | Sequence[str | Path] | None
    columns: Mapping[str, str] | None
    observers: Sequence[Observer]
    folder: str | Path | None
    name: str | None
    display: ProgressDisplay | None


Function = TypeVar("Function", bound=Callable[..., Any])
# The defaults of what a plan does not hold in its section [training].
DEFAULTS = {"vary": None, "curriculum": None, "observers": (), "folder": "runs", "name": None, "display": None}


def with_options(function: Function) -> Function:
    """Show each of `TrainOptions` with its default, where a signature says ``**options``."""
    signature = inspect.signature(function)
    fields = Training.model_fields
    options = [
        inspect.Parameter(
            name,
            inspect.Parameter.KEYWORD_ONLY,
            default=DEFAULTS[name] if name in DEFAULTS else fields[name].get_default(),
            annotation=getattr(kind, "__forward_arg__", kind),
        )
        for name, kind in TrainOptions.__annotations__.items()
    ]
    before = [p for p in signature.parameters.values() if p.kind is not inspect.Parameter.VAR_KEYWORD]
    function.__signature__ = signature.replace(parameters=[*before, *options])  # type: ignore[attr-defined]
    return function


@with_options
def train(
    environment: Environment, agent: Agent | Mapping[Any, Agent], *, seed: int = 0, **options: Unpack[TrainOptions]
) -> Run:
    """Train an agent on an environment.

    Parameters
    ----------
    environment : Environment
    agent : Agent
    seed : int
    steps, episodes : int
        How long, one of the two. Steps are decisions, summed over copies; the last turn of all copies is run whole.
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
    panel : sequence of Run, path or "random", optional
        Of a game: policies that stay the same, against which each player's policy is measured at each evaluation, in
        turn in all other seats; they sample. The run keeps them in ``panel/``; evaluated.csv names who met whom.
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
        ``"evaluation"``, ``"panel"`` (the mean return from it), a measure (likewise a mean), or of a player who alone
        learns ``"PLAYER.return"``.
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
    folder : str, Path or None
        Where the run's folder is made; None keeps the run in memory.
    name : str, optional
        The folder's name; else environment, method and the next free number.
    display : ProgressDisplay, optional
        Who shows progress. By default a live line in a terminal and in a notebook, and nothing elsewhere.

    Returns
    -------
    Run

    See Also
    --------
    train_seeds : one run a seed.

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
    (run,) = _train(environment, agent, (seed,), None, options)
    return run


@with_options
def train_seeds(
    environment: Environment,
    agent: Agent | Mapping[Any, Agent],
    seeds: Sequence[int],
    *,
    workers: int | None = None,
    **options: Unpack[TrainOptions],
) -> Runs:
    """Train an agent once with each of several seeds.

    Parameters
    ----------
    environment : Environment
    agent : Agent
    seeds : sequence of int
        One run a seed. Each gives the same numbers as `train` with this seed.
    workers : int, optional
        Processes among which the seeds are shared out; by default one a core. Runs in memory, and classes that no file
        holds, are trained here, one after another.
    **options
        As of `train`.

    Returns
    -------
    Runs

    Raises
    ------
    SettingError, BrokenEnvironment
        As `train` does.

    Examples
    --------
    >>> import jokulmist as jm
    >>> runs = jm.train_seeds(jm.gallery.Tarn(), jm.QLearning(bins=8), [0, 1], steps=1000, folder=None, lane="plain")
    >>> [run.seed for run in runs]
    [0, 1]
    """
    return _train(environment, agent, tuple(seeds), workers, options)


def _train(environment: Any, agent: Any, seeds: tuple[int, ...], workers: int | None, options: TrainOptions) -> Runs:
    agent = _checked_agent(environment, agent)
    _refuse_unknown(options)
    settings: dict[str, Any] = {**DEFAULTS, **options}
    observers, vary, curriculum, display = (
        settings.pop(name) for name in ("observers", "vary", "curriculum", "display")
    )
    folder, name = settings.pop("folder"), settings.pop("name")
    if settings.get("start") is not None:
        settings["start"] = _folder_of(settings["start"], "start")
    if settings.get("panel") is not None:
        members = _several(settings["panel"], '`panel` of `train` is runs, paths or "random"')
        settings["panel"] = tuple(text if text == RANDOM else _folder_of(text, "panel") for text in members)
    if settings.get("records") is not None:
        settings["records"] = _files_of(settings["records"])
    if settings.get("columns") is not None:
        settings["columns"] = dict(settings["columns"])
    training = Training(seeds=seeds, **settings)
    if curriculum is not None and not isinstance(curriculum, Levels):
        raise SettingError(
            f"`curriculum` is one `jm.Levels(...)`; got {curriculum!r:.80}. Let several parameters move together, e.g. "
            '`jm.Levels("tide", [1.0, 2.0], above=30.0, together={"wind": [0.0, 3.0]})`.'
        )
    plan = Plan(environment, agent, training, vary, curriculum, tuple(observers))
    place = None if folder is None else path_of(folder, "`folder`")
    return train_plan(
        plan, folder=place, name=name, display=display or usual_display(), command=sys.argv, workers=workers
    )


def _refuse_unknown(options: Mapping[str, Any]) -> None:
    for name in options:
        if name in ("seeds", "workers"):
            raise SettingError(
                "`train` trains one seed. For several write `jm.train_seeds(environment, agent, [0, 1, 2], ...)`."
            )
        if name not in TrainOptions.__annotations__:
            names = ["seed", *TrainOptions.__annotations__]
            raise SettingError(f"`train` has no option `{name}`; it has {listed(names)}.{nearest(name, names)}")


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
    each = _several(records, "`records` of `train` are files", " What is in memory teaches by `jm.learn_from`.")
    return tuple(str(path_of(file, "`records`").resolve()) for file in each)


def _several(value: Any, allowed: str, hint: str = "") -> Sequence[Any]:
    """What is given as one or as several."""
    each = [value] if isinstance(value, (str, Path, Run)) else value
    if not isinstance(each, Sequence):
        raise SettingError(f"{allowed}; got {type(value).__name__}.{hint}")
    return each


def _folder_of(run: Run | str | Path, option: str) -> str:
    path = run.path if isinstance(run, Run) else path_of(run, f"`{option}`")
    if path is None:
        raise SettingError(f"`{option}` is a run in memory, which keeps no checkpoint. Train it with `folder=`.")
    return str(path)


def train_plan(
    plan: Plan,
    *,
    folder: Path | None,
    name: str | None = None,
    display: ProgressDisplay | None = None,
    command: list[str] | None = None,
    workers: int | None = None,
) -> Runs:
    """Train a plan, one run a seed; see `train`."""
    refuse_while_reading("training")
    display = display or SilentDisplay()
    if pool.READING:
        raise SettingError(
            "a worker process that reads this file would train, too. Put the training under "
            '`if __name__ == "__main__":`, and several seeds go side by side.'
        )
    # What does not fit is told before anything is made.
    written = plan
    plan = ready(plan)
    for word in budget_words(plan):
        record_or_warn(display, word)
    seeds = plan.training.seeds
    names = free_names(plan, folder, name)
    count = min(len(seeds), pool.usual_workers() if workers is None else checked_workers(workers))
    if folder is not None and count > 1 and pool.can_travel(written):
        try:
            return seeds_side_by_side.train_side_by_side(plan, folder, names, display, command or [], count)
        except pool.CannotTravel as reason:
            display.message(f"one seed after another, because {reason}")
    runs: list[Run] = []
    lane, why = chosen_lane(plan)
    if why:
        record_or_warn(display, why)
    for seed in seeds:
        path = None if folder is None else run_folder(plan, folder, names[seed])
        session = Session(plan.for_seed(seed), seed, lane, why, path, display, command or [])
        runs.append(session.run())
        if runs[-1].status == "stopped":
            break
    return Runs(runs)


def checked_workers(workers: int) -> int:
    """How many processes, or an error that says what is allowed."""
    if isinstance(workers, bool) or not isinstance(workers, int) or workers < 1:
        raise SettingError(f"`workers` must be a whole number above 0; got {workers!r}. Use `workers=1` for none.")
    return workers
