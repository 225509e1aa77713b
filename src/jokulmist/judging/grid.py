"""Evaluation over a grid of parameter values: where does a policy break?"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from jokulmist.environments.declaration.instance import describe, outline_of, varied
from jokulmist.environments.environment import Environment
from jokulmist.errors import SettingError, listed, nearest
from jokulmist.judging.evaluate import RANDOM, Evaluation, evaluate
from jokulmist.loops.acting import Act
from jokulmist.loops.policy import Policy

if TYPE_CHECKING:
    import pandas as pd

MOST_PLACES = 400


@dataclass(frozen=True)
class EvaluationGrid:
    """What a policy, random play and the references reach at each place of a grid.

    Attributes
    ----------
    parameters, units : tuple of str
    places : list of dict
        The parameters' values at each place, the last one moving fastest.
    results : list of dict of str to Evaluation
        At each place, by who played.
    """

    name: str
    parameters: tuple[str, ...]
    units: tuple[str, ...]
    places: list[dict[str, Any]]
    results: list[dict[str, Evaluation]]

    @property
    def rows(self) -> list[dict[str, Any]]:
        """One row a place and player: values, who, mean return, its 95 % interval, spread, how most episodes closed."""
        rows = []
        for place, by_player in zip(self.places, self.results, strict=True):
            for player, result in by_player.items():
                low, high = result.interval
                closed = [str(name) for name in result.columns["closed_by"]]
                most = max(dict.fromkeys(closed), key=closed.count)
                rows.append(
                    {
                        **place,
                        "policy": player,
                        "mean_return": result.mean,
                        "ci95_low": low,
                        "ci95_high": high,
                        "sd": result.sd,
                        "closed_by": f"{most} {closed.count(most) / len(closed):.0%}",
                    }
                )
        return rows

    @property
    def table(self) -> pd.DataFrame:
        """The rows as a data frame."""
        import pandas as pd

        return pd.DataFrame(self.rows)


def evaluate_grid(
    policy: Policy,
    environment: Environment,
    over: Mapping[str, Sequence[float]],
    *,
    episodes: int = 50,
    seed: int = 0,
    act: Act = "greedy",
    beside: bool = True,
) -> EvaluationGrid:
    """Evaluate a policy at every combination of some parameters' values.

    Parameters
    ----------
    policy : Policy
    environment : Environment
        Whose other parameters hold everywhere.
    over : dict of str to sequence of float
        The values of one parameter or several.
    episodes, seed, act
        As `evaluate` takes them; episode i has the same draws at every place.
    beside : bool
        Whether random play and the references are measured, too.

    Returns
    -------
    EvaluationGrid
        With ``table``; `jm.pictures.plot_grid` draws it.

    Raises
    ------
    SettingError
        When a parameter is unknown or a value outside its bounds, or a policy does not fit there.

    Examples
    --------
    >>> import jokulmist as jm
    >>> run = jm.train(jm.gallery.Tarn(), jm.QLearning(bins=10), steps=2000, folder=None, lane="plain")
    >>> jm.evaluate_grid(run.policy, jm.gallery.Tarn(), {"melt": [0.5, 1.0]}, episodes=5).table.shape
    (6, 7)
    """
    if not isinstance(over, Mapping) or not over:
        raise SettingError(f'say over which parameters by a dict, e.g. `{{"melt": [0.5, 1.0]}}`; got {over!r:.80}.')
    outline = outline_of(type(environment))
    parameters = {p.name: p for p in outline.parameters}
    for name, values in over.items():
        if name not in parameters:
            raise SettingError(
                f"`over` names `{name}`, which is no parameter of `{describe(environment).name}`; there are "
                f"{listed(parameters)}.{nearest(name, parameters)}"
            )
        if not values:
            raise SettingError(f"`over` gives `{name}` no value. Write for instance `{{{name!r}: [1.0, 2.0]}}`.")
    places = [dict(zip(over, values, strict=True)) for values in itertools.product(*over.values())]
    if not over or len(places) > MOST_PLACES:
        raise SettingError(f"`over` must give from 1 to {MOST_PLACES} places; got {len(places)}.")
    units = tuple(parameters[name].unit for name in over)
    results, place_values = [], []
    for place in places:
        place_environment = varied(environment, **place)
        place_values.append({name: getattr(place_environment, name) for name in place})
        evaluations = {"policy": evaluate(policy, place_environment, episodes=episodes, seed=seed, act=act)}
        for player in (RANDOM, *outline.references) if beside else ():
            evaluations[player] = evaluate(player, place_environment, episodes=episodes, seed=seed)
        results.append(evaluations)
    return EvaluationGrid(describe(environment).name, tuple(over), units, place_values, results)
