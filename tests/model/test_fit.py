"""fit() and what it answers: figures, notes, bad input, revising, saving."""

from __future__ import annotations

import gc
import json
import random
import weakref

import numpy as np
import pandas as pd
import pytest

import joinery as jn
from joinery.data import any_table
from joinery.design import row_blocks

GOOD = pd.DataFrame(
    {
        "x": [1.0, 2, 3, 4, 5, 6],
        "z": [2.0, 1, 4, 3, 6, 5],
        "g": list("uvuvuv"),
        "y": [1.0, 3, 2, 5, 4, 7],
    }
)


def test_figures_of_a_fit_agree_with_their_definitions(honey, exact, correct_digits):
    table = honey._fitted.origin.table.frame.dropna(subset=["honey_kg", "forage_km2"]).astype(
        {"altitude_m": float}
    )
    x = table[["forage_km2", "altitude_m", "feed_kg", "rain_days"]].to_numpy(float).T
    kinds = [(table["hive_type"] == k).to_numpy(float) for k in ("stacked", "top-bar")]
    X = np.column_stack(
        [np.ones(len(table)), x[0], x[1], x[1] ** 2, x[2], x[3], x[2] * x[3], *kinds]
    )
    y = table["honey_kg"].to_numpy()
    truth = exact(X, y)
    found = honey.coefficients().frame.set_index("term")
    order = [
        "intercept",
        "forage_km2",
        "altitude_m",
        "altitude_m^2",
        "feed_kg",
        "rain_days",
        "feed_kg × rain_days",
    ]
    found = found.loc[[*order, "hive_type: stacked", "hive_type: top-bar"]]
    assert correct_digits(found["estimate"], truth.b) > 10
    assert correct_digits(found["standard_error"], truth.se) > 9
    rss, tss, n, p = float(truth.rss), ((y - y.mean()) ** 2).sum(), len(y), X.shape[1]
    assert np.isclose(honey.r_squared, 1 - rss / tss)
    assert np.isclose(honey.adjusted_r_squared, 1 - rss / (n - p) / (tss / (n - 1)))
    assert np.isclose(honey.residual_sd**2, rss / (n - p))
    assert np.isclose(honey.dispersion, rss / (n - p))
    assert (honey.n_rows, honey.model_df, honey.residual_df) == (n, p - 1, n - p)
    from scipy.stats import norm

    loglik = norm.logpdf(y - X @ [float(b) for b in truth.b], scale=np.sqrt(rss / n)).sum()
    assert np.isclose(honey.log_likelihood, loglik)
    assert np.isclose(honey.aic, 2 * (p + 1) - 2 * loglik)
    assert np.isclose(honey.bic, np.log(n) * (p + 1) - 2 * loglik)
    assert np.isclose(honey.deviance, rss)
    assert np.isclose(honey.null_deviance, tss)
    assert (honey.converged, honey.iterations, honey.family, honey.link) == (
        True,
        None,
        "normal",
        "identity",
    )


def test_rows_left_out_are_counted_and_named(honey):
    left = honey.left_out.frame["reason"]
    assert left.value_counts().to_dict() == {"no honey_kg (to forecast)": 4, "no forage_km2": 3}
    assert list(left.index[:2]) == ["H012", "H021"]
    page = " ".join(str(honey).split())
    assert "113 of 120 rows; left out: 3 no forage_km2, 4 no honey_kg (to forecast)" in page
    some = jn.fit(
        "sample:yields",
        "honey_kg given feed_kg",
        id="hive",
        where="season >= 2021",
        leave_out=["H001"],
    )
    assert some.left_out["reason"].iloc[0] == "asked to be left out"
    assert (some.left_out["reason"] == "not season >= 2021").any()


def test_a_sentence_may_come_in_parts_and_write_out_all():
    parts = jn.fit(GOOD, "y", ["x", "log(z)"])
    assert parts.sentence == "y given x, log(z)"
    assert jn.fit(GOOD, "y given all but z").sentence == "y given x, g"
    every = jn.fit("sample:yields", "honey_kg given all")
    assert "hive," not in every.sentence
    assert any("`all` leaves out hive" in note for note in every.notes)
    own = jn.fit(GOOD, "y given x, y")
    assert own.sentence == "y given x"
    assert any("is the response" in note for note in own.notes)


