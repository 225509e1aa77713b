"""Several policies that play one player in turn: others' runs, random play, or what another player of this run was
before."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field, PrivateAttr, field_validator

from jokulmist.agents.contract import Agent, Count, Shapes, numbers_at, numbers_below
from jokulmist.agents.fixed import Fixed
from jokulmist.agents.roster_losses import after_meetings, harder_more_often, none_met
from jokulmist.environments.spaces.channels import Spec
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
        Decisions between two states that are kept; the newest `past` are.

    Notes
    -----
    Which one played stands in episodes.csv, as ``south.partner``: 0 for the first policy; earlier states come after the
    policies, the place that was written last is not told.
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

    learns: ClassVar[bool] = False
    record_names: ClassVar[tuple[str, ...]] = ("partner",)
    _source: Any = PrivateAttr(default=None)

    def __init__(self, *policies: Any, **settings: Any) -> None:
        given = policies or settings.pop("policies", ())
        settings.pop("policies", None)
        super().__init__(policies=given, **settings)

    @field_validator("policies", mode="before")
    @classmethod
    def _policies(cls, given: Any) -> Any:
        if not isinstance(given, (list, tuple)):
            raise ValueError("must be a list of policies")
        return tuple(one if isinstance(one, Agent) else Fixed(one) for one in given)

    @field_validator("policies", mode="after")
    @classmethod
    def _none_learns(cls, given: tuple[Any, ...]) -> tuple[Any, ...]:
        for one in given:
            if one.learns:
                raise ValueError(f"takes policies that do not learn, and {one!r} does; name the folder of a run")
            if isinstance(one, Roster):
                raise ValueError("cannot hold another roster")
        return given

    def with_policies(self, policies: tuple[Agent, ...]) -> Roster:
        """The same with other policies in their places."""
        settings = {"weights": self.weights, "by": self.by, "past": self.past, "past_every": self.past_every}
        other = Roster(*policies, **settings)
        other._source = self._source
        return other

    def following(self, source: Agent) -> Roster:
        """The same, whose earlier states are those of an agent."""
        other = self.with_policies(self.policies)
        other._source = source
        return other

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
            given = "none are given" if self.weights is None else f"`weights` are given, {list(self.weights)}"
            raise SettingError(
                f'`by="{self.by}"` of a roster '
                f"{'takes `weights`' if self.weights is None else 'takes no `weights`'}, and {given}."
            )
        for one in self.policies:
            one.refuse(spec)

    def shapes(self, spec: Spec, copies: int) -> Shapes:
        self.refuse(spec)
        members = tuple((type(one), one.shapes(spec, copies)) for one in self.policies)
        source = None if not self.past else (type(self._source), self._source.shapes(spec, copies))
        shares = list(self.weights or [1.0] * (len(members) + (1 if self.past else 0)))
        past = shares.pop() if self.past else 0.0
        if self.past and self.weights is None:
            past *= self.past  # each earlier state as often as a policy
        return Shapes(
            spec=spec, copies=copies, members=members, source=source, shares=tuple(shares), past_share=past, past=self.past, past_every=self.past_every,
            losses=self.by == "losses",
        )  # fmt: skip

    def numbers(self) -> dict[str, Coefficients]:
        found = {f"{k}.{name}": c for k, one in enumerate(self.policies) for name, c in one.numbers().items()}
        if self._source is not None:
            last = numbers_at(self._source.numbers(), Progress(0, 0, 1.0))
            found.update({f"past.{name}": coefficients(float(value)) for name, value in vars(last).items()})
        return found

    def copies_for(self, steps: int | None) -> int:
        return 1

    def decisions_per_update(self, copies: int) -> int:
        return 0

    def written(self) -> dict[str, Any]:
        found: dict[str, Any] = {}
        if self.weights is not None:
            found["weights"] = list(self.weights)
        if self.by is not None:
            found["by"] = self.by
        if self.past:
            found.update(past=self.past, past_every=self.past_every)
        return found

    def __repr__(self) -> str:
        inside = [repr(one.policy) if isinstance(one, Fixed) else repr(one) for one in self.policies]
        inside += [f"weights={list(self.weights)}"] if self.weights is not None else []
        inside += [f"by={self.by!r}"] if self.by is not None else []
        inside += [f"past={self.past}"] if self.past else []
        return f"Roster({', '.join(inside)})"

    __str__ = __repr__

    @staticmethod
    def recorded(memory: Any) -> tuple[Any, ...]:
        """Who plays in each copy."""
        return (memory["who"],)

    @staticmethod
    def fresh_learner(shapes: Any, numbers: Any, noise: Any) -> Any:
        import numpy as np

        members = tuple(
            kind.fresh_learner(own, numbers_below(numbers, str(k)), noise)
            for k, (kind, own) in enumerate(shapes.members)
        )
        known = {"known": none_met(len(members) + shapes.past)} if shapes.losses else {}
        if shapes.source is None:
            return {"members": members, **known}
        kind, own = shapes.source
        first = kind.kept(kind.fresh_learner(own, numbers_below(numbers, "past"), noise))
        states = _mapped(lambda leaf: np.repeat(np.asarray(leaf)[None], shapes.past, axis=0), first)
        return {
            "members": members,
            **known,
            "past": states,
            "filled": np.int32(1),
            "since": np.int32(0),
            "next": np.int32(1 % shapes.past),
        }

    @staticmethod
    def fresh_memory(shapes: Any, numbers: Any) -> Any:
        import jax
        import numpy as np

        members = tuple(
            kind.fresh_memory(own, numbers_below(numbers, str(k))) for k, (kind, own) in enumerate(shapes.members)
        )
        found = {"who": np.zeros(shapes.copies, np.int32), "members": members}
        if shapes.losses:
            found["running"] = np.zeros(shapes.copies, np.float32)
        if shapes.source is not None and getattr(shapes.source[1], "state_width", False):
            kind, own = shapes.source
            nothing = kind.fresh_memory(own, numbers_below(numbers, "past"))
            found["past"] = jax.tree.map(lambda leaf: np.stack([leaf] * shapes.past, axis=1), nothing)
        return found

    @staticmethod
    def choose(
        shapes: Any, numbers: Any, learner: Any, memory: Any, observed: Any, noise: Any, explore: bool
    ) -> tuple[Any, Any, Any]:
        import jax
        import jax.numpy as jnp

        drawn = _drawn(jnp, shapes, learner, noise.uniform(shape=(shapes.copies,)))
        who = jnp.where(observed.age == 0, drawn, memory["who"])
        decided, remembered = [], []
        for k, (kind, own) in enumerate(shapes.members):
            now = numbers_below(numbers, str(k))
            actions, after, _ = kind.choose(
                own, now, learner["members"][k], memory["members"][k], observed, noise, False
            )
            decided.append(jax.tree.map(lambda leaf: leaf[None], actions))
            remembered.append(after)
        if shapes.source is not None:
            kind, own = shapes.source
            now = numbers_below(numbers, "past")
            held, nothing = memory.get("past"), kind.fresh_memory(own, now)

            def chosen(state: Any, held: Any) -> Any:
                return kind.choose(own, now, state, nothing if held is None else held, observed, noise, False)[:2]

            actions, after = jax.vmap(chosen, in_axes=(0, 1), out_axes=(0, 1))(learner["past"], held)
            decided.append(actions)
            if held is not None:
                memory = {**memory, "past": after}
        rows = jnp.arange(shapes.copies)
        every = jax.tree.map(lambda *leaves: jnp.concatenate(leaves), *decided)
        actions = jax.tree.map(lambda leaf: leaf[who, rows], every)
        return actions, {**memory, "who": who, "members": tuple(remembered)}, (who,) if shapes.losses else ()

    @staticmethod
    def met(
        learner: dict[str, Any], memory: dict[str, Any], notes: Any, rewards: Any, closed: Any, dropped: Any
    ) -> tuple[dict[str, Any], dict[str, Any]]:
        """Learner and memory after some turns in which the players that learn got `rewards`, shape ``(turns,
        copies)``."""
        known, running = after_meetings(learner["known"], memory["running"], notes[0], rewards, closed, dropped)
        return {**learner, "known": known}, {**memory, "running": running}

    @staticmethod
    def learn(
        shapes: Any, numbers: Any, learner: Any, memory: Any, experience: Any, noise: Any
    ) -> tuple[Any, Any, tuple[Any, ...]]:
        return learner, memory, ()


def remembering(shapes: Any, learner: dict[str, Any], source: Any, decisions: int) -> dict[str, Any]:
    """A roster's learner after so many more decisions: when it is time, the state of the agent that learns is kept."""
    import jax
    import jax.numpy as jnp
    from jax import lax

    since = learner["since"] + decisions
    due = since >= shapes.past_every

    def keep(states: Any) -> Any:
        return jax.tree.map(lambda all_, one: all_.at[learner["next"]].set(one), states, source)

    states = lax.cond(due, keep, lambda states: states, learner["past"])
    if "known" in learner:  # of a state that was overwritten nothing is known
        place = learner["next"] + len(learner["members"])
        known = {name: jnp.asarray(of) for name, of in learner["known"].items()}
        known = {name: of.at[place].set(jnp.where(due, 0.0, of[place])) for name, of in known.items()}
        learner = {**learner, "known": known}
    return {
        **learner, "past": states, "filled": jnp.minimum(learner["filled"] + due, shapes.past).astype(jnp.int32),
        "since": jnp.where(due, 0, since).astype(jnp.int32), "next": jnp.where(due, (learner["next"] + 1) % shapes.past, learner["next"]).astype(jnp.int32),
    }  # fmt: skip


