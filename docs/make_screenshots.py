"""The pictures of the guides, made anew from the demo data: python docs/make_screenshots.py [--only live train]

It takes some ten minutes, and needs the extra `dev`, chromium, and for those of a terminal Xvfb, xterm, xdotool and
ImageMagick.
"""

import argparse
import functools
import http.server
import os
import re
import shlex
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from contextlib import contextmanager
from pathlib import Path

from PIL import Image
from playwright.sync_api import sync_playwright

import jokulmist as jm

DOCS = Path(__file__).parent
EXAMPLES = DOCS.parent / "examples"
SIZE = {"width": 1280, "height": 800}
LONG = '[environment]\nuse = "tarn"\n[agent]\nuse = "QLearning"\n[training]\nsteps = 90_000_000\nseeds = [2, 3, 4]\nevaluate_every = 6_000_000'
SEEDS = '[environment]\nuse = "tarn"\n[agent]\nuse = "QLearning"\n[training]\nsteps = 8_000_000\nseeds = [0, 1, 2, 3]'
DISPLAY = ":94"
LOOK = '-fa "DejaVu Sans Mono" -fs 11 -geometry 142x40+0+0 -bg "#10151a" -fg "#e6e6e6"'


def command(*words):
    return [sys.executable, "-m", "jokulmist", *map(str, words)]


def terminal(to, words, cwd, wait, keys=()):
    """What a command shows in a terminal window after some seconds, once keys were pressed."""
    env = {**os.environ, "DISPLAY": DISPLAY}
    server = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    time.sleep(2)
    line = f"export TERM=xterm-256color COLORTERM=truecolor; clear; {shlex.join(map(str, words))}; sleep 600"
    window = subprocess.Popen(["xterm", *shlex.split(LOOK), "-e", "bash", "-c", line], cwd=cwd, env=env)
    time.sleep(wait)
    for key in keys:
        subprocess.run(["xdotool", "key", key], env=env, check=True)
        time.sleep(1.5)
    subprocess.run(["import", "-window", "root", str(to)], env=env, check=True)
    for process in (window, server):
        process.terminate()
        process.wait(timeout=20)


