"""Checks of fits under other families than the normal."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import partial
from typing import TypeVar

import numpy as np

from joinery.core.glm.families import FAMILIES
from joinery.core.glm.rows import LikelihoodRows
from joinery.core.inference.diagnostics import NOTHING, Test
from joinery.core.inference.normality import NORMAL_ROWS, Moments, normality
from joinery.core.numeric import distributions as tails
from joinery.design.glm_blocks import WorkingRows
from joinery.show.numbers import count, figure, percent
from joinery.study.check.check import Line, not_judged
from joinery.study.check.facts import data
from joinery.study.check.order import order
from joinery.study.check.overlap import overlap
from joinery.study.check.products import products
from joinery.study.check.rate import EVIDENCE
from joinery.study.check.single_rows import badly_fitted, decides
from joinery.study.check.straight import straight
from joinery.study.check.unused import unused
from joinery.study.fitted import Fitted, working_rows
from joinery.study.rows.chances import groups
from joinery.study.rows.digest import curvature
from joinery.study.rows.figures import figures_in_pieces, widening
from joinery.study.rows.glm_figures import each_repeat_drawn, has_quantiles
from joinery.study.rows.per_row import PerRow
from joinery.study.sampled import fit_to_part, has_more_rows
from joinery.study.verdicts import NOT_JUDGED, SERIOUS
from joinery.support import advice as say
from joinery.support.errors import JoineryError, listed

Found = TypeVar("Found")
SMALL_COUNT, MOST_SMALL = 5.0, 0.2
# rows that tell which link fits best: one whose means the rows leave takes many passes
LINK_ROWS = 20_000
SPREAD, LINK, CALIBRATED = (
    "Is the spread what the family says?",
    "Is the link right?",
    "Are the fitted means right?",
)
ZEROS, SHAPE, SEPARATED = (
    "Are there as many zeros as expected?",
    "Is the family right?",
    "Are the estimates finite?",
)


SEE_SPREAD = "the spread is wider than the family's: see there"
SEE_PEARSON = "by Pearson's χ²: the law of the deviance is rough where counts are small"


def family_checks() -> tuple[Callable[[Fitted], Iterator[Line]], ...]:
    """Return every check that suits other families, in the order of the questions."""
    return (
        data,
        separation,
        straight,
        products,
        link,
        spread,
        zeros,
        fitted_means,
        unused,
        order,
        overlap,
        badly_fitted,
        decides,
    )


def family_shape_checks() -> tuple[Callable[[Fitted], Iterator[Line]], ...]:
    """Return those that one bad row misleads, and that a part of a long table answers."""
    return (straight, products, link, fitted_means, unused)


def fitted_means(fit: Fitted) -> Iterator[Line]:
    """Yield calibration, and the shape of quantile residuals."""
    for line in (*calibration(fit), *shape(fit)):
        # a spread wider than the family's shows in each of these: one cause, one remark
        if widening(fit) != 1 and line.test.p < EVIDENCE:
            yield replace(line, verdict=NOT_JUDGED, tested=False, advice=SEE_SPREAD, advise=None)
        else:
            yield line


def separation(fit: Fitted) -> Iterator[Line]:
    """Yield the terms whose coefficients grow without end."""
    if fit.estimate.running:
        names = ("intercept", *fit.design.names)
        words = f"{listed(names[j] for j in fit.estimate.running)} separates the response"
        if fit.family.penalties:
            advice = f"try {say.change(penalty='firth')}"
        else:
            advice = "leave the term out, or join levels"
        yield Line(
            "separation",
            "separation",
            SEPARATED,
            "separation",
            NOTHING,
            finding=words,
            verdict=SERIOUS,
            advice=advice,
            tested=False,
        )


def link(fit: Fitted) -> Iterator[Line]:
    """Yield the square of η added to the model (Pregibon 1980; Tukey 1949)."""
    solution, sums = fit.solution, curvature(fit)
    if fit.residual_df < 2 or sums.low[-1] == sums.high[-1] or solution.rank <= 1:
        return
    zz, uz = float(sums.squares[-1]), solution.sums_in_basis(sums.raw[:, -1:])[:, 0]
    left = zz - float(uz @ uz)
    if left <= 1e-10 * zz:
        return
    ze = float(sums.products[-1]) * solution.unit
    z = ze / np.sqrt(left) / np.sqrt(fit.estimate.dispersion or np.nan) / widening(fit)
    test = Test(
        float(z),
        float(tails.t_two_sided(z, fit.estimate.reference_df)),
        (),
        z * z / max(fit.n_rows, 1),
    )
    yield Line(
        "link",
        "link",
        LINK,
        "square of the linear predictor (Pregibon)",
        test,
        finding="the link or a curve is amiss",
        advise=partial(_better_link, fit),
        small=0.003,
        large=0.1,
    )


def _better_link(fit: Fitted) -> str:
    """Return the link that fits best among those the family takes, where one fits better."""
    rows = fit.n_rows
    if has_more_rows(fit, LINK_ROWS):
        fit, _ = fit_to_part(fit, LINK_ROWS)
    best, deviance = fit.link.name, fit.estimate.deviance
    for name in fit.family.links:
        if name == fit.link.name or fit.origin is None:
            continue
        try:
            other = fit.origin.refit(options=replace(fit.options, link=name))
        except JoineryError:  # a link whose means the rows leave has no fit
            continue
        if other.estimate.converged and other.estimate.deviance < deviance:
            best, deviance = name, other.estimate.deviance
    if best == fit.link.name:
        return "no other link fits better: try a curve in a predictor"
    fall = f"{figure(fit.estimate.deviance, 3)} to {figure(deviance, 3)}"
    words = f"{say.change(link=best)} takes the deviance from {fall}"
    if fit.n_rows < rows:
        words += f" in {fit.n_rows:,} of the rows"
    return words


def _grouped(fit: Fitted) -> bool:
    """Return True if the deviance has a law: rows of totals, or counts that are not small."""
    if fit.family.shares:
        return fit.design.sentence.response.kind == "of"
    return fit.family.discrete


def spread(fit: Fitted) -> Iterator[Line]:
    """Yield Pearson's χ² and the deviance against their df, where the dispersion is known."""
    if not fit.estimate.known or not fit.family.discrete:
        return
    if not _grouped(fit):
        why = "single yes and no rows say nothing of their spread; see the calibration"
        yield not_judged("dispersion", "spread", SPREAD, "dispersion", why)
        return
    df = fit.residual_df
    if df < 1:
        yield not_judged(
            "dispersion", "spread", SPREAD, "dispersion", "no degrees of freedom are left"
        )
        return
    yield _against_df(fit, "Pearson's χ²", fit.estimate.pearson, df)
    deviance = _against_df(fit, "deviance", fit.estimate.deviance, df)
    yield replace(deviance, verdict=NOT_JUDGED, tested=False, advice=SEE_PEARSON, advise=None)


