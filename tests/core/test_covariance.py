"""Sandwich covariances against their textbook formulas written out on whole matrices, and by simulation."""

from __future__ import annotations

import itertools
import math

import numpy as np
import pandas as pd
import pytest
from scipy import stats

import joinery as jn
from joinery.core.blocks.partition import Partition
from joinery.core.inference.sandwiches import Scored, autocorrelated, clustered, robust
from tests.draws import by_chance, draws

RNG = np.random.default_rng(31)
N = 48
TABLE = pd.DataFrame(
    {
        "x": RNG.normal(size=N),
        "z": RNG.normal(size=N),
        "w": RNG.uniform(0.3, 3, N),
        "r": RNG.integers(1, 4, N),
    }
)
TABLE["g"] = np.repeat(list("abcdefgh"), [3, 3, 5, 9, 8, 4, 6, 10])
TABLE["h"] = RNG.choice(list("uvwxyz"), N)
TABLE["day"] = RNG.permutation(N)
TABLE["y"] = 1 + TABLE["x"] + RNG.normal(size=N) * (1 + TABLE["x"] ** 2)


def pieces(weights=None):
    X = np.column_stack([np.ones(N), TABLE["x"], TABLE["z"]])
    w = np.ones(N) if weights is None else TABLE[weights].to_numpy(float)
    bread = np.linalg.inv((X.T * w) @ X)
    e = TABLE["y"].to_numpy() - X @ (bread @ (X.T @ (w * TABLE["y"])))
    return X, w, bread, e


def errors(fit):
    return fit.coefficients()["standard_error"].to_numpy()


@pytest.mark.parametrize("weights", [None, "w"])
@pytest.mark.parametrize("kind", ["hc0", "hc1", "hc2", "hc3", "robust"])
def test_robust_errors_are_whites_and_their_corrections(kind, weights):
    X, w, bread, e = pieces(weights)
    h = w * np.einsum("ij,jk,ik->i", X, bread, X)
    scale = {"hc0": 1, "hc1": N / (N - 3), "hc3": 1 / (1 - h) ** 2}.get(kind, 1 / (1 - h))
    V = bread @ (X.T * (scale * (w * e) ** 2)) @ X @ bread
    fit = jn.fit(TABLE, "y given x, z", weights=weights, std_errors=kind)
    assert np.allclose(errors(fit), np.sqrt(np.diag(V)))
    wald = (
        fit.coefficients()["estimate"].to_numpy()[1:] @ np.linalg.inv(V[1:, 1:])
    ) @ fit.coefficients()["estimate"].to_numpy()[1:]
    if kind != "robust":  # Hotelling's T² with n − p degrees of freedom
        df = N - 3
        assert np.isclose(fit.overall()["f"][0], wald / 2 * (df - 1) / df)
        assert np.isclose(fit.overall()["p"][0], stats.f.sf(fit.overall()["f"][0], 2, df - 1))
        return
    # Hotelling's T² of Pustejovsky & Tipton, each row a cluster, on whole matrices
    root = np.sqrt(w)[:, None] * X @ bread[:, 1:]
    values, vectors = np.linalg.eigh(root.T @ root)
    g = root @ vectors / np.sqrt(values * (1 - h[:, None]))
    left = np.eye(N) - np.sqrt(w)[:, None] * X @ bread @ (np.sqrt(w)[:, None] * X).T
    B = np.einsum("is,jt,ij->stij", g, g, left)
    total = np.einsum("ssij,ttij->", B, B) + np.einsum("stij,tsij->", B, B)
    eta = 2 * 3 / total
    assert fit.overall()["f"][0] == pytest.approx(wald * (eta - 1) / (2 * eta))
    p = stats.f.sf(wald * (eta - 1) / (2 * eta), 2, eta - 1)
    assert fit.overall()["p"][0] == pytest.approx(p)


def test_robust_errors_of_repeats_are_those_of_the_long_table():
    long = TABLE.loc[TABLE.index.repeat(TABLE["r"])].reset_index(drop=True)
    for kind in ("hc1", "hc3", "robust"):
        short, written = (
            jn.fit(t, "y given x", std_errors=kind, **o)
            for t, o in ((TABLE, {"repeats": "r"}), (long, {}))
        )
        for name in ("standard_error", "lower", "p"):
            assert np.allclose(short.coefficients()[name], written.coefficients()[name])


@pytest.mark.parametrize("weights", [None, "w"])
def test_robust_degrees_of_freedom_are_those_of_the_quadratic_form(weights):
    X, w, bread, _ = pieces(weights)
    Z = X * np.sqrt(w)[:, None]
    left = np.eye(N) - Z @ bread @ Z.T
    fit = jn.fit(TABLE, "y given x, z", weights=weights, std_errors="robust")

    def degrees(c):
        a = (Z @ bread @ c) ** 2 / np.diag(left)
        M = left @ np.diag(a) @ left
        return np.trace(M) ** 2 / np.trace(M @ M)

    assert fit._fitted.sandwich.df == pytest.approx([degrees(row) for row in np.eye(3)])
    claim = fit.claim("x = 2 * z").frame
    assert claim["df"][0] == pytest.approx(degrees(np.array([0, 1.0, -2.0])))


