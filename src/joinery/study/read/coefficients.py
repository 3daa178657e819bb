"""The coefficients: estimates, how sure each is, and what it is worth beside the others."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from joinery.core.glm.links import LINKS
from joinery.core.inference import intervals
from joinery.core.numeric import distributions as tails
from joinery.show.appearance import Appearance
from joinery.show.numbers import level_words, value
from joinery.show.table import Table
from joinery.study.fitted import Fitted, checked_level
from joinery.study.read.estimates import Estimates, estimates, statistic_name, t_values
from joinery.study.read.notes import choice_notes, estimate_notes
from joinery.support.errors import CallError, listed


def p_values(e: Estimates, t: np.ndarray | None = None) -> np.ndarray:
    """Return two-sided p of each t; NaN where there is none."""
    if t is None:
        t = t_values(e)
    return np.asarray(tails.t_two_sided(t, np.where(e.df > 0, e.df, np.nan)))


def coefficients(
    fit: Fitted,
    level: float | None = None,
    *,
    standardized: bool = False,
    ratios: bool = False,
    profile: bool = False,
) -> Table:
    """Return the coefficients table. See ``Fit.coefficients``."""
    if level is None:
        level = fit.level
    else:
        level = checked_level(level)
    e = estimates(fit)
    lower, upper = intervals.around(e.values, e.standard_errors, e.df, level)
    notes: list[str] = []
    t = t_values(e)
    if profile:
        from joinery.study.read.profile import profiled

        result = profiled(fit, level)
        lower, upper, t = result.lower, result.upper, result.roots
        notes += result.notes
    columns: dict[str, Any] = {
        "term": list(e.names),
        "estimate": e.values,
        "lower": lower,
        "upper": upper,
        "standard_error": e.standard_errors,
        statistic_name(fit): t,
        "p": p_values(e, t),
    }
    if ratios:
        name, meaning = ratio_words(fit)
        with np.errstate(over="ignore"):
            columns |= {
                name: np.exp(e.values),
                f"{name}_lower": np.exp(lower),
                f"{name}_upper": np.exp(upper),
            }
        notes.append(meaning)
    if standardized:
        columns["standardized"] = e.values * standard_units(fit)
        notes += standardized_notes(fit)
    kinds = dict.fromkeys(("estimate", "lower", "upper", "standard_error"), "error")
    return Table(
        columns,
        title=f"Coefficients, with {level_words(level)} intervals",
        notes=(*estimate_notes(fit), *error_notes(fit), *notes),
        appearance=Appearance(
            kinds=kinds | dict.fromkeys([c for c in columns if "ratio" in c], "own")
        ),
    )


# a column's name, and what its figures mean
RATIO_WORDS = {
    "odds": (
        "odds_ratio",
        "odds ratio: how many times the odds are as high for one unit more (exp of the estimate)",
    ),
    "rate": (
        "rate_ratio",
        "rate ratio: how many times the expected count is as high for one unit more",
    ),
    "mean": (
        "mean_ratio",
        "mean ratio: how many times the mean is as high for one unit more (exp of the estimate)",
    ),
    "hazard": (
        "hazard_ratio",
        "hazard ratio: how many times the hazard is as high for one unit more",
    ),
}


def ratio_of_differences(fit: Fitted) -> str:
    """Return what exp of a difference on the model's scale is a ratio of; empty where it is
    none."""
    if fit.link.name == "identity" and (inside := fit.response.inside_log):
        return f"medians of {fit.words(inside)}"
    if fit.link.ratio in ("mean", "odds"):
        return ratio_words(fit)[0].replace("_", " ")
    return ""


def ratio_words(fit: Fitted) -> tuple[str, str]:
    """Return what exp of a coefficient is called, and what it means.

    Raises CallError where it means nothing.
    """
    kind = fit.link.ratio
    if kind == "mean" and fit.family.discrete and not fit.family.shares:
        kind = "rate"
    if kind:
        return RATIO_WORDS[kind]
    inside = fit.response.inside_log
    if fit.link.name == "identity" and inside:
        return (
            "median_ratio",
            f"median ratio: how many times the median of {inside} is as high for one unit more",
        )
    raise CallError(
        f"exp of a coefficient means nothing under the {fit.link.name} link: ratios belong to "
        f"{listed([link.name for link in LINKS.values() if link.ratio])}",
        argument="ratios",
    )


def error_notes(fit: Fitted) -> tuple[str, ...]:
    """Return which standard errors these are, unless they are the plain ones.

    Before that how the fit came about, where its rows had a say in it."""
    return (*choice_notes(fit), *_sandwich_notes(fit))


def _sandwich_notes(fit: Fitted) -> tuple[str, ...]:
    chosen = fit.sandwich
    if chosen is None:
        return ()
    blind: tuple[str, ...] = ()
    if np.isnan(chosen.errors(fit.solution.root)).any():
        blind = (
            "where a coefficient rests on one row or cluster alone, nothing tells how sure it is: "
            "no standard error",
        )
    if chosen.kind == "clustered":
        columns = fit.options.cluster
        counts = " and ".join(
            f"{n} clusters of {c}" for n, c in zip(chosen.clusters, columns, strict=False)
        )
        if chosen.clipped:
            clipped = "; crossing them left negative variances, which were set to zero"
        else:
            clipped = ""
        return (
            f"standard errors are clustered: {counts} (CR2, Bell–McCaffrey degrees of "
            f"freedom){clipped}",
            *blind,
        )
    if chosen.kind == "autocorrelated":
        return (
            "standard errors allow for neighbouring rows to be alike "
            f"({chosen.cosines} equally weighted cosines, t with as many degrees of freedom)",
            *blind,
        )
    method = "HC2, each with its own Bell–McCaffrey degrees of freedom"
    if chosen.kind != "robust":
        method = chosen.kind.upper()
    return (f"standard errors are robust to uneven spread ({method})", *blind)


def standardized_notes(fit: Fitted) -> Iterator[str]:
    """Yield what a standardized coefficient is of a number, and of a level."""
    if fit.estimate.linear:
        yield "standardized: SDs of the response per SD of the term's column"
    else:
        yield "standardized: change of the linear predictor per SD of the term's column"
    if any(term.categories for term in fit.design.terms):
        sd = float(np.sqrt(fit.solution.tss / max(fit.n_rows - 1, 1))) * fit.solution.unit
        way = f"; in SDs of the response a level differs by its estimate over {value(sd)}"
        yield (
            "a level's column is 0 or 1, and the rarer the level the smaller its SD"
            + (way if fit.estimate.linear else "")
        )


def standard_units(fit: Fitted) -> np.ndarray:
    """Return sd(design column)/sd(response) of each coefficient; NaN for the intercept."""
    solution = fit.solution
    out = np.full(fit.design.width + solution.has_intercept, np.nan)
    if not fit.estimate.linear:  # there is no response to be in units of: sd of the term alone
        out[solution.kept + solution.has_intercept] = solution.spread
    elif solution.tss > 0:
        size = solution.lengths / solution.unit / np.sqrt(solution.tss)
        out[solution.kept + solution.has_intercept] = size
    return out
