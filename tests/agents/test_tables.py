"""The tables' updates against numbers worked by hand, and their levels against dynamic programming."""

import jax
import jax.numpy as jnp
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from optimum import solve_tarn
from places import Corridor, seen

import jokulmist as jm
from jokulmist.agents.configs import Hyperparameters
from jokulmist.agents.contract import Experience
from jokulmist.agents.tables.cells import SCALARS, array_ops
from jokulmist.agents.tables.greedy import action_probabilities, draw_index, expectation
from jokulmist.agents.tables.table import Carried, Table
from jokulmist.environments.chance.draws import CountingDraw, RowDraw
from jokulmist.environments.declaration.instance import describe
from jokulmist.errors import SettingError
from jokulmist.loops.compiled import CompiledLoop
from jokulmist.loops.contract import Planned
from jokulmist.loops.plain import PlainLoop

NUMBERS = Hyperparameters(learning_rate=0.5, discount=0.9, exploration=0.2, initial_value=0.0)
TABLE = np.array([[0.0, 0.0], [1.0, 2.0], [3.0, 5.0], [-1.0, 4.0], [7.0, 7.0]], np.float32)


class Fixed:
    """A draw whose uniform numbers are given."""

    def __init__(self, *values):
        self.values = values

    def uniform(self, shape=()):
        return jnp.asarray(self.values, jnp.float32) if shape else self.values[0]

    def settle(self, value):
        return value

    def for_step(self, turn, copy):
        return self


def updated(agent, observed, actions, rewards, ended, closed, last, noise=(0.0,), plain=False):
    """The table after one update from `TABLE`, on either lane."""
    copies = len(observed)
    config = agent.config(describe(Corridor()).spec, copies)
    rows, after = np.array(observed, np.float32)[:, None], np.array(last, np.float32)[:, None]
    if plain:
        learner = Table(TABLE.copy())
        scalar = agent.scalar(config, NUMBERS, learner, Fixed(*noise), Fixed(*noise))
        for i in range(copies):
            scalar.see(i, rows[i])
        scalar.turn(0)
        for i in range(copies):
            scalar.decide(i)
            scalar._actions[i] = actions[i]  # the case fixes the actions
            scalar.judge(i, rewards[i], ended[i], closed[i], after[i])
        return learner.values, scalar.write()
    item = Experience(
        *jax.tree.map(
            lambda v: jnp.asarray(v)[None],
            (
                seen(rows),
                np.array(actions),
                np.array(rewards, np.float32),
                np.array(ended),
                np.array(closed),
                seen(after),
                seen(after),
            ),
        ),
        (),
    )
    learner = Table(jnp.asarray(TABLE))
    memory = Carried(jnp.full(copies, -1))
    learner, _, readings = type(agent).learn(config, NUMBERS, learner, memory, item, Fixed(*noise))
    return np.asarray(learner.values), readings


def expected(*changes):
    table = TABLE.copy()
    for cell, action, value in changes:
        table[cell, action] = value
    return table


BEST = 3.0 + 0.9 * 5.0  # from cell 1 to cell 2 with reward 3
MEAN = 0.1 * 3.0 + 0.9 * 5.0  # exploration 0.2 over two actions: 0.1 for the worse, 0.9 for the better
CASES = {
    "QLearning": (jm.QLearning, 0.0, BEST, BEST),
    "ExpectedSarsa": (jm.ExpectedSarsa, 0.0, 3.0 + 0.9 * MEAN, 3.0 + 0.9 * MEAN),
    "Sarsa, the worse action comes next": (jm.Sarsa, 0.05, 3.0 + 0.9 * 3.0, 3.0 + 0.9 * MEAN),
    "Sarsa, the better action comes next": (jm.Sarsa, 0.5, 3.0 + 0.9 * 5.0, 3.0 + 0.9 * MEAN),
}


@pytest.mark.parametrize("plain", [True, False], ids=["plain", "traced"])
@pytest.mark.parametrize("case", CASES)
def test_one_update_by_hand_with_an_end_and_a_cut(case, plain):
    kind, u, target, cut_target = CASES[case]
    step = [1.0], [0], [3.0]

    def after(ended, closed):
        return updated(kind(), *step, [ended], [closed], [2.0], noise=(u,), plain=plain)[0]

    np.testing.assert_allclose(after(False, False), expected((1, 0, 1.0 + 0.5 * (target - 1.0))), rtol=1e-6)
    # A cut bootstraps from the true last observation; Sarsa takes no next action there, so the expectation is in.
    np.testing.assert_allclose(after(False, True), expected((1, 0, 1.0 + 0.5 * (cut_target - 1.0))), rtol=1e-6)
    np.testing.assert_allclose(after(True, True), expected((1, 0, 1.0 + 0.5 * (3.0 - 1.0))), rtol=1e-6)


