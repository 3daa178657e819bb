"""Tables left where they are, in files and databases: wherever the rows lie, the same bits."""

from __future__ import annotations

import gc
import html
import os
import re
import sqlite3
import subprocess
import sys
from functools import partial
from itertools import pairwise
from pathlib import Path

import duckdb
import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.dataset as datasets
import pyarrow.parquet as parquet
import pytest
import sqlalchemy
from matplotlib.text import Text

import joinery as jn
from joinery.core.inference.smooth import smooth
from joinery.data import any_table, columns
from joinery.data.sources import arrow, cells, source
from joinery.design import evenly, learning, row_blocks
from joinery.show.palette import TEAL
from joinery.study import thinned
from joinery.study.check import order
from joinery.study.forecast import table as forecasts
from joinery.study.picture_list import PICTURES
from joinery.study.rows import digest, figures
from tests.draws import FULL

N = 3001
SENTENCES = {
    "y given x, z, g": {},
    "log(y + 40) given centred(x), spline(z), polynomial(x, 2), bands(z, 1, 2), g * h": {},
    "yes given x, g, h": {"where": "z > 0.2"},
    "c given standardized(x), rank(n), g": {"family": "poisson", "offset": "o"},
    "y given x, z, category(n), day": {"weights": "w", "repeats": "r", "missing": "mean"},
    "y given x, lag(z, 1), g": {"order": "t", "std_errors": "clustered", "cluster": "g"},
    "s of m given x, z": {"leave_out": [3, 17], "std_errors": "robust"},
}


def made(n: int = N) -> pd.DataFrame:
    rng = np.random.default_rng(5)
    t = pd.DataFrame({"x": rng.normal(size=n) * 3 + 1, "z": rng.gamma(2, size=n)})
    t["g"] = rng.choice(["long", "short", "Zander", "äther"], n)
    t["h"] = rng.random(n) < 0.4
    t["n"] = rng.integers(1, 5, n)
    t["day"] = pd.Timestamp("2024-03-01") + pd.to_timedelta(rng.integers(0, 300, n), "D")
    t["w"], t["r"], t["o"] = rng.uniform(0.5, 2, n), rng.integers(1, 4, n), rng.uniform(0, 1, n)
    t["t"] = rng.permutation(n)
    t["y"] = t["x"] + t["n"] + (t["g"] == "long") + rng.normal(size=n)
    t["yes"] = rng.random(n) < 1 / (1 + np.exp(-t["x"] + 1))
    t["c"] = rng.poisson(np.exp(0.1 * t["x"] + t["o"]))
    t["m"] = rng.integers(1, 20, n)
    t["s"] = rng.binomial(t["m"], 0.4)
    t.loc[rng.choice(n, 40, replace=False), "z"] = np.nan
    t.loc[rng.choice(n, 15, replace=False), "y"] = np.nan
    t.loc[rng.choice(n, 10, replace=False), "g"] = None
    return t


TABLE = made()


@pytest.fixture(autouse=True)
def nothing_held(monkeypatch):
    """Small tables are left where they are too, and cut into many blocks and stretches."""
    monkeypatch.setattr(any_table, "is_held", lambda source, apart=False: apart)
    monkeypatch.setattr(row_blocks, "BLOCK_ROWS", 256)
    monkeypatch.setattr(cells, "STRETCHES_KEPT", 2)
    for module in (cells, learning):
        monkeypatch.setattr(module, "STRETCH", 700)


def parts(folder: Path, cuts: list[int], table: pd.DataFrame = TABLE, **options) -> Path:
    for place, (a, b) in enumerate(pairwise(cuts)):
        some = table.iloc[a:b].reset_index(drop=True)
        some = some[list(some.columns[::-1])] if place % 2 else some  # columns in another order
        some.to_parquet(folder / f"part-{place:03}.parquet", index=False, **options)
    return folder


def in_one_file(folder):
    TABLE.to_parquet(folder / "t.parquet", row_group_size=431)
    return str(folder / "t.parquet")


def in_one_part(folder):
    return parts(folder, [0, N])


def in_three_parts(folder):
    return str(parts(folder, [0, 7, 7, 2000, N], row_group_size=333)) + "/*.parquet"


def in_two_hundred_parts(folder):
    rng = np.random.default_rng(1)
    return parts(folder, [0, *np.sort(rng.integers(0, N, 199)).tolist(), N])


def in_a_dataset(folder):
    return datasets.dataset(in_three_parts(folder).removesuffix("/*.parquet"))


def in_a_list(folder):
    return sorted(parts(folder, [0, 1500, N]).glob("*.parquet"))


def in_sqlite(folder):
    with sqlite3.connect(folder / "t.db") as base:
        TABLE.assign(day=TABLE["day"].dt.strftime("%Y-%m-%d")).to_sql("t", base, index=False)
    return jn.source(f"sqlite:///{folder}/t.db", query="select * from t")


def in_duckdb(folder):
    file = in_one_file(folder)
    with duckdb.connect(str(folder / "t.duckdb")) as base:
        base.execute(f"create table t as select * from '{file}'")
    return jn.source(f"duckdb:///{folder}/t.duckdb", query="select * from t")


PLACES = [in_one_file, in_one_part, in_three_parts, in_two_hundred_parts, in_a_dataset, in_a_list,
          in_sqlite, in_duckdb]  # fmt: skip


def same(a: pd.DataFrame, b: pd.DataFrame) -> None:
    pd.testing.assert_frame_equal(a, b, check_exact=True)


