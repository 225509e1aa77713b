"""What random play and the references reach, kept between processes: every picture, report and evaluation compares with
it."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.judging.evaluate import Evaluation, evaluate, evaluate_references, with_optimum
from jokulmist.plans.fingerprint import cache_place, fingerprint, store_cached, surroundings

REFERENCES = "references"
# Played again before what is kept is believed: a class may read what its code does not show, such as a file of numbers.
TRIED = 4
MOST_KEPT = 200


def _as_text(columns: dict[str, Any]) -> dict[str, Any]:
    """Columns of an evaluation as JSON holds them, with their types; numbers come back as they were, bit for bit."""
    arrays = {name: np.asarray(array) for name, array in columns.items()}
    return {name: [array.dtype.str, array.tolist()] for name, array in arrays.items()}


def _from_text(columns: dict[str, Any]) -> dict[str, Any]:
    """The columns that `_as_text` wrote."""
    return {name: np.array(values, np.dtype(kind)) for name, (kind, values) in columns.items()}


def known_references(environment: Environment, episodes: int = 100, seed: int = 0) -> dict[str, Evaluation]:
    """As `evaluate_references`, of which all but the first episodes are read where another process has played them.

    They are kept under all that decides them: the code, parameters, weights and modifiers of the environment, this
    library and NumPy. Classes whose code is nowhere are played again.
    """
    key = fingerprint(environment)
    if not isinstance(key, str) or episodes <= TRIED:
        return evaluate_references(environment, episodes, seed)
    place = cache_place(REFERENCES) / f"{key}-{surroundings()}-{episodes}-{seed}.json"
    evaluations = _read(place, environment, seed)
    if evaluations is None:
        evaluations = evaluate_references(environment, episodes, seed)
        content = {
            name: _as_text(evaluation.columns) for name, evaluation in evaluations.items() if evaluation.exact is None
        }
        store_cached(place, json.dumps(content).encode(), MOST_KEPT)
        return evaluations
    return with_optimum(evaluations, environment, episodes, seed)


def _read(place: Path, environment: Environment, seed: int) -> dict[str, Evaluation] | None:
    """What is kept, if the first episodes come out the same."""
    try:
        content = json.loads(place.read_text(encoding="utf-8"))
        cached = {name: _from_text(columns) for name, columns in content.items()}
    except (OSError, ValueError, TypeError, AttributeError):  # not there, or damaged
        return None
    evaluations = {}
    for name, columns in cached.items():
        replayed = evaluate(name, environment, episodes=TRIED, seed=seed)
        first = {name_: column[:TRIED] for name_, column in columns.items()}
        if json.dumps(_as_text(first)) != json.dumps(_as_text(replayed.columns)):
            return None
        evaluations[name] = replace(replayed, columns=columns)
    return evaluations if list(evaluations) == ["random", *describe(environment).outline.references] else None
