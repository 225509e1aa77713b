"""The site: built without a warning, every link and anchor there, every page reached, the search at work without a
network."""

import re
import subprocess
import sys
from html.parser import HTMLParser
from pathlib import Path
from urllib.parse import unquote, urldefrag

import pytest
from test_public import public_names

pytestmark = pytest.mark.slow

pytest.importorskip("furo")
ROOT = Path(__file__).parents[1]
CHROMIUM = Path("/usr/bin/chromium")


@pytest.fixture(scope="module")
def site(tmp_path_factory):
    place = tmp_path_factory.mktemp("site")
    words = [
        sys.executable,
        "-m",
        "sphinx",
        "-W",
        "--keep-going",
        "-q",
        "-b",
        "html",
        "-d",
        place / "kept",
        ROOT / "docs",
        place / "html",
    ]
    built = subprocess.run([str(word) for word in words], capture_output=True, text=True)
    assert built.returncode == 0, built.stderr
    return place / "html"


class Page(HTMLParser):
    """What a page links, and what can be linked in it."""

    def __init__(self, file):
        super().__init__()
        self.links, self.anchors = [], set()
        self.feed(file.read_text(encoding="utf-8"))

    def handle_starttag(self, tag, attributes):
        arguments = dict(attributes)
        self.anchors.add(arguments.get("id"))
        self.links += [arguments[name] for name in ("href", "src") if arguments.get(name)]


def test_no_link_is_broken_and_every_page_is_reached(site):
    pages = {file.resolve(): Page(file) for file in site.rglob("*.html") if "_static" not in file.parts}
    reached = set()
    for file, page in pages.items():
        for link in page.links:
            target, anchor = urldefrag(link)
            if re.match(r"[a-z]+:", target):
                continue
            destination = file if not target else (file.parent / unquote(target.partition("?")[0])).resolve()
            assert destination.exists(), f"{file.name} links {link}"
            if destination in pages and destination != file:
                reached.add(destination)
            if anchor and destination in pages:
                assert unquote(anchor) in pages[destination].anchors, f"{file.name} links {link}"
    assert {file.name for file in set(pages) - reached} <= {
        "index.html",
        "search.html",
        "genindex.html",
        "py-modindex.html",
    }


def test_the_reference_has_every_public_name_with_its_defaults(site):
    text = "".join(file.read_text(encoding="utf-8") for file in (site / "reference").glob("*.html"))
    for name in public_names() - {"parts.Scheduled"}:
        assert f'id="jokulmist.{name}"' in text, name
    methods = re.sub(r"<[^>]+>", "", (site / "reference" / "methods.html").read_text(encoding="utf-8"))
    assert "learning_rate=linear(0.5, 0, over=1.0)" in methods
    assert "TableAgent" not in methods


@pytest.mark.skipif(not CHROMIUM.exists(), reason="no browser here")
def test_the_search_works_without_a_network(site):
    from playwright.sync_api import sync_playwright

    with sync_playwright() as play:
        browser = play.chromium.launch(executable_path=str(CHROMIUM))
        page = browser.new_page()
        page.goto(f"{(site / 'search.html').as_uri()}?q=curriculum")
        page.wait_for_selector("#search-results li a")
        result = [link.inner_text() for link in page.query_selector_all("#search-results li a")]
        browser.close()
    assert any("difficulty" in item for item in result), result
