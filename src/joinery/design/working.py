"""The rows of a generalized linear model: as its likelihood sees them, and as its last least squares does."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

import numpy as np

from joinery.core.blocks import Block
from joinery.core.families import FAMILIES, Family, negative_binomial
from joinery.core.links import LINKS, Link
from joinery.core.pieces import Pieces
from joinery.core.working import Part, State, Working, state
from joinery.data.records import Records
from joinery.design.blocks import Asides, RowBlock, RowBlocks
from joinery.design.design import Design
from joinery.design.response import ResponseScale
from joinery.notation.evaluate import Rows

MOST_KEPT = 2**25  # cells that are kept between passes rather than made again


class Named(Protocol):
    """A family and link by name, with the shape where there is one."""

    @property
    def family(self) -> str: ...
    @property
    def link(self) -> str: ...
    @property
    def shape(self) -> float | None: ...


def family_of(named: Named) -> Family:
    """The family itself."""
    return negative_binomial(named.shape) if named.shape is not None else FAMILIES[named.family]


def link_of(named: Named) -> Link:
    """The link itself."""
    return LINKS[named.link]


class LikelyRows:
    """Row blocks as parts of a likelihood; those of a table that is not too large are kept between passes."""

    def __init__(self, blocks: RowBlocks) -> None:
        self.blocks = blocks
        self._kept: list[Part | None] = []

    @property
    def width(self) -> int:
        return self.blocks.width

    @property
    def pieces(self) -> Pieces[Part]:
        whole = self.blocks.whole
        rows = self.blocks.rows
        count = len(self.blocks.table) if isinstance(rows, slice) else len(rows)
        if count * (self.width + 4) > MOST_KEPT:
            return whole.map(part_of)
        if not self._kept:
            self._kept = [None] * len(whole)

        def kept(i: int, room: np.ndarray | None) -> Part:
            part = self._kept[i]
            if part is None:
                part = self._kept[i] = part_of(whole.make(i, None))
            return part

        return Pieces(whole.count, kept, shared=whole.shared)


def part_of(block: RowBlock) -> Part:
    """A block as a part of a likelihood; the trials stand beside the weights."""
    weights = np.ones(len(block.y)) if block.precision is None else block.precision
    if block.repeats is not None:
        weights = weights * block.repeats
    return Part(block.X, block.y, weights, block.trials, block.offset, block.repeats)


@dataclass(frozen=True)
class WorkingRows:
    """The weighted least squares at given coefficients, with the same parts as ``RowBlocks``."""

    blocks: RowBlocks
    named: Named
    b: np.ndarray

    @property
    def width(self) -> int:
        return self.blocks.width

    @property
    def design(self) -> Design:
        return self.blocks.design

    @property
    def response(self) -> ResponseScale:
        return self.blocks.response

    @property
    def asides(self) -> Asides:
        return self.blocks.asides

    @property
    def table(self) -> Records:
        return self.blocks.table

    @property
    def rows(self) -> Rows:
        return self.blocks.rows

    @property
    def states(self) -> Pieces[tuple[RowBlock, Part, State]]:
        """Each block's rows as they are and as the likelihood sees them, with their means and working weights."""
        working = Working(LikelyRows(self.blocks), family_of(self.named), link_of(self.named), self.b)

        def with_state(block: RowBlock) -> tuple[RowBlock, Part, State]:
            part = part_of(block)
            return block, part, state(working, part)

        return self.blocks.whole.map(with_state)

    @property
    def whole(self) -> Pieces[RowBlock]:
        """The blocks with the working response and, as precision, the working weights of a single row."""

        def block(made: tuple[RowBlock, Part, State]) -> RowBlock:
            given, part, own = made
            single = own.W if part.repeats is None else own.W / np.where(part.repeats > 0, part.repeats, 1.0)
            return RowBlock(part.X, own.z, single, part.repeats, None, first=given.first)

        return self.states.map(block)

    @property
    def pieces(self) -> Pieces[Block]:
        return self.whole.map(lambda block: (block.X, block.y, block.weights))
