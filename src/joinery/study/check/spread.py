"""Is the spread even?"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, NamedTuple

import numpy as np

from joinery.core.blocks.columns import Columns, put_columns
from joinery.core.blocks.order_statistics import Counted, quantiles
from joinery.core.blocks.partition import Partition
from joinery.core.blocks.products import gram
from joinery.core.inference.added import smallest_shift
from joinery.core.inference.diagnostics import Test
from joinery.core.inference.even_spread import as_uneven, koenker, unevenness
from joinery.core.least_squares.solution import Solution
from joinery.design.row_blocks import RowBlock
from joinery.show.numbers import figure
from joinery.study.check.added import evens_out, side_by_side, surest, with_response
from joinery.study.check.check import Line, Seen, not_judged, nothing_left
from joinery.study.check.rate import EVIDENCE, SHARES
from joinery.study.fitted import Fitted, once, working_rows
from joinery.study.numeric_terms import column_means, kept_columns, numbers_alone
from joinery.study.rows.digest import Held, curvature, digest
from joinery.study.rows.noise import basis_of, noise_of_few, residuals_of
from joinery.study.rows.row_stream import Rows, pieces, squares_of, times_of
from joinery.support import advice as say

EVEN = "Is the spread even?"
SPREAD_LEVELS = 30  # levels of a category whose spreads are compared
MOST_AGAINST = 60  # predictors that the spread is looked at against
# below so many rows χ² is too large by far: at 30 a fifth of its p is right
FEW_ROWS = 200
PERHAPS = 0.2  # a p by χ² from which on noise finds no sign either
DRAWS = 1999  # samples of noise, so that p of one in a thousand is told
ROUNDING = 1e-9  # of a p


def even(fit: Fitted) -> Iterator[Line]:
    """Yield squared residuals against the fitted values, and against each predictor and
    category."""
    check = "spread against fitted values (Koenker)"
    if why := nothing_left(fit):
        yield not_judged("spread", "even spread", EVEN, check, why)
        return
    if not fit.design.width:
        why = "there is no predictor for the spread to grow with"
        yield not_judged("spread", "even spread", EVEN, check, why)
        return
    columns = _columns(fit)
    sums = _sums(fit, columns)
    n = float(sums[0, 0])
    over_fitted = koenker(sums, [0])
    beside = [1 + places for places in side_by_side(len(column.places) for column in columns)]
    each = [koenker(sums, places) for places in beside]
    surest_column = surest(each)
    # noise is drawn only where it could make a difference
    perhaps = any(test.p < PERHAPS for test in (over_fitted, *each))
    if perhaps and n < FEW_ROWS and fit.asides.repeats is None:
        noise, Z = _noise_beside(fit, columns)
        over_fitted = _in_noise(over_fitted, over_fitted, noise, [Z[:, 2:3]])
        if surest_column is not None:
            place, corrected = surest_column
            groups = [Z[:, 2 + places] for places in beside]
            surest_column = place, _in_noise(each[place], corrected, noise, groups)
    yield _over_fitted(fit, check, over_fitted, n)
    if surest_column is not None:
        place, test = surest_column
        yield _across(fit, columns[place], test)


def _line(kind: str, check: str, test: Test, **more: Any) -> Line:
    return Line(kind, "even spread", EVEN, check, test, **more)


def _allowed(fit: Fitted) -> str:
    """Return the option that takes care of an uneven spread, and what it does not mend."""
    if not evens_out(fit):
        return ""
    return (
        f"{fit.options.std_errors} standard errors take care of the coefficients; intervals of new "
        "rows still assume an even spread"
    )


def _over_fitted(fit: Fitted, check: str, test: Test, n: float) -> Line:
    ratio = _ratio(fit)
    size = 4 * test.size  # unevenness that is not from low to high fitted values
    words = "the spread changes with the fitted values"
    if np.isfinite(ratio):
        size = max(size, abs(float(np.log(ratio))))
    if np.isfinite(ratio) and abs(np.log(ratio)) > np.log(1.3):
        if ratio > 1:
            turn = "grows"
        else:
            turn = "shrinks"
        words = f"the spread {turn} with the fitted values (× {figure(ratio, 2)} from low to high)"
    # the share of this half of the question, in standard errors of a slope of squared residuals
    shift = smallest_shift(SHARES["even spread"] / 2) * np.sqrt(2 / max(n, 1))
    return _line(
        "spread",
        check,
        replace(test, size=size),
        allowed_by=_allowed(fit),
        finding=words,
        advise=partial(_even_out, fit, grows=ratio > 1),
        small=float(np.log(1.3)),
        large=float(np.log(3.0)),
        would_see=Seen("a spread ×", float(np.exp(1.5 * shift)), "from one end to the other"),
    )


@dataclass(frozen=True)
class Against:
    """A predictor that the spread is looked at against: a number's distance, or a category."""

    name: str
    places: tuple[int, ...]
    centre: float | None  # of a number; None for the columns of a category


