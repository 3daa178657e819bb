"""The manner in which the texts of a fitted table were read, by which those of new rows are."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from joinery.data.marks import UNSETTLED, Marks


@dataclass(frozen=True)
class Manner:
    """The way in which texts of a fitted table were read, kept for those of new rows."""

    marks: Marks = UNSETTLED
    levels: frozenset[str] = frozenset()  # columns whose texts are levels, whatever they look like
    # the units that numbers were written with, by column
    units: Mapping[str, str] = field(default_factory=dict, hash=False)


AS_IT_COMES = Manner()
