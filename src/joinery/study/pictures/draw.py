"""What each picture of a fit shows: the arrays, the question in the title, the finding under it."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.core.inference.smooth import smooth
from joinery.data.columns import level_text
from joinery.data.records import records
from joinery.data.written_dates import date_text, stamps_of
from joinery.design.factors import CategoryFactor
from joinery.errors import CallError, one_of
from joinery.notation.evaluate import Context
from joinery.notation.tree import names_in
from joinery.show.numbers import fixed
from joinery.show.numbers import value as shown
from joinery.show.pictures.canvas import Words
from joinery.show.pictures.fit import Curve
from joinery.study.compare import box_cox as powers
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.study.forecast.bands import bands
from joinery.study.pictures import checks as checks_sheet
from joinery.study.pictures import forecast as forecast_picture
from joinery.study.pictures import influence as influence_pictures
from joinery.study.pictures import residuals as residual_pictures
from joinery.study.pictures.words import flags_of, worded
from joinery.study.read.equation import equation
from joinery.study.rows.figures import fitted_values, per_row

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

DRAWS, SEED = (
    1000,
    20260101,
)  # simulated samples behind the quantile band, and the seed that repeats them
MOST_SIMULATED = 2000
CURVE_POINTS, SEED = 121, 20260103
FROM_ZERO = 0.3  # the share of the highest value above which an axis that leaves zero out is said
Picture = Callable[..., "Figure"]


def draw(
    fit: Fitted,
    name: str,
    *,
    path: str | os.PathLike[str] | None,
    ax: Axes | None,
    label_rows: str | Sequence[Any],
    words: Mapping[str, str | None],
    **options: Any,
) -> Figure:
    """Draws a picture by name. See ``Fit.draw``."""
    from joinery.show.pictures.canvas import names_as_they_are, write

    one_of("picture", name, tuple(PICTURES))
    rows_at_hand(fit)
    picture, takes = PICTURES[name]
    for option in options:
        if option not in takes:
            known = f"; it takes {', '.join(takes)}" if takes else ""
            raise CallError(f"the picture {name!r} takes no {option}={known}", argument=option)
    with names_as_they_are():
        figure = picture(fit, label_rows=label_rows, words=words, ax=ax, **options)
        if path is not None:
            write(figure, path)
    return figure


# ------------------------------------------------------------------ line


def _line(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Mapping[str, str | None],
    ax: Axes | None,
    against: str | None = None,
) -> Figure:
    """The fitted line or curve across one numeric predictor, the others held."""
    from joinery.show.pictures.fit import line

    table, chosen = rows_at_hand(fit)
    across = _across(fit, against)
    x = table.column(across).numbers(chosen.rows)
    low, high = fit.design.seen[across]
    margin = 0.06 * (high - low) or 1.0
    grid = np.unique(
        np.concatenate([np.linspace(low - margin, high + margin, CURVE_POINTS), [low, high]])
    )
    if float(np.min(x)) > 0:
        grid = grid[grid > 0]
    context, held = _curve_rows(fit, across, grid)
    band = bands(fit, context, fit.design.matrix(context), fit.level)
    figures = per_row(fit)
    name = fit.words(fit.response.name)
    if held:
        at_rows, _ = _curve_rows(fit, across, x)
        y = fitted_values(fit, at_rows, fit.design.matrix(at_rows)) + figures.residual
        y_label = f"{name}, brought to the held values"
        finding = f"held: {', '.join(held)}; points are the fitted curve plus each row's residual"
    else:
        y, y_label = figures.observed, name
        r2 = f";  R² {fixed(fit.r_squared, 2)}" if fit.r_squared is not None else ""
        finding = equation(fit) + r2
    if float(np.min(y)) > FROM_ZERO * float(np.max(y)):
        finding += "; the upright axis does not start at zero"
    if not fit.estimate.linear:
        y, y_label, finding = _means_only(fit, held, band.fitted)
    caption = Words(
        f"How does {name} change with {fit.words(across)}?",
        finding,
        fit.words(across),
        y_label,
        x_dates=across in fit.design.dates,
    )
    curve = Curve(
        grid,
        band.fitted,
        (band.mean_lower, band.mean_upper),
        (band.new_lower, band.new_upper),
        (low, high),
    )
    local = smooth(x, y) if fit.estimate.linear else None
    flags = flags_of(fit, label_rows)
    return line(x, y, curve, flags, worded(caption, words), ax, local, _in_groups(fit, x, y))


def _means_only(fit: Fitted, held: list[str], fitted: np.ndarray) -> tuple[np.ndarray, str, str]:
    """Under a link points are the responses themselves, the curve that of a held case."""
    figures = per_row(fit)
    y = figures.observed
    if fit.family.shares:
        label = (
            f"share {fit.response.name}"
            if fit.response.kind == "of"
            else f"chance of {fit.response.name}"
        )
    else:
        label = fit.words(str(fit.response.expression))
    if fit.response.kind == "per":
        label += f" (curve at the mean {fit.response.total})"
    if set(np.unique(y)) <= {
        0.0,
        1.0,
    }:  # a little apart, always the same, so that equal values do not hide one another
        apart = np.random.default_rng(SEED).uniform(0, 0.05, len(y))
        y = np.where(y > 0, 1 - apart, apart)
    if _in_groups(fit, figures.fitted, y) is not None:
        held = [*held, "diamonds: shares in groups"] if held else held
    finding = (
        equation(fit)
        if not held
        else f"the curve is for {', '.join(held)}; points are the rows as observed"
    )
    return y, label, finding


def _in_groups(fit: Fitted, x: np.ndarray, y: np.ndarray) -> tuple[np.ndarray, np.ndarray] | None:
    """Observed shares in groups of x, for yes or no rows, which alone show no curve."""
    observed = per_row(fit).observed
    if fit.estimate.linear or not set(np.unique(observed)) <= {0.0, 1.0}:
        return None
    parts = [
        p
        for p in np.array_split(np.argsort(x, kind="stable"), min(8, max(len(x) // 8, 2)))
        if len(p)
    ]
    return np.array([x[p].mean() for p in parts]), np.array([observed[p].mean() for p in parts])


def _across(fit: Fitted, against: str | None) -> str:
    numeric = list(fit.design.seen)
    if against is not None:
        return one_of("against", against, tuple(numeric))
    if not numeric:
        raise CallError("the picture 'line' needs a numeric predictor, and the model has none")
    return numeric[0]


def _curve_rows(fit: Fitted, across: str, grid: np.ndarray) -> tuple[Context, list[str]]:
    """Design rows along one predictor, numbers at their mean, categories at the reference."""
    table, chosen = rows_at_hand(fit)
    columns: dict[str, Any] = {}
    held: list[str] = []
    for term in fit.design.terms:
        for factor in term.factors:
            for name in (n.name for n in names_in(factor.expression)):
                if name in columns:
                    continue
                dated = name in fit.design.dates
                if name == across:
                    columns[name] = stamps_of(grid) if dated else grid
                elif name in fit.design.seen:
                    mean = float(np.mean(table.column(name).numbers(chosen.rows)))
                    values = np.full(len(grid), mean)
                    columns[name] = stamps_of(values) if dated else values
                    held.append(f"{fit.words(name)} {date_text(mean) if dated else shown(mean)}")
                elif isinstance(factor, CategoryFactor):
                    columns[name] = [level_text(factor.levels[0])] * len(grid)
                    held.append(f"{fit.words(name)} {level_text(factor.levels[0])}")
    beside = list(fit.asides.expressions.values())
    if fit.response.kind == "per" and fit.response.total is not None:
        beside.append(fit.response.total)
    for name in (n.name for e in beside for n in names_in(e)):
        if name not in columns:
            columns[name] = np.full(
                len(grid), float(np.mean(table.column(name).numbers(chosen.rows)))
            )
            held.append(f"{fit.words(name)} {shown(columns[name][0])}")
    return fit.design.context(records(columns), slice(None)), held


PICTURES: dict[str, tuple[Picture, tuple[str, ...]]] = {
    "line": (_line, ("against",)),
    "observed_fitted": (residual_pictures.observed_fitted, ()),
    "residuals": (residual_pictures.residuals, ("against",)),
    "spread": (residual_pictures.spread, ()),
    "quantiles": (residual_pictures.quantiles, ()),
    "histogram": (residual_pictures.histogram, ()),
    "sequence": (residual_pictures.sequence, ()),
    "leverage": (influence_pictures.leverage, ()),
    "influence": (influence_pictures.influence, ()),
    "added_variable": (influence_pictures.added_variable, ("term",)),
    "component_residual": (influence_pictures.component_residual, ("against",)),
    "forecast": (forecast_picture.forecast, ("new", "hold")),
    "box_cox": (powers.picture, ()),
    "checks": (checks_sheet.checks, ()),
}
