"""How the site is built: `sphinx-build -W docs build/site`. The pages are those that a forge shows; the reference is made from the docstrings."""

import inspect
import re
import sys
from operator import attrgetter
from pathlib import Path

HERE = Path(__file__).parent
ROOT = HERE.parent
sys.path.insert(0, str(ROOT / "src"))

import jokulmist  # noqa: E402
from jokulmist.agents.registry import AGENTS  # noqa: E402
from jokulmist.environments.modifiers.kinds import KINDS  # noqa: E402
from jokulmist.settings import described_settings  # noqa: E402

project, author, release = "Jokulmist", "The Jokulmist team", jokulmist.__version__
project_copyright = author
extensions = ["myst_parser", "sphinx.ext.autodoc", "sphinx.ext.napoleon"]
exclude_patterns = ["build", "screenshots"]
html_theme = "furo"
html_title = "Jokulmist"
html_show_sphinx = html_copy_source = html_show_copyright = False
myst_heading_anchors = 4
default_role = "code"
napoleon_google_docstring = False
napoleon_use_ivar = True
autodoc_typehints = "none"
autodoc_member_order = "bysource"
maximum_signature_line_length = 88
# Inherited machinery of settings is no part of what a researcher calls.
HIDDEN = {"State", "xp", "model_config", "model_fields", "model_computed_fields", "model_post_init"}


def groups():
    """The public names by the sections of names.md, in its order."""
    found, section = {}, None
    for line in (HERE / "names.md").read_text().splitlines():
        if line.startswith("## "):
            section = line[3:]
        elif line.startswith("| `") and section is not None:
            names = re.findall(r"`([\w.]+)`", line.split("|")[1])
            found.setdefault(section, []).extend(
                name for name in names if name.partition(".")[0] in jokulmist.__all__ and name != "__version__"
            )
    return {section: names for section, names in found.items() if names}


def slug(text):
    return re.sub(r"\W+", "-", text.lower()).strip("-")


def entry(name):
    """The directive for one name."""
    thing = attrgetter(name)(jokulmist)
    if isinstance(thing, type):
        kind, options = "class", ["   :members:", f"   :exclude-members: {', '.join(sorted(HIDDEN))}"]
        if issubclass(thing, BaseException):
            options = ["   :show-inheritance:"]
        elif hasattr(thing, "_fields") or name == "parts.Spec":  # attributes, which the docstring describes
            options = ["   :no-members:"]
        elif (
            hasattr(thing, "model_fields") and name != "Agent"
        ):  # settings; what a training loop calls is told once, of `Agent`
            options = ["   :no-members:"]
    elif callable(thing):
        kind, options = "function", []
    else:
        kind, options = "module", ["   :members:", "   :show-inheritance:"]
        if name == "gallery":
            options = ["   :no-members:"]
    return [f".. auto{kind}:: jokulmist.{name}", *options, ""]


def settings_page():
    """Each setting of each method, network and modifier: its default, what it may be, what it means, and how a plan writes it."""
    lines = [
        "Settings of methods",
        "===================",
        "",
        "In Python ``jm.PPO(clip=0.1)``; in a plan a line under ``[agent]``, ``clip = 0.1``; on the command line",
        "``--set agent.clip=0.1``. Schedules, networks and modifiers are at the end. Where there is",
        "no default, the method chooses by what is seen and done.",
        "",
    ]
    for name, kind in AGENTS.items():
        if kind.model_fields and name not in ("Fixed", "Roster"):
            lines += [name, "-" * len(name), "", *settings_table(kind)]
    lines += [
        "Networks",
        "--------",
        "",
        'In a plan ``network = { use = "Dense", hidden = [64, 64] }``, or ``network = "mine.py:sight"`` for a function',
        "of your own; novelty likewise: ``novelty = { weight = 0.1 }``.",
        "",
    ]
    for kind in (jokulmist.Dense, jokulmist.Convolutional, jokulmist.Recurrent, jokulmist.Novelty):
        lines += [kind.__name__, "~" * len(kind.__name__), "", *settings_table(kind)]
    lines += [
        "Schedules",
        "---------",
        "",
        "Wherever a setting may move, a plan has a table: ``{ linear = [0.5, 0.1], over = 1.0 }``,",
        "``{ geometric = [1.0, 0.05], over = 0.5 }``, ``{ geometric = [1.0], rate = 0.99, floor = 0.02 }``,",
        "``{ piecewise = [[0.0, 1.0], [0.5, 0.1]] }``. A float up to 1.0 is a share of the run, a whole number counts",
        'decisions (with ``of = "episodes"`` episodes).',
        "",
        "Modifiers",
        "---------",
        "",
        'In a plan, under ``[environment]``: ``modify = [{ use = "Stack", count = 4 }, { use = "TimeLeft" }]``, in the',
        "order in which they are put around the environment. Their settings are the parameters of their classes:",
        "",
    ]
    for name, kind in KINDS.items():
        parameters = [p.replace(annotation=p.empty) for p in inspect.signature(kind).parameters.values()]
        lines.append(f"- ``{name}({', '.join(map(str, parameters))})``")
    return [*lines, ""]


