"""Of a long table one row in so many is asked about shapes: the answers are those of these rows."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import joinery as jn
from joinery.data.sources import source
from joinery.show.numbers import figure
from joinery.study import sampled
from joinery.study.check import families, shape
from joinery.study.check.table import check_lines
from joinery.study.rows import digest

MOST, N = 300, 1000
PART = slice(2, None, 4)  # the middle of every four
SHAPES = ("straight line", "products", "even spread", "link", "calibration", "family")
BESIDE = ("left out", "belonging together")  # of tables in memory
ONE_IN_FOUR = ", on one row in 4"


@pytest.fixture(autouse=True)
def few(monkeypatch):
    """Tables are long from 600 rows on."""
    monkeypatch.setattr(sampled, "LONG_ROWS", 2 * MOST)
    monkeypatch.setattr(shape, "JUDGED_ROWS", MOST)
    monkeypatch.setattr(families, "LINK_ROWS", MOST // 3)


def made():
    rng = np.random.default_rng(4)
    table = pd.DataFrame({"x": rng.uniform(-1, 1, N), "z": rng.uniform(1, 3, N)})
    table["g"] = rng.choice(list("abc"), N)
    table["when"] = pd.date_range("2020-01-01", periods=N)
    table["before"] = table["z"].shift(1)
    table["w"] = rng.uniform(1, 2, N)
    table["y"] = (
        table["x"] + table["x"] ** 2 / 2 + table["x"] * table["z"] / 4 + rng.uniform(-1, 1, N)
    )
    table["yes"] = rng.random(N) < 1 / (1 + np.exp(-table["x"]))
    table["n"] = rng.poisson(np.exp(table["x"] / 2))
    return table


def lines(fit, said="", names=(*SHAPES, *BESIDE)):
    """The lines about shapes: their figures, by what was checked."""
    about = [line for line in check_lines(fit._fitted) if line.name in names]
    assert about
    assert all(line.check.endswith(said) for line in about)
    return {
        line.check.removesuffix(said): (line.test.statistic, line.test.p, str(line.would_see))
        for line in about
    }


def same(asked, by_hand):
    assert asked.keys() == by_hand.keys()
    for name, (statistic, p, seen) in asked.items():
        assert (statistic, p) == pytest.approx(by_hand[name][:2], rel=1e-7, abs=1e-12, nan_ok=True)
        assert seen == by_hand[name][2]


@pytest.mark.parametrize(
    ("sentence", "options"),
    [
        ("y given x, z, g", {}),
        ("y given x, z, g", {"weights": "w", "std_errors": "robust"}),
        ("y given x, z", {"std_errors": "clustered", "cluster": "g", "where": "x < 9"}),
        ("log(z) given x, g", {"offset": "w"}),
        ("yes given x, z", {}),
        ("n per w given x, g", {"family": "poisson"}),
    ],
)
@pytest.mark.parametrize("apart", [False, True])
def test_the_lines_are_those_of_the_rows_asked(sentence, options, apart, tmp_path, monkeypatch):
    table = made()
    names = SHAPES if apart else (*SHAPES, *BESIDE)
    by_hand = lines(jn.fit(table.iloc[PART], sentence, **options), names=names)
    if apart:
        monkeypatch.setattr(source, "HELD_CELLS", 0)
        table.to_parquet(tmp_path / "t.parquet", row_group_size=70)
        table = tmp_path / "t.parquet"
    same(lines(jn.fit(table, sentence, **options), ONE_IN_FOUR, names), by_hand)


def test_what_the_row_before_says_is_kept():
    table = made()
    fit = jn.fit(table, "y given x, lag(z, 1)", order="when")
    columns = jn.fit(table.iloc[3::4], "y given x, before")  # the first row has none before it
    asked, by_hand = (list(lines(f, names=SHAPES).values()) for f in (fit, columns))
    assert [p for _, p, _ in asked] == pytest.approx([p for _, p, _ in by_hand], rel=1e-7)


def test_a_row_far_off_is_not_among_those_asked():
    table = made()
    table.loc[402, "y"] = 1e5  # one of the part
    asked = lines(jn.fit(table, "y given x, z"), f", without row 402{ONE_IN_FOUR}")
    same(asked, lines(jn.fit(table.iloc[PART].drop(402), "y given x, z")))


def test_the_page_and_a_saved_one_say_which_rows_were_asked(tmp_path):
    fit = jn.fit(made(), "n given x", family="poisson")
    words = "shapes were looked at in one row in 4"
    for page in (str(fit), str(jn.load(fit.save(tmp_path / "fit.json")))):
        assert words in " ".join(page.split())
    few = jn.fit(made().head(600), "n given x", family="poisson")
    assert "one row in" not in str(few) + str(few.checks())


def test_all_rows_are_asked_where_the_part_has_not_all_that_the_model_has():
    table = made()
    table.loc[[0, 1], "g"] = "rare"  # a level that no row of the part has
    checks = jn.fit(table, "y given x, g").checks().frame["check"]
    assert not checks.str.contains("one row in").any()
    repeated = jn.fit(table.assign(times=2), "y given x, z", repeats="times").checks().frame
    assert not repeated["check"].str.contains("one row in").any()


def test_a_link_is_advised_by_some_rows_of_a_long_table():
    rng = np.random.default_rng(0)
    x = rng.uniform(0, 3, 2000)
    table = pd.DataFrame({"x": x, "y": np.exp(0.7 * x) * rng.uniform(0.5, 1.5, 2000)})
    fit = jn.fit(table, "y given x", family="gamma", link="identity", where="x > 0.2")
    said = next(line.advice for line in check_lines(fit._fitted) if line.name == "link")
    used = table[table["x"] > 0.2]
    for most in (MOST, MOST // 3):  # of the rows that are asked, some are enough
        step = -(-len(used) // most)
        used = used.iloc[step // 2 :: step]
    deviance = jn.fit(used, "y given x", family="gamma", link="log").deviance
    assert 'link="log") takes the deviance from' in said
    assert said.endswith(f"to {figure(deviance, 3)} in {len(used)} of the rows")


@pytest.mark.parametrize("weights", [None, "w"])
def test_how_far_each_row_misses_is_kept_of_a_long_table(monkeypatch, weights):
    monkeypatch.setattr(digest, "NORMAL_ROWS", 10)
    fit = jn.fit(made(), "y given x, z, g", weights=weights)
    rows, totals = fit.rows().frame, digest.digest(fit._fitted)
    assert totals.held is None
    root = np.sqrt(made()["w"]) if weights else 1.0
    wanted = rows["residual"].abs() * root / fit.residual_sd
    assert digest.misses_of(fit._fitted) == pytest.approx(wanted.to_numpy(), rel=1e-9)
    assert totals.fitted == pytest.approx((rows["fitted"].min(), rows["fitted"].max()), rel=1e-12)
