"""Reading files: what kind they are, how they are written, and clear words when they are not what they should be."""

from __future__ import annotations

import csv
import io
import os
import sys
from collections.abc import Callable
from importlib.resources import files
from pathlib import Path
from typing import Any

import pandas as pd

from joinery.data.columns import NOTES, column_name, understand
from joinery.data.written_numbers import read_numbers
from joinery.errors import CallError, DataError, EmptyTableError, FileFormatError, listed, nearest

# before pandas 3 the default reader may miss a number's last digit
EVERY_DIGIT: dict[str, Any] = {} if int(pd.__version__.split(".")[0]) >= 3 else {"float_precision": "round_trip"}
DELIMITERS = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "bars"}
SAMPLES = ("jars", "yields", "winter", "winter_outcome", "bee_samples", "hive_scale", "prices", "queens")


def sample_names() -> list[str]:
    """The names of the sample tables.

    >>> sample_names()[:2]
    ['jars', 'yields']
    """
    return list(SAMPLES)


def sample_data(name: str = "yields") -> pd.DataFrame:
    """A made-up table of the beekeepers' cooperative.

    Parameters: ``name``, one of ``sample_names()``. Returns a DataFrame. Raises CallError for another name.

    >>> sample_data("jars").shape
    (14, 2)
    """
    if name not in SAMPLES:
        near = nearest(str(name), SAMPLES)
        hint = f"; did you mean {near!r}?" if near else "."
        raise CallError(
            f"no sample table {name!r}{hint} There are {', '.join(SAMPLES)}", argument="name", known=SAMPLES
        )
    with files("joinery.data.samples").joinpath(f"{name}.csv").open("rb") as file:
        return pd.read_csv(file, **EVERY_DIGIT)


def read(path: str | os.PathLike[str], *, table: str | None = None, decimal: str | None = None) -> pd.DataFrame:
    """A file as a DataFrame, its way of writing found out.

    Parameters: ``path`` to .csv .tsv .txt (delimiter found out) .json .jsonl .parquet .feather .xlsx .ods, or "-" for
    standard input; ``table`` the sheet; ``decimal`` ("." or ",") settles numbers like 1,234.
    Returns a DataFrame; what was guessed stands in ``attrs["joinery_notes"]``.
    Raises DataError when there is no such file, EmptyTableError without rows, FileFormatError when it is no such file
    as its ending says.

    >>> import tempfile, pathlib
    >>> file = pathlib.Path(tempfile.mkdtemp()) / "stall.csv"
    >>> _ = file.write_text("hours;price\\n3;2,50\\n4;3,10\\n")
    >>> read(file)["price"].tolist()
    [2.5, 3.1]
    """
    if decimal not in (None, ".", ","):
        raise CallError(f"decimal={decimal!r} is not known; it is '.' or ','", argument="decimal", known=(".", ","))
    where = os.fsdecode(path)
    if where == "-":
        return _read_text(sys.stdin.buffer.read(), "standard input", decimal)
    file = Path(where)
    if not file.exists():
        raise DataError(_no_such_file(file))
    ending = file.suffix.lower()
    reader = _READERS.get(ending)
    if reader is None and file.is_dir():
        raise FileFormatError(f"{where} is a folder, not a table", path=where)
    if reader is None:
        return _read_text(file.read_bytes(), where, decimal)
    try:
        frame = reader(file, table)
    except ImportError as missing:
        raise DataError(
            f"reading {ending} needs {missing.name}; install joinery with its [spreadsheet] extra"
        ) from None
    except CallError:
        raise
    except Exception as reason:
        first = str(reason).strip().split("\n")[0]
        raise FileFormatError(f"{where} cannot be read as {ending}: {first}", path=where, reason=first) from None
    return _tidy(frame, where, decimal, [])


def _no_such_file(file: Path) -> str:
    near = None
    if file.parent.is_dir():
        near = nearest(file.name, [f.name for f in file.parent.iterdir()])
    hint = f"; did you mean {str(file.parent / near)!r}?" if near else f" (looked in {file.parent.resolve()})"
    return f"no such file: {str(file)!r}{hint}"


