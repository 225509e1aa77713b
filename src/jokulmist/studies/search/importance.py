"""Which settings mattered in a search: permutation importance on a model of the scores, with its uncertainty.

A forest is fitted to the candidates' scores, again and again without a fifth of them; how much worse it predicts the
scores that were held out when one setting is shuffled among them is how much that setting mattered (Breiman, 2001,
"Random forests", section 10). What it does not predict it cannot explain, so the share of the variance that it
predicts is told beside.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.varying import Between
from jokulmist.studies.search.candidates import FAILED, Board
from jokulmist.studies.search.settings import SearchSettings
from jokulmist.studies.search.space import Among, Settings, Space

if TYPE_CHECKING:
    import pandas as pd

FEWEST = 10
FOLDS, REPEATS, SHUFFLES, TREES = 5, 4, 5, 60
RESAMPLES = 2_000
SLICE_POINTS = 24
WEAK = 0.1
MODELS_DRAWN = 10


@dataclass(frozen=True)
class Importance:
    """What is known of the influence of the settings.

    Attributes
    ----------
    table : DataFrame
        A row a setting, the most important first: ``setting``, ``matters`` (the share of the scores' variance that can
        no longer be predicted when the setting is shuffled), ``low`` and ``high`` (95 %, by resampling candidates).
    explained : float
        The share of the variance of held-out scores that the model predicts; not a number with too few candidates.
    slices : DataFrame
        Long: for each ``setting`` and ``value`` what the model ``expected`` over all candidates, with ``low`` and
        ``high`` of the models.
    candidates : int
    note : str
        What a reader must know.
    """

    table: pd.DataFrame
    explained: float
    slices: pd.DataFrame
    candidates: int
    note: str


def importance_of(question: SearchSettings, board: Board) -> Importance:
    """Which settings mattered, of all candidates that were scored at the same length of training."""
    points, note = comparable(question, board)
    return fitted(question.space, [p[0] for p in points], np.array([p[1] for p in points]), note)


def comparable(question: SearchSettings, board: Board) -> tuple[list[tuple[Settings, float]], str]:
    """Settings and scores that may be compared: of equally long training."""
    seeds = question.seeds_each
    if question.alone:
        points = []
        for until in question.method.untils:
            points_at = [
                (_settings_at(c, until), s) for c in board.candidates if (s := c.score(until, seeds)) is not None
            ]
            middle = float(np.mean([s for _, s in points_at])) if points_at else 0.0
            points += [(settings, s - middle) for settings, s in points_at]
        return points, "scores are held against the mean of all members at the same look"
    most: list[tuple[Settings, float]] = []
    instalment = 0
    for until in question.method.untils:
        points_at = [
            (c.settings, s) for c in board.candidates if c.status != FAILED and (s := c.score(until, seeds)) is not None
        ]
        if len(points_at) > len(most):
            most, instalment = points_at, until
    return most, f"scores are those after {instalment:,} decisions, which most candidates reached" if instalment else ""


def _settings_at(candidate: Any, until: int) -> Settings:
    """What a member of a population trained with up to a look."""
    for past in candidate.history:
        if until and past["until"] and until <= past["until"]:
            settings: Settings = past["settings"]
            return settings
    own_settings: Settings = candidate.settings
    return own_settings


def fitted(space: Space, settings: list[Settings], scores: NumpyArray, note: str = "") -> Importance:
    """The influence of each setting on some scores."""
    import pandas as pd

    nothing = pd.DataFrame({"setting": space.names, **dict.fromkeys(("matters", "low", "high"), np.nan)})
    empty = pd.DataFrame(columns=["setting", "value", "expected", "low", "high"])
    count = len(settings)
    if count < FEWEST:
        words = (
            f"{count} candidates are too few to say which settings mattered; {FEWEST} are the least, and more say more"
        )
        return Importance(nothing, float("nan"), empty, count, words)
    spread = float(np.var(scores))
    if spread == 0.0:
        return Importance(nothing, float("nan"), empty, count, "all candidates scored the same: no setting mattered")
    places = np.stack([space.encoded(setting) for setting in settings])
    owners = np.array(space.columns())
    active = {name: np.array([name in setting for setting in settings]) for name in space.names}
    error, more, models = _errors(places, scores, owners, active)
    explained = 1.0 - float(error.mean()) / spread
    draw = np.random.default_rng(1)
    rows = []
    for name in space.names:
        worse = more[name] / spread
        resampled = worse[draw.integers(0, count, (RESAMPLES, count))].mean(axis=1)
        low, high = np.quantile(resampled, [0.025, 0.975])
        rows.append({"setting": name, "matters": float(worse.mean()), "low": float(low), "high": float(high)})
    table = pd.DataFrame(rows).sort_values("matters", ascending=False, kind="stable", ignore_index=True)
    notes = [note] if note else []
    if explained < WEAK:
        notes.append(
            f"the model predicts {max(explained, 0.0):.0%} of the scores' variance: the settings explain next to "
            "nothing here, or there are too few candidates"
        )
    return Importance(table, explained, _slices(space, settings, places, models, active), count, "; ".join(notes))


def _errors(
    places: NumpyArray, scores: NumpyArray, owners: NumpyArray, active: dict[str, NumpyArray]
) -> tuple[NumpyArray, dict[str, NumpyArray], list[Any]]:
    """The squared error on each candidate while it is held out, how much it grows when a setting is shuffled, and the
    models."""
    from sklearn.ensemble import RandomForestRegressor

    draw = np.random.default_rng(0)
    count = len(scores)
    error = np.zeros(count)
    more = {name: np.zeros(count) for name in active}
    models = []
    for repeat in range(REPEATS):
        for part in np.array_split(draw.permutation(count), FOLDS):
            rest = np.setdiff1d(np.arange(count), part)
            model = RandomForestRegressor(TREES, min_samples_leaf=2, random_state=repeat, n_jobs=1)
            model.fit(places[rest], scores[rest])
            models.append(model)
            plain = (model.predict(places[part]) - scores[part]) ** 2
            error[part] += plain / REPEATS
            for name, matters in active.items():
                rows = part[matters[part]]
                pool = rest[matters[rest]]  # a few held-out values alone would often be shuffled onto themselves
                if not len(rows) or len(pool) < 2:
                    continue
                shuffled = np.repeat(places[rows][None], SHUFFLES, axis=0)
                columns = np.flatnonzero(owners == name)
                for column in shuffled:
                    column[:, columns] = places[draw.choice(pool, len(rows))][:, columns]
                predicted = model.predict(shuffled.reshape(-1, places.shape[1])).reshape(SHUFFLES, len(rows))
                before = plain[matters[part]]
                more[name][rows] += (((predicted - scores[rows]) ** 2).mean(axis=0) - before) / REPEATS
    return error, more, models


def _slices(
    space: Space, settings: list[Settings], places: NumpyArray, models: list[Any], active: dict[str, NumpyArray]
) -> pd.DataFrame:
    """What the models expect at values of one setting, the others being those of the candidates."""
    import pandas as pd

    owners = np.array(space.columns())
    rows = []
    for name in space.names:
        active_rows = np.flatnonzero(active[name])
        if not len(active_rows):
            continue
        dimension = space.over[name]
        values = dimension.values if isinstance(dimension, Among) else tuple(space.spread(name, SLICE_POINTS))
        columns = np.flatnonzero(owners == name)
        moved = np.repeat(places[active_rows][None], len(values), axis=0)
        for point, value in zip(moved, values, strict=True):
            point[:, columns] = space.encoded({**settings[active_rows[0]], name: value})[columns]
        flat = moved.reshape(-1, places.shape[1])
        predicted = np.stack(
            [m.predict(flat).reshape(len(values), -1).mean(axis=1) for m in models[:: len(models) // MODELS_DRAWN]]
        )
        for value, expected in zip(values, predicted.T, strict=True):
            low, high = np.quantile(expected, [0.05, 0.95])
            label = value if isinstance(dimension, Between) else str(value)
            rows.append({"setting": name, "value": label, "expected": float(expected.mean()), "low": low, "high": high})
    return pd.DataFrame(rows)
