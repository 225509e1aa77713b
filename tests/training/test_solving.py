"""Exact solutions against dynamic programs written by hand, against brute force, and where they are shown."""

import itertools

import numpy as np
import pytest
from commands import jokulmist
from games import Sticks, Table
from optimum import solve_tarn
from places import Corridor

import jokulmist as jm
from jokulmist.errors import LookupFailed, SettingError
from jokulmist.judging.solving import transitions
from jokulmist.judging.solving.batches import Batches, Unequal
from jokulmist.judging.solving.counting import binomial_probabilities, outcomes, poisson_probabilities


class Ice(jm.Environment):
    """Cross ten floes that may break: a step ahead is surer than a leap, and on the shore waits a reward; nothing
    counts the time."""

    leaps: float = jm.parameter(0.5, low=0.0, high=1.0)

    class State(jm.State):
        floe: int = jm.seen(low=0, high=10)
        wet: bool

    action = jm.Choice("wait", "step", "leap")

    def begin(self, draw):
        return self.State(floe=draw.integers(0, 3), wet=False)

    def advance(self, state, action, draw):
        xp = self.xp
        breaks = draw.bernoulli(xp.where(action == 2, self.leaps, xp.where(action == 1, 0.1, 0.0)))
        return state.replace(floe=xp.where(breaks, state.floe, xp.minimum(state.floe + action, 10)), wet=breaks)

    @jm.reward
    def shore(self, after):
        return self.xp.where(after.floe == 10, 10.0, -0.5)

    @jm.reward(weight=-2.0)
    def cold(self, after):
        return self.xp.where(after.wet, 1.0, 0.0)

    @jm.ending
    def ashore(self, after):
        return after.floe == 10


class Shed(jm.Environment):
    """Order crates for a shed every morning; visitors take a binomial number of them. Two choices, one of which may be
    forbidden."""

    time_limit = 4

    class State(jm.State):
        crates: int = jm.seen(low=0, high=6)

    action = jm.Actions(order=jm.Choice("none", "two"), lamp=jm.Choice("off", "on"))

    def begin(self, draw):
        return self.State(crates=draw.pick([0, 3], weights=[1, 3]))

    def legal(self, state):
        return {"order": self.xp.asarray([True, state.crates <= 4])}

    def advance(self, state, action, draw):
        xp = self.xp
        stock = state.crates + 2 * action.order
        chosen = xp.minimum(draw.binomial(3, xp.where(action.lamp == 1, 0.8, 0.4)), stock)
        return state.replace(crates=stock - chosen)

    @jm.reward
    def sold(self, before, action, after):
        return (
            2.0 * (before.crates + 2 * action.order - after.crates)
            - 1.5 * action.order
            - 0.5 * action.lamp
            - 0.25 * after.crates
        )


def ice_by_hand(discount, leaps=0.5):
    """Value iteration over the floes, written down for this class alone."""
    value = np.zeros(11)
    for _ in range(20_000):
        old = value.copy()
        for floe in range(10):
            worth = []
            for action, breaks in ((0, 0.0), (1, 0.1), (2, leaps)):
                successors = min(floe + action, 10)
                gain = 10.0 if successors == 10 else -0.5
                worth.append(
                    (1 - breaks) * (gain + discount * value[successors]) + breaks * (-2.5 + discount * value[floe])
                )
            value[floe] = max(worth)
        if np.abs(value - old).max() < 1e-13:
            break
    return value[:3].mean()


def shed_by_hand():
    """Backwards over four mornings."""
    value = np.zeros(9)
    for _ in range(4):
        new = np.zeros(9)
        for crates in range(7):
            best = -np.inf
            for order, lamp in itertools.product((0, 1), (0, 1)):
                if order and crates > 4:
                    continue
                stock, p, worth = crates + 2 * order, 0.8 if lamp else 0.4, -1.5 * order - 0.5 * lamp
                for k, chance in enumerate(((1 - p) ** 3, 3 * p * (1 - p) ** 2, 3 * p * p * (1 - p), p**3)):
                    left = stock - min(k, stock)
                    worth += chance * (2.0 * (stock - left) - 0.25 * left + value[left])
                best = max(best, worth)
            new[crates] = best
        value = new
    return 0.25 * value[0] + 0.75 * value[3]


