"""Judging a fit on rows it has not seen: leave-one-out, folds, groups, and time."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from joinery.core.blocks.partition import Partition
from joinery.core.inference.intervals import t_times
from joinery.data.records import Records
from joinery.design.row_blocks import RowBlock
from joinery.notation.context import EVERY_ROW, Rows, positions_at
from joinery.notation.evaluate import evaluate
from joinery.notation.walk import calls_in, without_references
from joinery.show.appearance import Appearance
from joinery.show.numbers import count, level_words
from joinery.show.table import Table
from joinery.study.fitted import CHOSEN, Fitted, Options, fitted_rows, response_rows, rows_at_hand
from joinery.study.forecast.bands import mean_and_inside
from joinery.study.resample.scores import (
    Forecasts,
    Observed,
    Scale,
    Scored,
    Tally,
    calibration,
    explained,
    judged,
    sums_of,
)
from joinery.study.rows.figures import figures_in_blocks, studentized_df, too_many
from joinery.study.rows.per_row import PerRow
from joinery.support import advice, progress
from joinery.support.errors import (
    CallError,
    EstimationError,
    JoineryError,
    NewRowError,
    UnusableColumnError,
    listed,
)

FOLDS = 10  # that rows are dealt into: more say hardly more, and cost a fit each
ERROR, EXPLAINED, LOG_SCORE = "typical error (root mean square)", "explained (R²)", "log score"
ROUNDING = 1e-10  # of the errors' sizes: a sum so small is what rounding leaves of none
# functions whose columns say something else once their ranks or knots are learnt from other rows
LEARNT_SHAPES = ("rank", "spline")
KEPT = "rows kept"  # the column of repeats that a fold's fit has


def crosscheck(
    fit: Fitted, folds: int | None = None, *, by: str | None = None, seed: int | None = None
) -> Table:
    """Return the crosscheck table. See ``Fit.crosscheck``."""
    _, used = rows_at_hand(fit)
    if fit.solution.perfect:
        raise CallError("the fit is perfect, so that there is nothing to judge it by")
    if folds is not None and not 2 <= folds <= fit.n_rows:
        raise CallError(
            f"{advice.option('folds', folds)} is not between 2 and the {fit.n_rows:,} rows used",
            argument="folds",
        )
    seed = 0 if seed is None else seed  # the same folds as in ``compare`` and ``stepwise``
    order, scale, held = fit.options.order, _scale(fit), not too_many(fit)
    unseen, seen = Tally(held=held), Tally(held=held)
    plain = folds is None and by is None and order is None
    # what a search would have chosen without a row has no closed form
    closed = fit.estimate.linear and plain and fit.chooser is None
    if closed:
        how = "each row forecast by the fit without it (leave-one-out, in closed form)"
        unseen.add(_left_one_out(fit, scale))
    else:
        deal, how = _dealt(fit, folds or FOLDS, by, order, seed)
        for part in _held_out(fit, deal, in_time=bool(order) and by is None):
            unseen.add(_scored(fit, part, scale))
    if unseen.empty:
        raise CallError("no fold leaves enough rows to fit the model to; ask for fewer folds")
    times = fitted_rows(fit).counts
    seen.add(_scored(fit, _Part(fit, None, times), scale))
    figures = list(_figures(fit, unseen, seen, scale))
    lost = int((used.used if times is None else times.sum()) - unseen.sums.times)
    notes = [how, *_held_notes(fit, closed=closed)]
    if lost:
        if order and by is None:
            why = "the first stretch in time is never forecast"
        else:
            why = "a level or column was lost"
        notes.append(f"{count(lost, 'row')} could not be forecast: {why}")
    return Table(
        {
            "figure": [name for name, _, _ in figures],
            "unseen": [a for _, a, _ in figures],
            "fitted_rows": [b for _, _, b in figures],
        },
        title=f"Crosscheck of {fit.sentence}",
        notes=tuple(notes),
        appearance=Appearance(
            kinds={"figure": "text", "unseen": "own", "fitted_rows": "own"},
            headings={"unseen": "rows not seen", "fitted_rows": "fitted rows"},
        ),
    )


def _held_notes(fit: Fitted, *, closed: bool) -> Iterator[str]:
    """Yield what the rows that are forecast have taught all the same."""
    if fit.chooser is not None:
        yield "the terms are chosen again without each fold"
    elif CHOSEN in fit.changes:
        yield "the terms were chosen on all rows, those that are forecast among them"
    if fit.design.fills:
        names = listed(fit.words(name) for name in fit.design.fills)
        yield f"missing cells of {names} keep the mean of all rows"
    factors = fit.design.sentence.factors
    calls = [call for factor in factors for call in calls_in(factor)]
    curves = list(dict.fromkeys(str(call) for call in calls if call.function in LEARNT_SHAPES))
    if closed and curves:
        yield f"{listed(curves)}: the columns stay as all rows made them"


def left_out_means(fit: Fitted, *, seed: int | None = None) -> tuple[np.ndarray, float]:
    """Return the mean of each row (n,) by a fit to the other folds; NaN where it cannot be
    forecast.

    Beside it the area under the curve, over pairs of rows of one fold.
    """
    deal, _ = _dealt(fit, min(FOLDS, fit.n_rows), None, None, seed or 0)
    total, times = np.zeros(deal.rows), np.zeros(deal.rows)
    tally, scale = Tally(held=not too_many(fit)), _scale(fit)
    for part in _held_out(fit, deal, in_time=False):
        made = list(_forecasts(fit, part))
        tally.add((sums_of(fit, *member, scale), judged(*member)) for member in made)
        for f, _ in made:
            known = np.isfinite(f.fitted)
            place = f.place[known]
            total[place] += (f.times * f.fitted)[known]
            times[place] += f.times[known]
    with np.errstate(all="ignore"):
        return np.asarray(total / np.where(times > 0, times, np.nan)), tally.auc


# ------------------------------------------------------------------ rows as they are forecast


@dataclass(frozen=True)
class _Part:
    """A fit and the rows that it forecasts: places among those used, and how many each is.

    None for all of them, and for one each."""

    fit: Fitted
    place: np.ndarray | None
    times: np.ndarray | None

    def of_rows(self, rows: slice) -> tuple[np.ndarray, np.ndarray]:
        """Return places and times of some of its rows."""
        if self.place is None:
            place = np.arange(rows.start, rows.stop)
        else:
            place = self.place[rows]
        return place, np.ones(len(place)) if self.times is None else self.times[rows]


def _scale(fit: Fitted) -> Scale:
    """Return the unit and the middle of the first rows' responses."""
    first = next(iter(response_rows(fit).row_blocks))
    unit = float(np.max(np.abs(first.y), initial=0.0)) or 1.0
    if not fit.solution.spans_constant:
        return Scale(unit, 0.0)
    return Scale(unit, float(np.mean(first.beyond_offset / unit)))


