"""Learning from records: what is read, methods against what is known, estimates by hand."""

import numpy as np
import pandas as pd
import pytest
from places import Corridor, Gates

import jokulmist as jm
from jokulmist.agents.contract import hyperparameters_at
from jokulmist.agents.recorded.implicit_q import ImplicitQ
from jokulmist.agents.tables.q_learning import NOT_RECORDED
from jokulmist.errors import RecordError, SettingError
from jokulmist.judging.fitted_values import fitted
from jokulmist.loops.learn_from import learn_from


class Ford(jm.Environment):
    """Two decisions at a ford: by the left way each brings 1, by the right way 3, but only from the second stone; in
    between one may wait."""

    time_limit = 6

    class State(jm.State):
        stone: int = jm.seen(low=0, high=2)

    action = jm.Choice("left", "right", "wait")

    def begin(self, draw):
        return self.State(stone=0)

    def advance(self, state, action, draw):
        return state.replace(stone=self.xp.where(action == 2, state.stone, state.stone + 1))

    @jm.reward
    def crossed(self, before, action):
        xp = self.xp
        right = xp.where(before.stone == 1, 3.0, -1.0)
        return xp.where(action == 0, 1.0, xp.where(action == 1, right, 0.0))

    @jm.reward(weight=-0.5)
    def waited(self, action):
        return self.xp.where(action == 2, 1.0, 0.0)

    @jm.ending
    def over(self, after):
        return after.stone == 2


@pytest.fixture(scope="module")
def walked(tmp_path_factory):
    """Eighty episodes of random play at the ford, as a file, and what was measured."""
    output = jm.evaluate("random", Ford(), episodes=80, record=80, with_policy_outputs=False)
    return output.save_rollouts(tmp_path_factory.mktemp("log") / "log.parquet", Ford()), output


def test_what_was_recorded_is_read_with_ends_cuts_and_weights(walked):
    path, output = walked
    records = jm.Records.read(path, Ford())
    both = jm.Records.read([path, jm.read_rollouts(path)], Ford())
    assert (len(both), len(both.returns)) == (2 * len(records), 2 * len(records.returns))
    assert records.returns.tolist() == pytest.approx(output.returns.tolist())
    assert len(records) == int(output.episodes["steps"].sum())
    rows = records.rows
    assert (rows.last.numbers[:-1][~rows.closed[:-1]] == rows.observed.numbers[1:][~rows.closed[:-1]]).all()
    assert rows.ended.sum() == (output.episodes["closed_by"] == "over").sum()
    assert rows.closed.sum() == 80
    reweighted = jm.Records.read(jm.read_rollouts(path), Ford(weights={"waited": 0.0}))
    assert reweighted.returns.sum() > records.returns.sum()


def test_a_table_with_other_names_is_read_and_what_does_not_fit_is_named():
    log = pd.DataFrame(
        {
            "trip": ["a", "a", "a", "b", "b"],
            "at": [0, 1, 1, 0, 1],
            "way": ["left", "wait", "right", "right", 0],
            "paid": [1.0, -0.5, 3.0, -1.0, 1.0],
            "done": [False, False, True, False, False],
        }
    )
    called = {"stone": "at", "action": "way", "reward": "paid", "episode": "trip", "ended": "done"}
    records = jm.Records.read(log, Ford(), called)
    assert (len(records), records.left_out) == (4, 1)  # nobody knows what followed the last
    assert records.rows.actions.tolist() == [0, 2, 1, 1]
    assert records.rows.ended.tolist() == [False, False, True, False]
    assert records.rows.closed.tolist() == [False, False, True, True]
    assert records.returns.tolist() == [3.5, -1.0]
    for change, names, expected in (
        ({}, {**called, "stone": "place"}, r"says that `stone` is `place`"),
        ({}, {k: v for k, v in called.items() if k != "action"}, r"no column `action`.*columns=\{'action'"),
        ({"way": ["left", "swim", "right", "right", "left"]}, called, "has 'swim' in row 1"),
        ({"at": [0, None, 1, 0, 1]}, called, "has nan in row 1; it must be a number"),
        ({"way": ["left", None, "right", "right", "left"]}, called, "row 1 of the records has no action"),
        ({}, {**called, "depth": "at"}, "`columns` names `depth`"),
    ):
        with pytest.raises(SettingError, match=expected):
            jm.Records.read(log.assign(**change), Ford(), names)
    with pytest.raises(RecordError, match="no decision whose outcome is known"):
        jm.Records.read(log.iloc[-1:], Ford(), called)
    with pytest.raises(SettingError, match="does not learn from records"):
        learn_from(records, jm.PPO(), steps=10)
    with pytest.raises(SettingError, match=r"Use `jm\.learn_from"):
        jm.train(Ford(), jm.Cloning(), steps=100, lane="plain", folder=None)