@pytest.mark.parametrize("place", PLACES)
def test_the_same_bits_wherever_the_rows_lie(place, tmp_path):
    data = place(tmp_path)
    asked = {in_two_hundred_parts: 1, in_three_parts: None}.get(place, 3)
    for sentence, options in list(SENTENCES.items())[:asked]:
        if place is in_sqlite and ("yes" in sentence or "h" in sentence):
            continue  # it has no yes and no, but 1 and 0
        held, left = jn.fit(TABLE, sentence, **options), jn.fit(data, sentence, **options)
        assert left._fitted.origin.table.read_as_needed
        same(held.coefficients().frame, left.coefficients().frame)
        same(held.anova().frame, left.anova().frame[: len(held.anova().frame)])
        same(held.left_out.frame, left.left_out.frame)
        assert held.notes == left.notes
        assert held.equation() == left.equation()


@pytest.mark.parametrize("place", PLACES)
def test_a_small_table_is_simply_read(place, tmp_path, monkeypatch):
    monkeypatch.setattr(any_table, "is_held", source.is_held)
    table = any_table.records(place(tmp_path))
    assert not table.read_as_needed
    sentence = "y given x, z, g"
    same(jn.fit(TABLE, sentence).coefficients().frame, jn.fit(table, sentence).coefficients().frame)
    assert table.frame["g"].isna().sum() == 10


def test_postgresql_hands_out_rows_and_nothing_else(postgres_url, tmp_path):
    engine = sqlalchemy.create_engine(postgres_url.replace("postgresql", "postgresql+psycopg"))
    TABLE.to_sql("t", engine, index=False, if_exists="replace")
    engine.dispose()
    data = jn.source(postgres_url, query="select * from t order by t")
    held = TABLE.sort_values("t", ignore_index=True)
    for sentence in ("y given x, z, g * h, day", "yes given x, g"):
        a, b = jn.fit(held, sentence), jn.fit(data, sentence)
        same(a.coefficients().frame, b.coefficients().frame)
    with pytest.raises(jn.DataError, match="relation .*nowhere.* does not exist"):
        jn.source(postgres_url, query="select * from nowhere")
    wrong = postgres_url.replace("a%20secret", "wrong")
    with pytest.raises(jn.DataError) as refusal:
        jn.source(wrong, query="select 1")
    assert "password" in str(refusal.value)
    assert "wrong" not in str(refusal.value)


def test_every_type_of_a_postgresql_column_comes_as_what_it_is(postgres_url):
    query = (
        "select i::int8 as whole, (i / 3.0)::numeric as exact, i / 7.0::float8 as number, "
        "i % 2 = 0 as flag, 'l' || i % 3 as word, date '2024-01-01' + i::int as day, "
        "timestamp '2024-01-01 10:00' + i * interval '1 hour' as moment, "
        "case when i > 5 then i end as late from generate_series(1, 60) i order by i"
    )
    table = any_table.records(jn.source(postgres_url, query=query))
    kinds = {name: table.column(name).kind for name in table.names}
    assert kinds == {
        "whole": "number", "exact": "number", "number": "number", "flag": "yes/no",
        "word": "category", "day": "date", "moment": "date", "late": "number",
    }  # fmt: skip
    assert table.column("exact").numbers(slice(2, 3))[0] == 1.0
    assert table.column("late").missing(slice(0, 7)).tolist() == [True] * 5 + [False] * 2


def test_a_connection_that_drops_in_the_middle_leaves_nothing(postgres_url, monkeypatch, tmp_path):
    from joinery.data.sources import database

    monkeypatch.setattr(database, "FETCHED_ROWS", 100)
    monkeypatch.setenv("TMPDIR", str(tmp_path))
    monkeypatch.setattr("tempfile.tempdir", None)
    query = (
        "select i, pg_terminate_backend(case when i = 5000 then pg_backend_pid() end) "
        "from generate_series(1, 9000) i"
    )
    with pytest.raises(jn.DataError, match="the database postgresql://127.0.0.1.* refuses"):
        jn.source(postgres_url, query=query)
    assert list(tmp_path.iterdir()) == []


def test_a_query_is_read_once_and_its_folder_goes_with_it(tmp_path, monkeypatch):
    monkeypatch.setenv("TMPDIR", str(tmp_path / "scratch"))
    (tmp_path / "scratch").mkdir()
    monkeypatch.setattr("tempfile.tempdir", None)
    data = in_sqlite(tmp_path)
    fit = jn.fit(data, "y given x, z")
    (tmp_path / "t.db").unlink()  # the rows are there without it
    before = fit.coefficients().frame
    same(before, fit.revise(level=0.95).coefficients().frame)
    assert len(list((tmp_path / "scratch").iterdir())) == 1
    del data, fit
    gc.collect()
    assert list((tmp_path / "scratch").iterdir()) == []


def test_columns_of_a_query_may_begin_with_none_and_change_their_type(tmp_path, monkeypatch):
    from joinery.data.sources import database

    monkeypatch.setattr(database, "FETCHED_ROWS", 10)
    table = pd.DataFrame({"x": [*range(40)], "late": [None] * 15 + ["a", "b"] * 12 + [None]})
    table["y"] = [*range(20), *np.linspace(0, 1, 20)]
    with sqlite3.connect(tmp_path / "t.db") as base:
        table.astype(object).to_sql("t", base, index=False)
    data = jn.source(f"sqlite:///{tmp_path}/t.db", query="select * from t")
    same(
        jn.fit(table, "y given x, late").coefficients().frame,
        jn.fit(data, "y given x, late").coefficients().frame,
    )


