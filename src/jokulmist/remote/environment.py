"""The class of an environment that a program describes when it is reached, and its copies in training."""

from __future__ import annotations

import atexit
import json
import math
import weakref
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, ClassVar

from jokulmist.environments.chance.noise import Noise
from jokulmist.environments.declaration.outcome import Outcome
from jokulmist.environments.declaration.parts import parameter
from jokulmist.environments.simulator import Simulator, channel
from jokulmist.environments.spaces.channels import MOST_VALUES
from jokulmist.environments.spaces.player_actions import from_described
from jokulmist.environments.transition.simulator_stepping import SimulatorState
from jokulmist.errors import (
    ActionError,
    BrokenEnvironment,
    DeclarationError,
    JokulmistError,
    SettingError,
    listed,
    nearest,
)
from jokulmist.lanes.processes.lane import MOST_LOSSES_IN_A_ROW, Lost, ProcessLane
from jokulmist.remote.link import Link, RemoteProgram
from jokulmist.remote.messages import BadMessage, MomentReader, columns_of, outcome_of

if TYPE_CHECKING:
    from jokulmist.environments.chance.draws import Draw

KNOWN_FIELDS = (
    "protocol",
    "name",
    "about",
    "arenas",
    "observation",
    "action",
    "terms",
    "endings",
    "cuts",
    "measures",
    "players",
    "says",
    "parameters",
    "time_limit",
    "deadline",
    "decide_every",
    "frame_rate",
    "image",
)
FEATURES = ("legal", "turn", "out")
MOST_ENTRIES, MOST_CHANNELS, MOST_PLAYERS = 100_000, 1_000, 64
_CLASSES: dict[str, type[RemoteSimulator]] = {}


class RemoteSimulator(Simulator, abstract=True):
    """Base of environments that a program steps; `Remote` makes their classes."""

    program: ClassVar[RemoteProgram]
    connection: ClassVar[Mapping[str, Any]]
    described: ClassVar[Mapping[str, Any]]

    def begin(self, seed: int) -> Any:
        link, arena = self._seat()
        params: dict[str, Any] = {"arenas": [arena], "seeds": [seed]}
        values = self._values()
        if values:
            params["parameters"] = [values]
        return self._outcome(link, "begin", params)

    def advance(self, action: Any) -> Outcome:  # type: ignore[override]
        link, arena = self._seat()
        action_space = type(self).action  # type: ignore[attr-defined]
        return self._outcome(link, "advance", {"arenas": [arena], "actions": columns_of(action_space, [action])})

    def _outcome(self, link: Link, method: str, params: Mapping[str, Any]) -> Outcome:
        try:
            moment = link.call(method, params)
            moment = moment[0] if isinstance(moment, list) and moment else moment
            reader = MomentReader(self)
            images = reader.images_of(link.receive(method), 1, method) if reader.image_shapes else {}
        except (Lost, BadMessage) as failure:
            link.reconnect()
            raise BrokenEnvironment(
                f"{self.program}: {failure} It was connected again; begin another episode."
            ) from None
        return outcome_of(moment, images, 0)

    def _seat(self) -> tuple[Link, int]:
        if "_seats" not in self.__dict__:
            self.__dict__["_seats"] = seats = self.program.take(1)
            self.__dict__["_given_back"] = weakref.finalize(self, self.program.give, seats)
        seat: tuple[Link, int] = self.__dict__["_seats"][0]
        return seat

    def _values(self) -> dict[str, Any]:
        return {name: getattr(self, name) for name in self.described.get("parameters", {})}

    def image(self) -> Any:
        """What the program draws, uint8 of shape ``(height, width, 3)``, or None where it does not."""
        import numpy as np

        if not self.described.get("image") or "_seats" not in self.__dict__:
            return None
        link, arena = self._seat()
        reply = link.call("image", {"arena": arena})
        data, shape = link.receive("image"), tuple(reply.get("shape", ())) if isinstance(reply, dict) else ()
        if not isinstance(data, bytes) or len(shape) != 3 or math.prod(shape) != len(data):
            raise BrokenEnvironment(
                f"{self.program} drew {shape}, and sent {len(data):,} bytes; an image is (height, width, 3) bytes."
            )
        return np.frombuffer(data, np.uint8).reshape(shape)

    def close(self) -> None:
        if "_seats" in self.__dict__:
            del self.__dict__["_seats"]
            self.__dict__.pop("_given_back")()  # once, also where the instance itself is gone


