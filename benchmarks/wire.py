"""Environments over a wire: what the wire costs, faults by the hundred, the game in Node and in Chromium to a level.

python benchmarks/wire.py cost                 # microseconds an arena and step at 1, 8 and 64 arenas on the loopback
python benchmarks/wire.py faults --cases 1000  # links cut in a frame, killed, hung, late, wrong shapes, garbage
python benchmarks/wire.py node                 # examples/punt trained in Node, three seeds
python benchmarks/wire.py browser              # and in headless Chromium
"""

import argparse
import json
import os
import random
import resource
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from functools import partial
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import numpy as np

import jokulmist as jm
from jokulmist.environments.chance.noise import Domain, Noise
from jokulmist.remote.environment import RemoteLane

ROOT = Path(__file__).resolve().parents[1]
PROGRAM = [sys.executable, str(ROOT / "tests" / "remote" / "float_program.py")]
FAULTS = (
    "dies",
    "hangs",
    "late",
    "garbage",
    "binary",
    "out_of_order",
    "raises",
    "wrong_shape",
    "no_number",
    "null_number",
    "unknown_ending",
    "huge",
    "cut",
    "gigabyte",
    "garbage_frame",
)
PUNT = ["node", str(ROOT / "examples" / "punt" / "node.mjs")]


def cost(rounds=7, turns=300):
    """What a turn takes in the library alone: the whole, less what the program itself takes and what a lane of
    simulators in this process takes."""
    result = {}
    for arenas in (1, 8, 64):
        environment = jm.Remote(command=["env", f"ARENAS={arenas}", *PUNT])
        lane = RemoteLane(environment, Noise(1, arenas, Domain.TRAINING))
        lane.begin()
        link = environment.program.links[0]
        waits, receive = [0.0], link.receive

        def timed(method, within=None, receive=receive, waits=waits):
            began = time.perf_counter()
            answer = receive(method, within)
            waits[0] += time.perf_counter() - began
            return answer

        link.receive = timed
        wholes, waited = [], []
        for k in range(rounds + 1):
            waits[0], began = 0.0, time.perf_counter()
            for turn in range(turns):
                lane.advance([(turn + i) % 3 for i in range(arenas)])
            if k:
                wholes.append((time.perf_counter() - began) / turns / arenas * 1e6)
                waited.append(waits[0] / turns / arenas * 1e6)
        lane.close()
        game_alone = _alone(arenas, turns)
        output = {
            name: round(statistics.median(values), 2) for name, values in (("whole", wholes), ("waiting", waited))
        }
        output.update(
            least=round(min(wholes), 2),
            most=round(max(wholes), 2),
            game=round(game_alone, 2),
            wire=round(output["whole"] - game_alone - _here(arenas, turns), 2),
        )
        output["share_of_waiting"] = round(output["waiting"] / output["whole"], 2)
        result[f"{arenas} arenas, us an arena and step"] = output
    return result


def _alone(arenas, turns):
    """What the game itself takes in Node, without a wire."""
    code = f"""
    import {{ Punt }} from "{ROOT}/examples/punt/punt.js";
    const punts = Array.from({{ length: {arenas} }}, () => new Punt());
    punts.forEach((punt, k) => punt.begin(k, {{}}));
    let began = 0;
    for (let turn = 0; turn < {3 * turns}; turn++) {{
      if (turn === {turns}) began = performance.now();
      punts.forEach((punt, k) => punt.advance((turn + k) % 3));
    }}
    console.log((performance.now() - began) / {2 * turns} / {arenas} * 1000);
    """
    done = subprocess.run(["node", "--input-type=module", "-e", code], capture_output=True, text=True, check=True)
    return float(done.stdout)


class Still(jm.Simulator):
    """As many channels and terms as the punt, and no game: what a lane of simulators itself takes."""

    observation = {name: jm.channel(low=-12.0, high=12.0) for name in ("a", "b", "c", "d", "e", "f")}
    action = jm.Choice("port", "drift", "starboard")
    terms = {"wood": 1.0, "bump": -3.0, "poling": -0.01}
    endings = ("holed",)
    time_limit = 300

    def begin(self, seed):
        return dict.fromkeys("abcdef", 0.0)

    def advance(self, action):
        return STILL


STILL = jm.Outcome(dict.fromkeys("abcdef", 0.0), terms={"poling": 1.0})


def _here(arenas, turns):
    """What the copies of a lane cost without a wire, less the checks of what a simulator tells, which a wire has of its
    own."""
    from jokulmist.environments.transition.simulator_stepping import Reader
    from jokulmist.lanes.plain import PlainLane

    lane = PlainLane(Still(), Noise(1, arenas, Domain.TRAINING))
    lane.begin()
    output, checked = Reader(Still()).read(STILL), Reader.read
    Reader.read = lambda self, outcome, method="advance": output
    try:
        began = time.perf_counter()
        for turn in range(turns):
            lane.advance([(turn + i) % 3 for i in range(arenas)])
        return (time.perf_counter() - began) / turns / arenas * 1e6
    finally:
        Reader.read = checked


