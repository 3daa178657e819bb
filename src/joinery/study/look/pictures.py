"""What each picture of a first look shows."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.arguments import as_labels
from joinery.core.inference.correlation import deviation
from joinery.core.inference.intervals import wilson
from joinery.core.inference.smooth import smooth
from joinery.core.numeric.distributions import t_quantile
from joinery.data.columns import level_text
from joinery.design.factors import CategoryFactor
from joinery.errors import CallError, listed, one_of
from joinery.notation.evaluate import evaluate
from joinery.notation.tree import Name
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


@dataclass(frozen=True)
class Wording:
    """What a caller puts in place of a picture's own words, and which rows are labelled."""

    title: str | None = None
    label_rows: str | Sequence[Any] = "flagged"
    labels: Mapping[str, str] = field(default_factory=dict)  # column to words

    def of(self, name: str) -> str:
        return self.labels.get(name, name)

    def flags(self, look: Look, rows: np.ndarray, far: np.ndarray) -> list[tuple[int, str]]:
        """Places among ``rows`` to label, with their labels: those far out, or those asked for."""
        labels = look.table.labels(rows)
        if isinstance(self.label_rows, str) and self.label_rows in ("flagged", "none"):
            shown = far.tolist() if self.label_rows == "flagged" else []
            return [(int(p), str(labels[int(p)])) for p in shown]
        wanted = as_labels(self.label_rows)
        place = {int(position): p for p, position in enumerate(rows)}
        found = [place[int(p)] for p in look.table.positions(wanted) if int(p) in place]
        return [(p, str(labels[p])) for p in found]


def draw(
    look: Look,
    name: str,
    *,
    path: str | os.PathLike[str] | None,
    ax: Axes | None,
    wording: Wording,
) -> Figure:
    """Draws a picture by name. See ``Look.draw``."""
    from joinery.show.pictures.canvas import names_as_they_are, write
    from joinery.show.pictures.layout import settle

    one_of("picture", name, tuple(PICTURES))
    if ax is not None:
        raise CallError(
            f"the picture {name!r} has panels of its own and cannot be drawn on axes", argument="ax"
        )
    with names_as_they_are():
        figure = PICTURES[name](look, wording)
        settle(figure, [wording.of(n) for n in look.names])
        if path is not None:
            write(figure, path)
    return figure


def _left(names: list[str], most: int) -> str:
    return f"; not shown: {listed(names[most:], 6)}" if len(names) > most else ""


# ------------------------------------------------------------------ columns


def _columns(look: Look, wording: Wording) -> Figure:
    from joinery.show.pictures.look import columns

    shown = [_distribution(look, f, wording) for f in look.facts[:MOST_PANELS]]
    odd = sum(bool(f.remarks) for f in look.facts)
    finding = f"{count(look.n_rows, 'row')}; {count(odd, 'column')} with a remark" + _left(
        list(look.names), MOST_PANELS
    )
    return columns(shown, wording.title or "What does each column hold?", finding)


def _distribution(look: Look, f: Facts, wording: Wording) -> Distribution:
    from joinery.show.pictures.look import Distribution

    column = look.table.column(f.name)
    name = wording.of(f.name) + (f" ({f.missing:,} missing)" if f.missing else "")
    if f.kind in ("number", "whole number", "date") and f.count:
        values = column.numbers(look.rows)
        return Distribution(name, values[np.isfinite(values)], dates=column.is_date)
    if f.kind in ("id-like", "text") or not f.count:
        return Distribution(
            name, None, under=f"{f.kind}, {count(int(f.distinct), 'different value')}"
        )
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


def _response(look: Look, wording: Wording) -> Figure:
    from joinery.show.pictures.look import response

    at = look.at_response
    if at is None:
        raise CallError(
            "the picture 'response' needs a sentence after the data: 'honey_kg given forage_km2'"
        )
    factors = [(t.text, t.factors[0]) for t in at.design.terms if len(t.factors) == 1]
    if not factors:
        raise CallError("the sentence has no term of one column to draw the response against")
    panels = [_across(look, text, factor, wording) for text, factor in factors[:MOST_PANELS]]
    finding = (
        f"over the {count(len(at.rows), 'row')} complete for the sentence; teal: a smooth with "
        "its band"
    )
    if any(a.levels for a in panels):
        finding += "; amber: means of levels with 95 % intervals"
    if any(a.shares is not None for a in panels):
        finding = f"over the {count(len(at.rows), 'row')} complete for the sentence; amber: shares "
        finding += "of yes in groups, and of levels, with 95 % intervals"
    if at.kind == "of":
        finding += "; empirical logits add ½ to both counts"
    names = [text for text, _ in factors]
    finding += _left(names, MOST_PANELS)
    y_label = {"of": "empirical logit", "per": "rate"}.get(at.kind, wording.of(at.name))
    title = f"How does {wording.of(str(at.sentence.response))} go with each term?"
    return response(panels, y_label, wording.title or title, finding)


def _across(look: Look, text: str, factor: Any, wording: Wording) -> Across:
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
            wording.of(text),
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
    far = _far_out(np.column_stack([x, y]))[:4]
    flags = tuple(wording.flags(look, np.arange(len(at.table))[at.rows], far))
    dates = isinstance(expression, Name) and at.table.column(expression.name).is_date
    if set(np.unique(y[np.isfinite(y)])) <= {0.0, 1.0}:  # a smooth of yes or no says little
        shares = _shares(x, y)
        return Across(wording.of(text), x, y, flags=flags, dates=dates, shares=shares)
    return Across(wording.of(text), x, y, smooth=smooth(x, y), flags=flags, dates=dates)


def _shares(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Shares of yes in groups of x with 95 % intervals (Wilson 1927): (4, groups)."""
    order = np.argsort(x, kind="stable")
    many = min(8, max(len(x) // 8, 2))
    groups = [p for p in np.array_split(order, many) if len(p)]
    n = np.array([len(p) for p in groups], float)
    share = np.array([y[p].mean() for p in groups])
    at = np.array([x[p].mean() for p in groups])
    return np.vstack([at, share, *wilson(share * n, n, 0.95)])


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


def _matrix(look: Look, wording: Wording) -> Figure:
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
        Pair((wording.of(a), wording.of(b)), float(r))
        for a, b, r in zip(pairs["column"], pairs["with"], pairs["pearson"])
        if np.isfinite(r)
    ]
    flags = wording.flags(look, np.arange(len(look.table))[look.rows], _far_out(values)[:3])
    top = strongest[0] if strongest else None
    finding = f"strongest: {top.names[0]} with {top.names[1]}" if top else "no pair varies together"
    left = _left(names, MOST_MATRIX)
    title = wording.title or "Which columns go together?"
    return matrix([wording.of(n) for n in shown], values, strongest, flags, title, finding + left)


PICTURES: dict[str, Callable[[Look, Wording], Figure]] = {
    "columns": _columns,
    "response": _response,
    "matrix": _matrix,
}
