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

from typing import NamedTuple

import numpy as np
from scipy.linalg import lapack

from joinery.core.blocks.blocks import Block, Blocks, constant_in, extremes, start
from joinery.core.blocks.columns import chosen, dense, shifted, times_rows
from joinery.core.blocks.products import Gram, inner, sparse_gram, times, weighted_sums
from joinery.core.least_squares.exact import exact_least_squares
from joinery.core.least_squares.solution import FAR_MEAN, Solution, no_miss
from joinery.core.numeric.triangular import (
    EPS,
    WIDE,
    backward,
    condition_number,
    forward,
    power_of_two,
    triangle,
)
from joinery.errors import DataError

QUICK_CONDITION = 50.0
# with hundreds of columns orthogonal steps cost minutes: there cross-products may go further, which
# leaves standard errors 10 digits
WIDE_CONDITION = 1000.0
# an intercept that lies this many standard deviations from the data wants more digits than a double
# has
VERY_FAR_MEAN = 100.0


class _Folded(NamedTuple):
    """The factor of [Z | y − mean] in shifted, scaled columns: all that the rows determine."""

    R: (
        np.ndarray
    )  # (k + 1, k + 1) of [(X − centre)/scale | (y − mean)], centred where there is an intercept
    centre: np.ndarray
    mean: float
    scale: np.ndarray
    size: np.ndarray  # ‖√w·x‖ of each column as written, over its scale
    n: int
    weight_sum: float
    shift: np.ndarray | None  # what columns were moved by on the way; None for nothing


def least_squares(blocks: Blocks, *, intercept: bool = True, n: int | None = None) -> Solution:
    """Least squares over row blocks.

    Parameters: ``blocks`` of X (m, k) without the constant, y (m,) and weights; ``intercept`` adds
        the constant; ``n`` the rows they stand for, where that is not the number with weight.
        Returns a Solution. Raises DataError when a value is NaN or infinite, or when there is no
        row with weight.
    Source: Golub & Van Loan, *Matrix Computations*, 5.3; Björck 1987 for the correction.

    >>> import numpy as np
    >>> from joinery.core.blocks.blocks import ArrayBlocks
    >>> fit = least_squares(ArrayBlocks(np.array([[1.0], [2.0], [3.0]]), np.array([3.0, 5.0, 7.0])))
    >>> round(fit.intercept, 12), fit.coefficients.round(12).tolist()
    (1.0, [2.0])
    """
    folded = _quick_fold(blocks, intercept, n)
    if folded is not None:
        condition = condition_number(folded.R[:-1, :-1])
        if condition <= (QUICK_CONDITION if blocks.width <= WIDE else WIDE_CONDITION):
            return _solve(
                blocks, folded, intercept, np.arange(blocks.width), {}, condition, "quick"
            )
    if blocks.width <= WIDE:
        return exact_least_squares(blocks, intercept, n)
    folded = _steady_fold(blocks, intercept)
    kept, dependence, R = _rank_in_order(folded)
    folded = folded._replace(R=R, n=folded.n if n is None else n)
    return _solve(
        blocks, folded, intercept, kept, dependence, condition_number(R[:-1, :-1]), "steady"
    )


def solution_from_products(
    blocks: Blocks, H: np.ndarray, gradient: np.ndarray, squares: float, at: np.ndarray, n: int
) -> Solution | None:
    """The solution of blocks with an intercept at known coefficients (k + 1,) and products.

    Parameters: H = [1, X]ᵀW[1, X] (k + 1, k + 1); ``gradient`` [1, X]ᵀWe and ``squares`` eᵀWe of
        the residuals there; ``n`` rows. Returns None where columns are not well apart, so that the
        rows must be gone through once more."""
    with np.errstate(all="ignore"):
        explained = H @ at
        cross = gradient + explained  # [1, X]ᵀWy
        total = squares + float((2 * gradient + explained) @ at)
    G = np.block([[H[1:, 1:], cross[1:, None]], [cross[None, 1:], np.array([[total]])]])
    s = np.append(H[0, 1:], cross[0])
    folded = _factored(G, s, n, float(H[0, 0]), np.zeros(len(s)), intercept=True)
    if folded is None or (condition := condition_number(folded.R[:-1, :-1])) > QUICK_CONDITION:
        return None
    return _solve(blocks, folded, True, np.arange(len(s) - 1), {}, condition, "quick", at)


# ------------------------------------------------------------------ the quick way


