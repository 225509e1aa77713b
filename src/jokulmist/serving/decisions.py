"""What a policy decides on many observations at once, from what came over a wire: read, checked, computed. No
server."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Mapping, Sequence
from functools import partial
from typing import Any

import numpy as np

from jokulmist.environments.spaces.actions import Choice, parts_of
from jokulmist.environments.spaces.channels import ObservationBatch
from jokulmist.environments.spaces.legal import choices_of, mask_widths
from jokulmist.errors import SettingError, listed, nearest
from jokulmist.exporting.graph import decision_of, state_width_of
from jokulmist.loops.policy import Policy

SIZES = (1, 8, 64)
MOST_AT_ONCE = 4_096
MOST_SESSIONS = 10_000
LONGEST_SESSION = 100


class DecisionRequest:
    """One observation, as arrays; and for a policy that remembers, whose it is, and whether an episode begins with
    it."""

    __slots__ = ("begins", "images", "masks", "row", "session")

    def __init__(
        self, row: Any, images: dict[str, Any], masks: tuple[Any, ...], session: str = "", begins: bool = True
    ) -> None:
        self.row, self.images, self.masks, self.session, self.begins = row, images, masks, session, begins


class Decider:
    """Decides without exploration."""

    def __init__(self, policy: Policy) -> None:
        import jax

        self.policy = policy
        self.state_width = state_width_of(policy)
        # What each session remembers; the one that was not asked for longest is forgotten when there are too many.
        self._states: OrderedDict[str, Any] = OrderedDict()
        self._by_size = {}
        for count in SIZES:
            decide, learner = decision_of(policy, count)
            # The learner is an argument: a large table that stood in the program would take half a minute to compile.
            self._by_size[count] = partial(jax.jit(decide), learner)

    def warm_up(self) -> None:
        """Compile for all sizes, so that the first who asks does not wait."""
        spec = self.policy.spec
        request = DecisionRequest(
            np.zeros(spec.width, np.float32), {c.name: np.zeros(c.shape, np.uint8) for c in spec.images}, self._free()
        )
        for size in SIZES:
            self._decide_batch([request] * size)
        self._states.clear()

    def _free(self) -> tuple[Any, ...]:
        spec = self.policy.spec
        return tuple(np.ones(width, bool) for width in mask_widths(spec.action)) if spec.masked else ()

    def read(self, observation: Any, legal: Any = None, session: Any = None, begins: Any = None) -> DecisionRequest:
        """An observation from JSON: an object with a value a channel."""
        spec = self.policy.spec
        names = [c.name for c in spec.channels]
        if not isinstance(observation, Mapping):
            raise SettingError(f"an observation is an object with {listed(names)}; got {observation!r:.80}.")
        for name in observation:
            if name not in names:
                raise SettingError(
                    f"an observation has no `{name!s:.60}`; its channels are "
                    f"{listed(names)}.{nearest(str(name), names)}"
                )
        missing = [name for name in names if name not in observation]
        if missing:
            raise SettingError(f"an observation lacks {listed(missing)}; its channels are {listed(names)}.")
        parts = [_array(observation[c.name], c.shape, c.name, np.float32).reshape(-1) for c in spec.numbers]
        images = {c.name: _image(observation[c.name], c.shape, c.name) for c in spec.images}
        row = np.concatenate(parts) if parts else np.zeros(0, np.float32)
        return DecisionRequest(row, images, self._mask(legal), *self._session(session, begins))

    def _session(self, session: Any, begins: Any) -> tuple[str, bool]:
        if not self.state_width:
            if session is not None or begins is not None:
                raise SettingError("this policy remembers nothing; leave out `session` and `begins`.")
            return "", True
        if not isinstance(session, str) or not 0 < len(session) <= LONGEST_SESSION:
            raise SettingError(
                f"this policy remembers what it saw: `session` is a text of 1 to {LONGEST_SESSION} characters that "
                f"says whose observation it is; got {session!r:.60}. `begins` is true where an episode begins."
            )
        if begins is not None and not isinstance(begins, bool):
            raise SettingError(f"`begins` is true or false; got {begins!r:.60}.")
        if not begins and session not in self._states:
            raise SettingError(
                f"nothing is remembered of the session {session!r:.60}. Send its first observation with `begins`: true."
            )
        return session, bool(begins)

    def _mask(self, legal: Any) -> tuple[Any, ...]:
        spec = self.policy.spec
        if legal is None:
            return self._free()
        if not spec.masked:
            raise SettingError("this policy learned without `legal`; leave it out.")
        masks = []
        choices = choices_of(spec.action)
        if isinstance(legal, Mapping):
            for name in legal:
                if name not in choices:
                    raise SettingError(f"`legal` names `{name!s:.60}`; the choices are {listed(choices)}.")
        for name, choice in choices.items():
            labels = legal if name == "" else legal.get(name, choice.labels) if isinstance(legal, Mapping) else None
            if (
                not isinstance(labels, (list, tuple))
                or any(label not in choice.labels for label in labels)
                or not labels
            ):
                raise SettingError(
                    f"`legal` is a list of labels{f' for `{name}`' if name else ''}, some of "
                    f"{listed(choice.labels)}; got {labels!r:.80}."
                )
            masks.append(np.array([label in labels for label in choice.labels]))
        return (*masks, *self._free()[len(masks) :])

    def decide(self, requests: Sequence[DecisionRequest]) -> list[Any]:
        """The actions in words: labels and numbers, by part where there are several."""
        if self.state_width and len({request.session for request in requests}) < len(requests):
            # Of one session one after another: what it remembers goes on from each to the next.
            return [action for request in requests for action in self._decide_batch([request])]
        decided: list[Any] = []
        for first in range(0, len(requests), SIZES[-1]):
            decided += self._decide_batch(requests[first : first + SIZES[-1]])
        return decided

    def _decide_batch(self, requests: Sequence[DecisionRequest]) -> list[Any]:
        import jax

        size = next(size for size in SIZES if size >= len(requests))
        padded = [*requests, *[requests[-1]] * (size - len(requests))]
        spec = self.policy.spec
        seen = ObservationBatch(
            np.stack([request.row for request in padded]),
            {c.name: np.stack([request.images[c.name] for request in padded]) for c in spec.images},
            tuple(np.stack([request.masks[k] for request in padded]) for k in range(len(padded[0].masks))),
            np.zeros(size, np.int32),
        )
        if self.state_width:
            nothing = np.zeros(self.state_width, np.float32)
            before = [nothing if request.begins else self._states.get(request.session, nothing) for request in padded]
            chosen, after = jax.device_get(self._by_size[size](seen, np.stack(before)))
            for request, state in zip(requests, after, strict=False):
                self._states[request.session] = state
                self._states.move_to_end(request.session)
            while len(self._states) > MOST_SESSIONS:
                self._states.popitem(last=False)
        else:
            chosen = jax.device_get(self._by_size[size](seen))
        parts = parts_of(spec.action)
        decisions = []
        for k in range(len(requests)):
            action = {
                part: _as_json(request, np.asarray(getattr(chosen, part) if part else chosen)[k])
                for part, request in parts.items()
            }
            decisions.append(action.get("", action))
        return decisions


def _as_json(part: Any, value: Any) -> Any:
    return part.labels[int(value)] if isinstance(part, Choice) else value.tolist()


def _array(numbers: Any, shape: tuple[int, ...], name: str, dtype: Any) -> Any:
    try:
        value = np.asarray(numbers, dtype)
    except (TypeError, ValueError, OverflowError):
        raise SettingError(f"`{name}` is {numbers!r:.60}; it must be {_wanted(shape)}.") from None
    if value.shape != shape:
        raise SettingError(f"`{name}` has the shape {value.shape}; it must be {_wanted(shape)}.")
    if not np.isfinite(value).all():
        raise SettingError(f"`{name}` is not finite; it must be {_wanted(shape)}.")
    return value


def _image(pixels: Any, shape: tuple[int, ...], name: str) -> Any:
    value = _array(pixels, shape, name, np.float64)
    if (value < 0).any() or (value > 255).any() or (value != np.floor(value)).any():
        raise SettingError(f"`{name}` is an image: whole numbers from 0 to 255.")
    return value.astype(np.uint8)


def _wanted(shape: tuple[int, ...]) -> str:
    return "a number" if shape == () else f"numbers of shape {shape}"
