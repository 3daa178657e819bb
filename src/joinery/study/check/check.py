"""One line of the checks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from joinery.core.inference.diagnostics import NOTHING, Test
from joinery.show.numbers import figure
from joinery.study.fitted import Fitted
from joinery.study.verdicts import NO_SIGN, NOT_JUDGED

NO_ADVICE = "nothing"
ORDER = "Are neighbouring rows independent?"


@dataclass(frozen=True)
class Seen:
    """The smallest departure that rows show four times of five."""

    what: str  # "a bend of partial R²", "neighbours alike"
    size: float
    where: str = ""  # "from one end to the other"

    @property
    def digits(self) -> str:
        """The size as it is written."""
        return figure(self.size, 2)

    def __str__(self) -> str:
        return " ".join(filter(None, (self.what, self.digits, self.where)))


@dataclass(frozen=True)
class Line:
    """One line of the checks."""

    kind: str  # which check it is, for whoever looks for one
    name: str  # the question's own short name
    question: str
    check: str
    test: Test
    finding: str = ""  # what was seen, in words
    verdict: str = NO_SIGN  # of a fact; a test has it from the share of its question
    advice: str = NO_ADVICE
    advise: Callable[[], str] | None = None  # makes the advice, where the verdict asks for one
    tested: bool = True  # whether its p makes its verdict
    small: float = 0.0  # sizes below are slight, however small the p
    large: float = float("inf")  # sizes below are never serious
    would_see: Seen | None = None  # the smallest departure that these rows show
    every: int = 1  # it was asked of one row in so many
    allowed_by: str = ""  # the option of the fit that takes care of it, and what it does not mend


def not_judged(kind: str, name: str, question: str, check: str, why: str) -> Line:
    """Return the line of a check that cannot be judged, with the reason."""
    return Line(kind, name, question, check, NOTHING, verdict=NOT_JUDGED, advice=why, tested=False)


def nothing_left(fit: Fitted) -> str | None:
    """Return why residuals cannot be judged at all, or None."""
    if fit.solution.perfect or fit.solution.rss <= 0:
        return "the fit is perfect, so that no residual is left to judge by"
    if fit.residual_df < 2:
        return "too few degrees of freedom are left"
    return None
