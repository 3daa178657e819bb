"""Delimited text: its encoding, its delimiter, and where the table on it begins and ends."""

from __future__ import annotations

import csv
import io
import re
import sys
import warnings
from collections import Counter
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from joinery.data.columns import NOTES, column_name
from joinery.data.encodings import decoded
from joinery.data.layout import LOOKED_AT, Layout, layout
from joinery.data.marks import COMMA, DECIMAL, POINT, Marks, settled, texts_of, written
from joinery.data.not_rows import (
    MISSING,
    headers_left_off,
    is_header,
    is_rule,
    rules_left_off,
    units_under,
)
from joinery.support import advice
from joinery.support.errors import CallError, EmptyTableError, FileFormatError

# before pandas 3 the default reader may miss a number's last digit
EVERY_DIGIT: dict[str, Any] = (
    {} if int(pd.__version__.split(".")[0]) >= 3 else {"float_precision": "round_trip"}
)
SPACES = "spaces"
DELIMITERS = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "bars"}
GLANCE_MARKS = 200  # rows in which most tables of numbers show their decimal mark
_NUMBER = re.compile(r"[-+]?\d+([.,]\d+)?")


@dataclass(frozen=True)
class Settled:
    """Facts about a text file that a caller settles instead of having them guessed."""

    delimiter: str | None = None
    encoding: str | None = None
    header: int | None = None
    footer: int | None = None
    empty: tuple[str, ...] = ()  # marks of a missing cell beside those everybody uses
    not_empty: tuple[str, ...] = ()  # marks among those that are values here
    decimal: str | None = None
    usual: str | None = None  # the decimal mark where no cell speaks for one
    levels: frozenset[str] = frozenset()  # columns whose cells stay texts

    @property
    def missing(self) -> list[str]:
        """The texts that stand for a missing cell."""
        return [mark for mark in (*MISSING, *self.empty) if mark not in self.not_empty]

    @property
    def usual_marks(self) -> list[str]:
        """Those of them that the caller has not named."""
        return [mark for mark in self.missing if mark and mark not in self.empty]

    def notes(self, arrangement: Layout) -> list[str]:
        """Return what is said of a layout, but for what the caller settled."""
        words = arrangement.notes
        settled = [self.header is not None] * bool(arrangement.above)
        settled += [self.footer is not None] * bool(arrangement.below)
        return [note for note, member in zip(words, settled, strict=True) if not member]


def read_delimited(raw: bytes, where: str, given: Settled) -> tuple[pd.DataFrame, list[str]]:
    """Return a table of delimited text, and notes on what was found out.

    Raises EmptyTableError, FileFormatError, or CallError for what the caller settled wrongly.
    """
    text, notes = decoded(raw, where, given.encoding)
    text = text.replace("\r\n", "\n").replace("\r", "\n")
    if not text.strip():
        raise EmptyTableError(f"{where} is empty")
    with _long_cells():
        delimiter = _checked_delimiter(given.delimiter) or _delimiter(text)
        table = _cut_out(text, delimiter, given, where)
    names = [name.strip() for name in table.header]
    cells = _Cells(table.text, delimiter, where, given)
    frame = cells.frame()
    if delimiter != "," and given.delimiter is None and not where.endswith((".tsv", ".tab")):
        notes.append(f"columns are separated by {DELIMITERS.get(delimiter, SPACES)}")
    marks = _marked(frame, cells, given)
    frame.columns = pd.Index(names + [column_name(c) for c in frame.columns[len(names) :]])
    frame.attrs[NOTES] = tuple(cells.taken_as_missing(frame))
    frame.attrs[DECIMAL] = marks
    return frame, notes + table.notes


@contextmanager
def _long_cells() -> Iterator[None]:
    """Let cells be longer than the 131,072 characters that the module for CSV allows at first."""
    before = csv.field_size_limit(min(sys.maxsize, 2**31 - 1))
    try:
        yield
    finally:
        csv.field_size_limit(before)


