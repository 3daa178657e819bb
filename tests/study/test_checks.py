"""Checks as a user meets them: what is planted is found, clean data stay clean, awkward fits are answered."""

from __future__ import annotations

import warnings

import numpy as np
import pandas as pd
import pytest
from benchmarks.alarms import Cell, measured, table
from benchmarks.checks import ALTERNATIVES, _plain, shares
from benchmarks.faults import FAULTS, share_found
from matplotlib.text import Text
from scipy import stats
from scipy.special import stdtrit
from tests.draws import FULL, by_chance, draws

import joinery as jn
from joinery.core.inference import diagnostics
from joinery.core.inference.added import smallest_share
from joinery.hand_over.short_page import cautions
from joinery.study.check.check import Line
from joinery.study.check.order import order
from joinery.study.check.rate import SHARES, on_shares
from joinery.study.verdicts import GRAVE

FIRST = "honey_kg given forage_km2, altitude_m, feed_kg, rain_days, hive_type"


def verdicts(fit):
    """The gravest verdict of each question."""
    rank = {"serious": 4, "caution": 3, "slight": 2, "no sign": 1}
    found = fit.checks().frame
    return {
        q: max(rows["verdict"], key=lambda v: rank.get(v, 0))
        for q, rows in found.groupby("question")
    }


@pytest.mark.simulation
def test_every_check_holds_its_size_and_has_power():
    size = shares(_plain, "y given x, z", draws(300), 5)
    for check, (share, on_page) in size.items():
        assert share < 0.05 + by_chance(0.05, draws(300)), check
        assert on_page <= share
    for check in ("curvature of", "spread against", "Durbin–Watson", "studentized residual"):
        assert shares(ALTERNATIVES[check][1], "y given x, z", draws(80), 6)[check][1] > 0.5, check


@pytest.mark.simulation
def test_a_page_cries_on_few_sound_tables():
    cells = [Cell(20, 3), Cell(200, 3), Cell(15, 2, predictor="skewed"), Cell(100, 2, "poisson"), Cell(60, 2, "of"), Cell(60, 2, "gamma")]  # fmt: skip
    each = draws(40)
    pages = [measured(cell, each, seed=9) for cell in cells]
    n = each * len(cells)
    for name, most in (("some", 0.05), ("serious", 0.01), ("slight", 0.15)):
        assert np.mean([getattr(page, name) for page in pages]) <= most + by_chance(most, n), name


NOISY = [Cell(60, 3), Cell(60, 2, "poisson"), Cell(60, 2, "of"), Cell(60, 2, "gamma")]
LOWEST_P = 0.02  # of what there is no sign of


@pytest.mark.parametrize("made", [*FAULTS, *NOISY], ids=lambda made: getattr(made, "name", str(made)))  # fmt: skip
def test_there_is_no_sign_of_anything_whose_p_is_small(made):
    rng = np.random.default_rng(11)
    for _ in range(3 if FULL else 1):
        if isinstance(made, Cell):
            frame, sentence, options = table(made, rng)
        else:
            frame, sentence, options = made.made(60, rng), made.sentence, made.options
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", jn.JoineryWarning)
            lines = jn.fit(frame, sentence, **options).checks().frame
        assert lines.query("verdict == 'no sign'")["p"].min() >= LOWEST_P


def test_evidence_that_another_line_explains_is_not_judged_again():
    fit = jn.fit(jn.sample_data("bee_samples"), "mites per bees_sampled given month, treatment")
    lines = fit.checks().frame.set_index("question")
    assert (lines.loc["Is the family right?", "p"], lines.loc["Is the family right?", "verdict"]) == (pytest.approx(0.0056, abs=5e-5), "not judged")  # fmt: skip
    assert lines.loc["Is the spread what the family says?", "verdict"].tolist() == ["serious", "not judged"]  # fmt: skip
    # a move in standard errors that are too small by the same factor is no larger than chance
    assert "largest move" in lines.query("p == 1 and verdict == 'no sign'")["check"].iloc[0]


def test_the_shares_of_a_page_sum_to_less_than_its_rate():
    normal = {"even spread", "normal residuals"}
    others = {"spread", "link", "calibration", "family", "zeros"}
    for absent in (normal, others):
        assert sum(share for name, share in SHARES.items() if name not in absent) <= 0.035


