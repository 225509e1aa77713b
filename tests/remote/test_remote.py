"""Environments at the other end of a wire: against the same in this process, through faults, in other languages."""

import contextlib
import json
import os
import re
import shutil
import socket
import subprocess
import sys
import threading
import time
from dataclasses import replace
from pathlib import Path
from typing import ClassVar

import numpy as np
import pytest
from canon import fresh_policy
from commands import jokulmist
from places import Corridor
from websockets.sync.client import connect

import jokulmist as jm
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.spaces.player_actions import from_described
from jokulmist.errors import BrokenEnvironment, DeclarationError, SettingError, UntrustedCode
from jokulmist.lanes.processes.lane import Lost
from jokulmist.plans.progress import SilentDisplay
from jokulmist.plans.sources import remote_written
from jokulmist.remote import link
from jokulmist.remote.transport import Door, Wire
from jokulmist.running.redo import redo
from jokulmist.running.runs.scenes import played_scene
from jokulmist.running.session.resume import resume_run

HERE = Path(__file__).parent
PROGRAM = [sys.executable, str(HERE / "float_program.py")]
ROOT = HERE.parents[1]
WAITING = ["sh", "-c", 'sleep 1; exec "$@"', "sh"]  # until somebody listens


class Raft(jm.Simulator):
    """What tests/remote/float_program.py is."""

    observation: ClassVar = {"depth": jm.channel(low=-3.0, high=3.0)}
    action = jm.Choice("down", "up")
    terms: ClassVar = {"calm": 1.0}
    endings = ("sunk",)
    measures: ClassVar = {"moves": "sum"}
    time_limit = 20
    lift: float = jm.parameter(0.1, low=0.0, high=1.0)

    def begin(self, seed):
        self.depth = (seed % 100) / 50 - 1
        return {"depth": self.depth}

    def advance(self, action):
        self.depth += self.lift if action == 1 else -self.lift
        return jm.Outcome(
            {"depth": self.depth},
            terms={"calm": -abs(self.depth)},
            measures={"moves": 1.0},
            closed_by="sunk" if self.depth < -2 else None,
        )


class SlowRaft(Raft):
    decide_every = 3


@pytest.fixture(scope="module")
def raft():
    return jm.Remote(command=PROGRAM)


def trained(env, **more):
    settings = {"steps": 800, "copies": 4, "folder": None, "lane": "plain", **more}
    return jm.train(env, jm.QLearning(bins=10), **settings)


@pytest.mark.slow
def test_it_is_what_it_is_in_this_process(raft, tmp_path):
    first = trained(Raft(), processes=True)
    second = trained(raft)
    assert second.episodes.equals(first.episodes)
    np.testing.assert_array_equal(second.policy.learner.values, first.policy.learner.values)
    away = jm.Remote(command=["env", 'CHANGED={"decide_every": 3}', *PROGRAM])
    assert trained(away).episodes.equals(trained(SlowRaft(), processes=True).episodes)
    vary = {"lift": jm.between(0.05, 0.3)}
    assert trained(raft, vary=vary).episodes.equals(trained(Raft(), vary=vary, processes=True).episodes)
    assert jm.evaluate(second.policy, raft, episodes=12).mean == jm.evaluate(first.policy, Raft(), episodes=12).mean
    assert not [f for f in jm.check(raft, steps=200).findings if f.level == "error"]
    stored = trained(raft, folder=tmp_path, name="raft")
    assert redo(stored.path, folder=tmp_path).same
    opened = jm.Run.open(stored.path)
    assert opened.environment.described == raft.described
    assert (
        json.loads(
            jokulmist(
                "runs",
                "--json",
                folder=tmp_path,
            ).stdout
        )
        == []
    )
    assert [row["environment"] for row in json.loads(jokulmist("runs", "--folder", tmp_path, "--json").stdout)] == [
        "raft"
    ] * 2


