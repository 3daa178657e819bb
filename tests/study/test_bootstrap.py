"""The bootstrap: each draw is what really fitting the resample gives, and intervals are the book's."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from scipy import stats

import joinery as jn
from joinery.core.inference import resampling
from joinery.study.resample import bootstrap as study

RNG = np.random.default_rng(12)
N = 40
TABLE = pd.DataFrame(
    {"x": RNG.normal(3, 1, N), "g": RNG.choice(["a", "b"], N), "w": RNG.uniform(0.5, 2, N)}
)
ETA = 0.5 + 0.4 * TABLE["x"] + 0.3 * (TABLE["g"] == "b")
TABLE = TABLE.assign(y=np.exp(0.5 * ETA + RNG.normal(0, 0.3, N)), n=RNG.poisson(np.exp(ETA)),
                     yes=RNG.random(N) < 1 / (1 + np.exp(1.5 - ETA)), m=RNG.integers(4, 9, N),
                     e=RNG.uniform(1, 4, N), r=RNG.integers(1, 4, N), farm=np.arange(N) // 5)  # fmt: skip
TABLE["s"] = RNG.binomial(TABLE["m"], 0.5)
CASES = [
    ("y given x, g", {}),
    ("log(y) given x, g", {"weights": "w"}),
    ("y given x", {"offset": "w"}),
    ("n given x, g", {"family": "poisson"}),
    ("n per e given x", {}),
    ("yes given x", {}),
    ("s of m given x, g", {"link": "probit"}),
    ("y given x, g", {"family": "gamma", "link": "log"}),
    ("y given x without intercept", {}),
]


@pytest.mark.parametrize(("model", "options"), CASES)
def test_a_draw_is_what_fitting_the_resample_gives(model, options):
    fit = jn.fit(TABLE, model, **options)
    rows = study._rows(fit._fitted)
    rng = np.random.default_rng(1)
    counts = next(resampling.counted(rng, np.ones(N), 4, None))
    draws = resampling.estimates(rows, counts, with_roots=True)
    assert counts.sum(axis=1).tolist() == [N] * 4
    for place, count in enumerate(counts):
        again = jn.fit(
            TABLE.loc[np.repeat(TABLE.index, count.astype(int))].reset_index(drop=True),
            model,
            **options,
        )
        root = fit._fitted.solution.root
        assert root @ draws.estimates[place] == pytest.approx(
            again.coefficients()["estimate"].to_numpy(), rel=1e-7
        )
    if not options and "without" not in model:
        again = jn.fit(TABLE.loc[np.repeat(TABLE.index, counts[0].astype(int))].reset_index(drop=True),
                       model, std_errors="hc0")  # fmt: skip
        V = root @ draws.roots[0] @ (root @ draws.roots[0]).T
        if fit.family == "normal":
            assert np.sqrt(np.diag(V)) == pytest.approx(
                again.coefficients()["standard_error"].to_numpy()
            )


@pytest.mark.parametrize("resample", ["rows", "residuals", "signs"])
def test_the_spread_of_the_draws_is_the_standard_error_that_theory_gives(resample):
    fit = jn.fit(
        TABLE,
        "log(y) given x, g",
        std_errors="constant spread" if resample == "residuals" else "hc3",
    )
    table = fit.bootstrap(6000, resample=resample, seed=1).frame
    errors = fit.coefficients()["standard_error"]
    near = 0.12 if resample == "rows" else 0.035
    assert (table["standard_error"] / errors).to_numpy() == pytest.approx(np.ones(3), abs=near)
    assert (table["bias"].abs() < 0.15 * errors).all()
    assert table["estimate"].tolist() == pytest.approx(fit.coefficients()["estimate"].tolist())


def test_clusters_are_drawn_whole():
    fit = jn.fit(TABLE, "y given x", std_errors="clustered", cluster="farm")
    groups = study._groups(fit._fitted)
    counts = next(resampling.counted(np.random.default_rng(1), np.ones(N), 50, groups))
    by_farm = pd.DataFrame(counts.T).groupby(TABLE["farm"].to_numpy()).nunique()
    assert (by_farm == 1).all().all()
    table = fit.bootstrap(3000, resample="clusters", interval="accelerated", seed=1).frame
    assert (table["lower"] < table["estimate"]).all()
    with pytest.raises(jn.CallError, match="percentile or accelerated"):
        fit.bootstrap(resample="clusters", interval="studentized")


def test_intervals_are_those_of_the_book():
    fit = jn.fit(TABLE, "y given x")
    by = {i: fit.bootstrap(3000, interval=i, seed=3).frame for i in study.INTERVALS}
    found = study.drawn(fit._fitted, 3000, None, "rows", "percentile", 0.95, 3)
    ends = np.quantile(found.draws, [0.025, 0.975], axis=0)
    assert pytest.approx(ends, rel=1e-12) == by["percentile"][["lower", "upper"]].to_numpy().T
    # Efron's, by scipy from its own resamples of whole rows, within what resampling leaves
    X, y = TABLE["x"].to_numpy(), TABLE["y"].to_numpy()

    def slope(rows):
        return np.polyfit(X[rows], y[rows], 1)[0]

    theirs = stats.bootstrap((np.arange(N),), slope, method="BCa", vectorized=False,
                             n_resamples=3000, random_state=1).confidence_interval  # fmt: skip
    row, se = by["accelerated"].iloc[1], by["accelerated"]["standard_error"][1]
    assert (row["lower"], row["upper"]) == pytest.approx((theirs.low, theirs.high), abs=0.2 * se)
    assert by["studentized"]["upper"][1] > by["studentized"]["estimate"][1]
    record = fit._fitted
    moved, _ = study._moved(record, study._rows(record), np.asarray(record.solution.root), None)
    for place in (0, 7):
        without = fit.revise(leave_out=[place]).coefficients()["estimate"]
        away = fit.coefficients()["estimate"] - without
        assert moved[place].tolist() == pytest.approx(away.tolist(), rel=1e-8)


def test_repeats_are_rows_written_out():
    fit = jn.fit(TABLE, "y given x", repeats="r")
    written = TABLE.loc[np.repeat(TABLE.index, TABLE["r"])].reset_index(drop=True)
    out = jn.fit(written, "y given x")
    for resample in ("rows", "residuals", "signs"):
        for interval in study.INTERVALS:
            a, b = (
                f.bootstrap(200, resample=resample, interval=interval, seed=2).frame
                for f in (fit, out)
            )
            pd.testing.assert_frame_equal(a, b, rtol=1e-7)


def test_other_figures_are_left_sides_of_claims():
    fit = jn.fit(TABLE, "y given x, g")
    table = fit.bootstrap(500, of=["x", 'x - 2 * "g: b"'], seed=4).frame
    b = fit.coefficients()["estimate"]
    assert table["estimate"].tolist() == pytest.approx([b[1], b[1] - 2 * b[2]])
    assert table["term"].tolist() == ["x", 'x - 2 * "g: b"']


@pytest.mark.parametrize("resample", ["rows", "residuals", "signs", "clusters"])
@pytest.mark.parametrize("interval", study.INTERVALS)
def test_ratios_and_functions_are_followed_over_the_draws(resample, interval):
    options = {"std_errors": "clustered", "cluster": "farm"} if resample == "clusters" else {}
    fit = jn.fit(TABLE, "y given x, w, x * w", **options)
    if resample == "clusters" and interval == "studentized":
        return
    how = {"resample": resample, "interval": interval, "seed": 3}
    # written as a ratio or a function and undone again, a figure has the ends it has by itself
    undone = [
        "(x / w) * w",
        "log(exp(x * w))",
        "sqrt(exp(2 * log(exp(x / 9)))) * 1",
        "-(w - x) / 2",
    ]
    alone = ["x", "x * w", "exp(x / 9)", "x / 2 - w / 2"]
    found = fit.bootstrap(301, of=undone, **how).frame.iloc[:, 1:].to_numpy()
    truth = fit.bootstrap(301, of=alone, **how).frame.iloc[:, 1:].to_numpy()
    assert found == pytest.approx(truth, rel=1e-9)
    if interval == "percentile":  # the ends of a rising function are that function of the ends
        ends = fit.bootstrap(201, of=["x", "exp(x)"], level=0.9, **how)
        assert np.exp([ends["lower"][0], ends["upper"][0]]) == pytest.approx(
            [ends["lower"][1], ends["upper"][1]]
        )


def test_resamples_that_lose_a_level_are_counted():
    few = TABLE.assign(g=["b"] * 2 + ["a"] * (N - 2))
    table = jn.fit(few, "y given g").bootstrap(400, seed=1)
    assert "could not be estimated" in " ".join(table.notes)
    lost = int(table.notes[-1].split()[0])
    assert lost / 400 == pytest.approx((1 - 2 / N) ** N, abs=0.07)


@pytest.mark.parametrize(
    ("options", "ask", "said"),
    [
        ({}, {"resample": "row"}, "did you mean 'rows'"),
        ({}, {"interval": "bca"}, "percentile"),
        ({}, {"resamples": 1}, "is not between 2 and"),
        ({}, {"of": "2 / 3"}, "names no coefficient"),
        ({}, {"of": []}, "names no figure"),
        ({}, {"resample": "clusters"}, "which clusters"),
        ({"family": "gamma"}, {"resample": "signs"}, "draw rows"),
    ],
)
def test_what_cannot_be_resampled_is_said(options, ask, said):
    with pytest.raises(jn.JoineryError, match=said):
        jn.fit(TABLE, "y given x", **options).bootstrap(**ask)


def test_the_command_and_the_picture(joinery, tmp_path):
    asked = ("sample:jars", "jars_sold given hours_open")
    status, out, _ = joinery("bootstrap", *asked, "--resamples", 100, "--seed", 1, "--as", "csv")
    fit = jn.fit(*asked)
    assert (status, out) == (0, fit.bootstrap(100, seed=1).render("csv"))
    assert len(fit.draw("bootstrap", resamples=100, seed=1, path=tmp_path / "b.png").axes) == 2


def test_ends_of_given_draws_are_those_of_the_formulas():
    rng = np.random.default_rng(9)
    draws, estimate = rng.gamma(2, 1, (4000, 1)), np.array([1.5])
    influence = rng.exponential(size=(50, 1)) - 1
    low, high = resampling.accelerated(draws, estimate, influence, np.ones(50), 0.9)
    bias = stats.norm.ppf((draws < estimate).mean())
    pull = (influence**3).sum() / (6 * (influence**2).sum() ** 1.5)
    assert abs(bias) > 0.05
    assert pull > 0.01
    for end, share in ((low, 0.05), (high, 0.95)):
        z = bias + stats.norm.ppf(share)
        at = stats.norm.cdf(bias + z / (1 - pull * z))
        assert end[0] == pytest.approx(np.quantile(draws, at), rel=1e-9)
    t = rng.gamma(2, 1, (4000, 1))  # draws that lie above the estimate draw the ends below it
    errors = rng.uniform(0.5, 2, (4000, 1))
    low, high = resampling.studentized(
        estimate + t * errors, errors, estimate, np.array([0.3]), 0.9
    )
    ends = np.quantile(t, [0.95, 0.05])
    assert (low[0], high[0]) == pytest.approx(tuple(1.5 - 0.3 * ends))
