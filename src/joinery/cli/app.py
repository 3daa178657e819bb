"""What every command shares: from arguments to a fit, from a table to the screen."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from joinery import errors
from joinery.cli import options as o
from joinery.show.marks import tell

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
PANELS = START, FIT, CHECK, MEND, FORECAST = (
    "Start",
    "Fit and read",
    "Check",
    "Mend and compare",
    "Forecast and hand over",
)


def data_of(data: str, given: dict[str, Any]) -> Any:
    """The table named on the command line.

    ``given`` holds what was settled about how its file is written.
    """
    from joinery.data.records import Records, records

    settled = {name: given[name] for name in o.READ if given.get(name) is not None}
    if data.startswith("sample:") or (not settled and data != "-"):
        return records(data)
    from joinery.data.reading import read

    return Records(read(data, **settled), data)


def tell_notes(notes: Iterable[str]) -> None:
    """What was guessed while a table was read, on standard error."""
    for note in notes:
        tell(f"note: {note}")


def fit_of(model: str | None, **given: Any) -> Fit:
    """The fit that a command works on: made from data and a model, or loaded from a saved one."""
    from joinery.model.fit import fit, load

    data = str(given["data"])
    if model is None:
        if not data.endswith(".json"):
            raise errors.CallError(
                "a model sentence is wanted after the data, or a saved fit (.json) in place of both"
            )
        return load(data)
    rows, options = given_options(**given)
    fitted = fit(rows, model, **options)
    tell_notes(note for note in rows.notes if note not in fitted.notes)
    if given["save"] is not None:
        tell(f"saved {fitted.save(given['save'])}")
    return fitted


def given_options(**given: Any) -> tuple[Any, dict[str, Any]]:
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
    return data_of(given["data"], given), options | {"leave_out": labels or None}


@contextmanager
def working(words: str) -> Iterator[None]:
    """Says on standard error, where that is a terminal, that something longer is going on."""
    if not sys.stderr.isatty():
        yield
        return
    from rich.console import Console

    with Console(stderr=True).status(words):
        yield


def show(table: Table, given: Mapping[str, Any]) -> None:
    """Show a table as the options of a command say: in a form, or written into a file."""
    from joinery.show import forms, terminal

    form, output = given["form"], given["output"]
    errors.one_of("--as", form, FORMS)
    table = table if given["digits"] is None else table.with_digits(given["digits"])
    if output is not None:
        tell(f"wrote {table.write(output, for_spreadsheets=given['for_spreadsheets'])}")
    elif form == "csv":
        sys.stdout.write(forms.as_csv(table, given["for_spreadsheets"]))
    elif form == "text":
        terminal.say(terminal.grid(table))
    else:
        sys.stdout.write(table.render(form))
        if form == "json":
            sys.stdout.write("\n")


def folder_of(path: str | Path) -> Path:
    """A folder to write into, made where it is not there."""
    Path(path).mkdir(parents=True, exist_ok=True)
    return Path(path)


def question(name: str, panel: str, words: str, ask: Callable[[Fit], Table]) -> None:
    """Adds a command that shows one Table of a fit."""

    @app.command(name, help=words, rich_help_panel=panel)
    @o.takes(o.DATA_AND_MODEL, o.FIT, o.SHOW)
    def command(**given: Any) -> None:
        show(ask(fit_of(**given)), given)
