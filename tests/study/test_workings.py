"""Workings: every formula, with its numbers put in, gives what the fit says."""

from __future__ import annotations

import math
import re

import numpy as np
import pandas as pd
import pytest

import joinery as jn
from joinery.show.numbers import figure
from joinery.study.understand.worked import SHOWN

RNG = np.random.default_rng(6)
TABLE = pd.DataFrame(
    {"x": RNG.normal(50, 4, 40), "z": RNG.normal(0, 1, 40), "g": RNG.choice(["a", "b"], 40)}
)
TABLE["y"] = 3 + 0.5 * TABLE["x"] - TABLE["z"] + RNG.normal(0, 1, 40)
TABLE["far"] = 1e6 + TABLE["x"]
TABLE["n"] = RNG.poisson(np.exp(0.02 * TABLE["x"]))
TABLE["yes"] = RNG.random(40) < 0.5
TABLE["times"] = RNG.integers(1, 4, 40)
TABLE["w"] = RNG.uniform(0.5, 2, 40)
CASES = [
    ("y given x", {}),
    ("y given far", {}),
    ("y given x", {"level": 0.8}),
    ("y given x", {"weights": "w", "repeats": "times"}),
    ("y given x", {"offset": "z"}),
    ("y given nothing", {}),
    ("y given x, z, g", {}),
    ("y given x, z", {"weights": "w"}),
    ("y given x without intercept", {}),
    ("n given x", {"family": "poisson"}),
    ("yes given x, z", {}),
    ("y given x", {"family": "gamma", "link": "log"}),
]


def evaluated(text: str) -> float:
    """What a formula with its numbers comes to."""
    text = text.replace("−", "-").replace("·", "*").replace("²", "**2").replace("√", "sqrt")
    return float(eval(re.sub(r"(?<![\w.])-?\d+", lambda m: m[0], text), {"sqrt": math.sqrt}))


@pytest.mark.parametrize(("model", "options"), CASES)
def test_a_reader_gets_the_value_that_is_shown(model, options):
    work = jn.fit(TABLE, model, **options).workings()
    for step in work.worked:
        assert step.formula.compute() == pytest.approx(step.value, rel=1e-7), step.figure
        if step.formula.kind != "call":
            found = evaluated(step.written("text", numbers=True))
            shown = float(f"{found:.{SHOWN - 1}e}")
            assert shown == pytest.approx(float(f"{step.value:.{SHOWN - 1}e}"), rel=1.01e-4), (
                step.figure
            )


@pytest.mark.parametrize(("model", "options"), CASES[:4])
def test_the_values_are_those_of_the_fit(model, options):
    fit = jn.fit(TABLE, model, **options)
    steps = fit.workings().steps.frame.groupby("figure")["value"].first()
    assert steps["residual SD"] == pytest.approx(fit.residual_sd)
    table = fit.coefficients().frame
    name = "the slope" if "standard error of the slope" in steps else table["term"].iloc[-1]
    row = table.iloc[-1]
    short = name.removeprefix("the ")
    assert steps[f"standard error of {name}"] == pytest.approx(row["standard_error"])
    assert steps[f"t of the {short}"] == pytest.approx(row["t"])
    assert steps[f"p of the {short}"] == pytest.approx(row["p"])
    assert steps[f"lower end, {short}"] == pytest.approx(row["lower"])
    if "explained (R²)" in steps:
        overall = fit.overall().frame.iloc[0]
        assert steps["F of the model"] == pytest.approx(overall["f"])
        assert steps["F from R²"] == pytest.approx(overall["f"])
        assert steps["critical F"] == pytest.approx(overall["critical_f"])
        assert steps["adjusted R²"] == pytest.approx(fit.adjusted_r_squared)


def test_one_predictor_is_forecast_at_a_value():
    fit = jn.fit("sample:jars", "jars_sold given hours_open")
    steps = fit.workings(at=5).steps.frame.groupby("figure")["value"].first()
    row = fit.forecast({"hours_open": [5]}).frame.iloc[0]
    assert steps["forecast at x₀ = 5"] == pytest.approx(row["fitted"])
    for end in ("lower", "upper"):
        assert steps[f"{end} end, mean at x₀"] == pytest.approx(row[f"mean_{end}"])
        assert steps[f"{end} end, new row at x₀"] == pytest.approx(row[f"new_{end}"])
    assert steps["slope"] == steps["slope in the centred form"]


def test_sums_show_all_rows_up_to_thirty():
    few = jn.fit("sample:jars", "jars_sold given hours_open").workings().sums
    assert len(few) == 15
    assert few["xy"].iloc[-1] == few["xy"].iloc[:-1].sum()
    many = jn.fit(TABLE, "y given x").workings().sums
    assert list(many.frame.index[-2:]) == ["…", "sum"]
    assert many["x²"].iloc[-1] == pytest.approx((TABLE["x"] ** 2).sum())


def test_the_last_iteration_gives_the_coefficients_again():
    fit = jn.fit(TABLE.head(25), "n given x", family="poisson")
    table = fit.workings().sums.frame.iloc[:-1]
    X = np.column_stack([np.ones(25), TABLE["x"][:25]])
    w, z = table["weight w"].to_numpy(float), table["response z"].to_numpy(float)
    b = np.linalg.solve(X.T @ (w[:, None] * X), X.T @ (w * z))
    assert b == pytest.approx(fit.coefficients()["estimate"].to_numpy(), rel=1e-7)
    steps = fit.workings().steps.frame.groupby("figure")["value"].first()
    assert steps["χ² of the model"] == pytest.approx(fit.overall()["chi2"].iloc[0])


@pytest.mark.parametrize("model", ["y given x", "y given x, z", "yes given x"])
def test_each_form_holds_each_step(model):
    work = jn.fit(
        TABLE.rename(columns={"x": "x_1 <b>"}), model.replace("x", '"x_1 <b>"')
    ).workings()
    for form in ("text", "markdown", "html", "latex"):
        text = work.render(form)
        for step in work.worked:
            assert figure(step.value, SHOWN).replace("−", "") in text.replace("-", "").replace(
                "−", ""
            )
    assert "<b>" not in work.render("html")
    assert work.render("html").count("<math>") == len(work.worked)
    if model == "y given x":
        latex = work.render("latex")
        assert r"\frac{S_{xy}}{S_{xx}}" in latex
        assert r"\left(\sum x\right)^2" in latex


@pytest.mark.parametrize(
    ("model", "options", "said"),
    [
        ("y given x", {"std_errors": "robust"}, "constant spread"),
        ("y given polynomial(x, 13)", {}, "fill pages"),
        ("yes given polynomial(x, 13)", {}, "at most 12"),
    ],
)
def test_what_is_not_worked_out_is_said(model, options, said):
    with pytest.raises(jn.CallError, match=said):
        jn.fit(TABLE, model, **options).workings()


def test_the_command_writes_them(joinery, tmp_path):
    asked = ("sample:jars", "jars_sold given hours_open")
    status, out, _ = joinery("workings", *asked, "--at", 5)
    assert (status, out) == (0, jn.fit(*asked).workings(5).render())
    assert joinery("workings", *asked, "--as", "latex", "--output", tmp_path / "w.tex")[0] == 0
    assert r"\begin{enumerate}" in (tmp_path / "w.tex").read_text()
