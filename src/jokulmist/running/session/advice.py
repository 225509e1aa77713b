"""What a person should look at when a run does not learn: one line after a tenth of the plan, and one at its end.

Nothing is said where the return is better than random play, nor where it has risen since the first episodes. What is
said names the reading or the record that shows it, and how to fix it. The same line is never said twice, and nothing
that is said changes the run.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

import numpy as np

from jokulmist.agents.contract import Agent
from jokulmist.environments.declaration.description import Description
from jokulmist.environments.environment import Environment
from jokulmist.environments.modifiers.observations import MOST_VALUES
from jokulmist.environments.simulator import Simulator
from jokulmist.environments.spaces.channels import Channel
from jokulmist.environments.spaces.legal import choices_of
from jokulmist.judging.evaluate import RANDOM, SURELY, evaluate
from jokulmist.learning.gaussians import ranges_of
from jokulmist.learning.reward_scaling import spread_of
from jokulmist.loops.policy import Policy
from jokulmist.records.episodes import Episodes
from jokulmist.running.runs.course import NEARLY_THE_SAME

FIRST, FEWEST, PLAYED = 100, 5, 20
EARLY = 0.1
# Decisions after which an episode should have closed.
WAITED = 1_000
# Advances of random play that a look may cost.
MOST_PLAYED = 20_000
UNDECIDED = 0.5
GONE = 0.03
LARGE, SMALL = 100.0, 0.01
FAR_ABOVE = 3.0
# A whole number with more values may be a name rather than an amount.
FEW_VALUES = 8
RAISE = {"exploration": "let `exploration` fall later", "entropy_bonus": "raise `entropy_bonus`"}


def _is_name(channel: Channel) -> bool:
    """Whether a channel may be a name rather than an amount."""
    values = channel.high - channel.low
    return bool(channel.whole and channel.bounded and not channel.shape and FEW_VALUES < values < MOST_VALUES)


class Advice:
    """Follows a run, and says what to look at where it does not learn."""

    def __init__(self, agent: Agent, environment: Environment, description: Description) -> None:
        self._agent, self._environment, self._description = agent, environment, description
        self._first: list[float] = []
        self._seen = np.zeros(len(description.terms), bool)
        self._least, self._most, self._most_a_step = math.inf, -math.inf, 0.0
        self._shares = np.asarray(description.shares)
        self._player_spread = 0.0  # how far what a player got lay from what all got on average
        self._episodes = self._steps = 0
        self._random_played = False
        self._random_returns: list[float] | None = None
        self._hints: list[str] = []
        replays = getattr(agent, "replay", True)
        self._start: int = getattr(agent, "replay_start", 0) if replays else 0

    def take(self, batch: Episodes, returns: Any) -> None:
        """Take finished episodes, with their returns."""
        if not len(returns):
            return
        self._first.extend(returns[: FIRST - len(self._first)].tolist())
        self._seen |= (batch.totals != 0.0).any(axis=0)
        self._least, self._most = min(self._least, float(returns.min())), max(self._most, float(returns.max()))
        # Of each decision, at the size that its parts have: terms that cancel out are large all the same.
        sizes = np.abs(batch.totals * np.asarray(self._description.weights)).max(axis=1) / np.maximum(batch.steps, 1)
        self._most_a_step = max(self._most_a_step, float(sizes.max()))
        if self._shares.size:
            each = batch.totals @ self._shares
            self._player_spread = max(self._player_spread, float(np.abs(each - each.mean(axis=1, keepdims=True)).max()))
        self._episodes += len(returns)
        self._steps += int(batch.steps.sum())

    def early(
        self, share: float, decisions: int, recent: list[float], readings: Mapping[str, float], policy: Any
    ) -> str:
        """What to say at the first report after a tenth of the plan; empty for nothing."""
        if (
            self._random_played
            or share < EARLY
            or decisions < self._start
            or not (self._episodes or decisions > WAITED)
        ):
            return ""
        self._random_played = True
        return self._with_numbers(decisions, recent, self._find_hint(decisions, recent, readings, policy))

    def final(self, decisions: int, recent: list[float], readings: Mapping[str, float], policy: Policy | None) -> str:
        """What to say at the end; empty for nothing."""
        if policy is None or not decisions:
            return ""
        if decisions < self._start:
            hint = (
                f"no update was made, because `replay_start` is {self._start:,} and the run had {decisions:,} "
                "decisions. Train for longer, or lower `replay_start`"
            )
            return self._with_numbers(decisions, recent, hint)
        hint = self._find_hint(decisions, recent, readings, policy, last=True)
        return self._with_numbers(decisions, recent, hint)

    def _with_numbers(self, decisions: int, recent: list[float], hint: str) -> str:
        kind = " ".join([word for word in hint.split() if word.isalpha()][:3])
        if not hint or kind in self._hints:
            return ""
        self._hints.append(kind)
        mean = f" (mean return of the last {len(recent)} episodes {np.mean(recent):.4g})" if recent else ""
        return f"no better than random play after {decisions:,} decisions{mean}: {hint}."

    def _find_hint(
        self, decisions: int, recent: list[float], readings: Mapping[str, float], policy: Policy, last: bool = False
    ) -> str:
        """What is in the way; empty where it learns, or where nothing is sure and the run still goes on."""
        if not self._episodes:
            return (
                f"no episode has closed in {decisions:,} decisions, so nothing is known of returns (`closed_by` in "
                "episodes.csv). Use fewer `copies`, more `steps`, or declare a `time_limit`"
            )
        # Where players get different returns, what one learns another may lose: their mean does not tell whether they
        # learn.
        if self._player_spread > NEARLY_THE_SAME * (self._most - self._least) or self._learns(recent):
            return ""
        for look in (self._no_reward, self._all_alike, self._values, self._entropy, self._scale):
            hint = look(readings, policy)
            if hint:
                return hint
        return self._at_last(recent, readings, policy) if last else ""

    def _learns(self, recent: list[float]) -> bool:
        """Whether the return is better than in the first episodes, or than random play; or there is too little to
        tell."""
        if len(recent) < FEWEST:
            return True
        if len(self._first) >= FEWEST and self._episodes > len(self._first) and surely_above(recent, self._first):
            return True
        random = self._random()
        return random is None or surely_above(recent, random)

    def _random(self) -> list[float] | None:
        """Returns of random play; None where playing would cost too much."""
        if self._random_returns is None:
            self._random_returns = self._played(RANDOM)
        returns = self._random_returns
        is_known = len(self._first) >= FEWEST and self._episodes > len(self._first)  # else the first are the last, too
        return self._first if returns is None and is_known else returns

    def _more_tries(self) -> str:
        ways = [way for name, way in RAISE.items() if hasattr(self._agent, name)]
        if getattr(self._agent, "novelty", self) is None:
            ways.append("seek what is new (`novelty=jm.Novelty(0.1)`)")
        ways += [
            f'show `{channel.name}` value by value (`jm.modifiers.OneHot("{channel.name}")`)'
            for channel in self._description.spec.numbers
            if hasattr(self._agent, "network") and _is_name(channel)
        ]
        return ", ".join(
            [
                *ways,
                "begin nearer to the reward (`curriculum`)",
                "or add a term that leads there (`jm.modifiers.Potential`)",
            ]
        )

    def _no_reward(self, readings: Mapping[str, float], policy: Policy) -> str:
        if self._seen.any():
            return ""
        names = ", ".join(f"`{term.name}`" for term in self._description.terms)
        return (
            f"no reward has been seen yet, {names} stayed 0 in all of {self._episodes:,} episodes, so nothing can be "
            f"learned. To find it, {self._more_tries()}"
        )

    def _all_alike(self, readings: Mapping[str, float], policy: Policy) -> str:
        if self._episodes < PLAYED or self._most > self._least:
            return ""
        return (
            f"each of {self._episodes:,} episodes returned {self._most:.4g}, so nothing tells one action from another "
            f"yet. To find what does, {self._more_tries()}"
        )

    def _values(self, readings: Mapping[str, float], policy: Policy) -> str:
        value = readings.get("mean_value")
        if value is None or not isinstance(policy, Policy):
            return ""
        value *= float(spread_of(getattr(policy.learner, "returns", None)))
        horizon = 1.0 / max(1.0 - float(getattr(self._agent, "discount", 0.99)), 1e-4)
        bound = max(abs(self._least), abs(self._most), self._most_a_step * horizon)
        if not abs(value) > FAR_ABOVE * bound:
            return ""
        return (
            f"values have run away, `mean_value` is {value:.4g} and nothing above {bound:.4g} can be earned. Lower "
            "`learning_rate`, use `double=True` or a longer `target_every` where there is one, or `rewards_scaled=True`"
        )

    def _entropy(self, readings: Mapping[str, float], policy: Policy) -> str:
        choices = choices_of(self._description.spec.action)
        entropy = readings.get("entropy")
        if entropy is None or not choices or ranges_of(self._description.spec.action):
            return ""
        most = sum(math.log(choice.count) for choice in choices.values())
        if not most > 0.0 or entropy > GONE * most:
            return ""
        return (
            f"the policy has decided too early, `entropy` is {entropy:.2g} of {most:.2g}, so it tries nothing else. "
            "Raise `entropy_bonus`, lower `learning_rate`"
        )

    def _scale(self, readings: Mapping[str, float], policy: Policy) -> str:
        size = self._most_a_step
        if getattr(self._agent, "rewards_scaled", True) or SMALL <= size <= LARGE or size == 0.0:
            return ""
        return (
            f"rewards are about {size:.2g} a decision, and networks learn best where they are near 1. Use "
            f"`rewards_scaled=True`, or weights of the terms"
        )

    def _at_last(self, recent: list[float], readings: Mapping[str, float], policy: Policy) -> str:
        exploration = readings.get("exploration", getattr(self._agent, "exploration", None))
        greedy = self._played(policy)
        if greedy is not None and surely_above(greedy, recent):
            return (
                f"but the greedy policy returns {np.mean(greedy):.4g}, so it has learned, and exploration hides it. "
                "Measure with `jokulmist evaluate`, or let exploration fall"
            )
        if isinstance(exploration, float) and exploration > UNDECIDED and choices_of(self._description.spec.action):
            return (
                f"actions were still mostly random, `exploration` is {exploration:.2g}. Let it fall, e.g. "
                "`jm.linear(1.0, 0.05, over=0.3)`"
            )
        return (
            "nothing that is known to be in the way was found. Look for mistakes with `jokulmist check`, at the "
            "reward terms with `jm.ledger(run)`, and train for longer or with another method"
        )

    def _played(self, player: Policy | str) -> list[float] | None:
        """Returns of some episodes without learning; None where they would cost too much."""
        length = self._steps / max(self._episodes, 1)
        count = min(PLAYED, int(MOST_PLAYED / max(length, 1.0)))
        if isinstance(self._environment, Simulator) or count < FEWEST:
            return None
        returns: list[float] = evaluate(player, self._environment, episodes=count).returns.tolist()
        return returns

    def saved(self) -> dict[str, Any]:
        """What goes into a checkpoint."""
        bounds = [self._least, self._most] if self._episodes else None
        return {
            "first": self._first,
            "seen": self._seen.tolist(),
            "bounds": bounds,
            "a_step": self._most_a_step,
            "episodes": self._episodes,
            "steps": self._steps,
            "asked": self._random_played,
            "said": self._hints,
            "apart": self._player_spread,
        }

    def restore(self, saved: Mapping[str, Any]) -> None:
        """Be what `saved` told of."""
        self._first, self._hints = list(saved["first"]), list(saved["said"])
        self._seen = np.array(saved["seen"], bool)
        if saved["bounds"] is not None:
            self._least, self._most = saved["bounds"]
        self._most_a_step, self._random_played = saved["a_step"], saved["asked"]
        self._episodes, self._steps, self._player_spread = saved["episodes"], saved["steps"], saved["apart"]


def surely_above(higher: list[float], lower: list[float]) -> bool:
    """Whether one mean is above another by more than luck: by so many standard errors of their difference."""
    a, b = np.asarray(higher, float), np.asarray(lower, float)
    error = math.sqrt(a.var() / len(a) + b.var() / len(b))
    return float(a.mean() - b.mean()) > SURELY * error + 1e-9 * abs(float(b.mean()))
