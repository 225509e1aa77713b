"""What trials stumbled over, one by one."""

import bdb
import math
import os
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from places import Corridor

import jokulmist as jm
from jokulmist.command import main as command_line
from jokulmist.command.printing import _cell
from jokulmist.errors import BrokenEnvironment, DeclarationError, LookupFailed, RunNotice, SettingError
from jokulmist.records.files import write_json
from jokulmist.studies.search.candidates import Board
from jokulmist.studies.search.search import _at_work


def run_command(*words):
    with pytest.raises(SystemExit) as ended:
        command_line.main([str(word) for word in words])
    return ended.value.code or 0


@pytest.mark.slow
@pytest.mark.parametrize("lane", ["plain", "compiled"])
def test_episodes_end_at_their_number_and_go_on_from_there(lane):
    agent = jm.PPO(horizon=16, network=jm.Dense(4))
    run = jm.train(Corridor(slip=0.2), agent, episodes=30, copies=4, lane=lane, record_every=1)
    assert (len(run.episodes), run.origin["episodes"]) == (30, 30)
    assert max(rollout.episode for rollout in run.rollouts) < 30
    more = jm.resume(run, episodes=13)
    assert (len(more.episodes), more.episodes.index.tolist()) == (43, list(range(43)))


@pytest.mark.slow
@pytest.mark.parametrize("lane", ["plain", "compiled"])
def test_a_plan_of_episodes_does_not_depend_on_the_clock(lane, monkeypatch):
    """Reports, the best policy, levels and an early end fall on the same turns, however finely the way between them is
    cut."""
    result = []
    for seconds in (1e-6, 0.02, 60.0):
        monkeypatch.setattr("jokulmist.running.session.session.PIECE_SECONDS", seconds)
        levels = jm.Levels("slip", (0.1, 0.3), above=0.2, last=20)
        run = jm.train(
            Corridor(),
            jm.QLearning(),
            episodes=900,
            copies=3,
            lane=lane,
            curriculum=levels,
            stop_when={"plateau": 1_500},
        )
        readings = run.readings.drop(columns=["seconds", "steps_per_second"])
        result.append(
            (run.episodes.to_csv(), readings.to_csv(), run.best.decisions, run.origin["decisions"], run.origin["level"])
        )
    assert result[0] == result[1] == result[2]
    assert len(readings) > 5


def test_values_of_the_wrong_kind_or_size_are_told():
    for make, output in (
        (lambda: jm.PPO(learning_rate=-1e-3), "`learning_rate` of `PPO`: must not be below 0; got -0.001"),
        (lambda: jm.PPO(clip=float("inf")), "`clip` of `PPO`: must be a finite number in single precision; got inf"),
        (lambda: jm.DQN(discount=True), "`discount` of `DQN`: must be a number; got True"),
        (lambda: jm.DQN(double="yes"), "`double` of `DQN`: must be true or false; got 'yes'"),
        (lambda: jm.QLearning(initial_value=float("nan")), "`initial_value` of `QLearning`: must be a finite number"),
        (lambda: jm.SAC(learning_rate="0.1"), "must be a number, without quotation marks; got '0.1'"),
        (
            lambda: jm.train(Corridor(), jm.DQN(replay_size=2_000_000_000), steps=99),
            r"keeps of the past takes [\d.]+ GB",
        ),
        (
            lambda: jm.train(Corridor(), jm.DQN(minibatch=200_000), steps=99),
            "which is more than `replay_size` = 100,000",
        ),
        (lambda: jm.Choice(10**30), "at most 100,000 alternatives"),
        (lambda: jm.Run.open(3), "a run is a path; got 3"),
        (lambda: jm.compare([1, 2]), "a run is a path; got 1"),
    ):
        with pytest.raises((SettingError, DeclarationError), match=output):
            make()
    assert jm.SAC(entropy_target=-3.0).entropy_target == -3.0
    assert not Path("runs").exists()


@pytest.mark.slow
def test_a_budget_in_which_nothing_can_be_learned_is_told_before():
    with pytest.raises(
        SettingError, match=r"`steps` is 2,000, and `PPO` gathers 64 copies of \d+ decisions.*`copies=\d+`"
    ):
        jm.train(jm.gallery.Tarn(), jm.PPO(), steps=2_000, copies=64)
    assert not Path("runs").exists()
    with pytest.warns(
        RunNotice, match=r"nothing can be learned in 60 decisions: `DQN` begins to learn after `replay_start` = 1,000"
    ):
        jm.train(Corridor(), jm.DQN(), steps=60, folder=None)
    with pytest.warns(RunNotice, match=r"no episode may close in 10 decisions"):
        jm.train(Corridor(), jm.QLearning(), steps=10, folder=None)
    assert jm.train(Corridor(), jm.QLearning(), steps=1e2, folder=None).origin["decisions"] == 100


