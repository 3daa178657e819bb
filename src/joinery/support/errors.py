"""Every error and warning, as one tree.

::

    JoineryError                      anything Joinery refuses, with the reason and the way out
    ├── CallError                     an argument of a call cannot be right                  exit 2
    ├── SentenceError                 the model sentence cannot be read                      exit 2
    │   └── UnknownColumnError        it names a column that the table does not have
    ├── DataError                     the table cannot be read or used                       exit 3
    │   ├── UnusableColumnError       a column cannot serve as the sentence asks
    │   ├── EmptyTableError           there are no rows
    │   ├── UnequalLengthsError       columns given side by side differ in length
    │   ├── MissingCellsError         cells are missing and were to be refused
    │   ├── TooLargeError             a question needs more rows in memory than are taken there
    │   └── ClusterError              a cluster's workers or scheduler failed
    ├── EstimationError               the model cannot be estimated from these rows          exit 4
    │   ├── NothingEstimableError     no coefficient can be had
    │   └── NoConvergenceError        the iteration did not settle
    ├── NewRowError                   a new row cannot be forecast                           exit 3
    └── FileFormatError               a file is not what it should be                        exit 3

    JoineryWarning(UserWarning)       worth knowing, not worth stopping for
    ├── EstimateWarning               what a reader of the estimates must know
    └── ReadingWarning                what is odd about how cells are written

Each carries its parts as attributes as well as its words, and the exit status of the command that
meets it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from difflib import get_close_matches
from typing import Any, ClassVar

from joinery.support.urls import without_secrets


def nearest(name: str, known: Iterable[str]) -> str | None:
    """Return the known name most like the one given, or None.

    Capital letters count less than other differences.
    """
    by_fold = {str(k).casefold(): str(k) for k in known}
    matches = get_close_matches(name.casefold(), by_fold, n=1, cutoff=0.6)
    if matches:
        return by_fold[matches[0]]
    return None


def listed(items: Iterable[Any], most: int = 5, word: str = "more", of: int | None = None) -> str:
    """Return items in one line, cut after `most` with the count of the rest: ``a, b, c and 7
    more``.

    ``of`` how many there are, where only the first are given."""
    items = [str(item) for item in items]
    if of is None:
        total = len(items)
    else:
        total = of
    head = ", ".join(items[:most])
    if total <= most:
        return head
    return f"{head} and {total - most} {word}"


def _error_again(
    kind: type[JoineryError], words: tuple[Any, ...], parts: dict[str, Any]
) -> JoineryError:
    """Return an error as it was before it went to another process."""
    error = kind.__new__(kind, *words)
    error.args = words
    error.__dict__.update(parts)
    return error


class JoineryError(Exception):
    """Anything Joinery refuses, with the reason and the way out.

    Whatever words it is given, it shows no password, token or query part of a URL."""

    exit_status: ClassVar[int] = 2

    def __init__(self, message: str) -> None:
        super().__init__(without_secrets(message))

    def __reduce__(self) -> tuple[Any, ...]:
        # by its parts: a class made anew from its words alone would want the others too
        return _error_again, (type(self), self.args, dict(self.__dict__))


class CallError(JoineryError, ValueError):
    """An argument of a call cannot be right."""

    def __init__(
        self, message: str, *, argument: str | None = None, known: Sequence[str] = ()
    ) -> None:
        super().__init__(message)
        self.argument, self.known = argument, tuple(known)


def one_of(argument: str, value: Any, known: Sequence[str]) -> str:
    """Return the value itself when it is known, else a CallError that offers the nearest."""
    if isinstance(value, str) and value in known:
        return value
    near = nearest(str(value), known)
    hint = f"; did you mean {near!r}?" if near else "."
    raise CallError(
        f"{argument}={value!r} is not known{hint} It is one of {', '.join(repr(k) for k in known)}",
        argument=argument,
        known=known,
    )


class SentenceError(JoineryError):
    """The model sentence cannot be read: the message shows it with a caret under the place.

    Attributes: ``text``, ``position`` (0-based, or None), ``problem``, ``expected``,
    ``suggestion``."""

    def __init__(
        self,
        problem: str,
        *,
        text: str = "",
        position: int | None = None,
        expected: str | None = None,
        suggestion: str | None = None,
    ) -> None:
        # plain texts: a token of the parser holds on to the parser, which does not pickle
        self.problem, self.text = str(problem), str(text)
        if position is None:
            self.position = None
        else:
            self.position = int(position)
        if expected is None:
            self.expected = None
        else:
            self.expected = str(expected)
        if suggestion is None:
            self.suggestion = None
        else:
            self.suggestion = str(suggestion)
        super().__init__(self._picture())

    def _picture(self) -> str:
        lines = [self.problem]
        if self.position is not None:
            line, caret = _window(self.text, self.position)
            lines += ["", f"    {line}", f"    {' ' * caret}^"]
        if self.expected:
            lines.append(f"expected {self.expected}")
        if self.suggestion:
            lines.append(self.suggestion)
        return "\n".join(lines)


def _window(text: str, position: int, width: int = 100) -> tuple[str, int]:
    """Return the stretch of one-line text around a position, and the caret's column in it."""
    flat = "".join(" " if c.isspace() else c for c in text)
    start = max(0, min(position - width // 2, len(flat) - width))
    left, right = "…" if start else "", "…" if start + width < len(flat) else ""
    return left + flat[start : start + width] + right, position - start + len(left)


class UnknownColumnError(SentenceError):
    """The sentence or an option names a column that the table does not have.

    Attributes: ``name``, ``known`` (the columns there are), ``suggestion`` (the nearest, or None),
    ``where``."""

    def __init__(
        self,
        name: str,
        known: Iterable[str],
        *,
        text: str = "",
        position: int | None = None,
        where: str = "",
    ) -> None:
        self.name, self.known, self.where = name, tuple(str(k) for k in known), where
        near = nearest(name, self.known)
        if near:
            hint = f"; did you mean {near!r}?"
        else:
            hint = f"; the columns are {listed(self.known, 12)}"
        super().__init__(f"no column {name!r}{where}{hint}", text=text, position=position)
        self.suggestion = near


class DataError(JoineryError):
    """The table cannot be read or used."""

    exit_status = 3


class UnusableColumnError(DataError):
    """A column cannot serve as the sentence asks.

    Attributes: ``column``, ``rows`` (labels of the first such rows).
    """

    def __init__(
        self, message: str, *, column: str | None = None, rows: Sequence[Any] = ()
    ) -> None:
        super().__init__(message)
        self.column, self.rows = column, tuple(rows)


class EmptyTableError(DataError):
    """There are no rows to work on. Attribute: ``columns`` (the headers found)."""

    def __init__(self, message: str, *, columns: Sequence[str] = ()) -> None:
        super().__init__(message)
        self.columns = tuple(columns)


class UnequalLengthsError(DataError):
    """Columns given side by side differ in length. Attribute: ``lengths`` (name to length)."""

    def __init__(self, message: str, *, lengths: Mapping[str, int]) -> None:
        super().__init__(message)
        self.lengths = dict(lengths)


class MissingCellsError(DataError):
    """Cells are missing and were to be refused.

    Attributes: ``counts`` (column to count), ``rows`` (first labels).
    """

    def __init__(
        self, message: str, *, counts: Mapping[str, int], rows: Sequence[Any] = ()
    ) -> None:
        super().__init__(message)
        self.counts, self.rows = dict(counts), tuple(rows)


class TooLargeError(DataError):
    """A question needs more rows in memory than are taken there: the message says what to do.

    Attributes: ``rows``, ``most``."""

    def __init__(self, message: str, *, rows: int = 0, most: int = 0) -> None:
        super().__init__(message)
        self.rows, self.most = rows, most


class ClusterError(DataError):
    """A cluster's workers or its scheduler failed in the middle of a pass over the rows."""


class EstimationError(JoineryError):
    """The model cannot be estimated from these rows."""

    exit_status = 4


class NothingEstimableError(EstimationError):
    """No coefficient can be had from these rows."""


class NoConvergenceError(EstimationError):
    """The iteration did not settle. Attribute: ``iterations``."""

    def __init__(self, message: str, *, iterations: int = 0) -> None:
        super().__init__(message)
        self.iterations = iterations


class NewRowError(JoineryError):
    """A new row cannot be forecast. Attributes: ``column``, ``rows``, ``level``, ``known``."""

    exit_status = 3

    def __init__(
        self,
        message: str,
        *,
        column: str | None = None,
        rows: Sequence[Any] = (),
        level: Any = None,
        known: Sequence[Any] = (),
    ) -> None:
        super().__init__(message)
        self.column, self.rows, self.level, self.known = column, tuple(rows), level, tuple(known)


class FileFormatError(JoineryError):
    """A file is not what it should be. Attributes: ``path``, ``reason``."""

    exit_status = 3

    def __init__(self, message: str, *, path: str = "", reason: str = "") -> None:
        super().__init__(message)
        self.path, self.reason = path, reason or message


class JoineryWarning(UserWarning):
    """Worth knowing, not worth stopping for."""


class EstimateWarning(JoineryWarning):
    """A warning that concerns the estimates.

    Separation, a fit that did not settle, columns left out, most rows lost to empty cells."""


class ReadingWarning(JoineryWarning):
    """A warning that concerns how the columns of a model are written.

    Levels that differ by case or spaces alone, numbers that stand in texts."""


@dataclass(frozen=True)
class Note:
    """A fact that a reader must know: kind, gravity, words, and the columns or rows concerned."""

    kind: str
    gravity: str  # "serious", "caution", or "note" for the curious
    words: str
    about: tuple[str, ...] = ()
