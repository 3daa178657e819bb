"""Weights, repeats, offsets and filled cells, each told apart by what it means."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import joinery as jn

RNG = np.random.default_rng(21)
N = 40
TABLE = pd.DataFrame(
    {
        "x": RNG.normal(size=N),
        "g": RNG.choice(list("uv"), N),
        "w": RNG.uniform(0.2, 4, N),
        "r": RNG.integers(1, 4, N),
    }
)
TABLE["y"] = 1 + 2 * TABLE["x"] + RNG.normal(size=N) / np.sqrt(TABLE["w"])
TABLE["o"] = RNG.normal(size=N) + 5


def figures(fit):
    return fit.coefficients().frame.set_index("term")


def test_weights_are_precisions(exact, correct_digits):
    fit = jn.fit(TABLE, "y given x, g", weights="w")
    X = np.column_stack([np.ones(N), TABLE["x"], TABLE["g"] == "v"])
    truth = exact(X, TABLE["y"], TABLE["w"])
    assert correct_digits(figures(fit)["estimate"], truth.b) > 12
    assert correct_digits(figures(fit)["standard_error"], truth.se) > 12
    # the same model with rows multiplied by √w, but for the determinant in the likelihood
    root = np.sqrt(TABLE["w"])
    scaled = pd.DataFrame(
        {
            "one": root,
            "a": root * TABLE["x"],
            "b": root * (TABLE["g"] == "v"),
            "y": root * TABLE["y"],
        }
    )
    plain = jn.fit(scaled, "y given one, a, b without intercept")
    assert np.isclose(fit.log_likelihood, plain.log_likelihood + np.log(TABLE["w"]).sum() / 2)
    rows = fit.rows().frame
    assert np.allclose(rows["studentized_residual"], plain.rows()["studentized_residual"])
    assert np.isclose(rows["leverage"].sum(), 3)
    mean = np.average(TABLE["y"], weights=TABLE["w"])
    assert np.isclose(
        fit.r_squared, 1 - fit.deviance / (TABLE["w"] * (TABLE["y"] - mean) ** 2).sum()
    )


def test_the_scale_of_weights_matters_to_s_alone():
    a, b = (jn.fit(TABLE, "y given x", weights=w) for w in ("w", "9 * w"))
    assert np.allclose(figures(a)["standard_error"], figures(b)["standard_error"])
    assert np.isclose(3 * a.residual_sd, b.residual_sd)


def test_repeats_are_so_many_equal_rows():
    fit = jn.fit(TABLE, "y given x, g", repeats="r")
    long = jn.fit(TABLE.loc[TABLE.index.repeat(TABLE["r"])].reset_index(drop=True), "y given x, g")
    pd.testing.assert_frame_equal(figures(fit), figures(long))
    assert fit.n_rows == long.n_rows == TABLE["r"].sum()
    for name in ("aic", "bic", "r_squared", "residual_sd", "log_likelihood"):
        assert np.isclose(getattr(fit, name), getattr(long, name))
    first = long.rows().frame.iloc[np.append(0, TABLE["r"].cumsum()[:-1])]
    assert np.allclose(fit.rows()["cooks_distance"], first["cooks_distance"])


def test_zero_weights_leave_the_fit_and_stay_in_the_table():
    table = TABLE.assign(w=np.where(TABLE.index < 5, 0.0, TABLE["w"]))
    fit = jn.fit(table, "y given x", weights="w")
    without = jn.fit(table.iloc[5:], "y given x", weights="w")
    assert fit.n_rows == 35
    assert np.allclose(figures(fit)["standard_error"], figures(without)["standard_error"])
    assert np.isclose(fit.aic, without.aic)
    rows = fit.rows().frame
    assert rows.index.tolist() == table.index.tolist()
    assert (rows["reason"][:5] == "left out: its weight is zero").all()
    assert (rows["verdict"][:5] == "").all()


def test_an_offset_has_coefficient_one():
    fit = jn.fit(TABLE, "y given x", offset="o / 2")
    plain = jn.fit(TABLE.assign(y=TABLE["y"] - TABLE["o"] / 2), "y given x")
    assert np.allclose(figures(fit), figures(plain))
    assert np.allclose(fit.rows()["fitted"], plain.rows()["fitted"] + TABLE["o"] / 2)
    assert np.isclose(
        fit.forecast({"x": [1.0], "o": [4.0]})["fitted"][0],
        plain.forecast({"x": [1.0]})["fitted"][0] + 2,
    )
    with pytest.raises(jn.NewRowError, match="no column 'o'"):
        fit.forecast({"x": [1.0]})
    assert fit.draw("line")


def test_forecasts_of_a_weighted_fit(tmp_path):
    fit = jn.fit(TABLE, "y given x", weights="w")
    bare = fit.forecast({"x": [0.5]})
    assert np.isfinite(bare["mean_lower"][0])
    assert np.isnan(bare["new_lower"][0])
    assert any("no row intervals" in note for note in bare.notes)
    one, four = (fit.forecast({"x": [0.5], "w": [w]}).frame.iloc[0] for w in (1.0, 4.0))
    half = [
        (r.new_upper - r.fitted) ** 2 - (r.mean_upper - r.mean_lower) ** 2 / 4 for r in (one, four)
    ]
    assert np.isclose(half[0], 4 * half[1])
    again = jn.load(fit.save(tmp_path / "w.json"))
    assert again.forecast({"x": [0.5], "w": [4.0]}).frame.iloc[0].equals(four)
    assert np.isclose(again.log_likelihood, fit.log_likelihood)


@pytest.mark.parametrize(
    ("options", "error", "said"),
    [
        ({"weights": "x"}, jn.UnusableColumnError, "x is below zero"),
        ({"repeats": "w"}, jn.UnusableColumnError, "w is no whole number from 0"),
        ({"weights": "0 * w"}, jn.NothingEstimableError, "every row weighs nothing"),
        ({"weights": "wt"}, jn.UnknownColumnError, "no column 'wt'"),
        ({"offset": "g"}, jn.UnusableColumnError, "column 'g' is text"),
    ],
)
def test_asides_that_cannot_be(options, error, said):
    with pytest.raises(error, match=said):
        jn.fit(TABLE, "y given x", **options)


def test_missing_cells_can_be_filled_with_the_mean(tmp_path):
    table = TABLE.assign(x=np.where(TABLE.index % 7 == 0, np.nan, TABLE["x"]))
    fit = jn.fit(table, "y given x, log(o)", missing="mean")
    mean = table["x"].mean()
    same = jn.fit(table.assign(x=table["x"].fillna(mean)), "y given x, log(o)")
    assert np.allclose(figures(fit), figures(same))
    assert any("6 missing cells of x were filled with its mean" in note for note in fit.notes)
    lone = jn.fit(TABLE.assign(x=TABLE["x"].mask(TABLE.index == 3)), "y given x", missing="mean")
    assert any("1 missing cell of x was filled" in note for note in lone.notes)
    for one in (fit, jn.load(fit.save(tmp_path / "m.json"))):
        new = one.forecast({"x": [np.nan], "o": [4.0]})
        assert np.isclose(new["fitted"][0], same.forecast({"x": [mean], "o": [4.0]})["fitted"][0])
        assert "its mean stands for it" in new["note"][0]
    with pytest.raises(jn.UnusableColumnError, match="has no mean"):
        jn.fit(table.assign(g=table["g"].where(table.index > 3)), "y given x, g", missing="mean")
    kept = jn.fit(table.assign(y=table["y"].where(table.index > 3)), "y given x", missing="mean")
    assert kept.n_rows == 36


def test_asides_from_the_command_line(joinery, tmp_path):
    file = tmp_path / "t.csv"
    TABLE.to_csv(file, index=False)
    status, out, _ = joinery(
        "coefficients",
        file,
        "y given x",
        "--weights",
        "w",
        "--repeats",
        "r",
        "--offset",
        "o",
        "--as",
        "csv",
    )
    assert status == 0
    assert out == jn.fit(
        str(file), "y given x", weights="w", repeats="r", offset="o"
    ).coefficients().render("csv")
