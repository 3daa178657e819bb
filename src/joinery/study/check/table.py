"""The checks: a question each about an assumption, with figure, verdict and advice."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from joinery.show.table import Table
from joinery.show.table_layout import Layout
from joinery.study.check.check import NO_ADVICE, Line
from joinery.study.check.normal import normal
from joinery.study.check.order import order
from joinery.study.check.overlap import overlap
from joinery.study.check.rate import on_one_rate
from joinery.study.check.single_rows import badly_fitted, decides
from joinery.study.check.spread import even
from joinery.study.check.straight import straight
from joinery.study.fitted import Fitted, once, rows_at_hand
from joinery.study.verdicts import CAUTION, FINE, SERIOUS
from joinery.support import advice as say

SINGLE_ROWS = ("outliers", "influence")


def checks(fit: Fitted) -> Table:
    """The checks table. See ``Fit.checks``."""
    lines = check_lines(fit)
    return Table(
        {
            "question": [line.question for line in lines],
            "check": [line.check for line in lines],
            "statistic": [line.test.statistic for line in lines],
            "p": [line.test.p for line in lines],
            "verdict": [line.verdict for line in lines],
            "advice": [line.advice for line in lines],
        },
        title=f"Checks of {fit.sentence}",
        notes=(
            "the verdict weighs how large a departure is as well as its p, and all checks share "
            "one error rate: of sound tables about one in twenty has a remark",
            *_note_on_order(fit),
        ),
        kinds={"statistic": "own", "question": "text", "check": "text", "advice": "text"},
        layout=Layout(grouped=True, under="advice", silent=NO_ADVICE),
    )


@once
def check_lines(fit: Fitted) -> list[Line]:
    """Every check of a fit, in the order of the questions. Raises CallError for a loaded fit."""
    rows_at_hand(fit)
    if not fit.estimate.linear:
        from joinery.study.check.families import family_lines

        return on_one_rate(list(family_lines(fit)))
    return on_one_rate([line for check in CHECKS for line in (
        order(fit) if check is order else _but_order(fit)[check])])  # fmt: skip


@once
def _but_order(fit: Fitted) -> dict[Check, list[Line]]:
    """The lines of every question but that of order, before they share one rate."""
    return {check: list(check(fit)) for check in CHECKS if check is not order}


def said_on_page(fit: Fitted) -> list[Line]:
    """The gravest line of each question that is not about single rows.

    Of order only where the rows are known to have one.
    """
    if fit.options.order or not fit.estimate.linear:
        lines = check_lines(fit)
    else:
        lines = on_one_rate([line for part in _but_order(fit).values() for line in part])
    out: dict[str, Line] = {}
    rank = {SERIOUS: 0, CAUTION: 1, FINE: 2, "": 3}
    for line in lines:
        if line.name not in SINGLE_ROWS and (
            line.name not in out or rank[line.verdict] < rank[out[line.name].verdict]
        ):
            out[line.name] = line
    return list(out.values())


def _note_on_order(fit: Fitted) -> tuple[str, ...]:
    order = fit.options.order
    if order:
        return (f"rows are taken in the order of {order}",)
    return (f"rows are taken in the table's own order; {say.option('order')} names another",)


Check = Callable[[Fitted], Iterator[Line]]
CHECKS: tuple[Check, ...] = (
    straight,
    even,
    normal,
    order,
    overlap,
    badly_fitted,
    decides,
)