def faults(cases, seed=0):
    """Trainings whose program goes wrong: each ends, counts its episodes right, and says why."""
    chance, counts, wrong = random.Random(seed), dict.fromkeys(FAULTS, 0), []
    began = time.perf_counter()
    for k in range(cases):
        kind, position = FAULTS[k % len(FAULTS)], chance.randrange(3, 60)
        with tempfile.TemporaryDirectory() as place:
            environment = jm.Remote(
                command=["env", f"FAULT={kind}:{position}", f"SEEN={place}/seen", *PROGRAM],
                answer_within=1.0,
                patience=30.0,
                most_lost=1.0,
            )
            try:
                run = jm.train(environment, jm.RandomPlay(), steps=240, copies=4, seed=k, folder=None)
                rows = run.episodes
                complete = rows[rows["closed_by"] != "lost"]
                right = (
                    run.status == "done"
                    and Path(place, "seen").exists()
                    and (complete["moves"] == complete["steps"]).all()
                )
                lost = int((rows["closed_by"] == "lost").sum())
                # Hello, begin, twenty advances, begin, ...: between two episodes there is none to lose; a float that
                # sank in the turn before is between two, too.
                first = rows["decisions"][rows["closed_by"] == "lost"].min() if lost else 0
                between = int(((rows["closed_by"] != "lost") & (rows["decisions"] == first - 4)).sum())
                right = right and lost == (0 if (position - 2) % 21 == 0 else 4 - between)
                right = right and sum(rows["steps"]) <= 240 + 4 * 60
                if not right:
                    wrong.append(
                        f"{kind}:{position}: {run.status}, {len(rows)} episodes, {(rows['closed_by'] == 'lost').sum()} lost"
                    )
            except Exception as failure:
                wrong.append(f"{kind}:{position}: {type(failure).__name__}: {failure}")
            finally:
                environment.program.close()
        counts[kind] += 1
        if k % 50 == 49:
            print(
                f"{k + 1} cases, {len(wrong)} wrong, {time.perf_counter() - began:.0f} s", file=sys.stderr, flush=True
            )
    return {
        "cases": counts,
        "wrong": wrong,
        "seconds": round(time.perf_counter() - began),
        "most_megabytes": resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024,
    }


def node(steps=400_000):
    """The punt to a level: mean returns of 50 episodes, a seed each, beside random play."""
    punt = jm.Remote(command=PUNT)
    result = {"random": jm.evaluate("random", punt, episodes=50).mean, "seeds": []}
    for seed in range(3):
        began = time.perf_counter()
        run = jm.train(punt, jm.DQN(), steps=steps, copies=8, seed=seed, folder=None)
        result["seeds"].append(
            {
                "return": round(jm.evaluate(run, punt, episodes=50).mean, 2),
                "seconds": round(time.perf_counter() - began),
            }
        )
    return result


def browser(steps=60_000):
    """The same in headless Chromium: the page comes to the training that waits."""
    handler = partial(SimpleHTTPRequestHandler, directory=str(ROOT))
    handler.log_message = lambda *_: None
    pages = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=pages.serve_forever, daemon=True).start()
    port = 9100 + os.getpid() % 500
    with tempfile.TemporaryDirectory() as profile:
        page = f"http://127.0.0.1:{pages.server_port}/examples/punt/punt.html#ws://127.0.0.1:{port}%20herring"
        chromium = subprocess.Popen(
            [
                "sh",
                "-c",
                'sleep 2; exec "$@"',
                "sh",
                "chromium",
                "--headless",
                "--no-sandbox",
                "--disable-gpu",
                "--no-first-run",
                "--disable-background-networking",
                "--disable-component-update",
                "--disable-sync",
                f"--user-data-dir={profile}",
                "--remote-debugging-port=0",
                page,
            ],
            stderr=subprocess.DEVNULL,
        )
        try:
            punt = jm.Remote(listen=port, secret="herring", patience=60.0)
            began = time.perf_counter()
            run = jm.train(punt, jm.DQN(), steps=steps, copies=8, folder=None)
            seconds = time.perf_counter() - began
            return {
                "steps_per_second": round(steps / seconds),
                "last_100": round(run.mean_return(), 2),
                "return": round(jm.evaluate(run, punt, episodes=50).mean, 2),
            }
        finally:
            chromium.kill()


if __name__ == "__main__":
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("what", choices=["cost", "faults", "node", "browser"])
    words.add_argument("--cases", type=int, default=1000)
    words.add_argument("--steps", type=int, default=None)
    given = words.parse_args()
    more = {} if given.steps is None else {"steps": given.steps}
    done = {
        "cost": cost,
        "faults": lambda: faults(given.cases),
        "node": lambda: node(**more),
        "browser": lambda: browser(**more),
    }[given.what]()
    print(json.dumps(done, indent=2, default=lambda one: np.asarray(one).tolist()))
