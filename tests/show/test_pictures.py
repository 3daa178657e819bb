"""Every picture on awkward tables: nothing written covers other writing or leaves the figure."""

from __future__ import annotations

import contextlib
import re
import warnings
from itertools import combinations

import matplotlib.pyplot as plt
import numpy as np
import pandas as pd
import pytest
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.colors import to_rgb
from matplotlib.text import Text
from tests.draws import draws

import joinery as jn
from joinery.show.pictures.canvas import names_as_they_are
from joinery.show.pictures.layout import shown_ticks
from joinery.study.picture_list import PICTURES

LONG = "a_predictor_with_a_name_of_forty_signs_{:02d}"


def long_names():
    rng = np.random.default_rng(0)
    X = rng.normal(50, 10, (60, 15))
    table = pd.DataFrame(X, columns=[LONG.format(i) for i in range(15)])
    table["the_response_with_a_name_of_forty_signs_"] = X[:, :3].sum(axis=1) + rng.normal(0, 9, 60)
    names = ", ".join(table.columns[:15])
    return table, f"the_response_with_a_name_of_forty_signs_ given {names}"


def dates():
    rng = np.random.default_rng(1)
    day = pd.date_range("2021-03-01", periods=80, freq="9D")
    return pd.DataFrame({"day": day, "kg": np.arange(80) + rng.normal(0, 9, 80)}), "kg given day"


def levels():
    rng = np.random.default_rng(2)
    place = [f"apiary number {i:02d} by the long lane" for i in rng.integers(0, 40, 300)]
    table = pd.DataFrame({"place": place, "x": rng.normal(0, 1, 300)})
    return table.assign(y=rng.normal(5, 1, 300) + table["x"]), "y given x, place"


def three_rows():
    return pd.DataFrame({"x": [1.0, 2.0, 4.0], "y": [2.0, 1.0, 5.0]}), "y given x"


def many():
    rng = np.random.default_rng(3)
    x = rng.normal(0, 1, 20_000)
    x[:3] = 30, -25, 28
    return pd.DataFrame({"x": x, "y": x + rng.standard_t(3, 20_000)}), "y given x"


def negative():
    rng = np.random.default_rng(4)
    x = rng.normal(-5e6, 1e6, 50)
    return pd.DataFrame({"x": x, "y": 2 * x + rng.normal(0, 1e6, 50)}), "y given x"


def yes_no():
    rng = np.random.default_rng(5)
    x, g = rng.normal(0, 1, 200), rng.choice(["long", "short"], 200)
    return pd.DataFrame({"x": x, "g": g, "yes": rng.random(200) < 0.17}), "yes given x, g"


def marks():
    rng = np.random.default_rng(6)
    x = rng.normal(5, 1, 30)
    table = pd.DataFrame({"price in $ and $x_1$": x, "蜂蜜\nkg 🐝": 3 + x + rng.normal(0, 1, 30)})
    return table.set_axis([f"$row_{i}$" for i in range(30)]), (
        '"蜂蜜\nkg 🐝" given "price in $ and $x_1$"'
    )


def gaps():
    rng = np.random.default_rng(7)
    x = np.concatenate([rng.uniform(0, 3, 40), rng.uniform(90, 99, 40)])
    return pd.DataFrame({"x": x, "y": 0.1 * x + rng.normal(0, 1, 80)}), "y given x"


TABLES = (long_names, dates, levels, three_rows, many, negative, yes_no, marks, gaps)


def writing(figure):
    """Everything that is read on a figure: (words, box in pixels, axes)."""
    renderer = FigureCanvasAgg(figure).get_renderer()
    with names_as_they_are():
        figure.draw(renderer)
        return _writing(figure, renderer)


