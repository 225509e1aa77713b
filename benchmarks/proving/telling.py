"""The problems that defaults are told by, and never chosen by."""

import math
from functools import lru_cache

import numpy as np
from choosing import feedback_of

import jokulmist as jm


class Barrel(jm.Environment):
    """Keep a barrel on a humped plank that is tilted step by step: unstable, noisy, +1 a step, no bounds declared."""

    time_limit = 500

    class State(jm.State):
        place: float = jm.seen()
        rolling: float = jm.seen()
        tilt: float = jm.seen()

    action = jm.Choice("left", "hold", "right")

    def begin(self, draw):
        first = draw.uniform(-0.1, 0.1, shape=3)
        return self.State(place=first[0], rolling=first[1], tilt=first[2])

    def advance(self, state, action, draw):
        dt = 0.05
        tilt = self.xp.clip(state.tilt + 0.06 * (action - 1.0), -0.4, 0.4)
        pull = 2.5 * state.place + 7.0 * self.xp.sin(tilt)
        rolling = state.rolling + dt * pull + draw.normal(0.0, 0.02)
        return state.replace(place=state.place + dt * rolling, rolling=rolling, tilt=tilt)

    @jm.reward
    def on_it(self, after):
        return 1.0 + 0.0 * after.place

    @jm.ending
    def rolled_off(self, after):
        return self.xp.abs(after.place) > 1.0

    @jm.reference
    def feedback(self, state):
        wanted = -(1.0 * state.place + 0.5 * state.rolling)
        return 2 if wanted > state.tilt + 0.03 else 0 if wanted < state.tilt - 0.03 else 1


class Derrick(jm.Environment):
    """Swing a derrick's boom up with a winch that pulls harder one way than the other; rewards are all positive."""

    time_limit = 200

    class State(jm.State):
        angle: float = jm.field()  # 0 is up
        turning: float = jm.seen()

    action = jm.Range(-3.0, 5.0, unit="kNm")

    def begin(self, draw):
        return self.State(angle=math.pi + draw.uniform(-0.3, 0.3), turning=draw.uniform(-0.3, 0.3))

    def advance(self, state, action, draw):
        xp, dt = self.xp, 0.06
        speed = state.turning + dt * (8.0 * xp.sin(state.angle) + 0.8 * action - 0.15 * state.turning)
        angle = state.angle + dt * speed
        return state.replace(angle=xp.arctan2(xp.sin(angle), xp.cos(angle)), turning=xp.clip(speed, -9.0, 9.0))

    @jm.sensor(low=-1.0, high=1.0)
    def up(self, state):
        return self.xp.cos(state.angle)

    @jm.sensor(low=-1.0, high=1.0)
    def side(self, state):
        return self.xp.sin(state.angle)

    @jm.reward
    def height(self, after):
        return 0.5 + 0.5 * self.xp.cos(after.angle)

    @jm.reward(weight=-0.01)
    def drive(self, action, after):
        return 0.1 * action**2 + self.xp.abs(after.turning)


class Sound(jm.Environment):
    """Row a boat out of one basin over a sill into the next, by rocking it: -1 a step; random play gets there in one of
    seventy."""

    time_limit = 500

    class State(jm.State):
        place: float = jm.seen(low=-2.0, high=2.0)
        speed: float = jm.seen(low=-2.0, high=2.0)

    action = jm.Choice("astern", "rest", "ahead")

    def begin(self, draw):
        return self.State(place=draw.uniform(-1.1, -0.9), speed=0.0)

    def advance(self, state, action, draw):
        xp, dt = self.xp, 0.12
        pull = state.place - state.place**3 + 0.2 * (action - 1.0) - 0.02 * state.speed
        speed = xp.clip(state.speed + dt * pull, -2.0, 2.0)
        return state.replace(place=xp.clip(state.place + dt * speed, -2.0, 2.0), speed=speed)

    @jm.reward
    def time(self, after):
        return -1.0 + 0.0 * after.place

    @jm.ending
    def through(self, after):
        return after.place > 0.5

    @jm.reference
    def rocking(self, state):
        return 2 if state.speed >= 0.0 else 0


