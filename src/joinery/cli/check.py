"""Commands that check a model."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from joinery.cli import options as o
from joinery.cli.app import CHECK, app, fit_of, folder_of, is_saved, question, show, streams
from joinery.cli.options import Option
from joinery.cli.texts import labels_in, numbers_in
from joinery.show.marks import tell
from joinery.support import errors, words

question("checks", CHECK, "What the model takes for granted: figures, verdicts, what to do.")


@app.command(rich_help_panel=CHECK)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def rows(**given: Any) -> None:
    """Each row's figures: fit, leverage, influence, and what is remarkable."""
    fitted, output = fit_of(**given), given["output"]
    if output is not None and streams(fitted._fitted.origin, output):
        tell(f"wrote {fitted.write_rows(output)}")
    else:
        show(fitted.rows(), given)


def of_picture(text: str) -> str | list[str]:
    """Return the predictor that a picture is about, or two coefficients."""
    several = labels_in([text])
    if len(several) == 1:
        return text
    return several


def rows_in(text: str) -> str | list[str]:
    """Return which rows have labels: those flagged, none, or those named."""
    if text in ("flagged", "none"):
        return text
    return labels_in([text])


NAMES = {
    "names": Option(
        "line, residuals, checks, leverage, …",
        words.PictureName,
        several=True,
        place=True,
        metavar="NAME...",
    ),
}
OF_PICTURE = {
    "against": Option("the column a picture is about"),
    "across": Option("line: one for each level or value of this"),
    "term": Option("the coefficient or category a picture is about"),
    "of": Option("the predictor, or two coefficients: 'a, b'", read=of_picture),
    "at": Option("inverse: the response", float),
    "reference": Option("level_differences: against this level"),
}
OF_ANY_PICTURE = {
    "title": Option("in place of its own"),
    "x_label": Option("below the picture"),
    "y_label": Option("beside the picture"),
    "label_rows": Option(
        "flagged, none, or labels separated by commas", default="flagged", read=rows_in
    ),
    "figsize": Option("width and height in inches: '6, 4'", read=numbers_in),
}
BESIDE = Option("line: another fit over it; may repeat", several=True, metavar="MODEL")
PICTURE_FILE = Option("the file (.png .svg .pdf), or a folder")


@app.command(rich_help_panel=CHECK)
@o.takes(
    o.DATA_AND_MODEL,
    NAMES,
    OF_PICTURE,
    {"beside": BESIDE},
    OF_ANY_PICTURE,
    {"output": PICTURE_FILE},
    o.FIT,
)
def draw(output: str | None, beside: list[str] | None, **given: Any) -> None:
    """Draw pictures of a fit into files."""
    from joinery.study.draw import check_picture

    pictures = list(given["names"] or [])
    if is_saved(given["data"]) and given["model"] is not None:
        pictures.insert(0, given["model"])  # it stands where the sentence would
        given["model"] = None
    if not pictures:
        raise errors.CallError("name a picture after the sentence: line, residuals, checks, …")
    target = Path(output or "")
    one_file = target.suffix != ""
    if one_file and len(pictures) > 1:
        raise errors.CallError("several pictures go into a folder; give --output a folder")
    if not one_file:
        target = folder_of(target)
    fitted = fit_of(**given)
    options = o.arguments(OF_PICTURE, given)
    if beside:
        options["beside"] = [fit_of(**given | {"model": other}) for other in beside]
    for name in pictures:  # before the first is drawn
        check_picture(name, options)
    options |= o.arguments(OF_ANY_PICTURE, given)
    for name in pictures:
        if one_file:
            path = target
        else:
            path = target / f"{name}.png"
        fitted.draw(name, path=path, **options)
        tell(f"drew {path}")


question(
    "crosscheck",
    CHECK,
    "Judge a fit on rows it has not seen.",
    {
        "folds": Option("number of folds; else leave-one-out or 10", int),
        "by": Option("hold out whole groups of this column"),
        "seed": o.FOLDS_SEED,
    },
)
question(
    "bootstrap",
    CHECK,
    "Spread of figures over resamples of the rows.",
    {
        "resamples": Option("how many", int, 2000, least=2),
        "of": Option("another figure: 'feed_kg / rain_days'; repeat for several", several=True),
        "resample": Option("rows, residuals, signs or clusters", words.Resample, "rows"),
        "interval": Option("percentile, accelerated or studentized", words.Ends, "percentile"),
        "seed": o.DRAWS_SEED,
    },
)