@pytest.mark.slow
@pytest.mark.parametrize("plain", [True, False], ids=["plain", "traced"])
def test_where_copies_meet_the_mean_of_their_errors_is_applied(plain):
    table, readings = updated(
        jm.QLearning(),
        [1.0, 1.0, 3.0],
        [0, 0, 1],
        [3.0, 1.0, 2.0],
        [True, True, False],
        [True, True, False],
        [2.0, 2.0, 2.0],
        noise=(0.0, 0.0, 0.0),
        plain=plain,
    )
    errors = [2.0, 0.0, 2.0 + 0.9 * 5.0 - 4.0]
    np.testing.assert_allclose(table, expected((1, 0, 1.0 + 0.5 * 1.0), (3, 1, 4.0 + 0.5 * errors[2])), rtol=1e-6)
    assert float(readings[0]) == pytest.approx(np.mean(np.abs(errors)), rel=1e-6)


@settings(max_examples=80)
@given(st.lists(st.integers(-3, 3), min_size=1, max_size=6), st.floats(0.0, 1.0), st.floats(0.0, 0.999999))
def test_chances_add_to_one_share_ties_and_are_the_same_traced(row, exploration, u):
    row = [float(value) for value in row]
    result = action_probabilities(row, exploration, SCALARS)
    best = [value == max(row) for value in row]
    assert sum(result) == pytest.approx(1.0)
    for chance, is_best in zip(result, best, strict=True):
        assert chance == pytest.approx(exploration / len(row) + (1 - exploration) / sum(best) * is_best)
    action = draw_index(result, u)
    assert sum(result[:action]) <= u + 1e-9
    assert u < sum(result[: action + 1]) + 1e-9
    traced = action_probabilities([jnp.asarray([value]) for value in row], exploration, array_ops())
    np.testing.assert_allclose(np.ravel(traced), result, atol=1e-6)
    assert expectation(row, result) == pytest.approx(np.dot(row, result), abs=1e-6)


@pytest.mark.parametrize("copies", [1, 4])
@pytest.mark.parametrize("kind", [jm.QLearning, jm.Sarsa, jm.ExpectedSarsa], ids=lambda kind: kind.__name__)
def test_both_lanes_learn_the_same_table(kind, copies):
    """On whole numbers no rounding tips a cell, so that the lanes go the same way until a tie is rounded apart."""

    class Short(Corridor):
        time_limit = 3  # some episodes end, and some are cut

    agent = kind(learning_rate=0.25, exploration=jm.linear(1.0, 0.3, over=0.5), discount=0.5)
    loops = [k(Short(slip=0.25), agent, 5, copies, Planned(steps=400)) for k in (PlainLoop, CompiledLoop)]
    batches = [loop.advance(400 // copies) for loop in loops]
    assert batches[0].steps.tolist() == batches[1].steps.tolist()
    np.testing.assert_allclose(loops[0].learner().values, loops[1].learner().values, atol=1e-5)
    readings = [loop.readings() for loop in loops]
    assert readings[0] == pytest.approx(readings[1], rel=1e-3)


@pytest.mark.parametrize("copies", [1, 2])
def test_a_single_alternative_is_a_choice_too(copies):
    class Forward(Corridor):
        action = jm.Choice(1)

        def advance(self, state, action, draw):
            return super().advance(state, action + 1, draw)

    for lane in ("plain", "compiled"):
        run = jm.train(Forward(), jm.Sarsa(), steps=40, copies=copies, lane=lane, folder=None)
        assert set(run.episodes["closed_by"]) == {"right_end"}


class Lock(jm.Environment):
    """Water is let in by one gate and out by another; some states allow less."""

    time_limit = 12

    class State(jm.State):
        level: int = jm.seen(low=0, high=4)

    action = jm.Actions(upper=jm.Choice("shut", "open"), lower=jm.Choice("shut", "ajar", "open"))

    def begin(self, draw):
        return self.State(level=draw.integers(0, 5))

    def legal(self, state):
        yes = self.xp.asarray(True)
        return {"lower": self.xp.stack([yes, yes, self.xp.asarray(state.level > 1)])}

    def advance(self, state, action, draw):
        return state.replace(level=self.xp.clip(state.level + action.upper - action.lower, 0, 4))

    @jm.reward
    def even(self, after):
        return self.xp.where(after.level == 3, 1.0, 0.0)

    @jm.reward(weight=-0.05)
    def work(self, action):
        return 1.0 * action.upper + action.lower


@pytest.mark.parametrize(
    "agent",
    [jm.QLearning(), jm.ExpectedSarsa(), jm.DoubleQLearning(), jm.QLearning(planning=2), jm.QLearning(trace_decay=0.8)],
    ids=repr,
)
def test_several_choices_are_columns_of_one_table(agent, tmp_path):
    """As good as dynamic programming but for rare cells; what is not allowed is left out."""
    run = jm.train(Lock(), agent, steps=3_000, copies=1, lane="compiled", folder=None)
    jm.solve(Lock())
    best, learned = (jm.evaluate(policy, Lock(), episodes=20).returns for policy in ("optimum", run.policy))
    assert learned.mean() > best.mean() - 0.1
    assert (learned == best).mean() > 0.7
    values = run.policy.values({"level": 1})
    assert list(values) == list(run.policy.table.columns)
    assert list(values)[-1] == "upper=open lower=open"
    chosen = run.policy.choose({"level": 1}, legal={"lower": ["shut", "ajar"]})
    assert (chosen.upper, chosen.lower) == (1, 0)


def test_too_many_combinations_are_refused():
    class Weirs(Lock):
        action = jm.Actions(upper=jm.Choice(9), lower=jm.Choice(9))

        def legal(self, state):
            return {}

    with pytest.raises(SettingError, match="each combination of choices, and there are 81; at most 64 are allowed"):
        jm.train(Weirs(), jm.QLearning(), steps=100, folder=None)


def test_sarsa_takes_the_action_that_it_learned_from():
    """The pending action is what choose gives, and a new episode draws again."""
    config = jm.Sarsa().config(describe(Corridor()).spec, 3)
    learner, observed = Table(jnp.asarray(TABLE)), seen([[1.0], [2.0], [3.0]])
    noise = Fixed(0.99, 0.99, 0.99)
    pending = Carried(jnp.asarray([0, -1, 0]))
    actions, _, _ = jm.Sarsa.choose(config, NUMBERS, learner, pending, observed, noise, True)
    assert actions.tolist() == [0, 1, 0]
    greedy, _, _ = jm.Sarsa.choose(config, NUMBERS, learner, pending, observed, noise, False)
    assert greedy.tolist() == [1, 1, 1]


@pytest.mark.slow
@pytest.mark.parametrize("copies", [1, 16])
def test_q_learning_reaches_the_optimum_of_a_small_tarn(copies):
    env = jm.gallery.WholeTarn(hours=24)
    best, _ = solve_tarn(env)
    agent = jm.QLearning(
        discount=1.0, learning_rate=jm.linear(0.5, 0.001, over=1.0), exploration=jm.linear(1.0, 0.2, over=1.0)
    )
    for seed in (0, 1):
        run = jm.train(env, agent, steps=3_000_000, copies=copies, seed=seed, folder=None)
        greedy = run.policy.learner.values.reshape(26, 25, 3).argmax(axis=2).T
        value, _ = solve_tarn(env, policy=greedy[:24])
        assert best * 0.995 <= value <= best * (1 + 1e-9)


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (
            lambda: jm.QLearning(learning_rate=1.5),
            r"`learning_rate` of `QLearning`: must lie in \[0, 1\]; got 1.5. Its default",
        ),
        (lambda: jm.QLearning(exploration=jm.linear(2.0, 0.1, over=0.5)), r"must lie in \[0, 1\]"),
        (lambda: jm.QLearning(lerning_rate=0.1), "no setting `lerning_rate`.*Did you mean `learning_rate`"),
        (lambda: jm.QLearning(bins=0), "whole number above 0"),
        (lambda: jm.QLearning(bins=True), "whole number above 0"),
        (lambda: jm.QLearning(discount="much"), "`discount` of `QLearning`: .* valid number.*got 'much'"),
    ],
)
def test_a_wrong_setting_says_what_is_allowed(make, message):
    with pytest.raises(SettingError, match=message):
        make()


