"""The per-row figures as arrays, gone through block by block."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property, partial

import numpy as np

from joinery.core.blocks.partition import Partition
from joinery.core.inference.influence import chance_limit, harm_limit, influence
from joinery.core.least_squares.solution import Solution
from joinery.core.numeric.distributions import chi2_upper, t_quantile
from joinery.data.sources.source import refuse_too_large
from joinery.design.row_blocks import RowBlock
from joinery.notation.context import Context
from joinery.show.numbers import figure
from joinery.study.fitted import Fitted, once, response_rows, rows_at_hand
from joinery.study.rows.glm_figures import family_blocks
from joinery.study.rows.per_row import PerRow, gathered
from joinery.support.limits import MOST_HELD

LARGE_SHARE = 0.0027  # as many as lie beyond three standard deviations
# chances that any row of a sound table is named badly fitted, seriously so, or decides the answer
OUTLIER_SHARE, SERIOUS_SHARE, DECIDES_SHARE = 0.006, 0.0015, 0.0015


OVERDISPERSED, OVERDISPERSED_P = 1.2, 0.01


@once
def per_row(fit: Fitted) -> PerRow:
    """Return observed, fitted and influence figures of the rows a fit used.

    Raises CallError for a loaded fit, TooLargeError for more rows than can be held.
    """
    instead = "Fit.write_rows, or rows --output in a shell, writes them to a file"
    refuse_too_many(fit, "a question of single rows", instead)
    kept = figures_in_blocks(fit).each(_kept)
    return gathered((figures for _, figures in kept), rows_at_hand(fit)[1].used)


def figures_of(fit: Fitted, places: np.ndarray) -> PerRow:
    """Return the figures of some rows (m,), by their places in order among those used."""
    if not too_many(fit):
        return per_row(fit).taken(places)

    def in_block(made: tuple[RowBlock, PerRow]) -> PerRow:
        block, figures = made
        here = (places >= block.span.start) & (places < block.span.stop)
        return figures.taken(places[here] - block.first)

    return gathered(figures_in_blocks(fit).each(in_block), len(places))


def too_many(fit: Fitted) -> bool:
    """Return True if the figures of single rows are not held."""
    table, used = rows_at_hand(fit)
    return table.read_as_needed and used.used > MOST_HELD


def refuse_too_many(fit: Fitted, what: str, instead: str) -> None:
    """Raise TooLargeError where the figures of single rows are not held."""
    if too_many(fit):
        refuse_too_large(fit.n_rows, 0, what, f"{instead}; or fit a sample of the rows")


def figures_in_pieces(fit: Fitted) -> Partition[PerRow]:
    """Return the figures of all rows: in one piece where they are held, else block by block."""
    if too_many(fit):
        return figures_in_blocks(fit).map(lambda made: made[1])
    held = per_row(fit)
    return Partition(1, lambda i, workspace: held)


def _kept(made: tuple[RowBlock, PerRow]) -> tuple[None, PerRow]:
    """Return the figures without the block, whose memory the next one takes."""
    return None, made[1]


def figures_in_blocks(fit: Fitted) -> Partition[tuple[RowBlock, PerRow]]:
    """Return the figures of each block of the rows a fit used. Raises CallError for a loaded
    fit."""
    if not fit.estimate.linear:
        return family_blocks(fit)
    of_block = partial(_of_least_squares, fit.solution, known_scale(fit))
    return response_rows(fit).row_blocks.map(of_block)


def known_scale(fit: Fitted) -> float | None:
    """Return the standard deviation of a row in the solution's unit, where it is not estimated."""
    if fit.estimate.known:
        return (fit.estimate.scale or 1.0) / fit.solution.unit
    return None


def residuals(solution: Solution, block: RowBlock) -> np.ndarray:
    """Return what the terms leave of a block's response (m,); zeros of a perfect fit."""
    beyond = block.beyond_offset
    if solution.perfect:
        return np.zeros(len(beyond))
    return np.asarray(beyond - solution.fitted(block.columns))


def _of_least_squares(
    solution: Solution, known: float | None, block: RowBlock
) -> tuple[RowBlock, PerRow]:
    residual = residuals(solution, block)
    # a row that stands for several equal ones is judged as one of them
    figures = influence(solution, block.columns, residual, block.precision, known)
    terms = block.beyond_offset - residual
    return block, PerRow(block.y, block.y - residual, block.times, terms, figures)


