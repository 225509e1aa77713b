"""Modifiers by hand against the history of states, and the same on both lanes; orders that make sense, and those that
do not."""

import itertools
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import pytest
from places import Camera, Corridor, Gates, Signal, Skiff
from scipy import stats

import jokulmist as jm
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.modifiers import RewardPipeline
from jokulmist.errors import SettingError
from jokulmist.plans.plan import plan_of


class Buoy(jm.Environment):
    """A number that moves by what is done, a choice beside a range, an end and a limit."""

    time_limit = 9

    class State(jm.State):
        x: float = jm.seen(low=-30.0, high=30.0)
        y: float = jm.seen(low=-30.0, high=30.0)

    action = jm.Actions(way=jm.Choice("west", "stay", "east"), pull=jm.Range(0.0, 2.0))

    def begin(self, draw):
        return self.State(x=draw.uniform(-1.0, 1.0), y=0.0)

    def advance(self, state, action, draw):
        return state.replace(x=state.x + (action.way - 1.0) * action.pull, y=state.y + action.pull)

    @jm.reward
    def gain(self, before, after):
        return after.x - before.x

    @jm.ending
    def ashore(self, after):
        return after.x > 3.0

    @jm.measure
    def pulled(self, action):
        return action.pull


class Colours(jm.Environment):
    time_limit = 5

    class State(jm.State):
        turn: int = jm.seen(low=0, high=9)

    action = jm.Choice(2)

    def begin(self, draw):
        return self.State(turn=draw.integers(0, 3))

    def advance(self, state, action, draw):
        return state.replace(turn=state.turn + 1)

    @jm.sensor(shape=(4, 6, 3), image=True)
    def view(self, state):
        xp = self.xp
        return xp.asarray(xp.arange(72).reshape(4, 6, 3) * (state.turn + 1) % 251, dtype=xp.uint8)

    @jm.reward
    def gain(self, after):
        return 1.0 * after.turn


ACTIONS = [
    {"way": w, "pull": p} for w, p in (("east", 1.0), ("east", 0.5), ("west", 2.0), ("stay", 1.5), ("east", 2.0))
]


def walk(env, actions=ACTIONS, seed=3):
    """What is seen at each moment of an episode, and the states."""
    episode = env.episode(seed=seed)
    seen, states = [episode.observation], [episode.state]
    for action in actions:
        episode.act(action)
        seen.append(episode.observation)
        states.append(episode.state)
    return seen, states


def test_what_is_seen_follows_from_the_history_of_states():
    env = Buoy().modified(
        jm.modifiers.ObservationDelay("x", 2),
        jm.modifiers.Stack(2, "x"),
        jm.modifiers.LastAction(),
        jm.modifiers.TimeLeft(),
        jm.modifiers.Hide("y"),
        jm.modifiers.ObservationDelay("time_left", 1),
    )
    assert [c.name for c in describe(env).spec.channels] == ["x", "last_action", "time_left"]
    seen, states = walk(env)
    x = [s.x for s in states]
    for t, moment in enumerate(seen):
        delayed = [x[max(t - 2 - back, 0)] for back in (1, 0)]
        assert moment.x.tolist() == pytest.approx(delayed)
        assert moment.time_left == pytest.approx(1.0 - max(t - 1, 0) / 9)
        last = (
            np.zeros(4)
            if t == 0
            else np.append(
                np.eye(3)[["west", "stay", "east"].index(ACTIONS[t - 1]["way"])], ACTIONS[t - 1]["pull"] - 1.0
            )
        )
        assert moment.last_action.tolist() == pytest.approx(last)
    episode = env.episode(seed=3)
    for action in ACTIONS:
        episode.act(action)
    episode.back(3)  # a rewound episode remembers no more than it had seen
    assert episode.observation.x.tolist() == seen[2].x.tolist()


def test_a_whole_number_is_shown_value_by_value():
    seen, states = walk(Colours().modified(jm.modifiers.OneHot("turn"), jm.modifiers.Stack(2, "turn")), [0, 1, 0])
    for before, after, moment in zip([states[0], *states], states, seen, strict=False):
        assert moment.turn.tolist() == [np.eye(10)[before.turn].tolist(), np.eye(10)[after.turn].tolist()]


