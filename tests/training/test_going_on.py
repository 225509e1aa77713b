"""Runs that are stopped, killed, cut short and resumed; done again; recorded step by step."""

import json
import os
import random
import signal
import subprocess
import sys
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from commands import benchmark, jokulmist
from places import Corridor, Drift, Lift, Snowfield

import jokulmist as jm
from jokulmist.errors import BrokenEnvironment, JokulmistError, LookupFailed, RecordError, SettingError
from jokulmist.plans.progress import SilentDisplay
from jokulmist.records.checkpoints import checkpoints_of
from jokulmist.running.session import observing

ROOT = Path(__file__).parents[2]
SLIM = jm.Dense(16)
AROUND = [jm.modifiers.Stack(2), jm.modifiers.ActionDelay(1), jm.modifiers.Scaled(0.5), jm.modifiers.Opening(2)]


def content(run):
    last = checkpoints_of(run.path)[-1]
    readings = run.readings.drop(columns=["seconds", "steps_per_second"])
    files = [run.path / name for name in ("episodes.csv", "evaluated.csv")] + [last / "arrays.safetensors"]
    rollouts = [
        pd.read_parquet(file).drop(columns="run").to_csv() for file in sorted(run.path.glob("rollouts/*.parquet"))
    ]
    return [file.read_bytes() if file.exists() else b"" for file in files] + [readings.to_csv(), rollouts]


class Interrupting(SilentDisplay):
    """Presses Ctrl-C once a run has come so far."""

    def __init__(self, decisions):
        self.decisions = decisions

    def update(self, progress):
        if progress.decisions >= self.decisions:
            self.decisions = 10**9
            os.kill(os.getpid(), signal.SIGINT)


def interrupted(env, agent, decisions, **plan):
    """A run that was stopped, then left as a kill would have left it: rows beyond its last checkpoint, the last one
    torn."""
    run = jm.train(env, agent, display=Interrupting(decisions), **plan)
    assert run.status == "stopped"
    origin = json.loads((run.path / "origin.json").read_text())
    (run.path / "origin.json").write_text(json.dumps({**origin, "status": "running", "process": 0}))
    rows = (run.path / "episodes.csv").read_text().splitlines()
    with (run.path / "episodes.csv").open("a") as stream:
        stream.write(rows[-1] + "\n77,1")
    return jm.Run.open(run.path)


KINDS = {
    "table with a pilot": (Corridor(slip=0.3), jm.Sarsa(), {"lane": "plain", "copies": 3}),
    "table": (
        Corridor(slip=0.3).modified(jm.modifiers.StickyAction(0.2)),
        jm.QLearning(),
        {"lane": "compiled", "copies": 3},
    ),
    "modified": (Lift().modified(*AROUND), jm.QLearning(bins=4), {"lane": "plain", "copies": 2}),
    "modified, compiled": (Lift().modified(*AROUND), jm.QLearning(bins=4), {"lane": "compiled", "copies": 2}),
    "replay": (
        Lift(),
        jm.DQN(network=SLIM, replay_start=64, replay_size=512, prioritised=True),
        {"lane": "compiled", "copies": 4},
    ),
    "replay, plain": (
        Corridor(),
        jm.DQN(network=SLIM, replay_start=64, replay_size=512),
        {"lane": "plain", "copies": 2},
    ),
    "arrays": (Snowfield(), jm.PPO(network=SLIM, horizon=16), {"lane": "plain", "copies": 2}),
    "ranges": (
        jm.gallery.Winch(),
        jm.DDPG(network=SLIM, replay_start=64, replay_size=512),
        {"lane": "compiled", "copies": 2},
    ),
    "varied": (
        Corridor(slip=0.1),
        jm.QLearning(),
        {"lane": "plain", "copies": 2, "vary": {"slip": jm.between(0.0, 0.5)}},
    ),
    "climbing": (
        Lift(),
        jm.PPO(network=SLIM, horizon=16),
        {"lane": "compiled", "copies": 4, "curriculum": jm.Levels("rush", [0.1, 0.4], above=-60.0, last=5, at_least=5)},
    ),
}


