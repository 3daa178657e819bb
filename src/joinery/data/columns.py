"""A column as the models see it: numbers, yes/no, a category or a date."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from joinery.data.marks import Marks
from joinery.data.sources.cells import Cells
from joinery.data.written_dates import UNIVERSAL, date_text, in_days, read_dates
from joinery.data.written_numbers import Reading, read_numbers
from joinery.notation.evaluate import Rows
from joinery.notation.tree import number_text
from joinery.support import advice
from joinery.support.errors import UnusableColumnError, listed
from joinery.support.limits import MOST_DISTINCT

Labels = Callable[[np.ndarray], Sequence[Any]]
Values = np.ndarray | Cells  # held, or read when rows are asked for
DURATIONS = "durations are read as days"
PERIODS = "periods are read as the day each begins"
# cells of a table kept row by row that are gathered before they are gone through
CELLS_TOGETHER = 2**15
EXACT_WHOLE = 2**53  # whole numbers up to here are doubles
YES_NO = ({"no", "yes"}, {"n", "y"}, {"false", "true"})
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
            shown = date_text if self.is_date else number_text
            return np.array(
                [None if np.isnan(v) else shown(float(v)) for v in self.numbers(rows)], dtype=object
            )
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
        return self._coding[1]

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
        return tuple(map(date_text, distinct.tolist()) if self.is_date else distinct.tolist())

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
    def _coding(self) -> tuple[np.ndarray, tuple[Any, ...]]:
        if self.large_whole is not None:
            levels, codes = np.unique(self.large_whole, return_inverse=True)
            return codes, tuple(levels.tolist())
        codes, distinct = _coded(self.numbers(slice(None)))
        return codes, self._as_levels(distinct)

    def all_differ(self, rows: Rows) -> bool:
        """Return True if it holds numbers of which no two are equal."""
        if self.values is None:
            return False
        values = self.values[rows]
        # a few rows tell most columns of whole numbers, without looking at all of them
        return bool(pd.Index(values[:1000]).is_unique and pd.Index(values).is_unique)

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


def understand(
    name: str,
    series: pd.Series,
    label_rows: Labels,
    texts: TextReading | None = None,
) -> Column:
    """Return a pandas column as a Column.

    Raises UnusableColumnError for kinds that hold neither numbers nor categories.
    """
    dtype = series.dtype
    if dtype == np.float16:  # which pandas cannot index
        series = series.astype(np.float64)
        dtype = series.dtype
    if isinstance(dtype, np.dtype) and dtype.kind in "fiu":
        return Column(name, "number", series.to_numpy(), None, (), label_rows)
    plain = Column(name, "number", None, None, (), label_rows)
    if isinstance(dtype, pd.CategoricalDtype):
        return _from_categorical(plain, series)
    if pd.api.types.is_bool_dtype(dtype):
        flags = series.array
        missing = np.asarray(pd.isna(flags))
        codes = np.where(missing, -1, np.asarray(series.fillna(False), dtype=np.int64))
        return replace(plain, kind="yes/no", coded=codes, levels=(False, True))
    if pd.api.types.is_complex_dtype(dtype):
        raise UnusableColumnError(
            f"column {name!r} holds complex numbers; take their real or absolute part", column=name
        )
    if pd.api.types.is_integer_dtype(dtype) and not series.isna().any():
        return replace(plain, values=series.to_numpy(dtype=f"{dtype.kind}8"))
    if pd.api.types.is_numeric_dtype(dtype):
        return replace(plain, values=series.to_numpy(dtype=np.float64, na_value=np.nan))
    if isinstance(dtype, pd.PeriodDtype):
        return replace(_from_dates(plain, series.dt.to_timestamp()), note=PERIODS)
    if isinstance(dtype, pd.ArrowDtype):
        return understand(name, _from_arrow(series), label_rows, texts)
    if pd.api.types.is_datetime64_any_dtype(dtype):
        return _from_dates(plain, series)
    if pd.api.types.is_timedelta64_dtype(dtype):
        return replace(plain, values=in_days(series.to_numpy()), note=DURATIONS)
    return _from_objects(plain, series, texts or TextReading())


def _from_arrow(series: pd.Series) -> pd.Series:
    """Return a column of Arrow's own types as one of pandas': its dates, durations, texts and
    objects."""
    import pyarrow as pa

    return pa.chunked_array(pa.array(series.array)).to_pandas(date_as_object=False)


def _from_categorical(plain: Column, series: pd.Series) -> Column:
    """Return a category in its own order; levels that read the same once trimmed are one, said."""
    given = series.cat.categories.tolist()
    codes = series.cat.codes.to_numpy(np.int64)
    texts = [level_text(level) for level in given]
    bare = [text.strip() for text in texts]
    if bare == texts and len(set(texts)) == len(texts) and all(texts):
        return replace(plain, kind="category", coded=codes, levels=tuple(given))
    first = {text: given[bare.index(text)] for text in dict.fromkeys(bare) if text}
    place = {text: i for i, text in enumerate(first)}
    levels = tuple(v.strip() if isinstance(v, str) else v for v in first.values())
    lookup = np.array([*(place.get(text, -1) for text in bare), -1])
    remarks = _joined_levels([repr(level) for level in given], bare)
    return replace(plain, kind="category", coded=lookup[codes], levels=levels, remarks=remarks)


def _joined_levels(shown: Sequence[str], bare: Sequence[str]) -> tuple[str, ...]:
    """Return what is said of levels that were trimmed into one."""
    joined = [
        " and ".join(s for s, b in zip(shown, bare) if b == text)
        for text in dict.fromkeys(bare)
        if bare.count(text) > 1
    ]
    if joined:
        return (f"{listed(joined, 3)} are read as one level",)
    return ()


def _from_dates(plain: Column, series: pd.Series) -> Column:
    """Return dates, with the wall clock's time where they have a time zone."""
    if getattr(series.dtype, "tz", None) is not None:
        series = series.dt.tz_localize(None)
    return replace(plain, kind="date", values=in_days(series.to_numpy()))


