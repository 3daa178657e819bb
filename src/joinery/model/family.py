"""Requirements of a family on its response, and notes on fits with an iteration."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from joinery.core.blocks.partition import joined
from joinery.core.glm.estimate import Estimate
from joinery.core.glm.families import Family
from joinery.core.glm.rows import LikelihoodRows, linear
from joinery.design.glm_blocks import LikelihoodBlocks
from joinery.design.learning import ends_of
from joinery.design.row_blocks import RowBlocks
from joinery.notation.context import positions_at
from joinery.show.numbers import count, figure
from joinery.study.fitted import Options
from joinery.support import advice
from joinery.support.errors import Note, NothingEstimableError, UnusableColumnError, listed

CERTAIN = 1e-6  # a mean so near an end of its range is fitted without error


@dataclass(frozen=True)
class Responses:
    """The one value that all responses are, where they are, and whether a count is no whole one."""

    same: float | None
    fractional: bool


def check_response(blocks: RowBlocks, rows: LikelihoodBlocks, family: Family) -> Responses:
    """Return what is seen of the responses in one pass.

    Raises UnusableColumnError, with column and rows, for values the family cannot have.
    """
    name, total = str(blocks.response.expression), str(blocks.response.total)

    def faults(part: LikelihoodRows) -> list[np.ndarray]:
        """Return where each of ``words`` holds, as places in the block."""
        if part.trials is not None:
            bad = [~(part.trials > 0), part.y < 0, part.y > 1]
        elif blocks.response.kind == "per":
            if part.offset is None:
                exposure = np.zeros(0)
            else:
                exposure = part.offset
            bad = [~np.isfinite(exposure), family.allowed(part.y)[0]]
        else:
            bad = [family.allowed(part.y)[0]]
        return [np.flatnonzero(b) for b in bad]

    if blocks.response.kind == "of":
        words = [(total, "is zero or less"), (name, "is below zero"), (name, f"is above {total}")]
    else:
        words = [(name, family.allowed(np.zeros(0))[1])]
        if blocks.response.kind == "per":
            words.insert(0, (total, "is not an exposure above zero"))
    collected: list[list[np.ndarray]] = [[] for _ in words]
    first, low, high, fractional = 0, np.inf, -np.inf, False
    for length, bad, ends, odd in rows.pieces.each(
        lambda part: (len(part.y), faults(part), ends_of(part.y), _fractional(part))
    ):
        for places, member in zip(collected, bad):
            places.append(member + first)
        first, fractional = first + length, fractional or odd
        low, high = min(low, ends[0]), max(high, ends[1])
    seen = Responses(low if low == high else None, fractional)
    for (column, fault), places in zip(words, collected):
        _refuse(blocks, np.concatenate(places), column, fault)
    if first > 1 and seen.same in family.mean_range:
        rows_words = f"in all {count(first, 'row')}: there is nothing to explain"
        if family.shares:
            raise NothingEstimableError(
                f"{name} is {'never' if seen.same == 0 else 'always'} so {rows_words}"
            )
        raise NothingEstimableError(f"{name} is zero {rows_words}")
    return seen


def _refuse(blocks: RowBlocks, places: np.ndarray, column: str, fault: str) -> None:
    """Raise UnusableColumnError for rows, by their places among those used, with a fault."""
    if not len(places):
        return
    labels = list(blocks.table.labels(positions_at(blocks.rows, places)))
    where = f"in {count(len(labels), 'row')} ({listed(labels)})"
    raise UnusableColumnError(
        f"{column} {fault} {where}; mend or leave out those rows", column=column, rows=labels
    )


def family_notes(
    blocks: RowBlocks,
    rows: LikelihoodBlocks,
    seen: Responses,
    estimate: Estimate,
    options: Options,
) -> Iterator[Note]:
    """Yield what the reader of a fit must know of its family and its iteration."""
    assert estimate.iterations is not None
    names, family = ("intercept", *blocks.design.names), estimate.family
    if estimate.running:
        yield from _separation(blocks, rows, estimate, names)
    elif not estimate.converged:
        words = (
            f"the iteration stopped after {count(estimate.iterations, 'step')}: {estimate.reason}"
        )
        yield Note("not settled", "serious", words)
    elif estimate.edge:
        words = (
            f"the likeliest means lie at an edge of what the {family.name} family with the "
            f"{estimate.link.name} link can have, so that standard errors, intervals and tests do "
            "not hold; another link may suit the rows"
        )
        yield Note("edge", "serious", words)
    if family.discrete and seen.fractional:
        words = f"{blocks.response.expression} has fractional counts; they are taken as they are"
        yield Note("fractional counts", "caution", words, (str(blocks.response.expression),))
    if seen.same is not None:
        words = f"{blocks.response.name} is the same in every row, so there is nothing to explain"
        yield Note("constant response", "caution", words, (blocks.response.name,))
    if options.weights is not None and estimate.known:
        words = (
            f"under the {family.name} family the scale of weights matters: each multiplies its "
            "row's evidence"
        )
        yield Note("scale of weights", "caution", words, (options.weights,))
    if family.shape is not None:
        if np.isinf(family.shape):
            words = (
                "the counts spread no more than Poisson counts do: the shape k is infinite, and "
                "the fit is Poisson"
            )
            yield Note("infinite shape", "note", words)
        else:
            yield Note("shape", "note", f"variance μ + μ²/k with k = {figure(family.shape, 3)}")
    if estimate.penalty:
        words = (
            "estimates are penalized by Firth's method, which keeps them finite; see "
            + advice.ask("coefficients", profile=True)
        )
        yield Note("penalty", "note", words)
    yield Note("iteration", "note", f"{count(estimate.iterations, 'step')}; {estimate.reason}")


def _fractional(part: LikelihoodRows) -> bool:
    with np.errstate(all="ignore"):  # shares of nothing are refused with their rows
        if part.trials is None:
            counts = part.y
        else:
            counts = part.y * part.trials
        return bool(np.any(np.abs(counts - np.round(counts)) > 1e-9))


def _separation(
    blocks: RowBlocks, source: LikelihoodBlocks, estimate: Estimate, names: tuple[str, ...]
) -> Iterator[Note]:
    """Yield which terms separate the response, and the rows that they fit without error."""
    running = [names[j] for j in estimate.running if j > 0] or [names[j] for j in estimate.running]
    low, high = estimate.family.mean_range

    def certain(part: LikelihoodRows) -> np.ndarray:
        mu = estimate.link.mu(linear(estimate.solution.fitted, part))
        return (mu < low + CERTAIN) | (mu > high - CERTAIN)

    rows = positions_at(blocks.rows, np.flatnonzero(joined(source.pieces, certain)))
    labels = listed(blocks.table.labels(rows))
    penalty = advice.option("penalty", "firth")
    offer = f"; fit with {penalty} for finite estimates" if estimate.family.penalties else ""
    words = (
        f"separation: {listed(running)} predicts the response without error in "
        f"{count(len(rows), 'row')} ({labels}), "
        f"so that its estimate is infinite and its standard error meaningless{offer}"
    )
    yield Note("separation", "serious", words, tuple(running))
