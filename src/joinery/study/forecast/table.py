"""Forecasts of new rows, with an interval for the mean and one for a single row."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import product
from typing import Any

import numpy as np
from scipy import special

from joinery.core.inference import predictive
from joinery.core.numeric import distributions as tails
from joinery.data.records import Records, records
from joinery.errors import CallError, NewRowError, listed, nearest, one_of
from joinery.notation.evaluate import Context, TableLike, evaluate
from joinery.notation.parse import read_assignments
from joinery.notation.tree import Expression, names_in
from joinery.show.numbers import level_words
from joinery.show.table import Table
from joinery.study.fitted import Fitted, checked_level
from joinery.study.forecast.memory import forecast_memory
from joinery.study.forecast.notes import RowRemarks, needed_columns, remarks_by_row, table_notes
from joinery.study.read.estimates import errors_in_basis
from joinery.study.rows.figures import linear_predictor

INTERVALS = ("model", "distribution-free")
HOLDS = ("average",)
MOST_CELLS = 4096
PANELS, PANEL_NODES, FAR = 60, 8, 12.0  # points at which a transformed response is averaged, in standard deviations
SPECK = 1e-9  # a share of the errors that is as good as none


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
    """How intervals are made: from the model or free of a distribution, for each row or for all rows together."""

    intervals: str = "model"
    simultaneous: bool = False


def bands(fit: Fitted, context: Context, X: np.ndarray, level: float, how: How | None = None) -> Bands:
    """Intervals at rows X (m, width): s²·x₀ᵀVx₀ for the mean, s²/w₀ more for a new row (Draper & Smith 1998, 3.1).

    Without weights for the new rows of a weighted fit there is no interval for a row. Simultaneous: √(pF) for the mean,
    the smaller of √(mF) and Bonferroni for m new rows (Scheffé 1959; Miller 1981), Bonferroni under other families.
    """
    how = how or How()
    eta = linear_predictor(fit, context, X)
    own = _own_variance(fit, context, len(X))
    of_mean, df = mean_errors(fit, X)
    rows = max(int(np.isfinite(eta).sum()), 1)
    p = fit.solution.rank
    t = _quantile((1 + level) / 2, df)
    mean_times = np.sqrt(p * _f_quantile(level, p, df)) if how.simultaneous else t
    mean_lower, mean_upper = eta - mean_times * of_mean, eta + mean_times * of_mean
    if not fit.estimate.linear:
        each = 1 - (1 - level) / rows if how.simultaneous else level
        return _linked(fit, context, eta, of_mean, own, (mean_lower, mean_upper), each)
    if how.intervals == "distribution-free":
        return Bands(eta, mean_lower, mean_upper, *_distribution_free(fit, X, eta, level))
    new_times = t
    if how.simultaneous:
        bonferroni = _quantile(1 - (1 - level) / (2 * rows), df)
        new_times = np.minimum(np.sqrt(rows * _f_quantile(level, rows, df)), bonferroni)
    spread = np.nan if fit.estimate.scale is None else fit.estimate.scale
    error = np.hypot(np.sqrt(own) * spread, of_mean)
    return Bands(eta, mean_lower, mean_upper, eta - new_times * error, eta + new_times * error)


def mean_errors(fit: Fitted, X: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Standard errors of the sum of the terms at rows X (m, width), and their degrees of freedom, each (m,)."""
    if fit.sandwich is not None:
        return errors_in_basis(fit, fit.solution.in_basis(X))
    scale = np.nan if fit.estimate.scale is None else fit.estimate.scale
    return scale * np.sqrt(fit.solution.unscaled_variance(X)), np.full(len(X), fit.estimate.reference_df)


def _quantile(share: float, df: np.ndarray) -> np.ndarray:
    return np.asarray(tails.t_quantile(share, np.where(df > 0, df, np.nan)))


def _f_quantile(level: float, df1: int, df2: np.ndarray) -> np.ndarray:
    """Quantiles of F for each of many second degrees of freedom."""
    distinct, place = np.unique(df2, return_inverse=True)
    found = [tails.f_quantile(level, df1, v) if v > 0 and df1 > 0 else np.nan for v in distinct]
    return np.asarray(found, float)[place]


