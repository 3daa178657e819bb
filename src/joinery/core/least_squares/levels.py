"""Hundreds of levels are swept out: what is left of the other columns within groups is fitted.

With a column for each level of a category the other coefficients are those of the columns and the
response less their means in each group, and a group's own follow from its means (Frisch & Waugh
1933). No matrix of levels by levels is made, so that time and memory grow with the levels and not
with their square."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from joinery.core.blocks.blocks import Block, Blocks
from joinery.core.blocks.columns import IndicatorColumns, group_sums
from joinery.core.blocks.partition import Partition
from joinery.core.blocks.products import inner
from joinery.core.least_squares.folded import Residuals
from joinery.core.least_squares.groups import Groups
from joinery.core.least_squares.solution import Solution, no_miss
from joinery.core.numeric.triangular import EPS, WIDE, power_of_two

MOST_TAKEN = 1e-2  # of a number's square that must be left within groups for digits to be left too


def swept(blocks: Blocks, n: int | None, solve: Callable[..., Solution]) -> Solution | None:
    """Return the solution of blocks with an intercept and more than ``WIDE`` levels of a category.

    Parameters: ``n`` rows they stand for, where that is not the number with weight; ``solve`` fits
    the columns within groups, without an intercept. Returns None where the blocks are not of that
    kind, or a column leaves too little within groups to be told apart: the columns then want
    fitting in the order written."""
    if len(blocks.pieces):
        first = next(blocks.pieces.only(0).each(_layout))
    else:
        first = None
    if first is None:
        return None
    means = _group_means(blocks, first)
    if means is None:
        return None
    # the last group with rows stands in the constant, the others differ from it
    base = int(np.flatnonzero(means.weights)[-1])
    dependence = _needless_levels(means, first, base)
    # a number that is the same in all rows of each group is one of the levels' combinations
    result = _beside_levels(blocks, means, first, base, dependence)
    if result is None:
        return None
    inner_blocks = _WithinGroups(blocks, first, means, result)
    # a least squares of d columns in place of d + q
    within = solve(inner_blocks, n=means.n if n is None else n)
    if len(within.kept) < len(result) or not _well_told(within, means, result, blocks.width):
        return None
    return _solution(within, means, first, result, base, dependence, n)


class WithinProducts(NamedTuple):
    """Products of the numbers and the response less their means in each group."""

    G: np.ndarray  # (d + 1, d + 1)
    means: Means


def within_products(
    layout: Layout, corner: np.ndarray, groups: np.ndarray, seen: Residuals, n: int
) -> WithinProducts | None:
    """Return what ``swept`` finds in passes, from sums at coefficients that are known.

    Parameters: ``corner`` (1 + d, 1 + d) and ``groups`` (1 + d, q + 1) are the products of the
    constant and the numbers with themselves and with each group, all of which have weight.
    Returns None where taking off the groups' means would take too many digits with it."""
    weights, means = groups[0], groups[1:] / groups[0]
    slopes, levels = seen.at[1 + layout.numbers], np.append(seen.at[1 + layout.levels], 0.0)
    of_levels = seen.gradient[1 + layout.levels]
    missed = np.append(of_levels, seen.gradient[0] - of_levels.sum())
    # products within groups: the whole less what the groups' means hold
    left = corner[1:, 1:] - means @ groups[1:].T
    if not (left.diagonal() > corner.diagonal()[1:] * MOST_TAKEN).all():
        return None
    gradient = seen.gradient[1 + layout.numbers] - means @ missed
    explained = left @ slopes
    edge = gradient + explained
    # the residuals' squares within groups, and what the slopes explain there
    square = seen.squares - float(missed / weights @ missed)
    square += float((2 * gradient + explained) @ slopes)
    response = seen.at[0] + levels + slopes @ means + missed / weights
    return WithinProducts(
        np.block([[left, edge[:, None]], [edge[None, :], np.array([[square]])]]),
        Means(weights, means, response, np.sqrt(corner.diagonal()[1:]), n),
    )


