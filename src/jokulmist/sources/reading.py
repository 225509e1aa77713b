"""Reading a user's files: apart from other versions of the same modules, and without training.

A file may be read in two versions in one process: as it is now, and as a run kept it. So its modules do not stand under
their own names among Python's modules: each set of files has modules of its own, and an `import` inside the set finds
these first.

A script trains where its file is run. It may be read for its classes, too: then every statement that would train is
left out, and what needs its result with it; what it prints goes to standard error.
"""

from __future__ import annotations

import ast
import builtins
import contextlib
import hashlib
import importlib.machinery
import sys
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from types import ModuleType
from typing import Any

from jokulmist.errors import CodeNotice, warn
from jokulmist.plain_files import MOST_TEXT_BYTES, plain_file

PREFIX = "jokulmist_user_"
_READING = 0
_SETS: dict[str, Modules] = {}


class LeftOut(BaseException):
    """Raised where a file that is only read would train; no `except Exception` of the user's catches it."""


def refuse_while_reading(subject: str) -> None:
    """Leave out the statement that is being read, if one is: called where a training or a search begins."""
    if _READING:
        raise LeftOut(subject)


@contextlib.contextmanager
def _only_read() -> Iterator[None]:
    global _READING
    _READING += 1
    try:
        with contextlib.redirect_stdout(sys.stderr):
            yield
    finally:
        _READING -= 1


@dataclass(frozen=True)
class SourceFile:
    """A module's file.

    Attributes
    ----------
    name : str
        The module, with its packages: ``tools.weather``.
    path : Path
    package : bool
        Whether it is the ``__init__.py`` of a package.
    original : str
        Where a file that a run keeps stood when it was trained; empty for one that stands there.
    """

    name: str
    path: Path
    package: bool = False
    original: str = ""

    @property
    def layout(self) -> str:
        """Where it stands below the folder that imports start from."""
        parts = self.name.replace(".", "/")
        return f"{parts}/__init__.py" if self.package else f"{parts}.py"

    def within(self, level: int) -> str:
        """The package that an import of so many points starts from."""
        parts = self.name.split(".")
        parts = parts if self.package else parts[:-1]
        return ".".join(parts[: len(parts) - (level - 1)] if level > 1 else parts)

    def absolute(self, name: str, level: int) -> str:
        """The whole name of what an import of so many points names; none for an absolute one."""
        within = self.within(level) if level else ""
        return f"{within}.{name}" if name and within else name or within


def prefixes(name: str) -> list[str]:
    """``a``, ``a.b`` and ``a.b.c`` of ``a.b.c``."""
    parts = name.split(".") if name else []
    return [".".join(parts[: k + 1]) for k in range(len(parts))]


def fingerprint(parts: Mapping[str, bytes]) -> str:
    """Twelve hexadecimal digits of names and contents."""
    digest = hashlib.sha256()
    for name in sorted(parts):
        digest.update(f"{name}\0{hashlib.sha256(parts[name]).hexdigest()}\n".encode())
    return digest.hexdigest()[:12]


