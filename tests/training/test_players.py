"""Several players: declared, stepped, trained, put together again; against what is known exactly."""

import json
import shutil
from dataclasses import replace
from typing import ClassVar

import jax.numpy as jnp
import numpy as np
import pytest
from canon import fresh_policy
from commands import jokulmist
from games import Sticks, Table, Team

import jokulmist as jm
from jokulmist.agents.contract import Experience
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.spaces.channels import ObservationBatch
from jokulmist.environments.spaces.players import view_of
from jokulmist.errors import (
    ActionError,
    BrokenEnvironment,
    DeclarationError,
    JokulmistError,
    RecordError,
    SettingError,
)
from jokulmist.lanes.compiled.copies import CompiledEnvironment
from jokulmist.learning import replay as replay_memory
from jokulmist.live import views
from jokulmist.pictures.report import charts
from jokulmist.records.episodes import pairing_name
from jokulmist.records.run_index import row_of
from jokulmist.running.redo import redo
from jokulmist.running.runs.course import panel_rows, window_of
from jokulmist.running.session.session import EVALUATION_SEED
from jokulmist.studies import cross_play
from jokulmist.studies.cross_play import CrossPlay, chance_of_pairing
from jokulmist.trees import flattened


class Twins(Sticks):
    """The same sticks, and nobody minds who takes the last."""

    @jm.reward
    def game(self, after, player):
        return 0.0 * after.won


class Dive(jm.Environment):
    """Two divers who may come up when they like; the time is cut after six moments."""

    players = 2
    time_limit = 6

    class State(jm.State):
        clock: int = jm.seen(low=0, high=6)
        up: bool = jm.field(shape=(2,), dtype=bool)

    action = jm.Choice("stay", "come_up")

    def begin(self, draw):
        return self.State(clock=0, up=self.xp.zeros(2, dtype=bool))

    def out(self, state, player):
        return state.up[player]

    def advance(self, state, actions, draw):
        xp = self.xp
        return state.replace(clock=state.clock + 1, up=state.up | xp.stack([xp.asarray(a == 1) for a in actions]))

    @jm.reward
    def pearls(self, after, player):
        return 1.0 + 0.0 * after.clock

    @jm.ending
    def both_up(self, after):
        return after.up[0] & after.up[1]


class SimulatedDive(jm.Simulator):
    """The same as a program that cannot be looked into."""

    players = 2
    time_limit = 6
    says_out = True
    observation: ClassVar = {"clock": jm.channel(low=0.0, high=6.0)}
    action = jm.Choice("stay", "come_up")
    terms: ClassVar = {0: {"pearls": 1.0}, 1: {"pearls": 1.0}}
    endings = ("both_up",)
    measures: ClassVar = {1: {"breaths": "sum"}}

    def begin(self, seed):
        self.clock, self.up = 0, [False, False]
        return {"clock": 0.0}

    def advance(self, actions):
        self.clock += 1
        self.up = [up or action == 1 for up, action in zip(self.up, actions, strict=True)]
        return jm.Outcome(
            {"clock": float(self.clock)},
            terms={0: {"pearls": 1.0}, 1: {"pearls": 1.0}},
            measures={1: {"breaths": 0.5}},
            closed_by="both_up" if all(self.up) else None,
            out=[k for k, up in enumerate(self.up) if up],
        )


class Barter(jm.Simulator):
    """Two speak in turn, each with words of their own; who speaks third ends it."""

    players = ("baker", "smith")
    says_turn = says_legal = True
    observation: ClassVar = {"said": jm.channel(low=0.0, high=3.0), "smith": {"iron": jm.channel(low=0.0, high=9.0)}}
    action: ClassVar = {"baker": jm.Choice("bread", "salt"), "smith": jm.Choice("nails", "hooks", "bars")}
    terms: ClassVar = {"peace": 0.5, "baker": {"gain": 2.0}}
    endings = ("agreed",)

    def begin(self, seed):
        self.said = 0
        return jm.Outcome(self.seen(), turn="baker")

    def seen(self):
        return {"said": self.said, "smith": {"iron": 3.0}}

    def advance(self, actions):
        self.said += 1
        legal = {"smith": [True, self.said < 2, False]}
        gain = float(actions.smith if self.said % 2 == 0 else actions["baker"])
        return jm.Outcome(
            self.seen(),
            terms={"peace": 1.0, "baker": {"gain": gain}},
            closed_by="agreed" if self.said == 3 else None,
            turn=self.said % 2,
            legal=legal,
        )


class Recorder(jm.Agent):
    """Plays at random and keeps all that it is to learn from."""

    room: int = 4096
    every: int = 1

    def refuse(self, spec):
        pass

    def decisions_per_update(self, copies):
        return self.every

    @staticmethod
    def fresh_learner(config, hyperparameters, noise):
        rows = (config.room, config.copies)
        return {
            "count": np.int32(0),
            **{n: np.zeros(rows, np.float32) for n in ("left", "reward", "ended", "closed", "last", "next", "broken")},
        }

    @staticmethod
    def choose(config, hyperparameters, learner, memory, observed, noise, explore):
        share = noise.uniform(shape=(config.copies,))
        count = (
            observed.legal[0].sum(axis=-1) if observed.legal else 1.25
        )  # of two that are always allowed seldom the second
        return jnp.floor(share * count).astype(jnp.int32), memory, ()

    @staticmethod
    def learn(config, hyperparameters, learner, memory, e, noise):
        position = learner["count"] + jnp.arange(config.every)
        result = {
            "left": e.observed.numbers[..., 0],
            "reward": e.rewards,
            "ended": e.ended,
            "closed": e.closed,
            "last": e.last.numbers[..., 0],
            "next": e.following.numbers[..., 0],
            "broken": e.broken if not isinstance(e.broken, tuple) else jnp.zeros_like(e.ended),
        }
        stored = {name: learner[name].at[position].set(value.astype(jnp.float32)) for name, value in result.items()}
        return {**stored, "count": learner["count"] + config.every}, memory, ()


def quick(**more):
    return jm.QLearning(**{"exploration": 0.3, "learning_rate": 0.2, "discount": 1.0, **more})


def both(agent):
    return {"first": agent, "second": agent}


def test_two_games_share_what_a_plain_base_class_says_of_players():
    class Scored:
        @jm.reward
        def points(self, after, player):
            return after.clock * (1.0 + player)

    class Game(Scored, jm.Environment):
        players = 2
        deadline = 2

        class State(jm.State):
            clock: int = jm.seen(low=0, high=2)

        action = jm.Choice(2)

        def begin(self, draw):
            return self.State(clock=0)

        def advance(self, state, actions, draw):
            return state.replace(clock=state.clock + 1)

    class Changed(Game):
        @jm.reward
        def points(self, after, player):
            return 10.0 * after.clock

    class Again(Changed):
        """What the class between says holds, and not what the plain base said."""

    for game, returns in ((Game, {"0": 3.0, "1": 6.0}), (Again, {"0": 30.0, "1": 30.0})):
        episode = game().episode(seed=1)
        while not episode.over:
            episode.act({"0": 0, "1": 0})
        assert episode.returns == returns


