"""The covariance of the coefficients, and the design matrix, as tables."""

from __future__ import annotations

from itertools import combinations
from typing import Any

import numpy as np

from joinery.show.appearance import Appearance
from joinery.show.table import Table
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.study.read.coefficients import error_notes
from joinery.study.read.estimates import estimates
from joinery.support.errors import CallError
from joinery.support.limits import DESIGN_CELLS


def covariance_matrix(fit: Fitted) -> tuple[list[str], np.ndarray]:
    """Return names and covariance (m, m) of the estimated coefficients, of the chosen kind."""
    solution, names = fit.solution, estimates(fit).names
    kept = [names[place] for place in solution.places]
    root = solution.root
    if fit.sandwich is not None:
        return kept, root @ fit.sandwich.meat @ root.T * solution.unit**2
    if fit.estimate.scale is None:
        scale = np.nan
    else:
        scale = fit.estimate.scale
    return kept, scale * scale * (root @ root.T)


def covariance(fit: Fitted) -> Table:
    """Return pairs of coefficients. See ``Fit.covariance``."""
    names, V = covariance_matrix(fit)
    with np.errstate(all="ignore"):
        size = np.sqrt(np.diag(V))
        R = V / np.outer(size, size)
    pairs = [(i, i) for i in range(len(names))] + list(combinations(range(len(names)), 2))
    return Table(
        {
            "term": [names[i] for i, _ in pairs],
            "with": [names[j] for _, j in pairs],
            "covariance": np.array([V[i, j] for i, j in pairs]),
            "correlation": np.array([R[i, j] for i, j in pairs]),
        },
        title="Covariance of the coefficients",
        notes=(*error_notes(fit), "with itself: the square of the standard error"),
        appearance=Appearance(
            kinds={"covariance": "own", "correlation": "correlation", "with": "text"}
        ),
    )


def design_columns(fit: Fitted) -> Table:
    """Return the design matrix. See ``Fit.design_columns``."""
    table, used = rows_at_hand(fit)
    if fit.n_rows * (fit.design.width + 1) > DESIGN_CELLS:
        raise CallError(
            f"the design matrix of {fit.n_rows:,} rows × {fit.design.width + 1} columns is too "
            "large for a table"
        )
    X = fit.design.matrix(fit.design.context(table, used.rows))
    columns: dict[str, Any] = {}
    if fit.solution.has_intercept:
        columns["intercept"] = np.ones(len(X))
    columns |= dict(zip(fit.design.names, X.T, strict=True))
    index = table.index[used.rows]
    return Table(
        columns,
        title=f"Design matrix of {fit.sentence}",
        index=index.tolist(),
        index_name=str(index.name or "row"),
        appearance=Appearance(
            kinds=dict.fromkeys(columns, "value"),
            headings={name: fit.words(name) for name in columns},
        ),
    )
