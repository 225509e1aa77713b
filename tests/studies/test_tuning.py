"""Searches that train: in worker processes, killed and resumed, on a cluster, with candidates that fail."""

import copy
import json
import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from commands import jokulmist
from places import Corridor

import jokulmist as jm
from jokulmist.errors import LookupFailed, RecordError, SettingError
from jokulmist.plans.plan import plan_of
from jokulmist.records.files import read_json, read_toml
from jokulmist.studies.search.candidates import Board

OVER = {"agent.learning_rate": jm.between(0.01, 1.0, scale="log"), "agent.exploration": jm.among(0.1, 0.3)}
SHARED = Path(__file__).parent.parent / "places.py"


def tuned(folder, **more):
    options = {
        "over": OVER,
        "steps": 600,
        "candidates": 5,
        "again": 2,
        "workers": 1,
        "lane": "plain",
        "folder": folder,
        **more,
    }
    return jm.tune(Corridor(slip=0.1), jm.QLearning(), **options)


@pytest.fixture(scope="module")
def search(tmp_path_factory):
    """A search of 12 candidates."""
    return tuned(tmp_path_factory.mktemp("searches"), candidates=12, workers=1, seeds=[0, 1])


@pytest.mark.slow
def test_every_candidate_is_a_run_that_comes_out_the_same_alone(search, tmp_path):
    assert search.status == "done"
    assert len(search.runs) == 12 * 2 + 2
    table = search.table
    assert table["score"].is_monotonic_decreasing
    best = search.board.candidates[search.board.winner]
    assert search.settings == best.settings
    assert search.score == table["score"][0]
    for seed, name in best.runs.items():
        run = jm.Run.open(search.path / name)
        alone = jm.train(run.environment, run.plan.agent, steps=600, seed=int(seed), folder=tmp_path, lane="plain")
        assert (alone.path / "episodes.csv").read_bytes() == (run.path / "episodes.csv").read_bytes()
        assert best.scores["0"][seed] == pytest.approx(alone.mean_return(), rel=1e-6)


@pytest.mark.slow
def test_the_winner_is_run_again_on_new_seeds_and_its_plan_trains(search):
    mean, low, high = search.score_again
    assert [run.seed for run in search.winner_runs] == [1001, 1002]
    assert mean == pytest.approx(np.mean([run.mean_return() for run in search.winner_runs]), rel=1e-6)
    assert low <= mean <= high
    plan = plan_of(read_toml(search.path / "winner.toml"), search.path)
    assert {f"agent.{name}": getattr(plan.agent, name) for name in ("learning_rate", "exploration")} == search.settings
    assert plan.training.seeds == (0, 1)


@pytest.mark.slow
def test_what_stands_in_the_folder_opens_again(search):
    repeated = jm.Search.open(search.path)
    assert repeated.status == "done"
    assert repeated.rows() == search.rows()
    assert repeated.settings == search.settings
    assert pd.read_csv(search.path / "candidates.csv")["candidate"].tolist() == search.table["candidate"].tolist()
    pictures = repeated.save_pictures()
    assert [path.name for path in pictures] == ["search.png", "slices.png", "parallel.png"]
    assert all(path.read_bytes()[:4] == b"\x89PNG" for path in pictures)
    assert set(repeated.importance.table["setting"]) == set(OVER)
    compared = jm.compare(repeated.runs, by="learning_rate", score="return")
    assert len(compared.table) >= 5
    with pytest.raises(LookupFailed, match=r"is no search: it has no search.json"):
        jm.Search.open(search.path.parent)


@pytest.mark.slow
def test_settings_that_a_search_does_not_give_are_told(search, tmp_path):
    forged = shutil.copytree(search.path, tmp_path / "forged")
    complete = json.loads((forged / "search.json").read_text())
    name = next(iter(complete["candidates"][1]["settings"]))
    for value in ("many", 10**30, True, None):
        output = copy.deepcopy(complete)
        output["candidates"][1]["settings"][name] = value
        (forged / "search.json").write_text(json.dumps(output))
        with pytest.raises(
            RecordError, match=f"search.json: candidate 1 has `{name}` = .*, which this search does not give"
        ):
            jm.Search.open(forged)