def _from_date_objects(plain: Column, codes: np.ndarray, uniques: list[Any]) -> Column:
    """Return dates and times of Python; of several time zones all are read in universal time."""
    zones = {getattr(u, "tzinfo", None) for u in uniques}
    note = None
    if len(zones) > 1:
        note = UNIVERSAL
        uniques = [
            u.astimezone(datetime.UTC) if getattr(u, "tzinfo", None) is not None else u
            for u in uniques
        ]
    bare = [u.replace(tzinfo=None) if isinstance(u, datetime.datetime) else u for u in uniques]
    stamps = np.array(bare, dtype="datetime64[us]")
    return replace(plain, kind="date", values=np.append(in_days(stamps), np.nan)[codes], note=note)


def _from_objects(plain: Column, series: pd.Series, how: TextReading) -> Column:
    try:
        text = isinstance(series.dtype, pd.StringDtype)  # then no object need be made of each cell
        codes, distinct = pd.factorize(
            series if text else series.to_numpy(dtype=object, na_value=None)
        )
    except TypeError:
        raise UnusableColumnError(
            f"column {plain.name!r} holds values of a kind that is neither number nor text "
            f"(first: {type(series.iloc[0]).__name__})",
            column=plain.name,
        ) from None
    uniques = list(distinct)
    if (odd := next((u for u in uniques if _is_nested(u)), None)) is not None:
        raise UnusableColumnError(
            f"column {plain.name!r} holds values of type {type(odd).__name__}, neither numbers nor "
            "text; write the parts you need into columns of their own",
            column=plain.name,
        )
    if uniques and all(isinstance(u, (bool, np.bool_)) for u in uniques):
        lookup = np.array([int(bool(u)) for u in uniques] + [-1])
        return replace(plain, kind="yes/no", coded=lookup[codes], levels=(False, True))
    if uniques and not any(isinstance(u, str) for u in uniques):
        if all(isinstance(u, datetime.date) for u in uniques):
            return _from_date_objects(plain, codes, uniques)
        if all(isinstance(u, pd.Period) for u in uniques):
            starts = [u.to_timestamp().to_pydatetime() for u in uniques]
            return replace(_from_date_objects(plain, codes, starts), note=PERIODS)
        if all(isinstance(u, datetime.timedelta) for u in uniques):
            days = np.array([u.total_seconds() / 86400 for u in uniques] + [np.nan])
            return replace(plain, values=days[codes], note=DURATIONS)
        try:
            values = np.array([float(u) for u in uniques] + [np.nan])
            return replace(plain, values=values[codes])
        except OverflowError:
            raise UnusableColumnError(
                f"column {plain.name!r} holds a number too large to compute with",
                column=plain.name,
            ) from None
        except (TypeError, ValueError):
            pass
    return _from_texts(plain, codes, [level_text(u) for u in uniques], how)


