"""Corners that single tests passed by: wide tables, ends of curves, ties, digits, what makes a line dashed."""

from __future__ import annotations

import re

import matplotlib.pyplot as plt
import numpy as np
import pandas as pd
import pytest
from scipy import optimize, special, stats
from tests.draws import by_chance, draws

import joinery as jn
from joinery.core.blocks.blocks import ArrayBlocks
from joinery.core.least_squares.solve import least_squares

rng = np.random.default_rng(17)
N = 60
TABLE = pd.DataFrame(
    {"x": rng.uniform(0, 10, N), "z": rng.normal(size=N), "g": rng.choice(list("abc"), N)}
)
TABLE["y"] = 2 + 0.5 * TABLE["x"] - TABLE["z"] + rng.normal(size=N)
TABLE["yes"] = rng.random(N) < 1 / (1 + np.exp(2 - 0.4 * TABLE["x"]))
TABLE["c"] = rng.poisson(np.exp(0.2 + 0.1 * TABLE["x"] + 0.3 * TABLE["z"]))


@pytest.mark.parametrize("intercept", [True, False])
@pytest.mark.parametrize("weighted", [True, False])
def test_hundreds_of_columns_go_the_steady_way(intercept, weighted):
    r = np.random.default_rng(4)
    X = r.normal(size=(700, 230)) + 5
    X[:, 100] = X[:, 3] + 1e-6 * r.normal(size=700)  # too near for cross-products
    X[:, 150] = 2 * X[:, 7] - 3 * X[:, 11] + 4 * intercept
    y = X @ r.normal(size=230) + r.normal(size=700)
    w = r.uniform(0.5, 2, 700) if weighted else None
    s = least_squares(ArrayBlocks(X, y, w, 128), intercept=intercept)
    assert s.way == "steady"
    assert sorted(s.dependence) == [150]
    combination = np.zeros(231)
    combination[[0, 8, 12]] = 4 * intercept, 2, -3
    assert s.dependence[150] == pytest.approx(combination, abs=1e-7)
    assert np.isnan(s.coefficients[150])
    kept = np.delete(X, 150, axis=1)
    A = np.column_stack([np.ones(700), kept]) if intercept else kept
    root = np.ones(700) if w is None else np.sqrt(w)
    b = np.linalg.lstsq(A * root[:, None], y * root, rcond=None)[0]
    found = np.append(s.intercept, s.coefficients[s.kept]) if intercept else s.coefficients[s.kept]
    assert found == pytest.approx(b, rel=1e-6, abs=1e-6)
    e = y - A @ b
    assert s.rss == pytest.approx(float((root * e) @ (root * e)))
    h = np.einsum("ij,ij->i", q := np.linalg.qr(A * root[:, None])[0], q) / root**2
    assert s.unscaled_variance(X) == pytest.approx(h, rel=1e-6)


def test_the_whole_model_against_none_in_every_part():
    fit = jn.fit(TABLE, "c given x, z", family="poisson")
    null = jn.fit(TABLE, "c given nothing", family="poisson")
    table = fit.overall(level=0.9).frame.set_index("part")
    assert table["df"].tolist() == [2, N - 3, N - 1]
    assert table["deviance"].tolist() == pytest.approx(
        [null.deviance - fit.deviance, fit.deviance, null.deviance]
    )
    assert table.loc["explained", "p"] == pytest.approx(
        stats.chi2.sf(null.deviance - fit.deviance, 2)
    )
    assert table.loc["explained", "critical_chi2"] == pytest.approx(stats.chi2.ppf(0.9, 2))
    quasi = (
        jn.fit(TABLE, "c given x, z", family="poisson", dispersion="estimated")
        .overall()
        .frame.iloc[0]
    )
    rows = fit.rows()
    phi = ((TABLE["c"] - rows["fitted"]) ** 2 / rows["fitted"]).sum() / (N - 3)
    f = (null.deviance - fit.deviance) / 2 / phi
    assert [quasi["f"], quasi["p"]] == pytest.approx([f, stats.f.sf(f, 2, N - 3)])
    known = jn.fit(TABLE, "y given x, z", dispersion=2.0)
    drop = float(((TABLE["y"] - TABLE["y"].mean()) ** 2).sum() - known.deviance)
    assert known.overall()["p"][0] == pytest.approx(stats.chi2.sf(drop / 2, 2))
    assert known.coefficients()["z"].tolist() == pytest.approx(
        (known.coefficients()["estimate"] / known.coefficients()["standard_error"]).tolist()
    )


