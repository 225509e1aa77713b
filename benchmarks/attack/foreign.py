"""Folders, queues, heads, kept episodes and exports that came from somebody else, with a canary: none of their code
runs, and none of them stops the library.

    python benchmarks/attack/foreign.py --cases 5000 [--seed 7] [--kinds folders,queues]

Each case takes a copy of a run's folder that this user did not train, changes it in some of many ways, and reads it as
commands, calls, the page (with and without `--look`) and exports do. A canary is a file that only the foreign code
writes. It is a fault when the canary appears, when anything but one of the library's own errors comes back, when a case
takes longer than 20 s, or when a file outside of the scratch folder changes. The same seed gives the same cases.
"""

import argparse
import asyncio
import contextlib
import faulthandler
import io
import json
import os
import random
import shutil
import signal
import sqlite3
import sys
import tempfile
import time
import traceback
import warnings
from pathlib import Path

SECONDS = 20
POND = """
import jokulmist as jm

class Pond(jm.Environment):
    \"\"\"A pond.\"\"\"
    time_limit = 5
    class State(jm.State):
        level: float = jm.seen(low=0.0, high=9.0, unit="m")
    action = jm.Choice("shut", "open")
    def begin(self, draw):
        return self.State(level=5.0)
    def advance(self, state, action, draw):
        return state.replace(level=state.level - action)
    @jm.reward
    def full(self, after):
        return after.level
"""
ODD = [
    None,
    True,
    -1,
    10**30,
    1e308,
    float("nan"),
    "",
    "x",
    "..",
    "../other",
    "--trust",
    "\ud800",
    "\0",
    "a\nb",
    "é" * 400,
    [],
    [1],
    {},
    {"use": "os:system"},
    "os:system",
    "/etc/passwd",
    "1970-01-01",
    "nothing",
    [[[]]],
    "*/ int x; /*",
    "</script>",
]


class Slow(Exception):
    """A case took too long."""


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--cases", type=int, default=5_000)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--kinds", default="folders,queues,heads,kept,exports")
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as place:
        os.environ["XDG_DATA_HOME"] = f"{place}/data"
        os.chdir(place)
        faults = attacked(Path(place), asked.cases, asked.seed, asked.kinds.split(","))
    sys.exit(1 if faults else 0)


def attacked(place, cases, seed, kinds):
    """How many cases went wrong."""
    import jokulmist as jm
    from jokulmist.errors import JokulmistError
    from jokulmist.plans.sources import environment_class
    from jokulmist.sources import trust

    warnings.simplefilter("ignore")
    (place / "pond.py").write_text(POND)
    pond = environment_class("pond.py:Pond", place)()
    run = jm.train(
        pond,
        jm.QLearning(bins=3),
        steps=60,
        copies=1,
        record_every=2,
        lane="plain",
        folder=place / "mine",
        name="theirs",
    )
    jm.train(
        pond,
        jm.PPO(network=jm.Dense(4), horizon=8),
        steps=16,
        copies=1,
        lane="plain",
        folder=place / "mine",
        name="other",
    )
    from jokulmist.live.games import Games

    games = Games(place / "mine")
    game = games.game(games.begin({"environment": "pond.py:Pond"}, None))
    for _ in range(3):
        game.do("act", {"chosen": {"": 1}})
    game.keep(place / "mine")
    (place / "pond.py").unlink()
    assert run.path.is_dir()
    outside = place / "outside"
    outside.mkdir()
    (outside / "secret.csv").write_text("mine\n")
    shutil.rmtree(place / "data")  # from here on another user, on another machine
    trust._NOW.clear()
    trust._SECRET = None
    for module in [name for name in sys.modules if name.startswith("jokulmist_user_")]:
        del sys.modules[module]
    from jokulmist.sources import reading, snapshot

    reading._SETS.clear()
    snapshot._source_snapshot.cache_clear()
    draw, counts, faults = random.Random(seed), dict.fromkeys(kinds, 0), 0
    signal.signal(signal.SIGALRM, _too_slow)
    began = time.perf_counter()
    for number in range(cases):
        kind = kinds[number % len(kinds)]
        folder, canary = place / "runs", place / "canary"
        shutil.copytree(place / "mine", folder, symlinks=True)
        steps = []
        try:
            signal.alarm(SECONDS)
            steps = KINDS[kind](folder, canary, outside, draw)
        except JokulmistError:
            pass
        except BaseException as failure:
            faults += 1
            print(
                f"{number} ({kind}): {type(failure).__name__}: {failure!s:.200}\n{traceback.format_exc(limit=-6)}",
                flush=True,
            )
            if isinstance(failure, KeyboardInterrupt):
                raise
        finally:
            signal.alarm(0)
        if canary.exists() or (outside / "secret.csv").read_text() != "mine\n":
            faults += 1
            print(f"{number} ({kind}): THE CANARY SINGS, or a file outside has changed: {steps}", flush=True)
            canary.unlink(missing_ok=True)
            (outside / "secret.csv").write_text("mine\n")
        counts[kind] += 1
        _removed(folder)
        if number % 500 == 499:
            print(f"{number + 1} cases, {faults} faults, {time.perf_counter() - began:.0f} s", flush=True)
    print(f"seed {seed}: {counts}, {faults} faults, {time.perf_counter() - began:.0f} s")
    return faults


