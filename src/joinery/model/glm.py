"""Generalized linear models on row blocks: the estimate, its figures, and what the reader must know."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from joinery.core import families
from joinery.core.families import FAMILIES, Family
from joinery.core.links import LINKS, Link
from joinery.core.reweighted import reweighted
from joinery.core.solution import Solution
from joinery.core.working import Turned, linear
from joinery.design.blocks import RowBlocks
from joinery.design.working import LikelyRows, WorkingRows, family_of, link_of
from joinery.errors import NothingEstimableError, UnusableColumnError, listed
from joinery.show.numbers import count, figure

__all__ = ["Glm", "WorkingRows", "family_of", "generalized", "glm_notes", "link_of"]
PENALTIES = ("firth",)
PENALIZED = ("binomial", "poisson")


@dataclass(frozen=True)
class Glm:
    """The figures of a generalized linear model that its last least squares does not hold."""

    family: str
    link: str
    deviance: float
    null_deviance: float
    pearson: float
    dispersion: float | None
    known: bool
    log_likelihood: float | None
    extra_parameters: int
    iterations: int
    converged: bool
    reason: str
    shape: float | None = None
    running: tuple[int, ...] = ()
    likely_dispersion: float | None = None
    penalty: str | None = None


def generalized(
    blocks: RowBlocks, family: str, link: str, *, intercept: bool, n: int, penalty: str | None
) -> tuple[Solution, Glm]:
    """Fits a family and link. Raises UnusableColumnError for responses that the family cannot have."""
    rows = LikelyRows(blocks)
    _check_response(blocks, rows, FAMILIES[family])
    found = reweighted(rows, FAMILIES[family], LINKS[link], intercept=intercept, n=n, firth=penalty == "firth")
    solution = _with_coefficients(found.solution, found.b)
    df = n - solution.rank
    known = found.family.known
    dispersion = 1.0 if known else found.pearson / df if df > 0 else None
    repeats, weights, total = [], [], 0.0
    for part in rows.pieces:
        r = part.times
        repeats.append(r)
        weights.append(part.precision)
    r, w = np.concatenate(repeats), np.concatenate(weights)
    likely = None
    if not known and found.family.likelihood:
        likely = families.likely_dispersion(found.family, found.deviance, w, r, float(r[w > 0].sum()))
    if found.family.likelihood and not (likely is not None and likely <= 0):
        for part, own in zip(rows.pieces, repeats, strict=True):
            eta = linear(found.b, part)
            single = np.where(part.precision > 0, part.precision, 1.0)
            each = families.log_likelihood(found.family, found.link, part.y, eta, single, part.trials, likely or 1.0)
            total += float((own * each)[part.precision > 0].sum())
    else:
        total = float("nan")
    extra = int(not known and found.family.likelihood) + int(np.isfinite(found.family.shape or np.inf))
    glm = Glm(
        family=family,
        link=link,
        deviance=found.deviance,
        null_deviance=_null_deviance(rows, found.family, LINKS[link], intercept, n),
        pearson=found.pearson,
        dispersion=dispersion,
        known=known,
        log_likelihood=None if np.isnan(total) else total,
        extra_parameters=extra,
        iterations=found.iterations,
        converged=found.converged,
        reason=found.reason,
        shape=found.family.shape,
        running=found.running,
        likely_dispersion=likely,
        penalty=penalty,
    )
    return solution, glm


def _with_coefficients(solution: Solution, b: np.ndarray) -> Solution:
    """The last least squares with exactly these coefficients."""
    coefficients = np.full(len(solution.coefficients), np.nan)
    coefficients[solution.kept] = b[solution.kept + 1]
    level = float(b[0] + solution.centre @ coefficients[solution.kept])
    constant = float(b[0]) if solution.has_intercept else None
    return replace(solution, coefficients=coefficients, intercept=constant, mean_response=level)


def _null_deviance(rows: LikelyRows, family: Family, link: Link, intercept: bool, n: int) -> float:
    """The deviance without terms; offset, weights and shape are kept. Without an intercept η is the offset alone."""
    bare = Turned(rows, 0, lambda part: replace(part, X=np.empty((len(part.y), 0))))
    if intercept:
        if family.name == "negative-binomial":
            family = replace(family, name="poisson")  # so that the shape is kept, not estimated anew
        return reweighted(bare, family, link, intercept=True, n=n).deviance
    total = 0.0
    with np.errstate(all="ignore"):
        for part in bare.pieces:
            mu = link.mu(linear(np.zeros(1), part))
            a = part.evidence
            total += float(a @ family.deviance(part.y, mu))
    return total if np.isfinite(total) else float("nan")


# ------------------------------------------------------------------ what a response must be


def _check_response(blocks: RowBlocks, rows: LikelyRows, family: Family) -> None:
    """Raises UnusableColumnError, with column and rows, for values the family cannot have."""
    y = np.concatenate([part.y for part in rows.pieces])
    trials = None
    if blocks.response.kind == "of":
        trials = np.concatenate([part.trials for part in rows.pieces if part.trials is not None])
    name = str(blocks.response.expression)
    total = str(blocks.response.total)

    def refuse(bad: np.ndarray, column: str, words: str) -> None:
        if bad.any():
            labels = list(blocks.table.labels(np.arange(len(blocks.table))[blocks.rows][bad]))
            where = f"in {count(len(labels), 'row')} ({listed(labels)})"
            raise UnusableColumnError(
                f"{column} {words} {where}; mend or leave out those rows", column=column, rows=labels
            )

    if trials is not None:
        refuse(~(trials > 0), total, "is zero or less")
        refuse(y < 0, name, "is below zero")
        refuse(y > 1, name, f"is above {total}")
    elif family.of_shares:
        refuse(~((y == 0) | (y == 1)), name, "is neither 0 nor 1 (of counts write `a of b`)")
    elif family.of_counts:
        refuse(y < 0, name, "is a negative count")
        if blocks.response.kind == "per":
            with np.errstate(all="ignore"):
                exposure = np.concatenate([part.offset for part in rows.pieces if part.offset is not None])
            refuse(~np.isfinite(exposure), total, "is no exposure above zero")
    elif family.low == 0:
        refuse(y <= 0, name, f"is zero or less, which the {family.name} family cannot have,")
    if len(np.unique(y)) == 1 and len(y) > 1:
        if family.of_shares and y[0] in (0.0, 1.0):
            what = "never" if y[0] == 0 else "always"
            raise NothingEstimableError(
                f"{name} is {what} so in all {count(len(y), 'row')}: there is nothing to explain"
            )
        if family.of_counts and y[0] == 0:
            raise NothingEstimableError(f"{name} is zero in all {count(len(y), 'row')}: there is nothing to explain")


def glm_notes(blocks: RowBlocks, glm: Glm, solution: Solution, asked: Mapping[str, Any]) -> Iterator[str]:
    """What the reader of such a fit must know."""
    names = ("intercept", *blocks.design.names)
    if glm.running:
        yield from _separation(blocks, glm, solution, names)
    elif not glm.converged:
        yield f"the iteration stopped after {count(glm.iterations, 'step')}: {glm.reason}"
    parts = list(LikelyRows(blocks).pieces)
    y = np.concatenate([p.y for p in parts])
    family = FAMILIES[glm.family]
    whole = y if parts[0].trials is None else y * np.concatenate([p.trials for p in parts if p.trials is not None])
    if (family.of_counts or family.of_shares) and np.any(np.abs(whole - np.round(whole)) > 1e-9):
        yield f"{blocks.response.expression} has fractional counts; they are taken as they are"
    if len(np.unique(y)) == 1:
        yield f"{blocks.response.name} is the same in every row, so there is nothing to explain"
    if asked["weights"] is not None and glm.known:
        yield f"under the {glm.family} family the scale of weights matters: each multiplies its row's evidence"
    if glm.family == "negative-binomial":
        if np.isinf(glm.shape or np.inf):
            yield "the counts spread no more than Poisson counts do: the shape k is infinite, and the fit is Poisson"
        else:
            yield f"variance μ + μ²/k with k = {figure(glm.shape, 3)}"
    if glm.penalty:
        yield "estimates are penalized by Firth's method, which keeps them finite; see coefficients(profile=True)"
    yield f"for the curious: {count(glm.iterations, 'step')}; {glm.reason}"


def _separation(blocks: RowBlocks, glm: Glm, solution: Solution, names: tuple[str, ...]) -> Iterator[str]:
    """Which terms separate the response, and the rows that they fit without error."""
    running = [names[j] for j in glm.running if j > 0] or [names[j] for j in glm.running]
    b, link = solution.whole, link_of(glm)
    sure: list[np.ndarray] = []
    for part in LikelyRows(blocks).pieces:
        mu = link.mu(linear(b, part))
        edge = (mu < 1e-6) | (mu > 1 - 1e-6) if FAMILIES[glm.family].of_shares else mu < 1e-6
        sure.append(edge)
    rows = np.arange(len(blocks.table))[blocks.rows][np.concatenate(sure)]
    labels = listed(blocks.table.labels(rows))
    offer = '; fit with penalty="firth" for finite estimates' if glm.family in PENALIZED else ""
    yield (
        f"separation: {listed(running)} tells the response without error in {count(len(rows), 'row')} ({labels}), "
        f"so that its estimate has no end and its standard error means nothing{offer}"
    )
