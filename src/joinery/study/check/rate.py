"""The shares of a page's error rate, and the verdicts that they leave.

Of sound pages at most one in twenty carries a caution. That rate is shared out: rows are judged one
by one at 1 % together, and each question has the share below, more where a fault is common and
grave. Inside a question its tests share by Holm's procedure (1979)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from joinery.core.inference.diagnostics import holm
from joinery.study.check.check import Line
from joinery.study.verdicts import ALLOWED, CAUTION, GRAVE, NO_SIGN, SERIOUS, SLIGHT

SHARES = {
    "straight line": 0.007,
    "products": 0.007,
    "belonging together": 0.004,
    "left out": 0.003,
    "order": 0.004,
    # of the normal family
    "even spread": 0.006,
    "normal residuals": 0.004,
    # of the others
    "spread": 0.004,
    "link": 0.002,
    "calibration": 0.0015,
    "family": 0.0015,
    "zeros": 0.001,
}
SINGLE_ROWS = 0.01  # of all rows together, for what one row does to a coefficient
SERIOUS_PART = 0.18  # of a share: below it a departure that is large is serious
EVIDENCE = 0.02  # a question's own p from which on there is no sign


def on_shares(lines: Sequence[Line]) -> list[Line]:
    """Return the lines with p-values that hold for their question, verdicts and advice."""
    p: dict[str, list[float]] = {}
    for line in lines:
        if line.tested and line.name in SHARES:
            p.setdefault(line.name, []).append(line.test.p)
    corrected = {name: iter(holm(np.array(of))) for name, of in p.items()}
    out = []
    for line in lines:
        if line.tested and line.name in SHARES:
            test = replace(line.test, p=float(next(corrected[line.name])))
            line = _judged(replace(line, test=test))
        elif line.verdict == NO_SIGN and line.test.p < EVIDENCE:
            line = replace(line, verdict=SLIGHT)  # its own limit is stricter than evidence
        if line.advise is not None and line.verdict in GRAVE:
            line = replace(line, advice=line.advise())
        out.append(replace(line, advise=None))  # it holds the fit, which keeps the lines
    return out


def _judged(line: Line) -> Line:
    """Return a line with the verdict that the share of its question leaves."""
    share, p, size = SHARES[line.name], line.test.p, line.test.size
    if not p < EVIDENCE:
        return replace(line, verdict=NO_SIGN)
    if p >= share or size < line.small:
        return replace(line, verdict=SLIGHT)
    if line.allowed_by:
        return replace(line, verdict=ALLOWED, advice=line.allowed_by)
    if p < SERIOUS_PART * share and size >= line.large:
        return replace(line, verdict=SERIOUS)
    return replace(line, verdict=CAUTION)
