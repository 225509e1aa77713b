"""What an instance of an environment declares, and its twins with other parameters."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any, TypeVar

from jokulmist.environments.declaration import description as reading
from jokulmist.environments.declaration import outline as outlines
from jokulmist.environments.modifiers import Modifier
from jokulmist.environments.spaces.channels import Spec
from jokulmist.environments.varying import Varying
from jokulmist.errors import SettingError

if TYPE_CHECKING:
    from jokulmist.environments.environment import Environment

Instance = TypeVar("Instance", bound="Environment")
OUTLINES: dict[type, outlines.Outline] = {}


def outline_of(cls: type[Environment]) -> outlines.Outline:
    """What a class declares."""
    outline = OUTLINES.get(cls)
    return outlines.outline(cls) if outline is None else outline


def spec_of(environment: Environment) -> Spec:
    """What an agent knows of an environment: its channels, its action, and whether choices can be forbidden.

    Examples
    --------
    >>> import jokulmist as jm
    >>> spec = jm.parts.spec_of(jm.gallery.Tarn())
    >>> spec.width, spec.action.count
    (2, 3)
    """
    return describe(environment).spec


def describe(environment: Environment) -> reading.Description:
    """What an instance declares: channels, action, terms with weights, closings, limits."""
    try:
        return environment._description
    except AttributeError:
        if isinstance(environment, type) and environment in OUTLINES:
            mistake = f"the class `{environment.__name__}`. Make an instance, `{environment.__name__}()`"
        else:
            mistake = f"{environment!r:.60}. Look at the order of what you gave"
        raise SettingError(f"an environment is expected here; got {mistake}.") from None


def settings_of(environment: Environment) -> tuple[dict[str, Any], dict[str, float]]:
    """The values of all parameters, and the weights that differ from the declared ones."""
    values = {p.name: getattr(environment, p.name) for p in outline_of(type(environment)).parameters}
    return values, dict(environment.weights)


def varied(environment: Instance, **parameters: Any) -> Instance:
    """The same environment with some parameters changed."""
    return reweighted(environment, {}, **parameters)


def reweighted(environment: Instance, weights: Mapping[str, float], /, **parameters: Any) -> Instance:
    """The same environment with some weights of its reward terms, and some parameters, changed."""
    weights = {**environment.weights, **weights}
    copy = type(environment)(weights=weights, **{**environment._arguments, **parameters})
    return with_modifiers(copy, environment._modifiers)


def with_modifiers(environment: Instance, modifiers: tuple[Modifier, ...]) -> Instance:
    """The same environment, bare, through these modifiers."""
    if not modifiers:
        return environment
    copy = object.__new__(type(environment))
    copy.__dict__.update(environment.__dict__, _modifiers=modifiers)
    copy.__dict__["_description"] = reading.through(environment._description, modifiers)
    return copy


def with_varying(environment: Instance, varying: Varying) -> Instance:
    """The same instance, some parameters of which differ from episode to episode."""
    if not varying.names:
        return environment
    varying.refuse(environment, outline_of(type(environment)))
    copy = object.__new__(type(environment))
    copy.__dict__.update(environment.__dict__)
    copy.__dict__["_description"] = replace(environment._description, varying=varying)
    return copy


def revalued(environment: Instance) -> Instance:
    """A twin whose parameters a lane may change between episodes by `revalue`."""
    copy = object.__new__(type(environment))
    copy.__dict__.update(environment.__dict__)
    return copy


def revalue(twin: Environment, values: Mapping[str, Any]) -> None:
    """Give a lane's own twin other parameters; what is derived from them is computed again."""
    attributes = twin.__dict__
    for name in outline_of(type(twin)).derived:
        attributes.pop(name, None)
    attributes.update(values)


def modifiers_of(environment: Environment) -> tuple[Modifier, ...]:
    """The modifiers of an instance, the nearest first."""
    return environment._modifiers
