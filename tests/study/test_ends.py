"""Figures at their ends: perfect models, rows alone at a level, means of zero, tails, missing ends."""

from __future__ import annotations

from types import SimpleNamespace

import mpmath as mp
import numpy as np
import pandas as pd
import pytest
from scipy import integrate, stats

import joinery as jn
from joinery.core.glm.families import FAMILIES
from joinery.core.glm.links import LINKS
from joinery.core.inference import predictive
from joinery.core.inference.resampling import counted
from joinery.core.numeric import distributions as tails
from joinery.core.numeric import simultaneous
from joinery.rehearsal.rehearse import Block, Rehearsals
from joinery.study.resample.bootstrap import drawn
from joinery.study.resample.crosscheck import _dealt

rng = np.random.default_rng(36)
N = 60
TABLE = pd.DataFrame(rng.normal(size=(N, 4)), columns=list("abcx"))
TABLE["y"] = TABLE["x"] + rng.normal(size=N)


@pytest.mark.parametrize("criterion", ["aic", "bic", "p", "adjusted r2", "crosscheck"])
@pytest.mark.parametrize("moves", ["add", "drop", "add and drop"])
def test_a_perfect_model_wins(criterion, moves):
    table = TABLE.head(20).assign(t=np.arange(20.0), v=1.8 * np.arange(20.0) + 32)
    trail = jn.stepwise(table, "v given a, b, c, t", criterion=criterion, moves=moves)
    assert trail.final.sentence == "v given t"


def test_a_row_alone_at_its_level_is_left_aside_by_the_crosscheck_of_a_choice():
    table = TABLE.assign(g=["a"] * (N - 1) + ["b"])
    last = set()
    for seed in range(3):
        mixed = table.sample(frac=1, random_state=seed)
        trail = jn.stepwise(mixed, "y given x, g", criterion="crosscheck", moves="drop")
        last.add(round(trail.steps.frame["crosscheck_error"].iloc[0], 10))
    whole = jn.compare(*[jn.fit(table, "y given x, g")] * 2).frame["crosscheck_error"].iloc[0]
    assert last == {round(whole, 10)}


@pytest.mark.simulation
def test_a_choice_of_counts_is_judged_on_rows_not_seen():
    r = np.random.default_rng(1)
    table = pd.DataFrame(r.normal(size=(60, 2)), columns=list("ax"))
    table["n"] = r.negative_binomial(2, 2 / (2 + np.exp(1 + 0.8 * table["x"])))
    options = {"family": "negative-binomial"}
    trail = jn.stepwise(table, "n given a, x", criterion="crosscheck", moves="add", **options)
    fold, total = np.random.default_rng(0).permutation(60) % 10, 0.0
    for k in range(10):
        fit = jn.fit(table[fold != k], "n given x", **options)
        b, size = fit.coefficients()["estimate"].to_numpy(), fit.shape
        mu = np.exp(b[0] + b[1] * table["x"][fold == k])
        chances = stats.nbinom.logpmf(table["n"][fold == k], size, size / (size + mu))
        total -= 2 * chances.sum()
    tried = trail.tried.frame
    first = tried[(tried["step"] == 1) & (tried["move"] == "add x")]["crosscheck_error"].iloc[0]
    assert first == pytest.approx(total / 60)


@pytest.mark.parametrize("name", ["poisson", "negative-binomial", "binomial"])
def test_what_never_happens_and_did_has_no_end_of_deviance(name):
    family = FAMILIES[name].with_shape(2.0 if name.startswith("neg") else None)
    y = np.array([0.5, 0.0])
    assert family.deviance(y, np.zeros(2), np.ones(2)).tolist() == [np.inf, 0.0]
    if name == "binomial":
        assert family.deviance(np.array([0.5, 1.0]), np.ones(2), np.zeros(2)).tolist() == [
            np.inf,
            0,
        ]


def test_a_row_far_out_under_the_cloglog_link_is_not_lost():
    x, m = np.array([0.0, 1, 2, 3, 40]), np.full(5, 200)
    s = np.array([20, 60, 120, 170, 199])
    fit = jn.fit({"x": x, "s": s, "m": m}, "s of m given x", link="cloglog")
    a, b = fit.coefficients()["estimate"]
    e = np.exp(a + b * x)
    score = (s / -np.expm1(-e) - m) * e  # of the log likelihood by η
    assert [score.sum(), (score * x).sum()] == pytest.approx([0, 0], abs=1e-6)
    assert 0 < fit.deviance < fit.null_deviance


