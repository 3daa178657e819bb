"""The guide as a notebook: made from the guide, run by a kernel, shown right in light and dark."""

from __future__ import annotations

import importlib.util
import re
import shutil
from pathlib import Path

import nbformat
import pytest
from nbclient import NotebookClient

import joinery as jn

DOCS = Path(__file__).parents[2] / "docs"


def made():
    spec = importlib.util.spec_from_file_location("notebook", DOCS / "notebook.py")
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module.notebook()


def test_the_notebook_is_the_guide_and_runs(tmp_path):
    """Its cells are the guide's blocks, which all run as such; a kernel runs those to the first fit."""
    kept = nbformat.read(DOCS / "guide.ipynb", as_version=4)
    assert nbformat.writes(kept) == nbformat.writes(made()), "run python docs/notebook.py"
    shutil.copytree(DOCS / "screenshots", tmp_path / "screenshots")
    first = next(at for at, cell in enumerate(kept.cells) if cell.source == "print(fit)")
    kept.cells = [*kept.cells[:first], nbformat.v4.new_code_cell("fit")]
    NotebookClient(kept, timeout=300, resources={"metadata": {"path": str(tmp_path)}}).execute()
    shown = kept.cells[-1].outputs[0]["data"]["text/html"]
    assert "Before you read on" in shown


def things():
    honey = jn.fit("sample:yields", "honey_kg given forage_km2, hive_type", id="hive")
    return {
        "fit": honey,
        "table": honey.rows(),
        "look": jn.look("sample:yields"),
        "trail": jn.stepwise(
            "sample:yields", "honey_kg given forage_km2, rain_days", criterion="bic"
        ),
        "workings": jn.fit("sample:jars", "jars_sold given hours_open").workings(),
        "rehearsal": jn.rehearse("y given x", {"x": 1}, 20, times=50, seed=1),
    }


@pytest.mark.parametrize("name", ["fit", "table", "look", "trail", "workings", "rehearsal"])
def test_what_a_notebook_shows_takes_its_colours_from_the_ground(name):
    html = things()[name]._repr_html_()
    assert "<table" in html
    # no ink or ground of its own, which would vanish on the other ground
    assert not re.search(r"(?<![-\w])(?:background|color):\s*#", html)


def shown_by(*sources):
    """What a kernel shows for some cells: of each cell its outputs, as kind → data."""
    book = nbformat.v4.new_notebook(cells=[nbformat.v4.new_code_cell(text) for text in sources])
    NotebookClient(book, timeout=120).execute()
    return [
        [out["text"] if out.output_type == "stream" else dict(out.data) for out in cell.outputs]
        for cell in book.cells
    ]


def test_a_kernel_is_given_texts_and_shows_each_thing_once(tmp_path):
    fit = jn.fit("sample:jars", "jars_sold given hours_open")
    made, text, printed, page, table, written, figure, loop = shown_by(
        "import joinery as jn\nfit = jn.fit('sample:jars', 'jars_sold given hours_open')",
        "f'{fit}'",
        "print(fit)",
        "fit",
        "fit.coefficients()",
        f"open(fit.coefficients().write({str(tmp_path / 't.txt')!r})).read()",
        "fit.draw('residuals')",
        "for name in ('line', 'leverage'):\n    display(fit.draw(name))",
    )
    assert made == []
    assert text == [{"text/plain": repr(str(fit))}]
    assert printed == [f"{fit}\n"]
    assert [set(out) for out in (*page, *table)] == [{"text/plain", "text/html"}] * 2
    assert "hours_open" in written[0]["text/plain"]
    assert [set(out) for out in (*figure, *loop)] == [{"text/plain", "image/png"}] * 3