def _against_df(fit: Fitted, name: str, value: float, df: int) -> Line:
    """Return a sum that has df as its mean under the family, judged by χ² in both tails."""
    size = value / df / (fit.estimate.dispersion or np.nan)
    upper = float(tails.chi2_upper(size * df, df))
    both = min(1.0, 2 * min(upper, 1 - upper))
    words = f"the spread is {figure(size, 2)} times what the {fit.family.name} family says"
    if size > 1:
        kind, advise = "overdispersion", partial(_wider, fit, size)
    else:
        kind, advise = "underdispersion", partial(_narrower, fit)
    away = max(size, 1 / size) if size > 0 else np.inf
    return Line(
        "dispersion",
        "spread",
        SPREAD,
        f"{name} over {df:,} df, both tails",
        Test(size, both, (), away),
        finding=f"{words} ({kind})",
        advise=advise,
        small=1.2,
        large=2.0,
    )


def _wider(fit: Fitted, size: float) -> str:
    rough, small = "", _share_of_small(fit)
    if small > MOST_SMALL:
        rough = f" ({percent(small)} of expected counts are below 5, so this p is rough)"
    shaped = [name for name, f in FAMILIES.items() if f.limit == fit.family.name]
    ways = [say.change(dispersion="estimated")] * fit.family.quasi
    ways += [say.change(family=name) for name in shaped]
    if not ways:
        return f"the spread is {figure(size, 2)} times what the family says{rough}"
    return f"try {' or '.join(ways)}{rough}"


def _narrower(fit: Fitted) -> str:
    if fit.family.quasi:
        return f"standard errors are too wide: try {say.change(dispersion='estimated')}"
    return "standard errors are too wide"


def _share_of_small(fit: Fitted) -> float:
    """Return the share of rows whose expected counts (of both kinds, for shares) are below five."""

    def of_part(part: LikelihoodRows, mu: np.ndarray) -> int:
        if part.trials is None:
            expected = mu
        else:
            expected = part.trials * np.minimum(mu, 1 - mu)
        return int(part.times[expected < SMALL_COUNT].sum())

    return sum(_over_means(fit, of_part)) / max(fit.n_rows, 1)


