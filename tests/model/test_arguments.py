"""Arguments: values in place of columns, and what is of the wrong kind."""

from __future__ import annotations

import inspect
from contextlib import suppress

import matplotlib.pyplot as plt
import numpy as np
import pandas as pd
import pytest

import joinery as jn

RNG = np.random.default_rng(0)
TABLE = pd.DataFrame(
    {
        "x": RNG.normal(size=20),
        "y": RNG.normal(size=20),
        "w": RNG.uniform(1, 2, 20),
        "r": RNG.integers(1, 3, 20),
        "g": list("ab") * 10,
        "k": list("abcde") * 4,
        "t": RNG.permutation(20),
    }
)
FIT = jn.fit(TABLE, "y given x")


def errors(**options):
    return jn.fit(TABLE, "y given x", **options).coefficients()["standard_error"].to_numpy()


@pytest.mark.parametrize(
    ("named", "given"),
    [
        ({"weights": "w"}, lambda v: {"weights": v("w")}),
        ({"repeats": "r"}, lambda v: {"repeats": v("r")}),
        ({"offset": "w"}, lambda v: {"offset": v("w")}),
        ({"where": "x > 0"}, lambda v: {"where": v("x") > 0}),
        ({"order": "t", "std_errors": "autocorrelated"}, lambda v: {"order": v("t"), "std_errors": "autocorrelated"}),
        ({"cluster": "k", "std_errors": "clustered"}, lambda v: {"cluster": v("k"), "std_errors": "clustered"}),
        ({"cluster": ["k", "g"], "std_errors": "clustered"}, lambda v: {"cluster": [v("k"), v("g")], "std_errors": "clustered"}),
    ],
)  # fmt: skip
@pytest.mark.parametrize("how", ["the table's own", "another Series", "another order", "array"])
def test_values_in_place_of_a_column(named, given, how):
    ways = {
        "the table's own": lambda name: TABLE[name],
        "another Series": lambda name: TABLE[name].rename("other"),
        "another order": lambda name: TABLE[name].rename("other")[::-1],
        "array": lambda name: TABLE[name].to_numpy(),
    }
    assert np.allclose(errors(**given(ways[how])), errors(**named), rtol=1e-12)


def test_values_given_beside_the_table_stay_with_the_fit():
    fit = jn.fit(TABLE, "y given all but g, k", weights=2 * TABLE["w"])
    assert fit.sentence == "y given x, w, r, t"
    again = fit.revise(drop=["w", "r", "t"])
    assert np.allclose(again.coefficients()["standard_error"], errors(weights="w"))
    ahead = fit.forecast(TABLE.head(2).drop(columns="y"))
    assert np.isnan(ahead["new_lower"]).all()
    assert 'weighted by "weights (given)"' in ahead.notes[0]
    assert not any("given" in name for name in TABLE.columns)
    half = jn.fit(TABLE, "y given x", weights=list(TABLE["w"]), where="g = 'a'")
    assert half.n_rows == 10


@pytest.mark.parametrize(
    ("options", "said"),
    [
        ({"weights": [1, 2]}, "weights is of length 2, and the table of 20"),
        ({"weights": np.ones((20, 2))}, "weights= needs a value for each row, not a table"),
        ({"weights": pd.Series([1.0, 2.0])}, "the Series has no value for row 2, 3, 4"),
        ({"weights": pd.Series(np.ones(40), index=[*range(20)] * 2)}, "two values of the Series have one label"),
        ({"weights": np.where(TABLE["t"] == 3, np.inf, 1)}, "is infinite in 1 row"),
        ({"order": "nope"}, "no column 'nope' for order="),
    ],
)  # fmt: skip
def test_values_that_do_not_fit_the_table(options, said):
    with pytest.raises(jn.JoineryError) as caught:
        jn.fit(TABLE, "y given x", **options)
    assert said in str(caught.value)


ODD = (
    None, True, -1, 2.5, float("nan"), 10**30, "", "x", b"x", [], [5], ["x"], {}, {"x": [1, 2]}, {1},
    object(), np.ones(2), np.zeros((2, 2)), pd.Series([1.0]), TABLE, len, (1, 2), FIT,
)  # fmt: skip
YES = jn.fit(TABLE, "(g = 'a') given x, k")
PRODUCT = jn.fit(TABLE, "y given x * w, x, w, g")
CHOSEN = jn.stepwise(TABLE, "y given x, w", criterion="aic")
MADE = {"model": "y given x", "coefficients": {"intercept": 0, "x": 1}, "rows": 8}
NEEDED = {
    "fit": {"data": TABLE, "model": "y given x"},
    "look": {"data": TABLE},
    "read": {"path": "/nowhere"},
    "load": {"path": "/nowhere"},
    "source": {"path_or_url": "/nowhere"},
    "report": {"path": "/nowhere/r.html"},
    "stepwise": {"data": TABLE, "model": "y given x, w", "criterion": "aic"},
    "simulate": MADE,
    "rehearse": {**MADE, "times": 2},
    "claim": {"text": "x = 0"},
    "draw": {"name": "residuals"},
    "forecast": {"new": TABLE.head(2)},
    "simple_slopes": {"of": "x", "across": "w"},
    "slope_regions": {"of": "x", "across": "w"},
    "inverse": {"of": "x", "at": 0.3},
    "fit_each": {"data": TABLE, "model": "y given x", "by": "g"},
    "adjusted_means": {"term": "g"},
    "level_differences": {"term": "g"},
    "difference": {"a": "x=1"},
    "bootstrap": {"resamples": 5},
    **{key: {"path": "/nowhere/x"} for key in ("save", "write", "write_rows")},
    "write_forecasts": {"new": TABLE.head(2), "path": "/nowhere/x"},
}
HOLDERS = {"PRODUCT": PRODUCT, "YES": YES, "Look": jn.look(TABLE), "Trail": CHOSEN}
HOLDERS |= {"Table": FIT.coefficients(), "Workings": FIT.workings()}
OWN = {"Look": {"draw": {"name": "columns"}}, "Trail": {"draw": {}}}
OWN |= {"PRODUCT": {"simulate": {}}, "YES": {"simulate": {}}}
PUBLIC = {"Table": ("render", "write"), "Look": ("draw", "render"), "Workings": ("render",)}
CALLS = {name: getattr(jn, name) for name in jn.__all__ if inspect.isfunction(getattr(jn, name))}
for holder, owner in HOLDERS.items():
    for method, call in inspect.getmembers(owner, inspect.ismethod):
        if not method.startswith("_") and method in PUBLIC.get(holder, (method,)):
            CALLS[f"{holder}.{method}"] = call


