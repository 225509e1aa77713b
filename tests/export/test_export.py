"""Policies that left: each form against the policy itself, where it can be run here."""

import functools
import http.server
import json
import re
import shutil
import subprocess
import sys
import threading
from pathlib import Path

import equinox as eqx
import jax
import jax.numpy as jnp
import numpy as np
import pytest
from canon import fresh_policy
from commands import jokulmist
from hypothesis import given, settings
from hypothesis import strategies as st
from jax import lax
from places import Corridor, Gates, Signal

import jokulmist as jm
from jokulmist.errors import SettingError
from jokulmist.exporting import save
from jokulmist.exporting.forms import FORMS
from jokulmist.exporting.graph import graph_of
from jokulmist.exporting.loops import C, Loops

ROOT = Path(__file__).parents[2]
SMALL = jm.Dense(8, 8)
QUICK = {"steps": 300, "folder": None, "lane": "plain"}
BUFFER = {"replay_start": 50, "replay_size": 300}


class Crane(jm.Environment):
    """Choices that are not always allowed, a number and an array to decide; arrays, whole numbers and an image to
    see."""

    time_limit = 12

    class State(jm.State):
        swing: float = jm.seen(low=-2.0, high=2.0, unit="rad")
        slots: int = jm.seen(low=0, high=5)
        winds: float = jm.seen(low=-1.0, high=1.0, shape=(3,))

    action = jm.Actions(
        double=jm.Choice("left", "hold", "right"), lift=jm.Range(-1.0, 2.0), trim=jm.Range(-1.0, 1.0, shape=(2,))
    )

    def begin(self, draw):
        return self.State(swing=draw.uniform(-1.0, 1.0), slots=3, winds=draw.uniform(-1.0, 1.0, shape=(3,)))

    def legal(self, state):
        xp = self.xp
        return {"double": xp.stack([xp.asarray(state.swing > -1.0), xp.asarray(True), xp.asarray(state.swing < 1.0)])}

    def advance(self, state, action, draw):
        swing = self.xp.clip(
            state.swing + 0.3 * (action.double - 1) + 0.1 * action.lift + 0.1 * state.winds[0], -2.0, 2.0
        )
        return state.replace(swing=swing)

    @jm.sensor(image=True, shape=(6, 6, 1))
    def view(self, state):
        xp = self.xp
        return xp.asarray(
            xp.clip(40.0 * abs(xp.arange(36).reshape(6, 6, 1) / 6.0 - 3.0 + state.swing), 0.0, 255.0), dtype=xp.uint8
        )

    @jm.reward
    def still(self, after):
        return -abs(after.swing)


CASES = {
    "QLearning": lambda: jm.train(jm.gallery.Ferry(), jm.QLearning(bins=4), **QUICK),
    "Sarsa": lambda: jm.train(jm.gallery.WholeTarn(), jm.Sarsa(), **QUICK),
    "LinearQ": lambda: jm.train(jm.gallery.Ferry(), jm.LinearQ(), **QUICK),
    "DQN": lambda: jm.train(
        jm.gallery.Ferry().modified(jm.modifiers.Stack(2)), jm.DQN(network=SMALL, dueling=True, **BUFFER), **QUICK
    ),
    "PPO": lambda: jm.train(jm.gallery.Greenhouse(), jm.PPO(network=SMALL, horizon=16), **QUICK),
    "SAC": lambda: jm.train(jm.gallery.Winch(), jm.SAC(network=SMALL, **BUFFER), **QUICK),
    "mixed": lambda: jm.train(Crane(), jm.PPO(horizon=8), **{**QUICK, "steps": 64}),
    "player": lambda: jm.train(
        jm.gallery.Lots(), {"elder": jm.QLearning(), "younger": jm.QLearning()}, **QUICK
    ).policy.player("elder"),
}


@pytest.fixture(autouse=True)
def _traced_once(monkeypatch):
    """A policy is traced and asked once for all forms."""
    for name in ("graph_of", "vectors_of"):
        monkeypatch.setattr(f"jokulmist.exporting.save.{name}", CACHED[name])


CACHED = {name: functools.lru_cache(maxsize=16)(getattr(save, name)) for name in ("graph_of", "vectors_of")}


@functools.cache
def trained_policy(name):
    case = CASES[name]()
    return getattr(case, "policy", case)


@pytest.fixture(scope="module", params=CASES)
def policy(request):
    return trained_policy(request.param)


