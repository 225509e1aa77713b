"""Where two features meet: a covering array of pairs of features as small runs, each of which is refused with a reason,
or right in every way that is asked.

    python benchmarks/crossings.py [--only WORD ...] [--json FILE]

Factors are listed in `FACTORS`; a new feature is a value more. A greedy search (after Cohen et al., 1997, AETG) finds
few cases in which every pair of values of two factors stands. Of each case an environment is written as a file of a
user's own, trained for a few hundred decisions, and asked:

- lanes: the first episodes are the same on the plain and on the compiled lane; of a remote program, the same as of the
  simulator that it steps;
- paid: each recorded return is the weighted sum of its terms, and what was recorded step by step is what the
  environment does when it is followed;
- resumed: a run that is cut back to its last checkpoint but one and resumed has the same episodes and weights;
- opened: the policy that is read from the folder, in a new process, evaluates as the one in memory;
- redone: trained again from its folder, it is the same;
- taught: a policy that learns from the run's records takes legal actions only, is the same the second time, and a run
  goes on from it;
- exported, served: as a file of Python, JavaScript or C, and behind `serve`, it decides the same.

What is refused is printed with its message, to be read: it must name both features. Any other exception is a failure.
Pairs that are known to be refused (`REFUSED`) are tried alone, so that they hide no other pair; one that is not refused
is a failure too.
"""

import argparse
import json
import random
import shutil
import subprocess
import sys
import tempfile
import time
import traceback
import warnings
from itertools import combinations, product
from pathlib import Path

import numpy as np
import pandas as pd

import jokulmist as jm
from jokulmist.environments.spaces.actions import parts_of
from jokulmist.errors import JokulmistError
from jokulmist.plans.sources import environment_class
from jokulmist.running.redo import redo
from jokulmist.serving.decisions import Decider

FACTORS = {
    "world": ("declared", "simulator", "in processes", "remote"),
    "method": ("QLearning", "Sarsa", "LinearQ", "DQN", "PPO", "SAC", "Reinforce"),
    "action": ("choice", "parts", "range", "mixed"),
    "masks": ("free", "legal"),
    "players": ("alone", "turns", "at once"),
    "seen": ("numbers", "image", "stacked image", "stacked numbers"),
    "modified": ("plain", "delay", "noisy", "sticky", "potential", "clipped"),
    "deciding": ("always", "held", "gated"),
    "varying": ("fixed", "vary", "curriculum"),
    "more": ("plain", "recurrent", "traces", "novelty", "planning", "prioritised", "near bounds"),
    "after": ("nothing", "taught"),
    "best": ("return", "evaluation"),
}
SIMULATED = ("simulator", "in processes", "remote")
NETWORKS, TABLES = ("DQN", "PPO", "SAC", "Reinforce"), ("QLearning", "Sarsa", "LinearQ")
# What a method has no setting for: these pairs cannot be asked.
ABSENT = {
    "recurrent": TABLES,
    "traces": ("LinearQ", "DQN", "SAC", "Reinforce"),
    "novelty": ("LinearQ",),
    "planning": ("Sarsa", "LinearQ", "DQN", "PPO", "SAC", "Reinforce"),
    "prioritised": ("QLearning", "Sarsa", "LinearQ", "PPO", "SAC", "Reinforce"),
    "near bounds": (*TABLES, "DQN", "SAC"),
}
# Pairs that can be asked, and are refused: each is tried once by itself, as a refusal would hide the other pairs of its
# case.
REFUSED = [
    *(("method", method, "action", action) for method in (*TABLES, "DQN") for action in ("range", "mixed")),
    *(("method", method, "seen", seen) for method in TABLES for seen in ("image", "stacked image")),
    *(("players", players, "more", "novelty") for players in ("turns", "at once")),
    ("masks", "legal", "modified", "sticky"),
    *(("world", world, "deciding", "gated") for world in ("simulator", "in processes")),
    *(("world", world, "modified", "potential") for world in SIMULATED),
    *(("after", "taught", "method", method) for method in ("Sarsa", "PPO", "SAC", "Reinforce")),
    *(("after", "taught", "players", players) for players in ("turns", "at once")),
    ("after", "taught", "more", "recurrent"),
    ("players", "turns", "modified", "sticky"),
]
STEPS, CHECKPOINT, COPIES = 320, 160, 2
FORMS = ("python", "javascript", "c")
ROOT = Path(__file__).parents[1]
ACTIONS = {
    "choice": ('jm.Choice("down", "stay", "up")', "a - 1.0"),
    "parts": ('jm.Actions(valve=jm.Choice("down", "stay", "up"), lamp=jm.Choice(2))', "a.valve - 1.0 + 0.1 * a.lamp"),
    "range": ("jm.Range(-1.0, 1.0)", "1.0 * a"),
    "mixed": (
        'jm.Actions(valve=jm.Choice("down", "stay", "up"), push=jm.Range(-1.0, 1.0))',
        "a.valve - 1.0 + 0.5 * a.push",
    ),
}


