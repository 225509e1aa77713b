"""The files of each form: the policy, how it is used, and observations with what the policy decides on them."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from typing import Any, NamedTuple

import numpy as np

from jokulmist.environments.spaces.actions import Choice, Range
from jokulmist.environments.spaces.legal import choices_of, mask_widths
from jokulmist.errors import SettingError, listed
from jokulmist.exporting import numpy_form
from jokulmist.exporting.escapes import c_comment, c_string, js_string, markdown, python_docstring, unique_names
from jokulmist.exporting.graph import Graph, begins, decided_by
from jokulmist.exporting.loops import C, JavaScript, Loops
from jokulmist.loops.policy import Policy

FORMS = ("python", "c", "javascript", "onnx")
UNBOUNDED = 3.0
KEYWORDS = """
auto break case char const continue default do double else enum extern float for goto if inline
int long register restrict return short signed sizeof static struct switch typedef union unsigned void volatile while
""".split()  # noqa: SIM905


class Vectors(NamedTuple):
    """Observations, and what the policy decides on each.

    Attributes
    ----------
    rows : list of float32, shape ``(width,)``
    images, masks : list
    decided : list of dict of str to array
        By part, indices and numbers.
    policy_outputs : list of dict of str to array
        What the policy says beside it; empty unless it is asked for.
    remembers : bool
        Whether what is decided depends on the observations before, since the last of those with which an episode
        begins.
    """

    rows: list[Any]
    images: list[dict[str, Any]]
    masks: list[tuple[Any, ...]]
    decided: list[dict[str, Any]]
    policy_outputs: list[dict[str, Any]]
    remembers: bool = False

    def as_json(self, policy: Policy, most: int) -> list[dict[str, Any]]:
        """The first of them, by channel and part."""
        spec, names = policy.spec, list(choices_of(policy.spec.action))
        entries = []
        extras_of_rows = self.policy_outputs or [{}] * len(self.rows)
        rows_zipped = zip(self.rows, self.images, self.masks, self.decided, extras_of_rows, strict=True)
        for k, (row, images, masks, decided, extras) in enumerate(list(rows_zipped)[:most]):
            observation = {c.name: np.asarray(row[spec.slices[c.name]]).reshape(c.shape).tolist() for c in spec.numbers}
            observation.update({name: image.tolist() for name, image in images.items()})
            entry: dict[str, Any] = {
                "observation": observation,
                "action": {part: np.asarray(v).tolist() for part, v in decided.items()},
            }
            if self.remembers:
                entry["begins"] = begins(k)
            if extras:
                entry["said"] = {name: np.asarray(v).tolist() for name, v in extras.items()}
            if masks:
                entry["legal"] = {name: mask.tolist() for name, mask in zip(names, masks, strict=False)}
            entries.append(entry)
        return entries


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
            values = draw.uniform(low, high, c.size)
            parts.append(np.round(values) if c.whole else values)
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
    files: dict[str, str | bytes]
    if form == "python":
        files = {"policy.py": python_file(graph, about)}
    elif form == "c":
        files = c_files(graph, about)
    elif form == "javascript":
        files = js_files(graph, about)
    else:
        from jokulmist.exporting.onnx_form import written

        files = {"policy.onnx": written(graph, about)}
    content = {"about": about, "vectors": vectors.as_json(graph.policy, 100)}
    return {**files, "vectors.json": json.dumps(content, indent=None), "README.md": readme(graph, form, about)}


def _fields(graph: Graph) -> list[tuple[str, str, int, str]]:
    """Of each channel: its name, its name in C, how many numbers, its unit; images after the numbers."""
    channels = [*graph.policy.spec.numbers, *graph.policy.spec.images]
    words = unique_names((c.name for c in channels), KEYWORDS)
    return [(c.name, words[c.name], c.size, c.unit) for c in channels]


def part_words(graph: Graph) -> dict[str, str]:
    """Of each part of the action, its name in C."""
    words = unique_names((part or "action" for part in graph.parts), KEYWORDS)
    return {part: words[part or "action"] for part in graph.parts}


def said_words(graph: Graph) -> dict[str, str]:
    """Of each thing that the policy says, its name in C."""
    return unique_names((name for name, _ in graph.policy_outputs), KEYWORDS)


def masked_choices(graph: Graph) -> list[tuple[str, int]]:
    """The choices whose alternatives may be forbidden, with their counts."""
    if not graph.policy.spec.masked:
        return []
    words = part_words(graph)
    return [(words[part], space.count) for part, space in graph.parts.items() if isinstance(space, Choice)]


def _rendered(name: str, context: Mapping[str, Any]) -> str:
    """A file from its template; texts in the context are escaped for its language already."""
    from jinja2 import Environment as Templates
    from jinja2 import PackageLoader, StrictUndefined

    templates = Templates(
        loader=PackageLoader("jokulmist.exporting"),
        trim_blocks=True,
        lstrip_blocks=True,
        keep_trailing_newline=True,
        undefined=StrictUndefined,
        autoescape=False,
    )
    return templates.get_template(name).render(context)


def _context(graph: Graph, loops: Loops, quoted: Callable[[Any], str]) -> dict[str, Any]:
    """What the templates of C and of JavaScript name; `quoted` makes a string of the language."""
    spec, words, words_said = graph.policy.spec, part_words(graph), said_words(graph)
    inputs = {name: value.name for name, value in graph.inputs.items()}
    channels, images, offset = {c.name: c for c in spec.channels}, {c.name for c in spec.images}, 0
    fields = []
    for name, word, size, unit in _fields(graph):
        image = name in images
        fields.append(
            {
                "name": quoted(name),
                "word": word,
                "size": size,
                "unit": c_comment(unit),
                "image": image,
                "array": channels[name].shape != (),
                "input": inputs.get(name if image else "numbers"),
                "offset": offset,
            }
        )
        offset += 0 if image else size
    places = {part: place for part, place, _ in loops.outputs}
    parts = [
        {
            "name": quoted(part),
            "word": words[part],
            "place": places[part],
            "array": isinstance(space, Range) and space.shape != (),
            "labels": [quoted(str(label)) for label in space.labels] if isinstance(space, Choice) else [],
            **({} if isinstance(space, Choice) else {"size": space.size, "bounds": _bounds(space)}),
        }
        for part, space in graph.parts.items()
    ]
    choices = [part for part, space in graph.parts.items() if isinstance(space, Choice)]
    masks = [
        {"name": quoted(part), "word": word, "count": count, "whole": part == "", "input": inputs.get(f"legal {k}")}
        for k, (part, (word, count)) in enumerate(zip(choices, masked_choices(graph), strict=False))
    ]
    observation_parts = [
        {"name": quoted(name), "word": words_said[name], "size": value.size, "place": place}
        for (name, value), (_, place, _) in zip(graph.policy_outputs, loops.policy_outputs, strict=True)
    ]
    state = None if graph.state is None else {"width": graph.state_width, "input": inputs.get("state")}
    return {
        "channels": fields,
        "parts": parts,
        "masks": masks,
        "said": observation_parts,
        "state": state,
        "numbers": inputs.get("numbers"),
        "width": spec.width,
        "loops": loops,
        "operations": {op.name for op in graph.ops},
    }


def c_files(graph: Graph, about: str) -> dict[str, str | bytes]:
    """A header and a source of C99."""
    context = _context(graph, Loops(graph, C()), c_string)
    arguments = [
        "const policy_observation *observation",
        *["const policy_legal *legal"] * bool(context["masks"]),
        *["policy_memory *memory"] * bool(context["state"]),
        "policy_action *action",
        *["policy_said *said"] * bool(context["said"]),
    ]
    context |= {"about": c_comment(about), "signature": f"void policy_decide({', '.join(arguments)})"}
    if context["numbers"]:
        context["numbers_buffer"] = C().buffer(context["numbers"], "float", context["width"])
    return {name: _rendered(name, context) for name in ("policy.h", "policy.c")}


def _bounds(space: Range) -> str:
    low, high = np.ravel(space.low), np.ravel(space.high)
    return f"{low[0]:g} .. {high[0]:g}{f' {c_comment(space.unit)}' if space.unit else ''}"


def js_files(graph: Graph, about: str) -> dict[str, str | bytes]:
    """An ES module and its types."""
    context = _context(graph, Loops(graph, JavaScript()), js_string)
    labels = {
        part: list(map(str, space.labels)) if isinstance(space, Choice) else None for part, space in graph.parts.items()
    }
    kinds = {
        part: " | ".join(map(js_string, labels_of)) if labels_of else "number" for part, labels_of in labels.items()
    }
    legal = "null"
    if context["masks"]:
        by_part = "; ".join(f"{mask['name']}?: boolean[]" for mask in context["masks"])
        legal = "boolean[] | null" if context["masks"][0]["whole"] else f"{{ {by_part} }} | null"
    remembers = context["state"] is not None
    context |= {
        "about": c_comment(about),
        "labels": js_string(labels),
        "takes": f"observation, legal = null{', memory = null' if remembers else ''}",
        "hands_on": f"observation, legal{', memory' if remembers else ''}",
        "action_type": kinds[""]
        if "" in kinds
        else "{ " + "; ".join(f"{js_string(part)}: {kind}" for part, kind in kinds.items()) + " }",
        "given": f"observation: Observation, legal?: {legal}{', memory?: Float32Array' if remembers else ''}",
    }
    return {name: _rendered(name, context) for name in ("policy.js", "policy.d.ts")}


def python_file(graph: Graph, about: str) -> str:
    """One file of Python that needs NumPy."""
    constants, spec = numpy_form.Constants(), graph.policy.spec
    lines = [
        f"{op.out.name} = {numpy_form.expression(op, [constants.written(v) for v in op.inputs])}" for op in graph.ops
    ]
    outputs = ", ".join(f"{part!r}: {constants.written(value)}" for part, value in graph.outputs)
    extras = ", ".join(
        f"{name!r}: np.asarray({constants.written(value)}).reshape(-1)" for name, value in graph.policy_outputs
    )
    if graph.state is not None:
        lines.append(f"memory[...] = {constants.written(graph.state)}")
    parts = {
        part: {"labels": list(space.labels)} if isinstance(space, Choice) else {"shape": list(space.shape)}
        for part, space in graph.parts.items()
    }
    state = None if graph.state is None else {"width": graph.state_width}
    context = {
        "about": python_docstring(about),
        "masked": spec.masked,
        "operations": {op.name for op in graph.ops},
        "state": state,
        "channels": repr([(c.name, c.shape) for c in spec.numbers]),
        "images": repr([(c.name, c.shape) for c in spec.images]),
        "parts": repr(parts),
        "constants": constants.lines,
        "lines": [*numpy_form.readings(graph), *lines],
        "outputs": f"{{{outputs}}}",
        "said": extras and f"{{{extras}}}",
    }
    return _rendered("policy.py.txt", context)


def _values_text(graph: Graph, form: str) -> str:
    """What is in the README about what a policy says."""
    if not graph.policy_outputs:
        return ""
    texts = {
        "python": "`decide(observation, says=True)` gives the action and",
        "c": "`policy_decide` takes a `policy_said` last, and fills it with",
        "javascript": "`say(observation)` gives `{ action, said }`, with",
        "onnx": "Further outputs are",
    }[form]
    names = "\n".join(
        f"- `{name}`, {value.size} number{'s' if value.size > 1 else ''}" for name, value in graph.policy_outputs
    )
    return f"""{texts} what it says beside it:

