"""Equations as code: run in Python, three databases and a formula evaluator, they give the forecast."""

from __future__ import annotations

import inspect
import json
import re
import shutil
import sqlite3
import subprocess
import warnings

import numpy as np
import pandas as pd
import pytest
from tests import engines

import joinery as jn
from joinery.notation.walk import names_in

RNG = np.random.default_rng(21)
N = 60
TABLE = pd.DataFrame(
    {
        "x": RNG.uniform(1, 9, N),
        "far": 1e9 + RNG.normal(0, 1, N),
        'Size (m²) "a"': RNG.uniform(10, 90, N),
        "class": RNG.choice(["a'b", "A'B", "c d"], N),
        "season": RNG.choice([2019, 2020, 2021], N),
        "swarmed": RNG.random(N) < 0.5,
        "total": RNG.integers(5, 30, N),
        "hours": RNG.uniform(1, 4, N),
        "w": RNG.uniform(0.5, 2, N),
        "when": pd.Timestamp("2023-12-01") + pd.to_timedelta(RNG.integers(0, 90, N), "D"),
    }
)
ETA = 0.5 + 0.1 * TABLE["x"] + 0.3 * TABLE["swarmed"]
TABLE = TABLE.assign(y=np.exp(0.5 * ETA + RNG.normal(0, 0.3, N)), n=RNG.poisson(np.exp(ETA)),
                     won=RNG.binomial(TABLE["total"], 1 / (1 + np.exp(1 - ETA)), N))  # fmt: skip
NEW = TABLE.sample(8, random_state=1).reset_index(drop=True)
NEW.loc[:1, "x"] = [3.0, 6.0]  # where bands begin
SIZE = '"Size (m²) ""a"""'
TERMS = [
    "x, far",
    f"{SIZE}, log(x) * hours, x^2",
    "category(class, coding='effect'), category(season) * x, swarmed",
    "crossed(category(class, coding='helmert'), swarmed)",
    "polynomial(x, 3), spline(hours, columns=3) * swarmed",
    "bands(x, 3, 6), rank(hours), standardized(x), centred(far)",
    "(x > 4 and not class = 'c d'), (hours <= 2 or season != 2020), abs((x - 5)), log1p(hours)",
]
CASES = [(f"y given {terms}", {}) for terms in TERMS] + [
    ("y given x, class without intercept", {}),
    ("y given x, when, (when >= '2024-01-15')", {}),
    ("y given x, merged(class, 'c d' = 'A''B'), pooled(season, least=22) * x", {}),
    ("y given x, pooled(merged(class, 'c d' = 'new', 'a''b' = 'new'), least=3)", {}),
    ("y given category(merged(class, 'c d' = 'new'), reference='new')", {}),
    ("y given month(when), quarter(when) * x", {}),
    ("y given weekday(when), x", {}),
    ("y given x, year(when), hour(when) * x", {}),
    ("y given x, season_waves(hours, period=3, waves=2), season_waves(when, period=30)", {}),
    ("y given x", {"offset": "(hours * 2)", "weights": "w"}),
    *[(f"{response} given x, swarmed", {}) for response in
      ("log(y)", "log10(y)", "log2(y)", "log1p(y)", "sqrt(y)", "exp(y)", "(1 / y)", "y^-2", "y^3", "((3 - y) * 2)")],
    *[("won of total given x, swarmed", {"link": link}) for link in ("logit", "probit", "cloglog", "cauchit")],
    ("n per hours given x, class", {}),
    ("y given x", {"family": "gamma", "link": "inverse"}),
    ("y given x", {"family": "inverse-gaussian", "link": "inverse-square"}),
    ("n given x", {"family": "poisson", "link": "sqrt"}),
]  # fmt: skip
ENDS = ("mean_lower", "mean_upper", "new_lower", "new_upper")


def fitted(case):
    model, options = case
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", jn.JoineryWarning)
        return jn.fit(TABLE, model, **options)


def parts_of(fit):
    middle = "median" if fit._fitted.response.transformed else "mean"
    ends = [name.replace("mean", middle) for name in ENDS]
    return ("fitted", *ends) if fit.family == "normal" else ("fitted",)


