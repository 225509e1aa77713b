"""What a class needs of the files around it: its statement, and those that bind the names which it uses.

Two versions of a script differ for a class only where this part differs; and of a notebook this part is what a run
keeps.
"""

from __future__ import annotations

import ast
import hashlib
import io
import tokenize
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache

from jokulmist.sources.reading import SourceFile

ALL = "*"


@dataclass
class Statements:
    """A module's statements, with the global names that each binds and uses.

    Attributes
    ----------
    nodes : list of ast.stmt
    binders : dict of str to list of int
        The statements that bind a name, or change what it names.
    """

    nodes: list[ast.stmt]
    binders: dict[str, list[int]] = field(default_factory=dict)

    @classmethod
    def from_files(cls, tree: ast.Module) -> Statements:
        statements = cls(tree.body)
        for number, node in enumerate(tree.body):
            for name in _bound(node):
                statements.binders.setdefault(name, []).append(number)
        return statements


def _bound(node: ast.stmt) -> set[str]:
    """The global names that a statement at the top of a module binds."""
    names: set[str] = set()
    if isinstance(node, (ast.ClassDef, ast.FunctionDef, ast.AsyncFunctionDef)):
        return {node.name}
    for part in ast.walk(node):
        if isinstance(part, (ast.Import, ast.ImportFrom)):
            names |= {alias.asname or alias.name.partition(".")[0] for alias in part.names}
        elif isinstance(part, (ast.ClassDef, ast.FunctionDef, ast.AsyncFunctionDef)):
            names.add(part.name)
        elif isinstance(part, ast.Name) and isinstance(part.ctx, (ast.Store, ast.Del)):
            names.add(part.id)
        elif isinstance(part, (ast.Attribute, ast.Subscript)) and isinstance(part.ctx, ast.Store):
            root: ast.expr = part
            while isinstance(root, (ast.Attribute, ast.Subscript)):
                root = root.value
            if isinstance(root, ast.Name):
                names.add(root.id)
    return names


def _used(node: ast.stmt) -> set[str]:
    return {part.id for part in ast.walk(node) if isinstance(part, ast.Name) and isinstance(part.ctx, ast.Load)}


def needed(
    trees: Mapping[str, ast.Module], files: Mapping[str, SourceFile], module: str, name: str
) -> list[tuple[str, int]]:
    """The statements that a global name needs, by module and place, in order."""
    statements = {m: Statements.from_files(tree) for m, tree in trees.items()}
    places: set[tuple[str, int]] = set()
    todo = [(module, name)]
    seen = set(todo)

    def request(name_in_module: tuple[str, str]) -> None:
        if name_in_module not in seen:
            seen.add(name_in_module)
            todo.append(name_in_module)

    while todo:
        module_name, wanted = todo.pop()
        if module_name not in statements:
            continue
        statements_here = statements[module_name]
        numbers = range(len(statements_here.nodes)) if wanted == ALL else statements_here.binders.get(wanted, [])
        for number in numbers:
            if (module_name, number) in places:
                continue
            places.add((module_name, number))
            node = statements_here.nodes[number]
            for used in _used(node):
                request((module_name, used))
            for part in ast.walk(node):
                if isinstance(part, ast.Import):
                    for alias in part.names:
                        request((alias.name, ALL))
                elif isinstance(part, ast.ImportFrom):
                    named = part.module or ""
                    base = files[module_name].absolute(named, part.level) if module_name in files else named
                    for alias in part.names:
                        request(
                            (f"{base}.{alias.name}", ALL) if f"{base}.{alias.name}" in trees else (base, alias.name)
                        )
    return sorted(places)


def version_of(texts: Mapping[str, str], files: Mapping[str, SourceFile], module: str, name: str) -> str:
    """Six hexadecimal digits of what a name needs; comments, docstrings and the way it is laid out do not count.

    They are made of the words of the text and not of a syntax tree, whose form differs between versions of Python.
    """
    trees = {module_name: _tree(text) for module_name, text in texts.items()}
    digest = hashlib.sha256()
    for module_name, number in needed(trees, files, module, name):
        digest.update(_docstring_text(_words(texts[module_name]), trees[module_name].body[number]).encode())
        digest.update(b"\n")
    return digest.hexdigest()[:6]


