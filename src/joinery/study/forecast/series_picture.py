"""The response in the order of the rows: observed, fitted, and the forecasts after them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.data.any_table import records
from joinery.data.records import Records
from joinery.show.numbers import count, figure, level_words
from joinery.show.pictures.canvas import DENSE, Words
from joinery.study.check.sequence import in_order
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.study.forecast.table import forecast_with_remarks
from joinery.study.picture_words import flags_of, placed, worded
from joinery.study.rows.figures import per_row
from joinery.study.thinned import numbers_of, unthinned
from joinery.support.errors import CallError
from joinery.support.limits import MOST_AHEAD

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

STRETCHES = 300  # of a line through too many rows to be followed one by one


@dataclass(frozen=True)
class _Ahead:
    """Forecasts after the rows, each (m,), in order."""

    x: np.ndarray
    fitted: np.ndarray
    mean: tuple[np.ndarray, np.ndarray]
    new: tuple[np.ndarray, np.ndarray]


def series(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Mapping[str, str | None],
    ax: Axes | None,
    new: Any = None,
    hold: str | None = None,
) -> Figure:
    """Draw observed and fitted in order, with forecasts of ``new`` rows, or of those that wait."""
    from joinery.show.pictures.fit import Band, in_time

    table, used = rows_at_hand(fit)
    order, figures = in_order(fit), per_row(fit)
    positions = np.arange(len(table))[used.rows][order]
    named, dated, x = _axis(fit, table, positions)
    ahead = _forecasts(unthinned(fit), new, hold, x)
    name = fit.words(fit.response.name)
    finding = "points: observed; amber: fitted"
    if unthinned(fit) is fit:
        e = figures.observed[order] - figures.fitted[order]
        finding += f", typical miss {figure(float(np.sqrt(np.mean(e**2))), 3)}"
    line = x, figures.fitted[order]
    if len(x) > DENSE:
        several = -(-len(x) // STRETCHES)
        line = _averaged(line[0], several), _averaged(line[1], several)
        finding += f"; the line is the mean of {several:,} rows drawn at a time"
    if ahead is not None:
        finding += (
            f"; after them {count(len(ahead.x), 'forecast')} with {level_words(fit.level)} "
            "intervals for the mean and for a new row"
        )
    title = f"How does {name} run?"
    if ahead is not None:
        title = f"How does {name} run, and what comes next?"
    caption = Words(title, finding, named, name, x_dates=dated, x_rows=not dated)
    if ahead is None:
        band = None
    else:
        band = Band(ahead.x, ahead.fitted, ahead.mean, ahead.new)
    flags = placed(flags_of(fit, label_rows), order)
    return in_time(x, figures.observed[order], line, band, flags, worded(caption, words), ax)


def _averaged(values: np.ndarray, several: int) -> np.ndarray:
    """Return the means of so many neighbours at a time."""
    starts = np.arange(0, len(values), several)
    return np.add.reduceat(values, starts) / np.diff(np.append(starts, len(values)))


def _axis(fit: Fitted, table: Records, positions: np.ndarray) -> tuple[str, bool, np.ndarray]:
    """Return what runs across: the column of the order where it is a number or a date, else the
    row."""
    named = fit.options.order
    if named is not None and table.column(named).kind in ("number", "date"):
        column = table.column(named)
        return fit.words(named), column.is_date, column.numbers(positions)
    if named is None:
        label = "row, in the table's own order"
    else:
        label = f"row, by {fit.words(named)}"
    return label, False, numbers_of(fit) if named is None else np.arange(1.0, len(positions) + 1)


def _forecasts(fit: Fitted, new: Any, hold: str | None, x: np.ndarray) -> _Ahead | None:
    """Return the forecasts and where they stand; None where no row waits and none is given."""
    table, used = rows_at_hand(fit)
    waiting = used.awaiting
    if new is None and not len(waiting):
        return None
    result, _ = forecast_with_remarks(fit, new, None, "model", False, hold)
    frame = result.frame
    if len(frame) > MOST_AHEAD:
        raise CallError(f"the picture shows up to {MOST_AHEAD} forecasts, not {len(frame):,}")
    named, ahead_table = (
        fit.options.order,
        table if new is None else records(new, like=fit.design.manner),
    )
    if len(x):
        last = float(np.nanmax(x))
    else:
        last = 0.0
    at = last + np.arange(1.0, len(frame) + 1)
    if named is not None and named in ahead_table.names:
        column = ahead_table.column(named)
        if column.kind in ("number", "date") and len(ahead_table) >= len(frame):
            if new is None:
                rows = waiting
            else:
                rows = np.arange(len(ahead_table))
            at = column.numbers(rows)
    order = np.argsort(at, kind="stable")

    def column_of(name: str) -> np.ndarray:
        return np.asarray(frame[name].to_numpy(float)[order])

    middle = fit.response.middle
    mean = column_of(f"{middle}_lower"), column_of(f"{middle}_upper")
    return _Ahead(
        at[order], column_of("fitted"), mean, (column_of("new_lower"), column_of("new_upper"))
    )
