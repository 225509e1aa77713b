"""Names say what a value is or what a function does: no participle, pronoun, adverb or preposition alone is one."""

import ast
import collections
import re
from pathlib import Path

SOURCE = Path(__file__).parents[1] / "src" / "jokulmist"
TREES = {file.relative_to(SOURCE).as_posix(): ast.parse(file.read_text()) for file in sorted(SOURCE.rglob("*.py"))}
WORDS = """found told tell tells kept keep held own one ones given known said say says judged begun taken asked ask made
theirs ours mine now at here there what who where how which whole some other others again anew onward about around near
over of to by apart along ahead drawn shown heard hear settled mattering mend goes_on so_far"""
NO_NAMES = set(WORDS.split())
# A word that users type or read, where it is the plainest; or one that Python or NumPy prescribes.
EXCEPTIONS = {
    "over": "the axis of a curve, the space of a search, how long a schedule moves, how a measure is summed",
    "by": "what groups runs, what decides about a partner or a checkpoint, the factor of a modifier",
    "of": "what a schedule counts, the function of a potential, the player of a sensor",
    "to": "where a command or an export writes",
    "about": "the sentence that an exported policy carries",
    "says": "whether values and probabilities are exported, too",
    "again": "how often the winner of a search is trained once more",
    "whole": "whether a channel or a drawn parameter takes whole numbers only",
    "other": "the argument of `__eq__`",
}
PLACED = {
    ("environments/declaration/loops.py", "at"): "where `jm.slice_array` begins",
    ("lanes/compiled/tracing.py", "at"): "where `jm.slice_array` begins",
    ("command/main.py", "where"): "`runs --where`",
    ("records/run_index.py", "where"): "`runs --where`",
    ("gallery/lots.py", "taken"): "how many lots were taken: a state field of the game",
}

# What a user's class declares, and its base does not have.
OF_USERS = {("Simulator", "players")}


def names_in(tree):
    """Each name that a module gives to a function, a class, an argument, an attribute or a variable, with its line."""
    for node in ast.walk(tree):
        if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)):
            yield node.name, node.lineno
        elif isinstance(node, ast.arg):
            yield node.arg, node.lineno
        elif isinstance(node, ast.Name) and isinstance(node.ctx, ast.Store):
            yield node.id, node.lineno
        elif isinstance(node, ast.Attribute) and isinstance(node.ctx, ast.Store):
            yield node.attr, node.lineno


def test_no_participle_pronoun_adverb_or_preposition_is_a_name():
    bad = [
        f"{file}:{line} {name}"
        for file, tree in TREES.items()
        for name, line in names_in(tree)
        if (word := name.strip("_").lower()) in NO_NAMES and word not in EXCEPTIONS and (file, word) not in PLACED
    ]
    assert bad == []


def test_no_two_classes_share_a_name():
    places = collections.defaultdict(list)
    for file, tree in TREES.items():
        for node in ast.walk(tree):
            if isinstance(node, ast.ClassDef) and node.name != "State":  # each environment's own, as the contract says
                places[node.name].append(file)
    assert {name: files for name, files in places.items() if len(files) > 1} == {}


def test_docstrings_name_what_exists():
    """A name of two words or a path in backticks is one that the library's code or texts have."""
    existing = set()
    for tree in TREES.values():
        existing |= {name for name, _ in names_in(tree)}
        for node in ast.walk(tree):
            if isinstance(node, ast.Name):
                existing.add(node.id)
            elif isinstance(node, ast.Attribute):
                existing.add(node.attr)
            elif isinstance(node, ast.alias):
                existing |= set(node.name.split("."))
            elif isinstance(node, ast.keyword) and node.arg:
                existing.add(node.arg)
            elif isinstance(node, ast.Constant) and isinstance(node.value, str) and len(node.value) < 60:
                existing |= set(re.findall(r"\w+", node.value))
    existing |= {part for file in TREES for part in file.removesuffix(".py").split("/")}
    files, stale = {file.rpartition("/")[2] for file in TREES}, []
    for file, tree in TREES.items():
        for node in ast.walk(tree):
            if not isinstance(node, (ast.Module, ast.ClassDef, ast.FunctionDef, ast.AsyncFunctionDef)):
                continue
            for text in re.findall(r"(?<!`)`([A-Za-z_][\w.]*)(?:\(\))?`(?!`)", ast.get_docstring(node) or ""):
                parts = text.split(".")
                if parts[-1] == "py":
                    stale += [f"{file}: {text}"] * (text not in files)
                elif ("_" in text or "." in text or text[0].isupper()) and not set(parts) <= existing | {
                    "md",
                    "docs",
                }:
                    stale.append(f"{file}: {text}")
    assert stale == []