def test_what_each_sees_does_and_gets():
    lots = jm.gallery.Lots(fall=2.0)
    episode = lots.episode(seed=4)
    assert (episode.deciding, episode.observation["elder"].pile, episode.observation["younger"].taken) == (
        ("elder",),
        episode.state.left,
        0,
    )
    assert not hasattr(episode.observation["younger"], "pile")
    episode.act("three")  # whose turn it is
    assert episode.returns == {"elder": 3.0, "younger": 0.0}
    assert (episode.total, episode.totals["elder.logs"]) == (1.5, 1.5)  # their mean
    assert (episode.deciding, episode.observation.younger.taken) == (("younger",), 3)
    with pytest.raises(ActionError, match=r"there is no player `youngr`.*Did you mean `younger`"):
        episode.act({"youngr": "one"})
    assert [word.partition("=")[0] for word in jm.tabulate_steps(lots, 3)["action"]] == ["elder", "younger", "elder"]
    haul = jm.gallery.Haul().episode(seed=1)
    with pytest.raises(ActionError, match="an action is missing for `south`"):
        haul.act({"north": "ahead"})
    haul.act({"north": "to_port", "south": "to_starboard"})
    assert haul.returns["north"] == pytest.approx(haul.total + 0.0, abs=1e-6)
    assert haul.environment.abeam(haul.state, 1) == haul.observation["south"].abeam


@pytest.mark.parametrize(
    ("body", "expected"),
    [
        ({"players": ("north",)}, "names two players or more"),
        ({"players": ("north", "no rth")}, "is no name"),
        ({"action": {"north": jm.Choice(2)}}, "is missing for `south`"),
        ({"action": {"north": jm.Choice(2), "west": jm.Choice(2)}}, "names the player `west`"),
        ({"deep": jm.sensor(low=0.0, high=1.0, of="nobody")(lambda self, state: 0.5)}, "is a channel of `nobody`"),
        ({"caught": jm.reward(lambda self, befor, player: 1.0)}, "takes `befor`; with `players`"),
        ({"closed": jm.ending(lambda self, after, player: False)}, "an episode closes for all"),
        ({"turn": lambda self: 0}, r"turn` must be a method that takes \(self, state\)"),
        ({"legal": lambda self, after: 0}, "legal` must be a method"),
        ({"advance": lambda self, state, draw: state}, r"must take \(self, state, actions, draw\)"),
    ],
)
def test_wrong_declarations_are_told(body, expected):
    parts = {
        name: value for name, value in vars(jm.gallery.Haul).items() if not name.startswith(("_", "north.", "south."))
    }
    with pytest.raises(DeclarationError, match=expected):
        type(
            "Wrong",
            (jm.Environment,),
            {**parts, "players": ("north", "south"), "action": jm.Choice(3), "__module__": __name__, **body},
        )


@pytest.mark.slow
def test_who_has_no_agent_and_who_cannot_share_one_is_told(tmp_path):
    train = {"steps": 200, "lane": "plain", "folder": None}
    with pytest.raises(SettingError, match="no agent is given for `second`"):
        jm.train(Sticks(), {"first": quick()}, **train)
    with pytest.raises(SettingError, match="names the player `third`"):
        jm.train(Sticks(), {**both(quick()), "third": quick()}, **train)
    with pytest.raises(SettingError, match="one agent cannot play `elder`, `younger`"):
        jm.train(jm.gallery.Lots(), quick(), **train)
    with pytest.raises(SettingError, match="has no players"):
        jm.train(jm.gallery.Ferry(), both(quick()), **train)
    run = jm.train(Sticks(), both(quick()), **train)
    with pytest.raises(SettingError, match=r"the policy of .* observes \['left'\], and the player shows \['taken'\]"):
        jm.train(
            jm.gallery.Lots(),
            {"elder": quick(), "younger": jm.Fixed(run.policy.player("second").save(tmp_path / "p"))},
            **train,
        )
    with pytest.raises(SettingError, match="the players are `first`, `second`"):
        run.policy.player("third")


@pytest.mark.slow
@pytest.mark.parametrize("lane", ["plain", "compiled"])
def test_independent_learners_find_dominant_actions(lane):
    run = jm.train(Table(), both(quick()), steps=3_000, copies=2, lane=lane, folder=None)
    chosen = run.policy.choose({"moved": 0})
    assert (chosen.first, chosen.second) == (1, 1)
    learned = np.asarray(run.policy.learner["first"].values)[0]  # against one who mostly defects
    assert learned[1] - learned[0] == pytest.approx(1.0, abs=0.8)
    assert (run.episodes["first.return"] == run.episodes["first.paid"]).all()


@pytest.mark.slow
def test_independent_learners_mix_where_nothing_dominates():
    pennies = jm.train(Table(game="pennies"), both(quick(learning_rate=0.1)), steps=20_000, folder=None)
    assert pennies.origin["lane"] == "compiled"
    assert (pennies.episodes["return"] == 0.0).all()
    assert abs(pennies.episodes["first.return"].mean()) < 0.05  # in the average of time each plays one half


@pytest.mark.slow
def test_taking_turns_comes_to_backward_induction_the_same_on_both_lanes():
    plain, compiled = (
        jm.train(Sticks(), both(quick()), steps=2_000, copies=4, lane=lane, folder=None)
        for lane in ("plain", "compiled")
    )
    assert plain.episodes.equals(compiled.episodes)
    learned = jm.train(Sticks(), both(quick()), steps=30_000, copies=4, lane="compiled", folder=None)
    wins = np.zeros(13)  # of who is to move: 1 or -1, by the number that is left
    wins[0] = -1.0
    for left in range(1, 13):
        wins[left] = max(-wins[left - take] for take in (1, 2, 3) if take <= left)
    for player in ("first", "second"):
        values = np.asarray(learned.policy.learner[player].values).reshape(13, 3)
        for left in (1, 2, 3, 5, 6, 7, 9, 10):
            if wins[left] == 1.0:
                take = int(np.argmax(values[left])) + 1
                assert wins[left - take] == -1.0, (player, left)
                assert values[left].max() == pytest.approx(1.0, abs=0.3)


@pytest.mark.slow
def test_a_team_game_comes_to_what_enumeration_finds():
    joint = [
        (table, first, second, Team.tables[table][first][second])
        for table in (0, 1)
        for first in (0, 1)
        for second in (0, 1)
    ]
    best = max(joint, key=lambda one: one[3])
    agent = quick(
        exploration=jm.linear(1.0, 0.05, over=0.5)
    )  # beside a partner who errs more than seldom, the safe table is the better one
    run = jm.train(Team(), both(agent), steps=12_000, copies=2, lane="plain", folder=None)
    assert (jm.evaluate(run, Team(), episodes=3).returns == best[3]).all()
    for player, action in (("first", best[1]), ("second", best[2])):
        values = np.asarray(run.policy.learner[player].values)
        assert values[1 + best[0]].argmax() == action
        assert values[1 + best[0]].max() == pytest.approx(0.975 * best[3] + 0.025 * 1.0, abs=1.6)
    assert np.asarray(run.policy.learner["first"].values)[0].argmax() == best[0]


