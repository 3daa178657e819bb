"""Claims against nested fits, intervals and their own algebra."""

from __future__ import annotations

import numpy as np
import pytest

import joinery as jn
from joinery.core.numeric import distributions as tails

SENTENCE = (
    "honey_kg given forage_km2, feed_kg, rain_days, feed_kg * rain_days, altitude_m^2, hive_type"
)


@pytest.fixture(scope="module")
def fit():
    return jn.fit("sample:yields", SENTENCE, id="hive")


@pytest.mark.parametrize(
    "text",
    [
        "forage_km2",
        "intercept",
        '"hive_type: stacked"',
        "feed_kg * rain_days",
        "rain_days × feed_kg",
        '"feed_kg × rain_days"',
        "altitude_m^2",
    ],
)
def test_a_coefficient_against_zero_is_its_own_t(fit, text):
    row = fit.claim(f"{text} = 0").frame.iloc[0]
    name = "feed_kg × rain_days" if "rain_days" in text else text.strip('"')
    own = fit.coefficients().frame.set_index("term").loc[name]
    assert np.allclose(
        row[["difference", "lower", "upper", "standard_error", "t", "p"]].astype(float),
        own[["estimate", "lower", "upper", "standard_error", "t", "p"]].astype(float),
    )


def test_equations_together_are_the_nested_f(fit):
    small = fit.revise(drop=["rain_days", "feed_kg * rain_days", "hive_type"])
    table = fit.claim(
        'rain_days = 0, feed_kg * rain_days = 0, "hive_type: stacked" = 0, "hive_type: top-bar" = 0'
    ).frame
    f = (small.deviance - fit.deviance) / 4 / fit.dispersion
    assert np.isclose(table["f"].iloc[-1], f)
    assert np.isclose(table["p"].iloc[-1], tails.f_upper(f, 4, fit.residual_df))
    one = fit.claim("2 * (forage_km2 - feed_kg) = rain_days / 4 - -1").frame.iloc[0]
    b = fit.coefficients().frame.set_index("term")["estimate"]
    assert np.isclose(
        one["difference"], 2 * (b["forage_km2"] - b["feed_kg"]) - b["rain_days"] / 4 - 1
    )


def test_inequalities_are_one_sided(fit):
    above, below = (fit.claim(f"forage_km2 {sign} 2").frame.iloc[0] for sign in (">=", "<="))
    assert np.isclose(above["p"] + below["p"], 1)
    assert above["p"] > 0.5 > below["p"]
    assert np.isclose(2 * below["p"], fit.claim("forage_km2 = 2").frame.iloc[0]["p"])


def test_claims_use_the_chosen_covariance_and_saved_fits(tmp_path, fit):
    robust = jn.fit("sample:yields", SENTENCE, id="hive", std_errors="robust")
    row = robust.claim("forage_km2 = 0").frame.iloc[0]
    assert np.isclose(row["t"], robust.coefficients()["t"][1])
    assert not np.isclose(row["t"], fit.coefficients()["t"][1])
    again = jn.load(robust.save(tmp_path / "r.json"))
    assert again.claim("forage_km2 = feed_kg").frame.equals(
        robust.claim("forage_km2 = feed_kg").frame
    )


@pytest.mark.parametrize(
    ("text", "error", "said"),
    [
        ("forge_km2 = 0", jn.SentenceError, "did you mean 'forage_km2'"),
        ("hive_type = 0", jn.SentenceError, "hive_type: top-bar"),
        ("forage_km2", jn.SentenceError, "ends too early"),
        ("1 = 2", jn.SentenceError, "names no coefficient"),
        ("1 / forage_km2 = 2", jn.SentenceError, "linear"),
        ("(forage_km2 + 1) * feed_kg = 2", jn.SentenceError, "linear"),
        ("forage_km2 = 1, 2 * forage_km2 = 2", jn.CallError, "repeat or contradict"),
    ],
)
def test_claims_that_cannot_be_tested(fit, text, error, said):
    with pytest.raises(error, match=said):
        fit.claim(text)


def test_claims_from_the_command_line(joinery, fit, tmp_path):
    fit.save(tmp_path / "f.json")
    text = "forage_km2 = 2 * feed_kg"
    status, out, _ = joinery(
        "claim", "sample:yields", SENTENCE, text, "--id", "hive", "--as", "csv"
    )
    assert (status, out) == (0, fit.claim(text).render("csv"))
    assert joinery("claim", tmp_path / "f.json", text, "--as", "csv")[1] == out
    assert joinery("claim", "sample:yields", SENTENCE)[0] == 2


def test_a_claim_about_a_column_left_out_is_refused(fit):
    with pytest.raises(jn.CallError, match="was left out of the model"):
        fit.revise(add=["altitude_m", "altitude_ft"]).claim("altitude_ft = 0")
