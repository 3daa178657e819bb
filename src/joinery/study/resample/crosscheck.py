"""Judging a fit on rows it has not seen: leave-one-out, folds, groups, and time."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from joinery import advice, progress
from joinery.core.inference.intervals import t_times
from joinery.data.records import Records
from joinery.errors import (
    CallError,
    EstimationError,
    JoineryError,
    NewRowError,
    UnusableColumnError,
)
from joinery.notation.evaluate import EVERY_ROW, evaluate
from joinery.notation.tree import without_references
from joinery.show.numbers import count, level_words
from joinery.show.table import Table
from joinery.study.fitted import Fitted, response_rows, rows_at_hand
from joinery.study.forecast.bands import Bands, bands
from joinery.study.resample.scores import (
    Forecasts,
    Judged,
    Observed,
    auc,
    brier,
    calibration,
    explained,
    log_score,
    share_inside,
)
from joinery.study.rows.figures import per_row, studentized_df

FOLDS = 10
KEPT = "rows kept"  # the column of repeats that a fold's fit has


def crosscheck(
    fit: Fitted, folds: int | None = None, *, by: str | None = None, seed: int | None = None
) -> Table:
    """The crosscheck table. See ``Fit.crosscheck``."""
    times = per_row(fit).times
    if fit.solution.perfect:
        raise CallError("the fit is perfect, so that there is nothing to judge it by")
    if folds is not None and not 2 <= folds <= fit.n_rows:
        raise CallError(
            f"{advice.option('folds', folds)} is not between 2 and the {fit.n_rows:,} rows used",
            argument="folds",
        )
    order = fit.options.order
    inside: np.ndarray | None = None
    if fit.estimate.linear and folds is None and by is None and order is None:
        unseen, how = (
            _left_one_out(fit),
            "each row forecast by the fit without it (leave-one-out, in closed form)",
        )
        t = per_row(fit).influence.studentized
        df = studentized_df(fit)
        inside = np.abs(t) <= t_times(fit.level, df)
    else:
        deal, how = _dealt(fit, folds or FOLDS, by, order, seed)
        unseen = _folded(fit, deal, in_time=bool(order) and by is None)
    seen = _seen(fit)
    figures = _figures(fit, unseen, seen, inside)
    lost = int(times.sum() - unseen.times[np.isfinite(unseen.fitted)].sum())
    notes = [how]
    if lost:
        why = (
            "the first stretch in time is never forecast"
            if order and by is None
            else "a level or column was lost"
        )
        notes.append(f"{count(lost, 'row')} could not be forecast: {why}")
    return Table(
        {
            "figure": [name for name, _, _ in figures],
            "unseen": [a for _, a, _ in figures],
            "fitted_rows": [b for _, _, b in figures],
        },
        title=f"Crosscheck of {fit.sentence}",
        notes=tuple(notes),
        kinds={"figure": "text", "unseen": "own", "fitted_rows": "own"},
        headings={"unseen": "rows not seen", "fitted_rows": "fitted rows"},
    )


def left_out_means(fit: Fitted, *, seed: int | None = None) -> np.ndarray:
    """The mean of each row (n,) by a fit to the other folds; NaN where it cannot be forecast."""
    deal, _ = _dealt(fit, min(FOLDS, fit.n_rows), None, None, seed)
    unseen = _folded(fit, deal, in_time=False)
    known = np.isfinite(unseen.fitted)
    place, times = unseen.place[known], unseen.times[known]
    n = len(per_row(fit).fitted)
    total = np.bincount(place, weights=times * unseen.fitted[known], minlength=n)
    count_of = np.bincount(place, weights=times, minlength=n)
    with np.errstate(all="ignore"):
        return np.asarray(total / np.where(count_of > 0, count_of, np.nan))


def _observed(fit: Fitted) -> Observed:
    blocks = list(response_rows(fit).row_blocks)

    def all_of(name: str, otherwise: float) -> np.ndarray:
        parts = [getattr(b, name) for b in blocks]
        return np.concatenate(
            [
                np.full(len(b.y), otherwise) if v is None else v
                for b, v in zip(blocks, parts, strict=True)
            ]
        )

    return Observed(
        all_of("y", 0), all_of("trials", 1), all_of("precision", 1), all_of("offset", 0)
    )


def _left_one_out(fit: Fitted) -> Forecasts:
    figures = per_row(fit)
    with np.errstate(all="ignore"):
        h = figures.influence.leverage
        miss = np.where(h < 1, figures.residual / (1 - h), np.nan)
    nothing = np.full(len(miss), np.nan)
    return Forecasts(np.arange(len(miss)), figures.times, figures.observed - miss, nothing, nothing)


def _seen(fit: Fitted) -> Forecasts:
    """The fitted rows as the fit itself has them."""
    table, used = rows_at_hand(fit)
    place = np.arange(used.used)
    return _of_rows(fit, fit, table, np.arange(len(table))[used.rows], place, per_row(fit).times)


def _of_rows(
    fit: Fitted,
    part: Fitted,
    table: Records,
    positions: np.ndarray,
    place: np.ndarray,
    times: np.ndarray,
) -> Forecasts:
    """Some rows of a table as a fit forecasts them, shares of totals as shares."""
    nothing = np.full(len(place), np.nan)

    def forecast(rows: np.ndarray) -> Bands:
        context = part.design.context(table, positions[rows])
        X = part.design.matrix(context)
        X[part.solution.broken(X).any(axis=1)] = (
            np.nan
        )  # the fit without them says nothing of such rows
        return bands(part, context, X, fit.level)

    fitted, lower, upper = nothing.copy(), nothing.copy(), nothing.copy()
    try:
        forecasts = forecast(place)
        fitted, lower, upper = forecasts.fitted, forecasts.new_lower, forecasts.new_upper
    except NewRowError:  # a level that only these rows have: forecast the others one by one
        for i, row in enumerate(place):
            try:
                forecasts = forecast(np.array([row]))
            except JoineryError:
                continue
            fitted[i], lower[i], upper[i] = (
                forecasts.fitted[0],
                forecasts.new_lower[0],
                forecasts.new_upper[0],
            )
    if fit.response.kind == "of" and fit.response.total is not None:
        fitted = fitted / evaluate(fit.response.total, part.design.context(table, positions[place]))
    return Forecasts(place, times, fitted, lower, upper)


def _dealt(
    fit: Fitted, folds: int, by: str | None, order: str | None, seed: int | None
) -> tuple[np.ndarray, str]:
    """How many repeats of each fitted row fall in each fold (n, folds), and the way in words."""
    table, chosen = rows_at_hand(fit)
    times = per_row(fit).times.astype(int)
    if by is not None:
        codes = table.column(by).codes(EVERY_ROW)[chosen.rows]
        _, group = np.unique(codes, return_inverse=True)
        groups = int(group.max()) + 1
        if groups < 2:
            raise CallError(f"by={by!r} puts all rows into one group", argument="by")
        if groups <= max(folds, 20):
            words = f"each {by} forecast by a fit without it ({count(groups, 'group')})"
            return _by_fold(group, times, groups), words
        deal = np.random.default_rng(seed).permutation(groups) % folds
        return _by_fold(deal[group], times, folds), f"{folds} folds of whole groups of {by}"
    each = np.repeat(
        np.arange(len(times)), times
    )  # the row of each of the equal rows that rows stand for
    if order is not None:
        codes = table.column(order).codes(EVERY_ROW)[chosen.rows]
        deal = np.empty(len(each), int)
        deal[np.argsort(codes[each], kind="stable")] = np.arange(len(each)) * folds // len(each)
        words = f"{folds} stretches in the order of {order}, each forecast from those before it"
    else:
        deal = np.random.default_rng(seed).permutation(len(each)) % folds
        words = f"{folds} folds, dealt at random"
    counts = np.zeros((len(times), folds), int)
    np.add.at(counts, (each, deal), 1)
    return counts, words


def _by_fold(fold: np.ndarray, times: np.ndarray, folds: int) -> np.ndarray:
    counts = np.zeros((len(fold), folds), int)
    counts[np.arange(len(fold)), fold] = times
    return counts


def _folded(fit: Fitted, deal: np.ndarray, *, in_time: bool) -> Forecasts:
    """Rows of each fold as forecast by a fit of the others (in time: of the earlier ones)."""
    table, used = rows_at_hand(fit)
    positions = np.arange(len(table))[used.rows]
    parts = []
    with progress.counted("folds", deal.shape[1]) as advance:
        for fold, part in _parts(fit, deal, positions, in_time=in_time):
            held = np.flatnonzero(deal[:, fold])
            times = deal[held, fold].astype(float)
            parts.append(_of_rows(fit, part, table, positions, held, times))
            advance(1)
    if not parts:
        raise CallError("no fold leaves enough rows to fit the model to; ask for fewer folds")
    names = Forecasts.__annotations__
    return Forecasts(**{name: np.concatenate([getattr(f, name) for f in parts]) for name in names})


def _parts(
    fit: Fitted, deal: np.ndarray, positions: np.ndarray, *, in_time: bool
) -> Iterator[tuple[int, Fitted]]:
    """A fit without each fold's rows."""
    assert fit.origin is not None
    table, used = rows_at_hand(fit)
    options = replace(fit.options, std_errors="constant spread", cluster=())
    for fold in range(deal.shape[1]):
        out = deal[:, fold:].sum(axis=1) if in_time else deal[:, fold]
        left = deal.sum(axis=1) - out
        if not out.any() or not left.any():
            continue
        rows, changed, changed_options = used.without(positions[left == 0]), table, options
        if fit.options.repeats is not None:
            kept = np.zeros(len(table))
            kept[positions] = left
            changed, changed_options = (
                table.replaced(KEPT, kept),
                replace(options, repeats=f'"{KEPT}"'),
            )
        try:
            yield fold, fit.origin.refit(used=rows, table=changed, options=changed_options)
        except UnusableColumnError:  # a reference level or a curve's values are lost
            try:
                sentence = without_references(fit.design.sentence)
                yield (
                    fold,
                    fit.origin.refit(
                        sentence=sentence, used=rows, table=changed, options=changed_options
                    ),
                )
            except (EstimationError, UnusableColumnError):
                continue
        except EstimationError:
            continue


