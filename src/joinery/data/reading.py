"""Reading files: their kind, how they are written, and clear words when they are wrong."""

from __future__ import annotations

import csv
import io
import os
import sys
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from joinery.data.columns import NOTES, column_name, understand
from joinery.data.layout import LOOKED_AT, Layout, layout
from joinery.data.written_dates import DATES, written_dates
from joinery.data.written_numbers import read_numbers
from joinery.errors import (
    CallError,
    DataError,
    EmptyTableError,
    FileFormatError,
    JoineryError,
    listed,
    nearest,
    one_of,
)

# before pandas 3 the default reader may miss a number's last digit
EVERY_DIGIT: dict[str, Any] = (
    {} if int(pd.__version__.split(".")[0]) >= 3 else {"float_precision": "round_trip"}
)
DELIMITERS = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "bars"}
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
    """The names of the sample tables.

    >>> sample_names()[:2]
    ['jars', 'yields']
    """
    return list(SAMPLES)


def sample_data(name: str = "yields") -> pd.DataFrame:
    """A made-up table of the beekeepers' cooperative.

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
        return pd.read_csv(file, **EVERY_DIGIT)


@dataclass(frozen=True)
class Given:
    """What a caller settles about a file instead of having it found out."""

    table: str | None = None
    decimal: str | None = None
    delimiter: str | None = None
    encoding: str | None = None
    header: int | None = None
    footer: int | None = None
    dates: str | None = None


def read(
    path: str | os.PathLike[str],
    *,
    table: str | None = None,
    decimal: str | None = None,
    delimiter: str | None = None,
    encoding: str | None = None,
    header: int | None = None,
    footer: int | None = None,
    dates: str | None = None,
) -> pd.DataFrame:
    """A file as a DataFrame, its way of writing found out.

    Parameters: ``path`` to .csv .tsv .txt (delimiter found out) .json .jsonl .parquet .feather
    .xlsx .ods, or "-" for standard input; ``table`` the sheet. Each guess can be settled:
    ``decimal`` "." or ","; ``delimiter``; ``encoding``; ``header`` the line of the header, from
    1; ``footer`` how many last lines are no rows; ``dates`` "day first" or "month first".
    Returns a DataFrame; what was guessed stands in ``attrs["joinery_notes"]``. Raises DataError
    when there is no such file, EmptyTableError without rows, FileFormatError when it is no such
    file as its ending says.

    >>> import tempfile, pathlib
    >>> file = pathlib.Path(tempfile.mkdtemp()) / "stall.csv"
    >>> _ = file.write_text("hours;price\\n3;2,50\\n4;3,10\\n")
    >>> read(file)["price"].tolist()
    [2.5, 3.1]
    """
    given = Given(table, decimal, delimiter, encoding, header, footer, dates)
    if decimal not in (None, ".", ","):
        raise CallError(
            f"decimal={decimal!r} is not known; it is '.' or ','",
            argument="decimal",
            known=(".", ","),
        )
    if dates is not None:
        one_of("dates", dates, DATES)
    where = os.fsdecode(path)
    if where == "-":
        return _read_text(sys.stdin.buffer.read(), "standard input", given)
    file = Path(where)
    if not file.exists():
        raise DataError(_no_such_file(file))
    ending = file.suffix.lower()
    if ending in SHEETS or ending in _READERS:
        frame, notes = _read_whole(file, ending, given)
        return _tidy(frame, where, given, notes)
    if file.is_dir():
        raise FileFormatError(f"{where} is a folder, not a table", path=where)
    return _read_text(file.read_bytes(), where, given)


def _read_whole(file: Path, ending: str, given: Given) -> tuple[pd.DataFrame, list[str]]:
    """A file of a kind that a library reads. Raises FileFormatError when it cannot."""
    try:
        return _sheet(file, given) if ending in SHEETS else (_READERS[ending](file), [])
    except ImportError as missing:
        raise DataError(
            f"reading {ending} needs {missing.name}; install joinery with its [spreadsheet] extra"
        ) from None
    except JoineryError:
        raise
    except Exception as reason:
        first = str(reason).strip().split("\n")[0]
        raise FileFormatError(
            f"{file} cannot be read as {ending}: {first}", path=str(file), reason=first
        ) from None


def _no_such_file(file: Path) -> str:
    near = None
    if file.parent.is_dir():
        near = nearest(file.name, [f.name for f in file.parent.iterdir()])
    hint = (
        f"; did you mean {str(file.parent / near)!r}?"
        if near
        else f" (looked in {file.parent.resolve()})"
    )
    return f"no such file: {str(file)!r}{hint}"


def _sheet(file: Path, given: Given) -> tuple[pd.DataFrame, list[str]]:
    """A sheet of a spreadsheet, wherever on it the table stands."""
    sheets = pd.read_excel(file, sheet_name=None, header=None, dtype=object)
    if given.table is not None and given.table not in sheets:
        raise CallError(
            f"no sheet {given.table!r} in {file}; its sheets are {listed(sheets)}", argument="table"
        )
    name = given.table or next((n for n, found in sheets.items() if len(found)), next(iter(sheets)))
    cells = sheets[name]
    notes = (
        [f"the sheet {name!r} of {len(sheets)}"] if len(sheets) > 1 and given.table is None else []
    )
    cells = cells.dropna(axis="columns", how="all").dropna(axis="index", how="all")
    if not len(cells):
        raise EmptyTableError(f"{file}: the sheet {name!r} is empty")
    rows = [
        ["" if pd.isna(c) else str(c) for c in row]
        for row in cells.head(LOOKED_AT).itertuples(index=False)
    ]
    last = [
        ["" if pd.isna(c) else str(c) for c in row]
        for row in cells.tail(LOOKED_AT).itertuples(index=False)
    ]
    found = layout(rows, last, len(cells) <= LOOKED_AT)
    top = (
        found.header
        if given.header is None
        else int(np.searchsorted(cells.index.to_numpy(), given.header - 1))
    )
    end = len(cells) - (len(found.below) if given.footer is None else given.footer)
    notes += [n for n, own in zip(found.notes, _settled(found, given)) if not own]
    names = ["" if pd.isna(c) else str(c).strip() for c in cells.iloc[top]]
    _check_header([n for n in names if n], str(file))
    frame = cells.iloc[top + 1 : end].set_axis(
        [n or f"Unnamed: {i}" for i, n in enumerate(names)], axis="columns"
    )
    return frame.reset_index(drop=True).infer_objects(), notes


def _settled(layout: Layout, given: Given) -> list[bool]:
    """For each of the layout's notes whether the caller settled the matter."""
    return [given.header is not None] * bool(layout.above) + [given.footer is not None] * bool(
        layout.below
    )


