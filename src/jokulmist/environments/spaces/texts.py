"""What names, units and labels may be, wherever they are read from."""

from __future__ import annotations

from typing import Any

from jokulmist.errors import DeclarationError

LONGEST = 200


def checked_text(value: Any, subject: str) -> str:
    """A unit or a label: printable characters on one line."""
    if not isinstance(value, str) or not value.isprintable() or len(value) > LONGEST:
        raise DeclarationError(
            f"{subject} is text of at most {LONGEST} printable characters on one line; got {value!r:.60}."
        )
    return value


def checked_shape(value: Any) -> tuple[int, ...]:
    """A shape: a whole number, or several."""
    sizes = tuple(value) if isinstance(value, (list, tuple)) else (value,)
    if not all(isinstance(size, int) and not isinstance(size, bool) and size > 0 for size in sizes):
        raise DeclarationError(
            f"a shape is a whole number above 0, or several, e.g. `shape=(2, 3)`; got {value!r:.60}."
        )
    return sizes


def checked_name(value: Any, subject: str) -> str:
    """A name, or several with points between them."""
    name = value if isinstance(value, str) and len(value) <= LONGEST else ""
    if not all(part.replace("_", "a").isalnum() for part in name.split(".")):
        raise DeclarationError(f"{subject} is a name of letters, digits and underscores; got {value!r:.60}.")
    return name
