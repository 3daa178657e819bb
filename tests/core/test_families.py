"""Every family and link against maximization in 40-digit arithmetic, and starts that are hard."""

from __future__ import annotations

import mpmath as mp
import numpy as np
import pytest
from scipy import stats

import joinery as jn
from joinery.core.glm.families import FAMILIES
from joinery.core.glm.links import LINKS
from tests.draws import by_chance, draws

PAIRS = [
    (f, link, None)
    for f in FAMILIES
    for link in FAMILIES[f].links
    if (f, link) != ("normal", "identity")
]
PAIRS += [(f, link, "estimated") for f in ("binomial", "poisson") for link in FAMILIES[f].links]
MU = {
    "identity": lambda e: e,
    "log": mp.exp,
    "logit": lambda e: 1 / (1 + mp.exp(-e)),
    "probit": mp.ncdf,
    "cloglog": lambda e: 1 - mp.exp(-mp.exp(e)),
    "cauchit": lambda e: mp.mpf(1) / 2 + mp.atan(e) / mp.pi,
    "inverse": lambda e: 1 / e,
    "inverse-square": lambda e: 1 / mp.sqrt(e),
    "sqrt": lambda e: e**2,
}


def variance(family, mu, k):
    if "binomial" in family and family != "negative-binomial":
        return mu * (1 - mu)
    powers = {"normal": 0, "poisson": 1, "gamma": 2, "inverse-gaussian": 3}
    return mu + mu**2 / k if family == "negative-binomial" else mu ** powers[family]


def xlog(a, b):
    return a * mp.log(a / b) if a else mp.mpf(0)


def deviance(family, y, mu, k):
    if family == "binomial":
        return 2 * (xlog(y, mu) + xlog(1 - y, 1 - mu))
    if family == "poisson":
        return 2 * (xlog(y, mu) - (y - mu))
    if family == "negative-binomial":
        return 2 * (xlog(y, mu) - (y + k) * mp.log((y + k) / (mu + k)))
    if family == "gamma":
        return 2 * ((y - mu) / mu - mp.log(y / mu))
    return (y - mu) ** 2 / (y * mu**2) if family == "inverse-gaussian" else (y - mu) ** 2


def likelihood(family, y, mu, m, k, phi):
    if family == "binomial":
        s = y * m
        return mp.log(mp.binomial(m, mp.nint(s))) + s * mp.log(mu) + (m - s) * mp.log(1 - mu)
    if family == "poisson":
        return y * mp.log(mu) - mu - mp.loggamma(y + 1)
    if family == "negative-binomial":
        return (
            mp.loggamma(y + k)
            - mp.loggamma(k)
            - mp.loggamma(y + 1)
            + k * mp.log(k / (k + mu))
            + y * mp.log(mu / (k + mu))
        )
    if family == "gamma":
        return mp.log(y / (mu * phi)) / phi - y / (mu * phi) - mp.log(y) - mp.loggamma(1 / phi)
    if family == "inverse-gaussian":
        return -mp.log(2 * mp.pi * phi * y**3) / 2 - (y - mu) ** 2 / (2 * phi * y * mu**2)
    return -mp.log(2 * mp.pi * phi) / 2 - (y - mu) ** 2 / (2 * phi)


def made(family, link, seed):
    """A table whose means the link can have."""
    rng = np.random.default_rng(seed)
    n = 24
    x, z = rng.uniform(0, 1, n), rng.uniform(-1, 1, n)
    eta = {
        "identity": 2 + x - 0.4 * z,
        "log": 0.5 + x - 0.4 * z,
        "inverse": 0.4 + 0.3 * x - 0.1 * z,
        "inverse-square": 0.4 + 0.3 * x - 0.1 * z,
        "sqrt": 1.5 + x - 0.3 * z,
    }
    own = eta.get(link, -0.4 + x - 0.6 * z)
    shares = "binomial" in family and family != "negative-binomial"
    if shares:
        own = {"identity": 0.3 + 0.3 * x - 0.1 * z, "log": -1.2 + 0.6 * x - 0.2 * z}.get(link, own)
    mu = LINKS[link].mu(own)
    m = rng.integers(4, 30, n)
    if shares:
        return {"x": x, "z": z, "y": rng.binomial(m, mu), "m": m}, "y of m given x, z"
    if family in ("poisson", "negative-binomial"):
        y = rng.poisson(3 * mu * rng.gamma(1.5, 1 / 1.5, n))
    else:
        y = mu + rng.normal(0, 0.2, n) if family == "normal" else mu * rng.gamma(5, 1 / 5, n)
    return {"x": x, "z": z, "y": y}, "y given x, z"


