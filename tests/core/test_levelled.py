"""Levels kept as codes give what their written-out columns give."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

import numpy as np
import pytest
from numpy.testing import assert_allclose

from joinery.core.blocks import columns as levelled
from joinery.core.blocks import products
from joinery.core.blocks.blocks import ArrayBlocks
from joinery.core.blocks.columns import IndicatorColumns
from joinery.core.blocks.partition import Partition
from joinery.core.glm import information
from joinery.core.glm.families import FAMILIES
from joinery.core.glm.irls import reweighted
from joinery.core.glm.links import LINKS
from joinery.core.glm.rows import ArrayRows, LikelihoodRows
from joinery.core.inference.condition import condition_indexes
from joinery.core.inference.correlation import inflation
from joinery.core.inference.hypotheses import explained
from joinery.core.least_squares import levels, solve
from joinery.core.least_squares.solve import least_squares
from joinery.support.errors import TooLargeError


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
    some = np.array([0, 2, len(b) - 1])
    assert_allclose(levelled.dense(levelled.chosen(X, some)), Z[:, some])
    assert_allclose(levelled.some_columns(X, some), Z[:, some])
    assert_allclose(levelled.dense(levelled.some_rows(X, y > 0)), Z[y > 0])
    if not valued:
        assert_allclose(levelled.extremes(X), levelled.extremes(Z))


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


@pytest.fixture
def few_are_many(monkeypatch):
    """Six levels are swept out as two hundred would be."""
    monkeypatch.setattr(levels, "WIDE", 3)
    return lambda blocks: levels.swept(blocks, None, partial(least_squares, intercept=False))


@pytest.fixture(params=["", "a number of the levels", "no row without a level"])
def changed(made, request):
    X, y, w = made
    if request.param == "a number of the levels":
        last = X.shape[1]
        of_level = np.random.default_rng(1).normal(size=len(X.level_places) + 1)[X.codes]
        numbers = np.column_stack([X.numbers, of_level])
        X = replace(X, numbers=numbers, number_places=np.append(X.number_places, last))
    if request.param == "no row without a level":
        X = replace(X, codes=np.where(X.codes == len(X.level_places), 1, X.codes))
    return X, y, w


@pytest.mark.parametrize("weighted", [False, True])
def test_levels_swept_out_leave_what_their_columns_leave(changed, weighted, few_are_many):
    X, y, w = changed
    w, Z = w if weighted else None, X.dense()
    ours, plain = few_are_many(LevelledBlocks(X, y, w)), least_squares(ArrayBlocks(Z, y, w))
    assert ours.groups is not None
    assert ours.kept.tolist() == plain.kept.tolist()
    near = {"rtol": 1e-8, "atol": 1e-9}
    assert_allclose(ours.padded_coefficients, plain.padded_coefficients, **near)
    assert list(ours.dependence) == list(plain.dependence)
    for column, combination in ours.dependence.items():
        assert_allclose(combination, plain.dependence[column], **near)
    for name in ("n", "rss", "tss", "rank", "mean_response", "weight_sum"):
        assert getattr(ours, name) == pytest.approx(getattr(plain, name), rel=1e-10)
    for name in ("error_factors", "lengths", "products_with_response", "centre", "spread"):
        assert_allclose(getattr(ours, name), getattr(plain, name), **near)
    assert_allclose(ours.fitted(X), plain.fitted(Z), **near)
    h = plain.unscaled_variance(Z)
    assert_allclose(ours.unscaled_variance(X), h, rtol=1e-7)
    assert_allclose(ours.unscaled_variance(Z), h, rtol=1e-7)
    # written out when asked for
    assert_allclose(ours.unscaled_covariance, plain.unscaled_covariance, rtol=1e-6, atol=1e-9)
    g, R = ours.effects, ours.factor * ours.scale
    assert_allclose(R.T @ R, (plain.factor * plain.scale).T @ (plain.factor * plain.scale), **near)
    assert_allclose(np.abs(g), np.abs(plain.effects), rtol=1e-6, atol=1e-6)
    V = np.column_stack([y, y**2])
    V = V if w is None else V * w[:, None]
    sums = [s.sums_in_basis(s.centred_sums(c, V)) for s, c in ((ours, X), (plain, Z))]
    assert_allclose(*[u.T @ u for u in sums], rtol=1e-8)
    assert_allclose(*[np.abs(u[0]) for u in sums], rtol=1e-8)
    # weights of a contrast, and the sizes of its error
    L = np.random.default_rng(4).normal(size=(3, ours.rank))
    assert_allclose(
        np.linalg.norm(ours.groups.in_basis(L), axis=1),
        np.linalg.norm(L @ plain.root, axis=1),
        **near,
    )


def test_tests_and_overlap_beside_swept_levels(changed, few_are_many):
    X, y, w = changed
    ours, plain = few_are_many(LevelledBlocks(X, y, w)), least_squares(ArrayBlocks(X.dense(), y, w))
    of_levels = np.flatnonzero(np.isin(ours.kept, X.level_places))
    terms = [of_levels, *np.flatnonzero(np.isin(ours.kept, X.number_places))[:, None]]
    nothing = np.empty(0, int)
    for asked in terms:
        others = [t for t in terms if t is not asked]
        for before in (nothing, *others, np.concatenate([nothing, *others])):
            expected = explained(plain, before, asked)
            assert explained(ours, before, asked) == pytest.approx(expected, rel=1e-7)
        if others:
            assert inflation(ours, asked, nothing) == pytest.approx(
                inflation(plain, asked, nothing), rel=1e-7
            )
        if len(others) > 1 and others[-1] is not of_levels:
            assert inflation(ours, asked, others[-1]) == pytest.approx(
                inflation(plain, asked, others[-1]), rel=1e-7
            )
    R = np.vstack(
        [np.sqrt(w)[:, None] * np.column_stack([np.ones(len(y)), X.dense()[:, ours.kept]])]
    )
    indexes, shares = condition_indexes(np.linalg.qr(R)[1])
    index, share = ours.groups.largest_condition_index
    assert ours.condition == pytest.approx(plain.condition, rel=0.1)
    assert index == pytest.approx(indexes.max(), rel=0.1)
    if index > 30:
        assert_allclose(share, shares[int(np.argmax(indexes))], atol=0.02)


def test_a_number_before_levels_that_say_it_is_left_to_the_order_written(few_are_many):
    rng = np.random.default_rng(2)
    codes = rng.integers(0, 6, 300)
    X = IndicatorColumns(rng.normal(size=7)[codes][:, None], codes, np.array([0]), np.arange(1, 6))
    assert few_are_many(LevelledBlocks(X, rng.normal(size=300), None)) is None


def test_thousands_of_levels_cost_no_square_of_them():
    rng = np.random.default_rng(3)
    q, m = 20_000, 60_000
    codes, x = rng.integers(0, q + 1, m), rng.normal(size=(m, 1))
    X = IndicatorColumns(np.asfortranarray(x), codes, np.array([q]), np.arange(q))
    effects = rng.normal(size=q + 1)
    effects[-1] = 0
    y = 2 + 3 * x[:, 0] + effects[codes] + rng.normal(scale=1e-3, size=m)
    s = least_squares(LevelledBlocks(X, y, None))
    assert s.coefficients[-1] == pytest.approx(3, abs=1e-4)
    assert np.nanmax(np.abs(s.coefficients[:-1] - effects[:-1])) < 0.01
    with pytest.raises(TooLargeError, match="covariance of all"):
        s.root.sum()


@pytest.mark.parametrize("signed", [False, True])
def test_information_of_levels_is_that_of_their_columns(made, signed, monkeypatch):
    X, y, w = made
    w, e = np.where(y > y.mean() + 1.5, -w, w) if signed else w, w * y
    monkeypatch.setattr(information, "WIDE", 3)
    ours, g = information.information(X, w, e)
    plain, expected = information.information(X.dense(), w, e)
    assert_allclose(g, expected, rtol=1e-9, atol=1e-8)
    ours = ours.settled()
    assert isinstance(ours, information.OfLevels)
    step, every = np.arange(1.0, len(g) + 1), np.arange(len(g))
    for name in ("quadratic", "rounding"):
        assert getattr(ours, name)(step) == pytest.approx(getattr(plain, name)(step), rel=1e-9)
    solved, known = ours.solve(g, every, 1e-6), plain.solve(g, every, 1e-6)
    if solved is not None and known is not None:
        assert_allclose(solved, known, rtol=1e-5, atol=1e-7)
    assert signed or solved is not None or not (ours.groups[0] > 0).all()
    assert ours.solve(g, every[1:], 1e-6) is None  # a column left out: not by elimination
    monkeypatch.setattr(information, "WIDE", 10)
    ours += ours
    assert_allclose(ours.settled().H, 2 * plain.H, rtol=1e-9, atol=1e-8)


@pytest.mark.sampled(4)
@pytest.mark.parametrize("rough", [False, True])
@pytest.mark.parametrize("family", ["binomial", "poisson", "gamma"])
def test_a_family_with_levels_swept_out_ends_where_their_columns_do(
    made, family, rough, monkeypatch
):
    """Sums of groups end it, unless a number lies far away, a group is empty or steps are not."""
    X, y, w = made
    eta, rng = (y - y.mean()) / np.ptp(y), np.random.default_rng(2)
    draw = {
        "binomial": lambda: rng.random(len(y)) < 1 / (1 + np.exp(-eta)),
        "poisson": lambda: rng.poisson(np.exp(1 + eta)),
        "gamma": lambda: rng.gamma(3, np.exp(eta)),
    }
    link = LINKS["logit" if family == "binomial" else "log"]
    rows = LikelihoodRows(X, draw[family]().astype(float), w, None, None)

    def fitted(rows):
        return reweighted(ArrayRows(rows, 100), FAMILIES[family], link, intercept=True, n=len(y))

    plain = fitted(replace(rows, X=X.dense()))
    for room in (information, levels, solve):
        monkeypatch.setattr(room, "WIDE", 3)
    if rough:
        monkeypatch.setattr(information, "ROUGH_CELLS", 0)
        monkeypatch.setattr(levelled, "FEW_COLUMNS", 0)
        monkeypatch.setattr(levelled, "FEW_CELLS", 0)
    passes, swept = [], levels.swept
    monkeypatch.setattr(solve, "swept", lambda *args: passes.append(1) or swept(*args))
    ours = fitted(rows)
    mine, theirs = ours.solution, plain.solution
    assert mine.groups is not None
    far = np.abs(X.numbers.mean(axis=0)).max(initial=0) > 100
    wanting = far or len(theirs.kept) < X.shape[1] or bool(plain.running)
    assert family == "gamma" or bool(passes) == wanting
    assert (ours.deviance, ours.pearson) == pytest.approx((plain.deviance, plain.pearson), rel=1e-9)
    assert mine.kept.tolist() == theirs.kept.tolist()
    assert_allclose(ours.b, plain.b, rtol=1e-7, atol=1e-8)
    assert_allclose(mine.error_factors, theirs.error_factors, rtol=1e-8)
    assert (mine.tss, mine.rss) == pytest.approx((theirs.tss, theirs.rss), rel=1e-8)
    assert mine.mean_response == pytest.approx(theirs.mean_response, rel=1e-8)


@pytest.mark.parametrize("weighted", [False, True])
@pytest.mark.parametrize("columns", [0, 1, 6])
def test_columns_summed_in_one_go_are_summed_one_by_one(columns, weighted, monkeypatch):
    rng = np.random.default_rng(9)
    codes, Z = rng.integers(0, 5, 70), rng.normal(size=(70, columns))
    w = rng.uniform(1, 2, 70) if weighted else None
    known = [[(z * (1 if w is None else w))[codes == c].sum() for c in range(7)] for z in Z.T]
    for few in (0, 2**15):
        monkeypatch.setattr(levelled, "FEW_COLUMNS", few)
        monkeypatch.setattr(levelled, "FEW_CELLS", few)
        found = levelled.group_sums(codes, np.asfortranarray(Z), w, 7)
        assert found.shape == (columns, 7)
        assert_allclose(found, np.reshape(known, (columns, 7)), rtol=1e-13, atol=1e-13)