@pytest.mark.slow
def test_a_run_that_is_longer_than_asked_for_is_told_and_an_update_without_an_episode_changes_no_reading():
    agent = jm.Reinforce(horizon=8, network=jm.Dense(4), scaling="bounds")
    with pytest.warns(
        RunNotice, match=r"128 decisions will be trained, and not 121: `Reinforce` learns from 8 at a time"
    ):
        run = jm.train(Corridor(length=30), agent, steps=121, copies=1, lane="plain", folder=None)
    readings = run.readings
    assert run.origin["decisions"] == 128
    none = readings["decisions_learned"].to_numpy() == 0.0
    assert none.any()
    assert not none.all()
    output = readings["entropy"].to_numpy()
    first = int(np.flatnonzero(~none)[0])
    assert (output[first:] > 0.0).all()  # those of nothing would be 0
    assert not output[:first].any()


def test_numbers_of_64_bits_are_held_in_32_without_a_word(recwarn):
    class Counted(Corridor):
        class State(jm.State):
            cell: int = jm.seen(low=0, values="length")
            seen: int = jm.field(dtype=int)

        def begin(self, draw):
            return self.State(cell=2, seen=0)

        def advance(self, state, action, draw):
            return super().advance(state, action, draw).replace(seen=state.seen + 1)

    assert jm.train(Counted(), jm.QLearning(), steps=300, lane="compiled", folder=None).status == "done"
    assert not [one for one in recwarn if "int64" in str(one.message)]


def test_a_simulator_may_name_a_term_as_what_closes_an_episode_and_step():
    class Quay(jm.Simulator):
        observation = {"at": jm.channel(low=-9.0, high=9.0), "beams": jm.channel(low=-9.0, high=9.0, shape=3)}
        action = jm.Choice("left", "right")
        terms = {"parked": 10.0, "step": -0.1}
        endings = ("parked",)
        time_limit = 9

        def begin(self, seed):
            self.at = float(seed % 3)
            return {"at": self.at, "beams": [self.at, 0.5, 0.0]}

        def advance(self, action):
            self.at += 2 * action - 1
            done = self.at >= 3
            seen = {"at": self.at, "beams": [self.at, 0.5, 0.0]}
            return jm.Outcome(seen, {"parked": done, "step": 1.0}, "parked" if done else None)

    run = jm.train(Quay(), jm.QLearning(bins=4), steps=400, folder=None)
    landed = run.episodes[run.episodes["closed_by"] == "parked"]
    assert np.allclose(landed["return"], 10.0 - 0.1 * landed["steps"])
    seen = jm.tabulate_steps(Quay(), 4, policy=run.policy)
    assert seen["beams[0]"].tolist() == seen["at"].tolist()
    assert seen["moment"].tolist()[0] == 1
    with pytest.raises(DeclarationError, match="uses the name `at` twice"):
        type("Wrong", (Quay,), {"terms": {"at": 1.0}})


