"""Double-double arithmetic against 60-digit arithmetic, and products that may not round at all."""

from __future__ import annotations

from fractions import Fraction

import mpmath
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from joinery.core.blocks.blocks import ArrayBlocks
from joinery.core.least_squares.exact_products import (
    EXACT_ROWS,
    SLICE_BITS,
    Scaled,
    cross_products,
)
from joinery.core.numeric import double_double as precise

MODERATE = st.floats(-1e60, 1e60).filter(lambda v: v == 0 or abs(v) > 1e-60)


def exactly(pair):
    return Fraction(float(pair[0])) + Fraction(float(pair[1]))


def array(v):
    return np.asarray(float(v))


@given(MODERATE, MODERATE)
@settings(max_examples=200, deadline=None)
def test_sums_and_products_lose_nothing(a, b):
    assert exactly(precise.two_sum(array(a), array(b))) == Fraction(a) + Fraction(b)
    assert exactly(precise.two_product(array(a), array(b))) == Fraction(a) * Fraction(b)


@given(MODERATE, st.floats(-1, 1), MODERATE, st.floats(-1, 1))
@settings(max_examples=200, deadline=None)
def test_pairs_keep_thirty_digits(a, da, b, db):
    x, y = (precise.quick_two_sum(array(v), array(v * d * 2.0**-53)) for v, d in ((a, da), (b, db)))
    p, q = exactly(x), exactly(y)
    assert abs(exactly(precise.add(x, y)) - (p + q)) <= (abs(p) + abs(q)) * Fraction(2) ** -103
    assert abs(exactly(precise.multiply(x, y)) - p * q) <= abs(p * q) * Fraction(2) ** -101
    if q:
        assert abs(exactly(precise.divide(x, y)) - p / q) <= abs(p / q) * Fraction(2) ** -99
    if p > 0:
        root = exactly(precise.square_root(x))
        assert abs(root * root - p) <= p * Fraction(2) ** -99


@pytest.mark.parametrize("count", [2, 3])
def test_cross_products_are_right_far_beyond_a_double(count):
    rng = np.random.default_rng(3)
    X, y = rng.uniform(-1, 1, (2 * EXACT_ROWS + 77, 2)), rng.uniform(-1, 1, 2 * EXACT_ROWS + 77)
    X[:, 1] = X[:, 0] + 1e-9 * X[:, 1]
    G = cross_products(Scaled(ArrayBlocks(X, y), False, np.zeros(3), np.full(3, 2.0), 1.0), count)
    Z = np.column_stack([X, y]) / 2
    for i in range(3):
        for j in range(3):
            truth = sum(
                Fraction(a) * Fraction(b)
                for a, b in zip(Z[:, i].tolist(), Z[:, j].tolist(), strict=True)
            )
            error = abs(Fraction(float(G[0][i, j])) + Fraction(float(G[1][i, j])) - truth)
            assert error <= len(Z) * Fraction(2) ** -min(SLICE_BITS * count + 53, 104)


def test_factor_and_inverse_of_a_hopeless_matrix():
    n = 8
    hilbert = mpmath.matrix(n, n)
    for i in range(n):
        for j in range(n):
            hilbert[i, j] = mpmath.mpf(1) / (i + j + 1)
    high = np.array([[float(hilbert[i, j]) for j in range(n)] for i in range(n)])
    low = np.array(
        [[float(hilbert[i, j] - mpmath.mpf(high[i, j])) for j in range(n)] for i in range(n)]
    )
    R, kept = precise.cholesky((high, low), np.sqrt(np.diag(high)), 1e-15)
    assert kept.all()
    inverse = precise.triangular_inverse(R)
    truth = mpmath.inverse(mpmath.cholesky(hilbert).T)
    worst = max(
        abs(mpmath.mpf(inverse[0][i, j]) / truth[i, j] - 1) for i in range(n) for j in range(i, n)
    )
    assert worst < 1e-15
