"""Check finds each planted mistake, and passes clean environments."""

import inspect
import json
import re

import numpy as np
import pytest
from places import TRACED, Branching, Corridor, Gates, Lamp

import jokulmist as jm
from jokulmist.errors import SettingError
from jokulmist.gallery import SHIPPED


class OutOfBounds(Corridor):
    class State(jm.State):
        cell: int = jm.seen(low=0, high=3)


class NotFinite(Corridor):
    @jm.reward
    def prize(self, after):
        with np.errstate(divide="ignore"):
            return 1.0 / np.float64(after.cell - 1)


class OwnChance(Corridor):
    def advance(self, state, action, draw):
        return state.replace(cell=int(np.random.default_rng().integers(0, 5)))


class OwnFirstChance(Corridor):
    length: int = jm.parameter(50, low=3, high=50, fixed=True)

    def begin(self, draw):
        return self.State(cell=int(np.random.default_rng().integers(1, 49)))


class NeverOver(jm.Environment):
    class State(jm.State):
        level: float = jm.seen(low=0.0, high=1.0)

    action = jm.Choice(2)

    def begin(self, draw):
        return self.State(level=draw.uniform())

    def advance(self, state, action, draw):
        return state.replace(level=draw.uniform())

    @jm.reward
    def gain(self, after):
        return after.level

    @jm.ending
    def overflow(self, after):
        return after.level > 2.0


class Still(Corridor):
    @jm.sensor(low=0.0, high=10.0)
    def gauge(self, state):
        return 4.0


class NumberForFlag(Corridor):
    @jm.ending
    def right_end(self, after):
        return after.cell // 4


class NanSensor(Corridor):
    @jm.sensor(low=0.0, high=10.0)
    def gauge(self, state):
        return float("nan") if state.cell == 3 else 1.0 * state.cell


class Failing(Corridor):
    def advance(self, state, action, draw):
        return state.replace(cell=[2, 2, 2][state.cell + 1])


class ChangesItself(Corridor):
    visited = []

    def advance(self, state, action, draw):
        self.visited.append(state.cell)
        return super().advance(state, action, draw)


class Dwarfed(Corridor):
    @jm.reward(weight=5000.0)
    def effort(self, before, action, after):
        return 1.0


class Twins(Corridor):
    @jm.sensor(low=-40.0, high=40.0)
    def gauge(self, state):
        return 10.0 - 2.0 * state.cell


class LeftOver(Corridor):
    class State(jm.State):
        cell: int = jm.seen(low=0, values="length")
        mood: float = jm.field()

    def begin(self, draw):
        return self.State(cell=2, mood=0.5)


class AtOnce(Corridor):
    @jm.ending
    def right_end(self, after):
        return after.cell >= 0


class Soon(NeverOver):
    """Two steps, whatever is done."""

    class State(jm.State):
        level: float = jm.seen(low=0.0, high=1.0)

    def begin(self, draw):
        return self.State(level=0.4)

    def advance(self, state, action, draw):
        return state.replace(level=state.level + 0.2 + 0.1 * action)

    @jm.ending
    def shore(self, after):
        return after.level > 0.75


class WideBounds(Corridor):
    @jm.sensor(low=0.0, high=1e6)
    def gauge(self, state):
        return 1.0 * state.cell**2


class UnseenDeadline(Corridor):
    deadline = 15


class SeenDeadline(Corridor):
    deadline = 15

    class State(jm.State):
        cell: int = jm.seen(low=0, values="length")
        turn: int = jm.seen(low=0, high=15)

    def begin(self, draw):
        return self.State(cell=2, turn=0)

    def advance(self, state, action, draw):
        return super().advance(state, action, draw).replace(turn=state.turn + 1)


class FlowFromBefore(Corridor):
    class State(jm.State):
        cell: int = jm.seen(low=0, values="length")
        moved: float = jm.flow()

    def advance(self, state, action, draw):
        return super().advance(state, action, draw).replace(moved=1.0)

    @jm.reward
    def effort(self, before):
        return before.moved


class UnreadAction(Corridor):
    action = jm.Actions(step=jm.Choice("left", "right"), speed=jm.Range(0.0, 2.0))
    go_right = None

    def advance(self, state, action, draw):
        return super().advance(state, action.step, draw)


class OverFromTheFirst(Corridor):
    @jm.ending
    def left_end(self, after):
        return after.cell <= 2