def test_what_is_meant_is_taken_or_told(tmp_path):
    run = jm.train(Corridor(), jm.QLearning(), steps=200, name="meant")
    assert jm.evaluate(run, Corridor(), episodes=3).mean == jm.evaluate(run.policy, Corridor(), episodes=3).mean
    assert jm.plot("runs/meant").get_title() == jm.plot(run).get_title()
    for call, output in (
        (
            lambda: jm.evaluate(Corridor(), run.policy),
            r"they are swapped. Write `jm.evaluate\(run.policy, run.environment\)`",
        ),
        (
            lambda: jm.pictures.plot_policy(run.policy, ("cell", "cell"), Corridor()),
            r"an environment is expected here; got \('cell', 'cell'\). Look at the order",
        ),
        (lambda: jm.tabulate_steps(Corridor), r"got the class `Corridor`. Make an instance, `Corridor\(\)`"),
        (
            lambda: jm.pictures.save_pictures(jm.train(Corridor(), jm.QLearning(), steps=50, folder=None)),
            r"in memory has no folder for pictures",
        ),
        (lambda: jm.evaluate(3, Corridor()), "takes a policy, a run"),
        (lambda: jm.Policy.open("runs/meant"), r"jm.Run.open\('runs/meant'\).policy"),
        (lambda: jm.QLearning(epsilon=0.1), "often called `epsilon` is `exploration` here"),
        (lambda: jm.QLearning(gamma=0.1), "often called `gamma` is `discount` here"),
        (lambda: jm.DQN(batch_size=4), "often called `batch_size` is `minibatch` here"),
        (lambda: jm.DQN(copies=4), r"`copies` belongs to the training: `jm.train\(..., copies=...\)`"),
        (lambda: jm.Choice(0, 10, 20), r"jm.Choice\('0', '10', '20'\)"),
        (lambda: jm.DQN(learning_rate="a"), r"got 'a'\. In Python use [^;]*$"),
    ):
        with pytest.raises((SettingError, DeclarationError), match=output):
            call()
    with pytest.raises(DeclarationError, match=r"names parts `steps`, `return`.*It also uses the name `cell` twice"):
        type(
            "Wrong",
            (Corridor,),
            {
                "steps": jm.reward(lambda self, after: 0.0),
                "return": jm.reward(lambda self, after: 0.0),
                "cell": jm.reward(lambda self, after: 0.0),
            },
        )


@pytest.mark.slow
def test_a_table_comes_out_as_a_frame_with_the_bins_of_its_channels():
    run = jm.train(jm.gallery.Tarn(), jm.QLearning(bins=4), steps=3_000, folder=None)
    table = run.policy.table
    assert list(table.columns) == ["hold", "half", "full"]
    assert table.index.names == ["level", "hour"]
    assert len(table) == 4 * 97
    for row in table[(table != 0.0).any(axis=1)].sample(20, random_state=1).itertuples():
        inside = np.array([place.mid if isinstance(place, pd.Interval) else place for place in row.Index])
        assert list(run.policy.values(inside).values()) == pytest.approx(list(row[1:]))
    with pytest.raises(SettingError, match="`RandomPlay` keeps no table"):
        _ = jm.train(Corridor(), jm.RandomPlay(), steps=20, folder=None).policy.table


def test_the_end_is_judged_where_evaluation_judges():
    run = jm.train(
        Corridor(),
        jm.QLearning(),
        steps=500,
        evaluate_every=200,
        evaluate_episodes=5,
        best_by="evaluation",
        lane="plain",
    )
    assert sorted(set(run.evaluated["learned"])) == [200, 400, 500]


@pytest.mark.slow
def test_commands_say_what_is_not_there_and_check_a_plan_with_its_changes(capsys):
    assert run_command("runs", "--folder", "nosuch") == 2
    assert "there is no folder nosuch" in capsys.readouterr().err
    assert run_command("runs") == 0
    Path("plan.toml").write_text(
        '[environment]\nuse = "tarn"\nmelt = 2.0\nmodify = [{ use = "Hide", channels = ["hour"] }]\n'
        '[agent]\nuse = "QLearning"\n[training]\nsteps = 1_000\n[vary]\nmelt = { between = [1.0, 3.0] }\n'
    )
    capsys.readouterr()
    assert run_command("check", "plan.toml", "--show", 2, "--json") == 0
    hidden = capsys.readouterr().out
    assert run_command("check", "tarn", "--set", "environment.melt=0.0", "--show", 4, "--json") == 0
    assert capsys.readouterr().out != hidden
    assert run_command("train", "plan.toml", "--dry") == 0
    run = jm.train(jm.gallery.Tarn(), jm.PPO(), steps=64, copies=1, lane="plain", name="short")
    assert len(run.episodes) == 0
    assert "no episode had closed, so there is nothing to compare" in str(jm.redo(run))


def test_a_level_that_training_never_reached_is_told(capsys):
    levels = jm.Levels("slip", (0.0, 0.5), score="return", above=100.0)
    jm.train(Corridor(), jm.QLearning(), steps=300, curriculum=levels, name="low", lane="plain")
    assert run_command("evaluate", "runs/low", "--episodes", 3) == 0
    assert "measured at the last level of the curriculum, `slip` 0.5; training came to 0." in capsys.readouterr().err


