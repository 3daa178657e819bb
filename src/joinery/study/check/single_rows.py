"""Checks of rows and columns: order, overlap, rows badly fitted, rows that decide."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from joinery.core.inference import diagnostics
from joinery.core.inference.correlation import variance_inflation
from joinery.core.inference.diagnostics import Test
from joinery.core.numeric import distributions as tails
from joinery.core.numeric.triangular import triangle
from joinery.errors import listed
from joinery.notation.evaluate import EVERY_ROW
from joinery.show.numbers import figure, value
from joinery.study.check.check import NO_ADVICE, Line, cannot, nothing_left
from joinery.study.fitted import Fitted, rows_at_hand, working_rows
from joinery.study.rows.figures import limits, per_row, studentized_df
from joinery.study.rows.table import remarks
from joinery.study.verdicts import CAUTION, FINE, SERIOUS, judged

LAGS = 4
MOST_BASIS = 2e7  # cells of the basis that order checks may hold
HIGH_INFLATION, EXTREME_INFLATION = 5.0, 10.0
HIGH_INDEX = 30.0

# ------------------------------------------------------------------ order

ORDER = "Are neighbouring rows independent?"


def in_order(fit: Fitted) -> np.ndarray:
    """Places of the fitted rows in the order of ``order=``, else of the table."""
    table, chosen = rows_at_hand(fit)
    order = fit.options.order
    if not order:
        return np.arange(chosen.used)
    codes = table.column(order).codes(EVERY_ROW)
    return np.argsort(codes[chosen.rows], kind="stable")


def order(fit: Fitted) -> Iterator[Line]:
    """Durbin and Watson's d with its true p, and lagged residuals added to the model."""
    if why := nothing_left(fit):
        yield cannot("durbin-watson", "order", ORDER, "Durbin–Watson", why)
        return
    if fit.asides.repeats is not None:
        yield cannot("durbin-watson", "order", ORDER, "Durbin–Watson", "rows that stand for several have no neighbours")
        return
    e, U = scaled_residuals(fit)
    test = diagnostics.durbin_watson(e, U)
    tail = "neighbours alike" if test.size > 0 else "neighbours opposed"
    verdict = judged(test.p, abs(test.size), small=0.1, large=0.4)
    advice = NO_ADVICE
    if verdict != FINE:
        lag = f"lag({fit.design.sentence.response.expression}, 1)"
        advice = f'try std_errors="autocorrelated", or add="{lag}"'
    found = f"{tail} (correlation {figure(test.size, 2)} one row apart)"
    yield Line("durbin-watson", "order", ORDER, f"Durbin–Watson ({tail}, both tails)", test, verdict, advice, found)
    if U is None or fit.residual_df <= 2 * LAGS + 2:
        return
    more = diagnostics.breusch_godfrey(e, U, LAGS)
    verdict = judged(more.p, more.size, small=0.03, large=0.25)
    advice = NO_ADVICE if verdict == FINE else 'rows up to four apart are alike: try std_errors="autocorrelated"'
    words = "rows nearby are alike"
    yield Line(
        "breusch-godfrey", "order", ORDER, f"Breusch–Godfrey, {LAGS} rows back (F)", more, verdict, advice, words
    )


def scaled_residuals(fit: Fitted) -> tuple[np.ndarray, np.ndarray | None]:
    """Residuals times √w in order, and the basis of the columns likewise, None where it would not fit in memory."""
    figures, places = per_row(fit), in_order(fit)
    small = len(places) * fit.solution.rank <= MOST_BASIS
    w, parts = [], []
    for block in working_rows(fit).row_blocks:
        own = block.precisions
        w.append(own)
        if small:
            parts.append(fit.solution.in_basis(block.X) * np.sqrt(own)[:, None])
    root = np.sqrt(np.concatenate(w))
    places = places[root[places] > 0]
    e = (figures.residual * root)[places]
    return e / fit.solution.unit, np.concatenate(parts)[places] if small else None


# ------------------------------------------------------------------ overlap

OVERLAP = "Do predictors overlap?"


def overlap(fit: Fitted) -> Iterator[Line]:
    """The largest variance inflation among terms that are not powers or products of one another, and indexes."""
    terms = fit.design.terms
    if len(terms) < 2:
        return
    found = inflations(fit)
    if not found:  # powers and products of one predictor overlap by construction
        return
    name, worst = max(found.items(), key=lambda item: item[1])
    verdict = SERIOUS if worst >= EXTREME_INFLATION else CAUTION if worst >= HIGH_INFLATION else FINE
    advice = NO_ADVICE
    if verdict != FINE:
        advice = f'{name} repeats what other terms say: read them together, or try drop="{_written(fit, name)}"'
    words = f"{name} overlaps other terms (variance inflation {figure(worst, 2)})"
    yield Line(
        "variance inflation",
        "overlap",
        OVERLAP,
        f"variance inflation of {name}",
        Test(worst, float("nan")),
        verdict,
        advice,
        words,
    )
    indexes, shares = diagnostics.condition_indexes(uncentred(fit))
    high = int(np.argmax(indexes))
    names = np.array(["intercept", *fit.design.names] if fit.solution.has_intercept else fit.design.names)
    involved = names[fit.solution.places][shares[high] > 0.5]
    serious = indexes[high] >= HIGH_INDEX and len([n for n in involved if n != "intercept"]) > 1 and verdict != FINE
    advice = f"shared by {listed(involved)}" if serious else NO_ADVICE
    yield Line(
        "condition",
        "overlap",
        OVERLAP,
        "largest condition index, uncentred",
        Test(float(indexes[high]), float("nan")),
        CAUTION if serious else FINE,
        advice,
    )