def with_groups(within: Solution, means: Means, layout: Layout, n: int) -> Solution | None:
    """Return the solution of all columns from that of the numbers within groups.

    Every group has weight, the last without a level. None where rounding could hide a column."""
    places, q = np.arange(len(layout.numbers)), len(layout.levels)
    if not _well_told(within, means, places, len(places) + q):
        return None
    return _solution(within, means, layout, places, q, {}, n)


class Layout(NamedTuple):
    """Places of the columns that are numbers (d,), and of those that are levels (q,)."""

    numbers: np.ndarray
    levels: np.ndarray


def _layout(block: Block) -> Layout | None:
    X = block[0]
    if not isinstance(X, IndicatorColumns) or X.value is not None or len(X.level_places) <= WIDE:
        return None
    return Layout(X.number_places, X.level_places)


class Means(NamedTuple):
    """Sums of the first pass: of each group its weight, and means of numbers and response."""

    weights: np.ndarray  # (q + 1,), the last of rows without a level; 0 of a group without rows
    numbers: np.ndarray  # (d, q + 1)
    response: np.ndarray  # (q + 1,)
    sizes: np.ndarray  # ‖√w·x‖ of the numbers as written (d,)
    n: int


def _group_means(blocks: Blocks, layout: Layout) -> Means | None:
    q, d = len(layout.levels), len(layout.numbers)

    def added(block: Block) -> tuple[np.ndarray, np.ndarray, int] | None:
        X, y, w = block
        if not isinstance(X, IndicatorColumns) or not np.array_equal(X.level_places, layout.levels):
            return None
        sums = np.empty((d + 2, q + 1))
        sums[0] = np.bincount(X.codes, w, q + 1)
        sums[1:-1] = group_sums(X.codes, X.numbers, w, q + 1)
        sums[-1] = np.bincount(X.codes, y if w is None else w * y, q + 1)
        squares = np.array([inner(x if w is None else w * x, x) for x in X.numbers.T])
        return sums, squares, len(y) if w is None else int(np.count_nonzero(w))

    sums, squares, n = np.zeros((d + 2, q + 1)), np.zeros(d), 0
    with np.errstate(all="ignore"):
        for part in blocks.pieces.each(added):
            if part is None:
                return None
            sums, squares, n = sums + part[0], squares + part[1], n + part[2]
        weights = sums[0]
        means = sums[1:] / np.where(weights > 0, weights, 1.0)
        sizes = np.sqrt(squares)
    # values too large for their squares: the exact way scales them first
    sound = np.isfinite(weights).all() and np.isfinite(means).all() and np.isfinite(sizes).all()
    if not sound or n <= np.count_nonzero(weights) + d:
        return None
    return Means(weights, means[:d], means[d], sizes, n)


def _needless_levels(means: Means, layout: Layout, base: int) -> dict[int, np.ndarray]:
    """Return levels without rows, and where every row has one the last, which the others say."""
    k = len(layout.numbers) + len(layout.levels)
    here = means.weights[:-1] > 0
    out = {int(column): np.zeros(k + 1) for column in layout.levels[~here]}
    if base < len(layout.levels):
        combination = np.zeros(k + 1)
        combination[0], combination[layout.levels[here] + 1] = 1.0, -1.0
        combination[layout.levels[base] + 1] = 0.0
        out[int(layout.levels[base])] = combination
    return out


def _beside_levels(
    blocks: Blocks, means: Means, layout: Layout, base: int, dependence: dict[int, np.ndarray]
) -> np.ndarray | None:
    """Return which numbers vary within groups; ``dependence`` gains what the others are of the
    levels.

    None where a level would have to go for a number that was written before it.
    """
    d, k = len(layout.numbers), len(layout.numbers) + len(layout.levels)
    between = np.sqrt((means.weights * means.numbers**2).sum(axis=1))
    # a number that hardly varies within groups may be a combination of the levels
    doubtful = np.flatnonzero(~(means.sizes - between > 1e-6 * means.sizes))
    result = np.ones(d, bool)
    if len(doubtful):
        outcome = _WithinGroups(blocks, layout, means, doubtful).pieces.each(_squares)
        left = np.sqrt(sum(outcome, np.zeros(len(doubtful))))
        result[doubtful] = left > 2 * (32 + k) * EPS * means.sizes[doubtful]
    for j in np.flatnonzero(~result):
        # the rank is told in the order written: earlier columns stay, later ones go
        if layout.numbers[j] < layout.levels[-1]:
            return None
        m, here = means.numbers[j], means.weights[:-1] > 0
        combination = np.zeros(k + 1)
        combination[0] = m[base]
        combination[layout.levels[here] + 1] = m[:-1][here] - m[base]
        dependence[int(layout.numbers[j])] = combination
    return np.flatnonzero(result)


