"""The kinds of cases: each is a generator that tries one case whenever it is asked for the next."""

import errno
import json
import os
import shutil
import signal
import sys
from pathlib import Path

import tomli_w
from arena import asked, command
from junk import COMMANDS, OPTIONS, TEXTS, VALUES

POND = """
import jokulmist as jm

class Pond(jm.Environment):
    rain: float = jm.parameter(0.5, low=0.0, high=3.0)
    time_limit = 20

    class State(jm.State):
        level: float = jm.seen(low=0.0, high=20.0)
        let_in: float = jm.flow()

    action = jm.Choice("closed", "open")

    def begin(self, draw):
        return self.State(level=draw.uniform(6.0, 14.0))

    def advance(self, state, action, draw):
        let_in = 1.5 * action
        level = state.level + let_in + draw.uniform() * self.rain - 1.2
        return state.replace(level=self.xp.clip(level, 0.0, 20.0), let_in=let_in)

    @jm.reward
    def comfort(self, after):
        return 1.0 - abs(after.level - 10.0) / 10.0

    @jm.ending
    def dried_out(self, after):
        return after.level <= 0.0

    @jm.reference
    def by_hand(self, state):
        return 1 if state.level < 10.0 else 0
"""
PLAN = {
    "environment": {"use": "pond.py:Pond"},
    "agent": {"use": "QLearning", "bins": 4},
    "training": {
        "steps": 120,
        "lane": "plain",
        "checkpoint_every": 60,
        "record_every": 2,
        "evaluate_every": 60,
        "evaluate_episodes": 2,
    },
}
ERRORS = (errno.ENOSPC, errno.EACCES, errno.EROFS, errno.EIO, errno.ENAMETOOLONG, errno.EDQUOT)
SMALL = {
    "replay_start": 20,
    "replay_size": 64,
    "minibatch": 8,
    "horizon": 8,
    "network": {"use": "Dense", "hidden": [4]},
    "tiles": 3,
    "tilings": 2,
    "bins": 4,
    "longest": 16,
}


def base(root):
    """What every case may name: an environment, a plan."""
    (root / "pond.py").write_text(POND)
    (root / "plan.toml").write_text(tomli_w.dumps(PLAN))


def prepare(arena):
    """A run, kept aside, so that cases may spoil a copy of it."""
    assert command("train", "plan.toml", "--name", "one", "--json") == 0
    assert command("train", "plan.toml", "--name", "two", "--json", "--set", "agent.learning_rate=0.3") == 0
    shutil.copytree(arena.root / "runs", arena.root / "kept")


def restored(arena, *names):
    for name in names:
        shutil.rmtree(arena.root / "runs" / name, ignore_errors=True)
        shutil.copytree(arena.root / "kept" / name, arena.root / "runs" / name)


def words(arena, chance):
    """Command lines of known and unknown words, in any order."""
    while True:
        name = chance.choice(COMMANDS)
        line = [name] if name else []
        for _ in range(chance.randrange(6)):
            line.append(chance.choice(OPTIONS if chance.random() < 0.5 else TEXTS))
        if name in ("train", "play"):
            line = [word for word in line if word not in ("pond.py",)]
        if not (arena.root / "runs" / "one" / "origin.json").exists():
            restored(arena, "one", "two")
        arena.tried("words", repr(line)[:300], lambda line=line: command(*line))
        for extra in arena.root.glob("runs/*"):
            if extra.name not in ("one", "two"):
                shutil.rmtree(extra) if extra.is_dir() else extra.unlink()
        for name in ("one", "two"):
            if chance.random() < 0.1:
                restored(arena, name)
        yield


def _agents():
    from jokulmist.agents.registry import AGENTS

    return {name: list(kind.model_fields) for name, kind in AGENTS.items()}


TRAINING = (
    "steps",
    "episodes",
    "copies",
    "seeds",
    "lane",
    "evaluate_every",
    "evaluate_episodes",
    "checkpoint_every",
    "checkpoint_minutes",
    "keep_checkpoints",
    "best_by",
    "record_every",
    "stop_when",
    "processes",
    "unknown",
)
SECTIONS = ("environment", "agent", "training", "vary", "curriculum", "observers", "tuning", "strange", "modify")


