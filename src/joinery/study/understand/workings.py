"""The arithmetic behind the figures, step after step, as a teacher writes it."""

from __future__ import annotations

from joinery import advice
from joinery.errors import CallError
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.study.understand.worked import Workings, estimated_columns, estimated_names
from joinery.study.understand.worked_equations import reweighted, several
from joinery.study.understand.worked_line import one_predictor


def workings(fit: Fitted, at: float | None = None) -> Workings:
    """The workings. See ``Fit.workings``."""
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
    if not fit.estimate.linear:
        return reweighted(fit)
    names = estimated_names(fit)
    if fit.solution.has_intercept and len(names) == 2:
        return one_predictor(fit, estimated_columns(fit)[:, 1], names[1], at)
    return several(fit)
