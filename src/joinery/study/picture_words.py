"""Parts that the pictures of a fit share: words, labelled points, and findings."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from joinery.design.resolving import expressions_of
from joinery.notation.walk import named_in
from joinery.show.pictures.canvas import Words
from joinery.show.pictures.flags import Flag
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.study.rows.table import remarks
from joinery.study.verdicts import SERIOUS
from joinery.support.arguments import as_labels
from joinery.support.labels import label_text

MOST_LABELS = 12  # rows named in one picture: more would cover one another


def worded(words: Words, given: Mapping[str, str | None]) -> Words:
    """Return the picture's own words, replaced where the caller gave some; which rows are drawn."""
    finding = given.get("finding") or words.finding
    return replace(
        words,
        finding="; ".join(filter(None, (finding, given.get("drawn")))),
        title=given.get("title") or words.title,
        x=given.get("x_label") or words.x,
        y=given.get("y_label") or words.y,
    )


def names_of(fit: Fitted) -> list[str]:
    """Return every name that a picture of the fit may hold: columns, terms, coefficients, the
    response."""
    columns = named_in(expressions_of(fit.design.sentence))
    terms = [t.text for t in fit.design.terms]
    names = [*fit.design.names, *terms, fit.response.name, fit.response.original, *columns]
    return [fit.words(name) for name in names]


def flags_of(fit: Fitted, label_rows: str | Sequence[Any]) -> list[Flag]:
    """Return the points to label: the flagged ones, none, or those asked for."""
    table, chosen = rows_at_hand(fit)
    notable = remarks(fit)
    labels = table.index[chosen.rows]
    if isinstance(label_rows, str) and label_rows in ("flagged", "none"):
        flagged = notable[: MOST_LABELS if label_rows == "flagged" else 0]
        return [Flag(r.place, label_text(labels[r.place]), r.verdict == SERIOUS) for r in flagged]
    wanted = as_labels(label_rows)
    serious = set(notable.judged(SERIOUS).places.tolist())
    place_of = {
        int(position): place for place, position in enumerate(np.arange(len(table))[chosen.rows])
    }
    places = [place_of[int(p)] for p in table.positions(wanted) if int(p) in place_of]
    return [Flag(place, label_text(labels[place]), place in serious) for place in places]


def placed(flags: Sequence[Flag], order: np.ndarray) -> list[Flag]:
    """Return flags moved to where their rows stand in another order.

    Those without a place there are dropped.
    """
    if not flags or not len(order):
        return []
    place = np.full(max(int(order.max()), max(f.place for f in flags)) + 1, -1)
    place[order] = np.arange(len(order))
    return [replace(f, place=int(place[f.place])) for f in flags if place[f.place] >= 0]