def in_python(fit, part, rows):
    from joinery.hand_over.formula.python import identifiers

    room = {}
    exec(fit.equation("python", part=part), room)
    columns = {own: name for name, own in identifiers(run_columns(fit, part)).items()}
    names = {columns[own]: own for own in inspect.signature(room[part]).parameters}
    terms = [name for term in fit._fitted.design.sentence.terms for f in term.factors
             for name in (n.name for n in names_in(f))]  # fmt: skip
    assert [name for name in names if name in terms] == list(dict.fromkeys(terms))
    alone = room[part](**{own: rows[name].iloc[0] for name, own in names.items()})
    together = room[part](*(rows[name].to_numpy() for name in names))
    assert alone == pytest.approx(together[0], rel=1e-13)
    return together


class Sqlite:
    def __init__(self, rows):
        self.connection = sqlite3.connect(":memory:")
        rows.to_sql("t", self.connection)

    def answers(self, expression):
        return [v for (v,) in self.connection.execute(f"SELECT {expression} FROM t ORDER BY rowid")]


class Duckdb:
    def __init__(self, rows):
        import duckdb

        self.connection = duckdb.connect()
        self.connection.register("t", rows.reset_index())

    def answers(self, expression):
        sql = f'SELECT {expression} FROM t ORDER BY "index"'
        return [v for (v,) in self.connection.execute(sql).fetchall()]


class Postgres:
    def __init__(self, rows, connection):
        self.connection = connection
        kinds = {"f": "double precision", "i": "bigint", "b": "boolean", "M": "timestamp"}
        names = ['"' + c.replace('"', '""') + '"' for c in rows]
        columns = ", ".join(
            f"{n} {kinds.get(rows[c].dtype.kind, 'text')}" for n, c in zip(names, rows)
        )
        connection.execute(f"CREATE TEMPORARY TABLE t (place integer, {columns})")
        for place, row in enumerate(rows.itertuples(index=False)):
            values = [None if pd.isna(v) else getattr(v, "item", lambda v=v: v)() for v in row]
            marks = ", ".join(["%s"] * (len(values) + 1))
            connection.execute(f"INSERT INTO t VALUES ({marks})", [place, *values])

    def answers(self, expression):
        expression = expression.replace("%", "%%")
        return [v for (v,) in self.connection.execute(f"SELECT {expression} FROM t ORDER BY place")]


@pytest.fixture(scope="module")
def databases(postgres_url):
    import psycopg

    with psycopg.connect(postgres_url, autocommit=True) as connection:
        yield Sqlite(NEW), Duckdb(NEW), Postgres(NEW, connection)


def in_spreadsheet(fit, part, rows):
    import formulas

    text = fit.equation("spreadsheet", part=part)
    assert len(text) <= 8192
    run = formulas.Parser().ast(text)[1].compile()
    named = dict(zip(cells_of(fit, part), run_columns(fit, part)))
    out = []
    for _, row in rows.iterrows():
        given = [row[named[cell]] for cell in run.inputs]
        given = [
            (v - pd.Timestamp("1899-12-30")).days if isinstance(v, pd.Timestamp) else v
            for v in given
        ]
        given = [None if v is None or v != v else v for v in given]
        value = run(*(np.array([[v]], dtype=object) for v in given)).item()
        out.append(np.nan if str(value) == "#N/A" else value)
    return out


@pytest.fixture(scope="module")
def browser():
    with engines.headless_browser() as found:
        yield found


def in_javascript(browser, fit, part, rows):
    """Each row's value by the function that the browser runs, its arguments by name."""
    text = fit.equation("javascript", part=part)
    own = re.match(rf"function {part}\(([^)]*)\)", text).group(1).split(", ")
    named = dict(re.findall(r"// (\S+): the column (\".*\")$", text, re.MULTILINE))
    columns = [json.loads(named[name]) if name in named else name for name in own]
    cells = [
        [
            v.isoformat()
            if isinstance(v, pd.Timestamp)
            else None
            if pd.isna(v)
            else getattr(v, "item", lambda v=v: v)()
            for v in row
        ]
        for row in rows[columns].itertuples(index=False)
    ]
    script = f"{text}; return arguments[0].map((row) => String({part}(...row)));"
    return [float(v.replace("Infinity", "inf")) for v in browser.execute_script(script, cells)]


def run_columns(fit, part):
    from joinery.hand_over.formula.equation import table_order
    from joinery.study.read.forecast_formula import forecast_formula

    return table_order(fit._fitted, forecast_formula(fit._fitted, part))