@pytest.mark.sampled(3)
@pytest.mark.parametrize(("family", "link", "dispersion"), PAIRS)
@pytest.mark.parametrize("seed", [1, 2])
def test_estimates_are_those_of_exact_maximization(family, link, dispersion, seed):
    table, sentence = made(family, link, seed)
    fit = jn.fit(table, sentence, family=family, link=link, dispersion=dispersion)
    assert fit.converged
    found = fit.coefficients().frame
    mp.mp.dps = 40
    k = None if fit.shape is None else mp.mpf(fit.shape)
    if k is not None and mp.isinf(k):
        k = mp.mpf(10) ** 30
    m = [mp.mpf(int(v)) for v in table.get("m", np.ones(len(table["x"])))]
    y = [mp.mpf(float(v)) / (t if "m" in table else 1) for v, t in zip(table["y"], m)]
    X = mp.matrix([[1, mp.mpf(float(a)), mp.mpf(float(b))] for a, b in zip(table["x"], table["z"])])
    b = mp.matrix([mp.mpf(float(v)) for v in found["estimate"]])
    for _ in range(40):
        eta = X * b
        mu = [MU[link](e) for e in eta]
        slope = [mp.diff(MU[link], e) for e in eta]
        V = [variance(family, v, k) for v in mu]
        W = [t * s**2 / v for t, s, v in zip(m, slope, V)]
        U = X.T * mp.matrix([t * (a - v) * s / w for t, a, v, s, w in zip(m, y, mu, slope, V)])
        information = X.T * mp.diag(W) * X
        step = mp.lu_solve(information, U)
        b += step
        if mp.norm(step) < mp.mpf(10) ** -25:
            break
    assert np.abs(np.array([float(v / w - 1) for v, w in zip(found["estimate"], b)])).max() < 1e-10
    df = len(y) - 3
    pearson = sum(t * (a - v) ** 2 / w for t, a, v, w in zip(m, y, mu, V))
    known = FAMILIES[family].known_dispersion and dispersion is None
    phi = mp.mpf(1) if known else pearson / df
    inverse = information**-1
    for i in range(3):
        assert found["standard_error"][i] == pytest.approx(
            float(mp.sqrt(phi * inverse[i, i])), rel=1e-9
        )
    D = sum(t * deviance(family, a, v, k) for t, a, v in zip(m, y, mu))
    assert fit.deviance == pytest.approx(float(D), rel=1e-10)
    if dispersion is None:
        best = D / len(y)
        if family == "gamma":
            nu = mp.findroot(lambda v: 2 * len(y) * (mp.log(v) - mp.digamma(v)) - D, 1 / best)
            best = 1 / nu
        ll = sum(likelihood(family, a, v, t, k, best) for a, v, t in zip(y, mu, m))
        assert fit.log_likelihood == pytest.approx(float(ll), rel=1e-9)
        extra = (not known) + (fit.shape is not None and np.isfinite(fit.shape))
        assert fit.aic == pytest.approx(float(-2 * ll) + 2 * (3 + extra), rel=1e-9)
    else:
        assert fit.log_likelihood is None


def test_the_shape_of_counts_is_likeliest():
    table, sentence = made("negative-binomial", "log", 5)
    fit = jn.fit(table, sentence, family="negative-binomial")
    mu = fit.rows()["fitted"].to_numpy()
    near = [
        stats.nbinom.logpmf(table["y"], k, k / (k + mu)).sum()
        for k in fit.shape * np.array([0.999, 1, 1.001])
    ]
    assert near[1] > max(near[0], near[2])
    assert fit.log_likelihood == pytest.approx(near[1], rel=1e-10)
    flat = jn.fit({"y": [2, 3, 2, 3, 2, 3, 2, 3]}, "y given nothing", family="negative-binomial")
    assert "the fit is Poisson" in " ".join(flat.notes)


