"""The agents of several players as one agent: each sees its own part, decides its own action, and learns from its own
rewards.

Each is a method like any other and knows nothing of the others. Agents that play several players see these as more
copies. Where not all players decide at each moment, a decision lasts until the player is asked again: what it is paid
meanwhile is its reward, and what it sees then is where it led.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from functools import cache
from types import ModuleType
from typing import Any, ClassVar, NamedTuple

import numpy as np

from jokulmist.agents.configs import Hyperparameters, PlayersConfig, RosterConfig
from jokulmist.agents.contract import Agent, Experience, hyperparameters_below
from jokulmist.agents.fixed import Fixed
from jokulmist.agents.novelty import refuse_novelty
from jokulmist.agents.roster import Roster, remembering
from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.modifiers.base import idle_of
from jokulmist.environments.spaces.actions import Record
from jokulmist.environments.spaces.channels import ObservationBatch, Spec
from jokulmist.environments.spaces.player_actions import PlayerActions, players_of
from jokulmist.environments.spaces.players import PlayerView, refuse_unknown, view_of
from jokulmist.errors import SettingError, listed

TOGETHER = "+"


class PlayerGroup(NamedTuple):
    """An agent and the players that it plays.

    Attributes
    ----------
    name : str
    players : tuple of int
        Their places among all players.
    kind : type
    config : Config
        For as many copies as rows: those of the first player, then those of the next.
    views : tuple of PlayerView
    every : int
        Decisions of each row between two calls of `learn`.
    rotating : bool
        A roster that plays one of its players in each episode of a copy, another in the next: a row a copy.
    """

    name: str
    players: tuple[int, ...]
    kind: type[Agent]
    config: Any
    views: tuple[PlayerView, ...]
    every: int
    rotating: bool


class PlayerAgents(Agent):
    """One agent a player, or one for several."""

    agents: dict[str, Any]

    kinds: ClassVar[tuple[tuple[str, type[Agent]], ...]] = ()

    def __repr__(self) -> str:
        if len(self.agents) == 1:
            return repr(next(iter(self.agents.values())))
        return f"{{{', '.join(f'{name!r}: {agent!r}' for name, agent in self.agents.items())}}}"

    __str__ = __repr__

    def __hash__(self) -> int:
        return hash(tuple((name, repr(agent)) for name, agent in self.agents.items()))

    def refuse(self, spec: Spec) -> None:
        """Raise `SettingError` where a player has no agent, or an agent cannot play its player."""
        players = players_of(spec.action)
        if not players:
            raise SettingError(
                f"agents are given for {listed(self.agents)}, and the environment has no players. Give one agent, "
                "e.g. `jm.PPO()`."
            )
        named = [player for group in self.agents for player in group.split(TOGETHER)]
        for player in named:
            refuse_unknown(player, players, "an agent")
        missing = [player for player in players if player not in named]
        if missing:
            raise SettingError(f"no agent is given for {listed(missing)}; the players are {listed(players)}.")
        twice = [player for player in players if named.count(player) > 1]
        if twice:
            raise SettingError(f"two agents are given for {listed(twice)}. Give one.")
        rotates = self.rotating_roster is not None
        for group in [TOGETHER.join(players)] if rotates else self.agents:
            views = [view_of(spec, player) for player in group.split(TOGETHER)]
            for player, view in zip(group.split(TOGETHER), views, strict=True):
                if view.spec != views[0].spec:
                    first = group.partition(TOGETHER)[0]
                    why = "`rotate_seats` of the roster is not possible: " if rotates else ""
                    raise SettingError(
                        f"{why}one agent cannot play {listed(group.split(TOGETHER))}: `{player}` sees "
                        f"{[c.name for c in view.spec.channels]} and does {view.spec.action!r}, `{first}` sees "
                        f"{[c.name for c in views[0].spec.channels]} and does {views[0].spec.action!r}. Give each an "
                        "agent of its own."
                    )

    def config(self, spec: Spec, copies: int) -> PlayersConfig:
        self.refuse(spec)
        players = players_of(spec.action)
        roster, groups = self.rotating_roster, []
        for name, agent in self.agents.items():
            members = list(players) if roster is not None else name.split(TOGETHER)
            views = tuple(view_of(spec, player) for player in members)
            rows = copies if name == roster else copies * len(members)
            config = agent.config(views[0].spec, rows)
            places = tuple(players.index(player) for player in members)
            every = agent.decisions_per_update(rows)
            groups.append(PlayerGroup(name, places, type(agent), config, views, every, name == roster))
        return PlayersConfig(spec=spec, copies=copies, groups=tuple(groups), every=self.decisions_per_update(copies))

    @property
    def rotating_roster(self) -> str | None:
        """The name of a roster that plays every player in turn, beside the one agent that learns."""
        return _rotating_roster(self.agents)

    def evaluated(self, spec: Spec, learner: Any) -> tuple[Agent, Any]:
        """Where seats rotate, the agent that learned plays all of them."""
        if self.rotating_roster is None:
            return self, learner
        name, agent = next((name, agent) for name, agent in self.agents.items() if agent.learns)
        every_player = TOGETHER.join(players_of(spec.action))
        return agents_of(agent, spec.action), {every_player: learner[name]}

    def schedules(self) -> dict[str, Any]:
        return {f"{group}.{name}": c for group, agent in self.agents.items() for name, c in agent.schedules().items()}

    def with_start_defaults(self, steps: int | None) -> PlayerAgents:
        return self.model_copy(
            update={"agents": {group: agent.with_start_defaults(steps) for group, agent in self.agents.items()}}
        )

    def copies_for(self, steps: int | None, begins_with_learned: bool = False) -> int:
        wanted: list[int] = [agent.copies_for(steps, begins_with_learned) for agent in self.agents.values()]
        return max(wanted)

    def decisions_per_update(self, copies: int) -> int:
        each = [
            agent.decisions_per_update(copies * len(group.split(TOGETHER)))
            for group, agent in self.agents.items()
            if agent.learns
        ]
        return math.gcd(*each) or 1

    def functions(self) -> list[Any]:
        return [function for agent in self.agents.values() for function in agent.functions()]

    def written(self) -> dict[str, Any]:
        raise NotImplementedError("a plan writes the agents of players by itself")

    @staticmethod
    def fresh_learner(config: PlayersConfig, hyperparameters: Hyperparameters, noise: Draw) -> Any:
        return {
            g.name: g.kind.fresh_learner(g.config, hyperparameters_below(hyperparameters, g.name), noise)
            for g in config.groups
        }

    @staticmethod
    def fresh_memory(config: PlayersConfig, hyperparameters: Hyperparameters) -> Any:
        """What each agent's copies remember; where decisions wait, what waits."""
        return {g.name: _fresh(config, g, hyperparameters_below(hyperparameters, g.name)) for g in config.groups}

    @staticmethod
    def choose(
        config: Any, hyperparameters: Any, learner: Any, memory: Any, observed: Any, noise: Any, explore: bool
    ) -> tuple[Any, Any, Any]:
        xp, action = noise.xp, config.spec.action
        deciding = observed.legal[-1] if action.asks else None
        by_player: dict[str, Any] = {}
        after, policy_extras = {}, {}
        seats = _next_seats(xp, config, memory, observed)
        # A roster that rotates answers for one player; what the agent that learns decides there is not done.
        for g in sorted(config.groups, key=lambda group: group.rotating):
            seen, group_memory = _seen(xp, g, observed, 0, seats), memory[g.name]
            acts = _acting(xp, g, deciding, seats)
            if acts is not None:  # decisions of the player itself, in this episode
                is_begin = xp.concatenate([observed.age] * (1 if g.rotating else len(g.players))) == 0
                seen = seen._replace(age=xp.where(is_begin, 0, group_memory["age"]))
            actions, new, own_extras = g.kind.choose(
                g.config,
                hyperparameters_below(hyperparameters, g.name),
                learner[g.name],
                group_memory["own"],
                seen,
                noise,
                explore,
            )
            after[g.name] = {**group_memory, "own": new}
            policy_extras[g.name] = {"own": own_extras, "age": seen.age, "seats": () if seats is None else seats}
            if acts is not None:
                after[g.name]["own"] = _chosen_where(xp, acts, new, group_memory["own"])
                after[g.name]["age"] = seen.age + xp.asarray(acts, dtype=seen.age.dtype)
            if g.rotating:
                after[g.name]["seats"] = seats
            for k, place in enumerate(g.players):
                player = list(action.players)[place]
                if g.rotating:
                    by_player[player] = _chosen_where(xp, seats == place, actions, by_player[player])
                else:
                    by_player[player] = _part(actions, k * config.copies, (k + 1) * config.copies)
        if deciding is not None:
            by_player = {
                # Who is not asked does the first alternative, or the middle.
                player: _chosen_where(xp, deciding[:, k], by_player[player], idle_of(xp, action.players[player], None))
                for k, player in enumerate(action.players)
            }
        return action.joined({player: by_player[player] for player in action.players}), after, policy_extras

    @staticmethod
    def learn(
        config: Any, hyperparameters: Any, learner: Any, memory: Any, experience: Any, noise: Any
    ) -> tuple[Any, Any, tuple[Any, ...]]:
        learned, after, readings = dict(learner), dict(memory), []
        for g in config.groups:
            if not g.kind.learns:
                continue
            group_numbers, group_memory = hyperparameters_below(hyperparameters, g.name), memory[g.name]
            group_experience, seats = _own_experience(noise.xp, config, g, experience)
            if "finished" not in group_memory:
                new, remembered, group_readings = g.kind.learn(
                    g.config, group_numbers, learner[g.name], group_memory["own"], group_experience, noise
                )
                learned[g.name], after[g.name] = new, {"own": remembered}
            else:
                from jokulmist.agents.waiting_decisions import learned_when_gathered

                action, xp = config.spec.action, noise.xp
                acted = _acting(xp, g, experience.observed.legal[-1] if action.asks else None, seats)
                deciding = _rows_of(xp, g, experience.following.legal[-1]) if action.asks else None
                if seats is not None and deciding is None:
                    deciding = xp.ones_like(acted)  # all are asked at each moment
                gone = _rows_of(xp, g, ~experience.last.legal[-2]) if action.leaves else None
                learned[g.name], after[g.name], group_readings = learned_when_gathered(
                    g, group_numbers, learner[g.name], group_memory, group_experience, noise, acted, deciding, gone
                )
            readings += group_readings
        for g in config.groups:
            if isinstance(g.config, RosterConfig) and g.config.losses:
                got = _earned_by_learning(noise.xp, config, g, experience)
                dropped = experience.broken if not isinstance(experience.broken, tuple) else False
                own_extras = experience.policy_extras[g.name]["own"]
                learned[g.name], met_memory = g.kind.met(
                    learner[g.name], memory[g.name]["own"], own_extras, got, experience.closed, dropped
                )
                after[g.name] = {**memory[g.name], "own": met_memory}
            if isinstance(g.config, RosterConfig) and g.config.source is not None:
                origin = next(group for group in config.groups if group.kind.learns)
                count = config.every * config.copies
                learned[g.name] = remembering(
                    g.config, learned[g.name], origin.kind.policy_state(learned[origin.name]), count
                )
        return learned, after, tuple(readings)


