"""The live page in a real browser: a run as it happens, the form, the queue, playing, stepping; looks, keys,
contrast."""

import json
import re
import shutil
import signal
import subprocess
import sys
import urllib.error
import urllib.parse
import urllib.request
from pathlib import Path

import pytest

import jokulmist as jm
from jokulmist.work.jobs import FAILED
from jokulmist.work.queue import Queue

pytestmark = [
    pytest.mark.slow,
    pytest.mark.skipif(shutil.which("chromium") is None, reason="chromium is not installed here"),
]
TOKEN = "abcdefghijklmnopqrstuv"
VIEWS = (
    "#/runs",
    "#/run/ferry",
    "#/compare?runs=ferry,calm",
    "#/queue",
    "#/new",
    "#/play",
    "#/play?environment=tarn",
    "#/steps/run/ferry/best",
)
# Texts whose contrast is below WCAG 2.1, AA (4.5, large ones 3), and how far the page is wider than the window.
LOOKED_AT = r"""() => {
  const parse = c => { const m = c.match(/[\d.]+/g).map(Number); return { r: m[0], g: m[1], b: m[2], a: m.length > 3 ? m[3] : 1 }; };
  const lum = c => { const f = v => { v /= 255; return v <= 0.03928 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4; }; return 0.2126 * f(c.r) + 0.7152 * f(c.g) + 0.0722 * f(c.b); };
  const back = e => { for (; e; e = e.parentElement) { const c = parse(getComputedStyle(e).backgroundColor); if (c.a > 0.5) return c; } return { r: 255, g: 255, b: 255 }; };
  const bad = [];
  for (const e of document.querySelectorAll("body *")) {
    if ((!e.offsetParent && e.tagName !== "text") || e.closest("[disabled]") || ![...e.childNodes].some(n => n.nodeType === 3 && n.textContent.trim())) continue;
    const style = getComputedStyle(e), [a, b] = [lum(parse(e.tagName === "text" ? style.fill : style.color)), lum(back(e))].sort((x, y) => y - x);
    const large = parseFloat(style.fontSize) >= 24 || (parseFloat(style.fontSize) >= 18.66 && +style.fontWeight >= 700);
    if ((a + 0.05) / (b + 0.05) < (large ? 3 : 4.5)) bad.push(`${e.tagName} ${e.textContent.trim().slice(0, 40)}`);
  }
  return [bad, document.documentElement.scrollWidth - innerWidth];
}"""


def serve(folder, *words):
    """The command in a process of its own; its process and address."""
    command = [
        sys.executable,
        "-m",
        "jokulmist",
        "live",
        "--folder",
        str(folder),
        "--port",
        "0",
        "--token",
        TOKEN,
        *words,
    ]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, cwd=folder.parent)
    return process, re.search(r"http://\S+", process.stdout.readline())[0]


@pytest.fixture(scope="module")
def runs(tmp_path_factory):
    folder = tmp_path_factory.mktemp("page") / "runs"
    for name, gusts in (("ferry", 0.02), ("calm", 0.0)):
        jm.train(
            jm.gallery.Ferry(gusts=gusts),
            jm.PPO(network=jm.Dense(8)),
            steps=6_000,
            copies=8,
            evaluate_every=3_000,
            evaluate_episodes=10,
            record_every=20,
            folder=folder,
            name=name,
        )
    jm.train(
        jm.gallery.Haul(),
        {"north": jm.QLearning(bins=3), "south": jm.QLearning(bins=3)},
        steps=300,
        lane="plain",
        folder=folder,
        name="pair",
    )
    jm.tune(
        jm.gallery.Tarn(),
        jm.QLearning(bins=4),
        over={"agent.discount": jm.between(0.5, 1.0)},
        steps=400,
        candidates=3,
        again=0,
        lane="plain",
        workers=1,
        folder=folder,
        name="look-for",
    )
    return folder


@pytest.fixture(scope="module")
def served(runs):
    process, address = serve(runs)
    yield address
    process.send_signal(signal.SIGINT)
    process.wait(timeout=20)
    process.stdout.close()


@pytest.fixture(scope="module")
def browser():
    from playwright.sync_api import sync_playwright

    with sync_playwright() as driver:
        chromium = driver.chromium.launch(
            executable_path=shutil.which("chromium"), args=["--no-sandbox", "--disable-gpu"]
        )
        yield chromium
        chromium.close()