class Ladder(jm.Environment):
    """A ladder whose rungs each need another hold, seen as one of seven lamps; the only reward is at the top."""

    time_limit = 60
    lamps = jm.series(np.arange(7, dtype=np.int32))

    class State(jm.State):
        rung: int = jm.field()

    action = jm.Choice("left", "middle", "right")

    def begin(self, draw):
        return self.State(rung=0)

    def advance(self, state, action, draw):
        right = action == (state.rung * 2) % 3
        return state.replace(rung=self.xp.clip(state.rung + self.xp.where(right, 1, -1), 0, 6))

    @jm.sensor(low=0.0, high=1.0, shape=(7,))
    def lamp(self, state):
        return 1.0 * (self.lamps == state.rung)

    @jm.reward
    def top(self, after):
        return 1.0 * (after.rung == 6)

    @jm.ending
    def up(self, after):
        return after.rung == 6

    @jm.reference
    def climb(self, state):
        return int(state.rung * 2 % 3)


PRICES = np.random.default_rng(7).normal(size=(6, 3)).astype(np.float32)


class Auction(jm.Environment):
    """Eight lots, six bidders: the loss is in tens of thousands, and ten of thirteen channels mean nothing."""

    time_limit = 8
    prices = jm.series(PRICES)

    class State(jm.State):
        lot: float = jm.seen(shape=(3,))
        idle: float = jm.seen(shape=(10,))

    action = jm.Choice(6)

    def begin(self, draw):
        return self.State(lot=draw.normal(shape=3), idle=draw.normal(shape=10))

    def advance(self, state, action, draw):
        return state.replace(lot=draw.normal(shape=3), idle=draw.normal(shape=10))

    @jm.reward
    def loss(self, before, action):
        offers = self.prices @ before.lot
        return 10_000.0 * (offers[action] - 6.0)

    @jm.reference
    def best_offer(self, state):
        return int(np.argmax(PRICES @ np.asarray(state.lot)))


class Rig(jm.Environment):
    """One of five sails and a rudder at once, both set by the wind that is seen."""

    time_limit = 20

    class State(jm.State):
        wind: float = jm.seen(low=-1.0, high=1.0)
        force: float = jm.seen(low=0.0, high=1.0)

    action = jm.Actions(sail=jm.Choice(5), rudder=jm.Range(-0.5, 1.0))

    def begin(self, draw):
        return self.State(wind=draw.uniform(-1.0, 1.0), force=draw.uniform(0.0, 1.0))

    def advance(self, state, action, draw):
        return state.replace(
            wind=self.xp.clip(state.wind + draw.normal(0.0, 0.3), -1.0, 1.0), force=draw.uniform(0.0, 1.0)
        )

    @jm.reward
    def speed(self, before, action):
        off = self.xp.abs(action.sail / 4.0 - (1.0 - before.force))
        return 1.0 - off - (action.rudder - 0.25 - 0.6 * before.wind) ** 2

    @jm.reference
    def by_the_book(self, state):
        return {
            "sail": int(np.round(4 * (1.0 - state.force))),
            "rudder": float(np.clip(0.25 + 0.6 * state.wind, -0.5, 1)),
        }


LINKS = np.eye(8) * 0.97 + 0.04 * (np.eye(8, k=1) - np.eye(8, k=-1))
HAULED = 0.3 * np.eye(8)
NETS = feedback_of(LINKS, HAULED, np.eye(8), 0.3 * np.eye(8))


