"""A fit for each group of rows against fits of the cut table, the crossed model, and simulation."""

from __future__ import annotations

import json
import pickle
import warnings

import matplotlib.pyplot as plt
import numpy as np
import pandas as pd
import pytest
from tests.draws import by_chance, draws

import joinery as jn

RNG = np.random.default_rng(12)
N = 240
TABLE = pd.DataFrame(
    {"x": RNG.uniform(1, 9, N), "z": RNG.normal(1e3, 1, N), "h": RNG.choice(list("pq"), N)}
)
TABLE = TABLE.assign(
    g=RNG.choice(["a", "b", "c d"], N),
    k=RNG.choice([1, 2], N),
    w=RNG.choice([0.5, 1.0, 3.0], N),
    e=RNG.uniform(1, 3, N),
    t=np.arange(N),
)
MOVE = TABLE["g"].map({"a": 0.0, "b": 0.3, "c d": -0.2})
TABLE = TABLE.assign(
    y=2 + (1 + MOVE) * TABLE["x"] + RNG.normal(0, 1, N),
    c=RNG.poisson(np.exp(0.4 + 0.1 * TABLE["x"])),
    yes=RNG.random(N) < 1 / (1 + np.exp(2 - 0.4 * TABLE["x"])),
    waste=RNG.gamma(9, np.exp(0.1 * TABLE["x"]) / 9, N),
)  # fmt: skip
CASES = [
    ("y given x, z, h", {}),
    ("y given x, h", {"weights": "w"}),
    ("y given x, h", {"offset": "e", "where": "x > 2", "leave_out": [3, 4]}),
    ("y given x, x^2", {"std_errors": "robust"}),
    ("log(waste) given x", {"std_errors": "autocorrelated", "order": "t"}),
    ("y given x without intercept", {}),
    ("c per e given x", {}),
    ("yes given x", {}),
    ("waste given x", {"family": "gamma", "link": "log"}),
]


def each_and_crossed(model, options, by="g"):
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", jn.JoineryWarning)
        return jn.fit_each(TABLE, model, by=by, **options)


@pytest.mark.parametrize(("model", "options"), CASES, ids=str)
def test_each_group_is_the_fit_of_the_cut_table(model, options):
    fits = each_and_crossed(model, options)
    assert list(fits.fits) == ["a", "b", "c d"]
    for label in fits.fits:
        cut = options | {
            "where": f"g = '{label}'" + (f" and {options['where']}" if "where" in options else "")
        }
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", jn.JoineryWarning)
            alone = jn.fit(TABLE, model, **cut)
        frame = fits.coefficients.frame
        mine = frame[frame["group"] == label].drop(columns="group").reset_index(drop=True)
        pd.testing.assert_frame_equal(mine, alone.coefficients().frame, rtol=1e-9)
        pd.testing.assert_frame_equal(
            fits.fits[label].coefficients().frame, alone.coefficients().frame, rtol=1e-9
        )
        figures = fits.figures.frame.set_index("group").loc[label]
        assert figures["n_rows"] == alone.n_rows
        if alone.family == "normal":
            assert figures["residual_sd"] == pytest.approx(alone.residual_sd, rel=1e-9)
            assert figures["r_squared"] == pytest.approx(alone.r_squared, rel=1e-9)
        else:
            assert figures["deviance"] == pytest.approx(alone.deviance, rel=1e-9)


@pytest.mark.parametrize(
    "model", ["y given x, h", "c per e given x", "yes given x", "waste given x"]
)
def test_the_test_is_that_of_all_terms_crossed_with_the_group(model):
    options = {"family": "gamma", "link": "log"} if model.startswith("waste") else {}
    fits = each_and_crossed(model, options)
    found = fits.test().frame.iloc[0]
    response, _, terms = model.partition(" given ")
    whole = jn.fit(TABLE, f"{response} given {terms}", **options)
    crossed = jn.fit(
        TABLE,
        f"{response} given g, {', '.join(f'crossed(g, {t})' for t in terms.split(', '))}",
        **options,
    )
    table = jn.compare(whole, crossed).frame.iloc[1]
    assert found["df"] == table["df"]
    assert found["p"] == pytest.approx(table["p"], rel=1e-6)


def test_what_is_learnt_is_learnt_once_from_all_rows():
    fits = jn.fit_each(TABLE, "y given spline(x, columns=3), standardized(z), h", by="k")
    knots = {str(f._fitted.design.factor_memory) for f in fits.fits.values()}
    means = {str(f._fitted.design.function_memory) for f in fits.fits.values()}
    assert len(knots) == len(means) == 1
    assert set(fits.coefficients["group"]) == {"1", "2"}


def test_groups_that_cannot_be_fitted_or_not_whole_say_so():
    table = TABLE.assign(g=TABLE["g"].where(TABLE.index > 0, "one row"))
    table.loc[table["g"] == "b", "h"] = "p"
    table.loc[5, "g"] = None
    fits = jn.fit_each(table, "y given x, h", by="g")
    assert "one row" in fits.figures["group"].tolist()
    b = fits.coefficients.frame.query("group == 'b' and term == 'h: q'")
    assert b["estimate"].isna().all()
    assert "not every coefficient could be estimated in b, one row" in " ".join(str(fits).split())
    assert int(fits.figures["n_rows"].sum()) == N - 1
    assert "no g" in str(fits.fits["a"]) or fits.fits["a"].left_out


