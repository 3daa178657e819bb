"""Forecasts of new rows, with an interval for the mean and one for a single row."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from joinery.core import intervals
from joinery.data.records import Records, records
from joinery.design.factors import shown
from joinery.errors import CallError, NewRowError, listed, nearest
from joinery.notation.evaluate import Context, TableLike, evaluate
from joinery.notation.parse import read_assignments
from joinery.notation.tree import Call, Expression, calls_in, names_in
from joinery.show.numbers import level_words, value
from joinery.show.table import Table
from joinery.study.asked import Asked, checked_level
from joinery.study.per_row import fitted_values


@dataclass(frozen=True)
class Bands:
    """Fitted values with their two intervals on the model's scale, each (m,)."""

    fitted: np.ndarray
    mean_lower: np.ndarray
    mean_upper: np.ndarray
    new_lower: np.ndarray
    new_upper: np.ndarray


def bands(fit: Asked, context: Context, X: np.ndarray, level: float) -> Bands:
    """Intervals at rows X (m, width): s²·x₀ᵀVx₀ for the mean, s²/w₀ more for a new row (Draper & Smith 1998, 3.1).

    Without weights for the new rows of a weighted fit there is no interval for a row.
    """
    solution, s = fit.solution, fit.residual_sd
    fitted = fitted_values(fit, context, X)
    own: float | np.ndarray = 1.0
    if fit.asides.weights is not None:
        own = np.full(len(X), np.nan)
        if not _lacking(fit.asides.expressions["weights"], context.table):
            weights = fit.asides.values("weights", context)
            assert weights is not None
            own = np.where(weights > 0, 1 / np.where(weights > 0, weights, 1.0), np.nan)
    spread = np.nan if s is None else s
    variance = solution.unscaled_variance(X)
    of_mean, df = spread * np.sqrt(variance), float(fit.residual_df)
    if fit.sandwich is not None:
        u = solution.in_basis(X)
        of_mean, df = np.sqrt(np.einsum("ij,jk,ik->i", u, fit.sandwich.meat, u)), float(np.nanmin(fit.sandwich.df))
    mean_lower, mean_upper = intervals.around(fitted, of_mean, df, level)
    new_lower, new_upper = intervals.around(fitted, np.hypot(np.sqrt(own) * spread, of_mean), df, level)
    return Bands(fitted, mean_lower, mean_upper, new_lower, new_upper)


def forecast(fit: Asked, new: Any = None, *, level: float | None = None) -> Table:
    """The forecast table. See ``Fit.forecast``."""
    level = fit.level if level is None else checked_level(level)
    table, positions = _new_rows(fit, new)
    _check_columns(fit, table)
    context = fit.design.context(table, positions)
    X = fit.design.matrix(context)
    own = bands(fit, context, X, level)
    usable = ~np.isnan(own.fitted)
    measured = _turned_back(fit, own)
    notes = _notes_by_row(fit, table, positions, usable)
    columns: dict[str, Any] = {
        "fitted": measured.fitted,
        "mean_lower": measured.mean_lower,
        "mean_upper": measured.mean_upper,
        "new_lower": measured.new_lower,
        "new_upper": measured.new_upper,
    }
    columns |= _judged(fit, table, context, measured) if new is not None else {}
    columns["note"] = notes
    index = table.index
    return Table(
        columns,
        title=f"Forecasts of {fit.words(fit.response.original)}, with {level_words(level)} intervals",
        notes=tuple(_notes(fit, columns)),
        index=index[positions].tolist(),
        index_name=str(index.name or "row"),
        kinds={"note": "text", "inside": "text"},
        headings={"new_lower": "new row lower", "new_upper": "new row upper"},
    )


def _new_rows(fit: Asked, new: Any) -> tuple[Records, np.ndarray]:
    if new is None:
        if fit.table is None or fit.selection is None:
            raise CallError("a fit loaded from a file keeps no rows to forecast; give new ones: forecast(new)")
        if not len(fit.selection.awaiting):
            raise CallError(
                f"no row of the table is missing its {fit.response.original}, so there is none to forecast; "
                "give new rows: forecast(new)",
                argument="new",
            )
        return fit.table, fit.selection.awaiting
    if isinstance(new, str) and "=" in new and not new.startswith("sample:"):
        new = read_assignments(new)
    if isinstance(new, Mapping) and not new:
        raise CallError("the new row is empty; give a value for each column the model needs", argument="new")
    table = records(new)
    if fit.id is not None and fit.id in table.names:
        table = records(table, fit.id)
    return table, np.arange(len(table))


