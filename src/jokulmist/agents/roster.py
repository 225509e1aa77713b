"""Several policies that play one player in turn: others' runs, random play, or what another player of this run was
before."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field, PrivateAttr, field_validator

from jokulmist.agents.configs import Hyperparameters, RosterConfig
from jokulmist.agents.contract import Agent, Count, Experience, hyperparameters_at, hyperparameters_below
from jokulmist.agents.fixed import Fixed
from jokulmist.agents.roster_losses import harder_more_often, no_losses, update_losses
from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.spaces.channels import ObservationBatch, Spec
from jokulmist.errors import SettingError
from jokulmist.learning.schedules import Coefficients, Progress, coefficients


class Roster(Agent):
    """For each episode and copy one of several policies that do not learn.

    Parameters
    ----------
    *policies : str, Fixed or RandomPlay
        Folders of runs, files of policies, or agents that do not learn.
    weights : list of float, optional
        How often each is drawn, one a policy and one for `past` together; evenly by default.
    by : {"evenly", "weights", "losses"}, optional
        How a policy is drawn. ``"losses"``: more often those with whom the players that learn got less, in their last
        episodes with each of them (`roster_losses`). By default by `weights` where they are given, else evenly.
    past : int
        So many earlier states of the agent that learns in this run play, too: as it was at the begin, and from then on
        every `past_every` decisions.
    past_every : int
        Decisions between two states that are kept; the newest `past` are. They sample their actions.
    rotate_seats : bool
        In each episode of a copy the roster plays one player and the agent that learns all others; in the next episode
        it plays the next player. One policy learns to play every player so. All must see and do the same.

    Notes
    -----
    Which one played is in episodes.csv, as ``south.partner``: 0 for the first policy; earlier states come after the
    policies, the place that was written last is not told. Where seats rotate, ``south.seat`` is the player that it
    played, counted from 0.
    Differs from a fixed partner in cost: all policies of a roster are asked at each decision, and one answer is taken.

    Examples
    --------
    >>> import jokulmist as jm
    >>> import tempfile
    >>> place, quick = tempfile.mkdtemp(), {"steps": 300, "lane": "plain"}
    >>> pair = jm.train(jm.gallery.Lots(), {"elder": jm.QLearning(), "younger": jm.QLearning()}, folder=place, **quick)
    >>> partners = jm.Roster(pair.path, jm.RandomPlay(), weights=[3.0, 1.0])
    >>> run = jm.train(jm.gallery.Lots(), {"elder": jm.QLearning(), "younger": partners}, folder=None, **quick)
    >>> "younger.partner" in run.episodes
    True
    """

    policies: tuple[Any, ...] = ()
    weights: tuple[Annotated[float, Field(ge=0.0)], ...] | None = None
    by: Literal["evenly", "weights", "losses"] | None = None
    past: Annotated[int, Field(ge=0, le=64, strict=True)] = 0
    past_every: Count = 20_000
    rotate_seats: bool = False

    learns: ClassVar[bool] = False
    record_names: ClassVar[tuple[str, ...]] = ("partner",)
    _source: Any = PrivateAttr(default=None)

    def __init__(self, *policies: Any, **settings: Any) -> None:
        members = policies or settings.pop("policies", ())
        settings.pop("policies", None)
        super().__init__(**{**settings, "policies": members})

    @field_validator("policies", mode="before")
    @classmethod
    def _policies(cls, members: Any) -> Any:
        if not isinstance(members, (list, tuple)):
            raise ValueError("must be a list of policies")
        return tuple(member if isinstance(member, Agent) else Fixed(member) for member in members)

    @field_validator("policies", mode="after")
    @classmethod
    def _none_learns(cls, members: tuple[Any, ...]) -> tuple[Any, ...]:
        for member in members:
            if member.learns:
                raise ValueError(f"takes policies that do not learn, and {member!r} does; name the folder of a run")
            if isinstance(member, Roster):
                raise ValueError("cannot hold another roster")
        return members

    def with_policies(self, policies: tuple[Agent, ...]) -> Roster:
        """The same with other policies in their places."""
        settings = self.model_dump(exclude={"policies"})
        roster = Roster(*policies, **settings)
        roster._source = self._source
        return roster

    def following(self, source: Agent) -> Roster:
        """The same, whose earlier states are those of an agent."""
        roster = self.with_policies(self.policies)
        roster._source = source
        return roster

    def refuse(self, spec: Spec) -> None:
        """Raise `SettingError` where there is nobody to draw, or a policy does not fit."""
        if not self.policies and not self.past:
            raise SettingError(
                'a roster needs a policy, e.g. `jm.Roster("runs/haul-ppo-001", "runs/haul-ppo-002")`, or `past=8`.'
            )
        if self.past and self._source is None:
            raise SettingError(
                "`past` of a roster is about another player's agent. Give the roster to a player of an environment "
                "with `players`."
            )
        wanted = len(self.policies) + (1 if self.past else 0)
        if self.weights is not None and (len(self.weights) != wanted or not sum(self.weights) > 0.0):
            raise SettingError(
                f"`weights` of a roster are one a policy{' and one for `past`' if self.past else ''}, {wanted} here; "
                f"got {list(self.weights)}."
            )
        if self.by is not None and (self.by == "weights") != (self.weights is not None):
            problem = "none are given" if self.weights is None else f"`weights` are given, {list(self.weights)}"
            raise SettingError(
                f'`by="{self.by}"` of a roster '
                f"{'takes `weights`' if self.weights is None else 'takes no `weights`'}, and {problem}."
            )
        for member in self.policies:
            member.refuse(spec)

    def config(self, spec: Spec, copies: int) -> RosterConfig:
        self.refuse(spec)
        members = tuple((type(member), member.config(spec, copies)) for member in self.policies)
        source = None if not self.past else (type(self._source), self._source.config(spec, copies))
        shares = list(self.weights or [1.0] * (len(members) + (1 if self.past else 0)))
        past = shares.pop() if self.past else 0.0
        if self.past and self.weights is None:
            past *= self.past  # each earlier state as often as a policy
        return RosterConfig(
            spec=spec,
            copies=copies,
            members=members,
            source=source,
            shares=tuple(shares),
            past_share=past,
            past=self.past,
            past_every=self.past_every,
            losses=self.by == "losses",
        )

    def schedules(self) -> dict[str, Coefficients]:
        values = {f"{k}.{name}": c for k, member in enumerate(self.policies) for name, c in member.schedules().items()}
        if self._source is not None:
            last = hyperparameters_at(self._source.schedules(), Progress(0, 0, 1.0))
            values.update({f"past.{name}": coefficients(float(value)) for name, value in vars(last).items()})
        return values

    def copies_for(self, steps: int | None, begins_with_learned: bool = False) -> int:
        return 1

    def decisions_per_update(self, copies: int) -> int:
        return 0

    def written(self) -> dict[str, Any]:
        settings: dict[str, Any] = {}
        if self.weights is not None:
            settings["weights"] = list(self.weights)
        if self.by is not None:
            settings["by"] = self.by
        if self.past:
            settings.update(past=self.past, past_every=self.past_every)
        if self.rotate_seats:
            settings["rotate_seats"] = True
        return settings

    def __repr__(self) -> str:
        inside = [repr(member.policy) if isinstance(member, Fixed) else repr(member) for member in self.policies]
        inside += [f"weights={list(self.weights)}"] if self.weights is not None else []
        inside += [f"by={self.by!r}"] if self.by is not None else []
        inside += [f"past={self.past}"] if self.past else []
        inside += ["rotate_seats=True"] if self.rotate_seats else []
        return f"Roster({', '.join(inside)})"

    __str__ = __repr__

    @staticmethod
    def recorded(memory: Any) -> tuple[Any, ...]:
        """Who plays in each copy."""
        return (memory["who"],)

    @staticmethod
    def fresh_learner(config: RosterConfig, hyperparameters: Hyperparameters, noise: Draw) -> Any:
        import numpy as np

        members = tuple(
            kind.fresh_learner(member_config, hyperparameters_below(hyperparameters, str(k)), noise)
            for k, (kind, member_config) in enumerate(config.members)
        )
        losses = {"known": no_losses(len(members) + config.past)} if config.losses else {}
        if config.source is None:
            return {"members": members, **losses}
        kind, member_config = config.source
        first = kind.policy_state(
            kind.fresh_learner(member_config, hyperparameters_below(hyperparameters, "past"), noise)
        )
        states = _mapped(lambda leaf: np.repeat(np.asarray(leaf)[None], config.past, axis=0), first)
        return {
            "members": members,
            **losses,
            "past": states,
            "filled": np.int32(1),
            "since": np.int32(0),
            "next": np.int32(1 % config.past),
        }

    @staticmethod
    def fresh_memory(config: RosterConfig, hyperparameters: Hyperparameters) -> Any:
        import jax
        import numpy as np

        members = tuple(
            kind.fresh_memory(member_config, hyperparameters_below(hyperparameters, str(k)))
            for k, (kind, member_config) in enumerate(config.members)
        )
        memory = {"who": np.zeros(config.copies, np.int32), "members": members}
        if config.losses:
            memory["running"] = np.zeros(config.copies, np.float32)
        if config.source is not None and config.source[1].state_width:
            kind, member_config = config.source
            nothing = kind.fresh_memory(member_config, hyperparameters_below(hyperparameters, "past"))
            memory["past"] = jax.tree.map(lambda leaf: np.stack([leaf] * config.past, axis=1), nothing)
        return memory

    @staticmethod
    def choose(
        config: RosterConfig,
        hyperparameters: Hyperparameters,
        learner: Any,
        memory: Any,
        observed: ObservationBatch,
        noise: Draw,
        explore: bool,
    ) -> tuple[Any, Any, Any]:
        import jax
        import jax.numpy as jnp

        new_partner = _draw_partners(jnp, config, learner, noise.uniform(shape=(config.copies,)))
        partner = jnp.where(observed.age == 0, new_partner, memory["who"])
        decided, remembered = [], []
        for k, (kind, member_config) in enumerate(config.members):
            member_numbers = hyperparameters_below(hyperparameters, str(k))
            actions, after, _ = kind.choose(
                member_config, member_numbers, learner["members"][k], memory["members"][k], observed, noise, False
            )
            decided.append(jax.tree.map(lambda leaf: leaf[None], actions))
            remembered.append(after)
        if config.source is not None:
            kind, member_config = config.source
            member_numbers = hyperparameters_below(hyperparameters, "past")
            member_memory, nothing = memory.get("past"), kind.fresh_memory(member_config, member_numbers)

            def chosen(state: Any, member_memory: Any) -> Any:
                return kind.choose(
                    member_config,
                    member_numbers,
                    state,
                    nothing if member_memory is None else member_memory,
                    observed,
                    noise,
                    True,
                )[:2]

            actions, after = jax.vmap(chosen, in_axes=(0, 1), out_axes=(0, 1))(learner["past"], member_memory)
            decided.append(actions)
            if member_memory is not None:
                memory = {**memory, "past": after}
        rows = jnp.arange(config.copies)
        every = jax.tree.map(lambda *leaves: jnp.concatenate(leaves), *decided)
        actions = jax.tree.map(lambda leaf: leaf[partner, rows], every)
        return actions, {**memory, "who": partner, "members": tuple(remembered)}, (partner,) if config.losses else ()

    @staticmethod
    def met(
        learner: dict[str, Any], memory: dict[str, Any], policy_extras: Any, rewards: Any, closed: Any, dropped: Any
    ) -> tuple[dict[str, Any], dict[str, Any]]:
        """Learner and memory after some turns in which the players that learn got `rewards`, shape ``(turns,
        copies)``."""
        losses, running = update_losses(learner["known"], memory["running"], policy_extras[0], rewards, closed, dropped)
        return {**learner, "known": losses}, {**memory, "running": running}

    @staticmethod
    def learn(
        config: RosterConfig,
        hyperparameters: Hyperparameters,
        learner: Any,
        memory: Any,
        experience: Experience,
        noise: Draw,
    ) -> tuple[Any, Any, tuple[Any, ...]]:
        return learner, memory, ()


def remembering(config: RosterConfig, learner: dict[str, Any], source: Any, decisions: int) -> dict[str, Any]:
    """A roster's learner after so many more decisions: when it is time, the state of the agent that learns is kept."""
    import jax
    import jax.numpy as jnp
    from jax import lax

    since = learner["since"] + decisions
    due = since >= config.past_every

    def store(states: Any) -> Any:
        return jax.tree.map(lambda all_, state: all_.at[learner["next"]].set(state), states, source)

    states = lax.cond(due, store, lambda states: states, learner["past"])
    if "known" in learner:  # of a state that was overwritten nothing is known
        place = learner["next"] + len(learner["members"])
        losses = {name: jnp.asarray(column) for name, column in learner["known"].items()}
        losses = {name: column.at[place].set(jnp.where(due, 0.0, column[place])) for name, column in losses.items()}
        learner = {**learner, "known": losses}
    return {
        **learner,
        "past": states,
        "filled": jnp.minimum(learner["filled"] + due, config.past).astype(jnp.int32),
        "since": jnp.where(due, 0, since).astype(jnp.int32),
        "next": jnp.where(due, (learner["next"] + 1) % config.past, learner["next"]).astype(jnp.int32),
    }