def test_spreads_that_differ_are_said_and_each_group_then_keeps_its_own():
    wide = TABLE.assign(y=TABLE["y"] + RNG.normal(0, 1, N) * np.where(TABLE["g"] == "b", 6.0, 0.0))
    fits = jn.fit_each(wide, "y given x", by="g")
    notes = str(fits.test().notes)
    assert "the groups' spreads differ (p < 0.001)" in notes
    assert "Johansen" in notes
    two = jn.fit_each(wide[wide["g"] != "c d"], "y given nothing", by="g")
    found = two.test().frame.iloc[0]  # of two means, Welch's t
    a, b = (wide.loc[wide["g"] == g, "y"] for g in "ab")
    va, vb = a.var() / len(a), b.var() / len(b)
    df = (va + vb) ** 2 / (va**2 / (len(a) - 1) + vb**2 / (len(b) - 1))
    assert found["f"] == pytest.approx((a.mean() - b.mean()) ** 2 / (va + vb), rel=0.02)
    assert found["residual_df"] == pytest.approx(df, rel=0.02)


@pytest.mark.parametrize("uneven", [False, True])
def test_the_test_holds_its_size(uneven):
    rng, times, hits = np.random.default_rng(5), draws(300), 0
    groups = np.repeat([0, 1, 2, 3], [12, 20, 30, 16])
    spread = np.array([1.0, 4.0, 1.0, 2.0])[groups] if uneven else 1.0
    for _ in range(times):
        x = rng.normal(size=len(groups))
        table = {"x": x, "y": 1 + x + spread * rng.normal(size=len(groups)), "g": groups}
        hits += jn.fit_each(table, "y given x", by="g").test()["p"][0] < 0.05
    assert abs(hits / times - 0.05) < by_chance(0.05, times)


def test_saved_loaded_pickled_reported_and_drawn(tmp_path):
    fits = jn.fit_each(TABLE, "y given x, h", by=["g", "k"])
    assert fits.figures["group"].tolist()[:3] == ["a, 1", "a, 2", "b, 1"]
    loaded = jn.load(fits.save(tmp_path / "set.json"))
    for one in (loaded, pickle.loads(pickle.dumps(fits))):
        assert one.coefficients == fits.coefficients
        assert one.figures == fits.figures
        assert one.test() == fits.test()
        assert str(one) == str(fits)
        assert one.fits["b, 2"].coefficients() == fits.fits["b, 2"].coefficients()
    content = json.loads((tmp_path / "set.json").read_text())
    content["arrays"]["b"][0][0] = 1.0
    (tmp_path / "set.json").write_text(json.dumps(content))
    with pytest.raises(jn.FileFormatError, match="changed after it was written"):
        jn.load(tmp_path / "set.json")
    page = fits.report(tmp_path / "page.html").read_text()
    assert page.count("<svg") == 2
    assert "a, 1" in page
    for name in ("coefficients", "lines"):
        figure = fits.draw(name, path=tmp_path / f"{name}.png")
        titles = {ax.get_title(loc="left") for ax in figure.axes}
        assert {"x", "h: q"} <= titles if name == "coefficients" else {"a, 1", "c d, 2"} <= titles
        plt.close(figure)
    with pytest.raises(KeyError):
        fits.fits["nowhere"]


def test_rows_left_in_files_give_the_same_groups(tmp_path):
    TABLE.to_parquet(tmp_path / "t.parquet", row_group_size=50)
    left, held = (jn.fit_each(t, "y given x, h", by="g") for t in (tmp_path / "t.parquet", TABLE))
    assert left.coefficients == held.coefficients
    assert left.test() == held.test()


@pytest.mark.parametrize(
    ("ask", "said"),
    [
        ({"by": "q"}, "no column 'q' for by="),
        ({"by": ["g", "g"]}, "one column or several, each once"),
        ({"by": []}, "one column or several"),
        ({"by": "g", "family": "odd"}, "family"),
    ],
)
def test_slips_are_told(ask, said):
    with pytest.raises(jn.JoineryError, match=said):
        jn.fit_each(TABLE, "y given x", **ask)
    with pytest.raises(jn.CallError, match="picture"):
        jn.fit_each(TABLE, "y given x", by="g").draw("odd")


def test_the_command_fits_each_group(joinery, tmp_path):
    given = ("sample:yields", "honey_kg given forage_km2", "--by", "hive_type")
    status, out, _ = joinery("fit-each", *given)
    assert (status, "for each hive_type" in out) == (0, True)
    fits = jn.fit_each("sample:yields", "honey_kg given forage_km2", by="hive_type")
    assert joinery("fit-each", *given, "--as", "csv")[1] == fits.coefficients.render("csv")
    saved, page = str(tmp_path / "set.json"), str(tmp_path / "page.html")
    status, _, said = joinery(
        "fit-each", *given, "--save", saved, "--report", page, "--pictures", str(tmp_path)
    )
    assert status == 0, said
    assert (tmp_path / "lines.png").exists()
    assert joinery("fit-each", saved, "--full")[0] == 0
    status, _, said = joinery("coefficients", saved)
    assert (status, "joinery fit-each" in said) == (2, True)
    assert joinery("fit-each", *given[:2])[0] == 2


def test_the_page_of_groups_has_the_names_of_columns_as_they_were_given():
    page = str(jn.fit_each("sample:yields", "honey_kg given feed_kg", by="hive_type").page)
    assert "feed_kg" in page.splitlines()[2]
