"""What was learned, on disk: arrays as safetensors, everything else as JSON; nothing that runs code when read."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np

from jokulmist.errors import RecordError
from jokulmist.records.files import replace_file, write_json

ARRAYS, STATE = "arrays.safetensors", "state.json"


def flattened(tree: Any, prefix: str = "") -> dict[str, np.ndarray[Any, Any]]:
    """The arrays of a tree of NamedTuples, dicts, lists and tuples, by path."""
    if tree is None:
        return {}
    if isinstance(tree, tuple) and hasattr(tree, "_fields"):
        items = list(zip(tree._fields, tree, strict=True))
    elif isinstance(tree, dict):
        items = [(str(name), part) for name, part in tree.items()]
    elif isinstance(tree, (tuple, list)):
        items = [(str(i), part) for i, part in enumerate(tree)]
    else:
        return {prefix or "value": np.asarray(tree, order="C")}
    found: dict[str, np.ndarray[Any, Any]] = {}
    for name, part in items:
        found.update(flattened(part, f"{prefix}/{name}" if prefix else name))
    return found


def filled(model: Any, arrays: dict[str, np.ndarray[Any, Any]], prefix: str = "") -> Any:
    """A tree shaped like `model` with the arrays of `flattened` in it."""
    if model is None:
        return None
    if isinstance(model, tuple) and hasattr(model, "_fields"):
        parts = [filled(p, arrays, f"{prefix}/{n}" if prefix else n) for n, p in zip(model._fields, model, strict=True)]
        return type(model)(*parts)
    if isinstance(model, dict):
        return {n: filled(p, arrays, f"{prefix}/{n}" if prefix else str(n)) for n, p in model.items()}
    if isinstance(model, (tuple, list)):
        return type(model)(filled(p, arrays, f"{prefix}/{i}" if prefix else str(i)) for i, p in enumerate(model))
    name = prefix or "value"
    if name not in arrays:
        raise RecordError(f"the checkpoint lacks `{name}`: it was written by another version of this agent.")
    found, wanted = arrays[name], np.shape(model)
    if found.shape != wanted:
        raise RecordError(f"`{name}` of the checkpoint has the shape {found.shape}; this agent needs {wanted}.")
    return found


def save_arrays(path: Path, tree: Any, about: dict[str, Any]) -> None:
    """One safetensors file with the arrays of a tree, and JSON about them in its header."""
    from safetensors.numpy import save

    replace_file(path, save(flattened(tree), metadata={"about": json.dumps(about)}))


def open_arrays(path: Path) -> tuple[dict[str, np.ndarray[Any, Any]], dict[str, Any]]:
    """The arrays of a safetensors file, and what its header says about them."""
    from safetensors import SafetensorError, safe_open

    try:
        with safe_open(path, framework="numpy") as file:
            about = json.loads((file.metadata() or {}).get("about", "{}"))
            return {name: file.get_tensor(name) for name in list(file.keys())}, about
    except FileNotFoundError:
        raise RecordError(f"there is no file {path}.") from None
    except (SafetensorError, OSError, ValueError) as failure:
        raise RecordError(f"{path} cannot be read as a saved policy: {failure}.") from None


def save_checkpoint(run: Path, tree: Any, about: dict[str, Any], state: dict[str, Any]) -> Path:
    """A checkpoint: a folder named by the decisions so far; it counts only once its state.json stands."""
    folder = run / "checkpoints" / f"{state['decisions']:012d}"
    folder.mkdir(parents=True, exist_ok=True)
    save_arrays(folder / ARRAYS, tree, about)
    write_json(folder / STATE, state)
    return folder


def latest_checkpoint(run: Path) -> Path | None:
    """The newest whole checkpoint of a run."""
    whole = [p.parent for p in sorted((run / "checkpoints").glob(f"*/{STATE}")) if (p.parent / ARRAYS).exists()]
    return whole[-1] if whole else None
