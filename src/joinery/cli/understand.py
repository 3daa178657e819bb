"""Commands that understand a model: slopes, means, differences, what it says in words."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from contextlib import suppress
from typing import Annotated, Any

import typer

from joinery.cli import options as o
from joinery.cli.app import UNDERSTAND, app, fit_of, is_saved, question, show, working
from joinery.cli.texts import labels_in, numbers_in, word
from joinery.support import errors, words

Of = Annotated[
    str,
    typer.Option(
        "--of",
        help="the predictor; a level, 'hive_type: stacked'; two, 'hive_type: stacked, long'",
    ),
]
Across = Annotated[str, typer.Option("--across", help="the column across which it changes")]
Hold = Annotated[
    str | None, typer.Option("--hold", help="the rest at values: 'forage_km2=3, hive_type=long'")
]
Simultaneous = Annotated[
    bool,
    typer.Option(
        "--simultaneous/--no-simultaneous", help="intervals that hold for all values together"
    ),
]
Settings = Annotated[
    list[str] | None,
    typer.Option("--at", help="values of other columns: 'rain_days=40'; repeat for several"),
]


def moved(text: str) -> str | list[str]:
    """What moves: a predictor, a level against its reference, or two levels after their column."""
    name, colon, levels = text.partition(": ")
    both = [part.strip() for part in levels.split(",")]
    if colon and len(both) == 2:
        return [name, *both]
    return text


def values_in(text: str | None) -> list[Any] | None:
    """Return numbers or levels separated by commas."""
    if text is None:
        return None
    out: list[Any] = []
    for part in labels_in([text]):
        value: Any = part
        with suppress(ValueError):
            value = float(part)
        out.append(value)
    return out


def settings_in(texts: Sequence[str] | None) -> dict[str, Any] | None:
    """Return values by column, several of one column from several texts."""
    from joinery.notation.parse import read_assignments

    out: dict[str, list[Any]] = {}
    for text in texts or ():
        for name, value in read_assignments(text).items():
            out.setdefault(name, []).append(value)
    return dict(out) or None


def held_in(text: str | None) -> dict[str, Any] | None:
    """Return columns held at values."""
    from joinery.notation.parse import read_assignments

    if text is None:
        return None
    return dict(read_assignments(text))


@app.command(rich_help_panel=UNDERSTAND)
@o.takes(o.DATA_AND_MODEL, o.FIT)
def explain(**given: Any) -> None:
    """The fit read aloud, in plain words and the data's units."""
    from joinery.show import terminal

    terminal.say(terminal.paragraphs(fit_of(**given).explain()))


@app.command(rich_help_panel=UNDERSTAND)
@o.takes(o.DATA_AND_MODEL, o.FIT)
def workings(
    at: Annotated[
        str | None, typer.Option("--at", help="where a single predictor is forecast: 'x=3', or 3")
    ] = None,
    form: Annotated[
        str,
        typer.Option(
            "--as", help="text, markdown, html or latex", autocompletion=o.offers(words.Form)
        ),
    ] = "text",
    output: Annotated[str | None, typer.Option("--output", help="write to this file")] = None,
    **given: Any,
) -> None:
    """The arithmetic behind each figure, step after step."""
    from joinery.show.files import write_text
    from joinery.show.marks import tell

    text = fit_of(**given).workings(at).render(form)
    if output is None:
        sys.stdout.write(text)
    else:
        tell(f"wrote {write_text(output, text)}")


@app.command("simple-slopes", rich_help_panel=UNDERSTAND)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def simple_slopes(
    of: Of,
    across: Across,
    at: Annotated[
        str | None, typer.Option("--at", help="its values or levels: '20, 40, 60'")
    ] = None,
    hold: Hold = None,
    simultaneous: Simultaneous = False,
    **given: Any,
) -> None:
    """The slope of one predictor at values of another."""
    fitted = fit_of(**given)
    options: dict[str, Any] = {"hold": held_in(hold), "simultaneous": simultaneous}
    show(fitted.simple_slopes(moved(of), across, values_in(at), **options), given)


@app.command("inverse", rich_help_panel=UNDERSTAND)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def inverse(
    of: Annotated[str, typer.Option("--of", help="the predictor whose value is asked for")],
    at: Annotated[str, typer.Option("--at", help="the response, or several: '20, 40'")],
    hold: Hold = None,
    replicates: Annotated[
        int, typer.Option("--replicates", help="the response is the mean of so many readings")
    ] = 1,
    interval: Annotated[
        str, typer.Option("--interval", help="new (of a reading) or mean (of the mean itself)")
    ] = "new",
    **given: Any,
) -> None:
    """Find which value of a predictor gives a response: a reading, a chance."""
    responses: Any = numbers_in(at)
    table = fit_of(**given).inverse(
        of,
        responses,
        hold=held_in(hold) or "average",
        replicates=replicates,
        interval=word(interval),
    )
    show(table, given)


