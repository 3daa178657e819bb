"""Pictures of effects: slopes, means and differences of levels, coefficients, cut-offs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.core.inference import intervals
from joinery.core.inference.chances import in_groups
from joinery.core.inference.intervals import wilson
from joinery.design.evenly import drawn_evenly
from joinery.notation.context import positions_at
from joinery.show.names import coefficient_named
from joinery.show.numbers import count, figure, level_words
from joinery.show.pictures.canvas import Words
from joinery.study.fitted import Fitted, checked_level, rows_at_hand
from joinery.study.forecast.memory import forecast_memory
from joinery.study.held import held_note
from joinery.study.picture_words import worded
from joinery.study.read.covariance_table import covariance_matrix
from joinery.study.read.curve_sizes import curve_sizes, standard_bars
from joinery.study.read.estimates import estimates, in_basis, together
from joinery.study.rows.chances import CALIBRATION_GROUPS
from joinery.study.understand.cutoffs import at_each, of_yes_no
from joinery.study.understand.level_means import MEANS
from joinery.study.understand.level_means import adjusted_means as means_table
from joinery.study.understand.level_means import level_differences as differences_table
from joinery.study.understand.moves import Of
from joinery.study.understand.scale import Scale
from joinery.study.understand.simple_slopes import SlopesAcross, check_columns
from joinery.study.understand.simple_slopes import simple_slopes as slopes_table
from joinery.study.understand.slope_regions import UNCERTAIN, regions, sentence
from joinery.support import advice
from joinery.support.errors import CallError

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

Given = Mapping[str, str | None]
POINTS, EDGE, MOST_PAIRS = 161, 241, 66


def simple_slopes(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Given,
    ax: Axes | None,
    of: Of | None = None,
    across: str | None = None,
    at: Sequence[Any] | None = None,
    hold: Mapping[str, Any] | None = None,
    level: float | None = None,
    simultaneous: bool = True,
) -> Figure:
    """Draw the slope of a predictor across a moderator."""
    from joinery.show.pictures.slopes import Across, across_number

    if of is None or across is None:
        raise CallError("the picture 'simple_slopes' needs of= and across=, two predictors")
    if level is None:
        level = fit.level
    else:
        level = checked_level(level)
    few = across not in fit.design.seen or across in forecast_memory(fit).few or at is not None
    if fit.link.name == "identity":
        scale = ""
    else:
        scale = f", on the scale of {fit.link.name}"
    move = check_columns(fit, of, across)
    name = f"{move.words}{scale}"
    title = f"How does the {move.words} change with {fit.words(across)}?"
    if few:
        table = slopes_table(
            fit, of, across, at, hold=hold, level=level, simultaneous=simultaneous
        ).frame
        names = [v if isinstance(v, str) else f"{v:g}" for v in table["at"]]
        finding = f"points with {level_words(level)} intervals"
        caption = Words(title, finding, name, fit.words(across))
        return _listed(names, table, "slope", caption, words, ax, zero=True)
    low, high = fit.design.seen[across]
    grid = np.linspace(low, high, POINTS)

    question = SlopesAcross(fit, of, across, hold, level, simultaneous)
    curve, result = question.at(grid.tolist()), regions(question)
    seen = np.empty(0)
    if fit.origin is not None:
        table_rows, used = rows_at_hand(fit)
        rows, even = used.rows, drawn_evenly(used.used)
        if even is not None:
            rows = positions_at(rows, even[0])
        seen = table_rows.column(across).numbers(rows)
        seen = seen[np.isfinite(seen)]
    uncertain = [(r.start, r.stop) for r in result if r.slope_is == UNCERTAIN]
    finding, under = sentence(move, across, result, None), "; ".join(held_note(fit, curve.held))
    drawn = Across(grid, curve.combination.values, curve.lower, curve.upper, uncertain, seen)
    dated = across in fit.design.dates
    caption = Words(title, finding, fit.words(across), name, x_dates=dated, under=under)
    return across_number(drawn, worded(caption, words), ax)


def _listed(
    names: Sequence[str],
    frame: Any,
    column: str,
    caption: Words,
    words: Given,
    ax: Axes | None,
    *,
    zero: bool,
) -> Figure:
    """Draw figures with their intervals, one under the other."""
    from joinery.show.pictures.levels import Level, levels

    nothing = np.empty(0)
    rows = [
        Level(name, nothing, float(m), float(a), float(b))
        for name, m, a, b in zip(names, frame[column], frame["lower"], frame["upper"], strict=True)
    ]
    return levels(rows, worded(caption, words), ax, zero=zero)


def _apart(notes: Sequence[str]) -> tuple[str, str]:
    """Return what is said over a picture, and under it what is held."""
    held = [note for note in notes if note.startswith("held: ")]
    return "; ".join(note for note in notes if note not in held), "; ".join(held)


def adjusted_means(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Given,
    ax: Axes | None,
    term: str | None = None,
    at: Mapping[str, Any] | None = None,
    weighting: str = "equal",
    per: float | None = None,
    level: float | None = None,
) -> Figure:
    """Draw the means of levels with their intervals, the largest on top."""
    term = _term(fit, term)
    table = means_table(fit, term, at=at, weighting=weighting, per=per, level=level)
    frame = table.frame.sort_values("mean", ascending=False, kind="stable")
    keys = [c for c in frame.columns if c not in MEANS]
    names = [" · ".join(map(str, row)) for row in frame[keys].itertuples(index=False)]
    sure = level_words(fit.level if level is None else checked_level(level))
    finding, under = _apart([f"{sure} intervals", *table.notes])
    unit = fit.words(Scale(fit, per).name)
    title = f"What are the means of {fit.words(term)}?"
    caption = Words(title, finding, f"mean {unit}", "", under=under)
    return _listed(names, frame, "mean", caption, words, ax, zero=False)


def level_differences(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Given,
    ax: Axes | None,
    term: str | None = None,
    reference: str | None = None,
    correction: str | None = None,
    at: Mapping[str, Any] | None = None,
    level: float | None = None,
) -> Figure:
    """Draw differences between levels with their intervals, zero drawn."""
    term = _term(fit, term)
    table = differences_table(
        fit, term, reference=reference, correction=correction, at=at, level=level, ratios=False
    )
    if len(table) > MOST_PAIRS:
        raise CallError(
            f"{len(table)} pairs are too many to be read; draw them against one level with "
            f"{advice.option('reference')}",
            argument="reference",
        )
    frame = table.frame.sort_values("difference", ascending=False, kind="stable")
    names = [f"{a} less {b}" for a, b in zip(frame["level"], frame["minus"], strict=True)]
    clear = int(((frame["lower"] > 0) | (frame["upper"] < 0)).sum())
    verb = "pair differs" if clear == 1 else "pairs differ"
    differ = f"{clear} of {len(frame)} {verb}"
    if len(frame) == 1:
        differ = "they differ" if clear else "no clear difference"
    finding = "; ".join([differ, *table.notes])
    if fit.link.name == "identity":
        scale = ""
    else:
        scale = f" on the scale of {fit.link.name}"
    unit = f"difference of {fit.words(fit.response.name)}{scale}"
    caption = Words(f"Which levels of {fit.words(term)} differ?", finding, unit, "")
    return _listed(names, frame, "difference", caption, words, ax, zero=True)


def _term(fit: Fitted, term: str | None) -> str:
    """Return the term asked for, or the first category."""
    if term is not None:
        return term
    known = [f.label for f in fit.design.categories]
    if not known:
        raise CallError("the model has no category, so there are no levels to draw")
    return known[0]


def coefficients(
    fit: Fitted, *, label_rows: str | Sequence[Any], words: Given, ax: Axes | None
) -> Figure:
    """Draw each coefficient's interval in standard units."""
    import pandas as pd

    bars, every = standard_bars(fit), [fit.words(name) for name in estimates(fit).names]
    shown = np.flatnonzero(np.isfinite(bars[:, 1]))
    if not len(shown):
        raise CallError("the model has no coefficient beside the constant to draw")
    for curve in curve_sizes(fit):
        every[curve.places[0]] = f"{fit.words(curve.name)} (its curve)"
    names = [every[place] for place in shown]
    frame = pd.DataFrame(bars[shown], columns=["lower", "estimate", "upper"])
    off = int(((frame["lower"] > 0) | (frame["upper"] < 0)).sum())
    several = count(len(shown), "interval")
    finding = f"zero lies outside {off} of {several}, at {level_words(fit.level)}"
    unit = "standard deviations of the response for one of the term"
    if not fit.estimate.linear:
        unit = f"change of {fit.link.name} for one sd of the term"
    caption = Words("How large is each coefficient, on one scale?", finding, unit, "")
    return _listed(names, frame, "estimate", caption, words, ax, zero=True)


