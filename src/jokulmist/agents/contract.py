"""What every learning method is: a settings object, and three pure functions.

The settings split into *numbers* (anything that is a float or a schedule: traced, so that changing one compiles
nothing again) and *config* (everything else: static). What was learned is the *learner*; what belongs to each copy is
the *memory*. The training loop does not know which method it drives.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from types import UnionType
from typing import Annotated, Any, ClassVar, Literal, NamedTuple, Protocol, Union, get_args, get_origin

from pydantic import (
    AfterValidator,
    BeforeValidator,
    ConfigDict,
    Field,
    PlainSerializer,
    ValidationInfo,
    field_validator,
)

from jokulmist.agents.configs import Config, Hyperparameters
from jokulmist.environments.chance.draws import Draw, PlainDraw
from jokulmist.environments.spaces.channels import ObservationBatch, Spec
from jokulmist.errors import SettingError
from jokulmist.learning import schedules
from jokulmist.learning.schedules import Coefficients, Progress, Schedule
from jokulmist.loading import ships
from jokulmist.settings import Settings
from jokulmist.trees import replaced

AT_BEGIN = Progress(0, 0, 0.0)


def within(low: float, high: float) -> Callable[[float | Schedule], float | Schedule]:
    """A check that a number, or a whole schedule, stays inside ``[low, high]``."""

    def check(setting: float | Schedule) -> float | Schedule:
        ends = (setting.least, setting.greatest) if isinstance(setting, Schedule) else (setting, setting)
        if not (low <= ends[0] and ends[1] <= high):
            raise ValueError(f"must lie in [{low:g}, {high:g}]")
        return setting

    return check


def _unless_off(value: Any) -> Any:
    return None if value == OFF else value


OFF = "off"
Scheduled = Annotated[float | Schedule, BeforeValidator(schedules.read), PlainSerializer(schedules.written)]
Share = Annotated[Scheduled, AfterValidator(within(0.0, 1.0))]
FixedShare = Annotated[float, AfterValidator(within(0.0, 1.0))]


def _above_zero(value: float | None) -> float | None:
    if value is not None and not value > 0.0:
        raise ValueError("must be above 0")
    return value


AboveZero = Annotated[float, AfterValidator(_above_zero)]
Limit = Annotated[float | None, BeforeValidator(_unless_off), AfterValidator(_above_zero)]


FEWEST_UPDATES = 4
# Settings by which agents explore.
EXPLORATION = ("exploration", "entropy_bonus", "range_entropy_bonus")

DiscountPer = Literal["decision", "advance"]


def counts_advances(config: Config) -> bool:
    """Whether a method discounts within a decision, by the advance."""
    return config.discount_per == "advance"


def bootstrap_discount(hyperparameters: Hyperparameters, advances: Any) -> Any:
    """What the future counts after a decision: the discount, or where advances are counted, to the power of their
    number."""
    discount = hyperparameters.discount
    return discount if isinstance(advances, tuple) else discount**advances


def hyperparameters_at(coefficients: Mapping[str, Coefficients], progress: Progress = AT_BEGIN) -> Hyperparameters:
    """An agent's numbers at a moment, by default the beginning of a run."""
    return Hyperparameters(**{name: schedules.number_at(c, progress) for name, c in coefficients.items()})


def hyperparameters_below(hyperparameters: Hyperparameters, head: str) -> Hyperparameters:
    """Among the hyperparameters of several agents those of one, whose names begin with its name and a point."""
    head += "."
    return Hyperparameters(
        **{name.removeprefix(head): value for name, value in vars(hyperparameters).items() if name.startswith(head)}
    )