def Remote(  # noqa: N802  it stands where a class does: `jm.Remote(...)` is an environment
    address: str | None = None,
    *,
    listen: int | str | None = None,
    command: Sequence[str] | None = None,
    secret: str | None = None,
    answer_within: float = 60.0,
    patience: float = 60.0,
    most_lost: float = 0.2,
    tempo: float | None = None,
    described: str | Mapping[str, Any] | None = None,
    weights: Mapping[str, float] | None = None,
    **parameters: Any,
) -> Simulator:
    """An environment that is a program at the other end of a connection, in any language: JSON-RPC 2.0 over WebSocket
    (docs/protocol.md).

    Parameters
    ----------
    address : str, optional
        Of a program that listens, ``"ws://127.0.0.1:9000"``.
    listen : int or str, optional
        Wait for a program that connects by itself: a port of this machine, or ``"host:port"`` to be reached from
        others.
    command : sequence of str, optional
        Start the program; it finds the address and the secret in its environment (``JOKULMIST_ADDRESS``,
        ``JOKULMIST_SECRET``), and is ended with the last who uses it.
    secret : str, optional
        Asked of a program that comes, told to one that is called. By default ``JOKULMIST_SECRET``, else a new one for
        what is started.
    answer_within : float
        Seconds after which a program that has not answered is taken to hang.
    patience : float
        Seconds that a program which is gone is waited for.
    most_lost : float
        Share of the episodes that may be lost; a run that loses more ends.
    tempo : float, optional
        How fast the program runs: 0 as fast as it can, 1 in real time; where it can choose.
    described : str or dict, optional
        What the program says that it is, as a run keeps it: then it is reached when it is first stepped.
    weights, **parameters
        As of any environment.

    Returns
    -------
    Simulator
        Declared by what the program says of itself. It is trained, checked, played, evaluated and recorded like any
        `jm.Simulator`; copies are arenas.

    Raises
    ------
    SettingError, BrokenEnvironment
        When it cannot be reached, speaks another protocol, or declares what cannot be.

    Examples
    --------
    >>> import jokulmist as jm
    >>> jm.Remote("http://127.0.0.1:9000")
    Traceback (most recent call last):
        ...
    jokulmist.errors.SettingError: `address` is 'http://127.0.0.1:9000'; it begins with ws:// or wss://, e.g.
    `ws://127.0.0.1:9000`.
    """
    for name, value in (("answer_within", answer_within), ("patience", patience)):
        if isinstance(value, bool) or not isinstance(value, (int, float)) or not 0.0 < value < math.inf:
            raise SettingError(f"`{name}` must be a number of seconds above 0; got {value!r:.60}.")
    words = command is None or (
        isinstance(command, (list, tuple)) and command and all(isinstance(word, str) for word in command)
    )
    if not words:
        raise SettingError(f'`command` is a list of words, e.g. `command=["node", "game.js"]`; got {command!r:.80}.')
    if secret is not None and not isinstance(secret, str):
        raise SettingError(f"`secret` is a text; got {type(secret).__name__}.")
    connection = {
        "address": address,
        "listen": listen,
        "command": None if command is None else list(command),
        "answer_within": answer_within,
        "patience": patience,
        "most_lost": most_lost,
        "tempo": tempo,
    }
    connection = {name: value for name, value in connection.items() if value is not None}
    program = _program(connection, secret)
    if described is None:
        described = program.description()
    elif isinstance(described, str):
        try:
            described = json.loads(described)
        except ValueError:
            raise SettingError(
                "`described` is no JSON; it is what the program says of itself, as a run keeps it."
            ) from None
    cls = _class_of(program, connection, described)
    return cls(weights=weights, **parameters)


_PROGRAMS: dict[str, RemoteProgram] = {}


def _program(connection: Mapping[str, Any], secret: str | None) -> RemoteProgram:
    """The program behind a connection: one for all who name it in this process."""
    key = json.dumps([connection, secret], sort_keys=True)
    if key not in _PROGRAMS:
        ways = {
            name: connection.get(name)
            for name in ("address", "listen", "command", "answer_within", "patience", "tempo")
        }
        program = RemoteProgram(secret=secret, **ways)  # type: ignore[arg-type]
        atexit.register(program.close)
        _PROGRAMS[key] = program
    return _PROGRAMS[key]


