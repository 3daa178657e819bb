"""The arithmetic behind the figures, step after step, as a teacher writes it."""

from __future__ import annotations

import html
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property, partial

import numpy as np

from joinery.core.blocks.partition import joined
from joinery.core.numeric import distributions as tails
from joinery.errors import CallError, one_of
from joinery.show.forms import as_html, as_latex, as_markdown, as_text
from joinery.show.mathematics import Formula, call, root, symbol
from joinery.show.numbers import figure, scientific, value
from joinery.show.table import Table
from joinery.study.fitted import Fitted, response_rows, rows_at_hand
from joinery.study.read.estimates import estimates
from joinery.study.rows.figures import per_row

FORMS = ("text", "markdown", "html", "latex")
SHOWN, MOST_DIGITS, MOST_ROWS, MOST_COLUMNS = 5, 17, 30, 12
ONE = symbol("1", 1.0)


@dataclass(frozen=True)
class Step:
    """One figure: its name, its symbol, the formula, and the value that the fit has."""

    figure: str
    sign: str
    formula: Formula
    value: float

    @cached_property
    def digits(self) -> int:
        """So many significant digits of each number that a reader gets the value shown."""
        shown = _rounded(self.value, SHOWN)
        for digits in range(SHOWN + 1, MOST_DIGITS):
            found = self.formula.compute(partial(_rounded, digits=digits))
            if _rounded(found, SHOWN) == shown:
                return digits
        return MOST_DIGITS

    def number(self, v: float) -> str:
        """A number as it is put into the formula."""
        if v == round(v) and abs(v) < 1e15:
            return figure(v)
        size = abs(v)
        if size >= 1e9 or size < 1e-5:
            return scientific(v, self.digits)
        return value(v, self.digits)

    def written(self, form: str, *, numbers: bool) -> str:
        return self.formula.write(form, self.number if numbers else None)


def _rounded(v: float, digits: int) -> float:
    return float(f"{v:.{digits - 1}e}") if np.isfinite(v) else v


@dataclass(frozen=True, eq=False, repr=False)
class Workings:
    """The arithmetic of a fit: ``sums`` and ``steps`` are Tables, ``render`` writes all of it."""

    title: str
    sums: Table
    worked: tuple[Step, ...]
    notes: tuple[str, ...] = ()

    @cached_property
    def steps(self) -> Table:
        """Each figure with its formula, the formula with its numbers, and the value."""
        return Table(
            {
                "figure": [s.figure for s in self.worked],
                "formula": [f"{s.sign} = {s.written('text', numbers=False)}" for s in self.worked],
                "with_numbers": [s.written("text", numbers=True) for s in self.worked],
                "value": np.array([s.value for s in self.worked]),
            },
            title="Step by step",
            notes=self.notes,
            kinds={"figure": "text", "formula": "text", "with_numbers": "text", "value": "own"},
            headings={"with_numbers": "with its numbers"},
            digits=SHOWN,
            most_rows=500,
        )

    def render(self, form: str = "text") -> str:
        """All of it as text, markdown, html or latex; formulas set in the last two.

        Raises CallError for another form.
        """
        one_of("form", form, FORMS)
        if form == "text":
            return self._text()
        head = {"markdown": as_markdown, "html": as_html, "latex": as_latex}[form](self.sums)
        lines = [self._line(step, form) for step in self.worked]
        if form == "markdown":
            notes = [f"*{note}*" for note in self.notes]
            return "\n".join([f"**{self.title}**", "", head, *lines, "", *notes]) + "\n"
        if form == "html":
            notes = [f"<p>{html.escape(note)}</p>" for note in self.notes]
            title = f"<h2>{html.escape(self.title)}</h2>"
            return "\n".join([title, head, "<ol>", *lines, "</ol>", *notes]) + "\n"
        notes = [f"% {note}" for note in self.notes]
        return "\n".join([f"% {self.title}", head, r"\begin{enumerate}", *lines,
                          r"\end{enumerate}", *notes]) + "\n"  # fmt: skip

    def _text(self) -> str:
        out = [self.title, "", as_text(self.sums).rstrip("\n"), ""]
        for step in self.worked:
            out.append(step.figure)
            out.append(f"  {step.sign} = {step.written('text', numbers=False)}")
            numbers = step.written("text", numbers=True)
            out.append(f"    = {numbers}")
            if numbers != figure(step.value, SHOWN):
                out.append(f"    = {figure(step.value, SHOWN)}")
        return "\n".join([*out, "", *self.notes]) + "\n"

    def _line(self, step: Step, form: str) -> str:
        shown = figure(step.value, SHOWN)
        if form == "html":
            parts = [step.written("mathml", numbers=n) for n in (False, True)]
            sign = html.escape(step.sign)
            return (
                f"<li>{html.escape(step.figure)}: <math><mi>{sign}</mi><mo>=</mo><mrow>{parts[0]}"
                f"</mrow><mo>=</mo><mrow>{parts[1]}</mrow><mo>=</mo><mn>{shown}</mn></math></li>"
            )
        parts = [step.written("latex", numbers=n) for n in (False, True)]
        sign = symbol(step.sign, 0).write("latex")
        shown = shown.replace("−", "-")
        item = r"\item " if form == "latex" else "1. "
        text = step.figure.replace("_", r"\_") if form == "latex" else step.figure
        return f"{item}{text}: ${sign} = {parts[0]} = {parts[1]} = {shown}$"

    def __str__(self) -> str:
        return self.render()

    __repr__ = __str__

    def _repr_html_(self) -> str:
        return self.render("html")