@pytest.mark.parametrize(
    ("data", "model", "error", "said"),
    [
        (GOOD, "y given q", jn.UnknownColumnError, "no column 'q'"),
        (
            "sample:yields",
            "honey_kg given forge_km2",
            jn.UnknownColumnError,
            "did you mean 'forage_km2'?",
        ),
        (GOOD, "y given g * log(g)", jn.UnusableColumnError, "column 'g' is text"),
        (GOOD, "g given x", jn.UnusableColumnError, "column 'g' is text, and numbers are needed"),
        (
            GOOD.assign(x=[1, 2, 3, np.inf, 5, 6]),
            "y given x",
            jn.UnusableColumnError,
            "infinite in 1 row (3)",
        ),
        (
            GOOD.assign(y=np.nan),
            "y given x",
            jn.NothingEstimableError,
            "no rows are left to fit: of 6 rows, 6 no y",
        ),
        (
            GOOD.assign(x=["1", "2", "3 kg", "4", "5", "6"]),
            "y given x",
            jn.UnusableColumnError,
            "row 2: '3 kg'",
        ),
        (
            GOOD.assign(x=["1,5"] * 5 + ["2.5"]),
            "y given x",
            jn.UnusableColumnError,
            "decimal commas, where the table has",
        ),
        (GOOD.assign(b=True), "b given x", jn.NothingEstimableError, "always so in all"),
        (
            GOOD,
            "y given category(g, reference='w')",
            jn.UnusableColumnError,
            "there is no level 'w'",
        ),
        (GOOD, "y given polynomial(x, 6)", jn.UnusableColumnError, "needs 7 distinct values"),
        (
            GOOD,
            "y given spline(x, knots=(9, 12))",
            jn.UnusableColumnError,
            "the data run from 1 to 6",
        ),
        (GOOD, "y given nothing without intercept", jn.SentenceError, "nothing to estimate"),
        (GOOD.assign(x=GOOD["x"] * 1j), "y given x", jn.UnusableColumnError, "complex"),
    ],
)
def test_bad_input_is_refused_in_clear_words(data, model, error, said):
    with pytest.raises(error) as caught:
        jn.fit(data, model)
    assert said in str(caught.value)
    assert isinstance(caught.value, jn.JoineryError)


@pytest.mark.parametrize(
    ("options", "said"),
    [
        ({"level": 200}, "level=200"),
        ({"level": "x"}, "level='x'"),
        ({"missing": "drop"}, "did you mean|is not known"),
        ({"leave_out": ["nobody"]}, "no row is labelled 'nobody'"),
        ({"id": "q"}, "no column 'q' for id="),
        ({"where": "q > 1"}, "no column 'q'"),
        ({"where": "x >"}, "cannot stand here|ends too early"),
        ({"family": "gama"}, "family='gama'"),
    ],
)
def test_wrong_options_are_refused(options, said):
    with pytest.raises(jn.JoineryError, match=said):
        jn.fit(GOOD, "y given x", **options)


def test_missing_cells_can_be_refused():
    with pytest.raises(jn.MissingCellsError, match="1 in y, 2 in x") as caught:
        jn.fit(
            GOOD.assign(x=[np.nan, 2, 3, 4, 5, np.nan], y=[1, 2, None, 4, 5, 6]),
            "y given x",
            missing="refuse",
        )
    assert caught.value.counts == {"x": 2, "y": 1}


@pytest.mark.parametrize(
    ("data", "model", "said", "empty"),
    [
        (GOOD.assign(y=5.0), "y given x", "the same in all 6 rows", "r_squared"),
        (GOOD.head(2), "y given x, z", "2 rows for 3 coefficients", "residual_sd"),
        (GOOD.head(3), "y given x, z", "3 rows for 3 coefficients", "adjusted_r_squared"),
        (GOOD.assign(y=1 + 2 * GOOD["x"]), "y given x", "the fit is perfect", "log_likelihood"),
        (GOOD.assign(g="u"), "y given x, g", "one level only", None),
        (GOOD.assign(w=3 * GOOD["x"]), "y given x, w", "w is 3 × x", None),
        (GOOD, "y given x without intercept", "R² is about zero", None),
        (GOOD, "y given g without intercept", "the terms hold a constant", None),
        (GOOD, "y given x * z", "nothing where the others are zero", None),
        (
            GOOD,
            "y given x, x * g",
            "stands without g: it carries the part of that effect as well",
            None,
        ),
        (
            GOOD.assign(x=["1,000.5", "2", "3", "4", "5", "6"]),
            "y given x",
            "thousands separators",
            None,
        ),
        (GOOD.head(1), "y given nothing", "y is the same in all 1 row", "residual_sd"),
    ],
)
def test_hard_cases_are_answered_with_a_note(data, model, said, empty):
    fit = jn.fit(data, model)
    assert any(said in note for note in fit.notes), fit.notes
    if empty:
        assert getattr(fit, empty) is None
    assert fit.sentence in str(fit).replace("\n", " ")
    for table in (
        fit.coefficients(standardized=True),
        fit.term_correlations(),
        fit.overall(),
        fit.rows(),
    ):
        assert table.render("text")
        assert len(json.loads(table.render("json"))["rows"]) == len(table)