@pytest.mark.parametrize(
    ("p", "size", "option", "verdict"),
    [
        ((0.03, 0.5), 1.0, "", "no sign"),
        ((0.006, 0.5), 1.0, "", "slight"),  # 0.012 by Holm
        ((0.003, 0.5), 1.0, "", "caution"),
        ((0.003, 0.5), 0.001, "", "slight"),
        ((0.0001, 0.5), 1.0, "", "serious"),
        ((0.0001, 0.5), 0.05, "", "caution"),
        ((0.0001, 0.5), 1.0, "robust errors", "allowed for"),
    ],
)
def test_a_verdict_follows_p_share_size_and_options(p, size, option, verdict):
    lines = [
        Line("k", "straight line", "?", "c", diagnostics.Test(1.0, each, (), size), small=0.01, large=0.1,
             allowed_by=option, advise=lambda: "do")
        for each in p
    ]  # fmt: skip
    first, second = on_shares(lines)
    assert (first.verdict, second.verdict) == (verdict, "no sign")
    assert first.test.p == pytest.approx(2 * p[0])
    assert first.advice == {"caution": "do", "serious": "do", "allowed for": option}.get(
        verdict, "nothing"
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
    zeros = "Are there as many zeros as expected?"  # they have a p of their own
    assert set(bad["question"]) - {zeros} == {"Is the spread what the family says?"}
    assert not (fit.rows()["verdict"] == "serious").any()


def test_order_that_may_mean_nothing_is_told_without_a_verdict():
    table = jn.sample_data("hive_scale").drop(columns="date")
    fit = jn.fit(table, "gain_kg given temperature_c, rain_mm")
    line = fit.checks().frame.query("question == 'Are neighbouring rows independent?'").iloc[0]
    assert line["p"] < 1e-6
    assert line["verdict"] == "not judged"
    assert line["advice"].startswith("name it: order=")


def test_the_gravest_finding_about_the_model_stands_before_single_rows():
    r = np.random.default_rng(7)
    n = 60_000
    x = r.normal(size=n)
    page = str(jn.fit({"x": x, "y": x + r.lognormal(0, 1, n)}, "y given x"))
    first = page.split("Before you read on")[1].splitlines()[1]
    assert "residuals are not normal" in first


def test_what_cannot_be_judged_is_neither_fine_nor_green():
    from joinery.study.verdicts import worst

    assert worst([]) == "not judged"
    fit = jn.fit({"x": [1.0, 2, 3], "y": [1.0, 2, 3]}, "y given x")
    assert set(fit.checks()["verdict"]) <= {"not judged", "no sign"}
    words = " ".join(t.get_text() for t in fit.draw("checks").texts)
    assert words.count("– not judged") >= 4


@pytest.mark.parametrize(
    ("make", "question", "verdict", "advice"),
    [
        (lambda: jn.fit("sample:yields", f"{FIRST}, feed_kg * rain_days, altitude_m^2", id="hive"), "Is any row badly fitted?", "serious", 'leave_out=["H089"]'),
        (lambda: jn.fit("sample:yields", f"{FIRST}, altitude_m^2", id="hive"), "Does any row decide the answer?", "serious", 'leave_out=["H058"]'),
        (lambda: jn.fit("sample:hive_scale", "gain_kg given temperature_c, rain_mm", order="day"), "Are neighbouring rows independent?", "serious", 'std_errors="autocorrelated"'),
        (lambda: jn.fit("sample:prices", "price given weight_g, source"), "Is the spread even?", "caution", 'response="log(price)"'),
        (lambda: jn.fit("sample:winter", "survived given stores_kg, hive_weight_kg"), "Do predictors overlap?", "serious", "claim("),
    ],
)  # fmt: skip
def test_planted_features_are_found(make, question, verdict, advice):
    found = make().checks().frame
    own = found[(found["question"] == question) & (found["verdict"] == verdict)]
    assert len(own) >= 1
    assert advice in " ".join(own["advice"])


def test_advice_can_be_given_to_revise():
    fit = jn.fit("sample:prices", "price given weight_g, source")
    assert "evens it out" in " ".join(fit.checks()["advice"])
    better = fit.revise(response="log(price)")
    assert verdicts(better)["Is the spread even?"] not in GRAVE
    assert (
        fit.revise(add="weight_g^2", std_errors="robust").sentence
        == "price given weight_g, source, weight_g^2"
    )


def test_a_bend_already_in_the_model_is_not_asked_for_again():
    rng = np.random.default_rng(1)
    x = rng.uniform(0, 10, 200)
    t = pd.DataFrame({"x": x, "y": x**2 + rng.normal(0, 3, 200)})
    assert verdicts(jn.fit(t, "y given x"))["Is each relation straight?"] == "serious"
    assert verdicts(jn.fit(t, "y given powers(x, 2)"))["Is each relation straight?"] == "no sign"
    assert "Do predictors overlap?" not in verdicts(jn.fit(t, "y given powers(x, 2)"))


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
        (SMALL, "y given g", {}, "is the only row at its level"),
        (SMALL, "y given x, g", {"weights": "w"}, "is the only row at its level"),
        (SMALL, "y given x without intercept", {}, ""),
        (SMALL, "y given nothing", {}, "no predictor for the spread to grow with"),
    ],
    ids=["perfect", "two rows", "level of one row", "weights", "no intercept", "intercept alone"],
)
def test_awkward_fits_are_answered(table, sentence, options, said):
    fit = jn.fit(table, sentence, **options)
    found = fit.checks()
    assert said in " ".join(found["advice"])
    assert set(found["verdict"]) <= {
        "no sign",
        "slight",
        "caution",
        "serious",
        "allowed for",
        "not judged",
    }
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


