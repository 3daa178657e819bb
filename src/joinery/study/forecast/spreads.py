"""Uncertainty of a dispersion or shape: the values that it may have, weighed by what the rows say.

A dispersion estimated from few rows is itself uncertain, and intervals that take it for known are
too narrow. Its values are weighed by their restricted likelihood, that of the residuals alone:
under the normal family this gives the t distribution exactly."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from joinery.core.glm.families import Family
from joinery.core.glm.links import beyond
from joinery.core.glm.rows import linear
from joinery.design.glm_blocks import LikelihoodBlocks
from joinery.study.fitted import Fitted, response_rows

Spreads = tuple[tuple[float, float], ...]  # values and their weights, which sum to one
MOST_DF = 200  # beyond, the dispersion is as good as known
COARSE, FINE_POINTS, DEEP = 50, 20, 14.0  # points of a first look, of the average; a fall in log


def spreads(fit: Fitted) -> Spreads:
    """Return what φ over its estimate, or the shape k, may be; nothing where it is known or
    sure."""
    e = fit.estimate
    shaped = fit.family.shape is not None
    if e.linear or not e.law or not 1 <= fit.residual_df <= MOST_DF or (e.known and not shaped):
        return ()
    if not shaped and not (e.scale and e.scale > 0):
        return ()
    if shaped:
        height = _of_shapes(fit)
    else:
        height = _of_dispersions(fit)
    shape = fit.family.shape
    if shape is not None and np.isfinite(shape):
        middle = float(np.log(shape))
    else:
        middle = 0.0
    if shaped:
        wide = 8.0
    else:
        wide = max(1.5, 14 / np.sqrt(fit.residual_df))
    return _weighed(height, middle - wide, middle + wide)


def _weighed(height: Callable[[float], float], low: float, high: float) -> Spreads:
    """Return values evenly apart in their logarithm where the height is within reach of its
    highest."""
    first = np.linspace(low, high, COARSE)
    heights = np.array([height(v) for v in first])
    heights = np.where(np.isfinite(heights), heights, -np.inf)
    near = first[heights > heights.max() - DEEP]
    if len(near) < 2:
        return ()
    at = np.linspace(near[0], near[-1], FINE_POINTS)
    log = np.array([height(v) for v in at])
    share = np.exp(np.where(np.isfinite(log), log - np.nanmax(log), -np.inf))
    share /= share.sum()
    return tuple((float(np.exp(v)), float(w)) for v, w in zip(at, share) if w > 1e-9)


@dataclass(frozen=True)
class _Rows:
    """The fitted rows, each (n,), gone through once: what any dispersion is judged by."""

    y: np.ndarray
    mu: np.ndarray
    rest: np.ndarray | None
    slope: np.ndarray
    trials: np.ndarray | None
    evidence: np.ndarray
    times: np.ndarray
    precision: np.ndarray
    basis: np.ndarray  # (n, rank)

    def log_likelihood(self, family: Family, dispersion: float) -> float:
        counted = self.precision > 0
        with np.errstate(all="ignore"):
            each = family.log_likelihood(
                self.y,
                self.mu,
                rest=self.rest,
                trials=self.trials,
                weights=np.where(counted, self.precision, 1.0),
                dispersion=dispersion,
            )
            return float((self.times * each)[counted].sum())

    def log_information(self, family: Family) -> float:
        """Return log det of the coefficients' information in the orthonormal basis."""
        W = self.evidence * self.slope**2 / family.variance(self.mu)
        return float(np.linalg.slogdet((self.basis * W[:, None]).T @ self.basis)[1])


def _rows(fit: Fitted) -> _Rows:
    solution, link = fit.solution, fit.link
    parts = list(LikelihoodBlocks(response_rows(fit)).pieces)
    eta = np.concatenate([linear(solution.fitted, part) for part in parts])
    totals = [part.trials for part in parts if part.trials is not None]

    def joined(name: str) -> np.ndarray:
        return np.concatenate([getattr(part, name) for part in parts])

    with np.errstate(all="ignore"):
        return _Rows(
            joined("y"),
            link.mu(eta),
            beyond(link, eta) if fit.family.shares else None,
            link.slope(eta),
            np.concatenate(totals) if totals else None,
            joined("evidence"),
            joined("times"),
            joined("precision"),
            np.vstack([solution.in_basis(part.X) for part in parts]),
        )


def _of_dispersions(fit: Fitted) -> Callable[[float], float]:
    """Return the restricted log likelihood of φ by the logarithm of φ over its estimate."""
    phi, p, rows = fit.estimate.dispersion or 1.0, fit.solution.rank, _rows(fit)
    return lambda log: rows.log_likelihood(fit.family, phi * float(np.exp(log))) + p * log / 2


def _of_shapes(fit: Fitted) -> Callable[[float], float]:
    """Return the restricted log likelihood of log k, coefficients held; flat in the root of 1/k."""
    rows = _rows(fit)

    def height(log_k: float) -> float:
        shaped = fit.family.with_shape(float(np.exp(log_k)))
        return rows.log_likelihood(shaped, 1.0) - rows.log_information(shaped) / 2 - log_k / 2

    return height
