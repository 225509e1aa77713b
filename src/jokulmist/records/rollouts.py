"""Rollouts on disk: episodes step by step, as Parquet that any reader opens.

One row a decision, and one more for what stood at the end. A row holds what was observed, the state it was decided in,
what was done, and what that brought. A file is written under another name and renamed, so every file is whole at any
moment.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist import cells
from jokulmist.arrays import NumpyArray
from jokulmist.environments.declaration.description import Description
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.environments.spaces.actions import Actions, Choice, Record, split
from jokulmist.environments.spaces.legal import choices_of
from jokulmist.errors import LookupFailed, RecordError, listed
from jokulmist.plain_files import plain_file
from jokulmist.records.files import path_of, replace_file

if TYPE_CHECKING:
    import pandas as pd

ROLLOUT_COLUMNS = frozenset(("run", "episode", "moment", "closed_by"))
ROLLOUTS = "rollouts"
STATE, LEGAL, MASK = "state.", "legal", "mask "
FEW = 20


@dataclass(frozen=True)
class RecordedEpisode:
    """One episode, decision by decision; `n` decisions have `n + 1` observations and states.

    Attributes
    ----------
    numbers : float32, shape ``(n + 1, width)``
        The number channels, in the order of ``spec.slices``.
    images : dict of str to uint8, shape ``(n + 1, height, width, channels)``
    actions : in own form, with a leading axis of n
    terms : float32, shape ``(n, terms)``
        Unweighted.
    measures : float32, shape ``(n, measures)``
        Running, since the episode began.
    satisfied : int
        The closings that held at the end.
    states : dict of str to array, shape ``(n + 1, ...)``
        The fields of the state; of a simulator what is legal, by the number of the choice.
    policy_outputs : dict of str to array, shape ``(n,)``
        What the policy said: values or probabilities, by label.
    """

    numbers: NumpyArray
    images: dict[str, NumpyArray]
    actions: Any
    terms: NumpyArray
    measures: NumpyArray
    satisfied: int
    states: dict[str, NumpyArray]
    policy_outputs: dict[str, NumpyArray] = field(default_factory=dict)

    @property
    def steps(self) -> int:
        return len(self.terms)


class EpisodeWriter:
    """Gathers an episode decision by decision, in Python."""

    def __init__(self) -> None:
        self.rows: list[Any] = []
        self.images: list[dict[str, Any]] = []
        self.states: list[dict[str, Any]] = []
        self.actions: list[Any] = []
        self.terms: list[list[float]] = []
        self.measures: list[list[float]] = []
        self._before: RecordedEpisode | None = None

    def saved(self) -> dict[str, Any]:
        """What was gathered so far, as arrays by name; `restore` makes a new writer go on with it."""
        episode = self.closed(0)
        parts = vars(episode.actions) if isinstance(episode.actions, Record) else {"": episode.actions}
        return {
            "numbers": episode.numbers,
            "images": episode.images,
            "actions": parts,
            "terms": episode.terms,
            "measures": episode.measures,
            "states": episode.states,
        }

    def restore(self, saved: Mapping[str, Any]) -> None:
        """Go on with what `saved` gave."""
        actions = saved["actions"]
        self._before = RecordedEpisode(
            numbers=saved["numbers"],
            images=dict(saved.get("images", {})),
            actions=actions[""] if "" in actions else Record(**actions),
            terms=saved["terms"],
            measures=saved["measures"],
            satisfied=0,
            states=dict(saved.get("states", {})),
        )

    def saw(self, row: Any, images: dict[str, Any], state: dict[str, Any]) -> None:
        """The moment before a decision, or the last one."""
        self.rows.append(list(row))
        self.images.append(dict(images))
        self.states.append(dict(state))

    def did(self, action: Any, terms: Sequence[float], measures: Sequence[float]) -> None:
        """What was decided, and what it brought."""
        self.actions.append(action)
        self.terms.append(list(terms))
        self.measures.append(list(measures))

    def closed(self, satisfied: int) -> RecordedEpisode:
        """The whole episode."""
        if self._before is not None:
            return self._before if not self.terms else _concatenated(self._before, self._arrays(satisfied, 1))
        return self._arrays(satisfied, 0)

    def _arrays(self, satisfied: int, first: int) -> RecordedEpisode:
        """What this writer saw; of one that goes on, whose first moment is the last of what was before, `first` is
        1."""
        n = len(self.terms)
        names = list(self.images[0])
        fields = list(self.states[0])
        return RecordedEpisode(
            numbers=np.array(self.rows, np.float32).reshape(n + 1 - first, -1),
            images={name: np.stack([image[name] for image in self.images]) for name in names},
            actions=_joined(self.actions),
            terms=np.array(self.terms, np.float32).reshape(n, -1 if n else 0),
            measures=np.array(self.measures, np.float32).reshape(n, -1 if n else 0),
            satisfied=satisfied,
            states={name: np.stack([np.asarray(state[name]) for state in self.states]) for name in fields},
        )


def _concatenated(first: RecordedEpisode, then: RecordedEpisode) -> RecordedEpisode:
    """An episode of two parts."""

    def both(a: NumpyArray, b: NumpyArray) -> NumpyArray:
        return np.concatenate([a, b]) if len(a) else b  # nothing has no type that matters

    actions = (
        Record(**{name: both(getattr(first.actions, name), value) for name, value in vars(then.actions).items()})
        if isinstance(first.actions, Record)
        else both(first.actions, then.actions)
    )
    return RecordedEpisode(
        numbers=both(first.numbers, then.numbers),
        images={name: both(first.images[name], value) for name, value in then.images.items()},
        actions=actions,
        terms=both(first.terms, then.terms),
        measures=both(first.measures, then.measures),
        satisfied=then.satisfied,
        states={name: both(first.states[name], value) for name, value in then.states.items()},
    )


def _joined(actions: list[Any]) -> Any:
    if actions and isinstance(actions[0], Record):
        return Record(**{name: _joined([getattr(a, name) for a in actions]) for name in vars(actions[0])})
    return np.array(actions)


def columns_of(description: Description, recorded_episode: RecordedEpisode, run: str, episode: int) -> dict[str, Any]:
    """An episode as the columns of a rollout; what the last row cannot have is None there."""
    n, spec = recorded_episode.steps, description.spec
    columns: dict[str, Any] = {
        "run": [run] * (n + 1),
        "episode": np.full(n + 1, episode, np.int64),
        "moment": np.arange(n + 1, dtype=np.int64),
    }
    for channel in spec.numbers:
        values = recorded_episode.numbers[:, spec.slices[channel.name]]
        columns[channel.name] = values[:, 0] if channel.shape == () else values
    for name, images in recorded_episode.images.items():
        columns[name] = images.reshape(n + 1, -1)
    columns.update(_action_columns(description.action, recorded_episode.actions, n))
    rewards = recorded_episode.terms.astype(np.float64) @ np.asarray(description.weights, np.float64)
    columns["reward"] = [*rewards.astype(np.float32).tolist(), None]
    for k, term in enumerate(description.terms):
        columns[term.name] = [*recorded_episode.terms[:, k].tolist(), None]
    closed = description.held_names(recorded_episode.satisfied)
    closings: list[Any] = [None] * n
    columns["closed_by"] = [*closings, closed[0] if closed else None]
    for k, measure in enumerate(description.measures):
        columns[measure.name] = [*recorded_episode.measures[:, k].tolist(), None]
    for name, values in recorded_episode.policy_outputs.items():
        columns[name] = [*values.tolist(), None]
    choices = list(choices_of(description.action).items())
    for name, values in recorded_episode.states.items():
        if name.startswith(MASK):
            if (k := int(name.removeprefix(MASK))) < len(choices):  # beyond are those of players
                part, choice = choices[k]
                columns[f"{LEGAL}.{part}" if part else LEGAL] = [
                    [label for label, able in zip(choice.labels, row, strict=True) if able] for row in values
                ]
            continue
        columns[f"{STATE}{name}"] = values if values.ndim == 1 else values.reshape(n + 1, -1)
    return columns


def _action_columns(action: Any, native: Any, n: int) -> dict[str, Any]:
    parts = action.parts if isinstance(action, Actions) else {"": action}
    columns: dict[str, list[Any]] = {}
    for name, part in parts.items():
        values = getattr(native, name) if name else native
        key = f"action.{name}" if name else "action"
        if isinstance(part, Choice):
            columns[key] = [*[part.labels[int(v)] for v in values], None]
        elif part.shape == ():
            columns[key] = [*np.asarray(values, np.float64).tolist(), None]
        else:
            columns[key] = [*np.asarray(values, np.float64).reshape(n, -1).tolist(), None]
    return columns


def save_rollouts(path: Path, columns: Sequence[dict[str, Any]], metadata: dict[str, str]) -> Path:
    """One Parquet file with some episodes."""
    import pyarrow as pa
    from pyarrow import parquet

    tables = [pa.table({name: _column(values) for name, values in table.items()}) for table in columns]
    table = pa.concat_tables(tables, promote_options="permissive").replace_schema_metadata(metadata)
    sink = pa.BufferOutputStream()
    parquet.write_table(table, sink, compression="zstd")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as failure:
        raise RecordError(f"cannot make {path.parent}: {failure.strerror}. What was recorded so far is kept.") from None
    replace_file(path, sink.getvalue().to_pybytes())
    return path


def _column(values: Any) -> Any:
    """A column for Arrow: rows of arrays are fixed-size lists."""
    import pyarrow as pa

    if isinstance(values, np.ndarray) and values.ndim == 2:
        return pa.FixedSizeListArray.from_arrays(pa.array(np.ascontiguousarray(values).reshape(-1)), values.shape[1])
    if isinstance(values, list) and values and isinstance(values[0], list) and isinstance((values[0] or [0])[0], str):
        return pa.array(values, pa.list_(pa.string()))
    if isinstance(values, list) and values and isinstance(values[0], list):
        kind = pa.list_(pa.float32(), len(values[0]))
        return pa.array(values, kind)
    if isinstance(values, list) and any(isinstance(v, float) for v in values[:1]):
        return pa.array(values, pa.float32())
    if isinstance(values, list):
        return pa.array(values, pa.string() if not any(isinstance(v, (int, float)) for v in values) else None)
    return pa.array(values)


@dataclass(frozen=True)
class Rollout:
    """One recorded episode.

    Attributes
    ----------
    table : DataFrame
        One row a decision, and one for the end; see `docs/runs.md` for its columns.
    run : str
    episode : int
    draws : dict, optional
        What it takes to step it again; see `follow`.
    """

    table: pd.DataFrame
    run: str
    episode: int
    draws: dict[str, Any] | None = None

    @property
    def steps(self) -> int:
        return len(self.table) - 1

    @property
    def total(self) -> float:
        """The return."""
        return float(self.table["reward"].sum())

    @property
    def closed_by(self) -> str | None:
        name = self.table["closed_by"].iloc[-1]
        return name if isinstance(name, str) else None  # a column of nothing reads as not-a-number

    def actions(self, environment: Environment) -> list[Any]:
        """What was done, in own form."""
        action, head = describe(environment).action, self.table.iloc[:-1]
        parts = action.parts if isinstance(action, Actions) else {"": action}
        parts_by_name: dict[str, Any] = {}
        for name, part in parts.items():
            column = head[f"action.{name}" if name else "action"]
            if isinstance(part, Choice):
                parts_by_name[name] = np.array([part.native(label) for label in column], np.int64)
            elif part.shape == ():
                parts_by_name[name] = column.to_numpy(np.float32)
            else:
                parts_by_name[name] = np.stack([np.asarray(v, np.float32).reshape(part.shape) for v in column])
        return split(parts_by_name[""] if "" in parts_by_name else Record(**parts_by_name), self.steps)

    def states(self, environment: Environment) -> list[Any]:
        """The recorded states, as instances of the class's State."""
        return states_of(self.table, environment)

    @cells.safely
    def _repr_html_(self) -> str:
        facts = {"decisions": self.steps, "return": float(self.total), "closed by": self.closed_by}
        moments = self.table.drop(columns=["run", "episode"], errors="ignore").to_dict("records")
        return cells.html_card(
            f"rollout of {self.run}, episode {self.episode:,}", facts, cells.table(moments, "moments", most=6)
        )

    def __repr__(self) -> str:
        return f"<rollout of {self.run}, episode {self.episode}: {self.steps} decisions, return {self.total:.4g}>"