def _needed(fit: Asked) -> list[str]:
    """The columns that the terms and the offset name."""
    expressions = [f for t in fit.design.sentence.terms for f in t.factors]
    if (offset := fit.asides.expressions.get("offset")) is not None:
        expressions.append(offset)
    return list(dict.fromkeys(n.name for e in expressions for n in names_in(e)))


def _lags(fit: Asked) -> list[Call]:
    """The lags in the terms: a value so many rows before, missing in the first rows of any table."""
    factors = (f for t in fit.design.sentence.terms for f in t.factors)
    return [call for f in factors for call in calls_in(f) if call.function == "lag"]


def _lacking(expression: Expression, table: TableLike) -> list[str]:
    """The columns of an expression that a table does not have."""
    return [n.name for n in names_in(expression) if n.name not in table.names]


def _check_columns(fit: Asked, table: Records) -> None:
    """Raises NewRowError when the new table lacks a column that the terms name."""
    needed = _needed(fit)
    lacking = [name for name in needed if name not in table.names]
    if lacking:
        near = nearest(lacking[0], [n for n in table.names if n not in needed])
        hint = f"; is it {near!r}?" if near else "."
        raise NewRowError(
            f"the new rows have no column {listed(map(repr, lacking))}, which the model needs{hint} "
            f"It needs {listed(needed, 12)}",
            column=lacking[0],
            known=table.names,
        )


def _turned_back(fit: Asked, own: Bands) -> Bands:
    """The bands on the measured scale; ends swap where the transformation turns the order round."""
    response = fit.response
    if not response.transformed:
        return own
    back = response.turn_back
    if response.decreasing:
        own = Bands(own.fitted, own.mean_upper, own.mean_lower, own.new_upper, own.new_lower)
    return Bands(*(back(v) for v in (own.fitted, own.mean_lower, own.mean_upper, own.new_lower, own.new_upper)))


def _judged(fit: Asked, table: Records, context: Context, measured: Bands) -> dict[str, Any]:
    """What really came, where the new rows have it: observed, error, and whether the interval held it."""
    name = fit.response.original if fit.response.transformed else None
    needed = [name] if name else [n.name for n in names_in(fit.response.expression)]
    if not all(n in table.names for n in needed):
        return {}
    observed = table.column(name).numbers(context.rows) if name else fit.response.values(context)
    if np.isnan(observed).all():
        return {}
    known = ~np.isnan(observed) & ~np.isnan(measured.new_lower)
    inside = (observed >= measured.new_lower) & (observed <= measured.new_upper)
    return {
        "observed": observed,
        "error": observed - measured.fitted,
        "inside": [("yes" if i else "no") if k else None for i, k in zip(inside, known)],
    }


def _notes_by_row(fit: Asked, table: Records, positions: np.ndarray, usable: np.ndarray) -> list[str]:
    """Why a row has no forecast, and what of it lies outside what was seen."""
    notes: list[list[str]] = [[] for _ in positions]
    for name in _needed(fit):
        for place in np.flatnonzero(table.column(name).missing(positions) & ~usable):
            notes[place].append(f"no {name}")
    for name in fit.design.fills:
        for place in np.flatnonzero(table.column(name).missing(positions)):
            notes[place].append(f"no {name}: its mean stands for it")
    for name, (low, high) in fit.design.seen.items():
        values = table.column(name).numbers(positions)
        with np.errstate(invalid="ignore"):
            outside = np.flatnonzero((values < low) | (values > high))
        for place in outside:
            seen = f"({value(low)} to {value(high)})"
            notes[place].append(f"{name} {value(values[place])} lies outside what was seen {seen}")
    for lag in _lags(fit):
        for place in np.flatnonzero(np.isnan(evaluate(lag, fit.design.context(table, positions))) & ~usable):
            notes[place].append(f"no {shown(lag)}")
    return ["; ".join(parts) for parts in notes]


def _notes(fit: Asked, columns: dict[str, Any]) -> list[str]:
    notes = []
    if fit.response.transformed:
        notes.append(
            f"the model is of {fit.response.name}; turned back, fitted is the median of {fit.response.original}, "
            "and so are the ends of its interval"
        )
    if fit.residual_sd is None:
        notes.append("no degrees of freedom are left, so there are no intervals")
    if fit.sandwich is not None:
        notes.append("the interval for a new row still takes the spread of single rows to be even")
    if fit.asides.weights is not None and np.isnan(columns["new_lower"]).all():
        notes.append(f"the fit is weighted by {fit.asides.weights}, and the new rows have no weights: no row intervals")
    if "inside" in columns:
        known = [v for v in columns["inside"] if v]
        notes.append(
            f"{sum(v == 'yes' for v in known)} of {len(known)} observed values lie inside the new-row interval"
        )
    return notes