def _too_slow(*_):
    faulthandler.dump_traceback()
    raise Slow(f"longer than {SECONDS} s")


def _removed(folder):
    for path in [*folder.rglob("*"), folder]:
        with contextlib.suppress(OSError):
            if path.is_dir() and not path.is_symlink():
                path.chmod(0o700)
    shutil.rmtree(folder)


# What is changed.


def sings(canary):
    return f"open({str(canary)!r}, 'w').close()\n"


def changed_file(path, draw, canary, outside):
    """One file, in one of many ways."""
    manner = draw.choice(["bytes", "cut", "empty", "link", "pipe", "hole", "gone", "folder", "noise", "append"])
    if path.is_symlink() or not path.is_file() or path.stat().st_size > 1 << 26:
        return f"{path.name} left"
    data = path.read_bytes()
    if manner == "bytes":
        position = draw.randrange(len(data) + 1)
        path.write_bytes(
            data[:position] + draw.randbytes(draw.randrange(1, 6)) + data[position + draw.randrange(0, 6) :]
        )
    elif manner == "cut":
        path.write_bytes(data[: draw.randrange(len(data) + 1)])
    elif manner == "noise":
        path.write_bytes(draw.randbytes(200))
    elif manner == "append":
        path.write_bytes(data + (sings(canary).encode() if path.suffix == ".py" else data[:100]))
    elif manner == "empty":
        path.write_bytes(b"")
    else:
        path.unlink()
        if manner == "link":
            path.symlink_to(outside / "secret.csv")
        elif manner == "pipe":
            os.mkfifo(path)
        elif manner == "hole":
            path.touch()
            os.truncate(path, 6 << 30)
        elif manner == "folder":
            path.mkdir()
    return f"{path.name} {manner}"


def changed_json(path, draw, values=ODD):
    """A value somewhere in a JSON file, or a key more."""
    try:
        if path.stat().st_size > 1 << 26:
            return f"{path.name} left"
        content = json.loads(path.read_text())
    except (OSError, ValueError, RecursionError):
        return f"{path.name} left"
    if not isinstance(content, (dict, list)) or not content:
        return f"{path.name} left"
    places = []

    def walk(one):
        for key in one if isinstance(one, dict) else range(len(one)):
            places.append((one, key))
            if isinstance(one[key], (dict, list)):
                walk(one[key])

    walk(content)
    one, key = draw.choice(places)
    value = draw.choice(values)
    one[key] = value
    if draw.random() < 0.1:
        content = deep(draw.choice([50, 3_000, 100_000]))
        path.write_text(content)
    else:
        path.write_text(json.dumps(content))
    return f"{path.name} {key!s:.30} = {value!r:.40}"


def deep(levels):
    return "[" * levels + "]" * levels


def planted(source, draw, canary, outside):
    """Code that was not there."""
    manner = draw.choice(
        [
            "sitecustomize.py",
            "numpy.py",
            "jokulmist.py",
            "pond.py",
            "pond.pyc",
            "conftest.py",
            "link",
            "linked folder",
            "package",
        ]
    )
    if manner.endswith(".pyc"):
        import py_compile

        (outside / "x.py").write_text(sings(canary))
        py_compile.compile(str(outside / "x.py"), cfile=str(source / manner))
        (outside / "x.py").unlink()
    elif manner == "link":
        (source / f"linked{draw.random()}.py").symlink_to(outside / "secret.csv")
    elif manner == "linked folder":
        (source / f"linked{draw.random()}").symlink_to(outside)
    elif manner == "package":
        (source / "extra").mkdir(exist_ok=True)
        (source / "extra" / "__init__.py").write_text(sings(canary))
    elif (source / manner).is_file() or not (source / manner).exists():  # not a folder or a pipe of an earlier change
        with (source / manner).open("a") as stream:
            stream.write("\n" + sings(canary))
    return f"planted {manner}"


