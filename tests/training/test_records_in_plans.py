"""Runs that learn from records: made by a plan, resumed, done again, and refused where they cannot be."""

import json
import shutil

import numpy as np
import pandas as pd
import pytest
from test_teaching import Ford, walked  # noqa: F401  # the fixture

import jokulmist as jm
from jokulmist.errors import LookupFailed, RecordError, SettingError
from jokulmist.pictures.report.page import save_report
from jokulmist.plans.plan import read_plan
from jokulmist.records.checkpoints import best_checkpoint
from jokulmist.running.train import train_plan
from jokulmist.studies.comparison.curves import curve_of

FAST = {"steps": 60, "evaluate_every": 30, "evaluate_episodes": 5}


@pytest.fixture
def log(walked, tmp_path):  # noqa: F811
    return shutil.copy(walked[0], tmp_path / "log.parquet")


def leaves(run):
    return [np.asarray(leaf) for leaf in run.policy.learner if isinstance(leaf, np.ndarray)]


@pytest.mark.slow
def test_a_run_on_records_is_evaluated_gone_on_with_and_done_again(log, tmp_path):
    (tmp_path / "ford.py").write_text(
        "import jokulmist as jm\n\n\n" + __import__("inspect").getsource(Ford), encoding="utf-8"
    )
    plan = tmp_path / "plan.toml"
    plan.write_text(
        '[environment]\nuse = "ford.py:Ford"\n[agent]\nuse = "DQN"\nconservative = 1.0\nminibatch = 16\nnetwork = { '
        'use = "Dense", hidden = [8] }\n'
        '[training]\nrecords = ["log.parquet", "log.parquet"]\nsteps = 60\nevaluate_every = 30\nevaluate_episodes = '
        "5\ncheckpoint_every = 20\n",
        encoding="utf-8",
    )
    (complete,) = train_plan(read_plan(plan), folder=tmp_path / "runs", name="whole")
    assert (complete.origin["decisions"], len(complete.episodes), complete.origin["recorded"]["episodes"]) == (
        60,
        0,
        160,
    )
    assert set(complete.evaluated["learned"]) == {30, 60}
    assert complete.readings["decisions"].iloc[-1] == 60
    assert best_checkpoint(tmp_path / "runs" / "whole") is not None
    (part,) = train_plan(read_plan(plan, ["training.steps=40"]), folder=tmp_path / "runs", name="part")
    gone_on = jm.resume(part.path, steps=20)
    assert gone_on.policy.decisions == 60
    repeated = jm.redo(part.path, folder=tmp_path / "runs")
    assert repeated.same, str(repeated)
    assert "what it learned is the same" in str(repeated)
    assert complete.plan.written()["training"]["records"] == [str((tmp_path / "log.parquet").resolve())] * 2
    table = jm.Records.read(log, Ford())
    assert complete.origin["recorded"]["mean_return"] == pytest.approx(float(table.returns.mean()), rel=1e-6)
    assert "recorded decisions" in (tmp_path / "runs" / "whole" / "log.txt").read_text()
    axes = jm.plot(complete)
    assert axes.get_xlabel() == "updates"
    assert any("recorded" in line.get_label() for line in axes.get_lines())
    page = save_report(complete, replays=False).read_text()
    assert "How episodes closed" not in page
    assert '"name":"recorded"' in page
    evaluation = jm.evaluate("random", Ford(), episodes=3, record=3, seed=9, with_policy_outputs=False)
    evaluation.save_rollouts(log, Ford())
    for words, call in ((r"has changed since", jm.redo), (r"has changed since", lambda run: jm.resume(run, steps=5))):
        with pytest.raises(RecordError, match=words):
            call(complete.path)
    assert not (tmp_path / "runs" / "whole-again-01").exists()


@pytest.mark.slow
def test_what_learn_from_gives_is_what_a_run_gives(log, tmp_path):
    agent = jm.Cloning(network=jm.Dense(8), minibatch=16)
    run = jm.train(Ford(), agent, records=log, folder=None, seed=3, steps=40)
    taught = jm.learn_from(log, agent, Ford(), steps=40, seed=3)
    first, second = leaves(run), leaves(taught)
    assert first
    assert all(np.array_equal(a, b) for a, b in zip(first, second, strict=True))
    # Half of the way and the rest are the whole way.
    half = jm.train(Ford(), agent, records=log, folder=tmp_path / "half", seed=3, steps=40, checkpoint_every=10)
    assert json.loads((half.path / "origin.json").read_text())["records"][0]["sha256"]


