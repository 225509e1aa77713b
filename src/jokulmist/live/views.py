"""What the page shows of one run, of several, of a search and of an episode, as JSON."""

from __future__ import annotations

import csv
import io
import math
import threading
from collections import OrderedDict
from concurrent.futures import Future
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from jokulmist.cells import without_empty_columns
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.errors import JokulmistError, LookupFailed, SettingError
from jokulmist.judging.cached_references import known_references
from jokulmist.judging.evaluate import Evaluation
from jokulmist.loops.policy import Policy
from jokulmist.pictures.replay import Still
from jokulmist.pictures.report import charts
from jokulmist.pictures.report.page import differing, told_of
from jokulmist.plain_files import plain_file
from jokulmist.records.checkpoints import checkpoints_of
from jokulmist.records.episodes import player_returns_in
from jokulmist.records.files import size_of
from jokulmist.records.origin import ORIGIN
from jokulmist.records.rollouts import ROLLOUTS, STATE, Rollout, numbers_in
from jokulmist.records.run_folder import CUT
from jokulmist.records.run_index import readable, row_of
from jokulmist.running.runs.run import Run
from jokulmist.running.runs.scenes import Scene, recorded_scene
from jokulmist.running.runs.scores import EVALUATION, RETURN, full_weights
from jokulmist.studies import cross_play
from jokulmist.studies.comparison.compare import compare
from jokulmist.studies.comparison.comparison import Comparison
from jokulmist.studies.comparison.scored import AREA, DECISIONS
from jokulmist.studies.search.search import Search

MOST_LISTED = 500
MOST_KEPT = 12
MOST_COMPARED = 40
MOST_LEDGERS = 12
RATED = ("rating", "ci95_low", "ci95_high", "wins_against_average")
UNREADABLE = (OSError, ValueError, KeyError, TypeError, IndexError, csv.Error, JokulmistError)
DECLARED = "declared"
PICTURE_INCHES = (7.2, 4.5)


class ViewCache:
    """The newest values by a key, at most so many; made once."""

    def __init__(self, most: int = MOST_KEPT) -> None:
        self._most, self._values, self._guard = most, OrderedDict[Any, Any](), threading.Lock()

    def get(self, key: Any, make: Any) -> Any:
        with self._guard:
            if key in self._values:
                self._values.move_to_end(key)
                return self._values[key]
        value = make()
        with self._guard:
            self._values[key] = value
            while len(self._values) > self._most:
                self._values.popitem(last=False)
        return value

    def drop(self, key: Any) -> None:
        with self._guard:
            self._values.pop(key, None)


_PLAYING = threading.Lock()
SHORT_WAIT = 0.2
DETAILS, LEVELS, EPISODES, POLICIES = ViewCache(), ViewCache(64), ViewCache(), ViewCache()


def stamp_of(path: Path) -> tuple[Any, ...]:
    """What tells whether a run's files have changed."""
    sizes = tuple(size_of(path / name) if (path / name).exists() else 0 for name in (*CUT, "log.txt", "machine.csv"))
    return ((path / ORIGIN).stat().st_mtime_ns, *sizes)


def levels_of(run: Run) -> dict[str, Evaluation] | None:
    """What random play and the references reach, measured once for a run; None while they are still played, which may
    take seconds where nobody has asked before."""
    played: Future[dict[str, Evaluation]] = LEVELS.get(str(run.path), lambda: _played_aside(run.environment))
    try:
        return played.result(SHORT_WAIT)
    except TimeoutError:
        return None
    except JokulmistError:  # asked again, it may be mended
        LEVELS.drop(str(run.path))
        raise


def _played_aside(environment: Environment) -> Future[dict[str, Evaluation]]:
    """In a thread that ends with the server, one environment after another."""
    played: Future[dict[str, Evaluation]] = Future()

    def play() -> None:
        try:
            with _PLAYING:
                played.set_result(known_references(environment))
        except Exception as failure:
            played.set_exception(failure)

    threading.Thread(target=play, daemon=True).start()
    return played


def detail(path: Path, measure: bool) -> dict[str, Any]:
    """All that the page shows of a run; ``measuring`` says that it is to be asked again for what random play and the
    references reach."""
    key = (str(path), stamp_of(path), measure)
    content: dict[str, Any] = DETAILS.get(key, lambda: _detail(path, measure))
    if content["measuring"]:
        DETAILS.drop(key)
    return content


def _detail(path: Path, measure: bool) -> dict[str, Any]:
    run = Run.open(path)
    known_levels = levels_of(run) if measure else {}
    levels = known_levels or {}
    row = row_of(path, run.origin)
    content = {
        **told_of(run, levels, False, lambda _: None, measure),
        "row": _plain(row),
        "measuring": known_levels is None,
        "sections": charts.SECTIONS,
        "environment": str(row["environment"]),
        "curriculum": "",
        "recorded": [],
        "report": (path / "report.html").exists(),
        "checkpoints": [folder.name for folder in checkpoints_of(path)],
        "picture": False,
    }
    if not measure:
        return {**content, "curve": charts.recorded_curve([run])}
    environment = run.environment
    return {
        **content,
        "environment": describe(environment).name,
        "curve": charts.curve([run], levels),
        "curriculum": _curriculum(run),
        "recorded": _numbers(path / ROLLOUTS),
        "picture": hasattr(type(environment), "picture") or bool(getattr(type(environment), "image", None)),
    }