def _sheet(file: Path, table: str | None) -> pd.DataFrame:
    sheets = pd.read_excel(file, sheet_name=None)
    if table is None:
        return next(iter(sheets.values()))
    if table not in sheets:
        raise CallError(f"no sheet {table!r} in {file}; its sheets are {listed(sheets)}", argument="table")
    return sheets[table]


_READERS: dict[str, Callable[[Path, str | None], pd.DataFrame]] = {
    ".parquet": lambda file, _: pd.read_parquet(file),
    ".feather": lambda file, _: pd.read_feather(file),
    ".json": lambda file, _: pd.DataFrame(pd.read_json(file)),
    ".jsonl": lambda file, _: pd.DataFrame(pd.read_json(file, lines=True)),
    ".xlsx": _sheet,
    ".ods": _sheet,
}


def _read_text(raw: bytes, where: str, decimal: str | None) -> pd.DataFrame:
    """Delimited text: encoding, delimiter and headers found out."""
    text, notes = _decoded(raw, where)
    if not text.strip():
        raise EmptyTableError(f"{where} is empty")
    delimiter = _delimiter(text)
    header = next(row for row in csv.reader(io.StringIO(text), delimiter=delimiter) if any(c.strip() for c in row))
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
        raise FileFormatError(f"{where} is not a table of {DELIMITERS[delimiter]}: {first}", path=where) from None
    if delimiter != "," and not where.endswith((".tsv", ".tab")):
        notes.append(f"columns are separated by {DELIMITERS[delimiter]}")
    frame.columns = pd.Index(names + [column_name(c) for c in frame.columns[len(names) :]])
    return _tidy(frame, where, decimal, notes)


def _decoded(raw: bytes, where: str) -> tuple[str, list[str]]:
    """The text of a file: UTF-8 with or without a mark, UTF-16 with one, else Latin-1, said so."""
    if raw[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return raw.decode("utf-16"), []
    control = sum(raw[:4096].count(bytes([c])) for c in (*range(9), *range(14, 32)))
    if control:
        raise FileFormatError(
            f"{where} is not text: it holds bytes that no text has; "
            "if it is a spreadsheet or Parquet file, its ending must say so (.xlsx, .ods, .parquet, .feather)",
            path=where,
        )
    try:
        return raw.decode("utf-8-sig"), []
    except UnicodeDecodeError:
        return raw.decode("latin-1"), ["the text is not UTF-8; read as Latin-1"]


def _delimiter(text: str) -> str:
    """The mark that cuts the first lines into the same number of columns, the more the better."""
    lines = [line for line in text.splitlines()[:50] if line.strip()]
    best, best_score = ",", (0.0, 0)
    for mark in DELIMITERS:
        counts = [len(row) for row in csv.reader(lines, delimiter=mark)]
        if counts and counts[0] > 1:
            agree = sum(c == counts[0] for c in counts) / len(counts)
            if (agree, counts[0]) > best_score:
                best, best_score = mark, (agree, counts[0])
    return best


def _check_header(names: list[str], where: str) -> None:
    twice = sorted({n for n in names if n and names.count(n) > 1})
    if twice:
        places = [i + 1 for i, n in enumerate(names) if n == twice[0]]
        raise DataError(
            f"{where}: the header {twice[0]!r} stands twice (columns {listed(places)}); "
            "give each column a name of its own"
        )


def _tidy(frame: pd.DataFrame, where: str, decimal: str | None, notes: list[str]) -> pd.DataFrame:
    """Empty rows and nameless empty columns off; numbers written as text read; what was done noted."""
    nameless = [c for c in frame.columns if str(c).startswith("Unnamed:") or not str(c).strip()]
    frame = frame.drop(columns=[c for c in nameless if frame[c].isna().all()])
    frame = frame.dropna(how="all").reset_index(drop=True) if frame.isna().all(axis=1).any() else frame
    if not len(frame):
        columns = [str(c) for c in frame.columns]
        raise EmptyTableError(f"{where} has headers ({listed(columns, 12)}) but no rows", columns=columns)
    texts = [c for c in frame.columns if frame[c].dtype == object or pd.api.types.is_string_dtype(frame[c].dtype)]
    mark = decimal or _certain_mark(frame, texts)
    for name in texts:
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
