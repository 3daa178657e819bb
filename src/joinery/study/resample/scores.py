"""Scores of forecasts of rows not seen."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from joinery.core.glm.families import FAMILIES
from joinery.core.glm.irls import reweighted
from joinery.core.glm.links import LINKS
from joinery.core.glm.rows import ArrayRows, LikelihoodRows
from joinery.study.fitted import Fitted
from joinery.support.errors import (
    EstimationError,
)

# classes of chances where rows are not held, even in their logits, and the largest of these
CLASSES, WIDEST = 2**20, 28.0


@dataclass(frozen=True)
class Forecasts:
    """Rows as they were forecast, each (m,); NaN where they could not be.

    A row may stand here more than once.
    """

    place: np.ndarray  # among the fitted rows
    times: np.ndarray  # how many equal rows are meant
    fitted: np.ndarray
    inside: np.ndarray  # 1 where the interval of a new row holds what came, NaN without one


@dataclass(frozen=True)
class Observed:
    """The same rows as they came, each (m,): responses (shares of totals) and the asides."""

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


@dataclass(frozen=True)
class Scale:
    """The origin and unit of sums, chosen so that they neither cancel nor overflow.

    ``about`` is zero where the model has no constant."""

    unit: float
    about: float


def judged(f: Forecasts, observed: Observed) -> Judged:
    """Return the rows that could be forecast."""
    known = np.isfinite(f.fitted)
    return Judged(f.fitted[known], observed.y[known], f.times[known], observed.trials[known])


class Sums(NamedTuple):
    """Sums over rows that were forecast, errors and responses in a scale's unit."""

    times: float
    evidence: float  # times, of totals times their trials
    error: float
    size: float
    squared: float
    brier: float
    log_score: float
    weights: float  # times and precision weights
    response: float  # weighed, about the scale's middle
    response_squared: float
    error_squared: float
    bounded: float  # rows that have an interval, and those inside it
    inside: float


def sums_of(fit: Fitted, f: Forecasts, observed: Observed, scale: Scale) -> Sums:
    """Return what some rows come to."""
    known, j = np.isfinite(f.fitted), judged(f, observed)
    a, e, shares = j.evidence, j.error / scale.unit, fit.family.shares
    w = observed.weights[known] * j.times
    beyond = (j.y - observed.offset[known]) / scale.unit - scale.about
    bounded, inside = np.isfinite(f.inside[known]), f.inside[known] == 1
    return Sums(
        times=float(j.times.sum()),
        evidence=float(a.sum()),
        error=float(a @ e),
        size=float(a @ np.abs(e)),
        squared=float(a @ e**2),
        brier=float(a @ brier(j)) if shares else 0.0,
        log_score=float(a @ log_score(j)) if shares else 0.0,
        weights=float(w.sum()),
        response=float(w @ beyond),
        response_squared=float(w @ beyond**2),
        error_squared=float(w @ e**2),
        bounded=float(j.times @ bounded),
        inside=float(j.times @ inside),
    )


def explained(s: Sums, constant: bool) -> float:
    """Return 1 − Σwe²/Σw(y − o − mean)², the mean that of the rows forecast.

    About zero where the model has no constant.
    """
    total = s.response_squared
    if constant and s.weights:
        total -= s.response**2 / s.weights
    if total > 0:
        return 1 - s.error_squared / total
    return float("nan")


def brier(j: Judged) -> np.ndarray:
    """Return the squared error of the probability for each single trial, averaged over a row's."""
    return np.asarray(j.y * (1 - j.fitted) ** 2 + (1 - j.y) * j.fitted**2)


def log_score(j: Judged) -> np.ndarray:
    with np.errstate(all="ignore"):
        p = np.clip(j.fitted, 1e-15, 1 - 1e-15)
        return np.asarray(-1.0 * (j.y * np.log(p) + (1 - j.y) * np.log1p(-p)))


Scored = tuple[Sums, Judged | None]  # sums over some rows, and chances of shares


