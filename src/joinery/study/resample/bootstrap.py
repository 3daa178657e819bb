"""The bootstrap: how estimates spread over resamples of the rows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from joinery.core.blocks.partition import joined
from joinery.core.inference import resampling
from joinery.core.inference.resampling import Rows
from joinery.core.numeric.triangular import row_lengths
from joinery.data.records import Records
from joinery.notation.context import EVERY_ROW
from joinery.show.appearance import Appearance
from joinery.show.numbers import count, level_words
from joinery.show.table import Table
from joinery.study.fitted import Fitted, checked_level, response_rows, rows_at_hand
from joinery.study.resample.statistics import Statistics, statistics
from joinery.study.rows.figures import per_row, refuse_too_many
from joinery.support import advice, progress
from joinery.support.errors import CallError, one_of
from joinery.support.limits import MOST_RESAMPLES, RESAMPLED_ROWS

RESAMPLES = ("rows", "residuals", "signs", "clusters")
INTERVALS = ("percentile", "accelerated", "studentized")


@dataclass(frozen=True)
class Drawn:
    """Figures of every resample: what they are, the fit's own, and the draws (resamples, m)."""

    names: list[str]
    estimate: np.ndarray
    draws: np.ndarray  # of the resamples that could be estimated
    lower: np.ndarray
    upper: np.ndarray
    lost: int
    how: str


def bootstrap(
    fit: Fitted,
    resamples: int = 2000,
    *,
    of: Sequence[str] | str | None = None,
    resample: str = "rows",
    interval: str = "percentile",
    level: float | None = None,
    seed: int | None = None,
) -> Table:
    """Return the table of resampled figures. See ``Fit.bootstrap``."""
    if level is None:
        level = fit.level
    else:
        level = checked_level(level)
    result = drawn(fit, resamples, of, resample, interval, level, seed)
    spread = result.draws.std(axis=0, ddof=1)
    notes = [result.how, "bias: the mean over the resamples less the estimate"]
    if result.lost:
        notes.append(
            f"{count(result.lost, 'resample')} could not be estimated (a level lost, "
            "separation, or a figure without a value), and are not counted"
        )
    if fit.family.shape is not None:
        notes.append("the shape k is held at the fit's own")
    return Table(
        {
            "term": result.names,
            "estimate": result.estimate,
            "lower": result.lower,
            "upper": result.upper,
            "standard_error": spread,
            "bias": result.draws.mean(axis=0) - result.estimate,
        },
        title=f"Bootstrap of {len(result.draws):,} resamples, with {level_words(level)} intervals",
        notes=tuple(notes),
        appearance=Appearance(
            kinds=dict.fromkeys(("estimate", "lower", "upper", "standard_error"), "error")
            | {"bias": "own"}
        ),
    )


def drawn(
    fit: Fitted,
    resamples: int,
    of: Sequence[str] | str | None,
    resample: str,
    interval: str,
    level: float,
    seed: int | None,
) -> Drawn:
    """Estimate over resamples, and form the intervals."""
    one_of("resample", resample, RESAMPLES)
    one_of("interval", interval, INTERVALS)
    _check(fit, resamples, resample, interval)
    instead = f"{advice.option('std_errors', 'robust')} assumes as little of the rows"
    refuse_too_many(fit, "the bootstrap", instead)
    figures, rows = statistics(fit, of), _rows(fit)
    estimate = figures.values(rows.estimate[None])[0]
    rng = np.random.default_rng(seed)
    if resample == "clusters":
        groups = _groups(fit)
    else:
        groups = None
    pivot = interval == "studentized"
    beta: np.ndarray
    errors: np.ndarray | None
    error: np.ndarray | None
    if resample in ("residuals", "signs"):
        beta, errors, error = _of_errors(fit, rows, resamples, resample == "signs", rng, figures)
    else:
        if pivot:
            wanted = figures
        else:
            wanted = None
        beta, errors, error = _of_rows(fit, rows, resamples, groups, rng, wanted)
    values = figures.values(beta)
    # a resample may lose a level, or separate: it has no figure, and is counted as lost
    sound = np.isfinite(values).all(axis=1)
    if pivot and errors is not None:
        sound &= np.isfinite(errors).all(axis=1)
    draws = values[sound]
    if len(draws) < 2:
        raise CallError("hardly any resample could be estimated, so there is nothing to report")
    if interval == "percentile":
        lower, upper = resampling.percentile(draws, level)
    elif interval == "accelerated":
        lower, upper = resampling.accelerated(
            draws,
            estimate,
            *_moved(fit, rows, figures.gradients(rows.estimate[None])[0], groups),
            level,
        )
    else:
        assert errors is not None
        assert error is not None
        lower, upper = resampling.studentized(draws, errors[sound], estimate, error, level)
    return Drawn(
        figures.names, estimate, draws, lower, upper, int((~sound).sum()), _how(resample, interval)
    )


