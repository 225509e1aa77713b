"""Which code may run because it lies in a run's folder: what this user trained, or trusted, on this machine.

A folder that came from elsewhere holds code of somebody else's. What it records can be read without running any of it;
where the code has to run, it is asked for first. What is remembered is a digest of the code, so that a copy or another
seed of it is known, too, and an edit is not.
"""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import hmac
import os
import secrets
import stat
from pathlib import Path

from jokulmist.errors import UntrustedCode
from jokulmist.plain_files import plain_file

SOURCE, INDEX = "source", "index.json"
# How the program is reached that a run was trained on, and what it says of itself.
REMOTE_FILE = "remote.json"
KEY, KEY_BYTES = "key", 32
_SECRET: bytes | None = None
_TRUSTED_HERE: set[str] = set()
_EVERYTHING = False


def store() -> Path:
    """The file that remembers, one digest a line."""
    home = os.environ.get("XDG_DATA_HOME", "")
    base = Path(home) if home.startswith("/") else Path("~/.local/share").expanduser()
    return base / "jokulmist" / "trusted"


def _key() -> bytes:
    """A secret of this user's on this machine; where none can be kept, of this process."""
    global _SECRET
    if _SECRET is None:
        place = store().with_name(KEY)
        with contextlib.suppress(OSError):
            place.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            with contextlib.suppress(FileExistsError):
                part = place.with_name(f".{KEY}.{os.getpid()}")
                part.write_bytes(secrets.token_bytes(KEY_BYTES))
                part.chmod(0o600)
                try:
                    os.link(part, place)  # whole, and only where there is none
                finally:
                    part.unlink()
            key = place.read_bytes()
            _SECRET = key if len(key) == KEY_BYTES else None
        _SECRET = _SECRET or secrets.token_bytes(KEY_BYTES)
    return _SECRET


def signature(text: str) -> str:
    """64 hexadecimal digits by which this user knows on this machine what they wrote themselves."""
    return hmac.new(_key(), text.encode("utf-8", "surrogatepass"), "sha256").hexdigest()


def is_signed(text: str, claimed: str) -> bool:
    return hmac.compare_digest(signature(text), claimed.encode("ascii", "replace").decode())


def files_below(source: Path) -> list[Path]:
    """The files below a folder of kept code."""
    paths = []
    for folder, names, files in os.walk(source):
        for name in (*names, *files):
            path = Path(folder, name)
            kind = path.lstat().st_mode
            if not (stat.S_ISREG(kind) or stat.S_ISDIR(kind)):
                raise UntrustedCode(f"{path} is a link or no regular file, and kept code has none. Remove it.", source)
            if stat.S_ISREG(kind):
                paths.append(path)
    return sorted(paths)


def digest(source: Path) -> str:
    """64 hexadecimal digits of all files below a folder, by place and content."""
    hasher = hashlib.sha256()
    for path in files_below(source):
        with plain_file(path).open("rb") as stream:
            content = hashlib.file_digest(stream, "sha256").hexdigest()
        hasher.update(f"{path.relative_to(source).as_posix()}\0{content}\n".encode())
    return hasher.hexdigest()


def remember(source: Path) -> None:
    """Trust the code below a folder from now on. Where nothing can be written, as long as this process lasts."""
    source_digest = digest(source)
    if is_known(source_digest):
        return
    _TRUSTED_HERE.add(source_digest)
    with contextlib.suppress(OSError):
        store().parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        with store().open("a", encoding="ascii") as stream:
            fcntl.flock(stream, fcntl.LOCK_EX)
            stream.write(f"{source_digest}\n")


def is_known(source_digest: str) -> bool:
    """Whether code of a digest was trained or trusted here."""
    if source_digest in _TRUSTED_HERE:
        return True
    try:
        lines = store().read_text(encoding="ascii", errors="replace").split()
    except OSError:
        return False
    _TRUSTED_HERE.update(line for line in lines if len(line) == 64)
    return source_digest in _TRUSTED_HERE


def trust_everything() -> None:
    """In a process that does what another one of the user's says, which has asked already."""
    global _EVERYTHING
    _EVERYTHING = True


def refuse_unknown(source: Path) -> None:
    """Raise `UntrustedCode` where the code below a folder was neither trained nor trusted here."""
    if _EVERYTHING or is_known(digest(source)):
        return
    names = [path.relative_to(source).as_posix() for path in files_below(source) if path.name != INDEX]
    file_list = ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")
    raise UntrustedCode(
        f"{source.parent} holds code ({file_list}) that was not trained on this machine by you, and this would run "
        "it. Look "
        f"at it in {source}; then use `--trust`, or `jm.trust({str(source.parent)!r})`, if you trust whoever made it.",
        source,
    )


def trust(folder: str | Path) -> None:
    """Let the code that a run or a search keeps run on this machine, from now on: it came from elsewhere, and you have
    looked at it.

    Parameters
    ----------
    folder : str or Path
        The folder of a run or of a search.

    Raises
    ------
    UntrustedCode
        When the folder keeps no code.

    Examples
    --------
    >>> import jokulmist as jm
    >>> import tempfile
    >>> run = jm.train(jm.gallery.Tarn(), jm.RandomPlay(), episodes=2, lane="plain", folder=tempfile.mkdtemp())
    >>> jm.trust(run.path)  # after you have read what is in its source/
    """
    try:
        source = Path(folder) / SOURCE
        has_source = source.is_dir()
    except (TypeError, ValueError, OSError):
        raise UntrustedCode(f"a folder is a path; got {folder!r:.80}.") from None
    if not has_source:
        raise UntrustedCode(f"{folder} keeps no code: there is no {source}. Name the folder of a run.", source)
    remember(source)
