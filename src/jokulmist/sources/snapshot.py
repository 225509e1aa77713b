"""The code that a run consists of: taken when it is trained, kept in ``source/`` with its layout, and read again from
there."""

from __future__ import annotations

import ast
import filecmp
import importlib
import inspect
import json
import sys
import tokenize
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from importlib.machinery import SourceFileLoader
from pathlib import Path
from types import CodeType, FunctionType, ModuleType
from typing import Any

from jokulmist.errors import RecordError, SettingError
from jokulmist.plain_files import MOST_TEXT_BYTES, plain_file
from jokulmist.sources import slices
from jokulmist.sources.following import Following, is_gallery, names_imported, rooted, versions_of
from jokulmist.sources.reading import Modules, SourceFile, fingerprint, source_of
from jokulmist.sources.trust import INDEX, SOURCE, files_below, refuse_unknown

NOTEBOOK = "notebook"
MORE = "more-"


@dataclass
class Code:
    """The files of a plan's classes and functions.

    Attributes
    ----------
    contents : dict of str to bytes
        By their place below ``source/``.
    places : dict of str to list of str
        Of what a plan names before its colon (a file, a module): the folder below ``source/`` that imports start from,
        and the module.
    originals : dict of str to str
        Where each file stood.
    packages : dict of str to str
        Versions of installed packages that they import.
    versions : dict of str to str
        Of each name, six digits of what it needs.
    unkept : list of str
        Names whose source is nowhere: typed into an interpreter.
    """

    contents: dict[str, bytes] = field(default_factory=dict)
    places: dict[str, list[str]] = field(default_factory=dict)
    originals: dict[str, str] = field(default_factory=dict)
    packages: dict[str, str] = field(default_factory=dict)
    versions: dict[str, str] = field(default_factory=dict)
    unkept: list[str] = field(default_factory=list)

    @property
    def fingerprint(self) -> str:
        return fingerprint(self.contents)

    @property
    def summary(self) -> dict[str, Any]:
        """What a run's origin says of its code."""
        return {"fingerprint": self.fingerprint, "versions": self.versions, "packages": self.packages}

    @property
    def parts(self) -> dict[str, bytes]:
        """All files of ``source/``, by their place in it."""
        return {**self.contents, INDEX: self.index()} if self.contents or self.unkept else {}

    def index(self) -> bytes:
        """What ``source/index.json`` holds."""
        named = ("places", "originals", "packages", "versions", "unkept")
        content = {"fingerprint": self.fingerprint, **{name: getattr(self, name) for name in named}}
        return json.dumps(content, indent=1, sort_keys=True).encode() + b"\n"


@dataclass
class _Group:
    """What is imported from one folder."""

    prefix: str
    following: Following


def code_of(objects: Iterable[Any], place_of: Any, data: Mapping[Any, Iterable[Path]] | None = None) -> Code:
    """The code of classes and functions of a user's own, and of shipped environments."""
    code, groups = Code(), dict[Path, _Group]()
    originals: dict[Path, str] = {}
    for obj in dict.fromkeys(objects):
        module = sys.modules.get(obj.__module__)
        path = _file_of(module)
        if path is None:
            _keep_notebook(code, obj, module)
            continue
        read = source_of(module)
        if read is not None:
            root, name = _root_of(read[1]), read[1].name
            originals.update({file.path: file.original for file in read[0].files.values()})
        elif is_gallery(path):
            root, name = path.parent, path.stem
        else:
            root, name = rooted(path)
        if root not in groups:
            groups[root] = _Group(f"{MORE}{len(groups) + 1}/" if groups else "", Following([root, path.parent]))
        group = groups[root]
        group.following.add(name, path)
        code.places[place_of(obj)] = [group.prefix, name]
        if read is None:
            refuse_edited(obj, path)
        elif read[0].edited():
            _say_edited(obj, path)
        texts = {m: text_of(f.path) for m, f in group.following.files.items()}
        top = obj.__qualname__.partition(".")[0]
        code.versions[obj.__qualname__] = slices.version_of(texts, group.following.files, name, top)
        for file in (data or {}).get(obj, ()):
            inside = file.resolve().relative_to(root) if root in file.resolve().parents else Path(file.name)
            code.contents[f"{group.prefix}{inside.as_posix()}"] = file.read_bytes()
            code.originals[f"{group.prefix}{inside.as_posix()}"] = str(file.resolve())
    for group in groups.values():
        for source_file in group.following.files.values():
            code.contents[f"{group.prefix}{source_file.layout}"] = source_file.path.read_bytes()
            code.originals[f"{group.prefix}{source_file.layout}"] = originals.get(source_file.path) or str(
                source_file.path
            )
        code.packages.update(versions_of(group.following.packages))
    return code