@pytest.mark.simulation
def test_the_band_of_the_quantiles_holds_ninety_five_of_a_hundred():
    x = np.linspace(0, 1, 30)
    outside = []
    for seed in range(draws(60)):
        y = np.random.default_rng(seed).normal(size=30)
        figure = jn.fit({"x": x, "y": y}, "y given x").draw("quantiles")
        axes = figure.axes[0]
        band = axes.collections[0].get_paths()[0].vertices
        points = np.concatenate(
            [c.get_offsets() for c in axes.collections[1:] if len(c.get_offsets()) > 1]
            or [np.empty((0, 2))]
        )
        if not len(points):
            points = next(line.get_xydata() for line in axes.lines if len(line.get_xydata()) == 30)
        plt.close(figure)
        points = np.asarray(points)[:30]
        share = []
        for at, up in points:
            near = band[np.abs(band[:, 0] - at) < 1e-9, 1]
            share.append(not near.min() <= up <= near.max())
        outside.append(np.mean(share))
    assert np.mean(outside) == pytest.approx(0.05, abs=by_chance(0.05, 10 * draws(60)))


def test_profiles_under_an_estimated_dispersion_are_widened_by_it():
    fit = jn.fit(TABLE, "c given x", family="poisson", dispersion="estimated")
    end = fit.coefficients(profile=True)["upper"][1]
    held = jn.fit(TABLE, "c given nothing", family="poisson", offset=f"{float(end)!r} * x")
    rise = (held.deviance - fit.deviance) / fit.dispersion
    assert rise == pytest.approx(stats.f.ppf(0.95, 1, N - 2), rel=1e-6)


def test_splines_are_straight_beyond_both_ends():
    fit = jn.fit(TABLE, "y given spline(x, columns=3)")
    low, high = TABLE["x"].min(), TABLE["x"].max()
    for start, side in ((low, -1), (high, 1)):
        at = start + side * np.array([0.0, 1e-4, 1.0, 2.0, 7.0])
        f = fit.forecast({"x": at})["fitted"].to_numpy()
        inner = (f[0] - fit.forecast({"x": [start - side * 1e-4]})["fitted"].iloc[0]) / (
            side * 1e-4
        )
        assert np.diff(f[2:]) / np.diff(at[2:]) == pytest.approx([(f[2] - f[0]) / side] * 2)
        # the slope goes on through the knot
        assert (f[2] - f[0]) / side == pytest.approx(inner, rel=1e-3)


def test_ties_count_half_in_the_area_under_the_curve():
    table = pd.DataFrame(
        {"g": list("aaaabbbbcccc"), "yes": [0, 0, 0, 1, 0, 1, 0, 1, 1, 1, 0, 1]}
    ).assign(yes=lambda t: t["yes"] == 1)
    fit = jn.fit(table, "yes given g")
    p, y = fit.rows()["fitted"].to_numpy(), table["yes"].to_numpy()
    pairs = [(a > b) + 0.5 * (abs(a - b) < 1e-9) for a in p[y] for b in p[~y]]
    found = fit.crosscheck(4, seed=1).frame.set_index("figure")
    assert found.loc["area under the curve (AUC)", "fitted_rows"] == pytest.approx(np.mean(pairs))


