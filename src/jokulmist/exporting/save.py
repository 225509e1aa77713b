"""A policy written in a form that runs elsewhere, and held against the policy itself."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.spaces.actions import Choice, Range
from jokulmist.environments.spaces.channels import refuse_mismatch
from jokulmist.environments.spaces.player_actions import players_of
from jokulmist.errors import RecordError, SettingError, listed
from jokulmist.exporting.escapes import one_line
from jokulmist.exporting.forms import Vectors, files_of, masked_choices, part_words, said_words, vectors_of
from jokulmist.exporting.graph import EPISODE, Graph, begins, graph_of
from jokulmist.loops.policy import Policy
from jokulmist.records.files import path_of
from jokulmist.running.runs.run import Run

COUNT = 1_000
TOLERANCE = 1e-5
SECONDS = 120


@dataclass(frozen=True)
class Exported:
    """A policy that was written.

    Attributes
    ----------
    files : list of Path
    checked : int
        Observations on which the form was held against the policy; 0 where it cannot be run here.
    wrong : int
        On which it chose another alternative.
    worst : float
        The largest difference of a number, in units of its range's width.
    microseconds : float
        A decision, where it was run.
    why : str
        Why it was not run.
    """

    files: list[Path]
    checked: int
    wrong: int
    worst: float
    microseconds: float
    why: str = ""

    @property
    def ok(self) -> bool:
        return self.wrong == 0 and self.worst <= TOLERANCE

    def __str__(self) -> str:
        if not self.checked:
            return f"not held against the policy, because {self.why}; vectors.json lets you do it where it runs"
        text = f"held against the policy on {self.checked:,} observations: "
        same = (
            "the same decisions"
            if self.ok
            else f"{self.wrong} other alternatives, numbers up to {self.worst:.2g} of their range apart"
        )
        return f"{text}{same}, {self.microseconds:.1f} us a decision"


def export(
    policy: Policy | Run | str | Path,
    form: str,
    path: str | Path,
    *,
    about: str = "",
    says: bool = False,
    check: bool = True,
) -> Exported:
    """Write what a policy does without exploration, to run without this library.

    Parameters
    ----------
    policy : Policy, Run or path of a run's folder
    form : {"python", "c", "javascript", "onnx"}
        One file of Python that needs NumPy, C99 without dependencies, an ES module, or an ONNX model.
    path : str or Path
        A folder; it is made. Files of other kinds in it are left alone.
    about : str, optional
        A line that says what it is.
    says : bool
        Also what the policy says beside its decision: the probabilities of alternatives and the spread of numbers,
        values of actions, the value of what is seen.
    check : bool
        Run it here on 1,000 observations, where a compiler or Node is there, and compare.

    Returns
    -------
    Exported

    Raises
    ------
    SettingError
        When the form is unknown, or cannot hold what the policy computes.

    Examples
    --------
    >>> import tempfile
    >>> import jokulmist as jm
    >>> run = jm.train(jm.gallery.Ferry(), jm.QLearning(bins=4), steps=300, lane="plain", folder=None)
    >>> made = jm.export(run, "python", tempfile.mkdtemp())
    >>> made.ok, [path.name for path in made.files]
    (True, ['README.md', 'policy.py', 'vectors.json'])
    """
    if not isinstance(policy, Policy):
        run = Run.as_run(policy)
        about = about or f"{run.name}, seed {run.seed}, after {run.policy.decisions:,} decisions"
        policy = of_run(run, run.policy)
    if players := players_of(policy.spec.action):
        raise SettingError(
            f"the policy decides for {listed(players)}. Take one of them: `--player {players[0]}` "
            f"(`policy.player({players[0]!r})`)."
        )
    about = one_line(about or repr(policy))
    graph = graph_of(policy, says)
    vectors = vectors_of(policy, COUNT, says=says)
    files = files_of(graph, form, about, vectors)
    folder = path_of(path, "where a policy is written")
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for name, content in files.items():
            data = content if isinstance(content, bytes) else content.encode()
            (folder / name).write_bytes(data)
    except OSError as failure:
        raise RecordError(f"cannot write {folder}: {failure.strerror or failure}.") from None
    paths = sorted(folder / name for name in files)
    if not check:
        return Exported(paths, 0, 0, 0.0, 0.0, "it was not asked for")
    try:
        decisions, microseconds = RUNNERS[form](folder, graph, vectors)
    except _NotHere as why:
        return Exported(paths, 0, 0, 0.0, 0.0, str(why))
    return Exported(paths, len(vectors.rows), *_compared(graph, vectors, decisions), microseconds)


def of_run(run: Run, policy: Policy) -> Policy:
    """A policy of a run, if its head says what the run's environment does: what it says of itself is written into the
    files."""
    if run.path is not None:
        description = describe(run.environment)
        refuse_mismatch(policy.spec, description.spec, "the policy", f"`{description.name}`")
    return policy


class _NotHere(Exception):
    """What a form needs to run is not on this machine."""


def _compared(graph: Graph, vectors: Vectors, decisions: list[dict[str, Any]]) -> tuple[int, float]:
    wrong, worst = 0, 0.0
    for k, extras in enumerate(vectors.policy_outputs):
        for name, values in extras.items():
            scale = np.maximum(np.abs(values), 1.0)
            difference = np.abs(np.asarray(decisions[k].pop(f"said {name}"), float).reshape(-1) - values)
            worst = max(worst, float(np.max(difference / scale)))
    for expected, got in zip(vectors.decided, decisions, strict=True):
        for part, space in graph.parts.items():
            if isinstance(space, Choice):
                wrong += int(np.asarray(got[part])) != int(expected[part])
            else:
                width = np.where(np.isfinite(space.high - space.low), space.high - space.low, 1.0)
                worst = max(
                    worst,
                    float(np.max(np.abs(np.asarray(got[part], float) - np.asarray(expected[part], float)) / width)),
                )
    return wrong, worst


def _observations(graph: Graph, vectors: Vectors) -> list[tuple[dict[str, Any], Any]]:
    """By channel, and what is legal, as the Python form takes them."""
    spec = graph.policy.spec
    names = [part for part, space in graph.parts.items() if isinstance(space, Choice)]
    observations = []
    for row, images, masks in zip(vectors.rows, vectors.images, vectors.masks, strict=True):
        seen = {c.name: row[spec.slices[c.name]].reshape(c.shape) for c in spec.numbers} | images
        legal = None if not masks else masks[0] if names == [""] else dict(zip(names, masks, strict=False))
        observations.append((seen, legal))
    return observations


def _in_python(folder: Path, graph: Graph, vectors: Vectors) -> tuple[list[dict[str, Any]], float]:
    names: dict[str, Any] = {}
    exec(compile((folder / "policy.py").read_text(), str(folder / "policy.py"), "exec"), names)
    observations = _observations(graph, vectors)
    began = time.perf_counter()
    if vectors.remembers:
        decisions, memory = [], None
        for k, (seen, legal) in enumerate(observations):
            memory = names["begin"]() if begins(k) else memory
            decisions.append(names["decide"](seen, legal, memory, raw=True))
    elif graph.policy_outputs:
        pairs = [names["decide"](seen, legal, raw=True, says=True) for seen, legal in observations]
        decisions = [{**decision, **{f"said {name}": v for name, v in extras.items()}} for decision, extras in pairs]
    else:
        decisions = [names["decide"](seen, legal, raw=True) for seen, legal in observations]
    return decisions, (time.perf_counter() - began) / len(observations) * 1e6


MAIN = r"""
#include "policy.h"
#include <stdio.h>
#include <time.h>

