"""Pictures of residuals: what is left, whether the spread is even, their shape and their order."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.core.inference.correlation import deviation, pearson
from joinery.core.inference.smooth import Smooth, smooth
from joinery.core.numeric import distributions as tails
from joinery.data.columns import level_text
from joinery.show.numbers import count, figure, p_phrase, short_of
from joinery.show.numbers import value as shown
from joinery.show.pictures.canvas import Words
from joinery.show.pictures.fit import Guide, zero
from joinery.study.check.sequence import in_order
from joinery.study.check.table import check_lines
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.study.picture_words import flags_of, placed, worded
from joinery.study.rows.chances import groups
from joinery.study.rows.figures import per_row
from joinery.study.rows.noise import basis_of, noise, residuals_of
from joinery.study.thinned import evenly, numbers_of, smoothed, unthinned
from joinery.study.verdicts import ALLOWED, GRAVE, SLIGHT
from joinery.support.errors import CallError, listed

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

DRAWS = 1000  # simulated samples behind the quantile band
MOST_SIMULATED = 2000  # points of the band that chance allows
Given = Mapping[str, str | None]
LITTLE = 0.05  # a share of a smooth so small may leave its band by chance
TOO_FEW = "too few different values for a smooth"
NO_BEND = "no more than chance brings, by the checks"


def _refuse_nothing(fit: Fitted, scaled: str = "standardized") -> None:
    """Raise CallError where no residual is left to draw."""
    if fit.solution.perfect:
        raise CallError(
            "the fit is perfect: its residuals are all zero, and there is nothing to draw"
        )
    if not np.isfinite(getattr(per_row(fit).influence, scaled)).any():
        raise CallError(
            "no residual can be scaled, as too few degrees of freedom are left: there is nothing "
            "to draw"
        )


def found_by(fit: Fitted, kind: str) -> str:
    """Return what a check says of this fit, for the line under a picture's title."""
    for line in check_lines(fit):
        if line.kind == kind and np.isfinite(line.test.statistic):
            finding = line.finding if line.verdict in (*GRAVE, SLIGHT, ALLOWED) else line.verdict
            return f"{line.check}: {finding}" + (
                "" if np.isnan(line.test.p) else f" ({p_phrase(line.test.p)})"
            )
    return ""


def bend_found(fit: Fitted) -> str:
    """Return the first bend that the checks found, in words; nothing where they found none."""
    for line in check_lines(unthinned(fit)):
        if line.name == "straight line" and line.verdict in (*GRAVE, SLIGHT):
            return line.finding
    return ""


def residuals(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Given,
    ax: Axes | None,
    against: str | None = None,
) -> Figure:
    """Draw residuals against the fitted values, or a column."""
    from joinery.show.pictures.fit import cloud

    table, chosen = rows_at_hand(fit)
    figures = per_row(fit)
    if against is not None and table.column(against).kind in ("category", "yes/no"):
        return _by_level(fit, against, words, ax)
    dates = against is not None and table.column(against).is_date
    if against is None:
        x, label = figures.fitted, f"fitted {fit.words(fit.response.name)}"
    else:
        x, label = table.column(against).numbers(chosen.rows), fit.words(against)
    order = np.flatnonzero(np.isfinite(x) & np.isfinite(figures.drawn))
    x, y = x[order], figures.drawn[order]
    if fit.solution.perfect:
        curve, finding = None, "the fit is perfect: every residual is zero"
    else:
        curve = smoothed(fit, order, x, y)
        finding = _trend(curve, bend_found(fit))
    y_label = f"{figures.kind} ({fit.words(fit.response.name)})"
    caption = Words("Is anything left in the residuals?", finding, label, y_label, dates)
    flags = placed(flags_of(fit, label_rows), order)
    return cloud(x, y, flags, worded(caption, words), ax, curve=curve, guides=[zero(x)], rows=order)


def _by_level(fit: Fitted, name: str, words: Given, ax: Axes | None) -> Figure:
    """Draw residuals within each level of a category, with the level's mean and its interval."""
    from joinery.show.pictures.levels import Level, levels

    table, chosen = rows_at_hand(fit)
    column, figures = table.column(name), per_row(fit)
    codes, y = column.codes(chosen.rows), figures.drawn
    rows = []
    for code in np.unique(codes[codes >= 0]):
        result = y[(codes == code) & np.isfinite(y)]
        n = len(result)
        half = np.nan
        if n > 1:
            half = float(tails.t_quantile(0.975, n - 1)) * deviation(result) / np.sqrt(n)
        if n:
            mean = float(result.mean())
        else:
            mean = np.nan
        rows.append(
            Level(level_text(column.all_levels[code]), result, mean, mean - half, mean + half)
        )
    off = [r.name for r in rows if r.lower > 0 or r.upper < 0]
    finding = (
        f"{count(len(off), 'level lies', 'levels lie')} off zero: {listed(off)}; about 1 in 20 "
        "does by chance"
        if off
        else "the interval of each level's mean holds zero"
    )
    unit = f"{figures.kind} ({fit.words(fit.response.name)})"
    caption = Words("Is anything left in the residuals?", finding, unit, fit.words(name))
    return levels(rows, worded(caption, words), ax)