def _check(fit: Fitted, resamples: int, resample: str, interval: str) -> None:
    if not 2 <= resamples <= MOST_RESAMPLES:
        raise CallError(
            f"resamples={resamples} is not between 2 and {MOST_RESAMPLES:,}; take 2,000",
            argument="resamples",
        )
    if fit.estimate.penalty:
        raise CallError("a penalized fit is not resampled: its estimate is not a plain maximum")
    if resample in ("residuals", "signs") and not fit.estimate.linear:
        raise CallError(
            f"{resample} are drawn for the normal family with the identity link; draw rows",
            argument="resample",
        )
    if fit.solution.perfect:
        raise CallError("the fit is perfect: every resample says the same")
    if resample in ("residuals", "signs") and fit.n_rows > RESAMPLED_ROWS:
        raise CallError(
            f"{resample} are drawn for each of {fit.n_rows:,} rows; draw rows, which costs the "
            "same whatever their repeats",
            argument="resample",
        )
    if resample == "clusters":
        if not fit.options.cluster:
            raise CallError(
                f"which clusters? fit with {advice.option('std_errors', 'clustered')} and "
                f"{advice.option('cluster')}",
                argument="resample",
            )
        if interval == "studentized":
            raise CallError(
                "studentized intervals are for rows, residuals and signs; with clusters take "
                "percentile or accelerated",
                argument="interval",
            )
        if len(fit.options.cluster) > 1:
            raise CallError("clusters that cross are not resampled; fit with one of them")


def _how(resample: str, interval: str) -> str:
    what = {
        "rows": "rows are drawn with replacement",
        "residuals": "residuals, made of even spread, are drawn with replacement and put to the "
        "fitted values",
        "signs": "residuals change their signs at random about the fitted values",
        "clusters": "whole clusters are drawn with replacement",
    }[resample]
    ends = {
        "percentile": "ends: the middle share of the draws",
        "accelerated": "ends corrected for bias and skewness (Efron 1987)",
        "studentized": "ends from each draw over its own standard error (Hall 1988)",
    }[interval]
    return f"{what}; {ends}"


def _rows(fit: Fitted) -> Rows:
    blocks = response_rows(fit).row_blocks

    def ones(values: np.ndarray | None, m: int, fill: float) -> np.ndarray:
        if values is None:
            return np.full(m, fill)
        return values

    return Rows(
        U=joined(blocks, lambda b: fit.solution.in_basis(b.X)),
        y=joined(blocks, lambda b: b.y),
        weights=joined(blocks, lambda b: b.precisions * ones(b.trials, len(b.y), 1.0)),
        offset=joined(blocks, lambda b: ones(b.offset, len(b.y), 0.0)),
        estimate=fit.solution.basis_coefficients,
        family=fit.family,
        link=fit.link,
        has_intercept=fit.solution.has_intercept,
    )


def _groups(fit: Fitted) -> np.ndarray:
    table, used = rows_at_hand(fit)
    assert isinstance(table, Records)
    codes = table.column(fit.options.cluster[0]).codes(EVERY_ROW)[used.rows]
    return np.unique(codes, return_inverse=True)[1]


def _of_rows(
    fit: Fitted,
    rows: Rows,
    resamples: int,
    groups: np.ndarray | None,
    rng: np.random.Generator,
    figures: Statistics | None,
) -> tuple[np.ndarray, np.ndarray | None, np.ndarray | None]:
    """Return estimates of resampled rows; with figures also their standard errors, and the
    fit's."""
    parts, errors = [], []
    with progress.counted("resamples", resamples) as advance:
        for counts in resampling.counted(rng, per_row(fit).times, resamples, groups):
            outcome = resampling.estimates(rows, counts, with_roots=figures is not None)
            parts.append(outcome.estimates)
            if figures is not None:
                errors.append(_errors(outcome, figures))
            advance(len(counts))
    if figures is None:
        return np.concatenate(parts), None, None
    result = resampling.estimates(rows, per_row(fit).times[None, :], with_roots=True)
    return np.concatenate(parts), np.concatenate(errors), _errors(result, figures)[0]