def plans(arena, chance):
    """A plan with one wrong value, for every key of every method, and for sections."""
    agents = _agents()
    while True:
        plan = json.loads(json.dumps(PLAN))
        name = chance.choice(list(agents))
        plan["agent"] = {"use": name, **{k: v for k, v in SMALL.items() if k in agents[name]}}
        plan["training"] = {"steps": 60, "lane": "plain"}
        value, place = chance.choice(VALUES), chance.random()
        if place < 0.5 and agents[name]:
            key = chance.choice(agents[name])
            plan["agent"][key] = value
        elif place < 0.75:
            key = chance.choice(TRAINING)
            plan["training"][key] = value
        elif place < 0.85:
            key = chance.choice(("use", "rain", "weights", "modify", "nothing"))
            plan["environment"][key] = value
        else:
            key = chance.choice(SECTIONS)
            plan[key] = value
        large = isinstance(value, int) and not isinstance(value, bool) and 10**12 <= value <= 10**15
        if large and key in ("steps", "episodes", "seeds"):
            continue  # it means what it says, and takes as long
        try:
            text = tomli_w.dumps(plan)
        except (TypeError, ValueError, AttributeError):
            continue
        file = arena.root / "case.toml"
        file.write_text(text, encoding="utf-8", errors="surrogatepass")
        arena.tried(
            "plans",
            f"{name} {key} = {value!r:.80}",
            lambda: command("train", "case.toml", "--name", "case", "--workers", 1),
        )
        for folder in arena.root.glob("runs/case*"):
            shutil.rmtree(folder, ignore_errors=True)
        yield


def _spoiled(chance, data, name):
    """The content of a file, damaged or forged."""
    if name.endswith(".safetensors") and len(data) > 8 and chance.random() < 0.4:
        return _forged_head(chance, data)
    manner = chance.randrange(9)
    if manner == 0:
        return data[: chance.randrange(len(data) + 1)]
    if manner == 1 and data:
        position = chance.randrange(len(data))
        return data[:position] + bytes([chance.randrange(256)]) + data[position + 1 :]
    if manner == 2:
        return chance.choice(
            (
                b"",
                b"\x00" * 64,
                b"\xff\xfe\x00",
                b"{",
                b"[" * 5_000,
                b"null",
                b"3",
                b'"x"',
                b"[]",
                b"{}",
                b"a,b\n1\n",
                b"\n\n\n",
            )
        )
    if manner == 3 and name.endswith(".json"):
        try:
            tree = json.loads(data)
        except ValueError:
            return b"{"
        _replace_one(chance, tree)
        return json.dumps(tree).encode("utf-8", "surrogatepass")
    if manner == 4:
        for old, new in (
            (b"Pond", b"\x1b[31mPond"),
            (b"QLearning", b"os:system"),
            (b"pond.py", b"../../x.py"),
            (b"one", b"../two"),
            (b"0", b"9" * 30),
        ):
            if old in data and chance.random() < 0.5:
                return data.replace(old, new)
        return data + data
    if manner == 5:
        lines = data.split(b"\n")
        chance.shuffle(lines)
        return b"\n".join(lines)
    if manner == 6:
        cells = data.split(b",")
        cells[chance.randrange(len(cells))] = chance.choice(
            (b"x", b"nan", b"", b"1e999", b"-1", b'"', b"\x1b[2J", b"9" * 40)
        )
        return b",".join(cells)
    if manner == 7:
        return data[::-1]
    return data.replace(b"=", b"= [", 1)


def _forged_head(chance, data):
    """Arrays whose head tells something else of the policy."""
    size = int.from_bytes(data[:8], "little")
    head = json.loads(data[8 : 8 + size])
    metadata = json.loads(head.get("__metadata__", {}).get("about", "{}"))
    _replace_one(chance, metadata)
    head["__metadata__"] = {"about": json.dumps(metadata)}
    new = json.dumps(head).encode("utf-8", "surrogatepass")
    new += b" " * (-len(new) % 8)
    return len(new).to_bytes(8, "little") + new + data[8 + size :]


