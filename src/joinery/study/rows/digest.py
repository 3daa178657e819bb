"""The result of one pass over the rows: all that checks and remarks need.

Per-row figures of millions of rows are not held. What is held of each row, up to
``DIGEST_ROWS`` rows, is what order statistics need."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from functools import partial, reduce
from operator import add
from typing import Any, NamedTuple

import numpy as np

from joinery.core.blocks.partition import Laid
from joinery.core.blocks.products import inner
from joinery.core.inference.influence import FARTHEST_ROWS, Influence, harm_limit
from joinery.core.inference.normality import NORMAL_ROWS, Moments
from joinery.core.numeric.distributions import t_quantile
from joinery.notation.context import positions_at
from joinery.study.fitted import Fitted, once, rows_at_hand
from joinery.study.rows.curvature import Bending, Curved, bending, curved_of
from joinery.study.rows.figures import (
    Limits,
    limits_at,
    per_row,
    studentized_df,
    widening,
)
from joinery.study.rows.row_stream import Rows, pieces, times_of
from joinery.study.sampled import asked_in_part
from joinery.support.limits import DIGEST_ROWS

BLOCKS_TOGETHER = 32  # blocks that are joined as soon as they are there
HEAVIEST = 10  # rows that weigh most, which are told one by one
FAR_SHARE = 0.01  # of residuals that chance takes far off


class Extreme(NamedTuple):
    """The row where a figure is largest in size, and the figure."""

    place: int
    value: float


NOWHERE = Extreme(-1, float("nan"))


class Held(NamedTuple):
    """Figures held of each row, each (n,)."""

    terms: np.ndarray
    standardized: np.ndarray
    leverage: np.ndarray
    times: np.ndarray | None = None  # None for ones


@dataclass(frozen=True)
class Digest:
    """Sums over all rows, or over those of some blocks."""

    rows: int
    lowest: float  # of the observed values
    alike: bool  # whether each stands for itself alone
    moments: Moments  # of the standardized residuals
    cubes: float  # Σz³ over rows, each once
    sound: int  # rows whose residual can be scaled
    far: int  # rows far off where chance takes one in a hundred
    largest: Extreme  # studentized residual
    distance: Extreme  # Cook's
    highest: Extreme  # leverage
    farthest: float  # xᵀ(XᵀWX)⁻¹x, the leverage of a row as if its weight were one
    alone: tuple[int, ...]  # rows of leverage 1
    leverages: np.ndarray  # the highest
    places: np.ndarray  # rows that may be remarkable, the heaviest too, and their figures
    measures: Influence
    curved: Curved | None  # None where shapes are asked of a part of the rows
    fitted: tuple[float, float]  # the least and the greatest sum of the terms
    held: Held | None
    misses: np.ndarray | None = None  # |residual| over the residual SD (n,), where no more is held


@once
def digest(fit: Fitted) -> Digest:
    """Return the digest of a fit's rows, in one pass. Raises CallError for a loaded fit."""
    parts = pieces(fit).each(partial(_of_rows, question=_asked(fit)))
    return joined(parts, rows_at_hand(fit)[1].used)


@once
def curvature(fit: Fitted) -> Curved:
    """Return the sums for the next powers, in a pass of their own where the digest has none."""
    curved = digest(fit).curved
    if curved is not None:
        return curved
    return reduce(add, pieces(fit).each(partial(curved_of, question=bending(fit))))


def misses_of(fit: Fitted) -> np.ndarray | None:
    """Return |residual| over the residual SD of each row (n,); None where rows are not held, or
    stand for several."""
    totals = digest(fit)
    if totals.misses is not None:
        return totals.misses
    if totals.held is None or totals.held.times is not None:
        return None
    return _misses(totals.held.standardized, totals.held.leverage)


class Notable(NamedTuple):
    """Rows that may be remarkable, their figures, and the highest leverages of all rows."""

    places: np.ndarray
    measures: Influence
    leverages: np.ndarray