def test_a_fitted_table_is_the_best_that_the_records_hold(walked):
    """What is recorded is all of the ford, so it is the optimum; without the right way from the second stone it is what
    is left."""
    records = jm.Records.read(walked[0], Ford())
    best = learn_from(records, jm.QLearning(discount=1.0), steps=12).policy
    assert best.table.to_numpy()[:2].tolist() == [[4.0, 2.0, 3.5], [1.0, 3.0, 2.5]]
    assert jm.evaluate(best, Ford(), episodes=3).mean == jm.solve(Ford()).value == 4.0
    log = pd.concat(
        [item.table.assign(episode=k) for k, item in enumerate(jm.read_rollouts(walked[0]))], ignore_index=True
    )
    without = log.groupby("episode").filter(lambda e: not ((e["stone"] == 1) & (e["action"] == "right")).any())
    poor = learn_from(jm.Records.read(without, Ford()), jm.QLearning(discount=1.0), steps=12).policy
    assert poor.table.to_numpy()[1, 1] == np.float32(NOT_RECORDED)
    assert poor.table.to_numpy()[0].tolist() == [2.0, 0.0, 1.5]


@pytest.mark.slow
def test_cloning_has_the_frequencies_and_other_methods_the_best(walked):
    records = jm.Records.read(walked[0], Ford())
    small = {"network": jm.Dense(32), "minibatch": 128, "learning_rate": 5e-3}
    clone = learn_from(records, jm.Cloning(**small), steps=500).policy
    rows = records.rows
    for stone in (0, 1):
        chosen = rows.actions[rows.observed.numbers[:, 0] == stone]
        assert list(clone.probabilities({"stone": stone}).values()) == pytest.approx(
            np.bincount(chosen, minlength=3) / len(chosen), abs=0.05
        )
    for agent in (
        jm.ImplicitQ(expectile=0.9, discount=1.0, target_share=0.05, **small),
        jm.DQN(conservative=0.1, discount=1.0, target_every=100, **small),
    ):
        taught = learn_from(records, agent, steps=900, seed=1)
        assert jm.evaluate(taught.policy, Ford(), episodes=3).mean == 4.0, agent
        repeated = learn_from(records, agent, steps=900, seed=1)
        assert repeated.readings.equals(taught.readings)
    opened = jm.Policy.open(taught.policy.save(walked[0].parent / "policy"))
    assert opened.values({"stone": 1}) == taught.policy.values({"stone": 1})