int main(void) {
  static policy_observation observation;
  policy_action action;
  %(room)s
  double spent = 0.0;
  long count = 0;
  %(legal)s
  while (fread(&observation, sizeof observation, 1, stdin) == 1) {
    %(read)s
    %(begin)s
    struct timespec began, ended;
    clock_gettime(CLOCK_MONOTONIC, &began);
    policy_decide(&observation, %(given)s &action%(said)s);
    clock_gettime(CLOCK_MONOTONIC, &ended);
    spent += (double)(ended.tv_sec - began.tv_sec) * 1e6 + (double)(ended.tv_nsec - began.tv_nsec) / 1e3;
    count++;
    %(print)s
  }
  fprintf(stderr, "%%.3f\n", spent / (double)count);
  return 0;
}
"""
STRICT = ("-std=c99", "-Wall", "-Wextra", "-Werror", "-pedantic", "-D_POSIX_C_SOURCE=200809L", "-O2")


def _in_c(folder: Path, graph: Graph, vectors: Vectors) -> tuple[list[dict[str, Any]], float]:
    """What the C decides on the observations, compiled and run here, and microseconds a decision."""
    compiler = shutil.which("cc")
    if compiler is None:
        raise _NotHere("there is no C compiler here")
    with tempfile.TemporaryDirectory() as place:
        main, program = Path(place) / "main.c", str(Path(place) / "run")
        main.write_text(_c_program(graph, vectors))
        words = [compiler, *STRICT, f"-I{folder}", str(main), str(folder / "policy.c"), "-o", program, "-lm"]
        built = subprocess.run(words, capture_output=True, text=True, check=False)
        if built.returncode:
            raise SettingError(f"the C that was written does not compile here: {built.stderr[:400]}")
        data = _c_input(graph, vectors)
        done = subprocess.run([program], input=data, capture_output=True, timeout=SECONDS, check=True)
    rows = [[float(text) for text in line.split()] for line in done.stdout.decode().splitlines()]
    return [_c_decision(graph, row) for row in rows], float(done.stderr.decode().strip() or "nan")


def _c_program(graph: Graph, vectors: Vectors) -> str:
    """A program that reads observations and prints what is decided on each."""
    words, said_in_c = part_words(graph), said_words(graph)
    masked = bool(masked_choices(graph))
    lines = []
    for part, space in graph.parts.items():
        word = words[part]
        if isinstance(space, Choice):
            lines.append(f'printf("%d ", action.{word});')
        elif space.shape:
            lines.append(f'for (int k = 0; k < {space.size}; k++) printf("%.9g ", (double)action.{word}[k]);')
        else:
            lines.append(f'printf("%.9g ", (double)action.{word});')
    for name, value in graph.policy_outputs:
        lines.append(f'for (int k = 0; k < {value.size}; k++) printf("%.9g ", (double)said.{said_in_c[name]}[k]);')
    memory = "policy_memory memory;" if vectors.remembers else ""
    return MAIN % {
        "room": f"{'policy_said said;' if graph.policy_outputs else ''}{memory}",
        "said": ", &said" if graph.policy_outputs else "",
        "legal": "policy_legal legal;" if masked else "",
        "read": "if (fread(&legal, sizeof legal, 1, stdin) != 1) return 1;" if masked else "",
        "begin": f"if (count % {EPISODE} == 0) policy_begin(&memory);" if vectors.remembers else "",
        "given": f"{'&legal,' if masked else ''}{'&memory,' if vectors.remembers else ''}",
        "print": "\n    ".join([*lines, 'printf("\\n");']),
    }


def _c_input(graph: Graph, vectors: Vectors) -> bytes:
    """The observations as the program's structures lie in memory."""
    choices, data = sum(isinstance(space, Choice) for space in graph.parts.values()), b""
    for row, images, masks in zip(vectors.rows, vectors.images, vectors.masks, strict=True):
        observation = np.asarray(row, np.float32).tobytes() + b"".join(image.tobytes() for image in images.values())
        data += observation + b"\0" * (-len(observation) % 4 if len(row) else 0)
        data += b"".join(mask.astype(np.uint8).tobytes() for mask in masks[:choices])
    return data


