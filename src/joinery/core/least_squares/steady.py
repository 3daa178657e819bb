"""The steady way: Householder QR, block after block."""

from __future__ import annotations

import numpy as np

from joinery.core.blocks.blocks import Blocks, extremes, start
from joinery.core.blocks.columns import dense
from joinery.core.least_squares.folded import Folded
from joinery.core.least_squares.solution import FAR_MEAN
from joinery.core.numeric.triangular import (
    power_of_two,
    triangle,
)


def steady_fold(blocks: Blocks, intercept: bool) -> Folded:
    """Householder QR of [R so far; block], columns shifted and scaled first."""
    k = blocks.width
    shift, y_shift = start(blocks, intercept, FAR_MEAN)
    ranges = extremes(blocks, np.append(shift, y_shift))
    n, weight_sum, scale = ranges.n, ranges.weight_sum, power_of_two(ranges.largest)
    R = np.zeros((0, k + 1 + intercept))
    for X, y, w in blocks.pieces:
        A = np.empty((len(y), k + 1 + intercept), order="F")
        if intercept:
            A[:, 0] = 1.0
        A[:, intercept:-1] = (dense(X) - shift) / scale[:k]
        A[:, -1] = (y - y_shift) / scale[k]
        if w is not None:
            A *= np.sqrt(w)[:, None]
        # the triangle of what came before stands for all its rows
        R = triangle(np.vstack([R, A]))
    size_of = np.sqrt((R[: k + intercept, intercept:-1] ** 2).sum(axis=0))
    mean, y_mean = np.zeros(k), 0.0
    if intercept:
        # the first row belongs to the constant; what is below it is about the means
        middle = R[0, 1:] / R[0, 0]
        mean, y_mean = shift + middle[:k] * scale[:k], y_shift + float(middle[k]) * float(scale[k])
        size_of = np.hypot(size_of, np.sqrt(weight_sum) * np.abs(shift) / scale[:k])
        R = R[1:, 1:]
    R[:, -1] *= scale[k]
    return Folded(
        R, mean, y_mean, scale[:k], size_of, n, weight_sum, shift if shift.any() else None
    )
