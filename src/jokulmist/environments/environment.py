"""The class that a researcher derives from: an environment is declared, not scripted."""

from __future__ import annotations

from collections.abc import Mapping
from types import ModuleType
from typing import Any, ClassVar

import numpy as np

from jokulmist.environments.declaration import description as reading
from jokulmist.environments.declaration import outline as outlines
from jokulmist.environments.declaration.instance import OUTLINES, Instance, outline_of, settings_of, with_modifiers
from jokulmist.environments.declaration.players import with_players
from jokulmist.environments.declaration.state import State as BaseState
from jokulmist.environments.modifiers import Modifier
from jokulmist.environments.transition.episode import Episode
from jokulmist.errors import BrokenEnvironment, SettingError, listed, nearest


class Environment:
    """Base of every environment whose state can be written down.

    A subclass declares ``class State(jm.State)``, ``action``, ``begin(self, draw)``, ``advance(self, state, action,
    draw)``, at least one ``@jm.reward`` and something that the agent sees. It may declare parameters, series, sensors,
    endings, cuts, measures, references, ``deadline``, ``time_limit``,
    ``decide_every``, ``decide_when(self, state)`` and ``meanwhile``; and for whoever looks, ``picture(self, axes,
    state)`` and ``frame_rate``, the decisions a second at which the page lets a person play.

    Parameters
    ----------
    weights : dict of str to float, optional
        Weights of reward terms, in place of the declared ones.
    **parameters
        Values of the declared parameters, in place of their defaults.

    Raises
    ------
    DeclarationError
        When the class is declared wrongly; raised when it is defined.
    SettingError
        When a parameter is unknown or outside its bounds.

    Notes
    -----
    An instance is immutable. ``self.xp`` is NumPy, or ``jax.numpy`` while the class is compiled.

    Examples
    --------
    >>> import jokulmist as jm
    >>> class Sled(jm.Environment):
    ...     time_limit = 20
    ...     class State(jm.State):
    ...         at: int = jm.seen(low=0, high=5)
    ...         pushed: float = jm.flow()
    ...     action = jm.Choice("back", "ahead")
    ...     def begin(self, draw):
    ...         return self.State(at=0)
    ...     def advance(self, state, action, draw):
    ...         return state.replace(at=self.xp.clip(state.at + 2 * action - 1, 0, 5), pushed=1.0)
    ...     @jm.reward
    ...     def progress(self, before, after):
    ...         return after.at - before.at
    ...     @jm.ending
    ...     def home(self, after):
    ...         return after.at == 5
    >>> episode = Sled().episode(seed=1)
    >>> while not episode.over:
    ...     _ = episode.act("ahead")
    >>> episode.total, episode.closed_by
    (5.0, 'home')
    """

    xp: ClassVar[ModuleType] = np
    State: ClassVar[type[BaseState]] = BaseState
    deadline: int | str | None = None
    time_limit: int | str | None = None
    decide_every: int | str | None = None
    meanwhile: Any = None
    frame_rate: float | None = None
    players: tuple[str, ...] | int | None = None
    weights: Mapping[str, float]
    _abstract: ClassVar[bool] = True

    def __init_subclass__(cls, abstract: bool = False, **options: Any) -> None:
        super().__init_subclass__(**options)
        cls._abstract = abstract
        if not abstract:
            with_players(cls)
            OUTLINES[cls] = outlines.outline(cls)

    def __init__(self, *, weights: Mapping[str, float] | None = None, **parameters: Any) -> None:
        read = outline_of(type(self))
        attributes = self.__dict__
        declared = {p.name: p for p in read.parameters}
        for name, value in parameters.items():
            if name not in declared:
                raise SettingError(
                    f"`{type(self).__qualname__}` has no parameter `{name}`; its parameters are {listed(declared)}."
                    f"{nearest(name, declared)}"
                )
            attributes[name] = declared[name].checked(value, f"{type(self).__qualname__}.{name}")
        for name, part in declared.items():
            attributes.setdefault(name, part.default)
        attributes["weights"] = reading.checked_weights(read, weights)
        attributes["_arguments"] = {name: attributes[name] for name in parameters}
        attributes["_modifiers"] = ()
        attributes["_description"] = reading.describe(self, read)

    def begin(self, draw: Any) -> Any:
        """The first state of an episode; chance comes from `draw` alone."""
        raise NotImplementedError

    def advance(self, state: Any, action: Any, draw: Any) -> Any:
        """The state after one advance, by ``state.replace(...)``; chance comes from `draw` alone."""
        raise NotImplementedError

    begin._not_written = True  # type: ignore[attr-defined]
    advance._not_written = True  # type: ignore[attr-defined]

    def episode(self, seed: int = 0) -> Episode:
        """An episode to step by hand.

        Parameters
        ----------
        seed : int
            The same seed and actions give the same episode.
        """
        return Episode(self, seed)

    def modified(self: Instance, *modifiers: Modifier) -> Instance:
        """The same environment seen or acted on through modifiers, the first named nearest to it.

        Examples
        --------
        >>> import jokulmist as jm
        >>> jm.gallery.Ferry().modified(jm.modifiers.Stack(2))
        Ferry().modified(Stack(2))
        """
        for modifier in modifiers:
            if not isinstance(modifier, Modifier):
                raise SettingError(f"`modified` takes modifiers such as `jm.modifiers.Stack(4)`; got {modifier!r}.")
        return with_modifiers(self, (*self._modifiers, *modifiers))

    def __setattr__(self, name: str, value: Any) -> None:
        raise BrokenEnvironment(
            f"`self.{name}` was set to {value!r}, but an environment is immutable: what changes belongs in its State. "
            f"Add a field `{name}` to `{type(self).__qualname__}.State` and return `state.replace({name}=...)`; "
            f"for another parameter value make another instance."
        )

    def __repr__(self) -> str:
        arguments = [f"{k}={v!r}" for k, v in self._arguments.items()]
        if self.weights:
            arguments.append(f"weights={dict(self.weights)!r}")
        suffix = f".modified({', '.join(map(repr, self._modifiers))})" if self._modifiers else ""
        return f"{type(self).__qualname__}({', '.join(arguments)}){suffix}"

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Environment) or type(other) is not type(self):
            return False
        return (
            settings_of(self) == settings_of(other)
            and self._modifiers == other._modifiers
            and self._description.varying == other._description.varying
        )

    def __hash__(self) -> int:
        values, weights = settings_of(self)
        varying = self._description.varying
        return hash((type(self), tuple(values.items()), tuple(weights.items()), self._modifiers, varying))

    _arguments: dict[str, Any]
    _modifiers: tuple[Modifier, ...]
    _description: reading.Description