def test_a_perfect_fit_says_so_and_has_no_residuals():
    fit = jn.fit(GOOD.assign(y=1 + 2 * GOOD["x"]), "y given x")
    assert fit.r_squared == 1
    assert (fit.rows()["residual"] == 0).all()
    assert fit.coefficients()["p"].isna().all()
    assert fit.forecast({"x": 10})["fitted"].round(9).tolist() == [21]


def test_a_loaded_fit_is_the_same_to_the_last_bit(honey, tmp_path):
    again = jn.load(honey.save(tmp_path / "honey.json"))
    new = jn.sample_data("yields").head(9)
    for ask in (
        lambda f: f.coefficients(standardized=True).frame,
        lambda f: f.term_correlations().frame,
        lambda f: f.overall().frame,
        lambda f: f.forecast(new, level=80).frame,
    ):
        pd.testing.assert_frame_equal(ask(honey), ask(again), check_exact=True)
    assert again.equation("python") == honey.equation("python")
    assert "loaded from a file" in str(again)
    assert (again.save(tmp_path / "b.json")).exists()
    for ask in (again.rows, again.forecast, again.revise, lambda: again.draw("line")):
        with pytest.raises(jn.CallError, match="loaded from a file"):
            ask()


def test_a_spoilt_file_is_refused(honey, tmp_path):
    whole = honey.save(tmp_path / "honey.json").read_bytes()
    rng = random.Random(3)
    file = tmp_path / "spoilt.json"
    for _ in range(300):
        spoilt = bytearray(whole)
        for _ in range(rng.randint(1, 4)):
            place = rng.randrange(len(spoilt))
            if rng.random() < 0.6:
                spoilt[place] = rng.randrange(256)
            else:
                del spoilt[place : place + rng.randint(1, 40)]
        if bytes(spoilt) == whole or _same(spoilt, whole):
            continue
        file.write_bytes(spoilt)
        with pytest.raises(jn.FileFormatError) as caught:
            jn.load(file)
        assert "is not a saved fit" in str(caught.value)
    content = json.loads(whole)
    file.write_text(json.dumps(content | {"version": 99}))
    with pytest.raises(jn.FileFormatError, match="update Joinery"):
        jn.load(file)
    with pytest.raises(jn.DataError, match="no such file"):
        jn.load(tmp_path / "none.json")


def _same(a: bytes, b: bytes) -> bool:
    """Whether two texts say the same JSON: a changed blank is no damage."""
    try:
        return json.loads(a) == json.loads(b)
    except ValueError:
        return False


def test_revising_leaves_the_first_fit_as_it_was(honey):
    changed = honey.revise(
        add="queen_age", drop=["hive_type", "rain_days * feed_kg"], leave_out="H058", level=0.8
    )
    assert changed.sentence.endswith(
        "given forage_km2, altitude_m, altitude_m^2, feed_kg, rain_days, queen_age"
    )
    assert (changed.n_rows, changed.level) == (112, 0.8)
    assert changed.revise(leave_out=["H089"]).n_rows == 111
    assert honey.n_rows == 113
    logged = honey.revise(response="log(honey_kg)")
    assert logged.sentence.startswith("log(honey_kg) given")
    with pytest.raises(jn.CallError, match="did you mean 'hive_type'"):
        honey.revise(drop="hivetype")


