"""Analysis of deviance: the whole model, each term, and nested models, by likelihood ratio or F."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import numpy as np

from joinery.core import tails
from joinery.core.families import log_likelihood, negative_binomial
from joinery.core.links import LINKS
from joinery.core.reweighted import Estimated, reweighted
from joinery.core.working import Parts, Turned, linear
from joinery.design.design import DesignTerm
from joinery.design.working import LikelyRows, family_of
from joinery.errors import CallError, listed
from joinery.show.numbers import level_words, percent
from joinery.show.table import Table
from joinery.study.asked import Asked, response_blocks


def test_of(drop: float, df: int, fit: Asked) -> tuple[str, float, float]:
    """A fall in deviance tested: χ² where the dispersion is known, else F with Pearson's φ of the larger model."""
    if fit.glm.known:
        return "chi2", drop, float(tails.chi2_upper(max(drop, 0.0), df)) if df > 0 else np.nan
    phi = fit.dispersion
    f = drop / df / phi if phi and df > 0 else np.nan
    return "f", f, float(tails.f_upper(max(f, 0.0), df, fit.residual_df)) if np.isfinite(f) else np.nan


def overall_deviance(fit: Asked, level: float) -> Table:
    """The whole model against no predictors."""
    df1, df2 = fit.model_df, fit.residual_df
    drop = fit.null_deviance - fit.deviance
    name, statistic, p = test_of(drop, df1, fit)
    notes = []
    if fit.null_deviance > 0:
        notes.append(f"explained / total = {percent(drop / fit.null_deviance)} of the deviance")
    critical = np.nan
    if df1 > 0:
        critical = (
            tails.chi2_quantile(level, df1) if name == "chi2" else tails.f_quantile(level, df1, df2) if df2 else np.nan
        )
    if np.isfinite(statistic) and np.isfinite(critical):
        beats = "exceeds" if statistic > critical else "does not reach"
        symbol = "χ²" if name == "chi2" else "F"
        notes.append(f"{symbol} {beats} {critical:.3g}, the critical value at the {level_words(level)} level")
    blank = [np.nan, np.nan]
    return Table(
        {
            "part": ["explained", "residual", "total"],
            "df": [df1, df2, df1 + df2],
            "deviance": [drop, fit.deviance, fit.null_deviance],
            name: [statistic, *blank],
            "p": [p, *blank],
            f"critical_{name}": [float(critical), *blank],
        },
        title="The whole model against no predictors",
        notes=tuple(notes),
        kinds={name: "own", f"critical_{name}": "own"},
        headings={"critical_chi2": "critical χ²"},
    )


def deviance_table(fit: Asked, after: str) -> Table:
    """The ANOVA table of other families: each line from two nested fits."""
    from joinery.study.anova import ASKS

    parts = list(_lines(fit, after))
    name = "chi2" if fit.glm.known else "f"
    found = [test_of(drop, df, fit) for _, _, df, drop in parts]
    notes = [ASKS[after].replace("; shares add up to R²", "")]
    notes.append(
        "χ² is the fall in deviance" if name == "chi2" else "F is the fall in deviance over df, over the dispersion"
    )
    if fit.sandwich is not None:
        notes.append("tests rest on the likelihood, not on the chosen covariance; claim() uses that")
    return Table(
        {
            "term": [*(term for term, _, _, _ in parts), "residual"],
            "adjusted_for": [*(words for _, words, _, _ in parts), ""],
            "df": [*(df for _, _, df, _ in parts), fit.residual_df],
            "deviance": [*(drop for _, _, _, drop in parts), fit.deviance],
            name: [*(statistic for _, statistic, _ in found), np.nan],
            "p": [*(p for _, _, p in found), np.nan],
        },
        title=f"What each term explains, after {after}",
        notes=tuple(notes),
        kinds={name: "own", "deviance": "own"},
    )


def _lines(fit: Asked, after: str) -> Iterator[tuple[str, str, int, float]]:
    from joinery.study.anova import adjusted, coding_matters, recoded_design

    design = recoded_design(fit.design) if after == "others" and coding_matters(fit.design) else fit.design
    terms = design.terms
    rows = LikelyRows(replace(response_blocks(fit), design=design))
    known: dict[frozenset[int], tuple[float, int]] = {}

    def deviance(chosen: list[int]) -> tuple[float, int]:
        key = frozenset(chosen)
        if key not in known:
            known[key] = restricted(fit, rows, terms, sorted(chosen))
        return known[key]

    for place, term in enumerate(terms):
        before = adjusted(terms, place, after)
        small, rank = deviance(before)
        large, more = deviance([*before, place])
        names = [terms[j].text for j in before]
        yield (
            term.text,
            listed(names, 4) or ("intercept" if design.intercept else "nothing"),
            more - rank,
            small - large,
        )


def restricted(fit: Asked, rows: LikelyRows, terms: tuple[DesignTerm, ...], chosen: list[int]) -> tuple[float, int]:
    """The deviance and rank of a model in some terms, the shape held as the whole fit has it."""
    columns = np.concatenate([np.empty(0, int), *(np.arange(terms[j].start, terms[j].columns.stop) for j in chosen)])
    family = family_of(fit.glm)
    intercept = fit.design.intercept
    if not len(columns) and not intercept:
        return fit.null_deviance, 0
    own = _some(rows, columns)
    if family.name == "negative-binomial":
        # each model has the shape that suits it best, so that 2Δlog L is what the table holds
        return _shaped(fit, own, intercept)
    found = reweighted(own, family, LINKS[fit.link], intercept=intercept, n=fit.n_rows)
    return found.deviance, found.solution.rank


def _shaped(fit: Asked, own: Turned, intercept: bool) -> tuple[float, int]:
    """−2·log likelihood of a negative-binomial model with a shape of its own."""
    found = reweighted(own, negative_binomial(np.inf), LINKS[fit.link], intercept=intercept, n=fit.n_rows)
    return minus_twice_log_likelihood(own, found), found.solution.rank


def minus_twice_log_likelihood(own: Parts, found: Estimated) -> float:
    """−2·log likelihood of rows of counts at estimated coefficients and shape."""
    total = 0.0
    for part in own.pieces:
        eta = linear(found.b, part)
        each = log_likelihood(found.family, found.link, part.y, eta, part.precision, None, 1.0)
        total += float((part.times * each).sum())
    return -2 * total


def _some(rows: LikelyRows, columns: np.ndarray) -> Turned:
    """The same rows with some of their columns."""
    return Turned(rows, len(columns), lambda part: replace(part, X=np.asfortranarray(part.X[:, columns])))


def deviance_test(small: Asked, large: Asked, q: int) -> Any:
    """What the larger of two nested models adds: a Nested."""
    from joinery.study.nesting import Nested

    if large.glm.penalty or small.glm.penalty:
        raise CallError("penalized fits have no likelihood-ratio test; compare their profile intervals")
    if large.glm.shape is not None:
        drop = 2 * ((large.log_likelihood or np.nan) - (small.log_likelihood or np.nan))
    else:
        drop = small.deviance - large.deviance
    name, statistic, p = test_of(drop, q, large)
    return Nested(statistic, "χ²" if name == "chi2" else "F", q, float(large.residual_df), p)
