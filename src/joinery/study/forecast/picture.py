"""The picture of forecasts: intervals by row, what came beside them where it is known."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.data.written_dates import date_text
from joinery.show.numbers import count, level_words
from joinery.study.fitted import Fitted
from joinery.study.forecast.notes import BEYOND, judgement
from joinery.study.forecast.table import forecast_with_remarks, new_rows
from joinery.study.picture_words import worded
from joinery.study.rates import counted
from joinery.support.errors import CallError
from joinery.support.labels import label_text
from joinery.support.limits import FORECAST_ROWS

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


def forecast(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Mapping[str, str | None],
    ax: Axes | None,
    new: Any = None,
    hold: str | None = None,
    per: float | None = None,
) -> Figure:
    """Draw forecasts of new rows, or of those whose response is missing."""
    from joinery.show.pictures.canvas import Words
    from joinery.show.pictures.rows import Ahead, forecasts

    table, remarks = forecast_with_remarks(fit, new, None, "model", False, hold, per)
    frame = table.frame
    if len(frame) > FORECAST_ROWS:
        raise CallError(
            f"the picture shows up to {FORECAST_ROWS} rows, not {len(frame):,}; "
            "forecast some of them"
        )
    outside = np.zeros(len(frame), bool)
    outside[[at for at, part in remarks.items() if any(r.kind in BEYOND for r in part)]] = True
    name, middle = counted(fit, per).name, fit.response.middle
    if "observed" in frame:
        observed = frame["observed"].to_numpy(float)
    else:
        observed = None
    finding = f"{level_words(fit.level)} intervals for the {middle} and for a single new row"
    if outside.any():
        finding += (
            f"; dashed: {count(int(outside.sum()), 'row lies', 'rows lie')} outside what was seen"
        )
    if observed is not None:
        finding += "".join(f"; {words}" for words in judgement(dict(table.columns), fit.level)[-1:])
    caption = Words(f"What values of {name} are to be expected?", finding, name, "")
    rows = Ahead(
        labels=_row_names(fit, frame, new),
        fitted=frame["fitted"].to_numpy(float),
        mean=(frame[f"{middle}_lower"].to_numpy(float), frame[f"{middle}_upper"].to_numpy(float)),
        new=(frame["new_lower"].to_numpy(float), frame["new_upper"].to_numpy(float)),
        observed=observed,
        outside=outside,
    )
    return forecasts(rows, worded(caption, words), ax)


def _row_names(fit: Fitted, frame: pd.DataFrame, new: Any) -> list[str]:
    """Return what the rows are called: their labels, or dates where those are running numbers."""
    labels = [label_text(label) for label in frame.index]
    dates = fit.design.dates
    if fit.options.id or len(dates) != 1 or not all(label.isdecimal() for label in labels):
        return labels
    table, positions = new_rows(fit, new)
    if dates[0] not in table.names:
        return labels
    days = table.column(dates[0]).numbers(positions)
    if not np.isfinite(days).all() or len(np.unique(days)) < len(days):
        return labels
    return [date_text(day) for day in days]
