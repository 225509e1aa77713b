"""The command that writes a first environment, of one of several kinds, with a plan and a test."""

from __future__ import annotations

import re
import sys
from importlib import resources
from pathlib import Path

import typer

from jokulmist.errors import RecordError, SettingError, listed, nearest

KINDS = {
    "table": "a few numbers are seen, and one of some labels is decided",
    "numbers": "a number is decided",
    "images": "an image is seen",
    "players": "several decide",
    "simulator": "an engine whose state cannot be copied",
    "remote": "a program at the other end of a connection",
}
USUAL = "table"


def template(kind: str, part: str, file: Path) -> str:
    """A file of a kind, ``environment``, ``plan`` or ``test``, for an environment in a file."""
    text = (resources.files("jokulmist.command") / "templates" / kind / f"{part}.txt").read_text(encoding="utf-8")
    marks = {"@NAME@": name_for(file), "@FILE@": file.name, "@STEM@": file.stem, "@PYTHON@": sys.executable}
    for mark, value in marks.items():
        text = text.replace(mark, value)
    return text


def name_for(file: Path) -> str:
    """The class that is in a file."""
    return "".join(part.capitalize() for part in file.stem.split("_"))


def new(file: Path, kind: str | None = None) -> None:
    """Write the environment, a plan and a test beside it; nothing is written over."""
    if file.suffix != ".py" or not re.fullmatch(r"[A-Za-z_]\w*", file.stem):
        raise SettingError(
            f"`new` writes a Python file with a plain name; got {file}. Use for instance `jokulmist new pond.py`."
        )
    if kind is None:
        kind = _ask_kind() if sys.stdin.isatty() and sys.stdout.isatty() else USUAL
    if kind not in KINDS:
        raise SettingError(f"there is no kind {kind!r:.40}; `--kind` is one of {listed(KINDS)}.{nearest(kind, KINDS)}")
    plan, test = file.with_suffix(".toml"), file.with_name(f"test_{file.name}")
    contents = {
        path: template(kind, part, file) for path, part in ((file, "environment"), (plan, "plan"), (test, "test"))
    }
    if kind == "remote":
        kit = resources.files("jokulmist.command") / "templates" / kind / "arenas.txt"
        contents[file.with_name("arenas.py")] = kit.read_text(encoding="utf-8")
    for path in contents:
        if path.exists():
            raise SettingError(f"{path} is there already and stays as it is. Choose another name.")
    written: list[Path] = []
    try:
        for path, content in contents.items():
            written.append(path)
            path.write_text(content, encoding="utf-8")
    except OSError as failure:
        for path in written:
            path.unlink(missing_ok=True)
        raise RecordError(f"cannot write {file}: {failure.strerror}. Choose a folder that you may write to.") from None
    typer.echo(f"wrote {listed([str(path) for path in contents])}. Next:")
    typer.echo(f"  jokulmist check {plan if kind == 'remote' else f'{file}:{name_for(file)}'}")
    typer.echo(f"  jokulmist train {plan}")
    typer.echo(f"  pytest {test}")


def _ask_kind() -> str:
    """The kind that a person at a terminal chooses."""
    for kind, description in KINDS.items():
        typer.echo(f"  {kind:<10} {description}")
    answer: str = typer.prompt("Which kind?", default=USUAL)
    return answer.strip()