def changed_plan(path, draw, canary, outside):
    """Another environment, agent or function in a plan."""
    (outside / "evil.py").write_text(sings(canary) + POND)
    use = draw.choice(
        [
            f"{outside}/evil.py:Pond",
            "evil.py:Pond",
            "os:system",
            "../outside/evil.py:Pond",
            "jokulmist.command.main:main",
            "remote",
        ]
    )
    text = path.read_text(errors="surrogateescape")
    text = draw.choice(
        [
            lambda: text.replace(
                next((line for line in text.splitlines() if "pond.py:Pond" in line), "use"), f"use = {json.dumps(use)}"
            ),
            lambda: text + f"\n[tuning]\nmethod = {json.dumps(use)}\n",
            lambda: text.replace("[agent]\n", f"[agent]\nnetwork = {json.dumps(use)}\n"),
            lambda: text.replace('use = "QLearning"', f"use = {json.dumps(use)}"),
            lambda: text + f"\n[[observers]]\nuse = {json.dumps(use)}\n",
            lambda: text.replace("[environment]", f'[environment]\ncommand = ["touch", "{canary}"]'),
            lambda: "x = " + deep(3_000),
        ]
    )()
    path.write_text(text, errors="surrogateescape")
    return f"plan {use}"


# What reads it.


def looked_at(folder, name, draw, canary):
    """Some of the commands, calls and routes that a user would try on a folder."""
    import jokulmist as jm

    run = folder / name
    ways = {
        "runs": lambda: command("runs", "--folder", folder),
        "evaluate": lambda: command("evaluate", run, "--episodes", 2),
        "report": lambda: command("report", run),
        "redo": lambda: command("redo", run, "--folder", folder),
        "resume": lambda: command("resume", run, "--steps", 10),
        "export": lambda: command(
            "export", run, "--form", draw.choice(["c", "python", "javascript"]), "--to", folder / "out"
        ),
        "compare": lambda: command("compare", run, folder / "other"),
        "open": lambda: [
            getattr(jm.Run.open(run), subject)
            for subject in ("episodes", "readings", "evaluated", "policy", "rollouts", "origin")
        ],
        "environment": lambda: jm.Run.open(run).environment,
        "page": lambda: paged(folder, name, draw, look=False),
        "look": lambda: paged(folder, name, draw, look=True),
        "work": lambda: worked(folder),
    }
    tried = draw.sample(list(ways), 3)
    for way in tried:
        with contextlib.suppress(jm.JokulmistError):
            ways[way]()
    return tried


def command(*words):
    """A command in this process; anything but an answer or one message is a fault."""
    from jokulmist.command.main import main

    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            status = main([str(word) for word in words])
        except SystemExit as ended:
            status = ended.code
    assert status in (0, 1, 2, None), (words, status)
    assert "Traceback" not in err.getvalue(), (words, err.getvalue()[-600:])


def paged(folder, name, draw, look):
    """Each route of the page once."""
    from jokulmist.live.app import Live

    app = Live(folder, look=look).app()
    kept = (
        next((path.name for path in (folder / "rollouts").glob("*.parquet")), "x.parquet")
        if (folder / "rollouts").is_dir()
        else "x.parquet"
    )
    for route in app.routes:
        if route.path in ("/api/events", "/api/begin") or "{verb}" in route.path:
            continue
        owner = draw.choice(["run", "kept"])
        values = {
            "of": owner,
            "name": kept if owner == "kept" and "episode" in route.path else name,
            "which": draw.choice(["0", "last", "early"]),
            "moment": "1",
            "file": "main.js",
            "game": "x",
        }
        path = route.path.replace(":str", "")
        for key, value in values.items():
            path = path.replace(f"{{{key}}}", value)
        body = (
            {"runs": [name, "other"]}
            if "compare" in path
            else {"kept": kept, "moment": 1}
            if path == "/api/games"
            else {}
        )
        status, output = asked(app, path, None if "GET" in route.methods else body)
        assert status < 500, (path, status, output[:300])


