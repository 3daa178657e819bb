"""The per-row figures as arrays, gone through block by block."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from joinery.core.influence import Influence, harm_limit, influence
from joinery.core.tails import t_quantile
from joinery.data.records import Records
from joinery.errors import DataError
from joinery.notation.evaluate import Rows
from joinery.study.asked import Asked, rows_at_hand

BLOCK_ROWS = 4096
LARGE_SHARE = 0.0027  # as many as lie beyond three standard deviations
OUTLIER_SHARE = 0.05  # chance of naming any row of a clean table badly fitted


def row_blocks(table: Records, rows: Rows, size: int = BLOCK_ROWS) -> Iterator[Rows]:
    """The rows in a fixed partition, so that threads and repetitions do not change a bit."""
    if isinstance(rows, slice):
        start, stop, _ = rows.indices(len(table))
        for first in range(start, stop, size):
            yield slice(first, min(first + size, stop))
    else:
        for first in range(0, len(rows), size):
            yield rows[first : first + size]


@dataclass(frozen=True)
class PerRow:
    """Figures of the fitted rows, each (n,), on the model's scale."""

    observed: np.ndarray
    fitted: np.ndarray
    influence: Influence

    @property
    def residual(self) -> np.ndarray:
        return np.asarray(self.observed - self.fitted)


def per_row(fit: Asked) -> PerRow:
    """Observed, fitted and influence figures of the rows a fit used. Raises CallError for a loaded fit."""
    if "per row" not in fit.memo:
        fit.memo["per row"] = _per_row(fit)
    found: PerRow = fit.memo["per row"]
    return found


def _per_row(fit: Asked) -> PerRow:
    table, chosen = rows_at_hand(fit)
    parts: list[PerRow] = []
    for rows in row_blocks(table, chosen.rows):
        context = fit.design.context(table, rows)
        X, y = fit.design.matrix(context), fit.response.values(context)
        fitted = fit.solution.fitted(X)
        if fit.solution.perfect:
            fitted = y.copy()
        parts.append(PerRow(y, fitted, influence(fit.solution, X, y - fitted)))
    if not parts:
        raise DataError("there are no rows")
    joined = {name: np.concatenate([getattr(p.influence, name) for p in parts]) for name in Influence.__annotations__}
    return PerRow(
        np.concatenate([p.observed for p in parts]),
        np.concatenate([p.fitted for p in parts]),
        Influence(**joined),
    )


@dataclass(frozen=True)
class Limits:
    """From where on a row is far out, badly fitted, or decides the answer."""

    leverage: float
    large: float
    studentized: float
    cooks_distance: float


def limits(fit: Asked) -> Limits:
    """Leverage 3p/n; for Cook's distance the median of F.

    For studentized residuals: ``large`` is passed by 27 rows of 10,000, ``studentized`` by any row of a clean table
    with probability 0.05 (Bonferroni's inequality).
    """
    n, p, df = fit.n_rows, fit.solution.rank, fit.residual_df
    shares = np.array([LARGE_SHARE, OUTLIER_SHARE / n])
    large, outlier = t_quantile(1 - shares / 2, df - 1) if df > 1 else (np.nan, np.nan)
    return Limits(3 * p / n, float(min(large, outlier)), float(outlier), harm_limit(p, df))
