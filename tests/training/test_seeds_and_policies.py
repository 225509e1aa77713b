"""Seeds side by side, a run that diverges, and a policy as a thing to hold."""

import json
import subprocess
import sys

import numpy as np
import pytest
from places import Camera, Corridor, Gates, Signal

import jokulmist as jm
from jokulmist.errors import ActionError, BrokenEnvironment, DivergedTraining, RecordError, SettingError
from jokulmist.plans.progress import SilentDisplay
from jokulmist.records.files import read_json

QUICK = {"horizon": 8, "minibatch": 32}


class Heard(SilentDisplay):
    """Keeps what is said."""

    def __init__(self):
        self.lines, self.updates = [], []

    def message(self, text):
        self.lines.append(text)

    def update(self, progress):
        self.updates.append(progress)


@pytest.mark.slow
def test_seeds_side_by_side_give_the_bytes_that_they_give_alone(tmp_path):
    display = Heard()
    several = jm.train_seeds(
        Corridor(slip=0.2),
        jm.PPO(**QUICK),
        steps=4000,
        seeds=[3, 4, 5],
        workers=2,
        folder=tmp_path / "a",
        display=display,
    )
    assert [run.seed for run in several] == [3, 4, 5]
    assert [run.path.name for run in several] == [f"corridor-ppo-00{k}" for k in (1, 2, 3)]
    assert sum("done" in line for line in display.lines) == 3
    for run in several:
        alone = jm.train(Corridor(slip=0.2), jm.PPO(**QUICK), steps=4000, seed=run.seed, folder=tmp_path / "b")
        for file in ("episodes.csv", "plan.toml"):
            assert (alone.path / file).read_bytes() == (run.path / file).read_bytes()
        weights = [r.policy.learner.weights for r in (alone, run)]
        assert np.array_equal(*weights)


def test_a_class_that_no_file_holds_trains_here(tmp_path):
    class Inside(Corridor):
        pass

    runs = jm.train_seeds(Inside(), jm.QLearning(), steps=200, seeds=[0, 1], workers=2, folder=tmp_path)
    assert [run.status for run in runs] == ["done", "done"]
    with pytest.raises(SettingError, match="`workers` must be a whole number above 0; got 0"):
        jm.train_seeds(Inside(), jm.QLearning(), steps=200, seeds=[0, 1], workers=0, folder=tmp_path)
    with pytest.raises(SettingError, match="trains one seed"):
        jm.train(Inside(), jm.QLearning(), steps=200, seeds=[0, 1], folder=tmp_path)
    with pytest.raises(SettingError, match="Did you mean `copies`"):
        jm.train(Inside(), jm.QLearning(), steps=200, copeis=2, folder=tmp_path)


FRAGILE = """
import os
import jokulmist as jm
from places import Corridor

class Fragile(Corridor):
    def begin(self, draw):
        self_destruct = {act}
        return super().begin(draw)

jm.train_seeds(Fragile(), jm.QLearning(), steps=100, seeds=[0, 1], folder="runs", workers=2) if {guard} else None
"""


@pytest.mark.slow
@pytest.mark.parametrize("guard", ["__name__ == '__main__'", "True"])
def test_a_script_without_a_guard_does_not_start_workers_without_end(tmp_path, guard):
    (tmp_path / "mine.py").write_text(FRAGILE.format(act="None", guard=guard))
    tests = str(next(p for p in sys.path if p.endswith("tests")))
    done = subprocess.run(
        [sys.executable, "mine.py"],
        cwd=tmp_path,
        env={"PATH": "", "PYTHONPATH": tests, "HOME": str(tmp_path)},
        capture_output=True,
        text=True,
        timeout=280,
        check=False,
    )
    assert done.returncode == 0, done.stderr
    assert len(list((tmp_path / "runs").glob("*/episodes.csv"))) == 2


