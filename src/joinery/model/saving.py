"""A fit as one JSON file: everything a forecast needs, nothing of the table's rows."""

from __future__ import annotations

import hashlib
import json
import math
import os
from dataclasses import asdict
from pathlib import Path
from typing import Any, Literal

import numpy as np
import pydantic

from joinery.core.covariance import Sandwich
from joinery.core.families import FAMILIES
from joinery.core.solution import Solution
from joinery.design.blocks import Asides
from joinery.design.design import Design
from joinery.errors import DataError, FileFormatError, JoineryError
from joinery.model.fit import Fit
from joinery.model.glm import Glm
from joinery.notation.parse import read_sentence
from joinery.show.files import write_text
from joinery.study.remembered import Remembered, as_plain, remembered

KIND: Literal["joinery fit"] = "joinery fit"
VERSION = 1
Numbers = list[float | None]


class _Strict(pydantic.BaseModel):
    model_config = pydantic.ConfigDict(extra="forbid", strict=True, allow_inf_nan=False)


class SavedData(_Strict):
    """Which table the fit came from, to recognise it by."""

    name: str
    id: str | None
    fingerprint: str
    rows_left_out: int


class SavedDesign(_Strict):
    """What was learnt from the fitted rows."""

    factors: dict[str, dict[str, Any]]
    functions: dict[str, dict[str, Any]]
    seen: dict[str, tuple[float, float]]
    fills: dict[str, float]


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


class SavedSandwich(_Strict):
    """The chosen covariance, in the basis of the factor."""

    kind: str
    meat: list[list[float]]
    df: Numbers
    clusters: list[int]
    lags: int | None
    columns: list[str]


class SavedGlm(_Strict):
    """The figures of another family than the normal."""

    family: str
    link: str
    deviance: float
    null_deviance: float | None
    pearson: float
    dispersion: float | None
    known: bool
    log_likelihood: float | None
    extra_parameters: int
    iterations: int
    converged: bool
    reason: str
    shape: float | Literal["infinite"] | None
    running: list[int]
    likely_dispersion: float | None
    penalty: str | None


class SavedRows(_Strict):
    """What forecasts need of the fitted rows: see ``study.remembered``."""

    typical: dict[str, float | dict[str, float]]
    largest_leverage: float | None
    residual_quantiles: list[float]
    basis: list[list[float]] | None
    left_out: list[float] | None
    cells: dict[str, list[list[str]]]


class SavedFit(_Strict):
    """A whole saved fit. ``seal`` is the SHA-256 of everything else."""

    kind: Literal["joinery fit"]
    version: int
    joinery: str
    sentence: str
    family: str
    link: str
    level: float
    labels: dict[str, str]
    notes: list[str]
    asides: dict[str, str]
    log_weights: float
    data: SavedData
    design: SavedDesign
    solution: SavedSolution
    sandwich: SavedSandwich | None
    glm: SavedGlm | None
    rows: SavedRows
    seal: str


def save(fit: Fit, path: str | os.PathLike[str]) -> Path:
    """Writes a fit as JSON. See ``Fit.save``."""
    from joinery import __version__

    s = fit.solution
    content: dict[str, Any] = {
        "kind": KIND,
        "version": VERSION,
        "joinery": __version__,
        "sentence": fit.sentence,
        "family": fit.family,
        "link": fit.link,
        "level": fit.level,
        "labels": dict(fit.labels),
        "notes": list(fit.notes),
        "asides": {name: text for name, text in asdict(fit.asides).items() if text is not None},
        "log_weights": fit.log_weights,
        "data": {
            "name": fit.table.name if fit.table else "",
            "id": fit.id,
            "fingerprint": _fingerprint(fit),
            "rows_left_out": len(fit.selection.out) if fit.selection else 0,
        },
        "design": {
            "factors": fit.design.factor_memory,
            "functions": fit.design.function_memory,
            "seen": {name: list(ends) for name, ends in fit.design.seen.items()},
            "fills": fit.design.fills,
        },
        "solution": {name: _jsonable(getattr(s, name)) for name in SavedSolution.model_fields if name != "dependence"}
        | {"dependence": {str(k): v.tolist() for k, v in s.dependence.items()}},
        "sandwich": None
        if fit.sandwich is None
        else {name: _jsonable(value) for name, value in vars(fit.sandwich).items()}
        | {"clusters": list(fit.sandwich.clusters), "columns": list(fit.asked.get("cluster") or [])},
    }
    content["glm"] = None if fit.glm is None else _saved_glm(fit.glm)
    content["rows"] = {name: _jsonable(value) for name, value in as_plain(remembered(fit)).items()}
    return write_text(path, json.dumps(content | {"seal": _seal(content)}, ensure_ascii=False, indent=1) + "\n")


