"""Forecasts of new rows, with an interval for the mean and one for a single row."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from joinery.data.any_table import records
from joinery.data.records import Records
from joinery.data.sources.source import refuse_too_large
from joinery.notation.context import Context
from joinery.notation.evaluate import evaluate
from joinery.notation.parse import read_assignments
from joinery.notation.walk import named_in, names_in
from joinery.show.appearance import Appearance
from joinery.show.numbers import level_words
from joinery.show.table import Table
from joinery.study.fitted import Fitted, checked_level
from joinery.study.forecast.ahead import run_ahead
from joinery.study.forecast.bands import (
    Bands,
    How,
    back_transformed,
    bands,
    expected_response,
    trials_of,
)
from joinery.study.forecast.memory import forecast_memory
from joinery.study.forecast.notes import RowRemarks, needed_columns, remarks_by_row, table_notes
from joinery.study.held import Held, averaged_rows, hold_rest
from joinery.study.rates import Counted, counted
from joinery.support import advice
from joinery.support.errors import CallError, NewRowError, listed, nearest, one_of
from joinery.support.limits import MOST_HELD

ENDS = ("mean_lower", "mean_upper", "new_lower", "new_upper")
INTERVALS = ("model", "distribution-free")
HOLDS = ("average",)


# ------------------------------------------------------------------ the table


def forecast(
    fit: Fitted,
    new: Any = None,
    *,
    level: float | Sequence[float] | None = None,
    intervals: str = "model",
    simultaneous: bool = False,
    hold: str | None = None,
    per: float | None = None,
) -> Table:
    """Return the forecast table. See ``Fit.forecast``."""
    return forecast_with_remarks(fit, new, level, intervals, simultaneous, hold, per)[0]


def forecast_with_remarks(
    fit: Fitted,
    new: Any,
    level: float | Sequence[float] | None,
    intervals: str,
    simultaneous: bool,
    hold: str | None,
    per: float | None = None,
) -> tuple[Table, RowRemarks]:
    """Return the forecast table, and what is said of each row as data."""
    one_of("intervals", intervals, INTERVALS)
    if hold is not None:
        one_of("hold", hold, HOLDS)
    if intervals == "distribution-free" and simultaneous:
        raise CallError(
            "distribution-free intervals are for one row at a time", argument="simultaneous"
        )
    rates = counted(fit, per)
    several = isinstance(level, (list, tuple))
    if isinstance(level, (list, tuple)):
        requested = level
    else:
        requested = [level]
    levels = [fit.level if v is None else checked_level(v) for v in requested]
    table, positions = new_rows(fit, new)
    if new is None:
        unused = []
    else:
        unused = _unused_columns(fit, table, strict=hold is not None)
    if hold is None:
        held = Held(table)
    else:
        held = hold_rest(fit, table, follow=True)
    table = held.table
    needed = needed_columns(fit, exposure=per is None)
    _check_columns(fit, table, needed)
    if per is None:
        _check_exposure(fit, table, positions)
    # what is said of a row is said of it as it came, infinite cells and all
    given, table = table, _without_infinite(fit, table)
    ahead = None
    # rows that follow one another in time feed on forecasts of the rows before them
    if hold is None and per is None and intervals == "model" and not simultaneous:
        ahead = run_ahead(fit, table, positions)
    if ahead is not None:
        table = table.assigned({})
        table.lags.update(ahead.lags)
        given = table
    context = fit.design.context(table, positions)
    X = averaged_rows(fit, replace(held, table=table), positions)
    how = How(intervals, simultaneous, rates)
    # intervals are made on the scale of the model, and turned back end by end
    by_level = [back_transformed(fit, bands(fit, context, X, v, how)) for v in levels]
    if ahead is not None:
        by_level = [
            ahead.put_into(part, positions, v) for part, v in zip(by_level, levels, strict=True)
        ]
    measured = by_level[0]
    columns: dict[str, Any] = {"fitted": measured.fitted}
    if (expected := expected_response(fit, context, X)) is not None:
        columns["expected"] = expected if ahead is None else ahead.expected(expected, positions)
    if (probability := _probability(fit, context, measured)) is not None:
        columns["probability"] = probability
    for part, v in zip(by_level, levels, strict=True):
        if several:
            tail = f"_{100 * v:.10g}"
        else:
            tail = ""
        for name in ENDS:
            columns[name.replace("mean", fit.response.middle) + tail] = getattr(part, name)
    columns |= _judged(fit, table, context, measured, rates) if new is not None else {}
    remarks = remarks_by_row(fit, given, table, positions, measured, X, rates)
    columns["note"] = remarks.texts(len(positions))
    index = table.index
    sure = " and ".join(map(level_words, levels))
    found_table = Table(
        columns,
        title=f"Forecasts of {rates.name}, with {sure} intervals",
        notes=(
            *table_notes(fit, columns, levels[0], intervals, simultaneous, held, rates),
            *rates.notes,
            *([] if ahead is None else [ahead.note]),
            *_order_note(fit, table),
            *_rate_notes(rates, columns),
            *unused,
        ),
        index=index[positions].tolist(),
        index_name=str(index.name or "row"),
        appearance=Appearance(
            kinds={"note": "text", "inside": "text", "probability": "own"},
            headings={
                n: n.replace("new_", "new row ").replace("_", " ")
                for n in columns
                if n.endswith(("_lower", "_upper")) or "_lower_" in n or "_upper_" in n
            },
        ),
    )
    return found_table, remarks


def _order_note(fit: Fitted, table: Records) -> list[str]:
    """Return rows whose lags go by the table's own order, for want of the column that ordered
    them."""
    order = fit.options.order
    if not fit.lags or order is None or order in table.names:
        return []
    return [f"the new rows have no {order}: lags take them in the order in which they stand"]


def _rate_notes(rates: Counted, columns: dict[str, Any]) -> list[str]:
    """Return a note on the interval of a single row's rate."""
    if rates.per is None:
        return []
    if any(np.isnan(v).all() for name, v in columns.items() if name.startswith("new_lower")):
        return ["a rate of a single row has an interval only where its exposure is given"]
    return ["the interval of a single row is of its own rate, at its own exposure"]


