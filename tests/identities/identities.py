"""The identities: each turns a case into another that must be answered alike, and says what may differ."""

from __future__ import annotations

import re
import tempfile
import warnings
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field, replace
from itertools import pairwise
from pathlib import Path

import matplotlib.pyplot as plt
import numpy as np
import pandas as pd

import joinery as jn
from joinery.data import any_table
from joinery.data.sources.database import Folder
from tests.identities.questions import QUESTIONS, answer, difference
from tests.identities.tables import Case, case

Frame = pd.DataFrame
# seeded draws go by the order and number of rows
DRAWN = ("crosscheck", "crosscheck folds")
BY_COEFFICIENT = (
    "coefficients",
    "standardized",
    "term_correlations",
    "ratios",
    "profile",
    "claim",
)


@dataclass(frozen=True)
class Pair:
    """Two cases that must be answered alike: which questions not to put, which columns not to compare."""

    first: Case
    second: Case
    skip: tuple[str, ...] = ()
    columns: tuple[str, ...] = ()
    turn: Callable[[str, Frame], Frame] = field(default=lambda question, frame: frame)
    # turns an answer of the second case into what the first must say


def undrawn(answer: Frame, *skipped: str) -> Frame:
    """Checks without those that are drawn at random, and without some questions."""
    if "question" not in answer.columns:
        return answer
    drop = "|".join(("Is the family right", *skipped))
    return answer[~answer["question"].str.contains(drop)]


NEIGHBOURS, OVERLAP, STRAIGHT = "neighbouring", "overlap", "straight"
PRODUCTS = "depend on one another"
# what is asked of the table, in which rows written out are rows there twice
OF_THE_TABLE = ("what they seem", "left out", "belong together")


def repeats(c: Case, rng: np.random.Generator) -> Pair | None:
    """A row that stands for r equal rows, against those rows written out."""
    if c.has("lag(") or c.options.get("std_errors") in ("autocorrelated", "clustered"):
        return None
    # copies of a row share its label: what is left out by label goes whole
    written = c.table.loc[np.repeat(c.table.index, c.table["r"])].reset_index(drop=True)

    def turn(question: str, frame: Frame) -> Frame:
        return (
            frame[~frame.index.duplicated()]
            if question == "rows"
            else undrawn(frame, NEIGHBOURS, *OF_THE_TABLE)
        )

    first, second = c.but(options={"repeats": "r"}), c.but(table=written, options={"repeats": None})
    return Pair(first, second, ("picture", "stepwise"), ("quantile_residual",), turn)


def zero_weight(c: Case, rng: np.random.Generator) -> Pair | None:
    """Rows of weight zero, against their absence."""
    if c.has("lag(") or c.options.get("missing") == "mean":
        return None
    extra = c.table.iloc[rng.integers(0, len(c.table), 4)].assign(
        row=[1001, 1002, 1003, 1004],
        w=0.0,
        x=[0.5, 12.0, 3.0, 4.0],
        y=[900.0, 1.0, 2.0, 3.0],
        c=[0, 9, 99, 2],
        s=0,
    )
    both = pd.concat([c.table, extra], ignore_index=True)
    both["t"] = np.arange(len(both))

    def turn(question: str, frame: Frame) -> Frame:
        return frame[frame.index < 1000] if question == "rows" else frame

    first = c.but(table=c.table.assign(t=np.arange(len(c.table))), options={"weights": "w"})
    return Pair(first, first.but(table=both), turn=turn)


def weights_scaled(c: Case, rng: np.random.Generator) -> Pair | None:
    """All weights times a constant, where the dispersion is estimated."""
    known = c.options["family"] in ("binomial", "poisson") and c.options.get("dispersion") is None
    if known or c.options["family"] == "negative-binomial":
        return None
    first = c.but(options={"weights": "w"})
    second = first.but(table=c.table.assign(w=c.table["w"] * 7), new=c.new.assign(w=c.new["w"] * 7))
    unit = (
        "residual_sd",
        "typical_miss",
        "deviance",
        "null_deviance",
        "dispersion",
        "ss",
        "ms",
        "deviance_residual",
    )
    return Pair(first, second, columns=(*unit, "pearson_residual"), skip=("stepwise", "picture"))


