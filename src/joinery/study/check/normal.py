"""Are the residuals normal?"""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

import numpy as np

from joinery.core.inference.diagnostics import Test
from joinery.core.inference.normality import NORMAL_ROWS, normality
from joinery.core.numeric import distributions as tails
from joinery.show.numbers import count, figure
from joinery.study.check.check import Line, not_judged, nothing_left
from joinery.study.fitted import Fitted
from joinery.study.rows.digest import FAR_SHARE, Held, digest
from joinery.study.rows.figures import studentized_df
from joinery.support import advice as say

NORMAL = "Are the residuals normal?"
FEW_FOR_TAILS = 200  # rows below which none is counted as far off


def normal(fit: Fitted) -> Iterator[Line]:
    """Yield the shape of the standardized residuals."""
    if why := nothing_left(fit):
        yield not_judged("normality", "normal residuals", NORMAL, "Shapiro–Wilk", why)
        return
    totals = digest(fit)
    if totals.moments.n <= NORMAL_ROWS:
        held = totals.held
    else:
        held = None
    z, times = (None, None) if held is None else _sound(held)
    name, test = normality(totals.moments, z, times)
    if not np.isfinite(test.statistic):
        yield not_judged(
            "normality",
            "normal residuals",
            NORMAL,
            name,
            "fewer than eight residuals can be scaled",
        )
        return
    yield Line(
        "normality",
        "normal residuals",
        NORMAL,
        name,
        test,
        finding="residuals are not normal",
        advise=partial(_advice, fit),
        small=0.25,
        large=1.5,
    )
    yield from _far_off(fit)


def _far_off(fit: Fitted) -> Iterator[Line]:
    """Yield how many residuals are middling far off, against the one in a hundred that chance
    brings."""
    totals = digest(fit)
    rows, far = int(totals.moments.n), totals.far
    if rows < FEW_FOR_TAILS or not totals.alike:  # equal rows are far off together
        return
    limit = float(tails.t_quantile(1 - FAR_SHARE / 2, studentized_df(fit)))
    p = 1 - float(tails.binomial_below(far - 1, rows, FAR_SHARE))
    expected = FAR_SHARE * rows
    rows_are = count(far, "row is", "rows are")
    yield Line(
        "rows far off",
        "normal residuals",
        NORMAL,
        f"studentized residuals beyond {figure(limit, 3)}, {figure(expected, 2)} by chance",
        Test(float(far), p, (), far / expected - 1),
        finding=f"{rows_are} far off where chance brings {figure(expected, 2)}",
        advise=lambda: (
            f"{say.ask('draw', 'quantiles')} shows them; rows of another kind may be mixed in"
        ),
        small=0.5,
        large=3.0,
    )


def _advice(fit: Fitted) -> str:
    free = say.option("intervals", "distribution-free")
    advice = f"intervals of coefficients hardly mind; forecast new rows with {free}"
    totals = digest(fit)
    skewed = totals.cubes / max(totals.sound, 1) > 0.5
    if not fit.response.transformed and totals.lowest > 0 and skewed:
        return f"try {say.change(response=f'log({fit.response.expression})')}; {advice}"
    if fit.response.transformed:  # a mean back-transformed rests on the normal law
        return f"means back-transformed from {fit.response.name} rest on it; {advice}"
    return advice


def _sound(held: Held) -> tuple[np.ndarray, np.ndarray | None]:
    """Return finite residuals, and how many rows each stands for."""
    here = np.isfinite(held.standardized)
    return held.standardized[here], None if held.times is None else held.times[here]
