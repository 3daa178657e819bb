"""Dates are dates: read, compared, sorted, fitted, forecast and drawn as such."""

from __future__ import annotations

import datetime as dt

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest

import joinery as jn
from joinery.data.written_dates import date_text, in_days, read_dates, stamps_of

RNG = np.random.default_rng(3)
DAYS = pd.DataFrame(
    {
        "d": pd.date_range("2024-01-01", periods=30),
        "end": pd.date_range("2024-01-03", periods=30),
        "x": RNG.normal(size=30),
        "y": RNG.normal(size=30),
    }
)
SPAN = [dt.timedelta(days=i, hours=12) for i in range(5)]


@pytest.mark.parametrize(
    ("texts", "order", "days"),
    [
        (["1970-01-02", "1969-12-31"], None, [1, -1]),
        (["0001-01-01", "9999-12-31"], None, [-719162, 2932896]),
        (["2024-02-29 06:00", "2024-2-29T18:00:00.5"], None, [19782.25, 19782.75 + 0.5 / 86400]),
        (["31.12.1970", "01.01.1971"], None, [364, 365]),
        (["12/31/1970", "1/1/1971"], None, [364, 365]),
        (["1/2/1970"], "day first", [31]),
        (["1/2/1970"], "month first", [1]),
        (["01.02.1970"], None, [31]),
        (["01.02.1970"], "month first", [1]),
        (["2 Jan 1970", "31-Dec-1970"], None, [1, 364]),
        (["Jan. 2nd, 1970", "sept 1 1970 06:00"], None, [1, 243.25]),
        (["Feb 1970", "December 1970"], None, [31, 334]),
        (["1970-02", "1970-03"], None, [31, 59]),
        (["2001-02"], None, [11354]),
        (["Q2 1970", "1971 q1"], None, [90, 365]),
    ],
)
def test_written_dates(texts, order, days):
    assert in_days(read_dates(texts, order).stamps) == pytest.approx(days, abs=1e-9)


@pytest.mark.parametrize(
    "texts",
    [
        ["2024-02-30"],
        ["0000-01-01"],
        ["13/13/2024"],
        ["1/2/2024", "1.2.2024"],
        ["x"],
        [],
        ["31 Feb 2024"],
        ["room 12"],
        ["2001-02", "2002-03"],
        ["2024-13"],
        ["May 2024", "3 May 2024"],
    ],
)
def test_what_is_no_date(texts):
    assert read_dates(texts) is None


@pytest.mark.parametrize(
    ("days", "text"),
    [(0, "1970-01-01"), (19783.5, "2024-03-01 12:00"), (-719162, "0001-01-01"), (np.nan, "")],
)
def test_dates_read_as_people_write_them(days, text):
    assert date_text(days) == text
    assert not text or in_days(stamps_of(np.array([days])))[0] == days


@pytest.mark.parametrize(
    ("where", "kept"),
    [
        ("d >= '2024-01-11'", 20),
        ("d = '2024-01-11'", 1),
        ("d != '2024-01-11'", 29),
        ("'2024-01-11' > d", 10),
        ("d < '2024-01-11 12:00'", 11),
        ("end > d", 30),
        ("(end - d) > 1", 30),
    ],
)
def test_comparisons_with_dates(where, kept):
    assert jn.fit(DAYS, "y given x", where=where).n_rows == kept


@pytest.mark.parametrize(
    ("where", "said"),
    [
        ("d >= 2020", "'d' is a date; compare it with a date, written '2024-03-01'"),
        ("d > 'spring'", "'spring' is not a date that can be compared with 'd'"),
        ("d > '1/2/2024'", "dates are written '2024-03-01'"),
    ],
)
def test_comparisons_that_dates_do_not_take(where, said):
    with pytest.raises(jn.UnusableColumnError, match=said.replace("/", ".")):
        jn.fit(DAYS, "y given x", where=where)


