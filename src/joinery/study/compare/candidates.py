"""The candidate models of a fit, for a stepwise search: from a factor, or each estimated anew."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Protocol

import numpy as np

from joinery.core.blocks.columns import dense
from joinery.core.blocks.partition import joined
from joinery.core.glm.families import FAMILIES
from joinery.core.glm.rows import LikelihoodRows
from joinery.core.inference.likelihood_candidates import LikelihoodCandidates
from joinery.core.inference.linear_candidates import LinearCandidates, WeightedRows
from joinery.core.inference.stepwise import Candidates, Model, Path, Rules, stepwise_path
from joinery.core.numeric.triangular import triangle
from joinery.design.glm_blocks import LikelihoodBlocks
from joinery.design.row_blocks import RowBlock
from joinery.study.fitted import Fitted, fitted_rows, response_rows, rows_at_hand
from joinery.study.resample.crosscheck import FOLDS

Needs = tuple[frozenset[int], ...]


class Choosing(Protocol):
    """A search's question to its candidates."""

    @property
    def criterion(self) -> str: ...

    @property
    def limit(self) -> float: ...

    @property
    def leave(self) -> float | None: ...

    @property
    def seed(self) -> int | None: ...


class Search(Protocol):
    """A search among the terms of a fit, which can be made again without some rows."""

    @property
    def candidates(self) -> Candidates:
        """Return the models that are searched."""

    @property
    def n(self) -> int: ...

    def path(self) -> Path:
        """Return the steps on all rows."""

    def choice_repeated(self, final: Model) -> tuple[float, float]:
        """Return the error of the whole choice on rows not seen, and that of ``final`` on its."""


@dataclass(frozen=True, eq=False)
class _Plan:
    """From which terms a search starts, which stay, by which rules; how many rows to deal."""

    start: frozenset[int]
    kept: frozenset[int]
    rules: Rules
    rows: int
    seed: int | None

    @cached_property
    def deal(self) -> np.ndarray:
        """The fold of each row."""
        return np.random.default_rng(self.seed).permutation(self.rows) % FOLDS

    def path(self, candidates: Candidates) -> Path:
        return stepwise_path(candidates, self.start, self.kept, self.rules)


def search_of(
    largest: Fitted,
    needs: Needs,
    kept: frozenset[int],
    choice: Choosing,
    *,
    add: bool,
    drop: bool,
) -> Search:
    """Return the search that a family calls for."""
    rules = Rules(
        add,
        drop,
        choice.criterion == "p",
        choice.limit,
        choice.limit if choice.leave is None else choice.leave,
    )
    plan = _Plan(kept, kept, rules, rows_at_hand(largest)[1].used, choice.seed)
    if largest.estimate.linear:
        linear = _linear(largest, needs, choice.criterion)
        return LinearSearch(largest, linear, replace(plan, start=_start(plan, linear.groups)))
    likely = _likely(largest, needs, choice.criterion, plan.deal)
    return LikelihoodSearch(likely, replace(plan, start=_start(plan, likely.groups)))


def _start(plan: _Plan, groups: tuple[np.ndarray, ...]) -> frozenset[int]:
    """Return what stays, or all terms that have columns where they are only dropped."""
    if plan.rules.add:
        return plan.kept
    return frozenset(g for g in range(len(groups)) if len(groups[g]) or g in plan.kept)


# ------------------------------------------------------------------ any family


@dataclass(frozen=True, eq=False)
class LikelihoodSearch:
    """Models of any family, each estimated anew."""

    candidates: LikelihoodCandidates
    plan: _Plan

    @property
    def n(self) -> int:
        return self.candidates.n

    def path(self) -> Path:
        return self.plan.path(self.candidates)

    def choice_repeated(self, final: Model) -> tuple[float, float]:
        c, total = self.candidates, 0.0
        for fold in range(FOLDS):
            held = self.plan.deal == fold
            chosen = self.plan.path(c.without(held)).final.chosen
            total += c.unseen_misfit(chosen, held)
        return total / c.n, final.misfit / c.n


def _likely(
    largest: Fitted, needs: Needs, criterion: str, deal: np.ndarray
) -> LikelihoodCandidates:
    rows = _in_one(list(LikelihoodBlocks(response_rows(largest)).pieces))
    kept = set(map(int, largest.solution.kept))
    if len(kept) < largest.design.width:  # some depend on others, perhaps of other terms
        one = int(largest.design.intercept)
        R = triangle(np.column_stack([*[np.ones(len(rows.y))] * one, dense(rows.X)]))
        kept = _independent(R[one:, one:], largest)
    groups = tuple(
        np.array([j for j in range(t.columns.start, t.columns.stop) if j in kept], int)
        for t in largest.design.terms
    )
    return LikelihoodCandidates(
        rows,
        groups,
        needs,
        largest.n_rows,
        FAMILIES[largest.family.name],
        largest.link,
        largest.design.intercept,
        largest.options.dispersion,
        criterion,
        deal,
    )


def _in_one(parts: list[LikelihoodRows]) -> LikelihoodRows:
    """Return the rows of all parts."""

    def every(name: str) -> np.ndarray | None:
        values = [getattr(part, name) for part in parts]
        if values[0] is None:
            return None
        return np.concatenate(values)

    y, weights = (np.concatenate([getattr(p, name) for p in parts]) for name in ("y", "weights"))
    X = np.concatenate([dense(p.X) for p in parts])
    return LikelihoodRows(X, y, weights, every("trials"), every("offset"), every("repeats"))


