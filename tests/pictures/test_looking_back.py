"""Replays, what an agent does, the report, the list of runs: of one trained run, by the functions and by the
commands."""

import json
import os
import shutil
import subprocess

import numpy as np
import pandas as pd
import pytest
from games import Sticks
from PIL import Image
from places import Corridor, Drift, Signal

import jokulmist as jm
from jokulmist.command.main import main
from jokulmist.errors import LookupFailed, SettingError
from jokulmist.pictures.replay import DPI, HEIGHT, ReplayFrames
from jokulmist.pictures.report.page import differing
from jokulmist.records.run_index import chosen, rows_in
from jokulmist.running.runs.course import window_of
from jokulmist.running.runs.scenes import fresh_scene, played_scene, recorded_scene

pytestmark = pytest.mark.draws


@pytest.fixture(scope="module")
def ferry(tmp_path_factory):
    """A run with recorded episodes, evaluations and checkpoints."""
    return jm.train(
        jm.gallery.Ferry(),
        jm.PPO(horizon=32, network=jm.Dense(16)),
        steps=12_000,
        copies=8,
        record_every=40,
        evaluate_every=4000,
        evaluate_episodes=5,
        checkpoint_every=4000,
        folder=tmp_path_factory.mktemp("runs"),
        name="ferry",
    )


class Done:
    """What a command that ran in this process left."""

    def __init__(self, code, out):
        self.returncode, self.stdout, self.stderr = code, out.out, out.err


@pytest.fixture
def command(capsys):
    def run(*words):
        capsys.readouterr()
        with pytest.raises(SystemExit) as ended:
            main([str(word) for word in words])
        return Done(ended.value.code or 0, capsys.readouterr())

    return run


