"""The command line itself, and the statuses that its commands end with."""

from __future__ import annotations

from typing import Any

import typer
from typer.core import TyperGroup

DONE, FAILED, WRONG_WORDS, INTERRUPTED = 0, 1, 2, 130
# The commands as the help lists them, by what one wants to do.
GROUPS = {
    "Begin": {
        "tour": "A full example on the shipped data, in a minute or two.",
        "gallery": "The shipped environments, a line each.",
        "new": "Write a small environment, a plan for it, and a test.",
        "check": "Look for mistakes in an environment; solve it exactly.",
        "play": "Play by hand in the terminal, or watch a policy.",
    },
    "Train": {
        "train": "Train one run, or one a seed.",
        "tune": "Search for settings.",
        "resume": "Go on with a run or a search, or beside other partners.",
        "redo": "Do a run again from its record: is it the same?",
        "queue": "What waits and what is worked on; work, move, pause, drop.",
    },
    "Look": {
        "runs": "A table of the runs, with the progress of those at work.",
        "live": "A page in the browser: look, start, stop, compare, play.",
        "evaluate": "Episodes without exploration; several runs play together.",
        "replay": "Show episodes, recorded or fresh, side by side.",
        "report": "One HTML page of a run, to keep or to send.",
        "compare": "Lay groups of runs side by side: is it better, or luck?",
    },
    "Leave": {
        "export": "Write a policy to run without this library.",
        "serve": "Put policies behind a port.",
    },
}


class Commands(TyperGroup):
    """All commands, listed by `GROUPS`."""

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        width = max(len(name) for texts in GROUPS.values() for name in texts)
        for title, texts in GROUPS.items():
            with formatter.section(title):
                formatter.write_dl([(f"{name:{width}}", text) for name, text in texts.items()])


app = typer.Typer(
    name="jokulmist",
    cls=Commands,
    help="Declare a simulated environment, train agents on it, and see what was learned.",
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
)
