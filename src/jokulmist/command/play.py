"""An environment played in a terminal: the picture, what is seen and earned, and keys for what can be done."""

from __future__ import annotations

import os
import select
import sys
import threading
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
from rich.table import Table
from rich.text import Text
from textual import events
from textual.app import App, ComposeResult
from textual.containers import Horizontal, Vertical
from textual.widgets import Static

from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.simulator import Simulator
from jokulmist.environments.spaces.actions import Choice, Range
from jokulmist.errors import JokulmistError
from jokulmist.pictures.blocks import blocks, pixels
from jokulmist.workshop.play import Controls

AUTO_SECONDS = 0.2
GONE = 129  # what a shell says of a program that SIGHUP ended
SIDE = 46
ENTRIES_A_LINE, MOST_ENTRIES = 4, 48
KEYS = "space act  b back  n new episode  s save  q quit"
POLICY_KEYS = "p take over or hand back  a let it run"


class PlayApp(App[None]):
    """The full-screen view of a `Controls`."""

    CSS = f"""
    #picture {{ width: 1fr; height: 1fr; padding: 0 1; }}
    #side {{ width: {SIDE}; height: 1fr; padding: 0 1; }}
    #bottom {{ height: auto; padding: 0 1; }}
    """
    ENABLE_COMMAND_PALETTE: ClassVar[bool] = False

    def __init__(self, hand: Controls, folder: Path) -> None:
        super().__init__()
        self.hand, self.folder = hand, folder
        self.message = ""
        self.running = False
        # Every number of every range, and every choice, can be pointed at.
        self.rows = [
            (name, entry)
            for name, part in hand.parts.items()
            for entry in (range(part.size) if isinstance(part, Range) else [0])
        ]
        self.selected = 0
        self.fine = self.console.color_system in ("256", "truecolor")

    def compose(self) -> ComposeResult:
        with Horizontal():
            yield Static(id="picture")
            yield Vertical(Static(id="status"), id="side")
        yield Static(id="bottom")

    def on_mount(self) -> None:
        self.set_interval(AUTO_SECONDS, self._tick)
        self._show()

    def on_resize(self, event: events.Resize) -> None:
        self.call_after_refresh(self._show)

    def _tick(self) -> None:
        if self.running and self.hand.agent:
            if self.hand.episode.over:
                self.running = False
            else:
                self._try(self.hand.act)
            self._show()

    def on_key(self, event: events.Key) -> None:
        self.message = ""
        hand, key = self.hand, event.key
        name, entry = self.rows[self.selected]
        part = hand.parts[name]
        if key == "q":
            self.exit()
            return
        if key in ("space", "enter"):
            self._try(hand.act)
        elif key == "b":
            hand.back()
        elif key == "n":
            hand.another()
        elif key == "s":
            self._try(lambda: self._saved(hand.save(self.folder)))
        elif key == "p":
            self._try(hand.swap)
        elif key == "a":
            self.running = not self.running
        elif key in ("up", "down"):
            self.selected = (self.selected + (1 if key == "down" else -1)) % len(self.rows)
        elif key in ("left", "right") and isinstance(part, Range):
            hand.nudge(name, entry, 1 if key == "right" else -1)
        elif key in ("left", "right") and isinstance(part, Choice):
            hand.choose(name, hand.chosen[name] + (1 if key == "right" else -1))
        elif key.isdigit() and isinstance(part, Choice) and 0 < int(key) <= part.count:
            hand.choose(name, int(key) - 1)
            if len(self.rows) == 1 and not hand.agent:  # nothing else is to be decided
                self._try(hand.act)
        self._show()

    def _saved(self, path: Path) -> None:
        self.message = f"saved {path}"

    def _try(self, work: Any) -> None:
        try:
            work()
        except JokulmistError as problem:
            self.message = str(problem)

    def _show(self) -> None:
        area = self.query_one("#picture", Static).size
        image, title = pixels(self.hand.episode, max(area.width - 2, 8), max(area.height - 2, 4))
        picture = Text(f"{title}\n", style="bold") if title else Text()
        method = "image" if isinstance(self.hand.environment, Simulator) else "picture"
        picture.append_text(
            Text(f"no picture: the class has no `{method}`") if image is None else blocks(image, self.fine)
        )
        self.query_one("#picture", Static).update(picture)
        self.query_one("#status", Static).update(self._status())
        self.query_one("#bottom", Static).update(self._bottom())

    def _status(self) -> Table:
        hand, episode = self.hand, self.hand.episode
        table = Table.grid(padding=(0, 2, 0, 0))
        table.add_column(no_wrap=True)
        table.add_column(justify="right", no_wrap=True)
        table.add_column(justify="right", no_wrap=True)
        deciding_text = "the policy decides" if hand.agent else "you decide"
        if hand.player is not None and not hand.agent:
            deciding_text = (
                f"you are {hand.player}"
                if hand.player in episode.deciding or episode.over
                else f"{episode.deciding[0]} decides"
            )
        table.add_row(Text(f"{describe(hand.environment).name}, seed {hand.seed}", style="bold"), "", "")
        table.add_row(f"decision {episode.steps}", deciding_text, "")
        table.add_row(Text("seen", style="bold"), "", "")
        seen = hand.seen
        for name in seen.keys():  # noqa: SIM118  an observation is no mapping
            for label, text in _format_entries(name, seen[name]):
                table.add_row(f"  {label}", text, "")
        table.add_row(Text("reward", style="bold"), Text("step", style="bold"), Text("total", style="bold"))
        for name, total in episode.totals.items():
            table.add_row(f"  {name}", f"{episode.terms[name]:.3g}", f"{total:.3g}")
        table.add_row("  together", f"{episode.reward:.3g}", Text(f"{episode.total:.4g}", style="bold"))
        for name, value in episode.measures.items():
            table.add_row(Text(f"  {name}", style="dim"), "", Text(f"{value:.3g}", style="dim"))
        if episode.over:
            table.add_row(Text(f"closed by {', '.join(episode.satisfied)}", style="bold red"), "", "")
        return table

    def _bottom(self) -> Text:
        hand, text = self.hand, Text()
        allowed = hand.episode.legal
        for k, (name, entry) in enumerate(self.rows):
            part = hand.parts[name]
            pointed = k == self.selected and len(self.rows) > 1
            text.append(f"{'>' if pointed else ' '} {name or 'action'} ", style="bold" if pointed else "")
            if isinstance(part, Choice):
                able = allowed.get(name) if isinstance(allowed, dict) else allowed
                for index, label in enumerate(part.labels):
                    style = "reverse" if index == hand.chosen[name] else ""
                    style = "dim strike" if able is not None and label not in able else style
                    text.append(f" {index + 1} {label} ", style=style)
            else:
                text.append(_slider(part, entry, hand.chosen[name]))
            text.append("\n")
        hint = "digits act" if self._single_choice() else "left and right move it"
        if len(self.rows) > 1:
            hint = "up and down point, left and right move, digits choose"
        text.append(f"{hint}  {KEYS}{'  ' + POLICY_KEYS if hand.policy is not None else ''}", style="dim")
        if self.message:
            text.append(f"\n{self.message}", style="bold")
        elif hand.episode.over:
            text.append("\nthe episode is over: space begins the next, b goes back", style="bold")
        return text

    def _single_choice(self) -> bool:
        return isinstance(self.hand.parts[self.rows[0][0]], Choice)


