"""Reading files: their kind, how they are written, and clear words when they are wrong."""

from __future__ import annotations

import os
import stat
import sys
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path
from typing import IO, Any

import numpy as np
import pandas as pd

from joinery.data.column_kinds import understand
from joinery.data.columns import NOTES, UNITS, TextReading
from joinery.data.contents import Content, content_of, content_of_open, is_open_file
from joinery.data.delimited import EVERY_DIGIT, Settled, read_delimited, without_marks
from joinery.data.json_tables import read_json, read_json_lines
from joinery.data.marks import DECIMAL, POINT, Marks, settled, texts_of
from joinery.data.sheets import SHEETS, read_sheet
from joinery.data.sources.opening import is_database, no_query, of_table, path_text
from joinery.data.written_dates import DATES, written_dates
from joinery.support import advice
from joinery.support.arguments import checked
from joinery.support.errors import (
    CallError,
    DataError,
    EmptyTableError,
    FileFormatError,
    JoineryError,
    listed,
    nearest,
    one_of,
)

SAMPLES = (
    "jars",
    "yields",
    "winter",
    "winter_outcome",
    "bee_samples",
    "hive_scale",
    "prices",
    "queens",
)


def sample_names() -> list[str]:
    """Return the names of the sample tables.

    >>> sample_names()[:2]
    ['jars', 'yields']
    """
    return list(SAMPLES)


@checked
def sample_data(name: str = "yields") -> pd.DataFrame:
    """Return a made-up table of the beekeepers' cooperative.

    Parameters: ``name``, one of ``sample_names()``. Returns a DataFrame. Raises CallError for
    another name.

    >>> sample_data("jars").shape
    (14, 2)
    """
    if name not in SAMPLES:
        near = nearest(str(name), SAMPLES)
        hint = f"; did you mean {near!r}?" if near else "."
        raise CallError(
            f"no sample table {name!r}{hint} There are {', '.join(SAMPLES)}",
            argument="name",
            known=SAMPLES,
        )
    with files("joinery.data.samples").joinpath(f"{name}.csv").open("rb") as file:
        frame = pd.read_csv(file, **EVERY_DIGIT)
    if "date" in frame.columns and (days := written_dates(frame["date"], None)) is not None:
        frame["date"] = days[0]
    return frame


@dataclass(frozen=True)
class Given:
    """Facts about a file that a caller settles instead of having them guessed."""

    sheet: str | None
    dates: str | None
    text: Settled


@checked
def read(
    path: str | os.PathLike[str] | IO[str] | IO[bytes],
    *,
    table: str | None = None,
    query: str | None = None,
    empty: str | Sequence[str] = (),
    not_empty: str | Sequence[str] = (),
    decimal: str | None = None,
    delimiter: str | None = None,
    encoding: str | None = None,
    header: int | None = None,
    footer: int | None = None,
    dates: str | None = None,
) -> pd.DataFrame:
    """Return a file as a DataFrame, its way of writing found out.

    Parameters
    ----------
    path: to .csv .tsv .txt (delimiter found out) .json .jsonl .parquet .feather .xlsx .ods, "-"
        for standard input; any of them compressed (.gz .bz2 .xz .zst .zip); an open file; or the
        URL of a database (``"sqlite:///file"``, ``"postgresql://…"``, ``"duckdb:///file"``) or a
        connection of SQLAlchemy, which is only read.
    table: the sheet of a spreadsheet, or the table of a database.
    query: of a database: what to select, in place of a whole table.
    empty: marks that stand for a missing cell (``"?"``, ``"n/a"``), beside those everybody uses.
    not_empty: marks that everybody uses for a missing cell, and that are values here (``"None"``).
    decimal: the decimal mark, ``"."`` or ``","``, of every column.
    delimiter: what separates columns: one character.
    encoding: of a text file.
    header: the line of the header, from 1.
    footer: how many lines at the end are not rows.
    dates: ``"day first"`` or ``"month first"``.

    Returns a DataFrame; what was guessed stands in ``attrs["joinery_notes"]``. Raises DataError
    when there is no such file, EmptyTableError without rows, FileFormatError when it is no such
    file as its ending says, CallError for what was settled wrongly.

    >>> import tempfile, pathlib
    >>> file = pathlib.Path(tempfile.mkdtemp()) / "stall.csv"
    >>> _ = file.write_text("hours;price\\n3;2,50\\n4;3,10\\n")
    >>> read(file)["price"].tolist()
    [2.5, 3.1]
    """
    _check_whole(header=header, footer=footer)
    text = Settled(delimiter, encoding, header, footer, _texts(empty), _texts(not_empty), decimal)
    return _read(path, Given(table, dates, text), query)


