"""The null of the tests of even spread: the tests themselves on noise, and rates that are right."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.stats import chi2

import joinery as jn
from joinery.core.inference.even_spread import as_uneven, koenker, unevenness
from tests.draws import by_chance, draws


def _sums(Z):
    return Z.T @ Z


def test_samples_are_as_uneven_as_the_test_of_each_says():
    rng = np.random.default_rng(2)
    noise = rng.normal(size=(25, 40))
    groups = [rng.uniform(size=(25, 1)), rng.uniform(size=(25, 2)), np.ones((25, 1))]

    def surest(sample):
        sides = [np.column_stack([np.ones(25), sample**2, Z]) for Z in groups]
        tests = [koenker(_sums(Z), range(Z.shape[1] - 2)) for Z in sides]
        return np.nanmin([test.p for test in tests])

    each = np.sort([surest(sample) for sample in noise.T])
    for k, p in enumerate(np.sqrt(each[:-1] * each[1:])):  # between two samples
        assert as_uneven(p, unevenness(noise), groups) == k + 1


def test_the_p_of_few_rows_is_the_share_of_even_samples_that_look_as_uneven():
    rng, times = np.random.default_rng(19), draws(20_000)
    x = rng.uniform(size=(25, 3))
    y = rng.normal(size=25) * 3 ** np.abs(2 * x[:, 0] - 1)
    table = {"y": y, **{f"x{j}": x[:, j] for j in range(3)}}
    lines = jn.fit(table, "y given all").checks().frame.set_index("check")
    line = lines.loc["spread across x0 (Koenker, Holm)"]

    X, away = np.column_stack([np.ones(25), x]), np.abs(x - x.mean(axis=0))
    noise = rng.normal(size=(25, times))
    squares = (noise - X @ np.linalg.lstsq(X, noise, rcond=None)[0]) ** 2
    R = np.corrcoef(np.vstack([away.T, squares.T]))[:3, 3:]
    share = np.mean(25 * (R**2).max(axis=0) >= line["statistic"])

    by_chi2 = 3 * chi2.sf(line["statistic"], 1)
    assert 2 * share < by_chi2  # two lines by Holm
    assert line["p"] == pytest.approx(2 * share, abs=by_chance(share, 1500))


def test_a_p_below_all_noise_is_the_smaller_one():
    rng = np.random.default_rng(6)
    x = np.linspace(0, 1, 120)
    table = {"x": x, "y": x + 30**x * rng.normal(size=120)}
    lines = jn.fit(table, "y given x").checks().frame.set_index("check")
    assert lines.loc["spread against fitted values (Koenker)", "p"] < 1 / 2000