@pytest.mark.slow
@pytest.mark.parametrize("kind", KINDS)
def test_a_run_that_goes_on_is_the_run_that_never_stopped(kind, tmp_path):
    env, agent, more = KINDS[kind]
    plan = {
        "steps": 600,
        "checkpoint_every": 150,
        "evaluate_every": 300,
        "evaluate_episodes": 2,
        "record_every": 5,
        "folder": tmp_path,
        **more,
    }
    wanted = content(jm.train(env, agent, **plan))
    repeated = interrupted(env, agent, 325, **plan)
    resumed = jm.resume(repeated)
    assert resumed.status == "done"
    assert content(resumed) == wanted
    assert 325 <= resumed.origin["resumed"][0]["at"] < 600


@pytest.mark.slow
def test_killed_at_random_moments_the_command_goes_on_to_the_same_bytes():
    """The short form of benchmarks/killed.py, which does this a hundred times."""
    result = benchmark("killed").tried("tables, plain", 2, 0.5, seed=random.Random(3).randrange(99))
    assert result["kills"] == 2
    assert result["equal"] == result["runs"] >= 1


def test_more_steps_keep_the_schedules_and_two_never_work_on_one_run(tmp_path):
    agent = jm.QLearning(exploration=jm.linear(1.0, 0.2, over=1.0))
    run = jm.train(Corridor(), agent, steps=600, folder=tmp_path, lane="plain")
    with pytest.raises(SettingError, match=r"is done. Say how much more, e.g. `steps=300`"):
        jm.resume(run)
    with (run.path / "episodes.csv").open("a") as stream:  # written after the last checkpoint, by a run that was killed
        stream.write("999,600,0,0.8,2,right_end,,1,2\n")
    more = jm.resume(run, steps=400)
    assert 999 not in more.episodes["episode"].tolist()
    assert more.origin["decisions"] == 1000
    assert more.readings["exploration"].iloc[-1] == pytest.approx(0.2)
    assert len(more.episodes["episode"]) == len(set(more.episodes["episode"]))
    repeated = jm.redo(more, folder=tmp_path / "again")
    assert repeated.same
    assert repeated.episodes == len(more.episodes)
    busy = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(30)"])
    try:
        (run.path / "origin.json").write_text(json.dumps({**more.origin, "status": "running", "process": busy.pid}))
        with pytest.raises(SettingError, match=rf"still running, in process {busy.pid}"):
            jm.resume(run.path)
    finally:
        busy.kill()
        busy.wait()  # until then it is still there
    with pytest.raises(SettingError, match="so say how many more by `steps`"):
        jm.resume(more, episodes=5)


HOLDING = """
import sys, time
from pathlib import Path
from jokulmist.records.lock import writing
with writing(Path(sys.argv[1])):
    print("held", flush=True)
    time.sleep(60)
"""


def test_a_run_has_one_writer_and_another_machine_is_asked_about(tmp_path):
    run = jm.train(Corridor(), jm.QLearning(), steps=600, folder=tmp_path, lane="plain")
    holder = subprocess.Popen([sys.executable, "-c", HOLDING, str(run.path)], stdout=subprocess.PIPE, text=True)
    try:
        assert holder.stdout.readline() == "held\n"
        stored = {file: file.read_bytes() for file in run.path.rglob("*") if file.is_file()}
        for _ in range(2):
            done = jokulmist("resume", run.path, "--steps", 100)
            assert done.returncode == 2
            assert f"is being trained by process {holder.pid} on " in done.stderr
        assert {file: file.read_bytes() for file in run.path.rglob("*") if file.is_file()} == stored
    finally:
        holder.kill()
        holder.wait()
    assert jm.resume(run, steps=100).origin["decisions"] == 700  # the lock went with its holder
    origin = json.loads((run.path / "origin.json").read_text())
    (run.path / "origin.json").write_text(json.dumps({**origin, "status": "running", "host": "elsewhere"}))
    with pytest.raises(SettingError, match=r"is being trained on 'elsewhere', as its record says.*`--take-over`"):
        jm.resume(run.path, steps=100)
    assert jm.resume(run.path, steps=100, take_over=True).origin["decisions"] == 800