@pytest.fixture
def opened(browser, served):
    """A page of the server, and what its console has complained of."""
    contexts = []

    def opening(width=1280, scheme="light", address=served):
        context = browser.new_context(viewport={"width": width, "height": 800}, color_scheme=scheme)
        context.set_default_timeout(60_000)
        contexts.append(context)
        page, complaints = context.new_page(), []
        page.on("console", lambda told: complaints.append(told.text) if told.type in ("error", "warning") else None)
        page.on("pageerror", lambda wrong: complaints.append(str(wrong)))
        page.goto(address)
        page.wait_for_selector("main h1")
        return page, complaints

    yield opening
    for context in contexts:
        context.close()


def go(page, place):
    page.evaluate("place => { location.hash = place; }", place)


@pytest.mark.parametrize(("width", "scheme"), [(1280, "light"), (390, "dark"), (1280, "dark"), (390, "light")])
def test_every_view_is_readable_and_says_nothing_wrong(opened, width, scheme):
    page, complaints = opened(width, scheme)
    assert "token" not in page.url
    for view in VIEWS:
        go(page, view)
        page.wait_for_selector("main h1")
        page.wait_for_function(
            "() => !document.querySelector('[role=status]:not(#link)')?.textContent.startsWith('comparing')"
        )
        page.wait_for_timeout(400)
        bad, wide = page.evaluate(LOOKED_AT)
        assert (view, bad, wide, complaints) == (view, [], 0, [])
    go(page, "#/run/ferry")
    page.wait_for_selector("figure.tall svg path")
    assert page.locator("section", has_text="Readings").locator("svg").count() > 3


def test_a_view_says_what_it_is_of_before_the_server_has_answered(browser, served):
    held, context = [], browser.new_context()
    page = context.new_page()
    page.route("**/api/all*", lambda request: held.append(request))
    page.goto(f"{served}#/run/ferry")
    page.wait_for_selector("main .opening strong:text('ferry')")
    assert page.locator("main h1").count() == 0
    for request in held:
        request.continue_()
    page.unroute("**/api/all*")
    page.wait_for_selector("main h1:text('ferry')")
    context.close()


def test_a_run_from_the_form_is_seen_working_stopped_and_gone_on_with(opened, runs):
    page, complaints = opened()
    page.get_by_role("link", name="New run").click()
    page.get_by_label("environment", exact=True).select_option("tarn")
    page.get_by_label("method", exact=True).select_option("QLearning")
    page.wait_for_selector("#agent-bins")
    page.fill("#environment-melt", "9")
    page.get_by_role("button", name="Check and queue").click()
    page.wait_for_selector(".field.bad")
    assert "`Tarn.melt` must lie in [0, 4]" in page.inner_text(".field.bad .wrong")
    assert page.evaluate("document.activeElement.id") == "environment-melt"
    page.fill("#environment-melt", "1.7")
    page.fill("#training-steps", "many")
    page.get_by_role("button", name="Check and queue").click()
    page.wait_for_selector(".field.bad #training-steps")
    assert json.loads(asked(page, "/api/all"))["jobs"] == []
    page.fill("#training-steps", "12_000_000")
    page.fill("#run-name", "from-the-form")
    page.get_by_role("button", name="Check and queue").click()
    page.wait_for_selector("h1:text('from-the-form')")
    # No reload from here on: it waits, works, and its curve grows.
    page.evaluate("window.mark = 1")
    page.wait_for_selector(".status.running", timeout=90_000)
    page.wait_for_selector("figure.tall svg path", timeout=60_000)
    page.get_by_role("button", name="Stop").click()
    page.wait_for_selector("main .status.stopped", timeout=60_000)
    page.get_by_role("button", name="Go on").click()
    page.wait_for_selector("main .status.running", timeout=60_000)
    go(page, "#/queue")
    page.wait_for_selector(".status.working")
    page.get_by_role("button", name=re.compile("stop job")).first.click()
    page.wait_for_function("() => !document.querySelector('.status.working')", timeout=60_000)
    assert page.evaluate("window.mark") == 1
    assert complaints == []
    go(page, "#/new")
    page.locator("summary", has_text="paste a plan").click()
    plan = page.get_by_label("plan", exact=True)
    plan.fill(
        '[environment]\nuse = "tarn"\n[agent]\nuse = "QLearning"\nbinz = 3\n[training]\nsteps = 4_000\nlane = "plain"',
    )
    page.get_by_role("button", name="Check and queue").click()
    page.wait_for_selector("[role=alert]:has-text('binz')")
    plan.fill(plan.input_value().replace("binz", "bins"))
    page.get_by_role("button", name="Check and queue").click()
    page.wait_for_selector("h1:text('tarn-qlearning-001')")
    page.wait_for_selector("main .status.done", timeout=90_000)