def _quick_fold(blocks: Blocks, intercept: bool, stand_for: int | None) -> _Folded | None:
    """Cross-products of [X − shift | y − shift]; None where they cannot be trusted."""
    k = blocks.width
    # of a single block the means themselves are at hand
    shift, y_shift = start(blocks, intercept, FAR_MEAN if len(blocks.pieces) > 1 else 0.0)
    moved = shift if shift.any() else None
    both = np.append(shift, y_shift)
    G, s = np.zeros((k + 1, k + 1)), np.zeros(k + 1)
    n, weight_sum = 0, 0.0
    with np.errstate(all="ignore"):
        for products in blocks.pieces.each(lambda block: _products(block, moved, y_shift)):
            products.add_to(G, s)
            first, n, weight_sum = n == 0, n + products.n, weight_sum + products.weight_sum
            if first and n > 50 * (k + 1) and _hopeless(G[:k, :k], s[:k], weight_sum, intercept):
                return None
    if n == 0:
        raise DataError("no rows to fit")
    return _factored(G, s, stand_for or n, weight_sum, both, intercept)


def _factored(
    G: np.ndarray, s: np.ndarray, n: int, weight_sum: float, shift: np.ndarray, intercept: bool
) -> _Folded | None:
    """The factor of products G (k + 1, k + 1) and sums s (k + 1,) of [X | y] − shift.

    None for too few digits left.
    """
    k = len(s) - 1
    with np.errstate(all="ignore"):
        full, own = G.diagonal(), slice(k)
        centred = G - s[:, None] * s / weight_sum if intercept else G
        left = centred.diagonal()
        # what centring took away must not have taken the digits with it
        sound = (left[own] > full[own] / 100) & (left[own] > 1e-280) & (left[own] < 1e280)
        if shift.any():
            sound &= np.abs(shift[own]) <= VERY_FAR_MEAN * np.sqrt(full[own] / weight_sum)
        yy = float(left[k])
        if not sound.all() or not (yy == 0 or 1e-280 < yy < 1e280) or n <= k + intercept:
            return None
        scale = power_of_two(np.sqrt(left))
        scale[k] = 1.0
        scaled = centred / scale / scale[:, None]
        factor, failed = lapack.dpotrf(scaled[:k, :k], lower=0, clean=1)
    if failed:
        return None
    R = np.zeros((k + 1, k + 1))
    R[:k, :k] = factor
    if k:
        R[:k, k] = forward(factor, scaled[:k, k])
    R[k, k] = np.sqrt(max(scaled[k, k] - R[:k, k] @ R[:k, k], 0.0))
    middle = shift + s / weight_sum if intercept else np.zeros(k + 1)
    size = np.sqrt(left[:k] + weight_sum * middle[:k] ** 2) / scale[:k]
    return _Folded(
        R,
        middle[:k],
        float(middle[k]),
        scale[:k],
        size,
        n,
        weight_sum,
        shift[:k] if shift[:k].any() else None,
    )


class _Products(NamedTuple):
    """A block's products: ZᵀWZ of its columns, ZᵀWt, sums, and counts."""

    gram: Gram
    edge: np.ndarray
    sums: np.ndarray
    square: float
    n: int
    weight_sum: float

    def add_to(self, G: np.ndarray, s: np.ndarray) -> None:
        k = len(self.edge)
        self.gram.add_to(G[:k, :k])
        G[:k, k] += self.edge
        G[k, k] += self.square
        s += self.sums


def _products(block: Block, shift: np.ndarray | None, y_shift: float) -> _Products:
    """Products of [X − shift | y − y shift]."""
    X, y, w = block
    with np.errstate(all="ignore"):
        Z, t, beside = shifted(X, shift), y - y_shift, np.ones((2, len(y)))
        n, weight_sum = len(y), float(len(y))
        if w is not None:
            n, weight_sum = int(np.count_nonzero(w)), float(w.sum())
            beside[0] = root = np.sqrt(w)
            Z, t = times_rows(Z, root), t * root
        beside[1] = t
        edge = weighted_sums(beside, Z)
        sums = np.append(edge[0], inner(beside[0], t))
        square = inner(t, t)
        if square < 1e-280 and t.any():
            square = float("nan")  # lost in underflow: the exact way scales first
        return _Products(sparse_gram(Z), edge[1], sums, square, n, weight_sum)


def _hopeless(G: np.ndarray, s: np.ndarray, weight_sum: float, intercept: bool) -> bool:
    """Whether the first block shows columns too dependent for cross-products alone."""
    if not len(G) or len(G) > WIDE:
        return False
    centred = G - np.outer(s, s) / weight_sum if intercept else G
    length = np.sqrt(np.diag(centred))
    if not np.all(length > 0) or not np.isfinite(length).all():
        return False
    values = np.linalg.eigvalsh(centred / np.outer(length, length))
    return bool(values[0] < values[-1] / (10 * QUICK_CONDITION) ** 2)


# ------------------------------------------------------------------ the steady way


