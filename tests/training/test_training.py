"""Training: the same seed gives the same bytes, cut however; it stops where it should; it says what it cannot do."""

import os
import signal
import subprocess
import sys
import textwrap
import time
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from places import Branching, Camera, Corridor, Skiff, Snowfield

import jokulmist as jm
from jokulmist.errors import BrokenEnvironment, RunNotice, SettingError
from jokulmist.loops.compiled import CompiledLoop
from jokulmist.loops.contract import Planned
from jokulmist.loops.plain import PlainLoop
from jokulmist.plans.progress import RunProgress, SilentDisplay, duration, line_of

AGENT = jm.QLearning(exploration=jm.linear(1.0, 0.1, over=0.5), learning_rate=jm.geometric(0.5, 0.05, over=1.0))


class Heard(SilentDisplay):
    """Keeps what a run says."""

    def __init__(self):
        self.lines = []

    def message(self, text):
        self.lines.append(text)


def files(run):
    return {name: (run.path / name).read_bytes() for name in ("episodes.csv",)}


ON_SOME_CORES = """
import os, sys
os.sched_setaffinity(0, sorted(os.sched_getaffinity(0))[:int(sys.argv[1])])
import numpy as np
import jokulmist as jm
run = jm.train(jm.gallery.Aurora(), jm.PPO(horizon=16, minibatch=64, epochs=2), steps=256, copies=8, folder=None)
print(np.asarray(run.policy.learner.weights).tobytes().hex())
"""


@pytest.mark.slow
@pytest.mark.skipif(not hasattr(os, "sched_setaffinity"), reason="the system does not bind a process to cores")
def test_images_are_learned_to_the_same_bytes_on_one_core_and_on_all():
    command = [sys.executable, "-c", ON_SOME_CORES]
    one, every = (subprocess.check_output([*command, count], text=True, timeout=240) for count in ("1", "64"))
    assert one == every


@pytest.mark.slow
@pytest.mark.parametrize("lane", ["plain", "compiled"])
def test_the_same_seed_gives_the_same_episodes_byte_for_byte(lane):
    def train(seed):
        return jm.train(Corridor(slip=0.3), AGENT, steps=900, copies=2, seed=seed, lane=lane, folder="runs")

    first, second, other_seed = train(4), train(4), train(5)
    assert files(first) == files(second)
    assert files(first) != files(other_seed)
    assert np.array_equal(first.policy.learner.values, second.policy.learner.values)
    assert len({run.path for run in (first, second, other_seed)}) == 3


@pytest.mark.slow
@settings(max_examples=6)
@given(st.lists(st.integers(1, 120), min_size=1, max_size=6))
@pytest.mark.parametrize("kind", [PlainLoop, CompiledLoop])
def test_splitting_into_other_pieces_changes_nothing(kind, pieces):
    turns = sum(pieces)
    complete = kind(Snowfield(), jm.RandomPlay(), 9, 2, Planned(steps=2 * turns))
    cut = kind(Snowfield(), jm.RandomPlay(), 9, 2, Planned(steps=2 * turns))
    together = complete.advance(turns)
    parts = [cut.advance(piece) for piece in pieces]
    for name in ("decisions", "copy", "steps", "satisfied", "totals", "measures"):
        assert np.array_equal(getattr(together, name), np.concatenate([getattr(part, name) for part in parts])), name


@pytest.mark.parametrize("kind", [PlainLoop, CompiledLoop])
def test_splitting_changes_no_table_and_no_reading(kind):
    loops = [kind(Corridor(slip=0.4), AGENT, 2, 3, Planned(steps=900)) for _ in range(2)]
    loops[0].advance(300)
    for piece in (1, 7, 92, 200):
        loops[1].advance(piece)
    assert np.array_equal(loops[0].learner().values, loops[1].learner().values)
    assert loops[0].readings() == loops[1].readings()


@pytest.mark.slow
@pytest.mark.parametrize("lane", ["plain", "compiled"])
def test_counts_are_decisions_of_all_copies_and_the_last_turn_is_run_whole(lane):
    run = jm.train(Corridor(), AGENT, steps=100, copies=7, lane=lane, folder=None)
    assert run.origin["decisions"] == 105
    assert run.policy.decisions == 105
    frame = run.episodes
    assert (frame["decisions"] % 7 == 0).all()
    assert frame["decisions"].is_monotonic_increasing
    assert frame.groupby("copy")["steps"].sum().max() <= 15
    by_episodes = jm.train(Corridor(), AGENT, episodes=12, copies=1, lane=lane, folder=None)
    assert len(by_episodes.episodes) == 12
    assert by_episodes.origin["decisions"] == by_episodes.episodes["steps"].sum()