@pytest.mark.parametrize("t", [4.0, 8.0, 9.65, 20.0])
def test_tails_keep_their_digits_at_many_rows(t):
    df = 200_000
    with mp.workdps(40):
        truth = mp.betainc(mp.mpf(df) / 2, 0.5, 0, df / (df + mp.mpf(t) ** 2), regularized=True)
    assert float(tails.t_two_sided(t, df)) == pytest.approx(float(truth), rel=1e-10)
    assert float(tails.f_upper(t * t, 1, df)) == pytest.approx(float(truth), rel=1e-10)


def test_only_whole_powers_hold_lower_ones():
    table = TABLE.assign(z=np.abs(TABLE["x"]))
    power, root = (jn.fit(table, f"y given z, {term}").anova() for term in ("z^0.5", "sqrt(z)"))
    assert power["f"].tolist() == pytest.approx(root["f"].tolist(), nan_ok=True)


def test_rows_that_nothing_else_speaks_to_may_miss_by_anything():
    table = TABLE.head(12).assign(g=list("aaaabbbbcccd"))
    fit = jn.fit(table, "y given g")
    ends = fit.forecast({"g": ["a"]}, intervals="distribution-free", level=0.8).frame.iloc[0]
    known = np.array([v for level in "abc" for v in _left_out(table, level)])
    rows = table["g"].to_numpy()[:11]
    group = table.groupby("g")["y"].mean()["a"]
    without = [
        group - miss / (np.sum(rows == "a")) * (level == "a") for miss, level in zip(known, rows)
    ]
    low = np.sort(without - np.abs(known))
    # of twelve rows one is unknown, and counts as missing by more than all others
    place = int(np.floor(0.2 * 13)) - 1 - 1
    assert ends["new_lower"] == pytest.approx(low[place])
    assert (
        jn.fit(table, "y given g")
        .forecast({"g": ["a"]}, intervals="distribution-free", level=0.9)
        .frame["new_lower"][0]
        == -np.inf
    )


def _left_out(table, level):
    y = table["y"][table["g"] == level].to_numpy()
    return (y - y.mean()) * len(y) / (len(y) - 1)


def test_repeats_of_yes_and_no_are_drawn_each_by_itself():
    wrong = 0
    for seed in range(10):
        r = np.random.default_rng(seed)
        x, yes = np.repeat([0, 1, 2, 3], 2), np.tile([False, True], 4)
        hits = r.binomial(750, 1 / (1 + np.exp(1 - 0.6 * np.arange(4))))
        repeats = np.ravel(np.column_stack([750 - hits, hits]))
        fit = jn.fit({"x": x, "yes": yes, "r": repeats}, "yes given x", repeats="r")
        line = fit.checks().frame
        wrong += line.loc[line["check"].str.contains("quantile residuals"), "p"].iloc[0] < 0.01
    assert wrong <= 1


def test_a_given_dispersion_leaves_correlations_and_studentized_ends_alone():
    plain, given = jn.fit(TABLE, "y given x, a"), jn.fit(TABLE, "y given x, a", dispersion=9.0)
    for name in ("partial_r", "semipartial_r"):
        assert given.term_correlations()[name].tolist() == pytest.approx(
            plain.term_correlations()[name].tolist()
        )
    asked = {"resample": "residuals", "interval": "studentized", "seed": 1, "resamples": 200}
    assert given.bootstrap(**asked)["lower"].tolist() == pytest.approx(
        plain.bootstrap(**asked)["lower"].tolist()
    )


def test_lags_of_written_forecasts_are_those_of_the_whole_table(tmp_path, monkeypatch):
    monkeypatch.setattr("joinery.study.forecast.written.STRETCH", 64)  # stretches of sixteen rows
    table = TABLE.assign(t=rng.permutation(N))
    fit = jn.fit(table, "y given lag(x, 1), a", order="t")
    written = pd.read_csv(fit.write_forecasts(table, tmp_path / "a.csv"))
    whole = fit.forecast(table)["fitted"]
    assert written["fitted"].tolist() == pytest.approx(whole.tolist(), nan_ok=True)
    assert "no t: lags" in " ".join(fit.forecast(table.drop(columns="t")).notes)


