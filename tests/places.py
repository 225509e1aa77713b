"""Environments that the tests share: small, and each with something that is easy to get wrong."""

import os
import signal
import time

import numpy as np

import jokulmist as jm
from jokulmist.environments.spaces.channels import ObservationBatch


class Corridor(jm.Environment):
    """Five cells in a row; the right end pays, the left end costs, and time is cut. Solved by hand."""

    length: int = jm.parameter(5, low=3, high=50, fixed=True, help="Cells.")
    slip: float = jm.parameter(0.0, low=0.0, high=1.0, help="Chance to stay in place.")
    time_limit = 20

    class State(jm.State):
        cell: int = jm.seen(low=0, values="length")

    action = jm.Choice("left", "right")

    def begin(self, draw):
        return self.State(cell=self.length // 2)

    def advance(self, state, action, draw):
        stays = draw.bernoulli(self.slip)
        step = self.xp.where(stays, 0, 2 * action - 1)
        return state.replace(cell=self.xp.clip(state.cell + step, 0, self.length - 1))

    @jm.reward
    def prize(self, after):
        return 1.0 * (after.cell == self.length - 1) - 1.0 * (after.cell == 0)

    @jm.reward(weight=-0.1)
    def effort(self, before, action, after):
        return 1.0 * (after.cell != before.cell)

    @jm.ending
    def right_end(self, after):
        return after.cell == self.length - 1

    @jm.ending
    def left_end(self, after):
        return after.cell == 0

    @jm.reference
    def go_right(self, state):
        return 1


class Snowfield(jm.Environment):
    """A grid that snow fills: arrays in the state, a loop, a write, a window, Poisson and binomial draws."""

    side: int = jm.parameter(4, low=2, high=8, fixed=True)
    fall: float = jm.parameter(2.0, low=0.0, high=9.0, unit="cm")
    deadline = 40

    class State(jm.State):
        depth: np.ndarray = jm.seen(low=0.0, high=400.0, shape=("side", "side"), unit="cm")
        plough: int = jm.seen(low=0, values="side")
        base: np.ndarray = jm.field(shape="side", constant=True)
        cleared: float = jm.flow(unit="cm")

    action = jm.Choice("wait", "clear", "move")

    def begin(self, draw):
        depth = draw.uniform(0.0, 5.0, shape=(self.side, self.side))
        return self.State(depth=depth, plough=0, base=draw.normal(0.0, 1.0, shape=self.side))

    def advance(self, state, action, draw):
        xp = self.xp
        row = jm.slice_array(state.depth, (state.plough, 0), (1, self.side))[0]
        cleared = xp.where(action == 1, xp.sum(row), 0.0)
        depth = xp.where(action == 1, jm.replace_item(state.depth, state.plough, 0.0 * row), state.depth)
        fallen = draw.poisson(self.fall, shape=(self.side, self.side)) * draw.binomial(1, 0.5)
        depth = jm.repeat(self.side, lambda i, d: jm.replace_item(d, (i, i), d[i, i] * 0.9), depth + fallen)
        plough = xp.where(action == 2, (state.plough + 1) % self.side, state.plough)
        return state.replace(depth=xp.minimum(depth, 400.0), plough=plough, cleared=cleared)

    @jm.sensor(low=-10.0, high=10.0)
    def felt(self, state, draw):
        return xp_clip(self.xp, self.xp.sum(state.base) + draw.normal(0.0, 0.1))

    @jm.reward
    def clearing(self, after):
        return after.cleared

    @jm.cut
    def buried(self, after):
        return self.xp.max(after.depth) > 60.0

    @jm.measure(over="mean")
    def mean_depth(self, after):
        return self.xp.mean(after.depth)


def xp_clip(xp, value):
    return xp.clip(value, -10.0, 10.0)


class Skiff(jm.Environment):
    """Two actions at once, several endings and cuts that can hold together, every continuous draw."""

    time_limit = 30
    deadline = 30

    class State(jm.State):
        place: float = jm.seen(low=-60.0, high=60.0, unit="m")
        leaking: bool = jm.seen()
        gust: float

    action = jm.Actions(tack=jm.Choice("port", "starboard"), sail=jm.Range(0.0, 1.0))

    def begin(self, draw):
        return self.State(place=draw.pick([-1.0, 0.0, 1.0], weights=[1, 2, 1]), leaking=False, gust=0.0)

    def advance(self, state, action, draw):
        gust = draw.gamma(2.0) * draw.beta(2.0, 3.0) + draw.exponential(0.3) + draw.lognormal(-2.0, 0.5)
        side = 2.0 * action.tack - 1.0
        place = jm.repeat_until(
            lambda x: abs(x) < 50.0, lambda x: 0.5 * x, state.place + side * action.sail * gust, at_most=8
        )
        return state.replace(place=place, leaking=state.leaking | (gust > 3.0), gust=gust)

    @jm.reward
    def distance(self, before, after):
        return abs(after.place) - abs(before.place)

    @jm.reward(weight=-0.5)
    def trimming(self, action):
        return action.sail

    @jm.ending
    def far(self, after):
        return abs(after.place) > 4.0

    @jm.ending
    def too_far(self, after):
        return abs(after.place) > 4.5

    @jm.cut
    def calm(self, after):
        return after.gust < 0.35

    @jm.measure(over="max")
    def strongest(self, after):
        return after.gust

    @jm.measure(over="last")
    def last_place(self, after):
        return after.place


class Lamp(jm.Environment):
    """Whole numbers and flags alone, a derived value, permutations and picks."""

    count: int = jm.parameter(3, low=2, high=6, fixed=True)
    time_limit = 12

    class State(jm.State):
        lit: np.ndarray = jm.seen(low=0, high=1, shape="count")
        order: np.ndarray = jm.field(shape="count", dtype="int32")
        turn: int = jm.seen(low=0, high=12)

    action = jm.Choice(3)

    @jm.derived
    def target(self):
        return self.count - 1

    def begin(self, draw):
        return self.State(lit=self.xp.zeros(self.count), order=draw.permutation(self.count), turn=draw.integers(0, 2))

    def advance(self, state, action, draw):
        name = state.order[action]
        return state.replace(lit=jm.replace_item(state.lit, name, 1.0), turn=self.xp.minimum(state.turn + 1, 12))

    @jm.reward
    def light(self, before, after):
        return self.xp.sum(after.lit) - self.xp.sum(before.lit)

    @jm.ending
    def all_lit(self, after):
        return self.xp.sum(after.lit) > self.target


class Branching(Corridor):
    """A corridor whose step branches on a value."""

    def advance(self, state, action, draw):
        if state.cell > 3:
            return state.replace(cell=3)
        return state.replace(cell=max(0, min(4, state.cell + 2 * action - 1)))


TRACED = (Corridor, Snowfield, Skiff, Lamp)


class Camera(jm.Environment):
    """An image beside a number, with noise in both."""

    time_limit = 6

    class State(jm.State):
        place: int = jm.seen(low=0, values=4)

    action = jm.Choice(2)

    def begin(self, draw):
        return self.State(place=draw.integers(0, 4))

    def advance(self, state, action, draw):
        return state.replace(place=(state.place + action) % 4)

    @jm.sensor(low=-1.0, high=5.0)
    def felt(self, state, draw):
        return state.place + draw.uniform(-0.5, 0.5)

    @jm.sensor(shape=(2, 4, 1), image=True)
    def seen(self, state, draw):
        xp = self.xp
        bright = xp.where(xp.arange(4) == state.place, 100 + draw.integers(0, 100), 0)
        return xp.asarray(xp.broadcast_to(bright[None, :, None], (2, 4, 1)), dtype=xp.uint8)

    @jm.reward
    def gain(self, after):
        return 1.0 * after.place


def seen(numbers, legal=(), ages=None):
    """What an agent is given, from rows of numbers."""
    numbers = np.asarray(numbers, np.float32)
    ages = np.zeros(numbers.shape[:-1], np.int32) if ages is None else np.asarray(ages, np.int32)
    return ObservationBatch(numbers, {}, tuple(np.asarray(mask, bool) for mask in legal), ages)


class Gates(jm.Environment):
    """Two choices at once, of which some are forbidden: the open gate moves from day to day, a lamp may be lit at
    night.

    Going through the open gate pays, a lit lamp pays at night; nothing that is forbidden may ever be done.
    """

    deadline = 12

    class State(jm.State):
        open: int = jm.seen(low=0, values=3)
        night: bool = jm.seen()

    action = jm.Actions(gate=jm.Choice("west", "middle", "east"), lamp=jm.Choice("dark", "lit"))

    def begin(self, draw):
        return self.State(open=draw.integers(0, 3), night=draw.bernoulli(0.5))

    def legal(self, state):
        xp = self.xp
        # The gate opposite is barred; by day the lamp stays dark.
        return {
            "gate": xp.arange(3) != (state.open + 1) % 3,
            "lamp": xp.stack([xp.asarray(True), xp.asarray(state.night)]),
        }

    def advance(self, state, action, draw):
        return state.replace(open=draw.integers(0, 3), night=draw.bernoulli(0.5))

    @jm.reward
    def through(self, before, action):
        return 1.0 * (action.gate == before.open)

    @jm.reward
    def light(self, before, action):
        return 1.0 * (before.night & (action.lamp == 1))

    @jm.measure
    def broken(self, before, action):
        """Forbidden choices that were made."""
        return 1.0 * (action.gate == (before.open + 1) % 3) + 1.0 * (~before.night & (action.lamp == 1))


class Signal(jm.Environment):
    """Pixels: a light stands left or right, and the same side must be pressed; a second image shows nothing of it."""

    deadline = 8

    class State(jm.State):
        side: int = jm.field()

    action = jm.Choice("left", "right")

    def begin(self, draw):
        return self.State(side=draw.integers(0, 2))

    def advance(self, state, action, draw):
        return state.replace(side=draw.integers(0, 2))

    @jm.sensor(shape=(6, 8, 1), image=True)
    def view(self, state):
        xp = self.xp
        lit = (xp.arange(8) >= 4) == (state.side == 1)
        return xp.asarray(xp.broadcast_to(xp.where(lit, 200, 0)[None, :, None], (6, 8, 1)), dtype=xp.uint8)

    @jm.reward
    def right_side(self, before, action):
        return 1.0 * (action == before.side)


class Tiller(jm.Environment):
    """A choice and two ranges of different units at once: the tiller must point at the buoy, the right sheet be
    hauled."""

    time_limit = 10

    class State(jm.State):
        buoy: float = jm.seen(low=-1.0, high=1.0)
        side: int = jm.seen(low=0, values=3)

    action = jm.Actions(
        sheet=jm.Choice("port", "both", "starboard"),
        turn=jm.Range(-30.0, 30.0, unit="deg"),
        haul=jm.Range([0.0, 1.0], [2.0, 5.0], shape=2, unit="m"),
    )

    def begin(self, draw):
        return self.State(buoy=draw.uniform(-0.8, 0.8), side=draw.integers(0, 3))

    def legal(self, state):
        return {"sheet": self.xp.arange(3) != (state.side + 1) % 3}

    def advance(self, state, action, draw):
        return state.replace(buoy=draw.uniform(-0.8, 0.8), side=draw.integers(0, 3))

    @jm.reward(weight=-4.0)
    def astray(self, before, action):
        return (action.turn / 30.0 - before.buoy) ** 2

    @jm.reward(weight=-1.0)
    def slack(self, action):
        return (action.haul[0] - 0.5) ** 2 + 0.25 * (action.haul[1] - 4.0) ** 2

    @jm.reward
    def right_sheet(self, before, action):
        return 1.0 * (action.sheet == before.side)

    @jm.measure
    def beyond(self, before, action):
        """What was done that may not be done."""
        xp = self.xp
        low, high = xp.asarray([0.0, 1.0]), xp.asarray([2.0, 5.0])
        out = xp.sum(1.0 * (action.haul < low) + 1.0 * (action.haul > high)) + 1.0 * (xp.abs(action.turn) > 30.0)
        return out + 1.0 * (action.sheet == (before.side + 1) % 3)


class Drift(jm.Simulator):
    """A buoy on a line, as a simulator: what it keeps is on itself, and nobody can copy it."""

    width: float = jm.parameter(3.0, low=1.0, high=9.0)
    dies_at: int = jm.parameter(-1, low=-1, high=1000, help="Steps after which the process kills itself.")
    hangs: bool = jm.parameter(False)
    raises: bool = jm.parameter(False)
    every: int = jm.parameter(3, low=1, high=9, help="Which episodes are bad.")
    observation = {"at": jm.channel(low=-10.0, high=10.0, unit="m"), "age": jm.channel(values=64)}
    action = jm.Choice("left", "right")
    terms = {"near": 1.0, "pull": -0.1}
    endings = ("adrift",)
    measures = {"farthest": "max"}
    time_limit = 12
    answer_within = 0.5
    most_lost = 1.0

    def begin(self, seed):
        self.chance = np.random.default_rng(seed)
        self.at, self.age = float(self.chance.uniform(-1.0, 1.0)), 0
        self.bad = seed % self.every == 0
        return {"at": self.at, "age": 0}

    def advance(self, action):
        self.age += 1
        if self.bad and self.age == self.dies_at:
            if self.raises:
                raise ArithmeticError("the line parted")
            if self.hangs:
                time.sleep(60.0)
            os.kill(os.getpid(), signal.SIGKILL)
        self.at += 0.5 * (2 * action - 1) + float(self.chance.normal(0.0, 0.5))
        far = abs(self.at) > self.width
        return jm.Outcome(
            {"at": self.at, "age": self.age},
            terms={"near": 1.0 - abs(self.at) / self.width, "pull": 1.0},
            closed_by="adrift" if far else None,
            measures={"farthest": abs(self.at)},
        )


class Lift(jm.Environment):
    """A lift that is asked only at a floor: between floors it goes on, and people gather by chance meanwhile."""

    rush: float = jm.parameter(0.4, low=0.0, high=2.0)
    start: float = jm.parameter(0.5, low=0.0, high=4.0, help="Where it begins.")
    time_limit = 40
    meanwhile = "on"

    class State(jm.State):
        height: float = jm.seen(low=0.0, high=4.0)
        going: int = jm.seen(low=-1, high=1)
        waiting: float = jm.seen(low=0.0, high=60.0)
        gathered: float = jm.flow()

    action = jm.Choice("down", "on", "up")

    def begin(self, draw):
        return self.State(height=self.start, going=1, waiting=0.0)

    def decide_when(self, state):
        return self.xp.abs(state.height - self.xp.round(state.height)) < 0.1

    def advance(self, state, action, draw):
        xp = self.xp
        floor = xp.abs(state.height - xp.round(state.height)) < 0.1
        going = xp.where(floor, action - 1, state.going)
        going = xp.where(
            (state.height <= 0.1) & (going < 0), 0, xp.where((state.height >= 3.9) & (going > 0), 0, going)
        )
        come = xp.floor(draw.uniform() * (1.0 + 2.0 * self.rush)) + 0.0 * draw.normal(shape=3)[0]
        height = xp.clip(state.height + 0.25 * going, 0.0, 4.0)
        top = height > 3.9
        return state.replace(
            height=height, going=going, waiting=xp.where(top, 0.0, state.waiting + come), gathered=come
        )

    @jm.reward
    def patience(self, after):
        return -after.waiting

    @jm.reward(weight=0.5)
    def come(self, after):
        return after.gathered

    @jm.ending
    def crowd(self, after):
        return after.waiting > 20.0

    @jm.measure
    def people(self, after):
        return after.gathered


class Trip(jm.Environment):
    """Sell the catch in the harbour for 2, or sail out in doubtful weather: in the mean more, in one of ten cases a
    loss of 10."""

    deadline = 1

    class State(jm.State):
        done: int = jm.seen(low=0, high=1)
        gain: float = jm.flow()

    action = jm.Choice("harbour", "sail")

    def begin(self, draw):
        return self.State(done=0)

    def advance(self, state, action, draw):
        lot = draw.pick([-10.0, 2.0, 6.0], weights=[1, 4, 5])
        return state.replace(done=1, gain=self.xp.where(action == 1, lot, 2.0))

    @jm.reward
    def earned(self, after):
        return after.gain
