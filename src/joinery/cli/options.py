"""Options that commands share, named as the keywords of ``fit``, and how a command gets them."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Annotated, Any, Literal, get_args, get_origin

import typer

from joinery.cli.texts import as_typed
from joinery.support import errors, words


@dataclass(frozen=True)
class Option:
    """One option or argument of a command, and how its text becomes the value of a parameter."""

    help: str
    kind: Any = str  # bool, int, float, or the type that lists its closed words
    default: Any = None  # the parameter's own, where the help shows it
    read: Callable[[Any], Any] = as_typed
    several: bool = False  # may be repeated
    wanted: bool = False  # cannot be left out
    place: bool = False  # an argument, known by its place
    absent: str = ""  # the message where an argument is missing that may stand elsewhere
    name: str = ""  # as it is typed, where that is not the parameter's name
    metavar: str | None = None
    least: int | None = None
    most: int | None = None
    panel: str | None = None  # the heading of the help under which it stands

    def parameter(self, name: str) -> inspect.Parameter:
        """Return the parameter of a command, as the parser of arguments reads it."""
        shown: dict[str, Any] = {"help": self.help, "metavar": self.metavar}
        shown |= {"min": self.least, "max": self.most}
        if get_origin(self.kind) is Literal:
            shown["autocompletion"] = self.words
        if self.place:
            declared = typer.Argument(**shown)
        else:
            declared = typer.Option(*self._typed(name), rich_help_panel=self.panel, **shown)
        default = inspect.Parameter.empty if self.wanted else self.default
        return inspect.Parameter(
            name,
            inspect.Parameter.KEYWORD_ONLY,
            annotation=Annotated[self._type(), declared],
            default=default,
        )

    def words(self, incomplete: str) -> list[str]:
        """Return the closed words that complete a beginning in the shell."""
        return [word for word in get_args(self.kind) if word.startswith(incomplete)]

    def _typed(self, name: str) -> list[str]:
        if self.name:
            return self.name.split()
        spelled = name.replace("_", "-")
        if self.kind is bool and self.default:  # what is on can be turned off
            return [f"--{spelled}/--no-{spelled}"]
        return [f"--{spelled}"]

    def _type(self) -> Any:
        one = str if get_origin(self.kind) is Literal else self.kind
        if self.several:
            one = list[one]  # type: ignore[valid-type]
        if self.default is None and not self.wanted:
            return one | None
        return one


Options = Mapping[str, Option]


def under(panel: str, options: Options) -> dict[str, Option]:
    """Return options that stand under a heading of the help."""
    return {name: replace(option, panel=panel) for name, option in options.items()}


def arguments(options: Options, given: Mapping[str, Any]) -> dict[str, Any]:
    """Return what was given as the arguments of a call; what was not given has its own default."""
    out = {}
    for name, option in options.items():
        if given[name] is not None:
            out[name] = option.read(given[name])
        elif option.absent:
            raise errors.CallError(option.absent, argument=name)
    return out


DATA = Option(
    "a file, a folder of Parquet files, '-' for standard input, sample:NAME, a database's URL, or "
    "a saved fit",
    wanted=True,
    place=True,
    metavar="DATA",
)
MODEL = Option(
    "a model sentence: 'honey_kg given forage_km2'; none with a saved fit",
    place=True,
    metavar="MODEL",
)
FOLDS_SEED = Option("seed: deals the same folds again", int)
DRAWS_SEED = Option("seed: draws the same again", int)
PER = Option("rates for this much exposure in place of counts: 100000", float)

OF_MODEL = under(
    "The model",
    {
        "family": Option("normal, binomial, poisson, gamma, …", words.FamilyName),
        "link": Option("identity, log, logit, probit, cloglog, …", words.LinkName),
        "dispersion": Option('a known dispersion, or "estimated" (quasi-likelihood)'),
        "weights": Option("an expression w: the variance of a row is σ²/w"),
        "offset": Option("an expression added with coefficient 1"),
        "std_errors": Option(
            "'constant spread', robust, hc0 to hc3, clustered, autocorrelated",
            words.StdErrors,
            "constant spread",
        ),
        "cluster": Option("the column of clusters; repeat for crossed ones", several=True),
        "penalty": Option("firth: finite estimates where the data separate", words.Penalty),
        "with_": Option(
            "a change: 'leave out H058', 'add TERM', 'drop TERM', or a new response 'log(y)'",
            several=True,
            name="--with",
            metavar="CHANGE",
        ),
    },
)
OF_ROWS = under(
    "Which rows",
    {
        "id": Option("the column that labels rows"),
        "where": Option("use only rows that meet this: 'season >= 2021'"),
        "leave_out": Option("row labels not to use; repeat, or separate by commas", several=True),
        "order": Option("the column that puts rows in sequence"),
        "missing": Option(
            "cells: 'leave out' their rows, 'refuse', or put the 'mean'",
            words.Missing,
            "leave out",
        ),
        "repeats": Option("an expression: a row stands for so many equal rows"),
    },
)
OF_ANSWERS = under(
    "Output",
    {
        "level": Option("level of intervals: 95 (the default) or 0.95", float),
        "labels": Option(
            "words for a column: 'x=Forage (km²)'", several=True, metavar="COLUMN=WORDS"
        ),
        "save": Option("save the fit to this JSON file"),
    },
)
READ = under(
    "Reading the file",
    {
        "query": Option("what to select, where DATA is a database's URL"),
        "table": Option("the sheet of a spreadsheet, the table of a database"),
        "empty": Option(
            "a mark that stands for a missing cell: '?'; repeat for several", several=True
        ),
        "not_empty": Option(
            "a mark that usually stands for a missing cell, and is a value here: 'None'; repeat "
            "for several",
            several=True,
        ),
        "decimal": Option("the decimal mark of every column: '.' or ','"),
        "delimiter": Option("what separates columns of a text file"),
        "encoding": Option("of a text file: utf-8, latin-1, …"),
        "header": Option("the line of the header, from 1", int, least=1),
        "footer": Option("how many lines at the end are not rows", int, least=0),
        "dates": Option("'day first' or 'month first' for dates like 03/04/2024"),
    },
)
FIT = OF_MODEL | OF_ROWS | OF_ANSWERS | READ
NOT_OF_FIT = ("save", "with_", *READ)  # what the library's fit does not take
SHOW = under(
    "Output",
    {
        "form": Option("text, markdown, csv, json, html or latex", words.Form, "text", name="--as"),
        "output": Option("write to this file, by its ending, instead"),
        "digits": Option("significant digits shown to people", int, least=1, most=17),
        "for_spreadsheets": Option("CSV whose text no spreadsheet runs as a formula", bool, False),
    },
)
WATCH = under("Output", {"watch": Option("run again whenever the data file changes", bool, False)})
DATA_ALONE = {"data": DATA}
DATA_AND_MODEL = {"data": DATA, "model": MODEL}
INPUTS, OUTPUTS = ("data", "new"), ("output", "save")  # options that name files


def takes(*options: Options) -> Callable[[Callable[..., None]], Callable[..., None]]:
    """Give a command its options; whatever reads a file can follow it."""
    all_of = {name: option for group in options for name, option in group.items()}
    if "data" in all_of:
        all_of |= WATCH
    parameters = [option.parameter(name) for name, option in all_of.items()]

    def decorate(command: Callable[..., None]) -> Callable[..., None]:
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
        called.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
        called.__annotations__ = {p.name: p.annotation for p in parameters}
        return called

    return decorate