def test_what_a_run_keeps_opens_it_without_the_program_and_is_asked_about_elsewhere(raft, tmp_path, monkeypatch):
    run = trained(raft, folder=tmp_path, name="raft", steps=200)
    text = (run.path / "plan.toml").read_text()
    stored = shutil.copytree(run.path, tmp_path / "kept")
    assert len(jm.Run.open(stored).episodes) == len(run.episodes)
    for name in ("plan.toml", "source/remote.json"):
        (stored / name).write_text((stored / name).read_text().replace(sys.executable, "/bin/false"))
    assert len(jm.Run.open(stored).episodes) == len(run.episodes)  # reading starts nothing
    with pytest.raises(UntrustedCode, match=r"holds code \(remote.json\) that was not trained"):
        jm.Run.open(stored).environment  # noqa: B018
    jm.trust(stored)
    assert jm.Run.open(stored).environment.described == raft.described  # and the program is not there
    with pytest.raises(BrokenEnvironment, match=r"could not be reached: it ended with status 1"):
        jm.evaluate("random", jm.Run.open(stored).environment, episodes=1)
    (run.path / "plan.toml").write_text(text.replace(sys.executable, "/bin/true"))
    with pytest.raises(UntrustedCode, match="names another program than the run keeps"):
        jm.Run.open(run.path).environment  # noqa: B018


def test_players_images_turns_and_pictures():
    net = jm.Remote(command=[*PROGRAM, "net"])
    episode = net.episode(seed=1)
    assert (episode.deciding, episode.legal["north"]) == (("north",), ["slack"])
    assert episode.observation["north"].sight.reshape(-1).tolist() == list(range(6))
    np.testing.assert_array_equal(episode.observation["south"].pull, np.float32([0.5, -0.5]))
    episode.act("slack")
    assert (episode.deciding, episode.returns) == (("south",), {"north": -0.5, "south": 0.0})
    episode.act(0.25)
    assert episode.returns["south"] == 0.25
    assert episode.environment is net
    run = jm.train(net, {"north": jm.RandomPlay(), "south": jm.RandomPlay()}, steps=40, copies=2, folder=None)
    assert set(run.episodes["closed_by"]) == {"landed"}
    assert (run.episodes["north.fuel"] == 4.0).all()


@pytest.mark.parametrize(
    ("kind", "told"),
    [
        ("dies", "closed while `advance` was waited for"),
        ("hangs", "was not answered within 1 s"),
        ("late", "was not answered within 1 s"),
        ("garbage", "what is no JSON"),
        ("binary", "by a binary frame"),
        ("out_of_order", "out of order"),
        ("raises", "failed in the program: the mast broke"),
        ("wrong_shape", "the shape"),
        ("no_number", "what is no JSON"),
        ("null_number", "not finite"),
        ("unknown_ending", "'flown' closed an episode"),
        ("huge", "closed while"),
        ("cut", "closed while"),
        ("gigabyte", "closed while"),
        ("garbage_frame", "closed while"),
    ],
)
def test_a_fault_loses_the_episodes_under_way_and_training_goes_on(kind, told, tmp_path):
    seen = tmp_path / "seen"
    env = jm.Remote(
        command=["env", f"FAULT={kind}:20", f"SEEN={seen}", *PROGRAM],
        answer_within=1.0 if "within" in told else 20.0,  # a program on a busy machine may take a second
        patience=30.0,
        most_lost=1.0,
    )
    run = trained(env, steps=240)
    assert seen.exists()
    assert run.status == "done"
    lost = [line for line in run._memory.lines if "episodes lost so far" in line]
    assert told in lost[-1], lost
    assert "\x1b" not in lost[-1]
    rows = run.episodes
    assert set(rows["closed_by"]) <= {"sunk", "time limit", "lost"}
    assert (rows["closed_by"] == "lost").sum() == 4  # one each arena, and none twice
    complete = rows[rows["closed_by"] != "lost"]
    assert (complete["moves"] == complete["steps"]).all()
    assert len(complete) >= 8


def test_messages_in_pieces_pings_and_those_who_come_and_speak_something_else():
    """A message may come in frames, pings between them are answered, and whoever speaks no WebSocket is sent away."""
    door, got = Door("127.0.0.1", 0), {}

    def comes():
        with socket.create_connection(("127.0.0.1", door.port)) as wrong:
            wrong.sendall(b"GIVE ME A KEY\r\n\r\n")
            got["wrong"] = wrong.recv(1000)
        with connect(f"ws://127.0.0.1:{door.port}", proxy=None) as right:
            pong = right.ping()
            right.send(["fir", "st ", "\N{SNOWFLAKE}"])
            got["pong"] = pong.wait(5.0)
            got["asked"] = right.recv()
            right.send(b"\x00\x01")

    caller = threading.Thread(target=comes)
    caller.start()
    assert door.next(5.0, 1000) is None
    wire = door.next(5.0, 1000)
    assert wire.receive(5.0, "hello") == "first \N{SNOWFLAKE}"
    wire.send("next", 5.0)
    assert wire.receive(5.0, "image") == b"\x00\x01"
    with pytest.raises(Lost, match="closed"):
        wire.receive(5.0, "more")
    caller.join()
    wire.close()
    door.close()
    assert (got["pong"], got["asked"]) == (True, "next")
    assert b"101" not in got["wrong"]