def predictor_units(c: Case, rng: np.random.Generator) -> Pair | None:
    """A predictor in units a thousand times smaller."""
    if c.has("bands(", "x > 5", "log(") or not c.has("x"):
        return None
    options = {"where": "x > 1500"} if "where" in c.options else {}
    scaled = c.but(
        table=c.table.assign(x=c.table["x"] * 1000),
        new=c.new.assign(x=c.new["x"] * 1000),
        options=options,
    )
    own = ("estimate", "lower", "upper", "standard_error", "effect")
    own += ("slope", "at")
    skip = ("claim", "ratios", "picture", "slopes", "slope regions", "what if")
    return Pair(c, scaled, skip, own)


def response_units(c: Case, rng: np.random.Generator) -> Pair | None:
    """A response in units ten thousand times smaller."""
    if c.options["family"] != "normal" or c.response not in ("y", "log(y)"):
        return None
    link, log = c.options["link"], c.response == "log(y)" and c.intercept
    if c.response == "log(y)" and not c.intercept:
        return None
    if link != "identity" and ("offset" in c.options or not c.intercept or link == "inverse"):
        return None
    factor = 1e4
    table = c.table.assign(y=c.table["y"] * factor, o=c.table["o"] * (1 if log else factor))
    new = c.new.assign(o=c.new["o"] * (1 if log else factor))
    mean = (
        "fitted",
        "expected",
        "mean_lower",
        "mean_upper",
        "new_lower",
        "new_upper",
        "median_lower",
        "median_upper",
        "observed",
        "error",
        "typical_miss",
    )
    mean += tuple(f"{end}_{level}" for end in mean[2:8] for level in (50, 90))
    squares = ("ss", "ms", "dispersion", "deviance", "null_deviance")
    lengths = ("residual", "residual_sd", "effect", "pearson_residual", "deviance_residual")

    def turn(question: str, frame: Frame) -> Frame:
        frame = frame.copy()
        for name in frame.columns:
            on_model = question in ("rows",) and log
            power = 2 if name in squares and not log else 1 if name in lengths and not log else 0
            power = 1 if name in mean and not on_model else power
            if power:
                frame[name] = frame[name] / factor**power
        return frame

    own = (
        "estimate",
        "lower",
        "upper",
        "standard_error",
        "log_likelihood",
        "aic",
        "bic",
        "standardized",
    )
    own += ("slope", "mean", "difference", "ratio", "ratio_lower", "ratio_upper")
    own += ("observed", "fitted") if log else ()
    own += ("t", "z", "p") if log or link == "log" else ()  # of the intercept
    skip = (
        "claim",
        "equation",
        "ratios",
        "crosscheck",
        "crosscheck folds",
        "stepwise",
        "compare",
        "picture",
    )
    return Pair(
        c, c.but(table=table, new=new), skip + (("profile",) if link == "log" else ()), own, turn
    )


RECODED = {
    "another reference": {"g": "category(g, reference='c')"},
    "another coding": {"g": "category(g, coding='helmert')"},
    "sum to zero": {"g": "category(g, coding='effect')"},
    "powers": {
        "powers(x, 2)": "polynomial(x, 2)",
        "polynomial(x, 2)": "powers(x, 2)",
        "x^2": "(3 * x^2)",
    },
    "centred": {"x": "centred(x)", "crossed(x, h)": "crossed(centred(x), h)"},
}


def recoded(how: str) -> Callable[[Case, np.random.Generator], Pair | None]:
    """Other columns that span the same space."""

    def pair(c: Case, rng: np.random.Generator) -> Pair | None:
        terms = tuple(RECODED[how].get(t, t) for t in c.terms)
        if terms == c.terms or not c.intercept or c.has("*") or (how == "centred" and c.has("^2")):
            return None
        skip = (
            *BY_COEFFICIENT,
            "stepwise",
            "average_effects",
            "forecast held",
            "picture",
            "compare",
        )
        curve = "powers" in how or "polynomial" in how
        skip += ("anova earlier", "anova lower-order", "anova others") if curve else ()
        # depends on where a number's zero lies
        skip += ("anova others",) if c.has("crossed(x") else ()

        def turn(question: str, frame: Frame) -> Frame:
            frame = frame[[name for name in frame.columns if not name.startswith("dfbetas")]]
            frame = undrawn(frame, OVERLAP, *([STRAIGHT, PRODUCTS] if curve else []))
            if question == "checks":  # coefficients move, and these are others
                frame = frame[~frame["check"].str.contains("largest move")]
            return frame

        return Pair(c, c.but(terms=terms), skip, ("term", "adjusted_for"), turn)

    return pair


