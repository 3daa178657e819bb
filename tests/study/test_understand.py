"""Effects: each figure against recoding and refitting, finite differences, or counting."""

from __future__ import annotations

import itertools
import re

import numpy as np
import pandas as pd
import pytest
from scipy import optimize, stats
from scipy.special import stdtrit
from tests.draws import by_chance, draws

import joinery as jn
from joinery.core.blocks.partition import Partition
from joinery.core.inference.chances import Chances, concordance, said_yes
from joinery.core.numeric import simultaneous
from joinery.show.numbers import figure
from joinery.study import held
from joinery.study.read.curve_sizes import curve_sizes

RNG = np.random.default_rng(20)
N = 90
TABLE = pd.DataFrame(
    {
        "x": RNG.uniform(1, 9, N),
        "rain days": RNG.integers(5, 40, N).astype(float),
        "g": RNG.choice(["a", "b", "c"], N),
        "h": RNG.choice(["no", "yes"], N, p=[0.3, 0.7]),
        "two": RNG.choice([0.0, 1.0], N),
        "w": RNG.uniform(0.5, 2, N),
        "farm": RNG.integers(0, 12, N).astype(str),
    }
)
ETA = 0.3 * TABLE["x"] - 0.02 * TABLE["rain days"] + 0.02 * TABLE["x"] * (TABLE["rain days"] - 20)
TABLE["y"] = np.exp(1 + 0.2 * ETA + RNG.normal(0, 0.2, N))
TABLE["n"] = RNG.poisson(np.exp(1 + 0.1 * ETA))
TABLE["yes"] = RNG.random(N) < 1 / (1 + np.exp(-ETA + 1))
MODELS = [
    ("y", {}),
    ("log(y)", {"weights": "w"}),
    ("y", {"std_errors": "robust"}),
    ("y", {"std_errors": "clustered", "cluster": "farm"}),
    ("n", {"family": "poisson"}),
    ("yes", {}),
    ("y", {"family": "gamma", "link": "log"}),
]
ENDS = ["lower", "upper", "standard_error", "p"]


# ------------------------------------------------------------------ slopes


@pytest.mark.parametrize(("response", "options"), MODELS)
def test_a_simple_slope_is_the_coefficient_where_the_moderator_is_centred(response, options):
    fit = jn.fit(TABLE, f'{response} given crossed(x, "rain days"), g', **options)
    table = fit.simple_slopes("x", "rain days", [10, 30]).frame
    for place, at in enumerate((10, 30)):
        moved = TABLE.assign(**{"rain days": TABLE["rain days"] - at})
        refit = jn.fit(moved, f'{response} given crossed(x, "rain days"), g', **options)
        row = refit.coefficients().frame.set_index("term").loc["x"]
        assert table["slope"][place] == pytest.approx(row["estimate"], rel=1e-9)
        assert table.loc[place, ENDS].to_numpy(float) == pytest.approx(row[ENDS], rel=1e-8)


def test_a_slope_across_a_category_is_the_coefficient_with_that_reference():
    fit = jn.fit(TABLE, "y given x, g, x * g")
    table = fit.simple_slopes("x", "g").frame.set_index("at")
    for level in "abc":
        own = jn.fit(TABLE, f"y given x, category(g, reference='{level}'), "
                     f"x * category(g, reference='{level}')")  # fmt: skip
        row = own.coefficients().frame.set_index("term").loc["x"]
        assert table.loc[level, "slope"] == pytest.approx(row["estimate"], rel=1e-10)
        assert table.loc[level, ENDS].to_numpy(float) == pytest.approx(row[ENDS], rel=1e-9)


@pytest.mark.parametrize(
    "terms",
    [
        "x, x^2, h",
        "polynomial(x, 3), h",
        "spline(x, columns=3) * h, h",
        "log(x), h, log(x) * h",
        "standardized(x) * h, h",
        "(x / (x + two + 1)), h",
        "(2 ^ (x / 9)), sqrt(x), exp((x / 9)), abs((x - 4)), h",
        "log2(x), log10(x), log1p(x), centred(x)^2, ((x > 3) * x), (-x^0.5), h",
        'x * "rain days" * h, h',
    ],
)
@pytest.mark.parametrize("at", [2.6, 6.1])
def test_slopes_of_curves_are_derivatives_of_the_forecast(terms, at):
    fit = jn.fit(TABLE, f"y given {terms}")
    table = fit.simple_slopes("x", "h", hold={"x": at}).frame.set_index("at")
    for level in ("no", "yes"):
        step = 1e-3
        new = pd.DataFrame({"x": at + step * np.array([-2, -1, 1, 2]), "h": level, "two": 0.0})
        new["two"], new["rain days"] = TABLE["two"].mean(), TABLE["rain days"].mean()
        f = fit.forecast(new)["fitted"].to_numpy()
        slope = (f[0] - 8 * f[1] + 8 * f[2] - f[3]) / (12 * step)
        assert table.loc[level, "slope"] == pytest.approx(slope, rel=1e-7, abs=1e-9)


def test_slopes_together_are_scheffes():
    fit = jn.fit(TABLE, 'y given crossed(x, "rain days")')
    alone = fit.simple_slopes("x", "rain days", [10, 30]).frame
    both = fit.simple_slopes("x", "rain days", [10, 30], simultaneous=True).frame
    times = np.sqrt(2 * stats.f.ppf(0.95, 2, fit.residual_df))
    reach = (both["upper"] - both["slope"]) / alone["standard_error"]
    assert reach.to_numpy() == pytest.approx([times, times], rel=1e-9)