def first_line(node: ast.stmt) -> int:
    """The line that a statement begins in, with what decorates it."""
    first: int = min([node.lineno, *(mark.lineno for mark in getattr(node, "decorator_list", []))])
    return first


def _docstring_text(words: list[tuple[int, str]], node: ast.stmt) -> str:
    """The words of a statement."""
    first = first_line(node)
    return "".join(word for line, word in words if first <= line <= (node.end_lineno or line))


@lru_cache(maxsize=64)  # of one file several classes are asked for
def _tree(text: str) -> ast.Module:
    return ast.parse(text)


@lru_cache(maxsize=64)
def _words(text: str) -> list[tuple[int, str]]:
    """The words of a text with their lines, without comments and docstrings; what is further in is marked as such."""
    documented: list[tuple[tuple[int, int], tuple[int, int]]] = []
    for node in ast.walk(_tree(text)):
        if (
            isinstance(node, (ast.ClassDef, ast.FunctionDef, ast.AsyncFunctionDef))
            and ast.get_docstring(node) is not None
        ):
            docstring = node.body[0]
            documented.append(
                (
                    (docstring.lineno, docstring.col_offset),
                    (docstring.end_lineno or docstring.lineno, docstring.end_col_offset or 0),
                )
            )
    words = []
    for token in tokenize.generate_tokens(io.StringIO(text).readline):
        if token.type in (tokenize.COMMENT, tokenize.NL, tokenize.ENDMARKER):
            continue
        if any(begin <= token.start and token.end <= end for begin, end in documented):
            continue
        if token.type in (tokenize.NEWLINE, tokenize.INDENT, tokenize.DEDENT):
            words.append((token.start[0], {tokenize.NEWLINE: "\n", tokenize.INDENT: "\t"}.get(token.type, "\r")))
        else:
            # Since Python 3.12 a formatted string is many words, before that one: without spaces and doubled braces
            # they are the same.
            word = "".join(token.string.split()).replace("{{", "{").replace("}}", "}")
            words.append((token.start[0], word))
    return words


def members(text: str, name: str) -> dict[str, tuple[str, str]]:
    """The parts of a class by name: what each is (a term, an ending, a method, a value), and its words. Empty where
    there is no such class."""
    tree = ast.parse(text)
    node = next((n for n in ast.walk(tree) if isinstance(n, ast.ClassDef) and n.name == name), None)
    texts: dict[str, tuple[str, str]] = {}
    if node is None:
        return texts
    words = _words(text)
    for part in node.body:
        if isinstance(part, (ast.FunctionDef, ast.AsyncFunctionDef)):
            marks = [ast.unparse(mark.func if isinstance(mark, ast.Call) else mark) for mark in part.decorator_list]
            kinds = [KINDS[mark.rpartition(".")[2]] for mark in marks if mark.rpartition(".")[2] in KINDS]
            texts[part.name] = (kinds[0] if kinds else "method", _docstring_text(words, part))
        elif isinstance(part, ast.ClassDef):
            texts[part.name] = ("class", _docstring_text(words, part))
        elif isinstance(part, (ast.Assign, ast.AnnAssign)):
            targets = part.targets if isinstance(part, ast.Assign) else [part.target]
            for target in targets:
                if isinstance(target, ast.Name):
                    texts[target.id] = ("value", _docstring_text(words, part))
    return texts


KINDS = {
    "reward": "term",
    "ending": "ending",
    "cut": "cut",
    "measure": "measure",
    "sensor": "sensor",
    "derived": "derived value",
}


def changes(before: Mapping[str, tuple[str, str]], after: Mapping[str, tuple[str, str]]) -> list[str]:
    """How the parts of a class differ, in words: ``term `effort` added``."""
    lines = []
    for name in sorted({*before, *after}):
        old, new = before.get(name), after.get(name)
        if old == new:
            continue
        kind = (new or old or ("", ""))[0]
        kind = "" if kind == "value" else f"{kind} "
        lines.append(f"{kind}`{name}` {'added' if old is None else 'removed' if new is None else 'changed'}")
    return lines
