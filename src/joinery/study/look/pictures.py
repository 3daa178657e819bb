"""What each picture of a first look shows."""

from __future__ import annotations

import os
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.core.inference.correlation import deviation
from joinery.core.inference.smooth import smooth
from joinery.core.numeric.distributions import t_quantile
from joinery.data.columns import level_text
from joinery.design.factors import CategoryFactor
from joinery.errors import CallError, listed, one_of
from joinery.notation.evaluate import evaluate
from joinery.show.numbers import count
from joinery.study.look.facts import Facts

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from joinery.show.pictures.look import Across, Distribution
    from joinery.study.look.look import Look

MOST_PANELS, MOST_MATRIX = 20, 12
FAR = 3.0  # robust standard deviations from the middle
MOST_LEVELS = 6


def draw(
    look: Look,
    name: str,
    *,
    path: str | os.PathLike[str] | None,
    ax: Axes | None,
    title: str | None,
) -> Figure:
    """Draws a picture by name. See ``Look.draw``."""
    from joinery.show.pictures.canvas import write

    one_of("picture", name, tuple(PICTURES))
    if ax is not None:
        raise CallError(
            f"the picture {name!r} has panels of its own and cannot be drawn on axes", argument="ax"
        )
    figure = PICTURES[name](look, title)
    if path is not None:
        write(figure, path)
    return figure


def _left(names: list[str], most: int) -> str:
    return f"; not shown: {listed(names[most:], 6)}" if len(names) > most else ""


# ------------------------------------------------------------------ columns


def _columns(look: Look, title: str | None) -> Figure:
    from joinery.show.pictures.look import columns

    shown = [_distribution(look, f) for f in look.facts[:MOST_PANELS]]
    odd = sum(bool(f.remarks) for f in look.facts)
    finding = f"{count(look.n_rows, 'row')}; {count(odd, 'column')} with a remark" + _left(
        list(look.names), MOST_PANELS
    )
    return columns(shown, title or "What does each column hold?", finding)


def _distribution(look: Look, f: Facts) -> Distribution:
    from joinery.show.pictures.look import Distribution

    column = look.table.column(f.name)
    name = f"{f.name} ({f.missing:,} missing)" if f.missing else f.name
    if f.kind in ("number", "whole number", "date") and f.count:
        values = column.numbers(look.rows)
        return Distribution(name, values[np.isfinite(values)])
    if f.kind in ("id-like", "text") or not f.count:
        return Distribution(name, None, under=f"{f.kind}, {count(f.distinct, 'different value')}")
    codes = column.codes(look.rows)
    places, counts = np.unique(codes[codes >= 0], return_counts=True)
    order = np.argsort(-counts, kind="stable")
    levels = [
        (level_text(column.all_levels[places[i]]), int(counts[i])) for i in order[:MOST_LEVELS]
    ]
    if len(order) > MOST_LEVELS:
        levels.append((f"{len(order) - MOST_LEVELS} more", int(counts[order[MOST_LEVELS:]].sum())))
    return Distribution(name, None, tuple(levels))


# ------------------------------------------------------------------ response


def _response(look: Look, title: str | None) -> Figure:
    from joinery.show.pictures.look import response

    at = look.at_response
    if at is None:
        raise CallError(
            "the picture 'response' needs a sentence: look(data, 'honey_kg given "
            "forage_km2').draw('response')"
        )
    factors = [(t.text, t.factors[0]) for t in at.design.terms if len(t.factors) == 1]
    if not factors:
        raise CallError("the sentence has no term of one column to draw the response against")
    panels = [_across(look, text, factor) for text, factor in factors[:MOST_PANELS]]
    finding = (
        f"over the {count(len(at.rows), 'row')} complete for the sentence; teal: a smooth with "
        "its band"
    )
    if any(a.levels for a in panels):
        finding += "; amber: means of levels with 95 % intervals"
    if at.kind == "of":
        finding += "; empirical logits add ½ to both counts"
    names = [text for text, _ in factors]
    finding += _left(names, MOST_PANELS)
    y_label = {"of": "empirical logit", "per": "rate"}.get(at.kind, at.name)
    return response(
        panels, y_label, title or f"How does {at.sentence.response} go with each term?", finding
    )


def _across(look: Look, text: str, factor: Any) -> Across:
    from joinery.show.pictures.look import Across

    at = look.at_response
    assert at is not None
    y = at.heights
    if isinstance(factor, CategoryFactor):
        codes = factor.codes(at.design.context(at.table, at.rows))
        means, half_widths = [], []
        for place in range(len(factor.levels)):
            values = y[codes == place]
            n = len(values)
            means.append(float(values.mean()) if n else np.nan)
            half_widths.append(
                float(t_quantile(0.975, n - 1) * deviation(values) / np.sqrt(n)) if n > 1 else 0.0
            )
        labels = tuple(level_text(level) for level in factor.levels)
        return Across(
            text,
            codes.astype(float),
            y,
            levels=labels,
            means=np.array(means),
            reach=np.array(half_widths),
        )
    expression = factor.expression
    if getattr(expression, "function", "") in ("spline", "polynomial"):
        expression, text = expression.arguments[0], str(expression.arguments[0])
    x = evaluate(expression, at.design.context(at.table, at.rows))
    labels_of = at.table.labels(at.rows)
    flags = tuple((int(p), str(labels_of[int(p)])) for p in _far_out(np.column_stack([x, y]))[:4])
    return Across(text, x, y, smooth=smooth(x, y), flags=flags)


def _far_out(X: np.ndarray) -> np.ndarray:
    """Rows that lie far from the middle in any column, by median and median absolute deviation.

    Farthest first.
    """
    with np.errstate(all="ignore"):
        away = np.abs(X - np.nanmedian(X, axis=0))
        spread = 1.4826 * np.nanmedian(away, axis=0)
        distance = np.nanmax(np.where(spread > 0, away / spread, 0.0), axis=1)
    far = np.flatnonzero(distance > FAR)
    return far[np.argsort(-distance[far], kind="stable")]


# ------------------------------------------------------------------ matrix


def _matrix(look: Look, title: str | None) -> Figure:
    from joinery.show.pictures.look import Pair, matrix

    names = [n for n in look.numeric if look.table.column(n).kind == "number"]
    if look.at_response is not None:
        own = {n for n in look.names if n not in look.at_response.predictors}
        names.sort(key=lambda n: n not in own)  # the response first
    if len(names) < 2:
        raise CallError("the picture 'matrix' needs two columns of numbers that vary")
    shown = names[:MOST_MATRIX]
    values = np.column_stack([look.table.column(n).numbers(look.rows) for n in shown])
    pairs = look._pairs(shown, look.rows, "")
    strongest = [
        Pair((a, b), float(r))
        for a, b, r in zip(pairs["column"], pairs["with"], pairs["pearson"])
        if np.isfinite(r)
    ]
    labels = look.table.labels(np.arange(len(look.table))[look.rows])
    flags = [(int(p), str(labels[int(p)])) for p in _far_out(values)[:3]]
    top = strongest[0] if strongest else None
    finding = f"strongest: {top.names[0]} with {top.names[1]}" if top else "no pair varies together"
    left = _left(names, MOST_MATRIX)
    return matrix(
        shown, values, strongest, flags, title or "Which columns go together?", finding + left
    )


PICTURES: dict[str, Callable[[Look, str | None], Figure]] = {
    "columns": _columns,
    "response": _response,
    "matrix": _matrix,
}
