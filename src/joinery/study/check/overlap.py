"""Do predictors overlap?"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from joinery.core.inference.condition import condition_indexes, largest_condition_index
from joinery.core.inference.correlation import inflation
from joinery.core.inference.diagnostics import Test
from joinery.core.numeric.distributions import t_quantile
from joinery.notation.tree import spelled
from joinery.show.numbers import figure
from joinery.study.check.check import NO_ADVICE, Line
from joinery.study.fitted import Fitted
from joinery.study.numeric_terms import kept_columns
from joinery.study.read.coefficients import standard_units
from joinery.study.read.estimates import estimates
from joinery.study.verdicts import CAUTION, GRAVE, NO_SIGN, SERIOUS, SLIGHT
from joinery.support import advice as say
from joinery.support.errors import listed

HIGH_INFLATION, EXTREME_INFLATION = 5.0, 10.0
HIGH_INDEX = 30.0  # of condition, from which Belsley 1991 calls a dependency strong
# of the response's standard deviation, for one standard deviation of the term
NARROW_INTERVAL = 0.1

OVERLAP = "Do predictors overlap?"


def overlap(fit: Fitted) -> Iterator[Line]:
    """Yield the largest variance inflation among unrelated terms, and condition indexes."""
    terms = fit.design.terms
    if len(terms) < 2:
        return
    factors = inflations(fit)
    if not factors:  # powers and products of one predictor overlap by construction
        return
    name, worst = max(factors.items(), key=lambda item: item[1])
    verdict = _gravity(fit, name, worst)
    words = f"{name} overlaps other terms (variance inflation {figure(worst, 2)})"
    yield Line(
        "variance inflation",
        "overlap",
        OVERLAP,
        f"variance inflation of {name}",
        Test(worst, float("nan")),
        finding=words,
        verdict=verdict,
        advise=lambda: f"{name} repeats what other terms say: read them together{_jointly(fit)}",
        tested=False,
    )
    largest = _largest_index(fit)
    if largest >= HIGH_INDEX and verdict in GRAVE:
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
        verdict=CAUTION if serious else NO_SIGN,
        advice=advice,
        tested=False,
    )


def _gravity(fit: Fitted, name: str, worst: float) -> str:
    """Return the verdict on an overlap, which weighs what it costs: intervals too wide to read.

    An interval that is narrow beside its coefficient, or beside the response's own spread, costs
    little, however much wider it is than it might be."""
    if worst < HIGH_INFLATION:
        return NO_SIGN
    if _narrow(fit, name):
        return SLIGHT
    if worst >= EXTREME_INFLATION:
        return SERIOUS
    return CAUTION


def _narrow(fit: Fitted, name: str) -> bool:
    """Return True if the intervals of a term are short beside the spread of the response."""
    term = next(t for t in fit.design.terms if t.text == name)
    e = estimates(fit)
    first = int(fit.solution.has_intercept)
    places = [c + first for c in kept_columns(term, set(fit.solution.kept.tolist()))]
    with np.errstate(all="ignore"):
        half = t_quantile(0.975, e.df[places]) * e.standard_errors[places]
        standard = np.abs(half * standard_units(fit)[places])
    return bool(np.all(np.isfinite(standard)) and np.all(standard < NARROW_INTERVAL))


def _jointly(fit: Fitted) -> str:
    """Return the joint claim of the two terms that overlap most."""
    numbers = [n for n, v in sorted(inflations(fit).items(), key=lambda i: -i[1]) if v >= 2][:2]
    named = set(fit.design.names)
    if len(numbers) < 2 or not all(n in named for n in numbers):
        return ""
    text = ", ".join(f"{spelled(n)} = 0" for n in numbers)
    return f": {say.ask('claim', text)}"


def _largest_index(fit: Fitted) -> float:
    if (groups := fit.solution.groups) is not None:
        return groups.largest_condition_index[0]
    return largest_condition_index(uncentred(fit))


def _sharing(fit: Fitted) -> list[str]:
    """Return the coefficients whose variance the largest condition index makes up by half and
    more."""
    if (groups := fit.solution.groups) is not None:
        share = groups.largest_condition_index[1]
    else:
        indexes, shares = condition_indexes(uncentred(fit))
        share = shares[int(np.argmax(indexes))]
    first = ("intercept",) if fit.solution.has_intercept else ()
    names = np.array([*first, *fit.design.names])[fit.solution.places]
    return list(names[share > 0.5])


def inflations(fit: Fitted) -> dict[str, float]:
    """Return each term's variance inflation among unrelated terms, per column.

    A square overlaps its own line, and a product its parts, by construction: that is no fault of
    the data."""
    solution, terms = fit.solution, fit.design.terms
    place = {int(c): i for i, c in enumerate(solution.kept)}
    columns = [np.array([place[c] for c in kept_columns(t, place)], int) for t in terms]
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
    """Return a factor of the columns as written, the constant among them: (rank, rank)."""
    solution = fit.solution
    R = solution.factor * solution.scale
    if not solution.has_intercept:
        return np.asarray(R)
    root = np.sqrt(solution.weight_sum)
    top = np.append(root, root * solution.centre)
    return np.vstack([top, np.column_stack([np.zeros(len(R)), R])])
