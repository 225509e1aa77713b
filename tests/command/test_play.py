"""Playing by hand: the core, the picture as blocks, and the real command in a real pseudo-terminal."""

import fcntl
import os
import pty
import re
import select
import struct
import subprocess
import sys
import termios
import time

import numpy as np
import pandas as pd
import pytest
from places import Gates, Signal, Tiller

import jokulmist as jm
from jokulmist.errors import SettingError
from jokulmist.pictures.blocks import blocks, pixels
from jokulmist.workshop.play import Controls


def test_a_hand_chooses_nudges_acts_goes_back_and_keeps(tmp_path):
    hand = Controls(Tiller(), seed=4)
    start = hand.episode.state
    hand.choose("sheet", start.side)
    hand.nudge("turn", 0, 40)  # stops at the bound
    hand.nudge("haul", 1, -5)
    assert hand.decided()["turn"] == 30.0
    assert hand.decided()["haul"].tolist() == pytest.approx([1.0, 2.0])
    hand.act()
    hand.act()
    assert hand.episode.steps == len(hand.table) == 2
    hand.back()
    path = hand.save(tmp_path / "kept")
    stored = pd.read_parquet(path)
    assert stored["action.turn"].iloc[0] == 30.0
    assert stored["action.haul"].iloc[0].tolist() == pytest.approx([1.0, 2.0])
    assert stored["reward"].sum() == pytest.approx(hand.episode.total, rel=1e-5)
    assert hand.save(tmp_path / "kept") != path
    hand.back(9)
    assert hand.episode.state == start
    with pytest.raises(SettingError, match="nothing was played yet"):
        hand.save(tmp_path)
    with pytest.raises(SettingError, match="nobody is there to hand over to"):
        hand.swap()
    hand.choose("sheet", (start.side + 1) % 3)
    with pytest.raises(jm.JokulmistError, match="is not allowed now"):
        hand.act()


@pytest.mark.slow
def test_a_policy_plays_until_it_is_taken_over():
    run = jm.train(Gates(), jm.PPO(horizon=8), steps=512, copies=8, folder=None, lane="plain")
    hand = Controls(Gates(), run.policy)
    while not hand.episode.over:
        hand.act()
    assert hand.episode.measures["broken"] == 0.0
    hand.act()  # the next episode
    assert (hand.seed, hand.episode.steps) == (1, 0)
    hand.swap()
    hand.chosen["gate"] = hand.episode.state.open
    hand.act()
    assert hand.episode.terms["through"] == 1.0


def test_pictures_become_blocks():
    image, title = pixels(jm.gallery.Ferry().episode(seed=1), 40, 12)
    assert image.shape == (24, 40, 3)
    assert "m to go" in title
    assert len({tuple(color) for color in image.reshape(-1, 3).tolist()}) > 3
    assert blocks(image).plain.count("\n") == 12
    signal = Signal().episode(seed=1)
    image, _ = pixels(signal, 16, 6)
    lit = image[:, 12 if signal.state.side else 3].mean()
    assert lit > 150 > image[:, 3 if signal.state.side else 12].mean()  # no picture: the image that is seen
    assert pixels(Gates().episode(seed=1), 8, 4)[0] is None


class Terminal:
    """The real command in a pseudo-terminal of 140 x 40."""

    def __init__(self, *words):
        self.file, inside = pty.openpty()
        fcntl.ioctl(inside, termios.TIOCSWINSZ, struct.pack("HHHH", 40, 140, 0, 0))
        self.process = subprocess.Popen(
            [sys.executable, "-m", "jokulmist", *words],
            stdin=inside,
            stdout=inside,
            stderr=inside,
            start_new_session=True,
            env={**os.environ, "TERM": "xterm-256color"},
        )
        os.close(inside)
        self.seen = ""

    def until(self, text, seconds=30.0):
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            ready, _, _ = select.select([self.file], [], [], 0.1)
            if ready:
                try:
                    part = os.read(self.file, 65536).decode(errors="replace")
                except OSError:  # it has gone
                    return text == ""
                self.seen += re.sub(r"\x1b\[[0-9;?<>=]*[a-zA-Z]", "", part)
            if text and text in self.seen:
                self.seen = self.seen[self.seen.rindex(text) :]
                return True
        return False

    def press(self, keys):
        os.write(self.file, keys.encode())


@pytest.mark.slow
def test_the_command_plays_in_a_terminal(tmp_path):
    terminal = Terminal("play", "ferry", "--seed", "2")
    assert terminal.until("you decide")
    assert terminal.until("3 ahead")
    for decision in range(1, 4):
        terminal.press("3")
        assert terminal.until(f"decision {decision}") or terminal.until(f"{decision}")
    terminal.press("b")
    terminal.press("s")
    assert terminal.until("saved rollouts/ferry-seed2.parquet")
    terminal.press("p")
    assert terminal.until("nobody is there to hand over to")
    terminal.press("q")
    terminal.until("", 5)  # until it closes the terminal
    assert terminal.process.wait(10) == 0
    stored = pd.read_parquet(tmp_path / "rollouts" / "ferry-seed2.parquet")
    gone = Terminal("play", "ferry")
    assert gone.until("you decide")
    os.close(gone.file)  # the window is closed
    assert gone.process.wait(20) == 129
    episode = jm.gallery.Ferry().episode(seed=2)
    for _ in range(2):
        episode.act("ahead")
    assert len(stored) == 3  # two decisions, and where they led
    assert np.isclose(stored["position"].iloc[-1], episode.state.position)