def new_rows(fit: Fitted, new: Any) -> tuple[Records, np.ndarray]:
    """Return the rows to forecast: the new ones, else those whose response is missing."""
    if new is None:
        if fit.origin is None:
            raise CallError(
                "a fit loaded from a file keeps no rows to forecast; give new ones "
                f"with {advice.option('new')}"
            )
        if not len(fit.origin.used_rows.awaiting):
            raise CallError(
                f"no row of the table is missing its {fit.response.original}, so there is none "
                "to forecast; "
                f"give new rows with {advice.option('new')}",
                argument="new",
            )
        return fit.origin.table, fit.origin.used_rows.awaiting
    if isinstance(new, str) and "=" in new and not new.startswith("sample:"):
        new = read_assignments(new)
    if isinstance(new, Mapping) and not new:
        raise CallError(
            "the new row is empty; give a value for each column the model needs", argument="new"
        )
    table = records(new, like=fit.design.manner)
    if fit.options.id is not None and fit.options.id in table.names:
        table = records(table, fit.options.id)
    if table.read_as_needed:
        instead = "Fit.write_forecasts, or --output in a shell, writes them to a file"
        refuse_too_large(len(table), MOST_HELD, "a table of forecasts", instead)
    return table, np.arange(len(table))


def _unused_columns(fit: Fitted, table: Records, *, strict: bool) -> list[str]:
    """Return a note on the columns of new rows that the model does not use.

    Raises NewRowError, where other columns are held, for one that the fitted table had not: the
    name is a slip, and would be held unseen.
    """
    options = fit.options
    asides = named_in(fit.asides.expressions.values())
    labels = [name for name in (options.id, options.order, *options.cluster) if name]
    used = {*needed_columns(fit), *fit.design.named, *asides, *labels}
    unused = [name for name in table.names if name not in used]
    fitted_columns = forecast_memory(fit).columns
    for name in unused if strict else ():
        if name not in fitted_columns:
            near = nearest(name, used)
            if near:
                hint = f"did you mean {near!r}?"
            else:
                hint = f"it needs {listed(sorted(used), 12)}"
            raise NewRowError(
                f"the new rows have a column {name!r}, which the fitted table had not; {hint}",
                column=name,
                known=tuple(used),
            )
    if unused:
        return [f"the model does not use {listed(unused, 8)}"]
    return []


