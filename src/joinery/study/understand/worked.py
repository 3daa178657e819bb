"""The parts of workings: steps with formulas, and the parts that every kind shares."""

from __future__ import annotations

import html
from dataclasses import dataclass
from functools import cached_property, partial

import numpy as np

from joinery.core.blocks.partition import joined
from joinery.core.numeric import distributions as tails
from joinery.design.row_blocks import RowBlock
from joinery.show.appearance import Appearance
from joinery.show.forms import as_html, as_latex, as_markdown, as_text, latex_text
from joinery.show.mathematics import Formula, call, symbol
from joinery.show.numbers import figure, scientific, value
from joinery.show.table import Table
from joinery.study.fitted import Fitted, response_rows, rows_at_hand
from joinery.support.errors import one_of
from joinery.support.labels import label_text

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
            result = self.formula.compute(partial(_rounded, digits=digits))
            if _rounded(result, SHOWN) == shown:
                return digits
        return MOST_DIGITS

    def number(self, v: float) -> str:
        """Return a number as it is put into the formula."""
        if v == round(v) and abs(v) < 1e15:
            return figure(v)
        size = abs(v)
        if size >= 1e9 or size < 1e-5:
            return scientific(v, self.digits)
        return value(v, self.digits)

    def written(self, form: str, *, numbers: bool) -> str:
        return self.formula.write(form, self.number if numbers else None)


def _rounded(v: float, digits: int) -> float:
    if np.isfinite(v):
        return float(f"{v:.{digits - 1}e}")
    return v


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
            appearance=Appearance(
                kinds={"figure": "text", "formula": "text", "with_numbers": "text", "value": "own"},
                headings={"with_numbers": "with its numbers"},
                digits=SHOWN,
                most_rows=500,
            ),
        )

    def render(self, form: str = "text") -> str:
        """Return all of it as text, markdown, html or latex; formulas set in the last two.

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
            title = f"<p><strong>{html.escape(self.title)}</strong></p>"
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
        if form == "latex":
            item = r"\item "
        else:
            item = "1. "
        if form == "latex":
            text = latex_text(step.figure)
        else:
            text = step.figure
        return f"{item}{text}: ${sign} = {parts[0]} = {parts[1]} = {shown}$"

    def __str__(self) -> str:
        return self.render()

    __repr__ = __str__

    def _repr_html_(self) -> str:
        return self.render("html")


def estimated_names(fit: Fitted) -> list[str]:
    """Return the names of the estimated coefficients, the constant's first."""
    names = [fit.words(fit.design.names[j]) for j in fit.solution.kept]
    if fit.solution.has_intercept:
        return ["intercept", *names]
    return names


def estimated_columns(fit: Fitted) -> np.ndarray:
    """Return their columns of the design (n, p), the constant first."""
    return joined(response_rows(fit).row_blocks, lambda block: _columns(fit, block))


def _columns(fit: Fitted, block: RowBlock) -> np.ndarray:
    X = block.X[:, fit.solution.kept]
    if fit.solution.has_intercept:
        return np.column_stack([np.ones(len(X)), X])
    return X


@dataclass(frozen=True)
class Products:
    """Weighted sums of products over all rows: of the p columns, and of y less its offset."""

    columns: np.ndarray  # (p, p)
    with_response: np.ndarray  # (p,)
    weights: float
    response: float
    response_squared: float
    around_mean: float  # Σw(y − ȳ)²
    plain: bool  # whether every row weighs one


def products(fit: Fitted) -> Products:
    """Return the sums that the normal equations are made of, block by block."""
    blocks, p = response_rows(fit).row_blocks, len(estimated_names(fit))

    def of_block(block: RowBlock) -> np.ndarray:
        X, y, w = _columns(fit, block), block.beyond_offset, block.row_weights
        A = np.column_stack([X, np.ones(len(y)), y])
        return np.asarray(A.T @ (w[:, None] * A))

    S = sum(blocks.each(of_block), np.zeros((p + 2, p + 2)))
    mean = S[p, p + 1] / S[p, p]

    def about(block: RowBlock) -> tuple[float, bool]:
        w = block.row_weights
        return float(w @ (block.beyond_offset - mean) ** 2), bool(np.all(w == 1))

    squares, ones = zip(*blocks.each(about), strict=True)
    return Products(
        S[:p, :p], S[:p, p + 1], S[p, p], S[p, p + 1], S[p + 1, p + 1], sum(squares), all(ones)
    )


