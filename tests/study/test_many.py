"""Many columns and short ways: each gives what the long way gives."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from pandas.testing import assert_frame_equal

import joinery as jn
from joinery.core.blocks.blocks import ArrayBlocks
from joinery.core.blocks.columns import IndicatorColumns
from joinery.core.blocks.order_statistics import quantiles
from joinery.core.blocks.partition import Partition
from joinery.core.inference import correlation
from joinery.core.least_squares import solve
from joinery.core.least_squares.solve import least_squares

RNG = np.random.default_rng(31)


@pytest.fixture(autouse=True)
def _begun_anew():
    """The same numbers for a test, whichever ran before it."""
    RNG.bit_generator.state = np.random.default_rng(31).bit_generator.state


def table_of(n, p):
    table = pd.DataFrame(RNG.normal(size=(n, p)), columns=[f"x{i}" for i in range(p)])
    return table.assign(y=3 * table["x7"] - 2 * table["x3"] + RNG.normal(size=n))


@pytest.mark.parametrize("intercept", [True, False])
def test_sums_in_the_basis_are_those_of_the_rows_in_it(intercept):
    codes = RNG.integers(0, 4, 50)
    X = IndicatorColumns(
        RNG.normal(size=(50, 2)) + np.array([1e6, 2.0]),
        codes,
        np.array([0, 4]),
        np.array([1, 2, 3]),
    )
    solution = least_squares(ArrayBlocks(X.dense(), RNG.normal(size=50)), intercept=intercept)
    V = RNG.normal(size=(50, 3))
    for columns in (X, X.dense()):
        found = solution.sums_in_basis(solution.centred_sums(columns, V))
        assert found == pytest.approx(solution.in_basis(X.dense()).T @ V, abs=1e-8)


def test_a_page_of_many_terms_shows_those_that_matter_most():
    page = str(jn.fit(table_of(300, 60), "y given all"))
    shown = [line.split()[0] for line in page.splitlines() if line.startswith("  x")]
    assert {"x7", "x3"} < set(shown)
    assert len(shown) == 12
    assert "48 more coefficients" in page
    assert "61 terms in the equation" in page


def test_even_spread_is_the_regression_of_squared_residuals():
    table = table_of(80, 9)
    fit = jn.fit(table, "y given all")
    rows, lines = fit.rows().frame, fit.checks().frame
    e2 = rows["residual"].to_numpy() ** 2
    line = lines[lines["check"] == "spread against fitted values (Koenker)"].iloc[0]
    fitted = np.corrcoef(rows["fitted"], e2)[0, 1] ** 2
    assert line["statistic"] == pytest.approx(80 * fitted, rel=1e-9)
    X = table.drop(columns="y")
    each = [80 * np.corrcoef((X[n] - X[n].mean()).abs(), e2)[0, 1] ** 2 for n in X]
    across = lines[lines["check"].str.startswith("spread across")].iloc[0]
    assert across["statistic"] == pytest.approx(max(each), rel=1e-9)
    assert f"spread across x{int(np.argmax(each))} " in across["check"]


@pytest.mark.parametrize("model", ["y given x7", "y given x7, x7^2", "y given x7, x7^2, x7^3"])
def test_curvature_is_the_f_of_the_next_two_powers(model):
    table = table_of(60, 8)
    fit = jn.fit(table, model)
    power = model.count("x7") + 1
    more = jn.compare(fit, fit.revise(add=[f"x7^{power}", f"x7^{power + 1}"])).frame.iloc[-1]
    lines = fit.checks().frame
    line = lines[lines["check"].str.startswith("curvature of")].iloc[0]
    assert line["statistic"] == pytest.approx(more["statistic"], rel=1e-8)


def test_repeats_are_found_wherever_they_stand():
    x = np.append(np.arange(1500.0), np.arange(100.0))
    fit = jn.fit({"x": x, "y": x + RNG.normal(size=1600)}, "y given x")
    assert fit.checks()["check"].str.startswith("lack of fit").any()


@pytest.mark.parametrize("n", [1, 2, 7, 50])
def test_quantiles_of_rows_that_stand_for_one_are_the_plain_ones(n):
    x, shares = RNG.normal(size=n), np.array([0.0, 0.2, 1 / 3, 0.5, 1.0])
    assert quantiles(Partition(1, lambda i, _: (x, np.ones(n))), shares) == pytest.approx(
        np.quantile(x, shares)
    )


@pytest.mark.parametrize("options", [{}, {"link": "cauchit"}])
@pytest.mark.parametrize("after", ["earlier", "others"])
def test_deviances_of_parts_are_those_of_their_own_fits(options, after):
    table = table_of(400, 8)
    table["y"] = RNG.random(400) < 1 / (1 + np.exp(-table["y"]))
    terms = [f"x{i}" for i in range(8)]
    whole = jn.fit(table, f"y given {', '.join(terms)}", **options)
    drops = whole.anova(after)["deviance"]
    for place, term in enumerate(terms):
        before = terms[:place] if after == "earlier" else [t for t in terms if t != term]
        small, large = (jn.fit(table, f"y given {', '.join(some) or 'nothing'}", **options).deviance
                        for some in (before, [*before, term]))  # fmt: skip
        assert drops[place] == pytest.approx(small - large, abs=1e-11 * whole.deviance)


def test_rank_of_more_columns_than_rows_is_told_in_the_order_written():
    table = table_of(12, 40)
    table["x2"] = table["x0"] - 2 * table["x1"]
    fit = jn.fit(table, f"y given {', '.join(f'x{i}' for i in range(40))}")
    kept = fit.coefficients().frame.dropna(subset="estimate")["term"].tolist()
    assert kept == ["intercept", "x0", "x1", *(f"x{i}" for i in range(3, 12))]
    assert any("x2 is x0 − 2 × x1" in note for note in fit.notes)


@pytest.fixture
def sites():
    n, q = 1000, 210
    site = np.append(np.arange(q), RNG.integers(0, q, n - q))
    table = pd.DataFrame({"site": [f"s{i:03d}" for i in site], "x": RNG.normal(30, 2, n)})
    table["kind"] = np.array(["a", "b", "c"])[RNG.integers(0, 3, n)]
    table["w"], table["r"] = RNG.uniform(0.5, 2, n), RNG.integers(1, 3, n)
    table["y"] = 2 + 0.5 * table["x"] + RNG.normal(size=q)[site] + RNG.normal(size=n)
    table["many"] = RNG.poisson(np.exp(0.15 * table["y"] - 0.5))
    return table


ASKED = {
    "coefficients": lambda fit: fit.coefficients().frame,
    "overall": lambda fit: fit.overall().frame,
    "after earlier": lambda fit: fit.anova("earlier").frame,
    "after others": lambda fit: fit.anova("others").frame,
    "page": lambda fit: pd.DataFrame([w for w in str(fit).splitlines() if " row " not in w]),
    "rows": lambda fit: fit.rows().frame,
    "claim": lambda fit: fit.claim('"site: s001" = "site: s002", x = 0.4').frame,
    "means": lambda fit: fit.adjusted_means("kind").frame,
    "difference": lambda fit: fit.difference({"site": "s001"}, {"site": "s007", "x": 31}).frame,
    "forecast": lambda fit: fit.forecast(NEW).frame,
}
NEW = pd.DataFrame({"site": ["s003"], "x": 30.0, "kind": "b", "w": 1.0})


@pytest.mark.parametrize(
    ("model", "options"),
    [
        ("x, site, kind", {}),
        ("site, x^2, kind", {"weights": "w", "repeats": "r"}),
        ("x, site, kind", {"family": "poisson"}),
    ],
)
def test_hundreds_of_levels_answer_as_their_columns_do(
    sites, options, model, monkeypatch, tmp_path
):
    model = f"{'many' if 'family' in options else 'y'} given {model}"
    asked = {
        k: f for k, f in ASKED.items() if "^2" not in model or k not in ("claim", "difference")
    }

    def answers(fit):
        return {name: ask(fit) for name, ask in asked.items()}

    ours = jn.fit(sites, model, **options)
    assert ours._fitted.solution.groups is not None
    monkeypatch.setattr(solve, "swept", lambda *given: None)
    plain = jn.fit(sites, model, **options)
    assert plain._fitted.solution.groups is None
    expected = answers(plain)
    for name, frame in answers(ours).items():
        assert_frame_equal(frame, expected[name], rtol=1e-6, atol=1e-8, obj=name)
    loaded = jn.load(ours.save(tmp_path / "fit.json"))
    assert_frame_equal(loaded.coefficients().frame, ours.coefficients().frame)
    assert_frame_equal(loaded.forecast(NEW).frame, ours.forecast(NEW).frame)


@pytest.mark.parametrize("gaps", [False, True])
def test_the_strongest_pairs_are_the_first_of_all(gaps, monkeypatch):
    X = RNG.normal(size=(40, 30)) @ RNG.normal(size=(30, 30)) + 1e6
    X[:, 7] = 3.0  # does not vary
    if gaps:
        X[RNG.random(X.shape) < 0.1] = np.nan
    pairs, all_of = correlation.pearson(X)
    best = np.argsort(-np.abs(np.nan_to_num(all_of.r)), kind="stable")[:25]
    expected = pairs[np.sort(best)]
    for at_once in (2**22, 100):
        monkeypatch.setattr(correlation, "PAIRS_AT_ONCE", at_once)
        assert correlation.strongest_pairs(X, 25).tolist() == expected.tolist()
    for kind in (correlation.pearson, correlation.spearman):
        (_, whole), (_, some) = kind(X), kind(X, 0.95, expected)
        for name in ("r", "lower", "p", "n"):
            assert getattr(some, name) == pytest.approx(getattr(whole, name)[np.sort(best)])


def test_a_look_at_very_many_columns_tells_the_strongest_pairs():
    table = pd.DataFrame(RNG.normal(size=(20, 700))).add_prefix("c")
    table["c5"] = table["c600"] + 0.01 * RNG.normal(size=20)
    look = jn.look(table)
    first = look.correlations.frame.iloc[0]
    assert (first["column"], first["with"], len(look.correlations)) == ("c5", "c600", 1000)
    assert "the 1,000 strongest of 244,650 pairs" in " ".join(str(look).split())


def test_hundreds_of_columns_are_held_without_a_warning():
    r = np.random.default_rng(1)
    table = pd.DataFrame(r.normal(size=(300, 130)), columns=[f"x{i}" for i in range(130)])
    table["y"] = table["x0"] + r.normal(size=300)
    fit = jn.fit(table, "y given all")
    fit.draw("line", against="x0")
    one = fit.forecast({"x0": [1.0]}, hold="average")["fitted"][0]
    assert one == pytest.approx(fit.forecast(table.mean().to_frame().T.assign(x0=1.0))["fitted"][0])


@pytest.mark.parametrize(("n", "said"), [(100, "would not show a bend of partial R²"), (10**6, "")])
def test_what_rows_would_not_show_is_said_where_it_matters(n, said):
    rng = np.random.default_rng(4)
    x = rng.normal(size=n)
    page = " ".join(str(jn.fit({"x": x, "y": x + rng.normal(size=n)}, "y given x")).split())
    assert "no sign" in page
    assert ("would not show" in page) == bool(said)
    assert said in page
