"""Do predictors overlap?"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from joinery.core.inference import diagnostics
from joinery.core.inference.correlation import inflation
from joinery.core.inference.diagnostics import Test
from joinery.show.numbers import figure
from joinery.study.check.check import NO_ADVICE, Line
from joinery.study.fitted import Fitted
from joinery.study.verdicts import CAUTION, FINE, SERIOUS
from joinery.support import advice as say
from joinery.support.errors import listed

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
    if worst >= EXTREME_INFLATION:
        verdict = SERIOUS
    elif worst >= HIGH_INFLATION:
        verdict = CAUTION
    else:
        verdict = FINE
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
    largest = _largest_index(fit)
    if largest >= HIGH_INDEX and verdict != FINE:
        involved = _sharing(fit)
    else:
        involved = []
    serious = len([n for n in involved if n != "intercept"]) > 1
    if serious:
        advice = f"shared by {listed(involved)}"
    else:
        advice = NO_ADVICE
    yield Line(
        "condition",
        "overlap",
        OVERLAP,
        "largest condition index, uncentred",
        Test(largest, float("nan")),
        CAUTION if serious else FINE,
        advice,
    )


def _largest_index(fit: Fitted) -> float:
    if (groups := fit.solution.groups) is not None:
        return groups.largest_condition_index[0]
    return diagnostics.largest_condition_index(uncentred(fit))


def _sharing(fit: Fitted) -> list[str]:
    """The coefficients whose variance the largest condition index makes up by half and more."""
    if (groups := fit.solution.groups) is not None:
        share = groups.largest_condition_index[1]
    else:
        indexes, shares = diagnostics.condition_indexes(uncentred(fit))
        share = shares[int(np.argmax(indexes))]
    first = ("intercept",) if fit.solution.has_intercept else ()
    names = np.array([*first, *fit.design.names])[fit.solution.places]
    return list(names[share > 0.5])


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
        {str(getattr(f, "base", None) or getattr(f, "label", "")) for f in t.factors} for t in terms
    ]
    by_base: dict[str, list[int]] = {}
    for i, part in enumerate(bases):
        for base in part:
            by_base.setdefault(base, []).append(i)
    # of one column beside unrelated ones, its length times that of its row of the inverse
    plain = (solution.lengths * solution.error_factors[int(solution.has_intercept) :]) ** 2
    out: dict[str, float] = {}
    for i, term in enumerate(terms):
        alone = len(term.factors) == 1 and getattr(term.factors[0], "degree", 1) == 1
        related = {j for base in bases[i] for j in by_base[base]} - {i}
        apart = np.concatenate([np.empty(0, int), *(columns[j] for j in sorted(related))])
        if not alone or not 0 < len(columns[i]) < len(solution.kept) - len(apart):
            continue
        if len(columns[i]) == 1 and not len(apart):
            out[term.text] = float(plain[columns[i][0]])
            continue
        vif = inflation(solution, columns[i], apart)
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
