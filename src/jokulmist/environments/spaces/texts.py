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


def checked_name(given: Any, what: str) -> str:
    """A name, or several with points between them."""
    if not isinstance(given, str) or len(given) > LONGEST or not all(part.isidentifier() for part in given.split(".")):
        raise DeclarationError(f"{what} is a name of letters, digits and underscores; got {given!r:.60}.")
    return given
