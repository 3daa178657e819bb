"""Commands on made-up data: simulate a known process, rehearse a study of it."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

from joinery.cli import options as o
from joinery.cli.app import REHEARSE, app, show
from joinery.cli.options import Option
from joinery.show.marks import tell
from joinery.support import errors


def predictors_in(texts: list[str]) -> Any:
    """Return recipes by column, or a table of predictors."""
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


def totals_in(text: str) -> Any:
    """Return the totals of every row, or the column that holds them."""
    try:
        return float(text)
    except ValueError:
        return text


def sizes_in(text: str) -> int | list[int]:
    """Return a number of rows, or several to compare."""
    try:
        sizes = [int(part) for part in text.split(",")]
    except ValueError:
        words = f"--rows {text!r} is not a number of rows"
        raise errors.CallError(words, argument="rows") from None
    if len(sizes) == 1:
        return sizes[0]
    return sizes


MODEL = {
    "model": Option("a sentence: 'y given x, group'", wanted=True, place=True, metavar="MODEL")
}
TRUTH = {"coefficients": Option("true values: 'intercept=100, x=1'", wanted=True)}
PROCESS = {
    "predictors": Option(
        "'x=uniform(0, 10)', normal, whole or levels; repeat for several; or a file",
        several=True,
        read=predictors_in,
        metavar="COLUMN=RECIPE",
    ),
    "residual_sd": Option("σ of the normal family", float, 1.0),
    "family": o.FIT["family"],
    "link": o.FIT["link"],
    "dispersion": Option("φ of gamma and inverse-gaussian", float),
    "shape": Option("k of the negative binomial", float),
    "totals": Option("of 'survived of colonies': 20", read=totals_in),
    "seed": o.DRAWS_SEED,
}
OF_SIMULATION = MODEL | TRUTH | {"rows": Option("how many", int, wanted=True, least=1)} | PROCESS
OF_REHEARSAL = (
    MODEL
    | TRUTH
    | {
        "rows": Option("how many; several to compare: '20, 50'", wanted=True, read=sizes_in),
        "times": Option("how often", int, 1000, least=2),
        "level": Option("of intervals", float, 0.95),
        "errors": Option("normal, skewed, uneven or alike", default="normal"),
        "std_errors": o.FIT["std_errors"],
    }
    | PROCESS
)


@app.command(rich_help_panel=REHEARSE)
@o.takes(OF_SIMULATION, {"output": Option("a CSV file")})
def simulate(output: str | None, **given: Any) -> None:
    """Data from a known process, as CSV."""
    from joinery.rehearsal.simulate import simulate as draw
    from joinery.show.files import write_text

    table = draw(**o.arguments(OF_SIMULATION, given))
    text = table.to_csv(index=False, lineterminator="\n")
    if output is None:
        sys.stdout.write(text)
        return
    if Path(output).suffix.lower() != ".csv":
        raise errors.CallError("simulated rows are written as CSV; let the file end in .csv")
    tell(f"wrote {write_text(output, text)}")


@app.command(rich_help_panel=REHEARSE)
@o.takes(
    OF_REHEARSAL,
    {
        "draw": Option("draw a picture here"),
        "picture": Option("estimates, or power (against several --rows)", default="estimates"),
    },
    o.SHOW,
)
def rehearse(draw: str | None, picture: Any, **given: Any) -> None:
    """The same study many times: what standard errors, intervals and tests are worth."""
    from joinery.rehearsal.simulate import rehearse as many_times

    study = many_times(**o.arguments(OF_REHEARSAL, given))
    show(study.coefficients, given)
    if draw is not None:
        study.draw(picture, path=draw)
        tell(f"drew {draw}")