@pytest.mark.parametrize("level", [0.5, 0.95])
@pytest.mark.parametrize(
    "terms",
    [
        'crossed(x, "rain days")',
        'x * "rain days", x * "rain days"^2, x',
        'x, x * log("rain days")',
        'x, x * spline("rain days", columns=3)',
    ],
)
def test_regions_end_where_an_end_of_the_interval_is_zero(terms, level):
    fit = jn.fit(TABLE, f"y given {terms}, h", level=level)
    regions = fit.slope_regions("x", "rain days").frame
    low, high = TABLE["rain days"].min(), TABLE["rain days"].max()
    assert (regions["from"].iloc[0], regions["to"].iloc[-1]) == (low, high)
    assert regions["share_of_rows"].sum() == pytest.approx(1)

    def ends(z):
        at = np.atleast_1d(z)
        return fit.simple_slopes("x", "rain days", at, simultaneous=True).frame[["lower", "upper"]]

    for edge in regions["to"][:-1]:
        assert np.abs(ends(edge).to_numpy()).min() < 1e-9 * np.abs(ends([low, high])).max().max()
    for row in regions.itertuples():
        middle = ends((row._1 + row.to) / 2).iloc[0]
        told = "above zero" if middle["lower"] > 0 else "below zero" if middle["upper"] < 0 else ""
        assert row.slope_is == (told or "unclear")
        inside = TABLE["rain days"].between(row._1, row.to, inclusive="left")
        last = row.to == high and (TABLE["rain days"] == high)
        assert row.share_of_rows == pytest.approx((inside | last).mean())
    # no change of verdict is missed
    signs = np.sign(ends(np.linspace(low, high, 400))).sum(axis=1)
    assert (np.diff(signs) != 0).sum() == len(regions) - 1


def test_regions_may_be_everywhere_nowhere_or_on_both_sides():
    z = np.linspace(-1, 1, 60)
    x = np.tile([0.0, 1.0, 2.0], 20)
    noise = 0.01 * np.cos(np.arange(60) * 2.4)

    def of(y):
        fit = jn.fit({"x": x, "z": z, "y": y + noise}, "y given crossed(x, powers(z, 2))")
        return fit.slope_regions("x", "z")

    assert of(x * 3)["slope_is"].tolist() == ["above zero"]
    assert "every z seen" in of(x * 3).notes[0]
    assert of(z)["slope_is"].tolist() == ["unclear"]
    assert of(z).notes[0] == "the slope of x is nowhere clearly different from zero"
    both = of(x * (z**2 - 0.25))
    assert both["slope_is"].tolist() == [
        "above zero", "unclear", "below zero", "unclear", "above zero"
    ]  # fmt: skip


def test_a_moderator_of_two_values_is_taken_value_by_value():
    fit = jn.fit(TABLE, "y given x, two, x * two")
    slopes, regions = fit.simple_slopes("x", "two"), fit.slope_regions("x", "two").frame
    assert slopes["at"].tolist() == [0, 1]
    assert regions["from"].tolist() == regions["to"].tolist() == [0, 1]
    assert regions["share_of_rows"].tolist() == pytest.approx(
        [1 - TABLE["two"].mean(), TABLE["two"].mean()]
    )
    constant = jn.fit(TABLE.assign(two=1.0), "y given x, two, x * two")
    assert constant.simple_slopes("x", "two").frame.shape[0] == 1


def test_with_the_product_alone_the_slope_is_still_right():
    fit = jn.fit(TABLE, 'y given x * "rain days"')
    b = fit.coefficients()["estimate"].iloc[1]
    assert fit.simple_slopes("x", "rain days", [10, 20])["slope"].tolist() == pytest.approx(
        [10 * b, 20 * b]
    )
    alone = jn.fit(TABLE, "y given x, g").simple_slopes("x", "g")
    assert "does not depend on g" in " ".join(alone.notes)


@pytest.mark.parametrize(
    ("ask", "error", "said"),
    [
        (lambda f: f.simple_slopes("g", "x"), jn.CallError, "g is a category, which has no slope"),
        (lambda f: f.simple_slopes("x", "x"), jn.CallError, "across itself"),
        (lambda f: f.simple_slopes("zz", "x"), jn.UnknownColumnError, "no column 'zz'"),
        (lambda f: f.simple_slopes("x", "g", ["q"]), jn.CallError, "q"),
        (lambda f: f.simple_slopes("x", "rain days", ["q"]), jn.CallError, "not all numbers"),
        (lambda f: f.simple_slopes("x", "g", hold={"w": 1}), jn.UnknownColumnError, "no column 'w'"),
        (lambda f: f.slope_regions("x", "g"), jn.CallError, "simple_slopes gives the slope at each"),
        (lambda f: f.adjusted_means("x"), jn.CallError, "x is a number, which has no levels"),
        (lambda f: f.adjusted_means("g", at={"g": "a"}), jn.CallError, "what the means are of"),
        (lambda f: f.adjusted_means("g", weighting="seen"), jn.CallError, "as seen"),
        (lambda f: f.level_differences("g", reference="q"), jn.CallError, "q"),
        (lambda f: f.level_differences("g", correction="sidak"), jn.CallError, "tukey"),
        (lambda f: f.difference({}), jn.CallError, "at least one predictor"),
        (lambda f: f.difference("zz=1"), jn.UnknownColumnError, "no column 'zz'"),
        (lambda f: f.difference("x=1", hold="mean"), jn.CallError, "hold=\"mean\" is not known"),
        (lambda f: f.cutoffs(), jn.CallError, "single yes or no"),
        (lambda f: f.average_effects(step=0), jn.CallError, "other than zero"),
    ],
)  # fmt: skip
def test_what_cannot_be_asked_is_said(ask, error, said):
    fit = jn.fit(TABLE, 'y given x, "rain days", g')
    with pytest.raises(error, match=said):
        ask(fit)


# ------------------------------------------------------------------ means and differences


