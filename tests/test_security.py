"""The page on security, held against the commands, the calls and the routes that there are."""

import re
from pathlib import Path
from types import SimpleNamespace

import jokulmist as jm
from jokulmist.command.main import app
from jokulmist.live.app import Live
from jokulmist.serving.app import app_of

PAGE = (Path(__file__).parents[1] / "docs" / "security.md").read_text()


def section(title):
    """The first cells of the table of a section."""
    text = PAGE.partition(f"## {title}\n")[2].partition("\n## ")[0]
    return [line.split("|")[1] for line in text.splitlines() if line.startswith("| ")][1:]


def test_each_command_stands_in_the_table_once():
    named = [name for cell in section("Commands") for name in re.findall(r"`([a-z]+)`", cell)]
    assert sorted(named) == sorted(item.name or item.callback.__name__ for item in app.registered_commands)


def test_each_call_of_the_table_is_one():
    for name in [name for cell in section("Calls") for name in re.findall(r"`([A-Za-z_.]+)`", cell)]:
        result = jm
        for part in name.split("."):
            result = getattr(result, part)
        assert callable(result), name


def test_each_route_stands_in_the_tables_with_its_method(tmp_path):
    for title, routes in (
        ("Routes of the page", Live(tmp_path).app().routes),
        ("Routes of `serve`", app_of({"one": SimpleNamespace()}).routes),
    ):
        output = set()
        for cell in section(title):
            method = ""
            for word in re.findall(r"GET|POST|WebSocket|`[^`]+`", cell):
                if word.startswith("`"):
                    output.add((method, word.strip("`")))
                else:
                    method = word
        expected = {
            ("WebSocket" if not hasattr(route, "methods") else "POST" if "POST" in route.methods else "GET", route.path)
            for route in routes
        }
        assert output == expected