def fitted(source, to):
    """A picture at the size of the others, on its own ground."""
    picture = Image.open(source).convert("RGB")
    picture.thumbnail((SIZE["width"], SIZE["height"]))
    sheet = Image.new("RGB", (SIZE["width"], SIZE["height"]), picture.getpixel((0, 0)))
    sheet.paste(picture, ((sheet.width - picture.width) // 2, (sheet.height - picture.height) // 2))
    sheet.save(to)


def demo_runs(folder):
    """Some runs that are over, and three that wait or are at work."""
    for gusts, seed in ((0.02, 0), (0.0, 1)):
        jm.train(jm.gallery.Ferry(gusts=gusts), jm.PPO(), steps=100_000, seed=seed, record_every=200, folder=folder)
    jm.train(jm.gallery.Tarn(), jm.QLearning(), steps=400_000, seed=1, folder=folder)
    (folder / "ferry-ppo-002" / "labels.json").write_text('{"note": "", "tags": ["calm"]}')
    (folder.parent / "tarn.toml").write_text(LONG)
    subprocess.run(command("new", "pond.py"), cwd=folder.parent, check=True)
    words = command("train", "tarn.toml", "--queue", "--folder", folder)
    subprocess.run(words, cwd=folder.parent, check=True, capture_output=True)


def shot_form(page, to):
    page.get_by_role("link", name="New run").click()
    page.get_by_label("environment", exact=True).select_option("pond.py:Pond")
    page.get_by_role("button", name="Run pond.py").click()
    page.wait_for_selector("#environment-rain")
    page.fill("#environment-rain", "9")
    page.fill("[id='environment-weights.water_used']", "-0.5")
    page.fill("[id='environment-vary.rain']", "1.5 to 0.5")
    page.get_by_role("button", name="Check and queue").click()
    page.wait_for_selector(".field.bad")
    page.evaluate("scrollTo(0, 0)")
    page.screenshot(path=to / "live-form.png")


def shot_run(page, to):
    page.goto(page.url.partition("#")[0] + "#/run/tarn-qlearning-002")
    page.wait_for_selector("main .status.running")
    page.wait_for_selector(".legend :text('evaluated'), figure :text('evaluated')", timeout=120_000)
    page.wait_for_timeout(20_000)  # so that there is a curve to see
    page.screenshot(path=to / "live-run.png")


def shot_runs(page, to):
    page.evaluate("location.hash = '#/runs'")
    page.wait_for_selector("table.runs .status.running")
    page.wait_for_timeout(1_500)
    page.screenshot(path=to / "live.png")


def shot_play(page, to):
    page.goto(page.url.partition("#")[0] + "#/play?run=ferry-ppo-001&seed=3")
    for _ in range(18):
        page.get_by_role("button", name="One decision").click()
        page.wait_for_timeout(120)
    page.wait_for_function("() => document.querySelector('img.stage').naturalWidth > 300")
    page.wait_for_timeout(1_500)
    page.screenshot(path=to / "live-play.png")


@contextmanager
def browsing():
    with sync_playwright() as driver:
        chromium = driver.chromium.launch(executable_path=shutil.which("chromium"), args=["--no-sandbox"])
        yield chromium.new_context(viewport=SIZE).new_page()
        chromium.close()


def live(to, place):
    """The page: its form, a run at work, all runs, a game."""
    folder = place / "page" / "runs"
    folder.mkdir(parents=True)
    demo_runs(folder)
    server = subprocess.Popen(command("live", "--port", "0"), stdout=subprocess.PIPE, text=True, cwd=folder.parent)
    try:
        address = re.search(r"http://\S+", server.stdout.readline())[0]
        with browsing() as page:
            page.goto(address)
            page.wait_for_selector("main h1")
            for shot in (shot_form, shot_run, shot_runs, shot_play):
                shot(page, to)
    finally:
        for job in "123":
            subprocess.run(command("queue", "drop", job, "--folder", folder), check=False, capture_output=True)
            subprocess.run(command("queue", "stop", job, "--folder", folder), check=False, capture_output=True)
        server.send_signal(signal.SIGINT)
        server.wait(timeout=60)


def ferry(to, place):
    """One run: the curve, what it does where, its report, its evaluation, the agent early and late."""
    run = jm.train(
        jm.gallery.Ferry(),
        jm.PPO(),
        steps=60_000,
        seed=0,
        evaluate_every=10_000,
        evaluate_episodes=20,
        folder=place / "runs",
    )
    fitted(jm.pictures.save_pictures(run)[0], to / "learning-curve.png")
    map_of_policy = jm.pictures.plot_policy(run.policy, run.environment, ("position", "speed"))
    map_of_policy.savefig(place / "map.png", dpi=130)
    fitted(place / "map.png", to / "policy-map.png")
    with browsing() as page:
        page.goto(jm.pictures.save_report(run).as_uri())
        page.wait_for_selector("figure svg path")
        page.screenshot(path=to / "report.png")
    terminal(to / "evaluate.png", command("evaluate", run.path.relative_to(place)), place, 12)
    longer = jm.train(jm.gallery.Ferry(), jm.PPO(), steps=300_000, seed=0, folder=place / "runs")
    words = ["--checkpoint", "0", "--checkpoint", "last", "--to", to / "before-after.gif"]
    subprocess.run(command("replay", longer.path, *words), check=True)


def commands(to, place):
    """What commands print: several seeds at work, findings, a game by hand."""
    (place / "seeds.toml").write_text(SEEDS)
    terminal(to / "train.png", command("train", "seeds.toml", "--workers", "2"), place, 35)
    page = (DOCS / "first-session.md").read_text(encoding="utf-8")
    (place / "sauna.py").write_text(re.search(r"```python[^\n]*\n(.*?)```", page, re.DOTALL)[1])
    terminal(to / "check-findings.png", command("check", "sauna.py"), place, 15)
    terminal(to / "play.png", command("play", "greenhouse"), place, 8, ("space", "space", "space"))


def partners(to, place):
    """Five pairs that were trained apart, each with each, and one of them beside a person."""
    pairs = jm.train_seeds(jm.gallery.Haul(), jm.PPO(), range(5), steps=400_000, folder=place / "runs")
    jm.cross_play(pairs, episodes=50).save(to / "cross-play.png")
    for beside in to.glob("cross-play*.csv"):
        beside.unlink()
    beside = f"south={pairs[0].path}"
    words = command("play", "haul", "--player", "north", "--with", beside, "--seed", "3")
    terminal(to / "play-partner.png", words, place, 15, ("3", "3", "2", "2"))


def search(to, place):
    over = {
        "agent.learning_rate": jm.between(1e-5, 1e-2, scale="log"),
        "agent.clip": jm.between(0.05, 0.5),
        "agent.entropy_bonus": jm.between(0.0, 0.05),
    }
    found = jm.tune(jm.gallery.Ferry(), jm.PPO(), over=over, steps=60_000, candidates=36, folder=place / "runs")
    fitted(found.save_pictures()[0], to / "search.png")


def examples(to, place):
    """What the examples draw."""
    for name, words in (("shaping", ()), ("methods_on_ferry", ()), ("entropy_bonus", ("10",))):
        subprocess.run([sys.executable, str(EXAMPLES / f"{name}.py"), *words], cwd=place, check=True)
    fitted(place / "shaping.png", to / "shaping.png")
    fitted(place / "methods.png", to / "methods-on-ferry.png")
    fitted(next(place.glob("runs/*/entropy-bonus.png")), to / "entropy-bonus.png")


class Quiet(http.server.SimpleHTTPRequestHandler):
    def log_message(self, *words):
        pass


def punt(to, place):
    """A policy that left, in a browser."""
    handler = functools.partial(Quiet, directory=DOCS.parent)
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    with browsing() as page:
        page.goto(f"http://127.0.0.1:{server.server_port}/examples/punt/punt.html#policy")
        page.wait_for_timeout(6_000)
        page.screenshot(path=to / "punt.png")
    server.shutdown()


PARTS = (punt, live, ferry, commands, partners, search, examples)


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--to", type=Path, default=DOCS / "screenshots")
    parser.add_argument("--only", nargs="*", choices=[part.__name__ for part in PARTS], help="some of them")
    options = parser.parse_args()
    to = options.to.resolve()
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as parent:
        for part in PARTS:
            if options.only is None or part.__name__ in options.only:
                began = time.perf_counter()
                part(to, Path(parent))
                print(f"{part.__name__}: {time.perf_counter() - began:.0f} s", flush=True)


if __name__ == "__main__":
    main()
