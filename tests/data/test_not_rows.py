"""Lines inside a table that are no rows are left off, and said; whatever may be a row stays."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import joinery as jn

ROWS = [(f"H{i}", "AB"[i % 2], 10.5 + i, 100 - 3 * i) for i in range(12)]
NAMES = ["id", "keeper", "weight", "rain"]


def lines(mark=",", point=".", wrap="{}"):
    """The header and the rows as lines of text."""
    cells = [NAMES, *([str(c).replace(".", point) for c in row] for row in ROWS)]
    return [wrap.format(mark.join(row)) for row in cells]


def with_line(place, line, **how):
    out = lines(**how)
    return [*out[:place], line, *out[place:]]


LEFT_OFF = {
    "units": (with_line(1, ",,kg,mm"), "taken for units (weight: kg, rain: mm)"),
    "one unit": (with_line(1, ";;kg;", mark=";", point=","), "taken for units (weight: kg)"),
    "groups": (with_line(0, "Hive,,Weather in spring,"), "1 line above the header left off"),
    "the header again": (with_line(6, lines()[0]), "1 line that repeats the header left off"),
    "twice again": (
        [*lines()[:4], lines()[0], *lines()[4:], lines()[0]],
        "2 lines that repeat the header left off",
    ),
    "a rule": (with_line(1, "|---|:--|--:|---:|", mark="|", wrap="|{}|"), "1 line of dashes"),
    "a psql rule": (with_line(1, "----+----+----+----", mark=" | "), "1 line of dashes left off"),
    "a frame": (
        ["+--+--+--+--+", *with_line(1, "+--+--+--+--+", mark="|", wrap="|{}|"), "+--+--+--+--+"],
        "3 lines of dashes left off",
    ),
    "dashes under words": (
        ["id   keeper weight rain", "---- ------ ------ ----"]
        + [f"{a:4} {b:6} {c:6} {d:4}" for a, b, c, d in ROWS],
        "1 line of dashes left off",
    ),
}


def as_kept(frame):
    return frame.reset_index(drop=True).astype({"weight": float, "rain": int, "id": object, "keeper": object})  # fmt: skip


@pytest.mark.parametrize("name", LEFT_OFF)
def test_what_is_no_row_is_left_off_and_said(name, tmp_path):
    text, said = LEFT_OFF[name]
    file = tmp_path / "t.csv"
    file.write_text("\n".join(text) + "\n")
    read = jn.read(file).map(lambda cell: cell.strip() if isinstance(cell, str) else cell)
    wanted = pd.DataFrame(ROWS, columns=NAMES)
    pd.testing.assert_frame_equal(as_kept(read), as_kept(wanted), check_dtype=False)
    assert said in " ".join(jn.look(file).columns.notes)


@pytest.mark.parametrize("name", ["units", "groups", "the header again", "twice again"])
def test_a_sheet_is_read_alike(name, tmp_path):
    text, said = LEFT_OFF[name]
    cells = [[float(c) if c.replace(".", "", 1).isdigit() else c or None for c in line.split(",")]
             for line in text]  # fmt: skip
    file = tmp_path / "t.xlsx"
    pd.DataFrame(cells).to_excel(file, index=False, header=False)
    wanted = pd.DataFrame(ROWS, columns=NAMES)
    pd.testing.assert_frame_equal(as_kept(jn.read(file)), as_kept(wanted), check_dtype=False)
    assert said in " ".join(jn.look(file).columns.notes)


@pytest.mark.parametrize(
    ("text", "rows"),
    [
        (with_line(1, "H99,A,NA,NA"), 13),  # cells that are missing
        (with_line(1, "H99,A,unknown,unknown"), 13),  # a row with words for numbers
        (with_line(1, "H99,,kg,mm"), 13),
        (with_line(6, ",,kg,mm"), 13),  # not under the header
        (["mark", "---", "a", "b", "---"], 4),  # one column has no rules, and no header twice
        (["keeper", "A", "keeper", "B"], 3),
        (["a,b", "--,--", "x,y"], 2),
        (["1,2", "3,4", "1,2", "5,6"], 3),  # a header of numbers may be a row as well
        (["id,,weight", "H0,x,n.d.", *(f"H{i},y,{i}.5" for i in range(1, 9))], 9),
        ([",id,weight", "a,H0,NA", *(f"{i},H{i},{i}.5" for i in range(1, 9))], 9),
    ],
)
def test_whatever_may_be_a_row_stays(text, rows, tmp_path):
    file = tmp_path / "t.csv"
    file.write_text("\n".join(text) + "\n")
    assert len(jn.read(file)) == rows


def test_what_a_spreadsheet_writes_for_no_value_is_missing(tmp_path):
    file = tmp_path / "t.csv"
    marks = ["#DIV/0!", "#VALUE!", "#REF!", "#NUM!", "#NAME?", "#N/A"]
    file.write_text("x,y\n" + "".join(f"{i},{m}\n" for i, m in enumerate([*marks, "4.5", "6"])))
    read = jn.read(file)
    assert read["y"].tolist()[-2:] == [4.5, 6.0]
    assert read["y"].isna().sum() == len(marks)
    assert "'#DIV/0!' in 1" in " ".join(jn.look(file).columns.notes)


def test_objects_by_the_line_and_inside_one_another(tmp_path):
    rows = [{"id": f"H{i}", "site": {"high": i, "soil": {"ph": i / 2}}} for i in range(3)]
    table = pd.DataFrame({"text": [str(r).replace("'", '"') for r in rows]})
    file = tmp_path / "t.json"
    file.write_text("\n".join(table["text"]))
    read = jn.read(file)
    assert list(read.columns) == ["id", "site.high", "site.soil.ph"]
    assert read["site.soil.ph"].tolist() == [0.0, 0.5, 1.0]


def test_weeks_are_the_mondays_they_begin_on(tmp_path):
    weeks = [f"{year}-W{week:02}" for year, week in [(2020, 53), (2021, 1), (2021, 52), (2026, 1)]]
    file = tmp_path / "weeks.csv"
    file.write_text("\n".join(["week", *weeks]))
    days = jn.read(file)["week"]
    assert [d.isocalendar()[:3] for d in days] == [(2020, 53, 1), (2021, 1, 1), (2021, 52, 1), (2026, 1, 1)]  # fmt: skip
    assert jn.look({"week": ["2021-W53", "2021-W01"]}).columns["kind"].tolist() != ["date"]


def test_rows_that_a_label_tells_apart_do_not_repeat_exactly():
    coarse = pd.DataFrame({"id": [f"H{i:02}" for i in range(60)], "n": np.arange(60) % 3})
    assert "repeat" not in " ".join(jn.look(coarse).columns.notes)
    fine = coarse.assign(x=np.random.default_rng(0).normal(size=60))
    twice = pd.concat([fine, fine.iloc[[3, 8]].assign(id=["K1", "K2"])], ignore_index=True)
    said = " ".join(jn.look(twice).columns.notes)
    assert "2 rows repeat an earlier row in all but id (60, 61)" in said
    said = " ".join(jn.look(pd.concat([fine, fine.iloc[[3]]], ignore_index=True)).columns.notes)
    assert "1 row repeats an earlier row exactly (60)" in said


def test_ticks_and_days_of_spreadsheets_are_told():
    table = {"treated": ["x", None] * 10, "date": np.arange(45_000, 45_020), "y": np.arange(20.0)}
    said = " ".join(jn.look(table).columns.notes)
    assert "treated has one value in 10 rows and none in 10, which a fit leaves out" in said
    assert "they are 2023-03-15 to 2023-04-03" in said
    assert "as spreadsheets count" not in " ".join(jn.look({"weight": table["date"]}).columns.notes)


@pytest.mark.parametrize(
    ("cells", "values", "said"),
    [
        (["12.5*", "13", "9.25 †"], [12.5, 13, 9.25], "marks of footnotes; '9.25 †' is read as 9.25"),
        (["(3)**", "4", "5"], [-3, 4, 5], "parentheses for a minus and marks of footnotes"),
        (["4 %*", "5 %", "6 %"], [0.04, 0.05, 0.06], "percent signs and marks of footnotes"),
    ],
)  # fmt: skip
def test_marks_of_footnotes_are_left_off_numbers(cells, values, said, tmp_path):
    file = tmp_path / "t.csv"
    file.write_text("\n".join(["x,y", *(f"{cell},{i}" for i, cell in enumerate(cells))]))
    assert jn.read(file)["x"].tolist() == pytest.approx(values)
    assert said in " ".join(jn.look(file).columns.notes)
    assert jn.look({"code": ["A*", "B*", "C"]}).columns["kind"].tolist() == ["category"]