def _draw_partners(xp: Any, config: RosterConfig, learner: Any, u: Any) -> Any:
    """Who begins: a member by its share, or one of the earlier states that there are."""
    if config.losses:
        is_available = xp.ones(len(config.members), dtype=bool)
        if config.source is not None:
            is_available = xp.concatenate([is_available, xp.arange(config.past) < learner["filled"]])
        return _drawn_by(xp, harder_more_often(xp, learner["known"], is_available), u)
    shares = xp.asarray(config.shares, dtype=xp.float32)
    if config.source is not None:
        is_available = xp.arange(config.past) < learner["filled"]
        each = xp.float32(config.past_share) / xp.maximum(learner["filled"], 1)
        shares = xp.concatenate([shares, xp.where(is_available, each, 0.0)])
    return _drawn_by(xp, shares, u)


def _drawn_by(xp: Any, shares: Any, u: Any) -> Any:
    reach = xp.cumsum(shares)
    partner = xp.sum(u[:, None] * reach[-1] >= reach[None, :], axis=1)
    return xp.minimum(partner, len(shares) - 1).astype(xp.int32)


def _mapped(function: Any, tree: Any) -> Any:
    if isinstance(tree, dict):
        return {name: _mapped(function, part) for name, part in tree.items()}
    if isinstance(tree, tuple):
        parts = [_mapped(function, part) for part in tree]
        return type(tree)(*parts) if hasattr(tree, "_fields") else tuple(parts)
    import jax

    return jax.tree.map(function, tree)