@pytest.mark.slow
@pytest.mark.parametrize("every", [1, 4])
def test_a_decision_lasts_until_its_player_is_asked_again(every):
    run = jm.train(Sticks(), both(Recorder(every=every)), steps=1_200, copies=3, lane="compiled", folder=None)
    returns = run.episodes.groupby("copy")[["first.return", "second.return"]].sum()
    for player in ("first", "second"):
        log = run.policy.learner[player]
        count = int(log["count"])
        assert count > 80
        for copy in range(3):
            rows = {name: log[name][:count, copy] for name in ("left", "reward", "ended", "closed", "last", "next")}
            open_ = rows["closed"][:-1] == 0
            assert (
                rows["next"][:-1][open_] == rows["left"][1:][open_]
            ).all()  # where it led is what is decided on next
            assert (rows["left"][:-1][open_] - rows["left"][1:][open_] >= 2).all()  # both have taken
            assert (rows["last"][rows["closed"] == 1] == 0.0).all()
            assert (rows["ended"] == rows["closed"]).all()
            assert set(rows["reward"][rows["closed"] == 1]) <= {-1.0, 1.0}
            assert (rows["reward"][rows["closed"] == 0] == 0.0).all()
            recorded_return = returns.loc[copy, f"{player}.return"]
            assert abs(rows["reward"].sum() - recorded_return) <= every + 8  # but for decisions that still wait


@pytest.mark.slow
def test_for_a_player_who_is_out_the_episode_has_ended():
    runs = [
        jm.train(Dive(), {"0": Recorder(), 1: Recorder()}, steps=900, copies=3, lane=lane, folder=None)
        for lane in ("plain", "compiled")
    ]
    assert runs[0].episodes.equals(runs[1].episodes)
    assert set(runs[0].episodes["closed_by"]) == {"both_up", "time limit"}
    for player in ("0", "1"):
        log = runs[1].policy.learner[player]
        count = int(log["count"])
        for copy in range(3):
            rows = {name: log[name][:count, copy] for name in ("left", "reward", "ended", "closed", "last", "broken")}
            assert (rows["reward"] == 1.0).all()  # one a moment while it is there, and nothing of what comes after
            starts = np.flatnonzero(np.concatenate([[1.0], rows["closed"][:-1]]))
            starts = starts[
                rows["broken"][starts] == 0.0
            ]  # a copy that is far ahead of the slowest leaves decisions out
            assert (rows["left"][starts] == 0.0).all()
            ended = rows["ended"] == 1.0
            assert (rows["closed"][ended] == 1.0).all()
            cut = (rows["closed"] == 1.0) & ~ended
            assert (rows["last"][cut] == 6.0).all()  # only the time limit is a cut
    episode = Dive().episode(seed=1)
    episode.act({0: "come_up", 1: "stay"})
    assert (episode.deciding, episode.returns) == (("1",), {"0": 1.0, "1": 1.0})
    episode.act("stay")
    assert episode.returns == {"0": 1.0, "1": 2.0}

    class Nobody(Sticks):
        def turn(self, state):
            return state.moves + 1

    for lane in ("plain", "compiled"):
        with pytest.raises(BrokenEnvironment, match=r"in copy 0 of `Nobody` nobody can decide.*from 0 to 1"):
            jm.train(Nobody(), both(quick()), steps=100, lane=lane, folder=None)


@pytest.mark.slow
def test_a_simulator_has_players_too(tmp_path):
    runs = [
        jm.train(env, {0: Recorder(), 1: Recorder()}, steps=600, copies=2, lane="plain", folder=None, **more)
        for env, more in ((Dive(), {}), (SimulatedDive(), {}), (SimulatedDive(), {"processes": True}))
    ]
    for run in runs[1:]:
        shared = [name for name in runs[0].episodes if name != "advances"]
        assert run.episodes[shared].equals(runs[0].episodes[shared])
        assert (run.episodes["1.breaths"] == 0.5 * run.episodes["steps"]).all()
        for player in ("0", "1"):
            for name, log in runs[0].policy.learner[player].items():
                np.testing.assert_array_equal(run.policy.learner[player][name], log, err_msg=name)
    episode = Barter(weights={"gain": 3.0}).episode()
    assert (episode.deciding, episode.observation["smith"].iron) == (("baker",), 3.0)
    assert not hasattr(episode.observation["baker"], "iron")
    episode.act("salt")
    assert (episode.deciding, episode.returns) == (("smith",), {"baker": 3.5, "smith": 0.5})
    with pytest.raises(ActionError, match="`bars` is not allowed now; allowed are `nails`, `hooks`"):
        episode.act("bars")
    episode.act("hooks")
    assert (episode.returns["baker"], episode.legal["smith"]) == (7.0, ["nails"])
    assert not [result for result in jm.check(Barter()).findings if result.level == "error"]
    each = {"baker": quick(), "smith": quick()}
    run = jm.train(Barter(), each, steps=600, lane="plain", folder=tmp_path)
    assert run.policy.player("baker").choose({"said": 0.0}) == 1
    assert redo(run.path, folder=tmp_path).same


@pytest.mark.parametrize(
    ("change", "expected"),
    [
        ({"players": None}, "declares no `players`"),
        ({"observation": {"smith": jm.channel(low=0.0)}}, "What belongs to one player is a dict"),
        ({"terms": {"baker": 1.0}}, "names the player `baker`, with 1.0"),
        ({"terms": {"bakr": {"gain": 1.0}}}, "names the player `bakr`.*Did you mean `baker`"),
        ({"terms": {"gain": 1.0, "baker": {"gain": 1.0}}}, "uses the name `baker.gain` twice"),
        ({"advance": lambda self, state, action: None}, r"must take \(self, actions\)"),
        ({"action": {"baker": jm.Choice(2)}}, "is missing for `smith`"),
    ],
)
def test_wrong_players_of_a_simulator_are_told(change, expected):
    body = {k: v for k, v in vars(Barter).items() if k in ("observation", "terms", "begin", "endings", "says_turn")}
    body |= {
        "players": ("baker", "smith"),
        "action": jm.Choice(2),
        "advance": lambda self, actions: None,
        "__module__": __name__,
    }
    with pytest.raises(DeclarationError, match=expected):
        type("Wrong", (jm.Simulator,), {**body, **change})


@pytest.mark.parametrize(
    ("told", "expected"),
    [
        ({"turn": 2}, "gave `turn` the player 2; the players are `baker`, `smith`"),
        ({"terms": {"bakr": {"gain": 1.0}}}, "gave terms a `bakr`"),
        ({"observation": {"said": 0}}, "observed `said`; declared are `said`, `smith.iron`"),
        ({"legal": [True]}, "gave `legal` as list; write a dict by player"),
        ({"turn": "smith", "legal": {"smith": [False, False, False]}}, "nobody can decide|allows nothing"),
    ],
)
def test_what_a_simulator_tells_wrongly_of_its_players_is_said(told, expected):
    class Wrong(Barter):
        def advance(self, actions):
            return jm.Outcome(**{"observation": {"said": 1, "smith": {"iron": 3.0}}, "turn": 1, **told})

    episode = Wrong().episode()
    with pytest.raises(BrokenEnvironment, match=expected):
        episode.act("salt")


