"""Notes for the reader of a fit."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice

import numpy as np

from joinery.core.blocks.order_statistics import Counted
from joinery.core.least_squares.solution import Solution
from joinery.data.column_kinds import alike_but_for_case, alike_levels
from joinery.data.columns import level_text
from joinery.data.records import Records
from joinery.design.design import Design
from joinery.design.factors import CategoryFactor
from joinery.design.learning import Learner, Piece
from joinery.design.levels import category_of, coded, merged_levels
from joinery.notation.context import EVERY_ROW
from joinery.notation.tree import Call, Expression, Name, merging, quoted_text
from joinery.notation.walk import named_in
from joinery.show.numbers import count, value
from joinery.study.fitted import CHOSEN, Fitted, Origin, constant_response, fitted_rows, once
from joinery.support import advice
from joinery.support.errors import Note, listed

RARE_REFERENCE = 5  # below which a reference level is remarked on
SMALL_COUNTS = 100.0  # means above which a count is as good as normal

MOST_RENAMED = 6  # levels whose renaming a note writes out
MOST_LOST = 0.5  # of the rows that are meant, beyond which a fit is of few of them
READING = "reading"  # the kind of what was noted while the table was read


@once
def notes(fit: Fitted) -> tuple[Note, ...]:
    """Return every note on a fit, the gravest first; of a loaded fit, those it was saved with."""
    if fit.origin is None:
        return fit.early_notes
    table, design, solution = fit.origin.table, fit.design, fit.solution
    return tuple(
        dict.fromkeys(
            [
                *(
                    _about_the_fit(solution, fit.response.name, design)
                    if fit.estimate.linear
                    else ()
                ),
                *fit.early_notes,
                *_about_rows(fit.origin),
                *_about_weights(fit),
                *dependences(design, solution),
                *_about_terms(design),
                *_thin_levels(fit),
                *(_about_counts(table, design, solution) if fit.estimate.linear else ()),
                *_about_columns(table, design),
                _about_the_solver(solution),
            ]
        )
    )


MOST_DEPENDENT = 5  # columns left out that are told one by one
MOST_SUMMANDS = 6  # of a column that others make up
ABOUT_ESTIMATES = ("separation", "not settled", "edge", "column left out", "most rows left out")


@once
def about_estimates(fit: Fitted) -> tuple[Note, ...]:
    """Return the notes that whoever takes a number from the fit must know."""
    if fit.origin is None:
        known = fit.early_notes
    else:
        dropped = dependences(fit.design, fit.solution)
        known = (*fit.early_notes, *dropped, *_about_rows(fit.origin))
    return tuple(note for note in known if note.kind in ABOUT_ESTIMATES)


def estimate_notes(fit: Fitted) -> tuple[str, ...]:
    """Return the same notes in words, as they stand under a table of the fit."""
    return tuple(note.words for note in about_estimates(fit))


def choice_notes(fit: Fitted) -> tuple[str, ...]:
    """Return how a fit came about that was chosen with its rows in view, in words."""
    if CHOSEN in fit.changes:
        return (
            "the terms were chosen stepwise on these rows: intervals are too narrow, p too small",
        )
    if fit.changes:
        return (f"revised: {'; then '.join(fit.changes)}",)
    return ()


def reading_notes(fit: Fitted) -> tuple[str, ...]:
    """Return what is odd about how the cells of the model's columns are written, in words."""
    if fit.origin is None:
        return ()
    known = _about_columns(fit.origin.table, fit.design)
    return tuple(note.words for note in known if note.gravity == "caution")


def _about_rows(origin: Origin) -> Iterator[Note]:
    """Say that most rows are lost to cells that are empty, where they are."""
    used = origin.used_rows
    lost = {why: n for why, n in used.counts.items() if why.startswith("no ")}
    meant = used.total - sum(used.counts.values()) + sum(lost.values())
    if sum(lost.values()) > MOST_LOST * meant:
        named = ", ".join(f"{n:,} {why}" for why, n in lost.items())
        words = f"most rows are left out for their empty cells: {named}, of {meant:,}"
        yield Note("most rows left out", "caution", words)


def _about_the_solver(solution: Solution) -> Note:
    condition = value(solution.condition, 3)
    return Note("solver", "note", f"solved the {solution.way} way, condition number {condition}")


def _about_the_fit(solution: Solution, response: str, design: Design) -> Iterator[Note]:
    if constant_response(solution):
        words = (
            f"{response} is the same in all {count(solution.n, 'row')}, so there is nothing to "
            "explain"
        )
        yield Note("constant response", "caution", words, (response,))
    elif solution.residual_df <= 0:
        words = (
            f"{count(solution.n, 'row')} for "
            f"{count(design.width + solution.has_intercept, 'coefficient')}: "
            "no degrees of freedom are left, so nothing can be said of how sure the estimates are"
        )
        yield Note("no degrees of freedom", "caution", words)
    elif solution.perfect:
        words = (
            "the fit is perfect: all residuals are zero, so there are no standard errors to "
            "speak of"
        )
        yield Note("perfect fit", "caution", words)
    if not solution.has_intercept:
        if solution.spans_constant:
            words = "there is no intercept, but the terms hold a constant; R² is about the mean"
        else:
            words = (
                "there is no intercept: R² is about zero and cannot be compared with that of "
                "other models"
            )
        yield Note("no intercept", "caution", words)


