"""Rates: means of counts for so much exposure, rather than for what each row has."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.design.factors import shown
from joinery.notation.context import Context
from joinery.notation.evaluate import evaluate
from joinery.notation.walk import names_in
from joinery.study.fitted import Fitted
from joinery.study.rows.figures import linear_predictor, without_exposure
from joinery.support.errors import CallError


@dataclass(frozen=True)
class Counted:
    """The unit of the means of a fit: counts, or rates ``per`` so much exposure.

    Of a response without exposure, the response itself.
    """

    fit: Fitted
    per: float | None = None

    def predictor(self, context: Context, X: np.ndarray) -> tuple[np.ndarray, float]:
        """Return the linear predictor of some rows (m,), and what its means are multiplied by."""
        if self.per is None:
            return linear_predictor(self.fit, context, X), 1.0
        return without_exposure(self.fit, context, X), self.per

    def exposure(self, context: Context) -> np.ndarray | None:
        """Return the exposure of each row (m,); None where the table has no column of it."""
        total = self.fit.response.total
        if total is None or any(n.name not in context.table.names for n in names_in(total)):
            return None
        return evaluate(total, context)

    @property
    def name(self) -> str:
        """Return the name of the means: ``cases``, or ``cases per 100,000 population``."""
        response = self.fit.response
        if response.kind != "per" or response.total is None:
            return self.fit.words(response.original)
        counts = self.fit.words(shown(response.expression))
        if self.per is None:
            return counts
        return f"{counts} per {self.per:,.10g} {self.fit.words(shown(response.total))}"

    @property
    def notes(self) -> list[str]:
        response = self.fit.response
        if response.kind != "per" or response.total is None or self.per is not None:
            return []
        exposure = self.fit.words(shown(response.total))
        return [f"counts for the {exposure} that each row has; per= gives rates"]


def counted(fit: Fitted, per: float | None) -> Counted:
    """Return counts, or rates ``per`` so much exposure.

    Raises CallError where the response has no exposure, and for a number not above zero.
    """
    if per is None:
        return Counted(fit)
    if fit.response.kind != "per":
        raise CallError(
            "rates are of a response with its exposure, as 'cases per population'; "
            f"{fit.response.name} has none",
            argument="per",
        )
    if not (np.isfinite(per) and per > 0):
        words = f"{per} is not an exposure to give rates for; it must be above zero"
        raise CallError(words, argument="per")
    return Counted(fit, float(per))