def states_of(table: pd.DataFrame, environment: Environment) -> list[Any]:
    """The states that are in the columns ``state.*``, one a row, as instances of the class's State."""
    kinds, kind = {"float": float, "int": int, "bool": np.bool_}, type(environment).State
    states = []
    fields = describe(environment).fields
    for values in zip(*(table[f"{STATE}{f.name}"] for f in fields), strict=True):
        state = object.__new__(kind)
        for f, value in zip(fields, values, strict=True):
            field_value = kinds[f.kind](value) if f.scalar else np.asarray(value, f.dtype).reshape(f.shape)  # type: ignore[arg-type]
            state.__dict__[f.name] = field_value
        states.append(state)
    return states


def rollout_of(description: Description, recorded_episode: RecordedEpisode, run: str, episode: int) -> Rollout:
    """An episode as it would be read back."""
    import pandas as pd

    columns = columns_of(description, recorded_episode, run, episode)
    lists = {n: list(v) if isinstance(v, np.ndarray) and v.ndim == 2 else v for n, v in columns.items()}
    return Rollout(pd.DataFrame(lists), run, episode)


def read_rollouts(path: str | Path, episode: int | None = None) -> list[Rollout]:
    """The episodes of a Parquet file, or of all in a folder, in the order of their numbers.

    Parameters
    ----------
    path : path
    episode : int, optional
        Only the episode of this number: of a long run, only the part of the files that holds it is read.

    Raises
    ------
    LookupFailed
        When there are none.
    RecordError
        When a file cannot be read.

    Examples
    --------
    >>> import jokulmist as jm
    >>> import pathlib, tempfile
    >>> tarn, path = jm.gallery.Tarn(), pathlib.Path(tempfile.mkdtemp()) / "kept.parquet"
    >>> episode = tarn.episode(seed=1)
    >>> while not episode.over:
    ...     _ = episode.act(0)
    >>> _ = jm.save_rollout(episode, path)
    >>> jm.read_rollouts(path)
    [<rollout of by hand, episode 1: 96 decisions, return -299.6>]
    """
    path = path_of(path, "a file of rollouts")
    files = sorted(path.glob("*.parquet")) if path.is_dir() else [path]
    if not files or not files[0].exists():
        raise LookupFailed(
            f"there are no rollouts in {path}. Record some with `record_every` in training, or `jokulmist evaluate "
            "--record 5`."
        )
    rollouts: dict[tuple[str, int], Rollout] = {}
    for file in files:
        table, metadata = read_table(file, episode)
        missing = sorted(ROLLOUT_COLUMNS - set(table))
        if missing:
            raise RecordError(
                f"cannot read {file}: it has no column {listed(missing)}. It was damaged, or is no rollout."
            )
        _refuse_columns(file, table)
        draws = _draws_in(file, metadata)
        for names, part in table.groupby(["run", "episode"], sort=False):
            key = (str(names[0]), int(str(names[1])))
            rollouts.setdefault(key, Rollout(part.reset_index(drop=True), *key, draws.get(str(key[1]))))
    if episode is not None and not rollouts:
        numbers = sorted({number for file in files for number in numbers_in(file)})
        raise LookupFailed(
            f"{path} holds no episode {episode}; it holds "
            f"{listed(numbers[:FEW])}{'' if len(numbers) <= FEW else f' and {len(numbers) - FEW:,} more'}."
        )
    return [rollouts[key] for key in sorted(rollouts, key=lambda k: (k[1], k[0]))]