def test_features_learn_the_values_of_what_was_recorded(log):
    """Over one-hot tiles linear Q-learning is a table: it comes to the value of the best way across, 1 + 3."""
    agent = jm.LinearQ(tiles=3, tilings=1, minibatch=64, discount=1.0, learning_rate=jm.linear(0.5, 0.0, over=1.0))
    policy = jm.learn_from(log, agent, Ford(), steps=800).policy
    values = policy.values({"stone": 0})
    assert values["left"] == pytest.approx(4.0, abs=0.15)
    assert values["right"] == pytest.approx(2.0, abs=0.15)
    assert jm.evaluate(policy, Ford(), episodes=5).mean == 4.0


@pytest.mark.slow
def test_what_a_plan_on_records_cannot_ask_is_refused_by_name(log, tmp_path):
    agent = jm.Cloning(network=jm.Dense(8))
    for settings, words in (
        ({"record_every": 5, **FAST}, "`records` and `record_every` do not go together"),
        ({"copies": 4, **FAST}, "`copies` do not go together"),
        ({"vary": {"x": 1}, **FAST}, "vary"),
        ({"stop_when": {"mean_return": 3.0}, **FAST}, r"`stop_when\.mean_return` do not go together"),
        ({"episodes": 5}, "`records` and `episodes` do not go together"),
        ({"columns": {"at": "x"}, "records": None, **FAST}, "Leave it out"),
    ):
        with pytest.raises(SettingError, match=words):
            jm.train(Ford(), agent, **{"records": log, "folder": tmp_path / "none", **settings})
    with pytest.raises(SettingError, match="`PPO` does not learn from records"):
        jm.train(Ford(), jm.PPO(), records=log, folder=tmp_path / "none", steps=5)
    with pytest.raises(LookupFailed, match=r"gone\.parquet, which is not there"):
        jm.train(Ford(), agent, records=tmp_path / "gone.parquet", folder=tmp_path / "none", steps=5)
    assert not (tmp_path / "none").exists()
    # A table of somebody else's, with names of its own, as CSV and as Parquet.
    second = pd.DataFrame(
        {
            "trip": [1, 1, 2],
            "at": [0, 1, 0],
            "way": ["left", "right", "left"],
            "paid": [1.0, 3.0, 1.0],
            "done": [False, True, True],
        }
    )
    second.to_csv(tmp_path / "theirs.csv", index=False)
    second.to_parquet(tmp_path / "theirs.parquet")
    columns = {"episode": "trip", "stone": "at", "action": "way", "reward": "paid", "ended": "done"}
    run = jm.train(
        Ford(),
        agent,
        records=[tmp_path / "theirs.csv", tmp_path / "theirs.parquet"],
        columns=columns,
        steps=5,
        folder=tmp_path / "own",
    )
    assert run.origin["recorded"] == {"decisions": 6, "episodes": 4, "mean_return": 2.5}
    with pytest.raises(SettingError, match=r"theirs\.csv: the records have no column `stone`"):
        jm.train(Ford(), agent, records=tmp_path / "theirs.csv", steps=5, folder=None)
    (tmp_path / "torn.csv").write_bytes(b"\xff\xfe\x00trip\n\x80")
    with pytest.raises(RecordError, match="cannot be read as a table"):
        jm.train(Ford(), agent, records=tmp_path / "torn.csv", steps=5, folder=None)


@pytest.mark.slow
def test_runs_on_records_are_compared_and_tuned_by_evaluations(log, tmp_path):
    runs = [
        jm.train(Ford(), agent, records=log, folder=tmp_path / "runs", seed=seed, **{**FAST, "steps": steps})
        for agent, steps in ((jm.Cloning(network=jm.Dense(8)), 60), (jm.ImplicitQ(network=jm.Dense(8)), 90))
        for seed in (0, 1)
    ]
    position, mean = curve_of(runs[2], "steps")
    assert position.tolist() == [30.0, 60.0, 90.0]
    last = runs[2].evaluated
    assert mean[-1] == pytest.approx(last[last["learned"] == 90]["return"].mean())
    output = jm.compare(runs)
    assert {group["group"] for _, group in output.table.iterrows()} == {"Cloning", "ImplicitQ"}
    assert any("by the last evaluation up to there" in note for note in output.notes)
    space = {"agent.learning_rate": jm.among(1e-3, 1e-2)}
    with pytest.raises(SettingError, match='Write `score = "evaluation"`'):
        jm.tune(
            Ford(), jm.Cloning(), over=space, steps=20, records=[str(log)], candidates=2, folder=tmp_path / "search"
        )
