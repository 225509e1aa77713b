"""Seconds of whole commands from a fresh process, of this code and another checkout in turns: import, help, a table and
PPO for 1,000 decisions from a warm cache.

    python benchmarks/startup.py [--other PATH] [--repeats 7]    # PATH: a checkout, e.g. made by `git clone`

JAX's own import is timed in the same run, because machines differ and drift. All files are compiled to bytecode before,
as an installed package has them.
"""

import argparse
import compileall
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

PLAN = '[environment]\nuse = "tarn"\n[agent]\nuse = "{}"\n[training]\nsteps = 1000\n'
CASES = {
    "import of jax": ["-c", "import jax, jax.numpy"],
    "import": ["-c", "import jokulmist"],
    "help": ["-m", "jokulmist", "--help"],
    "table": ["-m", "jokulmist", "train", "table.toml"],
    "ppo": ["-m", "jokulmist", "train", "ppo.toml"],
}


def once(words, place, source):
    began = time.perf_counter()
    environ = {**os.environ, "HOME": str(place), "PYTHONPATH": str(source)}
    environ.pop("PYTHONDONTWRITEBYTECODE", None)
    subprocess.run([sys.executable, *words], cwd=place, env=environ, capture_output=True, check=True)
    return time.perf_counter() - began


def main():
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("--other", type=Path)
    words.add_argument("--repeats", type=int, default=7)
    arguments = words.parse_args()
    root = Path(__file__).resolve().parents[1]
    sources = {"this": root / "src", **({"other": arguments.other.resolve() / "src"} if arguments.other else {})}
    result = {}
    with tempfile.TemporaryDirectory() as parent:
        for name, source in sources.items():
            compileall.compile_dir(source, quiet=2)
            (Path(parent) / name).mkdir()
            for plan, agent in (("table", "QLearning"), ("ppo", "PPO")):
                (Path(parent) / name / f"{plan}.toml").write_text(PLAN.format(agent))
        bare = statistics.median(once(["-c", "pass"], Path(parent), root) for _ in range(arguments.repeats))
        for case, command in CASES.items():
            times = {name: [] for name in sources}
            for k in range(arguments.repeats + 1):  # the first fills the caches
                for name, source in sources.items():
                    took = once(command, Path(parent) / name, source)
                    if k:
                        times[name].append(took)
            for name, own_times in times.items():
                output = [statistics.median(own_times), min(own_times), max(own_times)]
                result[f"{case}, {name}"] = [round(item, 3) for item in output]
            print(case, {name: result[f"{case}, {name}"] for name in sources}, file=sys.stderr, flush=True)
    print(json.dumps({"an empty Python": round(bare, 3), "median, least, most": result}, indent=2))


if __name__ == "__main__":
    main()