def joint_region(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Given,
    ax: Axes | None,
    of: Sequence[str] | None = None,
    level: float | None = None,
) -> Figure:
    """Draw the ellipse of two coefficients, and the interval of each by itself."""
    from joinery.show.pictures.slopes import ellipse

    if level is None:
        level = fit.level
    else:
        level = checked_level(level)
    names, V = covariance_matrix(fit)
    if of is not None and not isinstance(of, str):
        chosen = list(of)
    else:
        chosen = names[-2:]
    if len(chosen) != 2 or chosen[0] == chosen[1]:
        raise CallError("the picture 'joint_region' is of two coefficients", argument="of")
    chosen = [coefficient_named("of", name, names) for name in chosen]
    i, j = map(names.index, chosen)
    e = estimates(fit)
    at = [e.names.index(name) for name in chosen]
    middle, df = e.values[at], e.df[at]
    W = V[np.ix_([i, j], [i, j])]
    joint = together(fit, in_basis(fit, np.eye(len(e.names))[at]), level)
    if joint.why or not (np.isfinite(W).all() and np.linalg.det(W) > 0):
        why = joint.why or "these coefficients have no standard errors"
        raise CallError(f"no region of both can be drawn: {why}")
    around = np.linspace(0, 2 * np.pi, EDGE)
    size = joint.times
    edge = middle[:, None] + size * np.linalg.cholesky(W) @ np.vstack(
        [np.cos(around), np.sin(around)]
    )
    half = intervals.t_times(level, df) * np.sqrt(np.diag(W))
    ends = tuple((float(m - h), float(m + h)) for m, h in zip(middle, half, strict=True))
    r = float(W[0, 1] / np.sqrt(W[0, 0] * W[1, 1]))
    inside = float(middle @ np.linalg.solve(W, middle)) <= size**2
    if inside:
        where = "inside"
    else:
        where = "outside"
    finding = f"correlation {figure(r, 2)}; both at zero lies {where} the {level_words(level)} "
    finding += "region; dashed: the interval of each by itself"
    a, b = (fit.words(name) for name in chosen)
    caption = Words("Which pairs of values agree with the rows?", finding, a, b)
    both = (float(middle[0]), float(middle[1]))
    return ellipse(both, edge, (ends[0], ends[1]), worded(caption, words), ax)