class Overshooting(jm.Environment):
    """Leaves its bounds by a tenth in the step that ends an episode."""

    class State(jm.State):
        level: float = jm.seen(low=0.0, high=10.0)

    action = jm.Choice("down", "up")

    def begin(self, draw):
        return self.State(level=draw.uniform(4.0, 6.0))

    def advance(self, state, action, draw):
        return state.replace(level=state.level + 0.9 * (2 * action - 1))

    @jm.reward
    def comfort(self, after):
        return -abs(after.level - 5.0)

    @jm.ending
    def over(self, after):
        return (after.level < 0.0) | (after.level > 10.0)


class PaidOn(Overshooting):
    """A landing that is paid at every step, because nobody wrote that it ends the episode."""

    time_limit = 100
    over = None

    def advance(self, state, action, draw):
        level = self.xp.clip(state.level + 0.9 * (2 * action - 1), 0.0, 10.0)
        return state.replace(level=self.xp.where(state.level > 8.0, state.level, level))

    @jm.reward(weight=1000.0)
    def landed(self, after):
        return 1.0 * (after.level > 8.0)


PLANTED = {
    "bounds that are left a little": (Overshooting, "warning", "outside its bounds 0 to 10", "advance"),
    "an ending forgotten": (
        PaidOn,
        "warning",
        "`landed` became 1 and stayed so to the end of",
        "landed (test_check.py:",
    ),
    "self changed": (ChangesItself, "error", "`self.visited` was changed while", "advance (test_check.py:"),
    "a scale that dwarfs": (Dwarfed, "warning", "reward term `effort` brings 5000 a step", "effort (test_check.py:"),
    "two sensors that are copies": (Twins, "warning", "`cell` and `gauge` tell the same", "gauge (test_check.py:"),
    "a field nobody reads": (
        LeftOver,
        "warning",
        "the field `mood` of the state is read by nothing",
        "State (test_check",
    ),
    "an end at the first step": (
        AtOnce,
        "error",
        "`right_end` closed 400 of 400 episodes at their first",
        "right_end (t",
    ),
    "an end in a step or two": (Soon, "warning", "`shore` closed every one of", "shore (test_check.py:"),
    "bounds far too wide": (WideBounds, "warning", "declared from 0 to 1e+06: 0.0% of it", "gauge (test_check.py:"),
    "a deadline unseen": (UnseenDeadline, "warning", "the `deadline` after 15 advances is a true end", "advance"),
    "a flow read from before": (
        FlowFromBefore,
        "error",
        "`effort` reads the flow `moved` from `before`",
        "effort (test",
    ),
    "an action nobody reads": (
        UnreadAction,
        "error",
        "the part `speed` of the action changes nothing",
        "advance (test",
    ),
    "an end in the first state": (
        OverFromTheFirst,
        "warning",
        "`left_end` already holds in 20 of 20",
        "left_end (test",
    ),
    "bounds": (OutOfBounds, "error", "outside its bounds 0 to 3", "advance"),
    "a reward that is not finite": (NotFinite, "error", "reward term `prize` was inf", "prize (test_check.py:"),
    "chance from elsewhere": (OwnChance, "error", "`advance` gave `cell` two values", "advance (test_check.py:"),
    "chance in begin": (OwnFirstChance, "error", "`begin` gave `cell` two values", "begin (test_check.py:"),
    "no ending reachable": (NeverOver, "error", "no episode closed in 20,000 steps", "advance"),
    "a sensor that never moves": (Still, "warning", "channel `gauge` was 4 in every one", "gauge (test_check.py:"),
    "a number for a flag": (NumberForFlag, "error", "`right_end` gave 0 (int)", "right_end (test_check.py:"),
    "a sensor that is no number": (NanSensor, "error", "channel `gauge` was [nan]", "gauge (test_check.py:"),
    "code that fails": (Failing, "error", "`Failing.advance` (test_check.py:", ""),
}


@pytest.mark.parametrize("mistake", PLANTED)
def test_a_planted_mistake_is_found_with_place_reason_and_mend(mistake):
    cls, level, subject, place = PLANTED[mistake]
    report = jm.check(cls(), steps=400, speed=False)
    finding = next(f for f in report.findings if subject in f.problem)
    assert finding.level == level
    assert place in finding.place
    assert finding.why
    assert finding.fix
    assert report.ok == (level == "warning")
    text = " ".join(str(report).split())
    assert finding.fix in text
    assert level in text
    json.dumps(report.as_json())


