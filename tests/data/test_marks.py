"""Point or comma: one question of a whole table, whatever way the table comes in."""

from __future__ import annotations

import io

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.draws import draws

import joinery as jn
from joinery.data.any_table import records
from joinery.data.columns import NOTES


@pytest.fixture
def read(tmp_path):
    def made(text, name="t.csv", **options):
        (tmp_path / name).write_text(text, "utf-8")
        return jn.read(tmp_path / name, **options)

    return made


@pytest.mark.parametrize(
    ("text", "options", "expected", "noted"),
    [
        ("a;b\n1.234;1\n999;2\n12.500;3", {"decimal": ","}, [1234, 999, 12500], "'12.500' is"),
        ("a;b\n1.234;1\n999;2\n12.500;3", {}, [1234, 999, 12500], "no cell of the table says"),
        ("a;b\n1.234;0.5\n9.9;2\n12.500;3", {}, [1.234, 9.9, 12.5], None),
        ("a;b\n1.250;120,5\n980;8.120,50\n2.310;3", {}, [1250, 980, 2310], "'1.250' is read as"),
        ("a;b\n0.123;3,5\n2.5;2,5\n1;1,5", {}, ["0.123", "2.5", "1"], "'0.123' has decimal"),
        ("a,b\n1.250,3\n1.500,4\n2.125,5", {}, [1.25, 1.5, 2.125], "no cell of the table says"),
        ("a,b\n1.250,0.5\n1.500,4\n2.125,5", {}, [1.25, 1.5, 2.125], None),
        ('a,b\n"1,250",3\n"1,500",4\n"2,125",5', {}, [1250, 1500, 2125], "no cell of the table"),
        ('a,b\n"1,250",3\n"1,500",4\n"2,125",5', {"decimal": ","}, [1.25, 1.5, 2.125], "as 1.25"),
        ("a,b\nGBP,3\nUSD,4\nGBP,5", {}, ["GBP", "USD", "GBP"], None),
        ("a\tb\n5\t1,5\n6\t2,5\n1.000\t3", {}, [5, 6, 1000], "'1.000' is read as 1000"),
    ],
)
def test_one_decimal_mark_a_file(read, text, options, expected, noted):
    frame = read(text, **options)
    assert frame["a"].tolist() == expected
    notes = [note for note in frame.attrs[NOTES] if note.startswith("a: ")]
    assert [noted in note for note in notes] == ([True] if noted else [])


def written(value, decimal, group, places):
    whole, _, rest = f"{abs(value):,.{places}f}".partition(".")
    sign = "-" if value < 0 else ""
    return sign + whole.replace(",", group) + (decimal + rest if rest else "")


@pytest.mark.simulation
@given(
    st.lists(st.integers(-(10**7), 10**7), min_size=2, max_size=6),
    st.integers(0, 4),
    st.sampled_from([(".", ","), (".", ""), (",", "."), (",", ""), (",", " "), (".", "'")]),
    st.sampled_from(",;\t"),
)
@settings(max_examples=draws(100), deadline=None)
def test_numbers_in_every_convention_come_back_or_are_told(values, places, marks, delimiter):
    numbers = [value / 10**places for value in values]
    texts = [written(value, *marks, places) for value in numbers]
    file = "\n".join([f"a{delimiter}b", *(f'"{text}"{delimiter}x' for text in texts)])
    sheet = io.BytesIO()
    table = pd.DataFrame({"a": texts, "b": "x"})
    table.to_excel(sheet, index=False)
    sheet.seek(0)
    for frame in (jn.read(io.StringIO(file)), jn.read(sheet), table):
        column = records(frame).column("a")
        told = [*frame.attrs.get(NOTES, ()), f"a: {column.note or ''}"]
        if column.kind == "number":
            certain = not any("no cell of the table says" in note for note in told)
            assert not certain or np.allclose(column.values, numbers, rtol=1e-12)
        elif frame is not table:
            assert any(len(note) > 3 and note.startswith("a: ") for note in told)


