"""What each picture of a fit shows: the arrays, the question in the title, the finding under it."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.core import tails
from joinery.core.smooth import smooth
from joinery.data.columns import level_text
from joinery.data.records import records
from joinery.design.factors import CategoryFactor
from joinery.errors import CallError, one_of
from joinery.notation.evaluate import Context
from joinery.notation.tree import names_in
from joinery.show.fit_pictures import Curve, Flag, Words
from joinery.show.numbers import fixed
from joinery.show.numbers import value as shown
from joinery.study.asked import Asked, rows_at_hand
from joinery.study.equation import equation
from joinery.study.forecast import bands
from joinery.study.per_row import fitted_values, per_row
from joinery.study.rows import SERIOUS, remarks

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

DRAWS, SEED = 1000, 20260101  # simulated samples behind the quantile band, and the seed that repeats them
MOST_SIMULATED = 2000
CURVE_POINTS = 121


def draw(
    fit: Asked,
    name: str,
    *,
    path: str | os.PathLike[str] | None,
    ax: Axes | None,
    label_rows: str | Sequence[Any],
    words: Mapping[str, str | None],
    **options: Any,
) -> Figure:
    """Draws a picture by name. See ``Fit.draw``."""
    from joinery.show.canvas import write

    one_of("picture", name, tuple(PICTURES))
    rows_at_hand(fit)
    picture, takes = PICTURES[name]
    for option in options:
        if option not in takes:
            known = f"; it takes {', '.join(takes)}" if takes else ""
            raise CallError(f"the picture {name!r} takes no {option}={known}", argument=option)
    figure = picture(fit, label_rows=label_rows, words=words, ax=ax, **options)
    if path is not None:
        write(figure, path)
    return figure


def _worded(words: Words, given: Mapping[str, str | None]) -> Words:
    """The picture's own words, replaced where the caller gave some."""
    return Words(
        given.get("title") or words.title,
        words.finding,
        given.get("x_label") or words.x,
        given.get("y_label") or words.y,
    )


def _flags(fit: Asked, label_rows: str | Sequence[Any]) -> list[Flag]:
    """The points to label: the flagged ones, none, or those asked for."""
    table, chosen = rows_at_hand(fit)
    notable = remarks(fit)
    labels = table.index[chosen.rows]
    if isinstance(label_rows, str) and label_rows in ("flagged", "none"):
        found = notable if label_rows == "flagged" else []
        return [Flag(r.place, str(labels[r.place]), r.verdict == SERIOUS) for r in found[:12]]
    wanted = [label_rows] if isinstance(label_rows, str) else list(label_rows)
    serious = {r.place for r in notable if r.verdict == SERIOUS}
    place_of = {int(position): place for place, position in enumerate(np.arange(len(table))[chosen.rows])}
    places = [place_of[int(p)] for p in table.positions(wanted) if int(p) in place_of]
    return [Flag(place, str(labels[place]), place in serious) for place in places]


# ------------------------------------------------------------------ line


def _line(
    fit: Asked,
    *,
    label_rows: str | Sequence[Any],
    words: Mapping[str, str | None],
    ax: Axes | None,
    against: str | None = None,
) -> Figure:
    """The fitted line or curve across one numeric predictor, the others held."""
    from joinery.show.fit_pictures import line

    table, chosen = rows_at_hand(fit)
    across = _across(fit, against)
    x = table.column(across).numbers(chosen.rows)
    low, high = fit.design.seen[across]
    margin = 0.06 * (high - low) or 1.0
    grid = np.unique(np.concatenate([np.linspace(low - margin, high + margin, CURVE_POINTS), [low, high]]))
    if float(np.min(x)) > 0:
        grid = grid[grid > 0]
    context, held = _curve_rows(fit, across, grid)
    own = bands(fit, context, fit.design.matrix(context), fit.level)
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
    said = Words(f"How does {name} change with {fit.words(across)}?", finding, fit.words(across), y_label)
    curve = Curve(grid, own.fitted, (own.mean_lower, own.mean_upper), (own.new_lower, own.new_upper), (low, high))
    return line(x, y, curve, _flags(fit, label_rows), _worded(said, words), ax)


def _across(fit: Asked, against: str | None) -> str:
    numeric = list(fit.design.seen)
    if against is not None:
        return one_of("against", against, tuple(numeric))
    if not numeric:
        raise CallError("the picture 'line' needs a numeric predictor, and the model has none")
    return numeric[0]