OWN = """
import jokulmist as jm


class Weir(jm.Environment):
    'Keep a pond level.'

    rain: float = jm.parameter(0.5, low=0.0, high=3.0)
    deadline = 20

    class State(jm.State):
        level: float = jm.seen(low=0.0, high=20.0)

    action = jm.Choice("shut", "open")

    def begin(self, draw):
        return self.State(level=draw.uniform(6.0, 14.0))

    def advance(self, state, action, draw):
        return state.replace(level=self.xp.clip(state.level + self.rain - 1.0 * action, 0.0, 20.0))

    @jm.reward
    def near(self, after):
        return 1.0 - abs(after.level - 10.0) / 10.0

    @jm.reward(weight=-0.1)
    def moved(self, action):
        return 1.0 * action
"""


def test_an_environment_of_ones_own_is_set_trained_and_asked_again_with_changes(opened, runs):
    (runs.parent / "weir.py").write_text(OWN)
    page, complaints = opened()
    go(page, "#/new")
    page.get_by_label("environment", exact=True).select_option("weir.py:Weir")
    page.get_by_role("button", name="Run weir.py").click()  # asked once: no code ran before
    page.wait_for_selector("#environment-rain")
    page.get_by_label("method", exact=True).select_option("QLearning")
    page.wait_for_selector("#agent-bins")
    vary = page.locator("[id='environment-vary.rain']")
    for field, text in (
        ("#environment-rain", "9"),
        ("#environment-modify", '{ use = "Stak" }'),
        ("#training-steps", "no"),
    ):
        page.fill(field, text)
    page.fill("#agent-bins", "-2")
    vary.fill("2 to 1")
    page.get_by_role("button", name="Check and queue").click()
    page.wait_for_selector(".field.bad")
    wrong = page.locator(".field.bad").evaluate_all(
        "boxes => boxes.map(box => box.querySelector('input, textarea').id)"
    )
    assert wrong == [
        "environment-rain",
        "environment-vary.rain",
        "environment-modify",
        "training-steps",
        "agent-bins",
    ]
    assert page.locator("main > div > [role=alert]").inner_text() == ""
    settings = {
        "#environment-rain": "1",
        "#environment-modify": '{ use = "ObservationNoise", channel = "level", sd = 0.5 }',
        "#training-steps": "2_000",
        "#agent-bins": "5",
        "#agent-exploration": "0.25",
        "[id='environment-weights.moved']": "-0.5",
    }
    for field, text in settings.items():
        page.fill(field, text)
    vary.fill("0.2 to 0.8")
    page.fill("#run-name", "own")
    page.get_by_role("button", name="Check and queue").click()
    page.wait_for_selector("h1:text('own')")
    page.wait_for_selector("main .status.done", timeout=90_000)
    page.get_by_role("link", name="Again with changes").click()
    page.wait_for_selector("#environment-rain")
    for field, text in settings.items():
        assert page.input_value(field) == text.replace("_", "")
    assert vary.input_value() == "0.2 to 0.8"
    (runs.parent / "weir.py").unlink()  # what a run keeps is enough
    page.fill("#training-steps", "1_000")
    page.reload()
    page.wait_for_selector("#environment-rain")
    assert page.get_by_label("environment", exact=True).locator("option:checked").inner_text() == "weir.py:Weir"
    page.fill("#run-name", "own-again")
    page.get_by_role("button", name="Check and queue").click()
    page.wait_for_selector("h1:text('own-again')")
    page.wait_for_selector("main .status.done", timeout=90_000)
    first, second = (jm.Run.open(runs / name) for name in ("own", "own-again"))
    assert first.episodes.equals(second.episodes)
    assert second.environment.weights == {"moved": -0.5}
    assert complaints == []


def asked(page, path):
    return page.evaluate("path => fetch(path).then(answer => answer.text())", path)