@pytest.mark.sampled(3)
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
    monkeypatch.setattr(digest, "DIGEST_ROWS", 0)
    second = jn.fit(table, sentence, **asides).checks().frame
    assert first["verdict"].tolist() == second["verdict"].tolist()
    for name in ("statistic", "p"):
        there = ~first["check"].str.contains("quantile residuals")  # drawn block by block
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
    assert "the line leans on it" in fit.rows().frame.loc["H031", "reason"]
    finding = fit.draw("leverage").findobj(lambda t: t.get_gid() == "finding")[0].get_text()
    assert "the line leans on 1 row far out" in finding


# ------------------------------------------------------------------ what is looked at


@pytest.mark.simulation
@pytest.mark.parametrize("fault", FAULTS, ids=lambda fault: fault.name)
def test_a_planted_fault_is_found_in_a_hundred_rows(fault):
    hard = ("both ends", "counts whose neighbours")  # of few tables, where four of five are meant
    least = 0.25 if any(words in fault.name for words in hard) else 0.5
    assert share_found(fault, 100, draws(8), seed=4) >= least


@pytest.mark.parametrize(
    ("chance", "df1", "df2"), [(0.0035, 1, 20), (0.0007, 2, 95), (0.007, 6, 300)]
)
def test_what_would_be_seen_is_found_four_times_of_five(chance, df1, df2):
    share = smallest_share(chance, df1, df2)
    noncentral = share / (1 - share) * (df1 + df2 + 1)
    limit = stats.f.isf(chance, df1, df2)
    assert stats.ncf.sf(limit, df1, df2, noncentral) == pytest.approx(0.8, abs=1e-5)


@pytest.mark.parametrize(
    ("model", "start", "added"),
    [
        ("y given x, z", "x × z", "x * z"),
        ("y given x, g", "x × g", "x * g"),
        ("y given x, z", "u added", "u"),
        ("y given x, z", "rows of one herd", "herd"),
        ("y given x, c", "c against a level", "category(c)"),
    ],
)
def test_a_group_of_columns_is_tested_as_if_it_were_fitted(model, start, added):
    r = np.random.default_rng(8)
    n = 90
    t = pd.DataFrame(
        {"x": r.normal(50, 3, n), "z": r.normal(size=n), "g": r.choice(list("abc"), n)}
    )
    t = t.assign(c=r.integers(1, 5, n).astype(float), herd=[f"h{i // 6}" for i in range(n)])
    table = t.assign(u=r.normal(size=n), y=t["x"] + r.normal(size=n))
    if start == "x × g":  # not its curve
        table["y"] = np.where(t["g"] == "a", 2, 1) * (t["x"] - 50) + r.normal(size=n)
    only = [
        name
        for name in table
        if name in (*"xzgcy", "herd", "u") and (name in model or name in added)
    ]
    fit = jn.fit(table[only], model)
    line = fit.checks().frame.query("check.str.startswith(@start)").iloc[0]
    drop = "c" if added == "category(c)" else None
    wider = jn.fit(table[only], model.replace(f", {drop}", "") + f", {added}")
    f = jn.compare(fit, wider)["statistic"].iloc[-1] if drop is None else None
    if drop:
        rss = [one.deviance for one in (fit, wider)]
        f = (rss[0] - rss[1]) / (fit.residual_df - wider.residual_df) / (rss[1] / wider.residual_df)
    assert line["statistic"] == pytest.approx(f, rel=1e-8)