@pytest.mark.slow
def test_going_on_with_a_search_that_is_done_trains_nothing(search):
    before = {run.path: (run.path / "origin.json").stat().st_mtime for run in search.runs}
    repeated = jm.Search.open(search.path).resume(workers=1)
    assert repeated.rows() == search.rows()
    assert {run.path: (run.path / "origin.json").stat().st_mtime for run in repeated.runs} == before


@pytest.mark.slow
def test_a_promoted_candidate_is_the_run_that_was_never_halted(tmp_path):
    search = tuned(tmp_path, method="halving", candidates=6, steps=900, again=0)
    top = next(c for c in search.board.candidates if "0" in c.scores)
    assert set(top.scores) == {"100", "300", "0"}
    run = jm.Run.open(tmp_path / search.path.name / top.runs["0"])
    assert [instalment["at"] for instalment in run.origin["resumed"]] == [100, 300]
    alone = jm.train(run.environment, run.plan.agent, steps=900, seed=0, folder=tmp_path / "alone", lane="plain")
    assert (alone.path / "episodes.csv").read_bytes() == (run.path / "episodes.csv").read_bytes()
    halted = jm.Run.open(search.path / next(c for c in search.board.candidates if "300" not in c.scores).runs["0"])
    assert (halted.status, halted.origin["decisions"]) == ("stopped", 100)


@pytest.mark.slow
def test_a_population_copies_the_best_and_goes_on_with_other_settings(tmp_path):
    space = {
        "agent.learning_rate": jm.between(1e-6, 1.0, scale="log"),
        "environment.weights.effort": jm.between(-0.2, 0.0),
    }
    call = {"over": space, "method": "population", "candidates": 6, "looks": 4, "steps": 800, "score": "evaluation"}
    search = tuned(tmp_path / "one", **call)
    copied = [c for c in search.board.candidates if c.history]
    assert copied
    for member in copied:
        last = member.history[-1]
        assert last["settings"] != member.settings
        (name,) = member.runs.values()
        run = jm.Run.open(search.path / name)
        assert run.plan.agent.learning_rate == member.settings["agent.learning_rate"]
        assert run.origin["descends"][-1]["after"] == last["until"]
        assert run.origin["decisions"] == 800
        donor = next((search.path).glob(f"{run.origin['descends'][-1]['from']}/episodes.csv")).read_bytes()
        first = (run.path / "episodes.csv").read_bytes()
        rows = [
            line
            for line in donor.splitlines()
            if not line.startswith(b"episode") and int(line.split(b",")[1]) <= last["until"]
        ]
        assert all(row in first.splitlines() for row in rows)
        assert not first.startswith(donor) or donor.count(b"\n") == len(rows) + 1
    assert all(len(c.scores) == 4 for c in search.board.candidates)
    # All members are compared at the same looks, so the number of workers changes nothing.
    twice = tuned(tmp_path / "two", **{**call, "workers": 2})
    assert [(c.settings, c.scores) for c in twice.board.candidates] == [
        (c.settings, c.scores) for c in search.board.candidates
    ]
    with pytest.raises(SettingError, match="one run a member"):
        tuned(tmp_path, **{**call, "seeds": [0, 1]})
    redone = jm.Run.open(search.path / next(iter(copied[0].runs.values())))
    with pytest.raises(SettingError, match=r"was copied from .* while it trained"):
        jm.redo(redone, folder=tmp_path)


MINE = """
import os, time
import jokulmist as jm
from places import Corridor

class Slow(Corridor):
    'Each advance takes a while, and some parameters break it.'
    pause: float = jm.parameter(0.0, low=0.0, high=1.0)
    trap: int = jm.parameter(0, low=0, high=3, fixed=True)

    def advance(self, state, action, draw):
        if self.pause:
            time.sleep(float(self.pause))
        if self.trap == 1:
            raise ValueError("the tide gauge is stuck")
        if self.trap == 2:
            os.kill(os.getpid(), 9)
        return super().advance(state, action, draw)

    @jm.reward
    def bonus(self, after):
        return float("nan") if self.trap == 3 else 0.0
"""


