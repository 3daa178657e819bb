"""Options that commands share, named as the keywords of ``fit``, and how a command gets them."""

from __future__ import annotations

import inspect
from collections.abc import Callable
from typing import Annotated, Any, get_args

import typer

from joinery.support import words


def offers(words_of: Any) -> Callable[[str], list[str]]:
    """Return what completes a closed word in the shell, from the type that lists such words."""

    def complete(incomplete: str) -> list[str]:
        return [word for word in get_args(words_of) if word.startswith(incomplete)]

    return complete


DATA = (
    "a file, a folder of Parquet files, '-' for standard input, sample:NAME, a database's URL, or "
    "a saved fit"
)
Data = Annotated[str, typer.Argument(metavar="DATA", help=DATA)]
Model = Annotated[
    str | None,
    typer.Argument(metavar="MODEL", help="a model sentence: 'honey_kg given forage_km2'"),
]
Id = Annotated[str | None, typer.Option("--id", help="the column that labels rows")]
Where = Annotated[
    str | None, typer.Option("--where", help="use only rows that meet this: 'season >= 2021'")
]
Weights = Annotated[
    str | None, typer.Option("--weights", help="an expression w: the variance of a row is σ²/w")
]
Repeats = Annotated[
    str | None, typer.Option("--repeats", help="an expression: a row stands for so many equal rows")
]
Offset = Annotated[
    str | None, typer.Option("--offset", help="an expression added with coefficient 1")
]
LeaveOut = Annotated[
    list[str] | None,
    typer.Option("--leave-out", help="row labels not to use; repeat, or separate by commas"),
]
With = Annotated[
    list[str] | None,
    typer.Option(
        "--with",
        metavar="CHANGE",
        help="a change: 'leave out H058', 'add TERM', 'drop TERM', or a new response 'log(y)'",
    ),
]
Labels = Annotated[
    list[str] | None,
    typer.Option("--labels", metavar="COLUMN=WORDS", help="words for a column: 'x=Forage (km²)'"),
]
Order = Annotated[str | None, typer.Option("--order", help="the column that puts rows in sequence")]
StdErrors = Annotated[
    str,
    typer.Option(
        "--std-errors",
        help="'constant spread', robust, hc0 to hc3, clustered, autocorrelated",
        autocompletion=offers(words.StdErrors),
    ),
]
Cluster = Annotated[
    list[str] | None,
    typer.Option("--cluster", help="the column of clusters; repeat for crossed ones"),
]
Missing = Annotated[
    str,
    typer.Option(
        "--missing",
        help="cells: 'leave out' their rows, 'refuse', or put the 'mean'",
        autocompletion=offers(words.Missing),
    ),
]
Level = Annotated[
    float | None, typer.Option("--level", help="level of intervals: 95 (the default) or 0.95")
]
Decimal = Annotated[
    str | None, typer.Option("--decimal", help="the decimal mark of every column: '.' or ','")
]
Sheet = Annotated[
    str | None, typer.Option("--table", help="the sheet of a spreadsheet, the table of a database")
]
Delimiter = Annotated[
    str | None, typer.Option("--delimiter", help="what separates columns of a text file")
]
Encoding = Annotated[
    str | None, typer.Option("--encoding", help="of a text file: utf-8, latin-1, …")
]
Header = Annotated[
    int | None, typer.Option("--header", min=1, help="the line of the header, from 1")
]
Footer = Annotated[
    int | None, typer.Option("--footer", min=0, help="how many lines at the end are not rows")
]
Dates = Annotated[
    str | None,
    typer.Option("--dates", help="'day first' or 'month first' for dates like 03/04/2024"),
]
Family = Annotated[
    str | None,
    typer.Option(
        "--family",
        help="normal, binomial, poisson, gamma, …",
        autocompletion=offers(words.FamilyName),
    ),
]
Dispersion = Annotated[
    str | None,
    typer.Option("--dispersion", help='a known dispersion, or "estimated" (quasi-likelihood)'),
]
Link = Annotated[
    str | None,
    typer.Option(
        "--link",
        help="identity, log, logit, probit, cloglog, …",
        autocompletion=offers(words.LinkName),
    ),
]
Penalty = Annotated[
    str | None,
    typer.Option(
        "--penalty",
        help="firth: finite estimates where the data separate",
        autocompletion=offers(words.Penalty),
    ),
]
Per = Annotated[
    float | None,
    typer.Option("--per", help="rates for this much exposure in place of counts: 100000"),
]
Save = Annotated[str | None, typer.Option("--save", help="save the fit to this JSON file")]
As = Annotated[
    str,
    typer.Option(
        "--as", help="text, markdown, csv, json, html or latex", autocompletion=offers(words.Form)
    ),
]
Output = Annotated[
    str | None, typer.Option("--output", help="write to this file, by its ending, instead")
]
Digits = Annotated[
    int | None, typer.Option("--digits", min=1, max=17, help="significant digits shown to people")
]