def _class_of(program: RemoteProgram, connection: Mapping[str, Any], described: Any) -> type[RemoteSimulator]:
    key = f"{id(program)} {json.dumps([connection, described], default=str)}"
    if key not in _CLASSES:
        _CLASSES[key] = _declared(program, connection, described)
    return _CLASSES[key]


def _declared(program: RemoteProgram, connection: Mapping[str, Any], hello: Any) -> type[RemoteSimulator]:
    """The class of what a program says that it is, checked as any declaration."""
    _refuse_unreadable(program, hello)
    _refuse_large(program, hello)
    players = hello.get("players")
    try:
        body: dict[str, Any] = {
            "__module__": RemoteSimulator.__module__,
            "__doc__": str(hello.get("about", "")) or f"A program at {program}.",
            "program": program,
            "connection": connection,
            "described": hello,
            "action": _action(hello.get("action"), players),
            "players": tuple(players) if players else None,
            "observation": _channels(hello.get("observation", {}), tuple(players or ())),
            "terms": hello.get("terms", {}),
            "measures": hello.get("measures", {}),
            "endings": _names(hello, "endings"),
            "cuts": _names(hello, "cuts"),
            "time_limit": hello.get("time_limit"),
            "deadline": hello.get("deadline"),
            "decide_every": hello.get("decide_every", 1),
            "frame_rate": hello.get("frame_rate"),
            "answer_within": float(connection["answer_within"]),
            "most_lost": connection["most_lost"],
            **{f"says_{word}": True for word in hello.get("says", [])},
        }
        _add_parameters(body, dict(hello.get("parameters", {})))
        return type(hello.get("name", "Remote"), (RemoteSimulator,), body)
    except JokulmistError as wrong:
        raise DeclarationError(f"{program} declares what cannot be: {wrong}") from None
    except (TypeError, KeyError, ValueError, AttributeError) as wrong:
        raise DeclarationError(
            f"{program} declares what cannot be read: {type(wrong).__name__}: {wrong!s:.120}. docs/protocol.md has "
            "the fields."
        ) from None


def _refuse_unreadable(program: RemoteProgram, hello: Any) -> None:
    """What names no field that is known, or names the class or its features by something else."""
    if not isinstance(hello, Mapping):
        raise DeclarationError(f"{program} describes itself by {hello!r:.80}; it is an object.")
    for name in hello:
        if name not in KNOWN_FIELDS:
            raise DeclarationError(
                f"{program} describes itself by `{name!s:.60}`; known are "
                f"{listed(KNOWN_FIELDS)}.{nearest(str(name), KNOWN_FIELDS)}"
            )
    name = hello.get("name", "Remote")
    if not isinstance(name, str) or not name.isidentifier():
        raise DeclarationError(f"{program} says that its name is {name!r:.60}; a name is one word, e.g. `Skua`.")
    features = hello.get("says", [])
    if not isinstance(features, list) or any(word not in FEATURES for word in features):
        raise DeclarationError(f"{program} has `says` {features!r:.60}; it is a list of {listed(FEATURES)}.")


def _add_parameters(body: dict[str, Any], parameters: dict[Any, Any]) -> None:
    """Give a class the parameters that a program declares, with the types of their values."""
    for name, value in parameters.items():
        if (
            not str(name).isidentifier()
            or str(name).startswith("_")
            or name in body
            or hasattr(RemoteSimulator, str(name))
        ):
            raise DeclarationError(f"a parameter is named {name!r:.60}, which is no name or means something else here")
        limits = {word: value[word] for word in ("low", "high", "unit") if word in value}
        body[str(name)] = parameter(value["value"], **limits)
        body.setdefault("__annotations__", {})[str(name)] = type(value["value"])


