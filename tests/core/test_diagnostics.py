"""Checks against identities, brute force and their own laws."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import linalg, stats

from joinery.core.blocks.blocks import ArrayBlocks
from joinery.core.inference import neighbours
from joinery.core.inference.condition import condition_indexes, largest_condition_index
from joinery.core.inference.correlation import variance_inflation
from joinery.core.inference.diagnostics import added_columns, holm, replicate_lack_of_fit
from joinery.core.inference.neighbours import (
    breusch_godfrey,
    breusch_godfrey_of_sums,
    durbin_watson,
)
from joinery.core.inference.normality import shapiro_wilk
from joinery.core.least_squares.solve import least_squares


@pytest.fixture(scope="module")
def fitted():
    rng = np.random.default_rng(3)
    n = 30
    X = np.column_stack([np.ones(n), rng.normal(size=(n, 2))])
    U, _ = np.linalg.qr(X)
    y = rng.normal(size=n)
    return X, U, y - U @ (U.T @ y)


def test_an_added_column_has_the_t_of_really_adding_it(fitted):
    X, U, e = fitted
    z = X[:, 1] ** 2
    Z = np.column_stack([z, X[:, 2]])
    found, explained = added_columns((Z * Z).sum(axis=0), U.T @ Z, Z.T @ e, e @ e, len(e) - 3)
    y = X @ [1.0, 2.0, -1.0] + e
    more = least_squares(ArrayBlocks(np.column_stack([X[:, 1:], z]), y))
    s = np.sqrt(more.rss / more.residual_df)
    t = more.coefficients[-1] / (s * more.error_factors[-1])
    assert found.statistic == pytest.approx(t, rel=1e-10)
    assert found.size == pytest.approx(1 - more.rss / (e @ e), rel=1e-10)
    assert np.isnan(explained.statistic)


def test_holm_is_the_step_down_rule():
    assert holm(np.array([0.01, 0.04, np.nan, 0.03])).tolist()[:2] == pytest.approx([0.03, 0.06])
    assert holm(np.array([0.9, 0.8])).tolist() == [1.0, 1.0]


def test_lack_of_fit_is_the_nested_f_against_a_mean_for_each_group():
    rng = np.random.default_rng(1)
    group = np.repeat(np.arange(6), 4)
    x, w = group.astype(float), rng.uniform(0.5, 2, 24)
    y = np.sin(x) + rng.normal(0, 0.3, 24)
    line = least_squares(ArrayBlocks(x[:, None], y, w))
    means = least_squares(ArrayBlocks((group[:, None] == np.arange(1, 6)).astype(float), y, w))
    f = (line.rss - means.rss) / 4 / (means.rss / 18)
    e = y - line.intercept - x * line.coefficients[0]
    found = replicate_lack_of_fit(e, w, np.ones(len(e)), group, 2)
    assert (found.statistic, found.df) == (pytest.approx(f, rel=1e-9), (4, 18))


@pytest.mark.parametrize(("n", "columns"), [(8, 1), (15, 2), (40, 4)])
def test_the_law_of_d_is_that_of_its_eigenvalues(n, columns):
    rng = np.random.default_rng(n)
    X = np.column_stack([np.ones(n), np.arange(n), rng.normal(size=(n, 3))])[:, :columns]
    U, _ = np.linalg.qr(X)
    e = rng.normal(size=n)
    e -= U @ (U.T @ e)
    found = durbin_watson(e, U)
    d = np.sum(np.diff(e) ** 2) / (e @ e)
    assert found.statistic == pytest.approx(d)
    N = linalg.null_space(U.T)  # an orthonormal basis of what is left
    D = np.diff(np.eye(n), axis=0)
    values = np.linalg.eigvalsh(N.T @ (D.T @ D) @ N) - d
    # Imhof's integral over the same law, from the eigenvalues themselves
    u = np.linspace(1e-9, 600, 1_200_001)
    theta = sum(0.5 * np.arctan(v * u) for v in values)
    rho = np.exp(sum(0.25 * np.log1p((v * u) ** 2) for v in values))
    below = (
        0.5 - np.trapezoid(np.sin(theta) / (u * rho), u) / np.pi
        if hasattr(np, "trapezoid")
        else 0.5 - np.trapz(np.sin(theta) / (u * rho), u) / np.pi
    )
    assert found.p == pytest.approx(2 * min(below, 1 - below), abs=2e-6)


def test_the_normal_law_of_d_takes_over_smoothly(monkeypatch):
    rng = np.random.default_rng(9)
    n = 1500
    X = np.column_stack([np.ones(n), rng.normal(size=(n, 3))])
    U, _ = np.linalg.qr(X)
    e = rng.normal(size=n)
    e -= U @ (U.T @ e)
    true = durbin_watson(e, U).p
    monkeypatch.setattr(neighbours, "MOST_INVERTED", 100)
    assert durbin_watson(e, U).p == pytest.approx(true, abs=2e-3)
    assert durbin_watson(e, None).p == pytest.approx(true, abs=0.02)


def test_breusch_godfrey_is_the_f_of_adding_lagged_residuals(fitted):
    X, U, e = fitted
    lagged = np.column_stack([np.concatenate([np.zeros(k), e[:-k]]) for k in (1, 2)])
    more = least_squares(ArrayBlocks(np.column_stack([X[:, 1:], lagged]), e))
    f = (e @ e - more.rss) / 2 / (more.rss / (len(e) - 5))
    sums = lagged.T @ lagged, U.T @ lagged, lagged.T @ e, e @ e, 25
    for found in (breusch_godfrey(e, U, 2), breusch_godfrey_of_sums(*sums)):
        assert (found.statistic, found.df) == (pytest.approx(f, rel=1e-9), (2, 25))


def test_condition_indexes_and_shares(fitted):
    X, _, _ = fitted
    X = np.column_stack([X, X[:, 1] + 1e-3 * X[:, 2] ** 2])
    indexes, shares = condition_indexes(np.linalg.qr(X)[1])
    unit = X / np.linalg.norm(X, axis=0)
    values = np.linalg.svd(unit, compute_uv=False)
    assert indexes == pytest.approx(values[0] / values)
    assert shares.sum(axis=0) == pytest.approx(1)
    assert (shares[-1, [1, 3]] > 0.99).all()
    assert largest_condition_index(np.linalg.qr(X)[1]) == pytest.approx(indexes[-1])
    R = np.linalg.qr(X - X.mean(axis=0))[1][1:, 1:]
    assert variance_inflation(R, np.linalg.inv(R), np.array([0]), np.empty(0, int)) > 1e5


@pytest.mark.parametrize("n", [4, 5, 6, 8, 11, 12, 20, 300, 4000])
def test_shapiro_and_wilks_w_and_its_p(n):
    rng = np.random.default_rng(n)
    for x in (rng.normal(size=n), rng.exponential(size=n), 1e-150 * rng.uniform(size=n)):
        w, p = shapiro_wilk(x)
        known = stats.shapiro(x / x.max())
        assert (w, p) == pytest.approx((known.statistic, known.pvalue), rel=3e-6)
