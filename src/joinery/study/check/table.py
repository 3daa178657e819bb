"""The checks: a question each about an assumption, with figure, verdict and advice."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace

from joinery.show.appearance import Appearance
from joinery.show.table import Table
from joinery.study.check.check import NO_ADVICE, Line
from joinery.study.check.facts import data
from joinery.study.check.lagged import STEPS
from joinery.study.check.normal import normal
from joinery.study.check.order import order
from joinery.study.check.overlap import overlap
from joinery.study.check.products import products
from joinery.study.check.rate import on_shares
from joinery.study.check.shape import Shape, shape_of
from joinery.study.check.single_rows import badly_fitted, decides
from joinery.study.check.spread import even, logarithm_evens_out
from joinery.study.check.straight import straight
from joinery.study.check.unused import unused
from joinery.study.fitted import Fitted, once, rows_at_hand
from joinery.study.verdicts import GRAVE, GRAVEST_FIRST

SINGLE_ROWS = ("outliers", "influence")
BENT = ("straight line", "products")
SHAPES = (
    *BENT,
    "left out",
    "belonging together",
    "even spread",
    "normal residuals",
    "link",
    "calibration",
    "family",
)
AS_SAVED = "judged when the fit was saved; its file keeps no rows to judge anew"


def checks(fit: Fitted) -> Table:
    """Return the checks table. See ``Fit.checks``."""
    lines = check_lines(fit)
    return Table(
        {
            "question": [line.question for line in lines],
            "check": [line.check for line in lines],
            "statistic": [line.test.statistic for line in lines],
            "p": [line.test.p for line in lines],
            "verdict": [line.verdict for line in lines],
            "would_see": [str(line.would_see or "") for line in lines],
            "advice": [line.advice for line in lines],
        },
        title=f"Checks of {fit.sentence}",
        notes=(
            *(() if fit.origin is not None else (AS_SAVED,)),
            "p is for the question as a whole, by Holm's procedure; at most one sound table in "
            "twenty has a caution",
            "would_see: the smallest departure that these rows would show four times in five",
        ),
        appearance=Appearance(
            kinds={"statistic": "own", "question": "text", "check": "text", "advice": "text"}
            | {"would_see": "text"},
            grouped=True,
            under="advice",
            silent=NO_ADVICE,
        ),
    )


@once
def check_lines(fit: Fitted) -> list[Line]:
    """Return every check of a fit, in the order of the questions; of a loaded fit, as it was saved.

    Raises CallError for a loaded fit whose file has none."""
    if fit.origin is None and fit.judged is not None:
        return list(fit.judged)
    rows_at_hand(fit)
    shape = shape_of(fit)
    lines = [line for check in _suiting(fit) for line in _asked(check, fit, shape)]
    return _cause_first(fit if shape is None else shape.fit, on_shares(lines))


def _suiting(fit: Fitted) -> tuple[Check, ...]:
    """Return the checks that suit the family of a fit, in the order of their questions."""
    if fit.estimate.linear:
        return CHECKS
    from joinery.study.check.families import family_checks

    return family_checks()


def _of_shapes(fit: Fitted) -> tuple[Check, ...]:
    """Return those of them that are about the shape of the residuals."""
    if fit.estimate.linear:
        return OF_SHAPE
    from joinery.study.check.families import family_shape_checks

    return family_shape_checks()


def _asked(check: Check, fit: Fitted, shape: Shape | None) -> Iterator[Line]:
    """Yield the lines of a check, those about shapes from the rows that are asked about them."""
    if shape is None or check not in _of_shapes(fit):
        yield from check(fit)
        return
    # moments of all rows are at hand, and one row in so many has no few bad ones to leave out
    if check is normal and shape.every > 1 and not shape.without:
        yield from check(fit)
        return
    if check is normal:
        yield from (line for line in check(fit) if not _of_shape(line))
    for line in check(shape.fit):
        if _of_shape(line):
            yield replace(line, check=f"{line.check}{shape.words}", every=shape.every)


def _of_shape(line: Line) -> bool:
    """Return True for a line that one bad row would mislead; rows far off are counted with all."""
    return line.name in SHAPES and line.kind != "rows far off"


def _cause_first(fit: Fitted, lines: list[Line]) -> list[Line]:
    """Return the lines with one first step: a fan and a bend together ask for the logarithm.

    Curves and products that a logarithm of the response would straighten are its consequences; a
    curve across the fitted values is one of a product left out."""
    lines = _steps_first(_product_first(lines))
    fan = any(line.kind == "spread" and line.verdict in GRAVE for line in lines)
    bent = any(line.name in BENT and line.verdict in GRAVE for line in lines)
    if not (fan and bent):
        return lines
    log = logarithm_evens_out(fit)
    if not log:
        return lines
    return _answered_first(lines, log, BENT)


def _answered_first(lines: list[Line], step: str, consequences: Sequence[str]) -> list[Line]:
    """Return the lines with a step as the first where it may answer what is grave.

    ``consequences`` are names or kinds of lines."""
    first = f"first {step}, which may answer this too"
    out = []
    for line in lines:
        follows = line.name in consequences or line.kind in consequences
        if follows and line.verdict in GRAVE:
            line = replace(line, advice=first)
        out.append(line)
    return out


def _steps_first(lines: list[Line]) -> list[Line]:
    """Return the lines with steps from row to row as the first step where series wander."""
    steps = [line for line in lines if line.verdict in GRAVE and line.advice.startswith(STEPS)]
    if not steps:
        return lines
    return _answered_first(lines, steps[0].advice, (*BENT, "even spread", "left out"))


def _product_first(lines: list[Line]) -> list[Line]:
    """Return the lines with a product that is left out as the first step for fitted values."""
    products = [line for line in lines if line.kind == "product" and line.verdict in GRAVE]
    if not products:
        return lines
    step = products[0].advice.partition(": ")[2]
    return _answered_first(lines, step, ("fitted curvature",))


def page_lines(fit: Fitted) -> list[Line]:
    """Return the gravest line of each question, in their order; single rows are told by name."""
    out: dict[str, Line] = {}
    rank = {verdict: place for place, verdict in enumerate(GRAVEST_FIRST)}
    for line in check_lines(fit):
        if line.name in SINGLE_ROWS:
            continue
        if line.name == "data" and line.verdict in GRAVE:
            out[line.kind + line.finding] = line  # each fact by itself
            continue
        known = out.get(line.name)
        if known is None or rank[line.verdict] < rank[known.verdict]:
            out[line.name] = line
    return list(out.values())


Check = Callable[[Fitted], Iterator[Line]]
CHECKS: tuple[Check, ...] = (
    data,
    straight,
    products,
    unused,
    even,
    order,
    normal,
    overlap,
    badly_fitted,
    decides,
)
# checks that one bad row misleads, and that a part of a long table answers
OF_SHAPE: tuple[Check, ...] = (straight, products, unused, even, normal)
