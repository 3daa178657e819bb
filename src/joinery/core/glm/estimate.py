"""One estimate for every family, least squares included."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from joinery.core.blocks.blocks import Blocks
from joinery.core.blocks.products import inner
from joinery.core.glm.families import Family
from joinery.core.glm.irls import reweighted
from joinery.core.glm.likeliest import Iterated
from joinery.core.glm.likelihood import log_likelihood
from joinery.core.glm.links import Link, beyond
from joinery.core.glm.penalized import penalized
from joinery.core.glm.rows import LikelihoodRows, LikelihoodSource, MappedRows, overall_mean
from joinery.core.least_squares.solution import Solution
from joinery.core.least_squares.solve import least_squares

Dispersion = float | Literal["estimated"] | None


@dataclass(frozen=True)
class Estimate:
    """An estimate of any family.

    ``solution`` is the least squares; under other families the weighted one of the last step.
    """

    solution: Solution
    family: Family  # with its shape, where it has one
    link: Link
    deviance: float  # for least squares the residual sum of squares
    null_deviance: float  # without terms, the shape held; offset and weights are kept
    pearson: float  # Σ w(y − μ)²/V
    # √φ, what standard errors are multiples of; None where no degrees of freedom are left
    scale: float | None
    known: bool  # whether φ was known beforehand
    # whether responses have a distribution: not where φ is estimated for binomial or poisson
    law: bool
    log_likelihood: float | None
    parameters: int  # coefficients, and one more for an estimated dispersion or shape
    # the maximum-likelihood φ, or the known one; None where there is none
    likely_dispersion: float | None
    # what the terms take off no terms: deviance, penalized where the fit is, or 2Δ log likelihood
    overall_drop: float
    iterations: int | None  # None for least squares, which are solved at once
    converged: bool
    reason: str  # why the iteration stopped
    running: tuple[int, ...]  # columns (0 the constant) whose coefficients grow without end
    penalty: str | None
    edge: bool = False  # whether the likeliest means lie at an edge of what the family admits

    @property
    def linear(self) -> bool:
        """Return True if it is least squares of the response itself."""
        return is_linear(self.family, self.link)

    @property
    def dispersion(self) -> float | None:
        """φ."""
        if self.scale is None:
            return None
        return self.scale * self.scale

    @property
    def reference_df(self) -> float:
        """Degrees of freedom of t and F: the residual ones, ∞ where the dispersion is known."""
        if self.known:
            return math.inf
        return float(max(self.solution.residual_df, 0))

    @property
    def model_df(self) -> int:
        """Coefficients beside the constant."""
        return self.solution.rank - self.solution.spans_constant


def is_linear(family: Family, link: Link) -> bool:
    """Return True if a family and link are least squares of the response itself."""
    return family.canonical == link.name == "identity"


def estimate(
    blocks: Blocks,
    rows: LikelihoodSource,
    family: Family,
    link: Link,
    *,
    intercept: bool,
    n: int,
    dispersion: Dispersion,
    penalty: str | None,
    log_weights: float,
) -> Estimate:
    """Estimate a model.

    Parameters
    ----------
    blocks, rows: the same rows, as blocks of least squares and as the likelihood sees them.
    family, link: what is fitted.
    intercept: whether there is a constant beside the columns.
    n: how many rows they stand for.
    dispersion: a known φ, ``"estimated"``, or None for what the family says.
    penalty: ``"firth"`` or None.
    log_weights: Σ log w over the rows.
    """
    if is_linear(family, link):
        return _least_squares(blocks, family, link, intercept, n, dispersion, log_weights)
    return _iterated(rows, family, link, intercept, n, dispersion, penalty)


def _least_squares(
    blocks: Blocks,
    family: Family,
    link: Link,
    intercept: bool,
    n: int,
    dispersion: Dispersion,
    log_weights: float,
) -> Estimate:
    s = least_squares(blocks, intercept=intercept, n=n)
    known = isinstance(dispersion, float)
    if s.residual_df > 0:
        scale = math.sqrt(s.rss / s.residual_df) * s.unit
    else:
        scale = None
    likelihood = None
    if known:
        assert isinstance(dispersion, float)
        scale = math.sqrt(dispersion)
        share = s.rss * (s.unit / scale) ** 2
        likelihood = -0.5 * (n * math.log(2 * math.pi * dispersion) + share - log_weights)
    elif s.rss > 0:
        # at the likeliest dispersion; the response's unit comes in as a logarithm, so that nothing
        # overflows
        likelihood = (
            -n / 2 * (math.log(2 * math.pi * s.rss / n) + 1)
            - n * math.log(s.unit)
            + log_weights / 2
        )
    return Estimate(
        solution=s,
        family=family,
        link=link,
        deviance=s.rss * s.unit * s.unit,
        null_deviance=s.tss * s.unit * s.unit,
        pearson=s.rss * s.unit * s.unit,
        scale=scale,
        known=known,
        law=True,
        log_likelihood=likelihood,
        parameters=s.rank + (not known),
        likely_dispersion=scale * scale
        if known and scale is not None
        else s.rss / n * s.unit * s.unit,
        overall_drop=(s.tss - s.rss) * s.unit * s.unit,
        iterations=None,
        converged=True,
        reason="",
        running=(),
        penalty=None,
    )


def _iterated(
    rows: LikelihoodSource,
    family: Family,
    link: Link,
    intercept: bool,
    n: int,
    dispersion: Dispersion,
    penalty: str | None,
) -> Estimate:
    phi = 1.0 if dispersion is None and family.known_dispersion else dispersion
    if isinstance(phi, float):
        known = phi
    else:
        known = None
    objective = None
    if penalty is None:
        fit = reweighted(rows, family, link, intercept=intercept, n=n, dispersion=known)
    else:
        best = penalized(rows, family, link, intercept=intercept, n=n)
        fit, objective = best.fit, best.objective
    df = n - fit.solution.rank
    if known is not None:
        scale = math.sqrt(known)
    elif df > 0:
        scale = math.sqrt(fit.pearson / df)
    else:
        scale = None
    law = not family.quasi or known == 1.0
    likely, likelihood, parameters = likelihood_and_parameters(rows, fit, known, law=law)
    null = _null_deviance(rows, fit, n)
    return Estimate(
        solution=fit.solution,
        family=fit.family,
        link=link,
        deviance=fit.deviance,
        null_deviance=null,
        pearson=fit.pearson,
        scale=scale,
        known=known is not None,
        law=law,
        log_likelihood=likelihood,
        parameters=parameters,
        likely_dispersion=likely,
        overall_drop=_overall_drop(rows, fit, n, objective, null, likelihood),
        iterations=fit.iterations,
        converged=fit.converged,
        reason=fit.reason,
        edge=fit.edge,
        running=fit.running,
        penalty=penalty,
    )


def likelihood_and_parameters(
    rows: LikelihoodSource, fit: Iterated, known: float | None, *, law: bool
) -> tuple[float | None, float | None, int]:
    """Return the likeliest dispersion, the log likelihood there, and how many were estimated.

    One for each coefficient, one more for an estimated dispersion or shape. ``law``: whether
    responses have a distribution."""
    extra = int(known is None and law) + int(math.isfinite(fit.family.shape or math.inf))
    likely, likelihood = _likelihood(rows, fit, known) if law else (None, None)
    return likely, likelihood, fit.solution.rank + extra


def _likelihood(
    rows: LikelihoodSource, fit: Iterated, known: float | None
) -> tuple[float | None, float | None]:
    """Return the likeliest dispersion (or the known one) and the log likelihood there.

    None for a perfect fit.
    """
    likely = known
    if likely is None:
        parts = list(rows.pieces.each(lambda part: (part.times.copy(), part.precision.copy())))
        r, w = (np.concatenate(values) for values in zip(*parts, strict=True))
        likely = fit.family.likely_dispersion(fit.deviance, w, r)
    if likely is None or likely <= 0:
        return likely, None
    total = log_likelihood(rows, fit, likely)
    return likely, total if math.isfinite(total) else None


def _without_columns(rows: LikelihoodSource) -> MappedRows:
    return MappedRows(rows, 0, lambda part: replace(part, X=np.empty((len(part.y), 0))))


def _overall_drop(
    rows: LikelihoodSource,
    fit: Iterated,
    n: int,
    penalized_deviance: float | None,
    null_deviance: float,
    likelihood: float | None,
) -> float:
    """Return the fall from the model without terms: the penalty of all columns, a new shape."""
    family, link = fit.family, fit.link
    if penalized_deviance is not None:
        nothing = np.empty(0, int)
        null = penalized(
            rows, family, link, intercept=fit.solution.has_intercept, n=n, columns=nothing
        )
        return null.objective - penalized_deviance
    if family.shape is not None and fit.solution.spans_constant and likelihood is not None:
        bare = _without_columns(rows)
        return 2 * (
            likelihood - log_likelihood(bare, reweighted(bare, family, link, intercept=True, n=n))
        )
    return null_deviance - fit.deviance


def _null_deviance(rows: LikelihoodSource, fit: Iterated, n: int) -> float:
    """Return the deviance without terms, the shape held.

    The constant stays where the columns hold it, written or not; else η is the offset alone.
    """
    family, link, bare, level = fit.family, fit.link, _without_columns(rows), 0.0
    if fit.solution.spans_constant:
        common = _common_level(rows, fit)
        if common is None:
            return reweighted(bare, family, link, intercept=True, n=n, keep_shape=True).deviance
        level = common

    def of_part(part: LikelihoodRows) -> float:
        if part.offset is None:
            eta = np.full(len(part.y), level)
        else:
            eta = part.offset + level
        each = family.deviance(part.y, link.mu(eta), beyond(link, eta) if family.shares else None)
        return inner(part.evidence, each)

    with np.errstate(all="ignore"):
        total = sum(bare.pieces.each(of_part), 0.0)
    if math.isfinite(total):
        return total
    return float("nan")


def _common_level(rows: LikelihoodSource, fit: Iterated) -> float | None:
    """Return η of rows that all have one mean: whatever family and link, that is the responses'
    mean.

    None where offsets part them, or the mean is one that the link does not reach."""
    if any(rows.pieces.only(0).each(lambda part: part.offset is not None)):
        return None
    mean = overall_mean(rows)
    low, high = fit.family.mean_range
    if not low < mean < high:
        return None
    with np.errstate(all="ignore"):
        eta = float(fit.link.eta(np.array([mean]))[0])
    if math.isfinite(eta):
        return eta
    return None