def test_cooks_distance_of_other_families_is_one_step_without_the_row():
    table = TABLE.head(12).assign(x=lambda t: t["x"] ** 2)
    fit = jn.fit(table, "c given x, z", family="poisson")
    X, b = (
        np.column_stack([np.ones(12), table["x"], table["z"]]),
        fit.coefficients()["estimate"].to_numpy(),
    )
    mu = np.exp(X @ b)
    z = X @ b + (table["c"].to_numpy() - mu) / mu
    for i, found in enumerate(fit.rows()["cooks_distance"]):
        own = np.delete(np.arange(12), i)
        step = (
            np.linalg.solve((X[own] * mu[own, None]).T @ X[own], X[own].T @ (mu[own] * z[own])) - b
        )
        assert found == pytest.approx(step @ (X * mu[:, None]).T @ X @ step / 3)


def test_the_band_of_quantile_residuals_is_the_law_of_order_statistics():
    figure = jn.fit(TABLE, "c given x, z", family="poisson").draw("quantiles")
    band = figure.axes[0].collections[0].get_paths()[0].vertices
    plt.close(figure)
    first = band[np.abs(band[:, 0] - band[:, 0].min()) < 1e-9, 1]
    ends = special.ndtri(special.betaincinv(1, N, [0.025, 0.975]))
    assert [first.min(), first.max()] == pytest.approx(ends.tolist())


def test_digits_reach_the_short_page(joinery, tmp_path):
    TABLE.to_csv(tmp_path / "t.csv", index=False)
    _, plain, _ = joinery("fit", tmp_path / "t.csv", "y given x")
    _, long, _ = joinery("fit", tmp_path / "t.csv", "y given x", "--digits", 9)
    estimate = jn.fit(TABLE, "y given x").coefficients()["estimate"][1]
    assert f"{estimate:.9g}"[:8] in long
    assert f"{estimate:.9g}"[:8] not in plain


def test_rows_beyond_what_was_seen_are_dashed_and_others_not():
    fit = jn.fit(TABLE, "y given x, g")
    new = {"x": [5.0, 30.0, 5.0], "g": list("abc")}
    figure = fit.draw("forecast", new=new)
    dashed = [
        line.get_linestyle()
        for line in figure.axes[0].lines
        if len(line.get_xdata()) == 2 and np.ptp(line.get_xdata()) > 0
    ]
    heights = [
        line.get_ydata()[0]
        for line in figure.axes[0].lines
        if line.get_linestyle() in ("--", (0, (2, 1.6)))
    ]
    plt.close(figure)
    assert dashed.count("--") == 1  # the interval of the one row; that of its mean is paler
    assert set(heights) == {1}
    seen = fit.draw("forecast", new={"x": [5.0], "g": ["a"]})
    assert "--" not in {line.get_linestyle() for line in seen.axes[0].lines}
    plt.close(seen)


@pytest.mark.parametrize("word", ["outside", "nothing", "fine", "separation"])
def test_no_wording_decides_anything(word):
    """Columns and levels may have any name: the same verdicts, lines and dashes."""
    plain = jn.fit(TABLE.assign(g=TABLE["g"].replace("a", "q")), "y given x, g")
    odd = jn.fit(
        TABLE.assign(g=TABLE["g"].replace("a", word)).rename(columns={"x": f"{word} x"}),
        f"y given \"{word} x\", category(g, reference='b')",
    )
    other = jn.fit(
        TABLE.assign(g=TABLE["g"].replace("a", "q")), "y given x, category(g, reference='b')"
    )
    assert odd.checks()["verdict"].tolist() == other.checks()["verdict"].tolist()
    assert [r.gravity for r in odd.remarks] == [r.gravity for r in other.remarks]
    assert len(plain.remarks) == len(odd.remarks)
    row = odd.forecast({f"{word} x": [5.0], "g": [word]})
    assert row["note"].iloc[0] == ""


