"""The intercept in words."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np

from joinery.core.inference import intervals
from joinery.data.any_table import records
from joinery.data.columns import level_text
from joinery.design.factors import NumberFactor
from joinery.notation.tree import Call, Expression, Name
from joinery.notation.walk import names_in_own_row
from joinery.study.fitted import Fitted
from joinery.study.held import (
    held_cell,
    numeric_columns,
)
from joinery.study.read.estimates import estimates
from joinery.study.understand.phrases import ends
from joinery.study.understand.scale import Scale
from joinery.study.understand.simple_slopes import (
    shown_value,
)
from joinery.support.errors import JoineryError, listed

NO_SIZE = 1e-9  # of a column's size: as good as zero
HARDLY_OUTSIDE = 0.1  # a share of the range that is hardly outside it


def about_intercept(fit: Fitted) -> Iterator[str]:
    e = estimates(fit)
    if not fit.solution.has_intercept:
        yield "The sentence has none: the line goes through zero, or each level has its own mean."
        return
    lower, upper = intervals.around(e.values[:1], e.standard_errors[:1], e.df[:1], fit.level)
    b = ends(float(e.values[0]), float(lower[0]), float(upper[0]))
    on = Scale(fit).on
    if on:
        scale = f" on the scale of {on}"
    else:
        scale = ""
    zeros = {name: _zero(fit, name) for name in numeric_columns(fit)}
    references = {
        name: level_text(f.levels[0])
        for t in fit.design.terms
        for f in t.categories
        for name in (n.name for n in names_in_own_row(f.expression))
        if name not in zeros
    }
    if not _nothing_else(fit, zeros | references):
        yield (
            f"It is {b}{scale}. At no plain values are all terms zero, so it is no row's mean by "
            "itself."
        )
        return
    where = [_stands_at(fit, name, at) for name, at in zeros.items()]
    where += [f"{fit.words(str(lag))} is 0" for lag in fit.lags]
    where += [f"{fit.words(name)} is {level}" for name, level in references.items()]
    yield f"It is {b}{scale}: the mean where {listed(where, 8) or 'nothing is said'}."
    outside = [name for name, at in zeros.items() if not _near(at, *fit.design.seen[name])]
    if outside:
        ranges = listed(
            f"{fit.words(n)} runs from {shown_value(fit, n, fit.design.seen[n][0])} to "
            f"{shown_value(fit, n, fit.design.seen[n][1])}"
            for n in outside
        )
        yield f"No row is near that: {ranges}. By itself it means nothing."


def _stands_at(fit: Fitted, name: str, at: float) -> str:
    """Return where a number's terms are zero, in words."""
    if _calls(fit, name) <= {"centred", "standardized"}:
        mean = "at its mean, "
    else:
        mean = ""
    return f"{fit.words(name)} is {mean}{shown_value(fit, name, at)}"


def _nothing_else(fit: Fitted, at: Mapping[str, Any]) -> bool:
    """Return True if every estimated term is zero at some values, so that the constant is left."""
    columns = {name: [held_cell(fit, name, v)] for name, v in at.items()}
    if not columns and not fit.lags:
        return True
    table = records(columns or {"": [0.0]}, like=fit.design.manner)
    table.lags.update({str(lag): np.zeros(1) for lag in fit.lags})
    try:
        X = fit.design.matrix(fit.design.context(table, np.arange(1)))[:, fit.solution.kept]
    except JoineryError:  # a term does not exist there
        return False
    usual = np.abs(fit.solution.centre) + fit.solution.spread
    return bool((np.abs(X[0]) <= NO_SIZE * usual).all())


def _near(at: float, low: float, high: float) -> bool:
    """Return True if a value lies inside what was seen, or hardly outside it."""
    margin = HARDLY_OUTSIDE * (high - low)
    return low - margin <= at <= high + margin


def _zero(fit: Fitted, name: str) -> float:
    """Return a value at which a number's terms may be zero: 0, 1, its mean, the first date."""
    if name in fit.design.dates:
        return fit.design.seen[name][0]
    calls = _calls(fit, name)
    if calls <= {"centred", "standardized"}:
        factor = next(iter(_number_factors(fit, name)))
        return float(fit.design.function_memory[str(factor.expression)]["mean"])
    if calls <= {"log", "log2", "log10"}:
        return 1.0
    return 0.0


def _number_factors(fit: Fitted, name: str) -> list[NumberFactor]:
    return [
        f
        for t in fit.design.terms
        for f in t.factors
        if isinstance(f, NumberFactor) and is_of(f.expression, name)
    ]


def _calls(fit: Fitted, name: str) -> set[str | None]:
    """Return the functions around a number; None where it stands in another way, or in no
    factor."""
    return {called_by(f) for f in _number_factors(fit, name)} or {None}


def is_of(expression: Expression, name: str) -> bool:
    """Return True if an expression is made from a column in its own row."""
    return any(n.name == name for n in names_in_own_row(expression))


def called_by(factor: NumberFactor) -> str | None:
    """Return the one function around a plain column: a logarithm, centring or standardizing."""
    e = factor.expression
    if not (isinstance(e, Call) and isinstance(e.arguments[0], Name)):
        return None
    known = ("log", "log2", "log10", "centred", "standardized")
    if e.function in known:
        return e.function
    return None