@once
def notable(fit: Fitted) -> Notable:
    """Return the rows that may be remarkable: from the figures of all rows where those are at
    hand."""
    if per_row.known(fit) and not digest.known(fit):
        measures = per_row(fit).influence
        h = measures.leverage
        return Notable(np.arange(len(h)), measures, _highest(h))
    totals = digest(fit)
    return Notable(totals.places, totals.measures, totals.leverages)


def _highest(leverage: np.ndarray) -> np.ndarray:
    if len(leverage) <= FARTHEST_ROWS:
        return leverage
    return np.partition(leverage, -FARTHEST_ROWS)[-FARTHEST_ROWS:]


@once
def limits(fit: Fitted) -> Limits:
    """From where on a row is far out, badly fitted, or decides the answer."""
    return limits_at(fit, notable(fit).leverages)


def labels_of(fit: Fitted, places: Sequence[int] | np.ndarray) -> list[Any]:
    """Return labels of fitted rows, by their places among those used."""
    table, chosen = rows_at_hand(fit)
    return list(table.labels(positions_at(chosen.rows, np.asarray(places, dtype=int))))


# ------------------------------------------------------------------ what is asked of each block


class Asked(NamedTuple):
    """The limits that a block is judged by."""

    wide: float  # how much wider than the family's the spread is
    leverage: float
    large: float  # studentized residuals from here on may be remarkable
    df: float
    harm: float
    beyond: float  # studentized residuals far off
    bending: Bending | None
    hold: bool  # whether figures of each row are kept
    hold_misses: bool  # whether how far each row misses is


def _asked(fit: Fitted) -> Asked:
    solution, at = fit.solution, limits_at(fit, np.empty(0))
    df = studentized_df(fit)
    n = fit.origin.used_rows.used if fit.origin else 0
    in_part = asked_in_part(fit)
    # of a long table only the few figures are kept that a page counts
    hold = n <= (NORMAL_ROWS if in_part else DIGEST_ROWS)
    return Asked(
        widening(fit),
        at.leverage,
        at.large,
        df,
        harm_limit(solution.rank, fit.residual_df),
        float(t_quantile(1 - FAR_SHARE / 2, df)) if df > 0 else np.nan,
        # of a long table another fit, to some of its rows, is asked about shapes
        None if in_part else bending(fit),
        hold,
        not hold and n <= DIGEST_ROWS,
    )


def _of_rows(rows: Rows, question: Asked) -> Digest:
    z, h, d = rows.standardized, rows.leverage, rows.cooks_distance
    first, sound = rows.block.first, np.isfinite(z)
    with np.errstate(all="ignore"):
        large = 0.9 * min(question.large, question.beyond)
        if rows.studentized is None:  # it grows with the standardized one
            size, large = np.abs(z), _standardized(large, question.df)
        else:
            size = np.abs(rows.studentized) / question.wide
        notable = (h >= question.leverage) | (h >= 1) | (d >= question.harm * question.wide**2)
        badly_fitted = size >= large
    if len(d) > HEAVIEST:  # the heaviest of all rows are among those of each block
        notable[np.argpartition(np.where(np.isfinite(d), -d, np.inf), HEAVIEST)[:HEAVIEST]] = True
    few = np.flatnonzero(notable | badly_fitted)
    measures = rows.influence(few)
    t = np.abs(measures.studentized)
    # of those badly fitted most are there to be counted
    kept = notable[few] | ~(t < question.large * question.wide)
    if np.isfinite(size).any():
        best = int(np.nanargmax(size))
    else:
        best = -1
    largest = NOWHERE
    if best >= 0:
        largest = Extreme(first + best, float(rows.influence(np.array([best])).studentized[0]))
    away, times = z, times_of(rows)
    if not sound.all():
        away, times = z[sound], None if times is None else times[sound]
    return Digest(
        rows=len(z),
        lowest=float(rows.observed.min(initial=np.inf)),
        alike=rows.block.repeats is None or bool((rows.times == 1).all()),
        moments=Moments.of(away, times),
        cubes=inner(away * away, away),
        sound=int(sound.sum()),
        far=int((t[np.isfinite(t)] > question.beyond).sum()),
        largest=largest,
        distance=_extreme(d, first),
        highest=_extreme(h, first),
        farthest=_farthest(rows),
        alone=tuple((first + np.flatnonzero(h >= 1)).tolist()),
        leverages=_highest(h),
        places=first + few[kept],
        measures=measures.of(kept),
        curved=None if question.bending is None else curved_of(rows, question.bending),
        fitted=(float(rows.terms.min(initial=np.inf)), float(rows.terms.max(initial=-np.inf))),
        held=Held(rows.terms, z, h, times_of(rows)) if question.hold else None,
        misses=_misses(z, h) if question.hold_misses else None,
    )


