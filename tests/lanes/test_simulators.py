"""Simulators: what is declared, played here and in worker processes, and what happens when a process dies or hangs."""

import importlib.util
import re
from pathlib import Path

import numpy as np
import pytest
from places import Drift

import jokulmist as jm
from jokulmist.environments.declaration.instance import describe
from jokulmist.errors import BrokenEnvironment, CodeNotice, DeclarationError, SettingError

ROOT = Path(__file__).parents[2]


def module_at(path):
    spec = importlib.util.spec_from_file_location(path.stem, path)
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


def widths(draw):
    """Of an episode; the whole number is one in a worker process, too."""
    return {"width": draw.uniform(2.0, 4.0), "every": 1 + draw.integers(0, 9)}


def shown(run):
    return run.episodes.to_csv(index=False)


@pytest.fixture(scope="module")
def speeds():
    return module_at(ROOT / "benchmarks" / "simulators.py")


def test_by_hand_the_same_seed_gives_the_same_episode_and_no_way_back():
    first, second = (Drift().episode(seed=4) for _ in range(2))
    for episode in (first, second):
        while not episode.over:
            episode.act("left")
    assert first.total == second.total
    assert first.measures["farthest"] == pytest.approx(max(abs(first.observation.at), first.measures["farthest"]))
    assert first.total == pytest.approx(sum(first.totals.values()))
    with pytest.raises(SettingError, match=r"does not go back.*seed=4"):
        first.back(1)


@pytest.mark.parametrize(
    ("change", "told"),
    [
        ({"terms": {}}, "has no reward"),
        ({"observation": {}}, "shows the agent nothing"),
        ({"action": None}, "declares no action"),
        ({"endings": "adrift"}, "tuples of names"),
        ({"measures": {"farthest": "widest"}}, "one of `sum`, `mean`"),
        ({"measures": {"near": "sum"}}, "`near` twice"),
        ({"endings": ("lost",)}, "whose worker process is lost. Rename it"),
        ({"extra": jm.sensor(lambda self, state: 0.0)}, "marked as a sensor"),
        ({"advance": lambda self, state, action: None}, "must take"),
    ],
)
def test_what_is_declared_wrongly_is_told_when_the_class_is_read(change, told):
    with pytest.raises(DeclarationError, match=told):
        type("Wrong", (Drift,), change)


@pytest.mark.parametrize(
    ("outcome", "told"),
    [
        (lambda seen: seen, "returned dict; it must return"),
        (lambda seen: jm.Outcome({"at": 0.0}), "observed `at`; declared are `at`, `age`"),
        (lambda seen: jm.Outcome({**seen, "at": np.nan}), "must be finite"),
        (lambda seen: jm.Outcome(seen, terms={"naer": 1.0}), "Did you mean `near`"),
        (lambda seen: jm.Outcome(seen, closed_by="adrif"), "Did you mean `adrift`"),
        (lambda seen: jm.Outcome(seen, measures={"farthest": np.inf}), "must be finite"),
    ],
)
def test_what_a_simulator_tells_wrongly_is_refused(outcome, told):
    class Wrong(Drift):
        def advance(self, action):
            return outcome({"at": 0.0, "age": 1})

    with pytest.raises(BrokenEnvironment, match=told):
        Wrong().episode().act(0)


@pytest.mark.slow
def test_worker_processes_give_the_episodes_of_this_process(tmp_path):
    agent = jm.QLearning(bins=8)
    surroundings = [jm.modifiers.Stack(2), jm.modifiers.StickyAction(0.3), jm.modifiers.Scaled(0.5)]
    env = Drift().modified(*surroundings)
    runs = [
        jm.train(env, agent, steps=300, copies=2, vary=widths, processes=away, folder=None) for away in (False, True)
    ]
    assert shown(runs[0]) == shown(runs[1])
    assert set(runs[0].episodes["closed_by"]) == {"adrift", "time limit"}
    assert runs[0].episodes["width"].nunique() > 10
    result = jm.evaluate(runs[0].policy, env, episodes=5)
    assert len(result.episodes) == 5
    opened = jm.train(Drift(), agent, steps=200, folder=tmp_path)
    assert jm.Run.open(opened.path).policy.choose({"at": 0.5, "age": 3}) in (0, 1)