SHEETS = (".xlsx", ".ods")
_READERS: dict[str, Callable[[Path], pd.DataFrame]] = {
    ".parquet": pd.read_parquet,
    ".feather": pd.read_feather,
    ".json": lambda file: pd.DataFrame(pd.read_json(file)),
    ".jsonl": lambda file: pd.DataFrame(pd.read_json(file, lines=True)),
}


def _read_text(raw: bytes, where: str, given: Given) -> pd.DataFrame:
    """Delimited text: encoding, delimiter, and where the table begins and ends found out."""
    text, notes = _decoded(raw, where, given.encoding)
    if not text.strip():
        raise EmptyTableError(f"{where} is empty")
    delimiter = given.delimiter or _delimiter(text)
    text, header, layout_notes = _cut_out(text, delimiter, given)
    names = [name.strip() for name in header]
    _check_header(names, where)
    try:
        frame = pd.read_csv(
            io.StringIO(text),
            sep=delimiter,
            skipinitialspace=True,
            skip_blank_lines=True,
            index_col=False,
            **EVERY_DIGIT,
        )
    except (pd.errors.ParserError, ValueError) as reason:
        first = str(reason).removeprefix("Error tokenizing data. C error: ").strip()
        kind = DELIMITERS.get(delimiter, repr(delimiter))
        raise FileFormatError(f"{where} is not a table of {kind}: {first}", path=where) from None
    if delimiter != "," and given.delimiter is None and not where.endswith((".tsv", ".tab")):
        notes.append(f"columns are separated by {DELIMITERS[delimiter]}")
    frame.columns = pd.Index(names + [column_name(c) for c in frame.columns[len(names) :]])
    return _tidy(frame, where, given, notes + layout_notes)


def _cut_out(text: str, delimiter: str, given: Given) -> tuple[str, list[str], list[str]]:
    """The text of the table alone, its header's cells, and what was left off."""
    lines = text.splitlines(keepends=True)
    filled = [i for i, line in enumerate(lines) if line.strip()]
    first, last = filled[:LOOKED_AT], filled[-LOOKED_AT:]

    def cells(places: list[int]) -> list[list[str]]:
        return [next(csv.reader([lines[i]], delimiter=delimiter), []) for i in places]

    found = layout(cells(first), cells(last), len(filled) <= LOOKED_AT)
    top = first[found.header] if given.header is None else given.header - 1
    if not 0 <= top < len(lines):
        raise CallError(
            f"header={given.header} is no line of the file, which has {len(lines)}",
            argument="header",
        )
    off = len(found.below) if given.footer is None else given.footer
    end = filled[len(filled) - off] if off else len(lines)
    told = [n for n, own in zip(found.notes, _settled(found, given)) if not own]
    text = "".join(lines[top:end]) if top or end < len(lines) else text
    return text, next(csv.reader(io.StringIO(text), delimiter=delimiter)), told


