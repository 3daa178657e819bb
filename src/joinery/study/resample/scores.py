"""How forecasts of rows not seen are scored."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.core.glm.families import FAMILIES
from joinery.core.glm.irls import reweighted
from joinery.core.glm.links import LINKS
from joinery.core.glm.rows import ArrayRows, LikelihoodRows
from joinery.errors import (
    EstimationError,
)
from joinery.study.fitted import Fitted


@dataclass(frozen=True)
class Forecasts:
    """Rows as they were forecast, each (m,); NaN where they could not be.

    A row may stand here more than once.
    """

    place: np.ndarray  # among the fitted rows
    times: np.ndarray  # how many equal rows are meant
    fitted: np.ndarray
    lower: np.ndarray
    upper: np.ndarray


@dataclass(frozen=True)
class Observed:
    """The fitted rows, each (n,): responses (shares of totals), totals, weights, offsets."""

    y: np.ndarray
    trials: np.ndarray
    weights: np.ndarray
    offset: np.ndarray


@dataclass(frozen=True)
class Judged:
    """Forecasts beside what came, each (m,): means or shares, responses, repeats, trials."""

    fitted: np.ndarray
    y: np.ndarray
    times: np.ndarray
    trials: np.ndarray

    @property
    def error(self) -> np.ndarray:
        return np.asarray(self.y - self.fitted)

    @property
    def evidence(self) -> np.ndarray:
        return np.asarray(self.times * self.trials)

    def mean(self, values: np.ndarray) -> float:
        """The mean over rows that were forecast; of totals, over their trials."""
        known = np.isfinite(values)
        return (
            float(np.average(values[known], weights=self.evidence[known]))
            if known.any()
            else float("nan")
        )

    @property
    def typical(self) -> float:
        """The root mean square error, in the largest error's unit so that nothing overflows."""
        size = float(np.max(np.abs(self.error), initial=0.0, where=np.isfinite(self.error))) or 1.0
        return float(np.sqrt(self.mean((self.error / size) ** 2)) * size)


def explained(fit: Fitted, observed: Observed, f: Forecasts, j: Judged) -> float:
    """1 − Σwe²/Σw(y − o − mean)², the mean that of the rows forecast.

    About zero where the model has no constant.
    """
    known = np.isfinite(j.fitted)
    if not known.any():
        return float("nan")
    y, e = (j.y - observed.offset[f.place])[known], j.error[known]
    size = float(np.max(np.abs(y))) or 1.0
    w = (observed.weights[f.place] * f.times)[known]
    level = float(np.average(y / size, weights=w)) if fit.solution.spans_constant else 0.0
    total = float(w @ (y / size - level) ** 2)
    return 1 - float(w @ (e / size) ** 2) / total if total > 0 else float("nan")


def share_inside(fit: Fitted, f: Forecasts, j: Judged) -> float:
    known = np.isfinite(f.lower) & np.isfinite(f.fitted)
    y: np.ndarray = j.y * j.trials if fit.response.kind == "of" else j.y
    if not known.any():
        return float("nan")
    rounding = 1e-9 * float(np.max(np.abs(y[known])))
    held = (y[known] >= f.lower[known] - rounding) & (y[known] <= f.upper[known] + rounding)
    return float(np.average(held, weights=f.times[known]))


def brier(j: Judged) -> np.ndarray:
    """The squared error of the probability for each single trial, averaged over a row's."""
    return np.asarray(j.y * (1 - j.fitted) ** 2 + (1 - j.y) * j.fitted**2)


def log_score(j: Judged) -> np.ndarray:
    with np.errstate(all="ignore"):
        p = np.clip(j.fitted, 1e-15, 1 - 1e-15)
        return np.asarray(-1.0 * (j.y * np.log(p) + (1 - j.y) * np.log1p(-p)))


def auc(j: Judged) -> float:
    """The chance that a row with the event ranks higher, ties half (Hanley & McNeil 1982)."""
    known = np.isfinite(j.fitted)
    if not known.any():
        return float("nan")
    p, yes = j.fitted[known], (j.y * j.evidence)[known]
    no = j.evidence[known] - yes
    order = np.argsort(p, kind="stable")
    p, yes, no = p[order], yes[order], no[order]
    # equal forecasts may differ by rounding
    starts = np.flatnonzero(np.append(True, np.diff(p) > 1e-12 * p[1:]))
    yes, no = np.add.reduceat(yes, starts), np.add.reduceat(no, starts)
    below = np.cumsum(no) - no
    total = yes.sum() * no.sum()
    return float((yes * (below + no / 2)).sum() / total) if total > 0 else float("nan")


def calibration(j: Judged) -> float:
    """The slope of the outcome on its forecast's logit: one is right (Cox 1958)."""
    known = np.isfinite(j.fitted)
    n = int(j.times[known].sum())
    if n < 3:
        return float("nan")
    p = np.clip(j.fitted[known], 1e-12, 1 - 1e-12)
    logit = LINKS["logit"]
    part = LikelihoodRows(logit.eta(p)[:, None], j.y[known], j.times[known], j.trials[known], None)
    try:
        logistic = reweighted(
            ArrayRows(part), FAMILIES["binomial"], logit, intercept=True, n=n, dispersion=1.0
        )
    except EstimationError:
        return float("nan")
    return float(logistic.b[1]) if logistic.converged else float("nan")