def test_levels_that_differ_from_part_to_part_are_one_category(tmp_path):
    table = TABLE.assign(g=pd.Categorical(TABLE["g"], ["short", "long", "äther", "Zander"]))
    for place, (a, b) in enumerate([(0, 900), (900, 2000), (2000, N)]):
        table.iloc[a:b].to_parquet(tmp_path / f"{place}.parquet", index=False)
    held, left = jn.fit(table, "y given x, g"), jn.fit(tmp_path, "y given x, g")
    same(held.coefficients().frame, left.coefficients().frame)
    text = TABLE.sort_values("g", ignore_index=True)  # each part has levels of its own
    folder = tmp_path / "sorted"
    folder.mkdir()
    parts(folder, [0, 500, 1500, 2500, N], text)
    same(
        jn.fit(text, "y given x, g").coefficients().frame,
        jn.fit(folder, "y given x, g").coefficients().frame,
    )


def test_a_folder_cut_by_a_column_has_that_column(tmp_path):
    table = TABLE.dropna().sort_values("n", ignore_index=True)
    for n, some in table.groupby("n"):
        (tmp_path / f"n={n}").mkdir()
        some.drop(columns="n").to_parquet(tmp_path / f"n={n}" / "rows.parquet", index=False)
    same(
        jn.fit(table, "y given x, category(n)").coefficients().frame,
        jn.fit(tmp_path, "y given x, category(n)").coefficients().frame,
    )


@pytest.mark.parametrize(
    "sentence", ["y given x, z, g", "yes given x, g", "log(y + 40) given x, day"]
)
@pytest.mark.parametrize("ending", [".parquet", ".csv"])
def test_rows_and_forecasts_are_written_as_they_are_shown(sentence, ending, tmp_path):
    (tmp_path / "data").mkdir()
    data = in_three_parts(tmp_path / "data")
    held, left = jn.fit(TABLE, sentence), jn.fit(data, sentence)
    shown, out = held.rows().frame, jn.read(left.write_rows(tmp_path / f"rows{ending}"))
    assert out["row"].tolist() == shown.index.tolist()
    assert list(out)[1:] == list(shown)
    numbers = [c for c in shown if c not in ("verdict", "reason")]
    used = ~shown["reason"].str.startswith("left out").to_numpy()
    assert np.array_equal(out[numbers][used], shown[numbers][used], equal_nan=True)
    # rows left out are computed some at a time, as they come: the same but for the last bit
    assert np.allclose(out[numbers], shown[numbers], rtol=1e-12, equal_nan=True)
    assert out["reason"].astype(object).fillna("").tolist() == shown["reason"].tolist()
    shown = held.forecast(TABLE).frame
    file = left.write_forecasts(data, tmp_path / f"forecasts{ending}")
    out = jn.read(file)
    assert list(out)[1:] == list(shown)
    numbers = [c for c in shown if c not in ("inside", "note")]
    assert np.array_equal(out[numbers], shown[numbers], equal_nan=True)
    for words in ("inside", "note"):
        assert (
            out[words].astype(object).fillna("").tolist()
            == shown[words].astype(object).fillna("").tolist()
        )


def test_a_look_says_the_same(tmp_path):
    held, left = jn.look(TABLE), jn.look(in_three_parts(tmp_path))
    a, b = held.columns.frame, left.columns.frame
    for name in a:
        if a[name].dtype.kind == "f":
            assert (
                a[name].to_numpy() == pytest.approx(b[name].to_numpy(), rel=1e-12, nan_ok=True)
                or name == "distinct"
            )
        else:
            assert a[name].tolist() == b[name].tolist() or name == "distinct"
    many = b["distinct"].isna()
    assert (a["distinct"][~many] == b["distinct"][~many]).all()
    assert (a["distinct"][many] > 1000).all()
    a, b = held.correlations.frame, left.correlations.frame
    assert a["column"].tolist() == b["column"].tolist()
    for name in ("pearson", "spearman", "p", "n"):
        assert a[name].to_numpy(float) == pytest.approx(
            b[name].to_numpy(float), rel=1e-9, abs=1e-12
        )
    assert set(held.columns.notes) <= {*left.columns.notes}
    full = TABLE.dropna()[["x", "y", "z"]]
    full.to_parquet(tmp_path / "full.parquet")
    r = jn.look(tmp_path / "full.parquet").correlations.frame.set_index(["column", "with"])[
        "pearson"
    ]
    known = full.corr()
    assert r.to_numpy() == pytest.approx([known.loc[pair] for pair in r.index], rel=1e-12)


ODD = {
    "stand-in": np.where(np.arange(600) % 50 == 0, -99, 20 + np.arange(600) % 40),
    "tail": np.exp(np.random.default_rng(1).normal(size=600) * 2),
    "few": np.arange(600) % 3 + 0.0,
    "same": np.full(600, 4.0),
    "none": np.full(600, np.nan),
}


@pytest.mark.parametrize("name", ODD)
def test_what_is_odd_about_a_column_is_said_of_files_too(name, tmp_path):
    table = pd.DataFrame({"y": np.arange(600.0), "v": ODD[name]})
    table.to_parquet(tmp_path / "t.parquet")
    held = [n for n in jn.look(table).columns.notes if n.startswith("v ")]
    left = [n for n in jn.look(tmp_path / "t.parquet").columns.notes if n.startswith("v ")]
    assert held
    assert held == left


