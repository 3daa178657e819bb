"""The numeric terms of a fit, and the kept columns of any term."""

from __future__ import annotations

from collections.abc import Container

from joinery.design.factors import NumberFactor
from joinery.design.terms import DesignTerm
from joinery.study.fitted import Fitted


def highest_powers(fit: Fitted) -> dict[str, float]:
    """Return the highest power of each base that stands alone as a term."""
    out: dict[str, float] = {}
    for term in fit.design.terms:
        factor = term.factors[0]
        if len(term.factors) == 1 and isinstance(factor, NumberFactor):
            out[factor.base] = max(factor.degree, out.get(factor.base, factor.degree))
    return out


def column_means(fit: Fitted) -> dict[int, float]:
    """Return the mean of each kept column of the design, by its place."""
    solution = fit.solution
    return dict(zip(solution.kept.tolist(), solution.centre.tolist(), strict=True))


def kept_columns(term: DesignTerm, kept: Container[int]) -> list[int]:
    """Return the places of a term's columns that are kept."""
    return [place for place in range(term.columns.start, term.columns.stop) if place in kept]


def numbers_alone(fit: Fitted) -> list[tuple[NumberFactor, int]]:
    """Return each numeric factor that is a kept term of its own, once for each base, with its
    column.

    Comparisons do not bend.
    """
    out: dict[str, tuple[NumberFactor, int]] = {}
    for term in fit.design.terms:
        factor = term.factors[0]
        if len(term.factors) == 1 and isinstance(factor, NumberFactor) and factor.degree == 1:
            out.setdefault(factor.base, (factor, term.start))
    kept = set(fit.solution.kept.tolist())
    return [(f, c) for f, c in out.values() if c in kept]
