"""Commands on made-up data: simulate a known process, rehearse a study of it."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated, Any

import typer

from joinery.cli import options as o
from joinery.cli.app import REHEARSE, app, show
from joinery.cli.texts import word
from joinery.show.marks import tell
from joinery.support import errors

Model = Annotated[str, typer.Argument(metavar="MODEL", help="a sentence: 'y given x, group'")]
Coefficients = Annotated[
    str, typer.Option("--coefficients", help="true values: 'intercept=100, x=1'")
]
Predictors = Annotated[
    list[str] | None,
    typer.Option(
        "--predictors",
        metavar="COLUMN=RECIPE",
        help="'x=uniform(0, 10)', normal, whole or levels; repeat for several; or a file",
    ),
]
ResidualSd = Annotated[float, typer.Option("--residual-sd", help="σ of the normal family")]
Shape = Annotated[float | None, typer.Option("--shape", help="k of the negative binomial")]
Totals = Annotated[str | None, typer.Option("--totals", help="of 'survived of colonies': 20")]
Dispersion = Annotated[
    float | None, typer.Option("--dispersion", help="φ of gamma and inverse-gaussian")
]
Seed = Annotated[int | None, typer.Option("--seed", help="seed: draws the same again")]


def predictors_in(texts: list[str] | None) -> Any:
    """Return recipes by column, or a table of predictors."""
    if not texts:
        return None
    if len(texts) == 1 and "=" not in texts[0]:
        return texts[0]
    out = {}
    for text in texts:
        name, sign, recipe = text.partition("=")
        if not sign:
            raise errors.CallError(
                f"{text!r} is not a column with its recipe; write 'x=uniform(0, 10)'",
                argument="predictors",
            )
        out[name.strip()] = recipe.strip()
    return out


def totals_in(text: str | None) -> Any:
    try:
        if text is None:
            return None
        return float(text)
    except ValueError:
        return text


@app.command(rich_help_panel=REHEARSE)
def simulate(
    model: Model,
    coefficients: Coefficients,
    rows: Annotated[int, typer.Option("--rows", min=1, help="how many")],
    predictors: Predictors = None,
    residual_sd: ResidualSd = 1.0,
    family: o.Family = None,
    link: o.Link = None,
    dispersion: Dispersion = None,
    shape: Shape = None,
    totals: Totals = None,
    seed: Seed = None,
    output: Annotated[str | None, typer.Option("--output", help="a CSV file")] = None,
) -> None:
    """Data from a known process, as CSV."""
    from joinery.rehearsal.simulate import simulate as draw
    from joinery.show.files import write_text

    table = draw(
        model, coefficients, rows, predictors=predictors_in(predictors), residual_sd=residual_sd,
        family=word(family), link=word(link), dispersion=dispersion, shape=shape,
        totals=totals_in(totals),
        seed=seed,
    )  # fmt: skip
    text = table.to_csv(index=False, lineterminator="\n")
    if output is None:
        sys.stdout.write(text)
        return
    if Path(output).suffix.lower() != ".csv":
        raise errors.CallError("simulated rows are written as CSV; let the file end in .csv")
    tell(f"wrote {write_text(output, text)}")


@app.command(rich_help_panel=REHEARSE)
@o.takes({"model": (Model, o.WANTED)}, o.SHOW)
def rehearse(
    coefficients: Coefficients,
    rows: Annotated[str, typer.Option("--rows", help="how many; several to compare: '20, 50'")],
    times: Annotated[int, typer.Option("--times", min=2, help="how often")] = 1000,
    level: Annotated[float, typer.Option("--level", help="of intervals")] = 0.95,
    errors_of: Annotated[
        str, typer.Option("--errors", help="normal, skewed, uneven or alike")
    ] = "normal",
    std_errors: o.StdErrors = "constant spread",
    predictors: Predictors = None,
    residual_sd: ResidualSd = 1.0,
    family: o.Family = None,
    link: o.Link = None,
    dispersion: Dispersion = None,
    shape: Shape = None,
    totals: Totals = None,
    seed: Seed = None,
    draw: Annotated[str | None, typer.Option("--draw", help="draw a picture here")] = None,
    picture: Annotated[
        str, typer.Option("--picture", help="estimates, or power (against several --rows)")
    ] = "estimates",
    **given: Any,
) -> None:
    """The same study many times: what standard errors, intervals and tests are worth."""
    from joinery.rehearsal.simulate import rehearse as many_times

    try:
        sizes = [int(v) for v in rows.split(",")]
    except ValueError:
        words = f"--rows {rows!r} is not a number of rows"
        raise errors.CallError(words, argument="rows") from None
    study = many_times(
        given["model"], coefficients, sizes if len(sizes) > 1 else sizes[0], times=times,
        level=level, errors=errors_of, std_errors=word(std_errors),
        predictors=predictors_in(predictors), residual_sd=residual_sd,
        family=word(family), link=word(link), dispersion=dispersion, shape=shape,
        totals=totals_in(totals), seed=seed,
    )  # fmt: skip
    show(study.coefficients, given)
    if draw is not None:
        study.draw(picture, path=draw)
        tell(f"drew {draw}")
