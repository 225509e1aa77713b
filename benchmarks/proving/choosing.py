"""The problems that defaults are chosen by. Textbook physics with numbers of our own; each has a rule or a bound to
reach."""

import math

import numpy as np
from scipy.linalg import solve_discrete_are

import jokulmist as jm


class Mast(jm.Environment):
    """Keep a mast upright on a barge that is pushed left or right: unstable, +1 a step."""

    push: float = jm.parameter(4.0, low=0.0, high=20.0)
    pay: float = jm.parameter(1.0, low=0.0, high=1e5)
    time_limit = 400

    class State(jm.State):
        off: float = jm.seen(low=-4.0, high=4.0)
        drifting: float = jm.seen(low=-60.0, high=60.0)  # far wider than what is visited
        lean: float = jm.seen(low=-0.25, high=0.25)
        leaning: float = jm.seen(low=-60.0, high=60.0)

    action = jm.Choice("port", "starboard")

    def begin(self, draw):
        first = draw.uniform(-0.04, 0.04, shape=4)
        return self.State(off=first[0], drifting=first[1], lean=first[2], leaning=first[3])

    def advance(self, state, action, draw):
        xp, dt = self.xp, 0.03
        force = self.push * (2.0 * action - 1.0)
        turning = (9.8 * xp.sin(state.lean) - force * xp.cos(state.lean)) / 1.3
        return state.replace(
            off=state.off + dt * state.drifting,
            drifting=state.drifting + dt * force,
            lean=state.lean + dt * state.leaning,
            leaning=state.leaning + dt * turning,
        )

    @jm.reward
    def upright(self, after):
        return self.pay + 0.0 * after.lean

    @jm.ending
    def fell(self, after):
        return self.xp.abs(after.lean) > 0.25

    @jm.ending
    def aground(self, after):
        return self.xp.abs(after.off) > 4.0

    @jm.reference
    def feedback(self, state):
        return int(0.15 * state.off + 0.3 * state.drifting + 6.0 * state.lean + 1.8 * state.leaning > 0.0)


class Spar(jm.Environment):
    """Keep a spar upright in a swell by its foot, which is moved or held: three choices, noise, no bounds."""

    time_limit = 500

    class State(jm.State):
        lean: float = jm.seen()
        leaning: float = jm.seen()
        foot: float = jm.seen()

    action = jm.Choice("port", "hold", "starboard")

    def begin(self, draw):
        first = draw.uniform(-0.05, 0.05, shape=3)
        return self.State(lean=first[0], leaning=first[1], foot=first[2])

    def advance(self, state, action, draw):
        xp, dt = self.xp, 0.04
        foot = xp.clip(state.foot + 0.05 * (action - 1.0), -0.5, 0.5)
        leaning = state.leaning + dt * (6.0 * xp.sin(state.lean) - 5.0 * foot) + draw.normal(0.0, 0.02)
        return state.replace(lean=state.lean + dt * leaning, leaning=leaning, foot=foot)

    @jm.reward
    def upright(self, after):
        return 1.0 + 0.0 * after.lean

    @jm.ending
    def fell(self, after):
        return self.xp.abs(after.lean) > 0.4

    @jm.reference
    def feedback(self, state):
        wanted = 3.0 * state.lean + 1.0 * state.leaning
        return 2 if wanted > state.foot + 0.025 else 0 if wanted < state.foot - 0.025 else 1


class Buoy(jm.Environment):
    """Swing a buoy's arm up against its weight with a motor that is too weak to lift it at once."""

    time_limit = 200

    class State(jm.State):
        angle: float = jm.field()  # 0 is up
        turning: float = jm.seen(low=-10.0, high=10.0)

    action = jm.Range(-1.0, 1.0)

    def begin(self, draw):
        return self.State(angle=draw.uniform(-math.pi, math.pi), turning=draw.uniform(-1.0, 1.0))

    def advance(self, state, action, draw):
        xp, dt = self.xp, 0.05
        speed = state.turning + dt * (12.0 * xp.sin(state.angle) + 4.5 * action - 0.05 * state.turning)
        speed = xp.clip(speed, -10.0, 10.0)
        angle = state.angle + dt * speed
        return state.replace(angle=xp.arctan2(xp.sin(angle), xp.cos(angle)), turning=speed)

    @jm.sensor(low=-1.0, high=1.0)
    def up(self, state):
        return self.xp.cos(state.angle)

    @jm.sensor(low=-1.0, high=1.0)
    def side(self, state):
        return self.xp.sin(state.angle)

    @jm.reward(weight=-1.0)
    def away(self, before):
        return before.angle**2 + 0.08 * before.turning**2

    @jm.reward(weight=-0.02)
    def drive(self, action):
        return action**2


