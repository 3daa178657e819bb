"""Pictures of single rows: which are far out or badly fitted, and which decide the answer."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.show.numbers import count, figure, value
from joinery.show.pictures.canvas import Words
from joinery.study.check.single_rows import move_found
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.study.picture_words import flags_of, worded
from joinery.study.rows.digest import limits
from joinery.study.rows.figures import per_row
from joinery.study.rows.table import VERDICTS, changes_without, remarks
from joinery.study.thinned import unthinned
from joinery.study.verdicts import SERIOUS, UNREMARKABLE
from joinery.support.errors import CallError, listed
from joinery.support.labels import label_text

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

Given = Mapping[str, str | None]
RANKED_ROWS = 10  # in the picture of influence


def leverage(
    fit: Fitted, *, label_rows: str | Sequence[Any], words: Given, ax: Axes | None
) -> Figure:
    """Draw far-out rows told from badly fitted ones."""
    from joinery.show.pictures.rows import Regions, leverage

    figures, at = per_row(fit), limits(fit)
    if not np.isfinite(figures.influence.studentized).any():
        raise CallError("the fit has no residual to scale, so that no row can be judged by it")
    verdicts = np.full(len(figures.observed), UNREMARKABLE, dtype=object)
    notable = remarks(fit)
    verdicts[notable.places] = np.array(VERDICTS, object)[notable.grave]
    bad = remarks(unthinned(fit)).judged(SERIOUS)
    far = int(np.sum(figures.influence.leverage >= at.leverage))
    parts = []
    if len(bad):
        parts.append(f"{count(len(bad), 'row')} serious")
    if far:
        parts.append(f"the line leans on {count(far, 'row')} far out")
    finding = "; ".join(parts) or "no row is badly fitted, none is far out"
    caption = Words(
        "Which rows are far out, which badly fitted?", finding, "leverage", "studentized residual"
    )
    regions = Regions(at.leverage, at.large)
    measures = figures.influence
    flags = flags_of(fit, label_rows)
    return leverage(
        measures.leverage,
        measures.studentized,
        regions,
        verdicts,
        flags,
        worded(caption, words),
        ax,
    )


def influence(
    fit: Fitted, *, label_rows: str | Sequence[Any], words: Given, ax: Axes | None
) -> Figure:
    """Draw the ten rows that weigh most, ranked by Cook's distance, and what each moves."""
    from joinery.show.pictures.rows import Bar, ranked

    table, chosen = rows_at_hand(fit)
    d, at = per_row(fit).influence.cooks_distance, limits(fit)
    if not np.isfinite(d).any():
        raise CallError("the fit has no residual to scale, so no row's influence can be judged")
    over = np.flatnonzero(d >= at.cooks_distance)
    labels = table.index[chosen.rows]
    if len(over):
        named = listed([label_text(label) for label in labels[over]])
        finding = f"{count(len(over), 'row decides', 'rows decide')} the answer: {named}"
    else:
        finding = move_found(unthinned(fit)) or "no row decides the answer"
        finding += f"; the largest Cook's distance is {figure(float(np.nanmax(d)), 2)}"
    finding += "; beside each bar what the row moves most, in standard errors"
    order = _by_distance(d)
    moved = _most_moved(fit)
    bars = [
        Bar(label_text(labels[p]), float(d[p]), moved(int(p)), bool(d[p] >= at.cooks_distance))
        for p in order.tolist()
    ]
    bounds = [(at.cooks_distance, f"median of F, {value(at.cooks_distance, 2)}")]
    bounds += [(1.0, "1")] if abs(1 - at.cooks_distance) > 0.06 * float(np.nanmax(d)) else []
    caption = Words("Does any row decide the answer?", finding, "Cook's distance", "")
    return ranked(bars, bounds, worded(caption, words), ax)


def _by_distance(d: np.ndarray) -> np.ndarray:
    """Return the places of the rows of the largest Cook's distances, the largest first."""
    order = np.argsort(-np.where(np.isfinite(d), d, -1.0), kind="stable")[:RANKED_ROWS]
    return np.asarray(order[np.isfinite(d[order])])


def heaviest(fit: Fitted) -> list[tuple[str, float]]:
    """Return the labels of the rows of the largest Cook's distances, and the distances."""
    d = per_row(fit).influence.cooks_distance
    places = _by_distance(d)
    table, chosen = rows_at_hand(fit)
    labels = table.index[chosen.rows][places]
    return [(label_text(label), float(d[p])) for label, p in zip(labels, places, strict=True)]


def _most_moved(fit: Fitted) -> Callable[[int], str]:
    """Return what says which coefficient a row, by its place, moves most, and how far (DFBETAS)."""
    parts = changes_without(fit)
    names = list(parts)
    sizes = np.column_stack([parts[name] for name in names])

    def words(place: int) -> str:
        row = sizes[place]
        if not np.isfinite(row).any():
            return ""
        most = int(np.nanargmax(np.abs(row)))
        if row[most] > 0:
            sign = "+"
        else:
            sign = ""
        return f"{fit.words(names[most])} {sign}{figure(float(row[most]), 2)}"

    return words
