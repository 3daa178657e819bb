"""Columns that are not in a model, added to it: the one test behind several questions."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from functools import partial, reduce
from itertools import pairwise
from operator import add

import numpy as np

from joinery.core.blocks.partition import Partition
from joinery.core.glm.rows import LikelihoodRows, WorkingState
from joinery.core.inference.added import AddedSums, added_groups, gains, smallest_share
from joinery.core.inference.diagnostics import NOTHING, Test
from joinery.core.least_squares.solution import Solution
from joinery.core.numeric import distributions as tails
from joinery.data.columns import Column
from joinery.data.records import Records
from joinery.design.glm_blocks import WorkingRows, working_block
from joinery.design.resolving import resolved
from joinery.design.row_blocks import RowBlock
from joinery.notation.context import Rows as Positions
from joinery.notation.parse import read_sentence
from joinery.notation.tree import Sentence
from joinery.study.check.check import Seen
from joinery.study.check.rate import SHARES
from joinery.study.fitted import Fitted, rows_at_hand, working_rows
from joinery.study.rows.figures import residuals, widening
from joinery.support.errors import DataError

# cells of the columns that are made of a slab, two megabytes, and its rows: smaller ones would have
# the threads wait for each other's turns in Python
SLAB_CELLS, LEAST_SLAB = 2**18, 1024

Residuals = tuple[RowBlock, np.ndarray]  # some rows, and their residuals (m,)

Make = Callable[[RowBlock], np.ndarray]  # the columns asked about, of some rows: (m, q)


def added(fit: Fitted, make: Make, groups: Sequence[np.ndarray]) -> list[Test]:
    """Return the test of each group of columns added to a fit.

    F under least squares; under other families the score test with the fit's dispersion. The size
    is the partial R², or what the score explains of each row."""
    parts = with_residuals(fit).each(
        partial(_sums, solution=fit.solution, make=make, groups=groups)
    )
    sums = reduce(add, parts)
    UZ = fit.solution.sums_in_basis(sums.raw)
    if fit.estimate.linear:
        return added_groups(sums, UZ, groups, fit.solution.rss, fit.residual_df)
    gain, rank = gains(sums, UZ, groups)
    return [_score(fit, g, r) for g, r in zip(gain.tolist(), rank.tolist(), strict=True)]


def with_residuals(fit: Fitted) -> Partition[Residuals]:
    """Return the rows of a fit with their residuals on the scale of the terms, block by block."""
    rows = working_rows(fit)
    if isinstance(rows, WorkingRows):
        return rows.states.map(_of_family)
    return rows.row_blocks.map(partial(_of_least_squares, fit.solution))


def _of_family(made: tuple[RowBlock, LikelihoodRows, WorkingState]) -> Residuals:
    return working_block(made), made[2].residual


def _of_least_squares(solution: Solution, block: RowBlock) -> Residuals:
    return block, residuals(solution, block)


def _sums(
    rows: Residuals, solution: Solution, make: Make, groups: Sequence[np.ndarray]
) -> AddedSums:
    """Return the sums of some rows, a slab of them after another: what is made of it stays near."""
    block, residual = rows
    width = sum(len(columns) for columns in groups)
    height = max(SLAB_CELLS // max(width, 1), LEAST_SLAB)
    slabs = [slice(start, start + height) for start in range(0, len(residual), height)]
    parts = (_of_slab(block.slab(at), residual[at], solution, make, groups) for at in slabs)
    return reduce(add, parts)


def _of_slab(
    block: RowBlock,
    residual: np.ndarray,
    solution: Solution,
    make: Make,
    groups: Sequence[np.ndarray],
) -> AddedSums:
    Z = make(block)
    weighted = Z
    if block.weights is not None:
        weighted = Z * block.weights[:, None]
    if len(groups) == Z.shape[1]:  # one column each
        squares = tuple(np.einsum("ij,ij->j", Z, weighted)[:, None, None])
    else:  # side by side
        spans = [slice(columns[0], columns[-1] + 1) for columns in groups]
        squares = tuple(Z[:, span].T @ weighted[:, span] for span in spans)
    products = weighted.T @ (residual / solution.unit)
    return AddedSums(solution.centred_sums(block.columns, weighted), squares, products)


def _score(fit: Fitted, gain: float, rank: int) -> Test:
    """Return the score test of columns that explain so much more, by so many that count."""
    dispersion = fit.estimate.dispersion
    if not rank or not dispersion:
        return NOTHING
    score = gain * fit.solution.unit**2 / dispersion / widening(fit) ** 2
    df = fit.estimate.reference_df
    if np.isinf(df):
        p = float(tails.chi2_upper(score, rank))
    else:
        p = float(tails.f_upper(score / rank, rank, df))
    return Test(score / rank, p, (rank, df), score / max(fit.n_rows, 1))


def side_by_side(widths: Iterable[int]) -> list[np.ndarray]:
    """Return the columns of groups that stand side by side, from how many each has."""
    ends = np.cumsum([0, *widths])
    return [np.arange(start, stop) for start, stop in pairwise(ends.tolist())]


def surest(tests: Sequence[Test], among: int | None = None) -> tuple[int, Test] | None:
    """Return the place of the smallest p and its test, the p corrected for all; None without one.

    Parameters: ``among`` how many were looked at, where not each was tested. Of the smallest p
    Holm's correction is Bonferroni's."""
    p = np.array([test.p for test in tests])
    if not len(p) or np.isnan(p).all():
        return None
    place = int(np.nanargmin(p))
    looked_at = among or int(np.sum(~np.isnan(p)))
    return place, replace(tests[place], p=min(1.0, tests[place].p * looked_at))


def surest_of(fit: Fitted, candidates: Sequence[np.ndarray]) -> tuple[int, Test] | None:
    """Return the candidate that goes with the residuals most, as ``surest`` does.

    Parameters: the columns (n, q) of each candidate over all used rows."""
    groups = side_by_side(columns.shape[1] for columns in candidates)
    return surest(added(fit, of_used(np.column_stack(candidates)), groups))


def usable_columns(table: Records) -> Iterator[tuple[str, Column]]:
    """Yield the columns of a table but those beside it; one that cannot be used does no harm."""
    for name in table.names:
        if name in table.beside:
            continue
        try:
            column = table.column(name)
        except DataError:
            continue
        yield name, column


def evens_out(fit: Fitted) -> bool:
    """Return True if the standard errors of a fit allow for an uneven spread."""
    return fit.options.std_errors not in ("constant spread", "autocorrelated")


def would_see(fit: Fitted, name: str, tests: int, test: Test, what: str) -> Seen | None:
    """Return the smallest departure that the rows show, as a partial R².

    Parameters: the question's short name, among how many tests it shares its rate, one of them for
    its degrees of freedom, and what the departure is of ("a bend")."""
    if not test.df:
        return None
    df2 = test.df[1]
    if np.isinf(df2):
        df2 = max(fit.residual_df - test.df[0], 1)
    share = smallest_share(SHARES[name] / max(tests, 1), test.df[0], df2)
    if not np.isfinite(share):
        return None
    return Seen(f"{what} of partial R²", share)


def of_used(values: np.ndarray) -> Make:
    """Return what takes the rows of a block out of columns of all used rows (n, q)."""
    return partial(_of_block, values=values)


def _of_block(block: RowBlock, values: np.ndarray) -> np.ndarray:
    return values[block.first : block.first + len(block.y)]


def in_memory(fit: Fitted) -> tuple[Records, Positions] | None:
    """Return the table and its used rows where all of their cells may be asked for."""
    table, used = rows_at_hand(fit)
    if table.read_as_needed:
        return None
    return table, used.rows


def indicators(codes: np.ndarray, levels: int) -> np.ndarray:
    """Return a column for each level, of codes (n,); a missing one has zeros alone."""
    out = np.zeros((len(codes), levels))
    known = codes >= 0
    out[np.flatnonzero(known), codes[known]] = 1.0
    return out


def with_terms(fit: Fitted, terms: str, without: str | None = None) -> Sentence:
    """Return the sentence of a fit with more terms, and without one of its own."""
    table, _ = rows_at_hand(fit)
    more = read_sentence(f"{fit.design.sentence.response} given {terms}")
    kept = [term for term in fit.design.sentence.terms if str(term) != without]
    wider = replace(fit.design.sentence, written=(*kept, *more.terms))
    return resolved(wider, table, str(wider))[0]


def with_response(fit: Fitted, response: str) -> Sentence:
    """Return the sentence of a fit with another response."""
    table, _ = rows_at_hand(fit)
    other = read_sentence(f"{response} given nothing")
    sentence = replace(fit.design.sentence, response=other.response)
    return resolved(sentence, table, str(sentence))[0]