class Nets(jm.Environment):
    """Eight nets hauled by eight winches with unequal bounds; costs of a hundredth."""

    time_limit = 60
    turn_by = jm.series(LINKS)
    push_by = jm.series(HAULED)

    class State(jm.State):
        depth: float = jm.seen(low=-40.0, high=40.0, shape=(8,))

    action = jm.Range(-1.0, 2.0, shape=(8,))

    def begin(self, draw):
        return self.State(depth=draw.normal(0.0, 0.8, shape=8))

    def advance(self, state, action, draw):
        new = self.turn_by @ state.depth + self.push_by @ action + draw.normal(0.0, 0.05, shape=8)
        return state.replace(depth=self.xp.clip(new, -40.0, 40.0))

    @jm.reward(weight=-0.01)
    def cost(self, before, action):
        return self.xp.sum(before.depth**2) + 0.3 * self.xp.sum(action**2)

    @jm.reference
    def riccati(self, state):
        return np.clip(-NETS @ np.asarray(state.depth), -1.0, 2.0)


class Eddy(jm.Environment):
    """Hold a chaotic eddy at its unstable point by small pushes."""

    time_limit = 100

    class State(jm.State):
        swirl: float = jm.seen(low=0.0, high=1.0)

    action = jm.Range(-1.0, 1.0)

    def begin(self, draw):
        return self.State(swirl=draw.uniform(0.1, 0.9))

    def advance(self, state, action, draw):
        x = 3.8 * state.swirl * (1.0 - state.swirl) + 0.12 * action + draw.normal(0.0, 0.005)
        return state.replace(swirl=self.xp.clip(x, 0.0, 1.0))

    @jm.reward(weight=-10.0)
    def away(self, after):
        return self.xp.abs(after.swirl - 2.8 / 3.8)

    @jm.reference
    def cancelling(self, state):
        return float(np.clip((2.8 / 3.8 - 3.8 * state.swirl * (1.0 - state.swirl)) / 0.12, -1.0, 1.0))


