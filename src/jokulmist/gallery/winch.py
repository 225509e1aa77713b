"""The winch of the ice-core camp: settle a swinging drill at its depth. Linear dynamics, quadratic cost."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.declaration import parts as jm
from jokulmist.environments.declaration.state import State as BaseState
from jokulmist.environments.declaration.state import seen
from jokulmist.environments.environment import Environment
from jokulmist.environments.spaces.actions import Range

# The state after a decision of 0.2 s is ``TURN @ state + PUSH * action + GUSTS * noise``.
TURN = np.array(
    [
        [1.0, 0.2, 0.0, 0.0],
        [0.0, 0.94, 0.0, 0.0],
        [0.0, 0.0, 0.965, 0.19],
        [0.0, 0.0, -0.35, 0.93],
    ]
)
PUSH = np.array([0.04, 0.40, 0.012, 0.12])
GUSTS = np.array([0.0, 0.03, 0.0, 0.03])
# What the squares cost: offset, speed, swing, swinging, and the drive.
SQUARES = np.array([0.10, 0.02, 2.0, 0.20, 0.60])


class Winch(Environment):
    """Settle a swinging ice-core drill at the depth of the next core.

    The drill hangs on a long cable from a trolley at the borehole's mouth. Each fifth of a second the winch is told
    how hard to drive; the drill gains speed by it, is slowed by the melt water in the hole, and swings the more the
    harder it is driven. Turbulence pushes at both. Costs grow with the square of what is off: the depth, the swing, the
    drive. Everything is linear, so the best policy for costs discounted by 0.99 is known exactly: `riccati`. Starts are
    chosen so that it stays within the winch's bounds. A drill that runs off by more than its cable allows is taken in
    by the crew; that is a cut, as is the end of the shift after 100 decisions.

    Good play brings the drill to its depth in some 30 decisions without stirring the swing. Over 200 episodes, seed 1:
    random play returns -62 (sd 31), `riccati` -4.0 (sd 3). In costs discounted by 0.99, `PPO()` comes within 3 %
    of it after 300,000 decisions, `SAC()` within 4 % after 60,000 (`benchmarks/levels_of_ranges.py`).
    """

    time_limit = 100
    discount = 0.99  # of the reference
    reach = 5.0

    class State(BaseState):
        offset: float = seen(low=-6.0, high=6.0, unit="m")
        speed: float = seen(low=-5.0, high=5.0, unit="m/s")
        swing: float = seen(low=-1.0, high=1.0, unit="rad")
        swinging: float = seen(low=-1.5, high=1.5, unit="rad/s")

    action = Range(-1.0, 1.0, unit="of full drive")

    turn = jm.series(TURN)
    push = jm.series(PUSH)
    gusts = jm.series(GUSTS)
    squares = jm.series(SQUARES)

    def begin(self, draw):
        return self.State(
            offset=draw.uniform(-2.8, 2.8),
            speed=draw.uniform(-0.4, 0.4),
            swing=draw.uniform(-0.2, 0.2),
            swinging=draw.uniform(-0.2, 0.2),
        )

    def advance(self, state, action, draw):
        t, push, gusts = self.turn, self.push, self.gusts
        noise = draw.normal(shape=2)
        return state.replace(
            offset=state.offset + t[0, 1] * state.speed + push[0] * action,
            speed=t[1, 1] * state.speed + push[1] * action + gusts[1] * noise[0],
            swing=t[2, 2] * state.swing + t[2, 3] * state.swinging + push[2] * action,
            swinging=t[3, 2] * state.swing + t[3, 3] * state.swinging + push[3] * action + gusts[3] * noise[1],
        )

    @jm.reward(weight=-1.0)
    def off_depth(self, before):
        """Cost of being away from the depth, and of moving."""
        return self.squares[0] * before.offset**2 + self.squares[1] * before.speed**2

    @jm.reward(weight=-1.0)
    def swaying(self, before):
        """Cost of the swing."""
        return self.squares[2] * before.swing**2 + self.squares[3] * before.swinging**2

    @jm.reward(weight=-1.0)
    def driving(self, action):
        """Cost of the drive."""
        return self.squares[4] * action**2

    @jm.cut
    def taken_in(self, after):
        """The drill ran off."""
        return self.xp.abs(after.offset) > self.reach

    @jm.measure(over="max")
    def widest_swing(self, after):
        """Largest angle of the swing, rad."""
        return self.xp.abs(after.swing)

    @jm.measure(over="mean")
    def at_bound(self, action):
        """Share of decisions at full drive."""
        return 1.0 * (self.xp.abs(action) >= 1.0)

    @jm.reference
    def riccati(self, state) -> float:
        """The best linear feedback, for the costs discounted by 0.99 (Bertsekas, 2017, section 3.1)."""
        gain, _ = riccati_solution()
        x = np.array([state.offset, state.speed, state.swing, state.swinging])
        return float(np.clip(-gain @ x, -1.0, 1.0))

    def picture(self, axes, state) -> None:
        axes.set_xlim(-3.0, 3.0)
        axes.set_ylim(6.0, -6.0)
        axes.axvspan(-3.0, -1.2, color="#c9d9e3")
        axes.axvspan(1.2, 3.0, color="#c9d9e3")
        axes.axhline(0.0, color="#b04f3c", linestyle="--", linewidth=1)
        across = 1.1 * np.sin(np.clip(state.swing, -1.5, 1.5))
        axes.plot([0.0, across], [-6.0, state.offset], color="#333333", linewidth=1.2)
        axes.plot([across], [state.offset], marker="v", markersize=16, color="#d9a441")
        axes.set_title(f"{state.offset:+.2f} m off, swing {state.swing:+.2f} rad")
        axes.set_ylabel("metres from the depth of the core")
        axes.set_xticks([])


@lru_cache(maxsize=8)
def riccati_solution(discount: float = Winch.discount) -> tuple[NumpyArray, NumpyArray]:
    """The best feedback of the winch, and what the cost of a state is made of.

    With the discounted costs ``x'Qx + R u^2`` the best drive is ``u = -K x``, and the expected cost from x is ``x'Px``
    plus a constant for the noise, ``discount / (1 - discount) trace(P S)``, S the covariance of the gusts.

    Returns
    -------
    gain : float64, shape ``(4,)``
        K.
    cost : float64, shape ``(4, 4)``
        P.
    """
    from scipy.linalg import solve_discrete_are

    push, root = PUSH[:, None], np.sqrt(discount)
    states, drive = np.diag(SQUARES[:4]), SQUARES[4:].reshape(1, 1)
    cost = solve_discrete_are(root * TURN, root * push, states, drive)
    gain = np.linalg.solve(drive + discount * push.T @ cost @ push, discount * push.T @ cost @ TURN)[0]
    return gain, cost