def _fresh(config: Any, group: PlayerGroup, hyperparameters: Hyperparameters) -> dict[str, Any]:
    inner_memory = group.kind.fresh_memory(group.config, hyperparameters)
    rotates = any(g.rotating for g in config.groups)
    asks = config.spec.action.asks or (rotates and not group.rotating)
    group_memory: dict[str, Any] = {"own": inner_memory}
    if asks or config.spec.action.asks:
        group_memory["age"] = np.zeros(group.config.copies, np.int32)
    if group.rotating:
        group_memory["seats"] = np.arange(config.copies, dtype=np.int32) % len(group.players)
    if not group.kind.learns or (not asks and group.every == config.every):
        return group_memory
    from jokulmist.agents.waiting_decisions import nothing_waiting

    return {**group_memory, **nothing_waiting(group, hyperparameters, asks)}


def _next_seats(xp: ModuleType, config: PlayersConfig, memory: Any, observed: ObservationBatch) -> Any:
    """The player of each copy that a roster plays where seats rotate, shape ``(copies,)``: the next in each episode."""
    for g in config.groups:
        if g.rotating:
            seats = memory[g.name]["seats"]
            return xp.where(observed.age == 0, (seats + 1) % len(g.players), seats)
    return None


def _acting(xp: Any, group: PlayerGroup, deciding: Any, seats: Any) -> Any:
    """Which of an agent's rows decide, of ``deciding``, shape ``(..., copies, players)``, and of the player that a
    roster plays, shape ``(..., copies)``; None where all do."""
    if group.rotating:
        return None if deciding is None else xp.take_along_axis(deciding, seats[..., None], axis=-1)[..., 0]
    acts = None if deciding is None else _rows_of(xp, group, deciding)
    if seats is None:
        return acts
    is_own = xp.concatenate([seats != place for place in group.players], axis=-1)
    return is_own if acts is None else acts & is_own