def _observed(block: RowBlock) -> Observed:
    one, none = np.ones(len(block.y)), np.zeros(len(block.y))
    return Observed(
        block.y,
        one if block.trials is None else block.trials,
        block.precisions,
        none if block.offset is None else block.offset,
    )


def _forecasts(fit: Fitted, part: _Part) -> Partition[tuple[Forecasts, Observed]]:
    """Return a part's rows as its fit forecasts them, beside what came, in blocks."""
    table, used = rows_at_hand(fit)
    rows = used.rows

    def of_block(block: RowBlock) -> tuple[Forecasts, Observed]:
        observed = _observed(block)
        place, times = part.of_rows(block.span)
        return _of_rows(fit, part.fit, table, rows, place, times, observed), observed

    if part.place is None:
        here = rows
    else:
        here = positions_at(rows, part.place)
    return replace(response_rows(fit), rows=here).row_blocks.map(of_block)


def _scored(fit: Fitted, part: _Part, scale: Scale) -> Iterator[Scored]:
    """Yield sums over each block of a part's rows, and chances beside their outcomes."""

    def of_rows(made: tuple[Forecasts, Observed]) -> Scored:
        return sums_of(fit, *made, scale), judged(*made) if fit.family.shares else None

    return _forecasts(fit, part).each(of_rows)