def _trend(curve: Smooth | None, bend: str) -> str:
    """Return where a smooth of residuals leaves zero, beside the ``bend`` that the checks found."""
    if curve is None:
        return TOO_FEW
    if departure := departs(curve, 0.0, bend):
        return f"the smooth leaves zero {departure}"
    if bend:
        return f"the smooth's band holds zero throughout, yet {bend}"
    return "the smooth's band holds zero throughout: no trend is left"


def departs(curve: Smooth, line: np.ndarray | float, bend: str) -> str:
    """Return where a smooth's band leaves a line, and whether the checks found a ``bend``.

    Nothing where it holds the line but for a little."""
    outside = np.abs(curve.height - line) > 2 * curve.error
    if outside.mean() < LITTLE:
        return ""
    low, high = (shown(float(v), 3) for v in (curve.at[outside].min(), curve.at[outside].max()))
    return f"between {low} and {high}: {bend or NO_BEND}"


def spread(
    fit: Fitted, *, label_rows: str | Sequence[Any], words: Given, ax: Axes | None
) -> Figure:
    """Draw the size of each residual across fitted values, with the running typical miss."""
    from joinery.show.pictures.fit import cloud

    _refuse_nothing(fit, "studentized")
    figures = per_row(fit)
    size = np.abs(figures.drawn)
    sound = np.flatnonzero(np.isfinite(size) & np.isfinite(figures.influence.studentized))
    x, size = figures.fitted[sound], size[sound]
    even = evenly(fit)[sound]
    leverage = figures.influence.leverage[sound]
    typical = _typical_miss(x[even], size[even], leverage[even])
    finding = found_by(fit, "spread")
    if fit.estimate.linear:
        unit = fit.words(fit.response.name)
    else:
        unit = ""
    if typical is not None:
        drawn = typical.height[np.isfinite(typical.height)]
        first, last = (figure(float(drawn[i]), 2) for i in (0, -1))
        finding += f"{'; ' if finding else ''}a typical miss goes from {first} to {last}"
    name = f"size of the {figures.kind}" + (f" ({unit})" if unit else "")
    caption = Words(
        "Does the spread stay even?", finding, f"fitted {fit.words(fit.response.name)}", name
    )
    if fit.estimate.linear:
        s = float(fit.estimate.scale or 0.0)
    else:
        s = 1.0
    level = Guide((float(x.min()), float(x.max())), (s, s), "s" if fit.estimate.linear else "1")
    flags = placed(flags_of(fit, label_rows), sound)
    return cloud(
        x,
        size,
        flags,
        worded(caption, words),
        ax,
        curve=typical,
        guides=[level],
        name="typical miss",
        floor=0.0,
        rows=sound,
    )


def _typical_miss(x: np.ndarray, size: np.ndarray, leverage: np.ndarray) -> Smooth | None:
    """Return the root of a smooth of e²/(1 − h), whose mean is σ² at every x, with its band."""
    unit = float(size.max()) or 1.0  # what is 10²⁰⁰ cannot be squared
    squares = (size / unit) ** 2 / np.maximum(1 - leverage, 1e-3)
    curve = smooth(x, squares, rounds=0)
    if curve is None:
        return None
    top = float(squares.max())
    height = np.sqrt(np.clip(curve.height, 1e-4 * top, None))
    # by the delta method
    return Smooth(curve.at, unit * height, unit * curve.error / (2 * height))


def histogram(
    fit: Fitted, *, label_rows: str | Sequence[Any], words: Given, ax: Axes | None
) -> Figure:
    """Draw the distribution of the residuals that are to be normal beside the normal curve."""
    from joinery.show.pictures.fit import histogram

    _refuse_nothing(fit)
    z, name, kind = _to_be_normal(fit)
    sound = np.flatnonzero(np.isfinite(z))
    z = z[sound]
    flags = placed(flags_of(fit, label_rows), sound)
    across = np.linspace(min(-3.5, float(z.min())), max(3.5, float(z.max())), 200)
    height = np.exp(-(across**2) / 2) / np.sqrt(2 * np.pi)
    caption = Words("What shape do the residuals have?", found_by(fit, kind), name, "density")
    return histogram(z, (across, height), flags, worded(caption, words), ax)


def sequence(
    fit: Fitted, *, label_rows: str | Sequence[Any], words: Given, ax: Axes | None
) -> Figure:
    """Draw residuals in the order of the rows."""
    from joinery.show.pictures.fit import cloud

    _refuse_nothing(fit)
    figures, order = per_row(fit), in_order(fit)
    y = figures.drawn[order]
    named = fit.options.order
    if named:
        x = np.arange(1.0, len(y) + 1)
    else:
        x = numbers_of(fit)
    if named:
        label = f"row, in the order of {fit.words(named)}"
    else:
        label = "row, in the table's own order"
    finding = found_by(fit, "durbin-watson") or "neighbours should not resemble one another"
    caption = Words(
        "Do neighbouring rows resemble one another?", finding, label, figures.kind, x_rows=True
    )
    flags = placed(flags_of(fit, label_rows), order)
    curve = smoothed(fit, order, x, y, span=0.3)
    return cloud(
        x, y, flags, worded(caption, words), ax, curve=curve, guides=[zero(x)], joined=True,
        rows=order,
    )  # fmt: skip


