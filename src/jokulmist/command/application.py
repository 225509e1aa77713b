"""The command line itself, and the statuses that its commands end with."""

from __future__ import annotations

import typer

DONE, FAILED, WRONG_WORDS, INTERRUPTED = 0, 1, 2, 130

app = typer.Typer(
    name="jokulmist",
    help="Declare a simulated environment, train agents on it, and see what was learned.",
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
)
