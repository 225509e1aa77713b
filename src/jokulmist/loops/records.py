"""Recorded decisions as arrays: from rollouts of this library, or from any data frame."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from jokulmist.agents.contract import Experience
from jokulmist.arrays import NumpyArray
from jokulmist.environments.declaration.description import Description
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.environments.spaces.actions import Choice, Record, parts_of
from jokulmist.environments.spaces.channels import ObservationBatch, Spec
from jokulmist.environments.spaces.legal import choices_of
from jokulmist.environments.transition.stepping import Stepper
from jokulmist.errors import ActionError, RecordError, SettingError, listed, nearest
from jokulmist.records.files import path_of
from jokulmist.records.rollouts import LEGAL, STATE, Rollout, is_rollouts, read_rollouts, states_of
from jokulmist.trees import joined as joined_trees

if TYPE_CHECKING:
    import pandas as pd

EPISODE, REWARD, CLOSED_BY, ENDED = "episode", "reward", "closed_by", "ended"
PROBABILITY = "probability."


@dataclass(frozen=True, repr=False)
class Records:
    """Decisions that were recorded, one row each.

    Attributes
    ----------
    spec : Spec
        The channels and the action that they have.
    rows : Experience
        With a leading axis of decisions; `closed` also at the last decision of an episode that did not close.
    episode : int array, shape ``(decisions,)``
        Which each belongs to, from 0.
    chance : float array, shape ``(decisions,)``, or None
        With which whoever was recorded took that action, where it is in the records.
    left_out : int
        Last decisions of episodes that were left out because nobody knows what followed.

    Examples
    --------
    >>> import pandas as pd
    >>> import jokulmist as jm
    >>> log = pd.DataFrame({"trip": [1, 1, 1], "x": [0, 1, 2], "pushed": ["ahead", "ahead", None], "got": [0.0, 1.0, None]})
    >>> class Sled(jm.Environment):
    ...     class State(jm.State):
    ...         at: int = jm.seen(low=0, high=5)
    ...     action = jm.Choice("back", "ahead")
    ...     def begin(self, draw):
    ...         return self.State(at=0)
    ...     def advance(self, state, action, draw):
    ...         return state.replace(at=state.at + 1)
    ...     @jm.reward
    ...     def onward(self, after):
    ...         return 1.0 * after.at
    >>> found = Records.read(log, Sled(), columns={"episode": "trip", "at": "x", "action": "pushed", "reward": "got"})
    >>> len(found), found.returns.tolist()
    (2, [1.0])
    """

    spec: Spec
    rows: Experience
    episode: Any
    chance: Any
    left_out: int = 0

    def __len__(self) -> int:
        return len(self.episode)

    def __repr__(self) -> str:
        returns = self.returns
        return f"<records of {len(self):,} decisions in {len(returns):,} episodes, mean return {np.mean(returns):.4g}>"

    @property
    def returns(self) -> NumpyArray:
        """The return of each episode, as far as it was recorded."""
        return np.bincount(self.episode, self.rows.rewards)

    @classmethod
    def read(cls, source: Any, environment: Environment, columns: Mapping[str, str] | None = None) -> Records:
        """Decisions of an environment, from what was recorded elsewhere.

        Parameters
        ----------
        source : path, Rollout, sequence of Rollout, DataFrame, or a sequence of these
            Parquet files of rollouts or a folder of them; or a table with a row a decision, in the order of time, also
            as a CSV file, or a Parquet file of any columns.
        environment : Environment
            Whose channels, action and reward terms are meant. Where the records have a column for each term, rewards
            are weighted again, by its weights.
        columns : dict of str to str, optional
            What a column is called there: ``{"level": "tank_cm", "action": "valve", "episode": "day", "reward":
            "earned"}``. Ends are known by ``"closed_by"``, the name of an ending or a cut, or by ``"ended"``, a truth
            value. Where the class says what is legal, ``"legal"`` (of several choices ``"legal.PART"``) is a list of
            the labels that were allowed, or in a CSV file these labels with ``|`` between them; rollouts of this
            library tell it by their states.

        Raises
        ------
        SettingError
            When a column is missing, or what stands there is no such number or label; it is named.
        """
        if (
            isinstance(source, Sequence)
            and not isinstance(source, str)
            and not all(isinstance(item, Rollout) for item in source)
        ):
            return joined([cls.read(item, environment, columns) for item in source])
        description = describe(environment)
        if description.players:
            raise SettingError(
                f"`{description.name}` has several players; records of one who decides are learned from."
            )
        table = _table(source)
        names = dict(columns or {})
        columns_known = [
            EPISODE,
            REWARD,
            CLOSED_BY,
            ENDED,
            *_wanted(description),
            *_legal_columns(description),
            *(t.name for t in description.terms),
        ]
        for name, column_name in names.items():
            if name not in columns_known and not name.startswith(PROBABILITY):
                raise SettingError(
                    f"`columns` names `{name}`; known are {listed(columns_known)}.{nearest(name, columns_known)}"
                )
            if column_name not in table:
                raise SettingError(
                    f"`columns` says that `{name}` is `{column_name}`, and the records have "
                    f"{listed(map(str, table.columns))}.{nearest(column_name, list(map(str, table.columns)))}"
                )
        return _read(environment, table, lambda name: names.get(name, name), REWARD in names)


def joined(parts: Sequence[Records]) -> Records:
    """Several records of one environment as one, in order."""
    if len(parts) == 1:
        return parts[0]
    first = np.cumsum([0, *(int(part.episode.max()) + 1 for part in parts)])
    probabilities = [part.chance for part in parts]
    return Records(
        parts[0].spec,
        joined_trees([part.rows for part in parts], np.concatenate),
        np.concatenate([part.episode + begin for part, begin in zip(parts, first, strict=False)]),
        None if any(chance is None for chance in probabilities) else np.concatenate(probabilities),
        sum(part.left_out for part in parts),
    )


def _table(source: Any) -> pd.DataFrame:
    import pandas as pd

    if isinstance(source, pd.DataFrame):
        table: pd.DataFrame = source.reset_index(drop=True)
        return table
    if isinstance(source, Rollout):
        source = [source]
    if isinstance(source, (str, Path)):
        foreign = _foreign(path_of(source, "a file of records"))
        if foreign is not None:
            return foreign
        source = read_rollouts(source)
    if not isinstance(source, Sequence) or not source or not all(isinstance(item, Rollout) for item in source):
        raise SettingError(f"records are a path, rollouts, or a data frame; got {type(source).__name__}.")
    # Numbers of episodes may be the same in different runs.
    joined: pd.DataFrame = pd.concat([item.table.assign(episode=k) for k, item in enumerate(source)], ignore_index=True)
    return joined


def _foreign(path: Path) -> pd.DataFrame | None:
    """A table that was not recorded here; None for rollouts."""
    import pandas as pd

    if path.suffix not in (".csv", ".parquet") or not path.is_file():
        return None
    try:
        if path.suffix == ".csv":
            return pd.read_csv(path)
        import pyarrow.parquet as pq

        return None if is_rollouts(path) else pq.read_table(path).to_pandas()
    except (OSError, ValueError, UnicodeDecodeError) as failure:
        raise RecordError(f"{path} cannot be read as a table: {failure}") from None


def _wanted(description: Description) -> list[str]:
    return [*(c.name for c in description.spec.channels), *map(_column_of, parts_of(description.action))]


def _column_of(part: str) -> str:
    """The column of a part of the action."""
    return f"action.{part}" if part else "action"


class _Decisions(NamedTuple):
    """Which rows of a table are decisions whose outcome is known.

    Attributes
    ----------
    rows, follows : int, shape ``(decisions,)``
        The row of a decision, and the row that shows what it led to.
    ends : bool, shape ``(decisions,)``
        Whether it led to a true end.
    episode : int, shape ``(decisions,)``
    left_out : int
        Decisions whose outcome is not known.
    """

    rows: Any
    follows: Any
    ends: Any
    episode: Any
    left_out: int


def _refuse_missing_columns(description: Description, table: pd.DataFrame, called: Any, by_terms: bool) -> None:
    present = set(map(str, table.columns))
    for name in [*_wanted(description), *([] if by_terms else [REWARD])]:
        if called(name) not in present:
            more = " and not all of its terms are there" if name == REWARD else ""
            raise SettingError(
                f"the records have no column `{called(name)}`{more}; they have {listed(sorted(present))}. Say what "
                "it is "
                f"called there: `columns={{{name!r}: ...}}`."
            )
    if not len(table):
        raise RecordError("the records have no rows.")


def _decisions(description: Description, table: pd.DataFrame, called: Any) -> _Decisions:
    present = set(map(str, table.columns))
    episode_column = table[called(EPISODE)].to_numpy() if called(EPISODE) in present else np.zeros(len(table), int)
    borders = np.concatenate([[True], episode_column[1:] != episode_column[:-1]])
    episode = np.cumsum(borders) - 1
    closing = np.concatenate([borders[1:], [True]])  # the last row of each episode
    decided = table[called(_column_of(next(iter(parts_of(description.action)))))].notna().to_numpy()
    if (~decided & ~closing).any():
        raise SettingError(
            f"row {int(np.flatnonzero(~decided & ~closing)[0])} of the records has no action, and its episode goes on."
        )
    names = table[called(CLOSED_BY)].to_numpy(object) if called(CLOSED_BY) in present else np.full(len(table), None)
    true_ends = set(description.closings[: description.true_ends])
    closed_by_end = np.array([name in true_ends for name in names])
    if called(ENDED) in present:
        closed_by_end |= table[called(ENDED)].fillna(False).to_numpy(bool)
    rows = np.flatnonzero(decided)
    follows = np.minimum(rows + 1, len(table) - 1)
    has_next = ~closing[rows]
    # An end is in the row of its decision, or in the row after it that has no decision.
    ends = closed_by_end[rows] | (has_next & ~decided[follows] & closed_by_end[follows])
    is_known = has_next | ends
    if not is_known.any():
        raise RecordError("the records have no decision whose outcome is known: each needs a row after it, or an end.")
    follows = np.where(has_next, follows, rows)
    return _Decisions(
        rows[is_known], follows[is_known], ends[is_known], episode[rows[is_known]], int((~is_known).sum())
    )


def _read(environment: Environment, table: pd.DataFrame, called: Any, weighed: bool) -> Records:
    description = describe(environment)
    spec, present = description.spec, set(map(str, table.columns))
    terms = [t.name for t in description.terms]
    by_terms = bool(terms) and not weighed and all(called(name) in present for name in terms)
    _refuse_missing_columns(description, table, called, by_terms)
    rows, follows, ends, episode, left_out = _decisions(description, table, called)
    last_of = np.concatenate([episode[1:] != episode[:-1], [True]])
    count = np.arange(len(rows))
    age = count - np.maximum.accumulate(np.where(np.concatenate([[True], last_of[:-1]]), count, 0))
    numbers = _numbers(spec, table, called)
    images = {c.name: _images(c, table, called(c.name)) for c in spec.images}
    masks = _masks(environment, table, called)

    def seen(rows_at: NumpyArray, ages: NumpyArray) -> ObservationBatch:
        legal = tuple(mask[rows_at] for mask in masks)
        return ObservationBatch(
            numbers[rows_at], {name: image[rows_at] for name, image in images.items()}, legal, ages.astype(np.int32)
        )

    if by_terms:
        columns = [_floats(table, called(name), rows) for name in terms]
        rewards = np.stack(columns, axis=1) @ np.asarray(description.weights)
    else:
        rewards = _floats(table, called(REWARD), rows)
    parts = parts_of(description.action).items()
    actions_read = {name: _acts(part, table, called(_column_of(name)), rows) for name, part in parts}
    actions = actions_read[""] if "" in actions_read else Record(**actions_read)
    closed = last_of | ends
    after = seen(follows, age + 1)
    experience = Experience(
        seen(rows, age),
        actions,
        rewards.astype(np.float32),
        ends,
        closed,
        after,
        after._replace(age=np.where(closed, 0, age + 1).astype(np.int32)),
        (),
    )
    _, dense = np.unique(episode, return_inverse=True)
    return Records(spec, experience, dense, _probabilities(description, table, called, actions_read, rows), left_out)


def _legal_columns(description: Description) -> list[str]:
    """The columns that tell what was allowed, one a choice."""
    if not description.spec.masked:
        return []
    return [f"{LEGAL}.{name}" if name else LEGAL for name in choices_of(description.action)]


def _masks(environment: Environment, table: pd.DataFrame, called: Any) -> tuple[Any, ...]:
    """What was allowed, one array of shape ``(rows, count)`` a choice; empty where the class does not say."""
    description = describe(environment)
    columns = [called(name) for name in _legal_columns(description)]
    if not columns:
        return ()
    if all(column in table for column in columns):
        choices = choices_of(description.action).values()
        return tuple(_allowed(choice, table, column) for choice, column in zip(choices, columns, strict=True))
    if description.fields and all(f"{STATE}{f.name}" in table for f in description.fields):
        step = Stepper(environment)
        return tuple(np.stack(part) for part in zip(*map(step.legal, states_of(table, environment)), strict=True))
    raise SettingError(
        f"`{description.name}` says what is legal, and the records do not: they have neither the states nor "
        f"{listed(columns)}. Give a column with the list of the labels "
        f"that were allowed; say what it is called there by `columns={{{_legal_columns(description)[0]!r}: ...}}`."
    )


def _allowed(choice: Choice, table: pd.DataFrame, column: str) -> NumpyArray:
    """The truth values of a column of labels; where nothing stands, as after the last decision, everything is
    allowed."""
    mask = np.zeros((len(table), choice.count), bool)
    for row, cell in enumerate(table[column]):
        labels = cell.split("|") if isinstance(cell, str) else cell
        if labels is None or (isinstance(labels, float) and np.isnan(labels)):
            mask[row] = True
            continue
        try:
            mask[row, [choice.native(label) for label in labels]] = True
        except (ActionError, TypeError):
            raise SettingError(
                f"`{column}` of the records has {_format_value(cell)} in row {row}; it is a list of some of "
                f"{listed(choice.labels)}."
            ) from None
    return mask


def _floats(table: pd.DataFrame, column: str, rows: NumpyArray) -> NumpyArray:
    import pandas as pd

    values = pd.to_numeric(table[column].iloc[rows], errors="coerce").to_numpy(np.float64)
    if not np.isfinite(values).all():
        row = int(rows[np.flatnonzero(~np.isfinite(values))[0]])
        raise SettingError(
            f"`{column}` of the records has {_format_value(table[column].iloc[row])} in row {row}; it must be a number."
        )
    return values


def _format_value(value: Any) -> str:
    """A value of a table, as one would write it."""
    plain = value.item() if isinstance(value, np.generic) else value
    return f"{plain!r:.60}"


def _numbers(spec: Spec, table: pd.DataFrame, called: Any) -> NumpyArray:
    parts = []
    for channel in spec.numbers:
        column = called(channel.name)
        if channel.shape == ():
            parts.append(_floats(table, column, np.arange(len(table)))[:, None])
            continue
        try:
            values = np.stack([np.asarray(v, np.float64).reshape(-1) for v in table[column]])
        except (TypeError, ValueError):
            values = np.zeros((0, 0))
        if values.shape != (len(table), channel.size) or not np.isfinite(values).all():
            raise SettingError(f"`{column}` of the records must have {channel.size} numbers in each row.")
        parts.append(values)
    return np.concatenate(parts, axis=1).astype(np.float32) if parts else np.zeros((len(table), 0), np.float32)


def _images(channel: Any, table: pd.DataFrame, column: str) -> Any:
    try:
        return np.stack([np.asarray(v, np.uint8).reshape(channel.shape) for v in table[column]])
    except (TypeError, ValueError):
        raise SettingError(
            f"`{column}` of the records must have images of shape {channel.shape} in each row."
        ) from None


def _acts(part: Any, table: pd.DataFrame, column: str, rows: NumpyArray) -> NumpyArray:
    """What was done, in own form."""
    column_values = table[column].iloc[rows]
    if isinstance(part, Choice):
        index = {label: k for k, label in enumerate(part.labels)}
        indices = np.array(
            [
                index.get(v, v if isinstance(v, (int, np.integer)) and not isinstance(v, bool) else -1)
                for v in column_values
            ]
        )
        if ((indices < 0) | (indices >= part.count)).any():
            first_bad = int(np.flatnonzero((indices < 0) | (indices >= part.count))[0])
            raise SettingError(
                f"`{column}` of the records has {_format_value(column_values.iloc[first_bad])} in row "
                f"{int(rows[first_bad])}; the alternatives are "
                f"{listed(part.labels)}."
            )
        return indices.astype(np.int32)
    if part.shape == ():
        return _floats(table, column, rows).astype(np.float32)
    return np.stack([np.asarray(v, np.float32).reshape(part.shape) for v in column_values])


def _probabilities(
    description: Description, table: pd.DataFrame, called: Any, actions: dict[str, Any], rows: NumpyArray
) -> Any:
    """With which chance each action was taken, where the records tell of each alternative of every choice."""
    probabilities = np.ones(len(rows))
    for name, part in parts_of(description.action).items():
        if not isinstance(part, Choice):
            return None
        columns = [called(f"{PROBABILITY}{f'{name}.' if name else ''}{label}") for label in part.labels]
        if any(column not in table for column in columns):
            return None
        table_of = np.stack([_floats(table, column, rows) for column in columns], axis=1)
        probabilities *= table_of[np.arange(len(rows)), actions[name]]
    return probabilities
