"""The response across one predictor: scatter, fitted line or curve, bands; one line a level of
another predictor, or other fits of the same response beside it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.data.any_table import records
from joinery.data.columns import level_text
from joinery.data.records import Records
from joinery.data.written_dates import date_text, stamps_of
from joinery.design.factors import CategoryFactor
from joinery.notation.evaluate import evaluate
from joinery.notation.tree import names_in
from joinery.show.numbers import short_of, value
from joinery.show.pictures.canvas import Words
from joinery.show.pictures.style import on_a_page
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.study.forecast.bands import Bands, back_transformed, bands
from joinery.study.held import (
    Held,
    averaged_rows,
    check_named,
    columns_of,
    held_words,
    hold_rest,
    numeric_columns,
)
from joinery.study.picture_words import flags_of, worded
from joinery.study.rates import counted
from joinery.study.read.for_people import equation_for_people
from joinery.study.rows.figures import linear_predictor, per_row
from joinery.study.thinned import smoothed
from joinery.support.errors import CallError, one_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from joinery.show.pictures.fit import Curve, Named

CURVE_POINTS, SEED = 121, 20260103
FROM_ZERO = 0.3  # the share of the highest value above which an axis that leaves zero out is said
ABOVE = 104  # characters of an equation that stands over the picture; a longer one is under it
NARROW = 0.4  # range of chances below which they are drawn on their own range, not from 0 to 1
MOST_LINES = 7  # of one picture that can be told apart by their colours
LINES_BY_VALUE = 4  # of a number across which each value has a line of its own


def line(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Mapping[str, str | None],
    ax: Axes | None,
    against: str | None = None,
    across: str | None = None,
    beside: Any = None,
    hold: Mapping[str, Any] | None = None,
) -> Figure:
    """Draw the fitted line or curve across one numeric predictor, the others held."""
    from joinery.show.pictures.fit import line

    name = _numeric(fit, against, "against")
    others = _others(fit, beside, name)
    if across is not None:
        if others:
            raise CallError(
                "a line for each value, or other fits beside: not both", argument="across"
            )
        if hold:
            raise CallError(
                "a line for each value holds the rest at their average", argument="hold"
            )
        return _many(fit, name, across, label_rows, words, ax)
    table, chosen = rows_at_hand(fit)
    x = table.column(name).numbers(chosen.rows)
    grid = _grid(fit, name, x)
    held = hold_rest(fit, _table(fit, name, grid), hold)
    curve = _curve(fit, name, held)
    y, y_label, notes = _points(fit, name, held, x, hold)
    groups = in_groups(fit, x)
    if groups is not None and (ends := _narrow(curve, groups[1])) is not None:
        y = _at_the_edges(y, *ends)
        notes.finding.append(
            "rows that are yes stand at the top, no at the foot; 0 and 1 lie beyond"
        )
    if _leaves_zero_out(y, curve, bands_too=not others):
        notes.finding.append("the upright axis does not start at zero")
    caption = Words(
        f"How does {counted(fit, None).name} change with {fit.words(name)}?",
        "; ".join(notes.finding),
        fit.words(name),
        y_label,
        x_dates=name in fit.design.dates,
        under="; ".join(notes.under),
    )
    rows = np.arange(len(x))
    if fit.estimate.linear and not others:
        local = smoothed(fit, rows, x, y)
    else:
        local = None
    flags = flags_of(fit, label_rows)
    named = [_beside(fit, other, name, grid) for other in others]
    return line(x, y, curve, flags, worded(caption, words), ax, local, groups, named, rows)


def _numeric(fit: Fitted, given: str | None, argument: str) -> str:
    numeric = numeric_columns(fit)
    if given is not None:
        if given in fit.design.seen:
            check_named(fit, [given], f" ({argument}) in the model")
        return one_of(argument, given, tuple(numeric))
    if not numeric:
        raise CallError("the picture 'line' needs a numeric predictor, and the model has none")
    return numeric[0]


def _grid(fit: Fitted, name: str, x: np.ndarray) -> np.ndarray:
    """Return values across the seen range and a little beyond it, zero not passed where nothing
    is."""
    low, high = fit.design.seen[name]
    margin = 0.06 * (high - low) or 1.0
    spaced = np.linspace(low - margin, high + margin, CURVE_POINTS)
    grid = np.unique(np.concatenate([spaced, [low, high]]))
    if float(np.min(x)) > 0:
        return grid[grid > 0]
    return grid


def _table(fit: Fitted, name: str, values: np.ndarray, **more: Any) -> Records:
    dated = name in fit.design.dates
    columns: dict[str, Any] = {name: stamps_of(values) if dated else values}
    columns |= {
        n: np.full(len(values), v) if isinstance(v, float) else [v] * len(values)
        for n, v in more.items()
    }
    return records(columns, like=fit.design.manner)


def _bands_at(fit: Fitted, held: Held) -> Bands:
    held = _with_exposure(fit, held)
    positions = np.arange(len(held.table))
    X = averaged_rows(fit, held, positions)
    return bands(fit, fit.design.context(held.table, positions), X, fit.level)


def _with_exposure(fit: Fitted, held: Held) -> Held:
    """Return the table with what offset, weights and exposure name, at its mean over the fitted
    rows."""
    table, chosen = rows_at_hand(fit)
    beside = list(fit.asides.expressions.values())
    if fit.response.kind == "per" and fit.response.total is not None:
        beside.append(fit.response.total)
    columns, at = {}, dict(held.at)
    for name in (n.name for e in beside for n in names_in(e)):
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
    held = _with_exposure(fit, hold_rest(fit, _table(fit, name, x), hold))
    return float(evaluate(total, fit.design.context(held.table, np.arange(1)))[0])


def _curve(fit: Fitted, name: str, held: Held, seen: tuple[float, float] | None = None) -> Curve:
    from joinery.show.pictures.fit import Curve

    band = _bands_at(fit, held)
    return Curve(
        held.table.column(name).numbers(slice(None)),
        band.fitted,
        (band.mean_lower, band.mean_upper),
        (band.new_lower, band.new_upper),
        fit.design.seen[name] if seen is None else seen,
    )


@dataclass
class _Notes:
    """What is said above a picture, and what stands under it."""

    finding: list[str]
    under: list[str]


def _points(
    fit: Fitted, name: str, held: Held, x: np.ndarray, hold: Mapping[str, Any] | None
) -> tuple[np.ndarray, str, _Notes]:
    """Return the points' heights, what they are, and what is said of them."""
    figures = per_row(fit)
    label = fit.words(fit.response.name)
    remarks = held_words(fit, _with_exposure(fit, held))
    if not fit.estimate.linear:
        return _observed(fit, remarks)
    equation = equation_for_people(fit)
    r2 = []
    if fit.r_squared is not None:
        r2 = [f"R² {short_of(fit.r_squared, 1, 2)}"]
    if not remarks:
        return figures.observed, label, _equation_above([equation, *r2])
    at = _with_exposure(fit, hold_rest(fit, _table(fit, name, x), hold))
    positions = np.arange(len(x))
    X = averaged_rows(fit, at, positions)
    y = linear_predictor(fit, fit.design.context(at.table, positions), X) + figures.residual
    notes = _Notes(
        ["the other predictors held; points are the fitted curve plus each row's residual"],
        [*_once([equation, *r2]), f"held: {', '.join(remarks)}"],
    )
    return y, f"{label}, adjusted to the values held", notes