@dataclass(frozen=True)
class _Cells:
    """The cells of a table of delimited text, below its header."""

    text: str
    delimiter: str
    where: str
    given: Settled

    def frame(self) -> pd.DataFrame:
        """Return them as pandas reads them; whole numbers that begin with zeros stay text."""
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("error", pd.errors.ParserWarning)
                frame = self._read()
        except (ValueError, OverflowError, pd.errors.ParserWarning) as reason:
            first = str(reason).removeprefix("Error tokenizing data. C error: ").strip()
            if self.delimiter == " ":
                spaces = SPACES
            else:
                spaces = repr(self.delimiter)
            kind = DELIMITERS.get(self.delimiter, spaces)
            raise FileFormatError(
                f"{self.where} is not a table of {kind}: {first}", path=self.where
            ) from None
        levels = [
            i for i, name in enumerate(frame.columns) if str(name).strip() in self.given.levels
        ]
        full = [i for i, kind in enumerate(frame.dtypes) if kind.kind in "iu"]
        if full and re.search(r"(?<![\d.,])0\d\d", self.text):
            zeros = full
        else:
            zeros = []
        for place, texts in self.texts(sorted({*levels, *zeros})).items():
            if place in levels or texts.str.strip().str.fullmatch(r"[-+]?0\d{2,}").any():
                frame.isetitem(place, texts)
        return frame

    def texts(self, places: Sequence[int], rows: int | None = None) -> dict[int, pd.Series]:
        """Return some columns, the first rows alone or all of them, as the texts they are."""
        if not len(places):
            return {}
        again = self._read(usecols=list(places), dtype=str, nrows=rows)
        return {place: again.iloc[:, i] for i, place in enumerate(places)}

    def taken_as_missing(self, frame: pd.DataFrame) -> list[str]:
        """Say which marks were taken for missing cells, and how often."""
        places = [i for i in range(frame.shape[1]) if frame.iloc[:, i].isna().any()]
        if not places or not any(mark in self.text for mark in self.given.usual_marks):
            return []
        again = self._read(usecols=places, dtype=str, na_values=[], na_filter=False)
        texts = {frame.columns[place]: again.iloc[:, i] for i, place in enumerate(places)}
        return taken_as_missing(texts, self.given)

    def _read(self, **more: Any) -> pd.DataFrame:
        options: dict[str, Any] = {
            "sep": r"\s+" if self.delimiter == " " else self.delimiter,
            "skipinitialspace": True,
            "skip_blank_lines": True,
            "index_col": False,
            "keep_default_na": False,
            "na_values": self.given.missing,
            "low_memory": False,  # chunks of a long file may not have kinds of their own
        }
        return pd.read_csv(io.StringIO(self.text), **options | more, **EVERY_DIGIT)


def _marked(frame: pd.DataFrame, cells: _Cells, given: Settled) -> Marks:
    """Return the marks of a table, whose columns of numbers with commas become texts again.

    pandas has read every point as a decimal one, so that the cells must be looked at as they are
    written wherever the table may have decimal commas."""
    floats = [i for i, kind in enumerate(frame.dtypes) if kind.kind == "f"]
    if given.decimal is not None:
        marks = Marks(given.decimal, certain=True)
    else:
        usual = given.usual or (COMMA if cells.delimiter == ";" else POINT)
        texts = list(texts_of(frame))
        marks = settled([*texts, *_distinct(cells.texts(floats, GLANCE_MARKS))], usual)
        in_doubt = marks.decimal == COMMA or not marks.certain
        if not marks.certain and usual == POINT:
            floats = [i for i in floats if _three_digits(frame.iloc[:, i].to_numpy())]
        if in_doubt and floats:
            marks = settled([*texts, *_distinct(cells.texts(floats))], usual)
    if marks == Marks(POINT, certain=True):
        return marks
    for place, texts in cells.texts(floats).items():
        if marks.decimal == COMMA or any(written(text).grouped for text in texts.dropna().unique()):
            frame.isetitem(place, texts)
    return marks