@pytest.mark.slow
@pytest.mark.parametrize("form", ["python", "c", "javascript", "onnx"])
def test_each_form_decides_as_the_policy_does(policy, form, tmp_path):
    report = save.export(policy, form, tmp_path / "out")
    if form in ("c", "javascript") and not report.checked:
        pytest.skip(report.why)
    assert (report.checked, report.wrong) == (1_000, 0)
    assert report.worst <= 1e-5
    assert report.ok
    output = json.loads((tmp_path / "out" / "vectors.json").read_text())
    assert len(output["vectors"]) == 100
    if form == "onnx":
        import onnx

        model = onnx.load(tmp_path / "out" / "policy.onnx")
        onnx.checker.check_model(model, full_check=True)
        names = {prop.key: prop.value for prop in model.metadata_props}
        assert [c["name"] for c in json.loads(names["channels"])] == [c.name for c in policy.spec.channels]


@pytest.mark.slow
@pytest.mark.parametrize("form", ["python", "c", "javascript", "onnx"])
def test_what_a_policy_says_leaves_too(form, tmp_path):
    for name, wanted in (
        ("PPO", {"spread.lamps", "value"}),
        ("mixed", {"probabilities.double", "spread.lift", "spread.trim", "value"}),
        ("DQN", {"values"}),
        ("QLearning", {"values"}),
    ):
        policy = trained_policy(name)
        report = save.export(policy, form, tmp_path / name, says=True)
        if form in ("c", "javascript") and not report.checked:
            pytest.skip(report.why)
        assert report.ok, (name, report)
        output = json.loads((tmp_path / name / "vectors.json").read_text())["vectors"][0]
        assert wanted <= set(output["said"]) or name == "PPO"
        if name == "DQN":
            item = {c.name: np.asarray(output["observation"][c.name]) for c in policy.spec.channels}
            assert output["said"]["values"] == pytest.approx(list(policy.values(item).values()), rel=1e-4)
        if name == "mixed":
            item = {
                c.name: np.asarray(output["observation"][c.name], np.uint8 if c.image else np.float32)
                for c in policy.spec.channels
            }
            legal = [
                label
                for label, able in zip(
                    policy.spec.action.parts["double"].labels, output["legal"]["double"], strict=True
                )
                if able
            ]
            reply = policy.probabilities(item, {"double": legal})
            assert output["said"]["probabilities.double"] == pytest.approx(list(reply["double"].values()), abs=1e-5)
            assert output["said"]["spread.trim"] == pytest.approx(reply["trim"]["spread"].tolist(), rel=1e-4)
            assert output["said"]["value"] == pytest.approx([policy.value(item)], abs=1e-4)
    assert "says beside it" in (tmp_path / "DQN" / "README.md").read_text()
    with pytest.raises(SettingError, match="`TD3` says nothing beside its decisions"):
        save.export(fresh_policy(jm.TD3(network=SMALL), jm.gallery.Winch()), form, tmp_path / "no", says=True)


@pytest.mark.slow
def test_the_python_that_left_needs_no_library(tmp_path):
    run = jm.train(jm.gallery.Ferry(), jm.QLearning(bins=4), **{**QUICK, "folder": tmp_path, "name": "ferry"})
    described = jokulmist("export", "--help").stdout
    assert all(form in described for form in FORMS)
    done = jokulmist("export", run.path, "--form", "python", "--to", tmp_path / "out", folder=tmp_path)
    assert (done.returncode, "the same decisions" in done.stdout) == (0, True)
    code = (
        "import json, sys\nfrom policy import decide\n"
        "found = [decide(one['observation']) for one in json.load(open('vectors.json'))['vectors']]\n"
        "print(json.dumps(found), 'jokulmist' in sys.modules, 'jax' in sys.modules)"
    )
    output = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=True, cwd=tmp_path / "out"
    ).stdout
    result, loaded = json.loads(output[: output.rindex("]") + 1]), output[output.rindex("]") + 1 :].split()
    assert loaded == ["False", "False"]
    labels = jm.gallery.Ferry().action.labels
    wanted = [
        labels[item["action"][""]] for item in json.loads((tmp_path / "out" / "vectors.json").read_text())["vectors"]
    ]
    assert result == wanted
    seen = dict.fromkeys(run.policy.spec.slices, 0.5)
    assert run.policy.choose(seen) in range(len(labels))