def text_of(path: Path) -> str:
    """The text of a file of Python, in the encoding that it says."""
    with tokenize.open(plain_file(path, MOST_TEXT_BYTES)) as stream:
        return stream.read()


def _root_of(file: SourceFile) -> Path:
    levels = file.name.count(".") + (1 if file.package else 0)
    return file.path.parents[levels]


def _file_of(module: ModuleType | None) -> Path | None:
    """The file that a module was read from; a cell of a notebook has none."""
    file = getattr(module, "__file__", None)
    return Path(file).resolve() if file and Path(file).is_file() else None


def _keep_notebook(code: Code, obj: Any, module: ModuleType | None) -> None:
    """Of a class that was written in a notebook, the statements of the cells that it needs."""
    text = notebook_text(obj, module)
    if text is None:
        code.unkept.append(obj.__qualname__)
        return
    layout = f"{NOTEBOOK}.py"
    before = code.contents.get(layout, b"").decode()
    code.contents[layout] = (before + "".join(part for part in _paragraphs(text) if part not in before)).encode()
    code.places["__main__"] = ["", NOTEBOOK]
    code.versions[obj.__qualname__] = slices.version_of(
        {NOTEBOOK: text}, {}, NOTEBOOK, obj.__qualname__.partition(".")[0]
    )
    following = Following([Path.cwd()])
    following.find(names_imported(ast.parse(text), SourceFile(NOTEBOOK, Path(layout))))
    for source_file in following.files.values():
        code.contents[source_file.layout] = source_file.path.read_bytes()
        code.originals[source_file.layout] = str(source_file.path)
    code.packages.update(versions_of(following.packages))


def _paragraphs(text: str) -> list[str]:
    return [part + "\n\n\n" for part in text.split("\n\n\n") if part.strip()]


def notebook_text(obj: Any, module: ModuleType | None) -> str | None:
    """The statements of a session that a class or a function needs; None where the session keeps no cells."""
    cells = getattr(module, "In", None)
    if not isinstance(cells, list):
        return None
    statements: list[str] = []
    for cell in cells:
        try:
            tree = ast.parse(cell)
        except SyntaxError:  # a command of the notebook's own, or a cell that failed
            plain = "\n".join(line for line in cell.splitlines() if not line.lstrip().startswith(("%", "!", "?")))
            try:
                tree, cell = ast.parse(plain), plain
            except SyntaxError:
                continue
        lines = cell.splitlines()
        for node in tree.body:
            statements.append("\n".join(lines[slices.first_line(node) - 1 : node.end_lineno]))
    tree = ast.parse("\n".join(statements))
    top = obj.__qualname__.partition(".")[0]
    binders = slices.Statements.from_files(tree).binders
    if top not in binders:
        return None
    wanted = {number for _, number in slices.needed({NOTEBOOK: tree}, {}, NOTEBOOK, top)}
    # A name that was bound again is bound by its last definition; what changes it before that is gone.
    for numbers in binders.values():
        defining = [n for n in numbers if isinstance(tree.body[n], (ast.ClassDef, ast.FunctionDef))]
        if len(defining) > 1:
            wanted -= set(defining[:-1])
    return "\n\n\n".join(statements[number] for number in sorted(wanted)) + "\n"


def is_from_notebook(obj: Any) -> bool:
    """Whether a class or a function was written in a cell, whose text the session keeps."""
    return "<" not in obj.__qualname__ and isinstance(getattr(sys.modules.get(obj.__module__), "In", None), list)


