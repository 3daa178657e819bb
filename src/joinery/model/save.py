"""A fit as one JSON file: everything a forecast needs, nothing of the table's rows."""

from __future__ import annotations

import hashlib
import json
import math
import os
from pathlib import Path
from typing import Any, Literal

import numpy as np

from joinery.model.saved_form import (
    SavedEstimate,
    SavedGroups,
    SavedNote,
    SavedOptions,
    SavedSandwich,
    SavedSeen,
    SavedSolution,
    Strict,
)
from joinery.show.files import write_text
from joinery.study.check.table import check_lines
from joinery.study.fitted import Fitted
from joinery.study.forecast.memory import as_plain, forecast_memory
from joinery.study.read.notes import notes
from joinery.study.verdicts import NOT_JUDGED

KIND: Literal["joinery fit"] = "joinery fit"
KIND_OF_SET = "joinery fit set"
VERSION = 7  # of the form of saved files; others are refused


def save(fit: Fitted, path: str | os.PathLike[str]) -> Path:
    """Write a fit as JSON. See ``Fit.save``."""
    return write_content(content_of(fit), path)


def write_content(content: dict[str, Any], path: str | os.PathLike[str]) -> Path:
    """Write what is saved as JSON text."""
    return write_text(path, json.dumps(content, ensure_ascii=False, indent=1) + "\n")


def content_of(fit: Fitted) -> dict[str, Any]:
    """Return a fit as JSON values, sealed."""
    from joinery.support import version

    s, origin, estimate = fit.solution, fit.origin, fit.estimate
    shape = estimate.family.shape
    content: dict[str, Any] = {
        "kind": KIND,
        "version": VERSION,
        "joinery": version.VERSION,
        "sentence": fit.sentence,
        "changes": list(fit.changes),
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
            "named": list(fit.design.named),
            "decimal": fit.design.manner.marks.decimal,
            "decimal_certain": fit.design.manner.marks.certain,
            "levels": sorted(fit.design.manner.levels),
            "units": dict(fit.design.manner.units),
        },
        "solution": _fields(SavedSolution, s)
        | {"dependence": {str(k): v.tolist() for k, v in s.dependence.items()}}
        | {"groups": None if s.groups is None else _fields(SavedGroups, s.groups)},
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
    content["checks"] = _checks_of(fit)
    content["rows"] = {
        name: _jsonable(value) for name, value in as_plain(forecast_memory(fit)).items()
    }
    return sealed(content)


def _checks_of(fit: Fitted) -> list[dict[str, Any]] | None:
    """Return the lines of the checks; None where they would take passes over a table left apart."""
    if fit.origin is None:
        lines = fit.judged
    elif fit.origin.table.read_as_needed and not check_lines.known(fit):
        lines = None
    else:
        lines = tuple(check_lines(fit))
    if lines is None:
        return None
    return [
        {
            "kind": line.kind,
            "name": line.name,
            "question": line.question,
            "check": line.check,
            "statistic": _jsonable(float(line.test.statistic)),
            "p": _jsonable(float(line.test.p)),
            "finding": line.finding,
            "verdict": line.verdict,
            "why": line.advice if line.verdict == NOT_JUDGED else "",
            "would_see": None if line.would_see is None else _fields(SavedSeen, line.would_see),
            "every": line.every,
        }
        for line in lines
    ]


def sealed(content: dict[str, Any]) -> dict[str, Any]:
    """Return content with the seal that tells whether it was changed afterwards."""
    return content | {"seal": seal_of(content)}


def _fields(kind: type[Strict], of: Any) -> dict[str, Any]:
    """Return the fields that a record shares with its saved form."""
    return {name: _jsonable(getattr(of, name)) for name in kind.model_fields if hasattr(of, name)}


def _jsonable(value: Any) -> Any:
    """Return arrays as lists; NaN and infinity, which JSON lacks, as null."""
    if isinstance(value, np.ndarray):
        return [_jsonable(v) for v in value.tolist()]
    if isinstance(value, list):
        return [_jsonable(v) for v in value]
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return value


def seal_of(content: dict[str, Any]) -> str:
    plain = json.dumps(content, ensure_ascii=False, sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(plain.encode("utf-8", "surrogatepass")).hexdigest()


def _fingerprint(fit: Fitted) -> str:
    """Return a SHA-256 of the table's cells and headers, or of its columns' kinds and its parts'
    lengths.

    Of a loaded fit nothing."""
    import pandas as pd

    if fit.origin is None:
        return ""
    table = fit.origin.given
    if table.source is not None:  # of a table that is read as needed, what it is made of
        made_of = [str(table.source.schema), *map(str, table.source.lengths)]
        return hashlib.sha256("\x1f".join(made_of).encode()).hexdigest()
    frame = table.frame
    digest = hashlib.sha256("\x1f".join(map(str, frame.columns)).encode("utf-8", "surrogatepass"))
    try:
        digest.update(pd.util.hash_pandas_object(frame, index=False).to_numpy().tobytes())
    except TypeError:
        digest.update(frame.to_csv(index=False).encode("utf-8", "surrogatepass"))
    return digest.hexdigest()
