"""The lines of the page about what is slight, allowed for, not judged, or not seen."""

from __future__ import annotations

import math
from collections.abc import Sequence

from joinery.show.numbers import (
    figure,
    p_phrase,
)
from joinery.show.short_page import Caution
from joinery.study.check.check import Line
from joinery.study.check.single_rows import largest_move
from joinery.study.check.table import SINGLE_ROWS, check_lines
from joinery.study.fitted import Fitted
from joinery.study.rows.table import remarks
from joinery.study.verdicts import ALLOWED, GRAVE, NO_SIGN, NOT_JUDGED, SLIGHT
from joinery.support.errors import listed


def mild_lines(fit: Fitted, lines: Sequence[Line]) -> list[Caution]:
    """Return a line of each milder verdict: slight, allowed for, not judged, no sign."""
    out = []
    # single rows have their own lines where they are grave
    quiet_rows = fit.origin is not None and not remarks(fit).judged(*GRAVE)
    of_rows = [c for c in check_lines(fit) if c.name in SINGLE_ROWS and c.verdict == SLIGHT]
    if quiet_rows:
        lines = [*lines, *of_rows]
    for verdict in (SLIGHT, ALLOWED):
        findings = [finding_of(c) for c in lines if c.verdict == verdict]
        if findings:
            out.append(Caution(verdict, "; ".join(findings), "checks"))
    unjudged = [f"{c.name}: {c.advice}" for c in lines if c.verdict == NOT_JUDGED]
    if fit.origin is None:
        unjudged.append("single rows: a file keeps none")
    if unjudged:
        out.append(Caution(NOT_JUDGED, "; ".join(unjudged), ""))
    absent = [SIGN_OF[c.name] for c in lines if c.verdict == NO_SIGN and c.name in SIGN_OF]
    if absent:
        words = f"of {listed(absent, len(absent))}{_unseen(fit, lines)}{_on_a_part(lines)}"
        out.append(Caution(NO_SIGN, words, "checks"))
    if not quiet_rows or of_rows:
        return out
    move = largest_move(fit)
    if move is not None:
        size = figure(abs(move.size), 2)
        words = f"no row moves a coefficient by more than {size} standard errors"
        out.append(Caution(NO_SIGN, words, "rows"))
    return out


# what there is no sign of, by the question
SIGN_OF = {
    "data": "odd cells",
    "straight line": "bends",
    "products": "products left out",
    "left out": "other columns left out",
    "belonging together": "rows that belong together",
    "even spread": "uneven spread",
    "spread": "a spread that is not the family's",
    "order": "alike neighbours",
    "normal residuals": "residuals that are not normal",
    "overlap": "overlap",
    "link": "another link",
    "calibration": "means that are off",
    "family": "another family",
    "zeros": "zeros too many or too few",
}


BY_SHARE = ("straight line", "products", "left out")  # questions whose departures are partial R²
TELLING = 0.001  # a partial R² below which nobody misses what is not shown


def _unseen(fit: Fitted, lines: Sequence[Line]) -> str:
    """Return the largest departure that the rows would not show, as a clause."""
    seen = [
        c.would_see
        for c in lines
        if c.verdict == NO_SIGN and c.name in BY_SHARE and c.would_see is not None
    ]
    largest = max(seen, key=lambda departure: departure.size, default=None)
    if largest is None or largest.size < TELLING:
        return ""
    words = f"{largest.what} below {largest.digits}"
    return f"; {fit.n_rows:,} rows would not show {words}"


def _on_a_part(lines: Sequence[Line]) -> str:
    """Return which part of a long table the shapes were asked of, as a clause."""
    every = max((line.every for line in lines), default=1)
    if every == 1:
        return ""
    return f"; shapes were looked at in one row in {every}"


def finding_of(line: Line) -> str:
    """Return what a check found, with its p where it has one."""
    if math.isnan(line.test.p):
        return line.finding
    return f"{line.finding}; {p_phrase(line.test.p)}"