def refuse_edited(obj: Any, path: Path) -> None:
    """Raise `SettingError` where the code in memory is not what its file says now."""
    loader = getattr(sys.modules[obj.__module__], "__loader__", None)
    if obj.__module__ != "__main__" and not isinstance(loader, SourceFileLoader):
        return  # what was made of the text is the loader's own affair
    try:
        tree = compile(path.read_bytes(), str(path), "exec", dont_inherit=True)
    except (SyntaxError, ValueError):
        _say_edited(obj, path)
    code_objects = {code.co_qualname: code for code in _codes(tree)}
    for function in _functions(obj):
        code = code_objects.get(function.__code__.co_qualname)
        if code is None and "<lambda>" in function.__code__.co_qualname:
            continue
        if code is None or not _alike(code, function.__code__):
            _say_edited(obj, path)


def _say_edited(obj: Any, path: Path) -> None:
    raise SettingError(
        f"`{obj.__qualname__}` in memory is not what {path.name} says now: the file was edited after it was "
        "imported, so the run could not keep "
        f"the code that makes it. Restart Python, or read the file again with `importlib.reload`, and train then."
    )


def _codes(code: CodeType) -> Iterable[CodeType]:
    for constant in code.co_consts:
        if isinstance(constant, CodeType):
            yield constant
            yield from _codes(constant)


def _functions(obj: Any) -> list[FunctionType]:
    """The functions of a class's body that were written in its own file, or the function itself."""
    if isinstance(obj, FunctionType):
        return [obj]
    functions = []
    for value in vars(obj).values() if isinstance(obj, type) else ():
        if isinstance(value, (staticmethod, classmethod)):
            value = value.__func__
        if not isinstance(value, FunctionType):
            inner = [v for v in getattr(value, "__dict__", {}).values() if isinstance(v, FunctionType)]
            value = inner[0] if len(inner) == 1 else None
        if isinstance(value, FunctionType) and value.__module__ == obj.__module__ and not hasattr(value, "__wrapped__"):
            functions.append(value)
    source_path = inspect.getsourcefile(obj)
    return [f for f in functions if f.__code__.co_filename == source_path]


def _alike(left: CodeType, right: CodeType) -> bool:
    """Whether two functions say the same, wherever they stand."""

    def constants(code: CodeType) -> list[Any]:
        return [repr(c) for c in code.co_consts if not isinstance(c, CodeType)]

    if (left.co_code, left.co_names, constants(left)) != (right.co_code, right.co_names, constants(right)):
        return False
    inside = [[c for c in code.co_consts if isinstance(c, CodeType)] for code in (left, right)]
    return len(inside[0]) == len(inside[1]) and all(map(_alike, *inside))


def _texts(constant: Any, each: int = 0) -> Any:
    """A dict of texts, or of so many texts each, as an index holds them; anything else is an error."""
    if not isinstance(constant, dict):
        raise TypeError
    for value in constant.values():
        parts = [value] if not each else value
        if not isinstance(parts, list) or len(parts) != (each or 1) or not all(isinstance(part, str) for part in parts):
            raise TypeError
        if any(Path(part).is_absolute() or ".." in Path(part).parts for part in parts[: each and 1]):
            raise ValueError  # a place below `source/`
    return constant


