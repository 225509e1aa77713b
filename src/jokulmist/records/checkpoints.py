"""What was learned, on disk: arrays as safetensors, everything else as JSON; nothing that runs code when read."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

from jokulmist.arrays import NumpyArray
from jokulmist.errors import RecordError
from jokulmist.plain_files import plain_file
from jokulmist.records.files import read_json, replace_file, synced, write_json
from jokulmist.trees import flattened

ARRAYS, TRAINING, REPLAY, STATE = "arrays.safetensors", "training.safetensors", "replay.safetensors", "state.json"
BEST = "best-"
MOST_ARRAY_BYTES = 1 << 42
Content = TypeVar("Content")


def save_arrays(path: Path, tree: Any, metadata: dict[str, Any]) -> None:
    """One safetensors file with the arrays of a tree, and JSON about them in its header."""
    from safetensors.numpy import save

    replace_file(path, save(flattened(tree), metadata={"about": json.dumps(metadata)}))


def open_arrays(path: Path) -> tuple[dict[str, NumpyArray], dict[str, Any]]:
    """The arrays of a safetensors file, and what its header says about them."""
    from safetensors import SafetensorError, safe_open

    plain_file(path, MOST_ARRAY_BYTES)
    try:
        with safe_open(path, framework="numpy") as file:
            metadata = json.loads((file.metadata() or {}).get("about", "{}"))
            return {name: file.get_tensor(name) for name in list(file.keys())}, metadata
    except FileNotFoundError:
        raise RecordError(f"there is no file {path}.") from None
    except (SafetensorError, OSError, ValueError, RecursionError) as failure:
        raise RecordError(f"{path} cannot be read: it is torn, or no safetensors file ({failure}).") from None


def checkpoint_name(decisions: int) -> str:
    return f"{decisions:012d}"


def save_checkpoint(
    run: Path,
    tree: Any,
    metadata: dict[str, Any],
    state: dict[str, Any],
    training: dict[str, NumpyArray] | None = None,
    replay: dict[str, NumpyArray] | None = None,
    name: str | None = None,
) -> Path:
    """A checkpoint: a folder named by the decisions so far. It is made under another name and renamed when it is
    whole."""
    folder = run / "checkpoints" / (name or checkpoint_name(state["decisions"]))
    if (folder / STATE).exists() and (training is None or (folder / TRAINING).exists()):
        return folder  # the same decisions: the same content
    part = folder.with_name(f".{folder.name}.{os.getpid()}.part")
    try:
        shutil.rmtree(part, ignore_errors=True)
        part.mkdir(parents=True)
        save_arrays(part / ARRAYS, tree, metadata)
        for file, arrays in ((TRAINING, training), (REPLAY, replay)):
            if arrays:
                save_arrays(part / file, arrays, {})
        sizes = {path.name: path.stat().st_size for path in sorted(part.iterdir())}
        for path in part.iterdir():
            synced(path)
        write_json(part / STATE, {**state, "files": sizes})
        shutil.rmtree(folder, ignore_errors=True)  # one that was never whole
        part.rename(folder)
    except OSError as failure:
        shutil.rmtree(part, ignore_errors=True)
        if isinstance(failure, RecordError):
            raise
        raise RecordError(f"cannot write {folder}: {failure.strerror}. What was recorded so far is kept.") from None
    return folder


def checkpoints_of(run: Path) -> list[Path]:
    """The checkpoints of a run that were written to their end, the oldest first; not the best one."""
    files = (run / "checkpoints").glob(f"[0-9]*/{STATE}")
    return sorted(path.parent for path in files)


def best_checkpoint(run: Path) -> Path | None:
    """The best policy's checkpoint."""
    files = sorted((run / "checkpoints").glob(f"{BEST}*/{STATE}"))
    return files[-1].parent if files else None


def newest_whole(run: Path, read: Callable[[Path], Content]) -> tuple[Content | None, list[str]]:
    """What `read` makes of the newest checkpoint that it can read, and a word on each newer one that it cannot."""
    words: list[str] = []
    for path in reversed(checkpoints_of(run)):
        try:
            return read(path), words
        except (RecordError, KeyError, TypeError) as torn:
            words.append(f"checkpoint {path.name} is left out: {torn}")
    return None, words


def whole_checkpoint(run: Path) -> tuple[Path | None, list[str]]:
    """The newest checkpoint whose policy can be read, and a word on each newer one that cannot."""

    def read(path: Path) -> Path:
        open_arrays(path / ARRAYS)
        read_json(path / STATE)
        return path

    return newest_whole(run, read)
