"""Covariances that rest on the residuals themselves, folded from the rows.

See ``covariance`` for the basis in which they are worked out."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from joinery.core.blocks.partition import Partition
from joinery.core.inference.covariance import ALONE, RobustSums, Sandwich, bell_mccaffrey
from joinery.support.limits import CLUSTER_CELLS_KEPT, ROBUST_CELLS_KEPT


class Scored(NamedTuple):
    """Some rows in the basis (m, q), their residuals, precision weights and repeats, each (m,)."""

    u: np.ndarray
    e: np.ndarray
    w: np.ndarray
    repeats: np.ndarray
    span: slice  # where they stand among all rows


# ------------------------------------------------------------------ uneven spread


def robust(kind: str, rows: Partition[Scored], root: np.ndarray, n: int) -> Sandwich:
    """Return HC0 (White 1980), HC1, HC2 and HC3 (MacKinnon & White 1985), and "robust".

    That is HC2 with degrees of freedom of each combination's own (Bell & McCaffrey 2002; Imbens &
    Kolesár 2016), which holds its level where few rows or a far one make HC3 too narrow.

    Parameters: ``kind``; the rows; ``root`` (q, q) takes the basis to coefficients; n rows. A row
    with leverage 1 leaves a direction blind."""
    q = len(root)
    if kind == "hc1":
        share = n / (n - q) if n > q else np.nan
    else:
        share = 1.0
    power = {"hc0": 0, "hc1": 0, "hc2": 1, "hc3": 2, "robust": 1}[kind]
    keep = kind == "robust" and n * q <= ROBUST_CELLS_KEPT

    def added(part: Scored) -> _Uneven:
        # what a row of leverage h keeps of its own error: e estimates (1 − h)ε
        left = 1 - part.w * (part.u * part.u).sum(axis=1)
        alone = left <= ALONE
        with np.errstate(all="ignore"):
            weight = part.repeats * share * (part.w * part.e) ** 2 / left**power
        weight[alone] = 0.0
        result = part.u * np.sqrt(part.w)[:, None]
        if kind == "robust":
            sums = RobustSums.of(result, part.repeats, root)
        else:
            sums = None
        if keep:
            held = (result, part.repeats.copy())
        else:
            held = None
        return _Uneven((part.u * weight[:, None]).T @ part.u, result[alone], sums, held)

    parts = iter(rows.each(added))
    full = next(parts)
    alone, kept, meat, sums = [full.alone], [full.held], full.meat, full.sums
    for part in parts:
        meat = meat + part.meat
        if sums is None or part.sums is None:
            sums = None
        else:
            sums = sums + part.sums
        alone.append(part.alone)
        kept.append(part.held)
    held = [one for one in kept if one is not None]
    return Sandwich(
        kind,
        meat,
        np.full(q, float(n - q)) if sums is None else sums.degrees,
        blind=_directions(np.concatenate(alone)),
        rows=np.ascontiguousarray(np.concatenate([u for u, _ in held]))
        if held
        else np.empty((0, 0)),
        copies=np.concatenate([r for _, r in held]) if held else np.empty(0),
    )


class _Uneven(NamedTuple):
    """Of some rows: the meat, those of leverage 1, sums for degrees of freedom, and themselves."""

    meat: np.ndarray
    alone: np.ndarray
    sums: RobustSums | None
    held: tuple[np.ndarray, np.ndarray] | None


def _directions(rows: np.ndarray) -> np.ndarray:
    """Return orthonormal directions (q, b) that some rows (m, q) span."""
    if not len(rows):
        return np.empty((rows.shape[1], 0))
    _, values, vectors = np.linalg.svd(rows, full_matrices=False)
    return np.asarray(vectors[values > 0.5].T)


# ------------------------------------------------------------------ clusters


def clustered(rows: Partition[Scored], groups: Sequence[np.ndarray], root: np.ndarray) -> Sandwich:
    """Return CR2 with Bell & McCaffrey's degrees of freedom (2002), by one or several crossed
    groupings.

    Parameters: the rows; ``groups`` one array of group numbers (n,) for each grouping; ``root``
    (q, q). Crossed groupings are added and their intersections taken away (Cameron, Gelbach &
    Miller 2011), with the smallest degrees of freedom among them."""
    q = len(root)
    meat, counts, kept, alone = np.zeros((q, q)), [], [], []
    df = np.full(q, np.inf)
    # every set of groupings, as a number whose bits say which: sets of an even size are taken away
    for chosen in range(1, 2 ** len(groups)):
        members = [g for i, g in enumerate(groups) if chosen >> i & 1]
        part, K, blind = _one_clustering(rows, joined_groups(members), q)
        meat += part if len(members) % 2 else -part
        if len(members) == 1:
            df = np.minimum(df, bell_mccaffrey(K, root))
            counts.append(len(K))
            kept.append(K)
            alone.append(blind)
    clipped = False
    if len(groups) > 1:
        values, vectors = np.linalg.eigh(meat)
        # what is taken away may leave a variance below zero; it is set to zero, and said
        clipped = bool(values[0] < -1e-9 * values[-1])
        meat = (vectors * np.maximum(values, 0.0)) @ vectors.T
    small = sum(K.size for K in kept) <= CLUSTER_CELLS_KEPT
    return Sandwich(
        "clustered",
        meat,
        df,
        tuple(counts),
        blind=_directions(np.concatenate(alone)),
        leverages=tuple(kept) if small else (),
        clipped=clipped,
    )


def joined_groups(members: Sequence[np.ndarray]) -> np.ndarray:
    """Return numbers from 0 on (n,) of the groups that several groupings make together."""
    _, joint = np.unique(members[0], return_inverse=True)
    for codes in members[1:]:
        distinct, places = np.unique(codes, return_inverse=True)
        _, joint = np.unique(joint * len(distinct) + places, return_inverse=True)
    return joint.ravel().astype(np.int32)


def _one_clustering(
    rows: Partition[Scored], group: np.ndarray, q: int
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return the meat of one grouping, each cluster's leverage K = UᵀWU (G, q, q), and blind
    directions.

    With t = UᵀWe of a cluster the adjusted score is (I − K)^(−1/2)·t.
    """

    def added(part: Scored) -> tuple[np.ndarray, np.ndarray]:
        """Return which clusters the rows are of, and UᵀW[U, e] of each (g, q, q + 1)."""
        codes, weight = group[part.span], part.w * part.repeats
        # rows of a cluster side by side, so that each is one product of matrices
        order = np.argsort(codes, kind="stable")
        here, first = np.unique(codes[order], return_index=True)
        Z = np.column_stack([part.u, part.e])[order]
        weighted = part.u[order] * weight[order, None]
        ends = np.append(first, len(codes))[1:].tolist()
        each = zip(first.tolist(), ends, strict=True)
        return here, np.array([weighted[a:b].T @ Z[a:b] for a, b in each])

    sums = np.zeros((int(group.max()) + 1, q, q + 1))
    for here, member in rows.each(added):
        if len(here):
            sums[here] += member
    K, scores = sums[:, :, :q], sums[:, :, q]
    values, vectors = np.linalg.eigh(K)
    alone = 1 - values <= ALONE
    # a direction that a cluster has for itself says nothing of its spread: it counts nothing
    inverse_root = np.where(alone, 0.0, 1 / np.sqrt(np.where(alone, 1.0, 1 - values)))
    rotated = np.einsum("gij,gi->gj", vectors, scores) * inverse_root
    adjusted = np.einsum("gij,gj->gi", vectors, rotated)
    blind = np.swapaxes(vectors, 1, 2)[alone]
    return adjusted.T @ adjusted, np.ascontiguousarray(K), blind


