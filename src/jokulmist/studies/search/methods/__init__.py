"""The methods of a search. Each says which candidate is to be trained next and how far; none knows how that is done."""

from __future__ import annotations

from typing import Any

from jokulmist.studies.search.methods.gaussian_process import GaussianProcess
from jokulmist.studies.search.methods.halving import Halving
from jokulmist.studies.search.methods.population import Population
from jokulmist.studies.search.methods.protocol import Method
from jokulmist.studies.search.methods.simple import Grid, Random

METHODS: dict[str, Any] = {
    "grid": Grid,
    "random": Random,
    "halving": Halving,
    "gaussian-process": GaussianProcess,
    "population": Population,
}

__all__ = ["METHODS", "Method"]
