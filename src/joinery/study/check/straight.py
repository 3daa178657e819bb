"""Whether each relation is straight: curvature, and lack of fit where rows repeat."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from joinery import advice as say
from joinery.core.blocks.columns import some_columns
from joinery.core.blocks.partition import joined
from joinery.core.inference import diagnostics
from joinery.core.inference.diagnostics import NOTHING, Test
from joinery.design.factors import NumberFactor
from joinery.design.row_blocks import RowBlock
from joinery.notation.tree import names_in, number_text, outside
from joinery.study.check.check import NO_ADVICE, Line, cannot, nothing_left
from joinery.study.fitted import Fitted, rows_at_hand, working_rows
from joinery.study.rows.figures import per_row
from joinery.study.verdicts import FINE, judged

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
        advice = NO_ADVICE if verdict == FINE else _unbend(fit)
        check, finding = (
            "curvature across fitted values (Tukey)",
            "the relation bends across the fitted values",
        )
        yield _line("fitted curvature", check, test, verdict, advice, finding)


def _lacking(test: Test) -> Iterator[Line]:
    if np.isfinite(test.statistic):
        verdict = judged(test.p, test.size - 1, small=0.5, large=3.0)
        advice = (
            NO_ADVICE
            if verdict == FINE
            else "rows alike agree better than the model says: add a term or a curve"
        )
        df1, df2 = test.df
        check = f"lack of fit against {df2:.0f} df of repeats, F({df1:.0f}, {df2:.0f})"
        yield _line(
            "lack of fit", check, test, verdict, advice, "rows alike agree better than the model"
        )


def _unbend(fit: Fitted) -> str:
    """A response that grows along a curve is often straight in its logarithm."""
    figures = per_row(fit)
    if not fit.response.transformed and float(np.min(figures.observed)) > 0:
        log = say.change(response=f"log({fit.response.expression})")
        return f"try {log}, or a curve in a predictor"
    return "try a curve in a predictor, or a product of two"


def _next_power(fit: Fitted, factor: NumberFactor) -> str:
    degree = _highest_powers(fit)[factor.base] + 1
    base = factor.base if factor.degree != 1 else outside(factor.expression)
    return f"{base}^{number_text(degree)}"


def _highest_powers(fit: Fitted) -> dict[str, float]:
    """The highest power of each base that stands alone as a term."""
    out: dict[str, float] = {}
    for term in fit.design.terms:
        factor = term.factors[0]
        if len(term.factors) == 1 and isinstance(factor, NumberFactor):
            out[factor.base] = max(factor.degree, out.get(factor.base, factor.degree))
    return out


def _numbers_alone(fit: Fitted) -> list[tuple[NumberFactor, int]]:
    """Each numeric factor that is a term of its own, once for each base, with its column.

    Comparisons do not bend.
    """
    out: dict[str, tuple[NumberFactor, int]] = {}
    for term in fit.design.terms:
        factor = term.factors[0]
        if len(term.factors) == 1 and isinstance(factor, NumberFactor) and factor.degree == 1:
            out.setdefault(factor.base, (factor, term.start))
    return list(out.values())


def _curvature(fit: Fitted) -> tuple[list[tuple[NumberFactor, Test]], Test]:
    """The t of each predictor's next power, and of squared fitted values, in one pass."""
    solution = fit.solution
    numbers = [(f, c) for f, c in _numbers_alone(fit) if c in solution.kept]
    middle = {int(c): m for c, m in zip(solution.kept, solution.centre)}
    highest_of = _highest_powers(fit)
    degrees = [int(highest_of[f.base]) + 1 for f, _ in numbers]
    figures = per_row(fit)
    # without a constant a shifted square would bring one in
    middle_fitted = (
        float(np.average(figures.terms, weights=figures.times)) if solution.spans_constant else 0.0
    )
    size = len(numbers) + 1
    zz, ze, raw = np.zeros(size), np.zeros(size), np.zeros((len(solution.kept) + 1, size))
    lowest, highest = np.full(size, np.inf), np.full(size, -np.inf)
    between = np.zeros(size, bool)  # whether a value lies between the lowest and the highest

    places = np.array([column for _, column in numbers], int)
    centres = np.array([middle.get(column, 0.0) for _, column in numbers])

    def sums(block: RowBlock) -> tuple[np.ndarray, ...]:
        m = len(block.y)
        w = np.ones(m) if block.weights is None else block.weights
        e, fitted = figures.working[block.own], figures.terms[block.own]
        z = np.empty((m, size), order="F")  # as the columns lie
        np.subtract(some_columns(block.columns, places), centres, out=z[:, :-1])
        z[:, -1] = (fitted - middle_fitted) / solution.unit
        low, high = z.min(axis=0, initial=np.inf), z.max(axis=0, initial=-np.inf)
        inside = ((z > low) & (z < high)).any(axis=0)
        Z = _powers(z, [*degrees, 2])
        weighted = Z if block.weights is None else Z * w[:, None]
        squares = np.einsum("ij,ij->j", Z, weighted)
        return (
            solution.centred_sums(block.columns, weighted),
            squares,
            weighted.T @ (e / solution.unit),
            low,
            high,
            inside,
        )

    for u, squares, products, low, high, inside in working_rows(fit).row_blocks.each(sums):
        raw, zz, ze = raw + u, zz + squares, ze + products
        # blocks of two values each may hold three together
        apart = np.isfinite(lowest) & ((low != lowest) | (high != highest))
        between |= inside | (apart & _third(low, high, lowest, highest))
        lowest, highest = np.minimum(lowest, low), np.maximum(highest, high)
    uz = solution.sums_in_basis(raw)
    tests = [
        diagnostics.added_column(zz[j], uz[:, j], ze[j], solution.rss, fit.residual_df)
        for j in range(size)
    ]
    return [(f, tests[j]) for j, (f, _) in enumerate(numbers) if between[j]], tests[-1]


def _powers(z: np.ndarray, degrees: list[int]) -> np.ndarray:
    """Each column of z to its own whole power, by multiplication."""
    out = z * z
    for j in (j for j, degree in enumerate(degrees) if degree > 2):
        for _ in range(degrees[j] - 2):
            out[:, j] *= z[:, j]
    return np.asarray(out)


def _third(
    low: np.ndarray, high: np.ndarray, lowest: np.ndarray, highest: np.ndarray
) -> np.ndarray:
    """Whether the ends of two blocks are more than two different values."""
    ends = np.sort(np.vstack([low, high, lowest, highest]), axis=0)
    return np.asarray((np.diff(ends, axis=0) > 0).sum(axis=0) > 1)


def lack_of_fit(fit: Fitted) -> Test:
    """The replicate lack-of-fit test over rows whose predictors are equal.

    Nothing where too few repeat.
    """
    table, chosen = rows_at_hand(fit)
    names = dict.fromkeys(
        n.name for t in fit.design.sentence.terms for f in t.factors for n in names_in(f)
    )
    if not names or _lagged(fit):
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


def _lagged(fit: Fitted) -> bool:
    return any("lag(" in str(t) for t in fit.design.sentence.terms)