def test_one_plays_with_keys_keeps_it_steps_through_it_and_goes_on_from_there(opened, runs):
    page, complaints = opened()
    go(page, "#/play?run=ferry&seed=3")
    page.get_by_role("button", name="One decision").click()
    page.wait_for_selector("text=decision 1: the policy decides")
    page.keyboard.press("h")
    page.wait_for_selector("text=decision 1: you decide")
    for k in range(3):
        page.keyboard.press("3")
        page.wait_for_selector(f"text=decision {k + 2}: you decide")
    page.keyboard.press("b")
    page.wait_for_selector("text=decision 3: you decide")
    page.keyboard.press("k")
    page.get_by_role("link", name=re.compile("step through")).click()
    page.wait_for_selector("text=moment 0 of 3")
    page.keyboard.press("ArrowRight")
    page.wait_for_selector("text=moment 1 of 3")
    page.get_by_label("moment").fill("2")
    page.wait_for_selector("text=moment 2 of 3")
    position = page.locator("tr", has_text="position").locator("td").nth(1).inner_text()
    page.get_by_role("button", name="Go on by hand from here").click()
    page.wait_for_selector("text=decision 0: you decide")
    assert page.locator("tr", has_text="position").locator("td").nth(1).inner_text() == position
    page.keyboard.press("1")
    page.wait_for_selector("text=decision 1: you decide")
    page.wait_for_function("() => document.querySelector('img.stage').naturalWidth > 300")
    assert complaints == []
    assert len(list((runs / "rollouts").glob("ferry-seed3*.parquet"))) == 1


DRIFT = """
import jokulmist as jm


class Drift(jm.Environment):
    'A raft that is pushed along.'

    time_limit = 40
    frame_rate = 20

    class State(jm.State):
        at: int = jm.seen(low=-40, high=40)

    action = jm.Choice("west", "stay", "east")

    def begin(self, draw):
        return self.State(at=0)

    def advance(self, state, action, draw):
        return state.replace(at=state.at + action - 1)

    @jm.reward
    def far(self, after):
        return 1.0 * after.at
"""


def test_a_game_goes_at_the_pace_of_its_frames_and_by_arrows(opened, runs):
    (runs.parent / "drift.py").write_text(DRIFT)
    page, complaints = opened()
    go(page, "#/play?environment=drift.py:Drift")
    at = page.locator("tr", has_text="at").locator("td").nth(1)
    page.wait_for_selector("text=decision 0: you decide")
    page.keyboard.press("ArrowLeft")
    page.wait_for_selector("text=decision 1: you decide")
    assert at.inner_text() == "-1"
    page.keyboard.press(" ")
    page.keyboard.down("ArrowRight")
    page.wait_for_function("() => [...document.querySelectorAll('td')].some(cell => cell.textContent === '5')")
    page.keyboard.up("ArrowRight")
    page.wait_for_selector("text=closed by time limit")
    stopped = int(at.inner_text())  # it stayed once the key was let go
    assert 5 <= stopped < 30
    assert complaints == []


def test_two_browsers_hold_a_seat_each_and_a_policy_the_seats_that_nobody_took(opened, runs):
    north, complaints = opened()
    go(north, "#/play?run=pair&shared=1")
    north.wait_for_selector("text=decision 0: you are north and decide")
    north.keyboard.press("ArrowRight")  # south is nobody's: the run's policy plays it
    north.wait_for_selector("text=decision 1: you are north and decide")
    place = north.get_by_role("link", name=re.compile("south, free")).get_attribute("href")
    south, more = opened()
    go(south, place)
    south.wait_for_selector("text=decision 1: you are south and decide")
    assert south.locator("tr", has_text="abeam").locator("td").nth(1).inner_text().startswith("-")
    north.keyboard.press("2")
    north.wait_for_selector("text=decision 1: you are north; waiting for south")
    south.keyboard.press("2")
    for page in (north, south):
        page.wait_for_selector("text=decision 2: you are")
    third, refused = opened()
    go(third, place)
    third.wait_for_selector("text=somebody else plays south")
    assert [complaints, more, len(refused)] == [[], [], 1]
    south.reload()
    south.wait_for_selector("text=decision 2: you are south and decide")


