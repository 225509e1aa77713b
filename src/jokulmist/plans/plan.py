"""A plan: all that is asked of a run, as a TOML file and as checked objects."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import (
    AfterValidator,
    BeforeValidator,
    ConfigDict,
    Field,
    field_validator,
    model_validator,
)

from jokulmist.agents.contract import Agent
from jokulmist.agents.players import TOGETHER, PlayerAgents, agents_of
from jokulmist.environments.chance.noise import checked_seed
from jokulmist.environments.declaration.instance import describe, modifiers_of, settings_of, varied, with_varying
from jokulmist.environments.environment import Environment
from jokulmist.environments.modifiers import modifier_from
from jokulmist.environments.simulator import Simulator
from jokulmist.environments.spaces.player_actions import own_name, owner_of
from jokulmist.environments.varying import Levels, Vary, Varying, levels_from, vary_from
from jokulmist.errors import JokulmistError, SettingError, listed, nearest
from jokulmist.loading import function_named, looking_in, name_of
from jokulmist.plans.observers import Observer, checked_observers, observer_from
from jokulmist.plans.sources import (
    agent_described,
    agent_from,
    environment_class,
    remote_written,
    use_of,
)
from jokulmist.plans.stopping import stop_when_from
from jokulmist.plans.stopping import written as written_stop
from jokulmist.records.files import read_toml
from jokulmist.records.run_folder import AGENTS, with_one_agent, with_tables
from jokulmist.settings import Settings

OBSERVERS = "observers"
NEEDED = ("environment", "agent", "training")
TABLES = (*NEEDED, "vary", "curriculum")
SECTIONS = (*TABLES, AGENTS, OBSERVERS)
TUNING = "tuning"
MOST_COPIES = 65_536


Seed = Annotated[int, AfterValidator(checked_seed)]


def _require_whole(value: Any) -> Any:
    """A float without a fraction, such as 1e6, as the whole number that it is."""
    return int(value) if isinstance(value, float) and value.is_integer() else value


Count = Annotated[int, Field(gt=0, le=10**15, strict=True), BeforeValidator(_require_whole)]


class Training(Settings):
    """How long and how a run trains. All counts are decisions, summed over copies."""

    model_config = ConfigDict(defer_build=True)
    name_in_messages = "training"

    steps: Count | None = None
    episodes: Count | None = None
    seeds: tuple[Seed, ...] = (0,)
    copies: Annotated[int, Field(ge=1, le=MOST_COPIES, strict=True)] | None = None
    lane: Literal["auto", "plain", "compiled"] = "auto"
    evaluate_every: Count | None = None
    evaluate_episodes: Count = 100
    panel: Annotated[tuple[Annotated[str, Field(min_length=1)], ...], Field(min_length=1)] | None = None
    processes: bool = False
    checkpoint_every: Count | None = None
    checkpoint_minutes: Annotated[float, Field(gt=0.0)] = 5.0
    keep_checkpoints: Count = 3
    keep_diff: bool = False
    best_by: str = "return"
    record_every: Count | None = None
    stop_when: Any = None
    start: Annotated[str, Field(min_length=1)] | None = None
    records: Annotated[tuple[Annotated[str, Field(min_length=1)], ...], Field(min_length=1)] | None = None
    columns: dict[str, str] | None = None

    @field_validator("stop_when")
    @classmethod
    def _stop_when(cls, value: Any) -> Any:
        return stop_when_from(value)

    def written(self) -> dict[str, Any]:
        """As the section of a plan."""
        settings = {k: v for k, v in self.model_dump(exclude={"stop_when"}).items() if v is not None}
        for name in ("seeds", "records", "panel"):
            if name in settings:
                settings[name] = list(settings[name])
        if self.stop_when is not None:
            settings["stop_when"] = written_stop(self.stop_when)
        return settings

    def changed(self, **settings: Any) -> Training:
        """The same with some settings changed."""
        return Training(**{**{name: getattr(self, name) for name in type(self).model_fields}, **settings})

    @model_validator(mode="before")
    @classmethod
    def _one_seed(cls, values: Any) -> Any:
        if isinstance(values, Mapping) and "seed" in values:
            if values.get("seeds") is not None:
                raise SettingError("`training` has both `seed` and `seeds`; keep one of them.")
            values = {**values, "seeds": [values["seed"]]}
            del values["seed"]
        return values

    def __init__(self, **settings: Any) -> None:
        super().__init__(**settings)
        if (self.steps is None) == (self.episodes is None):
            raise SettingError(
                "say how long to train by `steps` or by `episodes`, one of them. Use for instance `steps = 200_000`."
            )
        if not self.seeds:
            raise SettingError("`seeds` is empty; give at least one, e.g. `seeds = [0, 1, 2]`.")
        if len(set(self.seeds)) != len(self.seeds):
            raise SettingError(f"`seeds` names a seed twice: {list(self.seeds)}. The runs would be the same.")


@dataclass(frozen=True)
class Plan:
    """All that is asked: an environment, an agent, and how to train."""

    environment: Environment
    agent: Agent
    training: Training
    vary: Vary | None = None
    curriculum: Levels | None = None
    observers: tuple[Observer, ...] = ()

    def __post_init__(self) -> None:
        object.__setattr__(self, "agent", agents_of(self.agent, describe(self.environment).action))
        object.__setattr__(self, "observers", checked_observers(self.observers))
        _ = self.stage  # what cannot vary is refused at once
        if self.training.processes and not isinstance(self.environment, Simulator):
            raise SettingError(
                f"`processes` is for a `jm.Simulator`; `{describe(self.environment).name}` is none, and its copies "
                "step side by side here. Leave `processes` out."
            )
        if self.training.records is not None:
            object.__setattr__(self, "training", self._on_records())
        elif self.training.columns is not None:
            raise SettingError("`columns` says what columns of `records` are called, and there are none. Leave it out.")
        begins_with_learned = self.training.start is not None
        if begins_with_learned:
            object.__setattr__(self, "agent", self.agent.with_start_defaults(self.training.steps))
        if self.training.copies is None:
            copies = self.agent.copies_for(self.training.steps, begins_with_learned)
            object.__setattr__(self, "training", self.training.changed(copies=copies))
        measures = [m.name for m in describe(self.environment).measures]
        players = describe(self.environment).players
        names = ("return", "evaluation", "panel", *measures, *(own_name(player, "return") for player in players))
        if self.training.best_by not in names:
            raise SettingError(
                f"`best_by` is {self.training.best_by!r}; it must be one of {listed(names)}."
                f"{nearest(self.training.best_by, names)}"
            )
        self._refuse_moving_partners(players)
        if self.training.best_by in ("evaluation", "panel") and self.training.evaluate_every is None:
            raise SettingError(
                f"`best_by` is `{self.training.best_by}`, and nothing is evaluated. Set `evaluate_every`, e.g. 50_000."
            )
        self._refuse_panel(players)

    def _refuse_panel(self, players: tuple[str, ...]) -> None:
        training = self.training
        if training.panel is None:
            if training.best_by == "panel":
                raise SettingError('`best_by` is `panel`, and there is none. Give one, e.g. `panel = ["random"]`.')
        elif not players:
            raise SettingError(
                f"`panel` plays against policies that learn a game, and `{describe(self.environment).name}` has no "
                "players. Leave it out."
            )
        elif training.evaluate_every is None:
            raise SettingError("`panel` is met at evaluations, and there are none. Set `evaluate_every`, e.g. 50_000.")

    def _refuse_moving_partners(self, players: tuple[str, ...]) -> None:
        """What a player gets tells which policy is best only where its partners stay as they are."""
        criterion = self.training.best_by
        if criterion not in (own_name(player, "return") for player in players):
            return
        player = owner_of(criterion)
        assert isinstance(self.agent, PlayerAgents)
        own_group = next(group for group in self.agent.agents if player in group.split(TOGETHER))
        moving = [group for group, agent in self.agent.agents.items() if agent.learns and group != own_group]
        if moving or TOGETHER in own_group or not self.agent.agents[own_group].learns:
            why = (
                f"{listed(moving)} learns, too"
                if moving
                else f"`{own_group}` is played by one agent"
                if TOGETHER in own_group
                else f"`{player}` does not learn"
            )
            raise SettingError(
                f"`best_by` is {criterion!r}, which tells the best policy of `{player}` only where it alone learns, "
                "against "
                f"partners that stay as they are; here {why}. Give the "
                f"others `jm.Fixed(RUN)` or a `jm.Roster`, or judge by a `panel`, or afterwards by `jm.cross_play`."
            )

    def _on_records(self) -> Training:
        """The training of a plan that learns from records."""
        training = self.training
        stop = training.stop_when
        settings = {
            "episodes": training.episodes,
            "copies": training.copies if training.copies != 1 else None,
            "record_every": training.record_every,
            "processes": training.processes or None,
            "start": training.start,
            "vary": self.vary,
            "curriculum": self.curriculum,
            "novelty": getattr(self.agent, "novelty", None),
            "stop_when.mean_return": getattr(stop, "mean_return", None),
            "stop_when.plateau": getattr(stop, "plateau", None),
        }
        for name, value in settings.items():
            if value is not None:
                raise SettingError(
                    f"`records` and `{name}` do not go together: a run that learns from records steps nothing. Leave "
                    f"`{name}` out."
                )
        if training.best_by not in ("return", "evaluation"):
            raise SettingError(
                f"`best_by` is {training.best_by!r}, and a run that learns from records has no episodes to judge by. "
                "Use `evaluation`, with `evaluate_every`."
            )
        criterion = "evaluation" if training.evaluate_every is not None else training.best_by
        return training.changed(copies=1, best_by=criterion)

    @property
    def counted(self) -> str:
        """What `steps` counts: ``"decisions"``, or ``"updates"`` of a run that learns from records."""
        return "decisions" if self.training.records is None else "updates"

    @property
    def copies(self) -> int:
        """How many copies step side by side."""
        assert self.training.copies is not None
        return self.training.copies

    @cached_property
    def stage(self) -> Environment:
        """The environment to train on, with the parameters that differ from episode to episode."""
        return with_varying(self.environment, Varying(self.vary, self.curriculum))

    @cached_property
    def measured(self) -> Environment:
        """The environment to evaluate on: the declared parameters, and the last level of a curriculum."""
        if self.curriculum is None:
            return self.environment
        return varied(self.environment, **self.curriculum.values_at(self.curriculum.values[-1]))

    def functions(self) -> list[Any]:
        """Functions of the user's own in the plan."""
        rules = [value for value in (self.vary, self.training.stop_when) if callable(value)]
        from_modifiers = [f for modifier in modifiers_of(self.environment) for f in modifier.functions()]
        looking = [f for observer in self.observers for f in observer.functions()]
        return [*self.agent.functions(), *rules, *from_modifiers, *looking]

    def written(self) -> dict[str, Any]:
        """The plan as plan.toml holds it, complete: defaults too, so that a later version does the same."""
        values, weights = settings_of(self.environment)
        environment: dict[str, Any] = {
            "use": use_of(type(self.environment)),
            **remote_written(self.environment),
            **values,
        }
        if weights:
            environment["weights"] = weights
        if modifiers_of(self.environment):
            environment["modify"] = [modifier.written() for modifier in modifiers_of(self.environment)]
        content: dict[str, Any] = {
            "environment": environment,
            "agent": agent_described(self.agent, full=False),
            "training": self.training.written(),
        }
        content = with_tables(content)
        if isinstance(self.vary, Mapping):
            content["vary"] = {name: distribution.written() for name, distribution in self.vary.items()}
        elif self.vary is not None:
            content["vary"] = {"use": name_of(self.vary)}
        if self.curriculum is not None:
            content["curriculum"] = self.curriculum.written()
        if self.observers:
            content["observers"] = [observer.written() for observer in self.observers]
        return content

    def for_seed(self, seed: int) -> Plan:
        """The same plan for one of its seeds."""
        return replace(self, training=self.training.changed(seeds=(seed,)))


