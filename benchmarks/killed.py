"""Training that is killed, or asked to end by a signal, at random moments and gone on with, against training that was never stopped.

Every kind (a method, a lane, a curriculum, modifiers) is trained once to the end by the command, and once more by commands that get SIGKILL,
SIGTERM, SIGINT or SIGHUP, until one reaches the end. Episodes, evaluations, readings, recorded episodes, the best policy and the final weights must be
the same bytes. Run: ``python benchmarks/killed.py --kills 100``.
"""

import argparse
import json
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
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
}
SIGNALS = (signal.SIGKILL, signal.SIGKILL, signal.SIGTERM, signal.SIGINT, signal.SIGHUP)
COMMAND = [sys.executable, "-m", "jokulmist"]
TIMES = ("seconds", "steps_per_second")


def plan_of(kind, share):
    use, lane, agent, steps, copies = KINDS[kind]
    steps = max(int(steps * share), 2000)
    training = {"steps": steps, "copies": copies, "lane": lane, "seed": 7}
    return {
        "environment": {"use": use},
        "agent": agent,
        "training": {
            **training, "checkpoint_every": steps // 12, "evaluate_every": steps // 3, "evaluate_episodes": 3, "record_every": 20,
        },
        **MORE.get(kind, {}),
    }  # fmt: skip


def result(run):
    """The bytes that must not depend on having been stopped; of the reports, all but the times."""
    last = sorted(path for path in (run / "checkpoints").iterdir() if path.name[:1].isdigit())[-1]
    best = sorted(path for path in (run / "checkpoints").iterdir() if path.name.startswith("best"))
    lines = [line.split(",") for line in (run / "readings.csv").read_text().splitlines()]
    told = [k for k, name in enumerate(lines[0]) if name not in TIMES]
    return {
        "episodes": (run / "episodes.csv").read_bytes(),
        "evaluated": (run / "evaluated.csv").read_bytes(),
        "weights": (last / "arrays.safetensors").read_bytes(),
        "rollouts": [
            (path.name, pd.read_parquet(path).drop(columns="run").to_csv())
            for path in sorted((run / "rollouts").glob("*.parquet"))
        ],
        "best": [(path.name, (path / "arrays.safetensors").read_bytes()) for path in best],
        "readings": [[line[k] for k in told] for line in lines],
    }


def whole(plan, folder):
    subprocess.run(
        [*COMMAND, "train", str(plan), "--folder", str(folder), "--name", "whole"], check=True, capture_output=True
    )


def killed(plan, folder, kills, longest, chance):
    """Train, kill, resume, kill, ...: the run, and how often it was killed while it trained."""
    run = folder / "killed"
    words = ["train", str(plan), "--folder", str(folder), "--name", "killed"]
    count = 0
    while True:
        process = subprocess.Popen([*COMMAND, *words], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
        if count < kills and _training(process, run / "episodes.csv"):
            try:
                process.wait(timeout=chance.uniform(0.0, longest))
            except subprocess.TimeoutExpired:
                process.send_signal(chance.choice(SIGNALS))
                count += 1
        told = process.communicate()[1]
        done = (
            json.loads((run / "origin.json").read_text())["status"] == "done"
            if (run / "origin.json").exists()
            else False
        )
        if done:
            return run, count
        if process.returncode not in (0, 130, -signal.SIGKILL):
            raise SystemExit(f"the command failed:\n{told}")
        # Killed before its first checkpoint it is begun anew: that gives the same bytes, too.
        words = ["resume", str(run), "--start-over"] if (run / "origin.json").exists() else words
        if words[0] == "train" and run.exists():  # killed before anything was written: the name is taken
            shutil.rmtree(run)


def _training(process, episodes):
    """Wait until a process has recorded something of its own; False where it ended before."""
    before = episodes.stat().st_mtime_ns if episodes.exists() else 0
    while process.poll() is None:
        if episodes.exists() and episodes.stat().st_mtime_ns != before:
            return True
        time.sleep(0.005)
    return False


def tried(kind, kills, share, seed):
    chance = random.Random(seed)
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        plan = folder / "plan.toml"
        plan.write_text(tomli_w.dumps(plan_of(kind, share)))
        whole(plan, folder)
        seconds = json.loads((folder / "whole" / "origin.json").read_text())["seconds"]
        wanted = result(folder / "whole")
        so_far = equal = tries = 0
        while so_far < kills:
            run, count = killed(plan, folder, min(kills - so_far, 4), 0.8 * seconds, chance)
            so_far, tries = so_far + count, tries + 1
            found = result(run)
            different = [name for name, value in wanted.items() if found[name] != value]
            equal += not different
            if different:
                print(f"{kind}: {different} differ", file=sys.stderr)
            subprocess.run(["rm", "-r", str(run)], check=True)
    return {
        "kind": kind,
        "kills": so_far,
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
    print(json.dumps({"kills": sum(r["kills"] for r in results), "runs": sum(r["runs"] for r in results),
                      "equal": sum(r["equal"] for r in results), "kinds": results}, indent=2))  # fmt: skip