@app.command("slope-regions", rich_help_panel=UNDERSTAND)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def slope_regions(
    of: Of, across: Across, hold: Hold = None, simultaneous: Simultaneous = True, **given: Any
) -> None:
    """Find the stretches in which that slope differs from zero."""
    fitted = fit_of(**given)
    options: dict[str, Any] = {"hold": held_in(hold), "simultaneous": simultaneous}
    show(fitted.slope_regions(moved(of), across, **options), given)


def _saved_term(given: dict[str, Any], term: str | None) -> tuple[str, dict[str, Any]]:
    """Return the term and the rest: with a saved fit it stands where the sentence would."""
    if term is None and is_saved(given["data"]):
        return str(given["model"]), given | {"model": None}
    if term is None:
        raise errors.CallError(
            "name the category whose levels are meant, after the sentence", argument="term"
        )
    return term, given


Term = Annotated[
    str | None, typer.Argument(metavar="TERM", help="a category, or 'hive_type * swarmed'")
]


@app.command("adjusted-means", rich_help_panel=UNDERSTAND)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def adjusted_means(
    term: Term = None,
    at: Settings = None,
    weighting: Annotated[
        str,
        typer.Option(
            "--weighting",
            help="of other categories' levels: equal or 'as seen'",
            autocompletion=o.offers(words.Weighting),
        ),
    ] = "equal",
    per: o.Per = None,
    **given: Any,
) -> None:
    """The means of a category's levels, the rest held."""
    term, given = _saved_term(given, term)
    fitted = fit_of(**given)
    show(fitted.adjusted_means(term, at=settings_in(at), weighting=word(weighting), per=per), given)


@app.command("level-differences", rich_help_panel=UNDERSTAND)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def level_differences(
    term: Term = None,
    reference: Annotated[
        str | None, typer.Option("--reference", help="set each level against this one alone")
    ] = None,
    correction: Annotated[
        str | None,
        typer.Option(
            "--correction",
            help="tukey, dunnett, holm, bonferroni or none",
            autocompletion=o.offers(words.Correction),
        ),
    ] = None,
    at: Settings = None,
    **given: Any,
) -> None:
    """Differences between levels, corrected for their number."""
    term, given = _saved_term(given, term)
    fitted = fit_of(**given)
    options: dict[str, Any] = {"reference": reference, "correction": correction}
    with working("comparing levels"):
        table = fitted.level_differences(term, at=settings_in(at), **options)
    show(table, given)


@app.command(rich_help_panel=UNDERSTAND)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def difference(
    first: Annotated[
        str | None, typer.Argument(metavar="SETTING", help="'feed_kg=6, rain_days=40'")
    ] = None,
    second: Annotated[
        str | None,
        typer.Argument(metavar="[SETTING]", help="less this one; else less the average"),
    ] = None,
    hold: Hold = None,
    **given: Any,
) -> None:
    """Answer a what-if: the mean at one setting less the mean at another."""
    if is_saved(given["data"]):
        first, second, given = given["model"], first, given | {"model": None}
    fitted = fit_of(**given)
    show(fitted.difference(first or "", second, hold=held_in(hold) or "average"), given)


@app.command("average-effects", rich_help_panel=UNDERSTAND)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def average_effects(
    step: Annotated[
        float | None,
        typer.Option("--step", help="for numbers: the effect of so much more, not the slope"),
    ] = None,
    per: o.Per = None,
    **given: Any,
) -> None:
    """Average change of the mean with each predictor, on its own scale."""
    show(fit_of(**given).average_effects(step=step, per=per), given)


@app.command(rich_help_panel=UNDERSTAND)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def cutoffs(
    at: Annotated[str | None, typer.Option("--at", help="probabilities: '0.2, 0.5'")] = None,
    crosscheck: Annotated[
        bool, typer.Option("--crosscheck", help="judge each row by a fit without it")
    ] = False,
    seed: Annotated[
        int | None, typer.Option("--seed", help="seed: deals the same folds again")
    ] = None,
    **given: Any,
) -> None:
    """Yes/no models: what it costs to say yes from a cut-off on."""
    fitted = fit_of(**given)
    show(fitted.cutoffs(values_in(at), crosscheck=crosscheck, seed=seed), given)


question(
    "covariance",
    UNDERSTAND,
    "The covariance of the coefficients, their correlations beside it.",
    lambda f: f.covariance(),
)
question(
    "design-columns",
    UNDERSTAND,
    "The design matrix of the rows used.",
    lambda f: f.design_columns(),
)
