"""A game at the other end of a connection: a float on the fjord, in a program of its own. `remote_float.py` trains on
it."""

import random
import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[2] / "clients" / "python"))  # or copy arenas.py beside your program
from arenas import serve


class Float:
    """One arena."""

    def begin(self, seed, parameters):
        self.chance = random.Random(seed)
        self.depth, self.swell = self.chance.uniform(-1.0, 1.0), parameters.get("swell", 0.05)
        return {"observation": {"depth": self.depth}}

    def advance(self, action):
        self.depth += 0.1 * (2 * action - 1) + self.chance.gauss(0.0, self.swell)
        sunk = self.depth < -2.0
        return {
            "observation": {"depth": self.depth},
            "terms": {"calm": 1.0 - abs(self.depth)},
            "closed_by": "sunk" if sunk else None,
        }


serve(
    {
        "name": "Float",
        "observation": {"depth": {"low": -3, "high": 3, "unit": "m"}},
        "action": {"kind": "choice", "labels": ["down", "up"]},
        "terms": {"calm": 1.0},
        "endings": ["sunk"],
        "time_limit": 50,
        "parameters": {"swell": {"value": 0.05, "low": 0.0, "high": 1.0}},
    },
    Float,
    arenas=8,
)
