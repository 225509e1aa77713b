"""A player's agent that does not learn: a policy that was learned before."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from pydantic import PrivateAttr, field_validator

from jokulmist.agents.configs import FixedConfig, Hyperparameters
from jokulmist.agents.contract import Agent, Experience, hyperparameters_at
from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.spaces.channels import ObservationBatch, Spec, refuse_mismatch
from jokulmist.errors import SettingError
from jokulmist.learning.schedules import Coefficients, Progress, coefficients


class FrozenLearner:
    """What a policy learned; two of one form share a compiled program, because what they hold is handed to it."""

    def __init__(self, learner: Any) -> None:
        self.learner = learner

    def __eq__(self, other: object) -> bool:
        return isinstance(other, FrozenLearner)

    def __hash__(self) -> int:
        return hash(FrozenLearner)


class Fixed(Agent):
    """A policy that plays a player and does not learn.

    Parameters
    ----------
    policy : str
        The folder of a run, or a file that ``policy.save`` wrote. Of a run with the same players the policy of the same
        player is taken.
    act : {"greedy", "sampled"}
        Without exploration, or as in its training at its end.

    Notes
    -----
    A run keeps a copy of it in ``partners/``, so that it can be done again when the other run is gone.

    Examples
    --------
    >>> import jokulmist as jm
    >>> import tempfile
    >>> place, quick = tempfile.mkdtemp(), {"steps": 300, "lane": "plain"}
    >>> pair = jm.train(jm.gallery.Lots(), {"elder": jm.QLearning(), "younger": jm.QLearning()}, folder=place, **quick)
    >>> agents = {"elder": jm.QLearning(), "younger": jm.Fixed(pair.path)}  # as that run learned to play
    >>> jm.train(jm.gallery.Lots(), agents, folder=None, **quick).status
    'done'
    """

    policy: str
    act: Literal["greedy", "sampled"] = "greedy"
    inner: Any = None

    learns: ClassVar[bool] = False
    _frozen: Any = PrivateAttr(default=None)
    _spec: Any = PrivateAttr(default=None)
    _decisions: int = PrivateAttr(default=0)

    def __init__(self, policy: str = "", **settings: Any) -> None:
        super().__init__(**{**settings, "policy": str(policy)})

    def holding(self, agent: Agent, spec: Spec, learner: Any, decisions: int) -> Fixed:
        """The same with what it learned."""
        fixed = Fixed(self.policy, act=self.act, inner=agent)
        fixed._frozen, fixed._spec, fixed._decisions = FrozenLearner(learner), spec, decisions
        return fixed

    @field_validator("inner")
    @classmethod
    def _an_agent(cls, value: Any) -> Any:
        if value is not None and not isinstance(value, Agent):
            raise ValueError("is the agent that learned, and is in records alone; leave it out")
        return value

    @property
    def is_held(self) -> bool:
        return self._frozen is not None

    def refuse(self, spec: Spec) -> None:
        """Raise `SettingError` where the policy learned on other channels or actions."""
        if self.inner is None:
            raise SettingError(
                "`Fixed` plays one of several players, by a policy that was learned before. Give it to a player of "
                "an environment with `players`, e.g. "
                '`{"north": jm.PPO(), "south": jm.Fixed("runs/haul-ppo-001")}`.'
            )
        if self._spec is not None:
            refuse_mismatch(self._spec, spec, f"the policy of {self.policy!r}", "the player")

    def config(self, spec: Spec, copies: int) -> FixedConfig:
        self.refuse(spec)
        inner = self.inner.config(spec, copies)
        return FixedConfig(
            spec=spec,
            copies=copies,
            kind=type(self.inner),
            inner=inner,
            explores=self.act == "sampled",
            frozen=self._frozen,
        )

    def schedules(self) -> dict[str, Coefficients]:
        if self.inner is None:
            return {}
        last = hyperparameters_at(self.inner.schedules(), Progress(self._decisions, 0, 1.0))
        return {name: coefficients(float(value)) for name, value in vars(last).items()}

    def copies_for(self, steps: int | None, begins_with_learned: bool = False) -> int:
        return 1

    def decisions_per_update(self, copies: int) -> int:
        return 0

    def __repr__(self) -> str:
        return f"Fixed({self.policy!r})" if self.act == "greedy" else f"Fixed({self.policy!r}, act={self.act!r})"

    __str__ = __repr__

    def written(self) -> dict[str, Any]:
        return {"policy": self.policy, "act": self.act}

    @staticmethod
    def fresh_learner(config: FixedConfig, hyperparameters: Hyperparameters, noise: Draw) -> Any:
        if config.frozen is not None:
            return config.frozen.learner
        return config.kind.policy_state(config.kind.fresh_learner(config.inner, hyperparameters, noise))

    @staticmethod
    def fresh_memory(config: FixedConfig, hyperparameters: Hyperparameters) -> Any:
        return config.kind.fresh_memory(config.inner, hyperparameters)

    @staticmethod
    def choose(
        config: FixedConfig,
        hyperparameters: Hyperparameters,
        learner: Any,
        memory: Any,
        observed: ObservationBatch,
        noise: Draw,
        explore: bool,
    ) -> tuple[Any, Any, Any]:
        actions, memory, _ = config.kind.choose(
            config.inner, hyperparameters, learner, memory, observed, noise, config.explores
        )
        return actions, memory, ()

    @staticmethod
    def learn(
        config: FixedConfig,
        hyperparameters: Hyperparameters,
        learner: Any,
        memory: Any,
        experience: Experience,
        noise: Draw,
    ) -> tuple[Any, Any, tuple[Any, ...]]:
        return learner, memory, ()