def source_of(case):
    """The text of an environment with the features of a case."""
    action, worth = ACTIONS[case["action"]]
    several = case["players"] != "alone"
    players = 'players = ("first", "second")' if several else ""
    acted = "0.5 * (self.worth(actions.first) + self.worth(actions.second))" if several else "self.worth(action)"
    arguments, player = ("actions", ", player") if several else ("action", "")
    legal = ""
    if case["masks"] == "legal" and case["action"] != "range":
        mask = "self.xp.stack([self.xp.asarray(True), self.xp.asarray(True), self.xp.asarray(state.level < 8.0)])"
        inside = mask if case["action"] == "choice" else f'{{"valve": {mask}}}'
        legal = f"    def legal(self, state{player}):\n        return {inside}\n"
    image = ""
    if "image" in case["seen"]:
        image = (
            "    @jm.sensor(shape=(6, 6, 1), image=True)\n    def gauge(self, state):\n        xp = self.xp\n        "
            "lit = xp.arange(6)[None, :] * 2.0 <= state.level\n"
            "        return xp.asarray(xp.broadcast_to(xp.where(lit, 200, 0), (6, 6)), dtype=xp.uint8)[:, :, None]\n"
        )
    deciding = {
        "held": "    decide_every = 2\n",
        "gated": "    meanwhile = None\n\n    def decide_when(self, state):\n        return state.hour % 3 != 1\n",
    }.get(case["deciding"], "")
    turn = "    def turn(self, state):\n        return state.hour % 2\n" if case["players"] == "turns" else ""
    effort = f"    @jm.reward(weight=-0.1)\n    def effort(self, {arguments}{player}):\n        " + (
        "return abs(self.worth(actions[player]))" if several else "return abs(self.worth(action))"
    )
    return f'''"""A weir, of a crossing of features."""

import jokulmist as jm


class Weir(jm.Environment):
    """Hold a level by a valve."""

    rain: float = jm.parameter(0.5, low=0.0, high=2.0)
    time_limit = 12
    {players}

    class State(jm.State):
        level: float = jm.seen(low=0.0, high=10.0)
        hour: int = jm.seen(low=0, high=40)
        wet: bool

    action = {action}
{deciding}{legal}{image}{turn}
    def worth(self, a):
        return {worth}

    def begin(self, draw):
        return self.State(level=draw.uniform(3.0, 7.0), hour=0, wet=False)

    def advance(self, state, {arguments}, draw):
        level = state.level + {acted} + self.rain * draw.normal() + 0.1 * ~state.wet
        return state.replace(level=self.xp.clip(level, 0.0, 10.0), hour=state.hour + 1, wet=level > 5.0)

    @jm.reward
    def comfort(self, after):
        return 1.0 - abs(after.level - 5.0) / 5.0

{effort}

    @jm.measure
    def highest(self, after):
        return after.level

    @jm.ending
    def dry(self, after):
        return after.level <= 0.0


def height(state):
    return 0.1 * state.level
'''


