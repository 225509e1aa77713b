"""Texts of an environment inside of other languages: none of them ends a comment or a string, or begins a line of
code."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable
from typing import Any


def one_line(text: str) -> str:
    """Printable characters on one line; what is not becomes a space."""
    return "".join(char if char.isprintable() else " " for char in text).strip()


def c_comment(text: str) -> str:
    """For the inside of a comment of C or JavaScript: no end of it, no beginning of one, no trigraph, no line that goes
    on."""
    comment = one_line(text).replace("\\", "/")
    while "??" in comment or "*/" in comment or "/*" in comment:
        comment = comment.replace("??", "? ?").replace("*/", "* /").replace("/*", "/ *")
    return comment


def c_string(text: str) -> str:
    """A string of C, its characters as UTF-8; what is not plain ASCII as octal digits."""
    plain = set(range(0x20, 0x7F)) - set(b'"\\?')
    data = text.encode("utf-8", "replace")
    return '"' + "".join(chr(byte) if byte in plain else f"\\{byte:03o}" for byte in data) + '"'


def js_string(content: Any) -> str:
    """A string of JavaScript, or an object of them, in ASCII, which a page may hold, too."""
    return json.dumps(content).replace("<", "\\u003c")


def python_docstring(text: str) -> str:
    """For the inside of a docstring of Python."""
    return one_line(text).replace("\\", "/").replace('"', "'")


def markdown(text: str) -> str:
    """For a cell of a table, or a line."""
    return re.sub(r"([\\`*_{}\[\]<>|#])", r"\\\1", one_line(text))


def unique_names(names: Iterable[str], reserved: Iterable[str]) -> dict[str, str]:
    """Names as identifiers of C and JavaScript; those that would be the same get a number."""
    names_apart: dict[str, str] = {}
    used = set(reserved)
    for name in names:
        name_made = re.sub(r"\W", "_", name, flags=re.ASCII)
        name_made = f"_{name_made}" if not name_made or name_made[0].isdigit() else name_made
        unique, number = name_made, 1
        while unique in used:
            number += 1
            unique = f"{name_made}_{number}"
        used.add(unique)
        names_apart[name] = unique
    return names_apart
