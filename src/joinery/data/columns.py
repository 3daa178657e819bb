"""A column as the models see it: numbers, yes/no, a category or a date."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from joinery.data.marks import Marks
from joinery.data.sources.cells import Cells
from joinery.data.written_dates import date_texts, in_days, read_dates
from joinery.notation.context import Rows
from joinery.notation.tree import number_text
from joinery.support import advice
from joinery.support.errors import UnusableColumnError
from joinery.support.limits import MOST_DISTINCT

Labels = Callable[[np.ndarray], Sequence[Any]]
Values = np.ndarray | Cells  # held, or read when rows are asked for
# cells of a table kept row by row that are gathered before they are gone through
CELLS_TOGETHER = 2**15
EXACT_WHOLE = 2**53  # whole numbers up to here are doubles
UNITS = "joinery_units"  # where a frame carries the units that its numbers were written with
NOTES = "joinery_notes"  # where a frame carries what was noted while it was read


@dataclass(frozen=True)
class Swept:
    """Results of a pass over all cells: whether each is there and finite, and their ends."""

    sound: bool
    low: float
    high: float


@dataclass(frozen=True)
class TextReading:
    """The rules by which a column of texts is read.

    ``marks`` are those of the table, asked for where texts hold a point or a comma; the column's
    own for None. ``as_levels``: texts stay levels, whatever they look like."""

    marks: Callable[[], Marks] | None = None
    as_levels: bool = False


@dataclass(frozen=True)
class Column:
    """One column of a table.

    ``kind`` is ``number``, ``yes/no``, ``category`` or ``date``. Numbers stand in ``values`` (NaN
    where missing); everything else has ``coded`` (−1 where missing) into ``levels``, in the levels'
    own order. Dates are days since 1970. ``note`` says how its cells were read, ``remarks`` what is
    odd about how its levels are spelt; ``trouble`` why it cannot serve as what it looks like, which
    ``meant`` names."""

    name: str
    kind: str
    values: Values | None
    coded: Values | None
    levels: tuple[Any, ...]
    label_rows: Labels
    note: str | None = None
    trouble: str | None = None
    meant: str = "numbers"
    text_kind: bool = False
    swept: Swept | None = None  # what a pass over all its cells found, where they are not held
    remarks: tuple[str, ...] = ()
    stray: frozenset[str] = frozenset()  # levels that keep it from being numbers
    unit: str = ""  # that its numbers were written with, or their currency

    @property
    def is_text(self) -> bool:
        return self.text_kind

    @property
    def is_date(self) -> bool:
        return self.kind == "date"

    def numbers(self, rows: Rows) -> np.ndarray:
        """Return values as float64, NaN where missing. Raises UnusableColumnError for text."""
        if self.kind in ("number", "date"):
            assert self.values is not None
            return np.asarray(self.values[rows], dtype=np.float64)
        assert self.coded is not None
        if self.kind == "yes/no" and not self.trouble:
            codes = self.coded[rows]
            return np.where(codes < 0, np.nan, codes.astype(np.float64))
        raise self.not_numbers()

    @property
    def held_numbers(self) -> np.ndarray | None:
        """All values, where they are held as doubles."""
        values = self.values
        if isinstance(values, np.ndarray) and values.dtype == float:
            return values
        return None

    def not_numbers(self) -> UnusableColumnError:
        """Return why this column cannot serve as numbers, with the first rows that show it."""
        assert self.coded is not None
        offending = self._offending()
        labels = list(self.label_rows(offending[:3]))
        shown = ", ".join(
            f"row {label}: {self.levels[code]!r}"
            for label, code in zip(labels, self.coded[offending[:3]])
        )
        if len(offending) > 3:
            more = f" and {len(offending) - 3:,} more"
        else:
            more = ""
        if self.trouble:
            message = (
                f"column {self.name!r} cannot be read as {self.meant}: "
                f"{self.trouble} ({shown}{more})"
            )
        else:
            message = f"column {self.name!r} is text, and numbers are needed here ({shown}{more})"
        if self.trouble and self.stray and self.meant == "numbers":
            first = self.levels[self.coded[offending[0]]]
            if not any(letter.isdigit() for letter in str(first)):  # "n.a.", not "12 kg"
                mark = advice.reading("empty", first)
                message += f"; where that stands for a missing cell, say so: {mark}"
        return UnusableColumnError(message, column=self.name, rows=labels)

    def check_order(self) -> None:
        """Raise UnusableColumnError where what it looks like, and so its order, is unsettled."""
        if self.trouble:
            raise self.not_numbers()

    def _offending(self) -> np.ndarray:
        assert self.coded is not None
        stray = [code for code, level in enumerate(self.levels) if level in self.stray]
        wanted = np.asarray(stray or range(len(self.levels)), dtype=int)
        collected = [np.isin(some, wanted) for some in _stretches(self.coded)]
        return np.flatnonzero(np.concatenate(collected))

    def texts(self, rows: Rows) -> np.ndarray:
        """Return values as text, None where missing."""
        if self.large_whole is not None:
            return self.large_whole[rows].astype(str).astype(object)
        if self.coded is None:
            x = self.numbers(rows)
            if self.is_date:
                shown = date_texts(x)
            else:
                shown = ["" if math.isnan(v) else number_text(float(v)) for v in x.tolist()]
            out = np.array(shown, dtype=object)
            out[np.isnan(x)] = None
            return out
        names = np.array([*map(level_text, self.levels), None], dtype=object)
        return np.asarray(names[self.coded[rows]])

    def codes(self, rows: Rows) -> np.ndarray:
        """Return a whole number for each distinct value, in the order of ``all_levels``.

        −1 where missing.
        """
        if self.coded is not None:
            return np.asarray(self.coded[rows])
        if not isinstance(self.values, Cells):
            return np.asarray(self._coding[0][rows])
        numbers = self.numbers(rows)
        if len(numbers) == len(self):  # what is held whole may have any number of values
            return _coded(numbers)[0]
        return np.where(np.isnan(numbers), -1, np.searchsorted(self._distinct, numbers))

    @property
    def all_levels(self) -> tuple[Any, ...]:
        """The distinct values in order: as given, else numeric, else by code point."""
        if self.coded is not None:
            return self.levels
        if isinstance(self.values, Cells):
            return self._as_levels(self._distinct)
        return self._as_levels(self._coding[1])

    @cached_property
    def _distinct(self) -> np.ndarray:
        """The different numbers in order. Raises UnusableColumnError for too many to hold."""
        assert self.values is not None
        result = np.empty(0)
        for some in _stretches(self.values):
            result = np.unique(np.append(result, some[~np.isnan(some)]))
            if len(result) > MOST_DISTINCT:
                raise UnusableColumnError(
                    f"column {self.name!r} has more than {MOST_DISTINCT:,} different values, more "
                    "than can be kept as levels or places",
                    column=self.name,
                )
        return result

    def _as_levels(self, distinct: np.ndarray) -> tuple[Any, ...]:
        if self.is_date:
            return tuple(date_texts(distinct))
        return tuple(distinct.tolist())

    @cached_property
    def large_whole(self) -> np.ndarray | None:
        """All values as whole numbers, where some are beyond what a double can tell apart."""
        values = self.values
        if not isinstance(values, np.ndarray) or values.dtype.kind not in "iu" or not len(values):
            return None
        if max(abs(int(values.min())), int(values.max())) > EXACT_WHOLE:
            return values
        return None

    @cached_property
    def _coding(self) -> tuple[np.ndarray, np.ndarray]:
        """The place of each value among the different ones (n,), and these in order."""
        if self.large_whole is not None:
            levels, codes = np.unique(self.large_whole, return_inverse=True)
            return codes, levels
        return _coded(self.numbers(slice(None)))

    def all_differ(self, rows: Rows) -> bool:
        """Return True if it holds numbers of which no two are equal."""
        if self.values is None:
            return False
        values = self.values[rows]
        # a few rows tell most columns of whole numbers, without looking at all of them
        return _apart(values[:1000]) and _apart(values)

    @cached_property
    def sweep_result(self) -> Swept:
        """Return what all its cells are: as a pass found, or found here."""
        return self.swept or swept(_stretches(self.values) if self.values is not None else iter(()))

    @property
    def sound(self) -> bool:
        """Return True if it holds numbers alone, none missing and none infinite."""
        return self.sweep_result.sound

    def from_text(self, text: str) -> float:
        """Return a date written as text, as this column's days. Raises UnusableColumnError for
        another."""
        reading = read_dates([text])
        if reading is None or reading.stamps is None:
            raise UnusableColumnError(
                f"{text!r} is not a date that can be compared with {self.name!r}; dates are "
                "written '2024-03-01'",
                column=self.name,
            )
        return float(in_days(reading.stamps)[0])

    def missing(self, rows: Rows) -> np.ndarray:
        """Return true where the cell is missing."""
        if self.coded is not None:
            return np.asarray(self.coded[rows] < 0)
        assert self.values is not None
        values = self.values[rows]
        if values.dtype.kind == "f":
            return np.isnan(values)
        return np.zeros(len(values), dtype=bool)

    def infinite(self, rows: Rows) -> np.ndarray:
        """Return true where the number is infinite."""
        if self.values is None or self.values.dtype.kind != "f":
            return np.zeros(0, dtype=bool)
        return np.asarray(np.isinf(self.values[rows]))

    def __len__(self) -> int:
        source = self.values if self.values is not None else self.coded
        assert source is not None
        return len(source)


def _apart(values: np.ndarray) -> bool:
    """Return True if no two values are equal; a missing one equals another."""
    ordered = np.sort(values)  # sorted they are compared sooner than by a table of them all
    twice = ordered[1:] == ordered[:-1]
    return not twice.any() and int(np.isnan(ordered[-2:]).sum()) < 2


def _coded(numbers: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return a whole number for each of the different numbers in order, −1 where missing; and
    these."""
    present = ~np.isnan(numbers)
    distinct, inverse = np.unique(numbers[present], return_inverse=True)
    codes = np.full(len(numbers), -1, dtype=np.int64)
    codes[present] = inverse
    return codes, distinct