class Bucket(jm.Environment):
    """Pump a hanging bucket until it swings over the rail: -1 a step, random play gets there in one episode of
    seventy."""

    time_limit = 500

    class State(jm.State):
        angle: float = jm.seen(low=-1.6, high=1.6)
        turning: float = jm.seen(low=-4.0, high=4.0)

    action = jm.Choice("pull", "wait", "push")

    def begin(self, draw):
        return self.State(angle=draw.uniform(-0.1, 0.1), turning=0.0)

    def advance(self, state, action, draw):
        xp, dt = self.xp, 0.08
        speed = state.turning + dt * (-3.0 * xp.sin(state.angle) + 0.55 * (action - 1.0))
        return state.replace(angle=xp.clip(state.angle + dt * speed, -1.6, 1.6), turning=xp.clip(speed, -4.0, 4.0))

    @jm.reward
    def time(self, after):
        return -1.0 + 0.0 * after.angle

    @jm.ending
    def over(self, after):
        return after.angle > 1.0

    @jm.reference
    def with_the_swing(self, state):
        return 2 if state.turning >= 0.0 else 0


class Stones(jm.Environment):
    """Fourteen stones in a row, each slippery, and the only reward at the far end."""

    time_limit = 80
    last: int = jm.parameter(14, low=3, high=40, fixed=True)

    class State(jm.State):
        stone: int = jm.seen(low=0, high="last")

    action = jm.Choice("back", "on")

    def begin(self, draw):
        return self.State(stone=0)

    def advance(self, state, action, draw):
        step = self.xp.where(draw.bernoulli(0.1), 0, 2 * action - 1)
        return state.replace(stone=self.xp.clip(state.stone + step, 0, self.last))

    @jm.reward
    def ashore(self, after):
        return 1.0 * (after.stone == self.last)

    @jm.ending
    def arrived(self, after):
        return after.stone == self.last

    @jm.reference
    def onward(self, state):
        return 1


class Stalls(jm.Environment):
    """Five customers, each best served at one of four stalls; rewards of a thousandth under twice as much noise."""

    time_limit = 5

    class State(jm.State):
        angle: float = jm.field()
        noise: float = jm.flow()

    action = jm.Choice(4)

    def begin(self, draw):
        return self.State(angle=draw.uniform(0.0, 2.0 * math.pi))

    def advance(self, state, action, draw):
        return state.replace(angle=draw.uniform(0.0, 2.0 * math.pi), noise=draw.normal(0.0, 0.002))

    @jm.sensor(low=-1.0, high=1.0)
    def east(self, state):
        return self.xp.cos(state.angle)

    @jm.sensor(low=-1.0, high=1.0)
    def north(self, state):
        return self.xp.sin(state.angle)

    @jm.reward
    def sold(self, before, action, after):
        return 0.001 * self.xp.cos(before.angle - 0.5 * math.pi * action) + after.noise

    @jm.reference
    def nearest(self, state):
        return int(np.round(state.angle / (0.5 * math.pi))) % 4


class Valves(jm.Environment):
    """Two valves of eight settings each, to be set to what two gauges ask for."""

    time_limit = 20

    class State(jm.State):
        hot: float = jm.seen(low=0.0, high=1.0)
        cold: float = jm.seen(low=0.0, high=1.0)

    action = jm.Actions(first=jm.Choice(8), second=jm.Choice(8))

    def begin(self, draw):
        wanted = draw.uniform(shape=2)
        return self.State(hot=wanted[0], cold=wanted[1])

    def advance(self, state, action, draw):
        wanted = draw.uniform(shape=2)
        return state.replace(hot=wanted[0], cold=wanted[1])

    @jm.reward
    def near(self, before, action):
        off = self.xp.abs(action.first / 7.0 - before.hot) + self.xp.abs(action.second / 7.0 - before.cold)
        return 1.0 - off

    @jm.reference
    def rounded(self, state):
        return {"first": int(np.round(7 * state.hot)), "second": int(np.round(7 * state.cold))}


COUPLED = np.eye(6) + 0.1 * np.block(
    [[np.zeros((3, 3)), np.eye(3)], [-1.5 * np.eye(3) + 0.6 * (np.eye(3, k=1) + np.eye(3, k=-1)), -0.2 * np.eye(3)]]
)
DRIVEN = 0.1 * np.vstack([np.zeros((3, 3)), 2.0 * np.eye(3)])


