"""Replay memory against a plain list of what happened: ends, cuts, borders, n steps, images stored once, priorities."""

from functools import cache
from itertools import pairwise

import jax
import jax.numpy as jnp
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import jokulmist as jm
from jokulmist.agents.contract import Experience
from jokulmist.environments.spaces.channels import Channel, ObservationBatch, Spec
from jokulmist.errors import SettingError
from jokulmist.learning import replay as memory

DISCOUNT = 0.5
WRITE = jax.jit(lambda spec, r, e: memory.add_to_replay(spec, r, e, e.actions[..., None]), static_argnums=0)
NUMBERS = (Channel("x", -1e6, 1e6),)
IMAGE = Channel("eye", 0, 255, shape=(1, 2, 3), image=True, stacked=3)


def played(seed, turns, copies, spec, legal=False):
    """Random episodes turn by turn, as `Experience`s, and what happened to each copy as a list of dicts."""
    chance = np.random.default_rng(seed)
    counter = iter(range(1, 10**6))

    def sight(frames):
        number = next(counter)
        frame = np.array([[[number % 251], [number // 251]]], np.uint8)
        frames = [frame] * 3 if frames is None else [*frames[1:], frame]
        mask = chance.random(2) < 0.5
        mask[chance.integers(2)] = True
        return {"x": float(number), "eye": np.concatenate(frames, axis=-1), "frames": frames, "mask": mask}

    current, age, happened, parts = [sight(None) for _ in range(copies)], [0] * copies, [[] for _ in range(copies)], []

    def seen(moments, ages):
        images = {"eye": np.stack([m["eye"] for m in moments])[None]} if spec.images else {}
        masks = (np.stack([m["mask"] for m in moments])[None],) if legal else ()
        return ObservationBatch(
            np.array([[[m["x"]] for m in moments]], np.float32), images, masks, np.array([ages], np.int32)
        )

    for _ in range(turns):
        before, last, closed, ended = list(current), [], [], []
        for c in range(copies):
            after = sight(current[c]["frames"])
            closed.append(bool(chance.random() < 0.3))
            ended.append(closed[-1] and bool(chance.random() < 0.5))
            last.append(after)
        action, reward = chance.integers(0, 2, copies), chance.integers(1, 9, copies).astype(np.float32)
        ages = list(age)
        for c in range(copies):
            happened[c].append(
                {
                    "at": before[c],
                    "last": last[c],
                    "a": action[c],
                    "r": reward[c],
                    "ended": ended[c],
                    "closed": closed[c],
                }
            )
            current[c], age[c] = (sight(None), 0) if closed[c] else (last[c], ages[c] + 1)
        after_ages = [a + 1 for a in ages]
        parts.append(
            Experience(
                seen(before, ages),
                action[None].astype(np.int32),
                reward[None],
                np.array([ended]),
                np.array([closed]),
                seen(last, after_ages),
                seen(current, age),
                (),
            )
        )
    return parts, happened


def stored(spec, parts, slots, prioritised=False):
    copies = parts[0].rewards.shape[1]
    replay = jax.tree.map(jnp.asarray, memory.fresh_replay(spec, copies, slots, prioritised))
    for part in parts:
        replay = WRITE(spec, replay, part)
    return replay


def wanted(happened, copy, turn, n_step):
    """What the transition that starts at a turn is, by walking on from it."""
    gain, weight, steps = 0.0, 1.0, happened[copy][turn:][:n_step]
    for row in steps:
        gain += weight * row["r"]
        weight *= DISCOUNT
        if row["closed"]:
            break
    return gain, 0.0 if row["ended"] else weight, row["last"]


@cache
def drawing(*shape):
    """`sampled` as one program a shape."""
    return jax.jit(memory.sample_replay, static_argnums=(0, 3, 4))


@pytest.mark.slow
@settings(max_examples=12)
@given(st.integers(0, 10**6), st.sampled_from([(1, 3, False), (2, 1, True), (3, 2, True)]), st.integers(20, 45))
def test_every_transition_is_what_happened(seed, shape, turns):
    """Also after the ring has gone round: rows, masks, the true last observation, stacks as the acting policy saw
    them."""
    copies, n_step, images = shape
    spec = Spec((*NUMBERS, IMAGE) if images else NUMBERS, jm.Choice(2), masked=True)
    slots = 24
    parts, happened = played(seed, turns, copies, spec, legal=True)
    replay = stored(spec, parts, slots)
    u = jnp.asarray(np.random.default_rng(seed).random((2, 64), np.float32))
    sample = drawing(copies, n_step, images)(spec, replay, u, n_step, DISCOUNT)
    met = set()
    for k in range(64):
        turn = int(sample.observed.numbers[k, 0])
        copy, start = next((c, t) for c in range(copies) for t, row in enumerate(happened[c]) if row["at"]["x"] == turn)
        met.add(start)
        row = happened[copy][start]
        gain, weight, last = wanted(happened, copy, start, n_step)
        assert (float(sample.n_step_return[k]), float(sample.bootstrap_discount[k])) == (gain, weight)
        assert (int(sample.action[k, 0]), float(sample.following.numbers[k, 0])) == (row["a"], last["x"])
        assert sample.following.legal[0][k].tolist() == last["mask"].tolist()
        if images:
            assert np.array_equal(sample.observed.images["eye"][k], row["at"]["eye"])
            assert np.array_equal(sample.following.images["eye"][k], last["eye"])
    # Nothing too new for its n steps, nothing that was written over, and nearly everything between.
    assert max(met) <= turns - n_step
    assert min(met) >= turns - slots
    if not images:
        assert float(jnp.sum(memory._oldest(spec, replay))) == min(turns, slots)


def test_images_are_stored_once():
    spec = Spec((Channel("eye", 0, 255, shape=(84, 84, 4), image=True, stacked=4),), jm.Choice(2))
    replay = memory.fresh_replay(spec, copies=8, slots=125_000, prioritised=False)
    sizes = [leaf.nbytes for leaf in jax.tree.leaves(replay)]
    assert sum(sizes) < 7.2e9  # a million frames; four times as much with whole stacks


def test_priorities_are_sampled_in_proportion_and_corrected():
    spec = Spec(NUMBERS, jm.Choice(2))
    parts, _ = played(1, 40, 2, spec)
    replay = stored(spec, parts, 40, prioritised=True)
    each = replay.priorities.levels[0]
    assert float(each.sum()) == 80.0  # all new at the largest so far
    priorities = memory.reprioritised(
        replay.priorities, jnp.arange(80), jnp.arange(80, dtype=jnp.float32), jnp.arange(80) % 2 == 0
    )
    expected = np.where(np.arange(80) % 2 == 0, np.arange(80.0), 1.0)
    assert np.allclose(priorities.levels[0][:80], expected)
    for below, above in pairwise(priorities.levels):
        sums = np.asarray(below).reshape(-1, memory.BLOCK).sum(axis=1)
        assert np.allclose(above[: len(sums)], sums)
        assert not np.any(above[len(sums) :])
    assert float(priorities.most) == 78.0
    replay = replay._replace(priorities=priorities)
    u = jnp.asarray(np.random.default_rng(0).random(20_000, np.float32))
    sample = jax.jit(lambda r: memory.sample_replay(spec, r, u, 1, DISCOUNT, correction=1.0))(replay)
    counts = np.bincount(np.asarray(sample.place), minlength=80)
    assert np.allclose(counts / 20_000, expected / expected.sum(), atol=2e-4)
    # With full correction the weight times the chance is the same for all.
    chosen = np.asarray(sample.place)
    even = np.asarray(sample.importance) * expected[chosen]
    assert np.allclose(even, even[0], rtol=1e-4)
    assert float(sample.importance.max()) == 1.0
    # Cut into minibatches in order, each still draws from all of memory.
    dealt = jax.jit(lambda r: memory.sample_replay(spec, r, u, 1, DISCOUNT, correction=1.0, minibatches=20))(replay)
    for part in np.asarray(dealt.place).reshape(20, -1):
        assert np.allclose(np.bincount(part, minlength=80) / 1000, expected / expected.sum(), atol=3e-3)


@pytest.mark.slow
def test_priorities_of_many_rows_are_found_by_their_sums():
    """Three levels, most rows at 0, and two that stand at the ends of what is counted."""
    rng = np.random.default_rng(1)
    spec, count = Spec(NUMBERS, jm.Choice(2)), 40_000
    priorities = jax.tree.map(jnp.asarray, memory.fresh_replay(spec, 1, count, prioritised=True).priorities)
    assert [level.size for level in priorities.levels] == [40_000, 1_280, 64, 32]
    place = np.unique(np.concatenate([[0, count - 1], rng.integers(0, count, 300)]))
    value = rng.exponential(size=len(place)).astype(np.float32) ** 4
    priorities = memory.reprioritised(priorities, jnp.asarray(place), jnp.asarray(value), jnp.ones(len(place), bool))
    u = jnp.asarray(rng.random(60_000, np.float32))
    result = np.asarray(jax.jit(lambda p: memory._by_priority(p, u, 0.0, count, 1))(priorities)[0])
    assert set(result) <= set(place.tolist())
    counts = np.array([np.sum(result == k) for k in place]) / len(result)
    assert np.allclose(counts, value / value.sum(), atol=1e-4)


def test_a_memory_too_small_for_its_copies_is_refused():
    agent = jm.DQN(replay_size=100)
    config = agent.config(Spec(NUMBERS, jm.Choice(2)), copies=64)  # a policy acts in any number
    with pytest.raises(SettingError, match="larger `replay_size` or fewer copies"):
        agent.refuse_copies(config)
