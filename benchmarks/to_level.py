"""Seconds from a fresh process to a stated level: the library at its defaults against loops by hand at theirs, or
against another checkout, in pairs in one run.

    python benchmarks/to_level.py [--pairs 7] [--only balance-PPO] [--cold] [--json FILE] [--other PATH]

Balance, swing-up and images are problems of the proving ground that defaults were never chosen by; the ferry, the winch
and the tarn are of the gallery. The level is the mean return of the last 100 episodes of training. Each side is a whole
process, imports and compiling included; `--cold` gives ours an empty cache of compiled code. Each pair has a seed of
its own. A side that has not come to the level within its decisions is told so, and counts with all the time that it
took.
"""

import argparse
import ast
import compileall
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).parent
# The level, about 0.9 of the way from random play to the reference, and the decisions that both sides are given, as the
# proving ground gives them.
CASES = {
    "balance-PPO": {"method": "PPO", "place": "Barrel", "level": 450.0, "most": 200_000},
    "balance-DQN": {"method": "DQN", "place": "Barrel", "level": 450.0, "most": 150_000},
    "swing-up-SAC": {"method": "SAC", "place": "Derrick", "level": 130.0, "most": 60_000},
    "images-PPO": {"method": "PPO", "place": "Lantern", "level": -2.8, "most": 200_000},
    "table": {"method": "QLearning", "place": "Tarn", "level": 125.0, "most": 1_500_000},
    "ferry-PPO": {"method": "PPO", "place": "Ferry", "level": 12.0, "most": 400_000},
    "ferry-DQN": {"method": "DQN", "place": "Ferry", "level": 12.0, "most": 400_000},
    "winch-SAC": {"method": "SAC", "place": "Winch", "level": -25.0, "most": 40_000},
}
OURS = """
import os, sys
sys.path.insert(0, {folder!r})
import jokulmist as jm
{made}
run = jm.train(environment, jm.{method}(), steps={most}, seed={seed}, stop_when={{"mean_return": {level}}}, folder={folder!r} + "/runs")
print(run.origin["decisions"], run.mean_return() >= {level} - 1.0, flush=True)
os._exit(0)  # as by hand: what JAX holds is not taken apart
"""
OWN = "from {small} import {place}\nenvironment = {place}()"
GALLERY = "environment = jm.gallery.{place}()"
HEAD = "import math\n\nimport numpy as np\n\nimport jokulmist as jm\n\n\n"
HAND = """
import os, sys
sys.path.insert(0, {here!r})
from by_hand import {module} as loop
from by_hand.{numpy} import Numpy{place} as Base

returns, decisions = [], [0]

class Counted(Base):
    def reset(self):
        self.total = 0.0
        return super().reset()

    def step(self, action):
        decisions[0] += 1
        told = super().step(action)
        self.total += told[1]
        if any(told[2:]):
            returns.append(self.total)
            if len(returns) >= 100 and sum(returns[-100:]) / 100 >= {level}:
                print(decisions[0], True, flush=True)
                os._exit(0)
        return told

if {module!r} == "numpy_tarn":
    loop.NumpyTarn = Counted
    loop.train({most}, seed={seed})
else:
    loop.train(Counted, {most}, seed={seed})
print(decisions[0], False)
"""


def own_file(place, folder, checkout):
    """A problem of a checkout's proving ground as a file of one's own."""
    text = (checkout / "benchmarks" / "proving" / "telling.py").read_text()
    node = next(n for n in ast.parse(text).body if isinstance(n, ast.ClassDef) and n.name == place)
    (folder / f"{place.lower()}.py").write_text(HEAD + ast.get_source_segment(text, node) + "\n")


def seconds(code, home, checkout):
    began = time.perf_counter()
    environ = {**os.environ, "HOME": str(home), "XDG_CACHE_HOME": str(home / ".cache")}
    environ["PYTHONPATH"] = str(checkout / "src")
    environ.pop("PYTHONDONTWRITEBYTECODE", None)
    done = subprocess.run(
        [sys.executable, "-W", "ignore", "-c", code], capture_output=True, text=True, check=True, env=environ
    )
    decisions, reached = done.stdout.split()[-2:]
    return time.perf_counter() - began, int(decisions), reached == "True"


def main():
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("--pairs", type=int, default=7)
    words.add_argument("--only")
    words.add_argument("--cold", action="store_true")
    words.add_argument("--json", type=Path)
    words.add_argument("--other", type=Path, help="a checkout, which takes the place of the loops by hand")
    arguments = words.parse_args()
    here, other = HERE.parent.resolve(), arguments.other and arguments.other.resolve()
    opponent = "other" if other else "by hand"
    output = {}
    with tempfile.TemporaryDirectory() as place:
        for checkout in (here, *([other] if other else [])):
            compileall.compile_dir(checkout / "src", quiet=2)
        for name, case in CASES.items():
            if arguments.only and name != arguments.only:
                continue
            method, small = case["method"], case["place"].lower()
            ours_in_gallery = (HERE / "by_hand" / f"numpy_{small}.py").exists()
            environment = (GALLERY if ours_in_gallery else OWN).format(small=small, **case)
            more = {**case, "made": environment, "numpy": f"numpy_{small}" if ours_in_gallery else "numpy_proving"}
            module = "numpy_tarn" if method == "QLearning" else f"{method.lower()}_by_hand"
            first, second = [], []
            for pair in range(arguments.pairs + 1):  # the first fills the cache, and is not counted
                seed = 100 + pair
                homes = [
                    Path(place) / side / (f"{name}-{pair}" if arguments.cold else "") for side in ("first", "second")
                ]
                for home, checkout in zip(homes, (here, other or here), strict=True):
                    home.mkdir(parents=True, exist_ok=True)
                    if not ours_in_gallery:
                        own_file(case["place"], home, checkout)
                ours, second_code = (OURS.format(seed=seed, folder=str(home), **more) for home in homes)
                if not other:
                    second_code = HAND.format(here=str(HERE), module=module, seed=seed, **more)
                sides = [(first, ours, homes[0], here), (second, second_code, homes[1], other or here)]
                for result, *side in sides if pair % 2 else sides[::-1]:
                    if pair or result is first or other:
                        result.append(seconds(*side))
            first, second = first[-arguments.pairs :], second[-arguments.pairs :]
            ratios = [pair[1][0] / pair[0][0] for pair in zip(first, second, strict=True)]
            row = {"ratio": statistics.median(ratios), "least": min(ratios), "most": max(ratios)}
            for player, side in (("ours", first), (opponent, second)):
                row[player] = {
                    "seconds": round(statistics.median(item[0] for item in side), 2),
                    "decisions": statistics.median(item[1] for item in side),
                    "reached": f"{sum(item[2] for item in side)} of {len(side)}",
                }
            output[name] = row
            print(
                f"{name}, {case['place']}, to {case['level']:g}: {row['ratio']:.1f} times [{row['least']:.1f}, "
                f"{row['most']:.1f}]  {json.dumps({n: row[n] for n in ('ours', opponent)})}",
                flush=True,
            )
    if arguments.json:
        arguments.json.write_text(json.dumps(output, indent=1) + "\n")


if __name__ == "__main__":
    main()
