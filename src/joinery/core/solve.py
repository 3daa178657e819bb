"""Least squares: blocks of rows are folded into one triangular factor, and everything comes from that.

The model is y = β₀ + Xβ + ε with Var(εᵢ) = σ²/wᵢ. Where there is an intercept it is handled by centring, so that a
predictor with mean 10⁹ and spread 1 costs no digits. The way of folding is chosen from the data:

* quick: cross-products and a Cholesky factor, corrected once from the true residuals (Björck 1987, corrected
  seminormal equations); for well-conditioned columns only.
* exact: cross-products without rounding and a double-double factor, for everything else (see ``core.exact``).
* steady: Householder QR of [R so far; block], block after block (Golub & Van Loan, *Matrix Computations*, 5.3); for
  hundreds of columns, where double-double arithmetic on the factor would take too long.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Protocol

import numpy as np
from scipy.linalg import lapack

from joinery.core import exact, precise
from joinery.errors import DataError

Block = tuple[np.ndarray, np.ndarray, np.ndarray | None]
EPS = float(np.finfo(float).eps)
QUICK_CONDITION = 50.0
# with hundreds of columns, levels nearly always, orthogonal steps cost minutes: there cross-products may go further,
# which leaves standard errors 10 digits
WIDE, WIDE_CONDITION = 200, 1000.0
# an intercept that lies this many standard deviations from the data wants more digits than a double has
VERY_FAR_MEAN = 100.0
EXACT_FAR_MEAN = 30.0
FAR_MEAN = 3.0  # means beyond so many standard deviations are taken off before products are formed
BLOCK_ROWS = 16384


class Blocks(Protocol):
    """Row blocks that can be gone through again: (X (m, k) without the constant, y (m,), weights (m,) or None)."""

    @property
    def width(self) -> int: ...

    def __iter__(self) -> Iterator[Block]: ...


@dataclass(frozen=True)
class ArrayBlocks:
    """Blocks of whole arrays: X (n, k), y (n,), weights (n,) or None."""

    X: np.ndarray
    y: np.ndarray
    weights: np.ndarray | None = None
    rows: int = BLOCK_ROWS

    @property
    def width(self) -> int:
        return int(self.X.shape[1])

    def __iter__(self) -> Iterator[Block]:
        for start in range(0, len(self.y), self.rows):
            part = slice(start, start + self.rows)
            yield (
                np.asarray(self.X[part], float),
                np.asarray(self.y[part], float),
                None if self.weights is None else np.asarray(self.weights[part], float),
            )


@dataclass(frozen=True)
class Solution:
    """A least-squares fit, as arrays. k columns without the constant, r of them estimable ("kept").

    ``coefficients`` (k,) and ``intercept``; NaN where a column depends on earlier ones. ``factor`` (r, r) is upper
    triangular with factorᵀ·factor = ZᵀWZ for Z = (X[:, kept] − centre) / scale. ``effects`` (r,) is Qᵀ√W(y − mean).
    ``rss`` and ``tss`` are in units of ``unit``², which is 1 but for responses too large or small to be squared.
    ``exact_inverse`` and ``exact_root`` (whose rows' products are the unscaled covariance) come with the exact way.
    ``dependence`` maps a dropped column to its coefficients on [constant, columns] (k + 1,).
    """

    intercept: float | None
    coefficients: np.ndarray
    kept: np.ndarray
    dependence: dict[int, np.ndarray]
    centre: np.ndarray
    scale: np.ndarray
    factor: np.ndarray
    effects: np.ndarray
    n: int
    weight_sum: float
    rss: float
    tss: float
    mean_response: float
    spans_constant: bool
    perfect: bool
    condition: float
    way: str
    exact_inverse: np.ndarray | None = None
    exact_root: np.ndarray | None = None
    unit: float = 1.0

    @property
    def has_intercept(self) -> bool:
        return self.intercept is not None

    @property
    def rank(self) -> int:
        return len(self.kept) + self.has_intercept

    @property
    def residual_df(self) -> int:
        return self.n - self.rank

    @cached_property
    def inverse(self) -> np.ndarray:
        """The inverse of ``factor`` (r, r), upper triangular; the exact way brings its own, right to the last digit."""
        if self.exact_inverse is not None:
            return self.exact_inverse
        if not len(self.kept):
            return np.empty((0, 0))
        out, _ = lapack.dtrtri(self.factor)
        return np.asarray(np.triu(out))

    @cached_property
    def root(self) -> np.ndarray:
        """What takes the basis of ``in_basis`` to [intercept if there is one, kept coefficients]: (rank, rank)."""
        if self.exact_root is not None:
            return self.exact_root
        slopes = self.inverse / self.scale[:, None]
        if not self.has_intercept:
            return np.asarray(slopes)
        first = np.append(1 / np.sqrt(self.weight_sum), -self.centre @ slopes)
        return np.vstack([first, np.column_stack([np.zeros(len(slopes)), slopes])])

    @cached_property
    def unscaled_covariance(self) -> np.ndarray:
        """(XᵀWX)⁻¹ over [intercept if there is one, kept columns]."""
        return np.asarray(self.root @ self.root.T)

    @cached_property
    def error_factors(self) -> np.ndarray:
        """√diag((XᵀWX)⁻¹) over [intercept if there is one, kept columns]: standard errors over s."""
        if self.exact_root is not None:
            return np.asarray(np.sqrt(np.einsum("ij,ij->i", self.exact_root, self.exact_root)))
        slopes = self.inverse / self.scale[:, None]
        lengths = np.sqrt(np.einsum("ij,ij->i", slopes, slopes))
        if not self.has_intercept:
            return np.asarray(lengths)
        return np.append(np.hypot(1 / np.sqrt(self.weight_sum), np.linalg.norm(self.centre @ slopes)), lengths)

    def whitened(self, X: np.ndarray) -> np.ndarray:
        """Rows of X (m, k) in the basis where the slopes' unscaled covariance is the identity: (m, r)."""
        if len(self.kept) <= WIDE:
            root = self.inverse / self.scale[:, None]
            return np.asarray(self._columns(X) @ root - self.centre @ root)
        # of hundreds of columns most are levels, zero in nearly every row
        from scipy.sparse import csr_array

        sparse = csr_array(X[:, self.kept] / self.scale)
        return np.asarray(sparse @ self.inverse - (self.centre / self.scale) @ self.inverse)

    def in_basis(self, X: np.ndarray) -> np.ndarray:
        """Rows of X (m, k), the constant among them, where the unscaled covariance is the identity: (m, rank)."""
        white = self.whitened(X)
        if not self.has_intercept:
            return white
        return np.column_stack([np.full(len(X), 1 / np.sqrt(self.weight_sum)), white])

    def unscaled_variance(self, X: np.ndarray) -> np.ndarray:
        """xᵀ(XᵀWX)⁻¹x for each row x of X (m, k), the constant included where there is one."""
        white = self.whitened(X)
        return np.asarray(np.einsum("ij,ij->i", white, white) + (1 / self.weight_sum if self.has_intercept else 0.0))

    def fitted(self, X: np.ndarray) -> np.ndarray:
        """β₀ + Xβ for each row of X (m, k), dropped columns counting nothing."""
        kept = self.coefficients[self.kept]
        if not self.has_intercept:
            return np.asarray(self._columns(X) @ kept)
        far = self.centre * (np.abs(self.centre) > FAR_MEAN * self.spread)
        if far.any():
            return np.asarray(self.mean_response - (self.centre - far) @ kept + (self._columns(X) - far) @ kept)
        return np.asarray(self.mean_response - self.centre @ kept + self._columns(X) @ kept)

    def _columns(self, X: np.ndarray) -> np.ndarray:
        """The kept columns, without a copy where all are."""
        return X if len(self.kept) == X.shape[1] else X[:, self.kept]

    @cached_property
    def spread(self) -> np.ndarray:
        """The root mean square of each kept column about its centre (r,)."""
        length = np.sqrt((self.factor**2).sum(axis=0)) * self.scale
        return np.asarray(length / np.sqrt(self.weight_sum))


@dataclass(frozen=True)
class _Folded:
    """What the rows determine before anything is solved: the factor of [Z | y − mean] in shifted, scaled columns."""

    R: np.ndarray  # (k + 1, k + 1) of [(X − centre)/scale | (y − mean)], centred where there is an intercept
    centre: np.ndarray
    mean: float
    scale: np.ndarray
    size: np.ndarray  # ‖√w·x‖ of each column as written, over its scale
    n: int
    weight_sum: float
    shift: np.ndarray | None  # what columns were moved by on the way; None for nothing


def least_squares(blocks: Blocks, *, intercept: bool = True, n: int | None = None) -> Solution:
    """Least squares over row blocks.

    Parameters: ``blocks`` of X (m, k) without the constant, y (m,) and weights; ``intercept`` adds the constant;
    ``n`` the rows they stand for, where that is not the number with weight.
    Returns a Solution. Raises DataError when a value is NaN or infinite, or when there is no row with weight.
    Source: Golub & Van Loan, *Matrix Computations*, 5.3; Björck 1987 for the correction.

    >>> import numpy as np
    >>> fit = least_squares(ArrayBlocks(np.array([[1.0], [2.0], [3.0]]), np.array([3.0, 5.0, 7.0])))
    >>> round(fit.intercept, 12), fit.coefficients.round(12).tolist()
    (1.0, [2.0])
    """
    folded = _quick_fold(blocks, intercept)
    if folded is not None:
        folded = folded if n is None else replace(folded, n=n)
        condition = _condition(folded.R[:-1, :-1])
        if condition <= (QUICK_CONDITION if blocks.width <= WIDE else WIDE_CONDITION):
            return _solve(blocks, folded, intercept, np.arange(blocks.width), {}, condition, "quick")
    if blocks.width <= WIDE:
        return _exact(blocks, intercept, n)
    folded = _steady_fold(blocks, intercept)
    kept, dependence, R = _rank_in_order(folded)
    folded = replace(folded, R=R, n=folded.n if n is None else n)
    return _solve(blocks, folded, intercept, kept, dependence, _condition(R[:-1, :-1]), "steady")


def backward(R: np.ndarray, v: np.ndarray) -> np.ndarray:
    """x with R·x = v for upper triangular R (r, r); empty for r = 0."""
    return np.asarray(lapack.dtrtrs(R, v)[0]) if len(R) else np.empty(0)


def forward(R: np.ndarray, v: np.ndarray) -> np.ndarray:
    """x with Rᵀ·x = v for upper triangular R (r, r); empty for r = 0."""
    return np.asarray(lapack.dtrtrs(R, v, trans=1)[0]) if len(R) else np.empty(0)


# ------------------------------------------------------------------ folding


def _start(blocks: Blocks, intercept: bool, far: float) -> tuple[np.ndarray, float]:
    """Where to shift columns and response to, so that centring costs no digits: near the first block's means.

    A column whose mean is no more than ``far`` spreads away stays where it is; without an intercept all do.
    """
    for X, y, _ in blocks:
        if len(y):
            if not intercept:
                break
            with np.errstate(all="ignore"):
                mean, level = X.mean(axis=0), float(y.mean())
                # |mean| ≤ far·sd, written with the mean square so that one pass less is made
                near = mean * mean * (1 + far**2) <= far**2 * np.einsum("ij,ij->j", X, X) / len(y)
                level_near = level * level * (1 + far**2) <= far**2 * float(y @ y) / len(y)
                return np.where(near, 0.0, mean), 0.0 if level_near else level
    return np.zeros(blocks.width), 0.0


def _shifted(X: np.ndarray, shift: np.ndarray | None) -> np.ndarray:
    return X if shift is None else X - shift


def _quick_fold(blocks: Blocks, intercept: bool) -> _Folded | None:
    """Cross-products of [X − shift | y − shift]; None where they cannot be trusted."""
    k = blocks.width
    shift, y_shift = _start(blocks, intercept, FAR_MEAN)
    moved = shift if shift.any() else None
    both = np.append(shift, y_shift)
    G, s = np.zeros((k + 1, k + 1)), np.zeros(k + 1)
    n, weight_sum = 0, 0.0
    with np.errstate(all="ignore"):
        for block in blocks:
            products = _products(block, moved, y_shift)
            products.add_to(G, s)
            first, n, weight_sum = n == 0, n + products.n, weight_sum + products.weight_sum
            if first and n > 50 * (k + 1) and _hopeless(G[:k, :k], s[:k], weight_sum, intercept):
                return None
        if n == 0:
            raise DataError("no rows to fit")
        far = np.abs(both[:k]) > VERY_FAR_MEAN * np.sqrt(np.diag(G)[:k] / weight_sum)
        full = np.diag(G).copy()
        centred = G - np.outer(s, s) / weight_sum if intercept else G
        left = np.diag(centred)
        # what centring took away must not have taken the digits with it
        lost = np.any(left[:k] <= full[:k] / 100) or np.any(far)
        if not np.all(np.isfinite(full)) or lost or n <= k + intercept:
            return None
        scale = _power_of_two(np.sqrt(left))
        if np.any(left[:k] < 1e-280) or np.any(left[:k] > 1e280) or not (left[k] == 0 or 1e-280 < left[k] < 1e280):
            return None
        scale[k] = 1.0
        scaled = centred / np.outer(scale, scale)
        factor, failed = lapack.dpotrf(scaled[:k, :k], lower=0, clean=1)
    if failed:
        return None
    R = np.zeros((k + 1, k + 1))
    R[:k, :k] = factor
    if k:
        R[:k, k] = forward(factor, scaled[:k, k])
    R[k, k] = np.sqrt(max(scaled[k, k] - R[:k, k] @ R[:k, k], 0.0))
    middle = both + s / weight_sum if intercept else np.zeros(k + 1)
    size = np.sqrt(left[:k] + weight_sum * middle[:k] ** 2) / scale[:k]
    return _Folded(R, middle[:k], float(middle[k]), scale[:k], size, n, weight_sum, moved)


@dataclass(frozen=True)
class _Products:
    """A block's products: ZᵀWZ of its columns that are not zero throughout, ZᵀWt, sums, and counts."""

    active: np.ndarray | None
    corner: np.ndarray
    edge: np.ndarray
    sums: np.ndarray
    square: float
    n: int
    weight_sum: float

    def add_to(self, G: np.ndarray, s: np.ndarray) -> None:
        k = len(self.edge)
        if self.active is None:
            G[:k, :k] += self.corner
        else:
            G[np.ix_(self.active, self.active)] += self.corner
        G[:k, k] += self.edge
        G[k, k] += self.square
        s += self.sums


def _products(block: Block, shift: np.ndarray | None, y_shift: float) -> _Products:
    """Products of [X − shift | y − y shift]; of a wide block only columns that are not zero, as levels are."""
    X, y, w = block
    with np.errstate(all="ignore"):
        Z, t, beside = _shifted(X, shift), y - y_shift, np.ones((2, len(y)))
        n, weight_sum = len(y), float(len(y))
        if w is not None:
            n, weight_sum = int(np.count_nonzero(w)), float(w.sum())
            beside[0] = root = np.sqrt(w)
            Z, t = Z * root[:, None], t * root
        beside[1] = t
        edge = beside @ Z
        active = None
        if Z.shape[1] > WIDE:
            active = np.flatnonzero(Z.any(axis=0))
            Z = np.ascontiguousarray(Z[:, active])
        sums = np.append(edge[0], float(beside[0] @ t))
        square = float(t @ t)
        if square < 1e-280 and t.any():
            square = float("nan")  # lost in underflow: the exact way scales first
        return _Products(active, Z.T @ Z, edge[1], sums, square, n, weight_sum)


def _hopeless(G: np.ndarray, s: np.ndarray, weight_sum: float, intercept: bool) -> bool:
    """Whether the first block already shows columns too far from independent for cross-products alone."""
    if len(G) > WIDE:
        return False
    centred = G - np.outer(s, s) / weight_sum if intercept else G
    length = np.sqrt(np.diag(centred))
    if not np.all(length > 0) or not np.isfinite(length).all():
        return False
    values = np.linalg.eigvalsh(centred / np.outer(length, length))
    return bool(values[0] < values[-1] / (10 * QUICK_CONDITION) ** 2)


def _steady_fold(blocks: Blocks, intercept: bool) -> _Folded:
    """Householder QR of [R so far; block], columns shifted and scaled first."""
    k = blocks.width
    shift, y_shift = _start(blocks, intercept, FAR_MEAN)
    found = _extremes(blocks, np.append(shift, y_shift))
    n, weight_sum, scale = found.n, found.weight_sum, _power_of_two(found.largest)
    R = np.zeros((0, k + 1 + intercept))
    for X, y, w in blocks:
        A = np.empty((len(y), k + 1 + intercept), order="F")
        if intercept:
            A[:, 0] = 1.0
        A[:, intercept:-1] = (X - shift) / scale[:k]
        A[:, -1] = (y - y_shift) / scale[k]
        if w is not None:
            A *= np.sqrt(w)[:, None]
        R = _triangle(np.vstack([R, A]))
    size_of = np.sqrt((R[: k + intercept, intercept:-1] ** 2).sum(axis=0))
    mean, y_mean = np.zeros(k), 0.0
    if intercept:
        middle = R[0, 1:] / R[0, 0]
        mean, y_mean = shift + middle[:k] * scale[:k], y_shift + float(middle[k]) * float(scale[k])
        size_of = np.hypot(size_of, np.sqrt(weight_sum) * np.abs(shift) / scale[:k])
        R = R[1:, 1:]
    R[:, -1] *= scale[k]
    return _Folded(R, mean, y_mean, scale[:k], size_of, n, weight_sum, shift if shift.any() else None)


@dataclass(frozen=True)
class _Extremes:
    """What one pass says of sizes: |column − shift| at most (k + 1,), the largest weight, and the counts."""

    largest: np.ndarray
    largest_weight: float
    n: int
    weight_sum: float


def _extremes(blocks: Blocks, shift: np.ndarray) -> _Extremes:
    """Sizes of the columns and the response (k + 1,). Raises DataError for what is not finite, or without rows."""
    low, high = np.full(len(shift), np.inf), np.full(len(shift), -np.inf)
    n, weight_sum, largest_weight = 0, 0.0, 0.0
    for X, y, w in blocks:
        if not len(y):
            continue
        columns = np.ascontiguousarray(X.T)  # the ends of a column come several times faster from contiguous values
        low = np.minimum(low, np.append(columns.min(axis=1), y.min()))
        high = np.maximum(high, np.append(columns.max(axis=1), y.max()))
        n += len(y) if w is None else int(np.count_nonzero(w))
        weight_sum += len(y) if w is None else float(w.sum())
        largest_weight = max(largest_weight, 1.0 if w is None else float(w.max()))
    if n == 0:
        raise DataError("no rows to fit")
    if not (np.isfinite(low).all() and np.isfinite(high).all() and np.isfinite(weight_sum)):
        raise DataError("a value is not finite")
    return _Extremes(np.maximum(high - shift, shift - low), largest_weight, n, weight_sum)


def _exact(blocks: Blocks, intercept: bool, n: int | None) -> Solution:
    """The exact way: see ``core.exact``."""
    k, c = blocks.width, int(intercept)
    shift = np.append(*_start(blocks, intercept, EXACT_FAR_MEAN))
    found = _extremes(blocks, shift)
    scale = _power_of_two(found.largest)
    weight_scale = 4.0 ** np.ceil(np.log2(found.largest_weight) / 2) if found.largest_weight > 0 else 1.0
    scaled = exact.Scaled(blocks, intercept, shift, scale, float(weight_scale))
    solved = exact.solve(scaled, found.weight_sum / weight_scale, found.n, (32 + k) * EPS)
    kept = solved.kept[c:] - c
    y_scale, root = scale[-1], np.sqrt(weight_scale)
    own = scale[:-1][kept]
    slopes = solved.coefficients[0][c:], solved.coefficients[1][c:]
    b = slopes[0] / own * y_scale  # powers of two: nothing is rounded
    inverse = solved.inverse[0][c:, c:], solved.inverse[1][c:, c:]
    centre, mean, constant = np.zeros(len(kept)), 0.0, None
    rows = inverse[0] / own[:, None]
    if intercept:
        middle = solved.factor[0][0, 1:] / solved.factor[0][0, 0] * 0.5
        centre = shift[:-1][kept] + middle * own
        mean = float(shift[-1] + solved.effects[0][0] / solved.factor[0][0, 0] * 0.5 * y_scale)
        away = _pairs(shift[:-1][kept] / own)
        moved = precise.total(precise.multiply(slopes, away))
        first = 0.5 * solved.coefficients[0][0], 0.5 * solved.coefficients[1][0]
        level = precise.add(precise.add(first, _pairs(shift[-1] / y_scale)), precise.negative(moved))
        constant = float(level[0] * y_scale)
        # the intercept's row of the covariance's root, found before its digits could cancel
        full = solved.inverse[0][1:], solved.inverse[1][1:]
        taken = precise.total(precise.multiply(full, (away[0][:, None], away[1][:, None])))
        own_row = precise.add((0.5 * solved.inverse[0][0], 0.5 * solved.inverse[1][0]), precise.negative(taken))
        rows = np.vstack([own_row[0], np.column_stack([np.zeros(len(kept)), rows])])
    # sums of squares of a response of 10²⁰⁰ exist in its own unit only
    extreme = not 1e-140 < y_scale < 1e140
    unit = float(y_scale) if extreme else 1.0
    to_unit = float(weight_scale) * (1.0 if extreme else float(y_scale) ** 2)
    rss, tss = solved.rss * to_unit, solved.tss * to_unit
    spans_constant = intercept
    factor = np.asfortranarray(solved.factor[0][c:, c:] * root)
    coefficients = np.full(k, np.nan)
    coefficients[kept] = b
    if not intercept and len(kept):
        spans_constant, tss = _constant_in(blocks, kept, factor, own, found.weight_sum, tss, unit)
    count = found.n if n is None else n
    explained = float(np.abs(slopes[0]) @ solved.size[c:][kept]) * (y_scale / unit) * root
    reach = np.sqrt(tss) + abs(mean / unit) * np.sqrt(found.weight_sum) + explained
    perfect = bool(rss <= (16 * EPS * reach) ** 2) or count <= len(kept) + c
    return Solution(
        intercept=constant,
        coefficients=coefficients,
        kept=kept,
        dependence=_dependences(solved, k, c, kept, shift, scale, scaled),
        centre=centre,
        scale=own,
        factor=factor,
        effects=solved.effects[0][c:] * root * y_scale,
        n=count,
        weight_sum=found.weight_sum,
        rss=0.0 if perfect else max(rss, 0.0),
        tss=tss,
        mean_response=mean,
        spans_constant=spans_constant,
        perfect=perfect,
        condition=_condition(factor),
        way="exact",
        exact_inverse=inverse[0] / root,
        exact_root=rows / root,
        unit=unit,
    )


def _pairs(values: np.ndarray) -> precise.Pair:
    return np.asarray(values), np.zeros_like(values)


def _dependences(
    solved: exact.Exact,
    k: int,
    c: int,
    kept: np.ndarray,
    shift: np.ndarray,
    scale: np.ndarray,
    scaled: exact.Scaled,
) -> dict[int, np.ndarray]:
    """For each dropped column its coefficients on [constant, earlier columns kept], as written."""
    out: dict[int, np.ndarray] = {}
    for j in sorted(set(range(k)) - set(kept.tolist())):
        earlier = kept[kept < j]
        r = len(earlier) + c
        inverse = solved.inverse[0][:r, :r], solved.inverse[1][:r, :r]
        cross = solved.cross[0][:r, j + c], solved.cross[1][:r, j + c]
        weights = precise.dot(inverse, precise.dot((inverse[0].T, inverse[1].T), cross))[0]
        combination = np.zeros(k + 1)
        combination[earlier + 1] = weights[c:] * scale[j] / scale[earlier]
        if c:
            combination[0] = shift[j] + 0.5 * weights[0] * scale[j] - combination[earlier + 1] @ shift[earlier]
        out[j] = combination
    return out


def _constant_in(
    blocks: Blocks,
    kept: np.ndarray,
    factor: np.ndarray,
    scale: np.ndarray,
    weight_sum: float,
    tss: float,
    unit: float = 1.0,
) -> tuple[bool, float]:
    """Whether columns without an intercept still hold the constant; then the sum of squares about the mean."""
    sums, level = np.zeros(len(kept)), 0.0
    for X, y, w in blocks:
        sums += X[:, kept].sum(axis=0) if w is None else w @ X[:, kept]
        level += float((y / unit).sum() if w is None else w @ (y / unit))
    reach = forward(factor, sums / scale)
    if abs(float(reach @ reach) / weight_sum - 1) >= 1e-10:
        return False, tss
    level /= weight_sum
    total = 0.0
    for _, y, w in blocks:
        away = y / unit - level
        total += float(away @ (away if w is None else w * away))
    return True, total


def _triangle(A: np.ndarray) -> np.ndarray:
    """The square upper triangular factor of A, with zero rows where A has too few; diagonals not negative."""
    m, k = A.shape
    if m < k:
        A = np.vstack([A, np.zeros((k - m, k))])
    qr, _, _, _ = lapack.dgeqrf(A)
    R = np.triu(qr[:k])
    return np.asarray(R * np.where(np.diag(R) < 0, -1.0, 1.0)[:, None])


def _power_of_two(values: np.ndarray) -> np.ndarray:
    """The power of two just above each value (1 for zero), so that scaling rounds nothing."""
    _, exponent = np.frexp(np.where(values > 0, values, 1.0))
    return np.asarray(np.ldexp(1.0, np.clip(exponent, -1000, 1000)))


def _condition(R: np.ndarray) -> float:
    """The condition number of R with its columns scaled to unit length; by power iteration when there are many."""
    if not len(R):
        return 1.0
    lengths = np.sqrt((R * R).sum(axis=0))
    if not np.all(lengths > 0) or not np.all(np.diag(R) != 0):
        return float("inf")
    unit = np.asfortranarray(R / lengths)
    if len(R) > WIDE:
        v = np.random.default_rng(1).standard_normal(len(R))
        largest = _power_iteration(v, lambda u: unit.T @ (unit @ u))
        smallest = _power_iteration(v, lambda u: backward(unit, forward(unit, u)))
        return float(np.sqrt(largest * smallest))
    _, values, _, _ = lapack.dgesdd(unit, compute_uv=0)
    return float(values[0] / values[-1]) if values[-1] > 0 else float("inf")


def _power_iteration(v: np.ndarray, apply: Callable[[np.ndarray], np.ndarray], rounds: int = 30) -> float:
    """The largest eigenvalue of a symmetric map, to the digit or two that a condition number needs."""
    size = 0.0
    for _ in range(rounds):
        v = apply(v / np.linalg.norm(v))
        size = float(np.linalg.norm(v))
    return size


# ------------------------------------------------------------------ rank, in the order written


def _rank_in_order(folded: _Folded) -> tuple[np.ndarray, dict[int, np.ndarray], np.ndarray]:
    """Columns kept, in order; for each dropped one its combination of earlier ones; the factor of the kept ones.

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
        combination[np.array(place[:j], dtype=int) + 1] = earlier * folded.scale[column] / folded.scale[place[:j]]
        combination[0] = folded.centre[column] - combination[1:] @ folded.centre
        dependence[column] = combination
        R = np.delete(R, j, axis=1)
        del place[j]
        R = np.vstack([R[:j], np.column_stack([np.zeros((len(place) + 1 - j, j)), _triangle(R[j:, j:])])])
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
) -> Solution:
    """Coefficients from the factor, corrected once from the true residuals of a second pass."""
    r = len(kept)
    R, effects = folded.R[:r, :r], folded.R[:r, r]
    centre, scale = folded.centre[kept], folded.scale[kept]
    shift = None if folded.shift is None else folded.shift[kept]
    b, mean = backward(R, effects) / scale, folded.mean
    seen = _residual_pass(blocks, kept, shift, centre, mean, b)
    half = forward(R, seen.gradient / scale)
    drift = seen.drift / folded.weight_sum if intercept else 0.0
    b, mean = b + backward(R, half) / scale, mean + drift
    if way == "quick":
        # the correction is small: what it changes in the sums of squares is known without another pass
        gain = drift**2 * folded.weight_sum
        rss, tss = seen.rss - float(half @ half) - gain, seen.tss - gain
    else:
        seen = _residual_pass(blocks, kept, shift, centre, mean, b)
        rss, tss = seen.rss, seen.tss
    spans_constant = intercept
    if not intercept and r:
        spans_constant, tss = _constant_in(blocks, kept, R, scale, folded.weight_sum, tss)
    constant = float(mean - centre @ b) if intercept else None
    # the size that rounding in a residual is judged by: |y| + |constant| + Σ|bx|
    size = np.sqrt(seen.tss) + abs(mean) * np.sqrt(folded.weight_sum) + float((np.abs(b) * scale) @ folded.size[kept])
    perfect = bool(rss <= (16 * EPS * size) ** 2) or folded.n <= r + intercept
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
        spans_constant=spans_constant,
        perfect=perfect,
        condition=condition,
        way=way,
    )


@dataclass(frozen=True)
class _Seen:
    """Sums over the rows at given coefficients: XᵀWe, Σwe, Σwe² and Σw(y − mean)²."""

    gradient: np.ndarray
    drift: float
    rss: float
    tss: float


def _residual_pass(
    blocks: Blocks, kept: np.ndarray, shift: np.ndarray | None, centre: np.ndarray, mean: float, b: np.ndarray
) -> _Seen:
    """One pass over the rows with the true residuals e = (y − mean) − (X − centre)b."""
    everything = len(kept) == blocks.width
    about_shift = centre if shift is None else centre - shift
    offset = float(about_shift @ b)
    gradient = np.zeros(len(kept))
    drift = rss = tss = 0.0
    for X, y, w in blocks:
        Z = _shifted(X if everything else X[:, kept], shift)
        about = y - mean
        e = about - Z @ b + offset
        we, wa = (e, about) if w is None else (w * e, w * about)
        gradient += we @ Z
        drift += float(we.sum())
        rss += float(we @ e)
        tss += float(wa @ about)
    return _Seen(gradient - drift * about_shift, drift, rss, tss)