def read_like(
    path: str | os.PathLike[str],
    usual: str,
    levels: frozenset[str],
    *,
    empty: str | Sequence[str] = (),
    not_empty: str | Sequence[str] = (),
    decimal: str | None = None,
    dates: str | None = None,
) -> pd.DataFrame:
    """Return a file of new rows, read as the table was that a model was fitted to.

    Parameters: the ``usual`` decimal mark, of a file none of whose cells speaks for one; columns
    whose texts are ``levels``, whatever they look like; the others as in ``read``."""
    text = Settled(
        empty=_texts(empty),
        not_empty=_texts(not_empty),
        decimal=decimal,
        usual=usual,
        levels=levels,
    )
    return _read(path, Given(None, dates, text), None)


def _read(path: Any, given: Given, query: str | None) -> pd.DataFrame:
    decimal, dates = given.text.decimal, given.dates
    if decimal is not None:
        one_of("decimal", decimal, (".", ","))
    if dates is not None:
        one_of("dates", dates, DATES)
    if is_database(path):
        frame = _of_database(path, query or of_table(given.sheet))
        return _tidy(frame, [], "what the query selects", given)
    if query is not None:
        words = f"{advice.option('query')} is for the URL of a database"
        raise CallError(words, argument="query")
    if is_open_file(path):
        content = content_of_open(path)
        return _tidy(*_read_content(content, given), content.name, given)
    where = path_text(path)
    if where == "-":
        if sys.stdin is None or sys.stdin.closed:
            raise DataError("standard input is closed, so there is nothing to read from it")
        content = Content("standard input", "", sys.stdin.buffer.read())
        return _tidy(*_read_content(content, given), content.name, given)
    try:
        frame, notes = _read_file(Path(where), given)
    except JoineryError:
        raise
    except OSError as reason:
        raise DataError(_unreadable(where, reason)) from None
    except ValueError as reason:
        raise DataError(f"{where!r} is not a path: {reason}") from None
    return _tidy(frame, notes, where, given)


def _of_database(where: Any, query: str | None) -> pd.DataFrame:
    from joinery.data.sources.database import read_query

    if query is None:
        raise no_query(where)
    return read_query(where, query)


def _texts(given: str | Sequence[str]) -> tuple[str, ...]:
    if isinstance(given, str):
        return (given,)
    return tuple(given)


def _check_whole(**numbers: Any) -> None:
    """Raise CallError for a number of lines that is not whole and above zero."""
    for name, number in numbers.items():
        if number is None:
            continue
        if name == "header":
            least = 1
        else:
            least = 0
        if isinstance(number, bool) or not isinstance(number, int) or number < least:
            raise CallError(
                f"{name}={number!r} is not a number of lines from {least} up", argument=name
            )


def _unreadable(where: str, reason: OSError) -> str:
    """Return why a file cannot be read, in words."""
    if " given " in where:
        return f"no such file: {where[:60]!r}…; is that the model? The data comes before it"
    return f"cannot read {where[:200]!r}: {(reason.strerror or str(reason)).lower()}"


def _read_file(file: Path, given: Given) -> tuple[pd.DataFrame, list[str]]:
    if not file.exists():
        raise DataError(_no_such_file(file))
    if file.is_dir():
        raise FileFormatError(f"{file} is a folder, not a table", path=str(file))
    if stat.S_ISREG(file.stat().st_mode):
        file.open("rb").close()  # whether it may be read at all
    return _read_content(content_of(file), given)


def _read_content(content: Content, given: Given) -> tuple[pd.DataFrame, list[str]]:
    if content.ending in SHEETS or content.ending in _READERS:
        return _read_whole(content, given)
    return read_delimited(content.read(), content.name, given.text)


def _read_whole(content: Content, given: Given) -> tuple[pd.DataFrame, list[str]]:
    """Return a file of a kind that a library reads. Raises FileFormatError when it cannot."""
    ending, file = content.ending, content.name
    try:
        if ending in SHEETS:
            return read_sheet(content, given.sheet, given.text)
        frame = _READERS[ending](content)
    except ImportError as missing:
        raise DataError(
            f"reading {ending} needs {missing.name}; in the checkout: "
            'python -m pip install ".[spreadsheet]"'
        ) from None
    except (JoineryError, MemoryError):
        raise
    except Exception as reason:
        first = str(reason).strip().split("\n")[0]
        raise FileFormatError(
            f"{file} cannot be read as {ending}: {first}", path=file, reason=first
        ) from None
    if given.text.empty:
        frame = without_marks(frame, given.text.empty)
    return frame, []


def _no_such_file(file: Path) -> str:
    if file.is_symlink():
        return f"{str(file)!r} is a link to {os.readlink(file)!r}, which is not there"
    if " given " in str(file):
        return f"no such file: {str(file)[:60]!r}; is that the model? The data comes before it"
    near = None
    if file.parent.is_dir():
        near = nearest(file.name, [f.name for f in file.parent.iterdir()])
    if near:
        hint = f"; did you mean {str(file.parent / near)!r}?"
    else:
        hint = f" (looked in {file.parent.resolve()})"
    return f"no such file: {str(file)!r}{hint}"


