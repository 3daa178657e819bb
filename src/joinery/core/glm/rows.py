"""The rows of a generalized linear model: means, working response, working weights.

The working response is z = η + (y − μ)/(dμ/dη) with weights W = w(dμ/dη)²/V(μ) (McCullagh & Nelder
1989, 2.5)."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from joinery.core.blocks.blocks import Block
from joinery.core.blocks.columns import Columns, some_rows
from joinery.core.blocks.partition import Partition
from joinery.core.blocks.products import inner, times
from joinery.core.glm.families import Family
from joinery.core.glm.links import Link, shares

Predictor = Callable[[Columns], np.ndarray]  # from columns (m, k) to η (m,) without the offset


@dataclass(frozen=True)
class LikelihoodRows:
    """Some rows as the likelihood sees them: X (m, k), the rest (m,) or None."""

    X: Columns
    y: np.ndarray
    weights: np.ndarray  # precision weights times repeats
    trials: np.ndarray | None
    offset: np.ndarray | None
    repeats: np.ndarray | None = None

    @property
    def evidence(self) -> np.ndarray:
        """Weights times the trials: what a row's share of the likelihood is multiplied by."""
        return self.weights if self.trials is None else self.weights * self.trials

    @property
    def times(self) -> np.ndarray:
        """Return how many equal rows each stands for."""
        if self.repeats is None:
            return np.ones(len(self.y))
        return self.repeats

    @property
    def precision(self) -> np.ndarray:
        """Weights without the repeats."""
        if self.repeats is None:
            return self.weights
        return self.weights / np.where(self.repeats > 0, self.repeats, 1.0)

    def taken(self, rows: np.ndarray | slice) -> LikelihoodRows:
        """Return some of the rows, by a mask, their places or a slice."""
        y, weights = self.y[rows], self.weights[rows]
        trials, offset, repeats = (
            None if values is None else values[rows]
            for values in (self.trials, self.offset, self.repeats)
        )
        return LikelihoodRows(some_rows(self.X, rows), y, weights, trials, offset, repeats)


class LikelihoodSource(Protocol):
    """Rows of a table that can be gone through again."""

    @property
    def width(self) -> int: ...

    @property
    def pieces(self) -> Partition[LikelihoodRows]: ...


@dataclass(frozen=True)
class MappedRows:
    """The rows of a source with something replaced in each part: columns, or the offset."""

    source: LikelihoodSource
    width: int
    change: Callable[[LikelihoodRows], LikelihoodRows]

    @property
    def pieces(self) -> Partition[LikelihoodRows]:
        return self.source.pieces.map(self.change)


@dataclass(frozen=True)
class SomeRows:
    """Some pieces of a source."""

    source: LikelihoodSource
    chosen: tuple[int, ...]

    @property
    def width(self) -> int:
        return self.source.width

    @property
    def pieces(self) -> Partition[LikelihoodRows]:
        return self.source.pieces.only(*self.chosen)


