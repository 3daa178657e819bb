"""Groups: one sentence fitted to each group of rows, as arrays."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np

from joinery.core.least_squares.batched import batched
from joinery.core.numeric.triangular import WIDE
from joinery.data.columns import level_text
from joinery.study.fitted import Fitted, response_rows, rows_at_hand
from joinery.study.read.covariance_table import covariance_matrix
from joinery.study.read.estimates import estimates
from joinery.support import progress
from joinery.support.errors import EstimationError


@dataclass(frozen=True, eq=False)
class Groups:
    """One sentence fitted to each of g groups, p coefficients, every figure an array.

    Empty (NaN) where a group could not be fitted, or a coefficient of it not estimated."""

    common: Fitted  # the same sentence fitted to all rows together
    by: tuple[str, ...]
    labels: tuple[str, ...]
    codes: np.ndarray  # the group of each row used; empty for groups loaded from a file
    terms: tuple[str, ...]
    n: np.ndarray  # (g,) rows
    b: np.ndarray  # (g, p)
    errors: np.ndarray  # (g, p) standard errors
    df: np.ndarray  # (g, p) degrees of freedom of each
    covariance: np.ndarray  # (g, p, p)
    residual_df: np.ndarray  # (g,)
    figures: dict[str, np.ndarray]  # by name, each (g,): residual_sd, r_squared, deviance …
    reasons: tuple[str, ...]  # why a group could not be fitted; empty where it was
    parts: dict[str, np.ndarray] = field(default_factory=dict)  # what the test needs, each (g,)

    @property
    def fitted(self) -> np.ndarray:
        """Return which groups were fitted."""
        return np.array([not reason for reason in self.reasons])


def codes_of(fit: Fitted, by: Sequence[str]) -> tuple[np.ndarray, tuple[str, ...]]:
    """Return the group of each used row by one column or several, and the groups' labels in
    order."""
    table, used = rows_at_hand(fit)
    codes, labels = np.zeros(used.used, np.int64), [""]
    for name in by:
        column = table.column(name)
        codes_of_column = column.codes(used.rows)
        names = [level_text(level) for level in column.all_levels]
        present, place = np.unique(codes * len(names) + codes_of_column, return_inverse=True)
        codes = place.astype(np.int64)
        labels = [
            f"{labels[before]}, {names[now]}" if labels != [""] else names[now]
            for before, now in (divmod(int(p), len(names)) for p in present)
        ]
    return codes, tuple(labels)


def grouped(common: Fitted, by: Sequence[str], fit_group: Callable[[np.ndarray], Fitted]) -> Groups:
    """Fit each group: together where least squares allow it, the others one by one.

    Parameters: ``common`` fit of all rows, whose design every group has; ``fit_group`` fits the
    used rows at some places."""
    codes, labels = codes_of(common, by)
    terms = tuple(estimates(common).names)
    empty = _empty(common, by, codes, labels, terms)
    plain = common.estimate.linear and common.sandwich is None
    plain &= common.asides.repeats is None and common.options.dispersion is None
    if plain and common.design.intercept and common.design.width <= WIDE:
        empty, left = _together(empty)
    else:
        left = np.arange(len(labels))
    return _one_by_one(empty, left, fit_group)


def _empty(
    common: Fitted,
    by: Sequence[str],
    codes: np.ndarray,
    labels: tuple[str, ...],
    terms: tuple[str, ...],
) -> Groups:
    g, p = len(labels), len(terms)

    def hollow(*shape: int) -> np.ndarray:
        return np.full(shape, np.nan)

    if common.estimate.linear:
        names = ("residual_sd", "r_squared")
    else:
        names = ("deviance", "dispersion")
    return Groups(
        common,
        tuple(by),
        labels,
        codes,
        terms,
        n=np.bincount(codes, minlength=g),
        b=hollow(g, p),
        errors=hollow(g, p),
        df=hollow(g, p),
        covariance=hollow(g, p, p),
        residual_df=hollow(g),
        figures={name: hollow(g) for name in names},
        reasons=("",) * g,
        parts={name: hollow(g) for name in ("rss", "rank", "pearson", "log_likelihood", "params")},
    )


def _together(groups: Groups) -> tuple[Groups, np.ndarray]:
    """Fit all groups whose columns are well apart at once; the places of the others."""
    fit, codes = groups.common, groups.codes
    rows = response_rows(fit).row_blocks.map(
        lambda block: (block.X, block.beyond_offset, block.precision, codes[block.span])
    )
    batch = batched(rows, len(groups.labels), fit.design.width)
    fine = batch.sound
    df = np.where(fine, batch.residual_df, np.nan)
    with np.errstate(all="ignore"):
        variance = batch.rss / df
        covariance = batch.inverse * variance[:, None, None]
        groups.figures["residual_sd"][fine] = np.sqrt(variance)[fine]
        groups.figures["r_squared"][fine] = (1 - batch.rss / batch.tss)[fine]
    groups.b[fine], groups.covariance[fine] = batch.b[fine], covariance[fine]
    groups.errors[fine] = np.sqrt(np.einsum("gpp->gp", covariance))[fine]
    groups.df[fine] = df[fine, None]
    groups.residual_df[fine] = df[fine]
    groups.parts["rss"][fine] = batch.rss[fine]
    groups.parts["rank"][fine] = batch.b.shape[1]
    return groups, np.flatnonzero(~fine)


def _one_by_one(
    groups: Groups, left: np.ndarray, fit_group: Callable[[np.ndarray], Fitted]
) -> Groups:
    """Fit the groups at some places by themselves."""
    reasons = list(groups.reasons)
    order = np.argsort(groups.codes, kind="stable")
    ends = np.searchsorted(groups.codes[order], np.arange(len(groups.labels) + 1))
    with progress.counted("groups", len(left)) as advance:
        for place in left.tolist():
            rows = order[ends[place] : ends[place + 1]]
            try:
                _take(groups, place, fit_group(rows))
            except EstimationError as slip:
                reasons[place] = str(slip)
            advance(1)
    return Groups(**{**groups.__dict__, "reasons": tuple(reasons)})


def _take(groups: Groups, place: int, fit: Fitted) -> None:
    """Write a group's figures from its own fit."""
    e, solution = estimates(fit), fit.solution
    groups.n[place] = fit.n_rows
    groups.b[place], groups.errors[place] = e.values, e.standard_errors
    groups.df[place] = e.df
    groups.residual_df[place] = fit.residual_df
    _, V = covariance_matrix(fit)
    places = np.asarray(solution.places, int)
    groups.covariance[place][np.ix_(places, places)] = V
    for name in groups.figures:
        value = getattr(fit, name, None)
        if name in ("deviance", "dispersion"):
            value = fit.estimate.deviance if name == "deviance" else fit.estimate.dispersion
        if value is not None:
            groups.figures[name][place] = value
    parts = groups.parts
    parts["rss"][place] = solution.rss * solution.unit**2
    parts["rank"][place] = solution.rank
    if not fit.estimate.linear:
        parts["pearson"][place] = fit.estimate.pearson
    if fit.estimate.log_likelihood is not None:
        parts["log_likelihood"][place] = fit.estimate.log_likelihood
        parts["params"][place] = fit.estimate.parameters