def _errors(result: resampling.Resampled, figures: Statistics) -> np.ndarray:
    """Return standard errors (b, m) of figures, by the delta method where these are not linear."""
    assert result.roots is not None
    gradients = figures.gradients(result.estimates)
    return np.asarray(np.sqrt(((gradients @ result.roots) ** 2).sum(axis=2)))


def _of_errors(
    fit: Fitted,
    rows: Rows,
    resamples: int,
    signs: bool,
    rng: np.random.Generator,
    followed: Statistics,
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return estimates with other errors about the fitted values, on one design."""
    figures = per_row(fit)
    times, h = figures.times.astype(int), figures.influence.leverage
    place = np.repeat(np.arange(len(times)), times)
    root = np.sqrt(rows.weights)[place]
    U = rows.U[place] * root[:, None]
    # residuals over √(1 − h) have one spread, so that any may stand at any row
    e = (root * figures.residual[place]) / np.sqrt(np.maximum(1 - h[place], 1e-12))
    n, p = U.shape
    if fit.solution.spans_constant:
        base = e - e.mean()
    else:
        base = e
    sharp = e / np.sqrt(np.maximum(1 - h[place], 1e-12))  # e over 1 − h
    draws, errors = [], []
    some = max(1, resampling.CELLS // n)
    for start in range(0, resamples, some):
        many = min(some, resamples - start)
        if signs:
            E = sharp * rng.choice((-1.0, 1.0), (many, n))
        else:
            E = base[rng.integers(0, n, (many, n))]
        # in an orthonormal basis the coefficients move by UᵀE, without a solution for each draw
        moved = E @ U
        draws.append(rows.estimate + moved)
        # what is left of the drawn errors are the residuals of that resample
        left, gradients = E - moved @ U.T, followed.gradients(draws[-1])
        if signs:
            errors.append(_uneven(left, U, gradients))
        else:
            s = np.sqrt((left**2).sum(axis=1) / (n - p))
            errors.append(s[:, None] * np.sqrt((gradients**2).sum(axis=2)))
    result = (root * figures.residual[place])[None, :]
    # by the residuals as the draws are, also where a dispersion was given
    scale, gradients = np.sqrt((result**2).sum() / (n - p)), followed.gradients(rows.estimate[None])
    if signs:
        error = _uneven(result, U, gradients)[0]
    else:
        error = scale * row_lengths(gradients[0])
    return np.concatenate(draws), np.concatenate(errors), error


def _uneven(left: np.ndarray, U: np.ndarray, gradients: np.ndarray) -> np.ndarray:
    """Return standard errors (b, m) of figures from residuals (b, n), the spread of each row its
    own."""
    if len(gradients) == 1:
        return np.asarray(np.sqrt(left**2 @ (U @ gradients[0].T) ** 2))
    parts = [e**2 @ (U @ gradient.T) ** 2 for e, gradient in zip(left, gradients, strict=True)]
    return np.asarray(np.sqrt(parts))


def _moved(
    fit: Fitted, rows: Rows, W: np.ndarray, groups: np.ndarray | None
) -> tuple[np.ndarray, np.ndarray]:
    """Return what leaving each row, or cluster, out moves figures of gradient W (m, p) by: (n, m).

    Beside it how many of each there are (n,)."""
    figures = per_row(fit)
    eta = rows.U @ rows.estimate + rows.offset
    with np.errstate(all="ignore"):
        mu, slope = fit.link.mu(eta), fit.link.slope(eta)
        w = rows.weights * slope / fit.family.variance(mu) * (rows.y - mu)
    score = rows.U * np.where(np.isfinite(w), w, 0.0)[:, None]
    if groups is not None:
        total = np.zeros((int(groups.max()) + 1, rows.U.shape[1]))
        np.add.at(total, groups, score * figures.times[:, None])
        return np.asarray(total @ W.T), np.ones(len(total))
    # leaving a row out moves the estimate by its score over 1 − h
    left = np.maximum(1 - figures.influence.leverage, 1e-12)
    return np.asarray((score / left[:, None]) @ W.T), figures.times
