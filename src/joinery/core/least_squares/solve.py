"""Least squares: blocks are folded into one triangular factor, which gives everything.

The model is y = β₀ + Xβ + ε with Var(εᵢ) = σ²/wᵢ. Where there is an intercept it is handled by
centring, so that a predictor with mean 10⁹ and spread 1 costs no digits. The way of folding is
chosen from the data:

* quick: cross-products and a Cholesky factor, corrected once from the true residuals (Björck 1987,
  corrected seminormal equations); for well-conditioned columns only.
* exact: cross-products without rounding and a double-double factor, for everything else (see
  ``exact_products``).
* steady: Householder QR of [R so far; block], block after block (Golub & Van Loan, *Matrix
  Computations*, 5.3); for hundreds of columns, where double-double arithmetic on the factor would
  take too long.
"""

from __future__ import annotations

from functools import partial
from typing import NamedTuple

import numpy as np

from joinery.core.blocks.blocks import Block, Blocks, constant_in
from joinery.core.blocks.columns import chosen, shifted
from joinery.core.blocks.products import inner, times, weighted_sums
from joinery.core.least_squares.exact import exact_least_squares
from joinery.core.least_squares.folded import Folded, Residuals
from joinery.core.least_squares.levels import Layout, swept, with_groups, within_products
from joinery.core.least_squares.quick import QUICK_CONDITION, factored, quick_fold
from joinery.core.least_squares.solution import Solution, no_miss
from joinery.core.least_squares.steady import steady_fold
from joinery.core.numeric.triangular import (
    EPS,
    WIDE,
    backward,
    condition_number,
    forward,
)

# with hundreds of columns orthogonal steps cost minutes: there cross-products may go further, which
# leaves standard errors 10 digits
WIDE_CONDITION = 1000.0


def least_squares(
    blocks: Blocks, *, intercept: bool = True, n: int | None = None, centred: bool = False
) -> Solution:
    """Least squares over row blocks.

    Parameters: ``blocks`` of X (m, k) without the constant, y (m,) and weights; ``intercept`` adds
    the constant; ``n`` the rows they stand for, where that is not the number with weight;
    ``centred`` says that columns sum to zero, so that they do not hold the constant.
    Returns a Solution. Raises DataError when a value is NaN or infinite, or when there is no
    row with weight.
    Source: Golub & Van Loan, *Matrix Computations*, 5.3; Björck 1987 for the correction.

    >>> import numpy as np
    >>> from joinery.core.blocks.blocks import ArrayBlocks
    >>> fit = least_squares(ArrayBlocks(np.array([[1.0], [2.0], [3.0]]), np.array([3.0, 5.0, 7.0])))
    >>> round(fit.intercept, 12), fit.coefficients.round(12).tolist()
    (1.0, [2.0])
    """
    if intercept and blocks.width > WIDE:
        result = swept(blocks, n, partial(least_squares, intercept=False, centred=True))
        if result is not None:
            return result
    # plain products cost one pass of the fastest product there is; their digits do for low κ
    folded = quick_fold(blocks, intercept, n)
    if folded is not None:
        condition = condition_number(folded.R[:-1, :-1])
        if condition <= (QUICK_CONDITION if blocks.width <= WIDE else WIDE_CONDITION):
            return _solve(
                blocks,
                folded,
                intercept,
                np.arange(blocks.width),
                {},
                condition,
                "quick",
                centred=centred,
            )
    if blocks.width <= WIDE:
        # higher κ, or too few digits left: rows are read again, exactly
        with np.errstate(over="ignore", invalid="ignore"):  # columns too small for coefficients
            return exact_least_squares(blocks, intercept, n, centred)
    # so wide a matrix has no room for slices: Householder's QR loses only what κ takes
    folded = steady_fold(blocks, intercept)
    kept, dependence, R = _rank_in_order(folded)
    folded = folded._replace(R=R, n=folded.n if n is None else n)
    return _solve(
        blocks,
        folded,
        intercept,
        kept,
        dependence,
        condition_number(R[:-1, :-1]),
        "steady",
        centred=centred,
    )


