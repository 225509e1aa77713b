"""A name for an environment by all that it is: code, parameters, weights, modifiers. What was found out about it is
kept under that name, for other processes."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import platform
import sys
from functools import cache, lru_cache
from importlib.metadata import version
from pathlib import Path
from typing import Any

import jokulmist
from jokulmist.environments.declaration.instance import describe, modifiers_of, outline_of, settings_of
from jokulmist.environments.environment import Environment
from jokulmist.errors import JokulmistError, RecordError
from jokulmist.plans.sources import plan_code
from jokulmist.records.files import replace_file

COMPILES = "compiles"


@lru_cache(maxsize=64)  # the code is read for it, and each evaluation asks several times
def fingerprint(environment: Environment) -> str | tuple[Any, ...]:
    """A text that may name a file; of a class whose code is nowhere, or that is modified by functions, a key in this
    process alone."""
    cls, (parameters, weights) = type(environment), settings_of(environment)
    modifiers = modifiers_of(environment)
    modified = [modifier.written() for modifier in modifiers]
    varying = describe(environment).varying
    varied = varying.written() if varying is not None else None
    settings = json.dumps([parameters, weights, modified, varied], sort_keys=True, default=str)
    identity = (cls, settings, tuple(modifiers), varying)
    if varying is not None and callable(varying.vary):  # its code may use anything of its module
        return identity
    try:
        code = plan_code(environment)
    except JokulmistError:  # its file was edited since it was read: what it was is nowhere
        return identity
    version = code.versions.get(cls.__qualname__)
    if version is None or code.unkept or any(modifier.functions() for modifier in modifiers):
        return identity
    series = {series_part.name: series_part.array.tolist() for series_part in outline_of(cls).series}
    content = json.dumps([cls.__qualname__, version, series, settings], sort_keys=True)
    return hashlib.sha256(content.encode()).hexdigest()[:24]


def cache_place(kind: str) -> Path:
    """A folder in the user's cache, where the XDG Base Directory Specification has it."""
    cache = os.environ.get("XDG_CACHE_HOME", "")
    return (Path(cache) if cache else Path.home() / ".cache") / "jokulmist" / kind


def store_cached(place: Path, content: bytes, most: int) -> None:
    """Write a file of the cache, and delete those beside it that were written first once there are more than so
    many."""
    with contextlib.suppress(OSError, RecordError):  # a home that cannot be written: it is found again each time
        place.parent.mkdir(parents=True, exist_ok=True)
        replace_file(place, content)
        files = sorted(place.parent.iterdir(), key=lambda path: path.stat().st_mtime)
        for old in files[: max(0, len(files) - most)]:
            old.unlink(missing_ok=True)


def known_to_compile(environment: Environment) -> bool:
    """Whether another process has found that the environment can be compiled, with this library, these versions and
    this kind of processor."""
    key = _compiling(environment)
    return key is not None and (cache_place(COMPILES) / key).exists()


def note_that_it_compiles(environment: Environment) -> None:
    """Keep that for other processes; why one does not compile is found again, because it names lines."""
    key = _compiling(environment)
    if key is None:
        return
    with contextlib.suppress(OSError):  # a home that cannot be written: it is known in this process alone
        place = cache_place(COMPILES)
        place.mkdir(parents=True, exist_ok=True)
        (place / key).touch()


def _compiling(environment: Environment) -> str | None:
    key = fingerprint(environment)
    return f"{key}-{surroundings()}" if isinstance(key, str) else None


@cache
def surroundings(rooms: tuple[str, ...] = ("",)) -> str:
    """What else decides: versions, the processor, and what is in the files of this library, or of these rooms of
    it, which change while it is worked on."""
    versions = [version(name) for name in ("jax", "jaxlib", "numpy", "optax")]
    package = Path(jokulmist.__file__).parent
    files = [
        file
        for room in rooms
        for file in ([package / room] if room.endswith(".py") else (package / room).rglob("*.py"))
    ]
    digests = [
        (str(file.relative_to(package)), hashlib.sha256(file.read_bytes()).hexdigest()) for file in sorted(files)
    ]
    content = json.dumps([versions, sys.version, platform.machine(), _processor(), digests])
    return hashlib.sha256(content.encode()).hexdigest()[:12]


def _processor() -> str:
    """What the processor can do: a home may be shared by machines that differ in it."""
    with contextlib.suppress(OSError):
        lines = Path("/proc/cpuinfo").read_text(encoding="utf-8", errors="replace").splitlines()
        return "".join(
            dict.fromkeys(line for line in lines if line.startswith(("model name", "flags", "Features", "CPU part")))
        )
    return platform.processor()
