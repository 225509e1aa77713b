"""Training that is killed, or asked to end by a signal, at random moments and resumed, against training that was
never stopped.

Every kind (a method, a lane, a curriculum, modifiers, several seeds, a search, simulators in processes) is trained once
to the end by the command, and once more by commands that get SIGKILL, SIGTERM, SIGINT, SIGHUP or a pause, until one
reaches the end. Episodes, evaluations, readings, recorded episodes, the best policy and the final weights must be the
same bytes. Run: ``python benchmarks/killed.py --kills 100``.
"""

import argparse
import contextlib
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import tomllib
from pathlib import Path

import pandas as pd
import tomli_w

KINDS = {
    "tables, compiled": ("tarn", "compiled", {"use": "QLearning", "bins": 8}, 3_000_000, 16),
    "tables, plain": ("tarn", "plain", {"use": "Sarsa", "bins": 8}, 60_000, 3),
    "DQN, compiled": ("ferry", "compiled", {"use": "DQN", "replay_size": 8000, "n_step": 3}, 120_000, 8),
    "DQN, plain": ("ferry", "plain", {"use": "DQN", "replay_size": 4000}, 16_000, 4),
    "PPO, compiled": ("ferry", "compiled", {"use": "PPO"}, 250_000, 16),
    "PPO, plain": ("ferry", "plain", {"use": "PPO", "horizon": 32}, 24_000, 8),
    "SAC, compiled": (
        "winch",
        "compiled",
        {"use": "SAC", "replay_size": 4000, "network": {"use": "Dense", "hidden": [32]}},
        8_000,
        8,
    ),
    "Reinforce, compiled": ("ferry", "compiled", {"use": "Reinforce"}, 200_000, 16),
    "curriculum, plain": ("ferry", "plain", {"use": "QLearning", "bins": 6}, 40_000, 3),
    "modified, compiled": ("ferry", "compiled", {"use": "PPO", "horizon": 32}, 160_000, 16),
    "seeds, compiled": ("ferry", "compiled", {"use": "PPO", "horizon": 32}, 120_000, 8),
    "search, compiled": ("tarn", "compiled", {"use": "QLearning", "bins": 6}, 200_000, 8),
    "simulators": ("buoy.py:Buoy", "plain", {"use": "QLearning", "bins": 4}, 20_000, 2),
}
MORE = {
    "curriculum, plain": {
        "curriculum": {"parameter": "tide", "values": [0.0, 0.05, 0.1], "above": -30.0, "last": 10, "at_least": 10}
    },
    "modified, compiled": {
        "environment": {
            "use": "ferry",
            "modify": [{"use": "Stack", "count": 2}, {"use": "StickyAction", "chance": 0.1}],
        }
    },
    "search, compiled": {
        "tuning": {
            "method": "random",
            "candidates": 3,
            "again": 1,
            "score": "return",
            "over": {"agent.learning_rate": {"between": [0.05, 0.9]}},
        }
    },
}
MORE_TRAINING = {"seeds, compiled": {"seeds": [7, 8]}, "simulators": {"processes": True}}
BUOY = """
import jokulmist as jm

class Buoy(jm.Simulator):
    wait_seconds = 1.0
    observation = {"height": jm.channel(low=-5.0, high=5.0)}
    action = jm.Choice("down", "up")
    terms = {"calm": 1.0}
    time_limit = 30

    def begin(self, seed):
        self.height = (seed % 100) / 50.0 - 1.0
        return {"height": self.height}

    def advance(self, action):
        self.height = 0.9 * self.height + (0.3 if action else -0.2)
        return jm.Outcome({"height": self.height}, terms={"calm": -abs(self.height)})
"""
# A pause, SIGSTOP and later SIGCONT, goes on in the same process; a simulator's episodes cannot be resumed after
# any other.
SIGNALS = (signal.SIGKILL, signal.SIGKILL, signal.SIGTERM, signal.SIGINT, signal.SIGHUP, signal.SIGSTOP)
PAUSE_SECONDS = 1.5
COMMAND = [sys.executable, "-m", "jokulmist"]
TIMES = ("seconds", "steps_per_second")


