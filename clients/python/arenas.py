"""Let a Jokulmist training step your program: a client kit in one file, which needs `websockets`.

    class Float:                      # one arena
        def begin(self, seed, parameters):
            self.depth = (seed % 100) / 50 - 1
            return {"observation": {"depth": self.depth}}

        def advance(self, action):
            self.depth += 0.1 if action == 1 else -0.1
            return {"observation": {"depth": self.depth}, "terms": {"calm": -abs(self.depth)}, "closed_by": "sunk" if self.depth < -2 else None}

    serve({"name": "Float", "observation": {"depth": {"low": -3, "high": 3}}, "action": {"kind": "choice", "labels": ["down", "up"]},
           "terms": {"calm": 1.0}, "endings": ["sunk"], "time_limit": 50}, Float, arenas=8)

`serve` goes to the address in JOKULMIST_ADDRESS where it was started by a training (`command=`), else it listens at the port given. docs/protocol.md
has every field.
"""

import contextlib
import json
import os
import sys

PROTOCOL = 1


class Talk:
    """What one connection asks, answered. Without transport: `answer` takes a text and gives the frames to send."""

    def __init__(self, described, make, arenas, secret=""):
        self.described, self.make, self.secret = {**described, "arenas": arenas}, make, secret
        self.arenas = [make() for _ in range(arenas)]
        self.images = image_paths(described["observation"])
        self.let_in = not secret

    def answer(self, text):
        """The frames that answer a request: JSON, and images after it."""
        number = None
        try:
            asked = json.loads(text)
            number = asked.get("id")
            result, images = self._done(asked["method"], asked.get("params", {}))
            return [json.dumps({"jsonrpc": "2.0", "id": number, "result": result}), *images]
        except Exception as failure:  # the training is told, and goes on without this episode
            error = {"code": -32000, "message": f"{type(failure).__name__}: {failure}"}
            return [json.dumps({"jsonrpc": "2.0", "id": number, "error": error})]

    def _done(self, method, params):
        if method == "hello":
            if params.get("protocol") != PROTOCOL:
                raise ValueError(f"this program speaks protocol {PROTOCOL}")
            self.let_in = self.let_in or params.get("secret") == self.secret
            if not self.let_in:
                raise PermissionError("another secret is asked for")
            return {"protocol": PROTOCOL, "secret": os.environ.get("JOKULMIST_SECRET", ""), **self.described}, []
        if not self.let_in:
            raise PermissionError("say hello first")
        if method == "begin":
            given = params.get("parameters") or [{}] * len(params["arenas"])
            told = [
                self.arenas[arena].begin(seed, values)
                for arena, seed, values in zip(params["arenas"], params["seeds"], given, strict=True)
            ]
            moment, images = self._columns(told)
            return moment, images
        if method == "advance":
            moments, frames, open_ = [], [], dict.fromkeys(params["arenas"])
            for _ in range(params.get("times", 1)):
                for k, arena in enumerate(params["arenas"]):
                    if open_[arena] is None or not open_[arena].get("closed_by"):
                        open_[arena] = self.arenas[arena].advance(entry_of(params["actions"], k))
                moment, images = self._columns([open_[arena] for arena in params["arenas"]])
                moments.append(moment)
                frames += images
                if all(told.get("closed_by") for told in open_.values()):
                    break
            return (moments[0] if len(moments) == 1 else moments), frames
        if method == "image":
            drawn = self.arenas[params["arena"]].image()  # an array of bytes with a shape
            return {"shape": list(drawn.shape)}, [bytes(drawn)]
        if method in ("tempo", "close"):
            return {}, []
        raise LookupError(f"there is no method {method}")

    def _columns(self, told):
        """What the arenas tell, each by itself, as columns; images apart, as bytes."""
        moment = columns_of([{k: v for k, v in one.items() if v is not None} for one in told], len(told))
        if any(one.get("closed_by") for one in told):
            moment["closed_by"] = [one.get("closed_by") for one in told]
        frame = b""
        for *outer, name in self.images:
            place = moment["observation"]
            for player in outer:
                place = place[player]
            frame += b"".join(bytes(image) for image in place.pop(name))
        return moment, ([frame] if self.images else [])


def image_paths(observation, outer=()):
    """Where the image channels are, in the order of declaration: by name, or by player and name."""
    found = []
    for name, told in observation.items():
        if told.get("image") is True:
            found.append((*outer, name))
        elif any(isinstance(part, dict) for part in told.values()):
            found += image_paths(told, (*outer, name))
    return found


def columns_of(told, count):
    """A list of objects as an object of lists."""
    found = {}
    for name in {name: None for one in told for name in one}:
        own = [one.get(name) for one in told]
        if isinstance(next(one for one in own if one is not None), dict):
            found[name] = columns_of([one or {} for one in own], count)
        elif name != "closed_by":
            found[name] = [0.0 if one is None and name not in ("legal", "turn", "out") else one for one in own]
    return found


def entry_of(columns, k):
    """One arena's part of columns."""
    return {name: entry_of(part, k) for name, part in columns.items()} if isinstance(columns, dict) else columns[k]


def serve(described, make, arenas=1, port=None, host="127.0.0.1"):
    """Answer a training, until it goes.

    Parameters
    ----------
    described : dict
        What the environment is: see docs/protocol.md.
    make : function
        Makes an arena, with `begin(seed, parameters)` and `advance(action)`.
    arenas : int
        Of each connection.
    port : int, optional
        Where to listen; by default it goes to the address in JOKULMIST_ADDRESS.
    """
    secret = os.environ.get("JOKULMIST_SECRET", "")

    from websockets.exceptions import ConnectionClosed

    def talk(socket, let_in):
        one = Talk(described, make, arenas, "" if let_in else secret)
        with contextlib.suppress(ConnectionClosed):  # the training has gone
            while True:
                for frame in one.answer(socket.recv()):
                    socket.send(frame)

    if port is None:
        from websockets.sync.client import connect

        if "JOKULMIST_ADDRESS" not in os.environ:
            sys.exit("give a port to listen at, or let a training start this program")
        with connect(
            os.environ["JOKULMIST_ADDRESS"], compression=None, max_size=None, ping_interval=None, proxy=None
        ) as socket:
            talk(socket, True)
    else:
        from websockets.sync.server import serve as listen

        with listen(
            lambda socket: talk(socket, False), host, port, compression=None, max_size=None, ping_interval=None
        ) as server:
            server.serve_forever()
