"""Every public question of a fit, each answered by a data frame of figures."""

from __future__ import annotations

import inspect
import re
import tempfile
import warnings
from collections.abc import Callable
from pathlib import Path
from typing import Any

import matplotlib.pyplot as plt
import numpy as np
import pandas as pd

import joinery as jn
from tests.identities.tables import Case

Question = Callable[[jn.Fit, Case], pd.DataFrame]
FIGURES = [
    "n_rows",
    "r_squared",
    "adjusted_r_squared",
    "residual_sd",
    "model_df",
    "residual_df",
    "deviance",
    "null_deviance",
    "dispersion",
    "log_likelihood",
    "aic",
    "bic",
]
MEANS = ("mean", "lower", "upper", "standard_error")
PICTURES = [
    "line",
    "observed_fitted",
    "residuals",
    "spread",
    "quantiles",
    "histogram",
    "sequence",
    "leverage",
    "influence",
    "added_variable",
    "component_residual",
    "forecast",
    "box_cox",
]


def figures(fit: jn.Fit, case: Case) -> pd.DataFrame:
    return pd.DataFrame({name: [getattr(fit, name)] for name in FIGURES}).astype(float)


def equation(fit: jn.Fit, case: Case) -> pd.DataFrame:
    """What the equation gives when it is run."""
    room: dict[str, Any] = {}
    exec(fit.equation("python"), room)
    wanted = inspect.signature(room["fitted"]).parameters
    value = room["fitted"](**{name: case.new[name] for name in wanted})
    return pd.DataFrame({"fitted": np.broadcast_to(value, len(case.new))})


def rows(fit: jn.Fit, case: Case) -> pd.DataFrame:
    return fit.rows(dfbetas=True).frame


def checks(fit: jn.Fit, case: Case) -> pd.DataFrame:
    frame = fit.checks().frame
    return frame.assign(
        check=frame["question"] + [re.split(r" of |[,(:]|\d", c)[0] for c in frame["check"]]
    )


def forecast_all_at_once(fit: jn.Fit, case: Case) -> pd.DataFrame:
    return fit.forecast(case.new, level=[0.5, 0.9], simultaneous=True).frame


def forecast_held(fit: jn.Fit, case: Case) -> pd.DataFrame:
    needed = [case.called(name) for name in "xemow"]
    return fit.forecast(case.new[needed], hold="average").frame


def forecast_free(fit: jn.Fit, case: Case) -> pd.DataFrame:
    return fit.forecast(case.new, intervals="distribution-free").frame


def compare(fit: jn.Fit, case: Case) -> pd.DataFrame:
    small = (
        fit.revise(drop=case.terms[-1])
        if "(" not in case.terms[-1] and len(case.terms) > 1
        else None
    )
    if small is None:
        raise jn.CallError("nothing to drop")
    frame = jn.compare(small, fit).frame
    return frame[
        [c for c in frame.columns if c in {"statistic", "df", "p", "crosscheck_error", *FIGURES}]
    ]


def stepwise(fit: jn.Fit, case: Case) -> pd.DataFrame:
    by = "p" if fit.bic is None else "bic"
    trail = jn.stepwise(case.table, case.sentence, criterion=by, moves="drop", **case.options)
    return trail.steps.frame


def claim(fit: jn.Fit, case: Case) -> pd.DataFrame:
    names = fit.coefficients()["term"].tolist()
    return fit.claim(", ".join(f'"{name}" = 0.1' for name in names[-2:])).frame.drop(
        columns="claim"
    )


def _columns(case: Case) -> list[str]:
    """The columns of the table that the terms name, as the tables first call them."""
    words = " ".join(case.terms)
    return [n for n in "xzgh" if re.search(rf"\b{case.called(n)}\b", words)]


def _two(case: Case) -> tuple[str, str]:
    """A number to have the slope of, and another column to look across."""
    names = _columns(case)
    of = next(n for n in ("x", "z", "none") if n in names or n == "none")
    return of, next((n for n in names if n != of), "none")


def slopes(fit: jn.Fit, case: Case) -> pd.DataFrame:
    of, across = _two(case)
    at = {"z": [2.0, 4.0], "x": [3.0, 8.0]}.get(across)
    asked = case.called(of), case.called(across)
    return fit.simple_slopes(*asked, at, simultaneous=case.seed % 2 == 0).frame


def slope_regions(fit: jn.Fit, case: Case) -> pd.DataFrame:
    return fit.slope_regions(*map(case.called, _two(case))).frame


def means(fit: jn.Fit, case: Case) -> pd.DataFrame:
    named = {case.called(n): n for n in _columns(case) if n in "gh"}
    weighting = ("equal", "as seen")[case.seed % 2]
    frame = fit.adjusted_means(" * ".join(named) or "none", weighting=weighting).frame
    frame.columns = [
        named.get(c.removesuffix(" (column)"), c) if c not in MEANS else c for c in frame.columns
    ]
    return frame.sort_values([n for n in "gh" if n in frame], ignore_index=True)