def test_without_a_checkpoint_nothing_is_destroyed(tmp_path):
    run = jm.train(Corridor(), jm.QLearning(), steps=600, folder=tmp_path, lane="plain", checkpoint_every=200)
    wanted = content(run)
    for path in checkpoints_of(run.path):
        (path / "state.json").write_text("{")
    rows = (run.path / "episodes.csv").read_bytes()
    with pytest.raises(
        RecordError, match=r"no checkpoint can be read \(checkpoint 0+600 .*Episodes.csv and .*`--start-over`"
    ):
        jm.resume(run.path, steps=10)
    assert (run.path / "episodes.csv").read_bytes() == rows
    (run.path / "origin.json").write_text((run.path / "origin.json").read_text().replace('"done"', '"stopped"'))
    assert jokulmist("resume", run.path, "--start-over", "--json").returncode == 0
    assert (run.path / "before-001" / "episodes.csv").read_bytes() == rows
    assert content(jm.Run.open(run.path)) == wanted


def test_rows_are_never_appended_to_half_a_line(tmp_path):
    run = jm.train(Corridor(), jm.QLearning(), steps=300, folder=tmp_path, lane="plain")
    for _ in range(2):
        assert jokulmist("evaluate", run.path, "--episodes", 2, "--json").returncode == 0
        file = run.path / "evaluated.csv"
        file.write_bytes(file.read_bytes()[:-9])
    assert jokulmist("evaluate", run.path, "--episodes", 2, "--json").returncode == 0
    output = jm.Run.open(run.path).evaluated
    each = output.groupby("policy").size()
    assert each.sum() == 3 * 2 * len(each) - 2  # a row that was torn is gone each time, and no other
    assert output["return"].dtype == float


@pytest.mark.slow
def test_a_simulator_goes_on_with_new_episodes_and_says_so(tmp_path):
    first = interrupted(Drift(), jm.DQN(replay_start=32, replay_size=256), 200, steps=400, copies=2, folder=tmp_path)
    before = first.episodes[:-1]
    resumed = jm.resume(first)
    assert resumed.origin["decisions"] == 400
    output = {"also_held": object}  # all empty before, which reads as numbers
    pd.testing.assert_frame_equal(resumed.episodes[: len(before)].astype(output), before.astype(output))
    assert resumed.origin["resumed"][0]["new_episodes"]
    assert "a simulator's episodes cannot be resumed" in (first.path / "log.txt").read_text()


@pytest.mark.slow
def test_doing_a_run_again_uses_the_code_that_it_kept_and_tells_what_differs(tmp_path):
    file = tmp_path / "lane.py"
    text = (ROOT / "tests" / "places.py").read_text()
    file.write_text(text)
    plan = tmp_path / "plan.toml"
    plan.write_text(
        f'[environment]\nuse = "{file}:Corridor"\nslip = 0.2\n[agent]\nuse = "QLearning"\n[training]\nsteps = '
        '500\nlane = "plain"\n'
    )
    assert jokulmist("train", plan, "--folder", "runs", "--name", "one").returncode == 0
    file.write_text(text.replace("draw.bernoulli(self.slip)", "draw.bernoulli(1.0 - self.slip)"))
    done = jokulmist("redo", "runs/one", "--json")
    output = json.loads(done.stdout)
    assert done.returncode == 0, done.stderr
    assert output["same"]
    assert output["differs"] == {}
    stored = next((tmp_path / "runs/one/source").glob("*.py"))
    stored.write_text(file.read_text())
    origin = json.loads((tmp_path / "runs/one/origin.json").read_text())
    origin["versions"]["numpy"] = "1.0"
    (tmp_path / "runs/one/origin.json").write_text(json.dumps(origin))
    assert "was not trained on this machine by you" in jokulmist("redo", "runs/one").stderr
    done = jokulmist("redo", "runs/one", "--trust")
    assert done.returncode == 1
    assert "then they differ" in done.stdout
    assert "numpy was 1.0, and is" in done.stdout


