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


def noise(rows: int, draws: int) -> np.ndarray:
    """Return so many samples of standard normal errors (rows, draws)."""
    return np.random.default_rng(SEED).standard_normal((rows, draws))


# of few rows they take little memory, and the tables of a loop often have as many
noise_of_few = lru_cache(maxsize=1)(noise)


def residuals_of(basis: np.ndarray, errors: np.ndarray) -> np.ndarray:
    """Return what a fit leaves of samples of errors (n, draws)."""
    return np.asarray(errors - basis @ (basis.T @ errors))