def cutoffs(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Given,
    ax: Axes | None,
    crosscheck: bool = False,
    seed: int | None = None,
) -> Figure:
    """Both shares right against the cut-off."""
    from joinery.show.pictures.slopes import Share, shares

    rows, _, area = of_yes_no(fit, crosscheck, seed)
    at = np.linspace(0, 1, 101)
    result = at_each(at, rows, fit.level)
    of = [
        Share(name, *(result[f"{column}{tail}"] for tail in ("", "_lower", "_upper")))
        for name, column in (("sensitivity", "right_yes"), ("specificity", "right_no"))
    ]
    finding = f"area under the curve {figure(area, 3)}; bands: "
    finding += f"{level_words(fit.level)} intervals; "
    finding += _judged_on(crosscheck)
    caption = Words("What does each cut-off cost?", finding, "cut-off", "share right")
    return shares(at, of, worded(caption, words), ax)


def _judged_on(crosscheck: bool) -> str:
    if crosscheck:
        return "rows not seen"
    return "the rows of the fit itself, which is optimistic"


def calibration(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Given,
    ax: Axes | None,
    crosscheck: bool = False,
    seed: int | None = None,
) -> Figure:
    """Draw observed shares of yes in groups of fitted chance, each with its interval."""
    from joinery.show.pictures.fit import observed_shares

    rows, unknown, _ = of_yes_no(fit, crosscheck, seed)
    most = min(CALIBRATION_GROUPS, max((rows_at_hand(fit)[1].used - unknown) // 8, 2))
    hits, expected, _, n = in_groups(rows, most)
    at = expected / n
    lower, upper = wilson(hits, n, fit.level)
    off = int(((at < lower) | (at > upper)).sum())
    finding = f"{count(off, 'group')} of {len(n)} away from what was forecast; "
    finding += _judged_on(crosscheck)
    caption = Words(
        "Does what is forecast come true as often?",
        finding,
        "fitted chance in the group",
        f"share with yes, {level_words(fit.level)} intervals",
    )
    return observed_shares(at, hits / n, (lower, upper), worded(caption, words), ax)