@pytest.mark.parametrize(
    ("text", "reads"),
    [
        ("y given x, log(z)", True),
        ("y given x +", False),
        ("y given x, (a + b) * g", True),
        ("y given powers(x)", False),
        ("y given all but x", True),
        ("y x", False),
        ("given x", False),
        ("y given x without intercept", True),
        ("y given lag(x, 0)", False),
        ("a of b given x", True),
        ("y given 'x'", False),
    ],
)
def test_sentences_are_read_or_refused_as_they_should_be(text, reads):
    from joinery.notation.parse import read_sentence

    if reads:
        assert str(read_sentence(str(read_sentence(text)))) == str(read_sentence(text))
    else:
        with pytest.raises(jn.SentenceError) as caught:
            read_sentence(text)
        assert re.search("expected|needs|takes|cannot|one of|to|is", str(caught.value))


def test_terms_of_a_penalized_fit_are_judged_by_its_penalty(monkeypatch):
    from tests.study.test_together import penalized_cost

    r = np.random.default_rng(11)
    table = pd.DataFrame({"x": r.normal(size=20), "z": r.normal(size=20)})
    table["yes"] = table["x"] > 0.3
    fit = jn.fit(table, "yes given x, z", penalty="firth")
    X = np.column_stack([np.ones(20), table["x"], table["z"]])
    cost = penalized_cost(X, table["yes"].to_numpy(float), "logit")

    def lowest(free):
        def held(v):
            b = np.zeros(3)
            b[free] = v
            return cost(b)

        rough = optimize.minimize(held, np.zeros(len(free)), method="BFGS").x
        return optimize.minimize(
            held,
            rough,
            method="Nelder-Mead",
            options={"xatol": 1e-8, "fatol": 1e-11, "maxiter": 5000},
        ).fun

    full = lowest([0, 1, 2])
    found = fit.anova("others").frame.set_index("term")
    assert found["df"].tolist() == [1, 1, 17]
    assert found.loc["x", "deviance"] == pytest.approx(lowest([0, 2]) - full, abs=1e-4)
    assert found.loc["z", "p"] == pytest.approx(stats.chi2.sf(lowest([0, 1]) - full, 1), abs=1e-3)


def test_without_an_intercept_the_null_model_is_the_offset_alone():
    table = TABLE.assign(o=np.linspace(0.1, 0.9, N))
    fit = jn.fit(table, "c given z without intercept", family="poisson", offset="o")
    mu = np.exp(table["o"])
    deviance = 2 * (special.xlogy(table["c"], table["c"] / mu) - (table["c"] - mu)).sum()
    assert fit.null_deviance == pytest.approx(deviance)
    assert fit.overall()["df"].tolist() == [1, N - 1, N]


def test_perfect_fits_are_known_in_every_way_of_solving():
    for shift, near in ((0.0, 1.0), (1e8, 1.0), (0.0, 1e-4), (1e8, 1e-4)):
        x = np.round(np.linspace(1, 2, 30), 3)
        z = x + near * np.round(np.sin(np.arange(30)), 3)
        fit = jn.fit({"x": x, "z": z, "y": shift + 3 * x - z}, "y given x, z")
        assert fit._fitted.solution.way == ("quick" if near == 1 else "exact")
        assert any(r.kind == "perfect fit" for r in fit.remarks)


def test_two_groups_are_enough_to_hold_one_out():
    two = TABLE.assign(k=np.where(TABLE.index < 25, "u", "v"))
    error = two["y"].to_numpy(float).copy()
    for k in "uv":
        own = (two["k"] == k).to_numpy()
        error[own] -= jn.fit(two[~own], "y given x").forecast(two[own])["fitted"].to_numpy()
    found = jn.fit(two, "y given x").crosscheck(by="k").frame.set_index("figure")
    assert found.loc["typical error (root mean square)", "unseen"] == pytest.approx(
        np.sqrt(np.mean(error**2))
    )