def _equation_above(words: list[str]) -> _Notes:
    """Put an equation that is short over the picture, a longer one under it."""
    if len("; ".join(words)) <= ABOVE:
        return _Notes(words, [])
    return _Notes([], _once(words))


def _once(words: list[str]) -> list[str]:
    """Return an equation for a picture alone; a page has it in a section of its own."""
    if on_a_page():
        return []
    return words


def _observed(fit: Fitted, remarks: list[str]) -> tuple[np.ndarray, str, _Notes]:
    """Under a link points are the responses themselves, the curve that of a held case."""
    y = per_row(fit).observed
    if fit.family.shares:
        if fit.response.kind == "of":
            what = "share"
        else:
            what = "chance of"
        label = f"{what} {fit.words(fit.response.name)}"
    else:
        label = fit.words(str(fit.response.expression))
    if fit.response.kind == "per":
        label += f" (curve at the mean {fit.words(str(fit.response.total))})"
    notes = _equation_above([equation_for_people(fit)])
    if remarks:
        notes.finding.append("points are the rows as observed, the curve is for values held")
        notes.under.append(f"held: {', '.join(remarks)}")
    if set(np.unique(y)) <= {0.0, 1.0}:
        # a little apart, always the same, so that equal values do not hide one another
        apart = np.random.default_rng(SEED).uniform(0, 0.05, len(y))
        y = np.where(y > 0, 1 - apart, apart)
        if remarks:
            notes.finding.append("diamonds are shares in groups")
    return y, label, notes


