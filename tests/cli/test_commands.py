"""The command line as a person meets it."""

from __future__ import annotations

import inspect
import io
import json
import os
import re
import subprocess
import sys
import warnings
from contextvars import copy_context
from pathlib import Path
from typing import get_args

import numpy as np
import pandas as pd
import pytest

import joinery as jn
from joinery.cli import options
from joinery.cli.app import QUESTIONS
from joinery.cli.commands import app
from joinery.data.reading import EVERY_DIGIT
from joinery.support import advice, words

MODEL = "honey_kg given forage_km2, feed_kg, hive_type"
YIELDS = ("sample:yields", MODEL, "--id", "hive")
COMMAND = [str(Path(sys.executable).with_name("joinery"))]


def test_the_help_groups_commands_in_the_order_of_the_work(joinery):
    status, out, _ = joinery("--help")
    assert status == 0
    places = [
        out.index(f"│ {word} ")
        for word in ("demo", "look", "fit", "coefficients", "rows", "forecast")
    ]
    assert places == sorted(places)
    for command in (
        "look",
        "fit",
        "rows",
        "forecast",
        "draw",
        "demo",
        "coefficients",
        "overall",
        "equation",
    ):
        status, out, err = joinery(command, "--help")
        assert (status, err) == (0, "")
        assert out.strip()


@pytest.mark.parametrize(
    "command", ["coefficients", "overall", "anova", "checks", "box_cox", "rows", "forecast"]
)
def test_each_question_in_each_form(command, joinery, tmp_path):
    fit = jn.fit("sample:yields", MODEL, id="hive")
    shell = copy_context()  # what is advised there is for a shell
    shell.run(advice.speak_to_shell, advice.Typed())
    table, name = shell.run(getattr(fit, command)), command.replace("_", "-")
    for form in ("text", "markdown", "csv", "json", "html"):
        status, out, err = joinery(name, *YIELDS, "--as", form)
        assert (status, err) == (0, "")
        assert out.rstrip("\n") == table.render(form).rstrip("\n")
    status, out, err = joinery(name, *YIELDS, "--output", tmp_path / "t.csv")
    assert (status, out) == (0, "")
    assert "wrote" in err
    assert (tmp_path / "t.csv").read_text() == table.render("csv")


def test_fit_prints_the_short_page_and_saves(joinery, tmp_path):
    saved = tmp_path / "honey.json"
    status, out, err = joinery("fit", *YIELDS, "--save", saved)
    page = str(jn.fit("sample:yields", MODEL, id="hive")) + "\n"
    assert (status, out) == (0, page.replace('order="COLUMN"', "--order COLUMN"))
    assert f"saved {saved}" in err
    status, again, err = joinery("fit", saved)
    assert (status, err) == (0, "")
    assert "loaded from a file" in again
    full = joinery("fit", *YIELDS, "--full")[1]
    for part in ("The whole model against no predictors", "partial", "Rows of honey_kg"):
        assert part in full
    assert joinery("fit", *YIELDS, "--as", "html")[1].startswith("<div")
    assert joinery("fit", *YIELDS, "--as", "markdown")[1].startswith("**honey_kg given")
    page, loaded = json.loads(joinery("fit", *YIELDS, "--as", "json")[1]), jn.load(saved)
    assert page["coefficients"] == json.loads(loaded.coefficients().render("json"))
    assert [page["figures"]] == json.loads(loaded.figures().render("json"))["rows"]
    assert [r["words"] for r in page["remarks"]] == list(loaded.notes)
    tables = json.loads(joinery("fit", *YIELDS, "--full", "--as", "json")[1])["tables"]
    assert [len(table["rows"]) for table in tables][-1] == 120
    for name in ("page.txt", "page.html", "page.csv"):
        assert joinery("fit", *YIELDS, "--output", tmp_path / name)[0] == 0
        assert (tmp_path / name).stat().st_size > 200


def test_options_reach_the_fit(joinery):
    asked = (
        "--where",
        "season >= 2021",
        "--leave-out",
        "H001,H002",
        "--leave-out",
        "H058",
        "--level",
        "80",
        "--digits",
        "3",
    )
    out = joinery("coefficients", *YIELDS, *asked, "--as", "csv")[1]
    fit = jn.fit(
        "sample:yields",
        MODEL,
        id="hive",
        where="season >= 2021",
        leave_out=["H001", "H002", "H058"],
        level=0.8,
    )
    assert out == fit.coefficients().render("csv")
    assert "80 % intervals" in joinery("coefficients", *YIELDS, *asked)[1]