@pytest.mark.parametrize("size", [1e200, 1e-200, 1e155])
def test_responses_that_overflow_when_squared_fit_rightly(size, tmp_path):
    plain, scaled = (jn.fit(GOOD.assign(y=GOOD["y"] * s), "y given x, z") for s in (1.0, size))
    a, b = (
        plain.coefficients(standardized=True).frame,
        scaled.coefficients(standardized=True).frame,
    )
    for name in ("estimate", "lower", "upper", "standard_error"):
        assert np.allclose(b[name] / size, a[name], rtol=1e-11)
    shared = [f.term_correlations().frame[["simple_r", "partial_r"]] for f in (plain, scaled)]
    assert np.allclose(*shared, rtol=1e-10)
    rest = ["t", "p", "standardized"]
    assert np.allclose(a[rest], b[rest], rtol=1e-10, equal_nan=True)
    for name in ("r_squared", "adjusted_r_squared"):
        assert np.isclose(getattr(plain, name), getattr(scaled, name))
    assert np.isclose(scaled.residual_sd / size, plain.residual_sd)
    assert np.isclose(scaled.log_likelihood, plain.log_likelihood - 6 * np.log(size))
    assert np.allclose(plain.rows()["cooks_distance"], scaled.rows()["cooks_distance"])
    assert np.allclose(
        scaled.forecast({"x": 2, "z": 2})["new_upper"] / size,
        plain.forecast({"x": 2, "z": 2})["new_upper"],
    )
    assert np.isclose(plain.overall()["f"][0], scaled.overall()["f"][0])
    assert (
        jn.load(scaled.save(tmp_path / "s.json"))
        .coefficients()["p"]
        .equals(scaled.coefficients()["p"])
    )
    assert str(scaled)


