"""The rows of a generalized linear model at given coefficients: means, working response, working weights.

The working response is z = η + (y − μ)/(dμ/dη) with weights W = w(dμ/dη)²/V(μ) (McCullagh & Nelder 1989, 2.5).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from joinery.core.blocks import Block
from joinery.core.families import Family, share_deviance, start
from joinery.core.links import Link, shares
from joinery.core.pieces import Pieces
from joinery.core.products import across, gram, times
from joinery.core.solution import Solution

ROUGH_CELLS = 100_000


@dataclass(frozen=True)
class Part:
    """Some rows: X (m, k), y, likelihood weights (repeats among them), trials, offset, and which rows they are."""

    X: np.ndarray
    y: np.ndarray
    weights: np.ndarray
    trials: np.ndarray | None
    offset: np.ndarray | None
    repeats: np.ndarray | None = None

    @property
    def evidence(self) -> np.ndarray:
        """Weights times the trials: what a row's share of the likelihood is multiplied by."""
        return self.weights if self.trials is None else self.weights * self.trials

    @property
    def times(self) -> np.ndarray:
        """How many equal rows each stands for."""
        return np.ones(len(self.y)) if self.repeats is None else self.repeats

    @property
    def precision(self) -> np.ndarray:
        """Weights without the repeats."""
        return self.weights if self.repeats is None else self.weights / np.where(self.repeats > 0, self.repeats, 1.0)


class Parts(Protocol):
    """Parts of a table that can be gone through again."""

    @property
    def width(self) -> int: ...

    @property
    def pieces(self) -> Pieces[Part]: ...


@dataclass(frozen=True)
class Turned:
    """The same parts, each with something put in place of its own: other columns, another offset."""

    parts: Parts
    width: int
    turn: Callable[[Part], Part]

    @property
    def pieces(self) -> Pieces[Part]:
        return self.parts.pieces.map(self.turn)


@dataclass(frozen=True)
class Working:
    """The rows of a generalized linear model as blocks of weighted least squares at given coefficients.

    ``b`` is [intercept or 0, k coefficients with 0 where not estimable]; None stands for the family's first means.
    """

    parts: Parts
    family: Family
    link: Link
    b: np.ndarray | None
    adjust: Solution | None = None  # the last solution, when Firth's penalty asks for leverages

    @property
    def width(self) -> int:
        return self.parts.width

    @property
    def pieces(self) -> Pieces[Block]:
        def block(part: Part) -> Block:
            own = state(self, part)
            return part.X, own.z, own.W

        return self.parts.pieces.map(block)


@dataclass(frozen=True)
class State:
    """What some rows are at given coefficients, each (m,): ``residual`` is the working one, z − η."""

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
        return z if self.offset is None else z - self.offset


def state(working: Working, part: Part) -> State:
    """η, μ, working response and working weights of some rows."""
    family, link = working.family, working.link
    a = part.evidence
    with np.errstate(all="ignore"):
        if working.b is None:
            eta = link.eta(start(family, part.y, part.trials))
        else:
            eta = linear(working.b, part)
        rest, yes_no = None, False
        if family.of_shares:
            mu, rest = shares(link, eta)
            V, yes_no = mu * rest, np.array_equal(part.y * part.y, part.y)
            away = np.where(part.y > 0, rest, -mu) if yes_no else part.y * rest - (1 - part.y) * mu
        else:
            mu = link.mu(eta)
            V, away = family.variance(mu), part.y - mu
        slope = V if link.name == "logit" else link.slope(eta)
        W = a * V if link.name == "logit" else a * slope * slope / V
        residual = away / slope
        # the ends of many values tell sooner than each of them
        if not (len(W) and W.min() > 0 and np.isfinite(W.max() + residual.min() + residual.max())):
            good = (W > 0) & np.isfinite(W + residual)
            W, residual = np.where(good, W, 0.0), np.where(good, residual, 0.0)
        if working.adjust is not None and working.b is not None:
            h = W * working.adjust.unscaled_variance(part.X)
            residual = residual + np.where(W > 0, 0.5 * h * _log_weight_slope(family, link, eta) / W, 0.0)
    return State(eta, mu, residual, W, slope, part.offset, rest, yes_no)


def _log_weight_slope(family: Family, link: Link, eta: np.ndarray) -> np.ndarray:
    """d log W/dη, which is 1 − 2μ for the logit."""
    h = 1e-5 * np.maximum(1.0, np.abs(eta))

    def log_weight(at: np.ndarray) -> np.ndarray:
        mu = link.mu(at)
        return np.asarray(2 * np.log(np.abs(link.slope(at))) - np.log(family.variance(mu)))

    if family.of_shares and link.name == "logit":
        return np.asarray(1 - 2 * link.mu(eta))
    return np.asarray((log_weight(eta + h) - log_weight(eta - h)) / (2 * h))


def linear(b: np.ndarray, part: Part) -> np.ndarray:
    """η = b₀ + Xb + offset."""
    eta = times(part.X, b[1:]) + b[0]
    return eta if part.offset is None else eta + part.offset


def unit_deviance(family: Family, y: np.ndarray, own: State) -> np.ndarray:
    """Unit deviances, those of shares with all the digits of 1 − μ."""
    if own.rest is None:
        return family.deviance(y, own.mu)
    if own.yes_no:
        found = np.log(np.maximum(np.where(y > 0, own.mu, own.rest), 1e-320))
        found *= -2
        return np.asarray(found)
    return share_deviance(y, own.mu, own.rest)


def products(X: np.ndarray, W: np.ndarray, e: np.ndarray, *, rough: bool = False) -> tuple[np.ndarray, np.ndarray]:
    """[1, X]ᵀW[1, X] and [1, X]ᵀe; the first ``rough``, in single precision, where there is much of it.

    A step needs no more: what it leaves undone the next one, from exact gradients, makes good.
    """
    root = np.sqrt(np.abs(W))
    H = np.empty((X.shape[1] + 1, X.shape[1] + 1))
    if rough and X.size > ROUGH_CELLS:
        single = X.T.astype(np.float32)
        single *= root.astype(np.float32)
        H[1:, 1:] = gram(single.T)
    else:
        Xw = X * root[:, None]
        H[1:, 1:] = gram(Xw) if np.all(W >= 0) else across(Xw.T, Xw * np.sign(W)[:, None])
    H[0, 1:], slopes = across(np.vstack([W, e]), X)  # both in one go through X
    H[1:, 0] = H[0, 1:]
    H[0, 0] = W.sum()
    return H, np.append(e.sum(), slopes)


def observed_weights(working: Working, part: Part, own: State) -> np.ndarray:
    """−d/dη of each row's score w(y − μ)(dμ/dη)/V: Newton's weights, by differences."""
    a = part.evidence
    family, link = working.family, working.link
    h = 1e-6 * np.maximum(1e-3, np.abs(own.eta))

    def score(eta: np.ndarray) -> np.ndarray:
        mu = link.mu(eta)
        return np.asarray(a * (part.y - mu) * link.slope(eta) / family.variance(mu))

    found = (score(own.eta - h) - score(own.eta + h)) / (2 * h)
    return np.asarray(np.where(np.isfinite(found), found, own.W))
