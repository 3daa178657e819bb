"""The information [1, X]ᵀW[1, X] of a step: a matrix, or sums of groups where levels are many."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Protocol, Self

import numpy as np
from scipy import linalg

from joinery.core.blocks.columns import Columns, IndicatorColumns
from joinery.core.blocks.products import gram, weighted_sums
from joinery.core.numeric.triangular import WIDE

ROUGH_CELLS = 100_000  # cells of a block from which on a rough product pays


class Information(Protocol):
    """[1, X]ᵀW[1, X] of k columns X and weights W."""

    def __add__(self, other: Self) -> Self: ...

    def solve(self, g: np.ndarray, places: np.ndarray, apart: float) -> np.ndarray | None:
        """δ (k + 1,) with zeros beside ``places``, there with the information times δ being g.

        None where a diagonal of the scaled factor is not above ``apart``."""
        ...

    def quadratic(self, step: np.ndarray) -> float:
        """δᵀ·information·δ of a step (k + 1,)."""
        ...

    def rounding(self, step: np.ndarray) -> float:
        """|δ|ᵀ·|information|·|δ|: what rounding is a share of."""
        ...

    def settled(self) -> Information:
        """The sum of all blocks, as a matrix where levels are few."""
        ...

    def dense(self) -> np.ndarray | None:
        """The matrix (k + 1, k + 1), or None where it is not made."""
        ...


@dataclass(frozen=True)
class Matrix:
    """The information written out (k + 1, k + 1)."""

    H: np.ndarray

    def __add__(self, other: Matrix) -> Matrix:
        return Matrix(self.H + other.H)

    def solve(self, g: np.ndarray, places: np.ndarray, apart: float) -> np.ndarray | None:
        x = np.zeros(len(self.H))
        every = len(places) == len(x)
        H, own = (self.H, g) if every else (self.H[np.ix_(places, places)], g[places])
        solved = solved_by_cholesky(H, own, apart) if len(places) else None
        if solved is None:
            return None
        x[places] = solved
        return x

    def quadratic(self, step: np.ndarray) -> float:
        return float(step @ self.H @ step)

    def rounding(self, step: np.ndarray) -> float:
        size = np.abs(step)
        return float(size @ np.abs(self.H) @ size)

    def settled(self) -> Matrix:
        return self

    def dense(self) -> np.ndarray:
        return self.H


@dataclass(frozen=True)
class OfLevels:
    """The information of a constant, d numbers and q levels that do not overlap."""

    numbers: np.ndarray  # (d,) where the numbers stand among the k columns
    levels: np.ndarray  # (q,) where the levels stand
    corner: np.ndarray  # (1 + d, 1 + d) of the constant and the numbers
    beside: np.ndarray  # (1 + d, q) of these with the levels

    def __add__(self, other: OfLevels) -> OfLevels:
        corner, beside = self.corner + other.corner, self.beside + other.beside
        return OfLevels(self.numbers, self.levels, corner, beside)

    @cached_property
    def groups(self) -> np.ndarray:
        """The same of the constant and numbers with the levels and with none (1 + d, q + 1)."""
        return np.column_stack([self.beside, self.corner[0] - self.beside.sum(axis=1)])

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
        return self._form(step, self.corner, self.beside)

    def rounding(self, step: np.ndarray) -> float:
        return self._form(np.abs(step), np.abs(self.corner), np.abs(self.beside))

    def _form(self, step: np.ndarray, corner: np.ndarray, beside: np.ndarray) -> float:
        own, levels = np.append(step[0], step[1 + self.numbers]), step[1 + self.levels]
        across = own @ beside
        return float(own @ corner @ own + (2 * across + levels * beside[0]) @ levels)

    def settled(self) -> Information:
        if len(self.levels) > WIDE:
            return self
        own, levels = np.append(0, 1 + self.numbers), 1 + self.levels
        H = np.zeros((len(own) + len(levels),) * 2)
        H[np.ix_(own, own)] = self.corner
        H[np.ix_(own, levels)] = self.beside
        H[np.ix_(levels, own)] = self.beside.T
        H[levels, levels] = self.beside[0]
        return Matrix(H)

    def dense(self) -> None:
        return None


def information(
    X: Columns, W: np.ndarray, e: np.ndarray, *, rough: bool = False
) -> tuple[Information, np.ndarray]:
    """[1, X]ᵀW[1, X] of a block, and [1, X]ᵀe (k + 1,).

    The first ``rough``, in single precision, where there is much of it.

    A step needs no more: what it leaves undone the next one, from exact gradients, makes good.
    """
    if not isinstance(X, IndicatorColumns):
        H, gradient = _of_numbers(X, W, e, rough)
        return Matrix(H), gradient
    corner, own = _of_numbers(X.numbers, W, e, rough)
    beside = np.array([X.sums(W), *(X.sums(W * x) for x in X.numbers.T)])
    found = OfLevels(X.number_places, X.level_places, corner, beside)
    return found, found._joined(own[0], own[1:], X.sums(e))


def _of_numbers(
    X: np.ndarray, W: np.ndarray, e: np.ndarray, rough: bool
) -> tuple[np.ndarray, np.ndarray]:
    k = X.shape[1]
    root = np.sqrt(np.abs(W))
    if rough and X.size > ROUGH_CELLS:
        single = np.empty((k + 1, len(X)), np.float32)
        single[0] = root
        np.multiply(X.T, root, out=single[1:], casting="same_kind")
        return gram(single.T).astype(float), np.append(e.sum(), weighted_sums(e, X))
    H = np.empty((k + 1, k + 1))
    Xw = X * root[:, None]
    H[1:, 1:] = gram(Xw) if np.all(W >= 0) else weighted_sums(Xw.T, Xw * np.sign(W)[:, None])
    H[0, 1:], slopes = weighted_sums(np.vstack([W, e]), X)  # both in one go through X
    H[1:, 0] = H[0, 1:]
    H[0, 0] = W.sum()
    return H, np.append(e.sum(), slopes)


def solved_by_cholesky(H: np.ndarray, g: np.ndarray, apart: float) -> np.ndarray | None:
    """x with Hx = g by Cholesky.

    None where a diagonal of the scaled factor is not above ``apart``.
    """
    if not np.all(np.diag(H) > 0) or not np.isfinite(H).all():
        return None
    scale = np.sqrt(np.diag(H))
    factor, failed = linalg.lapack.dpotrf(H / np.outer(scale, scale), lower=0)
    if failed or not np.min(np.diag(factor)) > apart:
        return None
    return np.asarray(linalg.cho_solve((factor, False), g / scale, check_finite=False) / scale)