def test_changing_comparing_and_choosing_models_on_files(tmp_path):
    (tmp_path / "data").mkdir()
    data = in_three_parts(tmp_path / "data")
    whole = TABLE.dropna().reset_index(drop=True)
    whole.to_parquet(tmp_path / "whole.parquet", row_group_size=500)
    held, left = jn.fit(TABLE, "y given x, z"), jn.fit(data, "y given x, z")
    same(
        held.revise(add="g", leave_out=[5]).coefficients().frame,
        left.revise(add="g", leave_out=[5]).coefficients().frame,
    )
    same(jn.compare(held, held.revise(add="n")).frame, jn.compare(left, left.revise(add="n")).frame)
    same(held.crosscheck().frame, left.crosscheck().frame)
    same(held.crosscheck(folds=5, seed=2).frame, left.crosscheck(folds=5, seed=2).frame)
    a, b = (
        jn.stepwise(t, "y given x, z, g, n, day", criterion="bic")
        for t in (whole, str(tmp_path / "whole.parquet"))
    )
    same(a.steps.frame, b.steps.frame)
    for name in ("residuals", "quantiles", "line"):
        assert left.draw(name).axes
    assert left.report(tmp_path / "page.html").exists()


def uncounted(page):
    """The words of a page, without how near two of three rows lie, which takes all of them."""
    words = " ".join(page.split())
    return re.sub(r"(Two of three|The residual SD)[^(]*\([^)]*\)", "", words)


@pytest.mark.parametrize(
    ("sentence", "options"),
    [
        ("y given x, z, g", {}),
        ("y given x, g * h", {"weights": "w"}),
        ("yes given x, g", {}),
        ("c given x", {"family": "poisson"}),
        ("n given x, z", {"family": "gamma"}),
    ],
)
def test_pages_and_checks_of_rows_that_are_not_held(
    sentence, options, tmp_path, monkeypatch, of_the_model_alone
):
    """More rows than are held: what is asked of all of them is found by going through them."""
    from joinery.study.check import straight

    large = made(7000)
    large.to_parquet(tmp_path / "t.parquet", row_group_size=900)
    held = jn.fit(large, sentence, **options)
    told, page = held.checks().frame, str(held)
    near, typical = (
        held.forecast(large[:40]).frame,
        jn.fit(large, "y given x, g * h").adjusted_means("g").frame,
    )
    for module, name in ((figures, "MOST_HELD"), (digest, "DIGEST_ROWS"), (straight, "MOST_ALIKE")):
        monkeypatch.setattr(module, name, 1000)
    left = jn.fit(tmp_path / "t.parquet", sentence, **options)
    assert uncounted(str(left)) == uncounted(page)
    ours = left.checks().frame.set_index("check")
    compared = 0
    for line in told.itertuples():
        if line.check in ours.index and np.isfinite(line.statistic):
            mine = ours.loc[line.check]
            assert (mine["statistic"], mine["verdict"]) == (
                pytest.approx(line.statistic, rel=1e-9),
                line.verdict,
            )
            compared += 1
    unsaid = told[~told["check"].isin(ours.index)]["check"]
    assert compared >= 5
    assert unsaid.str.contains("lack of fit").all(), unsaid.tolist()
    same(near, left.forecast(large[:40]).frame)
    means = jn.fit(tmp_path / "t.parquet", "y given x, g * h").adjusted_means("g").frame
    same(typical, means)
    same(near, jn.load(left.save(tmp_path / "fit.json")).forecast(large[:40]).frame)


def test_cut_offs_of_rows_that_are_not_held(tmp_path, monkeypatch):
    large = made(7000)
    large.to_parquet(tmp_path / "t.parquet", row_group_size=900)
    held = jn.fit(large, "yes given x, g")
    told = held.cutoffs()
    monkeypatch.setattr(figures, "MOST_HELD", 1000)
    monkeypatch.setattr(row_blocks, "BLOCK_ROWS", 900)
    left = jn.fit(tmp_path / "t.parquet", "yes given x, g")
    same(told.frame, left.cutoffs().frame)
    assert told.notes == left.cutoffs().notes  # the share of pairs is among them
    for name in ("cutoffs", "calibration"):
        (ours,), (theirs,) = (fit.draw(name).axes for fit in (held, left))
        assert ours.title.get_text() == theirs.title.get_text()
        assert [t.get_text() for t in ours.texts] == [t.get_text() for t in theirs.texts]


@pytest.mark.sampled(3)
@pytest.mark.parametrize(
    ("sentence", "options", "asked"),
    [
        ("y given x, z, g", {}, {}),
        ("y given x, g", {"weights": "w", "repeats": "r"}, {}),
        ("y given x, g", {"weights": "w", "repeats": "r", "offset": "o"}, {"folds": 4}),
        ("y given x, g", {}, {"by": "n"}),
        ("log(y + 40) given x without intercept", {"order": "t"}, {"folds": 3}),
        ("yes given x, g", {}, {"folds": 3}),
        ("s of m given x", {"repeats": "r"}, {"folds": 3}),
        ("c given x, g", {"family": "poisson", "offset": "o"}, {"folds": 3}),
    ],
    ids=str,
)
def test_rows_that_are_not_held_are_crosschecked_as_those_that_are(
    sentence, options, asked, tmp_path, monkeypatch
):
    with monkeypatch.context() as whole:
        whole.setattr(row_blocks, "BLOCK_ROWS", 2**15)
        held = jn.fit(TABLE, sentence, **options)
        told, effects = held.crosscheck(**asked, seed=2), held.average_effects()
    monkeypatch.setattr(figures, "MOST_HELD", 1000)
    left = jn.fit(in_one_file(tmp_path), sentence, **options)
    found = left.crosscheck(**asked, seed=2)
    assert found.notes == told.notes
    assert found["figure"].tolist() == told["figure"].tolist()
    assert any("calibration" in f for f in told["figure"]) == sentence.startswith(("yes", "s of"))
    for column in ("unseen", "fitted_rows"):
        ours, theirs = (t[column].to_numpy() for t in (found, told))
        # chances in classes: the totals' hardly differ, which makes the slope a delicate one
        classed = np.array(["area" in f or "slope" in f for f in told["figure"]])
        assert ours[~classed] == pytest.approx(theirs[~classed], rel=1e-9, abs=1e-12)
        assert ours[classed] == pytest.approx(theirs[classed], rel=5e-3)
    close = partial(pd.testing.assert_frame_equal, check_exact=False, rtol=1e-7)
    close(effects.frame, left.average_effects().frame)
    close(*(jn.compare([fit, fit]).frame.dropna(axis=1) for fit in (held, left)))