def read_plan(path: Path, changes: Sequence[str] = ()) -> Plan:
    """A plan from a TOML file."""
    content = plan_content(path, changes)
    # How to search is asked of `tune`; a plan that says it can be trained, too.
    content.pop(TUNING, None)
    try:
        return plan_of(content, path.parent)
    except JokulmistError as wrong:
        raise type(wrong)(f"{path}: {wrong}") from None


def plan_content(path: Path, changes: Sequence[str] = ()) -> dict[str, Any]:
    """The sections of a TOML file, with changes as `read_plan` takes them."""
    content = read_toml(path)
    changed(content, changes)
    return content


def changed(content: dict[str, Any], changes: Sequence[str]) -> None:
    """Apply ``"agent.exploration=0.1"`` and the like to the sections of a plan, in order."""
    for change in changes:
        _apply(content, change)


def plan_of(content: Mapping[str, Any], base: Path | None = None, current: bool = False) -> Plan:
    """A plan from the content of its sections."""
    with looking_in(base, current):
        return _made_from(content, base)


def _made_from(content: Mapping[str, Any], base: Path | None) -> Plan:
    for section in content:
        if section not in SECTIONS:
            raise SettingError(
                f"a plan has no section `{section}`; it has {listed(SECTIONS)}.{nearest(section, SECTIONS)}"
            )
    content = _with_agents(content)
    parts: dict[str, dict[str, Any]] = {}
    for section in TABLES:
        part = content.get(section)
        if part is None and section not in NEEDED:
            continue
        if not isinstance(part, Mapping):
            raise SettingError(f"the plan lacks the section `[{section}]`.")
        parts[section] = dict(part)
    for section in ("environment", "agent"):
        if "use" not in parts[section]:
            example = 'use = "tarn"' if section == "environment" else 'use = "QLearning"'
            raise SettingError(f"`[{section}]` does not say what to use. Write `{example}`.")
    environment, agent = parts["environment"], parts["agent"]
    environment_type = environment_class(environment.pop("use"), base)
    modify = environment.pop("modify", [])
    if not isinstance(modify, list):
        raise SettingError(
            f'`modify` must be a list of tables, e.g. `[{{ use = "Stack", count = 4 }}]`; got {modify!r}.'
        )
    modifiers = [modifier_from(entry, base) for entry in modify]
    environment_made = environment_type(**environment).modified(*modifiers)
    vary: Any = None
    if "vary" in parts:
        use = parts["vary"].get("use")
        vary = function_named(use, base) if isinstance(use, str) else vary_from(parts["vary"])
    stop = parts["training"].get("stop_when")
    if isinstance(stop, Mapping) and "use" in stop:
        parts["training"]["stop_when"] = function_named(stop["use"], base)
    levels = levels_from(parts["curriculum"]) if "curriculum" in parts else None
    observer_entries = content.get(OBSERVERS, [])
    if not isinstance(observer_entries, list):
        raise SettingError(f"`observers` must be a list of tables, `[[observers]]`; got {observer_entries!r}.")
    observers = tuple(observer_from(entry, base) for entry in observer_entries)
    records = parts["training"].get("records")
    if isinstance(records, str):
        records = [records]
    if isinstance(records, list):  # as the files of code that a plan names
        parts["training"]["records"] = [
            str((base / record).resolve()) if isinstance(record, str) and base is not None else record
            for record in records
        ]
    return Plan(environment_made, agent_from(agent, base), Training(**parts["training"]), vary, levels, observers)


