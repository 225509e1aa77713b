"""Calls with what nobody means: each is answered by one message of the library's own."""

import math

import numpy as np
import pandas as pd
import pytest

import jokulmist as jm
from jokulmist.errors import JokulmistError


@pytest.fixture(scope="module")
def policy():
    return jm.train(jm.gallery.Ferry(), jm.QLearning(bins=4), steps=100, lane="plain", folder=None).policy


@pytest.fixture
def log(tmp_path):
    episode = jm.gallery.Ferry().episode(seed=1)
    while not episode.over:
        episode.act(1)
    return jm.save_rollout(episode, tmp_path / "log.parquet")


CALLS = {
    "estimate": lambda policy, log: jm.estimate(policy, "x"),
    "follow": lambda policy, log: jm.follow("x", jm.gallery.Ferry()),
    "save_rollout": lambda policy, log: jm.save_rollout("x", log),
    "save_rollout, path": lambda policy, log: jm.save_rollout(jm.gallery.Ferry().episode(seed=1), 5),
    "cross_play": lambda policy, log: jm.cross_play([2]),
    "cross_play, one": lambda policy, log: jm.cross_play(2),
    "Remote, command": lambda policy, log: jm.Remote(command=math.inf),
    "Remote, secret": lambda policy, log: jm.Remote(command=["true"], secret=5),
    "Range, shape": lambda policy, log: jm.Range(0.0, 1.0, shape=math.nan),
    "choose": lambda policy, log: policy.choose({"position": 1.0, "speed": 0.0}, act=[1]),
    "linear": lambda policy, log: jm.linear(1.0, 0.0),
    "save_replay": lambda policy, log: jm.pictures.save_replay([5], jm.gallery.Ferry(), log.with_suffix(".gif")),
    "evaluate_grid": lambda policy, log: jm.evaluate_grid(policy, jm.gallery.Ferry(), 5),
}


@pytest.mark.parametrize("name", CALLS)
def test_what_nobody_means_is_answered_by_a_message(name, policy, log):
    with pytest.raises(JokulmistError):
        CALLS[name](policy, log)


@pytest.mark.parametrize(
    ("column", "value"), [("reward", [1.0]), ("reward", "x"), ("episode", "x"), ("run", [1.0]), ("moment", 0.5)]
)
def test_columns_that_no_rollout_has_are_told(log, column, value):
    table = pd.read_parquet(log)
    table[column] = [value] * len(table)
    table.to_parquet(log)
    with pytest.raises(JokulmistError, match=f"its column `{column}` holds no"):
        _ = jm.read_rollouts(log)[0].total


def test_a_seed_of_an_array_goes_on_as_a_number_does():
    agent = jm.PPO(network=jm.Dense(4), horizon=8)
    policy = jm.train(jm.gallery.Ferry(), agent, steps=16, copies=1, lane="plain", folder=None).policy
    seen = jm.gallery.Ferry().episode(seed=1).observation
    first, second = ([policy.choose(seen, act="sampled", seed=seed) for _ in range(20)] for seed in (3, np.int64(4)))
    assert len(set(first)) > 1
    assert len(set(second)) > 1  # draws again at each call
