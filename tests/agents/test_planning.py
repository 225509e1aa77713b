"""Tables that plan: updates against a loop by hand, values against the optimum, both lanes; and double Q-learning."""

import jax
import jax.numpy as jnp
import numpy as np
import pytest
from places import Corridor, seen

import jokulmist as jm
from jokulmist.agents.contract import Experience, hyperparameters_at
from jokulmist.agents.tables.table import Table
from jokulmist.environments.chance.draws import RowDraw
from jokulmist.environments.declaration.instance import describe
from jokulmist.errors import SettingError

SPEC = describe(Corridor()).spec


def one(cell, action, reward, ended, last):
    """One turn of one copy."""

    def at(where):
        return seen(np.array([[[float(where)]]], np.float32))

    flags = np.array([[ended]])
    return Experience(
        at(cell), np.array([[action]], np.int32), np.array([[reward]], np.float32), flags, flags, at(last), at(last), ()
    )


def step(agent, learner, happened, u=()):
    config, hyperparameters = agent.config(SPEC, 1), hyperparameters_at(agent.schedules())
    memory = jax.tree.map(jnp.asarray, agent.fresh_memory(config, hyperparameters))
    noise = RowDraw(jnp, [jnp.asarray(part, jnp.float32) for part in u], jnp.float32(1.0))
    return jax.tree.map(jnp.asarray, type(agent).learn(config, hyperparameters, learner, memory, happened, noise))[0]


@pytest.mark.slow
def test_planned_updates_are_those_of_a_loop_by_hand():
    """Sutton and Barto (2018), the boxes of sections 8.2 and 8.4, with the mean of what is remembered as the model; one
    place leads to two others by chance."""
    rate, discount, planning = 0.5, 0.9, 3
    chance = np.random.default_rng(3)
    walk = [
        (2, 1, 0.0, False, 3),
        (3, 1, 1.0, True, 4),
        (2, 1, 0.5, False, 1),
        (1, 0, -1.0, False, 0),
        (0, 1, 0.0, False, 1),
    ] * 4
    for sweeping in ("even", "prioritised"):
        agent = jm.QLearning(planning=planning, sweeping=sweeping, learning_rate=rate, discount=discount)
        config, hyperparameters = agent.config(SPEC, 1), hyperparameters_at(agent.schedules())
        learner = jax.tree.map(jnp.asarray, agent.fresh_learner(config, hyperparameters, None))
        values, model, met, need = np.zeros((5, 2)), {}, [], {}

        def error(entry, values=values, model=model):
            wanted = [r + (0.0 if end else discount * values[s].max()) for r, end, s in model[entry]]
            return np.mean(wanted) - values[entry]

        for cell, action, reward, ended, last in walk:
            samples = chance.random(planning).astype(np.float32)
            learner = step(
                agent, learner, one(cell, action, reward, ended, last), (samples,) if sweeping == "even" else ()
            )
            entry = (cell, action)
            values[entry] += rate * (reward + (0.0 if ended else discount * values[last].max()) - values[entry])
            if entry not in model:
                met.append(entry)
            model.setdefault(entry, []).append((reward, ended, last))
            leading = {
                s: [e for e, outcomes in model.items() if any(a == s and not end for _, end, a in outcomes)]
                for s in range(5)
            }
            if sweeping == "even":
                for u in samples:
                    position = met[int(u * len(met))]
                    values[position] += rate * error(position)
            else:
                need[entry] = abs(error(entry))
                need.update({e: abs(error(e)) for e in leading[cell]})
                for _ in range(planning):
                    position = max(sorted(need), key=need.get)
                    moved = error(position) if need[position] > 0.0 else 0.0
                    values[position] += rate * moved
                    need[position] = abs(moved) * (1 - rate) if abs(moved) * (1 - rate) > 1e-4 else 0.0
                    need.update({e: abs(error(e)) for e in leading[position[0]]})
            np.testing.assert_allclose(learner.values, values, atol=1e-5)


