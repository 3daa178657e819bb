"""Tables in JSON: every digit kept, nothing taken for a date, a number or an index but by us."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from typing import Any

import pandas as pd

from joinery.support.errors import FileFormatError

WAYS = (
    'it holds a list of objects, [{"x": 1}, …], or an object of lists, {"x": [1, …]}; '
    "a file with an object a line ends in .jsonl"
)


def read_json(raw: bytes, where: str) -> pd.DataFrame:
    """Return a JSON table. Raises FileFormatError, with the place, for anything that is none."""
    text = _text(raw, where)
    if _is_lines(text):
        return read_json_lines(raw, where)
    value = _parsed(text, where, "")
    if isinstance(value, list):
        return _from_rows(value, where)
    if isinstance(value, dict) and value:
        if all(isinstance(v, list) for v in value.values()):
            return _from_columns(value, where)
        if all(isinstance(v, dict) for v in value.values()):
            return _from_objects(value, where)
    raise FileFormatError(f"{where} is not a table: {WAYS}", path=where)


def _is_lines(text: str) -> bool:
    """Return True for an object a line, whatever the name of the file says."""
    lines = [line.strip() for line in text.split("\n", 3)[:2]]
    return len(lines) == 2 and all(line.startswith("{") and line.endswith("}") for line in lines)


def read_json_lines(raw: bytes, where: str) -> pd.DataFrame:
    """Return a table with an object a line. Raises FileFormatError, with the line, for anything
    else."""
    lines = enumerate(_text(raw, where).split("\n"), 1)
    rows = [_parsed(line, where, f", line {n}") for n, line in lines if line.strip()]
    return _from_rows(rows, where)


def _text(raw: bytes, where: str) -> str:
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError as reason:
        raise FileFormatError(
            f"{where} is not JSON: byte {reason.start} is not UTF-8", path=where
        ) from None


def _parsed(text: str, where: str, line: str) -> Any:
    try:
        return json.loads(text, parse_int=_integer, parse_constant=_constant)
    except json.JSONDecodeError as reason:
        if not line:
            place = f"line {reason.lineno}, column {reason.colno}"
        else:
            place = line[2:]
        raise FileFormatError(
            f"{where} is not JSON: at {place} something else was expected", path=where
        ) from None
    except RecursionError:
        raise FileFormatError(
            f"{where}{line} is nested too deeply for a table", path=where
        ) from None


def _integer(digits: str) -> int | float:
    """Return a whole number; one too long for a machine's integers is a float, however many
    digits."""
    if len(digits) < 19:
        return int(digits)
    return float(digits)


def _constant(name: str) -> float:
    return float(name.lower().replace("infinity", "inf"))


def _from_rows(rows: list[Any], where: str) -> pd.DataFrame:
    for place, row in enumerate(rows):
        if not isinstance(row, dict):
            raise FileFormatError(
                f"{where} is not a table: entry {place + 1} is not an object with names; {WAYS}",
                path=where,
            )
    rows = [_flat(row) for row in rows]
    names = dict.fromkeys(name for row in rows for name in row)
    return pd.DataFrame({name: _column([row.get(name) for row in rows]) for name in names})


def _flat(row: dict[str, Any]) -> dict[str, Any]:
    """Return a row in which objects have become cells of their own, as ``site.altitude``."""
    out: dict[str, Any] = {}
    for name, cell in row.items():
        if isinstance(cell, dict) and cell:
            out |= {f"{name}.{inner}": value for inner, value in _flat(cell).items()}
        else:
            out[name] = cell
    return out


def _from_objects(objects: dict[str, dict[str, Any]], where: str) -> pd.DataFrame:
    """Return a table of an object of objects: of a column each, or of a row each, its cells by
    name.

    Raises FileFormatError where the one cannot be told from the other."""
    inner = list(dict.fromkeys(name for part in objects.values() for name in part))
    rows_outside = _count(objects) or (not _count(inner) and _mixed(objects))
    rows_inside = _count(inner) or not _mixed(objects)
    if _count(objects) and _count(inner):
        raise FileFormatError(f"{where}: rows and columns have numbers for names; {WAYS}",
                              path=where)  # fmt: skip
    if rows_outside or not rows_inside:
        labels = list(objects)
        columns = {name: [row.get(name) for row in objects.values()] for name in inner}
    else:
        labels = inner
        columns = {name: [part.get(label) for label in inner] for name, part in objects.items()}
    frame = _from_columns(columns, where)
    if labels != [str(i) for i in range(len(labels))]:
        frame.index = pd.Index([int(v) for v in labels] if _count(labels) else labels)
    return frame


def _count(names: Iterable[str]) -> bool:
    """Return True for names that are whole numbers, as labels of rows are."""
    return all(name.lstrip("-").isdecimal() for name in names)


def _mixed(objects: Mapping[str, Mapping[str, Any]]) -> bool:
    """Return True if an object holds texts beside numbers, as a row does and a column does not."""
    kinds = [{isinstance(v, str) for v in part.values() if v is not None}
             for part in objects.values()]  # fmt: skip
    return any(len(kind) > 1 for kind in kinds)


def _from_columns(columns: dict[str, list[Any]], where: str) -> pd.DataFrame:
    lengths = {name: len(values) for name, values in columns.items()}
    if len(set(lengths.values())) > 1:
        raise FileFormatError(f"{where}: its columns differ in length: {lengths}", path=where)
    return pd.DataFrame({name: _column(values) for name, values in columns.items()})


def _column(values: list[Any]) -> pd.Series:
    """Return a column of what its cells hold: numbers and true or false by kind, else as it is."""
    kinds = {type(v) for v in values if v is not None}
    if kinds <= {int, float} and kinds and None in values:
        return pd.Series([float("nan") if v is None else v for v in values], dtype=float)
    if kinds <= {int, float} or (kinds == {bool} and None not in values):
        return pd.Series(values)
    return pd.Series(values, dtype=object)