@pytest.mark.slow
def test_an_expectile_and_a_conservative_step_by_hand():
    """One update of each against the published equations, by NumPy."""
    log = pd.DataFrame(
        {
            "stone": [0, 1, 0, 1],
            "action": ["left", "right", "right", "left"],
            "reward": [1.0, 3.0, -1.0, 1.0],
            "episode": [0, 0, 1, 1],
            "ended": [False, True, False, True],
        }
    )
    records = jm.Records.read(log, Ford())
    agent = jm.ImplicitQ(
        network=jm.Dense(4),
        minibatch=4,
        expectile=0.7,
        optimiser="sgd",
        learning_rate=1.0,
        scaling="none",
        target_share=0.25,
    )
    taught = learn_from(records, agent, steps=1)
    config = agent.config(records.spec, 1)
    from jokulmist.environments.chance.draws import PlainDraw
    from jokulmist.environments.chance.noise import Domain, Noise, Stream

    noise = Noise(0, 1, Domain.TRAINING)
    learner = ImplicitQ.taught(
        config,
        hyperparameters_at(agent.schedules()),
        ImplicitQ.fresh_learner(
            config, hyperparameters_at(agent.schedules()), PlainDraw(noise, Stream.FRESH).for_step(0, 0)
        ),
        records.rows,
    )
    u = PlainDraw(noise, Stream.LEARN).for_step(0, 0).uniform(shape=(4,))
    pick = np.minimum(np.floor(u * 4), 3).astype(int)
    networks, critics = config.layout.module(learner.weights), config.critics.module(learner.critics)
    from jokulmist.learning.networks.inputs import Inputs

    x = Inputs(np.asarray(records.rows.observed.numbers)[pick], {})
    after = Inputs(np.asarray(records.rows.last.numbers)[pick], {})
    act = records.rows.actions[pick]
    q = np.asarray(critics(x))[:, np.arange(4), act]
    lower, value, next_value = q.min(axis=0), np.asarray(networks.values(x)), np.asarray(networks.values(after))
    off = lower - value
    spread = float(np.sqrt(learner.returns.square[0] / learner.returns.count))
    wanted = records.rows.rewards[pick] / spread + 0.99 * np.where(records.rows.ended[pick], 0.0, next_value)
    outputs = np.asarray(networks.outputs(x))
    logs = (outputs - np.log(np.exp(outputs).sum(axis=1, keepdims=True)))[np.arange(4), act]
    output = taught.readings.iloc[0]
    assert output["value_loss"] == pytest.approx(np.mean(np.abs(0.7 - (off < 0)) * off**2), rel=1e-4)
    assert output["policy_loss"] == pytest.approx(-np.mean(np.minimum(np.exp(3.0 * off), 100.0) * logs), rel=1e-4)
    assert output["critic_loss"] == pytest.approx(np.sum(np.mean(0.5 * (q - wanted) ** 2, axis=1)), rel=1e-4)
    # The same update of Q-learning with and without the conservative term differs by the gradient of that term.
    moved = {}
    for weight in (0.0, 0.5):
        dqn = jm.DQN(
            network=jm.Dense(4),
            minibatch=4,
            conservative=weight,
            optimiser="sgd",
            learning_rate=1e-2,
            gradient_clip=None,
            scaling="none",
            n_step=1,
        )
        moved[weight] = np.asarray(learn_from(records, dqn, steps=1).policy.learner.weights, float)
    config = dqn.config(records.spec, 1)
    fresh = np.asarray(
        jm.DQN.fresh_learner(
            config, hyperparameters_at(dqn.schedules()), PlainDraw(noise, Stream.FRESH).for_step(0, 0)
        ).weights,
        float,
    )
    chance = PlainDraw(noise, Stream.LEARN).for_step(0, 0).uniform(shape=(2, 4))
    back = 1 + np.minimum(np.floor(chance[1] * 4), 3).astype(int)
    place = (4 - back) % 8

    def term(weights):
        values = np.asarray(
            config.layout.module(weights)(Inputs(np.asarray(records.rows.observed.numbers, np.float64)[place], {})),
            float,
        )
        return np.mean(np.log(np.exp(values).sum(axis=1)) - values[np.arange(4), records.rows.actions[place]])

    for k in np.random.default_rng(0).permutation(len(fresh))[:12]:
        step = np.zeros_like(fresh)
        step[k] = 1e-3
        slope = (term(fresh + step) - term(fresh - step)) / 2e-3
        assert (moved[0.5] - moved[0.0])[k] == pytest.approx(-1e-2 * 0.5 * slope, abs=2e-5)


@pytest.mark.slow
def test_an_estimate_is_the_weighted_mean_by_hand_and_says_when_it_knows_little(walked):
    log = jm.read_rollouts(walked[0])
    table = pd.concat([item.table.assign(episode=k) for k, item in enumerate(log)], ignore_index=True)
    for label in ("left", "right", "wait"):
        table[f"probability.{label}"] = 1.0 / 3.0
    records = jm.Records.read(table, Ford())
    best = learn_from(records, jm.QLearning(discount=1.0), steps=12).policy
    output = jm.estimate(best, records)
    # Greedy: left, then right. At each decision only the episodes count that did so until then.
    assert output.mean == pytest.approx(4.0)
    assert output.outside == 0.0
    clone = learn_from(records, jm.Cloning(network=jm.Dense(16)), steps=400).policy
    close = jm.estimate(clone, records, act="sampled")
    assert close.interval[0] < walked[1].mean < close.interval[1]
    assert close.effective > 0.8 * close.episodes
    with pytest.raises(SettingError, match='judged with `act="greedy"`'):
        jm.estimate(best, records, act="sampled")
    with pytest.raises(SettingError, match=r"the policy observes .* and the environment of the records shows"):
        jm.estimate(jm.train(Corridor(), jm.QLearning(), steps=50, lane="plain", folder=None), records)