def _check_columns(fit: Fitted, table: Records, needed: list[str]) -> None:
    """Raise NewRowError when the new table lacks a column that is needed."""
    lacking = [name for name in needed if name not in table.names]
    if lacking:
        near = nearest(lacking[0], [n for n in table.names if n not in needed])
        hint = f"; is it {near!r}?" if near else "."
        raise NewRowError(
            f"the new rows have no column {listed(map(repr, lacking))}, which the model "
            f"needs{hint} "
            f"It needs {listed(needed, 12)}; {advice.option('hold', 'average')} holds what is not "
            "given at its average",
            column=lacking[0],
            known=table.names,
        )

    for name in needed:
        dated = name in fit.design.dates
        column = table.column(name)
        if dated != column.is_date and not column.missing(slice(None)).all():
            held = "dates in the fitted rows; write them '2024-03-01'"
            if not dated:
                held = "numbers in the fitted rows, not dates"
            raise NewRowError(f"column {name!r} holds {held}", column=name)


def _without_infinite(fit: Fitted, table: Records) -> Records:
    """Return the table with infinite numbers taken for missing: nothing can be forecast at them."""
    needed = [n for n in needed_columns(fit) if n in table.names]
    infinite = [n for n in needed if table.column(n).infinite(slice(None)).any()]
    for name in infinite:
        values = table.column(name).numbers(slice(None))
        table = table.replaced(name, np.where(np.isinf(values), np.nan, values))
    return table


def _check_exposure(fit: Fitted, table: Records, positions: np.ndarray) -> None:
    """Raise NewRowError for a missing exposure: it is never taken to be one."""
    if fit.response.kind != "per" or fit.response.total is None:
        return
    for name in (n.name for n in names_in(fit.response.total)):
        if (bad := table.column(name).missing(positions)).any():
            rows = list(table.labels(positions[bad]))
            raise NewRowError(
                f"row {listed(rows)}: no {name}; a count wants its exposure", column=name, rows=rows
            )


def _probability(fit: Fitted, context: Context, measured: Bands) -> np.ndarray | None:
    """Return the probability beside counts of a total."""
    trials = trials_of(fit, context)
    if trials is None:
        return None
    with np.errstate(all="ignore"):
        return np.asarray(measured.fitted / trials)


def _judged(
    fit: Fitted, table: Records, context: Context, measured: Bands, rates: Counted
) -> dict[str, Any]:
    """Compare with the new rows' responses: observed, error, whether inside the interval."""
    if fit.response.transformed:
        name = fit.response.original
    else:
        name = None
    if name:
        needed = [name]
    else:
        needed = [n.name for n in names_in(fit.response.expression)]
    if not all(n in table.names for n in needed):
        return {}
    if name:
        observed = table.column(name).numbers(context.rows)
    else:
        observed = evaluate(fit.response.expression, context)
    if np.isnan(observed).all():
        return {}
    if fit.response.kind == "of" and trials_of(fit, context) is None:
        return {}
    if rates.per is not None:
        exposure = rates.exposure(context)
        if exposure is None:
            return {}
        observed = observed / exposure * rates.per
    # a row without an interval is neither inside nor outside
    known = ~np.isnan(observed) & ~np.isnan(measured.new_lower)
    inside = np.full(len(observed), None, dtype=object)
    held = (observed >= measured.new_lower) & (observed <= measured.new_upper)
    inside[known] = held[known]
    return {
        "observed": observed,
        "error": observed - measured.fitted,
        "inside": inside.tolist(),
    }