def test_forecasts_from_a_saved_fit_alone(joinery, tmp_path):
    saved = tmp_path / "honey.json"
    fit = jn.fit("sample:yields", MODEL, id="hive")
    fit.save(saved)
    new = tmp_path / "new.csv"
    jn.sample_data("yields").head(14).to_csv(new, index=False)
    out = joinery("forecast", saved, "--new", new, "--as", "csv")[1]
    frame = pd.read_csv(io.StringIO(out), index_col="hive", **EVERY_DIGIT)
    assert frame["fitted"].equals(fit.forecast(str(new)).frame["fitted"])
    assert len(frame) == 14
    one = joinery(
        "forecast", saved, "--at", "forage_km2=3, feed_kg=5, hive_type='top-bar'", "--as", "json"
    )[1]
    assert (
        json.loads(one)["rows"][0]["fitted"]
        == fit.forecast({"forage_km2": 3, "feed_kg": 5, "hive_type": "top-bar"})["fitted"][0]
    )


def test_standard_input_and_pipes(joinery, tmp_path):
    content = b"hours,sold\n1,3\n2,5\n3,8\n4,9\n"
    status, out, _ = joinery("equation", "-", "sold given hours", stdin=content)
    assert (status, out) == (0, "sold = 1.000 + 2.100 hours\n")
    piped = subprocess.run(
        [*COMMAND, "look", "-"],
        input=content,
        capture_output=True,
        check=True,
        env=os.environ | {"PYTHONIOENCODING": "ascii"},
    )
    assert b"hours" in piped.stdout
    assert piped.stderr == b""


def test_draw_writes_pictures(joinery, tmp_path):
    status, out, err = joinery(
        "draw", *YIELDS[:2], "line", "residuals", "--output", tmp_path / "shots"
    )
    assert (status, out) == (0, "")
    assert sorted(p.name for p in (tmp_path / "shots").iterdir()) == ["line.png", "residuals.png"]
    assert err.count("drew") == 2
    assert joinery("draw", *YIELDS[:2], "line", "--output", tmp_path / "a.svg")[0] == 0
    assert joinery("draw", *YIELDS[:2], "line", "quantiles", "--output", tmp_path / "a.svg")[0] == 2


@pytest.mark.parametrize(
    ("arguments", "status", "said"),
    [
        (("fit", "nofile.csv", MODEL), 3, "no such file"),
        (("fit", "sample:yields", "honey_kg given forge_km2"), 2, "did you mean 'forage_km2'?"),
        (("fit", "sample:yields", "honey_kg given a + b"), 2, "put the sum in parentheses"),
        (("fit", "sample:yields"), 2, "a model sentence must follow"),
        (("fit", *YIELDS, "--as", "xml"), 2, "--as='xml' is not known"),
        (("fit", *YIELDS, "--level", "300"), 2, "lies between 0 and 100"),
        (("fit", *YIELDS, "--where", "season > 3000"), 4, "no rows are left to fit"),
        (("forecast", *YIELDS, "--new", "a.csv", "--at", "x=1"), 2, "not both"),
        (("forecast", *YIELDS, "--at", "x="), 2, "x="),
        (("draw", *YIELDS[:2], "lines"), 2, "did you mean 'line'"),
        (("look", "sample:yelds"), 2, "did you mean 'yields'"),
        (("bogus",), 2, "bogus"),
        (("fit",), 2, "DATA"),
    ],
)
def test_mistakes_end_in_a_message_and_a_status(arguments, status, said, joinery):
    found, out, err = joinery(*arguments)
    assert found == status
    assert out == ""
    assert said in err
    assert "Traceback" not in err


def test_guesses_about_a_file_are_said_on_standard_error(joinery, tmp_path):
    file = tmp_path / "stall.csv"
    file.write_text("hours;price\n1;2,50\n2;3,10\n3;4,25\n4;4,50\n")
    status, _, err = joinery("coefficients", file, "price given hours")
    assert status == 0
    assert "columns are separated by semicolons" in err
    file.write_text('hours,price\n1,"1,250"\n2,"1,310"\n3,"1,425"\n')
    status, _, err = joinery("coefficients", file, "price given hours")
    assert status == 0
    assert "'1,250' is read as 1250; no cell of the table says" in err
    assert "--decimal ," in err
    equation = joinery("equation", file, "price given hours", "--decimal", ",")[1]
    assert equation == "price = 1.1533 + 0.08750 hours\n"


