"""Whatever there are several of: each entry answers every question in every form, and one more entry is enough to have one more."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import joinery as jn
from joinery.core.glm.families import FAMILIES
from joinery.core.glm.links import LINKS, Link
from joinery.show.renderers import RENDERERS

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