@pytest.mark.slow
def test_a_run_ends_at_a_return_a_plateau_a_time_or_a_word(tmp_path):
    def enough(progress):
        return progress.episodes > 300

    for stop, why in (
        ({"mean_return": 0.7}, "reached 0.7"),
        ({"plateau": 1500}, "no new height for 1,500 decisions"),
        ({"minutes": 1e-4}, "minutes have passed"),
        (enough, "`enough` said so"),
    ):
        runs = [
            jm.train(Corridor(), jm.QLearning(), steps=40_000, lane="plain", stop_when=stop, folder=None)
            for _ in range(2)
        ]
        assert runs[0].status == "done"
        assert why in runs[0].origin["ended_by"]
        assert runs[0].origin["decisions"] < 40_000
        if "minutes" not in str(stop):
            assert runs[0].origin["decisions"] == runs[1].origin["decisions"]
    run = jm.train(Corridor(), jm.QLearning(), steps=9000, stop_when={"mean_return": 0.5}, folder=tmp_path)
    assert jm.Run.open(run.path).plan.training.stop_when.mean_return == 0.5
    assert jm.redo(run, folder=tmp_path / "again").same
    for wrong, output in (({}, "says nothing"), ({"mean": 1.0}, "has no setting `mean`"), (3, "takes a dict")):
        with pytest.raises(SettingError, match=output):
            jm.train(Corridor(), jm.QLearning(), steps=10, stop_when=wrong, folder=None)


@pytest.mark.slow
def test_the_newest_checkpoints_are_kept_with_their_replay_memory_and_the_best_policy(tmp_path):
    agent = jm.DQN(replay_start=64, replay_size=512, learning_rate=1e-2)
    run = jm.train(Corridor(), agent, steps=4000, copies=2, checkpoint_every=500, keep_checkpoints=2, folder=tmp_path)
    stored = checkpoints_of(run.path)
    names = [int(path.name) for path in stored]
    assert len(names) == 2
    assert 3500 <= names[0] < 3600 < names[1] < 4100
    assert [(path / "replay.safetensors").exists() for path in stored] == [True, True]
    assert run.best.decisions <= names[1]
    assert run.checkpoint(names[0]).decisions == names[0]
    assert run.checkpoint("best").decisions == run.best.decisions
    with pytest.raises(LookupFailed, match=rf"no checkpoint 77; there are `last`, `best`, `{names[0]}`, `{names[1]}`"):
        run.checkpoint(77)
    machine = pd.read_csv(run.path / "machine.csv")
    assert (machine["memory_megabytes"] > 50).all()


def test_checkpoints_come_after_seconds_then_at_growing_intervals(monkeypatch):
    current, stored = [0.0], []
    monkeypatch.setattr(observing.time, "perf_counter", lambda: current[0])

    def keep(loop):
        stored.append(current[0])
        current[0] += 1.0 if current[0] < 400.0 else 20.0  # what it takes

    checkpoints = observing.Checkpoints(None, 5.0, keep, observing.Cadence(1, 1))
    while current[0] < 3_000.0:
        current[0] += 0.5
        checkpoints.look(observing.Border(None, None, current[0], last=False, reported=False))
    assert stored == [5.5, 37.0, 98.5, 220.0, 461.5, 1082.0, 1702.5, 2323.0, 2943.5]


def test_a_run_that_was_stopped_at_its_end_evaluates_the_end_once(tmp_path):
    more = {"best_by": "evaluation", "evaluate_every": 100, "evaluate_episodes": 3, "checkpoint_every": 50}
    run = jm.train(Corridor(), jm.QLearning(), steps=250, copies=1, lane="plain", folder=tmp_path, **more)
    evaluated = (run.path / "evaluated.csv").read_text()
    origin = json.loads((run.path / "origin.json").read_text())
    (run.path / "origin.json").write_text(json.dumps({**origin, "status": "stopped"}))
    jm.resume(run.path)
    assert (run.path / "evaluated.csv").read_text() == evaluated