def test_the_best_is_that_of_dynamic_programs_by_hand():
    tarn = jm.gallery.WholeTarn(hours=36)
    assert jm.solve(tarn).value == pytest.approx(solve_tarn(tarn)[0], abs=1e-6)
    assert jm.solve(jm.gallery.WholeTarn(hours=24), discount=0.9).value == pytest.approx(
        solve_tarn(jm.gallery.WholeTarn(hours=24), 0.9)[0], abs=1e-6
    )
    for discount, leaps in ((1.0, 0.5), (0.9, 0.5), (1.0, 0.05)):
        assert jm.solve(Ice(leaps=leaps), discount=discount).value == pytest.approx(
            ice_by_hand(discount, leaps), abs=1e-7
        )
    result = jm.solve(Shed())
    assert result.value == pytest.approx(shed_by_hand(), abs=1e-9)
    assert (result.horizon, result.states) == (4, 7)
    assert jm.solve(Corridor(), limit=False, discount=0.9).value > 0.0


def test_outcomes_have_the_chances_of_what_is_drawn():
    def two(draw):
        first = draw.poisson(0.7)
        return first, draw.bernoulli(0.25, shape=2).tolist() if first else tuple(draw.permutation(3))

    result = list(outcomes(two))
    assert sum(chance for _, chance in result) == pytest.approx(1.0, abs=1e-8)
    assert sum(chance for (first, _), chance in result if first == 0) == pytest.approx(np.exp(-0.7))
    assert sum(chance for (first, both), chance in result if first and both == [True, True]) == pytest.approx(
        (1 - np.exp(-0.7)) / 16, abs=1e-8
    )
    assert sum(k * c for k, c in enumerate(poisson_probabilities(30.0))) == pytest.approx(30.0, abs=1e-5)
    assert sum(k * c for k, c in enumerate(binomial_probabilities(9, 0.3))) == pytest.approx(2.7)


class Chancy(jm.Environment):
    """Every kind of draw that can be counted; with `pieces`, as many as were drawn before: that is gone through one
    outcome at a time."""

    pieces: bool = jm.parameter(False, fixed=True)
    time_limit = 6

    class State(jm.State):
        left: int = jm.seen(low=0, high=60)
        row: np.ndarray = jm.field(shape=2, dtype="int32")

    action = jm.Choice("few", "many")

    def begin(self, draw):
        return self.State(left=3, row=np.zeros(2, int))

    def advance(self, state, action, draw):
        xp = self.xp
        subset = draw.poisson(0.5 + 0.5 * action) + draw.binomial(2, 0.25) + draw.pick([0, 2, 5], weights=[1, 0, 3])
        row = draw.permutation(2) * draw.bernoulli(xp.where(action == 1, 1.0, 0.5), shape=2)
        if self.pieces:
            subset = subset + draw.integers(0, xp.maximum(row[0], 1))
        return state.replace(
            left=xp.minimum(state.left + xp.minimum(subset, 8), 60) // 2, row=xp.asarray(row, xp.int32)
        )

    @jm.reward
    def much(self, before, action, after):
        return 0.1 * after.left - 0.3 * after.row[1] + before.left * action


@pytest.mark.slow
@pytest.mark.parametrize(
    ("environment", "horizon"),
    [
        (jm.gallery.WholeTarn(hours=24), 24),
        (Ice(), None),
        (Shed(), 4),
        (Sticks(), None),
        (Chancy(), 6),
        (Chancy(pieces=True), 3),
    ],
    ids=["tarn", "ice", "shed", "sticks", "chancy", "pieces"],
)
def test_many_outcomes_at_once_are_what_they_are_one_at_a_time(environment, horizon, monkeypatch):
    gone = []
    monkeypatch.setattr(
        Batches, "outcomes", lambda self, *given, plain=Batches.outcomes: gone.append(1) or plain(self, *given)
    )
    result = []
    for worth in (0, 10**9):
        monkeypatch.setattr(transitions, "WORTH_TRACING", worth)
        result.append(transitions.transitions_of(environment, 100_000, horizon))
    traced, plain = result
    assert gone
    assert [transitions.key_of(s) for s in traced.states] == [transitions.key_of(s) for s in plain.states]
    assert (traced.action == plain.action).all()
    assert (traced.mover == plain.mover).all()
    np.testing.assert_allclose(traced.reward, plain.reward, rtol=1e-9, atol=1e-12)
    assert abs(traced.successors - plain.successors).max() < 1e-12


