"""What a search runs over: values, places, conditions, neighbours, grids, and how a plan holds them."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from places import Corridor

import jokulmist as jm
from jokulmist.errors import LookupFailed, SettingError
from jokulmist.plans.plan import Plan, Training
from jokulmist.studies.search.settings import SearchSettings, Tuning, settings_of
from jokulmist.studies.search.space import Among, Space, over_from, with_settings

numbers = st.floats(0.001, 1000.0)
bounds = st.tuples(numbers, numbers).filter(lambda b: b[1] > b[0] * 1.01)
ranges = st.builds(lambda b, s: jm.between(*b, scale=s), bounds, st.sampled_from(["even", "log"]))
wholes = st.builds(
    lambda low, more, s: jm.between(low, low + more, scale=s, whole=True),
    st.integers(1, 50),
    st.integers(1, 50),
    st.sampled_from(["even", "log"]),
)
choices = st.lists(st.one_of(st.integers(0, 9), st.sampled_from("abc")), min_size=1, max_size=5, unique_by=repr).map(
    lambda values: jm.among(*values)
)
spaces = st.lists(st.one_of(ranges, wholes, choices), min_size=1, max_size=5).map(
    lambda dimensions: Space({f"agent.s{k}": how for k, how in enumerate(dimensions)})
)
PLAN = Plan(Corridor(), jm.QLearning(), Training(steps=500))
PPO = Plan(jm.gallery.Ferry(), jm.PPO(), Training(steps=500))


def allowed(how, value):
    if isinstance(how, Among):
        return repr(value) in [repr(v) for v in how.values]
    complete = not how.whole or isinstance(value, int)
    return complete and how.low * (1 - 1e-5) <= value <= how.high * (1 + 1e-5)


@settings(max_examples=60)
@given(space=spaces, seed=st.integers(0, 1000))
def test_whatever_is_drawn_or_a_step_away_is_allowed_and_encoded_in_the_unit_cube(space, seed):
    draw = np.random.default_rng(seed)
    item = space.sample(draw)
    for settings_ in (item, space.neighbour(item, draw, 0.3), space.neighbour(item, draw, 3.0)):
        assert list(settings_) == space.names
        assert all(allowed(space.over[name], value) for name, value in settings_.items())
        code = space.encoded(settings_)
        assert code.shape == (len(space.columns()),)
        assert np.all((code > -0.01) & (code < 1.01))
    for name, manner in space.over.items():
        if not isinstance(manner, Among) and not manner.whole:
            assert space.place(name, space.value(name, 0.37)) == pytest.approx(0.37, abs=0.02)


def test_every_whole_number_has_its_share_the_bounds_as_well():
    space = Space({"agent.n": jm.between(1, 4, whole=True)})
    samples = [space.sample(np.random.default_rng(k))["agent.n"] for k in range(400)]
    counts = np.bincount(samples, minlength=5)[1:]
    assert counts.min() > 70
    assert space.spread("agent.n", 10) == [1, 2, 3, 4]


def test_a_setting_that_does_not_matter_is_left_out_and_looks_the_same_to_a_model():
    space = Space(
        {
            "agent.clip": jm.between(0.1, 0.3, when={"agent.use": "PPO"}),
            "agent.use": jm.among("PPO", "DQN", "Reinforce"),
            "agent.double": jm.among(True, False, when={"agent.use": ["DQN"]}),
        }
    )
    assert space.names.index("agent.use") < space.names.index("agent.clip")
    seen = [space.sample(np.random.default_rng(k)) for k in range(60)]
    for item in seen:
        assert ("agent.clip" in item) == (item["agent.use"] == "PPO")
        assert ("agent.double" in item) == (item["agent.use"] == "DQN")
    code = space.encoded({"agent.use": "Reinforce"})
    assert code.tolist() == [0.0, 0.0, 1.0, 0.5, 0.5]
    # Five combinations instead of 3 x 3 x 2: what does not matter makes none.
    assert len(list(space.grid(2))) == 2 + 2 + 1
    moved = space.neighbour({"agent.use": "DQN", "agent.double": True}, np.random.default_rng(0), 0.1)
    assert set(moved) <= {"agent.use", "agent.double", "agent.clip"}


def test_a_plan_with_settings_is_that_plan_and_no_other():
    changed = with_settings(
        PLAN, {"agent.bins": 7, "environment.slip": 0.3, "environment.weights.effort": -0.4, "training.copies": 3}
    )
    assert changed.agent.bins == 7
    assert changed.environment.slip == 0.3
    assert dict(changed.environment.weights) == {"effort": -0.4}
    assert changed.copies == 3
    assert PLAN.agent.bins != 7
    changed = with_settings(PLAN, {"agent.use": "Sarsa", "agent.learning_rate": 0.2})
    assert type(changed.agent).__name__ == "Sarsa"
    with pytest.raises(LookupFailed, match=r"`training.steps` cannot be searched over"):
        with_settings(PLAN, {"training.steps": 5})


WRONG = [
    ({}, "there is nothing to search over"),
    ({"agent.lerning_rate": jm.among(0.1)}, "`agent.lerning_rate` of the search at 0.1.*Did you mean `learning_rate`"),
    ({"agent.learning_rate": jm.between(0.1, 3.0)}, r"`agent.learning_rate` of the search at 3.0.*\[0, 1\]"),
    ({"environment.slip": jm.among(0.1, 2.0)}, "`environment.slip` of the search at 2.0"),
    ({"environment.weights.efort": jm.among(0.1)}, "efort"),
    ({"agent.bins": 5}, r"must be `jm.among\(...\)` or `jm.between\(low, high\)`; got 5"),
    ({"agent.bins": jm.among(5, when={"agent.x": 1})}, "`when` of `agent.bins` names `agent.x`"),
    (
        {
            "agent.bins": jm.among(5, when={"agent.discount": 1}),
            "agent.discount": jm.among(0.9, when={"agent.bins": 5}),
        },
        "wait for each other",
    ),
]


@pytest.mark.parametrize(("over", "expected"), WRONG)
def test_what_is_wrong_with_a_space_is_told_before_anything_is_trained(over, expected):
    with pytest.raises((SettingError, LookupFailed), match=expected):
        SearchSettings(PLAN, Tuning(), over)


def test_reward_weights_are_never_scored_by_the_return_that_they_change():
    space = {"environment.weights.effort": jm.between(-1.0, 0.0)}
    with pytest.raises(
        SettingError,
        match=r"`environment.weights.effort` cannot be searched over by the return: the weight is a part of it",
    ):
        SearchSettings(PLAN, Tuning(score="return"), space)
    options = SearchSettings(PLAN, Tuning(score="evaluation"), space)
    assert options.score.weights == {"prize": 1.0, "effort": -0.1}  # those of the plan, for every candidate


@pytest.mark.parametrize(
    ("tuning", "expected"),
    [
        ({"method": "luck"}, r"`method` of `tuning`.*`random`"),
        ({"candidates": 0}, "`candidates` of `tuning`"),
        ({"score": "age"}, "`score` is 'age'; of `Corridor` it can be `return`, `evaluation`"),
        ({"better": "lower"}, "a return is better when it is higher"),
        ({"rungz": 3}, "has no setting `rungz`.*Did you mean `rungs`"),
        ({"method": "population", "candidates": 3}, "at least 4 members"),
    ],
)
def test_what_is_wrong_with_a_search_is_told(tuning, expected):
    with pytest.raises(SettingError, match=expected):
        SearchSettings(PLAN, Tuning(**tuning), {"agent.learning_rate": jm.among(0.1, 0.2)})


def test_a_population_takes_only_what_can_change_while_a_run_trains():
    call = {"method": "population", "candidates": 4}
    with pytest.raises(SettingError, match=r"`agent.horizon` cannot change while a run trains.*`agent.clip`"):
        SearchSettings(PPO, Tuning(**call), {"agent.horizon": jm.among(8, 16)})
    with pytest.raises(SettingError, match=r"`environment.length` cannot change"):
        SearchSettings(PLAN, Tuning(**call), {"environment.length": jm.among(5, 9)})
    SearchSettings(
        PPO, Tuning(**call), {"agent.entropy_bonus": jm.among(0.0, 0.1), "environment.tide": jm.between(0.1, 0.3)}
    )
    by_episodes = Plan(Corridor(), jm.QLearning(), Training(episodes=50))
    for method in ("population", "halving"):
        with pytest.raises(SettingError, match="`steps`"):
            SearchSettings(by_episodes, Tuning(method=method), {"agent.learning_rate": jm.among(0.1, 0.2)})


def test_a_plan_holds_a_search_and_gives_it_back():
    space = {
        "agent.learning_rate": jm.between(1e-4, 1e-2, scale="log"),
        "agent.horizon": jm.between(8, 64, whole=True, when={"agent.entropy_bonus": [0.1]}),
        "agent.entropy_bonus": jm.among(0.0, 0.1),
        "agent.network": jm.among(jm.Dense(8), jm.Dense(16, 16)),
        "environment.weights.waiting": jm.among(-1.0, -2.0),
    }
    options = SearchSettings(PPO, Tuning(method="gaussian-process", score="final_speed", better="lower"), space)
    written = options.written()
    tuning = written.pop("tuning")
    repeated = settings_of(tuning, PPO)
    assert repeated.written()["tuning"] == tuning
    assert repeated.tuning == options.tuning
    assert repeated.space.over["agent.learning_rate"] == space["agent.learning_rate"]
    bare = over_from({"agent.bins": {"among": [1, 2]}})
    assert bare["agent.bins"].values == (1, 2)
    for entry in ({"among": [1], "between": [1, 2]}, {"among": 3}, {"between": [1]}, {"between": [1, 2], "step": 1}, 7):
        with pytest.raises(SettingError, match=r"`agent.bins`"):
            over_from({"agent.bins": entry})
    with pytest.raises(SettingError, match=r"`\[tuning.over\]` says what to search over"):
        settings_of({"method": "random"}, PPO)
    nested = settings_of({"over": {"agent": {"learning_rate": {"among": [0.1]}}}}, PLAN)
    assert nested.space.names == ["agent.learning_rate"]


def test_a_grid_that_would_never_end_is_refused():
    space = {f"agent.{name}": jm.between(0.01, 0.9) for name in ("learning_rate", "exploration", "discount")}
    options = SearchSettings(PLAN, Tuning(method="grid", points=30), space)
    with pytest.raises(SettingError, match="more than 10,000 combinations"):
        _ = options.method.decisions
    assert math.isfinite(SearchSettings(PLAN, Tuning(method="grid", points=4), space).method.decisions)