def test_what_is_right_is_not_found():
    """The clean twins of planted mistakes."""
    for cls in (Corridor, SeenDeadline):
        assert jm.check(cls(), steps=400, speed=False).findings == []


@pytest.mark.slow
@pytest.mark.parametrize(
    "cls", [*TRACED, *(getattr(jm.gallery, c) for _, c in SHIPPED.values())], ids=lambda c: c.__name__
)
def test_a_clean_environment_passes(cls):
    report = jm.check(cls(), steps=600, speed=False)
    assert [f for f in report.findings if f.level == "error"] == []
    assert report.compiles
    assert sum(report.closed_by.values()) > 0
    assert "random" in report.levels


@pytest.mark.slow
def test_the_report_tells_ranges_levels_and_why_it_does_not_compile():
    report = jm.check(Branching(), steps=500, speed=True)
    assert not report.compiles
    assert "branches on a value" in report.why_plain
    assert (report.channels[0].least, report.channels[0].most) == (0.0, 4.0)
    assert report.terms[1].mean > 0.0
    assert set(report.speeds) == {"plain, 1 copy"}
    assert set(report.closed_by) == {"left_end", "right_end"}
    text = str(report)
    assert "reference go_right" in text
    assert "compiles             no" in text
    fast = jm.check(Lamp(), steps=200).speeds
    assert set(fast) == {"plain, 1 copy", "compiled, 1 copy", "compiled, 64 copies"}
    assert fast["compiled, 64 copies"] > fast["plain, 1 copy"]


def test_check_refuses_what_is_no_environment():
    with pytest.raises(SettingError, match="takes an environment"):
        jm.check(Corridor)
    with pytest.raises(SettingError, match="at least 10"):
        jm.check(Corridor(), steps=3)


def test_a_trace_tells_each_step():
    env = jm.gallery.Ferry().modified(jm.modifiers.ObservationDelay("speed", 1))
    frame = jm.tabulate_steps(env, 200, policy="brake_in_time", seed=3)
    assert len(frame) == 200
    first = frame[frame["episode"] == 0]
    episode = jm.gallery.Ferry().episode(seed=3)
    for _, row in first.iterrows():
        episode.act(row["action"])
        assert row["position"] == pytest.approx(episode.state.position)
        assert row["current"] == pytest.approx(episode.observation.current)
        assert sum(row[list(episode.terms)]) == pytest.approx(row["reward"])
    assert first.iloc[-1]["held"] == "moored" == episode.closed_by
    assert first["seen:speed"].iloc[5] == pytest.approx(first["speed"].iloc[4], rel=1e-5)
    legal = jm.tabulate_steps(Gates(), 40)
    assert legal["broken"].max() == 0.0
    with pytest.raises(jm.JokulmistError, match="has no reference `brake`; there are `random`, `brake_in_time`"):
        jm.tabulate_steps(env, 2, policy="brake")


class Skiffs(jm.Environment):
    """Two skiffs row along a shore, and each sees where both are."""

    players = ("near", "far")
    time_limit = 12

    class State(jm.State):
        at: float = jm.field(shape=(2,))
        caught: float = jm.flow(shape=(2,))

    action = jm.Choice("back", "forth")

    def begin(self, draw):
        return self.State(at=draw.uniform(-1.0, 1.0, shape=(2,)))

    def advance(self, state, actions, draw):
        return self.rowed(state, actions, draw)

    def rowed(self, state, actions, draw):
        moved = self.xp.asarray([2.0 * action - 1.0 for action in actions])
        position = self.xp.clip(state.at + 0.1 * moved + draw.normal(0.0, 0.05, shape=(2,)), -3.0, 3.0)
        return state.replace(at=position, caught=position > 0.0)

    @jm.sensor(low=-3.0, high=3.0)
    def mine(self, state, player):
        return state.at[player]

    @jm.sensor(low=-3.0, high=3.0)
    def partner(self, state, player):
        return state.at[1 - player]

    @jm.reward
    def catch(self, after, player):
        return after.caught[player]


def looked_at(**changes):
    return jm.check(type("Changed", (Skiffs,), {"__module__": __name__, **changes})(), steps=600, speed=False).findings