def plan_of(kind, share):
    use, lane, agent, steps, copies = KINDS[kind]
    steps = max(int(steps * share), 2000)
    training = {"steps": steps, "copies": copies, "lane": lane, "seeds": [7]}
    return {
        "environment": {"use": use},
        "agent": agent,
        "training": {
            **training,
            **MORE_TRAINING.get(kind, {}),
            "checkpoint_every": steps // 12,
            "evaluate_every": steps // 3,
            "evaluate_episodes": 3,
            "record_every": 20,
        },
        **MORE.get(kind, {}),
    }


def results_of(folder, name):
    """What the runs of one training hold, by their names below it: one run, one a seed, or those of a search."""
    runs = [path.parent for path in sorted(folder.glob("*/origin.json")) if path.parent.name.startswith(name)]
    runs += [path.parent for path in sorted((folder / name).glob("*/origin.json"))]
    outcome = {}
    for run in runs:
        for part, value in result(run).items():
            outcome[f"{run.name.removeprefix(name)} {part}"] = value
    if (folder / name / "search.json").exists():
        board = json.loads((folder / name / "search.json").read_text())
        outcome["scores"] = [(c["settings"], c["scores"]) for c in board["candidates"]] + [
            board["again"],
            board["winner"],
        ]
    return outcome


def result(run):
    """The bytes that must not depend on having been stopped; of the reports, all but the times."""
    last = sorted(path for path in (run / "checkpoints").iterdir() if path.name[:1].isdigit())[-1]
    best = sorted(path for path in (run / "checkpoints").iterdir() if path.name.startswith("best"))
    lines = [line.split(",") for line in (run / "readings.csv").read_text().splitlines()]
    output = [k for k, name in enumerate(lines[0]) if name not in TIMES]
    return {
        "episodes": (run / "episodes.csv").read_bytes(),
        "evaluated": (run / "evaluated.csv").read_bytes(),
        "weights": (last / "arrays.safetensors").read_bytes(),
        "rollouts": [
            (path.name, pd.read_parquet(path).drop(columns="run").to_csv())
            for path in sorted((run / "rollouts").glob("*.parquet"))
        ],
        "best": [(path.name, (path / "arrays.safetensors").read_bytes()) for path in best],
        "readings": [[line[k] for k in output] for line in lines],
    }


def whole(plan, folder, verb):
    subprocess.run(
        [*COMMAND, verb, str(plan), "--folder", str(folder), "--name", "whole"], check=True, capture_output=True
    )


def killed(plan, folder, kills, longest, chance, kind, verb):
    """Train, kill, resume, kill, ...: how often it was signalled while it trained."""
    words = [[verb, str(plan), "--folder", str(folder), "--name", "killed"]]
    signals = (signal.SIGSTOP,) if kind == "simulators" else SIGNALS
    count = 0
    while words:
        line = words.pop(0)
        process = subprocess.Popen(
            [*COMMAND, *line], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True, start_new_session=True
        )
        while count < kills and _training(process, folder):
            try:
                process.wait(timeout=chance.uniform(0.0, longest))
            except subprocess.TimeoutExpired:
                count += 1
                chosen = chance.choice(signals)
                if chosen != signal.SIGSTOP:
                    process.send_signal(chosen)
                    break
                os.killpg(process.pid, chosen)
                time.sleep(PAUSE_SECONDS)
                os.killpg(process.pid, signal.SIGCONT)
        output = process.communicate()[1]
        # Before it trains and once all is saved, a signal does what the system has it do.
        if process.returncode not in (0, 130, *(-number for number in SIGNALS)):
            raise SystemExit(f"the command failed:\n{output}")
        if process.returncode:
            words = _left(folder, verb, plan)
            time.sleep(0.5)  # workers whose parent is gone end; what still draws on a busy machine is ended
            with contextlib.suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)
    return count