@pytest.mark.parametrize(("response", "options"), MODELS)
@pytest.mark.parametrize("weighting", ["equal", "as seen"])
def test_means_are_averages_of_forecasts(response, options, weighting):
    fit = jn.fit(TABLE, f"{response} given x, crossed(g, h)", **options)
    table = fit.adjusted_means("g", weighting=weighting).frame.set_index("g")
    shares = {"no": 0.5, "yes": 0.5}
    if weighting == "as seen":
        shares = TABLE["h"].value_counts(normalize=True).to_dict()
    x = TABLE["x"].mean()
    for level in "abc":
        new = pd.DataFrame({"x": x, "g": level, "h": ["no", "yes"], "w": 1.0})
        fitted = fit.forecast(new)["fitted"].to_numpy()
        back = {"log": np.exp, "logit": lambda e: 1 / (1 + np.exp(-e))}
        to = {"log": np.log, "logit": lambda m: np.log(m / (1 - m))}
        link = "log" if response == "log(y)" else fit.link
        eta = to.get(link, lambda v: v)(fitted)
        mean = sum(
            s * e
            for s, e in zip(shares.values(), eta[[0, 1] if next(iter(shares)) == "no" else [1, 0]])
        )
        assert table.loc[level, "mean"] == pytest.approx(
            back.get(link, lambda v: v)(mean), rel=1e-9
        )
        assert table.loc[level, "lower"] < table.loc[level, "mean"] < table.loc[level, "upper"]


@pytest.mark.parametrize(("response", "options"), MODELS)
def test_differences_are_coefficients_with_another_reference(response, options):
    fit = jn.fit(TABLE, f"{response} given x, g", **options)
    table = fit.level_differences("g", correction="none").frame.set_index(["level", "minus"])
    for level, minus in (("b", "a"), ("c", "a"), ("c", "b")):
        own = jn.fit(TABLE, f"{response} given x, category(g, reference='{minus}')", **options)
        row = own.coefficients().frame.set_index("term").loc[f"g: {level}"]
        found = table.loc[(level, minus)]
        assert found["difference"] == pytest.approx(row["estimate"], rel=1e-9, abs=1e-12)
        assert found[ENDS].to_numpy(float) == pytest.approx(row[ENDS].to_numpy(float), rel=1e-8)
        if "ratio" in found:
            assert found["ratio"] == pytest.approx(np.exp(row["estimate"]), rel=1e-9)
    assert ("ratio" in table) == (response == "log(y)" or fit.link in ("log", "logit"))


@pytest.mark.parametrize(
    ("response", "inside"),
    [("log(y)", "y"), ("log(y + 3)", "(y + 3)"), ("log(y / x)", "(y / x)"), ('"log(y)"', ""), ("(log(y) - 2)", "")],
)  # fmt: skip
def test_only_differences_of_a_logarithm_are_ratios(response, inside):
    fit = jn.fit(TABLE.assign(**{"log(y)": TABLE["y"]}), f"{response} given x, g")
    tables = [fit.level_differences("g"), fit.difference({"x": 5}, {"x": 4})]
    for table in tables:
        assert ("ratio" in table) == bool(inside)
        assert any(f"medians of {inside}," in note for note in table.notes) == bool(inside)
    if inside:
        ratios = fit.coefficients(ratios=True)
        assert f"the median of {inside} is" in ratios.notes[-1]
        assert tables[1]["ratio"][0] == pytest.approx(ratios.frame.iloc[1]["median_ratio"])
    else:
        with pytest.raises(jn.CallError, match="means nothing under the identity link"):
            fit.coefficients(ratios=True)


def test_only_terms_that_a_search_chose_make_a_reading_hopeful():
    table = TABLE.assign(chosen_x=TABLE["x"] ** 2)
    own = jn.fit(table, "y given x").revise(add="chosen_x")
    searched = jn.stepwise(table, "y given x, chosen_x, g", criterion="bic").final
    assert "too hopeful" not in own.explain()
    assert "too hopeful" in searched.explain()
    assert "too hopeful" in searched.revise(where="x > 2").explain()


def test_cells_of_a_product_are_the_means_of_its_rows():
    fit = jn.fit(TABLE, "y given crossed(g, h)")
    cells = fit.adjusted_means("g * h").frame
    for row in cells.itertuples():
        own = TABLE[(TABLE["g"] == row.g) & (TABLE["h"] == row.h)]["y"]
        assert row.mean == pytest.approx(own.mean())
    empty = TABLE[~((TABLE["g"] == "b") & (TABLE["h"] == "yes"))]
    gap = jn.fit(empty, "y given crossed(g, h)").adjusted_means("g * h")
    lost = gap.frame.set_index(["g", "h"]).loc[("b", "yes")]
    assert np.isnan(lost["mean"])
    assert "a combination without rows" in " ".join(gap.notes)
    pairs = jn.fit(empty, "y given crossed(g, h)").level_differences("g").frame
    assert pairs["difference"].isna().tolist() == [True, False, True]


def test_at_values_of_a_moderator_differences_are_of_those_rows():
    fit = jn.fit(TABLE, "y given x, g, x * g")
    table = fit.level_differences("g", at={"x": [2.0, 8.0]}, correction="none").frame
    for at in (2.0, 8.0):
        moved = jn.fit(TABLE.assign(x=TABLE["x"] - at), "y given x, g, x * g")
        b = moved.coefficients().frame.set_index("term").loc["g: b"]
        row = table[(table["level"] == f"b · {at}") & (table["minus"] == f"a · {at}")].iloc[0]
        assert row["difference"] == pytest.approx(b["estimate"], rel=1e-9)
        assert row["standard_error"] == pytest.approx(b["standard_error"], rel=1e-9)