def order_of_terms(c: Case, rng: np.random.Generator) -> Pair | None:
    """The terms written the other way round."""
    if len(c.terms) < 2 or not c.intercept:  # the first category has a full set of indicators then
        return None

    def turn(question: str, frame: Frame) -> Frame:
        if "term" not in frame.columns:
            return frame
        return frame.sort_values(
            "term", key=lambda s: s.map(_unordered), kind="stable"
        ).reset_index(drop=True)

    skip = ("anova earlier", "claim", "stepwise", "compare", "picture")
    return Pair(c, c.but(terms=c.terms[::-1]), skip, ("adjusted_for", "term"), turn)


def _unordered(name: str) -> str:
    return " × ".join(sorted(str(name).split(" × ")))


def full_indicators(c: Case, rng: np.random.Generator) -> Pair | None:
    """A full set of indicators without intercept, against the intercept and a reference level."""
    if not any(t == "g" for t in c.terms):
        return None
    skip = (*BY_COEFFICIENT, "stepwise", "picture", "compare", "forecast held")

    def turn(question: str, frame: Frame) -> Frame:
        return undrawn(
            frame[[name for name in frame.columns if not name.startswith("dfbetas")]], OVERLAP
        )

    return Pair(c.but(intercept=True), c.but(intercept=False), skip, ("adjusted_for",), turn)


def offset_taken_off(c: Case, rng: np.random.Generator) -> Pair | None:
    """An offset, against taking it from the response."""
    if not c.plain or c.response != "y":
        return None
    table = c.table.assign(o=c.table["x"].fillna(2) ** 1.5)
    own = ("observed", "fitted", "expected", "mean_lower", "mean_upper", "new_lower", "new_upper")
    own += tuple(f"{name}_{level}" for name in own[3:] for level in (50, 90))
    skip = ("box_cox", "picture", "forecast held", "equation", "average_effects", "saved", "means")
    first = c.but(table=table, options={"offset": "o"})
    return Pair(first, first.but(response="(y - o)", options={"offset": None}), skip, own)


def offset_of_zeros(c: Case, rng: np.random.Generator) -> Pair | None:
    """An offset of zeros, against none."""
    c = c.but(table=c.table.assign(o=0.0), new=c.new.assign(o=0.0))
    return Pair(c.but(options={"offset": None}), c.but(options={"offset": "o"}), ("picture",))


def order_of_rows(c: Case, rng: np.random.Generator) -> Pair | None:
    """The rows of the table in another order."""
    ordered = "order" in c.options
    if (c.has("lag(") or c.options.get("std_errors") == "autocorrelated") and not ordered:
        c = c.but(options={"order": "t"})
        ordered = True
    table = c.table.iloc[rng.permutation(len(c.table))].reset_index(drop=True)

    def turn(question: str, frame: Frame) -> Frame:
        if question == "rows":
            return frame.sort_index()
        return undrawn(frame, *([] if ordered else [NEIGHBOURS]))

    normal = c.plain and not ordered
    skip = ("stepwise", "picture", *(DRAWN[1:] if normal else () if ordered else DRAWN))
    return Pair(c, c.but(table=table), skip, ("quantile_residual",), turn)


# figures of tables, a field of objects, functions and words of Python and of the sentence
CALLED = (
    {"x": "p", "z": "mean", "g": "lower", "h": "test", "y": "aic", "c": "df", "s": "sentence", "yes": "observed", "w": "note",
     "r": "rows", "o": "covratio", "e": "deviance", "m": "n_rows", "t": "against", "k": "statistic", "row": "fitted"},
    {"x": "range", "z": "len", "g": "values", "h": "self", "y": "float", "c": "np", "s": "name", "yes": "isinstance",
     "w": "object", "r": "str", "o": "sum", "e": "_value", "m": "list", "t": "order", "k": "log", "row": "index"},
)  # fmt: skip


