"""A saved fit read back: JSON values checked, sealed as they were, and put together again."""

from __future__ import annotations

import json
import math
import os
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pydantic

from joinery.core.glm.estimate import Estimate
from joinery.core.glm.families import FAMILIES
from joinery.core.glm.links import LINKS
from joinery.core.inference.covariance import Sandwich
from joinery.core.inference.diagnostics import NOTHING
from joinery.core.least_squares.groups import Groups
from joinery.core.least_squares.solution import Solution
from joinery.data.manner import Manner
from joinery.data.marks import Marks
from joinery.design.design import Design
from joinery.model.save import KIND, KIND_OF_SET, VERSION, seal_of
from joinery.model.saved_checks import check_parts, check_use
from joinery.model.saved_form import (
    SavedCheck,
    SavedFit,
    SavedGroups,
    SavedRows,
    SavedSandwich,
    SavedSolution,
)
from joinery.notation.parse import read_sentence
from joinery.study.check.check import NO_ADVICE, Line, Seen
from joinery.study.fitted import Fitted, Options
from joinery.study.forecast.memory import ForecastMemory
from joinery.support.errors import DataError, FileFormatError, JoineryError, Note


def _line(saved: SavedCheck) -> Line:
    """Return a line of the checks as it was saved; its advice was for a fit with rows."""
    statistic, p = (math.nan if v is None else v for v in (saved.statistic, saved.p))
    seen = saved.would_see
    return Line(
        saved.kind,
        saved.name,
        saved.question,
        saved.check,
        replace(NOTHING, statistic=statistic, p=p),
        saved.finding,
        saved.verdict,
        saved.why or NO_ADVICE,
        tested=False,
        would_see=None if seen is None else Seen(seen.what, seen.size, seen.where),
        every=saved.every,
    )


class _TwiceError(Exception):
    """A name that stands twice in a JSON object."""