def workings(fit: Fitted, at: float | None = None) -> Workings:
    """The workings. See ``Fit.workings``."""
    rows_at_hand(fit)
    if fit.solution.perfect or fit.residual_df < 1:
        raise CallError("no degrees of freedom are left, so there is nothing to be worked out")
    if fit.sandwich is not None:
        raise CallError(
            "the workings are those of constant spread; fit with the plain standard errors"
        )
    if not fit.estimate.linear:
        return _reweighted(fit)
    X, names = _columns(fit)
    plain = all(b.precision is None and b.repeats is None and b.offset is None
                for b in response_rows(fit).row_blocks)  # fmt: skip
    if fit.solution.has_intercept and X.shape[1] == 2 and plain:
        return _one_predictor(fit, X[:, 1], names[1], at)
    return _several(fit, X, names)


def _columns(fit: Fitted) -> tuple[np.ndarray, list[str]]:
    """The estimated columns of the design, the constant first, and their names."""
    blocks = response_rows(fit).row_blocks
    X = joined(blocks, lambda b: b.X[:, fit.solution.kept])
    names = [fit.words(fit.design.names[j]) for j in fit.solution.kept]
    if fit.solution.has_intercept:
        return np.column_stack([np.ones(len(X)), X]), ["intercept", *names]
    return X, names


# ------------------------------------------------------------------ one predictor


