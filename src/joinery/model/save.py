"""A fit as one JSON file: everything a forecast needs, nothing of the table's rows."""

from __future__ import annotations

import hashlib
import json
import math
import os
from pathlib import Path
from typing import Any, Literal

import numpy as np
import pydantic

from joinery.core.glm.estimate import Estimate
from joinery.core.glm.families import FAMILIES
from joinery.core.glm.links import LINKS
from joinery.core.inference.covariance import Sandwich
from joinery.core.least_squares.solution import Solution
from joinery.design.design import Design
from joinery.errors import DataError, FileFormatError, JoineryError, Note
from joinery.notation.parse import read_sentence
from joinery.show.files import write_text
from joinery.study.fitted import Fitted, Options
from joinery.study.forecast.memory import ForecastMemory, as_plain, forecast_memory
from joinery.study.read.notes import notes

KIND: Literal["joinery fit"] = "joinery fit"
VERSION = 2
Numbers = list[float | None]


class _Strict(pydantic.BaseModel):
    model_config = pydantic.ConfigDict(extra="forbid", strict=True, allow_inf_nan=False)


class SavedData(_Strict):
    """Which table the fit came from, to recognise it by."""

    name: str
    fingerprint: str
    rows_left_out: int


class SavedDesign(_Strict):
    """What was learnt from the fitted rows."""

    factors: dict[str, dict[str, Any]]
    functions: dict[str, dict[str, Any]]
    seen: dict[str, tuple[float, float]]
    fills: dict[str, float]
    response_ranges: list[tuple[float, float]]
    dates: list[str]


class SavedSolution(_Strict):
    """The estimate and its triangular factor, every digit."""

    intercept: float | None
    coefficients: Numbers
    kept: list[int]
    dependence: dict[int, list[float]]
    centre: list[float]
    scale: list[float]
    factor: list[list[float]]
    effects: list[float]
    n: int
    weight_sum: float
    rss: float
    tss: float
    mean_response: float
    spans_constant: bool
    perfect: bool
    condition: float | None
    way: str
    exact_inverse: list[list[float]] | None
    exact_root: list[list[float]] | None
    unit: float
    constant_direction: list[float] | None


class SavedSandwich(_Strict):
    """The chosen covariance, in the basis of the factor."""

    kind: str
    meat: list[list[float]]
    df: Numbers
    clusters: list[int]
    lags: int | None
    blind: list[list[float]]
    leverages: list[list[list[list[float]]]]
    clipped: bool


class SavedEstimate(_Strict):
    """What was estimated beside the coefficients."""

    deviance: float | None
    null_deviance: float | None
    pearson: float | None
    scale: float | None
    known: bool
    law: bool
    log_likelihood: float | None
    parameters: int
    likely_dispersion: float | None
    overall_drop: float | None
    shape: float | Literal["infinite"] | None
    iterations: int | None
    converged: bool
    reason: str
    running: list[int]
    penalty: str | None


class SavedOptions(_Strict):
    """What was asked beside the sentence, as far as forecasts need it."""

    family: str
    link: str
    dispersion: float | Literal["estimated"] | None
    weights: str | None
    repeats: str | None
    offset: str | None
    id: str | None
    order: str | None
    std_errors: str
    cluster: list[str]
    level: float
    labels: dict[str, str]


class SavedRows(_Strict):
    """What forecasts need of the fitted rows: see ``study.forecast.memory``."""

    typical: dict[str, float | dict[str, float]]
    largest_leverage: float | None
    basis: list[list[float]] | None
    left_out: list[float] | None
    cells: dict[str, list[list[str]]]


class SavedNote(_Strict):
    """What the reader must know."""

    kind: str
    gravity: Literal["serious", "caution", "note"]
    words: str
    about: list[str]


class SavedFit(_Strict):
    """A whole saved fit. ``seal`` is the SHA-256 of everything else."""

    kind: Literal["joinery fit"]
    version: int
    joinery: str
    sentence: str
    options: SavedOptions
    notes: list[SavedNote]
    data: SavedData
    design: SavedDesign
    solution: SavedSolution
    estimate: SavedEstimate
    sandwich: SavedSandwich | None
    rows: SavedRows
    seal: str


