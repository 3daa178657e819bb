"""Advice is in the form of the place where it is read, and runs as it stands."""

from __future__ import annotations

import ast
import re
import shlex
from contextvars import copy_context
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import joinery as jn
from joinery.study.check import families, normal, order, overlap, single_rows, spread, straight
from joinery.study.verdicts import SERIOUS
from joinery.support import advice

CHECKS = (families, normal, order, overlap, single_rows, spread, straight)
ODD = '"Honey (kg) \'25"'  # a column that needs quotes in a sentence, in Python and in a shell


@pytest.fixture
def table():
    rng = np.random.default_rng(8)
    x, n = rng.normal(5, 1, 60), 60
    y = np.exp(0.3 * x + rng.normal(0, 0.4, n))
    frame = {"hive": [f'{i}, "B" {i}' for i in range(n)], ODD[1:-1]: y, "rain $": x}
    frame |= {"twin": x + rng.normal(0, 0.01, n), "mites": rng.poisson(y), "sure": x > 5}
    return pd.DataFrame(frame | {"swarmed": rng.random(n) < 0.5, "w%": np.round(y * 4) + 1})


CASES = [
    (f'{ODD} given "rain $"', {}),
    (f'{ODD} given "rain $"', {"order": "mites"}),
    (f'{ODD} given "rain $", twin', {}),
    (f'log({ODD}) given "rain $"', {}),
    ('mites given "rain $"', {"family": "poisson"}),
    (f'{ODD} given "rain $"', {"family": "gamma", "link": "log"}),
    ('swarmed given "rain $"', {}),
    ('sure given "rain $"', {}),
    ('mites of "w%" given "rain $"', {}),
]


@pytest.fixture
def given(monkeypatch):
    """Every advice given, with the function that made it; all checks are taken for serious."""
    said: list[tuple[str, str]] = []
    for name in ("change", "ask"):
        make = getattr(advice, name)

        def record(*a, make=make, name=name, **k):
            said.append((name, text := make(*a, **k)))
            return text

        monkeypatch.setattr(advice, name, record)
    for module in CHECKS:
        if hasattr(module, "judged"):
            monkeypatch.setattr(module, "judged", lambda *a, **k: SERIOUS)
    monkeypatch.setattr(overlap, "EXTREME_INFLATION", 0.0)
    return said


def provoke(table, model, options):
    fit = jn.fit(table, model, id="hive", **options)
    fit.checks()
    if options.get("family") in (None, "normal") and fit.family == "normal":
        fit.box_cox()
    return fit


@pytest.mark.parametrize(("model", "options"), CASES)
def test_advice_in_python_runs(table, given, model, options, recwarn):
    fit = provoke(table, model, options)
    assert given
    for _, text in dict.fromkeys(given):
        assert text.startswith("fit.")
        answer = eval(text, {"fit": fit})
        assert type(answer) is not str


@pytest.mark.parametrize(("model", "options"), CASES)
def test_advice_in_a_shell_runs(table, given, joinery, tmp_path, monkeypatch, model, options):
    monkeypatch.chdir(tmp_path)
    table.to_csv("hives $.csv", index=False)
    more = [word for n, v in options.items() for word in (f"--{n}", v)]
    typed = ["hives $.csv", model, "--id", "hive", *more]
    shell = copy_context()
    shell.run(advice.speak_to_shell, advice.Typed(tuple(typed[:2]), tuple(typed[2:])))
    shell.run(provoke, table, model, options)
    for kind, text in dict.fromkeys(given):
        words = shlex.split(text)
        assert "=" not in text.partition(" ")[0]
        status, out, err = joinery(*(words[1:] if kind == "ask" else ["fit", *typed, *words]))
        assert status == 0, (text, err)
        assert out or "drew" in err


@pytest.mark.parametrize(
    ("options", "error", "way"),
    [
        ({"missing": "refuse"}, jn.MissingCellsError, "--missing 'leave out'"),
        ({"where": "log(gap) > 0"}, jn.UnusableColumnError, "--where 'gap > 0'"),
    ],
)
def test_errors_offer_options_in_both_forms(options, error, way, joinery, tmp_path):
    table = pd.DataFrame({"y": [1.0, 2, 4, 3], "gap": [1.0, 2, np.nan, 4]})
    if "where" in options:
        table["gap"] = [0.0, 1, 2, 3]
    with pytest.raises(error) as caught:
        jn.fit(table, "y given gap", **options)
    name, value = shlex.split(way)
    assert f'{name[2:]}="{value}"' in str(caught.value)
    table.to_csv(tmp_path / "t.csv", index=False)
    _, _, err = joinery("fit", tmp_path / "t.csv", "y given gap", *_typed(options))
    assert way in err


def _typed(options):
    return [word for name, value in options.items() for word in (f"--{name}", value)]


@pytest.mark.simulation
def test_no_message_is_written_for_one_place_alone():
    """Options and calls in messages come from ``advice``, which knows both forms."""
    names = (
        "leave_out|std_errors|dispersion|penalty|weights|response|missing|family|link|cluster|id"
    )
    names += "|decimal|dates|header|where|against|add|drop|put_back|hold|intervals|repeats|order"
    form = re.compile(rf"\b({names})=|\b(draw|revise|forecast|crosscheck|coefficients)\([^)…]")
    for file in Path(jn.__file__).parent.rglob("*.py"):
        if file.name in ("advice.py", "demo.py") or file.parent.name == "report":  # HTML has id=
            continue
        tree = ast.parse(file.read_text())
        told = [n.value for n in ast.walk(tree) if isinstance(n, ast.Expr)]
        for node in ast.walk(tree):
            if isinstance(node, ast.Constant) and isinstance(node.value, str) and node not in told:
                assert not form.search(node.value), f"{file}:{node.lineno}: {node.value!r}"
