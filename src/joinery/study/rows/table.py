"""The rows table: what each row is, and in words what is remarkable about it."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any, overload

import numpy as np

from joinery.core.blocks.columns import dense, some_rows
from joinery.core.blocks.partition import joined
from joinery.core.inference.influence import changes
from joinery.data.records import Records
from joinery.design.row_blocks import RowBlock
from joinery.notation.context import Context, positions_at
from joinery.show.appearance import Appearance
from joinery.show.numbers import figure
from joinery.show.table import Table
from joinery.study.fitted import Fitted, once, rows_at_hand, working_rows
from joinery.study.rows.digest import labels_of, limits, notable
from joinery.study.rows.figures import Limits, figures_of, fitted_values, per_row, widening
from joinery.study.rows.per_row import PerRow
from joinery.study.verdicts import CAUTION, SERIOUS, UNREMARKABLE
from joinery.support.errors import DataError, NewRowError
from joinery.support.limits import MOST_LISTED

LEFT_OUT = "left out"
WELL_FITTED = 2.0  # studentized residuals below it are two of three rows' company: 95 % of rows
VERDICTS = (SERIOUS, CAUTION, UNREMARKABLE)


@dataclass(frozen=True)
class Remark:
    """A remark on a fitted row: its place, verdict and reason."""

    place: int
    verdict: str
    leverage: float
    studentized: float
    cooks_distance: float
    at: Limits

    @property
    def predicate(self) -> str:
        """The reason as what is said of the row: "is far out …", "decides …"."""
        if self.cooks_distance >= self.at.cooks_distance and self.leverage < 1:
            verb = ""
        else:
            verb = "is "
        return f"{verb}{self.reason}"

    @property
    def reason(self) -> str:
        """The reason in words, with its figures and what to do."""
        h, t = self.leverage, self.studentized
        badly = f"badly fitted (studentized residual {figure(t, 2)})"
        if (
            h < self.at.leverage
            and self.cooks_distance < self.at.cooks_distance
            and abs(t) < self.at.studentized
        ):
            return (
                f"among the worst fitted (studentized residual {figure(t, 2)}), as chance makes a "
                "few of so many rows"
            )
        far = f"far out (leverage {figure(h, 2)}, limit {self.at.leverage_words})"
        if h >= 1:
            return (
                "fitted exactly whatever its value: no other row bears on one of its coefficients"
            )
        if self.cooks_distance >= self.at.cooks_distance:
            size = (
                f"Cook's distance {figure(self.cooks_distance, 2)}, limit {self.at.distance_words}"
            )
            why = f"; {far}" if h >= self.at.leverage else ""
            return f"decides the answer ({size}){why}: fit once without it and compare"
        if abs(t) >= self.at.studentized:
            return f"{badly}: look for a mistake in it, or for what the model leaves unsaid"
        if h >= self.at.leverage:
            if abs(t) < WELL_FITTED:
                return f"{far}: the line leans on it, so its small residual speaks for nothing"
            return f"{far} and not well fitted (studentized residual {figure(t, 2)})"
        return badly


@dataclass(frozen=True, eq=False)
class Remarks(Sequence[Remark]):
    """Remarks on rows, worst first: their figures (k,), of which Remarks are made when asked."""

    places: np.ndarray
    grave: np.ndarray  # places among ``VERDICTS``
    leverage: np.ndarray
    studentized: np.ndarray
    cooks_distance: np.ndarray
    at: Limits

    def __len__(self) -> int:
        return len(self.places)

    @overload
    def __getitem__(self, which: int) -> Remark: ...
    @overload
    def __getitem__(self, which: slice) -> Remarks: ...
    def __getitem__(self, which: int | slice) -> Remark | Remarks:
        if isinstance(which, slice):
            return self.chosen(which)
        return next(iter(self.chosen(np.array([which]))))

    def __iter__(self) -> Iterator[Remark]:
        figures = (self.places, self.grave, self.leverage, self.studentized, self.cooks_distance)
        for place, rank, h, t, d in zip(*(each.tolist() for each in figures), strict=True):
            yield Remark(place, VERDICTS[rank], h, t, d, self.at)

    def chosen(self, which: slice | np.ndarray) -> Remarks:
        """Return some of the remarks, by a slice or their places."""
        h, t, d = self.leverage[which], self.studentized[which], self.cooks_distance[which]
        return Remarks(self.places[which], self.grave[which], h, t, d, self.at)

    def judged(self, *verdicts: str) -> Remarks:
        """Return those with some verdicts."""
        return self.chosen(np.isin(self.grave, [VERDICTS.index(v) for v in verdicts]))

    def among(self, places: np.ndarray) -> Remarks:
        """Return those on some rows (m,), in order, by their places among these."""
        result = self.chosen(np.isin(self.places, places))
        return replace(result, places=np.searchsorted(places, result.places))

    def between(self, first: int, stop: int) -> Remarks:
        """Return those on rows from one place to before another."""
        return self.chosen((self.places >= first) & (self.places < stop))


@once
def remarks(fit: Fitted) -> Remarks:
    """Return the remarkable rows, worst first: deciding, badly fitted, far out."""
    result, at, wide = notable(fit), limits(fit), widening(fit)
    h, t, d = (
        result.measures.leverage,
        result.measures.studentized if wide == 1 else result.measures.studentized / wide,
        result.measures.cooks_distance if wide == 1 else result.measures.cooks_distance / wide**2,
    )
    with np.errstate(invalid="ignore"):
        here = np.flatnonzero(
            (d >= at.cooks_distance) | (np.abs(t) >= at.large) | (h >= min(at.leverage, 1))
        )
    if fit.solution.perfect:
        here = here[:0]
    places, h, t, d = result.places[here], h[here], t[here], d[here]
    # a row of leverage 1 has no residual to be judged by: it is remarked on for that alone
    decides = (d >= at.cooks_distance) | (np.abs(t) >= at.serious)
    badly = np.where(decides, 0, np.where(np.abs(t) >= at.studentized, 1, 2))
    grave = np.where(h >= 1, 1, badly)
    return Remarks(places, grave, h, t, d, at).chosen(np.lexsort((-np.nan_to_num(d), grave)))


def left_out(fit: Fitted) -> Table:
    """Return the rows not used, each with its reason. See ``Fit.left_out``."""
    if fit.origin is None:
        return Table(
            {"reason": []}, title="Rows left out", index=[], notes=("a loaded fit keeps no rows",)
        )
    table, used = rows_at_hand(fit)
    return Table(
        {"reason": list(used.reasons)},
        title="Rows left out",
        index=table.index[used.out].tolist(),
        index_name=str(table.index.name or "row"),
        appearance=Appearance(kinds={"reason": "text"}),
    )


def rows(fit: Fitted, *, dfbetas: bool = False) -> Table:
    """Return the rows table. See ``Fit.rows``."""
    table, chosen = rows_at_hand(fit)
    figures, n, out = per_row(fit), chosen.used, len(chosen.out)
    result = row_columns(figures, remarks(fit), 0)
    if dfbetas:
        added = changes_without(fit)
    else:
        added = {}
    codes = dict(zip(added, _codes(added)))
    columns = _in_order(result | {codes[term]: values for term, values in added.items()})
    if out:
        rest = left_out_columns(fit, chosen.out, chosen.reasons)
        columns = {
            name: [*values, *rest[name]]
            if name in WORDS
            else np.append(values, rest.get(name, np.full(out, np.nan)))
            for name, values in columns.items()
        }
    index = table.index
    if out:  # each where it stands in the table
        # rows used and rows left out side by side, then in the order of the table
        places = np.append(positions_at(chosen.rows, np.arange(n)), chosen.out)
        in_order = np.argsort(places, kind="stable")
        columns = {name: _picked(values, in_order) for name, values in columns.items()}
        index = index[places[in_order]]
    assert len(index) == n + out
    return Table(
        columns,
        title=f"Rows of {fit.sentence}",
        notes=tuple(_notes(fit, out)),
        index=index,
        index_name=str(index.name or "row"),
        appearance=Appearance(
            kinds=dict.fromkeys(WORDS, "text"),
            headings={code: f"dfbetas {fit.words(term)}" for term, code in codes.items()},
        ),
    )


def _codes(terms: Iterable[str]) -> list[str]:
    """Return the headings of what each term changes by, fit for code.

    Letters, digits and _ of a term's name stay, × becomes _by_, and anything else one _; a heading
    that is there already gets a number."""
    out: list[str] = []
    for term in terms:
        plain = re.sub(r"\W+", "_", term.replace(" × ", "_by_")).strip("_")
        heading, number = f"dfbetas_{plain}", 2
        while heading in out:
            heading, number = f"dfbetas_{plain}_{number}", number + 1
        out.append(heading)
    return out


def _picked(values: Any, places: np.ndarray) -> Any:
    """Return some of the values, numbers or words, in another order."""
    if isinstance(values, np.ndarray):
        return values[places]
    return [values[i] for i in places]


def remarkable_rows(fit: Fitted) -> Table:
    """Return the rows table of the rows most remarkable."""
    places = most_remarkable(fit)
    columns = _in_order(row_columns(figures_of(fit, places), remarks(fit).among(places), 0))
    n = rows_at_hand(fit)[1].used
    return Table(
        columns,
        title=f"Rows of {fit.sentence}",
        notes=(*_notes(fit, 0), f"of {n:,} rows the {len(places):,} most remarkable"),
        index=labels_of(fit, places),
        index_name=fit.options.id or "row",
        appearance=Appearance(kinds=dict.fromkeys(WORDS, "text")),
    )


def most_remarkable(fit: Fitted) -> np.ndarray:
    """Return places in order of the rows that are listed where all are too many to read."""
    return np.sort(remarks(fit)[:MOST_LISTED].places)


WORDS = ("verdict", "reason")


def _in_order(columns: dict[str, Any]) -> dict[str, Any]:
    """Return figures first, words last."""
    return {k: v for k, v in columns.items() if k not in WORDS} | {k: columns[k] for k in WORDS}


def row_columns(figures: PerRow, notable: Remarks, first: int) -> dict[str, Any]:
    """Return the columns of the rows table for fitted rows, the first of which has place
    ``first``."""
    measures, m = figures.influence, len(figures.observed)
    verdict, reason = [UNREMARKABLE] * m, [""] * m
    for remark in notable.between(first, first + m):
        place = remark.place - first
        verdict[place], reason[place] = remark.verdict, remark.reason
    return {
        "observed": figures.observed,
        "fitted": figures.fitted,
        "residual": figures.observed - figures.fitted,
        "leverage": measures.leverage,
        "standardized_residual": measures.standardized,
        "studentized_residual": measures.studentized,
        "cooks_distance": measures.cooks_distance,
        "dffits": measures.dffits,
        "covratio": measures.covratio,
        **figures.extras,
        "verdict": verdict,
        "reason": reason,
    }


def left_out_columns(fit: Fitted, positions: np.ndarray, reasons: Sequence[str]) -> dict[str, Any]:
    """Return the same for rows left out, as far as they have any, as they would be forecast."""
    table, _ = rows_at_hand(fit)
    left = _left_out(fit, table, positions)
    return {
        "observed": left.observed,
        "fitted": left.fitted,
        "residual": left.observed - left.fitted,
        "studentized_residual": left.studentized,
        "verdict": [""] * len(positions),
        "reason": [f"{LEFT_OUT}: {why}" for why in reasons],
    }


def changes_without(fit: Fitted) -> dict[str, np.ndarray]:
    """Return DFBETAS by coefficient: its change without each row (n,), in its standard errors."""
    figures, solution = per_row(fit), fit.solution
    measures = figures.influence
    if figures.deletion is None:
        scaled = measures.studentized
    else:
        scaled = figures.deletion

    def changes_of(block: RowBlock) -> np.ndarray:
        w = block.precisions
        return changes(solution, block.X, scaled[block.span], measures.leverage[block.span], w)

    parts = joined(working_rows(fit).row_blocks, changes_of)
    if solution.has_intercept:
        names = ["intercept", *fit.design.names]
    else:
        names = list(fit.design.names)
    return {names[place]: parts[:, j] for j, place in enumerate(solution.places)}


def moves_without(fit: Fitted, places: np.ndarray) -> np.ndarray:
    """Return DFBETAS of some rows, by their places: (m, rank), NaN where they cannot be had."""
    solution, result = fit.solution, notable(fit)
    out = np.full((len(places), solution.rank), np.nan)
    if solution.groups is not None:  # levels swept out have no columns
        return out
    at = np.searchsorted(result.places, places)
    t, h = result.measures.studentized[at], result.measures.leverage[at]

    def of_block(block: RowBlock) -> tuple[np.ndarray, np.ndarray]:
        here = np.flatnonzero((places >= block.first) & (places < block.first + len(block.y)))
        local = places[here] - block.first
        X = dense(some_rows(block.columns, local))
        return here, changes(solution, X, t[here], h[here], block.precisions[local])

    for here, moves in working_rows(fit).row_blocks.each(of_block):
        out[here] = moves
    return out


@dataclass(frozen=True)
class _LeftOut:
    """Rows left out as they would be forecast, each (m,).

    NaN where a cell is missing or a level was never seen.
    """

    observed: np.ndarray
    fitted: np.ndarray
    studentized: np.ndarray


def _left_out(fit: Fitted, table: Records, positions: np.ndarray) -> _LeftOut:
    """Return rows by their positions; one that cannot be forecast leaves the others their
    figures."""
    nothing = np.full(len(positions), np.nan)
    if not len(positions):
        return _LeftOut(nothing, nothing, nothing)
    context = fit.design.context(table, positions)
    try:
        X = fit.design.matrix(context)
        fitted = fitted_values(fit, context, X)
        observed = fit.response.values(context)
    except (DataError, NewRowError):
        if len(positions) == 1:
            return _LeftOut(_observed(fit, context), nothing, nothing)
        # one row that cannot be forecast is found by halves, and costs the others nothing
        halves = np.array_split(positions, 2)
        parts = [_left_out(fit, table, half) for half in halves]
        figures = ("observed", "fitted", "studentized")
        return _LeftOut(*(np.concatenate([getattr(p, name) for p in parts]) for name in figures))
    studentized = nothing
    if fit.estimate.linear and fit.asides.weights is None and fit.estimate.scale:
        with np.errstate(all="ignore"):
            studentized = (observed - fitted) / (
                fit.estimate.scale * np.sqrt(1 + fit.solution.unscaled_variance(X))
            )
    return _LeftOut(observed, fitted, studentized)


def _observed(fit: Fitted, context: Context) -> np.ndarray:
    """Return the response of some rows; NaN where it does not exist."""
    try:
        return fit.response.values(context)
    except DataError:
        return np.full(context.size, np.nan)


def _notes(fit: Fitted, out: int) -> Iterator[str]:
    if fit.response.transformed:
        yield f"observed, fitted and residual are on the scale of {fit.response.name}"
    if out:
        if out == 1:
            left = "1 row was"
        else:
            left = f"{out:,} rows were"
        yield f"{left} left out: fitted there is a forecast, and its error is studentized as one"
    if fit.solution.perfect:
        yield "the fit is perfect: residuals are zero, and nothing is left to scale them by"