def test_images_are_cut_shrunk_greyed_and_kept_bright():
    raw = [np.asarray(m.view, float) for m in walk(Colours(), [0, 1, 0])[0]]
    cut = walk(
        Colours().modified(jm.modifiers.Crop("view", (1, 4), (0, 5)), jm.modifiers.Shrink("view", 2)), [0, 1, 0]
    )[0]
    grey = walk(
        Colours().modified(jm.modifiers.Grey("view"), jm.modifiers.Brighter("view"), jm.modifiers.Stack(2, "view")),
        [0, 1, 0],
    )[0]
    shades = [np.round(image @ [0.299, 0.587, 0.114]) for image in raw]
    for t, (c, g) in enumerate(zip(cut, grey, strict=True)):
        squares = raw[t][1:3, :4].reshape(1, 2, 2, 2, 3).mean(axis=(1, 3))
        assert c.view.shape == (1, 2, 3)
        assert np.abs(c.view - squares).max() <= 0.5
        bright = [np.maximum(shades[max(s, 0)], shades[max(s - 1, 0)]) for s in (t - 1, t)]
        assert g.view.shape == (4, 6, 2)
        assert np.abs(g.view - np.stack(bright, axis=-1)).max() <= 1.0


def test_actions_are_repeated_late_and_shaken():
    late = Buoy().modified(jm.modifiers.ActionDelay(2, idle={"way": "west", "pull": 1.0}))
    _, states = walk(late)
    moves = np.diff([s.x for s in states])
    assert moves.tolist() == pytest.approx([-1.0, -1.0, 1.0, 0.5, -2.0])
    env = Corridor(length=50).modified(jm.modifiers.StickyAction(0.3))
    repeats, count, done = 0, 0, 0
    for seed in range(60):
        episode = env.episode(seed=seed)
        for turn in range(20):
            before = episode.state.cell
            episode.act(turn % 2)  # told to change sides at every decision
            moved = (episode.state.cell - before + 1) // 2
            if turn and done != turn % 2:  # else a repetition cannot be told
                repeats += moved == done
                count += 1
            elif not turn:
                assert moved == 0  # the first decision is never repeated
            done = moved
    assert stats.binomtest(repeats, count, 0.3).pvalue > 1e-3
    shaken = [
        walk(Buoy().modified(jm.modifiers.ActionNoise(0.2)), [{"way": "east", "pull": 1.0}], seed)[1]
        for seed in range(400)
    ]
    pulls = np.array([s[1].x - s[0].x for s in shaken])
    assert stats.kstest((pulls - 1.0) / 0.2, stats.norm.cdf).pvalue > 1e-3
    bound = [
        walk(Buoy().modified(jm.modifiers.ActionNoise(5.0)), [{"way": "east", "pull": 1.0}], seed)[1]
        for seed in range(50)
    ]
    assert {round(s[1].x - s[0].x, 4) for s in bound} > {0.0, 2.0}  # clipped at the bounds
    noisy = [walk(Buoy().modified(jm.modifiers.ObservationNoise("y", 0.5)), [], seed)[0][0].y for seed in range(400)]
    assert stats.kstest(np.array(noisy) / 0.5, stats.norm.cdf).pvalue > 1e-3


class Nothing(NamedTuple):
    total: Any


class Echo(jm.Agent):
    """Random play that tells what it was shown and given."""

    reading_names = ("seen", "after", "earned")

    def refuse(self, spec):
        pass

    @staticmethod
    def fresh_learner(config, hyperparameters, noise):
        return Nothing(np.float32(0.0))

    @staticmethod
    def choose(config, hyperparameters, learner, memory, observed, noise, explore):
        action, xp = config.spec.action, noise.xp
        if isinstance(action, jm.Choice):
            return noise.integers(0, action.count, shape=(config.copies,)), memory, ()
        chosen = {
            "way": noise.integers(0, 3, shape=(config.copies,)),
            "pull": noise.uniform(0.0, 2.0, shape=(config.copies,)),
        }
        del xp
        return jm.environments.spaces.actions.Record(**chosen), memory, ()

    @staticmethod
    def learn(config, hyperparameters, learner, memory, e, noise):
        import jax.numpy as jnp

        def told(seen):
            weights = 1.0 + jnp.arange(seen.numbers.shape[-1])
            images = sum(jnp.sum(image.astype(jnp.float32)) for image in seen.images.values())
            return jnp.sum(seen.numbers * weights) + 0.01 * images

        return learner, memory, (told(e.observed), told(e.last), jnp.sum(e.rewards))