HARD = {
    "zeros in a level": (
        {"g": list("aaabbb") * 4, "y": [0, 0, 0, 3, 1, 2] * 4},
        "y given g",
        {"family": "poisson"},
    ),
    "ones in a level": (
        {"g": list("aaabbb") * 4, "y": [1, 1, 1, 0, 1, 0] * 4},
        "y given g",
        {"family": "binomial"},
    ),
}


@pytest.mark.parametrize(("table", "sentence", "options"), HARD.values(), ids=HARD)
def test_separation_is_named_and_firth_ends_it(table, sentence, options):
    fit = jn.fit(table, sentence, **options)
    assert not fit.converged
    note = next(n for n in fit.notes if n.startswith("separation"))
    assert "g: b" in note
    assert 'penalty="firth"' in note
    assert fit.rows()["fitted"].iloc[3] == pytest.approx(
        np.mean([v for g, v in zip(table["g"], table["y"]) if g == "b"]), rel=1e-8
    )
    firth = fit.revise(penalty="firth")
    assert firth.converged
    ends = firth.coefficients(profile=True).frame
    assert np.isfinite(ends[["estimate", "standard_error"]]).all().all()
    assert (ends["lower"] < ends["estimate"]).all()


def test_firth_is_half_a_count_added_for_one_proportion():
    """With an intercept alone the penalized estimate is the logit of (s + ½)/(n + 1)."""
    fit = jn.fit({"s": [3, 4], "n": [10, 12]}, "s of n given nothing", penalty="firth")
    assert fit.coefficients()["estimate"][0] == pytest.approx(np.log(7.5 / 15.5), rel=1e-12)


def test_huge_counts_and_tiny_probabilities():
    rng = np.random.default_rng(1)
    x = rng.uniform(0, 1, 40)
    counts = (
        jn.fit({"x": x, "y": rng.poisson(1e9 * np.exp(x))}, "y given x", family="poisson")
        .coefficients()
        .frame
    )
    assert counts["estimate"][1] == pytest.approx(1, abs=1e-3)
    total = np.full(40, 10**14)
    fit = jn.fit(
        {"x": x, "s": rng.binomial(total, 1e-12 * np.exp(x)), "n": total}, "s of n given x"
    )
    assert fit.converged
    rates = jn.fit(
        {"x": x, "s": fit.rows()["observed"] * total, "n": total}, "s per n given x"
    ).coefficients()
    assert fit.coefficients()["estimate"].to_numpy() == pytest.approx(
        rates["estimate"].to_numpy(), rel=1e-9
    )


def test_weights_repeats_and_offsets_mean_what_they_say():
    table, _ = made("poisson", "log", 3)
    import pandas as pd

    frame = pd.DataFrame(table).assign(r=np.arange(24) % 3 + 1, o=lambda t: t["x"] / 3)
    long = frame.loc[frame.index.repeat(frame["r"])]
    a = jn.fit(frame, "y given z", family="poisson", repeats="r", offset="o")
    b = jn.fit(long, "y given z", family="poisson", offset="o")
    names = ["estimate", "standard_error", "p"]
    assert a.coefficients().frame[names].to_numpy() == pytest.approx(
        b.coefficients().frame[names].to_numpy()
    )
    for name in (
        "deviance",
        "null_deviance",
        "log_likelihood",
        "aic",
        "bic",
        "residual_df",
        "n_rows",
    ):
        assert getattr(a, name) == pytest.approx(getattr(b, name))
    gamma = [
        jn.fit(
            frame.assign(y=frame["y"] + 1, w=s * frame["r"]),
            "y given z",
            family="gamma",
            weights="w",
        )
        for s in (1, 4)
    ]
    assert gamma[0].coefficients().frame[names].to_numpy() == pytest.approx(
        gamma[1].coefficients().frame[names].to_numpy()
    )
    assert gamma[0].log_likelihood == pytest.approx(gamma[1].log_likelihood)
    exposed = jn.fit(frame.assign(e=np.exp(frame["o"])), "y per e given z")
    assert exposed.coefficients()["estimate"].tolist() == pytest.approx(
        jn.fit(frame, "y given z", family="poisson", offset="o").coefficients()["estimate"].tolist()
    )