def test_one_odd_row_leaves_the_other_left_out_rows_their_figures():
    table = TABLE.assign(g=["odd", *rng.choice(list("uv"), N - 1)])
    rows = jn.fit(table, "y given x, g", leave_out=[0, 1, 2]).rows().frame
    assert rows.loc[[0, 1, 2], "fitted"].isna().tolist() == [True, False, False]
    assert rows.loc[0, "observed"] == TABLE["y"][0]


def test_usual_values_of_a_far_moderator_lie_inside_what_was_seen():
    table = TABLE.assign(m=1.7e12 + np.arange(N) % 9)
    at = jn.fit(table, "y given x, m, x * m").simple_slopes("x", "m")["at"]
    assert at.is_unique
    assert at.between(table["m"].min(), table["m"].max()).all()


def test_a_crosscheck_may_have_as_many_folds_as_rows():
    table = {"x": np.arange(128.0), "y": np.arange(128) % 7}
    assert "128 folds" in jn.fit(table, "y given x").crosscheck(folds=128).notes[0]


def test_pairs_without_a_correlation_stand_last():
    table = TABLE.assign(gap=np.where(np.arange(N) < 30, TABLE["a"], np.nan))
    table["other"] = np.where(np.arange(N) >= 30, TABLE["b"], np.nan)
    found = jn.look(table).correlations["pearson"]
    assert found.isna().sum() == 1
    assert np.isnan(found.iloc[-1])


def test_an_empty_interval_of_a_rehearsal_neither_holds_nor_misses():
    made = SimpleNamespace(names=("a",), truth=np.array([1.0]))
    estimates = np.array([[1.0], [1.2], [0.9]])
    lower, upper = (np.array([[v], [1.1], [np.nan]]) for v in (0.5, 1.5))
    block = Block(
        made, 10, estimates, estimates / 9, lower, upper, np.array([[1.0], [0], [np.nan]])
    )
    found = Rehearsals((block,), 0.95).coefficients.frame.iloc[0]
    assert [found["coverage"], found["power"]] == [0.5, 0.5]


@pytest.mark.sampled(4)
@pytest.mark.parametrize("levels", [150, 250])
@pytest.mark.parametrize(("far", "apart"), [(0.0, 1e-7), (0.0, 3e-8), (1e8, 1.0)])
def test_leverages_of_wide_tables_with_levels(levels, far, apart):
    r = np.random.default_rng(5)
    Z = r.normal(size=(1200, 60))
    codes = r.permutation(np.arange(1200) % levels)
    Q = np.linalg.qr(np.column_stack([np.eye(levels)[codes], Z]))[0]
    table = pd.DataFrame(Z + far, columns=[f"x{j}" for j in range(60)])
    table["x1"] = table["x0"] + apart * Z[:, 1]
    table["g"] = [f"level {code:03d}" for code in codes]
    table["y"] = r.normal(size=1200)
    fit = jn.fit(table, "y given g, " + ", ".join(f"x{j}" for j in range(60)))
    leverage = fit.rows()["leverage"]
    assert leverage.to_numpy() == pytest.approx((Q**2).sum(axis=1), abs=2e-8)
    assert len(str(fit)) > 100


def _near_an_edge(family, link):
    r = np.random.default_rng(8)
    x = np.repeat(np.linspace(0, 1, 8), 2)
    eta = {"identity": 0.99 - 0.9 * x, "log": -0.02 - 2.5 * x}[link]
    mu = np.exp(eta) if link == "log" else eta
    if family == "binomial":
        return pd.DataFrame({"x": x, "y": r.binomial(12, mu), "m": 12}), "y of m given x"
    return pd.DataFrame({"x": x, "y": r.poisson(1.2 * np.maximum(mu - 0.1, 0))}), "y given x"


@pytest.mark.sampled(2)
@pytest.mark.parametrize(
    ("family", "link"), [("binomial", "identity"), ("binomial", "log"), ("poisson", "identity")]
)
def test_a_bootstrap_keeps_to_means_that_the_family_has(family, link):
    table, sentence = _near_an_edge(family, link)
    fit = jn.fit(table, sentence, family=family, link=link)
    found = drawn(fit._fitted, 24, None, "rows", "percentile", 0.95, 3)
    assert found.lost == 0
    counts = next(counted(np.random.default_rng(3), np.ones(len(table)), 24, None))
    for place in (0, 10, 20):
        again = jn.fit(
            table.assign(r=counts[place]), sentence, family=family, link=link, repeats="r"
        )
        estimates = again.coefficients()["estimate"].to_numpy()
        assert found.draws[place] == pytest.approx(estimates, abs=1e-6)
    means = found.draws @ np.array([np.ones(len(table)), table["x"]])
    assert (
        means[counts > 0] <= {"log": 0, "identity": 1}[link] + 1e-9
    ).all() or family == "poisson"


