"""Compiled code, kept between processes without being traced again.

JAX keeps what it compiled by what was traced and lowered; so a process traces and lowers to find it, which for an agent
with networks takes longer than everything else before the first decision. Here a program is found by what it is made
of: what the environment's own methods compute (traced again each time, which is quick, so that a table that a method
reads from outside counts), the method, its static settings, and the files and versions that the rest stems
from. Only of methods and networks that ship: of others, other code may stand behind the same name.
"""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import json
import math
import os
import pickle
import uuid
from collections.abc import Callable, Iterator, Mapping
from dataclasses import fields, is_dataclass
from pathlib import Path
from typing import Any

import jax
import numpy as np
from jax.experimental import serialize_executable

from jokulmist.agents.configs import Config
from jokulmist.agents.contract import Agent
from jokulmist.agents.players import PlayerAgents
from jokulmist.environments.chance.draws import Request
from jokulmist.lanes.compiled.copies import CompiledEnvironment
from jokulmist.learning.schedules import Schedule
from jokulmist.loading import ships
from jokulmist.plans.fingerprint import cache_place, store_cached, surroundings

PROGRAMS = "programs"
MOST_KEPT = 400
# The code that is traced into a program.
TRACED = (
    "agents",
    "environments",
    "lanes",
    "learning",
    "loops/compiled_turn.py",
    "loops/contract.py",
    "loops/episode_row.py",
    "loops/program.py",
    "loading.py",
    "trees.py",
)
DIGEST = hashlib.sha256().digest_size
PLAIN = (type(None), bool, int, float, str, bytes, np.generic)


def key_of(compiled: CompiledEnvironment, agent: Agent, config: Config) -> str | None:
    """A name for the program of an environment and an agent; None where other code may stand behind the same name."""
    d = compiled.description
    if any(modifier.functions() for modifier in d.modifiers):
        return None
    context = (
        d.modifiers,
        d.deadline,
        d.time_limit,
        d.decide_every,
        str(d.meanwhile),
        d.bare,
        d.varying and d.varying.key,
    )
    return _key(agent, config, compiled.computed, written(context))


def key_of_update(agent: Agent, config: Config) -> str | None:
    """A name for the program of an update, which knows nothing of the environment but its channels and actions."""
    return _key(agent, config)


def _key(agent: Agent, config: Config, *parts: str | None) -> str | None:
    debugging = any(
        getattr(jax.config, f"jax_{name}") for name in ("enable_x64", "debug_nans", "debug_infs", "disable_jit")
    )
    parts_found = [*parts, _settings(agent), written(config.spec), written(tuple(agent.schedules()))]
    if debugging or None in parts_found:
        return None
    plain = {name: text for name, value in vars(config).items() if (text := written(value)) is not None}
    content = [
        *parts_found,
        sorted(plain.items()),
        surroundings(TRACED),
        os.environ.get("XLA_FLAGS", ""),
        *_how_jax_is_set(),
    ]
    return hashlib.sha256("\n".join(map(str, content)).encode()).hexdigest()[:32]


def _how_jax_is_set() -> list[str]:
    """What JAX was told; where it keeps things does not matter, nor what it says."""
    values: dict[str, Any] = getattr(jax.config, "values", {})
    return [f"{name}={value!r}" for name, value in sorted(values.items()) if "cache" not in name and "log" not in name]


def _settings(agent: Agent) -> str | None:
    """A method and its settings but the numbers, which are arguments of the program; those of players one after
    another."""
    if isinstance(agent, PlayerAgents):
        texts = [_settings(member) for member in agent.agents.values()]
        return None if None in texts else f"{list(agent.agents)} {texts}"
    kind = type(agent)
    # Also of a method that ships somebody may have exchanged a function while the program runs.
    if not (agent.learns and ships(kind) and ships(kind.choose) and ships(kind.learn)):
        return None
    text = written({name: value for name, value in agent if not isinstance(value, (float, Schedule))})
    return text and f"{type(agent).__qualname__} {text}"


def written(value: Any) -> str | None:
    """A value as a text that is another for another value; None of what is not known to be told by its parts."""
    kind = type(value)
    if isinstance(value, PLAIN):
        return f"{kind.__name__} {value!r}"
    if isinstance(value, type):
        return f"{value.__module__}.{value.__qualname__}" if ships(value) else None
    if isinstance(value, np.ndarray):
        return f"array {value.dtype} {value.shape} {hashlib.sha256(value.tobytes()).hexdigest()}"
    if isinstance(value, Mapping):
        parts: Any = [part for item in value.items() for part in item]
    elif isinstance(value, (list, tuple)):
        parts = value
    elif ships(kind) and is_dataclass(value):
        parts = [getattr(value, field.name) for field in fields(value)]
    elif ships(kind) and hasattr(value, "__dict__"):
        parts = [part for item in vars(value).items() for part in item]
    else:
        return None
    texts = [written(part) for part in parts]
    return None if None in texts else f"{kind.__name__}({', '.join(map(str, texts))})"


