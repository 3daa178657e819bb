"""The workings of several predictors and of other families: from the normal equations."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from joinery.core.blocks.partition import joined
from joinery.show.appearance import Appearance
from joinery.show.mathematics import Formula, root, symbol
from joinery.show.numbers import figure
from joinery.show.table import Table
from joinery.study.fitted import Fitted, response_rows
from joinery.study.read.estimates import estimates
from joinery.study.rows.figures import per_row
from joinery.study.understand.worked import (
    MOST_COLUMNS,
    SHOWN,
    Step,
    Workings,
    about,
    critical_t,
    estimated_columns,
    estimated_names,
    products,
    steps_of_the_whole,
    tested,
    weight_notes,
    with_sums,
)
from joinery.support.errors import CallError


def several(fit: Fitted) -> Workings:
    """Return the normal equations, their solution, and the same steps from them."""
    names = estimated_names(fit)
    if len(names) > MOST_COLUMNS:
        raise CallError(
            f"the normal equations of {len(names)} coefficients fill pages; work out a model of at "
            f"most {MOST_COLUMNS}"
        )
    e, sums = estimates(fit), products(fit)
    keep = np.isfinite(e.values)
    values, errors = e.values[keep], e.standard_errors[keep]
    G, g = sums.columns, sums.with_response
    C = np.linalg.inv(G)
    table = _normal_equations(names, G, g, C, values)
    if sums.plain:
        weighted = ""
    else:
        weighted = "w"
    yy = symbol(f"Σ{weighted}y²", sums.response_squared)
    rss = float(fit.estimate.deviance)
    explained: Formula | None = None
    for j, name in enumerate(names):
        part = symbol(f"b[{name}]", values[j]) * symbol(f"Σ{weighted}xy[{name}]", g[j])
        if explained is None:
            explained = part
        else:
            explained = explained + part
    assert explained is not None
    n, p = fit.n_rows, len(names)
    df = symbol("n − p", n - p)
    sse, s2 = symbol("SSE", rss), symbol("s²", rss / (n - p))
    s, t = symbol("s", np.sqrt(rss / (n - p))), critical_t(fit)
    steps = [
        Step("residual sum of squares", "SSE", yy - explained, rss),
        Step("residual mean square", "s²", sse / df, s2.value),
        Step("residual SD", "s", root(s2), s.value),
        Step("critical t", "t*", t, t.value),
    ]
    for j, name in enumerate(names):
        b, se = symbol(f"b[{name}]", values[j]), symbol(f"se[{name}]", errors[j])
        c = symbol(f"c[{name}]", C[j, j])
        steps.append(Step(f"standard error of {name}", se.name, s * root(c), errors[j]))
        steps += tested(name, b.name, b, se, n - p) + about(name, b.name, b, se, t)
    if fit.solution.has_intercept:
        total = symbol(f"Σ{weighted}y", sums.response)
        size = symbol("Σw" if weighted else "n", sums.weights)
        sst = sums.around_mean
        steps.append(Step("total sum of squares", "SST", yy - total.squared / size, sst))
        if p > 1:
            of_all, ssr = symbol("SST", sst), symbol("SSR", sst - rss)
            steps.append(Step("explained sum of squares", "SSR", of_all - sse, ssr.value))
            between = symbol("p − 1", p - 1)
            steps += steps_of_the_whole(fit, ssr, sse, of_all, s2, between, df)
    notes = (
        "c: the diagonal of the inverse of the left side of the normal equations",
        *weight_notes(fit),
    )
    return Workings(f"{fit.sentence}, worked out", table, tuple(steps), notes)


def _normal_equations(
    names: Sequence[str], G: np.ndarray, g: np.ndarray, C: np.ndarray, b: np.ndarray
) -> Table:
    columns = {f"Σ x·{name}": G[:, j] for j, name in enumerate(names)}
    columns |= {"Σ x·y": g, "solution b": b, "c": np.diag(C)}
    return Table(
        columns,
        title="The normal equations: a row for each x, and their solution",
        index=list(names),
        index_name="x",
        appearance=Appearance(
            kinds=dict.fromkeys(columns, "own"),
            headings={name: name for name in columns},
            digits=SHOWN,
        ),
    )


def reweighted(fit: Fitted) -> Workings:
    """Return the last iteration: working weights and response, and how χ² or F comes about."""
    if fit.design.width + 1 > MOST_COLUMNS or fit.estimate.penalty:
        raise CallError(
            "the workings of other families are for plain fits of at most "
            f"{MOST_COLUMNS} coefficients"
        )
    figures = per_row(fit)
    eta = figures.terms
    blocks = response_rows(fit).row_blocks
    offset = joined(blocks, lambda b: np.zeros(len(b.y)) if b.offset is None else b.offset)
    trials = joined(blocks, lambda b: np.ones(len(b.y)) if b.trials is None else b.trials)
    y = joined(blocks, lambda b: b.y)
    prior = joined(blocks, lambda b: b.row_weights) * trials
    mu, slope = fit.link.mu(eta + offset), fit.link.slope(eta + offset)
    with np.errstate(all="ignore"):
        w = prior * slope**2 / fit.family.variance(mu)
        z = eta + (y - mu) / slope
    deviance = prior * fit.family.deviance(y, mu)
    columns = {"y": y, "η": eta, "μ": mu, "weight w": w, "response z": z, "deviance": deviance}
    table = with_sums(fit, columns, "The last iteration: working weights and responses")
    X, names = estimated_columns(fit), estimated_names(fit)
    G, g = X.T @ (w[:, None] * X), X.T @ (w * z)
    C, b = np.linalg.inv(G), np.linalg.solve(G, g)
    e = estimates(fit)
    keep = np.isfinite(e.values)
    phi = float(fit.estimate.dispersion or 1.0)
    steps = [Step("deviance", "D", symbol("Σd", deviance.sum()), float(fit.estimate.deviance))]
    if not fit.estimate.known:
        pearson = symbol("Σ(z − η)²w", float(w @ (z - eta) ** 2))
        df = symbol("n − p", fit.residual_df)
        steps.append(Step("dispersion", "φ", pearson / df, phi))
    for j, name in enumerate(names):
        c, estimate = symbol(f"c[{name}]", C[j, j]), float(e.values[keep][j])
        error = float(e.standard_errors[keep][j])
        be, se = symbol(f"b[{name}]", estimate), symbol(f"se[{name}]", error)
        steps.append(Step(f"standard error of {name}", se.name, root(symbol("φ", phi) * c), error))
        if np.isinf(fit.estimate.reference_df):
            letter = "z"
        else:
            letter = "t"
        steps.append(Step(f"{letter} of {name}", f"{letter}[{name}]", be / se, estimate / error))
    if fit.model_df > 0 and fit.solution.has_intercept:
        d0, d = symbol("D₀", fit.estimate.null_deviance), symbol("D", fit.estimate.deviance)
        fall = fit.estimate.null_deviance - fit.estimate.deviance
        if fit.estimate.known and fit.family.shape is None:
            steps.append(Step("χ² of the model", "χ²", (d0 - d) / symbol("φ", phi), fall / phi))
        elif fit.family.shape is None:
            df1 = symbol("p − 1", fit.model_df)
            f = (d0 - d) / df1 / symbol("φ", phi)
            steps.append(Step("F of the model", "F", f, fall / fit.model_df / phi))
    equations = _normal_equations(names, G, g, C, b)
    notes = (
        "w = prior weight·(dμ/dη)²/V(μ); z = η + (y − μ)/(dμ/dη); weighted least squares of z "
        "gives the coefficients again",
        *(f"{name}: b {figure(v, SHOWN)}, c {figure(k, SHOWN)}"
          for name, v, k in zip(names, equations.columns["solution b"], equations.columns["c"])),
    )  # fmt: skip
    return Workings(f"{fit.sentence}, worked out", table, tuple(steps), notes)
