"""Values to try on a page: a form with a field a column, and the functions that answer it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from joinery.data.columns import level_text
from joinery.data.written_dates import date_text
from joinery.design.levels import column_of_levels
from joinery.hand_over.formula.equation import equation, sentence_order
from joinery.notation.tree import Name
from joinery.show.numbers import level_words, value
from joinery.show.report.forms import form
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.study.forecast.memory import forecast_memory
from joinery.study.read.forecast_formula import forecast_formula, parts
from joinery.study.read.formula import ColumnValue, Formula, columns_in
from joinery.support.errors import CallError
from joinery.support.limits import MOST_CODE

STEPS = 200  # of a slider over the seen range


@dataclass(frozen=True)
class Tries:
    """A form as an HTML fragment, and the text of the functions that it calls."""

    fragment: str
    functions: str


def try_values(fit: Fitted, place: int) -> Tries:
    """Return the form of one fit of a page, the ``place``-th. Raises CallError where no formula is
    short.

    The interval ends are there where a formula of one row says them."""
    formulas = {"fitted": forecast_formula(fit, "fitted")}
    for part in parts(fit)[1:]:
        try:
            formulas[part] = forecast_formula(fit, part)
        except CallError:
            break
    written = {part: equation(fit, "javascript", part=part) for part in formulas}
    if sum(map(len, written.values())) > MOST_CODE:
        formulas = {"fitted": formulas["fitted"]}
        written = {"fitted": written["fitted"]}
    if len(written["fitted"]) > MOST_CODE:
        raise CallError(f"the formula has {len(written['fitted']):,} characters")
    columns = _columns(fit, formulas)
    names = [column["name"] for column in columns]
    about = {
        "fit": place,
        "columns": columns,
        "parts": [
            {"name": part, "takes": [names.index(n) for n in sentence_order(fit, formula)]}
            for part, formula in formulas.items()
        ],
        "intervals": _intervals(fit, formulas),
        "range": _responses(fit),
    }
    functions = ", ".join(f"{part}: {text.strip()}" for part, text in written.items())
    return Tries(form(about, place), f"{place}: {{{functions}}}")


def script_of(tries: list[Tries]) -> str:
    """Return the functions of all forms as one table; nothing in it ends the script that holds
    it."""
    text = f"const joineryTries = {{{', '.join(one.functions for one in tries)}}};\n"
    return text.replace("</", "<\\/").replace("<!--", "<\\!--")


def _intervals(fit: Fitted, formulas: dict[str, Formula]) -> list[dict[str, str]]:
    sure = level_words(fit.level)
    out = []
    for name, words in (
        (fit.response.middle, f"{fit.response.middle}, {sure}"),
        ("new", f"a new row, {sure}"),
    ):
        if f"{name}_upper" in formulas:
            out.append({"lower": f"{name}_lower", "upper": f"{name}_upper", "words": words})
    return out


def _responses(fit: Fitted) -> list[float]:
    """Return the least and greatest fitted response, for the scale of the bar."""
    table, used = rows_at_hand(fit)
    y = fit.response.values(fit.design.context(table, used.rows))
    if fit.response.transformed:
        y = fit.response.turn_back(y)
    y = y[np.isfinite(y)]
    return [float(y.min()), float(y.max())]


def _columns(fit: Fitted, formulas: dict[str, Formula]) -> list[dict[str, Any]]:
    """Return each column of the formulas: how it is asked for, its range or levels, where it
    starts."""
    kinds: dict[str, ColumnValue] = {}
    for formula in formulas.values():
        kinds |= {c.name: c for c in columns_in(formula) if c.name not in kinds}
    order = list(dict.fromkeys(n for f in formulas.values() for n in sentence_order(fit, f)))
    return [_column(fit, name, kinds[name]) for name in order]


def _column(fit: Fitted, name: str, column: ColumnValue) -> dict[str, Any]:
    start = forecast_memory(fit).typical.get(name)
    levels = _levels(fit, name)
    base = {"name": name, "words": fit.words(name)}
    if levels is not None:
        usual = max(start, key=start.__getitem__) if isinstance(start, dict) else levels[0]
        if all(isinstance(level, bool) for level in levels):
            first = "yes" if usual == level_text(True) else "no"
            return base | {"kind": "flag", "levels": ["no", "yes"], "start": first}
        return base | {"kind": "level", "levels": [level_text(v) for v in levels], "start": usual}
    if column.kind == "text":
        return base | {"kind": "text", "start": ""}
    low, high = fit.design.seen.get(name, (None, None))
    if low is None or high is None:
        table, used = rows_at_hand(fit)
        x = table.column(name).numbers(used.rows)
        low, high = float(np.nanmin(x)), float(np.nanmax(x))
        start = float(np.nanmean(x))
    middle = start if isinstance(start, float) else (low + high) / 2
    if column.kind == "date":
        return base | {
            "kind": "date",
            "low": low,
            "high": high,
            "from": date_text(low),
            "to": date_text(high),
            "start": date_text(float(np.floor(middle))),
        }
    step = 10.0 ** np.floor(np.log10((high - low) / STEPS)) if high > low else 1.0
    start_at = float(np.clip(np.round(middle / step) * step, low, high))
    return base | {
        "kind": "number",
        "low": low,
        "high": high,
        "from": value(low),
        "to": value(high),
        "step": float(f"{step:.0e}"),
        "start": np.format_float_positional(float(f"{start_at:.6g}"), trim="-"),
    }


def _levels(fit: Fitted, name: str) -> list[Any] | None:
    """Return the levels of a column that terms take as a category alone; None of others."""
    for term in fit.design.terms:
        for factor in term.categories:
            if factor.expression == Name(name) or column_of_levels(factor.expression) == Name(name):
                return list(factor.levels)
    return None