def test_the_demo_walks_the_whole_job(joinery, tmp_path):
    status, out, err = joinery("demo", tmp_path / "demo")
    assert (status, err) == (0, "")
    steps = (
        "1. Look",
        "2. Say a model",
        "3. Test",
        "4. Check",
        "5. Mend",
        "6. Understand",
        "7. Forecast",
        "8. Not only",
        "9. Hand over",
    )
    for word in (*steps, "Try next", "H058", "3 of 3 observed values"):
        assert word in out
    pictures = ("response", "checks", "leverage", "altitude", "feeding", "forecast", "survival")
    assert {p.name for p in (tmp_path / "demo").iterdir()} == {
        "honey.json", "honey.html", "honey.xlsx", "forecast.csv", *(f"{name}.png" for name in pictures)
    }  # fmt: skip
    file = tmp_path / "file"
    file.write_text("")
    assert joinery("demo", file)[0] == 2


def test_models_compared_and_chosen(joinery):
    models = ("honey_kg given feed_kg, forage_km2", "honey_kg given forage_km2")
    status, out, err = joinery("compare", "sample:yields", *models, "--as", "csv")
    fits = [jn.fit("sample:yields", m) for m in models]
    assert (status, out) == (0, jn.compare(*fits).render("csv"))
    with warnings.catch_warnings():
        warnings.simplefilter("always")
        status, out, err = joinery("compare", "sample:yields", models[1], "honey_kg given feed_kg")
    assert status == 0
    assert ("fits 1 and 2 are not tested" in out, err) == (True, "")
    queens = ("sample:queens", "eggs_a_day given weight_mg, age_days, moon_days")
    status, out, _ = joinery("stepwise", *queens, "--criterion", "bic", "--keep", "moon_days")
    assert status == 0
    assert "chosen: eggs_a_day given weight_mg, age_days, moon_days" in out
    assert joinery("anova", *YIELDS, "--after", "all")[0] == 2


def test_other_families_from_the_command_line(joinery, tmp_path):
    winter = ("sample:winter", "survived of colonies given altitude_m, stores_kg", "--id", "apiary")
    fit = jn.fit("sample:winter", winter[1], id="apiary")
    assert joinery("average-effects", *winter, "--as", "csv")[1] == fit.average_effects().render(
        "csv"
    )
    assert joinery("coefficients", *winter, "--ratios", "--profile", "--as", "csv")[
        1
    ] == fit.coefficients(ratios=True, profile=True).render("csv")
    assert joinery("crosscheck", *winter, "--seed", "4", "--as", "csv")[1] == fit.crosscheck(
        seed=4
    ).render("csv")
    status, out, _ = joinery("fit", *winter, "--save", tmp_path / "w.json")
    assert (status, "79 % of the deviance" in out) == (0, False)
    assert "of the deviance of survived of colonies is explained" in out
    new = jn.sample_data("winter_outcome")
    new.loc[1, "stores_kg"] = None
    new.to_csv(tmp_path / "new.csv", index=False)
    status, out, _ = joinery(
        "forecast",
        tmp_path / "w.json",
        "--new",
        tmp_path / "new.csv",
        "--output",
        tmp_path / "out.csv",
    )
    assert (status, out) == (0, "")
    written = pd.read_csv(tmp_path / "out.csv")
    assert written.columns[: len(new.columns)].tolist() == new.columns.tolist()
    assert written["apiary"].tolist() == new["apiary"].tolist()
    assert np.isnan(written["fitted"][1])
    assert written["note"][1] == "no stores_kg"
    assert (
        joinery(
            "fit", "sample:bee_samples", "mites per bees_sampled given month", "--family", "gamma"
        )[0]
        == 2
    )


def test_a_dispersion_is_given_on_the_command_line(joinery):
    model = "mites per bees_sampled given treatment"
    status, out, _ = joinery("fit", "sample:bee_samples", model, "--dispersion", "estimated")
    assert status == 0
    assert "poisson family, log link, estimated dispersion" in " ".join(out.split())
    status, out, _ = joinery("coefficients", "sample:bee_samples", model, "--dispersion", "5.65")
    assert status == 0
    assert " z " in out
    status, _, said = joinery("fit", "sample:bee_samples", model, "--dispersion", "soon")
    assert status == 2
    assert 'it is "estimated", or a number above zero' in said
    status, _, said = joinery(
        "fit", "sample:bee_samples", model, "--family", "negative-binomial", "--dispersion", "2"
    )
    assert status == 2
    assert "has a shape k in place of a dispersion" in said