def _replace_one(chance, tree):
    spots = []

    def walk(part):
        pairs = part.items() if isinstance(part, dict) else enumerate(part) if isinstance(part, list) else ()
        for key, value in list(pairs):
            spots.append((part, key))
            walk(value)

    walk(tree)
    if spots:
        part, key = chance.choice(spots)
        value = chance.choice(VALUES)
        part[key] = None if isinstance(value, float) and value != value else value


LOOKS = (
    ("runs", "--json"),
    ("runs",),
    ("runs", "--where", "agent.bins=4"),
    ("evaluate", "runs/one", "--episodes", 2),
    ("compare", "runs"),
    ("redo", "runs/one"),
    ("resume", "runs/one", "--steps", 20),
    ("resume", "runs/one", "--start-over"),
    ("replay", "runs/one", "--to", "out.png"),
    ("report", "runs/one", "--no-replays", "--to", "out.html"),
    ("evaluate", "runs/one", "--checkpoint", "best", "--episodes", 2),
    ("check", "pond.py:Pond", "--show", 2, "--policy", "runs/one"),
)


def records(arena, chance):
    """Files of a run that are damaged, forged, missing, folders, or too many; and every command that reads them."""
    import jokulmist as jm

    marker, run = arena.root / "executed", arena.root / "runs" / "one"
    calls_on_a_run = (
        ("episodes", lambda: jm.Run.open(run).episodes),
        ("readings", lambda: jm.Run.open(run).readings),
        ("policy", lambda: jm.Run.open(run).policy),
        ("rollouts", lambda: jm.Run.open(run).rollouts),
        ("plan", lambda: jm.Run.open(run).plan),
        ("table", lambda: jm.results.Runs([jm.Run.open(run)]).table),
        ("environment", lambda: jm.Run.open(run).environment.episode(seed=1).observation),
        ("best", lambda: jm.Run.open(run).best),
        ("evaluated", lambda: jm.Run.open(run).evaluated),
        ("repr", lambda: repr(jm.Run.open(run))),
        ("plot", lambda: jm.plot(run)),
        ("compare", lambda: jm.compare([run, run.parent / "two"])),
    )
    while True:
        restored(arena, "one", "two")
        marker.unlink(missing_ok=True)
        files = sorted(path for path in run.rglob("*") if path.is_file() and path.suffix not in (".png", ".html"))
        label = []
        for _ in range(chance.choice((1, 1, 2))):
            file = chance.choice(files)
            label.append(file.relative_to(run).as_posix())
            if not file.exists() or not file.is_file():
                continue
            manner = chance.random()
            if manner < 0.75:
                file.write_bytes(_spoiled(chance, file.read_bytes(), file.name))
            elif manner < 0.85:
                file.unlink()
            elif manner < 0.92:
                file.unlink()
                file.mkdir()
            elif file.suffix == ".py":
                file.write_text(file.read_text() + f"\nopen({str(marker)!r}, 'w').close()\n")
            else:
                file.unlink()
                file.symlink_to(file.name)
        if chance.random() < 0.5:
            look = chance.choice(LOOKS)
            arena.tried("records", f"{label} {' '.join(map(str, look))}", lambda look=look: command(*look), marker)
        else:
            name, work = chance.choice(calls_on_a_run)
            arena.tried("records", f"{label} {name}", asked(work), marker)
        yield


SEARCH = {
    **PLAN,
    "training": {"steps": 60, "lane": "plain", "checkpoint_every": 30},
    "tuning": {
        "method": "random",
        "candidates": 2,
        "again": 1,
        "score": "return",
        "over": {"agent.learning_rate": {"among": [0.1, 0.5]}},
    },
}
SEARCH_LOOKS = (
    ("resume", "searched/one", "--workers", 1),
    ("resume", "searched/one", "--json", "--workers", 1),
    ("runs", "--folder", "searched/one"),
)