def asked(app, path, body):
    sent = []
    scope = {
        "type": "http",
        "http_version": "1.1",
        "method": "GET" if body is None else "POST",
        "path": path,
        "raw_path": path.encode("utf-8", "replace"),
        "query_string": b"",
        "headers": [],
        "scheme": "http",
        "server": ("127.0.0.1", 9),
        "root_path": "",
        "client": ("127.0.0.1", 1),
    }

    async def receive():
        return {"type": "http.request", "body": json.dumps(body).encode(), "more_body": False}

    async def send(message):
        sent.append(message)

    asyncio.run(app(scope, receive, send))
    return sent[0]["status"], b"".join(message.get("body", b"") for message in sent[1:]).decode(errors="replace")


def worked(folder):
    """A worker takes what it would take."""
    from jokulmist.work.queue import Queue
    from jokulmist.work.worker import work

    queue = Queue(folder)
    command("queue", "--folder", folder)
    assert not any(job.ready for job in queue.jobs()), "a foreign job would be done"
    work(queue, until_empty=True)


# The kinds.


def folders(folder, canary, outside, draw):
    run = folder / "theirs"
    steps = []
    for _ in range(draw.randrange(1, 4)):
        manner = draw.randrange(5)
        files = [path for path in run.rglob("*") if path.is_file() and not path.is_symlink()]
        if manner == 0:
            steps.append(planted(run / "source", draw, canary, outside))
        elif (
            manner == 1 and (run / "plan.toml").is_file() and "Pond" in (run / "plan.toml").read_text(errors="replace")
        ):
            steps.append(changed_plan(run / "plan.toml", draw, canary, outside))
        elif manner == 2:
            name = draw.choice(["origin.json", "source/index.json"])
            if (run / name).is_file():
                steps.append(changed_json(run / name, draw))
        elif manner == 3 and draw.random() < 0.3:
            part = draw.choice(["rollouts", "checkpoints", "source"])
            if (run / part).is_dir() and not (run / part).is_symlink():
                shutil.move(run / part, outside / part)
                (run / part).symlink_to(outside / part)
                steps.append(f"{part} is a link")
        elif files:
            steps.append(changed_file(draw.choice(files), draw, canary, outside))
    try:
        return [*steps, *looked_at(folder, "theirs", draw, canary)]
    finally:
        for part in ("rollouts", "checkpoints", "source"):
            shutil.rmtree(outside / part, ignore_errors=True)


def queues(folder, canary, outside, draw):
    from jokulmist.sources import trust
    from jokulmist.work.queue import FILE, Queue

    first, trust._SECRET = trust._SECRET, b"somebody else's key"
    queue = Queue(folder)
    for _ in range(draw.randrange(1, 4)):
        queue.add(draw.choice(["resume", "redo", "evaluate", "report", "export"]), "theirs")
    trust._SECRET = first
    columns = [
        "verb",
        "options",
        "run",
        "place",
        "status",
        "asked",
        "host",
        "process",
        "since",
        "tries",
        "added",
        "began",
        "ended",
        "told",
        "signed",
    ]
    texts = [
        "evaluate",
        '["evaluate", "{run}", "--trust"]',
        '{"trust": true}',
        '{"steps": "1 --trust"}',
        "--trust",
        "../theirs",
        "waiting",
        "working",
        "done",
        b"\xff",
        2**62,
        -1,
        1e308,
        None,
        "",
    ]
    steps = []
    db = sqlite3.connect(folder / FILE)
    for _ in range(draw.randrange(0, 4)):
        column, value = draw.choice(columns), draw.choice(texts)
        steps.append(f"{column} = {value!r}")
        with contextlib.suppress(sqlite3.Error):
            db.execute(f"UPDATE jobs SET {column} = ?", (value,))
    more = [
        "CREATE TRIGGER t AFTER UPDATE ON jobs BEGIN UPDATE jobs SET status = 'waiting'; END",
        "DROP TABLE jobs",
        "ALTER TABLE jobs RENAME TO others",
        "CREATE TABLE words (x)",
        "PRAGMA user_version = 7",
    ]
    if draw.random() < 0.3:
        with contextlib.suppress(sqlite3.Error):
            db.execute(draw.choice(more))
    db.commit()
    db.close()
    if draw.random() < 0.2:
        steps.append(changed_file(folder / FILE, draw, canary, outside))
    planted(folder / "theirs" / "source", draw, canary, outside)
    import jokulmist as jm

    with contextlib.suppress(jm.JokulmistError):
        worked(folder)
    for verb in draw.sample(["pause", "resume", "stop", "first", "drop"], 2):
        command("queue", verb, draw.randrange(1, 4), "--folder", folder)
    return [*steps, *looked_at(folder, "theirs", draw, canary)]