AROUND = {
    "numbers": (
        Buoy,
        (
            jm.modifiers.ObservationDelay("x", 2),
            jm.modifiers.ObservationNoise("y", 0.3),
            jm.modifiers.Stack(3, "x"),
            jm.modifiers.LastAction(),
            jm.modifiers.TimeLeft(),
        ),
    ),
    "actions": (
        Buoy,
        (
            jm.modifiers.StickyAction(0.4),
            jm.modifiers.ActionDelay(1, {"way": "east", "pull": 1.0}),
            jm.modifiers.ActionNoise(0.3),
            jm.modifiers.LastAction(),
        ),
    ),
    "names": (Colours, (jm.modifiers.Hide("view"), jm.modifiers.OneHot("turn"), jm.modifiers.Stack(2, "turn"))),
    "rewards": (
        Buoy,
        (jm.modifiers.Scaled(3.0), jm.modifiers.Clipped(-1.0, 2.0), jm.modifiers.Potential(lambda s: s.x + s.y, 0.9)),
    ),
    "images": (
        Colours,
        (
            jm.modifiers.Crop("view", (0, 4), (1, 5)),
            jm.modifiers.Grey("view"),
            jm.modifiers.Brighter("view"),
            jm.modifiers.Stack(2),
            jm.modifiers.Hide("turn"),
        ),
    ),
}


@pytest.mark.slow
@pytest.mark.parametrize("name", AROUND)
def test_both_lanes_show_do_and_give_the_same(name):
    cls, modifiers = AROUND[name]
    env = cls().modified(*modifiers)
    runs = [jm.train(env, Echo(), steps=240, copies=4, folder=None, lane=lane) for lane in ("plain", "compiled")]
    assert [run.origin["lane"] for run in runs] == ["plain", "compiled"]
    plain, compiled = (run.episodes.drop(columns=["closed_by", "also_held"]).to_numpy(float) for run in runs)
    assert len(plain) > 8
    assert np.allclose(plain, compiled, rtol=1e-4, atol=1e-4)
    output = [run.readings[["seen", "after", "earned"]].to_numpy(float) for run in runs]
    assert np.allclose(*output, rtol=1e-4, atol=1e-3)


@pytest.mark.slow
def test_what_is_recorded_is_the_unmodified_return_with_the_other_beside_it():
    env = Buoy().modified(jm.modifiers.Scaled(2.0), jm.modifiers.Potential(lambda s: 5.0 * s.y, 1.0))
    for lane in ("plain", "compiled"):
        frame = jm.train(env, Echo(), steps=400, copies=2, folder=None, lane=lane).episodes
        ended = (frame["closed_by"] == "ashore").to_numpy()
        assert ended.any()
        assert (~ended).any()
        # With a discount of 1 the potential's gains add up to its last value, and nothing after a true end.
        wanted = 2.0 * frame["return"] + np.where(ended, 0.0, 5.0 * frame["pulled"])
        assert np.allclose(frame["learned_return"], wanted, atol=1e-3)
    assert "learned_return" not in jm.evaluate("random", Buoy(), episodes=2).episodes


def test_what_is_learned_from_adds_up_over_an_episode():
    ferry = jm.gallery.Ferry().modified(jm.modifiers.Scaled(0.5))
    frame = jm.train(ferry, jm.RandomPlay(), steps=400, copies=1, lane="plain", folder=None).episodes
    assert len(frame) > 1
    np.testing.assert_allclose(frame["learned_return"], 0.5 * frame["return"], rtol=1e-4)


def test_observing_modifiers_compose_in_any_order_that_makes_sense():
    parts = [
        jm.modifiers.ObservationDelay("x", 1),
        jm.modifiers.Stack(2, "y"),
        jm.modifiers.LastAction(),
        jm.modifiers.Hide("x"),
    ]
    for order in itertools.permutations(parts):
        if order.index(parts[0]) > order.index(parts[3]):
            with pytest.raises(SettingError, match="`ObservationDelay` names the channel `x`; the environment shows"):
                Buoy().modified(*order)
        else:
            seen, _ = walk(Buoy().modified(*order))
            assert set(seen[0].keys()) == {"y", "last_action"}
            assert seen[-1].y.shape == (2,)