def _own_variance(fit: Fitted, context: Context, m: int) -> np.ndarray:
    """1/w₀ of new rows; NaN where the fit is weighted and they have no weight."""
    if fit.asides.weights is None:
        return np.ones(m)
    if _lacking(fit.asides.expressions["weights"], context.table):
        return np.full(m, np.nan)
    weights = fit.asides.values("weights", context)
    assert weights is not None
    return np.where(weights > 0, 1 / np.where(weights > 0, weights, 1.0), np.nan)


def _linked(
    fit: Fitted,
    context: Context,
    eta: np.ndarray,
    error: np.ndarray,
    own: np.ndarray,
    mean_ends: tuple[np.ndarray, np.ndarray],
    level: float,
) -> Bands:
    """Means and new responses under a link; of a total, as counts where the total is known.

    No interval is made about a mean that the family cannot have; ends beyond its range are cut there.
    """
    link, family, e = fit.link, fit.family, fit.estimate
    low, high = predictive.eta_range(family, link)
    trials = trials_of(fit, context)
    with np.errstate(all="ignore"):
        mu = link.mu(eta)
        sound = predictive.admitted(family, link, eta)
        cut = [link.mu(np.where(sound, np.clip(end, low, high), np.nan)) for end in mean_ends]
    mean_lower, mean_upper = np.minimum(*cut), np.maximum(*cut)
    new_lower = new_upper = np.full(len(eta), np.nan)
    if e.law and e.scale is not None and not (family.shares and trials is None):
        spread = own * e.scale * e.scale
        if family.discrete:  # a count that weighs more or less than one has no distribution
            spread = np.where(own == 1, 1.0, np.nan)
        new_lower, new_upper = predictive.ends(family, link, eta, error, level, trials=trials, spread=spread)
    scale = 1.0 if trials is None else trials
    return Bands(mu * scale, mean_lower * scale, mean_upper * scale, new_lower, new_upper)


def trials_of(fit: Fitted, context: Context) -> np.ndarray | None:
    """The totals of new rows, where they have them."""
    total = fit.response.total
    if fit.response.kind != "of" or total is None or _lacking(total, context.table):
        return None
    return evaluate(total, context)


def _distribution_free(fit: Fitted, X: np.ndarray, fitted: np.ndarray, level: float) -> tuple[np.ndarray, np.ndarray]:
    """Jackknife+ ends. Raises CallError where they are not to be had."""
    if not fit.estimate.linear or fit.asides.weights is not None:
        raise CallError("distribution-free intervals are for unweighted normal fits", argument="intervals")
    kept = forecast_memory(fit)
    if kept.basis is None or kept.left_out is None:
        raise CallError("distribution-free intervals need the fitted rows, and there are too many to keep (over 5,000)")
    return predictive.jackknife_plus(fitted, fit.solution.in_basis(X), kept.basis, kept.left_out, level)


# ------------------------------------------------------------------ the table


def forecast(
    fit: Fitted,
    new: Any = None,
    *,
    level: float | Sequence[float] | None = None,
    intervals: str = "model",
    simultaneous: bool = False,
    hold: str | None = None,
) -> Table:
    """The forecast table. See ``Fit.forecast``."""
    return forecast_with_remarks(fit, new, level, intervals, simultaneous, hold)[0]