@pytest.mark.parametrize("name", ["gamma", "inverse-gaussian"])
@pytest.mark.parametrize("error", [0.05, 0.6, 3.0])
def test_new_row_ends_far_outside_are_quantiles_of_the_average(name, error):
    family, link, phi = FAMILIES[name], LINKS["log"], 0.05
    likely = [predictive.Likely(family, ratio, share) for ratio, share in ((0.5, 0.3), (2, 0.7))]
    args = np.array([1.0]), np.array([error])
    found = predictive.NewRows(family, link, *args, np.array([phi]), likely=likely).ends(0.95)
    z = np.linspace(-9, 9, 100_001)
    density = stats.norm.pdf(z) * (z[1] - z[0])
    for value, share in zip(found, (0.025, 0.975), strict=True):
        total = 0.0
        for one in likely:
            mu, size = np.exp(1 + error * np.sqrt(one.ratio) * z), phi * one.ratio
            if name == "gamma":
                below = stats.gamma.cdf(value[0], 1 / size, scale=mu * size)
            else:
                below = stats.invgauss.cdf(value[0], mu * size, scale=1 / size)
            total += one.share * (below * density).sum()
        # where η is far less sure than a response, its points are at most 1,024
        assert total == pytest.approx(share, rel=1e-6 if error < 1 else 0.02)


