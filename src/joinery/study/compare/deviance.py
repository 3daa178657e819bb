"""Analysis of deviance: each term and nested models, by likelihood ratio or F."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from joinery.core.blocks.columns import chosen as some_of
from joinery.core.glm.irls import nested, reweighted
from joinery.core.glm.likelihood import log_likelihood
from joinery.core.glm.penalized import penalized
from joinery.core.glm.rows import MappedRows
from joinery.design.glm_blocks import LikelihoodBlocks
from joinery.design.terms import DesignTerm
from joinery.show.appearance import Appearance
from joinery.show.table import Table
from joinery.study.compare.adjusting import (
    ASKS,
    adjusted,
    coding_matters,
    recoded_design,
    term_basis,
)
from joinery.study.compare.likelihood_ratio import test_of
from joinery.study.fitted import Fitted, once, response_rows
from joinery.study.read.notes import choice_notes, estimate_notes
from joinery.support.errors import NoConvergenceError, listed


def deviance_table(fit: Fitted, after: str) -> Table:
    """Return the ANOVA table of other families: each line from two nested fits."""
    parts = list(_lines(fit, after))
    if fit.estimate.known and fit.sandwich is None:
        name = "chi2"
    else:
        name = "f"
    befores = adjusted(fit.design.terms, after)
    tests = [
        _tested(fit, after, place, befores[place], df, drop)
        for place, (_, _, df, drop) in enumerate(parts)
    ]
    notes = [ASKS[after].replace("; shares add up to R²", "")]
    if any(np.isnan(drop) for *_, drop in parts):
        notes.append(
            "a line is empty where a model without its term has no likeliest means that the "
            "family can have"
        )
    if fit.sandwich is not None:
        notes.append(
            "with the chosen covariance there is no F after earlier: use after='lower-order' or "
            "'others'"
            if after == "earlier"
            else "F is Wald's over its df, from the chosen covariance; deviances are the plain ones"
        )
    elif fit.estimate.penalty:
        notes.append("χ² is the fall in penalized deviance, the penalty that of all columns")
    else:
        over = " over df, over the dispersion"
        notes.append(
            "χ² is the fall in deviance" if name == "chi2" else f"F is the fall in deviance{over}"
        )
    return Table(
        {
            "term": [*(term for term, _, _, _ in parts), "residual"],
            "adjusted_for": [*(words for _, words, _, _ in parts), ""],
            "df": [*(df for _, _, df, _ in parts), fit.residual_df],
            "deviance": [*(drop for _, _, _, drop in parts), fit.estimate.deviance],
            name: [*(statistic for statistic, _ in tests), np.nan],
            "p": [*(p for _, p in tests), np.nan],
        },
        title=f"What each term explains, after {after}",
        notes=(*choice_notes(fit), *estimate_notes(fit), *notes),
        appearance=Appearance(kinds={name: "own", "deviance": "own"}),
    )


def _tested(
    fit: Fitted, after: str, place: int, before: list[int], df: int, drop: float
) -> tuple[float, float]:
    """Return the statistic and p of a line."""
    if fit.sandwich is None:
        return test_of(drop, df, fit)[1:]
    if after == "earlier" or not df:
        return float("nan"), float("nan")
    joint = term_basis(fit, after).wald(fit, before, [place])
    return joint.f, joint.p


def _lines(fit: Fitted, after: str) -> Iterator[tuple[str, str, int, float]]:
    if after == "others" and coding_matters(fit.design):
        design = recoded_design(fit.design)
    else:
        design = fit.design
    terms = design.terms
    rows = LikelihoodBlocks(replace(response_rows(fit), design=design))
    known: dict[frozenset[int], tuple[float, int]] = {}

    def deviance(chosen: list[int]) -> tuple[float, int]:
        key = frozenset(chosen)
        if key not in known:
            known[key] = restricted(fit, rows, terms, sorted(chosen))
        return known[key]

    for (place, term), before in zip(enumerate(terms), adjusted(terms, after), strict=True):
        small, rank = deviance(before)
        large, more = deviance([*before, place])
        names = [terms[j].text for j in before]
        words = listed(names, 4) or ("intercept" if fit.solution.spans_constant else "nothing")
        yield term.text, words, more - rank, small - large


def _near(fit: Fitted, rows: LikelihoodBlocks, columns: np.ndarray) -> np.ndarray | None:
    """Return coefficients (k + 1,) of some of the fit's columns, near their likeliest.

    Those that lose least by the fit's own information. None where the fit does not tell: columns
    left out, coefficients without end, a shape to be estimated, means far from zero, levels
    swept out."""
    s = fit.solution
    full = len(s.kept) == rows.width and s.has_intercept and rows.blocks.design is fit.design
    if not full or fit.estimate.running or fit.family.shape is not None or not len(columns):
        return None
    if s.far_centre.any() or s.groups is not None:
        return None
    A = _inverse_root(fit)[:, np.append(0, columns + 1)]
    return np.asarray(np.linalg.lstsq(A, s.basis_coefficients, rcond=None)[0])


@once
def _inverse_root(fit: Fitted) -> np.ndarray:
    """Return the map from coefficients to the basis of the solution, which every part of a model
    asks."""
    return np.asarray(np.linalg.inv(fit.solution.root))


def restricted(
    fit: Fitted, rows: LikelihoodBlocks, terms: tuple[DesignTerm, ...], chosen: list[int]
) -> tuple[float, int]:
    """Return the deviance and rank of a model in some terms.

    Of counts with a shape −2·log likelihood, each with its own.

    The constant is there wherever the whole model holds it. Penalized, the other coefficients are
    held at zero."""
    columns = np.concatenate(
        [np.empty(0, int), *(np.arange(terms[j].start, terms[j].columns.stop) for j in chosen)]
    )
    family, link, constant = fit.family, fit.link, fit.solution.spans_constant
    if fit.estimate.penalty:
        held = penalized(
            rows, family, link, intercept=fit.solution.has_intercept, n=fit.n_rows, columns=columns
        )
        return held.objective, held.rank
    if not len(columns) and not constant:
        return fit.estimate.null_deviance, 0
    some = MappedRows(rows, len(columns), lambda part: replace(part, X=some_of(part.X, columns)))
    if fit.estimate.known:
        known = fit.estimate.dispersion
    else:
        known = None
    if (start := _near(fit, rows, columns)) is not None:
        result = nested(
            some, family, link, start, intercept=constant, n=fit.n_rows, dispersion=known
        )
        if result is not None:
            return result[0], len(columns) + constant
    try:
        fit_of_some = reweighted(
            some, family, link, intercept=constant, n=fit.n_rows, dispersion=known
        )
    except NoConvergenceError:  # said beside the table: the line is empty
        return float("nan"), len(columns) + constant
    # stopped at an end of what means can be: there is no maximum
    if not fit_of_some.converged and not fit_of_some.running:
        return float("nan"), fit_of_some.solution.rank
    if family.shape is not None:
        return -2 * log_likelihood(some, fit_of_some), fit_of_some.solution.rank
    return fit_of_some.deviance, fit_of_some.solution.rank
