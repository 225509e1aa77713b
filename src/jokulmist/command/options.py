"""Arguments and options that several commands have."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Optional

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
Folder = Annotated[Path, typer.Option("--folder", help="The folder of the runs.")]
RunFolder = Annotated[Path, typer.Argument(metavar="RUN", help="The folder of a run.")]
Current = Annotated[
    bool,
    typer.Option("--current", help="Use the code as it is now, not the code that the run keeps, and say what differs."),
]
Set = Annotated[
    Optional[list[str]],  # noqa: UP045  typer reads it at run time
    typer.Option(
        "--set",
        metavar="SECTION.NAME=VALUE",
        help="Change one value of the plan, e.g. environment.melt=2. Repeat it for more.",
    ),
]


With = Annotated[
    Optional[list[str]],  # noqa: UP045
    typer.Option(
        "--with",
        metavar="PLAYER=RUN",
        help="A run, or `random`, that plays one of several players. Repeat it for more.",
    ),
]
