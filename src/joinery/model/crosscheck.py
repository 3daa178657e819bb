"""Judging a fit on rows it has not seen: leave-one-out in closed form, or folds, groups, and time."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from joinery.core import tails
from joinery.core.correlation import root_mean_square
from joinery.core.families import FAMILIES
from joinery.core.links import LINKS
from joinery.core.pieces import Pieces
from joinery.core.reweighted import reweighted
from joinery.core.working import Part
from joinery.errors import CallError, EstimationError, JoineryError, NewRowError
from joinery.model.fit import Fit
from joinery.model.fitting import estimate
from joinery.notation.evaluate import EVERY_ROW
from joinery.show.numbers import count, level_words
from joinery.show.table import Table
from joinery.study.asked import response_blocks, rows_at_hand
from joinery.study.forecast import bands
from joinery.study.per_row import per_row

FOLDS = 10


@dataclass(frozen=True)
class _Forecasts:
    """Rows as they were forecast by a fit that had not seen them, each (n,); NaN where they could not be."""

    observed: np.ndarray
    fitted: np.ndarray
    lower: np.ndarray
    upper: np.ndarray
    trials: np.ndarray


def crosscheck(fit: Fit, folds: int | None = None, *, by: str | None = None, seed: int | None = None) -> Table:
    """The crosscheck table. See ``Fit.crosscheck``."""
    _, chosen = rows_at_hand(fit)
    if fit.solution.perfect:
        raise CallError("the fit is perfect, so that there is nothing to judge it by")
    if folds is not None and not 2 <= folds <= chosen.used:
        raise CallError(f"folds={folds} is not between 2 and the {chosen.used:,} rows used", argument="folds")
    order = fit.asked.get("order")
    if fit.glm is None and folds is None and by is None and order is None and fit.asides.repeats is None:
        unseen, how = _left_one_out(fit), "each row forecast by the fit without it (leave-one-out, in closed form)"
        t = per_row(fit).influence.studentized
        inside: np.ndarray | None = np.abs(t) <= tails.t_quantile((1 + fit.level) / 2, max(fit.residual_df - 1, 1))
    else:
        deal, how = _dealt(fit, folds or FOLDS, by, order, seed)
        unseen, inside = _folded(fit, deal, in_time=bool(order) and by is None), None
    seen = _seen(fit)
    figures = _figures(fit, unseen, seen, inside)
    lost = int(np.isnan(unseen.fitted).sum())
    notes = [how]
    if lost:
        why = "the first stretch in time is never forecast" if order and by is None else "a level or column was lost"
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


def _left_one_out(fit: Fit) -> _Forecasts:
    figures = per_row(fit)
    with np.errstate(all="ignore"):
        h = figures.influence.leverage
        miss = np.where(h < 1, figures.residual / (1 - h), np.nan)
    nothing = np.full(len(miss), np.nan)
    fitted = np.where(figures.counts, figures.observed - miss, np.nan)
    return _Forecasts(figures.observed, fitted, nothing, nothing, np.ones(len(miss)))


def _seen(fit: Fit) -> _Forecasts:
    """The fitted rows as the fit itself has them."""
    table, chosen = rows_at_hand(fit)
    context = fit.design.context(table, chosen.rows)
    own = bands(fit, context, fit.design.matrix(context), fit.level)
    blocks = list(response_blocks(fit).whole)
    y = np.concatenate([b.y for b in blocks])
    trials = np.concatenate([np.ones(len(b.y)) if b.trials is None else b.trials for b in blocks])
    fitted = own.fitted / trials if fit.response.kind == "of" else own.fitted
    return _Forecasts(y, fitted, own.new_lower, own.new_upper, trials)


def _dealt(fit: Fit, folds: int, by: str | None, order: str | None, seed: int | None) -> tuple[np.ndarray, str]:
    """Each used row's fold, and the way in words."""
    table, chosen = rows_at_hand(fit)
    n = chosen.used
    if by is not None:
        codes = table.column(by).codes(EVERY_ROW)[chosen.rows]
        _, group = np.unique(codes, return_inverse=True)
        groups = int(group.max()) + 1
        if groups < 2:
            raise CallError(f"by={by!r} puts all rows into one group", argument="by")
        if groups <= max(folds, 20):
            return group, f"each {by} forecast by a fit without it ({count(groups, 'group')})"
        deal = np.random.default_rng(seed).permutation(groups) % folds
        return deal[group], f"{folds} folds of whole groups of {by}"
    if order is not None:
        codes = table.column(order).codes(EVERY_ROW)[chosen.rows]
        place = np.empty(n, int)
        place[np.argsort(codes, kind="stable")] = np.arange(n)
        return place * folds // n, f"{folds} stretches in the order of {order}, each forecast from those before it"
    return np.random.default_rng(seed).permutation(n) % folds, f"{folds} folds, dealt at random"