def feedback_of(turn, push, states, drive, discount=0.99):
    """The best linear feedback for discounted quadratic costs (Bertsekas, 2017, section 3.1)."""
    root = math.sqrt(discount)
    cost = solve_discrete_are(root * turn, root * push, states, drive)
    return np.linalg.solve(drive + discount * push.T @ cost @ push, discount * push.T @ cost @ turn)


FLOATS = feedback_of(COUPLED, DRIVEN, 0.1 * np.eye(6), 0.05 * np.eye(3))


class Floats(jm.Environment):
    """Three coupled floats brought to rest by three motors: linear, quadratic costs, no declared bounds of what is
    seen."""

    time_limit = 100
    turn_by = jm.series(COUPLED)
    push_by = jm.series(DRIVEN)

    class State(jm.State):
        place: float = jm.seen(shape=(6,))

    action = jm.Range(-2.0, 2.0, shape=(3,))

    def begin(self, draw):
        return self.State(place=draw.uniform(-1.0, 1.0, shape=6))

    def advance(self, state, action, draw):
        new = self.turn_by @ state.place + self.push_by @ action + draw.normal(0.0, 0.02, shape=6)
        return state.replace(place=self.xp.clip(new, -50.0, 50.0))

    @jm.reward(weight=-0.1)
    def away(self, before):
        return self.xp.sum(before.place**2)

    @jm.reward(weight=-0.05)
    def drive(self, action):
        return self.xp.sum(action**2)

    @jm.reference
    def riccati(self, state):
        return np.clip(-FLOATS @ np.asarray(state.place), -2.0, 2.0)


class Berth(jm.Environment):
    """Bring a boat to its berth as fast as it goes: the best drive stands at its bounds."""

    time_limit = 80

    class State(jm.State):
        off: float = jm.seen(low=-3.0, high=3.0)
        speed: float = jm.seen(low=-3.0, high=3.0)

    action = jm.Range(-1.0, 1.0)

    def begin(self, draw):
        return self.State(off=draw.uniform(-2.0, 2.0), speed=0.0)

    def advance(self, state, action, draw):
        speed = state.speed + 0.08 * action
        return state.replace(off=self.xp.clip(state.off + 0.08 * speed, -3.0, 3.0), speed=speed)

    @jm.reward(weight=-1.0)
    def away(self, after):
        return self.xp.abs(after.off)

    @jm.reference
    def switching(self, state):
        # The time-optimal curve, with a narrow band around it where the drive is in proportion.
        return float(np.clip(-12.0 * (state.off + 0.5 * state.speed * abs(state.speed) + 0.04 * state.speed), -1, 1))


class Kiln(jm.Environment):
    """Hold a kiln's heat: channels in kelvin, pascal and thousandths, without bounds, and rewards of ten thousand."""

    time_limit = 50

    class State(jm.State):
        heat: float = jm.seen(unit="K")
        pressure: float = jm.seen(unit="Pa")
        leak: float = jm.seen()
        wanted: float = jm.seen(unit="K")

    action = jm.Choice("off", "low", "high")

    def begin(self, draw):
        return self.State(
            heat=draw.uniform(900.0, 1300.0),
            pressure=101_000.0,
            leak=draw.uniform(0.001, 0.004),
            wanted=draw.uniform(1000.0, 1200.0),
        )

    def advance(self, state, action, draw):
        heat = state.heat + 30.0 * action - 9000.0 * state.leak + draw.normal(0.0, 4.0)
        return state.replace(heat=self.xp.clip(heat, 300.0, 2000.0), pressure=101_000.0 + 3.0 * heat)

    @jm.reward
    def even(self, after):
        return 10_000.0 * self.xp.maximum(0.0, 1.0 - self.xp.abs(after.heat - after.wanted) / 150.0)

    @jm.reference
    def nearest(self, state):
        return int(np.clip(np.round((state.wanted - state.heat + 9000.0 * state.leak) / 30.0), 0, 2))