def test_a_comparison_is_asked_by_controls_that_stand_in_the_address(opened):
    page, complaints = opened()
    go(page, "#/run/pair")
    page.wait_for_selector("h2:text('Who won') + figure svg g rect", state="attached")
    go(page, "#/run/ferry")
    page.wait_for_selector("h2:text('The same without exploration') + figure svg g rect", state="attached")
    go(page, "#/compare?runs=ferry,calm")
    page.wait_for_selector("h2:text('Final return of each seed')")
    assert page.locator("h2:text('Where the returns came from') ~ .pair svg").count() == 2
    page.get_by_label("over", exact=True).select_option("episodes")
    page.wait_for_selector("svg[aria-label='return over episodes']")
    measure = page.get_by_label("score").locator("option").last.get_attribute("value")
    page.get_by_label("score").select_option(measure)
    page.wait_for_selector(f"h2:text('Final {measure} of each seed')")
    page.get_by_label("weights").select_option("declared")
    page.wait_for_function("() => location.hash.includes('weights=declared')")
    page.wait_for_selector(f"h2:text('Final {measure} of each seed')")
    place = page.evaluate("location.hash")
    assert (f"score={measure}" in place, "over=episodes" in place, complaints) == (True, True, [])
    page.reload()
    page.wait_for_selector(f"h2:text('Final {measure} of each seed')")
    assert page.get_by_label("over", exact=True).input_value() == "episodes"


def test_the_keyboard_alone_is_enough(opened):
    page, _ = opened()
    page.keyboard.press("Tab")
    assert page.evaluate("document.activeElement.className") == "skip"

    def tab_to(what):
        for _ in range(60):
            page.keyboard.press("Tab")
            if page.evaluate("what => document.activeElement.matches(what)", what):
                return
        raise AssertionError(what)

    tab_to("input[type=search]")
    page.keyboard.type("ferry ppo")
    page.wait_for_function("() => document.querySelectorAll('table.runs tbody tr').length === 2")
    for name in ("ferry", "calm"):
        page.focus("input[type=search]")
        tab_to(f"input[aria-label='choose {name}']")
        page.keyboard.press("Space")
    page.focus("select")
    tab_to(".tools button")
    page.keyboard.press("Enter")
    page.wait_for_selector("h1:text('Compare')")
    assert "runs=" in page.url


def test_names_with_markup_are_shown_and_not_run(opened, runs, browser, tmp_path):
    name = "<img src=x onerror=alert(1)>"
    folder = tmp_path / "odd"
    shutil.copytree(runs / "ferry", folder / name)
    (folder / name / "log.txt").write_text("2026 </script><script>alert(1)</script>\n")
    process, address = serve(folder, "--look")
    try:
        page, complaints = opened(address=address)
        page.on("dialog", lambda dialog: complaints.append(dialog.message))
        page.wait_for_selector(f"text={name}")
        page.get_by_role("link", name=name).click()
        page.wait_for_selector("figure.tall svg path")
        assert page.inner_text("h1") == name
        assert complaints == []
        assert page.locator("text=New run").is_hidden()
        assert page.get_by_role("button", name="Do it again").count() == 0
        for path, body in (
            ("/api/begin", {"text": "x"}),
            (f"/api/run/{urllib.parse.quote(name)}/redo", {}),
            ("/api/games", {"environment": "tarn"}),
            ("/api/job/1/stop", {}),
        ):
            assert (path, ask(address, path, body)[0]) == (path, 403)
    finally:
        process.kill()
        process.wait()
        process.stdout.close()


def ask(address, path, body=None, **headers):
    """Status and JSON of a request with the token."""
    base = address.partition("/?")[0]
    data = None if body is None else body if isinstance(body, bytes) else json.dumps(body).encode()
    request = urllib.request.Request(
        base + path, data, {"Authorization": f"Bearer {TOKEN}", "Content-Type": "application/json", **headers}
    )
    try:
        with urllib.request.urlopen(request, timeout=60) as answer:
            output = answer.read()
            return answer.status, output if b"{" not in output[:1] else json.loads(output)
    except urllib.error.HTTPError as refused:
        return refused.code, json.loads(refused.read() or b"{}")