def _with_agents(content: Mapping[str, Any]) -> Mapping[str, Any]:
    """The same with the tables of players' agents as one agent."""
    if AGENTS not in content:
        return content
    agents = content[AGENTS]
    if "agent" in content or not isinstance(agents, Mapping):
        raise SettingError("a plan has `[agent]`, or one table a player, `[agents.NAME]`; keep one of them.")
    return with_one_agent(content)


def _apply(content: dict[str, Any], change: str) -> None:
    name, equals, text = change.partition("=")
    keys = name.strip().split(".")
    if not equals or len(keys) < 2 or keys[0] not in (*SECTIONS, TUNING) or not all(keys):
        raise SettingError(
            f"`--set` takes a section, a setting and a value, e.g. `--set agent.exploration=0.1`; got {change!r}."
        )
    try:
        value = tomllib.loads(f"value = {text}")["value"]
    except tomllib.TOMLDecodeError:
        value = text.strip()  # a bare word is a text
    part: Any = content
    for key in keys[:-1]:
        part = part.setdefault(key, {})
        if not isinstance(part, dict):
            raise SettingError(f"`--set {change}`: `{key}` is a value, not a section.")
    if keys[-1] in ("seed", "seeds"):
        part.pop("seed", None)
        part.pop("seeds", None)
    if keys[-1] in ("steps", "episodes") and keys[0] == "training":
        part.pop("steps", None)
        part.pop("episodes", None)
    part[keys[-1]] = value