def searches(arena, chance):
    """Files of a search that are damaged, forged or missing, and what reads them."""
    import jokulmist as jm

    (arena.root / "search.toml").write_text(tomli_w.dumps(SEARCH))
    assert command("tune", "search.toml", "--folder", "searched", "--name", "one", "--workers", 1, "--json") == 0
    shutil.copytree(arena.root / "searched", arena.root / "kept-search")
    place = arena.root / "searched" / "one"
    calls_on_a_search = (
        ("open", lambda: jm.Search.open(place)),
        ("table", lambda: jm.Search.open(place).table),
        ("runs", lambda: jm.Search.open(place).runs),
        ("winner", lambda: jm.Search.open(place).winner),
        ("score", lambda: jm.Search.open(place).score),
        ("plan", lambda: jm.Search.open(place).plan),
        ("importance", lambda: jm.Search.open(place).importance),
        ("pictures", lambda: jm.Search.open(place).save_pictures()),
        ("repr", lambda: repr(jm.Search.open(place))),
        ("again", lambda: jm.Search.open(place).score_again),
    )
    while True:
        shutil.rmtree(arena.root / "searched")
        shutil.copytree(arena.root / "kept-search", arena.root / "searched")
        files = [
            place / "search.json",
            place / "plan.toml",
            place / "search.json",
            *sorted(p for p in place.rglob("*") if p.is_file()),
        ]
        file = chance.choice(files)
        if file.name == "search.json" and chance.random() < 0.5:  # as if it had been stopped
            output = json.loads(file.read_text())
            output.update(status="stopped", again={}, winner=None)
            output["candidates"][1].update(scores={}, until=0)
            _replace_one(chance, output)
            file.write_text(json.dumps(output))
        elif chance.random() < 0.9:
            file.write_bytes(_spoiled(chance, file.read_bytes(), file.name))
        else:
            file.unlink()
        label = file.relative_to(place).as_posix()
        if chance.random() < 0.4:
            look = chance.choice(SEARCH_LOOKS)
            arena.tried("searches", f"{label} {' '.join(map(str, look))}", lambda look=look: command(*look))
        else:
            name, work = chance.choice(calls_on_a_search)
            arena.tried("searches", f"{label} {name}", asked(work))
        yield


WORK = (
    ("train", "plan.toml", "--name", "case"),
    ("train", "plan.toml", "--name", "case", "--json"),
    ("resume", "runs/one", "--steps", 60),
    ("redo", "runs/one"),
    ("evaluate", "runs/one", "--episodes", 3),
    ("evaluate", "runs/one", "--episodes", 3, "--record", 2),
    ("evaluate", "runs/one", "--over", "rain=0.2,0.5", "--episodes", 2),
    ("compare", "runs", "--episodes", 3),
    ("report", "runs/one", "--no-replays"),
    ("report", "runs/one", "--to", "out.html"),
    ("replay", "runs/one", "--to", "out.png"),
    ("new", "lake.py"),
    ("tune", "search.toml", "--name", "case", "--workers", 1),
    ("check", "pond.py:Pond", "--steps", 100),
    ("runs",),
    ("gallery", "--json"),
)


def _prepared(arena, chance):
    """A command that writes, and the folder as it should find it."""
    restored(arena, "one", "two")
    (arena.root / "lake.py").unlink(missing_ok=True)
    return chance.choice(WORK)


def _swept(arena):
    for folder in (*arena.root.glob("runs/case*"), *arena.root.glob("runs/*again*")):
        shutil.rmtree(folder, ignore_errors=True)


def faults(arena, chance):
    """The system refuses: from some write on, or once, each way of changing files fails; then the same command runs
    without."""
    (arena.root / "search.toml").write_text(tomli_w.dumps(SEARCH))
    while True:
        words = _prepared(arena, chance)
        arena.fails = (chance.choice(ERRORS), chance.randrange(60), chance.random() < 0.5)
        label = (
            f"{' '.join(map(str, words))}, {errno.errorcode[arena.fails[0]]} at write "
            f"{arena.fails[1]}{' and later' if arena.fails[2] else ''}"
        )
        arena.tried("faults", label, lambda words=words: command(*words))
        arena.fails = None
        _swept(arena)
        yield


def signals(arena, chance):
    """A signal at a random moment of each command: one, or two one after another."""
    (arena.root / "search.toml").write_text(tomli_w.dumps(SEARCH))
    while True:
        words = _prepared(arena, chance)
        number, when = chance.choice((signal.SIGINT, signal.SIGTERM, signal.SIGHUP)), chance.random() ** 2 * 1.5
        second = chance.random() < 0.3 and number == signal.SIGINT
        label = (
            f"{' '.join(map(str, words))}, {signal.Signals(number).name} after {when:.3f} "
            f"s{', twice' if second else ''}"
        )
        arena.tried("signals", label, lambda words=words, n=number, w=when, s=second: _signalled(words, n, w, s))
        _swept(arena)
        yield


