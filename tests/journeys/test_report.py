"""The page to send, in a real browser: linked rows, keyboard, paper, dark, phone, nothing from outside."""

from __future__ import annotations

import base64
import html
import json
import re
import warnings
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import joinery as jn
from joinery.hand_over import report
from tests.engines import headless_browser

NASTY = '<img src=x onerror="document.title=1">'
HONEY = "honey_kg given forage_km2, feed_kg * rain_days, hive_type"


@pytest.fixture(scope="module")
def browser():
    with headless_browser() as found:
        yield found


@pytest.fixture(scope="module")
def page(tmp_path_factory):
    path = tmp_path_factory.mktemp("page") / "honey.html"
    return jn.fit("sample:yields", HONEY, id="hive").report(path)


def opened(browser, path, rows=""):
    browser.get("about:blank")
    browser.get(path.as_uri() + rows)
    return browser


def marked(browser, kind="kept"):
    """Which rows are marked, and in how many pictures and tables."""
    script = f"return [...document.querySelectorAll('.{kind}')].map(m => [m.dataset.r, m.tagName])"
    found = browser.execute_script(script)
    return {r for r, _ in found}, sorted(tag.lower() for _, tag in found)


def test_a_row_chosen_in_one_place_is_marked_in_all(browser, page):
    opened(browser, page)
    label = "H058"
    browser.execute_script(
        "document.querySelectorAll('g.points circle[data-r=\"5\"]')[0].dispatchEvent(new MouseEvent('click', {bubbles: true}))"
    )
    rows, tags = marked(browser)
    assert rows == {"5"}
    assert tags.count("circle") >= 6
    assert tags.count("tr") == 1
    assert "#rows=" in browser.current_url
    assert "fitted" in browser.find_element("id", "shown").text
    search = browser.find_element("id", "search")
    search.send_keys(label, "\n")
    assert len(marked(browser)[0]) == 2
    assert label in browser.current_url
    # the address shows the same rows to whoever opens it
    opened(browser, page, "#rows=H058,H031")
    assert len(marked(browser)[0]) == 2
    shown = browser.find_element("id", "shown").text
    assert "H031" in shown
    assert "forage_km2" in shown
    browser.find_element("id", "clear").click()
    assert marked(browser)[0] == set()
    search = browser.find_element("id", "search")
    search.send_keys("nobody", "\n")
    assert "no row is called nobody" in browser.find_element("id", "shown").text


def test_it_works_by_keyboard_alone(browser, page):
    opened(browser, page)
    browser.execute_script("document.querySelector('tr[data-r=\"7\"] button').focus()")
    assert marked(browser, "near")[0] == {"7"}
    active = browser.switch_to.active_element
    active.send_keys(" ")
    assert marked(browser)[0] == {"7"}
    assert active.get_attribute("aria-pressed") == "true"
    active.send_keys("")
    from selenium.webdriver.common.keys import Keys

    active.send_keys(Keys.ESCAPE)
    assert marked(browser)[0] == set()
    opened(browser, page)
    browser.find_element("tag name", "body").send_keys(Keys.TAB)
    assert browser.switch_to.active_element.text == "to the page"


def test_nothing_is_asked_for_and_nothing_complains(browser, page):
    browser.get_log("performance")
    browser.get_log("browser")
    opened(browser, page, "#rows=H058")
    sent = [json.loads(entry["message"])["message"] for entry in browser.get_log("performance")]
    asked = [
        m["params"]["request"]["url"] for m in sent if m["method"] == "Network.requestWillBeSent"
    ]
    assert [url for url in asked if url.startswith("http")] == []
    assert all(url.startswith(("file:", "data:", "about:")) for url in asked)
    assert browser.get_log("browser") == []
    text = page.read_text("utf-8")
    assert "default-src 'none'" in text
    assert "http://" not in text.replace("http://www.w3.org/2000/svg", "").replace(
        "http://www.w3.org/1998/Math", ""
    )


