"""Parameters that differ from episode to episode, curricula, and evaluation over a grid."""

import json
from pathlib import Path

import numpy as np
import pytest
from places import Corridor, Snowfield
from scipy import stats

import jokulmist as jm
from jokulmist.environments.chance.draws import PlainDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.varying import Varying
from jokulmist.errors import SettingError
from jokulmist.plans.plan import read_plan
from jokulmist.running.session.curriculum_progress import CurriculumProgress


class Slope(jm.Environment):
    """What is seen, gained and reached follows from a parameter, also by way of what is derived from it."""

    steepness: float = jm.parameter(1.0, low=0.0, high=10.0, unit="deg")
    friction: float = jm.parameter(0.5, low=0.0, high=1.0)
    rooms: int = jm.parameter(2, low=1, high=5)
    reach: float = jm.parameter(9.0, low=0.0, high=20.0)
    time_limit = 4

    class State(jm.State):
        place: float = jm.seen(low=0.0, high=60.0)
        far: float = jm.seen(low=0.0, high="reach")

    action = jm.Choice(2)

    @jm.derived
    def pull(self):
        return 2.0 * self.steepness

    def begin(self, draw):
        return self.State(place=self.steepness, far=0.0)

    def advance(self, state, action, draw):
        return state.replace(place=state.place + self.pull)

    @jm.sensor(low=0.0, high=60.0)
    def felt(self, state):
        return state.place * (1.0 - self.friction)

    @jm.reward
    def speed(self, before, after):
        return after.place - before.place

    @jm.measure(over="last")
    def end(self, after):
        return after.place

    @jm.reference
    def rule(self, state):
        return int(self.steepness > 2.0)


def together(draw):
    steepness = draw.uniform(1.0, 3.0)
    return {"steepness": steepness, "friction": 0.1 * steepness}


@pytest.mark.slow
@pytest.mark.parametrize("lane", ["plain", "compiled"])
@pytest.mark.parametrize("agent", [jm.RandomPlay(), jm.PPO(horizon=4, minibatch=16)], ids=["pilot", "arrays"])
def test_each_episode_is_played_with_what_is_recorded_of_it(lane, agent):
    run = jm.train(Slope(), agent, steps=800, copies=4, vary=together, folder=None, lane=lane)
    frame = run.episodes
    # Of a method that learns from batches some first episodes are cut, for learning only.
    assert len(frame) == 200 if not agent.staggered else 196 <= len(frame) < 200
    assert np.allclose(frame["friction"], 0.1 * frame["steepness"], rtol=1e-5)
    assert np.allclose(frame["return"], 4 * 2.0 * frame["steepness"], rtol=1e-5)
    assert np.allclose(frame["end"], 9.0 * frame["steepness"], rtol=1e-5)
    assert stats.kstest(frame["steepness"], stats.uniform(1.0, 2.0).cdf).pvalue > 1e-3
    # What an agent sees follows from the copy's own parameters, and both lanes draw the same.
    plain = jm.train(Slope(), agent, steps=400, copies=4, vary=together, folder=None, lane="plain").episodes
    assert len(plain) > 95
    assert np.allclose(frame["steepness"][: len(plain)], plain["steepness"], rtol=1e-5)
    assert "friction" not in jm.train(Slope(), agent, steps=16, folder=None, lane=lane).episodes


def test_bounds_of_draws():
    draw = PlainDraw(Noise(3, 1, Domain.HAND), Stream.VARY)
    values = np.array([jm.between(0.01, 1.0, scale="log").sample(draw.for_step(i, 0)) for i in range(2000)])
    assert stats.kstest(np.log10(values), stats.uniform(-2.0, 2.0).cdf).pvalue > 1e-3