def test_corrections_are_what_their_books_say():
    fit = jn.fit(TABLE, "y given x, g")
    by = {
        c: fit.level_differences("g", correction=c).frame
        for c in ("none", "holm", "bonferroni", "tukey")
    }
    p = by["none"]["p"].to_numpy()
    assert by["bonferroni"]["p"].tolist() == pytest.approx(np.minimum(3 * p, 1))
    order, worst = np.argsort(p), 0.0
    for step, place in enumerate(order):
        worst = max(worst, min((3 - step) * p[place], 1))
        assert by["holm"]["p"][place] == pytest.approx(worst)
    t = by["none"]["t"].abs()
    assert by["tukey"]["p"].tolist() == pytest.approx(
        stats.studentized_range.sf(np.sqrt(2) * t, 3, fit.residual_df), rel=1e-7
    )
    df = fit.residual_df
    reach = {
        "none": stats.t.ppf(0.975, df),
        "bonferroni": stats.t.ppf(1 - 0.05 / 6, df),
        "holm": stats.t.ppf(1 - 0.05 / 6, df),
        "tukey": stats.studentized_range.ppf(0.95, 3, df) / np.sqrt(2),
    }
    for name, frame in by.items():
        far = (frame["upper"] - frame["difference"]) / frame["standard_error"]
        assert far.to_numpy() == pytest.approx(np.full(3, reach[name]), rel=1e-6)
    one = fit.level_differences("g", reference="a").frame
    far = (one["upper"] - one["difference"]) / one["standard_error"]
    assert far.iloc[0] == pytest.approx(far.iloc[1])
    assert reach["none"] < far.iloc[0] < reach["tukey"]
    robust = jn.fit(TABLE, "y given x, g", std_errors="robust").level_differences("g")
    assert "as tukey's correction assumes an even spread" in " ".join(robust.notes)


@pytest.mark.simulation
def test_tukeys_intervals_cover_all_pairs_as_often_as_meant():
    rng, g = np.random.default_rng(3), np.repeat(list("abcd"), 6)
    times, held = draws(300), 0
    for _ in range(times):
        table = jn.fit({"g": g, "y": rng.normal(0, 1, 24)}, "y given g").level_differences("g")
        held += bool((table["lower"] * table["upper"] <= 0).all())
    assert abs(held / times - 0.95) < by_chance(0.95, times)


@pytest.mark.parametrize("k", [2, 3, 8])
@pytest.mark.parametrize("df", [3.0, 25.0, np.inf])
def test_the_studentized_range_and_the_largest_t(k, df):
    for q in (0.7, 3.1, 6.0):
        assert simultaneous.range_below(q, k, df) == pytest.approx(
            stats.studentized_range.cdf(q, k, df), abs=1e-9
        )
    R = np.full((k, k), 0.5) + 0.5 * np.eye(k)
    if k == 2:  # two comparisons with a correlation of a half: by the bivariate t
        exact = simultaneous.largest_below(2.0, R, df)
        assert simultaneous._by_lattice(2.0, R, df) == pytest.approx(exact, abs=3e-4)
    R[0, 1] = R[1, 0] = 0.2
    rng = np.random.default_rng(4)
    z = rng.multivariate_normal(np.zeros(k), R, 200_000)
    s = 1.0 if np.isinf(df) else np.sqrt(rng.chisquare(df, 200_000) / df)[:, None]
    share = (np.abs(z / s).max(axis=1) <= 2.2).mean()
    assert simultaneous.largest_below(2.2, R, df) == pytest.approx(share, abs=5e-3)


def test_dunnetts_quantile_is_that_of_his_table():
    R = np.full((3, 3), 0.5) + 0.5 * np.eye(3)  # three treatments, ten degrees of freedom, 5 %
    assert simultaneous.largest_quantile(0.95, R, 10.0) == pytest.approx(2.76, abs=5e-3)
    assert simultaneous.one_factor(R) == pytest.approx(np.sqrt([0.5] * 3))
    n = np.array([4.0, 5, 9, 3])
    root = np.sqrt(n[1:] / (n[1:] + n[0]))  # unequal groups against the first, in closed form
    unequal = np.outer(root, root) + np.diag(1 - root**2)
    assert np.abs(simultaneous.one_factor(unequal)) == pytest.approx(root)


# ------------------------------------------------------------------ what if, average effects


@pytest.mark.parametrize(("response", "options"), MODELS)
def test_a_difference_is_that_of_two_forecasts(response, options):
    fit = jn.fit(TABLE, f'{response} given crossed(x, "rain days"), g', **options)
    a, b = {"x": 6, "g": "b"}, {"x": 4, "g": "c"}
    row = fit.difference(a, b, hold={"rain days": 12}).frame.iloc[0]
    new = pd.DataFrame([a, b]).assign(**{"rain days": 12.0, "w": 1.0})
    fitted = fit.forecast(new)["fitted"].to_numpy()
    assert row["difference"] == pytest.approx(fitted[0] - fitted[1], rel=1e-9)
    text = fit.difference('x=6, g=b, "rain days"=12', 'x=4, g=c, "rain days"=12').frame.iloc[0]
    assert text[["difference", *ENDS]].tolist() == pytest.approx(
        row[["difference", *ENDS]].tolist()
    )
    if "ratio" in row:
        eta = np.log(fitted / (1 - fitted)) if fit.link == "logit" else np.log(fitted)
        assert row["ratio"] == pytest.approx(np.exp(eta[0] - eta[1]), rel=1e-9)


def test_the_error_of_a_difference_is_by_the_delta_method():
    fit = jn.fit(TABLE, "yes given x, g")
    row = fit.difference("x=6", "x=4", hold={"g": "b"}).frame.iloc[0]
    names = fit.coefficients()["term"].tolist()
    V = np.zeros((4, 4))
    for r in fit.covariance().frame.itertuples():
        i, j = names.index(r.term), names.index(r._2)
        V[i, j] = V[j, i] = r.covariance
    b = fit.coefficients()["estimate"].to_numpy()

    def of(beta):
        eta = np.array([[1, 6, 1, 0], [1, 4, 1, 0]]) @ beta
        mu = 1 / (1 + np.exp(-eta))
        return mu[0] - mu[1]

    gradient = optimize.approx_fprime(b, of, 1e-7)
    assert row["standard_error"] == pytest.approx(np.sqrt(gradient @ V @ gradient), rel=1e-5)


