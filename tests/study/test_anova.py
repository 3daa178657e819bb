"""ANOVA, nesting, powers choice against really fitting the models they speak of."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from tests.draws import by_chance, draws

import joinery as jn

rng = np.random.default_rng(7)
N = 90
TABLE = pd.DataFrame(
    {
        "g": rng.choice(list("abc"), N, p=[0.6, 0.3, 0.1]),
        "h": rng.choice(["u", "v"], N, p=[0.3, 0.7]),
    }
)
TABLE = TABLE.assign(x=rng.normal(5, 2, N), z=rng.normal(size=N), w=rng.uniform(0.5, 2, N))
TABLE["y"] = (
    10
    + TABLE["x"]
    + (TABLE["g"] == "b") * 2
    + (TABLE["h"] == "v") * TABLE["x"] * 0.5
    + rng.normal(0, 2, N)
)
SENTENCE = "y given x, g, h, g * h, x * h"


def rss(sentence, **options):
    return jn.fit(TABLE, sentence, **options).deviance


NESTED = {
    ("earlier", "g"): ("x", "x, g"),
    ("earlier", "x × h"): ("x, g, h, g * h", "x, g, h, g * h, x * h"),
    ("lower-order", "x"): ("g, h, g * h", "g, h, g * h, x"),
    ("lower-order", "h"): ("x, g", "x, g, h"),
    ("lower-order", "g × h"): ("x, g, h, x * h", "x, g, h, g * h, x * h"),
    ("others", "g × h"): ("x, g, h, x * h", "x, g, h, g * h, x * h"),
    ("others", "x × h"): ("x, g, h, g * h", "x, g, h, g * h, x * h"),
}


@pytest.mark.parametrize(("after", "term"), NESTED)
@pytest.mark.parametrize("options", [{}, {"weights": "w"}], ids=["plain", "weighted"])
def test_each_line_is_the_difference_of_two_nested_fits(after, term, options):
    found = jn.fit(TABLE, SENTENCE, **options).anova(after).frame.set_index("term")
    small, large = (f"y given {t}" for t in NESTED[after, term])
    assert found.loc[term, "ss"] == pytest.approx(
        rss(small, **options) - rss(large, **options), rel=1e-8
    )
    fit = jn.fit(TABLE, SENTENCE, **options)
    assert found.loc[term, "f"] == pytest.approx(found.loc[term, "ms"] / fit.dispersion)


def test_others_is_a_claim_on_means_over_the_other_categorys_levels():
    """With effect coding the main effect of g says that its level means, averaged evenly over h, are equal."""
    fit = jn.fit(TABLE, "y given x, g, h, g * h")
    cells = '"g: b" + 0.5 * "g: b × h: v" = 0, "g: c" + 0.5 * "g: c × h: v" = 0'
    claim = fit.claim(cells).frame.iloc[-1]
    row = fit.anova("others").frame.set_index("term").loc["g"]
    assert row["f"] == pytest.approx(claim["f"], rel=1e-8)
    robust = fit.revise(std_errors="hc3")
    again = robust.anova("others").frame.set_index("term").loc["g"]
    assert again["f"] == pytest.approx(robust.claim(cells).frame.iloc[-1]["f"], rel=1e-7)
    assert again["ss"] == pytest.approx(row["ss"])


def test_coding_changes_nothing_after_others():
    tables = []
    for coding in ("indicator", "effect", "helmert"):
        g, h = (f"category({n}, coding='{coding}')" for n in "gh")
        tables.append(jn.fit(TABLE, f"y given {g}, {h}, {g} * {h}").anova("others").frame)
    for other in tables[1:]:
        assert other[["ss", "f", "p"]].to_numpy() == pytest.approx(
            tables[0][["ss", "f", "p"]].to_numpy(), rel=1e-8, nan_ok=True
        )


def test_shares_after_earlier_add_up_and_balanced_tables_agree():
    fit = jn.fit(TABLE, SENTENCE)
    assert fit.anova("earlier")["share"].sum() == pytest.approx(fit.r_squared)
    even = pd.DataFrame({"g": list("aabb") * 6, "h": list("uvuv") * 6}).assign(
        y=np.random.default_rng(3).normal(size=24)
    )
    all_ways = [
        jn.fit(even, "y given g, h, g * h").anova(after)["ss"].to_numpy()[:3]
        for after in ("earlier", "lower-order", "others")
    ]
    assert all_ways[0] == pytest.approx(all_ways[1])
    assert all_ways[0] == pytest.approx(all_ways[2])


def test_robust_lines_and_what_cannot_be_said():
    fit = jn.fit(TABLE, "y given x, g", std_errors="robust")
    first = fit.anova("earlier").frame
    assert first["f"].isna().all()
    assert first["ss"].iloc[0] > 0
    joint = fit.claim('"g: b" = 0, "g: c" = 0').frame.iloc[-1]
    for after in ("lower-order", "others"):
        assert fit.anova(after).frame.set_index("term").loc["g", "f"] == pytest.approx(
            joint["f"], rel=1e-8
        )


@pytest.mark.parametrize(
    ("table", "sentence", "said"),
    [
        (
            TABLE.assign(x2=2 * TABLE["x"]),
            "y given x, x2",
            "x2: nothing of its own is left to test",
        ),
        (
            TABLE[(TABLE["g"] != "c") | (TABLE["h"] != "v")],
            "y given g, h, g * h",
            "coded to sum to zero",
        ),
        (TABLE.drop_duplicates(["g", "h"]), "y given g, h", ""),
        (TABLE.drop_duplicates(["g", "h"]), "y given g, h, g * h", ""),
    ],
    ids=["aliased", "empty cell", "one row a cell", "saturated"],
)
def test_awkward_tables(table, sentence, said):
    for after in ("earlier", "lower-order", "others"):
        found = jn.fit(table, sentence).anova(after)
        assert (found["df"] >= 0).all()
    assert said in " ".join(found.notes)


def test_lack_of_fit_lines_split_the_residual():
    found = jn.fit("sample:prices", "price given weight_g, source").anova().frame.set_index("term")
    assert found.loc[["lack of fit", "within repeats"], "ss"].sum() == pytest.approx(
        found.loc["residual", "ss"]
    )
    cells = jn.fit(
        "sample:prices", "price given category(weight_g) * source, category(weight_g), source"
    )
    assert found.loc["within repeats", "ss"] == pytest.approx(cells.deviance)


# ------------------------------------------------------------------ compare


def test_compare_tests_nested_fits():
    small, large = jn.fit(TABLE, "y given x"), jn.fit(TABLE, "y given x, g")
    row = jn.compare(small, large).frame.iloc[1]
    f = (small.deviance - large.deviance) / 2 / large.dispersion
    assert (row["test"], row["df"], row["statistic"]) == ("F", 2, pytest.approx(f))
    # the space counts, not how it is written
    curve = jn.compare(
        jn.fit(TABLE, "y given x"), jn.fit(TABLE, "y given polynomial(x, 3)")
    ).frame.iloc[1]
    assert curve["df"] == 2
    robust = [f.revise(std_errors="robust") for f in (small, large)]
    assert jn.compare(*robust).frame.iloc[1]["statistic"] == pytest.approx(
        robust[1].claim('"g: b" = 0, "g: c" = 0').frame.iloc[-1]["f"], rel=1e-7
    )
    crossed = jn.compare(jn.fit(TABLE, "y given x, z"), jn.fit(TABLE, "y given x, g"))
    assert "not nested" in " ".join(crossed.notes)
    assert "p" not in crossed.columns


def test_crosscheck_error_is_leaving_each_row_out():
    fit = jn.fit("sample:jars", "jars_sold given hours_open")
    table = jn.sample_data("jars")
    misses = [
        table.loc[i, "jars_sold"]
        - jn.fit(table.drop(i), "jars_sold given hours_open")
        .forecast(table.loc[[i]])["fitted"]
        .iloc[0]
        for i in table.index
    ]
    assert jn.compare(fit, fit)["crosscheck_error"].iloc[0] == pytest.approx(
        np.sqrt(np.mean(np.square(misses)))
    )


@pytest.mark.parametrize(
    ("other", "said"),
    [
        (
            lambda: jn.fit("sample:yields", "honey_kg given feed_kg"),
            "different rows .113 and 116.; fit both with where=",
        ),
        (lambda: jn.fit("sample:yields", "log(honey_kg) given forage_km2"), "different responses"),
        (
            lambda: jn.fit(
                "sample:yields", "honey_kg given forage_km2, feed_kg", weights="queen_age"
            ),
            "weights, repeats or offset differ|different rows",
        ),
    ],
)
def test_what_cannot_be_tested_is_said_with_the_way_out(other, said):
    with pytest.warns(jn.JoineryWarning, match=said):
        table = jn.compare(jn.fit("sample:yields", "honey_kg given forage_km2"), other())
    assert "p" not in table.columns


def test_the_way_out_works_and_the_trail_is_kept():
    both = [
        jn.fit("sample:yields", f"honey_kg given {t}", where="forage_km2 = forage_km2")
        for t in ("feed_kg", "feed_kg, forage_km2")
    ]
    assert jn.compare(*both).frame.iloc[1]["p"] < 1e-6
    fit = jn.fit("sample:yields", "honey_kg given feed_kg", id="hive")
    back = fit.revise(leave_out=["H001", "H002"]).revise(put_back="H001", add="forage_km2")
    assert back.changes == ("leave out H001, H002", "add forage_km2; put back H001")
    assert back.left_out["reason"].loc["H002"] == "asked to be left out"
    assert "H001" not in back.left_out.frame.index
    with pytest.raises(jn.CallError, match="was not left out by name"):
        fit.revise(put_back="H009")
    with pytest.raises(jn.CallError, match="two or more"):
        jn.compare(fit)


# ------------------------------------------------------------------ powers


def test_powers_have_the_likelihood_of_really_transforming():
    table = jn.sample_data("prices")
    fit = jn.fit(table, "price given weight_g, source")
    rungs = fit.box_cox().frame.set_index("power")
    found, y = -rungs["below_best"], table["price"]
    assert rungs.loc[1.0, "typical_miss"] == pytest.approx(fit.residual_sd, rel=1e-12)
    for power in (-1.0, 0.0, 0.5, 2.0):
        moved = np.log(y) if power == 0 else (y**power - 1) / power
        own = jn.fit(table.assign(t=moved), "t given weight_g, source")
        full = -len(y) / 2 * np.log(own.deviance / len(y)) + (power - 1) * np.log(y).sum()
        assert found[power] - found[1.0] == pytest.approx(
            full + len(y) / 2 * np.log(fit.deviance / len(y)), abs=1e-8
        )
        at = own.rows()["fitted"][: len(y)]
        base = 1 + power * at
        back = np.exp(at) if power == 0 else base.where(base > 0) ** (1 / power)
        miss = np.sqrt(((y - back) ** 2).sum(skipna=False) / fit.residual_df)
        assert rungs.loc[power, "typical_miss"] == pytest.approx(miss, rel=1e-9, nan_ok=True)


def test_box_cox_finds_the_power_and_its_interval_covers():
    rng = np.random.default_rng(2)
    times, held = draws(100), 0
    for _ in range(times):
        x = rng.uniform(0, 3, 40)
        t = pd.DataFrame({"x": x, "y": (4 + x + rng.normal(0, 0.5, 40)) ** 2})
        note = jn.fit(t, "y given x").box_cox().notes[0]
        low, high = (
            float(v.replace("−", "-")) for v in note.split("[")[1].split("]")[0].split(", ")
        )
        held += low <= 0.5 <= high
    assert held / times > 0.95 - by_chance(0.95, times)
    with pytest.raises(jn.CallError, match="zero or less in row 3"):
        jn.fit({"x": [1, 2, 3, 4, 5], "y": [1, 3, 2, 0, 4]}, "y given x").box_cox()


@pytest.mark.parametrize("family", ["normal", "binomial"])
def test_compared_fits_are_crosschecked_on_the_same_folds(family):
    model = {"normal": "honey_kg given forage_km2", "binomial": "swarmed given queen_age"}[family]
    fits = [jn.fit("sample:yields", model, id="hive")]
    fits.append(fits[0].revise(add="hive_type"))
    table = jn.compare(*fits, crosscheck=True, seed=3).frame
    name, figure = {
        "normal": ("unseen_error", "typical error (root mean square)"),
        "binomial": ("unseen_log_score", "log score"),
    }[family]
    for place, fit in enumerate(fits):
        own = fit.crosscheck(10, seed=3).frame.set_index("figure")["unseen"]
        assert table[name][place] == pytest.approx(own[figure])


def test_a_power_is_not_chosen_where_it_would_fit_exactly():
    table = {"x": [1.0, 2.0, 4.0], "y": [1.1, 2.3, 3.7]}
    with pytest.raises(jn.CallError, match="too few degrees of freedom are left to choose a power"):
        jn.fit(table, "y given x").box_cox()
