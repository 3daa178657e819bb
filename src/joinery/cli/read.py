"""Commands that fit and read a model."""

from __future__ import annotations

import sys
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

from joinery.cli import options as o
from joinery.cli.app import (
    FIT,
    FORMS,
    app,
    fit_of,
    folder_of,
    given_options,
    is_saved,
    question,
    show,
    tell_notes,
)
from joinery.cli.options import Option
from joinery.cli.texts import cells_of
from joinery.show.files import suffix_of, write_text
from joinery.show.forms import as_data, json_text
from joinery.show.marks import tell
from joinery.support import errors, words

if TYPE_CHECKING:
    from joinery.model.fit_each import FitSet
    from joinery.model.result import Fit
    from joinery.show.table import Table


@app.command(rich_help_panel=FIT)
@o.takes(
    o.DATA_AND_MODEL,
    {"full": Option("every table, not the short page alone", bool, False)},
    o.FIT,
    o.SHOW,
)
def fit(full: bool, **given: Any) -> None:
    """Fit a model and read it: the short page, or with --full every table."""
    form, output = str(given["form"]), given["output"]
    errors.one_of("--as", form, FORMS)
    if output is not None:
        form = FORM_OF_ENDING.get(suffix_of(output), "table")
    fitted = fit_of(**given, page=True)
    if output is not None and suffix_of(output) == ".xlsx":
        tell(f"wrote {fitted.write(output)}")
        return
    if form == "json" or (output is not None and suffix_of(output) == ".json"):
        _write_out(json_text(_page_data(fitted, full)) + "\n", output)
    elif form in ("csv", "table"):
        if full:
            raise errors.CallError(
                "one such file holds one table: ask for each by its own command, or take "
                ".txt, .md, .html, .tex or .json for all of them"
            )
        show(fitted.coefficients(), given)
    elif form == "text" and output is None:
        _print_page(fitted, given, full)
    else:
        _write_out(_page_in(form, fitted, given["digits"], full), output)


@app.command("fit-each", rich_help_panel=FIT)
@o.takes(
    o.DATA_AND_MODEL,
    {
        "by": Option("the column that groups the rows; repeat", several=True),
        "full": Option("figures, coefficients and the test, not the page alone", bool, False),
        "report": Option("write a page of all"),
        "pictures": Option("draw coefficients and lines into a folder"),
    },
    o.FIT,
    o.SHOW,
)
def fit_each(
    by: list[str] | None, full: bool, report: str | None, pictures: str | None, **given: Any
) -> None:
    """Fit one model to each group of rows, and test whether the groups differ."""
    form = str(given["form"])
    errors.one_of("--as", form, FORMS)
    fits = _each(by, given)
    if report is not None:
        tell(f"wrote {fits.report(report)}")
    if pictures is not None:
        folder = folder_of(Path(pictures))
        for name in ("coefficients", "lines"):
            fits.draw(name, path=folder / f"{name}.png")
            tell(f"drew {folder / name}.png")
    if form == "json":
        tables = {"figures": fits.figures, "coefficients": fits.coefficients, "test": fits.test()}
        data: dict[str, Any] = {"sentence": fits.sentence, "by": list(fits.by)}
        data |= {name: as_data(table) for name, table in tables.items()}
        _write_out(json_text(data) + "\n", given["output"])
    elif form == "csv" or given["output"] is not None:
        show(fits.coefficients, given)
    else:
        for table in (fits.page, *((fits.figures, fits.coefficients, fits.test()) if full else ())):
            show(table, given)


def _each(by: list[str] | None, given: dict[str, Any]) -> FitSet:
    """Return the set of fits that the command works on: made, or loaded."""
    from joinery.model.fit import load
    from joinery.model.fit_each import FitSet
    from joinery.model.fit_each import fit_each as fit_groups

    data, model = str(given["data"]), given["model"]
    if model is None:
        if not is_saved(data):
            raise errors.CallError("a model sentence must follow the data")
        loaded: Any = load(data)
        if not isinstance(loaded, FitSet):
            raise errors.CallError(f"{data} holds one fit: joinery fit {data}")
        return loaded
    if not by:
        raise errors.CallError("say by which column the rows are grouped: --by COLUMN")
    if given["with_"]:
        raise errors.CallError("--with changes one fit; write the sentence that is meant")
    rows, options = given_options(**given)
    fits = fit_groups(rows, model, by=by, **options)
    tell_notes(rows.notes)
    if given["save"] is not None:
        tell(f"saved {fits.save(given['save'])}")
    return fits


def _write_out(text: str, output: str | None) -> None:
    if output is None:
        sys.stdout.write(text)
    else:
        tell(f"wrote {write_text(output, text)}")


