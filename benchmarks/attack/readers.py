"""Two writers and ten readers of one run's folder: no reader ever sees half a record.

One process trains, another evaluates the run again and again into the same folder, and ten look at everything that can be looked at. Each reader
checks that episodes are numbered without a gap, that every evaluation has all of its rows, and that no file is refused.

    python benchmarks/attack/readers.py --seconds 60
"""

import argparse
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

READERS, EPISODES = 10, 7
READ = """
import sys, time, warnings
import numpy as np
import jokulmist as jm
from jokulmist.errors import JokulmistError, LookupFailed
warnings.simplefilter("error")
place, until = sys.argv[1], float(sys.argv[2])
looks = 0
while time.time() < until:
    run = jm.Run.open(place)
    frame = run.episodes
    assert np.array_equal(frame["episode"], np.arange(len(frame))), "episodes with a gap"
    assert np.isfinite(frame["return"]).all() and (frame["closed_by"] != "").all(), "half a row"
    decisions = run.readings
    assert not len(decisions) or (np.diff(decisions["decisions"]) > 0).all(), "reports out of order"
    evaluated = run.evaluated
    if len(evaluated):
        groups = evaluated.groupby(["learned", "policy", "act", "seed"])["episode"].count()
        assert (groups % EPISODES == 0).sum() >= len(groups) - 1, "half an evaluation"  # the last may be on its way, in whole rows
    try:
        run.policy
        [rollout.total for rollout in run.rollouts]
    except LookupFailed:
        pass  # none yet
    jm.results.Runs([run]).table
    looks += 1
print(looks)
""".replace("EPISODES", str(EPISODES))


def main(seconds):
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        words = [sys.executable, "-m", "jokulmist"]
        (folder / "plan.toml").write_text(
            '[environment]\nuse = "ferry"\n[agent]\nuse = "QLearning"\nbins = 6\n[training]\nsteps = 4_000_000\ncopies = 2\nlane = "plain"\n'
            f"checkpoint_every = 2000\nrecord_every = 20\nevaluate_every = 5000\nevaluate_episodes = {EPISODES}\nstop_when = {{ minutes = {seconds / 60} }}\n"
        )
        quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.PIPE, "text": True, "cwd": folder}
        writer = subprocess.Popen([*words, "train", "plan.toml", "--name", "one"], **quiet)
        while not list(folder.glob("runs/one/checkpoints/*")):
            assert writer.poll() is None, writer.communicate()[1]
            time.sleep(0.1)
        until = time.time() + seconds
        readers = [
            subprocess.Popen(
                [sys.executable, "-c", READ, str(folder / "runs" / "one"), str(until)],
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
                text=True,
            )
            for _ in range(READERS)
        ]
        evaluations = 0
        faults = []
        while time.time() < until:
            done = subprocess.run(
                [*words, "evaluate", "runs/one", "--episodes", str(EPISODES), "--seed", str(evaluations)],
                capture_output=True,
                text=True,
                cwd=folder,
            )
            evaluations += 1
            if done.returncode:
                faults.append(done.stderr)
        looks = 0
        for reader in readers:
            out, err = reader.communicate()
            looks += int(out or 0)
            if reader.returncode:
                faults.append(err)
        err = writer.communicate()[1]
        if writer.returncode:
            faults.append(err)
        print(f"{looks} looks by {READERS} readers, {evaluations} evaluations beside a training, {len(faults)} faults")
        for fault in faults:
            print(fault[-1500:])
        return len(faults)


if __name__ == "__main__":
    given = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    given.add_argument("--seconds", type=float, default=60.0)
    os.environ.setdefault("MPLBACKEND", "Agg")
    sys.exit(1 if main(given.parse_args().seconds) else 0)