def weighed_response(fit: Fitted) -> tuple[np.ndarray, np.ndarray]:
    """Return the response less its offset, and what each row weighs (precision times repeats)."""
    blocks = response_rows(fit).row_blocks
    y = joined(blocks, lambda b: b.y if b.offset is None else b.y - b.offset)
    return y, joined(blocks, lambda b: b.row_weights)


def weight_notes(fit: Fitted) -> tuple[str, ...]:
    """Return what w stands for, and what was taken from y."""
    options, notes = fit.options, []
    if options.weights is not None or options.repeats is not None:
        parts = [f"{word} ({column})" for word, column in
                 (("weight", options.weights), ("repeats", options.repeats)) if column]  # fmt: skip
        notes.append(f"w: the {' times the '.join(parts)} of each row")
    if options.offset is not None:
        notes.append(f"y is what is left when the offset ({options.offset}) is taken away")
    return tuple(notes)


def with_sums(fit: Fitted, columns: dict[str, np.ndarray], title: str) -> Table:
    """Return all rows up to thirty, else the first ones and dots; the sums last."""
    table, used = rows_at_hand(fit)
    labels = [label_text(v) for v in table.index[used.rows]]
    n = len(labels)
    if n <= MOST_ROWS:
        shown = n
    else:
        shown = 10
    if shown == n:
        dots = []
    else:
        dots = ["…"]
    index = [*labels[:shown], *dots, "sum"]
    empty = [np.nan] * len(dots)
    sums = {name: _sum(v) for name, v in columns.items()}
    return Table(
        {name: [*v[:shown].tolist(), *empty, sums[name]] for name, v in columns.items()},
        title=title,
        index=index,
        index_name=str(table.index.name or "row"),
        appearance=Appearance(
            kinds=dict.fromkeys(columns, "value"),
            headings={name: name for name in columns},
            digits=SHOWN,
        ),
    )


def _sum(v: np.ndarray) -> float:
    """Return a sum; zero where nothing but rounding is left of it."""
    total = float(v.sum())
    if abs(total) < 1e-11 * float(np.abs(v).sum()):
        return 0.0
    return total


def critical_t(fit: Fitted) -> Formula:
    share = symbol(f"{(1 + fit.level) / 2:g}", (1 + fit.level) / 2)
    df = symbol("df", fit.residual_df)
    return call("t", float(tails.t_quantile((1 + fit.level) / 2, fit.residual_df)), share, df)


def about(name: str, sign: str, b: Formula, se: Formula, t: Formula) -> list[Step]:
    reach = symbol("t*", t.value)
    low, high = b.value - t.value * se.value, b.value + t.value * se.value
    return [
        Step(f"lower end, {name}", f"{sign} lower", b - reach * se, low),
        Step(f"upper end, {name}", f"{sign} upper", b + reach * se, high),
    ]


def tested(name: str, sign: str, b: Formula, se: Formula, df: int) -> list[Step]:
    if se.value:
        tv = b.value / se.value
    else:
        tv = np.nan
    t = symbol(f"t of {sign}", tv)
    p = float(tails.t_two_sided(tv, df))
    two = call("two-sided p", p, t, symbol("df", df))
    return [
        Step(f"t of the {name}", t.name, b / se, tv),
        Step(f"p of the {name}", f"p of {sign}", two, p),
    ]


def steps_of_the_whole(
    fit: Fitted, ssr: Formula, sse: Formula, sst: Formula, s2: Formula, model: Formula, df: Formula
) -> list[Step]:
    k, d = int(model.value), int(df.value)
    if sst.value:
        r2v = ssr.value / sst.value
    else:
        r2v = np.nan
    msr, r2 = symbol("MSR", ssr.value / k), symbol("R²", r2v)
    if s2.value:
        f = msr.value / s2.value
    else:
        f = np.nan
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