def other_names(c: Case, rng: np.random.Generator) -> Pair | None:
    """Columns called like figures, or like functions and words of Python."""
    names = CALLED[c.seed % 2]
    back = {new: old for old, new in names.items()}

    def renamed(text: str) -> str:
        word = rf"(?<!['\w])({'|'.join(names)})(?!['\w(])"
        return re.sub(word, lambda found: names[found.group()], text)

    def turn(question: str, frame: Frame) -> Frame:
        frame = frame.copy()
        word = rf"(?<!\w)({'|'.join(back)})(?!\w)"
        for name in ("term", "adjusted_for", "move", "runner_up"):
            if name in frame:
                own = [re.sub(word, lambda f: back[f.group()], str(v)) for v in frame[name]]
                frame[name] = own
        return frame[[n for n in frame.columns if not n.startswith("dfbetas")]]

    written = ("where", "weights", "repeats", "offset", "order", "cluster", "id")
    options = {k: renamed(v) for k, v in c.options.items() if k in written}
    other = c.but(
        table=c.table.rename(columns=names),
        new=c.new.rename(columns=names),
        terms=tuple(map(renamed, c.terms)),
        response=renamed(c.response),
        options=options,
        names=names,
    )
    return Pair(c, other, ("picture", "checks"), ("claim", "response"), turn)


def numbers_as_levels(c: Case, rng: np.random.Generator) -> Pair | None:
    """A category of text, against the same category made of numbers."""
    if not c.has("g"):
        return None
    numbers = dict(zip("abc", (10**16 + np.arange(3) if c.seed % 2 else (1, 2, 3)), strict=True))

    def turn(question: str, frame: Frame) -> Frame:
        return frame[[name for name in frame.columns if not name.startswith("dfbetas")]]

    terms = [t.replace("reference='b'", f"reference='{numbers['b']}'") for t in c.terms]
    terms = [re.sub(r"(?<!category\()\bg\b", "category(g)", t) for t in terms]
    other = c.but(
        table=c.table.assign(g=c.table["g"].map(numbers)),
        new=c.new.assign(g=c.new["g"].map(numbers)),
        terms=tuple(terms),
        names={level: str(number) for level, number in numbers.items()},
    )
    own = ("term", "adjusted_for", "g", "at", "pair", "move", "runner_up", "check")
    return Pair(c, other, ("picture", "claim", "compare"), own, turn)


def merged_levels(c: Case, rng: np.random.Generator) -> Pair | None:
    """Levels under two spellings that the sentence merges, against one spelling."""
    written = np.where(rng.random(len(c.table)) < 0.4, "B?", "b")
    spelled = c.table["g"].where(c.table["g"] != "b", written)
    if not c.has("g") or set(spelled) != {"a", "b", "c", "B?"}:
        return None
    terms = tuple(_of_g(t, "merged(g, 'B?' = 'b'") for t in c.terms)
    other = c.but(table=c.table.assign(g=spelled), terms=terms)
    return Pair(c, other, ("picture", "claim", "compare", "stepwise"), ("adjusted_for",), undrawn_g)


def pooled_levels(c: Case, rng: np.random.Generator) -> Pair | None:
    """Levels of one row each that the sentence pools, against one level of all of them."""
    if not c.has("g"):
        return None
    rare = c.table["g"].where(c.table["g"] != "c", "c" + c.table["row"].astype(str))
    terms = tuple(_of_g(t, "pooled(g, least=4") for t in c.terms)
    other = c.but(table=c.table.assign(g=rare), terms=terms, names={"c": "other"})
    own = ("term", "adjusted_for", "g", "at", "pair")
    # each fold pools anew, and rows are alike that have the same level before it is pooled
    skip = ("picture", "claim", "compare", "stepwise", *DRAWN, "checks")
    skip += tuple(question for question in QUESTIONS if question.startswith("anova"))
    return Pair(c, other, skip, own, undrawn_g)


def _of_g(term: str, call: str) -> str:
    """A term with a call in place of g, and the options that a category of g has."""
    plain = re.sub(r"category\(g, ([^)]*)\)", rf"{call}, \1)", term)
    return plain if plain != term else re.sub(r"\bg\b", f"{call})", term)


def undrawn_g(question: str, frame: Frame) -> Frame:
    frame = frame[[name for name in frame.columns if not name.startswith("dfbetas")]]
    return undrawn(frame, *OF_THE_TABLE)


def cut_beforehand(c: Case, rng: np.random.Generator) -> Pair | None:
    """Rows that where= cuts off at either end and inside, against a table without them."""
    if c.has("lag("):
        return None
    options = {"where": "x > 2.5 and x < 7.5 or z > 2"}
    kept = c.table["x"].between(2.5, 7.5, inclusive="neither") | (c.table["z"] > 2)
    c = c.but(options={"leave_out": None})
    cut = c.but(table=c.table[kept], options={"where": None})
    return Pair(c.but(options=options), cut, ("rows", "picture", "stepwise"))