def cells_of(fit, part):
    return [f"{'BCDEFGHIJKLMNOP'[i]}2" for i in range(len(run_columns(fit, part)))]


@pytest.mark.sampled(5)
@pytest.mark.parametrize("case", CASES, ids=lambda c: c[0])
def test_code_gives_what_forecast_gives(case, databases, browser):
    fit = fitted(case)
    for part in parts_of(fit):
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", jn.JoineryWarning)
            truth = fit.forecast(NEW)[part].to_numpy(float)
        near = pytest.approx(truth, rel=1e-12, nan_ok=True)
        assert in_python(fit, part, NEW) == near, part
        assert in_javascript(browser, fit, part, NEW) == near, part
        truth = np.where(np.isinf(truth), np.nan, truth)  # other languages have no infinity
        near = pytest.approx(truth, rel=1e-12, nan_ok=True)
        days = "x, when" in case[0] or "season_waves(when" in case[0]
        if days or case[1].get("link") == "probit":
            with pytest.raises(jn.CallError, match="is a date|no normal distribution"):
                fit.equation("sql", part=part)
        else:
            # the first has no EXTRACT of the standard
            for engine in databases["(when)" in case[0] :]:
                assert np.array(engine.answers(fit.equation("sql", part=part)), float) == near, (
                    part,
                    type(engine).__name__,
                )
        if part in ("fitted", "new_upper") and "far" not in case[0]:
            if part != "fitted" and "spline" in case[0]:
                with pytest.raises(jn.CallError, match="a cell takes 8,192"):
                    fit.equation("spreadsheet", part=part)
                continue
            found = in_spreadsheet(fit, part, NEW)
            assert np.array(found, float) == near, part


GAPS = pd.DataFrame({"x": [2.0, None, 3.0, 4.0], "class": ["c d", "a'b", None, " A'B "], "season": [2020, 2021, 2019, 1999],
                     "swarmed": pd.array([True, None, False, True], dtype="object")})  # fmt: skip


def test_missing_cells_are_missing_and_levels_never_seen_refused(postgres_url):
    import psycopg

    fit = jn.fit(TABLE, "y given x, class, category(season), swarmed")
    truth = fit.forecast(GAPS.head(3))["fitted"].tolist()
    assert np.isnan(truth[1:]).all()
    room = {}
    exec(fit.equation("python"), room)
    given = GAPS.rename(columns={"class": "class_"})
    found = room["fitted"](**given.head(3))
    assert found == pytest.approx(truth, nan_ok=True, rel=1e-13)
    with pytest.raises(ValueError, match="season 1999.0 was not among the fitted rows"):
        room["fitted"](**given)
    exec(jn.fit(TABLE, "y given bands(x, 3, 100), hours").equation("python"), room)
    with pytest.raises(ValueError, match="a range of .* was not among"):
        room["fitted"](200.0, 1.0)
    sql = fit.equation("sql")
    with psycopg.connect(postgres_url) as connection:
        for engine in (Sqlite(GAPS), Duckdb(GAPS), Postgres(GAPS, connection)):
            found = np.array(engine.answers(sql), float)
            assert found == pytest.approx(
                [truth[0], np.nan, np.nan, np.nan], nan_ok=True, rel=1e-13
            )
    assert in_spreadsheet(fit, "fitted", GAPS) == pytest.approx(
        [truth[0], np.nan, np.nan, np.nan], nan_ok=True, rel=1e-12
    )


def test_in_javascript_missing_cells_are_missing_and_levels_never_seen_refused(browser):
    fit = jn.fit(TABLE, "y given x, class, category(season), swarmed, when")
    rows = GAPS.head(3).assign(when=["2024-01-02", None, "2024-01-04"])
    truth = fit.forecast(rows.assign(when=pd.to_datetime(rows["when"])))["fitted"].tolist()
    assert in_javascript(browser, fit, "fitted", rows) == pytest.approx(
        truth, nan_ok=True, rel=1e-12
    )
    text = fit.equation("javascript")
    for call, said in (
        ("2, 'c d', 1999, true, '2024-01-02'", "season 1999 was not among"),
        ("2, '</script>', 2020, true, '2024-01-02'", "was not among"),
    ):
        script = f"{text}; try {{ return String(fitted({call})); }} catch (slip) {{ return slip.message; }}"
        assert said in browser.execute_script(script)
    hostile = TABLE.rename(columns={"x": "*/ alert(1) //", "hours": "var", "class": "while"})
    fit = jn.fit(hostile, 'y given "*/ alert(1) //", var, while')
    assert in_javascript(browser, fit, "new_upper", hostile.head(3)) == pytest.approx(
        fit.forecast(hostile.head(3))["new_upper"].tolist()
    )


