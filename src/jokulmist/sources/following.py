"""Which files a class consists of: its own, and those that it imports, as far as they are the user's."""

from __future__ import annotations

import ast
import importlib.util
import site
import sys
import sysconfig
from collections.abc import Iterable
from functools import cache, lru_cache
from importlib import metadata
from importlib.metadata import PackageNotFoundError, packages_distributions
from pathlib import Path

from jokulmist.sources.reading import SourceFile, prefixes

PACKAGE = "jokulmist"


def rooted(path: Path) -> tuple[Path, str]:
    """The folder that imports of a file start from, and the name of its module: above all packages that it stands
    in."""
    path = path.resolve()
    parts = [] if path.name == "__init__.py" else [path.stem]
    folder = path.parent
    while (folder / "__init__.py").is_file():
        parts.insert(0, folder.name)
        folder = folder.parent
    return folder, ".".join(parts)


class Following:
    """Follows imports from some files.

    Attributes
    ----------
    files : dict of str to SourceFile
        By the name of the module.
    packages : set of str
        Top-level names of installed packages that the files import.
    """

    def __init__(self, search: Iterable[Path], outside: bool = True) -> None:
        self._search = list(search)
        self._outside = outside
        self.files: dict[str, SourceFile] = {}
        self.packages: set[str] = set()
        self._seen: set[str] = set()

    def add(self, name: str, path: Path) -> None:
        """A module by its file, and all that it imports."""
        if name in self.files:
            return
        self.files[name] = file = SourceFile(name, path.resolve(), path.name == "__init__.py")
        parent = name.rpartition(".")[0]
        if parent:
            self._find(parent)
        self.find(imported(file.path, file))

    def find(self, names: Iterable[str]) -> None:
        """Modules by their names, wherever they stand."""
        for name in names:
            self._find(name)

    def _find(self, name: str) -> None:
        if name in self._seen:
            return
        self._seen.add(name)
        for folder in self._search:
            base = folder.joinpath(*name.split("."))
            for path in (base / "__init__.py", base.with_suffix(".py")):
                if path.is_file() and not _installed(path):
                    self.add(name, path)
                    return
            if base.is_dir() and any(self._search):
                return  # a package without a file of its own, or a folder of data
        first = name.partition(".")[0]
        if first in sys.stdlib_module_names or first == PACKAGE:
            return
        elsewhere = _elsewhere(first)
        if elsewhere is None:
            return
        if _installed(elsewhere):
            self.packages.add(first)
        elif self._outside:
            folder = elsewhere.parent.parent if elsewhere.name == "__init__.py" else elsewhere.parent
            if folder not in self._search:
                self._search.append(folder)
                self._seen.discard(name)
                self._find(name)


def _elsewhere(first: str) -> Path | None:
    """Where Python would find a top-level module."""
    loaded = getattr(sys.modules.get(first), "__file__", None)
    if loaded is not None:
        return Path(loaded).resolve()
    try:
        spec = importlib.util.find_spec(first)
    except (ImportError, ValueError, AttributeError):
        return None
    return Path(spec.origin).resolve() if spec is not None and spec.origin and Path(spec.origin).is_file() else None


@lru_cache(maxsize=1)
def _places() -> tuple[Path, ...]:
    """Folders of installed packages, of Python's own library, and of this one."""
    places = [
        *site.getsitepackages(),
        site.getusersitepackages(),
        *(sysconfig.get_path(n) for n in ("stdlib", "purelib", "platlib")),
    ]
    return (*(Path(place).resolve() for place in places), Path(__file__).resolve().parents[1])


def _installed(path: Path) -> bool:
    return any(place in path.parents for place in _places())


def is_gallery(path: Path) -> bool:
    """Whether a file is one of the shipped environments, which a run keeps like a user's own."""
    return Path(__file__).resolve().parents[1] / "gallery" in path.parents


def imported(path: Path, file: SourceFile) -> list[str]:
    """The names that a file imports: modules, and what may be modules of a package."""
    stat = path.stat()
    return list(_imported(path, file.name, file.package, stat.st_mtime_ns, stat.st_size))


@lru_cache(maxsize=512)
def _imported(path: Path, name: str, package: bool, _mtime: int, _size: int) -> tuple[str, ...]:
    file = SourceFile(name, path, package)
    try:
        tree = ast.parse(path.read_bytes(), filename=str(path))
    except (SyntaxError, ValueError):
        return ()
    return tuple(names_imported(tree, file))


def names_imported(tree: ast.Module, file: SourceFile) -> list[str]:
    """The names that the text of a file imports: modules, and what may be modules of a package."""
    names: dict[str, None] = {}
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            for alias in node.names:
                names.update(dict.fromkeys(prefixes(alias.name)))
        elif isinstance(node, ast.ImportFrom):
            base = file.absolute(node.module or "", node.level)
            names.update(dict.fromkeys(prefixes(base)))
            names.update(dict.fromkeys(f"{base}.{alias.name}" for alias in node.names if base and alias.name != "*"))
    return list(names)


def versions_of(packages: Iterable[str]) -> dict[str, str]:
    """The distributions of some top-level names, with their versions."""
    versions: dict[str, str] = {}
    for package in sorted(packages):
        try:  # most are called as they are imported; asking for all distributions takes a third of a second
            versions[package] = metadata.version(package)
        except PackageNotFoundError:
            versions.update({name: metadata.version(name) for name in _distributions().get(package, [])})
    return versions


@cache
def _distributions() -> dict[str, list[str]]:
    return {name: list(each) for name, each in packages_distributions().items()}
