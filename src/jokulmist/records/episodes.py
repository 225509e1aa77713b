"""What a run writes down while it trains, and the protocol of the objects that write it.

The loop hands finished episodes and readings to a recorder. The one in memory is for runs without a folder; the one
that keeps a folder is in `run_folder.py`.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.declaration.description import Description
from jokulmist.environments.spaces.player_actions import own_name

CONSTANT = 1e-6


@dataclass(frozen=True)
class Episodes:
    """Episodes that closed, in the order in which they did; one row each.

    Attributes
    ----------
    decisions : int64, shape (rows,)
        Decisions of all copies together at the end of the turn in which the episode closed.
    copy, steps, satisfied : int64, shape (rows,)
    totals : float32, shape (rows, terms)
        Unweighted.
    measures : float32, shape (rows, measures)
    varied : float32, shape (rows, parameters)
        The parameters that differ from episode to episode.
    learned : float32, shape (rows,)
        The return that was learned from, where rewards are modified.
    advances : int64, shape (rows,)
        `steps` counts decisions, each of which may be held for several advances.
    agent_records : float32, shape (rows, records)
        What the agent tells of each, such as which partner played.
    """

    decisions: NumpyArray
    copy: NumpyArray
    steps: NumpyArray
    satisfied: NumpyArray
    totals: NumpyArray
    measures: NumpyArray
    varied: NumpyArray
    learned: NumpyArray
    advances: NumpyArray
    agent_records: NumpyArray = field(default_factory=lambda: np.zeros((0, 0), np.float32))

    def __post_init__(self) -> None:
        if not self.agent_records.size:
            object.__setattr__(
                self, "agent_records", np.zeros((len(self.decisions), self.agent_records.shape[1]), np.float32)
            )

    def __len__(self) -> int:
        return len(self.decisions)

    @classmethod
    def joined(cls, parts: list[Episodes]) -> Episodes:
        """Several batches as one."""
        names = cls.__dataclass_fields__
        return cls(**{name: np.concatenate([getattr(part, name) for part in parts]) for name in names})

    def rows(self, places: NumpyArray) -> Episodes:
        """Those at some places, in that order."""
        return Episodes(**{name: getattr(self, name)[places] for name in Episodes.__dataclass_fields__})

    def first(self, count: int) -> Episodes:
        """The first so many of them."""
        return type(self)(**{name: getattr(self, name)[: max(count, 0)] for name in self.__dataclass_fields__})

    def returns(self, weights: tuple[float, ...]) -> NumpyArray:
        """The weighted sums of the terms, float32, shape ``(rows,)``."""
        weighted: NumpyArray = self.totals.astype(np.float64) @ np.asarray(weights, np.float64)
        return weighted.astype(np.float32)


def columns_of(
    episodes: Episodes, description: Description, first: int, record_names: tuple[str, ...] = ()
) -> dict[str, NumpyArray]:
    """The columns of episodes.csv; `first` is the number of the first row's episode, `record_names` names what the
    agent tells."""
    names_by_bits = {int(bits): description.held_names(int(bits)) for bits in np.unique(episodes.satisfied)}
    names = [names_by_bits[bits] for bits in episodes.satisfied.tolist()]
    table: dict[str, NumpyArray] = {
        "episode": np.arange(first, first + len(episodes), dtype=np.int64),
        "decisions": episodes.decisions.astype(np.int64),
        "copy": episodes.copy.astype(np.int64),
        "return": episodes.returns(description.weights),
        **{
            f"{player}.return": player_returns
            for player, player_returns in zip(description.players, _shared(episodes, description), strict=True)
        },
        **({"learned_return": episodes.learned.astype(np.float32)} if description.reward_pipeline.modifiers else {}),
        "steps": episodes.steps.astype(np.int64),
        **({"advances": episodes.advances.astype(np.int64)} if description.holds else {}),
        "closed_by": np.array([satisfied[0] if satisfied else "" for satisfied in names], dtype=object),
        "also_held": np.array(["+".join(satisfied[1:]) for satisfied in names], dtype=object),
    }
    for k, term in enumerate(description.terms):
        table[term.name] = episodes.totals[:, k].astype(np.float32)
    for k, measure in enumerate(description.measures):
        table[measure.name] = episodes.measures[:, k].astype(np.float32)
    for k, name in enumerate(description.varied):
        table[name] = episodes.varied[:, k].astype(np.float32)
    for k, name in enumerate(record_names):
        table[name] = episodes.agent_records[:, k].astype(np.int64)
    return table


def _shared(episodes: Episodes, description: Description) -> list[NumpyArray]:
    """The return of each player: its own terms and everybody's."""
    if not description.players:
        return []
    shares = np.asarray(description.shares, np.float64)
    return list((episodes.totals.astype(np.float64) @ shares).T.astype(np.float32))


def is_return(column: str) -> bool:
    """Whether a column holds returns: of an episode, or of a player in it."""
    return column == "return" or column.endswith(".return")


def player_returns_in(columns: Iterable[str]) -> list[str]:
    """The columns of players' returns, in their order."""
    return [name for name in columns if name != "return" and is_return(name)]


def telling_return(columns: Mapping[str, Any]) -> str:
    """The column of returns that tells something: ``"return"``, the mean over players, or the first player's where what
    one gets the other loses and the mean never changes."""
    player_columns = player_returns_in(columns)
    total = np.asarray(columns["return"], np.float64)
    if len(player_columns) > 1 and len(total) > 1 and np.ptp(total) <= CONSTANT:
        spread = [np.ptp(np.asarray(columns[name], np.float64)) for name in player_columns]
        if max(spread) > CONSTANT or not np.allclose(
            columns[player_columns[0]], columns[player_columns[1]], atol=CONSTANT
        ):
            return player_columns[0]
    return "return"


PAIRING_SEPARATOR = " against "


def pairing_name(player: str, member: str) -> str:
    """What evaluated.csv calls a player's policy that met a member of the panel."""
    return f"{player}{PAIRING_SEPARATOR}{member}"


def numbers_of(episodes: Episodes, description: Description) -> dict[str, NumpyArray]:
    """What is judged by while a run trains: returns, decisions, measures, parameters that vary."""
    numbers = {"return": episodes.returns(description.weights), "steps": episodes.steps}
    for player, player_returns in zip(description.players, _shared(episodes, description), strict=True):
        numbers[own_name(player, "return")] = player_returns
    for k, measure in enumerate(description.measures):
        numbers[measure.name] = episodes.measures[:, k]
    for k, name in enumerate(description.varied):
        numbers[name] = episodes.varied[:, k]
    return numbers


class Memory:
    """A recorder that keeps everything in memory."""

    def __init__(self) -> None:
        self.episode_parts: list[dict[str, NumpyArray]] = []
        self.reading_rows: list[dict[str, float]] = []
        self.lines: list[str] = []

    def episodes(self, columns: dict[str, NumpyArray]) -> None:
        self.episode_parts.append(columns)

    def reading(self, row: dict[str, float]) -> None:
        self.reading_rows.append(row)

    def log(self, text: str) -> None:
        self.lines.append(text)