def forecast_with_remarks(
    fit: Fitted,
    new: Any,
    level: float | Sequence[float] | None,
    intervals: str,
    simultaneous: bool,
    hold: str | None,
) -> tuple[Table, RowRemarks]:
    """The forecast table, and what is said of each row as data."""
    one_of("intervals", intervals, INTERVALS)
    if hold is not None:
        one_of("hold", hold, HOLDS)
    if intervals == "distribution-free" and simultaneous:
        raise CallError("distribution-free intervals are for one row at a time", argument="simultaneous")
    several = isinstance(level, (list, tuple))
    asked = level if isinstance(level, (list, tuple)) else [level]
    levels = [fit.level if v is None else checked_level(v) for v in asked]
    table, positions = _new_rows(fit, new)
    table, held = _held(fit, table, positions, hold)
    _check_columns(fit, table)
    _check_exposure(fit, table, positions)
    context = fit.design.context(table, positions)
    X = _design_rows(fit, table, positions, held)
    how = How(intervals, simultaneous)
    found = [_turned_back(fit, bands(fit, context, X, v, how)) for v in levels]
    measured = found[0]
    columns: dict[str, Any] = {"fitted": measured.fitted}
    if (expected := _expected(fit, context, X)) is not None:
        columns["expected"] = expected
    if (probability := _probability(fit, context, measured)) is not None:
        columns["probability"] = probability
    for own, v in zip(found, levels, strict=True):
        tail = f"_{100 * v:.10g}" if several else ""
        for name in ("mean_lower", "mean_upper", "new_lower", "new_upper"):
            columns[name + tail] = getattr(own, name)
    columns |= _judged(fit, table, context, measured) if new is not None else {}
    remarks = remarks_by_row(fit, table, positions, measured, X)
    columns["note"] = ["; ".join(remark.words for remark in own) for own in remarks]
    index = table.index
    ends = ("new_lower", "new_upper", "mean_lower", "mean_upper")
    sure = " and ".join(map(level_words, levels))
    found_table = Table(
        columns,
        title=f"Forecasts of {fit.words(fit.response.original)}, with {sure} intervals",
        notes=tuple(table_notes(fit, columns, levels[0], intervals, simultaneous, held)),
        index=index[positions].tolist(),
        index_name=str(index.name or "row"),
        kinds={"note": "text", "inside": "text", "probability": "own"},
        headings={n: n.replace("new_", "new row ").replace("_", " ") for n in columns if n.startswith(ends)},
    )
    return found_table, remarks


def _new_rows(fit: Fitted, new: Any) -> tuple[Records, np.ndarray]:
    if new is None:
        if fit.origin is None:
            raise CallError("a fit loaded from a file keeps no rows to forecast; give new ones: forecast(new)")
        if not len(fit.origin.used_rows.awaiting):
            raise CallError(
                f"no row of the table is missing its {fit.response.original}, so there is none to forecast; "
                "give new rows: forecast(new)",
                argument="new",
            )
        return fit.origin.table, fit.origin.used_rows.awaiting
    if isinstance(new, str) and "=" in new and not new.startswith("sample:"):
        new = read_assignments(new)
    if isinstance(new, Mapping) and not new:
        raise CallError("the new row is empty; give a value for each column the model needs", argument="new")
    table = records(new)
    if fit.options.id is not None and fit.options.id in table.names:
        table = records(table, fit.options.id)
    return table, np.arange(len(table))


def _held(
    fit: Fitted, table: Records, positions: np.ndarray, hold: str | None
) -> tuple[Records, dict[str, float | dict[str, float]]]:
    """The table with columns not given held at their average: numbers at their mean, levels at their shares."""
    if hold is None:
        return table, {}
    typical = forecast_memory(fit).typical
    held = {name: typical[name] for name in needed_columns(fit) if name not in table.names and name in typical}
    frame = table.frame.assign(**{name: v if isinstance(v, float) else next(iter(v)) for name, v in held.items()})
    return Records(frame, table.name, table.id), held


def _design_rows(
    fit: Fitted, table: Records, positions: np.ndarray, held: dict[str, float | dict[str, float]]
) -> np.ndarray:
    """Design rows; where a category is held, the average over its levels by their shares."""
    categories = {name: shares for name, shares in held.items() if isinstance(shares, dict)}
    if not categories:
        return fit.design.matrix(fit.design.context(table, positions))
    cells = list(product(*(shares.items() for shares in categories.values())))
    if len(cells) > MOST_CELLS:
        raise CallError(f"{listed(categories)} have too many levels together to hold at an average; give some of them")
    total: np.ndarray | None = None
    for cell in cells:
        frame = table.frame.assign(**{name: level for name, (level, _) in zip(categories, cell)})
        weight = float(np.prod([share for _, share in cell]))
        X = fit.design.matrix(fit.design.context(Records(frame, table.name, table.id), positions))
        total = weight * X if total is None else total + weight * X
    assert total is not None
    return total