@pytest.mark.slow
def test_a_worker_that_dies_is_told_and_the_others_go_on(tmp_path):
    (tmp_path / "mine.py").write_text(FRAGILE.format(act="os._exit(3)", guard="False"))
    sys.path.insert(0, str(tmp_path))
    try:
        import mine

        with pytest.raises(RecordError, match=r"worker process of seed . died"):
            jm.train_seeds(
                mine.Fragile(), jm.QLearning(), steps=100, seeds=[0, 1], folder=tmp_path, workers=2, lane="plain"
            )
    finally:
        sys.path.remove(str(tmp_path))


@pytest.mark.slow
def test_a_reading_that_is_no_number_stops_the_run_and_the_last_good_policy_stays(tmp_path):
    class Spike(Corridor):
        """Rewards grow with the learning rate until nothing is finite."""

        weights_of_reward = 1.0

    agent = jm.PPO(**QUICK, learning_rate=jm.geometric(1e-3, 1e30, over=1.0), optimiser="sgd", gradient_clip=None)
    with pytest.raises(DivergedTraining) as told:
        jm.train(Spike(), agent, steps=40_000, folder=tmp_path, name="spike")
    words = str(told.value)
    assert "became" in words
    assert "decisions. The policy after" in words
    assert "Lower `learning_rate`" in words
    run = jm.Run.open(tmp_path / "spike")
    assert (run.status, run.origin["failure"][:1]) == ("failed", "`")
    assert 0 < run.policy.decisions < 40_000
    assert np.isfinite(run.policy.learner.weights).all()
    assert jm.evaluate(run.policy, Spike(), episodes=5).mean > -100


@pytest.mark.slow
def test_a_policy_chooses_tells_chances_and_values_and_is_opened_again(tmp_path):
    run = jm.train(Gates(), jm.PPO(**QUICK), steps=4000, copies=8, folder=tmp_path)
    episode = Gates().episode(seed=1)
    seen, legal = episode.observation, episode.legal
    assert set(legal) == {"gate", "lamp"}
    probabilities = run.policy.probabilities(seen, legal)
    for part, labels in Gates.action.parts.items():
        assert sum(probabilities[part].values()) == pytest.approx(1.0, abs=1e-5)
        for label in labels.labels:
            assert (probabilities[part][label] > 0.0) == (label in legal[part])
    action = run.policy.choose(seen, legal=legal)
    assert Gates.action.parts["gate"].labels[action.gate] == max(probabilities["gate"], key=probabilities["gate"].get)
    sampled = {run.policy.choose(seen, act="sampled", seed=k, legal=legal).gate for k in range(30)}
    assert all(Gates.action.parts["gate"].labels[g] in legal["gate"] for g in sampled)
    assert np.isfinite(run.policy.value(seen))
    with pytest.raises(SettingError, match="has no values of actions; use `probabilities`"):
        run.policy.values(seen)
    repeated = jm.Policy.open(run.policy.save(tmp_path / "one.safetensors"))
    assert repeated.probabilities(seen, legal) == probabilities
    metadata = json.loads(json.dumps(repeated.metadata()))
    assert [c["name"] for c in metadata["spec"]["channels"]] == ["open", "night"]
    with pytest.raises(SettingError, match="the policy observes"):
        jm.evaluate(repeated, Corridor(), episodes=1)
    policy = jm.train(Signal(), jm.PPO(**QUICK), steps=64, copies=8, folder=None).policy
    with pytest.raises(SettingError, match="channel `view` of `Signal` differs"):
        jm.evaluate(policy, Signal().modified(jm.modifiers.Stack(2)), episodes=1)