def own_agent(**functions):
    """A class of an agent of one's own, with some of its functions in other ways."""
    usual = {
        "fresh_learner": lambda config, hyperparameters, noise: {"w": np.zeros(2)},
        "choose": lambda config, hyperparameters, learner, memory, observed, noise, explore: (
            np.zeros(config.copies, int),
            memory,
            (),
        ),
        "learn": lambda config, hyperparameters, learner, memory, experience, noise: (learner, memory, (1.0,)),
    }
    functions = {
        name: staticmethod(function) for name, function in {**usual, **functions}.items() if function is not None
    }
    return type("Mine", (jm.Agent,), {"traced": False, "reading_names": ("gain",), "__module__": "mine", **functions})


def test_what_an_agent_of_ones_own_gives_is_checked_before_and_at_its_first_call():
    for agent, output in (
        (own_agent(learn=None, fresh_learner=None), "`Mine` has no `fresh_learner`, `learn`"),
        (
            own_agent(fresh_learner=lambda *given: {"w": {"deep": object()}}),
            r"gave `learner.w.deep` as object, which cannot be saved",
        ),
        (
            own_agent(fresh_memory=lambda *given: {"at": "bow"}),
            r"`Mine.fresh_memory` gave `memory.at` as str, which cannot be saved",
        ),
    ):
        with pytest.raises(SettingError, match=output):
            jm.train(Corridor(), agent(), steps=100, folder=None)
    for agent, output in (
        (
            own_agent(learn=lambda s, n, learner, memory, e, d: (learner, memory, (1.0, 2.0))),
            r"gave 2 readings; `reading_names` has 1: `gain`",
        ),
        (own_agent(learn=lambda s, n, learner, memory, e, d: learner), r"`Mine.learn` gave dict; it gives three"),
        (own_agent(choose=lambda s, n, learner, memory, o, d, x: 1), r"`Mine.choose` gave int; it gives three"),
        (own_agent(choose=lambda s, n, learner, memory, o, d, x: (1, memory, ())), "gave 1 for 2 copies"),
    ):
        with pytest.raises(BrokenEnvironment, match=output):
            jm.train(Corridor(), agent(), steps=100, copies=2, folder=None)
    assert jm.train(Corridor(), own_agent()(), steps=100, folder=None).status == "done"
    with pytest.raises(DeclarationError, match=r"`rate = 3.0`. Write `rate: float = 3.0`, or `rate: ClassVar\[float\]"):
        type("Loose", (jm.Agent,), {"rate": 3.0, "__module__": "mine"})


def test_a_network_of_ones_own_is_tried_before_it_is_trained():
    import equinox as eqx

    class Net(eqx.Module):
        layer: eqx.nn.Linear

        def __call__(self, inputs):
            return self.layer(inputs.numbers)

    for outputs, inputs, told in (
        (1, 0, r"returns the shape \(3,\); it must return 2 numbers"),
        (0, 3, r"failed on one observation of 1 numbers"),
    ):

        def network(channels, out, key, more=outputs, wide=inputs):
            return Net(eqx.nn.Linear(1 + wide, out + more, key=key))

        with pytest.raises(SettingError, match=told):
            jm.train(Corridor(), jm.DQN(network=network, replay_start=50), steps=200, folder=None)


def test_small_numbers_are_not_nothing_and_a_reused_process_is_not_at_work(tmp_path):
    assert [_cell(value, 3) for value in (0.0, 0.0001, -0.2, math.nan)] == ["0.000", "0.0001", "-0.200", "-"]
    board = Board((0,), host=os.uname().nodename, process=os.getppid())
    write_json(tmp_path / "search.json", {})
    assert _at_work(board, tmp_path / "search.json")
    os.utime(tmp_path / "search.json", (1.0, 1.0))  # written before that process began
    assert not _at_work(board, tmp_path / "search.json")


def test_a_failure_is_told_at_the_users_own_line_and_leaving_the_debugger_is_an_interruption():
    import json

    class Reads(Corridor):
        def advance(self, state, action, draw):
            return json.loads("{")

    with pytest.raises(BrokenEnvironment, match=r"test_edges.py:\d+\) failed: JSONDecodeError"):
        Reads().episode().act("left")

    class Debugged(Corridor):
        def advance(self, state, action, draw):
            raise bdb.BdbQuit

    with pytest.raises(KeyboardInterrupt):
        Debugged().episode().act("left")
    with pytest.raises(LookupFailed):
        jm.Run.open("runs/none")