@dataclass(frozen=True)
class ArrayRows:
    """Rows at hand, as one part or in parts of so many."""

    part: LikelihoodRows
    size: int | None = None

    @property
    def width(self) -> int:
        return int(self.part.X.shape[1])

    @property
    def pieces(self) -> Partition[LikelihoodRows]:
        size = self.size
        if size is None:
            return Partition(1, lambda i, workspace: self.part)
        return Partition(
            -(-len(self.part.y) // size),
            lambda i, workspace: self.part.taken(slice(i * size, (i + 1) * size)),
        )


@dataclass(frozen=True)
class WorkingBlocks:
    """The weighted least squares at given coefficients, as row blocks.

    At the family's first means for None.
    """

    source: LikelihoodSource
    family: Family
    link: Link
    predictor: Predictor | None
    level: float = 0.0  # η to begin with where a response is no mean that the link can have

    @property
    def width(self) -> int:
        return self.source.width

    @property
    def pieces(self) -> Partition[Block]:
        def block(part: LikelihoodRows) -> Block:
            state = working_state(self, part)
            return part.X, state.z, state.W

        return self.source.pieces.map(block)


@dataclass(frozen=True)
class WorkingState:
    """State of some rows, each (m,); ``residual`` is the working one, z − η."""

    eta: np.ndarray
    mu: np.ndarray
    residual: np.ndarray
    W: np.ndarray
    slope: np.ndarray
    offset: np.ndarray | None
    rest: np.ndarray | None = None  # 1 − μ of shares
    yes_no: bool = False  # whether every response is 0 or 1

    @property
    def z(self) -> np.ndarray:
        """The working response, less the offset."""
        z = self.eta + self.residual
        return np.asarray(z if self.offset is None else z - self.offset)


def working_state(working: WorkingBlocks, part: LikelihoodRows) -> WorkingState:
    """Return η, μ, working response and working weights of some rows."""
    family, link = working.family, working.link
    a = part.evidence
    with np.errstate(all="ignore"):
        if working.predictor is None:
            eta = link.eta(family.start(part.y, part.trials))
            low, high = link.domain
            eta = np.where(np.isfinite(eta) & (eta > low) & (eta < high), eta, working.level)
        else:
            eta = linear(working.predictor, part)
        rest, yes_no = None, False
        if family.shares:
            mu, rest = shares(link, eta)
            V, yes_no = mu * rest, np.array_equal(part.y * part.y, part.y)
            away = part.y * rest - (1 - part.y) * mu
        else:
            mu = link.mu(eta)
            V, away = family.variance(mu), part.y - mu
        if family.shares and family.canonical == link.name:  # there dμ/dη is the variance
            slope, W = V, a * V
        else:
            slope = link.slope(eta)
            W = a * slope * slope / V
        residual = away / slope
        # the ends of many values tell sooner than each of them
        if not (len(W) and W.min() > 0 and np.isfinite(W.max() + residual.min() + residual.max())):
            good = (W > 0) & np.isfinite(W + residual)
            W, residual = np.where(good, W, 0.0), np.where(good, residual, 0.0)
    return WorkingState(eta, mu, residual, W, slope, part.offset, rest, yes_no)


def overall_mean(
    rows: LikelihoodSource, of: Callable[[np.ndarray], np.ndarray] = np.asarray
) -> float:
    """Return the mean of all responses, or ``of`` something made of them, each by weight and
    trials."""
    total = count = 0.0
    for member, evidence in rows.pieces.each(
        lambda part: (inner(part.evidence, of(part.y)), float(part.evidence.sum()))
    ):
        total, count = total + member, count + evidence
    return total / count


def by_coefficients(b: np.ndarray) -> Predictor:
    """Return η = b₀ + Xb of coefficients (k + 1,), the first that of the constant."""
    return lambda X: times(X, b[1:]) + b[0]


def linear(predictor: Predictor, part: LikelihoodRows) -> np.ndarray:
    """Return η of some rows, the offset included."""
    eta = predictor(part.X)
    return eta if part.offset is None else eta + part.offset


def unit_deviance(family: Family, y: np.ndarray, state: WorkingState) -> np.ndarray:
    """Return unit deviances, those of shares with all the digits of 1 − μ."""
    if state.rest is not None and state.yes_no:
        deviance = np.log(np.maximum(y * state.mu + (1 - y) * state.rest, 1e-320))
        deviance *= -2
        return np.asarray(deviance)
    return family.deviance(y, state.mu, state.rest)


def log_weight_slope(working: WorkingBlocks, state: WorkingState) -> np.ndarray:
    """Return d log W/dη of each row: 2·d log(dμ/dη)/dη − V′(μ)(dμ/dη)/V."""
    family, link = working.family, working.link
    V = family.variance(state.mu, state.rest)
    return np.asarray(
        2 * link.bend(state.eta) - family.variance_slope(state.mu, state.rest) * state.slope / V
    )


def observed_weights(working: WorkingBlocks, state: WorkingState) -> np.ndarray:
    """Return −d/dη of each row's score, Newton's weights (McCullagh & Nelder 1989, 2.5)."""
    turn = log_weight_slope(working, state) - working.link.bend(state.eta)
    weights = state.W * (1 - state.residual * turn)
    return np.asarray(np.where(np.isfinite(weights), weights, state.W))


def inside(family: Family, link: Link, state: WorkingState) -> bool:
    """Return True if every mean is one that link and family can have."""
    if not len(state.eta):
        return True
    low, high = link.domain
    lowest, highest = state.mu.min(), state.mu.max()  # NaN where any is
    within = low < state.eta.min() and state.eta.max() < high
    within = within and family.mean_range[0] <= lowest and highest <= family.mean_range[1]
    return bool(within and highest < np.inf)