@pytest.mark.slow
def test_a_plan_keeps_what_varies_and_trains_the_same_again():
    Path("drawn.py").write_text("def tilt(draw):\n    return {'steepness': draw.uniform(1.0, 2.0)}\n")
    text = '[environment]\nuse = "ferry"\n[agent]\nuse = "RandomPlay"\n[training]\nsteps = 2000\ncopies = 8\n'
    Path("plan.toml").write_text(
        text + '[vary]\ntide = { between = [0.01, 0.2], scale = "log" }\n[curriculum]\nparameter = "soft"\n'
        "values = [5.0, 2.0]\nabove = -100.0\nlast = 5\n"
    )
    plan = read_plan(Path("plan.toml"), ["vary.gusts={between=[0.0,0.1]}"])
    assert set(plan.vary) == {"tide", "gusts"}
    run = jm.train(plan.environment, plan.agent, steps=2000, copies=8, vary=plan.vary, curriculum=plan.curriculum)
    repeated = read_plan(run.path / "plan.toml")
    assert (repeated.vary, repeated.curriculum) == (plan.vary, plan.curriculum)
    assert run.environment.soft == 2.0  # measured on the last level
    frame = run.episodes
    initial = frame["decisions"] - 8 * frame["steps"]
    levels = frame["soft"].to_numpy()[np.argsort(initial, kind="stable")]
    assert levels[0] == 5.0
    assert levels[-1] == 2.0
    assert np.sum(np.diff(levels) != 0) == 1
    assert "`soft` is 2, level 2 of 2" in (run.path / "log.txt").read_text()
    axes = jm.plot(run)
    assert {t.get_text() for t in axes.texts} >= {"soft 5", "soft 2"}
    Path("function.toml").write_text(text.replace('"ferry"', '"ferry"') + '[vary]\nuse = "drawn.py:tilt"\n')
    with pytest.raises(SettingError, match="`vary` names `steepness`, which is no parameter of `Ferry`"):
        read_plan(Path("function.toml"))


def test_a_curriculum_moves_on_its_own_episodes_alone():
    curriculum = CurriculumProgress(jm.Levels("p", [1.0, 2.0, 3.0], above=10.0, below=0.0, last=3, at_least=4))

    def take(value, *scores):
        curriculum.take(
            {
                "p": np.full(len(scores), value, np.float32),
                "return": np.array(scores, np.float32),
                "steps": np.full(len(scores), 600),
            }
        )

    take(1.0, 20.0, 20.0, 20.0)
    assert not curriculum.moved()  # too few
    take(1.0, 20.0)
    assert curriculum.moved()
    assert curriculum.value == 2.0
    take(1.0, *[99.0] * 9)  # begun before the move
    assert not curriculum.moved()
    take(2.0, 50.0, -5.0, -5.0, -5.0)  # the last three count
    assert curriculum.moved()
    assert curriculum.value == 1.0
    take(1.0, *[-5.0] * 9)
    assert not curriculum.moved()  # there is nothing below
    curriculum = CurriculumProgress(jm.Levels("p", [1.0, 2.0], above=10.0))
    take(1.0, *[20.0] * 9)
    assert not curriculum.moved()
    take(1.0, 20.0)  # ten long episodes say as much as fifty short ones
    assert curriculum.moved()


@pytest.mark.parametrize("lane", ["plain", "compiled"])
def test_several_parameters_of_a_curriculum_move_together(lane, tmp_path):
    levels = jm.Levels(
        "steepness", [1.0, 3.0], above=0.0, last=5, every=40, together={"friction": [0.25, 0.75], "rooms": [2, 5]}
    )
    run = jm.train(Slope(), jm.RandomPlay(), steps=200, copies=2, curriculum=levels, lane=lane, folder=tmp_path)
    played = run.episodes[["steepness", "friction", "rooms"]].drop_duplicates().to_numpy().tolist()
    assert played == [[1.0, 0.25, 2.0], [3.0, 0.75, 5.0]]
    measured = run.plan.measured
    assert (measured.steepness, measured.friction, measured.rooms) == (3.0, 0.75, 5)
    assert read_plan(run.path / "plan.toml").curriculum == levels
    assert jm.redo(run.path, folder=tmp_path).same