def _earned_by_learning(xp: Any, config: Any, roster: PlayerGroup, experience: Any) -> Any:
    """What the players that learn got on average, shape ``(turns, copies)``."""
    rewards = experience.rewards
    if roster.rotating:
        seats = experience.policy_extras[roster.name]["seats"]
        of_roster = xp.take_along_axis(rewards, seats[..., None], axis=-1)[..., 0]
        return (rewards.sum(axis=-1) - of_roster) / (rewards.shape[-1] - 1)
    places = [place for g in config.groups if g.kind.learns for place in g.players]
    return rewards[..., places].mean(axis=-1)


def _seen(
    xp: ModuleType, group: PlayerGroup, observed: ObservationBatch, axis: int, seats: Any = None
) -> ObservationBatch:
    """What an agent's players see, one after another along the axis of copies; of a roster that rotates what the
    player of each copy sees that it plays."""
    joined: ObservationBatch
    seen = []
    for view in group.views:
        columns = list(view.columns)
        seen.append(
            ObservationBatch(
                observed.numbers[..., columns],
                {own_channel: observed.images[name] for name, own_channel in view.images},
                tuple(observed.legal[k] for k in view.masks) if view.spec.masked else (),
                observed.age,
            )
        )
    if group.rotating:
        joined = seen[0]
        for place, row in zip(group.players[1:], seen[1:], strict=True):
            joined = _chosen_where(xp, seats == place, row, joined)
    else:
        joined = _concatenated(xp, seen, axis)
    return joined


