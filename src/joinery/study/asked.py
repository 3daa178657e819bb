"""What a study may ask of a fit."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Protocol

import numpy as np

from joinery.core.covariance import Sandwich
from joinery.core.solution import Solution
from joinery.data.records import Records
from joinery.design.blocks import Asides, RowBlocks
from joinery.design.design import Design
from joinery.design.response import ResponseScale
from joinery.design.working import WorkingRows
from joinery.errors import CallError
from joinery.notation.evaluate import Rows


class Chosen(Protocol):
    """The rows a fit used, and the others with their reasons."""

    @property
    def rows(self) -> Rows: ...
    @property
    def out(self) -> np.ndarray: ...
    @property
    def reasons(self) -> Sequence[str]: ...
    @property
    def awaiting(self) -> np.ndarray: ...
    @property
    def used(self) -> int: ...
    @property
    def counts(self) -> Mapping[str, int]: ...


class Asked(Protocol):
    """A fit, as the studies see it."""

    @property
    def sentence(self) -> str: ...
    @property
    def design(self) -> Design: ...
    @property
    def solution(self) -> Solution: ...
    @property
    def response(self) -> ResponseScale: ...
    @property
    def sandwich(self) -> Sandwich | None: ...
    @property
    def asked(self) -> Mapping[str, Any]: ...
    @property
    def asides(self) -> Asides: ...
    @property
    def level(self) -> float: ...
    @property
    def family(self) -> str: ...
    @property
    def link(self) -> str: ...
    @property
    def notes(self) -> tuple[str, ...]: ...
    @property
    def n_rows(self) -> int: ...
    @property
    def residual_df(self) -> int: ...
    @property
    def model_df(self) -> int: ...
    @property
    def error_scale(self) -> float | None: ...
    @property
    def reference_df(self) -> float: ...
    @property
    def glm(self) -> Any: ...
    @property
    def dispersion(self) -> float | None: ...
    @property
    def deviance(self) -> float: ...
    @property
    def null_deviance(self) -> float: ...
    @property
    def log_likelihood(self) -> float | None: ...
    @property
    def residual_sd(self) -> float | None: ...
    @property
    def r_squared(self) -> float | None: ...
    @property
    def adjusted_r_squared(self) -> float | None: ...
    @property
    def id(self) -> str | None: ...
    @property
    def table(self) -> Records | None: ...
    @property
    def selection(self) -> Chosen | None: ...
    @property
    def memo(self) -> dict[str, Any]:
        """Figures worked out once, kept as long as the fit."""
        ...

    def words(self, name: str) -> str: ...


def checked_level(level: Any) -> float:
    """A level as a share: 0.95 and 95 mean the same. Raises CallError outside 0 to 100."""
    try:
        value = float(level)
    except (TypeError, ValueError):
        value = float("nan")
    value = value / 100 if value > 1 else value
    if not 0 < value < 1:
        raise CallError(f"level={level!r} is no level; it lies between 0 and 100: write 0.95 or 95", argument="level")
    return value


def row_blocks(fit: Asked) -> RowBlocks | WorkingRows:
    """The rows of the least squares that a fit rests on, in blocks. Raises CallError for a loaded fit.

    Under other families than the normal these are the working responses and weights of the last step.
    """
    blocks = response_blocks(fit)
    return blocks if fit.glm is None else WorkingRows(blocks, fit.glm, fit.solution.whole)


def response_blocks(fit: Asked) -> RowBlocks:
    """The rows a fit used as they are, in blocks. Raises CallError for a loaded fit."""
    table, chosen = rows_at_hand(fit)
    return RowBlocks(fit.design, fit.response, fit.asides, table, chosen.rows)


def rows_at_hand(fit: Asked) -> tuple[Records, Chosen]:
    """The table and selection of a fit. Raises CallError for one loaded from a file, which keeps no rows."""
    if fit.table is None or fit.selection is None:
        raise CallError("a fit loaded from a file keeps no rows of its table; fit again with the table to see its rows")
    return fit.table, fit.selection
