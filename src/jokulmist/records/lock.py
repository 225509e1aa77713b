"""One writer a folder: a lock that the operating system holds, so that it ends with the process that took it.

Readers take none: what they read is replaced as a whole, or appended to in whole lines.
"""

from __future__ import annotations

import fcntl
import json
import os
import platform
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from jokulmist.errors import RecordError, SettingError

LOCK = ".lock"
_LOCKS: dict[Path, int] = {}
_GUARD = threading.Lock()


@contextmanager
def writing(folder: Path, *, first: bool = False) -> Iterator[None]:
    """Be the only process that writes into a run's or a search's folder, for as long as this lasts."""
    key = folder.resolve()
    with _GUARD:
        if key in _LOCKS:
            if first:
                raise SettingError(f"{folder} is being trained by this process. Wait for it, or stop it first.")
            descriptor = None
        else:
            descriptor = _lock(folder)
            _LOCKS[key] = descriptor
    try:
        yield
    finally:
        if descriptor is not None:
            with _GUARD:
                del _LOCKS[key]
            os.close(descriptor)  # which gives the lock back


def holding_process(folder: Path) -> int | None:
    """The process of this user's on this machine that holds the lock of a folder; None where none does.

    It is asked whether it has the file of the lock open: what is in there may come from elsewhere.
    """
    import psutil

    lock_holder = holder(folder)
    if not lock_holder:
        return None
    try:
        process = psutil.Process(int(lock_holder.split()[1]))
        lock = str((folder / LOCK).resolve())
        is_holding = process.uids().real == os.getuid() and any(file.path == lock for file in process.open_files())
    except (psutil.Error, ValueError, IndexError):
        return None
    return process.pid if is_holding else None


def holder(folder: Path) -> str:
    """Who else writes into a folder, in words; empty where nobody does."""
    if folder.resolve() in _LOCKS:
        return ""
    try:
        descriptor = os.open(folder / LOCK, os.O_RDWR | os.O_NOFOLLOW)
    except OSError:
        return ""
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return _read_holder(descriptor)
    except OSError:
        return ""
    finally:
        os.close(descriptor)
    return ""


def _lock(folder: Path) -> int:
    """A file of the folder, locked and with this process written into it."""
    path = folder / LOCK
    try:
        descriptor = os.open(path, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW, 0o644)
    except OSError as failure:
        raise RecordError(
            f"cannot write into {folder}: {failure.strerror}. Copy the folder to a place that you may write to."
        ) from None
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        holder_text = _read_holder(descriptor)
        os.close(descriptor)
        raise SettingError(
            f"{folder} is being trained by {holder_text}. Wait for it, or stop it by Ctrl-C first."
        ) from None
    except OSError:
        return descriptor  # a file system without locks
    os.ftruncate(descriptor, 0)
    os.pwrite(descriptor, json.dumps({"process": os.getpid(), "host": platform.node()}).encode(), 0)
    return descriptor


def _read_holder(descriptor: int) -> str:
    try:
        content = json.loads(os.pread(descriptor, 1_000, 0))
        return f"process {int(content['process'])} on {str(content['host'])!r}"
    except (OSError, ValueError, KeyError, TypeError):
        return "another process"