def _columns(fit: Fitted) -> list[Against]:
    """Return the numbers and the categories of few levels that stand alone as terms."""
    middle = column_means(fit)
    sums = curvature(fit)
    out = []
    for j, (factor, place) in enumerate(numbers_alone(fit)):
        if sums.between[j]:
            out.append(Against(fit.words(factor.name), (place,), middle[place]))
        else:  # two values are two groups
            out.append(Against(fit.words(factor.name), (place,), None))
    for term in fit.design.terms:
        places = tuple(kept_columns(term, middle))
        if len(term.factors) == 1 and term.categories and 0 < len(places) <= SPREAD_LEVELS:
            out.append(Against(fit.words(term.text), places, None))
    return out[:MOST_AGAINST]


def _noise_beside(fit: Fitted, columns: Sequence[Against]) -> tuple[np.ndarray, np.ndarray]:
    """Return the unevenness of samples of noise (n, draws), and the columns of the rows
    (n, 3 + q)."""
    lay = partial(_laid, columns=tuple(columns), centre=_fitted_centre(fit))
    Z = np.vstack(list(_beside_all(fit).each(lay)))
    here = np.isfinite(Z[:, 1])
    basis = basis_of(fit)
    left = residuals_of(basis, noise_of_few(len(basis), DRAWS))
    return unevenness(left[here]), Z[here]


def _in_noise(test: Test, corrected: Test, noise: np.ndarray, groups: Sequence[np.ndarray]) -> Test:
    """Return a test with the share of samples of an even spread that look as uneven.

    The test is the surest over the groups, ``corrected`` for them all; where no sample is as
    uneven, that p stands if it is smaller than one sample's share."""
    alike = as_uneven(test.p * (1 + ROUNDING), noise, groups)
    p = (1 + alike) / (1 + noise.shape[1])
    if not alike:
        p = min(p, corrected.p)
    return replace(corrected, p=p)


def _sums(fit: Fitted, columns: Sequence[Against]) -> np.ndarray:
    """Return sums over all rows of [1, s, fitted, z₁, …] with one another."""
    work = partial(_sums_of, columns=tuple(columns), centre=_fitted_centre(fit))
    return np.asarray(np.add.reduce(list(_beside_all(fit).each(work))))


def _beside_all(fit: Fitted) -> Partition[Beside]:
    held = digest(fit).held
    if held is not None:  # the figures are at hand, and the columns alone are gone through
        return working_rows(fit).row_blocks.map(partial(_beside_held, held))
    return pieces(fit).map(_beside)


def _fitted_centre(fit: Fitted) -> tuple[float, float]:
    """Return what is taken from the fitted values, and the unit they are counted in."""
    solution = fit.solution
    middle = solution.mean_response if solution.spans_constant else 0.0
    return middle, solution.unit


class Beside(NamedTuple):
    """Some rows: their columns, fitted values, squared residuals, and how often each stands."""

    columns: Columns
    terms: np.ndarray
    squares: np.ndarray
    times: np.ndarray | None


def _beside(rows: Rows) -> Beside:
    return Beside(rows.block.columns, rows.terms, squares_of(rows), times_of(rows))


def _beside_held(held: Held, block: RowBlock) -> Beside:
    here = slice(block.first, block.first + len(block.y))
    squares = held.standardized[here] ** 2 * (1 - held.leverage[here])
    times = None
    if held.times is not None:
        times = held.times[here]
    return Beside(block.columns, held.terms[here], squares, times)


def _laid(rows: Beside, columns: tuple[Against, ...], centre: tuple[float, float]) -> np.ndarray:
    """Return [1, s, fitted, z₁, …] of each row, s the squared residuals: (m, 3 + q)."""
    middle, unit = centre
    places = np.array([place for column in columns for place in column.places], int)
    Z = np.empty((len(rows.squares), 3 + len(places)), order="F")
    Z[:, 0], Z[:, 1], Z[:, 2] = 1.0, rows.squares, (rows.terms - middle) / unit
    if len(places):
        put_columns(rows.columns, places, Z[:, 3:])
    at = 3
    for column in columns:
        if column.centre is not None:
            Z[:, at] -= column.centre
            np.abs(Z[:, at], out=Z[:, at])
        at += len(column.places)
    return Z