def _squares(block: Block) -> np.ndarray:
    X, _, w = block
    X = np.asarray(X)
    return np.asarray(np.einsum("ij,ij->j", X, X if w is None else X * w[:, None]))


def _well_told(within: Solution, means: Means, places: np.ndarray, k: int) -> bool:
    """Return True if earlier columns leave more of each than rounding could, by sizes as
    written."""
    inverse = np.abs(within.inverse / within.scale[:, None])
    return bool((inverse.T @ means.sizes[places] * (32 + k) * EPS < 1).all())


@dataclass(frozen=True)
class _WithinGroups:
    """The numbers and the response less their means in each group."""

    blocks: Blocks
    layout: Layout
    means: Means
    varying: np.ndarray

    @property
    def width(self) -> int:
        return len(self.varying)

    @property
    def pieces(self) -> Partition[Block]:
        means, result = self.means, self.varying

        def within(block: Block) -> Block:
            X, y, w = block
            assert isinstance(X, IndicatorColumns)
            Z = np.empty((len(y), len(result)), order="F")
            for place, j in enumerate(result):
                # the rows' own means are taken off as they pass; no indicator is ever written out
                np.subtract(X.numbers[:, j], means.numbers[j].take(X.codes), out=Z[:, place])
            return Z, y - means.response.take(X.codes), w

        return self.blocks.pieces.map(within)


def _solution(
    within: Solution,
    means: Means,
    layout: Layout,
    places: np.ndarray,
    base: int,
    dependence: dict[int, np.ndarray],
    n: int | None,
) -> Solution:
    """Return the solution of all columns from that within groups and the groups' means."""
    there = np.flatnonzero(means.weights[:base])
    numbers, levels = layout.numbers[places], layout.levels[there]
    kept = np.sort(np.concatenate([numbers, levels]))
    chosen = np.append(there, base)
    of_code = np.full(len(means.weights), len(there))
    of_code[there] = np.arange(len(there))
    groups = Groups(
        levels=np.searchsorted(kept, levels),
        numbers=np.searchsorted(kept, numbers),
        of_code=of_code,
        weights=means.weights[chosen],
        means=means.numbers[np.ix_(places, chosen)],
        response=means.response[chosen],
        factor=within.factor * within.scale,
        inverse=within.inverse / within.scale[:, None],
        effects=within.effects,
    )
    slopes = within.coefficients
    # each group's constant puts the line through its means
    constants = groups.response - slopes @ groups.means
    coefficients = np.full(len(layout.numbers) + len(layout.levels), np.nan)
    coefficients[numbers], coefficients[levels] = slopes, constants[:-1] - constants[-1]
    W, unit = groups.weight_sum, within.unit
    mean = float(groups.weights @ groups.response) / W
    # the total is the part within groups and the part between their means
    away = groups.response_away / unit
    tss = within.tss + float(groups.weights @ (away * away))
    lengths = groups.lengths
    size = np.sqrt(tss) + float(np.abs(coefficients[kept]) @ lengths) / unit
    if n is None:
        rows = means.n
    else:
        rows = n
    perfect = no_miss(within.rss, size, abs(mean) / unit * np.sqrt(W)) or rows <= len(kept) + 1
    return Solution(
        intercept=float(constants[-1]),
        coefficients=coefficients,
        kept=kept,
        dependence=dict(sorted(dependence.items())),
        centre=groups.centre,
        scale=power_of_two(lengths),
        own_factor=None,
        own_effects=None,
        n=rows,
        weight_sum=W,
        rss=0.0 if perfect else within.rss,
        tss=tss,
        mean_response=mean,
        spans_constant=True,
        perfect=perfect,
        condition=groups.condition,
        way=within.way,
        unit=unit,
        groups=groups,
    )
