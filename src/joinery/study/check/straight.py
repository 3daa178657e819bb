"""Is each relation straight? Curvature, and lack of fit where rows repeat."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from joinery.core.blocks.partition import joined
from joinery.core.inference import diagnostics
from joinery.core.inference.diagnostics import NOTHING, Test
from joinery.design.factors import NumberFactor
from joinery.notation.tree import names_in, number_text, outside
from joinery.study.check.check import NO_ADVICE, Line, cannot, nothing_left
from joinery.study.fitted import Fitted, rows_at_hand, working_rows
from joinery.study.rows.digest import digest, highest_powers, numbers_alone
from joinery.study.rows.figures import per_row
from joinery.study.verdicts import FINE, judged
from joinery.support import advice as say

MOST_ALIKE = 2**20  # rows of a table that is read as needed among which rows alike are looked for
STRAIGHT = "Is each relation straight?"


def straight(fit: Fitted) -> Iterator[Line]:
    """Curvature in numeric predictors and fitted values, and lack of fit where rows repeat."""
    if why := nothing_left(fit):
        yield cannot("curvature", "straight line", STRAIGHT, "curvature of each predictor", why)
        return
    curves, fitted = _curvature(fit)
    yield from _bent_predictors(fit, curves)
    if (
        fit.estimate.linear
    ):  # else the link has a check of its own, and deviances say what repeats would
        yield from _bent_fitted(fit, fitted)
        yield from _lacking(lack_of_fit(fit))
        if _too_many(fit):
            why = "rows alike are looked for among rows in memory; fit a sample of them"
            yield cannot("lack of fit", "straight line", STRAIGHT, "lack of fit", why)


def _line(kind: str, check: str, test: Test, verdict: str, advice: str, finding: str) -> Line:
    return Line(kind, "straight line", STRAIGHT, check, test, verdict, advice, finding)


def _bent_predictors(fit: Fitted, curves: list[tuple[NumberFactor, Test]]) -> Iterator[Line]:
    """The predictor that bends most, its p corrected for having looked at all."""
    alone = np.array([t.p for _, t in curves])
    corrected = diagnostics.holm(alone)
    worst = int(np.nanargmin(np.append(alone, 2.0)))
    if worst == len(curves):
        return
    factor, test = curves[worst]
    test = Test(test.statistic, float(corrected[worst]), test.df, test.size)
    verdict = judged(test.p, test.size, small=0.02, large=0.15)
    advice, finding = NO_ADVICE, f"{factor.name} bends"
    if verdict != FINE:
        spline = f"spline({outside(factor.expression)})"
        advice = (
            f"{finding}: try {say.change(add=_next_power(fit, factor))}, or {spline} in its place"
        )
    yield _line(
        "curvature", f"curvature of {factor.name} (t, Holm)", test, verdict, advice, finding
    )


def _bent_fitted(fit: Fitted, test: Test) -> Iterator[Line]:
    if np.isfinite(test.statistic):
        verdict = judged(test.p, test.size, small=0.02, large=0.15)
        if verdict == FINE:
            advice = NO_ADVICE
        else:
            advice = _unbend(fit)
        check, finding = (
            "curvature across fitted values (Tukey)",
            "the relation bends across the fitted values",
        )
        yield _line("fitted curvature", check, test, verdict, advice, finding)


def _lacking(test: Test) -> Iterator[Line]:
    if np.isfinite(test.statistic):
        verdict = judged(test.p, test.size - 1, small=0.5, large=3.0)
        if verdict == FINE:
            advice = NO_ADVICE
        else:
            advice = "rows alike agree better than the model says: add a term or a curve"
        df1, df2 = test.df
        check = f"lack of fit against {df2:.0f} df of repeats, F({df1:.0f}, {df2:.0f})"
        yield _line(
            "lack of fit", check, test, verdict, advice, "rows alike agree better than the model"
        )


def _unbend(fit: Fitted) -> str:
    """A response that grows along a curve is often straight in its logarithm."""
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


def _curvature(fit: Fitted) -> tuple[list[tuple[NumberFactor, Test]], Test]:
    """The t of each predictor's next power, and of squared fitted values."""
    solution, sums = fit.solution, digest(fit).curved
    uz = solution.sums_in_basis(sums.raw)
    tests = diagnostics.added_columns(
        sums.squares, uz, sums.products, solution.rss, fit.residual_df
    )
    numbers = [f for f, _ in numbers_alone(fit)]
    return [(f, tests[j]) for j, f in enumerate(numbers) if sums.between[j]], tests[-1]


def lack_of_fit(fit: Fitted) -> Test:
    """The replicate lack-of-fit test over rows whose predictors are equal.

    Nothing where too few repeat.
    """
    table, chosen = rows_at_hand(fit)
    names = dict.fromkeys(
        n.name for t in fit.design.sentence.terms for f in t.factors for n in names_in(f)
    )
    if not names or fit.lags or _too_many(fit):
        return NOTHING
    if any(table.column(name).all_differ(chosen.rows) for name in names):
        return NOTHING
    codes = np.zeros(chosen.used, dtype=np.int64)
    for name in names:
        level_codes = table.column(name).codes(chosen.rows)
        _, codes = np.unique(
            codes * (int(level_codes.max()) + 2) + level_codes, return_inverse=True
        )
        if codes.max() + 1 == len(codes):
            return NOTHING
    figures = per_row(fit)
    w = joined(working_rows(fit).row_blocks, lambda b: b.precisions)
    e = figures.residual / fit.solution.unit
    return diagnostics.replicate_lack_of_fit(e, w, figures.times, codes, fit.solution.rank)


def _too_many(fit: Fitted) -> bool:
    """Return True if rows alike are not looked for, as that takes all rows at once."""
    table, chosen = rows_at_hand(fit)
    return table.read_as_needed and chosen.used > MOST_ALIKE
