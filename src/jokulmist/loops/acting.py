"""A policy that acts: in many copies side by side, or in a loop of the user's own."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Literal

from jokulmist.agents.contract import hyperparameters_at
from jokulmist.agents.foreign import twin_holds
from jokulmist.environments.chance.draws import PlainDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.errors import SettingError
from jokulmist.lanes.protocol import Observed
from jokulmist.learning.schedules import Progress
from jokulmist.loops.agent_calls import calls_for

if TYPE_CHECKING:
    from jokulmist.loops.policy import Policy

Act = Literal["greedy", "sampled"]
ACTS: tuple[str, ...] = ("greedy", "sampled")


class ActingCopies:
    """A policy that acts in many copies side by side, with its memory. Each call has draws of its own."""

    def __init__(self, policy: Policy, copies: int, seed: int, act: Act) -> None:
        if act not in ACTS:
            raise SettingError(f"`act` must be `greedy` or `sampled`; got {act!r}.")
        agent = policy.agent
        config = agent.config(policy.spec, copies)
        self._calls = calls_for(agent, config)
        self._numbers = hyperparameters_at(agent.schedules(), Progress(policy.decisions, 0, 1.0))
        self._explore = act == "sampled"
        noise = Noise(seed, 1, Domain.EVALUATION)
        self._draw = PlainDraw(noise, Stream.EXPLORE)
        self._learner = policy.learner
        self._scalar = None
        if twin_holds(type(agent), "scalar", "choose"):
            self._scalar = agent.scalar(config, self._numbers, self._learner, self._draw, None, self._explore)
        self._memory: Any = None
        if self._scalar is None:  # a scalar agent has a memory of its own, and a fresh table would be made for nothing
            # What explores may remember, too: noise that drifts, an action that was drawn before.
            remembers = self._explore or agent.remembers()
            self._memory = agent.fresh_memory(config, self._numbers) if remembers else ()
            self._learner = self._calls.placed(self._learner)
        self._first_memory = self._memory
        self._turn = 0

    def begin(self, draws: bool = False) -> None:
        """Forget what was seen: an episode begins in all copies. Draws go on, unless they are to start again, too."""
        self._memory = self._first_memory
        if draws:
            self._turn = 0

    def choose(self, observed: Observed) -> list[Any]:
        """The actions of all copies, in own form."""
        turn, self._turn = self._turn, self._turn + 1
        if self._scalar is not None:
            for i, row in enumerate(observed.rows):
                self._scalar.see(i, row)
            self._scalar.turn(turn)
            return [self._scalar.decide(i) for i in range(len(observed.rows))]
        actions, self._memory, _ = self._calls.choose(
            self._numbers,
            self._learner,
            self._memory,
            self._calls.seen(observed),
            self._draw.for_step(turn, 0),
            self._explore,
        )
        return self._calls.native_actions(actions)


class Actor:
    """A policy in a loop of your own; made by `Policy.actor`. It remembers what it saw until `reset`, and samples again
    at each call.

    Examples
    --------
    >>> import jokulmist as jm
    >>> run = jm.train(jm.gallery.Tarn(), jm.QLearning(bins=8), steps=2000, lane="plain", folder=None)
    >>> actor = run.policy.actor(act="sampled", seed=3)
    >>> episode = jm.gallery.Tarn().episode(seed=1)
    >>> while not episode.over:
    ...     _ = episode.act(actor.choose(episode.observation))
    >>> actor.reset()  # before the next episode
    """

    def __init__(self, policy: Policy, act: Act = "greedy", seed: int = 0) -> None:
        self._policy, self._copy, self._age = policy, ActingCopies(policy, 1, seed, act), 0

    def choose(self, observation: Any, legal: Any = None) -> Any:
        """The action for the next observation of the episode."""
        return self._next(self._policy.observed(observation, legal))

    def _next(self, observed: Observed) -> Any:
        observed.ages = [self._age]
        self._age += 1
        return self._copy.choose(observed)[0]

    def reset(self, *, draws: bool = False) -> None:
        """Forget what was seen: another episode begins. Its draws go on, or with `draws` start again, too."""
        self._copy.begin(draws)
        self._age = 0

    def __repr__(self) -> str:
        return f"<actor of {self._policy!r}, {self._age} decisions into an episode>"
