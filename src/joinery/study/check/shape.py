"""The fit whose residuals' shape is judged: without a few bad rows, and of a long table a part.

One row far off bends a curve, spreads a fan and skews the residuals: it is the cause, and the
others are asked of what is left. Of a long table one row in so many is asked: what those could not
show is far too small to matter."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.notation.context import positions_at
from joinery.study.check.unused import unused_columns
from joinery.study.fitted import Fitted, once, rows_at_hand
from joinery.study.rows.table import remarks
from joinery.study.sampled import asked_in_part, fit_to_part, rows_stand_alone
from joinery.study.verdicts import SERIOUS
from joinery.support.errors import JoineryError, listed
from joinery.support.limits import JUDGED_ROWS

MOST_BAD = 3  # rows so far off that shapes are judged without them


@dataclass(frozen=True)
class Shape:
    """A fit to some of the rows of another one, to be asked about shapes in its place."""

    fit: Fitted
    without: str  # the rows that are missing for being far off: "row H058"
    every: int  # one row in so many is there

    @property
    def words(self) -> str:
        """The rows that are asked, as a line of the checks says it."""
        parts = [f"without {self.without}"] if self.without else []
        parts += [f"on one row in {self.every}"] if self.every > 1 else []
        return "".join(f", {part}" for part in parts)


@once
def shape_of(fit: Fitted) -> Shape | None:
    """Return what is asked about shapes in place of a fit; None where the fit itself is."""
    if not rows_stand_alone(fit):
        return None
    bad = remarks(fit).judged(SERIOUS).places
    if len(bad) > MOST_BAD:
        bad = bad[:0]
    long = asked_in_part(fit)
    if not long and not len(bad):
        return None
    try:
        if long:
            rest, every = fit_to_part(fit, JUDGED_ROWS, bad, unused_columns(fit))
        else:
            rest, every = _without(fit, bad), 1
    except JoineryError:  # what is left cannot be fitted
        return None
    # a level or a column that only the other rows have: all of them are asked
    if rest.design.width != fit.design.width or rest.solution.rank != fit.solution.rank:
        return None
    return Shape(rest, _named(fit, bad), every)


def _without(fit: Fitted, bad: np.ndarray) -> Fitted:
    """Return the fit to all rows but some, by their places."""
    assert fit.origin is not None
    used = fit.origin.used_rows
    return fit.origin.refit(used=used.without(positions_at(used.rows, bad)))


def _named(fit: Fitted, bad: np.ndarray) -> str:
    """Return rows by their labels, after the word for them."""
    if not len(bad):
        return ""
    table, used = rows_at_hand(fit)
    labels = [str(label) for label in table.labels(positions_at(used.rows, bad))]
    word = "row" if len(labels) == 1 else "rows"
    return f"{word} {listed(labels, MOST_BAD)}"
