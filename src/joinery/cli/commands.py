"""Every command. Results alone go to standard output; messages go to standard error, in full."""

from __future__ import annotations

import sys
import warnings
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from joinery import errors
from joinery.cli import options as o

if TYPE_CHECKING:
    from joinery.model.result import Fit
    from joinery.show.table import Table

app = typer.Typer(
    name="joinery",
    help=(
        "Fit, read, check, mend and forecast with linear models, from a table and one plain "
        "sentence."
    ),
    epilog=(
        "Try: joinery demo   or   joinery fit sample:yields 'honey_kg given forage_km2, "
        "hive_type' --id hive"
    ),
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
)
FORMS = ("text", "markdown", "csv", "json", "html")
START, FIT, CHECK, FORECAST = "Start", "Fit and read", "Check", "Forecast and hand over"
MEND = "Mend and compare"


def run() -> None:
    """Runs the command line; Joinery's own errors become a message and an exit status."""
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="replace")
    warnings.showwarning = _as_note
    if len(sys.argv) < 2 or "--help" in sys.argv:
        _plain_help()
    try:
        app()
    except errors.JoineryError as reason:
        sys.stderr.write(f"joinery: {reason}\n")
        sys.exit(reason.exit_status)
    except BrokenPipeError:
        sys.stderr.close()
        sys.exit(0)


def _plain_help() -> None:
    """Leave the help in the terminal's own colours: yellow and cyan cannot be read on white."""
    from typer import rich_utils

    for name in vars(rich_utils):
        if name.startswith("STYLE_") and any(
            c in str(getattr(rich_utils, name)) for c in ("yellow", "cyan", "green")
        ):
            setattr(rich_utils, name, "bold")


def _as_note(message: Warning | str, *_: Any, **__: Any) -> None:
    sys.stderr.write(f"note: {message}\n")


# ---------------------------------------------- from arguments to a fit, from a table to the screen


def _data(data: str, given: dict[str, Any]) -> Any:
    """The table named on the command line.

    ``given`` holds what was settled about how its file is written.
    """
    from joinery.data.records import Records, records

    settled = {name: given[name] for name in o.READ if given.get(name) is not None}
    if data.startswith("sample:") or (not settled and data != "-"):
        return records(data)
    from joinery.data.reading import read

    return Records(read(data, **settled), data)


def _tell(notes: Iterable[str]) -> None:
    """What was guessed while a table was read, on standard error."""
    for note in notes:
        sys.stderr.write(f"note: {note}\n")


def _fit(model: str | None, **given: Any) -> Fit:
    """The fit that a command works on: made from data and a model, or loaded from a saved one."""
    from joinery.model.fit import fit, load

    data = str(given["data"])
    if model is None:
        if not data.endswith(".json"):
            raise errors.CallError(
                "a model sentence is wanted after the data, or a saved fit (.json) in place of both"
            )
        return load(data)
    rows, options = _given(**given)
    fitted = fit(rows, model, **options)
    _tell(note for note in rows.notes if note not in fitted.notes)
    if given["save"] is not None:
        sys.stderr.write(f"saved {fitted.save(given['save'])}\n")
    return fitted


def _given(**given: Any) -> tuple[Any, dict[str, Any]]:
    """The table named on the command line and the options of ``fit``."""
    options = {name: given[name] for name in o.FIT if name not in (*o.READ, "save")}
    if options["dispersion"] not in (None, "estimated"):
        with suppress(ValueError):  # what is no number is refused by fit, which says what it may be
            options["dispersion"] = float(options["dispersion"])
    labels = [
        part.strip()
        for text in given["leave_out"] or []
        for part in text.split(",")
        if part.strip()
    ]
    return _data(given["data"], given), options | {"leave_out": labels or None}


@contextmanager
def _working(words: str) -> Iterator[None]:
    """Says on standard error, where that is a terminal, that something longer is going on."""
    if not sys.stderr.isatty():
        yield
        return
    from rich.console import Console

    with Console(stderr=True).status(words):
        yield


