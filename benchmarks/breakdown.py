"""Where the time of a whole `jokulmist train` goes, from a fresh process, for twelve cases.

python benchmarks/breakdown.py                       # all, three processes each, warm cache of compiled code
python benchmarks/breakdown.py table-short --cold    # without the cache
python benchmarks/breakdown.py --repeats 7 --json

Each process is timed from outside; inside, what a function takes is counted without what others in the list take within
it: imports (whatever loads modules), whether the class compiles, tracing, compiling (or reading what was compiled
before), setting up the loop, going on with it (steps and updates), records, evaluation, pictures.
"""

import argparse
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

TABLE = '[environment]\nuse = "tarn"\n[agent]\nuse = "QLearning"\n[training]\nsteps = {steps}\n'
IMAGES = '[environment]\nuse = "skerry"\n[agent]\nuse = "{agent}"\n[training]\nsteps = {steps}\n'
CASES = {
    "table-short": TABLE.format(steps=1_000),
    "table-long": TABLE.format(steps=1_000_000),
    "plain-table": TABLE.format(steps=20_000) + 'lane = "plain"\n',
    "ppo-short": TABLE.replace("QLearning", "PPO").format(steps=1_000),
    "ppo-long": TABLE.replace("QLearning", "PPO").format(steps=200_000),
    "dqn-short": TABLE.replace("QLearning", "DQN").format(steps=2_000),
    "dqn-long": TABLE.replace("QLearning", "DQN").format(steps=50_000),
    "sac-short": TABLE.replace("tarn", "winch").replace("QLearning", "SAC").format(steps=2_000),
    "sac-long": TABLE.replace("tarn", "winch").replace("QLearning", "SAC").format(steps=20_000),
    "images": IMAGES.format(agent="PPO", steps=20_000),
    "players": TABLE.replace("tarn", "haul").replace("QLearning", "PPO").format(steps=20_000),
    "evaluated": TABLE.replace("QLearning", "PPO").format(steps=50_000) + "evaluate_every = 10_000\n",
}
WATCHED = {
    ("jokulmist.lanes.compiled.compilability", "find"): "whether it compiles",
    ("jokulmist.loops.compiled", "CompiledLoop.__init__"): "setting up",
    ("jokulmist.loops.plain", "PlainLoop.__init__"): "setting up",
    ("jokulmist.loops.compiled", "CompiledLoop.advance"): "steps and updates",
    ("jokulmist.loops.plain", "PlainLoop.advance"): "steps and updates",
    ("jokulmist.running.session.intake", "Intake.take"): "records",
    ("jokulmist.running.session.session", "Session._checkpoint"): "records",
    ("jokulmist.running.session.session", "Session.__init__"): "records",
    ("jokulmist.judging.evaluate", "evaluate"): "evaluation",
    ("jokulmist.judging.evaluate", "evaluate_references"): "evaluation",
    ("jokulmist.pictures.saved", "save_pictures"): "pictures",
    ("jokulmist.plans.plan", "read_plan"): "reading the plan",
}
EVENTS = {"jaxpr_trace": "tracing", "jaxpr_to_mlir": "tracing", "backend_compile": "compiling"}
ORDER = ["interpreter", "imports", *dict.fromkeys(WATCHED.values()), "tracing", "compiling", "the rest"]


def inside(plan):
    """In the process that is looked into: train, with the clock in the functions."""
    from importlib._bootstrap_external import SourceFileLoader

    spent, stack = {}, [["the rest", 0.0, time.perf_counter()]]

    def begin(name):
        stack.append([name, 0.0, time.perf_counter()])

    def end():
        name, within, began = stack.pop()
        took = time.perf_counter() - began
        spent[name] = spent.get(name, 0.0) + took - within
        stack[-1][1] += took

    def timed(name, function):
        def call(*args, **kwargs):
            begin(name)
            try:
                return function(*args, **kwargs)
            finally:
                end()

        return call

    load = SourceFileLoader.exec_module

    def exec_module(self, module):
        begin("imports")
        try:
            load(self, module)
        finally:
            end()
        for (place, path), name in WATCHED.items():
            if place == module.__name__:
                *owner, last = path.split(".")
                holder = getattr(module, owner[0]) if owner else module
                setattr(holder, last, timed(name, getattr(holder, last)))
        if module.__name__ == "jax.monitoring":
            module.register_event_duration_secs_listener(event)

    def event(name, seconds, **_):
        for part, label in EVENTS.items():
            if part in name:
                spent[label] = spent.get(label, 0.0) + seconds
                stack[-1][1] += seconds

    SourceFileLoader.exec_module = exec_module
    sys.argv = ["jokulmist", "train", plan, "--folder", str(Path(plan).parent / "runs")]
    began = time.perf_counter()
    try:
        from jokulmist.command.main import main

        main()
    except SystemExit:
        pass
    complete = time.perf_counter() - began
    spent["the rest"] = complete - sum(spent.values())
    Path(plan).with_suffix(".json").write_text(json.dumps(spent))


def measured(case, repeats, cold):
    result = []
    with tempfile.TemporaryDirectory() as place:
        plan = Path(place) / "plan.toml"
        plan.write_text(CASES[case])
        for k in range(repeats + (not cold)):  # the first fills the cache
            environ = {**os.environ, "HOME": str(Path(place) / (f"home{k}" if cold else "home"))}
            began = time.perf_counter()
            subprocess.run(
                [sys.executable, __file__, "--inside", str(plan)], env=environ, capture_output=True, check=True
            )
            complete = time.perf_counter() - began
            spent = json.loads(plan.with_suffix(".json").read_text())
            spent["interpreter"] = complete - sum(spent.values())
            result.append({"whole": complete, **spent})
    result = result if cold else result[1:]
    middle = {name: round(statistics.median(item.get(name, 0.0) for item in result), 3) for name in ["whole", *ORDER]}
    complete = [item["whole"] for item in result]
    return {**middle, "least": round(min(complete), 3), "most": round(max(complete), 3)}


def main():
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("cases", nargs="*", default=list(CASES))
    words.add_argument("--repeats", type=int, default=3)
    words.add_argument("--cold", action="store_true")
    words.add_argument("--json", action="store_true")
    words.add_argument("--inside", help=argparse.SUPPRESS)
    arguments = words.parse_args()
    if arguments.inside:
        inside(arguments.inside)
        return
    result = {}
    for case in arguments.cases or CASES:
        result[case] = measured(case, arguments.repeats, arguments.cold)
        if not arguments.json:
            item = result[case]
            parts = ", ".join(f"{name} {item[name]:.2f}" for name in ORDER if item[name] >= 0.01)
            print(f"{case}: {item['whole']:.2f} s ({item['least']:.2f} to {item['most']:.2f}): {parts}", flush=True)
    if arguments.json:
        print(json.dumps(result, indent=2))


if __name__ == "__main__":
    main()