def _refuse_large(program: RemoteProgram, hello: Mapping[str, Any]) -> None:
    """What takes minutes to declare, or more memory than there is, was not meant."""
    for name in ("observation", "action", "terms", "measures", "parameters", "players", "endings", "cuts"):
        left, count = [hello.get(name)], 0
        while left:
            entry = left.pop()
            if isinstance(entry, (Mapping, list)):
                count += len(entry)
                left += entry.values() if isinstance(entry, Mapping) else entry
            if count > MOST_ENTRIES:
                raise DeclarationError(
                    f"{program} says more than {MOST_ENTRIES:,} things of `{name}`; at most so many are read."
                )
    players = hello.get("players")
    if isinstance(players, list) and len(players) > MOST_PLAYERS:
        raise DeclarationError(f"{program} has {len(players):,} players; at most {MOST_PLAYERS} are read.")
    left, names, values = [hello.get("observation"), hello.get("action")], 0, 0.0
    while left:
        entry = left.pop()
        if not isinstance(entry, Mapping):
            continue
        names += 1
        shape = entry.get("shape")
        if isinstance(shape, list) and all(isinstance(n, (int, float)) for n in shape):
            values += math.prod(map(float, shape))
        left += entry.values()
    if names > MOST_CHANNELS or values > MOST_VALUES:
        raise DeclarationError(
            f"{program} shows {names:,} channels and parts with {values:.3g} values; at most {MOST_CHANNELS:,} with "
            f"{MOST_VALUES:,} are read."
        )


def _names(hello: Mapping[str, Any], kind: str) -> tuple[str, ...]:
    names = hello.get(kind, [])
    if not isinstance(names, list):
        raise DeclarationError(f"`{kind}` is a list of names; got {names!r:.60}")
    return tuple(names)


def _action(declared: Any, players: Any) -> Any:
    if not isinstance(declared, Mapping):
        raise DeclarationError(
            f"`action` is {declared!r:.80}; write for instance an object with `kind` choice and `labels`."
        )
    if players and "kind" not in declared:
        return {player: _action(part, None) for player, part in declared.items()}
    try:
        return from_described(declared)
    except ActionError as wrong:
        raise DeclarationError(str(wrong)) from None


def _channels(values: Any, players: tuple[str, ...]) -> dict[str, Any]:
    if not isinstance(values, Mapping):
        raise DeclarationError(f"`observation` is {values!r:.80}; it is an object with a channel a name.")
    channels: dict[str, Any] = {}
    for name, options in values.items():
        if name in players:
            channels[name] = _channels(options, ())
        else:
            settings: dict[str, Any] = {
                k: tuple(v) if isinstance(v, list) else v for k, v in options.items() if v is not None
            }
            channels[name] = channel(**settings)
    return channels


class RemoteBatch:
    """What several copies ask of one link, until one of them waits for the answer."""

    def __init__(self, link: Link, reader: MomentReader, action: Any) -> None:
        self.link, self._reader, self._action = link, reader, action
        self._begins: dict[int, tuple[int, dict[str, Any]]] = {}
        self._acts: dict[int, Any] = {}
        self._times = 1
        self.answers: dict[int, list[SimulatorState]] = {}

    def ask_begin(self, arena: int, seed: int, values: dict[str, Any]) -> None:
        self._begins[arena] = (seed, values)
        self.answers.pop(arena, None)

    def request_advance(self, arena: int, action: Any, times: int) -> None:
        self._acts[arena], self._times = action, times
        self.answers.pop(arena, None)

    def take_first_state(self, arena: int) -> SimulatorState:
        """The first state of an arena; all begins that were asked for go in one message."""
        if arena not in self.answers:
            waiting, self._begins = self._begins, {}
            params: dict[str, Any] = {"arenas": list(waiting), "seeds": [seed for seed, _ in waiting.values()]}
            if any(values for _, values in waiting.values()):
                params["parameters"] = [values for _, values in waiting.values()]
            for arena_states, states in zip(waiting, self._answered("begin", params), strict=True):
                self.answers[arena_states] = states
        return self.answers.pop(arena)[0]

    def advanced(self, arena: int) -> list[SimulatorState]:
        """The states of an arena's advances; all that were asked for go in one message."""
        if arena not in self.answers:
            waiting, self._acts = self._acts, {}
            params = {"arenas": list(waiting), "actions": columns_of(self._action, list(waiting.values()))}
            if self._times > 1:
                params["times"] = self._times
            for arena_states, states in zip(waiting, self._answered("advance", params), strict=True):
                self.answers[arena_states] = states
        return self.answers.pop(arena)

    def _answered(self, method: str, params: dict[str, Any]) -> list[list[SimulatorState]]:
        """By arena, the states that it went through."""
        count = len(params["arenas"])
        times = params.get("times", 1)
        try:
            reply = self.link.call(method, params)
            moments = reply if isinstance(reply, list) else [reply]
            if not 1 <= len(moments) <= times:
                raise BadMessage(f"`{method}` gave {len(moments)} moments; asked for were {times}.")
            by_arena: list[list[SimulatorState]] = [[] for _ in range(count)]
            for moment in moments:
                images = (
                    self._reader.images_of(self.link.receive(method), count, method)
                    if self._reader.image_shapes
                    else {}
                )
                for states, state in zip(by_arena, self._reader.states(moment, count, images, method), strict=True):
                    if not states or not states[-1].satisfied:
                        states.append(state)
            if any(len(states) < times and not states[-1].satisfied for states in by_arena):
                raise BadMessage(f"`{method}` gave {len(moments)} moments, and an episode that goes on needs {times}.")
            return by_arena
        except (Lost, BadMessage) as failure:
            self.link.why = str(failure)
            self.link.drop()
            self.answers.clear()
            raise Lost(str(failure)) from None