# ------------------------------------------------------------------ least squares


@dataclass(frozen=True, eq=False)
class LinearSearch:
    """Models of least squares, all from one factor."""

    largest: Fitted
    candidates: LinearCandidates
    plan: _Plan

    @property
    def n(self) -> int:
        return self.candidates.n

    def path(self) -> Path:
        return self.plan.path(self.candidates)

    def choice_repeated(self, final: Model) -> tuple[float, float]:
        c, unit = self.candidates, self.largest.solution.unit
        folds = fold_factors(self.largest, self.plan.deal)
        total = weight = 0.0
        for held, member in enumerate(folds):
            others = [f for i, f in enumerate(folds) if i != held]
            rest = triangle(np.vstack([f.R for f in others]))
            if c.rows is None:
                rows = None
            else:
                rows = c.rows.without(self.plan.deal == held)
            part = replace(c, R=_centred(rest, c.constant), n=sum(f.n for f in others), rows=rows)
            columns = c.columns(self.plan.path(part).final.chosen) + 1
            columns = np.append(np.zeros(c.constant, int), columns)
            T = triangle(rest[:, np.append(columns, rest.shape[1] - 1)])
            b = np.linalg.lstsq(T[: len(columns), :-1], T[: len(columns), -1], rcond=None)[0]
            miss = member.R[:, -1] - member.R[:, columns] @ b
            total += float(miss @ miss)
            weight += float(member.R[:, 0] @ member.R[:, 0])
        return float(np.sqrt(total / weight) * unit), float(np.sqrt(final.misfit / weight) * unit)


def _linear(largest: Fitted, needs: Needs, criterion: str) -> LinearCandidates:
    """Return the factor of all columns with the response, groups by term.

    From the rows again where columns are too many.
    """
    solution, terms, n = largest.solution, largest.design.terms, largest.n_rows
    c, known = int(solution.has_intercept), None
    if isinstance(largest.options.dispersion, float):
        known = largest.options.dispersion / solution.unit**2
    if largest.residual_df and len(solution.kept) == largest.design.width:
        R = np.zeros((len(solution.kept) + 1, len(solution.kept) + 1))
        R[:-1, :-1], R[:-1, -1] = solution.factor, solution.effects / solution.unit
        R[-1, -1] = np.sqrt(solution.rss)
        used = set(range(largest.design.width))
    else:
        every = np.zeros(len(_times(largest)), int)
        R = _centred(fold_factors(largest, every)[0].R, c)
        used = _independent(R[:, :-1], largest)
    groups = tuple(
        np.array([j for j in range(t.columns.start, t.columns.stop) if j in used], int)
        for t in terms
    )
    if criterion == "crosscheck":
        rows = _weighted_rows(largest)
    else:
        rows = None
    # what the log likelihood has beside the residual sum of squares: the weights and the response's
    # unit
    scale = largest.asides.evidence(fitted_rows(largest))[1] - 2 * n * float(np.log(solution.unit))
    return LinearCandidates(R, groups, needs, n, c, criterion, scale, known, rows)


def _times(fit: Fitted) -> np.ndarray:
    """Return how often each row that a fit used stands."""
    rows = fitted_rows(fit)
    if rows.counts is None:
        return np.ones(rows.table.count(rows.rows))
    return rows.counts


def _independent(R: np.ndarray, largest: Fitted) -> set[int]:
    """Return columns that are neither zero nor, within their term, combinations of one another."""
    out: set[int] = set()
    for term in largest.design.terms:
        columns: list[int] = []
        for j in range(term.columns.start, term.columns.stop):
            T = triangle(R[:, [*columns, j]])
            if abs(T[len(columns), len(columns)]) > 1e-9 * max(
                float(np.linalg.norm(R[:, j])), 1e-300
            ):
                columns.append(j)
        out |= set(columns)
    return out


def _centred(R: np.ndarray, constant: int) -> np.ndarray:
    """Return a factor of [1, columns | y] without its constant: about the means with an
    intercept."""
    if constant:
        return R[1:, 1:]
    return R[:, 1:]


@dataclass(frozen=True)
class _Fold:
    """The factor of [1, columns | y] of some rows, y in the solution's unit."""

    R: np.ndarray
    n: int


def fold_factors(largest: Fitted, deal: np.ndarray) -> list[_Fold]:
    """Return factors of the rows that are dealt (m,) to each fold."""
    times, unit = _times(largest), largest.solution.unit
    count = int(deal.max()) + 1
    factors = [np.zeros((0, largest.design.width + 2)) for _ in range(count)]
    for block in response_rows(largest).row_blocks:
        A = np.column_stack([np.ones(len(block.y)), block.X, block.beyond_offset / unit])
        if block.weights is not None:
            A *= np.sqrt(block.weights)[:, None]
        result = deal[block.span]
        for fold in range(count):
            part = A[result == fold]
            if len(part):
                factors[fold] = triangle(np.vstack([factors[fold], part]))
    return [_Fold(R, int(times[deal == fold].sum())) for fold, R in enumerate(factors)]


def _weighted_rows(largest: Fitted) -> WeightedRows:
    """Return one of each row, [1, columns | y] times √w."""

    def rows(block: RowBlock) -> np.ndarray:
        A = np.column_stack([np.ones(len(block.y)), block.X, block.beyond_offset])
        return np.asarray(A * np.sqrt(block.precisions)[:, None])

    return WeightedRows(joined(response_rows(largest).row_blocks, rows), _times(largest))
