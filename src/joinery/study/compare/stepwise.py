"""Stepwise choice of terms among those of the largest model."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import pairwise
from typing import Any

import numpy as np

from joinery.core.inference.stepwise import Path, Tried
from joinery.notation.tree import Sentence, Term
from joinery.show.appearance import Appearance
from joinery.show.numbers import figure, p_value
from joinery.show.table import Table
from joinery.study.compare.adjusting import contained
from joinery.study.compare.candidates import Search, search_of
from joinery.study.fitted import CHOSEN, Fitted
from joinery.study.resample.crosscheck import FOLDS
from joinery.support import advice
from joinery.support.errors import CallError, listed

MOVES = {"add": (True, False), "drop": (False, True), "add and drop": (True, True)}


@dataclass(frozen=True)
class Criterion:
    """A figure that decides: its column, its words, and the family it is of, if one alone."""

    column: str
    words: str
    higher_is_better: bool = False
    normal_alone: bool = False


CRITERIA = {
    "aic": Criterion("aic", "AIC"),
    "bic": Criterion("bic", "BIC"),
    "adjusted r2": Criterion(
        "adjusted_r_squared", "adjusted R²", higher_is_better=True, normal_alone=True
    ),
    "p": Criterion("p", "p"),
    "crosscheck": Criterion("crosscheck_error", "crosscheck error"),
}


@dataclass(frozen=True)
class Choice:
    """The rules by which terms are chosen: moves, criterion, limits of p, the seed of what is
    dealt at random."""

    moves: str
    criterion: str
    limit: float
    leave: float | None
    seed: int | None


@dataclass(frozen=True, eq=False)
class Steps:
    """The steps of a choice, from the largest model."""

    largest: Fitted
    path: Path
    choice: Choice
    search: Search
    keep: tuple[Term, ...] = ()

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(t.text for t in self.largest.design.terms)

    @cached_property
    def fits(self) -> tuple[Fitted, ...]:
        """The model after each step, fitted to the same rows."""
        origin = self.largest.origin
        assert origin is not None
        return tuple(
            replace(origin.refit(sentence=self._sentence(move.model.chosen)), changes=(words,))
            for move, words in zip(self.path.moves, self._moved, strict=True)
        )

    @cached_property
    def final(self) -> Fitted:
        """The model that the steps ended in, fitted to the same rows."""
        # the model after each step is fitted only where a step is asked for
        if "fits" in self.__dict__:
            fit = self.fits[-1]
        else:
            assert self.largest.origin is not None
            fit = self.largest.origin.refit(sentence=self._sentence(self.path.final.chosen))
        # a model that data chose keeps the way in which they did, so that a crosscheck can repeat
        # it
        again = SearchAgain(self.largest.design.sentence, self.choice, self.keep)
        return replace(fit, changes=(CHOSEN,), chooser=again)

    def _sentence(self, chosen: frozenset[int]) -> Sentence:
        sentence = self.largest.design.sentence
        return replace(
            sentence, written=tuple(t for i, t in enumerate(sentence.terms) if i in chosen)
        )

    @property
    def _criterion(self) -> Criterion:
        return CRITERIA[self.choice.criterion]

    @property
    def _sign(self) -> float:
        if self._criterion.higher_is_better:
            return -1.0
        return 1.0

    @property
    def _moved(self) -> list[str]:
        """Return what each step did, in words."""
        first = self.path.moves[0].model.chosen
        names = [self.names[g] for g in sorted(first)]
        if len(first) == len(self.names):
            what = "all terms"
        else:
            what = ", ".join(names) or "no terms"
        return [
            f"start with {what}" if m.group is None else self._words(m.added, m.group, m.beside)
            for m in self.path.moves
        ]

    def _words(self, added: bool | None, group: int, beside: frozenset[int]) -> str:
        words = f"{'add' if added else 'drop'} {self.names[group]}"
        others = [self.names[g] for g in sorted(beside)]
        if others:
            return f"{words} with {listed(others)}"
        return words

    @property
    def table(self) -> Table:
        """A row for each step: what moved, the criterion after it, and the runner-up."""
        by_p, c = self.choice.criterion == "p", self._criterion
        after = [self._figure(place) for place in range(len(self.path.moves))]
        second = [m.tried[1] if len(m.tried) > 1 else None for m in self.path.moves]
        columns: dict[str, Any] = {
            "step": list(range(len(after))),
            "move": self._moved,
            c.column: after,
        }
        if not by_p:
            if c.higher_is_better:
                better = "higher_by"
            else:
                better = "lower_by"
            # a criterion that is better when higher counts the other way round
            gains = [np.nan, *(self._sign * (a - b) for a, b in pairwise(after))]
            columns[better] = gains
        columns["runner_up"] = [
            "" if t is None else self._words(t.added, t.group, t.beside) for t in second
        ]
        scores = [np.nan if t is None else self._sign * t.score for t in second]
        columns["runner_up_p" if by_p else "behind_by"] = (
            scores
            if by_p
            else [self._sign * (score - a) for score, a in zip(scores, after, strict=True)]
        )
        return Table(
            columns,
            title=f"Steps by {c.words}, {self.choice.moves}",
            notes=tuple(self._notes()),
            appearance=Appearance(
                kinds={
                    "step": "whole",
                    "move": "text",
                    "runner_up": "text",
                    "runner_up_p": "p",
                    "lower_by": "own",
                    "higher_by": "own",
                    "behind_by": "own",
                },
                headings={c.column: c.words, "runner_up": "runner-up", "runner_up_p": "its p"},
            ),
        )

    @property
    def tried(self) -> Table:
        """Every move that was looked at, step by step, the best first."""
        looked = [*(m.tried for m in self.path.moves), self.path.last_tried]
        rows = [(step, one) for step, tried in enumerate(looked) for one in tried]
        c = self._criterion
        return Table(
            {
                "step": [step for step, _ in rows],
                "move": [self._words(one.added, one.group, one.beside) for _, one in rows],
                c.column: [self._sign * one.score for _, one in rows],
            },
            title=f"What was tried, by {c.words}",
            notes=("the moves of the last step were not made",),
            appearance=Appearance(
                kinds={"step": "whole", "move": "text"}, headings={c.column: c.words}
            ),
        )

    def _figure(self, place: int) -> float:
        """Return the criterion after a step; for p that of the term moved."""
        move = self.path.moves[place]
        if self.choice.criterion != "p":
            return self._sign * move.model.figure
        return next(
            (t.score for t in move.tried if (t.added, t.group) == (move.added, move.group)), np.nan
        )

    def _notes(self) -> Iterator[str]:
        yield f"chosen: {self._sentence(self.path.final.chosen)}"
        if self.choice.criterion != "p":
            yield self._of_all_terms()
        if self.path.last_tried:
            best = self._in_words(self.path.last_tried[0])
            yield f"no other move helps: the best would be to {best}"
        if self.choice.criterion == "crosscheck" and not self.largest.estimate.linear:
            yield f"crosscheck error: mean deviance of rows not seen, {FOLDS} folds dealt at random"
        elif self.choice.criterion == "crosscheck":
            yield "crosscheck error: the typical miss of each row forecast without it"
        if self.choice.criterion == "p" and self.largest.sandwich is not None:
            yield "p-values of the choice suppose constant spread"
        yield (
            "p-values and intervals of a model chosen so are too small and too narrow: the same "
            "data chose it; the crosscheck repeats the whole choice on rows it has not seen"
        )

    def _of_all_terms(self) -> str:
        """Return the criterion of the whole sentence, which steps one at a time may not reach."""
        full = self.search.candidates.model(frozenset(range(len(self.names)))).figure
        if not np.isfinite(full):
            return f"the whole sentence has no {self._criterion.words}"
        words = f"the whole sentence has {self._criterion.words} {figure(self._sign * full)}"
        better = full < self.path.final.figure
        if better:
            return f"{words}, better than where the steps end"
        return words

    def _in_words(self, one: Tried) -> str:
        """Return a move and its score in words."""
        words, score = self._words(one.added, one.group, one.beside), self._sign * one.score
        if self.choice.criterion == "p":
            return f"{words} (p {p_value(score)})"
        by = self._sign * (score - self._figure(len(self.path.moves) - 1))
        if self._criterion.higher_is_better:
            side = "lower"
        else:
            side = "higher"
        return f"{words} ({self._criterion.words} {side} by {figure(by, 3)})"

    @property
    def page(self) -> Table:
        """The steps with the crosscheck of the whole procedure."""
        error, plain = self.crosscheck
        if np.isnan(error):
            return self.table
        if self.largest.estimate.linear:
            what = "typical miss"
        else:
            what = "mean deviance"
        note = (
            f"crosscheck of the whole choice, {FOLDS} folds: {what} {figure(error, 3)} on rows "
            f"not seen, {figure(plain, 3)} on the rows it was chosen from"
        )
        return replace(self.table, notes=(*self.table.notes, note))

    @cached_property
    def crosscheck(self) -> tuple[float, float]:
        """The error of the whole choice on rows not seen, and of the chosen model on its own.

        The choice is made again without each tenth of the rows and judged on that tenth: the root
        mean square error, or the mean deviance under other families. What terms learn from the
        data (knots, means) is not learnt again."""
        if self.search.n < 2 * FOLDS:
            return float("nan"), float("nan")
        return self.search.choice_repeated(self.path.final)


@dataclass(frozen=True)
class SearchAgain:
    """The same search on other rows."""

    sentence: Sentence
    choice: Choice
    keep: tuple[Term, ...]

    def __call__(self, largest: Fitted) -> Fitted:
        return stepwise(largest, self.choice, self.keep).final


def stepwise(largest: Fitted, choice: Choice, keep: Sequence[Term]) -> Steps:
    """Choose among the terms of the largest model, ``keep`` naming those that stay.

    See ``joinery.stepwise``.
    """
    _check(largest, choice)
    terms = largest.design.terms
    keys = [t.key for t in largest.design.sentence.terms]
    kept: set[int] = set()
    for term in keep:
        if term.key not in keys:
            raise CallError(f"keep={str(term)!r} is not a term of the sentence", argument="keep")
        kept.add(keys.index(term.key))
    needs = contained(terms)
    # a product that stays keeps its factors
    for i in list(kept):
        kept |= needs[i]
    add, drop = MOVES[choice.moves]
    search = search_of(largest, needs, frozenset(kept), choice, add=add, drop=drop)
    return Steps(largest, search.path(), choice, search, tuple(keep))


def _check(largest: Fitted, choice: Choice) -> None:
    """Raise CallError where the criterion is not one of the family's."""
    e = largest.estimate
    if e.penalty is not None:
        raise CallError(
            "stepwise compares likelihoods, and a penalized fit has none; leave "
            f"{advice.option('penalty')} out",
            argument="penalty",
        )
    if CRITERIA[choice.criterion].normal_alone and not e.linear:
        raise CallError(
            f"adjusted R² is of the normal family with the identity link; for {largest.family.name}"
            f" fits with the {largest.link.name} link use aic, bic, p or crosscheck",
            argument="criterion",
        )
    if choice.criterion in ("aic", "bic") and not e.law:
        raise CallError(
            "with an estimated dispersion there is no likelihood, so no AIC or BIC; use p or "
            "crosscheck",
            argument="criterion",
        )
    if choice.moves == "drop" and not largest.residual_df:
        raise CallError(
            "with as many coefficients as rows nothing can be dropped from the largest model; "
            "use moves='add'"
        )
