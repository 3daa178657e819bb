"""The parts of the picture of a line: the grid along it, the rows forecast there, the curve."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.data.any_table import records
from joinery.data.records import Records
from joinery.data.written_dates import stamps_of
from joinery.notation.evaluate import evaluate
from joinery.notation.walk import named_in
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.study.forecast.bands import Bands, bands
from joinery.study.held import (
    Held,
    averaged_rows,
    hold_rest,
)

if TYPE_CHECKING:
    from joinery.show.pictures.fit import Curve

CURVE_POINTS = 121  # a curve through so many looks smooth on paper too


def grid_along(fit: Fitted, name: str, x: np.ndarray) -> np.ndarray:
    """Return values across the seen range and a little beyond it, zero not passed where nothing
    is."""
    low, high = fit.design.seen[name]
    margin = 0.06 * (high - low) or 1.0
    spaced = np.linspace(low - margin, high + margin, CURVE_POINTS)
    grid = np.unique(np.concatenate([spaced, [low, high]]))
    if float(np.min(x)) > 0:
        return grid[grid > 0]
    return grid


def rows_along(fit: Fitted, name: str, values: np.ndarray, **more: Any) -> Records:
    """Return a row for each value of a predictor; columns of ``more`` are the same in all."""
    columns: dict[str, Any] = {name: values}
    if name in fit.design.dates:
        columns[name] = stamps_of(values)
    for other, same in more.items():
        columns[other] = [same] * len(values)
    return records(columns, like=fit.design.manner)


def bands_held(fit: Fitted, held: Held) -> Bands:
    """Return the forecasts of held rows, with both intervals."""
    held = with_exposure(fit, held)
    positions = np.arange(len(held.table))
    X = averaged_rows(fit, held, positions)
    return bands(fit, fit.design.context(held.table, positions), X, fit.level)


def with_exposure(fit: Fitted, held: Held) -> Held:
    """Return the table with what offset, weights and exposure name, at its mean over the fitted
    rows."""
    table, chosen = rows_at_hand(fit)
    beside = list(fit.asides.expressions.values())
    if fit.response.kind == "per" and fit.response.total is not None:
        beside.append(fit.response.total)
    columns, at = {}, dict(held.at)
    for name in named_in(beside):
        if name not in held.table.names:
            mean = float(np.mean(table.column(name).numbers(chosen.rows)))
            columns[name] = np.full(len(held.table), mean)
            at[name] = mean
    if not columns:
        return held
    return Held(held.table.assigned(columns), at)


def exposure_drawn(fit: Fitted, name: str, hold: Mapping[str, Any] | None) -> float:
    """Return the exposure at which the curve of a count is drawn; 1 of other responses."""
    total = fit.response.total
    if fit.response.kind != "per" or total is None:
        return 1.0
    x = np.array([fit.design.seen[name][0]])
    held = with_exposure(fit, hold_rest(fit, rows_along(fit, name, x), hold))
    return float(evaluate(total, fit.design.context(held.table, np.arange(1)))[0])


def curve_of(fit: Fitted, name: str, held: Held, seen: tuple[float, float] | None = None) -> Curve:
    """Return the curve through held rows, dashed beyond what was ``seen``."""
    from joinery.show.pictures.fit import Curve

    if seen is None:
        seen = fit.design.seen[name]
    band = bands_held(fit, held)
    return Curve(
        held.table.column(name).numbers(slice(None)),
        band.fitted,
        (band.mean_lower, band.mean_upper),
        (band.new_lower, band.new_upper),
        seen,
    )
