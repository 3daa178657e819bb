"""Candidate models of least squares, from one triangular factor of the largest."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from math import log, pi

import numpy as np

from joinery.core.inference.stepwise import Model
from joinery.core.numeric import distributions as tails
from joinery.core.numeric.triangular import condition_number, forward, inverse_of, triangle

DEPENDENT = 1e-9  # of a column's length: what is left of one that depends on the others


CANCELLED = 1e-8  # of a misfit: so little left of it by subtraction is found anew
FAR_APART = 1e5  # a condition number up to which losses keep ten digits
PERFECT = 1e-12  # of the response's length about its mean: a residual so short is rounding
ALONE = 1e-10  # of 1 − leverage: below it a row alone speaks to one of the coefficients


@dataclass(frozen=True)
class WeightedRows:
    """Rows [1, columns | y] times √w, one of each (m, q + 2), and how often each stands (m,)."""

    A: np.ndarray
    times: np.ndarray

    def without(self, left_out: np.ndarray) -> WeightedRows:
        return WeightedRows(self.A[~left_out], self.times[~left_out])

    def left_out_error(self, columns: np.ndarray) -> float:
        """Return the root mean square error of each row forecast without it: e/(1 − h) (Allen
        1974)."""
        X = self.A[:, columns]
        T = triangle(np.column_stack([X, self.A[:, -1]]) * np.sqrt(self.times)[:, None])
        k = len(columns)
        if np.any(np.abs(np.diag(T)[:k]) <= DEPENDENT * np.sqrt((T[:, :k] ** 2).sum(axis=0))):
            return float("inf")
        U = np.linalg.solve(T[:k, :k].T, X.T).T
        left = 1 - (U * U).sum(axis=1)
        with np.errstate(all="ignore"):
            miss = (self.A[:, -1] - U @ T[:k, k]) / left / self.A[:, 0]
        sound = np.isfinite(miss) & (left > ALONE)  # of a row alone at a level nothing is forecast
        if not sound.any():
            return float("inf")
        return float(np.sqrt(np.average(miss[sound] ** 2, weights=self.times[sound])))


@dataclass(frozen=True)
class LinearCandidates:
    """The factor R (q, q) of [columns | y], its groups of columns, which others each needs, n.

    ``constant`` is 1 when the columns were centred: the intercept counts as a coefficient.
    ``log_scale`` is what 2·log likelihood has beside the residual sum of squares: weights, and the
    unit of the response. ``known`` is a dispersion known beforehand, in that unit. ``rows`` are
    there where each is to be left out in turn."""

    R: np.ndarray
    groups: tuple[np.ndarray, ...]
    needs: tuple[frozenset[int], ...]
    n: int
    constant: int
    criterion: str
    log_scale: float = 0.0
    known: float | None = None
    rows: WeightedRows | None = None

    def model(self, chosen: frozenset[int]) -> Model:
        rss, rank = self._rss(sorted(chosen))
        return self._measured(chosen, rss, rank + self.constant)

    def near(
        self, now: Model, kept: frozenset[int], *, add: bool, drop: bool
    ) -> Iterator[tuple[bool, int, Model]]:
        if drop:
            for g, (more, width) in self._losses(now, kept).items():
                yield (
                    False,
                    g,
                    self._measured(now.chosen - {g}, now.misfit + more, now.rank - width),
                )
        if add:
            for g, (less, width) in self._gains(now.chosen).items():
                rss = max(now.misfit - less, 0.0)
                if rss < CANCELLED * now.misfit:
                    rss, _ = self._rss(sorted(now.chosen | {g}))
                yield True, g, self._measured(now.chosen | {g}, rss, now.rank + width)

    def p(self, small: Model, large: Model) -> float:
        """Return F of the extra sum of squares over the larger model's mean square; χ² where φ is
        known.

        With no degrees of freedom left nothing enters, and everything may leave."""
        width, df = large.rank - small.rank, self.n - large.rank
        change = max(small.misfit - large.misfit, 0.0)
        if self.known is not None:
            return float(tails.chi2_upper(change / self.known, width))
        if df < 1:
            return 1.0
        if not large.misfit > 0:  # a perfect model: nothing that it needs may leave
            if change > 0:
                return 0.0
            return 1.0
        return float(tails.f_upper(change / width / (large.misfit / df), width, df))

    def columns(self, chosen: frozenset[int]) -> np.ndarray:
        """Return the columns of some groups, in order."""
        return np.concatenate([np.empty(0, int), *(self.groups[g] for g in sorted(chosen))])

    @cached_property
    def total_squares(self) -> float:
        """The sum of squares of the response without any group."""
        return float(self.R[:, -1] @ self.R[:, -1])

    def information(self, rss: float, rank: int, weight: float) -> float:
        """Return AIC (weight 2) or BIC (weight log n) of a model with this residual sum of
        squares."""
        if self.known is not None:
            size = self.n * log(2 * pi * self.known) + rss / self.known
            return size + weight * rank - self.log_scale
        if not rss > 0:
            return float("inf")
        size = self.n * (log(2 * pi / self.n) + log(rss) + 1)
        return size + weight * (rank + 1) - self.log_scale

    def _measured(self, chosen: frozenset[int], rss: float, rank: int) -> Model:
        if rss <= PERFECT**2 * self.total_squares:
            rss = 0.0
        figure = self._figure(chosen, rss, rank)
        return Model(chosen, rank, rss, figure)

    def _figure(self, chosen: frozenset[int], rss: float, rank: int) -> float:
        if self.criterion == "p":
            return float("nan")
        if self.n - rank < 1 or rss != rss:
            return float("inf")
        if rss == 0:  # nothing can be better than a perfect model
            return float("-inf")
        if self.rows is not None:
            ones = np.zeros(self.constant, int)
            return self.rows.left_out_error(np.append(ones, self.columns(chosen) + 1))
        if self.criterion == "adjusted r2":
            mean_square = self.total_squares / (self.n - self.constant)
            return -(1 - rss / (self.n - rank) / mean_square)
        return self.information(rss, rank, 2.0 if self.criterion == "aic" else log(self.n))

    def _rss(self, chosen: Sequence[int]) -> tuple[float, int]:
        """Return residual sum of squares and rank of a model in some groups."""
        columns = self.columns(frozenset(chosen))
        T = triangle(self.R[:, np.append(columns, self.R.shape[1] - 1)])
        lengths = np.sqrt((self.R[:, columns] ** 2).sum(axis=0))
        rank = int(
            np.sum(np.abs(np.diag(T)[:-1]) > DEPENDENT * np.where(lengths > 0, lengths, 1.0))
        )
        return float(T[len(columns), -1] ** 2) if rank == len(columns) else float("nan"), rank

    def _gains(self, chosen: frozenset[int]) -> dict[int, tuple[float, int]]:
        """Return how much each admissible group would take off the RSS, and its columns."""
        inside = self.columns(chosen)
        waiting = [
            g for g in range(len(self.groups)) if g not in chosen and self.needs[g] <= chosen
        ]
        outside = np.concatenate([np.empty(0, int), *(self.groups[g] for g in waiting)])
        T = triangle(self.R[:, np.concatenate([inside, outside, [self.R.shape[1] - 1]])])
        left, y, place = T[len(inside) :, len(inside) : -1], T[len(inside) :, -1], 0
        least = DEPENDENT * np.sqrt((self.R[:, outside] ** 2).sum(axis=0))
        squares, products = (left * left).sum(axis=0), y @ left  # of columns that stand alone
        with np.errstate(all="ignore"):
            alone = (products * products / squares).tolist()
        apart = (squares > least * least).tolist()
        out = {}
        for g in waiting:
            width, start = len(self.groups[g]), place
            place += width
            if width == 1:
                if apart[start]:
                    out[g] = alone[start], 1
            elif width:
                small = triangle(np.column_stack([left[:, start:place], y]))
                if np.all(np.abs(np.diag(small)[:-1]) > least[start:place]):
                    out[g] = float(small[:width, -1] @ small[:width, -1]), width
        return out

    def _losses(self, now: Model, kept: frozenset[int]) -> dict[int, tuple[float, int]]:
        """Return how much dropping each group that no other needs would add to the RSS.

        From one factor: bᵀ(the block of (XᵀX)⁻¹)⁻¹b, of a group's coefficients b. Where columns
        nearly depend on one another that loses digits, and each is left out in turn.
        """
        needed = frozenset[int]().union(*(self.needs[g] for g in now.chosen))
        free = sorted(now.chosen - kept - needed)
        inside = self.columns(now.chosen)
        T = triangle(self.R[:, np.append(inside, self.R.shape[1] - 1)])
        k = len(inside)
        if condition_number(T[:k, :k]) > FAR_APART:
            return {g: self._loss_alone(now, g) for g in free}
        inverse = inverse_of(T[:k, :k])
        b = inverse @ T[:k, k]
        place = np.full(self.R.shape[1], -1)
        place[inside] = np.arange(k)
        alone = b * b / (inverse * inverse).sum(axis=1)
        out = {}
        for g in free:
            at = place[self.groups[g]]
            if len(at) > 1:
                half = forward(triangle(inverse[at].T), b[at])
                out[g] = float(half @ half), len(at)
            else:
                out[g] = float(alone[at].sum()), len(at)
        return out

    def _loss_alone(self, now: Model, g: int) -> tuple[float, int]:
        without, _ = self._rss(sorted(now.chosen - {g}))
        return max(without - now.misfit, 0.0), len(self.groups[g])