class Lure(jm.Environment):
    """A small catch near the house, a large one behind a stretch that costs; random play meets it in one episode of
    six."""

    time_limit = 60

    class State(jm.State):
        place: float = jm.seen(low=0.0, high=8.0)

    action = jm.Choice("in", "stay", "out")

    def begin(self, draw):
        return self.State(place=draw.uniform(1.5, 3.0))

    def advance(self, state, action, draw):
        step = 0.5 * (action - 1.0) + draw.normal(0.0, 0.05)
        return state.replace(place=self.xp.clip(state.place + step, 0.0, 8.0))

    @jm.reward
    def catch(self, after):
        return 0.15 * (after.place < 1.0) + 1.0 * (after.place > 6.5)

    @jm.reward(weight=-0.1)
    def swell(self, after):
        return 1.0 * (after.place > 3.5) * (after.place < 6.5)

    @jm.reference
    def outward(self, state):
        return 2


class Cistern(jm.Environment):
    """A thousand hours of a cistern under uneven use: heavy noise, long episodes, rewards of both signs."""

    time_limit = 1000

    class State(jm.State):
        level: float = jm.seen(low=0.0, high=10.0)
        season: float = jm.field()

    action = jm.Choice(5)

    def begin(self, draw):
        return self.State(level=draw.uniform(2.0, 8.0), season=draw.uniform(0.0, 6.28))

    def advance(self, state, action, draw):
        use = 0.5 + 0.3 * self.xp.sin(state.season) + draw.exponential(0.3)
        level = state.level + 0.4 * action - use
        return state.replace(level=self.xp.clip(level, 0.0, 10.0), season=state.season + 0.05)

    @jm.sensor(low=0.5, high=1.2)
    def usual(self, state):
        return 0.8 + 0.3 * self.xp.sin(state.season)

    @jm.reward
    def near(self, after):
        return 0.5 - 0.25 * self.xp.abs(after.level - 5.0)

    @jm.reference
    def rule(self, state):
        wanted = 5.0 - state.level + 0.8 + 0.3 * math.sin(state.season)
        return int(np.clip(np.round(wanted / 0.4), 0, 4))


class Spot(jm.Environment):
    """Keep a float that drifts in the middle of a small picture."""

    time_limit = 40
    rows = jm.series(np.arange(10, dtype=np.float32))

    class State(jm.State):
        y: float = jm.field()
        x: float = jm.field()

    action = jm.Choice("stay", "up", "down", "left", "right")

    def begin(self, draw):
        first = draw.uniform(0.0, 9.0, shape=2)
        return self.State(y=first[0], x=first[1])

    def advance(self, state, action, draw):
        drift, xp = draw.normal(0.0, 0.4, shape=2), self.xp
        y = state.y + 1.0 * (action == 2) - 1.0 * (action == 1) + drift[0]
        x = state.x + 1.0 * (action == 4) - 1.0 * (action == 3) + drift[1]
        return state.replace(y=xp.clip(y, 0.0, 9.0), x=xp.clip(x, 0.0, 9.0))

    @jm.sensor(image=True, shape=(10, 10, 1))
    def sky(self, state):
        xp = self.xp
        far = (self.rows[:, None] - state.y) ** 2 + (self.rows[None, :] - state.x) ** 2
        return xp.asarray(255.0 * xp.exp(-0.5 * far), dtype=xp.uint8)[:, :, None]

    @jm.reward(weight=-0.2)
    def off(self, after):
        return self.xp.abs(after.y - 4.5) + self.xp.abs(after.x - 4.5)

    @jm.reference
    def towards(self, state):
        dy, dx = state.y - 4.5, state.x - 4.5
        if max(abs(dy), abs(dx)) < 0.5:
            return 0
        if abs(dy) > abs(dx):
            return 1 if dy > 0 else 2
        return 3 if dx > 0 else 4


class Wager(jm.Environment):
    """One offer: a sure amount, or ten now and then. What pays more on average is rare."""

    deadline = 1

    class State(jm.State):
        sure: float = jm.seen(low=0.2, high=2.0)
        chance: float = jm.seen(low=0.02, high=0.3)
        paid: float = jm.flow()

    action = jm.Choice("sure", "rare")

    def begin(self, draw):
        return self.State(sure=draw.uniform(0.2, 2.0), chance=draw.uniform(0.02, 0.3))

    def advance(self, state, action, draw):
        won = draw.uniform() < state.chance
        return state.replace(paid=self.xp.where(action == 0, state.sure, self.xp.where(won, 10.0, 0.0)))

    @jm.reward
    def paid_out(self, after):
        return after.paid

    @jm.measure
    def worth(self, before, action):
        """What the offer pays on average, without its luck."""
        return self.xp.where(action == 0, before.sure, 10.0 * before.chance)

    @jm.reference
    def by_the_mean(self, state):
        return int(10.0 * state.chance > state.sure)
