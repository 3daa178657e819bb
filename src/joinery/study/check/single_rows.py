"""Rows badly fitted, rows that decide."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from joinery import advice as say
from joinery.core.inference.diagnostics import Test
from joinery.core.numeric import distributions as tails
from joinery.errors import listed
from joinery.show.numbers import figure, value
from joinery.study.check.check import NO_ADVICE, Line, cannot, nothing_left
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.study.rows.figures import limits, per_row, studentized_df, widening
from joinery.study.rows.table import remarks
from joinery.study.verdicts import CAUTION, FINE, SERIOUS

BADLY, DECIDES = "Is any row badly fitted?", "Does any row decide the answer?"


def badly_fitted(fit: Fitted) -> Iterator[Line]:
    """The largest studentized residual, with Bonferroni's correction for all rows."""
    if why := nothing_left(fit):
        yield cannot("outlier", "outliers", BADLY, "largest studentized residual", why)
        return
    table, chosen = rows_at_hand(fit)
    t, times = per_row(fit).influence.studentized / widening(fit), per_row(fit).times
    if not np.isfinite(t).any():
        yield cannot(
            "outlier",
            "outliers",
            BADLY,
            "largest studentized residual",
            "no residual can be scaled",
        )
        return
    place = int(np.nanargmax(np.abs(t)))
    p = min(
        float(tails.t_two_sided(t[place], studentized_df(fit)) * times[np.isfinite(t)].sum()), 1.0
    )
    label = table.index[chosen.rows][place]
    at = limits(fit)
    size = abs(t[place])
    verdict = SERIOUS if size >= at.serious else CAUTION if size >= at.studentized else FINE
    advice = NO_ADVICE
    if verdict != FINE:
        without = say.change(leave_out=[str(label)])
        advice = f"look at row {label} for a mistake; see the fit without it: {without}"
    words = f"row {label} is badly fitted (studentized residual {figure(float(t[place]), 2)})"
    test = Test(float(t[place]), p)
    yield Line(
        "outlier",
        "outliers",
        BADLY,
        f"studentized residual of {label} (Bonferroni)",
        test,
        verdict,
        advice,
        words,
    )


def decides(fit: Fitted) -> Iterator[Line]:
    """The largest Cook's distance against the median of F, and the largest leverage."""
    if why := nothing_left(fit):
        yield cannot("cooks distance", "influence", DECIDES, "largest Cook's distance", why)
        return
    table, chosen = rows_at_hand(fit)
    measures, at = per_row(fit).influence, limits(fit)
    d = measures.cooks_distance / widening(fit) ** 2
    labels = table.index[chosen.rows]
    alone = np.flatnonzero(measures.leverage >= 1)
    if np.isfinite(d).any():
        place = int(np.nanargmax(d))
        verdict = SERIOUS if d[place] >= at.cooks_distance else FINE
        advice = NO_ADVICE
        if verdict != FINE:
            without = say.change(leave_out=[str(labels[place])])
            advice = f"compare with the fit without it: {without}"
        words = (
            f"row {labels[place]} decides the answer (Cook's distance {figure(float(d[place]), 2)})"
        )
        yield Line(
            "cooks distance",
            "influence",
            DECIDES,
            f"Cook's distance of {labels[place]}, limit {value(at.cooks_distance, 2)}",
            Test(float(d[place]), float("nan")),
            verdict,
            advice,
            words,
        )
    place = int(np.nanargmax(measures.leverage))
    far = [r for r in remarks(fit) if r.verdict == FINE]
    verdict = CAUTION if len(alone) else FINE
    advice = NO_ADVICE
    if len(alone):
        advice = f"row {listed(labels[alone])} alone speaks to a coefficient and is fitted exactly"
    elif far:
        advice = f"far out but well fitted, keep: {listed(labels[[r.place for r in far]], 3)}"
    yield Line(
        "leverage",
        "influence",
        DECIDES,
        f"leverage of {labels[place]}, limit {value(at.leverage, 2)}",
        Test(float(measures.leverage[place]), float("nan")),
        verdict,
        advice,
    )