def dense_cr2(X, w, e, g):
    """CR2 and Bell & McCaffrey's degrees of freedom on rows times √w, every matrix written out."""
    Z, f = X * np.sqrt(w)[:, None], e * np.sqrt(w)
    bread = np.linalg.inv(Z.T @ Z)
    left = np.eye(len(f)) - Z @ bread @ Z.T
    meat, columns = np.zeros((3, 3)), []
    for name in np.unique(g):
        rows = g == name
        values, vectors = np.linalg.eigh(left[np.ix_(rows, rows)])
        A = (vectors / np.sqrt(values)) @ vectors.T
        score = Z[rows].T @ A @ f[rows]
        meat += np.outer(score, score)
        columns.append(left[:, rows] @ A @ Z[rows] @ bread)
    df = []
    for j in range(3):
        values = np.linalg.eigvalsh((G := np.column_stack([c[:, j] for c in columns])).T @ G)
        df.append(values.sum() ** 2 / (values**2).sum())
    return bread @ meat @ bread, np.array(df)


@pytest.mark.parametrize("weights", [None, "w"])
def test_clustered_errors_are_cr2_with_their_degrees_of_freedom(weights):
    X, w, _, e = pieces(weights)
    V, df = dense_cr2(X, w, e, TABLE["g"].to_numpy())
    fit = jn.fit(TABLE, "y given x, z", weights=weights, std_errors="clustered", cluster="g")
    assert np.allclose(errors(fit), np.sqrt(np.diag(V)))
    assert np.allclose(fit._fitted.sandwich.df, df)
    assert "8 clusters of g" in " ".join(str(fit).split())
    crossed = jn.fit(
        TABLE, "y given x, z", weights=weights, std_errors="clustered", cluster=["g", "h"]
    )
    parts = [dense_cr2(X, w, e, TABLE[c].to_numpy()) for c in "gh"] + [
        dense_cr2(X, w, e, (TABLE["g"] + TABLE["h"]).to_numpy())
    ]
    both = parts[0][0] + parts[1][0] - parts[2][0]
    if np.linalg.eigvalsh(both).min() > 0:
        assert np.allclose(errors(crossed), np.sqrt(np.diag(both)))
    assert np.allclose(crossed._fitted.sandwich.df, np.minimum(parts[0][1], parts[1][1]))


def test_autocorrelated_errors_average_cosines_of_the_scores():
    X, w, bread, e = pieces()
    h = w * np.einsum("ij,jk,ik->i", X, bread, X)
    order = np.argsort(TABLE["day"].to_numpy())
    S = (X * (w * e / (1 - h))[:, None])[order]
    count = math.floor(0.4 * N ** (2 / 3))
    meat = np.zeros((3, 3))
    for j in range(1, count + 1):
        total = sum(S[t] * math.cos(math.pi * j * (t + 0.5) / N) for t in range(N))
        meat += 2 / count * np.outer(total, total)
    V = bread @ meat @ bread
    fit = jn.fit(TABLE, "y given x, z", std_errors="autocorrelated", order="day")
    assert np.allclose(errors(fit), np.sqrt(np.diag(V)))
    assert set(fit._fitted.sandwich.df) == {count}
    b = fit.coefficients()["estimate"].to_numpy()[1:]
    hotelling = b @ np.linalg.inv(V[1:, 1:]) @ b * (count - 1) / (2 * count)
    assert np.isclose(fit.overall()["f"][0], hotelling)
    assert "equally weighted cosines" in fit.coefficients().notes[0]
    # a row left out breaks the neighbourhood of those beside it: the same as a score of nothing in
    # its place
    gap = jn.fit(TABLE, "y given x", std_errors="autocorrelated", leave_out=[7])
    closed = jn.fit(TABLE.drop(index=7), "y given x", std_errors="autocorrelated")
    assert not np.allclose(errors(gap), errors(closed))
    weightless = TABLE.assign(w=np.where(TABLE.index == 7, 0.0, 1.0))
    assert np.allclose(
        errors(closed),
        errors(jn.fit(weightless, "y given x", weights="w", std_errors="autocorrelated")),
    )


def test_forecasts_and_saved_fits_carry_the_chosen_covariance(tmp_path):
    fit = jn.fit(TABLE, "y given x", std_errors="robust")
    x = np.array([1.0, 0.7])
    V = fit._fitted.solution.root @ fit._fitted.sandwich.meat @ fit._fitted.solution.root.T
    row = fit.forecast({"x": [0.7]})
    reach = (row["mean_upper"][0] - row["mean_lower"][0]) / 2
    from joinery.core.numeric.distributions import t_quantile

    own = fit._fitted.sandwich.degrees((x @ fit._fitted.solution.root)[None])[0]
    assert np.isclose(reach, t_quantile(0.975, own) * math.sqrt(x @ V @ x))
    assert own < N - 2
    assert any("spread of single rows to be even" in note for note in row.notes)
    again = jn.load(fit.save(tmp_path / "r.json"))
    pd.testing.assert_frame_equal(
        again.coefficients().frame, fit.coefficients().frame, check_exact=True
    )
    plain = jn.fit(TABLE, "y given x")
    assert np.allclose(
        fit.term_correlations()["partial_r"][0],
        plain.term_correlations()["partial_r"][0],
    )


