"""Texts of an environment in exported files: what they say stays text, in each language."""

import json
import random
import shutil
import subprocess

import pytest
from commands import sanitizers
from hypothesis import given
from hypothesis import strategies as st

import jokulmist as jm
from jokulmist.errors import DeclarationError, JokulmistError, RecordError, SettingError
from jokulmist.exporting import save
from jokulmist.exporting.escapes import c_comment, c_string, js_string, markdown, python_docstring, unique_names
from jokulmist.exporting.save import export
from jokulmist.records.checkpoints import open_arrays, save_arrays

NASTY = [
    '"; system("touch ran"); "',
    "*/ int ran(void); /*",
    "/*",
    "*\\\n/",
    "??/",
    "??/\n*/",
    "a\\",
    "\\",
    "\u2028alert(1)",
    "\r\nalert(1)",
    "\x00\x07\x1b[31m",
    "</script>",
    "🚣 Åse",
    "\U0001f6a3" * 3,
    '"""',
    "'''",
    "`|` #",
    "\u202eevil",
    "%s%n",
    "\\u000a",
    "??>",
]


@given(st.text())
def test_no_text_ends_a_comment_or_a_docstring(text):
    output = c_comment(text)
    assert not any(end in output for end in ("*/", "/*", "??", "\\", "\n", "\r", "\u2028"))
    compile(f'"""{python_docstring(text)}"""', "policy.py", "exec")
    assert "\n" not in markdown(text)
    assert js_string(text).isascii()
    assert json.loads(js_string(text)) == text


def test_a_compiler_and_node_read_back_what_was_written(tmp_path):
    draw = random.Random(1)
    texts = NASTY + [
        "".join(chr(draw.choice([draw.randrange(1, 128), draw.randrange(0x80, 0xD800)])) for _ in range(12))
        for _ in range(200)
    ]
    texts = [text.replace("\x00", "") for text in texts]
    if shutil.which("cc"):
        lines = "\n".join(f"/* {c_comment(text)} */ puts_hex({c_string(text)});" for text in texts)
        (tmp_path / "main.c").write_text(
            '#include <stdio.h>\nstatic void puts_hex(const char *s) { while (*s) printf("%02x", (unsigned '
            'char)*s++); printf("\\n"); }\n'
            f"int main(void) {{ {lines} return 0; }}\n"
        )
        strict = ["-std=c99", "-Wall", "-Wextra", "-Werror", "-pedantic", "-trigraphs"]
        subprocess.run(["cc", *strict, "main.c", "-o", "main"], cwd=tmp_path, check=True)
        reply = subprocess.run([tmp_path / "main"], capture_output=True, text=True, check=True).stdout
        assert [bytes.fromhex(line).decode() for line in reply.split("\n")[:-1]] == texts
    if shutil.which("node"):
        lines = "\n".join(
            f"/* {c_comment(text)} */ told.push({js_string(text)}); // {c_comment(text)}" for text in texts
        )
        (tmp_path / "main.mjs").write_text(f"const told = [];\n{lines}\nconsole.log(JSON.stringify(told));\n")
        reply = subprocess.run(["node", "main.mjs"], cwd=tmp_path, capture_output=True, text=True, check=True).stdout
        assert json.loads(reply) == texts


def test_names_that_would_be_one_identifier_are_told_apart():
    assert unique_names(["a.b", "a_b", "a_b_2", "int", "é"], {"int"}) == {
        "a.b": "a_b",
        "a_b": "a_b_2",
        "a_b_2": "a_b_2_2",
        "int": "int_2",
        "é": "_",
    }


class Oar(jm.Environment):
    """Labels, units and names that would be code elsewhere."""

    time_limit = 4

    class State(jm.State):
        int: float = jm.seen(low=0.0, high=1.0, unit='*/ int ran(void) { return "??/"; } /*')
        pull: float = jm.seen(low=0.0, high=1.0, unit="🚣")

    action = jm.Actions(
        double=jm.Choice('"); system("touch ran"); ("', "*/", "a\\"), void=jm.Range(-1.0, 1.0, unit="*/ x /*")
    )

    def begin(self, draw):
        return self.State(int=draw.uniform(), pull=draw.uniform())

    def advance(self, state, action, draw):
        return state

    @jm.reward
    def calm(self, after):
        return -after.pull