@pytest.mark.slow
def test_a_replay_shows_each_moment_as_it_was(ferry, tmp_path):
    scenes = [fresh_scene(ferry, "0", 3), fresh_scene(ferry, "last", 3), recorded_scene(ferry, "best")]
    seen = []
    path = jm.pictures.save_replay(
        scenes,
        ferry.environment,
        tmp_path / "three.gif",
        most=16,
        on_message=seen.append,
    )
    picture = Image.open(path)
    longest = max(scene.rollout.steps for scene in scenes)
    assert picture.n_frames == min(longest + 1, 16) == len(seen)
    assert picture.size == (1024, 640)
    frames = [np.asarray((picture.seek(k), picture.convert("RGB"))[1], int) for k in (0, picture.n_frames // 2)]
    assert (np.abs(frames[0] - frames[1]).sum(axis=2) > 40).sum() > 500  # it moves
    strip = jm.pictures.save_replay(scenes[:2], ferry.environment, tmp_path / "strip.png")
    assert Image.open(strip).size[0] == 1280
    with pytest.raises(SettingError, match=r"one of `gif`, `mp4`, `png`; got `x.bmp`"):
        jm.pictures.save_replay(scenes, ferry.environment, tmp_path / "x.bmp")
    if shutil.which("ffmpeg") is None:
        with pytest.raises(LookupFailed, match=r"needs the program ffmpeg.*Use `.gif`"):
            jm.pictures.save_replay(scenes, ferry.environment, tmp_path / "x.mp4")
    assert recorded_scene(ferry, "worst").rollout.total <= scenes[2].rollout.total
    assert scenes[1].mean == jm.evaluate(ferry.policy, ferry.environment, episodes=20, seed=3).mean
    before = ferry.episodes["return"][ferry.episodes["episode"] <= scenes[2].rollout.episode]
    assert scenes[2].mean_text == f"mean of the {min(len(before), 100)} episodes up to it {before.tail(100).mean():.4g}"
    with pytest.raises(LookupFailed, match=r"holds no episode 1234567; it holds `1`"):
        recorded_scene(ferry, "1234567")


def test_a_game_that_one_wins_is_replayed_with_the_return_of_the_first_player():
    sticks = Sticks(least=10, most=10)
    policy = jm.solve(sticks).policy
    scene = played_scene(policy, sticks, 1, "solved", act="sampled")
    mean = jm.evaluate(policy, sticks, episodes=20, seed=1, act="sampled").players["first.return"]
    assert scene.mean_text == f"mean for first of 20 such episodes {mean:.4g}"
    assert scene.rollout.total == 0.0
    assert scene.rewards(sticks).sum() in (-1.0, 1.0)
    assert scene.weights(sticks) == {"first.game": 1.0}


def test_images_and_simulators_are_replayed_too(tmp_path):
    seen = played_scene("random", Signal(), 1, "by chance")
    assert seen.rollout.steps > 0
    assert jm.pictures.save_replay([seen], Signal(), tmp_path / "signal.gif").stat().st_size > 1000

    class Shown(Drift):
        def image(self):
            picture = np.zeros((8, 40, 3), np.uint8)
            picture[:, int(np.clip(20 + 2 * self.at, 0, 39))] = 255
            return picture

    scene = played_scene("random", Shown(), 1, "by chance")
    assert len(scene.images) == scene.rollout.steps + 1
    assert any((a != scene.images[0]).any() for a in scene.images)
    assert jm.pictures.save_replay([scene], Shown(), tmp_path / "drift.png").exists()


@pytest.mark.slow
def test_the_commands_that_look_back(ferry, command):
    done = command("replay", ferry.path, "--to", "terminal")
    assert done.returncode == 0, done.stderr
    assert "return so far" in done.stdout
    done = command("replay", ferry.path, "--recorded", "last", "--to", "last.png")
    assert done.stdout.strip() == "last.png"
    assert "closed by" in done.stderr
    done = command("evaluate", ferry.path, "--episodes", 6, "--checkpoint", "best", "--record", 2, "--json")
    rows = json.loads(done.stdout)["results"]
    assert rows[0]["closed_by"].endswith("%")
    assert len(jm.read_rollouts(next((ferry.path / "rollouts").glob("evaluated-*.parquet")))) == 2
    done = command("evaluate", ferry.path, "--map", "position,speed")
    assert done.stdout.strip().endswith("policy-over-position-speed.png"), done.stderr
    done = command("evaluate", ferry.path, "--map", "position,depth")
    assert done.returncode == 2
    assert "there are `position`, `speed`" in done.stderr


@pytest.mark.slow
def test_what_an_agent_does_is_drawn_from_what_was_recorded(ferry, tmp_path):
    axes = jm.pictures.plot_choices(ferry)
    heights = np.array([[patch.get_path().get_extents().y1 for patch in axes.patches]])
    assert heights.max() == pytest.approx(1.0)  # the shares add to one
    rollout = ferry.rollouts[0]
    figure = jm.pictures.plot_rollout(rollout, ferry.environment)
    samples = figure.axes[0].lines[0].get_ydata()
    assert np.array_equal(samples, rollout.table["position"])
    table = jm.train(Corridor(), jm.QLearning(), steps=300, lane="plain", record_every=10**6, folder=tmp_path)
    for file in (table.path / "rollouts").iterdir():
        file.unlink()
    with pytest.raises(LookupFailed, match="`record_every`"):
        jm.pictures.plot_choices(table)
    with pytest.raises(SettingError, match="there is no channel `depth` of one number"):
        jm.pictures.plot_policy(table.policy, Corridor(), ("cell", "depth"))
    pair = jm.gallery.Ferry()
    for averaged in (False, True):
        figure = jm.pictures.plot_policy(
            ferry.policy, pair, ("position", "speed"), averaged=averaged, fixed={"current": 0.0}
        )
        mesh = figure.axes[0].collections[0].get_array()
        assert set(np.unique(mesh)) <= {0, 1, 2}


def test_a_report_escapes_the_name_of_a_run(tmp_path):
    run = jm.train(Corridor(), jm.QLearning(), steps=60, lane="plain", folder=tmp_path, name="a<b>&c")
    page = jm.pictures.save_report(run, replays=False).read_text()
    assert "a&lt;b&gt;&amp;c" in page
    assert "<b>" not in page


@pytest.mark.slow
def test_a_report_is_one_page_that_needs_nothing_else(ferry, tmp_path):
    page = jm.pictures.save_report(ferry).read_text()
    assert page.count("data:image/gif;base64,") == 2
    for output in (
        "early: before any training",
        f"jokulmist redo {ferry.path}",
        "brake_in_time",
        "moored",
        "policy loss",
        "Log",
    ):
        assert output in page
    outside = [
        part[:60] for part in page.split('"') if part.startswith(("http:", "https:", "//")) and "w3.org" not in part
    ]
    assert outside == []
    charts = json.loads(page.split("const CHARTS = ")[1].split(";\n")[0])
    window = window_of(len(ferry.episodes))
    means = next(item for item in charts["curve"]["series"] if item["name"] == f"mean of {window}")
    wanted = ferry.episodes["return"].rolling(window, min_periods=10).mean().iloc[-1]
    assert means["y"][-1] == pytest.approx(wanted, rel=1e-3)
    closings = charts["runs"][0]["closings"]["series"]
    assert np.sum([item["y"] for item in closings], axis=0) == pytest.approx(1.0, abs=1e-2)
    calm = jm.train(jm.gallery.Ferry(tide=0.05), jm.QLearning(bins=4), steps=2000, folder=ferry.path.parent)
    assert {"run", "agent.use", "environment.tide"} <= set(differing([ferry, calm])[0])
    with pytest.raises(SettingError, match="runs with folders"):
        jm.pictures.save_report(jm.train(Corridor(), jm.QLearning(), steps=50, folder=None))


@pytest.mark.slow
@pytest.mark.skipif(shutil.which("chromium") is None, reason="chromium is not installed here")
def test_the_page_draws_its_charts_in_a_browser(ferry, tmp_path):
    page = jm.pictures.save_report(ferry, tmp_path / "page.html", replays=False)
    words = [
        "chromium",
        "--headless",
        "--no-sandbox",
        "--disable-gpu",
        "--disable-background-networking",
        "--virtual-time-budget=3000",
    ]
    for width in (1280, 390):
        for attempt in range(3):  # on a busy machine the browser's own clock may run out before the script has begun
            profile = tmp_path / f"profile{width}-{attempt}"
            done = subprocess.run(
                [*words, f"--user-data-dir={profile}", f"--window-size={width},800", "--dump-dom", f"file://{page}"],
                capture_output=True,
                text=True,
                timeout=240,
            )
            if "<svg" in done.stdout and "<path" in done.stdout:
                break
        assert done.stdout.count("<svg") >= 5
        assert "<path" in done.stdout


def test_runs_are_listed_filtered_and_sorted_from_their_records_alone(ferry, tmp_path, command):
    folder = tmp_path / "runs"
    shutil.copytree(ferry.path, folder / "ferry")
    small = jm.train(Corridor(), jm.QLearning(learning_rate=0.25), steps=400, folder=folder, name="small")
    origin = json.loads((folder / "ferry" / "origin.json").read_text())
    half = {**origin, "status": "running", "process": os.getpid(), "planned": {"steps": 24_000}}
    half.pop("return_last_100")
    (folder / "ferry" / "origin.json").write_text(json.dumps(half))
    (folder / "torn").mkdir()
    (folder / "torn" / "origin.json").write_text("{")
    rows, words = rows_in(folder)
    assert len(words) == 1
    by_name = {row["run"]: row for row in rows}
    assert by_name["ferry"]["status"] in ("running 49%", "running 50%", "running 51%")
    assert by_name["ferry"]["return_last_100"] == pytest.approx(ferry.mean_return(), rel=1e-4)
    assert by_name["small"]["status"] == "done"

    def names(**asked):
        return [row["run"] for row in chosen(folder, rows, **asked)]

    assert names(agent="ppo") == ["ferry"]
    assert names(status="running") == ["ferry"]
    assert names(where=["agent.learning_rate=0.25"]) == ["small"]
    assert names(where=["training.steps=400", "agent.use=QLearning"]) == ["small"]
    assert names(above=1e6) == []
    assert by_name["torn"]["status"] == "damaged"
    assert names(since="2001-01-01") == [row["run"] for row in rows if row["began"]]
    assert names(since="2101-01-01") == []
    assert names(sort="decisions") == ["ferry", "small", "torn"]
    with pytest.raises(SettingError, match="`--sort` takes a column"):
        names(sort="size")
    half["process"] = 0
    (folder / "ferry" / "origin.json").write_text(json.dumps(half))
    listed = json.loads(command("runs", "--folder", folder, "--status", "killed", "--json").stdout)
    assert [row["run"] for row in listed] == ["ferry"]
    assert small.status == "done"


def test_an_episode_by_hand_is_kept_like_any_other(tmp_path):
    episode = jm.gallery.Tarn().episode(seed=5)
    for action in ("hold", "half", "full"):
        episode.act(action)
    path = jm.save_rollout(episode, tmp_path / "mine.parquet")
    rollout = jm.read_rollouts(path)[0]
    assert rollout.table["action"].dropna().tolist() == ["hold", "half", "full"]
    assert rollout.total == pytest.approx(episode.total, rel=1e-5)
    assert rollout.closed_by is None
    unpaid = jm.gallery.Tarn(weights={"sales": 0.0}).episode(seed=5)
    unpaid.act("full")
    stored = jm.read_rollouts(jm.save_rollout(unpaid, tmp_path / "unpaid.parquet"))[0]
    assert stored.total == unpaid.total
    assert stored.table["sales"].iloc[0] > 0.0  # a term that counts for nothing is recorded
    assert pd.read_parquet(path)["level"].iloc[-1] == pytest.approx(episode.observation.level, rel=1e-6)


def test_where_a_class_has_no_picture_what_is_observed_is_drawn(tmp_path):
    run = jm.train(Corridor(), jm.RandomPlay(), episodes=2, lane="plain", record_every=1, folder=tmp_path, seed=1)
    scene = recorded_scene(run, "last")
    cells = scene.rollout.table["cell"].to_numpy()
    moment = int(np.flatnonzero(cells != cells[0])[0])
    frames = ReplayFrames([scene], Corridor())
    first, later = (np.asarray(frames.frame(k), int)[: int(HEIGHT * DPI) // 2] for k in (0, moment))
    water = np.array([0x2F, 0x6F, 0x8F])
    blue = [(np.abs(frame - water).sum(axis=2) < 30).sum() for frame in (first, later)]
    assert blue[0] != blue[1]  # the bar is as long as the cell is far
    assert (blue[1] > blue[0]) == (cells[moment] > cells[0])
