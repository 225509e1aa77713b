"""The live page under load, by HTTP and in headless Chromium.

python benchmarks/live.py many [--runs 2000]        # first paint of each view, and an update until it is shown
python benchmarks/live.py fuzz [--cases 2000]       # requests that nobody meant: no traceback, nothing outside
python benchmarks/live.py memory [--updates 20000]  # the server's memory over the updates of a day
python benchmarks/live.py kills [--kills 200]       # SIGKILL in the middle of writing jobs
"""

import argparse
import contextlib
import json
import random
import re
import shutil
import socket
import statistics
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from pathlib import Path

import psutil

import jokulmist as jm

TOKEN = "a-token-of-this-measurement"


def served(folder, *words):
    command = [
        sys.executable,
        "-m",
        "jokulmist",
        "live",
        "--folder",
        str(folder),
        "--port",
        "0",
        "--token",
        TOKEN,
        *words,
    ]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    return process, re.search(r"http://[^/]+", process.stdout.readline())[0]


def ask(base, path, body=None, method=None, timeout=60.0, **headers):
    request = urllib.request.Request(base + path, body, {"Authorization": f"Bearer {TOKEN}", **headers}, method=method)
    try:
        with urllib.request.urlopen(request, timeout=timeout) as answer:
            return answer.status, answer.read()
    except urllib.error.HTTPError as refused:
        return refused.code, refused.read()


def one_run(folder):
    return jm.train(
        jm.gallery.Tarn(),
        jm.QLearning(),
        steps=20_000,
        seed=1,
        lane="plain",
        record_every=50,
        folder=folder,
        name="run-0000",
    ).path


def copied(folder, count):
    first = one_run(folder)
    for k in range(1, count):
        path = folder / f"run-{k:04d}"
        path.mkdir()
        for name in ("origin.json", "plan.toml", "episodes.csv", "readings.csv"):
            shutil.copy(first / name, path / name)


def many(count):
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / "runs"
        copied(folder, count)
        process, base = served(folder)
        try:
            first = time.perf_counter()
            ask(base, "/api/all")
            first = time.perf_counter() - first
            repeated = []
            for _ in range(15):
                began = time.perf_counter()
                ask(base, "/api/all")
                repeated.append(time.perf_counter() - began)
            return {
                "runs": count,
                "first answer of a new server, seconds": round(first, 2),
                "later answers, milliseconds (least, median, most)": [
                    round(1000 * f(repeated), 1) for f in (min, statistics.median, max)
                ],
                **looked(folder),
                **painted(base, folder),
                **opened(base),
            }
        finally:
            process.kill()


def looked(folder):
    """What one look at the folder takes, which is what an update costs the server."""
    from jokulmist.live.folder import RunFolder

    runs = RunFolder(folder)
    runs.look()
    took = []
    for k in range(15):
        with (folder / f"run-{k:04d}" / "log.txt").open("a") as log:
            log.write("x\n")
        (folder / f"run-{k:04d}" / "origin.json").touch()
        began = time.perf_counter()
        runs.look()
        took.append(1000 * (time.perf_counter() - began))
    return {
        "an update on the server, milliseconds (least, median, most)": [
            round(f(took), 1) for f in (min, statistics.median, max)
        ]
    }


NOTED = """
new MutationObserver((_, observer) => {
  if (!document.querySelector("table.runs tbody tr")) return;
  requestAnimationFrame(() => { window.rowsAt = performance.now(); });
  observer.disconnect();
}).observe(document, { childList: true, subtree: true });
"""


@contextlib.contextmanager
def browsing():
    """A function that opens a page in a browser that has nothing of it."""
    from playwright.sync_api import sync_playwright

    with sync_playwright() as driver:
        browser = driver.chromium.launch(
            executable_path=shutil.which("chromium"), args=["--no-sandbox", "--disable-gpu"]
        )
        yield lambda: browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
        browser.close()


