"""What can go wrong through no fault of the program.

::

    WarmEmberError (Exception)
    ├── BadFileError (ValueError)       a file that cannot be read: which, where, expected, found, remedy
    │   └── ColumnError                 a table whose columns cannot be told apart: which there are
    ├── BadArgumentError (ValueError)   something the user typed
    ├── ParseError (ValueError)         a text or record that is no value of its kind; who knows where it stood says so
    ├── ProjectError (OSError)          the project folder or its project.json
    ├── InstrumentError (OSError)       an instrument or a console: which, what it did, remedy
    └── Cancelled                       the user stopped a piece of work; not a failure

Each becomes one line for the user. Everything else is a bug and goes to the log with its traceback.
"""

from __future__ import annotations

from pathlib import Path


class WarmEmberError(Exception):
    """An expected failure with a message fit for the user."""

    @property
    def one_line(self) -> str:
        """The message on a single line, control characters made visible."""
        return "".join(c if c.isprintable() else " " for c in str(self)).strip()


class BadFileError(WarmEmberError, ValueError):
    """A file that cannot be read as what it should be.

    Parameters
    ----------
    path
        The file.
    problem
        What was expected and what was found instead.
    where
        Place in the file, such as ``"line 12"`` or ``"byte 4096"``; empty when it is the whole file.
    remedy
        What the user can do about it.
    """

    def __init__(self, path: Path | str, problem: str, *, where: str = "", remedy: str = "") -> None:
        self.path = Path(path)
        self.problem = problem
        self.where = where
        self.remedy = remedy
        place = f"{path}, {where}" if where else str(path)
        super().__init__(f"{place}: {problem}" + (f"; {remedy}" if remedy else ""))


class ColumnError(BadFileError):
    """A table of which a needed column was not found.

    Parameters
    ----------
    path, problem, remedy
        As for `BadFileError`.
    titles
        The columns that there are.
    """

    def __init__(self, path: Path | str, problem: str, *, titles: tuple[str, ...], remedy: str = "") -> None:
        super().__init__(path, problem, remedy=remedy)
        self.titles = titles


class BadArgumentError(WarmEmberError, ValueError):
    """Something the user typed that cannot be used; the message says what would do."""


class ParseError(WarmEmberError, ValueError):
    """A text or a record that is no value of the kind that is wanted.

    It does not know where it stood: who reads a file or a field catches it and says so.
    """


class ProjectError(WarmEmberError, OSError):
    """The project folder cannot be opened or written.

    Parameters
    ----------
    path
        The project folder or the file in it.
    problem
        What is wrong.
    remedy
        What the user can do about it.
    """

    def __init__(self, path: Path | str, problem: str, *, remedy: str = "") -> None:
        self.path = Path(path)
        self.problem = problem
        self.remedy = remedy
        super().__init__(f"{path}: {problem}" + (f"; {remedy}" if remedy else ""))

    def __str__(self) -> str:
        return str(self.args[0])


class InstrumentError(WarmEmberError, OSError):
    """An instrument or a console that does not do what it should.

    Parameters
    ----------
    resource
        Its address.
    problem
        What was expected and what came instead.
    remedy
        What the user can do about it.
    link_lost
        Whether it may answer again after the link is opened anew.
    """

    def __init__(self, resource: str, problem: str, *, remedy: str = "", link_lost: bool = False) -> None:
        self.resource = resource
        self.problem = problem
        self.remedy = remedy
        self.link_lost = link_lost
        super().__init__(f"{resource}: {problem}" + (f"; {remedy}" if remedy else ""))

    def __str__(self) -> str:
        return str(self.args[0])


class Cancelled(WarmEmberError):  # noqa: N818 - it is an outcome, not an error
    """Work that was stopped on request."""