class Sheds(jm.Environment):
    """Two sheds of dried fish: sell from one, from the other, or wait; whole numbers, solved exactly."""

    time_limit = 100

    class State(jm.State):
        north: int = jm.seen(low=0, high=10)
        south: int = jm.seen(low=0, high=10)
        sold: int = jm.flow()

    action = jm.Choice("wait", "north", "south")

    def begin(self, draw):
        return self.State(north=5, south=5)

    def advance(self, state, action, draw):
        north_sold = self.xp.where((action == 1) & (state.north >= 2), state.north // 2, 0)
        south_sold = self.xp.where((action == 2) & (state.south >= 2), state.south // 2, 0)
        north = state.north - north_sold + draw.bernoulli(0.6)
        south = state.south - south_sold + draw.bernoulli(0.35)
        return state.replace(
            north=self.xp.clip(north, 0, 10), south=self.xp.clip(south, 0, 10), sold=north_sold + 2 * south_sold
        )

    @jm.reward
    def income(self, after):
        return 1.0 * after.sold

    @jm.reward(weight=-1.0)
    def trips(self, action):
        return 1.0 * (action > 0)

    @jm.reward(weight=-0.1)
    def spoiled(self, after):
        return 1.0 * (after.north >= 9) + 1.0 * (after.south >= 9)

    @jm.reference
    def solved(self, state):
        return int(sheds_policy()[state.north, state.south])


@lru_cache(maxsize=1)
def sheds_policy(discount=0.99):
    """By value iteration over the 121 states (Sutton and Barto, 2018, section 4.4)."""
    value = np.zeros((11, 11))
    for _ in range(3000):
        best = np.full((11, 11, 3), -np.inf)
        for n in range(11):
            for s in range(11):
                for a in range(3):
                    n_sold = n // 2 if a == 1 and n >= 2 else 0
                    s_sold = s // 2 if a == 2 and s >= 2 else 0
                    total = n_sold + 2 * s_sold - 1.0 * (a > 0)
                    for dn, p in ((1, 0.6), (0, 0.4)):
                        for ds, q in ((1, 0.35), (0, 0.65)):
                            n2, s2 = min(n - n_sold + dn, 10), min(s - s_sold + ds, 10)
                            spoiled = 0.1 * ((n2 >= 9) + (s2 >= 9))
                            total += p * q * (discount * value[n2, s2] - spoiled)
                    best[n, s, a] = total
        new = best.max(axis=2)
        if np.abs(new - value).max() < 1e-6:
            break
        value = new
    return best.argmax(axis=2)


class Flats(jm.Environment):
    """Walk over the flats at low tide to a hut in the far corner: -1 a step; random play gets there in one of a
    hundred."""

    time_limit = 200

    class State(jm.State):
        east: float = jm.seen(low=0.0, high=10.0)
        north: float = jm.seen(low=0.0, high=10.0)

    action = jm.Choice("east", "north", "west", "south")

    def begin(self, draw):
        return self.State(east=draw.uniform(0.0, 1.0), north=draw.uniform(0.0, 1.0))

    def advance(self, state, action, draw):
        xp, slip = self.xp, draw.normal(0.0, 0.05, shape=2)
        east = state.east + 0.5 * ((action == 0) * 1.0 - (action == 2) * 1.0) + slip[0]
        north = state.north + 0.5 * ((action == 1) * 1.0 - (action == 3) * 1.0) + slip[1]
        return state.replace(east=xp.clip(east, 0.0, 10.0), north=xp.clip(north, 0.0, 10.0))

    @jm.reward
    def time(self, after):
        return -1.0 + 0.0 * after.east

    @jm.ending
    def there(self, after):
        return (after.east > 9.0) & (after.north > 9.0)

    @jm.reference
    def straight(self, state):
        return 0 if state.east <= 9.0 else 1


class Pegs(jm.Environment):
    """A line is made fast on one of 64 pegs in eight rows; two gauges say how far up and along it is to be."""

    time_limit = 20

    class State(jm.State):
        up: float = jm.seen(low=0.0, high=1.0)
        along: float = jm.seen(low=0.0, high=1.0)

    action = jm.Choice(64)

    def begin(self, draw):
        wanted = draw.uniform(shape=2)
        return self.State(up=wanted[0], along=wanted[1])

    def advance(self, state, action, draw):
        wanted = draw.uniform(shape=2)
        return state.replace(up=wanted[0], along=wanted[1])

    @jm.reward
    def near(self, before, action):
        xp = self.xp
        return 1.0 - xp.abs(action // 8 / 7.0 - before.up) - xp.abs(action % 8 / 7.0 - before.along)

    @jm.reference
    def nearest(self, state):
        return 8 * int(np.round(7 * state.up)) + int(np.round(7 * state.along))


class Errand(jm.Environment):
    """Row to whichever buoy is named this time, and arrive gently: the goal is a part of what is seen."""

    time_limit = 60

    class State(jm.State):
        place: float = jm.seen(low=-2.0, high=2.0, shape=(2,))
        goal: float = jm.seen(low=-2.0, high=2.0, shape=(2,))

    action = jm.Choice("rest", "west", "east", "south", "north")

    def begin(self, draw):
        return self.State(place=draw.uniform(-1.5, 1.5, shape=2), goal=draw.uniform(-1.5, 1.5, shape=2))

    def advance(self, state, action, draw):
        xp = self.xp
        step = xp.stack([1.0 * (action == 2) - 1.0 * (action == 1), 1.0 * (action == 4) - 1.0 * (action == 3)])
        place = state.place + 0.15 * step + draw.normal(0.0, 0.03, shape=2)
        return state.replace(place=xp.clip(place, -2.0, 2.0))

    @jm.reward(weight=-0.1)
    def away(self, after):
        return self.xp.sum(self.xp.abs(after.place - after.goal))

    @jm.reward(weight=2.0)
    def arrived(self, after):
        return 1.0 * (self.xp.sum(self.xp.abs(after.place - after.goal)) < 0.2)

    @jm.ending
    def there(self, after):
        return self.xp.sum(self.xp.abs(after.place - after.goal)) < 0.2

    @jm.reference
    def straight(self, state):
        d = np.asarray(state.goal) - np.asarray(state.place)
        k = int(np.argmax(np.abs(d)))
        return (2 if d[0] > 0 else 1) if k == 0 else (4 if d[1] > 0 else 3)


class Lantern(jm.Environment):
    """Two lights in a small picture: go to the brighter one, and stay there."""

    time_limit = 30
    rows = jm.series(np.arange(12, dtype=np.float32))

    class State(jm.State):
        boat: float = jm.field()
        bright: float = jm.field()
        dim: float = jm.field()

    action = jm.Choice("left", "stay", "right")

    def begin(self, draw):
        places = draw.uniform(0.0, 11.0, shape=3)
        return self.State(boat=places[0], bright=places[1], dim=places[2])

    def advance(self, state, action, draw):
        return state.replace(boat=self.xp.clip(state.boat + (action - 1.0) + draw.normal(0.0, 0.1), 0.0, 11.0))

    @jm.sensor(image=True, shape=(12, 12, 1))
    def shore(self, state):
        xp = self.xp
        lights = 255.0 * xp.exp(-0.5 * (self.rows - state.bright) ** 2)
        lights = xp.maximum(lights, 110.0 * xp.exp(-0.5 * (self.rows - state.dim) ** 2))
        boat = 200.0 * xp.exp(-0.5 * (self.rows - state.boat) ** 2)
        upper = (self.rows < 6.0)[:, None]
        return xp.asarray(xp.where(upper, lights[None, :], boat[None, :]), dtype=xp.uint8)[:, :, None]

    @jm.reward(weight=-0.1)
    def away(self, after):
        return self.xp.abs(after.boat - after.bright)

    @jm.reference
    def straight(self, state):
        off = state.bright - state.boat
        return 2 if off > 0.5 else 0 if off < -0.5 else 1


class Signal(jm.Environment):
    """A lamp shows at the first decision which way to turn at the last; seen through a stack of eight moments."""

    time_limit = 6

    class State(jm.State):
        way: int = jm.field()
        hour: int = jm.seen(low=0, high=6)

    action = jm.Choice("left", "right")

    def begin(self, draw):
        return self.State(way=draw.integers(0, 2), hour=0)

    def advance(self, state, action, draw):
        return state.replace(hour=state.hour + 1)

    @jm.sensor(low=-1.0, high=1.0)
    def lamp(self, state):
        return self.xp.where(state.hour == 0, 2.0 * state.way - 1.0, 0.0)

    @jm.reward
    def right_way(self, before, action):
        last = before.hour == 5
        return self.xp.where(last, self.xp.where(action == before.way, 1.0, -1.0), 0.0)

    @jm.reference
    def knowing(self, state):
        return int(state.way)


class Crossing(jm.Environment):
    """Thirty ice floes, seen as a row of which one is lit: at each one way is right, and the other leads back. Only the
    far shore pays."""

    time_limit = 90
    right = jm.series([(7 * k * k + 3 * k + 1) % 11 % 2 for k in range(30)])

    class State(jm.State):
        floe: int = jm.field()

    action = jm.Choice("left", "right")

    def begin(self, draw):
        return self.State(floe=0)

    def advance(self, state, action, draw):
        return state.replace(
            floe=self.xp.where(action == self.right[self.xp.minimum(state.floe, 29)], state.floe + 1, 0)
        )

    @jm.sensor(low=0, high=1, shape=31)
    def lit(self, state):
        return self.xp.asarray(self.xp.arange(31) == state.floe, dtype=self.xp.float32)

    @jm.reward
    def across(self, after):
        return self.xp.where(after.floe == 30, 1.0, 0.0)

    @jm.ending
    def ashore(self, after):
        return after.floe == 30

    @jm.reference
    def knowing(self, state):
        return int(self.right[min(int(state.floe), 29)])