def _c_decision(graph: Graph, numbers: list[float]) -> dict[str, Any]:
    """A line of the program's output, by part."""
    decided: dict[str, Any] = {}
    start = 0
    for part, space in graph.parts.items():
        size = 1 if isinstance(space, Choice) else space.size
        several = isinstance(space, Range) and space.shape != ()
        decided[part] = np.reshape(numbers[start : start + size], space.shape) if several else numbers[start]
        start += size
    for name, value in graph.policy_outputs:
        decided[f"said {name}"] = numbers[start : start + value.size]
        start += value.size
    return decided


RUN_JS = """
import { readFileSync } from "node:fs";
import * as policy from "./policy.mjs";
const { decided } = policy;
const given = JSON.parse(readFileSync(0, "utf8"));
let memory = null;
const found = given.map(([seen, legal], k) => {
  if (policy.begin && k % EPISODE === 0) memory = policy.begin();
  return decided(seen, legal, memory);
});
const said = policy.say ? given.map(([seen, legal]) => policy.say(seen, legal).said) : [];
const began = performance.now();
for (const [seen, legal] of given) decided(seen, legal, memory);
console.log(JSON.stringify({ found, said, microseconds: (performance.now() - began) / given.length * 1000 }));
"""


def _in_node(folder: Path, graph: Graph, vectors: Vectors) -> tuple[list[dict[str, Any]], float]:
    node = shutil.which("node")
    if node is None:
        raise _NotHere("Node is not installed here")

    def plain(value: Any) -> Any:
        if isinstance(value, dict):
            return {name: plain(part) for name, part in value.items()}
        return np.asarray(value).tolist() if value is not None else None

    input_text = json.dumps([[plain(seen), plain(legal)] for seen, legal in _observations(graph, vectors)])
    with tempfile.TemporaryDirectory() as place:
        # A module without a package beside it is read as one where it ends so.
        copy, main = Path(place) / "policy.mjs", Path(place) / "run.mjs"
        copy.write_bytes((folder / "policy.js").read_bytes())
        main.write_text(RUN_JS.replace("EPISODE", str(EPISODE)))
        done = subprocess.run(
            [node, str(main)], input=input_text, capture_output=True, text=True, timeout=SECONDS, check=False
        )
    if done.returncode:
        raise SettingError(f"the JavaScript that was written does not run here: {done.stderr[-400:]}")
    reply = json.loads(done.stdout)
    for decision, extras in zip(reply["found"], reply["said"], strict=False):
        decision.update({f"said {name}": values for name, values in extras.items()})
    return reply["found"], float(reply["microseconds"])


