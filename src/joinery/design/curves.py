"""Curves in one number: orthogonal polynomials and natural cubic splines."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise
from typing import Any

import numpy as np

from joinery.support.errors import UnusableColumnError

Learnt = dict[str, Any]
Curve = Callable[[np.ndarray, Learnt], np.ndarray]


def polynomial(x: np.ndarray, learnt: Learnt) -> np.ndarray:
    """Return columns (m, degree) of the learnt orthogonal polynomials, each of unit length, at x
    (m,)."""
    z = x - learnt["centre"]
    norm2 = learnt["norm2"]
    before, now = np.zeros(len(z)), np.ones(len(z))
    out = np.empty((len(z), learnt["degree"]))
    for j, a in enumerate(learnt["alpha"]):
        if j:
            b = norm2[j] / norm2[j - 1]
        else:
            b = 0.0
        before, now = now, (z - a) * now - b * before
        out[:, j] = now / np.sqrt(norm2[j + 1])
    return out


def polynomial_slopes(x: np.ndarray, learnt: Learnt) -> np.ndarray:
    """Return derivatives (m, degree) of the columns of ``polynomial`` at x (m,)."""
    z = x - learnt["centre"]
    norm2 = learnt["norm2"]
    before, now = np.zeros(len(z)), np.ones(len(z))
    slope_before, slope = np.zeros(len(z)), np.zeros(len(z))
    out = np.empty((len(z), learnt["degree"]))
    for j, a in enumerate(learnt["alpha"]):
        if j:
            b = norm2[j] / norm2[j - 1]
        else:
            b = 0.0
        slope_before, slope = slope, now + (z - a) * slope - b * slope_before
        before, now = now, (z - a) * now - b * before
        out[:, j] = slope / np.sqrt(norm2[j + 1])
    return out


def knots_of(low: float, high: float, middle: list[float], name: str, given: bool) -> Learnt:
    """Return knots of a natural cubic spline: the ends of the data, and inner ones, ``given`` or
    not.

    Returns {"knots"}. Raises UnusableColumnError when the knots do not come out distinct or inside
    the data."""
    advice = "ask for fewer columns=, or give knots="
    if given:
        advice = f"the data run from {low:g} to {high:g}; knots= lie between"
    knots = [low, *middle, high]
    if any(b <= a for a, b in pairwise(knots)):
        raise UnusableColumnError(
            f"{name}: the knots {', '.join(f'{k:g}' for k in knots)} do not increase; {advice}"
        )
    return {"knots": knots}


def spline(x: np.ndarray, learnt: Learnt) -> np.ndarray:
    """Return columns (m, knots − 1) of a natural cubic spline at x (m,), straight beyond the outer
    knots.

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
    """Return a weighted sum of the columns of ``spline`` as polynomials, one a stretch.

    Returns the knots (k,) and k + 1 polynomials, the constant first: below the first knot, from
    each knot on; each in the distance from its knot (the first two from the first)."""
    from scipy.interpolate import CubicSpline

    knots = np.asarray(learnt["knots"], float)
    curve = CubicSpline(knots, np.append(0.0, weights), bc_type="natural")
    ends = [np.array([curve(k), curve(k, 1)]) for k in knots[[0, -1]]]
    return knots, [ends[0], *(c[::-1] for c in curve.c.T), ends[1]]


def spline_slopes(x: np.ndarray, learnt: Learnt) -> np.ndarray:
    """Return derivatives (m, knots − 1) of the columns of ``spline`` at x (m,)."""
    from scipy.interpolate import CubicSpline

    knots = np.asarray(learnt["knots"], float)
    missing = np.isnan(x)
    inside = np.clip(np.where(missing, knots[0], x), knots[0], knots[-1])
    curves = CubicSpline(knots, np.eye(len(knots)), bc_type="natural")
    out = np.asarray(curves(inside, 1))[:, 1:]
    out[missing] = np.nan
    return out


def waves(x: np.ndarray, learnt: Learnt) -> np.ndarray:
    """Return sines and cosines (m, 2·waves) of a season: sin(2πkx/period), cos(2πkx/period), k from
    1."""
    angles = _angles(x, learnt)
    return np.stack([np.sin(angles), np.cos(angles)], axis=2).reshape(len(x), -1)


def wave_slopes(x: np.ndarray, learnt: Learnt) -> np.ndarray:
    """Return derivatives (m, 2·waves) of the columns of ``waves`` at x (m,)."""
    angles = _angles(x, learnt)
    rates = 2 * np.pi * np.arange(1, learnt["waves"] + 1) / learnt["period"]
    both = np.stack([rates * np.cos(angles), -rates * np.sin(angles)], axis=2)
    return np.asarray(both.reshape(len(x), -1))


def _angles(x: np.ndarray, learnt: Learnt) -> np.ndarray:
    turns = np.outer(x / learnt["period"], np.arange(1, learnt["waves"] + 1))
    # whole turns first, as the sine of a large number has lost its digits
    return 2 * np.pi * (turns - np.floor(turns))


# the columns of a curve and their derivatives, by the kind of what is remembered
CURVES: dict[str, tuple[Curve, Curve]] = {
    "polynomial": (polynomial, polynomial_slopes),
    "spline": (spline, spline_slopes),
    "waves": (waves, wave_slopes),
}
