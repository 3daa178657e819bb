"""Commands that check a model."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from joinery.cli import options as o
from joinery.cli.app import CHECK, app, fit_of, folder_of, is_saved, question, show, streams
from joinery.cli.texts import labels_in, numbers_in, word
from joinery.show.marks import tell
from joinery.support import errors, words

question(
    "checks",
    CHECK,
    "What the model takes for granted: figures, verdicts, what to do.",
    lambda f: f.checks(),
)


@app.command(rich_help_panel=CHECK)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def rows(**given: Any) -> None:
    """Each row's figures: fit, leverage, influence, and what is remarkable."""
    fitted, output = fit_of(**given), given["output"]
    if output is not None and streams(fitted._fitted.origin, output):
        tell(f"wrote {fitted.write_rows(output)}")
    else:
        show(fitted.rows(), given)


@app.command(rich_help_panel=CHECK)
@o.takes(o.DATA_ALONE, o.FIT)
def draw(
    model: Annotated[
        str, typer.Argument(metavar="MODEL", help="a model sentence (none with a saved fit)")
    ],
    names: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="NAME...",
            help="line, residuals, checks, leverage, …",
            autocompletion=o.offers(words.PictureName),
        ),
    ] = None,
    against: Annotated[
        str | None, typer.Option("--against", help="the column a picture is about")
    ] = None,
    across: Annotated[
        str | None, typer.Option("--across", help="line: one for each level or value of this")
    ] = None,
    beside: Annotated[
        list[str] | None,
        typer.Option("--beside", metavar="MODEL", help="line: another fit over it; may repeat"),
    ] = None,
    term: Annotated[
        str | None, typer.Option("--term", help="the coefficient or category a picture is about")
    ] = None,
    of: Annotated[
        str | None, typer.Option("--of", help="the predictor, or two coefficients: 'a, b'")
    ] = None,
    at: Annotated[float | None, typer.Option("--at", help="inverse: the response")] = None,
    reference: Annotated[
        str | None, typer.Option("--reference", help="level_differences: against this level")
    ] = None,
    title: Annotated[str | None, typer.Option("--title", help="in place of its own")] = None,
    x_label: Annotated[str | None, typer.Option("--x-label", help="below the picture")] = None,
    y_label: Annotated[str | None, typer.Option("--y-label", help="beside the picture")] = None,
    label_rows: Annotated[
        str, typer.Option("--label-rows", help="flagged, none, or labels separated by commas")
    ] = "flagged",
    figsize: Annotated[
        str | None, typer.Option("--figsize", help="width and height in inches: '6, 4'")
    ] = None,
    output: Annotated[
        str | None, typer.Option("--output", help="the file (.png .svg .pdf), or a folder")
    ] = None,
    **given: Any,
) -> None:
    """Draw pictures of a fit into files."""
    from joinery.study.draw import check_picture

    saved = is_saved(given["data"])
    if saved:
        pictures = [model, *(names or [])]
    else:
        pictures = list(names or [])
    if not pictures:
        raise errors.CallError("name a picture after the sentence: line, residuals, checks, …")
    if output:
        target = Path(output)
    else:
        target = Path()
    one_file = target.suffix != ""
    if one_file and len(pictures) > 1:
        raise errors.CallError("several pictures go into a folder; give --output a folder")
    if not one_file:
        target = folder_of(target)
    fitted = fit_of(model=None if saved else model, **given)
    rows = label_rows if label_rows in ("flagged", "none") else labels_in([label_rows])
    options: dict[str, Any] = {"against": against, "across": across, "term": term}
    options |= {"reference": reference, "at": at}
    if of is not None:
        options["of"] = of if len(labels_in([of])) == 1 else labels_in([of])
    options = {name: v for name, v in options.items() if v is not None}
    if beside:
        options["beside"] = [fit_of(model=other, **given) for other in beside]
    for name in pictures:  # before the first is drawn
        check_picture(name, options)
    written: dict[str, Any] = {"title": title, "x_label": x_label, "y_label": y_label}
    written["figsize"] = None if figsize is None else numbers_in(figsize)
    for name in pictures:
        if one_file:
            path = target
        else:
            path = target / f"{name}.png"
        fitted.draw(word(name), path=path, label_rows=rows, **written, **options)
        tell(f"drew {path}")


@app.command(rich_help_panel=CHECK)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def crosscheck(
    folds: Annotated[
        int | None, typer.Option("--folds", help="number of folds; else leave-one-out or 10")
    ] = None,
    by: Annotated[
        str | None, typer.Option("--by", help="hold out whole groups of this column")
    ] = None,
    seed: Annotated[
        int | None, typer.Option("--seed", help="seed: deals the same folds again")
    ] = None,
    **given: Any,
) -> None:
    """Judge a fit on rows it has not seen."""
    fitted = fit_of(**given)
    show(fitted.crosscheck(folds, by=by, seed=seed), given)


@app.command(rich_help_panel=CHECK)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def bootstrap(
    resamples: Annotated[int, typer.Option("--resamples", min=2, help="how many")] = 2000,
    of: Annotated[
        list[str] | None,
        typer.Option("--of", help="another figure: 'feed_kg / rain_days'; repeat for several"),
    ] = None,
    resample: Annotated[
        str,
        typer.Option(
            "--resample",
            help="rows, residuals, signs or clusters",
            autocompletion=o.offers(words.Resample),
        ),
    ] = "rows",
    interval: Annotated[
        str,
        typer.Option(
            "--interval",
            help="percentile, accelerated or studentized",
            autocompletion=o.offers(words.Ends),
        ),
    ] = "percentile",
    seed: Annotated[int | None, typer.Option("--seed", help="seed: draws the same again")] = None,
    **given: Any,
) -> None:
    """Spread of figures over resamples of the rows."""
    fitted = fit_of(**given)
    table = fitted.bootstrap(
        resamples, of=of, resample=word(resample), interval=word(interval), seed=seed
    )
    show(table, given)