def swept(numbers: Iterable[np.ndarray]) -> Swept:
    """Return what numbers are that come some at a time; of none that they are not sound."""
    low, high = np.inf, -np.inf
    for some in numbers:
        for start in range(0, len(some), CELLS_TOGETHER):
            near = np.ascontiguousarray(some[start : start + CELLS_TOGETHER])
            # NaN stays once it is there
            low, high = np.minimum(low, near.min()), np.maximum(high, near.max())
    return Swept(bool(np.isfinite(low) and np.isfinite(high)), float(low), float(high))


def _stretches(values: Values) -> Iterator[np.ndarray]:
    """Yield all cells, at once where they are held."""
    if isinstance(values, Cells):
        return values.stretches()
    return iter((values,))


def column_name(label: Any) -> str:
    """Return a column label as the sentence can name it.

    The levels of a many-storied header are joined by a dot.
    """
    if isinstance(label, tuple):
        return ".".join(str(part) for part in label if str(part))
    return str(label)


def beyond_doubles(level: Any) -> bool:
    """Return True for a whole number that a double cannot tell from its neighbours."""
    return isinstance(level, (int, np.integer)) and abs(int(level)) > EXACT_WHOLE


def exact_level(level: Any) -> Any:
    """Return a level as it was: the digits of a whole number beyond doubles are that number."""
    digits = isinstance(level, str) and level.lstrip("-").isdecimal()
    if digits and beyond_doubles(int(level)):
        return int(level)
    return level


def level_text(level: Any) -> str:
    """Return a level as people see it: 2021 rather than 2021.0."""
    if isinstance(level, (bool, np.bool_)):
        return str(bool(level))
    if beyond_doubles(level):
        return str(int(level))
    if isinstance(level, (int, float, np.integer, np.floating)):
        return number_text(float(level))
    return str(level)