@pytest.fixture
def mine(tmp_path, monkeypatch):
    """A module of one's own that worker processes can import."""
    (tmp_path / "slow_place.py").write_text(MINE)
    monkeypatch.setenv("PYTHONPATH", os.pathsep.join([str(tmp_path), str(SHARED.parent)]))
    monkeypatch.syspath_prepend(str(tmp_path))
    import slow_place

    yield slow_place
    del sys.modules["slow_place"]


@pytest.mark.slow
@pytest.mark.parametrize("workers", [1, 2])
def test_candidates_that_fail_are_recorded_and_the_search_goes_on(mine, tmp_path, workers):
    traps = (0, 1, 3) if workers == 1 else (0, 1, 2, 3)  # a process that kills itself needs another to tell
    search = jm.tune(
        mine.Slow(),
        jm.QLearning(),
        over={"environment.trap": jm.among(*traps)},
        method="grid",
        steps=300,
        again=1,
        workers=workers,
        lane="plain",
        folder=tmp_path,
    )
    result = {c.settings["environment.trap"]: c for c in search.board.candidates}
    assert result[0].status == "open"
    assert "the tide gauge is stuck" in result[1].message
    assert "nan" in result[3].message
    if workers == 2:
        assert "died (signal 9, SIGKILL; the system does that where memory runs out)" in result[2].message
    assert search.status == "done"
    assert search.settings == {"environment.trap": 0}
    assert search.table["status"].tolist().count("failed") == len(traps) - 1


@pytest.mark.slow
def test_a_run_whose_worker_was_killed_is_gone_on_with(mine, tmp_path):
    from jokulmist.plans.plan import Plan, Training
    from jokulmist.running.workers.jobs import WorkerJob
    from jokulmist.running.workers.pool import WorkerPool

    plan = Plan(mine.Slow(pause=0.001), jm.QLearning(), Training(steps=1200, checkpoint_every=100, lane="plain"))
    alone = jm.train(
        plan.environment, plan.agent, steps=1200, checkpoint_every=100, lane="plain", folder=tmp_path / "alone"
    )
    worker_pool = WorkerPool(1, plan.written(), tries=2)
    job = WorkerJob(plan.written(), 0, str(tmp_path / "run"), [], None, {"by": "return"})
    try:
        worker_pool.give("early", job)
        worker_pool.stop()  # before its first decision
        while (worker_message := worker_pool.receive(0.2)) is None or worker_message.kind == "say":
            pass
        assert (worker_message.tag, worker_message.kind) == ("early", "done")
        assert "score" not in worker_message.result
        worker_pool.give("it", job)
        while worker_message is None or worker_message.progress is None or worker_message.progress.decisions < 200:
            worker_message = worker_pool.receive(0.05)
        os.kill(worker_pool.processes[0], signal.SIGKILL)
        reply, worker_message = [], None
        while worker_message is None or worker_message.kind not in ("done", "failed"):
            worker_message = worker_pool.receive(0.2)
            reply += [worker_message.text] if worker_message is not None and worker_message.kind == "say" else []
    finally:
        worker_pool.close()
    assert worker_message.kind == "done"
    assert any("is tried again" in text for text in reply)
    assert worker_message.result["score"] == pytest.approx(alone.mean_return(), rel=1e-6)
    assert (tmp_path / "run" / "episodes.csv").read_bytes() == (alone.path / "episodes.csv").read_bytes()


PLAN = """
[environment]
use = "slow_place:Slow"
pause = {pause}

[agent]
use = "QLearning"

[training]
steps = 400
lane = "plain"
checkpoint_every = 100

[tuning]
method = "{method}"
candidates = 8
again = 2

[tuning.over]
"agent.learning_rate" = {{ between = [0.01, 1.0], scale = "log" }}
"agent.exploration" = {{ among = [0.1, 0.3] }}
"""


