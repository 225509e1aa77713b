"""`jokulmist serve` on the loopback: requests a second and latencies at 1, 8 and 64 clients, and wrong requests by the
thousand.

python benchmarks/serving.py speed --seconds 5
python benchmarks/serving.py fuzz --cases 1000
"""

import argparse
import http.client
import json
import random
import re
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time

import numpy as np

import jokulmist as jm


def served(folder):
    run = jm.train(jm.gallery.Ferry(), jm.PPO(), steps=20_000, folder=folder, name="ferry")
    process = subprocess.Popen(
        [sys.executable, "-m", "jokulmist", "serve", str(run.path), "--port", "0"],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),
    )
    line = process.stdout.readline()
    return run, process, int(re.search(r":(\d+)/decide", line).group(1))


def speed(seconds):
    """Each client asks again as soon as it is answered."""
    with tempfile.TemporaryDirectory() as folder:
        run, process, port = served(folder)
        body = json.dumps({"observation": {c.name: 0.5 for c in run.policy.spec.numbers}})
        result = {}
        try:
            for clients in (1, 8, 64):
                times, until = [[] for _ in range(clients)], time.perf_counter() + seconds

                def ask(own, until=until):
                    link = http.client.HTTPConnection("127.0.0.1", port)
                    # head and body go in two packets, the second of which would wait for an answer to the first
                    link.connect()
                    link.sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                    while time.perf_counter() < until:
                        began = time.perf_counter()
                        link.request("POST", "/decide", body)
                        assert link.getresponse().read().startswith(b'{"action"')
                        own.append(time.perf_counter() - began)

                threads = [threading.Thread(target=ask, args=(own,)) for own in times]
                for thread in threads:
                    thread.start()
                for thread in threads:
                    thread.join()
                every = np.concatenate(times)
                result[f"{clients} clients"] = {
                    "requests_per_second": round(len(every) / seconds),
                    "p50_ms": round(1e3 * float(np.quantile(every, 0.5)), 2),
                    "p99_ms": round(1e3 * float(np.quantile(every, 0.99)), 2),
                }
        finally:
            process.kill()
        return result


def fuzz(cases, seed=0):
    """Wrong requests: each gets 4xx (or 200 where it came out right), and no traceback is printed."""
    chance = random.Random(seed)
    junk = [
        None,
        True,
        -1,
        10**30,
        1.5,
        "",
        "x" * 1000,
        "\x1b[31m",
        [],
        {},
        [[[]]],
        {"observation": None},
        float("1e308"),
        "ferry",
        [None] * 50,
    ]
    with tempfile.TemporaryDirectory() as folder:
        run, process, port = served(folder)
        names = [c.name for c in run.policy.spec.numbers]
        counts, wrong = {}, []
        link = http.client.HTTPConnection("127.0.0.1", port)
        for k in range(cases):
            complete = {"observation": dict.fromkeys(names, 0.5)}
            kind = k % 6
            if kind == 0:
                complete["observation"][chance.choice(names)] = chance.choice(junk)
            elif kind == 1:
                complete[chance.choice(["policy", "observations", "legal", "x\n", "observation"])] = chance.choice(junk)
            elif kind == 2:
                complete = chance.choice(junk)
            text = json.dumps(complete).encode()
            if kind == 3:
                text = bytes(chance.randrange(256) if chance.random() < 0.1 else b for b in text)
            elif kind == 4:
                text = text[: chance.randrange(len(text))]
            elif kind == 5:
                text = b"[" * chance.randrange(100_000)
            method, path = (
                ("POST", "/decide")
                if chance.random() < 0.95
                else (chance.choice(["GET", "PUT", "PATCH"]), chance.choice(["/decide", "/", "/../etc/passwd", "/%00"]))
            )
            try:
                link.request(method, path, text)
                answer = link.getresponse()
                answer.read()
                status = answer.status
            except (http.client.HTTPException, OSError) as failure:
                status = type(failure).__name__
                link = http.client.HTTPConnection("127.0.0.1", port)
            counts[status] = counts.get(status, 0) + 1
            if not (isinstance(status, int) and status < 500):
                wrong.append((status, text[:80]))
        process.send_signal(signal.SIGINT)
        reply = process.communicate(timeout=30)[1]
        return {
            "statuses": counts,
            "wrong": [str(item) for item in wrong],
            "traceback": "Traceback" in reply,
            "ended": process.returncode,
        }


if __name__ == "__main__":
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("what", choices=["speed", "fuzz"])
    words.add_argument("--seconds", type=float, default=5.0)
    words.add_argument("--cases", type=int, default=1000)
    given = words.parse_args()
    print(json.dumps(speed(given.seconds) if given.what == "speed" else fuzz(given.cases), indent=2))