def _one_predictor(fit: Fitted, x: np.ndarray, name: str, at: float | None) -> Workings:
    y = joined(response_rows(fit).row_blocks, lambda b: b.y)
    figures = per_row(fit)
    e = estimates(fit)
    b0v, b1v = float(e.values[0]), float(e.values[1])
    table = _sums_table(fit, x, y, figures.fitted, figures.residual, name)
    n = symbol("n", len(x))
    sx, sy = symbol("Σx", x.sum()), symbol("Σy", y.sum())
    sxx, sxy, syy = (
        symbol(s, v)
        for s, v in (("Σx²", (x * x).sum()), ("Σxy", (x * y).sum()), ("Σy²", (y * y).sum()))
    )
    mx, my = symbol("x̄", x.mean(), r"\bar{x}"), symbol("ȳ", y.mean(), r"\bar{y}")
    dx, dy = x - x.mean(), y - y.mean()
    Sxx, Sxy, Syy = (
        symbol(s, v, t)
        for s, v, t in (
            ("Sxx", dx @ dx, "S_{xx}"),
            ("Sxy", dx @ dy, "S_{xy}"),
            ("Syy", dy @ dy, "S_{yy}"),
        )
    )
    b1, b0 = symbol("b₁", b1v, "b_1"), symbol("b₀", b0v, "b_0")
    middle = symbol("Σ(x − x̄)(y − ȳ)", dx @ dy, r"\sum (x-\bar{x})(y-\bar{y})")
    around = symbol("Σ(x − x̄)²", dx @ dx, r"\sum (x-\bar{x})^2")
    above = symbol("Σ(y − ȳ)²", dy @ dy, r"\sum (y-\bar{y})^2")
    steps = [
        Step("mean of x", "x̄", sx / n, x.mean()),
        Step("mean of y", "ȳ", sy / n, y.mean()),
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
    df = symbol("n − 2", len(x) - 2)
    s2, s = symbol("s²", rss / (len(x) - 2)), symbol("s", np.sqrt(rss / (len(x) - 2)))
    steps += [
        Step("explained sum of squares", "SSR", b1 * Sxy, ssr.value),
        Step("residual sum of squares", "SSE", Syy - ssr, rss),
        Step("residual mean square", "s²", sse / df, s2.value),
        Step("residual SD", "s", root(s2), s.value),
    ]
    steps += _tests_of_one(fit, n, mx, Sxx, s, b0, b1)
    steps += _explained(fit, ssr, sse, symbol("SST", dy @ dy), s2, symbol("1", 1.0), df)
    steps.append(
        Step("correlation", "r", Sxy / root(Sxx * Syy), dx @ dy / np.sqrt((dx @ dx) * (dy @ dy)))
    )
    x0 = float(np.round(x.mean(), 1)) if at is None else float(at)
    steps += _forecast_of_one(fit, x0, n, mx, Sxx, s, b0, b1)
    title = f"{fit.sentence}, worked out: y is {fit.words(fit.response.name)}, x is {name}"
    return Workings(title, table, tuple(steps))


def _about_means(name: str, sign: str, from_sums: Formula, centred: Formula) -> Step:
    """A sum about the means: from plain sums, or where these cancel from the distances."""
    cancels = abs(from_sums.compute() - centred.value) > 1e-9 * abs(centred.value)
    return Step(name, sign, centred if cancels else from_sums, centred.value)


def _sums_table(
    fit: Fitted, x: np.ndarray, y: np.ndarray, fitted: np.ndarray, e: np.ndarray, name: str
) -> Table:
    """x, y, their squares and product, fitted and residual, row by row, with the sums."""
    columns = {"x": x, "y": y, "x²": x * x, "xy": x * y, "y²": y * y, "fitted": fitted}
    columns |= {"residual": e, "residual²": e * e}
    return _with_sums(fit, columns, f"x: {name}; y: {fit.words(fit.response.name)}")


def _with_sums(fit: Fitted, columns: dict[str, np.ndarray], title: str) -> Table:
    """All rows up to thirty, else the first ones and dots; the sums last."""
    table, used = rows_at_hand(fit)
    labels = [str(v) for v in table.index[used.rows]]
    n = len(labels)
    shown = n if n <= MOST_ROWS else 10
    dots = [] if shown == n else ["…"]
    index = [*labels[:shown], *dots, "sum"]
    empty = [np.nan] * len(dots)
    sums = {name: _sum(v) for name, v in columns.items()}
    return Table(
        {name: [*v[:shown].tolist(), *empty, sums[name]] for name, v in columns.items()},
        title=title,
        index=index,
        index_name=str(table.index.name or "row"),
        kinds=dict.fromkeys(columns, "value"),
        headings={name: name for name in columns},
        digits=SHOWN,
    )


def _sum(v: np.ndarray) -> float:
    """A sum; zero where nothing but rounding is left of it."""
    total = float(v.sum())
    return 0.0 if abs(total) < 1e-11 * float(np.abs(v).sum()) else total


def _t(fit: Fitted) -> Formula:
    share = symbol(f"{(1 + fit.level) / 2:g}", (1 + fit.level) / 2)
    df = symbol("df", fit.residual_df)
    return call("t", float(tails.t_quantile((1 + fit.level) / 2, fit.residual_df)), share, df)


def _about(name: str, sign: str, b: Formula, se: Formula, t: Formula) -> list[Step]:
    reach = symbol("t*", t.value)
    low, high = b.value - t.value * se.value, b.value + t.value * se.value
    return [
        Step(f"lower end, {name}", f"{sign} lower", b - reach * se, low),
        Step(f"upper end, {name}", f"{sign} upper", b + reach * se, high),
    ]


def _tests_of_one(
    fit: Fitted, n: Formula, mx: Formula, Sxx: Formula, s: Formula, b0: Formula, b1: Formula
) -> list[Step]:
    e, t = estimates(fit), _t(fit)
    se0 = symbol("se(b₀)", e.standard_errors[0], r"se(b_0)")
    se1 = symbol("se(b₁)", e.standard_errors[1], r"se(b_1)")
    steps = [
        Step("standard error of the slope", "se(b₁)", s / root(Sxx), se1.value),
        Step("standard error of the intercept", "se(b₀)",
             s * root(ONE / n + mx.squared / Sxx), se0.value),
        Step("critical t", "t*", t, t.value),
    ]  # fmt: skip
    for name, sign, b, se in (("slope", "b₁", b1, se1), ("intercept", "b₀", b0, se0)):
        steps += _tested(name, sign, b, se, fit.residual_df) + _about(name, sign, b, se, t)
    return steps


def _tested(name: str, sign: str, b: Formula, se: Formula, df: int) -> list[Step]:
    tv = b.value / se.value if se.value else np.nan
    t = symbol(f"t of {sign}", tv)
    p = float(tails.t_two_sided(tv, df))
    two = call("two-sided p", p, t, symbol("df", df))
    return [
        Step(f"t of the {name}", t.name, b / se, tv),
        Step(f"p of the {name}", f"p of {sign}", two, p),
    ]


def _explained(
    fit: Fitted, ssr: Formula, sse: Formula, sst: Formula, s2: Formula, model: Formula, df: Formula
) -> list[Step]:
    k, d = int(model.value), int(df.value)
    r2v = ssr.value / sst.value if sst.value else np.nan
    msr, r2 = symbol("MSR", ssr.value / k), symbol("R²", r2v)
    f = msr.value / s2.value if s2.value else np.nan
    critical = float(tails.f_quantile(fit.level, k, d))
    F = symbol("F", f)
    p = call("upper p", float(tails.f_upper(f, k, d)), F, model, df)
    share = symbol(f"{fit.level:g}", fit.level)
    total = symbol("total df", k + d)
    adjusted = 1 - (1 - r2v) * (k + d) / d
    return [
        Step("explained mean square", "MSR", ssr / model, msr.value),
        Step("F of the model", "F", msr / s2, f),
        Step("p of the model", "p", p, p.value),
        Step("critical F", "F*", call("F", critical, share, model, df), critical),
        Step("explained (R²)", "R²", ssr / sst, r2v),
        Step("adjusted R²", "adjusted R²", ONE - (ONE - r2) * total / df, adjusted),
        Step("F from R²", "F", (r2 / model) / ((ONE - r2) / df), f),
    ]


def _forecast_of_one(
    fit: Fitted, x0: float, n: Formula, mx: Formula, Sxx: Formula, s: Formula, b0: Formula,
    b1: Formula,
) -> list[Step]:  # fmt: skip
    at = symbol("x₀", x0, "x_0")
    y0 = b0.value + b1.value * x0
    near = ONE / n + (at - mx).squared / Sxx
    mean = s.value * np.sqrt(near.compute())
    new = s.value * np.sqrt(1 + near.compute())
    yhat, t = symbol("ŷ₀", y0, r"\hat{y}_0"), _t(fit)
    se_mean, se_new = symbol("se(mean)", mean), symbol("se(new)", new)
    return [
        Step(f"forecast at x₀ = {figure(x0)}", "ŷ₀", b0 + b1 * at, y0),
        Step("standard error of the mean there", "se(mean)", s * root(near), mean),
        *_about("mean at x₀", "mean", yhat, se_mean, t),
        Step("standard error of a new row there", "se(new)", s * root(ONE + near), new),
        *_about("new row at x₀", "new", yhat, se_new, t),
    ]


# ------------------------------------------------------------------ several predictors


def _several(fit: Fitted, X: np.ndarray, names: list[str]) -> Workings:
    """The normal equations, their solution, and the same steps from them."""
    if X.shape[1] > MOST_COLUMNS:
        raise CallError(
            f"the normal equations of {X.shape[1]} coefficients fill pages; work out a model of at "
            f"most {MOST_COLUMNS}"
        )
    blocks = response_rows(fit).row_blocks
    y = joined(blocks, lambda b: b.y if b.offset is None else b.y - b.offset)
    w = joined(blocks, lambda b: b.row_weights)
    e = estimates(fit)
    keep = np.isfinite(e.values)
    values, errors = e.values[keep], e.standard_errors[keep]
    G, g = X.T @ (w[:, None] * X), X.T @ (w * y)
    C = np.linalg.inv(G)
    table = _normal_equations(names, G, g, C, values)
    weighted = "" if np.all(w == 1) else "w"
    yy = symbol(f"Σ{weighted}y²", w @ (y * y))
    rss = float(fit.estimate.deviance)
    explained: Formula | None = None
    for j, name in enumerate(names):
        part = symbol(f"b[{name}]", values[j]) * symbol(f"Σ{weighted}xy[{name}]", g[j])
        explained = part if explained is None else explained + part
    assert explained is not None
    n, p = fit.n_rows, len(names)
    df = symbol("n − p", n - p)
    sse, s2 = symbol("SSE", rss), symbol("s²", rss / (n - p))
    s, t = symbol("s", np.sqrt(rss / (n - p))), _t(fit)
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
        steps += _tested(name, b.name, b, se, n - p) + _about(name, b.name, b, se, t)
    if fit.solution.has_intercept:
        total = symbol(f"Σ{weighted}y", w @ y)
        size = symbol("Σw" if weighted else "n", w.sum())
        sst = float(w @ (y - (w @ y) / w.sum()) ** 2)
        steps.append(Step("total sum of squares", "SST", yy - total.squared / size, sst))
        ssr = symbol("SSR", sst - rss)
        steps.append(Step("explained sum of squares", "SSR", symbol("SST", sst) - sse, ssr.value))
        steps += _explained(fit, ssr, sse, symbol("SST", sst), s2, symbol("p − 1", p - 1), df)
    notes = ("c: the diagonal of the inverse of the left side of the normal equations",)
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
        kinds=dict.fromkeys(columns, "own"),
        headings={name: name for name in columns},
        digits=SHOWN,
    )


# ------------------------------------------------------------------ other families


def _reweighted(fit: Fitted) -> Workings:
    """The last iteration: working weights and response, and how χ² or F comes about."""
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
    table = _with_sums(fit, columns, "The last iteration: working weights and responses")
    X, names = _columns(fit)
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
        letter = "z" if np.isinf(fit.estimate.reference_df) else "t"
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
