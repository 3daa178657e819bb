"""The workbook: every table a sheet, and forecasts that an evaluator computes from what is typed."""

from __future__ import annotations

import warnings

import numpy as np
import openpyxl
import pandas as pd
import pytest

import joinery as jn


def recalculated(path, changes=()):
    """Cells of the forecast sheet as a formula evaluator computes them, some typed over before."""
    import formulas

    if changes:
        book = openpyxl.load_workbook(path)
        for cell, value in changes:
            book["forecast"][cell] = value
        book.save(path)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        solved = formulas.ExcelModel().loads(str(path)).finish().calculate()
    found = {}
    for name, value in solved.items():
        sheet, _, cell = str(name).partition("'!")
        if sheet.upper().endswith("FORECAST") and ":" not in cell:
            found[cell] = value.value[0, 0]
    return found


def test_the_forecast_sheet_follows_what_is_typed(tmp_path):
    fit = jn.fit(
        "sample:yields",
        "honey_kg given forage_km2, feed_kg * rain_days, hive_type, swarmed",
        id="hive",
    )
    path = fit.write(tmp_path / "book.xlsx")
    book = openpyxl.load_workbook(path)
    assert book.sheetnames == [
        "in short",
        "coefficients",
        "overall",
        "terms",
        "checks",
        "rows",
        "forecast",
    ]
    heads = [c.value for c in book["forecast"][2]]
    assert heads[1:6] == ["hive_type", "forage_km2", "feed_kg", "rain_days", "swarmed"]
    assert book["rows"].max_row > 120
    truth = fit.forecast().frame
    found = recalculated(path)
    for place, (label, row) in enumerate(truth.iterrows(), 3):
        assert found[f"A{place}"] == label
        for column, name in zip(
            "GHIJK", ("fitted", "mean_lower", "mean_upper", "new_lower", "new_upper")
        ):
            assert found[f"{column}{place}"] == pytest.approx(row[name], rel=1e-12)
    found = recalculated(path, [("C3", 5.5), ("B3", "long")])
    again = fit.forecast(
        {
            "hive_type": ["long"],
            "forage_km2": [5.5],
            "feed_kg": [2.2],
            "rain_days": [17],
            "swarmed": ["no"],
        }
    )
    assert found["G3"] == pytest.approx(again["fitted"][0], rel=1e-12)


@pytest.mark.parametrize("model", ["yes given x, g", "n per e given x"])
def test_other_families_and_saved_fits(model, tmp_path):
    rng = np.random.default_rng(1)
    table = pd.DataFrame({"x": rng.normal(size=40), "g": rng.choice(["=1+1", "b"], 40), "e": 2.0})
    table["yes"], table["n"] = rng.random(40) < 0.5, rng.poisson(3, 40)
    fit = jn.fit(table, model)
    path = fit.write(tmp_path / "book.xlsx")
    terms = [
        row[0].value for row in openpyxl.load_workbook(path)["coefficients"].iter_rows(min_row=3)
    ]
    assert "x" in terms
    saved = jn.load(fit.save(tmp_path / "f.json"))
    found = recalculated(saved.write(tmp_path / "saved.xlsx"))
    names = [c.value for c in openpyxl.load_workbook(tmp_path / "saved.xlsx")["forecast"][2]]
    row = {name: [found[f"{'ABCD'[i]}3"]] for i, name in enumerate(names) if name in table}
    column = "ABCD"[names.index("fitted")]
    assert found[f"{column}3"] == pytest.approx(saved.forecast(row)["fitted"][0], rel=1e-12)


def test_text_that_looks_like_a_formula_stays_text(tmp_path):
    table = {"g": ["=1+1", "=1+1", "b", "b", "c", "c"], "y": [1.0, 2, 3, 5, 4, 7]}
    path = jn.fit(table, "y given g", labels={"g": "=HYPERLINK(1)"}).write(tmp_path / "b.xlsx")
    for page in openpyxl.load_workbook(path).worksheets:
        live = [c.value for row in page.iter_rows() for c in row if c.data_type == "f"]
        assert not live or page.title == "forecast"
        assert not any("HYPERLINK" in str(v) or str(v) == "=1+1" for v in live)
    with pytest.raises(jn.CallError, match="written as a workbook"):
        jn.fit(table, "y given g").write(tmp_path / "b.csv")
