"""The power of the response that suits the model: the likelihood over powers (Box & Cox 1964)."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.core.blocks.partition import joined
from joinery.core.numeric import distributions as tails
from joinery.notation.tree import spelled
from joinery.show.appearance import Appearance
from joinery.show.numbers import fixed, level_words
from joinery.show.table import Table
from joinery.study.fitted import Fitted, once, response_rows, rows_at_hand, working_rows
from joinery.support import advice
from joinery.support.errors import CallError, listed

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

FIRST, LAST, STEP, FARTHEST = -2.0, 2.0, 0.1, 6.0
# the powers that have a name: how a sentence writes each
LADDER = {
    -2.0: "(1 / {}^2)",
    -1.0: "(1 / {})",
    -0.5: "(1 / sqrt({}))",
    0.0: "log({})",
    0.5: "sqrt({})",
    1.0: "{}",
    2.0: "{}^2",
}
NAMES = dict(zip(LADDER, ("1/y²", "1/y", "1/√y", "log y", "√y", "y", "y²"), strict=True))
LEAST_DF = 2  # residual degrees of freedom
FINER = 6  # grids of twenty steps one inside the other: ends to a millionth of a step
PLAINEST = (1.0, 0.0, 0.5, -1.0, 2.0, -0.5, -2.0)  # which is offered where several lie inside


@dataclass(frozen=True)
class Powers:
    """Log likelihoods (m,) over powers (m,), the best power, and the ends of its interval."""

    power: np.ndarray
    log_likelihood: np.ndarray
    best: float
    lower: float
    upper: float
    column: str
    peak: float  # the log likelihood of the best


@once
def powers(fit: Fitted) -> Powers:
    """Return the profile likelihood of the power. Raises CallError where it does not exist."""
    likelihood = _likelihood(fit, _logs(fit))
    low, high = FIRST, LAST
    while True:
        at = np.round(np.arange(low, high + STEP / 2, STEP), 10)
        heights = likelihood(at)
        best = int(np.argmax(heights))
        # where the curve is still high at the grid's end, the interval ends beyond it: go on
        cut = heights[best] - float(tails.chi2_quantile(fit.level, 1)) / 2
        wide = (heights[0] > cut and low > -FARTHEST), (heights[-1] > cut and high < FARTHEST)
        if not any(wide):
            break
        low, high = low - wide[0], high + wide[1]
    # the grid tells between which powers the best one lies
    top, peak = _highest(likelihood, at[max(best - 1, 0)], at[min(best + 1, len(at) - 1)])
    cut = peak - float(tails.chi2_quantile(fit.level, 1)) / 2
    ends = [_crossing(likelihood, at, heights, top, cut, side) for side in (-1, 1)]
    return Powers(at, heights, top, ends[0], ends[1], fit.response.original, peak)


def _logs(fit: Fitted) -> np.ndarray:
    """Return logarithms of the response's column (n,). Raises CallError where powers do not
    exist."""
    table, chosen = rows_at_hand(fit)
    column = fit.response.original
    if not fit.estimate.linear:
        raise CallError(
            "powers of the response belong to the normal family; other families have a link instead"
        )
    if any(np.any(b.offset) for b in response_rows(fit).row_blocks if b.offset is not None):
        raise CallError(
            "an offset stands on the response's own scale, so that powers of the response cannot "
            "be compared"
        )
    if fit.solution.perfect or not fit.residual_df:
        raise CallError("the fit is perfect, so that every power of the response fits alike")
    if fit.residual_df < LEAST_DF:  # a power takes one, and then fits exactly
        raise CallError("too few degrees of freedom are left to choose a power of the response")
    if not fit.solution.spans_constant or column not in table.names:
        raise CallError(
            "powers of the response need a model with a constant, and a response made of one column"
        )
    y = table.column(column).numbers(chosen.rows)
    if not np.min(y) > 0:
        rows = list(table.labels(np.arange(len(table))[chosen.rows][y <= 0]))
        raise CallError(
            f"{column} is zero or less in row {listed(rows)}, so that its powers do not all exist"
        )
    return np.asarray(np.log(y))


def _likelihood(fit: Fitted, logs: np.ndarray) -> Callable[[np.ndarray], np.ndarray]:
    """Return the log likelihood (m,) with y^λ for the response (log y for 0), for each λ (m,).

    From (y^λ − 1)/(λ·ẏ^(λ−1)), ẏ the geometric mean, whose Jacobian is one: it counts rows,
    whatever they weigh."""
    times = joined(working_rows(fit).row_blocks, lambda b: b.times)
    w = joined(working_rows(fit).row_blocks, lambda b: b.precisions)
    weights, n = w * times, fit.n_rows
    middle = float(times @ logs / n)
    constant = float(times @ np.log(w)) / 2 - n / 2 * (np.log(2 * np.pi) + 1) - n * middle

    def likelihood(at: np.ndarray) -> np.ndarray:
        yy, uy = np.zeros(len(at)), np.zeros((fit.solution.rank, len(at)))
        for block in working_rows(fit).row_blocks:
            positions = block.span
            away = (logs[positions] - middle)[:, None]
            with np.errstate(all="ignore"):
                Z = np.where(
                    np.abs(at) < 1e-9, away, np.expm1(at * away) / np.where(at == 0, 1.0, at)
                )
            root = np.sqrt(weights[positions])
            Z *= root[:, None]
            yy += np.einsum("ij,ij->j", Z, Z)
            uy += (fit.solution.in_basis(block.X) * root[:, None]).T @ Z
        rss = yy - np.einsum("ij,ij->j", uy, uy)
        return np.asarray(-n / 2 * np.log(np.maximum(rss, 1e-300) / n) + constant)

    return likelihood


def _highest(likelihood: Any, low: float, high: float) -> tuple[float, float]:
    """Return the best power between two, by finer and finer grids."""
    for _ in range(FINER):
        at = np.linspace(low, high, 21)
        heights = likelihood(at)
        best = int(np.argmax(heights))
        low, high = at[max(best - 1, 0)], at[min(best + 1, 20)]
    return float(at[best]), float(heights[best])


def _crossing(
    likelihood: Any, at: np.ndarray, heights: np.ndarray, top: float, cut: float, side: int
) -> float:
    """Return the power at which the likelihood falls through ``cut`` on one side of ``top``.

    Infinite when it does not.
    """
    beyond = at[(side * (at - top) > 0) & (heights < cut)]
    if not len(beyond):
        return float(side) * np.inf
    inside, outside = top, beyond[np.argmin(side * beyond)]
    for _ in range(FINER):
        grid = np.linspace(inside, outside, 21)
        first = int(np.argmax(likelihood(grid) < cut))
        inside, outside = grid[max(first - 1, 0)], grid[first]
    return float((inside + outside) / 2)


def suggested(curve: Powers) -> float | None:
    """Return the plainest named power inside the interval; None when none is."""
    return next((p for p in PLAINEST if curve.lower <= p <= curve.upper), None)


def written(power: float, column: str) -> str:
    """Return a power of the response as a sentence writes it."""
    return LADDER[power].format(spelled(column))


@dataclass(frozen=True)
class Rung:
    """One named power: how it suits, and how large a typical miss is with it."""

    power: float
    typical_miss: float  # in the unit of the response; NaN where a fitted value has none
    below_best: float  # log likelihood, below that of the best power
    inside: bool


def ladder(fit: Fitted) -> list[Rung]:
    """Return the named powers from the lowest up."""
    curve = powers(fit)
    y = np.exp(_logs(fit))
    at = np.array(list(LADDER))
    fall = curve.peak - _likelihood(fit, np.log(y))(at)
    misses = [_typical_miss(fit, y, power) for power in at]
    return [
        Rung(float(p), m, float(d), bool(curve.lower <= p <= curve.upper))
        for p, m, d in zip(at, misses, fall, strict=True)
    ]


def _typical_miss(fit: Fitted, y: np.ndarray, power: float) -> float:
    """Return √(Σ w(y − ŷ)²/df), ŷ fitted to that power of y (n,) and back-transformed.

    For the response as it is this is the residual SD. NaN where a fitted value has no way back.
    """
    unit = float(np.exp(np.mean(np.log(y))))  # powers of y/unit neither overflow nor vanish
    scaled = y / unit
    if power == 0:
        response = np.log(scaled)
    else:
        response = scaled**power
    parts = [
        (fit.solution.in_basis(b.X), b.precisions * b.times, b.span)
        for b in working_rows(fit).row_blocks
    ]
    effects = sum(
        ((U * np.sqrt(w)[:, None]).T @ (np.sqrt(w) * response[part]) for U, w, part in parts),
        np.zeros(fit.solution.rank),
    )
    total = 0.0
    for U, w, part in parts:
        fitted = U @ effects
        with np.errstate(all="ignore"):
            rooted = np.where(fitted > 0, fitted, np.nan) ** (1 / (power or np.nan))
        if power == 0:
            back = np.exp(fitted)
        elif power == 1:
            back = fitted
        else:
            back = rooted
        total += float(w @ (scaled[part] - back) ** 2)
    return float(unit * np.sqrt(total / fit.residual_df))


def box_cox(fit: Fitted) -> Table:
    """Return the ladder of powers. See ``Fit.box_cox``."""
    curve, rungs = powers(fit), ladder(fit)
    return Table(
        {
            "power": [r.power for r in rungs],
            "response": [written(r.power, curve.column) for r in rungs],
            "typical_miss": [r.typical_miss for r in rungs],
            "below_best": [r.below_best for r in rungs],
            "inside": [bool(r.inside) for r in rungs],
        },
        title=f"Powers of {fit.words(curve.column)}",
        notes=tuple(_notes(fit, curve, rungs)),
        appearance=Appearance(
            kinds={"power": "value", "response": "text", "inside": "text"}
            | {"typical_miss": "own", "below_best": "figure"},
            headings={"typical_miss": "typical miss", "below_best": "log likelihood below the best"}
            | {"inside": f"inside the {level_words(fit.level)} interval"},
        ),
    )


def _notes(fit: Fitted, curve: Powers, rungs: Sequence[Rung]) -> list[str]:
    unit = f"typical miss: in the unit of {fit.words(curve.column)}, fitted values back-transformed"
    if any(np.isnan(r.typical_miss) for r in rungs):
        unit += "; empty where one of them cannot be back-transformed"
    way = suggested(curve)
    if way is None or (way == 1 and not fit.response.transformed):
        return [_finding(fit, curve), unit]
    take = advice.change(response=written(way, curve.column))
    return [f"{_finding(fit, curve)}: {take}", unit]


def _finding(fit: Fitted, curve: Powers) -> str:
    ends = f"[{fixed(curve.lower, 2)}, {fixed(curve.upper, 2)}]"
    text = f"best power {fixed(curve.best, 2)} {ends}, with its {level_words(fit.level)} interval: "
    choice = suggested(curve)
    if choice is None:
        nearest = min(LADDER, key=lambda p: abs(p - curve.best))
        return f"{text}no named power lies inside; the nearest is {written(nearest, curve.column)}"
    if choice == 1 and not fit.response.transformed:
        return f"{text}1 lies inside, leave {fit.words(curve.column)} as it is"
    way = written(choice, curve.column)
    return f"{text}{fit.words(way)} lies inside"


def draw_powers(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Mapping[str, str | None],
    ax: Axes | None,
) -> Figure:
    """Draw the ladder of named powers, with the interval beside it."""
    from joinery.show.pictures.canvas import Words
    from joinery.show.pictures.ladder import Step
    from joinery.show.pictures.ladder import ladder as drawn
    from joinery.study.picture_words import worded

    curve, rungs = powers(fit), ladder(fit)
    nearest = min(LADDER, key=lambda p: abs(p - curve.best))
    steps = [
        Step(NAMES[r.power], r.power, r.typical_miss, r.below_best, r.power == nearest)
        for r in rungs
    ]
    name = fit.words(curve.column)
    caption = Words(
        f"Which power of {name} suits the model?",
        _finding(fit, curve),
        f"typical miss, in the unit of {name}",
        "",
    )
    ends = curve.lower, curve.best, curve.upper
    return drawn(steps, ends, level_words(fit.level), worded(caption, words), ax)