def _sums_of(rows: Beside, columns: tuple[Against, ...], centre: tuple[float, float]) -> np.ndarray:
    """Return sums of [1, s, fitted, z₁, …] with one another: (3 + q, 3 + q)."""
    Z = _laid(rows, columns, centre)
    here, times = np.isfinite(rows.squares), rows.times
    if not here.all():
        Z, times = Z[here], None if times is None else times[here]
    if times is None:
        return gram(Z)
    return np.asarray((Z * times[:, None]).T @ Z)


def _across(fit: Fitted, column: Against, test: Test) -> Line:
    """Return the predictor across which the spread changes most."""
    if column.centre is None:
        finding = f"the spread differs between the levels of {column.name}"
    else:
        finding = f"the spread changes from the middle of {column.name} to its ends"
    return _line(
        "spread across",
        f"spread across {column.name} (Koenker, Holm)",
        replace(test, size=4 * test.size),
        allowed_by=_allowed(fit),
        finding=finding,
        advise=lambda: f"try {say.change(std_errors='robust')}",
        small=0.1,
        large=1.0,
    )


def _even_out(fit: Fitted, grows: bool) -> str:
    """Return the change that evens the spread out: a logarithm where that does, else robust."""
    robust = say.change(std_errors="robust")
    log = logarithm_evens_out(fit)
    if grows and log:
        return f"{log} evens it out; or {robust}"
    return f"try {robust}; intervals of new rows will still assume an even spread"


@once
def logarithm_evens_out(fit: Fitted) -> str:
    """Return the change to the response's logarithm, where its spread is even; else nothing."""
    if fit.response.transformed or digest(fit).lowest <= 0 or fit.origin is None:
        return ""
    if fit.design.sentence.response.kind != "plain":
        return ""
    response = f"log({fit.response.expression})"
    other = fit.origin.refit(sentence=with_response(fit, response))
    if koenker(_sums(other, []), [0]).p < EVIDENCE:
        return ""
    return say.change(response=response)


def _ratio(fit: Fitted) -> float:
    """Return ``spread_ratio`` of the fitted rows, which are gone through again where they are
    many."""
    totals = digest(fit)
    ends = curvature(fit)
    low, high = ends.low[-1], ends.high[-1]
    margin = 1e-9 * float(high - low) * fit.solution.unit
    if (held := totals.held) is not None:
        all_rows = (held.terms, held.standardized, held.times)
        judged: Partition[Judged] = Partition(1, lambda i, _: all_rows)
        counted: Partition[Counted] = judged.map(lambda piece: _sound(piece)[::2])
    else:
        judged = pieces(fit).map(_judged)
        counted = judged.map(lambda piece: _sound(piece)[::2])
        if totals.sound == totals.rows:  # then the fitted values alone are wanted
            fitted = partial(_fitted, fit.solution)
            counted = working_rows(fit).row_blocks.map(fitted)
    return spread_ratio(judged, counted, totals.moments.n, margin)


Judged = tuple[np.ndarray, np.ndarray, np.ndarray | None]  # fitted, residual, times, each (m,)


def _judged(rows: Rows) -> Judged:
    return rows.terms, rows.standardized, times_of(rows)


def _fitted(solution: Solution, block: RowBlock) -> Counted:
    return solution.fitted(block.columns), block.repeats


def spread_ratio(
    rows: Partition[Judged], fitted: Partition[Counted], n: float, margin: float
) -> float:
    """Return the residuals' root mean square in the highest third of fitted values over the lowest.

    Parameters: the rows; their fitted values alone; how many rows they stand for; fitted values
    nearer than ``margin`` differ by rounding alone and stand on the same side."""
    if n < 9:
        return float("nan")
    # the thirds by the fitted values, as a reader of the picture would cut it
    low, high = quantiles(fitted, np.array([1 / 3, 2 / 3]), n).tolist()
    if high - low <= margin:
        return float("nan")
    upper, lower = np.add.reduce(
        list(rows.each(partial(_sides, low=low + margin, high=high - margin)))
    )
    with np.errstate(all="ignore"):
        return float(np.sqrt((upper[0] / upper[1]) / (lower[0] / lower[1])))


def _sides(piece: Judged, low: float, high: float) -> np.ndarray:
    """Return Σ times·e² and Σ times of the rows above and below."""
    fitted, residual, times = _sound(piece)
    out = []
    for side in (fitted >= high, fitted <= low):
        e2 = residual[side] ** 2
        if times is None:
            t = None
        else:
            t = times[side]
        out.append(
            [float(e2.sum()), float(len(e2))] if t is None else [float(t @ e2), float(t.sum())]
        )
    return np.array(out)


def _sound(piece: Judged) -> Judged:
    """Return the rows whose residual can be scaled."""
    here = np.isfinite(piece[1])
    if here.all():
        return piece
    return piece[0][here], piece[1][here], None if piece[2] is None else piece[2][here]
