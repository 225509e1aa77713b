"""From the words of a plan to classes, and back: gallery names, ``path/to/file.py:Class``, ``package.module:Class``."""

from __future__ import annotations

import hashlib
import importlib
import importlib.util
import inspect
import sys
import traceback
from pathlib import Path
from types import ModuleType
from typing import Any, NoReturn

from jokulmist.agents.protocol import Agent
from jokulmist.agents.registry import AGENTS
from jokulmist.environments.environment import Environment
from jokulmist.errors import BrokenEnvironment, DeclarationError, JokulmistError, LookupFailed, listed, nearest
from jokulmist.gallery import SHIPPED


def environment_class(use: str, base: Path | None = None) -> type[Environment]:
    """The class that a plan's ``environment.use`` or a command's ENV names.

    Parameters
    ----------
    use : str
        A gallery name, ``path/to/file.py:Class`` or ``package.module:Class``.
    base : Path, optional
        Folder that a relative path starts from; the current one by default.
    """
    if not isinstance(use, str) or not use:
        raise LookupFailed(f"an environment is named by a text; got {use!r}. Use a gallery name or `file.py:Class`.")
    if use in SHIPPED:
        module, name = SHIPPED[use]
        shipped: type[Environment] = getattr(importlib.import_module(module), name)
        return shipped
    if ":" not in use and not use.endswith(".py"):
        raise LookupFailed(
            f"no environment `{use}`; the gallery has {listed(SHIPPED)}.{nearest(use, SHIPPED)} "
            f"For your own write `path/to/file.py:Class`."
        )
    found: type[Environment] = _named(use, Environment, "an environment", base)
    return found


def agent_class(use: str, base: Path | None = None) -> type[Agent]:
    """The class that a plan's ``agent.use`` names: a shipped method, or ``file.py:Class``."""
    if not isinstance(use, str) or not use:
        raise LookupFailed(f'a method is named by a text; got {use!r}. Use for instance `use = "QLearning"`.')
    if use in AGENTS:
        return AGENTS[use]
    if ":" not in use:
        raise LookupFailed(
            f"no method `{use}`; there are {listed(AGENTS)}.{nearest(use, AGENTS)} For your own write `file.py:Class`."
        )
    found: type[Agent] = _named(use, Agent, "an agent", base)
    return found


def _named(use: str, kind: type, what: str, base: Path | None) -> Any:
    place, _, name = use.rpartition(":") if ":" in use else (use, "", "")
    module = _from_file(place, base) if place.endswith(".py") else _from_module(place)
    classes = {
        n: v
        for n, v in vars(module).items()
        if isinstance(v, type) and issubclass(v, kind) and v.__module__ == module.__name__
    }
    if not name and len(classes) == 1:
        return next(iter(classes.values()))
    if not name:
        raise LookupFailed(f"{place} has {listed(classes)}; say which, e.g. `{place}:{next(iter(classes), 'Class')}`.")
    found = getattr(module, name, None)
    if not (isinstance(found, type) and issubclass(found, kind)):
        raise LookupFailed(
            f"{place} has no class `{name}` that is {what}; it has {listed(classes)}.{nearest(name, classes)}"
        )
    return found


def _from_file(place: str, base: Path | None) -> ModuleType:
    path = Path(place) if base is None or Path(place).is_absolute() else base / place
    path = path.resolve()
    if not path.is_file() and base is not None and (base / "source" / path.name).is_file():
        path = (base / "source" / path.name).resolve()  # a run whose file has gone keeps its own copy
    if not path.is_file():
        raise LookupFailed(
            f"there is no file {path}. Check the path; a relative one starts from {(base or Path.cwd()).resolve()}."
        )
    # The name holds the content, so that a file changed in between is read anew.
    digest = hashlib.sha256(path.read_bytes()).hexdigest()[:12]
    name = f"jokulmist_user_{path.stem}_{digest}"
    if name in sys.modules:
        return sys.modules[name]
    spec = importlib.util.spec_from_file_location(name, path)
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    sys.modules[name] = module
    sys.path.insert(0, str(path.parent))
    try:
        spec.loader.exec_module(module)
    except BaseException as failure:
        del sys.modules[name]
        _tell(failure, path)
    finally:
        sys.path.remove(str(path.parent))
    return module


def _from_module(place: str) -> ModuleType:
    try:
        return importlib.import_module(place)
    except ModuleNotFoundError as failure:
        raise LookupFailed(
            f"there is no module `{failure.name}`. Is it installed here, or is the name misspelt?"
        ) from None
    except Exception as failure:
        _tell(failure, Path(place))


def _tell(failure: BaseException, path: Path) -> NoReturn:
    """A failure while a user's file was read, as one message with its line."""
    if isinstance(failure, SyntaxError):
        raise BrokenEnvironment(
            f"{failure.filename}:{failure.lineno} is not valid Python: {failure.msg}. Mend that line and start again."
        ) from None
    lines = [f.lineno for f in traceback.extract_tb(failure.__traceback__) if f.filename == str(path)]
    where = f"{path.name}:{lines[-1]}" if lines else path.name
    if isinstance(failure, DeclarationError):
        raise DeclarationError(f"{where}: {failure}") from None
    if isinstance(failure, JokulmistError):
        raise type(failure)(f"{where}: {failure}") from None
    if isinstance(failure, Exception):
        raise BrokenEnvironment(f"{where} failed when it was read: {type(failure).__name__}: {failure}") from None
    raise failure


def use_of(cls: type) -> str:
    """The text that names a class again: what a plan holds."""
    for name, (module, shipped) in SHIPPED.items():
        if cls.__module__ == module and cls.__qualname__ == shipped:
            return name
    if cls.__name__ in AGENTS and AGENTS[cls.__name__] is cls:
        return cls.__name__
    file = _file_of(cls)
    module_file = getattr(sys.modules.get(cls.__module__), "__file__", None)
    loose = cls.__module__ == "__main__" or cls.__module__.startswith("jokulmist_user_")
    if file is not None and (loose or module_file is None):
        return f"{file}:{cls.__qualname__}"
    return f"{cls.__module__}:{cls.__qualname__}"


def _file_of(cls: type) -> Path | None:
    try:
        file = inspect.getsourcefile(cls)
    except (TypeError, OSError):
        return None
    return Path(file).resolve() if file and Path(file).is_file() else None


def source_files(*classes: type) -> dict[str, str]:
    """The source of classes that do not ship, by file name; the class alone where it has no file."""
    own = Path(__file__).resolve().parents[1]
    found: dict[str, str] = {}
    for cls in classes:
        file = _file_of(cls)
        if file is not None:
            if own in file.parents and "gallery" not in file.parts:
                continue
            found[file.name] = file.read_text(encoding="utf-8")
    return found
