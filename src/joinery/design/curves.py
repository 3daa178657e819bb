"""Curves in one number: orthogonal polynomials and natural cubic splines."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

import numpy as np

from joinery.errors import UnusableColumnError

Learnt = dict[str, Any]


def learn_polynomial(x: np.ndarray, counts: np.ndarray, degree: int, name: str) -> Learnt:
    """The three-term recurrence of polynomials orthogonal over x (n,) (Forsythe 1957).

    Returns {"centre", "alpha": [degree], "norm2": [degree + 1], "degree"}. Raises
    UnusableColumnError when x has too few distinct values."""
    distinct = len(np.unique(x))
    if distinct <= degree:
        raise UnusableColumnError(
            f"{name}: a polynomial of degree {degree} needs {degree + 1} distinct values, and "
            f"there are {distinct}"
        )
    centre = float(np.average(x, weights=counts))
    z = x - centre
    before, now = np.zeros(len(z)), np.ones(len(z))
    alpha, norm2 = [], [float(counts.sum())]
    for _ in range(degree):
        a = float((counts * z) @ (now * now)) / norm2[-1]
        b = norm2[-1] / norm2[-2] if len(norm2) > 1 else 0.0
        before, now = now, (z - a) * now - b * before
        alpha.append(a)
        norm2.append(float((counts * now) @ now))
    return {"centre": centre, "alpha": alpha, "norm2": norm2, "degree": degree}


def polynomial(x: np.ndarray, learnt: Learnt) -> np.ndarray:
    """Columns (m, degree) of the learnt orthogonal polynomials, each of unit length, at x (m,)."""
    z = x - learnt["centre"]
    norm2 = learnt["norm2"]
    before, now = np.zeros(len(z)), np.ones(len(z))
    out = np.empty((len(z), learnt["degree"]))
    for j, a in enumerate(learnt["alpha"]):
        b = norm2[j] / norm2[j - 1] if j else 0.0
        before, now = now, (z - a) * now - b * before
        out[:, j] = now / np.sqrt(norm2[j + 1])
    return out


def polynomial_slopes(x: np.ndarray, learnt: Learnt) -> np.ndarray:
    """Derivatives (m, degree) of the columns of ``polynomial`` at x (m,)."""
    z = x - learnt["centre"]
    norm2 = learnt["norm2"]
    before, now = np.zeros(len(z)), np.ones(len(z))
    slope_before, slope = np.zeros(len(z)), np.zeros(len(z))
    out = np.empty((len(z), learnt["degree"]))
    for j, a in enumerate(learnt["alpha"]):
        b = norm2[j] / norm2[j - 1] if j else 0.0
        slope_before, slope = slope, now + (z - a) * slope - b * slope_before
        before, now = now, (z - a) * now - b * before
        out[:, j] = slope / np.sqrt(norm2[j + 1])
    return out


def quantiles(x: np.ndarray, counts: np.ndarray, shares: np.ndarray) -> np.ndarray:
    """Quantiles of values (n,), each standing ``counts`` times, linear between neighbours."""
    if not len(counts) or (counts == 1).all():
        place = shares * (len(x) - 1)
        floor, ceil = np.floor(place).astype(int), np.ceil(place).astype(int)
        parted = np.partition(x, np.unique(np.append(floor, ceil)))  # no need of the whole order
        return np.asarray(parted[floor] + (parted[ceil] - parted[floor]) * (place - floor))
    order = np.argsort(x, kind="stable")
    last = np.cumsum(counts[order])  # how many stand up to each value
    place = shares * (last[-1] - 1)
    low, high = (
        x[order][np.searchsorted(last, edge, side="right")]
        for edge in (np.floor(place), np.ceil(place))
    )
    return np.asarray(low + (high - low) * (place - np.floor(place)))


def learn_spline(
    x: np.ndarray,
    counts: np.ndarray,
    columns: int | None,
    inner: tuple[float, ...] | None,
    name: str,
) -> Learnt:
    """Knots of a natural cubic spline: extremes of x (n,), inner ones at quantiles or given.

    Returns {"knots"}. Raises UnusableColumnError when the knots do not come out distinct or inside
    the data."""
    low, high = float(np.min(x)), float(np.max(x))
    if inner is None:
        shares = np.arange(1, columns or 1) / (columns or 1)
        middle = quantiles(x, counts, shares).tolist() if len(shares) else []
        advice = "ask for fewer columns=, or give knots="
    else:
        middle = [float(k) for k in inner]
        advice = f"the data run from {low:g} to {high:g}; knots= lie between"
    knots = [low, *middle, high]
    if any(b <= a for a, b in pairwise(knots)):
        raise UnusableColumnError(
            f"{name}: the knots {', '.join(f'{k:g}' for k in knots)} do not increase; {advice}"
        )
    return {"knots": knots}


def spline(x: np.ndarray, learnt: Learnt) -> np.ndarray:
    """Columns (m, knots − 1) of a natural cubic spline at x (m,), straight beyond the outer knots.

    Column j is the curve that is 1 at knot j + 1 and 0 at the other knots, so with an intercept a
    coefficient is the height there above the height at the first knot."""
    from scipy.interpolate import CubicSpline

    knots = np.asarray(learnt["knots"], float)
    missing = np.isnan(x)
    inside = np.clip(np.where(missing, knots[0], x), knots[0], knots[-1])
    curves = CubicSpline(knots, np.eye(len(knots)), bc_type="natural")
    slopes = curves(knots[[0, -1]], 1)
    out = curves(inside)
    out += (
        np.minimum(x - knots[0], 0)[:, None] * slopes[0]
        + np.maximum(x - knots[-1], 0)[:, None] * slopes[1]
    )
    return np.asarray(out[:, 1:])


def spline_pieces(learnt: Learnt, weights: np.ndarray) -> tuple[np.ndarray, list[np.ndarray]]:
    """A weighted sum of the columns of ``spline`` as polynomials, one a stretch.

    Returns the knots (k,) and k + 1 polynomials, the constant first: below the first knot, from
    each knot on; each in the distance from its knot (the first two from the first)."""
    from scipy.interpolate import CubicSpline

    knots = np.asarray(learnt["knots"], float)
    curve = CubicSpline(knots, np.append(0.0, weights), bc_type="natural")
    ends = [np.array([curve(k), curve(k, 1)]) for k in knots[[0, -1]]]
    return knots, [ends[0], *(c[::-1] for c in curve.c.T), ends[1]]


def spline_slopes(x: np.ndarray, learnt: Learnt) -> np.ndarray:
    """Derivatives (m, knots − 1) of the columns of ``spline`` at x (m,)."""
    from scipy.interpolate import CubicSpline

    knots = np.asarray(learnt["knots"], float)
    missing = np.isnan(x)
    inside = np.clip(np.where(missing, knots[0], x), knots[0], knots[-1])
    curves = CubicSpline(knots, np.eye(len(knots)), bc_type="natural")
    out = np.asarray(curves(inside, 1))[:, 1:]
    out[missing] = np.nan
    return out