def command(*words, folder):
    return [sys.executable, "-m", "jokulmist", *map(str, words)], {
        "cwd": folder,
        "text": True,
        "stdout": -1,
        "stderr": -1,
    }


@pytest.mark.slow
@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGINT])
def test_a_search_that_was_killed_or_stopped_goes_on_to_the_same_end(mine, tmp_path, how):
    (tmp_path / "plan.toml").write_text(PLAN.format(pause=0.003, method="halving"))
    words, ways = command("tune", "plan.toml", "--workers", 2, "--name", "torn", "--json", folder=tmp_path)
    process = subprocess.Popen(words, **ways)
    place = tmp_path / "runs" / "torn" / "search.json"
    began = time.monotonic()
    while not place.exists() or sum(map(bool, (c["scores"] for c in read_json(place)["candidates"]))) < 2:
        assert time.monotonic() - began < 200, process.communicate()
        time.sleep(0.05)
    process.send_signal(how)
    process.communicate(timeout=240)
    assert process.returncode == (-9 if how == signal.SIGKILL else 130)
    board = Board.open(place.parent)
    assert board.winner is None
    repeated, ways = command("resume", "runs/torn", "--workers", 2, "--json", folder=tmp_path)
    done = subprocess.run(repeated, **ways, timeout=280, check=False)
    assert done.returncode == 0, done.stderr
    output = json.loads(done.stdout)
    assert output["status"] == "done"
    assert output["winner"]["new_seeds"] == 2
    # Of a grid or a random search nothing depends on time; of halving who was promoted may. Each candidate's scores do
    # not.
    complete = jm.tune(
        mine.Slow(pause=0.001),
        jm.QLearning(),
        over=OVER,
        method="halving",
        candidates=8,
        steps=400,
        again=0,
        workers=1,
        lane="plain",
        checkpoint_every=100,
        folder=tmp_path / "whole",
    )
    first, second = Board.open(place.parent).candidates, complete.board.candidates
    assert [c.settings for c in first] == [c.settings for c in second]
    for candidate, repeated in zip(first, second, strict=True):
        for until in set(candidate.scores) & set(repeated.scores):
            assert candidate.scores[until] == pytest.approx(repeated.scores[until], rel=1e-6)


@pytest.mark.slow
def test_the_commands_tell_a_search_and_forecast_it(mine, tmp_path):
    (tmp_path / "plan.toml").write_text(PLAN.format(pause=0.0, method="random"))
    dry = jokulmist("tune", "plan.toml", "--dry", "--json", folder=tmp_path)
    output = json.loads(dry.stdout)
    assert output["whole_runs_worth"] == 10.0
    assert output["compiling_seconds"] >= 0.0
    assert not (tmp_path / "runs").exists()
    changed = ("--set", "tuning.candidates=11", "--set", "training.steps=100")
    done = jokulmist("tune", "plan.toml", *changed, "--workers", 1, folder=tmp_path)
    assert done.returncode == 0, done.stderr
    for text in (
        "The winner is candidate",
        "the best of 11 (1 seed), optimistic: it is the best of many",
        "on 2 new seeds",
        "What mattered, of 11 candidates",
    ):
        assert text in done.stdout
    assert "candidates scored" in done.stderr
    folder = next((tmp_path / "runs").iterdir())
    assert folder.name == "slow-qlearning-search-001"
    bad = tmp_path / "bad.toml"
    bad.write_text((tmp_path / "plan.toml").read_text().partition("[tuning]")[0])
    wrong = jokulmist("tune", "bad.toml", folder=tmp_path)
    assert (wrong.returncode, "Traceback" in wrong.stderr) == (2, False)
    assert "bad.toml has no section `[tuning]`" in wrong.stderr