def simulator_of(case):
    """The same weir as a program that keeps its own state."""
    action, worth = ACTIONS[case["action"]]
    several, legal = case["players"] != "alone", case["masks"] == "legal" and case["action"] != "range"
    output, gauge, statement = "", "", ""
    if "image" in case["seen"]:
        gauge = (
            ', "gauge": np.broadcast_to(np.where(np.arange(6) * 2.0 <= self.level, 200, 0), (6, '
            "6)).astype(np.uint8)[:, :, None]"
        )
    if legal:
        statement += "    says_legal = True\n"
        mask = "[True, True, self.level < 8.0]"
        item = mask if case["action"] == "choice" else f'{{"valve": {mask}}}'
        output += f', legal={{"first": {item}, "second": {item}}}' if several else f", legal={item}"
    if case["players"] == "turns":
        statement += "    says_turn = True\n"
        output += ", turn=self.hour % 2"
    if case["deciding"] == "held":
        statement += "    decide_every = 2\n"
    if case["deciding"] == "gated":
        statement += "\n    def decide_when(self, state):\n        return True\n"
    channel = ', "gauge": jm.channel(shape=(6, 6, 1), image=True)' if gauge else ""
    actions_taken = "(actions.first, actions.second)" if several else "(action,)"
    return f'''"""A weir, of a crossing of features."""

import jokulmist as jm
import numpy as np


class Weir(jm.Simulator):
    """Hold a level by a valve."""

    rain: float = jm.parameter(0.5, low=0.0, high=2.0)
    time_limit = 12
    answer_within = 30.0
    {'players = ("first", "second")' if several else ""}
    observation = {{"level": jm.channel(low=0.0, high=10.0), "hour": jm.channel(low=0.0, high=40.0){channel}}}
    action = {action}
    terms = {{"comfort": 1.0, "effort": -0.1}}
    endings = ("dry",)
    measures = {{"highest": "max"}}
{statement}
    def worth(self, a):
        return {worth}

    def shown(self, **more):
        seen = {{"level": self.level, "hour": float(self.hour){gauge}}}
        return jm.Outcome(seen{output}, **more)

    def begin(self, seed):
        self.chance = np.random.default_rng(seed)
        self.level, self.hour = float(self.chance.uniform(3.0, 7.0)), 0
        return self.shown()

    def advance(self, {"actions" if several else "action"}):
        moves = [float(self.worth(a)) for a in {actions_taken}]
        level = self.level + float(np.mean(moves)) + self.rain * float(self.chance.normal())
        self.level, self.hour = min(10.0, max(0.0, level)), self.hour + 1
        terms = {{"comfort": 1.0 - abs(self.level - 5.0) / 5.0, "effort": float(np.mean(np.abs(moves)))}}
        closed = "dry" if self.level <= 0.0 else None
        return self.shown(terms=terms, closed_by=closed, measures={{"highest": self.level}})


def height(state):
    return 0.1 * state.level
'''


def program_of(case):
    """The simulator as a program at the other end of a connection."""
    several, image = case["players"] != "alone", "image" in case["seen"]
    parts = {
        "choice": {"kind": "choice", "labels": ["down", "stay", "up"]},
        "lamp": {"kind": "choice", "labels": ["0", "1"]},
        "range": {"kind": "range", "low": -1.0, "high": 1.0},
    }
    action = {
        "parts": {"kind": "parts", "parts": {"valve": parts["choice"], "lamp": {**parts["lamp"], "labels": 2}}},
        "mixed": {"kind": "parts", "parts": {"valve": parts["choice"], "push": parts["range"]}},
    }.get(case["action"]) or parts[case["action"]]
    legal = case["masks"] == "legal" and case["action"] != "range"
    described = {
        "name": "Weir",
        "observation": {
            "level": {"low": 0.0, "high": 10.0},
            "hour": {"low": 0.0, "high": 40.0},
            **({"gauge": {"image": True, "shape": [6, 6, 1]}} if image else {}),
        },
        "action": {"first": action, "second": action} if several else action,
        "terms": {"comfort": 1.0, "effort": -0.1},
        "endings": ["dry"],
        "measures": {"highest": "max"},
        "parameters": {"rain": {"value": 0.5, "low": 0.0, "high": 2.0}},
        "time_limit": 12,
        "decide_every": 2 if case["deciding"] == "held" else 1,
        **({"players": ["first", "second"]} if several else {}),
        "says": [*(["legal"] if legal else []), *(["turn"] if case["players"] == "turns" else [])],
    }
    return f"""import json, sys
from types import SimpleNamespace

sys.path.insert(0, {str(ROOT / "clients" / "python")!r})
import arenas
from weir import Weir


def bare(value):
    return json.loads(json.dumps(value, default=lambda own: own.tolist()))


def flat(action, head=""):
    # Parts by name, those of a player as the class has them: `first.valve`.
    if not isinstance(action, dict):
        return {{head: action}}
    below = [flat(own, f"{{head}}.{{name}}".strip(".")) for name, own in action.items()]
    return {{name: value for parts in below for name, value in parts.items()}}


class Made:
    def begin(self, seed, parameters):
        self.weir = Weir(**parameters)
        return self.told(self.weir.begin(seed))

    def advance(self, action):
        return self.told(self.weir.advance(SimpleNamespace(**flat(action)) if isinstance(action, dict) else action))

    def told(self, outcome):
        seen = dict(outcome.observation)
        images = {{name: seen.pop(name).tobytes() for name in ("gauge",) if name in seen}}
        more = {{name: getattr(outcome, name) for name in ("terms", "measures", "legal", "closed_by")}}
        told = {{"observation": {{**bare(seen), **images}}, **bare({{name: own for name, own in more.items() if own}})}}
        return {{**told, "turn": int(outcome.turn)}} if outcome.turn is not None else told


arenas.serve(json.loads({json.dumps(described)!r}), Made, arenas=4)
"""