def _about_weights(fit: Fitted) -> Iterator[Note]:
    """Explain weights: the variance of a row, and the unit of the residual SD."""
    weights = fit.options.weights
    if weights is not None and fit.estimate.linear:
        words = f"weighted by {weights}: the variance of a row is s²/w, s that of a row of weight 1"
        yield Note("weights", "note", words, (weights,))


def dependences(design: Design, solution: Solution) -> Iterator[Note]:
    """Yield the columns left out: each with the earlier columns that make it up.

    Of many those that few columns make up, and the others by name."""
    names: tuple[str, ...] = ("", *design.names)
    made_up = {names[column + 1]: weights for column, weights in solution.dependence.items()}
    named = list(made_up)
    if len(named) > MOST_DEPENDENT:
        few = (name for name in named if len(_summed(made_up[name])) <= MOST_SUMMANDS)
        named = list(islice(few, MOST_DEPENDENT))
    for name in named:
        words = f"left out of the model: {name} is {_sum_of(names, made_up[name])}"
        yield Note("column left out", "caution", words, (name,))
    one_by_one = set(named)
    rest = [name for name in made_up if name not in one_by_one]
    if rest:
        words = (
            f"left out of the model: {count(len(rest), 'column')} that the others make up, "
            f"{listed(rest)}"
        )
        yield Note("column left out", "caution", words, tuple(rest))


def _summed(weights: np.ndarray) -> np.ndarray:
    """Return the places of the weights that are other than zero but for rounding."""
    sizes = np.abs(weights)
    return np.flatnonzero(sizes > 1e-9 * max(float(sizes.max(initial=0.0)), 1e-300))


def _sum_of(names: Sequence[str], weights: np.ndarray) -> str:
    """Return a constant and columns with their weights, as a sum in words."""
    here = _summed(weights).tolist()
    if not here:
        return "zero throughout"
    text = ""
    for place in here[:MOST_SUMMANDS]:
        number = value(abs(float(weights[place])), 7)
        if place == 0:
            word = number
        elif number == "1":
            word = names[place]
        else:
            word = f"{number} × {names[place]}"
        sign = " − " if weights[place] < 0 else " + "
        text += sign + word
    text = text.removeprefix(" + ")
    if text.startswith(" − "):
        text = "−" + text.removeprefix(" − ")
    if len(here) > MOST_SUMMANDS:
        text += f" + {len(here) - MOST_SUMMANDS} more"
    return text


def _plain(factor: Expression) -> str:
    """Return a factor by its text, a category by its column whatever its reference and coding."""
    column = category_of(factor)
    return str(factor if column is None else column)


def _about_terms(design: Design) -> Iterator[Note]:
    present = {frozenset(_plain(f) for f in t.factors) for t in design.sentence.terms}
    for written, term in zip(design.sentence.terms, design.terms, strict=True):
        for factor in term.factors:
            if isinstance(factor, CategoryFactor) and len(factor.levels) == 1:
                words = (
                    f"{factor.label} has one level only ({factor.levels[0]}) among the fitted "
                    "rows; it says nothing"
                )
                yield Note("one level", "caution", words, (factor.label,))
        if len(written.factors) > 1:
            lacking = [str(f) for f in written.factors if frozenset([_plain(f)]) not in present]
            if lacking:
                numbers = not any(isinstance(f, CategoryFactor) for f in term.factors)
                if numbers:
                    meaning = "the model takes each factor to do nothing where the others are zero"
                else:
                    meaning = (
                        "it carries the part of "
                        f"{'that effect' if len(lacking) == 1 else 'those effects'} as well"
                    )
                words = f"{term.text} stands without {listed(lacking, 4)}: {meaning}"
                yield Note("product alone", "caution", words, (term.text, *lacking))
        for factor in term.factors:
            learnt = design.factor_memory[str(factor.expression)]
            if learnt["kind"] == "spline":
                words = (
                    f"{factor.expression} bends at {', '.join(value(k) for k in learnt['knots'])}"
                )
                yield Note("knots", "note", words, (str(factor.expression),))