@pytest.mark.slow
@pytest.mark.parametrize("lane", ["plain", "compiled"])
def test_episodes_are_recorded_step_by_step_and_follow_from_each_other(lane, tmp_path):
    env = Lift(start=1.0)  # at a floor: nothing happens before the first decision
    run = jm.train(env, jm.PPO(horizon=16), steps=2400, copies=3, lane=lane, record_every=10, folder=tmp_path)
    frame = run.episodes.set_index("episode")
    recorded = run.rollouts
    assert len(recorded) >= 5
    for rollout in recorded:
        row = frame.loc[rollout.episode]
        assert (row["copy"], row["steps"], row["closed_by"]) == (0, rollout.steps, rollout.closed_by)
        assert rollout.total == pytest.approx(row["return"], rel=1e-5)
        assert rollout.table["come"].sum() == pytest.approx(row["come"], rel=1e-5)
        assert rollout.table["people"].iloc[-2] == pytest.approx(row["people"], rel=1e-5)
        assert jm.follow(rollout, env) < 1e-5
    best = jm.read_rollouts(run.path / "rollouts" / "best.parquet")[0]
    assert best.total == max(frame["return"][frame["copy"] == 0])
    assert jm.follow(best, Lift(rush=2.0, start=1.0)) > 0.01  # another environment does not follow
    assert set(best.table["action"].dropna()) <= {"down", "on", "up"}
    by_pandas = pd.read_parquet(run.path / "rollouts" / "best.parquet")
    assert len(by_pandas) == best.steps + 1


def test_an_evaluation_is_recorded_with_what_the_policy_said(tmp_path, trained):
    env = jm.gallery.Tarn()
    result = jm.evaluate(trained.policy, env, episodes=4, record=2)
    path = result.save_rollouts(tmp_path / "two.parquet", env, run="tarn")
    first, second = jm.read_rollouts(path)
    assert [first.total, second.total] == pytest.approx(result.returns[:2].tolist(), rel=1e-5)
    values = first.table[[f"value.{label}" for label in ("hold", "half", "full")]].iloc[:-1]
    chosen = [label.removeprefix("value.") for label in values.idxmax(axis=1)]
    assert chosen == first.table["action"].iloc[:-1].tolist()
    assert jm.follow(second, env) == 0.0
    with pytest.raises(SettingError, match="record=5"):
        jm.evaluate("random", env, episodes=2).save_rollouts(tmp_path / "none.parquet", env)


@pytest.mark.slow
def test_any_file_cut_at_any_byte_gives_what_is_whole_and_a_word_on_the_rest(tmp_path):
    agent = jm.DQN(replay_start=64, replay_size=128)
    run = jm.train(Corridor(), agent, steps=600, checkpoint_every=200, record_every=20, folder=tmp_path / "runs")
    chance = random.Random(5)
    files = sorted(path for path in run.path.rglob("*") if path.is_file() and path.suffix != ".png")
    for file in files:
        data = file.read_bytes()
        for position in {0, len(data) - 1, chance.randrange(len(data))}:
            file.write_bytes(data[:position])
            output = []
            for look in (
                lambda: jm.Run.open(run.path).episodes,
                lambda: jm.Run.open(run.path).readings,
                lambda: jm.Run.open(run.path).policy,
                lambda: jm.Run.open(run.path).rollouts,
                lambda: jm.Run.open(run.path).plan,
                lambda: jm.results.Runs([jm.Run.open(run.path)]).table,
            ):
                try:
                    look()
                except JokulmistError as word:  # anything else is a traceback
                    output.append(str(word))
            assert all(len(word) > 20 for word in output), (file, position, output)
            if file.parent.name == checkpoints_of(run.path)[-1].name or file.name.endswith((".csv", ".txt")):
                assert not output, (
                    file,
                    position,
                    output,
                )  # the checkpoint before, and the rows that are whole, are there
        file.write_bytes(data)


