"""Policies behind a port: what they decide, what is refused, and how it ends; each through a server in a process of its
own."""

import json
import os
import re
import signal
import subprocess
import sys
import urllib.error
import urllib.request

import numpy as np
import pytest

import jokulmist as jm
from jokulmist.errors import SettingError

QUICK = {"steps": 300, "lane": "plain"}


@pytest.fixture(scope="module")
def served(tmp_path_factory):
    """Two runs, and the address at which `jokulmist serve` has them."""
    folder = tmp_path_factory.mktemp("served")
    runs = [
        jm.train(jm.gallery.Ferry(), jm.QLearning(bins=4), folder=folder, name="ferry", **QUICK),
        jm.train(
            jm.gallery.Skerry(),
            jm.PPO(horizon=8, network=jm.Dense(8)),
            folder=folder,
            name="skerry",
            steps=64,
            lane="plain",
        ),
    ]
    process, address = started(*[run.path for run in runs])
    yield runs, address
    process.send_signal(signal.SIGINT)
    assert process.wait(30) in (0, 130)
    assert "Traceback" not in process.stderr.read()


def started(*words):
    process = subprocess.Popen(
        [sys.executable, "-m", "jokulmist", "serve", *map(str, words), "--port", "0"],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        env={**os.environ, "PYTHONUNBUFFERED": "1"},
    )
    lines = []
    for line in process.stdout:
        lines.append(line)
        result = re.search(r"http://[^/]+:(\d+)/decide", line)
        if result:
            process.token = (re.findall(r"a token: (\S+)", "".join(lines)) or [None])[0]
            return process, f"127.0.0.1:{result.group(1)}"
    raise AssertionError(process.stderr.read())


def asked(address, body, path="/decide", method="POST", **headers):
    data = body if isinstance(body, bytes) or body is None else json.dumps(body).encode()
    request = urllib.request.Request(
        f"http://{address}{path}", data=data, method=method, headers={"Content-Type": "application/json", **headers}
    )
    try:
        with urllib.request.urlopen(request, timeout=60) as answer:
            return answer.status, json.load(answer)
    except urllib.error.HTTPError as failure:
        text = failure.read().decode()
        return failure.code, json.loads(text) if text.startswith("{") else text


@pytest.mark.slow
def test_it_decides_as_the_policy_does(served):
    (ferry, skerry), address = served
    draw = np.random.default_rng(1)
    channels = ferry.policy.spec.numbers
    rows = [{c.name: float(draw.uniform(c.low, c.high)) for c in channels} for _ in range(100)]
    status, output = asked(address, {"observations": rows})
    labels = jm.gallery.Ferry().action.labels
    values = [list(ferry.policy.values(row).values()) for row in rows]
    assert status == 200
    assert all(v[labels.index(action)] == max(v) for v, action in zip(values, output["actions"], strict=True))
    assert asked(address, {"observation": rows[0]}) == (200, {"action": output["actions"][0]})
    episode = jm.gallery.Skerry().episode(seed=3)
    for _ in range(10):
        seen = seen_in(episode)
        _, output = asked(address, {"policy": "skerry", "observation": seen, "legal": list(episode.legal)})
        greedy = skerry.policy.choose(episode.observation, legal=episode.legal)
        assert output["action"] == episode.environment.action.labels[greedy]
        episode.act(output["action"])
    described = asked(address, None, "/openapi.json", "GET")[1]
    assert described["openapi"] == "3.1.0"
    assert set(described["components"]["schemas"]) == {"ferry", "skerry"}
    assert asked(address, None, "/", "GET")[1]["policies"]["ferry"]["channels"][0]["name"] == channels[0].name


@pytest.mark.parametrize(
    ("body", "status", "told"),
    [
        (b"{", 400, "no JSON"),
        (b"[" * 100_000, 400, "no JSON"),
        ([], 400, "a request is an object"),
        ({}, 400, "give `observation`, or `observations`"),
        ({"observation": 3}, 400, "an observation is an object with"),
        ({"observation": {"positon": 1}}, 400, "has no `positon`.*Did you mean `position`"),
        ({"observation": {}}, 400, "lacks"),
        ({"policy": "fery", "observation": {}}, 404, "Did you mean `ferry`"),
        ({"observations": []}, 400, "a list of 1 to"),
        ({"observation": {}, "greedy": 1}, 400, "has no `greedy`"),
        ({"policy": {}, "observation": {}}, 404, "there is no policy"),
    ],
)
def test_what_is_asked_wrongly_is_told(served, body, status, told):
    result = asked(served[1], body)
    assert result[0] == status
    assert re.search(told, result[1]["error"])


