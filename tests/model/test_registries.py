"""Whatever there are several of: each entry answers every question in every form, and one more entry is enough to have one more."""

from __future__ import annotations

import sys
from types import ModuleType

import numpy as np
import pandas as pd
import pytest

import joinery as jn
from joinery.core.glm.families import FAMILIES
from joinery.core.glm.links import LINKS, Link
from joinery.core.inference import diagnostics
from joinery.notation.functions import FUNCTIONS, Function
from joinery.notation.of_number import Back, OfNumber
from joinery.show.pictures.canvas import Words, sheet
from joinery.show.renderers import RENDERERS
from joinery.study.check import table as check_table
from joinery.study.check.check import Line
from joinery.study.check.rate import SHARES
from joinery.study.picture_list import PICTURES, Picture
from joinery.study.picture_words import worded
from joinery.study.rows.figures import per_row

PAIRS = [(family.name, link) for family in FAMILIES.values() for link in family.links]
QUESTIONS = {
    "coefficients": lambda f: f.coefficients(),
    "overall": lambda f: f.overall(),
    "anova": lambda f: f.anova(),
    "checks": lambda f: f.checks(),
    "rows": lambda f: f.rows(),
    "forecast": lambda f: f.forecast({"x": [0.4], "g": ["b"]}),
    "adjusted_means": lambda f: f.adjusted_means("g"),
    "average_effects": lambda f: f.average_effects(),
    "simple_slopes": lambda f: f.simple_slopes("x", "g"),
    "difference": lambda f: f.difference({"x": 0.2}, {"x": 0.6}),
    "figures": lambda f: f.figures(),
    "covariance": lambda f: f.covariance(),
}


@pytest.fixture(scope="module")
def table():
    rng = np.random.default_rng(1)
    n = 60
    x, g = rng.uniform(0, 1, n), rng.choice(["a", "b"], n)
    mean = 0.3 + 0.2 * x + 0.1 * (g == "b")
    return pd.DataFrame(
        {
            "x": x,
            "g": g,
            "binomial": rng.random(n) < mean,
            "poisson": rng.poisson(8 * mean),
            "negative-binomial": rng.negative_binomial(2, 0.2, n),
            "normal": mean + rng.normal(0, 0.05, n),
            "gamma": rng.gamma(9, mean),
            "inverse-gaussian": rng.wald(mean, 4),
        }
    )


def asked_everything(fit, folder):
    for question in QUESTIONS.values():
        answer = question(fit)
        for form in RENDERERS:
            assert answer.render(form).strip()
    styles = {"text", "latex", "python", "sql", "spreadsheet"}
    if fit.link == "probit":  # standard SQL has no normal distribution
        styles.remove("sql")
    for style in styles:
        assert fit.equation(style)
    assert fit.explain()
    assert fit.report(folder / "r.html").stat().st_size > 10_000
    fit.write(folder / "b.xlsx")
    fit.save(folder / "f.json")
    again = jn.load(folder / "f.json").forecast({"x": [0.4], "g": ["b"]})
    assert again == fit.forecast({"x": [0.4], "g": ["b"]})


def code_of(fit):
    room = {}
    exec(fit.equation("python"), room)
    return room["fitted"](0.4, "b")


@pytest.mark.sampled(5)
@pytest.mark.simulation
@pytest.mark.parametrize(("family", "link"), PAIRS)
def test_every_family_and_link_answers_every_question_in_every_form(family, link, table, tmp_path):
    fit = jn.fit(table, f'"{family}" given x, g', family=family, link=link)
    asked_everything(fit, tmp_path)
    forecast = fit.forecast({"x": [0.4], "g": ["b"]})["fitted"].iloc[0]
    assert code_of(fit) == pytest.approx(forecast, rel=1e-12)


def test_a_link_is_added_by_one_entry(monkeypatch, table, tmp_path):
    added = Link(
        name="loglog",
        eta=lambda m: -np.log(-np.log(m)),
        mu=lambda e: np.exp(-np.exp(-e)),
        slope=lambda e: np.exp(-e - np.exp(-e)),
        bend=lambda e: np.exp(-e) - 1,
        formula=("exp", ("negate", ("exp", ("negate", "eta")))),
    )
    monkeypatch.setitem(LINKS, "loglog", added)
    binomial = FAMILIES["binomial"]
    monkeypatch.setattr(type(binomial), "links", (*binomial.links, "loglog"))
    fit = jn.fit(table, "binomial given x, g", link="loglog")
    asked_everything(fit, tmp_path)
    mirrored = jn.fit(table.assign(no=~table["binomial"]), "no given x, g", link="cloglog")
    assert fit.deviance == pytest.approx(mirrored.deviance, rel=1e-12)
    assert code_of(fit) == pytest.approx(fit.forecast({"x": [0.4], "g": ["b"]})["fitted"].iloc[0])


