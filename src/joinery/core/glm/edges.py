"""The best means where they lie at an edge of what link and family admit, as μ = 0 of counts.

Steps towards such an edge cannot be halved into the domain and still get there. A barrier
−t·Σ log(distance of η from its edges) keeps the iteration inside; t falls by tens until what it
costs is lost in rounding (Fiacco & McCormick 1968; Nocedal & Wright 2006, 19.6)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.core.glm.families import Family
from joinery.core.glm.links import Link

BARRIERS = tuple(0.1 ** np.arange(12))  # t, the last too small to be seen in a deviance
NEAR_ENOUGH = 1e-9  # of a step at each t: the next begins there


@dataclass(frozen=True)
class Wall:
    """The additions of a barrier in some rows, each (m,)."""

    score: np.ndarray
    weight: np.ndarray
    cost: np.ndarray


def eta_range(family: Family, link: Link) -> tuple[float, float]:
    """Return the ends of η between which there is a mean that link and family admit."""
    with np.errstate(all="ignore"):
        image = np.sort(link.mu(np.array(link.domain)))
        ends = link.eta(np.clip(family.mean_range, *image))
    ends = np.where(np.isnan(ends), np.array([-np.inf, np.inf]), ends)
    low, high = float(ends.min()), float(ends.max())
    return max(low, link.domain[0]), min(high, link.domain[1])


def has_edges(family: Family, link: Link) -> bool:
    """Return True if η cannot be any number."""
    return bool(np.isfinite(eta_range(family, link)).any())


def barrier_gap(n: int) -> float:
    """Return the most by which a path of barriers ends above the least deviance of n rows.

    A minimum behind a barrier costs at most t for each constraint (Nocedal & Wright 2006, 19.6); a
    row has up to two, and a deviance is twice a log likelihood."""
    return float(4 * n * BARRIERS[-1])


def wall(family: Family, link: Link, eta: np.ndarray, times: np.ndarray, t: float) -> Wall:
    """Return the barrier at some rows' η, each row counted so many times."""
    score, weight, cost = (np.zeros_like(eta) for _ in range(3))
    low, high = eta_range(family, link)
    for end, side in ((low, 1.0), (high, -1.0)):
        if np.isfinite(end):
            distance = side * (eta - end)
            score += t * times * side / distance
            weight += t * times / distance**2
            cost -= t * times * np.log(distance)
    return Wall(score, weight, cost)


def nearing(family: Family, link: Link, eta: np.ndarray, move: np.ndarray) -> float:
    """Return the largest share of its distance from an edge that a move of η takes any row."""
    low, high = eta_range(family, link)
    shares = [0.0]
    for end, side in ((low, 1.0), (high, -1.0)):
        if np.isfinite(end) and len(eta):
            shares.append(float(np.max(-side * move / (side * (eta - end)))))
    return max(shares)