@pytest.mark.slow
@pytest.mark.parametrize(
    "agent",
    [
        jm.DQN(n_step=3, replay_start=50, minibatch=8),
        jm.PPO(horizon=16),
        jm.Reinforce(horizon=16),
    ],
    ids=lambda agent: type(agent).__name__,
)
def test_a_process_that_dies_is_replaced_and_every_turn_is_counted_once(agent, speeds):
    run = jm.train(Drift(dies_at=5), agent, steps=128, copies=2, processes=True, folder=None)
    lost = run.episodes[run.episodes["closed_by"] == "lost"]
    assert len(lost) > 0
    assert set(lost["steps"]) == {4}
    assert run.status == "done"
    assert run.origin["decisions"] == 128
    assert speeds.counted(run, 2)
    assert any("episodes lost so far, each with its process or connection" in line for line in run._memory.lines)


@pytest.mark.slow
def test_a_process_that_hangs_is_replaced_and_one_that_always_dies_is_told():
    run = jm.train(Drift(dies_at=5, hangs=True), jm.RandomPlay(), steps=40, copies=1, processes=True, folder=None)
    assert "lost" in set(run.episodes["closed_by"])
    with pytest.raises(BrokenEnvironment, match=r"lost 6 times in a row.*died with status -9.*Step it by hand"):
        jm.train(Drift(dies_at=1, every=1), jm.RandomPlay(), steps=60, processes=True, folder=None)
    with pytest.raises(SettingError, match=r"`processes` is for a `jm.Simulator`"):
        jm.train(jm.gallery.Ferry(), jm.RandomPlay(), steps=60, processes=True, folder=None)


class Pair(Drift):
    players = ("bow", "stern")

    def advance(self, actions):
        return super().advance(actions.bow)


class Turns(Pair):
    says_turn = True

    def begin(self, seed):
        return jm.Outcome(super().begin(seed), turn=0)

    def advance(self, actions):
        outcome = super().advance(actions)
        return jm.Outcome(
            outcome.observation,
            terms=outcome.terms,
            closed_by=outcome.closed_by,
            measures=outcome.measures,
            turn=self.age % 2,
        )


@pytest.mark.slow
def test_a_lost_process_takes_the_memory_of_each_player_along(monkeypatch):
    monkeypatch.syspath_prepend(str(Path(__file__).parent))
    agent = jm.DQN(network=jm.Recurrent(4, sequence=4), replay_start=20, replay_size=200, minibatch=4)
    run = jm.train(Turns(dies_at=4), agent, steps=90, copies=3, processes=True, folder=None)
    assert "lost" in set(run.episodes["closed_by"])
    assert run.origin["decisions"] == 90


class Frail(Drift):
    most_lost = 0.1


@pytest.mark.slow
def test_an_exception_in_a_process_costs_an_episode_and_too_many_of_them_the_run(monkeypatch):
    monkeypatch.syspath_prepend(str(Path(__file__).parent))
    run = jm.train(
        Drift(dies_at=3, raises=True, every=2), jm.RandomPlay(), steps=60, copies=2, processes=True, folder=None
    )
    assert "lost" in set(run.episodes["closed_by"])
    assert any(
        re.search(r"`Drift.advance` .*places.py:\d+.* ArithmeticError: the line parted", line)
        for line in run._memory.lines
    )
    output = r"\d of 2\d episodes of `Frail` were lost, which is more than `most_lost = 0.1`: .*the line parted"
    with pytest.raises(BrokenEnvironment, match=output):
        jm.train(Frail(dies_at=3, raises=True), jm.RandomPlay(), steps=900, copies=2, processes=True, folder=None)


