"""A run is a folder of open formats: complete, readable while torn, and never shared by two trainings."""

import json
import threading
import tomllib

import numpy as np
import pytest
from places import Corridor

import jokulmist as jm
from jokulmist.errors import LookupFailed, RecordError, RunNotice, SettingError
from jokulmist.plans.plan import plan_of, read_plan
from jokulmist.records.checkpoints import open_arrays, save_arrays
from jokulmist.records.files import replace_file
from jokulmist.records.run_folder import take_folder
from jokulmist.records.tables import csv_lines, read_frame
from jokulmist.running.runs.run import runs_in
from jokulmist.trees import filled, flattened


def test_a_runs_folder_is_whole(trained):
    plan = tomllib.loads((trained.path / "plan.toml").read_text())
    assert plan["environment"] == {"use": "tarn", "capacity": 25.0, "melt": 1.6, "hours": 96}
    assert plan["agent"]["learning_rate"] == {"linear": [0.5, 0.05], "over": 1.0}
    assert plan["training"]["steps"] == 30_000
    origin = json.loads((trained.path / "origin.json").read_text())
    assert {"command", "versions", "host", "seed", "began", "python", "revision", "clean"} <= set(origin)
    assert (origin["status"], origin["decisions"], origin["lane"]) == ("done", 30_000, "compiled")
    assert origin["versions"]["numpy"] == np.__version__
    frame = trained.episodes
    assert list(frame.columns) == [
        "episode",
        "decisions",
        "copy",
        "return",
        "steps",
        "closed_by",
        "also_held",
        "sales",
        "flooding",
        "energy",
        "highest_level",
    ]
    assert frame["episode"].tolist() == list(range(len(frame)))
    assert {"decisions", "return_last_100", "error", "exploration", "learning_rate", "steps_per_second"} <= set(
        trained.readings
    )
    assert (trained.path / "source" / "tarn.py").read_text().startswith('"""A tarn')
    assert "done after 30000 decisions" in (trained.path / "log.txt").read_text()
    assert not list(trained.path.rglob("*.part"))


def test_a_run_opens_again_as_it_was(trained):
    opened = jm.Run.open(trained.path)
    assert opened.episodes.equals(trained.episodes)
    assert opened.plan.environment == trained.plan.environment
    assert opened.plan.agent == trained.plan.agent
    assert np.array_equal(opened.policy.learner.values, trained.policy.learner.values)
    assert repr(opened) == f"<run {trained.path.name}: done>"
    assert [run.name for run in runs_in(trained.path.parent)] == [trained.path.name]


@pytest.mark.parametrize("cut", [1, 20, 300, 10_000_000])
def test_a_torn_last_line_is_left_out(trained, tmp_path, cut):
    complete = (trained.path / "episodes.csv").read_bytes()
    torn = tmp_path / "episodes.csv"
    torn.write_bytes(complete[: max(0, len(complete) - cut)])
    frame = read_frame(torn)
    assert len(frame) == max(0, torn.read_bytes().count(b"\n") - 1)
    if len(frame):
        assert frame.equals(trained.episodes.head(len(frame)))
    assert read_frame(tmp_path / "none.csv").empty


def test_rows_that_are_damaged_are_left_out_and_told(trained, tmp_path):
    lines = (trained.path / "episodes.csv").read_bytes().splitlines(keepends=True)
    damaged = tmp_path / "episodes.csv"
    for change in (b"ice,", b""):  # a word for the episode's number, and a number too few
        damaged.write_bytes(b"".join([*lines[:3], change + lines[3].partition(b",")[2], *lines[4:9]]))
        with pytest.warns(RunNotice, match="1 rows hold something else than numbers, the first in line 4"):
            frame = read_frame(damaged)
        assert frame.equals(trained.episodes.head(8).drop(index=2).reset_index(drop=True))
    damaged.write_bytes(b"".join([b"return," + lines[0], *lines[1:4]]))
    with pytest.raises(RecordError, match="two of its columns have one name"):
        read_frame(damaged)


def test_a_run_without_a_checkpoint_says_so(trained, tmp_path):
    import shutil

    copy = tmp_path / "copy"
    shutil.copytree(trained.path, copy)
    for state in (copy / "checkpoints").glob("*/state.json"):  # on a slow machine there are several
        state.unlink()
    with pytest.raises(RecordError, match="has no checkpoint"):
        _ = jm.Run.open(copy).policy
    with pytest.raises(LookupFailed, match="there is no run"):
        jm.Run.open(tmp_path / "none")
    with pytest.raises(LookupFailed, match=r"is no run: it has no plan.toml"):
        jm.Run.open(tmp_path)
    (copy / "origin.json").write_text("{")
    with pytest.raises(RecordError, match=r"cannot read .*origin.json"):
        jm.Run.open(copy)


