"""Commands that fit and read a model."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Annotated, Any

import typer

from joinery import errors
from joinery.cli import options as o
from joinery.cli.app import FIT, FORMS, app, fit_of, question, show
from joinery.show.marks import tell

if TYPE_CHECKING:
    from joinery.model.result import Fit


@app.command(rich_help_panel=FIT)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def fit(
    full: Annotated[
        bool, typer.Option("--full", help="every table, not the short page alone")
    ] = False,
    **given: Any,
) -> None:
    """Fit a model and read it: the short page, or with --full every table."""
    fitted = fit_of(**given)
    _show_page(fitted, given)
    if full:
        kept = (
            []
            if fitted._fitted.origin is None
            else [fitted.anova(), fitted.checks(), fitted.rows()]
        )
        linear = [fitted.term_correlations()] if fitted._fitted.estimate.linear else []
        for part in (
            fitted.overall(),
            fitted.coefficients(standardized=True),
            *linear,
            *kept,
        ):
            sys.stdout.write("\n")
            show(part, given | {"output": None})


def _show_page(fitted: Fit, given: dict[str, Any]) -> None:
    from joinery.show import short_page as page
    from joinery.show import terminal
    from joinery.show.files import write_text
    from joinery.study.short_page import short_page

    form, output, digits = given["form"], given["output"], given["digits"]
    errors.one_of("--as", form, FORMS)
    if output is not None or form in ("csv", "json"):
        ending = output.rsplit(".", 1)[-1].lower() if output else form
        if ending in ("txt", "html"):
            made = short_page(fitted._fitted, digits)
            text = page.as_html(made) if ending == "html" else page.as_text(made)
            tell(f"wrote {write_text(str(output), text + chr(10))}")
        else:
            show(fitted.coefficients(), given)
        return
    made = short_page(fitted._fitted, digits)
    if form == "text":
        terminal.say(page.renderable(made))
    else:
        sys.stdout.write(page.as_html(made) if form == "html" else page.as_markdown(made))


@app.command(rich_help_panel=FIT)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def coefficients(
    ratios: Annotated[bool, typer.Option("--ratios", help="odds, rate or mean ratios too")] = False,
    profile: Annotated[
        bool, typer.Option("--profile", help="ends from the profile likelihood")
    ] = False,
    standardized: Annotated[
        bool, typer.Option("--standardized", help="slopes in standard units too")
    ] = False,
    **given: Any,
) -> None:
    """The coefficients with intervals, standard errors, t and p."""
    more = {"ratios": ratios, "profile": profile, "standardized": standardized}
    show(fit_of(**given).coefficients(**more), given)


question(
    "term-correlations",
    FIT,
    "What each term shares with the response: simple, partial and semipartial r.",
    lambda f: f.term_correlations(),
)


question(
    "average-effects",
    FIT,
    "How the mean changes with each predictor, on its own scale.",
    lambda f: f.average_effects(),
)


question("overall", FIT, "The whole model against no predictors.", lambda f: f.overall())


@app.command(rich_help_panel=FIT)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def anova(
    after: Annotated[
        str, typer.Option("--after", help="earlier, lower-order or others")
    ] = "earlier",
    **given: Any,
) -> None:
    """What each term explains beyond the terms it is adjusted for."""
    show(fit_of(**given).anova(after), given)


@app.command(rich_help_panel=FIT)
@o.takes(o.DATA_ALONE, o.FIT, o.SHOW)
def claim(
    model: Annotated[
        str, typer.Argument(metavar="MODEL", help="a model sentence (none with a saved fit)")
    ],
    claims: Annotated[
        str | None,
        typer.Argument(metavar="CLAIM", help="'feed_kg = 2 * rain_days, forage_km2 > 0'"),
    ] = None,
    **given: Any,
) -> None:
    """Test a claim about coefficients: one or several equations or inequalities."""
    saved = claims is None and given["data"].endswith(".json")
    if claims is None and not saved:
        raise errors.CallError("a claim is wanted after the model sentence: 'forage_km2 = 2'")
    fitted = fit_of(model=None if saved else model, **given)
    show(fitted.claim(model if saved else str(claims)), given)


@app.command(rich_help_panel=FIT)
@o.takes(o.DATA_AND_MODEL, o.FIT)
def equation(
    style: Annotated[
        str, typer.Option("--style", help="text, latex, python, sql or spreadsheet")
    ] = "text",
    **given: Any,
) -> None:
    """The fitted equation, ready to copy."""
    sys.stdout.write(fit_of(**given).equation(style) + "\n")