def _writing(figure, renderer):
    out = []
    for ax in figure.axes:
        ticks = {
            label
            for axis in (ax.xaxis, ax.yaxis)
            for tick in axis.get_major_ticks()
            for label in (tick.label1, tick.label2)
        }
        texts = [t for t in ax.findobj(Text) if t not in ticks] if ax.axison else list(ax.texts)
        shown = [t for axis in (ax.xaxis, ax.yaxis) for t, _ in shown_ticks(ax, axis, renderer)]
        out += [(t, t.get_window_extent(renderer)) for t in (*texts, *shown)]
    out += [(t, t.get_window_extent(renderer)) for t in figure.texts]
    return [(t.get_text(), b) for t, b in out if t.get_visible() and t.get_text().strip()]


def faults(figure):
    """What is wrong with what is written on a figure, in words."""
    texts, page = writing(figure), figure.bbox
    slack = 1.5  # pixels of air that an extent has around its letters
    for words, b in texts:
        if b.x0 < -slack or b.y0 < -slack or b.x1 > page.x1 + slack or b.y1 > page.y1 + slack:
            yield f"leaves the figure: {words!r}"
    for (a, p), (b, q) in combinations(texts, 2):
        wide = min(p.x1, q.x1) - max(p.x0, q.x0)
        high = min(p.y1, q.y1) - max(p.y0, q.y0)
        if wide > slack and high > slack:
            yield f"{a!r} covers {b!r}"


def drawn(fit, name):
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        return fit.draw(name)


@pytest.mark.sampled(7)
@pytest.mark.parametrize("make", TABLES)
@pytest.mark.parametrize("name", [n for n in PICTURES if n != "forecast"])
def test_what_is_written_on_pictures_of_a_fit_can_be_read(make, name):
    table, model = make()
    fit = jn.fit(table, model)
    with contextlib.suppress(jn.CallError):  # some pictures need what some models lack
        assert not list(faults(drawn(fit, name)))


@pytest.mark.sampled(5)
@pytest.mark.simulation
@pytest.mark.parametrize("make", TABLES)
@pytest.mark.parametrize("name", ["columns", "response", "matrix"])
def test_what_is_written_on_pictures_of_a_look_can_be_read(make, name):
    table, model = make()
    look = jn.look(table, model)
    with contextlib.suppress(jn.CallError):
        assert not list(faults(look.draw(name)))


ASKED = [
    ("simple_slopes", {"of": 0, "across": 1}),
    ("line", {"against": 0, "across": 1}),
    ("line", {"against": 0, "beside": True}),
    ("joint_region", {}),
    ("level_differences", {"reference": True, "correction": "holm"}),
]


@pytest.mark.sampled(7)
@pytest.mark.parametrize("make", TABLES)
@pytest.mark.parametrize(("name", "options"), ASKED)
def test_what_is_written_on_pictures_of_two_things_can_be_read(make, name, options):
    table, model = make()
    fit = jn.fit(table, model)
    columns = [n for n in table.columns if n in model and n not in model.partition(" given ")[0]]
    named = {k: columns[v] for k, v in options.items() if v in (0, 1) and v < len(columns)}
    if options.get("beside") is True:
        named["beside"] = fit.revise(response=model.partition(" given ")[0], level=0.9)
    if "reference" in options and "place" in table:
        named |= {"reference": table["place"][0], "correction": "holm"}
    with contextlib.suppress(jn.CallError):
        assert not list(faults(drawn_with(fit, name, named)))


def drawn_with(fit, name, options):
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        return fit.draw(name, **options)


def test_residuals_against_forty_levels_stand_under_one_another():
    table, model = levels()
    figure = jn.fit(table, model).draw("residuals", against="place")
    assert not list(faults(figure))
    assert len(figure.axes[0].get_yticklabels()) == 40


def test_a_series_has_its_forecasts_after_the_rows():
    table = jn.sample_data("hive_scale")
    table.loc[table.index[-7:], "gain_kg"] = None
    fit = jn.fit(table, "gain_kg given temperature_c, rain_mm", order="date")
    figure = fit.draw("series")
    ahead = figure.axes[0].lines[2].get_xydata()
    assert ahead[:, 1] == pytest.approx(fit.forecast()["fitted"].to_numpy())
    days = pd.to_datetime(table["date"]).to_numpy().astype("datetime64[D]").astype(float)
    assert ahead[:, 0] == pytest.approx(days[-7:])
    plain = jn.fit(table.dropna(), "gain_kg given rain_mm").draw("series", new={"rain_mm": [1.0]})
    assert not list(faults(plain))