def _show(table: Table, form: str, output: str | None, digits: int | None) -> None:
    from joinery.show import forms

    errors.one_of("--as", form, FORMS)
    table = table if digits is None else table.with_digits(digits)
    if output is not None:
        sys.stderr.write(f"wrote {table.write(output)}\n")
    elif form == "text":
        forms.say(forms.grid(table))
    else:
        sys.stdout.write(table.render(form))
        if form == "json":
            sys.stdout.write("\n")


def _folder(path: str | Path) -> Path:
    """A folder to write into, made where it is not there."""
    Path(path).mkdir(parents=True, exist_ok=True)
    return Path(path)


# ----------------------------------------------------------- the commands, in the order of the work


@app.command(rich_help_panel=START)
def demo(
    folder: Annotated[
        str, typer.Argument(metavar="[FOLDER]", help="where pictures and files go")
    ] = "joinery-demo",
) -> None:
    """Walk the sample data through the whole job, with pictures and a saved result."""
    from joinery.cli.demo import walk

    walk(folder)


@app.command(rich_help_panel=START)
@o.takes(o.DATA_AND_MODEL, o.READ, o.SHOW)
def look(
    data: str,
    model: str | None,
    form: str,
    output: str | None,
    digits: int | None,
    id: o.Id = None,
    where: o.Where = None,
    pictures: Annotated[
        str | None, typer.Option("--pictures", help="draw into this folder too")
    ] = None,
    **given: Any,
) -> None:
    """See what came in: each column, what is odd, what goes with what.

    With a MODEL, the response against each term.
    """
    from joinery.study.look.look import look as first_look

    first = first_look(_data(data, given), model, where=where, id=id)
    tables = [first.columns]
    if form == "text" and output is None:
        tables += [first.correlations] if len(first.numeric) > 1 else []
        tables += [first.response] if first.response is not None else []
    for place, table in enumerate(tables):
        if place:
            sys.stdout.write("\n")
        _show(table, form, output, digits)
    if pictures is not None:
        names = [
            "columns",
            *(["matrix"] if len(first.numeric) > 1 else []),
            *(["response"] if model else []),
        ]
        for name in names:
            sys.stderr.write(f"drew {_folder(pictures) / name}.png\n")
            first.draw(name, path=_folder(pictures) / f"{name}.png")


@app.command(rich_help_panel=FIT)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def fit(
    full: Annotated[
        bool, typer.Option("--full", help="every table, not the short page alone")
    ] = False,
    **given: Any,
) -> None:
    """Fit a model and read it: the short page, or with --full every table."""
    fitted = _fit(**given)
    _show_page(fitted, given["form"], given["output"], given["digits"])
    if full:
        kept = (
            []
            if fitted._fitted.origin is None
            else [fitted.anova(), fitted.checks(), fitted.rows()]
        )
        linear = fitted._fitted.estimate.linear
        for part in (
            fitted.overall(),
            fitted.coefficients(standardized=True, correlations=linear),
            *kept,
        ):
            sys.stdout.write("\n")
            _show(part, given["form"], None, given["digits"])


def _show_page(fitted: Fit, form: str, output: str | None, digits: int | None) -> None:
    from joinery.show import forms
    from joinery.show import short_page as page
    from joinery.show.files import write_text
    from joinery.study.short_page import short_page

    errors.one_of("--as", form, FORMS)
    if output is not None or form in ("csv", "json"):
        ending = output.rsplit(".", 1)[-1].lower() if output else form
        if ending in ("txt", "html"):
            made = short_page(fitted._fitted, digits)
            text = page.as_html(made) if ending == "html" else page.as_text(made)
            sys.stderr.write(f"wrote {write_text(str(output), text + chr(10))}\n")
        else:
            _show(fitted.coefficients(), form, output, digits)
        return
    made = short_page(fitted._fitted, digits)
    if form == "text":
        forms.say(page.renderable(made))
    else:
        sys.stdout.write(page.as_html(made) if form == "html" else page.as_markdown(made))