def heads(folder, canary, outside, draw):
    import jokulmist as jm
    from jokulmist.records.checkpoints import open_arrays, save_arrays

    name = draw.choice(["theirs", "other"])
    file = next((folder / name / "checkpoints").glob("[0-9]*")) / "arrays.safetensors"
    arrays, metadata = open_arrays(file)
    (outside / "evil.py").write_text(sings(canary))
    evil = [
        f"{outside}/evil.py:Net",
        {"function": f"{outside}/evil.py:f"},
        {"use": f"{outside}/evil.py:Net"},
        "os:system",
    ]
    place = folder / "about.json"
    place.write_text(json.dumps(metadata))
    steps = [changed_json(place, draw, [*ODD, *evil]) for _ in range(draw.randrange(1, 3))]
    text = place.read_text()
    place.unlink()
    from safetensors.numpy import save_file

    if draw.random() < 0.5:
        with contextlib.suppress(ValueError, RecursionError):
            save_arrays(file, arrays, json.loads(text))
    else:
        save_file(arrays, file, metadata={"about": text})
    with contextlib.suppress(jm.JokulmistError):
        jm.Policy.open(file)
    for form in ("c", "python"):
        with contextlib.suppress(jm.JokulmistError):
            jm.export(jm.Policy.open(file), form, folder / "out")
    return [*steps, *looked_at(folder, name, draw, canary)]


def kept(folder, canary, outside, draw):
    (outside / "evil.py").write_text(sings(canary) + POND)
    beside = next(path for path in (folder / "rollouts").iterdir() if path.is_dir())
    steps = []
    for _ in range(draw.randrange(1, 3)):
        manner = draw.randrange(3)
        if manner == 0:
            output = draw.choice(
                [
                    {"environment": f"{outside}/evil.py:Pond"},
                    {"environment": "remote", "parameters": {"command": ["touch", str(canary)]}},
                    {"run": "../mine/theirs"},
                    {"run": "theirs", "x": 1},
                    [],
                    "x",
                    {"environment": "os:system"},
                ]
            )
            if (beside / "origin.json").is_dir():
                (beside / "origin.json").rmdir()
            replaced = beside / "origin.json"
            replaced.unlink(missing_ok=True)
            replaced.write_text(json.dumps(output))
            steps.append(f"kept {output!r:.80}")
        elif manner == 1:
            steps.append(planted(beside / "source", draw, canary, outside))
        else:
            files = [path for path in (folder / "rollouts").rglob("*") if path.is_file() and not path.is_symlink()]
            if files:
                steps.append(changed_file(draw.choice(files), draw, canary, outside))
    import jokulmist as jm

    for look in (False, True):
        with contextlib.suppress(jm.JokulmistError):
            paged(folder, "theirs", draw, look)
    return steps


NASTY = [
    '"; system("touch {0}"); "',
    "*/ int ran(void); /*",
    "*\\\n/",
    "??/\n*/",
    "\\",
    "\u2028",
    "\r\n",
    "\x1b[31m",
    "</script>",
    "🚣",
    '"""',
    "\u202e",
    "a b",
    "int",
    "x;y",
    "%n",
]


def exports(folder, canary, outside, draw):
    import jokulmist as jm

    nasty = [text.replace("{0}", str(canary)) for text in NASTY]

    def one():
        return "".join(
            draw.choice([draw.choice(nasty), chr(draw.randrange(32, 0x3000))]) for _ in range(draw.randrange(1, 4))
        )

    policy = jm.Policy.open(next((folder / "other" / "checkpoints").glob("[0-9]*")) / "arrays.safetensors")
    metadata = json.loads(json.dumps(policy.about()))
    metadata["spec"]["channels"][0][draw.choice(["unit", "name"])] = one()
    metadata["spec"]["action"]["labels"] = [one(), one()]
    from jokulmist.records.checkpoints import save_arrays

    save_arrays(folder / "p.safetensors", policy.learner, metadata)
    forms = ["python", "c", "javascript"]
    for form in draw.sample(forms, 1):
        with contextlib.suppress(jm.JokulmistError):
            jm.export(jm.Policy.open(folder / "p.safetensors"), form, folder / "out", about=one())
    return [metadata["spec"]["channels"][0]["unit"], metadata["spec"]["action"]["labels"]]


KINDS = {"folders": folders, "queues": queues, "heads": heads, "kept": kept, "exports": exports}

if __name__ == "__main__":
    main()