@pytest.mark.slow
def test_methods_that_learn_at_different_times_and_one_policy_for_all(tmp_path):
    mixed = {
        "first": jm.PPO(horizon=16, network=jm.Dense(8)),
        "second": jm.DQN(replay_start=50, replay_size=500, minibatch=8, network=jm.Dense(8)),
    }
    alone = jm.train(Table(), mixed, steps=1_000, copies=2, folder=None)
    runs = jm.train_seeds(Table(), mixed, steps=1_000, copies=2, folder=tmp_path, seeds=[0, 1])
    assert alone.episodes.equals(jm.train(Table(), mixed, steps=1_000, copies=2, folder=None, lane="plain").episodes)
    np.testing.assert_array_equal(alone.episodes["return"], runs[0].episodes["return"].astype(np.float32))
    assert {"first.policy_loss", "second.mean_value"} <= set(runs[0].readings.columns)
    shared = jm.train(Table(), quick(), steps=2_000, copies=2, lane="plain", folder=None)
    item = shared.policy.player("first")
    assert item.choose({"moved": 0}) == shared.policy.player("second").choose({"moved": 0}) == 1
    arguments = {
        "first": item,
        "second": jm.train(Table(), both(quick()), steps=50, lane="plain", folder=None).policy.player("second"),
    }
    exchanged = {"first": arguments["second"], "second": arguments["first"]}
    first, second = (jm.evaluate(both_of, Table(), episodes=5) for both_of in (arguments, exchanged))
    assert first.players["first.return"] == second.players["second.return"]  # the game is the same from both sides


@pytest.mark.slow
def test_a_fixed_partner_stays_as_it_was_and_is_kept_with_the_run(tmp_path):
    partner = jm.train(Sticks(), both(quick()), steps=1_000, lane="plain", folder=tmp_path, name="partner")
    arguments = {"first": quick(bins=13), "second": jm.Fixed(partner.path)}
    run = jm.train(
        Sticks(), arguments, steps=1_000, copies=2, lane="plain", checkpoint_every=500, folder=tmp_path, name="run"
    )
    before = np.asarray(partner.policy.learner["second"].values)
    np.testing.assert_array_equal(np.asarray(run.policy.learner["second"].values), before)
    shutil.rmtree(partner.path)
    assert redo(run.path, folder=tmp_path).same
    repeated = jm.Run.open(run.path)
    assert repr(repeated.plan.agent) == repr(run.plan.agent)
    jm.resume(repeated, steps=500)
    longer = jm.train(
        Sticks(),
        {**arguments, "second": jm.Fixed(run.path / "partners" / "second.safetensors")},
        steps=1_500,
        copies=2,
        lane="plain",
        folder=None,
    )
    assert len(jm.Run.open(run.path).episodes) == pytest.approx(len(longer.episodes), abs=60)
    policy = jm.Policy.open(jm.Run.open(run.path).policy.save(tmp_path / "saved"))
    assert (
        jm.evaluate(policy, Sticks(), episodes=20).mean
        == jm.evaluate(run.path.name and jm.Run.open(run.path), Sticks(), episodes=20).mean
    )


@pytest.mark.slow
def test_a_game_is_judged_by_a_panel_that_stays_as_it_is_and_is_kept_with_the_run(tmp_path):
    sticks = Sticks(least=10, most=10)
    exact = jm.solve(sticks)
    best = exact.policy
    assert jm.evaluate(best, sticks, episodes=1).players == {
        f"{player}.return": value for player, value in exact.of_players.items()
    }
    against_luck = jm.evaluate({"first": "random", "second": best}, sticks, episodes=200)
    assert against_luck.players["second.return"] > exact.of_players["second"]
    run = jm.train(
        sticks,
        {"first": quick(bins=13), "second": jm.Roster(jm.RandomPlay(), rotate_seats=True)},
        steps=4_000,
        lane="plain",
        panel=["random", best.save(tmp_path / "exact")],
        evaluate_every=2_000,
        evaluate_episodes=5,
        best_by="panel",
        folder=tmp_path,
        name="run",
    )
    (tmp_path / "exact").unlink()
    assert redo(run.path, folder=tmp_path).same
    met = panel_rows(run)
    assert set(met) == {(player, member) for player in ("first", "second") for member in ("random", "exact")}
    judged = {}
    for (player, member), returns in met.items():
        assert returns.count().to_dict() == {2_000: 5, 4_000: 5}
        other = "second" if player == "first" else "first"
        again = jm.evaluate(
            {player: run.policy.player(player), other: {"random": "random", "exact": best.player(other)}[member]},
            sticks,
            episodes=5,
            seed=EVALUATION_SEED,
            act="sampled" if member == "random" else "greedy",
        )
        if member == "exact":
            assert returns.get_group(4_000).to_list() == again.returns_of(player).tolist()
            assert returns.mean()[4_000] <= exact.of_players[player]
        for learned, mean in returns.mean().items():
            judged[learned] = judged.get(learned, 0.0) + mean / 4
    assert run.checkpoint("best").decisions == max(judged, key=judged.get)
    labels = [text.get_text() for axes in jm.plot(run).figure.axes for text in getattr(axes.get_legend(), "texts", [])]
    assert labels.count("against exact") == labels.count("against random") == 2
    rows = {row["policy"]: row["mean"] for row in charts.evaluations(run) if row["after"] == 4_000}
    assert rows["first against exact"] == pytest.approx(met["first", "exact"].mean()[4_000])
    lines = charts.sections(run)["panel"]["series"]
    assert [line["name"] for line in lines] == [pairing_name(*pairing) for pairing in met]
    assert len({line["color"] for line in lines}) == 4
    for environment, settings, expected in (
        (jm.gallery.Tarn(), {"panel": ["random"], "evaluate_every": 10}, "has no players"),
        (sticks, {"panel": ["random"]}, "met at evaluations"),
        (sticks, {"best_by": "panel", "evaluate_every": 10}, "there is none"),
        (sticks, {"panel": ["random", "random"], "evaluate_every": 10}, "two members called 'random'"),
        (sticks, {"panel": 5, "evaluate_every": 10}, "is runs, paths or"),
        (sticks, {"panel": [str(tmp_path / "gone")], "evaluate_every": 10}, "there is no run and no policy"),
        (Table(), {"panel": [run], "evaluate_every": 10}, "the player shows"),
    ):
        with pytest.raises(JokulmistError, match=expected):
            jm.train(environment, quick(), steps=6, lane="plain", folder=None, **settings)