@settings(max_examples=15)
@given(low=st.floats(-50.0, 0.0), width=st.floats(0.5, 60.0), bins=st.integers(2, 9), seed=st.integers(0, 5))
def test_tables_of_any_bounds_find_the_same_cell(low, width, bins, seed):
    class Pit(jm.Environment):
        time_limit = 5

        class State(jm.State):
            depth: float = jm.seen(low=low, high=low + width)

        action = jm.Choice(3)

        def begin(self, draw):
            return self.State(depth=draw.uniform(low, low + width))

        def advance(self, state, action, draw):
            return state.replace(depth=draw.uniform(low, low + width))

        @jm.reward
        def paid(self, action, after):
            return 1.0 * action - after.depth

    policy = jm.train(Pit(), jm.QLearning(bins=bins), steps=60, seed=seed, folder=None, lane="plain").policy
    names = {}
    from jokulmist.exporting.forms import python_file

    exec(compile(python_file(graph_of(policy), "a table"), "policy", "exec"), names)
    learned = np.asarray(policy.learner.values)
    for depth in np.linspace(low - 1.0, low + width + 1.0, 23):
        place = (depth - low) / width * bins
        if abs(place - round(place)) < 1e-4:
            continue  # on a border rounding decides, and numbers of single precision round otherwise
        index = int(names["decide"]({"depth": depth}, raw=True)[""])
        values = list(policy.values({"depth": float(depth)}).values())
        assert values[index] == max(values)
    assert learned.shape[1] == 3


@pytest.mark.slow
@pytest.mark.parametrize("form", ["python", "c", "javascript", "onnx"])
@pytest.mark.parametrize("cell", ["gru", "lstm"])
def test_a_policy_that_remembers_leaves_with_its_memory(form, cell, tmp_path):
    policy = fresh_policy(jm.PPO(network=jm.Recurrent(6, cell=cell, before=jm.Dense(5))), jm.gallery.Ferry())
    report = save.export(policy, form, tmp_path / form)
    assert (report.ok, report.checked, report.wrong) == (True, 1_000, 0), str(report)
    assert "remembers what it saw" in (tmp_path / form / "README.md").read_text()
    vectors = json.loads((tmp_path / form / "vectors.json").read_text())["vectors"]
    assert [k for k, item in enumerate(vectors) if item["begins"]] == [0, 20, 40, 60, 80]
    with pytest.raises(SettingError, match="does not leave yet"):
        save.export(policy, form, tmp_path / form, says=True)


@pytest.mark.slow
def test_what_cannot_leave_is_told(tmp_path):
    class Guess(jm.Agent):
        traced = False

        @staticmethod
        def fresh_learner(config, hyperparameters, noise):
            return np.zeros(1)

        @staticmethod
        def choose(config, hyperparameters, learner, memory, observed, noise, explore):
            return np.zeros(config.copies, np.int32), memory, ()

        @staticmethod
        def learn(config, hyperparameters, learner, memory, experience, noise):
            return learner, memory, ()

    run = jm.train(jm.gallery.Ferry(), Guess(), steps=20, folder=None, lane="plain")
    with pytest.raises(SettingError, match="`Guess` is not traced"):
        save.export(run.policy, "c", tmp_path / "out")
    table = jm.train(jm.gallery.Ferry(), jm.QLearning(bins=3), **QUICK).policy
    with pytest.raises(SettingError, match="`form` is 'cobol'; there are `python`, `c`, `javascript`, `onnx`"):
        save.export(table, "cobol", tmp_path / "out")
    assert not (tmp_path / "out").exists()
    (tmp_path / "file").write_text("")
    assert "cannot write" in jokulmist("export", _kept(tmp_path), "--form", "c", "--to", "file", folder=tmp_path).stderr
    assert all("for (int i" in line for line in Loops(graph_of(table), C()).body if "for (" in line)


def _kept(tmp_path):
    return jm.train(jm.gallery.Ferry(), jm.QLearning(bins=3), **{**QUICK, "folder": tmp_path}).path