def solution_from_products(
    blocks: Blocks, H: np.ndarray, seen: Residuals, n: int
) -> Solution | None:
    """Return the solution of blocks with an intercept at known coefficients and products.

    Parameters: H = [1, X]ᵀW[1, X] (k + 1, k + 1); what the residuals there sum to; ``n`` rows.
    Returns None where columns are not well apart, so that the rows must be gone through once
    more."""
    with np.errstate(all="ignore"):
        explained = H @ seen.at
        cross = seen.gradient + explained  # [1, X]ᵀWy
        # Σwy² from the residuals at b and what b explains, as the rows are not seen again
        total = seen.squares + float((2 * seen.gradient + explained) @ seen.at)
    G = np.block([[H[1:, 1:], cross[1:, None]], [cross[None, 1:], np.array([[total]])]])
    s = np.append(H[0, 1:], cross[0])
    folded = factored(G, s, n, float(H[0, 0]), np.zeros(len(s)), intercept=True)
    if folded is None or (condition := condition_number(folded.R[:-1, :-1])) > QUICK_CONDITION:
        return None
    return _solve(blocks, folded, True, np.arange(len(s) - 1), {}, condition, "quick", seen.at)


def solution_from_groups(
    blocks: Blocks,
    layout: Layout,
    corner: np.ndarray,
    groups: np.ndarray,
    seen: Residuals,
    n: int,
) -> Solution | None:
    """Return the same with the levels of a category swept out.

    Parameters: ``corner`` (1 + d, 1 + d) of the constant and the numbers, ``groups`` (1 + d, q + 1)
    of these with each level and with none, all of which have weight."""
    with np.errstate(all="ignore"):
        result = within_products(layout, corner, groups, seen, n)
    if result is None:
        return None
    nothing, weight_sum = np.zeros(len(result.G)), float(groups[0].sum())
    folded = factored(result.G, nothing, n, weight_sum, nothing, intercept=False)
    if folded is None or (condition := condition_number(folded.R[:-1, :-1])) > QUICK_CONDITION:
        return None
    at, places = np.append(0.0, seen.at[1 + layout.numbers]), np.arange(len(layout.numbers))
    within = _solve(blocks, folded, False, places, {}, condition, "quick", at, centred=True)
    return with_groups(within, result.means, layout, n)


# ------------------------------------------------------------------ the steady way


def _rank_in_order(folded: Folded) -> tuple[np.ndarray, dict[int, np.ndarray], np.ndarray]:
    """Return columns kept, in order; for each dropped one its combination of earlier ones.

    The factor of the kept ones.

    A column goes when what earlier columns leave of it is no larger than rounding could have left:
    c·ε·‖ |xⱼ| + Σ|cₖxₖ| ‖, sizes as written, not centred.
    """
    A, k = folded.R.copy(), len(folded.scale)
    A = A[np.append(np.abs(A[:-1]).max(axis=1, initial=0.0) > 0, True)]  # few rows fill few of it
    place: list[int] = []
    dependence: dict[int, np.ndarray] = {}
    tolerance = (32 + k) * EPS
    for column in range(k):
        r = len(place)
        below = A[r:, column]
        left = float(np.sqrt(below @ below))
        if r:
            earlier = backward(A[:r, place], A[:r, column])
        else:
            earlier = np.empty(0)
        bound = folded.size[column] + float(np.abs(earlier) @ folded.size[place])
        if r < len(A) - 1 and left > tolerance * bound:
            _reflect(A[r:, column:])
            place.append(column)
            continue
        # what stays is a combination of earlier columns; the constant's share from the means
        combination = np.zeros(k + 1)
        combination[np.array(place, int) + 1] = earlier * folded.scale[column] / folded.scale[place]
        combination[0] = folded.centre[column] - combination[1:] @ folded.centre
        dependence[column] = combination
    r = len(place)
    R = np.zeros((r + 1, r + 1))
    R[:r] = A[:r, [*place, k]]
    R[r, r] = np.sqrt(A[r:, k] @ A[r:, k])
    return np.array(place, dtype=int), dependence, np.triu(R)


def _reflect(A: np.ndarray) -> None:
    """Turn the rows of A (m, q), in place, so that its first column has a head alone."""
    first = A[:, 0]
    if not first[1:].any():
        return
    length = float(np.sqrt(first @ first))
    v = first.copy()
    # Householder's vector, its sign such that nothing cancels
    v[0] += length if v[0] >= 0 else -length
    A -= np.outer(v * (2 / (v @ v)), v @ A)
    A[1:, 0] = 0.0


# ------------------------------------------------------------------ solving