@pytest.mark.slow
def test_a_roster_draws_a_partner_for_each_episode_and_remembers_what_the_learner_was(tmp_path):
    partner = jm.train(Sticks(), both(quick()), steps=1_000, lane="plain", folder=tmp_path, name="partner")
    agents = {
        "first": quick(),
        "second": jm.Roster(partner.path, jm.RandomPlay(), weights=[3, 1, 0], past=2, past_every=600),
    }
    runs = [
        jm.train(Sticks(), agents, steps=2_800, copies=4, lane=lane, folder=tmp_path, name=lane)
        for lane in ("plain", "compiled")
    ]
    left_side, second = (run.episodes for run in runs)
    assert left_side.equals(second)
    samples = left_side["second.partner"].value_counts(normalize=True)
    assert set(samples.index) == {0, 1}  # the earlier states have no share here
    assert samples[0] == pytest.approx(0.75, abs=0.06)
    assert redo(runs[1].path, folder=tmp_path).same
    stored = runs[1].policy.learner
    np.testing.assert_array_equal(
        stored["second"]["members"][0].values, np.asarray(partner.policy.learner["second"].values)
    )
    assert int(stored["second"]["filled"]) == 2
    itself = jm.train(
        Sticks(),
        {"first": quick(), "second": jm.Roster(past=3, past_every=500)},
        steps=2_000,
        copies=4,
        lane="compiled",
        folder=None,
    )
    first = itself.episodes["second.partner"].to_numpy()
    assert (first[:20] == 0).all()  # before the second state was kept
    assert set(first) == {0, 1, 2}
    with pytest.raises(SettingError, match="there must be one"):
        jm.train(
            Sticks(),
            {"first": quick(), "second": jm.Roster(past=2)} | {"first": jm.Fixed(partner.path)},
            steps=100,
            folder=None,
        )
    with pytest.raises(SettingError, match="takes policies that do not learn"):
        jm.Roster(quick())
    with pytest.raises(SettingError, match="are one a policy and one for `past`, 2 here"):
        jm.train(
            Sticks(),
            {"first": quick(), "second": jm.Roster(jm.RandomPlay(), past=2, weights=[1.0])},
            steps=100,
            lane="plain",
            folder=None,
        )


@pytest.mark.slow
def test_where_seats_rotate_one_policy_learns_from_its_own_decisions_in_every_seat(tmp_path):
    # All decide at once: against a partner who draws evenly, the mean of each row of the table is known.
    learner = quick(learning_rate=jm.linear(0.3, 0.001, over=1.0), discount=1.0, exploration=0.5)
    everyone = jm.Roster(jm.RandomPlay(), rotate_seats=True)
    agents = {"first": learner, "second": everyone}
    for lane in ("plain", "compiled"):
        table = jm.train(Table(), agents, steps=6_000, copies=4, lane=lane, folder=None)
        assert list(table.policy.learner) == ["first+second"]
        values = np.asarray(table.policy.learner["first+second"].values).ravel()[:2]
        np.testing.assert_allclose(values, [1.5, 3.0], atol=0.15)
    # In turns: a table finds every winning move of both players, from random play and from its own past.
    partners = jm.Roster(jm.RandomPlay(), past=2, past_every=1_000, rotate_seats=True)
    agents = {"first": quick(), "second": partners}
    runs = [
        jm.train(Sticks(), agents, steps=4_000, copies=2, lane=lane, folder=tmp_path, name=lane)
        for lane in ("plain", "compiled")
    ]
    assert runs[0].episodes.equals(runs[1].episodes)
    assert redo(runs[1].path, folder=tmp_path).same
    seats = runs[0].episodes.groupby("copy")["second.seat"]
    assert all(np.array_equal(rows.to_numpy(), (np.arange(len(rows)) + k + 1) % 2) for k, rows in seats)
    run = jm.train(Sticks(), agents, steps=40_000, copies=2, lane="compiled", folder=None)
    for player in ("first", "second"):
        policy = run.policy.player(player)
        for left in (1, 2, 3, 5, 6, 7, 9, 10, 11):
            allowed = policy.spec.action.labels[:left]
            assert policy.choose({"left": left}, legal=allowed) == left % 4 - 1
    saved = jm.Policy.open(runs[1].policy.save(tmp_path / "saved"))
    assert repr(saved) == repr(runs[1].policy)
    with pytest.raises(SettingError, match="beside one agent that learns"):
        jm.train(Sticks(), {"first": jm.RandomPlay(), "second": everyone}, steps=100, folder=None)


