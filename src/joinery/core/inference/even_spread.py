"""Tests that the spread is even: squared residuals on columns, against χ² or against noise.

Sources: Breusch & Pagan 1979; Koenker 1981 for errors that need not be normal; Dufour, Khalaf,
Bernard & Genest 2004 for the exact size from simulated residuals, whose law under an even spread
rests on the model's columns alone."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from joinery.core.inference.added import NOTHING_LEFT, gained
from joinery.core.inference.diagnostics import NOTHING, Test
from joinery.core.numeric import distributions as tails


def koenker(sums: np.ndarray, columns: Sequence[int] | np.ndarray) -> Test:
    """Return n·R² of squared residuals on some columns, with its p by χ².

    Parameters: sums of [1, s, z₁, …] with one another (q, q), s the squared residuals; the places
    of columns, from z₁ on. Size is R²."""
    n = sums[0, 0]
    about = sums - np.outer(sums[0], sums[0]) / n
    places = np.array(columns) + 2
    # what rounding leaves of a column that does not vary is nothing
    varies = np.diagonal(about)[places] > np.diagonal(sums)[places] * 1e-12
    places = places[varies]
    if not len(places) or about[1, 1] <= 0:
        return NOTHING
    explained, rank = gained(
        about[np.ix_(places, places)], np.zeros((1, len(places))), about[places, 1]
    )
    if not rank:
        return NOTHING
    share = min(explained / about[1, 1], 1.0)
    return Test(float(n * share), float(tails.chi2_upper(n * share, rank)), (rank,), float(share))


def unevenness(noise: np.ndarray) -> np.ndarray:
    """Return squared residuals of samples about their means, each sample of length one.

    Parameters: residuals of samples of normal errors (n, draws). Returns (n, draws)."""
    squares = noise**2
    squares -= squares.mean(axis=0)
    squares /= np.sqrt(np.einsum("ij,ij->j", squares, squares))
    return np.asarray(squares)


def as_uneven(p: float, squares: np.ndarray, groups: Sequence[np.ndarray]) -> int:
    """Return how many samples of an even spread have a group of columns of this p or less.

    Parameters: p by χ²; ``unevenness`` of the samples (n, draws); the columns (n, q) of each
    group."""
    n, draws = squares.shape
    some = np.zeros(draws, bool)
    for columns in groups:
        basis = _basis(columns)
        if not basis.shape[1]:
            continue
        explained = basis.T @ squares
        share = np.einsum("ij,ij->j", explained, explained)
        # the statistic of that p is found once, in place of a p for each sample
        some |= n * share >= tails.chi2_of_upper(p, basis.shape[1])
    return int(np.count_nonzero(some))


def _basis(columns: np.ndarray) -> np.ndarray:
    """Return the columns about their means as an orthonormal basis (n, rank)."""
    away = columns - columns.mean(axis=0)
    size = np.sqrt((away**2).sum(axis=0))
    varies = size > np.sqrt((columns**2).sum(axis=0)) * 1e-6
    U, values, _ = np.linalg.svd(away[:, varies] / size[varies], full_matrices=False)
    return np.asarray(U[:, values**2 > NOTHING_LEFT])