def agent_of(case):
    kind, more = getattr(jm, case["method"]), {}
    network = jm.Recurrent(4, sequence=8, burn_in=2) if case["more"] == "recurrent" else None
    if case["method"] in NETWORKS:
        more["network"] = network or (
            jm.Convolutional(4, filters=[(2, 3, 2)]) if "image" in case["seen"] else jm.Dense(4)
        )
    if case["method"] in ("DQN", "SAC"):
        more.update(replay_start=40, replay_size=400, minibatch=8)
    if case["method"] == "PPO":
        more.update(horizon=20, minibatch=20, epochs=2)
    if case["method"] == "Reinforce":
        more.update(horizon=20)
    if case["more"] == "traces":
        more["trace_decay"] = 0.8
    if case["more"] == "novelty":
        more["novelty"] = jm.Novelty(0.1)
    if case["more"] == "planning":
        more["planning"] = 3
    if case["more"] == "prioritised":
        more["prioritised"] = True
    if case["more"] == "near bounds":
        more["at_bounds"] = "squashed"
    agent = kind(**more)
    if case["more"] in ("traces", "planning") and case["players"] != "alone" and case["method"] in TABLES:
        return dict.fromkeys(("first", "second"), agent)  # they follow one player
    return agent


def environment_of(case, folder, inside=False):
    """The environment of a case; of a remote program the simulator that it steps, where it is asked for `inside` this
    process."""
    file = folder / "weir.py"
    file.write_text(source_of(case) if case["world"] == "declared" else simulator_of(case))
    weir = environment_class(f"{file}:Weir")
    environment = weir()
    if case["world"] == "remote" and not inside:
        (folder / "program.py").write_text(program_of(case))
        environment = jm.Remote(command=[sys.executable, str(folder / "program.py")])
    if case["seen"].startswith("stacked"):
        environment = environment.modified(
            jm.modifiers.Stack(3, *(["gauge"] if "image" in case["seen"] else ["level"]))
        )
    modifiers = {
        "delay": jm.modifiers.ObservationDelay("level", 1),
        "noisy": jm.modifiers.ObservationNoise("level", 0.1),
        "sticky": jm.modifiers.StickyAction(0.2),
        "clipped": jm.modifiers.Clipped(-0.5, 0.5),
    }
    if case["modified"] in modifiers:
        environment = environment.modified(modifiers[case["modified"]])
    if case["modified"] == "potential":
        module = sys.modules[weir.__module__]
        environment = environment.modified(jm.modifiers.Potential(module.height, discount=0.99))
    return environment