# ------------------------------------------------------------------ figures


def _figures(
    fit: Fitted, unseen: Forecasts, seen: Forecasts, inside: np.ndarray | None
) -> list[tuple[str, float, float]]:
    rows: list[tuple[str, float, float]] = []
    observed = _observed(fit)
    pairs = [
        Judged(f.fitted, observed.y[f.place], f.times, observed.trials[f.place])
        for f in (unseen, seen)
    ]

    def add(name: str, values: list[float]) -> None:
        if any(np.isfinite(values)):
            rows.append((name, values[0], values[1]))

    if fit.family.shares:
        add("Brier score", [j.mean(brier(j)) for j in pairs])
        add("log score", [j.mean(log_score(j)) for j in pairs])
        add("area under the curve (AUC)", [auc(j) for j in pairs])
        add("calibration slope", [calibration(j) for j in pairs])
    else:
        add("mean error", [j.mean(j.error) for j in pairs])
        add("typical error (root mean square)", [j.typical for j in pairs])
        add("mean absolute error", [j.mean(np.abs(j.error)) for j in pairs])
        add(
            "explained (R²)",
            [explained(fit, observed, f, j) for f, j in zip((unseen, seen), pairs, strict=True)],
        )
    shares = [share_inside(fit, f, j) for f, j in zip((unseen, seen), pairs, strict=True)]
    if inside is not None:
        known = np.isfinite(per_row(fit).influence.studentized)
        if known.any():
            shares[0] = float(np.average(inside[known], weights=unseen.times[known]))
    add(f"share inside {level_words(fit.level)} intervals", shares)
    return rows