def test_settings_are_frozen_and_split_into_numbers_and_shapes():
    agent = jm.QLearning(bins={"cell": 5}, exploration=0.3)
    with pytest.raises(Exception, match="frozen"):
        agent.bins = 3
    assert set(agent.schedules()) == {"learning_rate", "discount", "exploration", "initial_value"}
    spec = describe(Corridor()).spec
    assert hash(agent.config(spec, 2)) == hash(jm.QLearning(bins={"cell": 5}, discount=0.1).config(spec, 2))
    assert agent.config(spec, 2) != jm.QLearning(bins=5).config(spec, 2)
    assert repr(agent) == "QLearning(exploration=0.3, bins={'cell': 5})"


@pytest.mark.slow
def test_compiled_draws_are_counted_by_the_first_trace():
    counting = CountingDraw(jnp)
    counting.uniform(shape=(4,))
    counting.gamma(2.0)
    assert [(r.kind, r.width) for r in counting.requests] == [("uniform", 4), ("normal", 8), ("uniform", 9)]
    rows = [jnp.ones(4), jnp.zeros(8), jnp.full(9, 0.5)]
    draw = RowDraw(jnp, rows, jnp.float32(1.0))
    assert draw.uniform(shape=(4,)).shape == (4,)


def test_an_action_without_a_chance_is_not_drawn_where_the_chances_sum_up_to_less_than_one():
    third = np.float32(1.0 / 3.0)
    shares = [third, third, np.float32(1.0) - 2 * third - np.float32(1e-6), np.float32(0.0)]
    largest = 1.0 - 2.0**-24
    assert draw_index([float(p) for p in shares], largest) == 2
    assert int(draw_index([jnp.full(1, p) for p in shares], jnp.full(1, largest, jnp.float32))[0]) == 2
