"""Which value gives a response: against the band that forecasts draw, Fieller's formula, and by simulation."""

from __future__ import annotations

import re
import warnings

import matplotlib.pyplot as plt
import numpy as np
import pandas as pd
import pytest
from scipy import stats
from tests.draws import by_chance, draws

import joinery as jn
from joinery.core.glm.families import FAMILIES

RNG = np.random.default_rng(8)
N = 40
X = np.linspace(1, 9, N)
TABLE = pd.DataFrame({"x": X, "z": RNG.uniform(0, 4, N), "g": RNG.choice(list("ab"), N)})
TABLE = TABLE.assign(
    w=RNG.choice([1.0, 2.0], N),
    y=3 + 2 * X + 0.3 * TABLE["z"] + RNG.normal(0, 0.5, N),
    curve=2 + X + 0.15 * X**2 + RNG.normal(0, 0.3, N),
    m=20,
    s=RNG.binomial(20, stats.norm.cdf((X - 5) / 3)),
    c=RNG.poisson(np.exp(1.0 + 0.25 * X)),
    waste=RNG.gamma(20, np.exp(0.2 * X) / 20, N),
)
CASES = [
    ("y given x, z, g", {}, 12.0),
    ("y given x, z", {"std_errors": "robust"}, 12.0),
    ("y given x * g, g", {"std_errors": "hc3", "level": 0.8}, 12.0),
    ("curve given x, x^2", {}, 9.0),
    ("curve given spline(x, columns=3), z", {}, 9.0),
    ("log(curve) given log(x)", {}, 9.0),
    ("sqrt(y) given x, z", {}, 12.0),
    ("y given x", {"family": "normal", "link": "log"}, 12.0),
    ("waste given x", {"family": "gamma", "link": "log"}, 3.0),
    ("c given x, g", {"family": "poisson"}, 9.0),
    ("c given x", {"family": "negative-binomial"}, 9.0),
    *[("s of m given x", {"link": link}, 0.5) for link in FAMILIES["binomial"].links[:4]],
]  # fmt: skip


def fitted(case):
    model, options, _ = case
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", jn.JoineryWarning)
        return jn.fit(TABLE, model, **options)


@pytest.mark.sampled(4)
@pytest.mark.parametrize("case", CASES, ids=lambda c: f"{c[0]} {c[1]}")
@pytest.mark.parametrize("interval", ["new", "mean"])
def test_at_the_ends_the_band_passes_the_response(case, interval, tmp_path):
    fit, at = fitted(case), case[2]
    table = fit.inverse("x", at, interval=interval).frame
    assert len(table) == 1
    value, lower, upper = table.loc[0, ["value", "lower", "upper"]]
    assert lower < value < upper
    share = 20.0 if "of m" in case[0] else 1.0
    new = pd.DataFrame({"x": [value, lower, upper]} | ({"m": 20} if share > 1 else {}))
    bands = fit.forecast(new, hold="average").frame
    middle = "median" if fit._fitted.response.transformed else "mean"
    own = interval == "new" and share == 1
    ends = [f"{'new' if own else middle}_{end}" for end in ("lower", "upper")]
    assert bands["fitted"].iloc[0] / share == pytest.approx(at, rel=1e-8)
    if not (own and fit.family in ("poisson", "negative-binomial")):
        assert bands[ends[1]].iloc[1] / share == pytest.approx(at, rel=1e-6)
        assert bands[ends[0]].iloc[2] / share == pytest.approx(at, rel=1e-6)
    else:  # whole numbers: the band steps over the response there
        outer = fit.forecast({"x": [lower - 1e-6, lower + 1e-6]}, hold="average")["new_upper"]
        assert outer.iloc[0] < at <= outer.iloc[1]
    loaded = jn.load(fit.save(tmp_path / "fit.json")).inverse("x", at, interval=interval)
    assert loaded == fit.inverse("x", at, interval=interval)


@pytest.mark.parametrize("readings", [1, 4])
def test_of_a_line_the_ends_are_fiellers(readings):
    fit = jn.fit(TABLE, "y given x")
    b0, b1 = fit.coefficients()["estimate"]
    s, t = fit.residual_sd, stats.t.ppf(0.975, N - 2)
    mean, sxx, y = X.mean(), ((X - X.mean()) ** 2).sum(), 12.0
    g = (t * s / b1) ** 2 / sxx
    d = (y - TABLE["y"].mean()) / b1
    reach = t * s / b1 * np.sqrt((1 - g) * (1 / readings + 1 / N) + d * d / sxx)
    ends = mean + (d - reach) / (1 - g), mean + (d + reach) / (1 - g)
    found = fit.inverse("x", y, replicates=readings).frame.loc[0]
    assert found["value"] == pytest.approx((y - b0) / b1, rel=1e-12)
    assert (found["lower"], found["upper"]) == pytest.approx(ends, rel=1e-10)