def _over_means(
    fit: Fitted, work: Callable[[LikelihoodRows, np.ndarray], Found]
) -> Iterator[Found]:
    """Return what ``work`` finds in the rows of each block and their fitted means."""
    rows = working_rows(fit)
    assert isinstance(rows, WorkingRows)
    return rows.states.each(lambda made: work(made[1], made[2].mu))


def calibration(fit: Fitted) -> Iterator[Line]:
    """Yield observed against expected events in ten groups of probability (Hosmer & Lemeshow
    1980)."""
    if not fit.family.shares:
        return
    observed, expected, variance, _ = groups(fit)
    if len(observed) < 4:
        yield not_judged(
            "calibration",
            "calibration",
            CALIBRATED,
            "calibration by groups",
            "too few rows for groups",
        )
        return
    with np.errstate(all="ignore"):
        statistic = float(np.nansum((observed - expected) ** 2 / variance)) / (
            fit.estimate.dispersion or 1.0
        )
    df = len(observed) - 2
    p = float(tails.chi2_upper(statistic, df))
    worst = int(np.argmax(np.abs(observed - expected) / np.sqrt(variance)))
    seen, meant = figure(observed[worst], 3), figure(expected[worst], 3)
    words = f"group {worst + 1} of {len(observed)} by fitted chance: {seen} seen, {meant} expected"
    curves = say.ask("draw", "component_residual")
    yield Line(
        "calibration",
        "calibration",
        CALIBRATED,
        f"calibration in {len(observed)} groups (χ², {df} df)",
        Test(statistic, p, (), statistic / df),
        finding=words,
        advise=lambda: f"a curve or a product may be missing: see {curves}",
        small=1.5,
        large=3.0,
    )


def zeros(fit: Fitted) -> Iterator[Line]:
    """Yield zero counts seen against those expected."""
    if not fit.family.discrete or fit.family.shares or not fit.estimate.law:
        return

    def of_part(part: LikelihoodRows, mu: np.ndarray) -> np.ndarray:
        times, none = part.times, np.zeros(len(mu))
        chance = fit.family.cdf(none, mu, trials=None, spread=np.ones(len(none)))
        seen = times[part.y == 0].sum()
        return np.array([seen, times @ chance, times @ (chance * (1 - chance))])

    seen, expected, variance = np.add.reduce(list(_over_means(fit, of_part))).tolist()
    sd = float(np.sqrt(variance))
    if sd <= 0 or (expected < 1 and seen == 0):
        return
    z = (seen - expected) / sd
    p = float(tails.t_two_sided(z, np.inf))
    words = f"{count(int(seen), 'row is', 'rows are')} zero, {figure(expected, 3)} expected"
    shaped = say.change(family="negative-binomial")
    yield Line(
        "zeros",
        "zeros",
        ZEROS,
        f"zeros: {seen:.0f} seen, {figure(expected, 3)} expected",
        Test(z, p, (), abs(seen - expected) / max(fit.n_rows, 1)),
        finding=words,
        advise=lambda: f"try {shaped}, or ask what makes the zeros",
        small=0.01,
        large=0.1,
    )


def shape(fit: Fitted) -> Iterator[Line]:
    """Yield the shape of quantile residuals, normal when the family is right (Dunn & Smyth
    1996)."""
    if not has_quantiles(fit.estimate):
        return

    def of_rows(figures: PerRow) -> tuple[np.ndarray, np.ndarray]:
        q = figures.extras["quantile_residual"]
        here = np.isfinite(q)
        return q[here], figures.times[here]

    parts = figures_in_pieces(fit).map(of_rows)
    if fit.asides.repeats is not None and fit.family.discrete:
        parts = each_repeat_drawn(fit)
    moments = Moments.over(parts)
    few = fit.n_rows <= NORMAL_ROWS
    name, test = normality(moments, *(next(iter(parts)) if few else (None, None)))
    if not np.isfinite(test.statistic):
        return
    yield Line(
        "family",
        "family",
        SHAPE,
        f"quantile residuals, {name}",
        test,
        finding="quantile residuals are not normal",
        advise=lambda: (
            f"the family may be wrong: look at {say.ask('draw', 'quantiles')}, and try another"
        ),
        small=0.25,
        large=1.5,
    )
