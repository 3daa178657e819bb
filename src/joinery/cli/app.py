"""Everything that commands share: from arguments to a fit, from a table to the screen."""

from __future__ import annotations

import sys
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import replace
from pathlib import Path
from types import MappingProxyType
from typing import TYPE_CHECKING, Annotated, Any, get_args

import typer

from joinery.cli import options as o
from joinery.cli.texts import changed, labels_in, labels_of
from joinery.cli.watch import last_fit
from joinery.show.marks import tell
from joinery.support import advice, errors
from joinery.support.words import Form

if TYPE_CHECKING:
    from joinery.model.result import Fit
    from joinery.show.table import Table
    from joinery.study.fitted import Origin

app = typer.Typer(
    name="joinery",
    epilog=(
        "Try: joinery demo   or   joinery fit sample:yields 'honey_kg given forage_km2, "
        "hive_type' --id hive"
    ),
    no_args_is_help=True,
    pretty_exceptions_enable=False,
)


def _say_version(wanted: bool) -> None:
    if wanted:
        from joinery.support.version import VERSION

        sys.stdout.write(f"{VERSION}\n")
        raise typer.Exit


Version = Annotated[
    bool,
    typer.Option("--version", callback=_say_version, is_eager=True, help="print the version"),
]


@app.callback()
def joinery(version: Version = False) -> None:
    """Fit, read, check, mend and forecast with linear models, from a table and a plain sentence."""


SAVED_HEAD = 200  # bytes, within which a saved fit says that it is one
FORMS = get_args(Form)
PANELS = START, FIT, CHECK, MEND, UNDERSTAND, FORECAST, REHEARSE = (
    "Start",
    "Fit and read",
    "Check",
    "Mend and compare",
    "Understand",
    "Forecast and hand over",
    "Rehearse",
)


def data_of(data: str, given: dict[str, Any], like: Any = None) -> Any:
    """Return the table named on the command line.

    ``given`` holds what was settled about how its file is written; ``like`` is how the table of a
    fit was read, where these are new rows.
    """
    from joinery.data.any_table import records
    from joinery.data.records import Records
    from joinery.data.sources.opening import is_database, of_table, source

    settled = {name: given[name] for name in o.READ if given.get(name) is not None}
    if is_database(data):
        query = given.get("query") or of_table(given.get("table"))
        return records(source(data, query=query), like=like)
    if data.startswith("sample:") or (not settled and data != "-"):
        return records(data, like=like)
    from joinery.data.reading import read, read_like

    if like is None:
        return Records(read(data, **settled), data)
    frame = read_like(data, like.marks.decimal, like.levels, **settled)
    return Records(frame, data, like=like)


def is_saved(data: Any) -> bool:
    """Return True for the file of a saved fit, rather than of a table in JSON."""
    path = Path(str(data))
    if path.suffix.lower() != ".json" or not path.is_file():
        return path.suffix.lower() == ".json"
    with path.open("rb") as file:
        return b'"joinery fit' in file.read(SAVED_HEAD)


def tell_notes(notes: Iterable[str]) -> None:
    """Print what was guessed while a table was read, on standard error."""
    for note in notes:
        tell(f"note: {note}")


def fit_of(model: str | None, *, page: bool = False, **given: Any) -> Fit:
    """Return the fit that a command works on: made from data and a model, or loaded from a saved
    one.

    What was noted while the table was read is told, but what a ``page`` says itself.
    """
    made = _fit_of(model, page, **given)
    last_fit.set(made)
    return made


def _fit_of(model: str | None, page: bool, **given: Any) -> Fit:
    from joinery.model.fit import fit

    data = str(given["data"])
    if model is None:
        if not data.endswith(".json"):
            raise errors.CallError(
                "a model sentence must follow the data, or a saved fit (.json) in place of both"
            )
        return _loaded(data, given)
    rows, options = given_options(model, **given)
    fitted = fit(rows, model, **options)
    tell_notes(note for note in rows.notes if not (page and note in fitted.notes))
    for change in given["with_"] or ():
        fitted = changed(fitted, change)
    if given["save"] is not None:
        tell(f"saved {fitted.save(given['save'])}")
    return fitted