def save(fit: Fitted, path: str | os.PathLike[str]) -> Path:
    """Writes a fit as JSON. See ``Fit.save``."""
    from joinery import __version__

    s, origin, estimate = fit.solution, fit.origin, fit.estimate
    shape = estimate.family.shape
    content: dict[str, Any] = {
        "kind": KIND,
        "version": VERSION,
        "joinery": __version__,
        "sentence": fit.sentence,
        "options": _fields(SavedOptions, fit.options)
        | {"labels": dict(fit.options.labels), "cluster": list(fit.options.cluster)},
        "notes": [_fields(SavedNote, note) | {"about": list(note.about)} for note in notes(fit)],
        "data": {
            "name": origin.table.name if origin else "",
            "fingerprint": _fingerprint(fit),
            "rows_left_out": len(origin.used_rows.out) if origin else 0,
        },
        "design": {
            "factors": fit.design.factor_memory,
            "functions": fit.design.function_memory,
            "seen": {name: list(ends) for name, ends in fit.design.seen.items()},
            "fills": fit.design.fills,
            "response_ranges": [list(ends) for ends in fit.design.response_ranges],
            "dates": list(fit.design.dates),
        },
        "solution": _fields(SavedSolution, s)
        | {"dependence": {str(k): v.tolist() for k, v in s.dependence.items()}},
        "estimate": _fields(SavedEstimate, estimate)
        | {
            "shape": "infinite" if shape is not None and math.isinf(shape) else shape,
            "running": list(estimate.running),
        },
        "sandwich": None
        if fit.sandwich is None
        else _fields(SavedSandwich, fit.sandwich)
        | {
            "clusters": list(fit.sandwich.clusters),
            "leverages": [K.tolist() for K in fit.sandwich.leverages],
        },
    }
    content["rows"] = {
        name: _jsonable(value) for name, value in as_plain(forecast_memory(fit)).items()
    }
    return write_text(
        path, json.dumps(content | {"seal": _seal(content)}, ensure_ascii=False, indent=1) + "\n"
    )


def _fields(kind: type[_Strict], of: Any) -> dict[str, Any]:
    """The fields that a record shares with its saved form."""
    return {name: _jsonable(getattr(of, name)) for name in kind.model_fields if hasattr(of, name)}


def _jsonable(value: Any) -> Any:
    """Arrays as lists; NaN and infinity, which JSON lacks, as null."""
    if isinstance(value, np.ndarray):
        return [_jsonable(v) for v in value.tolist()]
    if isinstance(value, list):
        return [_jsonable(v) for v in value]
    return None if isinstance(value, float) and not math.isfinite(value) else value


