"""The pictures of the page, made anew from the demo data: python docs/make_screenshots.py [--to docs/screenshots]

It takes some two minutes, and needs chromium and the extra `dev`. The other pictures are made by the commands and the
examples that the guides name beside them.
"""

import argparse
import re
import shutil
import signal
import subprocess
import sys
import tempfile
from pathlib import Path

from playwright.sync_api import sync_playwright

import jokulmist as jm

SIZE = {"width": 1280, "height": 800}
LONG = '[environment]\nuse = "tarn"\n[agent]\nuse = "QLearning"\n[training]\nsteps = 90_000_000\nseeds = [2, 3, 4]\nevaluate_every = 6_000_000'


def demo_runs(folder):
    """Some runs that are over, and three that wait or are at work."""
    for gusts, seed in ((0.02, 0), (0.0, 1)):
        jm.train(jm.gallery.Ferry(gusts=gusts), jm.PPO(), steps=100_000, seed=seed, record_every=200, folder=folder)
    jm.train(jm.gallery.Tarn(), jm.QLearning(), steps=400_000, seed=1, folder=folder)
    (folder / "ferry-ppo-002" / "labels.json").write_text('{"note": "", "tags": ["calm"]}')
    (folder.parent / "tarn.toml").write_text(LONG)
    subprocess.run([sys.executable, "-m", "jokulmist", "new", "pond.py"], cwd=folder.parent, check=True)
    command = [sys.executable, "-m", "jokulmist", "train", "tarn.toml", "--queue", "--folder", str(folder)]
    subprocess.run(command, cwd=folder.parent, check=True, capture_output=True)


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


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--to", type=Path, default=Path(__file__).parent / "screenshots")
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as parent, sync_playwright() as driver:
        folder = Path(parent) / "runs"
        demo_runs(folder)
        command = [sys.executable, "-m", "jokulmist", "live", "--port", "0"]
        server = subprocess.Popen(command, stdout=subprocess.PIPE, text=True, cwd=parent)
        try:
            address = re.search(r"http://\S+", server.stdout.readline())[0]
            chromium = driver.chromium.launch(executable_path=shutil.which("chromium"), args=["--no-sandbox"])
            page = chromium.new_context(viewport=SIZE).new_page()
            page.goto(address)
            page.wait_for_selector("main h1")
            for shot in (shot_form, shot_run, shot_runs):
                shot(page, options.to)
        finally:
            subprocess.run(
                [sys.executable, "-m", "jokulmist", "queue", "stop", "1", "--folder", str(folder)], check=False
            )
            server.send_signal(signal.SIGINT)
            server.wait(timeout=60)


if __name__ == "__main__":
    main()
