"""The fitted equation, in the order people write it: for reading, and as code that computes it."""

from __future__ import annotations

from collections.abc import Mapping

from joinery.hand_over.formula.javascript import as_javascript
from joinery.hand_over.formula.python import as_python
from joinery.hand_over.formula.spreadsheet import as_spreadsheet
from joinery.hand_over.formula.sql import as_sql
from joinery.notation.walk import names_in
from joinery.show.numbers import level_words
from joinery.study.fitted import Fitted
from joinery.study.read.for_people import equation_for_people
from joinery.study.read.forecast_formula import forecast_formula, parts
from joinery.study.read.formula import Formula, columns_in
from joinery.support.errors import CallError, one_of

STYLES = ("text", "latex", "python", "javascript", "sql", "spreadsheet")


def equation(
    fit: Fitted,
    style: str = "text",
    *,
    cells: Mapping[str, str] | None = None,
    part: str = "fitted",
) -> str:
    """Return the fitted equation. See ``Fit.equation``."""
    one_of("style", style, STYLES)
    one_of("part", part, parts(fit))
    if cells is not None and style != "spreadsheet":
        raise CallError("cells= belongs to the spreadsheet style", argument="cells")
    if style in ("text", "latex"):
        if part != "fitted":
            raise CallError(
                "the ends of an interval are written to be run: take python, javascript, sql or "
                "spreadsheet",
                argument="part",
            )
        return equation_for_people(fit, style)
    formula = forecast_formula(fit, part)
    if style == "sql":
        return as_sql(formula)
    if style == "spreadsheet":
        return as_spreadsheet(formula, table_order(fit, formula), cells)
    if style == "javascript":
        return as_javascript(formula, sentence_order(fit, formula), part, _docstring(fit, part))
    return as_python(formula, sentence_order(fit, formula), part, _docstring(fit, part))


def table_order(fit: Fitted, formula: Formula) -> list[str]:
    """Return the columns of a formula: the sentence's in the order of the fitted table, then the
    rest."""
    columns = [c.name for c in columns_in(formula)]
    named = [name for name in fit.design.named if name in columns]
    return [*named, *(name for name in columns if name not in named)]


def sentence_order(fit: Fitted, formula: Formula) -> list[str]:
    """Return the columns of a formula in the order in which the sentence names them, then the
    rest."""
    columns = [c.name for c in columns_in(formula)]
    factors = fit.design.sentence.factors
    named = dict.fromkeys(n.name for f in factors for n in names_in(f) if n.name in columns)
    return [*named, *(name for name in columns if name not in named)]


def _docstring(fit: Fitted, part: str) -> str:
    what = {
        "fitted": "Fitted value",
        "mean": f"End of the {level_words(fit.level)} interval for the mean",
        "median": f"End of the {level_words(fit.level)} interval for the median",
        "new": f"End of the {level_words(fit.level)} interval for a new row",
    }[part.split("_")[0]]
    return f"{what} of {fit.response.original}, from: {fit.sentence}."
