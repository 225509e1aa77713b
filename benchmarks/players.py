"""Several players: whether partners fit, what a roster is good for, and what players cost.

python benchmarks/players.py fit    # haul: five pairs, cross-play, a roster of them with a sixth partner
python benchmarks/players.py speed  # decisions a second: two that learn against one, a roster of 8 against one
python benchmarks/players.py exact  # games whose solution is known: a dominant choice, matching pennies, a team, turns
python benchmarks/players.py lots   # whether both players of `lots` learn, beside random play and the reference
"""

import argparse
import json
import statistics
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

import jokulmist as jm

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from games import Sticks, Table, Team

PAIRS, STEPS = 9, 400_000


class Alone(jm.Environment):
    """The physics of `haul` with one who decides for both boats by one helm: as much work a step, one agent."""

    deadline = 32
    opening: float = jm.parameter(8.0)

    class State(jm.State):
        way: int = jm.seen(low=0, high=32)
        boats: float = jm.field(shape=(2,))

    action = jm.Choice("to_port", "ahead", "to_starboard")
    helm = jm.series([1.0, 0.0, -1.0])

    def begin(self, draw):
        return self.State(way=0, boats=self.xp.asarray([4.0, -4.0]) + draw.normal(0.0, 0.3, shape=(2,)))

    def advance(self, state, action, draw):
        xp = self.xp
        helms = xp.stack([xp.asarray(self.helm[action]), xp.asarray(self.helm[2 - action])])
        boats = state.boats + helms + draw.normal(0.0, 1.0, shape=(2,)) * 0.15
        return state.replace(way=state.way + 1, boats=xp.clip(boats, -15.0, 15.0))

    @jm.sensor(low=-15.0, high=15.0)
    def abeam(self, state):
        return state.boats[0]

    @jm.reward
    def catch(self, after):
        return self.xp.exp(-(((abs(after.boats[0] - after.boats[1]) - self.opening) / 4.0) ** 2))

    @jm.reward(weight=-0.02)
    def fuel(self, action):
        return self.helm[action] ** 2

    @jm.ending
    def torn(self, after):
        return (after.way == 16) & (after.boats[0] * after.boats[1] < 0.0)

    @jm.ending
    def struck(self, after):
        return (after.way == 16) & (self.xp.minimum(abs(after.boats[0]), abs(after.boats[1])) < 1.5)


def exact(folder, share):
    """Independent learners against what is known, five seeds each."""
    both = lambda agent: {"first": agent, "second": agent}  # noqa: E731
    rate = {"learning_rate": jm.linear(0.5, 0.02, over=0.8), "discount": 1.0}
    result = {}
    for name, agent in {
        "QLearning": jm.QLearning(exploration=0.3, **rate),
        "PPO": jm.PPO(horizon=32, network=jm.Dense(16)),
    }.items():
        steps = int(share * (20_000 if name == "QLearning" else 100_000))
        prisoners = jm.train_seeds(Table(), both(agent), steps=steps, seeds=range(5), folder=None)
        chosen = [run.policy.choose({"moved": 0}) for run in prisoners]
        pennies = jm.train_seeds(Table(game="pennies"), both(agent), steps=steps, seeds=range(5), folder=None)
        result[name] = {
            "prisoners, both defect": sum((c.first, c.second) == (1, 1) for c in chosen),
            "pennies, mean return of first": [round(float(run.episodes["first.return"].mean()), 3) for run in pennies],
        }
    team = jm.train_seeds(
        Team(),
        both(jm.QLearning(exploration=jm.linear(1.0, 0.05, over=0.5), **rate)),
        steps=int(30_000 * share),
        seeds=range(5),
        folder=None,
    )
    result["team game, of 8"] = [float(jm.evaluate(run, Team(), episodes=3).mean) for run in team]
    wins = {0: -1}
    for left in range(1, 21):
        wins[left] = max(-wins[left - take] for take in (1, 2, 3) if take <= left)
    right = {}
    sticks = jm.train_seeds(
        Sticks(least=1, most=20),
        both(jm.QLearning(exploration=0.3, bins=21, **rate)),
        steps=int(400_000 * share),
        copies=8,
        seeds=range(5),
        folder=None,
    )
    for player in ("first", "second"):
        right[player] = []
        for run in sticks:
            values = np.asarray(run.policy.learner[player].values).reshape(21, 3)
            best = {left: 1 + int(np.argmax(values[left, : min(left, 3)])) for left in range(1, 20) if wins[left] == 1}
            right[player].append(f"{sum(wins[left - take] == -1 for left, take in best.items())} of {len(best)}")
    result["sticks, winning moves found"] = right
    return result


