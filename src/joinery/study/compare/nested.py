"""Nested models, and the test of what the larger adds."""

from __future__ import annotations

from typing import Any

import numpy as np

from joinery.core.blocks.partition import joined
from joinery.core.numeric import distributions as tails
from joinery.core.numeric.triangular import triangle
from joinery.design.resolving import expressions_of
from joinery.notation.context import EVERY_ROW
from joinery.notation.tree import spelled
from joinery.notation.walk import names_in
from joinery.study.compare.likelihood_ratio import Nested, deviance_test
from joinery.study.fitted import Fitted, response_rows, rows_at_hand, working_rows
from joinery.study.read.estimates import test_together
from joinery.support import advice

# of a squared length of one: how much of a column may lie outside the other model
SAME_SPACE = 1e-9

NAMED_LABELS = 12  # rows in an advice; beyond that they are not listed


def differing(a: Fitted, b: Fitted) -> str | None:
    """Return why two fits cannot be tested against each other, and what to do; None when they
    can."""
    (table_a, rows_a), (table_b, rows_b) = rows_at_hand(a), rows_at_hand(b)
    if a.design.sentence.response != b.design.sentence.response:
        return (
            f"{a.design.sentence.response} and {b.design.sentence.response} are different responses"
        )
    if not _same_kind(a, b):
        return "their families, links or dispersions differ"
    used = [t.index[s.rows] for t, s in ((table_a, rows_a), (table_b, rows_b))]
    if len(used[0]) != len(used[1]) or not (used[0] == used[1]).all():
        rows = f"({len(used[0]):,} and {len(used[1]):,})"
        return f"they rest on different rows {rows}; {_way_to_equal_rows(a, b, used)}"
    if a.asides != b.asides:
        return "their weights, repeats or offset differ"
    if not np.array_equal(_responses(a), _responses(b)):
        return "the response has other values in the two tables"
    return None


def _way_to_equal_rows(a: Fitted, b: Fitted, used: list[Any]) -> str:
    """Return how to put two fits to the same rows: by what is missing where, else by their
    labels."""
    table, _ = rows_at_hand(a)
    apart = used[0].symmetric_difference(used[1])
    names = dict.fromkeys(
        n.name for f in (a, b) for e in expressions_of(f.design.sentence) for n in names_in(e)
    )
    there = table.index.isin(apart)
    gaps = [
        n for n in names if n in table.names and (table.column(n).missing(EVERY_ROW) & there).any()
    ]
    if gaps:
        where = " and ".join(f"{spelled(n)} = {spelled(n)}" for n in gaps)
        return f"fit both with {advice.option('where', where)}"
    if 0 < len(apart) <= NAMED_LABELS:
        few = [str(label) for label in apart]
    else:
        few = None
    return f"fit both with {advice.option('leave_out', few)}"


def _same_kind(a: Fitted, b: Fitted) -> bool:
    """Return True if likelihoods are comparable: also those of a count family and its limit."""
    if a.link.name != b.link.name or a.options.dispersion != b.options.dispersion:
        return False
    small, large = sorted((a.family, b.family), key=lambda f: f.shape is not None)
    return small.name == large.name or small.name == large.limit


def _responses(fit: Fitted) -> np.ndarray:
    return joined(response_rows(fit).row_blocks, lambda block: block.y)


def nested_test(small: Fitted, large: Fitted) -> Nested | None:
    """Return what ``large`` adds to ``small``; None when it does not span the smaller's columns.

    F of the extra sum of squares, over the larger model's residual mean square (Draper & Smith
    1998, 6.1); Wald's with a robust covariance; likelihood ratio or F of deviances for other
    families. A Poisson fit within a negative-binomial one is tested too."""
    q = large.solution.rank - small.solution.rank
    # one more parameter, at the end of its range when it says nothing
    shape = small.family.name != large.family.name
    if q < 0 or (q == 0 and not shape):
        return None
    across = np.zeros((large.solution.rank, small.solution.rank))
    for a, b in zip(working_rows(large).row_blocks, working_rows(small).row_blocks, strict=True):
        w = a.row_weights
        across += (large.solution.in_basis(a.X) * w[:, None]).T @ small.solution.in_basis(b.X)
    # under other families each model has working weights of its own: compare spaces without them
    if large.estimate.linear:
        within = across
    else:
        within = _unweighted(large, small)
    if np.any(np.abs((within**2).sum(axis=0) - 1) > SAME_SPACE):
        return None
    if large.sandwich is not None and not shape:
        rest = _beyond(across, large, small)
        joint = test_together(large, rest.T, rest.T @ large.solution.basis_coefficients)
        return Nested(joint.f, "F", q, joint.df2, joint.p)
    if not large.estimate.linear:
        return deviance_test(small, large, q, shape=shape)
    unit, phi, df2 = large.solution.unit, large.estimate.scale, large.estimate.reference_df
    if not phi or large.solution.perfect or not df2 > 0:
        if df2 > 0:
            return Nested(float("nan"), "F", q, df2, float("nan"))
        return None
    f = (
        (small.solution.rss * (small.solution.unit / unit) ** 2 - large.solution.rss)
        / q
        / (phi / unit) ** 2
    )
    return Nested(f, "F", q, df2, float(tails.f_upper(max(f, 0.0), q, df2)))


def same_columns(a: Fitted, b: Fitted) -> bool:
    """Return True if two fits span the same space of columns."""
    if a.solution.rank != b.solution.rank:
        return False
    within = _unweighted(a, b)
    return bool(np.all(np.abs((within**2).sum(axis=0) - 1) <= SAME_SPACE))


def _beyond(across: np.ndarray, large: Fitted, small: Fitted) -> np.ndarray:
    """Return directions (rank, q) of the larger model's basis that are zero where the smaller model
    holds.

    The coefficients that the smaller model allows are those whose fitted values lie in its columns:
    found from the rows without weights, as the space is the same with any."""
    if not large.estimate.linear:
        across = _within(large, small)
    return np.asarray(np.linalg.svd(across)[0][:, small.solution.rank :])


def _within(large: Fitted, small: Fitted) -> np.ndarray:
    """Return coefficients (rank of large, rank of small) of one model's columns in the other's."""
    p, R = large.solution.rank, _joint_triangle(large, small)
    return np.asarray(np.linalg.solve(R[:p, :p], R[:p, p:]))


def _unweighted(large: Fitted, small: Fitted) -> np.ndarray:
    """Return the smaller model's columns in the larger's orthonormal basis: length one when
    inside."""
    p, R = large.solution.rank, _joint_triangle(large, small)
    lengths = np.sqrt((R[:, p:] ** 2).sum(axis=0))
    return np.asarray(R[:p, p:] / lengths)


def _joint_triangle(large: Fitted, small: Fitted) -> np.ndarray:
    """Return the triangle of two bases side by side, the larger model's first, rows unweighted."""
    R = np.zeros((0, large.solution.rank + small.solution.rank))
    for a, b in zip(working_rows(large).row_blocks, working_rows(small).row_blocks, strict=True):
        R = triangle(
            np.vstack(
                [R, np.column_stack([large.solution.in_basis(a.X), small.solution.in_basis(b.X)])]
            )
        )
    return R