def _draws_in(file: Path, metadata: Mapping[str, str]) -> dict[str, Any]:
    """What it takes to step the episodes again, by episode."""
    try:
        draws = json.loads(metadata.get("draws", "{}"))
    except ValueError:
        draws = None
    if not isinstance(draws, dict):
        raise RecordError(f"cannot read {file}: what its head says of draws was damaged.")
    return draws


def _refuse_columns(file: Path, table: pd.DataFrame) -> None:
    """Raise `RecordError` where the columns that every rollout has hold something else than numbers, or texts."""
    for name, kinds in (("episode", "iu"), ("moment", "iu"), ("reward", "f")):
        if name in table and table[name].dtype.kind not in kinds and not table[name].isna().all():
            raise RecordError(
                f"cannot read {file}: its column `{name}` holds no {'numbers' if kinds == 'f' else 'whole numbers'}. "
                "It was damaged, or is no rollout."
            )
    if not all(isinstance(run, str) for run in table["run"]):
        raise RecordError(f"cannot read {file}: its column `run` holds no texts. It was damaged, or is no rollout.")


def numbers_in(file: Path) -> list[int]:
    """The numbers of the episodes that a file holds; nothing else of it is read."""
    import pyarrow as pa
    from pyarrow import parquet

    try:
        with pa.memory_map(str(plain_file(file))) as source:
            numbers: list[int] = parquet.read_table(source, columns=["episode"])["episode"].unique().to_pylist()
    except (pa.ArrowException, OSError) as failure:
        raise RecordError(f"{file} cannot be read: it is torn, or no Parquet file ({failure}).") from None
    return numbers


def is_rollouts(file: Path) -> bool:
    """Whether a Parquet file has the columns of rollouts; one that cannot be read is left to be told of as such."""
    import pyarrow as pa
    from pyarrow import parquet

    try:
        names = set(parquet.read_schema(plain_file(file)).names)
    except (pa.ArrowException, OSError):
        return True
    return names >= ROLLOUT_COLUMNS


def read_table(file: Path, episode: int | None = None) -> tuple[pd.DataFrame, dict[str, str]]:
    """One file as a data frame, or one episode of it, and what its schema says about it."""
    import pyarrow as pa
    from pyarrow import parquet

    plain_file(file)
    try:
        # Opened once: by its name it would be opened twice, and a training may put another in its place in between.
        with pa.memory_map(str(file)) as source:
            table = parquet.read_table(source, filters=None if episode is None else [("episode", "==", episode)])
            frame: pd.DataFrame = table.to_pandas()
    except (pa.ArrowException, OSError) as failure:
        raise RecordError(f"{file} cannot be read: it is torn, or no Parquet file ({failure}).") from None
    head = table.schema.metadata or {}
    metadata = {key.decode(errors="replace"): value.decode(errors="replace") for key, value in head.items()}
    return frame, metadata
