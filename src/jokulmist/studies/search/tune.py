"""Beginning a search: `tune`, and who does its work."""

from __future__ import annotations

import sys
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from jokulmist.agents.contract import Agent
from jokulmist.agents.players import agents_of, classes_of, kinds_of
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.environments.varying import Vary
from jokulmist.errors import SettingError
from jokulmist.plans.plan import Plan, Training
from jokulmist.plans.sources import plan_code, use_of
from jokulmist.records.files import write_toml
from jokulmist.records.run_folder import PLAN, keep_source, take_folder
from jokulmist.running.train import checked_workers
from jokulmist.sources.reading import refuse_while_reading
from jokulmist.studies.search.candidates import Board
from jokulmist.studies.search.methods import SearchMethod
from jokulmist.studies.search.progress import SearchDisplay
from jokulmist.studies.search.search import Search
from jokulmist.studies.search.settings import SearchSettings, Tuning
from jokulmist.studies.search.space import Dimension


def tune(
    environment: Environment,
    agent: Agent | Mapping[Any, Agent],
    *,
    over: Mapping[str, Dimension],
    steps: int | None = None,
    episodes: int | None = None,
    method: str | type[SearchMethod] = "random",
    candidates: int = 24,
    score: str = "return",
    better: str = "higher",
    seed: int = 0,
    seeds: Sequence[int] | None = None,
    again: int = 5,
    copies: int | None = None,
    vary: Vary | None = None,
    curriculum: Any = None,
    lane: str = "auto",
    workers: int | None = None,
    cluster: str | None = None,
    folder: str | Path = "runs",
    name: str | None = None,
    display: SearchDisplay | None = None,
    **more: Any,
) -> Search:
    """Search for the settings with which an agent learns best.

    Parameters
    ----------
    environment : Environment
    agent : Agent, or dict of them by player
        With the settings that are not searched over; those of one player are named ``"agents.north.learning_rate"``.
    over : dict of str to Among or Between
        By name: ``"agent.learning_rate": jm.between(1e-4, 1e-2, scale="log")``, ``"environment.melt": jm.among(2.0,
        4.0)``, ``"environment.weights.flooding"``, ``"training.copies"``.
    steps, episodes : int
        How long each candidate trains, one of the two; as in `train`.
    method : {"random", "grid", "halving", "gaussian-process", "population"} or a `SearchMethod` of your own
        Random search is the measure of the others. Halving trains many a little and the best further. A Gaussian
        process asks where a model of the scores promises most: for few candidates that take long. A population changes
        settings while it trains.
    candidates : int
    score : str
        ``"return"``: the mean return of the last 100 training episodes. ``"evaluation"``: the mean return of the last
        policy over fixed evaluation episodes. Or a measure, over these. Reward weights that are searched over are never
        scored by the return.
    better : {"higher", "lower"}
        Of a measure.
    seed : int
        Of what the search draws, and of the runs where `seeds` is not given.
    seeds : sequence of int, optional
        Each candidate is trained with each; its score is their mean.
    again : int
        New seeds on which the best candidate is run once more: its score in the search is the luckiest of many.
    copies, vary, curriculum, lane
        As in `train`.
    workers : int, optional
        Worker processes; by default one a core.
    cluster : str, optional
        The address of a Dask scheduler; its workers do the jobs. They must see the search's folder.
    folder : str or Path
    name : str, optional
        The folder's name; else environment, method and the next free number.
    display : SearchDisplay, optional
        By default a live board where standard error is a terminal, and nothing else.
    **more
        Any other setting of `Tuning` (``points``, ``one_in``, ``rungs``, ``looks``, ``evaluation_episodes``) or of
        training (``evaluate_every``, ``stop_when``, ...).

    Returns
    -------
    Search

    Raises
    ------
    SettingError, LookupFailed
        Where a setting is unknown or not allowed; nothing was trained then.

    Notes
    -----
    Every candidate is an ordinary run in the search's folder. A candidate that fails is recorded with its message, and
    the search goes on. Ctrl-C ends it cleanly; `Search.resume` and ``jokulmist resume FOLDER`` go on where it was.

    Examples
    --------
    >>> import tempfile
    >>> import jokulmist as jm
    >>> found = jm.tune(
    ...     jm.gallery.Tarn(), jm.QLearning(), over={"agent.bins": jm.among(2, 12)}, method="grid", steps=2000, again=0,
    ...     workers=1, lane="plain", folder=tempfile.mkdtemp(),
    ... )
    >>> len(found.table)
    2
    """
    tuning_settings = {name: more.pop(name) for name in list(more) if name in Tuning.model_fields}
    tuning = Tuning(
        method=method, candidates=candidates, score=score, better=better, again=again, seed=seed, **tuning_settings
    )
    unknown = [name for name in more if name not in Training.model_fields]
    if unknown:
        from jokulmist.errors import listed, nearest

        names = [*Tuning.model_fields, *Training.model_fields]
        raise SettingError(f"`tune` has no setting `{unknown[0]}`; it has {listed(names)}.{nearest(unknown[0], names)}")
    training = Training(
        steps=steps,
        episodes=episodes,
        seeds=tuple(seeds) if seeds is not None else (seed,),
        copies=copies,
        lane=lane,
        **more,
    )
    players_agent = agents_of(agent, describe(environment).action)
    question = SearchSettings(Plan(environment, players_agent, training, vary, curriculum), tuning, over)
    return make_search(question, Path(folder), name, workers).work(workers, cluster, display, sys.argv)


def make_search(question: SearchSettings, folder: Path, name: str | None, workers: int | None = None) -> Search:
    """A search that has not begun: its folder holds the plan and the code as they are now. A wrong number of workers is
    refused before."""
    refuse_while_reading("search")
    if workers is not None:
        checked_workers(workers)
    plan = question.plan
    use = use_of(type(plan.environment)).rpartition(":")[2].lower()
    path = take_folder(folder, name, f"{use}-{kinds_of(plan.agent)[0].__name__.lower()}-search")
    write_toml(path / PLAN, question.written())
    keep_source(
        path, plan_code(plan.environment, *classes_of(plan.agent), *plan.functions(), type(question.method)).parts
    )
    board = Board(plan.training.seeds, question.tuning.better == "higher")
    board.save(path)
    return Search(path, question, board)