def _signalled(words, number, when, second):
    """A command, to which a thread sends a signal; only SIGINT has a meaning while nothing is saved at a stop."""
    import threading

    ended = threading.Event()

    def send():
        for wait in (when, 0.05) if second else (when,):
            if ended.wait(wait):
                return
            if number == signal.SIGINT or signal.getsignal(number) not in (signal.SIG_DFL, None):
                os.kill(os.getpid(), number)

    sender = threading.Thread(target=send, daemon=True)
    sender.start()
    try:
        return command(*words)
    except KeyboardInterrupt:  # before the command line took over, or after it
        return 130
    finally:
        ended.set()
        try:
            sender.join()
        except KeyboardInterrupt:
            sender.join()


METHODS = {
    "begin": "        return self.State(level=draw.uniform(6.0, 14.0))",
    "advance": "        return state.replace(level=self.xp.clip(level, 0.0, 20.0), let_in=let_in)",
    "comfort": "        return 1.0 - abs(after.level - 10.0) / 10.0",
    "dried_out": "        return after.level <= 0.0",
    "by_hand": "        return 1 if state.level < 10.0 else 0",
}
RETURNS = (
    "None",
    "'text'",
    "float('nan')",
    "float('inf')",
    "[1, 2]",
    "object()",
    "self",
    "-1",
    "10**30",
    "True",
    "1 / 0",
    "{}['x']",
    "undefined",
    "self.xp.zeros(3)",
    "self.xp.zeros((2, 2))",
    "lambda: 0",
    "(1, 2)",
    "b'x'",
    "[][1]",
    "int('x')",
    "self.State",
    "self.State()",
    "self.State(level='x')",
    "1j",
)
EXTRAS = (
    "    @jm.sensor(low=0.0, high=1.0)\n    def gauge(self, state):\n        return {}\n",
    "    @jm.cut\n    def late(self, after):\n        return {}\n",
    "    @jm.measure\n    def spill(self, after):\n        return {}\n",
    "    def legal(self, state):\n        return {}\n",
    "    def picture(self, axes, state):\n        return {}\n",
    "    def decide_when(self, state):\n        return {}\n",
    "    @jm.derived\n    def table(self):\n        return {}\n",
    "    @jm.sensor(image=True, shape=(4, 4, 1))\n    def eye(self, state):\n        return {}\n",
)
USES = (
    ("check", "case.py:Pond", "--steps", 60),
    ("train", "case.toml", "--name", "case"),
    ("train", "case.toml", "--name", "case", "--set", "training.lane=compiled"),
    ("check", "case.py:Pond", "--show", 3),
    ("train", "case.toml", "--name", "case", "--set", "agent.use=PPO", "--set", "agent.horizon=8"),
)


def code(arena, chance):
    """Environments that fail, or give a wrong value, in one of their methods."""
    plan = json.loads(json.dumps(PLAN))
    plan["environment"]["use"] = "case.py:Pond"
    plan["agent"] = {"use": "QLearning"}
    plan["training"] = {"steps": 60}
    (arena.root / "case.toml").write_text(tomli_w.dumps(plan))
    while True:
        text, wrong = POND, chance.choice(RETURNS)
        if chance.random() < 0.6:
            place = chance.choice(list(METHODS))
            text = text.replace(METHODS[place], f"        return {wrong}")
        else:
            extra = chance.choice(EXTRAS)
            place = extra.split("def ")[1].split("(")[0]
            text += "\n" + extra.format(wrong)
        if chance.random() < 0.1:
            text = text.replace(
                chance.choice((":", "return", "self", "jm.", "0.0")), chance.choice(("", "?", "lambda")), 1
            )
        (arena.root / "case.toml").write_text(tomli_w.dumps(plan))
        (arena.root / "case.py").write_text(text)
        use = chance.choice(USES)
        arena.tried("code", f"{place} gives {wrong}: {' '.join(map(str, use))}", lambda use=use: command(*use))
        for folder in arena.root.glob("runs/case*"):
            shutil.rmtree(folder, ignore_errors=True)
        for name in [n for n in sys.modules if n.startswith("jokulmist_user_case")]:
            del sys.modules[name]
        yield


