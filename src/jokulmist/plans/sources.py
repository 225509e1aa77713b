"""From the words of a plan to classes, and back: gallery names, ``path/to/file.py:Class``, ``package.module:Class``."""

from __future__ import annotations

import importlib
import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from jokulmist.agents.contract import Agent
from jokulmist.agents.fixed import Fixed
from jokulmist.agents.players import PlayerAgents
from jokulmist.agents.registry import AGENTS
from jokulmist.agents.roster import Roster
from jokulmist.environments.declaration.instance import outline_of
from jokulmist.environments.environment import Environment
from jokulmist.errors import LookupFailed, SettingError, UntrustedCode, listed, nearest
from jokulmist.gallery import SHIPPED
from jokulmist.learning.schedules import following
from jokulmist.loading import Base, base_of, function_named, module_of, name_of, ships
from jokulmist.records.files import as_lists, read_json
from jokulmist.records.run_folder import PLAYERS
from jokulmist.remote.environment import RemoteSimulator
from jokulmist.sources.slices import changes
from jokulmist.sources.snapshot import Code, SourceSnapshot, code_of
from jokulmist.sources.trust import REMOTE_FILE, SOURCE, refuse_unknown

REMOTE = "remote"


def environment_class(use: str, base: Path | None = None) -> type[Environment]:
    """The class that a plan's ``environment.use`` or a command's ENV names."""
    if not isinstance(use, str) or not use:
        raise LookupFailed(f"an environment is named by a text; got {use!r}. Use a gallery name or `file.py:Class`.")
    if use == REMOTE or use.startswith(f"{REMOTE}:"):
        maker: type[Environment] = _remote(use.partition(":")[2], base_of(base))
        return maker
    if use in SHIPPED:
        module, name = SHIPPED[use]
        snapshot = base_of(base).snapshot()
        found_in = (
            snapshot.module(module)
            if snapshot is not None and module in snapshot.places
            else importlib.import_module(module)
        )
        shipped: type[Environment] = getattr(found_in, name)
        return shipped
    if ":" not in use and not use.endswith(".py"):
        raise LookupFailed(
            f"no environment `{use}`; the gallery has {listed(SHIPPED)}.{nearest(use, SHIPPED)} "
            f"For your own write `path/to/file.py:Class`."
        )
    kind: type[Environment] = _named(use, Environment, "an environment", base)
    return kind


def _remote(address: str, base: Base) -> Any:
    """What makes an environment of a program from the settings of a plan."""

    def make(**settings: Any) -> Environment:
        from jokulmist.remote.environment import Remote

        connection = {"address": address, **settings} if address else settings
        if base.is_record:  # whoever sent the folder would have a program started, or called
            assert base.folder is not None
            refuse_unknown(base.folder / SOURCE)
            stored = read_json(base.folder / SOURCE / REMOTE_FILE)
            settings_asked = {name: connection.get(name) for name in stored}
            if settings_asked != stored:
                raise UntrustedCode(
                    f"the plan in {base.folder} names another program than the run keeps in {SOURCE}/{REMOTE_FILE}; "
                    "it was changed.",
                    None,
                )
        return Remote(**connection)

    return make


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
    kind: type[Agent] = _named(use, Agent, "an agent", base)
    return kind


def agent_from(settings: Mapping[str, Any], base: Path | None = None) -> Any:
    """An agent from its settings in a plan, or a dict of them by player; paths of files of one's own start from
    `base`."""
    settings = dict(settings)
    if settings.get("use") == PLAYERS:
        members = {player: member for player, member in settings.items() if player != "use"}
        wrong = [player for player, member in members.items() if not isinstance(member, Mapping) or "use" not in member]
        if wrong:
            raise SettingError(f'`[agents.{wrong[0]}]` does not say what to use. Write `use = "PPO"`.')
        return {player: agent_from(member, base) for player, member in members.items()}
    if isinstance(settings.get("policies"), list):
        settings["policies"] = [
            agent_from(policy, base) if isinstance(policy, Mapping) else policy for policy in settings["policies"]
        ]
    if isinstance(settings.get("inner"), Mapping):
        settings["inner"] = agent_from(settings["inner"], base)
    if "use" not in settings:
        raise SettingError(f'an agent does not say what to use; got {settings!r:.80}. Write `use = "PPO"`.')
    kind = agent_class(settings.pop("use"), base)
    if isinstance(settings.get("network"), str) and ":" in settings["network"]:
        settings["network"] = function_named(settings["network"], base)
    for name, value in settings.items():
        if isinstance(value, Mapping) and isinstance(value.get("function"), str):
            settings[name] = following(function_named(value["function"], base))
    return kind(**settings)


