"""Commands to start with: the demo, and the first look at a table."""

from __future__ import annotations

import sys
from typing import Annotated, Any

import typer

from joinery.cli import options as o
from joinery.cli.app import START, app, data_of, folder_of, show
from joinery.cli.options import Option
from joinery.show.marks import tell


@app.command(rich_help_panel=START)
def demo(
    folder: Annotated[
        str, typer.Argument(metavar="[FOLDER]", help="where pictures and files go")
    ] = "joinery-demo",
) -> None:
    """Walk the sample data through the whole job, with pictures, a page and a saved result."""
    from joinery.cli.demo import walk

    walk(folder)


@app.command(rich_help_panel=START)
@o.takes(
    o.DATA_AND_MODEL,
    {name: o.FIT[name] for name in ("id", "where")},
    {"pictures": Option("draw into this folder too")},
    o.READ,
    o.SHOW,
)
def look(id: str | None, where: str | None, pictures: str | None, **given: Any) -> None:
    """See what came in: each column, what is odd, what goes with what.

    With a MODEL, the response against each term.
    """
    from joinery.first_look.look import look as first_look

    model = given["model"]
    first = first_look(data_of(given["data"], given), model, where=where, id=id)
    tables = [first.columns]
    if given["form"] == "text" and given["output"] is None:
        tables = first.tables
    for place, table in enumerate(tables):
        if place:
            sys.stdout.write("\n")
        show(table, given)
    if pictures is not None:
        name: Any
        for name in first.pictures:
            tell(f"drew {folder_of(pictures) / name}.png")
            first.draw(name, path=folder_of(pictures) / f"{name}.png")
