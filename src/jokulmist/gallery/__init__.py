"""The shipped environments: one made-up fjord settlement under a glacier. Every name and number is invented.

>>> import jokulmist as jm
>>> jm.gallery.Tarn(melt=0.8).action
Choice('hold', 'half', 'full')
"""

from __future__ import annotations

from importlib import import_module
from typing import Any

# Name on the command line -> where the class is.
SHIPPED: dict[str, tuple[str, str]] = {
    "tarn": ("jokulmist.gallery.tarn", "Tarn"),
    "tarn-whole": ("jokulmist.gallery.tarn", "WholeTarn"),
    "ferry": ("jokulmist.gallery.ferry", "Ferry"),
    "winch": ("jokulmist.gallery.winch", "Winch"),
    "greenhouse": ("jokulmist.gallery.greenhouse", "Greenhouse"),
    "skerry": ("jokulmist.gallery.skerry", "Skerry"),
    "aurora": ("jokulmist.gallery.aurora", "Aurora"),
    "haul": ("jokulmist.gallery.haul", "Haul"),
    "lots": ("jokulmist.gallery.lots", "Lots"),
}
__all__ = ["SHIPPED", "Aurora", "Ferry", "Greenhouse", "Haul", "Lots", "Skerry", "Tarn", "Winch", "WholeTarn"]


def __getattr__(name: str) -> Any:
    for module, cls in SHIPPED.values():
        if cls == name:
            return getattr(import_module(module), cls)
    raise AttributeError(f"the gallery has no `{name}`; it has {', '.join(cls for _, cls in SHIPPED.values())}")