class Experience(NamedTuple):
    """What happened to all copies since the last update.

    Each entry is an array with axes (turns, copies, ...), or an `ObservationBatch` of such arrays.

    Attributes
    ----------
    observed : what was decided on
    actions : in own form
    rewards : weighted sums
    ended : a true end: nothing is bootstrapped
    closed : an end or a cut: the next row belongs to a new episode
    last : the true observation after the advance
    following : what is decided on next
    policy_extras : what `choose` gave along
    broken : bool, or empty
        The row begins another episode although the row before closed none: its worker process was lost. Empty where
        none can be.
    advances : int, or empty
        How many advances each decision lasted, where the method discounts by the advance; empty where each lasts one.

    Examples
    --------
    >>> import jokulmist as jm
    >>> jm.parts.Experience._fields[:5]
    ('observed', 'actions', 'rewards', 'ended', 'closed')
    """

    observed: Any
    actions: Any
    rewards: Any
    ended: Any
    closed: Any
    last: Any
    following: Any
    policy_extras: Any
    broken: Any = ()
    advances: Any = ()


class ScalarAgent(Protocol):
    """An agent on a plain lane in Python numbers, copy by copy: the twin of `choose` and `learn`.

    A turn is `turn`, then for each copy `decide` and `judge`, and at last `write`: nothing is learned before all copies
    have decided. Made by ``Agent.scalar`` with the draws of both streams; `learn` is None in evaluation,
    and then nothing but `see`, `turn` and `decide` is called.
    """

    def see(self, i: int, row: Sequence[float]) -> None:
        """Take what copy i will decide on next; called at the beginning and where an episode closed."""
        ...

    def turn(self, turn: int) -> None: ...

    def decide(self, i: int) -> Any:
        """The action of copy i, in own form."""
        ...

    def judge(self, i: int, reward: float, ended: bool, closed: bool, last: Sequence[float]) -> None:
        """Take what the action led to; `last` is what is decided on next, unless the episode closed."""
        ...

    def write(self) -> tuple[float, ...]:
        """Learn from the turn; the readings."""
        ...

    def saved(self) -> dict[str, Any]:
        """What it has beside the learner, as arrays by name, to go on from by `restore`."""
        ...

    def restore(self, saved: Mapping[str, Any]) -> None: ...


LARGEST = 3e38  # in single precision
# Of the shipped methods: a value to begin with, and an entropy, which is below 0 where numbers are nearly certain.
MAY_BE_BELOW_0 = ("initial_value", "entropy_target")


def _is_number(text: str) -> bool:
    try:
        return math.isfinite(float(text))
    except ValueError:
        return False


def _kinds_of(annotation: Any) -> set[Any]:
    """The types that a setting may have."""
    if get_origin(annotation) is Literal:
        return {type(choice) for choice in get_args(annotation)}
    inner = [part for part in get_args(annotation) if part is not type(None)]
    if get_origin(annotation) is Annotated:
        return _kinds_of(inner[0])
    if get_origin(annotation) in (Union, UnionType):
        return set().union(*map(_kinds_of, inner))
    return {get_origin(annotation) or annotation}