def test_what_pictures_find_is_what_they_show():
    for seed, words in ((1, "Shapiro–Wilk: no sign"), (2, "residuals are not normal")):
        r = np.random.default_rng(seed)
        e = r.normal(size=80) if seed == 1 else r.standard_t(1.1, 80)
        figure = jn.fit({"x": np.arange(80.0), "y": e}, "y given x").draw("quantiles")
        assert words in " ".join(t.get_text() for t in (*figure.texts, *figure.axes[0].texts))
        plt.close(figure)


def test_a_look_at_shares_counts_trials():
    table = pd.DataFrame({"g": list("aabb"), "s": [1, 2, 8, 3], "m": [10, 2, 10, 6]})
    found = jn.look(table, "s of m given g").response
    text = str(found)
    assert "0.25" in text  # 3 of 12
    assert "0.6875" in text or "0.688" in text  # 11 of 16


def test_scores_of_totals_are_over_their_trials():
    table = pd.DataFrame({"x": np.arange(12.0), "m": rng.integers(3, 9, 12)}).assign(
        s=lambda t: rng.binomial(t["m"], 0.4)
    )
    fit = jn.fit(table, "s of m given x")
    p, y, m = (
        fit.rows()["fitted"].to_numpy(),
        (table["s"] / table["m"]).to_numpy(),
        table["m"].to_numpy(),
    )
    brier = np.average(y * (1 - p) ** 2 + (1 - y) * p**2, weights=m)
    found = fit.crosscheck(3, seed=1).frame.set_index("figure")
    assert found.loc["Brier score", "fitted_rows"] == pytest.approx(brier)
    # each fold really left out
    deal = np.random.default_rng(1).permutation(12) % 3
    ahead = np.empty(12)
    for fold in range(3):
        own = deal == fold
        ahead[own] = jn.fit(table[~own], "s of m given x").forecast(table[own])["probability"]
    unseen = np.average(y * (1 - ahead) ** 2 + (1 - y) * ahead**2, weights=m)
    assert found.loc["Brier score", "unseen"] == pytest.approx(unseen)


def test_a_perfect_fit_leaves_nothing():
    fit = jn.fit({"x": [1.0, 2, 3, 4], "y": [2.0, 4, 6, 8]}, "y given x")
    assert (fit.deviance, fit.residual_sd, fit.r_squared) == (0, 0, 1)


def test_one_degree_of_freedom_is_enough_for_an_interval():
    fit = jn.fit({"x": [1.0, 2, 4], "y": [1.0, 3, 4]}, "y given x")
    row = fit.coefficients().frame.iloc[1]
    assert row["upper"] - row["estimate"] == pytest.approx(
        stats.t.ppf(0.975, 1) * row["standard_error"]
    )


def test_the_page_says_what_r_squared_is_about():
    about = "about zero as there is no intercept"
    assert about in " ".join(str(jn.fit(TABLE, "y given x without intercept")).split())
    assert about not in " ".join(str(jn.fit(TABLE, "y given x, g without intercept")).split())
    assert about not in " ".join(str(jn.fit(TABLE, "y given x")).split())


def test_zeros_seen_and_expected_are_counted():
    fit = jn.fit(TABLE, "c given x", family="poisson")
    mu = fit.rows()["fitted"].to_numpy()
    chance = np.exp(-mu)
    z = ((TABLE["c"] == 0).sum() - chance.sum()) / np.sqrt((chance * (1 - chance)).sum())
    line = fit.checks().frame.query("check.str.startswith('zeros')", engine="python").iloc[0]
    assert [line["statistic"], line["p"]] == pytest.approx([z, 2 * stats.norm.sf(abs(z))])


# ------------------------------------------------------------------ what sampled changes of the code passed by