def _narrow(curve: Curve, shares: np.ndarray) -> tuple[float, float] | None:
    """Return the range of a curve of chances and its groups, where it is a part of 0 to 1."""
    inside = (curve.x >= curve.seen[0]) & (curve.x <= curve.seen[1])
    of_curve = np.concatenate([curve.mean[0][inside], curve.mean[1][inside], shares])
    low, high = float(np.nanmin(of_curve)), float(np.nanmax(of_curve))
    if not 0 < high - low < NARROW:
        return None
    return low, high


def _at_the_edges(y: np.ndarray, low: float, high: float) -> np.ndarray:
    """Return where rows of yes and no are drawn: a little above and below the range of a curve."""
    wide = high - low
    apart = np.minimum(y, 1 - y) * wide  # as scattered as before
    return np.asarray(np.where(y > 0.5, high + 0.12 * wide + apart, low - 0.12 * wide - apart))


def _leaves_zero_out(y: np.ndarray, curve: Curve, *, bands_too: bool) -> bool:
    """Return True if the upright axis is cut above zero although the values are far from it."""
    lowest = [float(np.min(y)), float(np.nanmin(curve.fitted))]
    ends = curve.new[0][np.isfinite(curve.new[0])]
    lowest += [float(ends.min())] if bands_too and len(ends) else []
    return min(lowest) > 0 and float(np.min(y)) > FROM_ZERO * float(np.max(y))


