"""Jobs that wait: their order, what may be done with each, kills in the middle of a write, and workers that are
killed."""

import contextlib
import json
import os
import random
import re
import shutil
import signal
import sqlite3
import subprocess
import sys
import threading
import time

import pandas as pd
import pytest
from commands import jokulmist
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import jokulmist as jm
from jokulmist.errors import LookupFailed, RecordError, SettingError
from jokulmist.live.views import Question, compared
from jokulmist.records.run_index import row_of
from jokulmist.sources import trust
from jokulmist.work.jobs import Job
from jokulmist.work.queue import FILE, Queue
from jokulmist.work.worker import work

PLAN = """
[environment]
use = "tarn"
[agent]
use = "QLearning"
[training]
steps = {steps}
lane = "plain"
checkpoint_every = 20_000
"""


def test_jobs_are_taken_in_order_by_one_worker_each(tmp_path):
    queue = Queue(tmp_path)
    assert queue.take() is None
    assert queue.jobs() == []
    for k in range(30):
        queue.add("resume", f"run-{k:02d}")
    queue.first(30)
    queue.pause(2)
    chosen = [queue.take().run]
    assert chosen == ["run-29"]
    threads = [
        threading.Thread(target=lambda: [chosen.append(job.run) for job in iter(queue.take, None)]) for _ in range(4)
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(chosen) == sorted({f"run-{k:02d}" for k in range(30)} - {"run-01"})
    assert {job.status for job in queue.jobs()} == {"working", "paused"}


def test_what_may_be_done_with_a_job_hangs_on_its_status(tmp_path):
    queue = Queue(tmp_path)
    queue.add("resume", "ferry-ppo-001")
    assert queue.pause(1).status == "paused"
    assert queue.resume(1).status == "waiting"
    job = queue.take()
    assert queue.stop(1).requested == "stop"
    queue.finish(job, "stopped")
    assert queue.job(1).status == "stopped"
    for verb, expected in (
        ("pause", "is stopped, so it cannot be paused"),
        ("first", "cannot be put first"),
        ("stop", "cannot be stopped"),
    ):
        with pytest.raises(SettingError, match=expected):
            getattr(queue, verb)(1)
    with pytest.raises(LookupFailed, match="there is no job 7; there are 1"):
        queue.stop(7)
    queue.resume(1)
    job = queue.take()
    with pytest.raises(SettingError, match="Stop it first"):
        queue.drop(1)
    for _ in range(3):  # a job that kills its worker does not go round for ever
        queue.give_back(job, tried=True)
        job = queue.take() or queue.job(1)
    assert (job.status, job.message) == ("failed", "it was killed 3 times, perhaps for want of memory")
    queue.drop(1)
    assert queue.jobs() == []
    (tmp_path / FILE).write_bytes(b"no database" * 100)
    with pytest.raises(RecordError, match="cannot be used"):
        queue.jobs()


def test_a_job_that_was_damaged_is_named_and_can_be_dropped(tmp_path):
    queue = Queue(tmp_path)
    stored, hurt = queue.add("resume", "a"), queue.add("resume", "b")
    with sqlite3.connect(queue.file) as db:
        db.execute("UPDATE jobs SET options = '[1' WHERE id = ?", (hurt,))
    assert {job.id: job.status for job in queue.jobs()} == {stored: "waiting", hurt: "damaged"}
    with pytest.raises(
        RecordError, match=rf"job {hurt} of the queue was damaged. Drop it: `jokulmist queue drop {hurt}`"
    ):
        queue.stop(hurt)
    assert queue.drop(hurt).run == "b"
    assert [job.id for job in queue.jobs()] == [stored]


def test_a_kill_in_the_middle_of_a_write_loses_no_job(tmp_path):
    words = (
        "import sys; from jokulmist.work.queue import Queue; q = Queue(sys.argv[1])\nwhile True: print(q.add('resume', "
        "'r'), flush=True)"
    )
    output = 0
    for seed in range(6):
        child = subprocess.Popen([sys.executable, "-c", words, str(tmp_path)], stdout=subprocess.PIPE)
        child.stdout.readline()
        time.sleep(random.Random(seed).uniform(0.0, 0.15))
        child.kill()
        output += 1 + child.stdout.read().count(b"\n")
        child.wait()
        assert len(Queue(tmp_path).jobs()) >= output  # the last one may not have been told any more
        output = len(Queue(tmp_path).jobs())
    assert sqlite3.connect(tmp_path / FILE).execute("PRAGMA integrity_check").fetchone() == ("ok",)


def until(holds, seconds=120.0):
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        result = holds()
        if result:
            return result
        time.sleep(0.1)
    raise AssertionError("it did not come about in time")


@pytest.mark.slow
def test_two_workers_share_a_queue_and_one_that_is_killed_loses_nothing(tmp_path):
    (tmp_path / "plan.toml").write_text(PLAN.format(steps=160_000))
    folder = tmp_path / "runs"
    output = jokulmist(
        "train", str(tmp_path / "plan.toml"), "--set", "training.seeds=[3,4]", "--folder", str(folder), "--queue"
    )
    assert "jokulmist queue work --folder" in output.stderr
    assert jokulmist("runs", "--folder", str(folder)).stdout.count("waiting") == 2
    begin = [sys.executable, "-m", "jokulmist", "queue", "work", "--folder", str(folder), "--until-empty"]
    workers = [subprocess.Popen(begin, stderr=subprocess.PIPE) for _ in range(2)]
    queue = Queue(folder)
    # The one that trains the first run is killed once it has a checkpoint.
    first = until(lambda: next((job for job in queue.jobs() if job.id == 1 and job.status == "working"), None))
    until(
        lambda: (
            list((folder / first.run / "checkpoints").glob("[0-9]*"))
            if (folder / first.run / "checkpoints").exists()
            else None
        )
    )
    os.kill(first.process, signal.SIGKILL)
    other_worker = next(worker for worker in workers if worker.pid != first.process)
    assert other_worker.wait(timeout=200) == 0, other_worker.stderr.read()
    for worker in workers:
        worker.wait()
        worker.stderr.close()
    assert [(job.status, job.tries) for job in sorted(queue.jobs(), key=lambda job: job.id)] == [
        ("done", 1),
        ("done", 0),
    ]
    for seed, job in zip((3, 4), sorted(queue.jobs(), key=lambda job: job.id), strict=True):
        alone = jm.train(
            jm.gallery.Tarn(),
            jm.QLearning(),
            steps=160_000,
            seed=seed,
            lane="plain",
            folder=tmp_path / "alone",
            checkpoint_every=20_000,
        )
        assert (folder / job.run / "episodes.csv").read_bytes() == (alone.path / "episodes.csv").read_bytes()


@pytest.mark.slow
def test_a_job_stops_cleanly_goes_on_and_tells_why_it_failed(tmp_path):
    folder = tmp_path / "runs"
    (tmp_path / "plan.toml").write_text(PLAN.format(steps=50_000_000))
    jokulmist("train", str(tmp_path / "plan.toml"), "--folder", str(folder), "--queue", "--name", "long")
    queue, ends, words = Queue(folder), threading.Event(), []
    queue.add("resume", "gone")
    thread = threading.Thread(
        target=work, args=(queue,), kwargs={"ends": ends, "on_message": words.append}, daemon=True
    )
    thread.start()
    until(lambda: (folder / "long" / "episodes.csv").exists())
    jokulmist("queue", "pause", "1", "--folder", str(folder))
    until(lambda: queue.job(1).status == "paused")
    run = jm.Run.open(folder / "long")
    assert row_of(run.path, run.origin)["status"].startswith("stopped")
    until(lambda: queue.job(2).status == "failed")
    assert re.search("there is no run .*gone", queue.job(2).message)
    jokulmist("queue", "resume", "1", "--folder", str(folder))
    until(lambda: queue.job(1).status == "working")
    ends.set()  # as Ctrl-C: what is at work stops cleanly and waits again
    thread.join(timeout=150)
    assert queue.job(1).status == "waiting"
    assert "waits again" in words[-1]
    listed = jokulmist("queue", "--folder", str(folder)).stdout
    assert "resume long" in listed
    output = jokulmist("queue", "stopp", "1", "--folder", str(folder))
    assert (output.returncode, output.stderr.strip().endswith("Did you mean `stop`?")) == (2, True)


def test_a_dropped_run_waits_no_longer_and_a_gone_worker_is_not_at_work(tmp_path):
    (tmp_path / "plan.toml").write_text(PLAN.format(steps=300))
    jokulmist("train", str(tmp_path / "plan.toml"), "--queue", "--folder", str(tmp_path))
    queue = Queue(tmp_path)
    (job,) = queue.jobs()
    assert row_of(tmp_path / job.run, jm.Run.open(tmp_path / job.run).origin)["status"] == "waiting"
    queue.take()
    with sqlite3.connect(queue.file) as db:  # as if that worker had been killed
        db.execute("UPDATE jobs SET process = 0, since = 0")
    (displayed,) = queue.jobs_now()
    assert (displayed.status, displayed.message) == ("waiting", "its worker is gone; the next takes it again")
    queue.take_back()
    queue.drop(job.id)
    assert jm.Run.open(tmp_path / job.run).status == "stopped"
    assert jm.resume(tmp_path / job.run).status == "done"


def test_a_dropped_job_changes_no_run_outside_of_the_folder(tmp_path):
    waiting_run = jm.train(
        jm.gallery.Tarn(), jm.QLearning(), steps=100, lane="plain", folder=tmp_path / "theirs", name="other"
    )
    before = json.dumps({**json.loads((waiting_run.path / "origin.json").read_text()), "status": "waiting"})
    (waiting_run.path / "origin.json").write_text(before)
    queue = Queue(tmp_path / "ours")
    (tmp_path / "ours").mkdir()
    with pytest.raises(SettingError, match=r"by its folder's name; got '../theirs/other'"):
        queue.add("resume", "../theirs/other")
    number = queue.add("resume", "other")
    with sqlite3.connect(queue.file) as db:
        db.execute("UPDATE jobs SET run = '../theirs/other'")
    assert queue.drop(number).status == "damaged"
    assert (waiting_run.path / "origin.json").read_text() == before


@pytest.mark.slow
def test_a_job_that_was_killed_before_its_first_checkpoint_begins_anew(tmp_path, monkeypatch):
    run = jm.train(jm.gallery.Tarn(), jm.QLearning(), steps=400, lane="plain", folder=tmp_path)
    shutil.rmtree(run.path / "checkpoints")
    origin = json.loads((run.path / "origin.json").read_text())
    (run.path / "origin.json").write_text(json.dumps({**origin, "status": "failed"}))
    queue = Queue(tmp_path)
    queue.add("resume", run.name)
    with (
        monkeypatch.context() as unreadable
    ):  # a worker that cannot read the queue for a while leaves no process behind
        unreadable.setattr(Queue, "job", lambda *_: (_ for _ in ()).throw(RecordError("the queue cannot be used")))
        work(queue, until_empty=True)
    (job,) = queue.jobs()
    assert (job.status, job.message) == ("done", "")
    assert (run.path / "before-001" / "episodes.csv").exists()


def test_a_queue_from_elsewhere_waits_until_it_is_accepted(tmp_path, monkeypatch):
    queue = Queue(tmp_path)
    number = queue.add("evaluate", "theirs", episodes=2)
    queue.add("resume", "second")
    monkeypatch.setattr(trust, "_SECRET", b"another user's key")
    assert queue.take() is None
    output = {job.id: job.message for job in queue.jobs_now()}
    assert (
        output[number]
        == "somebody else added it, or it was added on another machine: `jokulmist queue accept 1` lets it be done"
    )
    displayed = jokulmist("queue", "accept", number, "--folder", tmp_path)
    assert displayed.returncode == 0, displayed.stderr
    with pytest.raises(SettingError, match="is your own; there is nothing to accept"):
        queue.accept(number)
    chosen = queue.take()
    assert chosen.words(tmp_path)[:4] == ["evaluate", str(tmp_path / "theirs"), "--episodes", "2"]
    assert queue.take() is None
    with sqlite3.connect(queue.file) as db:  # what was signed is what is done
        db.execute("UPDATE jobs SET run = 'other', status = 'waiting'")
    assert queue.take() is None


@pytest.mark.parametrize("words", [["--trust"], ["evaluate", "{run}", "--trust"]])
def test_a_job_has_no_words_of_a_command_line(tmp_path, words):
    queue = Queue(tmp_path)
    queue.add("resume", "mine")
    for column in ("verb", "options", "run"):
        with sqlite3.connect(queue.file) as db:
            db.execute(f"UPDATE jobs SET {column} = ?", (json.dumps(words),))
        (job,) = queue.jobs()
        assert (job.status, job.command) == ("damaged", "")
    for options in ({"trust": True}, {"steps": "1 --trust"}, {"steps": True}):
        with pytest.raises(SettingError, match="`resume`"):
            queue.add("resume", "mine", **options)


VALUES = st.one_of(
    st.none(),
    st.integers(-(2**63), 2**63 - 1),
    st.floats(),
    st.text(max_size=8),
    st.binary(max_size=8),
    st.sampled_from(["waiting", "working", "[]", "{}", "resume"]),
)


@settings(max_examples=15, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.dictionaries(st.sampled_from(sorted(set(Job.model_fields) - {"id"})), VALUES, min_size=1))
def test_whatever_stands_in_a_row_is_shown_and_dropped(tmp_path, values):
    queue = Queue(tmp_path)
    number = queue.add("resume", "mine")
    with sqlite3.connect(queue.file) as db, contextlib.suppress(sqlite3.IntegrityError, UnicodeEncodeError):
        db.execute(
            f"UPDATE jobs SET {', '.join(f'{name} = ?' for name in values)} WHERE id = ?", (*values.values(), number)
        )
    displayed = jokulmist("queue", "--folder", tmp_path, "--json")
    assert displayed.returncode == 0, displayed.stderr
    work(queue, until_empty=True) if not any(job.ready for job in queue.jobs()) else None
    if queue.job(number).status == "working":
        queue.stop(number)
        queue.finish(queue.job(number), "stopped")
    queue.drop(number)


def test_what_a_file_declares_beside_its_table_does_not_hang_it(tmp_path, monkeypatch):
    monkeypatch.setattr("jokulmist.work.queue.PATIENCE_SECONDS", 0.0)
    monkeypatch.setattr("jokulmist.work.queue.ANSWER_SECONDS", 0.5)
    queue = Queue(tmp_path)
    columns = ", ".join(f"n AS {name}" for name in Job.model_fields)
    with sqlite3.connect(queue.file) as db:
        db.execute(
            f"CREATE VIEW jobs AS WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM c) SELECT {columns} "
            "FROM c"
        )
    with pytest.raises(RecordError, match="cannot be used: interrupted"):
        queue.job(1)


SEARCHED = """
[tuning]
method = "grid"
again = 0
[tuning.over]
"agent.bins" = { among = [2, 3] }
"""


@pytest.mark.slow
def test_a_search_and_cross_play_are_jobs_too(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "search.toml").write_text(PLAN.format(steps=400).replace("checkpoint_every = 20_000", "") + SEARCHED)
    output = json.loads(jokulmist("tune", "search.toml", "--queue", "--name", "bins", "--json").stdout)
    assert output == [{"job": 1, "run": "bins"}]
    assert jm.Search.open("runs/bins").status == "waiting"
    agents = {"elder": jm.QLearning(), "younger": jm.QLearning()}
    jm.train_seeds(jm.gallery.Lots(), agents, [0, 1], steps=60, lane="plain", workers=1)
    names = ["lots-qlearning-001", "lots-qlearning-002"]
    wrong = jokulmist("evaluate", f"runs/{names[0]}", "--queue")
    assert (wrong.returncode, "give two or more" in wrong.stderr) == (2, True)
    elsewhere = jokulmist("evaluate", f"runs/{names[0]}", tmp_path / "other", "--queue")
    assert (elsewhere.returncode, "runs of one folder" in elsewhere.stderr) == (2, True)
    assert "job 2 waits" in jokulmist("evaluate", *(f"runs/{n}" for n in names), "--episodes", 3, "--queue").stdout
    with pytest.raises(SettingError, match="named by its folder's name"):
        Queue("runs").add("evaluate", names[0], partners=["../elsewhere"])
    assert [row["command"] for row in json.loads(jokulmist("queue", "--json").stdout)] == [
        "resume bins",
        f"evaluate {' '.join(names)} --episodes 3 --seed 0",
    ]
    done = jokulmist("queue", "work", "--until-empty")
    assert done.returncode == 0, done.stderr
    jobs = Queue("runs").jobs()
    assert {job.status for job in jobs} == {"done"}, jobs
    assert jm.Search.open("runs/bins").status == "done"
    assert next(job for job in jobs if job.id == 2).message.startswith(str(tmp_path / "runs" / "cross-play.png"))
    paths = [tmp_path / "runs" / name for name in reversed(names)]
    matrix, table = compared(paths, Question(), True)["crossplay"], pd.read_csv("runs/cross-play.csv")
    assert (matrix["first"], matrix["names"]) == ("elder", names[::-1])
    last = table[(table["elder"] == names[1]) & (table["younger"] == names[0])].iloc[0]
    assert matrix["cells"][0][1]["mean"] == last["mean_return"]
    (tmp_path / "runs" / "cross-play.csv").write_text("elder,younger\n1,2,3\n")
    assert compared(paths, Question(), True)["crossplay"] is None
