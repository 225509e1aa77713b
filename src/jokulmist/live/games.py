"""Environments in the hands of whoever looks at the page: alone, beside policies, or from a moment that was
recorded."""

from __future__ import annotations

import secrets
import threading
from collections import OrderedDict
from pathlib import Path
from typing import Any

import numpy as np

from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.environments.simulator import Simulator
from jokulmist.environments.spaces.actions import Choice
from jokulmist.environments.spaces.player_actions import belongs_to
from jokulmist.errors import LookupFailed, RecordError, SettingError, listed
from jokulmist.live.views import EPISODES, png, recorded
from jokulmist.plans.plan import plan_of
from jokulmist.plans.sources import plan_code, use_of
from jokulmist.records.files import read_json, write_json
from jokulmist.records.origin import ORIGIN
from jokulmist.records.rollouts import Rollout, read_rollouts
from jokulmist.records.run_folder import is_name, keep_source
from jokulmist.running.runs.run import Run
from jokulmist.running.runs.scenes import Scene, scene_of
from jokulmist.web import Refused
from jokulmist.workshop.play import Controls

MOST_GAMES = 20
KEPT_FOLDER = "rollouts"
MOST_DECISIONS = 25  # decisions that a policy may take at one request


class Game:
    """One episode that somebody plays."""

    def __init__(self, hand: Controls, source: dict[str, Any]) -> None:
        self.hand, self.source = hand, source
        self.guard = threading.Lock()

    def answer(self, verb: str, request_body: dict[str, Any]) -> dict[str, Any]:
        """Do what a request asks for, and tell how the episode stands."""
        self.do(verb, request_body)
        return self.as_json()

    def as_json(self, player: str | None = None) -> dict[str, Any]:
        """How the episode stands, for whoever plays one player or all."""
        hand, episode = self.hand, self.hand.episode
        seen = hand.seen if player is None else episode.observation[player]
        legal = episode.legal
        parts = [
            {
                "name": name,
                "kind": "choice" if isinstance(part, Choice) else "range",
                **(
                    {"labels": [str(label) for label in part.labels]}
                    if isinstance(part, Choice)
                    else {
                        "low": np.nan_to_num(part.low, neginf=-10.0).reshape(-1).tolist(),
                        "high": np.nan_to_num(part.high, posinf=10.0).reshape(-1).tolist(),
                    }
                ),
                "chosen": np.asarray(hand.chosen[name]).reshape(-1).tolist(),
                "legal": _legal(legal, name),
            }
            for name, part in hand.parts.items()
            if player is None or belongs_to(player, name)
        ]
        description = describe(hand.environment)
        return {
            "environment": description.name,
            "frame_rate": description.frame_rate,
            "seed": hand.seed,
            "decision": episode.steps,
            "seen": {name: _as_json(seen[name]) for name in list(seen.keys())},
            "terms": [
                {"name": name, "now": episode.terms[name], "total": total} for name, total in episode.totals.items()
            ],
            "reward": float(episode.reward),
            "total": float(episode.total),
            "measures": episode.measures,
            "over": episode.over,
            "closed_by": episode.satisfied,
            "parts": parts,
            "policy": hand.policy is not None,
            "agent": hand.agent,
            "player": player or hand.player,
            "players": list(description.players),
            "asked": list(episode.deciding),
            "picture": self.drawable,
        }

    @property
    def drawable(self) -> bool:
        environment = self.hand.environment
        return hasattr(environment, "picture") or (
            isinstance(environment, Simulator) and self.hand.episode.image() is not None
        )

    def picture(self) -> bytes:
        """The moment as a PNG."""
        environment, episode = self.hand.environment, self.hand.episode
        draw: Any = getattr(environment, "picture", None)
        if isinstance(environment, Simulator):
            image = episode.image()
            if image is None:
                raise LookupFailed("the class has no `image`.")

            def draw_state(axes: Any) -> None:
                axes.imshow(image)
                axes.set_axis_off()

            return png(draw_state)
        if draw is None:
            raise LookupFailed("the class has no `picture`.")
        return png(lambda axes: draw(axes, episode.state))

    def do(self, verb: str, request_body: dict[str, Any]) -> None:
        """What a request asks for."""
        hand = self.hand
        if verb == "act":
            self._choose_all(dict(request_body.get("chosen") or {}))
            hand.act()
        elif verb == "watch":
            for _ in range(min(max(int(request_body.get("decisions") or 1), 1), MOST_DECISIONS)):
                if hand.episode.over or not hand.agent:
                    break
                hand.act()
        elif verb == "back":
            hand.back(min(max(int(request_body.get("decisions") or 1), 1), 10_000))
        elif verb == "again":
            hand.begin()
        elif verb == "another":
            hand.another()
        elif verb == "swap":
            hand.swap()
        else:
            raise SettingError(
                f"a game does not know {verb!r:.40}; it knows act, watch, back, again, another, swap and keep."
            )

    def _choose_all(self, chosen: dict[str, Any]) -> None:
        for name, value in chosen.items():
            self._choose(name, value)

    def _choose(self, name: str, value: Any) -> None:
        if name not in self.hand.parts:
            raise SettingError(f"there is no part {name!r:.40} of the action.")
        part = self.hand.parts[name]
        if isinstance(part, Choice):
            if isinstance(value, bool) or not isinstance(value, int) or not 0 <= value < part.count:
                raise SettingError(f"a choice is a whole number from 0 to {part.count - 1}; got {value!r:.40}.")
            self.hand.choose(name, value)
            return
        try:
            values = np.asarray(value, np.float32).reshape(part.low.shape)
        except (TypeError, ValueError):
            raise SettingError(f"a range is {part.size} numbers; got {value!r:.40}.") from None
        if not np.isfinite(values).all():
            raise SettingError(f"a range is finite numbers; got {value!r:.40}.")
        values = np.clip(values, part.low, part.high)
        self.hand.chosen[name] = float(values) if part.shape == () else values.reshape(part.shape)

    def save(self, folder: Path) -> str:
        """Keep the episode, with where its environment comes from and its code; the name of its file."""
        path = self.hand.save(folder / KEPT_FOLDER)
        beside = path.with_suffix("")
        beside.mkdir(exist_ok=True)
        if "environment" in self.source:
            environment = self.hand.environment
            keep_source(beside, plan_code(environment).parts)
            self.source["environment"] = use_of(type(environment))
        write_json(beside / ORIGIN, self.source)
        return path.name