def _page_data(fitted: Fit, full: bool) -> dict[str, Any]:
    """Return the page for machines: figures, remarks, coefficients; with --full every table."""
    (figures,) = as_data(fitted.figures())["rows"]
    page: dict[str, Any] = {
        "sentence": fitted.sentence,
        "family": fitted.family,
        "link": fitted.link,
        "figures": figures,
        "remarks": [
            {"gravity": note.gravity, "kind": note.kind, "words": note.words}
            for note in fitted.remarks
        ],
        "coefficients": as_data(fitted.coefficients()),
        "equation": fitted.equation(),
    }
    if full:
        page["tables"] = [as_data(table) for table in _tables(fitted)]
    return page


FORM_OF_ENDING = {".txt": "text", ".md": "markdown", ".html": "html", ".tex": "latex"}


def _print_page(fitted: Fit, given: dict[str, Any], full: bool) -> None:
    from joinery.hand_over.short_page import short_page
    from joinery.show import short_page as page
    from joinery.show import terminal

    terminal.say(page.renderable(short_page(fitted._fitted, given["digits"])))
    for table in _tables(fitted) if full else ():
        sys.stdout.write("\n")
        show(table, given)


def _page_in(form: Any, fitted: Fit, digits: int | None, full: bool) -> str:
    """Return the page as one text, with --full every table and, in HTML, pictures."""
    from joinery.hand_over.short_page import short_page
    from joinery.show import short_page as page

    parts = [page.RENDERERS[form](short_page(fitted._fitted, digits)).rstrip("\n")]
    if full:
        parts += [t.render(form, digits=digits).rstrip("\n") for t in _tables(fitted)]
        parts += _pictures(fitted) if form == "html" else []
    return "\n\n".join(parts) + "\n"


def _tables(fitted: Fit) -> list[Table]:
    """Return every table of a fit, in the order of the work."""
    kept = fitted._fitted.origin is not None
    if fitted._fitted.estimate.linear:
        linear = [fitted.term_correlations()]
    else:
        linear = []
    if kept:
        rows = [fitted.anova(), fitted.checks(), fitted.rows()]
    else:
        rows = []
    return [fitted.overall(), fitted.coefficients(standardized=True), *linear, *rows]


def _pictures(fitted: Fit) -> list[str]:
    from joinery.show.pictures.canvas import as_svg

    if fitted._fitted.origin is None:
        return []
    names: list[words.PictureName] = ["checks", "residuals", "observed_fitted"]
    if fitted._fitted.design.seen:
        names = ["line", *names]
    drawn = []
    for name in names:
        with suppress(errors.CallError):  # too little is left to draw, and the tables say so
            drawn.append(as_svg(fitted.draw(name), name))
    return drawn


question(
    "coefficients",
    FIT,
    "The coefficients with intervals, standard errors, t and p.",
    {
        "ratios": Option("odds, rate or mean ratios too", bool, False),
        "profile": Option("ends from the profile likelihood", bool, False),
        "standardized": Option("slopes in standard units too", bool, False),
    },
)
question(
    "term-correlations",
    FIT,
    "What each term shares with the response: simple, partial and semipartial r.",
)
question("overall", FIT, "The whole model against no predictors.")
question(
    "anova",
    FIT,
    "Test each term: the part explained beyond the terms it is adjusted for.",
    {
        "after": Option("lower-order, earlier or others", words.After, "lower-order"),
        "effect_sizes": Option("partial η² with its interval, and ω²", bool, False),
    },
)
question(
    "claim",
    FIT,
    "Test a claim about coefficients: one or several equations or inequalities.",
    {
        "text": Option(
            "'feed_kg = 2 * rain_days, forage_km2 > 0'",
            place=True,
            metavar="CLAIM",
            absent="a claim must follow the model sentence: 'forage_km2 = 2'",
        )
    },
)
OF_EQUATION = {
    "style": Option(
        "text, latex, python, sql or spreadsheet", words.Style, "text", name="--style --as"
    ),
    "part": Option("fitted, or an end of an interval: mean_lower, new_upper", words.Part, "fitted"),
    "cells": Option(
        "spreadsheet: column=cell; repeat, else B2, C2 and so on", several=True, read=cells_of
    ),
}


@app.command(rich_help_panel=FIT)
@o.takes(o.DATA_AND_MODEL, OF_EQUATION, o.FIT)
def equation(**given: Any) -> None:
    """The fitted equation, ready to copy, or as code that gives the forecast."""
    text = fit_of(**given).equation(**o.arguments(OF_EQUATION, given))
    sys.stdout.write(text.rstrip("\n") + "\n")