@pytest.mark.slow
def test_a_policy_of_values_and_a_network_of_ones_own(tmp_path):
    (tmp_path / "net.py").write_text(
        "import equinox as eqx\n"
        "def small(channels, outputs, key):\n"
        "    class Net(eqx.Module):\n"
        "        layer: eqx.nn.Linear\n"
        "        def __call__(self, inputs):\n"
        "            return self.layer(inputs.numbers)\n"
        "    return Net(eqx.nn.Linear(1, outputs, key=key))\n"
    )
    plan = tmp_path / "plan.toml"
    plan.write_text(
        f'[environment]\nuse = "{Corridor.__module__}:Corridor"\n[agent]\nuse = "DQN"\nnetwork = "net.py:small"\n'
        "replay_start = 100\nreplay_size = 2000\n[training]\nsteps = 3000\ncopies = 4\n"
    )
    from jokulmist.plans.plan import read_plan
    from jokulmist.running.train import train_plan

    run = train_plan(read_plan(plan), folder=tmp_path / "runs")[0]
    assert len(list((run.path / "source").rglob("net.py"))) == 1
    result = jm.Run.open(run.path).policy.values({"cell": 3})
    assert result["right"] > result["left"]
    assert jm.Run.open(run.path).policy.value([3.0]) == max(result.values())
    assert read_json(run.path / "origin.json")["status"] == "done"


def test_what_is_forbidden_cannot_be_done_by_hand_and_nothing_allowed_is_an_error():
    episode = Gates().episode(seed=2)
    barred = next(label for label in ("west", "middle", "east") if label not in episode.legal["gate"])
    with pytest.raises(ActionError, match=f"`{barred}` is not allowed now; allowed are"):
        episode.act({"gate": barred, "lamp": "dark"})
    assert Corridor().episode(seed=0).legal is None

    class Stuck(Corridor):
        def legal(self, state):
            return self.xp.stack([self.xp.asarray(state.cell != 4)] * 2)

        right_end = None
        time_limit = 50

        @jm.ending
        def never(self, after):
            return after.cell > 99

    for lane in ("compiled", "plain"):
        with pytest.raises(BrokenEnvironment) as told:
            jm.train(Stuck(), jm.RandomPlay(), steps=2000, copies=3, folder=None, lane=lane)
        assert "`Stuck.legal` allows nothing in copy" in str(told.value)
        assert "cell=4" in str(told.value)


@pytest.mark.parametrize("wrong", ["np.ones(3)", "np.ones(2, bool)", "5"])
def test_a_mask_of_the_wrong_kind_is_told(wrong):
    class Wrong(Gates):
        def legal(self, state):
            return {"gate": eval(wrong)}

    with pytest.raises(BrokenEnvironment, match="must give 3 truth values, one for each of"):
        Wrong().episode(seed=0)


def test_a_stack_shows_the_last_moments_alike_on_both_lanes_and_by_hand():
    env = Camera().modified(jm.modifiers.Stack(3, "place", "seen"))
    spec = env.episode(seed=0)._description.spec
    config = {c.name: c.shape for c in spec.channels}
    assert config == {"place": (3,), "felt": (), "seen": (2, 4, 3)}
    episode = env.episode(seed=4)
    places = [episode.state.place] * 3
    while not episode.over:
        assert episode.observation.place.tolist() == places
        brightest = [episode.observation.seen[0, :, k].argmax() for k in range(3)]
        assert brightest == places
        episode.act(1)
        places = [*places[1:], episode.state.place]
    episode.back(2)
    assert episode.observation.place.tolist()[-1] == episode.state.place

    class Watcher(jm.Agent):
        """Reports what it is shown, so that the lanes can be compared."""

        reading_names = ("places", "pixels", "ages")

        def refuse(self, spec):
            pass

        @staticmethod
        def fresh_learner(config, hyperparameters, noise):
            return {"seen": np.float32(0.0)}

        @staticmethod
        def choose(config, hyperparameters, learner, memory, observed, noise, explore):
            return (observed.age + observed.numbers[:, 0].astype("int32")) % 2, memory, ()

        @staticmethod
        def learn(config, hyperparameters, learner, memory, experience, noise):
            e = experience.observed
            weights = np.arange(1, 5, dtype=np.float32)
            pixels = (e.images["seen"].astype("float32") * np.arange(1, 4, dtype=np.float32)).sum()
            return learner, memory, ((e.numbers[..., [0, 1, 2]] * weights[:3]).sum(), pixels, e.age.sum())

    told = [
        jm.train(env, Watcher(), steps=240, copies=3, folder=None, lane=lane, seed=2).readings
        for lane in ("plain", "compiled")
    ]
    for name in Watcher.reading_names:
        assert np.allclose(told[0][name], told[1][name], rtol=2e-3), name
    with pytest.raises(SettingError, match="stacked twice"):
        env.modified(jm.modifiers.Stack(2, "seen"))
    with pytest.raises(SettingError, match="Did you mean `place`"):
        Camera().modified(jm.modifiers.Stack(2, "plaice"))