def _left_one_out(fit: Fitted, scale: Scale) -> Iterator[Scored]:
    """Yield each row forecast by the fit without it: e/(1 − h) from what came (Allen 1974)."""
    limit = t_times(fit.level, studentized_df(fit))

    def of_block(made: tuple[RowBlock, PerRow]) -> Scored:
        block, figures = made
        t, h = figures.influence.studentized, figures.influence.leverage
        with np.errstate(all="ignore"):
            fitted = figures.observed - np.where(h < 1, figures.residual / (1 - h), np.nan)
        nothing = np.full(len(h), np.nan)
        f = Forecasts(np.arange(len(h)), figures.times, fitted, nothing)
        known = np.isfinite(t)
        inside = known & (np.abs(t) <= limit)
        sums = sums_of(fit, f, _observed(block), scale)
        bounded = float(figures.times @ known)
        return sums._replace(bounded=bounded, inside=float(figures.times @ inside)), None

    return figures_in_blocks(fit).each(of_block)


def _of_rows(
    fit: Fitted,
    part: Fitted,
    table: Records,
    rows: Rows,
    place: np.ndarray,
    times: np.ndarray,
    observed: Observed,
) -> Forecasts:
    """Return some rows of a table as a fit forecasts them, shares of totals as shares."""
    responses = observed.y
    if fit.response.kind == "of":
        responses = observed.y * observed.trials

    def forecast(some: slice) -> tuple[np.ndarray, np.ndarray]:
        context = part.design.context(table, positions_at(rows, place[some]))
        X = part.design.matrix(context)
        # the fit without them says nothing of rows that break its dependences
        X[part.solution.broken(X).any(axis=1)] = np.nan
        return mean_and_inside(part, context, X, fit.level, responses[some])

    try:
        fitted, inside = forecast(slice(None))
    except NewRowError:  # a level that only these rows have: forecast the others one by one
        fitted, inside = np.full((2, len(place)), np.nan)
        for i in range(len(place)):
            one = slice(i, i + 1)
            with suppress(JoineryError):
                fitted[one], inside[one] = forecast(one)
    if fit.response.kind == "of" and fit.response.total is not None:
        context = part.design.context(table, positions_at(rows, place))
        fitted = fitted / evaluate(fit.response.total, context)
    return Forecasts(place, times, fitted, inside)


@dataclass(frozen=True)
class _Deal:
    """The fold of each row used, or where rows stand for several of each of these.

    ``row`` is which of the rows used each is, None where each stands once."""

    fold: np.ndarray
    folds: int
    rows: int
    row: np.ndarray | None

    def times(self, which: np.ndarray) -> np.ndarray:
        """Return how many that each row used stands for are among those that a mask picks: (n,)."""
        if self.row is None:
            return which
        return np.bincount(self.row[which], minlength=self.rows).astype(float)


def _dealt(
    fit: Fitted, folds: int, by: str | None, order: str | None, seed: int
) -> tuple[_Deal, str]:
    """Return the fold of each row, and the way in words."""
    table, chosen = rows_at_hand(fit)
    times, n = fitted_rows(fit).counts, chosen.used
    each = None
    if times is not None and (times != 1).any():
        each = np.repeat(np.arange(n), times.astype(int))
    if each is None:
        total = n
    else:
        total = len(each)

    def deal(fold: np.ndarray, count: int) -> _Deal:
        return _Deal(fold.astype(np.min_scalar_type(count)), count, n, each)

    if by is not None:
        codes = table.column(by).codes(EVERY_ROW)[chosen.rows]
        _, group = np.unique(codes if each is None else codes[each], return_inverse=True)
        groups = int(group.max()) + 1
        if groups < 2:
            raise CallError(f"by={by!r} puts all rows into one group", argument="by")
        if groups <= max(folds, 20):
            words = f"each {by} forecast by a fit without it ({count(groups, 'group')})"
            return deal(group, groups), words
        fold = np.random.default_rng(seed).permutation(groups) % folds
        return deal(fold[group], folds), f"{folds} folds of whole groups of {by}"
    if order is not None:
        codes = table.column(order).codes(EVERY_ROW)[chosen.rows]
        fold = np.empty(total, int)
        if each is None:
            places = codes
        else:
            places = codes[each]
        in_order = np.argsort(places, kind="stable")
        sorted_places = places[in_order]
        # rows of one time stay together: none is forecast from another of its own time
        before = np.searchsorted(sorted_places, sorted_places)
        fold[in_order] = before * folds // total
        words = f"{folds} stretches in the order of {order}, each forecast from those before it"
        return deal(fold, folds), words
    numbers = np.arange(total, dtype=np.min_scalar_type(-total - 1))  # as narrow as they can be
    fold = np.random.default_rng(seed).permutation(numbers) % folds
    return deal(fold, folds), f"{folds} folds, dealt at random"


