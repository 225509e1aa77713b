"""The command line in this process: what a person types, and what comes back."""

import contextlib
import importlib.util
import io
import shutil
import subprocess
import tempfile
from functools import cache
from pathlib import Path
from typing import NamedTuple

from jokulmist.command.main import main


class Done(NamedTuple):
    """A command that has ended."""

    returncode: int
    stdout: str
    stderr: str


def jokulmist(*words, folder="."):
    """Run a command in a folder; where a process of its own matters, a test starts one itself."""
    out, reply, status = io.StringIO(), io.StringIO(), 0
    with contextlib.chdir(folder), contextlib.redirect_stdout(out), contextlib.redirect_stderr(reply):
        try:
            main([str(word) for word in words])
        except SystemExit as ended:
            status = ended.code or 0
    return Done(status, out.getvalue(), reply.getvalue())


def benchmark(name):
    """A program of `benchmarks/` as a module, of which a test runs a short form."""
    spec = importlib.util.spec_from_file_location(name, Path(__file__).parents[1] / "benchmarks" / f"{name}.py")
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


@cache
def sanitizers():
    """What a C compiler is told to notice reads and writes out of bounds and undefined behaviour; nothing where none is
    here that can."""
    flags = ("-fsanitize=address,undefined", "-fno-sanitize-recover=all")
    if shutil.which("cc") is None:
        return ()
    with tempfile.TemporaryDirectory() as place:
        (Path(place) / "main.c").write_text("int main(void) { return 0; }\n")
        built = subprocess.run(["cc", *flags, "main.c", "-o", "main"], cwd=place, capture_output=True)
        return flags if built.returncode == 0 else ()