def test_regions_count_rows_that_are_not_held(tmp_path, monkeypatch):
    table = TABLE.assign(y=TABLE["y"] + TABLE["x"] * (TABLE["z"] - 2))
    table.to_parquet(tmp_path / "t.parquet", row_group_size=431)
    monkeypatch.setattr(figures, "MOST_HELD", 1000)
    left = jn.fit(tmp_path / "t.parquet", "y given x, z, x * z", repeats="r")
    found = left.slope_regions("x", across="z").frame
    rows = table.dropna(subset=["y", "x", "z"])
    inside = [
        rows["r"] @ rows["z"].between(start, stop) / rows["r"].sum()
        for start, stop in zip(found["from"], found["to"], strict=True)
    ]
    assert len(found) == 3
    assert found["share_of_rows"].tolist() == pytest.approx(inside, rel=1e-12)


def test_an_order_may_have_more_places_than_are_told_apart_as_levels(tmp_path, monkeypatch):
    monkeypatch.setattr(columns, "MOST_DISTINCT", 1000)
    table, data = TABLE.assign(t=TABLE["t"] * 1.5), tmp_path / "t.parquet"
    table.to_parquet(data, row_group_size=431)
    for sentence, options in {
        "y given x, lag(x, 2)": {},
        "y given x": {"std_errors": "autocorrelated"},
    }.items():
        told, found = (jn.fit(d, sentence, order="t", **options) for d in (table, data))
        same(told.coefficients().frame, found.coefficients().frame)
    with pytest.raises(jn.UnusableColumnError, match="more than 1,000 different values"):
        jn.fit(data, "y given category(t)")


@pytest.mark.parametrize("options", [{}, {"weights": "w"}, {"order": "t"}], ids=str)
def test_neighbours_are_followed_from_block_to_block(options, tmp_path, monkeypatch):
    table = made(1500).assign(t=lambda d: -d.index, w=lambda d: np.arange(len(d)) % 3)
    table.to_parquet(tmp_path / "t.parquet", row_group_size=400)

    def checks(data):
        found = jn.fit(data, "y given x, g", **options).checks().frame
        return found[found["question"].str.contains("neighbouring")]

    told = checks(table)
    assert told["check"].str.contains("Godfrey").any()
    monkeypatch.setattr(order, "ORDER_CELLS", 0)
    monkeypatch.setattr(row_blocks, "BLOCK_ROWS", 67)
    without_basis = checks(table)
    monkeypatch.setattr(figures, "MOST_HELD", 100)
    left = checks(tmp_path / "t.parquet")
    if "order" in options:
        assert left["verdict"].tolist() == ["not judged"]
        left = without_basis
    for ours in (without_basis, left):
        assert ours["check"].tolist() == told["check"].tolist()
        assert ours["statistic"].to_numpy() == pytest.approx(told["statistic"].to_numpy(), rel=1e-9)
        assert ours["p"].to_numpy()[-1] == pytest.approx(told["p"].to_numpy()[-1], rel=0.1)


@pytest.mark.sampled(2)
@pytest.mark.parametrize("sentence", ["yes given x, g", "c given z, g"])
def test_pictures_of_many_rows_show_some_and_every_remarkable_one(sentence, tmp_path, monkeypatch):
    large = made(7000).assign(id=lambda t: [f"R{i:04d}" for i in t.index])
    large.loc[[41, 5005], ["y", "c"]] = [[90.0, 60], [-80.0, 50]]
    large.to_parquet(tmp_path / "t.parquet", row_group_size=900)
    options = {"family": "poisson"} if sentence.startswith("c") else {}
    held = jn.fit(large, sentence, id="id", **options)
    names = {
        name: picture.thinned == "with remarkable"
        for name, picture in PICTURES.items()
        if picture.thinned and (name != "line" or sentence[0] == "c")
    }
    if not FULL:  # every other one
        names = dict(list(names.items())[::2])

    def texts(figure):  # p of neighbours is approximate where rows are not held
        found = (t.get_text().replace("\n", " ") for t in figure.findobj(Text))
        return {re.sub(r"p = 0\.\d+", "p", text) for text in found}

    whole, rows = {name: texts(held.draw(name)) for name in names}, len(held.rows())
    monkeypatch.setattr(figures, "MOST_HELD", 1000)
    monkeypatch.setattr(digest, "DIGEST_ROWS", 1000)
    monkeypatch.setattr(evenly, "MOST_DRAWN", 500)
    left = jn.fit(tmp_path / "t.parquet", sentence, id="id", **options)
    in_memory = jn.fit(large, sentence, id="id", **options)
    for name, beside in names.items():
        some = texts(left.draw(name))
        assert any(f"one row in {-(-rows // 500)} is drawn" in text for text in some), name
        flags = {text for text in whole[name] if text[:1] == "R" and text[1:].isdecimal()}
        if beside and name != "observed_fitted":
            assert flags <= some, name
        if beside:
            assert some == texts(in_memory.draw(name)), name
    asked = left.draw("residuals", label_rows=["R0005", "R6999"])
    assert {"R0005", "R6999"} <= texts(asked)
    numbers = left.draw("sequence").axes[0].get_xlim()
    assert numbers[1] > 6000  # rows keep their numbers among all
    with pytest.raises(jn.CallError, match="no row is labelled 'R7000'"):
        left.draw("residuals", label_rows=["R7000"])