def _question(name: str, panel: str, words: str, ask: Callable[[Fit], Table]) -> None:
    """Adds a command that shows one Table of a fit."""

    @app.command(name, help=words, rich_help_panel=panel)
    @o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
    def command(**given: Any) -> None:
        _show(ask(_fit(**given)), given["form"], given["output"], given["digits"])


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
    correlations: Annotated[
        bool, typer.Option("--correlations", help="with the response, too")
    ] = False,
    **given: Any,
) -> None:
    """The coefficients with intervals, standard errors, t and p."""
    more = {
        "ratios": ratios,
        "profile": profile,
        "standardized": standardized,
        "correlations": correlations,
    }
    _show(_fit(**given).coefficients(**more), given["form"], given["output"], given["digits"])


_question(
    "average-effects",
    FIT,
    "How the mean changes with each predictor, on its own scale.",
    lambda f: f.average_effects(),
)
_question("overall", FIT, "The whole model against no predictors.", lambda f: f.overall())


@app.command(rich_help_panel=FIT)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def anova(
    after: Annotated[
        str, typer.Option("--after", help="earlier, lower-order or others")
    ] = "earlier",
    **given: Any,
) -> None:
    """What each term explains beyond the terms it is adjusted for."""
    _show(_fit(**given).anova(after), given["form"], given["output"], given["digits"])


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
    fitted = _fit(model=None if saved else model, **given)
    _show(
        fitted.claim(model if saved else str(claims)),
        given["form"],
        given["output"],
        given["digits"],
    )


@app.command(rich_help_panel=FIT)
@o.takes(o.DATA_AND_MODEL, o.FIT)
def equation(
    style: Annotated[
        str, typer.Option("--style", help="text, latex, python, sql or spreadsheet")
    ] = "text",
    **given: Any,
) -> None:
    """The fitted equation, ready to copy."""
    sys.stdout.write(_fit(**given).equation(style) + "\n")


_question(
    "checks",
    CHECK,
    "What the model takes for granted: figures, verdicts, what to do.",
    lambda f: f.checks(),
)
_question(
    "rows",
    CHECK,
    "Each row's figures: fit, leverage, influence, and what is remarkable.",
    lambda f: f.rows(),
)


@app.command(rich_help_panel=MEND)
@o.takes(o.DATA_ALONE, o.FIT, o.SHOW)
def compare(
    models: Annotated[
        list[str], typer.Argument(metavar="MODEL MODEL...", help="two or more model sentences")
    ],
    **given: Any,
) -> None:
    """Fits of one response side by side, nested ones tested."""
    from joinery.model.compare import compare as side_by_side

    table = side_by_side(*[_fit(model=model, **given) for model in models])
    _show(table, given["form"], given["output"], given["digits"])


@app.command(rich_help_panel=MEND)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def stepwise(
    moves: Annotated[
        str, typer.Option("--moves", help="add, drop, or 'add and drop'")
    ] = "add and drop",
    criterion: Annotated[
        str, typer.Option("--criterion", help="aic, bic, 'adjusted r2' or p")
    ] = "aic",
    keep: Annotated[
        str | None, typer.Option("--keep", help="terms that always stay: 'forage_km2, hive_type'")
    ] = None,
    enter: Annotated[float, typer.Option("--enter", help="the p below which a term enters")] = 0.05,
    leave: Annotated[float, typer.Option("--leave", help="the p above which a term leaves")] = 0.10,
    **given: Any,
) -> None:
    """Choose among the terms of a sentence step by step."""
    from joinery.model.compare import stepwise as choose

    rows, options = _given(**given)
    rules: dict[str, Any] = {
        "moves": moves,
        "criterion": criterion,
        "keep": keep or (),
        "enter": enter,
        "leave": leave,
    }
    with _working("choosing terms"):
        trail = choose(rows, str(given["model"]), **rules, **options)
        steps = trail.page
    _show(steps, given["form"], given["output"], given["digits"])
    if given["save"] is not None:
        sys.stderr.write(f"saved {trail.final.save(given['save'])}\n")


