"""Figures on their way to the reader: under which name, in which unit, together with what."""

from __future__ import annotations

import re
import subprocess
import sys
import warnings

import numpy as np
import pandas as pd
import pytest
from scipy import optimize, stats
from tests.identities.tables import case
from threadpoolctl import threadpool_info, threadpool_limits

import joinery as jn
from joinery.study.compare.box_cox import powers
from joinery.support.threads import one_thread_a_product

rng = np.random.default_rng(35)
N = 60
TABLE = pd.DataFrame(
    {
        **{name: rng.normal(size=N) for name in ("p", "test", "x", "z", "rows")},
        "mean": rng.choice(list("uvw"), N),
        "g": np.tile([1, 2, 4, 8], N // 4),
        "h": np.repeat(list("ab"), N // 2),
        "fitted": [f"r{i}" for i in range(N)],
        "e": rng.uniform(100, 300, N),
        "k": np.repeat(np.arange(8), 8)[:N],
        "when": pd.date_range("2022-01-01", periods=N),
    }
)
TABLE["y"] = TABLE["p"] + TABLE["z"] + TABLE["x"] * TABLE["z"] + rng.normal(size=N)
TABLE["n"] = rng.poisson(np.exp(0.3 * TABLE["x"]) * TABLE["e"] / 50)


# ------------------------------------------------------------------ names


def test_figures_keep_their_places_beside_columns_called_alike(tmp_path):
    small, large = jn.fit(TABLE, "y given p"), jn.fit(TABLE, "y given p, test, x")
    row = jn.compare(small, large).frame.iloc[1]
    drop = small.deviance - large.deviance
    assert row["p"] == pytest.approx(stats.f.sf(drop / 2 / large.dispersion, 2, large.residual_df))
    assert row["test"] == "F"
    slopes = large.coefficients().frame.set_index("term")["estimate"]
    assert [row["p (column)"], row["test (column)"]] == slopes[["p", "test"]].tolist()
    fit = jn.fit(TABLE, "y given mean, p", id="fitted")
    assert fit.adjusted_means("mean")["mean (column)"].tolist() == list("uvw")
    for file in (
        fit.write_rows(tmp_path / "a.csv"),
        fit.write_forecasts(TABLE, tmp_path / "b.csv"),
    ):
        written = pd.read_csv(file)
        assert written["row"].tolist() == TABLE["fitted"].tolist()
        assert written["fitted"].tolist() == pytest.approx(fit.rows()["fitted"].tolist())
    fit.rows().write(tmp_path / "rows.parquet")
    assert {"row", "fitted"} <= set(pd.read_parquet(tmp_path / "rows.parquet"))
    study = jn.rehearse("y given rows", {"intercept": 1, "rows": 1}, [10, 20],
                        predictors={"rows": "normal(0, 1)"}, times=5, seed=1)  # fmt: skip
    assert list(study.estimates) == ["rows", "intercept", "rows (column)"]


def test_a_new_column_that_no_fitted_table_had_is_a_slip_where_others_are_held():
    fit = jn.fit(TABLE, "y given x, g")
    with pytest.raises(jn.NewRowError, match="column 'X', .* did you mean 'x'"):
        fit.forecast({"X": [9.0]}, hold="average")
    assert "does not use h" in fit.forecast({"x": [1.0], "h": ["a"]}, hold="average").notes[-1]
    assert "does not use X" in fit.forecast({"x": [1.0], "g": [1], "X": [2]}).notes[-1]


# ------------------------------------------------------------------ units


def test_rates_are_counts_over_their_exposure():
    fit = jn.fit(TABLE, "n per e given x, mean", family="poisson")
    counts, rates = fit.forecast(TABLE), fit.forecast(TABLE, per=1000)
    assert "Forecasts of n," in counts.title
    assert "n per 1,000 e" in rates.title
    for name in ("fitted", "mean_lower", "new_upper", "observed"):
        assert rates[name].tolist() == pytest.approx((counts[name] / TABLE["e"] * 1000).tolist())
    bare = fit.forecast({"x": [0.5], "mean": ["u"]}, per=1000).frame
    assert np.isfinite(bare["mean_lower"][0])
    assert np.isnan(bare["new_lower"][0])
    assert bare["note"][0] == ""  # nothing is wrong with it
    means, of_one = fit.adjusted_means("mean", per=1000), fit.adjusted_means("mean")
    for name in ("mean", "lower", "standard_error"):
        assert means[name].tolist() == pytest.approx((1000 * of_one[name]).tolist())
    slope = (fit.coefficients()["estimate"][1] * rates["fitted"]).mean()
    assert fit.average_effects(per=1000)["effect"][0] == pytest.approx(slope)
    with pytest.raises(jn.CallError, match="has none"):
        jn.fit(TABLE, "n given x", family="poisson").forecast(TABLE, per=10)


def test_no_fitted_row_of_a_weighted_fit_lies_farther_out_than_all():
    fit = jn.fit(TABLE, "y given x, x^2", weights="e")
    assert not fit.forecast(TABLE)["note"].str.contains("farther").any()
    assert fit.forecast({"x": [9.0], "e": [1.0]})["note"][0]
    assert "weighted by e" in str(fit)
    assert "row of weight 1" in " ".join(str(fit).split())


@pytest.mark.parametrize("seed", range(40))
def test_the_equation_gives_the_forecast(seed):
    c = case(3000 + seed)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            fit = c.fit()
        except jn.JoineryError:
            return
    design, names = fit.design_columns().frame, fit.coefficients()["term"].tolist()
    if not np.isfinite(fit.coefficients()["estimate"]).all() or not fit.residual_df:
        return
    body = fit.equation().split(" = ", 1)[1].replace("−", "-")
    learnt = fit._fitted.design.function_memory
    total = np.zeros(len(design))
    # each with its coefficient, in front of it
    for name in sorted(names, key=lambda n: (n != "intercept", len(n)), reverse=True):
        shown = f"({name})" if ": " in name else name
        for text, kept in learnt.items():
            if text in shown and set(kept) <= {"mean", "sd"}:
                inner = text[text.index("(") + 1 : -1]
                centred = f"({inner} - {kept['mean']:.9g})"
                sd = f" / {kept['sd']:.9g}" if "sd" in kept else ""
                shown = shown.replace(text, f"({centred}{sd})" if sd else centred)
        pattern = r"(- |-|\+ |^)([\d.]+(?:e-?\d+)?)" + (
            "" if name == "intercept" else " " + re.escape(shown)
        )
        found = re.search(pattern + r"(?= [-+] |$)", body)
        assert found, (name, body)
        body = " ".join((body[: found.start()] + body[found.end() :]).split())
        total += float(found[1].strip().replace("+", "") + found[2]) * design[name].to_numpy()
    s = fit._fitted.solution
    exact = design[names].to_numpy() @ fit.coefficients()["estimate"].to_numpy()
    unit = fit.residual_sd or np.sqrt(fit.dispersion or 1) * 3
    weights = np.sqrt(s.weight_sum / fit.n_rows) if "weights" in c.options else 1.0
    assert np.abs(total - exact).max() <= 0.0101 * unit / weights


# ------------------------------------------------------------------ exact effects


def test_average_effects_are_exact_derivatives():
    far = TABLE.assign(z=np.abs(TABLE["z"]), far=1e12 + np.arange(N) % 7)
    far.loc[0, "z"] = 1e-6
    fit = jn.fit(far, "y given log(z), far, (x * p), mean")
    b = fit.coefficients().frame.set_index("term")
    found = fit.average_effects().frame.set_index("term")
    assert found.loc["z", "effect"] == pytest.approx(
        b.loc["log(z)", "estimate"] * (1 / far["z"]).mean()
    )
    assert found.loc["far", ["effect", "standard_error", "p"]].tolist() == pytest.approx(
        b.loc["far", ["estimate", "standard_error", "p"]].tolist(), rel=1e-12
    )
    assert found.loc["x", "effect"] == pytest.approx(b.loc["(x * p)", "estimate"] * far["p"].mean())


def test_what_is_left_out_of_the_model_has_no_effect():
    table = TABLE.assign(x2=2.54 * TABLE["x"], one=3.0, again=TABLE["mean"])
    found = jn.fit(table, "y given x, x2, one, mean, again").average_effects()
    empty = found.frame.set_index("term")[["effect", "standard_error", "p"]].isna().all(axis=1)
    assert empty[empty].index.tolist() == ["x2", "one", "again: v", "again: w"]
    assert "x2 is left out of the model" in " ".join(found.notes)


# ------------------------------------------------------------------ intervals that hold together


@pytest.mark.parametrize(
    "errors", ["constant spread", "robust", "hc0", "hc3", "clustered", "autocorrelated"]
)
def test_one_multiplier_serves_slopes_regions_and_forecasts(errors):
    options = {"cluster": "k"} if errors == "clustered" else {}
    fit = jn.fit(TABLE, "y given crossed(x, z)", std_errors=errors, **options)

    def times(table, lower="lower", value="slope"):
        return ((table[value] - table[lower]) / table["standard_error"]).to_numpy()

    slopes = times(fit.simple_slopes("x", "z", [0.3], simultaneous=True))
    assert slopes == pytest.approx(
        times(fit.simple_slopes("x", "z", [-1, 1], simultaneous=True))[0]
    )
    joint = fit.claim("x = 0, x * z = 0").frame.iloc[-1]
    rest = joint["df"]  # of the second sum of squares
    df = rest if errors == "constant spread" else rest + 1
    assert slopes[0] == pytest.approx(np.sqrt(2 * df / rest * stats.f.ppf(0.95, 2, rest)))
    for factor, shift in ((1e16, 0), (1e-16, 0), (1, 1e9)):
        other = jn.fit(TABLE.assign(z=TABLE["z"] * factor + shift), "y given crossed(x, z)",
                       std_errors=errors, **options)  # fmt: skip
        at = [0.3 * factor + shift]
        again = times(other.simple_slopes("x", "z", at, simultaneous=True))
        assert again == pytest.approx(slopes, rel=1e-6)
    region = fit.slope_regions("x", "z")
    ends = list(region["to"][:-1])
    zero = fit.simple_slopes("x", "z", ends, simultaneous=True).frame if ends else None
    assert zero is None or np.abs(zero[["lower", "upper"]]).min(axis=1).max() < 1e-8


def test_too_few_clusters_have_no_interval_for_all_rows_and_say_why():
    table = TABLE.assign(k=TABLE["k"] % 3)
    fit = jn.fit(table, "y given x, z, p, test", std_errors="clustered", cluster="k")
    ahead = fit.forecast(table.iloc[:2], simultaneous=True)
    assert ahead["mean_lower"].isna().all()
    assert "too few degrees of freedom to test so many at once" in " ".join(ahead.notes)


def test_pairs_are_among_the_cells_that_have_rows():
    table = TABLE[~((TABLE["g"] == 8) & (TABLE["h"] == "a"))].assign(
        g=lambda t: "g" + t["g"].astype(str)
    )
    fit = jn.fit(table, "y given crossed(g, h)")
    pairs = fit.level_differences("g * h").frame.dropna()
    q = np.sqrt(2) * np.abs(pairs["t"].to_numpy())
    truth = stats.studentized_range.sf(q[:3], 7, fit.residual_df)
    assert pairs["p"].to_numpy()[:3] == pytest.approx(truth, abs=1e-6)
    for cell in ({"g": "g1", "h": "b"}, {"g": "g2", "h": "b"}):  # beside the reference level
        rest = TABLE.assign(g=lambda t: "g" + t["g"].astype(str))
        rest = rest[~((rest["g"] == cell["g"]) & (rest["h"] == cell["h"]))]
        means = jn.fit(rest, "y given crossed(g, h)").adjusted_means("g * h").frame
        seen = rest.groupby(["g", "h"])["y"].mean()
        known = means.dropna().set_index(["g", "h"])["mean"]
        assert known.to_dict() == pytest.approx(seen.to_dict())


# ------------------------------------------------------------------ means at an edge


@pytest.mark.parametrize("seed", [0, 3, 290])
def test_means_at_an_edge_are_found_and_said_first(seed):
    r = np.random.default_rng(seed)
    X = np.column_stack([np.ones(20), r.normal(size=20), r.normal(size=20)])
    y = r.poisson(np.maximum(0.4 + 0.6 * X[:, 1], 0) ** 2)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", jn.JoineryWarning)
        fit = jn.fit(
            {"x": X[:, 1], "z": X[:, 2], "y": y}, "y given x, z", family="poisson", link="sqrt"
        )

    def deviance(b):
        eta = X @ b
        if (eta < 0).any() or (eta[y > 0] <= 0).any():
            return 1e9
        return 2 * (np.sum(y[y > 0] * np.log(y[y > 0] / eta[y > 0] ** 2)) - np.sum(y - eta**2))

    start = fit.coefficients()["estimate"].to_numpy()
    best = optimize.minimize(deviance, start * 0.999 + [0.01, 0, 0], method="Nelder-Mead",
                             options={"maxiter": 4000, "maxfev": 4000, "xatol": 1e-10, "fatol": 1e-12})  # fmt: skip
    assert fit.deviance <= best.fun + 1e-7
    counts = r.integers(1, 4, 20)
    table = {"x": X[:, 1], "z": X[:, 2], "y": y, "r": counts}
    written = {name: np.repeat(values, counts) for name, values in table.items()}
    short, long = (
        jn.fit(t, "y given x, z", family="poisson", link="sqrt", repeats=by)
        for t, by in ((table, "r"), (written, None))
    )
    assert short.deviance == pytest.approx(long.deviance, rel=1e-9)
    assert fit.converged
    assert "edge of what the poisson family" in fit.notes[0]


@pytest.mark.parametrize("link", ["log", "inverse"])
def test_normal_responses_may_be_below_what_the_link_can_give(link):
    r = np.random.default_rng(1)
    x = r.uniform(0, 3, 60)
    mu = np.exp(1 - 0.8 * x) if link == "log" else 1 / (0.5 + 0.6 * x)
    y = mu + r.normal(size=60) * 0.4
    assert (y <= 0).any()
    fit = jn.fit({"x": x, "y": y}, "y given x", family="normal", link=link)
    fitted = fit.rows()["fitted"].to_numpy()
    slope = fitted if link == "log" else -(fitted**2)
    score = [(slope * (y - fitted)).sum(), (slope * x * (y - fitted)).sum()]
    assert np.abs(score).max() < 1e-6


# ------------------------------------------------------------------ one likelihood, one relation


def test_a_profile_and_the_p_beside_it_are_of_one_likelihood():
    fit = jn.fit(TABLE, "n per e given x, z", family="poisson")
    row = fit.coefficients(profile=True).frame.set_index("term").loc["z"]
    drop = jn.fit(TABLE, "n per e given x", family="poisson").deviance - fit.deviance
    assert row["z"] ** 2 == pytest.approx(drop)
    assert row["p"] == pytest.approx(stats.chi2.sf(drop, 1))
    level = 1 - row["p"]  # at which an end of the interval is zero
    ends = (
        fit.coefficients(level, profile=True).frame.set_index("term").loc["z", ["lower", "upper"]]
    )
    assert np.abs(ends.to_numpy(float)).min() < 1e-6


@pytest.mark.parametrize("criterion", ["aic", "bic", "p", "crosscheck"])
def test_a_product_is_found_whose_factors_do_nothing_alone(criterion):
    r = np.random.default_rng(3)
    table = pd.DataFrame(r.normal(size=(200, 3)), columns=list("abc"))
    table["y"] = 0.8 * table["a"] * table["b"] + r.normal(size=200)
    trail = jn.stepwise(table, "y given crossed(a, b), c", criterion=criterion, moves="add")
    assert any(move.startswith("add a × b with") for move in trail.steps["move"])
    assert {"a", "b", "a × b"} <= set(trail.final.coefficients()["term"])
    if criterion == "aic":
        whole = jn.fit(table, "y given crossed(a, b), c").aic
        assert f"the whole sentence has AIC {whole:.1f}" in " ".join(trail.steps.notes)


def test_plain_and_robust_fits_have_the_same_columns():
    fits = [jn.fit(TABLE, "y given x", std_errors=kind) for kind in ("constant spread", "robust")]
    assert "have the same columns, so there is nothing to test" in " ".join(jn.compare(*fits).notes)


def test_one_category_has_one_coding_throughout():
    fit = jn.fit(
        TABLE.assign(g="g" + TABLE["g"].astype(str)), "y given category(g, reference='g4'), x * g"
    )
    terms = fit.coefficients()["term"].tolist()
    assert "stands without g" not in " ".join(fit.notes)
    assert terms == [
        "intercept",
        "g: g1",
        "g: g2",
        "g: g8",
        *[f"x × g: {v}" for v in ("g4", "g1", "g2", "g8")],
    ]


@pytest.mark.parametrize(
    ("terms", "said"),
    [
        ("when, x", "the mean where when is 2022-01-01, x is 0"),
        ("polynomial(x, 2)", "At no plain values are all terms zero"),
        ("log(e), mean", "the mean where e is 1, mean is u"),
        ("category(mean, coding='effect')", "At no plain values are all terms zero"),
    ],
)
def test_the_intercept_is_the_mean_only_where_all_terms_are_zero(terms, said):
    assert said in " ".join(jn.fit(TABLE, f"y given {terms}").explain().split())


def test_rows_that_await_a_forecast_are_not_cut_off_by_their_missing_response():
    table = TABLE.assign(y=TABLE["y"].where(TABLE.index != 5))
    fit = jn.fit(table, "y given x", where="y > -1")
    assert fit.forecast().frame.index.tolist() == [5]
    assert fit.n_rows == (table["y"] > -1).sum()


def test_the_interval_of_powers_ends_where_the_likelihood_has_fallen():
    w = np.exp(5 * TABLE["x"] + 1e-3 * TABLE["z"])
    curve = powers(jn.fit(TABLE.assign(w=w), "w given x")._fitted)
    X = np.column_stack([np.ones(N), TABLE["x"]])

    def likelihood(power):  # of (w^λ − 1)/(λ·ẇ^(λ−1)), ẇ the geometric mean (Box & Cox 1964)
        logs = np.log(w) - np.log(w).mean()
        z = np.expm1(power * logs) / power
        return -N / 2 * np.log(((z - X @ np.linalg.lstsq(X, z, rcond=None)[0]) ** 2).sum())

    assert curve.lower < curve.best < curve.upper
    fall = likelihood(curve.best) - np.array([likelihood(v) for v in (curve.lower, curve.upper)])
    assert fall == pytest.approx(stats.chi2.ppf(0.95, 1) / 2, rel=0.02)


def test_whole_numbers_beyond_doubles_stay_whole():
    table = TABLE.assign(k=10**18 + TABLE["k"])
    assert jn.fit(table, "y given x", where="k = 1000000000000000003").n_rows == 8
    assert jn.fit(table, "y given x", where="k > 1000000000000000003").n_rows == N - 32
    assert jn.fit(table, "y given lag(x, 1, by=k)").n_rows == N - 8
    assert "beyond 2⁵³" in " ".join(jn.fit(table, "y given x, k").notes)


# ------------------------------------------------------------------ threads

ASKED = """
import hashlib, warnings; warnings.simplefilter("ignore")
import numpy as np, joinery as jn
rng = np.random.default_rng(7)
def told(rows, width):
    d = {f"x{i}": rng.normal(size=rows) for i in range(width)} | {"g": rng.choice(list("uvw"), rows)}
    d["y"] = d["x0"] + rng.normal(size=rows); d["yes"] = rng.random(rows) < 0.3 + 0.3 * (d["x1"] > 0)
    for fit in (jn.fit(d, "y given all but yes"), jn.fit(d, "yes given x0, x1, g")):
        yield fit.coefficients(); yield fit.checks(); yield fit.overall(); yield fit.crosscheck(4)
        if width < 9: yield fit.average_effects()
        if rows < 9000 and width < 9: yield fit.bootstrap(300, seed=4)
for rows, width in ((500, 4), (17_000, 4), (2_000, 140)):
    print([hashlib.md5(t.render("csv").encode()).hexdigest() for t in told(rows, width)])
"""


@pytest.mark.simulation
def test_no_number_of_threads_changes_a_bit():
    said = [
        subprocess.run([sys.executable, "-c", ASKED], capture_output=True, text=True, check=True,
                       env={"OPENBLAS_NUM_THREADS": n, "OMP_NUM_THREADS": n, "PATH": ""}).stdout
        for n in ("1", "2")
    ]  # fmt: skip
    assert said[0] == said[1]


def test_the_threads_of_others_are_given_back():
    def threads():
        return [pool["num_threads"] for pool in threadpool_info() if pool["user_api"] == "blas"]

    jn.fit(TABLE, "y given x")
    with threadpool_limits(2):
        before = threads()
        with one_thread_a_product():
            str(jn.fit(TABLE, "y given x"))
            assert set(threads()) == {1}
        assert threads() == before
        with pytest.raises(jn.JoineryError):
            jn.fit(TABLE, "y given nobody")
        assert threads() == before


@pytest.mark.parametrize("stretch", [7, 10**6])
def test_rows_stand_where_the_table_has_them(stretch, tmp_path, monkeypatch):
    monkeypatch.setattr("joinery.study.rows.written.STRETCH", stretch)
    table = jn.sample_data("yields")
    fit = jn.fit(table, "honey_kg given forage_km2", where="season >= 2021", leave_out=[5])
    rows = fit.rows().frame
    assert rows.index.tolist() == table.index.tolist()
    assert rows["observed"].equals(table["honey_kg"].rename("observed"))
    left = rows["reason"].str.startswith("left out")
    assert left.sum() == len(table) - fit.n_rows
    written = jn.read(fit.write_rows(tmp_path / "rows.csv"))
    assert written["row"].tolist() == table.index.tolist()
    assert written["studentized_residual"].to_numpy() == pytest.approx(
        rows["studentized_residual"].to_numpy(), nan_ok=True
    )
    several = jn.fit(table.set_index(["apiary", "hive"]), "honey_kg given forage_km2").rows().frame
    assert isinstance(several.index, pd.MultiIndex)
    assert several.index.names == ["apiary", "hive"]


@pytest.mark.parametrize("name", ["feed_kg * rain_days", "rain_days × feed_kg"])
def test_a_product_is_asked_for_as_the_sentence_or_the_table_writes_it(name):
    fit = jn.fit("sample:yields", "honey_kg given feed_kg, rain_days, feed_kg * rain_days")
    product = fit.coefficients().frame.set_index("term").loc["feed_kg × rain_days", "estimate"]
    for written in (name, f'"{name}"'):
        assert fit.claim(f"{written} = 0")["difference"].iloc[0] == pytest.approx(product)
        assert fit.bootstrap(5, of=written)["estimate"].iloc[0] == pytest.approx(product)
    assert fit.draw("added_variable", term=name).axes
    assert fit.draw("joint_region", of=[name, "feed_kg"]).axes
    assert fit.revise(drop=name.replace("×", "*")).sentence == "honey_kg given feed_kg, rain_days"