class Agent(Settings):
    """Base of every learning method, the shipped ones and your own.

    A subclass declares its settings as fields with defaults, and writes `fresh_learner`, `choose` and `learn` as static
    functions of what they are given, and `fresh_memory` where its copies remember something. Fields of type `float` (or
    `jm.parts.Scheduled`) reach the functions in ``hyperparameters``, all others in ``config``, beside ``config.spec``
    (channels and action) and ``config.copies``.

    The functions are written with ``jax.numpy``; on a plain lane the loop compiles each of them by itself. With
    ``traced = False`` they are plain Python over NumPy arrays instead, and the agent trains on plain lanes only.

    Notes
    -----
    ``fresh_learner(config, hyperparameters, noise) -> learner``
        What was learned before the first decision, nothing: a NamedTuple or a dict of arrays.
    ``fresh_memory(config, hyperparameters) -> memory``
        What the copies remember before the first decision, in arrays with a leading axis of copies; by default nothing,
        ``()``.
    ``choose(config, hyperparameters, learner, memory, observed, noise, explore) -> actions, memory, policy_extras``
        `observed` is an `ObservationBatch`: its ``numbers`` have shape ``(copies, width)``, float32, in the units of
        the environment; `noise` is a draw, asked with ``shape=``; `explore` is False in evaluation.
    ``learn(config, hyperparameters, learner, memory, experience, noise) -> learner, memory, readings``
        `readings` is a tuple of scalars, one for each of `reading_names`.

    Examples
    --------
    >>> import numpy as np
    >>> import jokulmist as jm
    >>> class Bandit(jm.Agent):
    ...     # The mean reward of each action, whatever is observed.
    ...     exploration: float = 0.1
    ...     traced = False  # plain NumPy
    ...     @staticmethod
    ...     def fresh_learner(config, hyperparameters, noise):
    ...         return {"sum": np.zeros(config.spec.action.count), "count": np.ones(config.spec.action.count)}
    ...     @staticmethod
    ...     def choose(config, hyperparameters, learner, memory, observed, noise, explore):
    ...         best = int(np.argmax(learner["sum"] / learner["count"]))
    ...         tries = noise.uniform(shape=(config.copies,)) < (hyperparameters.exploration if explore else 0.0)
    ...         return np.where(tries, noise.integers(0, config.spec.action.count, shape=(config.copies,)), best), memory, ()
    ...     @staticmethod
    ...     def learn(config, hyperparameters, learner, memory, experience, noise):
    ...         np.add.at(learner["sum"], experience.actions, experience.rewards)
    ...         np.add.at(learner["count"], experience.actions, 1.0)
    ...         return learner, memory, ()
    >>> run = jm.train(jm.gallery.Tarn(), Bandit(), steps=200, folder=None)
    >>> int(run.policy.learner["count"].sum())
    203
    """

    model_config = ConfigDict(frozen=True, extra="forbid", arbitrary_types_allowed=True, defer_build=True)

    config_type: ClassVar[type[Config]] = Config
    reading_names: ClassVar[tuple[str, ...]] = ()
    traced: ClassVar[bool] = True
    usual_copies: ClassVar[int] = 1
    # Of a run that begins with what another learned.
    least_copies: ClassVar[int] = 1
    # Whether `choose` reads the memory; where it does not, a policy that acts has none.
    reads_memory: ClassVar[bool] = True
    # Whether it learns: a policy that plays a player does not.
    learns: ClassVar[bool] = True
    # Whether it learns from replay; `learn` then takes a `bonus`, which is added to rewards as they are sampled.
    replays: ClassVar[bool] = False
    # What `recorded` tells of each copy's episode, by the names of columns of episodes.csv.
    record_names: ClassVar[tuple[str, ...]] = ()
    # Whether the copies' first episodes are cut at different ages, so that no batch holds one phase of the episodes
    # only.
    staggered: ClassVar[bool] = False

    @classmethod
    def hint(cls, name: str) -> str:
        """Which setting a word of another book may mean."""
        if OTHER_WORDS.get(name) in cls.model_fields:
            return f" What is often called `{name}` is `{OTHER_WORDS[name]}` here."
        if name in OF_TRAINING:
            return f" `{name}` belongs to the training: `jm.train(..., {name}=...)`, or under `[training]` of a plan."
        return super().hint(name)

    @field_validator("*", mode="before")
    @classmethod
    def _of_its_kind(cls, value: Any, info: ValidationInfo) -> Any:
        """A number for a number, a truth value for a truth value: what a plan has in the wrong place is not bent to
        fit."""
        kinds = _kinds_of(cls.model_fields[str(info.field_name)].annotation)
        if isinstance(value, bool) and float in kinds and not kinds & {bool, Any}:
            raise ValueError("must be a number")
        if bool in kinds and not isinstance(value, bool) and value is not None and value != OFF:
            raise ValueError("must be true or false")
        if isinstance(value, str) and kinds & {int, float} and not kinds & {str, Any} and _is_number(value):
            raise ValueError("must be a number, without quotation marks")
        return value

    @field_validator("*", mode="after")
    @classmethod
    def _within_reason(cls, value: Any, info: ValidationInfo) -> Any:
        """Numbers are finite; those of the shipped methods not below 0, but for the few that may be."""
        if isinstance(value, bool) or not isinstance(value, (int, float, Schedule)):
            return value
        ends = (value.least, value.greatest) if isinstance(value, Schedule) else (value, value)
        if not all(abs(end) <= LARGEST for end in ends):  # not-a-number is not, either
            raise ValueError("must be a finite number in single precision")
        if ships(cls) and info.field_name not in MAY_BE_BELOW_0 and min(ends) < 0:
            raise ValueError("must not be below 0")
        return value

    def config(self, spec: Spec, copies: int) -> Any:
        """The static settings, with what they are applied to."""
        self.refuse(spec)
        # What is new is looked at around a method, which is the same without it.
        values = {name: value for name, value in self if not isinstance(value, (float, Schedule)) and name != "novelty"}
        return self.config_type(spec=spec, copies=copies, **values)

    def schedules(self) -> dict[str, Coefficients]:
        """The numbers among the settings, each as the coefficients of its schedule."""
        values = {name: value for name, value in self if isinstance(value, (float, Schedule))}
        return {name: schedules.coefficients(value) for name, value in values.items()}

    def refuse(self, spec: Spec) -> None:
        """Raise `SettingError` where the method cannot work with these channels or this action."""
        if spec.images:
            raise SettingError(
                f"`{type(self).__name__}` is given numbers, and `{spec.images[0].name}` is an image. "
                f"Use an environment whose channels are numbers."
            )

    def refuse_copies(self, config: Any) -> None:
        """Raise `SettingError` where the method cannot learn from so many copies; a policy may act in any number."""

    def start_settings(self, steps: int | None) -> dict[str, Any]:
        """Settings in the place of defaults, in a run of so many decisions that begins with what another learned."""
        return {}

    def with_start_defaults(self, steps: int | None) -> Agent:
        """The agent of a run that begins with what another learned: what it explores by is, where it is the default, as
        at the end of a run, and its other defaults are `start_settings`. An agent that explores as at a beginning
        undoes what it was given."""
        explicit = {name: getattr(self, name) for name in self.model_fields_set}
        last = {
            name: round(schedules.number_at(schedules.coefficients(value), Progress(0, 0, 1.0)), 9)
            for name, value in self
            if name in EXPLORATION and name not in explicit and isinstance(value, Schedule)
        }
        settings = {**self.start_settings(steps), **last, **explicit}
        return type(self)(**settings) if len(settings) > len(explicit) else self

    def copies_for(self, steps: int | None, begins_with_learned: bool = False) -> int:
        """How many copies step side by side in a run of so many decisions, unless the plan says; None where it counts
        episodes.

        The usual number; where that would leave less than `decisions_a_copy` to each, the largest power of two that
        does not, but not less than `least_copies` where the run begins with what another learned and updates it a few
        times.
        """
        each = self.decisions_a_copy()
        if steps is None or not each:
            return self.usual_copies
        copies = self.least_copies if begins_with_learned else 1
        while copies > 1 and copies * self.decisions_per_update(copies) * FEWEST_UPDATES > steps:
            copies //= 2
        while 2 * copies <= self.usual_copies and 2 * copies * each <= steps:
            copies *= 2
        return copies

    def decisions_a_copy(self) -> int:
        """Decisions that each copy has at least, so that few decisions are not spread over many copies; 0 for no
        least."""
        return 0

    def decisions_per_update(self, copies: int) -> int:
        """How many decisions of each copy lie between two calls of `learn`."""
        return 1

    @staticmethod
    def chooses_by_numpy(config: Any) -> bool:
        """Whether `choose` also works over NumPy arrays, told by ``noise.xp``: a plain lane then makes no call for
        it."""
        return False

    @staticmethod
    def policy_state(learner: Any) -> Any:
        """What a policy needs of the learner; replay memory and the optimiser's state, for instance, can stay
        behind."""
        return learner

    @staticmethod
    def recorded(memory: Any) -> tuple[Any, ...]:
        """What is recorded of the episodes at hand: for each of `record_names` a number a copy."""
        return ()

    @staticmethod
    def restarted(memory: Any, new: Any, mask: Any) -> Any:
        """The memory where some copies (`mask`, bool) start again although their episode did not close: a worker
        process was lost. They take theirs from `new`, which has a leading axis of copies unless a method writes this
        itself."""
        return replaced(mask, new, memory)

    def remembers(self) -> bool:
        """Whether a policy that acts has a memory: `choose` reads it."""
        return type(self).reads_memory

    def functions(self) -> list[Any]:
        """Functions of the user's own among the settings; a run keeps their source."""
        functions = [value.function if isinstance(value, Schedule) else value for _, value in self]
        return [value for value in functions if callable(value) and hasattr(value, "__qualname__")]

    def written(self) -> dict[str, Any]:
        """The settings as they are in a plan."""
        settings = self.model_dump(mode="python")
        defaults = {name: field.default for name, field in type(self).model_fields.items()}
        # TOML has no word for nothing: what is switched off against its default says so.
        return {
            name: OFF if value is None else value
            for name, value in settings.items()
            if value is not None or defaults[name] is not None
        }

    @classmethod
    def scalar(
        cls,
        config: Any,
        hyperparameters: Any,
        learner: Any,
        explore: PlainDraw,
        learn: PlainDraw | None,
        exploring: bool = True,
    ) -> ScalarAgent | None:
        """The twin of `choose` and `learn` for plain lanes, where one call into a compiled function would cost more
        than the whole work; None where there is none."""
        return None

    @staticmethod
    def policy_outputs(config: Any, learner: Any, observed: ObservationBatch) -> dict[str, Any]:
        """What a policy says beside its decision, in arrays with a leading axis of rows and in the units of the
        environment, in what can be traced:
        ``values`` of each action, ``probabilities`` (``probabilities.PART``) of each alternative, ``spread.PART`` of
        numbers, the ``value`` of what is seen."""
        return {}

    @staticmethod
    def fresh_learner(config: Any, hyperparameters: Any, noise: Draw) -> Any:
        raise NotImplementedError

    @staticmethod
    def fresh_memory(config: Any, hyperparameters: Any) -> Any:
        return ()

    @staticmethod
    def choose(
        config: Any,
        hyperparameters: Any,
        learner: Any,
        memory: Any,
        observed: ObservationBatch,
        noise: Draw,
        explore: bool,
    ) -> tuple[Any, Any, Any]:
        raise NotImplementedError

    @staticmethod
    def learn(
        config: Any, hyperparameters: Any, learner: Any, memory: Any, experience: Experience, noise: Draw
    ) -> tuple[Any, Any, tuple[Any, ...]]:
        raise NotImplementedError

    def __repr__(self) -> str:
        fields = type(self).model_fields
        settings = [f"{name}={value!r}" for name, value in self if value != fields[name].default]
        return f"{type(self).__name__}({', '.join(settings)})"

    __str__ = __repr__


# Symbols and words of the literature for settings that have another name here.
OTHER_WORDS = {
    "epsilon": "exploration",
    "eps": "exploration",
    "gamma": "discount",
    "alpha": "learning_rate",
    "lr": "learning_rate",
    "batch_size": "minibatch",
    "tau": "target_share",
    "lambda": "trace_decay",
    "lam": "trace_decay",
    "hidden": "network",
    "layers": "network",
}
OF_TRAINING = ("copies", "steps", "episodes", "seed", "seeds", "evaluate_every", "lane")


Count = Annotated[int, Field(ge=1, le=2**31 - 1, strict=True)]


WholeNumber = Annotated[int, Field(ge=0, le=2**31 - 1, strict=True)]
