"""One line of the checks."""

from __future__ import annotations

from dataclasses import dataclass

from joinery.core.inference.diagnostics import NOTHING, Test
from joinery.study.fitted import Fitted


@dataclass(frozen=True)
class Line:
    """One line of the checks."""

    kind: str  # which check it is, for whoever looks for one
    name: str  # the question's own short name
    question: str
    check: str
    test: Test
    verdict: str
    advice: str
    finding: str = ""  # what was seen, in words
    shares_rate: bool = True  # whether its verdict is one of those that the page's rate is for


NO_ADVICE = "nothing"


def cannot(kind: str, name: str, question: str, check: str, why: str) -> Line:
    return Line(kind, name, question, check, NOTHING, "", f"cannot be computed: {why}")


def nothing_left(fit: Fitted) -> str | None:
    """Why residuals cannot be judged at all, or None."""
    if fit.solution.perfect or fit.solution.rss <= 0:
        return "the fit is perfect, so that no residual is left to judge by"
    if fit.residual_df < 2:
        return "too few degrees of freedom are left"
    return None
