"""Where cases are tried: a scratch folder, a limit of time, and a guard that lets nothing be written anywhere else."""

import contextlib
import io
import json
import os
import shutil
import signal
import sys
import tempfile
import time
import traceback
import warnings
from collections import Counter
from pathlib import Path

from jokulmist.command import drawing

SECONDS = 20
MORE_WAITS = 5
WRITING = os.O_WRONLY | os.O_RDWR | os.O_CREAT | os.O_TRUNC | os.O_APPEND
CHANGING = (
    "os.mkdir",
    "os.rename",
    "os.remove",
    "os.rmdir",
    "os.link",
    "os.symlink",
    "os.truncate",
    "os.chmod",
    "shutil.rmtree",
)
# What a second process does nobody here could see, so that all is drawn in the first.
drawing.LEAST_CORES = sys.maxsize
STARTING = ("os.system", "os.exec", "os.posix_spawn", "subprocess.Popen")
ALLOWED = (0, 1, 2, 130)


class Escaped(BaseException):
    """A case tried to write outside of the scratch folder, or to start a program."""


class Hung(BaseException):
    """A case took longer than it may."""


class Arena:
    """A scratch folder; what is tried in it is counted, and what went wrong is kept.

    Parameters
    ----------
    base : function
        Fills the folder before the first case.
    """

    def __init__(self, base):
        self.root = Path(tempfile.mkdtemp(prefix="attack-")).resolve()
        self.counts, self.faults = Counter(), []
        self._inside = False
        self.fails, self._writes = None, 0  # an error, the write that it comes at, whether later ones fail too
        os.chdir(self.root)
        tempfile.tempdir = str(self.root)
        os.environ.update(
            TMPDIR=str(self.root),
            JAX_COMPILATION_CACHE_DIR=str(self.root / "cache"),
            XDG_CACHE_HOME=str(self.root / "cache"),
            XDG_DATA_HOME=str(self.root / "data"),
            HOME=str(self.root),
            PYTHONDONTWRITEBYTECODE="1",
        )
        sys.dont_write_bytecode = True
        base(self.root)
        sys.addaudithook(self._watch)

    def _watch(self, event, given):
        if not self._inside:
            return
        if self.fails is not None and self._changes(event, given):
            self._writes += 1
            error, first, later = self.fails
            if self._writes - 1 == first or (later and self._writes > first):
                raise OSError(error, os.strerror(error), os.fsdecode(given[0]))
        if event == "open":
            path, _, flags = given
            if isinstance(path, (str, bytes)) and (flags or 0) & WRITING and not self._may(path):
                raise Escaped(f"{event} {path!r:.200}")
        elif event in CHANGING and isinstance(given[0], (str, bytes, os.PathLike)) and not self._may(given[0]):
            raise Escaped(f"{event} {given[0]!r:.200}")
        elif event in STARTING and "git" not in str(given)[:40]:
            raise Escaped(f"{event} {given!r:.200}")

    def _changes(self, event, given):
        """Whether something is about to change a file of a user's."""
        opened = event == "open" and isinstance(given[0], (str, bytes)) and (given[2] or 0) & WRITING
        makes_folder = event in CHANGING[:2] and isinstance(given[0], (str, bytes, os.PathLike))
        return (opened or makes_folder) and not os.path.realpath(os.fsdecode(given[0])).startswith(("/dev/", "/proc/"))

    def _may(self, path):
        full = os.path.realpath(os.fsdecode(path))
        return full.startswith((str(self.root), "/dev/null", "/proc/self", "/dev/shm", "/tmp/jokulmist-"))

    def fresh(self, name):
        """A folder for one case, empty."""
        place = self.root / name
        shutil.rmtree(place, ignore_errors=True)
        place.mkdir()
        return place

    def tried(self, kind, label, work, marker=None):
        """Try a case; anything but a clear message, or a result, is a fault."""
        self.counts[kind] += 1
        (self.root / "last.txt").write_text(f"{kind}: {label}\n", errors="replace")
        why = self._why(work)
        if why is None and marker is not None and marker.exists():
            why = "code of a foreign folder was executed"
        os.chdir(self.root)
        if why is None:
            why = self._left_behind()
        if why is not None:
            self.faults.append((kind, label, why))
            print(f"FAULT {kind}: {label}\n      {why}", flush=True)

    def _why(self, work):
        began, more = time.process_time(), [MORE_WAITS]

        def late(number, frame):
            # On a machine that works for others too, a case may get little of it: then it is waited for longer.
            if more[0] and time.process_time() - began < SECONDS / 2 and os.getloadavg()[0] > os.cpu_count():
                more[0] -= 1
                signal.alarm(SECONDS)
                return
            raise Hung

        before = signal.signal(signal.SIGALRM, late)
        signal.alarm(SECONDS)
        self._inside, self._writes = True, 0
        try:
            with (
                warnings.catch_warnings(),
                contextlib.redirect_stdout(io.StringIO()) as displayed,
                contextlib.redirect_stderr(io.StringIO()) as reply,
            ):
                warnings.simplefilter("ignore")
                status = work()
            text = reply.getvalue() + displayed.getvalue()
        except Hung:
            return f"more than {SECONDS} s"
        except Escaped as out:
            return f"escaped: {out}"
        except BaseException as raw:
            line = traceback.extract_tb(raw.__traceback__)[-1]
            return f"{type(raw).__name__}: {str(raw)[:160]} ({Path(line.filename).name}:{line.lineno})"
        finally:
            self._inside = False
            signal.alarm(0)
            signal.signal(signal.SIGALRM, before)
        if status not in ALLOWED:
            return f"status {status}"
        if "Traceback (most recent" in text:
            return f"a traceback was printed: {text[text.index('Traceback (most recent') :][:1500]}"
        if any(c in text for c in "\x1b\x07\x9b"):
            return "a control character reached the terminal"
        if status in (1, 2) and not (text.strip() or displayed.getvalue().strip()):
            return f"status {status} without a word"
        return None

    def _left_behind(self):
        """What is half-written: temporary names, runs that say they are running."""
        for part in self.root.rglob(".*.part"):
            part.unlink() if part.is_file() else shutil.rmtree(part)
            return f"half a file was left: {part.name}"
        for origin in self.root.glob("runs/*/origin.json"):
            with contextlib.suppress(ValueError, OSError, RecursionError):
                output = json.loads(origin.read_text())
                # Where every later write is refused, its end cannot be written: it will be listed as killed.
                cut_off = self.fails is not None and self.fails[2] and (origin.parent / "episodes.csv").exists()
                first = (
                    isinstance(output, dict)
                    and output.get("status") == "running"
                    and output.get("process") == os.getpid()
                )
                if first and not cut_off:
                    shutil.rmtree(origin.parent)
                    return f"{origin.parent.name} was left as running"
        return None

    def told(self):
        """Counts by kind, and faults."""
        for kind, count in sorted(self.counts.items()):
            print(f"{kind:12} {count:6} cases, {sum(f[0] == kind for f in self.faults)} faults")
        shutil.rmtree(self.root, ignore_errors=True)
        return len(self.faults)


def command(*words):
    """The command line in this process; gives its status."""
    from jokulmist.command.main import main

    try:
        main([str(word) for word in words])
    except SystemExit as ended:
        return ended.code or 0
    return 0


def asked(work):
    """A call from Python: a result, or one of the library's own errors."""
    from jokulmist.errors import JokulmistError

    def status():
        try:
            work()
        except JokulmistError as told:
            print(told, file=sys.stderr)
            return 2
        return 0

    return status