@pytest.mark.simulation
def test_robust_errors_of_counts_hold_their_level_where_plain_ones_fail():
    rng = np.random.default_rng(3)
    times, held = draws(300), np.zeros(2)
    for _ in range(times):
        x = rng.uniform(0, 1, 150)
        y = rng.negative_binomial(1.5, 1.5 / (1.5 + np.exp(1 + x)))
        for i, kind in enumerate(("constant spread", "robust")):
            row = (
                jn.fit({"x": x, "y": y}, "y given x", family="poisson", std_errors=kind)
                .coefficients()
                .frame.iloc[1]
            )
            held[i] += row["lower"] <= 1 <= row["upper"]
    assert held[0] / times < 0.85
    assert held[1] / times > 0.95 - by_chance(0.95, times)


T = {"x": [1.0, 2, 3, 4], "n": [5, 5, 0, 5], "y": [1, 2, 3, 4]}


@pytest.mark.parametrize(
    ("table", "sentence", "options", "said"),
    [
        (T | {"y": [1, -2, 3, 4]}, "y given x", {"family": "poisson"}, r"y is a negative count in 1 row \(1\)"),
        (T | {"n": [5, 1, 5, 5]}, "y of n given x", {}, r"y is above n in 1 row \(1\)"),
        (T, "y of n given x", {}, r"n is zero or less in 1 row \(2\)"),
        (T, "y per n given x", {}, r"n is not an exposure above zero in 1 row \(2\)"),
        (T | {"y": [1, 0, 3, 4]}, "y given x", {"family": "gamma"}, r"y is zero or less, which the gamma family cannot have, in 1 row \(1\)"),
        (T | {"y": [0, 0, 0, 0]}, "y given x", {"family": "poisson"}, "zero in all 4 rows"),
        (T, "y given x", {"family": "binomial"}, "neither 0 nor 1"),
        (T, "y given x", {"family": "poison"}, "did you mean 'poisson'"),
        (T, "y given x", {"family": "poisson", "link": "logit"}, "has no logit link; it has log"),
        (T, "y per x given n", {"link": "sqrt"}, "an exposure needs the log link"),
        (T, "y of n given x", {"family": "gamma"}, "which is binomial, not gamma"),
        (T | {"y": [1, 2, 3, 5]}, "y given x", {"family": "gamma", "penalty": "firth"}, "is for binomial and poisson fits"),
        (T | {"y": list("abab")}, "y given x", {}, r"write \(y = 'a'\) given"),
    ],
)  # fmt: skip
def test_responses_a_family_cannot_have_are_named(table, sentence, options, said):
    with pytest.raises(jn.JoineryError, match=said):
        jn.fit(table, sentence, **options)


def test_fractional_counts_and_one_value_are_noted():
    assert "fractional counts" in " ".join(
        jn.fit(T | {"y": [1, 2.5, 3, 4]}, "y given x", family="poisson").notes
    )
    assert "the same in every row" in " ".join(
        jn.fit(T | {"y": [2, 2, 2, 2]}, "y given x", family="poisson").notes
    )


def test_nested_counts_are_compared_by_likelihood_ratio():
    table, _ = made("poisson", "log", 3)
    for family, name in (("poisson", "χ²"), ("negative-binomial", "χ²"), ("estimated", "F")):
        own = {"dispersion": family} if family == "estimated" else {"family": family}
        own = {"family": "poisson"} | own
        small, large = (jn.fit(table, f"y given {t}", **own) for t in ("x", "x, z"))
        row = jn.compare(small, large).frame.iloc[1]
        drop = (
            small.deviance - large.deviance
            if family != "negative-binomial"
            else 2 * (large.log_likelihood - small.log_likelihood)
        )
        assert row["test"] == name
        assert row["statistic"] == pytest.approx(drop / (large.dispersion if name == "F" else 1))
        line = large.anova("others").frame.set_index("term").loc["z"]
        assert line["deviance"] == pytest.approx(drop, rel=1e-8)
    with pytest.raises(jn.CallError, match="belong to the normal family"):
        large.term_correlations()