def _seal(content: dict[str, Any]) -> str:
    plain = json.dumps(content, ensure_ascii=False, sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(plain.encode("utf-8", "surrogatepass")).hexdigest()


def _fingerprint(fit: Fitted) -> str:
    """A SHA-256 of the table's cells and headers; of a loaded fit, nothing."""
    import pandas as pd

    if fit.origin is None:
        return ""
    frame = fit.origin.given.frame
    digest = hashlib.sha256("\x1f".join(map(str, frame.columns)).encode("utf-8", "surrogatepass"))
    try:
        digest.update(pd.util.hash_pandas_object(frame, index=False).to_numpy().tobytes())
    except TypeError:
        digest.update(frame.to_csv(index=False).encode("utf-8", "surrogatepass"))
    return digest.hexdigest()


def load_fitted(path: str | os.PathLike[str]) -> Fitted:
    """A fit from a file. See ``joinery.load``."""
    where = os.fsdecode(path)
    if not Path(where).is_file():
        raise DataError(f"no such file: {where!r}")

    def refuse(reason: str) -> FileFormatError:
        return FileFormatError(f"{where} is not a saved fit: {reason}", path=where, reason=reason)

    try:
        content = json.loads(Path(where).read_bytes().decode("utf-8"))
    except (UnicodeDecodeError, json.JSONDecodeError, RecursionError) as slip:
        raise refuse(f"it is no JSON text ({slip})") from None
    if not isinstance(content, dict) or content.get("kind") != KIND:
        raise refuse(f'it does not begin with "kind": "{KIND}"')
    version = content.get("version")
    if version != VERSION:
        newer = isinstance(version, int) and version > VERSION
        way = "update Joinery" if newer else "fit the table again and save it"
        raise refuse(f"it has version {version!r}, and this Joinery reads version {VERSION}; {way}")
    seal = content.pop("seal", None)
    try:
        if seal != _seal(content):
            raise refuse("it was changed after it was written; save the fit again")
        saved = SavedFit.model_validate_json(json.dumps(content | {"seal": seal}))
        return _rebuilt(saved)
    except pydantic.ValidationError as slip:
        first = slip.errors()[0]
        place = ".".join(map(str, first["loc"]))
        raise refuse(f"{place}: {first['msg'].lower()}") from None
    except FileFormatError:
        raise
    except (JoineryError, ValueError, KeyError, IndexError, TypeError, RecursionError) as slip:
        raise refuse(f"its parts do not fit together ({slip})") from None


def _sandwich(saved: SavedSandwich, rank: int) -> Sandwich:
    df = np.array([math.nan if v is None else v for v in saved.df])
    meat = np.array(saved.meat, dtype=float).reshape(rank, rank)
    blind = (
        np.array(saved.blind, dtype=float).reshape(rank, -1) if saved.blind else np.empty((rank, 0))
    )
    leverages = tuple(np.array(K, dtype=float).reshape(-1, rank, rank) for K in saved.leverages)
    return Sandwich(
        saved.kind, meat, df, tuple(saved.clusters), saved.lags, blind, leverages, saved.clipped
    )


def _rebuilt_estimate(saved: SavedFit, solution: Solution) -> Estimate:
    options = saved.options
    if options.family not in FAMILIES or options.link not in FAMILIES[options.family].links:
        raise ValueError(f"no such family and link: {options.family}, {options.link}")
    values = saved.estimate.model_dump()
    shape = values.pop("shape")
    family = FAMILIES[options.family].with_shape(math.inf if shape == "infinite" else shape)
    sums = {
        name: math.nan if values[name] is None else values[name]
        for name in ("deviance", "null_deviance", "pearson", "overall_drop")
    }
    return Estimate(
        **values | sums | {"running": tuple(values["running"])},
        solution=solution,
        family=family,
        link=LINKS[options.link],
    )


def _rebuilt(saved: SavedFit) -> Fitted:
    s = saved.solution
    learnt = saved.design
    design = Design(
        read_sentence(saved.sentence),
        learnt.factors,
        learnt.functions,
        learnt.seen,
        learnt.fills,
        saved.options.order,
        tuple(learnt.response_ranges),
        tuple(learnt.dates),
    )
    solution = _rebuilt_solution(s)
    if design.width != len(s.coefficients) or {len(s.kept)} != {
        len(s.centre),
        len(s.scale),
        len(s.effects),
    }:
        raise ValueError("the number of coefficients is not that of the sentence's columns")
    options = saved.options.model_dump() | {"cluster": tuple(saved.options.cluster)}
    return Fitted(
        design=design,
        estimate=_rebuilt_estimate(saved, solution),
        options=Options(**options),
        origin=None,
        sandwich=None if saved.sandwich is None else _sandwich(saved.sandwich, solution.rank),
        early_notes=tuple(
            Note(**note.model_dump() | {"about": tuple(note.about)}) for note in saved.notes
        ),
        memory=_rebuilt_memory(saved.rows, solution.rank),
    )


def _rebuilt_solution(s: SavedSolution) -> Solution:
    r = len(s.kept)
    rank = r + (s.intercept is not None)
    factor = np.array(s.factor, dtype=float).reshape(r, r)
    return Solution(
        intercept=s.intercept,
        coefficients=np.array([math.nan if c is None else c for c in s.coefficients]),
        kept=np.array(s.kept, dtype=int),
        dependence={k: np.array(v) for k, v in s.dependence.items()},
        centre=np.array(s.centre),
        scale=np.array(s.scale),
        factor=factor,
        effects=np.array(s.effects),
        n=s.n,
        weight_sum=s.weight_sum,
        rss=s.rss,
        tss=s.tss,
        mean_response=s.mean_response,
        spans_constant=s.spans_constant,
        perfect=s.perfect,
        condition=math.inf if s.condition is None else s.condition,
        way=s.way,
        exact_inverse=None
        if s.exact_inverse is None
        else np.array(s.exact_inverse, dtype=float).reshape(r, r),
        exact_root=None
        if s.exact_root is None
        else np.array(s.exact_root, dtype=float).reshape(-1, rank),
        unit=s.unit,
        constant_direction=None if s.constant_direction is None else np.array(s.constant_direction),
    )


def _rebuilt_memory(rows: SavedRows, rank: int) -> ForecastMemory:
    kept = ForecastMemory(
        typical=rows.typical,
        largest_leverage=rows.largest_leverage,
        basis=None if rows.basis is None else np.array(rows.basis, dtype=float).reshape(-1, rank),
        left_out=None if rows.left_out is None else np.array(rows.left_out),
        cells={name: tuple(map(tuple, cells)) for name, cells in rows.cells.items()},
    )
    if (kept.basis is None) != (kept.left_out is None) or (
        kept.basis is not None and len(kept.basis) != len(rows.left_out or [])
    ):
        raise ValueError("the rows kept for distribution-free intervals differ in number")
    return kept
