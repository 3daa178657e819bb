"""Fitted chances judged: calibration in groups, cut-offs, and pairs told apart."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from joinery.core.blocks.order_statistics import Counted, at_places
from joinery.core.blocks.partition import Partition

SAME_MEAN = 1e-9  # of a mean: closer ones differ by rounding alone
CLASSES = 2**20  # of chances, where rows are not held


class Chances(NamedTuple):
    """Fitted and observed shares of some rows, how many trials each is, their weights: (m,)."""

    mu: np.ndarray
    y: np.ndarray
    trials: np.ndarray
    w: np.ndarray


class Groups(NamedTuple):
    """Observed and expected events of groups (g,), the events' variance, and the trials."""

    observed: np.ndarray
    expected: np.ndarray
    variance: np.ndarray
    trials: np.ndarray


def in_groups(rows: Partition[Chances], count: int) -> Groups:
    """Return rows in up to ``count`` groups of fitted chance with as many trials each.

    Equal chances stay together, where the middle of their trials lies."""
    weighed: Partition[Counted] = rows.map(lambda c: (c.mu, c.trials))
    total = sum(rows.each(lambda c: float(c.trials.sum())), 0.0)
    between = np.arange(1, count) / count * total
    if count > 1:
        ends = at_places(weighed, between, total)
    else:
        ends = np.empty(0)

    def about(c: Chances) -> np.ndarray:
        """Return trials below each end, and at it."""
        low, high = ends - SAME_MEAN * np.abs(ends), ends + SAME_MEAN * np.abs(ends)
        below = [c.trials[c.mu < end].sum() for end in low]
        upto = [c.trials[c.mu <= end].sum() for end in high]
        return np.array([below, upto])

    below, upto = sum(rows.each(about), np.zeros((2, len(ends))))
    above = (below + upto) / 2 / total * count + SAME_MEAN >= np.arange(1, count)
    starts = np.where(above, ends - SAME_MEAN * np.abs(ends), ends + SAME_MEAN * np.abs(ends))

    def sums(c: Chances) -> np.ndarray:
        place = np.searchsorted(np.maximum.accumulate(starts), c.mu, side="right")
        each = (c.y * c.trials, c.mu * c.trials, c.mu * (1 - c.mu) * c.trials / c.w, c.trials)
        return np.array([np.bincount(place, v, minlength=count) for v in each])

    parts = sum(rows.each(sums), np.zeros((4, count)))
    return Groups(*parts[:, parts[2] > 0])


class Said(NamedTuple):
    """Rows said yes at each cut-off (q,), those with yes among them, and all of either kind."""

    yes: np.ndarray
    rightly: np.ndarray
    of_yes: float
    of_no: float


def said_yes(rows: Partition[Chances], cutoffs: np.ndarray) -> Said:
    """Return rows whose chance is at each cut-off (q,) or above it."""
    order = np.argsort(cutoffs, kind="stable")

    def of_chances(c: Chances) -> np.ndarray:
        place = np.searchsorted(cutoffs[order], c.mu, side="right")
        return np.array(
            [np.bincount(place, v, len(cutoffs) + 1) for v in (c.trials, c.trials * c.y)]
        )

    counts = sum(rows.each(of_chances), np.zeros((2, len(cutoffs) + 1)))
    every, of_yes = counts.sum(axis=1).tolist()
    above = counts[:, ::-1].cumsum(axis=1)[:, -2::-1]
    remarks = np.empty((2, len(cutoffs)))
    remarks[:, order] = above
    return Said(remarks[0], remarks[1], of_yes, every - of_yes)


def concordance(rows: Partition[Chances]) -> float:
    """Return the share of pairs, one with yes and one with no, in which yes has the higher chance.

    Ties count half (Hanley & McNeil 1982). Of rows in several pieces, chances that agree to a
    millionth count as ties."""
    classed = len(rows) > 1
    yes, no = np.zeros(0), np.zeros(0)
    if classed:
        yes, no = np.zeros(CLASSES + 1), np.zeros(CLASSES + 1)

    def of_chances(c: Chances) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        if classed:
            keys = np.floor(c.mu * CLASSES)
        else:
            keys = c.mu
        values, place = np.unique(keys, return_inverse=True)
        hits = np.bincount(place, c.trials * c.y, len(values))
        return values, hits, np.bincount(place, c.trials, len(values)) - hits

    for values, hits, misses in rows.each(of_chances):
        if not classed:
            yes, no = hits, misses
            break
        at = values.astype(int)
        yes[at] += hits
        no[at] += misses
    pairs = float(yes.sum() * no.sum())
    below = np.cumsum(no) - no
    if pairs:
        return float(yes @ (below + no / 2)) / pairs
    return float("nan")
