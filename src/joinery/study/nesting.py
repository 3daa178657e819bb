"""Whether one model is part of another, and the test of what the larger adds."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.core import tails
from joinery.core.hypotheses import wald
from joinery.core.pieces import joined
from joinery.design.resolving import expressions_of
from joinery.notation.evaluate import EVERY_ROW
from joinery.notation.tree import names_in
from joinery.study.asked import Asked, response_blocks, row_blocks, rows_at_hand

SAME_SPACE = 1e-9


@dataclass(frozen=True)
class Nested:
    """The test of the larger model against the smaller: statistic, its name, degrees of freedom and p."""

    statistic: float
    name: str
    df1: int
    df2: float
    p: float


def differing(a: Asked, b: Asked) -> str | None:
    """Why two fits cannot be tested against each other, and what to do; None when they can."""
    (table_a, rows_a), (table_b, rows_b) = rows_at_hand(a), rows_at_hand(b)
    if a.design.sentence.response != b.design.sentence.response:
        return f"{a.design.sentence.response} and {b.design.sentence.response} are different responses"
    if (a.family, a.link) != (b.family, b.link):
        return "their families or links differ"
    used = [t.index[s.rows] for t, s in ((table_a, rows_a), (table_b, rows_b))]
    if len(used[0]) != len(used[1]) or not (used[0] == used[1]).all():
        names = dict.fromkeys(n.name for f in (a, b) for e in expressions_of(f.design.sentence) for n in names_in(e))
        gaps = [n for n in names if n in table_a.names and table_a.column(n).missing(EVERY_ROW).any()]
        where = " and ".join(f"{n} = {n}" for n in gaps)
        way = f'fit both with where="{where}"' if where else "fit both to the same rows with leave_out="
        return f"they rest on different rows ({len(used[0]):,} and {len(used[1]):,}); {way}"
    if a.asides != b.asides:
        return "their weights, repeats or offset differ"
    if not np.array_equal(_responses(a), _responses(b)):
        return "the response has other values in the two tables"
    return None


def _responses(fit: Asked) -> np.ndarray:
    return joined(response_blocks(fit).whole, lambda block: block.y)


def nested_test(small: Asked, large: Asked) -> Nested | None:
    """What ``large`` adds to ``small``, or None when the smaller model's columns are not all in the larger's span.

    F of the extra sum of squares, over the larger model's residual mean square (Draper & Smith 1998, 6.1); Wald's with
    a robust covariance; likelihood ratio or F of deviances for other families.
    """
    q = large.solution.rank - small.solution.rank
    if q <= 0:
        return None
    across = np.zeros((large.solution.rank, small.solution.rank))
    for a, b in zip(row_blocks(large).whole, row_blocks(small).whole, strict=True):
        w = np.ones(len(a.y)) if a.weights is None else a.weights
        across += (large.solution.in_basis(a.X) * w[:, None]).T @ small.solution.in_basis(b.X)
    if large.glm is None:
        inside = across
    else:  # under other families each model has working weights of its own: compare spaces without them
        inside = _unweighted(large, small)
    if np.any(np.abs((inside**2).sum(axis=0) - 1) > SAME_SPACE):
        return None
    if large.glm is not None:
        from joinery.study.deviance import deviance_test

        test: Nested = deviance_test(small, large, q)
        return test
    df2 = float(large.residual_df)
    if df2 <= 0:
        return None
    unit = large.solution.unit
    if large.sandwich is not None:
        rest = np.linalg.svd(across)[0][:, small.solution.rank :]
        effects = _effects(large) / unit
        f = wald(rest.T @ effects, rest.T @ large.sandwich.meat @ rest) / q
        df2 = float(np.nanmin(large.sandwich.df))
    else:
        f = (small.solution.rss * (small.solution.unit / unit) ** 2 - large.solution.rss) / q
        f /= large.solution.rss / df2 if large.solution.rss > 0 else np.nan
    return Nested(f, "F", q, df2, float(tails.f_upper(max(f, 0.0), q, df2)))


def _effects(fit: Asked) -> np.ndarray:
    """Coefficients in the orthonormal basis: (rank,)."""
    b = fit.solution.coefficients[fit.solution.kept]
    whole = np.append(fit.solution.intercept or 0.0, b) if fit.solution.has_intercept else b
    return np.linalg.solve(fit.solution.root, whole)


def _unweighted(large: Asked, small: Asked) -> np.ndarray:
    """The smaller model's columns in an orthonormal basis of the larger's, each of length one when inside."""
    from joinery.core.triangular import triangle

    p, k = large.solution.rank, small.solution.rank
    R = np.zeros((0, p + k))
    for a, b in zip(row_blocks(large).whole, row_blocks(small).whole, strict=True):
        R = triangle(np.vstack([R, np.column_stack([large.solution.in_basis(a.X), small.solution.in_basis(b.X)])]))
    lengths = np.sqrt((R[:, p:] ** 2).sum(axis=0))
    return np.asarray(R[:p, p:] / lengths)