def test_two_trainings_at_once_never_take_the_same_folder(tmp_path):
    chosen, barrier = [], threading.Barrier(8)

    def take():
        barrier.wait()
        chosen.append(take_folder(tmp_path / "runs", None, "tarn-qlearning"))

    threads = [threading.Thread(target=take) for _ in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(path.name for path in chosen) == [f"tarn-qlearning-{i:03d}" for i in range(1, 9)]


def test_a_folder_that_cannot_be_written_is_told(tmp_path):
    (tmp_path / "file").write_text("")
    with pytest.raises(RecordError, match=r"cannot make a run's folder in .*--folder"):
        jm.train(Corridor(), jm.RandomPlay(), steps=5, lane="plain", folder=tmp_path / "file" / "runs")
    with pytest.raises(RecordError, match="cannot write"):
        replace_file(tmp_path / "none" / "x.json", "{}")


def test_numbers_in_csv_are_short_and_come_back_exactly():
    values = np.array([0.1, 1 / 3, 1e-30, 3.4e38, -0.0], np.float32)
    text = csv_lines({"x": values, "name": np.array(["a", "", "b", "c", "d"], object)}, header=True).decode()
    assert text.splitlines()[1] == "0.1,a"
    assert np.array([line.split(",")[0] for line in text.splitlines()[1:]], np.float32).tolist() == values.tolist()


def test_arrays_go_to_disk_and_back_by_name(tmp_path):
    tree = {
        "layers": [np.arange(6, dtype=np.float32).reshape(2, 3), np.array(7)],
        "empty": None,
        "pair": (np.ones(2), np.zeros((0, 3))),
    }
    save_arrays(tmp_path / "a.safetensors", tree, {"note": "ä"})
    arrays, metadata = open_arrays(tmp_path / "a.safetensors")
    assert metadata == {"note": "ä"}
    assert sorted(arrays) == ["layers/0", "layers/1", "pair/0", "pair/1"]
    back = filled(tree, arrays)
    assert flattened(back).keys() == flattened(tree).keys()
    assert all(np.array_equal(v, flattened(back)[k]) for k, v in flattened(tree).items())
    with pytest.raises(RecordError, match=r"the shape \(2, 3\); this agent needs \(3,\)"):
        filled({"layers": [np.zeros(3)]}, arrays)
    with pytest.raises(RecordError, match="lacks `more`"):
        filled({"more": np.zeros(1)}, arrays)


PLAN = """
[environment]
use = "tarn"
melt = 2.0
weights = { flooding = -5.0 }
[agent]
use = "Sarsa"
exploration = { geometric = [1.0], rate = 0.99, of = "episodes", floor = 0.05 }
[training]
steps = 1_000
seed = 3
"""


def test_a_plan_is_read_changed_and_written_as_it_was(tmp_path):
    path = tmp_path / "plan.toml"
    path.write_text(PLAN)
    plan = read_plan(
        path, ["agent.bins=7", "training.copies=2", "environment.weights.flooding=-1.5", "training.episodes=9"]
    )
    assert plan.agent == jm.Sarsa(bins=7, exploration=jm.geometric(1.0, rate=0.99, of="episodes", floor=0.05))
    assert plan.environment == jm.gallery.Tarn(melt=2.0, weights={"flooding": -1.5})
    assert (plan.training.seeds, plan.training.copies, plan.training.steps, plan.training.episodes) == (
        (3,),
        2,
        None,
        9,
    )
    repeated = plan_of(plan.written())
    assert (repeated.environment, repeated.agent, repeated.training) == (plan.environment, plan.agent, plan.training)


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (('use = "tarn"', 'use = "tran"'), "no environment `tran`.*Did you mean `tarn`"),
        (('use = "Sarsa"', 'use = "Sarsy"'), "no method `Sarsy`.*Did you mean `Sarsa`"),
        (("melt = 2.0", "melt = 9.0"), r"`Tarn.melt` must lie in \[0, 4\]; got 9.0"),
        (("steps = 1_000", "stepz = 1_000"), "`training` has no setting `stepz`.*Did you mean `steps`"),
        (("[training]", "[trainign]"), "no section `trainign`.*Did you mean `training`"),
        (("[agent]\nuse", "[agent]\nuses"), r"`\[agent\]` does not say what to use"),
        (("steps = 1_000", "steps = "), "is not valid TOML: .*line 10"),
        (("seed = 3", "seed = 3\nseeds = [1]"), "has both `seed` and `seeds`"),
        (("rate = 0.99", "rates = 0.99"), "a number or a schedule"),
    ],
)
def test_a_wrong_plan_says_where_and_the_mend(tmp_path, change, message):
    path = tmp_path / "plan.toml"
    path.write_text(PLAN.replace(*change))
    with pytest.raises((SettingError, LookupFailed), match=message) as raised:
        read_plan(path)
    assert str(path) in str(raised.value)


@pytest.mark.parametrize("change", ["agent", "agent.bins", "agnet.bins=3", "=3", "agent.bins.x.y=1=2"])
def test_a_wrong_change_of_a_plan_is_refused(tmp_path, change):
    path = tmp_path / "plan.toml"
    path.write_text(PLAN)
    with pytest.raises(SettingError):
        read_plan(path, [change])
