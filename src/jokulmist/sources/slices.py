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
    def of(cls, tree: ast.Module) -> Statements:
        found = cls(tree.body)
        for number, node in enumerate(tree.body):
            for name in _bound(node):
                found.binders.setdefault(name, []).append(number)
        return found


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
    statements = {m: Statements.of(tree) for m, tree in trees.items()}
    found: set[tuple[str, int]] = set()
    todo = [(module, name)]
    seen = set(todo)

    def ask(what: tuple[str, str]) -> None:
        if what not in seen:
            seen.add(what)
            todo.append(what)

    while todo:
        where, wanted = todo.pop()
        if where not in statements:
            continue
        here = statements[where]
        numbers = range(len(here.nodes)) if wanted == ALL else here.binders.get(wanted, [])
        for number in numbers:
            if (where, number) in found:
                continue
            found.add((where, number))
            node = here.nodes[number]
            for used in _used(node):
                ask((where, used))
            for part in ast.walk(node):
                if isinstance(part, ast.Import):
                    for alias in part.names:
                        ask((alias.name, ALL))
                elif isinstance(part, ast.ImportFrom):
                    named = part.module or ""
                    base = files[where].absolute(named, part.level) if where in files else named
                    for alias in part.names:
                        ask((f"{base}.{alias.name}", ALL) if f"{base}.{alias.name}" in trees else (base, alias.name))
    return sorted(found)


def version_of(texts: Mapping[str, str], files: Mapping[str, SourceFile], module: str, name: str) -> str:
    """Six hexadecimal digits of what a name needs; comments, docstrings and the way it is laid out do not count.

    They are made of the words of the text and not of a syntax tree, whose form differs between versions of Python.
    """
    trees = {where: _tree(text) for where, text in texts.items()}
    digest = hashlib.sha256()
    for where, number in needed(trees, files, module, name):
        digest.update(_said(_words(texts[where]), trees[where].body[number]).encode())
        digest.update(b"\n")
    return digest.hexdigest()[:6]


def first_line(node: ast.stmt) -> int:
    """The line that a statement begins in, with what decorates it."""
    first: int = min([node.lineno, *(mark.lineno for mark in getattr(node, "decorator_list", []))])
    return first


def _said(words: list[tuple[int, str]], node: ast.stmt) -> str:
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
            told = node.body[0]
            documented.append(
                ((told.lineno, told.col_offset), (told.end_lineno or told.lineno, told.end_col_offset or 0))
            )
    found = []
    for token in tokenize.generate_tokens(io.StringIO(text).readline):
        if token.type in (tokenize.COMMENT, tokenize.NL, tokenize.ENDMARKER):
            continue
        if any(begin <= token.start and token.end <= end for begin, end in documented):
            continue
        if token.type in (tokenize.NEWLINE, tokenize.INDENT, tokenize.DEDENT):
            found.append((token.start[0], {tokenize.NEWLINE: "\n", tokenize.INDENT: "\t"}.get(token.type, "\r")))
        else:
            # Since Python 3.12 a formatted string is many words, before that one: without spaces and doubled braces
            # they are the same.
            word = "".join(token.string.split()).replace("{{", "{").replace("}}", "}")
            found.append((token.start[0], word))
    return found


def members(text: str, name: str) -> dict[str, tuple[str, str]]:
    """The parts of a class by name: what each is (a term, an ending, a method, a value), and its words. Empty where
    there is no such class."""
    tree = ast.parse(text)
    node = next((n for n in ast.walk(tree) if isinstance(n, ast.ClassDef) and n.name == name), None)
    found: dict[str, tuple[str, str]] = {}
    if node is None:
        return found
    words = _words(text)
    for part in node.body:
        if isinstance(part, (ast.FunctionDef, ast.AsyncFunctionDef)):
            marks = [ast.unparse(mark.func if isinstance(mark, ast.Call) else mark) for mark in part.decorator_list]
            kinds = [KINDS[mark.rpartition(".")[2]] for mark in marks if mark.rpartition(".")[2] in KINDS]
            found[part.name] = (kinds[0] if kinds else "method", _said(words, part))
        elif isinstance(part, ast.ClassDef):
            found[part.name] = ("class", _said(words, part))
        elif isinstance(part, (ast.Assign, ast.AnnAssign)):
            targets = part.targets if isinstance(part, ast.Assign) else [part.target]
            for target in targets:
                if isinstance(target, ast.Name):
                    found[target.id] = ("value", _said(words, part))
    return found


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
    told = []
    for name in sorted({*before, *after}):
        ours, theirs = before.get(name), after.get(name)
        if ours == theirs:
            continue
        kind = (theirs or ours or ("", ""))[0]
        kind = "" if kind == "value" else f"{kind} "
        told.append(f"{kind}`{name}` {'added' if ours is None else 'removed' if theirs is None else 'changed'}")
    return told
