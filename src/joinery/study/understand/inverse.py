"""The value of a predictor that gives a response: calibration, and doses for a chance."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.show.appearance import Appearance
from joinery.show.numbers import level_words, value
from joinery.show.table import Table
from joinery.study.fitted import Fitted
from joinery.study.held import held_note
from joinery.study.read.coefficients import error_notes
from joinery.study.read.line_parts import exposure_drawn
from joinery.study.read.line_picture import line
from joinery.study.understand.inverse_question import Question, Reading, question_of
from joinery.support.errors import CallError

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


def inverse(
    fit: Fitted,
    of: str,
    at: float | Sequence[float],
    *,
    hold: Mapping[str, Any] | str = "average",
    replicates: int = 1,
    interval: str = "new",
    level: float | None = None,
) -> Table:
    """Return the table of values. See ``Fit.inverse``."""
    question = question_of(fit, of, hold, replicates, interval, level)
    wanted = list(at) if isinstance(at, (list, tuple, np.ndarray)) else [at]
    rows = [reading for y in wanted for reading in question.readings(y)]
    shown = question.cell
    ends = [reading.ends for reading in rows]
    return Table(
        {
            "at": [reading.at for reading in rows],
            "value": [shown(reading.value) for reading in rows],
            "lower": [shown(low) for low, _ in ends],
            "upper": [shown(high) for _, high in ends],
            "note": [reading.note for reading in rows],
        },
        title=f"Which {fit.words(of)} gives this {question.what}, "
        f"with {level_words(question.level)} intervals",
        notes=(*error_notes(fit), *held_note(fit, question.held), *question.notes),
        appearance=Appearance(
            kinds={"at": "value", "note": "text"}
            | dict.fromkeys(("value", "lower", "upper"), "own"),
            headings={"value": fit.words(of)},
        ),
    )


def picture(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Mapping[str, str | None],
    ax: Axes | None,
    of: str | None = None,
    at: float | None = None,
    hold: Mapping[str, Any] | str = "average",
    replicates: int = 1,
    interval: str = "new",
    level: float | None = None,
) -> Figure:
    """Draw the fitted line with a reading carried over to the predictor's axis."""
    from joinery.show.pictures.fit import carried

    if of is None or at is None:
        raise CallError("say of= which predictor, and at= which response", argument="of")
    question = question_of(fit, of, hold, replicates, interval, level)
    readings = question.readings(at)
    values = [_in_words(question, r) for r in readings if np.isfinite(r.value)]
    caption = {
        "title": f"Which {fit.words(of)} gives {question.what} {value(at)}?",
        "finding": " and ".join(values) or readings[0].note,
    }
    given = {name: text for name, text in words.items() if text is not None}
    figure = line(
        fit, label_rows=label_rows, words=caption | given, ax=ax, against=of, hold=question.hold
    )
    marks = [(r.value, r.stretches) for r in readings]
    height = at * exposure_drawn(fit, of, question.hold)
    if fit.estimate.linear:  # drawn on the scale that was fitted
        height = question.target(at)
    carried(figure.axes[0] if ax is None else ax, height, marks)
    return figure


def _in_words(question: Question, reading: Reading) -> str:
    low, high = map(question.shown, reading.ends)
    words = f"{question.shown(reading.value)} [{low}, {high}]"
    if reading.note:
        words += f": {reading.note}"
    return words
