"""Tails and quantiles against 60-digit arithmetic."""

from __future__ import annotations

import mpmath
import numpy as np
import pytest

from joinery.core.numeric import distributions as tails


def t_truth(t, df):
    x = mpmath.mpf(df) / (df + mpmath.mpf(t) ** 2)
    return mpmath.betainc(mpmath.mpf(df) / 2, 0.5, 0, x, regularized=True)


def f_truth(f, d1, d2):
    x = mpmath.mpf(d2) / (d2 + d1 * mpmath.mpf(f))
    return mpmath.betainc(mpmath.mpf(d2) / 2, mpmath.mpf(d1) / 2, 0, x, regularized=True)


@pytest.mark.parametrize("df", [1, 2, 7, 108, 5000])
@pytest.mark.parametrize("t", [1e-9, 0.01, 0.7, 2.0, 9.0, 33.0])
def test_t(t, df):
    truth = t_truth(t, df)
    assert abs(tails.t_two_sided(t, df) / truth - 1) < 1e-10
    assert abs(tails.t_upper(-t, df) - (1 - truth / 2)) < 1e-12


@pytest.mark.parametrize(("d1", "d2"), [(1, 10), (4, 108), (20, 3), (3, 100000)])
@pytest.mark.parametrize("f", [1e-8, 0.3, 1.0, 12.0, 200.0])
def test_f(f, d1, d2):
    assert abs(tails.f_upper(f, d1, d2) / f_truth(f, d1, d2) - 1) < 1e-10


def test_far_tails_are_numbers():
    assert abs(tails.t_two_sided(1e30, 10) / t_truth(mpmath.mpf(1e30), 10) - 1) < 1e-10
    assert 0 < tails.f_upper(1e60, 2, 10) < 1e-280
    assert tails.f_upper(np.inf, 2, 10) == 0


@pytest.mark.parametrize("df", [1, 5, 60, np.inf])
def test_quantiles_undo_tails(df):
    for p in (0.6, 0.975, 0.999999):
        assert np.isclose(tails.t_upper(tails.t_quantile(p, df), df), 1 - p, rtol=1e-8)
        assert np.isclose(tails.f_upper(tails.f_quantile(p, 3, df), 3, df), 1 - p, rtol=1e-8)
    assert np.isclose(tails.chi2_upper(tails.chi2_quantile(0.95, 4), 4), 0.05)
    assert np.isclose(tails.normal_quantile(0.975), 1.959963984540054)
