"""A set of fits as one JSON file, and back."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any, Literal

import numpy as np
import pydantic

from joinery.model.load import SavedFile, fitted_from
from joinery.model.result import Fit
from joinery.model.save import KIND_OF_SET, VERSION, content_of, sealed, write_content
from joinery.model.saved_form import Strict
from joinery.study.each.differ import spreads_differ
from joinery.study.each.groups import Groups
from joinery.support.errors import FileFormatError
from joinery.support.limits import FITS_SAVED

ARRAYS = ("n", "b", "errors", "df", "covariance", "residual_df")


class SavedSet(Strict):
    """A whole saved set; its fits are checked one by one."""

    kind: Literal["joinery fit set"]
    version: int
    by: list[str]
    labels: list[str]
    terms: list[str]
    reasons: list[str]
    arrays: dict[str, Any]
    figures: dict[str, list[float | None]]
    parts: dict[str, list[float | None]]
    common: dict[str, Any]
    fits: dict[str, dict[str, Any]]
    seal: str


def save_each(groups: Groups, fits: Mapping[str, Fit], path: str | os.PathLike[str]) -> Path:
    """Write a set of fits as JSON. See ``FitSet.save``."""
    p = spreads_differ(groups)
    parts = groups.parts | {"spreads_p": np.array([np.nan if p is None else p])}
    each = fits if len(groups.labels) <= FITS_SAVED else {}
    content = {
        "kind": KIND_OF_SET,
        "version": VERSION,
        "by": list(groups.by),
        "labels": list(groups.labels),
        "terms": list(groups.terms),
        "reasons": list(groups.reasons),
        "arrays": {name: _plain(getattr(groups, name)) for name in ARRAYS},
        "figures": {name: _plain(v) for name, v in groups.figures.items()},
        "parts": {name: _plain(v) for name, v in parts.items()},
        "common": content_of(groups.common),
        "fits": {label: content_of(each[label]._fitted) for label in each},
    }
    return write_content(sealed(content), path)


def _plain(values: np.ndarray) -> list[Any]:
    """Return an array as lists, None where it is empty; infinite degrees of freedom as a
    negative."""
    shown = np.where(np.isposinf(values), -1.0, values).astype(object)
    shown[~np.isfinite(values.astype(float)) & ~np.isposinf(values)] = None
    out: list[Any] = shown.tolist()
    return out


def _array(values: Any, *, of_df: bool = False) -> np.ndarray:
    out = np.array(values, dtype=float)
    if of_df:
        out[out == -1.0] = np.inf
    return out


def groups_from(file: SavedFile) -> tuple[Groups, dict[str, Fit]]:
    """Return the groups of a saved set, and their fits. Raises FileFormatError for a malformed
    file."""
    refuse: Callable[[str], FileFormatError] = file.refuse
    try:
        saved = SavedSet.model_validate(file.content)
        g, p = len(saved.labels), len(saved.terms)
        arrays = {name: _array(saved.arrays[name], of_df="df" in name) for name in ARRAYS}
        shapes = {"b": (g, p), "errors": (g, p), "df": (g, p), "covariance": (g, p, p)}
        wrong = [n for n, v in arrays.items() if v.shape != shapes.get(n, (g,))]
        if wrong or len(saved.reasons) != g:
            raise refuse(f"{(wrong or ['reasons'])[0]} has another size than the groups")
    except pydantic.ValidationError as slip:
        first = slip.errors()[0]
        raise refuse(f"{'.'.join(map(str, first['loc']))}: {first['msg'].lower()}") from None
    except (KeyError, ValueError, TypeError) as slip:
        raise refuse(f"its parts do not fit together ({slip})") from None
    common = fitted_from(saved.common, refuse)
    groups = Groups(
        common,
        tuple(saved.by),
        tuple(saved.labels),
        np.empty(0, np.int64),
        tuple(saved.terms),
        **arrays | {"n": arrays["n"].astype(int)},
        figures={name: _array(v) for name, v in saved.figures.items()},
        reasons=tuple(saved.reasons),
        parts={name: _array(v) for name, v in saved.parts.items()},
    )
    fits = {label: Fit(fitted_from(content, refuse)) for label, content in saved.fits.items()}
    return replace(groups), fits
