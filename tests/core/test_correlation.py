"""Correlations and overlap against exact arithmetic, brute force and really fitting."""

from __future__ import annotations

from itertools import permutations

import mpmath
import numpy as np
import pytest

from joinery.core.blocks.blocks import ArrayBlocks
from joinery.core.inference.correlation import pearson, ranks, spearman, variance_inflation
from joinery.core.least_squares.solve import least_squares
from tests.draws import by_chance, draws


@pytest.fixture(scope="module")
def gappy():
    X = np.random.default_rng(5).normal(size=(40, 4)) @ np.array(
        [[1, 0.6, 0, 0], [0, 1, 0, 0.2], [0, 0, 1, 0], [0, 0, 0, 1]]
    )
    X[3, 1] = X[7, 1] = X[7, 2] = np.nan
    X[:, 3] = np.round(X[:, 3])
    return X + np.array([1e6, 0, -5, 0])


def _exact_r(x, y):
    x, y = ([mpmath.mpf(float(v)) for v in c] for c in (x, y))
    mx, my = sum(x) / len(x), sum(y) / len(y)
    sxy = sum((a - mx) * (b - my) for a, b in zip(x, y))
    return sxy / mpmath.sqrt(sum((a - mx) ** 2 for a in x) * sum((b - my) ** 2 for b in y))


def test_pearson_is_the_exact_r_over_the_rows_both_have(gappy):
    pairs, found = pearson(gappy)
    for (i, j), r, n in zip(pairs, found.r, found.n):
        both = ~np.isnan(gappy[:, i]) & ~np.isnan(gappy[:, j])
        assert n == both.sum()
        assert abs(r - float(_exact_r(gappy[both, i], gappy[both, j]))) < 1e-9


def test_spearman_ranks_among_the_rows_both_have(gappy):
    pairs, found = spearman(gappy)
    for (i, j), r in zip(pairs, found.r):
        both = ~np.isnan(gappy[:, i]) & ~np.isnan(gappy[:, j])
        x, y = (
            [(c < v).sum() + ((c == v).sum() + 1) / 2 for v in c]
            for c in (gappy[both, i], gappy[both, j])
        )
        assert r == pytest.approx(float(_exact_r(x, y)), abs=1e-12)


@pytest.mark.simulation
def test_p_values_hold_their_size_and_intervals_their_level():
    rng = np.random.default_rng(8)
    true, n, times = 0.5, 30, draws(2000)
    held = p_small = s_held = 0
    for _ in range(times):
        z = rng.normal(size=(n, 2))
        z[:, 1] = true * z[:, 0] + np.sqrt(1 - true**2) * z[:, 1]
        _, found = pearson(z)
        held += found.lower[0] <= true <= found.upper[0]
        _, ranked = spearman(z)
        s_held += ranked.lower[0] <= 6 / np.pi * np.arcsin(true / 2) <= ranked.upper[0]
        _, null = pearson(rng.normal(size=(n, 2)))
        p_small += null.p[0] < 0.05
    assert abs(held / times - 0.95) < by_chance(0.95, times)
    assert abs(s_held / times - 0.95) < by_chance(0.95, times)
    assert abs(p_small / times - 0.05) < by_chance(0.05, times)


def test_a_few_rows_cannot_give_a_tiny_p():
    x = np.arange(4.0)
    _, found = spearman(np.column_stack([x, x]))
    shares = [np.corrcoef(x, p)[0, 1] for p in permutations(x)]
    assert found.p[0] == pytest.approx(np.mean(np.abs(shares) > 1 - 1e-9))


def test_columns_that_do_not_vary_have_no_correlation():
    X = np.column_stack([np.full(9, 0.1) * 3, np.arange(9.0), np.full(9, np.nan)])
    for find in (pearson, spearman):
        assert np.isnan(find(X)[1].r).all()
    assert ranks(np.array([2.0, 1, 2, 5])).tolist() == [2.5, 1, 2.5, 4]
    assert ranks(np.array([2.0, 1, 2, 1, 2])).tolist() == [4, 1.5, 4, 1.5, 4]


def test_variance_inflation_is_one_over_what_the_others_leave():
    rng = np.random.default_rng(2)
    X = rng.normal(size=(50, 5)) @ rng.normal(size=(5, 5))
    R = least_squares(ArrayBlocks(X, X[:, 0])).factor
    inverse, nothing = np.linalg.inv(R), np.empty(0, int)
    found = [variance_inflation(R, inverse, np.array([j]), nothing) for j in range(5)]
    for j in range(5):
        own = least_squares(ArrayBlocks(np.delete(X, j, 1), X[:, j]))
        assert found[j] == pytest.approx(own.tss / own.rss, rel=1e-10)
    # of several columns: det(own)·det(others)/det(all), the same whichever basis the term is
    # written in
    both = variance_inflation(R, inverse, np.array([0, 1]), nothing)
    apart = variance_inflation(R, inverse, np.array([0]), np.array([3, 1]))
    own = least_squares(ArrayBlocks(X[:, [2, 4]], X[:, 0]))
    assert apart == pytest.approx(own.tss / own.rss, rel=1e-10)
    turned = X.copy()
    turned[:, :2] = X[:, :2] @ [[1.0, 2.0], [-0.5, 1.0]]
    R = least_squares(ArrayBlocks(turned, X[:, 0])).factor
    again = variance_inflation(R, np.linalg.inv(R), np.array([0, 1]), nothing)
    C = np.corrcoef(X.T)
    assert both == pytest.approx(again, rel=1e-9)
    assert both == pytest.approx(
        np.linalg.det(C[:2, :2]) * np.linalg.det(C[2:, 2:]) / np.linalg.det(C), rel=1e-9
    )