def test_what_cannot_be_reached_or_declared_is_told():
    for arguments, expected in (
        ({}, "say how the program is reached"),
        ({"address": "ws://127.0.0.1:9", "patience": 0.3}, "could not be reached within 0.3 s"),
        ({"command": ["/nowhere/program"]}, "cannot be started"),
        ({"command": ["/bin/false"]}, "ended with status 1 before it connected"),
        ({"command": "node game.js"}, "is a list of words"),
        ({"listen": 0}, "is a port"),
        ({"address": "ws://127.0.0.1:99999999"}, "begins with ws://"),
        ({"address": "ws://[::1"}, "begins with ws://"),
        ({"listen": 9000, "patience": -1}, "above 0"),
    ):
        with pytest.raises((SettingError, BrokenEnvironment), match=expected):
            jm.Remote(**arguments)
    for change, expected in (
        ({"protocol": 7}, "speaks protocol 7, and this library 1"),
        ({"terms": {"calm": "high"}}, "must be a finite number"),
        ({"action": {"kind": "dance"}}, "declares what cannot be"),
        ({"observation": {}}, "shows the agent nothing"),
        ({"name": "a b"}, "a name is one word"),
        ({"lights": 3}, "describes itself by `lights`"),
        ({"says": ["boo"]}, "it is a list of `legal`, `turn`, `out`"),
        ({"observation": {"depth": {"shape": [1000000000]}}}, "1e\\+09 values; at most"),
        ({"observation": {f"d{k}": {"low": 0, "high": 1} for k in range(2_000)}}, "shows 2,00. channels"),
        ({"players": [f"p{k}" for k in range(1_000)]}, "has 1,000 players"),
        ({"parameters": {"__init__": {"value": 1.0}}}, "is named '__init__'"),
        ({"parameters": {"program": {"value": 1.0}}}, "is named 'program'"),
        ({"observation": {"depth": {"low": -3, "high": 3, "unit": "m\x1b[31m"}}}, "printable characters"),
    ):
        with pytest.raises((DeclarationError, BrokenEnvironment), match=expected):
            jm.Remote(command=["env", f"CHANGED={json.dumps(change)}", *PROGRAM])


def test_parts_of_an_action_are_read_as_the_page_of_the_protocol_says():
    push = {"kind": "range", "low": -1.0, "high": 1.0}
    result = from_described({"kind": "parts", "parts": {"push": push, "valve": {"kind": "choice", "labels": 2}}})
    assert result == jm.Actions(push=jm.Range(-1.0, 1.0), valve=jm.Choice(2))


@pytest.mark.parametrize("kind", ["ping", "pong", "fragment"])
def test_bytes_that_are_no_answer_do_not_put_off_the_deadline(kind):
    from websockets.frames import Frame, Opcode
    from websockets.protocol import State
    from websockets.server import ServerProtocol

    frame = {
        "ping": Frame(Opcode.PING, b""),
        "pong": Frame(Opcode.PONG, b"x"),
        "fragment": Frame(Opcode.CONT, b"", fin=False),
    }[kind]
    first, second = socket.socketpair()
    wire = Wire.__new__(Wire)
    wire.__dict__.update(_socket=first, _protocol=ServerProtocol(state=State.OPEN), _messages=[], _parts=[], _text=True)

    def flood():
        with contextlib.suppress(OSError):
            if kind == "fragment":
                second.sendall(Frame(Opcode.TEXT, b"{", fin=False).serialize(mask=True))
            for _ in range(200):
                second.sendall(frame.serialize(mask=True) * 5)
                time.sleep(0.01)
        second.close()

    thread = threading.Thread(target=flood)
    thread.start()
    with pytest.raises(Lost, match=r"was not answered within 0.2 s|read nothing for 0.2 s"):
        wire.receive(0.2, "advance")
    first.close()
    thread.join()


