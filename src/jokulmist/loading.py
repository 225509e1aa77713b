"""Code of a user's own: reading it from a file or a module, and naming it again."""

from __future__ import annotations

import contextlib
import importlib
import inspect
import sys
import traceback
from collections.abc import Iterator, Mapping
from contextvars import ContextVar
from dataclasses import dataclass, fields
from pathlib import Path
from types import ModuleType
from typing import Any, NoReturn, TypeVar

from jokulmist.errors import (
    BrokenEnvironment,
    DeclarationError,
    JokulmistError,
    LookupFailed,
    SettingError,
    UntrustedCode,
    listed,
    nearest,
)
from jokulmist.plain_files import RECORDS
from jokulmist.sources.following import Following, rooted
from jokulmist.sources.reading import PREFIX, Modules, source_of
from jokulmist.sources.snapshot import SourceSnapshot, source_snapshot
from jokulmist.sources.trust import SOURCE, refuse_unknown


class Plugin:
    """Base of what a plan names by ``use`` with its settings beside it: a dataclass, shipped or of a user's own."""

    def written(self) -> dict[str, Any]:
        """As it is in a plan."""
        use = type(self).__name__ if ships(type(self)) else name_of(type(self))
        settings = {f.name: getattr(self, f.name) for f in fields(self)}  # type: ignore[arg-type]
        values = {n: list(v) if isinstance(v, tuple) else v for n, v in settings.items() if v is not None}
        return {"use": use, **values}

    def functions(self) -> list[Any]:
        """Classes and functions of the user's own in it; a run keeps their source."""
        return [] if ships(type(self)) else [type(self)]

    @classmethod
    def made_from(cls, settings: dict[str, Any]) -> Any:
        """The object of a plan's settings."""
        names = [f.name for f in fields(cls)]  # type: ignore[arg-type]
        for name in settings:
            if name not in names:
                raise SettingError(
                    f"`{cls.__name__}` has no setting `{name}`; its settings are {listed(names)}.{nearest(name, names)}"
                )
        try:
            return cls(**settings)
        except TypeError:
            raise SettingError(f"`{cls.__name__}` needs {listed(names)}; got {listed(settings)}.") from None

    def __repr__(self) -> str:
        return f"{type(self).__name__}({', '.join(repr(getattr(self, f.name)) for f in fields(self))})"  # type: ignore[arg-type]


Instance = TypeVar("Instance", bound=Plugin)


def ships(kind: Any) -> bool:
    """Whether a class, or a function, is the library's own, and not a user's."""
    return str(kind.__module__).startswith("jokulmist.")


def plugin_from(
    written: Mapping[str, Any], kind: type[Instance], label: str, bases: str, base: Path | None = None
) -> Instance:
    """The object of a user's own that an entry ``{ use = "file.py:Name", ... }`` of a plan names, with the settings
    beside it."""
    use = written["use"]
    plugin_class = function_named(use, base)
    if not (isinstance(plugin_class, type) and issubclass(plugin_class, kind)):
        raise SettingError(f"`{use}` is no {label}; derive it from {bases}.")
    plugin: Instance = plugin_class.made_from(beside_use(written))
    return plugin


def beside_use(written: Mapping[str, Any]) -> dict[str, Any]:
    """The settings of an entry of a plan, without its `use`."""
    return {name: value for name, value in written.items() if name != "use"}


_BASE: ContextVar[Base | None] = ContextVar("base", default=None)


@dataclass(frozen=True)
class Base:
    """Where names of a user's own are looked for.

    Attributes
    ----------
    folder : Path or None
        That relative paths start from. A run's folder has the code that the run keeps.
    current : bool
        The code as it is now, and not what the run keeps.
    """

    folder: Path | None
    current: bool = False

    @property
    def is_record(self) -> bool:
        """Whether it is the folder of a run or of a search: what is in one was perhaps written elsewhere."""
        folder = self.folder
        return folder is not None and any((folder / name).is_file() for name in RECORDS)

    def snapshot(self) -> SourceSnapshot | None:
        """The code of the run, if the folder is one's."""
        return None if self.current else source_snapshot(self.folder)


@contextlib.contextmanager
def looking_in(folder: Path | None, current: bool = False) -> Iterator[None]:
    """Look for names in a folder, and in the code that it keeps if it is a run's, for as long as this lasts."""
    before = _BASE.set(Base(folder, current))
    try:
        yield
    finally:
        _BASE.reset(before)


def base_of(folder: Path | None = None) -> Base:
    """Where to look: in a folder, or where `looking_in` says."""
    outer = _BASE.get()
    if folder is None or (outer is not None and outer.folder == folder):
        return outer or Base(None)
    return Base(folder)


