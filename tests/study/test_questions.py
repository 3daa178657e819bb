"""What a fit is asked, against identities, simulation and code that runs."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from tests.draws import by_chance, draws

import joinery as jn
from joinery.core.numeric import distributions as tails


def test_intervals_and_tests_agree_with_one_another(honey):
    table = honey.coefficients(90, standardized=True).frame
    same = honey.coefficients(0.90).frame
    pd.testing.assert_frame_equal(table[same.columns], same)
    reach = tails.t_quantile(0.95, honey.residual_df) * table["standard_error"]
    assert np.allclose(table["upper"] - table["estimate"], reach)
    assert np.allclose(table["t"], table["estimate"] / table["standard_error"])
    X = honey._fitted.design.matrix(
        honey._fitted.design.context(
            honey._fitted.origin.table, honey._fitted.origin.used_rows.rows
        )
    )
    used = honey.rows().frame
    y = used.loc[~used["reason"].str.startswith("left out"), "observed"].to_numpy()
    shared = honey.term_correlations().frame
    for j in range(X.shape[1]):
        rest = np.column_stack([np.ones(len(X)), np.delete(X, j, axis=1)])
        clean = [v - rest @ np.linalg.lstsq(rest, v, rcond=None)[0] for v in (X[:, j], y)]
        row, r = table.iloc[j + 1], shared.iloc[j]
        assert np.isclose(r["simple_r"], np.corrcoef(X[:, j], y)[0, 1])
        assert np.isclose(r["partial_r"], np.corrcoef(*clean)[0, 1], rtol=1e-5)
        assert np.isclose(r["semipartial_r"], np.corrcoef(clean[0], y)[0, 1], rtol=1e-5)
        assert np.isclose(row["standardized"], row["estimate"] * X[:, j].std() / y.std())


def test_the_overall_test_has_two_equal_forms(honey):
    part = honey.overall(99).frame.set_index("part")
    r2, df1, df2 = honey.r_squared, honey.model_df, honey.residual_df
    assert np.isclose(part.loc["explained", "f"], (r2 / df1) / ((1 - r2) / df2))
    assert part.loc["total", "df"] == df1 + df2
    assert np.isclose(part["ss"].iloc[:2].sum(), part.loc["total", "ss"])
    assert np.isclose(tails.f_upper(part.loc["explained", "critical_f"], df1, df2), 0.01)


def test_rows_stand_beside_their_labels(honey, yields):
    rows = honey.rows().frame
    observed = yields.set_index("hive")["honey_kg"]
    assert set(rows.index) == set(yields["hive"])
    assert (rows["observed"].dropna() == observed[rows["observed"].dropna().index]).all()
    assert np.isclose(rows["leverage"].sum(), honey._fitted.solution.rank)
    assert rows["reason"].str.startswith("left out: ").sum() == 7
    assert rows.index.tolist() == yields["hive"].tolist()
    assert rows.loc["H021", "fitted"] == honey.forecast().frame.loc["H021", "fitted"]


def test_clean_tables_are_left_in_peace():
    rng = np.random.default_rng(8)
    flagged = 0
    for _ in range(200):
        table = pd.DataFrame(rng.normal(size=(60, 3)), columns=["x", "z", "y"])
        verdicts = jn.fit(table, "y given x, z").rows()["verdict"]
        flagged += (verdicts == "serious").any()
    assert flagged / 200 < 0.1


@pytest.mark.simulation
def test_intervals_cover_as_often_as_they_say():
    rng = np.random.default_rng(4)
    inside = np.zeros(3)
    times = draws(600)
    for _ in range(times):
        x = rng.uniform(0, 10, 12)
        fit = jn.fit({"x": x, "y": 3 + 2 * x + rng.normal(0, 2, 12)}, "y given x", level=0.9)
        new = fit.forecast({"x": [7.0]}).frame.iloc[0]
        slope = fit.coefficients().frame.iloc[1]
        came = 17 + rng.normal(0, 2)
        inside += [
            new.mean_lower <= 17 <= new.mean_upper, new.new_lower <= came <= new.new_upper, slope.lower <= 2 <= slope.upper
        ]  # fmt: skip
    assert np.all(np.abs(inside / times - 0.9) < by_chance(0.9, times))


def test_forecasts_of_new_rows(honey, tmp_path):
    waiting = honey.forecast()
    assert list(waiting.frame.index) == ["H021", "H047", "H076", "H111"]
    assert list(waiting.frame.columns) == [
        "fitted",
        "mean_lower",
        "mean_upper",
        "new_lower",
        "new_upper",
        "note",
    ]
    file = tmp_path / "new.csv"
    honey._fitted.origin.table.frame.head(15).to_csv(file, index=False)
    known = honey.forecast(file).frame
    assert {"observed", "error", "inside"} <= set(known.columns)
    fitted = honey.rows().frame["fitted"]
    assert np.isclose(known.loc["H001", "fitted"], fitted["H001"])
    assert np.isnan(known.loc["H012", "fitted"])
    assert known.loc["H012", "note"] == "no forage_km2"
    far = honey.forecast("forage_km2=30, altitude_m=300, feed_kg=5, rain_days=30, hive_type=long")
    assert "forage_km2 30 lies outside what was seen (0.61 to 11.4)" in far.frame["note"][0]


@pytest.mark.parametrize(
    ("new", "said"),
    [
        (
            "forage_km2=3, altitude_m=300, feed_kg=5, rain_days=30, hive_type=skep",
            "'skep' was not among the fitted rows",
        ),
        (
            "forage_km2=3, altitude_m=300, feed_kg=5, rain_days=30, hive_type=lung",
            "did you mean 'long'",
        ),
        ({"forage_km2": [3]}, "no column 'altitude_m', 'feed_kg', 'rain_days', 'hive_type'"),
    ],
)
def test_new_rows_that_cannot_be_forecast(honey, new, said, joinery):
    with pytest.raises(jn.NewRowError) as caught:
        honey.forecast(new)
    assert said in str(caught.value)
    if isinstance(new, str):
        status, out, err = joinery("forecast", "sample:yields", honey.sentence, "--at", new)
        assert (status, out) == (3, "")
        assert said in err


def test_forecasting_needs_something_to_forecast():
    with pytest.raises(jn.CallError, match="there is none to forecast"):
        jn.fit("sample:jars", "jars_sold given hours_open").forecast()


@pytest.mark.parametrize(
    ("response", "forth"),
    [
        ("log(y)", np.log),
        ("log10(y)", np.log10),
        ("sqrt(y)", np.sqrt),
        ("(1 / y)", lambda v: 1 / v),
        ("(2 * y - 1)", None),
        ("y^-0.5", lambda v: v**-0.5),
        ("log1p(y / 3)", lambda v: np.log1p(v / 3)),
    ],
)
def test_a_transformed_response_is_turned_back(response, forth):
    rng = np.random.default_rng(2)
    x = rng.uniform(1, 3, 40)
    table = pd.DataFrame({"x": x, "y": np.exp(0.5 + 0.4 * x + rng.normal(0, 0.1, 40))})
    if response == "(2 * y - 1)":
        with pytest.raises(jn.CallError, match="cannot be back-transformed|none to forecast"):
            jn.fit(table, response + " given x").forecast()
        return
    back = jn.fit(table, f"{response} given x").forecast({"x": [2.0]}).frame.iloc[0]
    plain = (
        jn.fit(table.assign(v=forth(table["y"])), "v given x").forecast({"x": [2.0]}).frame.iloc[0]
    )
    ends = ["new_lower", "median_lower", "fitted", "median_upper", "new_upper"]
    again = sorted(forth(back[e]) for e in ends)
    assert np.allclose(again, sorted(plain[e.replace("median", "mean")] for e in ends))
    assert back[ends].is_monotonic_increasing
    assert "mean_lower" not in back  # which would be read as of ``expected``


def test_what_cannot_be_turned_back_is_refused():
    table = {"x": [1.0, 2, 3, 4], "y": [1.0, -2, 3, 4]}
    with pytest.raises(jn.CallError, match="in one way only"):
        jn.fit(table, "y^2 given x").forecast({"x": [2]})


SENTENCES = [
    "honey_kg given forage_km2, feed_kg * rain_days, hive_type, altitude_m^2",
    "honey_kg given log(altitude_m), sqrt(feed_kg), (season >= 2021 and not queen_age = 2), category(queen_age)",
    "honey_kg given polynomial(altitude_m, 3), standardized(feed_kg) * hive_type, category(apiary, coding='effect')",
    "honey_kg given centred(rain_days), abs(queen_age - 2), log1p(feed_kg), swarmed",
]


def test_equations_for_people(honey):
    assert honey.equation().startswith("honey_kg = ")
    assert "feed_kg × rain_days" in honey.equation()
    assert r"\text{forage\_km2}" in honey.equation("latex")
    with pytest.raises(jn.CallError, match="did you mean 'latex'"):
        honey.equation("latx")


def test_a_look_describes_each_column(yields):
    table = jn.look(yields).columns.frame.set_index("column")
    assert table.loc["hive_type", "kind"] == "category"
    assert table.loc["swarmed", "kind"] == "yes/no"
    assert table.loc["season", "kind"] == "whole number"
    assert table.loc["honey_kg", "missing"] == 4
    assert np.isclose(table.loc["honey_kg", "mean"], yields["honey_kg"].mean())
    assert np.isclose(table.loc["honey_kg", "standard_deviation"], yields["honey_kg"].std())
    assert "stacked 51" in table.loc["hive_type", "values"]
    some = jn.look(
        yields, "honey_kg given log(feed_kg), hive_type", where="season >= 2021"
    ).columns.frame
    assert some["column"].tolist() == ["honey_kg", "feed_kg", "hive_type"]
    assert some["count"][1] == (yields["season"] >= 2021).sum()
    with pytest.raises(jn.EmptyTableError, match="no row meets"):
        jn.look(yields, where="season > 3000")
    with pytest.raises(jn.UnknownColumnError):
        jn.look(yields, "honey given feed_kg")
