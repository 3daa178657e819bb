"""The ANOVA table: what each term explains beyond the terms it is adjusted for."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from joinery.core.inference.effect_sizes import eta2_ends, omega2, partial_eta2
from joinery.core.inference.hypotheses import explained
from joinery.core.numeric import distributions as tails
from joinery.show.appearance import Appearance
from joinery.show.numbers import level_words
from joinery.show.table import Table
from joinery.study.check.straight import lack_of_fit
from joinery.study.compare.adjusting import (
    AFTER,
    ASKS,
    DEFAULT,
    OTHER_QUESTIONS,
    adjusted,
    coding_matters,
    term_basis,
)
from joinery.study.compare.deviance import deviance_table
from joinery.study.fitted import Fitted, checked_level
from joinery.study.read.notes import choice_notes, estimate_notes
from joinery.support.errors import CallError, listed, one_of


@dataclass(frozen=True)
class Part:
    """One line: a term, what it is adjusted for, df, sum of squares in unit², F and p."""

    term: str
    adjusted_for: str
    df: int
    ss: float
    f: float = float("nan")
    p: float = float("nan")


def anova(
    fit: Fitted,
    after: str = "lower-order",
    *,
    effect_sizes: bool = False,
    level: float | None = None,
) -> Table:
    """Return the ANOVA table. See ``Fit.anova``."""
    one_of("after", after, AFTER)
    if not fit.estimate.linear:
        if effect_sizes:
            raise CallError(
                "η² and ω² are shares of sums of squares, which belong to the normal family with "
                f"the identity link; {fit.family.name} fits have the fall in deviance",
                argument="effect_sizes",
            )
        return deviance_table(fit, after)
    unit = fit.solution.unit
    lines = [*term_parts(fit, after), *_residual(fit)]
    with np.errstate(all="ignore"):  # infinite where a double cannot hold it
        ss = np.array([part.ss for part in lines]) * unit * unit
    df = np.array([part.df for part in lines])
    with np.errstate(all="ignore"):
        ms = np.where(df > 0, ss / df, np.nan)
        if fit.solution.tss > 0:
            share = np.array([part.ss for part in lines]) / fit.solution.tss
        else:
            share = np.nan * ss
    share[len(fit.design.terms) :] = np.nan
    sizes: dict[str, list[float]] = {}
    notes = list(_notes(fit, after))
    if effect_sizes:
        chosen = fit.level if level is None else checked_level(level)
        sizes = _effect_sizes(fit, lines, chosen)
        notes += _about_sizes(fit, chosen)
    return Table(
        {
            "term": [part.term for part in lines],
            "adjusted_for": [part.adjusted_for for part in lines],
            "df": df,
            "ss": ss,
            "ms": ms,
            "f": [part.f for part in lines],
            "p": [part.p for part in lines],
            "share": share,
            **sizes,
        },
        title=f"What each term explains, after {after}",
        notes=(*choice_notes(fit), *estimate_notes(fit), *notes),
        appearance=Appearance(
            kinds={"f": "own", "ss": "own", "ms": "own"} | dict.fromkeys(sizes, "own"),
            headings={
                "partial_eta2": "partial η²",
                "partial_eta2_lower": "lower",
                "partial_eta2_upper": "upper",
                "omega2": "ω²",
            },
        ),
    )


def _effect_sizes(fit: Fitted, lines: Sequence[Part], level: float) -> dict[str, list[float]]:
    """Return partial η² with its ends and ω² of each term; empty for the other lines."""
    nothing = float("nan")
    columns: dict[str, list[float]] = {
        name: [nothing] * len(lines)
        for name in ("partial_eta2", "partial_eta2_lower", "partial_eta2_upper", "omega2")
    }
    rest, solution = fit.estimate.reference_df, fit.solution
    if not fit.residual_df or solution.rss <= 0 or not np.isfinite(rest):
        return columns
    s2 = solution.rss / fit.residual_df
    for place, line in enumerate(lines[: len(fit.design.terms)]):
        if not line.df:
            continue
        f = line.ss / line.df / s2
        columns["partial_eta2"][place] = partial_eta2(f, line.df, rest)
        columns["omega2"][place] = omega2(line.ss, line.df, s2, solution.tss)
        if fit.sandwich is None:
            ends = eta2_ends(f, line.df, rest, level)
            columns["partial_eta2_lower"][place], columns["partial_eta2_upper"][place] = ends
    return columns


def _about_sizes(fit: Fitted, level: float) -> Iterator[str]:
    yield (
        "partial η²: the term's sum of squares over itself and the residual one, with its "
        f"{level_words(level)} interval (noncentral F); ω²: the share of the total less what "
        "chance gives a term"
    )
    if fit.sandwich is not None:
        yield "no interval of η²: the noncentral F takes the spread to be even"


def term_parts(fit: Fitted, after: str) -> Iterator[Part]:
    """Yield a line for each term."""
    basis = term_basis(fit, after)
    solution, terms = basis.solution, fit.design.terms
    if fit.estimate.scale is None:
        s2 = np.nan
    else:
        s2 = (fit.estimate.scale / solution.unit) ** 2
    if solution.rss <= 0 and not fit.estimate.known:
        s2 = np.nan
    for (place, term), before in zip(enumerate(terms), adjusted(terms, after), strict=True):
        result, earlier = basis.places(place), basis.joined(before)
        ss, df = explained(solution, earlier, result)
        if df and s2 > 0:
            f = ss / df / s2
        else:
            f = float("nan")
        df2, p = fit.estimate.reference_df, float("nan")
        if fit.sandwich is not None:
            f = float("nan")
            if after != "earlier" and df:
                joint = basis.wald(fit, before, [place])
                f, p = joint.f, joint.p
        elif np.isfinite(f) and df2 > 0:
            p = float(tails.f_upper(f, df, df2))
        names = [terms[j].text for j in before]
        words = listed(names, 4) or ("intercept" if solution.spans_constant else "nothing")
        yield Part(term.text, words, df, ss, f, p)


def _residual(fit: Fitted) -> Iterator[Part]:
    """Yield the residual line, and what of it is lack of fit where rows with equal predictors
    repeat."""
    solution = fit.solution
    yield Part("residual", "", fit.residual_df, solution.rss)
    if fit.origin is None or solution.perfect or not fit.residual_df:
        return
    test = lack_of_fit(fit)
    if np.isfinite(test.statistic):
        df1, df2 = (int(v) for v in test.df)
        within = solution.rss / (1 + test.statistic * df1 / df2)
        yield Part("lack of fit", "all terms", df1, solution.rss - within, test.statistic, test.p)
        yield Part("within repeats", "", df2, within)


def _notes(fit: Fitted, after: str) -> Iterator[str]:
    yield ASKS[after]
    yield "share: the term's sum of squares over the total"
    if after == DEFAULT and len(fit.design.terms) > 1:
        yield OTHER_QUESTIONS
    if fit.sandwich is not None:
        yield (
            "with the chosen covariance there is no F after earlier: "
            "use after='lower-order' or 'others'"
            if after == "earlier"
            else "F is Wald's over its df, from the chosen covariance; "
            "sums of squares are the plain ones"
        )
    elif fit.residual_df:
        yield "F is a mean square over the residual one of the whole model"
    if after == "others":
        if coding_matters(fit.design):
            yield (
                "categories are coded to sum to zero, so that a main effect is its mean over the "
                "other's levels"
            )
        numeric = [
            t.text
            for t in fit.design.terms
            if len(t.factors) > 1 and len(t.categories) < len(t.factors)
        ]
        if numeric:
            yield (
                f"in {listed(numeric, 3)} a number takes part: the lines of its parts depend on "
                "where its zero lies"
            )
    kept = fit.solution.kept
    lost = [
        t.text for t in fit.design.terms if not np.any((kept >= t.start) & (kept < t.columns.stop))
    ]
    if lost:
        yield f"{listed(lost)}: nothing of its own is left to test, as other terms say the same"