@pytest.mark.parametrize(
    "sentence", ["y given x, lag(y, 1), g", "(y - lag(y, 2)) given x, lag(log(z), 1, by=g)"]
)
def test_pictures_of_many_rows_that_look_back_show_what_all_rows_say(
    sentence, tmp_path, monkeypatch
):
    large = made(7000).sample(frac=1, random_state=1).assign(t=lambda t: np.arange(len(t))[::-1])
    large.to_parquet(tmp_path / "t.parquet", row_group_size=900)
    held = jn.fit(large, sentence, order="t")
    rows = held.rows().frame.dropna(subset="residual")
    monkeypatch.setattr(figures, "MOST_HELD", 1000)
    monkeypatch.setattr(digest, "DIGEST_ROWS", 1000)
    monkeypatch.setattr(evenly, "MOST_DRAWN", 500)
    left = jn.fit(tmp_path / "t.parquet", sentence, order="t")
    drawn, said = thinned.thinned(left._fitted, "residuals", "flagged")
    assert "is drawn" in said
    places = thinned.numbers_of(drawn).astype(int) - 1
    found = figures.per_row(drawn)
    assert found.residual == pytest.approx(rows["residual"].to_numpy()[places], rel=1e-9, abs=1e-9)
    assert found.influence.leverage == pytest.approx(rows["leverage"].to_numpy()[places], rel=1e-9)


def test_remarkable_rows_bend_no_smooth(tmp_path, monkeypatch):
    large = made(7000)
    large.to_parquet(tmp_path / "t.parquet", row_group_size=900)
    held = jn.fit(large, "y given x, g")
    rows = held.rows().frame.assign(x=large["x"])
    rows = rows[~rows["reason"].str.startswith("left out")]
    monkeypatch.setattr(figures, "MOST_HELD", 1000)
    monkeypatch.setattr(digest, "DIGEST_ROWS", 1000)
    monkeypatch.setattr(evenly, "MOST_DRAWN", 700)
    left = jn.fit(tmp_path / "t.parquet", "y given x, g")
    even = rows.assign(number=np.arange(1.0, len(rows) + 1))[5::10]
    squares = even["residual"] ** 2 / (1 - even["leverage"])
    for name, x, y, options in [
        ("residuals", "fitted", even["residual"], {}),
        ("sequence", "number", even["residual"], {"span": 0.3}),
        ("spread", "fitted", squares, {"rounds": 0}),
    ]:
        curve = smooth(even[x].to_numpy(), y.to_numpy(), **options)
        height = np.sqrt(curve.height) if name == "spread" else curve.height
        lines = left.draw(name).axes[0].lines
        drawn = next(line for line in lines if line.get_color() == TEAL)
        assert drawn.get_xdata() == pytest.approx(curve.at)
        assert drawn.get_ydata() == pytest.approx(height), name
    for name in ("line", "component_residual"):
        lines = left.draw(name).axes[0].lines
        drawn = next(line for line in lines if line.get_color() == TEAL)
        assert drawn.get_xdata()[[0, -1]] == pytest.approx([even["x"].min(), even["x"].max()])


def test_what_is_sent_of_rows_that_are_not_held_lists_the_remarkable_ones(tmp_path, monkeypatch):
    large = made(7000).assign(id=lambda t: [f"R{i:04d}" for i in t.index])
    large.loc[[41, 5005], "y"] = [90.0, -80.0]
    large.to_parquet(tmp_path / "t.parquet", row_group_size=900)
    held = jn.fit(large, "y given x, g", id="id").rows().frame
    worst = held[held["verdict"].isin(["caution", "serious"])]
    monkeypatch.setattr(figures, "MOST_HELD", 1000)
    monkeypatch.setattr(digest, "DIGEST_ROWS", 1000)
    monkeypatch.setattr(evenly, "MOST_DRAWN", 500)
    left = jn.fit(tmp_path / "t.parquet", "y given x, g", id="id")
    page = left.report(tmp_path / "r.html").read_text()
    assert {"R0041", "R5005"} <= set(worst.index)
    table = page[page.index('id="rows"') :]
    lines = {n: line for line, n in re.findall(r"(<tr data-r=.*?>(R\d+)<.*?</tr>)", table, re.S)}
    assert len(lines) < 300
    for label, row in worst.iterrows():
        cells = [html.unescape(c) for c in re.findall(r"<td[^>]*>(.*?)</td>", lines[label])]
        assert cells[:2] == [row["verdict"], row["reason"]]
        assert float(cells[2].replace("−", "-")) == pytest.approx(row["observed"], abs=0.01)
    # a point and its line carry the same number
    number = re.match(r"<tr data-r=(\d+)", lines["R5005"])[1]
    assert len(re.findall(rf'<circle[^>]*data-r="{number}"', page)) >= 3
    assert page.count("one row in 14 is drawn") >= 4
    assert "no picture" not in page
    sheet = pd.read_excel(
        left.write(tmp_path / "book.xlsx"), sheet_name="rows", header=1, index_col=0
    )
    shown = sheet.loc[worst.index, "fitted"].to_numpy(float)
    assert shown == pytest.approx(worst["fitted"].to_numpy(), rel=1e-9)
    said = [t.get_text().replace("\n", " ") for t in left.draw("checks").findobj(Text)]
    assert any("one row in 14 is drawn" in words for words in said)


def test_pictures_of_lagged_terms_want_all_rows(tmp_path, monkeypatch):
    fit = jn.fit(in_one_file(tmp_path), "y given x, lag(z, 1)", order="t")
    monkeypatch.setattr(figures, "MOST_HELD", 1000)
    with pytest.raises(jn.TooLargeError, match="a question of single rows"):
        fit.revise(level=0.9).draw("residuals")


