"""Evaluation: fixed episodes, the same for everyone, without exploration and apart from training."""

import numpy as np
import pytest
from canon import fresh_policy
from places import Corridor, Lift, Skiff

import jokulmist as jm
from jokulmist.environments.declaration.instance import describe
from jokulmist.errors import LookupFailed, RecordError, SettingError
from jokulmist.judging import cached_references
from jokulmist.judging import evaluate as evaluation
from jokulmist.judging.cached_references import known_references
from jokulmist.judging.evaluate import evaluate, evaluate_references, sees_more
from jokulmist.loops import compiled, program
from jokulmist.plans.fingerprint import fingerprint
from jokulmist.plans.sources import environment_class
from jokulmist.running.session import session


def test_episode_i_is_the_same_however_many_are_asked_and_whoever_plays():
    env = jm.gallery.Tarn()
    few, many = (jm.evaluate("sell_high", env, episodes=count, seed=3) for count in (5, 80))
    assert np.array_equal(few.returns, many.returns[:5])
    starts = [
        jm.evaluate(player, env, episodes=5, seed=3).columns["highest_level"] for player in ("random", "sell_high")
    ]
    assert not np.array_equal(*starts)
    assert not np.array_equal(few.returns, jm.evaluate("sell_high", env, episodes=5, seed=4).returns)


def test_each_copy_plays_its_share_and_not_the_first_to_finish():
    """Long episodes count as often as short ones: the mean length is that of one episode after another."""
    env = Corridor(slip=0.5)
    together = jm.evaluate("random", env, episodes=300, seed=0)
    assert together.columns["episode"].tolist() == list(range(300))
    assert set(together.columns["steps"].tolist()) >= {2, 4, 8}
    one_by_one = [jm.evaluate("random", env, episodes=1, seed=s).columns["steps"][0] for s in range(150)]
    assert together.columns["steps"].mean() == pytest.approx(np.mean(one_by_one), rel=0.2)


def test_the_interval_is_students():
    result = jm.evaluate("random", jm.gallery.Tarn(), episodes=40)
    from scipy import stats

    low, high = stats.t.interval(0.95, 39, loc=result.mean, scale=stats.sem(result.returns))
    assert result.interval == pytest.approx((low, high))
    assert result.sd == pytest.approx(np.std(result.returns, ddof=1))
    assert "40 episodes" in repr(result)
    assert list(result.episodes.columns[:4]) == ["policy", "act", "seed", "learned"]


@pytest.mark.slow
def test_a_policy_acts_without_exploration_unless_told(trained):
    env = jm.gallery.Tarn()
    greedy = jm.evaluate(trained.policy, env, episodes=60)
    sampled = jm.evaluate(trained.policy, env, episodes=60, act="sampled")
    assert greedy.returns.mean() > jm.evaluate("random", env, episodes=60).returns.mean()
    assert (greedy.act, sampled.act, greedy.policy_name) == ("greedy", "sampled", "policy")
    assert not np.array_equal(greedy.returns, sampled.returns)
    assert np.array_equal(greedy.returns, jm.evaluate(trained.policy, env, episodes=60).returns)


def test_a_policy_chooses_the_best_value_and_says_so(trained):
    episode = jm.gallery.Tarn().episode(seed=5)
    for _ in range(30):
        values = trained.policy.values(episode.observation)
        assert values[trained.policy.spec.action.label(trained.policy.choose(episode.observation))] == max(
            values.values()
        )
        episode.act(trained.policy.choose({"level": episode.observation.level, "hour": episode.observation.hour}))
    chosen = {trained.policy.choose([12.0, 4.0], act="sampled", seed=s) for s in range(200)}
    assert chosen == {0, 1, 2}
    with pytest.raises(SettingError, match="lacks `hour`"):
        trained.policy.choose({"level": 1.0})
    with pytest.raises(SettingError, match="has 2 numbers"):
        trained.policy.choose([1.0])
    with pytest.raises(SettingError, match="`greedy` or `sampled`"):
        trained.policy.choose([1.0, 2.0], act="best")