def entries_of(docstring, section):
    """The names that a section of a docstring explains."""
    lines = docstring.splitlines()
    begin = next(
        (k + 2 for k, line in enumerate(lines[:-1]) if line == section and set(lines[k + 1]) == {"-"}), len(lines)
    )
    for k in range(begin, len(lines)):
        if k + 1 < len(lines) and set(lines[k + 1]) == {"-"}:
            return
        if entry := re.match(r"([\w*, ]+) : ", lines[k]):
            yield from (name.strip(" *") for name in entry[1].split(","))


def test_what_a_docstring_explains_is_there():
    """Attributes of a class and parameters of a function are those that it has."""
    stale = []
    for file, tree in TREES.items():
        for node in ast.walk(tree):
            if isinstance(node, ast.ClassDef):
                known = {name for name, _ in names_in(node)} | {
                    n.attr for n in ast.walk(node) if isinstance(n, ast.Attribute)
                }
            elif isinstance(node, ast.FunctionDef):
                known = {n.arg for n in ast.walk(node.args) if isinstance(n, ast.arg)}
                if node.args.kwarg is not None and node.args.kwarg.annotation is not None:  # `Unpack[Options]`
                    kinds = {n.id for n in ast.walk(node.args.kwarg.annotation) if isinstance(n, ast.Name)}
                    known |= {
                        name
                        for part in ast.walk(tree)
                        if isinstance(part, ast.ClassDef) and part.name in kinds
                        for name, _ in names_in(part)
                    }
            else:
                continue
            names = [
                n
                for section in ("Attributes", "Parameters")
                for n in entries_of(ast.get_docstring(node) or "", section)
            ]
            stale += [
                f"{file}: {name} of {node.name}"
                for name in names
                if name not in known and (node.name, name) not in OF_USERS
            ]
    assert stale == []


def test_lines_are_short_and_the_formatter_is_on():
    """At most 120 characters, but for what a comment for a tool adds and an example of a docstring."""
    long, off = [], []
    for file in sorted(SOURCE.rglob("*.py")):
        for number, line in enumerate(file.read_text().splitlines(), 1):
            code = re.sub(r"  # (type|noqa).*", "", line)
            if len(code) > 120 and not code.strip().startswith((">>>", "...")):
                long.append(f"{file.name}:{number}")
            if "fmt: skip" in line or "fmt: off" in line:
                off.append(f"{file.name}:{number}")
    assert (long, off) == ([], [])


def test_the_walks_of_the_contributing_page_name_what_exists():
    text = (SOURCE.parents[1] / "CONTRIBUTING.md").read_text()
    walks = text[text.index("**Five walks**") : text.index("**Names.**")]
    names = re.findall(r"`([\w./]+)`", walks)
    files = {path.relative_to(SOURCE).as_posix() for path in SOURCE.rglob("*.*")}
    defined = {node.name for tree in TREES.values() for node in ast.walk(tree) if hasattr(node, "name")}
    defined |= set(re.findall(r"function (\w+)", (SOURCE / "live/page/run.js").read_text()))
    missing = [
        name
        for name in names
        if (
            not any(file.endswith(name) for file in files)
            if name.endswith((".py", ".js"))
            else not (SOURCE / name).is_dir() and not set(name.split(".")) <= defined
        )
    ]
    assert (len(names) > 40, missing) == (True, [])