# ------------------------------------------------------------------ what cannot be, and says so


def test_what_needs_all_rows_says_so_and_what_to_do(tmp_path, monkeypatch):
    fit = jn.fit(in_one_file(tmp_path), "y given x, z")
    monkeypatch.setattr(figures, "MOST_HELD", 1000)
    monkeypatch.setattr(digest, "DIGEST_ROWS", 1000)
    fit = fit.revise(level=0.9)
    for ask in (
        fit.rows,
        lambda: fit.forecast("x = 1, z = 2", intervals="distribution-free"),
    ):
        with pytest.raises(jn.TooLargeError, match=r"2,946 rows in memory.*write_rows.*sample"):
            ask()
    with pytest.raises(jn.TooLargeError, match=r'the bootstrap needs.*std_errors="robust".*sample'):
        fit.bootstrap()
    with pytest.raises(jn.TooLargeError, match=r"a copy of the response needs.*write_forecasts"):
        fit.simulate(2)
    monkeypatch.setattr(forecasts, "MOST_HELD", 1000)
    with pytest.raises(jn.TooLargeError, match=r"a table of forecasts needs all 3,001.*write_"):
        fit.forecast(in_one_file(tmp_path))
    monkeypatch.setattr(learning, "MOST_RANKED", 100)
    with pytest.raises(jn.UnusableColumnError, match=r"rank\(x\).*more than 100 different values"):
        jn.fit(in_one_file(tmp_path), "y given rank(x)")
    monkeypatch.setattr(cells, "WHOLE_ROWS", 1000)
    with pytest.raises(jn.TooLargeError, match="this use of z needs all 3,001 rows in memory"):
        jn.fit(in_one_file(tmp_path), "y given x, lag(z, 1)", order="t")


def test_files_that_are_no_table_are_refused_by_name(tmp_path, monkeypatch):
    with pytest.raises(jn.DataError, match="holds no .parquet files"):
        jn.fit(tmp_path, "y given x")
    with pytest.raises(jn.DataError, match="no file is like"):
        jn.fit(str(tmp_path / "*.parquet"), "y given x")
    good, bad = tmp_path / "a.parquet", tmp_path / "b.parquet"
    TABLE.to_parquet(good)
    bad.write_bytes(good.read_bytes()[:2000])
    with pytest.raises(jn.FileFormatError, match=r"b.parquet cannot be read"):
        jn.fit(tmp_path, "y given x")
    TABLE.drop(columns="x").to_parquet(bad)
    with pytest.raises(jn.FileFormatError, match=r"b.parquet lacks x"):
        jn.fit(tmp_path, "y given x")
    TABLE.iloc[:0].to_parquet(bad)
    good.unlink()
    with pytest.raises(jn.EmptyTableError, match="no rows"):
        jn.fit(tmp_path, "y given x")
    for call, words in (
        (lambda: jn.source("t.csv"), "neither a Parquet file"),
        (lambda: jn.source("sqlite:///t.db"), "say what to select with jn.source"),
        (lambda: jn.source(str(tmp_path), query="select 1"), "query= is for"),
        (lambda: jn.source("sqlite:///nowhere.db", query="select 1"), "no such file"),
        (lambda: jn.fit("sqlite:///t.db", "y given x"), "say what to select"),
    ):
        with pytest.raises(jn.JoineryError, match=words):
            call()


@pytest.mark.parametrize("kept", [2**22, 100])
def test_small_files_are_opened_once_however_many_columns(kept, tmp_path, monkeypatch):
    opened = []
    real = arrow.ArrowSource._columns_of
    monkeypatch.setattr(arrow.ArrowSource, "_columns_of", lambda source, group, columns: (
        opened.append(group.path), real(source, group, columns))[1])  # fmt: skip
    monkeypatch.setattr(arrow, "GROUP_CELLS_KEPT", kept)
    sentence = "y given x, z, n, o, g"
    same(
        jn.fit(TABLE, sentence).coefficients().frame,
        jn.fit(in_two_hundred_parts(tmp_path), sentence).coefficients().frame,
    )
    files = len(set(opened))
    assert files > 150
    if kept > 100:  # all that a sentence names comes together, and serves every pass
        assert len(opened) == files


def test_a_file_that_changes_under_a_fit_is_noticed(tmp_path, monkeypatch):
    monkeypatch.setattr(arrow, "PART_ROWS", 1)  # else all its rows are still at hand
    file = tmp_path / "t.parquet"
    TABLE.to_parquet(file, row_group_size=500)
    fit = jn.fit(str(file), "y given x, z")
    TABLE.iloc[::-1].to_parquet(file)
    with pytest.raises(jn.DataError, match="was changed while its rows were in use"):
        fit.revise(drop="z")


def test_writing_that_fails_leaves_no_file(tmp_path, monkeypatch):
    monkeypatch.setattr(arrow, "PART_ROWS", 1)
    file = tmp_path / "t.parquet"
    TABLE.to_parquet(file, row_group_size=500)
    fit = jn.fit(str(file), "y given x, z")
    str(fit)
    file.unlink()
    (tmp_path / "out").mkdir()
    for ending in (".parquet", ".csv"):
        with pytest.raises(jn.FileFormatError, match=r"t.parquet cannot be read"):
            fit.write_rows(tmp_path / "out" / f"rows{ending}")
    with pytest.raises(jn.CallError, match="its ending is one of .parquet, .csv"):
        fit.write_rows(tmp_path / "out" / "rows.xlsx")
    assert list((tmp_path / "out").iterdir()) == []


