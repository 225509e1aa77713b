"""What a method's setting `novelty` may say."""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, ConfigDict, Field, PlainSerializer, field_validator

from jokulmist.settings import Settings


class Novelty(Settings):
    """A reward for what was seldom met, added to what is learned from: for tasks whose reward hardly ever comes.

    It is never part of the returns that are recorded, and fades as things become known.

    Parameters
    ----------
    weight : float
        What something wholly new is worth, in the units of the reward: by counts ``weight / sqrt(n)``; by distillation
        in spreads of its own discounted returns. A tenth of what the goal pays suits a network; for a table a
        hundredth, because it begins as if everything were new for a hundred decisions.
    by : {"counts", "distillation"}, optional
        Counts of what was done where (Strehl and Littman, 2008, equation 4): by whole numbers and bins. Or how badly a
        network that learns predicts a network that stays as it began (Burda et al., 2019, equation 1). By default
        counts for tables and where all that is seen are whole numbers, a million entries at most; else distillation.
    bins : int
        Equal bins of each number that is counted; whole numbers have one bin a value. A table has its own.
    discount : float, in [0, 1]
        Of the returns that distillation is scaled by, and of the value that a method which learns a policy has of
        novelty alone. That value goes on over the end of an episode, and such a method learns from how much better than
        it what followed was.
    learning_rate : float
        Of the network that predicts, and of that value's.

    Examples
    --------
    >>> Novelty(0.5)
    Novelty(weight=0.5)
    """

    model_config = ConfigDict(defer_build=True)
    example = "jm.Novelty(0.5)"

    weight: float = 0.1
    by: Literal["counts", "distillation"] | None = None
    bins: Annotated[int, Field(ge=1, le=10_000, strict=True)] = 10
    discount: Annotated[float, Field(ge=0.0, le=1.0)] = 0.99
    learning_rate: float = 1e-3

    def __init__(self, weight: float = 0.1, **settings: Any) -> None:
        super().__init__(**{**settings, "weight": weight})

    @field_validator("weight", "learning_rate")
    @classmethod
    def _above_zero(cls, value: float) -> float:
        if not 0.0 < value < math.inf:
            raise ValueError("must be above 0")
        return value

    def __repr__(self) -> str:
        fields = type(self).model_fields
        settings = [f"{name}={value!r}" for name, value in self if name == "weight" or value != fields[name].default]
        return f"Novelty({', '.join(settings)})"

    __str__ = __repr__


def _read(value: Any) -> Any:
    if value is None or isinstance(value, Novelty):
        return value
    if isinstance(value, dict):
        try:
            return Novelty(**value)
        except TypeError as wrong:
            raise ValueError(str(wrong)) from None
    raise ValueError("must be `jm.Novelty(0.5)`, or in a plan `{ weight = 0.5 }`")


def _write(novelty: Any) -> Any:
    return None if novelty is None else novelty.model_dump(mode="json", exclude_none=True)


NoveltySetting = Annotated[Any, BeforeValidator(_read), PlainSerializer(_write)]
