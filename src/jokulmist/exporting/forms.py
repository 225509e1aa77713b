"""The files of each form: the policy, how it is used, and observations with what the policy decides on them."""

from __future__ import annotations

import json
from typing import Any, NamedTuple

import numpy as np

from jokulmist.environments.spaces.actions import Choice, Range
from jokulmist.environments.spaces.legal import choices_of, mask_widths
from jokulmist.errors import SettingError, listed
from jokulmist.exporting import numpy_form
from jokulmist.exporting.escapes import c_comment, c_string, js_string, markdown, told_apart
from jokulmist.exporting.graph import Graph, begins, decided_by
from jokulmist.exporting.loops import C, JavaScript, Loops
from jokulmist.training.policies.policy import Policy

FORMS = ("python", "c", "javascript", "onnx")
UNBOUNDED = 3.0
KEYWORDS = {
    "auto",
    "break",
    "case",
    "char",
    "const",
    "continue",
    "default",
    "do",
    "double",
    "else",
    "enum",
    "extern",
    "float",
    "for",
    "goto",
    "if",
    "inline",
    "int",
    "long",
    "register",
    "restrict",
    "return",
    "short",
    "signed",
    "sizeof",
    "static",
    "struct",
    "switch",
    "typedef",
    "union",
    "unsigned",
    "void",
    "volatile",
    "while",
}


# Abramowitz and Stegun (1964), equation 7.1.26: within 1.5e-7.
ERF = [
    "const erf = x => {",
    "  const t = 1 / (1 + 0.3275911 * Math.abs(x));",
    "  const tail = t * (0.254829592 + t * (-0.284496736 + t * (1.421413741 + t * (-1.453152027 + t * 1.061405429)))) * Math.exp(-x * x);",
    "  return x < 0 ? tail - 1 : 1 - tail;",
    "};",
]


class Vectors(NamedTuple):
    """Observations, and what the policy decides on each.

    Attributes
    ----------
    rows : list of float32, shape ``(width,)``
    images, masks : list
    decided : list of dict of str to array
        By part, indices and numbers.
    said : list of dict of str to array
        What the policy says beside it; empty unless it is asked for.
    remembers : bool
        Whether what is decided hangs on the observations before, since the last of those with which an episode begins.
    """

    rows: list[Any]
    images: list[dict[str, Any]]
    masks: list[tuple[Any, ...]]
    decided: list[dict[str, Any]]
    said: list[dict[str, Any]]
    remembers: bool = False

    def as_json(self, policy: Policy, most: int) -> list[dict[str, Any]]:
        """The first of them, by channel and part."""
        spec, names = policy.spec, list(choices_of(policy.spec.action))
        found = []
        told = self.said or [{}] * len(self.rows)
        whole = zip(self.rows, self.images, self.masks, self.decided, told, strict=True)
        for k, (row, images, masks, decided, said) in enumerate(list(whole)[:most]):
            observation = {c.name: np.asarray(row[spec.slices[c.name]]).reshape(c.shape).tolist() for c in spec.numbers}
            observation.update({name: image.tolist() for name, image in images.items()})
            one: dict[str, Any] = {
                "observation": observation,
                "action": {part: np.asarray(v).tolist() for part, v in decided.items()},
            }
            if self.remembers:
                one["begins"] = begins(k)
            if said:
                one["said"] = {name: np.asarray(v).tolist() for name, v in said.items()}
            if masks:
                one["legal"] = {name: mask.tolist() for name, mask in zip(names, masks, strict=False)}
            found.append(one)
        return found


def vectors_of(policy: Policy, count: int, seed: int = 0, says: bool = False) -> Vectors:
    """So many observations, drawn within the declared bounds, and what the policy decides on them."""
    draw, spec = np.random.default_rng(seed), policy.spec
    widths = mask_widths(spec.action) if spec.masked else []
    rows, images, masks = [], [], []
    for _ in range(count):
        parts = []
        for c in spec.numbers:
            low = c.low if np.isfinite(c.low) else -UNBOUNDED
            high = c.high if np.isfinite(c.high) else max(low, 0.0) + UNBOUNDED
            own = draw.uniform(low, high, c.size)
            parts.append(np.round(own) if c.whole else own)
        rows.append(np.concatenate(parts or [np.zeros(0)]).astype(np.float32))
        images.append({c.name: draw.integers(0, 256, c.shape).astype(np.uint8) for c in spec.images})
        allowed = [draw.random(width) < 0.6 for width in widths]
        for mask in allowed:
            mask[draw.integers(len(mask))] = True
        masks.append(tuple(allowed))
    return Vectors(rows, images, masks, *decided_by(policy, rows, images, masks, says), remembers=policy.remembers)


