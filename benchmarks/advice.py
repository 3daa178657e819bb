"""What comes of following the page: `python -m benchmarks.advice [TABLES] [ROWS] [FAULT]` prints it.

Each fault of benchmarks.faults is planted, the first advice of the page is taken literally, and the
new fit is judged on rows not seen, by its interval for the slope that stays, and by its own page."""

from __future__ import annotations

import re
import sys
import warnings
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

import joinery as jn
from benchmarks.faults import FAULTS, Fault
from joinery.study.check.table import page_lines
from joinery.study.verdicts import GRAVE

# the true coefficient of x, where it stays what it is when the fault is mended
SLOPES = {
    "4-fold fan": 3.0,
    **dict.fromkeys(
        (
            "product of numbers left out, partial R² 0.15",
            "spread 4-fold at both ends",
            "every seventh day + 2.5 SD, a date in the table",
            "neighbours alike 0.5, a date in the table",
            "clusters of ten alike 0.5, their column unused",
            "a column left out, partial R² 0.2",
            "all rows there twice",
            "one x ten times too large",
            "x in another unit in a tenth of the rows",
            "x of the row before left out, a date in the table",
        ),
        1.0,
    ),
}
UNSEEN = 2000  # rows on which both fits are judged


@dataclass
class Outcome:
    """One table: what was advised, and the fit before and after."""

    advised: bool
    mended: bool = False
    error_ratio: float = float("nan")
    held_before: float = float("nan")
    held_after: float = float("nan")


def first_call(advice: str) -> str | None:
    """Return the first call of an advice, to the bracket that closes it."""
    start = advice.find("fit.revise(")
    if start < 0:
        return None
    depth = 0
    for place in range(start, len(advice)):
        depth += {"(": 1, ")": -1}.get(advice[place], 0)
        if depth == 0 and advice[place] == ")":
            return advice[start : place + 1]
    return None


def followed(fault: Fault, n: int, rng: np.random.Generator) -> Outcome:
    """Plant a fault, follow the page's first advice, and look again."""
    table = fault.made(n, rng)
    fit = jn.fit(table, fault.sentence, **fault.options)
    grave = [line for line in page_lines(fit._fitted) if line.verdict in GRAVE]
    # as the page has them: facts of the data first, then the gravest
    grave.sort(key=lambda line: (line.name != "data", GRAVE.index(line.verdict)))
    call = first_call(grave[0].advice) if grave else None
    if call is None:
        return Outcome(advised=False)
    try:
        after = eval(call, {"fit": fit})
    except jn.JoineryError as slip:
        raise AssertionError(f"{fault.name}: {call} does not run: {slip}") from slip
    kinds = {line.kind for line in grave} & set(fault.kinds)
    again = {line.kind for line in page_lines(after._fitted) if line.verdict in GRAVE}
    ratio = float("nan")
    if after.sentence.partition(" given ")[0] == fit.sentence.partition(" given ")[0]:
        ratio = _error(after, fault, rng) / _error(fit, fault, rng)
    truth = SLOPES.get(fault.name)
    return Outcome(True, not (kinds & again), ratio, _holds(fit, truth), _holds(after, truth))


def _error(fit: jn.Fit, fault: Fault, rng: np.random.Generator) -> float:
    """Root mean square error on fresh rows of the same making, on the response's own scale."""
    fresh = fault.made(UNSEEN, np.random.default_rng(99))
    known = fresh
    for name in fresh.select_dtypes("object"):  # a level that the fit has not seen has no forecast
        if name in fit.sentence:
            seen = set(fit._fitted.origin.given.frame[name])
            known = known[known[name].isin(seen)]
    found = fit.forecast(known.drop(columns="y"))["fitted"].to_numpy()
    return float(np.sqrt(np.nanmean((found - known["y"].to_numpy()) ** 2)))


def _holds(fit: jn.Fit, truth: float | None) -> float:
    """Return 1 where the interval of x holds its true coefficient, NaN where there is none."""
    frame = fit.coefficients().frame.set_index("term")
    if truth is None or "x" not in frame.index:
        return float("nan")
    return float(frame.loc["x", "lower"] <= truth <= frame.loc["x", "upper"])


def rows_of(tables: int, n: int, named: str = "", seed: int = 1) -> Iterator[str]:
    """Yield the lines of the table."""
    yield "| fault | advised | fault gone | error on fresh rows, after ÷ before | slope held before | after |"
    yield "| --- | ---: | ---: | ---: | ---: | ---: |"
    for fault in FAULTS:
        if named and named not in fault.name:
            continue
        rng = np.random.default_rng(seed)
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            outcomes = [followed(fault, n, rng) for _ in range(tables)]
        advised = [o for o in outcomes if o.advised]
        cells = [f"{len(advised) / tables:.0%}"]
        if advised:
            cells.append(f"{np.mean([o.mended for o in advised]):.0%}")
            ratios = [o.error_ratio for o in advised if np.isfinite(o.error_ratio)]
            cells.append(f"{np.median(ratios):.2f}" if ratios else "")
            for name in ("held_before", "held_after"):
                held = [v for o in advised if (v := getattr(o, name)) == getattr(o, name)]
                cells.append(f"{np.mean(held):.0%}" if held else "")
        yield f"| {fault.name} | {' | '.join([*cells, *[''] * (5 - len(cells))])} |"


def main() -> None:
    """Print the table as Markdown."""
    tables = int(sys.argv[1]) if len(sys.argv) > 1 else 100
    n = int(sys.argv[2]) if len(sys.argv) > 2 else 100
    for line in rows_of(tables, n, *sys.argv[3:4]):
        print(re.sub(r" +\|", " |", line), flush=True)


if __name__ == "__main__":
    main()
