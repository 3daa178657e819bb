"""The workings of a line: from the sums of squares and products to the forecast."""

from __future__ import annotations

import numpy as np

from joinery.show.mathematics import Formula, root, symbol
from joinery.show.numbers import figure
from joinery.show.table import Table
from joinery.study.fitted import Fitted
from joinery.study.read.estimates import estimates
from joinery.study.rows.figures import per_row
from joinery.study.understand.worked import (
    ONE,
    Step,
    Workings,
    about,
    critical_t,
    steps_of_the_whole,
    tested,
    weighed_response,
    weight_notes,
    with_sums,
)


def one_predictor(fit: Fitted, x: np.ndarray, name: str, at: float | None) -> Workings:
    y, w = weighed_response(fit)
    if np.all(w == 1):
        letter = ""
    else:
        letter = "w"
    figures = per_row(fit)
    e = estimates(fit)
    kept = np.isfinite(e.values)  # columns left out beside have no estimate
    b0v, b1v = e.values[kept].tolist()
    table = _sums_table(fit, x, y, w if letter else None, figures.residual, name)
    n = symbol("Σw" if letter else "n", w.sum())
    sx, sy, sxx, sxy, syy = (
        symbol(f"Σ{letter}{s}", w @ v)
        for s, v in (("x", x), ("y", y), ("x²", x * x), ("xy", x * y), ("y²", y * y))
    )
    mean_x, mean_y = w @ x / w.sum(), w @ y / w.sum()
    mx, my = symbol("x̄", mean_x, r"\bar{x}"), symbol("ȳ", mean_y, r"\bar{y}")
    # from here on each distance is that of a row of weight one
    dx, dy = np.sqrt(w) * (x - mean_x), np.sqrt(w) * (y - mean_y)
    Sxx, Sxy, Syy = (
        symbol(s, v, t)
        for s, v, t in (
            ("Sxx", dx @ dx, "S_{xx}"),
            ("Sxy", dx @ dy, "S_{xy}"),
            ("Syy", dy @ dy, "S_{yy}"),
        )
    )
    b1, b0 = symbol("b₁", b1v, "b_1"), symbol("b₀", b0v, "b_0")
    products = rf"\sum {letter}(x-\bar{{x}})(y-\bar{{y}})"
    middle = symbol(f"Σ{letter}(x − x̄)(y − ȳ)", dx @ dy, products)
    around = symbol(f"Σ{letter}(x − x̄)²", dx @ dx, rf"\sum {letter}(x-\bar{{x}})^2")
    above = symbol(f"Σ{letter}(y − ȳ)²", dy @ dy, rf"\sum {letter}(y-\bar{{y}})^2")
    steps = [
        Step("mean of x", "x̄", sx / n, mean_x),
        Step("mean of y", "ȳ", sy / n, mean_y),
        _about_means("sum of squares of x about its mean", "Sxx", sxx - sx.squared / n, around),
        _about_means("sum of products about the means", "Sxy", sxy - sx * sy / n, middle),
        _about_means(
            "sum of squares of y about its mean (total)", "Syy", syy - sy.squared / n, above
        ),
        Step("slope", "b₁", Sxy / Sxx, b1v),
        Step("slope in the centred form", "b₁", middle / around, b1v),
        Step("intercept", "b₀", my - b1 * mx, b0v),
    ]
    rss = float(fit.estimate.deviance)
    sse, ssr = symbol("SSE", rss), symbol("SSR", b1v * float(dx @ dy))
    df = symbol("n − 2", fit.n_rows - 2)
    s2, s = symbol("s²", rss / df.value), symbol("s", np.sqrt(rss / df.value))
    steps += [
        Step("explained sum of squares", "SSR", b1 * Sxy, ssr.value),
        Step("residual sum of squares", "SSE", Syy - ssr, rss),
        Step("residual mean square", "s²", sse / df, s2.value),
        Step("residual SD", "s", root(s2), s.value),
    ]
    steps += _tests_of_one(fit, n, mx, Sxx, s, b0, b1)
    steps += steps_of_the_whole(fit, ssr, sse, symbol("SST", dy @ dy), s2, symbol("1", 1.0), df)
    steps.append(
        Step("correlation", "r", Sxy / root(Sxx * Syy), dx @ dy / np.sqrt((dx @ dx) * (dy @ dy)))
    )
    if at is None:
        x0 = _near_the_mean(x, mean_x)
    else:
        x0 = float(at)
    steps += _forecast_of_one(fit, x0, n, mx, Sxx, s, b0, b1)
    title = f"{fit.sentence}, worked out: y is {fit.words(fit.response.name)}, x is {name}"
    return Workings(title, table, tuple(steps), weight_notes(fit))