def test_who_is_no_friend_is_not_let_in(served, runs):
    port = served.rpartition(":")[2].partition("/")[0]
    for headers, expected in (
        ({"Origin": "http://elsewhere.example"}, 403),
        ({"Origin": "null"}, 403),
        ({"Origin": f"http://127.0.0.1:{port}"}, 200),
        ({"Host": f"elsewhere.example:{port}"}, 403),
        ({"Host": f"localhost:{port}"}, 200),
        ({"Authorization": "Bearer wrong"}, 401),
        ({"Authorization": "", "Cookie": f"jokulmist-{port}=wrong"}, 401),
        ({"Authorization": "", "Cookie": f"jokulmist-{port}={TOKEN}"}, 401),  # a cookie names a session
        ({"Sec-Fetch-Site": "same-site"}, 403),  # a page on another port of this machine
        ({"Sec-Fetch-Site": "same-origin"}, 200),
    ):
        assert (headers, ask(served, "/api/all", **headers)[0]) == (headers, expected)
    assert ask(served, "/api/run/ferry/evaluate", {}, Origin="http://elsewhere.example")[0] == 403
    assert ask(served, "/api/run/ferry/evaluate", {}, **{"Sec-Fetch-Site": "cross-site"})[0] == 403
    (runs.parent / "secret").mkdir(exist_ok=True)
    shutil.copytree(runs / "ferry", runs.parent / "secret" / "run", dirs_exist_ok=True)
    for name in ("..%2Fsecret%2Frun", "%2e%2e", "..%5csecret", "", "%00", "ferry%2F..%2Fferry"):
        assert ask(served, f"/api/run/{name}", {})[0] in (400, 404), name
    (runs / "linked").symlink_to(runs.parent / "secret" / "run")
    assert ask(served, "/api/run/linked", {})[0] == 404
    (runs / "linked").unlink()
    for path in (
        "/page/..%2f..%2fpyproject.toml",
        "/page/app.py",
        "/api/episode/kept/..%2fferry/0",
        "/api/episode/run/ferry/..%2fbest",
    ):
        assert ask(served, path, {} if path.startswith("/api") else None)[0] in (400, 404), path


TARN = {"environment": {"use": "tarn"}, "agent": {"use": "QLearning"}, "training": {"steps": 400}}


def test_what_a_program_asks_wrongly_is_told_in_words(served):
    for path, body, expected in (
        ("/api/begin", b"{", "is no JSON"),
        ("/api/begin", [1], "no JSON object"),
        ("/api/begin", {"environment": {"use": "tarn"}}, "no section `agent`"),
        ("/api/begin", {"text": "x = ["}, "no TOML"),
        ("/api/begin", {**TARN, "fields": 3, "training": {"steps": "x"}}, "`steps` of `training`"),
        (
            "/api/begin",
            {**TARN, "fields": ["training.steps.x"], "environment": {"use": "tarn", "weights": 3}},
            "weights",
        ),
        ("/api/begin", {**TARN, "origin": "../ferry"}, "named by its folder's name"),
        ("/api/begin", {**TARN, "environment": {"use": "tarn", "modify": "x"}}, "one table a line"),
        (
            "/api/begin",
            {"environment": {"use": "tarm"}, "agent": {"use": "PPO"}, "training": {"steps": 10}},
            "Did you mean `tarn`",
        ),
        (
            "/api/begin",
            {
                "environment": {"use": "tarn"},
                "agent": {"use": "SAC", "network": "os:system"},
                "training": {"steps": 10},
            },
            "network",
        ),
        ("/api/games", {}, "which `environment`"),
        ("/api/games", {"environment": "tarn", "seed": -1}, "`seed` is a whole number"),
        ("/api/games", {"environment": "tarn", "moment": 3}, "recorded `episode`"),
        ("/api/games/nothing/act", {}, "has ended"),
        ("/api/run/ferry/dance", {}, "can be asked to"),
        ("/api/run/ferry/export", {"form": "wax"}, "`form` of `export`"),
        ("/api/run/ferry/stop", {}, "not being trained"),
        ("/api/job/99/pause", {}, "there is no job 99"),
        ("/api/compare", {"runs": ["ferry"]}, "compare 2 to"),
        ("/api/episode/run/ferry/99999999", {}, "99"),
        ("/api/episode/run/ferry/best/99999/picture", {}, "moments 0 to"),
        ("/api/search/none", {}, "there is no search"),
        ("/api/fields", {"environment": "nowhere"}, "no environment `nowhere`"),
    ):
        status, output = ask(served, path, body)
        problems = output.get("problems", [])  # a plan that is mistaken is an answer as any other
        assert (path, bool(problems) or status in (400, 404)) == (path, True), (status, output)
        assert expected in (problems[0]["text"] if problems else output["error"]), (path, output)