def in_groups(fit: Fitted, x: np.ndarray) -> tuple[np.ndarray, np.ndarray] | None:
    """Return observed shares in groups of x, for yes or no rows, which alone show no curve."""
    observed = per_row(fit).observed
    if fit.estimate.linear or not set(np.unique(observed)) <= {0.0, 1.0}:
        return None
    many = min(8, max(len(x) // 8, 2))
    parts = [p for p in np.array_split(np.argsort(x, kind="stable"), many) if len(p)]
    return np.array([x[p].mean() for p in parts]), np.array([observed[p].mean() for p in parts])


# ------------------------------------------------------------------ one line a level or value


def _many(
    fit: Fitted,
    name: str,
    across: str,
    label_rows: str | Sequence[Any],
    words: Mapping[str, str | None],
    ax: Axes | None,
) -> Figure:
    """Draw one curve for each level of a category, or for a few values of a number."""
    from joinery.show.pictures.fit import Named, lines

    others = tuple(n for n in columns_of(fit) if n != name)
    one_of("across", across, others)
    table, chosen = rows_at_hand(fit)
    x = table.column(name).numbers(chosen.rows)
    grid = _grid(fit, name, x)
    values, result, group = _values(fit, across)
    named, held = [], None
    for place, at in enumerate(values):
        held = hold_rest(fit, _table(fit, name, grid, **{across: at}))
        if result:
            rows = x[group == place]
        else:
            rows = x
        if len(rows):
            seen = (float(rows.min()), float(rows.max()))
        else:
            seen = (np.inf, -np.inf)
        if isinstance(at, str):
            words_of = at
        else:
            words_of = _number(fit, across, at)
        named.append(Named(f"{fit.words(across)} {words_of}", _curve(fit, name, held, seen)))
    assert held is not None
    remarks = held_words(fit, _with_exposure(fit, held))
    y = per_row(fit).observed
    caption = Words(
        f"How does {fit.words(name)} act at each {fit.words(across)}?",
        "points are the rows as observed, dashed where no rows are",
        fit.words(name),
        counted(fit, None).name,
        x_dates=name in fit.design.dates,
        under=f"held: {', '.join(remarks)}" if remarks else "",
    )
    if result:
        colors = group
    else:
        colors = None
    return lines(x, y, named, colors, flags_of(fit, label_rows), worded(caption, words), ax)


def _values(fit: Fitted, across: str) -> tuple[list[Any], bool, np.ndarray]:
    """Return the levels or values with a curve each, whether rows belong to one, and to which
    (n,)."""
    table, chosen = rows_at_hand(fit)
    factors = [
        f
        for t in fit.design.terms
        for f in t.categories
        if across in {n.name for n in names_in(f.expression)} and f.label == across
    ]
    if factors:
        return _levels(fit, factors[0])
    column = table.column(across)
    if column.kind not in ("number", "date"):
        codes = column.codes(chosen.rows)
        levels = [level_text(v) for v in column.all_levels]
        return levels[:MOST_LINES], True, codes
    z = column.numbers(chosen.rows)
    distinct = np.unique(z)
    if len(distinct) <= LINES_BY_VALUE:
        return distinct.tolist(), True, np.searchsorted(distinct, z)
    return np.quantile(z, (0.1, 0.5, 0.9)).tolist(), False, np.zeros(len(z), int)


def _levels(fit: Fitted, factor: CategoryFactor) -> tuple[list[str], bool, np.ndarray]:
    table, chosen = rows_at_hand(fit)
    codes = factor.codes(fit.design.context(table, chosen.rows))
    levels = [level_text(v) for v in factor.levels]
    if len(levels) > MOST_LINES:
        raise CallError(
            f"{factor.label} has {len(levels)} levels, and more than {MOST_LINES} lines are hard "
            "to follow",
            argument="across",
        )
    return levels, True, codes


def _number(fit: Fitted, name: str, at: float) -> str:
    if name in fit.design.dates:
        return date_text(at)
    return value(at, 3)


# ------------------------------------------------------------------ other fits beside


def _others(fit: Fitted, beside: Any, name: str) -> list[Fitted]:
    """Return the fits to draw over this one. Raises CallError for another response."""
    if beside is None:
        return []
    if isinstance(beside, Iterable) and not isinstance(beside, str):
        given = beside
    else:
        given = [beside]
    others: list[Any] = [getattr(other, "_fitted", other) for other in given]
    for other in others:
        if not isinstance(other, Fitted):
            raise CallError("beside= takes other fits of the same response", argument="beside")
        if other.response.original != fit.response.original:
            raise CallError(
                f"{other.response.original} and {fit.response.original} are different responses",
                argument="beside",
            )
        if fit.response.transformed and other.response.name != fit.response.name:
            raise CallError(
                f"draw the fit of {fit.response.original} itself, and that of {fit.response.name} "
                "beside it",
                argument="beside",
            )
    return others


def _beside(fit: Fitted, other: Fitted, name: str, grid: np.ndarray) -> Named:
    """Return another fit's curve on this fit's scale, named by how its sentence differs."""
    from joinery.show.pictures.fit import Curve, Named

    held = hold_rest(other, _table(fit, name, grid))
    band = _bands_at(other, held)
    if other.response.transformed and not fit.response.transformed:
        band = back_transformed(other, band)
    nothing = np.full(len(grid), np.nan)
    curve = Curve(grid, band.fitted, (nothing, nothing), (nothing, nothing), fit.design.seen[name])
    if other.r_squared is None:
        r2 = ""
    else:
        r2 = f", R² {short_of(other.r_squared, 1, 2)}"
    return Named(f"{_difference(fit, other)}{r2}", curve)


def _difference(fit: Fitted, other: Fitted) -> str:
    """Return how another sentence differs: ``with x^2``, ``without feed_kg``, ``log(y)``."""
    mine, theirs = ({t.key: str(t) for t in f.design.sentence.terms} for f in (fit, other))
    more = [text for key, text in theirs.items() if key not in mine]
    less = [text for key, text in mine.items() if key not in theirs]
    if other.response.name == fit.response.name:
        parts = []
    else:
        parts = [other.response.name]
    if not theirs:
        parts.append("the mean alone")
    else:
        parts += [f"with {', '.join(more)}"] if more else []
        parts += [f"without {', '.join(less)}"] if less else []
    if other.design.intercept != fit.design.intercept:
        parts.append("with intercept" if other.design.intercept else "without intercept")
    if other.family.name != fit.family.name or other.link.name != fit.link.name:
        parts.append(f"{other.family.name}, {other.link.name} link")
    return fit.words(" ".join(parts)) or "the same sentence"
