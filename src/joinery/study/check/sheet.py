"""The checks sheet: a strip a question, with verdict, small picture and advice."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from joinery.show.numbers import count
from joinery.study.check import residual_pictures
from joinery.study.check import row_pictures as influence_pictures
from joinery.study.check.check import NO_ADVICE, Line
from joinery.study.check.overlap import HIGH_INFLATION, inflations
from joinery.study.check.row_pictures import heaviest
from joinery.study.check.table import check_lines
from joinery.study.fitted import Fitted
from joinery.study.rows.digest import limits
from joinery.study.thinned import thinned
from joinery.study.verdicts import ALLOWED, GRAVE, NOT_JUDGED, SLIGHT, worst
from joinery.support.errors import CallError

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_DRAWN: dict[str, Callable[..., Figure]] = {
    "residuals": residual_pictures.residuals,
    "spread": residual_pictures.spread,
    "quantiles": residual_pictures.quantiles,
    "sequence": residual_pictures.sequence,
    "observed_fitted": residual_pictures.observed_fitted,
    "leverage": influence_pictures.leverage,
}
TOLD = (*GRAVE, SLIGHT, ALLOWED)  # verdicts of which a finding is told
_PICTURES = {
    "straight line": "residuals",
    "even spread": "spread",
    "normal residuals": "quantiles",
    "order": "sequence",
    "outliers": "leverage",
    "link": "residuals",
    "spread": "spread",
    "calibration": "observed_fitted",
    "family": "quantiles",
    "separation": "observed_fitted",
    "zeros": "observed_fitted",
}


def checks(
    fit: Fitted,
    *,
    label_rows: str | Sequence[Any],
    words: Mapping[str, str | None],
    ax: Axes | None,
) -> Figure:
    """Draw every question in a strip of its own."""
    from joinery.show.pictures.canvas import refuse_axes
    from joinery.show.pictures.strips import Strip, strips

    refuse_axes("checks", ax)
    by_name: dict[str, list[Line]] = {}
    for line in check_lines(fit):
        by_name.setdefault(line.name, []).append(line)
    rows = []
    for name, lines in by_name.items():
        verdict = worst(line.verdict for line in lines)
        grave = next(line for line in lines if line.verdict == verdict)
        remarkable = [line for line in lines if line.verdict in TOLD]
        phrase = grave.check
        if remarkable:
            phrase = grave.finding or grave.check
        steps = [line.advice for line in remarkable if line.advice != NO_ADVICE]
        advice = "; ".join(dict.fromkeys(steps)) or _nothing(lines, verdict)
        rows.append(
            Strip(lines[0].question, verdict, phrase, advice, _picture(fit, name, label_rows))
        )
    bad = sum(s.verdict in GRAVE for s in rows)
    judged = sum(s.verdict != NOT_JUDGED for s in rows)
    if bad:
        finding = f"{count(bad, 'question')} of {len(rows)} to look into"
    elif judged:
        finding = f"no sign of anything grave in {judged} of {count(len(rows), 'question')}"
    else:
        finding = f"none of {count(len(rows), 'question')} can be judged"
    _, remarks = thinned(fit, "quantiles", "none")
    return strips(
        words.get("title") or "Does the model deserve to be believed?",
        "; ".join(filter(None, (f"{fit.sentence}: {finding}", remarks))),
        rows,
    )


def _nothing(lines: list[Line], verdict: str) -> str:
    alike = [line for line in lines if line.verdict == verdict]
    stated = [line.advice for line in alike if line.advice != NO_ADVICE]
    if stated:
        return stated[0]
    return "nothing to do"


def _picture(
    fit: Fitted, name: str, label_rows: str | Sequence[Any]
) -> Callable[[Axes], object] | None:
    """Return what draws the strip's small picture on its axes."""
    from joinery.show.pictures.strips import bars

    if name == "overlap":
        sizes = list(inflations(fit).items())
        return lambda ax: bars(ax, sizes, HIGH_INFLATION)
    if name == "influence" and not fit.solution.perfect:
        some, _ = thinned(fit, name, label_rows)
        return lambda ax: bars(ax, heaviest(some), limits(fit).cooks_distance)
    picture = _PICTURES.get(name)
    if picture is None or fit.solution.perfect:
        return None

    def drawn(ax: Axes) -> None:
        some, _ = thinned(fit, picture, label_rows)
        try:
            _DRAWN[picture](some, label_rows=label_rows, words={}, ax=ax)
        except CallError:  # too little is left to draw; the strip's words say so
            ax.set_axis_off()

    return drawn