def fitted_values(fit: Fitted, context: Context, X: np.ndarray) -> np.ndarray:
    """Return fitted values of any rows, the offset and exposure included; under a link, their
    means."""
    eta = linear_predictor(fit, context, X)
    if fit.estimate.linear:
        return eta
    return fit.link.mu(eta)


def linear_predictor(fit: Fitted, context: Context, X: np.ndarray) -> np.ndarray:
    """Return the sum of the terms for any rows, the offset and exposure included."""
    eta = without_exposure(fit, context, X)
    exposure = fit.response.log_exposure(context)
    return eta if exposure is None else eta + exposure


def without_exposure(fit: Fitted, context: Context, X: np.ndarray) -> np.ndarray:
    """Return the same with the offset alone: of a count with its exposure, for an exposure of
    one."""
    eta = fit.solution.fitted(X)
    offset = fit.asides.values("offset", context)
    if offset is None:
        return eta
    return np.asarray(eta + offset)


@once
def widening(fit: Fitted) -> float:
    """Return how many times wider than the family says the rows spread: 1 unless that is
    overdispersion.

    Rows and other checks are judged on the wider scale, so that one cause brings one remark.
    """
    grouped = fit.design.sentence.response.kind == "of" or not fit.family.shares
    df = fit.residual_df
    if not (fit.estimate.known and fit.family.discrete and grouped) or df < 1:
        return 1.0
    ratio = fit.estimate.pearson / df / (fit.estimate.dispersion or np.nan)
    wide = ratio >= OVERDISPERSED and chi2_upper(ratio * df, df) < OVERDISPERSED_P
    if wide:
        return float(np.sqrt(ratio))
    return 1.0


def studentized_df(fit: Fitted) -> float:
    """Return degrees of freedom of studentized residuals, ∞ where the dispersion is known."""
    return fit.estimate.reference_df - 1


@dataclass(frozen=True)
class Limits:
    """From where on a row is far out, badly fitted, or decides the answer."""

    leverage: float
    large: float
    studentized: float
    serious: float
    cooks_distance: float

    @cached_property
    def leverage_words(self) -> str:
        return figure(self.leverage, 2)

    @cached_property
    def distance_words(self) -> str:
        return figure(self.cooks_distance, 2)


def limits_at(fit: Fitted, leverage: np.ndarray) -> Limits:
    """Return leverage 3p/n; for Cook's distance the median of F, or what chance reaches in this
    design.

    For studentized residuals: ``large`` is passed by 27 rows of 10,000, ``studentized`` by any row
    of a sound table with probability 0.006, ``serious`` 0.0015 (Bonferroni's inequality). Of the
    leverages (m,) the highest are enough."""
    n, p = fit.n_rows, fit.solution.rank
    df = studentized_df(fit) + 1
    shares = np.array([LARGE_SHARE, OUTLIER_SHARE / n, SERIOUS_SHARE / n])
    large, outlier, serious = t_quantile(1 - shares / 2, df - 1) if df > 1 else [np.nan] * 3
    chance = chance_limit(leverage, p, df, DECIDES_SHARE)
    decides = max(harm_limit(p, fit.residual_df), chance)
    return Limits(3 * p / n, float(min(large, outlier)), float(outlier), float(serious), decides)


def left_out_error(fit: Fitted) -> float | None:
    """Return the root mean square error of each row forecast without it: e/(1 − h) (Allen 1974).

    None where it is unknown.
    """
    if fit.origin is None or fit.solution.perfect or not fit.estimate.linear:
        return None

    def of_rows(figures: PerRow) -> np.ndarray:
        with np.errstate(all="ignore"):
            e = figures.residual / fit.solution.unit / (1 - figures.influence.leverage)
        sound = np.isfinite(e)
        times = figures.times[sound]
        return np.array([times @ e[sound] ** 2, times.sum()])

    squares, times = sum(figures_in_pieces(fit).each(of_rows), np.zeros(2))
    if times:
        return float(np.sqrt(squares / times) * fit.solution.unit)
    return None
