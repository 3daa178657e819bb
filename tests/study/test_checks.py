"""Checks as a user meets them: what is planted is found, clean data stay clean, awkward fits are answered."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from benchmarks.alarms import Cell, measured
from benchmarks.checks import ALTERNATIVES, _plain, shares
from scipy import stats
from scipy.special import stdtrit

import joinery as jn
from joinery.study.check.rate import weighted_holm

FIRST = "honey_kg given forage_km2, altitude_m, feed_kg, rain_days, hive_type"


def verdicts(fit):
    """The gravest verdict of each question."""
    rank = {"serious": 2, "caution": 1}
    found = fit.checks().frame
    return {
        q: max(rows["verdict"], key=lambda v: rank.get(v, 0))
        for q, rows in found.groupby("question")
    }


def test_every_check_holds_its_size_and_has_power():
    size = shares(_plain, "y given x, z", 300, 5)
    for check, (share, on_page) in size.items():
        # 300 samples: 5 % give or take 1.3 %, three times that
        assert share < 0.05 + 0.04, check
        assert on_page <= share
    for check in ("curvature of", "Breusch–Pagan", "Durbin–Watson", "studentized residual"):
        assert shares(ALTERNATIVES[check][1], "y given x, z", 40, 6)[check][1] > 0.6, check


def test_a_page_cries_on_few_sound_tables():
    cells = [Cell(20, 3), Cell(200, 3), Cell(15, 2, predictor="skewed"), Cell(100, 2, "poisson"), Cell(60, 2, "of"), Cell(60, 2, "gamma")]  # fmt: skip
    each = 40
    shares = np.mean([measured(cell, each, seed=9)[:2] for cell in cells], axis=0)
    n = each * len(cells)
    for share, most in zip(shares, (0.05, 0.01), strict=True):
        assert share <= most + 3 * np.sqrt(most * (1 - most) / n)


def test_questions_share_the_rate_by_their_weights():
    p = {"straight line": 0.003, "normal residuals": 0.004, "order": 0.5}
    assert weighted_holm(p) == pytest.approx(
        {"straight line": 0.003 * 6 / 3, "order": 0.5, "normal residuals": 0.004 * 3 / 1}
    )


def test_chance_alone_passes_the_limit_of_cooks_distance_as_often_as_meant():
    from joinery.core.inference.influence import chance_limit

    r = np.random.default_rng(4)
    X = np.column_stack([np.ones(15), r.lognormal(0, 1, 15)])
    Q = np.linalg.qr(X)[0]
    h = (Q**2).sum(axis=1)
    e = r.normal(size=(20_000, 15))
    e -= e @ Q @ Q.T
    d = e**2 / (e**2).sum(axis=1)[:, None] * 13 * h / (1 - h) ** 2 / 2
    for share in (0.1, 0.02):
        passed = (d > chance_limit(h, 2, 13, share)).any(axis=1).mean()
        assert 0.6 * share < passed <= 1.15 * share
    known = e**2 * h / (1 - h) ** 2 / 2
    assert (known > chance_limit(h, 2, np.inf, 0.02)).any(axis=1).mean() == pytest.approx(
        0.02, abs=0.005
    )


def test_overdispersion_is_one_remark():
    r = np.random.default_rng(5)
    n = 300
    x = r.normal(size=n)
    y = r.poisson(np.exp(1.5 + 0.3 * x) * r.gamma(1.5, 1 / 1.5, n))
    fit = jn.fit({"x": x, "y": y}, "y given x", family="poisson")
    bad = fit.checks().frame.query("verdict in ('caution', 'serious')")
    assert (
        set(bad["question"]) == {"Is the spread as wide as the family says?"}
        or len(set(bad["question"])) == 1
    )
    assert not (fit.rows()["verdict"] == "serious").any()


def test_order_that_may_mean_nothing_is_told_without_a_verdict():
    fit = jn.fit("sample:hive_scale", "gain_kg given temperature_c, rain_mm")
    line = fit.checks().frame.query("question == 'Are neighbouring rows independent?'").iloc[0]
    assert line["p"] < 1e-6
    assert line["verdict"] == "fine"
    assert line["advice"].startswith("if the table's order means something, name it with order=")


def test_the_gravest_finding_about_the_model_stands_before_single_rows():
    r = np.random.default_rng(7)
    n = 60_000
    x = r.normal(size=n)
    page = str(jn.fit({"x": x, "y": x + r.lognormal(0, 1, n)}, "y given x"))
    first = page.split("Before you read on")[1].splitlines()[1]
    assert "residuals are not normal" in first


def test_what_cannot_be_judged_is_neither_fine_nor_green():
    from joinery.study.verdicts import worst

    assert worst(["", ""]) == ""
    fit = jn.fit({"x": [1.0, 2, 3], "y": [1.0, 2, 3]}, "y given x")
    assert set(fit.checks()["verdict"]) - {""} <= {"fine"}
    words = " ".join(t.get_text() for t in fit.draw("checks").texts)
    assert "● fine" not in words.replace("overlap", "")


@pytest.mark.parametrize(
    ("make", "question", "verdict", "advice"),
    [
        (lambda: jn.fit("sample:yields", FIRST, id="hive"), "Is any row badly fitted?", "caution", 'leave_out=["H089"]'),
        (lambda: jn.fit("sample:yields", f"{FIRST}, altitude_m^2", id="hive"), "Does any row decide the answer?", "serious", 'leave_out=["H058"]'),
        (lambda: jn.fit("sample:hive_scale", "gain_kg given temperature_c, rain_mm", order="day"), "Are neighbouring rows independent?", "serious", 'std_errors="autocorrelated"'),
        (lambda: jn.fit("sample:prices", "price given weight_g, source"), "Is the spread even?", "caution", 'response="log(price)"'),
        (lambda: jn.fit("sample:winter", "survived given stores_kg, hive_weight_kg"), "Do predictors overlap?", "serious", "drop="),
    ],
)  # fmt: skip
def test_planted_features_are_found(make, question, verdict, advice):
    found = make().checks().frame
    own = found[(found["question"] == question) & (found["verdict"] == verdict)]
    assert len(own) >= 1
    assert advice in " ".join(own["advice"])


def test_advice_can_be_given_to_revise():
    fit = jn.fit("sample:prices", "price given weight_g, source")
    assert 'add="weight_g^2"' in " ".join(fit.checks()["advice"])
    better = fit.revise(response="log(price)")
    assert verdicts(better)["Is the spread even?"] == "fine"
    assert (
        fit.revise(add="weight_g^2", std_errors="robust").sentence
        == "price given weight_g, source, weight_g^2"
    )


def test_a_bend_already_in_the_model_is_not_asked_for_again():
    rng = np.random.default_rng(1)
    x = rng.uniform(0, 10, 200)
    t = pd.DataFrame({"x": x, "y": x**2 + rng.normal(0, 3, 200)})
    assert verdicts(jn.fit(t, "y given x"))["Is each relation straight?"] == "serious"
    assert verdicts(jn.fit(t, "y given powers(x, 2)"))["Is each relation straight?"] == "fine"
    assert (
        verdicts(jn.fit(t, "y given powers(x, 2)")).get("Do predictors overlap?", "fine") == "fine"
    )


SMALL = pd.DataFrame(
    {
        "x": [1.0, 2, 3, 4, 5, 6],
        "g": list("aabbbc"),
        "w": [1, 2, 1, 2, 1, 3],
        "y": [1.0, 3, 2, 5, 4, 9],
    }
)


@pytest.mark.parametrize(
    ("table", "sentence", "options", "said"),
    [
        (SMALL.assign(y=2 * SMALL["x"]), "y given x", {}, "the fit is perfect"),
        (SMALL.iloc[:2], "y given x", {}, "the fit is perfect"),
        (SMALL, "y given g", {}, "alone speaks to a coefficient"),
        (SMALL, "y given x, g", {"weights": "w"}, "alone speaks to a coefficient"),
        (SMALL, "y given x without intercept", {}, ""),
        (SMALL, "y given nothing", {}, "no predictor for the spread to grow with"),
    ],
    ids=["perfect", "two rows", "level of one row", "weights", "no intercept", "intercept alone"],
)
def test_awkward_fits_are_answered(table, sentence, options, said):
    fit = jn.fit(table, sentence, **options)
    found = fit.checks()
    assert said in " ".join(found["advice"])
    assert set(found["verdict"]) <= {"fine", "caution", "serious", ""}
    for verdict, advice in zip(found["verdict"], found["advice"]):
        assert verdict or advice.startswith("cannot be computed: ")
    assert str(fit)


@pytest.mark.parametrize("options", [{}, {"weights": "w"}])
@pytest.mark.parametrize(
    ("sample", "sentence"),
    [
        ("jars", "jars_sold given hours_open"),
        ("prices", "price given weight_g, source"),
        ("winter", "survived given stores_kg, altitude_m"),
    ],
)
def test_dfbetas_are_what_leaving_the_row_out_does(sample, sentence, options):
    table = jn.sample_data(sample).assign(w=lambda t: 1 + np.arange(len(t)) % 3)
    fit = jn.fit(table, sentence, **options)
    found = fit.rows(dfbetas=True).frame
    full = fit.coefficients().frame
    for label in found.index[[0, 5, 11]]:
        without = jn.fit(table, sentence, leave_out=[label], **options)
        own = without.coefficients().frame
        scale = full["standard_error"] * without.residual_sd / fit.residual_sd
        change = (full["estimate"] - own["estimate"]) / scale
        assert found.loc[label, [f"dfbetas_{t.replace(': ', '_')}" for t in full["term"]]].to_numpy(
            float
        ) == pytest.approx(change.to_numpy(), rel=1e-8)


def test_rows_left_out_stand_as_they_would_be_forecast():
    fit = jn.fit("sample:jars", "jars_sold given hours_open", leave_out=[3])
    row = fit.rows().frame.loc[3]
    new = fit.forecast({"hours_open": [8.0]}, level=0.9).frame.iloc[0]
    error = (new["new_upper"] - new["fitted"]) / stdtrit(fit.residual_df, 0.95)
    assert row["fitted"] == pytest.approx(new["fitted"])
    assert row["studentized_residual"] == pytest.approx((45 - new["fitted"]) / error)
    assert (row["verdict"], row["reason"]) == ("", "left out: asked to be left out")


@pytest.mark.parametrize(
    "name",
    ["line", "observed_fitted", "residuals", "spread", "quantiles", "histogram", "sequence", "leverage", "influence",
     "added_variable", "component_residual", "checks"],
)  # fmt: skip
def test_every_picture_labels_the_same_row(name, tmp_path, honey):
    figure = honey.draw(name, path=tmp_path / "p.png")
    assert (tmp_path / "p.png").stat().st_size > 8000
    words = {t.get_text() for t in figure.findobj(lambda a: hasattr(a, "get_text"))}
    assert name == "histogram" or any("H058" in w for w in words)
    assert any(w.endswith("?") for w in words)
    many = jn.fit(
        pd.DataFrame({"x": np.arange(7000.0) % 83}).assign(y=lambda t: np.sin(t["x"])), "y given x"
    )
    assert many.draw(name)


def test_an_added_variable_picture_shows_the_coefficient(honey):
    figure = honey.draw("added_variable", term="feed_kg")
    points, line = figure.axes[0].collections[0].get_offsets(), figure.axes[0].lines[0].get_xydata()
    x, y = np.asarray(points).T
    slope = (x @ y) / (x @ x)
    b = honey.coefficients().frame.set_index("term").loc["feed_kg", "estimate"]
    assert slope == pytest.approx(b, rel=1e-8)
    assert np.diff(line[:, 1]) / np.diff(line[:, 0]) == pytest.approx(b, rel=1e-8)
    with pytest.raises(jn.CallError, match="did you mean 'feed_kg'"):
        honey.draw("added_variable", term="fed_kg")


@pytest.mark.parametrize("weights", [None, "queen_age"])
def test_remarkable_rows_are_those_that_all_figures_show(monkeypatch, honey, weights):
    from joinery.design import row_blocks
    from joinery.study.rows import digest, figures
    from joinery.study.rows.table import remarks

    monkeypatch.setattr(row_blocks, "BLOCK_ROWS", 8)  # several blocks, whose digests are joined
    fit = honey.revise(weights=weights)._fitted
    at, every = digest.limits(fit), figures.per_row(fit).influence
    assert at == figures.limits_at(fit, every.leverage)
    notable = (
        (every.cooks_distance >= at.cooks_distance)
        | (np.abs(every.studentized) >= at.large)
        | (every.leverage >= at.leverage)
    )
    assert sorted(r.place for r in remarks(fit)) == np.flatnonzero(notable).tolist()
    assert notable.sum() > 2
    worst = digest.digest(fit).largest
    assert worst.value == every.studentized[worst.place]
    assert abs(worst.value) == np.nanmax(np.abs(every.studentized))


@pytest.mark.parametrize(
    "sentence",
    ["y given x, g", "y given x, g without intercept", "(y > 0) given x, g", "y given x^2"],
)
@pytest.mark.parametrize("asides", [{}, {"weights": "w"}, {"repeats": "r"}])
def test_checks_do_not_depend_on_how_rows_are_cut_or_held(monkeypatch, sentence, asides):
    from joinery.design import row_blocks
    from joinery.study.rows import digest

    rng = np.random.default_rng(8)
    n = 6000
    table = pd.DataFrame({"x": rng.normal(size=n), "g": rng.choice(list("abc"), n)})
    table["y"] = table["x"] + rng.standard_t(3, n)
    table["w"], table["r"] = rng.uniform(0.5, 2, n), rng.integers(1, 4, n)
    first = jn.fit(table, sentence, **asides).checks().frame
    monkeypatch.setattr(row_blocks, "BLOCK_ROWS", 500)
    monkeypatch.setattr(digest, "HELD", 0)
    second = jn.fit(table, sentence, **asides).checks().frame
    assert first["verdict"].tolist() == second["verdict"].tolist()
    for name in ("statistic", "p"):
        there = ~first["check"].str.startswith("quantile residuals")  # drawn block by block
        assert first[name][there].to_numpy() == pytest.approx(
            second[name][there].to_numpy(), rel=1e-8, nan_ok=True
        )


def test_many_rows_far_off_are_counted_against_chance():
    rng = np.random.default_rng(4)
    e = np.where(rng.random(1000) < 0.1, 3.5, 1.0) * rng.normal(size=1000)
    fit = jn.fit({"x": rng.normal(size=1000), "y": e}, "y given x")
    line = fit.checks().frame.set_index("check").filter(like="by chance", axis=0).iloc[0]
    far = np.abs(fit.rows()["studentized_residual"]) > stats.t.ppf(0.995, 996)
    assert line["statistic"] == far.sum()
    assert line["p"] == pytest.approx(stats.binom.sf(far.sum() - 1, 1000, 0.01), rel=1e-6)
    assert line["verdict"] == "caution"


def test_a_row_among_the_worst_fitted_is_not_called_well_fitted():
    fit = jn.fit(
        jn.sample_data("yields"), "honey_kg given forage_km2, feed_kg, rain_days", id="hive"
    )
    assert fit.rows().frame.loc["H089", "reason"].startswith("among the worst fitted")
    assert "far out but well fitted: row H031" in " ".join(str(fit).split())
    assert "far out but well fitted, keep: H031" in fit.checks()["advice"].tolist()
    finding = fit.draw("leverage").findobj(lambda t: t.get_gid() == "finding")[0].get_text()
    assert "1 row far out but well fitted" in finding