@pytest.mark.slow
def test_a_program_that_listens_is_called_and_one_that_comes_is_let_in_by_its_secret(monkeypatch, tmp_path):
    monkeypatch.setenv("JOKULMIST_SECRET", "herring")
    port = 20_000 + os.getpid() % 20_000
    program = subprocess.Popen([*PROGRAM, "raft", str(port)])
    try:
        env = jm.Remote(f"ws://127.0.0.1:{port}", patience=20.0)
        run = trained(
            env, evaluate_every=400, evaluate_episodes=4, steps=400, folder=tmp_path
        )  # a second connection evaluates
        assert len(run.evaluated) == 4
        with pytest.raises(BrokenEnvironment, match="another secret is asked for"):
            jm.Remote(f"ws://127.0.0.1:{port}", secret="cod")
        came = subprocess.Popen(
            [*WAITING, *PROGRAM], env={**os.environ, "JOKULMIST_ADDRESS": f"ws://127.0.0.1:{port + 1}"}
        )
        four = jm.Remote(listen=port + 1, patience=20.0)
        with pytest.raises(SettingError, match="4 arenas"):
            trained(four, copies=5)
        came.kill()
        thief = subprocess.Popen(
            [*WAITING, *PROGRAM],
            env={**os.environ, "JOKULMIST_ADDRESS": f"ws://127.0.0.1:{port + 2}", "JOKULMIST_SECRET": "cod"},
        )
        with pytest.raises(BrokenEnvironment, match="did not tell the secret"):
            jm.Remote(listen=port + 2, patience=20.0)
        thief.kill()
    finally:
        program.kill()


@pytest.mark.slow
@pytest.mark.skipif(shutil.which("node") is None, reason="Node is not installed")
def test_the_game_in_node_and_the_weir_in_c_are_trained_on(tmp_path):
    punt = jm.Remote(command=["node", str(ROOT / "examples" / "punt" / "node.mjs")])
    run = jm.train(
        punt,
        jm.QLearning(bins=3),
        steps=640,
        copies=8,
        episodes=None,
        folder=None,
        vary={"stream": jm.between(0.5, 0.8)},
    )
    assert run.status == "done"
    repeated = jm.train(
        punt, jm.QLearning(bins=3), steps=640, copies=8, folder=None, vary={"stream": jm.between(0.5, 0.8)}
    )
    assert repeated.episodes.equals(run.episodes)
    weir = tmp_path / "weir"
    strict = ["-Wall", "-Wextra", "-Werror", "-pedantic", "-std=c99", "-D_POSIX_C_SOURCE=200809L"]
    subprocess.run(["cc", *strict, "-O1", "-o", weir, ROOT / "examples" / "weir" / "weir.c", "-lm"], check=True)
    pond = jm.Remote(command=[str(weir)])
    run = jm.train(pond, jm.QLearning(bins=8), steps=6_000, copies=16, folder=None)
    assert jm.evaluate(run, pond, episodes=20).mean > jm.evaluate("random", pond, episodes=20).mean + 10.0


STICKS = r"""
#define ARENAS_IMPLEMENTATION
#include "arenas.h"
#include <string.h>

/* Nine sticks on three heaps of three; whoever takes the last wins. */
typedef struct { double heaps[3]; int who; } game;

static void begin(void *arena, uint32_t seed, const double *parameters, double *seen) {
    game *one = arena;
    (void)parameters;
    for (int k = 0; k < 3; k++) one->heaps[k] = 3;
    one->who = (int)(seed % 2);
    memcpy(seen, one->heaps, sizeof one->heaps);
    seen[3] = seen[4] = one->who;
}

static int advance(void *arena, const double *action, double *seen, double *terms) {
    game *one = arena;
    int chosen = (int)action[one->who];
    one->heaps[chosen / 3] -= chosen % 3 + 1;
    int over = one->heaps[0] + one->heaps[1] + one->heaps[2] == 0;
    terms[one->who] = over;
    terms[1 - one->who] = -over;
    one->who = 1 - one->who;
    memcpy(seen, one->heaps, sizeof one->heaps);
    seen[3] = seen[4] = one->who;
    return over;
}

static void legal(const void *arena, unsigned char *allowed) {
    const game *one = arena;
    for (int player = 0; player < 2; player++)
        for (int k = 0; k < 9; k++) allowed[9 * player + k] = player != one->who || k % 3 + 1 <= one->heaps[k / 3];
}

static int turn(const void *arena) { return ((const game *)arena)->who; }

int main(void) {
    static const char *const seen[] = {"heaps[3]", "north.who", "south.who", NULL}, *const terms[] = {"north.won", "south.won", NULL};
    static const char *const parts[] = {"north", "south", NULL}, *const choices[] = {"north[9]", "south[9]", NULL}, *const closings[] = {"empty", NULL};
    static game games[4];
    return arenas_serve(&(arenas_program){
        .described = "\"name\":\"Sticks\",\"players\":[\"north\",\"south\"],\"says\":[\"turn\",\"legal\"],\"time_limit\":20,\"endings\":[\"empty\"],"
                     "\"observation\":{\"heaps\":{\"low\":0,\"high\":3,\"shape\":[3]},\"north\":{\"who\":{\"low\":0,\"high\":1}},\"south\":{\"who\":{\"low\":0,\"high\":1}}},"
                     "\"action\":{\"north\":{\"kind\":\"choice\",\"labels\":9},\"south\":{\"kind\":\"choice\",\"labels\":9}},"
                     "\"terms\":{\"north\":{\"won\":1},\"south\":{\"won\":1}}",
        .seen_names = seen, .term_names = terms, .part_names = parts, .closings = closings, .count = 4, .arenas = games, .size = sizeof(game),
        .begin = begin, .advance = advance, .legal_names = choices, .legal = legal, .turn = turn,
    });
}
"""