def test_values_that_are_none_are_told(served):
    names = list(served[0][0].policy.spec.slices)
    for value, output in (
        ("x", "must be a number"),
        ([1.0], "has the shape"),
        (None, "not finite|must be a number"),
        (1e400, "not finite"),
        ({}, "must be a number"),
    ):
        body = json.dumps({"observation": {**dict.fromkeys(names, 0.0), names[0]: value}}).encode()
        status, answer = asked(served[1], body)
        assert (status, bool(re.search(output, answer["error"]))) == (400, True), answer
    assert asked(served[1], {"observation": dict.fromkeys(names, 0.0), "legal": ["north"]})[0] == 400
    assert asked(served[1], b"x" * (17 << 20))[0] == 413
    assert asked(served[1], None, "/nowhere", "GET")[0] == 404
    assert asked(served[1], None, "/decide", "GET")[0] == 405
    assert asked(served[1], {"observation": {}}, Host="evil.example")[0] == 403  # a name made to mean this machine
    for origin in ("http://evil.example", "http://127.0.0.1:1", "null"):
        status, answer = asked(served[1], {"observation": dict.fromkeys(names, 0.0)}, Origin=origin)
        assert (status, "was started without `--token`" in answer["error"]) == (403, True)
    assert asked(served[1], {"policy": "\ud800", "observation": {}})[0] == 404


def test_the_same_over_a_websocket(served):
    from websockets.sync.client import connect

    (ferry, _), address = served
    row = {c.name: 0.5 * (c.low + c.high) for c in ferry.policy.spec.numbers}
    with connect(f"ws://{address}/talk", proxy=None) as socket:

        def call(text):
            socket.send(text if isinstance(text, str) else json.dumps(text))
            return json.loads(socket.recv(timeout=30))

        asked_for = {"jsonrpc": "2.0", "id": 7, "method": "decide", "params": {"observation": row}}
        output = call(asked_for)
        assert output == {
            "jsonrpc": "2.0",
            "id": 7,
            "result": {"action": asked(address, {"observation": row})[1]["action"]},
        }
        for wrong, code in (
            ("{", -32700),
            ("3", -32600),
            ({**asked_for, "method": "sail"}, -32601),
            ({**asked_for, "params": {}}, -32602),
            ('{"jsonrpc": "2.0", "id": NaN, "method": "decide"}', -32600),
            ({**asked_for, "id": [1]}, -32600),
            ({**asked_for, "params": {"policy": "\ud800"}}, -32602),
        ):
            assert call(wrong)["error"]["code"] == code
        socket.send(json.dumps({name: value for name, value in asked_for.items() if name != "id"}))  # a notification
        assert call({**asked_for, "id": 8})["id"] == 8  # is not answered


@pytest.mark.slow
def test_what_it_says_of_itself_is_what_it_does(served):
    """Requests made from the description, and wrong ones: no answer is another than those that are described."""
    words = [
        sys.executable,
        "-m",
        "schemathesis.cli",
        "run",
        f"http://{served[1]}/openapi.json",
        "--max-examples",
        "40",
        "--seed",
        "1",
    ]
    checks = "not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance"
    done = subprocess.run([*words, "--checks", checks, "--no-color"], capture_output=True, text=True, timeout=300)
    assert done.returncode == 0, done.stdout[-3_000:]


@pytest.mark.slow
def test_beyond_this_machine_a_token_is_asked_for(served):
    process, address = started(served[0][0].path, "--host", "0.0.0.0")
    try:
        body = {"observation": {c.name: 0.0 for c in served[0][0].policy.spec.numbers}}
        assert process.token
        assert asked(address, body)[0] == 401
        assert asked(address, body, Authorization="Bearer nothing")[0] == 401
        assert asked(address, body, Authorization=f"Bearer {process.token}")[0] == 200
        assert asked(address, None, "/", "GET")[0] == 401
    finally:
        process.kill()


def seen_in(episode):
    return {name: np.asarray(episode.observation[name]).tolist() for name in episode.observation.keys()}  # noqa: SIM118


@pytest.mark.slow
def test_a_policy_that_remembers_is_told_whose_observation_it_is():
    from jokulmist.serving.decisions import Decider

    agent = jm.PPO(network=jm.Recurrent(8), horizon=8)
    policy = jm.train(jm.gallery.Ferry(), agent, steps=64, copies=1, lane="plain", folder=None).policy
    decider = Decider(policy)
    episodes = [jm.gallery.Ferry().episode(seed=seed) for seed in (1, 2, 3)]
    for _ in range(25):  # three who ask at once, and each is remembered; an episode that closed is followed by another
        episodes = [e.environment.episode(seed=e.seed + 10) if e.over else e for e in episodes]
        asked = [decider.read(seen_in(e), None, f"boat {j}", e.steps == 0) for j, e in enumerate(episodes)]
        for episode, action in zip(episodes, decider.decide(asked), strict=True):
            assert action == episode.environment.action.labels[policy.choose_in(episode)]
            episode.act(action)
    seen = seen_in(episodes[0])
    for session, begins, expected in (
        (None, True, "`session` is a text of 1 to 100"),
        ("new", None, "nothing is remembered of the session 'new'"),
        ("boat 1", 1, "`begins` is true or false"),
    ):
        with pytest.raises(SettingError, match=expected):
            decider.read(seen, None, session, begins)
