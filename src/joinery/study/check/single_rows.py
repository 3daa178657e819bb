"""Rows badly fitted, rows that decide."""

from __future__ import annotations

from collections.abc import Iterator

from joinery.core.inference.diagnostics import Test
from joinery.core.numeric import distributions as tails
from joinery.show.numbers import figure, value
from joinery.study.check.check import NO_ADVICE, Line, cannot, nothing_left
from joinery.study.fitted import Fitted
from joinery.study.rows.digest import digest, labels_of, limits
from joinery.study.rows.figures import studentized_df, widening
from joinery.study.rows.table import remarks
from joinery.study.verdicts import CAUTION, FINE, SERIOUS
from joinery.support import advice as say
from joinery.support.errors import listed

BADLY, DECIDES = "Is any row badly fitted?", "Does any row decide the answer?"


def badly_fitted(fit: Fitted) -> Iterator[Line]:
    """The largest studentized residual, with Bonferroni's correction for all rows."""
    if why := nothing_left(fit):
        yield cannot("outlier", "outliers", BADLY, "largest studentized residual", why)
        return
    totals = digest(fit)
    if totals.largest.place < 0:
        yield cannot(
            "outlier",
            "outliers",
            BADLY,
            "largest studentized residual",
            "no residual can be scaled",
        )
        return
    t = totals.largest.value / widening(fit)
    p = min(float(tails.t_two_sided(t, studentized_df(fit)) * totals.moments.n), 1.0)
    label = labels_of(fit, [totals.largest.place])[0]
    at = limits(fit)
    size = abs(t)
    if size >= at.serious:
        verdict = SERIOUS
    elif size >= at.studentized:
        verdict = CAUTION
    else:
        verdict = FINE
    advice = NO_ADVICE
    if verdict != FINE:
        without = say.change(leave_out=[str(label)])
        advice = f"look at row {label} for a mistake; see the fit without it: {without}"
    words = f"row {label} is badly fitted (studentized residual {figure(t, 2)})"
    test = Test(t, p)
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
    totals, at = digest(fit), limits(fit)
    if totals.distance.place >= 0:
        d = totals.distance.value / widening(fit) ** 2
        label = labels_of(fit, [totals.distance.place])[0]
        if d >= at.cooks_distance:
            verdict = SERIOUS
        else:
            verdict = FINE
        advice = NO_ADVICE
        if verdict != FINE:
            without = say.change(leave_out=[str(label)])
            advice = f"compare with the fit without it: {without}"
        words = f"row {label} decides the answer (Cook's distance {figure(d, 2)})"
        yield Line(
            "cooks distance",
            "influence",
            DECIDES,
            f"Cook's distance of {label}, limit {value(at.cooks_distance, 2)}",
            Test(d, float("nan")),
            verdict,
            advice,
            words,
        )
    far = remarks(fit).well_fitted
    if totals.alone:
        verdict = CAUTION
    else:
        verdict = FINE
    advice = NO_ADVICE
    if totals.alone:
        alone = listed(labels_of(fit, totals.alone))
        advice = f"row {alone} alone speaks to a coefficient and is fitted exactly"
    elif far:
        first = labels_of(fit, far.places[:3])
        advice = f"far out but well fitted, keep: {listed(first, 3, of=len(far))}"
    label = labels_of(fit, [totals.highest.place])[0]
    yield Line(
        "leverage",
        "influence",
        DECIDES,
        f"leverage of {label}, limit {value(at.leverage, 2)}",
        Test(totals.highest.value, float("nan")),
        verdict,
        advice,
    )