_READERS: dict[str, Callable[[Content], pd.DataFrame]] = {
    ".parquet": lambda content: pd.read_parquet(content.opened()),
    ".feather": lambda content: pd.read_feather(content.opened()),
    ".json": lambda content: read_json(content.read(), content.name),
    ".jsonl": lambda content: read_json_lines(content.read(), content.name),
}


def _check_header(names: Sequence[Any], where: str) -> None:
    texts = [str(n) for n in names]
    if len(set(texts)) < len(texts):
        twice = sorted({n for n in texts if n and texts.count(n) > 1})
    else:
        twice = []
    if twice:
        places = [i + 1 for i, n in enumerate(texts) if n == twice[0]]
        raise DataError(
            f"{where}: the header {twice[0]!r} stands twice (columns {listed(places)}); "
            "give each column a name of its own"
        )


def _tidy(frame: pd.DataFrame, notes: list[str], where: str, given: Given) -> pd.DataFrame:
    """Take off empty rows and nameless empty columns; read numbers and dates written as text.

    What was done is noted.
    """
    _check_header(list(frame.columns), where)
    attributes = dict(frame.attrs)
    notes = [f"as read: {'; '.join(notes)}"] if notes else []
    notes += attributes.get(NOTES, ())
    frame = _named(frame)
    if frame.isna().all(axis=1).any():
        frame = frame.dropna(how="all").reset_index(drop=True)
    if not len(frame):
        columns = [str(c) for c in frame.columns]
        raise EmptyTableError(
            f"{where} has headers ({listed(columns, 12)}) but no rows", columns=columns
        )
    texts = [
        c
        for c in frame.columns
        if frame[c].dtype == object or pd.api.types.is_string_dtype(frame[c].dtype)
    ]
    marks = attributes.get(DECIMAL)
    if marks is None:
        # one question of the whole table, before any of its columns becomes numbers
        marks = settled(texts_of(frame), given.text.usual or POINT)
    if given.text.decimal is not None:
        marks = Marks(given.text.decimal, certain=True)
    for name in texts:
        if str(name) not in given.text.levels:
            notes += _read_texts(frame, name, given, marks)
    frame.attrs[DECIMAL] = marks
    frame.attrs[NOTES] = tuple(notes)
    return frame


def _named(frame: pd.DataFrame) -> pd.DataFrame:
    """Give every column a name.

    Of those without one an empty one goes, a first one that counts the rows is their label, and any
    other is called by its place."""
    names = [str(c) for c in frame.columns]
    nameless = [i for i, c in enumerate(names) if c.startswith("Unnamed:") or not c.strip()]
    if not nameless:
        return frame
    # labels that a table was written with, not a predictor
    if nameless[0] == 0 and _counts_rows(frame.iloc[:, 0]):
        labels = pd.Index(frame.iloc[:, 0].astype(int))
        frame = frame.iloc[:, 1:].set_axis(labels.rename(None), axis="index")
        return _named(frame)
    places = {i: f"column {i + 1}" for i in nameless}
    kept = [i for i in range(len(names)) if i not in places or not frame.iloc[:, i].isna().all()]
    out = frame.iloc[:, kept]
    return out.set_axis([places.get(i, frame.columns[i]) for i in kept], axis="columns")


def _counts_rows(column: pd.Series) -> bool:
    """Return True for 0, 1, 2, … or 1, 2, 3, …: labels that a table was written with."""
    if column.dtype.kind not in "iu" or not len(column):
        return False
    first = int(column.iloc[0])
    return first in (0, 1) and bool((column.to_numpy() == np.arange(len(column)) + first).all())


def _read_texts(frame: pd.DataFrame, name: Any, given: Given, marks: Marks) -> list[str]:
    """Read a column of text in place as dates or numbers where it holds nothing else; notes."""
    try:
        if (days := written_dates(frame[name], given.dates)) is not None:
            frame[name], note = days
            if note:
                return [f"{name}: {note}"]
            return []
        column = understand(
            str(name), frame[name], lambda at: at.tolist(), TextReading(lambda: marks)
        )
    except (DataError, TypeError):
        return []  # a column of another kind: it is refused, with its name, where it is used
    if column.kind == "number" and column.values is not None and frame[name].notna().any():
        frame[name] = column.values
        if column.unit:
            frame.attrs[UNITS] = frame.attrs.get(UNITS, {}) | {str(name): column.unit}
        if column.note:
            return [f"{name}: {column.note}"]
        return []
    if column.trouble:
        return [f"{name}: {column.trouble}"]
    return []