def _steady_fold(blocks: Blocks, intercept: bool) -> _Folded:
    """Householder QR of [R so far; block], columns shifted and scaled first."""
    k = blocks.width
    shift, y_shift = start(blocks, intercept, FAR_MEAN)
    ranges = extremes(blocks, np.append(shift, y_shift))
    n, weight_sum, scale = ranges.n, ranges.weight_sum, power_of_two(ranges.largest)
    R = np.zeros((0, k + 1 + intercept))
    for X, y, w in blocks.pieces:
        A = np.empty((len(y), k + 1 + intercept), order="F")
        if intercept:
            A[:, 0] = 1.0
        A[:, intercept:-1] = (dense(X) - shift) / scale[:k]
        A[:, -1] = (y - y_shift) / scale[k]
        if w is not None:
            A *= np.sqrt(w)[:, None]
        R = triangle(np.vstack([R, A]))
    size_of = np.sqrt((R[: k + intercept, intercept:-1] ** 2).sum(axis=0))
    mean, y_mean = np.zeros(k), 0.0
    if intercept:
        middle = R[0, 1:] / R[0, 0]
        mean, y_mean = shift + middle[:k] * scale[:k], y_shift + float(middle[k]) * float(scale[k])
        size_of = np.hypot(size_of, np.sqrt(weight_sum) * np.abs(shift) / scale[:k])
        R = R[1:, 1:]
    R[:, -1] *= scale[k]
    return _Folded(
        R, mean, y_mean, scale[:k], size_of, n, weight_sum, shift if shift.any() else None
    )


def _rank_in_order(folded: _Folded) -> tuple[np.ndarray, dict[int, np.ndarray], np.ndarray]:
    """Columns kept, in order; for each dropped one its combination of earlier ones.

    The factor of the kept ones.

    A column goes when what earlier columns leave of it is no larger than rounding could have left:
    c·ε·‖ |xⱼ| + Σ|cₖxₖ| ‖, sizes as written, not centred.
    """
    R, k = folded.R.copy(), len(folded.scale)
    place = list(range(k))  # which column stands where in R
    dependence: dict[int, np.ndarray] = {}
    tolerance = (32 + k) * EPS
    j = 0
    while j < len(place):
        left = abs(R[j, j])
        earlier = backward(R[:j, :j], R[:j, j]) if j else np.empty(0)
        column = place[j]
        bound = folded.size[column] + float(np.abs(earlier) @ folded.size[place[:j]])
        if left > tolerance * bound:
            j += 1
            continue
        combination = np.zeros(k + 1)
        combination[np.array(place[:j], dtype=int) + 1] = (
            earlier * folded.scale[column] / folded.scale[place[:j]]
        )
        combination[0] = folded.centre[column] - combination[1:] @ folded.centre
        dependence[column] = combination
        R = np.delete(R, j, axis=1)
        del place[j]
        R = np.vstack(
            [R[:j], np.column_stack([np.zeros((len(place) + 1 - j, j)), triangle(R[j:, j:])])]
        )
    return np.array(place, dtype=int), dependence, R


# ------------------------------------------------------------------ solving


def _solve(
    blocks: Blocks,
    folded: _Folded,
    intercept: bool,
    kept: np.ndarray,
    dependence: dict[int, np.ndarray],
    condition: float,
    way: str,
    at: np.ndarray | None = None,
) -> Solution:
    """Coefficients from the factor, corrected once from the true residuals of a second pass.

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
    if not intercept and r:
        direction, tss = constant_in(blocks, kept, R, scale, folded.weight_sum, tss)
    constant = float(mean - centre @ b if at is None else at[0]) if intercept else None
    lengths = np.sqrt((R * R).sum(axis=0)) * scale
    size, level = np.sqrt(tss) + float(np.abs(b) @ lengths), abs(mean) * np.sqrt(folded.weight_sum)
    perfect = no_miss(rss, size, level) or folded.n <= r + intercept
    coefficients = np.full(blocks.width, np.nan)
    coefficients[kept] = b
    return Solution(
        intercept=constant,
        coefficients=coefficients,
        kept=kept,
        dependence=dependence,
        centre=centre,
        scale=scale,
        factor=R,
        effects=effects + half,
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
    blocks: Blocks, folded: _Folded, intercept: bool, kept: np.ndarray, way: str
) -> tuple[np.ndarray, float, np.ndarray, float, float]:
    """Coefficients and mean from the factor, mended; by how much their effects moved.

    Sums of squares.
    """
    r = len(kept)
    R, centre, scale = folded.R[:r, :r], folded.centre[kept], folded.scale[kept]
    shift = None if folded.shift is None else folded.shift[kept]
    b, mean = backward(R, folded.R[:r, r]) / scale, folded.mean
    seen = _residual_pass(blocks, kept, shift, centre, mean, b)
    half = forward(R, seen.gradient / scale)
    drift = seen.drift / folded.weight_sum if intercept else 0.0
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
    """One pass over the rows with the true residuals e = (y − mean) − (X − centre)b."""
    about_shift = centre if shift is None else centre - shift
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

    for own, rest, squares, total in blocks.pieces.each(added):
        gradient, drift, rss, tss = gradient + own, drift + rest, rss + squares, tss + total
    return _Seen(gradient - drift * about_shift, drift, rss, tss)