def _written(fit: Fitted, text: str) -> str:
    """A term as the sentence writes it, by its name in tables."""
    return next(str(w) for w, t in zip(fit.design.sentence.terms, fit.design.terms, strict=True) if t.text == text)


def inflations(fit: Fitted) -> dict[str, float]:
    """Each term's variance inflation among the terms that are no powers or products of it, per column.

    A square overlaps its own line, and a product its parts, by construction: that is no fault of the data.
    """
    solution, terms = fit.solution, fit.design.terms
    place = {int(c): i for i, c in enumerate(solution.kept)}
    columns = [np.array([place[c] for c in range(t.columns.start, t.columns.stop) if c in place], int) for t in terms]
    bases = [{getattr(f, "base", None) or getattr(f, "label", "") for f in t.factors} for t in terms]
    out: dict[str, float] = {}
    for i, term in enumerate(terms):
        others = [j for j in range(len(terms)) if j != i and not bases[i] & bases[j] and len(columns[j])]
        alone = len(terms[i].factors) == 1 and all(getattr(f, "degree", 1) == 1 for f in terms[i].factors)
        if not others or not len(columns[i]) or not alone:
            continue
        chosen = np.concatenate([columns[i], *(columns[j] for j in others)])
        R = triangle(solution.factor[:, chosen])
        vif = float(variance_inflation(R, [np.arange(len(columns[i]))])[0])
        out[term.text] = vif ** (1 / len(columns[i]))
    return out


def uncentred(fit: Fitted) -> np.ndarray:
    """A factor of the columns as written, the constant among them: (rank, rank)."""
    solution = fit.solution
    R = solution.factor * solution.scale
    if not solution.has_intercept:
        return np.asarray(R)
    root = np.sqrt(solution.weight_sum)
    top = np.append(root, root * solution.centre)
    return np.vstack([top, np.column_stack([np.zeros(len(R)), R])])


# ------------------------------------------------------------------ single rows

BADLY, DECIDES = "Is any row badly fitted?", "Does any row decide the answer?"


def badly_fitted(fit: Fitted) -> Iterator[Line]:
    """The largest studentized residual, with Bonferroni's correction for having looked at every row."""
    if why := nothing_left(fit):
        yield cannot("outlier", "outliers", BADLY, "largest studentized residual", why)
        return
    table, chosen = rows_at_hand(fit)
    t, times = per_row(fit).influence.studentized, per_row(fit).times
    if not np.isfinite(t).any():
        yield cannot("outlier", "outliers", BADLY, "largest studentized residual", "no residual can be scaled")
        return
    place = int(np.nanargmax(np.abs(t)))
    p = min(float(tails.t_two_sided(t[place], studentized_df(fit)) * times[np.isfinite(t)].sum()), 1.0)
    label = table.index[chosen.rows][place]
    at = limits(fit)
    verdict = SERIOUS if p < 0.05 else CAUTION if abs(t[place]) >= at.large else FINE
    advice = NO_ADVICE
    if verdict != FINE:
        advice = f'look at row {label} for a mistake; see the fit without it: leave_out=["{label}"]'
    words = f"row {label} is badly fitted (studentized residual {figure(float(t[place]), 2)})"
    test = Test(float(t[place]), p)
    yield Line(
        "outlier", "outliers", BADLY, f"studentized residual of {label} (Bonferroni)", test, verdict, advice, words
    )


def decides(fit: Fitted) -> Iterator[Line]:
    """The largest Cook's distance against the median of F, and the largest leverage."""
    if why := nothing_left(fit):
        yield cannot("cooks distance", "influence", DECIDES, "largest Cook's distance", why)
        return
    table, chosen = rows_at_hand(fit)
    measures, at = per_row(fit).influence, limits(fit)
    d = measures.cooks_distance
    labels = table.index[chosen.rows]
    alone = np.flatnonzero(measures.leverage >= 1)
    if np.isfinite(d).any():
        place = int(np.nanargmax(d))
        verdict = SERIOUS if d[place] >= at.cooks_distance else FINE
        advice = NO_ADVICE
        if verdict != FINE:
            advice = f'compare with the fit without it: leave_out=["{labels[place]}"]'
        words = f"row {labels[place]} decides the answer (Cook's distance {figure(float(d[place]), 2)})"
        yield Line(
            "cooks distance",
            "influence",
            DECIDES,
            f"Cook's distance of {labels[place]}, limit {value(at.cooks_distance, 2)}",
            Test(float(d[place]), float("nan")),
            verdict,
            advice,
            words,
        )
    place = int(np.nanargmax(measures.leverage))
    far = [r for r in remarks(fit) if r.verdict == FINE]
    verdict = CAUTION if len(alone) else FINE
    advice = NO_ADVICE
    if len(alone):
        advice = f"row {listed(labels[alone])} alone speaks to a coefficient and is fitted exactly"
    elif far:
        advice = f"far out but well fitted, keep: {listed(labels[[r.place for r in far]], 3)}"
    yield Line(
        "leverage",
        "influence",
        DECIDES,
        f"leverage of {labels[place]}, limit {value(at.leverage, 2)}",
        Test(float(measures.leverage[place]), float("nan")),
        verdict,
        advice,
    )
