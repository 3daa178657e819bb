"""Commands that mend a model and compare several."""

from __future__ import annotations

import warnings
from typing import Any

from joinery.cli import options as o
from joinery.cli.app import MEND, app, given_options, question, show, tell_notes, working
from joinery.cli.options import Option
from joinery.cli.texts import changed
from joinery.show.marks import tell
from joinery.support import errors, words


@app.command(rich_help_panel=MEND)
@o.takes(
    o.DATA_ALONE,
    {
        "models": Option(
            "model sentences; one is enough beside --with",
            several=True,
            wanted=True,
            place=True,
            metavar="MODEL...",
        ),
        "crosscheck": Option("on rows not seen too, the same folds for all", bool, False),
        "seed": Option("deals the folds", int, 0),
    },
    o.FIT,
    o.SHOW,
)
def compare(models: list[str], crosscheck: bool, seed: int, **given: Any) -> None:
    """Fits of one response side by side, nested ones tested.

    Each --with adds the first model with that change.
    """
    from joinery.model.compare import compare as side_by_side
    from joinery.model.fit import fit

    if len(models) + len(given["with_"] or ()) < 2:
        raise errors.CallError("compare takes two models or more, or one and --with CHANGE")
    rows, options = given_options(models[0], **given)  # read once for all
    tell_notes(rows.notes)
    fits = [fit(rows, model, **options) for model in models]
    fits += [changed(fits[0], change) for change in given["with_"] or ()]
    with warnings.catch_warnings():
        if given["form"] != "csv":  # the notes of the table say it too
            warnings.simplefilter("ignore", errors.JoineryWarning)
        table = side_by_side(*fits, crosscheck=crosscheck, seed=seed)
    show(table, given)


OF_SEARCH = {
    "criterion": Option("criterion: aic, bic, 'adjusted r2', p or crosscheck", words.Criterion),
    "moves": Option("add, drop, or 'add and drop'", words.Moves, "add and drop"),
    "limit": Option("the p below which a term enters and stays", float, 0.05),
    "leave": Option("another p, above which a term leaves", float),
    "keep": Option("terms that always stay: 'forage_km2, hive_type'"),
}


@app.command(rich_help_panel=MEND)
@o.takes(
    o.DATA_AND_MODEL,
    OF_SEARCH,
    {
        "steps": Option("the fits of all steps side by side", bool, False),
        "tried": Option("every move that was looked at", bool, False),
    },
    {name: option for name, option in o.FIT.items() if name != "with_"},
    o.SHOW,
)
def stepwise(steps: bool, tried: bool, **given: Any) -> None:
    """Choose among the terms of a sentence step by step."""
    from joinery.model.compare import compare as side_by_side
    from joinery.model.compare import stepwise as choose

    rows, options = given_options(**given)
    with working("choosing terms"):
        trail = choose(rows, str(given["model"]), **o.arguments(OF_SEARCH, given), **options)
        if steps and len(trail.fits) > 1:
            shown = side_by_side(*trail.fits)
        elif tried:
            shown = trail.tried
        else:
            shown = trail.page
    show(shown, given)
    if given["save"] is not None:
        tell(f"saved {trail.final.save(given['save'])}")


question("box-cox", MEND, "Which power of the response suits the model.")