def test_cells_filled_with_the_mean_are_filled_in_code_too():
    table = TABLE.assign(x=TABLE["x"].where(TABLE.index > 5))
    fit = jn.fit(table, "y given x, hours", missing="mean")
    truth = fit.forecast(table.head(8))["fitted"].to_numpy()
    room = {}
    exec(fit.equation("python"), room)
    assert room["fitted"](table["x"].head(8), table["hours"].head(8)) == pytest.approx(truth)
    assert Sqlite(table.head(8)).answers(fit.equation("sql")) == pytest.approx(truth)
    assert in_spreadsheet(fit, "fitted", table.head(8)) == pytest.approx(truth)


def test_cells_may_be_named(joinery):
    fit = jn.fit("sample:jars", "jars_sold given hours_open")
    assert "$D$7" in fit.equation("spreadsheet", cells={"hours_open": "Stall!$D$7"})
    for cells, said in (({"hours": "B2"}, "'hours_open' lacks one"), ({"hours_open": "=B2"}, "written 'B2'"),
                        ({"hours_open": "B2", "x": "C2"}, "no 'x' in the equation")):  # fmt: skip
        with pytest.raises(jn.CallError, match=said):
            fit.equation("spreadsheet", cells=cells)
    given = ("equation", "sample:jars", "jars_sold given hours_open", "--style", "spreadsheet")
    status, out, _ = joinery(*given, "--part", "mean_upper", "--cells", "hours_open=C9")
    assert status == 0
    assert out.startswith("=IF(COUNT(C9)=1,")


@pytest.mark.parametrize(
    ("model", "options", "ask", "said"),
    [
        ("y given lag(x, 1)", {}, {"style": "sql"}, "looks at other rows"),
        (
            "n given x",
            {"family": "poisson"},
            {"style": "python", "part": "new_lower"},
            "normal family with the identity",
        ),
        (
            "y given x",
            {"std_errors": "robust"},
            {"style": "python", "part": "mean_lower"},
            "degrees of freedom of its own",
        ),
        ("y given x", {}, {"style": "text", "part": "mean_lower"}, "written to be run"),
        ("y given x", {}, {"style": "sql", "cells": {"x": "B2"}}, "belongs to the spreadsheet"),
        ("y given x", {}, {"part": "upper"}, "part='upper' is not known"),
    ],
)
def test_what_a_style_cannot_say_is_refused(model, options, ask, said):
    with pytest.raises(jn.CallError, match=said):
        jn.fit(TABLE, model, **options).equation(**ask)


@pytest.mark.parametrize("kind", ["hc0", "hc3", "autocorrelated"])
def test_ends_under_other_standard_errors(kind):
    fit = jn.fit(TABLE, "y given x, class", std_errors=kind)
    for part in ENDS:
        truth = fit.forecast(NEW)[part].to_numpy()
        assert in_python(fit, part, NEW) == pytest.approx(truth, rel=1e-12)


def test_the_latex_equation_compiles(tmp_path):
    if shutil.which("pdflatex") is None:
        engines.unavailable("pdflatex")
    fits = [fitted(case) for case in CASES[:3]]
    body = "\n".join(f"\\[{fit.equation('latex')}\\]" for fit in fits)
    for model in ("jars_sold given hours_open", "jars_sold given hours_open, hours_open^2"):
        body += jn.fit("sample:jars", model).workings().render("latex")
    body += jn.fit(TABLE, "n given x", family="poisson").workings().render("latex")
    (tmp_path / "page.tex").write_text(
        "\\documentclass{article}\\usepackage[utf8]{inputenc}\\usepackage{amsmath,textcomp}\\begin{document}"
        + body + "\\end{document}", "utf-8")  # fmt: skip
    done = subprocess.run(
        ["pdflatex", "-halt-on-error", "page.tex"], cwd=tmp_path, capture_output=True
    )
    assert done.returncode == 0, done.stdout.decode("latin-1")[-2000:]