@pytest.mark.parametrize(
    ("more", "message"),
    [
        ({"vary": {"melt": jm.between(0, 1)}}, "no parameter of `Slope`; there are `steepness`"),
        ({"vary": {"steepness": jm.between(0, 11)}}, r"`Slope.steepness` must lie in \[0, 10\] deg; got 11"),
        ({"vary": {"steepness": 3.0}}, r"`vary` of `steepness` must be `jm.between\(low, high\)`; got 3.0"),
        ({"vary": {"rooms": jm.between(1, 4)}}, "`rooms` is a whole number, and `between` draws fractions"),
        ({"vary": {"reach": jm.between(1, 4)}}, "`reach` of `Slope` cannot vary, because the bounds of `far` follow"),
        ({"vary": lambda draw: 3}, "the function of `vary` returned 3; it must return a dict"),
        ({"vary": lambda draw: {"friction": draw.uniform(0, 2)}}, r"`Slope.friction` must lie in \[0, 1\]"),
        ({"curriculum": jm.Levels("steepness", [1, 20], above=0)}, r"`Slope.steepness` must lie in \[0, 10\]"),
        ({"curriculum": jm.Levels("steepness", [1, 2], above=0, score="ends")}, "Did you mean `end`"),
        (
            {"curriculum": jm.Levels("steepness", [1, 2], above=0, together={"friction": [0, 2]})},
            r"`Slope.friction` must lie in \[0, 1\]",
        ),
        (
            {"vary": {"steepness": jm.between(0, 1)}, "curriculum": jm.Levels("steepness", [1, 2], above=0)},
            "`vary` and `curriculum` both move",
        ),
    ],
)
def test_what_cannot_vary_is_refused(more, message):
    with pytest.raises(SettingError, match=message):
        jm.train(Slope(), jm.RandomPlay(), steps=10, folder=None, **more)


def test_settings_of_draws_and_levels_are_checked():
    for wrong in (lambda: jm.between(2, 1), lambda: jm.between(0, 1, scale="log"), lambda: jm.between("a", 1)):
        with pytest.raises(SettingError):
            wrong()
    with pytest.raises(SettingError, match="at least two different values"):
        jm.Levels("p", [1.0], above=0)
    with pytest.raises(SettingError, match="`below` of `Levels` must lie below `above`"):
        jm.Levels("p", [1.0, 2.0], above=0, below=3)
    with pytest.raises(SettingError, match="is fixed, so it cannot vary"):
        Varying({"side": jm.between(2, 3)}).refuse(
            Snowfield(), jm.environments.declaration.instance.outline_of(Snowfield)
        )


def test_a_grid_is_an_evaluation_at_each_place():
    run = jm.train(Corridor(), jm.QLearning(), steps=4000, folder="runs", name="c", lane="plain")
    grid = jm.evaluate_grid(run.policy, Corridor(), {"slip": [0.0, 0.9]}, episodes=8, seed=3)
    assert list(grid.table["policy"]) == ["policy", "random", "go_right"] * 2
    alone = jm.evaluate(run.policy, Corridor(slip=0.9), episodes=8, seed=3)
    assert grid.results[1]["policy"].mean == alone.mean
    axes = jm.pictures.plot_grid(grid)
    line = next(line for line in axes.lines if line.get_label() == "policy")
    assert line.get_ydata().tolist() == [criterion["policy"].mean for criterion in grid.results]
    two = jm.evaluate_grid(run.policy, Corridor(), {"slip": [0.0, 0.5]}, episodes=2, beside=False)
    assert set(two.table["policy"]) == {"policy"}
    with pytest.raises(SettingError, match=r"`over` names `slide`.*Did you mean `slip`"):
        jm.evaluate_grid(run.policy, Corridor(), {"slide": [0.0]})
    # A rule plays each episode with that episode's parameters.
    frame = jm.evaluate("rule", Slope(), episodes=5, vary=together).episodes
    assert np.allclose(frame["return"], 8.0 * frame["steepness"], rtol=1e-5)
    json.dumps(grid.rows)