# ------------------------------------------------------------------ neighbours alike


def autocorrelated(rows: Partition[Scored], place: np.ndarray, root: np.ndarray) -> Sandwich:
    """Return equally weighted cosines of the scores (Lazarus, Lewis, Stock & Watson 2018), with
    t(B).

    The first B cosine transforms of the series of scores are as good as independent where the
    spectrum is flat near zero, so that their mean square has B degrees of freedom. Residuals are
    taken over 1 − h, as leverage makes them too small.

    Parameters: the rows; ``place`` (n,) each row's place in the order, rows left out counted, so
    that they keep their distance; ``root`` (q, q)."""
    from scipy import fft

    def scored(part: Scored) -> tuple[np.ndarray, np.ndarray]:
        h = part.w * (part.u * part.u).sum(axis=1)
        alone = 1 - h <= ALONE
        size = np.where(alone, 0.0, part.w * part.e / np.where(alone, 1.0, 1 - h))
        return part.u * size[:, None], (part.u * np.sqrt(part.w)[:, None])[alone]

    parts = list(rows.each(scored))
    series = np.zeros((int(place.max()) + 1, len(root)))
    series[place] = np.concatenate([scores for scores, _ in parts])
    count = cosines(len(place))
    # Σ scores·cos π·k·(place + ½)/places for every k at once
    transforms = fft.dct(series, type=2, axis=0)[1 : count + 1] / 2
    return Sandwich(
        "autocorrelated",
        2 / count * transforms.T @ transforms,
        np.full(len(root), float(count)),
        cosines=count,
        blind=_directions(np.concatenate([alone for _, alone in parts])),
    )


def cosines(n: int) -> int:
    """Return how many cosine transforms are averaged: 0.4·n^(2/3) (Lazarus et al. 2018)."""
    return max(int(0.4 * n ** (2 / 3)), 2)
