"""Stepwise search among groups of columns: the steps, whatever the models are estimated by."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from math import inf, isfinite
from typing import NamedTuple, Protocol

BETTER = 1e-9  # by what share a figure has to fall, so that rounding decides nothing


class Model(NamedTuple):
    """One candidate: its groups, its coefficients (the constant's included), how far it misses."""

    chosen: frozenset[int]
    rank: int
    misfit: float  # residual sum of squares, deviance, or −2 log likelihood
    figure: float  # what the criterion makes least; infinite where the model has none
    dispersion: float = float("nan")  # Pearson's, where p is by F of deviances


class Candidates(Protocol):
    """Models in some groups of columns, and what a criterion says of them."""

    @property
    def needs(self) -> tuple[frozenset[int], ...]:
        """The groups that each group may not be without."""

    def model(self, chosen: frozenset[int]) -> Model:
        """Return the model in some groups."""

    def near(
        self, now: Model, kept: frozenset[int], *, add: bool, drop: bool
    ) -> Iterator[tuple[bool, int, Model]]:
        """Yield each model one move away: whether it adds, the group moved, the model."""

    def p(self, small: Model, large: Model) -> float:
        """Return the p of what the larger of two nested models adds."""


@dataclass(frozen=True)
class Rules:
    """The moves of a search, and when one is made."""

    add: bool
    drop: bool
    by_p: bool
    enter: float  # the p below which a group enters
    leave: float  # the p above which it leaves


class Tried(NamedTuple):
    """A move that was looked at, and its score: the figure after it, or the p of its group."""

    added: bool
    group: int
    score: float
    beside: frozenset[int] = frozenset()  # groups that it cannot be without, added with it


@dataclass(frozen=True)
class Move:
    """One step: what moved (None at the start), the model after it, what was tried for it."""

    added: bool | None
    group: int | None
    model: Model
    tried: tuple[Tried, ...]  # the best first
    beside: frozenset[int] = frozenset()


@dataclass(frozen=True)
class Path:
    """The steps of a search, and what was tried when no move was left to make."""

    moves: tuple[Move, ...]
    last_tried: tuple[Tried, ...]

    @property
    def final(self) -> Model:
        return self.moves[-1].model


def stepwise_path(c: Candidates, start: frozenset[int], kept: frozenset[int], rules: Rules) -> Path:
    """Steps from a start until no move helps, never back to a model that was left."""
    now = c.model(start)
    moves = [Move(None, None, now, ())]
    seen = {start}
    while True:
        options = [
            (Tried(added, group, _score(c, now, added, model, rules)), model)
            for added, group, model in c.near(now, kept, add=rules.add, drop=rules.drop)
        ]
        best = _best(options, now, seen, rules)
        if best is None and rules.add:  # what helps only together, where nothing helps alone
            options += [
                (Tried(True, group, _score(c, now, True, model, rules), beside), model)
                for group, beside, model in _with_needs(c, now)
            ]
            best = _best(options, now, seen, rules)
        tried = tuple(one for one, _ in options)
        if best is None:
            return Path(tuple(moves), tried)
        one, now = best
        seen.add(now.chosen)
        moves.append(Move(one.added, one.group, now, tried, one.beside))


Option = tuple[Tried, Model]


def _best(
    options: list[Option], now: Model, seen: set[frozenset[int]], rules: Rules
) -> Option | None:
    """Sort the options, the best first, and return the first that is worth making."""
    options.sort(key=lambda one: (_order(one[0], rules), one[0].added, one[0].group))
    for one, model in options:
        if _made(one, now, rules) and model.chosen not in seen:
            return one, model
    return None


def _with_needs(c: Candidates, now: Model) -> Iterator[tuple[int, frozenset[int], Model]]:
    """Yield groups that lack what they cannot be without, as a product its factors, with that.

    Factors that help only in their product would else never be looked at.
    """
    for group, needs in enumerate(c.needs):
        lacking = needs - now.chosen
        if lacking and group not in now.chosen:
            model = c.model(now.chosen | needs | {group})
            if model.rank > now.rank:
                yield group, lacking, model


def _score(c: Candidates, now: Model, added: bool, model: Model, rules: Rules) -> float:
    if not rules.by_p:
        return model.figure
    if added:
        return c.p(now, model)
    return c.p(model, now)


def _order(one: Tried, rules: Rules) -> tuple[int, float]:
    """Return what is done first: under p drops before additions, the largest p first."""
    score = one.score if one.score < inf else inf  # NaN is last too
    if not rules.by_p:
        return 0, score
    leaves = not one.added and one.score > rules.leave
    if leaves:
        return (0, -one.score)
    if one.added:
        return (1, score)
    return (2, -one.score)


def _made(one: Tried, now: Model, rules: Rules) -> bool:
    """Return True if a move is worth making."""
    if rules.by_p:
        if one.added:
            return one.score < rules.enter
        return one.score > rules.leave
    if one.score == now.figure == -inf:  # both are perfect: the smaller will do
        return not one.added
    if not isfinite(now.figure):
        return bool(one.score < now.figure)
    return bool(one.score < now.figure - BETTER * abs(now.figure))