def taken_as_missing(columns: Mapping[str, pd.Series], given: Settled) -> list[str]:
    """Say of each column which marks were taken for missing cells, and how often."""
    marks, remarks = set(given.usual_marks), []
    for name, cells in columns.items():
        texts = cells[[isinstance(cell, str) for cell in cells]].str.strip()
        result = texts[texts.isin(marks)].value_counts()
        if len(result):
            shown = " and ".join(f"{mark!r} in {n:,}" for mark, n in result.items())
            if result.sum() == 1:
                unit = "cell"
            else:
                unit = "cells"
            keep = advice.reading("not_empty", str(result.index[0]))
            remarks.append(f"{name}: missing by its mark, {shown} {unit}; {keep} makes it a value")
    return remarks


def without_marks(frame: pd.DataFrame, marks: Collection[str]) -> pd.DataFrame:
    """Return a frame whose texts that are marks of a missing cell are missing."""
    collected = set(marks)
    return frame.map(
        lambda cell: None if isinstance(cell, str) and cell.strip() in collected else cell
    )


def _distinct(columns: dict[int, pd.Series]) -> list[list[str]]:
    return [texts.dropna().unique().tolist() for texts in columns.values()]


def _three_digits(values: np.ndarray) -> bool:
    """Return True if numbers may all have been written with three digits after a point."""
    known = np.abs(values[np.isfinite(values)])
    thousands = known * 1000
    grouped = (known >= 1) & (known < 1000) & (np.abs(thousands - np.rint(thousands)) < 1e-6)
    return bool(len(known) and (grouped | (known % 1 == 0)).all())


# ------------------------------------------------------------------ where the table stands


@dataclass(frozen=True)
class _CutOut:
    """The text of a table alone, its header's cells, and notes on what was left off."""

    text: str
    header: list[str]
    notes: list[str]


def _records(text: str, delimiter: str) -> list[str]:
    """Return the text of each record: a line, or several where a quoted cell holds newlines."""
    if _plain_lines(text):
        lines = text.splitlines(keepends=True)
    else:
        lines = _lines(text)
    if '"' not in text or not any(line.count('"') % 2 for line in lines):
        return lines
    out, start = [], 0
    reader = csv.reader(lines, delimiter=delimiter)
    for _ in reader:
        out.append("".join(lines[start : reader.line_num]))
        start = reader.line_num
    return out


def _plain_lines(text: str) -> bool:
    return text.isascii() and not any(c in text for c in "\x0b\x0c\x1c\x1d\x1e")


def _lines(text: str) -> list[str]:
    """Return lines that end at newlines alone: other separators of lines may stand in cells."""
    return [line + "\n" for line in text.split("\n")[:-1]] + [text.rsplit("\n", 1)[-1]]


def _cells(record: str, delimiter: str) -> list[str]:
    if delimiter == " ":
        return record.split()
    return next(csv.reader(io.StringIO(record), delimiter=delimiter, skipinitialspace=True), [])


def _cut_out(text: str, delimiter: str, given: Settled, where: str) -> _CutOut:
    records, rules = _without_rules(_records(text, delimiter), text)
    filled = [i for i, record in enumerate(records) if record.strip()]
    first, last = filled[:LOOKED_AT], filled[-LOOKED_AT:]
    head, tail = ([_cells(records[i], delimiter) for i in places] for places in (first, last))
    arrangement = layout(head, tail, complete=len(filled) <= LOOKED_AT)
    if given.header is None:
        top = first[arrangement.header]
    else:
        top = given.header - 1
    if not 0 <= top < len(records):
        raise CallError(
            f"{advice.option('header', given.header)} is not a line of the file, which has "
            f"{len(records)}",
            argument="header",
        )
    below = [i for i in filled if i > top]
    if given.footer is None:
        off = arrangement.off
    else:
        off = given.footer
    if not 0 <= off < max(len(below), 1):
        raise CallError(
            f"{advice.option('footer', off)} leaves no rows; lines below the header: {len(below)}",
            argument="footer",
        )
    if off:
        end = below[-off]
    else:
        end = len(records)
    header = _cells(records[top], delimiter)
    notes = given.notes(arrangement)
    if rules:
        notes.append(rules_left_off(rules))
    no_rows, more = _no_rows(records, header, top, below, delimiter, given)
    notes += more
    if given.header is None:
        notes += _about_header(header, head[: arrangement.header], where)
    _check_first_row(header, _cells(records[below[0]], delimiter) if below else [], where)
    if top == 0 and end == len(records) and not rules and not no_rows:
        return _CutOut(text, header, notes)
    rows = [records[i] for i in range(top, end) if i not in no_rows]
    return _CutOut("".join(rows), header, notes)