def _left(folder, verb, plan):
    """The commands that bring to its end what was broken off. Killed before its first checkpoint it is started again: that
    gives the same bytes, too."""
    if verb == "tune" and (folder / "killed" / "search.json").exists():
        done = json.loads((folder / "killed" / "search.json").read_text())["status"] == "done"
        return [] if done else [["resume", str(folder / "killed")]]
    seeds = tomllib.loads(plan.read_text())["training"]["seeds"]
    seeds = seeds if len(seeds) > 1 else []
    names = [f"killed-seed{seed}" for seed in seeds] or ["killed"]
    result = []
    for k, name in enumerate(names):
        run = folder / name
        if (run / "origin.json").exists():
            if json.loads((run / "origin.json").read_text())["status"] != "done":
                result.append(["resume", str(run), "--start-over"])
            continue
        shutil.rmtree(run, ignore_errors=True)  # killed before anything was written: the name is taken
        item = ["--set", f"training.seeds=[{seeds[k]}]"] if seeds else []
        result.append([verb, str(plan), "--folder", str(folder), "--name", name, *item])
    return result


def _training(process, folder):
    """Wait until a process has recorded something of its own; False where it ended before."""

    def sizes():
        return {path: path.stat().st_size for path in folder.glob("killed*/**/episodes.csv")}

    before = sizes()
    while process.poll() is None:
        if sizes() != before:
            return True
        time.sleep(0.005)
    return False


def tried(kind, kills, share, seed):
    chance = random.Random(seed)
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        plan = folder / "plan.toml"
        plan.write_text(tomli_w.dumps(plan_of(kind, share)))
        (folder / "buoy.py").write_text(BUOY)
        verb = "tune" if "tuning" in plan_of(kind, share) else "train"
        began = time.perf_counter()
        whole(plan, folder, verb)
        output = [json.loads(path.read_text())["seconds"] for path in folder.glob("whole*/origin.json")]
        seconds = max(output, default=time.perf_counter() - began)
        wanted = results_of(folder, "whole")
        assert wanted
        total_until = equal = tries = 0
        while total_until < kills:
            count = killed(plan, folder, min(kills - total_until, 4), 0.8 * seconds, chance, kind, verb)
            total_until, tries = total_until + count, tries + 1
            result = results_of(folder, "killed")
            different = [name for name in {*wanted, *result} if result.get(name) != wanted.get(name)]
            equal += not different
            if different:
                print(f"{kind}: {different} differ", file=sys.stderr)
            for leftover in folder.glob("killed*"):
                shutil.rmtree(leftover)
    return {
        "kind": kind,
        "kills": total_until,
        "runs": tries,
        "equal": equal,
        "seconds": round(seconds, 1),
    }


if __name__ == "__main__":
    words = argparse.ArgumentParser(description=__doc__)
    words.add_argument("--kills", type=int, default=100, help="Over all kinds.")
    words.add_argument("--share", type=float, default=1.0, help="Of each kind's decisions.")
    words.add_argument("--only", default="", help="A kind, e.g. 'DQN, plain'.")
    words.add_argument("--seed", type=int, default=0)
    given = words.parse_args()
    kinds = [kind for kind in KINDS if given.only in kind]
    results = []
    for k, kind in enumerate(kinds):
        kills = given.kills // len(kinds) + (k < given.kills % len(kinds))
        results.append(tried(kind, kills, given.share, given.seed + k))
        print(results[-1], file=sys.stderr, flush=True)
    print(
        json.dumps(
            {
                "kills": sum(r["kills"] for r in results),
                "runs": sum(r["runs"] for r in results),
                "equal": sum(r["equal"] for r in results),
                "kinds": results,
            },
            indent=2,
        )
    )
