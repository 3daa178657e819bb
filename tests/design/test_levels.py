"""Levels made in the sentence against the same levels written into the table."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import joinery as jn

RNG = np.random.default_rng(4)
DAYS = pd.Timestamp("2022-11-03") + pd.to_timedelta(RNG.integers(0, 20_000, 160), "h")
TABLE = pd.DataFrame({"y": RNG.normal(0, 1, 160), "x": RNG.uniform(0, 9, 160), "when": DAYS})
TABLE["g"] = RNG.choice(["north", "North", "Sth", "South", "rare 1", "rare 2"], 160, p=[0.3, 0.3, 0.2, 0.16, 0.02, 0.02])  # fmt: skip


def ordered(names, order):
    return pd.Categorical(names, [name for name in order if name in set(names)])


WRITTEN = {
    "month(when)": ordered(DAYS.month_name(), pd.date_range("2023-01-01", periods=12, freq="MS").month_name()),
    "weekday(when)": ordered(DAYS.day_name(), pd.date_range("2024-01-01", periods=7).day_name()),
    "quarter(when)": ordered(DAYS.quarter.map("Q{}".format), ["Q1", "Q2", "Q3", "Q4"]),
    "merged(g, 'north' = 'North', 'Sth' = 'South')": TABLE["g"].replace({"north": "North", "Sth": "South"}),
    "pooled(g, least=10)": TABLE["g"].replace({"rare 1": "other", "rare 2": "other"}),
    "year(when)": DAYS.year,
    "hour(when)": DAYS.hour,
}  # fmt: skip


@pytest.mark.parametrize("call", WRITTEN)
def test_a_function_of_levels_is_the_column_written_out(call, tmp_path):
    table = TABLE.assign(made=WRITTEN[call])
    table.loc[3, ["when", "g", "made"]] = None
    first, second = (jn.fit(table, f"y given x, {term}") for term in (call, "made"))
    loaded = jn.load(first.save(tmp_path / "fit.json"))
    new = table.tail(9).drop(columns="y")
    for ask in (
        lambda f: f.coefficients().frame.drop(columns="term"),
        lambda f: f.anova().frame[["df", "ss", "p"]].head(2),
        lambda f: f.forecast(new).frame,
    ):
        for one in (first, loaded) if ask(first).shape != (2, 3) else (first,):
            pd.testing.assert_frame_equal(ask(one), ask(second), rtol=1e-9)
    if "Q" in str(WRITTEN[call][0]) or call[0] in "mw":
        term = "g" if "g," in call else call
        for one in (first, loaded):
            means, written = one.adjusted_means(term).frame, second.adjusted_means("made").frame
            assert means.iloc[:, 0].astype(str).tolist() == written["made"].astype(str).tolist()
            assert means["mean"].to_numpy() == pytest.approx(written["mean"].to_numpy(), rel=1e-9)
            assert means["upper"].to_numpy() == pytest.approx(written["upper"].to_numpy(), rel=1e-9)
        assert len(first.level_differences(term)) == len(second.level_differences("made"))


def test_waves_are_sines_and_cosines_and_their_slope_is_the_difference_quotient():
    days = (TABLE["when"] - pd.Timestamp("1970-01-01")) / pd.Timedelta("1D")
    angle = 2 * np.pi * days / 365.25
    table = TABLE.assign(
        days=days, **{f"{f.__name__}{k}": f(k * angle) for k in (1, 2) for f in (np.sin, np.cos)}
    )
    written = jn.fit(table, "y given x, sin1, cos1, sin2, cos2")
    fit = jn.fit(table, "y given x, season_waves(when, waves=2)")
    assert fit.coefficients()["estimate"].to_numpy() == pytest.approx(
        written.coefficients()["estimate"].to_numpy(), rel=1e-8
    )
    fit = jn.fit(table, "y given x, season_waves(days, waves=2)")
    at, step = [days[0], days[5]], 1e-4
    slope = fit.simple_slopes("days", "x", [1.0], hold={"days": at[0]})["slope"][0]
    ends = fit.forecast({"days": [at[0] + step, at[0] - step], "x": [1.0, 1.0]})["fitted"]
    assert slope == pytest.approx((ends[0] - ends[1]) / (2 * step), rel=1e-5)


@pytest.mark.parametrize(
    ("terms", "said"),
    [
        ("merged(g)", "both in single quotes"),
        ("merged(g, 'a' = 'b', 'a' = 'c')", "'a' is renamed twice"),
        ("merged(g, 'a' = 'b', 'b' = 'c')", "'b' is itself renamed"),
        ("merged(g, 'nort' = 'North')", "g has no level 'nort'; did you mean 'north'?"),
        ("category(g, 'a' = 'b')", "merged does"),
        ("pooled(g)", "least= is how many rows"),
        ("log(month(when))", "month gives a category"),
        ("month(x)", "x is not a date"),
        ("season_waves(when, waves=0)", "waves= is a whole number"),
        ("season_waves(when, period=(1, 2))", "period= is a number above zero"),
    ],
)
def test_slips_are_told(terms, said):
    with pytest.raises(jn.JoineryError, match=said.replace("?", r"\?")):
        jn.fit(TABLE, f"y given {terms}")


def test_levels_alike_are_told_with_the_way_to_merge_them_which_silences_it():
    with pytest.warns(jn.ReadingWarning, match="write (merged\\(g, .*\\))$") as caught:
        jn.fit(TABLE, "y given g")
    way = str(caught[0].message).rpartition("write ")[2]
    merged = jn.fit(TABLE, f"y given {way}")
    assert not any("alike" in note for note in merged.notes)
    assert not any("north" in term for term in merged.coefficients()["term"])


def test_a_level_never_seen_is_pooled_where_levels_were_and_refused_where_not():
    new = {"g": ["nowhere"], "x": [1.0]}
    pooled = jn.fit(TABLE, "y given x, pooled(g, least=10)")
    rare = pooled.forecast({"g": ["rare 1"], "x": [1.0]})
    assert pooled.forecast(new)["fitted"][0] == rare["fitted"][0]
    with pytest.raises(jn.NewRowError, match="g 'nowhere' was not among"):
        jn.fit(TABLE, "y given x, pooled(g, least=1)").forecast(new)
