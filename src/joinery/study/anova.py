"""The ANOVA table: what each term explains beyond the terms it is adjusted for."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from scipy import linalg

from joinery.core import tails
from joinery.core.covariance import Joint
from joinery.core.hypotheses import extra
from joinery.core.pieces import joined
from joinery.core.solution import Solution
from joinery.core.solve import least_squares
from joinery.design.blocks import WithResponse
from joinery.design.design import Design, DesignTerm
from joinery.design.factors import CategoryFactor
from joinery.errors import CallError, listed, one_of
from joinery.notation.tree import Number, Power
from joinery.show.table import Table
from joinery.study.check_shape import lack_of_fit
from joinery.study.estimates import test_together
from joinery.study.fitted import Fitted, once, response_rows, working_rows

AFTER = ("earlier", "lower-order", "others")
ASKS = {
    "earlier": "each line asks what a term adds to those written before it; shares add up to R²",
    "lower-order": "each line asks what a term adds to all terms that do not contain it",
    "others": "each line asks what a term adds to all the other terms, the products that contain it among them",
}


@dataclass(frozen=True)
class Part:
    """One line: a term, the terms it is adjusted for, degrees of freedom, sum of squares in unit², F and its p."""

    term: str
    adjusted_for: str
    df: int
    ss: float
    f: float = float("nan")
    p: float = float("nan")


@dataclass(frozen=True)
class _Basis:
    """A solution with its terms' places among its columns, and how its basis lies in that of the fit itself."""

    solution: Solution
    terms: tuple[DesignTerm, ...]
    turn: np.ndarray | None = None  # (rank, rank): None where it is the fit's own

    def places(self, term: int) -> np.ndarray:
        """Where a term's estimable columns stand in the factor."""
        own = self.terms[term].columns
        kept = self.solution.kept
        return np.flatnonzero((kept >= own.start) & (kept < own.stop))

    def joined(self, chosen: list[int]) -> np.ndarray:
        return np.concatenate([np.empty(0, int), *(self.places(j) for j in chosen)])

    def wald(self, fit: Fitted, before: list[int], own: list[int]) -> Joint:
        """Wald's test of what a term adds to those before it, all others taken to be zero."""
        s = self.solution
        effects = np.linalg.solve(s.root, s.padded_coefficients[s.places + (not s.has_intercept)])
        pad = np.zeros((int(s.has_intercept), len(s.kept)))
        R = np.vstack([pad, s.factor])  # in the whole basis, the intercept's direction first
        constant = np.eye(s.rank)[:, :1] if s.has_intercept else np.zeros((s.rank, 0))
        if s.constant_direction is not None:
            constant = s.constant_direction[:, None]
        first = np.column_stack([constant, R[:, self.joined(before)]])
        rest = _complement(np.column_stack([first, R[:, self.joined(own)]]))
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
    """An orthonormal basis of what is at right angles to columns A (r, m)."""
    lengths = np.sqrt((A * A).sum(axis=0))
    unit = A / np.where(lengths > 0, lengths, 1.0)
    return np.asarray(linalg.null_space(unit.T, rcond=1e-9) if A.shape[1] else np.eye(len(A)))


def anova(fit: Fitted, after: str = "earlier") -> Table:
    """The ANOVA table. See ``Fit.anova``."""
    one_of("after", after, AFTER)
    if not fit.estimate.linear:
        from joinery.study.deviance import deviance_table

        table: Table = deviance_table(fit, after)
        return table
    unit = fit.solution.unit
    found = [*term_parts(fit, after), *_residual(fit)]
    with np.errstate(all="ignore"):  # infinite where a double cannot hold it
        ss = np.array([part.ss for part in found]) * unit * unit
    df = np.array([part.df for part in found])
    with np.errstate(all="ignore"):
        ms = np.where(df > 0, ss / df, np.nan)
        share = np.array([part.ss for part in found]) / fit.solution.tss if fit.solution.tss > 0 else np.nan * ss
    share[len(fit.design.terms) :] = np.nan
    return Table(
        {
            "term": [part.term for part in found],
            "adjusted_for": [part.adjusted_for for part in found],
            "df": df,
            "ss": ss,
            "ms": ms,
            "f": [part.f for part in found],
            "p": [part.p for part in found],
            "share": share,
        },
        title=f"What each term explains, after {after}",
        notes=tuple(_notes(fit, after)),
        kinds={"f": "own", "ss": "own", "ms": "own"},
    )


def term_parts(fit: Fitted, after: str) -> Iterator[Part]:
    """A line for each term."""
    basis = term_basis(fit, after)
    solution, terms = basis.solution, fit.design.terms
    g = solution.effects / solution.unit
    s2 = np.nan if fit.estimate.scale is None else (fit.estimate.scale / solution.unit) ** 2
    if solution.rss <= 0 and not fit.estimate.known:
        s2 = np.nan
    for place, term in enumerate(terms):
        before = adjusted(terms, place, after)
        own = basis.places(place)
        ss, df = extra(solution.factor, g, basis.joined(before), own, solution.constant_direction)
        f = ss / df / s2 if df and s2 > 0 else float("nan")
        df2, p = fit.estimate.reference_df, float("nan")
        if fit.sandwich is not None:
            f = float("nan")
            if after != "earlier" and df:
                joint = basis.wald(fit, before, [place])
                f, p = joint.f, joint.p
        elif np.isfinite(f) and df2 > 0:
            p = float(tails.f_upper(f, df, df2))
        names = [terms[j].text for j in before]
        words = listed(names, 4) or ("intercept" if solution.spans_constant else "nothing")
        yield Part(term.text, words, df, ss, f, p)