@pytest.mark.slow
def test_fitted_values_are_those_of_the_recorded_process_by_hand(walked):
    """With a feature a state the passes are backward induction on means of what was recorded; with random ones the
    estimate is that of the policy."""
    chance = np.random.default_rng(2)
    states, actions, count = 4, 2, 60
    place, after, index = (
        chance.integers(0, states, count),
        chance.integers(0, states, count),
        chance.integers(0, actions, count),
    )
    rewards, going, times = (
        chance.normal(size=count),
        (chance.random(count) < 0.8) * 1.0,
        chance.integers(0, 3, count) * 1.0,
    )
    probabilities = chance.dirichlet(np.ones(actions), states)
    item = np.eye(states)
    result, _ = fitted(item[place], item[after], index, probabilities[after], rewards, going, times, 0.9, 5)
    values = np.zeros((states, actions))
    for _ in range(5):
        targets = rewards + 0.9 * going * (probabilities[after] * values[after]).sum(axis=1)
        values = np.zeros((states, actions))
        for state in range(states):
            for action in range(actions):
                rows = (place == state) & (index == action)
                if times[rows].sum():
                    values[state, action] = times[rows] @ targets[rows] / times[rows].sum()
    assert result == pytest.approx(values, abs=2e-3)
    records = jm.Records.read(walked[0], Ford())
    best = learn_from(records, jm.QLearning(discount=1.0), steps=12).policy
    output = jm.estimate(best, records, by="fitted")
    assert output.mean == pytest.approx(4.0, abs=0.01)
    assert output.interval[0] <= 4.001
    assert output.interval[1] >= 3.999
    assert "by fitted values" in str(output)
    with pytest.raises(SettingError, match='must be "weights" or "fitted"'):
        jm.estimate(best, records, by="guess")


STILL = {"scaling": "bounds", "rewards_scaled": False}


@pytest.mark.slow
@pytest.mark.parametrize(
    ("teacher", "learner", "same"),
    [
        (jm.DQN(conservative=1.0, **STILL), jm.DQN(replay_start=10**4, **STILL), "values"),
        (jm.Cloning(scaling="bounds"), jm.PPO(entropy_bonus=0.0, scaling="bounds"), "probabilities"),
        (jm.ImplicitQ(scaling="bounds"), jm.ActorCritic(entropy_bonus=0.0, scaling="bounds"), "probabilities"),
        (jm.QLearning(), jm.QLearning(learning_rate=0.0), "values"),
    ],
    ids=["DQN", "Cloning", "ImplicitQ", "QLearning"],
)
def test_a_policy_that_records_have_taught_goes_on_in_the_environment(teacher, learner, same, walked, tmp_path):
    taught = jm.learn_from(jm.Records.read(walked[0], Ford()), teacher, steps=30)
    taught.policy.save(tmp_path / "taught.safetensors")
    run = jm.train(Ford(), learner, steps=128, copies=1, start=tmp_path / "taught.safetensors", folder=tmp_path)
    for stone in (0, 1):  # so early nothing was learned yet
        then, current = (getattr(policy, same)({"stone": float(stone)}) for policy in (taught.policy, run.policy))
        assert list(current.values()) == pytest.approx(list(then.values()), rel=1e-4)
    assert run.origin["parent"] == {"run": "taught.safetensors", "decisions": 30}
    (tmp_path / "taught.safetensors").unlink()  # the run keeps what it began with
    assert jm.redo(run.path).same


@pytest.mark.slow
@pytest.mark.parametrize(
    "agent", [jm.DQN(replay_start=40, **STILL), jm.DQN(replay_start=40, prioritised=True, **STILL)]
)
def test_a_run_with_replay_begins_with_what_another_learned_and_its_own_decisions(agent, tmp_path):
    first = jm.train(Ford(), agent, steps=400, copies=2, folder=tmp_path)
    then = first.policy.values({"stone": 1.0})
    second = jm.train(Ford(), agent, steps=32, copies=2, start=first, folder=tmp_path)
    assert second.policy.values({"stone": 1.0}) == pytest.approx(then)  # too few decisions to learn from
    third = jm.train(Ford(), agent, steps=200, copies=2, start=first, folder=tmp_path)
    assert then["right"] - 0.1 < third.policy.values({"stone": 1.0})["right"] < 3.5
    assert third.readings["mean_value"].dropna().abs().max() > 0.1


def test_policies_that_cannot_begin_another_are_refused(walked, tmp_path):
    taught = jm.learn_from(jm.Records.read(walked[0], Ford()), jm.Cloning(network=jm.Dense(8)), steps=2)
    path = taught.policy.save(tmp_path / "taught.safetensors") or tmp_path / "taught.safetensors"
    for environment, agent, expected in (
        (Ford(), jm.DQN(), "is a policy of `Cloning`, and what is to begin with it is `DQN`.*begins `PPO`"),
        (Ford(), jm.PPO(), "`network` is Dense\\(8\\) there and Dense\\(64, 64\\) here"),
        (Ford(), jm.PPO(network=jm.Dense(8), shared=True), "`shared` is True here"),
        (Corridor(), jm.PPO(network=jm.Dense(8)), "observes \\['stone'\\], and `Corridor` shows \\['cell'\\]"),
    ):
        with pytest.raises(SettingError, match=expected):
            jm.train(environment, agent, steps=64, copies=1, start=path, folder=None)


