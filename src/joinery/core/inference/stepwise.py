"""Choosing groups of columns from one triangular factor: nothing here goes back to the rows."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from joinery.core.numeric import distributions as tails
from joinery.core.numeric.triangular import triangle

DEPENDENT = 1e-9


@dataclass(frozen=True)
class Candidates:
    """The factor R (q, q) of [columns | y], its groups of columns, which others each needs, n.

    ``constant`` is 1 when the columns were centred: the intercept counts as a coefficient.
    ``log_scale`` is what 2·log likelihood has beside the residual sum of squares: weights, and the
    unit of the response."""

    R: np.ndarray
    groups: tuple[np.ndarray, ...]
    needs: tuple[frozenset[int], ...]
    n: int
    constant: int
    log_scale: float = 0.0

    @property
    def total_squares(self) -> float:
        """The sum of squares of the response without any group."""
        return float(self.R[:, -1] @ self.R[:, -1])

    def information(self, rss: float, rank: int, weight: float) -> float:
        """AIC (weight 2) or BIC (weight log n) of a model with this residual sum of squares."""
        if not rss > 0:
            return float("nan")
        return float(
            self.n * (np.log(2 * np.pi * rss / self.n) + 1) + weight * (rank + 1) - self.log_scale
        )

    def rss(self, chosen: Sequence[int]) -> tuple[float, int]:
        """Residual sum of squares and rank of a model in some groups."""
        columns = np.concatenate([np.empty(0, int), *(self.groups[g] for g in sorted(chosen))])
        T = triangle(self.R[:, np.append(columns, self.R.shape[1] - 1)])
        lengths = np.sqrt((self.R[:, columns] ** 2).sum(axis=0))
        rank = int(
            np.sum(np.abs(np.diag(T)[:-1]) > DEPENDENT * np.where(lengths > 0, lengths, 1.0))
        )
        return float(T[len(columns), -1] ** 2) if rank == len(columns) else float("nan"), rank

    def gains(self, chosen: frozenset[int]) -> dict[int, tuple[float, int]]:
        """Return how much each admissible group would take off the RSS, and its columns."""
        order = sorted(chosen)
        inside = np.concatenate([np.empty(0, int), *(self.groups[g] for g in order)])
        waiting = [
            g for g in range(len(self.groups)) if g not in chosen and self.needs[g] <= chosen
        ]
        outside = np.concatenate([np.empty(0, int), *(self.groups[g] for g in waiting)])
        T = triangle(self.R[:, np.concatenate([inside, outside, [self.R.shape[1] - 1]])])
        left, y, place = T[len(inside) :, len(inside) : -1], T[len(inside) :, -1], 0
        lengths = np.sqrt((self.R[:, outside] ** 2).sum(axis=0))
        out = {}
        for g in waiting:
            width = len(self.groups[g])
            columns, size = left[:, place : place + width], lengths[place : place + width]
            place += width
            if width == 1:
                square = float(columns[:, 0] @ columns[:, 0])
                if square > (DEPENDENT * size[0]) ** 2:
                    out[g] = float(columns[:, 0] @ y) ** 2 / square, 1
            elif width:
                small = triangle(np.column_stack([columns, y]))
                if np.all(np.abs(np.diag(small)[:-1]) > DEPENDENT * size):
                    out[g] = float(small[:width, -1] @ small[:width, -1]), width
        return out

    def losses(self, chosen: frozenset[int], kept: frozenset[int]) -> dict[int, tuple[float, int]]:
        """Return how much dropping each group that no other needs would add to the RSS."""
        out = {}
        now, _ = self.rss(sorted(chosen))
        for g in sorted(chosen - kept):
            if not any(g in self.needs[other] for other in chosen):
                without, _ = self.rss(sorted(chosen - {g}))
                out[g] = max(without - now, 0.0), len(self.groups[g])
        return out


@dataclass(frozen=True)
class Move:
    """One step: what moved (None at the start and the end), the model after it, what was tried."""

    added: bool | None
    group: int | None
    chosen: frozenset[int]
    rss: float
    rank: int
    figure: float
    tried: tuple[tuple[bool, int, float], ...]


Figure = Callable[[float, int], float]


def figure_of(c: Candidates, criterion: str, tss: float) -> Figure:
    """Return the figure to minimise: AIC, BIC, or minus adjusted R², of this RSS and rank."""

    def measured(rss: float, rank: int) -> float:
        if c.n - rank < 1 or not rss > 0:
            return float("inf")
        if criterion == "adjusted r2":
            return -(1 - rss / (c.n - rank) / (tss / (c.n - c.constant)))
        return c.information(rss, rank, 2.0 if criterion == "aic" else float(np.log(c.n)))

    return measured


def stepwise_path(
    c: Candidates,
    start: frozenset[int],
    kept: frozenset[int],
    *,
    add: bool,
    drop: bool,
    criterion: str,
    tss: float,
    enter: float,
    leave: float,
) -> list[Move]:
    """Steps from a start until no move helps."""
    figure = figure_of(c, "aic" if criterion == "p" else criterion, tss)
    chosen = start
    rss, rank = c.rss(sorted(chosen))
    moves = [Move(None, None, chosen, rss, rank + c.constant, figure(rss, rank + c.constant), ())]
    seen = {chosen}
    while True:
        now = moves[-1]
        options: list[tuple[float, bool, int, float, int]] = []
        if drop:
            for g, (more, width) in c.losses(chosen, kept).items():
                options.append(
                    (_score(c, criterion, figure, now, more, width, False), False, g, more, width)
                )
        if add:
            for g, (less, width) in c.gains(chosen).items():
                options.append(
                    (_score(c, criterion, figure, now, less, width, True), True, g, -less, width)
                )
        tried = tuple((added, g, score) for score, added, g, _, _ in sorted(options))
        best = _best(options, criterion, now.figure, enter, leave)
        after = None if best is None else (chosen | {best[2]} if best[1] else chosen - {best[2]})
        if best is None or after is None or after in seen:
            moves.append(Move(None, None, chosen, now.rss, now.rank, now.figure, tried))
            return moves
        chosen = after
        seen.add(chosen)
        rss, rank = c.rss(sorted(chosen))
        moves.append(
            Move(
                best[1],
                best[2],
                chosen,
                rss,
                rank + c.constant,
                figure(rss, rank + c.constant),
                tried,
            )
        )


def _score(
    c: Candidates, criterion: str, figure: Figure, now: Move, change: float, width: int, added: bool
) -> float:
    """Return the figure after a move; for p that of the term's F."""
    rss, rank = (
        (now.rss - change, now.rank + width) if added else (now.rss + change, now.rank - width)
    )
    if criterion != "p":
        return figure(max(rss, 0.0), rank)
    larger, df = (rss, c.n - rank) if added else (now.rss, c.n - now.rank)
    if df < 1 or not larger > 0:
        return 1.0 if added else 0.0
    return float(tails.f_upper(change / width / (larger / df), width, df))


def _best(
    options: list[tuple[float, bool, int, float, int]],
    criterion: str,
    now: float,
    enter: float,
    leave: float,
) -> tuple[float, bool, int, float, int] | None:
    if criterion != "p":
        best = min(options, default=None)
        return best if best is not None and best[0] < now - 1e-9 * abs(now) else None
    drops = [o for o in options if not o[1] and o[0] > leave]
    if drops:
        return max(drops)
    return min((o for o in options if o[1] and o[0] < enter), default=None)
