"""Which power of the response suits the model: the likelihood over powers (Box & Cox 1964)."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.core.blocks.partition import joined
from joinery.core.numeric import distributions as tails
from joinery.errors import CallError, listed
from joinery.show.numbers import figure, fixed, level_words
from joinery.show.table import Table
from joinery.study.fitted import Fitted, once, response_rows, rows_at_hand, working_rows

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

FIRST, LAST, STEP, FARTHEST = -2.0, 2.0, 0.1, 6.0
SIMPLE = {
    1.0: "{}",
    0.0: "log({})",
    0.5: "sqrt({})",
    -1.0: "(1 / {})",
    2.0: "{}^2",
    -0.5: "(1 / sqrt({}))",
}


@dataclass(frozen=True)
class Powers:
    """Log likelihoods (m,) over powers (m,), the best power, and the ends of its interval."""

    power: np.ndarray
    log_likelihood: np.ndarray
    best: float
    lower: float
    upper: float
    column: str


@once
def powers(fit: Fitted) -> Powers:
    """The profile likelihood of the power. Raises CallError where it does not exist."""
    column = fit.response.original
    likelihood = _likelihood(fit, np.log(_positive(fit, column)))
    low, high = FIRST, LAST
    while True:
        at = np.round(np.arange(low, high + STEP / 2, STEP), 10)
        heights = likelihood(at)
        best = int(np.argmax(heights))
        cut = heights[best] - float(tails.chi2_quantile(fit.level, 1)) / 2
        wide = (heights[0] > cut and low > -FARTHEST), (heights[-1] > cut and high < FARTHEST)
        if not any(wide):
            break
        low, high = low - wide[0], high + wide[1]
    top, peak = _highest(likelihood, at[max(best - 1, 0)], at[min(best + 1, len(at) - 1)])
    cut = peak - float(tails.chi2_quantile(fit.level, 1)) / 2
    ends = [_crossing(likelihood, at, heights, best, cut, side) for side in (-1, 1)]
    return Powers(at, heights, top, ends[0], ends[1], column)


def _positive(fit: Fitted, column: str) -> np.ndarray:
    """The response's column (n,), if its powers exist. Raises CallError otherwise."""
    table, chosen = rows_at_hand(fit)
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
        raise CallError(
            "the fit is perfect, so that no power of the response can be told from another"
        )
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
    return y


def _likelihood(fit: Fitted, logs: np.ndarray) -> Callable[[np.ndarray], np.ndarray]:
    """The log likelihood (m,) with y^λ for the response (log y for 0), for each λ (m,).

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
            positions = block.own
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
    """The best power between two, by finer and finer grids."""
    for _ in range(3):
        at = np.linspace(low, high, 21)
        heights = likelihood(at)
        best = int(np.argmax(heights))
        low, high = at[max(best - 1, 0)], at[min(best + 1, 20)]
    return float(at[best]), float(heights[best])


def _crossing(
    likelihood: Any, at: np.ndarray, heights: np.ndarray, best: int, cut: float, side: int
) -> float:
    """Where the likelihood falls through ``cut`` on one side of the best power.

    Infinite when it does not.
    """
    places = range(best, len(at)) if side > 0 else range(best, -1, -1)
    under = next((i for i in places if heights[i] < cut), None)
    if under is None:
        return float(side) * np.inf
    low, high = at[under - side], at[under]
    for _ in range(3):
        grid = np.linspace(low, high, 21)
        first = int(np.argmax(likelihood(grid) < cut))
        low, high = grid[max(first - 1, 0)], grid[first]
    return float((low + high) / 2)


def suggested(curve: Powers) -> tuple[float, str] | None:
    """The simplest power inside the interval, and how it is written; None when none is."""
    for power, form in SIMPLE.items():
        if curve.lower <= power <= curve.upper:
            return power, form.format(curve.column)
    return None


def box_cox(fit: Fitted) -> Table:
    """The table of powers. See ``Fit.box_cox``."""
    curve = powers(fit)
    inside = (curve.power >= curve.lower) & (curve.power <= curve.upper)
    return Table(
        {
            "power": curve.power,
            "log_likelihood": curve.log_likelihood,
            "inside": ["yes" if i else "no" for i in inside],
        },
        title=f"Powers of {curve.column}",
        notes=tuple(_notes(fit, curve)),
        kinds={"power": "value", "inside": "text", "log_likelihood": "figure"},
        digits=5,
        most_rows=80,
    )


def _notes(fit: Fitted, curve: Powers) -> list[str]:
    ends = f"[{fixed(curve.lower, 2)}, {fixed(curve.upper, 2)}]"
    level = level_words(fit.level)
    notes = [
        f"best power {fixed(curve.best, 2)} {ends}, with its {level} interval; 0 stands for the "
        "logarithm"
    ]
    choice = suggested(curve)
    if choice is None:
        notes.append(
            f"no simple power lies inside; the nearest is {figure(round(curve.best * 2) / 2)}"
        )
    elif choice[0] == 1 and not fit.response.transformed:
        notes.append(f"1 lies inside: leave {curve.column} as it is")
    else:
        notes.append(f'{choice[1]} lies inside: revise(response="{choice[1]}")')
    return notes


def picture(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Mapping[str, str | None],
    ax: Axes | None,
) -> Figure:
    """The likelihood over powers, with the interval."""
    from joinery.show.pictures.canvas import Words
    from joinery.show.pictures.fit import profile
    from joinery.study.pictures.words import worded

    curve = powers(fit)
    choice = suggested(curve)
    marks = [
        (p, form.format(curve.column))
        for p, form in SIMPLE.items()
        if curve.power[0] <= p <= curve.power[-1]
    ]
    caption = Words(
        f"Which power of {fit.words(curve.column)} suits the model?",
        "; ".join(_notes(fit, curve)),
        "power",
        "log likelihood",
    )
    chosen = None if choice is None else choice[0]
    ends = curve.lower, curve.best, curve.upper
    return profile(
        curve.power, curve.log_likelihood, ends, marks, chosen, worded(caption, words), ax
    )
