"""The predictors of the row before, where they are left out; and series that wander together."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from joinery.core.inference.diagnostics import Test
from joinery.design.factors import NumberFactor
from joinery.notation.tree import Name, outside, spelled
from joinery.show.numbers import count
from joinery.study.check.added import surest_of, would_see
from joinery.study.check.check import ORDER, Line
from joinery.study.check.sequence import Sequence, order_option
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.study.numeric_terms import numbers_alone
from joinery.support import advice as say
from joinery.support.limits import ORDER_CELLS

# d times the rows, below which residuals are not told from a random walk at 5 %: 0.39 at 100 rows
# (Sargan & Bhargava 1983); in few rows errors alike 0.5 have a d near 1, which is no walk
WALKING, MOST_WALKING = 39.0, 0.5
STEPS = "take steps from row to row instead"  # how the advice begins


def lagged_predictors(fit: Fitted, known: Sequence) -> Iterator[Line]:
    """Yield the predictor of the row before that goes with the residuals most, its p by Holm over
    all."""
    factors = [factor for factor, _ in numbers_alone(fit)]
    if not factors or fit.n_rows * len(factors) > ORDER_CELLS:
        return
    best = surest_of(fit, [_before(fit, known, factor) for factor in factors])
    if best is None:
        return
    place, test = best
    name = factors[place].name
    yield Line(
        "lagged predictor",
        "order",
        ORDER,
        f"{name} of the row before added (F, Holm over {count(len(factors), 'number')})",
        test,
        finding=f"{name} of the row before is not in the model, and explains part of its residuals",
        advise=lambda: f"add it: {_adding(fit, known, factors[place])}",
        small=0.01,
        would_see=would_see(fit, "order", len(factors), test, "a predictor of the row before"),
    )


def _before(fit: Fitted, known: Sequence, factor: NumberFactor) -> np.ndarray:
    """Return a predictor one row back (n, 1), standardized; 0, its mean, where no row is before."""
    table, chosen = rows_at_hand(fit)
    x = factor.columns(fit.design.context(table, chosen.rows))[:, 0]
    standardized = (x - x.mean()) / (x.std() or 1.0)
    return np.asarray(np.nan_to_num(known.before(standardized)))[:, None]


def _lag(expression: str, known: Sequence) -> str:
    """Return the term that is one row back in an order, as a sentence writes it."""
    if known.within is None:
        return f"lag({expression}, 1)"
    return f"lag({expression}, 1, by={spelled(known.within)})"


def _adding(fit: Fitted, known: Sequence, factor: NumberFactor) -> str:
    term = _lag(outside(factor.expression), known)
    return say.change(add=term, **order_option(fit, known))


def wandering(fit: Fitted, d: Test) -> bool:
    """Return True where residuals wander: their d is no larger than a random walk's.

    Series that wander each by itself go together by chance (Granger & Newbold 1974)."""
    if not fit.estimate.linear or not numbers_alone(fit):
        return False
    return d.statistic < min(MOST_WALKING, WALKING / fit.n_rows)


def differences(fit: Fitted, known: Sequence | None) -> str:
    """Return the call that takes steps from row to row instead of the values, or nothing."""
    response = fit.design.sentence.response
    expressions = [factor.expression for factor, _ in numbers_alone(fit)]
    plain = all(isinstance(expression, Name) for expression in (*expressions, response.expression))
    if known is None or response.kind != "plain" or not plain:
        return ""

    def step(name: str) -> str:
        return f"({name} - {_lag(name, known)})"

    names = [outside(expression) for expression in expressions]
    return say.change(
        response=step(outside(response.expression)),
        drop=names,
        add=[step(name) for name in names if name != spelled(known.name)],
        **order_option(fit, known),
    )