@pytest.mark.slow
def test_a_game_of_two_in_c_says_whose_turn_it_is_and_what_may_be_done(tmp_path):
    (tmp_path / "sticks.c").write_text(STICKS)
    strict = ["-Wall", "-Wextra", "-Werror", "-pedantic", "-std=c99", "-D_POSIX_C_SOURCE=200809L"]
    kit = f"-I{ROOT / 'clients' / 'c'}"
    subprocess.run(["cc", *strict, kit, "-o", "sticks", "sticks.c", "-lm"], cwd=tmp_path, check=True)
    sticks = jm.Remote(command=[str(tmp_path / "sticks")])
    episode = sticks.episode(seed=1)
    assert (episode.deciding, episode.observation["south"]["heaps"].tolist()) == (("south",), [3.0, 3.0, 3.0])
    episode.act({"north": 0, "south": 2})  # the first heap is empty now
    assert (episode.deciding, episode.legal["north"]) == (("north",), list("345678"))
    for _ in range(2):
        episode.act({"north": 5, "south": 8})
    assert (episode.closed_by, dict(episode.terms)) == (
        "empty",
        {"north.won": -0.5, "south.won": 0.5},
    )  # of the mean of both
    run = jm.train(sticks, jm.QLearning(bins=4), steps=2_000, copies=4, folder=None)
    won = run.episodes[["north.won", "south.won"]]
    assert len(won) > 100
    assert (won.abs() == 1.0).all(axis=None)
    assert (won.sum(axis=1) == 0.0).all()


@pytest.mark.slow
@pytest.mark.skipif(shutil.which("node") is None, reason="Node is not installed")
def test_a_game_that_steps_by_its_own_frames_answers_by_promises(tmp_path):
    """Its arenas advance side by side: each waits for all four, and nobody would come if they went one by one."""
    (tmp_path / "drift.mjs").write_text(
        f"""import {{ serve }} from {str(ROOT / "clients" / "javascript" / "arenas.js")!r};
let waiting = [];
class Drift {{
  begin(seed) {{ this.at = seed % 7; return new Promise(done => setTimeout(() => done({{ observation: {{ at: this.at }} }}), 1)); }}
  async advance(action) {{
    await new Promise(done => {{ waiting.push(done); if (waiting.length === 4) waiting.splice(0).forEach(go => go()); }});
    this.at += action;
    return {{ observation: {{ at: this.at }}, terms: {{ moved: action }} }};
  }}
}}
await serve({{ name: "Drift", observation: {{ at: {{ low: 0, high: 20 }} }}, action: {{ kind: "choice", labels: ["stay", "go"] }}, terms: {{ moved: 1 }}, time_limit: 5 }},
  () => new Drift(), {{ arenas: 4 }});
"""
    )
    drift = jm.Remote(command=["node", str(tmp_path / "drift.mjs")], answer_within=20.0)
    run = jm.train(drift, jm.QLearning(bins=4), steps=400, copies=4, folder=None)
    assert run.status == "done"
    assert (run.episodes["closed_by"] == "time limit").all()
    assert set(run.episodes["return"]) > {5.0}


