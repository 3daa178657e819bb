"""The per-row figures as arrays, gone through block by block."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from joinery.core.influence import Influence, harm_limit, influence
from joinery.core.links import LINKS
from joinery.core.tails import t_quantile
from joinery.design.blocks import RowBlock
from joinery.notation.evaluate import Context
from joinery.show.numbers import figure
from joinery.study.asked import Asked, response_blocks

LARGE_SHARE = 0.0027  # as many as lie beyond three standard deviations
OUTLIER_SHARE = 0.05  # chance of naming any row of a clean table badly fitted


@dataclass(frozen=True)
class PerRow:
    """Figures of the fitted rows, each (n,), on the model's scale; ``counts`` is False where the weight is zero."""

    observed: np.ndarray
    fitted: np.ndarray
    counts: np.ndarray
    influence: Influence
    kind: str = "residual"
    shown: np.ndarray | None = None
    on_terms: np.ndarray | None = None
    extras: dict[str, np.ndarray] = field(default_factory=dict)

    @property
    def residual(self) -> np.ndarray:
        return np.asarray(self.observed - self.fitted)

    @property
    def drawn(self) -> np.ndarray:
        """The residuals that pictures show: ``kind`` names them."""
        return self.residual if self.shown is None else self.shown

    @property
    def working(self) -> np.ndarray:
        """Residuals on the scale of the terms."""
        return self.residual if self.on_terms is None else self.on_terms


def per_row(fit: Asked) -> PerRow:
    """Observed, fitted and influence figures of the rows a fit used. Raises CallError for a loaded fit."""
    if "per row" not in fit.memo:
        fit.memo["per row"] = _per_row(fit)
    found: PerRow = fit.memo["per row"]
    return found


def _per_row(fit: Asked) -> PerRow:
    if fit.glm is not None:
        from joinery.study.family_rows import family_rows

        found: PerRow = family_rows(fit)
        return found

    def figures_of(block: RowBlock) -> PerRow:
        beyond = block.beyond_offset
        residual = np.zeros(len(beyond)) if fit.solution.perfect else beyond - fit.solution.fitted(block.columns)
        # a row that stands for several equal ones is judged as one of them
        figures = influence(fit.solution, block.columns, residual, block.precision)
        counts = np.ones(len(beyond)) if block.weights is None else block.weights
        return PerRow(block.y, block.y - residual, counts > 0, figures)

    parts = list(response_blocks(fit).whole.each(figures_of))
    joined = {name: np.concatenate([getattr(p.influence, name) for p in parts]) for name in Influence.__annotations__}
    return PerRow(
        np.concatenate([p.observed for p in parts]),
        np.concatenate([p.fitted for p in parts]),
        np.concatenate([p.counts for p in parts]),
        Influence(**joined),
    )


def fitted_values(fit: Asked, context: Context, X: np.ndarray) -> np.ndarray:
    """Fitted values of any rows, the offset and exposure included; under a link, their means."""
    eta = linear_predictor(fit, context, X)
    return eta if fit.glm is None else LINKS[fit.link].mu(eta)


def linear_predictor(fit: Asked, context: Context, X: np.ndarray) -> np.ndarray:
    """The sum of the terms for any rows, the offset and exposure included."""
    eta = fit.solution.fitted(X)
    for offset in (fit.asides.values("offset", context), fit.response.log_exposure(context)):
        eta = eta if offset is None else np.asarray(eta + offset)
    return eta


@dataclass(frozen=True)
class Limits:
    """From where on a row is far out, badly fitted, or decides the answer."""

    leverage: float
    large: float
    studentized: float
    cooks_distance: float

    @cached_property
    def leverage_words(self) -> str:
        return figure(self.leverage, 2)

    @cached_property
    def distance_words(self) -> str:
        return figure(self.cooks_distance, 2)


def limits(fit: Asked) -> Limits:
    """Leverage 3p/n; for Cook's distance the median of F.

    For studentized residuals: ``large`` is passed by 27 rows of 10,000, ``studentized`` by any row of a clean table
    with probability 0.05 (Bonferroni's inequality).
    """
    n, p, df = fit.n_rows, fit.solution.rank, fit.residual_df
    if np.isinf(fit.reference_df):
        df = 10**9  # studentized residuals are near normal where the dispersion is known
    shares = np.array([LARGE_SHARE, OUTLIER_SHARE / n])
    large, outlier = t_quantile(1 - shares / 2, df - 1) if df > 1 else (np.nan, np.nan)
    return Limits(3 * p / n, float(min(large, outlier)), float(outlier), harm_limit(p, fit.residual_df))


def left_out_error(fit: Asked) -> float | None:
    """The root mean square error of each row forecast without it: e/(1 − h) (Allen 1974); None where it is unknown."""
    if fit.table is None or fit.solution.perfect or fit.family != "normal":
        return None
    figures = per_row(fit)
    with np.errstate(all="ignore"):
        e = (figures.residual / fit.solution.unit / (1 - figures.influence.leverage))[figures.counts]
    e = e[np.isfinite(e)]
    return float(np.sqrt((e**2).mean()) * fit.solution.unit) if len(e) else None
