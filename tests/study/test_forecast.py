"""Forecasts and their judgement: coverage by simulation, what is said of far-out rows, files that forecast alike."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from benchmarks.forecasts import CASES, covered
from benchmarks.intervals import fitted
from tests.draws import by_chance, draws

import joinery as jn
from joinery.core.glm.families import FAMILIES
from joinery.study.forecast import ahead

rng = np.random.default_rng(11)
TABLE = pd.DataFrame(
    {"x": rng.uniform(1, 9, 60), "g": rng.choice(list("abc"), 60), "e": rng.uniform(1, 4, 60)}
)
TABLE["y"] = 3 + TABLE["x"] + (TABLE["g"] == "b") + rng.normal(0, 1, 60)
TABLE["c"] = rng.poisson(TABLE["e"] * np.exp(0.2 * TABLE["x"]))
WINTER = "survived of colonies given altitude_m, log(forage_km2), stores_kg"


@pytest.mark.sampled(3)
@pytest.mark.simulation
@pytest.mark.parametrize("case", CASES)
def test_new_row_intervals_cover_at_their_level(case):
    tables = draws(30) if CASES[case].family in ("normal", "binomial", "poisson") else draws(10)
    inside, ends = covered(case, 30, tables, seed=4)
    slack = 3.5 * np.sqrt(0.95 * 0.05 / (tables * 8)) + 0.005
    assert inside > 0.95 - slack
    assert ends > 0.95 - 2 * slack
    assert CASES[case].discrete or inside < 0.95 + slack


@pytest.mark.simulation
def test_distribution_free_intervals_hold_where_normal_ones_do_not():
    rng = np.random.default_rng(6)
    held = np.zeros(2)
    times = draws(250)
    for _ in range(times):
        x, new = rng.uniform(0, 1, 60), rng.uniform(0, 1, 20)
        # errors mostly small, some huge: the normal interval is far too wide in the middle of the
        # levels
        fit = jn.fit({"x": x, "y": x + rng.standard_t(1.6, 60)}, "y given x", level=0.5)
        came = new + rng.standard_t(1.6, 20)
        for i, kind in enumerate(("model", "distribution-free")):
            f = fit.forecast({"x": new}, intervals=kind).frame
            held[i] += np.mean((came >= f["new_lower"]) & (came <= f["new_upper"]))
    assert held[0] / times > 0.58
    assert abs(held[1] / times - 0.5) < by_chance(0.5, times * 8)


def test_distribution_free_is_really_leaving_each_row_out():
    small = TABLE.head(15)
    fit = jn.fit(small, "y given x", level=0.8)
    found = fit.forecast({"x": [4.0]}, intervals="distribution-free").frame.iloc[0]
    low, high = [], []
    for i in small.index:
        other = jn.fit(small.drop(i), "y given x")
        at, own = other.forecast({"x": [4.0, small.loc[i, "x"]]})["fitted"]
        miss = abs(small.loc[i, "y"] - own)
        low.append(at - miss)
        high.append(at + miss)
    k = int(np.ceil(0.8 * 16))
    assert found["new_upper"] == pytest.approx(sorted(high)[k - 1])
    assert found["new_lower"] == pytest.approx(sorted(low)[int(np.floor(0.2 * 16)) - 1])


@pytest.mark.simulation
def test_simultaneous_bands_hold_all_rows_at_once():
    rng = np.random.default_rng(2)
    times, held = draws(500), np.zeros(2)
    x, new = np.linspace(0, 1, 15), np.linspace(0, 1, 6)
    for _ in range(times):
        fit = jn.fit({"x": x, "y": 1 + x + rng.normal(0, 1, 15)}, "y given x", level=0.9)
        f = fit.forecast({"x": new}, simultaneous=True).frame
        came = 1 + new + rng.normal(0, 1, 6)
        held += [
            ((1 + new >= f["mean_lower"]) & (1 + new <= f["mean_upper"])).all(),
            ((came >= f["new_lower"]) & (came <= f["new_upper"])).all(),
        ]
    assert (held / times > 0.9 - by_chance(0.9, times)).all()


def test_held_columns_stand_at_their_average():
    fit = jn.fit(TABLE, "y given x, g")
    held = fit.forecast({"x": [5.0]}, hold="average").frame.iloc[0]
    each = fit.forecast({"x": [5.0] * 3, "g": list("abc")})["fitted"].to_numpy()
    shares = TABLE["g"].value_counts(normalize=True)[list("abc")].to_numpy()
    assert held["fitted"] == pytest.approx(each @ shares)
    with pytest.raises(
        jn.NewRowError, match='no column .g., which the model needs.*hold="average"'
    ):
        fit.forecast({"x": [5.0]})
    assert fit.forecast({"g": ["a"]}, hold="average")["fitted"].iloc[0] == pytest.approx(
        fit.forecast({"g": ["a"], "x": [TABLE["x"].mean()]})["fitted"].iloc[0]
    )


def test_several_levels_at_once():
    fit = jn.fit(TABLE, "y given x")
    both = fit.forecast({"x": [5.0]}, level=[80, 0.95]).frame.iloc[0]
    for level in (80, 95):
        one = fit.forecast({"x": [5.0]}, level=level).frame.iloc[0]
        assert both[f"new_lower_{level}"] == one["new_lower"]
        assert both[f"mean_upper_{level}"] == one["mean_upper"]


def test_a_total_makes_counts_and_none_a_probability():
    fit = jn.fit("sample:winter", WINTER, id="apiary")
    new = {"altitude_m": [400], "forage_km2": [2.0], "stores_kg": [18.0]}
    share = fit.forecast(new).frame.iloc[0]
    counts = fit.forecast(new | {"colonies": [20]}).frame.iloc[0]
    assert counts["fitted"] == pytest.approx(20 * share["fitted"])
    assert counts["probability"] == pytest.approx(share["fitted"])
    assert np.isnan(share["new_lower"])
    assert counts["new_lower"] == round(counts["new_lower"])
    judged = fit.forecast("sample:winter_outcome")
    assert judged["error"].to_numpy() == pytest.approx(
        (judged["observed"] - judged["fitted"]).to_numpy()
    )
    assert "of 3 observed values lie inside" in " ".join(judged.notes)


def test_exposure_is_never_taken_to_be_one():
    fit = jn.fit(TABLE, "c per e given x")
    f = fit.forecast({"x": [5.0, 5.0], "e": [1.0, 3.0]})["fitted"].to_numpy()
    assert f[1] == pytest.approx(3 * f[0])
    with pytest.raises(jn.NewRowError, match="no column 'e'"):
        fit.forecast({"x": [5.0]})
    with pytest.raises(jn.NewRowError, match="no e; a count wants its exposure"):
        fit.forecast({"x": [5.0], "e": [None]})


def test_the_mean_of_a_transformed_response_has_a_column_of_its_own():
    rng = np.random.default_rng(5)
    x = rng.uniform(0, 1, 4000)
    for response, back in (("log(y)", np.exp), ("sqrt(y)", np.square)):
        y = back(3 + x + rng.normal(0, 0.6, 4000))
        row = jn.fit({"x": x, "y": y}, f"{response} given x").forecast({"x": [0.5]}).frame.iloc[0]
        near = y[np.abs(x - 0.5) < 0.1]
        assert row["expected"] == pytest.approx(near.mean(), rel=0.04)
        assert row["fitted"] == pytest.approx(np.median(near), rel=0.05)


@pytest.mark.parametrize(
    ("fit", "new", "said"),
    [
        (lambda: jn.fit("sample:jars", "jars_sold given hours_open"), "hours_open=0", "the intercept alone, far outside the data"),
        (lambda: jn.fit("sample:jars", "jars_sold given hours_open"), "hours_open=9.5", "hours_open 9.5 lies outside what was seen (2 to 8)"),
        (lambda: jn.fit(TABLE[(TABLE["g"] != "a") | (TABLE["x"] > 5)], "y given x, crossed(g, x)"), "x=1.5, g=a", "a combination farther out than any fitted row"),
        (lambda: jn.fit(TABLE.assign(h=np.where(TABLE["g"] == "a", "u", np.where(TABLE.index % 2, "u", "v"))), "y given crossed(g, h)"), "g=a, h=v", "no fitted row has a with v"),
    ],
)  # fmt: skip
def test_what_lies_outside_is_said(fit, new, said):
    assert said in fit().forecast(new)["note"].iloc[0]


@pytest.mark.parametrize(
    ("call", "said"),
    [
        (lambda f: f.forecast({"x": [1]}, intervals="free"), "intervals='free' is not known"),
        (lambda f: f.forecast({"x": [1]}, hold="mean"), "hold='mean' is not known"),
        (
            lambda f: f.revise(weights="e").forecast({"x": [1]}, intervals="distribution-free"),
            "unweighted normal fits",
        ),
        (lambda f: f.crosscheck(1), "folds=1 is not between"),
        (lambda f: f.crosscheck(by="one"), "puts all rows into one group"),
    ],
)
def test_refusals(call, said):
    with pytest.raises(jn.JoineryError, match=said):
        call(jn.fit(TABLE.assign(one=1), "y given x"))


FITS = {
    "normal": (TABLE, "y given x, g", {}),
    "log": (TABLE.assign(y=np.exp(TABLE["y"] / 5)), "log(y) given x, g", {"std_errors": "robust"}),
    "counts": (TABLE, "c per e given x", {"family": "negative-binomial"}),
    "shares": (TABLE.assign(s=np.minimum(TABLE["c"], 9), n=9), "s of n given x, g", {}),
    "yes or no": (TABLE.assign(s=TABLE["c"] > 4), "s given x", {"penalty": "firth"}),
    "gamma": (TABLE, "y given x", {"family": "gamma", "link": "identity"}),
}


@pytest.mark.parametrize(("table", "sentence", "options"), FITS.values(), ids=FITS)
def test_a_saved_fit_forecasts_and_reads_to_the_last_bit(table, sentence, options, tmp_path):
    fit = jn.fit(table, sentence, **options)
    again = jn.load(fit.save(tmp_path / "f.json"))
    new = table.head(7).assign(x=lambda t: t["x"] + 3)
    pd.testing.assert_frame_equal(
        fit.forecast(new).frame, again.forecast(new).frame, check_exact=True
    )
    pd.testing.assert_frame_equal(
        fit.coefficients().frame, again.coefficients().frame, check_exact=True
    )
    for name in (
        "aic",
        "deviance",
        "null_deviance",
        "dispersion",
        "family",
        "link",
        "converged",
        "iterations",
        "sentence",
    ):
        assert getattr(fit, name) == getattr(again, name)
    if fit.family == "normal":
        free = [f.forecast(new, intervals="distribution-free").frame for f in (fit, again)]
        pd.testing.assert_frame_equal(*free, check_exact=True)
    assert "loaded from a file" in " ".join(str(again).split())


def test_damaged_files_are_refused_never_misread(tmp_path):
    fit = jn.fit("sample:winter", WINTER)
    raw = fit.save(tmp_path / "f.json").read_bytes()
    rng = np.random.default_rng(3)
    bad = tmp_path / "bad.json"
    for i in range(1000):
        spoiled = bytearray(raw)
        if i % 3 == 0:
            spoiled = spoiled[: rng.integers(0, len(raw))]
        else:
            for place in rng.integers(0, len(raw), 1 + i % 4):
                spoiled[place] = rng.integers(0, 256)
        if bytes(spoiled) == raw or json_equal(bytes(spoiled), raw):
            continue
        bad.write_bytes(bytes(spoiled))
        with pytest.raises(jn.FileFormatError):
            jn.load(bad)


def json_equal(a, b):
    """Whether two texts hold the same JSON: a change of white space does no harm."""
    try:
        return json.loads(a) == json.loads(b)
    except ValueError:
        return False


# ------------------------------------------------------------------ crosscheck


def test_left_one_out_figures_are_those_of_really_leaving_out():
    fit = jn.fit("sample:jars", "jars_sold given hours_open")
    table = jn.sample_data("jars")
    parts = [
        jn.fit(table.drop(i), "jars_sold given hours_open").forecast(table.loc[[i]]).frame.iloc[0]
        for i in table.index
    ]
    found = fit.crosscheck().frame.set_index("figure")["unseen"]
    assert found["typical error (root mean square)"] == pytest.approx(
        np.sqrt(np.mean([p["error"] ** 2 for p in parts]))
    )
    assert found["share inside 95 % intervals"] == pytest.approx(
        np.mean([bool(p["inside"]) for p in parts])
    )
    folded = fit.crosscheck(len(table), seed=1).frame.set_index("figure")["unseen"]
    assert folded.to_numpy() == pytest.approx(found[folded.index].to_numpy())


def test_scores_of_probabilities():
    table = TABLE.assign(s=TABLE["c"] > 4)
    fit = jn.fit(table, "s given x")
    found = fit.crosscheck(5, seed=3).frame.set_index("figure")["fitted_rows"]
    p, y = fit.rows()["fitted"].to_numpy(), table["s"].to_numpy(float)
    assert found["Brier score"] == pytest.approx(np.mean((y - p) ** 2))
    assert found["log score"] == pytest.approx(fit.deviance / 2 / len(y))
    pairs = (p[y == 1][:, None] > p[y == 0]) + 0.5 * (p[y == 1][:, None] == p[y == 0])
    assert found["area under the curve (AUC)"] == pytest.approx(pairs.mean())
    assert found["calibration slope"] == pytest.approx(1, abs=1e-6)
    assert fit.crosscheck(5, seed=3).frame.equals(fit.crosscheck(5, seed=3).frame)


def test_groups_are_held_out_whole_and_time_runs_forward():
    table = TABLE.assign(t=np.arange(60))
    by = jn.fit(table, "y given x").crosscheck(by="g")
    parts = [
        jn.fit(table[table["g"] != g], "y given x").forecast(table[table["g"] == g])["error"]
        for g in "abc"
    ]
    assert by["unseen"].iloc[1] == pytest.approx(np.sqrt(np.mean(np.concatenate(parts) ** 2)))
    forward = jn.fit(table, "y given x", order="t").crosscheck(3)
    parts = [
        jn.fit(table[: 20 * k], "y given x").forecast(table[20 * k : 20 * k + 20])["error"]
        for k in (1, 2)
    ]
    assert forward["unseen"].iloc[1] == pytest.approx(np.sqrt(np.mean(np.concatenate(parts) ** 2)))
    assert "20 rows could not be forecast" in " ".join(forward.notes)
    lost = jn.fit(table, "y given x, g").crosscheck(by="g")
    assert "level" in " ".join(lost.notes)


def test_the_schema_in_the_docs_is_that_of_saved_fits():
    from joinery.model.saved_form import SavedFit

    written = Path(__file__).parents[2] / "docs" / "fit.schema.json"
    kept, now = json.loads(written.read_text()), SavedFit.model_json_schema()
    assert kept["required"] == now["required"]
    for name, part in now["$defs"].items():
        assert kept["$defs"][name]["properties"].keys() == part["properties"].keys()


def test_a_dispersion_from_few_rows_is_weighed_by_its_restricted_likelihood():
    from scipy import stats

    from joinery.core.glm.families import FAMILIES
    from joinery.core.glm.links import LINKS
    from joinery.core.inference.predictive import Likely, NewRows
    from joinery.study.forecast.spreads import spreads

    r = np.random.default_rng(2)
    x = r.uniform(size=9)
    fit = jn.fit({"x": x, "y": np.exp(2 + x) + r.normal(size=9)}, "y given x", link="log")
    ratio, weight = np.array(spreads(fit._fitted)).T
    # under the normal family φ over its estimate is df over χ²(df)
    truth = stats.chi2.pdf(7 / ratio, 7) / ratio
    assert weight == pytest.approx(truth / truth.sum(), abs=1e-6)
    one = np.array([0.0])
    normal = FAMILIES["normal"]
    likely = [Likely(normal, a, w) for a, w in zip(ratio, weight, strict=True)]
    rows = NewRows(normal, LINKS["identity"], one, one + 0.5, one + 4.0, likely=likely)
    low, high = rows.ends(0.9)
    assert high[0] == pytest.approx(stats.t.ppf(0.95, 7) * np.sqrt(4 + 0.25), rel=2e-3)
    assert low[0] == pytest.approx(-high[0], rel=1e-6)


@pytest.mark.simulation
@pytest.mark.parametrize("family", ["gamma", "inverse-gaussian", "negative-binomial"])
def test_new_rows_of_few_fitted_ones_are_held_as_often_as_meant(family):
    drawn = {
        "gamma": lambda r, x: np.exp(1 + x) * r.gamma(3, 1 / 3, len(x)),
        "inverse-gaussian": lambda r, x: r.wald(np.exp(0.5 + x), 8.0),
        "negative-binomial": lambda r, x: r.negative_binomial(3, 3 / (3 + np.exp(1.5 + x))),
    }
    r, held = np.random.default_rng(4), []
    for _ in range(draws(25)):
        x, new = r.uniform(size=8), r.uniform(size=8)
        link = {} if family == "negative-binomial" else {"link": "log"}
        fit = jn.fit({"x": x, "y": drawn[family](r, x)}, "y given x", family=family, **link)
        ahead, came = fit.forecast({"x": new}), drawn[family](r, new)
        held += ((came >= ahead["new_lower"]) & (came <= ahead["new_upper"])).tolist()
    assert np.mean(held) > 0.9  # 95 % meant; the plug-in way holds some 85 %


@pytest.mark.parametrize(
    ("family", "link"), [(f, link) for f in FAMILIES for link in FAMILIES[f].links]
)
def test_every_family_and_link_has_both_intervals_about_its_mean(family, link):
    fit, _ = fitted(family, link, 40, np.random.default_rng(3))
    frame = fit.forecast({"x": [0.1, 0.5, 0.9], "m": [20] * 3}).frame
    for kind in ("mean", "new"):
        ends = frame[[f"{kind}_lower", "fitted", f"{kind}_upper"]].to_numpy()
        assert (np.diff(ends) > 0).all()
        assert np.isfinite(ends).all()


def test_counts_beyond_the_whole_doubles_have_ends():
    x = np.arange(8.0)
    fit = jn.fit({"x": x, "y": rng.poisson(np.exp(1 + 0.3 * x))}, "y given x", family="poisson")
    row = fit.forecast({"x": [150.0]}).frame.iloc[0]
    assert 1e9 < row["new_lower"] < row["fitted"] < row["new_upper"] < 1e25


def series(rng, n, ahead, log=False):
    """A response that follows itself at 0.6, the last rows of it kept back."""
    x, y = rng.normal(size=n + ahead), np.zeros(n + ahead)
    for t in range(1, n + ahead):
        y[t] = 1 + 0.6 * y[t - 1] + 0.8 * x[t] + rng.normal()
    if log:
        y = np.exp(y / 4)
    table = pd.DataFrame({"y": y, "x": x, "day": np.arange(n + ahead)})
    kept = table["y"].tail(ahead).to_numpy().copy()
    table.loc[n:, "y"] = np.nan
    return table, kept


def test_rows_that_follow_forecasts_are_run_ahead_step_by_step():
    table, _ = series(np.random.default_rng(1), 60, 5)
    fit = jn.fit(table, "y given lag(y, 1), x", order="day")
    b0, b1, b2 = fit.coefficients()["estimate"]
    found, before = fit.forecast().frame, table["y"][59]
    for row in range(60, 65):
        before = b0 + b1 * before + b2 * table["x"][row]
        assert found.loc[row, "fitted"] == pytest.approx(before, rel=1e-9)
    assert "4 rows rest on forecasts before them" in str(fit.forecast().notes)
    first = fit.forecast(table.loc[59:60]).frame.loc[60]  # nothing to run: the exact intervals
    assert found.loc[60].drop("note").tolist() == pytest.approx(
        first[found.columns.drop("note")].tolist()
    )
    s = fit.residual_sd  # two steps: the error of the first comes with the coefficient of the lag
    two = (found.loc[61, "new_upper"] - found.loc[61, "new_lower"]) / 4
    assert two == pytest.approx(s * np.sqrt(1 + b1**2), rel=0.12)
    assert (found["new_upper"] - found["new_lower"]).iloc[1:].min() > (
        found["mean_upper"] - found["mean_lower"]
    ).max()
    shuffled = table.sample(frac=1, random_state=3)
    again = jn.fit(shuffled, "y given lag(y, 1), x", order="day").forecast().frame.loc[found.index]
    assert again["fitted"].tolist() == pytest.approx(found["fitted"].tolist())
    given = fit.forecast(table.loc[59:]).frame.loc[60:]  # a new table with the last known row
    assert given["fitted"].tolist() == pytest.approx(found["fitted"].tolist())
    broken = table.assign(x=table["x"].where(table["day"] != 62))
    rest = jn.fit(broken, "y given lag(y, 1), x").forecast()["fitted"]
    assert rest.isna().tolist() == [False, False, True, True, True]
    plain = jn.fit(table, "y given lag(x, 1)").forecast()
    assert "rest on forecasts" not in str(plain.notes)


@pytest.mark.parametrize(
    ("sentence", "log", "options"),
    [
        ("y given lag(y, 1), x", False, {}),
        ("y given lag(y, 1), x", False, {"std_errors": "robust"}),
        ("log(y) given lag(log(y), 1), x", True, {}),
    ],
)
def test_step_ahead_intervals_hold_as_often_as_meant(sentence, log, options, monkeypatch):
    monkeypatch.setattr(ahead, "PATHS", 600)
    rng, times, held = np.random.default_rng(4), draws(120), 0.0
    for _ in range(times):
        table, kept = series(rng, 60, 4, log)
        found = jn.fit(table, sentence, **options).forecast().frame
        held += np.mean((found["new_lower"] <= kept) & (kept <= found["new_upper"]))
    assert abs(held / times - 0.95) < by_chance(0.95, times * 2)


def test_counts_run_ahead_and_groups_stay_apart():
    rng = np.random.default_rng(2)
    table = pd.DataFrame({"g": np.repeat(["a", "b"], 40), "c": rng.poisson(5, 80).astype(float)})
    table.loc[[38, 39, 78, 79], "c"] = np.nan
    fit = jn.fit(table, "c given log1p(lag(c, 1, by=g)), g", family="poisson")
    found = fit.forecast().frame
    assert found.index.tolist() == [38, 39, 78, 79]
    assert found[["fitted", "new_lower", "new_upper"]].notna().all().all()
    assert (found["new_lower"] % 1 == 0).all()
