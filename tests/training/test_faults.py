"""What the system, a signal or a damaged file does to a command: one message, and nothing is lost."""

import json
import os
import shutil
import signal

import numpy as np
import pytest
from commands import jokulmist
from places import Corridor

import jokulmist as jm
from jokulmist.errors import LookupFailed, RecordError, SettingError
from jokulmist.plans.progress import SilentDisplay
from jokulmist.records import run_folder, tables
from jokulmist.running.redo import redo


@pytest.fixture
def run(tmp_path):
    return jm.train(Corridor(), jm.QLearning(), steps=4_000, copies=2, lane="plain", folder=tmp_path, name="one")


class StopsEarly(SilentDisplay):
    """Somebody presses Ctrl-C when it is half-way."""

    def update(self, progress):
        if progress.share > 0.5:
            os.kill(os.getpid(), signal.SIGINT)


@pytest.mark.slow
def test_a_redo_that_is_stopped_says_how_far_it_was_the_same(run, tmp_path, monkeypatch):
    output = redo(run, folder=tmp_path, display=StopsEarly())
    assert output.stopped
    assert output.same
    assert 0 < output.episodes < len(run.episodes)
    assert f"it was stopped; the {output.episodes:,} episodes until then are the same" in str(output)
    monkeypatch.setattr("jokulmist.plans.progress.LiveLine", StopsEarly)
    status, reply = jokulmist("redo", run.path, "--folder", tmp_path)[:2]
    assert status == 130
    assert "until then are the same" in reply
    complete = redo(run, folder=tmp_path)
    assert (complete.same, complete.stopped, complete.episodes) == (True, False, len(run.episodes))


def test_what_was_measured_is_told_where_it_cannot_be_kept(run, monkeypatch):
    def refused(path, columns):
        raise RecordError(f"cannot write {path}: Read-only file system.")

    monkeypatch.setattr(tables, "append_rows", refused)
    status, reply, err = jokulmist("evaluate", run.path, "--episodes", 3)
    assert status == 1
    assert "3 episodes, seed 0" in reply
    assert "mean_return" in reply or "random" in reply
    assert "Read-only file system" in err


def test_a_run_that_cannot_write_its_first_episode_leaves_no_folder(tmp_path, monkeypatch):
    def full(path, *more):
        raise RecordError(f"cannot write {path}: No space left on device.")

    for name in ("append_rows", "write_json", "replace_file"):
        with monkeypatch.context() as patched:
            patched.setattr(run_folder, name, full)
            if name == "append_rows":  # its last checkpoint and the record of its end are refused, too
                patched.setattr("jokulmist.running.session.session.save_checkpoint", full)
                kept = run_folder.write_json
                patched.setattr(
                    run_folder,
                    "write_json",
                    lambda p, c, kept=kept: kept(p, c) if c["status"] == "running" else full(p),
                )
            with pytest.raises(RecordError, match="No space left"):
                jm.train(Corridor(), jm.QLearning(), steps=4_000, lane="plain", folder=tmp_path, name="case")
        assert not (tmp_path / "case").exists(), name


def test_an_environment_whose_episodes_cannot_close_is_refused():
    class Open(jm.Environment):
        class State(jm.State):
            place: float = jm.seen(low=0.0, high=1.0)

        action = jm.Choice(2)

        def begin(self, draw):
            return self.State(place=0.5)

        def advance(self, state, action, draw):
            return state

        @jm.reward
        def nothing(self, after):
            return after.place

    with pytest.raises(SettingError, match=r"`Open` declares no ending.*Add `time_limit = 1000`"):
        jm.train(Open(), jm.QLearning(), steps=100, lane="plain", folder=None)


def test_a_damaged_search_is_told_by_file_and_entry(tmp_path):
    result = jm.tune(
        Corridor(),
        jm.QLearning(),
        over={"agent.learning_rate": jm.among(0.1, 0.5)},
        candidates=2,
        steps=400,
        again=0,
        workers=1,
        lane="plain",
        folder=tmp_path,
        name="search",
    )
    file = result.path / "search.json"
    complete = json.loads(file.read_text())
    for change, expected in (
        (lambda told: told["candidates"][0].update(decisions="many"), r"`candidates.0.decisions` is 'many'"),
        (lambda told: told.update(candidates=3), "`candidates` is 3"),
        (lambda told: told["candidates"][1].update(number=7), "a candidate is named that it does not hold"),
        (lambda told: told.update(winner=9), "a candidate is named that it does not hold"),
        (
            lambda told: told["candidates"][0]["runs"].update({"0": "../../elsewhere"}),
            "is no folder of a run of this search",
        ),
    ):
        told = json.loads(json.dumps(complete))
        change(told)
        file.write_text(json.dumps(told))
        with pytest.raises(RecordError, match=expected):
            jm.Search.open(result.path)
    file.write_text(json.dumps(complete))
    (result.path / "plan.toml").write_text((result.path / "plan.toml").read_text().partition("[tuning]")[0])
    with pytest.raises(RecordError, match=r"has no section `\[tuning\]`"):
        jm.Search.open(result.path)


@pytest.mark.slow
def test_one_recorded_episode_is_read_alone(tmp_path):
    run = jm.train(Corridor(), jm.QLearning(), steps=2_000, lane="plain", record_every=3, folder=tmp_path)
    every = run.rollouts
    item = jm.read_rollouts(run.path / "rollouts", every[2].episode)
    assert [rollout.episode for rollout in item] == [every[2].episode]
    np.testing.assert_array_equal(item[0].table["reward"], every[2].table["reward"])
    with pytest.raises(LookupFailed, match=r"holds no episode 999999; it holds .* more"):
        jm.read_rollouts(run.path / "rollouts", 999_999)


def test_who_writes_is_alive_whatever_the_clock_says(run):
    from jokulmist.records.run_index import rows_in

    shutil.copytree(run.path, run.path.parent / "two")
    origin = {**run.origin, "status": "running", "process": 1}
    (run.path.parent / "two" / "origin.json").write_text(json.dumps(origin))
    os.utime(run.path.parent / "two" / "origin.json", (1.0, 1.0))  # as a clock that jumped leaves it
    assert {row["run"]: row["status"].split()[0] for row in rows_in(run.path.parent)[0]}["two"] == "killed"
    holding = os.open(run.path.parent / "two" / ".lock", os.O_RDWR | os.O_CREAT)
    import fcntl

    fcntl.flock(holding, fcntl.LOCK_EX)
    assert {row["run"]: row["status"].split()[0] for row in rows_in(run.path.parent)[0]}["two"] == "running"
    os.close(holding)


def test_a_part_of_python_itself_is_no_function_of_a_plan(tmp_path):
    for named in ("os:system", "math:sqrt"):
        with pytest.raises(SettingError, match=f"'{named}' names a part of Python itself"):
            jm.DQN(network=named)
    (tmp_path / "random.py").write_text("def network(channels, outputs, key):\n    raise RuntimeError('not today')\n")
    with pytest.raises(SettingError, match=r"the function `.*random.py:network` failed: RuntimeError: not today"):
        jm.train(Corridor(), jm.DQN(network="random.py:network"), steps=2_000, lane="plain", folder=None)