def module_of(place: str, folder: Path | None = None) -> ModuleType:
    """The module that ``path/to/file.py`` or ``package.module`` names; a relative path starts from `folder`."""
    base = base_of(folder)
    snapshot = base.snapshot()
    if snapshot is not None and place in snapshot.places:
        with _translated_errors(snapshot.folder / snapshot.places[place][1], beside=False):
            return snapshot.module(place)
    if base.is_record and not place.startswith("jokulmist."):
        if not base.current:
            raise UntrustedCode(
                f"the plan in {base.folder} names {place!r:.200}, which is not among the code that it keeps. It was "
                "changed after the "
                f"training, or the code was lost; `--current` (`current=True`) uses the code as it is now.",
                None,
            )
        refuse_unknown(base.folder / SOURCE)  # type: ignore[operator]
    return _from_file(place, base.folder) if place.endswith(".py") else _from_module(place)


def _from_file(place: str, base: Path | None) -> ModuleType:
    path = Path(place) if base is None or Path(place).is_absolute() else base / place
    path = path.resolve()
    if not path.is_file():
        raise LookupFailed(
            f"there is no file {path}. Check the path; a relative one starts from {(base or Path.cwd()).resolve()}."
        )
    with _translated_errors(path):
        root, name = rooted(path)
        following = Following([root, path.parent], outside=False)
        following.add(name, path)
        # A set of its contents, so that a file that was changed in between is read again, and what it imports, too.
        return Modules.from_files(following.files).load(name)


@contextlib.contextmanager
def _translated_errors(path: Path, beside: bool = True) -> Iterator[None]:
    """A failure while a file of the user's is read, as one message."""
    before = list(sys.path)
    # what it imports by name while it runs; kept code is loaded from the files that were judged, and from nothing
    # beside
    if beside:
        sys.path.insert(0, str(path.parent))
    try:
        yield
    except JokulmistError as failure:
        if isinstance(failure, (LookupFailed, UntrustedCode)):
            raise
        _raise_load_failure(failure, path)
    except Exception as failure:
        _raise_load_failure(failure, path)
    finally:
        sys.path[:] = before


def _from_module(place: str) -> ModuleType:
    try:
        return importlib.import_module(place)
    except ModuleNotFoundError as failure:
        raise LookupFailed(
            f"there is no module `{failure.name}`. Is it installed here, or is the name misspelt?"
        ) from None
    except Exception as failure:
        _raise_load_failure(failure, Path(place))


def _raise_load_failure(failure: BaseException, path: Path) -> NoReturn:
    """A failure while a user's file was read, as one message with its line."""
    if isinstance(failure, SyntaxError):
        raise BrokenEnvironment(
            f"{failure.filename}:{failure.lineno} is not valid Python: {failure.msg}. Fix that line and start again."
        ) from None
    lines = [f.lineno for f in traceback.extract_tb(failure.__traceback__) if f.filename == str(path)]
    place = f"{path.name}:{lines[-1]}" if lines else path.name
    if isinstance(failure, DeclarationError):
        raise DeclarationError(f"{place}: {failure}") from None
    if isinstance(failure, JokulmistError):
        raise type(failure)(f"{place}: {failure}") from None
    if isinstance(failure, Exception):
        raise BrokenEnvironment(f"{place} failed when it was read: {type(failure).__name__}: {failure}") from None
    raise failure


def name_of(obj: Any) -> str:
    """``file.py:name`` or ``module:name`` of a class or a function that does not ship."""
    module = sys.modules.get(obj.__module__)
    read = source_of(module)
    if read is not None and read[1].name in read[0].places:  # of a run's own code: as its plan names it
        return f"{read[0].places[read[1].name]}:{obj.__qualname__}"
    file = file_of(obj)
    module_file = getattr(module, "__file__", None)
    loose = obj.__module__ == "__main__" or obj.__module__.startswith(PREFIX)
    if file is not None and (loose or module_file is None):
        return f"{file}:{obj.__qualname__}"
    return f"{obj.__module__}:{obj.__qualname__}"


def can_be_named(obj: Any) -> bool:
    """Whether another process can find a class or a function again by `name_of`."""
    module = sys.modules.get(obj.__module__)
    return "<" not in obj.__qualname__ and getattr(module, "__file__", None) is not None


def function_named(use: str, base: Path | None = None) -> Any:
    """The function, or class, that ``file.py:name`` or ``module:name`` names."""
    place, _, name = use.rpartition(":")
    if not place.endswith(".py") and place.partition(".")[0] in sys.stdlib_module_names:  # nobody means `os:system`
        raise SettingError(
            f"{use!r:.80} names a part of Python itself; name a function of a file of your own, e.g. `mine.py:network`."
        )
    module = module_of(place, base)
    function = getattr(module, name, None)
    if not callable(function):
        raise SettingError(
            f"{place} has no function `{name}`; it has {listed(n for n in vars(module) if n[0] != '_')}."
        )
    return function


def function_setting(use: str) -> Any:
    """The function that a setting names; a wrong name is a wrong value of the setting."""
    try:
        return function_named(use)
    except JokulmistError as wrong:
        raise ValueError(str(wrong)) from None


def file_of(obj: Any) -> Path | None:
    """The file that a class or a function was read from, if it still stands."""
    try:
        file = inspect.getsourcefile(obj)
    except (TypeError, OSError):
        return None
    return Path(file).resolve() if file and Path(file).is_file() else None