def _drawn(xp: Any, shapes: Any, learner: Any, u: Any) -> Any:
    """Who begins: a member by its share, or one of the earlier states that there are."""
    if shapes.losses:
        there = xp.ones(len(shapes.members), dtype=bool)
        if shapes.source is not None:
            there = xp.concatenate([there, xp.arange(shapes.past) < learner["filled"]])
        return _drawn_by(xp, harder_more_often(xp, learner["known"], there), u)
    shares = xp.asarray(shapes.shares, dtype=xp.float32)
    if shapes.source is not None:
        there = xp.arange(shapes.past) < learner["filled"]
        each = xp.float32(shapes.past_share) / xp.maximum(learner["filled"], 1)
        shares = xp.concatenate([shares, xp.where(there, each, 0.0)])
    return _drawn_by(xp, shares, u)


def _drawn_by(xp: Any, shares: Any, u: Any) -> Any:
    reach = xp.cumsum(shares)
    who = xp.sum(u[:, None] * reach[-1] >= reach[None, :], axis=1)
    return xp.minimum(who, len(shares) - 1).astype(xp.int32)


def _mapped(function: Any, tree: Any) -> Any:
    if isinstance(tree, dict):
        return {name: _mapped(function, part) for name, part in tree.items()}
    if isinstance(tree, tuple):
        parts = [_mapped(function, part) for part in tree]
        return type(tree)(*parts) if hasattr(tree, "_fields") else tuple(parts)
    import jax

    return jax.tree.map(function, tree)