def test_a_policy_is_saved_opened_and_refuses_another_environment(trained, tmp_path):
    path = trained.policy.save(tmp_path / "policy.safetensors")
    opened = jm.Policy.open(path)
    assert np.array_equal(opened.learner.values, trained.policy.learner.values)
    assert (opened.agent, opened.spec, opened.decisions) == (trained.policy.agent, trained.policy.spec, 30_000)
    with pytest.raises(SettingError, match=r"observes .*'level', 'hour'.* shows .*'cell'"):
        jm.evaluate(opened, Corridor())
    with pytest.raises(SettingError, match=r"channel `level` of `Tarn` differs.*in \[0, 60\].*in \[0, 25\]"):
        jm.evaluate(opened, jm.gallery.Tarn(capacity=60.0))
    (tmp_path / "torn.safetensors").write_bytes(path.read_bytes()[:100])
    with pytest.raises(RecordError, match="it is torn, or no safetensors file"):
        jm.Policy.open(tmp_path / "torn.safetensors")


def test_random_play_and_references_are_measured_on_the_same_episodes():
    references = evaluate_references(Corridor(slip=0.2), episodes=50)
    assert list(references) == ["random", "go_right"]
    assert references["go_right"].mean == pytest.approx(0.8)
    with pytest.raises(LookupFailed, match=r"no reference `go_rihgt`.*Did you mean `go_right`"):
        jm.evaluate("go_rihgt", Corridor())
    with pytest.raises(SettingError, match="whole number above 0"):
        jm.evaluate("random", Corridor(), episodes=0)
    assert jm.evaluate("random", Skiff(), episodes=20).mean == pytest.approx(0, abs=10)


def test_a_reference_that_reads_hidden_fields_is_marked():
    class Peeking(Skiff):
        @jm.reference
        def by_gust(self, state):
            return {"tack": 0, "sail": 1.0 if state.gust > 1.0 else 0.0}

        @jm.reference
        def by_place(self, state):
            return {"tack": int(state.place < 0.0), "sail": 1.0}

    assert describe(Peeking()).outline.references == ("by_gust", "by_place")
    assert sees_more(Peeking(), "by_gust")
    assert not sees_more(Peeking(), "by_place")
    assert not sees_more(jm.gallery.Ferry(), "brake_in_time")


def test_evaluations_during_training_are_recorded_and_change_nothing(trained):
    assert trained.evaluated.groupby("learned").size().to_dict() == {15_000: 10, 30_000: 10}
    without = jm.train(jm.gallery.Tarn(), trained.plan.agent, steps=30_000, copies=3, folder="runs")
    assert (without.path / "episodes.csv").read_bytes() == (trained.path / "episodes.csv").read_bytes()


READER = """
from pathlib import Path

import jokulmist as jm


class Reader(jm.Environment):
    time_limit = 3

    class State(jm.State):
        hour: int = jm.seen(low=0, high=3)

    action = jm.Choice("stay", "go")

    def begin(self, draw):
        return self.State(hour=0)

    def advance(self, state, action, draw):
        return state.replace(hour=state.hour + 1)

    @jm.reward
    def paid(self, action):
        return float((Path(__file__).parent / "worth.txt").read_text()) * action

    @jm.reference
    def going(self, state):
        return 1
"""


def close(one, other):
    """Whether two evaluations are the same episodes, up to the rounding of single precision."""
    assert list(one.columns) == list(other.columns)
    for name, column in one.columns.items():
        if column.dtype == object:
            assert (column == other.columns[name]).all(), name
        else:
            assert np.allclose(column.astype(float), other.columns[name].astype(float), rtol=1e-4, atol=1e-4), name


@pytest.mark.parametrize("turns", [program.EVALUATED_TURNS, 7])  # 7: episodes last over several calls of the program
def test_a_compiled_evaluation_plays_the_episodes_of_the_plain_one(turns, monkeypatch):
    policy = fresh_policy(jm.QLearning(bins=8, initial_value=0.0), Lift())
    monkeypatch.setattr(program, "EVALUATED_TURNS", turns)
    program._PROGRAMS.clear()
    for more in ({}, {"act": "sampled"}, {"vary": {"rush": jm.between(0.1, 1.5)}}):
        settings = {"episodes": 70, "seed": 3, **more}
        close(evaluate(policy, Lift(), lane="compiled", **settings), evaluate(policy, Lift(), lane="plain", **settings))


