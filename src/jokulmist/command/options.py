"""Arguments and options that several commands have."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from jokulmist.command.ending import trusting

Env = Annotated[
    str,
    typer.Argument(
        metavar="ENV",
        help=(
            "A gallery name, path/to/file.py:Class, package.module:Class, or a plan with its parameters and modifiers."
        ),
    ),
]


Trust = Annotated[
    bool,
    typer.Option(
        "--trust", callback=trusting, help="Let the code run that a folder from elsewhere keeps, now and later."
    ),
]
AsJson = Annotated[bool, typer.Option("--json", help="Write JSON to standard output.")]
Dry = Annotated[
    bool, typer.Option("--dry", help="Print what would be trained and how long it would take, and train nothing.")
]
Queued = Annotated[
    bool, typer.Option("--queue", help="Let it wait for a worker (see `jokulmist queue work`) and return at once.")
]
Folder = Annotated[Path, typer.Option("--folder", help="The folder of the runs.")]
RunFolder = Annotated[Path, typer.Argument(metavar="RUN", help="The folder of a run.")]
Current = Annotated[
    bool,
    typer.Option("--current", help="Use the code as it is now, not the code that the run keeps, and say what differs."),
]
Set = Annotated[
    list[str] | None,
    typer.Option(
        "--set",
        metavar="SECTION.NAME=VALUE",
        help="Change one value of the plan, e.g. environment.melt=2. Repeat it for more.",
    ),
]


With = Annotated[
    list[str] | None,
    typer.Option(
        "--with",
        metavar="PLAYER=RUN",
        help="A run, or `random`, that plays one of several players. Repeat it for more.",
    ),
]