def levels(fit: jn.Fit, case: Case) -> pd.DataFrame:
    term = next((n for n in _columns(case) if n in "gh"), "none")
    correction = ("tukey", "dunnett", "holm", "none")[case.seed % 4]
    reference = {"g": "b", "h": "no"}.get(term) if correction == "dunnett" else None
    reference, term = reference and case.called(reference), case.called(term)
    frame = fit.level_differences(term, reference=reference, correction=correction).frame
    turned = frame["level"] > frame["minus"]  # the same pair whichever level comes first
    lower, upper = frame["lower"].copy(), frame["upper"].copy()
    frame.loc[turned, "lower"], frame.loc[turned, "upper"] = -upper[turned], -lower[turned]
    signed = [c for c in ("difference", "t", "z") if c in frame]
    frame.loc[turned, signed] *= -1
    pairs = [" ".join(sorted(pair)) for pair in zip(frame["level"], frame["minus"], strict=True)]
    frame = frame.drop(columns=[c for c in frame if c.startswith(("ratio", "level", "minus"))])
    return frame.assign(pair=pairs).sort_values("pair", ignore_index=True)


def what_if(fit: jn.Fit, case: Case) -> pd.DataFrame:
    setting = {"x": 6.0, "z": 3.0, "g": "b", "h": "yes"}
    first = _columns(case)[:1]
    return fit.difference({case.called(n): _valued(case, setting[n]) for n in first}).frame


def _valued(case: Case, value: Any) -> Any:
    return case.called(value) if isinstance(value, str) else value


def saved(fit: jn.Fit, case: Case) -> pd.DataFrame:
    with tempfile.TemporaryDirectory() as folder:
        again = jn.load(fit.save(Path(folder) / "fit.json"))
    return again.forecast(case.new).frame


def picture(fit: jn.Fit, case: Case) -> pd.DataFrame:
    """The points and curves of one picture, each artist's in order of size."""
    name = PICTURES[case.seed % len(PICTURES)]
    figure = fit.draw(name, **({"new": case.new} if name == "forecast" else {}))
    found: list[np.ndarray] = []
    for axes in figure.axes:
        found += [np.asarray(line.get_xydata(), float) for line in axes.lines]
        found += [
            np.asarray(c.get_offsets(), float) for c in axes.collections if len(c.get_offsets()) > 1
        ]
        found += [np.array([[bar.get_width(), bar.get_height()]]) for bar in axes.patches]
    plt.close(figure)
    points = np.concatenate(
        [np.sort(a[np.isfinite(a).all(axis=1)], axis=0) for a in found if a.ndim == 2]
    )
    return pd.DataFrame(points, columns=["across", "up"])


def _table(method: str, **options: Any) -> Question:
    return lambda fit, case: getattr(fit, method)(**options).frame


QUESTIONS: dict[str, Question] = {
    "figures": figures,
    "coefficients": _table("coefficients"),
    "standardized": _table("coefficients", standardized=True),
    "term_correlations": _table("term_correlations"),
    "ratios": _table("coefficients", ratios=True),
    "profile": _table("coefficients", profile=True),
    "overall": _table("overall"),
    "anova earlier": _table("anova", after="earlier"),
    "anova lower-order": _table("anova", after="lower-order"),
    "anova others": _table("anova", after="others"),
    "rows": rows,
    "checks": checks,
    "forecast": lambda fit, case: fit.forecast(case.new).frame,
    "forecast all at once": forecast_all_at_once,
    "forecast held": forecast_held,
    "forecast free": forecast_free,
    "crosscheck": _table("crosscheck", seed=1),
    "crosscheck folds": _table("crosscheck", folds=4, seed=1),
    "compare": compare,
    "stepwise": stepwise,
    "box_cox": _table("box_cox"),
    "average_effects": _table("average_effects"),
    "claim": claim,
    "slopes": slopes,
    "slope regions": slope_regions,
    "means": means,
    "levels": levels,
    "what if": what_if,
    "equation": equation,
    "saved": saved,
    "picture": picture,
}


def answer(fit: jn.Fit, case: Case, question: str) -> pd.DataFrame:
    """The answer; a refusal is an answer too."""
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        warnings.simplefilter("ignore", jn.JoineryWarning)
        try:
            return QUESTIONS[question](fit, case)
        except jn.JoineryError as refusal:
            return pd.DataFrame({"refused": [type(refusal).__name__]})


def difference(a: pd.DataFrame, b: pd.DataFrame, tolerance: float = 1e-6) -> str:
    """Where two answers differ, in words; empty when they agree to rounding."""
    columns = [
        c
        for c in a.columns
        if c in b.columns and c not in ("note", "reason", "advice", "adjusted_for")
    ]
    if "refused" in {*a.columns, *b.columns} and not (
        "refused" in a.columns and "refused" in b.columns
    ):
        return f"one is refused: {a.to_dict('list') if 'refused' in a else b.to_dict('list')}"
    if len(a) != len(b):
        return f"{len(a)} lines against {len(b)}"
    for name in columns:
        left, right = a[name].to_numpy(), b[name].to_numpy()
        if not (np.issubdtype(left.dtype, np.number) and np.issubdtype(right.dtype, np.number)):
            if [str(v) for v in left] != [str(v) for v in right]:
                return f"{name}: {left.tolist()} against {right.tolist()}"
            continue
        with np.errstate(all="ignore"):
            size = (
                np.nanmax(np.append(np.abs(left[np.isfinite(left)]), 1e-12))
                if name not in ("p",)
                else 1e-6
            )
            near = (
                np.abs(left - right)
                <= tolerance * (np.abs(left) + np.abs(right)) + 1e-3 * tolerance * size + 1e-12
            )
        if not np.all(near | (np.isnan(left) & np.isnan(right)) | (left == right)):
            place = int(
                np.flatnonzero(~(near | (np.isnan(left) & np.isnan(right)) | (left == right)))[0]
            )
            return f"{name}[{place}]: {left[place]:.10g} against {right[place]:.10g}"
    return ""
