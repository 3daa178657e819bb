"""Intervals at rows of the design: for the mean, and for a single new row."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.core.glm.edges import eta_range
from joinery.core.inference import predictive
from joinery.core.inference.intervals import joint_times, t_times
from joinery.core.numeric.quadrature import legendre
from joinery.notation.context import Context, TableLike
from joinery.notation.evaluate import evaluate
from joinery.notation.tree import Expression
from joinery.notation.walk import names_in
from joinery.study.fitted import Fitted
from joinery.study.forecast.memory import forecast_memory
from joinery.study.rates import Counted
from joinery.study.read.estimates import Together, mean_errors, together
from joinery.study.rows.figures import linear_predictor
from joinery.support.errors import CallError

# a transformed response is averaged over so many panels of so many points, up to so many standard
# deviations to each side
PANELS, PANEL_NODES, FAR = 60, 8, 12.0
NO_SHARE = 1e-9  # a share of the errors that is as good as none


@dataclass(frozen=True)
class Bands:
    """Fitted values with their two intervals, each (m,)."""

    fitted: np.ndarray
    mean_lower: np.ndarray
    mean_upper: np.ndarray
    new_lower: np.ndarray
    new_upper: np.ndarray


@dataclass(frozen=True)
class How:
    """The way in which intervals are made: model or distribution-free, for each row or for all
    rows."""

    intervals: str = "model"
    simultaneous: bool = False
    rates: Counted | None = None  # rates rather than counts, where they are asked for


def bands(
    fit: Fitted, context: Context, X: np.ndarray, level: float, how: How | None = None
) -> Bands:
    """Return intervals at rows X (m, width): s²·x₀ᵀVx₀ for the mean, s²/w₀ more for a new row.

    Without weights for the new rows of a weighted fit there is no interval for a row. Simultaneous:
    the multiplier of ``together`` for the mean; for m new rows the smaller of Scheffé's in m
    dimensions and Bonferroni's (Miller 1981), Bonferroni's under other families."""
    how = how or How()
    rates = how.rates or Counted(fit)
    eta, _ = rates.predictor(context, X)
    variance = new_row_variance(fit, context, len(X))
    of_mean, df = mean_errors(fit, X)
    rows = max(int(np.isfinite(eta).sum()), 1)
    t = t_times(level, df)
    mean_times = all_rows_together(fit, level).times if how.simultaneous else t
    mean_lower, mean_upper = eta - mean_times * of_mean, eta + mean_times * of_mean
    if not fit.estimate.linear:
        if how.simultaneous:
            # Bonferroni: quantiles of skewed distributions have no common multiplier
            each = 1 - (1 - level) / rows
        else:
            each = level
        result = _linked(fit, context, eta, of_mean, variance, (mean_lower, mean_upper), each)
        if rates.per is None:
            return result
        return _as_rates(result, rates, context, of_mean, each)
    if how.intervals == "distribution-free":
        return Bands(eta, mean_lower, mean_upper, *_distribution_free(fit, X, eta, level))
    new_times = t
    if how.simultaneous:
        robust = fit.sandwich is not None
        least = float(np.nanmin(df, initial=np.inf))
        scheffe = joint_times(level, rows, least, hotelling=robust)
        # both hold for all rows together, so that the narrower one may be taken
        new_times = np.fmin(scheffe, t_times(level, df, rows))
    if fit.estimate.scale is None:
        spread = np.nan
    else:
        spread = fit.estimate.scale
    # the row's own scatter and the mean's uncertainty are independent: their squares add
    error = np.hypot(np.sqrt(variance) * spread, of_mean)
    return Bands(eta, mean_lower, mean_upper, eta - new_times * error, eta + new_times * error)


def all_rows_together(fit: Fitted, level: float) -> Together:
    """Return the multiplier of intervals that hold for the mean at every row there could be."""
    return together(fit, np.eye(fit.solution.rank), level)


def new_row_variance(fit: Fitted, context: Context, m: int) -> np.ndarray:
    """Return 1/w₀ of new rows; NaN where the fit is weighted and they have no weight."""
    if fit.asides.weights is None:
        return np.ones(m)
    if lacking_columns(fit.asides.expressions["weights"], context.table):
        return np.full(m, np.nan)
    weights = fit.asides.values("weights", context)
    assert weights is not None
    return np.where(weights > 0, 1 / np.where(weights > 0, weights, 1.0), np.nan)


def _linked(
    fit: Fitted,
    context: Context,
    eta: np.ndarray,
    error: np.ndarray,
    variance: np.ndarray,
    mean_ends: tuple[np.ndarray, np.ndarray],
    level: float,
) -> Bands:
    """Return means and new responses under a link; of a total, as counts where the total is known.

    No interval is made about a mean that the family cannot have; ends beyond its range are cut
    there."""
    link, family = fit.link, fit.family
    low, high = eta_range(family, link)
    trials = trials_of(fit, context)
    with np.errstate(all="ignore"):
        mu = link.mu(eta)
        sound = predictive.admitted(family, link, eta)
        cut = [link.mu(np.where(sound, np.clip(end, low, high), np.nan)) for end in mean_ends]
    mean_lower, mean_upper = np.minimum(*cut), np.maximum(*cut)
    new_lower = new_upper = np.full(len(eta), np.nan)
    new = _new_rows(fit, eta, error, trials, variance)
    if new is not None:
        new_lower, new_upper = new.ends(level)
    scale = 1.0 if trials is None else trials
    return Bands(mu * scale, mean_lower * scale, mean_upper * scale, new_lower, new_upper)


def _new_rows(
    fit: Fitted,
    eta: np.ndarray,
    error: np.ndarray,
    trials: np.ndarray | None,
    variance: np.ndarray,
) -> predictive.NewRows | None:
    """Return the distributions of new rows, ``variance`` one over their weights; None without."""
    family, e = fit.family, fit.estimate
    if not e.law or e.scale is None or (family.shares and trials is None):
        return None
    spread = variance * e.scale * e.scale
    if family.discrete:  # a count with a weight other than one has no distribution
        spread = np.where(variance == 1, 1.0, np.nan)
    return predictive.NewRows(family, fit.link, eta, error, spread, trials, _likely(fit))


def new_row_holds(
    fit: Fitted, context: Context, X: np.ndarray, level: float, y: float
) -> np.ndarray:
    """Return whether the interval of a new row, at each of the rows X, holds a response y (m,).

    For families; the intervals are those of ``bands``, whose ends take much longer."""
    _, new = _of_family(fit, context, X)
    if new is None:
        return np.zeros(len(X), dtype=bool)
    return np.asarray(new.holds(level, y) == 1)


def mean_and_inside(
    fit: Fitted, context: Context, X: np.ndarray, level: float, y: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Return the mean of rows X, and 1 where their new-row interval holds a response y, each (m,).

    0 where it does not, NaN where there is no interval. Responses of a total are counts."""
    # a response at the very end of its interval lies inside, whichever way it was rounded
    rounding = 1e-9 * float(np.max(np.abs(y), initial=0.0))
    if fit.estimate.linear:
        b = bands(fit, context, X, level)
        inside = (y >= b.new_lower - rounding) & (y <= b.new_upper + rounding)
        return b.fitted, np.where(np.isfinite(b.new_lower), inside, np.nan)
    mean, new = _of_family(fit, context, X)
    if new is None:
        return mean, np.full(len(X), np.nan)
    count = np.round(y)  # a share times its total is a count but for rounding
    return mean, new.holds(level, np.where(np.abs(y - count) <= rounding, count, y))


