"""The picture of a bootstrap: each figure's draws, with the estimate and the interval."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from joinery.show.numbers import level_words
from joinery.study.fitted import Fitted, checked_level
from joinery.study.resample.bootstrap import drawn

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

MOST_PANELS = 8  # coefficients with a panel each


def bootstrap(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Mapping[str, str | None],
    ax: Axes | None,
    resamples: int = 2000,
    of: Sequence[str] | str | None = None,
    resample: str = "rows",
    interval: str = "percentile",
    level: float | None = None,
    seed: int | None = None,
) -> Figure:
    """Return how figures spread over resamples; of many the first eight."""
    from joinery.show.pictures.canvas import refuse_axes
    from joinery.show.pictures.rehearsal import Cloud, clouds

    refuse_axes("bootstrap", ax)
    if level is None:
        level = fit.level
    else:
        level = checked_level(level)
    result = drawn(fit, resamples, of, resample, interval, level, seed)
    shown = [
        Cloud(fit.words(name), float(b), result.draws[:, j], (float(low), float(high)))
        for j, (name, b, low, high) in enumerate(
            zip(result.names, result.estimate, result.lower, result.upper, strict=True)
        )
    ][:MOST_PANELS]
    finding = (
        f"{len(result.draws):,} resamples; {result.how}; bar: the {level_words(level)} interval"
    )
    return clouds(shown, words.get("title") or "How far would estimates move?", finding)