def _is_nested(value: Any) -> bool:
    return isinstance(value, (list, dict, set, tuple, np.ndarray, bytes))


def _from_texts(plain: Column, codes: np.ndarray, texts: list[str], how: TextReading) -> Column:
    """Return text cells: numbers or dates where every one can be read as such, yes/no, else a
    category."""
    bare = [t.strip() for t in texts]
    remarks: tuple[str, ...] = ()
    if bare != texts or not all(bare) or len(set(texts)) < len(texts):
        kept = list(dict.fromkeys(t for t in bare if t))
        where = {t: i for i, t in enumerate(kept)}
        codes = np.array([where.get(t, -1) for t in bare] + [-1])[codes]
        filled = [(repr(t), b) for t, b in zip(texts, bare) if b]
        remarks = _joined_levels([t for t, _ in filled], [b for _, b in filled])
        texts = kept
    if not texts:
        return replace(plain, values=np.full(len(codes), np.nan))
    trouble, meant, notes_made = None, "numbers", None
    stray: frozenset[str] = frozenset()
    if not how.as_levels:
        marked = any("," in text or "." in text for text in texts)
        if how.marks is not None and marked:
            marks = how.marks()
        else:
            marks = None
        reading = read_numbers(texts, marks)
        if reading.trouble is None and not reading.unreadable:
            return replace(
                plain, values=np.append(reading.values, np.nan)[codes], note=reading.note
            )
        dates = read_dates(texts)
        if dates is not None and dates.stamps is not None:
            values = np.append(in_days(dates.stamps), np.nan)[codes]
            return replace(plain, kind="date", values=values, note=dates.note)
        notes_made = reading.note
        if dates is not None:
            trouble, meant = dates.trouble, "dates"
        elif reading.mostly_numbers:
            trouble = reading.trouble or _stray_cells(texts, reading)
        if reading.numbers:
            stray = frozenset(texts[i] for i in reading.unreadable)
    rank, levels = _in_order(texts)
    yes_no = len(levels) == 2 and {t.casefold() for t in levels} in YES_NO
    if yes_no and levels[0].casefold() > levels[1].casefold():  # "Yes" stands before "no"
        rank, levels = 1 - rank, levels[::-1]
    return replace(
        plain,
        kind="yes/no" if yes_no else "category",
        coded=np.append(rank, -1)[codes],
        levels=levels,
        note=notes_made,
        remarks=remarks + alike_but_for_case(levels),
        trouble=trouble,
        meant=meant,
        text_kind=True,
        stray=stray,
    )


def _stray_cells(texts: Sequence[str], reading: Reading) -> str:
    """Say which texts of a column of numbers are none."""
    shown = listed([repr(texts[i]) for i in reading.unreadable], 3)
    if len(reading.unreadable) == 1:
        verb = "is"
    else:
        verb = "are"
    return f"most cells are numbers, but {shown} {verb} not"


def alike_but_for_case(levels: Sequence[str]) -> tuple[str, ...]:
    """Return a remark on levels that differ by capital letters or by spaces within alone."""
    pairs = [" and ".join(map(repr, group)) for group in alike_levels(levels)]
    if not pairs:
        return ()
    return (f"{listed(pairs, 3)} are different levels, alike but for case or spaces",)


def alike_levels(levels: Sequence[str]) -> list[list[str]]:
    """Return the levels that differ by capital letters or by spaces within alone, in groups."""
    alike: dict[str, list[str]] = {}
    for level in levels:
        alike.setdefault(" ".join(level.casefold().split()), []).append(level)
    return [group for group in alike.values() if len(group) > 1]


def _in_order(texts: list[str]) -> tuple[np.ndarray, tuple[str, ...]]:
    """Return each text's place, and the texts in order: numeric when all are, else by code
    point."""
    order = sorted(range(len(texts)), key=lambda i: texts[i])
    rank = np.empty(len(texts), dtype=np.int64)
    rank[order] = np.arange(len(texts))
    return rank, tuple(texts[i] for i in order)
