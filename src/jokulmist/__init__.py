"""Jokulmist: declare a simulated environment, train agents on it, and see what was learned.

``import jokulmist as jm`` and use the names below. Each is bound on first use, so that importing the package loads
nothing heavy.
"""

from __future__ import annotations

import re
from importlib import import_module
from pathlib import Path
from typing import Any

__version__ = "0.2.0"

# The stub is the one list of names: a type checker reads it, and here it says where each name is.
_STUB = Path(__file__).with_suffix(".pyi").read_text(encoding="utf-8")
_HOMES = {name: home for home, name in re.findall(r"^from (jokulmist\.\S+) import (\w+) as", _STUB, re.M)}
_MODULES = tuple(re.findall(r"^from jokulmist import (\w+) as", _STUB, re.M))
__all__ = ["__version__", *_HOMES, *_MODULES]


def __getattr__(name: str) -> Any:
    if name in _MODULES:
        return import_module(f"jokulmist.{name}")
    if name not in _HOMES:
        from jokulmist.errors import nearest

        raise AttributeError(f"jokulmist has no `{name}`.{nearest(name, __all__)}")
    value = getattr(import_module(_HOMES[name]), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted(__all__)
