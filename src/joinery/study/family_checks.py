"""Checks of fits under other families than the normal."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from joinery.core import diagnostics, tails
from joinery.core.diagnostics import Test
from joinery.core.families import FAMILIES
from joinery.core.pieces import joined
from joinery.errors import listed
from joinery.show.numbers import figure, percent
from joinery.study.asked import Asked, response_blocks, row_blocks
from joinery.study.check_lines import Line, cannot
from joinery.study.check_rows import badly_fitted, decides, overlap
from joinery.study.check_shape import straight
from joinery.study.per_row import per_row
from joinery.study.verdicts import FINE, SERIOUS, judged

GROUPS = 10
SMALL_COUNT, MOST_SMALL = 5.0, 0.2
SPREAD, LINK, CALIBRATED = "Is the spread what the family says?", "Is the link right?", "Are the fitted means right?"
ZEROS, SHAPE, SEPARATED = "Are there as many zeros as expected?", "Is the family right?", "Do estimates have an end?"


def family_lines(fit: Asked) -> Iterator[Line]:
    """Every check that suits the family, in the order of the questions."""
    yield from separation(fit)
    yield from straight(fit)
    yield from link(fit)
    yield from spread(fit)
    yield from calibration(fit)
    yield from zeros(fit)
    yield from shape(fit)
    yield from overlap(fit)
    yield from badly_fitted(fit)
    yield from decides(fit)


def separation(fit: Asked) -> Iterator[Line]:
    """Whether coefficients grew without end."""
    if fit.glm.running:
        names = ("intercept", *fit.design.names)
        words = f"{listed(names[j] for j in fit.glm.running)} separates the response"
        advice = (
            'try penalty="firth"' if fit.family in ("binomial", "poisson") else "leave the term out, or join levels"
        )
        found = Test(float("nan"), float("nan"))
        yield Line("separation", SEPARATED, "separation", found, SERIOUS, advice, words)


def link(fit: Asked) -> Iterator[Line]:
    """The square of η added to the model (Pregibon 1980; Tukey 1949)."""
    solution = fit.solution
    eta = joined(row_blocks(fit).whole, lambda b: solution.fitted(b.X))
    if fit.residual_df < 2 or np.ptp(eta) == 0 or fit.solution.rank <= 1:
        return
    middle = float(eta.mean())
    zz, ze, uz = 0.0, 0.0, np.zeros(solution.rank)
    figures = per_row(fit)
    for block in row_blocks(fit).whole:
        own = block.own
        w = np.ones(len(block.y)) if block.weights is None else block.weights
        z = (eta[own] - middle) ** 2
        zz, ze = zz + float(w @ z**2), ze + float((w * z) @ figures.working[own])
        uz += solution.in_basis(block.X).T @ (w * z)
    left = zz - float(uz @ uz)
    if left <= 1e-10 * zz:
        return
    z = ze / np.sqrt(left) / np.sqrt(fit.dispersion or np.nan)
    test = Test(float(z), float(tails.t_two_sided(z, fit.reference_df)), (), z * z / max(fit.n_rows, 1))
    verdict = judged(test.p, test.size, small=0.01, large=0.1)
    others = [name for name in FAMILIES[fit.family].links if name != fit.link][:2]
    advice = "nothing" if verdict == FINE else f"try a curve, or link={' or link='.join(map(repr, others))}"
    check = "square of the linear predictor (Pregibon)"
    yield Line("link", LINK, check, test, verdict, advice, "the link or a curve is amiss")


def _grouped(fit: Asked) -> bool:
    """Whether rows hold enough for the deviance itself to have a law: totals, or counts that are not small."""
    if fit.family in ("binomial", "quasi-binomial"):
        return fit.design.sentence.response.kind == "of"
    return fit.family in ("poisson", "quasi-poisson", "negative-binomial")


def spread(fit: Asked) -> Iterator[Line]:
    """Pearson's χ² and the deviance against their degrees of freedom, where the dispersion is known."""
    if not fit.glm.known:
        return
    if not _grouped(fit):
        why = "single yes and no rows say nothing of their spread; see the calibration"
        yield cannot("spread", SPREAD, "dispersion", why)
        return
    df = fit.residual_df
    if df < 1:
        yield cannot("spread", SPREAD, "dispersion", "no degrees of freedom are left")
        return
    small = _share_of_small(fit)
    for name, value in (("Pearson's χ²", fit.glm.pearson), ("deviance", fit.deviance)):
        size = value / df
        p = float(tails.chi2_upper(value, df))
        verdict = judged(p, size, small=1.2, large=2.0)
        advice = "nothing"
        if verdict != FINE:
            other = "quasi-binomial" if fit.family == "binomial" else "negative-binomial"
            advice = f'the spread is {figure(size, 2)} times what the family says: try family="{other}"'
            if fit.family == "poisson":
                advice += ' or family="quasi-poisson"'
        if small > MOST_SMALL:
            advice += f"; {percent(small)} of expected counts are below 5, so this p is rough"
        words = f"the spread is {figure(size, 2)} times what the {fit.family} family says (overdispersion)"
        yield Line("spread", SPREAD, f"{name} over {df:,} df", Test(size, p), verdict, advice, words)


