"""Is each relation straight? Curvature, and lack of fit where rows repeat."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np

from joinery.core.blocks.columns import Columns, some_columns, some_rows
from joinery.core.blocks.partition import joined
from joinery.core.inference.diagnostics import NOTHING, Test, added_columns, replicate_lack_of_fit
from joinery.design.factors import NumberFactor
from joinery.design.levels import coded, merged_levels
from joinery.design.row_blocks import RowBlock
from joinery.notation.tree import Sentence, number_text, outside
from joinery.notation.walk import named_in
from joinery.study.check.added import added, side_by_side, surest, with_terms, would_see
from joinery.study.check.check import Line, not_judged, nothing_left
from joinery.study.fitted import Fitted, rows_at_hand, working_rows
from joinery.study.numeric_terms import column_means, highest_powers, numbers_alone
from joinery.study.rows.digest import curvature, digest
from joinery.study.rows.figures import left_out_error, per_row
from joinery.support import advice as say
from joinery.support.errors import JoineryError
from joinery.support.limits import MOST_ALIKE

MOST_CUBES = 50  # numbers whose cubes are looked at beside their squares
FEW_VALUES = 7  # of a number that is looked at as levels
GLANCE_VALUES = 200  # rows that tell of most numbers that they have more
STRAIGHT = "Is each relation straight?"


def straight(fit: Fitted) -> Iterator[Line]:
    """Yield curvature in numeric predictors and fitted values, and lack of fit where rows
    repeat."""
    if why := nothing_left(fit):
        yield not_judged("curvature", "straight line", STRAIGHT, "curvature of each predictor", why)
        return
    yield from _bent_predictors(fit)
    if not fit.estimate.linear:  # the link has a check of its own, and deviances say what repeats
        return
    yield from _bent_fitted(fit)
    yield from _lacking(lack_of_fit(fit))
    if _too_many(fit):
        why = "rows alike are looked for among rows in memory; fit a sample of them"
        yield not_judged("lack of fit", "straight line", STRAIGHT, "lack of fit", why)


def _line(kind: str, check: str, test: Test, **more: Any) -> Line:
    return Line(kind, "straight line", STRAIGHT, check, test, **more)


# ------------------------------------------------------------------ each predictor


@dataclass(frozen=True)
class Bend:
    """The columns that would let one predictor bend: next powers, or a level for each value."""

    factor: NumberFactor
    place: int  # of its column in the design
    centre: float
    size: float  # of its values about the centre
    degree: int  # the first power that is not in the model
    powers: int  # how many
    values: tuple[float, ...] = ()  # of one with few: its values, the least aside

    @property
    def width(self) -> int:
        return len(self.values) or self.powers


def _bent_predictors(fit: Fitted) -> Iterator[Line]:
    """Yield the predictor that bends most, its p corrected for having looked at all."""
    bends = _bends(fit)
    if not bends:
        return
    best = surest(_of_bends(fit, bends))
    if best is None:
        return
    place, test = best
    bend = bends[place]
    name = fit.words(bend.factor.name)
    if bend.values:
        check = f"{name} against a level for each of its {len(bend.values) + 1} values (F, Holm)"
        finding = f"{name} does not go up in a line over its {len(bend.values) + 1} values"
    else:
        check = f"curvature of {name} (F, Holm)"
        finding = f"{name} bends"
    yield _line(
        "curvature",
        check,
        test,
        finding=finding,
        advise=partial(_straighten, fit, bend),
        small=0.01,
        large=0.1,
        would_see=would_see(fit, "straight line", 2 * len(bends), test, "a bend"),
    )


def _bends(fit: Fitted) -> list[Bend]:
    """Return what each number would bend by; two values cannot bend."""
    sums = curvature(fit)
    powers, middle = highest_powers(fit), column_means(fit)
    numbers = numbers_alone(fit)
    few = _few_values(fit, np.array([place for _, place in numbers], int))
    out = []
    for j, (factor, place) in enumerate(numbers):
        if not sums.between[j]:
            continue
        size = float(max(abs(sums.low[j]), abs(sums.high[j]))) or 1.0
        degree = int(powers[factor.base]) + 1
        # one more power each, where the model has many numbers: the cubes would take too long
        more = 2 if len(numbers) <= MOST_CUBES else 1
        values: tuple[float, ...] = ()
        if degree == 2:
            values = few.get(place, ())
        out.append(Bend(factor, place, middle[place], size, degree, more, values))
    return out


def _of_bends(fit: Fitted, bends: list[Bend]) -> list[Test]:
    """Return the test of each bend added to the model."""
    sums = curvature(fit)
    if fit.estimate.linear and all(bend.powers == 1 and not bend.values for bend in bends):
        # the next powers are in the digest already, before the square of the fitted values
        bent = _in_digest(fit, np.flatnonzero(sums.between[:-1]))
        return [replace(t, statistic=t.statistic**2, df=(1, *t.df)) for t in bent]
    groups = side_by_side(bend.width for bend in bends)
    return added(fit, partial(_bent, bends=tuple(bends)), groups)


def _in_digest(fit: Fitted, places: np.ndarray) -> list[Test]:
    """Return t of columns whose sums the digest has: next powers, and last the squared fit."""
    solution, sums = fit.solution, curvature(fit)
    uz = solution.sums_in_basis(sums.raw[:, places])
    return added_columns(
        sums.squares[places], uz, sums.products[places], solution.rss, fit.residual_df
    )


def _few_values(fit: Fitted, places: np.ndarray) -> dict[int, tuple[float, ...]]:
    """Return the values but the least of each number that has few, by its place in the design."""
    if not len(places):
        return {}
    blocks = working_rows(fit).row_blocks
    # the first rows tell of most that they have many
    first = some_columns(next(blocks.each(_first_rows)), places)
    places = places[[len(np.unique(x)) <= FEW_VALUES for x in first.T]]
    seen: dict[int, set[float]] = {int(place): set() for place in places}
    if not len(places):
        return {}
    for values in blocks.each(partial(_distinct, places=places)):
        for place, distinct in zip(seen, values, strict=True):
            seen[place].update(distinct.tolist())
    return {p: tuple(sorted(v)[1:]) for p, v in seen.items() if len(v) <= FEW_VALUES}


def _first_rows(block: RowBlock) -> Columns:
    return some_rows(block.columns, np.arange(min(len(block.y), GLANCE_VALUES)))


def _distinct(block: RowBlock, places: np.ndarray) -> list[np.ndarray]:
    """Return the different values of columns, of one with too many no more than that tells."""
    columns = some_columns(block.columns, places)
    return [np.unique(x)[: FEW_VALUES + 1] for x in columns.T]


def _bent(block: RowBlock, bends: tuple[Bend, ...]) -> np.ndarray:
    """Return the columns of all bends side by side: (m, q)."""
    x = some_columns(block.columns, np.array([bend.place for bend in bends]))
    out = np.empty((len(x), sum(bend.width for bend in bends)), order="F")
    at = 0
    for j, bend in enumerate(bends):
        if bend.values:
            for value in bend.values:
                out[:, at] = x[:, j] == value
                at += 1
            continue
        z = (x[:, j] - bend.centre) / bend.size
        power = z**bend.degree
        for _ in range(bend.powers):
            out[:, at] = power
            power *= z
            at += 1
    return out


def _straighten(fit: Fitted, bend: Bend) -> str:
    """Return the change that errs least on rows not seen: logarithm, root, square or spline."""
    if bend.values:
        x = outside(bend.factor.expression)
        return f"take it as groups: {say.change(drop=x, add=f'category({x})')}"
    best = min(_ways(fit, bend), key=lambda way: way[0], default=None)
    if best is None:
        return f"add a power: {say.change(add=_next_power(fit, bend.factor))}"
    return f"{best[1]} errs least on rows not seen: {best[2]}"


def _ways(fit: Fitted, bend: Bend) -> Iterator[tuple[float, str, str]]:
    """Yield each curve that can be fitted: its error on rows not seen, its name, the change."""
    x = outside(bend.factor.expression)
    plain = [term for term in fit.design.sentence.terms if str(term) != x]
    alone = len(plain) < len(fit.design.sentence.terms)
    alone = alone and bend.degree == 2 and not any(x in map(str, t.factors) for t in plain)
    ways = [(_next_power(fit, bend.factor), False), (f"spline({x}, columns=4)", True)]
    if alone:
        ways += [(f"log({x})", True), (f"sqrt({x})", True)]
    for added_term, instead in ways:
        if instead and not alone:
            continue
        try:
            error = _unseen_error(with_terms(fit, added_term, without=x if instead else None), fit)
        except JoineryError:  # a logarithm of what is not above zero, a spline of few values
            continue
        change = say.change(add=added_term)
        if instead:
            change = say.change(drop=x, add=added_term)
        yield error, added_term, change


def _unseen_error(sentence: Sentence, fit: Fitted) -> float:
    """Return how far a model errs on rows not seen: left out one by one, else by AIC."""
    assert fit.origin is not None
    other = fit.origin.refit(sentence=sentence)
    if not other.estimate.linear:
        return other.estimate.deviance + 2 * other.solution.rank
    return left_out_error(other) or float("inf")


# ------------------------------------------------------------------ all together


def _bent_fitted(fit: Fitted) -> Iterator[Line]:
    (test,) = _in_digest(fit, np.array([-1]))
    if np.isfinite(test.statistic):
        yield _line(
            "fitted curvature",
            "curvature across fitted values (Tukey)",
            test,
            finding="the relation bends across the fitted values",
            advise=partial(_unbend, fit),
            small=0.02,
            large=0.15,
        )


def _lacking(test: Test) -> Iterator[Line]:
    if np.isfinite(test.statistic):
        df1, df2 = test.df
        yield _line(
            "lack of fit",
            f"lack of fit against {df2:.0f} df of repeats, F({df1:.0f}, {df2:.0f})",
            replace(test, size=test.size - 1),
            finding="replicates scatter less than the model misses by",
            advise=lambda: "add a term or a curve",
            small=0.5,
            large=3.0,
        )


def _unbend(fit: Fitted) -> str:
    """Return the advice: a response that grows along a curve is often straight in its logarithm."""
    if not fit.response.transformed and digest(fit).lowest > 0:
        log = say.change(response=f"log({fit.response.expression})")
        return f"try {log}, or a curve in a predictor"
    return "try a curve in a predictor, or a product of two"


def _next_power(fit: Fitted, factor: NumberFactor) -> str:
    degree = highest_powers(fit)[factor.base] + 1
    if factor.degree != 1:
        base = factor.base
    else:
        base = outside(factor.expression)
    return f"{base}^{number_text(degree)}"


def lack_of_fit(fit: Fitted) -> Test:
    """Return the replicate lack-of-fit test over rows whose predictors are equal.

    Nothing where too few repeat.
    """
    table, chosen = rows_at_hand(fit)
    factors = fit.design.sentence.factors
    names = named_in(factors)
    if not names or fit.lags or _too_many(fit):
        return NOTHING
    if any(table.column(name).all_differ(chosen.rows) for name in names):
        return NOTHING
    codes = np.zeros(chosen.used, dtype=np.int64)
    for name in names:
        context = fit.design.context(table, chosen.rows)
        level_codes, _ = coded(merged_levels(name, factors), context)
        _, codes = np.unique(
            codes * (int(level_codes.max()) + 2) + level_codes, return_inverse=True
        )
        if codes.max() + 1 == len(codes):
            return NOTHING
    figures = per_row(fit)
    w = joined(working_rows(fit).row_blocks, lambda b: b.precisions)
    e = figures.residual / fit.solution.unit
    return replicate_lack_of_fit(e, w, figures.times, codes, fit.solution.rank)


def _too_many(fit: Fitted) -> bool:
    """Return True if rows alike are not looked for, as that takes all rows at once."""
    table, chosen = rows_at_hand(fit)
    return table.read_as_needed and chosen.used > MOST_ALIKE
