"""Files as they come: what is read, what is said of it, and what is refused with which words."""

from __future__ import annotations

import numpy as np
import openpyxl
import pandas as pd
import pytest

import joinery as jn
from joinery.data.any_table import records

ROWS = "".join(f"Lane {i},{i},{i * 2}\n" for i in range(8))
HEAD = "name,a,b\n"


@pytest.fixture
def read(tmp_path):
    """Writes a file and reads it: the frame and what was noted."""

    def reading(text, name="t.csv", **given):
        file = tmp_path / name
        file.write_bytes(text if isinstance(text, bytes) else text.encode())
        frame = jn.read(file, **given)
        return frame, " ".join(frame.attrs["joinery_notes"])

    return reading


@pytest.mark.parametrize(
    ("last", "rows", "said"),
    [
        ("Means Lane,6,4\n", 9, ""),
        ("Source A,6,4\n", 9, ""),
        ("Source A,,\n", 9, ""),
        ('"two\nlines",6,4\n', 9, ""),
        ("Total,28,56\n", 8, "1 line below the table left off ('Total 28 56')"),
        ("Source: the office\n", 8, "('Source: the office')"),
        ("see the other sheet\nGrand total:,1,2\n", 8, "2 lines below the table left off"),
        (
            ",,\nQuelle: das Buch,,\nim Juni,,\n",
            8,
            "2 lines below the table left off ('Quelle: das Buch', 'im Juni')",
        ),
        (
            "Summe,28,56\n,,\nby hand,,\n",
            8,
            "2 lines below the table left off ('Summe 28 56', 'by hand')",
        ),
        ("Lane,,\n", 9, ""),
        (",,\nLane,6,\n", 9, ""),
        (",,\n", 8, ""),
    ],
)
def test_only_lines_that_cannot_be_rows_go(read, last, rows, said):
    frame, notes = read(HEAD + ROWS + last)
    assert len(frame) == rows
    assert said in notes
    assert bool(said) == bool(notes)
    assert len(read(HEAD + ROWS + last, footer=0)[0]) >= rows


@pytest.mark.parametrize(
    ("content", "columns", "said"),
    [
        ("a,b\n1,2\n3,4\n".encode("utf-32"), {"a": [1, 3], "b": [2, 4]}, "UTF-32"),
        ("a,b\n1,2\n3,4\n".encode("utf-32-le"), {"a": [1, 3], "b": [2, 4]}, "UTF-32"),
        ("a,b\n1,ä\n3,ö\n".encode("utf-16"), {"a": [1, 3], "b": ["ä", "ö"]}, "UTF-16"),
        ("a,b\n1,ä\n3,ö\n".encode("latin-1"), {"a": [1, 3], "b": ["ä", "ö"]}, "Latin-1"),
        ("a,b\n1,5 €\n3,7 €\n".encode("cp1252"), {"a": [1, 3], "b": [5, 7]}, "Windows-1252"),
        (b"a,b\n1,x\x81\n3,y\n", {"a": [1, 3], "b": ["x\x81", "y"]}, "Latin-1"),
        ("a   b  c\n1   2  3\n4  5   6\n", {"a": [1, 4], "b": [2, 5], "c": [3, 6]}, "separated by spaces"),
        ("a,b\r1,2\r3,4\r", {"a": [1, 3], "b": [2, 4]}, ""),
        ("a,b\n007,2\n010,3\n", {"a": ["007", "010"], "b": [2, 3]}, ""),
        ("a,b\n01,2\n02,3\n", {"a": [1, 2], "b": [2, 3]}, ""),
        ("My table,,\n,,\na,b,c\n1,2,3\n4,5,6\n", {"a": [1, 4], "b": [2, 5], "c": [3, 6]}, "'My table'"),
        ("1,2,3\n4,5,6\n7,8,9\n", {"1": [4, 7], "2": [5, 8], "3": [6, 9]}, "are numbers (1, 2, 3): is it a row?"),
        ('n,a\n"x\u2028y",1\nz,2\n', {"n": ["x\u2028y", "z"], "a": [1, 2]}, ""),
        ("p,b\nEUR 12.50,2\nEUR 3.10,3\n", {"p": [12.5, 3.1], "b": [2, 3]}, "currency signs"),
        ('p,b\n"1.006,50 EUR",2\n"2,10 EUR",3\n', {"p": [1006.5, 2.1], "b": [2, 3]}, "thousands separators"),
        ("p,b\n1.006 EUR,2\n2.500 EUR,3\n", {"p": ["1.006 EUR", "2.500 EUR"], "b": [2, 3]}, ""),
    ],
)  # fmt: skip
def test_text_files_of_many_makes(read, content, columns, said):
    frame, notes = read(content)
    assert frame.to_dict("list") == columns
    assert said in notes


