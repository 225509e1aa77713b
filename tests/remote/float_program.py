"""A program that is stepped over a wire, with faults that it is asked for."""

import json
import os
import socket
import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[2] / "clients" / "python"))
import arenas

DESCRIBED = {
    "name": "Raft",
    "observation": {"depth": {"low": -3, "high": 3}},
    "action": {"kind": "choice", "labels": ["down", "up"]},
    "terms": {"calm": 1.0},
    "endings": ["sunk"],
    "measures": {"moves": "sum"},
    "time_limit": 20,
    "parameters": {"lift": {"value": 0.1, "low": 0.0, "high": 1.0}},
}
FULL = {
    "name": "Net",
    "players": ["north", "south"],
    "says": ["turn", "legal"],
    "observation": {
        "net": {"low": 0, "high": 9},
        "north": {"sight": {"image": True, "shape": [2, 3, 1]}},
        "south": {"pull": {"low": -1, "high": 1, "shape": [2]}},
    },
    "action": {
        "north": {"kind": "choice", "labels": ["slack", "pull"]},
        "south": {"kind": "range", "low": -1.0, "high": 1.0},
    },
    "terms": {"catch": 1.0, "north": {"fuel": -0.5}},
    "endings": ["landed"],
    "image": True,
}


class Raft:
    def begin(self, seed, parameters):
        self.depth, self.lift = (seed % 100) / 50 - 1, parameters.get("lift", 0.1)
        return {"observation": {"depth": self.depth}}

    def advance(self, action):
        self.depth += self.lift if action == 1 else -self.lift
        closed = "sunk" if self.depth < -2 else None
        return {
            "observation": {"depth": self.depth},
            "terms": {"calm": -abs(self.depth)},
            "measures": {"moves": 1.0},
            "closed_by": closed,
        }


class Net:
    def begin(self, seed, parameters):
        self.moves = 0
        return {"observation": self.seen(), "turn": "north", "legal": {"north": [True, False]}}

    def seen(self):
        return {"net": self.moves, "north": {"sight": bytes(range(6))}, "south": {"pull": [0.5, -0.5]}}

    def advance(self, action):
        self.moves += 1
        pulled = action["south"] if self.moves % 2 == 0 else action["north"]
        return {
            "observation": self.seen(),
            "terms": {"catch": pulled, "north": {"fuel": 1.0}},
            "turn": self.moves % 2,
            "legal": {"north": [True, True]},
            "closed_by": "landed" if self.moves == 4 else None,
        }

    def image(self):
        import numpy as np

        return np.full((2, 2, 3), self.moves, np.uint8)


class Faulty(arenas.Talk):
    """Goes wrong in one of several ways, at the answer with a number."""

    def __init__(self, described, make, count, secret=""):
        super().__init__(described, make, count, secret)
        self.kind, position = os.environ["FAULT"].split(":")
        seen = Path(os.environ["SEEN"])
        self.at = int(position) if not seen.exists() else -1  # once, and then it behaves
        self.asked, self.seen = 0, seen

    def answer(self, text):
        self.asked += 1
        frames = super().answer(text)
        if self.asked == self.at:
            self.seen.touch()
            frames = getattr(self, self.kind)(frames)
        return frames

    def dies(self, frames):
        os._exit(3)

    def hangs(self, frames):
        time.sleep(600)

    def late(self, frames):
        time.sleep(1.5)
        return frames

    def garbage(self, frames):
        return ["{" * 300]

    def binary(self, frames):
        return [b"\x00\x01\x02"]

    def out_of_order(self, frames):
        return [json.dumps({**json.loads(frames[0]), "id": 1})]

    def raises(self, frames):
        return [
            json.dumps(
                {
                    "jsonrpc": "2.0",
                    "id": json.loads(frames[0])["id"],
                    "error": {"code": -1, "message": "the mast broke\n\x1b[31m"},
                }
            )
        ]

    def changed(self, change):
        def made(frames):
            answer = json.loads(frames[0])
            change(answer["result"])
            return [json.dumps(answer)]

        return made

    def wrong_shape(self, frames):
        return self.changed(lambda result: result["observation"].update(depth=[[1.0, 2.0]]))(frames)

    def no_number(self, frames):
        return [frames[0].replace('"depth": [', '"depth": [NaN, ').replace("NaN, ", "NaN, ", 1)]

    def null_number(self, frames):
        return self.changed(
            lambda result: result["observation"].update(depth=[None] * len(result["observation"]["depth"]))
        )(frames)

    def unknown_ending(self, frames):
        return self.changed(lambda result: result.update(closed_by=["flown"] * len(result["observation"]["depth"])))(
            frames
        )

    def huge(self, frames):
        return ["x" * (70 << 20)]


def cut(described, make, arena_count):
    """Talks until an answer with a number, of which it sends one half; after that whole."""
    from websockets.sync.client import connect

    fault, position = os.environ["FAULT"].split(":")
    seen, options = Path(os.environ["SEEN"]), 0
    with connect(
        os.environ["JOKULMIST_ADDRESS"], compression=None, max_size=None, ping_interval=None, proxy=None
    ) as link:
        talk = arenas.Talk(described, make, arena_count)
        while True:
            try:
                text = link.recv()
            except Exception:
                return
            options += 1
            if options == int(position) and not seen.exists():
                seen.touch()
                announced = {
                    "cut": b"\x81\xfe\x40\x00abcd" + b"x" * 100,
                    "gigabyte": b"\x81\xff\x00\x00\x00\x00\x40\x00\x00\x00abcd",
                    "garbage_frame": os.urandom(64),
                }[fault]
                link.socket.sendall(announced)
                if fault == "cut":
                    link.socket.shutdown(socket.SHUT_RDWR)
                time.sleep(600 if fault == "gigabyte" else 0.2)
                os._exit(0)
            for frame in talk.answer(text):
                link.send(frame)


if __name__ == "__main__":
    what = sys.argv[1] if len(sys.argv) > 1 else "raft"
    count = int(os.environ.get("ARENAS", "4"))
    if what == "net":
        arenas.serve(FULL, Net, arenas=count)
    elif os.environ.get("FAULT", "").split(":")[0] in ("cut", "gigabyte", "garbage_frame"):
        cut(DESCRIBED, Raft, count)
    else:
        if "FAULT" in os.environ:
            arenas.Talk = Faulty
        described = {**DESCRIBED, **json.loads(os.environ.get("CHANGED", "{}"))}
        arenas.serve(described, Raft, arenas=count, port=int(sys.argv[2]) if len(sys.argv) > 2 else None)