@pytest.mark.slow
def test_what_closed_an_episode_is_recorded_with_what_else_held():
    frame = jm.train(Skiff(), jm.RandomPlay(), episodes=300, copies=4, folder=None).episodes
    assert set(frame["closed_by"]) <= {"far", "too_far", "deadline", "calm", "time limit"}
    assert (frame.loc[frame["closed_by"] == "deadline", "also_held"].str.contains("time limit")).all()
    assert frame["also_held"].str.startswith("too_far").any()
    np.testing.assert_allclose(frame["return"], frame["distance"] - 0.5 * frame["trimming"], rtol=1e-4, atol=1e-5)


def test_returns_can_be_weighed_anew_afterwards(trained):
    frame = trained.episodes
    np.testing.assert_allclose(trained.returns(), frame["return"], rtol=1e-4, atol=1e-3)
    np.testing.assert_allclose(trained.returns({"flooding": 0.0}), frame["sales"], rtol=1e-6)
    with pytest.raises(SettingError, match="the terms are `sales`, `flooding`"):
        trained.returns({"flood": 1.0})


@pytest.mark.slow
def test_several_seeds_are_runs_with_a_table():
    runs = jm.train_seeds(Corridor(), AGENT, steps=200, seeds=range(3), lane="plain", folder="runs", name="trio")
    assert [run.name for run in runs] == ["trio-seed0", "trio-seed1", "trio-seed2"]
    assert runs.table["seed"].tolist() == [0, 1, 2]
    assert (runs.table["status"] == "done").all()
    assert len(runs[1:]) == 2
    alone = jm.train(Corridor(), AGENT, steps=200, seed=1, lane="plain", folder="runs")
    assert files(alone) == files(runs[1])


def test_a_class_that_branches_trains_plain_and_says_why():
    display = Heard()
    run = jm.train(Branching(), AGENT, steps=300, folder="runs", display=display)
    assert run.origin["lane"] == "plain"
    assert len(display.lines) == 1
    assert "training plain, because `Branching.advance` (places.py:" in display.lines[0]
    assert "branches on a value" in (run.path / "log.txt").read_text()
    with pytest.raises(SettingError, match=r"cannot be compiled: `Branching.advance`"):
        jm.train(Branching(), AGENT, steps=300, lane="compiled")


class Tally(jm.Agent):
    """An agent of one's own over NumPy: keeps the mean reward of each action, in a bandit's way."""

    traced = False
    reading_names = ("gain",)
    exploration: jm.parts.Scheduled = jm.linear(1.0, 0.1, over=1.0)

    @staticmethod
    def fresh_learner(config, hyperparameters, noise):
        return {"sum": np.zeros(2), "count": np.ones(2)}

    @staticmethod
    def choose(config, hyperparameters, learner, memory, observed, noise, explore):
        best = int(np.argmax(learner["sum"] / learner["count"]))
        tries = noise.uniform(shape=(config.copies,)) < (hyperparameters.exploration if explore else 0.0)
        return np.where(tries, noise.integers(0, 2, shape=(config.copies,)), best), memory, ()

    @staticmethod
    def learn(config, hyperparameters, learner, memory, experience, noise):
        assert experience.observed.numbers.shape == (1, config.copies, 1)
        for action, reward in zip(experience.actions.ravel(), experience.rewards.ravel(), strict=True):
            learner["sum"][action] += reward
            learner["count"][action] += 1
        return learner, memory, (experience.rewards.mean(),)


class Traced(Tally):
    """The same, written with jax.numpy, two turns an update."""

    traced = True

    def decisions_per_update(self, copies):
        return 2

    @staticmethod
    def choose(config, hyperparameters, learner, memory, observed, noise, explore):
        import jax.numpy as jnp

        best = jnp.argmax(learner["sum"] / learner["count"])
        tries = noise.uniform(shape=(config.copies,)) < (hyperparameters.exploration if explore else 0.0)
        return jnp.where(tries, noise.integers(0, 2, shape=(config.copies,)), best), memory, ()

    @staticmethod
    def learn(config, hyperparameters, learner, memory, experience, noise):
        import jax.numpy as jnp

        assert experience.rewards.shape == (2, config.copies)
        hit = experience.actions[..., None] == jnp.arange(2)
        total = jnp.sum(jnp.where(hit, experience.rewards[..., None], 0.0), axis=(0, 1))
        learner = {"sum": learner["sum"] + total, "count": learner["count"] + hit.sum(axis=(0, 1))}
        return learner, memory, (jnp.mean(experience.rewards),)