def test_covariances_are_squares_of_the_standard_errors_and_add_up():
    fit = jn.fit(TABLE, "y given x, g", std_errors="robust")
    frame = fit.covariance().frame.set_index(["term", "with"])
    errors = fit.coefficients().frame.set_index("term")["standard_error"]
    for name, error in errors.items():
        assert frame.loc[(name, name), "covariance"] == pytest.approx(error**2)
    apart = fit.level_differences("g", correction="none").frame.iloc[2]
    total = sum(frame.loc[(g, g), "covariance"] for g in ("g: b", "g: c"))
    total -= 2 * frame.loc[("g: b", "g: c"), "covariance"]
    assert apart["standard_error"] == pytest.approx(np.sqrt(total))
    X = fit.design_columns().frame
    assert (X.to_numpy() @ fit.coefficients()["estimate"]).tolist() == pytest.approx(
        fit.rows()["fitted"].tolist()
    )


@pytest.mark.parametrize("terms", ["x, g", "powers(x, 2), h", "bands(x, 3, 6)", "(x > 4), x"])
def test_average_effects_of_a_step_are_means_of_forecasts(terms):
    fit = jn.fit(TABLE, f"n given {terms}", family="poisson")
    frame = fit.average_effects(step=0.5).frame.set_index("term")
    if "x" in frame.index:
        moved = TABLE.assign(x=TABLE["x"] + 0.5)
        if "(x > 4)" not in terms:
            change = fit.forecast(moved)["fitted"] - fit.forecast(TABLE)["fitted"]
            assert frame.loc["x", "effect"] == pytest.approx(change.mean(), rel=1e-8)
    assert frame["effect"].notna().all()


# ------------------------------------------------------------------ cut-offs


def test_cutoffs_are_counts_and_pairs():
    fit = jn.fit(TABLE, 'yes given x, "rain days"')
    chance, yes = fit.rows()["fitted"].to_numpy(), TABLE["yes"].to_numpy()
    table = fit.cutoffs([0.0, 0.4, 1.0])
    row = table.frame.iloc[1]
    said = chance >= 0.4
    assert row["said_yes"] == said.sum()
    assert row["right_yes"] == pytest.approx(said[yes].mean())
    assert row["right_no"] == pytest.approx((~said[~yes]).mean())
    assert row["yes_when_said"] == pytest.approx(yes[said].mean())
    assert row["no_when_said"] == pytest.approx((~yes[~said]).mean())
    for end in ("lower", "upper"):  # where the score test of a share just tells it apart
        p, m = row[f"right_yes_{end}"], yes.sum()
        assert abs(row["right_yes"] - p) == pytest.approx(
            1.959963984540054 * np.sqrt(p * (1 - p) / m)
        )
    assert np.isnan(table.frame.iloc[2]["yes_when_said"])
    pairs = np.mean([a > b for a, b in itertools.product(chance[yes], chance[~yes])])
    assert f"area under the curve {pairs:.3f}" in " ".join(table.notes)
    unseen = fit.cutoffs(crosscheck=True, seed=1)
    assert "by a fit without it" in " ".join(unseen.notes)
    left = np.full(N, np.nan)
    fold = np.random.default_rng(1).permutation(N) % 10
    for k in range(10):
        part = jn.fit(TABLE[fold != k], 'yes given x, "rain days"')
        left[fold == k] = part.forecast(TABLE[fold == k])["fitted"]
    assert unseen["right_yes"].tolist() == pytest.approx(
        [(left[yes] >= c).mean() for c in unseen["cutoff"]]
    )
    # pairs are of rows forecast by one fit: pooled, noise would rank the wrong way round
    of_a_fold = [(i, j) for i in np.flatnonzero(yes) for j in np.flatnonzero(~yes)
                 if fold[i] == fold[j]]  # fmt: skip
    area = np.mean([left[i] > left[j] for i, j in of_a_fold])
    assert f"area under the curve {area:.3f}" in " ".join(unseen.notes)
    seen = fit.crosscheck(seed=1).frame.set_index("figure")
    assert seen.loc["area under the curve (AUC)", "unseen"] == pytest.approx(area)
    assert fit.crosscheck().frame.equals(fit.crosscheck(seed=0).frame)  # as compare and stepwise


# ------------------------------------------------------------------ in words


@pytest.mark.parametrize(
    ("model", "options", "said"),
    [
        ("y given x, g", {}, ["Each further unit of x goes with", "g b, against a, goes with",
                              "x runs from", "By itself it means nothing"]),
        ("y given x, x * g, g", {}, ["The slope of x depends on g:"]),
        ('y given crossed(x, "rain days")', {}, ["The slope of x is above zero for rain days above",
                                                  "depends on rain days"]),
        ("y given powers(x, 2)", {}, ["y follows a curve in x:"]),
        ("y given spline(x, columns=3)", {}, ["follows a curve in x (spline)"]),
        ("y given log(x)", {}, ["Each doubling of x goes with", "x is 1"]),
        ("log(y) given log(x)", {}, ["Each doubling of x goes with", "% more", "in y"]),
        ("log(y) given x", {}, ["% more (95 %", "in y"]),
        ("log(y + 3) given x", {}, ["% more (95 %", "in (y + 3),"]),
        ('"log(y)" given x', {}, ["more log(y) (95 %"]),
        ("(log(y) - 2) given x", {}, ["more on the scale of (log(y) - 2)"]),
        ("sqrt(y) given x", {}, ["more on the scale of sqrt(y)"]),
        ("y given standardized(x)", {}, ["x higher by its standard deviation", "at its mean"]),
        ("y given bands(x, 3, 6)", {}, ["x 3 to under 6, against under 3, goes with"]),
        ("y given (x > 4)", {}, ["x > 4, where true, goes with"]),
        ("yes given x, h", {}, ["the odds of yes multiplied by", "on the scale of logit"]),
        ("n given x", {"family": "poisson"}, ["in the mean of n"]),
        ("n per w given x", {"family": "poisson"}, ["in the rate of n"]),
        ("yes given h", {}, ["no clear difference"]),
        ("yes given x", {"link": "probit"}, ["more on the scale of probit"]),
        ("y given x without intercept", {}, ["The sentence has none"]),
        ("y given x, twice", {}, ["twice: left out, as other columns say the same"]),
        ("y given x", {"labels": {"x": "Forage (km²)"}}, ["Each further unit of Forage (km²)"]),
    ],
)  # fmt: skip
def test_the_reading_fits_the_term(model, options, said):
    text = " ".join(
        jn.fit(TABLE.assign(**{"twice": 2 * TABLE["x"], "log(y)": TABLE["y"]}), model, **options)
        .explain()
        .split()
    )
    for words in said:
        assert words in text, text
    assert "cannot say" in text


