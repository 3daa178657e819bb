"""Whether the spread is even."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial

import numpy as np

from joinery import advice as say
from joinery.core.blocks.blocks import Block
from joinery.core.blocks.columns import dense
from joinery.core.blocks.order_statistics import quantiles
from joinery.core.blocks.partition import Partition
from joinery.core.inference import diagnostics
from joinery.core.least_squares.solve import least_squares
from joinery.show.numbers import figure
from joinery.study.check.check import NO_ADVICE, Line, cannot, nothing_left
from joinery.study.fitted import Fitted
from joinery.study.rows.digest import Rows, digest, pieces, squares_of
from joinery.study.verdicts import FINE, judged

EVEN = "Is the spread even?"


def even(fit: Fitted) -> Iterator[Line]:
    """Squared residuals on all predictors, and how much wider the spread is for high fits."""
    check = "Breusch–Pagan, studentized"
    if why := nothing_left(fit):
        yield cannot("spread", "even spread", EVEN, check, why)
        return
    if not fit.design.width:
        yield cannot(
            "spread",
            "even spread",
            EVEN,
            check,
            "there is no predictor for the spread to grow with",
        )
        return
    share, rows, columns = _explained(fit)
    test = diagnostics.even_spread(share, rows, columns)
    ratio = _ratio(fit)
    size = abs(np.log(ratio)) if np.isfinite(ratio) else 0.0
    # unevenness that does not follow the fitted values shows in how much of the squares is
    # explained
    size = max(size, 4 * test.statistic / rows) if np.isfinite(test.statistic) else size
    verdict = judged(test.p, size, small=np.log(1.3), large=np.log(3.0))
    grows = ratio > 1
    words = "the spread changes with the predictors"
    if np.isfinite(ratio) and abs(np.log(ratio)) > np.log(1.3):
        turn = "grows" if grows else "shrinks"
        words = f"the spread {turn} with the fitted values (× {figure(ratio, 2)} from low to high)"
    advice = NO_ADVICE
    if verdict != FINE:
        log = not fit.response.transformed and digest(fit).lowest > 0 and grows
        way = f"{say.change(response=f'log({fit.response.expression})')}, or " if log else ""
        advice = f"try {way}{say.change(std_errors='robust')}; or {say.option('weights')}"
    yield Line("spread", "even spread", EVEN, check, test, verdict, advice, words)


def _explained(fit: Fitted) -> tuple[float, int, int]:
    """R² of squared residuals on the fit's columns, of how many rows and columns."""
    own, found = fit.solution, digest(fit)
    if found.spread is not None and found.sound == found.rows:  # the factor of the fit serves
        total = found.spread.squares - found.spread.total**2 / found.rows
        explained = float((own.sums_in_basis(found.spread.raw)[1:] ** 2).sum())
        return explained / total if total > 0 else np.nan, found.rows, len(own.kept)
    counted = fit.asides.repeats is not None
    blocks = _Squares(fit.design.width, pieces(fit).map(partial(_squares, counted)))
    solution = least_squares(blocks, n=int(found.moments.n))
    share = 1 - solution.rss / solution.tss if solution.tss > 0 else np.nan
    return share, solution.n, len(solution.kept)


@dataclass(frozen=True)
class _Squares:
    """Squared residuals as the response, beside the fit's own columns."""

    width: int
    pieces: Partition[Block]


def _squares(counted: bool, rows: Rows) -> Block:
    y, here = squares_of(rows), np.isfinite(rows.standardized)
    X = rows.block.columns
    if here.all():
        return X, y, rows.times if counted else None
    return dense(X)[here], y[here], rows.times[here] if counted else None


def _ratio(fit: Fitted) -> float:
    """``spread_ratio`` of the fitted rows, which are gone through again where they are many."""
    held = digest(fit).held
    if held is not None:
        whole = Partition(1, lambda i, _: held)
    else:
        whole = pieces(fit).map(lambda rows: (rows.terms, rows.standardized, rows.times))
    return spread_ratio(whole)


Judged = tuple[np.ndarray, np.ndarray, np.ndarray]  # fitted, residual, times, each (m,)


def spread_ratio(rows: Partition[Judged]) -> float:
    """The residuals' root mean square in the highest third of fitted values over the lowest."""
    sound = rows.map(_sound)
    counted = sound.map(lambda piece: (piece[0], piece[2]))
    n, least, greatest = 0.0, np.inf, -np.inf
    for times, low, high in counted.each(
        lambda piece: (
            float(piece[1].sum()),
            piece[0].min(initial=np.inf),
            piece[0].max(initial=-np.inf),
        )
    ):
        n, least, greatest = n + times, min(least, float(low)), max(greatest, float(high))
    if n < 9:
        return float("nan")
    low, high = quantiles(counted, np.array([1 / 3, 2 / 3])).tolist()
    # fitted values that differ by rounding alone stand on the same side
    margin = 1e-9 * (greatest - least)
    if high - low <= margin:
        return float("nan")

    def sums(piece: Judged) -> np.ndarray:
        fitted, residual, times = piece
        sides = (fitted >= high - margin, fitted <= low + margin)
        return np.array(
            [[float(times[s] @ residual[s] ** 2), float(times[s].sum())] for s in sides]
        )

    total = np.add.reduce(list(sound.each(sums)))
    with np.errstate(all="ignore"):
        upper, lower = total[:, 0] / total[:, 1]
        return float(np.sqrt(upper / lower))


def _sound(piece: Judged) -> Judged:
    """The rows whose residual can be scaled."""
    here = np.isfinite(piece[1])
    return piece if here.all() else (piece[0][here], piece[1][here], piece[2][here])
