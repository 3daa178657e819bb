"""Do the groups differ, and which: one fit for all against a fit for each."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from joinery.core.inference.diagnostics import holm
from joinery.core.least_squares.batched import fold
from joinery.core.numeric import distributions as tails
from joinery.show.appearance import Appearance
from joinery.show.numbers import count, p_phrase
from joinery.show.table import Table
from joinery.study.each.groups import Groups
from joinery.study.fitted import response_rows

ALL = "all groups"
UNEVEN = 0.05  # p of the groups' spreads, below which each group keeps its own


def test(groups: Groups) -> Table:
    """Test all terms crossed with the group, then each group against the others.

    Nested F or deviances where the groups' spread is one; where spreads differ, or under robust
    errors, Wald's statistic from each group's own covariance with Johansen's 1980 degrees of
    freedom. Single groups by Wald, p by Holm."""
    notes = [f"all terms crossed with {' and '.join(groups.by)}, against one fit for all"]
    spreads = spreads_differ(groups)
    if spreads is not None:
        verdict = "differ" if spreads < UNEVEN else "do not clearly differ"
        notes.append(f"the groups' spreads {verdict} ({p_phrase(spreads)})")
    own_spreads = groups.common.sandwich is not None or (spreads is not None and spreads < UNEVEN)
    if own_spreads:
        statistic, df, residual_df, p = welch(groups)
        notes.append("each group keeps its own spread: Wald's statistic (Johansen 1980)")
    else:
        statistic, df, residual_df, p = nested(groups)
    known = groups.common.estimate.known and not own_spreads
    name = "chi2" if known else "f"
    single, single_df = _each_against_the_others(groups, pooled=not own_spreads)
    out = sum(1 for reason in groups.reasons if reason)
    if out:
        notes.append(f"{count(out, 'group')} could not be fitted, and is not tested")
    return Table(
        {
            "group": [ALL, *groups.labels],
            name: np.append(statistic, single * (len(groups.terms) if known else 1)),
            "df": np.append(df, np.where(np.isfinite(single), len(groups.terms), np.nan)),
            "residual_df": np.append(np.nan if known else residual_df, single_df),
            "p": np.append(p, _holm(tails.f_upper(single, len(groups.terms), single_df))),
        },
        title=f"Do the groups of {' and '.join(groups.by)} differ?",
        notes=(*notes, "a group: its coefficients against those of all others, p by Holm"),
        appearance=Appearance(
            kinds={"group": "text", "df": "degrees", "residual_df": "degrees"},
            headings={"residual_df": "residual df"},
        ),
    )


def _holm(p: np.ndarray) -> np.ndarray:
    out = np.full(len(p), np.nan)
    known = np.isfinite(p)
    if known.any():
        out[known] = holm(p[known])
    return out


# ------------------------------------------------------------------ one spread for all


def nested(groups: Groups) -> tuple[float, float, float, float]:
    """Return statistic, df, residual df and p of a fit for all within a fit for each.

    Over the groups that could be fitted; those without residual degrees of freedom count too."""
    common, parts, here = groups.common.estimate, groups.parts, groups.fitted
    if not here.all():
        return np.nan, np.nan, np.nan, np.nan
    rank = float(parts["rank"].sum())
    df = rank - common.solution.rank
    residual = float(groups.n.sum()) - rank
    if df <= 0:
        return np.nan, np.nan, np.nan, np.nan
    if common.linear:
        apart, together = float(parts["rss"].sum()), common.solution.rss * common.solution.unit**2
    elif common.family.shape is not None:
        # a shape for each group: the likelihoods with it, one parameter more a group
        drop = 2 * (float(parts["log_likelihood"].sum()) - (common.log_likelihood or np.nan))
        df = float(parts["params"].sum()) - common.parameters
        return drop, df, np.nan, float(tails.chi2_upper(drop, df))
    else:
        apart, together = float(groups.figures["deviance"].sum()), common.deviance
    if common.known:
        phi = common.dispersion or 1.0
        drop = (together - apart) / phi
        return drop, df, np.nan, float(tails.chi2_upper(drop, df))
    if residual <= 0:
        return np.nan, np.nan, np.nan, np.nan
    pearson = apart if common.linear else float(parts["pearson"].sum())
    f = (together - apart) / df / (pearson / residual)
    return f, df, residual, float(tails.f_upper(f, df, residual))


# ------------------------------------------------------------------ a spread for each


def welch(groups: Groups) -> tuple[float, float, float, float]:
    """Return statistic, df, residual df and p that leave each group its own spread (Johansen
    1980)."""
    use = _complete(groups)
    if np.count_nonzero(use) < 2:
        return np.nan, np.nan, np.nan, np.nan
    W = np.linalg.inv(groups.covariance[use])
    b, df_of = groups.b[use], groups.residual_df[use]
    total = W.sum(axis=0)
    middle = np.linalg.solve(total, np.einsum("gpq,gq->p", W, b))
    away = b - middle
    t2 = float(np.einsum("gp,gpq,gq->", away, W, away))
    p = W.shape[1]
    f1 = float(p * (len(W) - 1))
    share = np.eye(p) - np.linalg.solve(total, W.transpose(1, 0, 2).reshape(p, -1)).reshape(
        p, len(W), p
    ).transpose(1, 0, 2)
    trace = np.einsum("gpp->g", share)
    squared = np.einsum("gpq,gqp->g", share, share)
    A = float(((squared + trace**2) / df_of).sum()) / 2
    c = f1 + 2 * A - 6 * A / (f1 + 2)
    f2 = f1 * (f1 + 2) / (3 * A)
    return t2 / c, f1, f2, float(tails.f_upper(t2 / c, f1, f2))


def _complete(groups: Groups) -> np.ndarray:
    """Return which groups have every coefficient with its covariance."""
    finite = np.isfinite(groups.covariance).all(axis=(1, 2)) & np.isfinite(groups.b).all(axis=1)
    return np.asarray(finite & (groups.residual_df > 0))


def _each_against_the_others(groups: Groups, *, pooled: bool) -> tuple[np.ndarray, np.ndarray]:
    """Return F of each group's coefficients against those of all others, and its residual df,
    (g,)."""
    f, df = np.full(len(groups.labels), np.nan), np.full(len(groups.labels), np.nan)
    use = _complete(groups)
    if np.count_nonzero(use) < 2:
        return f, df
    V, b, own_df = groups.covariance[use], groups.b[use], groups.residual_df[use]
    known = groups.common.estimate.known
    if pooled and groups.common.estimate.linear and not known:
        s2 = groups.figures["residual_sd"][use] ** 2
        one = float((s2 * own_df).sum() / own_df.sum())
        V, own_df = V * (one / s2)[:, None, None], np.full(len(b), own_df.sum())
    W = np.linalg.inv(V)
    rest = W.sum(axis=0) - W  # of all others together
    others = np.linalg.solve(
        rest, (np.einsum("gpq,gq->p", W, b) - np.einsum("gpq,gq->gp", W, b))[..., None]
    )
    away = b - others[..., 0]
    spread = V + np.linalg.inv(rest)
    p = b.shape[1]
    f[use] = np.einsum("gp,gp->g", away, np.linalg.solve(spread, away[..., None])[..., 0]) / p
    df[use] = np.inf if known else own_df
    return f, df


# ------------------------------------------------------------------ the spreads


def spreads_differ(groups: Groups) -> float | None:
    """Return p that the groups' spreads differ: Levene's test of the residuals' sizes.

    None for other families, whose spread the mean settles, and for groups without rows at hand."""
    fit = groups.common
    if not fit.estimate.linear:
        return None
    if not len(groups.codes):
        return _saved_spreads(groups)
    use = _complete(groups)
    if np.count_nonzero(use) < 2:
        return None
    b = np.nan_to_num(groups.b)
    slopes = b[:, fit.design.intercept :]
    constant = b[:, 0] if fit.design.intercept else np.zeros(len(b))
    # residuals of a group of few rows are smaller than its errors by this
    smaller = np.sqrt(np.clip(groups.residual_df / groups.n, 1e-9, None))
    codes = groups.codes
    rows = response_rows(fit).row_blocks.map(
        lambda block: (block.X, block.beyond_offset, block.precision, codes[block.span])
    )

    def sizes(part: tuple[np.ndarray, np.ndarray, np.ndarray | None, np.ndarray]) -> np.ndarray:
        X, y, w, group = part
        e = y - constant[group] - np.einsum("ij,ij->i", X, slopes[group])
        if w is not None:
            e = e * np.sqrt(w)
        return np.asarray(np.abs(e) / smaller[group])

    n = groups.n.astype(float)
    first = fold(rows, len(n), sizes)
    second = fold(rows, len(n), lambda part: sizes(part) ** 2)
    n, first, second = n[use], first[use], second[use]
    means = first / n
    within = float((second - n * means**2).sum())
    between = float((n * (means - first.sum() / n.sum()) ** 2).sum())
    df, rest = len(n) - 1, float(n.sum()) - len(n)
    if rest <= 0 or within <= 0:
        return None
    return float(tails.f_upper(between / df / (within / rest), df, rest))


def _saved_spreads(groups: Groups) -> float | None:
    """Return the p of the spreads that a saved file brings."""
    value = groups.parts.get("spreads_p")
    if value is None or not np.isfinite(value).all():
        return None
    return float(np.asarray(value).ravel()[0])


def differing(table: Table, limit: float = 0.05) -> Sequence[str]:
    """Return the groups that differ from the others in a table of the test."""
    p, names = table["p"].to_numpy(float)[1:], list(table["group"])[1:]
    return [name for name, v in zip(names, p, strict=True) if v < limit]
