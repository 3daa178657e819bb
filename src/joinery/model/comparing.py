"""Several fits of one response side by side."""

from __future__ import annotations

import warnings
from typing import Any

import numpy as np

from joinery.errors import CallError, JoineryWarning
from joinery.model.fit import Fit
from joinery.show.table import Table
from joinery.study.coefficients import estimates
from joinery.study.nesting import Nested, differing, nested_test
from joinery.study.per_row import left_out_error

FIGURES = ("n_rows", "r_squared", "adjusted_r_squared", "residual_sd", "aic", "bic")
HEADINGS = {"n_rows": "rows", "r_squared": "R²", "adjusted_r_squared": "adjusted R²", "residual_sd": "residual SD"}
HEADINGS |= {"aic": "AIC", "bic": "BIC", "crosscheck_error": "crosscheck error"}


def compare(*fits: Fit) -> Table:
    """Fits of the same response side by side: figures, nested ones tested, coefficients with standard errors.

    Parameters: two or more fits. Each is tested against the one before it when one of the two holds the other.
    Returns a Table with a row for each fit: sentence, figures, crosscheck_error (left-one-out), against, test, df, p,
    and each coefficient with its standard error. Warns with JoineryWarning when fits rest on different rows or
    responses, and says what to do. Raises CallError for fewer than two fits, or one loaded from a file.
    Source: Draper & Smith 1998, 6.1.

    >>> import joinery as jn
    >>> one = jn.fit("sample:yields", "honey_kg given forage_km2")
    >>> jn.compare(one, one.revise(add="hive_type"))["df"].tolist()[1]
    2.0
    """
    found = list(fits[0]) if len(fits) == 1 and isinstance(fits[0], (list, tuple)) else list(fits)
    if len(found) < 2:
        raise CallError("compare takes two or more fits: compare(first, second)")
    rows: list[dict[str, Any]] = []
    notes: list[str] = []
    for place, fit in enumerate(found):
        row: dict[str, Any] = {"fit": place + 1, "sentence": fit.sentence}
        own = FIGURES if fit.glm is None else ("n_rows", "deviance", "residual_df", "aic", "bic")
        figures = {name: getattr(fit, name) for name in own} | {"crosscheck_error": left_out_error(fit)}
        row |= {name: np.nan if value is None else value for name, value in figures.items()}
        row |= _tested(found[place - 1], fit, place, notes) if place else {}
        rows.append(row)
        if fit.changes:
            notes.append(f"fit {place + 1} came about by: {'; then '.join(fit.changes)}")
    for row, fit in zip(rows, found, strict=True):
        e = estimates(fit)
        for name, value, error in zip(e.names, e.values, e.standard_errors):
            row[name], row[f"{name} (standard error)"] = value, error
    names = list(dict.fromkeys(name for row in rows for name in row if "(standard error)" not in name))
    head = [*FIGURES, "deviance", "residual_df", "crosscheck_error", "against", "test", "statistic", "df", "p"]
    order = ["fit", "sentence", *(n for n in head if any(n in r for r in rows))]
    for name in names:
        if name not in order:
            order += [name, f"{name} (standard error)"]
    scales = len({str(f.design.sentence.response) for f in found}) > 1
    if scales:
        notes.append("residual SD, AIC, BIC and crosscheck error cannot be compared between different responses")
    kinds = dict.fromkeys(order, "own") | {"sentence": "text", "test": "text", "p": "p", "n_rows": "whole"}
    kinds |= {"fit": "whole", "against": "whole", "df": "degrees", "aic": "figure", "bic": "figure"}
    return Table(
        {name: [row.get(name, "" if name == "test" else np.nan) for row in rows] for name in order},
        title="Fits side by side",
        notes=tuple(dict.fromkeys(notes)),
        kinds=kinds,
        headings=HEADINGS,
    )


def _tested(before: Fit, fit: Fit, place: int, notes: list[str]) -> dict[str, Any]:
    """The test of a fit against the one before it, and what there is to say of it."""
    why = differing(before, fit)
    if why is not None:
        told = f"fits {place} and {place + 1} are not tested: {why}"
        warnings.warn(told, JoineryWarning, stacklevel=3)
        notes.append(told)
        return {"against": place}
    small, large = sorted((before, fit), key=lambda f: f.solution.rank)
    test: Nested | None = nested_test(small, large)
    if test is None:
        notes.append(f"fits {place} and {place + 1} are not nested: neither holds all the columns of the other")
        return {"against": place}
    return {"against": place, "test": test.name, "statistic": test.statistic, "df": float(test.df1), "p": test.p}