class SourceSnapshot:
    """The code that a run keeps, by its folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder / SOURCE
        try:
            self.index: dict[str, Any] = json.loads(plain_file(self.folder / INDEX, MOST_TEXT_BYTES).read_bytes())
            self.places: dict[str, list[str]] = _texts(self.index["places"], 2)
            self.originals: dict[str, str] = _texts(self.index["originals"])
        except (ValueError, KeyError, TypeError, RecursionError, OSError):
            raise RecordError(
                f"{self.folder / INDEX} cannot be read, so the run's own code is not found. Look at the run with "
                "`--current`, or bring the file back."
            ) from None

    def module(self, place: str) -> ModuleType:
        """The module that a plan names, as the run kept it; the one in use where that is the same, file for file."""
        prefix, name = self.places[place]
        modules = self._modules(prefix)
        live = self._live(place, modules, name)
        if live is not None:
            return live
        if not modules.has_run(name):
            refuse_unknown(self.folder)
        return modules.load(name)

    def _modules(self, prefix: str) -> Modules:
        folder = self.folder / prefix
        modules = {}
        for path in files_below(folder):
            if path.suffix != ".py":
                continue
            below = path.relative_to(folder)
            if not prefix and below.parts[0].startswith(MORE):
                continue
            parts = list(below.with_suffix("").parts)
            package = parts[-1] == "__init__"
            name = ".".join(parts[:-1] if package else parts)
            original = self.originals.get(f"{prefix}{below.as_posix()}", "")
            modules[name] = SourceFile(name, plain_file(path, MOST_TEXT_BYTES).resolve(), package, original)
        return Modules.from_files(
            modules, {name: place for place, (root, name) in self.places.items() if root == prefix}
        )

    def _live(self, place: str, modules: Modules, name: str) -> ModuleType | None:
        """A module of this process that was read from the same text, and whose imports were."""
        if name == NOTEBOOK:
            return None
        original = self.originals.get(f"{self.places[place][0]}{modules.files[name].layout}")
        gallery = original is not None and "gallery" in Path(original).parts and place.startswith("jokulmist.gallery.")
        if gallery:
            live = importlib.import_module(place)
            same = Path(str(live.__file__)).read_bytes() == modules.contents[name]
            return live if same and not self.changed(beside=True) else None
        read = Modules.reused(modules) if place.endswith(".py") else None
        if read is not None and not self.changed():  # read from where it stands, in this process
            return read.load(name)
        candidates = [place, "__main__"] if place.endswith(".py") else [place]
        for candidate in candidates:
            loaded = sys.modules.get(candidate)
            file = _file_of(loaded)
            if loaded is not None and file is not None and str(file) == original and not self.changed():
                return loaded
        return None

    def changed(self, beside: bool = False) -> dict[str, str]:
        """Of the originals that are not what was kept: ``changed`` or ``gone``, by file."""
        changes = {}
        for layout, original in self.originals.items():
            if beside and layout.endswith(".py"):
                continue
            try:
                current, snapshot = plain_file(Path(original)), plain_file(self.folder / layout)
                if not filecmp.cmp(current, snapshot, shallow=False):
                    changes[original] = "changed"
            except (OSError, ValueError):
                changes[original] = "gone"
        return changes

    @property
    def changed_files(self) -> str:
        """Which originals are not what was kept, in words; empty where all are."""
        changes = self.changed()
        sentences = []
        for change, singular, several in (("changed", "has changed", "have changed"), ("gone", "is gone", "are gone")):
            names = [
                Path(path).name
                for path, kind in changes.items()
                if kind == change and not (is_gallery(Path(path)) and change == "gone")
            ]
            if names:
                sentences.append(f"{' and '.join(names)} {singular if len(names) == 1 else several}")
        return ", ".join(sentences)

    def class_parts(self, place: str, name: str, current: bool = False) -> dict[str, tuple[str, str]]:
        """The parts of a class by name; see `slices.members`. Empty where the class is not found."""
        prefix, module = self.places[place]
        file = self._modules(prefix).files.get(module)
        if file is None:
            return {}
        try:
            text = text_of(Path(file.original) if current else file.path)
            return slices.members(text, name.rpartition(".")[2])
        except (OSError, SyntaxError, ValueError):
            return {}


def snapshot_of(obj: Any) -> Path | None:
    """The folder of the run whose code a class or a function was read from; None for one that was read from where it
    stands."""
    read = source_of(sys.modules.get(obj.__module__))
    if read is None or not read[0].places:
        return None
    return next(
        (place.parent for place in read[1].path.parents if place.name == SOURCE and (place / INDEX).is_file()), None
    )


def source_snapshot(folder: Path | None) -> SourceSnapshot | None:
    """The code that a run's folder keeps; None where it is no run's folder, or keeps none."""
    if folder is None:
        return None
    try:
        stat = (folder / SOURCE / INDEX).stat()
    except OSError:
        return None
    return _source_snapshot(folder.resolve(), stat.st_mtime_ns, stat.st_size)


@lru_cache(maxsize=64)
def _source_snapshot(folder: Path, _mtime: int, _size: int) -> SourceSnapshot:
    return SourceSnapshot(folder)