def settings_of(case):
    result = {
        "steps": STEPS,
        "copies": 1 if case["more"] in ("traces", "planning") else COPIES,
        "seed": 3,
        "checkpoint_every": CHECKPOINT,
        "keep_checkpoints": 9,
        "record_every": 1,
    }
    if case["varying"] == "vary":
        result["vary"] = {"rain": jm.between(0.2, 0.8)}
    if case["varying"] == "curriculum":
        result["curriculum"] = jm.Levels("rain", [0.2, 0.5], above=-100.0, last=4)
    if case["best"] == "evaluation":
        result.update(best_by="evaluation", evaluate_every=CHECKPOINT, evaluate_episodes=3)
    return result


def same_trees(ours, theirs):
    import jax

    pairs = zip(jax.tree.leaves(ours), jax.tree.leaves(theirs), strict=True)
    return all(np.array_equal(np.asarray(a), np.asarray(b), equal_nan=True) for a, b in pairs)


def lanes_apart(case, first, second):
    """Where the first episodes of two runs differ: by episode, and by transition where both were recorded."""
    names = ["decisions", "copy", "steps", "closed_by"]
    left_side, right_side = (run.episodes.head(3) for run in (first, second))
    if not (
        left_side[names].equals(right_side[names]) and np.allclose(left_side["return"], right_side["return"], atol=1e-3)
    ):
        names = [*names, "return"]
        return {"lanes": f"{left_side[names].to_dict('list')} {right_side[names].to_dict('list')}"}
    rollout, other_rollout = (jm.read_rollouts(run.path / "rollouts")[0] for run in (first, second))
    difference = [
        name for name in rollout.table if name != "run" and not _alike(rollout.table[name], other_rollout.table[name])
    ]
    return {"transitions": f"{difference} differ"} if difference else {}


def _alike(ours, theirs):
    if not pd.api.types.is_numeric_dtype(ours):
        if any(isinstance(value, (list, np.ndarray)) and isinstance(value[0], str) for value in ours):
            return [list(value) for value in ours] == [list(value) for value in theirs]  # what was legal
        if any(isinstance(value, (list, np.ndarray)) for value in ours):
            pairs = zip(ours, theirs, strict=True)
            return all(
                np.allclose(np.asarray(a, float), np.asarray(b, float), atol=1e-3, equal_nan=True) for a, b in pairs
            )
        return [str(value) for value in ours] == [str(value) for value in theirs]
    return np.allclose(ours.astype(float), theirs.astype(float), atol=1e-3, equal_nan=True)


def went_on(run, cut):
    """What differs when a run is cut back to its last checkpoint but one and resumed."""
    shutil.copytree(run.path, cut)
    shutil.rmtree(sorted((cut / "checkpoints").glob("[0-9]*"))[-1])
    origin = json.loads((cut / "origin.json").read_text())
    (cut / "origin.json").write_text(json.dumps({**origin, "status": "stopped"}))
    gone_on = jm.resume(cut)
    if (cut / "episodes.csv").read_bytes() != (run.path / "episodes.csv").read_bytes():
        return "other episodes"
    return "" if same_trees(gone_on.policy.learner, jm.Run.open(run.path).policy.learner) else "other weights"


EVALUATES = """
import json, sys
import jokulmist as jm
run = jm.Run.open(sys.argv[1])
print(json.dumps(jm.evaluate(run.policy, run.environment, episodes=3).returns.tolist()))
"""


def evaluated_anew(path):
    """The returns of the policy of a run's folder, as a new process evaluates it."""
    done = subprocess.run([sys.executable, "-W", "ignore", "-c", EVALUATES, path], capture_output=True, text=True)
    return json.loads(done.stdout) if done.returncode == 0 else done.stderr[-2_000:]


def runs_of(case, environment, folder):
    """A run of each way in which the environment can be stepped, by its name."""
    plain = {"environment": environment}
    ways = {
        "declared": {"plain": {**plain, "lane": "plain"}, "compiled": {**plain, "lane": "compiled"}},
        "simulator": {"plain": plain},
        "in processes": {"plain": plain, "processes": {**plain, "processes": True}},
        "remote": {"plain": {"environment": environment_of(case, folder, inside=True)}, "remote": plain},
    }[case["world"]]
    return {
        way: jm.train(agent=agent_of(case), folder=folder / way, **settings_of(case), **more)
        for way, more in ways.items()
    }