@pytest.mark.slow
def test_an_episode_that_was_lost_is_neither_an_end_nor_a_cut_for_what_replays(speeds):
    """Three-step targets stop before the loss: no row of another episode enters them."""
    from jokulmist.agents.contract import Experience
    from jokulmist.environments.spaces.channels import ObservationBatch
    from jokulmist.learning import replay as memory

    spec = describe(Drift()).spec
    stored = memory.fresh_replay(spec, 1, 8)
    for k in range(4):
        seen = ObservationBatch(np.full((1, 1, 2), k, np.float32), {}, (), np.zeros((1, 1), np.int32))
        last = seen._replace(numbers=seen.numbers + 0.5)
        false = np.zeros((1, 1), bool)
        row = Experience(
            seen, None, np.full((1, 1), 10.0**k, np.float32), false, false, last, last, (), np.full((1, 1), k == 2)
        )
        stored = memory.add_to_replay(spec, stored, row, np.zeros((1, 1, 1), np.float32))
    result = memory.transitions(spec, stored, np.array([0, 1, 2]), np.ones(3), 2, 0.5)
    assert np.asarray(result.n_step_return).tolist() == [1.0 + 0.5 * 10.0, 10.0, 100.0 + 0.5 * 1000.0]
    assert np.asarray(result.bootstrap_discount).tolist() == [0.25, 0.5, 0.25]
    assert np.asarray(result.following.numbers)[:, 0].tolist() == [1.5, 1.5, 3.5]


def test_check_plays_a_simulator_and_finds_what_is_wrong_with_it():
    assert jm.check(Drift(), steps=400).ok

    class Wrong(Drift):
        endings = ("adrift", "sunk")
        time_limit = None
        observation = {"at": jm.channel(low=-1.0, high=1.0), "age": jm.channel(low=0, high=9)}

        def begin(self, seed):
            self.chance = np.random.default_rng()
            self.at = getattr(self, "at", 0.0)
            self.age, self.bad = 0, False
            return {"at": self.at, "age": 0}

        def advance(self, action):
            outcome = super().advance(action)
            self.age = 0
            return jm.Outcome({**outcome.observation, "age": 0}, closed_by=outcome.closed_by)

    report = jm.check(Wrong(), steps=400)
    whats = " ".join(f"{f.level} {f.problem}" for f in report.findings)
    for told in (
        "error channel `at` ranged",
        "warning channel `age` was 0",
        "warning reward term `near` was 0",
        "warning random play never met `sunk`",
        "error the same seed and actions gave another episode",
    ):
        assert told in whats


def test_the_tug_of_the_examples_is_played_by_the_engine():
    pytest.importorskip("pymunk")
    tug = module_at(ROOT / "examples" / "harbour_tug.py").HarbourTug(floes=1)
    episode = tug.episode(seed=3)
    for _ in range(30):
        episode.act("ahead")
    assert episode.observation.place[0] > -0.4  # it went east, into the ice or past it
    assert episode.image().shape == (200, 360, 3)
    assert jm.check(tug, steps=100).ok
    tug.begin(3)
    tug.ice[0].position = (23.0, 0.0)  # out in the fjord
    outcome = tug.advance(0)
    assert (outcome.terms["cleared"], outcome.closed_by) == (1, "all_clear")


def test_a_worker_process_of_a_run_that_goes_on_runs_the_code_of_the_run(tmp_path, monkeypatch):
    text = """
import jokulmist as jm

class Buoy(jm.Simulator):
    observation = {"at": jm.channel(low=-9, high=9)}
    terms = {"drift": 1.0}
    action = jm.Choice("left", "right")
    time_limit = 4

    def begin(self, seed):
        self.at = 0
        return {"at": 0.0}

    def advance(self, action):
        self.at += STEP * (2 * action - 1)
        return jm.Outcome({"at": float(self.at)}, terms={"drift": STEP})
"""
    (tmp_path / "buoy.py").write_text("STEP = 1\n" + text)
    from jokulmist.loading import function_named

    kind = function_named(f"{tmp_path / 'buoy.py'}:Buoy")
    run = jm.train(kind(), jm.RandomPlay(), steps=40, copies=2, processes=True, folder=tmp_path / "runs")
    assert set(run.episodes["drift"]) == {4.0}
    (tmp_path / "buoy.py").write_text("STEP = 2\n" + text)
    with pytest.warns(CodeNotice, match="buoy.py has changed"):
        more = jm.resume(jm.Run.open(run.path), steps=40)
    assert (len(more.episodes) >= 18, set(more.episodes["drift"])) == (True, {4.0})