def adjusted(terms: tuple[DesignTerm, ...], place: int, after: str) -> list[int]:
    """The terms that a term is adjusted for."""
    if after == "earlier":
        return list(range(place))
    others = [j for j in range(len(terms)) if j != place]
    return others if after == "others" else [j for j in others if not contains(terms[j], terms[place])]


def contains(whole: DesignTerm, part: DesignTerm) -> bool:
    """Whether a term contains another, by factor and degree: x within x² within x²·z; log(x) is not x."""
    return whole != part and holds(_degrees(whole), _degrees(part))


def holds(whole: dict[str, float], part: dict[str, float]) -> bool:
    """Whether every factor of a part stands in the whole, to no lower degree."""
    return all(whole.get(base, 0) >= degree for base, degree in part.items())


def contained(terms: tuple[DesignTerm, ...]) -> tuple[frozenset[int], ...]:
    """For each term the places of those that it contains."""
    degrees = [_degrees(term) for term in terms]
    having: dict[str, set[int]] = {}
    for place, own in enumerate(degrees):
        for base in own:
            having.setdefault(base, set()).add(place)
    near = [set().union(*(having[base] for base in whole)) - {i} for i, whole in enumerate(degrees)]
    return tuple(frozenset(j for j in near[i] if holds(whole, degrees[j])) for i, whole in enumerate(degrees))


def _degrees(term: DesignTerm) -> dict[str, float]:
    out: dict[str, float] = {}
    for factor in term.factors:
        if isinstance(factor, CategoryFactor):
            out[factor.label] = 1.0
        else:
            power = factor.expression
            whole = isinstance(power, Power) and isinstance(power.exponent, Number) and factor.degree > 0
            base, degree = (factor.base, factor.degree) if whole else (str(factor.expression), 1.0)
            out[base] = out.get(base, 0.0) + degree
    return out


def _residual(fit: Fitted) -> Iterator[Part]:
    """The residual line, and what of it is lack of fit where rows with equal predictors repeat."""
    solution = fit.solution
    yield Part("residual", "", fit.residual_df, solution.rss)
    if fit.origin is None or solution.perfect or not fit.residual_df:
        return
    test = lack_of_fit(fit)
    if np.isfinite(test.statistic):
        df1, df2 = (int(v) for v in test.df)
        within = solution.rss / (1 + test.statistic * df1 / df2)
        yield Part("lack of fit", "all terms", df1, solution.rss - within, test.statistic, test.p)
        yield Part("within repeats", "", df2, within)


def term_basis(fit: Fitted, after: str) -> _Basis:
    """The solution that tells what terms add: with categories summing to zero where their coding matters."""
    recode = after == "others" and coding_matters(fit.design)
    return _recoded(fit) if recode else _Basis(fit.solution, fit.design.terms)


def coding_matters(design: Design) -> bool:
    """Whether some product has a category whose coding decides what its lower-order terms mean."""
    return any(len(t.factors) > 1 and t.categories for t in design.terms)


def recoded_design(design: Design) -> Design:
    """The same design with every category coded to sum to zero."""
    memory = {
        key: learnt | {"coding": "effect"} if learnt["kind"] == "category" else learnt
        for key, learnt in design.factor_memory.items()
    }
    return replace(design, factor_memory=memory)


@once
def _recoded(fit: Fitted) -> _Basis:
    """The fit with every category coded to sum to zero: the same fitted values, other coefficients."""
    if fit.origin is None:
        raise CallError(
            "a fit loaded from a file keeps no rows to recode its categories with; use after='lower-order', "
            "or fit the table again"
        )
    design = recoded_design(fit.design)
    own = working_rows(fit)
    blocks = replace(response_rows(fit), design=design, partitioned_as=fit.design.width)
    response = joined(own.row_blocks, lambda block: block.beyond_offset)
    weights = joined(own.row_blocks, lambda block: np.ones(len(block.y)) if block.weights is None else block.weights)
    solution = least_squares(WithResponse(blocks, response, weights), intercept=design.intercept, n=fit.n_rows)
    # both bases span the same space, so that one is the other turned
    turn = np.zeros((fit.solution.rank, solution.rank))
    for a, b in zip(own.row_blocks, blocks.row_blocks, strict=True):
        turn += (fit.solution.in_basis(a.X) * weights[a.own, None]).T @ solution.in_basis(b.X)
    return _Basis(solution, design.terms, turn)


def _notes(fit: Fitted, after: str) -> Iterator[str]:
    yield ASKS[after]
    if fit.sandwich is not None:
        yield (
            "with the chosen covariance there is no F after earlier: use after='lower-order' or 'others'"
            if after == "earlier"
            else "F is Wald's over its df, from the chosen covariance; sums of squares are the plain ones"
        )
    elif fit.residual_df:
        yield "F is a mean square over the residual one of the whole model"
    if after == "others":
        if coding_matters(fit.design):
            yield "categories are coded to sum to zero, so that a main effect is its mean over the other's levels"
        numeric = [t.text for t in fit.design.terms if len(t.factors) > 1 and len(t.categories) < len(t.factors)]
        if numeric:
            yield f"in {listed(numeric, 3)} a number takes part: the lines of its parts depend on where its zero lies"
    kept = fit.solution.kept
    lost = [t.text for t in fit.design.terms if not np.any((kept >= t.start) & (kept < t.columns.stop))]
    if lost:
        yield f"{listed(lost)}: nothing of its own is left to test, as other terms say the same"
