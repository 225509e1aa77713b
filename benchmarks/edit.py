"""From an edit of an environment to the end of a training, in whole processes: what an edit costs beside no edit.

    python benchmarks/edit.py [--steps 1000,50000] [--cases table,PPO,DQN,SAC,images] [--repeats 3]

A file of one's own is trained once from an empty cache, then in pairs: without an edit, and after one. The edits: a
constant in a method, another term of the reward, another channel. Told are medians of seconds, and of the differences
within pairs. Every edit is one that was never made before, so that nothing of it is in the cache.
"""

import argparse
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

SOURCE = Path(__file__).resolve().parents[1] / "src"
CHOICES = """
import jokulmist as jm


class Raft(jm.Environment):
    time_limit = 200

    class State(jm.State):
        place: float = jm.seen(low=-4.0, high=4.0)
        speed: float = jm.seen(low=-4.0, high=4.0)

    action = {action}

    def begin(self, draw):
        return self.State(place=draw.uniform(-1.0, 1.0), speed=draw.uniform(-0.1, 0.1))

    def advance(self, state, action, draw):
        speed = state.speed + 0.05 * ({push} - {drag} * state.speed) + draw.normal(0.0, 0.02)
        place = self.xp.clip(state.place + 0.05 * speed, -4.0, 4.0)
        return state.replace(place=place, speed=self.xp.clip(speed, -4.0, 4.0))

    @jm.reward
    def near(self, after):
        return 1.0 - abs(after.place) / 4.0
{more}
"""
IMAGES = """

    @jm.sensor(shape=(16, 16, 1), image=True)
    def seen_from_above(self, state):
        columns = self.xp.arange(16)[None, :]
        light = 255.0 * self.xp.exp(-((columns - 7.5 - 1.8 * state.place) ** 2) / 4.0)
        return self.xp.asarray(self.xp.broadcast_to(light, (16, 16)), dtype=self.xp.uint8)[:, :, None]
"""
TERM = """
    @jm.reward(weight=-{number})
    def haste_{name}(self, after):
        return after.speed**2
"""
CHANNEL = """
    @jm.sensor(low=-8.0, high=8.0)
    def ahead_{name}(self, state):
        return state.place + {number} * state.speed
"""
CASES = {
    "table": ("QLearning", "bins = 12"),
    "PPO": ("PPO", ""),
    "DQN": ("DQN", ""),
    "SAC": ("SAC", ""),
    "images": ("PPO", ""),
}


def written(case, edit, number):
    """The file of a case after an edit; `number` makes the edit one that was never made."""
    is_range = case == "SAC"
    more = IMAGES if case == "images" else ""
    drag = 0.1
    if edit == "constant":
        drag = 0.1 + number * 1e-4
    elif edit == "term":
        more += TERM.format(number=0.1 + number * 1e-4, name=number)
    elif edit == "channel":
        more += CHANNEL.format(number=0.1 + number * 1e-4, name=number)
    action = "jm.Range(-1.0, 1.0)" if is_range else 'jm.Choice("left", "right")'
    return CHOICES.format(
        action=action, push="action" if is_range else "(2.0 * action - 1.0)", drag=f"{drag:.5f}", more=more
    )


def once(place, case, edit, number, steps):
    """Seconds of a process that trains after an edit."""
    method, settings = CASES[case]
    (place / "raft.py").write_text(written(case, edit, number))
    (place / "plan.toml").write_text(
        f'[environment]\nuse = "raft.py:Raft"\n[agent]\nuse = "{method}"\n{settings}\n[training]\nsteps = {steps}\n'
    )
    environ = {**os.environ, "HOME": str(place), "XDG_CACHE_HOME": str(place / "cache"), "PYTHONPATH": str(SOURCE)}
    began = time.perf_counter()
    subprocess.run(
        [sys.executable, "-W", "ignore", "-m", "jokulmist", "train", "plan.toml"],
        cwd=place,
        env=environ,
        capture_output=True,
        check=True,
    )
    return time.perf_counter() - began


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--steps", default="1000,50000")
    parser.add_argument("--cases", default=",".join(CASES))
    parser.add_argument("--repeats", type=int, default=3)
    options = parser.parse_args()
    number = 0
    for case in options.cases.split(","):
        for steps in map(int, options.steps.split(",")):
            with tempfile.TemporaryDirectory() as parent:
                place = Path(parent)
                told = {"case": case, "decisions": steps, "empty cache": round(once(place, case, "none", 0, steps), 2)}
                for edit in ("constant", "term", "channel"):
                    pairs = []
                    for _ in range(options.repeats):
                        number += 1
                        pairs.append((once(place, case, "none", 0, steps), once(place, case, edit, number, steps)))
                    told["no edit"] = round(statistics.median(plain for plain, _ in pairs), 2)
                    costs = [after - plain for plain, after in pairs]
                    told[edit] = {
                        "seconds": round(statistics.median(after for _, after in pairs), 2),
                        "more than no edit": [round(cost, 2) for cost in sorted(costs)],
                    }
                print(json.dumps(told), flush=True)


if __name__ == "__main__":
    main()