@pytest.mark.slow
@pytest.mark.skipif(shutil.which("node") is None, reason="Node is not installed")
def test_the_punt_is_played_in_node_and_in_a_browser_by_a_policy_that_left(tmp_path):
    played = ["node", str(ROOT / "examples" / "punt" / "played.mjs"), "3"]
    lines = [
        line.split() for line in subprocess.run(played, capture_output=True, text=True, check=True).stdout.splitlines()
    ]
    assert np.mean([float(total) for total, _ in lines]) > 8.0
    if shutil.which("chromium") is None:
        return
    handler = functools.partial(http.server.SimpleHTTPRequestHandler, directory=str(ROOT))
    handler.func.log_message = lambda *_: None
    pages = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=pages.serve_forever, daemon=True).start()
    page = subprocess.run(
        [
            "chromium",
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            f"--user-data-dir={tmp_path}",
            "--virtual-time-budget=6000",
            "--dump-dom",
            f"http://127.0.0.1:{pages.server_port}/examples/punt/punt.html#policy",
        ],
        capture_output=True,
        text=True,
        timeout=120,
        check=True,
    )
    pages.shutdown()
    decisions = re.search(r'data-decisions="(\d+)"', page.stdout).group(1)
    assert len(decisions) > 50
    assert lines[0][1].startswith(decisions[:300])


class Six(Corridor):
    """The corridor, walked by the first of six numbers."""

    action = jm.Range(-1.0, 1.0, shape=(6,), unit="N")

    def advance(self, state, action, draw):
        step = self.xp.where(action[0] > 0.0, 1, -1)
        return state.replace(cell=self.xp.clip(state.cell + step, 0, self.length - 1))


def odd(channels, outputs, key):
    """A network with what only few policies compute: a choice among three, sums from the end, the error function,
    remainders."""

    class Odd(eqx.Module):
        weight: jax.Array

        def __call__(self, inputs):
            return self.weight * computed(inputs.numbers[0])

    def computed(cell):
        which = jnp.clip(cell.astype(jnp.int32), 0, 2)
        rows = jnp.arange(6.0).reshape(2, 3) + cell
        summed = lax.cumsum(rows, axis=1, reverse=True)[0, :outputs]
        chosen = lax.select_n(
            which, summed, jax.scipy.special.erf(summed - 1.0), lax.rem(-summed, jnp.full_like(summed, 1.7))
        )
        return jnp.pad(chosen, (1, 0))[:outputs] + 0.1 * chosen

    return Odd(jnp.array(1.5))


LEAVING = {
    "recurrent": (jm.PPO(network=jm.Recurrent(4), scaling="bounds"), Corridor()),
    "masked parts": (jm.PPO(network=SMALL), Gates()),
    "six numbers": (jm.PPO(network=SMALL), Six()),
    "an image": (jm.DQN(network=jm.Convolutional(4, filters=[(2, 3, 2)])), Signal()),
    "odd": (jm.PPO(network=odd, scaling="none"), Corridor()),
}


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize("name", LEAVING)
def test_what_has_learned_nothing_leaves_as_it_is(name, form, tmp_path):
    """Memory as a handle, masks, several numbers, padded images, and operations that only few policies have."""
    policy = fresh_policy(*LEAVING[name])
    report = save.export(policy, form, tmp_path)
    assert report.ok, str(report)
    assert report.checked or form in ("c", "javascript")
    readme = (tmp_path / "README.md").read_text()
    assert ("Not everything may be done always" in readme) == (name == "masked parts")
    if form == "javascript":
        types = (tmp_path / "policy.d.ts").read_text()
        assert ('legal?: { "gate"?: boolean[]; "lamp"?: boolean[] } | null' in types) == (name == "masked parts")
        assert ("memory?: Float32Array" in types) == (name == "recurrent")
    if name == "recurrent" and form == "python":  # two agents in one process do not disturb each other
        result: dict = {}
        exec((tmp_path / "policy.py").read_text(), result)
        begin, decide = result["begin"], result["decide"]
        alone, memory = [], begin()
        for cell in (1, 2, 3):
            alone.append(decide({"cell": cell}, None, memory))
        first, second, beside = begin(), begin(), []
        for cell in (1, 2, 3):
            beside.append(decide({"cell": cell}, None, first))
            decide({"cell": 4 - cell}, None, second)
        assert np.array_equal(memory, first)
        assert (alone, np.array_equal(first, second)) == (beside, False)


def test_the_readme_names_the_forms_that_there_are():
    (line,) = re.findall(r"jm\.export\(run, .*", (ROOT / "README.md").read_text())
    assert set(re.findall(r'"(\w+)"', line)) - {"policy"} == set(FORMS)
