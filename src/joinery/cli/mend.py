"""Commands that mend a model and compare several."""

from __future__ import annotations

import warnings
from typing import Annotated, Any

import typer

from joinery.cli import options as o
from joinery.cli.app import MEND, app, given_options, question, show, tell_notes, working
from joinery.cli.texts import changed
from joinery.show.marks import tell
from joinery.support import errors, words


@app.command(rich_help_panel=MEND)
@o.takes(o.DATA_ALONE, o.FIT, o.SHOW)
def compare(
    models: Annotated[
        list[str],
        typer.Argument(metavar="MODEL...", help="model sentences; one is enough beside --with"),
    ],
    crosscheck: Annotated[
        bool, typer.Option("--crosscheck", help="on rows not seen too, the same folds for all")
    ] = False,
    seed: Annotated[int, typer.Option("--seed", help="deals the folds")] = 0,
    **given: Any,
) -> None:
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


@app.command(rich_help_panel=MEND)
@o.takes(o.DATA_AND_MODEL, {n: spec for n, spec in o.FIT.items() if n != "with_"}, o.SHOW)
def stepwise(
    criterion: Annotated[
        str | None,
        typer.Option(
            "--criterion",
            help="criterion: aic, bic, 'adjusted r2', p or crosscheck",
            autocompletion=o.offers(words.Criterion),
        ),
    ] = None,
    moves: Annotated[
        str,
        typer.Option(
            "--moves", help="add, drop, or 'add and drop'", autocompletion=o.offers(words.Moves)
        ),
    ] = "add and drop",
    limit: Annotated[
        float, typer.Option("--limit", help="the p below which a term enters and stays")
    ] = 0.05,
    leave: Annotated[
        float | None, typer.Option("--leave", help="another p, above which a term leaves")
    ] = None,
    keep: Annotated[
        str | None, typer.Option("--keep", help="terms that always stay: 'forage_km2, hive_type'")
    ] = None,
    steps: Annotated[
        bool, typer.Option("--steps", help="the fits of all steps side by side")
    ] = False,
    tried: Annotated[bool, typer.Option("--tried", help="every move that was looked at")] = False,
    **given: Any,
) -> None:
    """Choose among the terms of a sentence step by step."""
    from joinery.model.compare import compare as side_by_side
    from joinery.model.compare import stepwise as choose

    rows, options = given_options(**given)
    rules: dict[str, Any] = {
        "criterion": criterion,
        "moves": moves,
        "limit": limit,
        "leave": leave,
        "keep": keep or (),
    }
    with working("choosing terms"):
        trail = choose(rows, str(given["model"]), **rules, **options)
        if steps and len(trail.fits) > 1:
            shown = side_by_side(*trail.fits)
        else:
            if tried:
                shown = trail.tried
            else:
                shown = trail.page
    show(shown, given)
    if given["save"] is not None:
        tell(f"saved {trail.final.save(given['save'])}")


question("box-cox", MEND, "Which power of the response suits the model.", lambda f: f.box_cox())