def test_marks_for_missing_cells(read):
    frame, _ = read("a,b\n?,2\n3,n.a.\n4,5\n", empty=["?", "n.a."])
    assert np.allclose(frame, [[np.nan, 2], [3, np.nan], [4, 5]], equal_nan=True)
    frame, _ = read('[{"a": "?", "b": 1}, {"a": 2, "b": 1}]', "t.json", empty="?")
    assert frame["a"].isna().tolist() == [True, False]


def test_cells_longer_than_the_reader_for_csv_allows(read):
    assert read("a,b\n1," + "x" * 200_000 + "\n2,y\n")[0]["b"].str.len().tolist() == [200_000, 1]


def test_json_keeps_digits_and_guesses_nothing(read):
    frame, _ = read(
        '[{"big": 12345678901234567, "x": 0.1234567890123456789, "date": 5, "modified": 1577836800, "id": "007"},'
        ' {"big": 1, "x": 2, "date": 6, "modified": 3, "id": "010"}]', "t.json"
    )  # fmt: skip
    assert frame["big"].tolist() == [12345678901234567, 1]
    assert frame["x"].tolist() == [0.1234567890123456789, 2.0]
    assert frame[["date", "modified"]].to_numpy().tolist() == [[5, 1577836800], [6, 3]]
    assert frame["id"].tolist() == ["007", "010"]
    assert read('{"x": [1, null], "y": ["a", "b"]}', "t.json")[0]["x"].isna().tolist() == [
        False,
        True,
    ]


@pytest.mark.parametrize(
    ("content", "name", "given", "said"),
    [
        (HEAD + ROWS, "t.csv", {"footer": 50}, "footer=50 leaves no rows; lines below the header: 8"),
        (HEAD + ROWS, "t.csv", {"footer": -1}, "footer=-1 is not a number of lines from 0 up"),
        (HEAD + ROWS, "t.csv", {"header": 0}, "header=0 is not a number of lines from 1 up"),
        (HEAD + ROWS, "t.csv", {"header": 99}, "header=99 is not a line of the file, which has 9"),
        (HEAD + ROWS, "t.csv", {"delimiter": ",,"}, "is not one character"),
        (HEAD + ROWS, "t.csv", {"encoding": "utf-99"}, "cannot be read as utf-99: unknown encoding"),
        (HEAD + ROWS, "t.csv", {"encoding": "base64"}, "is not a text encoding"),
        ("a,b\n1,2,3\n4,5\n", "t.csv", {}, "the first row is of length 3, the header of 2"),
        ("a,b\n1,2\n4,5,9\n", "t.csv", {}, "Expected 2 fields in line 3, saw 3"),
        (",,\n1,2,3\n4,5,6\n", "t.csv", {}, "the header line is empty"),
        ("a,b\n" + "1,2\n" * 3000 + "3\x00,4\n", "t.csv", {}, "is not text: it holds bytes that no text has"),
        ('[{"a":1},', "t.json", {}, "is not JSON: at line 1, column 10 something else was expected"),
        ("5", "t.json", {}, "is not a table: it holds a list of objects"),
        ('{"a": [1], "b": []}', "t.json", {}, "its columns differ in length"),
        ('[1, 2]', "t.json", {}, "entry 1 is not an object with names"),
        ('{"a":1}\n{"a":}\n', "t.jsonl", {}, "at line 2 something else was expected"),
        ("[" * 100_000, "t.json", {}, "is nested too deeply"),
        (b"\xff{", "t.json", {}, "byte 0 is not UTF-8"),
    ],
)  # fmt: skip
def test_files_that_are_refused(read, content, name, given, said):
    with pytest.raises(jn.JoineryError) as caught:
        read(content, name, **given)
    assert said in str(caught.value)


@pytest.mark.parametrize(
    ("path", "said"),
    [
        ("", "no file is named: the path is empty"),
        ("y given x", "is that the model? The data comes before it"),
        ("x" * 5000, "file name too long"),
        (".", "is a folder, not a table"),
        ("dangling.csv", "'dangling.csv' is a link to '/nowhere/x.csv', which is not there"),
        (None, "path=None is of the wrong kind (NoneType)"),
    ],
)
def test_paths_that_lead_nowhere(path, said, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "dangling.csv").symlink_to("/nowhere/x.csv")
    with pytest.raises(jn.JoineryError) as caught:
        jn.read(path)
    assert said in str(caught.value)


def test_what_a_spreadsheet_hides_is_said(tmp_path):
    book = openpyxl.Workbook()
    book.active.append(["About this file"])
    sheet = book.create_sheet("Data")
    for row in [["g", "x"], *([f'=CONCAT("a",{i})', i] for i in range(6))]:
        sheet.append(row)
    sheet.merge_cells("B3:B4")
    book.save(tmp_path / "f.xlsx")
    frame = jn.read(tmp_path / "f.xlsx")
    assert frame["x"].tolist() == [0, 1, 3, 4, 5]
    notes = frame.attrs["joinery_notes"][0]
    assert "the sheet 'Data'; the others are 'Sheet'" in notes
    assert "6 cells hold formulas that were never calculated" in notes
    assert "merged cells (B3:B4)" in notes


