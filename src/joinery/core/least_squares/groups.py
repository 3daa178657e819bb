"""The parts of a fit whose category levels were swept out: sums of groups, no big matrix."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from joinery.core.numeric.triangular import power_iteration, row_lengths, triangle


@dataclass(frozen=True)
class Groups:
    """The groups of q levels, the last of rows without a level, and the fit within them.

    All weights and means are those of the groups; the others are of the d numbers less their means
    in each. The basis in which the unscaled covariance is I has a direction for each group, in
    which only its constant lies, and one for each number."""

    levels: np.ndarray  # (q,) where the levels stand among the r kept columns
    numbers: np.ndarray  # (d,) where the numbers stand
    of_code: np.ndarray  # the group of each level of the category, and of rows without one
    weights: np.ndarray  # (q + 1,)
    means: np.ndarray  # (d, q + 1) of the numbers
    response: np.ndarray  # (q + 1,) means of the response
    factor: np.ndarray  # (d, d), with factorᵀ·factor the numbers' products within groups
    inverse: np.ndarray  # (d, d) of the factor
    effects: np.ndarray  # (d,) Qᵀ√W of the response within groups

    @property
    def width(self) -> int:
        return len(self.levels) + len(self.numbers)

    @cached_property
    def weight_sum(self) -> float:
        return float(self.weights.sum())

    @cached_property
    def grand(self) -> np.ndarray:
        """The means (d,) of the numbers over all groups."""
        return np.asarray(self.means @ self.weights) / self.weight_sum

    @cached_property
    def away(self) -> np.ndarray:
        """Means of the numbers in each group less those over all: (d, q + 1)."""
        return np.asarray(self.means - self.grand[:, None])

    @cached_property
    def centre(self) -> np.ndarray:
        """Means (r,) of all columns."""
        return self._joined(self.grand, self.weights[:-1] / self.weight_sum)

    @cached_property
    def lengths(self) -> np.ndarray:
        """√Σw(x − mean)² of each column (r,)."""
        squares = (self.factor**2).sum(axis=0) + (self.away**2) @ self.weights
        result = self.weights[:-1]
        across = result * (self.weight_sum - result) / self.weight_sum
        return np.asarray(np.sqrt(self._joined(squares, across)))

    @property
    def products_with_response(self) -> np.ndarray:
        """Σw(x − mean)(y − mean) of each column (r,)."""
        in_groups = self.weights * self.response_away
        numbers = self.factor.T @ self.effects + self.away @ in_groups
        return self._joined(numbers, in_groups[:-1])

    @cached_property
    def response_away(self) -> np.ndarray:
        """Means of the response in each group less that over all (q + 1,)."""
        return np.asarray(self.response - self.weights @ self.response / self.weight_sum)

    def _joined(self, numbers: np.ndarray, levels: np.ndarray) -> np.ndarray:
        """Return values of the numbers (d,) and the levels (q,) in the order of the columns
        (r,)."""
        out = np.empty(self.width)
        out[self.numbers], out[self.levels] = numbers, levels
        return out

    # -------------------------------------------------------------- in the basis

    def in_basis(self, L: np.ndarray) -> np.ndarray:
        """Return weights (m, 1 + r) of the constant and the columns in the basis: (m, q + 1 +
        d)."""
        of_levels = L[:, 1 + self.levels]
        # the last group has no column: it gets what the constant leaves
        of_groups = np.column_stack([of_levels, L[:, 0] - of_levels.sum(axis=1)])
        slopes = L[:, 1 + self.numbers] - of_groups @ self.means.T
        return np.hstack([of_groups / np.sqrt(self.weights), slopes @ self.inverse])

    def from_basis(self, u: np.ndarray) -> np.ndarray:
        """Return coefficients (1 + r,) of the constant and the columns from those in the basis."""
        constants, slopes = np.split(u, [len(self.weights)])
        slopes = self.inverse @ slopes
        constants = constants / np.sqrt(self.weights) - slopes @ self.means
        return np.append(constants[-1], self._joined(slopes, constants[:-1] - constants[-1]))

    def sums_in_basis(self, sums: np.ndarray, moved: np.ndarray) -> np.ndarray:
        """Return [1, X]ᵀ·V in the basis, from [1, X − moved]ᵀ·V (1 + r, q): (1 + r, q).

        The first direction is turned into the constant's, the others lie across it."""
        total, levels = sums[0], sums[1 + self.levels]
        levels = levels + np.outer(moved[self.levels], total)
        of_groups = np.vstack([levels, total - levels.sum(axis=0)])
        means = self.means - moved[self.numbers, None]
        slopes = sums[1 + self.numbers] - means @ of_groups
        of_groups = of_groups / np.sqrt(self.weights)[:, None]
        # Householder's reflection that turns the groups' direction of the constant into the first
        mirror = np.sqrt(self.weights / self.weight_sum)
        mirror[0] -= 1.0
        rotated = of_groups - np.outer(mirror, mirror @ of_groups) * (2 / (mirror @ mirror))
        return np.vstack([rotated, self.inverse.T @ slopes])

    @cached_property
    def error_factors(self) -> np.ndarray:
        """√diag((XᵀWX)⁻¹) of the constant and the columns (1 + r,)."""
        # the variance of a group's own mean, and of the slopes that carry it to zero
        white = self.inverse.T @ self.means
        beside = white[:, :-1] - white[:, -1:]
        with np.errstate(all="ignore"):
            constant = 1 / self.weights[-1] + white[:, -1] @ white[:, -1]
            levels = 1 / self.weights[:-1] + 1 / self.weights[-1] + (beside**2).sum(axis=0)
        return np.append(
            np.sqrt(constant), self._joined(row_lengths(self.inverse), np.sqrt(levels))
        )

    # -------------------------------------------------------------- products and condition

    def products(self, v: np.ndarray) -> np.ndarray:
        """Return (X − centre)ᵀW(X − centre)·v of v (r,)."""
        slopes, levels = v[self.numbers], v[self.levels]
        in_groups = self.away.T @ slopes + np.append(levels, 0.0)
        in_groups = self.weights * (in_groups - levels @ self.weights[:-1] / self.weight_sum)
        numbers = self.factor.T @ (self.factor @ slopes) + self.away @ in_groups
        return self._joined(numbers, in_groups[:-1])

    def covariance_times(self, v: np.ndarray) -> np.ndarray:
        """Return the unscaled covariance of the constant and the columns (1 + r, 1 + r) times v."""
        return self.from_basis(self.in_basis(v[None, :])[0])

    @cached_property
    def condition(self) -> float:
        """The condition number of the columns about their means, each of length one."""
        lengths = self.lengths
        # power iteration from a start that is the same each time: no q × q matrix is made
        v = np.random.default_rng(1).standard_normal(self.width)
        largest, _ = power_iteration(v, lambda u: self.products(u / lengths) / lengths)

        def covariance(u: np.ndarray) -> np.ndarray:
            return np.asarray(self.covariance_times(np.append(0.0, u * lengths))[1:] * lengths)

        smallest, _ = power_iteration(v, covariance)
        return float(np.sqrt(largest * smallest))

    @cached_property
    def largest_condition_index(self) -> tuple[float, np.ndarray]:
        """The same of the columns as written, the constant among them (Belsley 1991, 3).

        With the share (1 + r,) of each coefficient's variance that belongs to it."""
        W, centre = self.weight_sum, self.centre
        sizes = np.append(np.sqrt(W), np.hypot(self.lengths, np.sqrt(W) * centre))

        def products(u: np.ndarray) -> np.ndarray:
            level = W * (u[0] + centre @ u[1:])
            return np.append(level, self.products(u[1:]) + centre * level)

        v = np.random.default_rng(1).standard_normal(1 + self.width)
        largest, _ = power_iteration(v, lambda u: products(u / sizes) / sizes)
        smallest, weakest = power_iteration(v, lambda u: self.covariance_times(u * sizes) * sizes)
        shares = smallest * (weakest / (self.error_factors * sizes)) ** 2
        return float(np.sqrt(largest * smallest)), shares

    # -------------------------------------------------------------- numbers alone, and written out

    @cached_property
    def numbers_alone(self) -> np.ndarray:
        """The factor (d + 1, d + 1) of the numbers and the response about their means."""
        root = np.sqrt(self.weights)[:, None]
        between = root * np.column_stack([self.away.T, self.response_away])
        within = np.column_stack([self.factor, self.effects])
        return triangle(np.vstack([within, between]))

    def written_out(self, scale: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return the factor (r, r) of all columns, each over its scale (r,), and the effects
        (r,)."""
        q, d = len(self.levels), len(self.numbers)
        # rows within groups above, one row a group below: their triangle is that of all rows
        A = np.zeros((d + q + 1, self.width + 1), order="F")
        A[:d, self.numbers], A[:d, -1] = self.factor, self.effects
        root, share = np.sqrt(self.weights), self.weights[:-1] / self.weight_sum
        A[d:, self.numbers] = root[:, None] * self.away.T
        A[d:, self.levels] = -root[:, None] * share
        A[d + np.arange(q), self.levels] += root[:-1]
        A[d:, -1] = root * self.response_away
        A[:, :-1] /= scale
        R = triangle(A)
        return np.asfortranarray(R[: self.width, : self.width]), R[: self.width, -1]
