"""Stepwise choice of terms, from one factor of the largest model."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from joinery.core.selection import Candidates, Move, walk
from joinery.core.triangular import triangle
from joinery.design.blocks import RowBlocks
from joinery.errors import CallError, one_of
from joinery.model.fit import Fit
from joinery.model.fitting import fit, same_rows
from joinery.model.revising import _terms
from joinery.show.numbers import figure, p_value
from joinery.show.table import Table
from joinery.study.anova import contained

MOVES = {"add": (True, False), "drop": (False, True), "add and drop": (True, True)}
CRITERIA = ("aic", "bic", "adjusted r2", "p")
WORDS = {"aic": "AIC", "bic": "BIC", "adjusted r2": "adjusted R²", "p": "p"}
FOLDS, MOST_TRIED = 10, 6


@dataclass(frozen=True, eq=False, repr=False)
class Trail:
    """How a stepwise choice went. ``steps`` is a Table of the moves, ``final`` the Fit it ended in."""

    largest: Fit
    moves: tuple[Move, ...]
    names: tuple[str, ...]
    options: dict[str, Any]
    candidates: Candidates

    @cached_property
    def final(self) -> Fit:
        """The model that the steps ended in, fitted to the same rows."""
        sentence = self.largest.design.sentence
        chosen = tuple(t for i, t in enumerate(sentence.terms) if i in self.moves[-1].chosen)
        return replace(same_rows(self.largest, replace(sentence, written=chosen)), changes=("chosen stepwise",))

    @cached_property
    def steps(self) -> Table:
        """Each step: what moved, the figures after it, and what was tried."""
        criterion, n = self.options["criterion"], self.candidates.n
        tss = self.largest.solution.tss
        rows = [m for m in self.moves if m.group is not None or m is self.moves[0] or m is self.moves[-1]]
        df0 = self.candidates.constant
        last = len(rows) - 1
        return Table(
            {
                "step": list(range(len(rows))),
                "move": [_moved(m, i, last) for i, m in enumerate(rows)],
                "term": ["" if m.group is None else self.names[m.group] for m in rows],
                "terms": [len(m.chosen) for m in rows],
                "r_squared": [1 - m.rss / tss for m in rows],
                "adjusted_r_squared": [1 - m.rss / max(n - m.rank, 1) / (tss / (n - df0)) for m in rows],
                "residual_sd": [np.sqrt(m.rss / (n - m.rank)) * self.largest.solution.unit for m in rows],
                "aic": [_information(m, n, 2.0) for m in rows],
                "bic": [_information(m, n, float(np.log(n))) for m in rows],
                "tried": [self._tried(m) for m in rows],
            },
            title=f"Steps by {WORDS[criterion]}, {self.options['moves']}",
            notes=tuple(self._notes()),
            kinds={"step": "whole", "terms": "whole", "tried": "text", "r_squared": "own", "adjusted_r_squared": "own"},
            headings={"r_squared": "R²", "adjusted_r_squared": "adjusted R²", "aic": "AIC", "bic": "BIC"},
        )

    def _tried(self, move: Move) -> str:
        sign = -1 if self.options["criterion"] == "adjusted r2" else 1
        show = p_value if self.options["criterion"] == "p" else lambda v: figure(sign * v, 5)
        told = [f"{'+' if added else '−'} {self.names[g]} {show(score)}" for added, g, score in move.tried[:MOST_TRIED]]
        more = len(move.tried) - MOST_TRIED
        return "; ".join(told) + (f"; {more} more" if more > 0 else "")

    def _notes(self) -> Iterator[str]:
        sentence = self.largest.design.sentence
        chosen = tuple(t for i, t in enumerate(sentence.terms) if i in self.moves[-1].chosen)
        yield f"chosen: {replace(sentence, written=chosen)}"
        yield (
            "p-values and intervals of a model chosen so are too small and too narrow: the same data chose it; "
            "the crosscheck repeats the whole choice on rows it has not seen"
        )

    @property
    def page(self) -> Table:
        """The steps with the crosscheck of the whole procedure."""
        error, plain = self.crosscheck
        if np.isnan(error):
            return self.steps
        note = (
            f"crosscheck of the whole procedure, {FOLDS} folds: typical miss {figure(error, 3)} on rows not seen, "
            f"{figure(plain, 3)} on the rows it was chosen from"
        )
        return replace(self.steps, notes=(*self.steps.notes, note))

    @cached_property
    def crosscheck(self) -> tuple[float, float]:
        """The root mean square error of the whole procedure on rows not seen, and on the rows it was chosen from.

        The choice is made again without each tenth of the rows, from factors alone, and judged on that tenth. What
        terms learn from the data (knots, means) is not learnt again.
        """
        c, fits = self.candidates, self.largest
        if c.n < 2 * FOLDS:
            return float("nan"), float("nan")
        factors = _fold_factors(fits, self.options["seed"])
        total, count = 0.0, 0.0
        for held, own in enumerate(factors):
            rest = triangle(np.vstack([f for i, f in enumerate(factors) if i != held]))
            centred, n = _centred(rest, c.constant)
            part = replace(c, R=centred, n=n)
            tss = float((centred[:, -1] ** 2).sum())
            chosen = walk(part, self.options["start"], self.options["kept"], tss=tss, **self.options["walk"])[-1].chosen
            columns = np.concatenate([np.empty(0, int), *(c.groups[g] for g in sorted(chosen))]) + 1
            columns = np.append(np.zeros(c.constant, int), columns)
            T = triangle(rest[:, np.append(columns, rest.shape[1] - 1)])
            b = np.linalg.lstsq(T[: len(columns), :-1], T[: len(columns), -1], rcond=None)[0]
            miss = own[:, -1] - own[:, columns] @ b
            total += float(miss @ miss)
            count += float(own[:, 0] @ own[:, 0])
        return float(np.sqrt(total / count)), float(np.sqrt(self.moves[-1].rss / c.n) * fits.solution.unit)

    def __str__(self) -> str:
        return str(self.page)

    def __repr__(self) -> str:
        return f"<Trail of {len(self.moves) - 1} steps to {self.final.sentence!r}>"

    def _repr_html_(self) -> str:
        return self.page.render("html")


def _moved(move: Move, place: int, last: int) -> str:
    if move.group is None:
        return "start" if place == 0 else "end" if place == last else ""
    return "add" if move.added else "drop"


def _information(move: Move, n: int, weight: float) -> float:
    if not move.rss > 0:
        return float("nan")
    return float(n * (np.log(2 * np.pi * move.rss / n) + 1) + weight * (move.rank + 1))


def stepwise(
    data: Any,
    model: str,
    *,
    moves: str = "add and drop",
    criterion: str = "aic",
    keep: Sequence[str] | str = (),
    enter: float = 0.05,
    leave: float = 0.10,
    seed: int | None = 0,
    **options: Any,
) -> Trail:
    """Chooses among the terms of a sentence step by step.

    Parameters: ``data`` and ``model`` as for ``fit``: the sentence is the largest model. ``moves``: ``"drop"`` from it,
    ``"add"`` from the intercept up, or ``"add and drop"`` from the intercept up. ``criterion``: ``"aic"``, ``"bic"``,
    ``"adjusted r2"``, or ``"p"`` with ``enter`` and ``leave``. ``keep``: terms that always stay. Other options as
    ``fit``. Categories and products move whole, products only with their main effects; every model rests on the rows
    that are complete for the largest.
    Returns a Trail. Raises CallError for another criterion, a kept term that is not there, or a family but the normal.
    Source: Draper & Smith 1998, 15; Akaike 1974; Schwarz 1978.

    >>> trail = stepwise("sample:queens", "eggs_a_day given weight_mg, age_days, humidity, moon_days")
    >>> trail.final.sentence
    'eggs_a_day given weight_mg, age_days, moon_days'
    """
    one_of("moves", moves, tuple(MOVES))
    one_of("criterion", criterion, CRITERIA)
    for name, value in (("enter", enter), ("leave", leave)):
        if not 0 < value < 1:
            raise CallError(f"{name}={value!r} is no probability between 0 and 1", argument=name)
    largest = fit(data, model, **options)
    if largest.family != "normal":
        raise CallError("stepwise chooses among models of the normal family", argument="family")
    terms = largest.design.terms
    names = tuple(t.text for t in terms)
    keys = [t.key for t in largest.design.sentence.terms]
    kept: set[int] = set()
    for term in _terms(keep or None):
        if term.key not in keys:
            raise CallError(f"keep={str(term)!r} is not a term of the sentence", argument="keep")
        kept.add(keys.index(term.key))
    needs = contained(terms)
    for i in list(kept):
        kept |= needs[i]
    candidates = _candidates(largest, needs)
    add, drop = MOVES[moves]
    whole = frozenset(range(len(terms)))
    start = whole if moves == "drop" else frozenset(kept)
    if moves == "drop" and not largest.residual_df:
        raise CallError(
            "with as many coefficients as rows nothing can be dropped from the largest model; use moves='add'"
        )
    start = frozenset(g for g in start if len(candidates.groups[g]) or g in kept) if moves == "drop" else start
    rules: dict[str, Any] = {"add": add, "drop": drop, "criterion": criterion, "enter": enter, "leave": leave}
    found = walk(candidates, start, frozenset(kept), tss=largest.solution.tss, **rules)
    told = {
        "criterion": criterion,
        "moves": moves,
        "seed": seed,
        "start": start,
        "kept": frozenset(kept),
        "walk": rules,
    }
    return Trail(largest, tuple(found), names, told | {"walk": rules}, candidates)


def _candidates(largest: Fit, needs: tuple[frozenset[int], ...]) -> Candidates:
    """The factor of all columns with the response, groups by term; from the rows again where columns are too many."""
    solution, terms = largest.solution, largest.design.terms
    c = int(solution.has_intercept)
    if largest.residual_df and len(solution.kept) == largest.design.width:
        R = np.zeros((len(solution.kept) + 1, len(solution.kept) + 1))
        R[:-1, :-1], R[:-1, -1] = solution.factor, solution.effects / solution.unit
        R[-1, -1] = np.sqrt(solution.rss)
        groups = tuple(np.arange(t.columns.start, t.columns.stop) for t in terms)
        return Candidates(R, groups, needs, largest.n_rows, c)
    centred, n = _centred(triangle(np.vstack(_fold_factors(largest, 0))), c)
    used = _independent(centred[:, :-1], largest)
    groups = tuple(np.array([j for j in range(t.columns.start, t.columns.stop) if j in used], int) for t in terms)
    return Candidates(centred, groups, needs, n, c)


def _independent(R: np.ndarray, largest: Fit) -> set[int]:
    """Columns that are not zero throughout and, within their own term, not combinations of one another."""
    out: set[int] = set()
    for term in largest.design.terms:
        own: list[int] = []
        for j in range(term.columns.start, term.columns.stop):
            T = triangle(R[:, [*own, j]])
            if abs(T[len(own), len(own)]) > 1e-9 * max(float(np.linalg.norm(R[:, j])), 1e-300):
                own.append(j)
        out |= set(own)
    return out


def _centred(R: np.ndarray, constant: int) -> tuple[np.ndarray, int]:
    """A factor of [1, columns | y] without its constant: about the means where there is an intercept; and n."""
    n = round(float((R[:, 0] ** 2).sum()))
    if constant:
        return R[1:, 1:], n
    return R[:, 1:], n


def _fold_factors(largest: Fit, seed: int | None) -> list[np.ndarray]:
    """Factors of [1, columns | y] for each tenth of the rows, dealt out by a seeded shuffle."""
    assert largest.table is not None
    assert largest.selection is not None
    blocks = RowBlocks(largest.design, largest.response, largest.asides, largest.table, largest.selection.rows)
    deal = np.random.default_rng(seed).permutation(largest.selection.used) % FOLDS
    k = largest.design.width
    factors = [np.zeros((0, k + 2)) for _ in range(FOLDS)]
    for block in blocks.whole:
        A = np.column_stack([np.ones(len(block.y)), block.X, block.beyond_offset])
        if block.weights is not None:
            A *= np.sqrt(block.weights)[:, None]
        own = deal[block.own]
        for fold in range(FOLDS):
            part = A[own == fold]
            if len(part):
                factors[fold] = triangle(np.vstack([factors[fold], part]))
    return factors