def painted(base, folder):
    paints, displayed = [], []
    with browsing() as new_page:
        for k in range(7):
            page = new_page()
            page.add_init_script(NOTED)  # by the page's own clock: looking from outside takes as long as painting
            page.goto(f"{base}/?token={TOKEN}")
            page.wait_for_selector("table.runs tbody tr")
            paints.append(page.evaluate("window.rowsAt") / 1000)
            page.wait_for_selector("#link:text('live')")
            path = folder / f"run-{1_000 + k:04d}"
            origin = json.loads((path / "origin.json").read_text())
            page.fill("input[type=search]", path.name)
            origin["status"] = "failed"
            began = time.perf_counter()
            (path / "origin.json").write_text(json.dumps(origin))
            page.wait_for_selector("table.runs .status.failed")
            displayed.append(time.perf_counter() - began)
            page.close()
    three = [min, statistics.median, max]
    return {
        "from asking to rows in the browser, seconds (least, median, most)": [round(f(paints), 2) for f in three],
        "from a change of a file to the page, seconds (least, median, most)": [round(f(displayed), 2) for f in three],
    }


VIEWS = {  # an address, and what is there once the view is filled
    "runs": "table.runs tbody tr",
    "queue": "main h1",
    "new": "main select",
    "play": "main select",
    "run/run-0000": "figure.chart svg",
    "run/run-0500": "figure.chart svg",
    "compare?runs=run-0000,run-0001,run-0500": "figure.chart svg",
    "steps/run/run-0000/best/0": "main table",
}
NOTED_VIEW = """
new MutationObserver(() => {
  if (!window.headAt && document.querySelector("main h1, main strong")) window.headAt = performance.now();
  if (!window.filledAt && document.querySelector("%s")) window.filledAt = performance.now();
}).observe(document, { childList: true, subtree: true });
"""


def opened(base):
    """Each view by its address, three times each in a browser that has nothing of it: until something is painted, until
    what is known stands there, and until the view is filled."""
    rows = {}
    with browsing() as new_page:
        for address, filled in VIEWS.items():
            took = []
            for _ in range(3):
                page = new_page()
                page.add_init_script(NOTED_VIEW % filled)
                page.goto(f"{base}/?token={TOKEN}#/{address}")
                page.wait_for_selector(filled, state="attached", timeout=60_000)
                took.append(
                    page.evaluate(
                        "[performance.getEntriesByType('paint').at(-1).startTime, window.headAt, window.filledAt]"
                    )
                )
                page.close()
            rows[f"{address}: painted, what is known, filled, seconds (medians)"] = [
                round(statistics.median(column) / 1000, 2) for column in zip(*took, strict=True)
            ]
    return rows


PATHS = [
    "/",
    "/page/main.js",
    "/page/charts.js",
    "/api/all",
    "/api/compare",
    "/api/choices",
    "/api/fields",
    "/api/begin",
    "/api/search/x",
    "/api/run/run-0000",
    "/api/run/run-0000/replay/late",
    "/api/run/run-0000/evaluate",
    "/api/run/run-0000/stop",
    "/api/run/run-0000/export",
    "/api/job/1/pause",
    "/api/job/1/drop",
    "/api/episode/run/run-0000/best",
    "/api/episode/run/run-0000/best/0/picture",
    "/api/episode/kept/x/0",
    "/api/games",
    "/api/games/x/act",
    "/api/games/x/picture",
]
READ = ("/", "/page/main.js", "/page/charts.js", "/api/all", "/api/choices")
VALUES = [
    None,
    True,
    -1,
    0,
    1,
    3.5,
    1e308,
    "",
    "x",
    "../..",
    "tarn",
    "PPO",
    [],
    [1],
    {},
    {"use": "tarn"},
    {"use": "os:system"},
    {"steps": 10},
    {"steps": -1},
    "\0",
    "é" * 300,
    10**30,
]
KEYS = [
    "environment",
    "agent",
    "training",
    "text",
    "name",
    "seed",
    "run",
    "policy",
    "player",
    "episode",
    "moment",
    "kept",
    "chosen",
    "decisions",
    "parameters",
    "form",
    "steps",
    "anyway",
]