def _loaded(path: str, given: Mapping[str, Any]) -> Fit:
    """Return a saved fit, at another level or with other words where these are given."""
    from joinery.model.fit import load
    from joinery.model.result import Fit
    from joinery.study.fitted import checked_level

    advice.speak_to_shell(advice.Typed((path,)))
    loaded = load(path)
    if not isinstance(loaded, Fit):
        raise errors.CallError(f"{path} holds a set of fits: joinery fit-each {path}")
    answers = ("level", "labels")
    options = [n for n, of in o.FIT.items() if n not in answers and given[n] != of.default]
    if options:
        raise errors.CallError(
            f"a saved fit is as it was fitted: {advice.option(options[0].rstrip('_'))} belongs to "
            "a fit of the table; give the table and a sentence",
            argument=options[0],
        )
    if given["level"] is None and not given["labels"]:
        return loaded
    kept = loaded._fitted.options
    if given["level"] is None:
        level = kept.level
    else:
        level = checked_level(given["level"])
    changed = replace(kept, level=level, labels={**kept.labels, **labels_of(given["labels"])})
    return Fit(replace(loaded._fitted, options=changed))


def _typed(model: str | None, given: Mapping[str, Any]) -> advice.Typed:
    """Return what was typed, so that advice can be a command in full."""
    options = []
    for name, option in o.FIT.items():
        value = given.get(name, option.default)
        if value != option.default and name != "save":
            for one in value if isinstance(value, list) else [value]:
                options += [f"--{name.rstrip('_').replace('_', '-')}", str(one)]
    return advice.Typed((str(given["data"]), *([model] if model else [])), tuple(options))


def given_options(model: str | None = None, **given: Any) -> tuple[Any, dict[str, Any]]:
    """Return the table named on the command line and the options of ``fit``."""
    advice.speak_to_shell(_typed(model, given))
    options = {name: given[name] for name in o.FIT if name not in o.NOT_OF_FIT}
    options["level"] = 0.95 if options["level"] is None else options["level"]
    options["labels"] = labels_of(options["labels"]) or None
    if options["dispersion"] not in (None, "estimated"):
        with suppress(ValueError):  # what is no number is refused by fit, which says what it may be
            options["dispersion"] = float(options["dispersion"])
    options["leave_out"] = labels_in(given["leave_out"] or ()) or None
    return data_of(given["data"], given), options


@contextmanager
def working(words: str) -> Iterator[None]:
    """Says on standard error, where that is a terminal, that something longer is going on."""
    if not words or not sys.stderr.isatty():
        yield
        return
    from rich.console import Console

    with Console(stderr=True).status(words):
        yield


def show(table: Table, given: Mapping[str, Any]) -> None:
    """Show a table as the options of a command say: in a form, or written into a file."""
    from joinery.show import forms, terminal
    from joinery.show.table import with_digits

    form, output = given["form"], given["output"]
    errors.one_of("--as", form, FORMS)
    table = with_digits(table, given["digits"])
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


def streams(origin: Origin | None, output: str) -> bool:
    """Return True if rows of a table read as needed are to be written into a file that takes them
    so."""
    from joinery.show.streamed import ENDINGS

    return origin is not None and origin.table.read_as_needed and output.endswith(ENDINGS)


def folder_of(path: str | Path) -> Path:
    """Return a folder to write into, made where it is not there."""
    Path(path).mkdir(parents=True, exist_ok=True)
    return Path(path)


def after_sentence(given: dict[str, Any], places: Sequence[str]) -> dict[str, Any]:
    """Return what was given, with what follows the sentence in its place.

    With a saved fit that stands where the sentence would."""
    if not is_saved(given["data"]):
        return given
    moved = [given["model"], *(given[name] for name in places)]
    return given | {"model": None} | dict(zip(places, moved, strict=False))


QUESTIONS: list[str] = []  # the commands made here


def question(
    name: str, panel: str, words: str, parameters: o.Options = MappingProxyType({}), busy: str = ""
) -> None:
    """Add a command that shows the Table of the fit's method of that name.

    ``parameters`` are those of the method that the command takes; ``busy`` is said meanwhile where
    it takes longer."""
    method = name.replace("-", "_")
    QUESTIONS.append(name)
    places = [at for at, option in parameters.items() if option.place]

    @app.command(name, help=words, rich_help_panel=panel)
    @o.takes(o.DATA_AND_MODEL, parameters, o.FIT, o.SHOW)
    def command(**given: Any) -> None:
        if places:
            given = after_sentence(given, places)
        options = o.arguments(parameters, given)
        fit = fit_of(**{at: value for at, value in given.items() if at not in parameters})
        with working(busy):
            table = getattr(fit, method)(**options)
        show(table, given)