@pytest.mark.slow
@pytest.mark.parametrize("sweeping", ["even", "prioritised"])
def test_planning_finds_the_optimum_in_few_decisions_in_both_lanes_and_goes_on(sweeping, tmp_path):
    place = Corridor(length=8)
    best = jm.solve(place, limit=False, discount=0.9)
    agent = jm.QLearning(planning=30, sweeping=sweeping, learning_rate=1.0, discount=0.9, exploration=1.0)
    runs = [
        jm.train(place, agent, steps=600, seed=5, copies=1, folder=None, lane=lane) for lane in ("plain", "compiled")
    ]
    np.testing.assert_allclose(runs[0].policy.learner.values, runs[1].policy.learner.values, atol=1e-6)
    assert runs[1].policy.learner.model == ()
    optimum = best.table.set_index("cell")["value"]
    for cell, value in optimum.items():
        assert np.max(runs[1].policy.learner.values[cell]) == pytest.approx(value, abs=1e-3)
    slow = jm.QLearning(learning_rate=0.2, discount=0.9, exploration=1.0)
    early = [
        jm.train(place, one, steps=120, seed=5, copies=1, folder=None).policy.learner.values
        for one in (slow, slow.model_copy(update={"planning": 30, "sweeping": sweeping}))
    ]
    off = [np.abs(np.max(values, axis=1)[optimum.index] - optimum).max() for values in early]
    assert off[1] < 0.5 * off[0]
    part = jm.train(place, agent, steps=300, seed=5, copies=1, folder=tmp_path, lane="compiled")
    assert jm.resume(part.path, steps=300).policy.learner.values.tolist() == runs[1].policy.learner.values.tolist()


def test_one_update_of_two_tables_by_hand():
    agent = jm.DoubleQLearning(learning_rate=0.5, discount=0.9)
    first = np.arange(10.0, dtype=np.float32).reshape(5, 2)
    second = np.float32(20.0) - first
    for u, updated, judge in ((0.4, 1, 0), (0.6, 0, 1)):
        values = np.stack([first, second])
        learner = step(agent, Table(jnp.asarray(values)), one(1, 0, 3.0, False, 2), (np.array([u]),))
        best = values[updated, 2].argmax()
        values[updated, 1, 0] += 0.5 * (3.0 + 0.9 * values[judge, 2, best] - values[updated, 1, 0])
        np.testing.assert_allclose(learner.values, values, rtol=1e-6)


class Landings(jm.Environment):
    """From a skerry to the quay, which pays nothing; or round the cape, where each of eight landings pays less than
    nothing, but not every time."""

    class State(jm.State):
        place: int = jm.seen(low=0, high=2)
        paid: float = jm.flow()

    action = jm.Choice(8)

    def begin(self, draw):
        return self.State(place=0)

    def advance(self, state, action, draw):
        xp = self.xp
        rounds = (state.place == 0) & (action == 1)
        paid = xp.where(state.place == 1, draw.normal(-0.1, 1.0), xp.where(rounds, 0.0, -0.01 * (action > 1)))
        return state.replace(place=xp.where(rounds, 1, 2), paid=paid)

    @jm.reward
    def catch(self, after):
        return after.paid

    @jm.ending
    def moored(self, after):
        return after.place == 2


@pytest.mark.slow
def test_two_tables_are_not_lured_by_the_largest_of_noisy_values():
    """Sutton and Barto (2018), example 6.7: what one table overestimates."""
    lured = {}
    for kind in (jm.QLearning, jm.DoubleQLearning):
        agent = kind(learning_rate=0.1, discount=1.0, exploration=0.1)
        runs = [jm.train(Landings(), agent, steps=3_000, seed=seed, copies=1, folder=None) for seed in range(8)]
        lured[kind] = np.mean([(run.episodes["steps"] == 2).mean() for run in runs])
    assert lured[jm.DoubleQLearning] < 0.7 * lured[jm.QLearning]


@pytest.mark.slow
def test_two_tables_learn_the_same_in_both_lanes_and_go_on(tmp_path):
    agent = jm.DoubleQLearning(learning_rate=0.3, exploration=0.4)
    for copies in (1, 3):
        runs = [
            jm.train(Corridor(slip=0.25), agent, steps=600, seed=5, copies=copies, folder=None, lane=lane)
            for lane in ("plain", "compiled")
        ]
        np.testing.assert_allclose(*(run.policy.learner.values for run in runs), atol=1e-5)
    part = jm.train(Corridor(slip=0.25), agent, steps=300, seed=5, copies=3, folder=tmp_path)
    gone_on = jm.resume(part.path, steps=300).policy
    assert gone_on.learner.values.tolist() == runs[1].policy.learner.values.tolist()
    values = gone_on.values({"cell": 1.0})
    assert list(values.values()) == pytest.approx(np.mean(gone_on.learner.values[:, 1], axis=0).tolist())


def test_what_does_not_go_together_is_refused():
    for settings, copies, expected in (
        ({"planning": 5, "trace_decay": 0.5}, 1, "do not go together"),
        ({"sweeping": "prioritised"}, 1, "Add `planning=20`"),
        ({"planning": 5}, 4, "Use `copies=1`"),
        ({"planning": -1}, 1, "planning"),
    ):
        with pytest.raises(SettingError, match=expected):
            jm.train(Corridor(), jm.QLearning(**settings), steps=50, copies=copies, folder=None)
    with pytest.raises(SettingError, match="has no traces"):
        jm.train(Corridor(), jm.DoubleQLearning(trace_decay=0.5), steps=50, copies=1, folder=None)