def _held_out(fit: Fitted, deal: _Deal, *, in_time: bool) -> Iterator[_Part]:
    """Yield each fold's rows, and a fit of the others (in time: of the earlier ones)."""
    assert fit.origin is not None
    options = replace(fit.options, std_errors="constant spread", cluster=())
    with progress.counted("folds", deal.folds) as advance:
        for fold in range(deal.folds):
            here = deal.times(deal.fold == fold)
            left = deal.times(deal.fold < fold if in_time else deal.fold != fold)
            if here.any() and left.any():
                part = _fit_of(fit, left, options)
            else:
                part = None
            if part is not None:
                held = np.flatnonzero(here)
                yield _Part(part, held, None if deal.row is None else here[held])
            advance(1)


def _fit_of(fit: Fitted, left: np.ndarray, options: Options) -> Fitted | None:
    """Return the fit of the rows that are ``left``, each so many times (n,); None where it has
    none."""
    table, used = rows_at_hand(fit)
    assert fit.origin is not None
    gone = positions_at(used.rows, np.flatnonzero(left == 0))
    refit = partial(fit.origin.refit, used=used.without(gone))
    if fit.options.repeats is not None:
        kept = np.zeros(len(table))
        kept[used.rows] = left
        options = replace(options, repeats=f'"{KEPT}"')
        refit = partial(refit, table=table.replaced(KEPT, kept))
    try:
        if fit.chooser is None:
            return refit(options=options)
        # what chose the terms saw the rows held out: it must choose again without them
        return fit.chooser(refit(sentence=fit.chooser.sentence, options=options))
    except UnusableColumnError:  # a reference level or a curve's values are lost
        try:
            return refit(sentence=without_references(fit.design.sentence), options=options)
        except (EstimationError, UnusableColumnError):
            return None
    except EstimationError:
        return None


# ------------------------------------------------------------------ figures


def _figures(
    fit: Fitted, unseen: Tally, seen: Tally, scale: Scale
) -> Iterator[tuple[str, float, float]]:
    """Yield each figure of rows not seen and of fitted rows, where either has it."""
    sums = [tally.sums for tally in (unseen, seen)]

    def means(name: str, unit: float = 1.0) -> list[float]:
        return [getattr(s, name) / s.evidence * unit if s.evidence else float("nan") for s in sums]

    if fit.family.shares:
        chances = [tally.chances for tally in (unseen, seen)]
        figures = {
            "Brier score": means("brier"),
            LOG_SCORE: means("log_score"),
            "area under the curve (AUC)": [unseen.auc, seen.auc],
            "calibration slope": list(map(calibration, chances)),
        }
    else:
        constant = fit.solution.spans_constant
        figures = {
            "mean error": [
                0.0 if s.evidence and abs(s.error) < ROUNDING * s.size else mean
                for s, mean in zip(sums, means("error", scale.unit), strict=True)
            ],
            ERROR: [scale.unit * float(np.sqrt(v)) for v in means("squared")],
            "mean absolute error": means("size", scale.unit),
            EXPLAINED: [explained(s, constant) for s in sums],
        }
    figures[f"share inside {level_words(fit.level)} intervals"] = [
        s.inside / s.bounded if s.bounded else float("nan") for s in sums
    ]
    for name, values in figures.items():
        if any(np.isfinite(values)):
            yield name, values[0], values[1]