def _misses(z: np.ndarray, h: np.ndarray) -> np.ndarray:
    """Return |residual| over the residual SD, from standardized residuals and leverages."""
    with np.errstate(all="ignore"):
        return np.asarray(np.abs(z) * np.sqrt(1 - h))


def _standardized(t: float, df: float) -> float:
    """Return the standardized residual of a studentized one."""
    if np.isinf(df):
        return t
    return float(t * np.sqrt((df + 1) / (df + t * t)))


def _farthest(rows: Rows) -> float:
    h = rows.leverage
    if rows.block.precision is not None:
        with np.errstate(all="ignore"):
            h = h / rows.block.precision
    return float(h[np.isfinite(h)].max(initial=0.0))


def _extreme(figure: np.ndarray, first: int) -> Extreme:
    if not np.isfinite(figure).any():
        return NOWHERE
    place = int(np.nanargmax(figure))
    return Extreme(first + place, float(figure[place]))


def joined(parts: Iterable[Digest], n: int) -> Digest:
    """Return the digest of all ``n`` rows, from those of blocks in their order."""
    totals: list[Digest] = []
    laid = Laid(n)
    misses = False
    for part in parts:
        if part.held is not None:
            laid.add([values for values in part.held if values is not None])
        if part.misses is not None:
            laid.add([part.misses])
            misses = True
        totals.append(replace(part, held=None, misses=None))
        # kept for long they would keep a block's memory in pieces
        if len(totals) == BLOCKS_TOGETHER:
            totals = [_together(totals)]
    total = _together(totals)
    if misses:
        return replace(total, misses=laid.arrays[0])
    if laid.arrays:
        return replace(total, held=Held(*laid.arrays))
    return total


def _together(totals: list[Digest]) -> Digest:
    """Return the digest of the rows of several, in their order."""
    moments = totals[0].moments
    for part in totals[1:]:
        moments = moments + part.moments
    bent = [part.curved for part in totals if part.curved is not None]
    curved = reduce(add, bent) if bent else None
    names = Influence.__annotations__
    return Digest(
        rows=sum(p.rows for p in totals),
        lowest=min(p.lowest for p in totals),
        alike=all(p.alike for p in totals),
        moments=moments,
        cubes=sum(p.cubes for p in totals),
        sound=sum(p.sound for p in totals),
        far=sum(p.far for p in totals),
        largest=_first_largest([p.largest for p in totals]),
        distance=_first_largest([p.distance for p in totals]),
        highest=_first_largest([p.highest for p in totals]),
        farthest=max(p.farthest for p in totals),
        alone=tuple(place for p in totals for place in p.alone),
        leverages=np.sort(np.concatenate([p.leverages for p in totals]))[-FARTHEST_ROWS:],
        places=np.concatenate([p.places for p in totals]),
        measures=Influence(
            **{n: np.concatenate([getattr(p.measures, n) for p in totals]) for n in names}
        ),
        curved=curved,
        fitted=(min(p.fitted[0] for p in totals), max(p.fitted[1] for p in totals)),
        held=None,
    )


def _first_largest(result: list[Extreme]) -> Extreme:
    sizes = np.array([abs(e.value) for e in result])
    if np.isnan(sizes).all():
        return NOWHERE
    return result[int(np.nanargmax(sizes))]
