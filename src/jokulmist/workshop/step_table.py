"""Some steps of an environment as a table: what was, what was seen and done, what it brought, what closed it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.environments.chance.draws import Draw, PlainDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.environments.simulator import Simulator
from jokulmist.environments.spaces.player_actions import PlayerActions
from jokulmist.errors import LookupFailed, SettingError, listed, nearest
from jokulmist.judging.evaluate import RANDOM
from jokulmist.loops.policy import Policy

if TYPE_CHECKING:
    import pandas as pd

# Entries of an array that have a column each.
MOST_ENTRIES = 64


def tabulate_steps(
    environment: Environment, steps: int = 20, *, policy: Policy | str = RANDOM, seed: int = 0
) -> pd.DataFrame:
    """Play some steps and tell everything about each.

    Parameters
    ----------
    environment : Environment
    steps : int
        Decisions, over as many episodes as they take.
    policy : Policy or str
        Who plays: a policy (greedily), ``"random"``, or the name of a reference.
    seed : int
        Of the first episode; the others follow it.

    Returns
    -------
    DataFrame
        One row a decision: ``episode``, ``moment`` (decisions so far), ``action``, each weighted reward term,
        ``reward``, ``total``, the fields of the state after it, what is observed then (channels that are no fields, and
        fields that are seen otherwise, as ``seen:name``), the measures so far, and the endings and cuts that ``held``.
        Each entry of an array has a column, ``beams[0]``; images, and arrays of more than 64 entries, are told by their
        shape and range.

    Examples
    --------
    >>> import jokulmist as jm
    >>> jm.tabulate_steps(jm.gallery.Tarn(), 3, policy="sell_high")[["moment", "action"]].shape
    (3, 2)
    """
    if isinstance(steps, bool) or not isinstance(steps, int) or steps < 1:
        raise SettingError(f"`steps` must be a whole number above 0; got {steps!r}.")
    references = describe(environment).outline.references
    if isinstance(policy, Policy):
        policy.fits(environment)
    elif policy != RANDOM and policy not in references:
        options = [RANDOM, *references]
        raise LookupFailed(
            f"`{describe(environment).name}` has no reference `{policy}`; there are {listed(options)}."
            f"{nearest(policy, options)}"
        )
    draw = PlainDraw(Noise(seed, 1, Domain.HAND), Stream.PLAY)
    rows: list[dict[str, Any]] = []
    number, episode = 0, environment.episode(seed)
    for turn in range(steps):
        action = _action(environment, episode, policy, draw.for_step(turn, 0))
        episode.act(action)
        rows.append(row_of(environment, number, episode, action))
        if episode.over:
            number, episode = number + 1, environment.episode(seed + number + 1)
    import pandas as pd

    return pd.DataFrame(rows)


def _action(environment: Environment, episode: Any, policy: Policy | str, draw: Draw) -> Any:
    if isinstance(policy, Policy):
        chosen = policy.choose_in(episode)
    elif policy == RANDOM:
        chosen = describe(environment).action.random(draw, episode.mask or None)
    else:
        chosen = getattr(environment, policy)(episode.state)
    return describe(environment).action.native(chosen)


def row_of(environment: Environment, number: int, episode: Any, action: Any) -> dict[str, Any]:
    """What the decision taken last led to, in one row; `action` is in own form."""
    action_space = describe(environment).action
    seen = episode.observation
    state = {} if isinstance(environment, Simulator) else episode.state.__dict__
    row: dict[str, Any] = {
        "episode": number,
        "moment": episode.steps,
        "action": action_space.label_of(episode.decided, action)
        if isinstance(action_space, PlayerActions)
        else action_space.label(action),
        **episode.terms,
        "reward": episode.reward,
        "total": episode.total,
    }
    for name, value in state.items():
        row.update(_format_entries(name, value))
    for name in seen.keys():  # noqa: SIM118  an observation is no mapping
        if name not in state:
            row.update(_format_entries(name, seen[name]))
        elif not np.array_equal(np.asarray(seen[name], float), np.asarray(state[name], float)):
            row.update(_format_entries(f"seen:{name}", seen[name]))
    row.update(episode.measures)
    row["held"] = " ".join(episode.satisfied)
    return row


def _format_entries(name: str, value: Any) -> dict[str, Any]:
    """A value by name, an array by the names of its entries."""
    array = np.asarray(value)
    if array.shape == ():
        return {name: array.item()}
    if array.size <= MOST_ENTRIES:
        return {f"{name}[{','.join(map(str, index))}]": array[index].item() for index in np.ndindex(array.shape)}
    return {name: f"{array.dtype} {array.shape}, {array.min():.4g} to {array.max():.4g}"}
