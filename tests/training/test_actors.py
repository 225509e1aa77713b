"""Policies in a loop of one's own: they sample again at each call, remember what they saw, and are asked of many
moments at once."""

import jax
import numpy as np
import pytest
from canon import fresh_policy
from games import Table
from places import Corridor, Gates

import jokulmist as jm
from jokulmist.errors import SettingError

SMALL = {"network": jm.Dense(8)}


def test_each_call_samples_anew_and_actors_of_one_seed_sample_the_same():
    policy, seen = fresh_policy(jm.PPO(**SMALL), Corridor()), {"cell": 2}
    chance = policy.probabilities(seen)["right"]
    sampled = [policy.choose(seen, act="sampled") for _ in range(300)]
    assert np.mean(sampled) == pytest.approx(chance, abs=5 * 0.5 / 300**0.5)
    assert {policy.choose(seen) for _ in range(5)} == {int(chance > 0.5)}
    first_actor, same, other_seed = (policy.actor(act="sampled", seed=seed) for seed in (1, 1, 2))
    samples = [[actor.choose(seen) for _ in range(40)] for actor in (first_actor, same, other_seed)]
    assert samples[0] == samples[1] != samples[2]
    winch = fresh_policy(jm.PPO(**SMALL), jm.gallery.Winch())
    first = jm.gallery.Winch().episode(seed=1).observation
    assert len({winch.choose(first, act="sampled") for _ in range(12)}) == 12
    both = fresh_policy(jm.PPO(**SMALL), Table())
    assert {both.choose({"moved": 0}, act="sampled").second for _ in range(40)} == {0, 1}


@pytest.mark.parametrize("kind", [jm.PPO, jm.DQN, jm.SAC])
def test_what_would_forget_is_refused_and_an_actor_remembers_until_it_is_reset(kind):
    policy = fresh_policy(kind(network=jm.Recurrent(4)), Corridor())
    with pytest.raises(SettingError, match=r"actor = policy\.actor\(\)"):
        policy.choose({"cell": 2})
    actor, ways = policy.actor(), []
    for seed in (1, 1):
        episode, chosen = Corridor().episode(seed=seed), []
        while not episode.over:
            chosen.append(actor.choose(episode.observation))
            assert chosen[-1] == policy.choose_in(episode)
            episode.act(len(chosen) % 2)
        actor.reset()
        ways.append(chosen)
    assert ways[0] == ways[1]


@pytest.mark.parametrize(
    ("agent", "environment"),
    [
        (jm.PPO(**SMALL), Corridor()),
        (jm.PPO(**SMALL), jm.gallery.Winch()),
        (jm.SAC(**SMALL), jm.gallery.Winch()),
        (jm.DQN(**SMALL), Gates()),
        (jm.QLearning(), Corridor()),
        (jm.DoubleQLearning(), Corridor()),
        (jm.PPO(**SMALL), Gates()),
    ],
)
def test_what_a_policy_says_is_asked_once_for_an_episode_and_is_what_it_says_of_each_moment(
    agent, environment, tmp_path, monkeypatch
):
    policy, options = fresh_policy(agent, environment), []
    name = "values" if hasattr(type(policy.agent), "values") else "probabilities"
    judge = getattr(type(policy.agent), name)
    monkeypatch.setattr(type(policy.agent), name, staticmethod(lambda *given: options.append(1) or judge(*given)))
    played = jm.evaluate(policy, environment, episodes=2, record=2)
    assert len(options) == 2
    rollout = jm.read_rollouts(played.save_rollouts(tmp_path / "log.parquet", environment))[0]
    spec = policy.spec
    for k in (0, len(rollout.table) - 2):
        row = rollout.table.iloc[k]
        seen = {c.name: row[c.name] for c in spec.channels}
        output = getattr(policy, name)(seen)
        if name == "values":
            legal = {label: value for label, value in output.items() if row[f"value.{label}"] > -1e6}
            assert [row[f"value.{label}"] for label in legal] == pytest.approx(list(legal.values()), rel=1e-4, abs=1e-5)
        elif "mean" in output:
            assert (row["mean.0"], row["spread.0"]) == pytest.approx(
                (output["mean"], output["spread"]), rel=1e-3, abs=1e-5
            )
        elif not spec.masked:
            columns = [row[f"probability.{label}"] for label in output]
            assert columns == pytest.approx(list(output.values()), rel=1e-4)
            assert row["value"] == pytest.approx(policy.value(seen), abs=1e-5)


def test_what_was_learned_is_not_copied_at_every_call():
    acting = fresh_policy(jm.QLearning(), MaskedCorridor()).actor()._copy
    assert all(isinstance(leaf, jax.Array) for leaf in jax.tree.leaves(acting._learner))


class MaskedCorridor(Corridor):
    """The corridor, in which one cannot leave at the left."""

    def legal(self, state):
        xp = self.xp
        return xp.stack([xp.asarray(state.cell > 0), xp.asarray(True)])