def _solve(
    blocks: Blocks,
    folded: Folded,
    intercept: bool,
    kept: np.ndarray,
    dependence: dict[int, np.ndarray],
    condition: float,
    way: str,
    at: np.ndarray | None = None,
    centred: bool = False,
) -> Solution:
    """Return coefficients from the factor, corrected once from the true residuals of a second pass.

    Or those of ``at``.
    """
    r = len(kept)
    R, effects = folded.R[:r, :r], folded.R[:r, r]
    centre, scale = folded.centre[kept], folded.scale[kept]
    if at is not None:
        b, mean, half = at[1:], float(at[0] + centre @ at[1:]), np.zeros(r)
        rss = float(folded.R[r, r]) ** 2
        tss = rss + float(effects @ effects)
    else:
        b, mean, half, rss, tss = _corrected(blocks, folded, intercept, kept, way)
    direction: np.ndarray | None = None
    if not intercept and r and not centred:
        # a full set of indicators holds the constant though it is not written
        direction, tss = constant_in(blocks, kept, R, scale, folded.weight_sum, tss)
    if intercept:
        constant = float(mean - centre @ b if at is None else at[0])
    else:
        constant = None
    lengths = np.sqrt((R * R).sum(axis=0)) * scale
    size, level = np.sqrt(tss) + float(np.abs(b) @ lengths), abs(mean) * np.sqrt(folded.weight_sum)
    perfect = no_miss(rss, size, level) or folded.n <= r + intercept
    coefficients = np.full(len(folded.scale), np.nan)
    coefficients[kept] = b
    return Solution(
        intercept=constant,
        coefficients=coefficients,
        kept=kept,
        dependence=dependence,
        centre=centre,
        scale=scale,
        own_factor=R,
        own_effects=effects + half,
        n=folded.n,
        weight_sum=folded.weight_sum,
        rss=0.0 if perfect else max(float(rss), 0.0),
        tss=float(tss),
        mean_response=float(mean),
        spans_constant=intercept or direction is not None,
        constant_direction=direction,
        perfect=perfect,
        condition=condition,
        way=way,
    )


def _corrected(
    blocks: Blocks, folded: Folded, intercept: bool, kept: np.ndarray, way: str
) -> tuple[np.ndarray, float, np.ndarray, float, float]:
    """Return coefficients and mean from the factor, mended; by how much their effects moved.

    Sums of squares.
    """
    r = len(kept)
    R, centre, scale = folded.R[:r, :r], folded.centre[kept], folded.scale[kept]
    if folded.shift is None:
        shift = None
    else:
        shift = folded.shift[kept]
    # the corrected seminormal equations (Björck 1987): solve, look at the true residuals, correct
    b, mean = backward(R, folded.R[:r, r]) / scale, folded.mean
    seen = _residual_pass(blocks, kept, shift, centre, mean, b)
    half = forward(R, seen.gradient / scale)
    if intercept:
        drift = seen.drift / folded.weight_sum
    else:
        drift = 0.0
    b, mean = b + backward(R, half) / scale, mean + drift
    if way != "quick":
        seen = _residual_pass(blocks, kept, shift, centre, mean, b)
        return b, mean, half, seen.rss, seen.tss
    # the correction is small: what it changes in the sums of squares is known without another pass
    gain = drift**2 * folded.weight_sum
    return b, mean, half, seen.rss - float(half @ half) - gain, seen.tss - gain


class _Seen(NamedTuple):
    """Sums over the rows at given coefficients: XᵀWe, Σwe, Σwe² and Σw(y − mean)²."""

    gradient: np.ndarray
    drift: float
    rss: float
    tss: float


def _residual_pass(
    blocks: Blocks,
    kept: np.ndarray,
    shift: np.ndarray | None,
    centre: np.ndarray,
    mean: float,
    b: np.ndarray,
) -> _Seen:
    """Make one pass over the rows with the true residuals e = (y − mean) − (X − centre)b."""
    if shift is None:
        about_shift = centre
    else:
        about_shift = centre - shift
    offset = float(about_shift @ b)
    gradient = np.zeros(len(kept))
    drift = rss = tss = 0.0

    def added(block: Block) -> tuple[np.ndarray, float, float, float]:
        X, y, w = block
        Z = shifted(chosen(X, kept), shift)
        about = y - mean
        e = about - times(Z, b) + offset
        we, wa = (e, about) if w is None else (w * e, w * about)
        return weighted_sums(we, Z), float(we.sum()), inner(we, e), inner(wa, about)

    for part, rest, squares, total in blocks.pieces.each(added):
        gradient, drift, rss, tss = gradient + part, drift + rest, rss + squares, tss + total
    return _Seen(gradient - drift * about_shift, drift, rss, tss)