@pytest.fixture(scope="module")
def policy():
    agent = jm.PPO(network=jm.Dense(4), horizon=8)
    return jm.train(Oar(), agent, steps=16, copies=1, lane="plain", folder=None).policy


@pytest.mark.parametrize("form", ["python", "c", "javascript", "onnx"])
def test_an_environment_whose_words_are_code_leaves_as_it_is(policy, form, tmp_path, monkeypatch):
    monkeypatch.setattr(save, "STRICT", (*save.STRICT, *sanitizers()))
    report = export(policy, form, tmp_path, about='*/ """ \u2028 */ system("touch ran")')
    assert report.ok, str(report)
    assert report.checked > 0
    assert not (tmp_path / "ran").exists()


@pytest.mark.parametrize(
    ("place", "value"),
    [
        ("unit", "m\n*/"),
        ("unit", "\u202em"),
        ("name", "a b"),
        ("name", "x;"),
        ("unit", 5),
        ("shape", [1000, 1000, 1000]),
        ("high", 10**30),
        ("high", -1e9),
        ("low", float("nan")),
        ("labels", ["a\n", "b", "c"]),
    ],
)
def test_a_head_says_what_a_declaration_may(policy, tmp_path, place, value):
    arrays, metadata = open_arrays(policy.save(tmp_path / "p.safetensors"))
    if place == "labels":
        metadata["spec"]["action"]["parts"]["double"]["labels"] = value
    else:
        metadata["spec"]["channels"][0][place] = value
    save_arrays(tmp_path / "q.safetensors", arrays, metadata)
    with pytest.raises((DeclarationError, RecordError)):
        jm.Policy.open(tmp_path / "q.safetensors")


def test_a_run_leaves_with_the_words_of_its_environment_alone(tmp_path):
    run = jm.train(jm.gallery.Ferry(), jm.QLearning(bins=4), steps=100, lane="plain", folder=tmp_path)
    place = next((run.path / "checkpoints").glob("[0-9]*")) / "arrays.safetensors"
    arrays, metadata = open_arrays(place)
    metadata["spec"]["channels"][0]["unit"] = "*/ system(0); /*"
    save_arrays(place, arrays, metadata)
    with pytest.raises(
        SettingError, match=r"channel `position` of `Ferry` differs from the one that the policy learned on"
    ):
        jm.export(run.path, "c", tmp_path / "out")


@pytest.mark.parametrize(
    "settings",
    [
        {"use": "Roster", "policies": [{"use": "Fixed", "inner": {"use": "os:system"}}]},
        {"use": "PPO", "network": {"use": "Recurrent", "before": {"use": "/tmp/x.py:Net"}}},
        {"use": "players", "bow": {"use": "PPO", "clip": {"function": "evil.py:run"}}},
        {"use": "PPO", "deep": [[[[{"x": ["a:b"]}]]]]},
    ],
)
def test_no_code_is_named_anywhere_in_a_head(policy, tmp_path, settings):
    arrays, metadata = open_arrays(policy.save(tmp_path / "p.safetensors"))
    save_arrays(tmp_path / "q.safetensors", arrays, {**metadata, "agent": settings})
    with pytest.raises(SettingError, match="needs code of somebody's own"):
        jm.Policy.open(tmp_path / "q.safetensors")


def test_a_network_that_cannot_be_is_told(policy, tmp_path):
    arrays, metadata = open_arrays(policy.save(tmp_path / "p.safetensors"))
    metadata["agent"]["network"] = {**metadata["agent"]["network"], "widths": [0]}
    save_arrays(tmp_path / "q.safetensors", arrays, metadata)
    with pytest.raises(JokulmistError):
        jm.Policy.open(tmp_path / "q.safetensors")


def test_a_head_that_is_nested_without_end_is_told(policy, tmp_path):
    from safetensors.numpy import save_file

    save_file({}, tmp_path / "q.safetensors", metadata={"about": "[" * 100_000})
    with pytest.raises(JokulmistError, match="cannot be read"):
        jm.Policy.open(tmp_path / "q.safetensors")