def agent_described(agent: Agent, full: bool = True) -> dict[str, Any]:
    """An agent's settings as a plan, or with `full` the record of a policy, holds them; `agent_from` reads them
    back."""
    if isinstance(agent, PlayerAgents):
        if len(agent.agents) == 1:
            return agent_described(next(iter(agent.agents.values())), full)
        return {"use": PLAYERS, **{player: agent_described(member, full) for player, member in agent.agents.items()}}
    settings = {"use": use_of(type(agent)), **as_lists(agent.written())}
    if full and isinstance(agent, Fixed) and agent.inner is not None:
        settings["inner"] = agent_described(agent.inner)
    if isinstance(agent, Roster):
        short = [
            member.policy if isinstance(member, Fixed) and member.act == "greedy" and not full else None
            for member in agent.policies
        ]
        settings["policies"] = [
            name or agent_described(member, full) for name, member in zip(short, agent.policies, strict=True)
        ]
    return settings


def _named(use: str, kind: type, noun: str, base: Path | None) -> Any:
    place, _, name = use.rpartition(":") if ":" in use else (use, "", "")
    module = module_of(place, base)
    classes = {
        n: v
        for n, v in vars(module).items()
        if isinstance(v, type) and issubclass(v, kind) and v.__module__ == module.__name__ and not _is_abstract(v)
    }
    if not name and len(classes) == 1:
        return next(iter(classes.values()))
    if not name:
        raise LookupFailed(f"{place} has {listed(classes)}; say which, e.g. `{place}:{next(iter(classes), 'Class')}`.")
    named = getattr(module, name, None)
    if not (isinstance(named, type) and issubclass(named, kind)):
        raise LookupFailed(
            f"{place} has no class `{name}` that is {noun}; it has {listed(classes)}.{nearest(name, classes)}"
        )
    return named


def _is_abstract(cls: type) -> bool:
    """Whether a class is a base of environments and none itself."""
    return issubclass(cls, Environment) and cls._abstract


def use_of(cls: type) -> str:
    """The text that names a class again: what a plan holds."""
    if issubclass(cls, RemoteSimulator):
        return REMOTE
    for name, (module, shipped) in SHIPPED.items():
        if cls.__qualname__ == shipped and name_of(cls) == f"{module}:{shipped}":
            return name
    if cls.__name__ in AGENTS and AGENTS[cls.__name__] is cls:
        return cls.__name__
    return name_of(cls)


def plan_code(environment: Environment, *more: Any) -> Code:
    """The code of an environment, an agent and functions: all that does not ship, and the gallery's environment."""
    objects = [type(environment), *more]
    data = {cls: [s.file for s in _series_of(cls) if s.file is not None and s.file.is_file()] for cls in objects}
    code = code_of(
        (obj for obj in objects if not ships(obj) or is_gallery_class(obj)),
        lambda obj: name_of(obj).rpartition(":")[0],
        data,
    )
    if isinstance(environment, RemoteSimulator):
        code.contents[REMOTE_FILE] = json.dumps(remote_written(environment), indent=1, sort_keys=True).encode()
    return code


def remote_written(environment: Environment) -> dict[str, Any]:
    """How a program is reached and what it says of itself, as a plan holds it; empty for any other environment.

    The order of its channels is that of a network's inputs.
    """
    if not isinstance(environment, RemoteSimulator):
        return {}
    return {**environment.connection, "described": json.dumps(environment.described)}


def version_changes(
    before: SourceSnapshot, after: SourceSnapshot | None, use: str, use_after: str | None = None
) -> str:
    """How an environment differs between two runs, or between a run and now, in words."""
    place, name = _place_and_name(use)
    place_after, _ = _place_and_name(use_after or use)
    if place not in before.places or (after is not None and place_after not in after.places):
        return "its class is in another file"
    old = before.class_parts(place, name)
    new = before.class_parts(place, name, current=True) if after is None else after.class_parts(place_after, name)
    if not new:
        return f"{Path(place).name} has no `{name}` any more"
    changed = changes(old, new)
    return f"{', '.join(changed)}" if changed else f"`{name}` is the same, and something that it uses has changed"


def _place_and_name(use: str) -> tuple[str, str]:
    return SHIPPED[use] if use in SHIPPED else (use.rpartition(":")[0], use.rpartition(":")[2])


def is_gallery_class(obj: Any) -> bool:
    """Whether it is one of the shipped environments."""
    return any((obj.__module__, obj.__qualname__) == shipped for shipped in SHIPPED.values())


def _series_of(cls: Any) -> tuple[Any, ...]:
    """The series of an environment's class, whose files belong to its source."""
    return outline_of(cls).series if isinstance(cls, type) and issubclass(cls, Environment) else ()
