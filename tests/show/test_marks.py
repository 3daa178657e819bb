"""Signs for every stream, names that steer nothing, and files written with care."""

from __future__ import annotations

import io
import os
import stat
import sys

import numpy as np
import openpyxl
import pandas as pd
import pytest

import joinery as jn
from joinery.show.files import write_text
from joinery.show.marks import ERRORS, visible
from joinery.show.table import Table

FIT = jn.fit("sample:jars", "jars_sold given hours_open")
HOSTILE = "a|b\n<i>\x1b[31m\t$x$_{y}\x00\u202eq"


def test_a_stream_without_the_signs_gets_plain_ones():
    text = str(FIT.coefficients()) + "√×²≤∞…–’ ├●┤ é 漢"
    assert "−" in text
    plain = text.encode("ascii", ERRORS).decode()
    assert "-2.6" in plain
    assert "?" not in plain.replace(" ?", "", 1)  # but for the one sign that has no plain form
    assert plain.splitlines()[-1].endswith("sqrtx^2<=inf...-' |o| e ?")
    assert "×²".encode("latin-1", ERRORS).decode("latin-1") == "×²"


def test_print_in_a_library_call_suits_standard_output(monkeypatch):
    stream = io.TextIOWrapper(io.BytesIO(), encoding="cp1252")
    monkeypatch.setattr(sys, "stdout", stream)
    print(FIT)
    print(FIT.coefficients())
    stream.flush()
    assert "-2.6" in stream.buffer.getvalue().decode("cp1252")


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("plain × text", "plain × text"),
        ("a\nb\r\tc", "a⏎b⏎⇥c"),
        ("\x1b[31m\x00\x7f", "␛[31m␀␡"),
        ("a\u202eb", "a\ufffdb"),
    ],
)
def test_control_characters_are_shown_as_marks(text, shown):
    assert visible(text) == shown


def test_names_that_would_break_a_form_break_none():
    table = pd.DataFrame(
        {
            HOSTILE: np.arange(12.0) % 5,
            "y": np.arange(12.0),
            "g": [HOSTILE, "b"] * 6,
            "id": [HOSTILE, *range(11)],
        }
    )
    name = '"' + HOSTILE + '"'
    fit = jn.fit(table, f"y given {name}, g", id="id")
    pages = [str(fit), *(f.render(form) for f in (fit.coefficients(), fit.rows(), fit.checks(), jn.look(table).columns) for form in ("text", "markdown", "html", "latex"))]  # fmt: skip
    for text in pages:
        assert "\x1b" not in text
        assert "\u202e" not in text
        assert "\x00" not in text
    rows = fit.coefficients().render("markdown").splitlines()
    cells = {line.replace("\\|", "").count("|") for line in rows if line.startswith("|")}
    assert len(cells) == 1
    assert "<i>" not in fit.coefficients().render("html")
    for picture in ("line", "leverage", "added_variable", "checks"):
        fit.draw(picture).canvas.draw()
    for picture in ("columns", "response", "matrix"):
        jn.look(table, f"y given {name}, g").draw(picture).canvas.draw()


def test_mathematics_in_a_name_is_a_name():
    table = pd.DataFrame({"$x$_{": np.arange(9.0), "y": np.arange(9.0) % 4})
    figure = jn.fit(table, 'y given "$x$_{"').draw("line")
    figure.canvas.draw()
    assert figure.axes[0].get_xlabel() == "$x$_{"
    assert not figure.axes[0].xaxis.label.get_parse_math()


FORMULAS = ['=HYPERLINK("http://x")', "+1+1", "-c", "@b", "plain"]


@pytest.mark.parametrize("ending", ["xlsx", "ods"])
def test_text_in_a_spreadsheet_is_text(ending, tmp_path):
    table = Table({"name": [*FORMULAS, "a\x0bb"], "x": np.arange(6.0)})
    file = table.write(tmp_path / f"t.{ending}")
    again = pd.read_excel(file)
    assert again["name"].tolist() == [*FORMULAS, "a␋b"]
    if ending == "xlsx":
        assert {cell.data_type for cell in openpyxl.load_workbook(file).active["A"]} == {"s"}


def test_csv_for_spreadsheets_alone_is_changed(tmp_path):
    table = Table({"name": FORMULAS, "x": -np.arange(5.0)}, index=["=i", *"abcd"])
    plain = pd.read_csv(table.write(tmp_path / "a.csv"))
    assert plain["name"].tolist() == FORMULAS
    safe = pd.read_csv(table.write(tmp_path / "b.csv", for_spreadsheets=True))
    assert safe["name"].tolist() == [*(f"'{t}" for t in FORMULAS[:4]), "plain"]
    assert safe["x"].tolist() == plain["x"].tolist()
    assert safe.iloc[0, 0] == "'=i"


def test_a_link_is_written_through_and_a_mode_kept(tmp_path):
    real, link = tmp_path / "real.csv", tmp_path / "link.csv"
    real.write_text("old")
    real.chmod(0o600)
    link.symlink_to(real)
    FIT.coefficients().write(link)
    assert link.is_symlink()
    assert real.read_text().startswith("term,")
    assert stat.S_IMODE(real.stat().st_mode) == 0o600
    fresh = FIT.save(tmp_path / "fresh.json")
    mask = os.umask(0)
    os.umask(mask)
    assert stat.S_IMODE(fresh.stat().st_mode) == 0o666 & ~mask
    assert not [p for p in tmp_path.iterdir() if p.name.startswith(".joinery")]


@pytest.mark.parametrize(
    ("place", "said"),
    [
        (lambda folder: folder, "it is a folder; give the name of a file"),
        (lambda folder: os.mkfifo(folder / "pipe") or folder / "pipe", "it is no regular file"),
        (lambda folder: "/dev/null", "it is no regular file"),
        (lambda folder: folder / "none" / "x", "there is no folder"),
        (
            lambda folder: (folder / "l").symlink_to("/nowhere/x") or folder / "l",
            "(a link to '/nowhere/x')",
        ),
        (lambda folder: folder / ("x" * 300), "file name too long"),
        (lambda folder: "a\x00b", "is not a path to write to"),
    ],
)
def test_where_nothing_can_be_written(place, said, tmp_path):
    with pytest.raises(jn.CallError) as caught:
        write_text(place(tmp_path), "text")
    assert said in str(caught.value)


def test_a_failed_write_leaves_the_old_file(tmp_path):
    file = tmp_path / "t.parquet"
    file.write_text("old")
    with pytest.raises(Exception, match="."):
        Table({"x": [1, "a", object()]}).write(file)
    assert file.read_text() == "old"
    assert [p.name for p in tmp_path.iterdir()] == ["t.parquet"]