def test_separation_is_named_where_each_block_holds_one_value():
    n = 65_536
    r = np.random.default_rng(4)
    table = pd.DataFrame({"x": (np.arange(n) >= n // 2).astype(float), "z": r.normal(size=n)})
    table["y"] = np.where(table["x"] == 0, r.random(n) < 0.4, True)
    fit = jn.fit(table, "y given z, x")
    assert any("separation: x predicts" in note for note in fit.notes)


@pytest.mark.parametrize(
    ("sentence", "options", "folds", "said"),
    [
        ("y given a, rank(b), spline(c, columns=3)", {}, None, "rank(b), spline(c, columns=3)"),
        ("y given a, b", {"missing": "mean"}, 5, "missing cells of a keep the mean of all rows"),
        ("y given a, centred(b)", {}, None, ""),
    ],
)
def test_a_crosscheck_says_what_the_rows_it_forecasts_have_taught(sentence, options, folds, said):
    table = TABLE.assign(a=TABLE["a"].where(np.arange(N) > 4)) if options else TABLE
    notes = jn.fit(table, sentence, **options).crosscheck(folds=folds).notes[1:]
    assert [said in note for note in notes] == [True] * bool(said)


def test_workings_are_of_a_residual_sd_that_the_rows_tell_and_near_the_mean():
    small = TABLE.assign(x=TABLE["x"] / 1000 + 0.02)
    steps = jn.fit(small, "y given x").workings().steps
    at = next(text for text in steps["figure"] if text.startswith("forecast at"))
    assert float(at.split("= ")[1]) == pytest.approx(small["x"].mean(), abs=1e-4)
    with pytest.raises(jn.CallError, match="fit without dispersion="):
        jn.fit(TABLE, "y given x", dispersion=2.0).workings()


def test_totals_stand_beside_a_table_of_predictors():
    options = {"coefficients": {"intercept": 0, "x": 1}, "rows": 9, "seed": 1}
    made = jn.simulate("s of m given x", predictors=TABLE.assign(m=3), totals=10, **options)
    assert (made["m"] == 10).all()
    assert (made["s"] <= 10).all()
    assert set(made["x"]) <= set(TABLE["x"])
    with pytest.raises(jn.CallError, match="how many m"):
        jn.simulate("s of m given x", predictors=TABLE, **options)


def test_rows_without_a_place_in_the_order_are_told():
    table = TABLE.assign(t=np.where(np.arange(N) == 7, np.nan, np.arange(N)))
    words = "1 row used without t, taken as first in the order"
    assert words in jn.fit(table, "y given x", order="t").notes
    assert words not in jn.fit(table.dropna(), "y given x", order="t").notes


@pytest.mark.parametrize(
    "squares", [[0.5] * 3, [0.1, 0.9, 0.99], [1000 / 1001] * 5, [1 - 1e-8] * 2]
)
def test_the_largest_t_at_correlations_near_one(squares):
    loading = np.sqrt(squares)
    rest, c = np.sqrt(1 - loading**2), 2.4
    R = np.outer(loading, loading)
    np.fill_diagonal(R, 1.0)

    def inside(u):
        ends = [stats.norm.cdf((side * c - loading * u) / rest) for side in (1, -1)]
        return np.prod(ends[0] - ends[1]) * stats.norm.pdf(u)

    near = [c + share * rest.min() for share in (-20, -5, 0, 5, 20)]
    exact = 2 * integrate.quad(inside, 0, 12, points=near, limit=500, epsabs=1e-13)[0]
    assert simultaneous.largest_below(c, R, np.inf) == pytest.approx(exact, abs=1e-11)


def test_stretches_in_time_do_not_part_rows_of_one_time():
    table = TABLE.assign(t=np.arange(N) // 7 * 7)
    fit = jn.fit(table, "y given x", order="t")
    deal, _ = _dealt(fit._fitted, 5, None, "t", 0)
    assert pd.Series(deal.fold).groupby(table["t"]).nunique().max() == 1
    assert len(set(deal.fold)) == 5


def test_an_offset_far_from_the_means_moves_the_constant_alone():
    r = np.random.default_rng(2)
    x, o = r.uniform(size=N), np.where(np.arange(N) < 5, -3.5, 0.5)
    table = pd.DataFrame({"x": x, "o": o, "y": r.poisson((5 + x + o) ** 2)})
    near, far = (
        jn.fit(table.assign(o=o + shift), "y given x", family="poisson", link="sqrt", offset="o")
        for shift in (3.5, -9.0)
    )
    assert far.deviance == pytest.approx(near.deviance)
    apart = far.coefficients()["estimate"] - near.coefficients()["estimate"]
    assert apart.tolist() == pytest.approx([12.5, 0.0], abs=1e-8)


def test_infinite_ends_say_why_and_spaces_inside_a_level_are_kept():
    x = np.arange(8.0)
    table = pd.DataFrame({"x": x, "y": np.exp(x + [0.1, -0.1] * 4), "g": ["a  b", "a c"] * 4})
    fit = jn.fit(table, "log(y) given x, g")
    note = fit.forecast({"x": [900.0], "g": ["a c"]})["note"].iloc[0]
    assert "an end is too large for a number: infinite" in note
    sheet = fit.equation("spreadsheet", cells={"x": "A1", "g": "B1"})
    assert 'OR(EXACT(TRIM(B1),"a  b"),EXACT(B1,"a  b"))' in sheet
    inverse = jn.fit(table, "(1 / y) given x").forecast({"x": [9.0]})
    assert "an end lies past the pole of (1 / y): infinite" in inverse["note"].iloc[0]


@pytest.mark.parametrize("level", [0.5, 0.95, 0.9999])
@pytest.mark.parametrize(
    ("family", "sentence"),
    [
        ("poisson", "count given x"),
        ("gamma", "cost given x"),
        ("inverse-gaussian", "cost given x"),
        ("negative-binomial", "spread given x"),
        (None, "k of m given x"),
    ],
)
def test_few_points_average_a_mean_that_is_known_well(family, sentence, level, monkeypatch):
    rng = np.random.default_rng(2)
    x = rng.normal(size=4000)
    table = {"x": x, "count": rng.poisson(np.exp(0.3 * x)), "cost": rng.gamma(3, np.exp(0.2 * x))}
    table["spread"] = rng.negative_binomial(2, 2 / (2 + np.exp(0.3 * x)))
    table["m"] = rng.integers(1, 90, 4000)
    table["k"] = rng.binomial(table["m"], 1 / (1 + np.exp(-0.3 * x)))
    fit = jn.fit(table, sentence, family=family)
    new = {"x": [-2.5, 0.0, 2.5], "m": [1, 20, 90]}
    columns = ["new_lower", "new_upper"]
    few, counts = fit.forecast(new, level=level).frame[columns], set()
    means = predictive._means
    monkeypatch.setattr(predictive, "_means", lambda *given: counts.add(given[-1]) or means(*given))
    fit.forecast(new, level=level)
    assert predictive.FEW_NODES in counts
    monkeypatch.setattr(predictive, "SURE", 0.0)
    many = fit.forecast(new, level=level).frame[columns]
    assert few.to_numpy() == pytest.approx(many.to_numpy(), rel=1e-11)
