"""What a run says when it does not learn: once, with the reading and how to fix it, and nothing where it learns."""

import numpy as np
import pytest
from places import Corridor

import jokulmist as jm
from jokulmist.environments.declaration.instance import describe
from jokulmist.running.session.advice import Advice

QUICK = {"horizon": 16, "network": jm.Dense(8)}


class Strand(jm.Environment):
    """Forty stones, and the one reward behind the last: random play never meets it."""

    time_limit = 20
    pay: float = jm.parameter(1.0, low=0.0, high=1e6)
    last: int = jm.parameter(40, low=1, high=40, fixed=True)

    class State(jm.State):
        stone: int = jm.seen(low=0, high=40)

    action = jm.Choice("back", "on")

    def begin(self, draw):
        return self.State(stone=0)

    def advance(self, state, action, draw):
        return state.replace(stone=self.xp.clip(state.stone + 2 * action - 1, 0, self.last))

    @jm.reward
    def ashore(self, after):
        return self.pay * (after.stone == self.last)

    @jm.ending
    def arrived(self, after):
        return after.stone == self.last


def said(folder, environment, agent, steps, **more):
    run = jm.train(environment, agent, steps=steps, seed=0, folder=folder, **more)
    return [line for line in (run.path / "log.txt").read_text().splitlines() if "no better than random play" in line]


@pytest.mark.slow
@pytest.mark.parametrize(
    ("environment", "agent", "steps", "what", "fix"),
    [
        (Strand(), jm.PPO(**QUICK), 4_000, "`ashore` stayed 0 in all of", "raise `entropy_bonus`"),
        (
            Strand(last=3),
            jm.DQN(replay_start=500),
            400,
            "`replay_start` is 500 and the run had 400",
            "lower `replay_start`",
        ),
        (
            Strand(last=3),
            jm.QLearning(exploration=1.0),
            4_000,
            "the greedy policy returns 1, so it has learned",
            "jokulmist evaluate",
        ),
        (Strand(), jm.QLearning(), 16, "no episode has closed in 16 decisions", "`time_limit`"),
        (
            Strand(last=6, pay=1e5),
            jm.PPO(rewards_scaled=False, learning_rate=0.0, **QUICK),
            4_000,
            "rewards are about",
            "`rewards_scaled=True`",
        ),
    ],
    ids=["no reward", "no update", "greedy", "no episode", "scale"],
)
def test_a_run_that_does_not_learn_says_once_what_to_look_at(tmp_path, environment, agent, steps, what, fix):
    lines = said(tmp_path, environment, agent, steps, copies=1)
    assert len(lines) == 1
    assert what in lines[0]
    assert fix in lines[0]


@pytest.mark.slow
def test_a_run_that_learns_says_nothing(tmp_path):
    assert said(tmp_path, Corridor(), jm.QLearning(), 4_000) == []
    assert said(tmp_path, Strand(last=3), jm.QLearning(), 8_000) == []


@pytest.mark.slow
def test_values_that_run_away_and_a_policy_that_decided_too_early_are_told():
    """From the readings alone: what it takes to get there depends on luck."""
    environment = Strand(last=3)

    def advice(agent):
        result = Advice(agent, environment, describe(environment))
        result._random = lambda: [0.4, 0.6] * 10
        batch = jm.train(environment, jm.RandomPlay(), steps=2_000, folder=None).episodes
        result._first = batch["return"].head(100).tolist()
        result._seen[:], result._episodes, result._steps = True, 200, 2_000
        result._least, result._most, result._most_a_step = 0.0, 1.0, 0.2
        return result

    policy = jm.train(environment, jm.DQN(replay_start=10), steps=64, copies=1, folder=None).policy
    far = advice(jm.DQN()).early(0.2, 5_000, [0.5, 0.4] * 20, {"mean_value": 1e4}, policy)
    assert "`mean_value` is" in far
    assert "`double=True`" in far
    sure = advice(jm.PPO()).early(0.2, 5_000, [0.5, 0.4] * 20, {"entropy": 1e-4}, policy)
    assert "`entropy` is 0.0001" in sure
    assert "`entropy_bonus`" in sure


def test_a_stopped_run_that_goes_on_does_not_say_it_again(tmp_path):
    run = jm.resume(jm.train(Strand(), jm.PPO(**QUICK), steps=4_000, copies=1, folder=tmp_path), steps=2_000)
    log = (run.path / "log.txt").read_text()
    assert log.count("no better than random play") == 1


def test_an_evaluation_tells_each_term_and_measure_and_whether_sampling_differs():
    environment = jm.gallery.Ferry()
    random, rule = (jm.evaluate(player, environment, episodes=20) for player in ("random", "brake_in_time"))
    assert sum(rule.terms.values()) == pytest.approx(rule.mean, rel=1e-4)
    assert rule.measures == {"final_speed": pytest.approx(float(np.mean(rule.columns["final_speed"])))}
    assert rule.differs(random)
    assert not rule.differs(rule)


@pytest.mark.slow
def test_the_draws_of_a_policy_belong_to_the_episode():
    policy = jm.train(Corridor(), jm.PPO(**QUICK), steps=64, copies=1, folder=None).policy
    few, many = (jm.evaluate(policy, Corridor(), episodes=n, act="sampled").returns for n in (5, 40))
    assert np.array_equal(few, many[:5])
