"""Stepwise choice against really fitting every neighbour, in every family."""

from __future__ import annotations

import pickle

import numpy as np
import pandas as pd
import pytest
from benchmarks.intervals import sample
from tests.draws import draws

import joinery as jn
from joinery.core.glm.families import FAMILIES

NAMES = ("x", "z", "g", "v", "x * z")
FOLDS = 10


def table_of(family, seed, n=50):
    rng = np.random.default_rng(seed)
    frame = pd.DataFrame(rng.uniform(size=(n, 3)), columns=["x", "z", "v"])
    frame["g"] = rng.choice(list("abc"), n)
    pull = 0.6 * frame["x"] + 0.4 * frame["z"] * (seed % 3) / 2
    frame["y"], _ = sample(family, FAMILIES[family].links[0], pull.to_numpy(), rng)
    return frame.assign(m=20, w=rng.choice([0.5, 1.0, 2.0], n))


def sentence(family, chosen):
    response = "y of m" if family == "binomial" else "y"
    return f"{response} given {', '.join(t for t in NAMES if t in chosen) or 'nothing'}"


def unseen_deviance(table, family, chosen, options):
    """The mean deviance of rows not seen, folds dealt as a seed of 0 deals them."""
    deal, total = np.random.default_rng(0).permutation(len(table)) % FOLDS, 0.0
    for fold in range(FOLDS):
        held = table[deal == fold]
        fit = jn.fit(table[deal != fold], sentence(family, chosen), family=family, **options)
        mu = fit.forecast(held)["fitted"].to_numpy()
        y, m = held["y"].to_numpy(float), held["m"].to_numpy() if family == "binomial" else 1
        trials = np.broadcast_to(m, y.shape)
        unit = FAMILIES[family].deviance(y / trials, mu / trials)
        total += float(unit @ (trials * held.get(options.get("weights", ""), 1.0)))
    return total / len(table)


def worth(table, family, chosen, criterion, options):
    fit = jn.fit(table, sentence(family, chosen), family=family, **options)
    if criterion == "crosscheck" and family != "normal":
        return unseen_deviance(table, family, chosen, options)
    if criterion == "crosscheck":
        times = fit.rows()
        e = times["residual"] / (1 - times["leverage"])
        return float(np.sqrt(np.mean(e**2)))
    return {"aic": fit.aic, "bic": fit.bic}.get(criterion, -(fit.adjusted_r_squared or 0))


def neighbours(chosen, moves):
    for name in NAMES:
        if name in chosen and "drop" in moves and (name not in ("x", "z") or "x * z" not in chosen):
            yield chosen - {name}
        if name not in chosen and "add" in moves and (name != "x * z" or {"x", "z"} <= chosen):
            yield chosen | {name}


def walked(table, family, criterion, moves, options):
    """The models of a search that really fits every neighbour."""
    chosen = frozenset() if "add" in moves else frozenset(NAMES)
    path = [chosen]
    while True:
        near = {c: worth(table, family, c, criterion, options) for c in neighbours(chosen, moves)}
        best = min(near, key=near.get, default=chosen)
        if best in path or near[best] >= worth(table, family, chosen, criterion, options):
            return path
        chosen = best
        path.append(chosen)


CASES = [
    (family, seed, ("aic", "bic")[seed % 2], ("add", "drop", "add and drop")[seed % 3])
    for family in FAMILIES
    for seed in range(draws(20) if family == "normal" else 2)
]
CASES += [("normal", s, c, "add and drop") for s in (1, 2) for c in ("adjusted r2", "crosscheck")]
CASES += [(family, 1, "crosscheck", "add") for family in ("poisson", "binomial")]


@pytest.mark.sampled(3)
@pytest.mark.simulation
@pytest.mark.parametrize(("family", "seed", "criterion", "moves"), CASES)
def test_each_step_is_the_best_of_really_fitting_every_neighbour(family, seed, criterion, moves):
    table = table_of(family, seed)
    options = {"weights": "w"} if seed == 2 and family in ("normal", "gamma") else {}
    path = walked(table, family, criterion, moves, options)
    trail = jn.stepwise(
        table, sentence(family, NAMES), criterion=criterion, moves=moves, family=family, **options
    )
    assert [fit.sentence for fit in trail.fits] == [sentence(family, c) for c in path]
    figures = trail.steps.frame.iloc[:, 2]
    expected = [worth(table, family, c, criterion, options) for c in path]
    assert figures.abs().tolist() == pytest.approx(np.abs(expected).tolist(), rel=1e-6)
    assert trail.final.sentence == trail.fits[-1].sentence


@pytest.mark.parametrize("family", FAMILIES)
def test_by_p_each_step_is_that_of_the_nested_test(family):
    table = table_of(family, 4)
    trail = jn.stepwise(
        table, sentence(family, NAMES), criterion="p", moves="drop", family=family, limit=0.01
    )
    for before, after, p in zip(trail.fits, trail.fits[1:], trail.steps["p"][1:]):
        assert p == pytest.approx(jn.compare(after, before)["p"][1], rel=1e-6, abs=1e-12)
        assert p > 0.01
    assert len(trail.fits) > 1


