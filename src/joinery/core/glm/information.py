"""The information [1, X]ᵀW[1, X] of a step: a matrix, or sums of groups where levels are many."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol, Self

import numpy as np
from scipy import linalg

from joinery.core.blocks.blocks import Blocks
from joinery.core.blocks.columns import Columns, IndicatorColumns, group_sums
from joinery.core.blocks.products import gram, weighted_sums
from joinery.core.least_squares.folded import Residuals
from joinery.core.least_squares.levels import Layout
from joinery.core.least_squares.solution import Solution
from joinery.core.least_squares.solve import solution_from_groups, solution_from_products
from joinery.core.numeric.triangular import WIDE

ROUGH_CELLS = 100_000  # cells of a block from which on a rough product pays


class Information(Protocol):
    """[1, X]ᵀW[1, X] of k columns X and weights W."""

    def __iadd__(self, other: Self) -> Self:
        """Take in another block's, in place."""
        ...

    def solve(self, g: np.ndarray, places: np.ndarray, apart: float) -> np.ndarray | None:
        """Return δ (k + 1,) with zeros beside ``places``, there with the information times δ being
        g.

        None where a diagonal of the scaled factor is not above ``apart``."""
        ...

    def quadratic(self, step: np.ndarray) -> float:
        """Return δᵀ·information·δ of a step (k + 1,)."""
        ...

    def rounding(self, step: np.ndarray) -> float:
        """Return |δ|ᵀ·|information|·|δ|: what rounding is a share of."""
        ...

    def settled(self) -> Information:
        """Return the sum of all blocks, as a matrix where levels are few."""
        ...

    def solution(self, blocks: Blocks, seen: Residuals, n: int) -> Solution | None:
        """Return the solution of blocks with an intercept and these products.

        None where the rows must be gone through once more."""
        ...


@dataclass(frozen=True)
class Matrix:
    """The information written out (k + 1, k + 1)."""

    H: np.ndarray

    def __iadd__(self, other: Matrix) -> Matrix:
        np.add(self.H, other.H, out=self.H)
        return self

    def solve(self, g: np.ndarray, places: np.ndarray, apart: float) -> np.ndarray | None:
        x = np.zeros(len(self.H))
        every = len(places) == len(x)
        H, result = (self.H, g) if every else (self.H[np.ix_(places, places)], g[places])
        if len(places):
            solved = solved_by_cholesky(H, result, apart)
        else:
            solved = None
        if solved is None:
            return None
        x[places] = solved
        return x

    def quadratic(self, step: np.ndarray) -> float:
        with np.errstate(all="ignore"):  # the weights of huge means overflow
            return float(step @ self.H @ step)

    def rounding(self, step: np.ndarray) -> float:
        size = np.abs(step)
        return float(size @ np.abs(self.H) @ size)

    def settled(self) -> Matrix:
        return self

    def solution(self, blocks: Blocks, seen: Residuals, n: int) -> Solution | None:
        return solution_from_products(blocks, self.H, seen, n)


@dataclass(frozen=True)
class OfLevels:
    """The information of a constant, d numbers and q levels that do not overlap."""

    numbers: np.ndarray  # (d,) where the numbers stand among the k columns
    levels: np.ndarray  # (q,) where the levels stand
    corner: np.ndarray  # (1 + d, 1 + d) of the constant and the numbers
    groups: np.ndarray  # (1 + d, q + 1) of these with the levels, and in rows with none

    def __iadd__(self, other: OfLevels) -> OfLevels:
        np.add(self.corner, other.corner, out=self.corner)
        np.add(self.groups, other.groups, out=self.groups)
        return self

    def solve(self, g: np.ndarray, places: np.ndarray, apart: float) -> np.ndarray | None:
        """By eliminating the groups."""
        weights, cross = self.groups[0], self.groups[1:]
        if len(places) != 1 + len(self.numbers) + len(self.levels) or not (weights > 0).all():
            return None
        of_numbers, of_levels = g[1 + self.numbers], g[1 + self.levels]
        of_groups = np.append(of_levels, g[0] - of_levels.sum())
        means = cross / weights
        left = self.corner[1:, 1:] - means @ cross.T
        if not (left.diagonal() > apart**2 * self.corner.diagonal()[1:]).all():
            return None
        slopes = np.empty(0)
        if len(left):
            solved = solved_by_cholesky(left, of_numbers - means @ of_groups, apart)
            if solved is None:
                return None
            slopes = solved
        constants = (of_groups - slopes @ cross) / weights
        return self._joined(constants[-1], slopes, constants[:-1] - constants[-1])

    def _joined(self, constant: float, numbers: np.ndarray, levels: np.ndarray) -> np.ndarray:
        out = np.empty(1 + len(self.numbers) + len(self.levels))
        out[0], out[1 + self.numbers], out[1 + self.levels] = constant, numbers, levels
        return out

    def quadratic(self, step: np.ndarray) -> float:
        return self._form(step, self.corner, self.groups[:, :-1])

    def rounding(self, step: np.ndarray) -> float:
        return self._form(np.abs(step), np.abs(self.corner), np.abs(self.groups[:, :-1]))

    def _form(self, step: np.ndarray, corner: np.ndarray, beside: np.ndarray) -> float:
        indices, levels = np.append(step[0], step[1 + self.numbers]), step[1 + self.levels]
        across = indices @ beside
        return float(indices @ corner @ indices + (2 * across + levels * beside[0]) @ levels)

    def settled(self) -> Information:
        if len(self.levels) > WIDE:
            return self
        indices, levels = np.append(0, 1 + self.numbers), 1 + self.levels
        H = np.zeros((len(indices) + len(levels),) * 2)
        H[np.ix_(indices, indices)] = self.corner
        beside = self.groups[:, :-1]
        H[np.ix_(indices, levels)] = beside
        H[np.ix_(levels, indices)] = beside.T
        H[levels, levels] = beside[0]
        return Matrix(H)

    def solution(self, blocks: Blocks, seen: Residuals, n: int) -> Solution | None:
        if not (self.groups[0] > 0).all():
            return None
        return solution_from_groups(
            blocks, Layout(self.numbers, self.levels), self.corner, self.groups, seen, n
        )