class SharedGame(Game):
    """One episode with a person at each of several seats, and a policy at the others.

    A seat belongs to whoever took it first: a secret goes with it. A step is taken once all who decide have chosen.
    """

    def __init__(self, hand: Controls, source: dict[str, Any]) -> None:
        super().__init__(hand, source)
        self._secrets: dict[str, str] = {}
        self._ready: set[str] = set()

    def answer(self, verb: str, request_body: dict[str, Any]) -> dict[str, Any]:
        if verb == "sit":
            return self._sit(request_body.get("player"))
        player = self._secrets.get(str(request_body.get("seat")))
        if player is None:
            raise Refused("you have no seat in this game. Take one that is free.")
        if verb == "act":
            chosen = dict(request_body.get("chosen") or {})
            for name in chosen:
                if not belongs_to(player, name):
                    raise SettingError(f"`{name!s:.40}` is not decided by {player}.")
            self._choose_all(chosen)
            self._ready.add(player)
            self._step()
        elif verb in ("back", "again", "another"):
            self.do(verb, request_body)
            self._ready.clear()
            self._play_policies()
        elif verb != "look":
            raise SettingError(
                f"a shared game does not know {verb!r:.40}; it knows sit, look, act, back, again, another."
            )
        return self.as_json(player)

    @property
    def occupants(self) -> set[str]:
        """The players whose seats somebody has."""
        return set(self._secrets.values())

    def as_json(self, player: str | None = None) -> dict[str, Any]:
        shared = {"shared": True, "occupants": sorted(self.occupants), "waits_for": self._missing()}
        return {**super().as_json(player), **shared}

    def _sit(self, player: Any) -> dict[str, Any]:
        players = describe(self.hand.environment).players
        if player not in players:
            raise SettingError(f"there is no player {player!r:.40}; the players are {listed(players)}.")
        if player in self.occupants:
            raise Refused(f"somebody else plays {player}. Take another seat.")
        secret = secrets.token_urlsafe(9)
        self._secrets[secret] = player
        self._play_policies()  # where a seat that nobody has moves first
        return {**self.as_json(player), "seat": secret}

    def _missing(self) -> list[str]:
        """The players without whose decision no step is taken."""
        hand = self.hand
        return [
            player
            for player in hand.episode.deciding
            if player not in self._ready and (player in self.occupants or hand.partners is None)
        ]

    def _step(self) -> None:
        if self.hand.episode.over or not self._missing():
            self._ready.clear()
            self._act()
        self._play_policies()

    def _play_policies(self) -> None:
        """Moves of the policy alone, where a game asks one player at a time."""
        hand = self.hand
        while hand.partners is not None and not hand.episode.over and not self.occupants & set(hand.episode.deciding):
            self._act()

    def _act(self) -> None:
        """One step: seats that nobody took are the policy's."""
        hand, chosen = self.hand, self.hand.chosen
        hand.chosen = {n: v for n, v in chosen.items() if any(belongs_to(player, n) for player in self.occupants)}
        try:
            hand.act()
        finally:
            hand.chosen = chosen