def test_a_run_is_labelled_found_by_a_tag_renamed_and_moved_to_the_bin(opened, runs):
    jm.train(jm.gallery.Tarn(), jm.QLearning(bins=3), steps=400, lane="plain", folder=runs, name="first-try")
    page, complaints = opened()
    go(page, "#/run/first-try")
    page.locator("summary", has_text="Note, tags, name").click()
    page.get_by_label("note", exact=True).fill("bins too wide")
    page.get_by_label("tags", exact=True).fill("coarse, <b>bold</b>")
    page.get_by_label("another name").fill("coarse-1")  # leaves the field of the tags, which saves them
    page.wait_for_selector("#said:has-text('saved')")
    go(page, "#/runs")
    page.fill("input[type=search]", "coarse bins")
    page.wait_for_function("() => document.querySelectorAll('table.runs tbody tr').length === 1")
    assert page.locator("tr .tag").all_inner_texts() == ["coarse", "<b>bold</b>"]
    page.fill("input[type=search]", "")
    go(page, "#/run/first-try")
    page.get_by_label("another name").fill("../ferry")
    page.get_by_role("button", name="Rename").click()
    page.wait_for_selector("#said:has-text('the name of a run')")
    page.get_by_label("another name").fill("coarse-1")
    page.get_by_role("button", name="Rename").click()
    page.wait_for_selector("h1:text('coarse-1')")
    assert json.loads((runs / "coarse-1" / "labels.json").read_text())["note"] == "bins too wide"
    assert len(jm.Run.open(runs / "coarse-1").episodes) > 0
    page.wait_for_function("() => document.querySelector('[aria-label=note]').value === 'bins too wide'")
    number = Queue(runs).add("report", "coarse-1")
    Queue(runs).pause(number)
    page.get_by_role("button", name="Move to the bin").click()
    page.wait_for_selector(f"#said:has-text('job {number} is about coarse-1')")
    Queue(runs).drop(number)
    page.get_by_role("button", name="Move to the bin").click()
    page.wait_for_selector("h1:not(:text('coarse-1'))")
    assert not (runs / "coarse-1").exists()
    assert [path.name.startswith("coarse-1-") for path in (runs / ".bin").iterdir()] == [True]
    assert all("400" in complaint for complaint in complaints)  # of the two that were refused


def test_jobs_are_moved_chosen_together_and_one_that_failed_says_why(opened, tmp_path):
    plan = tmp_path / "plan.toml"
    plan.write_text(
        '[environment]\nuse = "tarn"\n[agent]\nuse = "QLearning"\n[training]\nsteps = 400\nseeds = [0, 1, 2, 3]'
    )
    folder = tmp_path / "runs"
    command = [sys.executable, "-m", "jokulmist", "train", str(plan), "--queue", "--folder", str(folder)]
    subprocess.run(command, check=True, capture_output=True)
    queue = Queue(folder)
    queue.finish(queue.take(), FAILED, "the pump was dry")
    process, address = serve(folder, "--workers", "0")
    try:
        page, complaints = opened(address=address)
        go(page, "#/queue")
        page.wait_for_selector("[role=alert] .banner:has-text('Job 1 failed'):has-text('the pump was dry')")
        assert page.inner_text("#waiting") == "(3) 1 failed"
        page.get_by_role("button", name="move down job 2").click()
        page.wait_for_function("() => document.querySelectorAll('tbody tr td:nth-child(2)')[0].textContent === '3'")
        page.get_by_role("button", name="move up job 4").click()
        page.wait_for_function("() => document.querySelectorAll('tbody tr td:nth-child(2)')[1].textContent === '4'")
        assert [job.id for job in queue.jobs()] == [3, 4, 2, 1]
        for job in (2, 3):
            page.get_by_label(f"choose job {job}").check()
        page.get_by_role("button", name="pause", exact=True).click()
        page.wait_for_function("() => document.querySelectorAll('.status.paused').length === 2")
        page.get_by_label("choose job 1").check()
        page.get_by_label("choose job 4").check()
        page.get_by_role("button", name="drop", exact=True).click()
        page.wait_for_function("() => document.querySelectorAll('tbody tr').length === 2")
        assert page.locator(".banner").count() == 0
        assert complaints == []
    finally:
        process.send_signal(signal.SIGINT)
        assert "Traceback" not in process.communicate(timeout=20)[1]  # although a page is open


def test_functions_of_the_page_in_node(tmp_path):
    done = subprocess.run(
        ["node", "--test", str(Path(__file__).with_name("tools.test.mjs"))], capture_output=True, text=True, timeout=60
    )
    assert done.returncode == 0, done.stdout
