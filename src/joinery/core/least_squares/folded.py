"""The result of folding the rows, whichever way they were folded."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np


class Folded(NamedTuple):
    """The factor of [Z | y − mean] in shifted, scaled columns: all that the rows determine."""

    # (k + 1, k + 1) of [(X − centre)/scale | (y − mean)], centred where there is an intercept
    R: np.ndarray
    centre: np.ndarray
    mean: float
    scale: np.ndarray
    size: np.ndarray  # ‖√w·x‖ of each column as written, over its scale
    n: int
    weight_sum: float
    shift: np.ndarray | None  # what columns were moved by on the way; None for nothing


class Residuals(NamedTuple):
    """Sums of the residuals e of a pass at known coefficients."""

    at: np.ndarray  # (k + 1,) the coefficients, the first that of the constant
    gradient: np.ndarray  # (k + 1,) [1, X]ᵀWe
    squares: float  # eᵀWe