def test_weights_of_the_reading_are_given_by_hold():
    fit = jn.fit(TABLE, "y given x", weights="w")
    assert fit.inverse("x", 12.0).frame[["lower", "upper"]].isna().all().all()
    assert "give the columns of w by hold" in str(fit.inverse("x", 12.0).notes)
    heavy, light = (fit.inverse("x", 12.0, hold={"w": w}).frame.loc[0] for w in (4.0, 1.0))
    end = fit.forecast({"x": [light["upper"]], "w": [1.0]})["new_lower"][0]
    assert end == pytest.approx(12.0)
    assert heavy["upper"] - heavy["lower"] < light["upper"] - light["lower"]
    assert fit.inverse("x", 12.0, hold={"w": 1.0}, replicates=4).frame.loc[0, "upper"] == pytest.approx(heavy["upper"])  # fmt: skip


@pytest.mark.parametrize(
    ("slope", "at", "said"),
    [
        (0.0, 0.0, "any value agrees"),
        (0.35, 40.0, "values below .* and values above .* agree with it"),
        (2.0, 60.0, "outside what was seen"),
    ],
)
def test_answers_without_a_bound_and_beyond_the_rows_are_said(slope, at, said):
    rng = np.random.default_rng(3)
    table = pd.DataFrame({"x": np.arange(9.0)}).assign(
        y=lambda t: slope * t.x + rng.normal(0, 1.6, 9)
    )
    fit = jn.fit(table, "y given x")
    found = fit.inverse("x", at).frame.loc[0]
    assert re.search(said, found["note"])
    assert np.isinf(found["lower"]) == (slope < 1)
    grid = np.array([-1e4, -50.0, found["value"], 50.0, 1e4])
    bands = fit.forecast({"x": grid})
    agrees = (bands["new_lower"] <= at) & (at <= bands["new_upper"])
    assert agrees.iloc[2]
    assert agrees.iloc[[0, -1]].all() == (slope < 1)


def test_a_curve_that_passes_twice_has_two_lines_and_one_that_never_does_says_so():
    table = TABLE.assign(hump=10 - (X - 5) ** 2 + RNG.normal(0, 0.2, N))
    fit = jn.fit(table, "hump given x, x^2")
    two = fit.inverse("x", 5.0).frame
    assert two["value"].tolist() == pytest.approx([5 - 5**0.5, 5 + 5**0.5], abs=0.1)
    assert (two["lower"] < two["value"]).all()
    assert (two["value"] < two["upper"]).all()
    assert two["note"].str.contains("one of 2 values").all()
    none = fit.inverse("x", 30.0).frame.loc[0]
    assert np.isnan(none["value"])
    assert "no value from" in none["note"]


@pytest.mark.parametrize("n", [6, 20])
def test_values_of_readings_are_held_as_often_as_meant(n):
    rng, times = np.random.default_rng(n), draws(400)
    x, held = np.linspace(0, 10, n), 0
    for _ in range(times):
        truth = rng.uniform(1, 9)
        fit = jn.fit({"x": x, "y": 1 + 2 * x + rng.normal(0, 1, n)}, "y given x")
        found = fit.inverse("x", 1 + 2 * truth + rng.normal()).frame.loc[0]
        held += found["lower"] <= truth <= found["upper"]
    assert abs(held / times - 0.95) < by_chance(0.95, times)


@pytest.mark.parametrize(
    ("ask", "said"),
    [
        ({"of": "g", "at": 3}, "g is a category"),
        ({"of": "q", "at": 3}, "no column 'q'"),
        ({"of": "x", "at": "many"}, "it is a number or several"),
        ({"of": "x", "at": 3, "replicates": 0}, "not a number of readings"),
        (
            {"of": "x", "at": 3, "replicates": 2, "interval": "mean"},
            "replicates= is for the normal family",
        ),
        ({"of": "x", "at": 3, "hold": {"x": 2}}, "cannot be held"),
        ({"of": "x", "at": 3, "interval": "row"}, "interval='row' is not known"),
    ],
)
def test_what_has_no_answer_is_refused(ask, said):
    with pytest.raises(jn.JoineryError, match=said):
        jn.fit(TABLE, "y given x, g").inverse(**ask)
    with pytest.raises(jn.CallError, match="0 and 1, and 1.5 is outside"):
        jn.fit(TABLE, "s of m given x").inverse("x", 1.5)


def test_the_command_and_the_picture_carry_the_reading_over(joinery, tmp_path):
    given = ("sample:jars", "jars_sold given hours_open")
    status, out, _ = joinery(
        "inverse", *given, "--of", "hours_open", "--at", "30, 40", "--as", "csv"
    )
    table = jn.fit(*given).inverse("hours_open", [30, 40])
    assert status == 0
    assert out == table.render("csv")
    path = tmp_path / "inverse.png"
    status, _, said = joinery(
        "draw", *given, "inverse", "--of", "hours_open", "--at", "30", "--output", str(path)
    )
    assert (status, path.exists()) == (0, True), said
    figure = jn.fit(*given).draw("inverse", of="hours_open", at=30)
    carried = [line.get_xydata() for line in figure.axes[0].lines if len(line.get_xdata()) == 3]
    assert any(np.allclose(xy[1], [table["value"][0], 30]) for xy in carried)
    plt.close(figure)
