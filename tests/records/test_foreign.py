"""Folders that came from elsewhere: none of their code runs without a question, nothing outside of them is read or
written, and none stops the others."""

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from commands import benchmark

import jokulmist as jm
from jokulmist.errors import RecordError, UntrustedCode
from jokulmist.live.app import Live
from jokulmist.plans.sources import environment_class
from jokulmist.records import run_folder
from jokulmist.records.run_index import rows_in

FOREIGN = benchmark("attack/foreign")


@pytest.fixture
def theirs(tmp_path):
    """The folder of a run that somebody else trained, and the file that its code would write."""
    (tmp_path / "pond.py").write_text(FOREIGN.POND)
    pond = environment_class("pond.py:Pond", tmp_path)()
    run = jm.train(
        pond, jm.QLearning(bins=3), steps=60, copies=1, record_every=2, lane="plain", folder=tmp_path / "mine"
    )
    folder = tmp_path / "runs" / "theirs"
    shutil.copytree(run.path, folder)
    (tmp_path / "pond.py").unlink()
    return folder, tmp_path / "ran"


@pytest.mark.parametrize("how", ["a compiled file", "a package", "a link", "a linked folder"])
def test_nothing_that_is_put_beside_kept_code_runs(theirs, tmp_path, how):
    folder, ran = theirs
    source, elsewhere = folder / "source", tmp_path / "elsewhere"
    elsewhere.mkdir()
    (elsewhere / "tools.py").write_text(FOREIGN.sings(ran))
    if how == "a compiled file":
        import py_compile

        py_compile.compile(str(elsewhere / "tools.py"), cfile=str(source / "numpy.pyc"))
    elif how == "a package":
        shutil.copytree(elsewhere, source / "tools.d")
    elif how == "a link":
        (source / "tools.py").symlink_to(elsewhere / "tools.py")
    else:
        (source / "tools").symlink_to(elsewhere)
    with pytest.raises(UntrustedCode, match=r"that was not trained on this machine|is a link or no regular file"):
        _ = jm.Run.open(folder).environment
    assert not ran.exists()


READS = {
    "episodes.csv": lambda run: run.episodes,
    "origin.json": lambda run: run.origin,
    "rollouts": lambda run: run.rollouts,
    "checkpoints": lambda run: run.policy,
    "log.txt": lambda run: jm.pictures.save_report(run, run.path.parent / "made.html"),
}


@pytest.mark.parametrize("name", READS)
def test_a_link_inside_of_a_run_leads_nowhere(theirs, tmp_path, name):
    folder, _ = theirs
    secret = tmp_path / "secret"
    shutil.move(folder / name, secret)
    before = secret.read_bytes() if secret.is_file() else b""
    (folder / name).symlink_to(secret)
    for reads in (READS[name], lambda run: jm.resume(run.path, steps=20)):
        with pytest.raises(
            (RecordError, UntrustedCode), match=rf"{name} is a link, which may lead out|trained on this"
        ):
            reads(jm.Run.open(folder))
    assert not secret.is_file() or secret.read_bytes() == before


def test_a_report_that_is_a_link_is_not_served(theirs, tmp_path):
    folder, _ = theirs
    (tmp_path / "secret").write_text("mine")
    (folder / "report.html").symlink_to(tmp_path / "secret")
    status, output = FOREIGN.asked(Live(folder.parent).app(), "/api/run/theirs/report", None)
    assert (status, "is a link" in output) == (400, True)


def test_a_lock_that_is_a_link_overwrites_nothing(theirs, tmp_path):
    folder, _ = theirs
    secret = tmp_path / "secret"
    secret.write_text("mine")
    (folder / ".lock").unlink(missing_ok=True)
    (folder / ".lock").symlink_to(secret)
    with pytest.raises(RecordError, match="cannot write into"):
        jm.resume(folder, steps=20)
    assert secret.read_text() == "mine"


def hole(path):
    path.touch()
    os.truncate(path, 6 << 30)


@pytest.mark.parametrize("name", ["episodes.csv", "origin.json", "plan.toml", "readings.csv"])
def test_a_pipe_or_a_hole_stops_nothing_else(theirs, name):
    folder, _ = theirs
    neighbour = folder.with_name("other")
    shutil.copytree(folder, neighbour)
    for make in (os.mkfifo, hole):
        (folder / name).unlink()
        make(folder / name)
        rows, _ = rows_in(folder.parent)
        assert "other" in [row["run"] for row in rows]
        if name == "episodes.csv":
            with pytest.raises(RecordError, match=r"no regular file|nearly all of them holes"):
                _ = jm.Run.open(folder).episodes


