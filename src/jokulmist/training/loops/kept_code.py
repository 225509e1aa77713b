"""Compiled code, kept between processes without being traced again.

JAX keeps what it compiled by what was traced and lowered; so a process traces and lowers to find it, which for an agent with networks takes
longer than everything else before the first decision. Here a program is found by what it is made of: what the environment's own methods
compute (traced anew each time, which is quick, so that a table that a method reads from outside counts), the method, its settings that are
shapes, and the files and versions that the rest stems from. Only of methods and networks that ship: of others, other code may stand behind
the same name.
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
from functools import cache, lru_cache
from pathlib import Path
from typing import Any

import jax
import numpy as np

from jokulmist.agents.contract import Agent, Shapes
from jokulmist.agents.players import PlayerAgents
from jokulmist.environments.chance.draws import Request
from jokulmist.lanes.compiled.copies import CompiledEnvironment
from jokulmist.learning.schedules import Schedule
from jokulmist.loading import ships
from jokulmist.training.plans.fingerprint import keep, kept_place, surroundings

PROGRAMS = "programs"
MOST_KEPT = 400
# The rooms whose code is traced into a program.
TRACED = ("agents", "environments", "lanes", "learning", "training/loops", "loading.py", "trees.py")
SMALL_BYTES = 4096
DIGEST = hashlib.sha256().digest_size
PLAIN = (type(None), bool, int, float, str, bytes, np.generic)


def key_of(compiled: CompiledEnvironment, agent: Agent, shapes: Shapes) -> str | None:
    """A name for the program of an environment and an agent; None where other code may stand behind the same name."""
    d = compiled.description
    if any(modifier.functions() for modifier in d.modifiers):
        return None
    around = (
        d.modifiers,
        d.deadline,
        d.time_limit,
        d.decide_every,
        str(d.meanwhile),
        d.bare,
        d.varying and d.varying.key,
    )
    return _key(agent, shapes, compiled.computed, written(around))


def key_of_update(agent: Agent, shapes: Shapes) -> str | None:
    """A name for the program of an update, which knows nothing of the environment but its channels and actions."""
    return _key(agent, shapes)


def _key(agent: Agent, shapes: Shapes, *parts: str | None) -> str | None:
    debugging = any(
        getattr(jax.config, f"jax_{name}") for name in ("enable_x64", "debug_nans", "debug_infs", "disable_jit")
    )
    found = [*parts, _settings(agent), written(shapes.spec), written(tuple(agent.numbers()))]
    if debugging or None in found:
        return None
    plain = {name: told for name, value in vars(shapes).items() if (told := written(value)) is not None}
    said = [*found, sorted(plain.items()), surroundings(TRACED), os.environ.get("XLA_FLAGS", ""), *_how_jax_is_set()]
    return hashlib.sha256("\n".join(map(str, said)).encode()).hexdigest()[:32]


def _how_jax_is_set() -> list[str]:
    """What JAX was told; where it keeps things does not matter, nor what it says."""
    told: dict[str, Any] = getattr(jax.config, "values", {})
    return [f"{name}={value!r}" for name, value in sorted(told.items()) if "cache" not in name and "log" not in name]


def _settings(agent: Any) -> str | None:
    """A method and its settings but the numbers, which are arguments of the program; those of players one after another."""
    if isinstance(agent, PlayerAgents):
        told = [_settings(one) for one in agent.agents.values()]
        return None if None in told else f"{list(agent.agents)} {told}"
    kind = type(agent)
    # Also of a method that ships somebody may have exchanged a function while the program runs.
    if not (agent.learns and ships(kind) and ships(kind.choose) and ships(kind.learn)):
        return None
    found = written({name: value for name, value in agent if not isinstance(value, (float, Schedule))})
    return found and f"{type(agent).__qualname__} {found}"


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
    told = [written(part) for part in parts]
    return None if None in told else f"{kind.__name__}({', '.join(map(str, told))})"


class KeptRequests:
    """What a method asks of chance, kept beside its program, because counting it is tracing the whole method."""

    def __init__(self, key: str | None) -> None:
        self._place = None if key is None else kept_place(PROGRAMS) / f"{key}.json"

    def read(self) -> tuple[tuple[Request, ...], ...] | None:
        if self._place is None:
            return None
        try:
            said = json.loads(self._place.read_text())
            return tuple(tuple(Request(kind, int(width)) for kind, width in part) for part in said)
        except (OSError, ValueError, TypeError):
            return None

    def keep(self, requests: tuple[tuple[Request, ...], ...]) -> None:
        if self._place is not None:
            keep(self._place, json.dumps([[(r.kind, r.width) for r in part] for part in requests]).encode(), MOST_KEPT)


class KeptFunction:
    """A traced function of trees of arrays, compiled for each form of its arguments, or read from what another process compiled."""

    def __init__(self, function: Callable[..., Any], key: str | None, handed_on: int | None = None) -> None:
        self._function, self._handed_on, self.name = function, handed_on, function.__name__
        self._key = key and f"{key} {self.name}"
        self._jitted: Any = jax.jit(function, donate_argnums=() if handed_on is None else (handed_on,))
        self._found: dict[Any, Any] = {}
        self._before: dict[int, tuple[Any, Any]] = {}  # by place: what stood there in the last call, and where it is

    def __call__(self, *arguments: Any) -> Any:
        if self._key is None:
            return self._jitted(*arguments)
        leaves, tree = jax.tree.flatten(arguments)
        form = (tree, tuple((leaf.shape, leaf.dtype) for leaf in leaves))
        if form not in self._found:
            self._found[form] = self._loaded(arguments, leaves, tree, form[1])
        executable, gives, used_up = self._found[form]
        if executable is None:
            return self._jitted(*arguments)
        results = executable.execute_sharded(self._placed(leaves, used_up)).disassemble_into_single_device_arrays()
        return jax.tree.unflatten(gives, [result[0] for result in results])

    def _used_up(self, arguments: Any) -> range:
        """The places of the arrays that a call uses up, among all."""
        if self._handed_on is None:
            return range(0)
        start = len(jax.tree.leaves(arguments[: self._handed_on]))
        return range(start, start + len(jax.tree.leaves(arguments[self._handed_on])))

    def _placed(self, leaves: list[Any], used_up: range) -> list[Any]:
        """The arguments where the program finds them. Small ones are mostly what they were in the call before, such as parameters, and are there already."""
        found, new = list(leaves), list[tuple[int, Any]]()
        for k, leaf in enumerate(leaves):
            if isinstance(leaf, jax.Array):
                continue
            if leaf.nbytes > SMALL_BYTES or k in used_up:  # what was used up is not there any more
                new.append((k, None))
                continue
            content = (leaf.shape, leaf.dtype, leaf.tobytes())
            known = self._before.get(k)
            if known is not None and known[0] == content:
                found[k] = known[1]
            else:
                new.append((k, content))
        for (k, content), array in zip(new, _on_device([leaves[k] for k, _ in new]), strict=True):
            found[k] = array
            if content is not None:
                self._before[k] = (content, array)
        return found

    @property
    def forms(self) -> int:
        """For how many forms of its arguments it was compiled."""
        return len(self._found) or int(self._jitted._cache_size())

    def _loaded(self, arguments: Any, leaves: list[Any], tree: Any, form: Any) -> Any:
        """The executable for arguments of a form, or None where this version of JAX does not give it; the form of what it gives; what it uses up."""
        said = hashlib.sha256(f"{self._key} {tree} {form}".encode()).hexdigest()[:32]
        place = kept_place(PROGRAMS) / f"{said}.code"
        used_up = self._used_up(arguments)
        with contextlib.suppress(Exception):  # torn, or of another version: it is compiled anew
            return *_executable(place.read_bytes()), used_up
        with _one_at_a_time(place.with_suffix(".lock")):
            with contextlib.suppress(Exception):  # another process has compiled it meanwhile
                return *_executable(place.read_bytes()), used_up
            return *self._compiled(leaves, tree, place, used_up), used_up

    def _compiled(self, leaves: list[Any], tree: Any, place: Path, used_up: range) -> tuple[Any, Any]:
        """Compile it for arguments of a form, and keep it with the form of what it gives."""
        gives: Any = None

        def flat(*leaves: Any) -> Any:
            nonlocal gives
            given, gives = jax.tree.flatten(self._function(*jax.tree.unflatten(tree, leaves)))
            return given

        # Code that JAX read from its own cache cannot be written again: it would be kept without its functions. So it is not looked for there.
        flat.__name__ = f"kept_{uuid.uuid4().hex}"
        with _not_kept_by_jax():
            compiled = jax.jit(flat, donate_argnums=tuple(used_up), keep_unused=True).lower(*leaves).compile()
        found: Any = compiled.runtime_executable()
        if not hasattr(found, "execute_sharded"):
            return None, gives
        with contextlib.suppress(Exception):  # whatever this version calls it, the program at hand is good
            said = pickle.dumps((gives, found.serialize()))
            keep(place, hashlib.sha256(said).digest() + said, MOST_KEPT)
        return found, gives


def _on_device(arrays: list[Any]) -> list[Any]:
    """NumPy arrays as the program takes them. What JAX does for any kind of argument takes six times as long."""
    try:
        from jax._src.lib import xla_client  # type: ignore[attr-defined]

        device, place = _device()
        return [xla_client.batched_device_put(_form(a.shape, a.dtype), place, [a], [device]) for a in arrays]
    except (ImportError, AttributeError, TypeError):  # another version calls it otherwise
        placed: list[Any] = jax.device_put(arrays)
        return placed


@cache
def _device() -> tuple[Any, Any]:
    device = jax.devices()[0]
    return device, jax.sharding.SingleDeviceSharding(device)


@lru_cache(maxsize=1024)
def _form(shape: tuple[int, ...], dtype: Any) -> Any:
    return jax.core.ShapedArray(shape, dtype)


@contextlib.contextmanager
def _one_at_a_time(lock: Path) -> Iterator[None]:
    """Of several processes that need the same program, such as the workers of a search, one compiles it, and the others wait for it."""
    with contextlib.ExitStack() as held:
        with contextlib.suppress(OSError):  # where nothing can be kept, each compiles for itself
            lock.parent.mkdir(parents=True, exist_ok=True)
            stream = held.enter_context(lock.open("a"))
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


def _executable(kept: bytes) -> tuple[Any, Any]:
    """The program that `keep` wrote, and the form of what it gives."""
    from jax._src.lib import xla_client  # type: ignore[attr-defined]

    digest, said = kept[:DIGEST], kept[DIGEST:]
    if hashlib.sha256(said).digest() != digest:
        raise ValueError("damaged")
    gives, code = pickle.loads(said)
    device = jax.devices()[0]
    return device.client.deserialize_executable(code, xla_client.DeviceList((device,))), gives