@pytest.mark.sampled(2)
@pytest.mark.parametrize("dark", [False, True])
def test_an_accessibility_audit_finds_nothing_serious(browser, page, dark):
    import axe_core_python

    engine = next(Path(axe_core_python.__file__).parent.rglob("axe.min.js")).read_text("utf-8")
    scheme = [{"name": "prefers-color-scheme", "value": "dark" if dark else "light"}]
    browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": scheme})
    opened(browser, page)
    browser.execute_script("document.querySelectorAll('details').forEach(d => { d.open = true; })")
    browser.execute_script(engine)
    found = browser.execute_async_script(
        "const done = arguments[arguments.length - 1]; axe.run({resultTypes: ['violations']}).then(done)"
    )
    grave = [v for v in found["violations"] if v["impact"] in ("serious", "critical")]
    assert [(v["id"], v["nodes"][0]["html"][:200]) for v in grave] == []
    ground = browser.execute_script("return getComputedStyle(document.body).backgroundColor")
    assert ground == ("rgb(23, 33, 38)" if dark else "rgb(255, 255, 255)")
    browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": []})


def test_on_a_phone_nothing_is_wider_than_the_screen(browser, page):
    size = {"width": 390, "height": 800, "deviceScaleFactor": 1, "mobile": True}
    browser.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
    opened(browser, page)
    wide = browser.execute_script("return document.documentElement.scrollWidth")
    browser.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})
    assert wide <= 390


def test_a_wide_screen_has_pictures_side_by_side_and_verdicts_first(browser, page):
    browser.set_window_size(1280, 800)
    opened(browser, page)
    boxes = "return [...document.querySelectorAll('.pictures figure')].slice(0, 2).map(f => f.getBoundingClientRect()).map(b => [b.top, b.left, b.width])"
    (first_top, first_left, wide), (top, left, _) = browser.execute_script(boxes)
    assert first_top == pytest.approx(top, abs=2)
    assert left > first_left + wide
    seen = "return [...document.querySelectorAll('#rows thead th')].filter(t => t.offsetWidth).map(t => t.textContent)"
    heads = browser.execute_script(seen)
    assert heads[:3] == ["hive", "verdict", "reason"]
    assert "DFFITS" not in heads
    fits = "const t = document.querySelector('#rows .table'); return t.scrollWidth <= t.clientWidth"
    assert browser.execute_script(fits)
    browser.find_element("css selector", "#rows .more-switch").click()
    assert "DFFITS" in browser.execute_script(seen)
    browser.execute_script("document.getElementById('rows').scrollIntoView()")
    nav = browser.execute_script("return document.querySelector('nav').getBoundingClientRect().top")
    assert 0 <= nav < 5


def test_it_prints(browser, page, tmp_path):
    opened(browser, page)
    pdf = base64.b64decode(
        browser.execute_cdp_cmd("Page.printToPDF", {"printBackground": True})["data"]
    )
    assert pdf.startswith(b"%PDF")
    assert (
        5
        <= pdf.count(b"/Type /Page\n") + pdf.count(b"/Type /Page>") + pdf.count(b"/Type /Page ")
        <= 25
    )


def test_without_scripts_everything_is_there(browser, page):
    browser.execute_cdp_cmd("Emulation.setScriptExecutionDisabled", {"value": True})
    opened(browser, page)
    browser.execute_cdp_cmd("Emulation.setScriptExecutionDisabled", {"value": False})
    text = browser.find_element("tag name", "main").text
    for words in (
        "Before you read on",
        "In short",
        "What each term explains",
        "Not to be read into it",
    ):
        assert words in text
    assert not browser.find_element("id", "search").is_displayed()