def test_levels_are_trimmed_and_what_differs_by_little_is_said():
    y = np.arange(24.0) % 7
    fit = jn.fit({"g": ["Gas", "Gas ", "Oil", "gas", "Oil", " Gas"] * 4, "y": y}, "y given g")
    assert fit.coefficients()["term"].tolist() == ["intercept", "g: Oil", "g: gas"]
    assert "g: 'Gas' and 'Gas ' and ' Gas' are read as one level" in fit.notes
    fit = jn.fit({"g": ["Gas", "gas", "Oil"] * 8, "y": y}, "y given g", where="g != ' Oil '")
    assert fit.n_rows == 16
    words = "g: 'Gas' and 'gas' are different levels, alike but for case or spaces; to make one level of them, "
    assert any(note.startswith(words + "write merged(g, '") for note in fit.notes)
    mixed = pd.Categorical([1, "1", "b"] * 8, categories=[1, "1", "b"])
    fit = jn.fit(pd.DataFrame({"g": mixed, "y": y}), "y given g")
    assert fit.coefficients()["term"].tolist() == ["intercept", "g: b"]
    assert "g: 1 and '1' are read as one level" in fit.notes


def test_levels_with_hardly_any_rows_are_remarked_on():
    table = {"g": ["a"] + ["b"] * 12 + ["c"], "y": np.arange(14.0) % 5}
    notes = " ".join(jn.fit(table, "y given g").notes)
    assert "the reference level of g, a, has 1 row" in notes
    assert "category(g, reference='b') compares with the largest" in notes
    assert "g: c is one row alone, on which its coefficient rests" in notes
    clean = {note.kind for note in jn.fit(table, "y given category(g, reference='b')").remarks}
    assert "thin reference" not in clean
    twice = jn.fit(table | {"r": [5] + [1] * 12 + [2]}, "y given g", repeats="r")
    assert not {"thin reference", "thin level"} & {note.kind for note in twice.remarks}


@pytest.mark.parametrize(
    ("odd", "remarked"),
    [(999, True), (-1, True), (58, False), (99, False), (-9, True), (65, False)],
)
def test_a_lone_stand_in_for_a_missing_value_is_remarked_on(odd, remarked):
    notes = jn.look({"age": [23, 45, 34, 56, 43, odd, 33, 28, 39, 41, 55, 61]}).columns.notes
    assert any("stands for a missing value" in note for note in notes) == remarked


def test_columns_that_no_model_can_use_do_no_harm():
    table = {"l": [[1], [2], [3]], "x": [1, 2, 4], "y": [1, 3, 2]}
    assert jn.fit(table, "y given x").n_rows == 3
    assert jn.fit(table, "y given all").sentence == "y given x"
    look = jn.look(table)
    assert look.columns["kind"].tolist()[0] == "not usable"
    with pytest.raises(jn.UnusableColumnError, match="column 'l' holds"):
        jn.fit(table, "y given l")
    with pytest.raises(jn.UnusableColumnError, match="a number too large to compute with"):
        jn.fit({"x": [10**400, 1, 2], "y": [1, 2, 3]}, "y given x")


@pytest.mark.parametrize(
    ("data", "said"),
    [
        (pd.Series([1, 2]), "a Series is one column, not a table"),
        (np.array(5), "a table cannot be made from ndarray"),
        ({}, "the table has no columns"),
        ({"x": [1, 2], "y": [1]}, "'x' has length 2, 'y' has 1"),
        (type("Bad", (), {"__arrow_c_stream__": lambda self, requested_schema=None: 5})(), "the Arrow stream of Bad cannot be read"),
    ],
)  # fmt: skip
def test_what_is_no_table(data, said):
    with pytest.raises(jn.DataError, match=said):
        jn.look(data)
    assert len(records({"x": np.array(5)})) == 1


def test_labels_that_are_dates_are_written_as_days():
    r = np.random.default_rng(1)
    days = pd.date_range("2024-01-07", periods=20, freq="W")
    table = pd.DataFrame({"day": days, "x": r.normal(size=20), "y": r.normal(size=20)})
    table.loc[18:, "y"] = np.nan
    table.loc[4, "y"] = 40.0
    fit = jn.fit(table, "y given x", id="day")
    for text in (str(fit), str(fit.rows()), str(fit.forecast()), fit.rows().render("html")):
        assert "00:00" not in text
    assert "row 2024-02-04" in str(fit)
    assert fit.forecast().frame.index.tolist() == days[18:].tolist()  # dates for machines
    for label in ("2024-02-04", days[4], days[4].to_pydatetime()):
        assert fit.revise(leave_out=[label]).n_rows == 17
    named = jn.fit(table, "y given x, day").draw("forecast").axes[0].get_yticklabels()
    assert [text.get_text() for text in named] == ["2024-05-12", "2024-05-19"]