_question("box-cox", MEND, "Which power of the response suits the model.", lambda f: f.box_cox())


@app.command(rich_help_panel=CHECK)
@o.takes(o.DATA_ALONE, o.FIT)
def draw(
    model: Annotated[str, typer.Argument(metavar="MODEL", help="a model sentence")],
    names: Annotated[
        list[str], typer.Argument(metavar="NAME...", help="line, residuals, checks, leverage, …")
    ],
    against: Annotated[
        str | None, typer.Option("--against", help="the column across, for line and residuals")
    ] = None,
    output: Annotated[
        str | None, typer.Option("--output", help="the file (.png .svg .pdf), or a folder")
    ] = None,
    **given: Any,
) -> None:
    """Draw pictures of a fit into files."""
    target = Path(output) if output else Path()
    one_file = target.suffix != ""
    if one_file and len(names) > 1:
        raise errors.CallError("several pictures go into a folder; give --output a folder")
    target = target if one_file else _folder(target)
    fitted = _fit(model=model, **given)
    for name in names:
        path = target if one_file else target / f"{name}.png"
        options: dict[str, Any] = {} if against is None else {"against": against}
        fitted.draw(name, path=path, **options)
        sys.stderr.write(f"drew {path}\n")


@app.command(rich_help_panel=CHECK)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def crosscheck(
    folds: Annotated[
        int | None, typer.Option("--folds", help="how many; else leave-one-out or 10")
    ] = None,
    by: Annotated[
        str | None, typer.Option("--by", help="hold out whole groups of this column")
    ] = None,
    seed: Annotated[int | None, typer.Option("--seed", help="deals the same folds again")] = None,
    **given: Any,
) -> None:
    """Judge a fit on rows it has not seen."""
    fitted = _fit(**given)
    with _working("fitting without each fold"):
        table = fitted.crosscheck(folds, by=by, seed=seed)
    _show(table, given["form"], given["output"], given["digits"])


@app.command(rich_help_panel=FORECAST)
@o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
def forecast(
    new: Annotated[str | None, typer.Option("--new", help="a file of rows to forecast")] = None,
    at: Annotated[
        str | None, typer.Option("--at", help="one row: 'forage_km2=3, feed_kg=2'")
    ] = None,
    intervals: Annotated[
        str, typer.Option("--intervals", help="model or distribution-free")
    ] = "model",
    simultaneous: Annotated[
        bool, typer.Option("--simultaneous", help="hold for all rows together")
    ] = False,
    hold: Annotated[
        str | None, typer.Option("--hold", help="average: hold columns not given at it")
    ] = None,
    **given: Any,
) -> None:
    """Forecast rows whose response is missing, a file of new rows, or one row given here."""
    from joinery.notation.parse import read_assignments

    if new is not None and at is not None:
        raise errors.CallError("give --new or --at, not both")
    fitted = _fit(**given)
    rows: Any = None
    if at is not None:
        rows = read_assignments(at)
    elif new is not None:
        rows = _data(new, {"decimal": given["decimal"]})
        _tell(rows.notes)
    options: dict[str, Any] = {"intervals": intervals, "simultaneous": simultaneous, "hold": hold}
    table = fitted.forecast(rows, level=given["level"], **options)
    if new is not None and (given["output"] is not None or given["form"] in ("csv", "json")):
        table = _beside(rows, table)
    _show(table, given["form"], given["output"], given["digits"])


def _beside(rows: Any, table: Table) -> Table:
    """The new table's own columns, in their order, with the forecasts after them."""
    from dataclasses import replace

    given = {name: rows.frame[name].tolist() for name in rows.names}
    columns = {
        name if name not in given else f"{name} (forecast)": values
        for name, values in table.columns.items()
    }
    return replace(table, columns=given | columns, index=None)