def _concatenated(xp: ModuleType, trees: list[Any], axis: int) -> Any:
    first = trees[0]
    if len(trees) == 1:
        return first
    if isinstance(first, dict):
        return {name: _concatenated(xp, [tree[name] for tree in trees], axis) for name in first}
    if isinstance(first, Record):
        return Record(**{n: _concatenated(xp, [vars(tree)[n] for tree in trees], axis) for n in vars(first)})
    if isinstance(first, tuple):
        parts = [_concatenated(xp, [tree[k] for tree in trees], axis) for k in range(len(first))]
        return type(first)(*parts) if hasattr(first, "_fields") else tuple(parts)
    return xp.concatenate(trees, axis=axis)


def _part(tree: Any, start: int, stop: int) -> Any:
    if isinstance(tree, Record):
        return Record(**{name: part[start:stop] for name, part in vars(tree).items()})
    return tree[start:stop]


def _rows_of(xp: Any, group: PlayerGroup, by_player: Any) -> Any:
    """Of ``(..., copies, players)`` an agent's rows, ``(..., rows)``."""
    return xp.concatenate([by_player[..., place] for place in group.players], axis=-1)


def _chosen_where(xp: ModuleType, mask: Array, new: Any, old: Any) -> Any:
    """A memory, or what is seen or done, of which some rows are new; the others are as they were."""
    if new is old:  # what `choose` left alone may have no axis of copies
        return old
    if isinstance(old, Record):
        return Record(**{name: _chosen_where(xp, mask, vars(new)[name], part) for name, part in vars(old).items()})
    if isinstance(old, dict):
        return {name: _chosen_where(xp, mask, new[name], old[name]) for name in old}
    if isinstance(old, tuple):
        parts = [_chosen_where(xp, mask, a, b) for a, b in zip(new, old, strict=True)]
        return type(old)(*parts) if hasattr(old, "_fields") else tuple(parts)
    rows = xp.asarray(new)
    return xp.where(mask.reshape((-1,) + (1,) * (rows.ndim - 1)), rows, xp.asarray(old, dtype=rows.dtype))


