"""Numbers for people, tables in every form, pictures."""

from __future__ import annotations

import csv
import io
import json
import xml.etree.ElementTree as ET

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest
from matplotlib.figure import Figure

import joinery as jn
from joinery.show import numbers
from joinery.show import short_page as page
from joinery.show.appearance import Appearance
from joinery.show.table import Table

NAN = float("nan")


@pytest.mark.parametrize(
    ("value", "text"),
    [(0.012345, "0.01235"), (12.3456, "12.35"), (123456.7, "123457"), (-3.14159, "−3.142"), (0.0, "0"), (4.0, "4"),
     (NAN, ""), (np.inf, "∞"), (-np.inf, "−∞"), (1.5e12, "1.500e12"), (-2.5e-9, "−2.500e−9"), (None, "")],
)  # fmt: skip
def test_figures(value, text):
    assert numbers.figure(value) == text


@pytest.mark.parametrize(
    ("p", "text"),
    [(0.04999, "0.04999"), (0.0504, "0.0504"), (0.05, "0.050"), (0.24, "0.24"), (0.0123, "0.012"), (0.0012, "0.0012"),
     (0.00099, "< 0.001"), (1e-300, "< 0.001"),
     (0.999, "1.00"), (NAN, "")],
)  # fmt: skip
def test_p_values(p, text):
    assert numbers.p_value(p) == text


def test_other_words_for_numbers():
    assert numbers.interval(10.14, -0.04, 1) == "[10.1, −0.04]"
    assert numbers.column([1.0, 250.0, NAN]) == ["1", "250", ""]
    assert numbers.column([0.5, 12.25, -3.0]) == ["0.50", "12.25", "−3.00"]
    assert (numbers.percent(0.714), numbers.percent(0.999), numbers.percent(0.0001)) == (
        "71 %",
        "99.9 %",
        "less than 0.1 %",
    )
    assert (numbers.count(1, "row"), numbers.count(1234, "row")) == ("1 row", "1,234 rows")
    assert numbers.p_phrase(0.03) == "p = 0.030"


TABLE = Table(
    {
        "term": ["intercept", "a|b <&> _x"],
        "estimate": [1 / 3, NAN],
        "standard_error": [0.05, NAN],
        "p": [1e-9, NAN],
    },
    title="Coefficients",
    notes=("a note",),
    appearance=Appearance(kinds={"estimate": "error", "standard_error": "error"}),
)


def test_a_table_is_made_once_and_shown_many_ways(tmp_path):
    text = TABLE.render("text")
    assert "0.333" in text
    assert "< 0.001" in text
    assert "standard" in text
    assert TABLE.render("markdown").splitlines()[2].startswith("| term | estimate")
    assert r"a\|b" in TABLE.render("markdown")
    html = ET.fromstring(f"<div>{TABLE.render('html')}</div>")
    assert html.find(".//tbody/tr[2]/td[1]").text == "a|b <&> _x"
    assert r"a|b $<$\&$>$ \_x" in TABLE.render("latex")
    rows = list(csv.DictReader(io.StringIO(TABLE.render("csv"))))
    assert float(rows[0]["estimate"]) == 1 / 3
    assert json.loads(TABLE.render("json"))["rows"][0]["estimate"] == 1 / 3
    assert json.loads(TABLE.render("json"))["rows"][1]["p"] is None
    assert "0.3" in TABLE.render("text", digits=1)
    assert TABLE["p"].tolist()[0] == 1e-9
    assert "p" in TABLE
    assert list(TABLE.columns) == list(TABLE.frame)
    for ending in ("txt", "md", "html", "csv", "json", "tex", "parquet", "feather", "xlsx", "ods"):
        assert TABLE.write(tmp_path / f"t.{ending}").stat().st_size > 0
    pd.testing.assert_frame_equal(jn.read(tmp_path / "t.csv"), TABLE.frame)
    assert sorted(p.name for p in tmp_path.iterdir()) == sorted(
        f"t.{e}"
        for e in ("txt", "md", "html", "csv", "json", "tex", "parquet", "feather", "xlsx", "ods")
    )


def test_what_a_table_refuses(tmp_path):
    with pytest.raises(jn.CallError, match="did you mean 'markdown'"):
        TABLE.render("markdwn")
    with pytest.raises(jn.CallError, match="its ending is one of"):
        TABLE.write(tmp_path / "t.doc")
    with pytest.raises(jn.CallError, match="there is no folder"):
        TABLE.write(tmp_path / "no" / "t.csv")
    with pytest.raises(jn.CallError, match="did you mean 'estimate'"):
        TABLE["estimat"]


def test_a_crash_while_writing_leaves_the_old_file_whole(tmp_path):
    from joinery.show.files import write_whole

    file = tmp_path / "t.csv"
    TABLE.write(file)
    before = file.read_text()

    def crash(path):
        path.write_text("half")
        raise RuntimeError("power cut")

    with pytest.raises(RuntimeError):
        write_whole(file, crash)
    assert file.read_text() == before
    assert list(tmp_path.iterdir()) == [file]


def test_wide_tables_fit_a_narrow_terminal(honey):
    for text in (
        str(honey.rows()),
        str(honey),
        str(honey.coefficients(standardized=True)),
    ):
        assert max(map(len, text.splitlines())) <= 80
    long = Table({"x": list(range(1000))})
    for shown in (str(long), long._repr_html_()):
        assert "200 of 1,000 rows shown" in shown
        assert "199" in shown
        assert "201" not in shown
    assert ">999<" in long.render("html")
    assert len(long.render("csv").splitlines()) == 1001