@pytest.mark.slow
def test_a_full_disk_ends_a_run_with_one_message_and_keeps_what_was_written(tmp_path):
    """A file system of one megabyte, or where none may be mounted, a limit on the size of files."""
    program = (
        "import resource, signal, jokulmist as jm\n"
        "signal.signal(signal.SIGXFSZ, signal.SIG_IGN)\n"
        "resource.setrlimit(resource.RLIMIT_FSIZE, (60_000, 60_000))\n"
        "try:\n"
        "    jm.train(jm.gallery.Ferry(), jm.RandomPlay(), steps=400_000, lane='plain', folder='runs', name='full')\n"
        "except jm.JokulmistError as told:\n"
        "    print('TOLD', told)\n"
    )
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True)
    assert done.stdout.startswith("TOLD cannot write runs/full/episodes.csv"), done.stdout + done.stderr
    assert "What was recorded" in done.stdout
    run = jm.Run.open("runs/full")
    assert len(run.episodes) > 500
    assert run.status in ("running", "failed")
    assert np.isfinite(run.episodes["return"]).all()


@pytest.mark.skipif(os.geteuid() == 0 and not Path("/proc/self/status").exists(), reason="root writes anywhere")
def test_a_folder_that_may_not_be_written_to_is_told_before_anything_is_trained(tmp_path):
    place = tmp_path / "taken"
    place.write_text("a file, where a folder should be")
    with pytest.raises(RecordError, match=r"cannot make a run's folder in .*taken.*--folder"):
        jm.train(Corridor(), jm.QLearning(), steps=10, folder=place)


WATCHER = """
from dataclasses import dataclass, field
import jokulmist as jm

@dataclass
class Watcher(jm.Observer):
    every: int | None = 50
    enough: int = 10**9
    at: list = field(default_factory=list)

    def look(self, run):
        self.at.append(run.progress.decisions)
        run.log(f"looked {len(self.at)} times; {run.policy().decisions} learned")
        return "that is enough" if run.progress.decisions >= self.enough else None

    def end(self, run):
        run.log(f"ends with {self.at}")

    def saved(self):
        return {"at": self.at}

    def restore(self, saved):
        self.at = list(saved["at"])

@dataclass
class Faulty(jm.Observer):
    def look(self, run):
        return 1 / 0
"""


def test_observers_look_when_they_are_due_end_a_run_and_go_on_with_it(tmp_path):
    from jokulmist.loading import module_of

    file = tmp_path / "watcher.py"
    file.write_text(WATCHER)
    module = module_of(str(file))
    plan = {"steps": 400, "copies": 2, "checkpoint_every": 50, "lane": "plain"}
    complete = jm.train(Corridor(), jm.QLearning(), folder=tmp_path / "a", observers=[module.Watcher()], **plan)
    log = (complete.path / "log.txt").read_text()
    assert "looked 8 times; 400 learned" in log
    assert f"ends with {list(range(50, 401, 50))}" in log
    assert complete.written_plan["observers"][0]["use"].endswith("watcher.py:Watcher")
    ended = jm.train(Corridor(), jm.QLearning(), folder=None, observers=[module.Watcher(enough=120)], **plan)
    assert (ended.origin["decisions"], ended.origin["ended_by"]) == (150, "that is enough")
    parts = interrupted(Corridor(), jm.QLearning(), 200, folder=tmp_path / "b", observers=[module.Watcher()], **plan)
    file.unlink()  # what the run keeps is enough
    assert f"ends with {list(range(50, 401, 50))}" in (jm.resume(parts).path / "log.txt").read_text()
    with pytest.raises(BrokenEnvironment, match=r"`Faulty.look` failed: ZeroDivisionError: division by zero"):
        jm.train(Corridor(), jm.QLearning(), folder=tmp_path / "c", name="faulty", observers=[module.Faulty()], **plan)
    assert jm.Run.open(tmp_path / "c" / "faulty").origin["decisions"] > 0  # nothing was lost
    for wrong, match in (
        ([3], "derive from `jm.Observer`"),
        ([module.Watcher(every=0)], "counts decisions, from 1"),
    ):
        with pytest.raises(SettingError, match=match):
            jm.train(Corridor(), jm.QLearning(), steps=10, folder=None, observers=wrong)
