"""Effect sizes against the noncentral F written out, and their intervals' coverage."""

from __future__ import annotations

import mpmath
import numpy as np
import pytest

import joinery as jn
from joinery.core.inference.effect_sizes import eta2_ends, noncentrality
from tests.draws import by_chance, draws


def below(f, df, rest, nc):
    """P(noncentral F ≤ f): central ones, Poisson-weighted."""
    x = mpmath.mpf(df) * f / (df * f + rest)
    half = mpmath.mpf(nc) / 2
    terms = int(nc + 12 * np.sqrt(nc + 1) + 60)
    return mpmath.fsum(
        mpmath.exp(-half + j * mpmath.log(half or mpmath.mpf("1e-300")) - mpmath.loggamma(j + 1))
        * mpmath.betainc(mpmath.mpf(df) / 2 + j, mpmath.mpf(rest) / 2, 0, x, regularized=True)
        for j in range(terms)
    )


@pytest.mark.parametrize(
    ("f", "df", "rest"), [(4.2, 1, 30), (1.1, 3, 12), (60.0, 2, 200), (0.2, 4, 9)]
)
@pytest.mark.parametrize("share", [0.975, 0.5, 0.025])
def test_the_noncentrality_is_where_f_lies_below_with_that_share(f, df, rest, share):
    nc = noncentrality(f, df, rest, share)
    if nc == 0:
        assert below(f, df, rest, 0.0) <= share
    else:
        assert float(below(f, df, rest, nc)) == pytest.approx(share, abs=1e-9)


def test_eta_and_omega_are_what_they_say_and_stand_in_both_places(joinery):
    fit = jn.fit("sample:yields", "honey_kg given forage_km2, hive_type, feed_kg")
    table = fit.anova(effect_sizes=True, level=90).frame
    residual, terms = table.iloc[3], table.head(3)
    assert terms["partial_eta2"].tolist() == pytest.approx(
        (terms["ss"] / (terms["ss"] + residual["ss"])).tolist()
    )
    total = fit.overall().frame.iloc[-1]["ss"]
    omega = (terms["ss"] - terms["df"] * residual["ms"]) / (total + residual["ms"])
    assert terms["omega2"].tolist() == pytest.approx(omega.tolist())
    ends = eta2_ends(terms["f"][1], 2, fit.residual_df, 0.9)
    assert tuple(terms.loc[1, ["partial_eta2_lower", "partial_eta2_upper"]]) == pytest.approx(ends)
    assert table.loc[3:, "omega2"].isna().all()
    status, out, _ = joinery(
        "anova", "sample:yields", fit.sentence, "--effect-sizes", "--level", "90", "--as", "csv"
    )
    assert (status, out) == (0, fit.anova(effect_sizes=True, level=90).render("csv"))
    robust = fit.revise(std_errors="robust").anova(effect_sizes=True).frame
    assert robust["partial_eta2"].head(3).tolist() == pytest.approx(terms["partial_eta2"].tolist())
    assert robust["partial_eta2_lower"].isna().all()
    with pytest.raises(jn.CallError, match="shares of sums of squares"):
        jn.fit("sample:bee_samples", "mites per bees_sampled given treatment").anova(
            effect_sizes=True
        )


def test_the_interval_holds_the_population_effect():
    rng, times, held = np.random.default_rng(2), draws(400), 0
    x = np.repeat([0.0, 1.0, 2.0], 14)
    means = np.array([0.0, 0.5, 0.9])[x.astype(int)]
    nc = float(((means - means.mean()) ** 2).sum())
    truth = nc / (nc + len(x))
    for _ in range(times):
        fit = jn.fit({"g": x, "y": means + rng.normal(size=len(x))}, "y given category(g)")
        line = fit.anova(effect_sizes=True).frame.iloc[0]
        held += line["partial_eta2_lower"] <= truth <= line["partial_eta2_upper"]
    assert abs(held / times - 0.95) < by_chance(0.95, times)
