"""Features where they meet, each against an independent truth: dense formulas, other likelihoods, brute force."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from scipy import optimize, special, stats
from tests.draws import draws

import joinery as jn
from joinery.study.forecast.memory import forecast_memory

rng = np.random.default_rng(3)
N = 40
TABLE = pd.DataFrame(
    {
        "x": rng.uniform(1, 9, N).round(2),
        "z": rng.normal(0, 1, N).round(2),
        "w": rng.choice([0.5, 1, 3], N),
    }
)
TABLE["g"] = np.sort(rng.choice(list("abcdef"), N, p=[0.35, 0.25, 0.2, 0.1, 0.05, 0.05]))
TABLE["o"] = rng.normal(0, 0.1, N).round(3)
TABLE["y"] = np.exp(0.5 + 0.1 * TABLE["x"] + rng.normal(0, 0.3, N))
TABLE["c"] = rng.poisson(np.exp(0.2 + 0.15 * TABLE["x"]) * rng.gamma(2, 0.5, N))


def design(*columns):
    return np.column_stack([np.ones(N), *(TABLE[c] for c in columns)])


# ------------------------------------------------------------------ clusters


def dense_clusters(X, g):
    """(I − H), the CR2 matrices of each cluster and (XᵀX)⁻¹, all n × n."""
    bread = np.linalg.inv(X.T @ X)
    M = np.eye(len(X)) - X @ bread @ X.T
    parts = []
    for level in np.unique(g):
        rows = np.flatnonzero(g == level)
        values, vectors = np.linalg.eigh(M[np.ix_(rows, rows)])
        half = (vectors * np.where(values > 1e-10, values, 1) ** -0.5) @ vectors.T
        parts.append(M[:, rows] @ half @ X[rows] @ bread)  # (n, q): p of each coefficient
    return bread, np.array(parts)


def hotelling(C, p):
    """η and the degrees of freedom of one contrast, from sums over all pairs of clusters (Pustejovsky & Tipton 2018)."""
    P = np.einsum("gnq,rq->grn", p, C)
    omega = np.einsum("grn,gsn->rs", P, P)
    values, vectors = np.linalg.eigh(omega)
    P = np.einsum("rs,gsn->grn", (vectors / np.sqrt(values)) @ vectors.T, P)
    inner = np.einsum("grn,hsn->ghrs", P, P)
    total = np.einsum("ghrr,ghss->", inner, inner) + np.einsum("ghrs,ghsr->", inner, inner)
    r = len(C)
    return r * (r + 1) / total


def test_each_combination_has_its_own_degrees_of_freedom():
    fit = jn.fit(TABLE, "y given x, z", std_errors="clustered", cluster="g")
    _, p = dense_clusters(design("x", "z"), TABLE["g"].to_numpy())
    for claim, weights in (("x + z = 0", [0, 1, 1]), ("intercept + 5 * x = 0", [1, 5, 0])):
        assert fit.claim(claim)["df"][0] == pytest.approx(hotelling(np.array([weights], float), p))
    row = fit.forecast({"x": [5.0], "z": [2.0]}, level=0.9).frame.iloc[0]
    df = hotelling(np.array([[1, 5, 2.0]]), p)
    V = fit._fitted.sandwich.meat
    root = fit._fitted.solution.root
    se = np.sqrt(np.array([1, 5, 2.0]) @ root @ V @ root.T @ np.array([1, 5, 2.0]))
    assert row["mean_upper"] - row["fitted"] == pytest.approx(stats.t.ppf(0.95, df) * se)


def test_joint_tests_of_clusters_are_hotellings():
    fit = jn.fit(TABLE, "y given x, z", std_errors="clustered", cluster="g")
    _, p = dense_clusters(design("x", "z"), TABLE["g"].to_numpy())
    C = np.array([[0, 1, 0], [0, 0, 1.0]])
    eta = hotelling(C, p)
    root = fit._fitted.solution.root
    V = C @ root @ fit._fitted.sandwich.meat @ root.T @ C.T
    b = fit.coefficients()["estimate"].to_numpy()[1:]
    f = b @ np.linalg.solve(V, b) * (eta - 1) / (eta * 2)
    overall = fit.overall().frame.iloc[0]
    assert overall["f"] == pytest.approx(f)
    assert overall["p"] == pytest.approx(stats.f.sf(f, 2, eta - 1))
    both = fit.claim("x = 0, z = 0").frame.iloc[-1]
    assert [both["f"], both["df"], both["p"]] == pytest.approx([f, eta - 1, overall["p"]])


def test_too_few_clusters_test_nothing_and_say_so():
    pair = TABLE.assign(k=np.where(TABLE["g"] < "c", "u", "v"))
    fit = jn.fit(pair, "y given x, z, w, x^2", std_errors="clustered", cluster="k")
    overall = fit.overall()
    assert np.isnan(overall["f"][0])
    assert "has rank 2 only, and 4 are to be tested" in " ".join(
        overall.notes
    ) or "too few clusters" in " ".join(overall.notes)
    assert np.isfinite(fit.coefficients()["standard_error"]).all()


def test_crossed_clusters_that_clip_say_so():
    found = []
    for seed in range(40):
        r = np.random.default_rng(seed)
        table = {
            "x": r.normal(size=16),
            "y": r.normal(size=16),
            "a": r.choice(list("uv"), 16),
            "b": r.choice(list("pq"), 16),
        }
        fit = jn.fit(table, "y given x", std_errors="clustered", cluster=["a", "b"])
        found.append(
            (fit._fitted.sandwich.clipped, "set to zero" in " ".join(fit.coefficients().notes))
        )
    assert {said for clipped, said in found if clipped} == {True}
    assert {said for clipped, said in found if not clipped} <= {False}


@pytest.mark.parametrize("kind", ["hc0", "hc2", "hc3", "autocorrelated"])
def test_what_one_row_alone_decides_has_no_standard_error(kind):
    table = TABLE.assign(d=(TABLE.index == 4) * 1.0)
    fit = jn.fit(table, "y given x, d", std_errors=kind)
    found = fit.coefficients().frame.set_index("term")
    assert np.isnan(found.loc["d", ["standard_error", "t", "p"]].astype(float)).all()
    assert np.isfinite(found.loc["x", "standard_error"])
    assert "rests on one row or cluster alone" in " ".join(fit.coefficients().notes)
    assert np.isnan(fit.overall()["f"][0])


# ------------------------------------------------------------------ counts with a shape


def test_the_overall_test_of_counts_gives_each_model_its_own_shape():
    fit = jn.fit(TABLE, "c given x", family="negative-binomial")
    null = jn.fit(TABLE, "c given nothing", family="negative-binomial")
    drop = 2 * (fit.log_likelihood - null.log_likelihood)
    assert fit.overall()["chi2"][0] == pytest.approx(drop)
    assert fit.anova()["chi2"][0] == pytest.approx(drop)
    plain = jn.fit(TABLE, "c given x", family="poisson")
    row = jn.compare(plain, fit).frame.iloc[1]
    gain = 2 * (fit.log_likelihood - plain.log_likelihood)
    assert row["statistic"] == pytest.approx(gain)
    assert row["p"] == pytest.approx(stats.chi2.sf(gain, 1) / 2)


def test_the_shape_is_the_best_of_all():
    for seed in range(10):
        r = np.random.default_rng(seed)
        x = r.normal(size=20)
        y = r.poisson(np.exp(0.5 + 0.4 * x) * r.gamma(4, 0.25, 20)).astype(float)
        fit = jn.fit({"x": x, "y": y}, "y given x", family="negative-binomial")

        def cost(v, x=x, y=y):
            # beyond, the oracle itself is lost in rounding
            mu, k = np.exp(v[0] + v[1] * x), np.exp(min(v[2], 14))
            chances = special.gammaln([y + k, np.full(20, k), y + 1]).sum(axis=1) @ [1, -1, -1]
            return -chances - (k * np.log(k / (k + mu)) + special.xlogy(y, mu / (k + mu))).sum()

        tries = [
            optimize.minimize(
                cost, [0.5, 0.3, s], method="Nelder-Mead", options={"maxiter": 4000, "fatol": 1e-10}
            )
            for s in (-1, 1, 4, 9)
        ]
        assert fit.log_likelihood >= -min(t.fun for t in tries) - 1e-5


# ------------------------------------------------------------------ Firth's penalty


def penalized_cost(X, y, link):
    mean = {
        "logit": special.expit,
        "probit": special.ndtr,
        "cloglog": lambda e: -np.expm1(-np.exp(e)),
        "cauchit": lambda e: 0.5 + np.arctan(e) / np.pi,
    }[link]

    def cost(b):
        eta = X @ b
        mu = np.clip(mean(eta), 1e-300, 1 - 1e-16)
        h = 1e-6
        slope = (mean(eta + h) - mean(eta - h)) / (2 * h)
        sign, logdet = np.linalg.slogdet((X * (slope**2 / (mu * (1 - mu)))[:, None]).T @ X)
        return -2 * (special.xlogy(y, mu) + special.xlogy(1 - y, 1 - mu)).sum() - (
            logdet if sign > 0 else -1e9
        )

    return cost


@pytest.mark.sampled(3)
@pytest.mark.parametrize("link", ["logit", "probit", "cloglog", "cauchit"])
@pytest.mark.parametrize("separated", [True, False])
def test_penalized_estimates_and_profiles_are_those_of_brute_force(link, separated):
    r = np.random.default_rng(6)
    x = np.sort(r.normal(size=14))
    y = (x > 0.1) if separated else r.uniform(size=14) < special.expit(x)
    fit = jn.fit({"x": x, "y": y}, "y given x", link=link, penalty="firth")
    assert fit.converged
    X = np.column_stack([np.ones(14), x])
    cost = penalized_cost(X, y.astype(float), link)
    found = fit.coefficients(profile=True, level=0.9).frame
    best = optimize.minimize(
        cost,
        found["estimate"],
        method="Nelder-Mead",
        options={"xatol": 1e-9, "fatol": 1e-11, "maxiter": 2000},
    )
    assert found["estimate"].to_numpy() == pytest.approx(best.x, rel=2e-4, abs=2e-4)
    for end in (found["lower"][1], found["upper"][1]):
        if np.isfinite(end):
            held = optimize.minimize_scalar(
                lambda a, end=end: cost(np.array([a, end])), bracket=(best.x[0] - 1, best.x[0] + 1)
            )
            assert held.fun - best.fun == pytest.approx(stats.chi2.ppf(0.9, 1), abs=2e-3)
    # the overall test: the fall from the intercept alone, under the penalty of all columns
    alone = (
        optimize.minimize_scalar(lambda a: cost(np.array([a, 0.0])), bracket=(-1, 1)).fun - best.fun
    )
    assert fit.overall()["chi2"].iloc[0] == pytest.approx(alone, abs=2e-6)
    assert fit.anova()["chi2"].iloc[0] == pytest.approx(alone, abs=2e-6)


@pytest.mark.simulation
def test_the_penalty_settles_where_data_separate():
    for seed in range(draws(12)):
        r = np.random.default_rng(seed)
        x, z = r.normal(size=25), r.normal(size=25)
        for link in ("logit", "probit", "cloglog", "cauchit"):
            fit = jn.fit(
                {"x": x, "z": z, "y": x > r.normal() / 3},
                "y given x, z",
                link=link,
                penalty="firth",
            )
            assert fit.converged
            assert np.isfinite(fit.coefficients()["standard_error"]).all()


# ------------------------------------------------------------------ responses back-transformed


@pytest.mark.parametrize(
    "response", ["log(y)", "log(1 / y)", "log(sqrt(y))", "log10(y)", "(0 - log(y))"]
)
def test_one_model_has_one_mean_however_it_is_written(response):
    fit = jn.fit(TABLE, f"{response} given x", weights="w")
    row = fit.forecast({"x": [4.0], "w": [0.5]}).frame.iloc[0]
    plain = jn.fit(TABLE, "log(y) given x", weights="w")
    at = plain.forecast({"x": [4.0], "w": [0.5]}).frame.iloc[0]
    assert row["expected"] == pytest.approx(at["fitted"] * np.exp(plain.residual_sd**2 / 0.5 / 2))
    for name in ("fitted", "median_lower", "median_upper", "new_lower", "new_upper"):
        assert row[name] == pytest.approx(at[name])


def test_ends_are_cut_where_the_response_can_give_no_more():
    low = TABLE.assign(y=np.maximum(rng.normal(0.3, 0.5, N), 0.01) ** 2)
    row = jn.fit(low, "sqrt(y) given x").forecast({"x": [5.0]}).frame.iloc[0]
    assert row["new_lower"] == 0
    assert row["new_upper"] > row["fitted"] > 0
    root = jn.fit(low.assign(r=np.sqrt(low["y"])), "r given x")
    eta, s = root.forecast({"x": [5.0]})["fitted"][0], root.residual_sd
    draws = np.maximum(eta + s * np.random.default_rng(1).standard_normal(2_000_000), 0) ** 2
    assert row["expected"] == pytest.approx(draws.mean(), rel=3e-3)
    pole = jn.fit(
        TABLE.assign(y=1 / np.maximum(rng.normal(1, 0.7, N), 0.05)), "(1 / y) given x"
    ).forecast({"x": [5.0]})
    assert pole["new_upper"][0] == np.inf
    assert 0 < pole["new_lower"][0] < pole["fitted"][0]
    assert "past the pole" in pole["note"][0]
    negative = (
        jn.fit(TABLE.assign(y=-TABLE["y"]), "(1 / y) given x").forecast({"x": [5.0]}).frame.iloc[0]
    )
    assert negative["new_lower"] < negative["fitted"] < negative["new_upper"] < 0
    square = jn.fit(TABLE, "y^2 given x").forecast({"x": [5.0]}).frame.iloc[0]
    assert 0 <= square["new_lower"] < square["fitted"] < square["new_upper"]
    for sentence in ("z^2 given x", "abs(y) given x", "(1 / z) given x"):
        with pytest.raises(jn.CallError, match="in one way only"):
            jn.fit(TABLE[TABLE["z"] != 0], sentence).forecast({"x": [5.0]})


def test_powers_of_a_weighted_response_are_judged_by_their_likelihoods():
    fit = jn.fit(TABLE, "y given x", weights="w")
    below = fit.box_cox().frame.set_index("power")["below_best"]
    jacobian = np.log(TABLE["y"]).sum()
    for power, response, scale in (
        (1.0, "y", 0),
        (0.0, "log(y)", 1),
        (-1.0, "(1 / y)", 2),
        (0.5, "sqrt(y)", 0.5),
    ):
        other = jn.fit(TABLE, f"{response} given x", weights="w")
        size = N * np.log(abs(power)) if power else 0
        height = other.log_likelihood - scale * jacobian + size
        assert below[1.0] - below[power] == pytest.approx(height - fit.log_likelihood, rel=1e-9)
    with pytest.raises(jn.CallError, match="offset"):
        jn.fit(TABLE, "y given x", offset="o").box_cox()


# ------------------------------------------------------------------ forecasts


def test_all_rows_at_once_hold_by_bonferroni_under_other_families():
    fit = jn.fit(TABLE, "y given x", family="gamma")
    new = {"x": [2.0, 5.0, 8.0, 9.0]}
    together = fit.forecast(new, simultaneous=True, level=0.9).frame
    alone = fit.forecast(new, level=1 - 0.1 / 4).frame
    for end in ("new_lower", "new_upper"):
        assert together[end].to_numpy() == pytest.approx(alone[end].to_numpy())


@pytest.mark.parametrize(
    ("family", "link"), [("gamma", "log"), ("inverse-gaussian", "log"), ("normal", "log")]
)
def test_a_new_rows_weight_is_in_its_interval(family, link):
    fit = jn.fit(TABLE, "y given x", family=family, link=link, weights="w")
    ends = fit.forecast({"x": [5.0, 5.0], "w": [1.0, 4.0]}, level=0.8).frame
    eta, se = (
        np.log(ends["fitted"][0]),
        (np.log(ends["mean_upper"] / ends["mean_lower"]) / 2 / stats.t.ppf(0.9, N - 2))[0],
    )
    r = np.random.default_rng(2)
    mu = np.empty(400_000)
    for i, w in enumerate((1.0, 4.0)):
        ratios, likely = np.array(forecast_memory(fit._fitted).spreads).T
        ratio = r.choice(ratios, len(mu), p=likely / likely.sum())
        mu = np.exp(r.normal(eta, se * np.sqrt(ratio)))
        draws = fit._fitted.family.draw(r, mu, trials=None, spread=fit.dispersion * ratio / w)
        assert [ends["new_lower"][i], ends["new_upper"][i]] == pytest.approx(
            np.quantile(draws, [0.1, 0.9]), rel=0.01
        )


def test_a_mean_that_the_family_cannot_have_has_no_interval():
    fit = jn.fit(TABLE.assign(c=TABLE["c"] + 1), "c given x", family="poisson", link="identity")
    out = fit.forecast({"x": [-40.0, 5.0]})
    frame = out.frame
    assert frame.iloc[0][["mean_lower", "mean_upper", "new_lower", "new_upper"]].isna().all()
    assert "the poisson family cannot have a mean" in frame["note"][0]
    assert frame.iloc[1][["new_lower", "new_upper"]].notna().all()


@pytest.mark.parametrize("n", [9, 19, 29, 39])
def test_distribution_free_ends_use_every_place(n):
    small = TABLE.head(n)
    fit = jn.fit(small, "y given x", level=0.9)
    found = fit.forecast({"x": [4.0]}, intervals="distribution-free").frame.iloc[0]
    ends = []
    for i in small.index:
        at, own = jn.fit(small.drop(i), "y given x").forecast({"x": [4.0, small.loc[i, "x"]]})[
            "fitted"
        ]
        ends.append((at - abs(small.loc[i, "y"] - own), at + abs(small.loc[i, "y"] - own)))
    lower, upper = np.sort(np.array(ends), axis=0).T
    place = (n + 1) // 10  # 0.1·(n + 1) is a whole number here
    assert found["new_lower"] == pytest.approx(lower[place - 1])
    assert found["new_upper"] == pytest.approx(upper[n - place])


@pytest.mark.parametrize("style", ["text", "latex"])
def test_an_offset_shows_in_equations_for_people(style):
    text = jn.fit(TABLE, "y given x", offset="(o * 2)").equation(style)
    assert text.rstrip("}").endswith("(o * 2)")


# ------------------------------------------------------------------ weights and order


def test_crosschecks_know_weights_and_offsets():
    fit = jn.fit(TABLE, "y given x", weights="w", offset="o")
    found = fit.crosscheck().frame.set_index("figure")
    assert found.loc["explained (R²)", "fitted_rows"] == pytest.approx(fit.r_squared)
    ahead = np.array(
        [fit.revise(leave_out=[i]).forecast(TABLE.loc[[i]])["fitted"].iloc[0] for i in TABLE.index]
    )
    w, y = TABLE["w"], TABLE["y"] - TABLE["o"]
    share = 1 - (w @ (TABLE["y"] - ahead) ** 2) / (w @ (y - np.average(y, weights=w)) ** 2)
    assert found.loc["explained (R²)", "unseen"] == pytest.approx(share)


def test_lags_follow_the_order():
    day = np.random.default_rng(8).permutation(N)
    mixed = TABLE.assign(day=day)
    straight = mixed.sort_values("day").reset_index(drop=True)
    a = jn.fit(mixed, "y given lag(x, 1), lag(z, 2, by=g)", order="day").coefficients().frame
    b = jn.fit(straight, "y given lag(x, 1), lag(z, 2, by=g)").coefficients().frame
    assert a["estimate"].to_numpy() == pytest.approx(b["estimate"].to_numpy())


@pytest.mark.parametrize(
    ("family", "sentence"),
    [("poisson", "c given x, z"), ("gamma", "y given x, z"), ("binomial", "(c > 2) given x, z")],
)
def test_dfbetas_of_other_families_are_near_really_leaving_out(family, sentence):
    fit = jn.fit(TABLE, sentence, family=family)
    rows, full = fit.rows(dfbetas=True).frame, fit.coefficients().frame.set_index("term")
    for i in np.argsort(-rows["cooks_distance"].to_numpy())[:6]:
        out = jn.fit(TABLE.drop(i), sentence, family=family)
        moved = full["estimate"] - out.coefficients().frame.set_index("term")["estimate"]
        scale = 1.0 if family != "gamma" else np.sqrt(out.dispersion / fit.dispersion)
        for term in ("x", "z"):
            assert rows[f"dfbetas_{term}"][i] == pytest.approx(
                moved[term] / full.loc[term, "standard_error"] / scale, rel=0.3, abs=0.05
            )


# ------------------------------------------------------------------ far out numbers


def test_a_fit_of_far_away_numbers_is_not_called_perfect():
    far = {"x": 1e15 + np.array([0, 4, 4, 8, 12.0]), "y": [1.0, 2, 4, 5, 6]}
    near = {"x": np.array([0, 4, 4, 8, 12.0]), "y": far["y"]}
    a, b = (jn.fit(t, "y given x") for t in (far, near))
    assert a.r_squared == pytest.approx(b.r_squared)
    assert a.coefficients()["standard_error"][1] == pytest.approx(
        b.coefficients()["standard_error"][1]
    )
    high = jn.fit({"x": [0.0, 1, 2, 3, 4], "y": 1e15 + np.array([0, 4, 4, 8, 12.0])}, "y given x")
    low = jn.fit({"x": [0.0, 1, 2, 3, 4], "y": np.array([0, 4, 4, 8, 12.0])}, "y given x")
    assert high.r_squared == pytest.approx(low.r_squared)
    offset = jn.fit(
        {"x": [0.0, 1, 2, 3, 4], "y": 1e15 + np.array([0, 4, 4, 8, 12.0]), "o": [1e15] * 5},
        "y given x",
        offset="o",
    )
    assert offset.r_squared == pytest.approx(low.r_squared)
    assert "perfect" in " ".join(
        jn.fit({"x": TABLE["x"], "y": 3 + 0.1 * TABLE["x"]}, "y given x").notes
    )


def test_counts_over_far_away_numbers_do_not_separate():
    near = jn.fit(TABLE, "c given x", family="poisson")
    far = jn.fit(TABLE.assign(x=TABLE["x"] + 1e9), "c given x", family="poisson")
    assert far.converged
    assert far.coefficients()["estimate"][1] == pytest.approx(
        near.coefficients()["estimate"][1], rel=1e-6
    )
    assert far.deviance == pytest.approx(near.deviance, rel=1e-7)  # x keeps seven decimals there


def test_tiny_predictors_keep_their_t():
    for size in (1e-160, 1e-300, 1e160):
        t = jn.fit(TABLE.assign(x=TABLE["x"] * size), "y given x").coefficients()["t"]
        assert t.to_numpy() == pytest.approx(
            jn.fit(TABLE, "y given x").coefficients()["t"].to_numpy()
        )


def test_nearly_perfect_gammas_and_huge_counts_keep_their_likelihood():
    import mpmath as mp

    mp.mp.dps = 50
    x = np.linspace(0, 1, 12)
    y = np.exp(1 + x) * (1 + 1e-6 * np.random.default_rng(1).normal(size=12))
    fit = jn.fit({"x": x, "y": y}, "y given x", family="gamma", link="log")
    v, b = (
        1 / mp.mpf(fit._fitted.estimate.likely_dispersion),
        [mp.mpf(v) for v in fit.coefficients()["estimate"]],
    )
    mu = [mp.exp(b[0] + b[1] * mp.mpf(float(a))) for a in x]
    truth = sum(
        v * mp.log(v * a / m) - v * a / m - mp.log(a) - mp.loggamma(v)
        for a, m in zip(map(mp.mpf, y.tolist()), mu)
    )
    assert fit.log_likelihood == pytest.approx(float(truth), rel=1e-6)
    counts = np.round(
        1e11 * np.exp(0.3 * x) * (1 + 1e-5 * np.random.default_rng(2).normal(size=12))
    )
    poisson = jn.fit({"x": x, "y": counts}, "y given x", family="poisson")
    b = [mp.mpf(v) for v in poisson.coefficients()["estimate"]]
    mu = [mp.exp(b[0] + b[1] * mp.mpf(float(a))) for a in x]
    truth = sum(
        a * mp.log(m) - m - mp.loggamma(a + 1) for a, m in zip(map(mp.mpf, counts.tolist()), mu)
    )
    assert poisson.log_likelihood == pytest.approx(float(truth), rel=1e-4)
    for family, link in (
        ("inverse-gaussian", "log"),
        ("inverse-gaussian", "inverse-square"),
        ("gamma", "inverse"),
    ):
        assert jn.fit({"x": x, "y": y}, "y given x", family=family, link=link).converged


def test_the_law_of_neighbours_holds_far_out():
    t = np.arange(60.0)
    fit = jn.fit({"t": t, "y": np.sin(t / 12)}, "y given t")
    line = fit.checks().frame.set_index("check")["p"]
    p = line[next(c for c in line.index if c.startswith("Durbin"))]
    assert 0 < p < 1e-20


def test_effects_of_comparisons_and_bands_are_steps():
    fit = jn.fit(TABLE, "(c > 2) given (x > 5), bands(z, -0.5, 0.5)")
    found = fit.average_effects().frame.set_index("term")["effect"]
    new = TABLE.assign(x=9.0), TABLE.assign(x=1.0)
    up, down = (fit.forecast(t)["fitted"].mean() for t in new)
    assert found["(x > 5)"] == pytest.approx(up - down)
    base, top = (fit.forecast(TABLE.assign(z=v))["fitted"].mean() for v in (-2.0, 2.0))
    assert found["bands(z, -0.5, 0.5): 0.5 and over"] == pytest.approx(top - base)


def test_the_bend_across_fitted_values_needs_no_intercept_of_its_own():
    fit = jn.fit(TABLE, "y given x, z without intercept")
    found = fit.checks().frame.set_index("check")
    fitted = fit.rows()["fitted"]
    more = (
        jn.fit(TABLE.assign(f=fitted**2), "y given x, z, f without intercept")
        .coefficients()
        .frame.set_index("term")
    )
    assert found.loc["curvature across fitted values (Tukey)", "statistic"] == pytest.approx(
        more.loc["f", "t"]
    )