def test_a_smooth_is_the_local_line_through_its_nearest_points():
    r = np.random.default_rng(8)
    x, y = np.sort(r.uniform(0, 10, 50)), r.normal(size=50)
    from joinery.core.inference.smooth import smooth

    for span in (2 / 3, 0.3):
        s = smooth(x, y, span=span, rounds=0, grid=5)
        for place, height, error in zip(s.at, s.height, s.error, strict=True):
            away = np.abs(x - place)
            width = max(np.sort(away)[int(np.ceil(span * 50)) - 1] * 1.0001, 0.05 * (x[-1] - x[0]))
            w = np.clip(1 - (away / width) ** 3, 0, None) ** 3
            A = np.column_stack([np.ones(50), x - place])
            row = np.linalg.solve((A.T * w) @ A, A.T * w)[0]
            assert height == pytest.approx(row @ y, rel=1e-9)
            assert error > 0


def test_shape_tests_are_those_of_their_sources():
    from joinery.core.inference.normality import Moments, normality

    z = np.random.default_rng(1).gamma(40, size=6000)
    _, test = normality(Moments.of(z, np.ones(6000)))
    assert (test.statistic, test.p) == pytest.approx(tuple(stats.normaltest(z)), rel=1e-9)


def test_lagged_residuals_go_four_rows_back():
    fit = jn.fit(TABLE, "y given x, z")
    X = np.column_stack([np.ones(N), TABLE[["x", "z"]]])
    e = TABLE["y"].to_numpy() - X @ np.linalg.lstsq(X, TABLE["y"], rcond=None)[0]
    lags = np.column_stack([np.append(np.zeros(k), e[:-k]) for k in range(1, 5)])
    both = np.column_stack([X, lags])
    rss = float(((e - both @ np.linalg.lstsq(both, e, rcond=None)[0]) ** 2).sum())
    f = (e @ e - rss) / 4 / (rss / (N - 7))
    line = fit.checks().frame.set_index("check").loc["Breusch–Godfrey, 4 rows back (F)"]
    assert (line["statistic"], line["p"]) == pytest.approx((f, stats.f.sf(f, 4, N - 7)))


def test_a_predictor_far_from_zero_has_the_estimates_and_errors_of_a_near_one():
    near, far = (
        jn.fit(TABLE.assign(x=TABLE["x"] + shift), "c given x, z", family="poisson")
        for shift in (0, 2**20)
    )
    a, b = near.coefficients().frame, far.coefficients().frame
    for name in ("estimate", "standard_error"):
        assert b[name].to_numpy()[1:] == pytest.approx(a[name].to_numpy()[1:], rel=1e-7)
    assert b["estimate"][0] == pytest.approx(a["estimate"][0] - 2**20 * a["estimate"][1], rel=1e-9)


def test_a_new_row_that_breaks_a_dependence_is_told_from_one_that_keeps_it():
    table = TABLE.assign(b=2 * TABLE["x"] + 3)
    notes = jn.fit(table, "y given x, b").forecast({"x": [1.0, 1.0], "b": [5.0, 4.0]})["note"]
    assert notes[0] == ""
    assert notes[1]


@pytest.mark.parametrize(
    ("y", "said"),
    [(np.arange(N) % 7, True), (np.arange(N) % 7 + 0.5, False), (np.arange(N) % 2, False)],
)
def test_whole_numbers_alone_call_for_the_remark_on_counts(y, said):
    fit = jn.fit(TABLE.assign(y=y.astype(float)), "y given x")
    assert any(note.kind == "whole numbers" for note in fit.remarks) == said


def test_the_look_counts_every_level():
    look = jn.look(
        pd.DataFrame({"g": ["a"] * 3 + ["b"] * 2 + [None], "id": list("uvwxyz"), "y": range(6)})
    )
    row = look.columns.frame.set_index("column").loc["g"]
    assert (row["count"], row["missing"], row["distinct"], row["values"]) == (5, 1, 2, "a 3, b 2")
    text = [f"row {i // 2 * 2 if i < 8 else i} was seen by the second keeper" for i in range(40)]
    assert jn.look({"note": text, "g": list("ab") * 20}).columns["kind"].tolist() == [
        "text",
        "category",
    ]