def _of_family(
    fit: Fitted, context: Context, X: np.ndarray
) -> tuple[np.ndarray, predictive.NewRows | None]:
    """Return the means of rows X under a link, and the distributions of single ones there."""
    eta, _ = Counted(fit).predictor(context, X)
    error, _ = mean_errors(fit, X)
    trials = trials_of(fit, context)
    with np.errstate(all="ignore"):
        mean = fit.link.mu(eta) * (1.0 if trials is None else trials)
    variance = new_row_variance(fit, context, len(X))
    return mean, _new_rows(fit, eta, error, trials, variance)


def _as_rates(
    counts: Bands, rates: Counted, context: Context, error: np.ndarray, level: float
) -> Bands:
    """Return means of counts at an exposure of one as rates, a row's ends from its own exposure."""
    per, fit = rates.per or 1.0, rates.fit
    exposure = rates.exposure(context)
    ends = np.full(len(counts.fitted), np.nan), np.full(len(counts.fitted), np.nan)
    if exposure is not None:
        with np.errstate(all="ignore"):
            # the interval of a row is that of its count, at the exposure that it has
            eta = np.log(counts.fitted) + np.log(exposure)
        variance = new_row_variance(fit, context, len(eta))
        result = _linked(fit, context, eta, error, variance, (eta, eta), level)
        ends = result.new_lower / exposure * per, result.new_upper / exposure * per
    return Bands(counts.fitted * per, counts.mean_lower * per, counts.mean_upper * per, *ends)


