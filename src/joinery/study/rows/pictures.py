"""Pictures of single rows and terms: leverage, influence, added variables."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.core.blocks.partition import joined
from joinery.core.inference.smooth import Smooth
from joinery.notation.tree import names_in
from joinery.show.names import coefficient_named
from joinery.show.numbers import count, figure, value
from joinery.show.pictures.canvas import Words
from joinery.show.pictures.fit import Guide
from joinery.study.fitted import Fitted, rows_at_hand, working_rows
from joinery.study.picture_words import flags_of, worded
from joinery.study.read.estimates import estimates
from joinery.study.rows.digest import limits
from joinery.study.rows.figures import per_row
from joinery.study.rows.table import VERDICTS, changes_without, remarks
from joinery.study.thinned import smoothed, unthinned
from joinery.study.verdicts import SERIOUS, UNREMARKABLE
from joinery.support.errors import CallError, listed, one_of
from joinery.support.labels import label_text

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

Given = Mapping[str, str | None]
MOST_PIECES = 2000  # points of a component's curve
RANKED_ROWS = 10  # in the picture of influence


def leverage(
    fit: Fitted, *, label_rows: str | Sequence[Any], words: Given, ax: Axes | None
) -> Figure:
    """Far-out rows told from badly fitted ones."""
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
    """The ten rows that weigh most, ranked by Cook's distance, and what each moves."""
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
        finding = f"no row decides the answer; the largest is {figure(float(np.nanmax(d)), 2)}"
    finding += "; beside each bar the coefficient that the row moves most, in standard errors"
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
    """Of a row by its place: the coefficient that it moves most, and by how much (DFBETAS)."""
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


def added_variable(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Given,
    ax: Axes | None,
    term: str | None = None,
) -> Figure:
    """The response against one column, the other columns taken off both."""
    from joinery.show.pictures.fit import cloud

    solution, coefficients = fit.solution, estimates(fit)
    names = [
        name
        for name, b in zip(coefficients.names, coefficients.values)
        if name != "intercept" and np.isfinite(b)
    ]
    if not names:
        raise CallError("the model has no term to draw")
    if term is not None:
        chosen = coefficient_named("term", term, names)
    else:
        chosen = names[0]
    column = coefficients.names.index(chosen)
    direction = solution.root[int(np.flatnonzero(solution.places == column)[0])]
    # the part of a column that the others leave is X(XᵀWX)⁻¹ over its own diagonal (Frisch & Waugh
    # 1933)
    x = joined(working_rows(fit).row_blocks, lambda b: solution.in_basis(b.X) @ direction) / float(
        direction @ direction
    )
    slope = float(coefficients.values[column])
    y = per_row(fit).working + slope * x
    ends = float(x.min()), float(x.max())
    guide = Guide(ends, (slope * ends[0], slope * ends[1]), "slope", amber=True)
    finding = f"the slope is the coefficient, {figure(slope, 3)}; rows far to a side decide it"
    x_label, y_label = (
        f"{chosen}, beyond the other terms",
        f"{fit.words(fit.response.name)}, beyond them",
    )
    caption = Words(f"What does {chosen} add to the rest?", finding, x_label, y_label)
    flags, rows = flags_of(fit, label_rows), np.arange(len(x))
    return cloud(x, y, flags, worded(caption, words), ax, guides=[guide], rows=rows)


def component_residual(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Given,
    ax: Axes | None,
    against: str | None = None,
) -> Figure:
    """One predictor's part of the fit plus residuals: a bend shows what the term misses."""
    from joinery.show.pictures.fit import cloud

    table, chosen = rows_at_hand(fit)
    numeric = list(fit.design.seen)
    if not numeric:
        raise CallError(
            "the picture 'component_residual' needs a numeric predictor, and the model has none"
        )
    if against is not None:
        across = one_of("against", against, tuple(numeric))
    else:
        across = numeric[0]
    columns = _columns_of(fit, across)
    if not columns:
        raise CallError(
            f"no term is of {across} alone; its part stands in products", argument="against"
        )
    b = fit.solution.coefficients[columns]
    part = joined(working_rows(fit).row_blocks, lambda block: np.asarray(block.X[:, columns] @ b))
    x = table.column(across).numbers(chosen.rows)
    part = part - part.mean()
    y = part + per_row(fit).working
    order = np.argsort(x, kind="stable")
    rows = np.arange(len(x))
    curve = smoothed(fit, rows, x, y)
    finding = _shape(curve, x[order], part[order])
    words_own = f"part of {across} + residual"
    caption = Words(
        f"Is the part of {fit.words(across)} shaped right?",
        finding,
        fit.words(across),
        words_own,
        x_dates=across in fit.design.dates,
    )
    guides = _along(x[order], part[order])
    flags = flags_of(fit, label_rows)
    caption = worded(caption, words)
    return cloud(x, y, flags, caption, ax, curve=curve, guides=guides, rows=rows)


def _columns_of(fit: Fitted, across: str) -> list[int]:
    """Columns of the terms that are made of this one predictor."""
    return [
        c
        for t in fit.design.terms
        if {n.name for f in t.factors for n in names_in(f.expression)} == {across}
        for c in range(t.columns.start, t.columns.stop)
        if np.isfinite(fit.solution.coefficients[c])
    ]


def _shape(curve: Smooth | None, x: np.ndarray, part: np.ndarray) -> str:
    """Return True if a smooth stays with the fitted part, both in order of x."""
    if curve is None:
        return "too few different values for a smooth"
    off = np.abs(curve.height - np.interp(curve.at, x, part)) > 2 * curve.error
    if off.mean() < 0.05:
        return "the smooth stays with the fitted part"
    low, high = (value(float(v), 3) for v in (curve.at[off].min(), curve.at[off].max()))
    return f"the smooth leaves the fitted part between {low} and {high}: a curve may be missing"


def _along(x: np.ndarray, part: np.ndarray) -> list[Guide]:
    """The fitted part as pieces of line from point to point."""
    distinct = np.flatnonzero(np.append(True, x[1:] > x[:-1]))
    distinct = distinct[:: max(1, len(distinct) // MOST_PIECES)]
    return [
        Guide((float(x[i]), float(x[j])), (float(part[i]), float(part[j])), "", True)
        for i, j in pairwise(distinct.tolist())
    ]