def test_a_negative_variance_is_said_only_where_there_was_one():
    r = np.random.default_rng(5)
    table = TABLE.assign(k=r.integers(0, 12, N), m=r.integers(0, 12, N))
    clipped = []
    for seed in range(12):
        some = table.assign(k=np.random.default_rng(seed).permutation(table["k"]))
        fit = jn.fit(some, "y given x", std_errors="clustered", cluster=["k", "m"])
        V = fit._fitted.sandwich
        clipped.append(V.clipped)
        assert V.clipped == any("negative" in note for note in fit.coefficients().notes)
        assert np.linalg.eigvalsh(V.meat)[0] > -1e-9
    assert not all(clipped)


def test_unit_deviances_near_the_mean_keep_their_digits():
    import mpmath

    from joinery.core.glm.families import FAMILIES

    mu, near = 3.0, 1 + np.array([1e-9, -1e-7, 1e-4, -3e-3, 0.02])
    with mpmath.workdps(40):
        truth = [float(2 * ((mpmath.mpf(v) - 1) - mpmath.log(mpmath.mpf(v)))) for v in near]
    assert FAMILIES["gamma"].deviance(mu * near, np.full(5, mu)) == pytest.approx(truth, rel=2e-7)


def test_words_beside_tests_belong_to_the_family_and_the_pair():
    shape = "with a shape k of its own in each model"
    assert any(
        shape in n for n in jn.fit(TABLE, "c given x", family="negative-binomial").overall().notes
    )
    assert not any(shape in n for n in jn.fit(TABLE, "c given x", family="poisson").overall().notes)
    first, second = jn.fit(TABLE, "y given x"), jn.fit(TABLE, "y given z")
    assert any("fits 1 and 2 are not nested" in n for n in jn.compare(first, second).notes)


@pytest.mark.parametrize("decimals", [8, 1, 0])
def test_calibration_of_weighted_totals_by_hand(decimals):
    r = np.random.default_rng(6)
    m, w = r.integers(5, 30, 80), r.choice([0.5, 2.0], 80)
    x = r.normal(size=80).round(decimals)  # rows alike stay together, by where their middle lies
    fit = jn.fit(
        {"s": r.binomial(m, special.expit(x)), "m": m, "x": x, "w": w},
        "s of m given x",
        weights="w",
    )
    from joinery.study.rows.chances import groups

    observed, expected, variance, trials = groups(fit._fitted)
    mu = fit.rows()["fitted"].to_numpy()
    assert observed.sum() == pytest.approx((fit.rows()["observed"] * m).sum())
    assert expected.sum() == pytest.approx((mu * m).sum())
    assert variance.sum() == pytest.approx((mu * (1 - mu) * m / w).sum())
    own = pd.Series(m, dtype=float).groupby(mu.round(9)).sum()
    middle = (own.cumsum() - own / 2) / own.sum() * 10
    by_hand = own.groupby(np.minimum(middle + 1e-9, 9).astype(int)).sum()
    assert trials.tolist() == by_hand.tolist()


def test_a_choice_both_ways_adds_and_drops():
    r = np.random.default_rng(1)
    a, b = r.normal(size=(2, 200))
    table = pd.DataFrame(
        {
            "a": a,
            "b": b,
            "both": a + b + 0.3 * r.normal(size=200),
            "y": a + b + 0.2 * r.normal(size=200),
        }
    )
    moves = (
        jn.stepwise(table, "y given both, a, b", moves="add and drop", criterion="bic")
        .steps["move"]
        .tolist()
    )
    assert moves[1].startswith("add ")
    assert "drop both" in moves
    added = jn.stepwise(table, "y given both, a, b", moves="add", criterion="bic").steps["move"]
    assert not any(move.startswith("drop") for move in added)