def files_of(graph: Graph, form: str, about: str, vectors: Vectors) -> dict[str, str | bytes]:
    """The files of a form, by name."""
    if form not in FORMS:
        raise SettingError(f"`form` is {form!r:.60}; there are {listed(FORMS)}.")
    made: dict[str, str | bytes]
    if form == "python":
        made = {"policy.py": numpy_form.written(graph, about)}
    elif form == "c":
        made = c_files(graph, about)
    elif form == "javascript":
        made = js_files(graph, about)
    else:
        from jokulmist.exporting.onnx_form import written

        made = {"policy.onnx": written(graph, about)}
    told = {"about": about, "vectors": vectors.as_json(graph.policy, 100)}
    return {**made, "vectors.json": json.dumps(told, indent=None), "README.md": readme(graph, form, about)}


def _fields(graph: Graph) -> list[tuple[str, str, int, str]]:
    """Of each channel: its name, its name in C, how many numbers, its unit; images after the numbers."""
    channels = [*graph.policy.spec.numbers, *graph.policy.spec.images]
    words = told_apart((c.name for c in channels), KEYWORDS)
    return [(c.name, words[c.name], c.size, c.unit) for c in channels]


def part_words(graph: Graph) -> dict[str, str]:
    """Of each part of the action, its name in C."""
    words = told_apart((part or "action" for part in graph.parts), KEYWORDS)
    return {part: words[part or "action"] for part in graph.parts}


def said_words(graph: Graph) -> dict[str, str]:
    """Of each thing that the policy says, its name in C."""
    return told_apart((name for name, _ in graph.said), KEYWORDS)


def _masks(graph: Graph) -> list[tuple[str, int]]:
    """The choices whose alternatives may be forbidden, with their counts."""
    if not graph.policy.spec.masked:
        return []
    words = part_words(graph)
    return [(words[part], one.count) for part, one in graph.parts.items() if isinstance(one, Choice)]