def _share_of_small(fit: Asked) -> float:
    """The share of rows whose expected counts (of both kinds, for shares) are below five."""
    figures, small = per_row(fit), 0
    for block in response_blocks(fit).whole:
        mu = figures.fitted[block.own]
        expected = mu if block.trials is None else block.trials * np.minimum(mu, 1 - mu)
        small += int(np.sum(expected < SMALL_COUNT))
    return small / max(len(figures.fitted), 1)


def calibration(fit: Asked) -> Iterator[Line]:
    """Observed against expected events in ten groups of fitted probability (Hosmer & Lemeshow 1980)."""
    if fit.family not in ("binomial", "quasi-binomial"):
        return
    observed, expected, variance, _ = groups(fit)
    if len(observed) < 4:
        yield cannot("calibration", CALIBRATED, "calibration by groups", "too few rows for groups")
        return
    with np.errstate(all="ignore"):
        statistic = float(np.nansum((observed - expected) ** 2 / variance)) / (fit.dispersion or 1.0)
    df = len(observed) - 2
    p = float(tails.chi2_upper(statistic, df))
    worst = int(np.argmax(np.abs(observed - expected) / np.sqrt(variance)))
    verdict = judged(p, statistic / df, small=1.5, large=3.0)
    advice = "nothing" if verdict == FINE else "a curve or a product may be missing: see component_residual"
    seen, meant = figure(observed[worst], 3), figure(expected[worst], 3)
    words = f"in group {worst + 1} of {len(observed)} {seen} were seen, {meant} expected"
    check = f"calibration in {len(observed)} groups (χ², {df} df)"
    yield Line("calibration", CALIBRATED, check, Test(statistic, p), verdict, advice, words)


def groups(fit: Asked) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Observed and expected events, their binomial variance, and the trials, in groups of fitted probability."""
    figures = per_row(fit)
    trials = joined(response_blocks(fit).whole, lambda b: np.ones(len(b.y)) if b.trials is None else b.trials)
    order = np.argsort(figures.fitted, kind="stable")
    cut = np.minimum((np.cumsum(trials[order]) - trials[order] / 2) / trials.sum() * GROUPS, GROUPS - 1).astype(int)
    places = np.empty(len(order), int)
    places[order] = cut
    count = min(GROUPS, len(order) // 3)
    if count < GROUPS:
        places = places * count // GROUPS
    mu = figures.fitted
    sums = (figures.observed * trials, mu * trials, mu * (1 - mu) * trials, trials)
    parts = [np.bincount(places, v, minlength=max(count, 1)) for v in sums]
    kept = parts[2] > 0
    return parts[0][kept], parts[1][kept], parts[2][kept], parts[3][kept]


def zeros(fit: Asked) -> Iterator[Line]:
    """Zero counts seen against those expected."""
    if fit.family not in ("poisson", "negative-binomial"):
        return
    figures = per_row(fit)
    k = fit.glm.shape
    with np.errstate(all="ignore"):
        chance = np.exp(-figures.fitted) if k is None or np.isinf(k) else (1 + figures.fitted / k) ** -k
    seen, expected = float(np.sum(figures.observed == 0)), float(chance.sum())
    sd = float(np.sqrt((chance * (1 - chance)).sum()))
    if sd <= 0 or (expected < 1 and seen == 0):
        return
    z = (seen - expected) / sd
    p = float(tails.t_two_sided(z, np.inf))
    verdict = judged(p, abs(seen - expected) / max(len(figures.observed), 1), small=0.02, large=0.15)
    advice = "nothing" if verdict == FINE else 'try family="negative-binomial", or ask what makes the zeros'
    words = f"{seen:.0f} rows are zero, {figure(expected, 3)} expected"
    check = f"zeros: {seen:.0f} seen, {figure(expected, 3)} expected"
    yield Line("zeros", ZEROS, check, Test(z, p), verdict, advice, words)


def shape(fit: Asked) -> Iterator[Line]:
    """The shape of quantile residuals, which are normal when the family is right (Dunn & Smyth 1996)."""
    q = per_row(fit).extras.get("quantile_residual")
    if q is None:
        return
    q = q[np.isfinite(q)]
    name, test = diagnostics.normality(q)
    if not np.isfinite(test.statistic):
        return
    verdict = judged(test.p, test.size, small=0.25, large=1.5)
    advice = "nothing" if verdict == FINE else "the family may be wrong: look at draw('quantiles'), and try another"
    yield Line(
        "family", SHAPE, f"quantile residuals, {name}", test, verdict, advice, "quantile residuals are not normal"
    )
