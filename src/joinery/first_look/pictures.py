"""Arrays behind each picture of a first look."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.core.inference.intervals import wilson
from joinery.core.inference.smooth import smooth
from joinery.core.numeric.distributions import t_quantile
from joinery.data.columns import level_text
from joinery.design.factors import CategoryFactor
from joinery.design.learning import Learner
from joinery.first_look.facts import Facts
from joinery.first_look.groups import inner_number
from joinery.first_look.shown import Shown, shown
from joinery.first_look.streamed import level_counts
from joinery.notation.context import Rows
from joinery.notation.evaluate import evaluate
from joinery.notation.tree import Name
from joinery.show.numbers import count
from joinery.support.errors import CallError, listed, one_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure, SubFigure

    from joinery.first_look.looked import Looked
    from joinery.first_look.panels import Across, Distribution
    from joinery.first_look.response import ResponseLook

MOST_PANELS, MOST_MATRIX = 20, 12
FAR_POINT = 3.0  # robust standard deviations from the middle
LEVELS_DRAWN = 6  # of a category that have a bar of their own


@dataclass(frozen=True)
class Wording:
    """Words in place of a picture's own, and the rows that are labelled."""

    title: str | None = None
    label_rows: str | Sequence[Any] = "flagged"
    labels: Mapping[str, str] = field(default_factory=dict)  # column to words

    def of(self, name: str) -> str:
        return self.labels.get(name, name)


def _flags(those: Shown, far: np.ndarray) -> list[tuple[int, str]]:
    """Return places to label among the rows shown, with their labels: far out, or those asked
    for."""
    if those.labelled is None:
        places = far
    else:
        places = those.labelled
    return list(zip(places.tolist(), map(str, those.labels(places)), strict=True))


def draw(
    look: Looked,
    name: str,
    *,
    path: str | os.PathLike[str] | None,
    ax: Axes | Figure | SubFigure | None,
    figsize: tuple[float, float] | None,
    wording: Wording,
) -> Figure:
    """Draw a picture by name. See ``Look.draw``."""
    from joinery.show.pictures.canvas import finished, refuse_axes

    one_of("picture", name, tuple(PICTURES))

    def make(axes: Axes | None) -> Figure:
        refuse_axes(name, axes)
        return PICTURES[name](look, wording)

    return finished(make, map(wording.of, look.names), ax=ax, figsize=figsize, path=path)


def _left(names: list[str], most: int, those: Shown) -> str:
    """Return what is not shown: of many columns, of many rows."""
    rows = f"; {those.note}" if those.note else ""
    return rows + (f"; not shown: {listed(names[most:], 6)}" if len(names) > most else "")


def _shown(look: Looked, rows: Rows, wording: Wording) -> Shown:
    return shown(look.table, rows, look.names, wording.label_rows)


# ------------------------------------------------------------------ columns


def _columns(look: Looked, wording: Wording) -> Figure:
    from joinery.first_look.panels import columns

    those = _shown(look, look.rows, wording)
    panels = [_distribution(look, f, those, wording) for f in look.facts[:MOST_PANELS]]
    odd = sum(bool(f.remarks) for f in look.facts)
    finding = f"{count(look.n_rows, 'row')}; {count(odd, 'column')} with a remark" + _left(
        list(look.names), MOST_PANELS, those
    )
    return columns(panels, wording.title or "What does each column hold?", finding)


def _distribution(look: Looked, f: Facts, those: Shown, wording: Wording) -> Distribution:
    from joinery.first_look.panels import Distribution

    name = wording.of(f.name) + (f" ({f.missing:,} missing)" if f.missing else "")
    if f.kind in ("number", "whole number", "date") and f.count:
        column = those.table.column(f.name)
        values = column.numbers(those.rows)[those.even]
        return Distribution(name, values[np.isfinite(values)], dates=column.is_date)
    if f.kind in ("id-like", "text") or not f.count:
        return Distribution(
            name, None, under=f"{f.kind}, {count(int(f.distinct), 'different value')}"
        )
    column = look.table.column(f.name)
    _, each = level_counts(column, Learner(look.table, look.rows, {}))
    places = np.flatnonzero(each)
    counts = each[places]
    order = np.argsort(-counts, kind="stable")
    levels = [
        (level_text(column.all_levels[places[i]]), int(counts[i])) for i in order[:LEVELS_DRAWN]
    ]
    rest = ""
    if len(order) > LEVELS_DRAWN:
        many = int(counts[order[LEVELS_DRAWN:]].sum())
        rest = f"{count(len(order) - LEVELS_DRAWN, 'more level')}, {count(many, 'row')}"
    return Distribution(name, None, tuple(levels), rest=rest)


# ------------------------------------------------------------------ response