@pytest.mark.parametrize(
    ("changes", "expected"),
    [
        ({}, []),
        (
            {"mine": jm.sensor(low=-3.0, high=3.0)(lambda self, state, player: state.at[0])},
            ["`mine` takes `player`, and showed all players the same in every one"],
        ),
        (
            {"partner": jm.sensor(low=-6.0, high=6.0)(lambda self, state, player: state.at[1] - state.at[player])},
            ["`partner` shows `near`"],
        ),
        (
            {"catch": jm.reward(lambda self, after, player: after.caught[0] * (player == 0))},
            ["`catch` pays `near`"],
        ),
        (
            {"catch": jm.reward(lambda self, after, player: after.at.sum() * (player == 0))},
            ["`catch` pays `near`"],
        ),
        (
            {"advance": lambda self, state, actions, draw: self.rowed(state, [actions.near, 0], draw)},
            ["the part `far` of the action changes nothing"],
        ),
    ],
)
def test_check_finds_what_goes_wrong_between_players(changes, expected):
    result = [f.problem for f in looked_at(**changes)]
    assert bool(result) == bool(expected), result
    for start in expected:
        assert any(subject.startswith(start) for subject in result), result


def test_a_term_that_one_place_alone_earns_is_told_of_a_simulator_too():
    class Told(jm.Simulator):
        players = ("near", "far")
        observation = {"wind": jm.channel(low=-1.0, high=1.0)}
        action = jm.Choice("back", "forth")
        terms = {"near": {"cost": -1.0}, "far": {"cost": -1.0}}
        time_limit = 5

        def begin(self, seed):
            return {"wind": (seed % 3) - 1.0}

        def advance(self, actions):
            return jm.Outcome({"wind": 1.0 - actions.far}, terms={"near": {"cost": float(actions.near)}})

    found = [finding.problem for finding in jm.check(Told(), steps=100).findings]
    assert "reward term `cost` was earned by `near`, and stayed 0 for `far` in all of 100 steps." in found


class Beam(jm.Environment):
    """A beam with the mistakes that the report must not pass over."""

    time_limit = 30

    class State(jm.State):
        angle: float = jm.seen(low=-3.2, high=3.2)
        low: bool

    action = jm.Choice("left", "right")

    def begin(self, draw):
        return self.State(angle=draw.uniform(-3.0, 3.0), low=False)

    def advance(self, state, action, draw):
        angle = self.xp.clip(state.angle + 0.1 * (2 * action - 1), -3.1, 3.1)
        return state.replace(angle=angle, low=angle < 0.0)

    @jm.reward(weight=-1.0)
    def cost(self, after):
        return -(after.angle**2)

    @jm.reward
    def high(self, after):
        return 0.001 * ~after.low

    @jm.ending
    def fell(self, after):
        return after.angle > 4.0

    @jm.reference
    def rule(self, state):
        return 1 * (state.angle < 0.0)


class Inverted(Beam):
    @jm.reward
    def high(self, after):
        return 1.0 * ~(after.angle < 0.0)


class Breaks(Beam):
    @jm.ending
    def fell(self, after):
        if abs(after.angle) > 2.0:
            raise ValueError("too far")
        return False


def test_unmet_endings_doubled_minus_useless_references_and_dwarfed_terms_are_told():
    report = jm.check(Beam(), speed=False)
    output = {finding.place.split(" ")[0]: finding for finding in report.findings}
    assert "`fell` held in none of 3,000 steps" in output["fell"].problem
    assert "nor in the episodes of the references" in output["fell"].problem
    assert "it is no better" in output["rule"].problem
    both = [finding for finding in report.findings if finding.place.startswith("cost")]
    assert "its weight is -1: together it rewards" in both[0].problem
    assert "raise their weights, e.g. `weights={'high':" in both[1].fix
    assert report.ok  # flags of a state are NumPy's: `~` means not, in both lanes
    assert report.compiles


def test_lanes_that_differ_are_wrong_with_the_line():
    report = jm.check(Inverted(), speed=False)
    (finding,) = [finding for finding in report.findings if finding.level == "error"]
    assert "differs when compiled: reward term `high` is" in finding.problem
    line = inspect.getsourcelines(Inverted.__dict__["high"].function)[1] + 2
    assert f"Line {line} has `~`" in finding.fix


def test_after_an_exception_means_are_means_and_no_line_is_spoken_of_that_is_not_named():
    report = jm.check(Breaks(), speed=False)
    (cost,) = [reach for reach in report.terms if reach.name == "cost"]
    assert cost.least <= cost.mean <= cost.most
    (finding,) = [finding for finding in report.findings if finding.level == "error"]
    assert ("Fix the line" in finding.fix) == bool(re.search(r"\.py:\d+", finding.problem))