def _thin_levels(fit: Fitted) -> Iterator[Note]:
    """Yield levels with hardly any rows: the reference, and those whose coefficient rests on one
    row."""
    factors = list({str(f.expression): f for f in fit.design.categories}.values())
    if not factors:
        return

    def counts(piece: Piece) -> list[np.ndarray]:
        context, times = piece
        return [np.bincount(f.codes(context), times, len(f.levels)) for f in factors]

    collected = list(fitted_rows(fit).stretches.each(counts))
    for factor, *parts in zip(factors, *collected, strict=True):
        sizes = np.sum(parts, axis=0)
        rows, levels = [int(n) for n in sizes], [level_text(level) for level in factor.levels]
        most = int(np.argmax(sizes))
        if factor.coding == "indicator" and rows[0] < RARE_REFERENCE and rows[most] >= 3 * rows[0]:
            if isinstance(factor.expression, Call):
                name = factor.expression.arguments[0]
            else:
                name = None
            way = f"category({name or factor.expression}, reference={quoted_text(levels[most])})"
            words = (
                f"the reference level of {factor.label}, {levels[0]}, has {count(rows[0], 'row')}, "
                f"and every other level is compared with it; {way} compares with the largest"
            )
            yield Note("thin reference", "caution", words, (factor.label, levels[0]))
        if alone := [level for level, n in zip(levels[1:], rows[1:]) if n == 1]:
            if len(alone) == 1:
                rest = "its coefficient rests"
            else:
                rest = "their coefficients rest"
            words = f"{factor.label}: {listed(alone, 6)} {'is' if len(alone) == 1 else 'are each'} "
            yield Note(
                "thin level", "note", f"{words}one row alone, on which {rest}", (factor.label,)
            )


def _about_counts(table: Records, design: Design, solution: Solution) -> Iterator[Note]:
    """Return True if a count family may suit a response of small whole numbers better."""
    response = design.sentence.response.expression
    if not isinstance(response, Name) or not 0 <= solution.mean_response < SMALL_COUNTS:
        return
    column = table.column(response.name)
    if column.kind == "number" and column.values is not None:
        first = column.numbers(slice(0, 20))
        if (first % 1 > 0).any():
            return
        mean, spread = solution.mean_response, solution.tss / max(solution.weight_sum, 1)
        if (
            mean / 4 <= spread * solution.unit**2 <= 4 * mean
            and len(np.unique(column.numbers(slice(0, 1000)))) > 2
            and _are_counts(table, response)
        ):
            words = (
                f"{response.name} has whole numbers only: if it counts, "
                f"{advice.option('family', 'poisson')} may fit better"
            )
            yield Note("whole numbers", "note", words, (response.name,))


def _are_counts(table: Records, name: Name) -> bool:
    """Return True if all cells of a column that are there are whole numbers from 0 up."""

    def integral_in(piece: Counted) -> bool:
        return bool(np.all(piece[0] >= 0) and np.all(piece[0] == np.round(piece[0])))

    return all(Learner(table, EVERY_ROW, {}).values(name).each(integral_in))


def _about_columns(table: Records, design: Design) -> Iterator[Note]:
    sentence = design.sentence
    expressions = [sentence.response.expression, *sentence.factors]
    for name in design.seen:
        if table.column(name).large_whole is not None:
            words = (
                f"{name}: whole numbers beyond 2⁵³ lose their last digits when they are computed "
                "with; take something near them off first, or write category() for labels"
            )
            yield Note("large whole numbers", "caution", words, (name,))
    for name in named_in(expressions):
        column = table.column(name)
        for remark in _remarks(table, design, name):
            yield Note("column", "caution", f"{name}: {remark}", (name,))
        # what was noted while the table was read begins with the column's name
        remarks = [words for words in table.notes if words.partition(": ")[0] == name]
        if column.note and not remarks:
            remarks = [f"{name}: {column.note}"]
        yield from (Note(READING, "note", words, (name,)) for words in remarks)


def _remarks(table: Records, design: Design, name: str) -> Iterator[str]:
    """Yield the remarks on a column: levels that are alike as the sentence takes them, not as read.

    With the way to make one level of them."""
    column = table.column(name)
    as_read: Sequence[str] = ()
    if column.is_text and column.kind == "category":
        as_read = [level_text(level) for level in column.all_levels]
    known = alike_but_for_case(as_read)
    yield from (remark for remark in column.remarks if remark not in known)
    if not known:
        return
    factors = design.sentence.factors
    taken = merged_levels(name, factors)
    codes, levels = coded(taken, design.context(table, EVERY_ROW))
    counts = np.bincount(codes[codes >= 0], minlength=len(levels))
    renamed: dict[str, str] = {}
    for group in alike_levels([level_text(level) for level in levels]):
        meant = max(group, key=lambda level: counts[levels.index(level)])
        renamed |= {level: meant for level in group if level != meant}
    if not renamed:
        return
    way = "merged() makes one level of them"
    if len(renamed) <= MOST_RENAMED and isinstance(taken, Name):
        way = f"to make one level of them, write {merging(name, renamed)}"
    yield f"{alike_but_for_case([level_text(level) for level in levels])[0]}; {way}"