class Tally:
    """Running scores of forecasts, some rows after others.

    Chances are kept where rows are ``held``; else those that agree to a 20,000th count as one."""

    def __init__(self, *, held: bool) -> None:
        self._held = held
        self._sums: np.ndarray | None = None
        self._judged: list[Judged] = []
        self._classes = np.zeros((3, 0 if held else CLASSES))
        self._pairs = np.zeros(2)

    def add(self, rows: Iterable[Scored]) -> None:
        """Some more rows, all of them forecast by one fit."""
        judged: list[Judged] = []
        classes = np.zeros_like(self._classes)
        for sums, j in rows:
            if self._sums is None:
                self._sums = np.array(sums)
            else:
                self._sums = self._sums + sums
            if j is None:
                continue
            if self._held:
                judged.append(j)
            else:
                _classify(j, classes)
        self._judged += judged
        self._classes += classes
        self._pairs += pairs(_together(judged) if judged else _of_classes(classes))

    @property
    def auc(self) -> float:
        """The chance that a row with the event ranks higher, of rows forecast by the same fit.

        Forecasts by different fits are not set against each other: a row left out lowers what is
        forecast for rows like it, so that pooled pairs would rank the wrong way round.
        """
        right, total = self._pairs
        if total > 0:
            return float(right / total)
        return float("nan")

    @property
    def empty(self) -> bool:
        return self._sums is None

    @property
    def sums(self) -> Sums:
        assert self._sums is not None
        return Sums(*self._sums.tolist())

    @property
    def chances(self) -> Judged:
        """The rows' chances, or the classes that they fall in."""
        if self._held:
            return _together(self._judged)
        return _of_classes(self._classes)


def _classify(j: Judged, classes: np.ndarray) -> None:
    """Add rows to classes of chances (3, CLASSES): Σ of the expected, the events and all."""
    eta = LINKS["logit"].eta(np.clip(j.fitted, 1e-12, 1 - 1e-12))
    of_row = (CLASSES * (eta + WIDEST) / (2 * WIDEST)).astype(int)
    places, place = np.unique(of_row, return_inverse=True)
    each = (j.evidence * j.fitted, j.evidence * j.y, j.evidence)
    classes[:, places] += [np.bincount(place, values) for values in each]


def _of_classes(classes: np.ndarray) -> Judged:
    """Return the classes that have rows, as a row each."""
    expected, yes, evidence = classes[:, classes[2] > 0] if classes.size else np.zeros((3, 0))
    return Judged(expected / evidence, yes / evidence, np.ones(len(yes)), evidence)


def _together(judged: list[Judged]) -> Judged:
    columns = zip(*((j.fitted, j.y, j.times, j.trials) for j in judged), strict=True)
    return Judged(*map(np.concatenate, columns))


def pairs(j: Judged) -> np.ndarray:
    """Count the pairs of an event and none in which the event ranks higher, and all pairs.

    Ties count half (Hanley & McNeil 1982).
    """
    p, yes = j.fitted, j.y * j.evidence
    if not len(p):
        return np.zeros(2)
    no = j.evidence - yes
    order = np.argsort(p, kind="stable")
    p, yes, no = p[order], yes[order], no[order]
    # equal forecasts may differ by rounding
    starts = np.flatnonzero(np.append(True, np.diff(p) > 1e-12 * p[1:]))
    yes, no = np.add.reduceat(yes, starts), np.add.reduceat(no, starts)
    below = np.cumsum(no) - no
    return np.array([(yes * (below + no / 2)).sum(), yes.sum() * no.sum()])


def calibration(j: Judged) -> float:
    """Return the slope of the outcome on its forecast's logit: one is right (Cox 1958)."""
    n = int(j.times.sum())
    if n < 3:
        return float("nan")
    p = np.clip(j.fitted, 1e-12, 1 - 1e-12)
    logit = LINKS["logit"]
    part = LikelihoodRows(logit.eta(p)[:, None], j.y, j.times, j.trials, None)
    try:
        logistic = reweighted(
            ArrayRows(part), FAMILIES["binomial"], logit, intercept=True, n=n, dispersion=1.0
        )
    except EstimationError:
        return float("nan")
    if logistic.converged:
        return float(logistic.b[1])
    return float("nan")