def test_wrong_words_are_told_and_a_plan_with_a_search_can_be_trained(mine, tmp_path, monkeypatch):
    from typer.testing import CliRunner

    from jokulmist.command.main import app
    from jokulmist.plans.plan import read_plan
    from jokulmist.running.workers import dask_cluster as cluster

    monkeypatch.setattr(cluster, "SECONDS_TO_CONNECT", 1)
    (tmp_path / "plan.toml").write_text(PLAN.format(pause=0.0, method="random"))
    assert read_plan(tmp_path / "plan.toml").training.steps == 400  # how to search is no part of a run
    for words, expected in (
        (["tune", "plan.toml", "--set", "tuning.method=luck"], "`method` of `tuning`"),
        (["tune", "plan.toml", "--set", "tuning.candidats=3"], "has no setting `candidats`"),
        (["tune", "plan.toml", "--cluster", "tcp://127.0.0.1:9"], "no Dask scheduler answers at tcp://127.0.0.1:9"),
    ):
        wrong = CliRunner().invoke(app, words)
        assert expected in str(wrong.exception)
    folder = next((tmp_path / "runs").glob("*search*"))
    wrong = CliRunner().invoke(app, ["resume", str(folder), "--steps", "10"])
    assert "`--steps` and `--episodes` are for a run" in str(wrong.exception)


@pytest.fixture
def cluster(tmp_path, mine):
    """A scheduler and two workers, each a process of its own on this machine."""
    pytest.importorskip("distributed")
    file = tmp_path / "scheduler.json"
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "cwd": tmp_path}
    scheduler = [
        sys.executable,
        "-m",
        "distributed.cli.dask_scheduler",
        "--port",
        "0",
        "--scheduler-file",
        file,
        "--no-dashboard",
    ]
    processes = [subprocess.Popen(scheduler, **quiet)]
    began = time.monotonic()
    while not file.exists() and time.monotonic() - began < 120:
        time.sleep(0.1)
    address = read_json(file)["address"]
    for _ in range(2):
        words = [
            sys.executable,
            "-m",
            "distributed.cli.dask_worker",
            address,
            "--nthreads",
            "1",
            "--no-nanny",
            "--no-dashboard",
        ]
        processes.append(subprocess.Popen(words, **quiet))
    import distributed

    with distributed.Client(address, timeout=100, set_as_default=False) as client:
        client.wait_for_workers(2, timeout=200)
    yield address, processes
    for process in processes:
        process.kill()
        process.wait()


@pytest.mark.slow
def test_a_cluster_does_the_work_and_a_worker_killed_in_the_middle_loses_nothing(cluster, mine, tmp_path):
    address, processes = cluster
    (tmp_path / "plan.toml").write_text(
        PLAN.format(pause=0.003, method="random").replace("candidates = 8", "candidates = 5")
    )
    words, ways = command("tune", "plan.toml", "--cluster", address, "--name", "far", "--json", folder=tmp_path)
    search = subprocess.Popen(words, **ways)
    place = tmp_path / "runs" / "far"
    began = time.monotonic()
    while len(list(place.glob("candidate-*/checkpoints/*"))) < 3:
        assert search.poll() is None, search.communicate()
        assert time.monotonic() - began < 240
        time.sleep(0.05)
    processes[1].kill()
    out, err = search.communicate(timeout=280)
    assert search.returncode == 0, err
    output = json.loads(out)
    assert (output["status"], len(output["candidates"])) == ("done", 5)
    assert {row["status"] for row in output["candidates"]} == {"scored"}
    alone = jm.tune(
        mine.Slow(),
        jm.QLearning(),
        over=OVER,
        candidates=5,
        steps=400,
        again=2,
        workers=1,
        lane="plain",
        folder=tmp_path / "alone",
    )
    first = {row["candidate"]: row["score"] for row in output["candidates"]}
    assert first == pytest.approx({row["candidate"]: row["score"] for row in alone.rows()}, rel=1e-6)
    assert output["winner"]["score_on_new_seeds"] == pytest.approx(alone.score_again[0], rel=1e-6)


def test_what_is_wrong_is_told_before_a_folder_is_made(tmp_path):
    for more, expected in (
        ({"candidats": 3}, r"`tune` has no setting `candidats`.*Did you mean `candidates`"),
        ({"workers": 0}, "`workers` must be a whole number above 0"),
        ({"over": {}}, "there is nothing to search over"),
    ):
        with pytest.raises(SettingError, match=expected):
            tuned(tmp_path / "none", **more)
    assert not (tmp_path / "none").exists()
    empty = tuned(tmp_path, candidates=1, again=0, steps=1)
    assert "no episode closed" in empty.board.candidates[0].message
    with pytest.raises(RecordError, match="has no candidate with a score yet"):
        _ = empty.settings