@pytest.mark.parametrize("turn", [1, -1])
@pytest.mark.parametrize("scale", ["y", "log(y)"])
def test_ends_on_both_sides_of_zero_say_their_direction(turn, scale):
    rng = np.random.default_rng(1)
    x, y = rng.normal(size=40), rng.lognormal(0, 0.2, 40)
    fit = jn.fit({"x": turn * x, "y": y}, f"{scale} given x")
    ends = fit.coefficients().frame.loc[1, ["lower", "upper"]].to_numpy(float)
    text = " ".join(fit.explain().split())
    less, more = re.search(r"\(95 %: ([\d.]+)(?: %)? less to ([\d.]+)(?: %)? more\)", text).groups()
    if scale == "log(y)":
        ends = 100 * np.expm1(ends)
    assert [-float(less), float(more)] == pytest.approx(ends, abs=0.05)


def test_the_reading_has_the_figures_of_the_fit():
    fit = jn.fit(TABLE, "y given x, g")
    row = fit.coefficients().frame.set_index("term").loc["x"]
    text = re.search(r"([\d.]+) more y \(95 %: ([\d.]+) to ([\d.]+)\)", fit.explain())
    told = [float(v) for v in text.groups()]
    assert told == pytest.approx(row[["estimate", "lower", "upper"]].tolist(), abs=5e-3)
    logit = jn.fit(TABLE, "yes given x")
    b = logit.coefficients()["estimate"].iloc[1]
    assert f"multiplied by {np.exp(b):.2f}" in logit.explain()


def test_a_saved_fit_says_and_draws_what_it_can(tmp_path):
    fit = jn.fit(TABLE, 'y given crossed(x, "rain days"), g')
    again = jn.load(fit.save(tmp_path / "fit.json"))
    for ask in (
        lambda f: f.simple_slopes("x", "rain days"),
        lambda f: f.adjusted_means("g"),
        lambda f: f.level_differences("g"),
        lambda f: f.difference("x=3"),
        lambda f: f.covariance(),
    ):
        pd.testing.assert_frame_equal(ask(fit).frame, ask(again).frame)
    kept = again.slope_regions("x", "rain days")
    assert kept["share_of_rows"].isna().all()
    assert "keeps no rows to count" in " ".join(kept.notes)
    for name, options in (("simple_slopes", {"of": "x", "across": "rain days"}), ("adjusted_means", {}),
                          ("level_differences", {}), ("coefficients", {}), ("joint_region", {})):  # fmt: skip
        assert again.draw(name, **options).axes


@pytest.mark.parametrize("pieces", [1, 3])
def test_cut_offs_and_pairs_are_those_counted_one_by_one(pieces):
    n, cutoffs = 60, np.array([0.5, 0.0, 0.31, 1.0, 0.3])
    chance, yes, times = np.round(RNG.random(n), 1), RNG.random(n) < 0.5, RNG.integers(1, 4, n)
    each = Chances(chance, yes.astype(float), times.astype(float), np.ones(n))
    cuts = np.linspace(0, n, pieces + 1).astype(int)
    rows = Partition(pieces, lambda i, _: Chances(*(v[cuts[i] : cuts[i + 1]] for v in each)))
    said = said_yes(rows, cutoffs)
    assert said.yes.tolist() == [times[chance >= c].sum() for c in cutoffs]
    assert said.rightly.tolist() == [times[(chance >= c) & yes].sum() for c in cutoffs]
    assert (said.of_yes, said.of_no) == (times[yes].sum(), times[~yes].sum())
    of_yes, of_no = chance[yes][:, None], chance[~yes]
    higher = (of_yes > of_no) + (of_yes == of_no) / 2
    weights = np.outer(times[yes], times[~yes])
    assert concordance(rows) == pytest.approx(np.average(higher, weights=weights))


@pytest.mark.parametrize(
    "terms",
    ["x, g, h, farm", "crossed(x, g), h", "crossed(g, h), x, farm", "farm, x * h, log(x) * g"],
)
def test_what_is_averaged_is_the_mean_over_every_combination(terms):
    fit = jn.fit(TABLE, f"y given {terms}")
    names = [name for name in ("g", "h", "farm") if name in terms]
    shares = [TABLE[name].value_counts(normalize=True) for name in names]
    cells = pd.DataFrame(list(itertools.product(*(s.index for s in shares))), columns=names)
    weight = np.prod([s.loc[cells[n]].to_numpy() for n, s in zip(names, shares)], axis=0)
    new = pd.DataFrame({"x": [2.0, 7.5]})
    known = [fit.forecast(cells.assign(x=x))["fitted"] @ weight for x in new["x"]]
    averaged = fit.forecast(new, hold="average")
    assert averaged["fitted"].to_numpy() == pytest.approx(known, rel=1e-12)
    slope = fit.difference({"x": 7.5}, {"x": 2.0})["difference"][0]
    assert slope == pytest.approx(known[1] - known[0], rel=1e-9)


