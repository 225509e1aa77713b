"""What a command says while one waits: the last word on a terminal, nothing elsewhere."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any


@contextmanager
def telling() -> Iterator[Callable[[str], Any]]:
    """A function that shows a text in place of the one before."""
    from rich.console import Console

    console = Console(stderr=True, highlight=False)
    if not console.is_terminal:
        yield lambda text: None
        return
    with console.status("") as status:
        yield lambda text: status.update(text)