def test_hostile_names_are_inert(browser, tmp_path):
    rng = np.random.default_rng(2)
    table = pd.DataFrame({NASTY: rng.normal(size=30), "g": rng.choice([NASTY, "</script>"], 30)})
    table["y"] = table[NASTY] + rng.normal(size=30)
    table.index = [f"</script>{NASTY}{i}" for i in range(30)]
    column = '"' + NASTY.replace('"', '""') + '"'
    path = jn.fit(table, f"y given {column}, g", labels={"y": NASTY}).report(tmp_path / "n.html")
    browser.get_log("browser")
    opened(browser, path, "#rows=%3Cscript%3E")
    assert browser.find_elements("tag name", "img") == []
    assert browser.title != "1"
    assert browser.get_log("browser") == []
    assert browser.execute_script("return document.querySelectorAll('tr[data-r]').length") == 30


@pytest.mark.sampled(2)
@pytest.mark.parametrize(("rows", "most"), [(500, 1.5e6), (5000, 5e6), (20_000, 5e6)])
def test_the_file_is_small(rows, most, tmp_path):
    rng = np.random.default_rng(3)
    table = pd.DataFrame(rng.normal(size=(rows, 3)), columns=["first", "second", "third"])
    table["y"] = table.sum(axis=1) + rng.normal(size=rows)
    path = jn.fit(table, "y given first, second, third").report(tmp_path / "big.html")
    assert path.stat().st_size < most


def test_code_too_long_for_a_page_is_left_to_be_asked_for(tmp_path, monkeypatch):
    fit = jn.fit("sample:jars", "jars_sold given hours_open")
    monkeypatch.setattr(report, "MOST_CODE", 100)
    text = html.unescape(fit.report(tmp_path / "a.html").read_text("utf-8"))
    long, asked = re.search(
        r"each is some (\d+) characters long; fit(.*?) writes it", text
    ).groups()
    assert asked == '.equation(style="sql", part="mean_lower")'
    assert len(fit.equation(style="sql", part="mean_lower")) == int(long)


