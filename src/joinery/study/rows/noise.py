"""Residuals of samples of noise: what a fit leaves of errors of an even spread."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from joinery.core.blocks.partition import joined
from joinery.design.row_blocks import RowBlock
from joinery.study.fitted import Fitted, working_rows

SEED = 20260101  # every call draws the same samples


def basis_of(fit: Fitted) -> np.ndarray:
    """Return the model's columns as an orthonormal basis of the weighted rows (n, rank)."""

    def of_block(block: RowBlock) -> np.ndarray:
        basis = fit.solution.in_basis(block.X)
        if block.weights is None:
            return basis
        return np.asarray(basis * np.sqrt(block.weights)[:, None])

    return np.asarray(joined(working_rows(fit).row_blocks, of_block))


def residuals_of_noise(basis: np.ndarray, draws: int) -> np.ndarray:
    """Return the residuals of so many samples of standard normal errors (n, draws)."""
    noise = _noise(len(basis), draws)
    return np.asarray(noise - basis @ (basis.T @ noise))


@lru_cache(maxsize=1)  # tables of a loop often have as many rows
def _noise(rows: int, draws: int) -> np.ndarray:
    return np.random.default_rng(SEED).standard_normal((rows, draws))
