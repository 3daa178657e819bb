"""The arithmetic behind the figures, step after step, as a teacher writes it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from joinery.data.any_table import records
from joinery.notation.parse import read_assignments
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.study.held import check_named
from joinery.study.understand.worked import Workings, estimated_columns, estimated_names
from joinery.study.understand.worked_equations import reweighted, several
from joinery.study.understand.worked_line import one_predictor
from joinery.support import advice
from joinery.support.errors import CallError


def workings(fit: Fitted, at: float | Mapping[str, Any] | str | None = None) -> Workings:
    """Return the workings. See ``Fit.workings``."""
    rows_at_hand(fit)
    if fit.solution.perfect or fit.residual_df < 1:
        raise CallError("no degrees of freedom are left, so there is nothing to be worked out")
    if fit.sandwich is not None:
        raise CallError(
            "the workings are those of constant spread; fit with the plain standard errors"
        )
    if fit.estimate.linear and fit.estimate.known:
        raise CallError(
            "the workings are those of a residual SD that the rows tell; fit without "
            f"{advice.option('dispersion')}"
        )
    with np.errstate(all="ignore"):
        squares = np.square(fit.solution.unit) * fit.solution.tss
    if not np.finfo(float).tiny < squares < np.inf:
        raise CallError(
            f"the squares of {fit.response.name} are too small or too large for numbers; rescale it"
        )
    if not fit.estimate.linear:
        return reweighted(fit)
    names = estimated_names(fit)
    if fit.solution.has_intercept and len(names) == 2:
        return one_predictor(fit, estimated_columns(fit)[:, 1], names[1], _value_at(fit, at))
    if at is not None:
        raise CallError(
            f"{advice.option('at')} is for a single predictor; forecast gives the others",
            argument="at",
        )
    return several(fit)


def _value_at(fit: Fitted, at: float | Mapping[str, Any] | str | None) -> float | None:
    """Return the value of the one column of the design at a row, or as it was given."""
    if isinstance(at, str):
        try:
            at = float(at)
        except ValueError:
            at = read_assignments(str(at))
    if at is None or isinstance(at, (int, float)):
        return at
    table = records({name: [value] for name, value in at.items()}, like=fit.design.manner)
    check_named(fit, table.names, f" for {advice.option('at')}")
    row = fit.design.matrix(fit.design.context(table, np.arange(1)))
    return float(row[0, fit.solution.kept[0]])