def test_shapes_are_judged_without_a_row_that_is_their_cause():
    r = np.random.default_rng(3)
    x = r.uniform(0, 10, 80)
    table = pd.DataFrame({"x": x, "y": x + r.normal(size=80)})
    clean = jn.fit(table, "y given x").checks().frame
    table.loc[80] = [60.0, 5.0]
    fit = jn.fit(table, "y given x")
    checks = fit.checks().frame
    shapes = checks[checks["check"].str.endswith(", without row 80")]
    assert len(shapes) >= 4
    for check, statistic, p in zip(shapes["check"], shapes["statistic"], shapes["p"]):
        alone = clean[clean["check"] == check.removesuffix(", without row 80")].iloc[0]
        assert (statistic, p) == (pytest.approx(alone["statistic"]), pytest.approx(alone["p"]))
    first = str(fit).split("Before you read on")[1].splitlines()[1]
    assert "x is 60 in row 80" in first or "row 80 decides" in first


def test_facts_of_the_data_stand_on_the_page():
    r = np.random.default_rng(6)
    x = r.normal(20, 2, 60)
    table = pd.DataFrame(
        {"x": x, "y": x + r.normal(size=60), "g": r.choice(["alder", "birch"], 60)}
    )
    table.loc[[3, 9], "x"] = -99
    table.loc[5, "g"] = "aldar"
    table = pd.concat([table, table.iloc[[20, 21]]], ignore_index=True)
    page = " ".join(str(jn.fit(table, "y given x, g")).split())
    for words in (
        "x is −99 in 2 rows",
        "'aldar' (1 row) is one letter from 'alder'",
        "2 rows repeat",
    ):
        assert words in page
    lost = table.assign(x=table["x"].mask(table["y"] > table["y"].quantile(0.6)))
    assert "left out for empty cells; y is" in " ".join(str(jn.fit(lost, "y given x")).split())


def test_equal_rows_are_told_where_chance_would_hardly_make_them():
    assert "repeats" not in str(jn.fit("sample:jars", "jars_sold given hours_open"))
    r = np.random.default_rng(2)
    x = r.normal(20, 2, 40)
    y = x + r.normal(size=40)
    for digits, told in ((0, False), (6, True)):
        table = pd.DataFrame({"x": x.round(digits), "y": y.round(digits)})
        table = pd.concat([table, table.iloc[[7]]], ignore_index=True)
        assert (
            "repeats an earlier row" in " ".join(str(jn.fit(table, "y given x")).split())
        ) == told


def test_an_order_that_the_table_has_is_named_and_a_sorted_response_has_none():
    r = np.random.default_rng(5)
    t = pd.DataFrame(
        {"year": np.arange(1960, 2020), "x": r.normal(size=60), "y": r.normal(size=60)}
    )
    line = "Durbin–Watson (neighbours"

    def named(table):
        checks = jn.fit(table, "y given x").checks().frame
        return checks[checks["check"].str.startswith(line)].iloc[0]

    assert named(t)["check"].endswith("in the order of year")
    assert named(t.sample(frac=1, random_state=1))["verdict"] == "not judged"
    assert named(t.assign(y=np.sort(t["y"])))["verdict"] == "not judged"
    panel = pd.concat([t.assign(hive="a"), t.assign(hive="b")]).sort_values(["year", "hive"])
    assert named(panel)["check"].endswith("in the order of year inside each hive")


def test_a_product_left_out_comes_before_the_curve_that_it_makes():
    rng = np.random.default_rng(1)
    table = pd.DataFrame({"x": rng.normal(size=100), "g": rng.choice(["a", "b"], 100)})
    table["y"] = np.where(table["g"] == "a", 1, -1) * table["x"] + rng.normal(size=100)
    found = jn.fit(table, "y given x, g").checks().frame
    grave = found[found["verdict"].isin(["caution", "serious"])]
    curve = grave[grave["check"].str.startswith("curvature across fitted")]
    assert (curve["advice"] == 'first fit.revise(add="x * g"), which may answer this too').all()
    assert len(curve) == 1
    assert 'add it: fit.revise(add="x * g")' in grave["advice"].tolist()


def in_order_of_days(n, seed, **columns):
    r = np.random.default_rng(seed)
    days = pd.date_range("2024-01-01", periods=n, freq="3D")
    table = pd.DataFrame({"day": days, "x": r.normal(size=n), "z": r.normal(size=n)})
    for name, make in ({"y": lambda t, r: r.normal(size=n)} | columns).items():
        table[name] = make(table, r)
    return table


