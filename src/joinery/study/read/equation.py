"""The fitted equation, in the order people write it: for reading, and as code that computes it."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from joinery.errors import CallError, one_of
from joinery.notation.tree import Call, Name, Number
from joinery.show.forms import latex_text
from joinery.show.numbers import MINUS, level_words, to_decimals, with_error
from joinery.study.fitted import Fitted
from joinery.study.read.dialects.python import as_python
from joinery.study.read.dialects.spreadsheet import as_spreadsheet
from joinery.study.read.dialects.sql import as_sql
from joinery.study.read.estimates import estimates
from joinery.study.read.forecast_formula import PARTS, forecast_formula, offset_expressions
from joinery.study.read.formula import Formula, columns_in

STYLES = ("text", "latex", "python", "sql", "spreadsheet")


def equation(
    fit: Fitted,
    style: str = "text",
    *,
    cells: Mapping[str, str] | None = None,
    part: str = "fitted",
) -> str:
    """The fitted equation. See ``Fit.equation``."""
    one_of("style", style, STYLES)
    one_of("part", part, PARTS)
    if cells is not None and style != "spreadsheet":
        raise CallError("cells= belongs to the spreadsheet style", argument="cells")
    if style in ("text", "latex"):
        if part != "fitted":
            raise CallError(
                "the ends of an interval are written to be run: take python, sql or spreadsheet",
                argument="part",
            )
        return _for_people(fit, style)
    formula = forecast_formula(fit, part)
    if style == "sql":
        return as_sql(formula)
    order = table_order(fit, formula)
    if style == "spreadsheet":
        return as_spreadsheet(formula, order, cells)
    return as_python(formula, order, part, _docstring(fit, part))


def table_order(fit: Fitted, formula: Formula) -> list[str]:
    """The columns of a formula: the sentence's in the order of the fitted table, then the rest."""
    columns = [c.name for c in columns_in(formula)]
    named = [name for name in fit.design.named if name in columns]
    return [*named, *(name for name in columns if name not in named)]


def _docstring(fit: Fitted, part: str) -> str:
    what = {
        "fitted": "Fitted value",
        "mean": f"End of the {level_words(fit.level)} interval for the mean",
        "new": f"End of the {level_words(fit.level)} interval for a new row",
    }[part.split("_")[0]]
    return f"{what} of {fit.response.original}, from: {fit.sentence}."


def _for_people(fit: Fitted, style: str) -> str:
    coefficients = estimates(fit)
    pieces: list[tuple[bool, str]] = []
    for name, value, error in zip(
        coefficients.names, coefficients.values, coefficients.standard_errors
    ):
        if np.isnan(value):
            continue
        size = to_decimals(abs(value), with_error(value, error))
        words = "" if name == "intercept" else fit.words(name)
        words = f"({words})" if ": " in name else words
        if style == "latex":
            size = latex_text(size)
            words = r"\,\text{" + latex_text(words) + "}" if words else ""
        else:
            words = f" {words}" if words else ""
        pieces.append((value < 0 and any(c in "123456789" for c in size), size + words))
    minus = "-" if style == "latex" else MINUS
    body = "".join(
        (f" {minus} " if negative else " + ") + piece
        if place
        else (minus if negative else "") + piece
        for place, (negative, piece) in enumerate(pieces)
    )
    name = fit.words(fit.response.name if fit.estimate.linear else _linked(fit))
    left = r"\widehat{\text{" + latex_text(name) + "}}" if style == "latex" else name
    for offset in offset_expressions(fit):
        words = fit.words(str(offset))
        words = words if isinstance(offset, (Name, Call, Number)) else f"({words})"
        body += " + " + (r"\text{" + latex_text(words) + "}" if style == "latex" else words)
    return f"{left} = {body or '0'}"


def _linked(fit: Fitted) -> str:
    """The left side under a link: ``logit(share of survived of colonies)``."""
    mean = {"of": f"share {fit.response.name}", "per": f"mean {fit.response.expression}"}
    what = mean.get(fit.response.kind, f"mean {fit.response.name}")
    if fit.response.kind == "plain" and fit.family.shares:
        what = f"chance of {fit.response.name}"
    return what if fit.link.name == "identity" else f"{fit.link.name}({what})"
