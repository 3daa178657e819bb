"""What a family asks of a response, and what the reader of a fit with an iteration must know."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from joinery import advice
from joinery.core.glm.estimate import Estimate
from joinery.core.glm.families import Family
from joinery.core.glm.rows import linear
from joinery.design.glm_blocks import LikelihoodBlocks
from joinery.design.row_blocks import RowBlocks
from joinery.errors import Note, NothingEstimableError, UnusableColumnError, listed
from joinery.show.numbers import count, figure
from joinery.study.fitted import Options

CERTAIN = 1e-6  # a mean so near an end of its range is fitted without error


def check_response(blocks: RowBlocks, rows: LikelihoodBlocks, family: Family) -> None:
    """Raises UnusableColumnError, with column and rows, for values the family cannot have."""
    y = np.concatenate([part.y for part in rows.pieces])
    trials = None
    if blocks.response.kind == "of":
        trials = np.concatenate([part.trials for part in rows.pieces if part.trials is not None])
    name = str(blocks.response.expression)
    total = str(blocks.response.total)

    def refuse(bad: np.ndarray, column: str, words: str) -> None:
        if bad.any():
            labels = list(blocks.table.labels(np.arange(len(blocks.table))[blocks.rows][bad]))
            where = f"in {count(len(labels), 'row')} ({listed(labels)})"
            raise UnusableColumnError(
                f"{column} {words} {where}; mend or leave out those rows",
                column=column,
                rows=labels,
            )

    if trials is not None:
        refuse(~(trials > 0), total, "is zero or less")
        refuse(y < 0, name, "is below zero")
        refuse(y > 1, name, f"is above {total}")
    else:
        if blocks.response.kind == "per":
            with np.errstate(all="ignore"):
                exposure = np.concatenate(
                    [part.offset for part in rows.pieces if part.offset is not None]
                )
            refuse(~np.isfinite(exposure), total, "is no exposure above zero")
        refuse(*_allowed(family, y, name))
    if len(np.unique(y)) == 1 and len(y) > 1 and y[0] in family.mean_range:
        rows_words = f"in all {count(len(y), 'row')}: there is nothing to explain"
        if family.shares:
            raise NothingEstimableError(
                f"{name} is {'never' if y[0] == 0 else 'always'} so {rows_words}"
            )
        raise NothingEstimableError(f"{name} is zero {rows_words}")


def _allowed(family: Family, y: np.ndarray, name: str) -> tuple[np.ndarray, str, str]:
    bad, words = family.allowed(y)
    return bad, name, words


def family_notes(
    blocks: RowBlocks, rows: LikelihoodBlocks, estimate: Estimate, options: Options
) -> Iterator[Note]:
    """What the reader of a fit must know of its family and its iteration."""
    if estimate.iterations is None:
        return
    names, family = ("intercept", *blocks.design.names), estimate.family
    if estimate.running:
        yield from _separation(blocks, rows, estimate, names)
    elif not estimate.converged:
        words = (
            f"the iteration stopped after {count(estimate.iterations, 'step')}: {estimate.reason}"
        )
        yield Note("not settled", "caution", words)
    parts = list(rows.pieces)
    y = np.concatenate([p.y for p in parts])
    counts = (
        y
        if parts[0].trials is None
        else y * np.concatenate([p.trials for p in parts if p.trials is not None])
    )
    if family.discrete and np.any(np.abs(counts - np.round(counts)) > 1e-9):
        words = f"{blocks.response.expression} has fractional counts; they are taken as they are"
        yield Note("fractional counts", "caution", words, (str(blocks.response.expression),))
    if len(np.unique(y)) == 1:
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


def _separation(
    blocks: RowBlocks, source: LikelihoodBlocks, estimate: Estimate, names: tuple[str, ...]
) -> Iterator[Note]:
    """Which terms separate the response, and the rows that they fit without error."""
    running = [names[j] for j in estimate.running if j > 0] or [names[j] for j in estimate.running]
    low, high = estimate.family.mean_range
    sure: list[np.ndarray] = []
    for part in source.pieces:
        mu = estimate.link.mu(linear(estimate.solution.fitted, part))
        sure.append((mu < low + CERTAIN) | (mu > high - CERTAIN))
    rows = np.arange(len(blocks.table))[blocks.rows][np.concatenate(sure)]
    labels = listed(blocks.table.labels(rows))
    penalty = advice.option("penalty", "firth")
    offer = f"; fit with {penalty} for finite estimates" if estimate.family.penalties else ""
    words = (
        f"separation: {listed(running)} tells the response without error in "
        f"{count(len(rows), 'row')} ({labels}), "
        f"so that its estimate has no end and its standard error means nothing{offer}"
    )
    yield Note("separation", "serious", words, tuple(running))
