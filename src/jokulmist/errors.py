"""Every error that Jokulmist raises on purpose, as one tree.

::

    JokulmistError
    |-- DeclarationError (TypeError)     a class is declared wrongly
    |-- SettingError (ValueError)        a setting, a parameter or a plan holds a value that is not allowed
    |-- ActionError (ValueError)         an action that the environment does not have
    |-- NoiseError (ValueError)          a draw asked with arguments that have no distribution
    |-- BrokenEnvironment (RuntimeError) the researcher's own code failed or broke its declaration
    |-- DivergedTraining (ArithmeticError) what is learned became infinite or not a number
    |-- LookupFailed (LookupError)       a name, file, class or run that is not there
    |-- RecordError (OSError)            a run's folder cannot be read or written
    `-- UntrustedCode (PermissionError)  a folder from elsewhere holds code that would have to run

Each message says what was wrong, the value, what is allowed and how to fix it. The leaves also derive from the
built-in error of their kind, so that code that knows nothing of Jokulmist catches them as it would expect.

>>> import jokulmist as jm
>>> issubclass(jm.errors.SettingError, ValueError)
True
"""

import difflib
import re
import sys
import warnings
from collections.abc import Iterable
from pathlib import Path
from types import FrameType


def printable(text: str) -> str:
    """A text without control characters but for line breaks: what a name holds must not steer a terminal."""
    return _CONTROL.sub(lambda match: f"\\x{ord(match[0]):02x}", text)


_CONTROL = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f]")


def warn(text: str, category: type[Warning]) -> None:
    """Warn with the line of whoever called the library, however deep inside of it this is."""
    frame: FrameType | None = sys._getframe(1)
    level = 1
    while frame is not None and frame.f_globals.get("__name__", "").partition(".")[0] == __name__.partition(".")[0]:
        frame, level = frame.f_back, level + 1
    warnings.warn(text, category, stacklevel=level + 1)


class JokulmistError(Exception):
    """Root of all errors that Jokulmist raises on purpose.

    Examples
    --------
    >>> import jokulmist as jm
    >>> try:
    ...     jm.QLearning(discount=1.5)
    ... except jm.JokulmistError as failure:
    ...     print(failure)
    `discount` of `QLearning`: must lie in [0, 1]; got 1.5. Its default is 0.99.
    """

    def __str__(self) -> str:
        return printable(super().__str__())


class DeclarationError(JokulmistError, TypeError):
    """An environment, state or agent class is declared wrongly."""


class SettingError(JokulmistError, ValueError):
    """A setting, a parameter or a plan holds a value that is not allowed."""


class ActionError(JokulmistError, ValueError):
    """An action that the environment does not have."""


class NoiseError(JokulmistError, ValueError):
    """A draw was asked with arguments that have no distribution."""


class BrokenEnvironment(JokulmistError, RuntimeError):
    """The researcher's own code failed, or gave back something other than it declared."""


class DivergedTraining(JokulmistError, ArithmeticError):
    """What is learned became infinite or not a number."""


class LookupFailed(JokulmistError, LookupError):
    """A name, a file, a class or a run that is not there."""


class RecordError(JokulmistError, OSError):
    """A run's folder cannot be read or written."""


class UntrustedCode(JokulmistError, PermissionError):
    """A folder from elsewhere holds code that would have to run.

    Attributes
    ----------
    source : Path or None
        The folder of the code; None where there is none to look at.
    """

    def __init__(self, message: str, source: Path | None = None) -> None:
        super().__init__(message)
        self.source = source


class CodeNotice(UserWarning):
    """Something about the code of a user's own that is worth a line: it has changed since a run, or trains where it is
    read."""


class RunNotice(UserWarning):
    """What a training says where nobody watches a terminal: that it is not compiled, that nothing can be learned in its
    budget."""


def nearest(word: str, options: Iterable[str]) -> str:
    """Say which known name a misspelt one may mean: ``" Did you mean `x`?"`` or nothing."""
    close = difflib.get_close_matches(str(word), list(options), n=1, cutoff=0.6)
    return f" Did you mean `{close[0]}`?" if close else ""


def listed(names: Iterable[object]) -> str:
    """Names in backticks, in the order given, as a message lists them."""
    return ", ".join(f"`{name}`" for name in names) or "none"
