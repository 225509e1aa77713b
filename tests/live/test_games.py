"""What the page builds environments for: games, kept episodes and their code, and nothing where it only looks."""

import json
import shutil
import threading

import pytest
from commands import benchmark

import jokulmist as jm
from jokulmist.command.live import live
from jokulmist.errors import LookupFailed, UntrustedCode
from jokulmist.live import views
from jokulmist.live.app import Live, dumped
from jokulmist.live.games import Games
from jokulmist.records.files import write_json
from jokulmist.sources import trust
from jokulmist.web import Refused

FOREIGN = benchmark("attack/foreign")
POND = FOREIGN.POND


def played(games, asked, folder):
    """The name of an episode that is played for three decisions and kept."""
    game = games.game(games.begin(asked, None))
    for _ in range(3):
        game.do("act", {"chosen": {"": 1}})
    return game.save(folder)


def test_an_episode_is_kept_with_its_code_and_gone_on_with_again_and_again(tmp_path):
    (tmp_path / "pond.py").write_text(POND)
    games = Games(tmp_path)
    first = played(games, {"environment": "pond.py:Pond"}, tmp_path)
    (tmp_path / "pond.py").unlink()  # what is kept is enough
    scene, environment = games.kept_scene(first, None)
    assert (scene.rollout.steps, type(environment).__name__) == (3, "Pond")
    second = played(games, {"kept": first, "moment": 2}, tmp_path)
    assert games.kept_scene(second, None)[0].rollout.steps == 3
    third = played(Games(tmp_path), {"kept": second, "moment": 1}, tmp_path)
    assert Games(tmp_path).kept_scene(third, None)[1].time_limit == 5
    assert sorted(games.names()) == sorted({first, second, third})


def test_a_kept_episode_names_no_file_and_its_code_is_asked_about(tmp_path):
    (tmp_path / "pond.py").write_text(POND)
    games, ran = Games(tmp_path), tmp_path / "ran"
    name = played(games, {"environment": "pond.py:Pond"}, tmp_path)
    beside = (tmp_path / "rollouts" / name).with_suffix("")
    output = (beside / "origin.json").read_text()
    elsewhere = tmp_path / "elsewhere.py"
    elsewhere.write_text(f"open({str(ran)!r}, 'w')\n{POND}")
    write_json(beside / "origin.json", {"environment": f"{elsewhere}:Pond"})
    with pytest.raises(UntrustedCode, match="which is not among the code that it keeps"):
        games.kept_scene(name, None)
    (beside / "origin.json").write_text(output)
    with (beside / "source" / "pond.py").open("a") as stream:
        stream.write(f"open({str(ran)!r}, 'w')\n")
    with pytest.raises(UntrustedCode, match="that was not trained on this machine by you"):
        games.begin({"kept": name, "moment": 1}, None)
    assert not ran.exists()
    shutil.move(tmp_path / "rollouts", tmp_path / "theirs")
    (tmp_path / "rollouts").symlink_to(tmp_path / "theirs")
    with pytest.raises(LookupFailed, match="no episode was kept as"):
        games.kept_scene(name, None)


def test_a_page_that_only_looks_makes_no_environment(tmp_path, monkeypatch):
    (tmp_path / "pond.py").write_text(POND)
    from jokulmist.plans.sources import environment_class

    pond = environment_class("pond.py:Pond", tmp_path)()
    run = jm.train(pond, jm.QLearning(bins=3), steps=60, record_every=2, lane="plain", folder=tmp_path, name="mine")
    played(Games(tmp_path), {"environment": "pond.py:Pond"}, tmp_path)
    live = Live(tmp_path, look=True)
    # Whatever is asked for: no class is read, and none that was read is used.
    monkeypatch.setattr("jokulmist.sources.reading.Modules.load", lambda *_: pytest.fail("code was read"))
    monkeypatch.setattr(
        "jokulmist.environments.environment.Environment.__init__",
        lambda *_, **__: pytest.fail("it was made"),
    )
    values = {
        "name": "mine",
        "which": "0",
        "of": "kept",
        "moment": "1",
        "verb": "resume",
        "number": "1",
        "game": "x",
        "file": "main.js",
    }
    refused = set()
    for route in live.app().routes:
        if route.path == "/api/events":
            continue
        path = route.path.replace(":str", "")
        for name, value in values.items():
            path = path.replace(f"{{{name}}}", value)
        status, output = FOREIGN.asked(
            live.app(), path, {"runs": ["mine", "mine"]} if "POST" in route.methods else None
        )
        assert status < 500, (path, output)
        assert status in (200, 400, 403, 404), (path, output)
        refused |= {path} if status == 403 and "--look" in output else set()
    episode = "/api/episode/kept/mine/0"
    assert refused == {
        *(f"/api/{name}" for name in ("begin", "choices", "fields", "games", "games/x/picture", "games/x/resume")),
        *(f"/api/{name}" for name in ("job/1/resume", "run/mine/replay/0", "run/mine/resume", "search/mine")),
        *(episode, f"{episode}/1/picture", f"{episode}/1/says"),
    }
    status, output = FOREIGN.asked(live.app(), "/api/run/mine", {})
    assert (status, '"mean of 10"' in output) == (200, True)
    assert trust.is_known(trust.digest(run.path / "source"))


def test_a_policy_moves_first_for_whoever_takes_the_second_seat(tmp_path):
    agents = {player: jm.QLearning(bins=2) for player in jm.gallery.Lots.players}
    run = jm.train(jm.gallery.Lots(), agents, steps=20, lane="plain", folder=tmp_path, name="pair")
    games = Games(tmp_path)
    game = games.game(games.begin({"run": "pair", "shared": True}, lambda name: run.path))
    told = game.answer("sit", {"player": "younger"})
    assert (told["decision"], told["waits_for"], told["occupants"]) == (1, ["younger"], ["younger"])
    with pytest.raises(Refused, match="somebody else plays younger"):
        game.answer("sit", {"player": "younger"})


def test_an_answer_holds_whatever_a_record_does():
    output = json.loads(dumped({"a\ud800": ["\ud800", 10**30, -(10**30), 1.5, float("nan"), True, None]}))
    assert output == {"a?": ["?", str(10**30), str(-(10**30)), 1.5, None, True, None]}


def test_other_machines_are_told_of(tmp_path, monkeypatch, capsys):
    # Its configuration would send the log of this process to what is captured here.
    monkeypatch.setattr("uvicorn.Config", lambda *_, **__: None)
    quiet = {"__init__": lambda self, _: None, "run": lambda self, **_: None}
    monkeypatch.setattr("uvicorn.Server", type("Quiet", (), quiet))
    live(tmp_path, "0.0.0.0", 0, 0, True, None)
    assert "Other machines can reach this port" in capsys.readouterr().err
    live(tmp_path, "127.0.0.1", 0, 0, True, None)
    assert "Other machines" not in capsys.readouterr().err


def test_a_run_is_told_before_random_play_was_measured(tmp_path, monkeypatch):
    run = jm.train(jm.gallery.Tarn(), jm.QLearning(bins=8), steps=600, lane="plain", folder=tmp_path)
    may_end, measured = threading.Event(), views.known_references

    def slow(environment):
        may_end.wait()
        return measured(environment)

    monkeypatch.setattr(views, "known_references", slow)
    told = views.detail(run.path, True)
    assert told["measuring"]
    assert "random" not in [series["name"] for series in told["curve"]["series"]]
    may_end.set()
    while views.detail(run.path, True)["measuring"]:
        pass
    assert "random" in [series["name"] for series in views.detail(run.path, True)["curve"]["series"]]
