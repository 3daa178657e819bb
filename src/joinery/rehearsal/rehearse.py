"""The same study many times over: what standard errors, intervals and tests are worth."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.core.numeric import distributions as tails
from joinery.rehearsal.process import Process
from joinery.show.appearance import Appearance
from joinery.show.names import apart
from joinery.show.numbers import count, level_words
from joinery.show.table import Table
from joinery.support.errors import CallError
from joinery.support.progress import Advance

if TYPE_CHECKING:
    import pandas as pd

BATCH = 2000  # draws that are worked on at once


@dataclass(frozen=True)
class Block:
    """One number of rows: estimates, standard errors, ends and p, each (times, coefficients)."""

    process: Process
    rows: int
    estimates: np.ndarray
    standard_errors: np.ndarray
    lower: np.ndarray
    upper: np.ndarray
    p: np.ndarray

    @property
    def lost(self) -> int:
        """Return how many draws could not be fitted."""
        return int(np.isnan(self.estimates).all(axis=1).sum())


@dataclass(frozen=True)
class Rehearsals:
    """Every block, and the level of the intervals."""

    blocks: tuple[Block, ...]
    level: float
    notes: tuple[str, ...] = field(default=())

    @cached_property
    def coefficients(self) -> Table:
        several = len(self.blocks) > 1
        parts = [_summary(block, several) for block in self.blocks]
        columns: dict[str, Any] = {
            name: np.concatenate([p[name] for p in parts]) for name in parts[0]
        }
        columns["term"] = [str(v) for v in columns["term"]]
        times = len(self.blocks[0].estimates)
        lost = sum(block.lost for block in self.blocks)
        notes = [
            f"{count(times, 'rehearsal')}; coverage: the share of {level_words(self.level)} "
            f"intervals that hold the truth; power: the share of tests at {1 - self.level:.2g} "
            "that reject zero",
            f"simulation error of a share: ± {100 * np.sqrt(0.25 / times):.1f} points at most",
            *self.notes,
        ]
        if lost:
            notes.append(f"{count(lost, 'draw')} could not be fitted, and are not counted")
        each_by_size = ("mean_estimate", "sd_of_estimates", "mean_standard_error", "interval_width")
        kinds = dict.fromkeys(each_by_size, "own")
        return Table(
            columns,
            title="What estimates, standard errors and intervals are worth",
            notes=tuple(notes),
            appearance=Appearance(
                keys=2 if several else 1,
                kinds=kinds
                | {"coverage": "share", "power": "share", "truth": "value", "rows": "whole"},
                headings={
                    "sd_of_estimates": "spread of estimates",
                    "mean_standard_error": "mean standard error",
                    "interval_width": "mean interval width",
                },
            ),
        )

    @cached_property
    def estimates(self) -> pd.DataFrame:
        """Every estimate: a row a rehearsal, a column a coefficient, and the number of rows."""
        import pandas as pd

        frames = []
        for block in self.blocks:
            if len(self.blocks) > 1:
                several = ["rows"]
            else:
                several = []
            names = apart(block.process.names, several)
            frame = pd.DataFrame(block.estimates, columns=list(names.values()))
            for column in several:
                frame.insert(0, column, block.rows)
            frames.append(frame)
        return pd.concat(frames, ignore_index=True)


def _summary(block: Block, several: bool) -> dict[str, np.ndarray]:
    truth = block.process.truth
    sound = ~np.isnan(block.estimates).all(axis=1)
    b, se = block.estimates[sound], block.standard_errors[sound]
    lower, upper, clear = block.lower[sound], block.upper[sound], block.p[sound]
    with np.errstate(all="ignore"):
        held = ((lower <= truth) & (truth <= upper)).astype(float)
    held[np.isnan(lower) | np.isnan(upper)] = np.nan  # no interval, which neither holds nor misses
    columns: dict[str, Any] = {}
    if several:
        columns["rows"] = np.full(len(truth), block.rows)
    return columns | {
        "term": np.array(block.process.names, dtype=object),
        "truth": truth,
        "mean_estimate": b.mean(axis=0) if len(b) else np.full(len(truth), np.nan),
        "sd_of_estimates": b.std(axis=0, ddof=1) if len(b) > 1 else np.full(len(truth), np.nan),
        "mean_standard_error": se.mean(axis=0) if len(b) else np.full(len(truth), np.nan),
        "coverage": _mean_of_known(held),
        "power": _mean_of_known(clear),
        "interval_width": _mean_of_known(upper - lower),
    }


def _mean_of_known(values: np.ndarray) -> np.ndarray:
    """Return the mean of each column (m,) over the draws that have a value; NaN where none has."""
    known = ~np.isnan(values)
    counts = known.sum(axis=0)
    with np.errstate(all="ignore"):
        return np.where(counts > 0, np.where(known, values, 0.0).sum(axis=0) / counts, np.nan)


def by_factor(made: Process, Y: np.ndarray, level: float) -> Block:
    """Least squares of every draw (n, times) on one design, through one factor of it.

    Raises CallError where the design has no full rank, or more coefficients than rows.
    """
    X = made.design.matrix(made.design.context(made.table, slice(None)))
    if made.sentence.intercept:
        X = np.column_stack([np.ones(len(X)), X])
    n, p = X.shape
    Q, R = np.linalg.qr(X)
    size = np.abs(np.diag(R))
    if n <= p or not (size > 1e-10 * np.abs(R).max(axis=0)).all():
        raise CallError(
            f"{count(n, 'row')} cannot determine {count(p, 'coefficient')} in this design; take "
            "more rows, or other predictors",
            argument="rows",
        )
    root = np.linalg.inv(R)
    factors = np.sqrt((root**2).sum(axis=1))
    effects = Q.T @ Y
    b = (root @ effects).T
    rss = ((Y - Q @ effects) ** 2).sum(axis=0)
    se = np.sqrt(rss / (n - p))[:, None] * factors
    half = float(tails.t_quantile((1 + level) / 2, n - p)) * se
    with np.errstate(all="ignore"):
        clear = (np.abs(b) > half).astype(float)
    return Block(made, n, b, se, b - half, b + half, clear)


Fitter = Callable[[np.ndarray], tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray]]


def one_by_one(
    made: Process, Y: np.ndarray, fitter: Fitter, level: float, advance: Advance
) -> Block:
    """Return every draw (n, times) fitted by itself; a draw that cannot be is empty."""
    width = len(made.names)
    parts = np.full((5, Y.shape[1], width), np.nan)
    for place in range(Y.shape[1]):
        parts[:, place] = fitter(Y[:, place])
        advance(1)
    b, se, lower, upper, p = parts
    clear = np.where(np.isnan(p), np.nan, p < 1 - level)
    return Block(made, len(Y), b, se, lower, upper, clear)


def joined(blocks: Sequence[Block]) -> Block:
    """Return batches of the same number of rows as one."""
    first = blocks[0]
    names = ("estimates", "standard_errors", "lower", "upper", "p")
    parts = {name: np.concatenate([getattr(b, name) for b in blocks]) for name in names}
    return Block(first.process, first.rows, **parts)
