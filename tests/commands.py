"""The command line in this process: what a person types, and what comes back."""

import contextlib
import io
from typing import NamedTuple

from jokulmist.command.main import main


class Done(NamedTuple):
    """A command that has ended."""

    returncode: int
    stdout: str
    stderr: str


def jokulmist(*words, folder="."):
    """Run a command in a folder; where a process of its own matters, a test starts one itself."""
    out, said, status = io.StringIO(), io.StringIO(), 0
    with contextlib.chdir(folder), contextlib.redirect_stdout(out), contextlib.redirect_stderr(said):
        try:
            main([str(word) for word in words])
        except SystemExit as ended:
            status = ended.code or 0
    return Done(status, out.getvalue(), said.getvalue())