def test_an_original_that_is_a_pipe_is_not_waited_for(theirs, tmp_path):
    folder, _ = theirs
    pipe = tmp_path / "pond.py"
    os.mkfifo(pipe)
    assert str(pipe) in (folder / "source" / "index.json").read_text()
    assert jm.evaluate(jm.Run.open(folder).policy, jm.Run.open(folder).environment, episodes=2).mean > 0
    pipe.unlink()  # it stands where a module of this process was read, which others look at


def test_what_was_not_committed_stays_at_home_unless_it_is_asked_for(tmp_path, monkeypatch):
    project = tmp_path / "project"
    project.mkdir()
    monkeypatch.chdir(project)
    git = ["git", "-c", "user.name=a", "-c", "user.email=a@b"]
    Path("notes.txt").write_text("known\n")
    for words in (["init", "-q"], ["add", "."], ["commit", "-qm", "first"]):
        subprocess.run([*git, *words], check=True)
    settings = {"steps": 60, "copies": 1, "lane": "plain", "folder": tmp_path}
    assert jm.train(jm.gallery.Tarn(), jm.QLearning(), **settings).origin["clean"] is True
    with monkeypatch.context() as slow:  # where git does not answer, nobody knows
        slow.setattr(run_folder, "_git", lambda where, verb, *words: "0" * 40 if verb == "rev-parse" else None)
        assert run_folder.origin_of([], 0, run_folder.current_time(), project)["clean"] is None
    Path("notes.txt").write_text("a secret\n" * 200_000)
    run = jm.train(jm.gallery.Tarn(), jm.QLearning(), **settings)
    assert run.origin["clean"] is False
    assert not any("secret" in file.read_text(errors="replace") for file in run.path.rglob("*") if file.is_file())
    stored = jm.train(jm.gallery.Tarn(), jm.QLearning(), keep_diff=True, **settings)
    diff = (stored.path / "uncommitted.diff").read_text()
    assert "+a secret" in diff
    assert diff.endswith(" bytes more ...\n")


ODD = {
    "a seed beyond 64 bits": {"seed": 10**30},
    "half a surrogate pair": {"host": "\ud800"},
    "no date": {"began": "yesterday"},
    "a date without a zone": {"began": "2026-11-30"},
    "no finite number": {"seconds": float("nan")},
    "nothing": {"began": None},
    "a list": {"uses": {"environment": [1], "agent": {}}},
    "an agent alone": {"uses": {"agent": "PPO"}},
    "a version that is no text": {"code": {"versions": {"Pond": [1]}}},
    "versions that are a text": {"code": {"versions": "x"}},
    "a plan of texts": {"planned": {"steps": "x"}},
}


@pytest.mark.parametrize("how", [*ODD, "nested without end"])
def test_an_odd_record_is_shown_as_damaged_and_stops_no_other(theirs, how):
    folder, _ = theirs
    shutil.copytree(folder, folder.with_name("other"))
    origin = json.loads((folder / "origin.json").read_text())
    text = (
        "[" * 3_000 + "]" * 3_000
        if how == "nested without end"
        else json.dumps({**origin, "status": "running", **ODD[how]})
    )
    (folder / "origin.json").write_text(text)
    status = {row["run"]: row["status"] for row in rows_in(folder.parent)[0]}
    assert status["other"] == "done"
    assert status["theirs"] == "damaged"
    for look in (False, True):
        code, output = FOREIGN.asked(Live(folder.parent, look).app(), "/api/all", None)
        assert code == 200
        assert {row["run"] for row in json.loads(output)["rows"]} == {"theirs", "other"}
        code, output = FOREIGN.asked(Live(folder.parent, look).app(), "/api/compare", {"runs": ["theirs", "other"]})
        assert code == 400, output


def test_stop_asks_no_process_that_a_record_only_names(theirs):
    folder, _ = theirs
    sleeper = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"])
    holds = (
        "import fcntl, json, sys, time\nlock = open(sys.argv[1], 'w+')\nfcntl.flock(lock, fcntl.LOCK_EX)\n"
        "lock.write(json.dumps({'process': int(sys.argv[2]), 'host': ''}))\nlock.flush()\nprint('held', "
        "flush=True)\ntime.sleep(60)"
    )
    holder = subprocess.Popen([sys.executable, "-c", holds, folder / ".lock", str(sleeper.pid)], stdout=subprocess.PIPE)
    try:
        holder.stdout.readline()
        origin = json.loads((folder / "origin.json").read_text())
        (folder / "origin.json").write_text(json.dumps({**origin, "status": "running", "process": sleeper.pid}))
        code, output = FOREIGN.asked(Live(folder.parent).app(), "/api/run/theirs/stop", {})
        assert (code, "is not being trained on this machine" in output) == (400, True)
        with pytest.raises(subprocess.TimeoutExpired):
            sleeper.wait(0.5)
    finally:
        for process in (sleeper, holder):
            process.kill()
            process.wait()
        holder.stdout.close()
