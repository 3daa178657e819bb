"""The cells and headings of a table as people read them, column by column."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace

from joinery.show import numbers
from joinery.show.table import Table

# How a column's cells are shown when the table does not say: by the column's name.
_KINDS = {"p": "p", "df": "degrees", "share": "share"} | dict.fromkeys(
    ("n", "count", "missing", "distinct"), "whole"
)
_WORDS = {
    "p": "p",
    "t": "t",
    "z": "z",
    "chi2": "χ²",
    "f": "F",
    "ss": "sum of squares",
    "ms": "mean square",
    "df": "df",
    "n": "n",
}
_YES_NO = {True: "yes", False: "no", None: ""}  # as people read them
_TERMS = ("term", "adjusted_for")  # columns that name terms
_WORDS |= {
    "cooks_distance": "Cook's distance",
    "dffits": "DFFITS",
    "covratio": "COVRATIO",
    "critical_f": "critical F",
}


def lines_before(table: Table, stop: int) -> Table:
    """Return the same table with its first lines alone."""
    columns = {name: values[:stop] for name, values in table.columns.items()}
    if table.index is None:
        index = None
    else:
        index = table.index[:stop]
    return replace(table, columns=columns, index=index)


def first_lines(table: Table) -> Table:
    """Return as much of a table as is looked at, its notes saying so where that is not all."""
    most = table.appearance.most_rows
    if len(table) <= most or table.appearance.transposed:
        return table
    note = f"{most:,} of {len(table):,} rows shown; write the table to a file to have all"
    return replace(lines_before(table, most), notes=(note, *table.notes))


def heading(table: Table, column: str) -> str:
    """Return a column's name in words."""
    known = table.appearance.headings.get(column) or _WORDS.get(column)
    if known is None and (labelled := table.appearance.labels(column)) != column:
        return labelled
    return known or column.replace("_", " ")


def is_text(table: Table, column: str) -> bool:
    """Return True if a column holds words."""
    values = table.columns[column]
    kind = table.appearance.kinds.get(column)
    return kind == "text" or (kind != "cell" and any(isinstance(v, str) for v in values))


def cells_of(table: Table, column: str) -> list[str]:
    """Return a column as people read it."""
    values = list(numbers.plain_cells(table.columns[column]))
    digits = table.appearance.digits or numbers.DIGITS
    kind = table.appearance.kinds.get(column, _KINDS.get(column, "figure"))
    if kind == "cell" or is_text(table, column):
        cells = [_YES_NO[v] if v is None or isinstance(v, bool) else str(v) for v in values]
        if column in _TERMS:
            return [table.appearance.labels(cell) for cell in cells]
        return cells
    as_numbers = [math.nan if v is None else float(v) for v in values]
    if kind == "error":
        return _by_error(table, column, as_numbers)
    shower = _SHOWERS.get(kind)
    if shower:
        return [shower(v, digits) for v in as_numbers]
    return numbers.column(as_numbers, digits)


def _by_error(table: Table, column: str, values: list[float]) -> list[str]:
    errors = [float(v) for v in table.columns["standard_error"]]
    show = numbers.interval_end if column in ("lower", "upper") else numbers.to_decimals
    digits = table.appearance.digits
    out = []
    for value, error in zip(values, errors):
        decimals = numbers.with_error(error if digits else value, error, digits)
        out.append(show(value, decimals))
    return out


_SHOWERS: dict[str, Callable[[float, int], str]] = {
    "p": lambda v, d: numbers.p_value(v),
    "own": numbers.figure,
    "value": numbers.value,
    "whole": lambda v, d: "" if math.isnan(v) else f"{v:,.0f}",
    "degrees": lambda v, d: "" if math.isnan(v) else f"{v:.0f}" if v == round(v) else f"{v:.1f}",
    "share": lambda v, d: numbers.percent(v),
    "correlation": lambda v, d: (
        numbers.fixed(v, 2) if abs(v) < 0.995 or abs(v) == 1 else numbers.fixed(v, 4)
    ),
}