def _once_each(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    out: dict[str, Any] = {}
    for name, value in pairs:
        if name in out:
            raise _TwiceError(name)
        out[name] = value
    return out


@dataclass(frozen=True)
class SavedFile:
    """The content of a saved file, and where it lies."""

    path: str
    content: dict[str, Any]

    def refuse(self, reason: str) -> FileFormatError:
        """Return the error of a file that is not what it should be."""
        return _refused(self.path, reason)


def _refused(where: str, reason: str) -> FileFormatError:
    return FileFormatError(f"{where} is not a saved fit: {reason}", path=where, reason=reason)


def read_saved(path: str | os.PathLike[str]) -> SavedFile:
    """Read a saved file as JSON values, of the version that is read here, its seal unbroken."""
    where = os.fsdecode(path)
    if not Path(where).is_file():
        raise DataError(f"no such file: {where!r}")
    refuse = partial(_refused, where)
    try:
        text = Path(where).read_bytes().decode("utf-8")
        content = json.loads(text, object_pairs_hook=_once_each)
    except json.JSONDecodeError as slip:
        raise refuse(f"it is not JSON text (line {slip.lineno}, column {slip.colno})") from None
    except UnicodeDecodeError as slip:
        raise refuse(f"it is not JSON text (byte {slip.start} is not UTF-8)") from None
    except _TwiceError as slip:
        raise refuse(f"{slip.args[0]!r} stands twice in it") from None
    except (ValueError, RecursionError):
        raise refuse("it holds a number too long, or is nested too deeply") from None
    except OSError as slip:
        raise DataError(f"cannot read {where!r}: {(slip.strerror or '').lower()}") from None
    if not isinstance(content, dict) or content.get("kind") not in (KIND, KIND_OF_SET):
        raise refuse(f'it does not begin with "kind": "{KIND}"')
    version = content.get("version")
    if version != VERSION:
        newer = isinstance(version, int) and version > VERSION
        if newer:
            way = "update Joinery"
        else:
            way = "fit the table again and save it"
        raise refuse(f"it has version {version!r}, and this Joinery reads version {VERSION}; {way}")
    seal = content.get("seal")
    if seal != seal_of({name: part for name, part in content.items() if name != "seal"}):
        raise refuse("it was changed after it was written; save the fit again")
    return SavedFile(where, content)


def fitted_from(content: Any, refuse: Callable[[str], FileFormatError]) -> Fitted:
    """Return a fit from saved JSON values; ``refuse`` makes the error of those that are none."""
    try:
        saved = SavedFit.model_validate_json(json.dumps(content))
        fitted = _rebuilt(saved)
        check_use(fitted)
        return fitted
    except pydantic.ValidationError as slip:
        first = slip.errors()[0]
        place = ".".join(map(str, first["loc"]))
        raise refuse(f"{place}: {first['msg'].lower()}") from None
    except FileFormatError:
        raise
    except (JoineryError, ArithmeticError, LookupError, RecursionError) as slip:
        raise refuse(f"its parts do not fit together ({slip})") from None
    except (ValueError, TypeError, AttributeError, np.linalg.LinAlgError) as slip:
        raise refuse(f"its parts do not fit together ({slip})") from None


def _sandwich(saved: SavedSandwich, rank: int) -> Sandwich:
    df = np.array([math.nan if v is None else v for v in saved.df])
    meat = np.array(saved.meat, dtype=float).reshape(rank, rank)
    if saved.blind:
        blind = np.array(saved.blind, dtype=float).reshape(rank, -1)
    else:
        blind = np.empty((rank, 0))
    leverages = tuple(np.array(K, dtype=float).reshape(-1, rank, rank) for K in saved.leverages)
    return Sandwich(
        saved.kind,
        meat,
        df,
        tuple(saved.clusters),
        saved.cosines,
        blind,
        leverages,
        saved.clipped,
        np.array(saved.rows, dtype=float).reshape(-1, rank) if saved.rows else np.empty((0, 0)),
        np.array(saved.copies, dtype=float),
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
    sentence = read_sentence(saved.sentence)
    check_parts(saved, sentence)
    design = Design(
        sentence,
        {text: factor.model_dump() for text, factor in learnt.factors.items()},
        {text: function.model_dump() for text, function in learnt.functions.items()},
        learnt.seen,
        learnt.fills,
        saved.options.order,
        tuple(learnt.response_ranges),
        tuple(learnt.dates),
        tuple(learnt.named),
        Manner(
            Marks(learnt.decimal, learnt.decimal_certain),
            frozenset(learnt.levels),
            learnt.units,
        ),
    )
    solution = _rebuilt_solution(s)
    if design.width != len(s.coefficients):
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
        changes=tuple(saved.changes),
        judged=None if saved.checks is None else tuple(map(_line, saved.checks)),
        memory=_rebuilt_memory(saved.rows, solution.rank),
    )


def _rebuilt_solution(s: SavedSolution) -> Solution:
    r = len(s.kept)
    rank = r + (s.intercept is not None)
    return Solution(
        intercept=s.intercept,
        coefficients=np.array([math.nan if c is None else c for c in s.coefficients]),
        kept=np.array(s.kept, dtype=int),
        dependence={k: np.array(v) for k, v in s.dependence.items()},
        centre=np.array(s.centre),
        scale=np.array(s.scale),
        own_factor=None if s.own_factor is None else _square(s.own_factor, r),
        own_effects=None if s.own_effects is None else np.array(s.own_effects),
        n=s.n,
        weight_sum=s.weight_sum,
        rss=s.rss,
        tss=s.tss,
        mean_response=s.mean_response,
        spans_constant=s.spans_constant,
        perfect=s.perfect,
        condition=math.inf if s.condition is None else s.condition,
        way=s.way,
        exact_inverse=None if s.exact_inverse is None else _square(s.exact_inverse, r),
        exact_root=None if s.exact_root is None else _square(s.exact_root, rank),
        unit=s.unit,
        constant_direction=None if s.constant_direction is None else np.array(s.constant_direction),
        groups=None if s.groups is None else _rebuilt_groups(s.groups),
    )


def _square(rows: list[list[float]], size: int) -> np.ndarray:
    return np.array(rows, dtype=float).reshape(size, size)


def _rebuilt_groups(g: SavedGroups) -> Groups:
    d = len(g.numbers)
    return Groups(
        levels=np.array(g.levels, dtype=int),
        numbers=np.array(g.numbers, dtype=int),
        of_code=np.array(g.of_code, dtype=int),
        weights=np.array(g.weights),
        means=np.array(g.means, dtype=float).reshape(d, len(g.weights)),
        response=np.array(g.response),
        factor=_square(g.factor, d),
        inverse=_square(g.inverse, d),
        effects=np.array(g.effects, dtype=float),
    )


def _rebuilt_memory(rows: SavedRows, rank: int) -> ForecastMemory:
    kept = ForecastMemory(
        typical=rows.typical,
        farthest=rows.farthest,
        basis=None if rows.basis is None else np.array(rows.basis, dtype=float).reshape(-1, rank),
        left_out=None if rows.left_out is None else np.array(rows.left_out, dtype=float),
        cells={name: tuple(map(tuple, cells)) for name, cells in rows.cells.items()},
        spreads=tuple(rows.spreads),
        few={name: tuple(values) for name, values in rows.few.items()},
        offset=rows.offset,
        columns=tuple(rows.columns),
    )
    if (kept.basis is None) != (kept.left_out is None) or (
        kept.basis is not None and len(kept.basis) != len(rows.left_out or [])
    ):
        raise ValueError("the rows kept for distribution-free intervals differ in number")
    return kept
