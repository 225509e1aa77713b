"""What random play and the references reach, kept between processes: every picture, report and evaluation compares with
it."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from jokulmist.environments.declaration.environment import Environment, describe
from jokulmist.training.evaluation.evaluate import Evaluation, evaluate, evaluate_references, with_optimum
from jokulmist.training.plans.fingerprint import fingerprint, keep, kept_place, surroundings

REFERENCES = "references"
# Played again before what is kept is believed: a class may read what its code does not show, such as a file of numbers.
TRIED = 4
MOST_KEPT = 200


def _as_text(columns: dict[str, Any]) -> dict[str, Any]:
    """Columns of an evaluation as JSON holds them, with their types; numbers come back as they were, bit for bit."""
    arrays = {name: np.asarray(own) for name, own in columns.items()}
    return {name: [own.dtype.str, own.tolist()] for name, own in arrays.items()}


def _from_text(told: dict[str, Any]) -> dict[str, Any]:
    """The columns that `_as_text` wrote."""
    return {name: np.array(values, np.dtype(kind)) for name, (kind, values) in told.items()}


def known_references(environment: Environment, episodes: int = 100, seed: int = 1) -> dict[str, Evaluation]:
    """As `evaluate_references`, of which all but the first episodes are read where another process has played them.

    They are kept under all that decides them: the code, parameters, weights and modifiers of the environment, this
    library and NumPy. Classes whose code is nowhere are played anew.
    """
    key = fingerprint(environment)
    if not isinstance(key, str) or episodes <= TRIED:
        return evaluate_references(environment, episodes, seed)
    place = kept_place(REFERENCES) / f"{key}-{surroundings()}-{episodes}-{seed}.json"
    found = _read(place, environment, seed)
    if found is None:
        found = evaluate_references(environment, episodes, seed)
        told = {name: _as_text(own.columns) for name, own in found.items() if own.exact is None}
        keep(place, json.dumps(told).encode(), MOST_KEPT)
        return found
    return with_optimum(found, environment, episodes, seed)


def _read(place: Path, environment: Environment, seed: int) -> dict[str, Evaluation] | None:
    """What is kept, if the first episodes come out the same."""
    try:
        told = json.loads(place.read_text(encoding="utf-8"))
        kept = {name: _from_text(columns) for name, columns in told.items()}
    except (OSError, ValueError, TypeError, AttributeError):  # not there, or damaged
        return None
    found = {}
    for name, columns in kept.items():
        again = evaluate(name, environment, episodes=TRIED, seed=seed)
        first = {one: own[:TRIED] for one, own in columns.items()}
        if json.dumps(_as_text(first)) != json.dumps(_as_text(again.columns)):
            return None
        found[name] = replace(again, columns=columns)
    return found if list(found) == ["random", *describe(environment).outline.references] else None
