"""Train on a game at the end of a connection: the program in `afloat/float.py`, which could as well be in another
language or on another machine.

The training starts it, steps all its arenas by one message each way, and starts it again should it die. `punt/` is a
game in JavaScript, `weir/` one in C.
"""

import sys
from pathlib import Path

import jokulmist as jm

PROGRAM = Path(__file__).parent / "afloat" / "float.py"

if __name__ == "__main__":
    float_ = jm.Remote(command=[sys.executable, str(PROGRAM)])
    print(jm.check(float_, steps=200, speed=False))
    run = jm.train(float_, jm.DQN(replay_start=500), steps=10_000, copies=8, seed=0, folder=None)
    print("learned:", jm.evaluate(run.policy, float_, episodes=20))
    print("by chance:", jm.evaluate("random", float_, episodes=20))