@pytest.mark.simulation
def test_a_family_is_added_by_one_entry(monkeypatch, table, tmp_path):
    class Doubled(type(FAMILIES["gamma"])):
        name = "doubled"

    monkeypatch.setitem(FAMILIES, "doubled", Doubled())
    fit = jn.fit(table, "gamma given x, g", family="doubled", link="log")
    asked_everything(fit, tmp_path)
    assert fit.deviance == jn.fit(table, "gamma given x, g", family="gamma", link="log").deviance


def test_a_function_of_one_number_is_added_by_one_entry(monkeypatch, table, tmp_path):
    sinh = ("/", ("-", ("exp", "x"), ("exp", ("negate", "x"))), 2.0)
    added = OfNumber(
        np.arcsinh,
        lambda x: 1 / np.sqrt(1 + x**2),
        Back(np.sinh, sinh),
        formula=("log", ("+", "x", ("sqrt", ("+", ("^", "x", 2.0), 1.0)))),
    )
    monkeypatch.setitem(FUNCTIONS, "asinh", Function("asinh(x)", of_number=added))
    fit = jn.fit(table, "asinh(gamma) given asinh(x), g")
    asked_everything(fit, tmp_path)
    made = table.assign(x=np.arcsinh(table["x"]), gamma=np.arcsinh(table["gamma"]))
    plain = jn.fit(made, "gamma given x, g")
    assert fit.coefficients()["estimate"].tolist() == plain.coefficients()["estimate"].tolist()
    forecast = fit.forecast({"x": [0.4], "g": ["b"]})["fitted"].iloc[0]
    there = plain.forecast({"x": [np.arcsinh(0.4)], "g": ["b"]})["fitted"].iloc[0]
    assert forecast == pytest.approx(np.sinh(there), rel=1e-12)
    assert code_of(fit) == pytest.approx(forecast, rel=1e-12)
    slope = plain.coefficients().frame.set_index("term").loc["x", "estimate"]
    effect = fit.average_effects().frame.set_index("term").loc["x", "effect"]
    assert effect == pytest.approx(slope * np.mean(1 / np.sqrt(1 + table["x"] ** 2)), rel=1e-9)


def test_a_check_is_added_by_one_function(monkeypatch, table):
    def last_row(fit):
        test = diagnostics.Test(3.0, 1e-6, (), 1.0)
        yield Line("last row", "last row", "Is the last row like the others?", "a test of it", test,
                   finding="the last row is unlike the others", advise=lambda: "look at it", large=0.5)  # fmt: skip

    monkeypatch.setattr(check_table, "CHECKS", (*check_table.CHECKS, last_row))
    monkeypatch.setitem(SHARES, "last row", 0.001)
    fit = jn.fit(table, "normal given x, g")
    line = fit.checks().frame.iloc[-1]
    assert (line["p"], line["verdict"], line["advice"]) == (1e-6, "serious", "look at it")
    assert "serious the last row is unlike the others" in " ".join(str(fit).split())


def test_a_picture_is_added_by_one_entry(monkeypatch, table, tmp_path):
    def misses(fit, *, label_rows, words, ax, over="fitted"):
        figures = per_row(fit)
        x = figures.fitted if over == "fitted" else figures.observed
        caption = Words("How far does each row miss?", "a picture of a test", over, "miss")
        figure, drawn_on = sheet(ax, worded(caption, words))
        drawn_on.plot(x, np.abs(figures.residual), "o")
        return figure

    module = ModuleType("joinery.study.misses")
    module.misses = misses
    monkeypatch.setitem(sys.modules, module.__name__, module)
    monkeypatch.setitem(PICTURES, "misses", Picture("misses", "how far rows miss", takes=("over",)))
    fit = jn.fit(table, "normal given x, g")
    file = tmp_path / "misses.svg"
    figure = fit.draw("misses", path=file, title="Missed", over="observed")
    assert "Missed" in {text.get_text() for text in figure.texts}
    assert figure.axes[0].get_xlabel() == "observed"
    assert file.stat().st_size > 1000
    with pytest.raises(jn.CallError, match="did you mean 'misses'"):
        fit.draw("mises")
    with pytest.raises(jn.CallError, match="takes no hold=; it takes over="):
        fit.draw("misses", hold={})