def test_a_date_predictor_counts_days_from_the_first_fitted_one():
    fit = jn.fit(DAYS, "y given d", where="d >= '2024-01-05'")
    plain = jn.fit(DAYS.assign(n=np.arange(30) - 4), "y given n", where="n >= 0")
    assert fit.coefficients()["term"].tolist()[1] == "d (days since 2024-01-05)"
    assert np.allclose(fit.coefficients()["estimate"], plain.coefficients()["estimate"])
    ahead = plain.forecast({"n": [56]})["fitted"].tolist()
    as_text, as_date = {"d": ["2024-03-01"]}, {"d": [dt.date(2024, 3, 1)]}
    for new in ("d = '2024-03-01'", "d = 2024-03-01", as_text, as_date, pd.DataFrame(as_date)):
        table = fit.forecast(new)
        assert table["fitted"].tolist() == pytest.approx(ahead)
        assert (
            "d 2024-03-01 lies outside what was seen (2024-01-05 to 2024-01-30)" in table["note"][0]
        )
    with pytest.raises(jn.NewRowError, match="holds dates in the fitted rows; write them"):
        fit.forecast({"d": [45]})
    with pytest.raises(jn.NewRowError, match="holds numbers in the fitted rows, not dates"):
        plain.forecast({"n": [dt.date(2024, 1, 1)]})
    held = jn.fit(DAYS, "y given d, x").forecast({"x": [0.0]}, hold="average")
    assert "held at their average: d 2024-01-15 12:00" in held.notes[0]


def test_a_saved_fit_forecasts_at_dates(tmp_path):
    fit = jn.fit(DAYS, "y given polynomial(d, 2), (d > '2024-01-20')")
    again = jn.load(fit.save(tmp_path / "fit.json"))
    new = {"d": ["2024-01-25"]}
    assert again.forecast(new).frame.equals(fit.forecast(new).frame)


def test_unsettled_dates_are_refused_where_order_or_size_matters():
    table = DAYS.assign(d=["01/02/2024", "03/04/2024", "05/06/2024"] * 10)
    for model, options in (
        ("y given d", {}),
        ("y given x", {"order": "d"}),
        ("y given x", {"where": "d < 'a'"}),
    ):
        with pytest.raises(
            jn.UnusableColumnError, match="cannot be read as dates: day or month may come first"
        ):
            jn.fit(table, model, **options)
    assert jn.fit(table, "y given category(d)").model_df == 2
    assert any("day or month may come first" in note for note in jn.look(table).columns.notes)


def test_order_by_dates_is_theirs_not_that_of_text():
    table = DAYS.assign(d=DAYS["d"].dt.strftime("%d.%m.%Y"))
    shuffled = table.sample(frac=1, random_state=1)
    lag, frames = "y given lag(x, 1)", (DAYS, shuffled)
    first, second = (jn.fit(t, lag, order="d").coefficients()["estimate"] for t in frames)
    assert np.allclose(first, second)