def _curve_rows(fit: Asked, across: str, grid: np.ndarray) -> tuple[Context, list[str]]:
    """Design rows along one predictor: other numbers at their mean, categories at their reference level."""
    table, chosen = rows_at_hand(fit)
    columns: dict[str, Any] = {}
    held: list[str] = []
    for term in fit.design.terms:
        for factor in term.factors:
            for name in (n.name for n in names_in(factor.expression)):
                if name in columns:
                    continue
                if name == across:
                    columns[name] = grid
                elif name in fit.design.seen:
                    mean = float(np.mean(table.column(name).numbers(chosen.rows)))
                    columns[name] = np.full(len(grid), mean)
                    held.append(f"{fit.words(name)} {shown(mean)}")
                elif isinstance(factor, CategoryFactor):
                    columns[name] = [level_text(factor.levels[0])] * len(grid)
                    held.append(f"{fit.words(name)} {level_text(factor.levels[0])}")
    for name in (n.name for e in fit.asides.expressions.values() for n in names_in(e)):
        if name not in columns:
            columns[name] = np.full(len(grid), float(np.mean(table.column(name).numbers(chosen.rows))))
            held.append(f"{fit.words(name)} {shown(columns[name][0])}")
    return fit.design.context(records(columns), slice(None)), held


# ------------------------------------------------------------------ residuals


def _residuals(
    fit: Asked,
    *,
    label_rows: str | Sequence[Any],
    words: Mapping[str, str | None],
    ax: Axes | None,
    against: str | None = None,
) -> Figure:
    """Residuals against the fitted values, or a column."""
    from joinery.show.fit_pictures import residuals

    table, chosen = rows_at_hand(fit)
    figures = per_row(fit)
    if against is None:
        x, label = figures.fitted, f"fitted {fit.words(fit.response.name)}"
    else:
        x, label = table.column(against).numbers(chosen.rows), fit.words(against)
    curve = None if fit.solution.perfect else smooth(x, figures.residual)
    if fit.solution.perfect:
        finding = "the fit is perfect: every residual is zero"
    elif curve is None:
        finding = "too few different values for a smooth"
    else:
        outside = np.abs(curve.height) > 2 * curve.error
        finding = "the smooth's band holds zero throughout: no trend is left"
        if outside.mean() >= 0.05:
            low, high = (shown(float(v), 3) for v in (curve.at[outside].min(), curve.at[outside].max()))
            finding = f"the smooth leaves zero between {low} and {high}: a trend may be left"
    said = Words("Is anything left in the residuals?", finding, label, f"residual ({fit.words(fit.response.name)})")
    return residuals(x, figures.residual, curve, _flags(fit, label_rows), _worded(said, words), ax)


# ------------------------------------------------------------------ quantiles


def _quantiles(
    fit: Asked, *, label_rows: str | Sequence[Any], words: Mapping[str, str | None], ax: Axes | None
) -> Figure:
    """Sorted standardized residuals against normal quantiles."""
    from joinery.show.fit_pictures import quantiles

    if fit.solution.perfect:
        raise CallError("the fit is perfect: its residuals are all zero and have no quantiles")
    values = per_row(fit).influence.standardized
    sound = np.flatnonzero(np.isfinite(values))
    order = sound[np.argsort(values[sound], kind="stable")]
    n = len(order)
    expected = tails.normal_quantile((np.arange(1, n + 1) - 0.375) / (n + 0.25))
    band = _chance_band(fit, n)
    out = int(np.sum((values[order] < band[0]) | (values[order] > band[1])))
    finding = (
        "the residuals follow the line within what chance allows"
        if out <= 0.05 * n
        else f"{out} of {n} residuals lie outside what chance allows point by point"
    )
    place = {int(p): i for i, p in enumerate(order)}
    flags = [replace(f, place=place[f.place]) for f in _flags(fit, label_rows) if f.place in place]
    said = Words(
        "Are the residuals normal?", finding, "quantile expected of a normal sample", "standardized residual, sorted"
    )
    return quantiles(expected, values[order], band, flags, _worded(said, words), ax)


def _chance_band(fit: Asked, n: int) -> tuple[np.ndarray, np.ndarray]:
    """Where 95 % of sorted standardized residuals of normal samples lie, point by point.

    Simulated through the model's own hat matrix up to 2,000 rows; by the beta law of order statistics beyond that.
    """
    if n > MOST_SIMULATED:
        from scipy.special import betaincinv

        k = np.arange(1, n + 1)
        ends = [tails.normal_quantile(betaincinv(k, n - k + 1, share)) for share in (0.025, 0.975)]
        return ends[0], ends[1]
    table, chosen = rows_at_hand(fit)
    white = fit.solution.whitened(fit.design.matrix(fit.design.context(table, chosen.rows)))
    if fit.solution.has_intercept:
        white = np.column_stack([np.full(len(white), 1 / np.sqrt(len(white))), white])
    noise = np.random.default_rng(SEED).standard_normal((len(white), DRAWS))
    noise -= white @ (white.T @ noise)
    left = 1 - (white**2).sum(axis=1)
    sound = left > 1e-10
    scale = np.sqrt((noise**2).sum(axis=0) / fit.residual_df)
    drawn = np.sort(noise[sound] / np.sqrt(left[sound])[:, None] / scale, axis=0)
    return np.quantile(drawn, 0.025, axis=1), np.quantile(drawn, 0.975, axis=1)


PICTURES: dict[str, tuple[Callable[..., Figure], tuple[str, ...]]] = {
    "line": (_line, ("against",)),
    "residuals": (_residuals, ("against",)),
    "quantiles": (_quantiles, ()),
}
