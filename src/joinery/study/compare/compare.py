"""Several fits of one response side by side."""

from __future__ import annotations

import warnings
from collections.abc import Sequence
from typing import Any

import numpy as np

from joinery.show.appearance import Appearance
from joinery.show.names import apart, headings
from joinery.show.table import Table
from joinery.study.compare.likelihood_ratio import Nested
from joinery.study.compare.nested import differing, nested_test, same_columns
from joinery.study.fitted import Fitted
from joinery.study.read.estimates import estimates
from joinery.study.resample.crosscheck import ERROR, EXPLAINED, FOLDS, LOG_SCORE
from joinery.study.resample.crosscheck import crosscheck as crosschecked
from joinery.study.rows.figures import left_out_error
from joinery.support.errors import JoineryWarning

FIGURES = ("n_rows", "r_squared", "adjusted_r_squared", "residual_sd", "aic", "bic")
HEADINGS = {
    "n_rows": "rows",
    "r_squared": "R²",
    "adjusted_r_squared": "adjusted R²",
    "residual_sd": "residual SD",
}
# figures of a crosscheck, by the column that they stand in
UNSEEN = {"unseen_error": ERROR, "unseen_explained": EXPLAINED, "unseen_log_score": LOG_SCORE}
TESTED = ("against", "test", "statistic", "df", "p")
HEAD: tuple[str, ...] = (
    *FIGURES,
    "deviance",
    "deviance_explained",
    "residual_df",
    "crosscheck_error",
)
HEAD += (*UNSEEN, *TESTED)
HEADINGS |= {"aic": "AIC", "bic": "BIC", "crosscheck_error": "crosscheck error"}
HEADINGS |= {
    "unseen_error": "typical error, rows not seen",
    "unseen_explained": "R², rows not seen",
    "unseen_log_score": "log score, rows not seen",
}


def compare(fits: Sequence[Fitted], *, crosscheck: bool = False, seed: int | None = None) -> Table:
    """Fit side by side. See ``joinery.compare``."""
    rows: list[dict[str, Any]] = []
    notes: list[str] = []
    for place, fit in enumerate(fits):
        row: dict[str, Any] = {"fit": place + 1, "sentence": fit.sentence}
        row |= _figures(fit)
        row |= _unseen(fit, seed) if crosscheck else {}
        row |= _tested(fits[place - 1], fit, place, notes) if place else {}
        rows.append(row)
        if fit.changes:
            notes.append(f"fit {place + 1} came about by: {'; then '.join(fit.changes)}")
    figures = ["fit", "sentence", *(n for n in HEAD if any(n in row for row in rows))]
    fitted = [estimates(fit) for fit in fits]
    names = list(dict.fromkeys(name for e in fitted for name in e.names))
    reserved = ["fit", "sentence", *HEAD]
    terms = apart(names, reserved)
    errors = apart((f"{name} (standard error)" for name in names), [*reserved, *terms.values()])
    beside = {terms[name]: errors[f"{name} (standard error)"] for name in names}
    for row, e in zip(rows, fitted, strict=True):
        row |= {terms[name]: value for name, value in zip(e.names, e.values)}
        row |= {beside[terms[name]]: error for name, error in zip(e.names, e.standard_errors)}
    order = [*figures, *(column for pair in beside.items() for column in pair)]
    if crosscheck:
        same = len({f.n_rows for f in fits}) == 1
        notes.append(
            "rows not seen: ten folds, the same for all"
            + ("" if same else "; the fits rest on different rows, so the folds differ")
        )
    scales = len({str(f.design.sentence.response) for f in fits}) > 1
    if scales:
        notes.append(
            "residual SD, AIC, BIC and crosscheck error cannot be compared between different "
            "responses"
        )
    notes.append("beside coefficients, in parentheses: standard errors")
    kinds = dict.fromkeys(order, "own") | {
        "sentence": "text",
        "test": "text",
        "p": "p",
        "n_rows": "whole",
    }
    kinds |= {"fit": "whole", "against": "whole", "df": "degrees", "aic": "figure", "bic": "figure"}
    return Table(
        {name: [row.get(name, "" if name == "test" else np.nan) for row in rows] for name in order},
        title="Fits side by side",
        notes=tuple(dict.fromkeys(notes)),
        appearance=Appearance(
            kinds=kinds,
            headings=HEADINGS | headings(terms, fits[0].words),
            transposed="fit",
            listed="sentence",
            joined={term: (error,) for term, error in beside.items()},
        ),
    )


def _figures(fit: Fitted) -> dict[str, Any]:
    """Return the figures of a fit that stand in the comparison; NaN where one has no meaning."""
    names = FIGURES if fit.estimate.linear else ("n_rows", "residual_df", "aic", "bic")
    figures = {name: getattr(fit, name) for name in names}
    if not fit.estimate.linear:
        e = fit.estimate
        figures |= {"deviance": e.deviance}
        if e.null_deviance > 0:
            figures["deviance_explained"] = 1 - e.deviance / e.null_deviance
    figures["crosscheck_error"] = left_out_error(fit)
    return {name: np.nan if value is None else value for name, value in figures.items()}


def _unseen(fit: Fitted, seed: int | None) -> dict[str, float]:
    """Return what a fit is worth on rows not seen, in ten folds that a seed deals."""
    folds = min(FOLDS, fit.n_rows)
    table = crosschecked(fit, folds, seed=seed).frame.set_index("figure")["unseen"]
    return {column: float(table[name]) for column, name in UNSEEN.items() if name in table}


def _tested(before: Fitted, fit: Fitted, place: int, notes: list[str]) -> dict[str, Any]:
    """Return the test of a fit against the one before it, and what there is to say of it."""
    why = differing(before, fit)
    if why is not None:
        words = f"fits {place} and {place + 1} are not tested: {why}"
        warnings.warn(words, JoineryWarning, stacklevel=4)
        notes.append(words)
        return {"against": place}
    small, large = sorted(
        (before, fit), key=lambda f: (f.solution.rank, f.family.shape is not None)
    )
    test: Nested | None = nested_test(small, large)
    if test is None:
        pair = f"fits {place} and {place + 1}"
        if same_columns(small, large):
            notes.append(f"{pair} have the same columns, so there is nothing to test")
        else:
            notes.append(f"{pair} are not nested: neither holds all the columns of the other")
        return {"against": place}
    return {
        "against": place,
        "test": test.name,
        "statistic": test.statistic,
        "df": float(test.df1),
        "p": test.p,
    }
