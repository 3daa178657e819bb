"""The short page of a fit: cautions, the answer in short, coefficients, equation."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence

import numpy as np

from joinery.core.inference import intervals
from joinery.data.columns import level_text
from joinery.hand_over.formula.equation import equation
from joinery.hand_over.mild_lines import finding_of, mild_lines
from joinery.notation.walk import is_condition
from joinery.show.numbers import (
    count,
    figure,
    interval,
    p_phrase,
    p_value,
    percent,
    short_of,
    to_decimals,
    value,
    with_error,
)
from joinery.show.short_page import BAR_NOTE, Caution, Effect, Page
from joinery.study.check.shape import MOST_BAD
from joinery.study.check.single_rows import largest_move
from joinery.study.check.table import check_lines, page_lines
from joinery.study.fitted import Fitted
from joinery.study.read.coefficients import error_notes, p_values
from joinery.study.read.curve_sizes import curve_sizes, standard_bars
from joinery.study.read.estimates import estimates
from joinery.study.read.notes import READING, notes
from joinery.study.read.overall import OverallTest, overall_test
from joinery.study.rows.digest import labels_of, misses_of
from joinery.study.rows.table import remarks
from joinery.study.verdicts import CAUTION, GRAVE
from joinery.support.errors import listed

MOST_CAUTIONS = 5  # lines of a page that people read before the figures
NAMED_ROWS = 2  # single rows that the page names
MOST_READING = 2  # remarks on reading that the page shows
# coefficients that the page shows, and how many it shows of more, in the order of the sentence
MOST_COEFFICIENTS, MOST_FIRST = 40, 12
MOST_TERMS = 40  # terms of an equation, and names of a sentence, that the page writes out


def short_page(fit: Fitted, digits: int | None = None) -> Page:
    """Return the short page."""
    chosen = _shown(fit)
    terms = len(fit.solution.places)
    return Page(
        sentence=_sentence(fit),
        under=_under(fit),
        settled=_settled(fit),
        cautions=cautions(fit),
        in_short=_in_short(fit),
        effects=_effects(fit, digits, chosen),
        level=fit.level,
        more=_elsewhere(terms - len(chosen), "coefficients") if len(chosen) < terms else "",
        equation=equation(fit) if terms <= MOST_TERMS else _elsewhere(terms, "equation"),
        bar_note=_bar_note(fit),
    )


def _bar_note(fit: Fitted) -> str:
    """Return what the bars are in, and which stand for a curve."""
    note = "change of the linear predictor per sd of the term"
    if fit.estimate.linear:
        note = BAR_NOTE
    curves = [fit.words(curve.name) for curve in curve_sizes(fit)]
    if curves:
        note += f"; one bar for the curve of {listed(curves)}, its sd over the rows"
    return note


def _under(fit: Fitted) -> str:
    text = f"{fit.family.name} family, {fit.link.name} link{_dispersion(fit)}"
    text += "".join(f"; {words}" for words in (*_asides(fit), *error_notes(fit))) + "."
    if fit.origin is None:
        return f"{text} {fit.n_rows:,} rows, loaded from a file"
    used = fit.origin.used_rows
    out = len(used.out)
    total = fit.n_rows + out
    if not out:
        return f"{text} All {total:,} rows"
    why = ", ".join(f"{count:,} {reason}" for reason, count in used.counts.items())
    return f"{text} {fit.n_rows:,} of {total:,} rows; left out: {why}"


def _asides(fit: Fitted) -> Iterator[str]:
    """Name the weights, repeats and offset that stand beside the terms."""
    options = fit.options
    if options.weights is not None:
        yield f"weighted by {fit.words(options.weights)}"
    if options.repeats is not None:
        yield f"each row counted {fit.words(options.repeats)} times"
    if options.offset is not None:
        yield f"offset {fit.words(options.offset)}"


def _settled(fit: Fitted) -> str:
    """Return the reference level of each category, and what of the response counts as 1."""
    references = {
        fit.words(f.label): level_text(f.levels[0])
        for t in fit.design.terms
        for f in t.categories
        if f.coding == "indicator"
    }
    parts = []
    if references:
        words = listed((f"{name} {level}" for name, level in references.items()), 6)
        parts.append(f"reference level{'s' * (len(references) > 1)}: {words}")
    if fit.family.shares and fit.response.kind == "plain":
        if is_condition(fit.response.expression):
            yes = ""
        else:
            yes = "yes in "
        what = fit.words(str(fit.response.expression).strip("()"))
        parts.append(f"counted as 1: {yes}{what}")
    return "; ".join([*parts, *_as_read(fit)])


def _as_read(fit: Fitted) -> list[str]:
    """Return what was noted of the model's columns while the table was read, where that is
    little."""
    notes_made = [note.words for note in notes(fit) if note.kind == READING]
    if len(notes_made) <= MOST_READING:
        return notes_made
    return [f"{len(notes_made)} remarks on reading: look"]


def _dispersion(fit: Fitted) -> str:
    """Return the dispersion, where it is not what the family says."""
    dispersion = fit.options.dispersion
    if dispersion is None or (dispersion == "estimated" and not fit.family.known_dispersion):
        return ""
    if dispersion == "estimated":
        return ", estimated dispersion"
    return f", dispersion {value(dispersion)}"


def cautions(fit: Fitted) -> list[Caution]:
    """Return what to know before reading on: grave facts and grave lines, the serious ones of each
    first, then a line of each milder kind."""
    grave = [Caution(n.gravity, n.words, "") for n in notes(fit) if n.gravity in GRAVE]
    beside: list[Caution] = []
    if (fit.origin is not None or fit.judged) and not fit.solution.perfect:
        rows, more = ([], 0) if fit.origin is None else _about_rows(fit)
        lines = page_lines(fit)
        facts = [c for c in lines if c.verdict in GRAVE and c.name == "data"]
        others = [c for c in lines if c.verdict in GRAVE and c.name != "data"]
        grave += [Caution(c.verdict, finding_of(c), "checks") for c in facts]
        of_model = [Caution(c.verdict, finding_of(c), "checks") for c in others]
        # a cause stands before its consequences: a few rows before the shape, many after it
        few = fit.origin is None or len(remarks(fit).judged(*GRAVE)) <= MOST_BAD
        of_fit = [*rows, *of_model] if few else [*of_model, *rows]
        grave = [*_serious_first(grave), *_serious_first(of_fit)]
        beside = mild_lines(fit, lines)
    else:
        more = 0
    if len(grave) + more > MOST_CAUTIONS:
        left = len(grave) + more - MOST_CAUTIONS + 1
        grave = grave[: MOST_CAUTIONS - 1]
        grave.append(Caution(CAUTION, f"and {left:,} more remarks", "rows"))
    return [*grave, *beside]


def _serious_first(cautions: list[Caution]) -> list[Caution]:
    """Return cautions by gravity, those of one in the order in which they were."""
    return sorted(cautions, key=lambda caution: GRAVE.index(caution.verdict))


def _about_rows(fit: Fitted) -> tuple[list[Caution], int]:
    """Return what is said of single rows, the worst first, and how many more there are."""
    worse = remarks(fit).judged(*GRAVE)
    shown = worse[:NAMED_ROWS]
    out = [
        Caution(r.verdict, f"row {label} {r.predicate}", "rows")
        for r, label in zip(shown, labels_of(fit, shown.places), strict=True)
    ]
    named = set(shown.places.tolist())
    move = largest_move(fit)
    if move is not None and move.place not in named:
        out += [
            Caution(line.verdict, line.finding, "rows")
            for line in check_lines(fit)
            if line.kind == "largest move" and line.verdict in GRAVE
        ]
    return out, max(len(worse) - NAMED_ROWS, 0)


def _in_short(fit: Fitted) -> list[str]:
    name = fit.words(fit.response.name)
    if not fit.estimate.linear:
        return _in_short_deviance(fit, name)
    test = overall_test(fit)
    if fit.r_squared is None:
        return [
            f"{name} is {value(fit.solution.mean_response)} in every row: there is nothing to "
            "explain."
        ]
    if fit.solution.perfect and fit.residual_df > 0:
        return [
            f"Every fitted value of {name} equals the observed one: a perfect fit (R² 1), with "
            "no miss to judge by."
        ]
    if fit.residual_df <= 0:
        return [
            f"As many coefficients as rows ({fit.n_rows}): {name} is fitted exactly, so nothing "
            "says how sure it is."
        ]
    out = []
    if fit.model_df > 0:
        r2, adjusted = (short_of(v or 0.0, 1, 2) for v in (fit.r_squared, fit.adjusted_r_squared))
        if fit.solution.spans_constant:
            about = ""
        else:
            about = ", about zero as there is no intercept"
        out.append(
            f"{percent(fit.r_squared)} of the variation in {name} is explained (R² {r2}, "
            f"adjusted {adjusted}{about})."
        )
    if fit.residual_sd is not None:
        out.append(_typical_miss(fit))
    return [*out, *_beats_none(test)]


def _typical_miss(fit: Fitted) -> str:
    """Return how near two of three rows lie, counted, beside the residual SD."""
    size = figure(fit.residual_sd or 0.0, 3)
    if fit.options.weights is not None:
        return f"Residual SD of a row of weight 1: {size} ({_degrees(fit)})."
    if fit.model_df > 0:
        line = "the fitted value"
    else:
        line = "the mean"
    misses = misses_of(fit) if fit.origin is not None else None
    if misses is None:
        return f"The residual SD is {size} ({_degrees(fit)})."
    near = float(np.nanquantile(misses, 2 / 3)) * (fit.residual_sd or 0.0)
    sd = f"residual SD {size}, {_degrees(fit)}"
    return f"Two of three rows lie within {figure(near, 3)} of {line} ({sd})."


def _degrees(fit: Fitted) -> str:
    return count(fit.residual_df, "degree of freedom", "degrees of freedom")


def _beats_none(test: OverallTest) -> Iterator[str]:
    """Return True if the model beats no predictors."""
    if math.isnan(test.p):
        return
    if test.p < 0.05:
        better = "Better than no predictors"
    else:
        better = "Not clearly better than no predictors"
    if math.isinf(test.df2):
        second = ""
    elif test.df2 == round(test.df2) or test.df2 >= 1000:
        second = f", {test.df2:,.0f}"
    else:
        second = f", {test.df2:.1f}"
    if test.name == "chi2":
        symbol = "χ²"
    else:
        symbol = "F"
    yield (
        f"{better}: {symbol}({test.df1}{second}) = {figure(test.statistic, 3)}, {p_phrase(test.p)}."
    )


def _in_short_deviance(fit: Fitted, name: str) -> list[str]:
    """Return the deviance explained, and the overall test."""
    out = []
    drop = fit.estimate.null_deviance - fit.estimate.deviance
    if fit.model_df > 0 and fit.estimate.null_deviance > 0:
        out.append(
            f"{percent(max(drop, 0.0) / fit.estimate.null_deviance)} of the deviance of {name} "
            "is explained."
        )
    elif fit.solution.has_intercept and fit.model_df == 0:
        mean = float(fit.link.mu(np.array([fit.solution.intercept]))[0])
        out.append(f"Without predictors the mean of {name} is {figure(mean, 3)}.")
    if not fit.estimate.known and fit.estimate.dispersion is not None:
        out.append(f"Dispersion φ {figure(fit.estimate.dispersion, 3)} ({_degrees(fit)}).")
    return [*out, *_beats_none(overall_test(fit))]


def _sentence(fit: Fitted) -> str:
    """Return the sentence; of very many terms the first ones, and how many there are."""
    written = [str(term) for term in fit.design.sentence.terms]
    if len(written) <= MOST_TERMS:
        return fit.sentence
    first = ", ".join(written[:MOST_FIRST])
    return f"{fit.response.name} given {first}, … ({len(written):,} terms)"


def _elsewhere(number: int, call: str) -> str:
    if call == "coefficients":
        what = "more coefficients"
    else:
        what = "terms in the equation"
    return f"{number:,} {what}: see {call}"


def _shown(fit: Fitted) -> list[int]:
    """Return the places of the coefficients to show: all, or of very many the first of the
    sentence."""
    places = list(range(len(estimates(fit).names)))
    if len(fit.solution.places) <= MOST_COEFFICIENTS:
        return places
    return places[: MOST_FIRST + fit.solution.has_intercept]


def _effects(fit: Fitted, digits: int | None, chosen: Sequence[int]) -> list[Effect]:
    e = estimates(fit)
    lower, upper = intervals.around(e.values, e.standard_errors, e.df, fit.level)
    p, bars = p_values(e), standard_bars(fit)
    out = []
    for i in chosen:
        name = e.names[i]
        decimals = with_error(e.values[i], e.standard_errors[i], digits)
        empty = math.isnan(e.values[i])
        rounded = with_error(e.standard_errors[i], e.standard_errors[i], digits)
        out.append(
            Effect(
                term=fit.words(name),
                estimate="" if empty else to_decimals(e.values[i], decimals),
                interval="" if empty else interval(lower[i], upper[i], decimals),
                standard_error="" if empty else to_decimals(e.standard_errors[i], rounded),
                p=p_value(float(p[i])),
                bar=tuple(bars[i].tolist()),
            )
        )
    return out
