"""The exact way: cross-products without rounding, a double-double factor, refinement.

Each column, shifted near its mean and scaled by a power of two, is cut into slices of 22 bits and
what they leave. Products of slices are exact in BLAS (Ogita, Rump & Oishi 2005), and products with
what is left so small that their rounding lies 95 bits down; their sums are double-double (Dekker
1971). The factor is then right to κ²·2^(−95); coefficients are refined with double-double residuals
beyond that (Björck 1967; Demmel, Hida, Riedy & Li 2009)."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from joinery.core.blocks.blocks import Blocks, BlockWithResidue, with_residue
from joinery.core.blocks.columns import dense
from joinery.core.blocks.products import weighted_sums
from joinery.core.numeric import double_double as precise
from joinery.core.numeric.double_double import Pair
from joinery.support.limits import EXACT_ROWS

# a slice holds whole numbers up to 2²¹, their products 2⁴², and 2¹¹ rows of these sum to 2⁵³
SLICE_BITS = 22


@dataclass(frozen=True)
class Exact:
    """A least-squares solution in double-double.

    Columns: [constant if there is one, the k columns]; r of them kept.

    ``factor`` (r, r) and its ``inverse`` are those of the shifted, scaled columns kept (the
    constant among them); ``effects`` (r,) is Qᵀy; ``coefficients`` (r,) belong to the shifted,
    scaled columns; ``rss``, ``tss`` are scaled likewise; ``size`` (p − 1,) are lengths of the
    columns as written; ``cross`` (r, p) products of those kept with all."""

    kept: np.ndarray
    factor: Pair
    inverse: Pair
    effects: Pair
    coefficients: Pair
    rss: float
    tss: float
    size: np.ndarray
    cross: Pair


@dataclass(frozen=True)
class Scaled:
    """Row blocks [½, (X − shift)/scale, (y − y shift)/y scale] · √(w/w scale), at most ½ in size.

    ``shift`` and ``scale`` (k + 1,) are those of X's columns and the response; ½ stands where there
    is a constant."""

    blocks: Blocks
    constant: bool
    shift: np.ndarray
    scale: np.ndarray
    weight_scale: float  # a power of four

    @property
    def width(self) -> int:
        return len(self.shift) + self.constant

    def few(self, block: BlockWithResidue) -> Iterator[tuple[np.ndarray, np.ndarray | None]]:
        """Yield rows as high and low parts (width, m): a column of X is a row here."""
        c = int(self.constant)
        shift, scale = self.shift[:, None], self.scale[:, None]
        moved = bool(shift.any())
        (columns, y, w), rest = block
        X = dense(columns)
        for start in range(0, len(y), EXACT_ROWS):
            part = slice(start, start + EXACT_ROWS)
            # columns lie as rows here: BLAS then takes every slice as one contiguous block
            high = np.empty((self.width, len(y[part])))
            high[:c] = 0.5
            high[c:-1], high[-1] = X[part].T, y[part]
            if rest is None:
                low = None
            else:
                low = np.zeros_like(high)
            if low is not None and rest is not None:
                low[c:-1] = rest[part].T / scale[:-1]
            if moved:
                # what the subtraction rounds off goes to the low part, so that nothing is lost
                high[c:], error = precise.two_sum(high[c:], -shift)
                if error.any():
                    if low is None:
                        low = np.zeros_like(high)
                    low[c:] += error / scale
            high[c:] /= scale
            if w is not None:
                root = np.sqrt(w[part] / self.weight_scale)
                high, error = precise.two_product(high, root)
                if low is None:
                    low = error
                else:
                    low = error + low * root
            yield high, low


def cross_products(scaled: Scaled, count: int) -> Pair:
    """Return ZᵀZ of the scaled columns as a pair (p, p), from ``count`` slices and what they
    leave."""
    p = scaled.width
    sums = _no_products(p, count)
    # blocks in their order, so that the bits do not depend on who made which
    for products in with_residue(scaled.blocks).each(
        lambda block: _products_of(scaled, block, count)
    ):
        sums = [precise.add(sum_, term) for sum_, term in zip(sums, products, strict=True)]
    total = np.zeros((p, p)), np.zeros((p, p))
    # slice i times slice j stands for both ij and ji, but for i = j
    for i in range(count, -1, -1):  # the smallest first
        for j in range(count, i - 1, -1):
            term = slice((j - i) * p, (j - i + 1) * p)
            part = sums[i][0][:, term], sums[i][1][:, term]
            total = precise.add(total, part if i == j else precise.add(part, _transposed(part)))
    return total


def _no_products(p: int, count: int) -> list[Pair]:
    shapes = [(p, (count + 1 - i) * p) for i in range(count + 1)]
    return [(np.zeros(shape), np.zeros(shape)) for shape in shapes]


def _products_of(scaled: Scaled, block: BlockWithResidue, count: int) -> list[Pair]:
    """Return a block's products of each part i with the parts from i on: pairs (p, (count + 1 −
    i)·p)."""
    p = scaled.width
    sums = _no_products(p, count)
    for values, rest in scaled.few(block):
        cut = precise.slices(values, rest, SLICE_BITS, count)
        flat = cut.reshape((count + 1) * p, -1)
        for i, (high, low) in enumerate(sums):
            # each product is exact; its sum with those before rounds, and the error is kept beside
            high[:], error = precise.two_sum(high, weighted_sums(cut[i], flat[i * p :].T))
            low += error
    return [precise.quick_two_sum(*pair) for pair in sums]


def solve(scaled: Scaled, weight_sum: float, n: int, tolerance: float) -> Exact:
    """Solve from exact cross-products, with the slices that the conditioning asks for, then refine.

    Parameters: ``scaled`` blocks, whose weights sum to ``weight_sum``; ``n`` rows; ``tolerance``
    for dependence."""
    # two slices are 44 bits and the residue another 53; three only where the factor needs them
    for count in (2, 3):
        G = cross_products(scaled, count)
        size = np.sqrt(np.diag(G[0])[:-1])
        # a column is judged by its length as written: a mean of 10⁹ is no dependence
        size[scaled.constant :] = np.hypot(
            size[scaled.constant :], np.sqrt(weight_sum) * np.abs(scaled.shift / scaled.scale)[:-1]
        )
        R, kept = precise.cholesky((G[0][:-1, :-1], G[1][:-1, :-1]), size, tolerance)
        places = np.flatnonzero(kept)
        factor = R[0][np.ix_(places, places)], R[1][np.ix_(places, places)]
        left = np.diag(factor[0]) / np.sqrt(np.diag(G[0])[places])
        worst = float(np.min(left, initial=1.0))
        # what is rounded beyond two slices averages down over the rows; the factor magnifies it by
        # 1/worst²
        if (
            len(places) == scaled.width - 1
            and 2.0 ** (-SLICE_BITS * 2 - 51) / worst**2 / np.sqrt(n) < 1e-15
        ):
            break
    # all that follows is of k columns, not of rows: pairs of doubles cost nothing here
    inverse = precise.triangular_inverse(factor)
    effects = precise.dot(_transposed(inverse), (G[0][places, -1], G[1][places, -1]))
    coefficients = precise.dot(inverse, effects)
    yy = G[0][-1, -1], G[1][-1, -1]
    # ‖y‖² − ‖Qᵀy‖² cancels; 32 digits leave enough of it
    rss = precise.add(yy, precise.negative(precise.total(precise.multiply(effects, effects))))
    tss = yy
    if scaled.constant:
        first = effects[0][0], effects[1][0]
        tss = precise.add(yy, precise.negative(precise.multiply(first, first)))
    exact = Exact(
        kept=places,
        factor=factor,
        inverse=inverse,
        effects=effects,
        coefficients=coefficients,
        rss=float(rss[0]),
        tss=float(tss[0]),
        size=size,
        cross=(G[0][places], G[1][places]),
    )
    # beyond this the factor itself has too few digits for the coefficients
    if worst < 1e-7:
        return _refined(scaled, exact)
    return exact


def _transposed(A: Pair) -> Pair:
    return A[0].T, A[1].T


def _refined(scaled: Scaled, exact: Exact, rounds: int = 4) -> Exact:
    """Correct the coefficients from double-double residuals until the step is lost in rounding."""
    b, rss = exact.coefficients, exact.rss

    def added(block: BlockWithResidue) -> tuple[Pair, float]:
        gradient, squares = (np.zeros(len(b[0])), np.zeros(len(b[0]))), 0.0
        for high, low in scaled.few(block):
            if low is None:
                rest = np.zeros_like(high)
            else:
                rest = low
            Z = high[exact.kept].T, rest[exact.kept].T
            # the residuals of a nearly exact fit have digits only if the products keep theirs
            e = precise.add((high[-1], rest[-1]), precise.negative(precise.dot(Z, b)))
            products = precise.multiply(Z, (e[0][:, None], e[1][:, None]))
            gradient = precise.add(gradient, precise.total(products))
            squares += float(e[0] @ e[0])
        return gradient, squares

    for _ in range(rounds):
        gradient, rss = (np.zeros(len(b[0])), np.zeros(len(b[0]))), 0.0
        for part_gradient, squares in with_residue(scaled.blocks).each(added):
            gradient, rss = precise.add(gradient, part_gradient), rss + squares
        # (RᵀR)⁻¹ times the gradient, all in pairs
        step = precise.dot(exact.inverse, precise.dot(_transposed(exact.inverse), gradient))
        b = precise.add(b, step)
        # 20 digits: four more than a double shows
        if np.all(np.abs(step[0]) <= 1e-20 * np.abs(b[0])):
            break
    return replace(exact, coefficients=b, rss=rss)