@pytest.mark.sampled(5)
@pytest.mark.parametrize(("response", "options"), MODELS)
@pytest.mark.parametrize(
    "terms",
    ['BEFORE, "rain days", g', 'crossed(g, "rain days"), BEFORE, log(x)', "BEFORE * x, x, g"],
)
def test_what_another_row_has_is_a_predictor_of_its_own(terms, response, options, tmp_path):
    """A lag is held as a column is that says the same."""
    written = TABLE.assign(before=TABLE["x"].shift(1))
    fits = [
        jn.fit(written, f"{response} given {terms.replace('BEFORE', name)}", **options)
        for name in ("lag(x, 1)", "before")
    ]
    fits.append(jn.load(fits[0].save(tmp_path / "fit.json")))
    free = '"rain days"' if "rain" in terms else "x"
    setting = {free.strip('"'): [6.0]}
    questions = [
        lambda f: f.adjusted_means("g"),
        lambda f: f.level_differences("g"),
        lambda f: f.difference(f"{free} = 9", f"{free} = 6"),
        lambda f: f.forecast(setting | {"g": ["b"]}, hold="average"),
        lambda f: f.simple_slopes(free.strip('"'), "g"),
    ]
    for ask in questions:
        ours, known, loaded = (ask(f).frame.select_dtypes("number") for f in fits)
        assert ours.to_numpy() == pytest.approx(known.to_numpy(), rel=1e-9, abs=1e-12, nan_ok=True)
        assert loaded.to_numpy() == pytest.approx(
            known.to_numpy(), rel=1e-9, abs=1e-12, nan_ok=True
        )
    said = [f.explain().split("Each predictor")[1].split("The intercept")[0] for f in fits]
    lines = said[0].replace("lag(x, 1)", "before").splitlines()
    assert "cannot be told" not in said[0]
    if "*" not in terms:
        assert sorted(lines) == sorted(said[1].splitlines())


def test_rows_that_follow_one_another_are_lagged_by_each_other_where_they_can_be():
    fit = jn.fit(TABLE, "y given lag(x, 1), x")
    b = fit.coefficients()["estimate"].to_numpy()
    usual = TABLE["x"].shift(1)[1:].mean()
    found = fit.forecast({"x": [2.0, 5.0, 3.0]}, hold="average")
    assert found["fitted"].tolist() == pytest.approx(
        [b[0] + b[1] * v + b[2] * x for v, x in [(usual, 2), (2, 5), (5, 3)]]
    )
    assert any("lag(x, 1)" in note for note in found.notes)
    plain = fit.forecast({"x": [2.0, 5.0]})
    assert np.isnan(plain["fitted"][0])
    assert plain["fitted"][1] == pytest.approx(found["fitted"][1])
    alone = jn.fit(TABLE.assign(z=TABLE["x"]), "y given lag(z, 1), x")
    for call in (
        lambda: alone.difference("z = 1"),
        lambda: alone.simple_slopes("x", "z"),
        lambda: alone.draw("line", against="z"),
    ):
        with pytest.raises(jn.CallError, match=r"z stands in the model as lag\(z, 1\) alone"):
            call()
    assert alone.draw("line").axes[0].get_xlabel() == "x"
    with pytest.raises(jn.UnknownColumnError, match="no column 'w' in the model"):
        alone.difference("w = 1")


def test_many_levels_are_averaged_unless_one_term_joins_too_many(monkeypatch):
    monkeypatch.setattr(held, "HELD_COMBINATIONS", 5)
    apart = jn.fit(TABLE, "y given x, g, h").forecast("x = 3", hold="average")
    assert np.isfinite(apart["fitted"][0])
    with pytest.raises(jn.CallError, match="g, h have too many levels together"):
        jn.fit(TABLE, "y given x, crossed(g, h)").forecast("x = 3", hold="average")


def test_the_offset_is_held_at_its_mean_in_means():
    fit = jn.fit(TABLE, "y given x, g", offset="w")
    table = fit.adjusted_means("g").frame
    new = pd.DataFrame({"x": TABLE["x"].mean(), "g": table["g"], "w": TABLE["w"].mean()})
    assert table["mean"].tolist() == pytest.approx(fit.forecast(new)["fitted"].tolist())
    assert "the offset is held at its mean" in " ".join(fit.adjusted_means("g").notes)


def test_per_cents_and_doublings_have_the_figures_of_the_fit():
    fit = jn.fit(TABLE.assign(y=np.exp(TABLE["x"] / 30)), "log(y) given x, h")
    noisy = jn.fit(TABLE, "log(y) given x")
    b = noisy.coefficients().frame.iloc[1]
    more, low, high = (100 * np.expm1(b[n]) for n in ("estimate", "lower", "upper"))
    assert f"{figure(more, 2)} % more (95 %: {low:.1f} % to {high:.1f} %)" in noisy.explain()
    b = jn.fit(TABLE, "log(y) given log(x)").coefficients().frame.iloc[1]
    assert f"{figure(100 * np.expm1(b['estimate'] * np.log(2)), 2)} % more" in (
        jn.fit(TABLE, "log(y) given log(x)").explain()
    )
    assert "Each further unit of x" in fit.explain()


@pytest.mark.parametrize(
    "options", [{}, {"std_errors": "robust"}, {"family": "gamma", "link": "log"}]
)
def test_a_level_against_another_across_a_number_is_the_difference_there(options, tmp_path):
    table = jn.sample_data("yields")
    fit = jn.fit(table, "honey_kg given crossed(hive_type, forage_km2), feed_kg^2", **options)
    for one in (fit, jn.load(fit.save(tmp_path / "fit.json"))):
        found = one.simple_slopes(
            ("hive_type", "stacked", "top-bar"), "forage_km2", [1, 4], hold={"feed_kg": 5}
        )
        for place, x in enumerate((1.0, 4.0)):
            rows = [
                {"hive_type": level, "forage_km2": x, "feed_kg": 5.0}
                for level in ("stacked", "top-bar")
            ]
            plain = one.difference(*rows) if "link" not in options else None
            if plain is not None:
                for name, other in (
                    ("slope", "difference"),
                    ("lower", "lower"),
                    ("standard_error", "standard_error"),
                ):
                    assert found[name][place] == pytest.approx(plain[other][0], rel=1e-9)
            else:
                ratio = one.difference(*rows)["ratio"][0]
                assert np.exp(found["slope"][place]) == pytest.approx(ratio, rel=1e-9)
        reference = one.simple_slopes(
            "hive_type: stacked", "forage_km2", [0.0], hold={"feed_kg": 0}
        )
        b = one.coefficients().frame.set_index("term").loc["hive_type: stacked"]
        assert reference["slope"][0] == pytest.approx(b["estimate"], rel=1e-9)
        assert reference["standard_error"][0] == pytest.approx(b["standard_error"], rel=1e-9)
        regions = one.slope_regions("hive_type: stacked", "forage_km2").frame
        assert regions["share_of_rows"].isna().all() or regions[
            "share_of_rows"
        ].sum() == pytest.approx(1)


