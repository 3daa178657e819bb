"""Forecasts of new rows, with an interval for the mean and one for a single row."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import product
from typing import Any

import numpy as np

from joinery.core import predictive, tails
from joinery.core.links import LINKS
from joinery.data.records import Records, records
from joinery.design.working import family_of
from joinery.errors import CallError, NewRowError, listed, nearest, one_of
from joinery.notation.evaluate import Context, TableLike, evaluate
from joinery.notation.parse import read_assignments
from joinery.notation.tree import Call, Expression, names_in
from joinery.show.numbers import level_words
from joinery.show.table import Table
from joinery.study.asked import Asked, checked_level
from joinery.study.forecast_notes import QUASI, needed_columns, notes_by_row, table_notes
from joinery.study.per_row import linear_predictor
from joinery.study.remembered import remembered

INTERVALS = ("model", "distribution-free")
HOLDS = ("average",)
MOST_CELLS = 4096


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


def bands(fit: Asked, context: Context, X: np.ndarray, level: float, how: How | None = None) -> Bands:
    """Intervals at rows X (m, width): s²·x₀ᵀVx₀ for the mean, s²/w₀ more for a new row (Draper & Smith 1998, 3.1).

    Without weights for the new rows of a weighted fit there is no interval for a row. Simultaneous: √(pF) for the mean,
    the smaller of √(mF) and Bonferroni for m new rows (Scheffé 1959; Miller 1981).
    """
    how = how or How()
    solution, s = fit.solution, fit.error_scale
    eta = linear_predictor(fit, context, X)
    own = _own_variance(fit, context, len(X))
    spread = np.nan if s is None else s
    of_mean, df = spread * np.sqrt(solution.unscaled_variance(X)), fit.reference_df
    if fit.sandwich is not None:
        u = solution.in_basis(X)
        variance = np.maximum(np.einsum("ij,jk,ik->i", u, fit.sandwich.meat, u), 0.0)
        of_mean, df = np.sqrt(variance) * solution.unit, float(np.nanmin(fit.sandwich.df))
    mean_times, new_times = _multipliers(solution.rank, int(np.isfinite(eta).sum()), df, level, how.simultaneous)
    mean_lower, mean_upper = eta - mean_times * of_mean, eta + mean_times * of_mean
    if fit.glm is not None:
        return _linked(fit, context, eta, of_mean, own, (mean_lower, mean_upper), level)
    if how.intervals == "distribution-free":
        new_lower, new_upper = _distribution_free(fit, X, eta, level)
    else:
        error = np.hypot(np.sqrt(own) * spread, of_mean)
        new_lower, new_upper = eta - new_times * error, eta + new_times * error
    return Bands(eta, mean_lower, mean_upper, new_lower, new_upper)


def _multipliers(p: int, m: int, df: float, level: float, simultaneous: bool) -> tuple[float, float]:
    """How many standard errors the ends lie away, for the mean and for a new row."""
    if not df > 0:
        return float("nan"), float("nan")
    if not simultaneous:
        t = float(tails.t_quantile((1 + level) / 2, df))
        return t, t
    scheffe = float(np.sqrt(p * tails.f_quantile(level, p, df)))
    m = max(m, 1)
    bonferroni = float(tails.t_quantile(1 - (1 - level) / (2 * m), df))
    return scheffe, min(float(np.sqrt(m * tails.f_quantile(level, m, df))), bonferroni)


def _own_variance(fit: Asked, context: Context, m: int) -> np.ndarray:
    """1/w₀ of new rows; NaN where the fit is weighted and they have no weight."""
    if fit.asides.weights is None:
        return np.ones(m)
    if _lacking(fit.asides.expressions["weights"], context.table):
        return np.full(m, np.nan)
    weights = fit.asides.values("weights", context)
    assert weights is not None
    return np.where(weights > 0, 1 / np.where(weights > 0, weights, 1.0), np.nan)


def _linked(
    fit: Asked,
    context: Context,
    eta: np.ndarray,
    error: np.ndarray,
    own: np.ndarray,
    mean_ends: tuple[np.ndarray, np.ndarray],
    level: float,
) -> Bands:
    """Means and new responses under a link; of a total, as counts where the total is known."""
    link, family = LINKS[fit.link], family_of(fit.glm)
    low, high = link.domain
    with np.errstate(all="ignore"):
        ends = [link.mu(np.where(np.isnan(e), np.nan, np.clip(e, low, high))) for e in mean_ends]
        mean_lower, mean_upper = np.minimum(*ends), np.maximum(*ends)
        mu = link.mu(eta)
    trials = _trials(fit, context)
    nothing = np.full(len(eta), np.nan)
    new_lower, new_upper = nothing, nothing
    single = family.of_shares and trials is None
    if fit.family not in QUASI and not single and fit.error_scale is not None and fit.asides.weights is None:
        phi = fit.dispersion or np.nan
        new_lower, new_upper = predictive.ends(family, link, eta, error, level, trials=trials, phi=phi, weights=1 / own)
    scale = 1.0 if trials is None else trials
    return Bands(mu * scale, mean_lower * scale, mean_upper * scale, new_lower, new_upper)


def _trials(fit: Asked, context: Context) -> np.ndarray | None:
    """The totals of new rows, where they have them."""
    total = fit.response.total
    if fit.response.kind != "of" or total is None or _lacking(total, context.table):
        return None
    return evaluate(total, context)


def _distribution_free(fit: Asked, X: np.ndarray, fitted: np.ndarray, level: float) -> tuple[np.ndarray, np.ndarray]:
    """Jackknife+ ends. Raises CallError where they are not to be had."""
    if fit.glm is not None or fit.asides.weights is not None or fit.asides.repeats is not None:
        raise CallError("distribution-free intervals are for unweighted normal fits", argument="intervals")
    kept = remembered(fit)
    if kept.basis is None or kept.left_out is None:
        raise CallError("distribution-free intervals need the fitted rows, and there are too many to keep (over 5,000)")
    return predictive.jackknife_plus(fitted, fit.solution.in_basis(X), kept.basis, kept.left_out, level)


# ------------------------------------------------------------------ the table


def forecast(
    fit: Asked,
    new: Any = None,
    *,
    level: float | Sequence[float] | None = None,
    intervals: str = "model",
    simultaneous: bool = False,
    hold: str | None = None,
) -> Table:
    """The forecast table. See ``Fit.forecast``."""
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
    usable = ~np.isnan(measured.fitted)
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
    columns["note"] = notes_by_row(fit, table, positions, usable, X)
    index = table.index
    ends = ("new_lower", "new_upper", "mean_lower", "mean_upper")
    sure = " and ".join(map(level_words, levels))
    return Table(
        columns,
        title=f"Forecasts of {fit.words(fit.response.original)}, with {sure} intervals",
        notes=tuple(table_notes(fit, columns, levels[0], intervals, simultaneous, held)),
        index=index[positions].tolist(),
        index_name=str(index.name or "row"),
        kinds={"note": "text", "inside": "text", "probability": "own"},
        headings={n: n.replace("new_", "new row ").replace("_", " ") for n in columns if n.startswith(ends)},
    )


def _new_rows(fit: Asked, new: Any) -> tuple[Records, np.ndarray]:
    if new is None:
        if fit.table is None or fit.selection is None:
            raise CallError("a fit loaded from a file keeps no rows to forecast; give new ones: forecast(new)")
        if not len(fit.selection.awaiting):
            raise CallError(
                f"no row of the table is missing its {fit.response.original}, so there is none to forecast; "
                "give new rows: forecast(new)",
                argument="new",
            )
        return fit.table, fit.selection.awaiting
    if isinstance(new, str) and "=" in new and not new.startswith("sample:"):
        new = read_assignments(new)
    if isinstance(new, Mapping) and not new:
        raise CallError("the new row is empty; give a value for each column the model needs", argument="new")
    table = records(new)
    if fit.id is not None and fit.id in table.names:
        table = records(table, fit.id)
    return table, np.arange(len(table))


def _held(
    fit: Asked, table: Records, positions: np.ndarray, hold: str | None
) -> tuple[Records, dict[str, float | dict[str, float]]]:
    """The table with columns not given held at their average: numbers at their mean, levels at their shares."""
    if hold is None:
        return table, {}
    typical = remembered(fit).typical
    held = {name: typical[name] for name in needed_columns(fit) if name not in table.names and name in typical}
    frame = table.frame.assign(**{name: v if isinstance(v, float) else next(iter(v)) for name, v in held.items()})
    return Records(frame, table.name, table.id), held


def _design_rows(
    fit: Asked, table: Records, positions: np.ndarray, held: dict[str, float | dict[str, float]]
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


def _check_columns(fit: Asked, table: Records) -> None:
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


def _check_exposure(fit: Asked, table: Records, positions: np.ndarray) -> None:
    """Raises NewRowError for a missing exposure: it is never taken to be one."""
    if fit.response.kind != "per" or fit.response.total is None:
        return
    for name in (n.name for n in names_in(fit.response.total)):
        if (bad := table.column(name).missing(positions)).any():
            rows = list(table.labels(positions[bad]))
            raise NewRowError(f"row {listed(rows)}: no {name}; a count wants its exposure", column=name, rows=rows)


def _turned_back(fit: Asked, own: Bands) -> Bands:
    """The bands on the measured scale; ends swap where the transformation turns the order round."""
    response = fit.response
    if not response.transformed:
        return own
    back = response.turn_back
    if response.decreasing:
        own = Bands(own.fitted, own.mean_upper, own.mean_lower, own.new_upper, own.new_lower)
    return Bands(*(back(v) for v in (own.fitted, own.mean_lower, own.mean_upper, own.new_lower, own.new_upper)))


def _expected(fit: Asked, context: Context, X: np.ndarray) -> np.ndarray | None:
    """The mean of a transformed response: exp(s²/2) times the median for logs, smearing otherwise (Duan 1983)."""
    if not fit.response.transformed or fit.residual_sd is None:
        return None
    eta = linear_predictor(fit, context, X)
    if isinstance(fit.response.expression, Call) and fit.response.expression.function == "log":
        return fit.response.turn_back(eta + fit.residual_sd**2 / 2)
    quantiles = np.array(remembered(fit).residual_quantiles)
    if not len(quantiles):
        return None
    weights = np.full(len(quantiles), 1.0)
    weights[[0, -1]] = 0.5
    spread = fit.response.turn_back(eta[:, None] + quantiles)
    return np.asarray(spread @ weights / weights.sum())


def _probability(fit: Asked, context: Context, measured: Bands) -> np.ndarray | None:
    """The probability beside counts of a total."""
    trials = _trials(fit, context) if fit.glm is not None else None
    if trials is None:
        return None
    with np.errstate(all="ignore"):
        return np.asarray(measured.fitted / trials)


def _judged(fit: Asked, table: Records, context: Context, measured: Bands) -> dict[str, Any]:
    """What really came, where the new rows have it: observed, error, and whether the interval held it."""
    name = fit.response.original if fit.response.transformed else None
    needed = [name] if name else [n.name for n in names_in(fit.response.expression)]
    if not all(n in table.names for n in needed):
        return {}
    observed = table.column(name).numbers(context.rows) if name else evaluate(fit.response.expression, context)
    if np.isnan(observed).all():
        return {}
    if fit.response.kind == "of" and _trials(fit, context) is None:
        return {}
    known = ~np.isnan(observed) & ~np.isnan(measured.new_lower)
    inside = (observed >= measured.new_lower) & (observed <= measured.new_upper)
    return {
        "observed": observed,
        "error": observed - measured.fitted,
        "inside": [("yes" if i else "no") if k else None for i, k in zip(inside, known)],
    }