@pytest.mark.parametrize(
    ("values", "days", "note"),
    [
        (pd.period_range("2024-01", periods=5, freq="M"), [0, 31, 60, 91, 121], "periods are read as the day each begins"),
        (pd.date_range("2024-01-01", periods=5, tz="Europe/Paris"), [0, 1, 2, 3, 4], None),
        ([pd.Timestamp(f"2024-01-0{i}", tz=tz) for i, tz in enumerate(["UTC", "Asia/Tokyo"] * 2 + ["UTC"], 1)],
         [0, 1 - 9 / 24, 2, 3 - 9 / 24, 4], "several time zones"),
        (pd.Series(pd.date_range("2024-01-01", periods=5), dtype=pd.ArrowDtype(pa.timestamp("ms"))), [0, 1, 2, 3, 4], None),
        (pd.Series(pd.date_range("2024-01-01", periods=5).date, dtype=pd.ArrowDtype(pa.date32())), [0, 1, 2, 3, 4], None),
        ([dt.date(2024, 1, 1), None, dt.date(2024, 1, 3), None, dt.date(2024, 1, 5)], [0, np.nan, 2, np.nan, 4], None),
        ([f"2024-01-0{i}" for i in range(1, 6)], [0, 1, 2, 3, 4], None),
        (pd.Series(SPAN), [0.5, 1.5, 2.5, 3.5, 4.5], "durations are read as days"),
        (pd.Series(SPAN, dtype=object), [0.5, 1.5, 2.5, 3.5, 4.5], "durations are read as days"),
        (pd.Series(SPAN, dtype=pd.ArrowDtype(pa.duration("s"))), [0.5, 1.5, 2.5, 3.5, 4.5], "durations are read as days"),
    ],
)  # fmt: skip
def test_dates_and_durations_of_every_make(values, days, note):
    from joinery.data.any_table import records

    column = records(pd.DataFrame({"d": values})).column("d")
    start = 0 if column.kind == "number" else 19723  # 2024-01-01
    assert np.allclose(column.numbers(slice(None)) - start, days, equal_nan=True)
    assert column.note is None if note is None else note in column.note


def test_axes_and_tables_show_dates():
    fit = jn.fit(DAYS, "y given d, x")
    for figure in (
        fit.draw("line", against="d"),
        fit.draw("residuals", against="d"),
        jn.look(DAYS, "y given d").draw("response"),
        jn.look(DAYS).draw("columns"),
    ):
        figure.canvas.draw()
        axis = figure.axes[0].xaxis
        texts = [axis.get_offset_text().get_text(), *(t.get_text() for t in axis.get_ticklabels())]
        assert any("2024" in t or "Jan" in t for t in texts), texts
    assert "2024-01-01 to 2024-01-30" in str(jn.look(DAYS).columns)


@pytest.mark.parametrize(
    ("texts", "stamps", "said"),
    [
        (["2024-03-01T22:00:00+02:00", "2024-03-02 01:30+02:00"], ["2024-03-01T22:00", "2024-03-02T01:30"], "own clock (+02:00)"),
        (["2024-03-01T22:00Z", "2024-03-02T01:30Z"], ["2024-03-01T22:00", "2024-03-02T01:30"], "own clock (Z)"),
        (["2024-03-30T22:00+01:00", "2024-03-31T22:00+02:00"], ["2024-03-30T21:00", "2024-03-31T20:00"], "universal time"),
        (["2024-03-01T20:00-0530", "2024-03-01T20:00Z"], ["2024-03-02T01:30", "2024-03-01T20:00"], "universal time"),
        (["31.03.2024 22:00 +02", "01.04.2024 22:00 +02"], ["2024-03-31T22:00", "2024-04-01T22:00"], "own clock (+02)"),
    ],
)  # fmt: skip
def test_times_with_their_zone_are_read(texts, stamps, said):
    reading = read_dates(texts)
    assert reading.stamps.astype("datetime64[m]").astype(str).tolist() == stamps
    assert said in reading.note


@pytest.mark.parametrize("texts", [["2024-03-01T22:00+02:00", "2024-03-01T22:00"],
                                   ["2024-03-01T22:00", "2024-03-01T22:00Z"],
                                   ["2024-03-01+02:00", "2024-03-02+02:00"]])  # fmt: skip
def test_a_zone_here_and_there_makes_no_dates(texts):
    assert read_dates(texts) is None


def test_an_order_by_dates_writes_none_of_them(monkeypatch):
    def written(days):
        raise AssertionError("a text for each date")

    monkeypatch.setattr("joinery.data.columns.date_texts", written)
    days = pd.date_range("2024-01-01", periods=40, freq="h")
    fit = jn.fit({"d": days[::-1], "x": range(40), "y": range(40)}, "y given lag(x, 1)", order="d")
    assert fit.n_rows == 39