@pytest.mark.parametrize(
    ("env", "modifiers", "message"),
    [
        (Colours, (jm.modifiers.Stack(2), jm.modifiers.Grey("view")), "Name it before `Stack`"),
        (Colours, (jm.modifiers.Stack(2), jm.modifiers.Brighter("view")), "must be named before `Stack`"),
        (Colours, (jm.modifiers.Stack(2), jm.modifiers.Stack(2)), "is stacked twice"),
        (Colours, (jm.modifiers.Crop("view", (0, 9), (0, 2)),), "`Crop` reaches to row 9"),
        (Colours, (jm.modifiers.Shrink("turn", 2),), "works on an image, and `turn` is numbers. Channels are `view`"),
        (Colours, (jm.modifiers.ObservationNoise("turn", 1.0),), "`turn` holds whole numbers"),
        (Buoy, (jm.modifiers.OneHot("x"),), "`OneHot` shows whole numbers between bounds"),
        (Colours, (jm.modifiers.ActionNoise(0.1),), "the action has no range"),
        (Signal, (jm.modifiers.Hide("view"),), "leaves nothing to be seen"),
        (
            Buoy,
            (jm.modifiers.LastAction(), jm.modifiers.LastAction()),
            "adds the channel `last_action`, which is there already",
        ),
        (Gates, (jm.modifiers.StickyAction(0.1),), "can do what is not allowed now"),
        (Skiff, (jm.modifiers.ActionDelay(1, idle={"tack": "aft", "sail": 0.0}),), "no action `aft`"),
    ],
)
def test_what_makes_no_sense_is_refused_with_the_reason(env, modifiers, message):
    with pytest.raises(jm.JokulmistError, match=message):
        env().modified(*modifiers)


def test_settings_are_checked_and_stand_in_plans():
    for wrong in (
        lambda: jm.modifiers.ObservationDelay("x", 0),
        lambda: jm.modifiers.StickyAction(1.0),
        lambda: jm.modifiers.Scaled(0),
        lambda: jm.modifiers.Clipped(2, 1),
        lambda: jm.modifiers.ObservationNoise("x", -1),
        lambda: jm.modifiers.Shrink("v", 1),
        lambda: jm.modifiers.Crop("v", (3, 2), (0, 1)),
        lambda: jm.modifiers.Hide(),
        lambda: jm.modifiers.ActionDelay(0),
        lambda: jm.modifiers.Potential(3),
        lambda: jm.modifiers.ActionNoise(0),
        lambda: jm.modifiers.Potential("no.py:f"),
    ):
        with pytest.raises(SettingError):
            wrong()
    Path("hill.py").write_text("def height(state):\n    return state.position\n")
    modify = [
        {"use": "ObservationDelay", "channel": "position", "decisions": 2},
        {"use": "ActionDelay", "decisions": 1, "idle": "drift"},
        {"use": "Clipped", "low": -1.0, "high": 1.0},
        {"use": "Potential", "of": "hill.py:height", "discount": 0.9},
        {"use": "TimeLeft"},
        {"use": "Hide", "channels": ["current"]},
    ]
    sections = {
        "environment": {"use": "ferry", "modify": modify},
        "agent": {"use": "RandomPlay"},
        "training": {"steps": 64},
    }
    plan = plan_of(sections)
    again = plan_of(plan.written())
    assert again.environment == plan.environment
    run = jm.train(again.environment, jm.RandomPlay(), steps=64, copies=4)
    assert jm.Run.open(run.path).plan.environment == plan.environment
    with pytest.raises(SettingError, match=r"`ObservationDelay` has no setting `decision`.*Did you mean `decisions`"):
        plan_of({**sections, "environment": {"use": "ferry", "modify": [{"use": "ObservationDelay", "decision": 2}]}})
    with pytest.raises(SettingError, match="Did you mean `ObservationDelay`"):
        plan_of({**sections, "environment": {"use": "ferry", "modify": [{"use": "ObservatonDelay"}]}})

    class Endless(Camera):
        time_limit = None

        @jm.ending
        def never(self, after):
            return after.place < 0

    with pytest.raises(SettingError, match="needs a limit, and the environment has neither"):
        Endless().modified(jm.modifiers.TimeLeft())


class Held(Buoy):
    """A decision is held for three advances; the last of an episode may be cut short."""

    decide_every = 3
    time_limit = 10

    def advance(self, state, action, draw):
        moved = super().advance(state, action, draw)
        return moved.replace(y=state.y + draw.uniform(0.5, 1.5))

    @jm.measure(over="mean")
    def height(self, after):
        return after.y