def _own_experience(xp: Any, config: Any, group: PlayerGroup, e: Experience) -> tuple[Experience, Any]:
    """What happened to an agent's players, in rows; and the players that a roster played in turn, or None."""
    action, count = config.spec.action, len(group.players)
    names = list(action.players)

    def twice(flags: Any) -> Any:
        return flags if isinstance(flags, tuple) or count == 1 else xp.concatenate([flags] * count, axis=1)

    actions = _concatenated(xp, [action.for_player(names[place], e.actions) for place in group.players], 1)
    policy_extras = e.policy_extras[group.name]
    # The age of an episode counts the player's own decisions, in learning as in acting.
    observed = _seen(xp, group, e.observed, 1)._replace(age=policy_extras["age"])
    seats = None if isinstance(policy_extras["seats"], tuple) else policy_extras["seats"]
    own_experience = Experience(
        observed=observed,
        actions=actions,
        rewards=xp.concatenate([e.rewards[..., place] for place in group.players], axis=1),
        ended=twice(e.ended),
        closed=twice(e.closed),
        last=_seen(xp, group, e.last, 1),
        following=_seen(xp, group, e.following, 1),
        policy_extras=policy_extras["own"],
        broken=twice(e.broken),
    )
    return own_experience, seats


@cache
def _class_of(kinds: tuple[tuple[str, type[Agent]], ...], rotating: str | None, count: int) -> type[PlayerAgents]:
    """The class of agents of these kinds: what is static of an agent, such as what a policy keeps, belongs to a
    class."""

    def stored(learner: Any) -> Any:
        return {name: kind.policy_state(learner[name]) for name, kind in kinds}

    def recorded(memory: Any) -> tuple[Any, ...]:
        columns = [column for name, kind in kinds for column in kind.recorded(memory[name]["own"])]
        return (*columns, memory[rotating]["seats"]) if rotating else tuple(columns)

    def restarted(memory: Any, new: Any, mask: Any) -> Any:
        """What is open in a lost copy leads nowhere, and what follows is no part of it; what had finished stays."""
        settings = {}
        for name, kind in kinds:
            each = (1 if name == rotating else count) if rotating else len(name.split(TOGETHER))
            stored, rows = memory[name], np.tile(mask, each)
            settings[name] = {**stored, "own": kind.restarted(stored["own"], new[name]["own"], rows)}
            if "age" in stored:
                settings[name]["age"] = np.where(rows, 0, stored["age"])
            if "open" in stored:
                *decided, is_open = stored["open"]
                settings[name]["open"] = (*decided, is_open & ~rows)
                settings[name]["left_out"] = stored["left_out"] | rows
        return settings

    return type(
        "PlayerAgents",
        (PlayerAgents,),
        {
            "__module__": PlayerAgents.__module__,
            "kinds": kinds,
            "policy_state": staticmethod(stored),
            "recorded": staticmethod(recorded),
            "restarted": staticmethod(restarted),
            "record_names": (
                *(f"{name}.{record}" for name, kind in kinds for record in kind.record_names),
                *([f"{rotating}.seat"] if rotating else []),
            ),
            "reading_names": tuple(f"{name}.{reading}" for name, kind in kinds for reading in kind.reading_names),
            "traced": all(kind.traced for _, kind in kinds),
            "staggered": any(kind.staggered for _, kind in kinds),
            "usual_copies": max(kind.usual_copies for _, kind in kinds),
            "__annotations__": {},
        },
    )