def calls(arena, chance):
    """The public functions, given the wrong things."""
    import jokulmist as jm

    env = jm.gallery.Ferry()
    run = jm.train(env, jm.QLearning(bins=4), steps=300, lane="plain", folder=None)
    things = [
        env,
        jm.gallery.Ferry,
        run,
        run.policy,
        jm.QLearning(),
        jm.QLearning,
        "runs/one",
        Path("runs/one"),
        Path("nowhere"),
        "random",
        ("position", "speed"),
        [],
        {},
        None,
        *VALUES,
    ]
    functions = {
        "evaluate": lambda a: jm.evaluate(a[0], a[1], episodes=a[2] if chance.random() < 0.3 else 2),
        "plot": lambda a: jm.plot(a[0], over=a[1] if chance.random() < 0.5 else "steps"),
        "train": lambda a: jm.train(a[0], a[1], steps=50, folder=None, lane="plain"),
        "compare": lambda a: jm.compare(a[0]),
        "trace": lambda a: jm.tabulate_steps(a[0], 2, policy=a[1]),
        "check": lambda a: jm.check(a[0], steps=a[1] if chance.random() < 0.3 else 50, speed=False),
        "Run.open": lambda a: jm.Run.open(a[0]),
        "Policy.open": lambda a: jm.Policy.open(a[0]),
        "choose": lambda a: run.policy.choose(a[0]),
        "Stack": lambda a: env.modified(jm.modifiers.Stack(a[0])),
        "Noisy": lambda a: env.modified(jm.modifiers.ObservationNoise(a[0], a[1])),
        "Choice": lambda a: jm.Choice(a[0]),
        "Range": lambda a: jm.Range(a[0], a[1]),
        "parameter": lambda a: jm.gallery.Ferry(tide=a[0]),
        "weights": lambda a: jm.gallery.Ferry(weights=a[0]),
        "episode": lambda a: env.episode(a[0]).act(a[1]),
        "Dense": lambda a: jm.Dense(a[0]),
        "linear": lambda a: jm.linear(a[0], a[1], over=a[2]),
        "Levels": lambda a: jm.Levels(a[0], a[1], above=a[2]),
        "resume": lambda a: jm.resume(a[0], steps=100 if isinstance(a[1], int) and a[1] > 10_000 else a[1]),
        "plot_policy": lambda a: jm.pictures.plot_policy(a[0], a[1], a[2]),
        "trust": lambda a: jm.trust(a[0]),
        "vary": lambda a: jm.train(env, jm.QLearning(bins=2), steps=20, vary=a[0], folder=None, lane="plain"),
        "tune": lambda a: jm.tune(
            env, jm.QLearning(bins=2), over=a[0], steps=20, candidates=1, again=0, workers=1, folder="tuned"
        ),
        "ledger": lambda a: jm.ledger(a[0]),
        "save_pictures": lambda a: jm.pictures.save_pictures(a[0]),
        "evaluate_references": lambda a: jm.evaluate_references(a[0], episodes=2),
        "read_rollouts": lambda a: jm.read_rollouts(a[0]),
        "steps": lambda a: (
            jm.train(env, jm.QLearning(bins=2), steps=a[0], copies=a[1], folder=None, lane="plain")
            if not _large(a[0])
            else None
        ),
    }
    while True:
        if not (arena.root / "runs" / "one" / "origin.json").exists():
            restored(arena, "one", "two")
        name = chance.choice(list(functions))
        given = [chance.choice(things) for _ in range(3)]
        arena.tried(
            "calls",
            f"{name}({', '.join(f'{g!r:.50}' for g in given)})",
            asked(lambda name=name, given=given: functions[name](given)),
        )
        shutil.rmtree(arena.root / "tuned", ignore_errors=True)
        _closed()
        yield


def _large(value):
    return isinstance(value, (int, float)) and abs(value) > 10**6


def _closed():
    if "matplotlib.pyplot" in sys.modules:
        sys.modules["matplotlib.pyplot"].close("all")


os.environ.setdefault("MPLBACKEND", "Agg")