def _near_the_mean(x: np.ndarray, mean: float) -> float:
    """Return the mean, rounded to a tenth of the decimal place of its spread."""
    places = 1 - int(np.floor(np.log10(x.std())))
    return float(np.round(mean, places))


def _about_means(name: str, sign: str, from_sums: Formula, centred: Formula) -> Step:
    """Return a sum about the means: from plain sums, or where these cancel from the distances."""
    cancels = abs(from_sums.compute() - centred.value) > 1e-9 * abs(centred.value)
    return Step(name, sign, centred if cancels else from_sums, centred.value)


def _sums_table(
    fit: Fitted, x: np.ndarray, y: np.ndarray, w: np.ndarray | None, e: np.ndarray, name: str
) -> Table:
    """Return x, y, their squares and product, fitted and residual, row by row, with the sums."""
    products = {"x²": x * x, "xy": x * y, "y²": y * y}
    last = {"fitted": y - e, "residual": e, "residual²": e * e}
    columns = {"x": x, "y": y, **products, **last}
    if w is not None:
        weighed = {f"w{name}": w * v for name, v in {"x": x, "y": y, **products}.items()}
        columns = {"x": x, "y": y, "w": w, **weighed, "residual": e, "w·residual²": w * e * e}
    return with_sums(fit, columns, f"x: {name}; y: {fit.words(fit.response.name)}")


def _tests_of_one(
    fit: Fitted, n: Formula, mx: Formula, Sxx: Formula, s: Formula, b0: Formula, b1: Formula
) -> list[Step]:
    e, t = estimates(fit), critical_t(fit)
    first, second = e.standard_errors[np.isfinite(e.values)].tolist()
    se0, se1 = symbol("se(b₀)", first, r"se(b_0)"), symbol("se(b₁)", second, r"se(b_1)")
    steps = [
        Step("standard error of the slope", "se(b₁)", s / root(Sxx), se1.value),
        Step("standard error of the intercept", "se(b₀)",
             s * root(ONE / n + mx.squared / Sxx), se0.value),
        Step("critical t", "t*", t, t.value),
    ]  # fmt: skip
    for name, sign, b, se in (("slope", "b₁", b1, se1), ("intercept", "b₀", b0, se0)):
        steps += tested(name, sign, b, se, fit.residual_df) + about(name, sign, b, se, t)
    return steps


def _forecast_of_one(
    fit: Fitted, x0: float, n: Formula, mx: Formula, Sxx: Formula, s: Formula, b0: Formula,
    b1: Formula,
) -> list[Step]:  # fmt: skip
    at = symbol("x₀", x0, "x_0")
    y0 = b0.value + b1.value * x0
    near = ONE / n + (at - mx).squared / Sxx
    mean = s.value * np.sqrt(near.compute())
    new = s.value * np.sqrt(1 + near.compute())
    yhat, t = symbol("ŷ₀", y0, r"\hat{y}_0"), critical_t(fit)
    se_mean, se_new = symbol("se(mean)", mean), symbol("se(new)", new)
    return [
        Step(f"forecast at x₀ = {figure(x0)}", "ŷ₀", b0 + b1 * at, y0),
        Step("standard error of the mean there", "se(mean)", s * root(near), mean),
        *about("mean at x₀", "mean", yhat, se_mean, t),
        Step("standard error of a new row there", "se(new)", s * root(ONE + near), new),
        *about("new row at x₀", "new", yhat, se_new, t),
    ]