@pytest.mark.slow
@pytest.mark.parametrize("copies", [1, 3])
def test_an_agent_of_ones_own_trains_on_every_lane_that_it_can(copies):
    run = jm.train(Corridor(), Tally(), steps=600, copies=copies, folder="runs")
    assert run.origin["lane"] == "plain"
    assert run.episodes["return"].tail(20).mean() > 0.3
    assert "gain" in run.readings
    assert len(list((run.path / "source").rglob("test_training.py"))) == 1
    with pytest.raises(SettingError, match="is not traced"):
        jm.train(Corridor(), Tally(), steps=10, lane="compiled")
    both = [
        jm.train(Corridor(), Traced(), steps=600, copies=copies, lane=lane, folder=None)
        for lane in ("plain", "compiled")
    ]
    assert both[0].episodes.equals(both[1].episodes)
    assert both[0].readings["gain"].to_numpy() == pytest.approx(both[1].readings["gain"].to_numpy(), abs=1e-5)
    assert both[1].policy.choose({"cell": 2}) == 1


@pytest.mark.slow
def test_what_fails_is_told_and_what_was_recorded_is_kept():
    class Souring(Corridor):
        @jm.reward
        def prize(self, before, after):
            return self.xp.log(1.0 * (after.cell - 0.0)) if self.xp is np else self.xp.log(1.0 * after.cell)

    for lane in ("plain", "compiled"):
        with (
            pytest.raises(BrokenEnvironment, match=r"`Souring.prize` .*finite.*What was recorded is in runs"),
            np.errstate(all="ignore"),
        ):
            jm.train(Souring(), AGENT, steps=3000, lane=lane, folder="runs", name=f"sour-{lane}")
        run = jm.Run.open(f"runs/sour-{lane}")
        assert run.status == "failed"
        assert "must be finite" in run.origin["failure"]


@pytest.mark.parametrize(
    ("options", "message"),
    [
        ({}, "by `steps` or by `episodes`"),
        ({"steps": 10, "episodes": 3}, "by `steps` or by `episodes`"),
        ({"steps": 0}, "`steps` of `training`: must be greater than 0; got 0"),
        ({"steps": 1.5}, "valid integer; got 1.5"),
        ({"steps": 10, "copies": 0}, "`copies`"),
        ({"steps": 10, "seed": -1}, "a seed is a whole number"),
        ({"steps": 10, "seeds": [1, 1]}, "names a seed twice"),
        ({"steps": 10, "seeds": []}, "`seeds` is empty"),
        ({"steps": 10, "lane": "fast"}, "'auto', 'plain' or 'compiled'"),
        ({"steps": 10, "name": "a/b"}, "plain folder name"),
    ],
)
def test_a_training_that_is_unclear_is_refused_before_anything_is_made(options, message, tmp_path):
    with pytest.raises(SettingError, match=message):
        (jm.train_seeds if "seeds" in options else jm.train)(Corridor(), AGENT, folder="runs", **options)
    assert not list(tmp_path.glob("runs/*"))


def test_things_in_the_wrong_place_are_refused():
    with pytest.raises(SettingError, match=r"the class `Corridor`; write `Corridor\(\)`"):
        jm.train(Corridor, AGENT, steps=10)
    with pytest.raises(SettingError, match=r"the class `QLearning`; write `QLearning\(\)`"):
        jm.train(Corridor(), jm.QLearning, steps=10)
    with pytest.raises(SettingError, match="`Tally` is given numbers, and `seen` is an image"):
        jm.train(Camera(), Tally(), steps=10)
    with pytest.raises(
        SettingError, match="`QLearning` chooses among alternatives, and the part `sail` of the action is Range"
    ):
        jm.train(Skiff(), AGENT, steps=10)