def test_the_short_page_reads_in_order(honey):
    text = str(honey)
    order = [
        honey.sentence[:20],
        "113 of 120",
        "Before you read on",
        "serious",
        "In short",
        "Coefficients",
        "honey_kg = ",
    ]
    places = [text.index(part) for part in order]
    assert places == sorted(places)
    assert "\x1b" not in text
    assert "row H058 decides the answer" in text
    html = ET.fromstring(honey._repr_html_())
    assert html.find(".//svg") is not None
    assert repr(honey).startswith("<Fit 'honey_kg given")


def test_bars_mark_zero_and_stay_in_their_cells():
    assert page.bar((-1.0, -0.5, -0.2), 1.0, 9) == "├─●┤┊    "
    assert page.bar((-0.5, 0.1, 1.0), 1.0, 9) == "  ├─●───┤"
    assert page.bar((NAN, 1, 2), 2.0) == ""
    wrapped = page.wrapped_equation("y = 1 + 2 x − 3 (g: a b) + 4 z", 18)
    assert wrapped.splitlines() == ["y = 1 + 2 x", "    − 3 (g: a b)", "    + 4 z"]


@pytest.mark.parametrize(
    ("name", "options"),
    [
        ("line", {"against": "altitude_m"}),
        ("line", {}),
        ("residuals", {}),
        ("residuals", {"against": "feed_kg"}),
        ("quantiles", {}),
    ],
)
def test_every_picture_draws_labels_and_repeats(honey, name, options, tmp_path):
    figure = honey.draw(name, path=tmp_path / "a.svg", **options)
    assert isinstance(figure, Figure)
    assert tuple(figure.get_size_inches() * figure.dpi) == (1280, 800)
    words = [text.get_text() for text in figure.findobj(lambda o: hasattr(o, "get_text"))]
    assert any(w.endswith("?") for w in words)
    assert "H058" in words
    assert honey.draw(name, path=tmp_path / "a.png", title="Mine", x_label="across", **options)
    first = (tmp_path / "a.png").read_bytes()
    honey.draw(name, path=tmp_path / "a.png", title="Mine", x_label="across", **options)
    assert (tmp_path / "a.png").read_bytes() == first


def test_a_picture_labels_what_it_is_asked_to(honey):
    def labels(figure):
        return {t.get_text() for t in figure.axes[0].texts}

    assert "H001" in labels(honey.draw("residuals", label_rows=["H001"]))
    assert labels(honey.draw("residuals", label_rows="none")) == {"smooth"}
    axes = Figure().subplots()
    assert honey.draw("quantiles", ax=axes) is axes.get_figure()


@pytest.mark.parametrize(
    ("name", "options", "said"),
    [
        ("lines", {}, "did you mean 'line'"),
        ("line", {"against": "feed"}, "did you mean 'feed_kg'"),
        ("quantiles", {"against": "feed_kg"}, "takes no against="),
        ("line", {"path": "line.doc"}, "its ending is one of .png, .svg, .pdf"),
    ],
)
def test_what_a_picture_refuses(honey, name, options, said):
    with pytest.raises(jn.CallError, match=said):
        honey.draw(name, **options)


def test_pictures_of_many_rows_and_of_few():
    rng = np.random.default_rng(1)
    many = pd.DataFrame({"x": rng.normal(size=6000)}).assign(
        y=lambda t: t["x"] + rng.normal(size=6000)
    )
    few = pd.DataFrame({"x": [1.0, 2.0, 3.0], "y": [1.0, 2.5, 2.0]})
    for table in (many, few):
        for name in ("line", "residuals", "quantiles"):
            assert jn.fit(table, "y given x").draw(name)
    perfect = jn.fit({"x": [1.0, 2, 3], "y": [2.0, 4, 6]}, "y given x")
    assert perfect.draw("residuals")
    with pytest.raises(jn.CallError, match="nothing to draw"):
        perfect.draw("quantiles")
    with pytest.raises(jn.CallError, match="needs a numeric predictor"):
        jn.fit({"g": list("ab" * 3), "y": [1.0, 2, 3, 4, 5, 7]}, "y given g").draw("line")


def test_a_table_is_a_table_to_others():
    fit = jn.fit("sample:yields", "honey_kg given forage_km2, hive_type", id="hive")
    table, rows = fit.coefficients(), fit.rows()
    assert pd.DataFrame(table).equals(table.frame)
    assert pd.DataFrame(rows).set_index("hive").equals(rows.frame)
    assert pa.table(rows).column_names == ["hive", *rows.frame]
    assert np.asarray(table).shape == (len(table), 7)
    assert table == fit.coefficients()
    assert table != fit.coefficients(level=0.9)
    assert len({table, fit.coefficients()}) == 1
    assert table.to_dict()["term"] == table["term"].tolist()
    assert None in rows.to_dict()["leverage"]
    figures = fit.figures()
    assert figures["r_squared"].tolist() == [fit.r_squared]
    assert np.isnan(figures["shape"].iloc[0])
    assert fit.figures() == jn.fit("sample:yields", fit.sentence).figures()


@pytest.mark.parametrize(
    ("share", "told"),
    [(1.0, "100 %"), (0.9996, "99.96 %"), (0.99999, "99.999 %"), (0.994, "99.4 %"), (0.5, "50 %")],
)
def test_a_share_short_of_all_is_never_written_as_all(share, told):
    assert numbers.percent(share) == told
    assert numbers.short_of(0.9999, 1, 2) == "0.9999"
    assert numbers.short_of(0.714, 1, 2) == "0.71"


def test_a_table_shows_few_names_of_its_own():
    table = Table({"term": ["intercept"]})
    names = {name for name in dir(table) if not name.startswith("_")}
    assert names == {
        "columns", "title", "notes", "index", "index_name", "appearance",
        "frame", "render", "to_dict", "write",
    }  # fmt: skip