@pytest.mark.slow
def test_a_held_decision_sums_rewards_and_is_cut_short_at_an_end():
    env = Held().modified(jm.modifiers.TimeLeft())
    episode = env.episode(seed=2)
    x = episode.state.x
    for decision in range(1, 5):
        episode.act({"way": "west", "pull": 1.0})
        assert (episode.steps, episode.advances) == (decision, min(3 * decision, 10))
        assert episode.reward == pytest.approx(-3.0 if decision < 4 else -1.0)
        assert episode.observation.time_left == pytest.approx(1.0 - episode.advances / 10)
    assert (episode.closed_by, episode.total) == ("time limit", pytest.approx(-10.0))
    assert episode.state.x == pytest.approx(x - 10.0)
    runs = [jm.train(env, Echo(), steps=400, copies=4, folder=None, lane=lane) for lane in ("plain", "compiled")]
    assert [run.origin["lane"] for run in runs] == ["plain", "compiled"]
    plain, compiled = (run.episodes.drop(columns=["closed_by", "also_held"]) for run in runs)
    assert np.allclose(plain.to_numpy(float), compiled.to_numpy(float), rtol=1e-4, atol=1e-4)
    assert set(plain["closed_by"] if "closed_by" in plain else runs[0].episodes["closed_by"]) == {
        "ashore",
        "time limit",
    }
    assert ((plain["steps"] - 1) * 3 < plain["advances"]).all()
    assert (plain["advances"] <= plain["steps"] * 3).all()
    output = [run.readings[["seen", "after", "earned"]].to_numpy(float) for run in runs]
    assert np.allclose(*output, rtol=1e-4, atol=1e-3)
    # A pilot takes the same decisions copy by copy.
    piloted = jm.train(Held(), jm.RandomPlay(), steps=60, copies=2, folder=None, lane="plain").episodes
    assert (piloted["advances"] > piloted["steps"]).all()
    with pytest.raises(jm.JokulmistError, match="`decide_every` of `Wrong` must be a whole number"):
        type("Wrong", (Buoy,), {"decide_every": 0, "__module__": __name__})()


class Leaky(Buoy):
    """A measure that marks a loss on the way."""

    @jm.measure
    def wet(self, after):
        return 1.0 * (self.xp.abs(after.x) > 2.0)

    @jm.cut
    def far(self, after):
        return after.y > 9.0


class Ends(Echo):
    """Tells how often what is learned ends, and closes."""

    reading_names = ("ended", "closed", "wet")

    @staticmethod
    def learn(config, hyperparameters, learner, memory, e, noise):
        import jax.numpy as jnp

        wet = jnp.sum(jnp.abs(e.last.numbers[..., 0]) > 2.0)
        return learner, memory, (1.0 * jnp.sum(e.ended), 1.0 * jnp.sum(e.closed), 1.0 * wet)


@pytest.mark.slow
def test_an_end_for_learning_is_no_end_for_the_score():
    plain = jm.train(Leaky(), Ends(), steps=400, copies=4, folder=None, lane="plain")
    for lane in ("plain", "compiled"):
        run = jm.train(
            Leaky().modified(jm.modifiers.LearningEnd("wet")), Ends(), steps=400, copies=4, folder=None, lane=lane
        )
        columns = [name for name in run.episodes if name not in ("closed_by", "also_held")]
        assert np.allclose(run.episodes[columns], plain.episodes[columns], rtol=1e-4, atol=1e-4)  # the score goes on
        assert (run.readings["ended"] >= run.readings["wet"]).all()
        assert run.readings["ended"].sum() > plain.readings["ended"].sum()
        cut = jm.train(
            Leaky().modified(jm.modifiers.LearningEnd("time limit")),
            Ends(),
            steps=400,
            copies=4,
            folder=None,
            lane=lane,
        )
        satisfied = cut.episodes["closed_by"] + "+" + cut.episodes["also_held"]
        limits = (satisfied.str.contains("time limit") & ~satisfied.str.contains("ashore")).sum()
        assert limits > 5
        before, after = (frame.readings["ended"].mean() * 400 / 4 for frame in (plain, cut))  # a turn, of 100
        assert after == pytest.approx(before + limits, abs=1e-3)
    with pytest.raises(SettingError, match=r"`LearningEnd` names `wett`.*Did you mean `wet`"):
        Leaky().modified(jm.modifiers.LearningEnd("wett"))