def test_where_batches_end_early_no_state_is_met_twice(monkeypatch):
    plain = transitions.transitions_of(jm.gallery.WholeTarn(hours=24), 100_000, 24)
    calls = []

    def some(self, *given, of=Batches.outcomes):
        calls.append(1)
        if len(calls) > 6:
            raise Unequal
        return of(self, *given)

    monkeypatch.setattr(Batches, "outcomes", some)
    monkeypatch.setattr(transitions, "WORTH_TRACING", 0)
    monkeypatch.setattr(transitions, "MOST_AT_ONCE", 200)  # a part of the states that are met after so many decisions
    mixed = transitions.transitions_of(jm.gallery.WholeTarn(hours=24), 100_000, 24)
    assert len(calls) == 7
    assert [transitions.key_of(s) for s in mixed.states] == [transitions.key_of(s) for s in plain.states]
    assert abs(mixed.successors - plain.successors).max() < 1e-12


def test_a_game_in_turns_is_solved_for_each_player():
    """The winning rule of the sticks: leave a multiple of four."""
    result = jm.solve(Sticks())
    wins = np.mean([1.0 if left % 4 else -1.0 for left in range(5, 13)])
    assert result.of_players == pytest.approx({"first": wins, "second": -wins})
    winning = result.table[result.table["left"] % 4 != 0]
    assert ({"one": 1, "two": 2, "three": 3}[a] for a in winning["action"])
    assert all(
        {"one": 1, "two": 2, "three": 3}[a] == left % 4
        for a, left in zip(winning["action"], winning["left"], strict=True)
    )


def test_the_optimum_is_shown_wherever_policies_are_measured(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    tarn = jm.gallery.WholeTarn(hours=24, melt=1.25)
    with pytest.raises(LookupFailed, match="was not solved yet"):
        jm.evaluate("optimum", tarn, episodes=2)
    run = jm.train(tarn, jm.QLearning(), steps=2_000, seed=1, folder=tmp_path, lane="plain")
    output = jokulmist(
        "check",
        "tarn-whole",
        "--solve",
        "--set",
        "environment.hours=24",
        "--set",
        "environment.melt=1.25",
        "--to",
        str(tmp_path / "best.csv"),
    )
    result = jm.solve(tarn)
    assert f"the best policy returns {result.value:.6g}" in output.stdout
    assert len((tmp_path / "best.csv").read_text().splitlines()) == len(result.table) + 1
    references = jm.evaluate_references(tarn, episodes=40)
    assert references["optimum"].exact == result.value
    assert references["optimum"].mean == pytest.approx(result.value, abs=4 * references["optimum"].sd / 40**0.5)
    same = jm.evaluate(result.policy, tarn, episodes=40)
    assert same.returns.tolist() == references["optimum"].returns.tolist()
    displayed = jokulmist("evaluate", str(run.path), "--episodes", "20").stdout
    assert f"solved exactly: {result.value:.6g}" in displayed
    axes = jm.plot(run, levels=references)
    assert any(line.get_label().startswith("optimum, ") for line in axes.lines)
    assert "optimum" not in jm.evaluate_references(jm.gallery.WholeTarn(hours=24, melt=1.3), episodes=2)


def test_what_cannot_be_solved_says_the_line_and_the_mend():
    class Gust(Corridor):
        def advance(self, state, action, draw):
            return super().advance(state, action + 0 * int(draw.normal() > 9.0), draw)

    for make, expected in (
        (lambda: jm.solve(jm.gallery.Tarn()), r"`draw.uniform` \(tarn.py:\d+\) cannot be counted.*draw.bernoulli"),
        (lambda: jm.solve(Gust()), r"`draw.normal` \(test_solving.py:\d+\) cannot be counted.*draw.pick"),
        (lambda: jm.solve(Table()), "several players decide at once"),
        (lambda: jm.solve(jm.gallery.Winch()), "chooses among alternatives"),
        (lambda: jm.solve(jm.gallery.WholeTarn(), most_states=100), "more than 100 states"),
        (lambda: jm.solve(Corridor().modified(jm.modifiers.StickyAction(0.2))), "without modifiers of its actions"),
        (lambda: jm.solve(jm.gallery.WholeTarn(), discount=1.5), r"must lie in \[0, 1\]"),
        (lambda: jm.solve("tarn"), "takes an environment"),
    ):
        with pytest.raises(SettingError, match=expected):
            make()
