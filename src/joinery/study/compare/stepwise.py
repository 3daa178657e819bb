"""Stepwise choice of terms, from one factor of the largest model."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from joinery.core.inference.stepwise import Candidates, Move, stepwise_path
from joinery.core.numeric.triangular import triangle
from joinery.errors import CallError
from joinery.notation.tree import Sentence, Term
from joinery.show.numbers import figure, p_value
from joinery.show.table import Table
from joinery.study.compare.adjusting import contained
from joinery.study.fitted import Fitted, response_rows
from joinery.study.rows.figures import per_row

MOVES = {"add": (True, False), "drop": (False, True), "add and drop": (True, True)}
CRITERIA = ("aic", "bic", "adjusted r2", "p")
WORDS = {"aic": "AIC", "bic": "BIC", "adjusted r2": "adjusted R²", "p": "p"}
FOLDS, MOST_TRIED = 10, 6


@dataclass(frozen=True)
class Rules:
    """How terms are chosen: moves, criterion, limits of p to enter and leave, the seed."""

    moves: str
    criterion: str
    enter: float
    leave: float
    seed: int | None


@dataclass(frozen=True, eq=False)
class Steps:
    """How a choice went, from the largest model."""

    largest: Fitted
    moves: tuple[Move, ...]
    rules: Rules
    start: frozenset[int]  # the terms it began with
    kept: frozenset[int]  # the terms that always stay
    candidates: Candidates

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(t.text for t in self.largest.design.terms)

    @cached_property
    def final(self) -> Fitted:
        """The model that the steps ended in, fitted to the same rows."""
        assert self.largest.origin is not None
        return replace(
            self.largest.origin.refit(sentence=self._chosen), changes=("chosen stepwise",)
        )

    @property
    def _chosen(self) -> Sentence:
        sentence = self.largest.design.sentence
        return replace(
            sentence,
            written=tuple(t for i, t in enumerate(sentence.terms) if i in self.moves[-1].chosen),
        )

    @cached_property
    def table(self) -> Table:
        """Each step: what moved, the figures after it, and what was tried."""
        c = self.candidates
        n, tss, unit = c.n, self.largest.solution.tss, self.largest.solution.unit
        rows = [
            m
            for m in self.moves
            if m.group is not None or m is self.moves[0] or m is self.moves[-1]
        ]
        last = len(rows) - 1
        return Table(
            {
                "step": list(range(len(rows))),
                "move": [_moved(m, i, last) for i, m in enumerate(rows)],
                "term": ["" if m.group is None else self.names[m.group] for m in rows],
                "terms": [len(m.chosen) for m in rows],
                "r_squared": [1 - m.rss / tss for m in rows],
                "adjusted_r_squared": [
                    1 - m.rss / max(n - m.rank, 1) / (tss / (n - c.constant)) for m in rows
                ],
                "residual_sd": [np.sqrt(m.rss / (n - m.rank)) * unit for m in rows],
                "aic": [c.information(m.rss, m.rank, 2.0) for m in rows],
                "bic": [c.information(m.rss, m.rank, float(np.log(n))) for m in rows],
                "tried": [self._tried(m) for m in rows],
            },
            title=f"Steps by {WORDS[self.rules.criterion]}, {self.rules.moves}",
            notes=tuple(self._notes()),
            kinds={
                "step": "whole",
                "terms": "whole",
                "tried": "text",
                "r_squared": "own",
                "adjusted_r_squared": "own",
            },
            headings={
                "r_squared": "R²",
                "adjusted_r_squared": "adjusted R²",
                "aic": "AIC",
                "bic": "BIC",
            },
        )

    def _tried(self, move: Move) -> str:
        sign = -1 if self.rules.criterion == "adjusted r2" else 1
        show = p_value if self.rules.criterion == "p" else lambda v: figure(sign * v, 5)
        words = [
            f"{'+' if added else '−'} {self.names[g]} {show(score)}"
            for added, g, score in move.tried[:MOST_TRIED]
        ]
        more = len(move.tried) - MOST_TRIED
        return "; ".join(words) + (f"; {more} more" if more > 0 else "")

    def _notes(self) -> Iterator[str]:
        yield f"chosen: {self._chosen}"
        yield (
            "p-values and intervals of a model chosen so are too small and too narrow: the same "
            "data chose it; "
            "the crosscheck repeats the whole choice on rows it has not seen"
        )

    @property
    def page(self) -> Table:
        """The steps with the crosscheck of the whole procedure."""
        error, plain = self.crosscheck
        if np.isnan(error):
            return self.table
        note = (
            f"crosscheck of the whole procedure, {FOLDS} folds: typical miss {figure(error, 3)} "
            "on rows not seen, "
            f"{figure(plain, 3)} on the rows it was chosen from"
        )
        return replace(self.table, notes=(*self.table.notes, note))

    @cached_property
    def crosscheck(self) -> tuple[float, float]:
        """The root mean square error of the whole procedure on rows not seen, and on its own rows.

        The choice is made again without each tenth of the rows, from factors alone, and judged on
        that tenth. What terms learn from the data (knots, means) is not learnt again."""
        c, unit = self.candidates, self.largest.solution.unit
        if c.n < 2 * FOLDS:
            return float("nan"), float("nan")
        folds = _fold_factors(self.largest, self.rules.seed)
        total = weight = 0.0
        for held, own in enumerate(folds):
            others = [f for i, f in enumerate(folds) if i != held]
            rest = triangle(np.vstack([f.R for f in others]))
            part = replace(c, R=_centred(rest, c.constant), n=sum(f.n for f in others))
            chosen = _path(part, self.start, self.kept, self.rules)[-1].chosen
            columns = np.concatenate([np.empty(0, int), *(c.groups[g] for g in sorted(chosen))]) + 1
            columns = np.append(np.zeros(c.constant, int), columns)
            T = triangle(rest[:, np.append(columns, rest.shape[1] - 1)])
            b = np.linalg.lstsq(T[: len(columns), :-1], T[: len(columns), -1], rcond=None)[0]
            miss = own.R[:, -1] - own.R[:, columns] @ b
            total += float(miss @ miss)
            weight += float(own.R[:, 0] @ own.R[:, 0])
        return float(np.sqrt(total / weight) * unit), float(
            np.sqrt(self.moves[-1].rss / weight) * unit
        )


def _moved(move: Move, place: int, last: int) -> str:
    if move.group is None:
        return "start" if place == 0 else "end" if place == last else ""
    return "add" if move.added else "drop"


def stepwise(largest: Fitted, rules: Rules, keep: Sequence[Term]) -> Steps:
    """Chooses among the terms of the largest model, ``keep`` naming those that stay.

    See ``joinery.stepwise``.
    """
    if not largest.estimate.linear:
        raise CallError("stepwise chooses among models of the normal family", argument="family")
    terms = largest.design.terms
    keys = [t.key for t in largest.design.sentence.terms]
    kept: set[int] = set()
    for term in keep:
        if term.key not in keys:
            raise CallError(f"keep={str(term)!r} is not a term of the sentence", argument="keep")
        kept.add(keys.index(term.key))
    needs = contained(terms)
    for i in list(kept):
        kept |= needs[i]
    if rules.moves == "drop" and not largest.residual_df:
        raise CallError(
            "with as many coefficients as rows nothing can be dropped from the largest model; "
            "use moves='add'"
        )
    candidates = _candidates(largest, needs)
    start = frozenset(kept)
    if rules.moves == "drop":
        start = frozenset(g for g in range(len(terms)) if len(candidates.groups[g]) or g in kept)
    moves = _path(candidates, start, frozenset(kept), rules)
    return Steps(largest, tuple(moves), rules, start, frozenset(kept), candidates)


def _path(c: Candidates, start: frozenset[int], kept: frozenset[int], rules: Rules) -> list[Move]:
    add, drop = MOVES[rules.moves]
    tss = c.total_squares
    return stepwise_path(
        c,
        start,
        kept,
        add=add,
        drop=drop,
        criterion=rules.criterion,
        tss=tss,
        enter=rules.enter,
        leave=rules.leave,
    )


def _candidates(largest: Fitted, needs: tuple[frozenset[int], ...]) -> Candidates:
    """The factor of all columns with the response, groups by term.

    From the rows again where columns are too many.
    """
    solution, terms, n = largest.solution, largest.design.terms, largest.n_rows
    c = int(solution.has_intercept)
    # what the log likelihood has beside the residual sum of squares: the weights and the response's
    # unit
    constant = log_weights(largest) - 2 * n * float(np.log(solution.unit))
    if largest.residual_df and len(solution.kept) == largest.design.width:
        R = np.zeros((len(solution.kept) + 1, len(solution.kept) + 1))
        R[:-1, :-1], R[:-1, -1] = solution.factor, solution.effects / solution.unit
        R[-1, -1] = np.sqrt(solution.rss)
        groups = tuple(np.arange(t.columns.start, t.columns.stop) for t in terms)
        return Candidates(R, groups, needs, n, c, constant)
    centred = _centred(triangle(np.vstack([f.R for f in _fold_factors(largest, 0)])), c)
    used = _independent(centred[:, :-1], largest)
    groups = tuple(
        np.array([j for j in range(t.columns.start, t.columns.stop) if j in used], int)
        for t in terms
    )
    return Candidates(centred, groups, needs, n, c, constant)


def log_weights(fit: Fitted) -> float:
    """Σ log w over the fitted rows."""
    total = 0.0
    for block in response_rows(fit).row_blocks:
        if block.precision is not None:
            total += float((block.times) @ np.log(block.precision))
    return total


def _independent(R: np.ndarray, largest: Fitted) -> set[int]:
    """Columns that are neither zero nor, within their term, combinations of one another."""
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
    """A factor of [1, columns | y] without its constant: about the means with an intercept."""
    return R[1:, 1:] if constant else R[:, 1:]


@dataclass(frozen=True)
class _Fold:
    """The factor of [1, columns | y] of a tenth of the rows, y in the solution's unit."""

    R: np.ndarray
    n: int


def _fold_factors(largest: Fitted, seed: int | None) -> list[_Fold]:
    """Factors for each tenth of the rows, dealt out by a seeded shuffle."""
    times = per_row(largest).times
    deal = np.random.default_rng(seed).permutation(len(times)) % FOLDS
    k, unit = largest.design.width, largest.solution.unit
    factors = [np.zeros((0, k + 2)) for _ in range(FOLDS)]
    for block in response_rows(largest).row_blocks:
        A = np.column_stack([np.ones(len(block.y)), block.X, block.beyond_offset / unit])
        if block.weights is not None:
            A *= np.sqrt(block.weights)[:, None]
        own = deal[block.own]
        for fold in range(FOLDS):
            part = A[own == fold]
            if len(part):
                factors[fold] = triangle(np.vstack([factors[fold], part]))
    return [_Fold(R, int(times[deal == fold].sum())) for fold, R in enumerate(factors)]