def test_a_condition_moves_as_a_column_of_noughts_and_ones_does(joinery):
    table = jn.sample_data("yields")
    table["late"] = (table["season"] >= 2022).astype(float)
    sentence = "honey_kg given crossed({0}, forage_km2), hive_type"
    written, made = (jn.fit(table, sentence.format(c)) for c in ("late", "(season >= 2022)"))
    for call in ("(season >= 2022)", "season >= 2022"):
        ours, theirs = (
            made.simple_slopes(call, "forage_km2").frame,
            written.simple_slopes("late", "forage_km2").frame,
        )
        pd.testing.assert_frame_equal(ours, theirs, rtol=1e-9)
        ours, theirs = (
            made.slope_regions(call, "forage_km2").frame,
            written.slope_regions("late", "forage_km2").frame,
        )
        pd.testing.assert_frame_equal(ours, theirs, rtol=1e-6)
    assert not any(
        "season" in note for note in made.simple_slopes("season >= 2022", "forage_km2").notes
    )
    given = (
        "sample:yields",
        "honey_kg given crossed(hive_type, forage_km2)",
        "--across",
        "forage_km2",
    )
    status, out, _ = joinery(
        "simple-slopes", *given, "--of", "hive_type: stacked, top-bar", "--as", "csv"
    )
    fit = jn.fit(*given[:2])
    assert (status, out) == (
        0,
        fit.simple_slopes(("hive_type", "stacked", "top-bar"), "forage_km2").render("csv"),
    )
    for of, said in (
        (("hive_type", "long"), "two levels are asked"),
        ("hive_type: odd", "'odd' is not known"),
        ("hive_type", "has no slope; ask for level_diff"),
        (("hive_type", "long", "long"), "is nothing"),
    ):
        with pytest.raises(jn.CallError, match=said):
            fit.simple_slopes(of, "forage_km2")


def test_dates_are_read_aloud_as_dates():
    curve = jn.fit("sample:hive_scale", "gain_kg given season_waves(date)").explain()
    assert "follows a curve in date (season_waves): " in curve
    assert " at 2025-0" in curve
    months = jn.fit("sample:hive_scale", "gain_kg given month(date)").explain()
    assert "- month(date) May, against April, goes with 0.77 more gain_kg" in months


@pytest.mark.parametrize("curve", ["x, x^2", "powers(x, 2)", "spline(x, columns=3)"])
def test_one_bar_stands_for_the_columns_of_a_curve(curve):
    r = np.random.default_rng(2)
    table = pd.DataFrame({"x": r.uniform(100, 900, 80), "z": r.normal(size=80)})
    table["y"] = (table["x"] - 500) ** 2 / 1e4 + table["z"] + r.normal(size=80)
    fit = jn.fit(table, f"y given {curve}, z")
    (size,) = curve_sizes(fit._fitted)
    b, X = fit.coefficients()["estimate"], fit.design_columns().frame
    places = list(size.places)
    moved = X.iloc[:, places].to_numpy() @ np.asarray(b)[places]
    assert size.bar[1] == pytest.approx(moved.std() / table["y"].std(ddof=0), rel=1e-9)
    # the delta method, against the spread over responses simulated from the fit
    sizes = []
    copies = fit.simulate(200, seed=3)
    for y in (copies[name] for name in copies):
        again = table.assign(y=y.to_numpy())
        b = np.asarray(jn.fit(again, f"y given {curve}, z").coefficients()["estimate"])
        sizes.append((X.iloc[:, places].to_numpy() @ b[places]).std())
    error = (size.bar[2] - size.bar[1]) / stdtrit(fit.residual_df, 0.975)
    assert error * table["y"].std(ddof=0) == pytest.approx(np.std(sizes), rel=0.25)


def test_means_that_cannot_be_estimated_say_what_never_changes_within_what():
    r = np.random.default_rng(1)
    table = pd.DataFrame({"farm": np.repeat(list("abcd"), 5), "y": r.normal(size=20)})
    table["soil"] = table["farm"].map(dict(zip("abcd", ["clay", "sand"] * 2)))
    fit = jn.fit(table, "y given farm, soil")
    for ask, term in itertools.product(("adjusted_means", "level_differences"), ("farm", "soil")):
        if (ask, term) != ("level_differences", "farm"):
            with pytest.raises(jn.CallError, match="soil never changes within one farm"):
                getattr(fit, ask)(term)
    # farms of one soil can be compared, and no others
    means, told = table.groupby("farm")["y"].mean(), fit.level_differences("farm").frame
    settled = told.dropna(subset="difference")
    assert list(settled["level"] + settled["minus"]) == ["ca", "db"]
    assert len(told) == 6
    gaps = [means["c"] - means["a"], means["d"] - means["b"]]
    np.testing.assert_allclose(settled["difference"], gaps, rtol=1e-10)


def test_the_intercept_is_read_with_the_digits_of_its_interval():
    fit = jn.fit(TABLE.assign(y=TABLE["y"] + 1000), "y given x")  # more digits than three
    text = " ".join(fit.explain().split()).replace(",", "")
    value, low, high = map(float, re.search(r"It is (\S+) \[(\S+) (\S+)\]", text).groups())
    row = fit.coefficients().frame.iloc[0]
    step = 10.0 ** -len(str(value).partition(".")[2])
    assert (value, low, high) == pytest.approx(
        (row["estimate"], row["lower"], row["upper"]), abs=step
    )
    assert step < row["standard_error"] < 100 * step