@pytest.mark.slow
def test_a_roster_draws_the_harder_partners_more_often(tmp_path):
    partner = jm.train(Sticks(), both(quick()), steps=6_000, lane="compiled", folder=tmp_path, name="partner")
    agents = {
        "first": quick(),
        "second": jm.Roster(jm.RandomPlay(), partner.path, by="losses", past=2, past_every=1_500),
    }
    plain, compiled = (
        jm.train(Sticks(), agents, steps=1_600, copies=4, lane=lane, folder=tmp_path, name=lane)
        for lane in ("plain", "compiled")
    )
    assert plain.episodes.equals(compiled.episodes)
    run = jm.train(Sticks(), agents, steps=6_000, copies=4, lane="compiled", folder=tmp_path, name="long")
    assert redo(run.path, folder=tmp_path).same
    assert 'by = "losses"' in (run.path / "plan.toml").read_text()
    log = run.episodes
    late = log[len(log) // 3 :]
    got = late.groupby("second.partner")["first.return"].mean()
    often = late["second.partner"].value_counts()
    assert got[1] < got[0] - 0.2
    assert often[1] > 1.5 * often[0]
    partners = run.policy.learner["second"]["known"]
    expected, count = np.zeros(4), np.zeros(4)
    for player, gain in zip(log["second.partner"], log["first.return"], strict=True):
        count[player] = min(count[player] + 1, 50)
        expected[player] += (gain - expected[player]) / count[player]
    np.testing.assert_allclose(partners["returns"][:2], expected[:2], atol=0.03)
    for wrong, expected in (
        ({"by": "weights"}, "takes `weights`, and none"),
        ({"by": "evenly", "weights": [1.0]}, "takes no `weights`"),
    ):
        with pytest.raises(SettingError, match=expected):
            jm.train(
                Sticks(), {"first": quick(), "second": jm.Roster(jm.RandomPlay(), **wrong)}, steps=100, folder=None
            )


@pytest.mark.slow
def test_where_one_gets_what_the_other_loses_the_matrix_is_the_first_players(tmp_path):
    policies = [
        jm.train(Sticks(), both(quick()), steps=steps, lane="compiled", folder=None).policy
        for steps in (200, 6_000, 9_000)
    ]
    result = jm.cross_play(policies, Sticks(), episodes=40, act="greedy")
    assert result.subject == "first"
    np.testing.assert_array_equal(result.means, result.returns["first"])
    np.testing.assert_allclose(result.wins, 20 + 20 * result.means, atol=1e-5)  # a return of 1 or -1: nobody draws
    assert (result.lows <= result.means).all()
    assert "nobody has a partner" in result.verdict
    ratings = result.ratings()
    assert ratings.ratings[0] == ratings.ratings.min() < ratings.ratings.max()
    assert ratings.advantage[0] > 0.3  # who begins wins from all numbers but multiples of four
    result.save(tmp_path / cross_play.FILE)
    ratings.save(tmp_path / "cross-play-ratings.png")
    told = views.played_together(tmp_path, list(result.names))
    assert [row["run"] for row in told["ratings"]] == ratings.table["run"].tolist()
    assert [row["rating"] for row in told["ratings"]] == pytest.approx(ratings.table["rating"].tolist(), rel=1e-5)
    assert told["cells"][0][1]["mean"] == pytest.approx(result.means[0, 1])
    assert views.played_together(tmp_path, ["nobody"]) is None
    with pytest.raises(SettingError, match="so nobody won"):
        jm.cross_play(policies[:2], Twins(), episodes=3).ratings()


@pytest.mark.slow
def test_where_players_get_different_returns_each_has_a_panel_and_nothing_is_said_of_their_mean(tmp_path, capsys):
    run = jm.train(Sticks(), both(quick()), steps=6_000, copies=4, lane="plain", folder=tmp_path, name="sticks")
    assert "random play" not in capsys.readouterr().err
    panels = jm.plot(run).figure.axes
    assert [panel.get_ylabel() for panel in panels] == [
        "return, mean of players",
        "first gets",
        "second gets",
        "closed by",
    ]
    displayed, window = panels[1].lines[0].get_ydata(), window_of(len(run.episodes))
    assert displayed[-1] == pytest.approx(run.episodes["first.return"].tail(window).mean())
    assert len(jm.plot([run, run]).figure.axes) == 3
    episode = Twins().episode(seed=2)  # what a base class allows counts in those below it
    while episode.state.left > 2:
        episode.act("one")
    assert episode.legal[episode.deciding[0]] == ["one", "two"]
    alike = jm.train(Twins(), both(quick()), steps=400, lane="plain", folder=None)
    assert jm.plot(alike).get_ylabel() == "return of an episode (sum of weighted reward terms)"
    assert jokulmist("report", run.path, folder=tmp_path).returncode == 0
    page = (run.path / "report.html").read_text()
    assert "Who won" in page
    charts = json.loads(page.split("const CHARTS = ")[1].split(";\n")[0])["runs"][0]
    players = [(line["name"], line["color"]) for line in charts["players"]["series"]]
    assert players == [(f"first, mean of {window}", 0), (f"second, mean of {window}", 1)]
    assert [layer["name"] for layer in charts["wins"]["series"]] == ["first", "second", "draw"]
    shares = np.array([layer["y"] for layer in charts["wins"]["series"]])
    np.testing.assert_allclose(shares.sum(axis=0), 1.0, atol=2e-3)
    first, second = (run.episodes[f"{player}.return"] for player in ("first", "second"))
    assert shares[0].mean() == pytest.approx((first > second).mean(), abs=0.05)


@pytest.mark.slow
def test_players_go_on_beside_other_partners_as_a_new_run(tmp_path):
    pair = jm.train(Sticks(), both(quick()), steps=3_000, lane="compiled", folder=tmp_path, name="pair")
    other_run = jm.train(Sticks(), both(quick()), steps=3_000, seed=5, lane="compiled", folder=tmp_path, name="other")
    learned = np.asarray(pair.policy.learner["first"].values)
    for lane in ("plain", "compiled"):
        still = jm.train(
            Sticks(),
            {"first": quick(learning_rate=1e-9), "second": jm.Roster(other_run.path, past=2)},
            steps=40,
            start=pair,
            lane=lane,
            folder=tmp_path,
        )
        np.testing.assert_allclose(still.policy.learner["first"].values, learned, atol=1e-6)
        np.testing.assert_allclose(still.policy.learner["second"]["past"].values[0], learned, atol=1e-6)
        assert still.origin["parent"] == {"run": "pair", "decisions": 3_000}
    result = jm.adapt(pair, {"second": jm.Fixed(other_run.path)}, steps=3_000, evaluate_episodes=40)
    assert result.after.players["first.return"] >= result.before.players["first.return"]
    direct = jm.evaluate({"first": pair, "second": other_run}, Sticks(), episodes=40)
    assert result.before.mean == direct.mean
    assert result.before.players == direct.players
    output = json.loads(
        jokulmist(
            "resume",
            pair.path,
            "--with",
            f"second={other_run.path}",
            "--with",
            "second=random",
            "--steps",
            200,
            "--json",
            folder=tmp_path,
        ).stdout
    )
    roster = jm.Run.open(output["run"])
    assert (type(roster.plan.agent.agents["second"]), output["parent"]["run"]) == (jm.Roster, "pair")
    shutil.rmtree(pair.path)
    shutil.rmtree(other_run.path)
    assert redo(result.run.path, folder=tmp_path).same
    assert jm.resume(result.run, steps=100).status == "done"


@pytest.mark.slow
def test_what_cannot_be_begun_with_is_told(tmp_path):
    small, wide = ({"hidden": (size,)} for size in (8, 9))
    pair = jm.train(
        Table(), both(jm.PPO(horizon=16, network=jm.Dense(**small))), steps=200, folder=tmp_path, name="pair"
    )
    with pytest.raises(SettingError, match="has not learned what `first` is to begin with"):
        jm.train(Table(), both(jm.PPO(horizon=16, network=jm.Dense(**wide))), steps=200, start=pair, folder=tmp_path)
    with pytest.raises(SettingError, match=r"what pair learned observes \['moved'\], and `Lots` shows"):
        jm.train(
            jm.gallery.Lots(), {"elder": quick(), "younger": jm.RandomPlay()}, steps=200, start=pair, folder=tmp_path
        )
    with pytest.raises(SettingError, match="nobody who learned in pair learns on"):
        jm.adapt(pair, both(jm.RandomPlay()), steps=200)
    shared = jm.train(Table(), quick(), steps=200, lane="plain", folder=tmp_path, name="shared")
    with pytest.raises(SettingError, match="one agent plays `first`, `second`, so it cannot leave one"):
        jm.adapt(shared, {"second": jm.RandomPlay()}, steps=200)
    for words, expected in (
        (("--steps", 10, "--name", "more"), "`--name` names the new run of `--with`"),
        (("--with", "second=random"), "say how long by `--steps`"),
        (("--with", "third=random", "--steps", 10), "the players are `first`, `second`"),
    ):
        wrong = jokulmist("resume", pair.path, *words, folder=tmp_path)
        assert (wrong.returncode, expected in wrong.stderr) == (2, True), wrong.stderr
    assert sorted(path.name for path in tmp_path.iterdir()) == ["pair", "shared"]
    repeated = jm.train(
        Table(),
        both(jm.PPO(horizon=16, network=jm.Dense(**small), learning_rate=1e-12)),
        steps=100,
        start=pair.path,
        folder=None,
    )
    for name, array in flattened(pair.policy.learner).items():
        if array.ndim == 2:  # weights, and not what is counted on
            np.testing.assert_allclose(flattened(repeated.policy.learner)[name], array, atol=1e-3)


@pytest.mark.slow
def test_rewards_are_modified_for_all_players_or_one(tmp_path):
    stage = Dive().modified(
        jm.modifiers.Scaled(2.0),
        jm.modifiers.ForPlayer("1", jm.modifiers.Scaled(-3.0)),
        jm.modifiers.ForPlayer("1", jm.modifiers.Clipped(-5.0, 5.0)),
    )
    runs = [
        jm.train(stage, {0: Recorder(), 1: Recorder()}, steps=300, copies=2, lane=lane, folder=tmp_path, name=lane)
        for lane in ("plain", "compiled")
    ]
    assert runs[0].episodes.equals(runs[1].episodes)
    for run in runs:
        for player, paid in (("0", 2.0), ("1", -5.0)):
            log = run.policy.learner[player]
            assert set(log["reward"][: int(log["count"])].ravel()) == {paid}
        wanted = 0.5 * (2.0 * run.episodes["0.return"] - 5.0 * run.episodes["1.return"])
        stayed = (
            run.episodes["0.return"] == run.episodes["1.return"]
        )  # both to the end: after who is out, 0 is clipped to 0
        np.testing.assert_allclose(run.episodes["learned_return"][stayed], wanted[stayed], rtol=1e-5)
    assert redo(runs[1].path, folder=tmp_path).same
    with pytest.raises(SettingError, match=r"is for the player 'east', and the players are `north`, `south`"):
        jm.gallery.Haul().modified(jm.modifiers.ForPlayer("east", jm.modifiers.Signed()))
    with pytest.raises(SettingError, match="the environment has no players"):
        jm.gallery.Ferry().modified(jm.modifiers.ForPlayer("north", jm.modifiers.Signed()))
    with pytest.raises(SettingError, match="must be a modifier of the reward"):
        jm.modifiers.ForPlayer("north", jm.modifiers.Stack(2))


@pytest.mark.slow
def test_a_search_goes_over_settings_of_one_player(tmp_path):
    space = {"agents.first.learning_rate": jm.among(0.1, 0.5)}
    more = {"steps": 300, "again": 0, "workers": 1, "lane": "plain", "folder": tmp_path}
    result = jm.tune(Sticks(), both(quick()), over=space, method="grid", **more)
    rates = [candidate.settings["agents.first.learning_rate"] for candidate in result.board.candidates]
    assert rates == [0.1, 0.5]
    run = jm.Run.open(result.path / result.board.candidates[1].runs["0"])
    assert (run.plan.agent.agents["first"].learning_rate, run.plan.agent.agents["second"].learning_rate) == (0.5, 0.2)
    for wrong, expected in (
        ("agent.learning_rate", "name one, e.g. `agents.first.learning_rate`"),
        ("agents.third.bins", "there is no agent of `third`"),
        ("agents.first.binz", "Did you mean `bins`"),
    ):
        with pytest.raises(SettingError, match=expected):
            jm.tune(Sticks(), both(quick()), over={wrong: jm.among(2, 3)}, **more)


@pytest.mark.slow
def test_own_partners_are_compared_with_exchanged_ones(tmp_path):
    assert chance_of_pairing(np.eye(4)) == pytest.approx(1 / 24)
    assert chance_of_pairing(np.ones((5, 5))) == 1.0
    assert np.isnan(chance_of_pairing(np.eye(3)))
    (tmp_path / "plan.toml").write_text(
        '[environment]\nuse = "lots"\n[agents.elder]\nuse = "QLearning"\n[agents.younger]\nuse = '
        '"QLearning"\n[training]\nsteps = 400\nlane = "plain"\nseeds = [0, 1]\n'
    )
    assert (
        jokulmist(
            "train", "plan.toml", "--set", "agents.younger.learning_rate=0.2", "--workers", 1, folder=tmp_path
        ).returncode
        == 0
    )
    listed = json.loads(jokulmist("runs", "--json", folder=tmp_path).stdout)
    assert [row["agent"] for row in listed] == ["QLearning + QLearning"] * 2
    names = [f"runs/{row['run']}" for row in listed]
    output = json.loads(jokulmist("evaluate", *names, "--episodes", 4, "--json", folder=tmp_path).stdout)
    assert output["verdict"] == "2 runs are too few to tell; 4 are the least"
    assert len(output["pairings"]) == 4
    direct = jm.evaluate(jm.Run.open(tmp_path / names[0]), jm.gallery.Lots(), episodes=4, act="sampled")
    assert output["pairings"][0]["mean_return"] == pytest.approx(direct.mean)
    assert output["pairings"][0]["elder.return"] == pytest.approx(direct.players["elder.return"])
    assert (tmp_path / "runs" / "cross-play.png").read_bytes().startswith(b"\x89PNG")
    rated = jokulmist("evaluate", *names, "--episodes", 4, "--rate", folder=tmp_path)
    assert "elder has an advantage of" in rated.stdout
    assert (tmp_path / "runs" / "cross-play-ratings.png").exists()
    plain = jokulmist("evaluate", names[0], "--episodes", 3, folder=tmp_path)
    assert "elder.return" in plain.stdout
    for words, expected in (
        ((names[0], "--rate"), "give two or more"),
        ((*names, "--record", 1), "play with each other"),
    ):
        wrong = jokulmist("evaluate", *words, folder=tmp_path)
        assert (wrong.returncode, expected in wrong.stderr) == (2, True), wrong.stderr


@pytest.mark.parametrize(
    ("agents", "expected"),
    [
        ({"elder": {"use": "QLearning"}, "younger": {"policy": "x"}}, r"`\[agents.younger\]` does not say what to use"),
        (
            {"elder": {"use": "QLearning"}, "younger": {"use": "Fixed", "policy": "nowhere"}},
            "there is no run and no policy nowhere",
        ),
        (
            {"elder": {"use": "QLearning"}, "younger": {"use": "Fixed", "policy": "x", "inner": "0.5"}},
            "is the agent that learned",
        ),
        ({"elder": {"use": "QLearning"}, "younger": {"use": "Roster", "policies": 3}}, "must be a list of policies"),
        ({"elder": {"use": "QLearning"}, "younger": {"use": "Roster"}}, "a roster needs a policy"),
        ({"elder": {"use": "QLearning"}, "younger": {"use": "Roster", "policies": [{}]}}, "does not say what to use"),
        (3, "keep one of them"),
    ],
)
def test_wrong_players_in_a_plan_are_told(agents, expected):
    from jokulmist.plans.plan import plan_of
    from jokulmist.running.train import train_plan

    content = {"environment": {"use": "lots"}, "training": {"steps": 6, "lane": "plain"}, "agents": agents}
    with pytest.raises(JokulmistError, match=expected):
        train_plan(plan_of(content), folder=None)
    with pytest.raises(SettingError, match="plays one of several players"):
        jm.train(jm.gallery.Ferry(), jm.Fixed("runs/one"), steps=6, folder=None)


class Way(jm.Environment):
    """Two walk a way of four cells in turn; each step costs whoever takes it."""

    players = ("first", "second")

    class State(jm.State):
        moves: int
        cell: int = jm.seen(low=0, high=4)

    action = jm.Choice("on", "wave")

    def begin(self, draw):
        return self.State(moves=0, cell=0)

    def turn(self, state):
        return state.moves % 2

    def advance(self, state, actions, draw):
        return state.replace(moves=state.moves + 1, cell=(state.moves + 1) // 2)

    @jm.reward
    def step(self, before, player):
        return self.xp.where(before.moves % 2 == player, -1.0, 0.0)

    @jm.ending
    def over(self, after):
        return after.moves >= 8


@pytest.mark.parametrize("player", ["first", "second"])
def test_traces_begin_with_the_players_own_first_decision(player):
    agents = {"first": jm.RandomPlay(), "second": jm.RandomPlay()}
    agents[player] = jm.Sarsa(trace_decay=0.9, discount=1.0, learning_rate=jm.linear(0.5, 0.0, over=1.0))
    run = jm.train(Way(), agents, steps=6_000, copies=1, seed=2, folder=None, lane="compiled")
    # At each cell as many steps are still to be paid for as cells are ahead; the second walks from the same cells.
    assert run.policy.player(player).table.to_numpy()[:4].mean(axis=1) == pytest.approx(
        [-4.0, -3.0, -2.0, -1.0], abs=0.05
    )


def test_memories_of_rewards_pass_through_where_only_observations_are_modified():
    compiled = CompiledEnvironment(jm.gallery.Haul().modified(jm.modifiers.Stack(3)))
    memories = compiled.description.reward_pipeline.start(np)
    assert compiled.valued(memories, jnp.ones((4, 2)), None, None, None)[0] == memories


class Watch(Way):
    """The same way, shown as an image."""

    @jm.sensor(shape=(3, 3, 1), image=True)
    def view(self, state):
        xp = self.xp
        return xp.asarray(xp.full((3, 3, 1), 1) * state.moves, dtype=xp.uint8)


def test_replay_gives_back_the_stack_that_a_waiting_player_decided_on():
    """Of moments between its own decisions a player keeps no frame: the stack that it saw cannot be put together from
    its own."""
    spec = view_of(describe(Watch().modified(jm.modifiers.Stack(3, "view"))).spec, "second").spec
    replay = replay_memory.fresh_replay(spec, 1, 16)

    def seen(moves, age):
        stack = np.stack([np.full((3, 3), max(m, 0)) for m in range(moves - 2, moves + 1)], axis=-1)
        return ObservationBatch(
            jnp.full((1, 1, 1), moves // 2 * 1.0),
            {"view": jnp.asarray(stack[None, None], jnp.uint8)},
            (),
            jnp.full((1, 1), age),
        )

    flags = jnp.zeros((1, 1), bool)
    for age, moves in enumerate((1, 3, 5)):  # the second player's decisions
        after = seen(moves + 2, age + 1)
        turn = Experience(
            seen(moves, age), jnp.zeros((1, 1), jnp.int32), jnp.zeros((1, 1)), flags, flags, after, after, ()
        )
        replay = replay_memory.add_to_replay(spec, replay, turn, jnp.zeros((1, 1, 1)))
    sample = replay_memory.transitions(spec, replay, jnp.arange(3), jnp.ones(3), 1, 0.9)
    assert sample.observed.images["view"][:, 0, 0].tolist() == [[0, 0, 1], [1, 2, 3], [3, 4, 5]]
    assert sample.following.images["view"][:, 0, 0].tolist() == [[1, 2, 3], [3, 4, 5], [5, 6, 7]]


def test_a_game_is_told_by_player_and_its_best_policy_is_not_judged_by_what_never_changes(tmp_path):
    """What one gets the other loses: the mean over players is 0 for every policy, also for one that has learned
    nothing."""
    output = jm.evaluate("random", Sticks(), episodes=60)
    assert (output.mean, output.telling) == (0.0, "first")
    first = output.columns["first.return"]
    assert output.told_of("first")[0] == pytest.approx(float(np.mean(first)))
    assert output.outcomes == {"win": np.mean(first > 0), "draw": 0.0, "loss": np.mean(first < 0)}
    assert f"mean return of first {np.mean(first):.4g}" in repr(output)
    learning = jm.QLearning(exploration=0.5)
    run = jm.train(Sticks(), learning, steps=900, copies=1, folder=tmp_path, lane="plain")
    with pytest.raises(RecordError, match=r'`best_by="first.return"`'):
        _ = run.best
    assert "no best policy is kept" in (run.path / "log.txt").read_text()
    row = row_of(run.path, run.origin)
    assert row["return_of"] == "first"
    assert row["return_last_100"] == pytest.approx(run.mean_return(), abs=1e-6)
    assert run.mean_return() == pytest.approx(run.episodes["first.return"].tail(100).mean())
    for agents, why in (
        ({"first": learning, "second": learning}, "`second` learns, too"),
        (learning, "`first\\+second` is played by one agent"),
    ):
        with pytest.raises(SettingError, match=why):
            jm.train(Sticks(), agents, steps=100, folder=None, best_by="first.return")
    agents = {"first": learning, "second": jm.RandomPlay()}
    best = jm.train(Sticks(), agents, steps=900, copies=1, folder=tmp_path, lane="plain", best_by="first.return").best
    assert 0 < best.decisions <= 900


@pytest.mark.slow
def test_check_tells_random_play_by_player():
    assert "random play          return of first" in str(jm.check(Sticks(), steps=60, speed=False))


def test_terms_of_players_are_what_they_bring_and_episodes_without_chance_are_told():
    output = jm.evaluate("random", jm.gallery.Haul(), episodes=5)
    weights = {
        term.name: weight
        for term, weight in zip(describe(jm.gallery.Haul()).terms, describe(jm.gallery.Haul()).own_weights, strict=True)
    }
    assert output.terms == pytest.approx(
        {name: weight * float(np.mean(output.columns[name])) for name, weight in weights.items()}
    )
    north = sum(value for name, value in output.terms.items() if not name.startswith("south."))
    assert north == pytest.approx(output.players["north.return"], rel=1e-5)
    pennies = fresh_policy(jm.QLearning(initial_value=0.0), Table(game="pennies"))
    pennies.learner["first+second"].values[:] = [[1.0, 0.0], [1.0, 0.0]]
    same = jm.evaluate(pennies, Table(game="pennies"), episodes=20)
    assert same.all_the_same
    assert "20 episodes, all the same" in repr(same)
    assert not jm.evaluate("random", Table(game="pennies"), episodes=20).all_the_same


def test_pairs_that_play_together_are_named_and_too_few_runs_are_told():
    """Two ways of playing, two pairs each: exchanging partners within a way changes nothing, so no p of four runs is
    below 0.17."""
    means = np.where(np.kron(np.eye(2), np.ones((2, 2))) > 0, 12.0, -2.0)
    names = ("a", "b", "c", "d")
    result = CrossPlay(
        "well",
        names,
        ("up", "down"),
        means,
        means - 0.4,
        means + 0.4,
        "all players",
        {},
        0.0 * means,
        10,
        1,
        chance_of_pairing(means),
    )
    assert result.groups == (("a", "b"), ("c", "d"))
    assert result.p == pytest.approx(result.least_p) == pytest.approx(4 / 24)
    assert "4 runs in 2 groups that play together are too few" in result.verdict
    flat = replace(result, means=np.full((4, 4), 3.0) + 0.1 * np.eye(4), lows=means - 1, highs=means + 1)
    assert flat.groups == (names,)


def test_a_team_that_has_earned_nothing_yet_is_not_told_that_what_one_gets_the_other_loses(tmp_path):
    team = Team(weights={"paid": 0.0})
    run = jm.train(team, jm.QLearning(), steps=2_000, copies=1, folder=tmp_path, lane="plain")
    assert len(run.episodes) > 100
    assert run.episodes["return"].eq(0.0).all()
    assert "no best policy is kept" not in (run.path / "log.txt").read_text()
    assert run.best.decisions > 0