@pytest.mark.slow
def test_importing_the_library_loads_no_connection():
    code = "import sys, jokulmist as jm, jokulmist.running.train\nprint('websockets' in sys.modules)"
    assert (
        subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.strip()
        == "False"
    )


def test_the_messages_of_the_protocol_page_are_what_is_spoken():
    from jokulmist.remote.messages import MomentReader, request, result_of

    page = (ROOT / "docs" / "protocol.md").read_text()
    spoken = [
        json.loads(text)
        for text in re.findall(r"```json\n(.*?)```", page, re.DOTALL)
        if text.startswith('{"jsonrpc": "2.0", "id": 1')
    ]
    pairs = [
        re.findall(r'^{"jsonrpc".*}$', text, re.MULTILINE) for text in re.findall(r"```json\n(.*?)```", page, re.DOTALL)
    ]
    hello, described = spoken
    assert request(1, "hello", hello["params"]) == json.dumps(hello, separators=(",", ":"))
    reply = {name: value for name, value in described["result"].items() if name != "secret"}
    raft = jm.Remote(command=["nobody"], described=reply)
    reader = MomentReader(raft)
    for options, answer in [pair for pair in pairs if len(pair) == 2]:
        number, method = json.loads(options)["id"], json.loads(options)["method"]
        states = reader.states(result_of(number, method, answer), 2, {}, method)
        assert [len(state.row) for state in states] == [1, 1]
    from jokulmist.remote.environment import KNOWN_FIELDS

    for name in KNOWN_FIELDS:
        assert f"`{name}`" in page


def test_the_order_of_channels_is_kept_with_a_run():
    """It is the order of a network's inputs; sorted by name, a policy would be given other numbers."""
    output = {
        "name": "Crane",
        "observation": {"x": {"low": -1, "high": 1}, "angle": {"low": -1, "high": 1}},
        "action": {"kind": "choice", "labels": ["a", "b"]},
        "terms": {"on": 1.0},
    }
    crane = jm.Remote("ws://127.0.0.1:9", described=output)
    repeated = jm.Remote(**remote_written(crane))
    caller = jm.Remote(
        "ws://127.0.0.1:9", described={**output, "observation": dict(reversed(output["observation"].items()))}
    )
    assert (
        [c.name for c in describe(repeated).spec.channels]
        == [c.name for c in describe(crane).spec.channels]
        == ["x", "angle"]
    )
    with pytest.raises(SettingError, match="The order counts: it is that of the network's inputs"):
        fresh_policy(jm.PPO(network=jm.Dense(4)), crane).fits(caller)


def test_what_another_order_learned_is_neither_gone_on_with_nor_begun_with(tmp_path):
    class Sway(Corridor):
        class State(jm.State):
            cell: int = jm.seen(low=0, values="length")
            side: int = jm.seen(low=0, high=4)

        def begin(self, draw):
            return self.State(cell=2, side=0)

    class Turned(Sway):
        class State(jm.State):
            side: int = jm.seen(low=0, high=4)
            cell: int = jm.seen(low=0, values="length")

    run = jm.train(Sway(), jm.PPO(network=jm.Dense(4), horizon=8), steps=32, copies=2, folder=tmp_path, lane="plain")
    with pytest.raises(SettingError, match="The order counts"):
        jm.train(Turned(), run.plan.agent, steps=32, copies=2, folder=None, start=run.path)
    plan = replace(run.plan, environment=Turned())
    with pytest.raises(SettingError, match="The order counts"):
        resume_run(run.path, dict(run.origin), plan, SilentDisplay(), [])


def test_a_program_that_was_started_ends_soon_after_its_last_user_and_is_started_again(monkeypatch):
    monkeypatch.setattr(link, "IDLE_SECONDS", 0.1)
    env = jm.Remote(command=[*PROGRAM, "again"])  # of its own, whoever else uses that program
    first = jm.evaluate("random", env, episodes=2)
    for _ in range(100):
        if not env.program.links:
            break
        time.sleep(0.1)
    assert env.program.links == []
    assert jm.evaluate("random", env, episodes=2).returns.tolist() == first.returns.tolist()


def test_an_episode_without_pictures_is_replayed_by_its_numbers(raft, tmp_path):
    scene = played_scene("random", raft, 1, "by chance")
    assert scene.images == []
    assert jm.pictures.save_replay([scene], raft, tmp_path / "strip.png").stat().st_size > 1_000
