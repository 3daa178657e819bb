"""Whether predictors overlap."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from joinery import advice as say
from joinery.core.inference import diagnostics
from joinery.core.inference.correlation import variance_inflation
from joinery.core.inference.diagnostics import Test
from joinery.core.numeric.triangular import triangle
from joinery.errors import listed
from joinery.show.numbers import figure
from joinery.study.check.check import NO_ADVICE, Line
from joinery.study.fitted import Fitted
from joinery.study.verdicts import CAUTION, FINE, SERIOUS

HIGH_INFLATION, EXTREME_INFLATION = 5.0, 10.0
HIGH_INDEX = 30.0

OVERLAP = "Do predictors overlap?"


def overlap(fit: Fitted) -> Iterator[Line]:
    """The largest variance inflation among unrelated terms, and condition indexes."""
    terms = fit.design.terms
    if len(terms) < 2:
        return
    factors = inflations(fit)
    if not factors:  # powers and products of one predictor overlap by construction
        return
    name, worst = max(factors.items(), key=lambda item: item[1])
    verdict = (
        SERIOUS if worst >= EXTREME_INFLATION else CAUTION if worst >= HIGH_INFLATION else FINE
    )
    advice = NO_ADVICE
    if verdict != FINE:
        advice = f"{name} repeats what other terms say: read them together, or try " + say.change(
            drop=_written(fit, name)
        )
    words = f"{name} overlaps other terms (variance inflation {figure(worst, 2)})"
    yield Line(
        "variance inflation",
        "overlap",
        OVERLAP,
        f"variance inflation of {name}",
        Test(worst, float("nan")),
        verdict,
        advice,
        words,
    )
    indexes, shares = diagnostics.condition_indexes(uncentred(fit))
    high = int(np.argmax(indexes))
    names = np.array(
        ["intercept", *fit.design.names] if fit.solution.has_intercept else fit.design.names
    )
    involved = names[fit.solution.places][shares[high] > 0.5]
    serious = (
        indexes[high] >= HIGH_INDEX
        and len([n for n in involved if n != "intercept"]) > 1
        and verdict != FINE
    )
    advice = f"shared by {listed(involved)}" if serious else NO_ADVICE
    yield Line(
        "condition",
        "overlap",
        OVERLAP,
        "largest condition index, uncentred",
        Test(float(indexes[high]), float("nan")),
        CAUTION if serious else FINE,
        advice,
    )


def _written(fit: Fitted, text: str) -> str:
    """A term as the sentence writes it, by its name in tables."""
    return next(
        str(w)
        for w, t in zip(fit.design.sentence.terms, fit.design.terms, strict=True)
        if t.text == text
    )


def inflations(fit: Fitted) -> dict[str, float]:
    """Each term's variance inflation among unrelated terms, per column.

    A square overlaps its own line, and a product its parts, by construction: that is no fault of
    the data."""
    solution, terms = fit.solution, fit.design.terms
    place = {int(c): i for i, c in enumerate(solution.kept)}
    columns = [
        np.array([place[c] for c in range(t.columns.start, t.columns.stop) if c in place], int)
        for t in terms
    ]
    bases = [
        {getattr(f, "base", None) or getattr(f, "label", "") for f in t.factors} for t in terms
    ]
    out: dict[str, float] = {}
    for i, term in enumerate(terms):
        others = [
            j for j in range(len(terms)) if j != i and not bases[i] & bases[j] and len(columns[j])
        ]
        alone = len(terms[i].factors) == 1 and all(
            getattr(f, "degree", 1) == 1 for f in terms[i].factors
        )
        if not others or not len(columns[i]) or not alone:
            continue
        chosen = np.concatenate([columns[i], *(columns[j] for j in others)])
        R = triangle(solution.factor[:, chosen])
        vif = float(variance_inflation(R, [np.arange(len(columns[i]))])[0])
        out[term.text] = vif ** (1 / len(columns[i]))
    return out


def uncentred(fit: Fitted) -> np.ndarray:
    """A factor of the columns as written, the constant among them: (rank, rank)."""
    solution = fit.solution
    R = solution.factor * solution.scale
    if not solution.has_intercept:
        return np.asarray(R)
    root = np.sqrt(solution.weight_sum)
    top = np.append(root, root * solution.centre)
    return np.vstack([top, np.column_stack([np.zeros(len(R)), R])])
