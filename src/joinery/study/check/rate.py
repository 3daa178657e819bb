"""One error rate for the checks of a page.

Each check by itself would be wrong in one of twenty sound tables; a page of a dozen would hardly
ever be free of a remark. The checks share one rate instead: within a question by Bonferroni's
inequality, over questions by Holm's procedure with weights (1979), a breach that would do most harm
weighing most."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from joinery.study.check.check import NO_ADVICE, Line
from joinery.study.verdicts import CAUTION, FINE, SERIOUS

# what each question weighs; those that are not named are facts, or judged row by row
WEIGHTS = {
    "straight line": 3.0,
    "even spread": 2.0,
    "spread": 2.0,  # of other families: overdispersion
    "order": 2.0,
    "link": 1.0,
    "calibration": 1.0,
    "normal residuals": 1.0,
    "family": 1.0,
    "zeros": 1.0,
}
RATE, SERIOUS_RATE = 0.02, 0.004  # of sound pages with a remark, with a serious one


def on_one_rate(lines: Sequence[Line]) -> list[Line]:
    """The lines with verdicts that hold for the page: no graver than each has by itself."""
    smallest: dict[str, float] = {}
    tests: dict[str, int] = {}
    for line in lines:
        if line.name in WEIGHTS and line.shares_rate and np.isfinite(line.test.p):
            tests[line.name] = tests.get(line.name, 0) + 1
            smallest[line.name] = min(smallest.get(line.name, 1.0), line.test.p)
    corrected = {name: min(1.0, tests[name] * p) for name, p in smallest.items()}
    adjusted = weighted_holm(corrected)
    out = [_judged(line, adjusted.get(line.name), tests.get(line.name, 1)) for line in lines]
    kept = {line.name: line.verdict for line in out if line.shares_rate}
    # a second figure of a question that has its verdict already
    return [
        line
        if line.shares_rate or line.name not in kept or line.verdict in (FINE, "")
        else replace(line, verdict=kept[line.name])
        for line in out
    ]


def weighted_holm(p: dict[str, float]) -> dict[str, float]:
    """p-values corrected by Holm's procedure with the weights of the questions."""
    order = sorted(p, key=lambda name: p[name] / WEIGHTS[name])
    out, highest, left = {}, 0.0, sum(WEIGHTS[name] for name in p)
    for name in order:
        highest = max(highest, min(1.0, p[name] * left / WEIGHTS[name]))
        out[name] = highest
        left -= WEIGHTS[name]
    return out


def _judged(line: Line, question: float | None, tests: int) -> Line:
    """A line with the verdict that its question's corrected p leaves it."""
    if question is None or not line.shares_rate or line.verdict not in (CAUTION, SERIOUS):
        return line
    # of several tests of a question those with a p of their own below the rate are remarked on
    p = max(question, min(1.0, tests * line.test.p))
    if p >= RATE:
        return replace(line, verdict=FINE, advice=NO_ADVICE)
    if p >= SERIOUS_RATE:
        return replace(line, verdict=CAUTION)
    return line
