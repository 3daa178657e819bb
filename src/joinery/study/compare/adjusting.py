"""The terms that each term is adjusted for, and the basis in which that is told."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from scipy import linalg

from joinery.core.blocks.partition import joined
from joinery.core.inference.covariance import Joint
from joinery.core.least_squares.solution import Solution
from joinery.core.least_squares.solve import least_squares
from joinery.design.design import Design
from joinery.design.factors import CategoryFactor
from joinery.design.row_blocks import WithResponse
from joinery.design.terms import DesignTerm
from joinery.notation.tree import Number, Power
from joinery.study.fitted import Fitted, once, response_rows, working_rows
from joinery.study.read.estimates import test_together
from joinery.support.errors import CallError

AFTER = ("earlier", "lower-order", "others")
ASKS = {
    "earlier": "each line asks what a term adds to those written before it; shares add up to R²",
    "lower-order": "each line asks what a term adds to all terms that do not contain it",
    "others": "each line asks what a term adds to all the others, its products among them",
}

DEFAULT = "lower-order"  # which asks the same in whatever order the terms are written
OTHER_QUESTIONS = (
    "after earlier it would be what a term adds to those written before it; after others, what it "
    "adds to all the others"
)


@dataclass(frozen=True)
class TermBasis:
    """A solution with its terms' places, and its basis within that of the fit itself."""

    solution: Solution
    terms: tuple[DesignTerm, ...]
    turn: np.ndarray | None = None  # (rank, rank): None where it is the fit's own

    def places(self, term: int) -> np.ndarray:
        """Return where a term's estimable columns stand in the factor."""
        columns = self.terms[term].columns
        kept = self.solution.kept
        return np.flatnonzero((kept >= columns.start) & (kept < columns.stop))

    def joined(self, chosen: list[int]) -> np.ndarray:
        """Return where the estimable columns of some terms stand, in the terms' order."""
        if not chosen:
            return np.empty(0, int)
        return np.concatenate([self._places[j] for j in chosen])

    @cached_property
    def _places(self) -> list[np.ndarray]:
        return [self.places(j) for j in range(len(self.terms))]

    def wald(self, fit: Fitted, before: list[int], terms: list[int]) -> Joint:
        """Return Wald's test of what a term adds to those before it, all others taken to be
        zero."""
        s = self.solution
        effects = s.basis_coefficients
        pad = np.zeros((int(s.has_intercept), len(s.kept)))
        R = np.vstack([pad, s.factor])  # in the whole basis, the intercept's direction first
        if s.has_intercept:
            constant = np.eye(s.rank)[:, :1]
        else:
            constant = np.zeros((s.rank, 0))
        if s.constant_direction is not None:
            constant = s.constant_direction[:, None]
        first = np.column_stack([constant, R[:, self.joined(before)]])
        rest = _complement(np.column_stack([first, R[:, self.joined(terms)]]))
        L = _complement(np.column_stack([first, rest])).T
        away, others = L @ effects, rest.T @ effects
        if self.turn is not None:
            L, rest = L @ self.turn.T, self.turn @ rest
        if rest.shape[1] and fit.sandwich is not None:
            V = np.vstack([rest.T, L]) @ fit.sandwich.meat @ np.column_stack([rest, L.T])
            k = rest.shape[1]
            pull = np.linalg.lstsq(V[:k, :k], V[:k, k:], rcond=None)[0].T
            L, away = L - pull @ rest.T, away - pull @ others
        return test_together(fit, L, away)


def _complement(A: np.ndarray) -> np.ndarray:
    """Return an orthonormal basis of what is at right angles to columns A (r, m)."""
    lengths = np.sqrt((A * A).sum(axis=0))
    unit = A / np.where(lengths > 0, lengths, 1.0)
    return np.asarray(linalg.null_space(unit.T, rcond=1e-9) if A.shape[1] else np.eye(len(A)))


def adjusted(terms: tuple[DesignTerm, ...], after: str) -> list[list[int]]:
    """For each term those that it is adjusted for."""
    every = range(len(terms))
    if after == "earlier":
        return [list(range(place)) for place in every]
    if after == "lower-order":
        holding = contained(terms)
    else:
        holding = (frozenset[int](),) * len(terms)
    return [[j for j in every if j != place and place not in holding[j]] for place in every]


def holds(degrees: dict[str, float], part: dict[str, float]) -> bool:
    """Return True if every factor of a part stands in the whole, to no lower degree."""
    return all(degrees.get(base, 0) >= degree for base, degree in part.items())


def contained(terms: tuple[DesignTerm, ...]) -> tuple[frozenset[int], ...]:
    """For each term the places of those that it contains."""
    degrees = [_degrees(term) for term in terms]
    having: dict[str, set[int]] = {}
    for place, member in enumerate(degrees):
        for base in member:
            having.setdefault(base, set()).add(place)
    near = [set().union(*(having[base] for base in full)) - {i} for i, full in enumerate(degrees)]
    return tuple(
        frozenset(j for j in near[i] if holds(full, degrees[j])) for i, full in enumerate(degrees)
    )


def _degrees(term: DesignTerm) -> dict[str, float]:
    out: dict[str, float] = {}
    for factor in term.factors:
        if isinstance(factor, CategoryFactor):
            out[factor.label] = 1.0
        else:
            power = factor.expression
            full = (
                isinstance(power, Power)
                and isinstance(power.exponent, Number)
                and factor.degree > 0
                and factor.degree == int(factor.degree)  # x is no part of √x
            )
            base, degree = (factor.base, factor.degree) if full else (str(factor.expression), 1.0)
            out[base] = out.get(base, 0.0) + degree
    return out


def term_basis(fit: Fitted, after: str) -> TermBasis:
    """Return the solution for what terms add, categories summing to zero where coding matters."""
    recode = after == "others" and coding_matters(fit.design)
    if recode:
        return _recoded(fit)
    return TermBasis(fit.solution, fit.design.terms)


def coding_matters(design: Design) -> bool:
    """Return True if some product has a category whose coding decides what its lower-order terms
    mean."""
    return any(len(t.factors) > 1 and t.categories for t in design.terms)


def recoded_design(design: Design) -> Design:
    """Return the same design with every category coded to sum to zero."""
    memory = {
        key: learnt | {"coding": "effect"} if learnt["kind"] == "category" else learnt
        for key, learnt in design.factor_memory.items()
    }
    return replace(design, factor_memory=memory)


@once
def _recoded(fit: Fitted) -> TermBasis:
    """Return the fit with categories coded to sum to zero: other coefficients, equal fitted
    values."""
    if fit.origin is None:
        raise CallError(
            "a fit loaded from a file keeps no rows to recode its categories with; use "
            "after='lower-order', "
            "or fit the table again"
        )
    design = recoded_design(fit.design)
    source = working_rows(fit)
    blocks = replace(response_rows(fit), design=design, partitioned_as=fit.design.block_width)
    response = joined(source.row_blocks, lambda block: block.beyond_offset)
    weights = joined(source.row_blocks, lambda block: block.row_weights)
    solution = least_squares(
        WithResponse(blocks, response, weights), intercept=design.intercept, n=fit.n_rows
    )
    # both bases span the same space, so that one is the other turned
    turn = np.zeros((fit.solution.rank, solution.rank))
    for a, b in zip(source.row_blocks, blocks.row_blocks, strict=True):
        turn += (fit.solution.in_basis(a.X) * weights[a.span, None]).T @ solution.in_basis(b.X)
    return TermBasis(solution, design.terms, turn)