def fuzz(cases, seed):
    chance = random.Random(seed)
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / "runs"
        one_run(folder)
        process, base = served(folder, "--workers", "0")
        outside = sorted(str(p) for p in Path(place).iterdir())
        result, wrong = {}, []
        try:
            for case in range(cases):
                path = chance.choice(PATHS)
                posted = path not in READ
                if chance.random() < 0.4:
                    position = chance.randrange(1, len(path) + 1)
                    path = (
                        path[:position]
                        + chance.choice(
                            ["%00", "%2e%2e", "/", "%ff", "..", "?x=1", "%0d%0a", "%3Cscript%3E", "a" * 400]
                        )
                        + path[position:]
                    )
                if chance.random() < 0.3:
                    path += "?" + "&".join(
                        f"{k}={chance.choice(['', 'tarn', 'x', '%00', '1,2', '../x'])}"
                        for k in ("runs", "by", "environment", "method")
                    )
                method = "POST" if posted else "GET"
                if chance.random() < 0.2:
                    method = chance.choice(["GET", "POST", "PUT", "DELETE", "HEAD", "OPTIONS"])
                body = None
                if method in ("POST", "PUT"):
                    body = json.dumps(
                        {chance.choice(KEYS): chance.choice(VALUES) for _ in range(chance.randrange(5))}
                    ).encode()
                    if chance.random() < 0.2:
                        body = bytes(chance.randrange(256) for _ in range(chance.randrange(200)))
                headers = {}
                if chance.random() < 0.1:
                    headers[chance.choice(["Origin", "Cookie", "Content-Type", "Accept"])] = chance.choice(
                        ["null", 'x="', "http://127.0.0.1", "text/plain", ";;;=,"]
                    )
                try:
                    status, output = ask(base, path, body, method, **headers)
                except (OSError, ValueError) as failure:  # e.g. an address that the client itself refuses
                    status, output = type(failure).__name__, b""
                result[status] = result.get(status, 0) + 1
                if (isinstance(status, int) and status >= 500) or b"Traceback" in output:
                    wrong.append([case, method, path, str(body)[:200], status])
            host, port = base.removeprefix("http://").split(":")
            for raw in (
                b"GARBAGE\r\n\r\n",
                b"GET / HTTP/1.1\r\nHost: " + b"a" * 9_000 + b"\r\n\r\n",
                b"\0" * 400,
                b"POST /api/begin HTTP/1.1\r\nHost: x\r\nContent-Length: 99999999999\r\n\r\n{",
            ):
                with socket.create_connection((host, int(port)), timeout=5) as wire:
                    wire.sendall(raw)
            alive = ask(base, "/api/all")[0] == 200
        finally:
            process.kill()
        reply = process.stderr.read()
        after = sorted(str(p) for p in Path(place).iterdir())
        return {
            "cases": cases,
            "statuses": result,
            "alive": alive,
            "wrong": wrong,
            "tracebacks in what the server said": reply.count("Traceback"),
            "written outside": [p for p in after if p not in outside],
        }


def memory(updates):
    """A run that grows, seen by a page: each update is a row and the whole view of the run."""
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / "runs"
        path = one_run(folder)
        rows = (path / "episodes.csv").read_bytes().splitlines(keepends=True)
        process, base = served(folder)
        output = []
        try:
            for k in range(updates):
                (path / "episodes.csv").write_bytes(b"".join(rows[: 2 + k % (len(rows) - 1)]))
                ask(base, "/api/run/run-0000", {})
                ask(base, "/api/all")
                if k % max(1, updates // 12) == 0:
                    output.append(round(psutil.Process(process.pid).memory_info().rss / 1e6))
        finally:
            process.kill()
        return {"updates": updates, "megabytes along the way": output}


def kills(count):
    words = (
        "import sys; from jokulmist.work.queue import Queue; q = Queue(sys.argv[1])\nwhile True: "
        "print(q.add(['resume', '{run}'], 'r'), flush=True)"
    )
    from jokulmist.work.queue import Queue

    output = lost = 0
    with tempfile.TemporaryDirectory() as place:
        for k in range(count):
            child = subprocess.Popen([sys.executable, "-c", words, place], stdout=subprocess.PIPE)
            child.stdout.readline()
            time.sleep(random.Random(k).uniform(0.0, 0.05))
            child.kill()
            output += 1 + child.stdout.read().count(b"\n")
            child.wait()
            recorded = len(Queue(place).jobs())
            lost += max(output - recorded, 0)
            output = recorded
    return {"kills": count, "jobs": output, "lost": lost}


if __name__ == "__main__":
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("what", choices=["many", "fuzz", "memory", "kills"])
    for name, usual in (("runs", 2_000), ("cases", 2_000), ("updates", 2_000), ("kills", 200), ("seed", 1)):
        words.add_argument(f"--{name}", type=int, default=usual)
    given = words.parse_args()
    work = {
        "many": lambda: many(given.runs),
        "fuzz": lambda: fuzz(given.cases, given.seed),
        "memory": lambda: memory(given.updates),
        "kills": lambda: kills(given.kills),
    }
    print(json.dumps(work[given.what](), indent=2))