def luminance(color):
    rgb = np.array(to_rgb(color))
    linear = np.where(rgb <= 0.04045, rgb / 12.92, ((rgb + 0.055) / 1.055) ** 2.4)
    return float(linear @ (0.2126, 0.7152, 0.0722))


@pytest.mark.sampled(7)
@pytest.mark.simulation
@pytest.mark.parametrize("make", [yes_no, dates, many])
@pytest.mark.parametrize("name", [n for n in PICTURES if n != "forecast"])
def test_pictures_in_a_dark_style_are_dark_and_legible(make, name):
    table, model = make()
    with plt.style.context("dark_background"), contextlib.suppress(jn.CallError):
        figure = drawn(jn.fit(table, model), name)
        assert luminance(figure.get_facecolor()) == 0
        for text in figure.findobj(Text):
            lighter = luminance(text.get_color()) + 0.05
            assert not text.get_text() or lighter / 0.05 >= 4.5
        assert not list(faults(figure))


@pytest.mark.simulation
def test_a_report_keeps_its_own_grounds_in_any_style(tmp_path):
    fit = jn.fit("sample:jars", "jars_sold given hours_open")
    page = fit.report(tmp_path / "a.html").read_text()
    with plt.style.context("dark_background"):
        assert fit.report(tmp_path / "b.html").read_text() == page


@pytest.mark.sampled(5)
@pytest.mark.parametrize("make", [yes_no, long_names])
@pytest.mark.parametrize("name", ["line", "checks", "leverage", "coefficients"])
@pytest.mark.parametrize("way", ["figsize", "resized", "letters", "part"])
def test_a_size_that_is_asked_for_is_kept_with_all_writing_inside(make, name, way):
    table, model = make()
    fit = jn.fit(table, model)
    high = 12.0 if name == "checks" else 6.0
    if way == "part":
        outer = plt.figure(figsize=(16, high), layout=None)
        figure = fit.draw(name, ax=outer.subfigures(1, 2)[1])
        assert figure is not outer
        assert outer.axes == figure.axes
        outer.set_size_inches(16, high)
        assert not list(faults(outer))
        plt.close(outer)
    elif way == "letters":
        with plt.rc_context({"font.size": 12, "figure.dpi": 90}):
            figure = fit.draw(name, figsize=(10, 1.3 * high))
            assert figure.dpi == 90
            assert not list(faults(figure))
    else:
        figure = fit.draw(name, figsize=(7, high) if way == "figsize" else None)
        if way == "resized":
            figure.set_size_inches(7, high)
        assert figure.get_size_inches().tolist() == [7, high]
        assert not list(faults(figure))


@pytest.mark.parametrize("size", [(1, 4), (4,), "6, 4", (np.nan, 3), 5])
def test_a_size_that_is_none_is_refused(size):
    with pytest.raises(jn.CallError, match="a width and a height in inches"):
        jn.fit("sample:jars", "jars_sold given hours_open").draw("line", figsize=size)


PLACE = "apiary name, as on the label"


@pytest.fixture(scope="module")
def awkward():
    rng = np.random.default_rng(4)
    names = rng.choice(["Hill Farm", "Mill Lane", "Óbidos–Norte"], 60)
    table = pd.DataFrame({PLACE: names, "dose": rng.uniform(0, 3, 60), "pop": 5000.0})
    table["y"] = table["dose"] + rng.normal(size=60)
    table["cases"] = rng.poisson(table["pop"] * np.exp(-6 + 0.6 * table["dose"]))
    return table


@pytest.mark.parametrize("picture", ["adjusted_means", "level_differences"])
@pytest.mark.parametrize("options", [{}, {"term": PLACE}, {"term": f'"{PLACE}"'}])
def test_a_category_is_drawn_by_its_bare_name(awkward, picture, options):
    fit = jn.fit(awkward, f'y given dose, "{PLACE}"')
    assert fit.draw(picture, **options).axes