def _lacking(expression: Expression, table: TableLike) -> list[str]:
    """The columns of an expression that a table does not have."""
    return [n.name for n in names_in(expression) if n.name not in table.names]


def _check_columns(fit: Fitted, table: Records) -> None:
    """Raises NewRowError when the new table lacks a column that the terms name."""
    needed = needed_columns(fit)
    lacking = [name for name in needed if name not in table.names]
    if lacking:
        near = nearest(lacking[0], [n for n in table.names if n not in needed])
        hint = f"; is it {near!r}?" if near else "."
        raise NewRowError(
            f"the new rows have no column {listed(map(repr, lacking))}, which the model needs{hint} "
            f'It needs {listed(needed, 12)}; hold="average" holds what is not given at its average',
            column=lacking[0],
            known=table.names,
        )


def _check_exposure(fit: Fitted, table: Records, positions: np.ndarray) -> None:
    """Raises NewRowError for a missing exposure: it is never taken to be one."""
    if fit.response.kind != "per" or fit.response.total is None:
        return
    for name in (n.name for n in names_in(fit.response.total)):
        if (bad := table.column(name).missing(positions)).any():
            rows = list(table.labels(positions[bad]))
            raise NewRowError(f"row {listed(rows)}: no {name}; a count wants its exposure", column=name, rows=rows)


def _turned_back(fit: Fitted, own: Bands) -> Bands:
    """The bands on the measured scale; ends swap where the transformation turns the order round."""
    response = fit.response
    if not response.transformed:
        return own
    back = response.turn_back
    if response.decreasing:
        own = Bands(own.fitted, own.mean_upper, own.mean_lower, own.new_upper, own.new_lower)
    return Bands(*(back(v) for v in (own.fitted, own.mean_lower, own.mean_upper, own.new_lower, own.new_upper)))


def _expected(fit: Fitted, context: Context, X: np.ndarray) -> np.ndarray | None:
    """The mean of a transformed response: what it turns back to, averaged over normal errors of the row's own variance.

    Where more than a speck of the errors lies past a pole there is no mean: infinite.
    """
    if not fit.response.transformed or fit.residual_sd is None:
        return None
    eta = linear_predictor(fit, context, X)
    spread = fit.residual_sd * np.sqrt(_own_variance(fit, context, len(X)))
    nodes, weights = special.roots_legendre(PANEL_NODES)
    edges = np.linspace(-FAR, FAR, PANELS + 1)
    half = (edges[1] - edges[0]) / 2
    z = (edges[:-1, None] + half * (1 + nodes)).ravel()
    shares = np.tile(weights, PANELS) * np.exp(-z * z / 2)
    shares /= shares.sum()
    out = np.full(len(eta), np.nan)
    for row in np.flatnonzero(np.isfinite(eta) & np.isfinite(spread)):
        values = fit.response.turn_back(eta[row] + spread[row] * z)
        past = ~np.isfinite(values)
        out[row] = np.inf if shares[past].sum() > SPECK else shares[~past] @ values[~past] / shares[~past].sum()
    return out


def _probability(fit: Fitted, context: Context, measured: Bands) -> np.ndarray | None:
    """The probability beside counts of a total."""
    trials = trials_of(fit, context)
    if trials is None:
        return None
    with np.errstate(all="ignore"):
        return np.asarray(measured.fitted / trials)


def _judged(fit: Fitted, table: Records, context: Context, measured: Bands) -> dict[str, Any]:
    """What really came, where the new rows have it: observed, error, and whether the interval held it."""
    name = fit.response.original if fit.response.transformed else None
    needed = [name] if name else [n.name for n in names_in(fit.response.expression)]
    if not all(n in table.names for n in needed):
        return {}
    observed = table.column(name).numbers(context.rows) if name else evaluate(fit.response.expression, context)
    if np.isnan(observed).all():
        return {}
    if fit.response.kind == "of" and trials_of(fit, context) is None:
        return {}
    known = ~np.isnan(observed) & ~np.isnan(measured.new_lower)
    inside = (observed >= measured.new_lower) & (observed <= measured.new_upper)
    return {
        "observed": observed,
        "error": observed - measured.fitted,
        "inside": [("yes" if i else "no") if k else None for i, k in zip(inside, known)],
    }