@pytest.mark.slow
def test_an_opening_is_played_by_nobody_and_counts_for_nothing():
    arguments = Held().modified(jm.modifiers.Opening(actions=[{"way": "east", "pull": 0.5}] * 3))
    bare, opened = Held().episode(seed=6), arguments.episode(seed=6)
    assert opened.state.x == pytest.approx(bare.state.x + 1.5)
    assert (opened.steps, opened.advances, opened.total) == (0, 0, 0.0)
    stopped = Held().modified(jm.modifiers.Opening(actions=[{"way": "east", "pull": 2.0}] * 9)).episode(seed=6)
    assert stopped.state.x <= 3.0 < stopped.state.x + 2.0  # before the end that it would have met
    idle = Buoy().modified(jm.modifiers.Opening(6, idle={"way": "west", "pull": 1.0}))
    firsts = np.array(
        [bare.state.x - idle.episode(seed=s).state.x for s in range(300) for bare in [Buoy().episode(seed=s)]]
    )
    assert stats.chisquare(np.bincount(np.round(firsts).astype(int), minlength=7)).pvalue > 1e-3
    runs = [jm.train(idle, Echo(), steps=200, copies=4, folder=None, lane=lane) for lane in ("plain", "compiled")]
    frames = [run.episodes.drop(columns=["closed_by", "also_held"]).to_numpy(float) for run in runs]
    assert np.allclose(*frames, rtol=1e-4, atol=1e-4)
    written = jm.environments.modifiers.modifier_from(idle._modifiers[0].written())
    assert written == idle._modifiers[0]
    for wrong in (
        lambda: jm.modifiers.Opening(),
        lambda: jm.modifiers.Opening(0),
        lambda: jm.modifiers.Opening(1_001),
        lambda: jm.modifiers.Opening(3, actions=["a"]),
    ):
        with pytest.raises(SettingError, match="`Opening`"):
            wrong()
    with pytest.raises(SettingError, match="an episode opens once"):
        Buoy().modified(jm.modifiers.Opening(2), jm.modifiers.Opening(3))


MINE = """
from dataclasses import dataclass
import jokulmist as jm

@dataclass(frozen=True, repr=False)
class Fading(jm.modifiers.RewardModifier):
    by: float
    def start(self, xp):
        return xp.ones((), xp.float32)
    def modify(self, xp, memory, reward, before, after, ended):
        return memory * self.by, memory * reward

@dataclass(frozen=True, repr=False)
class Coarse(jm.modifiers.ObservationModifier):
    def spec(self, spec):
        return spec
    def start(self, spec, xp, first, surroundings):
        return (), first._replace(numbers=xp.round(first.numbers))
    def update(self, spec, xp, memory, values, surroundings):
        return self.start(spec, xp, values, surroundings)

@dataclass(frozen=True, repr=False)
class Halves(jm.modifiers.ActionModifier):
    def modify(self, xp, action, memory, native, draw):
        return memory, type(native)(way=native.way, pull=0.5 * native.pull)
"""


@pytest.mark.slow
def test_modifiers_of_ones_own_run_on_both_lanes_and_stay_with_the_run(tmp_path):
    from jokulmist.loading import module_of

    file = tmp_path / "mine.py"
    file.write_text(MINE)
    module = module_of(str(file))
    env = Buoy().modified(module.Halves(), module.Coarse(), module.Fading(0.5))
    plain, compiled = (
        jm.train(env, Echo(), steps=80, copies=2, folder=tmp_path / lane, lane=lane) for lane in ("plain", "compiled")
    )
    columns = ["steps", "return", "learned_return", "pulled"]
    assert np.allclose(plain.episodes[columns], compiled.episodes[columns], atol=1e-4)
    assert (plain.episodes["pulled"] <= plain.episodes["steps"]).all()  # of at most 2 a decision
    uses = [entry["use"].rpartition(":")[2] for entry in compiled.written_plan["environment"]["modify"]]
    assert uses == ["Halves", "Coarse", "Fading"]
    # By hand: each reward counts half of the one before, again in every episode.
    episode = Buoy().modified(module.Halves(), module.Coarse(), module.Fading(0.5)).episode(seed=4)
    assert float(episode.observation["x"]) == round(float(episode.state.x))
    gains = RewardPipeline((module.Fading(0.5),))
    memory, arguments = gains.start(np), []
    for _ in range(3):
        memory, reward = gains.modify(np, memory, 4.0, None, None, False)
        arguments.append(float(reward))
    assert arguments == [4.0, 2.0, 1.0]
    file.unlink()
    repeated = jm.Run.open(compiled.path)
    assert repeated.environment._modifiers[2].by == 0.5
    with pytest.raises(SettingError, match="is no modifier; derive it from"):
        jm.environments.modifiers.modifier_from({"use": f"{next(compiled.path.rglob('mine.py'))}:dataclass"})
