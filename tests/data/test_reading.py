"""Tables from anywhere: what is read rightly, and what is refused with which words."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest

import joinery as jn
from joinery.data.any_table import records
from joinery.data.column_kinds import understand
from joinery.data.marks import Marks
from joinery.data.reading import sample_names
from joinery.data.samples import make
from joinery.data.written_numbers import read_numbers


@pytest.mark.parametrize(
    ("texts", "values", "note"),
    [
        (["1,234.5", "2"], [1234.5, 2], "thousands separators"),
        (["1,234,567", "12"], [1234567, 12], "thousands separators"),
        (["1,5", "2"], [1.5, 2], "decimal commas"),
        (["0,123", "4,567"], [0.123, 4.567], "decimal commas"),
        (["1.234", "2,5"], [1234, 2.5], "decimal commas"),
        (["€1.234,50", "€ 3"], [1234.5, 3], "currency signs"),
        (["1 234", "5"], [1234, 5], "thousands separators"),
        (["12%", "3.5 %"], [0.12, 0.035], "percent signs"),
        (["−5", "+6", "1e3", ".5"], [-5, 6, 1000, 0.5], None),
        (["12 kg", "14,5 kg"], [12, 14.5], "decimal commas and the unit 'kg'"),
        (["12kg/ha", "-3kg/ha"], [12, -3], "the unit 'kg/ha'"),
        (["20 °C", "21°C"], [20, 21], "the unit '°C'"),
        (["1 day", "2 days"], [1, 2], "the unit 'day'"),
        (
            ["980.00", "(1,250.00)"],
            [980, -1250],
            "parentheses for a minus; '(1,250.00)' is read as -1250",
        ),
        (["€ 12", "(€ 13)"], [12, -13], "parentheses for a minus"),
    ],
)
def test_numbers_as_people_write_them(texts, values, note):
    reading = read_numbers(texts)
    assert np.allclose(reading.values, values)
    assert reading.trouble is None
    assert (reading.note is None) == (note is None)
    assert note is None or note in reading.note


@pytest.mark.parametrize(
    ("texts", "said"),
    [
        (["1.234 EUR", "950 EUR"], "may have a decimal point or a thousands point"),
        (["1.5", "1,5"], "'1,5' has decimal commas, where the table has decimal points"),
        (["$3", "€4"], "currencies are mixed"),
        (["12%", "3"], "some cells carry a percent sign"),
        (["12 kg", "500 g"], "units are mixed (g and kg)"),
        (["12 kg", "14 kg", "500"], "some cells carry a unit (kg) and some do not"),
    ],
)
def test_what_two_readings_fit_is_left_to_the_user(texts, said):
    assert said in read_numbers(texts).trouble


@pytest.mark.parametrize(
    "texts", [["12 Oak", "3 Elm", "5 Main", "7 High"], ["(12)", "(13)"], ["12A", "13A"], ["1st", "2nd"], ["5th", "6th"],
              ["(-5)", "4"], ["7 am", "8 am"], ["12 kg"] + ["3"] * 5]
)  # fmt: skip
def test_what_looks_like_a_unit_or_a_minus_and_is_none(texts):
    reading = read_numbers(texts)
    assert reading.unreadable
    assert reading.trouble is None


def test_the_user_settles_what_is_open():
    for mark, value in ((".", 1234), (",", 1.234)):
        reading = read_numbers(["1,234", "950"], Marks(mark, certain=True))
        assert reading.values.tolist() == [value, 950]
        assert "no cell of the table says" not in reading.note
    assert "no cell of the table says" in read_numbers(["1,234", "950"]).note


WRITTEN = {
    "commas.csv": "hive,honey kg,type\nH1,3.5,long\nH2,,top\n\n",
    "tabs.tsv": "hive\thoney kg\ttype\nH1\t3.5\tlong\nH2\t\ttop\n",
    "semicolons.txt": "hive;honey kg;type\nH1;3,5;long\nH2;;top\n",
    "bars.txt": "hive|honey kg|type\nH1|3.5|long\nH2||top\n",
    "lines.jsonl": '{"hive":"H1","honey kg":3.5,"type":"long"}\n{"hive":"H2","honey kg":null,"type":"top"}\n',
    "list.json": '[{"hive":"H1","honey kg":3.5,"type":"long"},{"hive":"H2","honey kg":null,"type":"top"}]',
}
FRAME = pd.DataFrame({"hive": ["H1", "H2"], "honey kg": [3.5, np.nan], "type": ["long", "top"]})


@pytest.mark.parametrize("name", [*WRITTEN, "a.parquet", "a.feather", "a.xlsx", "a.ods"])
def test_every_kind_of_file_gives_the_same_table(name, tmp_path):
    file = tmp_path / name
    if name in WRITTEN:
        file.write_text(WRITTEN[name], encoding="utf-8-sig" if name == "commas.csv" else "utf-8")
    elif name.endswith(("parquet", "feather")):
        getattr(FRAME, f"to_{file.suffix[1:]}")(file)
    else:
        FRAME.to_excel(file, index=False, sheet_name="stall")
    frame = jn.read(file)
    assert list(frame.columns) == ["hive", "honey kg", "type"]
    assert frame["honey kg"].tolist()[0] == 3.5
    assert frame["honey kg"].isna().tolist() == [False, True]
    assert frame["type"].tolist() == ["long", "top"]
    if file.suffix in (".xlsx", ".ods"):
        assert len(jn.read(file, table="stall")) == 2
        with pytest.raises(jn.CallError, match="its sheets are stall"):
            jn.read(file, table="shop")


@pytest.mark.parametrize(
    ("name", "content", "error", "said"),
    [
        ("empty.csv", b"", jn.EmptyTableError, "is empty"),
        ("blank.csv", b"\n \n", jn.EmptyTableError, "is empty"),
        ("headers.csv", b"a,b\n", jn.EmptyTableError, "has headers (a, b) but no rows"),
        ("binary.csv", bytes(range(256)), jn.FileFormatError, "is not text"),
        (
            "twice.csv",
            b"a,b,a\n1,2,3\n",
            jn.DataError,
            "the header 'a' stands twice (columns 1, 3)",
        ),
        ("ragged.csv", b"a,b\n1,2\n3,4,5\n", jn.FileFormatError, "is not a table of commas"),
        ("not.parquet", b"a,b\n1,2\n", jn.FileFormatError, "cannot be read as .parquet"),
        ("not.xlsx", b"a,b\n1,2\n", jn.FileFormatError, "cannot be read as .xlsx"),
    ],
)
def test_a_bad_file_is_refused_in_clear_words(name, content, error, said, tmp_path, joinery):
    file = tmp_path / name
    file.write_bytes(content)
    with pytest.raises(error) as caught:
        jn.read(file)
    assert said in str(caught.value)
    status, out, err = joinery("look", file)
    assert (status, out) == (3, "")
    assert said in err
    assert "Traceback" not in err


def test_other_ways_a_table_cannot_be_had(tmp_path):
    (tmp_path / "yields.csv").write_text("a\n1\n")
    with pytest.raises(jn.DataError, match=r"no such file.*did you mean .*yields\.csv"):
        jn.read(tmp_path / "yelds.csv")
    with pytest.raises(jn.FileFormatError, match="is a folder"):
        jn.read(tmp_path)
    with pytest.raises(jn.CallError, match="did you mean 'winter'"):
        jn.sample_data("wintr")
    with pytest.raises(jn.UnequalLengthsError, match="'a' has length 3, 'b' has 2") as caught:
        records({"a": [1, 2, 3], "b": [1, 2]})
    assert caught.value.lengths == {"a": 3, "b": 2}
    with pytest.raises(jn.DataError, match="'a' stands twice"):
        records(pd.DataFrame([[1, 2]], columns=["a", "a"]))
    with pytest.raises(jn.EmptyTableError, match="no rows"):
        records(pd.DataFrame({"a": []}))
    with pytest.raises(jn.DataError, match="cannot be made from int"):
        records(3)


def test_tables_from_elsewhere():
    arrow = pa.table({"a": [1, 2], "g": ["u", None]})
    assert records(arrow).column("a").numbers(slice(None)).tolist() == [1, 2]
    assert records({"a": [1, 2], "b": 7}).column("b").numbers(slice(None)).tolist() == [7, 7]
    storied = pd.DataFrame(
        [[1, 2]], columns=pd.MultiIndex.from_tuples([("hive", "kg"), ("hive", "")])
    )
    assert records(storied).names == ("hive.kg", "hive")


NUMBERS = [1.0, 2.0, np.nan]


@pytest.mark.parametrize(
    ("values", "kind", "expected"),
    [
        (pd.Series([1, 2, None], dtype="Int64"), "number", NUMBERS),
        (pd.Series([1, 2, None], dtype="Float64"), "number", NUMBERS),
        (pd.Series([1, 2, None], dtype=pd.ArrowDtype(pa.int32())), "number", NUMBERS),
        (pd.Series([1, 2, None], dtype=object), "number", NUMBERS),
        (pd.Series(["1", "2", ""], dtype=object), "number", NUMBERS),
        (pd.Series(["1", "2", None], dtype="string"), "number", NUMBERS),
        (pd.Series([False, True, None], dtype="boolean"), "yes/no", [0, 1, np.nan]),
        (pd.Series([False, True, None], dtype=object), "yes/no", [0, 1, np.nan]),
        (pd.Series(["no", "Yes", None]), "yes/no", None),
        (pd.Series(["b", "a", None]), "category", None),
        (pd.Series(["b", "a", None], dtype=pd.ArrowDtype(pa.string())), "category", None),
        (pd.Categorical(["b", "a", None], categories=["b", "c", "a"]), "category", None),
        (
            pd.to_datetime(["2026-01-02", "2026-01-03", None]).to_series(),
            "date",
            [20455, 20456, np.nan],
        ),
        (pd.to_timedelta(["1 days", "48h", None]).to_series(), "number", NUMBERS),
        (pd.Series([None, None, None], dtype=object), "number", [np.nan] * 3),
    ],
)
def test_columns_of_every_dtype_are_understood(values, kind, expected):
    column = understand("c", pd.Series(values), lambda at: at.tolist())
    assert column.kind == kind
    assert column.missing(slice(None))[-1]
    if expected is not None:
        assert np.allclose(column.numbers(slice(None)), expected, equal_nan=True)
    else:
        assert column.texts(slice(None))[2] is None


def test_text_where_numbers_are_needed_shows_the_first_offending_rows():
    table = records({"hive": ["H1", "H2", "H3", "H4"], "kg": ["3", "oops", "4", "5 kg"]}, id="hive")
    with pytest.raises(jn.UnusableColumnError, match=r"row H2: 'oops', row H4: '5 kg'") as caught:
        table.column("kg").numbers(slice(None))
    assert caught.value.rows == ("H2", "H4")


def test_the_sample_tables_are_what_the_script_makes():
    assert set(sample_names()) == set(make.TABLES)
    for name, build in make.TABLES.items():
        made = build().to_csv(index=False, lineterminator="\n")
        again = jn.sample_data(name).shape
        assert made.count("\n") - 1 == again[0]
        shipped = make.Path(make.__file__).with_name(f"{name}.csv").read_text("utf-8")
        assert shipped == made, name


ROWS = {
    "jars": 14,
    "yields": 120,
    "winter": 34,
    "winter_outcome": 3,
    "bee_samples": 160,
    "hive_scale": 150,
    "prices": 90,
    "queens": 60,
}


def test_what_is_planted_in_the_samples_is_there(honey):
    assert {name: len(jn.sample_data(name)) for name in ROWS} == ROWS
    # yields: a product, a curve, and the same altitude twice
    table = honey.coefficients().frame.set_index("term")
    assert table.loc["feed_kg × rain_days", "p"] < 1e-4
    bent = honey.revise(leave_out="H058").coefficients().frame.set_index("term")
    assert bent.loc["altitude_m^2", "p"] < 0.01
    assert "altitude_ft is 3.28084 × altitude_m" in " ".join(honey.revise(add="altitude_ft").notes)
    # one far-out row that fits well, one that does harm, one badly fitted
    rows = honey.rows().frame
    assert rows.loc["H031", "verdict"] == ""
    assert "far out" in rows.loc["H031", "reason"]
    assert rows.loc["H058", "verdict"] == "serious"
    assert "decides the answer" in rows.loc["H058", "reason"]
    assert rows.loc["H089", "verdict"] == "serious"
    assert "badly fitted" in rows.loc["H089", "reason"]
    assert rows["reason"].str.startswith("left out").sum() == 7
    assert len(honey.forecast()) == 4
    # winter: two predictors that overlap, long tails, and three rows kept back
    winter = jn.sample_data("winter")
    assert winter[["stores_kg", "hive_weight_kg"]].corr().iloc[0, 1] > 0.95
    for name in ("forage_km2", "nearest_km"):
        assert winter[name].skew() > 1.5 > 3 * abs(np.log(winter[name]).skew())
    assert set(jn.sample_data("winter_outcome")["apiary"]) == set(
        winter.loc[winter["survived"].isna(), "apiary"]
    )
    # hive_scale: neighbouring days alike; prices: the spread grows
    gain = (
        jn.fit("sample:hive_scale", "gain_kg given temperature_c, rain_mm").rows().frame["residual"]
    )
    assert gain.autocorr() > 0.5
    price = jn.fit("sample:prices", "price given weight_g, source").rows().frame
    assert np.corrcoef(np.abs(price["residual"]), price["fitted"])[0, 1] > 0.3
    # bee_samples: more spread than a Poisson count; queens: few of many matter
    mites = jn.sample_data("bee_samples")
    pooled = mites.groupby(["treatment", "month"])["mites"]
    assert (pooled.var() / pooled.mean()).median() > 2
    queens = (
        jn.fit("sample:queens", "eggs_a_day given all but queen, outcome")
        .coefficients()
        .frame.set_index("term")
    )
    assert (queens.loc[["weight_mg", "age_days", "attendants"], "p"] < 0.01).all()
    assert (queens.drop(["intercept", "weight_mg", "age_days", "attendants"])["p"] > 0.01).all()


TABLE = "hours;price;when\n3;2,50;31.05.2024\n4;3,10;01.06.2024\n"
ON_SHEETS = {
    "title": ("Stall sales\n\n" + TABLE, "1 line above the header left off ('Stall sales')"),
    "comments": ("# made by hand\n# in June\n" + TABLE, "2 lines above"),
    "total": (TABLE + "Total;5,60;\n\n", "1 line below the table left off ('Total 5,60')"),
    "source": (TABLE + "Source: the stall book;;\n", "1 line below"),
}


@pytest.mark.parametrize(("text", "said"), ON_SHEETS.values(), ids=ON_SHEETS)
@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "utf-16-le", "latin-1"])
def test_the_table_is_found_on_its_sheet(text, said, encoding, tmp_path):
    path = tmp_path / "s.csv"
    path.write_bytes(text.encode(encoding))
    found = jn.read(path)
    assert found["hours"].tolist() == [3, 4]
    assert found["price"].tolist() == [2.5, 3.1]
    assert found["when"].dt.day.tolist() == [31, 1]
    assert said in found.attrs["joinery_notes"][0]


def test_every_guess_can_be_settled(tmp_path):
    path = tmp_path / "s.txt"
    path.write_text(
        "ignored,line,here\na|b|when\n1,5|x|03/04/2024\n2,5|z|04/04/2024\nTotal|y|05/06/2024\n",
        encoding="utf-8",
    )
    found = jn.read(
        path, delimiter="|", header=2, footer=0, decimal=",", dates="month first", encoding="utf-8"
    )
    assert found.columns.tolist() == ["a", "b", "when"]
    assert found["a"].tolist() == ["1,5", "2,5", "Total"]
    assert found["when"].dt.month.tolist() == [3, 4, 5]
    assert jn.read(path, delimiter="|", header=2, dates="day first")["when"].dt.day.tolist() == [
        3,
        4,
    ]
    for wrong in ({"header": 99}, {"dates": "year"}, {"encoding": "utf-99"}):
        with pytest.raises(jn.JoineryError):
            jn.read(path, **wrong)


def test_a_spreadsheet_table_need_not_start_in_the_corner(tmp_path):
    path = tmp_path / "s.xlsx"
    cells = [
        [None] * 4,
        [None, "Stall sales", None, None],
        [None] * 4,
        [None, "hours", "price", "when"],
    ]
    cells += [
        [None, 3, 2.5, pd.Timestamp("2024-05-31")],
        [None, 4, None, pd.Timestamp("2024-06-01")],
        [None, "Total", 2.5, None],
    ]
    pd.DataFrame(cells).to_excel(path, header=False, index=False)
    found = jn.read(path)
    assert found.columns.tolist() == ["hours", "price", "when"]
    assert found["hours"].tolist() == [3, 4]
    assert "Stall sales" in found.attrs["joinery_notes"][0]
    assert "Total" in found.attrs["joinery_notes"][0]
    assert len(jn.read(path, footer=0)) == 3


MESSY = """Apiary ;Visited;Weight;Cost;Loss;Temp (°C);Quarter;Took
Alder;03.04.2023;12 kg;€ 1.234,50;12 %;18,5;Q1 2023;1:30
Birch;04.04.2023;14,5 kg;€ 980,00;8 %;19,0;Q2 2023;2:10
Cedar;05.04.2023;11 kg;(€ 20,00);5,5 %;n/a;Q3 2023;0:45
Summe;;37,5 kg;;;;;
"""


def test_a_table_as_an_office_keeps_it(tmp_path):
    (tmp_path / "a.csv").write_text(MESSY)
    look = jn.look(tmp_path / "a.csv")
    kinds = look.columns.frame.set_index("column")["kind"]
    assert kinds[["Weight", "Cost", "Loss", "Temp (°C)"]].tolist() == ["number"] * 4
    assert kinds[["Visited", "Quarter"]].tolist() == ["date"] * 2
    said = " ".join(look.columns.notes)
    for words in ("left off ('Summe 37,5 kg')", "the unit 'kg'", "parentheses for a minus", "with the day first",
                  "'1:30' may be a time of day or a duration; write a number, in hours or minutes"):  # fmt: skip
        assert words in said
    read = jn.read(tmp_path / "a.csv")
    assert read["Cost"].tolist() == [1234.5, 980, -20]
    assert read["Quarter"].dt.month.tolist() == [1, 4, 7]


@pytest.mark.parametrize("door", ["frame", "file", "saved"])
def test_new_rows_in_another_unit_are_refused(door, tmp_path):
    rows = {
        "w": [f"{w} kg" for w in range(2, 12)],
        "price": [f"€ {p}" for p in range(10, 20)],
        "y": np.arange(10.0) ** 2,
    }
    table = pd.DataFrame(rows)
    if door != "frame":
        table.to_csv(tmp_path / "t.csv", index=False)
        table = tmp_path / "t.csv"
    fit = jn.fit(table, "y given w, price")
    if door == "saved":
        fit = jn.load(fit.save(tmp_path / "f.json"))
    expected = fit.forecast({"w": [3.5], "price": [12]})["fitted"].iloc[0]
    assert fit.forecast({"w": ["3.5 kg"], "price": ["€ 12"]})["fitted"].iloc[0] == expected
    with pytest.raises(
        jn.UnusableColumnError,
        match="'w' is written in g, where the fitted table has kg; bring it to that unit",
    ):
        fit.forecast({"w": ["3500 g"], "price": [12]})
    pd.DataFrame({"w": ["3.5 kg"], "price": ["$ 12"]}).to_csv(tmp_path / "new.csv", index=False)
    for _ in range(2):
        with pytest.raises(
            jn.UnusableColumnError, match=r"'price' is written in \$, where the fitted table has €"
        ):
            fit.forecast(tmp_path / "new.csv")
