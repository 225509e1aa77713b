"""What a simulator tells of one advance."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True)
class Outcome:
    """What a simulator tells after an advance.

    Parameters
    ----------
    observation : mapping
        A value a channel.
    terms : mapping, optional
        Unweighted amounts of this advance by reward term; those that are left out are 0.
    closed_by : str, optional
        The ending or cut that closed the episode.
    measures : mapping, optional
        Amounts of this advance by measure; those that are left out are 0.
    legal : array, or mapping of arrays by part, optional
        Truth values of what may be done next; everything where it is left out. Of several players a dict by player.
    turn : int or str, optional
        Of several players the one who decides next, by index or name; all who are not out where it is left out.
    out : tuple of int or str, optional
        Of several players those who are out from now on, and all who were out before.

    Examples
    --------
    >>> import jokulmist as jm
    >>> told = jm.Outcome({"height": 2.0}, terms={"calm": 1.0})  # it goes on
    >>> jm.Outcome({"height": 0.0}, terms={"calm": -5.0}, closed_by="aground").closed_by
    'aground'
    """

    observation: Mapping[str, Any]
    terms: Mapping[str, float] = field(default_factory=dict)
    closed_by: str | None = None
    measures: Mapping[str, float] = field(default_factory=dict)
    legal: Any = None
    turn: int | str | None = None
    out: tuple[int | str, ...] = ()