class RemoteCopy:
    """One copy: an arena of a program, with the calls of `lanes.processes.lane.WorkerCopy`."""

    def __init__(self, environment: RemoteSimulator, batch: RemoteBatch, arena: int) -> None:
        self._environment, self._batch, self._arena = environment, batch, arena
        self._values = environment._values()
        self._generation = batch.link.generation
        self._begin_seed: int | None = None
        self._states: list[SimulatorState] = []
        self.losses = self._in_a_row = 0
        self.why = ""

    def revalue(self, values: Mapping[str, Any]) -> None:
        self._values = {**self._values, **{n: v.item() if hasattr(v, "item") else v for n, v in values.items()}}

    def ask_begin(self, seed: int) -> None:
        self._begin_seed = seed
        self._generation = self._batch.link.generation
        self._batch.ask_begin(self._arena, seed + self.losses, self._values)  # after a loss another seed

    def begin(self, seed: int) -> SimulatorState:
        if self._begin_seed != seed:
            self.ask_begin(seed)
        self._begin_seed, self._states = None, []
        self._refuse_gone()
        return self._batch.take_first_state(self._arena)

    def request_advance(self, action: Any, times: int) -> None:
        self._states = []
        if self._generation == self._batch.link.generation:
            self._batch.request_advance(self._arena, action, times)

    def advance(self, state: Any, action: Any, draw: Draw) -> SimulatorState:
        if not self._states:
            self._refuse_gone()
            self._states = self._batch.advanced(self._arena)
            self._in_a_row = 0
        return self._states.pop(0)

    def _refuse_gone(self) -> None:
        """An episode that began on an earlier connection is gone, and so are all where it has just been cut."""
        link = self._batch.link
        if link.why or self._generation != link.generation:
            raise Lost(link.why or "the connection was made again")

    def finish(self) -> None:
        self._states = []

    def replace(self, why: Lost) -> None:
        """Connect again, once for all copies of the link."""
        self.losses, self.why = self.losses + 1, str(why)
        self._in_a_row += 1
        if self._in_a_row > MOST_LOSSES_IN_A_ROW:
            raise BrokenEnvironment(
                f"{self._environment.program} was lost {self._in_a_row} times in a row without one advance: {why}"
            )
        if self._batch.link.why:
            self._batch.link.reconnect()
        self._begin_seed, self._states = None, []

    def image(self) -> Any:
        return None

    def close(self) -> None:
        """The lane gives the arenas back."""


class RemoteLane(ProcessLane):
    """Copies that are arenas of a program; what all of them do goes in one message each way."""

    _seats: list[tuple[Link, int]]

    def _started(self, environment: Simulator, noise: Noise) -> list[Any]:
        assert isinstance(environment, RemoteSimulator)
        self._seats = environment.program.take(noise.copies)
        reader = MomentReader(environment)
        batches = {id(link): RemoteBatch(link, reader, type(environment).action) for link, _ in self._seats}  # type: ignore[attr-defined]
        return [RemoteCopy(environment, batches[id(link)], arena) for link, arena in self._seats]

    def close(self) -> None:
        assert isinstance(self.environment, RemoteSimulator)
        self.environment.program.give(self._seats)
        self._seats = []
