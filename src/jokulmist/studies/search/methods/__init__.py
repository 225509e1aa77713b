"""The methods of a search. Each says which candidate is to be trained next and how far; none knows how that is done."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from jokulmist.errors import SettingError, listed, nearest
from jokulmist.loading import function_named, name_of
from jokulmist.studies.search.methods.gaussian_process import GaussianProcess
from jokulmist.studies.search.methods.halving import Halving
from jokulmist.studies.search.methods.population import Population
from jokulmist.studies.search.methods.protocol import Method, SearchMethod
from jokulmist.studies.search.methods.simple import GridSearch, Random

METHODS: dict[str, Any] = {
    "grid": GridSearch,
    "random": Random,
    "halving": Halving,
    "gaussian-process": GaussianProcess,
    "population": Population,
}


_REGISTERED: dict[str, type[SearchMethod]] = {}  # classes that were handed over: they need not be found by their name


def method_use(method: Any) -> str:
    """A method as a plan names it: a word, or ``file.py:Name`` of one's own; its class may be given, too."""
    if isinstance(method, type) and issubclass(method, SearchMethod):
        use = next((word for word, shipped in METHODS.items() if shipped is method), name_of(method))
        _REGISTERED[use] = method
        return use
    if not isinstance(method, str) or (method not in METHODS and ":" not in method):
        raise SettingError(
            f"`method` of `tuning` is no search method: {method!r}; there are "
            f"{listed(METHODS)}.{nearest(str(method), METHODS)} For your own "
            f"write `file.py:Name`, a class that derives from `jm.parts.SearchMethod`."
        )
    return method


def method_named(use: str, base: Path | None = None) -> Any:
    """The class that a plan names."""
    if use in METHODS or use in _REGISTERED:
        return METHODS.get(use) or _REGISTERED[use]
    function = function_named(use, base)
    if not (isinstance(function, type) and issubclass(function, SearchMethod)):
        raise SettingError(f"`{use}` is no search method; derive it from `jm.parts.SearchMethod`.")
    return function


__all__ = ["METHODS", "Method", "SearchMethod", "method_named", "method_use"]
