"""What a policy decides on many observations at once, from what came over a wire: read, checked, computed. No server."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from jokulmist.environments.spaces.actions import Choice, parts_of
from jokulmist.environments.spaces.channels import Seen
from jokulmist.environments.spaces.legal import choices_of, mask_widths
from jokulmist.errors import SettingError, listed, nearest
from jokulmist.exporting.graph import decision_of
from jokulmist.training.policies.policy import Policy

SIZES = (1, 8, 64)
MOST_AT_ONCE = 4_096


class Asked:
    """One observation, as arrays."""

    __slots__ = ("images", "masks", "row")

    def __init__(self, row: Any, images: dict[str, Any], masks: tuple[Any, ...]) -> None:
        self.row, self.images, self.masks = row, images, masks


class Decider:
    """Decides without exploration.

    Parameters
    ----------
    policy : Policy

    Raises
    ------
    SettingError
        When its method is not traced.
    """

    def __init__(self, policy: Policy) -> None:
        import jax

        self.policy = policy
        self._by_size = {count: jax.jit(decision_of(policy, count)) for count in SIZES}

    def warm_up(self) -> None:
        """Compile for all sizes, so that the first who asks does not wait."""
        spec = self.policy.spec
        one = Asked(
            np.zeros(spec.width, np.float32), {c.name: np.zeros(c.shape, np.uint8) for c in spec.images}, self._free()
        )
        for size in SIZES:
            self.decide([one] * size)

    def _free(self) -> tuple[Any, ...]:
        spec = self.policy.spec
        return tuple(np.ones(width, bool) for width in mask_widths(spec.action)) if spec.masked else ()

    def read(self, given: Any, legal: Any = None) -> Asked:
        """An observation from JSON: an object with a value a channel.

        Raises
        ------
        SettingError
            When a channel is missing, unknown, of another shape, or no number.
        """
        spec = self.policy.spec
        names = [c.name for c in spec.channels]
        if not isinstance(given, Mapping):
            raise SettingError(f"an observation is an object with {listed(names)}; got {given!r:.80}.")
        for name in given:
            if name not in names:
                raise SettingError(
                    f"an observation has no `{name!s:.60}`; its channels are {listed(names)}.{nearest(str(name), names)}"
                )
        missing = [name for name in names if name not in given]
        if missing:
            raise SettingError(f"an observation lacks {listed(missing)}; its channels are {listed(names)}.")
        parts = [_array(given[c.name], c.shape, c.name, np.float32).reshape(-1) for c in spec.numbers]
        images = {c.name: _image(given[c.name], c.shape, c.name) for c in spec.images}
        row = np.concatenate(parts) if parts else np.zeros(0, np.float32)
        return Asked(row, images, self._mask(legal))

    def _mask(self, legal: Any) -> tuple[Any, ...]:
        spec = self.policy.spec
        if legal is None:
            return self._free()
        if not spec.masked:
            raise SettingError("this policy learned without `legal`; leave it out.")
        found = []
        choices = choices_of(spec.action)
        if isinstance(legal, Mapping):
            for name in legal:
                if name not in choices:
                    raise SettingError(f"`legal` names `{name!s:.60}`; the choices are {listed(choices)}.")
        for name, choice in choices.items():
            own = legal if name == "" else legal.get(name, choice.labels) if isinstance(legal, Mapping) else None
            if not isinstance(own, (list, tuple)) or any(label not in choice.labels for label in own) or not own:
                raise SettingError(
                    f"`legal` is a list of labels{f' for `{name}`' if name else ''}, some of {listed(choice.labels)}; got {own!r:.80}."
                )
            found.append(np.array([label in own for label in choice.labels]))
        return (*found, *self._free()[len(found) :])

    def decide(self, asked: Sequence[Asked]) -> list[Any]:
        """The actions in words: labels and numbers, by part where there are several."""
        decided: list[Any] = []
        for first in range(0, len(asked), SIZES[-1]):
            decided += self._some(asked[first : first + SIZES[-1]])
        return decided

    def _some(self, asked: Sequence[Asked]) -> list[Any]:
        import jax

        size = next(size for size in SIZES if size >= len(asked))
        whole = [*asked, *[asked[-1]] * (size - len(asked))]
        spec = self.policy.spec
        seen = Seen(
            np.stack([one.row for one in whole]), {c.name: np.stack([one.images[c.name] for one in whole]) for c in spec.images},
            tuple(np.stack([one.masks[k] for one in whole]) for k in range(len(whole[0].masks))), np.zeros(size, np.int32),
        )  # fmt: skip
        made = jax.device_get(self._by_size[size](seen))
        parts = parts_of(spec.action)
        found = []
        for k in range(len(asked)):
            own = {
                part: _told(one, np.asarray(getattr(made, part) if part else made)[k]) for part, one in parts.items()
            }
            found.append(own.get("", own))
        return found


def _told(part: Any, value: Any) -> Any:
    return part.labels[int(value)] if isinstance(part, Choice) else value.tolist()


def _array(given: Any, shape: tuple[int, ...], name: str, dtype: Any) -> Any:
    try:
        value = np.asarray(given, dtype)
    except (TypeError, ValueError, OverflowError):
        raise SettingError(f"`{name}` is {given!r:.60}; it must be {_wanted(shape)}.") from None
    if value.shape != shape:
        raise SettingError(f"`{name}` has the shape {value.shape}; it must be {_wanted(shape)}.")
    if not np.isfinite(value).all():
        raise SettingError(f"`{name}` is not finite; it must be {_wanted(shape)}.")
    return value


def _image(given: Any, shape: tuple[int, ...], name: str) -> Any:
    value = _array(given, shape, name, np.float64)
    if (value < 0).any() or (value > 255).any() or (value != np.floor(value)).any():
        raise SettingError(f"`{name}` is an image: whole numbers from 0 to 255.")
    return value.astype(np.uint8)


def _wanted(shape: tuple[int, ...]) -> str:
    return "a number" if shape == () else f"numbers of shape {shape}"