@pytest.mark.parametrize(
    ("options", "said"),
    [
        ({"std_errors": "clustered"}, "go together"),
        ({"cluster": "g"}, "go together"),
        ({"std_errors": "hc4"}, "did you mean 'hc0'|is not known"),
        ({"std_errors": "clustered", "cluster": "q"}, "no column 'q' for cluster="),
        ({"std_errors": "clustered", "cluster": "one"}, "into one cluster"),
        ({"std_errors": "clustered", "cluster": "some"}, "is missing in 2 of the rows used"),
        ({"std_errors": "autocorrelated", "repeats": "r"}, "have no neighbours"),
    ],
)
def test_covariances_that_cannot_be(options, said):
    table = TABLE.assign(one="a", some=TABLE["g"].where(TABLE.index > 1))
    with pytest.raises(jn.JoineryError, match=said):
        jn.fit(table, "y given x", **options)


@pytest.mark.simulation
def test_robust_intervals_cover_where_plain_ones_fail():
    rng = np.random.default_rng(17)
    times, hits = draws(300), np.zeros(4)
    for _ in range(times):
        x = rng.exponential(size=60)
        spread = {"x": x, "y": x + x * rng.normal(size=60)}
        g = np.repeat(np.arange(10), [2, 2, 3, 3, 4, 6, 8, 12, 20, 40])
        z = rng.normal(size=10)[g]
        grouped = {"x": z, "g": g, "y": rng.normal(size=10)[g] + 0.5 * rng.normal(size=len(g))}
        fits = (
            (jn.fit(spread, "y given x"), 1), (jn.fit(spread, "y given x", std_errors="robust"), 1),
            (jn.fit(grouped, "y given x"), 0), (jn.fit(grouped, "y given x", std_errors="clustered", cluster="g"), 0),
        )  # fmt: skip
        for i, (fit, truth) in enumerate(fits):
            row = fit.coefficients().frame.iloc[1]
            hits[i] += row["lower"] <= truth <= row["upper"]
    share = hits / times
    assert min(share[1], share[3]) > 0.95 - by_chance(0.95, times)
    assert share[0] < 0.9
    assert share[2] < 0.6


@pytest.mark.parametrize("sentence", ["y given x, z", "y given z, x, h"])
def test_robust_is_clustered_where_each_row_is_a_cluster(sentence):
    data = TABLE.assign(row=np.arange(N))
    both = [
        jn.fit(data, sentence, weights="w", **o)
        for o in ({"std_errors": "robust"}, {"std_errors": "clustered", "cluster": "row"})
    ]
    for question in (jn.Fit.coefficients, jn.Fit.overall, lambda f: f.anova("others")):
        first, second = (question(f).frame.select_dtypes("number") for f in both)
        assert np.allclose(first, second, rtol=1e-9, equal_nan=True)
    assert first["p"].notna().sum() == sentence.count(",") + 1


@pytest.mark.parametrize("kind", ["hc1", "robust", "clustered", "crossed", "autocorrelated"])
def test_rows_in_pieces_give_what_they_give_together(kind):
    """Also where a cluster's rows lie in several pieces, and a row alone speaks to a column."""
    u = np.linalg.qr(np.column_stack([np.ones(N), TABLE["x"], TABLE["z"], np.arange(N) == 20]))[0]
    e, r = RNG.normal(size=N), RNG.integers(1, 3, N).astype(float)
    root = RNG.normal(size=(4, 4))

    def cut(ends):
        parts = [slice(a, b) for a, b in itertools.pairwise(ends)]
        scored = [Scored(u[own], e[own], np.ones(len(u[own])), r[own], own) for own in parts]
        return Partition(len(parts), lambda i, _: scored[i])

    def made(rows):
        if kind == "autocorrelated":
            return autocorrelated(rows, TABLE["day"].to_numpy(), root)
        if kind in ("clustered", "crossed"):
            groups = [pd.factorize(TABLE[name])[0] for name in ("g", "h")]
            return clustered(rows, groups if kind == "crossed" else groups[:1], root)
        return robust(kind, rows, root, N)

    whole, cut_up = made(cut([0, N])), made(cut([0, 7, 7, 20, 41, N]))
    for name in ("meat", "df", "rows", "copies"):
        assert np.allclose(getattr(whole, name), getattr(cut_up, name), rtol=1e-10, equal_nan=True)
    assert np.allclose(whole.blind @ whole.blind.T, cut_up.blind @ cut_up.blind.T)
    assert np.allclose(whole.degrees(root), cut_up.degrees(root), equal_nan=True)