@pytest.mark.slow
def test_what_is_switched_off_stays_off_in_a_plan(tmp_path):
    run = jm.train(Corridor(), jm.PPO(**QUICK, gradient_clip=None), steps=64, copies=4, folder=tmp_path)
    assert 'gradient_clip = "off"' in (run.path / "plan.toml").read_text()
    repeated = jm.Run.open(run.path).plan.agent
    assert (repeated, repeated.gradient_clip, repeated.value_clip) == (run.plan.agent, None, None)


def test_modifiers_stand_in_the_plan_and_come_back(tmp_path):
    env = Signal().modified(jm.modifiers.Stack(2))
    run = jm.train(env, jm.RandomPlay(), steps=80, folder=tmp_path)
    repeated = jm.Run.open(run.path)
    assert repeated.environment == env != Signal()
    assert repeated.written_plan["environment"]["modify"] == [{"use": "Stack", "count": 2, "channels": []}]
    from jokulmist.plans.plan import plan_of

    content = {**repeated.written_plan, "environment": {"use": "ferry", "modify": [{"use": "Stak"}]}}
    with pytest.raises(SettingError, match="an entry of `modify` is a table with `use`"):
        plan_of(content)


@pytest.mark.slow
@pytest.mark.parametrize("name", ["DQN", "LinearQ", "PPO", "QLearning"])
def test_a_policy_decides_without_replay_memory_and_optimiser(name, monkeypatch):
    agent = {"DQN": jm.DQN(network=jm.Dense(8), replay_start=32), "LinearQ": jm.LinearQ(replay=True, tiles=3)}.get(name)
    policy = jm.train(Corridor(), agent or getattr(jm, name)(), steps=64, copies=1, folder=None).policy
    monkeypatch.setattr(type(policy.agent), "fresh_learner", None)
    cells = [{"cell": cell} for cell in range(5)] * 3
    greedy = [policy.choose(cell) for cell in cells]
    # Each is a first decision: nothing is left over from the one before.
    assert greedy[:5] == greedy[5:10] == greedy[10:]
    actors = [policy.actor(act="sampled", seed=seed) for seed in (1, 2, 1)]
    sampled = [[actor.choose(cell) for cell in cells] for actor in actors]
    assert sampled[0] == sampled[2]


class Stubborn(jm.QLearning):
    """A method whose `choose` is overridden: it always goes left."""

    @staticmethod
    def choose(config, hyperparameters, learner, memory, observed, noise, explore):
        return 0 * observed.age, memory, ()


class Stray(jm.Agent):
    """Gives what the environment does not have."""

    given: int = 7

    @staticmethod
    def fresh_learner(config, hyperparameters, noise):
        return {"none": np.zeros(1, np.float32)}

    @staticmethod
    def choose(config, hyperparameters, learner, memory, observed, noise, explore):
        return 0 * observed.age + config.given, memory, ()

    @staticmethod
    def learn(config, hyperparameters, learner, memory, experience, noise):
        return learner, memory, ()


@pytest.mark.parametrize("lane", ["plain", "compiled"])
def test_what_a_user_overrides_is_used_and_what_it_gives_is_checked(lane):
    run = jm.train(Corridor(), Stubborn(), steps=60, copies=2, folder=None, lane=lane)
    assert set(run.episodes["closed_by"]) == {"left_end"}
    assert run.policy.choose({"cell": 4}) == 0
    for arguments in (7, -1):
        with pytest.raises(BrokenEnvironment, match=r"`Stray.choose` gave"):
            jm.train(Corridor(), Stray(given=arguments), steps=60, copies=2, folder=None, lane=lane)