def taught_wrongly(case, run, environment, folder):
    """What is wrong with a policy that learns from a run's records."""
    records = jm.Records.read(run.path / "rollouts", environment)
    agent = agent_of(case)
    taught, repeated = (jm.learn_from(records, agent, steps=20, seed=2) for _ in range(2))
    if not same_trees(taught.policy.learner, repeated.policy.learner):
        return "the same records and seed gave other weights"
    result = jm.evaluate(taught.policy, environment, episodes=3)
    if not np.isfinite(result.returns).all():
        return f"returns of {result.returns}"
    output = jm.estimate(taught.policy, records, act="greedy")
    if not np.isfinite(output.mean):
        return f"estimated {output.mean} from returns of {records.returns.min()} to {records.returns.max()}"
    if case["more"] == "novelty":  # which starts again in each run
        return ""
    began = jm.train(
        environment,
        agent,
        folder=folder / "after",
        start=taught.policy.save(folder / "taught.safetensors"),
        **{**settings_of(case), "steps": 40},
    )
    done = began.origin["decisions"]
    return "" if done == 40 else f"{done} decisions after it"


def in_words(action, chosen):
    """An action as `serve` tells it: labels and numbers."""
    if isinstance(action, jm.Actions):
        return {name: in_words(part, getattr(chosen, name)) for name, part in parts_of(action).items()}
    return action.labels[int(chosen)] if isinstance(action, jm.Choice) else np.asarray(chosen).tolist()


def same_words(told, chosen):
    if isinstance(told, dict):
        return all(same_words(part, chosen[name]) for name, part in told.items())
    return told == chosen if isinstance(told, str) else np.allclose(told, chosen, atol=1e-5)


def tied(policy, observation, told, legal):
    """Whether an alternative is as good as any: which of these is taken is each one's own affair."""
    if not hasattr(type(policy.agent), "values") or policy.remembers or not isinstance(told, str):
        return False
    values = policy.values(observation)
    return values[told] == max(values[label] for label in legal or values)


def served_apart(policy, environment):
    """How often `serve` decides otherwise than the policy, in an episode that is stepped by hand."""
    decider, actor, episode = Decider(policy), policy.actor(), environment.episode(seed=5)
    difference = 0
    for k in range(6):
        if episode.over:
            break
        seen = {name: np.asarray(value).tolist() for name, value in dict(episode.observation).items()}
        more = {"session": "one", "begins": k == 0} if policy.remembers else {}
        legal = episode.legal if policy.spec.masked else None
        output = decider.decide([decider.read(seen, legal, **more)])[0]
        chosen = actor.choose(episode.observation, legal=legal)
        same = same_words(output, in_words(episode.environment.action, chosen))
        difference += not (same or tied(policy, episode.observation, output, legal))
        episode.act(chosen)
    return difference


def tried(case, folder, form="python"):
    """What went wrong in a case: by check, in words; empty where nothing did."""
    wrong = {}
    environment = environment_of(case, folder)
    is_declared = case["world"] == "declared"
    runs = runs_of(case, environment, folder)
    wrong |= lanes_apart(case, *runs.values()) if len(runs) > 1 else {}
    for way, run in runs.items():
        frame = run.episodes
        own_effort = [name for name in frame if name == "effort" or name.endswith(".effort")]
        total = frame["comfort"] - 0.1 * frame[own_effort].mean(axis=1)
        if not np.allclose(frame["return"], total, atol=1e-3):
            wrong[f"paid, {way}"] = "returns are not the sums of their terms"
        if is_declared and case["varying"] == "fixed" and (case["modified"] != "sticky" or way == "plain"):
            difference = max(jm.follow(rollout, run.environment) for rollout in jm.read_rollouts(run.path / "rollouts"))
            if difference > 1e-3:
                wrong[f"followed, {way}"] = f"{difference:.3g} apart"
        resumed = went_on(run, folder / f"{way}-cut" / run.name)
        if is_declared and resumed:  # a simulator's episodes start again
            wrong[f"resumed, {way}"] = resumed
    run = list(runs.values())[-1]
    first = jm.evaluate(run.policy, environment, episodes=3).returns.tolist()
    second = evaluated_anew(run.path)
    if first != second:
        wrong["opened"] = f"{first} {second}"
    repeated = redo(run.path)
    if not repeated.same:
        wrong["redone"] = str(repeated)
    taught = taught_wrongly(case, run, environment, folder) if case["after"] == "taught" else ""
    if taught:
        wrong["taught"] = taught
    policy = run.policy if case["players"] == "alone" else run.policy.player("first")
    report = jm.export(policy, form, folder / "exported")
    if not report.ok:
        wrong["exported"] = str(report)
    if case["players"] == "alone" and served_apart(policy, environment):
        wrong["served"] = "it decides otherwise"
    return wrong