class CachedRequests:
    """What a method asks of chance, kept beside its program, because counting it is tracing the whole method."""

    def __init__(self, key: str | None) -> None:
        self._place = None if key is None else cache_place(PROGRAMS) / f"{key}.json"

    def read(self) -> tuple[tuple[Request, ...], ...] | None:
        if self._place is None:
            return None
        try:
            content = json.loads(self._place.read_text())
            return tuple(tuple(Request(kind, int(width)) for kind, width in part) for part in content)
        except (OSError, ValueError, TypeError):
            return None

    def store(self, requests: tuple[tuple[Request, ...], ...]) -> None:
        if self._place is not None:
            store_cached(
                self._place, json.dumps([[(r.kind, r.width) for r in part] for part in requests]).encode(), MOST_KEPT
            )


class CachedFunction:
    """A traced function of trees of arrays, compiled for each form of its arguments, or read from what another process
    compiled.

    Parameters
    ----------
    function : callable
    key : str or None
        As `key_of` gives it; without one JAX alone keeps what was compiled.
    handed_on : int, optional
        The place of an argument whose arrays are used up by a call.
    """

    def __init__(self, function: Callable[..., Any], key: str | None, handed_on: int | None = None) -> None:
        self.name = function.__name__
        self._key = key and f"{key} {self.name}"
        self._function, self._used_up = function, () if handed_on is None else (handed_on,)
        self._jitted: Any = jax.jit(function, donate_argnums=self._used_up)
        self._programs: dict[Any, Any] = {}

    def __call__(self, *arguments: Any) -> Any:
        if self._key is None:
            return self._jitted(*arguments)
        leaves, tree = jax.tree.flatten(arguments)
        form = (tree, tuple((leaf.shape, leaf.dtype) for leaf in leaves))
        if form not in self._programs:
            self._programs[form] = self._loaded(arguments, form)
        return self._programs[form](*arguments)

    @property
    def forms(self) -> int:
        """For how many forms of its arguments it was compiled."""
        return len(self._programs) or int(self._jitted._cache_size())

    def _loaded(self, arguments: Any, form: Any) -> Any:
        """The program for arguments of a form."""
        file_name = hashlib.sha256(f"{self._key} {form}".encode()).hexdigest()[:32]
        place = cache_place(PROGRAMS) / f"{file_name}.code"
        with contextlib.suppress(Exception):  # torn, or of another version: it is compiled again
            return _executable(place.read_bytes())
        with _one_at_a_time(place.with_suffix(".lock")):
            with contextlib.suppress(Exception):  # another process has compiled it meanwhile
                return _executable(place.read_bytes())
            return self._compiled(arguments, place)

    def _compiled(self, arguments: Any, place: Path) -> Any:
        """Compile it for arguments of a form, and keep it."""

        def function(*arguments: Any) -> Any:
            return self._function(*arguments)

        # Code that JAX read from its own cache cannot be written again: it would be kept without its functions. So it
        # is not looked for there.
        function.__name__ = f"kept_{uuid.uuid4().hex}"
        with _not_kept_by_jax():
            compiled = jax.jit(function, donate_argnums=self._used_up, keep_unused=True).lower(*arguments).compile()
        with contextlib.suppress(Exception):  # whatever this version calls it, the program at hand is good
            content = pickle.dumps(serialize_executable.serialize(compiled))
            store_cached(place, hashlib.sha256(content).digest() + content, MOST_KEPT)
        return compiled


@contextlib.contextmanager
def _one_at_a_time(lock: Path) -> Iterator[None]:
    """Of several processes that need the same program, such as the workers of a search, one compiles it, and the others
    wait for it."""
    with contextlib.ExitStack() as stack:
        with contextlib.suppress(OSError):  # where nothing can be kept, each compiles for itself
            lock.parent.mkdir(parents=True, exist_ok=True)
            stream = stack.enter_context(lock.open("a"))
            fcntl.flock(stream, fcntl.LOCK_EX)  # given back by the system when the process ends
        yield


@contextlib.contextmanager
def _not_kept_by_jax() -> Iterator[None]:
    """What is compiled meanwhile is not written to JAX's own cache."""
    name = "jax_persistent_cache_min_compile_time_secs"
    before = getattr(jax.config, name)
    jax.config.update(name, math.inf)  # type: ignore[no-untyped-call]
    try:
        yield
    finally:
        jax.config.update(name, before)  # type: ignore[no-untyped-call]


def _executable(stored: bytes) -> Any:
    """The program that `store_cached` wrote."""
    digest, content = stored[:DIGEST], stored[DIGEST:]
    if hashlib.sha256(content).digest() != digest:
        raise ValueError("damaged")
    return serialize_executable.deserialize_and_load(*pickle.loads(content))
