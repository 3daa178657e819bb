"""What an editor and a type checker know: closed words, their registries, and a user's slips."""

from __future__ import annotations

import inspect
import subprocess
import sys
from typing import get_args

import pytest

import joinery as jn
from joinery.core.glm.families import FAMILIES
from joinery.core.glm.links import LINKS
from joinery.first_look.pictures import PICTURES as LOOK_PICTURES
from joinery.hand_over.formula.equation import STYLES
from joinery.model.choices import MISSING, STD_ERRORS
from joinery.show.table import FORMS
from joinery.study.compare.anova import AFTER
from joinery.study.compare.stepwise import CRITERIA, MOVES
from joinery.study.fitted import Options
from joinery.study.picture_list import PICTURES, listing
from joinery.study.resample.bootstrap import INTERVALS, RESAMPLES
from joinery.study.understand.level_means import CORRECTIONS, WEIGHTINGS
from joinery.support import words


@pytest.mark.parametrize(
    ("word", "registry"),
    [
        (words.FamilyName, FAMILIES),
        (words.LinkName, LINKS),
        (words.PictureName, PICTURES),
        (words.LookPictureName, LOOK_PICTURES),
        (words.Missing, MISSING),
        (words.StdErrors, STD_ERRORS),
        (words.After, AFTER),
        (words.Criterion, CRITERIA),
        (words.Moves, MOVES),
        (words.Ends, INTERVALS),
        (words.Resample, RESAMPLES),
        (words.Style, STYLES),
        (words.Weighting, WEIGHTINGS),
        (words.Correction, (*CORRECTIONS, "dunnett")),
        (words.Form, FORMS),
    ],
)
def test_closed_words_are_those_of_the_registry(word, registry):
    assert set(get_args(word)) == set(registry)


def test_what_may_be_changed_is_what_a_fit_takes():
    assert set(words.Changes.__annotations__) == set(Options.__dataclass_fields__) - {"leave_out"}


SLIPS = {
    "jn.fitt('t.csv', 'y given x')": "attr-defined",
    "jn.fit('t.csv', 'y given x', family='normall')": "arg-type",
    "jn.fit('t.csv', 'y given x', link='logg')": "arg-type",
    "jn.fit('t.csv', 'y given x', std_errors='hc9')": "arg-type",
    "fit.draw('residual')": "arg-type",
    "fit.revise(familly='gamma')": "call-arg",
    "fit.predict()": "attr-defined",
    "fit.r_squared * 100": "operator",
    "fit.coefficients(levell=0.9)": "call-arg",
    "fit.bootstrap(resample='row')": "arg-type",
}
SOUND = """
fit.revise(add="z", family="gamma", leave_out=["H1"]).draw("line", against="x")
table: jn.Table = fit.coefficients(level=0.9)
print(table["p"].max(), fit.forecast({"x": [1.0]}, level=[0.5, 0.9]).render("json"))
jn.stepwise("t.csv", "y given all", criterion="bic", family="binomial").final.report("r.html")
jn.look("t.csv").draw("matrix")
"""


def test_a_type_checker_finds_the_slips_of_a_user_and_nothing_else(tmp_path):
    script = tmp_path / "script.py"
    head = "import joinery as jn\nfit: jn.Fit = jn.fit('t.csv', 'y given x')\n"
    script.write_text(head + "\n".join(SLIPS) + "\n" + SOUND)
    options = ["--no-error-summary", "--hide-error-context", "--strict", "--no-incremental"]
    run = subprocess.run(
        [sys.executable, "-m", "mypy", *options, "--config-file", "", str(script)],
        capture_output=True,
        text=True,
        cwd=tmp_path,
    )
    found = {}
    for line in run.stdout.splitlines():
        if ": error:" in line:
            found[int(line.split(":")[1])] = line.rpartition("[")[2].rstrip("]")
    assert found == dict(enumerate(SLIPS.values(), 3)), run.stdout + run.stderr
    assert jn.__all__


def test_the_docstring_of_draw_names_every_picture_with_its_options():
    doc = " ".join(inspect.getdoc(jn.Fit.draw).split())
    assert [line for line in listing() if f"- {line}" not in doc] == []