class Games:
    """The games that are open; the oldest ends when there are too many."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._games: OrderedDict[str, Game] = OrderedDict()

    def game(self, name: str) -> Game:
        game = self._games.get(name)
        if game is None:
            raise LookupFailed("this game has ended. Begin another one.")
        self._games.move_to_end(name)
        return game

    def begin(self, request_body: dict[str, Any], run_path: Any) -> str:
        """Begin a game; its name."""
        seed = request_body.get("seed", 0)
        if isinstance(seed, bool) or not isinstance(seed, int) or not 0 <= seed < 2**31:
            raise SettingError(f"`seed` is a whole number from 0 to {2**31 - 1}; got {seed!r:.40}.")
        environment, run = self._environment(
            request_body, run_path
        )  # of a kept episode it also says where that comes from
        source = {key: request_body[key] for key in ("environment", "parameters", "run") if request_body.get(key)}
        policy = other_policies = None
        player = request_body.get("player") or None
        shared = bool(request_body.get("shared"))
        if shared and not describe(environment).players:
            raise SettingError(f"`{describe(environment).name}` has one player; there are no seats to share.")
        if run is not None and request_body.get("policy"):
            policy = run.policy
        if (player is not None or shared) and run is not None:
            policy, other_policies = None, run.policy
        hand = Controls(environment, policy, seed, None if shared else player, other_policies)
        moment = request_body.get("moment")
        if moment is not None:
            self._begin_at(hand, request_body, moment, run)
        name = secrets.token_urlsafe(9)
        self._games[name] = SharedGame(hand, source) if shared else Game(hand, source)
        while len(self._games) > MOST_GAMES:
            self._games.popitem(last=False)
        return name

    def _environment(self, request_body: dict[str, Any], run_path: Any) -> tuple[Environment, Run | None]:
        if request_body.get("kept"):
            request_body.update(self.source_of(str(request_body["kept"])))
        if request_body.get("run"):
            run = Run.open(run_path(str(request_body["run"])))
            return run.environment, run
        use, parameters = request_body.get("environment"), request_body.get("parameters") or {}
        if not isinstance(use, str) or not isinstance(parameters, dict):
            raise SettingError("say which `environment`, or which `run`.")
        content = {"environment": {"use": use, **parameters}, "agent": {"use": "RandomPlay"}, "training": {"steps": 1}}
        # What a file of the folder names is looked for in the code that is kept beside it, by the rules of a run.
        base = self.kept_file(str(request_body["kept"])).with_suffix("") if request_body.get("kept") else Path.cwd()
        return plan_of(content, base).measured, None

    def _begin_at(self, hand: Controls, request_body: dict[str, Any], moment: Any, run: Run | None) -> None:
        if request_body.get("kept"):
            scene = scene_of("", self.kept_rollout(str(request_body["kept"])), hand.environment)
        elif run is not None and run.path is not None:
            scene, _ = recorded(run.path, str(request_body.get("episode", "last")))
        else:
            raise SettingError("say which recorded `episode` of which `run`, or which episode is `kept`.")
        steps = scene.rollout.steps
        if isinstance(moment, bool) or not isinstance(moment, int) or not 0 <= moment < steps:
            raise SettingError(f"`moment` is a whole number from 0 to {steps - 1}; got {moment!r:.40}.")
        if not scene.states:
            raise SettingError(
                "the state of a simulator is not recorded, so it cannot be continued from there. Play it from its "
                "begin."
            )
        hand.begin_at(scene.states[moment], moment)
        hand.agent = False

    # Episodes that were kept.

    def kept_file(self, name: str) -> Path:
        path = self.folder / KEPT_FOLDER / name
        linked = path.is_symlink() or path.parent.is_symlink()
        if not is_name(name) or path.suffix != ".parquet" or linked or not path.is_file():
            raise LookupFailed(f"no episode was kept as {name!r:.80}.")
        return path

    def kept_rollout(self, name: str) -> Rollout:
        return read_rollouts(self.kept_file(name))[0]

    def source_of(self, name: str) -> dict[str, Any]:
        """Where the environment of a kept episode comes from."""
        try:
            source = read_json(self.kept_file(name).with_suffix("") / ORIGIN)
        except RecordError:
            source = None
        if not isinstance(source, dict) or not set(source) <= {"run", "environment", "parameters"}:
            raise LookupFailed(f"nothing says which environment {name} was played in.")
        return source

    def kept_scene(self, name: str, run_path: Any) -> tuple[Scene, Environment]:
        """A kept episode, and its environment."""

        def read() -> tuple[Scene, Environment]:
            environment, _ = self._environment({"kept": name}, run_path)
            return scene_of(name, self.kept_rollout(name), environment), environment

        scene: tuple[Scene, Environment] = EPISODES.get(
            (str(self.kept_file(name)), self.kept_file(name).stat().st_mtime_ns), read
        )
        return scene

    def names(self) -> list[str]:
        place = self.folder / KEPT_FOLDER
        return sorted((p.name for p in place.glob("*.parquet")), reverse=True) if place.exists() else []


def _as_json(value: Any) -> Any:
    if isinstance(value, np.ndarray) and value.dtype == np.uint8:
        return f"image {' x '.join(map(str, value.shape))}"
    return np.asarray(value, float).round(5).tolist()


def _legal(legal: Any, name: str) -> list[str] | None:
    if legal is None:
        return None
    return list(map(str, legal.get(name, []) if isinstance(legal, dict) else legal))
