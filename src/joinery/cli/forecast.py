"""Commands that forecast and hand over."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from joinery.cli import options as o
from joinery.cli.app import FORECAST, app, data_of, fit_of, show, tell_notes
from joinery.cli.options import Option
from joinery.show.marks import tell
from joinery.support import advice, errors, words

if TYPE_CHECKING:
    from joinery.show.table import Table


OF_FORECAST = {
    "intervals": Option("model or distribution-free", words.Intervals, "model"),
    "simultaneous": Option("intervals that hold for all rows together", bool, False),
    "hold": Option("average: hold the other columns at their average", words.Hold),
    "per": o.PER,
}


@app.command(rich_help_panel=FORECAST)
@o.takes(
    o.DATA_AND_MODEL,
    {
        "new": Option("a file of rows to forecast"),
        "at": Option("one row: 'forage_km2=3, feed_kg=2'"),
    },
    OF_FORECAST,
    o.FIT,
    o.SHOW,
)
def forecast(new: str | None, at: str | None, **given: Any) -> None:
    """Forecast rows whose response is missing, a file of new rows, or one row given here."""
    from joinery.notation.parse import read_assignments

    if new is not None and at is not None:
        raise errors.CallError("give --new or --at, not both")
    fitted = fit_of(**given)
    rows: Any = None
    if at is not None:
        rows = read_assignments(at)
    elif new is not None:
        written = {name: given[name] for name in ("decimal", "dates", "empty", "not_empty")}
        rows = data_of(new, written, fitted._fitted.design.manner)
        tell_notes(rows.notes)
    output = given["output"]
    if new is not None and rows.read_as_needed and output is not None:
        for name in ("simultaneous", "hold", "per"):
            if given[name]:
                raise errors.CallError(
                    f"{advice.option(name)} is for forecasts of rows in memory; leave it out, or "
                    "forecast fewer rows",
                    argument=name,
                )
        path = fitted.write_forecasts(
            rows, output, level=given["level"], intervals=given["intervals"]
        )
        tell(f"wrote {path}")
        return
    table = fitted.forecast(rows, level=given["level"], **o.arguments(OF_FORECAST, given))
    if new is not None and (given["output"] is not None or given["form"] in ("csv", "json")):
        table = _beside(rows, table)
    show(table, given)


@app.command(rich_help_panel=FORECAST)
@o.takes(
    o.DATA_AND_MODEL, {"output": Option("the HTML file to write", default="report.html")}, o.FIT
)
def report(output: str, **given: Any) -> None:
    """One page to send: every step of the work, with tables and linked pictures."""
    tell(f"wrote {fit_of(**given).report(output)}")


def _beside(rows: Any, table: Table) -> Table:
    """Return the new table's own columns, in their order, with the forecasts after them."""
    from dataclasses import replace

    given = {name: rows.frame[name].tolist() for name in rows.names}
    columns = {
        name if name not in given else f"{name} (forecast)": values
        for name, values in table.columns.items()
    }
    return replace(table, columns=given | columns, index=None)
