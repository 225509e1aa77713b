"""What names, units and labels may be, wherever they are read from."""

from __future__ import annotations

from typing import Any

from jokulmist.errors import DeclarationError

LONGEST = 200


def checked_text(given: Any, what: str) -> str:
    """A unit or a label: printable characters on one line."""
    if not isinstance(given, str) or not given.isprintable() or len(given) > LONGEST:
        raise DeclarationError(
            f"{what} is text of at most {LONGEST} printable characters on one line; got {given!r:.60}."
        )
    return given


def checked_shape(given: Any) -> tuple[int, ...]:
    """A shape: a whole number, or several."""
    sizes = tuple(given) if isinstance(given, (list, tuple)) else (given,)
    if not all(isinstance(size, int) and not isinstance(size, bool) and size > 0 for size in sizes):
        raise DeclarationError(
            f"a shape is a whole number above 0, or several, e.g. `shape=(2, 3)`; got {given!r:.60}."
        )
    return sizes


def checked_name(given: Any, what: str) -> str:
    """A name, or several with points between them."""
    name = given if isinstance(given, str) and len(given) <= LONGEST else ""
    if not all(part.replace("_", "a").isalnum() for part in name.split(".")):
        raise DeclarationError(f"{what} is a name of letters, digits and underscores; got {given!r:.60}.")
    return name
