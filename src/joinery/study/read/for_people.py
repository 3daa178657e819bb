"""The fitted equation for reading, with digits enough to be computed by hand."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np

from joinery.data.any_table import records
from joinery.data.written_dates import stamps_of
from joinery.design.factors import CategoryFactor, Factor
from joinery.design.terms import DesignTerm
from joinery.notation.context import Context
from joinery.notation.tree import Call, Name, Number
from joinery.notation.walk import lags_in, names_in_own_row
from joinery.show.forms import latex_text
from joinery.show.numbers import MINUS, decimals_for, fixed, scientific, with_error
from joinery.study.fitted import Fitted
from joinery.study.read.estimates import estimates
from joinery.study.read.forecast_formula import offset_expressions

EQUATION_ERROR = 0.01  # of the residual SD: how far the rounded equation may lie from the forecast
SIZE_PLACES = 65  # of a column's range at which a factor's size is looked for
FAR_ROW = 10.0  # standard deviations: no row of a few thousand lies farther out


def equation_for_people(fit: Fitted, style: str = "text") -> str:
    """Return the equation as text or LaTeX: intercept first, each coefficient with its term."""
    latex = style == "latex"
    if latex:
        minus = "-"
    else:
        minus = MINUS
    body = ""
    for negative, piece in _pieces(fit, latex):
        if body:
            body += f" {minus} " if negative else " + "
        elif negative:
            body += minus
        body += piece
    name = fit.words(fit.response.name if fit.estimate.linear else linked(fit))
    if latex:
        left = r"\widehat{\text{" + latex_text(name) + "}}"
    else:
        left = name
    for offset in offset_expressions(fit):
        words = fit.words(str(offset))
        if not isinstance(offset, (Name, Call, Number)):
            words = f"({words})"
        body += " + " + (r"\text{" + latex_text(words) + "}" if latex else words)
    return f"{left} = {body or '0'}"


def _pieces(fit: Fitted, latex: bool) -> Iterator[tuple[bool, str]]:
    """Yield each coefficient's sign (True for minus), and its size with its term."""
    e = estimates(fit)
    allowed = _allowed(fit)
    for place, (name, value, error) in enumerate(zip(e.names, e.values, e.standard_errors)):
        if np.isnan(value):
            continue
        size = _rounded(abs(value), error, allowed[place])
        if name == "intercept":
            words = ""
        else:
            words = _term(fit, name)
        if ": " in name:
            words = f"({words})"
        if latex:
            size = latex_text(size)
            if words:
                words = r"\,\text{" + latex_text(words) + "}"
            else:
                words = ""
        elif words:
            words = f" {words}"
        yield value < 0 and any(c in "123456789" for c in size), size + words


def _rounded(size: float, error: float, allowed: float) -> str:
    """Return a size to the digits that its standard error allows, or more where the sum needs
    them."""
    needed = 0
    if 0 < allowed < math.inf:
        needed = math.ceil(-math.log10(2 * allowed))  # half a unit of the last decimal
    shown = with_error(size, error)
    if shown is None or decimals_for(size, 1) is None:
        if size:
            first = math.floor(math.log10(size))
        else:
            first = 0
        return scientific(size, max(first + needed + 1, 3))
    return fixed(size, max(shown, needed))