def test_the_command_takes_folders_patterns_and_queries(joinery, tmp_path):
    data = in_three_parts(tmp_path)
    status, out, _ = joinery("fit", data, "y given x, z, g")
    assert status == 0
    assert "left out: 40 no z, 15 no y" in " ".join(out.split())
    assert joinery("fit", tmp_path, "y given x, z, g")[1] == out.replace(data, str(tmp_path))
    in_sqlite(tmp_path)
    status, asked, _ = joinery(
        "fit", f"sqlite:///{tmp_path}/t.db", "y given x, z, g", "--query", "select * from t"
    )
    assert status == 0
    assert asked == out
    status, _, told = joinery("rows", data, "y given x, z", "--output", tmp_path / "rows.csv")
    assert status == 0
    assert len(jn.read(tmp_path / "rows.csv")) == N
    status, _, told = joinery(
        *("forecast", data, "y given x, z", "--new", data, "--output", tmp_path / "g.csv"),
        *("--hold", "average"),
    )
    assert status == 2
    assert "--hold is for forecasts of rows in memory" in " ".join(told.split())
    status, _, told = joinery(
        "forecast", data, "y given x, z", "--new", data, "--output", tmp_path / "f.parquet"
    )
    assert status == 0, told
    assert len(jn.read(tmp_path / "f.parquet")) == N
    status, _, told = joinery("fit", f"sqlite:///{tmp_path}/t.db", "y given x")
    assert status == 2
    assert "--query" in told


@pytest.mark.skipif(not FULL, reason="memory is traced slowly: make full")
def test_memory_stays_flat_as_rows_grow(tmp_path):
    """Peak memory of a fit, its page and its rows written: twice the rows, hardly more."""
    peaks = []
    for times in (2, 4):
        file = tmp_path / f"{times}.parquet"
        schema = None
        for k in range(times):
            rng = np.random.default_rng(k)
            table = pa.table({n: rng.normal(size=100_000) for n in ("y", "a", "b", "c", "d")})
            schema = schema or parquet.ParquetWriter(file, table.schema)
            schema.write_table(table)
        schema.close()
        code = (
            "import tracemalloc, pyarrow as pa, joinery as jn\n"
            "from joinery.core.blocks import order_statistics\n"
            "from joinery.data.sources import arrow, cells, source\n"
            "from joinery.study.check import straight\n"
            "from joinery.study.rows import digest\n"
            "source.HELD_CELLS = digest.DIGEST_ROWS = straight.MOST_ALIKE = 0\n"
            "cells.STRETCHES_KEPT, order_statistics.GATHERED = 2, 2**12\n"
            "tracemalloc.start()\n"
            f"fit = jn.fit({str(file)!r}, 'y given a, b, c, d')\n"
            f"str(fit); fit.write_rows({str(tmp_path / 'rows.parquet')!r})\n"
            "print(tracemalloc.get_traced_memory()[1] + pa.default_memory_pool().max_memory())"
        )
        one_thread = os.environ | {"OMP_NUM_THREADS": "1"}
        done = subprocess.run(
            [sys.executable, "-c", code], capture_output=True, text=True, env=one_thread
        )
        assert done.returncode == 0, done.stderr
        peaks.append(float(done.stdout))
    held = 2 * 100_000 * 5 * 8  # what the rows added would take
    assert peaks[1] - peaks[0] < held / 2, peaks


def test_a_source_says_what_it_holds(tmp_path):
    left = jn.source(in_one_file(tmp_path))
    assert sum(left.lengths) == N
    assert left.schema.names[:2] == ["x", "z"]
    assert source.is_held(left)


def stopped(monkeypatch, module, name, times):
    """An interrupt at a call of a function."""
    calls, real = [], getattr(module, name)

    def called(*given):
        calls.append(1)
        if len(calls) == times:
            raise KeyboardInterrupt
        return real(*given)

    monkeypatch.setattr(module, name, called)


def test_an_interrupt_leaves_nothing_and_says_how_far_it_came(tmp_path, monkeypatch):
    from joinery.data.sources import database
    from joinery.study.rows import written

    in_sqlite(tmp_path)
    scratch = tmp_path / "scratch"
    scratch.mkdir()
    monkeypatch.setenv("TMPDIR", str(scratch))
    monkeypatch.setattr("tempfile.tempdir", None)
    monkeypatch.setattr(database, "FETCHED_ROWS", 500)
    stopped(monkeypatch, database, "_table", 3)
    with pytest.raises(KeyboardInterrupt) as stop:
        jn.source(f"sqlite:///{tmp_path}/t.db", query="select * from t")
    assert stop.value.__notes__ == ["1,000 rows read were done"]
    fit = jn.fit(in_one_file(tmp_path), "y given x")
    stopped(monkeypatch, written, "row_columns", 3)
    with pytest.raises(KeyboardInterrupt) as stop:
        fit.write_rows(scratch / "rows.parquet")
    assert stop.value.__notes__ == ["514 of 3,001 rows written were done"]
    assert list(scratch.iterdir()) == []


def test_a_terminal_sees_how_far_a_pass_is(tmp_path, monkeypatch, capsys):
    from joinery.support import progress

    monkeypatch.setattr(progress, "PATIENCE", 0.0)
    monkeypatch.setattr(progress, "APART", 0.0)
    monkeypatch.setattr(progress, "_seen", lambda: True)
    jn.fit(in_one_file(tmp_path), "y given x")
    told = capsys.readouterr().err
    assert "of 2,986 rows of pass 1, about" in told
    assert "rows of pass 2" in told
    assert told.rstrip(" ").endswith("\r")  # the line is cleared away
