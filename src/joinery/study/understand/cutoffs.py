"""Yes/no models: what it costs to say yes from a cut-off on, on rows seen and not seen."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from joinery.core.blocks.partition import Partition
from joinery.core.inference.chances import Chances, concordance, said_yes
from joinery.core.inference.intervals import wilson
from joinery.show.appearance import Appearance
from joinery.show.numbers import count, figure, level_words
from joinery.show.table import Table
from joinery.study.fitted import Fitted, checked_level
from joinery.study.resample.crosscheck import left_out_means
from joinery.study.rows.chances import chances, in_one
from joinery.support import advice
from joinery.support.errors import CallError

USUAL = tuple(round(0.1 * k, 1) for k in range(1, 10))


class YesNo(NamedTuple):
    """Chances of single yes or no, how many rows have none, and the area under the curve."""

    rows: Partition[Chances]
    unknown: int
    area: float


def of_yes_no(fit: Fitted, crosscheck: bool, seed: int | None) -> YesNo:
    """Return the chances of a fit's rows beside what came.

    With ``crosscheck`` each from a fit without the row; a level that only the row has leaves it
    without. Raises CallError for another response."""
    if not fit.family.shares or fit.response.kind != "plain":
        raise CallError("this is for responses of a single yes or no a row")
    if not crosscheck:
        rows = chances(fit)
        return YesNo(rows, 0, concordance(rows))
    mu, area = left_out_means(fit, seed=seed)
    known = np.isfinite(mu)
    (seen,) = in_one(list(chances(fit)))
    result = Chances(mu[known], *(values[known] for values in seen[1:]))
    return YesNo(in_one([result]), int((~known).sum()), area)


def cutoffs(
    fit: Fitted,
    at: Sequence[float] | None = None,
    *,
    crosscheck: bool = False,
    level: float | None = None,
    seed: int | None = None,
) -> Table:
    """Return the table of cut-offs. See ``Fit.cutoffs``."""
    if level is None:
        level = fit.level
    else:
        level = checked_level(level)
    chosen = np.asarray(USUAL if at is None else at, float).reshape(-1)
    if not len(chosen) or (chosen < 0).any() or (chosen > 1).any():
        raise CallError("cut-offs are probabilities, between 0 and 1", argument="at")
    rows, unknown, area = of_yes_no(fit, crosscheck, seed)
    columns = at_each(chosen, rows, level)
    notes = [
        "sensitivity: the share of yes that is called yes; specificity: of no that is called no",
        f"area under the curve {figure(area, 3)}: the share of pairs of a yes and a no in "
        "which the yes has the higher chance",
        "each row judged by a fit without it, in ten folds"
        if crosscheck
        else "on the rows of the fit itself, which is optimistic: rows not seen with "
        + advice.ask("cutoffs", crosscheck=True),
    ]
    if unknown:
        notes.append(f"left aside: {count(unknown, 'row')} that no fit without them can forecast")
    ends = ("right_yes", "right_no", "yes_when_said", "no_when_said")
    return Table(
        columns,
        title=f"What each cut-off says, with {level_words(level)} intervals",
        notes=tuple(notes),
        appearance=Appearance(
            kinds={"cutoff": "value", "said_yes": "whole"}
            | {f"{name}{tail}": "share" for name in ends for tail in ("", "_lower", "_upper")},
            headings={
                "said_yes": "said yes",
                "right_yes": "sensitivity",
                "right_no": "specificity",
                "yes_when_said": "yes where said yes",
                "no_when_said": "no where said no",
            },
            joined={n: (f"{n}_lower", f"{n}_upper") for n in ends},
        ),
    )


def at_each(cutoffs: np.ndarray, rows: Partition[Chances], level: float) -> dict[str, np.ndarray]:
    """Return shares right at each cut-off (q,), each with its interval; a chance at it is said
    yes."""
    remarks = said_yes(rows, cutoffs)
    noes = remarks.of_yes + remarks.of_no - remarks.yes
    out: dict[str, np.ndarray] = {"cutoff": cutoffs, "said_yes": remarks.yes}
    passes = remarks.of_no - (remarks.yes - remarks.rightly)
    shares = {
        "right_yes": (remarks.rightly, np.full(len(cutoffs), remarks.of_yes)),
        "right_no": (passes, np.full(len(cutoffs), remarks.of_no)),
        "yes_when_said": (remarks.rightly, remarks.yes),
        "no_when_said": (passes, noes),
    }
    for name, (right, n) in shares.items():
        n = np.where(n > 0, n, np.nan)
        lower, upper = wilson(right, n, level)
        out |= {name: right / n, f"{name}_lower": lower, f"{name}_upper": upper}
    return out
