"""What a run must keep to go on as if it had never stopped: the loop's state as arrays, the session's as JSON.

Noise follows from seed and turn, so no generator has a state to keep. A checkpoint holds the learner, the memories, the
lane's states and the counters; the replay memory, which is large, stands apart and in the two newest checkpoints only.
"""

from __future__ import annotations

import shutil
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from jokulmist.arrays import NumpyArray
from jokulmist.environments.spaces.channels import Spec
from jokulmist.errors import RecordError
from jokulmist.records.checkpoints import (
    ARRAYS,
    REPLAY,
    STATE,
    TRAINING,
    best_checkpoint,
    checkpoint_name,
    checkpoints_of,
    newest_whole,
    open_arrays,
    save_checkpoint,
)
from jokulmist.records.files import read_json

if TYPE_CHECKING:
    from jokulmist.loops.policy import Policy

Arrays = dict[str, NumpyArray]


def is_replay(name: str) -> bool:
    """Whether an array of a loop's state belongs to a replay memory."""
    return "/replay/" in f"/{name}/"


@dataclass(frozen=True)
class Checkpoint:
    """A checkpoint that training can go on from."""

    path: Path
    state: dict[str, Any]
    arrays: Arrays
    metadata: dict[str, Any]


def write_checkpoint(run: Path, policy: Policy, state: dict[str, Any], arrays: Arrays, count: int) -> Path:
    """Write a checkpoint, then let go of older ones beyond `count`, and of their replay memories.

    The new one is whole before anything of an older one goes.
    """
    replay = {name: array for name, array in arrays.items() if is_replay(name)}
    rest = {name: array for name, array in arrays.items() if name not in replay}
    saved_path = save_checkpoint(run, policy.learner, policy.metadata(), state, rest, replay)
    older = [path for path in checkpoints_of(run) if path != saved_path]
    for path in older[: max(0, len(older) + 1 - count)]:
        shutil.rmtree(path, ignore_errors=True)
    for path in older[:-1]:  # the one before the newest can be gone on from, too, should the newest be torn
        (path / REPLAY).unlink(missing_ok=True)
    return saved_path


def keep_best(run: Path, policy: Policy, score: float, criterion: str) -> None:
    """Write the best policy so far, then let go of the one before it."""
    before = best_checkpoint(run)
    name = f"best-{checkpoint_name(policy.decisions)}"
    if before is not None and before.name == name:
        return
    state = {"decisions": policy.decisions, "score": score, "by": criterion}
    save_checkpoint(run, policy.learner, policy.metadata(), state, name=name)
    if before is not None:
        shutil.rmtree(before, ignore_errors=True)


def spec_in(checkpoint: Checkpoint) -> Spec:
    """The channels and the action that a checkpoint was learned with."""
    try:
        return Spec.from_described(checkpoint.metadata["spec"])
    except (KeyError, TypeError, ValueError, AttributeError, IndexError) as damaged:
        raise RecordError(
            f"{checkpoint.path} cannot be read: what its head says of the policy was damaged, or written by another "
            f"version ({damaged!r:.80})."
        ) from None


def latest_checkpoint(run: Path) -> tuple[Checkpoint | None, list[str]]:
    """The newest checkpoint that is whole, and a word on each newer one that is not."""

    def read(path: Path) -> Checkpoint:
        state = read_json(path / STATE)
        arrays, _ = open_arrays(path / TRAINING)
        if state["files"].get(REPLAY):
            arrays.update(open_arrays(path / REPLAY)[0])
        _, metadata = open_arrays(path / ARRAYS)
        return Checkpoint(path, state, arrays, metadata)

    return newest_whole(run, read)
