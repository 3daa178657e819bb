"""From exact cross-products to a Solution."""

from __future__ import annotations

import numpy as np

from joinery.core.blocks.blocks import Blocks, constant_in, extremes, start
from joinery.core.least_squares import exact_products as exact
from joinery.core.least_squares.solution import Solution, no_miss
from joinery.core.numeric import double_double as precise
from joinery.core.numeric.triangular import EPS, condition_number, power_of_two

EXACT_FAR_MEAN = 30.0  # double-double products bear more centring than doubles do


def exact_least_squares(
    blocks: Blocks, intercept: bool, n: int | None, centred: bool = False
) -> Solution:
    """The exact way: see ``exact_products``."""
    k, c = blocks.width, int(intercept)
    # columns near their means have small products; a shift of the first block is near enough
    shift = np.append(*start(blocks, intercept, EXACT_FAR_MEAN))
    ranges = extremes(blocks, shift)
    scale = power_of_two(ranges.largest) * 2  # to at most ½
    if ranges.largest_weight > 0:
        weight_scale = 4.0 ** np.ceil(np.log2(ranges.largest_weight) / 2)
    else:
        weight_scale = 1.0
    scaled = exact.Scaled(blocks, intercept, shift, scale, float(weight_scale))
    # 32 + k: the roundings that a column of the table has been through, and one for each other
    solved = exact.solve(scaled, ranges.weight_sum / weight_scale, ranges.n, (32 + k) * EPS)
    kept = solved.kept[c:] - c
    y_scale, root, kept_scale = scale[-1], np.sqrt(weight_scale), scale[:-1][kept]
    slopes = solved.coefficients[0][c:], solved.coefficients[1][c:]
    # back to the columns as written
    b = slopes[0] / kept_scale * y_scale  # powers of two: nothing is rounded
    inverse = solved.inverse[0][c:, c:], solved.inverse[1][c:, c:]
    centre, mean, constant = np.zeros(len(kept)), 0.0, None
    rows = inverse[0] / kept_scale[:, None]
    if intercept:
        # the first row of the factor holds the means of the shifted columns, in halves
        middle = solved.factor[0][0, 1:] / solved.factor[0][0, 0] * 0.5
        centre = shift[:-1][kept] + middle * kept_scale
        mean = float(shift[-1] + solved.effects[0][0] / solved.factor[0][0, 0] * 0.5 * y_scale)
        constant, rows = _with_constant(solved, slopes, shift, kept_scale, kept, y_scale, rows)
    unit, rss, tss = _sums_of_squares(solved, float(y_scale), float(weight_scale))
    direction = None
    factor = np.asfortranarray(solved.factor[0][c:, c:] * root)
    coefficients = np.full(k, np.nan)
    coefficients[kept] = b
    if not intercept and len(kept) and not centred:
        direction, tss = constant_in(blocks, kept, factor, kept_scale, ranges.weight_sum, tss, unit)
    if n is None:
        count = ranges.n
    else:
        count = n
    # how large the parts of the fit are beside what is left of them: rounding is judged by these
    explained = float(np.abs(slopes[0]) @ np.linalg.norm(factor, axis=0)) * (y_scale / unit)
    level = abs(mean / unit) * np.sqrt(ranges.weight_sum)
    perfect = no_miss(rss, np.sqrt(tss) + explained, level) or count <= len(kept) + c
    return Solution(
        intercept=constant,
        coefficients=coefficients,
        kept=kept,
        dependence=_dependences(solved, k, c, kept, shift, scale, scaled),
        centre=centre,
        scale=kept_scale,
        own_factor=factor,
        own_effects=solved.effects[0][c:] * root * y_scale,
        n=count,
        weight_sum=ranges.weight_sum,
        rss=0.0 if perfect else max(rss, 0.0),
        tss=tss,
        mean_response=mean,
        spans_constant=intercept or direction is not None,
        constant_direction=direction,
        perfect=perfect,
        condition=condition_number(factor),
        way="exact",
        exact_inverse=inverse[0] / root,
        exact_root=rows / root,
        unit=unit,
    )


def _sums_of_squares(
    solved: exact.Exact, y_scale: float, weight_scale: float
) -> tuple[float, float, float]:
    """Return the unit of the sums of squares, and the residual and total ones in it.

    Sums of squares of a response of 10²⁰⁰ exist in its own unit only; for others the unit is 1.
    """
    extreme = not 1e-140 < y_scale < 1e140
    to_unit = weight_scale * (1.0 if extreme else y_scale**2)
    return y_scale if extreme else 1.0, solved.rss * to_unit, max(solved.tss, 0.0) * to_unit


def _with_constant(
    solved: exact.Exact,
    slopes: precise.Pair,
    shift: np.ndarray,
    places: np.ndarray,
    kept: np.ndarray,
    y_scale: float,
    rows: np.ndarray,
) -> tuple[float, np.ndarray]:
    """Return the constant, and the rows of the covariance's root with the constant's on top.

    Both are found in pairs of doubles, before shifting the columns back could cost their digits.
    """
    # the constant of the columns as written: that of the shifted ones less what the shift explains
    away = _pairs(shift[:-1][kept] / places)
    moved = precise.total(precise.multiply(slopes, away))
    first = 0.5 * solved.coefficients[0][0], 0.5 * solved.coefficients[1][0]
    constant = precise.add(precise.add(first, _pairs(shift[-1] / y_scale)), precise.negative(moved))
    full = solved.inverse[0][1:], solved.inverse[1][1:]
    taken = precise.total(precise.multiply(full, (away[0][:, None], away[1][:, None])))
    top = precise.add(
        (0.5 * solved.inverse[0][0], 0.5 * solved.inverse[1][0]), precise.negative(taken)
    )
    below = np.column_stack([np.zeros(len(kept)), rows])
    return float(constant[0] * y_scale), np.vstack([top[0], below])


def _pairs(values: np.ndarray) -> precise.Pair:
    return np.asarray(values), np.zeros_like(values)


def _dependences(
    solved: exact.Exact,
    k: int,
    c: int,
    kept: np.ndarray,
    shift: np.ndarray,
    scale: np.ndarray,
    scaled: exact.Scaled,
) -> dict[int, np.ndarray]:
    """For each dropped column its coefficients on [constant, earlier columns kept], as written."""
    out: dict[int, np.ndarray] = {}
    for j in sorted(set(range(k)) - set(kept.tolist())):
        earlier = kept[kept < j]
        r = len(earlier) + c
        inverse = solved.inverse[0][:r, :r], solved.inverse[1][:r, :r]
        cross = solved.cross[0][:r, j + c], solved.cross[1][:r, j + c]
        # the regression of the dropped column on those kept before it
        weights = precise.dot(inverse, precise.dot((inverse[0].T, inverse[1].T), cross))[0]
        combination = np.zeros(k + 1)
        combination[earlier + 1] = weights[c:] * scale[j] / scale[earlier]
        if c:
            combination[0] = (
                shift[j] + 0.5 * weights[0] * scale[j] - combination[earlier + 1] @ shift[earlier]
            )
        out[j] = combination
    return out
