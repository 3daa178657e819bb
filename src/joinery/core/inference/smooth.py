"""A smooth through points: local straight lines, robust to far-out points (Cleveland 1979)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.core.numeric.triangular import power_of_two

SMOOTHED_POINTS = 4000  # at which a smooth is worked out: finer cannot be seen
SMOOTH_GAP = 0.2  # a share of the range without a point, across which no smooth is drawn


@dataclass(frozen=True)
class Smooth:
    """A smooth at grid points: ``at`` (g,), ``height`` (g,), and ``error`` (g,) of the height."""

    at: np.ndarray
    height: np.ndarray
    error: np.ndarray


def smooth(
    x: np.ndarray, y: np.ndarray, *, span: float = 2 / 3, rounds: int = 3, grid: int = 61
) -> Smooth | None:
    """Locally weighted straight lines, tricube weights, made robust by bisquare weights.

    Parameters: x, y (n,); ``span`` the share of points that counts at each place; ``rounds`` of
    robustness; ``grid`` points. Returns a Smooth, or None when x has fewer than five distinct
    values. Source: Cleveland 1979, JASA 74."""
    keep = np.isfinite(x) & np.isfinite(y)
    x, y = x[keep], y[keep]
    # of a great many rows some, evenly taken, show the same
    few = max(1, len(x) // (5 * SMOOTHED_POINTS))
    x, y = x[::few], y[::few]
    if len(np.unique(x)) < 5:
        return None
    order = np.argsort(x, kind="stable")
    step = max(1, len(x) // SMOOTHED_POINTS)
    x, y = x[order][::step], y[order][::step]
    # what is 10²⁰⁰ cannot be squared
    x_unit, y_unit = power_of_two(np.array([np.abs(x).max(), np.abs(y).max()]))
    x, y = x / x_unit, y / y_unit
    at = np.linspace(x[0], x[-1], grid)
    robust = np.ones(len(x))
    for _ in range(rounds):
        operator = _local_lines(x, at, span, robust)
        residual = y - np.interp(x, at, operator @ y)
        scale = 6 * float(np.median(np.abs(residual)))
        if scale <= 0:
            break
        robust = np.clip(1 - (residual / scale) ** 2, 0, None) ** 2
    operator = _local_lines(x, at, span, robust)
    height = operator @ y
    residual = y - np.interp(x, at, height)
    height[_in_gap(x, at)] = np.nan
    sd = np.sqrt(float((robust * residual**2).sum()) / max(float(robust.sum()) - 4, 1.0))
    return Smooth(at * x_unit, height * y_unit, sd * np.sqrt((operator**2).sum(axis=1)) * y_unit)


def _in_gap(x: np.ndarray, at: np.ndarray) -> np.ndarray:
    """Return which grid points lie where no x (sorted) is far and wide."""
    after = np.searchsorted(x, at, side="left")
    before = np.clip(after - 1, 0, len(x) - 1)
    gap = x[np.clip(after, 0, len(x) - 1)] - x[before]
    return np.asarray((gap > SMOOTH_GAP * (x[-1] - x[0])) & (at > x[before]) & (after < len(x)))


def _local_lines(x: np.ndarray, at: np.ndarray, span: float, robust: np.ndarray) -> np.ndarray:
    """Return the matrix (g, n) that turns y into heights of local straight lines at the grid."""
    distance = np.abs(at[:, None] - x[None, :])
    near = min(max(int(np.ceil(span * len(x))), 4), len(x)) - 1
    width = np.partition(distance, near, axis=1)[:, near] * 1.0001
    # where many x are equal the nearest ones may all stand at one place: reach out to the next
    width = np.maximum(width, 0.05 * (x[-1] - x[0]))
    w = np.clip(1 - (distance / width[:, None]) ** 3, 0, None) ** 3 * robust
    total = w.sum(axis=1)
    total = np.where(total > 0, total, 1.0)
    middle = (w @ x) / total
    z = x[None, :] - middle[:, None]
    spread = (w * z * z).sum(axis=1)
    lean = np.where(
        spread > 1e-12 * (x[-1] - x[0]) ** 2, (at - middle) / np.where(spread > 0, spread, 1.0), 0.0
    )
    return np.asarray(w / total[:, None] + lean[:, None] * w * z)
