"""The first look at a table: what came in, column by column."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from joinery.data.columns import Column, level_text
from joinery.data.records import Records, records
from joinery.errors import EmptyTableError
from joinery.notation.evaluate import EVERY_ROW, Context, evaluate
from joinery.notation.parse import read_expression, read_sentence
from joinery.notation.tree import Everything, names_in
from joinery.show.numbers import count
from joinery.show.table import Table

MOST_LEVELS = 4


@dataclass(frozen=True, eq=False, repr=False)
class Look:
    """The first look at a table. ``columns`` is a Table with a row for each column."""

    table: Records
    rows: Any
    names: tuple[str, ...]

    @cached_property
    def columns(self) -> Table:
        """Kind, count, missing, mean, standard deviation, minimum, median, maximum and values of each column."""
        described = [_described(self.table.column(name), self.rows) for name in self.names]
        keys = ("kind", "count", "missing", "mean", "standard_deviation", "minimum", "median", "maximum", "distinct")
        columns: dict[str, Any] = {"column": list(self.names)}
        columns |= {key: [d[key] for d in described] for key in (*keys, "values")}
        own = ("mean", "standard_deviation", "minimum", "median", "maximum")
        n = len(np.arange(len(self.table))[self.rows])
        notes = [f"{name}: {note}" for name in self.names if (note := self.table.column(name).note)]
        return Table(
            columns,
            title=f"{self.table.name or 'The table'}: {count(n, 'row')}, {count(len(self.names), 'column')}",
            notes=(*self.table.notes, *notes),
            kinds=dict.fromkeys(own, "value") | {"values": "text", "kind": "text", "column": "text"},
        )

    def __str__(self) -> str:
        return str(self.columns)

    def __repr__(self) -> str:
        return f"<Look at {count(len(self.table), 'row')}, {count(len(self.names), 'column')}>"

    def _repr_html_(self) -> str:
        return self.columns.render("html")


def look(data: Any, model: str | None = None, *, where: str | None = None, id: str | None = None) -> Look:
    """The first look at a table: what came in and what is odd about it.

    Parameters: ``data`` as for ``fit``; ``model`` a sentence, to look at its columns only; ``where`` an expression that
    rows must meet; ``id`` the column that labels rows.
    Returns a Look, whose ``columns`` is a Table. Raises DataError and SentenceError as ``fit`` does.

    >>> look("sample:jars").columns["mean"].round(2).tolist()
    [4.68, 28.5]
    """
    table = records(data, id)
    rows: Any = EVERY_ROW
    if where is not None:
        expression = read_expression(where)
        _check([n.name for n in names_in(expression)], table)
        rows = np.flatnonzero(evaluate(expression, Context(table)) > 0)
        if not len(rows):
            raise EmptyTableError(f"no row meets {where}", columns=table.names)
    names = table.names
    if model is not None:
        sentence = read_sentence(model)
        wanted = [n.name for n in names_in(sentence.response.expression)]
        if sentence.response.total is not None:
            wanted += [n.name for n in names_in(sentence.response.total)]
        if isinstance(sentence.written, Everything):
            out = {n.name for n in sentence.written.but}
            wanted += [n for n in names if n not in out]
        else:
            wanted += [n.name for t in sentence.terms for f in t.factors for n in names_in(f)]
        names = tuple(dict.fromkeys(wanted))
        _check(names, table)
    return Look(table, rows, names)


def _check(names: Any, table: Records) -> None:
    for name in names:
        table.column(name)


def _described(column: Column, rows: Any) -> dict[str, Any]:
    """One column's figures; those without meaning for its kind are empty."""
    missing = int(column.missing(rows).sum())
    codes = column.codes(rows)
    present = codes[codes >= 0]
    out: dict[str, Any] = dict.fromkeys(("mean", "standard_deviation", "minimum", "median", "maximum"))
    out |= {"kind": column.kind, "count": len(codes) - missing, "missing": missing, "values": ""}
    places, counts = np.unique(present, return_counts=True)
    out["distinct"] = len(places)
    if column.kind == "number" and len(present):
        values = column.numbers(rows)
        values = values[~np.isnan(values)]
        if np.all(values == np.round(values)):
            out["kind"] = "whole number"
        sd = float(np.std(values, ddof=1)) if len(values) > 1 else float("nan")
        out |= {"mean": float(np.mean(values)), "standard_deviation": sd, "median": float(np.median(values))}
        out |= {"minimum": float(np.min(values)), "maximum": float(np.max(values))}
    elif column.kind == "date" and len(present):
        days = column.numbers(rows)
        first, last = (np.datetime64(int(np.floor(v)), "D") for v in (np.nanmin(days), np.nanmax(days)))
        out["values"] = f"{first} to {last}"
    elif len(places):
        order = np.argsort(-counts, kind="stable")[:MOST_LEVELS]
        shown = [f"{level_text(column.all_levels[places[i]])} {counts[i]:,}" for i in order]
        rest = len(places) - len(order)
        if counts.max() == 1 and len(places) > MOST_LEVELS:
            out["values"] = f"all different: {level_text(column.all_levels[places[0]])}, …"
        else:
            out["values"] = ", ".join(shown) + (f" and {rest} more" if rest else "")
    return out