@pytest.mark.sampled(2)
@pytest.mark.parametrize("name", CALLS)
def test_arguments_of_any_kind_end_in_an_answer_or_a_joinery_error(name, monkeypatch, tmp_path):
    monkeypatch.chdir(tmp_path)  # some of them are names of files
    holder, _, method = name.rpartition(".")
    needed = OWN.get(holder, {}).get(method, NEEDED.get(method, {}))
    parameters = inspect.signature(CALLS[name]).parameters.values()
    for parameter in parameters:
        if parameter.kind in (parameter.VAR_KEYWORD, parameter.VAR_POSITIONAL):
            continue
        for value in ODD:
            with suppress(jn.JoineryError):  # any other exception fails
                CALLS[name](**needed | {parameter.name: value})
    plt.close("all")


@pytest.mark.parametrize(
    ("call", "said"),
    [
        (lambda: jn.fit(TABLE, "y given x", level=[]), r"level=\[\] is of the wrong kind \(list\); it is a number such as 0.95"),
        (lambda: jn.compare(FIT, 5), "compare takes fits, not int"),
        (lambda: FIT.revise(add=5), "add=5 is of the wrong kind"),
        (lambda: FIT.draw("line", ax=5), "it is Matplotlib axes"),
        (lambda: FIT.coefficients(ratios="yes"), "it is True or False"),
        (lambda: FIT.crosscheck(2.5), "it is a whole number"),
    ],
)  # fmt: skip
def test_the_words_for_an_argument_of_the_wrong_kind(call, said):
    with pytest.raises(jn.CallError, match=said):
        call()


def test_an_unknown_keyword_stays_a_type_error():
    for call in (lambda: jn.fit(TABLE, "y given x", wieghts="w"), lambda: FIT.revise(wieghts="w")):
        with pytest.raises(TypeError, match=r"got an unexpected keyword argument 'wieghts'"):
            call()


def test_a_single_row_label_may_stand_alone():
    assert FIT.revise(leave_out=5).revise(put_back=5).n_rows == 20
    assert jn.fit(TABLE, "y given x", leave_out=np.array([5, 6])).n_rows == 18
    assert FIT.draw("line", label_rows=5).axes


@pytest.mark.parametrize(
    "model",
    ["y given " + "abs(" * 199 + "x" + ")" * 199, "y given " + "(" * 198 + "x * 2" + ")" * 198],
)
def test_deep_nesting_within_the_limit_is_no_trouble(model):
    assert np.isfinite(jn.fit(TABLE, model).r_squared)


def test_limits_are_said_before_memory_goes(monkeypatch):
    wide = {f"c{i}": RNG.normal(size=20) for i in range(30)}
    with pytest.raises(jn.SentenceError, match="makes 1,073,741,823 terms; at most 12"):
        jn.fit(TABLE.assign(**wide), f"y given crossed({', '.join(wide)})")
    monkeypatch.setattr("joinery.model.steps.physical_memory", lambda: 3 * 2**30)
    many = {"a": [f"a{i}" for i in range(20_000)], "y": np.arange(20_000.0)}
    with pytest.raises(jn.EstimationError) as caught:
        jn.fit(many, "y given a")
    assert "19,999 coefficients for 20,000 rows; they need 9 GB, and this machine has 3 GB" in str(
        caught.value
    )
    assert "Most are of a (19,999): join its levels" in str(caught.value)


@pytest.mark.parametrize(
    ("model", "said"),
    [
        ("y given (x / 0)", "nothing can be divided by it; write something else there"),
        ("y given (x * 1e-320)", "are so small that its coefficient is too large for a number"),
    ],
)
def test_expressions_that_no_model_can_use(model, said):
    with pytest.raises(jn.UnusableColumnError, match=said):
        jn.fit(TABLE, model)


def test_an_infinite_predictor_has_no_forecast():
    table = FIT.forecast({"x": [np.inf, 1.0, np.nan]})
    assert np.isnan(table["fitted"]).tolist() == [True, False, True]
    assert table["note"].tolist() == ["x is infinite", "", "no x"]