def _allowed(fit: Fitted) -> np.ndarray:
    """Return by how much each coefficient may be rounded, the intercept first: (coefficients,).

    All together move no row by more than ``EQUATION_ERROR`` of the residual SD. Of a
    category's columns one counts at a time.
    """
    terms = fit.design.terms
    share = EQUATION_ERROR * _unit(fit) / (len(terms) + 1)
    if fit.solution.has_intercept:
        allowed = [share]
    else:
        allowed = []
    reach = _reach(fit)
    for term in terms:
        result = reach[term.columns]
        together = max(len(result) // max(len(term.cells), 1), 1)
        with np.errstate(divide="ignore"):
            allowed += list(share / together / result)
    return np.array(allowed)


def _unit(fit: Fitted) -> float:
    """Return the residual SD, on the scale of the link; of a perfect fit a speck of the response's
    SD."""
    if fit.estimate.linear:
        n = max(fit.n_rows - 1, 1)
        spread = math.sqrt(fit.solution.tss / n) * fit.solution.unit
        size = fit.residual_sd or 0.0
        if fit.asides.weights is not None:  # of a row of the usual weight
            size /= math.sqrt(fit.solution.weight_sum / fit.n_rows)
        return max(size, 1e-6 * spread)
    eta = np.array([fit.solution.mean_response])
    with np.errstate(all="ignore"):
        mu, slope = fit.link.mu(eta), fit.link.slope(eta)
        sd = np.sqrt(fit.family.variance(mu) * (fit.estimate.dispersion or 1.0))
        unit = float((sd / np.abs(slope))[0])
    if math.isfinite(unit) and unit > 0:
        return unit
    return 1.0


def _reach(fit: Fitted) -> np.ndarray:
    """Return the greatest size of each column of the design over the seen rows, or a bound of
    it."""
    solution, out = fit.solution, np.zeros(fit.design.width)
    out[solution.kept] = np.abs(solution.centre) + FAR_ROW * solution.spread
    for term in fit.design.terms:
        parts = [_size(fit, factor) for factor in term.factors]
        if all(len(part) for part in parts):
            out[term.columns] = _products(term, parts)
    return out


def _products(term: DesignTerm, parts: list[np.ndarray]) -> list[float]:
    """Return the bound of each column of a term: the product of what its factors reach."""
    by_text = {str(f.expression): part for f, part in zip(term.factors, parts, strict=True)}
    out = []
    for recipe in term.recipes:
        sizes = [by_text[str(factor.expression)] for factor, _ in recipe]
        places = [min(piece, len(size) - 1) for (_, piece), size in zip(recipe, sizes)]
        out.append(float(np.prod([size[p] for size, p in zip(sizes, places)])))
    return out


def _size(fit: Fitted, factor: Factor) -> np.ndarray:
    """Return the greatest size of each column of a factor; empty where its ranges do not tell."""
    if isinstance(factor, CategoryFactor):
        return np.array([max(1.0, len(factor.levels) - 1.0)])  # Helmert's coding has the largest
    names = {n.name for n in names_in_own_row(factor.expression)}
    if len(names) != 1 or not names <= set(fit.design.seen) or any(lags_in(factor.expression)):
        return np.empty(0)
    name = names.pop()
    at = np.linspace(*fit.design.seen[name], SIZE_PLACES)
    table = records({name: stamps_of(at) if name in fit.design.dates else at})
    context: Context = fit.design.context(table, np.arange(SIZE_PLACES))
    with np.errstate(all="ignore"):
        sizes = np.abs(factor.columns(context)).max(axis=0)
    return np.asarray(sizes if np.isfinite(sizes).all() else np.empty(0))


def _term(fit: Fitted, name: str) -> str:
    """Return a coefficient's term; what is centred is written out, so that it can be computed."""
    for text, learnt in fit.design.function_memory.items():
        if text in name and set(learnt) <= {"mean", "sd"}:
            name = name.replace(text, _less_mean(fit, text, learnt))
    return fit.words(name)


def _less_mean(fit: Fitted, text: str, learnt: dict[str, float]) -> str:
    """Return ``centred(x)`` as ``(x − 2021.34)``, ``standardized(x)`` as ``((x − 2021.34) /
    1.21)``."""
    inside = fit.words(text[text.index("(") + 1 : -1])
    mean = learnt["mean"]
    if mean < 0:
        sign = f"+ {_exact(-mean)}"
    else:
        sign = f"{MINUS} {_exact(mean)}"
    centred = f"({inside} {sign})"
    if "sd" in learnt:
        return f"({centred} / {_exact(learnt['sd'])})"
    return centred


def _exact(number: float) -> str:
    """Return a number to nine digits, so that nothing is lost where it is taken from one like
    it."""
    return f"{number:.9g}"


def linked(fit: Fitted) -> str:
    """Return the left side under a link: ``logit(share of survived of colonies)``."""
    mean = {"of": f"share {fit.response.name}", "per": f"mean {fit.response.expression}"}
    what = mean.get(fit.response.kind, f"mean {fit.response.name}")
    if fit.response.kind == "plain" and fit.family.shares:
        what = f"chance of {fit.response.name}"
    if fit.link.name == "identity":
        return what
    return f"{fit.link.name}({what})"