def c_files(graph: Graph, about: str) -> dict[str, str | bytes]:
    """A header and a source of C99."""
    loops, spec = Loops(graph, C()), graph.policy.spec
    masks = _masks(graph)
    images = {c.name for c in spec.images}
    observed = [
        f"  {'unsigned char' if name in images else 'float'} {own}{f'[{size}]' if size > 1 or name in images else ''};{f' /* {c_comment(unit)} */' if unit else ''}"
        for name, own, size, unit in _fields(graph)
    ]
    acts, labels, words, said = [], [], part_words(graph), said_words(graph)
    for part, one in graph.parts.items():
        own = words[part]
        if isinstance(one, Choice):
            acts.append(f"  int {own}; /* 0 .. {one.count - 1}, see policy_{own}_labels */")
            told = ", ".join(c_string(str(label)) for label in one.labels)
            labels.append(f"extern const char *const policy_{own}_labels[{one.count}];")
            labels.append(f"const char *const policy_{own}_labels[{one.count}] = {{{told}}};")
        else:
            acts.append(f"  float {own}{f'[{one.size}]' if one.shape else ''}; {_bounds(one)}")
    header = [
        f"/* {c_comment(about)}", " *", " * C99, no allocation, no dependency but the mathematical library. Arrays of work are static: decide in one thread at a time. */",
        "#ifndef POLICY_H", "#define POLICY_H", "", "/* What is seen, in units as declared. */", "typedef struct {", *observed, "} policy_observation;", "",
    ]  # fmt: skip
    if masks:
        header += [
            "/* What may be done now: 1 or 0 an alternative. */",
            "typedef struct {",
            *[f"  unsigned char {own}[{count}];" for own, count in masks],
            "} policy_legal;",
            "",
        ]
    header += [
        "typedef struct {",
        *acts,
        "} policy_action;",
        "",
        *[line for line in labels if line.startswith("extern")],
        "",
    ]
    if graph.said:
        header += [
            "/* What the policy says beside it. */", "typedef struct {",
            *[f"  float {said[name]}[{value.size}];" for name, value in graph.said], "} policy_said;", "",
        ]  # fmt: skip
    more = ", policy_said *said" if graph.said else ""
    handle = "policy_memory *memory, " if graph.state is not None else ""
    signature = f"void policy_decide(const policy_observation *observation, {'const policy_legal *legal, ' if masks else ''}{handle}policy_action *action{more})"
    if graph.state is not None:
        header += [
            "/* What is remembered since an episode began; one for each agent. */", "typedef struct {", f"  float state[{graph.state_width}];", "} policy_memory;", "",
            "/* Forget what was seen: call it where an episode begins. */", "void policy_begin(policy_memory *memory);", "",
        ]  # fmt: skip
    header += [f"{signature};", "", "#endif", ""]
    body = [
        '#include "policy.h"',
        "",
        "#include <math.h>",
        "",
        *[line for line in labels if not line.startswith("extern")],
        "",
        *loops.constants,
        "",
    ]
    if graph.state is not None:
        width = graph.state_width
        body += [
            "void policy_begin(policy_memory *memory) {",
            f"  for (int k = 0; k < {width}; k++) memory->state[k] = 0.0f;",
            "}",
            "",
        ]
    body += [f"{signature} {{"]
    if "state" in graph.inputs:
        body.append(f"  const float *{graph.inputs['state'].name} = memory->state;")
    if "numbers" in graph.inputs:
        body.append(f"  {C().buffer(graph.inputs['numbers'].name, 'float', spec.width)}")
    body += [f"  {line}" for line in loops.buffers]
    at = 0
    for name, own, size, _ in _fields(graph):
        if name in images:
            if name in graph.inputs:
                body.append(f"  const unsigned char *{graph.inputs[name].name} = observation->{own};")
            continue
        if "numbers" in graph.inputs:
            to = graph.inputs["numbers"].name
            body += (
                [f"  {to}[{at}] = observation->{own};"]
                if size == 1
                else [f"  for (int k = 0; k < {size}; k++) {to}[{at} + k] = observation->{own}[k];"]
            )
        at += size
    for k, (own, _) in enumerate(masks):
        if f"legal {k}" in graph.inputs:
            body.append(f"  const unsigned char *{graph.inputs[f'legal {k}'].name} = legal->{own};")
    if not any(name in graph.inputs for name in ("numbers", *images)):
        body.append("  (void)observation;")
    if masks and not any(f"legal {k}" in graph.inputs for k in range(len(masks))):
        body.append("  (void)legal;")
    # Declarations come before statements that may be loops: C99 takes them anywhere.
    body += loops.body
    for part, place, _ in loops.outputs:
        own, one = words[part], graph.parts[part]
        if isinstance(one, Choice):
            body.append(f"  action->{own} = (int){place}[0];")
        elif one.shape:
            body.append(f"  for (int k = 0; k < {one.size}; k++) action->{own}[k] = {place}[k];")
        else:
            body.append(f"  action->{own} = {place}[0];")
    for (name, value), (_, place, _) in zip(graph.said, loops.said, strict=True):
        body.append(f"  for (int k = 0; k < {value.size}; k++) said->{said[name]}[k] = (float){place}[k];")
    if graph.state is not None:
        body.append(f"  for (int k = 0; k < {graph.state_width}; k++) memory->state[k] = {loops.state}[k];")
    body += ["}", ""]
    return {"policy.h": "\n".join(header), "policy.c": "\n".join(body)}


def _bounds(one: Range) -> str:
    low, high = np.ravel(one.low), np.ravel(one.high)
    return f"/* {low[0]:g} .. {high[0]:g}{f' {c_comment(one.unit)}' if one.unit else ''} */"