def _curriculum(run: Run) -> str:
    levels, reached = run.plan.curriculum, run.origin.get("level")
    if levels is None or not isinstance(reached, dict) or not isinstance(reached.get("value"), (int, float)):
        return ""
    return (
        f"`{levels.parameter}` came to {reached['value']:g}; the levels are "
        f"{', '.join(f'{v:g}' for v in levels.values)}"
    )


def _numbers(rollouts: Path) -> list[str]:
    """The episodes that were recorded: best, worst, last, and by number."""
    if not rollouts.exists():
        return []
    named = [name for name in ("best", "worst", "last") if (rollouts / f"{name}.parquet").exists()]
    numbers: list[int] = []
    for file in sorted(rollouts.glob("*.parquet")):
        if file.stem not in named and not file.stem.startswith("evaluated"):
            numbers += numbers_in(file)
    numbers = sorted(set(numbers))
    step = max(1, -(-len(numbers) // MOST_LISTED))
    return [*named, *map(str, numbers[::step])]


@dataclass(frozen=True)
class Question:
    """How several runs are laid side by side, as the page's address holds it; `weights` names a run whose weights judge
    all, ``declared``, or nothing: each by its own."""

    by: tuple[str, ...] = ()
    score: str = RETURN
    over: str = "steps"
    weights: str = ""


def compared(paths: list[Path], question: Question, measure: bool) -> dict[str, Any]:
    """Several runs: their curves, the settings in which they differ, and what `compare` says of them, where
    environments may be made."""
    if not 2 <= len(paths) <= MOST_COMPARED:
        raise SettingError(f"compare 2 to {MOST_COMPARED} runs; {len(paths)} are chosen.")
    runs = [Run.open(path) for path in paths]
    content: dict[str, Any] = {
        "rows": without_empty_columns(
            [_plain(readable(row_of(path, run.origin))) for path, run in zip(paths, runs, strict=True)]
        ),
        "differ": differing(runs),
        "curve": charts.curve(runs, {}) if measure else charts.recorded_curve(runs),
        "groups": [],
        "pairs": [],
        "notes": [],
        "bands": None,
        "scores": [],
        "ledgers": [],
        "players": any(player_returns_in(run.episodes.columns) for run in runs),
        "crossplay": played_together(paths[0].parent, [path.name for path in paths]),
    }
    if not measure:
        return content
    content["scores"] = [RETURN, EVALUATION, AREA, DECISIONS, *(m.name for m in describe(runs[0].environment).measures)]
    content["ledgers"] = [{"run": run.name, "chart": charts.ledger(run)} for run in runs[:MOST_LEDGERS]]
    try:
        comparison = compare(
            runs,
            by=question.by or None,
            score=question.score,
            over=question.over,  # type: ignore[arg-type]
            weights=_weights(runs, question.weights),
        )
    except JokulmistError as reason:
        content["notes"] = [str(reason)]
        return content
    content.update(
        groups=_records(comparison.table),
        pairs=_records(comparison.pairs),
        notes=comparison.notes,
        bands=_bands(comparison),
        by=comparison.by,
        value=comparison.value,
        over=comparison.over,
    )
    return content


def _weights(runs: list[Run], name: str) -> dict[str, float] | None:
    if not name:
        return None
    if name == DECLARED:
        return {}
    for run in runs:
        if run.name == name:
            return full_weights(run.environment)
    raise SettingError(f"`weights` is {name!r:.80}, which is none of the runs that are compared.")


def played_together(folder: Path, names: list[str]) -> dict[str, Any] | None:
    """How these runs did with each other, if they were let play together; rows play the first player."""
    picture = folder / cross_play.FILE
    try:
        head, rows = _table(picture.with_suffix(".csv"))
        cells = {(row[head[0]], row[head[1]]): _cell(row) for row in rows}
        matrix = [[cells[row, column] for column in names] for row in names]
    except UNREADABLE:
        return None  # they did not play yet, or somebody else wrote there
    try:
        _, rows = _table(picture.with_name(f"{picture.stem}-ratings.csv"))
        ratings = [{"run": row["run"], **{k: float(row[k]) for k in RATED}} for row in rows]
    except UNREADABLE:
        ratings = []  # of a game that nobody wins
    ratings = ratings if {row["run"] for row in ratings} == set(names) else []
    return {"first": head[0], "second": head[1], "names": names, "cells": matrix, "ratings": ratings}


def _table(file: Path) -> tuple[list[str], list[dict[str, str]]]:
    with plain_file(file).open(encoding="utf-8", newline="") as stream:
        reader = csv.DictReader(stream)
        return list(reader.fieldnames or ["", ""]), list(reader)


def _cell(row: dict[str, str]) -> dict[str, float]:
    mean, low, high = (float(row[name]) for name in ("mean_return", "ci95_low", "ci95_high"))
    return {"mean": mean, "half": 0.5 * (high - low)}


def _bands(comparison: Comparison) -> dict[str, Any]:
    """Each group's middle with its interval, as a chart."""
    middle = comparison.middle
    position_column = middle.columns[1]
    bands = []
    for k, (label, part) in enumerate(middle.groupby("group", sort=False)):
        band = charts.series(
            str(label), part[position_column], part["middle"] if "middle" in part else part.iloc[:, 2], k
        )
        if {"low", "high"} <= set(part.columns):
            band["low"], band["high"] = (
                charts.thinned(part[position_column], part[name])[1] for name in ("low", "high")
            )
        bands.append(band)
    over = "decisions" if comparison.over == "steps" else comparison.over
    return {"kind": "lines", "unit": comparison.value, "over": over, "series": bands}


def search(path: Path) -> dict[str, Any]:
    """A search: its candidates, the best first, and which settings mattered."""
    opened = Search.open(path)
    content: dict[str, Any] = {
        "name": path.name,
        "status": opened.status,
        "names": list(opened.question.space.names),
        "rows": [_plain(row) for row in opened.rows()],
        "importance": [],
    }
    try:
        table = opened.importance.table
        content["importance"] = _records(table)
    except (JokulmistError, AttributeError, ValueError):
        content["importance"] = []
    return content


# Episodes, step by step.


def recorded(path: Path, name: str) -> tuple[Scene, Environment]:
    """A recorded episode of a run, and its environment."""

    def read() -> tuple[Scene, Environment]:
        run = Run.open(path)
        return recorded_scene(run, name, with_mean=False), run.environment

    scene: tuple[Scene, Environment] = EPISODES.get((str(path), name, stamp_of(path)), read)
    return scene


def told_episode(rollout: Rollout, environment: Environment) -> dict[str, Any]:
    """An episode as columns of a table, one entry a moment; images and the state are left out."""
    description = describe(environment)
    images = {channel.name for channel in description.spec.images}
    skipped = ("run", "episode", "moment")
    columns = {
        name: [_value(value) for value in column]
        for name, column in rollout.table.items()
        if str(name) not in skipped and not str(name).startswith(STATE) and name not in images
    }
    return {
        "episode": rollout.episode,
        "steps": rollout.steps,
        "return": rollout.total,
        "closed_by": rollout.closed_by,
        "columns": columns,
        "seen": [c.name for c in description.spec.numbers],
        "terms": [t.name for t in description.terms],
        "weights": list(map(float, description.weights)),
        "environment": description.name,
    }


def policy_outputs(path: Path, rollout: Rollout, moment: int) -> dict[str, Any]:
    """What a run's newest policy says of a moment: probabilities or values, by label."""
    policy: Policy = POLICIES.get((str(path), tuple(checkpoints_of(path)[-1:])), lambda: Run.open(path).policy)
    if policy.spec.images or policy.spec.masked:
        return {}
    row = rollout.table.iloc[moment]
    seen = {c.name: row[c.name] for c in policy.spec.numbers}
    for kind, judge in (("chance", policy.probabilities), ("value", policy.values)):
        try:
            outputs = judge(seen)
        except (JokulmistError, KeyError, TypeError, ValueError):
            continue
        flat = {str(k): float(v) for k, v in outputs.items() if isinstance(v, (int, float, np.floating))}
        if flat:
            return {"kind": kind, "of": flat}
    return {}


def picture(scene: Scene, environment: Environment, moment: int) -> bytes:
    """A moment of an episode as a PNG."""
    if not 0 <= moment <= scene.rollout.steps:
        raise LookupFailed(f"the episode has the moments 0 to {scene.rollout.steps}; got {moment}.")
    return png(lambda axes: Still(axes, scene, environment).draw(moment))


def png(draw: Any) -> bytes:
    """A drawing on axes as a PNG."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=PICTURE_INCHES, dpi=100, layout="tight")
    FigureCanvasAgg(figure)
    draw(figure.add_subplot())
    sink = io.BytesIO()
    figure.savefig(sink, format="png")
    return sink.getvalue()


def _records(table: Any) -> list[dict[str, Any]]:
    return [_plain(row) for row in table.to_dict("records")]


def _plain(row: dict[str, Any]) -> dict[str, Any]:
    return {str(name): _value(value) for name, value in row.items()}


def _value(value: Any) -> Any:
    """A value as JSON has it; what is no number becomes None."""
    if isinstance(value, np.generic):
        value = value.item()
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    if isinstance(value, (list, tuple, np.ndarray)):
        return [_value(item) for item in value]
    return value if value is None or isinstance(value, (bool, int, str)) else str(value)