{names}

To act as in training, draw an alternative by its chance, or a number around the one that it decides by its spread.

"""


def _remembers(graph: Graph, form: str) -> str:
    """What is in the README about what a policy remembers."""
    if graph.state is None:
        return ""
    texts = {
        "python": (
            "`memory = begin()` where an episode begins, then `decide(observation, legal, memory)`: one memory for "
            "each agent."
        ),
        "c": (
            "Each agent has a `policy_memory`: call `policy_begin(&memory)` where an episode begins, and hand it to "
            "`policy_decide`."
        ),
        "javascript": (
            "`const memory = begin()` where an episode begins, then `decide(observation, legal, memory)`: one memory "
            "for each agent."
        ),
        "onnx": (
            f"The input `state` ({graph.state_width} numbers) is 0 where an episode begins, and then the output "
            "`state_after` of the decision before."
        ),
    }[form]
    return f"It remembers what it saw since its episode began. {texts}\n\n"


def _allowed(graph: Graph, form: str) -> str:
    """What is in the README about what may be done now."""
    masks = masked_choices(graph)
    if not masks:
        return ""
    parts = [part for part, space in graph.parts.items() if isinstance(space, Choice)]
    choice_words = (
        "one truth value an alternative"
        if parts == [""]
        else f"by part ({listed(parts)}) one truth value an alternative"
    )
    called = f"`decide(observation, legal)` takes {choice_words}; everything is allowed where it is left out."
    texts = {
        "python": called,
        "c": "Fill a `policy_legal` with 1 or 0 an alternative, and hand it to `policy_decide`.",
        "javascript": called,
        "onnx": "The inputs that begin with `legal` are one truth value an alternative.",
    }[form]
    return f"Not everything may be done always. {texts}\n\n"


def _values_of(space: Any) -> str:
    """What a part of an action may be."""
    return "one of " + ", ".join(space.labels) if isinstance(space, Choice) else f"numbers of {space!r}"


def readme(graph: Graph, form: str, about: str) -> str:
    """What whoever takes the files should know."""
    spec = graph.policy.spec
    channels = "\n".join(
        f"| {markdown(c.name)} | {'image, bytes' if c.image else f'{c.low:g} to {c.high:g}'} | "
        f"{markdown(c.unit) or '-'} | {c.shape or 'one number'} |"
        for c in spec.channels
    )
    actions = "\n".join(
        f"- {f'{markdown(part)}: ' if part else ''}{markdown(_values_of(space))}" for part, space in graph.parts.items()
    )
    use = {
        "python": (
            "```python\nfrom policy import decide\n\ndecide(observation)  # a dict with a value a "
            "channel\n```\n\nNeeds NumPy."
        ),
        "c": (
            "```\ncc -std=c99 -O2 -c policy.c      # and -lm where it is linked\n```\n\nFill a `policy_observation`, "
            "call `policy_decide`, read the `policy_action`."
        ),
        "javascript": (
            '```js\nimport { decide } from "./policy.js";\n\ndecide(observation); // an object with a value a '
            "channel\n```\n\nFor browsers and Node."
        ),
        "onnx": (
            "Inputs are the channels by name, with a first axis of one; outputs are `action`, or of several parts "
            "`action.PART`. Metadata hold names, bounds and labels."
        ),
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

{_allowed(graph, form)}{_remembers(graph, form)}{_values_text(graph, form)}What it \
decides is what it does without exploration. `vectors.json` has observations, and what was decided on each: hold \
this file against them where it runs.
"""