def end_with_terminal() -> None:
    """End this process when its terminal is gone: the view would wait for it for ever, and read at full speed."""
    watched = select.poll()
    watched.register(sys.stdin.fileno(), 0)  # a hang-up is told unasked

    def wait() -> None:
        watched.poll()
        os._exit(GONE)

    threading.Thread(target=wait, daemon=True).start()


def _slider(part: Range, entry: int, value: Any) -> str:
    low, high = float(part.low.reshape(-1)[entry]), float(part.high.reshape(-1)[entry])
    current = float(value if part.shape == () else value.reshape(-1)[entry])
    filled = round(20 * (current - low) / (high - low)) if high - low < float("inf") else 10
    return f"{low:g} [{'=' * filled}{'-' * (20 - filled)}] {high:g} {part.unit}  {current:.3g}"


def _format_entries(name: str, value: Any) -> list[tuple[str, str]]:
    """What is seen of a channel: a number; of an array some entries a line, each line with the index of its first."""
    if not getattr(value, "shape", ()):
        return [(name, f"{float(value):.4g}")]
    if value.size > MOST_ENTRIES:
        return [(name, f"{value.min():.3g} to {value.max():.3g} in {'x'.join(map(str, value.shape))}")]
    flat = value.reshape(-1)
    firsts = [tuple(int(i) for i in np.unravel_index(k, value.shape)) for k in range(0, value.size, ENTRIES_A_LINE)]
    return [
        (
            f"{name}[{','.join(map(str, index))}]",
            " ".join(f"{v:.2g}" for v in flat[k * ENTRIES_A_LINE : (k + 1) * ENTRIES_A_LINE]),
        )
        for k, index in enumerate(firsts)
    ]