def _response(look: Looked, wording: Wording) -> Figure:
    from joinery.first_look.panels import response

    at = look.at_response
    if at is None:
        raise CallError(
            "the picture 'response' needs a sentence after the data: 'honey_kg given forage_km2'"
        )
    factors = [(t.text, t.factors[0]) for t in at.design.terms if len(t.factors) == 1]
    if not factors:
        raise CallError("the sentence has no term of one column to draw the response against")
    those = _shown(look, at.rows, wording)
    panels = [_across(at, text, factor, those, wording) for text, factor in factors[:MOST_PANELS]]
    finding = f"{at.basis}; teal: a smooth with its band"
    if any(a.levels for a in panels):
        finding += "; amber: means of levels with 95 % intervals"
    if any(a.shares is not None for a in panels):
        finding = f"{at.basis}; amber: shares of yes in groups, and of levels, with 95 % intervals"
    if at.kind == "of":
        finding += "; empirical logits add ½ to both counts"
    names = [text for text, _ in factors]
    finding += _left(names, MOST_PANELS, those)
    y_label = {"of": "empirical logit", "per": "rate"}.get(at.kind, wording.of(at.name))
    title = f"How does {wording.of(str(at.sentence.response))} go with each term?"
    return response(panels, y_label, wording.title or title, finding)


def _across(at: ResponseLook, text: str, factor: Any, those: Shown, wording: Wording) -> Across:
    from joinery.first_look.panels import Across

    result, of_terms = at.context(*those[:2]), at.design.context(*those[:2])
    y = at.heights(result).height
    if isinstance(factor, CategoryFactor):
        (across,) = at.across([factor])
        heights = across.grouped.heights
        n, deviations = heights.n, heights.deviation
        with np.errstate(all="ignore"):
            means = np.where(n > 0, heights.mean, np.nan)
            reach = t_quantile(0.975, np.maximum(n - 1.0, 1.0)) * deviations / np.sqrt(n)
        return Across(
            wording.of(text),
            factor.codes(of_terms).astype(float),
            y,
            levels=tuple(across.labels),
            means=means,
            reach=np.where(n > 1, reach, 0.0),
        )
    expression = inner_number(factor.expression)
    if expression is not factor.expression:
        text = str(expression)
    x = evaluate(expression, of_terms)
    flags = tuple(_flags(those, _far_out(np.column_stack([x, y]))[:4]))
    dates = isinstance(expression, Name) and at.table.column(expression.name).is_date
    even = those.even
    if set(np.unique(y[np.isfinite(y)])) <= {0.0, 1.0}:  # a smooth of yes or no says little
        shares = _shares(x[even], y[even])
        return Across(wording.of(text), x, y, flags=flags, dates=dates, shares=shares)
    curve = smooth(x[even], y[even])
    return Across(wording.of(text), x, y, smooth=curve, flags=flags, dates=dates)


def _shares(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Return shares of yes in groups of x with 95 % intervals (Wilson 1927): (4, groups)."""
    order = np.argsort(x, kind="stable")
    many = min(8, max(len(x) // 8, 2))
    groups = [p for p in np.array_split(order, many) if len(p)]
    n = np.array([len(p) for p in groups], float)
    share = np.array([y[p].mean() for p in groups])
    at = np.array([x[p].mean() for p in groups])
    return np.vstack([at, share, *wilson(share * n, n, 0.95)])


def _far_out(X: np.ndarray) -> np.ndarray:
    """Return rows that lie far from the middle in any column, by median and median absolute
    deviation.

    Farthest first.
    """
    with np.errstate(all="ignore"):
        away = np.abs(X - np.nanmedian(X, axis=0))
        spread = 1.4826 * np.nanmedian(away, axis=0)
        distance = np.fmax.reduce(np.where(spread > 0, away / spread, 0.0), axis=1, initial=0.0)
    far = np.flatnonzero(distance > FAR_POINT)
    return far[np.argsort(-distance[far], kind="stable")]


# ------------------------------------------------------------------ matrix


def _matrix(look: Looked, wording: Wording) -> Figure:
    from joinery.first_look.panels import Pair, matrix

    names = [n for n in look.numeric if look.table.column(n).kind == "number"]
    if look.at_response is not None:
        chosen = {n for n in look.names if n not in look.at_response.predictors}
        names.sort(key=lambda n: n not in chosen)  # the response first
    if len(names) < 2:
        raise CallError("the picture 'matrix' needs two columns of numbers that vary")
    drawn, those = names[:MOST_MATRIX], _shown(look, look.rows, wording)
    values = np.column_stack([those.table.column(n).numbers(those.rows) for n in drawn])
    pairs = look.pairs_of(drawn, look.rows, "")
    strongest = [
        Pair((wording.of(a), wording.of(b)), float(r))
        for a, b, r in zip(pairs["column"], pairs["with"], pairs["pearson"])
        if np.isfinite(r)
    ]
    flags = _flags(those, _far_out(values)[:3])
    if strongest:
        top = strongest[0]
    else:
        top = None
    if top:
        finding = f"strongest: {top.names[0]} with {top.names[1]}"
    else:
        finding = "no two columns vary in the same rows"
    left = _left(names, MOST_MATRIX, those)
    title = wording.title or "Which columns go together?"
    return matrix([wording.of(n) for n in drawn], values, strongest, flags, title, finding + left)


PICTURES: dict[str, Callable[[Looked, Wording], Figure]] = {
    "columns": _columns,
    "response": _response,
    "matrix": _matrix,
}
