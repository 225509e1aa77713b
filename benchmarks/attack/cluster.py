"""A Dask cluster that goes away while it searches: what is said, how soon, and whether the search can be resumed.

python benchmarks/attack/cluster.py            # all cases; or some: none scheduler workers stop
"""

import json
import os
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))
import kinds
import tomli_w

SLOW = "def advance(self, state, action, draw):"
QUIET = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
PLAN = {
    **kinds.PLAN,
    "training": {"steps": 2000, "lane": "plain", "checkpoint_every": 200},
    "tuning": {
        "method": "random",
        "candidates": 4,
        "score": "return",
        "again": 1,
        "over": {"agent.learning_rate": {"among": [0.1, 0.2, 0.3, 0.4]}},
    },
}
MOST_SECONDS = 30.0


def cluster(workers):
    """The address of a scheduler, and the processes of it and of its workers."""
    file = Path("scheduler.json")
    file.unlink(missing_ok=True)
    words = [
        sys.executable,
        "-m",
        "distributed.cli.dask_scheduler",
        "--port",
        "0",
        "--scheduler-file",
        file,
        "--no-dashboard",
    ]
    scheduler = subprocess.Popen(words, **QUIET)
    while not file.exists():
        time.sleep(0.1)
    time.sleep(0.3)
    address = json.loads(file.read_text())["address"]
    words = [
        sys.executable,
        "-m",
        "distributed.cli.dask_worker",
        address,
        "--nthreads",
        "1",
        "--no-nanny",
        "--no-dashboard",
    ]
    result = [subprocess.Popen(words, **QUIET) for _ in range(workers)]
    time.sleep(5)
    return address, scheduler, result


def command(*words):
    return subprocess.Popen(
        [sys.executable, "-m", "jokulmist", *words], stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
    )


def trains(name):
    began = time.time()
    while not list(Path("runs", name).glob("candidate-*/checkpoints/*")) and time.time() - began < 60:
        time.sleep(0.1)


def ends(process, name, status, words, wanted, most=MOST_SECONDS):
    """Whether a command ends soon, with a status and words, and leaves its search and runs as they should be."""
    began = time.time()
    try:
        out = process.communicate(timeout=most)[0]
    except subprocess.TimeoutExpired:
        process.kill()
        out = process.communicate()[0]
    seconds = time.time() - began
    result = json.loads(Path("runs", name, "search.json").read_text())["status"]
    good = process.returncode == status and words in out and "Traceback" not in out and result == wanted
    print(
        f"{'ok   ' if good else 'FAULT'} {name}: {seconds:.1f} s, status {process.returncode}, the search is "
        f"{result}: {words!r}"
    )
    if not good:
        print(out[-1000:])
    return not good


def main(cases):
    faults = 0
    if "none" in cases:
        faults += ends(
            command("tune", "plan.toml", "--cluster", "tcp://127.0.0.1:9", "--name", "none"),
            "none",
            2,
            "no Dask scheduler answers",
            "stopped",
        )
    for case in [case for case in cases if case != "none"]:
        address, scheduler, workers = cluster(2 if case == "stop" else 1)
        search = command("tune", "plan.toml", "--cluster", address, "--name", case)
        trains(case)
        if case == "scheduler":
            scheduler.kill()
            faults += ends(search, case, 2, "the Dask scheduler at", "stopped")
        else:
            if case == "workers":
                for worker in workers:
                    worker.kill()
                time.sleep(12)
            search.send_signal(signal.SIGINT)
            faults += ends(
                search,
                case,
                130,
                "has no worker any more" if case == "workers" else "stopping: every run saves",
                "stopped",
            )
        for process in (scheduler, *workers):
            process.kill()
        time.sleep(1)
        faults += ends(command("resume", f"runs/{case}"), case, 0, "The winner is candidate", "done", 120)
    return faults


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as place:
        os.chdir(place)
        Path("pond.py").write_text(kinds.POND.replace(SLOW, f"{SLOW}\n        import time; time.sleep(0.002)"))
        Path("plan.toml").write_text(tomli_w.dumps(PLAN))
        sys.exit(1 if main(sys.argv[1:] or ["none", "scheduler", "workers", "stop"]) else 0)
