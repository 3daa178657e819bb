"""The options that commands share, named as the keywords of ``fit`` with dashes."""

from __future__ import annotations

from typing import Annotated

import typer

Data = Annotated[
    str, typer.Argument(metavar="DATA", help="a file, '-' for standard input, sample:NAME, or a saved fit")
]
Model = Annotated[str | None, typer.Argument(metavar="MODEL", help="a model sentence: 'honey_kg given forage_km2'")]
Id = Annotated[str | None, typer.Option("--id", help="the column that labels rows")]
Where = Annotated[str | None, typer.Option("--where", help="use only rows that meet this: 'season >= 2021'")]
LeaveOut = Annotated[
    list[str] | None, typer.Option("--leave-out", help="row labels not to use; repeat, or separate by commas")
]
Missing = Annotated[str, typer.Option("--missing", help="'leave out' rows with missing cells, or 'refuse' them")]
Level = Annotated[float, typer.Option("--level", help="of intervals: 95 or 0.95")]
Decimal = Annotated[str | None, typer.Option("--decimal", help="'.' or ',' where numbers like 1,234 leave it open")]
Sheet = Annotated[str | None, typer.Option("--table", help="the sheet of a spreadsheet")]
As = Annotated[str, typer.Option("--as", help="text, markdown, csv, json or html")]
Output = Annotated[str | None, typer.Option("--output", help="write to this file, by its ending, instead")]
Digits = Annotated[int | None, typer.Option("--digits", min=1, max=17, help="significant digits shown to people")]
Save = Annotated[str | None, typer.Option("--save", help="save the fit to this JSON file")]