def test_a_rate_is_carried_over_where_its_curve_is_drawn(awkward):
    fit = jn.fit(awkward, "cases per pop given dose", family="poisson")
    (row,) = fit.inverse("dose", 0.006).frame.itertuples()
    ax = fit.draw("inverse", of="dose", at=0.006).axes[0]
    reading = next(line for line in ax.lines if len(line.get_xdata()) == 3)
    assert reading.get_ydata()[0] == pytest.approx(0.006 * 5000)
    assert reading.get_xdata()[1] == pytest.approx(row.value)
    at_value = fit.forecast({"dose": [row.value], "pop": [5000.0]}).frame["fitted"].iloc[0]
    assert at_value == pytest.approx(0.006 * 5000)


@pytest.mark.parametrize(("n", "has"), [(3, {"1", "2", "3"}), (12_000, {"2,000", "10,000"})])
def test_rows_are_counted_by_whole_numbers_with_their_thousands_apart(n, has):
    x = np.linspace(0, 1, n)
    figure = jn.fit({"x": x, "y": x + np.sin(9e3 * x)}, "y given x").draw("sequence")
    figure.canvas.draw()
    labels = {tick.get_text() for tick in figure.axes[0].get_xticklabels()}
    assert has <= labels
    assert not any("." in label for label in labels)


def test_a_histogram_of_a_family_is_of_quantile_residuals(awkward):
    fit = jn.fit(awkward, "cases given dose", family="poisson")
    assert fit.draw("histogram").axes[0].get_xlabel() == "quantile residual"


def test_a_row_that_moves_a_coefficient_is_told_by_the_picture_of_influence(awkward):
    table = awkward.copy()
    table.loc[0, "y"] = 60.0
    fit = jn.fit(table, f'y given dose, "{PLACE}"')
    finding = " ".join(text.get_text() for text in fit.draw("influence").texts)
    assert "no row decides" not in finding
    assert re.search(r"row 0 (moves|decides)|1 row decides", " ".join(finding.split()))


def test_a_reading_of_a_transformed_response_is_carried_over_on_the_fitted_scale():
    rng = np.random.default_rng(1)
    w = rng.uniform(1, 9, 50)
    fit = jn.fit({"w": w, "price": np.exp(0.3 * w + rng.normal(0, 0.1, 50))}, "log(price) given w")
    ax = fit.draw("inverse", of="w", at=8.0).axes[0]
    reading = next(line for line in ax.lines if len(line.get_xdata()) == 3)
    assert reading.get_ydata()[0] == pytest.approx(np.log(8))


@pytest.mark.parametrize(("power", "bent"), [(1.0, False), (2.2, True)])
def test_a_picture_calls_a_trend_what_the_checks_call_one(power, bent):
    for seed in range(draws(8)):
        rng = np.random.default_rng(seed)
        x = rng.uniform(0, 4, 150)
        yes = rng.random(150) < 1 / (1 + np.exp(-1.5 * (x - 2)))
        y = x**power + rng.normal(0, 0.5, 150)
        for table, model in (({"x": x, "y": y}, "y given x"), ({"x": x, "y": yes}, "y given x")):
            fit = jn.fit(table, model)
            checks = fit.checks().frame
            straight = checks.loc[checks["question"] == "Is each relation straight?", "verdict"]
            judged = bool(straight.isin(["slight", "caution", "serious"]).any())
            for picture in ("residuals", "component_residual"):
                words = " ".join(" ".join(t.get_text() for t in fit.draw(picture).texts).split())
                claimed = "bend" in words or "does not go up" in words
                assert claimed <= judged, words
        assert not bent or judged or table["y"] is yes
    plt.close("all")


def test_a_reading_that_no_value_gives_is_said_by_its_picture():
    x = np.linspace(-2, 2, 60)
    y = x**2 + np.random.default_rng(1).normal(0, 0.1, 60)
    words = jn.fit({"x": x, "y": y}, "y given powers(x, 2)").draw("inverse", of="x", at=-9.0).texts
    assert any("no value from" in text.get_text().replace("\n", " ") for text in words)