@pytest.mark.parametrize("herds", [None, 3])
def test_a_predictor_of_the_row_before_is_tested_as_a_column_added(herds):
    table = in_order_of_days(
        60, 4, y=lambda t, r: t["x"].shift(1, fill_value=0) + r.normal(size=60)
    )
    before = table["x"].sub(table["x"].mean()).shift(1)
    if herds:
        table["herd"] = np.repeat([f"h{i}" for i in range(herds)], 60 // herds)
        table["day"] = np.tile(table["day"][: 60 // herds], herds)
        before[~table["herd"].duplicated()] = 0
    X = np.column_stack([np.ones(60), table["x"], table["z"]])
    more = np.column_stack([X, before.fillna(0)])
    rss = [np.linalg.lstsq(M, table["y"], rcond=None)[1][0] for M in (X, more)]
    fit = jn.fit(table, "y given x, z")
    found = fit.checks().frame.set_index("check")
    line = found.loc["x of the row before added (F, Holm over 2 numbers)"]
    assert line["statistic"] == pytest.approx((rss[0] - rss[1]) / (rss[1] / 56), rel=1e-9)
    added = eval(line["advice"].removeprefix("add it: "), {"fit": fit})
    assert added.n_rows == 60 - (herds or 1)


def test_series_that_wander_are_answered_with_their_steps():
    walk = {"x": lambda t, r: r.normal(size=100).cumsum()}
    table = in_order_of_days(100, 5, **walk, y=walk["x"])
    fit = jn.fit(table, "y given x, z")
    found = fit.checks().frame
    line = found[found["check"].str.startswith("Durbin–Watson")].iloc[0]
    page = " ".join(str(fit).replace("checks\n", "").split())
    assert "series that wander like these are correlated by chance" in page
    call = line["advice"].removeprefix("take steps from row to row instead: ")
    steps = eval(call, {"fit": fit})
    assert steps.sentence == "(y - lag(y, 1)) given (x - lag(x, 1)), (z - lag(z, 1))"
    assert verdicts(steps)["Are neighbouring rows independent?"] == "no sign"
    assert steps.coefficients().frame.set_index("term").loc["(x - lag(x, 1))", "p"] > 0.05


@pytest.mark.simulation
@pytest.mark.parametrize("sentence", ["y of 5 given x, z", "y given x, z"])
def test_neighbours_under_other_families_hold_their_size(sentence):
    times, small = draws(150), 0
    for seed in range(times):
        table = in_order_of_days(40, seed, y=lambda t, r: r.binomial(5, 1 / (1 + np.exp(-t["x"]))))
        table["5"] = 5
        fit = jn.fit(table, sentence, family="binomial" if " of " in sentence else "poisson")
        p = {line.kind: line.test.p for line in order(fit._fitted)}["durbin-watson"]
        small += p < 0.05
    assert small / times < 0.05 + by_chance(0.05, times)


def test_cells_in_another_unit_are_told_by_row():
    r = np.random.default_rng(1)
    table = pd.DataFrame({"x": r.normal(50, 8, 40), "y": r.normal(size=40)}, index=range(1, 41))
    table.loc[[7, 21, 30], "x"] *= 1000
    words = "3 cells of x (7, 21, 30), about 1,000 times the others: another unit?"
    for page in (jn.fit(table, "y given x"), jn.look(table)):
        assert words in " ".join(str(page).replace("checks", "").split())
    for apart in (1.0, -1.0):  # one alone is a slip, and columns of both signs have no unit gap
        table = table.assign(x=r.normal(50, 8, 40) * apart)
        assert "another unit" not in str(jn.look(table))


def test_a_column_made_of_the_response_is_not_advised_as_a_predictor():
    rng = np.random.default_rng(3)
    x = rng.normal(size=60)
    y = x + rng.normal(size=60)
    table = {"x": x, "y": y, "euros": np.round(7.5 * y, 3)}
    checks = jn.fit(table, "y given x").checks().frame.set_index("check")
    line = checks.loc["euros added (F, Holm over 1 unused column)"]
    assert line["advice"].startswith("if it is computed from y, it is no predictor; else add it")


@pytest.mark.parametrize(("label", "said"), [("own", True), ("shared", False)])
def test_rows_that_are_there_twice_are_told_by_their_labels(label, said):
    rng = np.random.default_rng(2)
    table = pd.DataFrame({"who": [f"R{i}" for i in range(40)], "x": rng.integers(0, 3, 40)})
    table["y"] = table["x"] + rng.integers(0, 3, 40)
    if label == "shared":
        table["who"] = [f"R{i // 2}" for i in range(40)]
    table = pd.concat([table, table.iloc[5:8]], ignore_index=True)
    page = " ".join(str(jn.fit(table, "y given x")).split())
    assert ("3 rows repeat an earlier row exactly (40, 41, 42)" in page) == said


def test_rows_with_the_labels_of_others_are_not_advised_to_be_left_out_by_them():
    rng = np.random.default_rng(2)
    table = pd.DataFrame({"who": [f"R{i}" for i in range(40)], "x": rng.normal(size=40)})
    table["y"] = table["x"] + rng.normal(size=40)
    table = pd.concat([table, table.iloc[5:8]], ignore_index=True)
    for id, advice in ((None, "leave_out=['40', '41', '42']"), ("who", "out of the table")):
        checks = jn.fit(table, "y given x", id=id).checks().frame
        (line,) = checks.loc[checks["check"].str.contains("repeat"), "advice"]
        assert advice in line.replace('"', "'")


@pytest.mark.parametrize(
    ("low", "high", "sd", "told"), [(0.02, 0.84, 0.005, False), (0.02, 0.84, 0.1, True),
                                    (1e-6, 3e-6, 1e-7, False), (0.3, 0.7, 0.05, False)],
)  # fmt: skip
def test_shares_are_told_where_forecasts_of_a_line_leave_them(low, high, sd, told):
    rng = np.random.default_rng(5)
    x = np.linspace(0, 1, 60)
    y = np.clip(low + (high - low) * x + rng.normal(0, sd, 60), 0, 1)
    page = " ".join(str(jn.fit({"x": x, "y": y}, "y given x")).split())
    assert ("lies between 0 and 1, which forecasts of this fit leave" in page) == told


def test_a_running_number_of_the_rows_is_no_column_left_out():
    rng = np.random.default_rng(3)
    table = {"x": rng.normal(size=60), "number": np.arange(60) + 7}
    table["y"] = table["x"] + 0.1 * table["number"] + rng.normal(size=60)
    assert not jn.fit(table, "y given x").checks().frame["check"].str.contains("number added").any()
    table["number"] = rng.permutation(table["number"] ** 1.5)
    checks = jn.fit(table, "y given x").checks().frame
    assert checks["check"].str.contains("number added").any()


def test_a_strip_with_something_to_do_does_not_say_nothing_too(honey):
    texts = [text.get_text() for text in honey.draw("checks").findobj(Text)]
    advice = [" ".join(text.split()) for text in texts if "leave_out" in text]
    assert advice
    assert not [text for text in advice if "nothing" in text]


@pytest.mark.parametrize("n", [400, 60_000])
def test_many_cells_in_another_unit_are_told_of_tables_of_any_length(n):
    rng = np.random.default_rng(0)
    x = rng.normal(10, 0.5, n)
    y = x + rng.normal(size=n)
    x[rng.random(n) < 0.05] *= 1000  # they make the spread so wide that no cell lies far out in it
    lines = jn.fit({"x": x, "y": y}, "y given x").checks().frame
    assert lines["check"].str.contains("about 1,000 times the others: another unit?").any()


def test_a_cell_far_off_is_told_in_any_of_hundreds_of_columns():
    rng = np.random.default_rng(2)
    table = (
        pd.DataFrame(rng.normal(size=(2_500, 150))).add_prefix("x").assign(y=rng.normal(size=2_500))
    )
    table.loc[7, "x140"] = 60.0
    lines = jn.fit(table, "y given all").checks().frame
    assert lines["check"].str.contains("x140 is 60 in row 7").any()


def test_serious_lines_about_a_fit_stand_before_its_cautions():
    rng = np.random.default_rng(4)
    x = rng.normal(size=40)
    g = np.where(np.arange(40) == 5, "rare", np.where(np.arange(40) % 2, "a", "b"))
    table = {"x": x, "z": x + 0.05 * rng.normal(size=40), "g": g, "y": x + rng.normal(size=40)}
    lines = [
        c
        for c in cautions(jn.fit(table, "y given x, z, g")._fitted)
        if c.verdict in GRAVE and c.call
    ]
    assert {line.call for line in lines} == {"checks", "rows"}
    verdicts = [line.verdict for line in lines]
    assert verdicts == sorted(verdicts, key=GRAVE.index)
    assert set(verdicts) == set(GRAVE)