@pytest.mark.parametrize("saved", [False, True])
def test_new_rows_are_read_by_the_marks_and_kinds_of_the_fit(read, saved, tmp_path):
    rows = "".join(f"{i}.500;{i},5;{'5%' if i % 2 else 'none'}\n" for i in range(1, 30))
    table = read("x;y;g\n" + rows)
    fit = jn.fit(table, "y given x, g")
    if saved:
        fit.save(tmp_path / "f.json")
        fit = jn.load(tmp_path / "f.json")
    (tmp_path / "n.csv").write_text("x,g\n3.500,5%\n")
    wanted = fit.forecast(pd.DataFrame({"x": [3500.0], "g": ["5%"]}))["fitted"].to_numpy()
    for new in ({"x": ["3.500"], "g": ["5%"]}, "x='3.500', g='5%'", tmp_path / "n.csv"):
        assert fit.forecast(new)["fitted"].to_numpy() == pytest.approx(wanted)
    assert np.isfinite(fit.difference("g='5%'", "g='none'")["difference"].iloc[0])
    assert np.isfinite(fit.forecast({"x": [3500.0]}, hold="average")["fitted"].iloc[0])
    assert "5%" in fit.adjusted_means("g").frame["g"].tolist()


@pytest.mark.simulation
@pytest.mark.parametrize("levels", [("1.10", "1.2"), ("2024-1-5", "2024-1-6"), ("$3", "$4")])
def test_levels_that_look_like_numbers_stay_the_levels_they_are(levels, tmp_path):
    table = pd.DataFrame({"g": pd.Categorical(np.resize(levels, 20)), "y": np.arange(20.0) ** 1.5})
    fit = jn.fit(table, "y given g")
    first = fit.forecast({"g": [levels[0]]})["fitted"].iloc[0]
    assert first == pytest.approx(table["y"][::2].mean())
    fit.save(tmp_path / "f.json")
    assert jn.load(tmp_path / "f.json").forecast({"g": [levels[0]]})["fitted"].iloc[0] == first
    assert fit.report(tmp_path / "r.html").exists()


def test_marks_taken_for_missing_cells_are_named_and_may_be_values(read):
    text = "g,y\nNone,1\nNA,2\nx,NA\n,4\nNone,5\n"
    note, other = (note for note in read(text).attrs[NOTES] if "missing by its mark" in note)
    assert note.startswith("g: missing by its mark, 'None' in 2 and 'NA' in 1 cells")
    assert other.startswith("y: missing by its mark, 'NA' in 1 cell;")
    kept = read(text, not_empty=("None",))
    assert kept["g"].tolist()[0] == "None"
    assert "not_empty=" in note


def test_columns_without_a_name(read):
    assert list(read("a,b,,\n1,2,3,4\n5,6,7,8\n").columns) == ["a", "b", "column 3", "column 4"]
    indexed = read(pd.DataFrame({"x": [3.5, 4], "y": [1, 2]}).to_csv())
    assert list(indexed.columns) == ["x", "y"]
    assert indexed.index.tolist() == [0, 1]


def test_a_long_file_has_one_kind_a_column_and_yes_is_one(read):
    codes = read("k\n" + "\n".join(f"{i % 30:03d}" for i in range(300_000)) + "\nA12\n")
    assert codes["k"].nunique() == 31
    for words in (("Yes", "no"), ("no", "Yes"), ("N", "y"), ("True", "false")):
        table = pd.DataFrame({"v": np.resize(words, 8), "x": [1, 2, 5, 3, 2, 1, 4, 4]})
        levels = (
            jn.fit(table, "v given x", family="binomial")._fitted.origin.table.column("v").levels
        )
        assert levels[0].casefold()[0] in "nf"


def test_a_level_that_many_rows_begin_with_is_no_footer(read):
    rows = "".join(f"{grade},{i}\n" for i in range(12) for grade in ("good", "poor", "average"))
    assert len(read("grade,y\n" + rows + "average,1\naverage,2\naverage,3\n")) == 39
    assert len(read("grade,y\ngood,1\npoor,2\ngood,4\npoor,3\ntotal,10\n")) == 4
