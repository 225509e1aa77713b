"""How an object is shown in a notebook: a heading, facts, tables and a line, as HTML without scripts that takes the
page's own letters and colours."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from functools import wraps
from html import escape
from itertools import pairwise
from typing import Any

MOST_ROWS = 12
WIDTH, HEIGHT = 420, 90
CELL = "padding:1px 12px 1px 0;text-align:left;border:none;vertical-align:top"


def html_card(title: str, facts: Mapping[str, Any], *parts: str) -> str:
    """The HTML of one object."""
    rows = "".join(
        f'<tr><td style="{CELL};opacity:.65">{escape(name)}</td><td style="{CELL}">{format_value(value)}</td></tr>'
        for name, value in facts.items()
    )
    return f'<div><strong>{escape(title)}</strong><table style="margin:4px 0">{rows}</table>{"".join(parts)}</div>'


def format_value(value: Any) -> str:
    """One value, for a cell."""
    if isinstance(value, bool) or value is None:
        return {True: "yes", False: "no", None: ""}[value]
    if isinstance(value, int):
        return f"{value:,}"
    if isinstance(value, float):
        return "" if math.isnan(value) else f"{value:.4g}"
    return escape(str(value))


def table(rows: Sequence[Mapping[Any, Any]], caption: str = "", most: int = MOST_ROWS) -> str:
    """Rows with the same names as a table; of many the first ones, and how many are left out."""
    if not rows:
        return ""
    head = "".join(f'<th style="{CELL}">{escape(str(name))}</th>' for name in rows[0])
    body = "".join(
        "<tr>" + "".join(f'<td style="{CELL}">{format_value(value)}</td>' for value in row.values()) + "</tr>"
        for row in rows[:most]
    )
    more = f'<div style="opacity:.65">and {len(rows) - most:,} more</div>' if len(rows) > most else ""
    above = f'<div style="opacity:.65;margin-top:6px">{escape(caption)}</div>' if caption else ""
    return f'{above}<table style="margin:2px 0"><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table>{more}'


def without_empty_columns(rows: Sequence[Mapping[str, Any]]) -> list[dict[str, Any]]:
    """Rows of a table without the columns in which nothing stands."""
    names = [name for name in rows[0] if any(row[name] != "" for row in rows)] if rows else []
    return [{name: row[name] for name in names} for row in rows]


def line(values: Sequence[float], caption: str) -> str:
    """A small line of numbers from left to right, with its least and its most."""
    finite = [float(value) for value in values if math.isfinite(value)]
    if len(finite) < 2:
        return ""
    low, high = min(finite), max(finite)
    span = high - low or 1.0
    points = " ".join(
        f"{WIDTH * k / (len(finite) - 1):.1f},{HEIGHT - 6 - (HEIGHT - 12) * (value - low) / span:.1f}"
        for k, value in enumerate(finite)
    )
    return (
        f'<div style="opacity:.65;margin-top:6px">{escape(caption)}: {low:.4g} to {high:.4g}, last '
        f"{finite[-1]:.4g}</div>"
        f'<svg width="{WIDTH}" height="{HEIGHT}" role="img" aria-label="{escape(caption)}">'
        f'<polyline points="{points}" fill="none" stroke="currentColor" stroke-width="1.5"/></svg>'
    )


def means_of(values: Sequence[float], parts: int = 120) -> list[float]:
    """Means of as many equal stretches, for a line of what is many."""
    count = len(values)
    cuts = [count * k // min(parts, count) for k in range(min(parts, count) + 1)] if count else [0]
    return [sum(values[a:b]) / (b - a) for a, b in pairwise(cuts)]


def safely(method: Callable[[Any], str]) -> Callable[[Any], str]:
    """A cell shows the short text of an object whose files are gone, and no traceback."""

    @wraps(method)
    def shows(self: Any) -> str:
        try:
            return method(self)
        except Exception as failure:
            return f"<div>{escape(repr(self))}<br>{escape(str(failure))}</div>"

    return shows