def _in_onnx(folder: Path, graph: Graph, vectors: Vectors) -> tuple[list[dict[str, Any]], float]:
    try:
        import onnxruntime  # type: ignore[import-untyped]
    except ImportError:
        raise _NotHere("onnxruntime is not installed here") from None
    from jokulmist.exporting.onnx_form import STATE, STATE_AFTER, inputs_of, output_name

    session = onnxruntime.InferenceSession(str(folder / "policy.onnx"), providers=["CPUExecutionProvider"])
    needed = {entry.name for entry in session.get_inputs()}
    observations = [
        {n: v for n, v in inputs_of(graph, seen, legal).items() if n in needed}
        for seen, legal in _observations(graph, vectors)
    ]
    extra_names = [name for name, _ in graph.policy_outputs]
    names = [*(output_name(part) for part in graph.parts), *extra_names]
    keys = [*graph.parts, *(f"said {name}" for name in extra_names)]
    began = time.perf_counter()
    if vectors.remembers:
        decisions, state = [], None
        for k, inputs in enumerate(observations):
            feeds = {**inputs, STATE: np.zeros((1, graph.state_width), np.float32) if begins(k) else state}
            *outputs, state = session.run([*names, STATE_AFTER], feeds)
            decisions.append(outputs)
    else:
        decisions = [session.run(names, inputs) for inputs in observations]
    microseconds = (time.perf_counter() - began) / len(observations) * 1e6
    return [{part: value[0] for part, value in zip(keys, outputs, strict=True)} for outputs in decisions], microseconds


RUNNERS = {"python": _in_python, "c": _in_c, "javascript": _in_node, "onnx": _in_onnx}
assert sys.byteorder == "little"  # the observations that C reads are written as they are in memory
