"""The first look: what is found in the samples, what is said of awkward columns, and what a sentence adds."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import joinery as jn
from joinery.core.blocks import order_statistics
from joinery.design import evenly, learning
from joinery.first_look import correlations, response
from joinery.first_look.ruler import ruler


def odd_table():
    rng = np.random.default_rng(4)
    n = 60
    return pd.DataFrame(
        {
            "id": [f"K{i}" for i in range(n)],
            "same": 3,
            "empty": [np.nan] * (n - 2) + [1.0, 2.0],
            "price": ["3,50 kr."] * 5 + [str(v) for v in range(n - 5)],
            "age": [999.0, 999.0, *rng.integers(1, 9, n - 2)],
            "count": [-1, -1, *rng.integers(0, 50, n - 2)],
            "money": np.exp(rng.normal(0, 1.6, n)),
            "metres": np.linspace(1, 2, n),
            "feet": np.linspace(1, 2, n) * 3.28084 + 1,
            "year": rng.integers(2019, 2023, n),
            "when": pd.date_range("2024-01-01", periods=n),
            "said": [f"a long remark about hive number {i} and its bees" for i in range(n)],
        }
    )


@pytest.mark.parametrize(
    "said",
    [
        "same is the same in every row",
        "empty is nearly all missing: 2 values in 60 rows",
        "column 'price' cannot be read as numbers",
        'age is 999 in 2 rows, far from its other values: if that stands for a missing value, leave them out with where="age != 999"',
        "count is −1 in 2 rows",
        "money has a long tail to the right",
        "try log(money)",
        "feet is 1 + 3.28084 × metres: a model can use only one of them",
        "year has 4 different values: category(year) would treat them as groups",
    ],
)
def test_what_is_odd_is_said(said):
    assert any(said in note for note in jn.look(odd_table()).columns.notes)


def test_kinds_and_figures():
    frame = odd_table()
    found = jn.look(frame).columns.frame.set_index("column")
    assert found.loc[["id", "money", "age", "when", "said", "same"], "kind"].tolist() == [
        "id-like", "number", "whole number", "date", "id-like", "whole number"]  # fmt: skip
    for name, figure in (
        ("mean", "mean"),
        ("standard_deviation", "std"),
        ("median", "median"),
        ("maximum", "max"),
    ):
        assert found.loc["money", name] == pytest.approx(
            getattr(frame["money"], figure)(), rel=1e-12
        )
    assert found.loc["empty", ["count", "missing", "distinct"]].tolist() == [2, 58, 2]
    assert found.loc["when", "values"] == "2024-01-01 to 2024-02-29"
    assert found.loc["metres", "ruler"].startswith("1 ├────┤")


def test_repeated_rows_are_named():
    frame = pd.DataFrame(
        {"a": [1.0, 2, 1, np.nan, np.nan], "b": ["x", "y", "x", "z", "z"]}, index=list("PQRST")
    )
    assert any(
        "2 rows repeat an earlier row exactly (R, T)" in n for n in jn.look(frame).columns.notes
    )
    assert not any("repeat" in n for n in jn.look(frame.iloc[:2]).columns.notes)


def test_clean_tables_get_no_remark():
    rng = np.random.default_rng(0)
    clean = pd.DataFrame(
        {"x": rng.normal(size=300), "y": rng.normal(size=300), "g": rng.choice(list("abc"), 300)}
    )
    assert jn.look(clean).columns.notes == ()


def test_pairs_use_the_rows_they_have_and_are_sorted(yields):
    pairs = jn.look(yields, id="hive").correlations.frame
    assert (pairs["pearson"].abs().diff().dropna() <= 1e-15).all()
    row = pairs[(pairs["column"] == "forage_km2") & (pairs["with"] == "honey_kg")].iloc[0]
    both = yields[["forage_km2", "honey_kg"]].dropna()
    assert (row["n"], row["strength"]) == (len(both), "strong")
    assert row["pearson"] == pytest.approx(np.corrcoef(both.T)[0, 1])


def test_a_sentence_sets_the_response_against_each_term(yields):
    look = jn.look(
        yields, "honey_kg given forage_km2, altitude_m, altitude_ft, hive_type", id="hive"
    )
    found = look.correlations.frame.set_index("term")
    assert (found["n"] == 113).all()
    assert np.isinf(found.loc[["altitude_m", "altitude_ft"], "variance_inflation"]).all()
    assert found.loc["forage_km2", "variance_inflation"] < 1.2
    assert set(look.predictor_pairs["column"]) | set(look.predictor_pairs["with"]) == {
        "forage_km2",
        "altitude_m",
        "altitude_ft",
    }
    groups = look.response.frame
    kept = yields.dropna(subset=["honey_kg", "forage_km2"]).groupby("hive_type")["honey_kg"]
    own = groups[groups["term"] == "hive_type"].set_index("group")
    assert own["mean"].to_numpy() == pytest.approx(kept.mean()[own.index].to_numpy())
    assert groups[groups["term"] == "forage_km2"]["n"].sum() == 113


def test_proportions_and_rates():
    winter = jn.sample_data("winter").dropna()
    at = jn.look(winter, "survived of colonies given altitude_m").response
    assert at["events"].sum() == winter["survived"].sum()
    assert at["proportion"].to_numpy() == pytest.approx((at["events"] / at["total"]).to_numpy())
    logit = np.log((at["events"] + 0.5) / (at["total"] - at["events"] + 0.5))
    assert at["empirical_logit"].to_numpy() == pytest.approx(logit.to_numpy())
    assert "½" in at.notes[0]
    mites = jn.look("sample:bee_samples", "mites per bees_sampled given treatment").response
    assert mites["rate"].to_numpy() == pytest.approx(
        (mites["events"] / mites["exposure"]).to_numpy()
    )


def long_table():
    rng = np.random.default_rng(6)
    n = 900
    x, g = rng.normal(size=n), rng.choice(list("pqr"), n)
    table = pd.DataFrame({"x": x, "g": g, "k": rng.integers(0, 4, n), "big": x * 1e200 + 1e199})
    table["y"] = 3 + x + (g == "q") + rng.normal(size=n)
    table["told"] = table["y"] > 3
    table["m"] = rng.integers(1, 9, n)
    table["s"] = rng.binomial(table["m"], 0.3)
    table.loc[[5, 700], ["x", "y"]] = np.nan
    table.loc[444, "x"] = 60.0
    return table


@pytest.mark.parametrize("left_in_a_file", [False, True])
@pytest.mark.parametrize(
    ("sentence", "where"),
    [
        ("y given x, k, g, x * g", None),
        ("big given x, spline(x), 2 * x", "k > 0"),
        ("told given x, g", None),
        ("s of m given log(k + 1), g", "x > -1"),
        ("s per m given bands(x, -0.5, 0.5), k", None),
    ],
)
def test_rows_taken_some_at_a_time_say_the_same(
    sentence, where, left_in_a_file, tmp_path, monkeypatch
):
    table = long_table()
    whole = jn.look(table, sentence, where=where)
    tables = ("correlations", "response", "predictor_pairs", "columns")
    known = [getattr(whole, name).frame for name in tables]
    for room, name, few in (
        (learning, "STRETCH", 100),
        (response, "LOOK_CELLS", 500),
        (order_statistics, "GATHERED", 50),
    ):
        monkeypatch.setattr(room, name, few)
    if left_in_a_file:
        table.to_parquet(tmp_path / "t.parquet")
        table = tmp_path / "t.parquet"
    look = jn.look(table, sentence, where=where)
    for name, theirs in zip(tables, known):
        pd.testing.assert_frame_equal(getattr(look, name).frame, theirs, rtol=1e-9, atol=1e-12)


def test_a_response_goes_with_terms_as_it_is_known_to():
    x = np.arange(101.0)
    table = pd.DataFrame({"x": x, "k": x % 3, "y": np.sqrt(x) + x % 3})
    look = jn.look(table, "y given x, k")
    found = look.correlations.frame.set_index("term")
    for ours, method in (("pearson", "pearson"), ("spearman", "spearman")):
        known = table[["x", "k"]].corrwith(table["y"], method=method)
        assert found[ours][["x", "k"]].to_numpy() == pytest.approx(known.to_numpy(), rel=1e-12)
    groups = look.response.frame
    across_x, across_k = (groups[groups["term"] == name] for name in "xk")
    assert across_x["n"].tolist() == [25, 25, 25, 26]  # a quartile belongs to the range it begins
    assert across_x["group"].tolist() == ["0 to 24", "25 to 49", "50 to 74", "75 to 100"]
    assert across_k["group"].tolist() == ["0", "1", "2"]
    for own, by in ((across_x, np.repeat(np.arange(4), [25, 25, 25, 26])), (across_k, table["k"])):
        known = table["y"].groupby(by).agg(["mean", "std"]).to_numpy()
        assert own[["mean", "standard_deviation"]].to_numpy() == pytest.approx(known, rel=1e-12)


@pytest.mark.parametrize(
    "sentence", ["y given h, x", "m per e given x, h", "y given x, h without intercept"]
)
def test_many_levels_go_with_a_response_as_their_columns_do(sentence, monkeypatch):
    monkeypatch.setattr(response, "LOOK_CELLS", 900)
    rng = np.random.default_rng(3)
    table = long_table().dropna().reset_index(drop=True)
    n = len(table)
    table["h"] = [f"h{i:02d}" for i in rng.choice(40, n, p=[0.61, *[0.01] * 39])]
    table["e"] = rng.choice([0.0, 1, 2], n)
    written = pd.get_dummies(table["h"], dtype=float).iloc[:, int("intercept" not in sentence) :]
    names = [f"h: {name}" for name in written]
    written.columns = names
    found = jn.look(table, sentence).correlations.frame.set_index("term").loc[names]
    height = table["y"] if sentence[0] == "y" else (table["m"] / table["e"])[table["e"] > 0]
    columns = written.loc[height.index]
    for ours, of, with_ in (
        ("pearson", columns, height),
        ("spearman", columns.rank(), height.rank()),
    ):
        known = of.corrwith(with_)
        close = pytest.approx(known.to_numpy(), rel=1e-9, abs=1e-12, nan_ok=True)
        assert found[ours].to_numpy() == close
    if "intercept" in sentence:
        return
    quoted = ", ".join(f'"{name}"' for name in names)
    alone = jn.look(table.join(written), sentence.replace("h", quoted)).correlations.frame
    # a category's levels are one term: its inflation is that of x, which stands beside it alone
    x = alone.set_index("term").loc["x", "variance_inflation"]
    assert found["variance_inflation"].to_numpy() == pytest.approx(x ** (1 / 39), rel=1e-9)


def test_ranks_of_long_columns_are_of_rows_evenly_taken(monkeypatch):
    table = long_table().dropna()
    monkeypatch.setattr(correlations, "LOOK_RANKED", 300)
    some = jn.look(table.iloc[::3], "y given x, k").correlations
    look = jn.look(table, "y given x, k")
    assert "Spearman's over 300 of them taken evenly" in look.correlations.notes[0]
    assert "Spearman's over 300 of them taken evenly" in jn.look(table).correlations.notes[0]
    assert look.correlations["spearman"].tolist() == some["spearman"].tolist()
    assert (look.correlations["n"] == len(table)).all()


@pytest.mark.simulation
def test_pictures_of_long_tables_show_some_rows_and_say_so(monkeypatch, tmp_path):
    monkeypatch.setattr(evenly, "MOST_DRAWN", 100)
    monkeypatch.setattr(learning, "STRETCH", 250)
    long_table().to_parquet(tmp_path / "t.parquet")
    for data in (long_table(), tmp_path / "t.parquet"):
        look = jn.look(data, "y given x, g")
        for name in ("columns", "response", "matrix"):
            figure = look.draw(name, label_rows=[101, 5])
            texts = [t.get_text() for t in figure.findobj(lambda a: hasattr(a, "get_text"))]
            assert any("one row in 9 is drawn, and those farthest out" in t for t in texts)
            assert name == "columns" or "101" in texts
            counts = long_table()["g"].value_counts()
            told = {*counts.index, *map(str, counts)}
            assert name != "columns" or told <= {t.strip() for t in texts}
        panel = next(a for a in look.draw("response").axes if a.get_xlabel() == "x")
        places = panel.collections[0].get_offsets()
        assert 60.0 in places[:, 0]
        assert 100 <= len(places) <= 120
        assert "444" in [t.get_text() for t in panel.texts]
        levels = jn.look(long_table(), "y given x, g").response.frame.set_index("group")
        means = next(a for a in look.draw("response").axes if a.get_xlabel() == "g")
        drawn = {tuple(np.round(line.get_ydata(), 12)) for line in means.lines}
        assert all(any(round(m, 12) in ys for ys in drawn) for m in levels.loc[list("pqr"), "mean"])


@pytest.mark.parametrize("name", ["columns", "response", "matrix"])
def test_pictures(name, tmp_path, yields):
    look = jn.look(yields, "honey_kg given forage_km2, altitude_m, hive_type", id="hive")
    figure = look.draw(name, path=tmp_path / "p.png")
    assert (tmp_path / "p.png").stat().st_size > 5000
    texts = " ".join(t.get_text() for t in figure.findobj(lambda a: hasattr(a, "get_text")))
    assert "forage_km2" in texts
    assert name != "response" or "H031" in texts


@pytest.mark.simulation
def test_what_a_matrix_leaves_out_is_named():
    figure = jn.look("sample:queens", id="queen").draw("matrix")
    words = " ".join(t.get_text() for t in figure.texts)
    assert "not shown: mite_drop, wind_ms, moon_days" in words


@pytest.mark.parametrize(
    ("call", "said"),
    [
        (lambda: jn.look("sample:jars").draw("response"), "needs a sentence"),
        (lambda: jn.look("sample:jars").draw("matrices"), "did you mean 'matrix'?"),
        (lambda: jn.look({"a": ["x", "y"]}).draw("matrix"), "needs two columns of numbers"),
        (lambda: jn.look("sample:jars", where="hours_open > 99"), "no row meets"),
        (lambda: jn.look("sample:jars", "jars_sold given hours"), "did you mean 'hours_open'?"),
        (
            lambda: jn.look({"a": [1, None], "b": [None, 2]}, "a given b").correlations,
            "no row has a value in every one of a, b",
        ),
    ],
)
def test_refusals(call, said):
    with pytest.raises(jn.JoineryError, match=said.replace("?", r"\?")):
        call()


@pytest.mark.parametrize(
    ("values", "told"),
    [
        (np.arange(101.0), "0 ├────┤     50     ├────┤ 100"),
        ([*np.linspace(0, 10, 60), 95.0], "0 ├┤ 5.085 ├┤                    · 95"),
        ([2.0] * 9, ""),
        ([], ""),
    ],
)
def test_the_ruler_has_ends_quarters_the_median_and_far_cells(values, told):
    assert ruler(np.sort(np.asarray(values, float))) == told


def test_the_ruler_stands_for_ends_and_median_before_people_alone():
    look = jn.look("sample:yields")
    assert {"minimum", "median", "maximum", "ruler"} <= set(look.columns.frame.columns)
    text = str(look.columns)
    assert "minimum" not in text
    assert "0.61 ├─┤ 3.38 ├─────────────┤ 11.4" in text
    assert not set(text) & set("▁▂▃▄▅▆▇█")


def test_a_total_is_named_and_letters_that_differ_in_case_alone_once():
    r = np.random.default_rng(2)
    table = pd.DataFrame({"site": np.repeat(["north", "tall"], 20), "y": r.gamma(9, size=40)})
    table.loc[40] = ["sum of all", table["y"].sum()]
    table.loc[3, "site"] = "North"
    text = " ".join(str(jn.look(table)).split())
    assert "in row 40, the sum of all other cells: a total, and no row of the table?" in text
    assert "alike but for case" in text
    assert "one letter" not in text


@pytest.mark.parametrize(("cell", "advised"), [("k.A.", True), ("12 kg", False)])
def test_words_alone_are_offered_as_missing(cell, advised, tmp_path):
    cells = [f"{v / 2}" for v in range(30)]
    cells[4] = cell
    (tmp_path / "t.csv").write_text("x,y\n" + "".join(f"{c},{i}\n" for i, c in enumerate(cells)))
    with pytest.raises(jn.UnusableColumnError) as error:
        jn.fit(tmp_path / "t.csv", "y given x")
    assert ("stands for a missing cell" in str(error.value)) == advised


def test_a_level_of_signs_alone_is_asked_about():
    table = {"flag": ["yes", "no", "?", "yes", "no", "?"], "y": range(6), "sign": list("+-+-+-")}
    page = " ".join(str(jn.look(table)).split())
    assert "flag is '?' in 2 rows: where that stands for a missing cell" in page
    assert "sign is" not in page


@pytest.mark.parametrize(
    ("low", "said"), [([-9.0], True), ([-1.0], False), ([-9.0, -4.0], False), ([-99.0], True)]
)
def test_a_lone_code_below_amounts_is_told(low, said):
    feed = np.append(np.linspace(0, 12, 40), low)
    assert ("far from its other values" in str(jn.look({"feed": feed}))) == said