def settings_table(kind):
    """The settings of a class, a row each."""
    lines = [".. list-table::", "   :header-rows: 1", "   :widths: 20 20 20 40", ""]
    lines += ["   * - setting", "     - default", "     - allowed", "     - meaning"]
    for setting, (allowed, meaning) in described_settings(kind).items():
        field = kind.model_fields[setting]
        default = None if field.is_required() else field.get_default()
        shown = "" if default is None else f"``{default}``"
        lines += [f"   * - ``{setting}``", f"     - {shown}", f"     - {allowed}", f"     - {meaning}"]
    return [*lines, ""]


def write_reference(app):
    """A page a section, and one with them all; and a page an example."""
    place = HERE / "reference"
    place.mkdir(exist_ok=True)
    pages = {}
    for section, names in groups().items():
        lines = [section, "=" * len(section), ""]
        for name in names:
            lines += [name, "-" * len(name), "", *entry(name)]
            if name == "gallery":
                for shipped in jokulmist.gallery.__all__:
                    if isinstance(getattr(jokulmist.gallery, shipped), type):
                        lines += [f".. autoclass:: jokulmist.gallery.{shipped}", "   :no-members:", ""]
        pages[slug(section)] = lines
    pages["settings"] = settings_page()
    for path in sorted((ROOT / "examples").rglob("*.py")):
        name = f"examples/{path.relative_to(ROOT / 'examples').as_posix()}"
        pages[f"example-{slug(name)}"] = [
            ":orphan:",
            "",
            name,
            "=" * len(name),
            "",
            f".. literalinclude:: ../../{name}",
            "",
        ]
    head = "Reference"
    listed = ["   " + name for name in pages if not name.startswith("example-")]
    pages["index"] = [head, "=" * len(head), "", ".. toctree::", "   :maxdepth: 2", "", *listed, ""]
    for name, lines in pages.items():
        text = "\n".join(lines)
        target = place / f"{name}.rst"
        if not target.exists() or target.read_text() != text:
            target.write_text(text)
    for old in place.glob("*.rst"):
        if old.stem not in pages:
            old.unlink()


def rewrite_links(app, page, content):
    """Links to examples lead to their pages; other files of the repository are named, as the site does not have them."""
    text = content[0]
    text = re.sub(r"\]\(\.\./(examples/[\w/]+\.py)\)", lambda m: f"](reference/example-{slug(m[1])}.rst)", text)
    text = re.sub(r"\[([^\]]+)\]\(\.\./(?!examples/[\w/]+\.py)[^)]*\)", r"\1", text)
    content[0] = text


def is_formula(paragraph):
    """Whether a paragraph is a formula: set in, or with gaps between its parts, or an equation without a full stop."""
    inside = [line.strip() for line in paragraph]
    equation = re.search(r"\w\)? (\+|-)?= |<- ", " ".join(inside)) and not inside[-1].endswith(".")
    return paragraph[0].startswith("    ") or any("  " in line for line in inside) or bool(equation)


def formulas(app, what, name, thing, options, lines):
    """Formulas before the first section of a docstring are shown as they are written."""
    end = next((k - 1 for k, line in enumerate(lines) if line.strip() and set(line.strip()) == {"-"}), len(lines))
    paragraphs, paragraph = [], []
    for line in [*lines[:end], ""]:
        if line.strip():
            paragraph.append(line)
        elif paragraph:
            paragraphs.append(paragraph)
            paragraph = []
    found = []
    for k, paragraph in enumerate(paragraphs):
        listed = paragraph[0].lstrip().startswith((">>>", "- ", "* ", "1.", "|", "=", ".. "))
        if k and not listed and not paragraphs[k - 1][-1].endswith("::") and is_formula(paragraph):
            found += [".. code-block:: none", "", *[f"    {line.strip()}" for line in paragraph], ""]
        else:
            found += [*paragraph, ""]
    lines[:end] = found


def setup(app):
    app.connect("autodoc-process-docstring", formulas, priority=100)  # before the sections are read
    app.connect("builder-inited", write_reference)
    app.connect("source-read", rewrite_links)