def kinds_of(agent: Agent) -> list[type[Agent]]:
    """The methods of an agent, or of the agents of players."""
    return [type(member) for member in agent.agents.values()] if isinstance(agent, PlayerAgents) else [type(agent)]


def classes_of(agent: Agent) -> list[type[Agent]]:
    """Every class that an agent needs, those of policies that do not learn among them."""
    classes: list[type[Agent]] = []
    for member in agent.agents.values() if isinstance(agent, PlayerAgents) else [agent]:
        members = member.policies if isinstance(member, Roster) else [member]
        classes += [
            type(member),
            *(
                type(inner_agent.inner)
                for inner_agent in members
                if isinstance(inner_agent, Fixed) and inner_agent.inner is not None
            ),
        ]
    return list(dict.fromkeys(classes))


def method_names(agent: Agent) -> str:
    """The method of an agent, or those of the agents of players: ``PPO + Fixed``."""
    return " + ".join(kind.__name__ for kind in kinds_of(agent))


def each_agent(agent: Agent, spec: Spec, copies: int) -> list[tuple[Agent, Spec, int]]:
    """An agent with its channels and copies, or each of the agents of players with its own; but for those that do not
    learn."""
    if not isinstance(agent, PlayerAgents):
        return [(agent, spec, copies)]
    groups = agent.config(spec, copies).groups
    return [
        (member, group.config.spec, group.config.copies)
        for member, group in zip(agent.agents.values(), groups, strict=True)
        if member.learns
    ]


def _rotating_roster(agents: Mapping[str, Agent]) -> str | None:
    """The name of a roster that plays every player in turn; None where there is none."""
    return next((name for name, agent in agents.items() if isinstance(agent, Roster) and agent.rotate_seats), None)


def agents_of(agents: Agent | Mapping[Any, Agent], action: Any) -> Agent:
    """The agents of an environment's players as one: one a player, or one that plays all of them."""
    if isinstance(agents, PlayerAgents):
        return agents
    if isinstance(agents, Agent):
        if not isinstance(action, PlayerActions):
            return agents
        agents = {TOGETHER.join(action.players): agents}
    named = {str(player): agent for player, agent in agents.items()}
    for player, agent in named.items():
        if not isinstance(agent, Agent):
            raise SettingError(f"the agent of `{player}` is {agent!r:.80}; give an agent, e.g. `jm.PPO()`.")
        refuse_novelty(agent, "is for an agent that is alone")
    learning = [player for player, agent in named.items() if agent.learns]
    for player, agent in named.items():
        if isinstance(agent, Roster) and agent.past:
            if len(learning) != 1:
                raise SettingError(
                    f"`past` of the roster of `{player}` is about the agent that learns, and {len(learning)} do; "
                    "there must be one."
                )
            named[player] = agent.following(named[learning[0]])
        if isinstance(agent, Roster) and agent.rotate_seats and (len(named) != 2 or len(learning) != 1):
            raise SettingError(
                f"`rotate_seats` of the roster of `{player}` lets it play every player in turn, beside one agent "
                f"that learns; here are agents for {listed(named)}, and {len(learning)} learn. Give one agent and "
                "the roster."
            )
    kinds = tuple((name, type(agent)) for name, agent in named.items())
    kind = _class_of(kinds, _rotating_roster(named), len(players_of(action)))
    return kind(agents=named)
