"""A fit as a workbook: a sheet a table, and forecasts that the sheet itself computes."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from joinery.data.columns import level_text
from joinery.hand_over.formula.equation import table_order
from joinery.hand_over.formula.spreadsheet import EPOCH, as_spreadsheet, letters
from joinery.hand_over.short_page import short_page
from joinery.show.appearance import Appearance
from joinery.show.cells import lines_before
from joinery.show.names import apart, headings
from joinery.show.table import Table
from joinery.show.workbook import FIRST_LINE, Sheet, write_book
from joinery.study.check.table import checks
from joinery.study.compare.anova import anova
from joinery.study.fitted import Fitted
from joinery.study.forecast.memory import forecast_memory
from joinery.study.read.coefficients import coefficients
from joinery.study.read.forecast_formula import forecast_formula, parts
from joinery.study.read.overall import overall
from joinery.study.rows.figures import too_many
from joinery.study.rows.table import remarkable_rows, rows
from joinery.study.understand.explain import explain
from joinery.support.errors import CallError
from joinery.support.limits import SHEET_ROWS


def write(fit: Fitted, path: str | os.PathLike[str]) -> Path:
    """Write the workbook. See ``Fit.write``."""
    if os.path.splitext(os.fspath(path))[1].lower() != ".xlsx":
        raise CallError(
            f"a fit is written as a workbook, 'book.xlsx', not {path!r}", argument="path"
        )
    return write_book(path, list(_sheets(fit)))


def _sheets(fit: Fitted) -> Iterator[Sheet]:
    page = short_page(fit)
    remarks = [page.under, page.settled, *(f"{c.verdict}: {c.words}" for c in page.cautions)]
    lines = [*filter(None, remarks), *page.in_short, page.equation]
    lines += [line for line in explain(fit).split("\n") if line]
    yield Sheet("in short", Table({"what the fit says": lines}, title=fit.sentence))
    yield Sheet("coefficients", coefficients(fit))
    yield Sheet("overall", overall(fit))
    if fit.origin is not None:
        yield Sheet("terms", anova(fit))
        yield Sheet("checks", checks(fit))
        yield Sheet("rows", _rows(fit))
    yield _forecasts(fit)


def _rows(fit: Fitted) -> Table:
    if too_many(fit):
        return remarkable_rows(fit)
    result = rows(fit)
    if len(result) <= SHEET_ROWS:
        return result
    return lines_before(result, SHEET_ROWS)


def _forecasts(fit: Fitted) -> Sheet:
    """Return rows to forecast, or one to type over, beside formulas that follow what is typed."""
    notes = ["type other values into the first columns: the forecasts follow"]
    try:
        fitted = forecast_formula(fit, "fitted")
    except CallError as reason:
        nothing: dict[str, Any] = {"forecasts": [str(reason)]}
        return Sheet("forecast", Table(nothing, title="Forecasts"))
    needed = table_order(fit, fitted)
    columns, index = _given(fit, needed)
    if index is not None:
        start = 2
    else:
        start = 1
    lines = range(FIRST_LINE, FIRST_LINE + len(next(iter(columns.values()), [0])))
    formulas: dict[str, list[str]] = {}
    for part in parts(fit):
        try:
            if part == "fitted":
                formula = fitted
            else:
                formula = forecast_formula(fit, part)
            result = table_order(fit, formula)
            if not set(result) <= set(needed):
                continue  # a weight that is not known of a new row
            places = {name: letters(start + needed.index(name)) for name in result}
            formulas[part.replace("_", " ")] = [
                as_spreadsheet(formula, result, {n: f"{c}{line}" for n, c in places.items()})
                for line in lines
            ]
        except CallError as reason:
            notes.append(f"{part.replace('_', ' ')}: {reason}")
            break
    title = f"Forecasts of {fit.words(fit.response.original)}"
    if fit.origin:
        name = str(fit.origin.table.index.name or "row")
    else:
        name = "row"
    names = apart(columns, [part.replace("_", " ") for part in parts(fit)])
    kinds = dict.fromkeys(names.values(), "value")
    return Sheet(
        "forecast",
        Table(
            {names[n]: cells for n, cells in columns.items()},
            title=title,
            notes=tuple(notes),
            index=index,
            index_name=name,
            appearance=Appearance(kinds=kinds, headings=headings(names, fit.words)),
        ),
        formulas,
    )


def _given(fit: Fitted, needed: list[str]) -> tuple[dict[str, Any], list[Any] | None]:
    """Return the rows that await a forecast, else one like the average row."""
    if fit.origin is not None and len(fit.origin.used_rows.awaiting):
        table, places = fit.origin.table, fit.origin.used_rows.awaiting
        columns = {}
        for name in needed:
            column = table.column(name)
            plain = column.values is not None and not column.is_date
            columns[name] = column.numbers(places).tolist() if plain else _typed(column, places)
        return columns, table.index[places].tolist()
    typical = forecast_memory(fit).typical
    example: dict[str, Any] = {}
    for name in needed:
        usual = typical.get(name, 1.0)
        example[name] = [max(usual, key=lambda v: usual[v]) if isinstance(usual, dict) else usual]
    return example, None


def _typed(column: Any, places: np.ndarray) -> list[Any]:
    """Return cells as a person types them: yes and no as TRUE and FALSE, dates as a sheet counts
    them."""
    if column.is_date:
        return [v + EPOCH for v in column.numbers(places).tolist()]
    truths = {level_text(True): True, level_text(False): False}
    return [truths.get(v, v) for v in column.texts(places)]