def test_changes_labels_and_forms_from_the_command_line(joinery, tmp_path):
    asked = ("sample:yields", "honey_kg given forage_km2", "--id", "hive")
    status, out, _ = joinery(
        "coefficients", *asked, "--with", "leave out H058, H031; add feed_kg", "--as", "csv"
    )
    fit = jn.fit(*asked[:2], id="hive").revise(leave_out=["H058", "H031"], add="feed_kg")
    assert (status, out) == (0, fit.coefficients().render("csv"))
    status, out, _ = joinery(
        "coefficients", *asked, "--leave-out", "H058", "--with", "put back H058", "--as", "csv"
    )
    assert out == jn.fit(*asked[:2], id="hive").coefficients().render("csv")
    text = joinery("fit", *asked, "--labels", "forage_km2=Forage (km²)")[1]
    assert "Forage (km²)" in text
    assert "= 12.23 + 2.349 Forage (km²)" in text
    saved = tmp_path / "f.json"
    joinery("fit", *asked, "--save", saved)
    wide = joinery("coefficients", saved, "--level", "99", "--as", "csv")[1]
    assert wide == jn.fit(*asked[:2], id="hive").coefficients(99).render("csv")
    assert joinery("--version")[1] == f"{jn.__version__}\n"
    for ending, mark in (
        ("html", "<svg"),
        ("md", "| --- |"),
        ("tex", r"\begin{tabular}"),
        ("txt", "Checks of"),
    ):
        page = tmp_path / f"page.{ending}"
        assert joinery("fit", *asked, "--full", "--output", page)[0] == 0
        assert mark in page.read_text()
    assert "--help" in joinery("fit", "--help")[1]
    assert "<bool>" not in joinery("fit", "--help")[1]


@pytest.mark.parametrize("sample", [("bee_samples", "mites per bees_sampled given month"),
                                    ("queens", "(outcome = 'accepted') given eggs_a_day"),
                                    ("prices", "price given weight_g")])  # fmt: skip
def test_full_holds_every_table_in_every_family(sample, joinery):
    name, model = sample
    more = ["--family", "gamma"] if name == "prices" else []
    status, out, err = joinery("fit", f"sample:{name}", model, *more, "--full")
    assert (status, err) == (0, "")
    for part in ("Coefficients, with", "What each term explains", "Checks of", "Rows of"):
        assert part in out


@pytest.mark.parametrize(
    ("typed", "offered"),
    [
        ("fit DATA MODEL --std-errors hc", ["hc0", "hc1", "hc2", "hc3"]),
        ("draw DATA MODEL lever", ["leverage"]),
        ("fit DATA MODEL --family in", ["inverse-gaussian"]),
        ("equation DATA MODEL --as s", ["sql", "spreadsheet"]),
    ],
)
def test_a_shell_is_offered_the_words_that_an_option_takes(typed, offered):
    words = {"COMP_WORDS": f"joinery {typed}", "COMP_CWORD": str(len(typed.split()))}
    asked = os.environ | words | {"_JOINERY_COMPLETE": "complete_bash"}
    done = subprocess.run(COMMAND, env=asked, capture_output=True, text=True)
    assert done.stdout.split() == offered


COMMANDS = {c.name or c.callback.__name__: c.callback for c in app.registered_commands}
CALLS = {name: getattr(jn, name.replace("-", "_"), None) or getattr(jn.Fit, name.replace("-", "_"), None) for name in COMMANDS}  # fmt: skip


def closed_words(annotation):
    names = re.findall(r"words\.(\w+)", str(annotation))
    return {word for name in names for word in get_args(getattr(words, name))}


@pytest.mark.parametrize("name", [name for name, call in CALLS.items() if call is not None])
def test_an_option_has_the_default_and_the_words_of_the_parameter_it_stands_for(name):
    asked = inspect.signature(CALLS[name]).parameters
    for n, typed in inspect.signature(COMMANDS[name]).parameters.items():
        if n not in asked or n == "output":
            continue
        told = get_args(typed.annotation)[1]
        if typed.default not in (None, inspect.Parameter.empty):
            assert typed.default == asked[n].default, n
        offered = told.autocompletion("") if told.autocompletion else []
        assert set(offered) == closed_words(asked[n].annotation), n


@pytest.mark.parametrize("name", QUESTIONS)
def test_a_question_takes_what_its_method_takes(name):
    shared = {*options.FIT, *options.SHOW, *options.WATCH, *options.DATA_AND_MODEL}
    own = inspect.signature(COMMANDS[name]).parameters.keys() - shared
    assert own == inspect.signature(CALLS[name]).parameters.keys() - {"self", "level"}