class Modules:
    """The modules of one set of files."""

    def __init__(
        self,
        files: Mapping[str, SourceFile],
        places: Mapping[str, str] | None = None,
        contents: Mapping[str, bytes] | None = None,
    ) -> None:
        self.files = dict(files)
        self.places = dict(places or {})
        self.contents = dict(contents) if contents is not None else self._read()
        self.key = self._fingerprint(self.contents)
        self._loaded: dict[str, ModuleType] = {}
        self._packages = {package for name in files for package in prefixes(name)} - set(files)

    @classmethod
    def from_files(cls, files: Mapping[str, SourceFile], places: Mapping[str, str] | None = None) -> Modules:
        """The set of these contents: the same one for the same contents, so that a class is read once.

        Files that stand where they were written are told apart by their places, too: another project may hold the same
        text, and be edited. What runs keep is shared between them.
        """
        new = cls(files, places)
        return _SETS.setdefault(new.key, new)

    @classmethod
    def reused(cls, snapshot: Modules) -> Modules | None:
        """The set of the same contents that was read in this process, not from a run."""
        return _SETS.get(cls(snapshot.files, contents=snapshot.contents).key)

    def _read(self) -> dict[str, bytes]:
        return {name: plain_file(file.path, MOST_TEXT_BYTES).read_bytes() for name, file in self.files.items()}

    def _fingerprint(self, contents: Mapping[str, bytes]) -> str:
        named = {f"place of {name}": place.encode() for name, place in self.places.items()}
        if not self.places:
            named = {f"path of {name}": str(file.original or file.path).encode() for name, file in self.files.items()}
        return fingerprint({**named, **{file.layout: contents[name] for name, file in self.files.items()}})

    def edited(self) -> bool:
        """Whether a file is not any more what was read."""
        try:
            return self._fingerprint(self._read()) != self.key
        except OSError:
            return True

    def has_run(self, name: str) -> bool:
        """Whether a module of the set was read in this process already: asking for it runs nothing."""
        return name in self._loaded

    def load(self, name: str) -> ModuleType:
        """A module of the set, read if it was not yet."""
        if name in self._loaded:
            return self._loaded[name]
        file = self.files.get(name)
        unique = f"{PREFIX}{name.replace('.', '_')}_{self.key}"
        module = ModuleType(unique)
        module.__dict__["__builtins__"] = {**vars(builtins), "__import__": self._import}
        module.__package__ = ""
        self._loaded[name] = sys.modules[unique] = module
        parent, _, last = name.rpartition(".")
        try:
            if parent:
                self.load(parent)
            if file is None:  # a package without a file of its own
                module.__path__ = []
            else:
                module.__file__ = str(file.path)
                module.__spec__ = importlib.machinery.ModuleSpec(unique, None, origin=str(file.path))
                if file.package:
                    module.__path__ = [str(file.path.parent)]
                module.__dict__["__jokulmist_source__"] = (self, file)
                with _only_read():
                    _run(file.path, self.contents[name], module)
        except BaseException:
            del self._loaded[name], sys.modules[unique]
            raise
        if parent:
            setattr(self._loaded[parent], last, module)
        return module

    def _has(self, name: str) -> bool:
        return name in self.files or name in self._packages

    def _import(
        self,
        name: str,
        globals: Mapping[str, Any] | None = None,
        locals: Mapping[str, Any] | None = None,
        fromlist: Any = (),
        level: int = 0,
    ) -> ModuleType:
        """What stands for Python's `__import__` in the modules of the set."""
        asking = (globals or {}).get("__jokulmist_source__")
        if level and asking is None:
            return builtins.__import__(name, globals, locals, fromlist, level)
        absolute_name = asking[1].absolute(name, level) if level and asking is not None else name
        first = absolute_name.partition(".")[0]
        if not self._has(first):
            if level and asking is not None:
                raise ImportError(
                    f"{asking[1].path.name} imports `{absolute_name}`, which is not among the files that were kept"
                )
            return builtins.__import__(name, globals, locals, fromlist, 0)
        if not self._has(absolute_name):
            raise ModuleNotFoundError(f"No module named '{absolute_name}'", name=absolute_name)
        module = self.load(absolute_name)
        if not fromlist:
            return self.load(first) if not level else module
        for wanted in fromlist:
            if wanted != "*" and not hasattr(module, wanted) and self._has(f"{absolute_name}.{wanted}"):
                self.load(f"{absolute_name}.{wanted}")
        return module


def _run(path: Path, text: bytes, module: ModuleType) -> None:
    """Run a file statement by statement, without those that train."""
    tree = ast.parse(text, filename=str(path))
    module.__doc__ = ast.get_docstring(tree, clean=False)
    flags = 0
    for node in tree.body:
        if isinstance(node, ast.ImportFrom) and node.module == "__future__":
            import __future__

            for alias in node.names:
                flags |= getattr(__future__, alias.name).compiler_flag
    left_out: list[tuple[int, str]] = []
    for node in tree.body:
        code = compile(ast.Module([node], []), str(path), "exec", flags=flags, dont_inherit=True)
        try:
            exec(code, module.__dict__)
        except LeftOut as training:
            left_out.append((node.lineno, str(training)))
        except Exception:
            # What was left out gave no result: what needs it cannot be run either.
            if not left_out or isinstance(node, (ast.ClassDef, ast.FunctionDef, ast.Import, ast.ImportFrom)):
                raise
    if left_out:
        line, subject = left_out[0]
        warn(
            f"{path.name}:{line} begins a {subject} where the file is only read for its classes; that was left out. "
            "Put "
            "it under "
            f'`if __name__ == "__main__":` to be rid of this line.',
            CodeNotice,
        )


def source_of(module: ModuleType | None) -> tuple[Modules, SourceFile] | None:
    """The set and the file of a module that was read by `Modules`."""
    result: tuple[Modules, SourceFile] | None = getattr(module, "__jokulmist_source__", None)
    return result
