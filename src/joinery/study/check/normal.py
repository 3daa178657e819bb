"""Whether the residuals are normal."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from joinery.core.inference import diagnostics
from joinery.study.check.check import NO_ADVICE, Line, cannot, nothing_left
from joinery.study.fitted import Fitted
from joinery.study.rows.figures import per_row
from joinery.study.verdicts import FINE, judged

NORMAL = "Are the residuals normal?"


def normal(fit: Fitted) -> Iterator[Line]:
    """The shape of the standardized residuals."""
    if why := nothing_left(fit):
        yield cannot("normality", "normal residuals", NORMAL, "Shapiro–Wilk", why)
        return
    figures = per_row(fit)
    z = figures.influence.standardized
    name, test = diagnostics.normality(*_sound(z, figures.times))
    if not np.isfinite(test.statistic):
        yield cannot(
            "normality",
            "normal residuals",
            NORMAL,
            name,
            "fewer than eight residuals can be scaled",
        )
        return
    verdict = judged(test.p, test.size, small=0.25, large=1.5)
    advice = NO_ADVICE
    if verdict != FINE:
        advice = (
            "intervals of coefficients hardly mind; for new rows use "
            'forecast(intervals="distribution-free")'
        )
        if (
            not fit.response.transformed
            and float(np.min(figures.observed)) > 0
            and float(np.nanmean(z**3)) > 0.5
        ):
            advice = f'try response="log({fit.response.name})"; {advice}'
    yield Line(
        "normality",
        "normal residuals",
        NORMAL,
        name,
        test,
        verdict,
        advice,
        "residuals are not normal",
    )


def _sound(z: np.ndarray, times: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Finite residuals, and how many rows each stands for."""
    here = np.isfinite(z)
    return z[here], times[here]
