"""Levels kept as codes give what their written-out columns give."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from numpy.testing import assert_allclose

from joinery.core.blocks import columns as levelled
from joinery.core.blocks import products
from joinery.core.blocks.blocks import ArrayBlocks
from joinery.core.blocks.columns import IndicatorColumns
from joinery.core.blocks.partition import Partition
from joinery.core.least_squares.solve import least_squares


class LevelledBlocks:
    """One block of levels, in pieces of 100 rows."""

    def __init__(self, X, y, w):
        self.X, self.y, self.w, self.width = X, y, w, X.shape[1]

    @property
    def pieces(self):
        def make(i, workspace):
            own = slice(100 * i, 100 * i + 100)
            X = replace(self.X, numbers=self.X.numbers[own], codes=self.X.codes[own])
            return X, self.y[own], None if self.w is None else self.w[own]

        return Partition(-(-len(self.y) // 100), make)


@pytest.fixture(params=["plain", "no numbers", "far", "most in one level", "an empty level"])
def made(request):
    rng = np.random.default_rng(8)
    m, d, q = 730, 0 if request.param == "no numbers" else 3, 6
    codes = rng.integers(0, q + 1, m)
    if request.param == "most in one level":
        codes[rng.random(m) < 0.95] = 2
    if request.param == "an empty level":
        codes[codes == 4] = 1
    places = rng.permutation(d + q)
    numbers = rng.normal(1e4 if request.param == "far" else 0, 1, (m, d))
    X = IndicatorColumns(
        np.asfortranarray(numbers), codes, np.sort(places[:d]), np.sort(places[d:])
    )
    y = X.dense() @ rng.normal(size=d + q) + rng.normal(size=m)
    return X, y, rng.uniform(0.5, 2, m)


@pytest.mark.parametrize("valued", [False, True])
def test_products_are_those_of_the_written_out_columns(made, valued):
    X, y, w = made
    X = levelled.times_rows(X, np.sqrt(w)) if valued else X
    Z, b = X.dense(), np.arange(1.0, X.shape[1] + 1)
    G = np.zeros((len(b), len(b)))
    products.sparse_gram(X).add_to(G)
    assert_allclose(G, Z.T @ Z, rtol=1e-12, atol=1e-9)
    assert_allclose(products.times(X, b), Z @ b, rtol=1e-12)
    assert_allclose(products.weighted_sums(y, X), y @ Z, rtol=1e-11, atol=1e-9)
    assert_allclose(
        products.weighted_sums(np.vstack([y, w]), X), np.vstack([y, w]) @ Z, rtol=1e-11, atol=1e-9
    )
    shift = np.where(np.isin(np.arange(len(b)), X.number_places), 2.5, 0.0)
    for away in (shift, shift + 1):
        assert_allclose(levelled.dense(levelled.shifted(X, away)), Z - away)
    assert_allclose(levelled.chosen(X, np.array([0, 2])), Z[:, [0, 2]])


@pytest.mark.parametrize("weighted", [False, True])
@pytest.mark.parametrize("intercept", [False, True])
def test_fits_and_leverages_are_those_of_the_written_out_columns(made, weighted, intercept):
    X, y, w = made
    w, Z = w if weighted else None, X.dense()
    ours = least_squares(LevelledBlocks(X, y, w), intercept=intercept)
    plain = least_squares(ArrayBlocks(Z, y, w), intercept=intercept)
    assert (ours.way, ours.kept.tolist()) == (plain.way, plain.kept.tolist())
    assert_allclose(ours.padded_coefficients, plain.padded_coefficients, rtol=1e-9, atol=1e-11)
    assert_allclose(ours.unscaled_covariance, plain.unscaled_covariance, rtol=1e-9, atol=1e-12)
    assert_allclose([ours.rss, ours.tss], [plain.rss, plain.tss], rtol=1e-11)
    A = np.column_stack([np.ones(len(y)), Z]) if intercept else Z
    A = A[:, [0, *(ours.kept + 1)]] if intercept else A[:, ours.kept]
    root = np.ones(len(y)) if w is None else np.sqrt(w)
    h = np.einsum("ij,ij->i", Q := np.linalg.qr(A * root[:, None])[0], Q) / root**2
    assert_allclose(ours.unscaled_variance(X), h, rtol=1e-8)
    assert_allclose(ours.fitted(X), plain.fitted(Z), rtol=1e-9, atol=1e-9)