def lots(folder, share):
    """Both players of `lots` learn: means of 500 episodes a seed, beside random play and the reference."""
    game, steps = jm.gallery.Lots(), int(200_000 * share)
    references = jm.evaluate_references(game, episodes=500)
    result = {name: {"mean": e.mean, **e.players} for name, e in references.items()}
    for name, agents in {
        "QLearning": {"elder": jm.QLearning(), "younger": jm.QLearning()},
        "PPO": {"elder": jm.PPO(), "younger": jm.PPO()},
    }.items():
        runs = jm.train_seeds(game, agents, steps=steps, seeds=range(5), folder=None)
        measured = [jm.evaluate(run, game, episodes=500) for run in runs]
        result[name] = {k: [round(e.players[k], 2) for e in measured] for k in measured[0].players}
    return result


def fit(folder, share):
    """Cross-play of five pairs; `north` trained with a roster of their partners, or with one of them, beside a sixth
    partner."""
    haul, steps = jm.gallery.Haul(), int(STEPS * share)
    runs = jm.train_seeds(haul, {"north": jm.PPO(), "south": jm.PPO()}, steps=steps, seeds=range(PAIRS), folder=folder)
    five = list(runs)[:5]
    # A partner who can do it with its own: others say nothing of fitting.
    sixth = next(run for run in list(runs)[5:] if run.mean_return() > 25.0)
    crossed = jm.cross_play(five, haul, episodes=50)
    partner = {"south": sixth.policy.player("south")}

    def with_sixth(south, seed):
        run = jm.train(haul, {"north": jm.PPO(), "south": south}, steps=steps, seed=seed, folder=None)
        return jm.evaluate({"north": run.policy.player("north"), **partner}, haul, episodes=50).mean

    paths = [run.path for run in five]
    roster = [with_sixth(jm.Roster(*paths), seed) for seed in range(3)]
    single = [with_sixth(jm.Fixed(path), seed) for seed, path in enumerate(paths)]
    return {
        "own": crossed.own_mean,
        "exchanged": crossed.swapped,
        "p": crossed.p,
        "means": np.round(crossed.means, 1).tolist(),
        "sides": [float(run.episodes["to_port"].tail(100).mean().round(1)) for run in runs],
        "roster_with_sixth": roster,
        "single_with_sixth": single,
    }


def speed(folder, share, rounds=5):
    """Decisions a second without compiling, in turn; medians with least and most."""
    haul, steps = jm.gallery.Haul(), int(400_000 * share)
    item = jm.train(haul, {"north": jm.PPO(), "south": jm.PPO()}, steps=8_192, copies=64, folder=folder)
    cases = {
        "one PPO": (Alone(), jm.PPO()),
        "two PPO": (haul, {"north": jm.PPO(), "south": jm.PPO()}),
        "one policy for both": (haul, jm.PPO()),
        "PPO, fixed partner": (haul, {"north": jm.PPO(), "south": jm.Fixed(item.path)}),
        "PPO, roster of 8": (haul, {"north": jm.PPO(), "south": jm.Roster(*[item.path] * 8)}),
    }
    chosen = {name: [] for name in cases}
    for k in range(rounds + 1):
        for name, (environment, agents) in cases.items():
            began = time.perf_counter()
            jm.train(environment, agents, steps=steps, copies=64, folder=None, lane="compiled")
            if k:
                chosen[name].append(steps / (time.perf_counter() - began))
    return {name: {"median": statistics.median(t), "least": min(t), "most": max(t)} for name, t in chosen.items()}


if __name__ == "__main__":
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("what", choices=["fit", "speed", "exact", "lots"])
    words.add_argument("--share", type=float, default=1.0)
    given = words.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        print(
            json.dumps(
                {"fit": fit, "speed": speed, "exact": exact, "lots": lots}[given.what](folder, given.share), indent=2
            )
        )