def sensible(case):
    """Whether a case, or a part of one, has no pair that cannot be asked or is known to be refused."""
    if case.get("method") in ABSENT.get(case.get("more"), ()):
        return False
    if case.get("world") == "remote" and case.get("deciding") == "gated":  # the protocol has no word for it
        return False
    return not any(case.get(factor) == a and case.get(other_factor) == b for factor, a, other_factor, b in REFUSED)


def filled(case, missing, draw):
    """A whole case around a pair, with as many of the missing pairs as a greedy choice finds; None where nothing
    fits."""
    rest = [name for name in FACTORS if name not in case]
    for name in draw.sample(rest, len(rest)):
        ways = [{**case, name: value} for value in draw.sample(FACTORS[name], len(FACTORS[name]))]
        ways = [way for way in ways if sensible(way)]
        if not ways:
            return None
        case = max(ways, key=lambda way: len(missing & pairs_of(way)))
    return {name: case[name] for name in FACTORS}


def pairs_of(case):
    return {frozenset(pair) for pair in combinations(case.items(), 2)}


def array_of_pairs(tries=30, seed=1):
    """Few cases in which every pair stands that can be asked."""
    draw = random.Random(seed)
    wanted = [
        {factor: a, other_factor: b}
        for factor, other_factor in combinations(FACTORS, 2)
        for a, b in product(FACTORS[factor], FACTORS[other_factor])
    ]
    missing = {frozenset(pair.items()) for pair in wanted if sensible(pair)}
    for pair in wanted:
        if frozenset(pair.items()) not in missing:
            continue
        result = [case for _ in range(tries) if (case := filled(pair, missing, draw))]
        if result:  # else the two cannot stand together in any case
            best = max(result, key=lambda case: len(missing & pairs_of(case)))
            missing -= pairs_of(best)
            yield best


def cases():
    """The cases of the array, and those that are to be refused."""
    for case in array_of_pairs():
        yield case, False
    first = {name: values[0] for name, values in FACTORS.items()}
    for factor, a, other_factor, b in REFUSED:
        calibrated = {} if "method" in (factor, other_factor) else {"method": "DQN" if factor == "after" else "PPO"}
        yield {**first, **calibrated, factor: a, other_factor: b}, True


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--only", nargs="*", default=[], help="of the cases that have all these words")
    parser.add_argument("--json", type=Path)
    options = parser.parse_args()
    warnings.simplefilter("ignore")
    results, counts = [], {"right": 0, "refused": 0, "wrong": 0}
    for k, (case, refusal) in enumerate(cases()):
        label = ", ".join(f"{name} {value}" for name, value in case.items())
        if not all(word in label for word in options.only):
            continue
        began = time.perf_counter()
        with tempfile.TemporaryDirectory() as place:
            try:
                output = {"": "it is not refused"} if refusal else {}
                output |= tried(case, Path(place), FORMS[k % len(FORMS)])
                status = "wrong" if output else "right"
            except JokulmistError as refused:
                status, output = "refused", {"": str(refused)}
            except Exception as failure:
                status, output = "wrong", {type(failure).__name__: f"{failure}\n{traceback.format_exc(limit=-4)}"}
        counts[status] += 1
        results.append({"case": case, "status": status, "told": output})
        print(
            f"{k}: {status} ({time.perf_counter() - began:.0f} s): {label}",
            *(f"   {n} {t}" for n, t in output.items()),
            sep="\n",
            flush=True,
        )
    print(counts)
    if options.json:
        options.json.write_text(json.dumps(results, indent=1))
    sys.exit(bool(counts["wrong"]))


if __name__ == "__main__":
    main()
