"""Made-up data: what is drawn has the truth put in, and rehearsals say what fits are worth."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from scipy import stats

import joinery as jn
from joinery.rehearsal import rehearse as study
from joinery.rehearsal import simulate as doors
from joinery.rehearsal.process import error_terms

PREDICTORS = {"x": "uniform(0, 3)", "g": "levels(a, b, c)"}
TRUTH = {"intercept": 1.0, "x": 0.5, "g: b": 0.4, "g: c": -0.3}


@pytest.mark.parametrize(
    ("model", "options"),
    [
        ("y given x, g", {"residual_sd": 0.3}),
        ("log(y) given x, g", {"residual_sd": 0.3}),
        ("sqrt(y) given x, g", {"residual_sd": 0.05}),
        ("n given x, g", {"family": "poisson"}),
        ("n per e given x, g", {}),
        ("n given x, g", {"family": "negative-binomial", "shape": 4.0}),
        ("y given x, g", {"family": "gamma", "link": "log", "dispersion": 0.1}),
        ("y given x, g", {"family": "inverse-gaussian", "link": "log", "dispersion": 0.05}),
        ("s of m given x, g", {"totals": 20}),
        ("s of m given x, g", {"totals": "whole(5, 30)", "link": "probit"}),
        ("(z = 'yes please') given x, g", {}),
        ("z given x, g", {"family": "binomial"}),
        ("y given x, g", {"link": "log", "residual_sd": 0.2}),
    ],
)
def test_a_fit_finds_the_truth_that_was_put_in(model, options):
    table = jn.simulate(model, TRUTH, 4000, predictors=PREDICTORS, seed=5, **options)
    fitting = {k: v for k, v in options.items() if k in ("family", "link")}
    frame = jn.fit(table, model, **fitting).coefficients().frame.set_index("term")
    truth = pd.Series(TRUTH)
    assert ((frame["estimate"] - truth).abs() < 4.2 * frame["standard_error"]).all()
    again = jn.simulate(model, TRUTH, 4000, predictors=PREDICTORS, seed=5, **options)
    pd.testing.assert_frame_equal(table, again)


def test_products_curves_and_names_are_as_tables_name_them():
    text = 'intercept=2, x * z=0.5, "x^2"=1, g: b=3'
    table = jn.simulate("y given x, z, x * z, x^2, g", text, 50, predictors={"g": "levels(a, b)"},
                        residual_sd=1e-9, seed=1)  # fmt: skip
    y = 2 + 0.5 * table["x"] * table["z"] + table["x"] ** 2 + 3 * (table["g"] == "b")
    assert table["y"].tolist() == pytest.approx(y.tolist(), abs=1e-7)
    curve = jn.simulate(
        "y given spline(x, columns=2)", {"spline(x, columns=2): piece 1": 4.0}, 30, seed=1
    )
    assert list(curve) == ["y", "x"]


def test_predictors_come_from_tables_values_and_recipes():
    given = pd.DataFrame({"x": [1.0, 2.0], "g": ["a", "b"]})
    drawn = jn.simulate("y given x, g", {}, 30, predictors=given, seed=1)
    assert set(zip(drawn["x"], drawn["g"])) == {(1.0, "a"), (2.0, "b")}
    own = jn.simulate("y given x", {}, 3, predictors={"x": [5, 6, 7]}, seed=1)
    assert own["x"].tolist() == [5, 6, 7]
    whole = jn.simulate("y given x", {}, 200, predictors={"x": "whole(1, 7)"}, seed=1)
    assert set(whole["x"]) == set(range(1, 8))


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"coefficients": {"intercpt": 1}}, "did you mean 'intercept'"),
        ({"coefficients": {"x": "one"}}, "is not a number"),
        ({"coefficients": "x"}, "not a coefficient with its value"),
        ({"rows": 0}, "rows=0"),
        ({"predictors": {"x": "gauss(0, 1)"}}, "not a recipe for x"),
        ({"predictors": {"x": "normal(0)"}}, "needs two numbers"),
        ({"predictors": {"x": "levels(a)"}}, "no two levels"),
        ({"predictors": {"x": [1, 2]}}, "2 values for 20 rows"),
        ({"predictors": {"zz": "normal(0, 1)"}}, "no column 'zz'"),
        ({"predictors": pd.DataFrame({"q": [1]})}, "no column 'x'"),
        ({"model": "s of m given x"}, "how many m"),
        ({"model": "y given all"}, "name the terms"),
        ({"family": "negative-binomial"}, "needs its shape"),
        ({"dispersion": 2.0}, "gamma and inverse-gaussian"),
        ({"family": "gamma", "link": "identity", "coefficients": {"x": 9}}, "cannot have"),
        ({"model": "(y > 3) given x"}, "a column = 'a text'"),
        ({"errors": "skew", "times": 5}, "skewed"),
        ({"errors": "skewed", "family": "poisson", "times": 5}, "normal family"),
        ({"times": 1}, "from two to 10,000,000 times"),
        ({"rows": 2, "times": 5}, "cannot determine 2 coefficients"),
    ],
)  # fmt: skip
def test_what_cannot_be_simulated_is_said(change, said):
    given = {"model": "y given x", "coefficients": {"x": 1}, "rows": 20} | change
    call = jn.rehearse if "times" in change else jn.simulate
    with pytest.raises(jn.JoineryError, match=said):
        call(**given)


# ------------------------------------------------------------------ rehearsals


def process_of(rows=15):
    rng = np.random.default_rng(3)
    options = {"predictors": PREDICTORS, "residual_sd": 0.7, "family": None, "link": None}
    options |= {"dispersion": None, "shape": None, "totals": None}
    return doors._process("y given x, g", TRUTH, rows, rng, **options), rng


def test_the_factor_gives_what_fits_one_by_one_give():
    made, rng = process_of()
    Y = made.draw(rng, 20)
    quick = study.by_factor(made, Y, 0.9)
    slow = study.one_by_one(made, Y, doors._fitter(made, 0.9, "constant spread"), 0.9, print)
    for name in ("estimates", "standard_errors", "lower", "upper", "p"):
        assert getattr(quick, name) == pytest.approx(getattr(slow, name), rel=1e-9, abs=1e-11)


def test_rehearsals_agree_with_theory():
    truth, n, sd = {"intercept": 3, "x": 0.25}, 30, 1.0
    x = np.linspace(-2, 2, n)
    many = jn.rehearse(
        "y given x", truth, n, times=4000, predictors={"x": x}, residual_sd=sd, seed=2
    )
    frame = many.coefficients.frame.set_index("term")
    se = sd / np.sqrt(((x - x.mean()) ** 2).sum())
    assert frame.loc["x", "sd_of_estimates"] == pytest.approx(se, rel=0.05)
    assert frame.loc["x", "mean_estimate"] == pytest.approx(0.25, abs=4 * se / np.sqrt(4000))
    assert frame["coverage"].to_numpy() == pytest.approx([0.95, 0.95], abs=0.014)
    critical, away = stats.t.ppf(0.975, n - 2), 0.25 / se
    power = stats.nct.sf(critical, n - 2, away) + stats.nct.cdf(-critical, n - 2, away)
    assert frame.loc["x", "power"] == pytest.approx(power, abs=0.03)
    assert many.estimates.shape == (4000, 2)
    assert many.estimates.std()["x"] == pytest.approx(frame.loc["x", "sd_of_estimates"])
    assert len(many.draw("estimates").axes) == 4


def test_broken_assumptions_show_and_robust_errors_mend_them():
    x = {"x": np.linspace(0, 1, 60)}
    held = {}
    for errors in ("normal", "skewed", "uneven", "alike"):
        found = jn.rehearse(
            "y given x", {"x": 1}, 60, times=800, predictors=x, errors=errors, seed=3
        )
        held[errors] = found.coefficients["coverage"][1]
    assert held["alike"] < 0.8 < held["uneven"] < 0.93 < held["normal"]
    assert held["skewed"] > 0.92
    robust = jn.rehearse("y given x", {"x": 1}, 60, times=200, predictors=x, errors="uneven",
                         std_errors="robust", seed=3)  # fmt: skip
    assert robust.coefficients["coverage"][1] > 0.92


@pytest.mark.parametrize("kind", ["normal", "skewed", "uneven", "alike"])
def test_errors_of_every_kind_have_mean_nought_and_mean_square_one(kind):
    e = error_terms(kind, np.random.default_rng(1), np.linspace(0, 5, 40), 20_000)
    assert e.mean() == pytest.approx(0, abs=0.01)
    assert (e**2).mean() == pytest.approx(1, abs=0.02)
    if kind == "uneven":
        assert e[-1].std() / e[0].std() == pytest.approx(10, rel=0.05)
    if kind == "alike":
        assert np.corrcoef(e[3], e[4])[0, 1] == pytest.approx(0.6, abs=0.02)


def test_several_numbers_of_rows_stand_under_one_another():
    found = jn.rehearse("y given x", {"x": 0.5}, [10, 40], times=200, seed=4).coefficients
    assert found["rows"].tolist() == [10, 10, 40, 40]
    assert found["power"][1] < found["power"][3]


def test_draws_that_cannot_be_fitted_are_counted():
    found = jn.rehearse(
        "z given x", {"intercept": 4, "x": 3}, 8, times=30, family="binomial", seed=5
    )
    assert "could not be fitted" in " ".join(found.coefficients.notes)


# ------------------------------------------------------------------ from a fit


@pytest.mark.parametrize(
    ("model", "options"),
    [
        ("honey_kg given forage_km2", {}),
        ("honey_kg given forage_km2", {"weights": "queen_age"}),
        ("honey_kg given forage_km2", {"family": "gamma", "link": "log"}),
        ("rain_days given forage_km2", {"family": "poisson"}),
        ("swarmed given queen_age", {}),
    ],
)
def test_copies_have_the_fitted_mean_and_spread(model, options):
    fit = jn.fit("sample:yields", model, id="hive", **options)
    copies = fit.simulate(4000, seed=1)
    mean = fit.rows()["fitted"].loc[copies.index]
    weights = jn.sample_data("yields").set_index("hive").loc[copies.index, "queen_age"]
    w = weights if "weights" in options else 1.0
    variance = {
        "normal": 0 * mean + 1,
        "gamma": mean**2,
        "poisson": mean,
        "binomial": mean * (1 - mean),
    }
    spread = (
        variance[fit.family]
        * (fit.dispersion if fit.family != "normal" else fit.residual_sd**2)
        / w
    )
    assert ((copies.mean(axis=1) - mean).abs() < 5 * np.sqrt(spread / 4000)).all()
    assert (copies.var(axis=1) / spread).mean() == pytest.approx(1, abs=0.05)
    pd.testing.assert_frame_equal(copies, fit.simulate(4000, seed=1))


def test_estimated_dispersion_has_no_distribution_to_draw_from():
    fit = jn.fit("sample:bee_samples", "mites per bees_sampled given month", dispersion="estimated")
    with pytest.raises(jn.CallError, match="no distribution"):
        fit.simulate()


# ------------------------------------------------------------------ commands


def test_the_commands_draw_and_rehearse(joinery, tmp_path):
    asked = ["y given x, g", "--coefficients", 'intercept=1, "g: b"=2', "--rows", 8, "--seed", 1]
    asked += ["--predictors", "g=levels(a, b)"]
    status, out, err = joinery("simulate", *asked)
    table = jn.simulate("y given x, g", {"intercept": 1, "g: b": 2}, 8,
                        predictors={"g": "levels(a, b)"}, seed=1)  # fmt: skip
    assert (status, out, err) == (0, table.to_csv(index=False), "")
    file = tmp_path / "made.csv"
    assert joinery("simulate", *asked, "--output", file)[0] == 0
    assert joinery("fit", file, "y given x, g")[0] == 0
    status, out, err = joinery(
        "rehearse", "y given x", "--coefficients", "x=1", "--rows", "10, 20", "--times", 50,
        "--seed", 1, "--as", "csv", "--draw", tmp_path / "e.png",
    )  # fmt: skip
    known = jn.rehearse("y given x", {"x": 1}, [10, 20], times=50, seed=1)
    assert (status, out) == (0, known.coefficients.render("csv"))
    assert (tmp_path / "e.png").exists()


def test_a_plan_says_what_it_assumed_and_gives_power_and_width_against_rows(tmp_path, joinery):
    recipes = {"x": "normal(0, 2)", "g": "levels(a, b)"}
    study = jn.rehearse(
        "y given x, g, z",
        {"x": 0.5},
        [12, 40, 120],
        predictors=recipes,
        residual_sd=2.5,
        times=300,
        seed=2,
    )
    (assumed,) = (note for note in study.coefficients.notes if note.startswith("assumed"))
    for part in ("residual SD 2.5", "x normal(0, 2)", "g levels(a, b)", "z normal(0, 1)"):
        assert part in assumed
    lines = study.coefficients.frame.query("term == 'x'")
    assert lines["power"].is_monotonic_increasing
    assert lines["interval_width"].is_monotonic_decreasing
    half = lines["interval_width"] / 2  # of a t interval: so many standard errors on average
    times = half / lines["mean_standard_error"]
    assert times.tolist() == pytest.approx(
        [float(stats.t.ppf(0.975, n - 4)) for n in (12, 40, 120)], rel=1e-9
    )
    figure = study.draw("power", path=tmp_path / "power.png")
    power = figure.axes[0].lines[1]
    assert power.get_ydata().tolist() == lines["power"].tolist()
    with pytest.raises(jn.CallError, match="give several"):
        jn.rehearse("y given x", {"x": 1}, 20, times=50, seed=1).draw("power")
    given = (
        "rehearse",
        "y given x",
        "--coefficients",
        "x=1",
        "--rows",
        "10, 20",
        "--times",
        "50",
        "--seed",
        "1",
    )
    status, out, said = joinery(*given, "--draw", str(tmp_path / "plan.png"), "--picture", "power")
    assert (status, (tmp_path / "plan.png").exists(), "assumed" in out) == (0, True, True), said