def _likely(fit: Fitted) -> list[predictive.Likely]:
    """Return what the dispersion or the shape may be beside its estimate."""
    if fit.family.shape is None:
        return [predictive.Likely(fit.family, r, w) for r, w in forecast_memory(fit).spreads]
    return [
        predictive.Likely(fit.family.with_shape(k), 1.0, w) for k, w in forecast_memory(fit).spreads
    ]


def trials_of(fit: Fitted, context: Context) -> np.ndarray | None:
    """Return the totals of new rows, where they have them."""
    total = fit.response.total
    if fit.response.kind != "of" or total is None or lacking_columns(total, context.table):
        return None
    return evaluate(total, context)


def _distribution_free(
    fit: Fitted, X: np.ndarray, fitted: np.ndarray, level: float
) -> tuple[np.ndarray, np.ndarray]:
    """Return jackknife+ ends. Raises CallError where they are not to be had."""
    if not fit.estimate.linear or fit.asides.weights is not None:
        raise CallError(
            "distribution-free intervals are for unweighted normal fits", argument="intervals"
        )
    kept = forecast_memory(fit)
    if kept.basis is None or kept.left_out is None:
        raise CallError(
            "distribution-free intervals need the fitted rows, and there are too many to keep "
            "(over 5,000)"
        )
    return predictive.jackknife_plus(
        fitted, fit.solution.in_basis(X), kept.basis, kept.left_out, level
    )


def lacking_columns(expression: Expression, table: TableLike) -> list[str]:
    """Return the columns of an expression that a table does not have."""
    return [n.name for n in names_in(expression) if n.name not in table.names]


def back_transformed(fit: Fitted, scaled: Bands) -> Bands:
    """Return the bands on the measured scale; ends swap where the transformation turns the order
    round."""
    response = fit.response
    if not response.transformed:
        return scaled
    back = response.turn_back
    if response.decreasing:
        scaled = Bands(
            scaled.fitted, scaled.mean_upper, scaled.mean_lower, scaled.new_upper, scaled.new_lower
        )
    return Bands(
        *(
            back(v)
            for v in (
                scaled.fitted,
                scaled.mean_lower,
                scaled.mean_upper,
                scaled.new_lower,
                scaled.new_upper,
            )
        )
    )


def expected_response(fit: Fitted, context: Context, X: np.ndarray) -> np.ndarray | None:
    """Return the mean of a transformed response, averaged over normal errors of the row's variance.

    Where more than a speck of the errors lies past a pole there is no mean: infinite.
    """
    if not fit.response.transformed or fit.residual_sd is None:
        return None
    eta = linear_predictor(fit, context, X)
    spread = fit.residual_sd * np.sqrt(new_row_variance(fit, context, len(X)))
    nodes, weights = legendre(PANEL_NODES)
    edges = np.linspace(-FAR, FAR, PANELS + 1)
    half = (edges[1] - edges[0]) / 2
    # panels of Gauss points: a way back with a kink or a pole needs them close together
    z = (edges[:-1, None] + half * (1 + nodes)).ravel()
    shares = np.tile(weights, PANELS) * np.exp(-z * z / 2)
    shares /= shares.sum()
    out = np.full(len(eta), np.nan)
    for row in np.flatnonzero(np.isfinite(eta) & np.isfinite(spread)):
        values = fit.response.turn_back(eta[row] + spread[row] * z)
        past = ~np.isfinite(values)
        out[row] = (
            np.inf
            if shares[past].sum() > NO_SHARE
            else shares[~past] @ values[~past] / shares[~past].sum()
        )
    return out
