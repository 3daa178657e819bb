"""The columns of one predictor's curve, taken together: how far it moves the response."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.core.inference import intervals
from joinery.design.factors import CategoryFactor
from joinery.study.fitted import Fitted, once
from joinery.study.read.coefficients import standard_units
from joinery.study.read.estimates import contrast, estimates


@dataclass(frozen=True)
class CurveSize:
    """A curve's standard deviation over the rows in standard units, and its interval.

    x and its powers alone would have two bars that cancel. ``places`` among the coefficients."""

    name: str
    places: tuple[int, ...]
    bar: tuple[float, float, float]  # lower end, size, upper end


def standard_bars(fit: Fitted) -> np.ndarray:
    """Return lower end, estimate and upper end of each coefficient in standard units (k, 3).

    A curve has one bar, at the first of its coefficients; the others have NaN."""
    e = estimates(fit)
    lower, upper = intervals.around(e.values, e.standard_errors, e.df, fit.level)
    bars = np.asarray(np.column_stack([lower, e.values, upper]) * standard_units(fit)[:, None])
    for curve in curve_sizes(fit):
        bars[list(curve.places)] = np.nan
        bars[curve.places[0]] = curve.bar
    return bars


@once
def curve_sizes(fit: Fitted) -> list[CurveSize]:
    """Return the size of each curve that takes several columns of a predictor by itself.

    The interval is by the delta method; none where a category of many levels was swept out."""
    if fit.solution.groups is not None:
        return []
    columns: dict[str, list[int]] = {}
    for term in fit.design.terms:
        factor = term.factors[0]
        if len(term.factors) > 1 or isinstance(factor, CategoryFactor):
            continue
        columns.setdefault(factor.base, []).extend(range(term.start, term.start + factor.width))
    kept = {column: place for place, column in enumerate(fit.solution.kept.tolist())}
    sizes = []
    for base, of_curve in columns.items():
        places = [kept[column] for column in of_curve if column in kept]
        if len(places) > 1:
            sizes.append(_size(fit, base, np.array(places)))
    return sizes


def _size(fit: Fitted, base: str, places: np.ndarray) -> CurveSize:
    solution = fit.solution
    columns = solution.kept[places]
    F = solution.factor[:, places] * solution.scale[places]
    moved = F @ solution.coefficients[columns]  # its length is that of the curve over the rows
    length = float(np.linalg.norm(moved))
    gradient = np.zeros((1, fit.design.width))
    gradient[0, columns] = (moved / (length or 1.0)) @ F
    coefficients = columns + solution.has_intercept
    unit = float(standard_units(fit)[coefficients[0]] / solution.lengths[places[0]])
    error = contrast(fit, gradient)
    lower, upper = intervals.around(np.array([length]), error.standard_errors, error.df, fit.level)
    bar = (float(lower[0]) * unit, length * unit, float(upper[0]) * unit)
    return CurveSize(base, tuple(coefficients.tolist()), bar)