def observed_fitted(
    fit: Fitted, *, label_rows: str | Sequence[Any], words: Given, ax: Axes | None
) -> Figure:
    """Draw observed values against fitted ones, with the line on which both are equal."""
    from joinery.show.pictures.fit import cloud

    figures = per_row(fit)
    x, y = figures.fitted, figures.observed
    ends = float(min(x.min(), y.min())), float(max(x.max(), y.max()))
    name = fit.words(fit.response.name)
    if fit.family.shares:
        return _in_groups(fit, words, ax)
    finding = "points on the line are fitted exactly"
    if len(x) > 2 and np.ptp(x) > 0 and np.ptp(y) > 0 and unthinned(fit) is fit:
        finding += (
            "; correlation of observed with fitted "
            f"{short_of(float(pearson(np.column_stack([x, y]))[1].r[0]), 1, 3)}"
        )
    caption = Words(
        "How close are fitted and observed values?", finding, f"fitted {name}", f"observed {name}"
    )
    guides = [Guide(ends, ends, "equal")]
    flags, rows = flags_of(fit, label_rows), np.arange(len(x))
    return cloud(x, y, flags, worded(caption, words), ax, guides=guides, rows=rows)


def _in_groups(fit: Fitted, words: Given, ax: Axes | None) -> Figure:
    """Draw observed against fitted shares in groups, each with a rough interval."""
    from joinery.show.pictures.fit import calibrated

    observed, expected, variance, trials = groups(fit)
    share, fitted = observed / trials, expected / trials
    half_width = 1.96 * np.sqrt(variance) / trials
    finding = found_by(fit, "calibration") or "groups on the line are forecast rightly"
    name = fit.words(fit.response.name)
    caption = Words(
        "Are the fitted means right?",
        finding,
        f"fitted share, {name}",
        "observed share in the group",
    )
    return calibrated(fitted, share, half_width, worded(caption, words), ax)


# ------------------------------------------------------------------ quantiles


def quantiles(
    fit: Fitted, *, label_rows: str | Sequence[Any], words: Given, ax: Axes | None
) -> Figure:
    """Draw sorted standardized residuals against normal quantiles."""
    from joinery.show.pictures.fit import quantiles

    _refuse_nothing(fit)
    values, name, kind = _to_be_normal(fit)
    sound = np.flatnonzero(np.isfinite(values))
    order = sound[np.argsort(values[sound], kind="stable")]
    n = len(order)
    expected = tails.normal_quantile((np.arange(1, n + 1) - 0.375) / (n + 0.25))
    band = _chance_band(fit, sound)
    finding = found_by(fit, kind) or "points inside the band are where chance puts 95 % of each"
    flags = placed(flags_of(fit, label_rows), order)
    caption = Words(
        "Are the residuals normal?",
        finding,
        "quantile expected of a normal sample",
        f"{name}, sorted",
    )
    return quantiles(expected, values[order], band, flags, worded(caption, words), ax, order)


def _to_be_normal(fit: Fitted) -> tuple[np.ndarray, str, str]:
    """Return the residuals that are normal of a model that is right, their name, and their check.

    Of a family with a law these are quantile residuals (Dunn & Smyth 1996)."""
    figures = per_row(fit)
    if figures.kind == "quantile residual":
        return figures.drawn, figures.kind, "family"
    return figures.influence.standardized, "standardized residual", "normality"


def _chance_band(fit: Fitted, sound: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return where 95 % of sorted standardized residuals of normal samples lie, point by point.

    Simulated through the model's own hat matrix up to 2,000 rows; by the beta law of order
    statistics beyond that. ``sound`` are the rows that have such a residual."""
    n = len(sound)
    if n > MOST_SIMULATED or not fit.estimate.linear:
        from scipy.special import betaincinv

        # the inverse is slow: found at some order statistics, close together near the ends, and
        # filled in between
        near = np.unique(np.geomspace(1, max(n / 2, 1), 200).astype(int))
        k = np.unique(np.concatenate([near, n + 1 - near]))
        ends = [tails.normal_quantile(betaincinv(k, n - k + 1, share)) for share in (0.025, 0.975)]
        place, at = (
            tails.normal_quantile((v - 0.375) / (n + 0.25)) for v in (np.arange(1, n + 1), k)
        )
        return np.interp(place, at, ends[0]), np.interp(place, at, ends[1])

    Q = basis_of(fit)
    left_of_noise = residuals_of(Q, noise(len(Q), DRAWS))
    left = 1 - (Q**2).sum(axis=1)
    scale = np.sqrt((left_of_noise**2).sum(axis=0) / max(len(Q) - fit.solution.rank, 1))
    drawn = np.sort(
        left_of_noise[sound] / np.sqrt(np.maximum(left[sound], 1e-300))[:, None] / scale, axis=0
    )
    return np.quantile(drawn, 0.025, axis=1), np.quantile(drawn, 0.975, axis=1)