def _decoded(raw: bytes, where: str, encoding: str | None) -> tuple[str, list[str]]:
    """The text of a file and a note: UTF-8, UTF-16, else Latin-1, said so."""
    if encoding is not None:
        try:
            return raw.decode(encoding), []
        except (LookupError, UnicodeDecodeError) as reason:
            raise FileFormatError(
                f"{where} cannot be read as {encoding}: {reason}", path=where
            ) from None
    for place, name in (
        (1, "utf-16-le"),
        (0, "utf-16-be"),
    ):  # every other byte of plain text is zero
        if (
            len(raw) > 3
            and len(raw) % 2 == 0
            and raw[place:400:2].count(0) > 0.8 * len(raw[place:400:2])
        ):
            try:
                return raw.decode(name).removeprefix("\ufeff"), ["the text is UTF-16"]
            except UnicodeDecodeError:
                break
    if raw[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return raw.decode("utf-16"), []
    control = sum(raw[:4096].count(bytes([c])) for c in (*range(9), *range(14, 32)))
    if control:
        raise FileFormatError(
            f"{where} is not text: it holds bytes that no text has; "
            "if it is a spreadsheet or Parquet file, its ending must say so (.xlsx, .ods, "
            ".parquet, .feather)",
            path=where,
        )
    try:
        return raw.decode("utf-8-sig"), []
    except UnicodeDecodeError:
        return raw.decode("latin-1"), ["the text is not UTF-8; read as Latin-1"]


def _delimiter(text: str) -> str:
    """The delimiter that cuts most of the first lines into the same number of columns."""
    lines = [line for line in text.splitlines()[:50] if line.strip()]
    best, best_score = ",", (0.0, 0)
    for mark in DELIMITERS:
        counts = Counter(len(row) for row in csv.reader(lines, delimiter=mark))
        counts.pop(1, None)
        if counts:
            width = max(counts, key=lambda w: (counts[w], w))
            if (score := (counts[width] / len(lines), width)) > best_score:
                best, best_score = mark, score
    return best


def _check_header(names: list[str], where: str) -> None:
    twice = sorted({n for n in names if n and names.count(n) > 1})
    if twice:
        places = [i + 1 for i, n in enumerate(names) if n == twice[0]]
        raise DataError(
            f"{where}: the header {twice[0]!r} stands twice (columns {listed(places)}); "
            "give each column a name of its own"
        )


def _tidy(frame: pd.DataFrame, where: str, given: Given, notes: list[str]) -> pd.DataFrame:
    """Empty rows and nameless empty columns off; numbers and dates written as text read.

    What was done noted.
    """
    notes = [f"as read: {'; '.join(notes)}"] if notes else []
    nameless = [c for c in frame.columns if str(c).startswith("Unnamed:") or not str(c).strip()]
    frame = frame.drop(columns=[c for c in nameless if frame[c].isna().all()])
    frame = (
        frame.dropna(how="all").reset_index(drop=True) if frame.isna().all(axis=1).any() else frame
    )
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
    mark = given.decimal or _certain_mark(frame, texts)
    for name in texts:
        if (days := written_dates(frame[name], given.dates)) is not None:
            frame[name], note = days
            notes += [f"{name}: {note}"] if note else []
            continue
        try:
            column = understand(str(name), frame[name], lambda at: at.tolist(), mark)
        except DataError:
            continue
        if column.kind == "number" and column.values is not None and frame[name].notna().any():
            frame[name] = column.values
            if column.note:
                notes.append(f"{name}: {column.note}")
    frame.attrs[NOTES] = tuple(notes)
    return frame


def _certain_mark(frame: pd.DataFrame, texts: list[Any]) -> str | None:
    """The decimal mark that some columns leave no doubt about, when they agree."""
    readings = (read_numbers([str(v) for v in frame[c].dropna().unique()]) for c in texts)
    marks = {r.decimal for r in readings if r.decimal and not r.unreadable}
    return marks.pop() if len(marks) == 1 else None
