"""Values at places in the order of all, exactly, in a few passes over rows that are not held."""

from __future__ import annotations

from functools import partial
from typing import NamedTuple

import numpy as np

from joinery.core.blocks.partition import Partition

Counted = tuple[np.ndarray, np.ndarray | None]  # values, and how often each stands (None: once)
GATHERED = 2**20  # values that are gathered and sorted at once
BITS_A_PASS = 16  # each pass narrows a value's bits down by so many


def quantiles(
    values: Partition[Counted], shares: np.ndarray, total: float | None = None
) -> np.ndarray:
    """Return quantiles (len(shares),) of all values, each counted, linear between neighbours.

    Parameters: ``values`` in pieces, none missing; ``shares`` between 0 and 1; ``total`` of the
    counts, where it is known. NaN of no values.

    >>> import numpy as np
    >>> from joinery.core.blocks.partition import Partition
    >>> tens = Partition(2, lambda i, _: (np.arange(5.0) + 5 * i, None))
    >>> quantiles(tens, np.array([0.5])).tolist()
    [4.5]
    """
    if len(values) == 1:
        x, counts = next(iter(values))
        if len(x) and (counts is None or (counts == 1).all()):
            return _parted(x, np.asarray(shares) * (len(x) - 1))
    if total is None:
        total = sum(values.each(_weight))
    if not total:
        return np.full(len(shares), np.nan)
    place = np.asarray(shares) * (total - 1)
    below, above = np.floor(place), np.ceil(place)
    places = np.unique(np.append(below, above))
    collected = dict(zip(places.tolist(), at_places(values, places, total).tolist()))
    low, high = (np.array([collected[p] for p in side.tolist()]) for side in (below, above))
    return np.asarray(low + (high - low) * (place - below))


def _parted(x: np.ndarray, place: np.ndarray) -> np.ndarray:
    """Return values held in one piece, between places: without sorting all of them."""
    floor, ceil = np.floor(place).astype(int), np.ceil(place).astype(int)
    parted = np.partition(x, np.unique(np.append(floor, ceil)))
    return np.asarray(parted[floor] + (parted[ceil] - parted[floor]) * (place - floor))


def at_places(values: Partition[Counted], places: np.ndarray, total: float) -> np.ndarray:
    """Return the values that stand at places (k,), counted from 0, in the order of all.

    The bits of a double, turned so that they sort as the numbers do, are narrowed down by counting
    until so few values are left that they can be sorted."""
    bins = [_Bin(0, 64, 0.0, total)] * len(places)
    while bins[0].bits and sum(b.inside for b in set(bins)) > GATHERED:
        chosen = list(dict.fromkeys(bins))
        counts = dict.fromkeys(chosen, np.zeros(2**BITS_A_PASS))
        for part in values.each(partial(_histograms, bins=chosen)):
            counts = {b: counts[b] + c for b, c in zip(chosen, part)}
        bins = [_narrowed(b, counts[b], place) for b, place in zip(bins, places)]
    return _gathered(values, bins, places)


class _Bin(NamedTuple):
    """Keys from ``start`` that agree in all but the last ``bits``."""

    start: int
    bits: int
    below: float  # the count of values with smaller keys
    inside: float  # and of those with these

    def holds(self, keys: np.ndarray) -> np.ndarray:
        if self.bits == 64:
            return np.ones(len(keys), bool)
        return np.asarray(keys >> np.uint64(self.bits) == np.uint64(self.start >> self.bits))


def _keys(x: np.ndarray) -> np.ndarray:
    """Return whole numbers (m,) that sort as the doubles do; zeros of both signs are one."""
    bits = np.asarray(x, float) + 0.0
    rotated = (bits.view(np.int64) >> np.int64(63)).view(np.uint64)  # all ones below zero
    rotated |= np.uint64(2**63)
    rotated ^= bits.view(np.uint64)
    return rotated


def _numbers(keys: np.ndarray) -> np.ndarray:
    """Return the doubles of keys."""
    positive = keys >> np.uint64(63) == 1
    return np.where(positive, keys ^ np.uint64(2**63), ~keys).view(float)


def _weight(piece: Counted) -> float:
    x, counts = piece
    if counts is None:
        return float(len(x))
    return float(counts.sum())


def _histograms(piece: Counted, bins: list[_Bin]) -> list[np.ndarray]:
    keys = _keys(piece[0])
    return [_histogram(keys, piece[1], b) for b in bins]


def _histogram(keys: np.ndarray, weights: np.ndarray | None, b: _Bin) -> np.ndarray:
    if b.bits < 64:
        here = b.holds(keys)
        keys, weights = keys[here], None if weights is None else weights[here]
    offset = (keys - np.uint64(b.start)) >> np.uint64(max(b.bits - BITS_A_PASS, 0))
    return np.bincount(offset.astype(np.int64), weights=weights, minlength=2**BITS_A_PASS)


def _narrowed(b: _Bin, counts: np.ndarray, place: float) -> _Bin:
    width = max(b.bits - BITS_A_PASS, 0)
    upto = b.below + np.cumsum(counts)
    at = int(np.searchsorted(upto, place, side="right"))
    if at:
        below = float(upto[at - 1])
    else:
        below = b.below
    return _Bin(b.start + (at << width), width, below, float(counts[at]))


def _gathered(values: Partition[Counted], bins: list[_Bin], places: np.ndarray) -> np.ndarray:
    chosen = list(dict.fromkeys(bins))

    def inside(piece: Counted) -> list[tuple[np.ndarray, np.ndarray]]:
        keys = _keys(piece[0])
        out = []
        for b in chosen:
            here = b.holds(keys)
            distinct, at = np.unique(keys[here], return_inverse=True)
            if piece[1] is None:
                weights = None
            else:
                weights = piece[1][here]
            out.append((distinct, np.bincount(at, weights=weights, minlength=len(distinct))))
        return out

    parts = list(values.each(inside))
    out = np.empty(len(places))
    for i, b in enumerate(chosen):
        keys = np.concatenate([p[i][0] for p in parts])
        counts = np.concatenate([p[i][1] for p in parts])
        order = np.argsort(keys, kind="stable")
        upto = b.below + np.cumsum(counts[order])
        mine = [j for j, other in enumerate(bins) if other == b]
        at = np.searchsorted(upto, places[mine], side="right")
        out[mine] = _numbers(keys[order][at])
    return out