def test_average_effects_are_the_slope_of_the_mean():
    table, sentence = made("binomial", "logit", 1)
    fit = jn.fit(table, sentence)
    found = fit.average_effects().frame.set_index("term")
    p = fit.rows()["fitted"].to_numpy()
    b = fit.coefficients().frame.set_index("term")["estimate"]
    assert found.loc["x", "effect"] == pytest.approx(np.mean(p * (1 - p)) * b["x"], rel=1e-6)
    # the standard error by simulation from the coefficients' own law
    rng = np.random.default_rng(1)
    X = np.column_stack([np.ones(24), table["x"], table["z"]])
    draws = rng.multivariate_normal(b.to_numpy(), fit._fitted.solution.unscaled_covariance, 20000)
    q = LINKS["logit"].mu(draws @ X.T)
    assert found.loc["x", "standard_error"] == pytest.approx(
        np.std((q * (1 - q)).mean(axis=1) * draws[:, 1]), rel=0.05
    )
    # of yes or no against a category: the difference of two standardized means
    g = np.array(list("ab") * 30)
    y = np.random.default_rng(2).uniform(size=60) < np.where(g == "a", 0.3, 0.6)
    two = jn.fit({"g": g, "y": y}, "y given g")
    assert two.average_effects()["effect"].tolist() == pytest.approx(
        [y[g == "b"].mean() - y[g == "a"].mean()]
    )


def test_profile_ends_lie_where_the_deviance_has_risen_enough():
    table, sentence = made("poisson", "log", 2)
    fit = jn.fit(table, sentence, family="poisson")
    ends = fit.coefficients(profile=True).frame.set_index("term").loc["x"]
    for end in (ends["lower"], ends["upper"]):
        held = jn.fit(table, "y given z", family="poisson", offset=f"{float(end)!r} * x")
        assert held.deviance - fit.deviance == pytest.approx(stats.chi2.ppf(0.95, 1), rel=1e-6)


def test_one_step_deletion_is_near_really_leaving_out():
    table, sentence = made("binomial", "logit", 2)
    import pandas as pd

    frame = pd.DataFrame(table)
    fit = jn.fit(frame, sentence)
    rows = fit.rows().frame
    assert rows["leverage"].sum() == pytest.approx(3)
    full = fit.coefficients().frame
    inverse = np.linalg.inv(fit._fitted.solution.unscaled_covariance)
    for i in (0, 7, 19):
        move = full["estimate"] - jn.fit(frame.drop(i), sentence).coefficients().frame["estimate"]
        assert rows["cooks_distance"][i] == pytest.approx(
            float(move @ inverse @ move) / 3, rel=0.25, abs=0.01
        )


def test_quantile_residuals_are_normal_when_the_family_is_right():
    rng = np.random.default_rng(4)
    x = rng.uniform(0, 1, 3000)
    drawn = {
        "poisson": rng.poisson(np.exp(1 + x)),
        "gamma": np.exp(x) * rng.gamma(2, 0.5, 3000),
        "inverse-gaussian": rng.wald(np.exp(x), 4.0),
        "negative-binomial": rng.negative_binomial(2, 2 / (2 + np.exp(1 + x))),
    }
    for family, y in drawn.items():
        fit = jn.fit({"x": x, "y": y}, "y given x", family=family)
        q = fit.rows()["quantile_residual"].to_numpy()
        assert stats.kstest(q, "norm").pvalue > 0.01, family
        assert (fit.checks()["verdict"] != "serious").all(), family
    wrong = jn.fit({"x": x, "y": drawn["negative-binomial"]}, "y given x", family="poisson")
    advice = " ".join(wrong.checks()["advice"])
    assert 'family="negative-binomial"' in advice
    assert "serious" in set(wrong.checks()["verdict"])


def test_profile_ends_of_counts_let_the_shape_follow():
    table, sentence = made("negative-binomial", "log", 5)
    fit = jn.fit(table, sentence, family="negative-binomial")
    ends = fit.coefficients(profile=True).frame.set_index("term").loc["x"]
    for end in ("lower", "upper"):
        held = jn.fit(
            table, "y given z", family="negative-binomial", offset=f"{float(ends[end])!r} * x"
        )
        assert 2 * (fit.log_likelihood - held.log_likelihood) == pytest.approx(
            3.841458820694124, rel=1e-6
        )
    plain = fit.coefficients().frame.set_index("term").loc["x"]
    assert ends["lower"] == pytest.approx(plain["lower"], abs=plain["standard_error"] / 2)
