"""The solver against 60-digit arithmetic, really leaving rows out, and its own freedom of blocks."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from joinery.core.blocks.blocks import ArrayBlocks
from joinery.core.inference.influence import influence
from joinery.core.inference.smooth import smooth
from joinery.core.least_squares.solve import least_squares
from joinery.support.errors import DataError
from tests.core.hard_problems import PROBLEMS


def problem(kind: str, n: int = 60):
    rng = np.random.default_rng(sum(map(ord, kind)))
    X = rng.normal(size=(n, 3))
    if kind == "large mean":
        X[:, 1] += 1e6
    elif kind == "near collinear":
        X[:, 2] = X[:, 0] + 1e-5 * rng.normal(size=n)
    elif kind == "curve":
        x = rng.uniform(1, 9, n)
        X = np.column_stack([x, x**2, x**3])
    y = X @ [1.0, -2.0, 0.5] + 3 + rng.normal(size=n)
    return X * ([1e-6, 1.0, 1e6] if kind == "wild scales" else 1.0), y


def solved(X, y, w=None, intercept=True, rows=4096):
    return least_squares(ArrayBlocks(X, y, w, rows), intercept=intercept)


def standard_errors(s):
    return np.sqrt(s.rss / s.residual_df * np.diag(s.unscaled_covariance))


@pytest.mark.parametrize("weighted", [False, True])
@pytest.mark.parametrize("kind", ["plain", "large mean", "wild scales", "near collinear", "curve"])
def test_coefficients_and_standard_errors_have_their_digits(kind, weighted, exact, correct_digits):
    X, y = problem(kind)
    w = np.random.default_rng(1).uniform(0.2, 3, len(y)) if weighted else None
    s = solved(X, y, w)
    truth = exact(np.column_stack([np.ones(len(y)), X]), y, w)
    # what rounding alone must cost: the condition number once in the steady way, next to nothing in
    # the quick one
    expected = 14.0 - (np.log10(s.condition) if s.way == "steady" else 0)
    assert correct_digits([s.intercept, *s.coefficients], truth.b) > expected - (
        5 if kind == "large mean" else 0
    )
    assert correct_digits(standard_errors(s), truth.se) > 11 - (
        np.log10(s.condition) if s.way == "steady" else 0
    )
    assert correct_digits([s.rss], [truth.rss]) > 12


@pytest.mark.parametrize("weighted", [False, True])
@pytest.mark.parametrize("name", PROBLEMS)
def test_hard_problems_keep_their_digits(name, weighted, exact, correct_digits):
    X, y, intercept = PROBLEMS[name]
    w = np.random.default_rng(2).uniform(0.1, 9, len(y)) if weighted else None
    s = solved(X, y, w, intercept)
    truth = exact(np.column_stack([np.ones(len(y)), X]) if intercept else X, y, w)
    found = [s.intercept, *s.coefficients] if intercept else s.coefficients
    assert s.way == "exact" or s.condition < 50
    assert correct_digits(found, truth.b) >= 14
    if not s.perfect:
        assert correct_digits(standard_errors(s), truth.se) >= (12 if s.condition < 1e6 else 8)
        assert correct_digits([s.rss], [truth.rss]) >= 12


@pytest.mark.parametrize("size", [1e200, 1e-200, 1e300])
def test_columns_that_overflow_when_squared(size):
    X, y = problem("plain")
    plain, scaled = solved(X, y), solved(X * [size, 1.0, 1 / size], y)
    assert np.allclose(scaled.coefficients * [size, 1.0, 1 / size], plain.coefficients, rtol=1e-12)
    assert np.isclose(scaled.rss, plain.rss, rtol=1e-12)


def test_the_way_follows_from_the_data():
    assert solved(*problem("plain")).way == "quick"
    assert solved(*problem("near collinear")).way == "exact"


@given(st.integers(0, 10**6), st.integers(1, 70), st.booleans(), st.booleans())
@settings(max_examples=40, deadline=None)
def test_blocks_of_any_size_give_the_same_figures(seed, rows, weighted, intercept):
    rng = np.random.default_rng(seed)
    X, y = rng.normal(size=(70, 3)) + rng.normal(size=3), rng.normal(size=70)
    w = rng.uniform(0.5, 2, 70) if weighted else None
    a, b = solved(X, y, w, intercept), solved(X, y, w, intercept, rows)
    assert np.allclose(a.coefficients, b.coefficients, rtol=1e-11, atol=1e-13)
    assert np.isclose(a.rss, b.rss, rtol=1e-12)
    assert np.isclose(a.effects @ a.effects, a.tss - a.rss, rtol=1e-10)


@pytest.mark.parametrize(
    ("build", "combination"),
    [
        (lambda X: 3.28084 * X[:, 1], [0, 0, 3.28084, 0, 0]),
        (lambda X: 32 + 1.8 * X[:, 0], [32, 1.8, 0, 0, 0]),
        (lambda X: X[:, 0] - X[:, 2], [0, 1, 0, -1, 0]),
        (lambda X: np.full(len(X), 7.0), [7, 0, 0, 0, 0]),
        (lambda X: np.zeros(len(X)), [0, 0, 0, 0, 0]),
    ],
)
def test_a_dependent_column_is_named_and_changes_nothing(build, combination):
    X, y = problem("plain")
    s, without = solved(np.column_stack([X, build(X)]), y), solved(X, y)
    assert s.kept.tolist() == [0, 1, 2]
    assert np.isnan(s.coefficients[3])
    assert np.allclose(s.dependence[3], combination, atol=1e-12)
    assert np.allclose(s.coefficients[:3], without.coefficients, rtol=1e-12)
    assert np.isclose(s.rss, without.rss, rtol=1e-12)


def test_a_far_predictor_is_not_mistaken_for_a_constant():
    rng = np.random.default_rng(5)
    x = 1e9 + rng.normal(size=200)
    s = solved(x[:, None], 2 + (x - 1e9) + 0.1 * rng.normal(size=200))
    assert s.kept.tolist() == [0]
    assert abs(s.coefficients[0] - 1) < 0.05


def test_indicators_without_intercept_still_hold_the_constant():
    rng = np.random.default_rng(6)
    D, y = np.eye(3)[rng.integers(0, 3, 90)], rng.normal(5, 1, 90)
    s = solved(D, y, intercept=False)
    assert s.spans_constant
    assert np.isclose(s.tss, ((y - y.mean()) ** 2).sum(), rtol=1e-12)
    assert not solved(rng.normal(size=(90, 2)), y, intercept=False).spans_constant


def test_perfect_and_saturated_fits_have_no_residuals():
    X, _ = problem("plain")
    assert solved(X, 1 + X @ [1.0, 2.0, 3.0]).perfect
    few = solved(X[:3], np.array([1.0, 5.0, 2.0]))
    assert few.perfect
    assert few.rank == 3
    assert few.residual_df == 0


def test_zero_weights_are_out_of_the_fit():
    X, y = problem("plain")
    w = np.ones(len(y))
    w[:10] = 0
    a, b = solved(X, y, w), solved(X[10:], y[10:])
    assert a.n == b.n == 50
    assert np.allclose(a.coefficients, b.coefficients, rtol=1e-12)


@pytest.mark.parametrize("bad", [np.nan, np.inf])
def test_values_that_are_not_finite_never_pass(bad):
    X, y = problem("plain")
    X[7, 1] = bad
    with pytest.raises(DataError, match="not finite"):
        solved(X, y)


@pytest.mark.parametrize(
    "make",
    [lambda X: X.astype(np.float32), np.asfortranarray, lambda X: X[::2], lambda X: X.round()],
)
def test_arrays_of_any_make_are_right(make):
    X, y = problem("plain")
    Z = make(X)
    Z.flags.writeable = False
    plain = np.ascontiguousarray(Z, dtype=float)
    assert np.allclose(
        solved(Z, y[: len(Z)]).coefficients, solved(plain, y[: len(Z)]).coefficients, rtol=1e-13
    )


def volume(s):
    """The determinant of XᵀWX."""
    return np.prod(np.diag(s.factor) * s.scale) ** 2 * (s.weight_sum if s.has_intercept else 1.0)


@pytest.mark.parametrize("weighted", [False, True])
@pytest.mark.parametrize("intercept", [False, True])
def test_influence_is_what_leaving_the_row_out_gives(weighted, intercept):
    X, y = problem("near collinear" if weighted else "plain", 25)
    w = np.random.default_rng(3).uniform(0.3, 3, 25) if weighted else np.ones(25)
    s = solved(X, y, w, intercept)
    got = influence(s, X, y - s.fitted(X), w)
    assert np.isclose(got.leverage.sum(), s.rank, rtol=1e-9)
    s2, p = s.rss / s.residual_df, s.rank
    for i in range(25):
        rest = np.arange(25) != i
        out = solved(X[rest], y[rest], w[rest], intercept)
        shift = np.sqrt(w) * (s.fitted(X) - out.fitted(X))
        s2_out = out.rss / out.residual_df
        variance_out = out.unscaled_variance(X[i : i + 1])[0]
        deleted = (y[i] - out.fitted(X[i : i + 1])[0]) / np.sqrt(s2_out * (1 / w[i] + variance_out))
        ratio = volume(s) / volume(out) * (s2_out / s2) ** p
        assert np.isclose(got.cooks_distance[i], shift @ shift / (p * s2), rtol=1e-6)
        assert np.isclose(got.studentized[i], deleted, rtol=1e-6)
        assert np.isclose(got.dffits[i], shift[i] / np.sqrt(s2_out * got.leverage[i]), rtol=1e-6)
        assert np.isclose(got.covratio[i], ratio, rtol=1e-5)


def test_a_row_that_alone_carries_a_coefficient_has_leverage_one():
    X = np.column_stack([np.arange(8.0), np.eye(8)[3]])
    y = np.random.default_rng(2).normal(size=8)
    s = solved(X, y)
    got = influence(s, X, y - s.fitted(X))
    assert got.leverage[3] == 1
    assert np.isnan(got.studentized[3])
    assert np.isfinite(np.delete(got.studentized, 3)).all()


def test_the_smooth_follows_a_line_and_not_a_far_out_point():
    x = np.linspace(0, 10, 80)
    curve = smooth(x, 2 + 3 * x)
    assert np.allclose(curve.height, 2 + 3 * curve.at, atol=1e-9)
    y = 2 + 3 * x + np.random.default_rng(1).normal(0, 0.1, 80)
    y[40] += 1000
    assert np.abs(smooth(x, y).height - 2 - 3 * curve.at).max() < 1
    assert smooth(np.repeat([1.0, 2.0], 9), np.arange(18.0)) is None


def test_the_intercept_alone_is_the_mean_of_many_rows():
    y = np.random.default_rng(3).normal(5, 2, 500)
    fit = least_squares(ArrayBlocks(np.empty((500, 0)), y))
    assert fit.intercept == pytest.approx(y.mean(), rel=1e-14)
    assert fit.rss == pytest.approx(((y - y.mean()) ** 2).sum(), rel=1e-13)