def test_another_candidate_compiles_nothing(tmp_path):
    """Numbers of the agent, parameters and weights of the environment are traced."""
    from jokulmist.loops import program as programs

    space = {
        "agent.learning_rate": jm.between(0.1, 0.9),
        "environment.slip": jm.between(0.05, 0.4),
        "environment.weights.effort": jm.between(-0.3, -0.1),
    }
    jm.train(Corridor(), jm.QLearning(), steps=2000, lane="compiled", folder=None)
    sizes = {key: program.chunk.forms for key, program in programs._PROGRAMS.items()}
    search = jm.tune(
        Corridor(),
        jm.QLearning(),
        over=space,
        steps=2000,
        candidates=4,
        again=1,
        score="evaluation",
        evaluation_episodes=10,
        workers=1,
        lane="compiled",
        folder=tmp_path,
    )
    assert search.status == "done"
    assert {key: program.chunk.forms for key, program in programs._PROGRAMS.items()} == sizes
    run = jm.Run.open(search.path / search.winner.runs["0"])
    weights = dict.fromkeys(("prize",), 1.0) | {"effort": -0.1}  # those of the plan, whatever was trained with
    output = run.evaluated.tail(10)
    assert search.score == pytest.approx(
        sum(output[name] * weight for name, weight in weights.items()).mean(), rel=1e-6
    )


def test_settings_that_do_not_go_together_fail_as_candidates(tmp_path):
    space = {
        "agent.use": jm.among("QLearning", "Sarsa"),
        "agent.bins": jm.among(5, 6),
        "agent.trace": jm.among(1, when={"agent.use": "Sarsa"}),
    }
    with pytest.raises((SettingError, LookupFailed), match=r"agent.trace"):
        tuned(tmp_path, over=space)
    del space["agent.trace"]
    search = tuned(tmp_path, over=space, method="grid", steps=300, again=0)
    assert len(search.table) == 4
    assert {jm.Run.open(search.path / c.runs["0"]).plan.agent.__class__.__name__ for c in search.board.candidates} == {
        "QLearning",
        "Sarsa",
    }
    with pytest.raises(SettingError, match="is an image"):
        jm.tune(
            jm.gallery.Aurora(),
            jm.QLearning(),
            over={"agent.learning_rate": jm.among(0.1)},
            steps=10,
            folder=tmp_path / "none",
        )


NEARBY = """
import jokulmist as jm

class Nearby(jm.parts.SearchMethod):
    "The first at random; each later one the best so far with another rate."

    def next(self, board):
        number = len(board.candidates)
        if number >= self.problem.candidates or any(not c.scores for c in board.candidates):
            return None
        settings = self.problem.space.sample(self.problem.draw(number))
        if number:
            settings = {**board.best(self.untils)[0].settings, "agent.learning_rate": settings["agent.learning_rate"]}
        return self.train(board, settings)
"""


def test_a_search_method_of_ones_own_is_named_by_its_file_and_kept(tmp_path):
    (tmp_path / "nearby.py").write_text(NEARBY)
    search = tuned(tmp_path, method=f"{tmp_path / 'nearby.py'}:Nearby", candidates=4, again=0, steps=200)
    tried = search.board.candidates
    assert [c.number for c in tried] == [0, 1, 2, 3]
    assert len({c.settings["agent.exploration"] for c in tried}) == 1
    assert len({c.settings["agent.learning_rate"] for c in tried}) == 4
    (tmp_path / "nearby.py").unlink()
    assert jm.Search.open(search.path).winner.number == search.winner.number
    for method, output in (
        ("nearest", "no search method: 'nearest'"),
        (f"{SHARED}:Corridor", "derive it from `jm.parts.SearchMethod`"),
    ):
        with pytest.raises(SettingError, match=output):
            tuned(tmp_path, method=method)