def _folded(fit: Fit, deal: np.ndarray, *, in_time: bool) -> _Forecasts:
    """Rows of each fold as forecast by a fit of the others (in time: of the earlier ones)."""
    table, chosen = rows_at_hand(fit)
    positions = np.arange(len(table))[chosen.rows]
    whole = _seen(fit)
    fitted, lower, upper = (np.full(len(positions), np.nan) for _ in range(3))
    for fold, part in _parts(fit, deal, positions, in_time=in_time):
        held = np.flatnonzero(deal == fold)
        context = part.design.context(table, positions[held])
        try:
            own = bands(part, context, part.design.matrix(context), fit.level)
        except NewRowError:  # a level that only these rows have: forecast the others one by one
            for place in held:
                one = part.design.context(table, positions[[place]])
                try:
                    single = bands(part, one, part.design.matrix(one), fit.level)
                except JoineryError:
                    continue
                fitted[place], lower[place], upper[place] = single.fitted[0], single.new_lower[0], single.new_upper[0]
            continue
        fitted[held], lower[held], upper[held] = own.fitted, own.new_lower, own.new_upper
    if fit.response.kind == "of":
        fitted = fitted / whole.trials
    return _Forecasts(whole.observed, fitted, lower, upper, whole.trials)


def _parts(fit: Fit, deal: np.ndarray, positions: np.ndarray, *, in_time: bool) -> Iterator[tuple[int, Fit]]:
    """A fit without each fold's rows."""
    assert fit.table is not None
    assert fit.selection is not None
    for fold in np.unique(deal):
        out = positions[deal >= fold] if in_time else positions[deal == fold]
        if len(out) == len(positions):
            continue
        selection = replace(
            fit.selection,
            out=np.sort(np.concatenate([fit.selection.out, out])),
            reasons=("held out",) * (len(fit.selection.out) + len(out)),
        )
        asked: dict[str, Any] = dict(fit.asked) | {"std_errors": "constant spread", "cluster": None}
        try:
            yield int(fold), estimate(fit.table, fit.design.sentence, selection, asked, dict(fit.design.fills), [])
        except EstimationError:
            continue


# ------------------------------------------------------------------ figures


def _figures(
    fit: Fit, unseen: _Forecasts, seen: _Forecasts, inside: np.ndarray | None
) -> list[tuple[str, float, float]]:
    rows: list[tuple[str, float, float]] = []
    pairs = [(_errors(f), f) for f in (unseen, seen)]

    def add(name: str, values: list[float]) -> None:
        if any(np.isfinite(values)):
            rows.append((name, values[0], values[1]))

    if FAMILIES[fit.family].of_shares:
        add("Brier score", [_weighted(f, _brier(f)) for _, f in pairs])
        add("log score", [_weighted(f, _log_score(f)) for _, f in pairs])
        add("area under the curve (AUC)", [_auc(f) for _, f in pairs])
        add("calibration slope", [_calibration(f) for _, f in pairs])
    else:
        add("mean error", [_mean(e) for e, _ in pairs])
        add("typical error (root mean square)", [root_mean_square(e) for e, _ in pairs])
        add("mean absolute error", [_mean(np.abs(e)) for e, _ in pairs])
        add("explained (R²)", [_explained(e, f) for e, f in pairs])
    level = f"share inside {level_words(fit.level)} intervals"
    shares = [_inside(fit, f) for _, f in pairs]
    if inside is not None:
        counted = per_row(fit).counts
        shares[0] = float(np.mean(inside[counted]))
    add(level, shares)
    return rows