def _saved_glm(glm: Glm) -> dict[str, Any]:
    shape = "infinite" if glm.shape is not None and math.isinf(glm.shape) else glm.shape
    return {name: _jsonable(value) for name, value in vars(glm).items()} | {
        "shape": shape,
        "running": list(glm.running),
    }


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


def _fingerprint(fit: Fit) -> str:
    """A SHA-256 of the table's cells and headers; of a loaded fit, nothing."""
    import pandas as pd

    if fit.table is None:
        return ""
    frame = fit.table.frame
    digest = hashlib.sha256("\x1f".join(map(str, frame.columns)).encode("utf-8", "surrogatepass"))
    try:
        digest.update(pd.util.hash_pandas_object(frame, index=False).to_numpy().tobytes())
    except TypeError:
        digest.update(frame.to_csv(index=False).encode("utf-8", "surrogatepass"))
    return digest.hexdigest()


def load(path: str | os.PathLike[str]) -> Fit:
    """A fit from a file written by ``Fit.save``.

    Parameters: ``path`` of the file. Returns a Fit that forecasts and prints as before, without the table's rows.
    Raises DataError when there is no such file, FileFormatError when it is malformed, newer or tampered with.

    >>> import joinery as jn, tempfile, pathlib
    >>> file = pathlib.Path(tempfile.mkdtemp()) / "jars.json"
    >>> _ = jn.fit("sample:jars", "jars_sold given hours_open").save(file)
    >>> jn.load(file).equation()
    'jars_sold = 3.7 + 5.29 hours_open'
    """
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
    if not isinstance(content.get("version"), int) or content["version"] > VERSION:
        raise refuse(
            f"it has version {content.get('version')!r}, and this Joinery reads up to {VERSION}; update Joinery"
        )
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
    return Sandwich(saved.kind, meat, df, tuple(saved.clusters), saved.lags)


def _rebuilt_glm(saved: SavedFit) -> Glm | None:
    if (saved.family, saved.link) == ("normal", "identity"):
        return None
    if saved.glm is None or saved.family not in FAMILIES or saved.link not in FAMILIES[saved.family].links:
        raise ValueError(f"no such family and link: {saved.family}, {saved.link}")
    values = saved.glm.model_dump()
    shape = math.inf if values["shape"] == "infinite" else values["shape"]
    null = math.nan if values["null_deviance"] is None else values["null_deviance"]
    return Glm(**values | {"shape": shape, "null_deviance": null, "running": tuple(values["running"])})


def _rebuilt(saved: SavedFit) -> Fit:
    s = saved.solution
    learnt = saved.design
    design = Design(read_sentence(saved.sentence), learnt.factors, learnt.functions, learnt.seen, learnt.fills)
    r = len(s.kept)
    whole = r + (s.intercept is not None)
    factor = np.array(s.factor, dtype=float).reshape(r, r)
    solution = Solution(
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
        exact_inverse=None if s.exact_inverse is None else np.array(s.exact_inverse, dtype=float).reshape(r, r),
        exact_root=None if s.exact_root is None else np.array(s.exact_root, dtype=float).reshape(-1, whole),
        unit=s.unit,
    )
    if design.width != len(s.coefficients) or {r} != {len(s.centre), len(s.scale), len(s.effects)}:
        raise ValueError("the number of coefficients is not that of the sentence's columns")
    glm = _rebuilt_glm(saved)
    rows = saved.rows
    kept = Remembered(
        typical=rows.typical,
        largest_leverage=rows.largest_leverage,
        residual_quantiles=tuple(rows.residual_quantiles),
        basis=None if rows.basis is None else np.array(rows.basis, dtype=float).reshape(-1, whole),
        left_out=None if rows.left_out is None else np.array(rows.left_out),
        cells={name: tuple(map(tuple, cells)) for name, cells in rows.cells.items()},
    )
    if (kept.basis is None) != (kept.left_out is None) or (
        kept.basis is not None and len(kept.basis) != len(rows.left_out or [])
    ):
        raise ValueError("the rows kept for distribution-free intervals differ in number")
    return Fit(
        family=saved.family,
        link=saved.link,
        glm=glm,
        memo={"remembered": kept},
        design=design,
        solution=solution,
        level=saved.level,
        told=tuple(saved.notes),
        labels=saved.labels,
        asked={"id": saved.data.id, "cluster": saved.sandwich.columns if saved.sandwich else None},
        sandwich=None if saved.sandwich is None else _sandwich(saved.sandwich, whole),
        asides=Asides(**{str(name): text for name, text in saved.asides.items()}),
        log_weights=saved.log_weights,
    )