def together(total: Information | None, part: Information | None) -> Information | None:
    """Return the sum of what is there, in place of the first."""
    if total is None or part is None:
        return total or part
    total += part
    return total


def information(
    X: Columns, W: np.ndarray, e: np.ndarray, *, rough: bool = False
) -> tuple[Information, np.ndarray]:
    """Return [1, X]ᵀW[1, X] of a block, and [1, X]ᵀe (k + 1,).

    The first ``rough``, in single precision, where there is much of it.

    A step needs no more: what it leaves undone the next one, from exact gradients, makes good.
    """
    if not isinstance(X, IndicatorColumns):
        if _is_much(X, rough):
            H = gram(_single(X, np.sqrt(np.abs(W)))).astype(float)
            return Matrix(H), np.append(e.sum(), weighted_sums(e, X))
        H, gradient = _of_numbers(X, W, e)
        return Matrix(H), gradient
    count = len(X.level_places) + 1
    weights = np.bincount(X.codes, W, count)
    if _is_much(X.numbers, rough):
        root = np.sqrt(np.abs(W))
        Z = np.ascontiguousarray(_single(X.numbers, root))  # levels are summed along the rows
        corner, current = gram(Z).astype(float), weighted_sums(e, X.numbers)
        groups = group_sums(X.codes, Z, root.astype(Z.dtype), count).astype(float)
        groups[0] = weights
    else:
        corner, gradient = _of_numbers(X.numbers, W, e)
        current = gradient[1:]
        groups = np.vstack([weights, group_sums(X.codes, X.numbers, W, count)])
    result = OfLevels(X.number_places, X.level_places, corner, groups)
    return result, result._joined(e.sum(), current, X.sums(e))


def _is_much(X: np.ndarray, rough: bool) -> bool:
    return rough and X.size > ROUGH_CELLS


def _single(X: np.ndarray, root: np.ndarray) -> np.ndarray:
    """Return √W[1, X] in single precision, column by column: (m, k + 1)."""
    single = np.empty((X.shape[1] + 1, len(X)), np.float32)
    single[0] = root
    np.multiply(X.T, root, out=single[1:], casting="same_kind")
    return single.T


def _of_numbers(X: np.ndarray, W: np.ndarray, e: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    k = X.shape[1]
    root = np.sqrt(np.abs(W))
    H = np.empty((k + 1, k + 1))
    Xw = X * root[:, None]
    H[1:, 1:] = gram(Xw) if np.all(W >= 0) else weighted_sums(Xw.T, Xw * np.sign(W)[:, None])
    H[0, 1:], slopes = weighted_sums(np.vstack([W, e]), X)  # both in one go through X
    H[1:, 0] = H[0, 1:]
    H[0, 0] = W.sum()
    return H, np.append(e.sum(), slopes)


def solved_by_cholesky(H: np.ndarray, g: np.ndarray, apart: float) -> np.ndarray | None:
    """Return x with Hx = g by Cholesky.

    None where a diagonal of the scaled factor is not above ``apart``.
    """
    if not np.all(np.diag(H) > 0) or not np.isfinite(H).all():
        return None
    scale = np.sqrt(np.diag(H))
    factor, failed = linalg.lapack.dpotrf(H / np.outer(scale, scale), lower=0)
    if failed or not np.min(np.diag(factor)) > apart:
        return None
    return np.asarray(linalg.cho_solve((factor, False), g / scale, check_finite=False) / scale)