def test_a_new_run_never_takes_a_name_that_is_there():
    jm.train(Corridor(), AGENT, steps=20, lane="plain", folder="runs", name="mine")
    with pytest.raises(SettingError, match="there is a run runs/mine already"):
        jm.train(Corridor(), AGENT, steps=20, lane="plain", folder="runs", name="mine")
    jm.train(Corridor(), AGENT, steps=20, lane="plain", folder="runs", name="two-seed1")
    with pytest.raises(SettingError, match="there is a run runs/two-seed1 already"):
        jm.train_seeds(Corridor(), AGENT, steps=20, lane="plain", folder="runs", name="two", seeds=[0, 1])
    assert not Path("runs/two-seed0").exists()


class Clock(Traced):
    """Writes down what a schedule said at each turn, to the last bit."""

    pace: jm.parts.Scheduled = jm.linear(0.0, 1.0, over=1.0)

    def decisions_per_update(self, copies):
        return 1

    @staticmethod
    def fresh_learner(config, hyperparameters, noise):
        return {"sum": np.zeros(2), "count": np.ones(2), "paces": np.zeros(600, np.float32), "at": np.int32(0)}

    @staticmethod
    def learn(config, hyperparameters, learner, memory, experience, noise):
        paces = learner["paces"].at[learner["at"]].set(hyperparameters.pace)
        return {**learner, "paces": paces, "at": learner["at"] + 1}, memory, (0.0,)


@pytest.mark.slow
def test_schedules_do_not_depend_on_where_a_long_run_is_cut():
    """Beyond 2**24 decisions a float no longer counts them one by one."""
    loops = [CompiledLoop(Corridor(slip=0.4), Clock(), 2, 3, Planned(steps=22_000_000)) for _ in range(2)]
    for loop in loops:
        loop.turn, loop.decisions = 7_000_001, 21_000_003
    loops[0].advance(600)
    for piece in (1, 99, 101, 399):
        loops[1].advance(piece)
    paces = [loop.learner()["paces"] for loop in loops]
    assert np.array_equal(*paces)
    np.testing.assert_allclose(paces[0], 3 * (7_000_001 + np.arange(600)) / 22_000_000, rtol=2e-7)


def test_the_live_line_says_what_a_person_asks():
    text = line_of(RunProgress(120_000, 1250, 0.6, 123.456, 1.5e6, 80.0))
    assert text == " 60%  120,000 decisions  1,250 episodes  mean return 123.5  1,500,000 steps/s  53 s left"
    assert "no episode yet" in line_of(RunProgress(0, 0, 0.0, float("nan"), 0.0, 0.0))
    assert [duration(s) for s in (8.2, 200, 7500)] == ["8 s", "3 min 20 s", "2 h 05 min"]


@pytest.mark.slow
@pytest.mark.parametrize("lane", ["plain", "compiled"])
def test_ctrl_c_ends_cleanly_with_everything_saved(lane, tmp_path):
    script = tmp_path / "long.py"
    script.write_text(
        textwrap.dedent(
            f"""
            import jokulmist as jm
            run = jm.train(jm.gallery.Tarn(), jm.QLearning(), steps=10**11, lane="{lane}", folder="runs", name="long")
            print("status", run.status, len(run.episodes))
            """
        )
    )
    process = subprocess.Popen([sys.executable, str(script)], stdout=subprocess.PIPE, text=True, cwd=tmp_path)
    record = tmp_path / "runs" / "long" / "episodes.csv"
    for _ in range(1200):
        if record.exists() and record.stat().st_size > 2000:
            break
        time.sleep(0.1)
    opened = jm.Run.open(record.parent)  # while it runs
    assert opened.status == "running"
    assert len(opened.episodes) > 0
    os.kill(process.pid, signal.SIGINT)
    output, _ = process.communicate(timeout=240)
    run = jm.Run.open(record.parent)
    assert output == f"status stopped {len(run.episodes)}\n"
    assert run.status == "stopped"
    assert run.policy.decisions == run.origin["decisions"]


def test_a_warning_names_the_line_of_whoever_called(tmp_path):
    for call in (
        lambda: jm.train(Corridor(), AGENT, steps=3, folder=None),
        lambda: jm.train_seeds(Corridor(), AGENT, [0], steps=3, folder=tmp_path, workers=1),
    ):
        with pytest.warns(RunNotice, match="no episode may close") as notices:
            call()
        assert {notice.filename for notice in notices} == {__file__}