def js_files(graph: Graph, about: str) -> dict[str, str | bytes]:
    """An ES module and its types."""
    loops, spec = Loops(graph, JavaScript()), graph.policy.spec
    images = {c.name for c in spec.images}
    body = [
        f"// {c_comment(about)}",
        "//",
        "// decide(observation, legal) gives the action: a label, a number, or an object of them by part. No dependencies.",
        "",
    ]
    body += [*loops.constants, *loops.buffers, ""]
    if any(op.name == "rem" for op in graph.ops):
        body += ["const remainder = (a, b) => a % b;"]
    if any(op.name == "erf" for op in graph.ops):
        body += ERF
    parts = {part: list(map(str, one.labels)) if isinstance(one, Choice) else None for part, one in graph.parts.items()}
    body += [f"export const labels = {js_string(parts)};", ""]
    if "numbers" in graph.inputs:
        body.append(f"const {graph.inputs['numbers'].name} = new Float32Array({spec.width});")
    body += ["let said = {};", ""] if graph.said else []
    if graph.state is not None:
        body += ["/** What is remembered where an episode begins: a handle for each agent, which deciding reads and writes. */",
                 f"export function begin() {{ return new Float32Array({graph.state_width}); }}", ""]  # fmt: skip
    takes, hands_on = (
        ("observation, legal = null, memory = null", "observation, legal, memory")
        if graph.state is not None
        else ("observation, legal = null", "observation, legal")
    )
    body += ["/** Indices and numbers by part. */", f"export function decided({takes}) {{"]
    if graph.state is not None:
        body += [
            '  if (memory === null) throw new TypeError("this policy remembers: const memory = begin(), then decide(observation, legal, memory)");'
        ]
        if "state" in graph.inputs:
            body.append(f"  const {graph.inputs['state'].name} = memory;")
    at = 0
    for name, _, size, _unit in _fields(graph):
        if name in images:
            if name in graph.inputs:
                body.append(f"  const {graph.inputs[name].name} = flat(observation[{js_string(name)}]);")
            continue
        if "numbers" in graph.inputs:
            to, shape = graph.inputs["numbers"].name, next(c.shape for c in spec.numbers if c.name == name)
            own = f"observation[{js_string(name)}]"
            body.append(f"  {to}[{at}] = {own};" if shape == () else f"  {to}.set(flat({own}), {at});")
        at += size
    names = [part for part, one in graph.parts.items() if isinstance(one, Choice)] if spec.masked else []
    for k, part in enumerate(names):
        if f"legal {k}" in graph.inputs:
            own = "legal" if part == "" else f"legal?.[{js_string(part)}]"
            one = graph.parts[part]
            assert isinstance(one, Choice)
            body.append(
                f"  const {graph.inputs[f'legal {k}'].name} = ({own} ?? new Array({one.count}).fill(true)).map(Number);"
            )
    body += loops.body
    outs = []
    for part, place, _ in loops.outputs:
        one = graph.parts[part]
        value = f"Array.from({place})" if isinstance(one, Range) and one.shape else f"{place}[0]"
        outs.append(f"{js_string(part)}: {value}")
    if graph.state is not None:
        body += [f"  memory.set({loops.state});"]
    told = [f"{js_string(name)}: Array.from({place})" for name, place, _ in loops.said]
    if told:
        body += ["  said = " + f"{{ {', '.join(told)} }};"]
    body += [f"  return {{ {', '.join(outs)} }};", "}", ""]
    if told:
        body += ["/** The action in words, and what the policy says beside it: arrays by name. */", f"export function say({takes}) {{",
                 f"  return {{ action: decide({hands_on}), said }};", "}", ""]  # fmt: skip
    body += [
        "/** The action in words. */", f"export function decide({takes}) {{", f"  const own = decided({hands_on});",
        "  for (const part in own) if (labels[part]) own[part] = labels[part][own[part]];", '  return "" in own ? own[""] : own;', "}", "",
        "function flat(value) {", "  return ArrayBuffer.isView(value) ? value : Array.isArray(value) ? value.flat(Infinity) : [value];", "}", "",
    ]  # fmt: skip
    kinds = "; ".join(
        f"{js_string(name)}: {'number' if size == 1 and name not in images else 'ArrayLike<number>'}"
        for name, _, size, _u in _fields(graph)
    )
    kinds_of = {part: " | ".join(js_string(v) for v in own) if own else "number" for part, own in parts.items()}
    action = (
        kinds_of[""] if "" in kinds_of else "{ " + "; ".join(f"{js_string(p)}: {t}" for p, t in kinds_of.items()) + " }"
    )
    allowed = dict.fromkeys(names, "boolean[]")
    legal = (
        "null"
        if not names
        else "boolean[] | null"
        if names == [""]
        else "{ " + "; ".join(f"{js_string(p)}?: {t}" for p, t in allowed.items()) + " } | null"
    )
    given = f"observation: Observation, legal?: {legal}" + (
        ", memory?: Float32Array" if graph.state is not None else ""
    )
    types = [
        f"/** {c_comment(about)} */", f"export interface Observation {{ {kinds} }}", f"export type Action = {action};",
        "export declare const labels: Record<string, string[] | null>;", f"export declare function decide({given}): Action;",
        f"export declare function decided({given}): Record<string, number | number[]>;", "",
    ]  # fmt: skip
    if graph.state is not None:
        types.insert(-1, "export declare function begin(): Float32Array;")
    if graph.said:
        types.insert(
            -1,
            f"export declare function say({given}): {{ action: Action; said: Record<string, number[]> }};",
        )
    return {"policy.js": "\n".join(body), "policy.d.ts": "\n".join(types)}