GALLERY = {
    "Ferry": jm.PPO(network=jm.Dense(8)),
    "Winch": jm.SAC(network=jm.Dense(8)),
    "Greenhouse": jm.PPO(network=jm.Recurrent(8), horizon=16),
    "Skerry": jm.PPO(network=jm.Dense(8)),
    "Aurora": jm.DQN(),
    "Haul": jm.PPO(network=jm.Dense(8)),
}


@pytest.mark.slow
@pytest.mark.parametrize("name", GALLERY)
def test_a_compiled_evaluation_of_the_gallery_plays_the_episodes_of_the_plain_one(name):
    environment = getattr(jm.gallery, name)()
    policy = fresh_policy(GALLERY[name], environment)
    close(*(evaluate(policy, environment, episodes=6, seed=3, lane=lane) for lane in ("compiled", "plain")))


@pytest.mark.slow
def test_a_compiled_run_is_evaluated_compiled_and_says_where_an_episode_never_closes(monkeypatch, tmp_path):
    told, played = [], evaluation.evaluate_compiled
    monkeypatch.setattr(evaluation, "evaluate_compiled", lambda *given: told.append(1) or played(*given))
    settings = {"copies": 4, "evaluate_every": 2_000, "evaluate_episodes": 300, "folder": tmp_path, "lane": "compiled"}
    run = jm.train(Corridor(slip=0.2), jm.QLearning(), steps=4_000, **settings)
    assert len(told) == 2
    last = run.evaluated[run.evaluated["learned"] == 4_000]
    settings = {"episodes": 300, "seed": session.EVALUATION_SEED}
    again = evaluate(run.policy, run.environment, lane="plain", **settings)
    evaluate(run.policy, run.environment, **settings)
    assert len(told) == 2  # so few are not worth a program
    evaluate(run.policy, run.environment, episodes=evaluation.WORTH_COMPILING // run.environment.time_limit)
    assert len(told) == 3
    assert np.allclose(last["return"], again.returns, atol=1e-5)

    class Still(Corridor):
        time_limit = None

        def advance(self, state, action, draw):
            return state.replace(cell=state.cell + 0 * action)

    monkeypatch.setattr(compiled, "MOST_ADVANCES", 600)
    with pytest.raises(SettingError, match="`Still` did not close within"):
        evaluate(fresh_policy(jm.QLearning(), Still()), Still(), episodes=2, lane="compiled")
    for wrong in ({"lane": "arrays"}, {"lane": "compiled", "record": 1}, {"lane": "compiled", "discount": 0.9}):
        with pytest.raises(SettingError, match="lane"):
            evaluate(run.policy, run.environment, episodes=2, **wrong)


def test_what_references_reach_is_kept_for_other_processes_until_anything_of_it_changes(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    (tmp_path / "reader.py").write_text(READER, encoding="utf-8")
    played = []
    monkeypatch.setattr(
        cached_references,
        "evaluate",
        lambda *a, episodes, **k: played.append(episodes) or jm.evaluate(*a, episodes=episodes, **k),
    )

    def known(worth, weight=1.0):
        (tmp_path / "worth.txt").write_text(worth, encoding="utf-8")
        fingerprint.cache_clear()
        environment = environment_class(f"{tmp_path / 'reader.py'}:Reader")(weights={"paid": weight})
        played.clear()
        result, wanted = known_references(environment, 20), evaluate_references(environment, 20)
        for name, expected in wanted.items():
            assert expected.columns.keys() == result[name].columns.keys()
            for column, values in expected.columns.items():
                assert values.dtype == result[name].columns[column].dtype
                np.testing.assert_array_equal(values, result[name].columns[column])
        return list(played)

    assert known("1.5") == []  # nothing was kept: all are played
    assert known("1.5") == [4, 4]  # the first episodes are tried again, the others are read
    assert known("2.5") == [4]  # what the class reads has changed, which its code does not show
    (file,) = (tmp_path / "cache" / "jokulmist" / "references").iterdir()
    file.write_text(file.read_text()[:50], encoding="utf-8")
    assert known("2.5") == []
    assert known("2.5") == [4, 4]
    assert known("2.5", weight=2.0) == []  # another environment