def reversed_rows(c: Case, rng: np.random.Generator) -> Pair | None:
    """The table upside down, where neighbours may be alike."""
    if c.has("lag(") or "repeats" in c.options or not c.plain:
        return None
    options = {"std_errors": "autocorrelated", "cluster": None, "order": None}
    options |= {"leave_out": [1, 2, int(c.table["row"].iloc[-1])]}
    first = c.but(options=options)
    asked = ("coefficients", "overall", "claim", "forecast", "anova others", "slopes")
    skip = tuple(question for question in QUESTIONS if question not in asked)
    return Pair(first, first.but(table=c.table[::-1]), skip)


def left_in_files(c: Case, rng: np.random.Generator) -> Pair | None:
    """The table in files that are read as needed, one of them empty."""
    folder = Folder()
    n = len(c.table)
    for place, (start, stop) in enumerate(pairwise([0, n // 3, n // 3, n - 5, n])):
        c.table.iloc[start:stop].to_parquet(folder.path / f"{place}.parquet", index=False)
    left = replace(jn.source(folder.path), keep=folder)
    # few rows would be simply read
    any_table.is_held = lambda source, apart=False: apart

    first = c.but(table=c.table.reset_index(drop=True))

    def turn(question: str, frame: Frame) -> Frame:
        return undrawn(frame, *OF_THE_TABLE)  # looked at in tables in memory alone

    return Pair(first, c.but(table=left), turn=turn)


IDENTITIES: dict[str, Callable[[Case, np.random.Generator], Pair | None]] = {
    "repeats written out": repeats,
    "rows of weight zero": zero_weight,
    "scale of weights": weights_scaled,
    "units of a predictor": predictor_units,
    "units of the response": response_units,
    **{f"recoding: {how}": recoded(how) for how in RECODED},
    "recoding: order of terms": order_of_terms,
    "recoding: full indicators": full_indicators,
    "offset taken from the response": offset_taken_off,
    "offset of zeros": offset_of_zeros,
    "order of rows": order_of_rows,
    "left in files": left_in_files,
    "other names": other_names,
    "numbers as levels": numbers_as_levels,
    "merged levels": merged_levels,
    "pooled levels": pooled_levels,
    "cut beforehand": cut_beforehand,
    "order reversed": reversed_rows,
}
PAIRS = len(IDENTITIES)


def _same(pair: Pair, questions: Iterable[str]) -> Iterator[tuple[str, str]]:
    first, second = pair.first.fit(), pair.second.fit()
    for question in questions:
        if question in pair.skip or (question in DRAWN and pair.first.on_an_edge):
            continue
        a, b = (answer(f, c, question) for f, c in ((first, pair.first), (second, pair.second)))
        b = pair.turn(question, b)
        if question == "checks" or "term" in pair.columns:
            a = pair.turn(question, a)
        if question == "rows" and pair.turn is not None and len(a) == len(b):
            a = a.sort_index() if not a.index.equals(b.index) else a
        kept = [name for name in a.columns if name not in pair.columns]
        yield question, difference(a[kept].reset_index(drop=True), b.reset_index(drop=True))


def _two_ways(c: Case) -> Iterator[tuple[str, str]]:
    """The same question put in two ways to one fit."""
    fit = c.fit()
    terms = list(fit._fitted.design.terms)
    robust = "std_errors" in c.options
    statistics = [name for name in ("f", "chi2") if name in fit.overall().frame]
    p = [fit.overall()["p"].iloc[0]]
    names = fit.coefficients()["term"].tolist()
    estimable = fit.coefficients().frame.dropna(subset=["estimate"])["term"].tolist()
    slopes = [f'"{n}" = 0' for n in estimable if n != "intercept"]
    if len(terms) == 1 and c.intercept and statistics:
        p.append(fit.anova("others" if robust else "earlier")["p"].iloc[0])
        small = fit.revise(drop=c.terms[0]) if "(" not in c.terms[0] else None
        if small is not None:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore", jn.JoineryWarning)
                beside = jn.compare(small, fit).frame
            # rows may differ where a cell is missing
            p += [beside["p"].iloc[1]] if "p" in beside else []
    if c.intercept and (c.plain or robust) and "penalty" not in c.options:
        p.append(fit.claim(", ".join(slopes))["p"].iloc[-1])
    yield (
        "overall, anova, compare, claim",
        difference(pd.DataFrame({"p": p[:1] * len(p)}), pd.DataFrame({"p": p})),
    )
    used = fit.rows().frame
    used = used[~used["reason"].str.startswith("left out")]
    rows = c.table.set_index("row", drop=False).loc[used.index]
    ahead = fit.forecast(rows).frame if not c.has("lag(") else None
    if ahead is not None and not c.has("log(y)", "sqrt(y)", "1 / y", "2 * y"):
        fitted = ahead["probability"] if "probability" in ahead else ahead["fitted"]
        left, right = (pd.DataFrame({"fitted": v.to_numpy()}) for v in (fitted, used["fitted"]))
        yield "forecast at a row, its line in rows", difference(left, right)
    if c.plain and "weights" not in c.options and "repeats" not in c.options:
        seen = fit.crosscheck().frame.set_index("figure")["fitted_rows"]
        left, right = (
            pd.DataFrame({"r2": [seen["explained (R²)"]]}),
            pd.DataFrame({"r2": [fit.r_squared]}),
        )
        if c.intercept and "offset" not in c.options:
            yield "crosscheck of fitted rows, the fit's own", difference(left, right)
    assert names
    if len(estimable) > 1:
        yield "the edge of a joint region, a joint claim", _edge(fit, estimable[-2:])


def _edge(fit: jn.Fit, pair: list[str]) -> str:
    """A point on the edge of the region of two coefficients, as a claim about both."""
    try:
        figure = fit.draw("joint_region", of=pair)
    except jn.CallError:
        return ""
    edge = max((line.get_xydata() for ax in figure.axes for line in ax.lines), key=len)
    plt.close(figure)
    a, b = edge[len(edge) // 3]
    p = fit.claim(f'"{pair[0]}" = {a:.17g}, "{pair[1]}" = {b:.17g}')["p"].iloc[-1]
    return "" if abs(p - (1 - fit.level)) < 1e-6 else f"p {p} at the edge of {fit.level}"


def _saved(c: Case) -> Iterator[tuple[str, str]]:
    """What a saved fit answers, to the last bit."""

    fit = c.fit()
    with tempfile.TemporaryDirectory() as folder:
        again = jn.load(fit.save(Path(folder) / "fit.json"))
    for question in (
        "figures",
        *BY_COEFFICIENT,
        "overall",
        "forecast",
        "forecast all at once",
        "forecast held",
        "forecast free",
        "means",
        "levels",
        "what if",
        "slopes",
        "slope regions",
        "equation",
    ):
        if question == "profile":
            continue
        a, b = answer(fit, c, question), answer(again, c, question)
        if question == "slope regions":  # a loaded fit keeps no rows to count
            a, b = (one.drop(columns="share_of_rows", errors="ignore") for one in (a, b))
        yield question, "" if a.equals(b) else difference(a, b, 0.0) or "other columns"


def _edited(c: Case, questions: Iterable[str]) -> Iterator[tuple[str, str]]:
    """The caller's table edited after the fit."""
    if "stepwise" in questions:
        questions = [q for q in questions if q != "stepwise"]
    table = c.table.copy()
    fit, kept = c.but(table=table).fit(), c.fit()
    for name in ("x", "y", "z", "w", "c", "s", "m", "o"):
        table[name] = table[name].to_numpy()[::-1] + 1
    table.iloc[:3, table.columns.get_loc("g")] = "other"
    values = table["x"].to_numpy()
    if values.flags.writeable:
        values[:] = 1.0
    for question in questions:
        yield question, difference(answer(kept, c, question), answer(fit, c, question))


ALONE = {
    "two ways": lambda c, q: _two_ways(c),
    "saved and loaded": lambda c, q: _saved(c),
    "the caller's table": _edited,
}
EVERY = (*IDENTITIES, *ALONE)


def broken(identity: str, seed: int, share: int | None = None) -> tuple[int, list[str]]:
    """How many answers were compared for a seed, and those that differ; ``share`` of the questions, or all."""
    c, rng = case(seed), np.random.default_rng(seed)
    questions = list(QUESTIONS)
    if share is not None:
        questions = [questions[i] for i in sorted(rng.choice(len(questions), share, replace=False))]
    if identity in ALONE:
        found = list(ALONE[identity](c, questions))
    else:
        pair = IDENTITIES[identity](c, rng)
        found = [] if pair is None else list(_same(pair, questions))
    return len(found), [f"{q}: {why}" for q, why in found if why]
