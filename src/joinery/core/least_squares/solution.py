"""A least-squares fit, as arrays, and what follows from its factor alone."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from joinery.core.blocks.columns import Columns, IndicatorColumns, chosen, dense, shifted
from joinery.core.blocks.products import times, times_transpose, weighted_sums
from joinery.core.least_squares.groups import Groups
from joinery.core.numeric.triangular import EPS, WIDE, inverse_of, row_lengths
from joinery.support.errors import TooLargeError

FULL = 0.2  # share of cells that are not zero from which dense products are faster
GLANCE_ZEROS = 256  # rows that tell that share
COLUMNS_TOGETHER = 32  # columns of a block that are centred and squared while they are in cache
MOST_WRITTEN_OUT = 10_000  # columns with swept levels whose factor is made when it is asked for
FAR_MEAN = 3.0  # means beyond so many standard deviations are taken off before products are formed
DEPARTED = 1e-7  # of the sizes that go into a combination: farther off is no rounding


@dataclass(frozen=True)
class Solution:
    """A least-squares fit, as arrays. k columns without the constant, r of them estimable ("kept").

    ``coefficients`` (k,) and ``intercept``; NaN where a column depends on earlier ones. ``factor``
    (r, r) is upper triangular with factorᵀ·factor = ZᵀWZ for Z = (X[:, kept] − centre) / scale, and
    ``effects`` (r,) is Qᵀ√W(y − mean): its own, or written out of ``groups`` when asked for, where
    hundreds of levels were swept out. ``rss`` and ``tss`` are in units of ``unit``², which is 1
    but for responses too large or small to be squared. ``exact_inverse`` and ``exact_root`` (whose
    rows' products are the unscaled covariance) come with the exact way. ``constant_direction`` (r,)
    is where the constant lies in the orthonormal basis when the columns hold it unwritten.
    ``dependence`` maps a dropped column to its coefficients on [constant, columns] (k + 1,)."""

    intercept: float | None
    coefficients: np.ndarray
    kept: np.ndarray
    dependence: dict[int, np.ndarray]
    centre: np.ndarray
    scale: np.ndarray
    own_factor: np.ndarray | None
    own_effects: np.ndarray | None
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
    constant_direction: np.ndarray | None = None
    groups: Groups | None = None

    @cached_property
    def factor(self) -> np.ndarray:
        """The upper triangular factor (r, r) of the columns about their centre, over ``scale``.

        Raises TooLargeError where levels were swept out and are too many to be written out.
        """
        if self.own_factor is None:
            return self._written_out[0]
        return self.own_factor

    @property
    def effects(self) -> np.ndarray:
        """Qᵀ√W(y − mean) of the factor's Q: (r,)."""
        if self.own_effects is None:
            return self._written_out[1]
        return self.own_effects

    @cached_property
    def _written_out(self) -> tuple[np.ndarray, np.ndarray]:
        assert self.groups is not None
        if (r := len(self.kept)) > MOST_WRITTEN_OUT:
            raise TooLargeError(
                f"this needs the covariance of all {r:,} coefficients, which is too much memory; "
                "ask about a few of them, or leave the category out"
            )
        return self.groups.written_out(self.scale)

    @cached_property
    def lengths(self) -> np.ndarray:
        """√Σw(x − centre)² of each kept column (r,)."""
        if self.groups is not None:
            return self.groups.lengths
        return np.asarray(np.sqrt((self.factor**2).sum(axis=0)) * self.scale)

    @property
    def products_with_response(self) -> np.ndarray:
        """Σw(x − centre)(y − mean) of each kept column (r,)."""
        if self.groups is not None:
            return self.groups.products_with_response
        return np.asarray((self.factor.T @ self.effects) * self.scale)

    @property
    def has_intercept(self) -> bool:
        return self.intercept is not None

    @property
    def rank(self) -> int:
        return len(self.kept) + self.has_intercept

    @property
    def places(self) -> np.ndarray:
        """Places (rank,) of estimable coefficients in [intercept if there is one, all columns]."""
        if self.has_intercept:
            return np.append(0, self.kept + 1)
        return self.kept

    @property
    def padded_coefficients(self) -> np.ndarray:
        """[intercept or 0, coefficients with 0 where not estimable]: (k + 1,)."""
        return np.append(self.intercept or 0.0, np.nan_to_num(self.coefficients))

    @cached_property
    def basis_coefficients(self) -> np.ndarray:
        """The coefficients in the basis of ``in_basis``: (rank,)."""
        return self.to_basis(self.padded_coefficients)

    def to_basis(self, b: np.ndarray) -> np.ndarray:
        """Return coefficients b, (k + 1,) or (k + 1, m), in the basis of ``in_basis``."""
        return np.asarray(np.linalg.solve(self.root, b[self.padded_places]))

    @property
    def padded_places(self) -> np.ndarray:
        """Return where the estimable coefficients stand in ``padded_coefficients``: (rank,)."""
        return self.places + (not self.has_intercept)

    @property
    def residual_df(self) -> int:
        return self.n - self.rank

    @cached_property
    def inverse(self) -> np.ndarray:
        """The inverse of ``factor`` (r, r), upper triangular.

        The exact way brings its own, right to the last digit.
        """
        if self.exact_inverse is not None:
            return self.exact_inverse
        return inverse_of(self.factor)

    @cached_property
    def root(self) -> np.ndarray:
        """The map (rank, rank) from the basis of ``in_basis`` to [intercept, kept coefficients]."""
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
        """√diag((XᵀWX)⁻¹) of [intercept if there is one, kept columns]."""
        if self.groups is not None:
            return self.groups.error_factors
        if self.exact_root is not None:
            return row_lengths(self.exact_root)
        slopes = self.inverse / self.scale[:, None]
        lengths = row_lengths(slopes)
        if not self.has_intercept:
            return np.asarray(lengths)
        return np.append(
            np.sqrt(1 / self.weight_sum + ((self.centre @ slopes) ** 2).sum()), lengths
        )

    def whitened(self, X: Columns) -> np.ndarray:
        """Return rows of X (m, k) in the basis where the slopes' unscaled covariance is I: (m,
        r)."""
        white, middle = self._transposed_basis(X)
        white -= middle[:, None]
        return white.T

    def _transposed_basis(self, X: Columns) -> tuple[np.ndarray, np.ndarray]:
        """Return the same before it is centred, on its side (r, m), and what centres it (r,)."""
        columns, near = dense(self._brought_near(X)), self.centre - self.far_centre
        root = self.inverse / self.scale[:, None]
        some = columns[:GLANCE_ZEROS]
        if len(self.kept) <= WIDE or np.count_nonzero(some) > FULL * some.size:
            return times_transpose(root.T, columns), near @ root
        # of hundreds of columns most are levels, zero in nearly every row
        from scipy.sparse import csr_array

        return np.asarray(csr_array(columns) @ root).T, near @ root

    def centred_sums(self, X: Columns, V: np.ndarray) -> np.ndarray:
        """Return [1, X − ``far_centre``]ᵀ·V of rows X (m, k) and V (m, q): (1 + r, q).

        Their sums over all blocks are for ``sums_in_basis``."""
        columns = self._brought_near(X)
        if isinstance(columns, IndicatorColumns):
            sums = weighted_sums(np.ascontiguousarray(V.T), columns).T
        else:
            sums = columns.T @ V
        return np.vstack([V.sum(axis=0), sums])

    def sums_in_basis(self, sums: np.ndarray) -> np.ndarray:
        """Return [1, X]ᵀ·V, from the ``centred_sums`` of all rows, in an orthonormal basis: (rank,
        q).

        The constant's direction comes first where there is an intercept. It is that of
        ``in_basis`` but where levels were swept out."""
        if self.groups is not None:
            return self.groups.sums_in_basis(sums, self.far_centre)
        slopes = self.inverse / self.scale[:, None]
        if not self.has_intercept:
            return np.asarray(slopes.T @ sums[1:])
        near = self.centre - self.far_centre
        white = slopes.T @ (sums[1:] - np.outer(near, sums[0]))
        return np.vstack([sums[:1] / np.sqrt(self.weight_sum), white])

    def in_basis(self, X: Columns) -> np.ndarray:
        """Return rows of [1, X] (m, k) in the basis where the unscaled covariance is I: (m,
        rank)."""
        white = self.whitened(X)
        if not self.has_intercept:
            return white
        return np.column_stack([np.full(len(X), 1 / np.sqrt(self.weight_sum)), white])

    def unscaled_variance(self, X: Columns) -> np.ndarray:
        """Return xᵀ(XᵀWX)⁻¹x for each row x of X (m, k), the constant included where there is
        one."""
        if isinstance(X, IndicatorColumns):
            plain = self.has_intercept and X.value is None and self.exact_inverse is None
            if plain and (self.groups is not None or len(self.kept) == X.shape[1]):
                return self._levelled_variance(X)
            X = X.dense()
        if self.groups is not None:
            return row_lengths(self.groups.in_basis(self.with_constant(X))) ** 2
        white, middle = self._transposed_basis(X)
        out = np.full(len(X), 1 / self.weight_sum if self.has_intercept else 0.0)
        for first in range(0, len(white), COLUMNS_TOGETHER):
            some = white[first : first + COLUMNS_TOGETHER]
            some -= middle[first : first + COLUMNS_TOGETHER, None]
            out += np.einsum("ji,ji->i", some, some)
        return out

    def _levelled_variance(self, X: IndicatorColumns) -> np.ndarray:
        """Return the same by groups of levels: 1/W of the group, and what numbers add about its
        means."""
        parts = self._by_groups.get(X.level_places.tobytes())
        if parts is None:
            parts = self._by_groups[X.level_places.tobytes()] = self._groups(
                X.level_places, X.number_places
            )
        share, away, root = parts
        kept = np.isin(X.number_places, self.kept)
        if kept.all():
            numbers = X.numbers
        else:
            numbers = X.numbers[:, kept]
        far = self._far_numbers(X.number_places[kept])
        white = times_transpose(root, numbers - far if far.any() else numbers)
        white -= away.take(X.codes, axis=1)
        return np.asarray(share[X.codes] + np.einsum("ji,ji->i", white, white))

    def _far_numbers(self, places: np.ndarray) -> np.ndarray:
        """Return ``far_centre`` of the kept columns that stand at these places."""
        return self.far_centre[np.searchsorted(self.kept, places)]

    @cached_property
    def _by_groups(self) -> dict[bytes, tuple[np.ndarray, np.ndarray, np.ndarray]]:
        return {}

    def _groups(
        self, levels: np.ndarray, numbers: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Return 1/W of each group of rows (q + 1,), the last without a level.

        Its means as the root takes them; the root.

        The root's (d, d) product with its transpose is the unscaled covariance of the numbers'
        slopes, which is that of their parts within groups (Frisch & Waugh 1933)."""
        if (g := self.groups) is not None:
            root = g.inverse.T
            near = g.means - self._far_numbers(numbers[np.isin(numbers, self.kept)])[:, None]
            return (1 / g.weights)[g.of_code], (root @ near)[:, g.of_code], root
        slopes = self.inverse / self.scale[:, None]
        # the numbers' rows as Rᵀ·Qᵀ: their covariance is Rᵀ·R, and forming it would square its
        # condition number
        Q, root = np.linalg.qr(slopes[numbers].T)
        of_levels = Q.T @ slopes[levels].T
        middle = root @ (self.centre - self.far_centre)[numbers] + of_levels @ self.centre[levels]
        away = np.column_stack([middle[:, None] - of_levels, middle])
        shares = np.append(self.centre[levels], 1 - self.centre[levels].sum())
        with np.errstate(all="ignore"):
            return 1 / (shares * self.weight_sum), away, root

    def fitted(self, X: Columns) -> np.ndarray:
        """Return β₀ + Xβ for each row of X (m, k), dropped columns counting nothing."""
        kept = self.coefficients[self.kept]
        if not self.has_intercept:
            return times(chosen(X, self.kept), kept)
        start = self.mean_response - (self.centre - self.far_centre) @ kept
        return np.asarray(start + times(self._brought_near(X), kept))

    @cached_property
    def far_centre(self) -> np.ndarray:
        """The centre (r,) of each kept column that lies far from zero, 0 for the others.

        It is taken off before a product is formed, so that the product keeps its digits."""
        return np.asarray(self.centre * (np.abs(self.centre) > FAR_MEAN * self.spread))

    def _brought_near(self, X: Columns) -> Columns:
        """Return the kept columns of X (m, k) less ``far_centre``."""
        columns = chosen(X, self.kept)
        if self.far_centre.any():
            return shifted(columns, self.far_centre)
        return columns

    def with_constant(self, X: np.ndarray) -> np.ndarray:
        """Return [1, kept columns] of rows X (m, k): (m, 1 + r)."""
        return np.column_stack([np.ones(len(X)), X[:, self.kept]])

    def broken(self, X: np.ndarray, *, differences: bool = False) -> np.ndarray:
        """Return (m, d) whether each dropped column departs from its combination in each row.

        Where one does, what is fitted there depends on which of the columns were kept. Of
        ``differences`` or derivatives of rows the constant is no part.
        """
        out = np.zeros((len(X), len(self.dependence)), bool)
        usual = np.zeros(X.shape[1])  # what the columns are like, beside which rounding is none
        usual[self.kept] = np.abs(self.centre) + self.spread
        for place, (column, combination) in enumerate(self.dependence.items()):
            if differences:
                constant = 0.0
            else:
                constant = combination[0]
            parts = X * combination[1:]
            size = np.abs(X[:, column]) + np.abs(parts).sum(axis=1) + abs(constant)
            size = np.maximum(size, np.abs(combination[1:]) @ usual)
            away = np.abs(X[:, column] - parts.sum(axis=1) - constant)
            out[:, place] = away > DEPARTED * size
        return out

    @cached_property
    def spread(self) -> np.ndarray:
        """The root mean square of each kept column about its centre (r,)."""
        return np.asarray(self.lengths / np.sqrt(self.weight_sum))


def no_miss(rss: float, size: float, level: float) -> bool:
    """Return True if a residual sum of squares is no more than rounding leaves of a perfect fit.

    Parameters: the root sum of squares ``size`` of what is explained and of the response about its
    mean; ``level`` that of the mean, which is taken off exactly, so that only the rounding of
    the response itself counts."""
    return bool(rss <= (EPS * (16 * size + 2 * level)) ** 2)