def test_where_a_dispersion_is_known_the_choice_goes_by_it():
    table = table_of("normal", 3)
    trail = jn.stepwise(table, "y given x, z, v", criterion="aic", dispersion=4.0, moves="drop")
    assert trail.steps["aic"].tolist() == pytest.approx([fit.aic for fit in trail.fits])


def test_categories_and_products_move_whole_and_what_is_kept_stays():
    table = table_of("poisson", 1, 200)
    trail = jn.stepwise(
        table, "y given x, g, x * g", family="poisson", criterion="p", keep="x * g", moves="drop"
    )
    assert trail.final.sentence == "y given x, g, x * g"
    with pytest.raises(jn.CallError, match="is not a term of the sentence"):
        jn.stepwise(table, "y given x", criterion="aic", keep="q")


@pytest.mark.parametrize(
    ("options", "words"),
    [
        ({}, "'aic', 'bic', 'adjusted r2', 'p', 'crosscheck'"),
        ({"criterion": "adjusted r2", "family": "poisson"}, "use aic, bic, p or crosscheck"),
        (
            {"criterion": "aic", "family": "poisson", "dispersion": "estimated"},
            "no AIC or BIC; use p or crosscheck",
        ),
        ({"criterion": "p", "limit": 2.0}, "not a probability"),
    ],
)
def test_a_criterion_that_cannot_decide_is_refused_with_the_way_out(options, words):
    with pytest.raises(jn.CallError, match=words.replace(".", "[.]")):
        jn.stepwise(table_of("poisson", 1), "y given x, z", **options)


def test_separation_on_the_way_ends_in_a_fit_that_says_so():
    table = table_of("normal", 1).assign(y=lambda t: t["x"] > 0.5)
    trail = jn.stepwise(table, "y given x, z, v", criterion="bic")
    assert trail.final.sentence == "y given x"
    assert any("x" in note and "separat" in note for note in trail.final.notes)


def test_one_set_of_rows_and_more_candidates_than_rows():
    table = table_of("normal", 1)
    gaps = table.assign(x=table["x"].where(table.index > 9))
    trail = jn.stepwise(gaps, "y given v, x", keep="v", criterion="p", limit=1e-9)
    assert trail.final.n_rows == len(table) - 10
    rng = np.random.default_rng(1)
    wide = pd.DataFrame(rng.normal(size=(30, 45))).rename(columns=lambda i: f"c{i}")
    wide["y"] = 3 * wide["c7"] - 2 * wide["c21"] + rng.normal(0, 0.5, 30)
    trail = jn.stepwise(wide, "y given all", moves="add", criterion="bic")
    assert trail.steps["move"].tolist()[1:3] == ["add c7", "add c21"]
    assert trail.final.residual_df > 0
    with pytest.raises(jn.CallError, match="nothing can be dropped"):
        jn.stepwise(wide, "y given all", moves="drop", criterion="aic")


@pytest.mark.parametrize("yes_no", [False, True])
def test_the_crosscheck_of_noise_shows_what_choosing_costs(yes_no):
    rng = np.random.default_rng(5)
    noise = pd.DataFrame(rng.normal(size=(60, 14))).rename(columns=lambda i: f"c{i}")
    if yes_no:
        noise["c0"] = noise["c0"] > 0
    trail = jn.stepwise(noise, "c0 given all", criterion="aic", moves="add")
    unseen, seen = trail.crosscheck
    assert unseen > 1.05 * seen
    assert "too small" in str(trail)
    assert "next" not in trail.tried.notes
    first = trail.tried.frame.query("step == 1").iloc[:, 2]
    assert first.is_monotonic_increasing
    assert len(first) == 13


def test_units_without_end_move_no_criterion_out_of_reach():
    table = table_of("normal", 2)
    huge = jn.stepwise(
        table.assign(y=table["y"] * 1e180), "y given x, z, g", criterion="bic", weights="w"
    )
    assert huge.steps["bic"].iloc[-1] == pytest.approx(huge.final.bic)


@pytest.mark.parametrize("criterion", ["bic", "p"])
def test_a_chosen_fit_says_so_everywhere_and_its_crosscheck_chooses_again(criterion, tmp_path):
    trail = jn.stepwise("sample:queens", "eggs_a_day given all but queen", criterion=criterion)
    fit = trail.final
    table = fit.crosscheck()
    typical = table["figure"].tolist().index("typical error (root mean square)")
    assert table["unseen"][typical] == pytest.approx(trail.crosscheck[0], rel=1e-12)
    loaded = jn.load(fit.save(tmp_path / "fit.json"))
    new = jn.sample_data("queens").head(2)
    for one in (fit, loaded, pickle.loads(pickle.dumps(fit))):
        assert one.changes == ("chosen stepwise",)
        assert "chosen stepwise" in " ".join(str(one).split())
        for answer in (one.coefficients(), one.anova(), one.overall(), one.forecast(new)):
            assert any("chosen stepwise on these rows" in note for note in answer.notes)
    again = fit.revise(drop=str(fit.sentence.split(" given ")[1].split(",")[0]))
    assert [again.changes[0], len(again.changes)] == ["chosen stepwise", 2]
