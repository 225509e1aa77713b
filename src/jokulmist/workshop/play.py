"""An environment in a person's hands: what is decided next, who decides, going back, keeping what was played.

No drawing here: `command/play.py` shows it in a terminal, and anything else may.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.environments.simulator import Simulator
from jokulmist.environments.spaces.actions import Actions, Choice, Range, Record
from jokulmist.environments.spaces.channels import Observation
from jokulmist.environments.spaces.player_actions import PlayerActions, belongs_to
from jokulmist.environments.transition.episode import Episode
from jokulmist.errors import SettingError, listed, nearest
from jokulmist.loops.policy import Policy
from jokulmist.loops.rollouts import save_rollout
from jokulmist.workshop.step_table import row_of

if TYPE_CHECKING:
    import pandas as pd

STEPS_OF_A_RANGE = 20


class Controls:
    """One person, or a policy in their place, at an environment.

    Attributes
    ----------
    episode : Episode
    agent : bool
        Whether the policy decides.
    chosen : dict of str to value
        What is decided next, by part, in own form; a part by itself has the empty name.
    """

    def __init__(
        self,
        environment: Environment,
        policy: Policy | None = None,
        seed: int = 0,
        player: str | None = None,
        partner_policies: Policy | None = None,
    ) -> None:
        for player_policy in (policy, partner_policies):
            if player_policy is not None:
                player_policy.fits(environment)
        self.player, self.partners = player, partner_policies
        self.environment, self.policy, self.seed = environment, policy, seed
        action = describe(environment).action
        self.action = action
        self.parts: dict[str, Choice | Range] = action.parts if isinstance(action, Actions) else {"": action}
        if player is not None:
            players = describe(environment).players
            if player not in players:
                raise SettingError(
                    f"there is no player `{player}`; the players are {listed(players)}.{nearest(player, players)}"
                )
            self.parts = {n: p for n, p in self.parts.items() if belongs_to(player, n)}
        self.agent = policy is not None
        self.chosen: dict[str, Any] = {name: _first(part) for name, part in self.parts.items()}
        self.episode: Episode
        self.begin()

    def begin(self) -> None:
        """Begin the episode of the seed again."""
        self.episode = self.environment.episode(self.seed)
        self.rows: list[dict[str, Any]] = []
        self.acts: list[Any] = []

    def begin_at(self, state: Any, advances: int) -> None:
        """Begin an episode at a state, e.g. one of a recorded episode."""
        self.episode = Episode.from_state(self.environment, state, advances=advances, seed=self.seed)
        self.rows, self.acts = [], []

    def another(self) -> None:
        """Begin an episode of the next seed."""
        self.seed += 1
        self.begin()

    def choose(self, part: str, index: int) -> None:
        """Decide on an alternative of a choice; nothing happens yet."""
        choice = self.parts[part]
        assert isinstance(choice, Choice)
        if 0 <= index < choice.count:
            self.chosen[part] = index

    def nudge(self, part: str, entry: int, steps: int) -> None:
        """Move a number of a range by so many twentieths of its bounds."""
        bounds = self.parts[part]
        assert isinstance(bounds, Range)
        low, high = bounds.low.reshape(-1)[entry], bounds.high.reshape(-1)[entry]
        width = (high - low) / STEPS_OF_A_RANGE if np.isfinite(high - low) else 0.1
        values = np.array(self.chosen[part], np.float32).reshape(-1)
        values[entry] = np.clip(values[entry] + steps * width, low, high)
        self.chosen[part] = float(values[0]) if bounds.shape == () else values.reshape(bounds.shape)

    def decided(self) -> Any:
        """The action that comes next, as it is given: what was chosen, or what the policy would do."""
        if self.agent and self.policy is not None:
            return self.policy.choose_in(self.episode)
        if isinstance(self.action, PlayerActions):
            rest: dict[str, Any] = {}
            if self.partners is not None:
                rest = vars(self.partners.choose_in(self.episode))
            return Record(**{name: self.chosen.get(name, rest.get(name)) for name in self.action.parts})
        return dict(self.chosen) if isinstance(self.action, Actions) else self.chosen[""]

    @property
    def seen(self) -> Observation:
        """What whoever plays sees: of several players only what is theirs."""
        observation = self.episode.observation
        observation_seen: Observation = observation if self.player is None else observation[self.player]
        return observation_seen

    def act(self) -> None:
        """Take the decision; once an episode is over, begin the next."""
        if self.episode.over:
            self.another()
            return
        native = self.action.native(self.decided())
        self.episode.act(native)
        self.acts.append(native)
        self.rows.append(row_of(self.environment, self.seed, self.episode, native))

    def back(self, decisions: int = 1) -> None:
        """Rewind as far as that, or to the beginning."""
        count = min(decisions, self.episode.steps)
        del self.rows[len(self.rows) - count :], self.acts[len(self.acts) - count :]
        if not isinstance(self.environment, Simulator):
            self.episode.back(count)
            return
        # What a simulator is cannot be kept, so it is brought there again.
        self.episode = self.environment.episode(self.seed)
        for action in self.acts:
            self.episode.act(action)

    def swap(self) -> None:
        """Take over from the policy, or hand back to it."""
        if self.policy is None:
            raise SettingError("nobody is there to hand over to; start with `--policy RUN`.")
        self.agent = not self.agent

    @property
    def table(self) -> pd.DataFrame:
        """What was played in this episode, one row a decision; see `tabulate_steps`."""
        import pandas as pd

        return pd.DataFrame(self.rows)

    def save(self, folder: Path) -> Path:
        """Keep the episode so far as a Parquet file of its own."""
        if not self.rows:
            raise SettingError("nothing was played yet; decide at least once before saving.")
        folder.mkdir(parents=True, exist_ok=True)
        stem = f"{describe(self.environment).name.lower()}-seed{self.seed}"
        names = (folder / f"{stem}{'' if k == 1 else f'-{k}'}.parquet" for k in range(1, 10_000))
        path = next(name for name in names if not name.exists())
        return save_rollout(self.episode, path)


def _first(part: Choice | Range) -> Any:
    if isinstance(part, Choice):
        return 0
    low, high = np.nan_to_num(part.low, neginf=0.0), np.nan_to_num(part.high, posinf=0.0)
    middle = np.clip(0.5 * (low + high), part.low, part.high)
    return float(middle) if part.shape == () else middle.astype(np.float32)