ForSpreadsheets = Annotated[
    bool,
    typer.Option("--for-spreadsheets", help="CSV whose text no spreadsheet runs as a formula"),
]
Empty = Annotated[
    list[str] | None,
    typer.Option("--empty", help="a mark that stands for a missing cell: '?'; repeat for several"),
]

NotEmpty = Annotated[
    list[str] | None,
    typer.Option(
        "--not-empty",
        help="a mark that usually stands for a missing cell, and is a value here: 'None'; repeat "
        "for several",
    ),
]

Watch = Annotated[bool, typer.Option("--watch", help="run again whenever the data file changes")]

Query = Annotated[
    str | None, typer.Option("--query", help="what to select, where DATA is a database's URL")
]
READ: dict[str, tuple[Any, Any]] = {
    "query": (Query, None),
    "table": (Sheet, None),
    "empty": (Empty, None),
    "not_empty": (NotEmpty, None),
    "decimal": (Decimal, None),
    "delimiter": (Delimiter, None),
    "encoding": (Encoding, None),
    "header": (Header, None),
    "footer": (Footer, None),
    "dates": (Dates, None),
}
FIT: dict[str, tuple[Any, Any]] = {
    "family": (Family, None),
    "link": (Link, None),
    "dispersion": (Dispersion, None),
    "weights": (Weights, None),
    "offset": (Offset, None),
    "std_errors": (StdErrors, "constant spread"),
    "cluster": (Cluster, None),
    "penalty": (Penalty, None),
    "with_": (With, None),
    "id": (Id, None),
    "where": (Where, None),
    "leave_out": (LeaveOut, None),
    "order": (Order, None),
    "missing": (Missing, "leave out"),
    "repeats": (Repeats, None),
    "level": (Level, None),
    "labels": (Labels, None),
    "save": (Save, None),
} | READ
NOT_OF_FIT = ("save", "with_", *READ)  # what the library's fit does not take
SHOW: dict[str, tuple[Any, Any]] = {
    "form": (As, "text"),
    "output": (Output, None),
    "digits": (Digits, None),
    "for_spreadsheets": (ForSpreadsheets, False),
}
WATCH: dict[str, tuple[Any, Any]] = {"watch": (Watch, False)}
PANELS = {
    "The model": (
        *("family", "link", "dispersion", "weights", "offset"),
        *("std_errors", "cluster", "penalty", "with_"),
    ),
    "Which rows": ("id", "where", "leave_out", "order", "missing", "repeats"),
    "Reading the file": tuple(READ),
    "Output": ("level", "labels", "save", *SHOW, *WATCH),
}
_ALL = FIT | SHOW | WATCH
for _panel, _names in PANELS.items():  # the help groups options under these headings
    for _name in _names:
        _ALL[_name][0].__metadata__[0].rich_help_panel = _panel


def takes(
    arguments: dict[str, tuple[Any, Any]], *options: dict[str, tuple[Any, Any]]
) -> Callable[[Callable[..., None]], Callable[..., None]]:
    """Give a command arguments before its own and shared options after them."""

    def decorate(command: Callable[..., None]) -> Callable[..., None]:
        follows = WATCH if "data" in arguments else {}  # whatever reads a file can follow it
        shared = {name: spec for group in (*options, follows) for name, spec in group.items()}
        chosen = [
            p
            for p in inspect.signature(command, eval_str=True).parameters.values()
            if p.kind != p.VAR_KEYWORD and p.name not in arguments and p.name not in shared
        ]
        parameters = [_parameter(n, *spec) for n, spec in arguments.items()] + chosen
        parameters += [_parameter(n, *spec) for n, spec in shared.items()]

        def called(**given: Any) -> None:
            from joinery.show.files import refuse_input

            for output in OUTPUTS:
                refuse_input(given.get(output), [given.get(name) for name in INPUTS])
            if not given.pop("watch", False):
                command(**given)
                return
            from joinery.cli.watch import watched

            watched(lambda: command(**dict(given)), str(given["data"]))

        called.__doc__, called.__name__ = command.__doc__, command.__name__
        called.__signature__ = inspect.Signature(  # type: ignore[attr-defined]
            [p.replace(kind=inspect.Parameter.KEYWORD_ONLY) for p in parameters]
        )
        called.__annotations__ = {p.name: p.annotation for p in parameters}
        return called

    return decorate


INPUTS, OUTPUTS = ("data", "new"), ("output", "save")  # options that name files


def _parameter(name: str, annotation: Any, default: Any) -> inspect.Parameter:
    return inspect.Parameter(
        name, inspect.Parameter.KEYWORD_ONLY, annotation=annotation, default=default
    )


WANTED = inspect.Parameter.empty
DATA_ALONE: dict[str, tuple[Any, Any]] = {"data": (Data, WANTED)}
DATA_AND_MODEL: dict[str, tuple[Any, Any]] = {"data": (Data, WANTED), "model": (Model, None)}