def _without_rules(records: list[str], text: str) -> tuple[list[str], int]:
    """Return the records without lines of dashes, and how many there were."""
    if "--" not in text and "==" not in text:
        return records, 0
    rows = [record for record in records if not is_rule(record)]
    return rows, len(records) - len(rows)


def _no_rows(
    records: list[str],
    header: list[str],
    top: int,
    below: list[int],
    delimiter: str,
    given: Settled,
) -> tuple[set[int], list[str]]:
    """Return the places of lines below the header that are no rows, with a remark on each kind.

    ``top`` is the place of the ``header``, ``below`` those of lines under it that are not empty."""
    if not is_header(header):
        return set(), []
    line, notes = records[top].strip(), []
    again: set[int] = set()
    if records.count(records[top]) > 1 or records[-1].strip() == line:
        again = {i for i in below if records[i].strip() == line}
    if again:
        notes.append(headers_left_off(len(again)))
    left = [i for i in below if i not in again][:LOOKED_AT]
    rows = [_cells(records[i], delimiter) for i in left]
    units = units_under(header, rows[0], rows[1:], given.missing) if rows else ""
    if units:
        again.add(left[0])
        notes.append(units)
    return again, notes


def _about_header(header: list[str], above: list[list[str]], where: str) -> list[str]:
    """Return a remark on a header of numbers. Raises FileFormatError where an empty one stood above
    it."""
    names = [cell.strip() for cell in header if cell.strip()]
    numbers = [name for name in names if _NUMBER.fullmatch(name)]
    if above and len(above[-1]) > 1 and not any(c.strip() for c in above[-1]) and numbers:
        raise FileFormatError(
            f"{where}: the header line is empty; write the names of the columns into it, or give "
            f"{advice.option('header')} the line they stand in",
            path=where,
        )
    if names and len(numbers) == len(names):
        return [f"the names of the columns are numbers ({', '.join(numbers[:3])}): is it a row?"]
    return []


def _check_first_row(header: list[str], row: list[str], where: str) -> None:
    if len(row) > len(header) and any(cell.strip() for cell in row[len(header) :]):
        raise FileFormatError(
            f"{where}: the first row is of length {len(row)}, the header of {len(header)}; "
            "give every column a name",
            path=where,
        )


def _checked_delimiter(delimiter: str | None) -> str | None:
    if delimiter is None:
        return None
    typed = {"\\t": "\t", "tab": "\t", "space": " "}.get(delimiter, delimiter)
    if not isinstance(typed, str) or len(typed) != 1 or typed in '"\n\r':
        raise CallError(
            f"{advice.option('delimiter', delimiter)} is not one character; it is ',', ';', '|', "
            "a tab or a space",
            argument="delimiter",
        )
    return typed


def _delimiter(text: str) -> str:
    """Return the delimiter that cuts most of the first lines into the same number of columns."""
    lines = [line for line in text.split("\n", 50)[:50] if line.strip()]
    best, best_score = ",", (0.0, 0)
    for mark in DELIMITERS:
        counts = Counter(len(row) for row in csv.reader(lines, delimiter=mark))
        counts.pop(1, None)
        if counts:
            width = max(counts, key=lambda w: (counts[w], w))
            if (score := (counts[width] / len(lines), width)) > best_score:
                best, best_score = mark, score
    if not best_score[1]:
        widths = {len(line.split()) for line in lines}
        if len(widths) == 1 and widths.pop() > 1 and len(lines) > 1:
            return " "
    return best
