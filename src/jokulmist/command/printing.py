"""Tables and JSON on standard output."""

from __future__ import annotations

import json
import math
import sys
from collections.abc import Mapping, Sequence
from typing import Any

import typer

from jokulmist.cells import without_empty_columns
from jokulmist.errors import printable

PIPED_WIDTH = 140
# Names of columns in JSON, and what a person reads above them.
TITLES = {"ci95_low": "95 % from", "ci95_high": "to", "agent.use": "method", "environment.use": "environment"}


def console() -> Any:
    """Standard output; wide enough for tables where it is no terminal."""
    from rich.console import Console

    return Console(highlight=False, width=None if sys.stdout.isatty() else PIPED_WIDTH)


def print_json(content: Any) -> None:
    """JSON with null for what is not a number."""
    typer.echo(json.dumps(_finite(content), indent=2, ensure_ascii=False))


def _finite(value: Any) -> Any:
    if isinstance(value, Mapping):
        return {str(k): _finite(v) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [_finite(v) for v in value]
    if hasattr(value, "item"):
        value = value.item()
    return None if isinstance(value, float) and not math.isfinite(value) else value


def print_table(rows: Sequence[Mapping[str, Any]]) -> None:
    """Rows as a table; numbers to the right, and no column in which nothing stands."""
    from rich.table import Table

    rows = without_empty_columns(rows)
    table = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))
    for name, first in rows[0].items():
        number = isinstance(first, (int, float)) and not isinstance(first, bool)
        table.add_column(
            TITLES.get(name, name.replace("_", " ")), justify="right" if number else "left", overflow="fold"
        )
    decimals = {name: _decimals([row[name] for row in rows]) for name in rows[0]}
    for row in rows:
        table.add_row(*[_cell(value, decimals[name]) for name, value in row.items()])
    console().print(table)


def print_wide(rows: Sequence[Mapping[str, Any]], keys: Sequence[str]) -> None:
    """Rows of many columns, as several tables that fit, each with the `keys` in front."""
    names = [name for name in rows[0] if name not in keys]
    wide = {name: _width(name, [row[name] for row in rows]) for name in rows[0]}
    room = console().width - sum(wide[name] for name in keys)
    while names:
        count, width = 0, 0
        while count < len(names) and (count == 0 or width + wide[names[count]] <= room):
            width += wide[names[count]]
            count += 1
        print_table([{name: row[name] for name in (*keys, *names[:count])} for row in rows])
        names = names[count:]
        if names:
            typer.echo()


def _width(name: str, column: Sequence[Any]) -> int:
    decimals = _decimals(column)
    return 2 + max(len(name), *(len(_cell(value, decimals)) for value in column))


def _decimals(column: Sequence[Any]) -> int:
    """Digits behind the point that give the largest number of a column four digits."""
    sizes = [abs(value) for value in column if isinstance(value, float) and math.isfinite(value)]
    largest = max(sizes, default=0.0)
    return min(6, max(0, 3 - math.floor(math.log10(largest)))) if largest > 0 else 1


def _cell(value: Any, decimals: int) -> str:
    if isinstance(value, float):
        if value and abs(value) < 0.5 * 10.0**-decimals:  # not the same as nothing
            return f"{value:.1g}"
        return "-" if math.isnan(value) else f"{value:.{decimals}f}"
    return (
        f"{value:,}"
        if isinstance(value, int) and not isinstance(value, bool)
        else printable(str(value)).replace("\n", " ")
    )
