"""Rows badly fitted, rows that decide."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from joinery.core.inference.diagnostics import Test
from joinery.core.numeric import distributions as tails
from joinery.show.numbers import figure, value
from joinery.study.check.check import NO_ADVICE, Line, not_judged, nothing_left
from joinery.study.check.rate import SINGLE_ROWS
from joinery.study.fitted import Fitted, once
from joinery.study.read.estimates import estimates
from joinery.study.rows.digest import digest, labels_of, limits, notable
from joinery.study.rows.figures import studentized_df, widening
from joinery.study.rows.table import moves_without
from joinery.study.verdicts import CAUTION, NO_SIGN, SERIOUS
from joinery.support import advice as say
from joinery.support.errors import listed

MOST_SUMMED = 2_000  # rows whose chances are summed one by one
MOST_MOVED = 40  # rows whose moves are looked at: those of the largest Cook's distances

BADLY, DECIDES = "Is any row badly fitted?", "Does any row decide the answer?"


def badly_fitted(fit: Fitted) -> Iterator[Line]:
    """Yield the largest studentized residual, with Bonferroni's correction for all rows."""
    if why := nothing_left(fit):
        yield not_judged("outlier", "outliers", BADLY, "largest studentized residual", why)
        return
    totals = digest(fit)
    if totals.largest.place < 0:
        yield not_judged(
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
        verdict = NO_SIGN
    without = say.change(leave_out=[str(label)])
    yield Line(
        "outlier",
        "outliers",
        BADLY,
        f"studentized residual of row {label} (Bonferroni)",
        Test(t, p),
        finding=f"row {label} is badly fitted (studentized residual {figure(t, 2)})",
        verdict=verdict,
        advise=lambda: f"look at row {label} for a mistake; see the fit without it: {without}",
        tested=False,
    )


def decides(fit: Fitted) -> Iterator[Line]:
    """Yield the largest Cook's distance, the largest move of a coefficient, and the largest
    leverage."""
    if why := nothing_left(fit):
        yield not_judged("cooks distance", "influence", DECIDES, "largest Cook's distance", why)
        return
    totals, at = digest(fit), limits(fit)
    if totals.distance.place >= 0:
        d = totals.distance.value / widening(fit) ** 2
        label = labels_of(fit, [totals.distance.place])[0]
        verdict = NO_SIGN
        if d >= at.cooks_distance:
            verdict = SERIOUS
        without = say.change(leave_out=[str(label)])
        yield Line(
            "cooks distance",
            "influence",
            DECIDES,
            f"Cook's distance of row {label}, limit {value(at.cooks_distance, 2)}",
            Test(d, float("nan")),
            finding=f"row {label} decides the answer (Cook's distance {figure(d, 2)})",
            verdict=verdict,
            advise=lambda: f"compare with the fit without it: {without}",
            tested=False,
        )
    yield from _largest_move(fit)
    verdict = NO_SIGN
    advice = NO_ADVICE
    if totals.alone:
        verdict = CAUTION
        alone = listed(labels_of(fit, totals.alone))
        advice = f"row {alone} is the only row at its level, and is fitted exactly"
    label = labels_of(fit, [totals.highest.place])[0]
    yield Line(
        "leverage",
        "influence",
        DECIDES,
        f"leverage of row {label}, limit {value(at.leverage, 2)}",
        Test(totals.highest.value, float("nan")),
        verdict=verdict,
        advice=advice,
        tested=False,
    )


@dataclass(frozen=True)
class Move:
    """The largest move of a coefficient when one row goes, in its standard errors."""

    place: int  # of the row among those used
    term: str
    size: float  # in standard errors, with its sign
    p: float  # the chance that any row of this design moves any coefficient as far
    turns: bool  # whether its sign or the verdict of its interval changes

    @property
    def decides(self) -> bool:
        """Return True if it is more than chance brings, and changes what may be concluded."""
        return self.p < SINGLE_ROWS / 4 and (self.turns or abs(self.size) > 2)


@once
def largest_move(fit: Fitted) -> Move | None:
    """Return the largest move among the rows that weigh most (Belsley, Kuh & Welsch 1980)."""
    result = notable(fit)
    heaviest = np.argsort(-np.nan_to_num(result.measures.cooks_distance))[:MOST_MOVED]
    heaviest = heaviest[result.measures.leverage[heaviest] < 1]
    if not len(heaviest):
        return None
    places = result.places[heaviest]
    moves = moves_without(fit, places)
    if fit.solution.has_intercept:  # which depends on where the zeros of the columns lie
        moves[:, 0] = np.nan
    if not np.isfinite(moves).any():
        return None
    row, column = np.unravel_index(int(np.nanargmax(np.abs(moves))), moves.shape)
    size = float(moves[row, column])
    e = estimates(fit)
    kept = fit.solution.places
    j = int(kept[column])
    t = float(e.values[j] / e.standard_errors[j])
    limit = float(tails.t_quantile(0.975, e.df[j]))
    after = t - size
    turns = np.sign(after) != np.sign(t) or (abs(t) >= limit) != (abs(after) >= limit)
    chance = _chance(fit, abs(size) / widening(fit))
    return Move(int(places[row]), e.names[j], size, chance, bool(turns))


def _chance(fit: Fitted, size: float) -> float:
    """Return a bound on the chance that any row moves a coefficient so far under the model.

    A row of leverage h moves no coefficient by more than |t|·√(h/(1 − h)) standard errors."""
    totals, df = digest(fit), studentized_df(fit)
    if totals.held is not None and totals.rows <= MOST_SUMMED:
        h, others = totals.held.leverage, 0
    else:  # of very many rows the highest are known, and the others lie below them
        h, others = totals.leverages, totals.rows - len(totals.leverages)
    h = h[(h > 0) & (h < 1)]
    if not len(h) or not df > 0:
        return 1.0
    chances = tails.t_two_sided(size / np.sqrt(h / (1 - h)), df)
    return min(float(chances.sum() + others * chances[int(np.argmin(h))]), 1.0)


def move_found(fit: Fitted) -> str:
    """Return what one row does to a coefficient, where that is more than chance; else nothing."""
    move = largest_move(fit)
    if move is None or not move.decides:
        return ""
    return _in_words(fit, move)


def _in_words(fit: Fitted, move: Move) -> str:
    label = labels_of(fit, [move.place])[0]
    size, name = figure(abs(move.size), 2), fit.words(move.term)
    words = f"row {label} moves {name} by {size} standard errors"
    if move.turns:
        words += ", which turns its sign or what its interval says"
    return words


def _largest_move(fit: Fitted) -> Iterator[Line]:
    move = largest_move(fit)
    if move is None:
        return
    label = labels_of(fit, [move.place])[0]
    verdict = NO_SIGN
    if move.decides:
        verdict = CAUTION
    name = fit.words(move.term)
    without = say.change(leave_out=[str(label)])
    yield Line(
        "largest move",
        "influence",
        DECIDES,
        f"largest move of a coefficient by one row, in its standard errors: {name} by row {label}",
        Test(move.size, move.p),
        finding=_in_words(fit, move),
        verdict=verdict,
        advise=lambda: f"look at row {label}; compare with the fit without it: {without}",
        tested=False,
    )