@pytest.mark.sampled(2)
@pytest.mark.parametrize(
    ("model", "options", "words"),
    [
        ("y given nothing", {}, "Without predictors|typical"),
        ("twice given x", {}, "perfect fit"),
        ("one given x", {}, "nothing to"),
        ("y given x, when", {"order": "when"}, "Durbin"),
        ("yes given x, g", {"std_errors": "clustered", "cluster": "g"}, "clustered"),
        ("n given x", {"family": "poisson", "repeats": "r"}, "poisson family"),
    ],
)
def test_awkward_fits_have_a_page_and_a_book(model, options, words, tmp_path):
    rng = np.random.default_rng(4)
    table = pd.DataFrame(
        {"x": rng.normal(size=40), "g": np.arange(40) // 5, "one": 1.0, "r": rng.integers(0, 3, 40)}
    )
    table["when"] = pd.Timestamp("2024-01-01") + pd.to_timedelta(np.arange(40), "D")
    table = table.assign(
        y=rng.normal(size=40), twice=2 * table["x"], yes=rng.random(40) < 0.5, n=rng.poisson(3, 40)
    )
    fit = jn.fit(table, model, **options)
    assert re.search(words, fit.report(tmp_path / "a.html").read_text("utf-8"))
    assert fit.write(tmp_path / "a.xlsx").stat().st_size > 5000


def test_fits_side_by_side(browser, tmp_path, joinery):
    one = jn.fit("sample:yields", HONEY, id="hive")
    path = jn.report(tmp_path / "two.html", one, one.revise(drop="hive_type", leave_out=["H089"]))
    opened(browser, path, "#rows=H058")
    rows, tags = marked(browser)
    assert len(rows) == 1
    assert tags.count("tr") == 2
    heads = browser.execute_script(
        "return [...document.querySelectorAll('h2')].map(h => h.textContent)"
    )
    assert heads[0] == "Side by side"
    assert len(heads) == 3
    out = tmp_path / "page.html"
    assert (
        joinery(
            "report",
            "sample:bee_samples",
            "mites per bees_sampled given treatment",
            "--output",
            out,
        )[0]
        == 0
    )
    assert "a Python function" in out.read_text("utf-8")
    saved = one.save(tmp_path / "h.json")
    with pytest.raises(jn.CallError, match="keeps no rows|loaded"):
        jn.load(saved).report(out)
    with pytest.raises(jn.CallError, match="report takes a fit"):
        jn.report(out)


TRIED = [
    (HONEY + ", swarmed", {"id": "hive"}, "sample:yields"),
    ("log(price) given weight_g, source", {}, "sample:prices"),
    ("survived of colonies given altitude_m, forage_km2", {}, "sample:winter"),
    ("mites per bees_sampled given treatment", {}, "sample:bee_samples"),
    (
        "gain_kg given date, temperature_c, month(date)",
        {"offset": "(0.1 * rain_mm)"},
        "sample:hive_scale",
    ),
]


@pytest.mark.sampled(2)
@pytest.mark.parametrize(("sentence", "options", "data"), TRIED, ids=lambda v: str(v)[:30])
def test_values_tried_on_the_page_are_those_of_forecast(sentence, options, data, browser, tmp_path):
    fit = jn.fit(data, sentence, **options)
    opened(browser, fit.report(tmp_path / "try.html"))
    about = json.loads(
        browser.execute_script("return document.querySelector('form.try').dataset.about")
    )
    new = {}
    for i, column in enumerate(about["columns"]):
        if column["kind"] == "number":
            value = column["low"] + 0.37 * (column["high"] - column["low"])
        elif column["kind"] == "date":
            value = column["to"]
        else:
            value = column["levels"][-1]
        new[column["name"]] = [value]
        script = "const f = document.getElementById('try-1-' + arguments[0]); f.value = arguments[1]; f.dispatchEvent(new Event('input'))"
        browser.execute_script(script, i, str(value))
    shown = json.loads(
        browser.execute_script("return document.querySelector('form.try output').dataset.values")
    )
    frame = pd.DataFrame(new)
    if "date" in frame:
        frame["date"] = pd.to_datetime(frame["date"])
    truth = fit.forecast(frame).frame.iloc[0]
    assert "fitted" in shown
    assert ("new_upper" in shown) == (fit.family == "normal")
    for part, value in shown.items():
        assert float(value) == pytest.approx(truth[part], rel=1e-12), part
    assert (
        browser.execute_script("return document.querySelector('form.try .remark').textContent")
        == ""
    )
    assert [e for e in browser.get_log("browser") if e["level"] == "SEVERE"] == []
    browser.execute_script(
        "const f = document.querySelector('form.try input[type=number]'); if (f) { f.value = 1e7; f.dispatchEvent(new Event('input')); }"
    )
    if any(c["kind"] == "number" for c in about["columns"]):
        assert "outside what was seen" in browser.execute_script(
            "return document.querySelector('form.try .remark').textContent"
        )


def test_the_mark_of_the_line_follows_what_is_tried_and_hostile_names_do_nothing(browser, tmp_path):
    fit = jn.fit("sample:jars", "jars_sold given hours_open")
    opened(browser, fit.report(tmp_path / "jars.html"))
    place = "const m = document.querySelector('circle.try-mark'); return [m.getAttribute('cx'), m.getAttribute('cy'), m.getAttribute('visibility')].map(String)"
    set_to = "const f = document.querySelector('form.try input[type=range]'); f.value = arguments[0]; f.dispatchEvent(new Event('input'))"
    seen = []
    for hours in (3, 7):
        browser.execute_script(set_to, hours)
        seen.append([float(v) for v in browser.execute_script(place)[:2]])
    (x0, y0), (x1, y1) = seen
    points = "return [...document.querySelector('figure[data-axes] .points').querySelectorAll('circle')].map(c => [+c.getAttribute('cx'), +c.getAttribute('cy')])"
    table = jn.sample_data("jars")
    drawn = browser.execute_script(points)  # the picture's own points settle its scale
    slope = (x1 - x0) / 4
    at = sorted(x0 + (table["hours_open"] - 3) * slope)
    assert sorted(x for x, _ in drawn) == pytest.approx(at, abs=0.3)
    up = (y1 - y0) / float(fit.forecast({"hours_open": [3.0, 7.0]})["fitted"].diff().iloc[1])
    ends = sorted(y0 + (table["jars_sold"] - fit.forecast("hours_open=3")["fitted"][0]) * up)
    assert sorted(y for _, y in drawn) == pytest.approx(ends, abs=0.3)
    nasty = "</script>" + NASTY
    hostile = pd.DataFrame(
        {
            nasty: [1.0, 2, 3, 4, 5],
            "y": [1.0, 2.2, 2.9, 4.1, 5.2],
            "g": [nasty, "b", "b", nasty, "b"],
        }
    )
    bad = jn.fit(hostile, f'y given "{nasty.replace(chr(34), chr(34) * 2)}", g')
    opened(browser, jn.report(tmp_path / "two.html", bad, fit))
    assert browser.title != "1"
    answers = browser.execute_script(
        "return [...document.querySelectorAll('form.try output')].map(o => o.textContent)"
    )
    assert len(answers) == 2
    assert all(text.startswith("fitted ") and "–" not in text for text in answers)


LABELS = {
    "zoned times": pd.date_range("2024-01-01", periods=30, tz="Europe/Berlin"),
    "months": pd.period_range("2020-01", periods=30, freq="M"),
    "intervals": pd.interval_range(0, 30),
    "pairs": pd.MultiIndex.from_product([range(6), list("abcde")]),
    "spans": pd.to_timedelta(np.arange(30), unit="h"),
}


@pytest.mark.sampled(2)
@pytest.mark.parametrize("labels", LABELS)
def test_labels_of_any_kind_reach_every_file(labels, tmp_path):
    rng = np.random.default_rng(0)
    table = pd.DataFrame({"x": rng.normal(size=30)}, index=LABELS[labels])
    table["y"] = table["x"] + rng.normal(size=30)
    fit = jn.fit(table, "y given x")
    rows = fit.rows()
    for ending in ("xlsx", "ods", "parquet", "feather", "csv", "json", "md"):
        assert rows.write(tmp_path / f"rows.{ending}").stat().st_size > 500
    again = pd.read_parquet(tmp_path / "rows.parquet")
    assert again["residual"].tolist() == rows.frame["residual"].tolist()
    assert again.iloc[:, : len(again.columns) - len(rows.columns)].nunique().max() > 4
    for name in ("streamed.parquet", "streamed.csv"):
        fit.write_rows(tmp_path / name)
        fit.write_forecasts(table.head(4), tmp_path / f"forecast_{name}")
    fit.write(tmp_path / "book.xlsx")
    fit.report(tmp_path / "page.html")


@pytest.mark.sampled(4)
@pytest.mark.parametrize("size", [1e-300, 1.0, 1e300])
@pytest.mark.parametrize("beside", [{}, {"same": 2.0}, {"g": "a"}])
def test_pages_of_extreme_sizes_and_columns_left_out(size, beside, tmp_path):
    rng = np.random.default_rng(0)
    table = pd.DataFrame({"x": rng.normal(size=30)}).assign(**beside)
    table["y"] = size * (3 + table["x"] + rng.normal(size=30))
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", jn.JoineryWarning)
        fit = jn.fit(table, f"y given {', '.join(['x', *beside])}")
    assert "R²" in fit.report(tmp_path / "page.html").read_text("utf-8")
    fit.write(tmp_path / "book.xlsx")
    if size == 1:
        plain = jn.fit(table, "y given x").workings()
        assert fit.workings().steps["value"].tolist() == pytest.approx(
            plain.steps["value"].tolist()
        )
    else:
        with pytest.raises(jn.CallError, match="too small or too large for numbers"):
            fit.workings()