def _errors(f: _Forecasts) -> np.ndarray:
    e: np.ndarray = f.observed - f.fitted
    return np.asarray(e[np.isfinite(e)])


def _mean(values: np.ndarray) -> float:
    return float(values.mean()) if len(values) else float("nan")


def _explained(e: np.ndarray, f: _Forecasts) -> float:
    y = f.observed[np.isfinite(f.fitted)]
    if not len(y):
        return float("nan")
    spread = root_mean_square(y - y.mean())
    return 1 - len(e) / len(y) * (root_mean_square(e) / spread) ** 2 if spread > 0 else float("nan")


def _inside(fit: Fit, f: _Forecasts) -> float:
    known = np.isfinite(f.lower) & np.isfinite(f.fitted)
    y: np.ndarray = f.observed * f.trials if fit.response.kind == "of" else f.observed
    if not known.any():
        return float("nan")
    rounding = 1e-9 * float(np.max(np.abs(y[known])))
    return float(np.mean((y[known] >= f.lower[known] - rounding) & (y[known] <= f.upper[known] + rounding)))


def _weighted(f: _Forecasts, values: np.ndarray) -> float:
    known = np.isfinite(values)
    return float(np.average(values[known], weights=f.trials[known])) if known.any() else float("nan")


def _brier(f: _Forecasts) -> np.ndarray:
    """The squared error of the probability for each single trial, averaged over a row's."""
    return np.asarray(f.observed * (1 - f.fitted) ** 2 + (1 - f.observed) * f.fitted**2)


def _log_score(f: _Forecasts) -> np.ndarray:
    with np.errstate(all="ignore"):
        p = np.clip(f.fitted, 1e-15, 1 - 1e-15)
        return np.asarray(-1.0 * (f.observed * np.log(p) + (1 - f.observed) * np.log1p(-p)))


def _auc(f: _Forecasts) -> float:
    """The chance that a row where it happened has the higher probability (Hanley & McNeil 1982)."""
    known = np.isfinite(f.fitted)
    if not known.any():
        return float("nan")
    p, yes = f.fitted[known], (f.observed * f.trials)[known]
    no = f.trials[known] - yes
    order = np.argsort(p, kind="stable")
    p, yes, no = p[order], yes[order], no[order]
    starts = np.flatnonzero(np.append(True, p[1:] != p[:-1]))
    yes, no = np.add.reduceat(yes, starts), np.add.reduceat(no, starts)
    below = np.cumsum(no) - no
    total = yes.sum() * no.sum()
    return float((yes * (below + no / 2)).sum() / total) if total > 0 else float("nan")


@dataclass(frozen=True)
class _Single:
    """Rows that are one part."""

    part: Part

    @property
    def width(self) -> int:
        return 1

    @property
    def pieces(self) -> Pieces[Part]:
        return Pieces(1, lambda i, room: self.part)


def _calibration(f: _Forecasts) -> float:
    """The slope of a logistic fit of the outcome on the logit of its forecast: one is right (Cox 1958)."""
    known = np.isfinite(f.fitted)
    if known.sum() < 3:
        return float("nan")
    p = np.clip(f.fitted[known], 1e-12, 1 - 1e-12)
    part = Part(LINKS["logit"].eta(p)[:, None], f.observed[known], np.ones(len(p)), f.trials[known], None)
    try:
        found = reweighted(_Single(part), FAMILIES["binomial"], LINKS["logit"], intercept=True, n=len(p))
    except EstimationError:
        return float("nan")
    return float(found.b[1]) if found.converged else float("nan")
