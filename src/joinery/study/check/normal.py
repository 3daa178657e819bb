"""Are the residuals normal?"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from joinery.core.inference import diagnostics
from joinery.core.numeric import distributions as tails
from joinery.show.numbers import figure
from joinery.study.check.check import NO_ADVICE, Line, cannot, nothing_left
from joinery.study.fitted import Fitted
from joinery.study.rows.digest import FAR_SHARE, Held, digest
from joinery.study.rows.figures import studentized_df
from joinery.study.verdicts import FINE, judged
from joinery.support import advice as say

NORMAL = "Are the residuals normal?"
FEW = 200  # rows below which none is counted as far off


def normal(fit: Fitted) -> Iterator[Line]:
    """The shape of the standardized residuals."""
    if why := nothing_left(fit):
        yield cannot("normality", "normal residuals", NORMAL, "Shapiro–Wilk", why)
        return
    totals = digest(fit)
    if totals.moments.n <= diagnostics.NORMAL_ROWS:
        held = totals.held
    else:
        held = None
    z, times = (None, None) if held is None else _sound(held)
    name, test = diagnostics.normality(totals.moments, z, times)
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
        free = say.option("intervals", "distribution-free")
        advice = f"intervals of coefficients hardly mind; forecast new rows with {free}"
        if (
            not fit.response.transformed
            and totals.lowest > 0
            and totals.cubes / max(totals.sound, 1) > 0.5
        ):
            advice = f"try {say.change(response=f'log({fit.response.expression})')}; {advice}"
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
    yield from _far_off(fit)


def _far_off(fit: Fitted) -> Iterator[Line]:
    """Yield how many residuals are middling far off, against the one in a hundred that chance
    brings."""
    totals = digest(fit)
    rows, count = int(totals.moments.n), totals.far
    if rows < FEW or not totals.alike:  # equal rows are far off together
        return
    limit = float(tails.t_quantile(1 - FAR_SHARE / 2, studentized_df(fit)))
    p = 1 - float(tails.binomial_below(count - 1, rows, FAR_SHARE))
    verdict = judged(p, count / (FAR_SHARE * rows) - 1, small=0.5, large=3.0)
    advice = f"{say.ask('draw', 'quantiles')} shows them; rows of another kind may be mixed in"
    yield Line(
        "rows far off",
        "normal residuals",
        NORMAL,
        f"studentized residuals beyond {figure(limit, 3)}, {figure(FAR_SHARE * rows, 2)} by chance",
        diagnostics.Test(float(count), p),
        verdict,
        advice if verdict != FINE else NO_ADVICE,
        f"{count:,} rows are far off where chance brings {figure(FAR_SHARE * rows, 2)}",
    )


def _sound(held: Held) -> tuple[np.ndarray, np.ndarray | None]:
    """Finite residuals, and how many rows each stands for."""
    here = np.isfinite(held.standardized)
    return held.standardized[here], None if held.times is None else held.times[here]