def _says(graph: Graph, form: str) -> str:
    """What stands in the README about what a policy says."""
    if not graph.said:
        return ""
    how = {
        "python": "`decide(observation, says=True)` gives the action and", "c": "`policy_decide` takes a `policy_said` last, and fills it with",
        "javascript": "`say(observation)` gives `{ action, said }`, with", "onnx": "Further outputs are",
    }[form]  # fmt: skip
    names = "\n".join(f"- `{name}`, {value.size} number{'s' if value.size > 1 else ''}" for name, value in graph.said)
    return f"""{how} what it says beside it:

{names}

To act as in training, draw an alternative by its chance, or a number around the one that it decides by its spread.

"""


def _remembers(graph: Graph, form: str) -> str:
    """What stands in the README about what a policy remembers."""
    if graph.state is None:
        return ""
    how = {
        "python": "`memory = begin()` where an episode begins, then `decide(observation, legal, memory)`: one memory for each agent.",
        "c": "Each agent has a `policy_memory`: call `policy_begin(&memory)` where an episode begins, and hand it to `policy_decide`.",
        "javascript": "`const memory = begin()` where an episode begins, then `decide(observation, legal, memory)`: one memory for each agent.",
        "onnx": f"The input `state` ({graph.state_width} numbers) is 0 where an episode begins, and then the output `state_after` of the decision before.",
    }[form]  # fmt: skip
    return f"It remembers what it saw since its episode began. {how}\n\n"


def _allowed(graph: Graph, form: str) -> str:
    """What stands in the README about what may be done now."""
    masks = _masks(graph)
    if not masks:
        return ""
    parts = [part for part, one in graph.parts.items() if isinstance(one, Choice)]
    which = (
        "one truth value an alternative"
        if parts == [""]
        else f"by part ({listed(parts)}) one truth value an alternative"
    )
    called = f"`decide(observation, legal)` takes {which}; everything is allowed where it is left out."
    how = {
        "python": called,
        "c": "Fill a `policy_legal` with 1 or 0 an alternative, and hand it to `policy_decide`.",
        "javascript": called,
        "onnx": "The inputs that begin with `legal` are one truth value an alternative.",
    }[form]
    return f"Not everything may be done always. {how}\n\n"


def readme(graph: Graph, form: str, about: str) -> str:
    """What whoever takes the files should know."""
    spec = graph.policy.spec
    channels = "\n".join(
        f"| {markdown(c.name)} | {'image, bytes' if c.image else f'{c.low:g} to {c.high:g}'} | {markdown(c.unit) or '-'} | {c.shape or 'one number'} |"
        for c in spec.channels
    )
    actions = "\n".join(
        f"- {f'{markdown(part)}: ' if part else ''}{markdown('one of ' + ', '.join(one.labels) if isinstance(one, Choice) else f'numbers of {one!r}')}"
        for part, one in graph.parts.items()
    )
    use = {
        "python": "```python\nfrom policy import decide\n\ndecide(observation)  # a dict with a value a channel\n```\n\nNeeds NumPy.",
        "c": "```\ncc -std=c99 -O2 -c policy.c      # and -lm where it is linked\n```\n\nFill a `policy_observation`, call `policy_decide`, read the `policy_action`.",
        "javascript": '```js\nimport { decide } from "./policy.js";\n\ndecide(observation); // an object with a value a channel\n```\n\nFor browsers and Node.',
        "onnx": "Inputs are the channels by name, with a first axis of one; outputs are `action`, or of several parts `action.PART`. Metadata hold names, bounds and labels.",
    }[form]
    return f"""# A policy

{markdown(about)}

{use}

It sees, in these units and this order:

| channel | from, to | unit | shape |
|---|---|---|---|
{channels}

It does:

{actions}

{_allowed(graph, form)}{_remembers(graph, form)}{_says(graph, form)}What it decides is what it does without exploration. `vectors.json` has observations, and what was decided on each: hold this file against them where it runs.
"""