def test_masks_are_read_by_the_states_or_asked_for(tmp_path):
    path = tmp_path / "log.parquet"
    jm.evaluate("random", Gates(), episodes=3, record=3).save_rollouts(path, Gates())
    records, moments = jm.Records.read(path, Gates()), 0
    for rollout in jm.read_rollouts(path):
        for state in rollout.states(Gates())[:-1]:
            gate, lamp = (part[moments] for part in records.rows.observed.legal)
            assert gate.tolist() == [k != (state.open + 1) % 3 for k in range(3)]
            assert lamp.tolist() == [True, bool(state.night)]
            moments += 1
    assert moments == len(records)
    foreign = pd.read_parquet(path).rename(columns={"state.open": "was_open"})
    with pytest.raises(SettingError, match="says what is legal, and the records do not"):
        jm.Records.read(foreign, Gates())
    foreign["legal.gate"], foreign["may_light"] = [["west", "east"]] * len(foreign), ["dark|lit"] * len(foreign)
    read = jm.Records.read(foreign, Gates(), columns={"legal.lamp": "may_light"})
    assert read.rows.observed.legal[0].tolist() == [[True, False, True]] * len(read)
    foreign.loc[2, "may_light"] = "dim"
    with pytest.raises(SettingError, match="'dim' in row 2; it is a list of some of"):
        jm.Records.read(foreign, Gates(), columns={"legal.lamp": "may_light"})


class Sluice(jm.Simulator):
    """A simulator that says what is legal, and keeps its state to itself."""

    time_limit = 6
    says_legal = True
    observation = {"level": jm.channel(low=0.0, high=9.0)}
    action = jm.Choice("shut", "half", "open")
    terms = {"full": 1.0}

    def told(self, **more):
        return jm.Outcome({"level": float(self.level)}, legal=[True, self.level > 2, self.level > 4], **more)

    def begin(self, seed):
        self.level = 5 + seed % 4
        return self.told()

    def advance(self, action):
        self.level -= action
        return self.told(terms={"full": self.level})


@pytest.mark.parametrize("source", ["trained", "evaluated"])
def test_what_a_simulator_said_is_legal_stands_in_its_records(source, tmp_path):
    run = jm.train(
        Sluice(), jm.QLearning(bins=4, exploration=1.0), steps=200, copies=1, record_every=1, folder=tmp_path
    )
    log = run.path / "rollouts"
    if source == "evaluated":
        played = jm.evaluate("random", Sluice(), episodes=5, record=5)
        log = played.save_rollouts(tmp_path / "log.parquet", Sluice())
    records = jm.Records.read(log, Sluice())
    level = records.rows.observed.numbers[:, 0]
    (mask,) = records.rows.observed.legal
    assert mask.tolist() == [[True, position > 2, position > 4] for position in level]
    assert not mask.all()
    assert jm.learn_from(records, jm.QLearning(bins=4), steps=5).policy.decisions == 5


def test_fitted_values_that_run_away_are_no_estimate():
    """One number, of which the records hold a narrow band, and a policy that leaves it: a regression there grows from
    pass to pass."""
    chance = np.random.default_rng(0)
    place = np.stack([np.ones(50), chance.normal(size=50)], axis=1)
    after, rewards = place * [1.0, 3.0], -np.ones(50)
    item, sure = np.ones(50), np.ones((50, 1))
    values, beyond = fitted(place, after, np.zeros(50, int), sure, rewards + 0.1 * place[:, 1], item, item, 1.0, 40)
    assert beyond > 0.05
    assert np.abs(place @ values).max() < 50 * 1.5
    values, beyond = fitted(place, place, np.zeros(50, int), sure, rewards, item, item, 1.0, 40)
    assert (place @ values)[:, 0] == pytest.approx(-40.0, rel=1e-2)
    assert beyond == 0.0
    output = jm.results.Estimate(float("nan"), (float("nan"),) * 2, 20, 3.0, 0.1, "fitted", 0.25, 0.4)
    assert "no estimate" in repr(output)
    assert "25% of its probability is on actions that were never recorded" in repr(output)