@pytest.mark.sampled(3)
@pytest.mark.simulation
@pytest.mark.parametrize("size", [1e200, 1e-200])
@pytest.mark.parametrize("std_errors", ["constant spread", "robust", "clustered", "autocorrelated"])
def test_tests_of_such_responses_are_those_of_plain_ones(size, std_errors):
    options = {"std_errors": std_errors} | ({"cluster": "g"} if std_errors == "clustered" else {})
    table = GOOD.assign(g=np.arange(len(GOOD)) // 3)
    plain, scaled = (
        jn.fit(table.assign(y=table["y"] * s), "y given x, z", **options) for s in (1.0, size)
    )
    for ask in (
        lambda fit: fit.claim("x = z, x = 1e-300"),
        lambda fit: fit.coefficients(),
        lambda fit: fit.overall(),
        lambda fit: fit.anova("others"),
        lambda fit: fit.average_effects(),
        lambda fit: fit.checks(),
        lambda fit: fit.crosscheck(folds=4, seed=1),
        lambda fit: fit.box_cox(),
        lambda fit: jn.compare(fit.revise(drop="z"), fit),
    ):
        a, b = ask(plain).frame, ask(scaled).frame
        for name in {"t", "f", "p", "share", "statistic"} & set(a):
            assert np.allclose(a[name], b[name], rtol=1e-8, equal_nan=True), name
        for name in {"difference", "lower", "upper", "standard_error", "effect"} & set(a):
            assert np.allclose(a[name], b[name] / size, rtol=1e-8, equal_nan=True), name
    a, b = (fit.crosscheck().frame.iloc[:, 1] for fit in (plain, scaled))
    assert np.allclose(a, b / np.where(np.abs(b / a - 1) < 1e-6, 1, size), equal_nan=True)
    for picture in ("observed_fitted", "residuals", "spread", "influence", "checks"):
        assert scaled.draw(picture).axes
    new = {"x": 2, "z": 2}
    for name in ("fitted", "mean_lower", "new_upper"):
        assert np.allclose(plain.forecast(new)[name], scaled.forecast(new)[name] / size)


def test_lack_of_fit_of_a_response_too_large_to_square_is_that_of_a_plain_one():
    x, y = np.repeat(np.arange(1.0, 7), 3), np.random.default_rng(3).normal(size=18)
    plain, large = (jn.fit({"x": x, "y": (y + x**2) * s}, "y given x") for s in (1.0, 1e200))
    assert "lack of fit" in plain.anova()["term"].tolist()
    assert np.allclose(plain.anova()["p"], large.anova()["p"], equal_nan=True, rtol=1e-9)


def test_the_band_of_quantiles_knows_weights():
    rng = np.random.default_rng(4)
    table = {"x": rng.normal(size=90), "y": rng.normal(size=90), "w": rng.integers(0, 3, 90)}
    weighted = jn.fit(table, "y given x", weights="w").draw("quantiles")
    rows = np.flatnonzero(table["w"])
    plain = jn.fit({n: v[rows] for n, v in table.items()}, "y given x", weights="w").draw(
        "quantiles"
    )
    bands = [
        figure.axes[0].collections[0].get_paths()[0].get_extents() for figure in (weighted, plain)
    ]
    assert np.allclose(bands[0].get_points(), bands[1].get_points(), atol=0.6)


def test_remarks_that_are_only_counted_leave_no_empty_line():
    page = str(jn.fit("sample:winter", "survived of colonies given apiary, stores_kg"))
    assert "more remarks" in page
    assert not [line for line in page.splitlines() if line.strip() == "caution"]


@pytest.mark.parametrize("left_in_a_file", [False, True])
def test_a_fit_nobody_holds_leaves_no_rows_behind(left_in_a_file, tmp_path, monkeypatch):
    """Nothing waits for the collector of circles, which hardly ever looks at large arrays."""
    rng = np.random.default_rng(2)
    table = pd.DataFrame({"x": rng.normal(size=400), "y": rng.normal(size=400)})
    table.loc[3, "x"] = np.nan
    if left_in_a_file:
        monkeypatch.setattr(any_table, "is_held", lambda source, apart=False: apart)
        table.to_parquet(tmp_path / "t.parquet")
    monkeypatch.setattr(row_blocks, "BLOCK_ROWS", 100)
    gc.disable()
    try:
        fit = jn.fit(tmp_path / "t.parquet" if left_in_a_file else table, "y given x")
        rows = weakref.ref(fit._fitted.origin.used_rows.rows)
        for ask in (str, jn.Fit.rows, jn.Fit.crosscheck, jn.Fit.checks, jn.Fit.anova):
            ask(fit)
        del fit
        assert rows() is None
    finally:
        gc.enable()


@pytest.mark.parametrize("sentence", ["STEP given x", "x given STEP", "(y + STEP) given x"])
def test_a_step_from_the_row_before_is_the_column_that_says_the_same(sentence):
    """Cells may be missing in the row itself, in the row before, or in both."""
    rng = np.random.default_rng(5)
    table = pd.DataFrame(rng.normal(size=(60, 2)), columns=["x", "y"])
    table.loc[[7, 20, 21, 40], "y"] = np.nan
    written = table.assign(step=table["y"] - table["y"].shift(1))
    ours = jn.fit(table, sentence.replace("STEP", "(y - lag(y, 1))"))
    known = jn.fit(written, sentence.replace("STEP", "step"))
    assert ours.n_rows == known.n_rows == 52
    assert ours.coefficients()["estimate"].tolist() == known.coefficients()["estimate"].tolist()
    if not sentence.startswith("x"):  # what is of another row is not back-transformed
        ahead = [f.forecast({"x": [0.5]})["new_upper"][0] for f in (ours, known)]
        assert ahead[0] == pytest.approx(ahead[1], rel=1e-12)


@pytest.mark.parametrize(
    ("table", "sentence", "options", "said"),
    [
        ({"x": np.arange(20.0), "y": np.arange(20) > 9}, "y given x", {}, "separation: x predicts"),
        (
            {"x": np.arange(9.0), "z": 3 * np.arange(9.0), "y": np.arange(9.0) ** 2},
            "y given x, z",
            {},
            "left out of the model: z is 3 × x",
        ),
        (
            {"x": [1.0, 2, 4, *[np.nan] * 6], "y": np.arange(9.0) ** 2},
            "y given x",
            {},
            "most rows are left out for their empty cells: 6 no x, of 9",
        ),
    ],
)
def test_what_estimates_must_be_read_with_warns_once_and_stands_in_the_tables(
    table, sentence, options, said
):
    with pytest.warns(jn.EstimateWarning, match=said) as caught:
        fit = jn.fit(table, sentence, **options)
    assert len(caught) == 1
    assert caught[0].filename == __file__
    for answer in (fit.coefficients(), fit.overall(), fit.anova()):
        assert any(said in note for note in answer.notes)


def test_odd_cells_of_the_model_warn_once_and_others_do_not():
    table = pd.DataFrame({"g": ["a", "A", "b"] * 5, "h": ["c", "C", "d"] * 5, "y": np.arange(15.0)})
    with pytest.warns(jn.ReadingWarning, match="'A'") as caught:
        jn.fit(table, "y given g")
    assert [str(warning.message).count("h: ") for warning in caught] == [0]


def test_many_columns_left_out_are_one_remark_and_one_short_warning():
    rng = np.random.default_rng(0)
    table = pd.DataFrame(rng.normal(size=(20, 40))).add_prefix("c").assign(y=rng.normal(size=20))
    with pytest.warns(jn.EstimateWarning) as caught:
        fit = jn.fit(table, "y given all")
    words = "left out of the model: 21 columns that the others make up, c19, c20, c21, c22, c23 and 16 more"
    assert words in str(caught[0].message)
    assert len(str(caught[0].message)) < 400
    assert words in " ".join(str(fit).split())
    # few are told with what makes them up
    with pytest.warns(jn.EstimateWarning, match="c1 is 2 × c0$"):
        jn.fit(table.assign(c1=2 * table["c0"]), "y given c0, c1")
